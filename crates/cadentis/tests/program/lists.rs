//! Lists as programs read them: page by page, and together the same as at once.

use crate::api::{HERE, World};
use crate::server::play;
use crate::serving::beacons::{BROWSER, OWN, send};
use crate::visitors::{view, with_families};
use cadentis_core::access::Scope;
use cadentis_core::alert::Severity;
use cadentis_core::alert::incident::About;
use cadentis_core::run::Outcome;
use jiff::{SignedDuration, Timestamp};
use serde_json::{Value, json};
use uuid::Uuid;

/// Something of everything that is listed: three of each, as far as that is possible.
async fn filled() -> (World, String) {
    let w = World::new().await;
    let all = [Scope::Read, Scope::Write, Scope::Markers];
    let token = w.token(1, &all, 30).await;
    play(&w.s, &[Outcome::Passed, Outcome::Failed, Outcome::Passed, Outcome::Passed]).await;
    let now = Timestamp::now();
    // Three at one moment: the order of a page does not end with it.
    let at = now - SignedDuration::from_mins(20);
    let alert = |name: &str| {
        json!({ "name": name, "definition": {
            "measure": "share failed for journey \"book\"", "warning": 0.02, "critical": 0.1, "clear": 0.01,
            "window_minutes": 15, "every_minutes": 5, "running": 3 } })
    };
    let promised = |name: &str| json!({ "name": name, "promised": 0.7, "measure": "availability", "journeys": ["book"], "period": "month" });
    for name in ["Cable", "Anchor", "Buoy"] {
        let said = [
            ("markers", json!({ "at": at, "title": name })),
            ("alerts", alert(name)),
            ("goals", promised(name)),
            ("reports", json!({ "name": name, "kind": "goals_short", "period": "month" })),
            ("maintenance", json!({ "name": name, "minutes": 60, "begins": "2031-03-30T02:30" })),
            ("dependencies/slug/state", json!({ "state": "ok" })),
            ("goals/1/carve-outs", json!({ "from": at, "to": now, "why": name })),
            ("reports/1/issues", json!({ "back": name.len() })),
        ];
        for (path, body) in said {
            let path = path.replace("slug", &name.to_lowercase());
            let answer = w.ask(&token, "POST", &format!("{HERE}/{path}"), Some(body)).await;
            let status = answer.status();
            assert!(
                status.is_success(),
                "{path}: {status}: {}",
                answer.text().await.expect("text")
            );
        }
        let incident = (&About::Site, name);
        let open = w.s.db.open_incident(1, incident, Severity::Warning, (at, at, at), false);
        open.await.expect("opened");
        let script =
            format!("script \"{name}\"\nstep \"Open\"\n  open http://book.marram.example/\n");
        let path = format!("{HERE}/scripts/{}", name.to_lowercase());
        let answer = w.ask(&token, "PUT", &path, Some(json!({ "script": script }))).await;
        assert!(answer.status().is_success(), "{path}");
    }
    with_families(&w.s.db).await;
    let views: Vec<Value> = ["sailings", "cabin", "pay"]
        .iter()
        .map(|page| {
            let happened = json!([
                { "what": "error", "at": 50, "name": "TypeError", "text": format!("{page} is not a function") },
                { "what": "request", "at": 90, "method": "GET", "status": 503, "name": format!("{OWN}/api/{page}"), "ms": 80 },
            ]);
            view(Uuid::new_v4(), 5, &format!("/{page}"), json!({ "happened": happened }))
        })
        .collect();
    let taken = send(&w.s.server.address, "key", json!(views).to_string(), OWN, BROWSER).await;
    assert_eq!(taken.0, 204, "{}", taken.1);
    (w, token)
}

