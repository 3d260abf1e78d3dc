//! Dependencies: states and announcements by the API, by CloudEvents and by hand; on Now, on their page, and expired.

use crate::server::{Served, get, play, post_form as post, server};
use crate::serving::beacons::{BROWSER, OWN, send as send_beacons};
use crate::serving::{self, program};
use crate::visitors::view;
use cadentis_answers::compute::Compute;
use cadentis_answers::{Answers, watch};
use cadentis_core::access::Scope;
use cadentis_core::alert::notice::{Kind as Way, Step};
use cadentis_core::alert::{Definition, NoData, Rule, Severity};
use cadentis_core::calendar::Stretch;
use cadentis_core::dependency::{Announcement, Kind, Phase, Post, State};
use cadentis_core::run::Outcome;
use cadentis_store::alert::Says;
use cadentis_store::notice::Tells;
use jiff::{SignedDuration, Timestamp};
use serde_json::{Value, json};
use sha2::{Digest, Sha256};
use std::time::Duration;
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
    what_pages_see_of_it_stands_beside_what_it_says(&s).await;
    serving::another_site(&s.db).await;
    assert_eq!(post(&s, "/freight/dependencies/map-tiles/remove", &[]).await.0, 404);
    assert_eq!(
        post(&s, "/freight/dependencies/map-tiles/hosts", &[("hosts", "a.example")]).await.0,
        404
    );
    assert_eq!(post(&s, &format!("{page}/map-tiles/remove"), &[]).await.0, 303);
    assert_eq!(post(&s, &format!("{page}/map-tiles/remove"), &[]).await.0, 404);
    assert!(s.db.dependencies(1).await.expect("rows").is_empty());
}

/// Of a dependency that says since a moment ago that it is down, to which an editor says which hosts are its own.
async fn what_pages_see_of_it_stands_beside_what_it_says(s: &Served) {
    let asked = |hours_ago: i64, status: u16, ms: u32| {
        let what = if status == 200 { "resource" } else { "request" };
        let happened = json!([
            { "what": what, "at": 90, "method": "GET", "status": status, "ms": ms, "name": "http://maps.example/v2/a" },
            { "what": "request", "at": 95, "method": "GET", "status": 503, "ms": 9, "name": "http://other.example/b" },
        ]);
        view(Uuid::new_v4(), hours_ago * 60, "/sailings", json!({ "happened": happened }))
    };
    let state =
        s.db.states(1, Stretch::last(86_400, Timestamp::now() + SignedDuration::from_secs(9)));
    let (id, mut down) = state.await.expect("rows").remove(0);
    (down.at, down.author) = (Timestamp::now() - SignedDuration::from_hours(5), "x".into());
    s.db.post_state(id, &down).await.expect("posted");
    down.at = Timestamp::now() - SignedDuration::from_hours(9);
    down.state = State::Ok;
    s.db.post_state(id, &down).await.expect("posted");
    let views =
        json!([asked(1, 503, 2_000), asked(2, 200, 2_000), asked(6, 200, 300), asked(7, 200, 300)]);
    let taken = send_beacons(&s.server.address, "key", views.to_string(), OWN, BROWSER).await;
    assert_eq!(taken.0, 204, "{}", taken.1);
    let page = "/marram-ferries/dependencies";
    let hosts =
        async |given: &str| post(s, &format!("{page}/map-tiles/hosts"), &[("hosts", given)]).await;
    let (status, _, shown) = hosts("https://maps.example").await;
    assert!(
        status == 422 && shown.contains("hosts are names alone")
            || shown.contains("Hosts are names alone"),
        "{shown}"
    );
    assert_eq!(hosts("Maps.example, tiles.example").await.0, 303);
    let told = s.db.done(1).await.expect("rows").remove(0);
    assert_eq!(
        (told.was.as_str(), told.became.as_str()),
        ("hosts: none", "hosts: maps.example, tiles.example")
    );
    let says = "in 5 h pages asked it 2 times: 50.0 % failed against 0.0 %, p75 2.00 s* against 0.30 s* the day before";
    let shown = get(s, page).await.1;
    assert!(shown.contains(says), "{shown}");
    // Earlier it had been so for less long.
    let to = Timestamp::now() - SignedDuration::from_hours(3);
    let from = to - SignedDuration::from_hours(4);
    let earlier = get(s, &format!("{page}?from={from}&to={to}")).await.1;
    assert!(earlier.contains("“Map tiles” says down for 2 h"), "{earlier}");
    let now = get(s, "/marram-ferries").await.1;
    assert!(now.contains("“Map tiles” says down since") && now.contains(says), "{now}");
    assert_eq!(hosts("").await.0, 303);
    assert!(!get(s, page).await.1.contains("pages asked it"));
}

