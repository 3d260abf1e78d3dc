//! What visitors report, for programs: as the pages say it, and page view by page view.

use super::asked::{Closed, Unread, When, narrowed, query, said, stopped, wrong};
use super::listed::{Key, Page, WhichPage, cut, named};
use super::shapes::ReadingShape;
use crate::State;
use crate::access::InSite;
use crate::problem::Problem;
use actix_web::http::header::CONTENT_TYPE;
use actix_web::{HttpRequest, HttpResponse, web};
use cadentis_answers::export::{self, Field};
use cadentis_answers::pooled::{self, rated};
use cadentis_answers::views::Views;
use cadentis_answers::{AnswerError, Range, errors, funnels, requests, visitors};
use cadentis_core::calendar::stretch::hour_of;
use cadentis_core::timing::{Rating, Vital};
use cadentis_core::visitor::errors::Kind;
use cadentis_core::visitor::happening::Fault;
use cadentis_core::visitor::{Attribute, Pool};
use futures::stream;
use jiff::SignedDuration;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A vital of page views: milliseconds, CLS without a unit.
#[derive(Serialize, ToSchema)]
pub(super) struct VitalShape {
    p75: ReadingShape,
    /// Shares of the page views that reported it, from 0 to 1, by the thresholds of web.dev; `null` when none did.
    good: Option<f64>,
    needs_improvement: Option<f64>,
    poor: Option<f64>,
}

/// How satisfied visitors were, by LCP.
#[derive(Serialize, ToSchema)]
pub(super) struct ApdexShape {
    /// From 0 to 1; `null` when no page view reported LCP.
    score: Option<f64>,
    /// Satisfied is who waited so long at most.
    t_ms: f64,
    satisfied: u64,
    tolerating: u64,
    frustrated: u64,
}

/// Page views, and what they come to.
#[derive(Serialize, ToSchema)]
pub(super) struct PageViewsShape {
    page_views: u64,
    lcp: VitalShape,
    inp: VitalShape,
    cls: VitalShape,
    fcp: VitalShape,
    ttfb: VitalShape,
    apdex: ApdexShape,
    /// Shares of page views, from 0 to 1: left before the page had loaded, nothing shown until it was left, with a script
    /// error.
    abandoned: Option<f64>,
    blank: Option<f64>,
    with_errors: Option<f64>,
}

impl PageViewsShape {
    fn of(pool: &Pool, t_s: f64) -> PageViewsShape {
        let vital = |v: Vital| {
            let rated = rated(pool, v);
            VitalShape {
                p75: ReadingShape::of(&rated.p75),
                good: rated.share(Rating::Good),
                needs_improvement: rated.share(Rating::NeedsImprovement),
                poor: rated.share(Rating::Poor),
            }
        };
        let apdex = pooled::apdex(pool, t_s);
        PageViewsShape {
            page_views: pool.page_views,
            lcp: vital(Vital::Lcp),
            inp: vital(Vital::Inp),
            cls: vital(Vital::Cls),
            fcp: vital(Vital::Fcp),
            ttfb: vital(Vital::Ttfb),
            apdex: ApdexShape {
                score: apdex.score(),
                t_ms: t_s * 1_000.0,
                satisfied: apdex.satisfied,
                tolerating: apdex.tolerating,
                frustrated: apdex.frustrated,
            },
            abandoned: pool.abandoned_share(),
            blank: pool.blank_share(),
            with_errors: pool.error_share(),
        }
    }
}

/// What has most of one thing first, and of another where that is the same.
fn most_first(most: u64, then: u64, name: &str) -> Key {
    let less = |n: u64| -i64::try_from(n).unwrap_or(i64::MAX);
    (less(most), less(then), name.into())
}

/// All page views of a stretch.
#[derive(Serialize, ToSchema)]
pub(super) struct VisitorsShape {
    /// Visits and people of whom pages told who they are; counted of stretches up to 13 hours, else `null`.
    visits: Option<u64>,
    people: Option<u64>,
    all: PageViewsShape,
}

/// The page views of one family.
#[derive(Serialize, ToSchema)]
pub(super) struct FamilyShape {
    family: String,
    views: PageViewsShape,
}

