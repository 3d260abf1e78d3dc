//! Limits on any measure: how each stands over a stretch, and which alerts watch the same.

use super::{POINTS, watching};
use crate::{Answers, Result, measures};
use cadentis_core::calendar::Stretch;
use cadentis_core::calendar::stretch::at_second;
use cadentis_core::goal::Standing;
use cadentis_core::goal::budget::Judged;
use cadentis_core::stats::{Proof, Reading};
use cadentis_store::alert::Alert;
use cadentis_store::measured_budget::MeasuredBudget;
use cadentis_store::site::Site;
use futures::stream::{self, StreamExt, TryStreamExt};
use jiff::Timestamp;

/// A measure against its limit.
pub struct MeasuredRow {
    /// The limit.
    pub kept: MeasuredBudget,
    /// What it came to over the stretch.
    pub reading: Reading,
    /// How that was come by; what it names that is not there any more without.
    pub proof: std::result::Result<Proof, String>,
    /// How it stands.
    pub judged: Judged,
    /// Since when it is over; `None` when it is not, or from the beginning of the stretch on.
    pub since: Option<Timestamp>,
    /// Alerts that are on and watch the same: who is told when it breaks.
    pub watched: Vec<(i32, String)>,
}

/// So many measures are read at a time.
const AT_ONCE: usize = 3;

/// Every limit on a measure, in the order they were set first.
pub(super) async fn rows(
    answers: &Answers,
    site: &Site,
    stretch: Stretch,
    alerts: &[Alert],
) -> Result<Vec<MeasuredRow>> {
    let kept = answers.db.measured_budgets(site.id).await?;
    let rows = kept.into_iter().map(|kept| row(answers, site, stretch, kept, alerts));
    stream::iter(rows).buffered(AT_ONCE).try_collect().await
}

async fn row(
    answers: &Answers,
    site: &Site,
    stretch: Stretch,
    kept: MeasuredBudget,
    alerts: &[Alert],
) -> Result<MeasuredRow> {
    let limit = kept.limit.clone();
    let watched = watching(alerts, &limit.measured);
    let found = measures::about(answers, site, &limit.measured).await?;
    let (reading, proof, since) = match &found {
        Ok(about) => {
            let read = measures::reading(answers, site, about, stretch).await?;
            let since = match limit.judge(&read.reading).state {
                Standing::Strained => {
                    let course = measures::course(answers, site, about, stretch, POINTS).await?;
                    let points = course.points.iter().map(|p| (at_second(p.begin_s), p.reading));
                    limit.since(&points.collect::<Vec<_>>())
                }
                _ => None,
            };
            (read.reading, Ok(read.proof), since)
        }
        Err(not_there) => (Reading::NONE, Err(not_there.to_string()), None),
    };
    let judged = limit.judge(&reading);
    Ok(MeasuredRow { kept, reading, proof, judged, since, watched })
}
