//! The real server on a database of its own in a real PostgreSQL.

pub mod beacons;

use cadentis_standins::postgres::{Cluster, free_port};
use cadentis_store::Db;
use cadentis_store::location::NewLocation;
use cadentis_store::person::Given;
use cadentis_store::site::NewSite;
use sha2::{Digest, Sha256};
use std::process::{Child, Command, Stdio};
use std::sync::LazyLock;
use std::time::Duration;
use uuid::Uuid;

pub static CLUSTER: LazyLock<Cluster> =
    LazyLock::new(|| Cluster::scratch().expect("PostgreSQL is installed"));

/// What the tests' servers seal secrets with.
pub const KEY: &str = "0123456789abcdef0123456789abcdef0123456789abcdef0123456789abcdef";

/// Ended when dropped.
pub struct Server {
    pub process: Child,
    pub address: String,
    pub url: String,
}

impl Drop for Server {
    fn drop(&mut self) {
        self.kill();
    }
}

/// An empty, migrated database and its address.
pub async fn database() -> (Db, String) {
    let url =
        CLUSTER.create_database(&format!("t{}", Uuid::new_v4().simple())).expect("a database");
    let db = Db::connect(&url).expect("an address");
    db.migrate().await.expect("migrations");
    sign_in(&db, "Ada", ADMINISTRATOR, SESSION).await;
    (db, url)
}

/// What whoever every database of the tests begins with may do.
pub const ADMINISTRATOR: Given =
    Given { is_administrator: true, sees_people: true, roles: Vec::new() };

/// The session of the administrator that every database of the tests begins with.
pub const SESSION: &str = "5e55104000000000000000000000000000000000000000000000000000000001";

/// Adds somebody who is signed in with this session.
pub async fn sign_in(db: &Db, name: &str, given: Given, session: &str) -> i32 {
    let email = format!("{}@marram.example", name.to_lowercase().replace(' ', "."));
    let id = db.add_person(&email, name, &given).await.expect("a person").expect("a new one");
    let (kept, from) =
        (Sha256::digest(session.as_bytes()), "127.0.0.1".parse().expect("an address"));
    db.begin_session(&kept, id, "a test", from, 0).await.expect("a session");
    id
}

/// A client that shows this session and comes from a page of the server's own. Redirects are looked at, not followed.
pub fn signed_in_as(session: &str) -> reqwest::Client {
    client(session, reqwest::redirect::Policy::none())
}

/// The same with another cookie than a session.
pub fn client_with(cookie: &str) -> reqwest::Client {
    with_cookie(cookie, reqwest::redirect::Policy::none())
}

fn client(session: &str, redirects: reqwest::redirect::Policy) -> reqwest::Client {
    with_cookie(&format!("cadentis_session={session}"), redirects)
}

fn with_cookie(cookie: &str, redirects: reqwest::redirect::Policy) -> reqwest::Client {
    let mut headers = reqwest::header::HeaderMap::new();
    headers.insert("sec-fetch-site", reqwest::header::HeaderValue::from_static("same-origin"));
    headers.insert("cookie", reqwest::header::HeaderValue::from_str(cookie).expect("a cookie"));
    reqwest::Client::builder()
        .default_headers(headers)
        // Sooner than the server does: what it has just closed is not asked again.
        .pool_idle_timeout(std::time::Duration::from_secs(2))
        .redirect(redirects)
        .build()
        .expect("a client")
}

/// What the administrator gets at this address, redirects followed.
pub async fn get(address: impl reqwest::IntoUrl) -> reqwest::Result<reqwest::Response> {
    client(SESSION, reqwest::redirect::Policy::default()).get(address).send().await
}

/// The name in addresses of the site of the tests.
pub const SLUG: &str = "marram-ferries";

/// The site of the tests, in an empty database.
pub async fn site(db: &Db) -> i32 {
    db.add_site(&NewSite {
        key: "key",
        name: "Marram Ferries",
        zone: "Europe/Oslo",
        domains: &["marram.example".into()],
        families: &[],
        apdex_t_s: 1.5,
    })
    .await
    .expect("a site")
}

/// A second site beside it.
pub async fn another_site(db: &Db) -> i32 {
    db.add_site(&NewSite {
        key: "other",
        name: "Freight",
        zone: "Europe/Oslo",
        domains: &["freight.example".into()],
        families: &[],
        apdex_t_s: 1.5,
    })
    .await
    .expect("another site")
}

/// A program that shows this token.
pub fn program(token: &str) -> reqwest::Client {
    let mut headers = reqwest::header::HeaderMap::new();
    let shown = format!("Bearer {token}");
    headers.insert("authorization", reqwest::header::HeaderValue::from_str(&shown).expect("one"));
    headers.insert("sec-fetch-site", reqwest::header::HeaderValue::from_static("same-origin"));
    let quiet = reqwest::redirect::Policy::none();
    reqwest::Client::builder().default_headers(headers).redirect(quiet).build().expect("a client")
}

