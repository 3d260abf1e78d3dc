//! Page views told apart by an attribute, which values explain what is not good, and whose visits had most trouble.

use crate::views::Views;
use crate::visitors::compared;
use crate::{Answers, Range, Result};
use cadentis_core::timing::Vital;
use cadentis_core::visitor::acts::{Trouble, troubled};
use cadentis_core::visitor::slices::{Carrier, carriers};
use cadentis_core::visitor::{Attribute, Pool};
use cadentis_store::filed::Filed;
use cadentis_store::visits::with_filter;
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
    let (range, vitals) = (Range { points: 1, ..range.clone() }, [vital]);
    let (views, before) = futures::try_join!(
        Views::load(answers, site_id, range.stretch, &range.filter, by.clone(), &vitals, 1),
        compared(answers, site_id, &range, by.clone(), &vitals),
    )?;
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
    let read = Attribute::ROLLED.map(async |attribute| {
        let vitals = [vital];
        let views = Views::load(
            answers,
            site_id,
            range.stretch,
            &range.filter,
            attribute.clone(),
            &vitals,
            1,
        );
        crate::Result::Ok((attribute, views.await?.values()))
    });
    let parts = futures::future::try_join_all(read).await?;
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
        let of = |column| troubled(&sheets, range.stretch, &range.filter, column, most);
        MostTrouble { visits: of("visit"), people: of("person") }
    });
    computing.await
}
