//! Goals out and in as OpenSLO, for programs.

use super::asked::{Closed, Unread, said, stopped};
use super::shapes::ProblemShape;
use crate::State;
use crate::access::{Caller, InSite};
use crate::fields::sentence;
use crate::problem::Problem;
use actix_web::{HttpResponse, web};
use cadentis_answers::changes::goals::{self as changes, Taken};
use cadentis_answers::goals::openslo::written;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A file of goals.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct FileBody {
    /// OpenSLO, version 1, in YAML: at most 1,000,000 bytes and 200 documents.
    text: String,
}

/// What became of a document.
#[derive(Serialize, ToSchema)]
pub(super) struct TakenShape {
    /// What it is called.
    document: String,
    /// The goal that it became.
    goal: Option<i32>,
    /// Why it became none.
    why: Option<String>,
}

/// Every goal of a site as it is promised now, a document each.
#[utoipa::path(get, path = "/sites/{site}/openslo", params(("site" = String, Path, example = "marram-ferries")), responses(
    (status = 200, body = String, content_type = "application/yaml"),
    Closed,
))]
pub(super) async fn file(state: web::Data<State>, InSite(site): InSite) -> HttpResponse {
    let file = async {
        let text = written(&state.answers, &site).await.map_err(stopped)?;
        Ok(HttpResponse::Ok().content_type("application/yaml").body(text))
    };
    said(file.await)
}

/// Promises what a file says, document by document; of what cannot be said here it is told why.
#[utoipa::path(post, path = "/sites/{site}/openslo", params(("site" = String, Path, example = "marram-ferries")), request_body = FileBody, responses(
    (status = 200, body = Vec<TakenShape>),
    Unread,
    (status = 413, body = ProblemShape, content_type = "application/problem+json"),
    (status = 422, body = ProblemShape, content_type = "application/problem+json"),
    Closed,
))]
pub(super) async fn take(
    state: web::Data<State>,
    caller: Caller,
    InSite(site): InSite,
    body: web::Json<FileBody>,
) -> HttpResponse {
    let take = async {
        let taken = changes::take(&state.answers, &caller.author, &site, &body.text).await;
        let shape = |t: Taken| TakenShape {
            document: t.what,
            goal: t.became.as_ref().ok().copied(),
            why: t.became.err().map(|why| sentence(&why)),
        };
        match taken.map_err(stopped)? {
            Ok(all) => Ok(HttpResponse::Ok().json(all.into_iter().map(shape).collect::<Vec<_>>())),
            Err(why) => Err(Problem::invalid("/text", sentence(&why)).into()),
        }
    };
    said(take.await)
}
