//! Now: what needs a person, the line-up of the last hours, what is silent.

use super::{SIX_HOURS, extent_words, html};
use crate::State;
use crate::error::PageError;
use crate::format;
use crate::frame::{Frame, tone};
use crate::lineup::{Happened, LineUp, RunLanes};
use crate::pages::goals::budget_over;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::views::Views;
use cadentis_core::calendar::stretch::{at_second, length_text};
use cadentis_core::calendar::{Cadence, Stretch};
use cadentis_core::finding::{self, Finding, LocationChecks};
use cadentis_core::goal::Counted;
use cadentis_core::goal::budget::{self, Metric};
use cadentis_core::run::{Outcome, Split, cause};
use cadentis_core::stats::share;
use cadentis_core::timing::Vital;
use cadentis_core::visitor::{Attribute, Filter};
use cadentis_core::{goal, journey};
use cadentis_store::runs::Run;
use cadentis_store::sites::{Journey, Location};
use futures::TryFutureExt;

#[derive(Template)]
#[template(path = "now.html")]
struct Page {
    frame: Frame,
    headline: String,
    findings: Vec<Row>,
    /// What was the matter in this stretch and is over: it needs nobody.
    cleared: Vec<Row>,
    cleared_since: String,
    journey_name: String,
    journey_slug: String,
    lineup: String,
    /// Neither a journey nor a page view: what to do is told instead.
    nothing_yet: bool,
    silent: Vec<String>,
}

struct Row {
    weight: f64,
    /// From when, or from when to when.
    extent: String,
    is_over: bool,
    tone: &'static str,
    says: String,
    evidence: String,
    cause: String,
    href: String,
    act: &'static str,
}

impl Row {
    fn new(frame: &Frame, f: Finding, href: String, act: &'static str) -> Row {
        Row {
            weight: f.weight,
            extent: extent_words(frame, &f),
            is_over: f.until.is_some(),
            tone: if f.until.is_some() { "within" } else { tone(f.state) },
            says: f.says,
            evidence: f.evidence,
            cause: String::new(),
            href,
            act,
        }
    }
}

