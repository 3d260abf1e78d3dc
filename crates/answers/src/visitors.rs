//! Real people's page views of a stretch: all of them, by page family.

use crate::views::Views;
use crate::{Answers, Range, Result, compute};
use cadentis_core::calendar::Stretch;
use cadentis_core::goal::budget::Budget;
use cadentis_core::timing::Vital;
use cadentis_core::visitor::slices::{Minute, different, is_read_exactly, worst_minute};
use cadentis_core::visitor::{Attribute, Seen};
use cadentis_store::sheet::Filed;
use cadentis_store::visits::with_filter;
use futures::future::OptionFuture;
use serde::Serialize;

/// A minute with fewer samples than this is not called the worst.
const LEAST: usize = 20;
/// Minutes of longer stretches are beyond what anybody would act on, and want every sample read.
const MINUTES_OF: i64 = 3 * 86_400;

/// How many different visits there were, and people of whom pages told who they are.
#[derive(Debug, Clone, Copy, Serialize)]
pub struct Visits {
    /// Visits with at least one page view in the stretch.
    pub visits: u64,
    /// Different people among them.
    pub people: u64,
}

/// Page views of a site.
pub struct Overview {
    /// By page family, over time.
    pub views: Views,
    /// All of what the stretch is compared with, over time.
    pub before: Option<Views>,
    /// Counting them reads every row, so it is done of stretches up to 13 hours only.
    pub visits: Option<Visits>,
    /// The site's limits.
    pub budgets: Vec<Budget>,
    /// The minute with the highest 75th percentile of the vital.
    pub worst: Option<Minute>,
}

/// What there is to say of a site's page views. `vital` is the one that the question is about, `lanes` those whose course
/// is compared.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn ask(
    answers: &Answers,
    site_id: i32,
    range: &Range,
    vital: Vital,
    lanes: &[Vital],
) -> Result<Overview> {
    let shown: Vec<Vital> =
        Vital::ALL.into_iter().filter(|v| *v == vital || lanes.contains(v)).collect();
    let (filter, by) = (&range.filter, Attribute::Family);
    let (views, before, visits, budgets, worst) = futures::try_join!(
        Views::load(answers, site_id, range.stretch, filter, by, &shown, range.points),
        compared(answers, site_id, range, Attribute::Device, lanes),
        visits(answers, site_id, range),
        async { Ok(answers.db.budgets(site_id).await?) },
        worst(answers, site_id, range, vital),
    )?;
    Ok(Overview { views, before, visits, budgets, worst })
}

/// Page views of what a range is compared with, by whole hours.
pub(crate) async fn compared(
    answers: &Answers,
    site_id: i32,
    range: &Range,
    by: Attribute,
    vitals: &[Vital],
) -> Result<Option<Views>> {
    let read = range
        .against
        .map(|a| Views::rolled(answers, site_id, a, &range.filter, by, vitals, range.points));
    OptionFuture::from(read).await.transpose()
}

async fn visits(answers: &Answers, site_id: i32, range: &Range) -> Result<Option<Visits>> {
    if !is_read_exactly(range.stretch) {
        return Ok(None);
    }
    let columns = with_filter(&["visit.alike", "person.alike"], &range.filter);
    let sheets = answers.db.sheets_of(Filed::PageViews, site_id, range.stretch, &columns).await?;
    let range = range.clone();
    let computing = answers.computed(move || {
        let count = |column| {
            compute::go_on();
            different(&sheets, range.stretch, &range.filter, column)
        };
        Some(Visits { visits: count("visit.alike"), people: count("person.alike") })
    });
    computing.await
}

async fn worst(
    answers: &Answers,
    site_id: i32,
    range: &Range,
    vital: Vital,
) -> Result<Option<Minute>> {
    if range.stretch.seconds() > MINUTES_OF {
        return Ok(None);
    }
    let column = vital.name().to_lowercase();
    let columns = with_filter(&["at", &column], &range.filter);
    let sheets = answers.db.sheets_of(Filed::PageViews, site_id, range.stretch, &columns).await?;
    let range = range.clone();
    answers
        .computed(move || worst_minute(&sheets, range.stretch, &range.filter, vital, LEAST))
        .await
}

/// Names of the attributes and numbers of the site's own that its page views carried.
///
/// # Errors
/// When the database does not answer.
pub async fn attributes(answers: &Answers, site_id: i32, stretch: Stretch) -> Result<Vec<String>> {
    Ok(answers.db.attributes(site_id, stretch).await?)
}

/// The page views with the largest values of a vital, largest first, `most` at most.
///
/// # Errors
/// When the database does not answer.
pub async fn slowest(
    answers: &Answers,
    site_id: i32,
    range: &Range,
    vital: Vital,
    most: usize,
) -> Result<Vec<Seen>> {
    Ok(answers.db.slowest_page_views(site_id, range.stretch, &range.filter, vital, most).await?)
}
