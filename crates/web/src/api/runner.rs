//! What runners ask for and bring back. A runner shows the token of its location.

use crate::State;
use crate::error::unavailable;
use crate::problem::{self, Problem};
use actix_web::http::StatusCode;
use actix_web::{HttpRequest, HttpResponse, web};
use cadentis_answers::kept::{Finished, Runner};
use cadentis_answers::runners::{self, OnPage};
use cadentis_core::journey::recorded::Act;
use cadentis_core::run::RunRecord;
use cadentis_core::text::{JsonLimits, clean_json};
use jiff::Timestamp;
use serde::Deserialize;
use serde_json::{Value, json};
use uuid::Uuid;

/// Protocols that runners may speak. A runner that speaks another is told so and gets no work: it could
/// not play what it does not understand.
const PROTOCOLS: std::ops::RangeInclusive<i32> = 4..=4;

crate::routes::routes! {
    Runner post "/lease" => lease,
    Runner post "/progress" => progress,
    Runner post "/record" => record,
    Runner post "/recording" => recording,
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
    /// How many records it keeps that no server has taken yet.
    #[serde(default)]
    kept: u32,
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
    let runner = Runner {
        name: cut(&asking.runner),
        program: cut(&asking.program),
        protocol: asking.protocol,
        seen_at: Timestamp::now(),
        busy_since: None,
        kept: i32::try_from(asking.kept).unwrap_or(i32::MAX),
    };
    let answers = &state.answers;
    let speaks_ours = PROTOCOLS.contains(&asking.protocol);
    let work = async {
        match speaks_ours {
            true => runners::lease(answers, location, runner, asking.can_record).await,
            false => runners::heard(answers, location, &runner).await.map(|()| None),
        }
    };
    match work.await {
        Ok(Some(work)) => HttpResponse::Ok().json(work),
        Ok(None) if speaks_ours => HttpResponse::NoContent().finish(),
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
            let trouble = told.trouble.as_deref();
            runners::recording_over(&state.answers, location, told.id, trouble).await?;
            return Ok(None);
        }
        let Recorded { id, acts, .. } = told;
        let on_page = OnPage { id, acts, about: &told.about, picture: told.picture.as_deref() };
        runners::tell_recording(&state.answers, location, on_page).await
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
    match runners::tell_trial(&state.answers, location, told.id, &told.progress).await {
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
    let stored = runners::finish(&state.answers, location, record).await;
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

async fn location(state: &State, request: &HttpRequest) -> Result<i32, HttpResponse> {
    let token = request
        .headers()
        .get("authorization")
        .and_then(|v| v.to_str().ok())
        .and_then(|v| v.strip_prefix("Bearer "))
        .unwrap_or("");
    match runners::location(&state.answers, token).await {
        Ok(Some(location)) => Ok(location),
        Ok(None) => {
            Err(Problem::new(StatusCode::UNAUTHORIZED, "No location has this token.").into())
        }
        Err(e) => Err(unavailable(&e)),
    }
}
