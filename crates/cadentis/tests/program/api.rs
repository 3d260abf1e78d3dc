//! The API as programs use it: with tokens, for one site, page by page.

use crate::server::{Served, play, server};
use crate::serving::beacons::{BROWSER, OWN, beacon, send};
use cadentis_core::access::Scope;
use cadentis_core::run::Outcome;
use cadentis_web::routes::all;
use jiff::Timestamp;
use reqwest::Response;
use serde_json::{Value, json};
use sha2::{Digest, Sha256};
use std::collections::BTreeSet;
use uuid::Uuid;

pub const HERE: &str = "/api/v1/sites/marram-ferries";

pub struct World {
    pub s: Served,
}

fn token() -> String {
    format!("{}{}", Uuid::new_v4().simple(), Uuid::new_v4().simple())
}

impl World {
    pub async fn new() -> World {
        let s = server().await;
        crate::serving::another_site(&s.db).await;
        World { s }
    }

    pub async fn token(&self, site_id: i32, scopes: &[Scope], days: i32) -> String {
        let token = token();
        let hash = Sha256::digest(token.as_bytes());
        let add = self.s.db.add_api_token(&hash, site_id, "a test", scopes, "Ada", days);
        add.await.expect("a token");
        token
    }

    pub async fn ask(
        &self,
        token: &str,
        method: &str,
        path: &str,
        body: Option<Value>,
    ) -> Response {
        let method = method.parse().expect("a method");
        let to = format!("{}{path}", self.s.server.address);
        let request = reqwest::Client::new().request(method, to).bearer_auth(token);
        let request = match body {
            Some(body) => request.json(&body),
            None => request,
        };
        request.send().await.expect("an answer")
    }

    pub async fn json(&self, token: &str, path: &str) -> Value {
        let answer = self.ask(token, "GET", path, None).await;
        let (status, text) = (answer.status(), answer.text().await.expect("a body"));
        assert_eq!(status, 200, "{path}: {text}");
        serde_json::from_str(&text).unwrap_or_else(|e| panic!("{path}: {e}: {text}"))
    }

    /// What a wrong request is told: its status, and where it is wrong.
    pub async fn refused(
        &self,
        token: &str,
        method: &str,
        path: &str,
        body: Option<Value>,
    ) -> (u16, Value) {
        let answer = self.ask(token, method, path, body).await;
        let status = answer.status().as_u16();
        let kind = answer.headers()["content-type"].to_str().expect("text").to_string();
        assert_eq!(kind, "application/problem+json", "{path}");
        let body: Value = answer.json().await.expect("a problem");
        (status, body["errors"][0]["pointer"].clone())
    }
}

