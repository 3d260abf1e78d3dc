//! One journey: readings, the line-up, its steps, its steps by location.

use super::{Figure, TWELVE_HOURS, Working, extent_words, html, journey_of};
use crate::State;
use crate::error::PageError;
use crate::format::{self, NO_DATA};
use crate::frame::{Asked, Frame, tone};
use crate::lineup::{Happened, LineUp, RunLanes};
use crate::pages::goals::uptime_proof;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::goals::budget_over;
use cadentis_answers::steps::{step_samples, step_times};
use cadentis_answers::views::Views;
use cadentis_core::calendar::Stretch;
use cadentis_core::calendar::stretch::{at_second, length_text};
use cadentis_core::finding::LocationChecks;
use cadentis_core::goal::{Counted, Standing};
use cadentis_core::journey::Step;
use cadentis_core::run::Outcome;
use cadentis_core::run::level::{self, Period, periods};
use cadentis_core::run::spell::{Gathered, Spell};
use cadentis_core::stats::change::{Change, changes};
use cadentis_core::stats::{Method, Reading, Samples, readings as percentiles};
use cadentis_core::timing::{Apdex, Vital};
use cadentis_core::visitor::{Attribute, Filter};
use cadentis_core::{finding, journey};
use cadentis_store::runs::Run;
use cadentis_store::sites::{Journey, LeftOut, Location};
use futures::TryFutureExt;
use jiff::Timestamp;
use std::collections::HashMap;

#[derive(Template)]
#[template(path = "journey.html")]
struct Page {
    frame: Frame,
    name: String,
    says: Vec<String>,
    readings: Vec<Figure>,
    lineup: String,
    steps: Vec<StepRow>,
    proof: Vec<Working>,
    script: String,
    slug: String,
}

#[derive(Template)]
#[template(path = "places.html")]
struct PlacesPart {
    frame: Frame,
    slug: String,
    steps: Vec<(String, String)>,
    /// Location, and per step: p75, tone, share of the budget.
    heat: Vec<(String, Vec<HeatCell>)>,
    /// Per location: p75 of the whole run, its own value in the stretch compared with, the difference.
    usual: Vec<(String, String, String, String, String)>,
    periods: Vec<PeriodRow>,
}

struct PeriodRow {
    tone: &'static str,
    from: String,
    length: String,
    says: String,
    runs: String,
}

type HeatCell = (String, &'static str, String);

struct StepRow {
    name: String,
    median: String,
    p75: String,
    p95: String,
    budget: String,
    against: String,
    /// The same in milliseconds.
    more_ms: Option<f64>,
    tone: &'static str,
    fill: f64,
}

pub async fn page(
    state: web::Data<State>,
    slug: web::Path<String>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(&state, &request, "Journeys", TWELVE_HOURS).await?;
    let (site, past) = (&frame.site, frame.past());
    let j = journey_of(&state, site.id, &slug).await?;
    let script = journey::parse(&j.script).map_err(|e| PageError::Script {
        journey: j.name.clone(),
        slug: j.slug.clone(),
        says: e.to_string(),
    })?;
    let everything = Filter::default();
    let goals = state.db.goals(site.id).await?;
    let goal = goals.iter().find(|g| g.journey_id == j.id);
    let (runs, before, markers, maintenance, views, by_country, budget, located) = futures::try_join!(
        state.db.counted_runs(j.id, site.id, past).err_into(),
        runs_against(&state, &frame, j.id).err_into(),
        state.db.markers(site.id, frame.stretch).err_into(),
        state.db.maintenance(site.id, frame.stretch).err_into(),
        Views::load(
            &state.answers,
            site.id,
            past,
            &everything,
            Attribute::Device,
            &[Vital::Lcp],
            frame.points()
        )
        .err_into(),
        Views::rolled(
            &state.answers,
            site.id,
            past,
            &everything,
            Attribute::Country,
            &[Vital::Lcp],
            36
        )
        .err_into(),
        async {
            match goal {
                Some(g) => {
                    budget_over(&state.answers, site, g, past, 60).await.map_err(PageError::from)
                }
                None => Ok(vec![]),
            }
        },
        state.db.locations_of(&j).err_into(),
    )?;
    let locations: Vec<_> = located.into_iter().map(|(l, _)| l).collect();
    let budget_ms = script.within_ms.map(|ms| ms as f64);
    let played = RunLanes {
        runs: runs.all(),
        locations: &locations,
        budget_ms,
        every_s: i64::from(j.every_s),
        promised: goal.map(|g| g.promised),
    };
    let happened = Happened { markers: &markers, maintenance: &maintenance };
    let read = Read { journey: &j, script: &script, runs: &runs, before: &before };
    // Over weeks both take a core a while.
    let (lineup, told) = std::thread::scope(|s| {
        let told = s.spawn(|| summary(&frame, &read, &locations, goal.map(|g| g.promised)));
        let lineup =
            LineUp::of(&frame, &happened, &views, Some(&by_country), Some(&played), Some(&budget));
        (lineup, told.join())
    });
    let told = told.map_err(|_| {
        PageError::Broken(format!("the readings of {} could not be computed", j.name))
    })?;
    let Summary { says, readings, steps, proof } = told;
    html(&Page {
        name: j.name,
        says,
        readings,
        lineup: lineup?,
        steps,
        proof,
        script: j.script,
        slug: j.slug,
        frame,
    })
}

/// What the page of a journey has read.
struct Read<'a> {
    journey: &'a Journey,
    script: &'a journey::Journey,
    runs: &'a Counted<Run>,
    before: &'a Counted<Run>,
}

