//! Dependencies: states and announcements by the API, by CloudEvents and by hand; on Now, on their page, and expired.

use crate::server::{Served, get, play, post_form as post, server};
use crate::serving::{self, program};
use cadentis_core::access::Scope;
use cadentis_core::run::Outcome;
use jiff::{SignedDuration, Timestamp};
use serde_json::{Value, json};
use sha2::{Digest, Sha256};
use uuid::Uuid;

const API: &str = "/api/v1/sites/marram-ferries";

async fn token(s: &Served, scopes: &[Scope]) -> reqwest::Client {
    let token = format!("{}{}", Uuid::new_v4().simple(), Uuid::new_v4().simple());
    let hash = Sha256::digest(token.as_bytes());
    s.db.add_api_token(&hash, 1, "gateway", scopes, "Ada", 1).await.expect("a token");
    program(&token)
}

/// What is answered to a body of this type, with more headers.
async fn send(
    s: &Served,
    client: &reqwest::Client,
    path: &str,
    (kind, headers): (&str, &[(&str, &str)]),
    body: String,
) -> (u16, Value) {
    let mut request = client.post(format!("{}{API}/{path}", s.server.address));
    request = request.header("content-type", kind).body(body);
    for (name, value) in headers {
        request = request.header(*name, *value);
    }
    let answer = request.send().await.expect("an answer");
    let status = answer.status().as_u16();
    let text = answer.text().await.expect("a text");
    (status, serde_json::from_str(&text).expect("JSON"))
}

#[tokio::test]
async fn a_state_that_is_posted_stands_on_now_until_it_is_well_again_or_expires() {
    let s = server().await;
    play(&s, &[Outcome::Passed]).await;
    let posts = token(&s, &[Scope::Markers]).await;
    let reads = token(&s, &[Scope::Read]).await;
    let json_kind = ("application/json", &[][..]);
    let say = async |client: &reqwest::Client, slug: &str, body: Value| {
        send(&s, client, &format!("dependencies/{slug}/state"), json_kind, body.to_string()).await
    };
    let down = json!({"state": "down", "name": "Payment <b> gateway", "says": "Card payments fail", "minutes": 30});
    assert_eq!(say(&reads, "payment-gateway", down.clone()).await.0, 403);
    assert_eq!(say(&posts, "payment-gateway", down.clone()).await, (200, json!({"taken": true})));
    let now = get(&s, "/marram-ferries").await.1;
    assert!(
        now.contains("“Payment &#60;b&#62; gateway” says down since")
            && now.contains(": Card payments fail"),
        "{now}"
    );
    let page = get(&s, "/marram-ferries/dependencies").await.1;
    assert!(page.contains("says down for") && page.contains("class=\"said broken\""), "{page}");
    // The same again is good for longer, and no second line anywhere.
    let again = json!({"state": "down", "says": "Card payments fail", "minutes": 90});
    assert_eq!(say(&posts, "payment-gateway", again).await.0, 200);
    let day = cadentis_core::calendar::Stretch::last(
        86_400,
        Timestamp::now() + SignedDuration::from_mins(1),
    );
    let kept = s.db.states(1, day).await.expect("rows");
    assert_eq!(kept.len(), 1);
    assert!(kept[0].1.expires_at.duration_since(kept[0].1.at) >= SignedDuration::from_mins(89));
    let told = s.db.done(9).await.expect("rows");
    assert_eq!(told.iter().filter(|d| d.what.starts_with("posted a state")).count(), 1);
    // It has a lane beside what was played, on Now and on the journey.
    for path in ["/marram-ferries", "/marram-ferries/journeys/book"] {
        assert!(get(&s, path).await.1.contains("class=\"said broken\""), "{path}");
    }
    let listed = reads.get(format!("{}{API}/dependencies", s.server.address)).send().await;
    let listed: Value = listed.expect("an answer").json().await.expect("JSON");
    assert_eq!(
        (&listed[0]["slug"], &listed[0]["state"]),
        (&json!("payment-gateway"), &json!("down"))
    );
    for (body, pointer) in [
        (json!({"state": "down", "minutes": 0}), "/minutes"),
        (json!({"state": "down", "minutes": 10_081}), "/minutes"),
        (json!({"state": "down", "link": "javascript:alert(1)"}), "/link"),
    ] {
        let (status, told) = say(&posts, "payment-gateway", body).await;
        assert_eq!((status, &told["errors"][0]["pointer"]), (422, &json!(pointer)), "{told}");
    }
    assert_eq!(say(&posts, "payment-gateway", json!({"state": "bad"})).await.0, 400);
    assert_eq!(say(&posts, "Payment_Gateway", json!({"state": "ok"})).await.0, 404);
    assert_eq!(say(&posts, "payment-gateway", json!({"state": "ok"})).await.0, 200);
    assert!(!get(&s, "/marram-ferries").await.1.contains("Said by others"));
    // What expired is unknown, and no longer said on Now.
    let id = s.db.dependencies(1).await.expect("rows")[0].id;
    let old = Timestamp::now() - SignedDuration::from_hours(2);
    let post_of = |at: Timestamp, minutes| cadentis_core::dependency::Post {
        at,
        state: cadentis_core::dependency::State::Degraded,
        says: String::new(),
        link: String::new(),
        expires_at: at + SignedDuration::from_mins(minutes),
        author: "x".into(),
    };
    let other = s.db.put_dependency(1, "map-tiles", Some("Map tiles")).await.expect("made");
    s.db.post_state(other, &post_of(old, 60)).await.expect("kept");
    assert!(!get(&s, "/marram-ferries").await.1.contains("“Map tiles” says"));
    s.db.post_state(other, &post_of(old + SignedDuration::from_mins(1), 600)).await.expect("kept");
    assert!(get(&s, "/marram-ferries").await.1.contains("“Map tiles” says degraded since"));
    assert!(id != other);
}

