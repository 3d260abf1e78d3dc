//! The API, version 1: what programs ask and change, with a token. The document that describes it is made of what stands here.

mod shapes;

use crate::State;
use crate::access::{After, Caller, InSite};
use crate::error::unavailable;
use crate::problem::Problem;
use actix_web::http::StatusCode;
use actix_web::http::header::CONTENT_TYPE;
use actix_web::{HttpRequest, HttpResponse, web};
use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use cadentis_answers::changes::markers;
use cadentis_answers::export::{self, Field};
use cadentis_answers::runs::{self, Wanted};
use cadentis_answers::{AnswerError, Range, journeys, run, sites};
use cadentis_core::calendar::Stretch;
use cadentis_core::calendar::stretch::hour_of;
use cadentis_core::text;
use cadentis_core::visitor::Filter;
use futures::stream;
use jiff::{SignedDuration, Timestamp};
use serde::Deserialize;
use shapes::{
    JourneyShape, LocationShape, Made, MarkerShape, NewMarker, OutcomeShape, ProblemShape,
    RunShape, RunsShape, SiteShape,
};
use utoipa::OpenApi;
use uuid::Uuid;

crate::routes::routes! {
    Public get "/openapi.json" => document,
    Read get "/sites" => list_sites,
    Read get "/sites/{site}/locations" => list_locations,
    Read get "/sites/{site}/journeys" => list_journeys,
    Read get "/sites/{site}/journeys/{journey}/runs" => list_runs,
    Read get "/sites/{site}/runs/{id}" => one_run,
    Read get "/sites/{site}/markers" => list_markers,
    Mark post "/sites/{site}/markers" => add_marker,
    Mark delete "/sites/{site}/markers/{id}" => remove_marker,
    Read get "/sites/{site}/page-views" => page_views,
}

/// The description of this interface.
#[derive(OpenApi)]
#[openapi(
    info(
        title = "Cadentis",
        description = "What Cadentis measures, for programs. A token of a site is shown as `Authorization: Bearer …`; \
            administrators make them on its Settings, Programs. Moments are RFC 3339, durations milliseconds. Errors are \
            `application/problem+json`.",
        license(name = "MIT OR Apache-2.0")
    ),
    servers((url = "/api/v1")),
    modifiers(&Bearer),
    security(("token" = [])),
    paths(
        list_sites, list_locations, list_journeys, list_runs, one_run, list_markers, add_marker, remove_marker, page_views,
    ),
    components(schemas(ProblemShape))
)]
struct Document;

struct Bearer;

impl utoipa::Modify for Bearer {
    fn modify(&self, document: &mut utoipa::openapi::OpenApi) {
        use utoipa::openapi::security::{HttpAuthScheme, HttpBuilder, SecurityScheme};
        let scheme = HttpBuilder::new().scheme(HttpAuthScheme::Bearer).build();
        let components = document.components.get_or_insert_default();
        components.add_security_scheme("token", SecurityScheme::Http(scheme));
    }
}

async fn document() -> HttpResponse {
    HttpResponse::Ok().json(Document::openapi())
}

/// How whoever may not, or asks for what is not there for them, is told.
#[derive(utoipa::IntoResponses)]
#[expect(dead_code, reason = "described, and answered as problems")]
enum Closed {
    /// No token, or none that is good.
    #[response(status = 401, content_type = "application/problem+json")]
    NoToken(ProblemShape),
    /// A token that was not made for this.
    #[response(status = 403, content_type = "application/problem+json")]
    NotAllowed(ProblemShape),
    /// Nothing of this name for whoever asks.
    #[response(status = 404, content_type = "application/problem+json")]
    NotFound(ProblemShape),
}

/// How a parameter that cannot be read is told.
#[derive(utoipa::IntoResponses)]
#[response(status = 400, content_type = "application/problem+json")]
#[expect(dead_code, reason = "described, and answered as a problem")]
struct Unread(ProblemShape);

type Answered = Result<HttpResponse, HttpResponse>;

/// What a handler answers, whether it went well or not.
fn said(answered: Answered) -> HttpResponse {
    answered.unwrap_or_else(|problem| problem)
}

fn stopped(e: impl Into<AnswerError>) -> HttpResponse {
    unavailable(&e.into())
}

fn wrong(pointer: &str, says: impl Into<String>) -> Box<Problem> {
    let says = says.into();
    Box::new(Problem::new(StatusCode::BAD_REQUEST, says.clone()).and_at(pointer, says))
}

