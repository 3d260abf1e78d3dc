//! What was promised, and what is left of the error budget.

use crate::views::Views;
use crate::{Answers, Range, Result};
use cadentis_core::calendar::stretch::at_second;
use cadentis_core::calendar::{Cadence, Cover, Stretch};
use cadentis_core::goal::budget::{self, Budget, Metric};
use cadentis_core::goal::error_budget;
use cadentis_core::goal::{
    self, Check, Combine, ErrorBudget, Forecast, Measure, Minutes, Period, Promise, Score, Tally,
    Track, measure,
};
use cadentis_core::run::Spell;
use cadentis_core::run::spell::Gathered;
use cadentis_core::stats::{Reading, share};
use cadentis_core::timing::Vital;
use cadentis_core::visitor::{Attribute, Filter};
use cadentis_store::goal::Goal;
use cadentis_store::journey::Journey;
use cadentis_store::location::Location;
use cadentis_store::marker::LeftOut;
use cadentis_store::site::Site;
use jiff::{SignedDuration, Timestamp};
use std::collections::BTreeMap;

/// Points of an error budget's course over its window.
const POINTS: i64 = 240;
/// So many failed runs in a row from one location are told.
const IN_A_ROW: u64 = 2;
/// The most times of trouble that are told.
const MOST_TROUBLES: usize = 8;
/// The pace that a forecast goes on at is that of the last day.
const PACE: SignedDuration = SignedDuration::from_hours(24);
/// Vitals that page families are judged by.
pub const VITALS: [Vital; 3] = [Vital::Lcp, Vital::Inp, Vital::Cls];

/// Everything that does not count towards a goal within the stretch.
///
/// # Errors
/// When the database does not answer.
pub async fn left_out(
    answers: &Answers,
    site: &Site,
    goal: &Goal,
    stretch: Stretch,
) -> Result<Vec<LeftOut>> {
    let (mut all, carved) = futures::try_join!(
        answers.db.maintenance(site.id, stretch),
        answers.db.carve_outs(goal.id)
    )?;
    all.extend(carved.into_iter().filter(|c| c.stretch.common(&stretch).is_some()));
    Ok(all)
}

/// The error budget of the calendar month at about `points` moments of the stretch: second, and what stood then.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn budget_over(
    answers: &Answers,
    site: &Site,
    goal: &Goal,
    stretch: Stretch,
    points: i64,
) -> Result<Vec<(i64, ErrorBudget)>> {
    let months = Stretch {
        from: Stretch::month_of(stretch.from, &site.zone).from,
        to: Stretch::month_of(stretch.to, &site.zone).to,
    };
    let out = LeftOut::cover(&left_out(answers, site, goal, months).await?);
    let bucket_s = stretch.bucket_seconds(points);
    let whole = Stretch { from: months.from, to: stretch.to };
    let checks = answers.db.checks(goal.journey_id, site.id, whole).await?;
    let (zone, promised) = (site.zone.clone(), goal.promised);
    let computing = answers.computed(move || {
        let checks: Vec<Check> = checks.into_iter().map(|(_, c)| c).collect();
        let buckets = Tally::buckets(&checks, &out, bucket_s);
        let buckets: Vec<_> =
            buckets.into_iter().map(|(second, tally)| (at_second(second), tally.score())).collect();
        let counted = goal::counted(months, &[], &out, &zone);
        let promise = Promise { promised, period: Period::Month, zone: &zone, counted: &counted };
        promise.course(stretch, &buckets, bucket_s)
    });
    Ok(computing.await?.into_iter().map(|(at, budget)| (at.as_second(), budget)).collect())
}

/// A location's part in a goal.
pub struct AtLocation {
    /// The location.
    pub location: Location,
    /// What became of its runs.
    pub tally: Tally,
    /// Its share of all that failed.
    pub spent: Option<f64>,
}

/// A time in which a journey failed from somewhere.
pub struct FailedFor {
    /// From when to when.
    pub stretch: Stretch,
    /// Whether it still does.
    pub lasts: bool,
    /// From where.
    pub places: Vec<String>,
    /// Failed runs.
    pub runs: u64,
}

/// A goal over the month in which the range ends.
pub struct Card {
    /// What was promised.
    pub goal: Goal,
    /// Of which journey.
    pub journey: Journey,
    /// The month.
    pub month: Stretch,
    /// Of it what is over.
    pub past: Stretch,
    /// What does not count.
    pub left_out: Vec<LeftOut>,
    /// The error budget at the end of what is over.
    pub budget: ErrorBudget,
    /// The share that got through, with what was due and did not come.
    pub score: Score,
    /// What became of the runs.
    pub tally: Tally,
    /// Times in which it was reached from somewhere.
    pub uptime: Score,
    /// How fast the budget is spent over the month; 1 spends it exactly.
    pub burn_month: Option<f64>,
    /// The same of the last 24 hours.
    pub burn_day: Option<f64>,
    /// When it runs out at the pace of the last 24 hours.
    pub forecast: Forecast,
    /// The budget over time: second, and what stood then.
    pub course: Vec<(i64, ErrorBudget)>,
    /// Each location's part.
    pub locations: Vec<AtLocation>,
    /// Times in which it failed, newest first, at most eight.
    pub failed: Vec<FailedFor>,
}

/// A vital of a page family against its limit.
pub struct Limited {
    /// Its 75th percentile.
    pub reading: Reading,
    /// The limit that holds, and how the reading stands against it.
    pub limit: Option<(f64, goal::Standing)>,
}

/// What is promised of a site, and how that stands.
pub struct Goals {
    /// Each goal.
    pub cards: Vec<Card>,
    /// Journeys, from which one could be promised as long as nothing is.
    pub journeys: Vec<Journey>,
    /// Page families, each with its vitals in the order of [`VITALS`].
    pub families: Vec<(String, [Limited; 3])>,
}

