//! What is pinned to the time axis: pinned, changed, taken away, put back.

use super::{Author, noted, noted_change, told};
use crate::{Answers, Result};
use cadentis_core::marker::{NoMarker, Said};
use cadentis_store::marker::Marker;
use cadentis_store::site::Site;
use jiff::Timestamp;

/// Why a marker was not pinned or changed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[expect(missing_docs, reason = "each says what it is when it is told")]
pub enum NotPinned {
    #[error(transparent)]
    Wrong(#[from] NoMarker),
    #[error("somebody changed or deleted it meanwhile: read what it says now and change that")]
    Overtaken,
    #[error("it stands on every site: administrators alone change it")]
    NotTheirs,
}

/// Whether a marker is theirs to change: what stands on every site is that of administrators.
fn are_theirs(by: &Author, is_everywhere: bool) -> std::result::Result<(), NotPinned> {
    if is_everywhere && !by.administers() { Err(NotPinned::NotTheirs) } else { Ok(()) }
}

/// Pins a marker to a moment of a site, or of all of them; its id.
///
/// # Errors
/// When the database does not answer.
pub async fn add(
    answers: &Answers,
    by: &Author,
    site: &Site,
    (at, said): (Timestamp, &Said),
    is_everywhere: bool,
) -> Result<std::result::Result<i32, NotPinned>> {
    let fine = said.check(at, Timestamp::now()).map_err(NotPinned::Wrong);
    if let Err(why) = fine.and_then(|()| are_theirs(by, is_everywhere)) {
        return Ok(Err(why));
    }
    let one = answers.one().await?;
    let on = (!is_everywhere).then_some(site.id);
    let id = one.db.add_marker(on, at, said, by.name()).await?;
    let after = told::marker(at, said);
    noted_change(one, by, "pinned the marker", &said.title, (&Vec::new(), &after)).await?;
    Ok(Ok(id))
}

/// Lets a marker say something else, if nobody changed it since it had been changed `based_on` times.
///
/// # Errors
/// When the database does not answer.
pub async fn set(
    answers: &Answers,
    by: &Author,
    (was, based_on): (&Marker, i32),
    (at, said): (Timestamp, &Said),
) -> Result<std::result::Result<(), NotPinned>> {
    let fine = said.check(at, Timestamp::now()).map_err(NotPinned::Wrong);
    if let Err(why) = fine.and_then(|()| are_theirs(by, was.is_everywhere)) {
        return Ok(Err(why));
    }
    let one = answers.one().await?;
    if !one.db.set_marker(was.id, based_on, at, said).await? {
        return Ok(Err(NotPinned::Overtaken));
    }
    let (before, after) = (told::marker(was.at, &was.said), told::marker(at, said));
    noted_change(one, by, "changed the marker", &said.title, (&before, &after)).await?;
    Ok(Ok(()))
}

/// Takes a marker away, or puts it back; whether there was one to.
///
/// # Errors
/// When the database does not answer.
pub async fn remove(
    answers: &Answers,
    by: &Author,
    was: &Marker,
    is_removed: bool,
) -> Result<std::result::Result<bool, NotPinned>> {
    if let Err(why) = are_theirs(by, was.is_everywhere) {
        return Ok(Err(why));
    }
    let one = answers.one().await?;
    if !one.db.remove_marker(was.id, is_removed).await? {
        return Ok(Ok(false));
    }
    let what = if is_removed { "took away the marker" } else { "put back the marker" };
    let (parts, none) = (told::marker(was.at, &was.said), Vec::new());
    match is_removed {
        true => noted_change(one, by, what, &was.said.title, (&parts, &none)).await?,
        false => noted(one, by, what, &was.said.title).await?,
    }
    Ok(Ok(true))
}
