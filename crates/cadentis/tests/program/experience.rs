//! Goals over page views: what visitors saw is promised, tried, judged and told as what runs saw is.

use crate::server::{Served, get, post_form as post, server};
use crate::serving::beacons::{BROWSER, OWN, beacon, send};
use crate::serving::{self, program};
use cadentis_core::access::Scope;
use cadentis_core::calendar::{Maintenance, Stretch};
use jiff::{SignedDuration, Timestamp};
use serde_json::{Value, json};
use uuid::Uuid;

/// Page views of two families by two devices over five hours, the older half quick.
async fn views(s: &Served, many: usize) {
    let now = Timestamp::now().as_millisecond();
    for nth in 0..many {
        let mut view = beacon(Uuid::new_v4());
        let ago = (5 * 3_600 - nth * 5 * 3_600 / many) as i64 * 1_000;
        view["at"] = json!(now - ago);
        view["device"] = json!(if nth % 3 == 0 { "desktop" } else { "phone" });
        view["url"] = json!(format!("{OWN}/{}", if nth % 2 == 0 { "sailings" } else { "book" }));
        view["lcp"] = json!(if nth * 2 < many { 1_000 } else { 2_400 + nth % 5 * 50 });
        let (status, says) = send(&s.server.address, "key", view.to_string(), OWN, BROWSER).await;
        assert_eq!(status, 204, "{says}");
    }
}

const SHARE: &str = "share of LCP within 2.5 s for device \"phone\"";

#[tokio::test]
async fn a_share_of_page_views_is_promised_and_what_is_told_of_it_is_what_the_exported_ones_count_to()
 {
    let s = server().await;
    views(&s, 60).await;
    let token = async |scopes: &[Scope]| program(&serving::token(&s.db, 1, scopes).await);
    let (reads, writes) = (token(&[Scope::Read]).await, token(&[Scope::Write]).await);
    let at = |path: &str| format!("{}/api/v1/sites/marram-ferries/{path}", s.server.address);
    let ask = async |request: reqwest::RequestBuilder| {
        let answer = request.send().await.expect("an answer");
        let status = answer.status().as_u16();
        (status, answer.json::<Value>().await.unwrap_or_default())
    };
    // Counted from what is exported, by nobody who judges goals.
    let out = Stretch {
        from: Timestamp::now() - SignedDuration::from_mins(100),
        to: Timestamp::now() - SignedDuration::from_mins(40),
    };
    let out = Stretch { from: whole_minute(out.from), to: whole_minute(out.to) };
    s.db.plan(1, &Maintenance::once(out, "Database moved"), "", "").await.expect("kept");
    let from = Timestamp::now() - SignedDuration::from_hours(12);
    let exported = reads.get(at(&format!("page-views?fields=at,lcp,device&from={from}")));
    let exported = exported.send().await.expect("an answer").text().await.expect("a text");
    let (mut good, mut bad, mut left_out) = (0, 0, 0);
    for line in exported.lines() {
        let view: Value = serde_json::from_str(line).expect("JSON");
        let moment: Timestamp = view["at"].as_str().expect("a text").parse().expect("a moment");
        match (view["device"].as_str(), view["lcp"].as_f64().expect("a number") <= 2_500.0) {
            (Some("phone"), _) if out.contains(moment) => left_out += 1,
            (Some("phone"), true) => good += 1,
            (Some("phone"), false) => bad += 1,
            _ => {}
        }
    }
    assert!(good > 20 && bad > 2 && left_out > 4, "{good} {bad} {left_out}");
    let asked = json!({"promised": 0.95, "measure": "experience", "share_of": SHARE, "period": "rolling", "days": 1});
    let (status, tried) = ask(reads.post(at("goals/try")).json(&asked)).await;
    let newest = &tried["periods"][0];
    assert_eq!(status, 200, "{tried}");
    assert_eq!(newest["good"], json!(good), "{newest}");
    assert_eq!((&newest["bad"], &newest["left_out"]), (&json!(bad), &json!(left_out)), "{newest}");
    for (field, value) in [
        ("share_of", json!("p75 of LCP")),
        ("share_of", json!("share of LCP within")),
        ("journeys", json!(["book"])),
    ] {
        let mut wrong = asked.clone();
        wrong[field] = value;
        let (status, told) = ask(reads.post(at("goals/try")).json(&wrong)).await;
        assert_eq!((status, &told["errors"][0]["pointer"]), (422, &json!("/share_of")), "{told}");
    }
    let mut new = asked;
    new["name"] = json!("Seen in time");
    assert_eq!(ask(writes.post(at("goals")).json(&new)).await.0, 201);
    let listed = ask(reads.get(at("goals"))).await.1;
    let of = listed.as_array().expect("a list").iter().find(|g| g["name"] == "Seen in time");
    let of = of.expect("it is listed");
    assert_eq!((&of["good"], &of["share_of"]), (&json!(good), &json!(SHARE)), "{of}");
    // Its page tells what spent it: families, and hours.
    let page = get(&s, "/marram-ferries/goals").await.1;
    assert!(
        page.contains(&format!(
            "95.000 % over the last day; experience: {}",
            SHARE.replace('"', "&#34;")
        )),
        "{page}"
    );
    assert!(page.contains("By page family") && page.contains("beyond what may be"), "{page}");
    assert!(page.contains("samples outside service hours, in maintenance or carved out"), "{page}");
    assert!(page.contains("of the error budget left"), "not so much time: {page}");
    // What is in danger stands first, with whose page views it is.
    let now = get(&s, "/marram-ferries").await.1;
    let first = now.split("<li class=\"finding").find(|f| f.contains("Seen in time"));
    let first = first.unwrap_or_else(|| panic!("{now}"));
    assert!(
        first.contains("of the error budget; ") && first.contains("of what was bad is"),
        "{first}"
    );
}

