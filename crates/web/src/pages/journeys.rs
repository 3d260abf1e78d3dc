//! Journeys: one row each.

use super::{SIX_HOURS, extent_words, html};
use crate::State;
use crate::error::PageError;
use crate::format::{self, NO_DATA};
use crate::frame::{Frame, tone};
use crate::limits::query;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::steps::step_samples;
use cadentis_core::calendar::Stretch;
use cadentis_core::finding::{Finding, LocationChecks};
use cadentis_core::goal::{Counted, Standing};
use cadentis_core::journey::Step;
use cadentis_core::run::Outcome;
use cadentis_core::stats::Samples;
use cadentis_core::{finding, journey};
use cadentis_store::runs::Run;
use cadentis_store::sites::Journey;
use serde::Deserialize;

#[derive(Template)]
#[template(path = "journeys.html")]
struct Page {
    frame: Frame,
    headline: String,
    rows: Vec<Row>,
    /// Steps in trouble, in all journeys shown.
    steps: Vec<StepInTrouble>,
    statuses: Vec<(&'static str, bool)>,
    tags: Vec<(String, bool)>,
    owners: Vec<(String, bool)>,
    environments: Vec<(String, bool)>,
    places: Vec<(String, String, bool)>,
    find: String,
    trouble: bool,
    from: String,
    to: String,
    against: &'static str,
}

struct Row {
    slug: String,
    name: String,
    says: String,
    tone: &'static str,
    height: f64,
    /// Location, top, and its bars: (left, outcome, how far below the top they begin).
    recent: Vec<(String, f64, Vec<RecentBar>)>,
    availability: String,
    availability_tone: &'static str,
    median: String,
    p75: String,
    p75_tone: &'static str,
    p95: String,
    budget: String,
    runs: String,
    every: String,
    /// Tags and owner.
    about: String,
}

/// What the address narrows the list by.
#[derive(Debug, Default, Deserialize)]
struct JourneysQuery {
    status: Option<String>,
    tag: Option<String>,
    owner: Option<String>,
    environment: Option<String>,
    location: Option<String>,
    find: Option<String>,
    trouble: Option<String>,
}

impl JourneysQuery {
    /// Archived journeys are shown only when asked for.
    fn status(&self) -> &str {
        self.status.as_deref().filter(|l| !l.is_empty()).unwrap_or("current")
    }