/// A token of a site that was made for these scopes and is good for a day.
pub async fn token(db: &Db, site_id: i32, scopes: &[cadentis_core::access::Scope]) -> String {
    let token = format!("{}{}", Uuid::new_v4().simple(), Uuid::new_v4().simple());
    let hash = Sha256::digest(token.as_bytes());
    db.add_api_token(&hash, site_id, "a test", scopes, "Ada", 1).await.expect("a token");
    token
}

/// A location in Norway, whose runner shows that token.
pub async fn location(db: &Db, slug: &str, name: &str, token: &str) -> i32 {
    location_in(db, slug, name, token, "Europe/Oslo").await
}

/// The same in a zone of its own.
pub async fn location_in(db: &Db, slug: &str, name: &str, token: &str, zone: &str) -> i32 {
    db.add_location(&NewLocation {
        slug,
        name,
        country: "NO",
        kind: "public",
        zone,
        token,
        at: None,
        proxy: None,
        denied: Default::default(),
    })
    .await
    .expect("a location")
}

/// Evaluates no alerts and sends nothing: tests do that themselves, as if it were another time.
const QUIET: [&str; 3] = ["--no-watch", "--no-notices", "--no-reports"];

fn spawn(url: &str, address: &str, key: &str, more: &[&str]) -> Child {
    Command::new(env!("CARGO_BIN_EXE_cadentis"))
        .env("CADENTIS_SECRET_KEY", key)
        .args([
            "serve",
            "--no-cadence",
            "--listen",
            address.trim_start_matches("http://"),
            "--database-url",
            url,
        ])
        // The tests forward for made-up visitors.
        .args(["--trusted-proxy", "127.0.0.0/8"])
        .args(more)
        .stderr(Stdio::null())
        .spawn()
        .expect("the server starts")
}

/// What a page of a server's own is to it: its browser says where a request comes from, and who is signed in. Redirects
/// are looked at, not followed.
pub fn page_of_its_own() -> reqwest::Client {
    signed_in_as(SESSION)
}

/// What a form of these fields is answered: status, the address it leads to, the page.
pub async fn post_form(
    address: &str,
    path: &str,
    fields: &[(&str, &str)],
) -> (u16, String, String) {
    let body = url::form_urlencoded::Serializer::new(String::new()).extend_pairs(fields).finish();
    let request = page_of_its_own().post(format!("{}{path}", address)).body(body);
    let request = request.header("content-type", "application/x-www-form-urlencoded");
    let answer = request.send().await.expect("an answer");
    let status = answer.status().as_u16();
    let to = answer.headers().get("location").and_then(|v| v.to_str().ok()).unwrap_or("");
    let to = to.to_string();
    (status, to, answer.text().await.expect("a text"))
}

impl Server {
    /// Starts a server on that database, which need not be there.
    pub fn start(url: &str) -> Server {
        Server::start_with(url, KEY, &[])
    }

    /// The same with more to say on its command line, and a key for its secrets.
    pub fn start_with(url: &str, key: &str, more: &[&str]) -> Server {
        let address = format!("http://127.0.0.1:{}", free_port().expect("a port"));
        let more = [&QUIET, more].concat();
        Server { process: spawn(url, &address, key, &more), address, url: url.to_string() }
    }

    /// The same, which evaluates alerts by the database's clock.
    pub fn watching(url: &str) -> Server {
        let address = format!("http://127.0.0.1:{}", free_port().expect("a port"));
        Server { process: spawn(url, &address, KEY, &[]), address, url: url.to_string() }
    }

    /// The same at this address.
    pub fn start_at(url: &str, address: &str, more: &[&str]) -> Server {
        let (address, url) = (address.to_string(), url.to_string());
        Server { process: spawn(&url, &address, KEY, more), address, url }
    }

    /// The same with another key for its secrets.
    pub fn start_with_key(url: &str, key: &str) -> Server {
        Server::start_with(url, key, &[])
    }

    /// Waits until healthz says anything but that it is starting, and gives its status.
    pub async fn up(&self) -> u16 {
        for _ in 0..300 {
            if let Ok(answer) = reqwest::get(format!("{}/healthz", self.address)).await {
                let status = answer.status().as_u16();
                if !answer.text().await.is_ok_and(|says| says.contains("\"starting\"")) {
                    return status;
                }
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        panic!("{} did not come up", self.address);
    }

    /// SIGKILL.
    pub fn kill(&mut self) {
        let _ = self.process.kill();
        let _ = self.process.wait();
    }

    /// Starts again at the same address.
    pub async fn again(&mut self) {
        self.kill();
        self.process = spawn(&self.url, &self.address, KEY, &[]);
        assert_eq!(self.up().await, 200);
    }
}
