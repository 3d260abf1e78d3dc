//! One run: verdict, likely cause, steps, where the time went, requests against usual ones.

pub mod har;
mod requests;

use crate::State;
use crate::access::{After, By, InSite};
use crate::diff::{DiffLine, diff};
use crate::error::PageError;
use crate::filters;
use crate::format;
use crate::frame::{Frame, base, tone_of};
use crate::limits::query;
use crate::respond::{TWELVE_HOURS, html, redirect};
use crate::words::{capital, not_saved_says};
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::changes;
use cadentis_answers::changes::journeys::NotRepaired;
use cadentis_answers::kept::{Accepted, Location, Site, Try};
use cadentis_answers::run::{self, AtRun, ExaminedStep, Which};
use cadentis_core::run::film::first_showing;
use cadentis_core::run::{
    DeviceProfile, Difference, Har, Link, Look, Looked, RunRecord, Split, StepRecord, Where,
};
use jiff::{Zoned, tz::TimeZone};
use requests::{Carried, Narrow, Requests, Whose};
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
    /// An alert on the step that the cause is of, at its limit or at half as long again as usual.
    watch: Option<String>,
    duration: String,
    usual_duration: String,
    failed_requests: usize,
    script_errors: usize,
    previous: Option<String>,
    next: Option<String>,
    others: Vec<Elsewhere>,
    kept: bool,
    steps: Vec<StepTab>,
    step_name: String,
    step_took: String,
    parts: Vec<PartBar>,
    against_usual: String,
    differences: Vec<DifferenceRow>,
    /// The film of the step that is shown, and the end of each step.
    film: Vec<Picture>,
    ends: Vec<Picture>,
    /// The requests of the step that is shown.
    asked: Requests,
    console: Vec<ConsoleRow>,
    links: Vec<LinkRow>,
    looked: Vec<LookedRow>,
    tries: Option<OtherTry>,
    /// The script as it was played.
    script: Vec<ScriptLine>,
    version: String,
    fell_back: Vec<String>,
    /// What the script would be with the rungs that held on top.
    repair: Option<Repair>,
    /// Address of this page, for downloads.
    here: String,
    /// What a form that narrows the requests has to carry on.
    filter_to: Option<Vec<Carried>>,
}

/// The nearest run at another location.
struct Elsewhere {
    name: String,
    link: String,
    tone: &'static str,
    took: String,
}

struct DifferenceRow {
    more: String,
    says: String,
}

struct ConsoleRow {
    ms: String,
    level: String,
    text: String,
}

/// The other of two tries, in words.
struct OtherTry {
    says: &'static str,
    link: Option<String>,
}

struct ScriptLine {
    text: String,
    /// Whether it is the one that failed.
    failed: bool,
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

impl PartBar {
    fn row(&self) -> String {
        format::cells(&[self.words.clone(), self.s.clone()])
    }
}

#[derive(Debug, Default, Deserialize)]
struct RunQuery {
    step: Option<usize>,
    #[serde(flatten)]
    narrow: Narrow,
}

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
    After(id): After<Uuid>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(&state, &request, "Journeys", TWELVE_HOURS).await?;
    let wanted = query::<RunQuery>(&request)?;
    let at = run::ask(&state.answers, &frame.site, id, wanted.step).await?;
    let at = at.ok_or_else(|| PageError::NotFound(format!("the run {id}")))?;
    let mut page = shown(frame, &at, &wanted.narrow);
    let link = |id: &Uuid| page.frame.run_link(id);
    page.previous = at.near.previous.as_ref().map(link);
    page.next = at.near.next.as_ref().map(link);
    page.others = at
        .near
        .elsewhere
        .iter()
        .map(|(location, r)| Elsewhere {
            name: location.name.clone(),
            link: link(&r.id),
            tone: tone_of(r.outcome),
            took: match r.outcome.got_through() {
                true => format::seconds(r.duration_ms),
                false => r.outcome.word().into(),
            },
        })
        .collect();
    page.tries = at.tries.map(|t| match t {
        Try::First(id) => OtherTry {
            says: "This is the second try; the first failed and does not count.",
            link: Some(link(&id)),
        },
        Try::Second(id) => OtherTry {
            says: "It failed, was played once more, and does not count.",
            link: Some(link(&id)),
        },
        Try::Waiting => OtherTry {
            says: "It failed and is being played once more before it counts.",
            link: None,
        },
    });
    if let Some(record) = &at.record {
        page.looked = looked_rows(record, &at.accepted, &page.frame.site.zone);
        let base = page.frame.base.clone();
        let shown = at.pictures.iter().map(|p| Shown {
            step: p.step as usize,
            at_ms: p.at_ms.map(f64::from),
            link: format!("{base}/runs/{}/pictures/{}/{}", at.run.id, p.step, p.nth),
        });
        show(&mut page, record, shown.collect());
    }
    html(&page)
}

