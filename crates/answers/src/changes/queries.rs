//! Queries: kept under a name, and taken away.

use super::{Author, cut, noted};
use crate::{Answers, Result};
use cadentis_core::query::Query;
use cadentis_store::saved_query::KeptQuery;
use cadentis_store::site::Site;

/// A name has at most so many characters.
pub const LONGEST_NAME: usize = 80;

/// Keeps a query; whoever keeps one of that name replaces it.
///
/// # Errors
/// When the database does not answer.
pub async fn save(
    answers: &Answers,
    by: &Author,
    site: &Site,
    (name, query): (&str, &Query),
) -> Result<KeptQuery> {
    let (name, says) = (cut(name, LONGEST_NAME), query.to_string());
    let one = answers.one().await?;
    let kept = one.db.save_query(site.id, (&name, &says), by.name()).await?;
    if let KeptQuery::Kept(_) = kept {
        noted(one, by, "kept the query", format!("{name}: {says}")).await?;
    }
    Ok(kept)
}

/// Takes a query away; whether there was one.
///
/// # Errors
/// When the database does not answer.
pub async fn remove(answers: &Answers, by: &Author, site: &Site, id: i32) -> Result<bool> {
    let one = answers.one().await?;
    let Some(name) = one.db.delete_query(site.id, id).await? else { return Ok(false) };
    noted(one, by, "took away the query", name).await?;
    Ok(true)
}
