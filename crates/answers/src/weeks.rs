//! A journey over time: its steps on each other, network, server and browser, every step at every location, and another
//! journey beside it.

use crate::journey::{by_location, script_of};
use crate::steps::step_samples;
use crate::{Answers, Range, Result};
use cadentis_core::calendar::{LeftOut, Stretch};
use cadentis_core::journey::Journey as Script;
use cadentis_core::run::Outcome;
use cadentis_core::run::level;
use cadentis_core::stats::compare::{Shift, percentile_shift};
use cadentis_core::stats::{Method, Reading, Samples};
use cadentis_store::journey::Journey;
use cadentis_store::location::Location;
use cadentis_store::run::Run;
use cadentis_store::script_version::Status;
use std::collections::{BTreeSet, HashMap};

/// Buckets of a course.
const MOST: i64 = 56;
/// Names of the sides that a run's time is spent on, in their order.
pub const SIDES: [&str; 3] = ["network", "server", "browser"];

/// Equal buckets of time.
#[derive(Debug, Clone, Copy)]
pub struct Buckets {
    /// When the first begins, in seconds since 1970.
    pub from_s: i64,
    /// How long each is, in seconds.
    pub bucket_s: i64,
    /// How many there are.
    pub count: usize,
}

impl Buckets {
    fn of(stretch: Stretch) -> Buckets {
        let bucket_s = stretch.bucket_seconds(MOST);
        let from_s = stretch.from.as_second().div_euclid(bucket_s) * bucket_s;
        let count = (stretch.to.as_second() - from_s).div_euclid(bucket_s) + 1;
        Buckets { from_s, bucket_s, count: usize::try_from(count).unwrap_or(0) }
    }

    fn split<'a>(&self, runs: impl Iterator<Item = &'a Run>) -> Vec<Vec<&'a Run>> {
        let mut split = vec![Vec::new(); self.count];
        for run in runs {
            let at = (run.due_at.as_second() - self.from_s).div_euclid(self.bucket_s);
            if let Some(bucket) = usize::try_from(at).ok().and_then(|i| split.get_mut(i)) {
                bucket.push(run);
            }
        }
        split
    }

    /// The second in the middle of a bucket.
    pub fn middle(&self, i: usize) -> i64 {
        self.from_s + i as i64 * self.bucket_s + self.bucket_s / 2
    }
}

/// Something told for each bucket.
pub struct Course {
    /// What it is of.
    pub name: String,
    /// One value for each bucket; 0 where nothing was measured.
    pub values: Vec<f64>,
}

/// One step from one location.
pub struct Cell {
    /// Its median in each bucket, in milliseconds.
    pub course: Vec<Option<f64>>,
    /// The median of those medians.
    pub usual: Option<f64>,
    /// Its 75th percentile over the whole stretch.
    pub p75: Reading,
    /// Its limit, as the script says.
    pub budget_ms: Option<f64>,
}

/// One step of two journeys, or their whole runs.
pub struct Pair {
    /// The step; `None` for the whole run.
    pub step: Option<String>,
    /// Milliseconds at the 50th and 75th percentile, here.
    pub ours: [Option<f64>; 2],
    /// The same of the other.
    pub theirs: [Option<f64>; 2],
    /// How far their 75th percentiles are apart.
    pub shift: Option<Shift>,
}

/// Another journey, from the locations where both play.
pub struct Beside {
    /// The other journey.
    pub journey: Journey,
    /// From where both play.
    pub places: Vec<String>,
    /// Runs here and there.
    pub runs: [usize; 2],
    /// Of those, failed ones.
    pub failed: [usize; 2],
    /// For each bucket the mean of the locations' medians, here and there, in milliseconds.
    pub course: Vec<(Option<f64>, Option<f64>)>,
    /// Each step and the whole run.
    pub pairs: Vec<Pair>,
}

/// What there is to say of a journey over time.
pub struct Weeks {
    /// How time is parted.
    pub buckets: Buckets,
    /// Each counted step's median over all locations, in milliseconds.
    pub steps: Vec<Course>,
    /// Shares in per cent of all runs' time that network, server and browser took.
    pub sides: Vec<Course>,
    /// Each location's steps.
    pub places: Vec<(Location, Vec<Cell>)>,
    /// Maintenance that touches the stretch.
    pub maintenance: Vec<LeftOut>,
    /// Journeys that could be put beside it.
    pub others: Vec<Journey>,
    /// The one that is.
    pub beside: Option<Beside>,
}

/// A journey over time. `beside` names another by its name in addresses; without it a copy, or what it was copied from,
/// stands beside it; an empty name is nobody. `whole` is the stretch with what of it lies ahead.
///
/// # Errors
/// When its script cannot be read, the database does not answer, or too much waits.
pub async fn ask(
    answers: &Answers,
    site_id: i32,
    range: &Range,
    whole: Stretch,
    journey: &Journey,
    beside: Option<&str>,
) -> Result<Weeks> {
    let script = script_of(journey)?;
    let (db, past) = (&answers.db, range.stretch);
    let all = db.journeys(site_id).await?;
    let is_kin =
        |o: &&Journey| o.copied_from == Some(journey.id) || journey.copied_from == Some(o.id);
    let other = match beside {
        Some("") => None,
        Some(slug) => all.iter().find(|o| o.slug == slug && o.id != journey.id),
        None => all.iter().find(is_kin),
    };
    let theirs = async {
        match other {
            Some(o) => {
                db.counted_runs(o.id, site_id, past).await.map(|runs| Some((o.clone(), runs)))
            }
            None => Ok(None),
        }
    };
    let (runs, maintenance, located, theirs) = futures::try_join!(
        db.counted_runs(journey.id, site_id, past),
        db.maintenance(site_id, whole),
        db.locations_of(journey),
        theirs,
    )?;
    let offered = |o: &Journey| o.id != journey.id && o.status != Status::Archived.word();
    let others = all.iter().filter(|o| offered(o)).cloned().collect();
    let journey_id = journey.id;
    let computing = answers.computed(move || {
        let counted: Vec<&Run> = runs.iter().collect();
        let locations: Vec<Location> = located.into_iter().map(|(l, _)| l).collect();
        let buckets = Buckets::of(past);
        let split = buckets.split(counted.iter().copied());
        let beside = theirs.map(|(o, runs)| {
            self::beside(o, &script, &counted, runs.iter().collect(), &locations, &buckets)
        });
        Weeks {
            steps: steps(&script, &split),
            sides: sides(&split),
            places: places(&script, &counted, locations, &buckets),
            buckets,
            maintenance: LeftOut::of_journey(maintenance, journey_id),
            others,
            beside,
        }
    });
    computing.await
}

