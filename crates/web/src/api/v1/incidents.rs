//! Incidents, for programs.

use super::asked::{Closed, Unread, When, said, stopped};
use super::listed::{WhichPage, numbered, paged};
use crate::State;
use crate::access::{After, Caller, InSite};
use crate::problem::Problem;
use actix_web::{HttpRequest, HttpResponse, web};
use cadentis_answers::changes::alerts as changes;
use cadentis_answers::incidents;
use cadentis_answers::kept::Incident;
use cadentis_core::alert::Severity;
use jiff::Timestamp;
use serde::Serialize;
use utoipa::ToSchema;

/// An incident.
#[derive(Serialize, ToSchema)]
pub(super) struct IncidentShape {
    id: i32,
    title: String,
    /// What its alerts have in common: a journey, a page family, a location, a goal, a dependency, or the site.
    about: String,
    /// `warning` or `critical`: the worst it came to.
    severity: &'static str,
    /// How bad it is now; `null` when it has cleared.
    now: Option<&'static str>,
    /// The first evaluation beyond a level.
    #[schema(value_type = String, format = DateTime)]
    since: Timestamp,
    #[schema(value_type = String, format = DateTime)]
    opened_at: Timestamp,
    #[schema(value_type = Option<String>, format = DateTime)]
    cleared_at: Option<Timestamp>,
    #[schema(value_type = Option<String>, format = DateTime)]
    acknowledged_at: Option<Timestamp>,
    acknowledged_by: Option<String>,
    #[schema(value_type = Option<String>, format = DateTime)]
    closed_at: Option<Timestamp>,
    /// How often it opened again.
    reopened: i32,
    /// Acted out: it counts nowhere.
    is_rehearsal: bool,
}

impl IncidentShape {
    fn of(i: Incident) -> IncidentShape {
        let (acknowledged_at, acknowledged_by) = i.acknowledged.unzip();
        IncidentShape {
            id: i.id,
            title: i.title,
            about: i.about.to_string(),
            severity: i.severity.word(),
            now: i.now.map(Severity::word),
            since: i.since,
            opened_at: i.opened_at,
            cleared_at: i.cleared_at,
            acknowledged_at,
            acknowledged_by,
            closed_at: i.closed.map(|(at, _)| at),
            reopened: i.reopened,
            is_rehearsal: i.is_rehearsal,
        }
    }
}

/// Incidents that were open at some time of a stretch, newest first.
#[utoipa::path(get, path = "/sites/{site}/incidents", params(("site" = String, Path, example = "marram-ferries"), When, WhichPage), responses(
    (status = 200, body = Vec<IncidentShape>),
    Unread,
    Closed,
))]
pub(super) async fn list(
    state: web::Data<State>,
    InSite(site): InSite,
    request: HttpRequest,
) -> HttpResponse {
    let all = async {
        let (page, when) = paged::<When>(&request)?;
        let after = page.after_moment(-1)?;
        let wanted = (when.stretch()?, after, page.most + 1);
        let all = incidents::after(&state.answers, &site, wanted).await.map_err(stopped)?;
        let newest = |i: &Incident| numbered(-i.opened_at.as_microsecond(), -i.id);
        Ok(page.told(all, newest, IncidentShape::of))
    };
    said(all.await)
}

/// One incident.
#[utoipa::path(get, path = "/sites/{site}/incidents/{id}", params(("site" = String, Path, example = "marram-ferries"), ("id" = i32, Path)), responses(
    (status = 200, body = IncidentShape),
    Closed,
))]
pub(super) async fn one(
    state: web::Data<State>,
    InSite(site): InSite,
    After(id): After<i32>,
) -> HttpResponse {
    let one = async {
        let none = || HttpResponse::from(Problem::not_found(format!("There is no incident {id}.")));
        let found = incidents::kept(&state.answers, &site, id).await.map_err(stopped)?;
        Ok(HttpResponse::Ok().json(IncidentShape::of(found.ok_or_else(none)?)))
    };
    said(one.await)
}

/// Says that whoever the token stands for looks after an incident; what was said first stays.
#[utoipa::path(post, path = "/sites/{site}/incidents/{id}/acknowledge", params(("site" = String, Path, example = "marram-ferries"), ("id" = i32, Path)), responses(
    (status = 200, body = IncidentShape),
    Closed,
))]
pub(super) async fn acknowledge(
    state: web::Data<State>,
    caller: Caller,
    InSite(site): InSite,
    After(id): After<i32>,
) -> HttpResponse {
    let acknowledge = async {
        let none = || HttpResponse::from(Problem::not_found(format!("There is no incident {id}.")));
        let kept = async || incidents::kept(&state.answers, &site, id).await.map_err(stopped);
        let incident = kept().await?.ok_or_else(none)?;
        let now = Timestamp::now();
        let done = changes::acknowledge(&state.answers, &caller.author, &incident, now);
        done.await.map_err(stopped)?;
        Ok(HttpResponse::Ok().json(IncidentShape::of(kept().await?.ok_or_else(none)?)))
    };
    said(acknowledge.await)
}
