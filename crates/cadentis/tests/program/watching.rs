//! Alerts that are offered beside what is shown: each is one that can be kept as it stands.

use crate::alerts::{begin, played, watched};
use crate::server::{get, play, post_form, server};
use crate::serving;
use crate::serving::beacons::{BROWSER, OWN, beacon, send};
use crate::visitors::with_families;
use cadentis_answers::compute::Compute;
use cadentis_answers::{Answers, watch};
use cadentis_core::access::Role;
use cadentis_core::calendar::Stretch;
use cadentis_core::run::Outcome;
use cadentis_store::person::Given;
use jiff::{SignedDuration, Timestamp};
use serde_json::json;
use std::collections::BTreeSet;
use std::time::Duration;
use uuid::Uuid;

/// What the links say that stand beside something to watch it.
fn offered(page: &str) -> Vec<String> {
    let links = page.split("class=\"watch\"").skip(1);
    let address = |rest: &str| {
        let address = rest.split("href=\"").nth(1)?.split('"').next()?;
        Some(address.replace("&#38;", "&").replace("&amp;", "&"))
    };
    links.filter_map(address).collect()
}

#[tokio::test]
async fn what_is_offered_to_be_watched_beside_anything_that_is_shown_is_kept_as_it_stands() {
    let s = server().await;
    with_families(&s.db).await;
    let mut played = vec![Outcome::Passed; 4];
    played.push(Outcome::Failed);
    let ids = play(&s, &played).await;
    let now = Timestamp::now().as_millisecond();
    for (nth, path) in ["/sailings", "/cabin", "/pay", "/sailings"].into_iter().enumerate() {
        let mut view = beacon(Uuid::new_v4());
        let visit = Uuid::from_u128(7 + nth as u128 / 3);
        (view["visit"], view["at"]) = (json!(visit), json!(now - 60_000 * (5 - nth as i64)));
        view["url"] = json!(format!("{OWN}{path}"));
        view["happened"] = json!([
            {"what": "action", "at": 800, "name": "find \"quickly\""},
            {"what": "request", "at": 900, "method": "GET", "status": 503, "name": format!("{OWN}/api/sailings"), "ms": 80},
            {"what": "error", "at": 950, "name": "TypeError", "text": "x is not a function"},
        ]);
        let sent = send(&s.server.address, "key", view.to_string(), OWN, BROWSER).await;
        assert_eq!(sent.0, 204, "{}", sent.1);
    }
    let form = |path: &'static str, fields: &'static [(&str, &str)]| {
        let s = &s;
        async move { assert_eq!(post_form(s, path, fields).await.0, 303, "{path}") }
    };
    let funnel = &[("name", "Buy"), ("step1", "Sailings"), ("step2", "Pay"), ("minutes", "60")];
    form("/marram-ferries/visitors/funnels", funnel).await;
    let says = &[("slug", "payment-gateway"), ("state", "degraded"), ("minutes", "60")];
    form("/marram-ferries/dependencies", says).await;
    let limit = &[("measure", "mean of LCP"), ("was", ""), ("limit", "2 s")];
    form("/marram-ferries/budgets/measured", limit).await;

    // Of each page one that must be among them.
    let run = format!("/runs/{}", ids[4]);
    let pages = [
        ("/visitors", "p75 of LCP for family \"Sailings\""),
        ("/visitors?vital=CLS", "p75 of CLS"),
        ("/visitors/actions", "share of actions failed for action \"find \\\"quickly\\\"\""),
        ("/visitors/funnels", "silence of page views for family \"Pay\""),
        ("/visitors/requests", "share of requests failed for request"),
        ("/visitors/errors", "count of errors for error"),
        ("/locations/bergen", "availability for journey \"book\" and location \"bergen\""),
        ("/locations/bergen", "silence of runs for location \"bergen\""),
        ("/journeys/book", "p75 of step duration for journey \"book\" and step \"Open\""),
        (run.as_str(), "p75 of step duration for journey \"book\" and step \"Open\""),
        ("/goals", "burn rate over 1 h and 5 min for goal \"Bookable\""),
        ("/dependencies", "state for dependency \"payment-gateway\""),
    ];
    let mut kept = BTreeSet::new();
    for (path, wanted) in pages {
        let (status, page) = get(&s, &format!("/marram-ferries{path}")).await;
        assert_eq!(status, 200, "{path}");
        let all = offered(&page);
        let fields = |link: &String| -> Vec<(String, String)> {
            let query = link.split_once('?').map_or("", |(_, query)| query);
            url::form_urlencoded::parse(query.as_bytes()).into_owned().collect()
        };
        let measures = |link: &String| fields(link).into_iter().find(|(name, _)| name == "measure");
        let told: Vec<String> = all.iter().filter_map(measures).map(|(_, m)| m).collect();
        assert!(told.iter().any(|m| m.starts_with(wanted)), "{path}: {wanted} in {told:?}");
        for link in &all {
            let (status, filled) = get(&s, link).await;
            assert_eq!(status, 200, "{link}");
            assert!(!filled.contains("field-wrong"), "{path}: {link}: {filled}");
            if !kept.insert(link.clone()) {
                continue;
            }
            // As the form has it, with a name.
            let name = format!("Offered {}", kept.len());
            let given = fields(link);
            let besides = [("name", name.as_str()), ("deed", "save")];
            let given = given.iter().map(|(n, v)| (n.as_str(), v.as_str()));
            let given: Vec<(&str, &str)> = given.chain(besides).collect();
            let (status, _, says) = post_form(&s, "/marram-ferries/alerts", &given).await;
            assert_eq!(status, 303, "{path}: {link}: {says}");
        }
    }
    assert_eq!(s.db.alerts(1).await.expect("rows").len(), kept.len());
    // Whoever only reads is offered none.
    let session = "5e55104000000000000000000000000000000000000000000000000000000077";
    let roles = vec![(1, Role::Reader)];
    let reads = Given { is_administrator: false, sees_people: false, roles };
    serving::sign_in(&s.db, "Eva", reads, session).await;
    let reader = serving::signed_in_as(session);
    for (path, _) in pages {
        let answer = reader.get(format!("{}/marram-ferries{path}", s.server.address));
        let page = answer.send().await.expect("an answer").text().await.expect("a text");
        assert_eq!(offered(&page), Vec::<String>::new(), "{path}");
    }
}