/// What the page says in words and numbers.
struct Summary {
    says: Vec<String>,
    readings: Vec<Figure>,
    steps: Vec<StepRow>,
    proof: Vec<Working>,
}

fn summary(
    frame: &Frame,
    read: &Read<'_>,
    locations: &[Location],
    promised: Option<f64>,
) -> Summary {
    let Read { journey: j, script, runs, before } = *read;
    let past = frame.past();
    let budget_ms = script.within_ms.map(|ms| ms as f64);

    let tally = runs.tally();
    let uptime = runs.uptime(i64::from(j.every_s));
    let through = Samples::new(runs.through().map(|r| r.duration_ms));
    let (p75, p95) = (through.reading(0.75), through.reading(0.95));
    let mut apdex = Apdex::new(j.apdex_t_s);
    for r in runs.iter() {
        match r.outcome {
            Outcome::Passed | Outcome::Slow => apdex.add(r.duration_ms),
            Outcome::Failed => apdex.add_failed(),
            Outcome::Unmeasured => {}
        }
    }
    let label =
        promised.map_or("availability".into(), |p| format!("availability · goal {:.2}", p * 100.0));
    let readings = vec![
        Figure::new(
            format::percent(tally.availability(), 2, Some(promised.unwrap_or(1.0))),
            label,
            tone(Standing::of_share(tally.availability(), promised.unwrap_or(0.0))),
        ),
        Figure::new(
            format::percent(uptime.share(), 2, Some(1.0)),
            "uptime · reached from somewhere".into(),
            tone(Standing::of_share(uptime.share(), 1.0)),
        ),
        Figure::new(
            format::reading_s(&p75),
            budget_ms.map_or("p75".into(), |b| format!("p75 · budget {:.1}", b / 1000.0)),
            budget_ms.map_or("within", |b| tone(Standing::of(&p75, b))),
        ),
        Figure::new(
            format::reading_s(&p95),
            format!("p95 · {}", format::interval_s(&p95)),
            "within",
        ),
        Figure::new(
            apdex.score().map_or(NO_DATA.into(), |s| format!("{s:.2}")),
            format!("Apdex [{:.1}] · {} runs", apdex.t_s, apdex.samples()),
            "within",
        ),
    ];

    let steps: Vec<&Step> = script.counted_steps().collect();
    let (now, then) =
        (step_times(runs.iter(), steps.len()), step_times(before.iter(), steps.len()));
    let rows: Vec<StepRow> = steps
        .iter()
        .zip(now.iter().zip(&then))
        .map(|(s, (now, then))| step_row(s, now, then))
        .collect();
    let here = by_location(runs.iter());
    let says = sentences(frame, &j.name, &rows, &here, locations);
    let stretch = vec![
        format!("{} {}, {} to {}.", frame.words, frame.zone, past.from, past.to),
        format!(
            "{} runs in all: {} passed, {} slow, {} failed; {} unmeasured and {} inside maintenance are left out.",
            tally.all(),
            tally.passed,
            tally.slow,
            tally.failed,
            tally.unmeasured,
            tally.left_out
        ),
        format!("Compared {}.", frame.against_words),
        "A step’s time: from its first act until its last expectation holds and the page it led to has loaded.".into(),
    ];
    let kept = promised.unwrap_or(1.0);
    let available =
        tally.score().proof("availability", "runs that got through", "counted runs", kept);
    let in_ms =
        |p: f64| through.proof(p).noting("samples are the runs that got through, in milliseconds");
    let proof = vec![
        Working::new("Stretch", stretch),
        Working::of("Availability", &available),
        Working::of("Uptime, reached from somewhere", &uptime_proof(&uptime, i64::from(j.every_s))),
        Working::of("p75 of the whole run", &in_ms(0.75)),
        Working::of("p95 of the whole run", &in_ms(0.95)),
        Working::of("Apdex", &apdex.proof().noting("failed runs count as frustrated")),
    ];
    Summary { says, readings, steps: rows, proof }
}

