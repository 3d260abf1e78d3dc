//! The script of a journey: written, checked, played, saved, compared; and the journey's status.

use super::start::{Given, Wrong};
use super::with_header;
use super::{TWELVE_HOURS, html, journey_of, plays, redirect};
use crate::State;
use crate::api::scripts::shared;
use crate::door;
use crate::error::{PageError, unavailable};
use crate::frame::Frame;
use crate::limits::query;
use crate::problem::Problem;
use actix_web::http::StatusCode;
use actix_web::http::header::CONTENT_SECURITY_POLICY;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_core::journey;
use cadentis_core::journey::grammar;
use cadentis_core::text::slug as slug_of;
use cadentis_store::StoreError;
use cadentis_store::scripts::{Deleted, Edit, Saved, Status, Version};
use cadentis_store::sites::{Journey, Site};
use jiff::Timestamp;
use jiff::tz::TimeZone;
use serde::Deserialize;
use serde_json::json;
use similar::{ChangeTag, TextDiff};

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
    locations: Vec<(String, String)>,
    versions: Vec<VersionRow>,
    compared: Option<Compared>,
    owner: String,
    tags: String,
    essential: bool,
    is_archived: bool,
    editors: String,
    fields: plays::Fields,
    environments: Vec<String>,
    statuses: Vec<(&'static str, &'static str)>,
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

pub struct DiffLine {
    pub class: &'static str,
    pub sign: &'static str,
    pub text: String,
}

/// The lines of two texts with what went and what came; far from changes they are left out.
pub fn diff(old: &str, new: &str) -> Vec<DiffLine> {
    let diff = TextDiff::from_lines(old, new);
    let mut lines = Vec::new();
    for (nth, group) in diff.grouped_ops(3).iter().enumerate() {
        if nth > 0 {
            lines.push(DiffLine { class: "gap", sign: "", text: "…".into() });
        }
        for change in group.iter().flat_map(|op| diff.iter_changes(op)) {
            let (class, sign) = match change.tag() {
                ChangeTag::Delete => ("gone", "−"),
                ChangeTag::Insert => ("new", "+"),
                ChangeTag::Equal => ("same", " "),
            };
            lines.push(DiffLine {
                class,
                sign,
                text: change.value().trim_end_matches('\n').to_string(),
            });
        }
    }
    lines
}

#[derive(Debug, Default, Deserialize)]
struct ScriptQuery {
    compare: Option<i32>,
}

