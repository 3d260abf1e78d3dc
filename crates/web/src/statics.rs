//! Static files, compiled into the program: nothing is read or fetched at run time.

use crate::State;
use crate::error::PageError;
use actix_web::http::header::{CACHE_CONTROL, CONTENT_TYPE};
use actix_web::{HttpResponse, web};

const FILES: [(&str, &str, &[u8]); 15] = [
    ("bootstrap.min.css", "text/css", include_bytes!("../static/vendor/bootstrap.min.css")),
    ("htmx.min.js", "text/javascript", include_bytes!("../static/vendor/htmx.min.js")),
    ("commissioner.woff2", "font/woff2", include_bytes!("../static/vendor/commissioner.woff2")),
    ("commissioner-ext.woff2", "font/woff2", include_bytes!("../static/vendor/commissioner-ext.woff2")),
    ("cadentis.css", "text/css", include_bytes!("../static/cadentis.css")),
    ("cadentis.js", "text/javascript", include_bytes!("../static/cadentis.js")),
    ("codemirror.min.js", "text/javascript", include_bytes!("../static/vendor/codemirror.min.js")),
    ("script.js", "text/javascript", include_bytes!("../static/script.js")),
    ("bring.js", "text/javascript", include_bytes!("../static/bring.js")),
    ("har.js", "text/javascript", include_bytes!("../static/har.js")),
    ("measured.js", "text/javascript", include_bytes!("../static/measured.js")),
    ("plays.js", "text/javascript", include_bytes!("../static/plays.js")),
    ("record.js", "text/javascript", include_bytes!("../static/record.js")),
    ("start.js", "text/javascript", include_bytes!("../static/start.js")),
    ("mark.svg", "image/svg+xml", include_bytes!("../static/mark.svg")),
];

/// The snippet as it is put into pages: web-vitals and our part in one file.
const SNIPPET: &str = include_str!("../../../snippet/dist/snippet.js");
/// The same as a module.
const MODULE: &str = include_str!("../../../snippet/dist/snippet.mjs");

pub fn routes(config: &mut web::ServiceConfig) {
    config
        .route("/static/{file}", web::get().to(file))
        .route("/snippet.js", web::get().to(|| async { script(SNIPPET.to_string()) }))
        .route("/snippet.mjs", web::get().to(|| async { script(MODULE.to_string()) }))
        .route("/snippet/{key}.js", web::get().to(own_snippet));
}

async fn file(name: web::Path<String>) -> HttpResponse {
    match FILES.iter().find(|(n, ..)| *n == name.as_str()) {
        Some((_, kind, bytes)) => HttpResponse::Ok()
            .insert_header((CONTENT_TYPE, *kind))
            .insert_header((CACHE_CONTROL, "max-age=300"))
            .body(*bytes),
        None => HttpResponse::NotFound().finish(),
    }
}

/// The site's own copy, which knows the site's key and settings.
async fn own_snippet(state: web::Data<State>, key: web::Path<String>) -> Result<HttpResponse, PageError> {
    let site = state.db.site_by_key(&key).await?.ok_or_else(|| PageError::NotFound(format!("the site {key}")))?;
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