/// From when to when; the last day when it does not say.
#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
struct When {
    /// RFC 3339; a day before `to` when it does not say.
    #[param(value_type = Option<String>, format = DateTime)]
    from: Option<String>,
    /// RFC 3339; now when it does not say.
    #[param(value_type = Option<String>, format = DateTime)]
    to: Option<String>,
}

/// The longest stretch that is answered, in days.
const LONGEST_DAYS: i64 = 400;

fn moment(name: &str, given: &Option<String>) -> Result<Option<Timestamp>, Box<Problem>> {
    let Some(text) = given else { return Ok(None) };
    let read: Result<Timestamp, _> = text.parse();
    let years = |t: &Timestamp| (0..=4_102_444_800).contains(&t.as_second());
    match read.ok().filter(years) {
        Some(at) => Ok(Some(at)),
        None => Err(wrong(
            &format!("?{name}"),
            format!("`{name}` is a moment such as 2026-11-22T05:00:00Z, from 1970 to 2100."),
        )),
    }
}

impl When {
    fn stretch(&self) -> Result<Stretch, Box<Problem>> {
        let to = moment("to", &self.to)?.unwrap_or_else(Timestamp::now);
        let day = SignedDuration::from_hours(24);
        let from = moment("from", &self.from)?.unwrap_or(to - day);
        if from >= to {
            return Err(wrong("?from", "`from` comes before `to`."));
        }
        if to.duration_since(from) > day * LONGEST_DAYS as i32 {
            return Err(wrong("?from", format!("A stretch has {LONGEST_DAYS} days at most.")));
        }
        Ok(Stretch { from, to })
    }
}

/// Parameters that are none, or have another form.
fn query<T: serde::de::DeserializeOwned>(request: &HttpRequest) -> Result<T, Box<Problem>> {
    let pairs = url::form_urlencoded::parse(request.query_string().as_bytes());
    let read = serde_urlencoded::Deserializer::new(pairs);
    serde_path_to_error::deserialize(read).map_err(|e| {
        let name = e.path().to_string();
        wrong(&format!("?{name}"), format!("{}.", e.inner()))
    })
}

/// All sites that whoever asks may read.
#[utoipa::path(get, path = "/sites", responses(
    (status = 200, body = Vec<SiteShape>),
    Closed,
))]
async fn list_sites(state: web::Data<State>, caller: Caller) -> HttpResponse {
    let all = async {
        let all = sites::all(&state.answers).await.map_err(stopped)?;
        let may = all.iter().filter(|site| caller.reads(site.id));
        Ok(HttpResponse::Ok().json(may.map(SiteShape::of).collect::<Vec<_>>()))
    };
    said(all.await)
}

/// The locations that journeys are played from.
#[utoipa::path(get, path = "/sites/{site}/locations", params(("site" = String, Path, example = "marram-ferries")), responses(
    (status = 200, body = Vec<LocationShape>),
    Closed,
))]
async fn list_locations(state: web::Data<State>, _: InSite) -> HttpResponse {
    let all = async {
        let all = sites::locations(&state.answers).await.map_err(stopped)?;
        Ok(HttpResponse::Ok().json(all.iter().map(LocationShape::of).collect::<Vec<_>>()))
    };
    said(all.await)
}

/// The journeys of a site, with what was played of each in the stretch, by the same rule about what counts as on its page.
#[utoipa::path(get, path = "/sites/{site}/journeys", params(("site" = String, Path, example = "marram-ferries"), When), responses(
    (status = 200, body = Vec<JourneyShape>),
    Unread,
    Closed,
))]
async fn list_journeys(
    state: web::Data<State>,
    InSite(site): InSite,
    request: HttpRequest,
) -> HttpResponse {
    let all = async {
        let stretch = query::<When>(&request)?.stretch()?;
        let range = Range { stretch, against: None, filter: Filter::default(), points: 1 };
        let found = journeys::ask(&state.answers, site.id, &range, |_, _| true).await;
        let found = found.map_err(stopped)?;
        Ok(HttpResponse::Ok().json(found.rows.iter().map(JourneyShape::of).collect::<Vec<_>>()))
    };
    said(all.await)
}

