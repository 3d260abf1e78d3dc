//! Journeys: one row each.

pub mod journey;
pub mod runs;
pub mod weeks;

use crate::State;
use crate::error::PageError;
use crate::format::{self, NO_DATA};
use crate::frame::{Frame, tone};
use crate::limits::query;
use crate::respond::{SIX_HOURS, html};
use crate::view::Choice;
use crate::words::extent_words;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::journeys::{self, StepTrouble, TroubledStep};
use cadentis_answers::kept::Run;
use cadentis_answers::kept::{Journey, Location};
use cadentis_answers::now::At;
use cadentis_answers::played::Here;
use cadentis_core::calendar::Stretch;
use cadentis_core::goal::Standing;
use cadentis_core::stats::Reading;
use serde::Deserialize;

#[derive(Template)]
#[template(path = "journeys.html")]
struct Page {
    frame: Frame,
    headline: String,
    /// Goals in danger.
    promised: Vec<Promised>,
    rows: Vec<Row>,
    /// Steps in trouble, in all journeys shown.
    steps: Vec<StepInTrouble>,
    statuses: Vec<Choice>,
    tags: Vec<Choice>,
    owners: Vec<Choice>,
    environments: Vec<Choice>,
    places: Vec<Choice>,
    find: String,
    trouble: bool,
    from: String,
    to: String,
    against: &'static str,
}

/// A goal in danger.
struct Promised {
    tone: &'static str,
    says: String,
    extent: String,
    evidence: String,
    link: String,
}

struct Row {
    slug: String,
    name: String,
    says: String,
    tone: &'static str,
    height: f64,
    recent: Vec<Recent>,
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

