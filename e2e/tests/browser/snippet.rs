//! The snippet as it is delivered, in Chromium, on pages that do one thing after the other.

use cadentis_core::visitor::{Beacon, Happened, Happening};
use cadentis_e2e::{Asked, Looker, serve, serve_told};
use std::io::Write;
use std::process::{Command, Stdio};
use std::sync::{Arc, Mutex};
use std::time::Duration;
use thirtyfour::By;

const WEB_VITALS: &str = include_str!("../../../snippet/vendor/web-vitals.attribution.iife.js");
const OURS: &str = include_str!("../../../snippet/page-view.js");
const TAG: &str = include_str!("../../../snippet/tag.js");
const DELIVERED: &str = include_str!("../../../snippet/dist/snippet.js");
const MODULE: &str = include_str!("../../../snippet/dist/snippet.mjs");

#[test]
fn what_is_delivered_is_built_of_what_is_there_and_stays_under_twelve_kilobytes() {
    for (delivered, rest) in [(DELIVERED, TAG.len() + 400), (MODULE, 500)] {
        assert!(delivered.contains(WEB_VITALS) && delivered.contains(OURS), "run snippet/build");
        assert!(delivered.len() < WEB_VITALS.len() + OURS.len() + rest, "and of nothing else");
        let mut gzip = Command::new("gzip")
            .arg("-9c")
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .expect("gzip");
        gzip.stdin.take().expect("piped").write_all(delivered.as_bytes()).expect("written");
        let packed = gzip.wait_with_output().expect("packed").stdout.len();
        assert!(packed < 12 * 1024, "{packed} bytes");
    }
}

/// A page that carries the snippet, where nobody takes its beacons.
const ALONE: &str = "<!doctype html><title>t</title><h1>Timetable</h1><script>window.wrong = [];
    onerror = m => wrong.push(m); onunhandledrejection = e => wrong.push(String(e.reason));
    sessionStorage.__proto__.getItem = () => { throw new Error('storage is off'); };</script>
    <script async src=\"/snippet.js\" data-cadentis=\"nobody\"></script>";

