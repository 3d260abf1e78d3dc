//! What was promised, and what is left of the error budget.

use crate::{AnswerError, Answers, Range, Result};
use cadentis_core::calendar::{Cadence, Cover, LeftOut, Stretch};
use cadentis_core::goal::definition::{Judged, PACE, Runs};
use cadentis_core::goal::error_budget;
use cadentis_core::goal::{
    self, Burn, Check, Danger, Definition, ErrorBudget, Forecast, Period, Score, Tally, Track,
    Verdict, measure,
};
use cadentis_core::run::Spell;
use cadentis_core::run::spell::Gathered;
use cadentis_core::stats::share;
use cadentis_store::goal::{CarveOut, Goal, Version};
use cadentis_store::journey::Journey;
use cadentis_store::location::Location;
use cadentis_store::marker::Marker;
use cadentis_store::site::Site;
use jiff::{SignedDuration, Timestamp};
use std::collections::BTreeMap;

/// Points of an error budget's course over its window.
const POINTS: i64 = 240;
/// So many failed runs in a row from one location are told.
const IN_A_ROW: u64 = 2;
/// The most times of trouble that are told.
const MOST_TROUBLES: usize = 8;
/// Everything that does not count towards a goal within the stretch; of one that is not kept yet, maintenance.
///
/// # Errors
/// When the database does not answer.
pub async fn left_out(
    answers: &Answers,
    site: &Site,
    goal_id: Option<i32>,
    stretch: Stretch,
) -> Result<Vec<LeftOut>> {
    let carved = async {
        match goal_id {
            Some(id) => Ok(answers.db.carve_outs(id).await?),
            None => Ok::<_, AnswerError>(Vec::new()),
        }
    };
    let maintenance = async { Ok(answers.db.maintenance(site.id, stretch).await?) };
    let (mut all, carved) = futures::try_join!(maintenance, carved)?;
    all.extend(carved.into_iter().filter(|c| c.stretch.common(&stretch).is_some()));
    Ok(all)
}

/// The runs of one journey at one location.
pub(crate) struct Here {
    journey: i32,
    location: i32,
    checks: Vec<Check>,
    runs: Vec<(Timestamp, Verdict)>,
    /// What does not count of this journey at this location.
    left_out: Cover,
}

impl Here {
    /// Those that count.
    fn counted(&self) -> impl Iterator<Item = Check> + '_ {
        self.checks.iter().copied().filter(|c| !self.left_out.contains(c.at))
    }
}

/// Runs that a goal is judged by.
pub(crate) struct Loaded {
    here: Vec<Here>,
    /// Where each journey plays and when, as far as the goal is about it.
    located: Vec<(i32, Located)>,
    /// The longest interval of the journeys' cadences, in seconds.
    pub(crate) slot_s: i64,
}

impl Loaded {
    /// Takes note of what does not count: of each journey at each location by itself; what is left out of all of them is
    /// answered.
    pub(crate) fn leaving_out(&mut self, all: &[LeftOut]) -> Cover {
        for here in &mut self.here {
            here.left_out = LeftOut::at(all, here.journey, here.location);
            for (at, verdict) in &mut here.runs {
                if here.left_out.contains(*at) {
                    *verdict = Verdict::LeftOut;
                }
            }
        }
        let of = |(journey, located): &(i32, Located)| {
            let journey = *journey;
            located.iter().map(move |(l, _)| (journey, l.id)).collect::<Vec<_>>()
        };
        LeftOut::everywhere(all, &self.located.iter().flat_map(of).collect())
    }

    pub(crate) fn tracks(&self) -> Vec<Track<'_>> {
        let all = self.here.iter();
        all.map(|h| Track { journey: h.journey, location: h.location, runs: &h.runs }).collect()
    }
}

