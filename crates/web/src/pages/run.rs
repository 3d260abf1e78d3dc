//! One run: verdict, likely cause, steps, where the time went, requests against usual ones.

use super::now::capital;
use super::redirect;
use super::requests::{Narrow, Requests, Whose, usual_steps};
use super::script::{Changed, DiffLine, diff, keep};
use super::{TWELVE_HOURS, html};
use crate::State;
use crate::api::scripts::repaired;
use crate::error::PageError;
use crate::filters;
use crate::format;
use crate::frame::{Frame, tone_of};
use crate::limits::query;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_core::run::film::first_showing;
use cadentis_core::run::{
    DeviceProfile, Difference, Har, Link, Look, Looked, RunRecord, Split, StepRecord, Where, cause,
};
use cadentis_core::stats::{Method, Samples};
use cadentis_store::runs::{Accepted, Run, Steps, Try};
use cadentis_store::sites::{Journey, Location};
use jiff::{Timestamp, Zoned, tz::TimeZone};
use serde::Deserialize;
use uuid::Uuid;

#[derive(Template)]
#[template(path = "run.html")]
struct Page {
    frame: Frame,
    journey: String,
    journey_slug: String,
    location: String,
    title_time: String,
    both_zones: String,
    played_by: String,
    tone: &'static str,
    verdict: String,
    trouble: String,
    cause: String,
    cause_sure: String,
    duration: String,
    usual_duration: String,
    failed_requests: usize,
    script_errors: usize,
    previous: Option<String>,
    next: Option<String>,
    /// Location, link, outcome, duration.
    others: Vec<(String, String, &'static str, String)>,
    kept: bool,
    steps: Vec<StepTab>,
    step_name: String,
    step_took: String,
    parts: Vec<PartBar>,
    against_usual: String,
    differences: Vec<(String, String)>,
    /// The film of the step that is shown, and the end of each step.
    film: Vec<Picture>,
    ends: Vec<Picture>,
    /// The requests of the step that is shown.
    asked: Requests,
    console: Vec<(String, String, String)>,
    links: Vec<LinkRow>,
    looked: Vec<LookedRow>,
    /// The other of two tries, in words.
    tries: Option<(String, Option<String>)>,
    /// The script as it was played: line, text, whether it is the one that failed.
    script: Vec<(usize, String, bool)>,
    version: String,
    fell_back: Vec<String>,
    /// What the script would be with the rungs that held on top.
    repair: Option<Repair>,
    /// Address of this page, for downloads.
    here: String,
    /// What a form that narrows the requests has to carry on.
    filter_to: Option<Vec<(String, String)>>,
}

struct LinkRow {
    address: String,
    answer: String,
    on: String,
    text: String,
    depth: u32,
    ms: String,
    broken: bool,
}

/// A look at a page, against what was accepted.
struct LookedRow {
    what: String,
    says: String,
    tone: &'static str,
    lines: Vec<DiffLine>,
}

/// A picture of the page: its address, what stands below it, and moments that fall on it.
struct Picture {
    link: String,
    says: String,
    tags: Vec<String>,
}

struct StepTab {
    name: String,
    took: String,
    of: String,
    tone: &'static str,
    /// Its share of the step bar, in twelfths.
    grow: u64,
    here: bool,
}

struct PartBar {
    class: &'static str,
    x: f64,
    w: f64,
    words: String,
    s: String,
    labelled: bool,
}

#[derive(Debug, Default, Deserialize)]
struct RunQuery {
    step: Option<usize>,
    #[serde(flatten)]
    narrow: Narrow,
}

/// Usual runs a run is compared with.
const USUAL: i64 = 20;
fn class_of(what: Where) -> &'static str {
    match what {
        Where::Queueing => "queueing",
        Where::Connecting => "connect",
        Where::Waiting => "waiting",
        Where::Receiving => "receiving",
        Where::Browser => "browser",
    }
}