/// `GET /journeys/{slug}/places`: each step at each location, each location against its own usual, periods up and
/// down. A part of the page that comes after it: over weeks it takes as long as the rest.
pub async fn places_part(
    state: web::Data<State>,
    slug: web::Path<String>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::part(&state, &request, "Journeys", TWELVE_HOURS).await?;
    let (site_id, past) = (frame.site.id, frame.past());
    let j = journey_of(&state, site_id, &slug).await?;
    let script = journey::parse(&j.script).map_err(|e| PageError::Script {
        journey: j.name.clone(),
        slug: j.slug.clone(),
        says: e.to_string(),
    })?;
    let (runs, before, located) = futures::try_join!(
        state.db.counted_runs(j.id, site_id, past),
        runs_against(&state, &frame, j.id),
        state.db.locations_of(&j),
    )?;
    let locations: Vec<_> = located.into_iter().map(|(l, _)| l).collect();
    let (here, then) = (by_location(runs.iter()), by_location(before.iter()));
    let heat = locations
        .iter()
        .map(|l| {
            let runs = here.get(&l.id).map_or(&[][..], Vec::as_slice);
            let cells = script.counted_steps().enumerate().map(|(i, s)| {
                let r = step_samples(runs.iter().copied(), i).reading(0.75);
                let share = r.value.zip(s.within_ms).map_or(0.0, |(v, b)| (v / b as f64).min(1.3));
                let tone = s.within_ms.map_or("within", |b| tone(Standing::of(&r, b as f64)));
                (
                    r.value.map_or("–".into(), format::seconds),
                    tone,
                    format!("share-{}", (share * 10.0).round() as u32),
                )
            });
            (l.name.clone(), cells.collect())
        })
        .collect();
    let whole = |runs: &HashMap<i32, Vec<&Run>>, l: i32| {
        let here = runs
            .get(&l)
            .into_iter()
            .flatten()
            .filter(|r| r.outcome.got_through())
            .map(|r| r.duration_ms);
        Samples::new(here).percentile(0.75, Method::NearestRank)
    };
    let usual = locations.iter().map(|l| {
        let (now, was) = (whole(&here, l.id), whole(&then, l.id));
        let seconds = |v: Option<f64>| v.map_or(NO_DATA.into(), format::seconds);
        let difference = now.zip(was).map_or("–".into(), |(a, b)| format::difference_s(a - b));
        (l.name.clone(), seconds(now), seconds(was), difference, l.slug.clone())
    });
    let usual = usual.collect();
    let periods = period_rows(&frame, &j.slug, &here, &locations);
    html(&PlacesPart {
        steps: script.counted_steps().map(|s| (s.name.clone(), short(&s.name))).collect(),
        heat,
        usual,
        periods,
        slug: j.slug,
        frame,
    })
}

