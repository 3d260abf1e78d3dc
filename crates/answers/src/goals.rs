//! What was promised, and what is left of the error budget.

mod endangered;
mod held;
mod hours;
pub mod openslo;
mod trying;
pub mod words;

pub use endangered::{InDanger, in_danger};
pub use held::left_out;
pub(crate) use held::load;
pub(crate) use hours::{Hours, remembered};
pub(crate) use trying::scored;
pub use trying::{TRIED, Tried, TriedWindow, tried, with_and_without};

use crate::{Answers, Range, Result};
use cadentis_core::calendar::{Cover, LeftOut, Stretch};
use cadentis_core::goal::definition::PACE;
use cadentis_core::goal::error_budget;
use cadentis_core::goal::{
    Burn, Danger, ErrorBudget, Forecast, Score, Tally, Verdict, measure, views,
};
use cadentis_core::run::Spell;
use cadentis_core::run::spell::Gathered;
use cadentis_core::stats::share;
use cadentis_core::visitor::Attribute;
use cadentis_store::goal::{CarveOut, Goal, Version};
use cadentis_store::journey::Journey;
use cadentis_store::location::Location;
use cadentis_store::marker::Marker;
use cadentis_store::site::Site;
use futures::stream::{self, StreamExt, TryStreamExt};
use held::{Here, Loaded, by_values};
use jiff::{SignedDuration, Timestamp};

/// So many goals are read at once: what one waits for in the database another computes meanwhile.
const AT_ONCE: usize = 4;
/// Points of an error budget's course over its window.
const POINTS: i64 = 240;
/// So many failed runs in a row from one location are told.
const IN_A_ROW: u64 = 2;
/// The most times of trouble that are told.
pub(crate) const MOST_TROUBLES: usize = 8;
/// The error budget of the goal's own window at about `points` moments of the stretch: second, and what stood then.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn budget_over(
    answers: &Answers,
    site: &Site,
    goal: &Goal,
    journeys: &[Journey],
    stretch: Stretch,
    points: i64,
) -> Result<Vec<(i64, ErrorBudget)>> {
    let definition = goal.at(stretch.to).definition.clone();
    let first = definition.period.around(stretch.from, &site.zone).from;
    let last = definition.period.around(stretch.to, &site.zone).to;
    let (whole, held) = (
        Stretch { from: first, to: last.max(stretch.to) },
        Stretch { from: first, to: stretch.to },
    );
    let (out, mut loaded) = futures::try_join!(
        left_out(answers, site, Some(goal.id), whole),
        load(answers, site, &definition, journeys, held)
    )?;
    let zone = site.zone.clone();
    let computing = answers.computed(move || {
        let out = loaded.leaving_out(&out);
        let tracks = loaded.tracks();
        let held = loaded.held(&tracks);
        definition.course(&held, stretch, points, &out, &zone)
    });
    Ok(computing.await?.into_iter().map(|(at, budget)| (at.as_second(), budget)).collect())
}