pub async fn page(
    state: web::Data<State>,
    id: web::Path<Uuid>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(&state, &request, "Journeys", TWELVE_HOURS).await?;
    let wanted = query::<RunQuery>(&request)?;
    let run =
        state.db.run(*id).await?.ok_or_else(|| PageError::NotFound(format!("the run {id}")))?;
    let missing = || PageError::NotFound("the journey or location of this run".into());
    let (journeys, locations, record, pictures) = futures::try_join!(
        state.db.journeys(run.site_id),
        state.db.locations(),
        state.db.record(&run),
        state.db.pictures(&run),
    )?;
    let journey = journeys.iter().find(|j| j.id == run.journey_id).ok_or_else(missing)?;
    let location = locations.iter().find(|l| l.id == run.location_id).ok_or_else(missing)?;
    let (near, usual, tries, accepted) = futures::try_join!(
        state.db.runs_around(&run, i64::from(journey.every_s) * 2),
        state.db.usual_records(&run, USUAL),
        state.db.other_try(run.id),
        state.db.accepted(run.journey_id),
    )?;
    let here = |r: &&cadentis_store::runs::Run| r.location_id == run.location_id;
    let previous = near
        .iter()
        .filter(here)
        .rev()
        .find(|r| r.due_at < run.due_at)
        .map(|r| frame.run_link(&r.id));
    let next =
        near.iter().filter(here).find(|r| r.due_at > run.due_at).map(|r| frame.run_link(&r.id));
    let others = locations.iter().filter(|l| l.id != run.location_id).filter_map(|l| {
        let nearest = near
            .iter()
            .filter(|r| r.location_id == l.id)
            .min_by_key(|r| r.due_at.duration_since(run.due_at).abs())?;
        let took = if nearest.outcome.got_through() {
            format::seconds(nearest.duration_ms)
        } else {
            nearest.outcome.word().into()
        };
        Some((l.name.clone(), frame.run_link(&nearest.id), tone_of(nearest.outcome), took))
    });
    let others = others.collect();
    let (version, script) = state.db.script_played(&run, journey).await?;
    let played = RunContext {
        run: &run,
        journey,
        location,
        version,
        script: &script,
        record: record.as_ref(),
        usual: &usual,
    };
    let mut page = shown(frame, &played, &wanted);
    (page.previous, page.next, page.others) = (previous, next, others);
    page.tries = tries.map(|t| match t {
        Try::First(id) => (
            "This is the second try; the first failed and does not count.".into(),
            Some(page.frame.run_link(&id)),
        ),
        Try::Second(id) => (
            "It failed, was played once more, and does not count.".into(),
            Some(page.frame.run_link(&id)),
        ),
        Try::Waiting => ("It failed and is being played once more before it counts.".into(), None),
    });
    if let Some(record) = &record {
        page.looked = looked_rows(record, &accepted, &page.frame.site.zone);
        let shown = pictures.into_iter().map(|p| {
            let link = format!("/runs/{}/pictures/{}/{}", run.id, p.step, p.nth);
            (p.step as usize, p.at_ms.map(f64::from), link)
        });
        show(&mut page, record, shown.collect());
    }
    html(&page)
}

/// `GET /trials/{id}`: a trial read like a run; it is counted nowhere.
pub async fn trial(
    state: web::Data<State>,
    id: web::Path<Uuid>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(&state, &request, "Journeys", TWELVE_HOURS).await?;
    let wanted = query::<RunQuery>(&request)?;
    let id = *id;
    let gone = || PageError::NotFound(format!("the trial {id}: trials are kept for a day"));
    let trial = state.db.trial(id).await?.ok_or_else(gone)?;
    let record = trial
        .record
        .ok_or_else(|| PageError::NotFound(format!("the trial {id} has not been played yet")))?;
    let (journeys, locations) =
        futures::try_join!(state.db.journeys(trial.site_id), state.db.locations())?;
    let location = locations.iter().find(|l| l.id == trial.location_id).ok_or_else(gone)?;
    let name = cadentis_core::journey::parse(&trial.script).map(|j| j.name).unwrap_or_default();
    // What is usual is what the journey of the same name does.
    let journey = journeys.iter().find(|j| j.name == name).or(journeys.first()).ok_or_else(gone)?;
    let run = Run {
        id,
        site_id: trial.site_id,
        journey_id: journey.id,
        location_id: location.id,
        due_at: trial.asked_at,
        outcome: record.outcome,
        duration_ms: record.duration_ms,
        steps_ms: Steps::new(),
        trouble: record.trouble.as_ref().map(|t| t.says.clone()),
        split_ms: None,
    };
    let usual =
        if journey.name == name { state.db.usual_records(&run, USUAL).await? } else { Vec::new() };
    let played = RunContext {
        run: &run,
        journey,
        location,
        version: None,
        script: &trial.script,
        record: Some(&record),
        usual: &usual,
    };
    let mut page = shown(frame, &played, &wanted);
    page.journey = format!("{name} (trial)");
    page.here = format!("/trials/{id}");
    let frames = record.steps.iter().enumerate().flat_map(|(nth, s)| {
        let frame = move |(i, f): (usize, &cadentis_core::run::Frame)| {
            (nth, Some(f.at_ms), format!("/api/trials/{id}/film/{nth}/{i}"))
        };
        let end =
            s.picture.as_ref().map(|_| (nth, None, format!("/api/trials/{id}/film/{nth}/end")));
        s.film.iter().enumerate().map(frame).chain(end)
    });
    show(&mut page, &record, frames.collect());
    html(&page)
}

