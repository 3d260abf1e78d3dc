//! What whoever watches the server sees, read by a reader that is not ours.

use crate::serving::beacons::{BROWSER, OWN, beacon, page, send};
use crate::serving::{self, Server};
use cadentis_standins::postgres::free_port;
use openmetrics_parser::openmetrics::parse_openmetrics;
use openmetrics_parser::{MetricNumber, OpenMetricsValue};
use serde_json::json;
use std::collections::HashMap;
use uuid::Uuid;

async fn started(url: &str) -> (Server, String) {
    let ops = format!("127.0.0.1:{}", free_port().expect("a port"));
    let server = Server::start_with(url, serving::KEY, &["--ops-listen", &ops]);
    (server, format!("http://{ops}"))
}

async fn status(address: &str) -> u16 {
    crate::serving::get(address).await.map_or(0, |answer| answer.status().as_u16())
}

/// Every sample by its family and labels, histograms by how often they were observed.
async fn metrics(ops: &str) -> HashMap<String, f64> {
    let answer = crate::serving::get(format!("{ops}/metrics")).await.expect("an answer");
    let kind = answer.headers()["content-type"].to_str().expect("text").to_string();
    assert_eq!(kind, "application/openmetrics-text; version=1.0.0; charset=utf-8");
    let text = answer.text().await.expect("a body");
    let read = parse_openmetrics(&text).unwrap_or_else(|e| panic!("{e}: {text}"));
    let mut all = HashMap::new();
    for (name, family) in &read.families {
        assert!(name.starts_with("cadentis_") && !family.help.is_empty(), "{name} says what it is");
        for sample in family.iter_samples() {
            let labels = sample.get_labelset().expect("labels");
            let mut labels: Vec<String> = labels.iter().map(|(n, v)| format!("{n}={v}")).collect();
            labels.sort();
            let number = |n: &MetricNumber| match n {
                MetricNumber::Float(f) => *f,
                MetricNumber::Int(i) => *i as f64,
            };
            let value = match &sample.value {
                OpenMetricsValue::Counter(c) => number(&c.value),
                OpenMetricsValue::Gauge(n) => number(n),
                OpenMetricsValue::Histogram(h) => h.count.unwrap_or(0) as f64,
                other => panic!("{name}: {other:?}"),
            };
            all.insert(format!("{name} {}", labels.join(" ")).trim_end().to_string(), value);
        }
    }
    all
}