/// A location's part in a goal.
pub struct AtLocation {
    /// The location.
    pub location: Location,
    /// What became of its runs.
    pub tally: Tally,
    /// Its runs that were bad to the goal.
    pub bad: u64,
    /// Their share of all that were.
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

/// What spent the error budget of a goal over page views.
pub struct OfViews {
    /// The attribute by which they are told apart.
    pub by: Attribute,
    /// Each of its values with what was counted of it, what spent most first, at most eight.
    pub values: Vec<(String, Score)>,
    /// Hours that were worse than promised, those that took most first, at most eight.
    pub troubles: Vec<views::Trouble>,
}

/// A goal over the window in which the range ends.
pub struct Card {
    /// What threatens it.
    pub danger: Danger,
    /// What was promised.
    pub goal: Goal,
    /// What it said in this window.
    pub version: Version,
    /// Of which journeys.
    pub journeys: Vec<Journey>,
    /// The window.
    pub window: Stretch,
    /// Of it what is over.
    pub past: Stretch,
    /// What does not count.
    pub left_out: Vec<LeftOut>,
    /// What is pinned to the window.
    pub markers: Vec<Marker>,
    /// What was ever taken out, newest first.
    pub record: Vec<CarveOut>,
    /// The error budget at the end of what is over.
    pub budget: ErrorBudget,
    /// The share that was good, with what was due and did not come.
    pub score: Score,
    /// What became of the runs.
    pub tally: Tally,
    /// Times in which it was reached from somewhere, as far as the goal is over one journey.
    pub uptime: Option<Score>,
    /// How fast the budget is spent over the window; 1 spends it exactly.
    pub burn_window: Option<f64>,
    /// The same of the last 24 hours.
    pub burn_day: Option<f64>,
    /// How fast it burns over pairs of windows.
    pub burns: Vec<Burn>,
    /// When it runs out at the pace of the last 24 hours.
    pub forecast: Forecast,
    /// The budget over time: second, and what stood then.
    pub course: Vec<(i64, ErrorBudget)>,
    /// Each location's part.
    pub locations: Vec<AtLocation>,
    /// Times in which it failed, newest first, at most eight.
    pub failed: Vec<FailedFor>,
    /// Of page views what is told in place of these.
    pub views: Option<OfViews>,
    /// What it would be without the stretch that was chosen, where that is a part of the window.
    pub what_if: Option<(Stretch, ErrorBudget)>,
    /// The longest interval of the journeys' cadences, in seconds.
    pub every_s: i64,
}

/// What is promised of a site, and how that stands.
pub struct Goals {
    /// Each goal, what is in most danger first.
    pub cards: Vec<Card>,
    /// Journeys, from which one could be promised as long as nothing is.
    pub journeys: Vec<Journey>,
}

/// What is promised of a site, and how that stands.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn ask(answers: &Answers, site: &Site, range: &Range, now: Timestamp) -> Result<Goals> {
    let db = &answers.db;
    let (goals, journeys) = futures::try_join!(db.goals(site.id), db.journeys(site.id))?;
    // The window of the stretch's end, by what the goal said when it began.
    let of = (range.stretch.to.min(now), Some(range.stretch));
    let each = goals.into_iter().map(|goal| of_window(answers, site, of, now, goal, &journeys));
    let mut cards: Vec<Card> = stream::iter(each).buffered(AT_ONCE).try_collect().await?;
    let left = |c: &Card| c.budget.left_share();
    cards.sort_by(|a, b| Danger::worst_first((&a.danger, left(a)), (&b.danger, left(b))));
    Ok(Goals { cards, journeys })
}

/// What was ever taken out of a goal, the newest first.
///
/// # Errors
/// When the database does not answer.
pub async fn carve_outs(answers: &Answers, goal: &Goal) -> Result<Vec<CarveOut>> {
    Ok(answers.db.record_of_carve_outs(goal.id).await?)
}

