//! The API, version 1: what programs ask and change, with a token. The document that describes it is made of what stands here.

mod alerts;
mod asked;
mod carve_outs;
mod dependencies;
mod gate;
mod goals;
mod hours;
mod incidents;
mod maintenance;
mod markers;
mod measures;
mod openslo;
mod promise;
mod queries;
mod reports;
mod runs;
mod scripts;
mod shapes;
mod visitors;

use crate::State;
use crate::access::{Caller, InSite};
use actix_web::{HttpRequest, HttpResponse, web};
pub(crate) use queries::AnswerShape;

use asked::{Closed, Unread, When, query, said, stopped, unless_known};
use cadentis_answers::{Range, journeys, sites};
use cadentis_core::visitor::Filter;
use serde_json::Value;
use shapes::{JourneyShape, LocationShape, ProblemShape, SiteShape};
use utoipa::OpenApi;

crate::routes::routes! {
    Read get "/sites" => list_sites,
    Read get "/sites/{site}/locations" => list_locations,
    Read get "/sites/{site}/journeys" => list_journeys,
    Read get "/sites/{site}/journeys/{live}/gate/{candidate}" => gate::compare,
    Read get "/sites/{site}/journeys/{journey}/runs" => runs::list_runs,
    Read get "/sites/{site}/journeys/{journey}/runs.csv" => runs::as_csv,
    Read get "/sites/{site}/journeys/{journey}/runs.ndjson" => runs::as_lines,
    Read get "/sites/{site}/runs/{id}" => runs::one_run,
    Read get "/sites/{site}/runs/{id}/har" => runs::har,
    Read get "/sites/{site}/openslo" => openslo::file,
    Edit post "/sites/{site}/openslo" => openslo::take,
    Read get "/sites/{site}/scripts" => scripts::list,
    Read get "/sites/{site}/scripts/{journey}" => scripts::one,
    Edit put "/sites/{site}/scripts/{journey}" => scripts::put,
    Read get "/sites/{site}/goals" => goals::list,
    Edit post "/sites/{site}/goals" => promise::add,
    Edit put "/sites/{site}/goals/{id}" => promise::change,
    Edit delete "/sites/{site}/goals/{id}" => promise::remove,
    Read post "/sites/{site}/goals/try" => promise::attempt,
    Read get "/sites/{site}/goals/{id}/carve-outs" => carve_outs::list,
    Edit post "/sites/{site}/goals/{id}/carve-outs" => carve_outs::add,
    Edit delete "/sites/{site}/goals/{id}/carve-outs/{carve_out}" => carve_outs::revoke,
    Read get "/sites/{site}/measures" => measures::read,
    Read post "/sites/{site}/alerts/try" => alerts::attempt,
    Read get "/sites/{site}/alerts" => alerts::list,
    Edit post "/sites/{site}/alerts" => alerts::add,
    Read get "/sites/{site}/alerts/{id}" => alerts::one,
    Edit put "/sites/{site}/alerts/{id}" => alerts::change,
    Edit put "/sites/{site}/alerts/{id}/silence" => alerts::silence,
    Edit delete "/sites/{site}/alerts/{id}" => alerts::remove,
    Read get "/sites/{site}/incidents" => incidents::list,
    Read get "/sites/{site}/incidents/{id}" => incidents::one,
    Edit post "/sites/{site}/incidents/{id}/acknowledge" => incidents::acknowledge,
    Read get "/sites/{site}/visitors" => visitors::all,
    Read get "/sites/{site}/families" => visitors::families,
    Read get "/sites/{site}/requests" => visitors::asked_for,
    Read get "/sites/{site}/errors" => visitors::gone_wrong,
    Read get "/sites/{site}/funnels" => visitors::followed,
    Read get "/sites/{site}/dependencies" => dependencies::list,
    Mark post "/sites/{site}/dependencies/{slug}/state" => dependencies::post,
    Mark post "/sites/{site}/events" => dependencies::events,
    Read get "/sites/{site}/markers" => markers::list,
    Mark post "/sites/{site}/markers" => markers::add,
    Mark delete "/sites/{site}/markers/{id}" => markers::remove,
    Read get "/sites/{site}/markers/{id}/around" => markers::around,
    Read post "/sites/{site}/queries/answer" => queries::answer,
    Read get "/sites/{site}/reports" => reports::list,
    Edit post "/sites/{site}/reports" => reports::add,
    Edit put "/sites/{site}/reports/{id}" => reports::change,
    Edit delete "/sites/{site}/reports/{id}" => reports::end,
    Read get "/sites/{site}/reports/{id}/issues" => reports::issues,
    Edit post "/sites/{site}/reports/{id}/issues" => reports::issue,
    Read get "/sites/{site}/report-issues/{id}" => reports::content,
    Read get "/sites/{site}/maintenance" => maintenance::list,
    Edit post "/sites/{site}/maintenance" => maintenance::plan,
    Edit post "/sites/{site}/maintenance/{id}/end" => maintenance::end,
    Edit delete "/sites/{site}/maintenance/{id}" => maintenance::call_off,
    Read get "/sites/{site}/page-views" => visitors::page_views,
}

/// The description of this interface.
#[derive(OpenApi)]
#[openapi(
    info(
        title = "Cadentis",
        description = "What Cadentis measures, for programs. A token of a site is shown as `Authorization: Bearer …`; \
            administrators make them on its Settings, Programs. Moments are RFC 3339, durations milliseconds. Errors are \
            `application/problem+json`. A token may ask 600 times a minute at each server; `RateLimit-Limit`, `RateLimit-Remaining` \
            and `RateLimit-Reset` (seconds) say what is left.",
        license(name = "MIT OR Apache-2.0")
    ),
    servers((url = "/api/v1")),
    modifiers(&Bearer),
    security(("token" = [])),
    paths(
        list_sites, list_locations, list_journeys, runs::list_runs, runs::as_csv, runs::as_lines, runs::one_run, runs::har,
        goals::list, promise::add, promise::change, promise::remove, promise::attempt, measures::read, alerts::attempt, alerts::list, alerts::add,
        alerts::one, alerts::change, alerts::silence, alerts::remove, incidents::list, incidents::one, incidents::acknowledge,
        visitors::all, visitors::families, visitors::asked_for, visitors::gone_wrong, visitors::followed,
        dependencies::list, dependencies::post, dependencies::events, markers::list, markers::add, markers::remove, markers::around, visitors::page_views,
        carve_outs::list, carve_outs::add, carve_outs::revoke, maintenance::list, maintenance::plan, maintenance::end,
        maintenance::call_off, queries::answer, reports::list, reports::add, reports::change, reports::end, reports::issues, reports::issue, reports::content, gate::compare, scripts::list,
        scripts::one, scripts::put, openslo::file, openslo::take,
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

/// `GET /api/openapi.json`.
pub async fn document(request: HttpRequest) -> HttpResponse {
    unless_known(&request, described().to_string())
}

/// The document, that says itself below which address its paths are.
pub fn described() -> Value {
    serde_json::to_value(Document::openapi()).unwrap_or_default()
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

#[cfg(test)]
mod tests {
    use super::*;

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
        let routes: Vec<(String, String)> =
            ROUTES.iter().map(|(_, method, path)| (method.to_string(), path.to_string())).collect();
        for route in &routes {
            assert!(described.contains(route), "{route:?}");
        }
        assert_eq!(described.len(), routes.len());
    }
}
