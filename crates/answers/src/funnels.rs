//! Funnels of a site: how many visits went on from page to page, and where the others stopped.

use crate::{Answers, Range, Result, compute};
use cadentis_core::visitor::funnel::{COLUMNS, Funnel, funnel};
use cadentis_store::funnel::SavedFunnel;
use cadentis_store::sheet::Filed;
use cadentis_store::visits::with_filter;
use serde::Serialize;

/// One funnel that was kept, and what became of its visits.
#[derive(Debug, Clone, Serialize)]
pub struct Followed {
    /// Its name.
    pub name: String,
    /// From the first page to the last within so many seconds.
    pub within_s: i32,
    /// Visits that began in the stretch.
    pub now: Funnel,
    /// Those of what it is compared with, if with anything.
    pub before: Option<Funnel>,
}

/// All funnels of a site.
#[derive(Debug, Clone, Serialize)]
pub struct Funnels {
    /// In the order of their names.
    pub funnels: Vec<Followed>,
    /// Seconds of a bucket of their courses.
    pub bucket_s: i64,
}

/// The funnels of a site over the range.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn ask(answers: &Answers, site_id: i32, range: &Range) -> Result<Funnels> {
    let columns = with_filter(&COLUMNS, &range.filter);
    let saved = answers.db.funnels(site_id).await?;
    if saved.is_empty() {
        return Ok(Funnels { funnels: Vec::new(), bucket_s: range.bucket_s() });
    }
    let (sheets, before) = futures::try_join!(
        answers.db.sheets_of(Filed::PageViews, site_id, range.stretch, &columns),
        answers.db.sheets_against(Filed::PageViews, site_id, range.against, &columns),
    )?;
    let range = range.clone();
    let computing = answers.computed(move || {
        let bucket_s = range.bucket_s();
        let follow = |s: SavedFunnel| {
            let within_ms = i64::from(s.within_s) * 1_000;
            let of = |sheets, stretch| {
                compute::go_on();
                funnel(sheets, stretch, &range.filter, &s.steps, within_ms, bucket_s)
            };
            Followed {
                now: of(&sheets, range.stretch),
                before: range.against.map(|a| of(&before, a)),
                name: s.name.clone(),
                within_s: s.within_s,
            }
        };
        Funnels { funnels: saved.into_iter().map(follow).collect(), bucket_s }
    });
    computing.await
}