/// Runs of the stretch that is compared with, if there is one: by the same rule about what counts.
pub(super) async fn runs_against(
    state: &State,
    frame: &Frame,
    journey_id: i32,
) -> cadentis_store::Result<Counted<Run>> {
    match frame.against {
        Some(against) => state.db.counted_runs(journey_id, frame.site.id, against).await,
        None => Ok(Counted::none(Run::check)),
    }
}

/// The beginning of a name, for a narrow column.
fn short(name: &str) -> String {
    name.split_whitespace().take(2).collect::<Vec<_>>().join(" ")
}

/// Runs by their location.
pub(super) fn by_location<'a>(
    runs: impl IntoIterator<Item = &'a Run>,
) -> HashMap<i32, Vec<&'a Run>> {
    let mut by: HashMap<i32, Vec<&Run>> = HashMap::new();
    for run in runs {
        by.entry(run.location_id).or_default().push(run);
    }
    by
}

/// Periods in which it got through from everywhere and in which it did not from somewhere: two failed runs
/// in a row begin one.
fn period_rows(
    frame: &Frame,
    slug: &str,
    runs: &HashMap<i32, Vec<&Run>>,
    locations: &[Location],
) -> Vec<PeriodRow> {
    let mut spells = Vec::new();
    for l in locations {
        let here: Vec<_> = runs.get(&l.id).into_iter().flatten().map(|r| r.check()).collect();
        spells.extend(Spell::of(&here, 2).into_iter().map(|s| (s, l.name.as_str())));
    }
    let past = frame.past();
    if runs.is_empty() {
        return Vec::new();
    }
    let zone = &frame.site.zone;
    let moment = |at: Timestamp| at.to_zoned(zone.clone()).strftime("%a %-d %b %H:%M").to_string();
    let row = |p: Period<'_>| {
        let link = |outcome: &str| {
            let (from, to) = (Stretch::moment(p.stretch.from), Stretch::moment(p.stretch.to));
            format!(
                "/journeys/{slug}/runs?outcome={outcome}&from={from}&to={to}&against={}",
                frame.against_kind()
            )
        };
        let (tone, says, runs) = match &p.down {
            None => ("within", "up from everywhere".to_string(), link("")),
            Some(g) => {
                let where_ = if g.places.len() == locations.len() {
                    "every location".into()
                } else {
                    g.places.join(", ")
                };
                let lasts = if g.lasts { ", still" } else { "" };
                (
                    "broken",
                    format!("down from {where_}{lasts}: {} failed runs", g.runs),
                    link("failed"),
                )
            }
        };
        PeriodRow {
            tone,
            from: moment(p.stretch.from),
            length: length_text(p.stretch.seconds() as f64 * 1000.0),
            says,
            runs,
        }
    };
    periods(Gathered::of(spells, past.to), past).into_iter().map(row).collect()
}

#[derive(Template)]
#[template(path = "changes.html")]
struct ChangesPart {
    rows: Vec<ChangeRow>,
    days: i64,
    runs: String,
}

struct ChangeRow {
    tone: &'static str,
    at: String,
    says: String,
    near: String,
}

/// Weeks in which changes are sought.
const WEEKS: i64 = 3;
/// A marker this close to a change may have to do with it.
const NEAR_S: i64 = 3 * 3_600;

