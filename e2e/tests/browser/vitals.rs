//! Our CLS, INP and phases, from what Chromium reports, beside web-vitals on the same page.

use cadentis_core::timing::entries::{Event, Shift, interaction_to_next_paint, layout_shift};
use cadentis_core::timing::phases::{Moments, Phases};
use cadentis_core::timing::{Navigation, Vital};
use cadentis_e2e::{Looker, serve};
use serde_json::Value;
use thirtyfour::prelude::*;

const WEB_VITALS: &str = include_str!("../../../snippet/vendor/web-vitals.attribution.iife.js");

/// Shifts before and after input, in one session window and in another; a button that keeps the
/// page busy for as long as it is told.
const PAGE: &str = r#"<!doctype html><title>Crossings</title><style>body { margin: 0; font: 16px sans-serif }</style>
<script src="/web-vitals.js"></script><script>
const raw = { shifts: [], events: [] }, reported = {};
const watch = (type, more, take) => new PerformanceObserver(l => l.getEntries().forEach(take)).observe({ type, buffered: true, ...more });
watch('layout-shift', {}, e => raw.shifts.push([e.startTime, e.value, e.hadRecentInput]));
for (const type of ['event', 'first-input'])
  watch(type, { durationThreshold: 40 }, e => raw.events.push([e.interactionId || 0, e.duration]));
for (const name of ['CLS', 'INP', 'TTFB']) webVitals['on' + name](m => { reported[name] = m.value; }, { reportAllChanges: true });
let busy = 0;
const push = height => { const d = document.createElement('div'); d.style.height = height + 'px'; d.textContent = 'notice'; document.body.prepend(d); };
addEventListener('load', () => { setTimeout(() => push(90), 200); setTimeout(() => push(60), 700); setTimeout(() => push(200), 2300); });
const press = () => { const until = performance.now() + busy; while (performance.now() < until); if (busy > 100) push(30); };
</script><button id="go" onclick="press()" style="position: fixed; top: 300px">Search</button>
<div style="height: 400px; background: #eee">Departures</div><img src="/map.png" alt=""><p>Timetable</p>"#;

fn numbers(list: &Value) -> Vec<&Vec<Value>> {
    list.as_array().expect("a list").iter().map(|e| e.as_array().expect("an entry")).collect()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn cls_inp_and_phases_from_raw_entries_are_those_of_web_vitals_and_the_browser() {
    let address = serve(|path| match path {
        "/" => Some(("text/html", PAGE.into())),
        "/web-vitals.js" => Some(("text/javascript", WEB_VITALS.into())),
        "/map.png" => Some(("image/png", "no picture, but an answer".into())),
        _ => None,
    });
    let looker = Looker::start(&[]).await;
    looker.driver.goto(&address).await.expect("the page opens");
    looker.wait_for("three shifts", "return raw.shifts.length >= 3", 20).await;
    let button = looker.driver.find(By::Id("go")).await.expect("a button");
    // More than fifty, so that the longest is left out.
    for nth in 0..56u32 {
        let busy = if nth % 7 == 0 { 50 + 10 * nth / 7 } else { 0 };
        looker.ask(&format!("busy = {busy}")).await;
        button.click().await.expect("it can be pressed");
    }
    looker.ask("busy = 130").await;
    button.click().await.expect("it can be pressed");
    looker
        .wait_for(
            "the last press is reported",
            "return raw.events.filter(e => e[1] >= 120).length > 0",
            20,
        )
        .await;
    // web-vitals looks at entries when the page has nothing else to do.
    tokio::time::sleep(std::time::Duration::from_millis(1_500)).await;

    let said = looker.ask("return [raw, reported, performance.interactionCount]").await;
    let (raw, reported, count) = (&said[0], &said[1], said[2].as_u64().expect("a count"));
    let shifts: Vec<Shift> = numbers(&raw["shifts"])
        .iter()
        .map(|e| Shift {
            start_ms: e[0].as_f64().expect("a moment"),
            score: e[1].as_f64().expect("a score"),
            had_recent_input: e[2].as_bool().expect("yes or no"),
        })
        .collect();
    let events: Vec<Event> = numbers(&raw["events"])
        .iter()
        .map(|e| Event {
            interaction: e[0].as_u64().expect("an id"),
            duration_ms: e[1].as_f64().expect("a length"),
        })
        .collect();
    assert!(shifts.iter().any(|s| s.had_recent_input), "a press moved the page: {shifts:?}");
    assert!(count > 50, "{count} interactions");
    let cls = layout_shift(&shifts);
    assert!(
        cls > 0.0 && (cls - reported["CLS"].as_f64().expect("CLS")).abs() < 1e-9,
        "{cls} and {reported}"
    );
    assert_eq!(interaction_to_next_paint(&events, count), reported["INP"].as_f64(), "{events:?}");

    let entry = looker.ask("return performance.getEntriesByType('navigation')[0].toJSON()").await;
    let navigation: Navigation = serde_json::from_value(entry.clone()).expect("a navigation entry");
    let load = navigation.load().expect("a possible order");
    let duration = entry["duration"].as_f64().expect("a duration");
    assert!((load.total_ms() - duration).abs() < 1.0, "{load:?} of {entry}");
    assert_eq!(
        Some(navigation.response_start),
        reported["TTFB"].as_f64(),
        "{} is a moment of the entry",
        Vital::Ttfb.name()
    );
    let resources =
        looker.ask("return performance.getEntriesByType('resource').map(r => r.toJSON())").await;
    let resources = resources.as_array().expect("a list");
    assert!(resources.len() >= 2);
    for r in resources {
        let entry: Navigation = serde_json::from_value(r.clone()).expect("a resource entry");
        let phases = Phases::from_moments(&Moments::from(&entry)).expect("a possible order");
        let duration = r["duration"].as_f64().expect("a duration");
        assert!((phases.total_ms() - duration).abs() < 0.2, "{phases:?} of {r}");
    }
    looker.end().await;
}
