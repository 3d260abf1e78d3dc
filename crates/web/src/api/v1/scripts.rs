//! Scripts for programs: read, and made the next version unless somebody else was quicker.

use super::asked::{Closed, Unread, said, stopped};
use super::listed::{Nothing, WhichPage, named, paged};
use super::shapes::ProblemShape;
use crate::State;
use crate::access::{After, Caller, InSite};
use crate::problem::Problem;
use actix_web::http::StatusCode;
use actix_web::{HttpRequest, HttpResponse, web};
use cadentis_answers::changes::Author;
use cadentis_answers::changes::journeys::{
    self as changes, NewScript, NotAdded, NotSaved, SavedAs,
};
use cadentis_answers::kept::{Journey, Version};
use cadentis_answers::{scripts, sites};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The newest version of a journey's script.
#[derive(Serialize, ToSchema)]
pub(super) struct ScriptShape {
    /// The journey by its name in addresses.
    #[schema(example = "book-a-crossing")]
    journey: String,
    name: String,
    /// `active`, `paused`, `finished` or `archived`.
    status: String,
    version: i32,
    /// Who saved it, why and when.
    author: String,
    note: String,
    #[schema(value_type = String, format = DateTime)]
    saved_at: Timestamp,
    /// Whether whoever asks saved it.
    by_you: bool,
    /// As it is played; left out in a list.
    #[serde(skip_serializing_if = "Option::is_none")]
    script: Option<String>,
}

impl ScriptShape {
    fn of(j: Journey, version: Version, asks: &Author, with_script: bool) -> ScriptShape {
        ScriptShape {
            by_you: version.author == asks.name(),
            journey: j.slug,
            name: j.name,
            status: j.status,
            version: version.version,
            author: version.author,
            note: version.note,
            saved_at: version.saved_at,
            script: with_script.then_some(j.script),
        }
    }
}

/// A script that is to become the next version.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct ScriptBody {
    /// At most 200,000 bytes.
    script: String,
    /// The version that was changed; without one a journey is added, paused, at all locations every five minutes.
    #[serde(default)]
    based_on: Option<i32>,
    /// Why, at most 200 characters.
    #[serde(default)]
    note: String,
}

/// What became of it.
#[derive(Serialize, ToSchema)]
pub(super) struct SavedShape {
    version: i32,
    /// Whether it is a new version: it is none when the newest says the same.
    is_new: bool,
}

/// The newest version of the script of every journey by its slug, without the scripts themselves.
#[utoipa::path(get, path = "/sites/{site}/scripts", params(("site" = String, Path, example = "marram-ferries"), WhichPage), responses(
    (status = 200, body = Vec<ScriptShape>),
    Unread,
    Closed,
))]
pub(super) async fn list(
    state: web::Data<State>,
    caller: Caller,
    InSite(site): InSite,
    request: HttpRequest,
) -> HttpResponse {
    let all = async {
        let (page, Nothing {}) = paged(&request)?;
        let all = scripts::newest(&state.answers, site.id).await.map_err(stopped)?;
        let shape = |(j, version)| ScriptShape::of(j, version, &caller.author, false);
        Ok(page.told(all, |(j, _)| named(&j.slug), shape))
    };
    said(all.await)
}

/// The newest version of the script of a journey.
#[utoipa::path(get, path = "/sites/{site}/scripts/{journey}", params(
    ("site" = String, Path, example = "marram-ferries"), ("journey" = String, Path, example = "book-a-crossing")), responses(
    (status = 200, body = ScriptShape),
    Closed,
))]
pub(super) async fn one(
    state: web::Data<State>,
    caller: Caller,
    InSite(site): InSite,
    After(slug): After<String>,
) -> HttpResponse {
    let one = async {
        let all = scripts::newest(&state.answers, site.id).await.map_err(stopped)?;
        let found = all.into_iter().find(|(j, _)| j.slug == slug);
        let (j, version) = found.ok_or_else(|| no_journey(&slug))?;
        Ok(HttpResponse::Ok().json(ScriptShape::of(j, version, &caller.author, true)))
    };
    said(one.await)
}

fn no_journey(slug: &str) -> HttpResponse {
    Problem::not_found(format!("There is no journey {slug}.")).into()
}

/// Makes a script the next version of its journey, unless somebody saved another one after the version that it is based on; without
/// that, adds a journey of this name.
#[utoipa::path(put, path = "/sites/{site}/scripts/{journey}", params(
    ("site" = String, Path, example = "marram-ferries"), ("journey" = String, Path, example = "book-a-crossing")),
    request_body = ScriptBody, responses(
    (status = 200, body = SavedShape),
    (status = 201, body = SavedShape),
    Unread,
    (status = 409, body = ProblemShape, content_type = "application/problem+json"),
    (status = 413, body = ProblemShape, content_type = "application/problem+json"),
    (status = 422, body = ProblemShape, content_type = "application/problem+json"),
    Closed,
))]
pub(super) async fn put(
    state: web::Data<State>,
    caller: Caller,
    InSite(site): InSite,
    After(slug): After<String>,
    body: web::Json<ScriptBody>,
) -> HttpResponse {
    let put = async {
        let (answers, by) = (&state.answers, &caller.author);
        let unplayable = |errors: &[_]| {
            HttpResponse::from(Problem::script("/script", "This script cannot be played.", errors))
        };
        let taken = |says: String| HttpResponse::from(Problem::new(StatusCode::CONFLICT, says));
        let Some(based_on) = body.based_on else {
            let added = changes::add_as(answers, by, &site, &slug, &body.script).await;
            return match added.map_err(stopped)? {
                Ok(()) => Ok(HttpResponse::Created().json(SavedShape { version: 1, is_new: true })),
                Err(NotAdded::Unplayable(errors)) => Err(unplayable(&errors)),
                Err(NotAdded::Taken) => Err(taken(format!(
                    "There is a journey {slug}: say which version yours is based on."
                ))),
                Err(NotAdded::NoName) => {
                    let says = "A name in addresses has letters from a to z, digits and single hyphens between them, and is none of new, record, import and export.";
                    Err(Problem::new(StatusCode::UNPROCESSABLE_ENTITY, says).into())
                }
            };
        };
        let journey = sites::journey(answers, site.id, &slug).await.map_err(stopped)?;
        let journey = journey.ok_or_else(|| no_journey(&slug))?;
        let new = NewScript { script: &body.script, based_on, note: &body.note };
        match changes::save_script(answers, by, &site, &journey, &new).await.map_err(stopped)? {
            Ok(SavedAs::New(version)) => {
                Ok(HttpResponse::Ok().json(SavedShape { version, is_new: true }))
            }
            Ok(SavedAs::Same(version)) => {
                Ok(HttpResponse::Ok().json(SavedShape { version, is_new: false }))
            }
            Err(NotSaved::Unplayable(errors)) => Err(unplayable(&errors)),
            Err(NotSaved::Overtaken(other)) => Err(taken(format!(
                "{} saved version {} on {}, after version {based_on}.",
                other.author, other.version, other.saved_at
            ))),
        }
    };
    said(put.await)
}
