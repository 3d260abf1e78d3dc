//! One journey in a stretch: its readings, its steps, its locations, and since when it changed.

use crate::goals::budget_over;
use crate::steps::{step_samples, step_times};
use crate::views::Views;
use crate::{AnswerError, Answers, Range, Result, dependencies};
use cadentis_core::calendar::stretch::at_second;
use cadentis_core::calendar::{Cadence, Cover, LeftOut, Stretch};
use cadentis_core::finding::{self, Finding, LocationChecks};
use cadentis_core::goal::{Counted, ErrorBudget, Score, Standing, Tally};
use cadentis_core::journey;
use cadentis_core::run::Outcome;
use cadentis_core::run::level;
use cadentis_core::run::spell::{Gathered, Spell};
use cadentis_core::stats::change::{Change, changes};
use cadentis_core::stats::{Proof, Reading, Samples, readings};
use cadentis_core::timing::{Apdex, Vital};
use cadentis_core::visitor::{Attribute, Filter};
use cadentis_store::journey::Journey;
use cadentis_store::location::Location;
use cadentis_store::marker::Marker;
use cadentis_store::run::Run;
use jiff::Timestamp;
use std::collections::{HashMap, HashSet};

/// Points of page views by country, and of the error budget.
const COUNTRY_POINTS: i64 = 36;
const BUDGET_POINTS: i64 = 60;
/// A step is said to be slower when it is by more than this (milliseconds): less nobody notices.
const SLOWER_MS: f64 = 100.0;
/// So many failed runs in a row begin a period in which it is down from somewhere.
const IN_A_ROW: u64 = 2;
/// The stretch in which changes are sought, in seconds.
pub const SOUGHT_S: i64 = 3 * 7 * 86_400;
/// A marker this close to a change may have to do with it.
const NEAR_S: i64 = 3 * 3_600;
/// Hours on each side of a change that have to be on another level.
const LEAST_HOURS: usize = 24;

/// A number with how it was come by.
pub struct Told {
    /// The number.
    pub reading: Reading,
    /// Its working.
    pub proof: Proof,
}

/// How one step did.
pub struct StepReading {
    /// Its name.
    pub name: String,
    /// The limit in milliseconds, as the script says.
    pub budget_ms: Option<f64>,
    /// Milliseconds at the 50th, 75th and 95th percentile.
    pub duration: [Reading; 3],
    /// The 75th percentile in what the stretch is compared with.
    pub p75_before: Option<f64>,
}

impl StepReading {
    /// Milliseconds that its 75th percentile is above that of before.
    pub fn more_ms(&self) -> Option<f64> {
        Some(self.duration[1].value? - self.p75_before?)
    }

    /// How its 75th percentile stands against its limit.
    pub fn standing(&self) -> Option<Standing> {
        self.budget_ms.map(|b| Standing::of(&self.duration[1], b))
    }
}

/// What there is to say of a journey.
pub struct AtJourney {
    /// Where it plays.
    pub locations: Vec<Location>,
    /// The limit of a whole run in milliseconds, as its script says.
    pub budget_ms: Option<f64>,
    /// Its runs, by the one rule about what counts.
    pub runs: Counted<Run>,
    /// The share promised for it, if one is.
    pub promised: Option<f64>,
    /// Its error budget over time: second, and what stood then.
    pub spent: Vec<(i64, ErrorBudget)>,
    /// What became of its runs.
    pub tally: Tally,
    /// Runs that were not made, since maintenance held them.
    pub held: u64,
    /// Times in which it was reached from somewhere.
    pub uptime: Score,
    /// Milliseconds of a run that got through, at the 75th and 95th percentile.
    pub duration: [Told; 2],
    /// How satisfying its runs were.
    pub apdex: Apdex,
    /// Its counted steps, in their order.
    pub steps: Vec<StepReading>,
    /// What is the matter, worst first.
    pub findings: Vec<Finding>,
    /// What people wrote on the time axis.
    pub markers: Vec<Marker>,
    /// Maintenance that touches the stretch.
    pub maintenance: Vec<LeftOut>,
    /// What others say of what it stands on, as far as there was trouble.
    pub dependencies: Vec<dependencies::Told>,
    /// Page views by device, over time.
    pub views: Views,
    /// Page views by country, by whole hours.
    pub by_country: Views,
}

