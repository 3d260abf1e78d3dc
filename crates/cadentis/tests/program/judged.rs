//! What programs do about judging: time taken out of goals, maintenance, and what was around markers.

use crate::server::{Served, play, server};
use crate::serving::{self, program};
use cadentis_core::access::Scope;
use cadentis_core::run::Outcome;
use jiff::{SignedDuration, Timestamp};
use serde_json::{Value, json};

/// A program at the API of the site of the tests.
struct Asks {
    client: reqwest::Client,
    base: String,
}

impl Asks {
    async fn with(s: &Served, scopes: &[Scope]) -> Asks {
        let client = program(&serving::token(&s.db, 1, scopes).await);
        Asks { client, base: format!("{}/api/v1/sites/marram-ferries", s.server.address) }
    }

    async fn ask(&self, method: &str, path: &str, body: Value) -> (u16, Value) {
        let method = method.parse().expect("a method");
        let mut request = self.client.request(method, format!("{}/{path}", self.base));
        if !body.is_null() {
            request = request.json(&body);
        }
        let answer = request.send().await.expect("an answer");
        let status = answer.status().as_u16();
        let text = answer.text().await.expect("a text");
        (status, serde_json::from_str(&text).unwrap_or_default())
    }

    async fn get(&self, path: &str) -> Value {
        let (status, told) = self.ask("GET", path, Value::Null).await;
        assert_eq!(status, 200, "{path}: {told}");
        told
    }
}

#[tokio::test]
async fn a_program_takes_time_out_of_a_goal_is_told_what_it_does_and_puts_it_back() {
    let s = server().await;
    let ids = play(&s, &[Outcome::Passed, Outcome::Failed, Outcome::Passed, Outcome::Passed]).await;
    let failed = s.db.run(ids[1]).await.expect("rows").expect("the failure").due_at;
    let minute = SignedDuration::from_mins(1);
    let out = json!({"from": failed - minute, "to": failed + minute, "why": "our own firewall"});
    let (reads, edits) =
        (Asks::with(&s, &[Scope::Read]).await, Asks::with(&s, &[Scope::Write]).await);
    let outs = "goals/1/carve-outs";
    assert_eq!(reads.ask("POST", outs, out.clone()).await.0, 403);
    for (field, value, pointer) in [
        ("why", json!(" "), "/why"),
        ("why", json!("x".repeat(201)), "/why"),
        ("to", json!(failed - minute * 5), "/to"),
        ("from", json!("9999-01-01T00:00:00Z"), "/from"),
    ] {
        let mut wrong = out.clone();
        wrong[field] = value;
        let (status, told) = edits.ask("POST", outs, wrong).await;
        assert_eq!((status, &told["errors"][0]["pointer"]), (422, &json!(pointer)), "{told}");
    }
    let (status, made) = edits.ask("POST", outs, out).await;
    assert_eq!(
        (status, &made["share_before"], &made["share_after"]),
        (201, &json!(0.75), &json!(1.0)),
        "{made}"
    );
    assert_eq!(reads.get("goals").await[0]["share"], json!(1.0));
    assert_eq!(s.db.done(1).await.expect("rows")[0].what, "took out of the goal");
    let one = format!("{outs}/{}", made["id"]);
    assert_eq!(edits.ask("DELETE", &one, Value::Null).await.0, 204);
    assert_eq!(edits.ask("DELETE", &one, Value::Null).await.0, 404, "it is back already");
    assert_eq!(edits.ask("DELETE", "goals/99/carve-outs/1", Value::Null).await.0, 404);
    // Both stay in the record.
    let record = reads.get(outs).await;
    assert_eq!(
        (&record[0]["why"], record[0]["revoked_by"].is_string()),
        (&json!("our own firewall"), true)
    );
    assert_eq!(reads.get("goals").await[0]["share"], json!(0.75));
}