pub async fn page(
    state: web::Data<State>,
    slug: web::Path<String>,
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
    let (versions, all, silent, places) = futures::try_join!(
        state.db.versions(j.id),
        state.db.locations(),
        state.db.still_to_answer(j.id),
        state.db.locations_of(&j),
    )?;
    let compared = match wanted.compare {
        None => None,
        Some(version) => {
            let old = state.db.script_of_version(j.id, version).await?;
            let old =
                old.ok_or_else(|| PageError::NotFound(format!("version {version} of {slug}")))?;
            let title = format!("From version {version} to version {}", j.version);
            Some(Compared { title, lines: diff(&old, &j.script) })
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
        Some((given, wrong)) => plays::fields(state, &frame, given, Some(wrong.says)).await?,
        None => {
            let slugs: Vec<String> = places.iter().map(|(l, _)| l.slug.clone()).collect();
            plays::fields(state, &frame, &plays::as_given(&j, &slugs, &zone)?, None).await?
        }
    };
    // One more kind of style than other pages: those that the editor writes, told by a word that nobody else knows.
    let nonce = uuid::Uuid::new_v4().simple().to_string();
    let policy = door::policy_with_style_nonce(&nonce);
    let page = html(&Page {
        nonce,
        says: life_says(&j, &zone, places.len(), &silent)?,
        fields,
        editors: j.editors.join(", "),
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
        locations: all.into_iter().map(|l| (l.slug, l.name)).collect(),
        versions: versions.into_iter().map(row).collect(),
        compared,
        statuses: statuses(&j.status),
        owner: j.owner,
        tags: j.tags.join(", "),
        essential: j.essential,
        is_archived: j.status == "archived",
        frame,
    })?;
    Ok(with_header(page, CONTENT_SECURITY_POLICY, &policy))
}

fn when(at: Timestamp, zone: &TimeZone) -> String {
    at.to_zoned(zone.clone()).strftime("%-d %b %Y %H:%M %Z").to_string()
}

/// What can be made of a journey, and what to call doing so.
/// Nobody makes a journey finished; it becomes so.
fn statuses(status: &str) -> Vec<(&'static str, &'static str)> {
    let all = [("active", "Start"), ("paused", "Pause"), ("archived", "Archive")];
    let named = |(to, word): (&'static str, &'static str)| match (status, to) {
        ("archived", "paused") => (to, "Restore"),
        ("paused" | "archived" | "finished", "active") => (to, "Start again"),
        _ => (to, word),
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
    let pace = j.pace()?.words(zone);
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
    pub author: String,
    pub note: String,
}

/// `POST /journeys/{slug}/script`: the next version. 409 when somebody was quicker, 422 for a script that
/// cannot be played: nothing is lost, the page keeps what was written.
pub async fn save(
    state: web::Data<State>,
    slug: web::Path<String>,
    changed: web::Json<Changed>,
) -> HttpResponse {
    let kept = async {
        let none = || Ok(Problem::not_found("There is no such journey.").into());
        let Some(site) = state.first_site().await? else { return none() };
        let Some(j) = state.db.journey(site.id, &slug).await? else { return none() };
        let problems = journey::problems(&changed.script, &shared(&state).await?);
        Ok::<_, StoreError>(match keep(&state, &site, &j, &changed).await? {
            Ok((version, says)) => {
                HttpResponse::Ok().json(json!({ "version": version, "says": says }))
            }
            Err(NotKept::Nobody(says)) => Problem::invalid("/author", says).into(),
            Err(NotKept::Unplayable(says)) => Problem::script("/script", says, &problems).into(),
            Err(NotKept::NotTheirs(says)) => Problem::new(StatusCode::FORBIDDEN, says).into(),
            Err(NotKept::Overtaken { says, newest }) => {
                Problem::new(StatusCode::CONFLICT, says).with("newest", newest).into()
            }
        })
    };
    kept.await.unwrap_or_else(|e| unavailable(&e))
}

/// Why a script did not become the next version, in words.
pub enum NotKept {
    Nobody(String),
    Unplayable(String),
    NotTheirs(String),
    Overtaken { says: String, newest: i32 },
}

impl NotKept {
    pub fn says(self) -> String {
        match self {
            NotKept::Nobody(says) | NotKept::Unplayable(says) | NotKept::NotTheirs(says) => says,
            NotKept::Overtaken { says, .. } => says,
        }
    }
}

/// Makes a script the next version of its journey, if it may be: wherever it was changed. Its number, and words for it.
pub async fn keep(
    state: &State,
    site: &Site,
    j: &Journey,
    changed: &Changed,
) -> Result<Result<(i32, String), NotKept>, StoreError> {
    let author = cut(&changed.author, 80);
    if author.is_empty() {
        return Ok(Err(NotKept::Nobody("Say who you are: versions have an author.".into())));
    }
    if let Some(first) = journey::problems(&changed.script, &shared(state).await?).first() {
        return Ok(Err(NotKept::Unplayable(format!("Not saved: {first}."))));
    }
    let name = journey::parse(&changed.script).map(|j| j.name).unwrap_or_default();
    if !j.may_be_edited_by(&author) {
        let who: Vec<_> =
            j.editors.iter().chain(Some(&j.owner).filter(|o| !o.is_empty())).cloned().collect();
        return Ok(Err(NotKept::NotTheirs(format!(
            "Not saved: {} may be changed by {} only. Duplicate it, or ask one of them.",
            j.name,
            who.join(", ")
        ))));
    }
    let note = cut(&changed.note, 200);
    let edit = Edit {
        script: &changed.script,
        name: &name,
        based_on: changed.based_on,
        author: &author,
        note: &note,
    };
    Ok(match state.db.save_script(j.id, &edit, Timestamp::now()).await? {
        Saved::Version(version) => Ok((version, format!("Saved as version {version}."))),
        Saved::Same(version) => Ok((version, format!("That is version {version} already."))),
        Saved::Overtaken(by) => Err(NotKept::Overtaken {
            says: format!(
                "Not saved: {} saved version {} meanwhile ({}). Your text is still here; open the newest version in another window and bring both together.",
                by.author,
                by.version,
                when(by.saved_at, &site.zone)
            ),
            newest: by.version,
        }),
    })
}

fn cut(text: &str, most: usize) -> String {
    text.trim().chars().take(most).collect()
}

#[derive(Deserialize)]
pub struct NewStatus {
    status: String,
}

/// `POST /journeys/{slug}/status`: starts, pauses or archives it.
pub async fn set_status(
    state: web::Data<State>,
    slug: web::Path<String>,
    new: web::Form<NewStatus>,
) -> Result<HttpResponse, PageError> {
    let status = Status::parse(&new.status)
        .ok_or_else(|| PageError::NotFound("a journey is active, paused or archived".into()))?;
    let j = the_journey(&state, &slug).await?;
    state.db.set_status(j.id, status).await?;
    Ok(redirect(&format!("/journeys/{slug}/script")))
}

#[derive(Deserialize)]
pub struct Deletion {
    #[serde(default)]
    name: String,
}

/// `POST /journeys/{slug}/delete`: deletes an archived journey for good; its name says that it is meant.
pub async fn delete(
    state: web::Data<State>,
    slug: web::Path<String>,
    asked: web::Form<Deletion>,
) -> Result<HttpResponse, PageError> {
    let j = the_journey(&state, &slug).await?;
    if asked.name.trim() != j.name {
        return Err(PageError::Refused(format!(
            "Nothing was deleted: type “{}”, its name, to delete it.",
            j.name
        )));
    }
    match state.db.delete_journey(j.id).await? {
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

async fn the_journey(state: &State, slug: &str) -> Result<Journey, PageError> {
    let site = state.site().await?;
    journey_of(state, site.id, slug).await
}

#[derive(Deserialize)]
pub struct About {
    owner: String,
    tags: String,
    #[serde(default)]
    editors: String,
    essential: Option<String>,
}

/// `POST /journeys/{slug}/plays`: where, how often and on what it plays from now on.
pub async fn plays(
    state: web::Data<State>,
    slug: web::Path<String>,
    request: HttpRequest,
    given: web::Form<Given>,
) -> Result<HttpResponse, PageError> {
    let site = state.site().await?;
    let j = journey_of(&state, site.id, &slug).await?;
    match plays::read(&given, &site, &state.db.locations().await?) {
        Ok(plays) => {
            state.db.set_place_and_pace(j.id, &plays.as_kept()).await?;
            Ok(redirect(&format!("/journeys/{slug}/script#plays")))
        }
        Err(wrong) => show(&state, &slug, &request, Some((&given, wrong))).await,
    }
}

/// `POST /journeys/{slug}/about`: owner, tags, weight, who may edit.
pub async fn about(
    state: web::Data<State>,
    slug: web::Path<String>,
    about: web::Form<About>,
) -> Result<HttpResponse, PageError> {
    let j = the_journey(&state, &slug).await?;
    let listed = |text: &str, longest: usize| {
        let mut all: Vec<String> =
            text.split(',').map(|t| cut(t, longest)).filter(|t| !t.is_empty()).take(20).collect();
        all.dedup();
        all
    };
    let (tags, editors) = (listed(&about.tags, 40), listed(&about.editors, 80));
    state
        .db
        .set_about(j.id, &cut(&about.owner, 80), &tags, about.essential.is_some(), &editors)
        .await?;
    Ok(redirect(&format!("/journeys/{slug}/script")))
}

#[derive(Deserialize)]
pub struct Copied {
    author: String,
    /// Where the copy looks; the same when it does not say.
    environment: Option<String>,
}

/// The script with every address of one environment turned into that of another.
fn moved(script: &str, from: Option<&str>, to: Option<&str>) -> String {
    match (from, to) {
        (Some(from), Some(to)) if !from.is_empty() => {
            script.replace(from.trim_end_matches('/'), to.trim_end_matches('/'))
        }
        _ => script.to_string(),
    }
}

/// `POST /journeys/{slug}/duplicate`: a copy, paused; for another environment with its addresses.
pub async fn duplicate(
    state: web::Data<State>,
    slug: web::Path<String>,
    copied: web::Form<Copied>,
) -> Result<HttpResponse, PageError> {
    let j = the_journey(&state, &slug).await?;
    let site = state.db.sites().await?.into_iter().find(|s| s.id == j.site_id);
    let environments = site.as_ref().map(|s| s.environments.clone()).unwrap_or_default();
    let address = |name: &str| {
        environments.iter().find(|(n, _)| n == name).map(|(_, address)| address.as_str())
    };
    let elsewhere =
        copied.environment.as_deref().filter(|e| *e != j.environment && address(e).is_some());
    let environment = elsewhere.unwrap_or(&j.environment);
    let name = match elsewhere {
        Some(environment) => format!("{} ({environment})", j.name),
        None => format!("Copy of {}", j.name),
    };
    let name: String = name.chars().take(80).collect();
    // The name stands in the script; a script that cannot be read any more is copied as it is.
    let script = match journey::parse(&j.script) {
        Ok(mut script) => {
            script.name.clone_from(&name);
            script.to_string()
        }
        Err(_) => j.script.clone(),
    };
    let script = moved(&script, address(&j.environment), elsewhere.and_then(address));
    let wanted = elsewhere
        .map_or_else(|| format!("copy-of-{}", j.slug), |e| format!("{}-{}", j.slug, slug_of(e)));
    let free = state.db.free_slug(j.site_id, &wanted).await?;
    let author = Some(cut(&copied.author, 80))
        .filter(|a| !a.is_empty())
        .unwrap_or_else(|| "somebody".into());
    state.db.duplicate(&j, &free, &script, &name, environment, &author, Timestamp::now()).await?;
    Ok(redirect(&format!("/journeys/{free}/script")))
}

/// `GET /journeys/{slug}/export`: the script as a file.
pub async fn export(
    state: web::Data<State>,
    slug: web::Path<String>,
) -> Result<HttpResponse, PageError> {
    let j = the_journey(&state, &slug).await?;
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
    groups: Vec<(&'static str, Vec<Word>)>,
    legend: Vec<(&'static str, &'static str)>,
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
    let groups = grammar::Group::ALL.into_iter().map(|g| (g.title(), of(g))).collect();
    html(&WordsPage { frame, groups, legend: grammar::Slot::LEGEND.to_vec() })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_difference_shows_what_went_and_what_came_and_leaves_the_rest_out() {
        let old: String = (0..30).map(|n| format!("line {n}\n")).collect();
        let new = old.replace("line 3\n", "").replace("line 25\n", "line 25, better\n");
        let lines = diff(&old, &new);
        let of = |class| {
            lines.iter().filter(|l| l.class == class).map(|l| l.text.as_str()).collect::<Vec<_>>()
        };
        assert_eq!(of("gone"), ["line 3", "line 25"]);
        assert_eq!(of("new"), ["line 25, better"]);
        assert_eq!(of("gap"), ["…"]);
        assert!(lines.len() < 20);
        assert!(diff(&old, &old).is_empty());
    }
}