/// `GET /journeys/{slug}/changes`: since when it is quicker or slower, over three weeks up to the end of the
/// stretch, with the markers near.
pub async fn changes_part(
    state: web::Data<State>,
    slug: web::Path<String>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let asked = Asked::load(&state, &request, TWELVE_HOURS).await?;
    let j = journey_of(&state, asked.site.id, &slug).await?;
    let hour = asked.past().to.as_second().div_euclid(3_600) * 3_600;
    let stretch = Stretch { from: at_second(hour - WEEKS * 7 * 86_400), to: at_second(hour) };
    let (timings, markers, maintenance) = futures::try_join!(
        state.db.timings(j.id, asked.site.id, stretch),
        state.db.markers(asked.site.id, stretch),
        state.db.maintenance(asked.site.id, stretch),
    )?;
    let left_out = LeftOut::cover(&maintenance);
    let counted: Vec<_> = timings.into_iter().filter(|t| !left_out.contains(t.at)).collect();
    let found = changes(&level::hours(&counted, stretch), 24);
    let row = |c: &Change| {
        let at = at_second(stretch.from.as_second() + c.at as i64 * 3_600);
        let near =
            markers.iter().filter(|m| m.at.duration_since(at).as_secs().abs() <= NEAR_S).map(|m| {
                let minutes = m.at.duration_since(at).as_mins();
                let when = if minutes <= 0 { "before" } else { "after" };
                format!("{} ({} {when})", m.title, length_text(minutes.abs() as f64 * 60_000.0))
            });
        let near: Vec<String> = near.collect();
        let percent = |r: f64| format!("{} %", format::signed((r - 1.0) * 100.0, 1));
        let word = if c.ratio > 1.0 { "slower" } else { "quicker" };
        ChangeRow {
            tone: if c.ratio > 1.0 { "strained" } else { "within" },
            at: at.to_zoned(asked.site.zone.clone()).strftime("%a %-d %b %H:%M %Z").to_string(),
            says: format!(
                "{word} by {} ({} to {})",
                percent(c.ratio).trim_start_matches(['+', '-']),
                percent(c.interval.low),
                percent(c.interval.high)
            ),
            near: if near.is_empty() {
                "no marker within three hours".into()
            } else {
                near.join("; ")
            },
        }
    };
    html(&ChangesPart {
        rows: found.iter().map(row).collect(),
        days: WEEKS * 7,
        runs: format::thousands(counted.len() as u64),
    })
}

fn step_row(step: &Step, now: &[f64], then: &[f64]) -> StepRow {
    let (read, _) = percentiles(now, &[0.5, 0.75, 0.95]);
    let [median, p75, p95] = [&read[0], &read[1], &read[2]].map(|r| *r);
    let then = percentiles(then, &[0.75]).0[0].value;
    let seconds = |r: &Reading| r.value.map_or(NO_DATA.into(), format::seconds);
    let share = p75.value.zip(step.within_ms).map_or(0.0, |(v, b)| v / b as f64);
    StepRow {
        name: step.name.clone(),
        median: seconds(&median),
        p75: seconds(&p75),
        p95: seconds(&p95),
        budget: step.within_ms.map_or("–".into(), |b| format!("{:.1}", b as f64 / 1000.0)),
        more_ms: p75.value.zip(then).map(|(a, b)| a - b),
        against: p75.value.zip(then).map_or("–".into(), |(a, b)| format::difference_s(a - b)),
        tone: step.within_ms.map_or("within", |b| tone(Standing::of(&p75, b as f64))),
        fill: (110.0 * share).min(150.0),
    }
}

/// A step is said to be slower when it is by more than this (milliseconds): less nobody notices.
const SLOWER_MS: f64 = 100.0;

/// The step that takes most longer than before, and by how many milliseconds.
fn slowest(steps: &[StepRow]) -> Option<(&StepRow, f64)> {
    let slower = steps.iter().filter_map(|s| Some((s, s.more_ms?)));
    slower.filter(|(_, more)| *more >= SLOWER_MS).max_by(|(_, a), (_, b)| a.total_cmp(b))
}

fn sentences(
    frame: &Frame,
    name: &str,
    steps: &[StepRow],
    runs: &HashMap<i32, Vec<&Run>>,
    locations: &[Location],
) -> Vec<String> {
    let played: Vec<LocationChecks<'_>> = locations
        .iter()
        .map(|l| LocationChecks {
            location: &l.name,
            checks: runs.get(&l.id).into_iter().flatten().map(|r| r.check()).collect(),
        })
        .collect();
    let found = finding::order(finding::of_journey(name, &played));
    let mut says: Vec<String> =
        found.iter().take(2).map(|f| format!("{} {}", f.says, extent_words(frame, f))).collect();
    if let Some((s, more_ms)) = slowest(steps).filter(|_| frame.against.is_some()) {
        says.push(format!(
            "“{}” is {} s slower at p75 than {}.",
            s.name,
            format::seconds(more_ms),
            frame.against_words.trim_start_matches("against ").trim_end_matches(" (dashed)")
        ));
    }
    if says.is_empty() {
        says.push("Gets through within its budgets from every location.".into());
    }
    says
}
