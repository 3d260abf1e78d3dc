//! What programs are told of visitors, beside what the same page views come to when they are counted one by one.

use crate::serving::{self, beacons, program};
use crate::visitors::with_families;
use cadentis_core::access::Scope;
use jiff::{SignedDuration, Timestamp};
use serde_json::{Value, json};
use uuid::Uuid;

/// A page view as it was sent.
struct Sent {
    visit: u128,
    family: &'static str,
    device: &'static str,
    lcp: f64,
    is_abandoned: bool,
    /// What its request was answered.
    status: u16,
    has_error: bool,
}

/// Visits that search, half of them go on to a cabin, a third of those pay; every fourth is slow, on a phone.
fn sent() -> Vec<Sent> {
    let mut all = Vec::new();
    for visit in 0..24u128 {
        let is_slow = visit.is_multiple_of(4);
        let pages = match visit {
            v if v.is_multiple_of(6) => vec!["Sailings", "Cabin", "Pay"],
            v if v.is_multiple_of(2) => vec!["Sailings", "Cabin"],
            _ => vec!["Sailings"],
        };
        for (nth, family) in pages.into_iter().enumerate() {
            all.push(Sent {
                visit: visit + 1,
                family,
                device: if is_slow { "phone" } else { "desktop" },
                lcp: 900.0 + 40.0 * visit as f64 + if is_slow { 6_500.0 } else { 0.0 },
                is_abandoned: visit % 8 == 1,
                status: if visit.is_multiple_of(5) && nth == 0 { 503 } else { 200 },
                has_error: visit % 12 == 3,
            });
        }
    }
    all
}

async fn send(s: &beacons::Served, all: &[Sent]) {
    let now = Timestamp::now().as_millisecond();
    for (nth, one) in all.iter().enumerate() {
        let mut view = beacons::beacon(Uuid::from_u128(1_000 + nth as u128));
        view["visit"] = json!(Uuid::from_u128(one.visit));
        // In the order in which they are listed, all of the last half hour.
        view["at"] = json!(now - 1_500_000 + 20_000 * nth as i64);
        view["url"] = json!(format!("{}/{}", beacons::OWN, one.family.to_lowercase()));
        view["device"] = json!(one.device);
        view["lcp"] = json!(one.lcp);
        view["abandoned"] = json!(one.is_abandoned);
        let asked = json!({"what": "request", "at": 900, "method": "GET", "status": one.status,
            "name": format!("{}/api/sailings/{nth}", beacons::OWN), "ms": 50 + nth});
        let failed = json!({"what": "error", "at": 950, "name": "TypeError", "text": format!("no sailing {nth}")});
        view["happened"] = match one.has_error {
            true => json!([asked, failed]),
            false => json!([asked]),
        };
        view["errors"] = json!(u64::from(one.has_error));
        let text = view.to_string();
        let (status, says) =
            beacons::send(&s.server.address, "key", text, beacons::OWN, beacons::BROWSER).await;
        assert_eq!(status, 204, "{says}");
    }
}

/// The value that so many of a hundred do not exceed, by nearest rank.
fn percentile(values: impl IntoIterator<Item = f64>, p: f64) -> f64 {
    let mut all: Vec<f64> = values.into_iter().collect();
    all.sort_by(f64::total_cmp);
    all[((p * all.len() as f64).ceil() as usize).max(1) - 1]
}

/// What page views come to, as the shape has it.
fn holds(told: &Value, some: &[&Sent], t_ms: f64) {
    let count = |fits: &dyn Fn(&Sent) -> bool| some.iter().filter(|v| fits(v)).count();
    let share = |fits: &dyn Fn(&Sent) -> bool| count(fits) as f64 / some.len() as f64;
    assert_eq!(told["page_views"], json!(some.len()), "{told}");
    let lcp = &told["lcp"];
    let p75 = percentile(some.iter().map(|v| v.lcp), 0.75);
    assert_eq!((&lcp["p75"]["value"], &lcp["p75"]["samples"]), (&json!(p75), &json!(some.len())));
    // web.dev, "Largest Contentful Paint": good up to 2.5 s, poor above 4 s.
    let near = |told: &Value, is: f64| (told.as_f64().expect("a number") - is).abs() < 1e-9;
    assert!(near(&lcp["good"], share(&|v| v.lcp <= 2_500.0)), "{lcp}");
    assert!(near(&lcp["poor"], share(&|v| v.lcp > 4_000.0)), "{lcp}");
    assert!(near(&told["abandoned"], share(&|v| v.is_abandoned)), "{told}");
    assert!(near(&told["with_errors"], share(&|v| v.has_error)), "{told}");
    let apdex = &told["apdex"];
    let satisfied = count(&|v| v.lcp <= t_ms);
    let tolerating = count(&|v| v.lcp > t_ms && v.lcp <= 4.0 * t_ms);
    assert_eq!(apdex["satisfied"], json!(satisfied), "{apdex}");
    assert_eq!(apdex["tolerating"], json!(tolerating), "{apdex}");
    assert_eq!(apdex["frustrated"], json!(some.len() - satisfied - tolerating), "{apdex}");
    let score = (satisfied as f64 + tolerating as f64 / 2.0) / some.len() as f64;
    assert!(near(&apdex["score"], score), "{apdex}");
}

