//! What is promised, for programs.

use super::asked::{Closed, Unread, When, query, said, stopped};
use crate::State;
use crate::access::InSite;
use actix_web::{HttpRequest, HttpResponse, web};
use cadentis_answers::{Range, goals};
use cadentis_core::visitor::Filter;
use jiff::Timestamp;
use serde::Serialize;
use utoipa::ToSchema;

/// A goal, over the calendar month in which the stretch ends.
#[derive(Serialize, ToSchema)]
pub(super) struct GoalShape {
    name: String,
    /// The journey whose runs are counted, by its slug.
    journey: String,
    /// The promised share of runs that get through, from 0 to 1.
    promised: f64,
    /// The month, in the zone of the site.
    #[schema(value_type = String, format = DateTime)]
    from: Timestamp,
    #[schema(value_type = String, format = DateTime)]
    to: Timestamp,
    /// Runs that got through, and those that did not.
    good: u64,
    bad: u64,
    /// They decide nothing: our own trouble, due and not there, in maintenance or carved out.
    unmeasured: u64,
    missing: u64,
    left_out: u64,
    /// Good of good and bad; `null` when nothing was counted.
    availability: Option<f64>,
    /// Of times in which it was played, those in which at least one location got through.
    uptime: Option<f64>,
    error_budget: ErrorBudgetShape,
    /// How fast it is spent; 1 spends it exactly by the end of the month.
    burn_rate_month: Option<f64>,
    burn_rate_day: Option<f64>,
    /// When it runs out at the pace of the last 24 hours; `null` when it does not.
    #[schema(value_type = Option<String>, format = DateTime)]
    runs_out_at: Option<Timestamp>,
}

/// How long the service may be away in the month.
#[derive(Serialize, ToSchema)]
pub(super) struct ErrorBudgetShape {
    allowed_ms: f64,
    spent_ms: f64,
    /// Negative when the goal can no longer be met.
    left_ms: f64,
    left_share: Option<f64>,
}

impl GoalShape {
    fn of(c: goals::Card) -> GoalShape {
        GoalShape {
            name: c.goal.name,
            journey: c.journey.slug,
            promised: c.goal.promised,
            from: c.month.from,
            to: c.month.to,
            good: c.score.good,
            bad: c.score.bad,
            unmeasured: c.score.unmeasured,
            missing: c.score.missing,
            left_out: c.score.left_out,
            availability: c.budget.score.share(),
            uptime: c.uptime.share(),
            error_budget: ErrorBudgetShape {
                allowed_ms: c.budget.allowed_ms(),
                spent_ms: c.budget.spent_ms(),
                left_ms: c.budget.left_ms(),
                left_share: c.budget.left_share(),
            },
            burn_rate_month: c.burn_month,
            burn_rate_day: c.burn_day,
            runs_out_at: c.forecast.at,
        }
    }
}

/// The goals of a site, by the rules of their page.
#[utoipa::path(get, path = "/sites/{site}/goals", params(("site" = String, Path, example = "marram-ferries"), When), responses(
    (status = 200, body = Vec<GoalShape>),
    Unread,
    Closed,
))]
pub(super) async fn list(
    state: web::Data<State>,
    InSite(site): InSite,
    request: HttpRequest,
) -> HttpResponse {
    let all = async {
        let stretch = query::<When>(&request)?.stretch()?;
        let range = Range { stretch, against: None, filter: Filter::default(), points: 1 };
        let told = goals::ask(&state.answers, &site, &range, Timestamp::now()).await;
        let cards = told.map_err(stopped)?.cards;
        Ok(HttpResponse::Ok().json(cards.into_iter().map(GoalShape::of).collect::<Vec<_>>()))
    };
    said(all.await)
}