#[tokio::test]
async fn what_an_incident_looked_like_when_it_was_noticed_stays_beside_what_it_is_now() {
    let s = server().await;
    let from = begin(300);
    let outcomes = |failed: std::ops::Range<i32>, all: i32| {
        let outcome = |nth| if failed.contains(&nth) { Outcome::Failed } else { Outcome::Passed };
        (0..all).map(outcome).collect::<Vec<_>>()
    };
    played(&s, from, &outcomes(12..15, 15)).await;
    watched(&s, from).await;
    let compute = Compute::start(1, 16, Duration::from_secs(30)).expect("threads");
    let answers = Answers::new(s.db.clone(), compute);
    let noticed = from + SignedDuration::from_mins(75);
    watch::turn(&answers, noticed).await.expect("watched");
    let day = Stretch { from, to: Timestamp::now() };
    let kept = async || s.db.incidents(1, day).await.expect("rows").remove(0);
    let opening = kept().await.at_opening.expect("it was looked at");
    assert_eq!((opening.at, opening.places, opening.page_views), (noticed, (1, 1), Some(0)));
    assert_eq!(
        opening.left.iter().map(|(goal, _)| goal.as_str()).collect::<Vec<_>>(),
        ["Bookable"]
    );
    // It goes on, and takes more of what may fail; how it began is told as it was.
    let later = from + SignedDuration::from_mins(75);
    played(&s, later, &outcomes(0..6, 6)).await;
    watch::turn(&answers, from + SignedDuration::from_mins(105)).await.expect("watched");
    let now = kept().await;
    assert_eq!((now.cleared_at, now.at_opening.as_ref()), (None, Some(&opening)));
    let page = get(&s, &format!("/marram-ferries/incidents/{}", now.id)).await.1;
    let left = format!("{:.1} % of the error budget of “Bookable” left", opening.left[0].1 * 100.0);
    assert!(page.contains("When it was noticed, ") && page.contains(&left), "{left}: {page}");
    assert!(page.contains("1 of 1 locations had it, 0 page views"), "{page}");
    let address = format!("/marram-ferries/incidents/{}/markdown", now.id);
    let written = get(&s, &address).await.1;
    assert!(written.contains("When it was noticed, "), "{written}");
}
