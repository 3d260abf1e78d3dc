//! The script of a journey: written, checked, played, saved, compared; and the journey's status.

pub mod files;
pub mod playing;
pub mod record;
pub mod start;

use super::start::{Given, Wrong};
use crate::State;
use crate::access::{After, By, InSite};
use crate::diff::{DiffLine, diff};
use crate::door;
use crate::error::{PageError, unavailable};
use crate::frame::{Frame, base};
use crate::limits::query;
use crate::problem::Problem;
use crate::respond::{TWELVE_HOURS, html, journey_of, redirect, with_header};
use crate::view::Named;
use crate::view::{Choice, Fact};
use crate::words::{not_saved_says, when};
use actix_web::http::StatusCode;
use actix_web::http::header::CONTENT_SECURITY_POLICY;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::changes;
use cadentis_answers::changes::journeys::{NewScript, NotSaved, SavedAs};
use cadentis_answers::kept::{Deleted, Journey, Site, Status, Version};
use cadentis_answers::{AnswerError, scripts, sites, teams};
use cadentis_core::journey::grammar;
use jiff::tz::TimeZone;
use serde::Deserialize;
use serde_json::json;

#[derive(Template)]
#[template(path = "script.html")]
struct Page {
    frame: Frame,
    nonce: String,
    name: String,
    slug: String,
    says: String,
    version: i32,
    script: String,
    locations: Vec<Named>,
    versions: Vec<VersionRow>,
    compared: Option<Compared>,
    /// The teams that could own it, with the one that does.
    teams: Vec<Choice>,
    tags: String,
    essential: bool,
    is_archived: bool,
    /// Whether whoever looks may change it: an editor, in the team that owns it.
    changes: bool,
    /// Why not, when they may not.
    closed: String,
    fields: playing::Fields,
    environments: Vec<String>,
    statuses: Vec<NextStatus>,
}

/// A status that the journey can be given, and what to call doing so.
struct NextStatus {
    status: &'static str,
    does: &'static str,
}

struct VersionRow {
    version: i32,
    author: String,
    note: String,
    saved_at: String,
    newest: bool,
}

/// Two versions, line by line.
struct Compared {
    title: String,
    lines: Vec<DiffLine>,
}

#[derive(Debug, Default, Deserialize)]
struct ScriptQuery {
    compare: Option<i32>,
}

pub async fn page(
    state: web::Data<State>,
    After(slug): After<String>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    show(&state, &slug, &request, None).await
}

/// The page, or the page with fields of locations and schedule as they were given and what is wrong with them.
async fn show(
    state: &State,
    slug: &str,
    request: &HttpRequest,
    given: Option<(&Given, Wrong)>,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(state, request, "Journeys", TWELVE_HOURS).await?;
    let wanted = query::<ScriptQuery>(request)?;
    let j = journey_of(state, frame.site.id, slug).await?;
    let told = scripts::ask(&state.answers, &j, wanted.compare).await?;
    let compared = match (wanted.compare, &told.old) {
        (None, _) => None,
        (Some(version), None) => {
            return Err(PageError::NotFound(format!("version {version} of {slug}")));
        }
        (Some(version), Some(old)) => {
            let title = format!("From version {version} to version {}", j.version);
            Some(Compared { title, lines: diff(old, &j.script) })
        }
    };
    let zone = frame.site.zone.clone();
    let newest = j.version;
    let row = |v: Version| VersionRow {
        version: v.version,
        author: v.author,
        note: v.note,
        saved_at: when(v.saved_at, &zone),
        newest: v.version == newest,
    };
    let fields = match given {
        Some((given, wrong)) => playing::fields(state, &frame, given, Some(wrong.says)).await?,
        None => {
            let slugs: Vec<String> = told.plays_at.iter().map(|l| l.slug.clone()).collect();
            playing::fields(state, &frame, &playing::as_given(&j, &slugs, &zone)?, None).await?
        }
    };
    let mut teams = vec![Choice::new("", "nobody’s: every editor’s", j.team_id.is_none())];
    let all = teams::all(&state.answers).await?;
    teams.extend(all.into_iter().map(|t| Choice::new(t.id, t.name, j.team_id == Some(t.id))));
    let is_theirs = frame.who.author().may_change(j.team_id);
    let changes = frame.who.edits() && is_theirs;
    let closed = match (frame.who.edits(), is_theirs) {
        (false, _) => "Editors save scripts and play them; you are a reader.".into(),
        (true, false) => {
            format!("Of {}: its members save the script. Duplicate it to have your own.", j.owner)
        }
        (true, true) => String::new(),
    };
    // One more kind of style than other pages: those that the editor writes, told by a word that nobody else knows.
    let nonce = uuid::Uuid::new_v4().simple().to_string();
    let policy = door::policy_with_style_nonce(&nonce);
    let page = html(&Page {
        nonce,
        says: life_says(&j, &zone, told.plays_at.len(), &told.still_to_answer)?,
        fields,
        environments: frame
            .site
            .environment_names()
            .into_iter()
            .filter(|e| *e != j.environment)
            .collect(),
        name: j.name,
        slug: j.slug,
        version: j.version,
        script: j.script,
        locations: told.locations.into_iter().map(Named::location).collect(),
        versions: told.versions.into_iter().map(row).collect(),
        compared,
        statuses: statuses(&j.status),
        teams,
        changes,
        closed,
        tags: j.tags.join(", "),
        essential: j.essential,
        is_archived: j.status == "archived",
        frame,
    })?;
    Ok(with_header(page, CONTENT_SECURITY_POLICY, &policy))
}