    fn wants(&self, j: &Journey, locations: &[String]) -> bool {
        let is = |wanted: &Option<String>, of: &dyn Fn(&str) -> bool| {
            wanted.as_deref().filter(|w| !w.is_empty()).is_none_or(of)
        };
        let status = match self.status() {
            "any" => true,
            "current" => j.status != "archived",
            status => j.status == status,
        };
        let find = |words: &str| j.name.to_lowercase().contains(&words.trim().to_lowercase());
        status
            && is(&self.tag, &|t| j.tags.iter().any(|tag| tag == t))
            && is(&self.owner, &|o| j.owner == o)
            && is(&self.environment, &|e| j.environment == e)
            && is(&self.location, &|l| locations.iter().any(|slug| slug == l))
            && is(&self.find, &find)
    }
}

/// A step that is over its budget, or that runs fail in.
struct StepInTrouble {
    name: String,
    journey: String,
    says: String,
    tone: &'static str,
    /// The newest such run, at that step.
    link: String,
}

/// From so many runs that failed in a step on it is told.
const LEAST_FAILED: usize = 2;

fn step_in_trouble(frame: &Frame, j: &Journey, runs: &Counted<Run>, nth: usize, step: &Step) -> Option<StepInTrouble> {
    let told = |tone, says: String, newest: Option<&Run>| StepInTrouble {
        name: step.name.clone(),
        journey: j.name.clone(),
        says,
        tone,
        link: newest.map_or_else(
            || format!("/journeys/{}?{}", j.slug, frame.query),
            |r| format!("/runs/{}?step={nth}&{}", r.id, frame.query),
        ),
    };
    // A failed run ends with the step that failed.
    let failed_here = |r: &&Run| r.outcome == Outcome::Failed && r.steps_ms.len() == nth + 1;
    let failed: Vec<&Run> = runs.iter().filter(failed_here).collect();
    if failed.len() >= LEAST_FAILED {
        return Some(told("broken", format!("{} runs failed in it", failed.len()), failed.last().copied()));
    }
    let budget = step.within_ms.map(|ms| ms as f64)?;
    let reading = step_samples(runs.iter(), nth).reading(0.75);
    if Standing::of(&reading, budget) != Standing::Strained {
        return None;
    }
    let over = |r: &&Run| r.steps_ms.get(nth).is_some_and(|ms| f64::from(*ms) > budget);
    let says = format!("p75 {} of {:.1} s", format::reading_s(&reading), budget / 1000.0);
    Some(told("strained", says, runs.iter().rev().find(over)))
}

type RecentBar = (f64, &'static str, f64);

/// Bars a location's strip of recent runs holds.
const RECENT: usize = 44;

pub async fn page(state: web::Data<State>, request: HttpRequest) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(&state, &request, "Journeys", SIX_HOURS).await?;
    let past = frame.past();
    let mut rows = Vec::new();
    let mut troubled = 0;
    let wanted = query::<JourneysQuery>(&request)?;
    let all = state.db.journeys(frame.site.id).await?;
    let (mut steps, mut places) = (Vec::new(), Vec::new());
    let listed = |wanted: &Option<String>, mut all: Vec<String>| -> Vec<(String, bool)> {
        all.sort();
        all.dedup();
        all.into_iter().filter(|t| !t.is_empty()).map(|t| (t.clone(), wanted.as_deref() == Some(t.as_str()))).collect()
    };
    let tags = listed(&wanted.tag, all.iter().flat_map(|j| j.tags.clone()).collect());
    let owners = listed(&wanted.owner, all.iter().map(|j| j.owner.clone()).collect());
    let environments = listed(&wanted.environment, all.iter().map(|j| j.environment.clone()).collect());
    let known = all.len();
    for j in all {
        let locations = state.db.locations_of(&j).await?;
        let slugs: Vec<String> = locations.iter().map(|(l, _)| l.slug.clone()).collect();
        places.extend(locations.iter().map(|(l, _)| (l.slug.clone(), l.name.clone())));
        if !wanted.wants(&j, &slugs) {
            continue;
        }
        let runs = state.db.counted_runs(j.id, frame.site.id, past).await?;
        let script = journey::parse(&j.script).ok();
        let tally = runs.tally();
        let through = Samples::new(runs.through().map(|r| r.duration_ms));
        let p75 = through.reading(0.75);
        let budget = script.as_ref().and_then(|s| s.within_ms).map(|ms| ms as f64);
        let mut recent = Vec::new();
        let mut played = Vec::new();
        for (nth, (l, _)) in locations.iter().enumerate() {
            let here = runs.filtered(|r| r.location_id == l.id);
            let most = here.all().iter().map(|r| r.duration_ms).fold(1.0, f64::max);
            let newest: Vec<(&Run, bool)> = here.drawn().rev().take(RECENT).collect();
            let bars = newest.iter().rev().enumerate().map(|(i, (r, counts))| {
                let word = if *counts { r.outcome.word() } else { "left-out" };
                let low = if r.outcome.got_through() { 10.0 * (1.0 - (r.duration_ms / most).min(1.0)) } else { 4.0 };
                (94.0 + i as f64 * 6.0, word, low.min(8.0))
            });
            recent.push((l.name.clone(), nth as f64 * 13.0 + 1.0, bars.collect()));
            played.push(LocationChecks { location: &l.name, checks: here.checks().collect() });
        }
        let worst = finding::order(finding::of_journey(&j.name, &played)).into_iter().next();
        let lasts = |f: &Finding| f.until.is_none() && matches!(f.state, Standing::Broken | Standing::Strained);
        let in_trouble = worst.as_ref().is_some_and(lasts);
        if wanted.trouble.is_some() && !in_trouble {
            continue;
        }
        troubled += usize::from(in_trouble);
        for (nth, step) in script.iter().flat_map(|s| s.counted_steps().enumerate()) {
            steps.extend(step_in_trouble(&frame, &j, &runs, nth, step));
        }
        let status = match j.status.as_str() {
            "paused" => "Paused. ",
            "archived" => "Archived. ",
            "finished" => "Finished. ",
            _ => "",
        };
        let (says, state_tone) = match worst {
            None if !status.is_empty() && runs.all().is_empty() => (String::new(), "nodata"),
            Some(f) if f.until.is_some() => (format!("{} {}", f.says, extent_words(&frame, &f)), "within"),
            Some(f) => (format!("{} {}", f.says, extent_words(&frame, &f)), tone(f.state)),
            None if runs.all().is_empty() => ("Waiting for its first run in this stretch.".into(), "nodata"),
            None => ("Gets through within its budget from every location.".into(), "within"),
        };
        let seconds = |p: f64| through.reading(p).value.map_or(NO_DATA.into(), format::seconds);
        let owner = Some(j.owner.as_str()).filter(|o| !o.is_empty()).map(|o| format!("of {o}"));
        let weight = (!j.essential).then(|| "not essential".to_string());
        rows.push(Row {
            every: format!("{}", f64::from(j.every_s) / 60.0),
            about: owner.into_iter().chain(weight).chain(j.tags).collect::<Vec<_>>().join(" · "),
            slug: j.slug,
            name: j.name,
            says: format!("{status}{says}"),
            tone: state_tone,
            height: locations.len() as f64 * 13.0,
            recent,
            availability: format::percent(tally.availability(), 2, Some(1.0)),
            availability_tone: tone(Standing::of_share(tally.availability(), 1.0)),
            median: seconds(0.5),
            p75: seconds(0.75),
            p75_tone: budget.map_or("within", |b| tone(Standing::of(&p75, b))),
            p95: seconds(0.95),
            budget: budget.map_or("–".into(), |b| format!("{:.1}", b / 1000.0)),
            runs: format::thousands(tally.all()),
        });
    }
    let headline = match troubled {
        _ if rows.is_empty() => format!("Journeys: none of {known} is like that"),
        0 => "Journeys: all get through within their budgets".to_string(),
        n => format!("Journeys: {n} of {} in trouble", rows.len()),
    };
    places.sort();
    places.dedup();
    let chosen = |slug: &String| wanted.location.as_ref() == Some(slug);
    html(&Page {
        headline,
        rows,
        steps,
        statuses: ["current", "active", "paused", "finished", "archived", "any"]
            .map(|l| (l, l == wanted.status()))
            .to_vec(),
        tags,
        owners,
        environments,
        places: places.into_iter().map(|(slug, name)| (slug.clone(), name, chosen(&slug))).collect(),
        find: wanted.find.clone().unwrap_or_default(),
        trouble: wanted.trouble.is_some(),
        from: Stretch::moment(frame.stretch.from),
        to: Stretch::moment(frame.stretch.to),
        against: frame.against_kind(),
        frame,
    })
}
