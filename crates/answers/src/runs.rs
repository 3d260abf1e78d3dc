//! All runs of a journey in a stretch, narrowed.

use crate::{Answers, Result};
use cadentis_core::calendar::Stretch;
use cadentis_core::run::Outcome;
use cadentis_store::journey::Journey;
use cadentis_store::location::Location;
pub use cadentis_store::run::ListedRun;
use cadentis_store::run::{Like, Run};
use cadentis_store::script_version::Version;
use jiff::Timestamp;
use uuid::Uuid;

/// Which runs are wanted.
#[derive(Debug, Clone, Default)]
pub struct Wanted<'a> {
    /// Only with this outcome.
    pub outcome: Option<Outcome>,
    /// Only from the location with this name in addresses; one that there is not narrows nothing.
    pub location: Option<&'a str>,
    /// Only of this version of the script.
    pub version: Option<i32>,
    /// Only at least so long, in milliseconds.
    pub longer_ms: f64,
    /// So many of the newest are passed over, and so many told.
    pub skip: i64,
    /// The most that are told.
    pub most: i64,
}

/// One run of the list.
pub struct Row {
    /// The run.
    pub run: Run,
    /// The version of the script that it played, as far as that is known.
    pub version: Option<i32>,
}

/// Runs of a journey, newest first.
pub struct Runs {
    /// Those that were asked for.
    pub rows: Vec<Row>,
    /// How many there are in all.
    pub count: i64,
    /// Every location, in its order.
    pub locations: Vec<Location>,
    /// The one the list is narrowed to.
    pub location: Option<Location>,
    /// Every version of the script, newest first.
    pub versions: Vec<Version>,
}

/// Runs of a journey in the stretch.
///
/// # Errors
/// When the database does not answer.
pub async fn ask(
    answers: &Answers,
    journey: &Journey,
    stretch: Stretch,
    wanted: &Wanted<'_>,
) -> Result<Runs> {
    let db = &answers.db;
    let (locations, versions) = futures::try_join!(db.locations(), db.versions(journey.id))?;
    let location = wanted.location.and_then(|slug| locations.iter().find(|l| l.slug == slug));
    let like = Like {
        outcome: wanted.outcome,
        location_id: location.map(|l| l.id),
        version: wanted.version,
        longer_ms: wanted.longer_ms,
    };
    let of = (journey.id, journey.site_id);
    let (rows, count) = db.runs_like(of, stretch, &like, wanted.skip, wanted.most).await?;
    Ok(Runs {
        rows: rows.into_iter().map(|(run, version)| Row { run, version }).collect(),
        count,
        location: location.cloned(),
        locations,
        versions,
    })
}

/// The newest run of a journey in the stretch.
///
/// # Errors
/// When the database does not answer.
pub async fn newest(answers: &Answers, journey: &Journey, stretch: Stretch) -> Result<Option<Run>> {
    let of = (journey.id, journey.site_id);
    let (rows, _) = answers.db.runs_like(of, stretch, &Like::default(), 0, 1).await?;
    Ok(rows.into_iter().next().map(|(run, _)| run))
}

/// Runs of a journey in the stretch, newest first, that come after this one (its moment and id) in that order.
///
/// # Errors
/// When the database does not answer.
pub async fn after(
    answers: &Answers,
    journey: &Journey,
    stretch: Stretch,
    wanted: &Wanted<'_>,
    after: Option<(Timestamp, Uuid)>,
) -> Result<Vec<ListedRun>> {
    let locations = answers.db.locations().await?;
    let location = wanted.location.and_then(|slug| locations.iter().find(|l| l.slug == slug));
    let like =
        Like { outcome: wanted.outcome, location_id: location.map(|l| l.id), ..Like::default() };
    let of = (journey.id, journey.site_id);
    Ok(answers.db.runs_after(of, stretch, &like, after, wanted.most).await?)
}
