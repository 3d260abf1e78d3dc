//! The front door for beacons, over HTTP, with the real program and a real PostgreSQL.

mod serving;

use cadentis_standins::postgres::free_port;
use cadentis_store::Db;
use jiff::Timestamp;
use serde_json::{Value, json};
use serving::Server;
use std::collections::HashSet;
use std::sync::{Arc, Mutex};
use std::time::Duration;
use uuid::Uuid;

struct Served {
    server: Server,
    db: Db,
}

async fn server() -> Served {
    let (db, url) = serving::database().await;
    serving::site(&db).await;
    let server = Server::start(&url);
    assert_eq!(server.up().await, 200);
    Served { server, db }
}

fn beacon(id: Uuid) -> Value {
    let now = Timestamp::now().as_millisecond();
    json!({"id": id, "seq": 1, "at": now - 5_000, "sent": now, "visit": Uuid::nil(), "device": "phone",
        "url": "http://book.marram.example/sailings?from=SKA&token=secret", "connection": "4g", "lcp": 1500.0})
}

const BROWSER: &str = "Mozilla/5.0 (Linux; Android 15) Chrome/156.0 Mobile Safari/537.36";

async fn send(server: &str, key: &str, body: String, origin: &str, agent: &str) -> (u16, Value) {
    let answer = reqwest::Client::new()
        .post(format!("{server}/collect/{key}"))
        .header("content-type", "text/plain")
        .header("origin", origin)
        .header("user-agent", agent)
        .body(body)
        .send()
        .await
        .expect("an answer");
    let status = answer.status().as_u16();
    (status, serde_json::from_str(&answer.text().await.unwrap_or_default()).unwrap_or(Value::Null))
}

const OWN: &str = "http://book.marram.example";

fn today() -> cadentis_core::calendar::Stretch {
    cadentis_core::calendar::Stretch::last(86_400, Timestamp::now())
}

