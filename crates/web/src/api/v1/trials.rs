//! Trials for programs: a journey, or a script that nobody has saved, played once from a location now, and counted nowhere.

use super::asked::{Closed, Unread, said, stopped};
use super::shapes::ProblemShape;
use crate::State;
use crate::access::{After, Caller, InSite};
use crate::problem::Problem;
use actix_web::http::StatusCode;
use actix_web::http::header::LOCATION;
use actix_web::{HttpResponse, web};
use cadentis_answers::changes::journeys::parts_of;
use cadentis_answers::changes::trials::{self as changes, NewTrial};
use cadentis_answers::trials;
use cadentis_answers::{kept::Site, sites};
use cadentis_core::journey;
use cadentis_core::run::{DeviceProfile, PROFILES, RunRecord};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

/// What is to be played, and from where: either a journey as it is kept, or a script.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct TrialBody {
    /// A journey by its name in addresses, whose newest script is played.
    #[schema(example = "book-a-crossing")]
    journey: Option<String>,
    /// A script, at most 200,000 bytes.
    script: Option<String>,
    /// The location by its name in addresses.
    #[schema(example = "bergen")]
    location: String,
    /// A device profile; that of the journey, or `desktop`, when it does not say.
    device: Option<String>,
}

/// A trial that was asked for.
#[derive(Serialize, ToSchema)]
pub(super) struct TrialAskedShape {
    id: Uuid,
}

/// How a trial stands.
#[derive(Serialize, ToSchema)]
pub(super) struct TrialStandsShape {
    id: Uuid,
    /// `waiting` for a runner of its location, `playing`, `ended`, or `stopped` by somebody before it had ended.
    state: &'static str,
    #[schema(value_type = String, format = DateTime)]
    asked_at: Timestamp,
    /// The runner that plays it, once one does.
    runner: Option<String>,
    /// `passed`, `slow`, `failed` or `unmeasured`, once it has ended.
    outcome: Option<&'static str>,
    duration_ms: Option<f64>,
    /// What went wrong, and on which line of the script, from 1.
    trouble: Option<TrialTroubleShape>,
    /// As far as it came, once it has ended.
    steps: Vec<TrialStepShape>,
}

#[derive(Serialize, ToSchema)]
struct TrialTroubleShape {
    line: u32,
    says: String,
}

#[derive(Serialize, ToSchema)]
struct TrialStepShape {
    name: String,
    outcome: &'static str,
    duration_ms: f64,
}

impl TrialStandsShape {
    fn of(id: Uuid, trial: trials::Trial) -> TrialStandsShape {
        let status = trial.status;
        let steps = |r: &RunRecord| {
            let step = |s: &cadentis_core::run::StepRecord| TrialStepShape {
                name: s.name.clone(),
                outcome: s.outcome.word(),
                duration_ms: s.duration_ms,
            };
            r.steps.iter().map(step).collect()
        };
        let record = status.record.as_ref();
        TrialStandsShape {
            id,
            state: match (record, status.cancelled, &status.runner) {
                (Some(_), ..) => "ended",
                (None, true, _) => "stopped",
                (None, false, Some(_)) => "playing",
                (None, false, None) => "waiting",
            },
            asked_at: status.asked_at,
            outcome: record.map(|r| r.outcome.word()),
            duration_ms: record.map(|r| r.duration_ms),
            trouble: record
                .and_then(|r| r.trouble.as_ref())
                .map(|t| TrialTroubleShape { line: t.line, says: t.says.clone() }),
            steps: record.map(steps).unwrap_or_default(),
            runner: status.runner,
        }
    }
}

/// The script that is to be played, and the device that it is written for.
async fn wanted(
    state: &State,
    site: &Site,
    asked: &TrialBody,
) -> Result<(String, String), HttpResponse> {
    match (&asked.journey, &asked.script) {
        (Some(slug), None) => {
            let journey = sites::journey(&state.answers, site.id, slug).await.map_err(stopped)?;
            let none = || Problem::invalid("/journey", format!("There is no journey {slug}."));
            let journey = journey.ok_or_else(none)?;
            Ok((journey.script, journey.device))
        }
        (None, Some(script)) => Ok((script.clone(), DeviceProfile::USUAL.slug.into())),
        _ => Err(Problem::invalid("/journey", "Say either a journey or a script.").into()),
    }
}