#[tokio::test]
async fn events_are_taken_once_in_both_modes_and_an_announcement_moves_and_is_called_off() {
    let s = server().await;
    play(&s, &[Outcome::Passed]).await;
    let posts = token(&s, &[Scope::Markers]).await;
    let cloud = ("application/cloudevents+json", &[][..]);
    let event = |id: &str, kind: &str, data: Value| json!({"specversion": "1.0", "id": id, "source": "/status", "type": kind, "subject": "payment-gateway", "data": data});
    let send_it = async |body: &Value| send(&s, &posts, "events", cloud, body.to_string()).await;
    let degraded =
        event("1", "cadentis.dependency.state", json!({"state": "degraded", "says": "Slow"}));
    assert_eq!(send_it(&degraded).await, (200, json!({"taken": true})));
    assert_eq!(send_it(&degraded).await, (200, json!({"taken": false})), "the same again");
    // Binary mode: attributes are headers, the body is the data.
    let headers = [
        ("ce-specversion", "1.0"),
        ("ce-id", "2"),
        ("ce-source", "/status"),
        ("ce-type", "cadentis.dependency.state"),
        ("ce-subject", "payment-gateway"),
    ];
    let binary = send(
        &s,
        &posts,
        "events",
        ("application/json", &headers),
        json!({"state": "ok"}).to_string(),
    )
    .await;
    assert_eq!(binary, (200, json!({"taken": true})));
    assert!(!get(&s, "/marram-ferries").await.1.contains("“payment-gateway” says"));
    let hour = |n: i64| (Timestamp::now() + SignedDuration::from_hours(n)).to_string();
    let work = |id: &str, phase: &str, from: i64| {
        let data = json!({"id": "w1", "kind": "planned", "phase": phase, "title": "Cards <i> renewed", "from": hour(from), "to": hour(from + 2)});
        event(id, "cadentis.announcement", data)
    };
    assert_eq!(send_it(&work("3", "announced", 10)).await.0, 200);
    let now = get(&s, "/marram-ferries").await.1;
    assert!(
        now.contains("announces planned work from") && now.contains("Cards &#60;i&#62; renewed"),
        "{now}"
    );
    assert_eq!(send_it(&work("4", "moved", 90)).await.0, 200);
    assert!(
        !get(&s, "/marram-ferries").await.1.contains("announces planned work"),
        "not within a day"
    );
    assert_eq!(send_it(&work("5", "started", -1)).await.0, 200);
    assert!(get(&s, "/marram-ferries").await.1.contains("has planned work now until"));
    let page = get(&s, "/marram-ferries/dependencies").await.1;
    assert!(page.contains("started") && page.contains("<b>now</b>"), "{page}");
    assert_eq!(send_it(&work("6", "cancelled", -1)).await.0, 200);
    assert!(!get(&s, "/marram-ferries").await.1.contains("has planned work"));
    let mut wrong = degraded.clone();
    for (field, value, pointer) in [
        ("specversion", json!("0.3"), "/specversion"),
        ("id", json!(""), "/id"),
        ("type", json!("com.example.other"), "/type"),
        ("subject", json!("Not A Slug"), "/subject"),
        ("time", json!("9999-01-01T00:00:00Z"), "/time"),
        ("data", json!({"state": "bad"}), "/data"),
    ] {
        wrong[field] = value;
        let (status, told) = send_it(&wrong).await;
        assert_eq!((status, &told["errors"][0]["pointer"]), (422, &json!(pointer)), "{told}");
        wrong = event("9", "cadentis.dependency.state", json!({"state": "ok"}));
    }
    let ends = json!({"id": "w2", "kind": "planned", "phase": "announced", "title": "x", "from": hour(2), "to": hour(1)});
    let told = send_it(&event("10", "cadentis.announcement", ends)).await;
    assert_eq!((told.0, &told.1["errors"][0]["pointer"]), (422, &json!("/data/from")));
    assert_eq!(send(&s, &posts, "events", ("text/plain", &[]), "x".into()).await.0, 415);
    assert_eq!(send(&s, &posts, "events", cloud, "{".into()).await.0, 400);
}

