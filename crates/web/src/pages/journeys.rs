//! Journeys: one row each.

use super::{SIX_HOURS, html};
use crate::State;
use crate::error::PageError;
use crate::format::{self, NO_DATA};
use crate::frame::{Frame, tone};
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_core::goal::{State as Standing, Tally};
use cadentis_core::run::Outcome;
use cadentis_core::stats::Samples;
use cadentis_core::{finding, journey};
use cadentis_store::sites::LeftOut;

#[derive(Template)]
#[template(path = "journeys.html")]
struct Page {
    frame: Frame,
    headline: String,
    rows: Vec<Row>,
    every: i32,
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
    let mut every = 0;
    for j in state.db.journeys(frame.site.id).await? {
        every = j.every_s / 60;
        let runs = state.db.runs(j.id, frame.site.id, past).await?;
        let locations = state.db.locations_of(&j).await?;
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
        let played: Vec<_> = outcomes.iter().map(|(l, o)| finding::Played { location: l, outcomes: o }).collect();
        let worst = finding::order(finding::of_journey(&j.name, &played)).into_iter().next();
        troubled +=
            usize::from(worst.as_ref().is_some_and(|f| matches!(f.state, Standing::Broken | Standing::Strained)));
        let (says, state_tone) = match worst {
            Some(f) => (f.says, tone(f.state)),
            None if runs.is_empty() => ("Waiting for its first run in this stretch.".into(), "nodata"),
            None => ("Gets through within its budget from every location.".into(), "within"),
        };
        let seconds = |p: f64| through.reading(p).value.map_or(NO_DATA.into(), format::seconds);
        rows.push(Row {
            slug: j.slug,
            name: j.name,
            says,
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
        0 => "Journeys: all get through within their budgets".to_string(),
        n => format!("Journeys: {n} of {} in trouble", rows.len()),
    };
    html(&Page { frame, headline, rows, every })
}
