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

/// What is set up.
pub struct Setup {
    /// Every location, in its order.
    pub locations: Vec<Manned>,
    /// What scripts of the site type unseen, without what it is.
    pub secrets: Vec<Secret>,
}

/// What is set up for a site.
///
/// # Errors
/// When the database does not answer.
pub async fn ask(answers: &Answers, site_id: i32, now: Timestamp) -> Result<Setup> {
    let db = &answers.db;
    let (locations, runners, secrets) =
        futures::try_join!(db.locations(), db.runners(now), db.secrets(site_id))?;
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
    Ok(Setup { locations: locations.into_iter().map(manned).collect(), secrets })
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