#[tokio::test]
async fn programs_are_told_of_visitors_what_their_page_views_come_to_one_by_one() {
    let s = beacons::server().await;
    with_families(&s.db).await;
    let all = sent();
    send(&s, &all).await;
    let token = serving::token(&s.db, 1, &[Scope::Read]).await;
    let reads = program(&token);
    let from = Timestamp::now() - SignedDuration::from_hours(2);
    let ask = async |what: &str, more: &str| -> (u16, Value) {
        let address = &s.server.address;
        let at = format!("{address}/api/v1/sites/marram-ferries/{what}?from={from}{more}");
        let answer = reads.get(at).send().await.expect("an answer");
        (answer.status().as_u16(), answer.json().await.expect("JSON"))
    };
    // All of them, and those on phones.
    let (status, visitors) = ask("visitors", "").await;
    assert_eq!((status, &visitors["visits"]), (200, &json!(24)), "{visitors}");
    holds(&visitors["all"], &all.iter().collect::<Vec<_>>(), 1_500.0);
    let (_, phones) = ask("visitors", "&only=device:phone").await;
    let on_phones: Vec<&Sent> = all.iter().filter(|v| v.device == "phone").collect();
    holds(&phones["all"], &on_phones, 1_500.0);
    // By family, the one with most page views first.
    let (_, families) = ask("families", "").await;
    let names: Vec<&str> =
        families.as_array().expect("a list").iter().filter_map(|f| f["family"].as_str()).collect();
    assert_eq!(names, ["Sailings", "Cabin", "Pay"]);
    for (nth, name) in names.iter().enumerate() {
        let of: Vec<&Sent> = all.iter().filter(|v| v.family == *name).collect();
        holds(&families[nth]["views"], &of, 1_500.0);
    }
    // Requests are one family whatever number they ask for; what failed is the back end's doing unless a gateway says so.
    let (_, requests) = ask("requests", "").await;
    let one = &requests[0];
    assert_eq!(one["name"], json!("GET book.marram.example/api/sailings/‹n›"), "{requests}");
    let failed: Vec<&Sent> = all.iter().filter(|v| v.status == 503).collect();
    assert_eq!((&one["count"], &one["failed"]), (&json!(all.len()), &json!(failed.len())));
    assert_eq!(one["failed_visits"], json!(failed.len()), "each in a visit of its own");
    let by = one["failed_by"].as_object().expect("an object");
    assert_eq!(by.values().filter_map(Value::as_u64).sum::<u64>(), failed.len() as u64, "{one}");
    let took = (0..all.len()).map(|nth| 50.0 + nth as f64);
    assert_eq!(one["p75_ms"]["value"], json!(percentile(took, 0.75)), "{one}");
    // Errors of one kind, whatever number they tell of.
    let (_, errors) = ask("errors", "").await;
    let erring: Vec<&Sent> = all.iter().filter(|v| v.has_error).collect();
    let kind = errors["kinds"].as_array().expect("a list").iter().find(|k| k["what"] == "error");
    let kind = kind.unwrap_or_else(|| panic!("{errors}"));
    assert_eq!(kind["count"], json!(erring.len()), "{errors}");
    let visits: std::collections::BTreeSet<u128> = erring.iter().map(|v| v.visit).collect();
    assert_eq!(
        (&kind["visits"], &errors["cut"]),
        (&json!(visits.len()), &json!(false)),
        "{errors}"
    );
    assert!(kind["first"].as_str() < kind["last"].as_str(), "{kind}");
    // A funnel: who came so far.
    let steps = [
        ("name", "Buy"),
        ("step1", "Sailings"),
        ("step2", "Cabin"),
        ("step3", "Pay"),
        ("minutes", "30"),
    ];
    let saved = crate::visitors::post(&s, "/marram-ferries/visitors/funnels", &steps).await;
    assert_eq!(saved.0, 303, "{}", saved.1);
    let (_, funnels) = ask("funnels", "").await;
    let funnel = &funnels[0];
    assert_eq!((&funnel["began"], &funnel["completed"]), (&json!(24), &json!(4)), "{funnel}");
    let reached: Vec<&Value> =
        funnel["steps"].as_array().expect("a list").iter().map(|s| &s["reached"]).collect();
    assert_eq!(reached, [&json!(24), &json!(12), &json!(4)]);
    let lost: Vec<&Value> =
        funnel["steps"].as_array().expect("a list").iter().map(|s| &s["lost"]).collect();
    assert_eq!(lost[..2], [&json!(12), &json!(8)]);
    // Each page view by itself, told apart by what was asked of it.
    let (status, wrong) = ask("page-views", "&fields=lcp,colour").await;
    assert_eq!((status, &wrong["errors"][0]["pointer"]), (400, &json!("?fields")), "{wrong}");
    for what in ["visitors", "families", "requests", "errors", "funnels"] {
        let (status, wrong) = ask(what, "&only=colour").await;
        assert_eq!(status, 400, "{what}: {wrong}");
        let (status, wrong) = ask(what, "&colour=red").await;
        assert_eq!(status, 400, "{what}: {wrong}");
    }
}