/// What can be made of a journey. Nobody makes a journey finished; it becomes so.
fn statuses(status: &str) -> Vec<NextStatus> {
    let all = [("active", "Start"), ("paused", "Pause"), ("archived", "Archive")];
    let named = |(to, word): (&'static str, &'static str)| NextStatus {
        status: to,
        does: match (status, to) {
            ("archived", "paused") => "Restore",
            ("finished", "active") => "Start again",
            _ => word,
        },
    };
    all.into_iter()
        .filter(|(to, _)| *to != status && !(status == "archived" && *to == "active"))
        .map(named)
        .collect()
}

/// One sentence on how a journey stands in its status.
pub fn life_says(
    j: &Journey,
    zone: &TimeZone,
    locations: usize,
    silent: &[String],
) -> Result<String, PageError> {
    let pace = j.pace().map_err(AnswerError::from)?.words(zone);
    let cadence =
        format!("{pace} from {locations} location{}", if locations == 1 { "" } else { "s" });
    Ok(match (j.status.as_str(), silent.len()) {
        ("paused", _) => format!("Paused: it would play {cadence}."),
        ("finished", _) => format!("Finished: it was to play {pace}, and has."),
        ("archived", _) => "Archived: it does not play; its runs and versions are kept.".into(),
        (_, 0) => format!("Active: it plays {cadence}."),
        (_, waiting) if waiting == locations => {
            format!("Waiting for its first run: it plays {cadence}.")
        }
        _ => format!("Active: it plays {cadence}; still to answer: {}.", silent.join(", ")),
    })
}

#[derive(Deserialize)]
pub struct Changed {
    pub script: String,
    pub based_on: i32,
    pub note: String,
}

/// `POST /journeys/{slug}/script`: the next version. 409 when somebody was quicker, 422 for a script that
/// cannot be played: nothing is lost, the page keeps what was written.
pub async fn save(
    state: web::Data<State>,
    By(by): By,
    InSite(site): InSite,
    After(slug): After<String>,
    changed: web::Json<Changed>,
) -> HttpResponse {
    let kept = async {
        let Some(j) = sites::journey(&state.answers, site.id, &slug).await? else {
            return Ok(Problem::not_found("There is no such journey.").into());
        };
        let Changed { script, based_on, note, .. } = &*changed;
        let new = NewScript { script, based_on: *based_on, note };
        let saved = changes::journeys::save_script(&state.answers, &by, &site, &j, &new).await?;
        Ok::<_, AnswerError>(match saved {
            Ok(SavedAs::New(version)) => {
                let says = format!("Saved as version {version}.");
                HttpResponse::Ok().json(json!({ "version": version, "says": says }))
            }
            Ok(SavedAs::Same(version)) => {
                let says = format!("That is version {version} already.");
                HttpResponse::Ok().json(json!({ "version": version, "says": says }))
            }
            Err(why) => {
                let says = not_saved_says(&why, &site.zone);
                match why {
                    NotSaved::Unplayable(problems) => {
                        Problem::script("/script", says, &problems).into()
                    }
                    NotSaved::Overtaken(by) => {
                        Problem::new(StatusCode::CONFLICT, says).with("newest", by.version).into()
                    }
                }
            }
        })
    };
    kept.await.unwrap_or_else(|e| unavailable(&e))
}

#[derive(Deserialize)]
pub struct NewStatus {
    status: String,
}

/// `POST /journeys/{slug}/status`: starts, pauses or archives it.
pub async fn set_status(
    state: web::Data<State>,
    InSite(site): InSite,
    By(by): By,
    After(slug): After<String>,
    new: web::Form<NewStatus>,
) -> Result<HttpResponse, PageError> {
    let status = Status::parse(&new.status)
        .ok_or_else(|| PageError::NotFound("a journey is active, paused or archived".into()))?;
    let j = the_journey(&state, &site, &slug).await?;
    changes::journeys::set_status(&state.answers, &by, &j, status).await?;
    Ok(redirect(&format!("{}/journeys/{slug}/script", base(&site))))
}

#[derive(Deserialize)]
pub struct Deletion {
    #[serde(default)]
    name: String,
}

