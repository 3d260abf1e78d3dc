//! Samples of a measure, read of page views and of what happened on them.

use crate::{Answers, Result};
use cadentis_core::calendar::Stretch;
use cadentis_core::measure::Measured;
use cadentis_core::measure::sheets::{Gather, Parts, gather};
use cadentis_core::visitor::sheet::Sheet;
use cadentis_store::sheet::Filed;

/// The sheets that hold them, with these columns beside those that the measure reads.
pub(crate) async fn sheets(
    answers: &Answers,
    site_id: i32,
    wanted: &Gather<'_>,
    more: &[String],
) -> Result<Vec<Sheet>> {
    let filed = match (wanted.is_of_failures(), wanted.is_of_happenings()) {
        (true, _) => Filed::Failures,
        (_, true) => Filed::Happenings,
        _ => Filed::PageViews,
    };
    let mut columns = wanted.columns();
    columns.extend_from_slice(more);
    columns.sort();
    columns.dedup();
    Ok(answers.db.sheets_of(filed, site_id, wanted.stretch, &columns).await?)
}

/// What samples of a stretch come to, in buckets of so many seconds.
pub(crate) async fn parts(
    answers: &Answers,
    site_id: i32,
    measured: &Measured,
    stretch: Stretch,
    (bucket_s, exact): (i64, bool),
) -> Result<Parts> {
    let wanted = Gather::of(measured, stretch, (bucket_s, exact));
    let sheets = sheets(answers, site_id, &wanted, &[]).await?;
    let measured = measured.clone();
    let computing = answers
        .computed(move || gather(&sheets, &Gather::of(&measured, stretch, (bucket_s, exact))));
    computing.await
}