#[tokio::test]
async fn what_a_supplier_announces_is_an_incident_while_it_goes_on_and_is_reminded_of_before_it_comes()
 {
    let s = server().await;
    let compute = Compute::start(1, 4, Duration::from_secs(30)).expect("threads");
    let answers = Answers::new(s.db.clone(), compute);
    let mail = ("Duty", Way::Mail, "duty@marram.example");
    let duty = s.db.add_destination(1, mail, None, "Ada").await.expect("kept").expect("new");
    let mail = ("Later", Way::Mail, "later@marram.example");
    let later = s.db.add_destination(1, mail, None, "Ada").await.expect("kept").expect("new");
    let step = |after_min, destination| Step {
        after_min,
        least: Severity::Warning,
        hours: None,
        destinations: vec![destination],
    };
    let steps = [step(0, duty), step(30, later)];
    s.db.put_call_list(1, ("Duty", &steps, true), "Ada").await.expect("kept");
    let now = Timestamp::from_second(Timestamp::now().as_second()).expect("a moment");
    let mins = SignedDuration::from_mins;
    let id = s.db.put_dependency(1, "map-tiles", Some("Map tiles")).await.expect("kept");
    let outage = |phase, from, to, title: &str| Announcement {
        subject: "o1".into(),
        kind: Kind::Outage,
        phase,
        title: title.into(),
        says: "Tiles come late".into(),
        link: String::new(),
        from,
        to,
    };
    let announce = async |a: &Announcement, at| {
        assert!(s.db.announce(id, a, at, "status page").await.expect("kept"));
    };
    let turn = async |at| watch::turn(&answers, at).await.expect("a turn");
    let incidents = async || {
        let whole = Stretch { from: now - mins(600), to: now + mins(6_000) };
        s.db.incidents(1, whole).await.expect("rows")
    };
    let told = async || {
        let all = s.db.newest_notices(1, 50).await.expect("rows");
        all.into_iter().rev().map(|n| (n.tells, n.destination)).collect::<Vec<_>>()
    };

    // Announced for later it is none yet; when it begins it is one, once, and whoever is on duty is told.
    announce(&outage(Phase::Announced, now + mins(10), None, "Tiles are slow"), now).await;
    turn(now).await;
    assert!(incidents().await.is_empty());
    for minute in [10, 10, 11] {
        turn(now + mins(minute)).await;
    }
    let [one] = incidents().await.try_into().expect("one");
    assert_eq!((one.title.as_str(), one.now), ("Tiles are slow", Some(Severity::Warning)));
    assert_eq!(one.about.to_string(), "dependency map-tiles");
    let both = [(Tells::Opened, "Duty".to_string()), (Tells::Opened, "Later".into())];
    assert_eq!(told().await, both);
    let waiting = s.db.newest_notices(1, 50).await.expect("rows");
    let first = waiting.iter().find(|n| n.destination == "Duty").expect("there");
    s.db.note_attempt(first, (true, "taken"), now + mins(11)).await.expect("kept");

    // What they say anew is noted there; an alert on the state of the same joins it, and leaves it open when it clears.
    announce(
        &outage(Phase::Started, now + mins(10), Some(now + mins(60)), "Tiles fail"),
        now + mins(12),
    )
    .await;
    turn(now + mins(12)).await;
    let events = s.db.events_of(one.id).await.expect("rows");
    let newest = events.last().expect("some");
    assert!(newest.says.contains("Tiles fail") && newest.author == "Map tiles", "{newest:?}");
    let says = Says {
        name: "Map supplier".into(),
        definition: Definition {
            measured: "state for dependency \"map-tiles\"".parse().expect("a measure"),
            rule: Rule::Level { warning: Some(1.0), critical: None, clear: None },
            window_s: 60,
            every_s: 60,
            running: 1,
            least_samples: 0,
            least_places: 0,
            no_data: NoData::Keep,
            service_hours: None,
        },
        team_id: None,
        instructions: String::new(),
        link: String::new(),
        lists: [None; 2],
    };
    let alert = s.db.add_alert(1, &says, (true, now + mins(12)), "Ada").await.expect("kept");
    for (minute, state) in [(14, State::Down), (20, State::Ok)] {
        let at = now + mins(minute);
        let post = Post {
            at,
            state,
            says: String::new(),
            link: String::new(),
            expires_at: at + mins(60),
            author: String::new(),
        };
        s.db.post_state(id, &post).await.expect("kept");
        turn(at + mins(3)).await;
        let [one] = incidents().await.try_into().expect("still one");
        assert_eq!(one.now, Some(Severity::Warning), "at {minute}");
    }
    let joined =
        s.db.openings_of(alert.expect("new"), Stretch { from: now, to: now + mins(60) }).await;
    assert_eq!(joined.expect("rows")[0].incident_id, one.id);

    // Its end is the end of the incident, by what they say or by the time they said; whoever was told hears of it.
    turn(now + mins(59)).await;
    assert!(incidents().await[0].cleared_at.is_none());
    turn(now + mins(60)).await;
    assert_eq!(incidents().await[0].cleared_at, Some(now + mins(60)));
    assert_eq!(told().await.last(), Some(&(Tells::Cleared, "Duty".into())));
    assert_eq!(told().await.len(), 3, "who was not told of it hears nothing of its end");

    // A dependency that is taken away holds nothing open.
    let again = Announcement {
        subject: "o2".into(),
        ..outage(Phase::Started, now + mins(200), None, "Again")
    };
    announce(&again, now + mins(200)).await;
    turn(now + mins(201)).await;
    assert_eq!(incidents().await.iter().filter(|i| i.cleared_at.is_none()).count(), 1);
    let (status, ..) = post(&s, "/marram-ferries/dependencies/map-tiles/remove", &[]).await;
    assert_eq!(status, 303);
    assert!(incidents().await.iter().all(|i| i.cleared_at.is_some()));

    // Planned work is reminded of once a day before, once more when it moves, and by nobody who is called only later.
    let gateway = s.db.put_dependency(1, "gateway", Some("Gateway")).await.expect("kept");
    let work = |hours: i64| Announcement {
        subject: "w1".into(),
        kind: Kind::Planned,
        ..outage(Phase::Announced, now + mins(60 * hours), None, "Cards are renewed")
    };
    let reminded = async || told().await.iter().filter(|(t, _)| *t == Tells::Reminded).count();
    s.db.announce(gateway, &work(30), now, "status page").await.expect("kept");
    for (hours, want) in [(1, 0), (7, 1), (8, 1)] {
        turn(now + mins(60 * hours)).await;
        assert_eq!(reminded().await, want, "after {hours} h");
    }
    s.db.announce(gateway, &work(40), now + mins(500), "status page").await.expect("kept");
    turn(now + mins(60 * 17)).await;
    assert_eq!(reminded().await, 2);
    assert!(!told().await.contains(&(Tells::Reminded, "Later".into())));
}
