//! Trials: a script played once on a wish, saved or not, and counted nowhere.

use crate::{Answers, Result};
use cadentis_store::trial::TrialStatus;
use jiff::Timestamp;
use uuid::Uuid;

/// How a trial stands.
pub struct Trial {
    /// The trial.
    pub status: TrialStatus,
    /// When a runner of its location was last heard of.
    pub runner_seen: Option<Timestamp>,
}

/// How a trial stands; `None` when there is no such trial any more.
///
/// # Errors
/// When the database does not answer.
pub async fn ask(
    answers: &Answers,
    site_id: i32,
    id: Uuid,
    now: Timestamp,
) -> Result<Option<Trial>> {
    let status = answers.db.trial(id).await?.filter(|trial| trial.site_id == site_id);
    let Some(status) = status else { return Ok(None) };
    let runners = answers.db.runners(now).await?;
    let here = runners.into_iter().filter(|(l, _)| *l == status.location_id);
    let runner_seen = here.map(|(_, r)| r.seen_at).max();
    Ok(Some(Trial { status, runner_seen }))
}
