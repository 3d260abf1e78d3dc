//! Which sites there are, and what each question about one begins with.

use crate::{Answers, Result};
use cadentis_core::calendar::Stretch;
use cadentis_store::journey::Journey;
use cadentis_store::location::Location;
use cadentis_store::marker::Marker;
use cadentis_store::site::Site;

/// The site of this installation, once there is one.
///
/// # Errors
/// When the database does not answer.
pub async fn first(answers: &Answers) -> Result<Option<Site>> {
    Ok(answers.db.sites().await?.into_iter().next())
}

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

/// What is pinned to the time axis of a site in the stretch.
///
/// # Errors
/// When the database does not answer.
pub async fn markers(answers: &Answers, site_id: i32, stretch: Stretch) -> Result<Vec<Marker>> {
    Ok(answers.db.markers(site_id, stretch).await?)
}
