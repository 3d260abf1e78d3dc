//! What the record page asks: a browser somewhere, its pictures, what was done so far.

use crate::State;
use crate::access::{After, By, InSite};
use crate::error::unavailable;
use crate::problem::Problem;
use actix_web::http::StatusCode;
use actix_web::{HttpResponse, web};
use cadentis_answers::changes::trials as changes;
use cadentis_answers::{AnswerError, recordings};
use cadentis_core::journey::recorded::{self, Act, Input};
use cadentis_core::journey::{self, Journey};
use jiff::Timestamp;
use serde::Deserialize;
use serde_json::{Value, json};
use std::time::Duration;
use uuid::Uuid;

#[derive(Deserialize)]
pub struct NewRecording {
    address: String,
    location: String,
}

/// What a script can open, as it is written there.
fn address(typed: &str) -> Result<String, String> {
    let typed = typed.trim();
    let script = format!("script \"x\"\nstep \"x\"\n  open {typed}\n");
    match journey::parse(&script) {
        Ok(_) => Ok(typed.to_string()),
        Err(e) => Err(match e.hint {
            Some(hint) => format!("Address: expected {}; {hint}.", e.expected),
            None => format!("Address: expected {}.", e.expected),
        }),
    }
}

/// `POST /{site}/api/recordings`: a browser at this location that opens the address.
pub async fn ask(
    state: web::Data<State>,
    By(by): By,
    InSite(site): InSite,
    new: web::Json<NewRecording>,
) -> HttpResponse {
    let address = match address(&new.address) {
        Ok(address) => address,
        Err(says) => return Problem::invalid("/address", says).into(),
    };
    let asked = async {
        let none = || Ok(Problem::not_found("There is no such location.").into());
        let answers = &state.answers;
        match changes::record(answers, &by, &site, (&new.location, &address)).await? {
            Some(id) => Ok::<_, AnswerError>(HttpResponse::Ok().json(json!({ "id": id }))),
            None => none(),
        }
    };
    asked.await.unwrap_or_else(|e| unavailable(&e))
}

#[derive(Deserialize)]
pub struct Seen {
    /// Which picture is shown, and how many acts.
    #[serde(default)]
    picture: i32,
    #[serde(default)]
    acts: String,
}

/// How long an answer waits for something new, and how often it looks for it.
const WAITS: u32 = 25;
const EVERY: Duration = Duration::from_millis(40);

/// `GET /{site}/api/recordings/{id}?picture=&acts=`: what is new, as soon as it is there, or after a second.
pub async fn look(
    state: web::Data<State>,
    InSite(site): InSite,
    After(id): After<Uuid>,
    seen: web::Query<Seen>,
) -> HttpResponse {
    let looked = async {
        recordings::looked(&state.answers, site.id, id).await?;
        let mut waited = 0;
        loop {
            let Some(r) = recordings::ask(&state.answers, site.id, id).await? else {
                return Ok(Problem::not_found("There is no such recording any more.").into());
            };
            let told = format!("{:x}", fingerprint(&json!([r.acts, r.about])));
            let new = r.picture != seen.picture || told != seen.acts || r.ended;
            waited += 1;
            if !new && waited < WAITS {
                tokio::time::sleep(EVERY).await;
                continue;
            }
            let picture = match r.picture != seen.picture {
                true => recordings::picture(&state.answers, id).await?,
                false => None,
            };
            let journey = recorded::journey("Recorded", &r.acts);
            return Ok(HttpResponse::Ok().json(json!({
                "picture": picture, "nth": r.picture, "acts": told, "about": r.about, "runner": r.runner,
                "waits_s": Timestamp::now().duration_since(r.asked_at).as_secs(), "ended": r.ended, "trouble": r.trouble,
                "steps": steps(&journey), "script": journey.to_string(),
            })));
        }
    };
    looked.await.unwrap_or_else(|e: AnswerError| unavailable(&e))
}

/// Enough to see that something is new.
fn fingerprint(value: &Value) -> u64 {
    use std::hash::{DefaultHasher, Hash, Hasher};
    let mut hasher = DefaultHasher::new();
    value.to_string().hash(&mut hasher);
    hasher.finish()
}

fn steps(journey: &Journey) -> Vec<Value> {
    let step = |s: &journey::Step| {
        let says: Vec<String> = s.sentences.iter().map(|s| s.says.to_string()).collect();
        json!({ "name": s.name, "says": says })
    };
    journey.steps.iter().map(step).collect()
}

/// `POST /{site}/api/recordings/{id}/inputs`: mouse and keys, in their order.
pub async fn inputs(
    state: web::Data<State>,
    InSite(site): InSite,
    After(id): After<Uuid>,
    inputs: web::Json<Vec<Input>>,
) -> HttpResponse {
    if inputs.len() > 500 {
        return Problem::new(StatusCode::PAYLOAD_TOO_LARGE, "500 inputs at most at a time.").into();
    }
    if let Some((nth, says)) =
        inputs.iter().enumerate().find_map(|(nth, i)| Some((nth, i.complaint()?)))
    {
        return Problem::invalid(&format!("/{nth}"), says).into();
    }
    match recordings::inputs(&state.answers, site.id, id, &inputs).await {
        Ok(()) => HttpResponse::NoContent().finish(),
        Err(e) => unavailable(&e),
    }
}

#[derive(Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Change {
    Add(Act),
    UndoLast,
}

/// `POST /{site}/api/recordings/{id}/acts`: what was pointed out comes in, a step gets a name, or the last act goes.
pub async fn act(
    state: web::Data<State>,
    InSite(site): InSite,
    After(id): After<Uuid>,
    change: web::Json<Change>,
) -> HttpResponse {
    let changed =
        recordings::change(&state.answers, site.id, id, |acts| match change.into_inner() {
            Change::Add(act) => recorded::add(acts, act),
            // The address it began with stays.
            Change::UndoLast if acts.len() > 1 => {
                acts.pop();
            }
            Change::UndoLast => {}
        });
    match changed.await {
        Ok(true) => HttpResponse::NoContent().finish(),
        Ok(false) => Problem::not_found("There is no such recording any more.").into(),
        Err(e) => unavailable(&e),
    }
}

/// `DELETE /{site}/api/recordings/{id}`: the browser ends; what was done stays for a while.
pub async fn end(
    state: web::Data<State>,
    InSite(site): InSite,
    After(id): After<Uuid>,
) -> HttpResponse {
    match recordings::end(&state.answers, site.id, id).await {
        Ok(()) => HttpResponse::NoContent().finish(),
        Err(e) => unavailable(&e),
    }
}
