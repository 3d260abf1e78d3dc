//! How much a request may hold, and what is said to one that holds more. What a script, an archive or a beacon may hold is
//! said where they are read; these leave room for all of them in the form in which they come.

use crate::error::PageError;
use crate::problem::Problem;
use actix_web::error::{JsonPayloadError, PathError, QueryPayloadError, UrlencodedError};
use actix_web::http::StatusCode;
use actix_web::{HttpRequest, web};
use cadentis_core::journey::MAX_SCRIPT_BYTES;
use serde::de::DeserializeOwned;
use url::form_urlencoded;

/// A form: the longest script, each byte of which may be written as three, and what stands beside it.
const FORM_BYTES: usize = 3 * MAX_SCRIPT_BYTES + 64 * 1024;
/// A JSON body: the same script with every byte escaped.
const JSON_BYTES: usize = 6 * MAX_SCRIPT_BYTES + 64 * 1024;
/// A file: an archive of requests, page views, an archive of scripts.
pub const FILE_BYTES: usize = 32 << 20;
/// What a runner sends of one run: pictures and film are in it.
pub const RECORD_BYTES: usize = 64 << 20;

fn megabytes(bytes: usize) -> String {
    format!("{:.1} MB", bytes as f64 / 1e6)
}

fn too_large(what: &str, most: usize) -> PageError {
    PageError::TooLarge(format!("{what} may have at most {}", megabytes(most)))
}

pub fn forms() -> web::FormConfig {
    web::FormConfig::default().limit(FORM_BYTES).error_handler(|e, _| {
        match e {
            UrlencodedError::Overflow { .. } => too_large("A form", FORM_BYTES),
            other => PageError::Unreadable(format!("the form cannot be read: {other}")),
        }
        .into()
    })
}

pub fn json() -> web::JsonConfig {
    web::JsonConfig::default().limit(JSON_BYTES).error_handler(|e, _| {
        let (status, says) = match e {
            JsonPayloadError::OverflowKnownLength { .. } | JsonPayloadError::Overflow { .. } => {
                (StatusCode::PAYLOAD_TOO_LARGE, format!("At most {}.", megabytes(JSON_BYTES)))
            }
            other => (StatusCode::BAD_REQUEST, format!("The body cannot be read: {other}.")),
        };
        actix_web::error::InternalError::from_response("body", Problem::new(status, says).into())
            .into()
    })
}

pub fn files() -> web::PayloadConfig {
    web::PayloadConfig::new(FILE_BYTES)
}

/// Parameters in an address that have no such form.
pub fn queries() -> web::QueryConfig {
    web::QueryConfig::default().error_handler(|e, _| {
        match e {
            QueryPayloadError::Deserialize(e) => {
                PageError::Unreadable(format!("the address cannot be read: {e}"))
            }
            _ => PageError::Unreadable("the address cannot be read".into()),
        }
        .into()
    })
}

/// Parts of a path that cannot be what they stand for name nothing that is there.
pub fn paths() -> web::PathConfig {
    web::PathConfig::default().error_handler(|e, request| {
        let _: PathError = e;
        PageError::NotFound(request.path().chars().take(100).collect()).into()
    })
}

/// The parameters of an address.
///
/// # Errors
/// Names the parameter that cannot be read.
pub fn query<T: DeserializeOwned>(request: &HttpRequest) -> Result<T, PageError> {
    let given = serde_urlencoded::Deserializer::new(form_urlencoded::parse(
        request.query_string().as_bytes(),
    ));
    serde_path_to_error::deserialize(given).map_err(|e| PageError::Parameter {
        name: e.path().to_string(),
        says: e.inner().to_string(),
    })
}
