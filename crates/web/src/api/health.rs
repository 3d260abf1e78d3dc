//! `GET /healthz`: whether this server can work, and how fresh its data are.

use crate::State;
use actix_web::{HttpResponse, web};
use cadentis_answers::setup;
use cadentis_workers::Report;
use jiff::Timestamp;
use serde_json::{Map, Value, json};
use std::sync::atomic::Ordering;

/// 200 with `"status": "ok"`; 503 with `"starting"` until the tables are prepared, `"unavailable"` when the database does not
/// answer, or `"failing"` when a worker has done nothing to the end for longer than it may.
///
/// `last_run_age_s` has a key per location: seconds since its newest run was due, `null` if it has not played for two days.
/// What the database complains of is in the log: strangers may ask here.
pub async fn healthz(state: web::Data<State>) -> HttpResponse {
    let now = Timestamp::now();
    let (waiting, capacity) = state.intake.queue();
    let workers = state.workers.report();
    let mut body = json!({
        "version": env!("CARGO_PKG_VERSION"),
        "intake": { "waiting": waiting, "capacity": capacity },
        "workers": workers.iter().map(worker).collect::<Vec<_>>(),
    });
    let status = match setup::last_runs(&state.answers, now).await {
        Ok(locations) => {
            let ages: Map<String, Value> = locations
                .into_iter()
                .map(|(name, at)| {
                    (name, at.map_or(Value::Null, |at| json!(now.as_second() - at.as_second())))
                })
                .collect();
            body["database"] = json!("ok");
            body["last_run_age_s"] = Value::Object(ages);
            match (state.ready.load(Ordering::Relaxed), workers.iter().all(|w| w.is_well)) {
                (false, _) => "starting",
                (true, false) => "failing",
                (true, true) => "ok",
            }
        }
        Err(e) => {
            tracing::warn!("not well: {e}");
            body["database"] = json!("does not answer");
            "unavailable"
        }
    };
    body["status"] = json!(status);
    if status == "ok" {
        HttpResponse::Ok().json(body)
    } else {
        HttpResponse::ServiceUnavailable().json(body)
    }
}

fn worker(w: &Report) -> Value {
    json!({
        "name": w.name, "last_success_age_s": w.last_success.map(|age| age.as_secs()), "restarts": w.restarts,
        "well": w.is_well,
    })
}
