//! Page views told apart by an attribute, which values explain what is not good, and whose visits had most trouble.

use crate::views::Views;
use crate::{Answers, Range, Result, compute};
use cadentis_core::timing::Vital;
use cadentis_core::visitor::acts::{Trouble, troubled};
use cadentis_core::visitor::slices::{Carrier, carriers};
use cadentis_core::visitor::{Attribute, Pool};
use cadentis_store::sheet::Filed;
use cadentis_store::visits::with_filter;
use futures::future::OptionFuture;
use serde::Serialize;

/// One value of an attribute.
pub struct Value {
    /// The value itself; empty when page views did not tell.
    pub value: String,
    /// Its page views.
    pub pool: Pool,
    /// Those of what the stretch is compared with.
    pub before: Option<Pool>,
}

/// Page views by each value of an attribute, most first.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn ask(
    answers: &Answers,
    site_id: i32,
    range: &Range,
    by: &Attribute,
    vital: Vital,
) -> Result<Vec<Value>> {
    let (filter, vitals) = (&range.filter, [vital]);
    let load = |stretch| Views::load(answers, site_id, stretch, filter, by.clone(), &vitals, 1);
    // Values beside each other: both from the same moments to the second, not from whole hours as lines are.
    let before = OptionFuture::from(range.against.map(load));
    let (views, before) =
        futures::try_join!(load(range.stretch), async { before.await.transpose() })?;
    let mut then = before.map(|b| b.values()).unwrap_or_default();
    let mut taken = |value: &str| {
        let nth = then.iter().position(|(v, _)| v == value)?;
        Some(then.swap_remove(nth).1)
    };
    let value = |(value, pool): (String, Pool)| Value { before: taken(&value), value, pool };
    Ok(views.values().into_iter().map(value).collect())
}

/// Which values carry more of what is not good than of all page views.
pub struct Explained {
    /// Samples of the vital, and how many of them are not good.
    pub samples: u64,
    /// How many of them are not good.
    pub not_good: u64,
    /// Those that explain at least one of them, the largest excess first.
    pub carriers: Vec<Carrier>,
}

/// Looks through every attribute that is rolled up.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn explained(
    answers: &Answers,
    site_id: i32,
    range: &Range,
    vital: Vital,
) -> Result<Explained> {
    let (stretch, filter) = (range.stretch, &range.filter);
    let views =
        Views::by_each(answers, site_id, stretch, filter, &Attribute::ROLLED, &[vital]).await?;
    let parts: Vec<(Attribute, Vec<(String, Pool)>)> =
        Attribute::ROLLED.into_iter().zip(views.iter().map(Views::values)).collect();
    let (samples, not_good) = parts.first().map_or((0, 0), |(_, values)| {
        let measured = values.iter().map(|(_, pool)| pool.measured(vital));
        measured.fold((0, 0), |(n, bad), m| (n + m.samples(), bad + m.not_good()))
    });
    let mut carriers = answers.computed(move || carriers(vital, &parts)).await?;
    carriers.retain(|c| c.excess >= 1.0);
    Ok(Explained { samples, not_good, carriers })
}

/// Who had most trouble, worst first.
#[derive(Debug, Clone, Serialize)]
pub struct MostTrouble {
    /// Visits.
    pub visits: Vec<Trouble>,
    /// People of whom pages told who they are.
    pub people: Vec<Trouble>,
}

/// The visits and people with most trouble, `most` of each at most.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn trouble(
    answers: &Answers,
    site_id: i32,
    range: &Range,
    most: usize,
) -> Result<MostTrouble> {
    const COLUMNS: [&str; 7] = ["at", "visit", "person", "family", "ended", "errors", "lcp"];
    let columns = with_filter(&COLUMNS, &range.filter);
    let sheets = answers.db.sheets_of(Filed::PageViews, site_id, range.stretch, &columns).await?;
    let range = range.clone();
    let computing = answers.computed(move || {
        let of = |column| {
            compute::go_on();
            troubled(&sheets, range.stretch, &range.filter, column, most)
        };
        MostTrouble { visits: of("visit"), people: of("person") }
    });
    computing.await
}