impl AtJourney {
    /// The step that takes most longer than before, and by how many milliseconds.
    pub fn slower_step(&self) -> Option<(&StepReading, f64)> {
        let slower = self.steps.iter().filter_map(|s| Some((s, s.more_ms()?)));
        slower.filter(|(_, more)| *more >= SLOWER_MS).max_by(|(_, a), (_, b)| a.total_cmp(b))
    }
}

/// The script of a journey, which it cannot be asked about without.
///
/// # Errors
/// When it cannot be read.
pub fn script_of(journey: &Journey) -> Result<journey::Journey> {
    journey::parse(&journey.script).map_err(|e| AnswerError::Script {
        journey: journey.name.clone(),
        slug: journey.slug.clone(),
        says: e.to_string(),
    })
}

/// Runs by their location.
pub fn by_location<'a>(runs: impl IntoIterator<Item = &'a Run>) -> HashMap<i32, Vec<&'a Run>> {
    let mut by: HashMap<i32, Vec<&Run>> = HashMap::new();
    for run in runs {
        by.entry(run.location_id).or_default().push(run);
    }
    by
}

/// Runs of the stretch that a range is compared with, if there is one: by the same rule about what counts.
async fn runs_against(
    answers: &Answers,
    site_id: i32,
    range: &Range,
    journey_id: i32,
) -> Result<Counted<Run>> {
    match range.against {
        Some(against) => Ok(answers.db.counted_runs(journey_id, site_id, against).await?),
        None => Ok(Counted::none(Run::check)),
    }
}

/// What there is to say of a journey. `whole` is the stretch with what of it lies ahead.
///
/// # Errors
/// When its script cannot be read, the database does not answer, or too much waits.
pub async fn ask(
    answers: &Answers,
    site: &cadentis_store::site::Site,
    range: &Range,
    whole: Stretch,
    journey: &Journey,
) -> Result<AtJourney> {
    let script = script_of(journey)?;
    let (db, past, everything) = (&answers.db, range.stretch, Filter::default());
    let goals = db.goals(site.id).await?;
    let goal = goals.iter().find(|g| g.newest().definition.journeys.contains(&journey.id));
    let of_store = async {
        Ok(futures::try_join!(
            db.counted_runs(journey.id, site.id, past),
            db.markers(site.id, whole),
            db.maintenance(site.id, whole),
            db.locations_of(journey),
        )?)
    };
    let spent = async {
        match goal {
            Some(g) => {
                let journeys = db.journeys(site.id).await?;
                budget_over(answers, site, g, &journeys, past, BUDGET_POINTS).await
            }
            None => Ok(Vec::new()),
        }
    };
    let vitals = [Vital::Lcp];
    let (read, before, views, by_country, spent, mut dependencies) = futures::try_join!(
        of_store,
        runs_against(answers, site.id, range, journey.id),
        Views::load(answers, site.id, past, &everything, Attribute::Device, &vitals, range.points),
        Views::rolled(
            answers,
            site.id,
            past,
            &everything,
            Attribute::Country,
            &vitals,
            COUNTRY_POINTS
        ),
        spent,
        dependencies::ask(answers, site, past, past.to),
    )?;
    dependencies.retain(dependencies::Told::was_in_trouble);
    let (runs, markers, maintenance, located) = read;
    let maintenance = LeftOut::of_journey(maintenance, journey.id);
    let held = held(journey, &located, &maintenance, past);
    let locations: Vec<Location> = located.into_iter().map(|(l, _)| l).collect();
    let budget_ms = script.within_ms.map(|ms| ms as f64);
    let promised = goal.map(|g| g.at(past.to).definition.promised);
    let (name, every_s, t_s) =
        (journey.name.clone(), i64::from(journey.every_s), journey.apdex_t_s);
    answers
        .computed(move || {
            let through = Samples::new(runs.through().map(|r| r.duration_ms));
            let duration =
                [0.75, 0.95].map(|p| Told { reading: through.reading(p), proof: through.proof(p) });
            let findings = findings(&name, &runs, &locations);
            AtJourney {
                tally: runs.tally(),
                held,
                uptime: runs.uptime(every_s),
                duration,
                apdex: apdex(&runs, t_s),
                steps: steps(&script, &runs, &before),
                findings,
                locations,
                budget_ms,
                promised,
                spent,
                markers,
                maintenance,
                dependencies,
                views,
                by_country,
                runs,
            }
        })
        .await
}