/// The runs of a stretch that a goal is about.
pub(crate) async fn load(
    answers: &Answers,
    site: &Site,
    definition: &Definition,
    journeys: &[Journey],
    stretch: Stretch,
) -> Result<Loaded> {
    let about =
        |location: i32| definition.locations.is_empty() || definition.locations.contains(&location);
    let theirs: Vec<&Journey> =
        journeys.iter().filter(|j| definition.journeys.contains(&j.id)).collect();
    let located = async {
        let mut all = Vec::new();
        for j in &theirs {
            let mut located = answers.db.locations_of(j).await?;
            located.retain(|(l, _)| about(l.id));
            all.push((j.id, located));
        }
        Ok::<_, AnswerError>(all)
    };
    let ids = &definition.journeys;
    let runs = async { Ok(answers.db.runs_for_goals(ids, site.id, stretch).await?) };
    let (located, runs) = futures::try_join!(located, runs)?;
    let mut here: BTreeMap<(i32, i32), Here> = BTreeMap::new();
    for (journey, runs) in runs {
        for (location, check, duration_ms) in runs.into_iter().filter(|(l, ..)| about(*l)) {
            let of = here.entry((journey, location)).or_insert_with(|| Here {
                journey,
                location,
                checks: Vec::new(),
                runs: Vec::new(),
                left_out: Cover::default(),
            });
            of.runs.push((check.at, definition.measure.verdict(check.outcome, duration_ms)));
            of.checks.push(check);
        }
    }
    let slot_s = theirs.iter().map(|j| i64::from(j.every_s)).max().unwrap_or(300);
    Ok(Loaded { here: here.into_values().collect(), located, slot_s })
}

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
        let runs = Runs { tracks: &tracks, slot_s: loaded.slot_s };
        definition.course(&runs, stretch, points, &out, &zone)
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
    /// What it would be without the stretch that was chosen, where that is a part of the window.
    pub what_if: Option<(Stretch, ErrorBudget)>,
    /// The longest interval of the journeys' cadences, in seconds.
    pub every_s: i64,
}

/// A window that a goal was tried on.
pub struct TriedWindow {
    /// How it had been.
    pub judged: Judged,
    /// Who spent most of its error budget: journey, location, how many were bad, the worst first.
    pub spent_by: Vec<(String, String, u64)>,
}

/// A goal tried on the past.
pub struct Tried {
    /// Windows, the one at hand first.
    pub windows: Vec<TriedWindow>,
    /// The highest share that all of them would have held.
    pub would_have_held: Option<f64>,
}

/// A goal is tried on so many windows, with the one at hand.
pub const TRIED: usize = 6;
/// So many are told who spent an error budget.
const MOST_SPENDERS: usize = 3;

/// What a goal would have been in the windows up to now, whether it is kept or not.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn tried(
    answers: &Answers,
    site: &Site,
    goal_id: Option<i32>,
    definition: &Definition,
    now: Timestamp,
) -> Result<Tried> {
    let windows = definition.windows(now, &site.zone, TRIED);
    let from = windows.last().map_or(now, |w| w.from);
    let to = windows.first().map_or(now, |w| w.to);
    let journeys = answers.db.journeys(site.id).await?;
    let past = Stretch { from, to: now };
    let (out, mut loaded, places) = futures::try_join!(
        left_out(answers, site, goal_id, Stretch { from, to: to.max(now) }),
        load(answers, site, definition, &journeys, past),
        async { Ok(answers.db.locations().await?) },
    )?;
    let (zone, definition) = (site.zone.clone(), definition.clone());
    let computing = answers.computed(move || {
        let out = loaded.leaving_out(&out);
        let tracks = loaded.tracks();
        let runs = Runs { tracks: &tracks, slot_s: loaded.slot_s };
        let trial = definition.tried(&runs, now, &out, &zone, TRIED);
        let windows = trial.windows.into_iter().map(|judged| {
            let counted = definition.counted(judged.window, &out, &zone);
            let mut spent: Vec<(i32, i32, u64)> = tracks
                .iter()
                .map(|t| (t.journey, t.location, t.between(judged.past).bad_in(&counted)))
                .filter(|(.., bad)| *bad > 0)
                .collect();
            spent.sort_by_key(|(.., bad)| std::cmp::Reverse(*bad));
            let named = |(journey, location, bad): (i32, i32, u64)| {
                let journey = journeys.iter().find(|j| j.id == journey);
                let place = places.iter().find(|l| l.id == location);
                Some((journey?.name.clone(), place?.name.clone(), bad))
            };
            let spent_by = spent.into_iter().filter_map(named).take(MOST_SPENDERS).collect();
            TriedWindow { judged, spent_by }
        });
        Tried { windows: windows.collect(), would_have_held: trial.would_have_held }
    });
    computing.await
}

