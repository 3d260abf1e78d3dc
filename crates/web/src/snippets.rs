//! The snippet that pages load, which tells how visitors fare: what other origins ask for.

use crate::State;
use crate::error::PageError;
use actix_web::http::header::{CACHE_CONTROL, CONTENT_TYPE};
use actix_web::{HttpResponse, web};
use cadentis_answers::sites;

/// The snippet as it is put into pages: web-vitals and our part in one file.
const SNIPPET: &str = include_str!("../../../snippet/dist/snippet.js");
/// The same as a module.
const MODULE: &str = include_str!("../../../snippet/dist/snippet.mjs");

crate::routes::routes! {
    Public get "/snippet.js" => || async { script(SNIPPET.to_string()) },
    Public get "/snippet.mjs" => || async { script(MODULE.to_string()) },
    Public get "/snippet/{key}.js" => own_snippet,
}

/// The site's own copy, which knows the site's key and settings.
async fn own_snippet(
    state: web::Data<State>,
    key: web::Path<String>,
) -> Result<HttpResponse, PageError> {
    let site = sites::by_key(&state.answers, &key).await?;
    let site = site.ok_or_else(|| PageError::NotFound(format!("the site {key}")))?;
    let c = &site.collecting;
    let settings = serde_json::json!({
        "site": site.key, "sample": c.sample, "keep": c.keep, "phrases": c.phrases, "trace": c.trace,
        "consent": if c.consent { "wait" } else { "" },
    });
    // Inside the one function that the snippet is: nothing more becomes global.
    let settings = format!("(function () {{\nvar CADENTIS_SETTINGS = {settings};");
    Ok(script(SNIPPET.replacen("(function () {", &settings, 1)))
}

fn script(body: String) -> HttpResponse {
    HttpResponse::Ok()
        .insert_header((CONTENT_TYPE, "text/javascript; charset=utf-8"))
        .insert_header((CACHE_CONTROL, "max-age=300"))
        // A script that any page may load, also one that isolates itself from other origins.
        .insert_header(("cross-origin-resource-policy", "cross-origin"))
        // A module is asked for with an origin.
        .insert_header(("access-control-allow-origin", "*"))
        .body(body)
}