pub async fn page(state: web::Data<State>, request: HttpRequest) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(&state, &request, "Now", SIX_HOURS).await?;
    let (site, past) = (&frame.site, frame.past());
    let everything = Filter::default();
    let (journeys, goals) = futures::try_join!(state.db.journeys(site.id), state.db.goals(site.id))?;
    // The line-up is that of the first journey.
    let first_goal = journeys.first().and_then(|j| goals.iter().find(|g| g.journey_id == j.id));
    let (markers, maintenance, views, by_country, budgets, spent) = futures::try_join!(
        state.db.markers(site.id, frame.stretch).err_into(),
        state.db.maintenance(site.id, frame.stretch).err_into(),
        Views::load(&state.answers, site.id, past, &everything, Attribute::Family, &Vital::ALL, 72).err_into(),
        Views::rolled(&state.answers, site.id, past, &everything, Attribute::Country, &[Vital::Lcp], 24).err_into(),
        state.db.budgets(site.id).err_into(),
        async {
            match first_goal {
                Some(g) => budget_over(&state, site, g, past, 48).await.map_err(PageError::from),
                None => Ok(vec![]),
            }
        },
    )?;
    let mut rows = Vec::new();
    let mut silent = Vec::new();
    let mut lineup = String::new();
    let (mut journey_name, mut journey_slug) = (String::new(), String::new());
    for (nth, j) in journeys.iter().enumerate() {
        if j.status == "archived" {
            continue;
        }
        let runs = state.db.counted_runs(j.id, site.id, past).await?;
        let located = state.db.locations_of(j).await?;
        let played: Vec<LocationChecks<'_>> = located
            .iter()
            .map(|(l, _)| LocationChecks {
                location: &l.name,
                checks: runs.filtered(|r| r.location_id == l.id).checks().collect(),
            })
            .collect();
        for f in finding::of_journey(&j.name, &played) {
            let worst = match f.state {
                goal::Standing::Broken => runs.newest(Outcome::Failed),
                goal::Standing::Strained => runs.newest(Outcome::Slow),
                _ => runs.newest(Outcome::Unmeasured),
            };
            let href = worst.map_or_else(|| format!("/journeys/{}?{}", j.slug, frame.query), |r| frame.run_link(&r.id));
            let mut row = Row::new(&frame, f, href, "look into the newest such run");
            if let Some(run) = worst {
                row.cause = likely_cause(&state, &frame, run).await?;
            }
            rows.push(row);
        }
        if frame.stretch.contains(frame.now) && j.status == "active" {
            silent.extend(located.iter().filter_map(|(l, cadence)| silence(&frame, j, l, cadence, &runs)));
        }
        let locations: Vec<Location> = located.into_iter().map(|(l, _)| l).collect();
        if nth == 0 {
            let script = journey::parse(&j.script).ok();
            let played = RunLanes {
                runs: runs.all(),
                locations: &locations,
                budget_ms: script.and_then(|s| s.within_ms).map(|ms| ms as f64),
                every_s: i64::from(j.every_s),
                promised: first_goal.map(|g| g.promised),
            };
            let happened = Happened { markers: &markers, maintenance: &maintenance };
            lineup = LineUp::of(&frame, &happened, &views, Some(&by_country), Some(&played), Some(&spent))?;
            (journey_name, journey_slug) = (j.name.clone(), j.slug.clone());
        }
    }
    let all = views.all();
    for (family, pool) in views.values() {
        for vital in Vital::ALL {
            let Some(b) = budget::holding(&budgets, Metric::Vital(vital), Some(&family)) else { continue };
            let of_all = share(pool.page_views, all.page_views).unwrap_or(0.0);
            let reading = pool.measured(vital).reading(0.75);
            let buckets: Vec<_> = views
                .buckets(Some(&family))
                .into_iter()
                .map(|(begin, pool)| (at_second(begin), pool.measured(vital).reading(0.75)))
                .collect();
            let since = finding::over_since(&buckets, b.limit);
            if let Some(f) = finding::of_vital(vital, &family, &reading, b.limit, of_all, since) {
                rows.push(Row::new(
                    &frame,
                    f,
                    format!("/visitors?vital={}&{}", vital.name(), frame.query),
                    "look into the visitors",
                ));
            }
        }
    }
    if frame.stretch.contains(frame.now) && all.page_views == 0 {
        silent.push("No page view has arrived in this stretch.".into());
    }
    rows.sort_by(|a, b| b.weight.total_cmp(&a.weight));
    let (cleared, mut rows): (Vec<Row>, Vec<Row>) = rows.into_iter().partition(|r| r.is_over);
    rows.truncate(MOST_FINDINGS);
    let nothing_yet = journey_slug.is_empty() && all.page_views == 0;
    let headline = match rows.len() {
        0 if nothing_yet => "Nothing is measured yet.".to_string(),
        0 if cleared.is_empty() => "Nothing needs you.".to_string(),
        0 => "Nothing needs you now.".to_string(),
        1 => "One thing needs you.".to_string(),
        n => format!("{n} things need you, worst first."),
    };
    let cleared_since = format::day_clock(past.from, &site.zone);
    html(&Page {
        headline,
        findings: rows,
        cleared,
        cleared_since,
        journey_name,
        journey_slug,
        lineup,
        silent,
        nothing_yet,
        frame,
    })
}

/// More things than this at once are not looked into by anybody.
const MOST_FINDINGS: usize = 7;

/// What is said of a location from which a run was due and did not come.
fn silence(frame: &Frame, j: &Journey, l: &Location, cadence: &Cadence, runs: &Counted<Run>) -> Option<String> {
    let newest = runs.all().iter().rev().find(|r| r.location_id == l.id).map(|r| r.due_at);
    let since = newest.unwrap_or(frame.past().from);
    let due = cadence.due(Stretch { from: since, to: frame.now });
    let silent = finding::silent_since(due, newest, frame.now)?;
    let length = length_text(frame.now.duration_since(silent).as_millis_f64());
    let at = format::day_clock(silent, &frame.site.zone);
    Some(format!("“{}” has not played at {} since it was due {at}, {length} ago.", j.name, l.name))
}

/// The likely cause of a run's trouble in a sentence, or nothing.
async fn likely_cause(state: &State, frame: &Frame, run: &Run) -> Result<String, PageError> {
    let Some(record) = state.db.record(run).await? else { return Ok(String::new()) };
    let usual = match cause::trouble_step(&record) {
        Some(step) if run.outcome == Outcome::Slow => {
            let records = state.db.usual_records(run, 20).await?;
            records.iter().flat_map(|r| r.steps.iter().find(|s| s.name == step.name)).map(Split::of).collect()
        }
        _ => vec![],
    };
    let found = cause::likely_cause(&record, &usual, |host| frame.site.owns(host));
    Ok(found.map_or(String::new(), |c| {
        let clock = if frame.stretch.seconds() > 86_400 { format::day_clock } else { format::clock };
        let at = clock(run.due_at, &frame.site.zone);
        format!("{} ({at}): {}: {}", capital(c.sure.words()), c.who.words(), c.says)
    }))
}

pub fn capital(text: &str) -> String {
    let mut chars = text.chars();
    chars.next().map_or(String::new(), |c| c.to_uppercase().chain(chars).collect())
}
