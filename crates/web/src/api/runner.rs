//! What runners ask for and bring back. A runner shows the token of its location.

use crate::State;
use actix_web::{HttpRequest, HttpResponse, web};
use cadentis_core::run::RunRecord;
use cadentis_store::runs::Finished;
use cadentis_store::{StoreError, work::Work};
use jiff::{SignedDuration, Timestamp};
use serde::Deserialize;
use serde_json::json;

/// How long a runner may take for one run before another gets it.
const LEASE: SignedDuration = SignedDuration::from_secs(120);

#[derive(Deserialize)]
pub struct Asking {
    runner: String,
}

/// `POST /api/runner/lease`: 200 with work, 204 when none is due, 401 for a token nobody has.
pub async fn lease(state: web::Data<State>, request: HttpRequest, asking: web::Json<Asking>) -> HttpResponse {
    let location = match location(&state, &request).await {
        Ok(location) => location,
        Err(answer) => return answer,
    };
    let now = Timestamp::now();
    let runner: String = asking.runner.chars().take(100).collect();
    match state.db.lease(location, &runner, now, now + LEASE).await {
        Ok(Some(Work { id, journey, script, location, due_at })) => HttpResponse::Ok().json(json!({
            "id": id, "journey": journey, "script": script, "location": location, "due_at": due_at,
        })),
        Ok(None) => HttpResponse::NoContent().finish(),
        Err(e) => away(&e),
    }
}

/// `POST /api/runner/record`: 204 when the record is stored or was before, 404 when no such work was
/// given to this location, 400 naming a field that no run can have.
pub async fn record(state: web::Data<State>, request: HttpRequest, body: web::Bytes) -> HttpResponse {
    let location = match location(&state, &request).await {
        Ok(location) => location,
        Err(answer) => return answer,
    };
    let mut record: RunRecord = match serde_json::from_slice(&body) {
        Ok(record) => record,
        Err(e) => return HttpResponse::BadRequest().json(json!({ "says": e.to_string() })),
    };
    if let Err(says) = record.check() {
        return HttpResponse::BadRequest().json(json!({ "says": says }));
    }
    match state.db.finish(location, record).await {
        Ok(Finished::Stored | Finished::Already) => HttpResponse::NoContent().finish(),
        Ok(Finished::Unknown) => HttpResponse::NotFound().json(json!({ "says": "no such work at this location" })),
        Err(e) => away(&e),
    }
}

async fn location(state: &State, request: &HttpRequest) -> Result<i32, HttpResponse> {
    let token = request
        .headers()
        .get("authorization")
        .and_then(|v| v.to_str().ok())
        .and_then(|v| v.strip_prefix("Bearer "))
        .unwrap_or("");
    match state.db.location_by_token(token).await {
        Ok(Some(location)) => Ok(location),
        Ok(None) => Err(HttpResponse::Unauthorized().json(json!({ "says": "no location has this token" }))),
        Err(e) => Err(away(&e)),
    }
}

fn away(e: &StoreError) -> HttpResponse {
    tracing::warn!("runner turned away: {e}");
    HttpResponse::ServiceUnavailable().insert_header(("retry-after", "5")).json(json!({ "says": "database away" }))
}