#[tokio::test]
async fn metrics_count_what_was_answered_and_an_independent_reader_understands_them() {
    let (db, url) = serving::database().await;
    serving::site(&db).await;
    let (server, ops) = started(&url).await;
    assert_eq!(server.up().await, 200);
    let before = metrics(&ops).await;
    assert_eq!(before["cadentis_database_up"], 1.0);
    assert!(
        before["cadentis_beacon_queue_capacity"] > 0.0 && before["cadentis_beacon_queue"] == 0.0
    );

    for _ in 0..3 {
        let taken =
            send(&server.address, "key", beacon(Uuid::new_v4()).to_string(), OWN, BROWSER).await;
        assert_eq!(taken.0, 204);
    }
    send(&server.address, "key", "{".into(), OWN, BROWSER).await;
    send(&server.address, "nobody", "{}".into(), OWN, BROWSER).await;
    let served = serving::beacons::Served { server, db };
    for path in [
        "/marram-ferries/visitors",
        "/marram-ferries/visitors/funnels",
        "/marram-ferries/visitors/requests",
        "/marram-ferries/visitors/requests?what=resource",
        "/marram-ferries/journeys",
    ] {
        page(&served, path).await;
    }
    assert_eq!(status(&format!("{}/nobody-knows-this", served.server.address)).await, 404);
    // A runner that says that it keeps records.
    serving::location(&served.db, "bergen", "Bergen", "token-b").await;
    let asking = json!({ "runner": "r", "program": "0.1.0", "protocol": 4, "kept": 3 });
    let asks = serving::program("token-b")
        .post(format!("{}/api/runner/lease", served.server.address))
        .json(&asking);
    assert_eq!(asks.send().await.expect("an answer").status(), 204);
    let after = metrics(&ops).await;
    assert_eq!(
        (before["cadentis_records_kept"], after["cadentis_records_kept"]),
        (0.0, 3.0),
        "what runners could not deliver"
    );
    for (answer, count) in [("stored", 3.0), ("malformed", 1.0), ("unknown-site", 1.0)] {
        assert_eq!(after[&format!("cadentis_beacons answer={answer}")], count, "{answer}");
    }
    assert!((1.0..=3.0).contains(&after["cadentis_batch_seconds"]), "in one batch or in three");
    let page_of = |route: &str, status: &str| {
        after
            .get(&format!("cadentis_page_seconds method=GET route={route} status={status}"))
            .copied()
            .unwrap_or(0.0)
    };
    assert_eq!(
        (page_of("/{site}/visitors/requests", "2xx"), page_of("/{site}/journeys", "2xx")),
        (2.0, 1.0)
    );
    let strangers = after.iter().filter(|(name, _)| name.contains("nobody-knows")).count();
    assert_eq!(strangers, 0, "what strangers ask for makes no series");
    assert!(
        after["cadentis_compute_questions name=done"]
            > before["cadentis_compute_questions name=done"]
    );
    assert_eq!(after["cadentis_runs_due"], 0.0);
    for worker in ["writer of page views", "counts of what was refused"] {
        assert_eq!(after[&format!("cadentis_worker_well name={worker}")], 1.0, "{worker}");
    }
    // The same in words, for people.
    let setup = page(&served, "/setup").await;
    assert!(
        setup.contains("batches wait to be written.")
            && setup.contains("Runs: none waits for a runner")
            && setup.contains("keeps 3 records that were not taken"),
        "{setup}"
    );

    // Nothing else is answered there, and none of it elsewhere.
    for path in ["/", "/marram-ferries/journeys", "/beacons/key", "/setup"] {
        assert_eq!(status(&format!("{ops}{path}")).await, 404, "{path}");
    }
    assert_eq!(status(&format!("{}/metrics", served.server.address)).await, 404);
}

#[tokio::test]
async fn without_its_database_a_server_lives_and_is_not_ready_and_still_tells_what_it_knows() {
    let nobody = free_port().expect("a port");
    let (_server, ops) = started(&format!("postgres://cadentis@127.0.0.1:{nobody}/cadentis")).await;
    for _ in 0..200 {
        if status(&format!("{ops}/healthz/live")).await == 200 {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    assert_eq!(status(&format!("{ops}/healthz/live")).await, 200, "it is no use to start it again");
    assert_eq!(status(&format!("{ops}/healthz")).await, 503);
    let told = metrics(&ops).await;
    assert_eq!(told["cadentis_database_up"], 0.0);
    assert!(
        told.keys().all(|name| !name.starts_with("cadentis_runs_")),
        "nothing is made up of what is not known"
    );
}

#[tokio::test]
async fn beacons_have_an_address_of_their_own_where_nothing_else_answers() {
    let (db, url) = serving::database().await;
    serving::site(&db).await;
    let own = format!("127.0.0.1:{}", free_port().expect("a port"));
    let public = format!("http://{own}");
    let more =
        ["--beacons-listen", &own, "--public-url", &public, "--public-url", "http://127.0.0.1"];
    let server = Server::start_with(&url, serving::KEY, &more);
    let (status, says) = loop {
        // Until its tables are there it takes none.
        let id = Uuid::new_v4();
        if reqwest::get(format!("{public}/snippet.js")).await.is_ok() {
            let sent = send(&public, "key", beacon(id).to_string(), OWN, BROWSER).await;
            if sent.0 != 503 {
                break sent;
            }
        }
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    };
    assert_eq!(status, 204, "{says}");
    assert_eq!(self::status(&format!("{public}/snippet/key.js")).await, 200);
    for path in
        ["/", "/marram-ferries/journeys", "/sign-in", "/healthz", "/metrics", "/api/openapi.json"]
    {
        assert_eq!(self::status(&format!("{public}{path}")).await, 404, "{path}");
    }
    drop(server);
}
