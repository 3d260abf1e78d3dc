//! One run, or one trial: what was recorded, what it is compared with, why it was in trouble, and the runs around it.

use crate::journey::by_location;
use crate::played::USUAL;
use crate::{Answers, Result};
use cadentis_core::journey;
use cadentis_core::run::bars;
use cadentis_core::run::cause::{self, Cause};
use cadentis_core::run::{Difference, RunRecord, Split, StepRecord};
use cadentis_core::stats::Samples;
use cadentis_store::journey::Journey;
use cadentis_store::location::Location;
use cadentis_store::run::{Accepted, Run, Shown, Steps, Try};
use cadentis_store::site::Site;
use std::collections::HashMap;
use uuid::Uuid;

/// A run that counts, or a trial that does not.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Which {
    /// Played because it was due.
    Run,
    /// Played because somebody wished it.
    Trial,
}

/// One step beside the same step of usual runs.
pub struct ExaminedStep {
    /// Its place among the steps of the record.
    pub nth: usize,
    /// What it spent its time on.
    pub split: Split,
    /// Against the medians of usual runs, the largest difference first.
    pub differences: Vec<Difference>,
    /// How many usual runs had the step.
    pub usual: usize,
    /// Where each of its requests usually stands.
    pub requests: HashMap<String, bars::Usual>,
}

/// What a record says when it is looked at closely.
pub struct Examined {
    /// Requests that failed, in all steps.
    pub failed_requests: usize,
    /// Errors of scripts that nothing caught.
    pub script_errors: usize,
    /// Why it was in trouble, as far as we can tell.
    pub cause: Option<Cause>,
    /// The step that is looked at: the one that was asked for, or the one in trouble.
    pub step: Option<ExaminedStep>,
}

/// The runs nearest to a run.
#[derive(Default)]
pub struct Near {
    /// The one before it from the same location.
    pub previous: Option<Uuid>,
    /// The one after it.
    pub next: Option<Uuid>,
    /// The nearest of each other location, in the order of locations.
    pub elsewhere: Vec<(Location, Run)>,
}

/// What there is to say of a run or of a trial.
pub struct AtRun {
    /// The run; of a trial what would have been one.
    pub run: Run,
    /// What it played; of a trial the script's own name.
    pub name: String,
    /// Its journey; of a trial the one of the same name, or the first.
    pub journey: Journey,
    /// Where it was played.
    pub location: Location,
    /// The version of the script; `None` when it was not kept, or never saved.
    pub version: Option<i32>,
    /// The script that was played.
    pub script: String,
    /// The same with what held on top, if playing it fell back anywhere.
    pub repaired: Option<String>,
    /// What was recorded, if it is still kept.
    pub record: Option<RunRecord>,
    /// What that says.
    pub examined: Option<Examined>,
    /// Usual runs that it is compared with.
    pub usual: Vec<RunRecord>,
    /// Their median, in milliseconds.
    pub usual_ms: Option<f64>,
    /// Pictures that were kept beside the record; those of a trial are in it.
    pub pictures: Vec<Shown>,
    /// The other of two tries.
    pub tries: Option<Try>,
    /// What pages looked like when they were accepted.
    pub accepted: Vec<Accepted>,
    /// The runs around it.
    pub near: Near,
}

/// The script with what held on top, if playing it fell back anywhere.
pub fn repaired(script: &str, record: &RunRecord) -> Option<String> {
    let fell: Vec<_> = record.steps.iter().flat_map(|s| s.fell_back.clone()).collect();
    let journey = journey::parse(script).ok().filter(|_| !fell.is_empty())?;
    Some(journey::repaired(&journey, &fell).to_string())
}

/// The same step of other runs.
fn usual_steps<'a>(usual: &'a [RunRecord], name: &'a str) -> impl Iterator<Item = &'a StepRecord> {
    usual.iter().filter_map(move |r| r.steps.iter().find(|s| s.name == *name))
}

