//! The journeys of a site, a row each: how they are, and which of their steps are in trouble.

use crate::goals::in_danger;
use crate::now::{Matter, of_goal};
use crate::played::{Played, of_journeys};
use crate::steps::step_samples;
use crate::{Answers, Range, Result};
use cadentis_core::finding::{self, Finding};
use cadentis_core::goal::{Counted, Standing, Tally};
use cadentis_core::journey::Step;
use cadentis_core::run::Outcome;
use cadentis_core::stats::{Reading, Samples};
use cadentis_store::journey::Journey;
use cadentis_store::location::Location;
use cadentis_store::run::Run;
use cadentis_store::site::Site;
use jiff::Timestamp;
use uuid::Uuid;

/// From so many runs that failed in a step on it is told.
const LEAST_FAILED: usize = 2;

/// One journey of a list.
pub struct Row {
    /// What was played of it.
    pub played: Played,
    /// What became of its runs.
    pub tally: Tally,
    /// Milliseconds of a run that got through, at the 50th, 75th and 95th percentile.
    pub duration: [Reading; 3],
    /// The limit of a whole run in milliseconds, as its script says.
    pub budget_ms: Option<f64>,
    /// The worst that there is to say of it.
    pub worst: Option<Finding>,
    /// Its steps that are in trouble.
    pub steps: Vec<TroubledStep>,
}

impl Row {
    /// Whether it is in trouble now.
    pub fn is_in_trouble(&self) -> bool {
        let lasts = |f: &Finding| {
            f.until.is_none() && matches!(f.state, Standing::Broken | Standing::Strained)
        };
        self.worst.as_ref().is_some_and(lasts)
    }
}

/// A step that runs fail in, or that takes too long.
pub struct TroubledStep {
    /// Its place among the steps that count, from 0.
    pub nth: usize,
    /// Its name.
    pub name: String,
    /// What is the matter.
    pub trouble: StepTrouble,
    /// The newest such run.
    pub newest: Option<Uuid>,
}

/// What can be the matter with a step.
pub enum StepTrouble {
    /// So many runs failed in it.
    Failed(usize),
    /// It takes longer at the 75th percentile than its budget, both in milliseconds.
    Over {
        /// At the 75th percentile.
        p75: Reading,
        /// What its script allows.
        budget_ms: f64,
    },
}

/// Journeys of a site and all they could be narrowed by.
pub struct Journeys {
    /// Those wanted, in their order.
    pub rows: Vec<Row>,
    /// Every journey there is, with the locations it plays at.
    pub known: Vec<(Journey, Vec<Location>)>,
}

/// Goals in danger of which a journey is a part, the worst first: journeys by their ids, and what is the matter.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn promised(
    answers: &Answers,
    site: &Site,
    now: Timestamp,
) -> Result<Vec<(Vec<i32>, Matter)>> {
    let (goals, journeys) =
        futures::try_join!(answers.db.goals(site.id), answers.db.journeys(site.id))?;
    let found = in_danger(answers, site, &goals, &journeys, now).await?;
    Ok(found.iter().filter_map(|d| Some((d.journeys.clone(), of_goal(d, site)?))).collect())
}

/// The journeys that `wanted` lets through, with what was played of them in the range.
///
/// # Errors
/// When the database does not answer.
pub async fn ask(
    answers: &Answers,
    site_id: i32,
    range: &Range,
    wanted: impl Fn(&Journey, &[Location]) -> bool,
) -> Result<Journeys> {
    let all = answers.db.journeys(site_id).await?;
    let mut located = answers.db.locations_of_all(&all).await?;
    let known: Vec<(Journey, Vec<Location>)> = all
        .into_iter()
        .map(|j| {
            let at = located.remove(&j.id).unwrap_or_default();
            (j, at.into_iter().map(|(l, _)| l).collect())
        })
        .collect();
    let shown: Vec<Journey> =
        known.iter().filter(|(j, at)| wanted(j, at)).map(|(j, _)| j.clone()).collect();
    let rows =
        of_journeys(answers, site_id, shown, range.stretch).await?.into_iter().map(row).collect();
    Ok(Journeys { rows, known })
}

fn row(played: Played) -> Row {
    let through = Samples::new(played.runs.through().map(|r| r.duration_ms));
    let script = played.script();
    let steps = script.iter().flat_map(|s| s.counted_steps().enumerate());
    Row {
        tally: played.runs.tally(),
        duration: [0.5, 0.75, 0.95].map(|p| through.reading(p)),
        budget_ms: script.as_ref().and_then(|s| s.within_ms).map(|ms| ms as f64),
        worst: finding::order(finding::of_journey(&played.journey.name, &played.checks()))
            .into_iter()
            .next(),
        steps: steps.filter_map(|(nth, step)| troubled(&played.runs, nth, step)).collect(),
        played,
    }
}

fn troubled(runs: &Counted<Run>, nth: usize, step: &Step) -> Option<TroubledStep> {
    let told = |trouble, newest: Option<&Run>| {
        Some(TroubledStep { nth, name: step.name.clone(), trouble, newest: newest.map(|r| r.id) })
    };
    // A failed run ends with the step that failed.
    let failed_here = |r: &&Run| r.outcome == Outcome::Failed && r.steps_ms.len() == nth + 1;
    let failed: Vec<&Run> = runs.iter().filter(failed_here).collect();
    if failed.len() >= LEAST_FAILED {
        return told(StepTrouble::Failed(failed.len()), failed.last().copied());
    }
    let budget_ms = step.within_ms.map(|ms| ms as f64)?;
    let p75 = step_samples(runs.iter(), nth).reading(0.75);
    if Standing::of(&p75, budget_ms) != Standing::Strained {
        return None;
    }
    let over = |r: &&Run| r.steps_ms.get(nth).is_some_and(|ms| f64::from(*ms) > budget_ms);
    told(StepTrouble::Over { p75, budget_ms }, runs.iter().rev().find(over))
}
