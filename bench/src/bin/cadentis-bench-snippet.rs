//! What the snippet costs the main thread while a page loads: the time its file takes to run, as the page's own clock has
//! it, with the processor as it is and slowed down four times by the browser: in a page without any other script, where
//! the browser makes its own objects for whoever asks first, and in one whose script has asked before. What it does
//! later, in idle time and after the load, is not in it.
//!
//! `cadentis-bench-snippet [ROUNDS]`; wants Chromium and ChromeDriver.

use cadentis_e2e::{Looker, serve};
use serde_json::json;
use std::time::Duration;

type Failure = Box<dyn std::error::Error + Send + Sync>;

const SNIPPET: &str = include_str!("../../../snippet/dist/snippet.js");

/// What nearly every script of a page touches.
const THEIRS: &str = "<script>document.querySelector('script').src; navigator.userAgent; location.href; history.length; \
    addEventListener('load', function () {}); requestIdleCallback(function () {}); XMLHttpRequest.prototype.open; \
    setTimeout(function () {}, 9); performance.now()</script>";

/// A page of a hundred lines with the blocking tag, and what comes before it.
fn page(before: &str) -> String {
    let lines: String = (0..100).map(|n| format!("<p>Sailing {n} leaves at noon</p>")).collect();
    format!(
        "<!doctype html><title>t</title>{before}<script src=\"/snippet.js\" data-cadentis=\"k\"></script><h1>Timetable</h1>{lines}"
    )
}

#[tokio::main]
async fn main() -> Result<(), Failure> {
    let rounds: usize = std::env::args().nth(1).map_or(Ok(25), |a| a.parse())?;
    let address = serve(|path| match path {
        "/snippet.js" => Some((
            "text/javascript",
            format!(
                "var began = performance.now();\n{SNIPPET}\nwindow.took = performance.now() - began;"
            ),
        )),
        "/" => Some(("text/html", page(""))),
        "/theirs" => Some(("text/html", page(THEIRS))),
        p if p.starts_with("/beacons/") => Some(("204 text/plain", String::new())),
        _ => None,
    });
    // As a visitor: a browser that says that a program drives it gets nothing measured.
    let looker = Looker::start(&["--disable-blink-features=AutomationControlled".into()]).await;
    for (rate, path) in [(1, ""), (4, ""), (1, "theirs"), (4, "theirs")] {
        looker.tell("Emulation.setCPUThrottlingRate", json!({ "rate": rate })).await;
        let mut took = Vec::new();
        for _ in 0..rounds {
            looker.driver.goto(&format!("{address}/{path}")).await?;
            took.push(looker.ask("return window.took").await.as_f64().unwrap_or(f64::NAN));
            tokio::time::sleep(Duration::from_millis(300)).await;
        }
        took.sort_by(f64::total_cmp);
        println!(
            "{}, {rate} times slower: median of {rounds} loads {:.1} ms, least {:.1}, three in four up to {:.1}",
            if path.is_empty() { "first script of a page" } else { "after a script of the page" },
            took[rounds / 2],
            took[0],
            took[rounds * 3 / 4]
        );
    }
    looker.end().await;
    Ok(())
}