/// Why a run was in trouble, as far as it can be told beside usual runs.
pub(crate) fn cause_of(
    record: &RunRecord,
    usual: &[RunRecord],
    owns: impl Fn(&str) -> bool,
) -> Option<Cause> {
    let troubled = cause::trouble_step(record);
    let splits: Option<Vec<Split>> =
        troubled.map(|step| usual_steps(usual, &step.name).map(Split::of).collect());
    cause::likely_cause(record, &splits.unwrap_or_default(), owns)
}

/// Looks at a record closely, above all at the step at `wanted`, or else at the one in trouble.
fn examined(
    record: &RunRecord,
    usual: &[RunRecord],
    owns: impl Fn(&str) -> bool,
    wanted: Option<usize>,
) -> Examined {
    let troubled = cause::trouble_step(record)
        .and_then(|t| record.steps.iter().position(|s| std::ptr::eq(s, t)));
    let shown = wanted.filter(|nth| *nth < record.steps.len()).or(troubled);
    let step = shown.map(|nth| {
        let step = &record.steps[nth];
        let requests = bars::usual(usual_steps(usual, &step.name));
        let usual: Vec<Split> = usual_steps(usual, &step.name).map(Split::of).collect();
        let split = Split::of(step);
        let differences = cause::differences(&split, &usual);
        ExaminedStep { nth, split, differences, usual: usual.len(), requests }
    });
    let requests = record.steps.iter().flat_map(|s| &s.requests);
    Examined {
        failed_requests: requests.filter(|r| r.is_failed()).count(),
        script_errors: record.steps.iter().flat_map(|s| &s.console).filter(|c| c.uncaught).count(),
        cause: cause_of(record, usual, owns),
        step,
    }
}

/// What there is to say of a run; `None` when there is none. `step` is the place of the step to look at.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn ask(
    answers: &Answers,
    site: &Site,
    id: Uuid,
    step: Option<usize>,
) -> Result<Option<AtRun>> {
    let db = &answers.db;
    let Some(run) = db.run(id).await?.filter(|r| r.site_id == site.id) else { return Ok(None) };
    let (journeys, locations, record, pictures) = futures::try_join!(
        db.journeys(run.site_id),
        db.locations(),
        db.record(&run),
        db.pictures(&run),
    )?;
    let journey = journeys.into_iter().find(|j| j.id == run.journey_id);
    let location = locations.iter().find(|l| l.id == run.location_id).cloned();
    let (Some(journey), Some(location)) = (journey, location) else { return Ok(None) };
    let (near, usual, tries, accepted, (version, script)) = futures::try_join!(
        db.runs_around(&run, i64::from(journey.every_s) * 2),
        db.usual_records(&run, USUAL),
        db.other_try(run.id),
        db.accepted(run.journey_id),
        db.script_played(&run, &journey),
    )?;
    let near = near_of(&run, &near, &locations);
    let (name, site) = (journey.name.clone(), site.clone());
    let at = AtRun {
        run,
        name,
        journey,
        location,
        version,
        repaired: None,
        script,
        record,
        examined: None,
        usual,
        usual_ms: None,
        pictures,
        tries,
        accepted,
        near,
    };
    Ok(Some(answers.computed(move || at.examined(&site, step)).await?))
}

impl AtRun {
    fn examined(mut self, site: &Site, step: Option<usize>) -> AtRun {
        if let Some(record) = &self.record {
            self.examined = Some(examined(record, &self.usual, |host| site.owns(host), step));
            self.repaired = repaired(&self.script, record);
        }
        self.usual_ms = Samples::new(self.usual.iter().map(|r| r.duration_ms)).reading(0.5).value;
        self
    }
}