/// What is promised of a site, and how that stands.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn ask(answers: &Answers, site: &Site, range: &Range, now: Timestamp) -> Result<Goals> {
    let db = &answers.db;
    let (goals, journeys, limits) =
        futures::try_join!(db.goals(site.id), db.journeys(site.id), db.budgets(site.id))?;
    let mut cards = Vec::new();
    for goal in goals {
        // A goal goes with its journey: the database holds them together.
        if let Some(journey) = journeys.iter().find(|j| j.id == goal.journey_id) {
            cards.push(card(answers, site, range, now, goal, journey.clone()).await?);
        }
    }
    let everything = Filter::default();
    let (past, family) = (range.stretch, Attribute::Family);
    let views = Views::load(answers, site.id, past, &everything, family, &VITALS, 1).await?;
    let families = views.values().into_iter().map(|(family, pool)| {
        let cells = VITALS.map(|v| {
            let reading = pool.measured(v).reading(0.75);
            let limit = budget::holding(&limits, Metric::Vital(v), Some(&family));
            let limit = limit.map(|b: &Budget| (b.limit, b.judge(&reading).state));
            Limited { reading, limit }
        });
        (family, cells)
    });
    Ok(Goals { families: families.collect(), cards, journeys })
}

async fn card(
    answers: &Answers,
    site: &Site,
    range: &Range,
    now: Timestamp,
    goal: Goal,
    journey: Journey,
) -> Result<Card> {
    // The month of the stretch's end: the goal's own window.
    let month = Stretch::month_of(range.stretch.to, &site.zone);
    let past = Stretch { from: month.from, to: month.to.min(now) };
    let of_store = async {
        Ok(futures::try_join!(
            answers.db.checks(goal.journey_id, site.id, past),
            answers.db.locations_of(&journey),
        )?)
    };
    let (left_out, course, (checks, located)) = futures::try_join!(
        left_out(answers, site, &goal, month),
        budget_over(answers, site, &goal, past, POINTS),
        of_store,
    )?;
    let zone = site.zone.clone();
    let computing = answers.computed(move || {
        let windows = LeftOut::cover(&left_out);
        let counted = goal::counted(month, &[], &windows, &zone);
        let mut here: BTreeMap<i32, Vec<Check>> = BTreeMap::new();
        for (location, check) in &checks {
            here.entry(*location).or_default().push(*check);
        }
        let runs: Vec<_> =
            here.iter().map(|(location, checks)| (*location, measure::verdicts(checks))).collect();
        let tracks: Vec<Track> = runs
            .iter()
            .map(|(location, runs)| Track { journey: journey.id, location: *location, runs })
            .collect();
        let every_s = i64::from(journey.every_s);
        let (of, pooled) = (Measure::Availability, Combine::Pooled);
        let mut score = measure::score(of, pooled, &tracks, every_s, &counted);
        for (location, cadence) in &located {
            // What was due before the location's first run was never going to be played: it came later.
            let Some((_, here)) = runs.iter().find(|(id, _)| *id == location.id) else { continue };
            let Some((first, _)) = here.first() else { continue };
            let to = past.to - SignedDuration::from_secs(every_s);
            let since = Stretch { from: past.from.max(*first), to };
            score.missing += measure::missing(cadence.due(since), here, &counted);
        }
        let promised = goal.promised;
        let promise = Promise { promised, period: Period::Month, zone: &zone, counted: &counted };
        let budget = promise.budget(past.to, score);
        let minutes = Minutes::of(&tracks, &counted, past);
        let all: Vec<Check> = checks.iter().map(|(_, c)| *c).collect();
        Card {
            burn_month: error_budget::burn_rate(&budget.score, promised),
            burn_day: error_budget::burn_rate(&minutes.between(past.to - PACE, past.to), promised),
            forecast: minutes.forecast(&budget, past.to, PACE.as_secs()),
            uptime: goal::uptime(&all, every_s, &windows),
            tally: Tally::of(&all, &windows),
            failed: failed(&located, &here, &windows, past),
            locations: at_locations(located, &here, &windows, budget.score.bad),
            budget,
            score,
            course,
            left_out,
            month,
            past,
            journey,
            goal,
        }
    });
    computing.await
}

type Located = Vec<(Location, Cadence)>;

fn at_locations(
    located: Located,
    here: &BTreeMap<i32, Vec<Check>>,
    windows: &Cover,
    failed: u64,
) -> Vec<AtLocation> {
    let of = |location: Location| {
        let tally = Tally::of(here.get(&location.id).map_or(&[][..], Vec::as_slice), windows);
        AtLocation { spent: share(tally.failed, failed), tally, location }
    };
    located.into_iter().map(|(l, _)| of(l)).collect()
}

fn failed(
    located: &Located,
    here: &BTreeMap<i32, Vec<Check>>,
    windows: &Cover,
    past: Stretch,
) -> Vec<FailedFor> {
    let mut spells = Vec::new();
    for (l, _) in located {
        let of_location = here.get(&l.id).into_iter().flatten();
        let here: Vec<Check> = of_location.copied().filter(|c| !windows.contains(c.at)).collect();
        spells.extend(Spell::of(&here, IN_A_ROW).into_iter().map(|s| (s, l.name.as_str())));
    }
    let told = |g: Gathered<'_>| FailedFor {
        stretch: g.stretch,
        lasts: g.lasts,
        places: g.places.iter().map(|p| p.to_string()).collect(),
        runs: g.runs,
    };
    Gathered::of(spells, past.to).into_iter().take(MOST_TROUBLES).map(told).collect()
}