/// Puts pictures on the page: of which step, when (`None` at its end), and the address.
fn show(page: &mut Page, record: &RunRecord, pictures: Vec<(usize, Option<f64>, String)>) {
    let here = page.steps.iter().position(|s| s.here);
    let of_film = pictures.iter().filter(|(step, at, _)| Some(*step) == here && at.is_some());
    let film: Vec<(f64, &String)> =
        of_film.filter_map(|(_, at, link)| Some(((*at)?, link))).collect();
    let moments: Vec<f64> = film.iter().map(|(at, _)| *at).collect();
    page.film = film
        .iter()
        .map(|(at, link)| {
            let says = format!("{} s", format::seconds(*at));
            Picture { link: link.to_string(), says, tags: Vec::new() }
        })
        .collect();
    if let Some(step) = here.and_then(|i| record.steps.get(i)) {
        let painted = [("FCP", step.vitals.fcp_ms), ("LCP", step.vitals.lcp_ms)];
        for (name, at) in painted.into_iter().filter_map(|(name, at)| Some((name, at?))) {
            if let Some(nth) = first_showing(&moments, at) {
                page.film[nth].tags.push(format!("{name} {}", format::seconds(at)));
            }
        }
    }
    let ends = pictures.into_iter().filter(|(_, at, _)| at.is_none());
    page.ends = ends
        .map(|(step, _, link)| {
            let says = record.steps.get(step).map_or(String::new(), |s| s.name.clone());
            Picture { link, says, tags: Vec::new() }
        })
        .collect();
}

/// The record of a run, or of a trial.
async fn kept(state: &State, what: &str, id: Uuid) -> Result<RunRecord, PageError> {
    let gone = || PageError::NotFound(format!("details of {id}: they were not kept"));
    match what {
        "trials" => state.db.trial(id).await?.and_then(|t| t.record).ok_or_else(gone),
        _ => {
            let run = state.db.run(id).await?.ok_or_else(gone)?;
            state.db.record(&run).await?.ok_or_else(gone)
        }
    }
}

fn download(name: &str, kind: &str, body: String) -> HttpResponse {
    HttpResponse::Ok()
        .content_type(kind)
        .insert_header(("content-disposition", format!("attachment; filename=\"{name}\"")))
        .body(body)
}

/// `GET /runs/{id}/har`, `GET /trials/{id}/har`: requests as HAR 1.2.
pub async fn har(
    state: web::Data<State>,
    path: web::Path<(String, Uuid)>,
) -> Result<HttpResponse, PageError> {
    let (what, id) = path.into_inner();
    let record = kept(&state, &what, id).await?;
    Ok(download(&format!("{id}.har"), "application/json", Har::of_run(&record).write()))
}

/// `GET /runs/{id}/log`, `GET /trials/{id}/log`: steps, marks, console and failed requests, a line each.
pub async fn log(
    state: web::Data<State>,
    path: web::Path<(String, Uuid)>,
) -> Result<HttpResponse, PageError> {
    let (what, id) = path.into_inner();
    let record = kept(&state, &what, id).await?;
    Ok(download(&format!("{id}.log"), "text/plain; charset=utf-8", record.log()))
}

/// A run or trial, and what it is read beside.
struct RunContext<'a> {
    run: &'a Run,
    journey: &'a Journey,
    location: &'a Location,
    /// The version of the script; `None` when it was not kept, or never saved.
    version: Option<i32>,
    script: &'a str,
    record: Option<&'a RunRecord>,
    usual: &'a [RunRecord],
}