fn whole_minute(at: Timestamp) -> Timestamp {
    Timestamp::from_second(at.as_second() / 60 * 60).expect("a moment")
}

#[tokio::test]
async fn an_experience_goal_is_made_on_the_page_and_what_was_chosen_of_runs_is_nothing_to_it() {
    let s = server().await;
    views(&s, 30).await;
    let fields = |share: &'static str| {
        [
            ("name", "Seen"),
            ("kind", "experience"),
            ("share", share),
            ("promised", "90"),
            ("period", "month"),
            ("journey", "book"),
            ("location", "bergen"),
            ("from_when", "beginning"),
        ]
    };
    let (status, _, wrong) = post(&s, "/marram-ferries/goals", &fields("p75 of LCP")).await;
    assert!(status == 422 && wrong.contains("“p75 of LCP” is none"), "{wrong}");
    assert!(wrong.contains("value=\"p75 of LCP\""), "nothing typed is lost: {wrong}");
    let (status, to, _) =
        post(&s, "/marram-ferries/goals", &fields("share of LCP within 2.5 s")).await;
    assert_eq!((status, to.as_str()), (303, "/marram-ferries/goals"));
    let kept = s.db.goals(1).await.expect("rows").pop().expect("the newest");
    let says = &kept.newest().definition;
    assert!(says.journeys.is_empty() && says.locations.is_empty(), "{says:?}");
    let change = get(&s, &format!("/marram-ferries/goals/{}/change", kept.id)).await.1;
    assert!(change.contains("value=\"share of LCP within 2.5 s\""), "{change}");
    assert!(
        change.contains("value=\"experience\" selected")
            || change.contains("value=\"experience\"\n selected"),
        "{change}"
    );
    // An alert on how fast it burns reads the same page views.
    let of = "error budget left for goal \"Seen\"";
    let asked = url::form_urlencoded::Serializer::new(String::new()).append_pair("of", of).finish();
    let (status, read) = get(&s, &format!("/marram-ferries/measures?{asked}")).await;
    assert!(status == 200 && !read.contains("field-wrong"), "{read}");
    let left = read.contains("no data");
    assert!(!left, "{read}");
}
