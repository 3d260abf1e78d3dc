//! Static files, compiled into the program: nothing is read or fetched at run time.

use actix_web::http::header::{CACHE_CONTROL, CONTENT_TYPE};
use actix_web::{HttpResponse, web};
use std::hash::{DefaultHasher, Hash, Hasher};
use std::sync::LazyLock;

/// One file per component, put together in the order of their layers (`layers.css`).
const STYLES: &str = concat!(
    include_str!("../static/styles/layers.css"),
    "@layer vendor {\n",
    include_str!("../static/vendor/bootstrap.min.css"),
    "\n}\n",
    include_str!("../static/styles/tokens.css"),
    include_str!("../static/styles/base.css"),
    include_str!("../static/styles/frame.css"),
    include_str!("../static/styles/find.css"),
    include_str!("../static/styles/page-head.css"),
    include_str!("../static/styles/findings.css"),
    include_str!("../static/styles/tables.css"),
    include_str!("../static/styles/line-up.css"),
    include_str!("../static/styles/alerts.css"),
    include_str!("../static/styles/query.css"),
    // Documents look on a page as they do on paper.
    include_str!("../../paper/assets/document.css"),
    include_str!("../static/styles/reports.css"),
    include_str!("../static/styles/views.css"),
    include_str!("../static/styles/steps.css"),
    include_str!("../static/styles/waterfall.css"),
    include_str!("../static/styles/mosaic.css"),
    include_str!("../static/styles/forms.css"),
    include_str!("../static/styles/script-editor.css"),
    include_str!("../static/styles/record.css"),
    include_str!("../static/styles/load-bar.css"),
    include_str!("../static/styles/visit.css"),
    include_str!("../static/styles/filter.css"),
    include_str!("../static/styles/ratings.css"),
    include_str!("../static/styles/funnel.css"),
    include_str!("../static/styles/map.css"),
    include_str!("../static/styles/door.css"),
    include_str!("../static/styles/narrow.css"),
    include_str!("../static/styles/print.css"),
);

const FILES: [(&str, &str, &[u8]); 20] = [
    ("htmx.min.js", "text/javascript", include_bytes!("../static/vendor/htmx.min.js")),
    ("commissioner.woff2", "font/woff2", include_bytes!("../static/vendor/commissioner.woff2")),
    (
        "commissioner-ext.woff2",
        "font/woff2",
        include_bytes!("../static/vendor/commissioner-ext.woff2"),
    ),
    ("cadentis.css", "text/css; charset=utf-8", STYLES.as_bytes()),
    ("ask.js", "text/javascript", include_bytes!("../static/ask.js")),
    ("cadentis.js", "text/javascript", include_bytes!("../static/cadentis.js")),
    ("find.js", "text/javascript", include_bytes!("../static/find.js")),
    ("codemirror.min.js", "text/javascript", include_bytes!("../static/vendor/codemirror.min.js")),
    ("script.js", "text/javascript", include_bytes!("../static/script.js")),
    ("script_files.js", "text/javascript", include_bytes!("../static/script_files.js")),
    ("har.js", "text/javascript", include_bytes!("../static/har.js")),
    ("maintenance.js", "text/javascript", include_bytes!("../static/maintenance.js")),
    ("measured.js", "text/javascript", include_bytes!("../static/measured.js")),
    ("pieces.js", "text/javascript", include_bytes!("../static/pieces.js")),
    ("plays.js", "text/javascript", include_bytes!("../static/plays.js")),
    ("record.js", "text/javascript", include_bytes!("../static/record.js")),
    ("start.js", "text/javascript", include_bytes!("../static/start.js")),
    ("tables.js", "text/javascript", include_bytes!("../static/tables.js")),
    ("wall.js", "text/javascript", include_bytes!("../static/wall.js")),
    ("mark.svg", "image/svg+xml", include_bytes!("../static/mark.svg")),
];

crate::routes::routes! {
    Public get "/static/{version}/{file}" => file,
}

/// Stands in the address of every file, and is another one when any of them is: pages of a new version never get files
/// of an old one, and browsers may keep what they have for ever.
pub fn version() -> &'static str {
    static VERSION: LazyLock<String> = LazyLock::new(|| {
        let mut hasher = DefaultHasher::new();
        FILES.hash(&mut hasher);
        format!("{:016x}", hasher.finish())
    });
    &VERSION
}

async fn file(asked: web::Path<(String, String)>) -> HttpResponse {
    let (asked_version, name) = asked.into_inner();
    // A page of before an upgrade asks for what was there then: it gets what is there now, for this once.
    let kept =
        if asked_version == version() { "public, max-age=31536000, immutable" } else { "no-store" };
    match FILES.iter().find(|(n, ..)| *n == name) {
        Some((_, kind, bytes)) => HttpResponse::Ok()
            .insert_header((CONTENT_TYPE, *kind))
            .insert_header((CACHE_CONTROL, kept))
            .body(*bytes),
        None => HttpResponse::NotFound().finish(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::BTreeSet;
    use std::fs;
    use std::path::Path;

    fn templates() -> Vec<(String, String)> {
        let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("templates");
        let names = fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path());
        names.map(|p| (p.display().to_string(), fs::read_to_string(&p).unwrap())).collect()
    }

    /// What stands between `before` and the next of these characters, wherever it stands.
    fn after<'a>(text: &'a str, before: &str, until: &[char]) -> Vec<&'a str> {
        text.split(before).skip(1).filter_map(|rest| rest.split(until).next()).collect()
    }

    #[test]
    fn every_file_that_a_page_or_a_style_asks_for_is_there_and_none_is_there_for_nothing() {
        let there: BTreeSet<&str> = FILES.iter().map(|(name, ..)| *name).collect();
        let templates = templates();
        let mut asked = BTreeSet::new();
        for (path, text) in &templates {
            for address in after(text, "/static/", &['"']) {
                let name = address.strip_prefix("{{ crate::statics::version() }}/");
                asked.insert(name.unwrap_or_else(|| panic!("{path}: {address} has no version")));
            }
        }
        asked.extend(
            after(STYLES, "url(", &[')'])
                .into_iter()
                .filter(|address| !address.starts_with(['#', '"', '\''])),
        );
        assert_eq!(asked, there);
    }

    #[test]
    fn no_page_has_a_style_or_a_script_within_itself() {
        // The policy that every page is sent with would not let them work (see `door`).
        for (path, text) in templates() {
            for wrong in
                ["<style", " style=\"", " onclick=", " onload=", " onsubmit=", "javascript:"]
            {
                assert!(!text.contains(wrong), "{path} has {wrong}");
            }
            assert!(
                text.split("<script").skip(1).all(|rest| rest.trim_start().starts_with("src=")),
                "{path}"
            );
        }
    }

    #[test]
    fn what_is_written_without_being_escaped_is_markup_of_our_own() {
        let mut whole: Vec<&str> = Vec::new();
        let templates = templates();
        for (_, text) in &templates {
            whole.extend(
                text.split("{{ ")
                    .skip(1)
                    .filter_map(|rest| rest.split(" }}").next())
                    .filter(|e| e.contains("safe")),
            );
        }
        whole.sort_unstable();
        whole.dedup();
        assert_eq!(
            whole,
            [
                "article|safe",
                "draft|safe",
                "lineup|safe",
                "list|safe",
                "preview|safe",
                "steps|safe",
                "still|safe"
            ],
            "each is a template that was rendered, and escaped there"
        );
    }
}
