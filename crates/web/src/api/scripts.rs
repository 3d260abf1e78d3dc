//! What the script page asks while somebody writes: reading, what could come next, playing now.

use crate::State;
use crate::access::{After, By, InSite};
use crate::error::unavailable;
use crate::format;
use crate::frame::base;
use crate::problem::Problem;
use actix_web::{HttpResponse, web};
use cadentis_answers::AnswerError;
use cadentis_answers::changes::journeys::parts_of;
use cadentis_answers::changes::trials::{self as changes, NewTrial as Wish};
use cadentis_answers::run::{self, Which, repaired};
use cadentis_answers::trials;
use cadentis_core::journey::{self, LineRead, ScriptError};
use jiff::Timestamp;
use serde::Deserialize;
use serde_json::{Value, json};
use uuid::Uuid;

fn complaint(e: &ScriptError) -> Value {
    let hint = e.hint.as_ref().map(|h| format!("; {h}")).unwrap_or_default();
    json!({
        "line": e.line, "column": e.column,
        "says": format!("Found {}; expected {}{hint}.", e.found, e.expected),
        "whole": e.to_string(),
    })
}

#[derive(Deserialize)]
pub struct Written {
    script: String,
}

/// `POST /{site}/api/script/read`: what is wrong with a script, how its words are coloured, its steps as cards,
/// and the script as it is usually written.
pub async fn read(InSite(site): InSite, written: web::Json<Written>) -> HttpResponse {
    let shared = parts_of(&site);
    let problems: Vec<Value> =
        journey::problems(&written.script, &shared).iter().map(complaint).collect();
    let lines: Vec<Value> = coloured(&written.script);
    let parsed = journey::parse(&written.script).ok();
    let steps: Vec<Value> = parsed
        .iter()
        .flat_map(|j| &j.steps)
        .map(|s| {
            json!({
                "name": s.name, "line": s.line.0, "clean_up": s.clean_up,
                "within": s.within_ms.map(|ms| format!("{} s", format::seconds(ms as f64))),
                "sentences": s.sentences.iter().map(|s| json!({ "line": s.line.0, "says": s.says.to_string() })).collect::<Vec<_>>(),
            })
        })
        .collect();
    let secrets = parsed.as_ref().map(|j| j.secrets()).unwrap_or_default();
    HttpResponse::Ok().json(json!({
        "problems": problems, "lines": lines, "steps": steps, "secrets": secrets,
        "name": parsed.as_ref().map(|j| &j.name), "browser": parsed.as_ref().is_none_or(|j| j.needs_browser()),
        "formatted": parsed.as_ref().filter(|_| problems.is_empty()).map(ToString::to_string),
    }))
}

/// Spans of each line: column from 0, length, kind.
fn coloured(script: &str) -> Vec<Value> {
    let spans = |line: &LineRead| {
        line.spans.iter().map(|s| json!([s.column - 1, s.length, s.kind.word()])).collect()
    };
    journey::read_lines(script).iter().map(spans).collect()
}

#[derive(Deserialize)]
pub struct Typing {
    before: String,
    line: String,
}

/// `POST /{site}/api/script/next`: words that could come next on a line; the newest word may be begun.
pub async fn next(typing: web::Json<Typing>) -> HttpResponse {
    HttpResponse::Ok()
        .json(json!({ "next": journey::read_line(&typing.before, &typing.line).next }))
}

#[derive(Deserialize)]
pub struct NewTrial {
    script: String,
    location: String,
    #[serde(default)]
    device: String,
}

/// `POST /{site}/api/trials`: plays a script once from a location, saved or not.
pub async fn ask(
    state: web::Data<State>,
    By(by): By,
    InSite(site): InSite,
    new: web::Json<NewTrial>,
) -> HttpResponse {
    let asked = async {
        let none = || Ok(Problem::not_found("There is no such location.").into());
        if let Some(e) = journey::problems(&new.script, &parts_of(&site)).first() {
            let says = format!("The script cannot be played yet: {e}.");
            return Ok(Problem::script("/script", says, std::slice::from_ref(e)).into());
        }
        let wish = Wish { script: &new.script, location: &new.location, device: &new.device };
        match changes::play(&state.answers, &by, &site, &wish).await? {
            Some(id) => Ok(HttpResponse::Ok().json(json!({ "id": id }))),
            None => none(),
        }
    };
    asked.await.unwrap_or_else(|e: AnswerError| unavailable(&e))
}

