//! Trials: a script played once on a wish, saved or not, and counted nowhere.

use crate::{Answers, Result};
use cadentis_core::run::DeviceProfile;
use cadentis_store::site::Site;
use cadentis_store::trial::TrialStatus;
use jiff::Timestamp;
use uuid::Uuid;

/// A script that is to be played once.
pub struct NewTrial<'a> {
    /// The script.
    pub script: &'a str,
    /// The location, by its name in addresses.
    pub location: &'a str,
    /// The device profile; the usual one when there is none of that name.
    pub device: &'a str,
}

/// Asks for a trial; `None` when there is no such location.
///
/// # Errors
/// When the database does not answer.
pub async fn begin(answers: &Answers, site: &Site, new: &NewTrial<'_>) -> Result<Option<Uuid>> {
    let locations = answers.db.locations().await?;
    let Some(location) = locations.iter().find(|l| l.slug == new.location) else {
        return Ok(None);
    };
    let device = DeviceProfile::of(new.device).unwrap_or(DeviceProfile::USUAL).slug;
    let now = Timestamp::now();
    Ok(Some(answers.db.ask_trial(site.id, location.id, new.script, device, now).await?))
}

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

/// Breaks a trial off as soon as its runner hears of it.
///
/// # Errors
/// When the database does not answer.
pub async fn cancel(answers: &Answers, site_id: i32, id: Uuid) -> Result<()> {
    Ok(answers.db.cancel_trial(site_id, id).await?)
}
