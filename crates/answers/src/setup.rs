//! How an installation is set up: locations with their runners, secrets, what waits.

use crate::{Answers, Result};
use cadentis_store::location::Location;
use cadentis_store::secret::Secret;
use cadentis_store::work::{Backlog, Runner};
use jiff::{SignedDuration, Timestamp};

/// A runner that was not heard of for longer is away.
const AWAY: SignedDuration = SignedDuration::from_secs(180);
/// Runners are told by name as long as they were heard of within this.
const NAMED_FOR: SignedDuration = SignedDuration::from_hours(24);

/// Whether anybody plays at a location.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Presence {
    /// No runner has asked for work yet.
    Never,
    /// None has for a while; the last one did then.
    Away(Timestamp),
    /// One has just now.
    There(Timestamp),
}

/// A location with its runners.
pub struct Manned {
    /// The location.
    pub location: Location,
    /// Its runners of the last day.
    pub runners: Vec<Runner>,
    /// Whether anybody plays there.
    pub presence: Presence,
}

/// Every location with its runners, in its order.
///
/// # Errors
/// When the database does not answer.
pub async fn locations(answers: &Answers, now: Timestamp) -> Result<Vec<Manned>> {
    let (locations, runners) = futures::try_join!(answers.db.locations(), answers.db.runners(now))?;
    let manned = |location: Location| {
        let here = || runners.iter().filter(|(id, _)| *id == location.id).map(|(_, r)| r);
        let presence = match here().map(|r| r.seen_at).max() {
            None => Presence::Never,
            Some(at) if now.duration_since(at) > AWAY => Presence::Away(at),
            Some(at) => Presence::There(at),
        };
        let named = here().filter(|r| now.duration_since(r.seen_at) < NAMED_FOR);
        Manned { runners: named.cloned().collect(), presence, location }
    };
    Ok(locations.into_iter().map(manned).collect())
}

/// What scripts of a site type unseen, without what it is.
///
/// # Errors
/// When the database does not answer.
pub async fn secrets(answers: &Answers, site_id: i32) -> Result<Vec<Secret>> {
    Ok(answers.db.secrets(site_id).await?)
}

/// What waits in the database for somebody to do it.
///
/// # Errors
/// When the database does not answer.
pub async fn backlog(answers: &Answers, now: Timestamp) -> Result<Backlog> {
    Ok(answers.db.backlog(now).await?)
}

/// Each location's name, and when its newest run was due, as far as it has played for two days.
///
/// # Errors
/// When the database does not answer.
pub async fn last_runs(
    answers: &Answers,
    now: Timestamp,
) -> Result<Vec<(String, Option<Timestamp>)>> {
    Ok(answers.db.last_runs(now).await?)
}