#[tokio::test]
async fn a_token_does_what_it_was_made_for_on_its_own_site_while_it_is_good_and_nothing_else() {
    let w = World::new().await;
    let read = w.token(1, &[Scope::Read], 30).await;
    let marks = w.token(1, &[Scope::Markers], 30).await;
    let elsewhere = w.token(2, &Scope::ALL, 30).await;
    let over = w.token(1, &Scope::ALL, 0).await;
    let marker = || Some(json!({ "title": "Release 7" }));
    let markers = &format!("{HERE}/markers");
    assert_eq!(w.ask(&read, "GET", markers, None).await.status(), 200);
    assert_eq!(w.refused(&read, "POST", markers, marker()).await.0, 403);
    assert_eq!(w.refused(&marks, "GET", markers, None).await.0, 403);
    for nobodys in [&over, &token(), "", "x"] {
        assert_eq!(w.refused(nobodys, "GET", markers, None).await.0, 401);
    }
    // Every address of a site is closed to the token of another, as if there were no such site.
    for route in all().iter().filter(|r| r.path.starts_with("/api/v1/sites/{site}")) {
        let path = route.path.replace("{site}", "marram-ferries").replace("{journey}", "book");
        let path = path.replace("runs/{id}", &format!("runs/{}", Uuid::nil())).replace("{id}", "1")
            + "?fields=at";
        let path = if path.contains("page-views") { path } else { path.replace("?fields=at", "") };
        let body = (route.method == "POST").then(marker).flatten();
        assert_eq!(w.refused(&elsewhere, route.method, &path, body).await.0, 404, "{path}");
    }
    let sites = w.json(&elsewhere, "/api/v1/sites").await;
    assert_eq!((sites.as_array().map(Vec::len), &sites[0]["slug"]), (Some(1), &json!("freight")));

    let made = w.ask(&marks, "POST", markers, marker()).await;
    assert_eq!(made.status(), 201);
    let made: Value = made.json().await.expect("an id");
    let found = w.json(&read, markers).await;
    assert_eq!((&found[0]["id"], &found[0]["title"]), (&made["id"], &json!("Release 7")));
    let one = format!("{markers}/{}", made["id"]);
    assert_eq!(w.ask(&marks, "DELETE", &one, None).await.status(), 204);
    assert_eq!(w.refused(&marks, "DELETE", &one, None).await.0, 404);
    let done = w.s.db.done(2).await.expect("rows");
    assert_eq!(
        (done[1].name.as_str(), done[1].what.as_str()),
        ("token a test", "pinned the marker")
    );
    // Somebody's browser reads with its session, and changes nothing without a token.
    let page = crate::serving::get(format!("{}{markers}", w.s.server.address)).await;
    assert_eq!(page.expect("an answer").status(), 200);
    let browser = crate::serving::page_of_its_own();
    let posted = browser.post(format!("{}{markers}", w.s.server.address)).json(&marker()).send();
    assert_eq!(posted.await.expect("an answer").status(), 401);
}

#[tokio::test]
async fn runs_are_told_page_by_page_each_once_and_the_journey_says_the_same_as_its_page() {
    let w = World::new().await;
    let read = w.token(1, &[Scope::Read], 30).await;
    play(&w.s, &[Outcome::Passed, Outcome::Failed, Outcome::Passed]).await;
    let runs = format!("{HERE}/journeys/book/runs");
    let all = w.json(&read, &format!("{runs}?limit=1000")).await;
    let all = all["runs"].as_array().expect("runs").clone();
    assert!(all.len() >= 3, "{all:?}");
    let (mut seen, mut next, mut pages) = (Vec::new(), String::new(), 0);
    loop {
        let page = w.json(&read, &format!("{runs}?limit=1{next}")).await;
        seen.extend(page["runs"].as_array().expect("runs").clone());
        pages += 1;
        match page["next"].as_str() {
            Some(cursor) => next = format!("&cursor={cursor}"),
            None => break,
        }
    }
    assert_eq!((seen.len(), pages), (all.len(), all.len()));
    assert_eq!(seen, all, "each once, newest first");
    let failed = w.json(&read, &format!("{runs}?outcome=failed")).await;
    assert!(failed["runs"].as_array().expect("runs").iter().all(|r| r["outcome"] == "failed"));
    let record = format!("{HERE}/runs/{}", all[0]["id"].as_str().expect("an id"));
    assert_eq!(w.json(&read, &record).await["steps"][0]["name"], "Open");

    let journeys = w.json(&read, &format!("{HERE}/journeys")).await;
    let j = &journeys[0];
    let count = |outcome: &str| all.iter().filter(|r| r["outcome"] == outcome).count();
    assert_eq!(j["runs"]["passed"], count("passed"));
    assert_eq!(j["runs"]["failed"], count("failed"));
    let counted = (count("passed") + count("failed")) as f64;
    assert_eq!(j["availability"], json!(count("passed") as f64 / counted));
    let through = all.iter().filter(|r| r["outcome"] == "passed").count();
    assert_eq!(j["duration_ms"]["p75"]["samples"], through);
    // Wrong questions say where they are wrong.
    for (query, at) in [
        ("limit=0", "?limit"),
        ("limit=x", "?limit"),
        ("outcome=maybe", "?outcome"),
        ("location=nowhere", "?location"),
        ("cursor=AAAA", "?cursor"),
        ("from=yesterday", "?from"),
        ("from=2026-11-02T00:00:00Z&to=2026-11-01T00:00:00Z", "?from"),
        ("from=2020-01-01T00:00:00Z", "?from"),
        ("to=9999-01-01T00:00:00Z", "?to"),
    ] {
        let told = w.refused(&read, "GET", &format!("{runs}?{query}"), None).await;
        assert_eq!(told, (400, json!(at)), "{query}");
    }
    assert_eq!(w.refused(&read, "GET", &format!("{runs}?colour=red"), None).await.0, 400);
    // A name that none can have is no trouble of the database.
    for (path, status) in [("a%00/locations", 404), ("marram-ferries/journeys/%00/runs", 400)] {
        let path = format!("/api/v1/sites/{path}");
        assert_eq!(w.refused(&read, "GET", &path, None).await.0, status, "{path}");
    }
    let (status, _) = crate::server::get(&w.s, "/marram-ferries/journeys/a%00").await;
    assert_eq!(status, 400);
    let marks = w.token(1, &[Scope::Markers], 1).await;
    for (body, at) in [
        (json!({ "title": " " }), "/title"),
        (json!({ "title": "x".repeat(81) }), "/title"),
        (json!({ "title": "x", "at": "9999-01-01T00:00:00Z" }), "/at"),
        (json!({ "title": "x", "detail": "y".repeat(501) }), "/detail"),
        (json!({ "title": "x", "version": "y".repeat(81) }), "/version"),
        (json!({ "title": "x", "link": "javascript:alert(1)" }), "/link"),
        (json!({ "title": "x", "at": "1999-12-31T00:00:00Z" }), "/at"),
    ] {
        let told = w.refused(&marks, "POST", &format!("{HERE}/markers"), Some(body)).await;
        assert_eq!(told, (422, json!(at)));
    }
}

