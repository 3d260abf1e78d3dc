//! Addresses that nobody of ours has written: every page of the route list, with what strangers put into addresses.

use crate::server::{get, play, post_form, server};
use crate::serving::beacons::{BROWSER, OWN, send};
use cadentis_core::run::Outcome;
use cadentis_web::routes::{Route, all};
use futures::StreamExt;
use jiff::Timestamp;
use serde_json::json;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;
use uuid::Uuid;

/// What pages read from their addresses, and names that none knows.
const PARAMETERS: [&str; 30] = [
    "from",
    "to",
    "against",
    "only",
    "by",
    "vital",
    "csv",
    "family",
    "page",
    "outcome",
    "location",
    "version",
    "longer",
    "previous",
    "status",
    "tag",
    "owner",
    "compare",
    "attribute",
    "view",
    "at",
    "person",
    "what",
    "who",
    "host",
    "step",
    "recorded",
    "find",
    "q",
    "nobody_knows",
];

const MARK: &str = "<img src=x onerror=alert(1)>";

fn hostile() -> Vec<String> {
    let mut all: Vec<String> = [
        "",
        "\0",
        "'",
        "\"",
        "-1",
        "0",
        "1e309",
        "NaN",
        "99999999999999999999999",
        "../../etc/passwd",
        "\u{202e}abc",
        "javascript:alert(1)",
        MARK,
        "{{7*7}}",
        "%",
        "a:b:c",
        "device:",
        ":",
        "9999-12-31T23:59Z",
        "-009999-01-01T00:00Z",
        "2026-02-30T00:00Z",
        "\r\nset-cookie: a=b",
        "family:\u{1f6a2}",
        "0001-01-01T00:00Z",
    ]
    .map(String::from)
    .into();
    all.push("9".repeat(3_000));
    all.push("é".repeat(700));
    all
}

/// The route's paths with what is there, and with what may stand in the place of each parameter.
fn paths(route: &Route, run: Uuid, view: Uuid, nth: usize) -> [String; 2] {
    let hostile = hostile();
    let stranger: String =
        url::form_urlencoded::byte_serialize(hostile[nth % hostile.len()].as_bytes()).collect();
    let fill = |stranger: Option<&str>| {
        let part = |part: &str| match part {
            p if !p.contains('{') => p.to_string(),
            // A stranger is tried as the name of a site, too, where nothing else can be.
            "{site}" if stranger.is_some() && route.path.matches('{').count() > 1 => {
                crate::serving::SLUG.into()
            }
            _ if stranger.is_some() => stranger.unwrap_or_default().to_string(),
            p if p.contains("{id}") && route.path.contains("visits") => view.to_string(),
            p if p.contains("{id}")
                && (route.path.contains("/runs/") || route.path.contains("{what")) =>
            {
                p.replace("{id}", &run.to_string())
            }
            // Everything else counts from 1.
            p if p.contains("{id}") => p.replace("{id}", "1"),
            "{site}" => crate::serving::SLUG.into(),
            p if p.contains("{slug}") && route.path.contains("/locations") => "bergen".into(),
            p if p.contains("{slug}") => "book".into(),
            p if p.starts_with("{what") => "runs".into(),
            _ => "1".into(),
        };
        route.path.split('/').map(part).collect::<Vec<_>>().join("/")
    };
    [fill(None), fill(Some(&stranger))]
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn no_address_makes_a_page_fail_or_say_back_what_a_stranger_wrote_as_markup() {
    let s = server().await;
    let run = play(&s, &[Outcome::Failed]).await[0];
    let view = Uuid::new_v4();
    let now = Timestamp::now().as_millisecond();
    let sent = json!({"id": view, "seq": 1, "at": now - 5_000, "sent": now, "visit": view, "device": "phone",
        "url": "http://book.marram.example/", "connection": "4g", "lcp": 1500.0});
    assert_eq!(send(&s.server.address, "key", sent.to_string(), OWN, BROWSER).await.0, 204);

    // One of each of what people keep, so that its pages are there.
    let base = format!("/{}", crate::serving::SLUG);
    let arranged = [
        ("name", "a"),
        ("span", "3600"),
        ("piece", "query"),
        ("of", "p75 of LCP by device"),
        ("piece", "goal"),
        ("of", "1"),
    ];
    let report = [("name", "a"), ("kind", "goals_full"), ("period", "week")];
    for (path, fields) in
        [("/views", &arranged[..]), ("/reports", &report[..]), ("/reports/1/issue", &[])]
    {
        let (status, _, says) = post_form(&s, &format!("{base}{path}"), fields).await;
        assert_eq!(status, 303, "{path}: {says}");
    }

    let hostile = hostile();
    let mut asked = Vec::new();
    for (nth, route) in all().iter().filter(|r| r.method == "GET").enumerate() {
        for path in paths(route, run, view, nth) {
            // Each parameter with two of the values; over all routes every parameter meets every value.
            for (at, name) in PARAMETERS.iter().enumerate() {
                for value in [
                    &hostile[(nth + at) % hostile.len()],
                    &hostile[(nth * 7 + at * 3) % hostile.len()],
                ] {
                    let query = url::form_urlencoded::Serializer::new(String::new())
                        .append_pair(name, value)
                        .finish();
                    asked.push(format!("{path}?{query}"));
                }
            }
            asked.push(format!("{path}?from=%ff&to=%00&only=%f0%9f%9a"));
            asked.push(format!("{path}?{}", "only=device:phone&".repeat(300)));
        }
    }
    let client = crate::serving::page_of_its_own();
    // Beside all other tests a page may be told once or twice to try again in a moment; what an address breaks stays broken.
    let again = AtomicUsize::new(0);
    let answers = futures::stream::iter(&asked).map(async |path| {
        let ask = async || {
            let answer = client.get(format!("{}{path}", s.server.address)).send().await;
            answer.unwrap_or_else(|e| panic!("{path}: {e:?}"))
        };
        let mut answer = ask().await;
        if answer.status().as_u16() == 503 && again.fetch_add(1, Ordering::Relaxed) < 2 {
            tokio::time::sleep(Duration::from_secs(2)).await;
            answer = ask().await;
        }
        assert!(answer.headers().get("set-cookie").is_none(), "{path}");
        (path, answer.status().as_u16(), answer.text().await.unwrap_or_default())
    });
    let mut answers = answers.buffer_unordered(8);
    let (mut told, mut shown) = (0, 0);
    while let Some((path, status, text)) = answers.next().await {
        assert!(
            status < 500,
            "{status} for {path}: {}",
            text.find("<main").map_or(&*text, |at| &text[at..])
        );
        assert!(
            !text.contains(MARK) && !text.contains("href=\"javascript:"),
            "{path} comes back as it was written"
        );
        told += usize::from(status == 400);
        shown += usize::from(status == 200);
    }
    assert!(told > 100, "wrong parameters are told, not passed over: {told}");
    assert!(
        shown > asked.len() / 3,
        "{shown} of {}: most pages are there, with what is wrong left out",
        asked.len()
    );
    assert_eq!(get(&s, "/healthz").await.0, 200, "it lives");
}
