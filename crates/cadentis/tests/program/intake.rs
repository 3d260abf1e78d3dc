//! The front door for beacons, over HTTP, with the real program and a real PostgreSQL.

use crate::serving;
use crate::serving::Server;
use crate::serving::beacons::{BROWSER, OWN, beacon, send, server, today};
use cadentis_standins::postgres::{Care, Cluster, free_port};
use cadentis_store::Db;
use serde_json::{Value, json};
use std::collections::HashSet;
use std::sync::atomic::{AtomicBool, Ordering};
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
        if reason == "malformed" && says["detail"].as_str().is_some_and(|t| t.contains("lcp")) {
            assert_eq!(says["detail"], "beacon.lcp: negative");
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
async fn nothing_acknowledged_is_lost_nor_stored_twice_when_server_and_database_are_killed_twenty_times_in_mid_load()
 {
    let folder = std::env::temp_dir().join(format!("cadentis-pg-{}-killed", std::process::id()));
    // Every commit reaches the disk here: this is what is tested.
    let cluster = Cluster::start(&folder, Care::Durable).expect("PostgreSQL is installed");
    let db = Db::connect(&cluster.url("postgres")).expect("an address");
    db.migrate().await.expect("migrations");
    serving::site(&db).await;
    let mut server = Server::start(&cluster.url("postgres"));
    assert_eq!(server.up().await, 200);
    let acknowledged: Arc<Mutex<HashSet<Uuid>>> = Arc::default();
    for round in 0..20 {
        let over = Arc::new(AtomicBool::new(false));
        let senders: Vec<_> = (0..8)
            .map(|nth| {
                let (address, acknowledged, over) =
                    (server.address.clone(), acknowledged.clone(), over.clone());
                // From many networks, so that it is no flood.
                let network = format!("198.51.{nth}.{round}");
                tokio::spawn(async move {
                    let client = reqwest::Client::new();
                    while !over.load(Ordering::Relaxed) {
                        let id = Uuid::new_v4();
                        let request =
                            client.post(format!("{address}/beacons/key")).header("origin", OWN);
                        let request = request
                            .header("user-agent", BROWSER)
                            .header("x-forwarded-for", &network);
                        match request.body(beacon(id).to_string()).send().await {
                            Ok(answer) if answer.status() == 204 => {
                                acknowledged.lock().expect("no panic holds it").insert(id);
                            }
                            // Turned away is not acknowledged.
                            Ok(answer) => assert_eq!(answer.status(), 503, "round {round}"),
                            // The server is gone: what was not acknowledged may or may not be there.
                            Err(_) => tokio::time::sleep(Duration::from_millis(5)).await,
                        }
                    }
                })
            })
            .collect();
        tokio::time::sleep(Duration::from_millis(200)).await;
        if round % 2 == 0 {
            server.again().await;
        } else {
            assert!(cluster.crash());
        }
        tokio::time::sleep(Duration::from_millis(200)).await;
        over.store(true, Ordering::Relaxed);
        for sender in senders {
            sender.await.expect("no sender panics");
        }
        assert_eq!(server.up().await, 200, "it recovers after round {round}");
    }
    let acknowledged = acknowledged.lock().expect("no panic holds it").clone();
    assert!(
        acknowledged.len() > 400,
        "only {} were acknowledged: nothing was tested",
        acknowledged.len()
    );
    let stored = db.page_view_ids(1, today()).await.expect("ids");
    let distinct: HashSet<Uuid> = stored.iter().copied().collect();
    assert_eq!(stored.len(), distinct.len(), "stored twice");
    let lost = acknowledged.difference(&distinct).count();
    assert_eq!(lost, 0, "of {} acknowledged", acknowledged.len());
    drop((server, cluster));
    let _ = std::fs::remove_dir_all(&folder);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_database_that_does_not_write_fills_the_queue_and_then_beacons_are_turned_away_until_it_does()
 {
    let (db, url) = serving::database().await;
    serving::site(&db).await;
    let server = Server::start_with(&url, serving::KEY, &["--queue", "3"]);
    assert_eq!(server.up().await, 200);
    let one = || send(&server.address, "key", beacon(Uuid::new_v4()).to_string(), OWN, BROWSER);
    assert_eq!(one().await.0, 204);
    let held = db.hold_writers().await.expect("held");
    let mut waiting = tokio::task::JoinSet::new();
    for _ in 0..40 {
        let address = server.address.clone();
        waiting.spawn(async move {
            let body = beacon(Uuid::new_v4()).to_string();
            let request =
                reqwest::Client::new().post(format!("{address}/beacons/key")).header("origin", OWN);
            let answer =
                request.header("user-agent", BROWSER).body(body).send().await.expect("an answer");
            let later =
                answer.headers().get("retry-after").and_then(|v| v.to_str().ok()).map(String::from);
            (answer.status().as_u16(), later)
        });
    }
    // Those for which there was no room are told at once; the others wait.
    let (status, later) = waiting.join_next().await.expect("one of them").expect("no panic");
    assert_eq!((status, later.as_deref()), (503, Some("5")));
    let page = crate::serving::get(format!("{}/marram-ferries/visitors", server.address))
        .await
        .expect("a page");
    assert_eq!(page.status(), 200, "pages go on");
    held.release().await.expect("released");
    let mut counts = [0, 0];
    while let Some(answer) = waiting.join_next().await {
        counts[usize::from(answer.expect("no panic").0 == 204)] += 1;
    }
    assert!(counts[0] > 0 && counts[1] > 0, "{counts:?}");
    assert_eq!(one().await.0, 204, "it recovers");
    let stored = db.page_view_ids(1, today()).await.expect("ids").len();
    assert_eq!(stored, counts[1] + 2, "what was acknowledged and nothing else");
}

#[tokio::test]
async fn a_body_that_comes_byte_by_byte_or_packed_tight_costs_neither_time_nor_memory() {
    use tokio::io::{AsyncReadExt, AsyncWriteExt};
    let s = server().await;
    let host = s.server.address.trim_start_matches("http://").to_string();
    let mut slow = tokio::net::TcpStream::connect(&host).await.expect("a connection");
    let head =
        format!("POST /beacons/key HTTP/1.1\r\nHost: {host}\r\nContent-Length: 500\r\n\r\n{{");
    slow.write_all(head.as_bytes()).await.expect("sent");
    // A hundred million zeros in a hundred kilobytes: nobody unpacks them.
    let mut packed = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::best());
    (0..1_000).for_each(|_| std::io::Write::write_all(&mut packed, &[0; 100_000]).expect("packed"));
    let packed = packed.finish().expect("packed");
    let post = |path: &str| {
        let request = crate::serving::page_of_its_own().post(format!("{}{path}", s.server.address));
        request
            .header("content-encoding", "gzip")
            .header("user-agent", BROWSER)
            .body(packed.clone())
            .send()
    };
    let before = memory_of(s.server.process.id());
    for (path, status) in
        [("/beacons/key", 413), ("/marram-ferries/settings/visitors/import?file=x.csv", 415)]
    {
        let answer = post(path).await.expect("an answer");
        assert_eq!(answer.status(), status, "{path}");
    }
    let grown = memory_of(s.server.process.id()).saturating_sub(before);
    assert!(grown < 24_000, "{grown} kB more, of 100,000 unpacked");
    // One that breaks off, too.
    let mut cut = tokio::net::TcpStream::connect(&host).await.expect("a connection");
    cut.write_all(head.as_bytes()).await.expect("sent");
    cut.shutdown().await.expect("shut");
    let mut says = String::new();
    let told = tokio::time::timeout(Duration::from_secs(20), slow.read_to_string(&mut says)).await;
    assert!(
        told.is_ok() && says.starts_with("HTTP/1.1 408") && says.contains("too-slow"),
        "{says}"
    );
    let mut counted = Vec::new();
    for _ in 0..50 {
        counted = s.db.refused(1, today()).await.expect("counts");
        if counted.len() == 3 {
            break;
        }
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
    counted.sort();
    let of = |reason: &str| (reason.to_string(), 1);
    assert_eq!(
        counted,
        [of("malformed"), of("too-large"), of("too-slow")],
        "each is counted with its reason"
    );
}

/// Resident memory of a process in kilobytes.
fn memory_of(pid: u32) -> u64 {
    let status = std::fs::read_to_string(format!("/proc/{pid}/status")).unwrap_or_default();
    let line = status.lines().find(|l| l.starts_with("VmRSS:")).unwrap_or_default();
    line.split_whitespace().nth(1).and_then(|n| n.parse().ok()).unwrap_or(0)
}

#[tokio::test]
async fn without_its_database_the_server_says_so_and_turns_beacons_away_for_later() {
    let nobody = free_port().expect("a port");
    let server = Server::start(&format!("postgres://cadentis@127.0.0.1:{nobody}/cadentis"));
    assert_eq!(server.up().await, 503);
    let health: Value = crate::serving::get(format!("{}/healthz", server.address))
        .await
        .expect("up")
        .json()
        .await
        .expect("JSON");
    assert_eq!(health["status"], "unavailable");
    let (collect, says) =
        send(&server.address, "key", beacon(Uuid::new_v4()).to_string(), OWN, BROWSER).await;
    assert_eq!((collect, says["reason"].as_str()), (503, Some("busy")));
    let page = crate::serving::get(&server.address).await.expect("a page");
    assert_eq!(page.status(), 503);
    assert!(page.text().await.expect("a body").contains("The database does not answer just now."));
}

#[tokio::test]
async fn a_flood_from_one_network_is_turned_away_and_others_go_on() {
    let s = server().await;
    let batch =
        || Value::from((0..100).map(|_| beacon(Uuid::new_v4())).collect::<Vec<_>>()).to_string();
    let client = reqwest::Client::new();
    let from = |network: &'static str| {
        let request =
            client.post(format!("{}/beacons/key", s.server.address)).header("origin", OWN);
        request
            .header("user-agent", BROWSER)
            .header("x-forwarded-for", network)
            .body(batch())
            .send()
    };
    let mut turned_away = 0;
    // The minute may turn in the middle of it: then as many again are let through.
    for nth in 0..70 {
        let answer = from(if nth % 2 == 0 { "198.51.100.7" } else { "198.51.100.9" })
            .await
            .expect("an answer");
        if answer.status() == 429 {
            assert_eq!(answer.headers()["retry-after"], "60");
            turned_away += 1;
        }
    }
    assert!(turned_away >= 5, "{turned_away}");
    assert_eq!(from("203.0.113.5").await.expect("an answer").status(), 204);
}