#[tokio::test]
async fn page_views_come_as_lines_with_what_was_asked_for_and_nothing_of_who_it_was() {
    let w = World::new().await;
    let read = w.token(1, &[Scope::Read], 30).await;
    let mut sent = BTreeSet::new();
    for n in 0..30u32 {
        let mut one = beacon(Uuid::new_v4());
        one["at"] = json!(Timestamp::now().as_millisecond() - i64::from(n) * 600_000);
        one["sent"] = one["at"].clone();
        one["lcp"] = json!(1_000.5 + f64::from(n));
        one["attributes"] = json!({ "fare": if n % 2 == 0 { "islander" } else { "guest" } });
        one["person"] = json!("passenger@marram.example");
        sent.insert(one["id"].as_str().expect("an id").to_string());
        let (status, says) = send(&w.s.server.address, "key", one.to_string(), OWN, BROWSER).await;
        assert_eq!(status, 204, "{says}");
    }
    let asked = format!("{HERE}/page-views?fields=id,at,device,lcp,inp,attribute.fare");
    let answer = w.ask(&read, "GET", &asked, None).await;
    assert_eq!(answer.headers()["content-type"], "application/x-ndjson");
    let text = answer.text().await.expect("lines");
    let lines: Vec<Value> = text
        .lines()
        .map(|l| serde_json::from_str(l).unwrap_or_else(|e| panic!("{e}: {l}")))
        .collect();
    let ids: BTreeSet<String> =
        lines.iter().map(|l| l["id"].as_str().expect("an id").to_string()).collect();
    assert_eq!((lines.len(), ids), (30, sent));
    let moments: Vec<&str> = lines.iter().map(|l| l["at"].as_str().expect("a moment")).collect();
    let mut in_order = moments.clone();
    in_order.sort_by_key(|at| at.parse::<Timestamp>().expect("a moment"));
    assert_eq!(moments, in_order);
    assert!(lines.iter().all(|l| l["device"] == "phone" && l["inp"].is_null()));
    let lcp: f64 = lines.iter().map(|l| l["lcp"].as_f64().expect("a number")).sum();
    assert_eq!(lcp, (0..30).map(|n| 1_000.5 + f64::from(n)).sum::<f64>());
    assert_eq!(lines.iter().filter(|l| l["attribute.fare"] == "islander").count(), 15);
    for personal in ["visit", "person", "ip", "at,error", "", "nothing"] {
        let path = format!("{HERE}/page-views?fields={personal}");
        assert_eq!(
            w.refused(&read, "GET", &path, None).await,
            (400, json!("?fields")),
            "{personal}"
        );
    }
}