fn near_of(run: &Run, near: &[Run], locations: &[Location]) -> Near {
    let by = by_location(near);
    let here = by.get(&run.location_id).map_or(&[][..], Vec::as_slice);
    let nearest = |l: &Location| {
        let there = by.get(&l.id)?.iter();
        let nearest = there.min_by_key(|r| r.due_at.duration_since(run.due_at).abs())?;
        Some((l.clone(), (*nearest).clone()))
    };
    Near {
        previous: here.iter().rev().find(|r| r.due_at < run.due_at).map(|r| r.id),
        next: here.iter().find(|r| r.due_at > run.due_at).map(|r| r.id),
        elsewhere: locations
            .iter()
            .filter(|l| l.id != run.location_id)
            .filter_map(nearest)
            .collect(),
    }
}

/// What there is to say of a trial; `None` when it is not kept any more, or was not played yet.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn trial(
    answers: &Answers,
    site: &Site,
    id: Uuid,
    step: Option<usize>,
) -> Result<Option<AtRun>> {
    let db = &answers.db;
    let Some(trial) = db.trial(id).await?.filter(|t| t.site_id == site.id) else {
        return Ok(None);
    };
    let Some(record) = trial.record else { return Ok(None) };
    let (journeys, locations) = futures::try_join!(db.journeys(trial.site_id), db.locations())?;
    let location = locations.into_iter().find(|l| l.id == trial.location_id);
    let name = journey::parse(&trial.script).map(|j| j.name).unwrap_or_default();
    // What is usual is what the journey of the same name does.
    let same = journeys.iter().find(|j| j.name == name);
    let journey = same.or(journeys.first()).cloned();
    let (Some(journey), Some(location)) = (journey, location) else { return Ok(None) };
    let run = Run {
        id,
        site_id: trial.site_id,
        journey_id: journey.id,
        location_id: location.id,
        due_at: trial.asked_at,
        outcome: record.outcome,
        duration_ms: record.duration_ms,
        steps_ms: Steps::new(),
        trouble: record.trouble.as_ref().map(|t| t.says.clone()),
        split_ms: None,
        counts: None,
    };
    let usual = match same {
        Some(_) => db.usual_records(&run, USUAL).await?,
        None => Vec::new(),
    };
    let site = site.clone();
    let at = AtRun {
        run,
        name,
        journey,
        location,
        version: None,
        repaired: None,
        script: trial.script,
        record: Some(record),
        examined: None,
        usual,
        usual_ms: None,
        pictures: Vec::new(),
        tries: None,
        accepted: Vec::new(),
        near: Near::default(),
    };
    Ok(Some(answers.computed(move || at.examined(&site, step)).await?))
}

/// What was recorded of a run or a trial, if it is still kept.
///
/// # Errors
/// When the database does not answer.
pub async fn record(
    answers: &Answers,
    site_id: i32,
    which: Which,
    id: Uuid,
) -> Result<Option<RunRecord>> {
    match which {
        Which::Trial => {
            let trial = answers.db.trial(id).await?.filter(|t| t.site_id == site_id);
            Ok(trial.and_then(|t| t.record))
        }
        Which::Run => Ok(of_site(answers, site_id, id).await?.flatten()),
    }
}

/// What was recorded of a run of this site: nothing when it is not kept any more, and `None` when there is no such run.
///
/// # Errors
/// When the database does not answer.
pub async fn of_site(
    answers: &Answers,
    site_id: i32,
    id: Uuid,
) -> Result<Option<Option<RunRecord>>> {
    match answers.db.run(id).await?.filter(|run| run.site_id == site_id) {
        Some(run) => Ok(Some(answers.db.record(&run).await?)),
        None => Ok(None),
    }
}

/// A picture of a run: its media type and bytes, as a runner sent them.
///
/// # Errors
/// When the database does not answer.
pub async fn picture(
    answers: &Answers,
    site_id: i32,
    id: Uuid,
    step: i16,
    nth: i16,
) -> Result<Option<(String, Vec<u8>)>> {
    match answers.db.run(id).await?.filter(|r| r.site_id == site_id) {
        Some(run) => Ok(answers.db.picture(&run, step, nth).await?),
        None => Ok(None),
    }
}