/// From when to when, and which page views.
#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(super) struct WhichOf {
    /// RFC 3339; a day before `to` when it does not say.
    #[param(value_type = Option<String>, format = DateTime)]
    from: Option<String>,
    /// RFC 3339; now when it does not say.
    #[param(value_type = Option<String>, format = DateTime)]
    to: Option<String>,
    /// An attribute and a value, such as `device:phone`: only such page views. As often as wanted: values of one attribute
    /// are alternatives, attributes narrow each other.
    #[param(value_type = Vec<String>, style = Form, explode)]
    #[serde(default)]
    #[expect(dead_code, reason = "read beside the others, since it may be there often")]
    only: Option<String>,
}

impl WhichOf {
    /// The range that an address asks about.
    fn range(query: &str) -> Result<Range, Box<Problem>> {
        let (filter, rest) = narrowed(query)?;
        let WhichOf { from, to, .. } = rest;
        let stretch = When { from, to }.stretch()?;
        Ok(Range { stretch, against: None, filter, points: 1 })
    }

    /// The page of a list of it that is asked for, and the range.
    fn paged(request: &HttpRequest) -> Result<(Page, Range), Box<Problem>> {
        let (page, rest) = cut(request.path(), request.query_string())?;
        Ok((page, WhichOf::range(&rest)?))
    }
}

/// Page views of a site: vitals, Apdex, what went wrong, by the rules of the page.
#[utoipa::path(get, path = "/sites/{site}/visitors", params(("site" = String, Path, example = "marram-ferries"), WhichOf), responses(
    (status = 200, body = VisitorsShape),
    Unread,
    Closed,
))]
pub(super) async fn all(
    state: web::Data<State>,
    InSite(site): InSite,
    request: HttpRequest,
) -> HttpResponse {
    let all = async {
        let range = WhichOf::range(request.query_string())?;
        let found = visitors::ask(&state.answers, site.id, &range, Vital::Lcp, &Vital::ALL).await;
        let found = found.map_err(stopped)?;
        Ok(HttpResponse::Ok().json(VisitorsShape {
            visits: found.visits.map(|v| v.visits),
            people: found.visits.map(|v| v.people),
            all: PageViewsShape::of(&found.views.all(), site.apdex_t_s),
        }))
    };
    said(all.await)
}

/// The page families of a site, the one with most page views first.
#[utoipa::path(get, path = "/sites/{site}/families", params(("site" = String, Path, example = "marram-ferries"), WhichOf, WhichPage), responses(
    (status = 200, body = Vec<FamilyShape>),
    Unread,
    Closed,
))]
pub(super) async fn families(
    state: web::Data<State>,
    InSite(site): InSite,
    request: HttpRequest,
) -> HttpResponse {
    let all = async {
        let (page, Range { stretch, filter, .. }) = WhichOf::paged(&request)?;
        let (by, answers) = (Attribute::Family, &state.answers);
        let views = Views::load(answers, site.id, stretch, &filter, by, &Vital::ALL, 1).await;
        let families = views.map_err(stopped)?.values();
        let shape = |(family, pool): (String, Pool)| FamilyShape {
            views: PageViewsShape::of(&pool, site.t_of(&family)),
            family,
        };
        Ok(page.told(families, |(family, pool)| most_first(pool.page_views, 0, family), shape))
    };
    said(all.await)
}

/// Requests of one family: method and address, with what differs taken out.
#[derive(Serialize, ToSchema)]
pub(super) struct RequestsShape {
    name: String,
    count: u64,
    failed: u64,
    /// Visits that one of them failed for.
    failed_visits: u64,
    p50_ms: Option<ReadingShape>,
    p75_ms: Option<ReadingShape>,
    p95_ms: Option<ReadingShape>,
    /// Failed ones by whose doing it is.
    failed_by: FaultsShape,
}

/// Failed requests by whose doing it is.
#[derive(Serialize, ToSchema)]
pub(super) struct FaultsShape {
    visitor: u64,
    gateway: u64,
    back_end: u64,
    third_party: u64,
}