#[tokio::test]
async fn files_of_runs_hold_what_the_list_holds_and_a_record_is_sent_again_only_when_it_is_another()
{
    let w = World::new().await;
    let read = w.token(1, &[Scope::Read], 30).await;
    play(&w.s, &[Outcome::Passed, Outcome::Failed, Outcome::Passed]).await;
    let runs = format!("{HERE}/journeys/book/runs");
    let list = w.json(&read, &format!("{runs}?limit=1000")).await;
    let list = list["runs"].as_array().expect("runs").clone();
    let lines = w.ask(&read, "GET", &format!("{runs}.ndjson"), None).await;
    assert_eq!(lines.headers()["content-type"], "application/x-ndjson");
    let lines = lines.text().await.expect("lines");
    let lines: Vec<Value> = lines.lines().map(|l| serde_json::from_str(l).expect("JSON")).collect();
    assert_eq!(lines, list);
    let table = w.ask(&read, "GET", &format!("{runs}.csv"), None).await;
    let saved = table.headers()["content-disposition"].to_str().expect("text").to_string();
    assert_eq!(saved, "attachment; filename=\"book-runs.csv\"");
    let table = table.text().await.expect("a table");
    let mut table = csv::Reader::from_reader(table.as_bytes());
    let rows: Vec<csv::StringRecord> = table.records().map(|r| r.expect("a row")).collect();
    assert_eq!(rows.len(), list.len());
    for (row, run) in rows.iter().zip(&list) {
        let of = |name: &str| run[name].as_str().expect("text");
        assert_eq!((&row[0], &row[2], &row[3]), (of("id"), of("location"), of("outcome")));
        assert_eq!(row[4].parse::<f64>().ok(), run["duration_ms"].as_f64());
    }

    // The archive is that of the page, and both it and the record have a tag.
    let id = list[0]["id"].as_str().expect("an id");
    let archive = w.ask(&read, "GET", &format!("{HERE}/runs/{id}/har"), None).await;
    assert_eq!(archive.headers()["ratelimit-limit"], "600");
    let left = archive.headers()["ratelimit-remaining"].to_str().expect("text").parse::<u32>();
    assert!(left.is_ok_and(|n| (500..600).contains(&n)), "this one is counted");
    let archive: Value = archive.json().await.expect("JSON");
    let page = crate::server::get(&w.s, &format!("/marram-ferries/runs/{id}/har")).await.1;
    assert_eq!(archive, serde_json::from_str::<Value>(&page).expect("JSON"));
    for path in
        [format!("{HERE}/runs/{id}"), format!("{HERE}/runs/{id}/har"), "/api/openapi.json".into()]
    {
        let tag = w.ask(&read, "GET", &path, None).await.headers()["etag"]
            .to_str()
            .expect("a tag")
            .to_string();
        let again = async |tag: &str| {
            let to = format!("{}{path}", w.s.server.address);
            let request = reqwest::Client::new().get(to).bearer_auth(&read);
            let answer = request.header("if-none-match", tag).send().await.expect("an answer");
            (answer.status().as_u16(), answer.bytes().await.expect("a body").len())
        };
        assert_eq!(again(&tag).await, (304, 0), "{path}");
        assert_eq!(again("\"another\"").await.0, 200, "{path}");
    }
}

