//! Which sites there are, how each does, and what each question about one begins with.

use crate::now::{self, Matter};
use crate::strip::{self, Strip};
use crate::{Answers, Range, Result};
use cadentis_core::calendar::Stretch;
use cadentis_core::goal::ErrorBudget;
use cadentis_core::visitor::Filter;
use cadentis_store::journey::Journey;
use cadentis_store::location::Location;
use cadentis_store::site::Site;
use futures::stream::{self, StreamExt, TryStreamExt};
use jiff::Timestamp;

/// The site with this key, which pages and beacons show.
///
/// # Errors
/// When the database does not answer.
pub async fn by_key(answers: &Answers, key: &str) -> Result<Option<Site>> {
    Ok(answers.db.site_by_key(key).await?)
}

/// Every location, in its order.
///
/// # Errors
/// When the database does not answer.
pub async fn locations(answers: &Answers) -> Result<Vec<Location>> {
    Ok(answers.db.locations().await?)
}

/// Every journey of a site, in its order.
///
/// # Errors
/// When the database does not answer.
pub async fn journeys(answers: &Answers, site_id: i32) -> Result<Vec<Journey>> {
    Ok(answers.db.journeys(site_id).await?)
}

/// The journey of a site with this name in addresses.
///
/// # Errors
/// When the database does not answer.
pub async fn journey(answers: &Answers, site_id: i32, slug: &str) -> Result<Option<Journey>> {
    Ok(answers.db.journey(site_id, slug).await?)
}

/// Every site, in its order.
///
/// # Errors
/// When the database does not answer.
pub async fn all(answers: &Answers) -> Result<Vec<Site>> {
    Ok(answers.db.sites().await?)
}

/// The site with this name in addresses.
///
/// # Errors
/// When the database does not answer.
pub async fn by_slug(answers: &Answers, slug: &str) -> Result<Option<Site>> {
    Ok(answers.db.site_by_slug(slug).await?)
}

/// The site that had this name in addresses and has another one now.
///
/// # Errors
/// When the database does not answer.
pub async fn that_was(answers: &Answers, slug: &str) -> Result<Option<Site>> {
    Ok(answers.db.site_that_was(slug).await?)
}

/// How a site does.
pub struct Doing {
    /// The site.
    pub site: Site,
    /// What happened in the two weeks up to now, by the hour.
    pub strip: Strip,
    /// What needs somebody, worst first, by the rule of Now.
    pub needs: Vec<Matter>,
    /// Whether anything was ever played or has arrived in the stretch that Now is about.
    pub is_measured: bool,
    /// The error budget of its first journey's goal, if one is promised.
    pub budget: Option<ErrorBudget>,
}

/// So many sites are looked at side by side.
const AT_ONCE: usize = 2;

/// How each of these sites does now: what Now says of the last `now_s` seconds, and what the time strip shows of `shown`.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn doing(
    answers: &Answers,
    sites: Vec<Site>,
    now_s: i64,
    shown: Stretch,
    now: Timestamp,
) -> Result<Vec<Doing>> {
    let each = sites.into_iter().map(async |site| {
        let stretch = Stretch::last(now_s, now);
        let range = Range { stretch, against: None, filter: Filter::default(), points: 1 };
        let (strip, found) = futures::try_join!(
            strip::ask(answers, site.id, shown),
            now::ask(answers, &site, &range, stretch, now)
        )?;
        let is_measured = found.first.is_some() || found.views.all().page_views > 0;
        let budget = found.first.and_then(|f| f.spent.into_iter().last()).map(|(_, budget)| budget);
        Ok(Doing { site, strip, needs: found.needs, is_measured, budget })
    });
    stream::iter(each).buffered(AT_ONCE).try_collect().await
}
