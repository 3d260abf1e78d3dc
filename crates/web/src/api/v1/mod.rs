//! The API, version 1: what programs ask and change, with a token. The document that describes it is made of what stands here.

mod alerts;
mod asked;
mod carve_outs;
mod dependencies;
mod gate;
mod goals;
mod hours;
mod import;
mod incidents;
mod listed;
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
mod trials;
mod visitors;

use crate::State;
use crate::access::{Caller, InSite};
use actix_web::{HttpRequest, HttpResponse, web};
pub(crate) use queries::AnswerShape;

use asked::{Closed, Unread, When, said, stopped, unless_known};
use cadentis_answers::{Range, journeys, sites};
use cadentis_core::visitor::Filter;
use listed::{Nothing, WhichPage, named, paged};
use serde_json::{Map, Value};
use shapes::{JourneyShape, LocationShape, ProblemShape, SiteShape};
use std::sync::LazyLock;
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
    Import post "/sites/{site}/page-views" => import::take,
    Play post "/sites/{site}/trials" => trials::ask,
    Play get "/sites/{site}/trials/{id}" => trials::one,
    Play delete "/sites/{site}/trials/{id}" => trials::stop,
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
        scripts::one, scripts::put, openslo::file, openslo::take, trials::ask, trials::one, trials::stop, import::take,
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

/// `GET /api/openapi.json`. It is the same for as long as the program runs, and making it keeps a thread that answers busy.
pub async fn document(request: HttpRequest) -> HttpResponse {
    static TEXT: LazyLock<String> = LazyLock::new(|| described().to_string());
    unless_known(&request, TEXT.clone())
}

/// The document, that says itself below which address its paths are.
pub fn described() -> &'static Value {
    static DOCUMENT: LazyLock<Value> = LazyLock::new(|| {
        let mut document = serde_json::to_value(Document::openapi()).unwrap_or_default();
        let paths = document["paths"].as_object_mut().into_iter().flatten();
        for (path, methods) in paths {
            for (method, operation) in methods.as_object_mut().into_iter().flatten() {
                operation["operationId"] = Value::String(operation_id(method, path));
                listed::described(operation);
            }
        }
        if let Some(shapes) = document["components"]["schemas"].as_object_mut() {
            flattened(shapes);
        }
        document
    });
    &DOCUMENT
}

/// Makes one object of each shape that is said to be several at a time: one of those may say that it has no other properties than
/// its own, and then nothing would be of this shape.
fn flattened(shapes: &mut Map<String, Value>) {
    let part = |shapes: &Map<String, Value>, part: &Value| {
        let name = part["$ref"].as_str().and_then(|r| r.strip_prefix("#/components/schemas/"));
        name.map_or(Some(part.clone()), |name| shapes.get(name).cloned())
    };
    // What is made of what is made of others comes after it, however they are called.
    let names: Vec<String> = shapes.keys().cloned().collect();
    for name in names.iter().chain(&names).chain(&names) {
        let Some(parts) = shapes[name]["allOf"].as_array() else { continue };
        let parts: Option<Vec<Value>> = parts.iter().map(|p| part(shapes, p)).collect();
        let Some(parts) = parts.filter(|all| all.iter().all(|p| p["properties"].is_object()))
        else {
            continue;
        };
        let all = |of: &str| parts.iter().filter_map(|p| p.get(of)).collect::<Vec<_>>();
        let properties: Map<String, Value> = all("properties")
            .into_iter()
            .filter_map(Value::as_object)
            .flat_map(|p| p.iter().map(|(k, v)| (k.clone(), v.clone())))
            .collect();
        let required: Vec<Value> =
            all("required").into_iter().filter_map(Value::as_array).flatten().cloned().collect();
        let shape = &mut shapes[name];
        shape.as_object_mut().map(|shape| shape.remove("allOf"));
        shape["type"] = "object".into();
        shape["properties"] = properties.into();
        shape["required"] = required.into();
    }
}

/// What programs call an operation by, of which no two have the same: `delete_sites_markers_by_id`.
fn operation_id(method: &str, path: &str) -> String {
    let part = |part: &str| match part.strip_prefix('{').and_then(|p| p.strip_suffix('}')) {
        Some("site") => String::new(),
        Some(name) => format!("_by_{name}"),
        None => format!("_{}", part.replace(['-', '.'], "_")),
    };
    let parts = path.split('/').filter(|p| !p.is_empty());
    format!("{method}{}", parts.map(part).collect::<String>())
}