/// `POST /journeys/{slug}/delete`: deletes an archived journey for good; its name says that it is meant.
pub async fn delete(
    state: web::Data<State>,
    InSite(site): InSite,
    By(by): By,
    After(slug): After<String>,
    asked: web::Form<Deletion>,
) -> Result<HttpResponse, PageError> {
    let j = the_journey(&state, &site, &slug).await?;
    if asked.name.trim() != j.name {
        return Err(PageError::Refused(format!(
            "Nothing was deleted: type “{}”, its name, to delete it.",
            j.name
        )));
    }
    match changes::journeys::delete(&state.answers, &by, &j).await? {
        Deleted::Gone => Ok(redirect("/journeys")),
        Deleted::NotArchived => Err(PageError::Refused(format!(
            "Nothing was deleted: archive “{}” first, so that it stops playing.",
            j.name
        ))),
        Deleted::Counted(goal) => Err(PageError::Refused(format!(
            "Nothing was deleted: the goal “{goal}” counts the runs of “{}”, and reports on it would change.",
            j.name
        ))),
    }
}

async fn the_journey(state: &State, site: &Site, slug: &str) -> Result<Journey, PageError> {
    journey_of(state, site.id, slug).await
}

#[derive(Deserialize)]
pub struct About {
    /// The id of a team; empty for none.
    #[serde(default)]
    team: String,
    tags: String,
    essential: Option<String>,
}

/// `POST /journeys/{slug}/plays`: where, how often and on what it plays from now on.
pub async fn plays(
    state: web::Data<State>,
    InSite(site): InSite,
    By(by): By,
    After(slug): After<String>,
    request: HttpRequest,
    given: web::Form<Given>,
) -> Result<HttpResponse, PageError> {
    let j = journey_of(&state, site.id, &slug).await?;
    match playing::read(&given, &site, &sites::locations(&state.answers).await?) {
        Ok(plays) => {
            changes::journeys::set_plays(&state.answers, &by, &j, &plays.as_kept()).await?;
            Ok(redirect(&format!("{}/journeys/{slug}/script#plays", base(&site))))
        }
        Err(wrong) => show(&state, &slug, &request, Some((&given, wrong))).await,
    }
}

/// `POST /journeys/{slug}/about`: the team that owns it, tags, weight.
pub async fn about(
    state: web::Data<State>,
    InSite(site): InSite,
    By(by): By,
    After(slug): After<String>,
    about: web::Form<About>,
) -> Result<HttpResponse, PageError> {
    let j = the_journey(&state, &site, &slug).await?;
    let about = changes::journeys::About {
        team: about.team.parse().ok(),
        tags: &about.tags,
        essential: about.essential.is_some(),
    };
    changes::journeys::set_about(&state.answers, &by, &j, &about).await?;
    Ok(redirect(&format!("{}/journeys/{slug}/script", base(&site))))
}

#[derive(Deserialize)]
pub struct Copied {
    /// Where the copy looks; the same when it does not say.
    environment: Option<String>,
}

/// `POST /journeys/{slug}/duplicate`: a copy, paused; for another environment with its addresses.
pub async fn duplicate(
    state: web::Data<State>,
    InSite(site): InSite,
    By(by): By,
    After(slug): After<String>,
    copied: web::Form<Copied>,
) -> Result<HttpResponse, PageError> {
    let j = journey_of(&state, site.id, &slug).await?;
    let environment = copied.environment.as_deref();
    let free = changes::journeys::duplicate(&state.answers, &by, &site, &j, environment).await?;
    Ok(redirect(&format!("{}/journeys/{free}/script", base(&site))))
}

/// `GET /journeys/{slug}/export`: the script as a file.
pub async fn export(
    state: web::Data<State>,
    InSite(site): InSite,
    After(slug): After<String>,
) -> Result<HttpResponse, PageError> {
    let j = the_journey(&state, &site, &slug).await?;
    let disposition = format!("attachment; filename=\"{}.cadentis\"", j.slug);
    Ok(HttpResponse::Ok()
        .content_type("text/plain; charset=utf-8")
        .insert_header(("content-disposition", disposition))
        .body(j.script))
}

#[derive(Template)]
#[template(path = "script_reference.html")]
struct WordsPage {
    frame: Frame,
    groups: Vec<Group>,
    legend: Vec<Fact>,
}

struct Group {
    title: &'static str,
    words: Vec<Word>,
}

struct Word {
    written: String,
    says: &'static str,
    example: &'static str,
}

/// `GET /script-reference`: every sentence of the language, out of the table that reads scripts.
pub async fn reference(
    state: web::Data<State>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(&state, &request, "Journeys", TWELVE_HOURS).await?;
    let of = |group| {
        let forms = grammar::FORMS.iter().filter(|f| f.group == group);
        forms.map(|f| Word { written: f.written(), says: f.says, example: f.example }).collect()
    };
    let groups =
        grammar::Group::ALL.into_iter().map(|g| Group { title: g.title(), words: of(g) }).collect();
    let legend = grammar::Slot::LEGEND.iter().map(|(slot, says)| Fact::new(*slot, *says)).collect();
    html(&WordsPage { frame, groups, legend })
}