/// How many runs of a stretch maintenance held.
fn held(
    journey: &Journey,
    located: &[(Location, Cadence)],
    maintenance: &[LeftOut],
    past: Stretch,
) -> u64 {
    let at = |(location, cadence): &(Location, Cadence)| {
        let held = LeftOut::held(maintenance, journey.id, location.id).within(past);
        held.stretches().iter().map(|s| cadence.due(*s).count() as u64).sum::<u64>()
    };
    located.iter().map(at).sum()
}

fn apdex(runs: &Counted<Run>, t_s: f64) -> Apdex {
    let mut apdex = Apdex::new(t_s);
    for r in runs.iter() {
        match r.outcome {
            Outcome::Passed | Outcome::Slow => apdex.add(r.duration_ms),
            Outcome::Failed => apdex.add_failed(),
            Outcome::Unmeasured => {}
        }
    }
    apdex
}

fn steps(
    script: &journey::Journey,
    runs: &Counted<Run>,
    before: &Counted<Run>,
) -> Vec<StepReading> {
    let steps: Vec<&journey::Step> = script.counted_steps().collect();
    let now = step_times(runs.iter(), steps.len());
    let then = step_times(before.iter(), steps.len());
    let step = |(s, (now, then)): (&&journey::Step, (&Vec<f64>, &Vec<f64>))| {
        let (read, _) = readings(now, &[0.5, 0.75, 0.95]);
        StepReading {
            name: s.name.clone(),
            budget_ms: s.within_ms.map(|b| b as f64),
            duration: [read[0], read[1], read[2]],
            p75_before: readings(then, &[0.75]).0[0].value,
        }
    };
    steps.iter().zip(now.iter().zip(&then)).map(step).collect()
}

fn findings(name: &str, runs: &Counted<Run>, locations: &[Location]) -> Vec<Finding> {
    let here = by_location(runs.iter());
    let played: Vec<LocationChecks<'_>> = locations
        .iter()
        .map(|l| LocationChecks {
            location: &l.name,
            checks: here.get(&l.id).into_iter().flatten().map(|r| r.check()).collect(),
        })
        .collect();
    finding::order(finding::of_journey(name, &played))
}

/// A journey from one location.
pub struct Place {
    /// The location.
    pub location: Location,
    /// Its counted steps: 75th percentile in milliseconds, and the limit of the script.
    pub steps: Vec<(Reading, Option<f64>)>,
    /// The whole run's 75th percentile in milliseconds.
    pub p75: Option<f64>,
    /// The same in what the stretch is compared with.
    pub p75_before: Option<f64>,
}

/// A time in which it got through from everywhere, or did not from somewhere.
pub struct Period {
    /// From when to when.
    pub stretch: Stretch,
    /// What was wrong; `None` when it got through.
    pub down: Option<Down>,
}

/// What was wrong in a period.
pub struct Down {
    /// From where; empty when from every location.
    pub places: Vec<String>,
    /// Failed runs.
    pub runs: u64,
    /// Whether it still is.
    pub lasts: bool,
}

/// A journey from all its locations.
pub struct Places {
    /// Names of its counted steps.
    pub steps: Vec<String>,
    /// Each location, in its order.
    pub places: Vec<Place>,
    /// Periods, in order of time.
    pub periods: Vec<Period>,
}

