//! Recordings: a person at work on a page in a browser at a location.

use crate::{Answers, Result};
use cadentis_core::journey::recorded::{Act, Input};
use cadentis_store::recording::Recording;
use jiff::Timestamp;
use uuid::Uuid;

/// Says that somebody still looks at a recording: nobody's browsers end.
///
/// # Errors
/// When the database does not answer.
pub async fn looked(answers: &Answers, site_id: i32, id: Uuid) -> Result<()> {
    Ok(answers.db.recording_looked(site_id, id, Timestamp::now()).await?)
}

/// How a recording stands; `None` when it is not kept any more.
///
/// # Errors
/// When the database does not answer.
pub async fn ask(answers: &Answers, site_id: i32, id: Uuid) -> Result<Option<Recording>> {
    Ok(answers.db.recording(site_id, id, Timestamp::now()).await?)
}

/// The newest picture of its page, as an address that holds it.
///
/// # Errors
/// When the database does not answer.
pub async fn picture(answers: &Answers, id: Uuid) -> Result<Option<String>> {
    Ok(answers.db.recording_picture(id).await?)
}

/// Takes what somebody did with mouse and keys, in its order.
///
/// # Errors
/// When the database does not answer.
pub async fn inputs(answers: &Answers, site_id: i32, id: Uuid, inputs: &[Input]) -> Result<()> {
    Ok(answers.db.recording_inputs(site_id, id, inputs).await?)
}

/// Changes what was recorded so far; `false` when it is not kept any more.
///
/// # Errors
/// When the database does not answer.
pub async fn change(
    answers: &Answers,
    site_id: i32,
    id: Uuid,
    change: impl FnOnce(&mut Vec<Act>) + Send,
) -> Result<bool> {
    Ok(answers.db.change_acts(site_id, id, change).await?)
}

/// Ends the browser; what was done stays for a while.
///
/// # Errors
/// When the database does not answer.
pub async fn end(answers: &Answers, site_id: i32, id: Uuid) -> Result<()> {
    Ok(answers.db.end_recording(site_id, id).await?)
}
