//! What runners ask for and bring back. A runner shows the token of its location.

use crate::State;
use crate::error::unavailable;
use crate::problem::{self, Problem};
use actix_web::http::StatusCode;
use actix_web::{HttpRequest, HttpResponse, web};
use cadentis_core::journey::{self, recorded::Act};
use cadentis_core::run::RunRecord;
use cadentis_core::text::{JsonLimits, clean_json};
use cadentis_store::Result;
use cadentis_store::runs::Finished;
use cadentis_store::work::Runner;
use jiff::{SignedDuration, Timestamp};
use serde::Deserialize;
use serde_json::{Value, json};
use std::collections::HashMap;
use uuid::Uuid;

/// How long a runner may take for one run before another gets it.
const LEASE: SignedDuration = SignedDuration::from_secs(120);
/// Protocols that runners may speak. A runner that speaks another is told so and gets no work: it could
/// not play what it does not understand.
const PROTOCOLS: std::ops::RangeInclusive<i32> = 4..=4;

crate::routes::routes! {
    post "/lease" => lease,
    post "/progress" => progress,
    post "/record" => record,
    post "/recording" => recording,
}

#[derive(Deserialize)]
pub struct Asking {
    runner: String,
    #[serde(default)]
    program: String,
    #[serde(default = "first_protocol")]
    protocol: i32,
    /// Whether it has room for somebody at work on a page.
    #[serde(default)]
    can_record: bool,
}

fn first_protocol() -> i32 {
    1
}

/// `POST /api/runner/lease`: 200 with work, 204 when none is due, 401 for a token nobody has, 426 for a
/// runner that speaks another protocol.
pub async fn lease(
    state: web::Data<State>,
    request: HttpRequest,
    asking: web::Json<Asking>,
) -> HttpResponse {
    let location = match location(&state, &request).await {
        Ok(location) => location,
        Err(answer) => return answer,
    };
    let cut = |text: &str| -> String { text.chars().take(100).collect() };
    let now = Timestamp::now();
    let mut runner = Runner {
        name: cut(&asking.runner),
        program: cut(&asking.program),
        protocol: asking.protocol,
        seen_at: now,
        busy_since: None,
    };
    let work = async {
        if !PROTOCOLS.contains(&asking.protocol) {
            state.db.runner_seen(location, &runner, now).await?;
            return Ok(None);
        }
        if asking.can_record
            && let Some((id, address, proxy, denied)) =
                state.db.lease_recording(location, &runner.name, now).await?
        {
            state.db.runner_seen(location, &runner, now).await?;
            return Ok(Some(json!({
                "id": id, "journey": "Recording", "record": address, "proxy": proxy, "denied": denied, "now": now,
            })));
        }
        let work = work(&state, location, &runner.name, now).await?;
        runner.busy_since = work.is_some().then_some(now);
        state.db.runner_seen(location, &runner, now).await?;
        Ok(work)
    };
    match work.await {
        Ok(Some(work)) => HttpResponse::Ok().json(work),
        Ok(None) if PROTOCOLS.contains(&asking.protocol) => HttpResponse::NoContent().finish(),
        Ok(None) => {
            let says = format!(
                "This runner speaks protocol {} of Cadentis {}; this server speaks {} to {}. Install version {} of the runner.",
                asking.protocol,
                cut(&asking.program),
                PROTOCOLS.start(),
                PROTOCOLS.end(),
                env!("CARGO_PKG_VERSION")
            );
            let problem = Problem::new(StatusCode::UPGRADE_REQUIRED, says);
            HttpResponse::build(StatusCode::UPGRADE_REQUIRED)
                .insert_header(("upgrade", format!("cadentis-runner/{}", PROTOCOLS.end())))
                .content_type(problem::MEDIA_TYPE)
                .body(problem.with("protocols", vec![*PROTOCOLS.start(), *PROTOCOLS.end()]).body())
        }
        Err(e) => unavailable(&e),
    }
}

/// The next thing to play: what somebody waits for comes before what is due.
async fn work(state: &State, location: i32, runner: &str, now: Timestamp) -> Result<Option<Value>> {
    let until = now + LEASE;
    let (site_id, mut work) = if let Some(trial) =
        state.db.lease_trial(location, runner, now, until).await?
    {
        let name = journey::parse(&trial.script).map_or_else(|_| "a script".into(), |j| j.name);
        let work = json!({ "id": trial.id, "journey": name, "script": trial.script, "location": trial.location, "trial": true,
            "device": trial.device, "proxy": trial.proxy, "denied": trial.denied });
        (trial.site_id, work)
    } else if let Some(work) = state.db.lease(location, runner, now, until).await? {
        let accepted = state.db.accepted(work.journey_id).await?;
        let accepted: HashMap<String, String> =
            accepted.into_iter().map(|a| (a.key, a.seen)).collect();
        let of = json!({
            "id": work.id, "journey": work.journey, "script": work.script, "location": work.location, "due_at": work.due_at,
            "device": work.device, "proxy": work.proxy, "denied": work.denied, "accepted": accepted,
        });
        (work.site_id, of)
    } else {
        return Ok(None);
    };
    let site = state.db.sites().await?.into_iter().find(|s| s.id == site_id);
    let parts = site.map(|s| s.parts).unwrap_or_default();
    let script = work["script"].as_str().unwrap_or("");
    let secrets = secrets(state, site_id, script, &parts).await?;
    work["secrets"] = json!(secrets);
    work["parts"] = json!(parts);
    work["now"] = json!(Timestamp::now());
    Ok(Some(work))
}

