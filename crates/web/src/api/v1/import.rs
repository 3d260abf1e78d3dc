//! Page views that programs bring in files.

use super::asked::{Closed, Unread, query, said, stopped, wrong};
use super::shapes::ProblemShape;
use crate::State;
use crate::access::{Caller, InSite};
use crate::importing::{self, NotTaken};
use crate::problem::Problem;
use actix_web::{HttpRequest, HttpResponse, web};
use cadentis_core::visitor::import::Format;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What is said of a file, and of page views that do not say it themselves.
#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(super) struct About {
    /// `har`, `csv` or `ndjson`.
    #[param(example = "ndjson")]
    kind: String,
    /// Of page views that say none: `phone`, `tablet` or `desktop`.
    #[serde(default)]
    device: String,
    /// Of page views that say none: ISO 3166, two letters.
    #[serde(default)]
    country: String,
}

/// So many of the lines that were not taken are told.
const TOLD: usize = 100;

/// What became of a file.
#[derive(Serialize, ToSchema)]
pub(super) struct ImportedShape {
    /// Page views that were taken.
    read: u64,
    /// Of them those that were not there before: whoever sends a file twice has each once.
    new: u64,
    /// What was not taken: where it stands and why; the first hundred.
    wrong: Vec<String>,
    /// How many more were not taken.
    more_wrong: usize,
    /// Columns that say nothing to Cadentis.
    ignored: Vec<String>,
}

/// Takes the page views of a file of at most 32 MB: an HTTP archive, or lines as they are exported, in CSV or NDJSON.
#[utoipa::path(post, path = "/sites/{site}/page-views", params(("site" = String, Path, example = "marram-ferries"), About),
    request_body(content = String, content_type = "application/octet-stream"), responses(
    (status = 200, body = ImportedShape),
    Unread,
    (status = 413, body = ProblemShape, content_type = "application/problem+json"),
    (status = 422, body = ProblemShape, content_type = "application/problem+json"),
    Closed,
))]
pub(super) async fn take(
    state: web::Data<State>,
    caller: Caller,
    InSite(site): InSite,
    request: HttpRequest,
    body: web::Bytes,
) -> HttpResponse {
    let take = async {
        let about = query::<About>(&request)?;
        let kind = Format::of(&format!("file.{}", about.kind));
        let kind = kind.ok_or_else(|| wrong("?kind", "A file is har, csv or ndjson."))?;
        let said = [("device", about.device.as_str()), ("country", &about.country)];
        let taken = importing::take(&state, &caller.author, &site, (kind, body), said).await;
        let imported = taken.map_err(|why| match why {
            NotTaken::NoText => Problem::invalid("", "The file is not text in UTF-8.").into(),
            NotTaken::Away(e) => stopped(e),
        })?;
        if imported.read == 0 {
            let why = imported.wrong.into_iter().next();
            let why = why.map_or(String::new(), |why| format!(" First: {why}."));
            return Err(Problem::invalid("", format!("Nothing was taken.{why}")).into());
        }
        Ok(HttpResponse::Ok().json(ImportedShape {
            read: imported.read,
            new: imported.new,
            more_wrong: imported.wrong.len().saturating_sub(TOLD),
            wrong: imported.wrong.into_iter().take(TOLD).collect(),
            ignored: imported.ignored,
        }))
    };
    said(take.await)
}