/// A goal over the window that holds a moment, as it stood at `now`; without what was chosen, where something is.
pub(crate) async fn of_window(
    answers: &Answers,
    site: &Site,
    (end, chosen): (Timestamp, Option<Stretch>),
    now: Timestamp,
    goal: Goal,
    journeys: &[Journey],
) -> Result<Card> {
    let (version, window) = goal.judged_at(end, &site.zone);
    let version = version.clone();
    let definition = version.definition.clone();
    let past = Stretch { from: window.from, to: window.to.min(now) };
    let (left_out, record, markers, mut loaded) = futures::try_join!(
        left_out(answers, site, Some(goal.id), window),
        async { Ok(answers.db.record_of_carve_outs(goal.id).await?) },
        async { Ok(answers.db.markers(site.id, window).await?) },
        load(answers, site, &definition, journeys, past),
    )?;
    let zone = site.zone.clone();
    let told = match definition.measure.of_page_views() {
        Some(of) => {
            let windows = loaded.leaving_out(&left_out);
            let counted = definition.counted(past, &windows, &zone);
            let minutes = loaded.minutes.as_deref().unwrap_or_default();
            let mut troubles = views::troubles(minutes, past, &counted, definition.promised);
            troubles.truncate(MOST_TROUBLES);
            let (by, mut values) = by_values(answers, site, of, past, counted).await?;
            values.truncate(MOST_TROUBLES);
            Some(OfViews { by, values, troubles })
        }
        None => None,
    };
    let chosen = chosen.and_then(|c| c.common(&past)).filter(|c| c.seconds() < past.seconds());
    let theirs = journeys.iter().filter(|j| definition.journeys.contains(&j.id));
    let journeys: Vec<Journey> = theirs.cloned().collect();
    let computing = answers.computed(move || {
        let windows = loaded.leaving_out(&left_out);
        let tracks = loaded.tracks();
        let held = loaded.held(&tracks);
        let standing = definition.standing(&held, past.to, &windows, &zone);
        let counted = definition.counted(window, &windows, &zone);
        let mut score = standing.judged.score;
        for (journey, located) in &loaded.located {
            for (location, cadence) in located {
                // What was due before the location's first run was never going to be played: it came later.
                let of = |h: &&Here| h.journey == *journey && h.location == location.id;
                let Some(here) = loaded.here.iter().find(of) else { continue };
                let Some((first, _)) = here.runs.first() else { continue };
                let to = past.to - SignedDuration::from_secs(loaded.slot_s);
                let since = Stretch { from: past.from.max(*first), to };
                let counted = counted.without(&here.left_out);
                score.missing += measure::missing(cadence.due(since), &here.runs, &counted);
            }
        }
        let day = Stretch { from: past.to - PACE, to: past.to };
        let of_day = definition.score(&held, day, &windows, &zone);
        let mut tally = Tally::default();
        for here in &loaded.here {
            tally.merge(&Tally::of(&here.checks, &here.left_out));
        }
        let uptime = (journeys.len() == 1).then(|| {
            let counted: Vec<_> = loaded.here.iter().map(Here::counted).collect();
            let up = measure::uptime_from(counted.iter().map(|c| &c[..]), loaded.slot_s);
            // What does not count is told beside it, as beside the share.
            Score { left_out: tally.left_out, ..up }
        });
        let budget = ErrorBudget { score, ..standing.judged.budget };
        let course = definition.course(&held, past, POINTS, &windows, &zone);
        let without = |c: Stretch| {
            let out = windows.or(&Cover::from(c));
            (c, definition.judge(&held, window, past.to, &out, &zone).budget)
        };
        Card {
            danger: Danger::of(&budget, &standing.burns, &standing.forecast, window, past.to),
            burn_window: error_budget::burn_rate(&budget.score, definition.promised),
            burn_day: error_budget::burn_rate(&of_day, definition.promised),
            burns: standing.burns,
            forecast: standing.forecast,
            uptime,
            tally,
            failed: failed(&loaded, past),
            views: told,
            locations: at_locations(&loaded, budget.score.bad),
            course: course.into_iter().map(|(at, budget)| (at.as_second(), budget)).collect(),
            what_if: chosen.map(without),
            every_s: loaded.slot_s,
            budget,
            score,
            left_out,
            markers,
            record,
            window,
            past,
            journeys,
            version,
            goal,
        }
    });
    computing.await
}

fn at_locations(loaded: &Loaded, bad: u64) -> Vec<AtLocation> {
    let mut all: Vec<AtLocation> = Vec::new();
    for (journey, located) in &loaded.located {
        for (location, _) in located {
            let of = |h: &&Here| h.journey == *journey && h.location == location.id;
            let here = loaded.here.iter().find(of);
            let tally = here.map_or(Tally::default(), |h| Tally::of(&h.checks, &h.left_out));
            let is_bad = |(_, verdict): &&(Timestamp, Verdict)| *verdict == Verdict::Bad;
            let spent = here.map_or(0, |h| h.runs.iter().filter(is_bad).count()) as u64;
            match all.iter_mut().find(|a| a.location.id == location.id) {
                Some(known) => {
                    known.tally.merge(&tally);
                    known.bad += spent;
                }
                None => {
                    let location = location.clone();
                    all.push(AtLocation { location, tally, bad: spent, spent: None });
                }
            }
        }
    }
    for at in &mut all {
        at.spent = share(at.bad, bad);
    }
    all
}

fn failed(loaded: &Loaded, past: Stretch) -> Vec<FailedFor> {
    let mut spells = Vec::new();
    for (journey, located) in &loaded.located {
        for (l, _) in located {
            let of = |h: &&Here| h.journey == *journey && h.location == l.id;
            let counted = loaded.here.iter().find(of).map(Here::counted).unwrap_or_default();
            spells.extend(Spell::of(&counted, IN_A_ROW).into_iter().map(|s| (s, l.name.as_str())));
        }
    }
    let told = |g: Gathered<'_>| FailedFor {
        stretch: g.stretch,
        lasts: g.lasts,
        places: g.places.iter().map(|p| p.to_string()).collect(),
        runs: g.runs,
    };
    Gathered::of(spells, past.to).into_iter().take(MOST_TROUBLES).map(told).collect()
}