#[tokio::test]
async fn each_refusal_has_its_status_its_reason_and_is_counted_and_nothing_personal_is_kept() {
    let s = server().await;
    let good = || beacon(Uuid::new_v4()).to_string();
    let mut wrong = beacon(Uuid::new_v4());
    wrong["lcp"] = json!(-1);
    let foreign_page = good().replace("book.marram.example", "elsewhere.example");
    for (key, body, origin, status, reason) in [
        ("key", good(), OWN, 204, ""),
        ("nobody", good(), OWN, 404, "unknown-site"),
        ("key", good(), "http://evil.example", 403, "foreign-origin"),
        ("key", foreign_page, OWN, 403, "foreign-origin"),
        ("key", "x".repeat(70_000), OWN, 413, "too-large"),
        ("key", "{".into(), OWN, 400, "malformed"),
        ("key", wrong.to_string(), OWN, 400, "malformed"),
    ] {
        let (got, says) = send(&s.server.address, key, body, origin, BROWSER).await;
        assert_eq!((got, says["reason"].as_str().unwrap_or("")), (status, reason), "{says}");
        if reason == "malformed" && says["says"].as_str().is_some_and(|t| t.contains("lcp")) {
            assert_eq!(says["says"], "beacon.lcp: negative");
        }
    }
    let (bot, _) = send(&s.server.address, "key", good(), OWN, "ferry-crawler/1.0").await;
    assert_eq!(bot, 204);
    // Counts are written down every two seconds.
    let mut counted = Vec::new();
    for _ in 0..100 {
        counted = s.db.refused(1, today()).await.expect("counts");
        if counted.iter().map(|(_, n)| n).sum::<u64>() >= 6 {
            break;
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    counted.sort();
    let counted: Vec<(&str, u64)> = counted.iter().map(|(r, n)| (r.as_str(), *n)).collect();
    assert_eq!(counted, [("bot", 1), ("foreign-origin", 2), ("malformed", 2), ("too-large", 1)]);
    let kept = s.db.newest_page_views(1, today(), 10).await.expect("views");
    assert_eq!(kept.len(), 1);
    assert_eq!(kept[0].path, "/sailings");
}

#[tokio::test]
async fn a_repeated_beacon_and_an_array_with_repeats_are_stored_once() {
    let s = server().await;
    let one = beacon(Uuid::new_v4());
    let batch = json!([one, beacon(Uuid::new_v4()), one]);
    for body in [one.to_string(), one.to_string(), batch.to_string()] {
        assert_eq!(send(&s.server.address, "key", body, OWN, BROWSER).await.0, 204);
    }
    assert_eq!(s.db.page_view_ids(1, today()).await.expect("ids").len(), 2);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn nothing_acknowledged_is_lost_when_the_server_is_killed_in_mid_load_and_nothing_is_stored_twice() {
    let mut s = server().await;
    let acknowledged: Arc<Mutex<HashSet<Uuid>>> = Arc::default();
    for round in 0..3 {
        let senders: Vec<_> = (0..16)
            .map(|_| {
                let (address, acknowledged) = (s.server.address.clone(), acknowledged.clone());
                tokio::spawn(async move {
                    let client = reqwest::Client::new();
                    for _ in 0..400 {
                        let id = Uuid::new_v4();
                        let sent = client
                            .post(format!("{address}/collect/key"))
                            .header("origin", OWN)
                            .header("user-agent", BROWSER)
                            .body(beacon(id).to_string())
                            .send()
                            .await;
                        match sent {
                            Ok(answer) if answer.status() == 204 => {
                                acknowledged.lock().expect("no panic holds it").insert(id);
                            }
                            // Turned away is not acknowledged.
                            Ok(answer) => assert_eq!(answer.status(), 503, "round {round}"),
                            // The server is gone: what was not acknowledged may or may not be there.
                            Err(_) => return,
                        }
                    }
                })
            })
            .collect();
        tokio::time::sleep(Duration::from_millis(350)).await;
        s.server.kill();
        for sender in senders {
            sender.await.expect("no sender panics");
        }
        s.server.again().await;
    }
    let acknowledged = acknowledged.lock().expect("no panic holds it").clone();
    assert!(acknowledged.len() > 100, "only {} were acknowledged: nothing was tested", acknowledged.len());
    let stored = s.db.page_view_ids(1, today()).await.expect("ids");
    let distinct: HashSet<Uuid> = stored.iter().copied().collect();
    assert_eq!(stored.len(), distinct.len(), "stored twice");
    let lost = acknowledged.difference(&distinct).count();
    assert_eq!(lost, 0, "of {} acknowledged", acknowledged.len());
}

#[tokio::test]
async fn without_its_database_the_server_says_so_and_turns_beacons_away_for_later() {
    let nobody = free_port().expect("a port");
    let server = Server::start(&format!("postgres://cadentis@127.0.0.1:{nobody}/cadentis"));
    assert_eq!(server.up().await, 503);
    let health: Value =
        reqwest::get(format!("{}/healthz", server.address)).await.expect("up").json().await.expect("JSON");
    assert_eq!(health["status"], "unavailable");
    let (collect, says) = send(&server.address, "key", beacon(Uuid::new_v4()).to_string(), OWN, BROWSER).await;
    assert_eq!((collect, says["reason"].as_str()), (503, Some("busy")));
    let page = reqwest::get(&server.address).await.expect("a page");
    assert_eq!(page.status(), 503);
    assert!(page.text().await.expect("a body").contains("The database does not answer just now."));
}

async fn page(s: &Served, path: &str) -> String {
    let answer = reqwest::get(format!("{}{path}", s.server.address)).await.expect("an answer");
    assert_eq!(answer.status(), 200, "{path}");
    answer.text().await.expect("a page")
}

#[tokio::test]
async fn a_visit_is_followed_from_an_error_to_its_pages_and_a_family_says_where_its_load_goes() {
    let s = server().await;
    let (now, visit) = (Timestamp::now().as_millisecond(), Uuid::new_v4());
    let hostile = "<script>alert(1)</script> berth";
    let view = |minutes_ago: i64, path: &str, more: Value| {
        let at = now - minutes_ago * 60_000;
        let mut view = json!({"id": Uuid::new_v4(), "seq": 1, "at": at, "sent": now, "visit": visit,
            "device": "phone", "url": format!("http://book.marram.example{path}"), "dns": 20, "connect": 80,
            "ttfb": 300, "fcp": 700, "lcp": 1_500, "load": 1_800});
        more.as_object().into_iter().flatten().for_each(|(k, v)| view[k.as_str()] = v.clone());
        view
    };
    let error = |n: u32| json!({"errors": 1, "error": format!("{hostile} {n} is gone")});
    let left = json!({"abandoned": true, "lcp": null, "load": null});
    let views = json!([
        view(9, "/", json!({})),
        view(8, "/sailings", error(17)),
        view(7, "/sailings", error(18)),
        view(6, "/cabin", left)
    ]);
    assert_eq!(send(&s.server.address, "key", views.to_string(), OWN, BROWSER).await.0, 204);

    // Two texts, one kind; it leads to the visit.
    let errors = page(&s, "/visitors/errors").await;
    assert!(errors.contains("berth ‹n› is gone") && !errors.contains("<script>alert"), "{errors}");
    assert!(errors.contains("50.00 % of page views told of a script error, of 1 kind."), "{errors}");
    let link = format!("/visitors/visits/{visit}?at=");
    let rest = errors.split_once(&link).expect("a link to the visit").1;
    let at: String = rest.chars().take_while(char::is_ascii_digit).collect();

    let line = page(&s, &format!("{link}{at}")).await;
    assert!(line.contains("4 page views over") && line.contains("3 of them had trouble"), "{line}");
    assert!(line.contains("it ended on a page that was left before it had loaded"), "{line}");
    // The first with trouble is looked into: 20, 80, 200, 400 and 800 ms make the 1.50 s.
    assert!(line.contains("1.50 s until its largest paint") && line.contains("<b>0.20 s</b> waiting"), "{line}");
    assert!(!line.contains("<script>alert"));

    // Without families of its own, each path is its own.
    let visitors = page(&s, "/visitors").await;
    let family = visitors.split_once("/visitors/family?family=").expect("a link to a family").1;
    let family: String = family.chars().take_while(|c| *c != '&' && *c != '"').collect();
    let whole = page(&s, &format!("/visitors/family?family={family}")).await;
    assert!(whole.contains("At the 75th percentile LCP is 1.50 s"), "{whole}");
    let load = page(&s, &format!("/visitors/family/load?family={family}")).await;
    assert!(load.contains("Where 1.50 s until the largest paint go"), "{load}");
    let nobody = reqwest::get(format!("{}/visitors/family?family=nobody", s.server.address)).await.expect("an answer");
    assert_eq!(nobody.status(), 404);
    let unknown = format!("{}/visitors/visits/{}", s.server.address, Uuid::new_v4());
    assert_eq!(reqwest::get(unknown).await.expect("an answer").status(), 404);
}
