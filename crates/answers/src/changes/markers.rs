//! What is pinned to the time axis.

use crate::changes::{Author, cut, noted};
use crate::{Answers, Result};
use cadentis_store::site::Site;
use jiff::Timestamp;

/// The title of a marker has at most so many characters.
pub const LONGEST_TITLE: usize = 80;
/// And what is said besides.
pub const LONGEST_DETAIL: usize = 500;

/// Pins a marker to a moment; its id.
///
/// # Errors
/// When the database does not answer.
pub async fn add(
    answers: &Answers,
    by: &Author,
    site: &Site,
    at: Timestamp,
    title: &str,
    detail: &str,
) -> Result<i32> {
    let (title, detail) = (cut(title, LONGEST_TITLE), cut(detail, LONGEST_DETAIL));
    let one = answers.one().await?;
    let id = one.db.add_marker(site.id, at, &title, &detail).await?;
    noted(one, by, "pinned the marker", &title).await?;
    Ok(id)
}

/// Takes a marker away; whether there was one.
///
/// # Errors
/// When the database does not answer.
pub async fn remove(answers: &Answers, by: &Author, site: &Site, id: i32) -> Result<bool> {
    let one = answers.one().await?;
    match one.db.remove_marker(site.id, id).await? {
        Some(title) => {
            noted(one, by, "took away the marker", &title).await?;
            Ok(true)
        }
        None => Ok(false),
    }
}