/// Each step from each location, each location against its own usual, periods up and down.
///
/// # Errors
/// When its script cannot be read, the database does not answer, or too much waits.
pub async fn places(
    answers: &Answers,
    site_id: i32,
    range: &Range,
    journey: &Journey,
) -> Result<Places> {
    let script = script_of(journey)?;
    let (db, past) = (&answers.db, range.stretch);
    let of_store = async {
        Ok(futures::try_join!(
            db.counted_runs(journey.id, site_id, past),
            db.locations_of(journey)
        )?)
    };
    let ((runs, located), before) =
        futures::try_join!(of_store, runs_against(answers, site_id, range, journey.id))?;
    let computing = answers.computed(move || {
        let locations: Vec<Location> = located.into_iter().map(|(l, _)| l).collect();
        let (here, then) = (by_location(runs.iter()), by_location(before.iter()));
        let whole = |runs: &HashMap<i32, Vec<&Run>>, l: i32| {
            let here = runs.get(&l).into_iter().flatten();
            let through = here.filter(|r| r.outcome.got_through()).map(|r| r.duration_ms);
            Samples::new(through).reading(0.75).value
        };
        let periods = periods(past, &here, &locations);
        let place = |l: &Location| {
            let runs = here.get(&l.id).map_or(&[][..], Vec::as_slice);
            let steps = script.counted_steps().enumerate().map(|(i, s)| {
                let reading = step_samples(runs.iter().copied(), i).reading(0.75);
                (reading, s.within_ms.map(|b| b as f64))
            });
            Place {
                steps: steps.collect(),
                p75: whole(&here, l.id),
                p75_before: whole(&then, l.id),
                location: l.clone(),
            }
        };
        Places {
            steps: script.counted_steps().map(|s| s.name.clone()).collect(),
            places: locations.iter().map(place).collect(),
            periods,
        }
    });
    computing.await
}

fn periods(past: Stretch, runs: &HashMap<i32, Vec<&Run>>, locations: &[Location]) -> Vec<Period> {
    if runs.is_empty() {
        return Vec::new();
    }
    let mut spells = Vec::new();
    for l in locations {
        let here: Vec<_> = runs.get(&l.id).into_iter().flatten().map(|r| r.check()).collect();
        spells.extend(Spell::of(&here, IN_A_ROW).into_iter().map(|s| (s, l.name.as_str())));
    }
    let period = |p: level::Period<'_>| Period {
        stretch: p.stretch,
        down: p.down.map(|g| Down {
            places: match g.places.len() == locations.len() {
                true => Vec::new(),
                false => g.places.iter().map(|place| place.to_string()).collect(),
            },
            runs: g.runs,
            lasts: g.lasts,
        }),
    };
    level::periods(Gathered::of(spells, past.to), past).into_iter().map(period).collect()
}

/// A moment from which on it was quicker or slower.
pub struct Changed {
    /// The hour.
    pub at: Timestamp,
    /// By how much, with its interval.
    pub change: Change,
    /// Markers near it.
    pub near: Vec<Marker>,
}

/// What changed in the weeks that were looked at.
pub struct Changes {
    /// Each change, in order of time.
    pub changed: Vec<Changed>,
    /// Runs that counted.
    pub runs: usize,
}

/// Since when it is quicker or slower, over three weeks up to the end of the stretch.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn changed(
    answers: &Answers,
    site_id: i32,
    range: &Range,
    journey: &Journey,
) -> Result<Changes> {
    let hour = range.stretch.to.as_second().div_euclid(3_600) * 3_600;
    let stretch = Stretch { from: at_second(hour - SOUGHT_S), to: at_second(hour) };
    let (timings, markers, maintenance) = futures::try_join!(
        answers.db.timings(journey.id, site_id, stretch),
        answers.db.markers(site_id, stretch),
        answers.db.maintenance(site_id, stretch),
    )?;
    let journey_id = journey.id;
    let computing = answers.computed(move || {
        let covers: HashMap<i32, Cover> = (timings.iter().map(|t| t.location))
            .collect::<HashSet<i32>>()
            .into_iter()
            .map(|location| (location, LeftOut::at(&maintenance, journey_id, location)))
            .collect();
        let counted: Vec<_> = timings
            .into_iter()
            .filter(|t| covers.get(&t.location).is_none_or(|c| !c.contains(t.at)))
            .collect();
        let changed = |change: Change| {
            let at = at_second(stretch.from.as_second() + change.at as i64 * 3_600);
            let is_near = |m: &&Marker| m.at.duration_since(at).as_secs().abs() <= NEAR_S;
            Changed { at, change, near: markers.iter().filter(is_near).cloned().collect() }
        };
        let found = changes(&level::hours(&counted, stretch), LEAST_HOURS);
        Changes { changed: found.into_iter().map(changed).collect(), runs: counted.len() }
    });
    computing.await
}
