//! Journeys with what was played of them: what every question about runs begins with, in as many statements for a hundred
//! journeys as for one.

use crate::run::cause_of;
use crate::{Answers, Result};
use cadentis_core::calendar::{Cadence, Stretch};
use cadentis_core::finding::LocationChecks;
use cadentis_core::goal::{Check, Counted};
use cadentis_core::journey;
use cadentis_core::run::bars::{self, Bar};
use cadentis_core::run::{Outcome, RunRecord, cause};
use cadentis_store::journey::Journey;
use cadentis_store::location::Location;
use cadentis_store::run::Run;
use cadentis_store::site::Site;
use std::collections::HashMap;
use uuid::Uuid;

/// A journey, where it plays, and its runs of a stretch.
pub struct Played {
    /// The journey itself.
    pub journey: Journey,
    /// Where and when it plays, in its order.
    pub located: Vec<(Location, Cadence)>,
    /// Its runs, by the one rule about what counts.
    pub runs: Counted<Run>,
}

impl Played {
    /// Its script, if it can be read.
    pub fn script(&self) -> Option<journey::Journey> {
        journey::parse(&self.journey.script).ok()
    }

    /// What became of its counted runs at each location.
    pub fn checks(&self) -> Vec<LocationChecks<'_>> {
        let mut by: HashMap<i32, Vec<Check>> = HashMap::new();
        for run in self.runs.iter() {
            by.entry(run.location_id).or_default().push(run.check());
        }
        let mut of = |l: &Location| by.remove(&l.id).unwrap_or_default();
        self.located
            .iter()
            .map(|(l, _)| LocationChecks { location: &l.name, checks: of(l) })
            .collect()
    }
}

/// The runs of a journey from one location.
pub struct Here {
    /// The location.
    pub location: Location,
    /// Its runs, by the one rule about what counts.
    pub runs: Counted<Run>,
}

impl Here {
    /// One for each location, in the order given, whether anything was played there or not.
    pub fn each(runs: &Counted<Run>, locations: impl IntoIterator<Item = Location>) -> Vec<Here> {
        let mut by = runs.by(|r| r.location_id);
        let here = |location: Location| Here {
            runs: by.remove(&location.id).unwrap_or_else(|| Counted::none(Run::check)),
            location,
        };
        locations.into_iter().map(here).collect()
    }

    /// As long as all but the rare giant took, in milliseconds.
    pub fn nearly_longest_ms(&self) -> Option<f64> {
        bars::nearly_longest(self.runs.all().map(told))
    }

    /// The runs that count, in bars of so many seconds.
    pub fn bars(&self, length_s: i64) -> Vec<Bar<&Run>> {
        bars::bars(self.runs.iter(), told, length_s)
    }
}

fn told(run: &Run) -> bars::Told {
    bars::Told { due_s: run.due_at.as_second(), outcome: run.outcome, duration_ms: run.duration_ms }
}

/// Journeys with their runs of the stretch, in the order given.
///
/// # Errors
/// When the database does not answer.
pub async fn of_journeys(
    answers: &Answers,
    site_id: i32,
    journeys: Vec<Journey>,
    stretch: Stretch,
) -> Result<Vec<Played>> {
    let ids: Vec<i32> = journeys.iter().map(|j| j.id).collect();
    let (mut located, mut runs) = futures::try_join!(
        answers.db.locations_of_all(&journeys),
        answers.db.counted_runs_of(&ids, site_id, stretch),
    )?;
    let played = |journey: Journey| Played {
        located: located.remove(&journey.id).unwrap_or_default(),
        runs: runs.remove(&journey.id).unwrap_or_else(|| Counted::none(Run::check)),
        journey,
    };
    Ok(journeys.into_iter().map(played).collect())
}

/// So many runs that passed before it a slow run is compared with.
pub const USUAL: i64 = 20;

/// The likely cause of each of these runs' trouble, as far as there is one to tell.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn likely_causes(
    answers: &Answers,
    site: &Site,
    runs: &[&Run],
) -> Result<HashMap<Uuid, cause::Cause>> {
    let slow: Vec<&Run> = runs.iter().copied().filter(|r| r.outcome == Outcome::Slow).collect();
    let (records, mut usual) =
        futures::try_join!(answers.db.records(runs), answers.db.usual_records_of(&slow, USUAL))?;
    let site = site.clone();
    let computing = answers.computed(move || {
        let cause = |record: &RunRecord| {
            let usual = usual.remove(&record.id).unwrap_or_default();
            Some((record.id, cause_of(record, &usual, |host| site.owns(host))?))
        };
        records.iter().filter_map(cause).collect()
    });
    computing.await
}
