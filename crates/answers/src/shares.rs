//! Links that show one page of a site to whoever has them.

use crate::changes::{self, Author};
use crate::people::{Token, hashed};
use crate::{Answers, Result};
pub use cadentis_store::share_link::ShareLink;
use cadentis_store::site::Site;
use uuid::Uuid;

/// A link is good for so many days at most.
pub const LONGEST_DAYS: i32 = 90;

/// Makes a link to a page of a site: what it holds is told once.
///
/// # Errors
/// When the database does not answer.
pub async fn make(
    answers: &Answers,
    by: &Author,
    site: &Site,
    (path, query): (&str, &str),
    days: i32,
) -> Result<Token> {
    let token = Token::new();
    let hash = hashed(token.text());
    let one = answers.one().await?;
    one.db.add_share_link(&hash, site.id, (path, query), by.name(), days).await?;
    changes::noted(one, by, "shared", format!("/{}{path}", site.slug)).await?;
    Ok(token)
}

/// The link that somebody shows, while it is good.
///
/// # Errors
/// When the database does not answer.
pub async fn shown(answers: &Answers, token: &str) -> Result<Option<ShareLink>> {
    if token.len() != 64 {
        return Ok(None);
    }
    Ok(answers.db.share_link(&hashed(token)).await?)
}

/// The links of a site, newest first.
///
/// # Errors
/// When the database does not answer.
pub async fn of_site(answers: &Answers, site: &Site) -> Result<Vec<ShareLink>> {
    Ok(answers.db.share_links(site.id).await?)
}

/// Takes a link back at once; whether there was one.
///
/// # Errors
/// When the database does not answer.
pub async fn remove(answers: &Answers, by: &Author, site: &Site, id: Uuid) -> Result<bool> {
    let one = answers.one().await?;
    match one.db.remove_share_link(site.id, id).await? {
        Some(path) => {
            changes::noted(one, by, "took back the link to", format!("/{}{path}", site.slug))
                .await?;
            Ok(true)
        }
        None => Ok(false),
    }
}