#[tokio::test]
async fn every_list_is_told_page_by_page_and_its_pages_together_are_the_list() {
    let (w, token) = filled().await;
    let document = w.json(&token, "/api/openapi.json").await;
    let paths = document["paths"].as_object().expect("paths");
    let is_paged = |of: &Value| {
        let all = of["get"]["parameters"].as_array().into_iter().flatten();
        all.into_iter().any(|p| p["name"] == "cursor")
    };
    // What answers with an array and does not lead on is no list: nothing else would tell what is missing.
    let shape = |of: &Value| {
        of["get"]["responses"]["200"]["content"]["application/json"]["schema"]["type"].clone()
    };
    for (path, of) in paths.iter().filter(|(_, of)| shape(of) == "array") {
        assert!(is_paged(of), "{path}");
        assert!(of["get"]["responses"]["200"]["headers"]["Link"].is_object(), "{path}");
    }
    let mut longer = Vec::new();
    for (path, _) in paths.iter().filter(|(_, of)| is_paged(of)) {
        let path = path.replace("{site}", "marram-ferries").replace("{journey}", "book");
        let path = format!("/api/v1{}", path.replace("{id}", "1"));
        let to = Timestamp::now();
        let when = match document_has_when(&document, &path) {
            true => format!("from={}&to={to}", to - SignedDuration::from_hours(2)),
            false => String::new(),
        };
        let rows = |told: &Value| match told {
            Value::Array(all) => all.clone(),
            told => told["runs"].as_array().or(told["kinds"].as_array()).expect("a list").clone(),
        };
        let whole = rows(&w.json(&token, &format!("{path}?{when}")).await);
        let (mut together, mut next) = (Vec::new(), Some(format!("{path}?limit=1&{when}")));
        while let Some(at) = next {
            let answer = w.ask(&token, "GET", &at, None).await;
            let link = answer.headers().get("link").map(|l| l.to_str().expect("text").to_string());
            let told: Value = answer.json().await.expect("JSON");
            let page = rows(&told);
            assert!(page.len() <= 1, "{at}");
            together.extend(page);
            assert!(together.len() <= whole.len(), "{path} does not end");
            next = match (&told, link) {
                (Value::Array(_), link) => link.map(|link| {
                    let link =
                        link.strip_prefix('<').and_then(|l| l.strip_suffix(">; rel=\"next\""));
                    link.expect("a link (RFC 8288)").to_string()
                }),
                (told, _) => {
                    told["next"].as_str().map(|c| format!("{path}?limit=1&{when}&cursor={c}"))
                }
            };
        }
        // How far the watch and the runners have come goes on meanwhile.
        let lasting = |mut rows: Vec<Value>| {
            let each = rows.iter_mut().filter_map(Value::as_object_mut);
            each.for_each(|row| {
                row.retain(|name, _| {
                    !name.ends_with("_at") && name != "since" && name != "error_budget"
                })
            });
            rows
        };
        if whole.len() > 1 {
            longer.push(path.clone());
        }
        assert_eq!(lasting(together), lasting(whole), "{path}");
        for bad in ["cursor=x", "cursor=MCAw", "limit=0", "limit=1001", "fridge=1"] {
            let told = w.refused(&token, "GET", &format!("{path}?{bad}"), None).await;
            let name = bad.split('=').next().expect("a name");
            assert_eq!(told, (400, json!(format!("?{name}"))), "{path}?{bad}");
        }
    }
    assert!(longer.len() >= 15, "too few have more than one row: {longer:?}");
}

/// Whether what is asked at an address says from when to when.
fn document_has_when(document: &Value, path: &str) -> bool {
    let path = path.replace("/api/v1", "").replace("marram-ferries", "{site}");
    let path = path.replace("/book/", "/{journey}/").replace("/1/", "/{id}/");
    let all =
        document["paths"][path.as_str()]["get"]["parameters"].as_array().into_iter().flatten();
    all.into_iter().any(|p| p["name"] == "from")
}

#[tokio::test]
async fn what_is_listed_goes_on_beyond_what_a_page_shows() {
    let (w, token) = filled().await;
    let at = Timestamp::now() - SignedDuration::from_mins(30);
    // More than the five hundred that the page of incidents shows, all of one moment.
    for nth in 0..505 {
        let title = format!("Nr. {nth}");
        let open =
            w.s.db.open_incident(1, (&About::Site, &title), Severity::Warning, (at, at, at), false);
        open.await.expect("opened");
    }
    let path = format!("{HERE}/incidents?limit=300");
    let first = w.ask(&token, "GET", &path, None).await;
    let link = first.headers()["link"].to_str().expect("text").to_string();
    let first: Vec<Value> = first.json().await.expect("JSON");
    let next = link.trim_start_matches('<').split('>').next().expect("an address");
    let second = w.json(&token, next).await;
    let ids: std::collections::BTreeSet<i64> = first
        .iter()
        .chain(second.as_array().expect("a list"))
        .map(|i| i["id"].as_i64().expect("an id"))
        .collect();
    assert_eq!(ids.len(), 508, "each once: {} and {second}", first.len());
}