/// Requests that scripts of pages make, by family; the family that failed most comes first.
#[utoipa::path(get, path = "/sites/{site}/requests", params(("site" = String, Path, example = "marram-ferries"), WhichOf, WhichPage), responses(
    (status = 200, body = Vec<RequestsShape>),
    Unread,
    Closed,
))]
pub(super) async fn asked_for(
    state: web::Data<State>,
    InSite(site): InSite,
    request: HttpRequest,
) -> HttpResponse {
    let all = async {
        let (page, range) = WhichOf::paged(&request)?;
        let kind = requests::Kind::Request;
        let found =
            requests::ask(&state.answers, site.id, &range, kind, &requests::Which::All).await;
        let shape = |c: cadentis_core::visitor::calls::Calls| {
            let reading = |nth: usize| c.ms.get(nth).map(ReadingShape::of);
            let by = |fault: Fault| {
                let place = Fault::ALL.iter().position(|f| *f == fault);
                place.and_then(|place| c.faults.get(place)).copied().unwrap_or(0)
            };
            RequestsShape {
                count: c.count,
                failed: c.failed,
                failed_visits: c.visits,
                p50_ms: reading(0),
                p75_ms: reading(1),
                p95_ms: reading(2),
                failed_by: FaultsShape {
                    visitor: by(Fault::Visitor),
                    gateway: by(Fault::Gateway),
                    back_end: by(Fault::BackEnd),
                    third_party: by(Fault::ThirdParty),
                },
                name: c.name,
            }
        };
        let families = found.map_err(stopped)?.families;
        Ok(page.told(families, |c| most_first(c.failed, c.count, &c.name), shape))
    };
    said(all.await)
}

/// Errors of one kind.
#[derive(Serialize, ToSchema)]
pub(super) struct ErrorShape {
    /// A script error, a console error, …
    what: String,
    /// What is alike in all their texts.
    pattern: String,
    /// Where in the scripts.
    place: String,
    count: u64,
    page_views: u64,
    visits: u64,
    #[schema(value_type = String, format = DateTime)]
    first: jiff::Timestamp,
    #[schema(value_type = String, format = DateTime)]
    last: jiff::Timestamp,
}

/// What went wrong in pages.
#[derive(Serialize, ToSchema)]
pub(super) struct ErrorsShape {
    /// How many were read.
    read: u64,
    /// Whether there were more than could be read: then only the newest were.
    cut: bool,
    /// The kind that touched most visits comes first.
    kinds: Vec<ErrorShape>,
    /// The `cursor` of those that come after; `null` when there are no more.
    next: Option<String>,
}

/// What went wrong in pages, gathered into kinds.
#[utoipa::path(get, path = "/sites/{site}/errors", params(("site" = String, Path, example = "marram-ferries"), WhichOf, WhichPage), responses(
    (status = 200, body = ErrorsShape),
    Unread,
    Closed,
))]
pub(super) async fn gone_wrong(
    state: web::Data<State>,
    InSite(site): InSite,
    request: HttpRequest,
) -> HttpResponse {
    let all = async {
        let (page, range) = WhichOf::paged(&request)?;
        let found = errors::ask(&state.answers, site.id, &range, None).await.map_err(stopped)?;
        let shape = |k: Kind| ErrorShape {
            what: k.what,
            pattern: k.pattern,
            place: k.place,
            count: k.count,
            page_views: k.page_views,
            visits: k.visits,
            first: k.first,
            last: k.last,
        };
        let order = |k: &Kind| {
            most_first(k.visits, k.count, &format!("{}\n{}\n{}", k.what, k.pattern, k.place))
        };
        let (kinds, next) = page.of(found.kinds, order);
        let kinds = kinds.into_iter().map(shape).collect();
        Ok(HttpResponse::Ok().json(ErrorsShape { read: found.read, cut: found.cut, kinds, next }))
    };
    said(all.await)
}

/// A step of a funnel.
#[derive(Serialize, ToSchema)]
pub(super) struct StepShape {
    family: String,
    /// Visits that came to it.
    reached: u64,
    /// Of them those that did not come to the next step in time.
    lost: u64,
    /// From this step to the next, of those who went on.
    onwards_p50_ms: Option<ReadingShape>,
}

/// A funnel, and what became of its visits.
#[derive(Serialize, ToSchema)]
pub(super) struct FunnelShape {
    name: String,
    /// From the first page to the last within so long.
    within_ms: i64,
    began: u64,
    completed: u64,
    steps: Vec<StepShape>,
}