#[tokio::test]
async fn an_editor_says_by_hand_how_a_dependency_is_and_deletes_it() {
    let s = server().await;
    let page = "/marram-ferries/dependencies";
    assert!(get(&s, page).await.1.contains("Nobody has said anything"));
    let fields = [
        ("slug", "map-tiles"),
        ("name", "Map tiles"),
        ("state", "down"),
        ("minutes", "45"),
        ("says", "Black"),
    ];
    assert_eq!(post(&s, page, &fields).await.0, 303);
    let shown = get(&s, page).await.1;
    assert!(
        shown.contains("“Map tiles” says down")
            && shown.contains("Black")
            && shown.contains(">Ada<"),
        "{shown}"
    );
    for (field, value, says) in [
        ("slug", "Map Tiles", "small letters, digits and single hyphens"),
        ("minutes", "soon", "a number of minutes"),
        ("minutes", "99999", "1 to 10080 minutes"),
        ("state", "fine", "ok, degraded, down or unknown"),
    ] {
        let mut wrong = fields.to_vec();
        wrong.retain(|(n, _)| *n != field);
        wrong.push((field, value));
        let (status, _, shown) = post(&s, page, &wrong).await;
        assert!(
            status == 422 && shown.contains(says) && shown.contains("value=\"Black\""),
            "{says}: {shown}"
        );
    }
    serving::another_site(&s.db).await;
    assert_eq!(post(&s, "/freight/dependencies/map-tiles/remove", &[]).await.0, 404);
    assert_eq!(post(&s, &format!("{page}/map-tiles/remove"), &[]).await.0, 303);
    assert_eq!(post(&s, &format!("{page}/map-tiles/remove"), &[]).await.0, 404);
    assert!(s.db.dependencies(1).await.expect("rows").is_empty());
}
