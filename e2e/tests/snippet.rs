//! The snippet as it is delivered.

use cadentis_e2e::Looker;
use std::io::{Read, Write};
use std::net::TcpListener;
use std::process::{Command, Stdio};

const WEB_VITALS: &str = include_str!("../../snippet/vendor/web-vitals.iife.js");
const OURS: &str = include_str!("../../snippet/page-view.js");
const DELIVERED: &str = include_str!("../../snippet/dist/snippet.js");

#[test]
fn what_is_delivered_is_built_of_what_is_there_and_stays_under_ten_kilobytes() {
    assert!(DELIVERED.contains(WEB_VITALS) && DELIVERED.contains(OURS), "run snippet/build");
    assert!(DELIVERED.len() < WEB_VITALS.len() + OURS.len() + 400, "and of nothing else");
    let mut gzip = Command::new("gzip").arg("-9c").stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().expect("gzip");
    gzip.stdin.take().expect("piped").write_all(DELIVERED.as_bytes()).expect("written");
    let packed = gzip.wait_with_output().expect("packed").stdout.len();
    assert!(packed < 10 * 1024, "{packed} bytes");
}

/// Serves one page that carries the snippet, and nothing that takes its beacons.
fn page() -> String {
    let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
    let address = format!("http://{}", listener.local_addr().expect("an address"));
    std::thread::spawn(move || {
        for stream in listener.incoming().flatten() {
            let mut stream = stream;
            let mut request = [0u8; 2048];
            let n = stream.read(&mut request).unwrap_or(0);
            let asked = String::from_utf8_lossy(&request[..n]).into_owned();
            let (status, kind, body) = if asked.starts_with("GET /snippet.js") {
                ("200 OK", "text/javascript", DELIVERED.to_string())
            } else if asked.starts_with("GET / ") {
                let html = "<!doctype html><title>t</title><h1>Timetable</h1><script>window.wrong = [];
                    onerror = m => wrong.push(m); onunhandledrejection = e => wrong.push(String(e.reason));
                    sessionStorage.__proto__.getItem = () => { throw new Error('storage is off'); };</script>
                    <script async src=\"/snippet.js\" data-site=\"nobody\"></script>";
                ("200 OK", "text/html", html.to_string())
            } else {
                ("500 Oh", "text/plain", String::new())
            };
            let _ = write!(
                stream,
                "HTTP/1.1 {status}\r\ncontent-type: {kind}\r\ncontent-length: {}\r\nconnection: close\r\n\r\n{body}",
                body.len()
            );
        }
    });
    address
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_page_whose_beacons_nobody_takes_works_as_if_the_snippet_were_not_there() {
    let address = page();
    let looker = Looker::start(&["--disable-blink-features=AutomationControlled".into()]).await;
    looker.driver.goto(&address).await.expect("the page opens");
    let sent = "return performance.getEntriesByType('resource').some(r => r.name.includes('/collect/nobody'))";
    looker.wait_for("the snippet has tried", sent, 15).await;
    assert_eq!(looker.ask("return wrong.length").await, 0);
    assert_eq!(looker.ask("return typeof webVitals").await, "undefined", "nothing global is left behind");
    looker.end().await;
}
