//! Page views that somebody brings in a file, on a page or by a program.

use crate::State;
use actix_web::web::Bytes;
use cadentis_answers::AnswerError;
use cadentis_answers::changes::{self, Author};
use cadentis_answers::kept::Site;
use cadentis_core::visitor::import::{Defaults, Format};
use cadentis_intake::import::Imported;
use jiff::Timestamp;
use serde_json::Value;

/// Why a file was not taken.
pub(crate) enum NotTaken {
    NoText,
    Away(AnswerError),
}

/// Takes the page views of a file, and keeps who brought it unless there were none. What is said of page views that do not say
/// it themselves is empty where nothing is.
pub(crate) async fn take(
    state: &State,
    by: &Author,
    site: &Site,
    (kind, body): (Format, Bytes),
    said: [(&str, &str); 2],
) -> Result<Imported, NotTaken> {
    let text = String::from_utf8(body.to_vec()).map_err(|_| NotTaken::NoText)?;
    let said = said.into_iter().filter(|(_, value)| !value.is_empty());
    let defaults: Defaults =
        said.map(|(name, value)| (name.to_string(), Value::String(value.into()))).collect();
    let away = NotTaken::Away;
    let imported = state.importer.file(site, kind, text, defaults, Timestamp::now()).await;
    let imported = imported.map_err(|e| away(e.into()))?;
    if imported.read > 0 {
        changes::visitors::brought(&state.answers, by, site).await.map_err(away)?;
    }
    Ok(imported)
}
