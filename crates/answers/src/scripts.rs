//! The script of a journey and its life: versions, where it plays, what it costs.

use crate::{Answers, Result};
use cadentis_store::journey::Journey;
use cadentis_store::location::Location;
use cadentis_store::script_version::Version;
use jiff::Timestamp;
use std::collections::HashMap;

/// What there is to say of a journey's script.
pub struct AtScript {
    /// Every version, newest first.
    pub versions: Vec<Version>,
    /// Every location, in its order.
    pub locations: Vec<Location>,
    /// Where the journey plays.
    pub plays_at: Vec<Location>,
    /// Names of the locations of those that have not played it yet.
    pub still_to_answer: Vec<String>,
    /// The script of the version that was asked for, if it is there.
    pub old: Option<String>,
}

/// What there is to say of a journey's script, with the script of an older version.
///
/// # Errors
/// When the database does not answer.
pub async fn ask(answers: &Answers, j: &Journey, version: Option<i32>) -> Result<AtScript> {
    let db = &answers.db;
    let old = async {
        match version {
            Some(version) => db.script_of_version(j.id, version).await,
            None => Ok(None),
        }
    };
    let (versions, locations, still_to_answer, located, old) = futures::try_join!(
        db.versions(j.id),
        db.locations(),
        db.still_to_answer(j.id),
        db.locations_of(j),
        old,
    )?;
    let plays_at = located.into_iter().map(|(l, _)| l).collect();
    Ok(AtScript { versions, locations, plays_at, still_to_answer, old })
}

/// The journeys of a site with the newest version of the script of each, by their names in addresses.
///
/// # Errors
/// When the database does not answer.
pub async fn newest(answers: &Answers, site_id: i32) -> Result<Vec<(Journey, Version)>> {
    let db = &answers.db;
    let (journeys, versions) =
        futures::try_join!(db.journeys(site_id), db.newest_versions(site_id))?;
    let mut versions: HashMap<i32, Version> = versions.into_iter().collect();
    let with = |j: Journey| versions.remove(&j.id).map(|version| (j, version));
    let mut all: Vec<_> = journeys.into_iter().filter_map(with).collect();
    all.sort_by(|(a, _), (b, _)| a.slug.cmp(&b.slug));
    Ok(all)
}

/// What a run of a site takes on the mean of the last day.
pub struct MeanRun {
    /// Milliseconds.
    pub ms: f64,
    /// Bytes that are kept of it.
    pub bytes: f64,
}

/// What a run of a site takes on the mean of the last day, if there was one.
///
/// # Errors
/// When the database does not answer.
pub async fn mean_run(answers: &Answers, site_id: i32, now: Timestamp) -> Result<Option<MeanRun>> {
    let mean = answers.db.mean_run(site_id, now).await?;
    Ok(mean.map(|(ms, bytes)| MeanRun { ms, bytes }))
}
