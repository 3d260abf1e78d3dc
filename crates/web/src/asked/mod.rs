//! What a query came to, drawn and in words, wherever it is shown.

mod lines;
mod shown;

pub use lines::HEIGHT;
pub use shown::{Found, found};

use crate::frame::Frame;
use cadentis_core::measure::{Measured, Subject};
use cadentis_core::query::Query;

/// The address of a query over this stretch.
pub fn link(frame: &Frame, query: &Query) -> String {
    address(frame, &query.to_string())
}

pub fn address(frame: &Frame, text: &str) -> String {
    let text: String = url::form_urlencoded::byte_serialize(text.as_bytes()).collect();
    format!("{}/queries?q={text}&{}", frame.base, frame.query)
}

/// The measure of a query with what narrows it, where an alert can be about it.
fn watched(query: &Query) -> Option<String> {
    let measure = query.measures.first()?.clone();
    let is_watched = !matches!(query.subject(), Subject::Goals | Subject::Dependencies);
    is_watched.then(|| Measured { measure, scope: query.scope.clone() }.to_string())
}
