//! How page views are collected, what is looked at of them, and who is forgotten.

use super::{Author, noted, noted_change, told};
use crate::visit::persons;
use crate::{Answers, Result};
use cadentis_core::calendar::Stretch;
use cadentis_store::audit::LOOKED_AT_VISIT;
use cadentis_store::funnel::SavedFunnel;
use cadentis_store::site::Site;
use jiff::{SignedDuration, Timestamp};
use uuid::Uuid;

/// Changes how page views of a site are collected.
///
/// # Errors
/// When the database does not answer.
pub async fn set_collecting(
    answers: &Answers,
    by: &Author,
    site: &Site,
    now: Timestamp,
) -> Result<()> {
    let one = answers.one().await?;
    let before = told::site_now(&one, site.id).await?;
    one.db.set_collecting(site, now).await?;
    let after = told::site_now(&one, site.id).await?;
    let (what, parts) = ("changed how page views are collected of", (&before, &after));
    noted_change(one, by, what, &site.name, parts).await
}

/// Saves a funnel under its name.
///
/// # Errors
/// When the database does not answer.
pub async fn save_funnel(
    answers: &Answers,
    by: &Author,
    site: &Site,
    funnel: &SavedFunnel,
) -> Result<()> {
    let one = answers.one().await?;
    let before = told::funnel_now(&one, site.id, &funnel.name).await?;
    one.db.save_funnel(site.id, funnel).await?;
    let after = told::funnel_now(&one, site.id, &funnel.name).await?;
    noted_change(one, by, "saved the funnel", &funnel.name, (&before, &after)).await?;
    Ok(())
}

/// Deletes the funnel of this name.
///
/// # Errors
/// When the database does not answer.
pub async fn delete_funnel(answers: &Answers, by: &Author, site: &Site, name: &str) -> Result<()> {
    let one = answers.one().await?;
    let before = told::funnel_now(&one, site.id, name).await?;
    one.db.delete_funnel(site.id, name).await?;
    noted_change(one, by, "deleted the funnel", name, (&before, &Vec::new())).await?;
    Ok(())
}

/// Who was forgotten.
pub struct Forgotten {
    /// `person` or `visit`.
    pub what: &'static str,
    /// Page views that were erased.
    pub page_views: u64,
}

/// Takes out what is known of a person, by the id that pages gave, or of a visit, by its own.
///
/// # Errors
/// When the database does not answer.
pub async fn forget(
    answers: &Answers,
    by: &Author,
    site: &Site,
    who: &str,
    now: Timestamp,
) -> Result<Forgotten> {
    let kept = SignedDuration::from_hours(24 * i64::from(site.keep_people_days));
    let stretch = Stretch { from: now - kept, to: now };
    let (what, ids) = match Uuid::parse_str(who) {
        Ok(visit) => ("visit", vec![visit.as_u128()]),
        Err(_) => ("person", persons(answers, &site.key, who)),
    };
    // Told first: of an erasing that is cut short it is known that it began. Who it was is what is to be forgotten: the log
    // does not say it.
    noted(answers.one().await?, by, "had forgotten a", what).await?;
    let mut page_views = 0;
    for id in ids {
        page_views += answers.db.forget_person(site.id, what, id, stretch).await?;
    }
    Ok(Forgotten { what, page_views })
}

/// Begins to put all history into the page families of now.
///
/// # Errors
/// When the database does not answer.
pub async fn begin_families(
    answers: &Answers,
    by: &Author,
    site: &Site,
    now: Timestamp,
) -> Result<()> {
    let one = answers.one().await?;
    one.db.begin_families(site.id, now).await?;
    noted(one, by, "began to put history into the families of", &site.name).await?;
    Ok(())
}

/// Stops that; what is done stays done.
///
/// # Errors
/// When the database does not answer.
pub async fn stop_families(answers: &Answers, by: &Author, site: &Site) -> Result<()> {
    let one = answers.one().await?;
    one.db.stop_families(site.id).await?;
    noted(one, by, "stopped putting history into the families of", &site.name).await?;
    Ok(())
}

/// Notes that somebody looked at a person or a single visit. Of a person that is found by who they are it is not said whom.
///
/// # Errors
/// When the database does not answer.
pub async fn looked(answers: &Answers, by: &Author, at: &str, which: &str) -> Result<()> {
    let one = answers.one().await?;
    noted(one, by, at, which).await
}

/// Notes that somebody looked at a visit.
///
/// # Errors
/// When the database does not answer.
pub async fn looked_at_visit(answers: &Answers, by: &Author, id: Uuid) -> Result<()> {
    looked(answers, by, LOOKED_AT_VISIT, &id.to_string()).await
}

/// Lists are read anew every few seconds: whoever looks at one is noted once in so long.
const LOOKS_ON: SignedDuration = SignedDuration::from_hours(1);

/// Notes that somebody looked at a list of single page views or of who had the most trouble.
///
/// # Errors
/// When the database does not answer.
pub async fn looked_over(answers: &Answers, by: &Author, list: &str, site: &Site) -> Result<()> {
    let who = (by.person, by.name());
    if answers.db.is_noted(who, (list, &site.name), LOOKS_ON).await? {
        return Ok(());
    }
    looked(answers, by, list, &site.name).await
}

/// Notes that somebody brought a file of page views.
///
/// # Errors
/// When the database does not answer.
pub async fn brought(answers: &Answers, by: &Author, site: &Site) -> Result<()> {
    let one = answers.one().await?;
    noted(one, by, "brought a file of page views to", &site.name).await
}