/// `GET /{site}/api/trials/{id}`: how a trial stands; its record once it is played, without the evidence that has
/// a page of its own.
pub async fn trial(
    state: web::Data<State>,
    InSite(site): InSite,
    After(id): After<Uuid>,
) -> HttpResponse {
    let now = Timestamp::now();
    let told = match trials::ask(&state.answers, site.id, id, now).await {
        Ok(Some(told)) => told,
        Ok(None) => return Problem::not_found("There is no such trial any more.").into(),
        Err(e) => return unavailable(&e),
    };
    let (trial, runner_seen) = (told.status, told.runner_seen);
    let waits_s = now.duration_since(trial.asked_at).as_secs();
    let steps = trial.record.as_ref().map(|r| {
        let steps = r.steps.iter().enumerate().map(|(nth, s)| {
            json!({
                "name": s.name, "outcome": s.outcome.word(), "duration_ms": s.duration_ms, "clean_up": s.clean_up,
                "trouble": s.trouble, "requests": s.requests.len(), "fell_back": s.fell_back,
                "film": s.film.iter().enumerate().map(|(i, f)| json!({ "at_ms": f.at_ms, "picture": format!("{}/api/trials/{id}/film/{nth}/{i}", base(&site)) })).collect::<Vec<_>>(),
            })
        });
        steps.collect::<Vec<_>>()
    });
    let repaired = trial.record.as_ref().and_then(|r| repaired(&trial.script, r));
    HttpResponse::Ok().json(json!({
        "waiting": trial.runner.is_none(), "waits_s": waits_s, "runner": trial.runner, "runner_seen": runner_seen,
        "cancelled": trial.cancelled, "progress": trial.progress, "steps": steps, "repaired": repaired,
        "outcome": trial.record.as_ref().map(|r| r.outcome.word()),
        "trouble": trial.record.as_ref().and_then(|r| r.trouble.as_ref()),
        "duration_ms": trial.record.as_ref().map(|r| r.duration_ms),
        "browser": trial.record.as_ref().map(|r| &r.browser),
    }))
}

/// `GET /{site}/api/trials/{id}/film/{step}/{frame}`: one picture; `end` is the one at the step's end.
pub async fn film(
    state: web::Data<State>,
    InSite(site): InSite,
    path: web::Path<(String, Uuid, usize, String)>,
) -> HttpResponse {
    let (_, id, step, frame) = path.into_inner();
    let record = run::record(&state.answers, site.id, Which::Trial, id);
    let record = match record.await {
        Ok(record) => record,
        Err(e) => return unavailable(&e),
    };
    let step = record.as_ref().and_then(|r| r.steps.get(step));
    let picture = match frame.parse::<usize>() {
        Ok(nth) => step.and_then(|s| s.film.get(nth)).map(|f| &f.picture),
        Err(_) => step.filter(|_| frame == "end").and_then(|s| s.picture.as_ref()),
    };
    let bytes = picture.and_then(|p| {
        use base64::Engine;
        base64::engine::general_purpose::STANDARD.decode(p.split_once(',')?.1).ok()
    });
    match bytes {
        Some(bytes) => HttpResponse::Ok()
            .insert_header(("cache-control", "private, max-age=86400, immutable"))
            .content_type("image/jpeg")
            .body(bytes),
        None => Problem::not_found("There is no such picture.").into(),
    }
}

/// `DELETE /{site}/api/trials/{id}`: the runner breaks it off as soon as it hears.
pub async fn cancel(
    state: web::Data<State>,
    By(by): By,
    InSite(site): InSite,
    After(id): After<Uuid>,
) -> HttpResponse {
    match changes::stop(&state.answers, &by, &site, id).await {
        Ok(()) => HttpResponse::NoContent().finish(),
        Err(e) => unavailable(&e),
    }
}
