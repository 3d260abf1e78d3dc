//! The snippet as it is delivered.

use cadentis_e2e::{Looker, serve};
use std::io::Write;
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

/// A page that carries the snippet, where nobody takes its beacons.
const PAGE: &str = "<!doctype html><title>t</title><h1>Timetable</h1><script>window.wrong = [];
    onerror = m => wrong.push(m); onunhandledrejection = e => wrong.push(String(e.reason));
    sessionStorage.__proto__.getItem = () => { throw new Error('storage is off'); };</script>
    <script async src=\"/snippet.js\" data-site=\"nobody\"></script>";

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_page_whose_beacons_nobody_takes_works_as_if_the_snippet_were_not_there() {
    let address = serve(|path| match path {
        "/snippet.js" => Some(("text/javascript", DELIVERED.into())),
        "/" => Some(("text/html", PAGE.into())),
        _ => None,
    });
    let looker = Looker::start(&["--disable-blink-features=AutomationControlled".into()]).await;
    looker.driver.goto(&address).await.expect("the page opens");
    let sent = "return performance.getEntriesByType('resource').some(r => r.name.includes('/collect/nobody'))";
    looker.wait_for("the snippet has tried", sent, 15).await;
    assert_eq!(looker.ask("return wrong.length").await, 0);
    assert_eq!(looker.ask("return typeof webVitals").await, "undefined", "nothing global is left behind");
    looker.end().await;
}
