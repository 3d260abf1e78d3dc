//! What the browser tests share: the demo stack with little data, and a browser to look at it.

use cadentis_standins::postgres::free_port;
use serde_json::Value;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::TcpListener;
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::{Duration, Instant};
use thirtyfour::prelude::*;

/// The `cadentis` program beside this test, built if it is not there.
///
/// # Panics
/// When it cannot be built.
pub fn program() -> PathBuf {
    let exe = std::env::current_exe().expect("a test has a path");
    let folder = exe
        .ancestors()
        .find(|p| p.ends_with("debug") || p.ends_with("release"))
        .expect("target/<profile>");
    let program = folder.join("cadentis");
    if !program.exists() {
        let built = Command::new(env!("CARGO"))
            .args(["build", "-p", "cadentis"])
            .status()
            .expect("cargo runs");
        assert!(built.success(), "cadentis does not build");
    }
    program
}

/// How many demos are filling their databases, and whether none may begin to.
static FILLING: AtomicUsize = AtomicUsize::new(0);
static QUIET: AtomicBool = AtomicBool::new(false);

/// While it is held no demo fills its database beside it: on a machine that is so busy, runs fail that would not, and what is
/// told of them is another truth.
pub struct Quiet(());

impl Quiet {
    /// Waits until those that have begun are done.
    pub async fn now() -> Quiet {
        while QUIET.swap(true, Ordering::SeqCst) {
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
        let quiet = Quiet(());
        while FILLING.load(Ordering::SeqCst) > 0 {
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
        quiet
    }
}

impl Drop for Quiet {
    fn drop(&mut self) {
        QUIET.store(false, Ordering::SeqCst);
    }
}

/// A demo that is being filled.
struct Filling(());

impl Filling {
    fn begin() -> Filling {
        FILLING.fetch_add(1, Ordering::SeqCst);
        while QUIET.load(Ordering::SeqCst) {
            FILLING.fetch_sub(1, Ordering::SeqCst);
            std::thread::sleep(Duration::from_millis(100));
            FILLING.fetch_add(1, Ordering::SeqCst);
        }
        Filling(())
    }
}

impl Drop for Filling {
    fn drop(&mut self) {
        FILLING.fetch_sub(1, Ordering::SeqCst);
    }
}

/// A running demo with three days of history, ended with everything it started when dropped.
pub struct Demo {
    pub process: Child,
    pub address: String,
    pub folder: PathBuf,
}

impl Demo {
    /// Starts the demo and waits for its line.
    ///
    /// # Panics
    /// When it does not get ready within three minutes.
    pub fn start(more: &[&str]) -> Demo {
        Demo::start_on(None, more)
    }

    /// The same on this database instead of a private one.
    ///
    /// # Panics
    /// As [`Demo::start`].
    pub fn start_on(database: Option<&str>, more: &[&str]) -> Demo {
        let _filling = Filling::begin();
        let folder = std::env::temp_dir().join(format!("cadentis-demo-{}", uuid::Uuid::new_v4()));
        let words = folder.with_extension("log");
        let log = std::fs::File::create(&words).expect("a log");
        let port = free_port().expect("a free port").to_string();
        let mut command = Command::new(program());
        command
            .args(["demo", "--port", &port, "--days", "3", "--views", "12000", "--folder"])
            .arg(&folder)
            .args(more)
            .env_remove("DATABASE_URL")
            .stdout(Stdio::piped())
            .stderr(log);
        if let Some(database) = database {
            command.env("DATABASE_URL", database);
        }
        let mut process = command.spawn().expect("the demo starts");
        let said = BufReader::new(process.stdout.take().expect("piped"));
        let address = format!("http://127.0.0.1:{port}");
        let line = said.lines().map_while(Result::ok).find(|l| l.starts_with("Cadentis is ready"));
        let ready = format!("Cadentis is ready: {address}");
        let last = || std::fs::read_to_string(&words).unwrap_or_default();
        assert_eq!(line.as_deref(), Some(ready.as_str()), "it said: {}", last());
        Demo { process, address, folder }
    }

    /// Reads a file that the demo wrote for its runners.
    ///
    /// # Panics
    /// When it is not there or is no JSON.
    pub fn said(&self, file: &str) -> Value {
        let text = std::fs::read_to_string(self.folder.join(file)).expect("the demo wrote it");
        serde_json::from_str(&text).expect("it is JSON")
    }

    /// What a browser of hers sends along that is signed in as this person of the demo.
    ///
    /// # Panics
    /// When she is not let in.
    pub async fn cookie_of(&self, role: &str) -> String {
        let access = self.said("access.json");
        let people = access["people"].as_array().expect("people");
        let person = people.iter().find(|p| p["role"] == role).expect("somebody");
        let text = |name: &str| person[name].as_str().expect("a text").to_string();
        let body = url::form_urlencoded::Serializer::new(String::new())
            .append_pair("email", &text("email"))
            .append_pair("password", &text("password"))
            .finish();
        let client = reqwest::Client::builder().redirect(reqwest::redirect::Policy::none());
        let request = client.build().expect("a client").post(format!("{}/sign-in", self.address));
        let request = request
            .header("sec-fetch-site", "same-origin")
            .header("content-type", "application/x-www-form-urlencoded");
        let answer = request.body(body).send().await.expect("an answer");
        assert_eq!(answer.status(), 303, "{role} is let in");
        let cookie = answer.headers()["set-cookie"].to_str().expect("a cookie");
        cookie.split(';').next().expect("a name and a value").to_string()
    }

    /// Asks the demo to end and waits until it has.
    pub fn end(&mut self) {
        cadentis_processes::signal(self.process.id() as i32, libc::SIGTERM);
        let until = Instant::now() + Duration::from_secs(30);
        while matches!(self.process.try_wait(), Ok(None)) && Instant::now() < until {
            std::thread::sleep(Duration::from_millis(50));
        }
    }
}

impl Drop for Demo {
    fn drop(&mut self) {
        self.end();
        let _ = self.process.kill();
        let _ = std::fs::remove_dir_all(&self.folder);
        let _ = std::fs::remove_file(self.folder.with_extension("log"));
    }
}

/// A driver and the port it listens on, or `None` when it ended without one.
fn driver() -> Option<(Child, u16)> {
    let mut command = Command::new("chromedriver");
    command.arg("--port=0").stdout(Stdio::piped()).stderr(Stdio::null());
    let mut process = command.spawn().ok()?;
    let mut said = BufReader::new(process.stdout.take()?).lines();
    let port = said
        .by_ref()
        .map_while(Result::ok)
        .filter(|l| l.contains("successfully"))
        .find_map(|l| l.split("on port ").nth(1)?.trim_end_matches('.').parse().ok());
    if port.is_none() {
        let _ = process.wait();
    }
    // Somebody has to go on reading, or the driver would wait for room to write.
    std::thread::spawn(move || said.for_each(drop));
    Some((process, port?))
}

/// A browser to look at pages with.
pub struct Looker {
    pub driver: WebDriver,
    /// Where the driver listens.
    address: String,
    process: Child,
    profile: PathBuf,
}

impl Looker {
    /// Starts a browser with these flags besides the usual ones.
    ///
    /// # Panics
    /// When driver or browser do not start.
    pub async fn start(flags: &[String]) -> Looker {
        // A second provider may be there already.
        let _ = rustls::crypto::ring::default_provider().install_default();
        // Now and then a port that the driver chose is gone before it takes it.
        let (process, port) =
            (0..5).find_map(|_| driver()).expect("chromedriver is installed and starts");
        let profile =
            std::env::temp_dir().join(format!("cadentis-looker-{}", uuid::Uuid::new_v4()));
        let mut caps = DesiredCapabilities::chrome();
        let own = format!("--user-data-dir={}", profile.display());
        let usual = cadentis_processes::chromium::flags();
        let ours = ["--window-size=1280,800", own.as_str()];
        for flag in usual.into_iter().chain(ours).chain(flags.iter().map(String::as_str)) {
            caps.add_arg(flag).expect("a flag is a text");
        }
        caps.set("goog:loggingPrefs", serde_json::json!({ "browser": "ALL" }))
            .expect("a capability");
        // Without this the page could tell that a program drives it.
        caps.add_exclude_switch("enable-automation").expect("a switch is a text");
        let address = format!("http://127.0.0.1:{port}");
        let driver = WebDriver::new(&address, caps).await.expect("the browser starts");
        Looker { driver, address, process, profile }
    }

    /// Signs in as this person of the demo, as its page offers.
    ///
    /// # Panics
    /// When the page does not let them in.
    pub async fn sign_in(&self, demo: &Demo, name: &str) {
        self.driver.goto(format!("{}/sign-in?to=/me", demo.address)).await.expect("a page");
        let button = format!("//button[normalize-space()='{name}']");
        let button = self.driver.find(By::XPath(button)).await.expect("somebody of the demo");
        button.click().await.expect("pressed");
        self.wait_for("signed in", "return location.pathname === '/me'", 20).await;
    }

    /// The same for somebody else: whoever is signed in signs out before.
    ///
    /// # Panics
    /// When the page does not let them.
    pub async fn sign_in_anew(&self, demo: &Demo, name: &str) {
        self.driver.goto(format!("{}/me", demo.address)).await.expect("a page");
        let out = By::XPath("//button[normalize-space()='Sign out']");
        self.driver.find(out).await.expect("signed in").click().await.expect("pressed");
        self.wait_for("signed out", "return location.pathname === '/sign-in'", 20).await;
        self.sign_in(demo, name).await;
    }

    /// What a script says about the page.
    ///
    /// # Panics
    /// When it throws.
    pub async fn ask(&self, script: &str) -> Value {
        self.driver.execute(script, vec![]).await.expect("the script runs").json().clone()
    }

    /// Tells the browser something in its own protocol (Chrome DevTools Protocol), through the driver.
    ///
    /// # Panics
    /// When it does not know it.
    pub async fn tell(&self, command: &str, with: Value) -> Value {
        let url = format!("{}/session/{}/goog/cdp/execute", self.address, self.driver.session_id());
        let body = serde_json::json!({ "cmd": command, "params": with }).to_string();
        let answer =
            reqwest::Client::new().post(url).body(body).send().await.expect("the driver answers");
        assert!(answer.status().is_success(), "{command}: {}", answer.status());
        let text = answer.text().await.expect("an answer");
        let mut answer: Value = serde_json::from_str(&text).expect("JSON");
        answer["value"].take()
    }

    /// Errors that were written to the console since they were last asked for.
    ///
    /// # Panics
    /// When the driver does not tell.
    pub async fn console_errors(&self) -> Vec<String> {
        let url = format!("{}/session/{}/se/log", self.address, self.driver.session_id());
        let answer = reqwest::Client::new().post(url).body("{\"type\":\"browser\"}").send().await;
        let text = answer.expect("the driver answers").text().await.expect("an answer");
        let told: Value = serde_json::from_str(&text).expect("JSON");
        let entries = told["value"].as_array().cloned().unwrap_or_default();
        let severe = entries.iter().filter(|e| e["level"] == "SEVERE");
        severe.map(|e| e["message"].as_str().unwrap_or("").to_string()).collect()
    }

    /// Waits until a script says `true`.
    ///
    /// # Panics
    /// When it does not within `seconds`.
    pub async fn wait_for(&self, what: &str, script: &str, seconds: u64) {
        let until = Instant::now() + Duration::from_secs(seconds);
        while self.ask(script).await != Value::Bool(true) {
            if Instant::now() >= until {
                let there = "return (document.querySelector('main')?.textContent ?? '').replace(/\\s+/g, ' ').replace(/^(.{900}).*(.{900})$/, '$1 … $2')";
                panic!("{what}: not within {seconds} s; there is: {}", self.ask(there).await);
            }
            tokio::time::sleep(Duration::from_millis(200)).await;
        }
    }

    pub async fn end(self) {
        let _ = self.driver.clone().quit().await;
    }
}

impl Drop for Looker {
    fn drop(&mut self) {
        let below = cadentis_processes::below(self.process.id() as i32);
        let _ = self.process.kill();
        let _ = self.process.wait();
        cadentis_processes::end_these(&below);
        let _ = std::fs::remove_dir_all(&self.profile);
    }
}

/// Head and body of a request, as far as it comes within some seconds.
fn read_request(stream: &mut std::net::TcpStream) -> String {
    let _ = stream.set_read_timeout(Some(Duration::from_secs(5)));
    let (mut all, mut piece) = (Vec::new(), [0u8; 8_192]);
    loop {
        let n = stream.read(&mut piece).unwrap_or(0);
        all.extend_from_slice(&piece[..n]);
        let text = String::from_utf8_lossy(&all).into_owned();
        let whole = text.split_once("\r\n\r\n").map(|(head, body)| {
            let length = head.lines().find_map(|l| {
                l.to_ascii_lowercase().strip_prefix("content-length:")?.trim().parse().ok()
            });
            body.len() >= length.unwrap_or(0usize)
        });
        if n == 0 || whole == Some(true) {
            return text;
        }
    }
}

/// Serves what `answer` gives for a path, as media type and body, on a port of its own until the
/// test ends; 500 for the rest. Answers the address.
///
/// # Panics
/// When no port is free.
pub fn serve(
    answer: impl Fn(&str) -> Option<(&'static str, String)> + Send + Sync + 'static,
) -> String {
    serve_told(move |asked| answer(asked.path))
}

/// What a request said.
pub struct Asked<'a> {
    pub path: &'a str,
    pub head: &'a str,
    pub body: &'a str,
}

/// The same for handlers that want to know more than the path. A media type that begins with a number is a status, as in
/// `503 application/json`.
///
/// # Panics
/// As [`serve`].
pub fn serve_told(
    answer: impl Fn(&Asked<'_>) -> Option<(&'static str, String)> + Send + Sync + 'static,
) -> String {
    let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
    let address = format!("http://{}", listener.local_addr().expect("an address"));
    let answer = Arc::new(answer);
    std::thread::spawn(move || {
        for mut stream in listener.incoming().flatten() {
            // A browser opens connections that it may never use: each is waited for on its own.
            let answer = answer.clone();
            std::thread::spawn(move || {
                let asked = read_request(&mut stream);
                let (head, body) = asked.split_once("\r\n\r\n").unwrap_or((&asked, ""));
                let path = head.split(' ').nth(1).unwrap_or("");
                let (status, (kind, body)) = match answer(&Asked { path, head, body }) {
                    Some((kind, body)) if kind.starts_with(|c: char| c.is_ascii_digit()) => {
                        let (status, kind) = kind.split_once(' ').unwrap_or((kind, "text/plain"));
                        (status, (kind, body))
                    }
                    Some(found) => ("200 OK", found),
                    None => ("500 Oh", ("text/plain", String::new())),
                };
                let _ = write!(
                    stream,
                    "HTTP/1.1 {status}\r\ncontent-type: {kind}\r\ncontent-length: {}\r\nconnection: close\r\n\r\n{body}",
                    body.len()
                );
            });
        }
    });
    address
}