fn shown(frame: Frame, played: &RunContext<'_>, wanted: &RunQuery) -> Page {
    let RunContext { run, journey, location, record, usual, .. } = *played;
    let zone = TimeZone::get(&location.zone).unwrap_or(TimeZone::UTC);
    let local = run.due_at.to_zoned(zone);
    let site_time = run.due_at.to_zoned(frame.site.zone.clone());
    let usual_ms =
        Samples::new(usual.iter().map(|r| r.duration_ms)).percentile(0.5, Method::NearestRank);
    let mut page = Page {
        journey: journey.name.clone(),
        journey_slug: journey.slug.clone(),
        location: location.name.clone(),
        title_time: title_time(&local, &site_time),
        both_zones: format!(
            "Due {} at {}; {} at the site ({}); {} UTC",
            local.strftime("%H:%M:%S %Z"),
            location.name,
            site_time.strftime("%H:%M:%S %Z"),
            frame.zone,
            run.due_at.strftime("%Y-%m-%d %H:%M:%S")
        ),
        played_by: record.map_or(String::new(), |r| {
            let device = DeviceProfile::of(&r.device).unwrap_or(DeviceProfile::USUAL);
            format!(
                "played by {} in {}, {} ({})",
                r.runner,
                r.browser,
                device.name.to_lowercase(),
                device.says()
            )
        }),
        tone: tone_of(run.outcome),
        verdict: format!("{}.", capital(run.outcome.word())),
        trouble: run.trouble.clone().unwrap_or_default(),
        cause: String::new(),
        cause_sure: String::new(),
        duration: format!("{} s", format::seconds(run.duration_ms)),
        usual_duration: usual_ms
            .map_or("unknown".into(), |ms| format!("{} s", format::seconds(ms))),
        failed_requests: 0,
        script_errors: 0,
        previous: None,
        next: None,
        others: vec![],
        script: vec![],
        version: String::new(),
        fell_back: vec![],
        repair: None,
        here: format!("/runs/{}", run.id),
        filter_to: None,
        kept: record.is_some(),
        steps: vec![],
        step_name: String::new(),
        step_took: String::new(),
        parts: vec![],
        against_usual: String::new(),
        differences: vec![],
        film: vec![],
        ends: vec![],
        asked: Requests::default(),
        console: vec![],
        links: vec![],
        looked: vec![],
        tries: None,
        frame,
    };
    if let Some(record) = record {
        fill(&mut page, record, usual, wanted, location);
    }
    let failing = record.and_then(|r| r.trouble.as_ref()).map_or(0, |t| t.line as usize);
    page.script = played
        .script
        .lines()
        .enumerate()
        .map(|(i, l)| (i + 1, l.to_string(), i + 1 == failing))
        .collect();
    page.version = played.version.map_or(String::new(), |v| format!("version {v}"));
    page.fell_back = record
        .iter()
        .flat_map(|r| r.steps.iter().flat_map(|s| &s.fell_back))
        .map(|f| {
            format!(
                "Line {} fell back: found by {} instead of {}.",
                f.line, f.found_by, f.instead_of
            )
        })
        .collect();
    page.repair = played.version.zip(record).and_then(|(version, record)| {
        let lines = diff(played.script, &repaired(played.script, record)?);
        Some(Repair { lines, version, newest: journey.version })
    });
    page
}

/// The moment at the location and, where clocks differ, at the site.
fn title_time(here: &Zoned, site: &Zoned) -> String {
    let local = here.strftime("%a %-d %b %H:%M %Z");
    if here.offset() == site.offset() {
        local.to_string()
    } else {
        format!("{local} ({} at the site)", site.strftime("%H:%M %Z"))
    }
}

