//! What is promised, for programs.

use super::asked::{Closed, Unread, When, said, stopped};
use super::listed::{WhichPage, numbered, paged};
use crate::State;
use crate::access::InSite;
use actix_web::{HttpRequest, HttpResponse, web};
use cadentis_answers::{Range, goals};
use cadentis_core::goal::{Measure, Period};
use cadentis_core::visitor::Filter;
use jiff::Timestamp;
use serde::Serialize;
use utoipa::ToSchema;

/// A goal, over the window of its own in which the stretch ends.
#[derive(Serialize, ToSchema)]
pub(super) struct GoalShape {
    name: String,
    /// Its id.
    id: i32,
    /// The newest version of what it says: whoever changes it says which they have read.
    version: i32,
    /// The journeys whose runs are counted, by their slugs.
    journeys: Vec<String>,
    /// `availability`, `uptime`, `performance`, or `experience`: what counts as good.
    measure: &'static str,
    /// Of an experience goal the share of page views, requests or actions, as measures are written.
    share_of: Option<String>,
    /// Of a performance goal the limit in milliseconds.
    limit_ms: Option<f64>,
    /// `week`, `month`, `quarter`, or `rolling`: over what it is promised.
    period: &'static str,
    /// Of a rolling period the days.
    days: Option<u16>,
    /// The promised share of what is counted that is good, from 0 to 1.
    promised: f64,
    /// The window, in the zone of the site.
    #[schema(value_type = String, format = DateTime)]
    from: Timestamp,
    #[schema(value_type = String, format = DateTime)]
    to: Timestamp,
    /// What was good, and what was not.
    good: u64,
    bad: u64,
    /// They decide nothing: our own trouble, due and not there, in maintenance or carved out.
    unmeasured: u64,
    missing: u64,
    left_out: u64,
    /// Good of good and bad; `null` when nothing was counted.
    share: Option<f64>,
    /// Of times in which it was played, those in which at least one location got through; `null` when it is over several journeys.
    uptime: Option<f64>,
    error_budget: ErrorBudgetShape,
    /// How fast it is spent; 1 spends it exactly by the end of the window.
    burn_rate_window: Option<f64>,
    burn_rate_day: Option<f64>,
    /// When it runs out at the pace of the last 24 hours; `null` when it does not.
    #[schema(value_type = Option<String>, format = DateTime)]
    runs_out_at: Option<Timestamp>,
}

/// How long the service may be away in the window.
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
        let says = &c.version.definition;
        let days = match says.period {
            Period::Days(days) => Some(days),
            _ => None,
        };
        let limit_ms = match says.measure {
            Measure::Performance { limit_ms, .. } => Some(limit_ms),
            _ => None,
        };
        GoalShape {
            promised: says.promised,
            measure: says.measure.word(),
            share_of: says.measure.of_page_views().map(ToString::to_string),
            limit_ms,
            period: says.period.word(),
            days,
            id: c.goal.id,
            version: c.goal.newest().version,
            name: c.goal.name,
            journeys: c.journeys.into_iter().map(|j| j.slug).collect(),
            from: c.window.from,
            to: c.window.to,
            good: c.score.good,
            bad: c.score.bad,
            unmeasured: c.score.unmeasured,
            missing: c.score.missing,
            left_out: c.score.left_out,
            share: c.budget.score.share(),
            uptime: c.uptime.and_then(|u| u.share()),
            error_budget: ErrorBudgetShape {
                allowed_ms: c.budget.allowed_ms(),
                spent_ms: c.budget.spent_ms(),
                left_ms: c.budget.left_ms(),
                left_share: c.budget.left_share(),
            },
            burn_rate_window: c.burn_window,
            burn_rate_day: c.burn_day,
            runs_out_at: c.forecast.at,
        }
    }
}

/// The goals of a site, by the rules of their page; by id.
#[utoipa::path(get, path = "/sites/{site}/goals", params(("site" = String, Path, example = "marram-ferries"), When, WhichPage), responses(
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
        let (page, when) = paged::<When>(&request)?;
        let stretch = when.stretch()?;
        let range = Range { stretch, against: None, filter: Filter::default(), points: 1 };
        let told = goals::ask(&state.answers, &site, &range, Timestamp::now()).await;
        let cards = told.map_err(stopped)?.cards;
        Ok(page.told(cards, |c| numbered(0, c.goal.id), GoalShape::of))
    };
    said(all.await)
}