/// The funnels of a site by name: how many visits went on from page to page.
#[utoipa::path(get, path = "/sites/{site}/funnels", params(("site" = String, Path, example = "marram-ferries"), WhichOf, WhichPage), responses(
    (status = 200, body = Vec<FunnelShape>),
    Unread,
    Closed,
))]
pub(super) async fn followed(
    state: web::Data<State>,
    InSite(site): InSite,
    request: HttpRequest,
) -> HttpResponse {
    let all = async {
        let (page, range) = WhichOf::paged(&request)?;
        let found = funnels::ask(&state.answers, site.id, &range).await.map_err(stopped)?;
        let step = |s: cadentis_core::visitor::funnel::Step| StepShape {
            reached: s.reached,
            lost: s.lost,
            onwards_p50_ms: s.onwards.as_ref().map(ReadingShape::of),
            family: s.family,
        };
        let shape = |f: funnels::Followed| FunnelShape {
            within_ms: i64::from(f.within_s) * 1_000,
            began: f.now.began(),
            completed: f.now.completed(),
            steps: f.now.steps.into_iter().map(step).collect(),
            name: f.name,
        };
        Ok(page.told(found.funnels, |f| named(&f.name), shape))
    };
    said(all.await)
}

/// Which page views, and what of each.
#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(super) struct WhichViews {
    /// RFC 3339; a day before `to` when it does not say.
    #[param(value_type = Option<String>, format = DateTime)]
    from: Option<String>,
    /// RFC 3339; now when it does not say.
    #[param(value_type = Option<String>, format = DateTime)]
    to: Option<String>,
    /// Names, separated by commas: `at`, `id`, `family`, `path`, `device`, `country`, `region`, `city`, `browser`, `os`,
    /// `connection`, `release`, `environment`, `how`, `ended`, `background`, `errors`, `lcp`, `inp`, `cls`, `fcp`, `ttfb`,
    /// `load`, `dns`, `connect`, `lcp_delay`, `lcp_fetch`, `lcp_render`, `long_frames`; `attribute.` and `number.` with a name
    /// that pages gave.
    #[param(example = "at,family,device,country,lcp")]
    fields: String,
}

/// The most fields at a time.
const MOST_FIELDS: usize = 40;

/// Page views, a line of JSON each in order of time, sent while they are read: an answer that ends early has no last chunk.
#[utoipa::path(get, path = "/sites/{site}/page-views", params(("site" = String, Path, example = "marram-ferries"), WhichViews), responses(
    (status = 200, body = String, content_type = "application/x-ndjson"),
    Unread,
    Closed,
))]
pub(super) async fn page_views(
    state: web::Data<State>,
    InSite(site): InSite,
    request: HttpRequest,
) -> HttpResponse {
    let begun = async {
        let WhichViews { from, to, fields } = query::<WhichViews>(&request)?;
        let stretch = When { from, to }.stretch()?;
        let mut wanted = Vec::new();
        for name in fields.split(',') {
            let field = Field::of(name).ok_or_else(|| {
                let name: String = name.chars().take(60).collect();
                let all = Field::names().join(", ");
                wrong("?fields", format!("`{name}` is none of {all}, attribute.…, number.…."))
            })?;
            if !wanted.contains(&field) {
                wanted.push(field);
            }
        }
        if wanted.len() > MOST_FIELDS {
            return Err(wrong("?fields", format!("At most {MOST_FIELDS} fields at a time.")).into());
        }
        let answers = state.answers.clone();
        let lines = stream::try_unfold(stretch.from, move |begin| {
            let (answers, wanted) = (answers.clone(), wanted.clone());
            async move {
                if begin >= stretch.to {
                    return Ok::<_, AnswerError>(None);
                }
                let lines = export::hour(&answers, site.id, begin, stretch, &wanted).await?;
                let next = hour_of(begin) + SignedDuration::from_hours(1);
                Ok(Some((web::Bytes::from(lines), next)))
            }
        });
        let mut answer = HttpResponse::Ok();
        answer.insert_header((CONTENT_TYPE, "application/x-ndjson"));
        Ok(answer.streaming(Box::pin(lines)))
    };
    said(begun.await)
}