fn fill(
    page: &mut Page,
    record: &RunRecord,
    usual: &[RunRecord],
    wanted: &RunQuery,
    location: &Location,
) {
    let narrow = &wanted.narrow;
    let owns = |host: &str| page.frame.site.owns(host);
    page.failed_requests =
        record.steps.iter().flat_map(|s| &s.requests).filter(|r| r.is_failed()).count();
    page.script_errors =
        record.steps.iter().flat_map(|s| &s.console).filter(|c| c.uncaught).count();
    let troubled = cause::trouble_step(record)
        .and_then(|t| record.steps.iter().position(|s| std::ptr::eq(s, t)));
    let troubled_usual: Vec<Split> = troubled
        .map_or(vec![], |i| usual_steps(usual, &record.steps[i].name).map(Split::of).collect());
    if let Some(c) = cause::likely_cause(record, &troubled_usual, owns) {
        page.cause_sure = format!("{}, {}", capital(c.sure.words()), c.who.words());
        page.cause = c.says;
    }
    let shown = wanted.step.filter(|i| *i < record.steps.len()).or(troubled);
    let longest = record.steps.iter().map(|s| s.duration_ms).fold(0.0, f64::max);
    page.steps = record
        .steps
        .iter()
        .enumerate()
        .map(|(i, s)| StepTab {
            name: s.name.clone(),
            took: format::seconds(s.duration_ms),
            of: s.budget_ms.map_or(String::new(), |b| format!(" of {:.1} s", b / 1000.0)),
            tone: tone_of(s.outcome),
            grow: (12.0 * s.duration_ms / longest.max(1.0)).round().clamp(1.0, 12.0) as u64,
            here: Some(i) == shown,
        })
        .collect();
    let Some(step) = shown.map(|i| &record.steps[i]) else { return };
    page.links = link_rows(&step.links);
    let splits: Vec<Split> = usual_steps(usual, &step.name).map(Split::of).collect();
    let split = Split::of(step);
    page.step_name = step.name.clone();
    let carried = page.frame.query.split('&').filter_map(|pair| pair.split_once('='));
    let carried = carried.map(|(name, value)| (name.to_string(), value.replace("%3A", ":")));
    page.filter_to =
        Some(carried.chain(shown.map(|i| ("step".to_string(), i.to_string()))).collect());
    page.step_took = format::seconds(step.duration_ms);
    page.parts = parts(&split, step.duration_ms);
    let differences = cause::differences(&split, &splits);
    page.against_usual = against_usual(&differences, splits.len(), &location.name);
    page.differences = differences
        .iter()
        .filter(|d| d.is_worth_naming() && !splits.is_empty())
        .take(4)
        .map(|d| {
            let host = if d.host.is_empty() { String::new() } else { format!(" · {}", d.host) };
            (
                format!("{} s", format::difference_s(d.extra_ms())),
                format!(
                    "{}{host}: {} s, usually {} s ({} of {} needed less)",
                    d.what.words(),
                    format::seconds(d.ms),
                    format::seconds(d.usual_ms),
                    d.less,
                    d.of
                ),
            )
        })
        .collect();
    let steps: Vec<&StepRecord> = usual_steps(usual, &step.name).collect();
    let site = &page.frame.site;
    page.asked =
        Requests::of(step, &split, &steps, &Whose { owns: &|host| site.owns(host), site }, narrow);
    page.console = step
        .console
        .iter()
        .map(|c| {
            (
                format!("{:.0}", c.at_ms),
                if c.uncaught { "uncaught".into() } else { c.level.clone() },
                c.text.clone(),
            )
        })
        .collect();
}

/// Broken ones first.
fn link_rows(links: &[Link]) -> Vec<LinkRow> {
    let mut sorted: Vec<&Link> = links.iter().collect();
    sorted.sort_by_key(|l| !l.is_broken());
    let row = |l: &Link| LinkRow {
        address: l.address.clone(),
        answer: l.failed.clone().unwrap_or_else(|| l.status.to_string()),
        on: l.on.clone(),
        text: l.text.clone(),
        depth: l.depth,
        ms: format!("{:.0}", l.ms),
        broken: l.is_broken(),
    };
    sorted.into_iter().map(row).collect()
}

/// Looks at pages against what is accepted now; a picture has no lines to show.
fn looked_rows(record: &RunRecord, accepted: &[Accepted], zone: &TimeZone) -> Vec<LookedRow> {
    let row = |l: &Looked| {
        let known = accepted.iter().find(|a| a.key == l.key);
        let says = match (&l.changed, known) {
            (Some(says), _) => says.clone(),
            (None, None) => "Nothing was accepted yet.".into(),
            (None, Some(_)) => "As it was accepted.".into(),
        };
        let by = known.map_or(String::new(), |a| {
            format!(
                " Accepted now: by {}, {}.",
                a.author,
                a.at.to_zoned(zone.clone()).strftime("%-d %b %Y %H:%M %Z")
            )
        });
        let old = known.map_or("", |a| a.seen.as_str());
        LookedRow {
            what: l.key.clone(),
            says: format!("{says}{by}"),
            tone: if l.changed.is_some() { "broken" } else { "within" },
            lines: if l.look == Look::Picture || known.is_none() {
                Vec::new()
            } else {
                diff(old, &l.seen)
            },
        }
    };
    record.steps.iter().flat_map(|s| &s.looked).map(row).collect()
}

#[derive(Deserialize)]
pub struct Accepting {
    author: String,
}

