//! From nothing to the first run and the first page view: what is there, and what is missing.

use crate::setup::{self, Manned, Presence};
use crate::{Answers, Result};
use cadentis_core::calendar::Stretch;
use cadentis_core::run::Outcome;
use cadentis_store::journey::Journey;
use cadentis_store::page_view::Refused;
use cadentis_store::run::Run;
use cadentis_store::script_version::Status;
use cadentis_store::site::Site;
use jiff::{SignedDuration, Timestamp};

/// How far somebody is who begins.
pub struct Start {
    /// Every location with its runners.
    pub locations: Vec<Manned>,
    /// The first journey that is not archived.
    pub journey: Option<Journey>,
    /// The first run that measured the site, or the first that came back where none has.
    pub run: Option<Run>,
    /// When the newest page view arrived that is kept as such.
    pub arrived: Option<Timestamp>,
    /// Page views that were turned away in the last hour, by their reason.
    pub refused: Vec<Refused>,
}

impl Start {
    /// Whether a runner asks for work somewhere.
    pub fn has_runner(&self) -> bool {
        self.locations.iter().any(|l| matches!(l.presence, Presence::There(_)))
    }

    /// Whether a run has come back that says anything about the site.
    pub fn has_played(&self) -> bool {
        self.run.as_ref().is_some_and(|run| run.outcome != Outcome::Unmeasured)
    }

    /// Whether nothing is missing any more.
    pub fn is_done(&self) -> bool {
        self.has_played() && self.arrived.is_some()
    }
}

/// How far a site is.
///
/// # Errors
/// When the database does not answer.
pub async fn ask(answers: &Answers, site: &Site, now: Timestamp) -> Result<Start> {
    let db = &answers.db;
    let lately = Stretch { from: now - SignedDuration::from_hours(1), to: now };
    let kept = Stretch { from: now - SignedDuration::from_hours(14 * 24), to: now };
    let of_store = async {
        Ok(futures::try_join!(
            db.journeys(site.id),
            db.first_run(site.id),
            db.newest_page_views(site.id, kept, 1),
            db.refused_lately(site.id, lately),
        )?)
    };
    let (locations, (journeys, run, newest, refused)) =
        futures::try_join!(setup::locations(answers, now), of_store)?;
    let run = match run {
        Some(id) => db.run(id).await?,
        None => None,
    };
    let journey = journeys.into_iter().find(|j| j.status != Status::Archived.word());
    let arrived = newest.first().map(|view| view.at);
    Ok(Start { locations, journey, run, arrived, refused })
}