    fn wants(&self, j: &Journey, locations: &[Location]) -> bool {
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
            && is(&self.location, &|l| locations.iter().any(|at| at.slug == l))
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

fn step_in_trouble(frame: &Frame, j: &Journey, step: &TroubledStep) -> StepInTrouble {
    let (tone, says) = match &step.trouble {
        StepTrouble::Failed(runs) => ("broken", format!("{runs} runs failed in it")),
        StepTrouble::Over { p75, budget_ms } => {
            ("strained", format!("p75 {} of {:.1} s", format::reading_s(p75), budget_ms / 1000.0))
        }
    };
    StepInTrouble {
        name: step.name.clone(),
        journey: j.name.clone(),
        says,
        tone,
        link: step.newest.map_or_else(
            || format!("{}/journeys/{}?{}", frame.base, j.slug, frame.query),
            |id| format!("{}/runs/{id}?step={}&{}", frame.base, step.nth, frame.query),
        ),
    }
}

/// The newest runs of a location as bars.
struct Recent {
    location: String,
    top: f64,
    bars: Vec<RecentBar>,
}

struct RecentBar {
    x: f64,
    outcome: &'static str,
    /// How far below the top it begins.
    low: f64,
}

/// Bars a location's strip of recent runs holds.
const RECENT: usize = 44;

pub async fn page(
    state: web::Data<State>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(&state, &request, "Journeys", SIX_HOURS).await?;
    let wanted = query::<JourneysQuery>(&request)?;
    let range = frame.range();
    let promised = async {
        match frame.stretch.contains(frame.now) {
            true => journeys::promised(&state.answers, &frame.site, frame.now).await,
            // What was in danger then is told on the page of goals.
            false => Ok(Vec::new()),
        }
    };
    let (found, promised) = futures::try_join!(
        journeys::ask(&state.answers, frame.site.id, &range, |j, at| wanted.wants(j, at)),
        promised
    )?;
    let listed = |wanted: &Option<String>, mut all: Vec<String>| -> Vec<Choice> {
        all.sort();
        all.dedup();
        all.into_iter()
            .filter(|t| !t.is_empty())
            .map(|t| Choice::of(&t, wanted.as_deref() == Some(t.as_str())))
            .collect()
    };
    let all = || found.known.iter().map(|(j, _)| j);
    let tags = listed(&wanted.tag, all().flat_map(|j| j.tags.clone()).collect());
    let owners = listed(&wanted.owner, all().map(|j| j.owner.clone()).collect());
    let environments = listed(&wanted.environment, all().map(|j| j.environment.clone()).collect());
    let known = found.known.len();
    let played_at = found.known.iter().flat_map(|(_, at)| at);
    let mut places: Vec<(String, String)> =
        played_at.map(|l| (l.slug.clone(), l.name.clone())).collect();
    let mut shown: Vec<&journeys::Row> =
        found.rows.iter().filter(|r| wanted.trouble.is_none() || r.is_in_trouble()).collect();
    // Those of what is promised and in danger stand first, the worst of them on top; all others keep their order.
    let place = |id: &i32| promised.iter().position(|(of, _)| of.contains(id));
    shown.sort_by_key(|r| place(&r.played.journey.id).unwrap_or(promised.len()));
    let troubled = shown.iter().filter(|r| r.is_in_trouble()).count();
    let in_trouble = |r: &&journeys::Row| -> Vec<StepInTrouble> {
        r.steps.iter().map(|s| step_in_trouble(&frame, &r.played.journey, s)).collect()
    };
    let steps: Vec<StepInTrouble> = shown.iter().flat_map(in_trouble).collect();
    let rows: Vec<Row> = shown.iter().map(|r| row(&frame, r)).collect();
    let headline = match troubled {
        _ if rows.is_empty() => format!("Journeys: none of {known} is like that"),
        0 => "Journeys: all get through within their budgets".to_string(),
        n => format!("Journeys: {n} of {} in trouble", rows.len()),
    };
    places.sort();
    places.dedup();
    let chosen = |slug: &String| wanted.location.as_ref() == Some(slug);
    let told = promised.into_iter().map(|(_, m)| Promised {
        tone: tone(m.finding.state),
        extent: m.finding.since.map_or(String::new(), |_| extent_words(&frame, &m.finding)),
        says: m.finding.says,
        evidence: m.finding.evidence,
        link: match m.at {
            At::Goal(id) => format!("{}/goals?{}#goal-{id}", frame.base, frame.query),
            _ => format!("{}/goals?{}", frame.base, frame.query),
        },
    });
    html(&Page {
        promised: told.collect(),
        headline,
        rows,
        steps,
        statuses: ["current", "active", "paused", "finished", "archived", "any"]
            .map(|l| Choice::of(l, l == wanted.status()))
            .to_vec(),
        tags,
        owners,
        environments,
        places: places
            .into_iter()
            .map(|(slug, name)| Choice::new(&slug, name, chosen(&slug)))
            .collect(),
        find: wanted.find.clone().unwrap_or_default(),
        trouble: wanted.trouble.is_some(),
        from: Stretch::moment(frame.stretch.from),
        to: Stretch::moment(frame.stretch.to),
        against: frame.against_kind(),
        frame,
    })
}

/// The newest runs of each location as bars.
fn recent(r: &journeys::Row) -> Vec<Recent> {
    let locations = r.played.located.iter().map(|(l, _)| l.clone());
    let strip = |(nth, here): (usize, Here)| {
        let (l, here) = (here.location, here.runs);
        let most = here.all().map(|r| r.duration_ms).fold(1.0, f64::max);
        let newest: Vec<(&Run, bool)> = here.drawn().rev().take(RECENT).collect();
        let bars = newest.iter().rev().enumerate().map(|(i, (r, counts))| {
            let word = if *counts { r.outcome.word() } else { "left-out" };
            let low = if r.outcome.got_through() {
                10.0 * (1.0 - (r.duration_ms / most).min(1.0))
            } else {
                4.0
            };
            RecentBar { x: 94.0 + i as f64 * 6.0, outcome: word, low: low.min(8.0) }
        });
        Recent { location: l.name, top: nth as f64 * 13.0 + 1.0, bars: bars.collect() }
    };
    Here::each(&r.played.runs, locations).into_iter().enumerate().map(strip).collect()
}

fn row(frame: &Frame, r: &journeys::Row) -> Row {
    let (j, runs) = (&r.played.journey, &r.played.runs);
    let status = match j.status.as_str() {
        "paused" => "Paused. ",
        "archived" => "Archived. ",
        "finished" => "Finished. ",
        _ => "",
    };
    let (says, state_tone) = match &r.worst {
        None if !status.is_empty() && runs.is_empty() => (String::new(), "nodata"),
        Some(f) if f.until.is_some() => {
            (format!("{} {}", f.says, extent_words(frame, f)), "within")
        }
        Some(f) => (format!("{} {}", f.says, extent_words(frame, f)), tone(f.state)),
        None if runs.is_empty() => ("Waiting for its first run in this stretch.".into(), "nodata"),
        None => ("Gets through within its budget from every location.".into(), "within"),
    };
    let [median, p75, p95] = r.duration;
    let seconds = |r: Reading| r.value.map_or(NO_DATA.into(), format::seconds);
    let owner = Some(j.owner.as_str()).filter(|o| !o.is_empty()).map(|o| format!("of {o}"));
    let weight = (!j.essential).then(|| "not essential".to_string());
    Row {
        every: format!("{}", f64::from(j.every_s) / 60.0),
        about: owner
            .into_iter()
            .chain(weight)
            .chain(j.tags.clone())
            .collect::<Vec<_>>()
            .join(" · "),
        slug: j.slug.clone(),
        name: j.name.clone(),
        says: format!("{status}{says}"),
        tone: state_tone,
        height: r.played.located.len() as f64 * 13.0,
        recent: recent(r),
        availability: format::percent(r.tally.availability(), 2, Some(1.0)),
        availability_tone: tone(Standing::of_share(r.tally.availability(), 1.0)),
        median: seconds(median),
        p75: seconds(p75),
        p75_tone: r.budget_ms.map_or("within", |b| tone(Standing::of(&p75, b))),
        p95: seconds(p95),
        budget: r.budget_ms.map_or("–".into(), |b| format!("{:.1}", b / 1000.0)),
        runs: format::thousands(r.tally.all()),
    }
}