/// The repaired script beside the one that was played.
struct Repair {
    lines: Vec<DiffLine>,
    version: i32,
    newest: i32,
}

/// `POST /runs/{id}/repair`: the script with what held in this run on top becomes the next version, unless it was
/// changed since.
pub async fn repair(
    state: web::Data<State>,
    id: web::Path<Uuid>,
    by: web::Form<Accepting>,
) -> Result<HttpResponse, PageError> {
    let run =
        state.db.run(*id).await?.ok_or_else(|| PageError::NotFound(format!("the run {id}")))?;
    let record = kept(&state, "runs", *id).await?;
    let site = state.site().await?;
    let journeys = state.db.journeys(site.id).await?;
    let journey = journeys.into_iter().find(|j| j.id == run.journey_id);
    let journey =
        journey.ok_or_else(|| PageError::NotFound(format!("the journey of the run {id}")))?;
    let (Some(version), script) = state.db.script_played(&run, &journey).await? else {
        return Err(PageError::Refused("The version that was played is not kept any more.".into()));
    };
    let script = repaired(&script, &record).ok_or_else(|| {
        PageError::Refused("Nothing fell back in this run: there is nothing to repair.".into())
    })?;
    let note = format!("repaired from the run of {}", run.due_at.strftime("%Y-%m-%d %H:%M UTC"));
    let changed = Changed { script, based_on: version, author: by.author.clone(), note };
    match keep(&state, &site, &journey, &changed).await? {
        Ok(_) => Ok(redirect(&format!("/journeys/{}/script?compare={version}", journey.slug))),
        Err(why) => Err(PageError::Refused(why.says())),
    }
}

/// `POST /runs/{id}/accept`: what this run saw of the pages is what later runs are compared with.
pub async fn accept(
    state: web::Data<State>,
    id: web::Path<Uuid>,
    accepting: web::Form<Accepting>,
) -> Result<HttpResponse, PageError> {
    let run =
        state.db.run(*id).await?.ok_or_else(|| PageError::NotFound(format!("the run {id}")))?;
    let record = kept(&state, "runs", *id).await?;
    let looked: Vec<&Looked> = record.steps.iter().flat_map(|s| &s.looked).collect();
    let author: String = accepting.author.trim().chars().take(80).collect();
    let author = if author.is_empty() { "somebody" } else { &author };
    state.db.accept(run.journey_id, &looked, author, Timestamp::now()).await?;
    Ok(redirect(&format!("/runs/{id}")))
}

fn parts(split: &Split, whole_ms: f64) -> Vec<PartBar> {
    let mut x = 0.0;
    [Where::Queueing, Where::Connecting, Where::Waiting, Where::Receiving, Where::Browser]
        .into_iter()
        .filter_map(|what| {
            let ms = split.total(what);
            let w = 620.0 * ms / whole_ms.max(1.0);
            let bar = PartBar {
                class: class_of(what),
                x,
                w: w.max(0.5),
                words: what.words().into(),
                s: format::seconds(ms),
                labelled: w > 96.0,
            };
            x += w;
            (ms > 0.0).then_some(bar)
        })
        .collect()
}

fn against_usual(differences: &[Difference], usual: usize, location: &str) -> String {
    if usual == 0 {
        return format!(
            "No run of this version passed at {location} in the day before that it could be compared with."
        );
    }
    let more: f64 = differences.iter().map(Difference::extra_ms).sum();
    let rest = if differences.iter().any(Difference::is_worth_naming) {
        ""
    } else {
        " No part differs by more than noise."
    };
    format!(
        "{} s against the medians of the last {usual} runs here that passed.{rest}",
        format::difference_s(more)
    )
}

/// The picture at the end of a step.
pub async fn picture(
    state: web::Data<State>,
    path: web::Path<(Uuid, i16, i16)>,
) -> Result<HttpResponse, PageError> {
    let (id, step, nth) = path.into_inner();
    let missing = || PageError::NotFound(format!("the picture of step {step} of the run {id}"));
    let run = state.db.run(id).await?.ok_or_else(missing)?;
    let (mime, image) = state.db.picture(&run, step, nth).await?.ok_or_else(missing)?;
    // Whatever a runner sends, a browser here will show it as a picture or not at all.
    let mime = if mime == "image/png" { "image/png" } else { "image/jpeg" };
    Ok(HttpResponse::Ok()
        .content_type(mime)
        .insert_header(("cache-control", "max-age=86400"))
        .body(image))
}
