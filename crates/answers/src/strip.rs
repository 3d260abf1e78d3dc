//! What the time strip shows of a site: how many came, what failed, what was pinned to the time axis.

use crate::{Answers, Result};
use cadentis_core::calendar::{LeftOut, Stretch};
use cadentis_core::goal::Tally;
use cadentis_store::incident::Incident;
use cadentis_store::marker::Marker;
use jiff::{SignedDuration, Timestamp};

/// An hour in which many runs failed that were not planned to.
pub struct TroubledHour {
    /// The hour.
    pub stretch: Stretch,
    /// What became of its runs.
    pub tally: Tally,
}

/// What there is to draw on the strip.
pub struct Strip {
    /// Page views of each hour, by its beginning.
    pub page_views: Vec<(Timestamp, u64)>,
    /// Hours in trouble, in order of time.
    pub troubled: Vec<TroubledHour>,
    /// What people wrote on the time axis.
    pub markers: Vec<Marker>,
    /// Maintenance that touches the stretch.
    pub maintenance: Vec<LeftOut>,
    /// Incidents that were open at some time of it, newest first; rehearsals are none.
    pub incidents: Vec<Incident>,
}

/// What happened in this stretch, by the hour.
///
/// # Errors
/// When the database does not answer.
pub async fn ask(answers: &Answers, site_id: i32, shown: Stretch) -> Result<Strip> {
    let db = &answers.db;
    let (page_views, hours, markers, maintenance, mut incidents) = futures::try_join!(
        db.page_view_hours(site_id, shown),
        db.failing_hours(site_id, shown),
        db.markers(site_id, shown),
        db.maintenance(site_id, shown),
        db.incidents(site_id, shown),
    )?;
    incidents.retain(|i| !i.is_rehearsal);
    let troubled = hours.into_iter().filter_map(|(hour, tally)| {
        let stretch = Stretch { from: hour, to: hour + SignedDuration::from_hours(1) };
        let planned = maintenance
            .iter()
            .any(|m| m.reach.is_everything() && m.stretch.common(&stretch).is_some());
        (!planned && tally.is_troubled()).then_some(TroubledHour { stretch, tally })
    });
    Ok(Strip { page_views, troubled: troubled.collect(), markers, maintenance, incidents })
}
