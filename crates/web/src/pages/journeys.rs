//! Journeys: one row each.

use super::journey::step_samples;
use super::{SIX_HOURS, html};
use crate::State;
use crate::error::PageError;
use crate::format::{self, NO_DATA};
use crate::frame::{Frame, tone};
use crate::limits::query;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_core::calendar::Stretch;
use cadentis_core::goal::{Standing, Tally};
use cadentis_core::run::Outcome;
use cadentis_core::stats::Samples;
use cadentis_core::{finding, journey};
use cadentis_store::sites::{Journey, LeftOut};
use serde::Deserialize;

#[derive(Template)]
#[template(path = "journeys.html")]
struct Page {
    frame: Frame,
    headline: String,
    rows: Vec<Row>,
    /// Steps over their budgets, in all journeys shown: link, step, journey, reading, budget.
    steps: Vec<(String, String, String, String, String)>,
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

type RecentBar = (f64, &'static str, f64);

/// Bars a location's strip of recent runs holds.
const RECENT: usize = 44;

pub async fn page(state: web::Data<State>, request: HttpRequest) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(&state, &request, "Journeys", SIX_HOURS).await?;
    let past = frame.past();
    let maintenance = state.db.maintenance(frame.site.id, past).await?;
    let left_out = LeftOut::cover(&maintenance);
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
        let runs = state.db.runs(j.id, frame.site.id, past).await?;
        let script = journey::parse(&j.script).ok();
        let tally = Tally::of(&runs.iter().map(|r| r.check()).collect::<Vec<_>>(), &left_out);
        let through = Samples::new(runs.iter().filter(|r| r.outcome.got_through()).map(|r| r.duration_ms));
        let p75 = through.reading(0.75);
        let budget = script.as_ref().and_then(|s| s.within_ms).map(|ms| ms as f64);
        let mut recent = Vec::new();
        let mut outcomes = Vec::new();
        for (nth, (l, _)) in locations.iter().enumerate() {
            let here: Vec<_> = runs.iter().filter(|r| r.location_id == l.id).collect();
            let most = here.iter().map(|r| r.duration_ms).fold(1.0, f64::max);
            let bars = here.iter().rev().take(RECENT).rev().enumerate().map(|(i, r)| {
                let out = left_out.contains(r.due_at);
                let word = if out { "left-out" } else { r.outcome.word() };
                let low = if r.outcome.got_through() { 10.0 * (1.0 - (r.duration_ms / most).min(1.0)) } else { 4.0 };
                (94.0 + i as f64 * 6.0, word, low.min(8.0))
            });
            recent.push((l.name.clone(), nth as f64 * 13.0 + 1.0, bars.collect()));
            let counted = here.iter().filter(|r| !left_out.contains(r.due_at));
            outcomes.push((l.name.clone(), counted.map(|r| r.outcome).collect::<Vec<Outcome>>()));
        }
        let played: Vec<_> =
            outcomes.iter().map(|(l, o)| finding::LocationOutcomes { location: l, outcomes: o }).collect();
        let worst = finding::order(finding::of_journey(&j.name, &played)).into_iter().next();
        let in_trouble = worst.as_ref().is_some_and(|f| matches!(f.state, Standing::Broken | Standing::Strained));
        if wanted.trouble.is_some() && !in_trouble {
            continue;
        }
        troubled += usize::from(in_trouble);
        let counted: Vec<_> = runs.iter().filter(|r| !left_out.contains(r.due_at)).collect();
        for (nth, step) in script.iter().flat_map(|s| s.counted_steps().enumerate()) {
            let Some(budget) = step.within_ms.map(|ms| ms as f64) else { continue };
            let reading = step_samples(counted.iter().copied(), nth).reading(0.75);
            if Standing::of(&reading, budget) == Standing::Broken {
                let link = format!("/journeys/{}?{}", j.slug, frame.query);
                let limit = format!("{:.1}", budget / 1000.0);
                steps.push((link, step.name.clone(), j.name.clone(), format::reading_s(&reading), limit));
            }
        }
        let status = match j.status.as_str() {
            "paused" => "Paused. ",
            "archived" => "Archived. ",
            "finished" => "Finished. ",
            _ => "",
        };
        let (says, state_tone) = match worst {
            None if !status.is_empty() && runs.is_empty() => (String::new(), "nodata"),
            Some(f) => (f.says, tone(f.state)),
            None if runs.is_empty() => ("Waiting for its first run in this stretch.".into(), "nodata"),
            None => ("Gets through within its budget from every location.".into(), "within"),
        };
        let seconds = |p: f64| through.reading(p).value.map_or(NO_DATA.into(), format::seconds);
        let owner = Some(j.owner.as_str()).filter(|o| !o.is_empty()).map(|o| format!("of {o}"));
        let weight = (!j.essential).then(|| "a feature".to_string());
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
