//! Errors as programs read them: `application/problem+json` (RFC 9457).
//!
//! A problem has a `type` that stays the same for one kind, its `title`, the `status`, a `detail` for people, and in
//! `errors` what is wrong where: a `detail` each with a `pointer` (RFC 6901) into the body that was sent.

use actix_web::HttpResponse;
use actix_web::body::{BoxBody, EitherBody, MessageBody};
use actix_web::dev::{ServiceRequest, ServiceResponse};
use actix_web::http::StatusCode;
use actix_web::http::header::{ACCEPT, ALLOW, CONTENT_TYPE, HeaderName, RETRY_AFTER};
use actix_web::middleware::Next;
use askama::Template;
use cadentis_core::journey::ScriptError;
use serde::Serialize;
use serde_json::{Map, Value, json};

/// The media type of every error that a program gets.
pub const MEDIA_TYPE: &str = "application/problem+json";

/// What was asked for and could not be done.
#[derive(Debug, Clone, Serialize)]
pub struct Problem {
    #[serde(rename = "type")]
    kind: String,
    title: &'static str,
    status: u16,
    detail: String,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    errors: Vec<Fault>,
    /// What a program needs beside, such as the newest version.
    #[serde(flatten)]
    more: Map<String, Value>,
}

/// One thing that is wrong, and where.
#[derive(Debug, Clone, Serialize)]
struct Fault {
    detail: String,
    /// Into the body, such as `/script`; empty for the whole of it.
    pointer: String,
    #[serde(flatten)]
    more: Map<String, Value>,
}

/// The name of a kind of problem, as its type says it, and what it is in short.
fn kind(status: StatusCode) -> (&'static str, &'static str) {
    match status.as_u16() {
        400 => ("unreadable", "The request cannot be read"),
        401 => ("token-needed", "A valid token is needed"),
        403 => ("not-allowed", "Not allowed"),
        404 => ("not-found", "There is no such thing"),
        405 => ("wrong-method", "The address is not asked in this way"),
        408 => ("too-slow", "The request came too slowly"),
        409 => ("changed-meanwhile", "It was changed meanwhile"),
        410 => ("gone", "It is not there any more"),
        413 => ("too-large", "The request is too large"),
        415 => ("wrong-form", "The request has a form that is not taken"),
        421 => ("other-name", "This server has another name"),
        422 => ("invalid", "Something in the request is wrong"),
        426 => ("other-protocol", "Another protocol is spoken here"),
        429 => ("too-many", "Too many requests"),
        503 => ("unavailable", "Not possible just now"),
        _ if status.is_client_error() => ("refused", "The request is refused"),
        _ => ("broken", "A mistake of ours"),
    }
}

impl Problem {
    /// `detail` is a sentence for people.
    pub fn new(status: StatusCode, detail: impl Into<String>) -> Problem {
        let (name, title) = kind(status);
        let kind = format!("/problems/{name}");
        Problem {
            kind,
            title,
            status: status.as_u16(),
            detail: detail.into(),
            errors: Vec::new(),
            more: Map::new(),
        }
    }

    pub fn not_found(detail: impl Into<String>) -> Problem {
        Problem::new(StatusCode::NOT_FOUND, detail)
    }

    /// One field of the body is wrong.
    pub fn invalid(pointer: &str, detail: impl Into<String>) -> Problem {
        let problem = Problem::new(StatusCode::UNPROCESSABLE_ENTITY, detail);
        let detail = problem.detail.clone();
        problem.and_at(pointer, detail)
    }

    /// What is wrong with a script that was sent as the field at `pointer`.
    pub fn script(pointer: &str, detail: impl Into<String>, errors: &[ScriptError]) -> Problem {
        let mut problem = Problem::new(StatusCode::UNPROCESSABLE_ENTITY, detail);
        for e in errors {
            let place = Map::from_iter([
                ("line".into(), json!(e.line)),
                ("column".into(), json!(e.column)),
            ]);
            problem.errors.push(Fault {
                detail: e.to_string(),
                pointer: pointer.into(),
                more: place,
            });
        }
        problem
    }

    /// Another thing that is wrong.
    pub fn and_at(mut self, pointer: &str, detail: impl Into<String>) -> Problem {
        self.errors.push(Fault {
            detail: detail.into(),
            pointer: pointer.into(),
            more: Map::new(),
        });
        self
    }

    /// One more member.
    pub fn with(mut self, name: &str, value: impl Into<Value>) -> Problem {
        self.more.insert(name.into(), value.into());
        self
    }

    pub fn status(&self) -> StatusCode {
        StatusCode::from_u16(self.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR)
    }

    /// As the body of an answer. It says back what somebody wrote: whatever reads it as something else than JSON finds no
    /// markup in it. Outside of strings JSON has no such sign.
    pub fn body(&self) -> String {
        serde_json::to_string(self).unwrap_or_default().replace('<', "\\u003c")
    }
}

