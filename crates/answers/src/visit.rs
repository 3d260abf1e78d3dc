//! Visits: one from its first page view to its last, those of one person, what arrives just now.

use crate::{Answers, Result};
use cadentis_core::calendar::Stretch;
use cadentis_core::visitor::privacy;
use cadentis_core::visitor::{HappeningRow, PageView, Seen};
use cadentis_store::page_view::Refused;
use cadentis_store::site::Site;
use jiff::Timestamp;
use uuid::Uuid;

/// The most page views that are told of a visit, or of a person.
pub const MOST: usize = 300;

/// One visit.
pub struct Visit {
    /// Its page views, in order of time; never none.
    pub views: Vec<Seen>,
    /// What happened on them.
    pub told: Vec<HappeningRow>,
    /// Whether there are more than are told.
    pub is_cut: bool,
}

/// The visit with this id within a day of a moment; `None` when nothing is known of it.
///
/// # Errors
/// When the database does not answer.
pub async fn ask(
    answers: &Answers,
    site_id: i32,
    id: Uuid,
    near: Timestamp,
) -> Result<Option<Visit>> {
    let mut views = answers.db.visit(site_id, id, near, MOST + 1).await?;
    // What is said is said of what is shown.
    let is_cut = views.len() > MOST;
    views.truncate(MOST);
    if views.is_empty() {
        return Ok(None);
    }
    let told = answers.db.told_of_visit(site_id, id, &views).await?;
    Ok(Some(Visit { views, told, is_cut }))
}

/// What is kept of a person by the id that pages gave: as it is made now, and as it was made before there were keys.
pub fn persons(answers: &Answers, site_key: &str, id: &str) -> Vec<u128> {
    let now = answers.persons.as_ref().map(|key| key.person(site_key, id));
    now.into_iter().chain([privacy::person_of_before(site_key, id)]).map(u128::from).collect()
}

/// Page views of these people in the stretch, in order of time.
///
/// # Errors
/// When the database does not answer.
pub async fn of_persons(
    answers: &Answers,
    site_id: i32,
    persons: &[u128],
    stretch: Stretch,
) -> Result<Vec<Seen>> {
    let mut views = Vec::new();
    for person in persons.iter().filter(|p| **p != 0) {
        views.extend(answers.db.of_one(site_id, "person", *person, stretch, MOST).await?);
    }
    views.sort_by_key(|v| v.at);
    views.truncate(MOST);
    Ok(views)
}

/// What arrived last.
pub struct Arrivals {
    /// The newest page views, newest first.
    pub newest: Vec<PageView>,
    /// Reasons why others were turned away, and how many were.
    pub refused: Vec<(String, u64)>,
}

/// The newest page views of a stretch, and what was turned away in it.
///
/// # Errors
/// When the database does not answer.
pub async fn arrivals(
    answers: &Answers,
    site_id: i32,
    stretch: Stretch,
    most: i64,
) -> Result<Arrivals> {
    let (newest, refused) = futures::try_join!(
        answers.db.newest_page_views(site_id, stretch, most),
        answers.db.refused(site_id, stretch),
    )?;
    Ok(Arrivals { newest, refused })
}

/// What arrives just now, with an example of each kind that was turned away.
pub struct Live {
    /// The newest page views, newest first.
    pub newest: Vec<PageView>,
    /// What was turned away.
    pub refused: Vec<Refused>,
}

/// What arrived in a stretch that ends now.
///
/// # Errors
/// When the database does not answer.
pub async fn live(answers: &Answers, site: &Site, stretch: Stretch, most: i64) -> Result<Live> {
    let (newest, refused) = futures::try_join!(
        answers.db.newest_page_views(site.id, stretch, most),
        answers.db.refused_lately(site.id, stretch),
    )?;
    Ok(Live { newest, refused })
}
