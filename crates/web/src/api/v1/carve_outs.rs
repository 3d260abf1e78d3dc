//! Time that is taken out of goals, for programs: with a reason, and put back; both stay in the record.

use super::asked::{Closed, Unread, said, stopped};
use super::listed::{Nothing, WhichPage, numbered, paged};
use super::promise::goal_of;
use super::shapes::ProblemShape;
use crate::State;
use crate::access::{After, Caller, InSite};
use crate::problem::Problem;
use actix_web::{HttpRequest, HttpResponse, web};
use cadentis_answers::changes::goals::{self as changes, LONGEST_WHY};
use cadentis_answers::goals;
use cadentis_answers::kept::CarveOut;
use cadentis_core::calendar::Stretch;
use cadentis_core::text;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Time that was taken out of a goal.
#[derive(Serialize, ToSchema)]
pub(super) struct CarveOutShape {
    id: i32,
    #[schema(value_type = String, format = DateTime)]
    from: Timestamp,
    #[schema(value_type = String, format = DateTime)]
    to: Timestamp,
    why: String,
    author: String,
    #[schema(value_type = String, format = DateTime)]
    made_at: Timestamp,
    /// When it was put back, and by whom; `null` while it is out.
    #[schema(value_type = Option<String>, format = DateTime)]
    revoked_at: Option<Timestamp>,
    revoked_by: Option<String>,
}

impl CarveOutShape {
    fn of(c: CarveOut) -> CarveOutShape {
        let (revoked_at, revoked_by) = c.revoked.unzip();
        CarveOutShape {
            id: c.id,
            from: c.stretch.from,
            to: c.stretch.to,
            why: c.why,
            author: c.author,
            made_at: c.made_at,
            revoked_at,
            revoked_by,
        }
    }
}

/// Time that is to be taken out of a goal.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct NewCarveOut {
    #[schema(value_type = String, format = DateTime)]
    from: Timestamp,
    #[schema(value_type = String, format = DateTime)]
    to: Timestamp,
    /// Whoever reads a report will ask: 1 to 200 characters.
    #[schema(min_length = 1, max_length = 200)]
    why: String,
}

/// What it does to the share of the period that it lies in.
#[derive(Serialize, ToSchema)]
pub(super) struct CarvedShape {
    id: i32,
    /// The share of the period in which it begins, before and after; `null` when nothing is counted in it.
    share_before: Option<f64>,
    share_after: Option<f64>,
}

/// All that was ever taken out of a goal, the newest first.
#[utoipa::path(get, path = "/sites/{site}/goals/{id}/carve-outs", params(("site" = String, Path, example = "marram-ferries"), ("id" = i32, Path), WhichPage), responses(
    (status = 200, body = Vec<CarveOutShape>),
    Unread,
    Closed,
))]
pub(super) async fn list(
    state: web::Data<State>,
    InSite(site): InSite,
    After(id): After<i32>,
    request: HttpRequest,
) -> HttpResponse {
    let all = async {
        let (page, Nothing {}) = paged(&request)?;
        let goal = goal_of(&state, &site, id).await?;
        let record = goals::carve_outs(&state.answers, &goal).await.map_err(stopped)?;
        let newest = |c: &CarveOut| numbered(-c.made_at.as_microsecond(), -c.id);
        Ok(page.told(record, newest, CarveOutShape::of))
    };
    said(all.await)
}

/// Takes time out of a goal: it counts no more, whatever happened in it.
#[utoipa::path(post, path = "/sites/{site}/goals/{id}/carve-outs", params(("site" = String, Path, example = "marram-ferries"), ("id" = i32, Path)), request_body = NewCarveOut, responses(
    (status = 201, body = CarvedShape),
    Unread,
    (status = 413, body = ProblemShape, content_type = "application/problem+json"),
    (status = 422, body = ProblemShape, content_type = "application/problem+json"),
    Closed,
))]
pub(super) async fn add(
    state: web::Data<State>,
    caller: Caller,
    InSite(site): InSite,
    After(id): After<i32>,
    new: web::Json<NewCarveOut>,
) -> HttpResponse {
    let add = async {
        let invalid = |at: &str, says: &str| HttpResponse::from(Problem::invalid(at, says));
        let goal = goal_of(&state, &site, id).await?;
        let years = |t: Timestamp| (0..=4_102_444_800).contains(&t.as_second());
        if !years(new.from) || !years(new.to) {
            return Err(invalid("/from", "Moments are from 1970 to 2100."));
        }
        let stretch = Stretch::new(new.from, new.to);
        let stretch = stretch.map_err(|e| invalid("/to", &e.to_string()))?;
        let why = text::clean(new.why.trim(), LONGEST_WHY + 1, None);
        if why.is_empty() || why.chars().count() > LONGEST_WHY {
            return Err(invalid("/why", "A reason has 1 to 200 characters."));
        }
        let answers = &state.answers;
        let shares = goals::with_and_without(answers, &site, &goal, (stretch, &why)).await;
        let (before, after) = shares.map_err(stopped)?;
        let said = (stretch, why.as_str());
        let made = changes::carve_out(answers, &caller.author, &site, &goal, said).await;
        let id = made.map_err(stopped)?;
        let (share_before, share_after) = (before.share(), after.share());
        Ok(HttpResponse::Created().json(CarvedShape { id, share_before, share_after }))
    };
    said(add.await)
}

/// Puts time back into a goal; that it was out stays in the record.
#[utoipa::path(delete, path = "/sites/{site}/goals/{id}/carve-outs/{carve_out}", params(("site" = String, Path, example = "marram-ferries"), ("id" = i32, Path), ("carve_out" = i32, Path)), responses(
    (status = 204),
    Closed,
))]
pub(super) async fn revoke(
    state: web::Data<State>,
    caller: Caller,
    InSite(site): InSite,
    path: web::Path<(String, i32, i32)>,
) -> HttpResponse {
    let (_, id, carve_out) = path.into_inner();
    let revoke = async {
        let goal = goal_of(&state, &site, id).await?;
        let done = changes::revoke(&state.answers, &caller.author, &site, &goal, carve_out).await;
        match done.map_err(stopped)? {
            true => Ok(HttpResponse::NoContent().finish()),
            false => {
                let says = format!("There is no carve-out {carve_out}, or it was put back.");
                Err(Problem::not_found(says).into())
            }
        }
    };
    said(revoke.await)
}