fn as_visitor() -> [String; 1] {
    ["--disable-blink-features=AutomationControlled".into()]
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_page_whose_beacons_nobody_takes_works_as_if_the_snippet_were_not_there() {
    let address = serve(|path| match path {
        "/snippet.js" => Some(("text/javascript", DELIVERED.into())),
        "/" => Some(("text/html", ALONE.into())),
        _ => None,
    });
    let looker = Looker::start(&as_visitor()).await;
    looker.driver.goto(&address).await.expect("the page opens");
    let sent = "return performance.getEntriesByType('resource').some(r => r.name.includes('/beacons/nobody'))";
    looker.wait_for("the snippet has tried", sent, 15).await;
    assert_eq!(looker.ask("return wrong.length").await, 0);
    assert_eq!(
        looker.ask("return [typeof webVitals, typeof measure].join()").await,
        "undefined,undefined"
    );
    looker.end().await;
}

/// What came to `/beacons/…`, read as the intake reads it.
#[derive(Clone, Default)]
struct Came(Arc<Mutex<Vec<Beacon>>>);

impl Came {
    fn take(&self, asked: &Asked<'_>) -> Option<(&'static str, String)> {
        let read =
            Beacon::read(asked.body.as_bytes()).unwrap_or_else(|e| panic!("{e}: {}", asked.body));
        self.0.lock().expect("no panic holds it").extend(read);
        Some(("text/plain", String::new()))
    }

    /// The last beacon of the page view for which `is` holds, once there is one.
    async fn last(&self, what: &str, is: impl Fn(&Beacon) -> bool) -> Beacon {
        for _ in 0..150 {
            if let Some(b) = self.0.lock().expect("no panic holds it").iter().rfind(|b| is(b)) {
                return b.clone();
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
        panic!("{what}: not within 15 s, but {:#?}", self.0.lock().expect("no panic holds it"));
    }

    fn count(&self) -> usize {
        self.0.lock().expect("no panic holds it").len()
    }
}

/// The site's own copy, as the server makes it.
fn own(settings: &str) -> String {
    DELIVERED.replacen(
        "(function () {",
        &format!("(function () {{\nvar CADENTIS_SETTINGS = {settings};"),
        1,
    )
}

const PAGE: &str = r#"<!doctype html><html><head><title>Crossings</title><script>
window.cadentis = window.cadentis || [];
cadentis.push(['attribute', 'fare', 'islander']); cadentis.push(['number', 'cart', 138.5]); cadentis.push(['person', '4711']);
</script><script src="/snippet/own.js" data-release="41.0"></script></head><body>
<h1 style="font-size: 60px">Departures from Skarholm</h1><img src="/gone.png" alt="">
<button data-cadentis-action="hold" onclick="hold()">Hold it, Ada Lovelace</button><p id="says"></p><script>
fetch('/api/sailings/12?token=secret').then(r => r.json());
const old = new XMLHttpRequest(); old.open('GET', '/api/berths'); old.send();
function hold() { fetch('/api/hold', { method: 'POST' }).then(function answered(r) { if (!r.ok) throw new Error('no berth 7'); }); }
console.error('map is late', 3);
setTimeout(function () { document.getElementById('says').textContent = 'Something went wrong here'; cadentis.push(['event', 'coupon']); }, 300);
</script></body></html>"#;

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn each_thing_that_happens_is_told_once_with_what_led_to_it_and_nothing_of_what_is_written_there()
 {
    let came = Came::default();
    let (taking, traced) = (came.clone(), Arc::new(Mutex::new(Vec::new())));
    let traces = traced.clone();
    let address = serve_told(move |asked| match asked.path.split('?').next().unwrap_or("") {
        "/" | "/basket" => Some(("text/html", PAGE.into())),
        "/snippet/own.js" => {
            let host = asked.head.lines().find_map(|l| l.strip_prefix("Host: ")).unwrap_or("");
            let settings = format!(
                r#"{{"site": "key", "phrases": ["went wrong here"], "trace": ["http://{host}"]}}"#
            );
            Some(("text/javascript", own(&settings)))
        }
        "/api/sailings/12" | "/api/berths" => {
            let trace = asked.head.lines().find_map(|l| l.strip_prefix("traceparent: "));
            traces.lock().expect("no panic holds it").extend(trace.map(str::to_string));
            Some(("application/json", "{\"berths\": 3}".into()))
        }
        "/api/hold" => {
            Some(("409 application/json", "{\"code\": \"NO_BERTH\", \"text\": \"Ada\"}".into()))
        }
        "/beacons/key" => taking.take(asked),
        _ => None,
    });
    let looker = Looker::start(&as_visitor()).await;
    looker.driver.goto(&format!("{address}/?secret=1")).await.expect("the page opens");
    looker
        .wait_for(
            "the phrase stands there",
            "return document.getElementById('says').textContent.length > 0",
            10,
        )
        .await;
    looker
        .driver
        .find(By::Css("button"))
        .await
        .expect("a button")
        .click()
        .await
        .expect("it can be pressed");
    tokio::time::sleep(Duration::from_millis(2_500)).await;
    // Another view without a load: the first is told whole.
    looker.ask("history.pushState({}, '', '/basket?x=1')").await;
    let first =
        came.last("the first view", |b| b.more.how.is_empty() && b.more.happened.len() >= 9).await;
    let soft =
        came.last("the view without a load", |b| b.more.how == "soft" && b.load.is_some()).await;
    looker.end().await;

    assert_eq!(first.url, format!("{address}/"), "queries are cut");
    assert!(
        first.lcp.is_some() && first.fcp.is_some() && first.ttfb.is_some() && first.load.is_some(),
        "{first:?}"
    );
    assert_eq!((first.more.release.as_str(), first.more.person.as_str()), ("41.0", "4711"));
    assert_eq!(
        (first.more.attributes["fare"].as_str(), first.more.numbers["cart"]),
        ("islander", 138.5)
    );
    assert_eq!(first.more.lcp_element, "h1");
    assert!(!first.abandoned && !first.blank && first.errors == 1);
    let of = |what: Happened| -> Vec<&Happening> {
        first.more.happened.iter().filter(|h| h.what == what).collect()
    };
    let requests = of(Happened::Request);
    let named: Vec<(&str, &str, Option<u16>, &str)> = requests
        .iter()
        .map(|r| {
            (
                r.method.as_str(),
                r.name.strip_prefix(&address).unwrap_or(&r.name),
                r.status,
                r.code.as_str(),
            )
        })
        .collect();
    assert_eq!(named.len(), 3, "{named:?}");
    assert!(named.contains(&("GET", "/api/sailings/12", Some(200), "")), "{named:?}");
    assert!(named.contains(&("GET", "/api/berths", Some(200), "")), "{named:?}");
    assert!(named.contains(&("POST", "/api/hold", Some(409), "NO_BERTH")), "{named:?}");
    // What was sent is what is told (W3C Trace Context: version, trace, parent, flags).
    let sent = traced.lock().expect("no panic holds it").clone();
    assert_eq!(sent.len(), 2);
    assert!(
        sent.iter()
            .all(|t| requests.iter().any(|r| *t.split('-').nth(1).unwrap_or("-") == r.trace)),
        "{sent:?}"
    );
    let action =
        first.more.happened.iter().position(|h| h.what == Happened::Action).expect("an action");
    assert_eq!(first.more.happened[action].name, "hold");
    let held = requests.iter().find(|r| r.code == "NO_BERTH").expect("the request");
    let errors = of(Happened::Error);
    assert_eq!((held.by, errors.len()), (Some(action as u16), 1));
    assert!(
        errors[0].name.contains("no berth 7") && errors[0].place().starts_with("answered"),
        "{:?}",
        errors[0]
    );
    assert_eq!(of(Happened::Console)[0].name, "map is late 3");
    assert_eq!(
        of(Happened::Phrase).iter().map(|p| p.name.as_str()).collect::<Vec<_>>(),
        ["went wrong here"]
    );
    assert_eq!(of(Happened::Event)[0].name, "coupon");
    let gone: Vec<_> = of(Happened::Resource).into_iter().filter(|r| r.is_failed()).collect();
    assert!(gone.iter().any(|r| r.name.ends_with("/gone.png")), "{gone:?}");
    let told = serde_json::to_string(&first).expect("JSON");
    assert!(!told.contains("Ada") && !told.contains("secret"), "{told}");

    assert_eq!(soft.url, format!("{address}/basket"));
    assert_eq!((soft.visit, soft.more.happened[0].what), (first.visit, Happened::Route));
    assert!(soft.lcp.is_none(), "what belongs to the load stays there");
}

/// One page, told as `tag` wants it; answers what came within some seconds, before and after `then`.
async fn told_of(body: &'static str, then: &str) -> (usize, Came) {
    let came = Came::default();
    let taking = came.clone();
    let address = serve_told(move |asked| match asked.path {
        "/" => Some(("text/html", body.into())),
        "/next" => Some(("text/html", "<!doctype html><title>next</title>".into())),
        "/snippet.js" => Some(("text/javascript", DELIVERED.into())),
        "/snippet.mjs" => Some(("text/javascript", MODULE.into())),
        "/slow.png" => {
            std::thread::sleep(Duration::from_secs(8));
            None
        }
        "/beacons/key" => taking.take(asked),
        _ => None,
    });
    let looker = Looker::start(&as_visitor()).await;
    looker.ask(&format!("location.href = '{address}/'")).await;
    tokio::time::sleep(Duration::from_millis(3_500)).await;
    let before = came.count();
    looker.ask(then).await;
    tokio::time::sleep(Duration::from_millis(1_500)).await;
    looker.end().await;
    (before, came)
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn without_consent_with_privacy_control_or_outside_the_sample_nothing_is_told() {
    let waits = "<!doctype html><h1>Timetable</h1><script src='/snippet.js' data-cadentis=key data-consent=wait></script>";
    let (before, came) = told_of(waits, "cadentis.push(['consent', true])").await;
    assert_eq!((before, came.count() > 0), (0, true), "until the visitor agrees");
    let control = "<!doctype html><h1>Timetable</h1><script>Object.defineProperty(navigator, 'globalPrivacyControl', { value: true })</script>
        <script src='/snippet.js' data-cadentis=key></script>";
    assert_eq!(told_of(control, "location.href = '/next'").await.1.count(), 0);
    let none = "<!doctype html><h1>Timetable</h1><script src='/snippet.js' data-cadentis=key data-sample=0></script>";
    assert_eq!(told_of(none, "location.href = '/next'").await.1.count(), 0);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn those_who_leave_early_those_who_see_nothing_and_modules_are_told_too() {
    // The page leaves by itself: a driver would wait until it has loaded.
    let early =
        "<!doctype html><h1>Timetable</h1><script src='/snippet.js' data-cadentis=key></script>
        <script>setTimeout(() => { location.href = '/next' }, 1500)</script><img src='/slow.png'>";
    let left = told_of(early, "return 1").await.1.last("who left", |b| b.abandoned).await;
    assert!(left.load.is_none() && !left.blank && left.fcp.is_some(), "{left:?}");
    let nothing = "<!doctype html><script src='/snippet.js' data-cadentis=key></script>";
    let blank = told_of(nothing, "location.href = '/next'")
        .await
        .1
        .last("who saw nothing", |b| b.blank)
        .await;
    assert!(blank.fcp.is_none() && blank.lcp.is_none(), "{blank:?}");
    let module = "<!doctype html><h1>Timetable</h1><script type=module>import { start } from '/snippet.mjs';
        const visit = start({ site: 'key', server: location.origin }); visit.attribute('plan', 'gold'); visit.action('look');</script>";
    let told =
        told_of(module, "location.href = '/next'").await.1.last("the module", |b| b.seq > 0).await;
    assert_eq!(
        (told.more.attributes["plan"].as_str(), told.more.happened[0].name.as_str()),
        ("gold", "look")
    );
}