/// `GET /trials/{id}`: a trial read like a run; it is counted nowhere.
pub async fn trial(
    state: web::Data<State>,
    After(id): After<Uuid>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(&state, &request, "Journeys", TWELVE_HOURS).await?;
    let wanted = query::<RunQuery>(&request)?;
    let at = run::trial(&state.answers, &frame.site, id, wanted.step).await?;
    let gone = || {
        let says = "it is kept for a day, and there is nothing of it before it was played";
        PageError::NotFound(format!("the trial {id}: {says}"))
    };
    let at = at.ok_or_else(gone)?;
    let mut page = shown(frame, &at, &wanted.narrow);
    page.journey = format!("{} (trial)", at.name);
    page.here = format!("{}/trials/{id}", page.frame.base);
    if let Some(record) = &at.record {
        let base = page.frame.base.clone();
        let film = |nth: usize, name: &str| format!("{base}/api/trials/{id}/film/{nth}/{name}");
        let frames = record.steps.iter().enumerate().flat_map(|(nth, s)| {
            let of_film = s.film.iter().enumerate().map(move |(i, f)| Shown {
                step: nth,
                at_ms: Some(f.at_ms),
                link: film(nth, &i.to_string()),
            });
            let end = s.picture.as_ref();
            of_film.chain(end.map(|_| Shown { step: nth, at_ms: None, link: film(nth, "end") }))
        });
        show(&mut page, record, frames.collect());
    }
    html(&page)
}

/// A picture of a step: when it was taken (`None` at the step's end), and its address.
struct Shown {
    step: usize,
    at_ms: Option<f64>,
    link: String,
}

/// Puts pictures on the page.
fn show(page: &mut Page, record: &RunRecord, pictures: Vec<Shown>) {
    let here = page.steps.iter().position(|s| s.here);
    let of_film = pictures.iter().filter(|p| Some(p.step) == here);
    let film: Vec<(f64, &str)> =
        of_film.filter_map(|p| Some((p.at_ms?, p.link.as_str()))).collect();
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
    let ends = pictures.into_iter().filter(|p| p.at_ms.is_none());
    page.ends = ends
        .map(|p| {
            let says = record.steps.get(p.step).map_or(String::new(), |s| s.name.clone());
            Picture { link: p.link, says, tags: Vec::new() }
        })
        .collect();
}

/// The record of a run, or of a trial.
async fn kept(state: &State, site: &Site, what: &str, id: Uuid) -> Result<RunRecord, PageError> {
    let which = if what == "trials" { Which::Trial } else { Which::Run };
    let record = run::record(&state.answers, site.id, which, id).await?;
    record.ok_or_else(|| PageError::NotFound(format!("details of {id}: they were not kept")))
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
    InSite(site): InSite,
    path: web::Path<(String, String, Uuid)>,
) -> Result<HttpResponse, PageError> {
    let (_, what, id) = path.into_inner();
    let record = kept(&state, &site, &what, id).await?;
    Ok(download(&format!("{id}.har"), "application/json", Har::of_run(&record).write()))
}

/// `GET /runs/{id}/log`, `GET /trials/{id}/log`: steps, marks, console and failed requests, a line each.
pub async fn log(
    state: web::Data<State>,
    InSite(site): InSite,
    path: web::Path<(String, String, Uuid)>,
) -> Result<HttpResponse, PageError> {
    let (_, what, id) = path.into_inner();
    let record = kept(&state, &site, &what, id).await?;
    Ok(download(&format!("{id}.log"), "text/plain; charset=utf-8", record.log()))
}