impl From<Problem> for HttpResponse {
    fn from(problem: Problem) -> HttpResponse {
        HttpResponse::build(problem.status()).content_type(MEDIA_TYPE).body(problem.body())
    }
}

/// Whether only programs, and scripts of our pages, ask at this address: below `/api` and `/{site}/api`.
fn is_of_programs(path: &str) -> bool {
    path.starts_with("/api/") || path.split('/').nth(2) == Some("api")
}

/// Whether a program asks, which reads no pages: by its address, or where it says that it takes JSON.
pub fn program_asks(request: &ServiceRequest) -> bool {
    let takes = request.headers().get(ACCEPT).and_then(|v| v.to_str().ok()).unwrap_or("");
    is_of_programs(request.path()) || (takes.contains("json") && !takes.contains("html"))
}

/// Turns a request away before anything has looked into it.
pub fn refusal(request: &ServiceRequest, status: StatusCode, detail: &str) -> HttpResponse {
    match program_asks(request) {
        true => Problem::new(status, detail).into(),
        false => HttpResponse::build(status).body(detail.to_string()),
    }
}

/// A part of a page that could not be made: what is said of it stands in its place, without a page around it.
#[derive(Template)]
#[template(source = r#"<p class="field-wrong" role="alert">{{ says }}</p>"#, ext = "html")]
struct PartError {
    says: String,
}

/// Every error that a program gets is a problem, also where a page would have been written or nothing was said; one of a part of
/// a page is a part.
pub async fn to_programs<B: MessageBody + 'static>(
    request: ServiceRequest,
    next: Next<B>,
) -> Result<ServiceResponse<EitherBody<B, BoxBody>>, actix_web::Error> {
    let asks = program_asks(&request);
    let is_part = request.headers().contains_key("hx-request");
    let answer = next.call(request).await?;
    let is_told = answer.headers().get(CONTENT_TYPE).is_some_and(|v| v == MEDIA_TYPE);
    let status = answer.status();
    if let Some(e) = answer.response().error().filter(|_| is_part && !asks) {
        let part = PartError { says: e.to_string() };
        let mut told = HttpResponse::build(status);
        told.content_type("text/html; charset=utf-8");
        let mut told = told.body(part.render().unwrap_or_default());
        // Where it leads to instead, and when to ask again.
        for name in [HeaderName::from_static("hx-redirect"), RETRY_AFTER] {
            if let Some(value) = answer.headers().get(&name) {
                told.headers_mut().insert(name, value.clone());
            }
        }
        return Ok(answer.into_response(told).map_into_right_body());
    }
    if !asks || is_told || !(status.is_client_error() || status.is_server_error()) {
        return Ok(answer.map_into_left_body());
    }
    let detail = match answer.response().error() {
        Some(e) => e.to_string(),
        None => format!("{}.", kind(status).1),
    };
    let mut problem = HttpResponse::from(Problem::new(status, detail));
    for name in [ALLOW, RETRY_AFTER] {
        if let Some(value) = answer.headers().get(&name) {
            problem.headers_mut().insert(name, value.clone());
        }
    }
    Ok(answer.into_response(problem).map_into_right_body())
}

impl From<Box<Problem>> for HttpResponse {
    fn from(problem: Box<Problem>) -> HttpResponse {
        (*problem).into()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use cadentis_core::journey;

    #[test]
    fn a_problem_says_its_kind_what_is_wrong_and_where() {
        let body: Value =
            serde_json::from_str(&Problem::invalid("/address", "It is no address.").body())
                .unwrap();
        let want = json!({
            "type": "/problems/invalid", "title": "Something in the request is wrong", "status": 422,
            "detail": "It is no address.", "errors": [{ "detail": "It is no address.", "pointer": "/address" }],
        });
        assert_eq!(body, want);
    }

    #[test]
    fn every_complaint_about_a_script_has_its_line_and_column() {
        let errors = journey::problems("script \"x\"\nstep \"y\"\n  opne /\n  press\n", &[]);
        let body: Value =
            serde_json::from_str(&Problem::script("/script", "No.", &errors).body()).unwrap();
        assert!(
            errors.len() == 2 && body["errors"].as_array().is_some_and(|e| e.len() == 2),
            "{body}"
        );
        assert_eq!(
            (&body["errors"][0]["line"], &body["errors"][0]["pointer"]),
            (&json!(3), &json!("/script"))
        );
        assert_eq!(body["errors"][1]["line"], 4);
    }

    #[test]
    fn no_two_kinds_of_problem_share_a_name() {
        let codes = (400..=499).chain([500, 503]).filter_map(|c| StatusCode::from_u16(c).ok());
        let mut names: Vec<_> = codes.map(kind).filter(|(name, _)| *name != "refused").collect();
        let all = names.len();
        names.dedup();
        assert_eq!(names.len(), all);
    }
}
