//! How every question to the API begins and ends: its stretch, its parameters, and how what is wrong with them is told.

use super::shapes::ProblemShape;
use crate::error::unavailable;
use crate::problem::Problem;
use actix_web::HttpMessage;
use actix_web::http::StatusCode;
use actix_web::http::header::{CACHE_CONTROL, ETag, EntityTag, IfNoneMatch};
use actix_web::{HttpRequest, HttpResponse};
use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use cadentis_answers::AnswerError;
use cadentis_core::calendar::Stretch;
use cadentis_core::visitor::Filter;
use jiff::{SignedDuration, Timestamp};
use serde::Deserialize;
use serde::de::DeserializeOwned;
use sha2::{Digest, Sha256};

/// How whoever may not, or asks for what is not there for them, is told.
#[derive(utoipa::IntoResponses)]
#[expect(dead_code, reason = "described, and answered as problems")]
pub(super) enum Closed {
    /// No token, or none that is good.
    #[response(status = 401, content_type = "application/problem+json")]
    NoToken(ProblemShape),
    /// A token that was not made for this.
    #[response(status = 403, content_type = "application/problem+json")]
    NotAllowed(ProblemShape),
    /// The token asked 600 times within a minute; `RateLimit-Reset` says in how many seconds the next one begins.
    #[response(status = 429, content_type = "application/problem+json")]
    TooOften(ProblemShape),
    /// Nothing of this name for whoever asks.
    #[response(status = 404, content_type = "application/problem+json")]
    NotFound(ProblemShape),
}

/// A parameter that cannot be read: `errors` says which one, and what would be right.
#[derive(utoipa::IntoResponses)]
#[response(status = 400, content_type = "application/problem+json")]
#[expect(dead_code, reason = "described, and answered as a problem")]
pub(super) struct Unread(ProblemShape);

pub(super) type Answered = Result<HttpResponse, HttpResponse>;

/// What a handler answers, whether it went well or not.
pub(super) fn said(answered: Answered) -> HttpResponse {
    answered.unwrap_or_else(|problem| problem)
}

pub(super) fn stopped(e: impl Into<AnswerError>) -> HttpResponse {
    unavailable(&e.into())
}

pub(super) fn wrong(pointer: &str, says: impl Into<String>) -> Box<Problem> {
    let says = says.into();
    Box::new(Problem::new(StatusCode::BAD_REQUEST, says.clone()).and_at(pointer, says))
}

/// From when to when; the last day when it does not say.
#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(super) struct When {
    /// RFC 3339; a day before `to` when it does not say.
    #[param(value_type = Option<String>, format = DateTime)]
    pub(super) from: Option<String>,
    /// RFC 3339; now when it does not say.
    #[param(value_type = Option<String>, format = DateTime)]
    pub(super) to: Option<String>,
}

/// The longest stretch that is answered, in days.
pub(super) const LONGEST_DAYS: i64 = 400;

pub(super) fn moment(
    name: &str,
    given: &Option<String>,
) -> Result<Option<Timestamp>, Box<Problem>> {
    let Some(text) = given else { return Ok(None) };
    let read: Result<Timestamp, _> = text.parse();
    let years = |t: &Timestamp| (0..=4_102_444_800).contains(&t.as_second());
    match read.ok().filter(years) {
        Some(at) => Ok(Some(at)),
        None => Err(wrong(
            &format!("?{name}"),
            format!("`{name}` is a moment such as 2026-11-22T05:00:00Z, from 1970 to 2100."),
        )),
    }
}

impl When {
    pub(super) fn stretch(&self) -> Result<Stretch, Box<Problem>> {
        stretch(moment("from", &self.from)?, moment("to", &self.to)?)
    }
}