/// What a goal's runs came to over a stretch, and what they would have come to with more left out.
///
/// # Errors
/// When the database does not answer or too much waits.
pub(crate) async fn scored(
    answers: &Answers,
    (site, goal_id, definition): (&Site, i32, &Definition),
    journeys: &[Journey],
    stretch: Stretch,
    besides: &[LeftOut],
) -> Result<(Score, Score)> {
    let (out, mut loaded) = futures::try_join!(
        left_out(answers, site, Some(goal_id), stretch),
        load(answers, site, definition, journeys, stretch),
    )?;
    let (zone, definition) = (site.zone.clone(), definition.clone());
    let all = [&out[..], besides].concat();
    let computing = answers.computed(move || {
        let mut of = |out: &[LeftOut]| {
            let everywhere = loaded.leaving_out(out);
            let tracks = loaded.tracks();
            let runs = Runs { tracks: &tracks, slot_s: loaded.slot_s };
            definition.score(&runs, stretch, &everywhere, &zone)
        };
        (of(&out), of(&all))
    });
    computing.await
}

/// A goal that is in danger of being missed, or is.
pub struct InDanger {
    /// The goal.
    pub goal: Goal,
    /// The period that it is judged over, and the window.
    pub window: (Period, Stretch),
    /// What threatens it.
    pub danger: Danger,
    /// What is left of its error budget.
    pub budget: ErrorBudget,
    /// The first bad run of the long window that burns, or of the last day.
    pub since: Option<Timestamp>,
    /// Journey and location that most of what was bad since then comes from, and its share.
    pub mostly: Option<(String, String, f64)>,
    /// The journeys that it is over.
    pub journeys: Vec<i32>,
}

/// Goals that are in danger at a moment, the worst first.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn in_danger(
    answers: &Answers,
    site: &Site,
    goals: &[Goal],
    journeys: &[Journey],
    now: Timestamp,
) -> Result<Vec<InDanger>> {
    let mut found = Vec::new();
    for goal in goals {
        let (version, window) = goal.judged_at(now, &site.zone);
        let definition = version.definition.clone();
        let period = definition.period;
        let longest = goal::burn::PAIRS.iter().map(|p| p.long_s).max().unwrap_or_default();
        let from = window.from.min(now - SignedDuration::from_secs(longest));
        let read = Stretch { from, to: now };
        let (out, mut loaded) = futures::try_join!(
            left_out(answers, site, Some(goal.id), Stretch { from, to: window.to.max(now) }),
            load(answers, site, &definition, journeys, read),
        )?;
        let (zone, goal) = (site.zone.clone(), goal.clone());
        let named: BTreeMap<i32, String> =
            journeys.iter().map(|j| (j.id, j.name.clone())).collect();
        let computing = answers.computed(move || {
            let out = loaded.leaving_out(&out);
            let tracks = loaded.tracks();
            let runs = Runs { tracks: &tracks, slot_s: loaded.slot_s };
            let standing = definition.standing(&runs, now, &out, &zone);
            let budget = standing.judged.budget;
            let danger = Danger::of(&budget, &standing.burns, &standing.forecast, window, now);
            let looked_s = match danger {
                Danger::None => return None,
                Danger::Burns { burn, .. } => burn.pair.long_s,
                Danger::Missed | Danger::RunsOut(_) => PACE.as_secs(),
            };
            let recent = Stretch { from: now - SignedDuration::from_secs(looked_s), to: now };
            let counted = definition.counted(recent, &out, &zone);
            let bad: Vec<(i32, i32, u64)> = tracks
                .iter()
                .map(|t| (t.journey, t.location, t.between(recent).bad_in(&counted)))
                .collect();
            let all: u64 = bad.iter().map(|(.., n)| n).sum();
            let places = loaded.located.iter().flat_map(|(_, at)| at.iter().map(|(l, _)| l));
            let place = |id: i32| places.clone().find(|l| l.id == id).map(|l| l.name.clone());
            let most = bad.iter().max_by_key(|(.., n)| *n).filter(|(.., n)| *n > 0);
            let mostly = most.and_then(|(journey, location, n)| {
                Some((named.get(journey)?.clone(), place(*location)?, share(*n, all)?))
            });
            let first = |t: &Track<'_>| t.between(recent).first_bad(&counted);
            let since = tracks.iter().filter_map(first).min();
            let journeys = definition.journeys.clone();
            let window = (period, window);
            Some(InDanger { goal, window, danger, budget, since, mostly, journeys })
        });
        found.extend(computing.await?);
    }
    let left = |d: &InDanger| d.budget.left_share();
    found.sort_by(|a, b| Danger::worst_first((&a.danger, left(a)), (&b.danger, left(b))));
    Ok(found)
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
    let mut cards = Vec::new();
    for goal in goals {
        cards.push(card(answers, site, range, now, goal, &journeys).await?);
    }
    let left = |c: &Card| c.budget.left_share();
    cards.sort_by(|a, b| Danger::worst_first((&a.danger, left(a)), (&b.danger, left(b))));
    Ok(Goals { cards, journeys })
}