/// What the script types or sends unseen. A secret that cannot be opened is left out: the runner says
/// that it is missing, and the run is unmeasured.
async fn secrets(
    state: &State,
    site_id: i32,
    script: &str,
    parts: &str,
) -> Result<HashMap<String, String>> {
    let shared = journey::parts(parts).unwrap_or_default();
    let names = journey::parse(script)
        .and_then(|j| j.with_parts(&shared))
        .map(|j| j.secrets())
        .unwrap_or_default();
    let Some(vault) = state.vault.as_ref().filter(|_| !names.is_empty()) else {
        return Ok(HashMap::new());
    };
    let opened = state.db.open_secrets(vault, site_id, &names).await?;
    Ok(opened.unwrap_or_else(|e| {
        tracing::error!("{e}");
        HashMap::new()
    }))
}

#[derive(Deserialize)]
pub struct Recorded {
    id: Uuid,
    #[serde(default)]
    acts: Vec<Act>,
    #[serde(default)]
    about: Value,
    picture: Option<String>,
    #[serde(default)]
    over: bool,
    trouble: Option<String>,
}

/// `POST /api/runner/recording`: what happens on a page somebody works on; the answer brings what they do.
pub async fn recording(
    state: web::Data<State>,
    request: HttpRequest,
    told: web::Json<Recorded>,
) -> HttpResponse {
    let location = match location(&state, &request).await {
        Ok(location) => location,
        Err(answer) => return answer,
    };
    let mut told = told.into_inner();
    clean_json(&mut told.about, &JsonLimits::PROGRESS);
    let carried = async {
        if told.over {
            state.db.recording_over(location, told.id, told.trouble.as_deref()).await?;
            return Ok(None);
        }
        let picture = told.picture.as_deref();
        state
            .db
            .tell_recording(location, told.id, told.acts, &told.about, picture, Timestamp::now())
            .await
    };
    match carried.await {
        Ok(Some(inputs)) => HttpResponse::Ok().json(json!({ "inputs": inputs })),
        Ok(None) => HttpResponse::Ok().json(json!({ "ended": true })),
        Err(e) => unavailable(&e),
    }
}

#[derive(Deserialize)]
pub struct TrialProgress {
    id: Uuid,
    progress: Value,
}

/// `POST /api/runner/progress`: how far a trial is; says whether it was cancelled meanwhile.
pub async fn progress(
    state: web::Data<State>,
    request: HttpRequest,
    told: web::Json<TrialProgress>,
) -> HttpResponse {
    let location = match location(&state, &request).await {
        Ok(location) => location,
        Err(answer) => return answer,
    };
    let mut told = told.into_inner();
    clean_json(&mut told.progress, &JsonLimits::PROGRESS);
    match state.db.tell_trial(location, told.id, &told.progress).await {
        Ok(Some(cancelled)) => HttpResponse::Ok().json(json!({ "cancelled": cancelled })),
        Ok(None) => Problem::not_found("There is no such trial at this location.").into(),
        Err(e) => unavailable(&e),
    }
}

/// `POST /api/runner/record`: 204 when the record is stored or was before; 410 when no such work was given to this
/// location, 422 when it is no record, naming the field: both will never be taken, however often they are sent.
pub async fn record(
    state: web::Data<State>,
    request: HttpRequest,
    body: web::Bytes,
) -> HttpResponse {
    let location = match location(&state, &request).await {
        Ok(location) => location,
        Err(answer) => return answer,
    };
    // Megabytes of pictures: not on a thread that others wait for.
    let unreadable = |says: String| Problem::new(StatusCode::UNPROCESSABLE_ENTITY, says).into();
    let record = match web::block(move || RunRecord::read(&body)).await {
        Ok(Ok(record)) => record,
        Ok(Err(says)) => return unreadable(says),
        Err(e) => return Problem::new(StatusCode::SERVICE_UNAVAILABLE, e.to_string()).into(),
    };
    let stored = match record.trial {
        true => state.db.finish_trial(location, &record).await,
        false => state.db.finish(location, record).await,
    };
    match stored {
        Ok(Finished::Stored | Finished::Already) => HttpResponse::NoContent().finish(),
        Ok(Finished::Unknown) => {
            Problem::new(StatusCode::GONE, "No such work was given to this location.").into()
        }
        Err(e) if e.is_permanent() => {
            tracing::error!("a record cannot be stored: {e}");
            unreadable("this can never be stored".into())
        }
        Err(e) => unavailable(&e),
    }
}

async fn location(state: &State, request: &HttpRequest) -> std::result::Result<i32, HttpResponse> {
    let token = request
        .headers()
        .get("authorization")
        .and_then(|v| v.to_str().ok())
        .and_then(|v| v.strip_prefix("Bearer "))
        .unwrap_or("");
    match state.db.location_by_token(token).await {
        Ok(Some(location)) => Ok(location),
        Ok(None) => {
            Err(Problem::new(StatusCode::UNAUTHORIZED, "No location has this token.").into())
        }
        Err(e) => Err(unavailable(&e)),
    }
}
