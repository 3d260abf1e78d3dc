//! What somebody lets a location's browser do now: play a script once, open a page to record on. Neither counts anywhere.

use super::{Author, noted};
use crate::{Answers, Result};
use cadentis_core::journey;
use cadentis_core::run::DeviceProfile;
use cadentis_store::site::Site;
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

/// Lets a script be played once, as soon as a runner of the location asks for work; `None` when there is no such location.
///
/// # Errors
/// When the database does not answer.
pub async fn play(
    answers: &Answers,
    by: &Author,
    site: &Site,
    new: &NewTrial<'_>,
) -> Result<Option<Uuid>> {
    let locations = answers.db.locations().await?;
    let Some(location) = locations.iter().find(|l| l.slug == new.location) else {
        return Ok(None);
    };
    let device = DeviceProfile::of(new.device).unwrap_or(DeviceProfile::USUAL).slug;
    let named = journey::parse(new.script).map_or_else(|_| "a script".into(), |j| j.name);
    let one = answers.one().await?;
    let id = one.db.ask_trial(site.id, location.id, new.script, device, Timestamp::now()).await?;
    noted(one, by, "played a trial", format!("{named} at {}", location.name)).await?;
    Ok(Some(id))
}

/// Breaks a trial off as soon as its runner hears of it.
///
/// # Errors
/// When the database does not answer.
pub async fn stop(answers: &Answers, by: &Author, site: &Site, id: Uuid) -> Result<()> {
    let one = answers.one().await?;
    one.db.cancel_trial(site.id, id).await?;
    noted(one, by, "stopped a trial", id).await
}

/// Lets a browser at a location open an address for somebody to work on; `None` when there is no such location.
///
/// # Errors
/// When the database does not answer.
pub async fn record(
    answers: &Answers,
    by: &Author,
    site: &Site,
    (location, address): (&str, &str),
) -> Result<Option<Uuid>> {
    let locations = answers.db.locations().await?;
    let Some(location) = locations.iter().find(|l| l.slug == location) else { return Ok(None) };
    let one = answers.one().await?;
    let id = one.db.ask_recording(site.id, location.id, address, Timestamp::now()).await?;
    noted(one, by, "recorded", format!("{address} at {}", location.name)).await?;
    Ok(Some(id))
}
