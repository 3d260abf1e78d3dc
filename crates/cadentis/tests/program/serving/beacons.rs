//! Beacons sent to the front door of a server.

use super::Server;
use cadentis_core::calendar::Stretch;
use cadentis_store::Db;
use jiff::Timestamp;
use serde_json::{Value, json};
use uuid::Uuid;

pub struct Served {
    pub server: Server,
    pub db: Db,
}

pub async fn server() -> Served {
    let (db, url) = super::database().await;
    super::site(&db).await;
    let server = Server::start(&url);
    assert_eq!(server.up().await, 200);
    Served { server, db }
}

pub fn beacon(id: Uuid) -> Value {
    let now = Timestamp::now().as_millisecond();
    json!({"id": id, "seq": 1, "at": now - 5_000, "sent": now, "visit": Uuid::nil(), "device": "phone",
        "url": "http://book.marram.example/sailings?from=SKA&token=secret", "connection": "4g", "lcp": 1500.0})
}

pub const BROWSER: &str = "Mozilla/5.0 (Linux; Android 15) Chrome/156.0 Mobile Safari/537.36";

pub async fn send(
    server: &str,
    key: &str,
    body: String,
    origin: &str,
    agent: &str,
) -> (u16, Value) {
    let answer = reqwest::Client::new()
        .post(format!("{server}/beacons/{key}"))
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

pub const OWN: &str = "http://book.marram.example";

pub fn today() -> Stretch {
    Stretch::last(86_400, Timestamp::now())
}

/// A page of the server that is there.
pub async fn page(s: &Served, path: &str) -> String {
    let answer =
        crate::serving::get(format!("{}{path}", s.server.address)).await.expect("an answer");
    assert_eq!(answer.status(), 200, "{path}");
    answer.text().await.expect("a page")
}

/// Sends page views; they have to be taken.
pub async fn take(s: &Served, views: Value) {
    let (status, says) = send(&s.server.address, "key", views.to_string(), OWN, BROWSER).await;
    assert_eq!(status, 204, "{says}");
}