/// Which runs are wanted.
#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
struct WhichRuns {
    /// RFC 3339; a day before `to` when it does not say.
    #[param(value_type = Option<String>, format = DateTime)]
    from: Option<String>,
    /// RFC 3339; now when it does not say.
    #[param(value_type = Option<String>, format = DateTime)]
    to: Option<String>,
    /// Only with this outcome.
    #[param(inline)]
    outcome: Option<OutcomeShape>,
    /// Only from the location with this slug.
    location: Option<String>,
    /// What `next` of the answer before said.
    cursor: Option<String>,
    /// 100 when it does not say.
    #[param(minimum = 1, maximum = 1000)]
    limit: Option<u32>,
}

/// Where a list goes on: after this run.
fn cursor(at: Timestamp, id: Uuid) -> String {
    URL_SAFE_NO_PAD.encode(format!("{} {id}", at.as_microsecond()))
}

fn after(cursor: &str) -> Option<(Timestamp, Uuid)> {
    let text = String::from_utf8(URL_SAFE_NO_PAD.decode(cursor).ok()?).ok()?;
    let (at, id) = text.split_once(' ')?;
    Some((Timestamp::from_microsecond(at.parse().ok()?).ok()?, id.parse().ok()?))
}

/// Runs of a journey, newest first, a page at a time.
#[utoipa::path(get, path = "/sites/{site}/journeys/{journey}/runs",
    params(("site" = String, Path, example = "marram-ferries"), ("journey" = String, Path, example = "book-a-crossing"), WhichRuns), responses(
    (status = 200, body = RunsShape),
    Unread,
    Closed,
))]
async fn list_runs(
    state: web::Data<State>,
    InSite(site): InSite,
    After(id): After<String>,
    request: HttpRequest,
) -> HttpResponse {
    let page = async {
        let which = query::<WhichRuns>(&request)?;
        let WhichRuns { from, to, outcome, location, cursor: given, limit } = which;
        let stretch = When { from, to }.stretch()?;
        let most = limit.unwrap_or(100);
        if !(1..=1_000).contains(&most) {
            return Err(wrong("?limit", "`limit` is from 1 to 1000.").into());
        }
        let after = match given.as_deref().map(after) {
            None => None,
            Some(Some(after)) => Some(after),
            Some(None) => return Err(wrong("?cursor", "`cursor` is no `next` of ours.").into()),
        };
        let found = sites::journey(&state.answers, site.id, &id).await.map_err(stopped)?;
        let none = || Problem::not_found(format!("There is no journey {id}."));
        let journey = found.ok_or_else(none)?;
        let locations = sites::locations(&state.answers).await.map_err(stopped)?;
        let known = |slug: &String| locations.iter().any(|l| l.slug == *slug);
        if location.as_ref().is_some_and(|slug| !known(slug)) {
            return Err(wrong("?location", "There is no location with this slug.").into());
        }
        let wanted = Wanted {
            outcome: outcome.map(OutcomeShape::outcome),
            location: location.as_deref(),
            most: i64::from(most) + 1,
            ..Wanted::default()
        };
        let found = runs::after(&state.answers, &journey, stretch, &wanted, after).await;
        let mut found = found.map_err(stopped)?;
        let more = found.len() > most as usize;
        found.truncate(most as usize);
        let last = found.last().filter(|_| more).map(|r| cursor(r.due_at, r.id));
        let runs = found.into_iter().map(|r| RunShape::of(r, &locations)).collect();
        Ok(HttpResponse::Ok().json(RunsShape { runs, next: last }))
    };
    said(page.await)
}

/// What was recorded of a run: steps, requests, timings; without pictures. 410 once its time is over.
#[utoipa::path(get, path = "/sites/{site}/runs/{id}", params(("site" = String, Path, example = "marram-ferries"), ("id" = Uuid, Path)), responses(
    (status = 200, description = "The record, as the runner sent it", body = Object),
    (status = 410, body = ProblemShape, content_type = "application/problem+json"),
    Closed,
))]
async fn one_run(
    state: web::Data<State>,
    InSite(site): InSite,
    After(id): After<Uuid>,
) -> HttpResponse {
    let one = async {
        match run::of_site(&state.answers, site.id, id).await.map_err(stopped)? {
            Some(Some(record)) => Ok(HttpResponse::Ok().json(record)),
            Some(None) => {
                let says = "What was recorded of this run is not kept any more.";
                Err(Problem::new(StatusCode::GONE, says).into())
            }
            None => Err(Problem::not_found(format!("There is no run {id}.")).into()),
        }
    };
    said(one.await)
}