/// Plays a journey or a script once, now, as soon as a runner of that location asks for work. It is no run: it counts nowhere, and is kept for
/// a day.
#[utoipa::path(post, path = "/sites/{site}/trials", params(("site" = String, Path, example = "marram-ferries")), request_body = TrialBody, responses(
    (status = 202, body = TrialAskedShape, headers(("Location" = String, description = "Where it is told how the trial stands."))),
    Unread,
    (status = 413, body = ProblemShape, content_type = "application/problem+json"),
    (status = 422, body = ProblemShape, content_type = "application/problem+json"),
    Closed,
))]
pub(super) async fn ask(
    state: web::Data<State>,
    caller: Caller,
    InSite(site): InSite,
    body: web::Json<TrialBody>,
) -> HttpResponse {
    let asked = async {
        let (script, device) = wanted(&state, &site, &body).await?;
        if let Some(e) = journey::problems(&script, &parts_of(&site)).first() {
            let says = format!("The script cannot be played yet: {e}.");
            return Err(Problem::script("/script", says, std::slice::from_ref(e)).into());
        }
        let device = body.device.clone().unwrap_or(device);
        if DeviceProfile::of(&device).is_none() {
            let all: Vec<&str> = PROFILES.iter().map(|p| p.slug).collect();
            let says = format!("There is no such device profile; there is {}.", all.join(", "));
            return Err(Problem::invalid("/device", says).into());
        }
        let wish = NewTrial { script: &script, location: &body.location, device: &device };
        let id =
            changes::play(&state.answers, &caller.author, &site, &wish).await.map_err(stopped)?;
        let none = || Problem::invalid("/location", "There is no such location.");
        let id = id.ok_or_else(none)?;
        let at = format!("{}/sites/{}/trials/{id}", crate::access::API, site.slug);
        let mut accepted = HttpResponse::build(StatusCode::ACCEPTED);
        Ok(accepted.insert_header((LOCATION, at)).json(TrialAskedShape { id }))
    };
    said(asked.await)
}

fn no_trial() -> HttpResponse {
    Problem::not_found("There is no such trial any more.").into()
}

/// How a trial stands.
#[utoipa::path(get, path = "/sites/{site}/trials/{id}", params(("site" = String, Path, example = "marram-ferries"), ("id" = Uuid, Path)), responses(
    (status = 200, body = TrialStandsShape),
    Closed,
))]
pub(super) async fn one(
    state: web::Data<State>,
    InSite(site): InSite,
    After(id): After<Uuid>,
) -> HttpResponse {
    let one = async {
        let told = trials::ask(&state.answers, site.id, id, Timestamp::now()).await;
        let told = told.map_err(stopped)?.ok_or_else(no_trial)?;
        Ok(HttpResponse::Ok().json(TrialStandsShape::of(id, told)))
    };
    said(one.await)
}

/// Breaks a trial off as soon as its runner hears of it.
#[utoipa::path(delete, path = "/sites/{site}/trials/{id}", params(("site" = String, Path, example = "marram-ferries"), ("id" = Uuid, Path)), responses(
    (status = 204),
    Closed,
))]
pub(super) async fn stop(
    state: web::Data<State>,
    caller: Caller,
    InSite(site): InSite,
    After(id): After<Uuid>,
) -> HttpResponse {
    let stop = async {
        let told = trials::ask(&state.answers, site.id, id, Timestamp::now()).await;
        told.map_err(stopped)?.ok_or_else(no_trial)?;
        changes::stop(&state.answers, &caller.author, &site, id).await.map_err(stopped)?;
        Ok(HttpResponse::NoContent().finish())
    };
    said(stop.await)
}
