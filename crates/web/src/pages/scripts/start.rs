//! A new journey: a starter and its fields, where and how often, what that costs.

use super::playing;
use crate::State;
use crate::access::{By, InSite};
use crate::error::PageError;
use crate::frame::{Frame, base};
use crate::limits::query;
use crate::respond::{TWELVE_HOURS, html, redirect};
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::changes;
use cadentis_answers::{recordings, sites};
use cadentis_core::journey::starter::{STARTERS, Starter};
use cadentis_core::journey::{self, Journey, Part, recorded};
use serde::Deserialize;
use uuid::Uuid;

#[derive(Template)]
#[template(path = "start.html")]
struct Page {
    frame: Frame,
    wrong: Option<Wrong>,
    starters: Vec<StarterRow>,
    /// What was recorded, or brought: a script that is there already.
    written: Option<String>,
    written_chosen: bool,
    name: String,
    fields: playing::Fields,
}

pub struct Wrong {
    pub field: String,
    pub says: String,
}

struct StarterRow {
    slug: &'static str,
    title: &'static str,
    says: &'static str,
    chosen: bool,
    fields: Vec<FieldRow>,
}

struct FieldRow {
    name: String,
    label: &'static str,
    example: &'static str,
    value: String,
    wrong: Option<String>,
}

pub type Given = Vec<(String, String)>;

/// What a field was filled in with, if with anything.
pub fn of<'a>(given: &'a Given, name: &str) -> Option<&'a str> {
    given.iter().find(|(n, _)| n == name).map(|(_, v)| v.trim()).filter(|v| !v.is_empty())
}

async fn show(
    state: &State,
    request: &HttpRequest,
    given: &Given,
    wrong: Option<Wrong>,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(state, request, "Journeys", TWELVE_HOURS).await?;
    let fields = playing::fields(state, &frame, given, None).await?;
    let chosen = of(given, "starter").unwrap_or(STARTERS[0].slug).to_string();
    let written = given.iter().find(|(n, _)| n == "script").map(|(_, script)| script.clone());
    let starters = STARTERS.into_iter().map(|s| StarterRow {
        slug: s.slug,
        title: s.title,
        says: s.says,
        chosen: s.slug == chosen,
        fields: s
            .fields
            .iter()
            .map(|f| {
                let name = format!("{}.{}", s.slug, f.name);
                let wrong = wrong.as_ref().filter(|w| w.field == name).map(|w| w.says.clone());
                FieldRow {
                    value: of(given, &name).unwrap_or("").into(),
                    name,
                    label: f.label,
                    example: f.example,
                    wrong,
                }
            })
            .collect(),
    });
    let page = Page {
        starters: starters.collect(),
        written_chosen: chosen == WRITTEN,
        written,
        name: of(given, "name").unwrap_or("").into(),
        fields,
        wrong,
        frame,
    };
    html(&page)
}

#[derive(Default, Deserialize)]
struct StartForm {
    recorded: Option<Uuid>,
}

/// `GET /journeys/new`, after a recording with its id.
pub async fn page(
    state: web::Data<State>,
    InSite(site): InSite,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let wanted = query::<StartForm>(&request)?;
    let mut given = Vec::new();
    if let Some(id) = wanted.recorded {
        let recording = recordings::ask(&state.answers, site.id, id).await?;
        let recording = recording
            .ok_or_else(|| PageError::NotFound("that recording; they are kept two days".into()))?;
        let script = recorded::journey("Recorded", &recording.acts).to_string();
        given = vec![("starter".into(), WRITTEN.into()), ("script".into(), script)];
    }
    show(&state, &request, &given, None).await
}

/// The starter that is a script already.
const WRITTEN: &str = "written";

/// The script that was given, under the name that was given.
fn written(given: &Given, name: &str, shared: &[Part]) -> Result<Journey, String> {
    let script = given.iter().find(|(n, _)| n == "script").map_or("", |(_, s)| s.as_str());
    if let Some(first) = journey::problems(script, shared).first() {
        return Err(format!("The script cannot be played yet: {first}."));
    }
    let mut journey = journey::parse(script).map_err(|e| format!("{e}."))?;
    journey.name = name.into();
    Ok(journey)
}

/// `POST /journeys/new`: the journey, paused, at its script page. A wrong field is told beside it.
pub async fn make(
    state: web::Data<State>,
    InSite(site): InSite,
    By(by): By,
    request: HttpRequest,
    given: web::Form<Given>,
) -> Result<HttpResponse, PageError> {
    let wrong = |field: &str, says: &str| Some(Wrong { field: field.into(), says: says.into() });
    let name: String = of(&given, "name").unwrap_or("").chars().take(80).collect();
    let chosen = of(&given, "starter").unwrap_or("");
    let journey = match Starter::of(chosen) {
        _ if chosen == WRITTEN => written(&given, &name, &changes::journeys::parts_of(&site))
            .map_err(|says| Wrong { field: "script".into(), says }),
        Some(starter) => starter
            .journey(&name, |field| of(&given, &format!("{}.{field}", starter.slug)))
            .map_err(|e| Wrong {
                field: format!("{}.{}", starter.slug, e.field),
                says: format!("{e}."),
            }),
        None => Err(Wrong { field: "starter".into(), says: "Choose a starter.".into() }),
    };
    let journey = match journey {
        Ok(journey) => journey,
        Err(wrong) => return show(&state, &request, &given, Some(wrong)).await,
    };
    if name.is_empty() {
        return show(&state, &request, &given, wrong("name", "A journey needs a name.")).await;
    }
    let plays = match playing::read(&given, &site, &sites::locations(&state.answers).await?) {
        Ok(plays) => plays,
        Err(wrong) => return show(&state, &request, &given, Some(wrong)).await,
    };
    let (answers, script) = (&state.answers, journey.to_string());
    let plays = plays.as_kept();
    let slug = changes::journeys::add(answers, &by, &site, &name, &script, plays).await?;
    Ok(redirect(&format!("{}/journeys/{slug}/script", base(&site))))
}
