//! What is to be released beside what is live, for pipelines.

use super::asked::{Closed, LONGEST_DAYS, Unread, query, said, stopped, wrong};
use crate::State;
use crate::access::InSite;
use crate::problem::Problem;
use actix_web::{HttpRequest, HttpResponse, web};
use cadentis_answers::range::Range;
use cadentis_answers::{sites, weeks};
use cadentis_core::run::gate::{self, Verdict};
use cadentis_core::visitor::Filter;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Of which time, and how much is allowed.
#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(super) struct Allowed {
    /// RFC 3339; a day before `to` when it does not say.
    #[param(value_type = Option<String>, format = DateTime)]
    from: Option<String>,
    /// RFC 3339; now when it does not say.
    #[param(value_type = Option<String>, format = DateTime)]
    to: Option<String>,
    /// How much longer the 75th percentile may be, 0.05 for a twentieth; 0.05 when it does not say.
    #[param(minimum = 0, maximum = 10)]
    allowed: Option<f64>,
}

/// A step of both, or their whole runs.
#[derive(Serialize, ToSchema)]
struct PairShape {
    /// The step; `null` for the whole run.
    step: Option<String>,
    /// The 75th percentile of what is live, in milliseconds.
    live_p75_ms: Option<f64>,
    /// The same of what is to be released.
    candidate_p75_ms: Option<f64>,
    /// The difference, and its 95 % interval; `null` with too few runs.
    difference_ms: Option<f64>,
    low_ms: Option<f64>,
    high_ms: Option<f64>,
    /// `passes`, `too_few_runs` or `worse`.
    #[schema(value_type = String)]
    verdict: Verdict,
}

/// What all of it says.
#[derive(Serialize, ToSchema)]
pub(super) struct GateShape {
    /// The worst of all verdicts: `passes`, `too_few_runs` or `worse`.
    #[schema(value_type = String)]
    verdict: Verdict,
    allowed: f64,
    /// The locations from which both played; runs of others do not count.
    locations: Vec<String>,
    live_runs: usize,
    candidate_runs: usize,
    live_failed: usize,
    candidate_failed: usize,
    /// Whether the share of failed runs surely rose.
    #[schema(value_type = String)]
    failures: Verdict,
    pairs: Vec<PairShape>,
}

/// Whether what is to be released may go on: `candidate` beside `live`, two journeys of the site, from the locations where both play.
#[utoipa::path(get, path = "/sites/{site}/journeys/{live}/gate/{candidate}", params(
    ("site" = String, Path, example = "marram-ferries"), ("live" = String, Path, example = "book-a-crossing"),
    ("candidate" = String, Path, example = "book-a-crossing-pre-release"), Allowed), responses(
    (status = 200, body = GateShape),
    Unread,
    Closed,
))]
pub(super) async fn compare(
    state: web::Data<State>,
    InSite(site): InSite,
    path: web::Path<(String, String, String)>,
    request: HttpRequest,
) -> HttpResponse {
    let (_, live, candidate) = path.into_inner();
    let compare = async {
        let bad = |problem: Box<Problem>| HttpResponse::from(*problem);
        let asked: Allowed = query(&request).map_err(bad)?;
        let when = super::asked::When { from: asked.from, to: asked.to };
        let stretch = when.stretch().map_err(bad)?;
        let allowed = asked.allowed.unwrap_or(0.05);
        if !(0.0..=10.0).contains(&allowed) {
            return Err(bad(wrong("?allowed", "It is a share from 0 to 10, such as 0.05.")));
        }
        let named = |slug: &str| {
            let says = format!("There is no journey {slug} within the last {LONGEST_DAYS} days.");
            HttpResponse::from(Problem::not_found(says))
        };
        let journey = sites::journey(&state.answers, site.id, &live).await.map_err(stopped)?;
        let journey = journey.ok_or_else(|| named(&live))?;
        let range = Range { stretch, against: None, filter: Filter::default(), points: 1 };
        let told =
            weeks::ask(&state.answers, site.id, &range, stretch, &journey, Some(&candidate)).await;
        let beside = told.map_err(stopped)?.beside.ok_or_else(|| named(&candidate))?;
        let counts = |nth: usize| (beside.failed[nth] as u64, beside.runs[nth] as u64);
        let failures = gate::of_failures(counts(0), counts(1));
        let pair = |p: &weeks::Pair| {
            let interval = p.shift.and_then(|s| s.interval);
            PairShape {
                step: p.step.clone(),
                live_p75_ms: p.ours[1],
                candidate_p75_ms: p.theirs[1],
                difference_ms: p.shift.map(|s| s.by()),
                low_ms: interval.map(|i| i.low),
                high_ms: interval.map(|i| i.high),
                verdict: gate::of_duration(p.shift.as_ref(), allowed),
            }
        };
        let pairs: Vec<PairShape> = beside.pairs.iter().map(pair).collect();
        let all = pairs.iter().map(|p| p.verdict).chain([failures]);
        Ok(HttpResponse::Ok().json(GateShape {
            verdict: gate::together(all),
            allowed,
            locations: beside.places.clone(),
            live_runs: beside.runs[0],
            candidate_runs: beside.runs[1],
            live_failed: beside.failed[0],
            candidate_failed: beside.failed[1],
            failures,
            pairs,
        }))
    };
    said(compare.await)
}