#[tokio::test]
async fn what_visitors_report_and_what_is_promised_is_told_as_on_the_pages() {
    let w = World::new().await;
    let read = w.token(1, &[Scope::Read], 30).await;
    play(&w.s, &[Outcome::Passed, Outcome::Failed, Outcome::Passed, Outcome::Passed]).await;
    let now = Timestamp::now().as_millisecond();
    for nth in 0..20 {
        let mut view = beacon(Uuid::new_v4());
        view["device"] = json!(if nth % 4 == 0 { "desktop" } else { "phone" });
        view["lcp"] = json!(1_000 + 100 * nth);
        view["happened"] = json!([
            { "what": "request", "at": 9, "name": "http://book.marram.example/api/pay", "method": "POST", "ms": 70 + nth,
              "status": if nth == 3 { 503 } else { 200 } },
            { "what": "error", "at": 12, "name": "x is gone" },
        ]);
        view["at"] = json!(now - 60_000);
        view["visit"] = json!(Uuid::from_u128(7));
        let sent = send(&w.s.server.address, "key", view.to_string(), OWN, BROWSER).await;
        assert_eq!(sent.0, 204, "{}", sent.1);
    }
    // Up to thirteen hours are read from what has come, longer ones from what is filed a little later.
    let from = Timestamp::now() - jiff::SignedDuration::from_hours(2);
    let ask = async |path: &str| {
        let and = if path.contains('?') { '&' } else { '?' };
        w.json(&read, &format!("{HERE}/{path}{and}from={from}")).await
    };
    let all = ask("visitors").await;
    assert_eq!(all["all"]["page_views"], 20);
    // Nearest rank: the 15th of twenty (core::stats).
    let p75 = &all["all"]["lcp"]["p75"];
    assert_eq!((&p75["value"], &p75["samples"]), (&json!(2_400.0), &json!(20)));
    assert_eq!(all["all"]["lcp"]["good"], json!(16.0 / 20.0));
    assert_eq!(all["all"]["apdex"]["satisfied"], 6);
    assert_eq!(all["all"]["apdex"]["t_ms"], json!(1_500.0));
    assert_eq!(all["visits"], 1);
    let phones = ask("visitors?only=device:phone").await;
    assert_eq!(phones["all"]["page_views"], 15);
    let families = ask("families?only=device:phone&only=device:desktop").await;
    assert_eq!(
        (&families[0]["family"], &families[0]["views"]["page_views"]),
        (&json!("Other pages"), &json!(20))
    );
    let requests = ask("requests").await;
    assert_eq!((&requests[0]["count"], &requests[0]["failed"]), (&json!(20), &json!(1)));
    assert_eq!(requests[0]["failed_by"]["gateway"], 1);
    assert_eq!(requests[0]["p50_ms"]["value"], json!(79.0));
    let errors = ask("errors").await;
    assert_eq!((&errors["read"], &errors["kinds"][0]["page_views"]), (&json!(20), &json!(20)));
    assert_eq!(ask("funnels").await, json!([]));
    let goals = ask("goals").await;
    assert_eq!((&goals[0]["good"], &goals[0]["bad"]), (&json!(3), &json!(1)));
    assert_eq!((&goals[0]["share"], &goals[0]["journeys"]), (&json!(0.75), &json!(["book"])));
    // A quarter failed where a tenth may (SRE Workbook, "Alerting on SLOs": burn rate).
    assert!((goals[0]["burn_rate_window"].as_f64().expect("a rate") - 2.5).abs() < 1e-9);
    let page = crate::server::get(&w.s, "/marram-ferries/goals").await.1;
    assert!(page.contains("75.00 %"), "the page says the same");
    for (path, at) in
        [("visitors?only=shoe:42", "?only"), ("errors?from=x", "?from"), ("goals?to=x", "?to")]
    {
        let told = w.refused(&read, "GET", &format!("{HERE}/{path}"), None).await;
        assert_eq!(told, (400, json!(at)), "{path}");
    }
    // For people the same stands on a page that everybody may read.
    let page = reqwest::get(format!("{}/api", w.s.server.address)).await.expect("an answer");
    let page = page.text().await.expect("a page");
    for route in all_of_the_api() {
        assert!(page.contains(&format!("<code>{route}</code>")), "{route}");
    }
}

fn all_of_the_api() -> Vec<String> {
    let routes = all().into_iter().filter(|r| r.path.starts_with("/api/v1/sites"));
    routes.map(|r| format!("{} {}", r.method, r.path)).collect()
}