/// What is pinned to the time axis.
#[utoipa::path(get, path = "/sites/{site}/markers", params(("site" = String, Path, example = "marram-ferries"), When), responses(
    (status = 200, body = Vec<MarkerShape>),
    Unread,
    Closed,
))]
async fn list_markers(
    state: web::Data<State>,
    InSite(site): InSite,
    request: HttpRequest,
) -> HttpResponse {
    let all = async {
        let stretch = query::<When>(&request)?.stretch()?;
        let all = sites::markers(&state.answers, site.id, stretch).await.map_err(stopped)?;
        Ok(HttpResponse::Ok().json(all.into_iter().map(MarkerShape::of).collect::<Vec<_>>()))
    };
    said(all.await)
}

/// Pins a marker to a moment: a release, something that happened.
#[utoipa::path(post, path = "/sites/{site}/markers", params(("site" = String, Path, example = "marram-ferries")), request_body = NewMarker, responses(
    (status = 201, body = Made),
    Unread,
    (status = 413, body = ProblemShape, content_type = "application/problem+json"),
    (status = 422, body = ProblemShape, content_type = "application/problem+json"),
    Closed,
))]
async fn add_marker(
    state: web::Data<State>,
    caller: Caller,
    InSite(site): InSite,
    new: web::Json<NewMarker>,
) -> HttpResponse {
    let add = async {
        let invalid =
            |pointer: &str, says: &str| HttpResponse::from(Problem::invalid(pointer, says));
        let title = text::clean(new.title.trim(), markers::LONGEST_TITLE + 1, None);
        if title.is_empty() || title.chars().count() > markers::LONGEST_TITLE {
            return Err(invalid("/title", "A title has 1 to 80 characters."));
        }
        let detail = text::clean(new.detail.trim(), markers::LONGEST_DETAIL + 1, None);
        if detail.chars().count() > markers::LONGEST_DETAIL {
            return Err(invalid("/detail", "What is said besides has 500 characters at most."));
        }
        let at = match moment("at", &new.at) {
            Ok(at) => at.unwrap_or_else(Timestamp::now),
            Err(_) => {
                let says = "A moment such as 2026-11-22T05:00:00Z, from 1970 to 2100.";
                return Err(invalid("/at", says));
            }
        };
        let made = markers::add(&state.answers, &caller.author, &site, at, &title, &detail).await;
        Ok(HttpResponse::Created().json(Made { id: made.map_err(stopped)? }))
    };
    said(add.await)
}

/// Takes a marker away.
#[utoipa::path(delete, path = "/sites/{site}/markers/{id}", params(("site" = String, Path, example = "marram-ferries"), ("id" = i32, Path)), responses(
    (status = 204),
    Closed,
))]
async fn remove_marker(
    state: web::Data<State>,
    caller: Caller,
    InSite(site): InSite,
    After(id): After<i32>,
) -> HttpResponse {
    let remove = async {
        let gone = markers::remove(&state.answers, &caller.author, &site, id).await;
        match gone.map_err(stopped)? {
            true => Ok(HttpResponse::NoContent().finish()),
            false => Err(Problem::not_found(format!("There is no marker {id}.")).into()),
        }
    };
    said(remove.await)
}

/// Which page views, and what of each.
#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
struct WhichViews {
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
async fn page_views(
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_cursor_leads_on_from_where_it_was_given_and_nothing_else_is_one() {
        let (at, id) =
            (Timestamp::from_microsecond(1_795_000_200_123_456).unwrap(), Uuid::new_v4());
        assert_eq!(after(&cursor(at, id)), Some((at, id)));
        for tampered in ["", "x", "AAAA", &cursor(at, id)[1..], "LTk5OTk5OTk5OTk5OTk5OTk5OTk5IHg"] {
            assert_eq!(after(tampered), None, "{tampered}");
        }
    }

    #[test]
    fn every_route_is_described_and_nothing_else() {
        let document = serde_json::to_value(Document::openapi()).unwrap();
        let described = document["paths"].as_object().unwrap();
        let described: Vec<(String, String)> = described
            .iter()
            .flat_map(|(path, of)| {
                of.as_object().unwrap().keys().map(move |m| (m.clone(), path.clone()))
            })
            .collect();
        let routes = ROUTES.iter().filter(|(_, _, path)| *path != "/openapi.json");
        let routes: Vec<(String, String)> =
            routes.map(|(_, method, path)| (method.to_string(), path.to_string())).collect();
        for route in &routes {
            assert!(described.contains(route), "{route:?}");
        }
        assert_eq!(described.len(), routes.len());
    }
}
