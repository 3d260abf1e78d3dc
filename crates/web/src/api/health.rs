//! `GET /healthz`: whether this server can work, and how fresh its data are.

use crate::State;
use actix_web::{HttpResponse, web};
use jiff::Timestamp;
use serde_json::{Map, Value, json};
use std::sync::atomic::Ordering;

/// 200 with `"status": "ok"`; 503 with `"starting"` until the tables are prepared, or `"unavailable"`
/// when the database is away.
///
/// `last_run_age_s` has a key per location: seconds since its newest run was due, `null` if it has
/// not played for two days.
pub async fn healthz(state: web::Data<State>) -> HttpResponse {
    let now = Timestamp::now();
    let (waiting, capacity) = state.intake.queue();
    let mut body = json!({
        "version": env!("CARGO_PKG_VERSION"),
        "intake": { "waiting": waiting, "capacity": capacity },
    });
    match state.db.last_runs(now).await {
        Ok(locations) => {
            let ages: Map<String, Value> = locations
                .into_iter()
                .map(|(name, at)| (name, at.map_or(Value::Null, |at| json!(now.as_second() - at.as_second()))))
                .collect();
            body["database"] = json!("ok");
            body["last_run_age_s"] = Value::Object(ages);
            if state.ready.load(Ordering::Relaxed) {
                body["status"] = json!("ok");
                HttpResponse::Ok().json(body)
            } else {
                body["status"] = json!("starting");
                HttpResponse::ServiceUnavailable().json(body)
            }
        }
        Err(e) => {
            body["status"] = json!("unavailable");
            body["database"] = json!(e.to_string());
            HttpResponse::ServiceUnavailable().json(body)
        }
    }
}