async fn card(
    answers: &Answers,
    site: &Site,
    range: &Range,
    now: Timestamp,
    goal: Goal,
    journeys: &[Journey],
) -> Result<Card> {
    // The window of the stretch's end, by what the goal said when it began.
    let end = range.stretch.to.min(now);
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
    let chosen = range.stretch.common(&past).filter(|c| c.seconds() < past.seconds());
    let theirs = journeys.iter().filter(|j| definition.journeys.contains(&j.id));
    let journeys: Vec<Journey> = theirs.cloned().collect();
    let computing = answers.computed(move || {
        let windows = loaded.leaving_out(&left_out);
        let tracks = loaded.tracks();
        let runs = Runs { tracks: &tracks, slot_s: loaded.slot_s };
        let standing = definition.standing(&runs, past.to, &windows, &zone);
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
        let of_day = definition.score(&runs, day, &windows, &zone);
        let all: Vec<Check> = loaded.here.iter().flat_map(Here::counted).collect();
        let mut tally = Tally::of(&all, &Cover::default());
        tally.left_out =
            (loaded.here.iter().map(|h| h.checks.len()).sum::<usize>() - all.len()) as u64;
        // What does not count is told beside it, as beside the share.
        let uptime = Score {
            left_out: tally.left_out,
            ..goal::uptime(&all, loaded.slot_s, &Cover::default())
        };
        let budget = ErrorBudget { score, ..standing.judged.budget };
        let course = definition.course(&runs, past, POINTS, &windows, &zone);
        let without = |c: Stretch| {
            let out = windows.or(&Cover::from(c));
            (c, definition.judge(&runs, window, past.to, &out, &zone).budget)
        };
        Card {
            danger: Danger::of(&budget, &standing.burns, &standing.forecast, window, past.to),
            burn_window: error_budget::burn_rate(&budget.score, definition.promised),
            burn_day: error_budget::burn_rate(&of_day, definition.promised),
            burns: standing.burns,
            forecast: standing.forecast,
            uptime: (journeys.len() == 1).then_some(uptime),
            tally,
            failed: failed(&loaded, past),
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

type Located = Vec<(Location, Cadence)>;

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
            let here: Vec<Check> =
                loaded.here.iter().find(of).into_iter().flat_map(Here::counted).collect();
            spells.extend(Spell::of(&here, IN_A_ROW).into_iter().map(|s| (s, l.name.as_str())));
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