/// The page without what only runs, or only trials, have.
fn shown(frame: Frame, at: &AtRun, narrow: &Narrow) -> Page {
    let AtRun { run, journey, location, .. } = at;
    let record = at.record.as_ref();
    let zone = TimeZone::get(&location.zone).unwrap_or(TimeZone::UTC);
    let local = run.due_at.to_zoned(zone);
    let site_time = run.due_at.to_zoned(frame.site.zone.clone());
    let failing = record.and_then(|r| r.trouble.as_ref()).map_or(0, |t| t.line as usize);
    let line =
        |(i, text): (usize, &str)| ScriptLine { text: text.into(), failed: i + 1 == failing };
    let repair = at.version.zip(at.repaired.as_ref()).map(|(version, repaired)| Repair {
        lines: diff(&at.script, repaired),
        version,
        newest: journey.version,
    });
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
        played_by: record.map_or(String::new(), played_by),
        tone: tone_of(run.outcome),
        verdict: format!("{}.", capital(run.outcome.word())),
        trouble: run.trouble.clone().unwrap_or_default(),
        duration: format!("{} s", format::seconds(run.duration_ms)),
        usual_duration: at
            .usual_ms
            .map_or("unknown".into(), |ms| format!("{} s", format::seconds(ms))),
        script: at.script.lines().enumerate().map(line).collect(),
        version: at.version.map_or(String::new(), |v| format!("version {v}")),
        fell_back: record.map_or(Vec::new(), fell_back),
        repair,
        here: format!("{}/runs/{}", frame.base, run.id),
        kept: record.is_some(),
        frame,
        cause: String::new(),
        cause_sure: String::new(),
        watch: None,
        failed_requests: 0,
        script_errors: 0,
        previous: None,
        next: None,
        others: vec![],
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
        filter_to: None,
    };
    if let (Some(record), Some(examined)) = (record, &at.examined) {
        page.failed_requests = examined.failed_requests;
        page.script_errors = examined.script_errors;
        if let Some(c) = &examined.cause {
            page.cause_sure = format!("{}, {}", capital(c.sure.words()), c.who.words());
            page.cause = c.says.clone();
        }
        page.steps = step_tabs(record, examined.step.as_ref().map(|s| s.nth));
        if let Some(step) = &examined.step {
            let slow = &record.steps[step.nth];
            let level = slow.budget_ms.unwrap_or(slow.duration_ms);
            let of = [("journey", journey.slug.as_str()), ("step", slow.name.as_str())];
            let besides = format!("&warning={level:.0}+ms&window=30&running=3");
            let told = examined.cause.as_ref().filter(|_| !record.trial);
            page.watch = told.map(|_| page.frame.watch("p75 of step duration", &of, &besides));
            fill(&mut page, &record.steps[step.nth], step, narrow, location);
        }
    }
    page
}

fn played_by(r: &RunRecord) -> String {
    let device = DeviceProfile::of(&r.device).unwrap_or(DeviceProfile::USUAL);
    let name = device.name.to_lowercase();
    format!("played by {} in {}, {name} ({})", r.runner, r.browser, device.says())
}

fn fell_back(r: &RunRecord) -> Vec<String> {
    let says = |f: &cadentis_core::journey::FellBack| {
        format!("Line {} fell back: found by {} instead of {}.", f.line, f.found_by, f.instead_of)
    };
    r.steps.iter().flat_map(|s| &s.fell_back).map(says).collect()
}