/// All sites that whoever asks may read, by slug.
#[utoipa::path(get, path = "/sites", params(WhichPage), responses(
    (status = 200, body = Vec<SiteShape>),
    Unread,
    Closed,
))]
async fn list_sites(state: web::Data<State>, caller: Caller, request: HttpRequest) -> HttpResponse {
    let all = async {
        let (page, Nothing {}) = paged(&request)?;
        let all = sites::all(&state.answers).await.map_err(stopped)?;
        let may: Vec<_> = all.iter().filter(|site| caller.reads(site.id)).collect();
        Ok(page.told(may, |site| named(&site.slug), SiteShape::of))
    };
    said(all.await)
}

/// The locations that journeys are played from, by slug.
#[utoipa::path(get, path = "/sites/{site}/locations", params(("site" = String, Path, example = "marram-ferries"), WhichPage), responses(
    (status = 200, body = Vec<LocationShape>),
    Unread,
    Closed,
))]
async fn list_locations(state: web::Data<State>, _: InSite, request: HttpRequest) -> HttpResponse {
    let all = async {
        let (page, Nothing {}) = paged(&request)?;
        let all = sites::locations(&state.answers).await.map_err(stopped)?;
        Ok(page.told(all.iter().collect(), |l| named(&l.slug), LocationShape::of))
    };
    said(all.await)
}

/// The journeys of a site, with what was played of each in the stretch, by the same rule about what counts as on its page; by slug.
#[utoipa::path(get, path = "/sites/{site}/journeys", params(("site" = String, Path, example = "marram-ferries"), When, WhichPage), responses(
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
        let (page, when) = paged::<When>(&request)?;
        let stretch = when.stretch()?;
        let range = Range { stretch, against: None, filter: Filter::default(), points: 1 };
        let found = journeys::ask(&state.answers, site.id, &range, |_, _| true).await;
        let found = found.map_err(stopped)?;
        let slug = |row: &&journeys::Row| named(&row.played.journey.slug);
        Ok(page.told(found.rows.iter().collect(), slug, JourneyShape::of))
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

    #[test]
    fn no_two_shapes_are_called_the_same_and_none_rules_out_what_it_is_made_of() {
        // Of two that are, the description would have one, and answers of the other would be none of it.
        let folder = concat!(env!("CARGO_MANIFEST_DIR"), "/src/api/v1");
        let mut names = Vec::new();
        for file in std::fs::read_dir(folder).unwrap() {
            let text = std::fs::read_to_string(file.unwrap().path()).unwrap();
            for shape in text.split("ToSchema)]").skip(1) {
                let words: Vec<&str> =
                    shape.split(|c: char| !c.is_alphanumeric() && c != '_').collect();
                let at = words.iter().position(|w| *w == "struct" || *w == "enum").unwrap();
                names.push(words[at + 1].to_string());
            }
        }
        assert!(names.len() > 40, "{names:?}");
        let twice: Vec<&String> =
            names.iter().filter(|n| names.iter().filter(|m| m == n).count() > 1).collect();
        assert!(twice.is_empty(), "{twice:?}");
        let shapes = described()["components"]["schemas"].as_object().unwrap();
        assert!(shapes.values().all(|shape| shape["allOf"].is_null()));
        let report = &shapes["ReportShape"];
        assert!(
            report["properties"]["next_at"].is_object() && report["properties"]["kind"].is_object()
        );
        assert!(report["additionalProperties"].is_null(), "{report}");
    }

    #[test]
    fn no_two_operations_are_called_the_same() {
        let paths = described()["paths"].as_object().unwrap();
        let methods = paths.values().flat_map(|of| of.as_object().unwrap().values());
        // What is not there is not described as nothing.
        for operation in methods.clone() {
            let answers = operation["responses"].as_object().unwrap();
            assert!(
                answers.values().all(|answer| answer["description"].is_string()),
                "{operation}"
            );
        }
        let ids: Vec<&str> = methods.map(|o| o["operationId"].as_str().unwrap()).collect();
        let all: std::collections::BTreeSet<&&str> = ids.iter().collect();
        assert_eq!(all.len(), ids.len(), "{ids:?}");
        assert!(all.contains(&"delete_sites_markers_by_id"), "{ids:?}");
        assert!(all.contains(&"get_sites_journeys_by_journey_runs_csv"), "{ids:?}");
    }
}