/// From when to when, by what an address says of it.
pub(super) fn stretch(
    from: Option<Timestamp>,
    to: Option<Timestamp>,
) -> Result<Stretch, Box<Problem>> {
    let to = to.unwrap_or_else(Timestamp::now);
    let day = SignedDuration::from_hours(24);
    let from = from.unwrap_or(to - day);
    if from >= to {
        return Err(wrong("?from", "`from` comes before `to`."));
    }
    if to.duration_since(from) > day * LONGEST_DAYS as i32 {
        return Err(wrong("?from", format!("A stretch has {LONGEST_DAYS} days at most.")));
    }
    Ok(Stretch { from, to })
}

/// The ids of what a list in the body names, by what is known.
pub(super) fn ids_of(
    at: &str,
    given: &[String],
    known: &[(&str, i32)],
) -> Result<Vec<i32>, Box<Problem>> {
    let id = |(nth, slug): (usize, &String)| {
        let found = known.iter().find(|(s, _)| s == slug).map(|(_, id)| *id);
        let says = "There is nothing of this name here.";
        found.ok_or_else(|| Box::new(Problem::invalid(&format!("/{at}/{nth}"), says)))
    };
    given.iter().enumerate().map(id).collect()
}

/// Parameters that are none, or have another form.
pub(super) fn query<T: DeserializeOwned>(request: &HttpRequest) -> Result<T, Box<Problem>> {
    read(request.query_string())
}

pub(super) fn read<T: DeserializeOwned>(text: &str) -> Result<T, Box<Problem>> {
    let pairs = url::form_urlencoded::parse(text.as_bytes());
    let read = serde_urlencoded::Deserializer::new(pairs);
    serde_path_to_error::deserialize(read).map_err(|e| {
        let (path, says) = (e.path().to_string(), e.inner().to_string());
        // One that is missing has no place; it is named where that is said.
        let name = match path.as_str() {
            "." => says.split('`').nth(1).unwrap_or_default(),
            path => path,
        };
        wrong(&format!("?{name}"), format!("{says}."))
    })
}

/// What narrows page views, which may be said often, and the parameters beside it.
pub(super) fn narrowed<T: DeserializeOwned>(query: &str) -> Result<(Filter, T), Box<Problem>> {
    let pairs = url::form_urlencoded::parse(query.as_bytes());
    let (only, rest): (Vec<_>, Vec<_>) = pairs.partition(|(name, _)| name == "only");
    let (filter, wrong_ones) = Filter::parse(only.iter().map(|(_, value)| &**value));
    if let Some(text) = wrong_ones.first() {
        let text: String = text.chars().take(80).collect();
        let says = format!("`{text}` is no attribute and value such as device:phone.");
        return Err(wrong("?only", says));
    }
    let rest = url::form_urlencoded::Serializer::new(String::new()).extend_pairs(rest).finish();
    Ok((filter, read(&rest)?))
}

/// A text as JSON with its tag, or that whoever asks has it already: runs do not change once they are recorded.
pub(super) fn unless_known(request: &HttpRequest, body: String) -> HttpResponse {
    let hash = Sha256::digest(body.as_bytes());
    let tag = EntityTag::new_strong(URL_SAFE_NO_PAD.encode(&hash[..18]));
    let known = match request.get_header::<IfNoneMatch>() {
        Some(IfNoneMatch::Any) => true,
        Some(IfNoneMatch::Items(tags)) => tags.iter().any(|t| t.weak_eq(&tag)),
        None => false,
    };
    // Kept by whoever asked alone, and asked for again before it is shown.
    let cached = (CACHE_CONTROL, "private, no-cache");
    match known {
        true => HttpResponse::NotModified().insert_header(ETag(tag)).insert_header(cached).finish(),
        false => HttpResponse::Ok()
            .content_type("application/json")
            .insert_header(ETag(tag))
            .insert_header(cached)
            .body(body),
    }
}

/// How something of ours that cannot be written is told.
pub(super) fn unreadable(e: &serde_json::Error) -> HttpResponse {
    tracing::error!("not answered: {e}");
    Problem::new(StatusCode::INTERNAL_SERVER_ERROR, "This is a mistake of ours.").into()
}