fn step_tabs(record: &RunRecord, shown: Option<usize>) -> Vec<StepTab> {
    let longest = record.steps.iter().map(|s| s.duration_ms).fold(0.0, f64::max);
    let tab = |(i, s): (usize, &StepRecord)| StepTab {
        name: s.name.clone(),
        took: format::seconds(s.duration_ms),
        of: s.budget_ms.map_or(String::new(), |b| format!(" of {:.1} s", b / 1000.0)),
        tone: tone_of(s.outcome),
        grow: (12.0 * s.duration_ms / longest.max(1.0)).round().clamp(1.0, 12.0) as u64,
        here: Some(i) == shown,
    };
    record.steps.iter().enumerate().map(tab).collect()
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

/// Puts the step that is looked at on the page.
fn fill(
    page: &mut Page,
    step: &StepRecord,
    examined: &ExaminedStep,
    narrow: &Narrow,
    location: &Location,
) {
    page.links = link_rows(&step.links);
    page.step_name = step.name.clone();
    let carried = page.frame.query.split('&').filter_map(|pair| pair.split_once('='));
    let carried = carried
        .map(|(name, value)| Carried { name: name.into(), value: value.replace("%3A", ":") });
    let of_step = Carried { name: "step".into(), value: examined.nth.to_string() };
    page.filter_to = Some(carried.chain([of_step]).collect());
    page.step_took = format::seconds(step.duration_ms);
    page.parts = parts(&examined.split, step.duration_ms);
    page.against_usual = against_usual(&examined.differences, examined.usual, &location.name);
    let named = examined.differences.iter().filter(|d| d.is_worth_naming() && examined.usual > 0);
    page.differences = named.take(4).map(difference_row).collect();
    let site = &page.frame.site;
    let whose = Whose { owns: &|host| site.owns(host), site };
    page.asked = Requests::of(step, &examined.split, &examined.requests, &whose, narrow);
    page.console = step
        .console
        .iter()
        .map(|c| ConsoleRow {
            ms: format!("{:.0}", c.at_ms),
            level: if c.uncaught { "uncaught".into() } else { c.level.clone() },
            text: c.text.clone(),
        })
        .collect();
}

fn difference_row(d: &Difference) -> DifferenceRow {
    let host = if d.host.is_empty() { String::new() } else { format!(" · {}", d.host) };
    DifferenceRow {
        more: format!("{} s", format::difference_s(d.extra_ms())),
        says: format!(
            "{}{host}: {} s, usually {} s ({} of {} needed less)",
            d.what.words(),
            format::seconds(d.ms),
            format::seconds(d.usual_ms),
            d.less,
            d.of
        ),
    }
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
    InSite(site): InSite,
    After(id): After<Uuid>,
    By(by): By,
) -> Result<HttpResponse, PageError> {
    let refused = |says: &str| Err(PageError::Refused(says.into()));
    match changes::journeys::repair(&state.answers, &by, &site, id).await? {
        Ok((slug, version)) => {
            Ok(redirect(&format!("{}/journeys/{slug}/script?compare={version}", base(&site))))
        }
        Err(NotRepaired::NoRun) => Err(PageError::NotFound(format!("details of the run {id}"))),
        Err(NotRepaired::NoVersion) => refused("The version that was played is not kept any more."),
        Err(NotRepaired::NothingToDo) => {
            refused("Nothing fell back in this run: there is nothing to repair.")
        }
        Err(NotRepaired::NotSaved(why)) => refused(&not_saved_says(&why, &site.zone)),
    }
}

/// `POST /runs/{id}/accept`: what this run saw of the pages is what later runs are compared with.
pub async fn accept(
    state: web::Data<State>,
    InSite(site): InSite,
    After(id): After<Uuid>,
    By(by): By,
) -> Result<HttpResponse, PageError> {
    match changes::journeys::accept(&state.answers, &by, &site, id).await? {
        true => Ok(redirect(&format!("{}/runs/{id}", base(&site)))),
        false => Err(PageError::NotFound(format!("details of the run {id}"))),
    }
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
    InSite(site): InSite,
    path: web::Path<(String, Uuid, i16, i16)>,
) -> Result<HttpResponse, PageError> {
    let (_, id, step, nth) = path.into_inner();
    let missing = || PageError::NotFound(format!("the picture of step {step} of the run {id}"));
    let picture = run::picture(&state.answers, site.id, id, step, nth).await?;
    let (mime, image) = picture.ok_or_else(missing)?;
    // Whatever a runner sends, a browser here will show it as a picture or not at all.
    let mime = if mime == "image/png" { "image/png" } else { "image/jpeg" };
    Ok(HttpResponse::Ok()
        .content_type(mime)
        .insert_header(("cache-control", "private, max-age=86400"))
        .body(image))
}

#[cfg(test)]
mod tests {
    use super::*;
    use cadentis_core::run::{Asked, Outcome, Request};
    use cadentis_core::timing::Phases;
    use jiff::tz::TimeZone;
    use proptest::prelude::*;

    fn request(start_ms: f64, connect_ms: f64, waiting_ms: f64) -> Request {
        Request {
            url: "https://book.marram.example/".into(),
            method: "GET".into(),
            kind: "document".into(),
            status: 200,
            start_ms,
            phases: Phases { connect_ms, wait_ms: waiting_ms, ..Phases::default() },
            bytes: 1_000,
            protocol: "h2".into(),
            from_cache: false,
            failed: None,
            trace: None,
            asked: Asked::default(),
        }
    }

    fn step(
        name: &str,
        duration_ms: f64,
        budget_ms: Option<f64>,
        requests: Vec<Request>,
    ) -> StepRecord {
        StepRecord { duration_ms, requests, ..StepRecord::begun(name, 0.0, budget_ms) }
    }

    proptest! {
        #[test]
        fn parts_of_a_step_stand_side_by_side_and_are_all_of_it(
            starts in prop::collection::vec((0.0..900.0f64, 0.0..200.0f64, 0.0..400.0f64), 0..6), whole in 1_000.0..4_000.0f64,
        ) {
            let requests = starts.into_iter().map(|(at, connect, wait)| request(at, connect, wait)).collect();
            let split = Split::of(&step("Search", whole, None, requests));
            let bars = parts(&split, whole);
            let told: f64 = bars.iter().map(|b| b.s.parse::<f64>().unwrap()).sum();
            prop_assert!((told - whole / 1_000.0).abs() < 0.03, "{told} of {whole}");
            prop_assert!(bars.windows(2).all(|w| w[1].x >= w[0].x && w[1].x <= w[0].x + w[0].w + 1e-6));
            prop_assert!(bars.iter().all(|b| b.x >= 0.0 && b.x <= 620.0 && !b.class.is_empty()));
        }
    }

    #[test]
    fn steps_of_a_run_are_as_wide_as_they_were_long_and_the_shown_one_is_marked() {
        let record = RunRecord {
            id: Uuid::nil(),
            started_at: jiff::Timestamp::UNIX_EPOCH,
            outcome: Outcome::Slow,
            duration_ms: 3_000.0,
            trouble: None,
            steps: vec![
                step("Open", 2_400.0, Some(2_000.0), Vec::new()),
                StepRecord { outcome: Outcome::Slow, ..step("Search", 600.0, None, Vec::new()) },
                step("Pay", 0.0, None, Vec::new()),
            ],
            browser: "Chromium 156".into(),
            runner: "runner-1".into(),
            device: "phone-4g".into(),
            trial: false,
        };
        let tabs = step_tabs(&record, Some(1));
        let told: Vec<_> = tabs.iter().map(|t| (t.grow, t.of.as_str(), t.tone, t.here)).collect();
        assert_eq!(told[0], (12, " of 2.0 s", "within", false));
        assert_eq!(told[1], (3, "", "strained", true));
        assert_eq!(told[2].0, 1, "what took no time can still be pressed");
        assert!(played_by(&record).starts_with("played by runner-1 in Chromium 156, "));
        let unknown = RunRecord { device: "a fridge".into(), ..record };
        assert!(played_by(&unknown).contains(&DeviceProfile::USUAL.name.to_lowercase()));
    }

    #[test]
    fn the_clock_of_the_site_is_told_beside_that_of_the_location_where_they_differ() {
        let at: jiff::Timestamp = "2026-11-22T10:00Z".parse().unwrap();
        let on = |zone: &str| at.to_zoned(TimeZone::get(zone).unwrap());
        assert_eq!(title_time(&on("Europe/Oslo"), &on("Europe/Oslo")), "Sun 22 Nov 11:00 CET");
        let told = title_time(&on("Europe/Lisbon"), &on("Europe/Oslo"));
        assert_eq!(told, "Sun 22 Nov 10:00 WET (11:00 CET at the site)");
    }

    #[test]
    fn a_run_without_usual_ones_is_compared_with_none_and_noise_is_said_to_be_noise() {
        let differs = |ms: f64| Difference {
            host: "book.marram.example".into(),
            what: Where::Waiting,
            ms: 1_000.0 + ms,
            usual_ms: 1_000.0,
            less: 3,
            of: 9,
        };
        assert!(
            against_usual(&[], 0, "Bergen").contains("No run of this version passed at Bergen")
        );
        let said = against_usual(&[differs(500.0), differs(-100.0)], 9, "Bergen");
        assert_eq!(said, "+0.40 s against the medians of the last 9 runs here that passed.");
        let said = against_usual(&[differs(5.0)], 9, "Bergen");
        assert!(said.ends_with("No part differs by more than noise."), "{said}");
    }
}