fn median(samples: Samples) -> Option<f64> {
    samples.percentile(0.5, Method::NearestRank)
}

fn through(runs: &[&Run]) -> Samples {
    Samples::new(runs.iter().filter(|r| r.outcome.got_through()).map(|r| r.duration_ms))
}

fn steps(script: &Script, split: &[Vec<&Run>]) -> Vec<Course> {
    let at =
        |i: usize, runs: &Vec<&Run>| median(step_samples(runs.iter().copied(), i)).unwrap_or(0.0);
    script
        .counted_steps()
        .enumerate()
        .map(|(i, s)| Course {
            name: s.name.clone(),
            values: split.iter().map(|runs| at(i, runs)).collect(),
        })
        .collect()
}

/// Shares, in per cent, of all the time of a bucket's runs.
fn sides(split: &[Vec<&Run>]) -> Vec<Course> {
    let of = |runs: &Vec<&Run>| {
        let known = runs.iter().filter(|r| r.outcome.got_through()).filter_map(|r| r.split_ms);
        level::shares(known.map(|s| s.map(f64::from)))
    };
    let shares: Vec<[f64; 3]> = split.iter().map(of).collect();
    let side = |(i, name): (usize, &str)| Course {
        name: name.into(),
        values: shares.iter().map(|s| s[i]).collect(),
    };
    SIDES.into_iter().enumerate().map(side).collect()
}

fn places(
    script: &Script,
    counted: &[&Run],
    locations: Vec<Location>,
    buckets: &Buckets,
) -> Vec<(Location, Vec<Cell>)> {
    let here = by_location(counted.iter().copied());
    let of = |l: &Location| {
        let runs = here.get(&l.id).map_or(&[][..], Vec::as_slice);
        let split = buckets.split(runs.iter().copied());
        let cell = |(i, s): (usize, &cadentis_core::journey::Step)| {
            let at = |runs: &Vec<&Run>| median(step_samples(runs.iter().copied(), i));
            let course: Vec<Option<f64>> = split.iter().map(at).collect();
            Cell {
                usual: median(Samples::new(course.iter().copied().flatten())),
                course,
                p75: step_samples(runs.iter().copied(), i).reading(0.75),
                budget_ms: s.within_ms.map(|b| b as f64),
            }
        };
        script.counted_steps().enumerate().map(cell).collect()
    };
    locations.into_iter().map(|l| (of(&l), l)).map(|(cells, l)| (l, cells)).collect()
}

fn beside(
    other: Journey,
    script: &Script,
    ours: &[&Run],
    theirs: Vec<&Run>,
    locations: &[Location],
    buckets: &Buckets,
) -> Beside {
    let places = |runs: &[&Run]| runs.iter().map(|r| r.location_id).collect::<BTreeSet<_>>();
    let both: BTreeSet<i32> = places(ours).intersection(&places(&theirs)).copied().collect();
    let common = |r: &&&Run| both.contains(&r.location_id);
    let ours: Vec<&Run> = ours.iter().filter(common).copied().collect();
    let theirs: Vec<&Run> = theirs.iter().filter(common).copied().collect();
    let pair = |step: Option<String>, ours: Samples, theirs: Samples| {
        let of = |s: &Samples| [0.5, 0.75].map(|p| s.percentile(p, Method::NearestRank));
        let shift = percentile_shift(&ours, &theirs, 0.75);
        Pair { step, ours: of(&ours), theirs: of(&theirs), shift }
    };
    let mut pairs: Vec<Pair> = script
        .counted_steps()
        .enumerate()
        .map(|(i, s)| {
            let of = |runs: &[&Run]| step_samples(runs.iter().copied(), i);
            pair(Some(s.name.clone()), of(&ours), of(&theirs))
        })
        .collect();
    pairs.push(pair(None, through(&ours), through(&theirs)));
    let failed = |runs: &[&Run]| runs.iter().filter(|r| r.outcome == Outcome::Failed).count();
    let course = course(&ours, buckets).into_iter().zip(course(&theirs, buckets));
    Beside {
        journey: other,
        places: locations.iter().filter(|l| both.contains(&l.id)).map(|l| l.name.clone()).collect(),
        runs: [ours.len(), theirs.len()],
        failed: [failed(&ours), failed(&theirs)],
        course: course.collect(),
        pairs,
    }
}

/// Where one of two places was silent, the mix would move the median: each place is taken for itself.
fn course(runs: &[&Run], buckets: &Buckets) -> Vec<Option<f64>> {
    let by: HashMap<i32, Vec<&Run>> = by_location(runs.iter().copied());
    let split: Vec<Vec<Vec<&Run>>> =
        by.values().map(|r| buckets.split(r.iter().copied())).collect();
    (0..buckets.count).map(|i| level::of_places(split.iter().map(|s| through(&s[i])))).collect()
}
