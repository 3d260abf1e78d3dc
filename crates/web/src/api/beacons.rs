//! `POST /beacons/{site key}`: beacons from the snippet.

use crate::State;
use crate::problem::{self, Problem};
use actix_web::http::{StatusCode, header};
use actix_web::{HttpRequest, HttpResponse, HttpResponseBuilder, web};
use cadentis_core::visitor::beacon::MAX_BYTES;
use cadentis_intake::{Refusal, Sender};
use futures::StreamExt;
use jiff::Timestamp;
use std::time::Duration;
use tokio::time::timeout;

crate::routes::routes! {
    Public post "/beacons/{key}" => take,
}

/// The body is JSON sent as `text/plain`, which a browser sends to another origin without asking
/// first. 204 means committed.
pub async fn take(
    state: web::Data<State>,
    key: web::Path<String>,
    request: HttpRequest,
    mut payload: web::Payload,
) -> HttpResponse {
    if !state.door.knows(&request) {
        return HttpResponse::build(StatusCode::MISDIRECTED_REQUEST).finish();
    }
    let head = |name: &str| request.headers().get(name).and_then(|v| v.to_str().ok());
    let believed = request.peer_addr().is_some_and(|peer| state.door.trusts(peer.ip()));
    let trusted = |name: &str| if believed { head(name) } else { None };
    let sender = Sender {
        origin: head("origin"),
        user_agent: head("user-agent").unwrap_or(""),
        ip: state.door.visitor_of(&request),
        country: trusted("x-visitor-country").unwrap_or(""),
        region: trusted("x-visitor-region").unwrap_or(""),
        city: trusted("x-visitor-city").unwrap_or(""),
    };
    let body = match timeout(WITHIN, read(&mut payload)).await {
        Ok(Some(body)) => Ok(body),
        Ok(None) => Err(Refusal::CutOff),
        Err(_) => Err(Refusal::TooSlow(WITHIN.as_secs())),
    };
    let now = Timestamp::now();
    let answer = match body {
        Ok(body) => state.intake.receive(&key, &sender, &body, now).await,
        Err(refusal) => Err(state.intake.unread(&key, refusal, now).await),
    };
    match answer {
        Ok(_) => allow(HttpResponse::NoContent(), &sender).finish(),
        Err(refusal) => {
            let problem = Problem::new(status(&refusal), refusal.to_string())
                .with("reason", refusal.reason());
            allow(refused(problem.status()), &sender)
                .content_type(problem::MEDIA_TYPE)
                .body(problem.body())
        }
    }
}

/// A body comes within this time: whoever sends it byte by byte does not keep a connection busy.
const WITHIN: Duration = Duration::from_secs(5);

/// The body as it came: nothing is unpacked here, whatever its headers say. `None` when it breaks off.
async fn read(payload: &mut web::Payload) -> Option<Vec<u8>> {
    let mut body = Vec::new();
    while let Some(chunk) = payload.next().await {
        body.extend_from_slice(&chunk.ok()?);
        if body.len() > MAX_BYTES {
            // Enough to know; the rest is not read.
            break;
        }
    }
    Some(body)
}

fn status(refusal: &Refusal) -> StatusCode {
    match refusal {
        Refusal::UnknownSite(_) => StatusCode::NOT_FOUND,
        Refusal::ForeignOrigin { .. } => StatusCode::FORBIDDEN,
        Refusal::TooLarge(_) => StatusCode::PAYLOAD_TOO_LARGE,
        Refusal::Malformed(_) | Refusal::CutOff | Refusal::Unstorable => StatusCode::BAD_REQUEST,
        Refusal::TooSlow(_) => StatusCode::REQUEST_TIMEOUT,
        Refusal::Flood => StatusCode::TOO_MANY_REQUESTS,
        Refusal::Busy => StatusCode::SERVICE_UNAVAILABLE,
    }
}

fn refused(status: StatusCode) -> HttpResponseBuilder {
    let mut answer = HttpResponse::build(status);
    if status == StatusCode::REQUEST_TIMEOUT {
        // The rest of the body may still come.
        answer.force_close();
    }
    if status == StatusCode::SERVICE_UNAVAILABLE {
        answer.insert_header((header::RETRY_AFTER, "5"));
    }
    if status == StatusCode::TOO_MANY_REQUESTS {
        answer.insert_header((header::RETRY_AFTER, "60"));
    }
    answer
}

/// Lets the page read the answer, so that a developer sees in the console why it was refused.
fn allow(mut answer: HttpResponseBuilder, sender: &Sender<'_>) -> HttpResponseBuilder {
    if let Some(origin) = sender.origin {
        answer.insert_header((header::ACCESS_CONTROL_ALLOW_ORIGIN, origin));
    }
    answer
}