#[tokio::test]
async fn a_program_plans_maintenance_sees_when_it_comes_ends_it_and_calls_it_off() {
    let s = server().await;
    let (reads, edits) =
        (Asks::with(&s, &[Scope::Read]).await, Asks::with(&s, &[Scope::Write]).await);
    let weekly = json!({"name": "Backup", "begins": "2026-01-04T02:00", "minutes": 90, "repeats": "FREQ=WEEKLY;BYDAY=SU",
        "clock": "each location", "journeys": ["book"], "runs": "held"});
    assert_eq!(reads.ask("POST", "maintenance", weekly.clone()).await.0, 403);
    for (field, value, pointer) in [
        ("name", json!(""), "/name"),
        ("begins", json!("soon"), "/begins"),
        ("begins", json!("9999-01-01T02:00"), "/begins"),
        ("minutes", json!(0), "/minutes"),
        ("minutes", json!(20_000), "/repeats"),
        ("repeats", json!("FREQ=SECONDLY"), "/repeats"),
        ("clock", json!("Oslo"), "/clock"),
        ("journeys", json!(["book", "nowhere"]), "/journeys/1"),
        ("locations", json!(["nowhere"]), "/locations/0"),
    ] {
        let mut wrong = weekly.clone();
        wrong[field] = value;
        let (status, told) = edits.ask("POST", "maintenance", wrong).await;
        assert_eq!(
            (status, &told["errors"][0]["pointer"]),
            (422, &json!(pointer)),
            "{field}: {told}"
        );
    }
    let (status, made) = edits.ask("POST", "maintenance", weekly).await;
    assert_eq!(status, 201, "{made}");
    // From now on for half an hour: the deployment of somebody's pipeline.
    let (status, now) =
        edits.ask("POST", "maintenance", json!({"name": "Deployment", "minutes": 30})).await;
    assert_eq!(status, 201, "{now}");
    let told = reads.get("maintenance").await;
    let of =
        |name: &str| told.as_array().expect("a list").iter().find(|w| w["name"] == name).cloned();
    let (backup, deployment) = (of("Backup").expect("planned"), of("Deployment").expect("planned"));
    assert_eq!((&backup["clock"], &backup["runs"]), (&json!("each location"), &json!("held")));
    let first: Timestamp =
        backup["comes"][0]["from"].as_str().expect("a text").parse().expect("a moment");
    let oslo = first.to_zoned(jiff::tz::TimeZone::get("Europe/Oslo").expect("a zone"));
    assert_eq!(oslo.strftime("%a %H:%M").to_string(), "Sun 02:00", "{backup}");
    assert!(deployment["goes_on"].is_object() && backup["journeys"] == json!(["book"]), "{told}");
    assert_eq!(told[0]["name"], "Deployment", "what goes on stands first");
    let end = format!("maintenance/{}/end", now["id"]);
    assert_eq!(edits.ask("POST", &end, Value::Null).await.0, 204);
    assert_eq!(edits.ask("POST", &end, Value::Null).await.0, 422, "it goes on no more");
    let off = format!("maintenance/{}", made["id"]);
    assert_eq!(edits.ask("DELETE", &off, Value::Null).await.0, 204);
    assert_eq!(reads.get("maintenance").await, json!([]));
    assert_eq!(edits.ask("DELETE", "maintenance/99", Value::Null).await.0, 404);
}

#[tokio::test]
async fn a_program_asks_what_was_before_and_after_a_marker_and_how_sure_it_is() {
    let s = server().await;
    play(&s, &[Outcome::Passed, Outcome::Failed, Outcome::Passed, Outcome::Passed]).await;
    let tools = Asks::with(&s, &[Scope::Read, Scope::Markers]).await;
    let pinned = json!({"title": "Release 7", "kind": "release", "at": Timestamp::now() - SignedDuration::from_mins(2)});
    let (status, made) = tools.ask("POST", "markers", pinned).await;
    assert_eq!(status, 201, "{made}");
    let around = format!("markers/{}/around", made["id"]);
    let told = tools.get(&around).await;
    let journey = &told["journeys"][0];
    assert_eq!((&journey["name"], &journey["count_before"]), (&json!("book"), &json!(4)), "{told}");
    let available = journey["compared"]
        .as_array()
        .expect("a list")
        .iter()
        .find(|c| c["measure"] == "availability");
    let available = available.expect("it is compared");
    assert_eq!(
        (&available["samples_before"], &available["verdict"]),
        (&json!(4), &json!("no_data")),
        "nothing came after"
    );
    assert_eq!(told["is_maintained"], json!(false));
    for wrong in ["minutes=4", "minutes=soon", "hours=1"] {
        let (status, told) = tools.ask("GET", &format!("{around}?{wrong}"), Value::Null).await;
        assert_eq!(status, 400, "{wrong}: {told}");
    }
    assert_eq!(tools.ask("GET", "markers/99/around", Value::Null).await.0, 404);
}
