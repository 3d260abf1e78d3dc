//! The front door for beacons, over HTTP, with the real program and a real PostgreSQL.

mod serving;

use cadentis_standins::postgres::free_port;
use serde_json::{Value, json};
use serving::Server;
use serving::beacons::{BROWSER, OWN, beacon, send, server, today};
use std::collections::HashSet;
use std::sync::{Arc, Mutex};
use std::time::Duration;
use uuid::Uuid;

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

#[tokio::test]
async fn a_flood_from_one_network_is_turned_away_and_others_go_on() {
    let s = server().await;
    let batch = || Value::from((0..100).map(|_| beacon(Uuid::new_v4())).collect::<Vec<_>>()).to_string();
    let client = reqwest::Client::new();
    let from = |network: &'static str| {
        let request = client.post(format!("{}/collect/key", s.server.address)).header("origin", OWN);
        request.header("user-agent", BROWSER).header("x-forwarded-for", network).body(batch()).send()
    };
    let mut turned_away = 0;
    // The minute may turn in the middle of it: then as many again are let through.
    for nth in 0..70 {
        let answer = from(if nth % 2 == 0 { "198.51.100.7" } else { "198.51.100.9" }).await.expect("an answer");
        if answer.status() == 429 {
            assert_eq!(answer.headers()["retry-after"], "60");
            turned_away += 1;
        }
    }
    assert!(turned_away >= 5, "{turned_away}");
    assert_eq!(from("203.0.113.5").await.expect("an answer").status(), 204);
}
