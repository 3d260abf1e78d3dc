//! Pages and the runners' door over HTTP, with the real program and a real PostgreSQL.

use crate::serving;
use crate::serving::Server;
use cadentis_core::calendar::{Maintenance, Pace, Stretch};
use cadentis_core::goal::Definition;
use cadentis_core::run::{Frame, Outcome, RunRecord, StepRecord, StepVitals, Trouble};
use cadentis_store::Db;
use cadentis_store::journey::{NewJourney, PlaceAndPace};
use jiff::{SignedDuration, Timestamp};
use serde_json::{Value, json};
use uuid::Uuid;

pub struct Served {
    pub server: Server,
    pub db: Db,
}

const HOSTILE: &str = "<script>alert(1)</script>\"'&";
const SCRIPT: &str = "script \"Book\"\n  within 5 s\nstep \"Open\"\n  open http://book.marram.example/\n  within 2 s\n";

/// A server with one site, one journey at two locations and a goal; nothing is made due.
pub async fn server() -> Served {
    server_with(&[]).await
}

/// The same with these arguments besides.
pub async fn server_with(more: &[&str]) -> Served {
    let (db, url) = serving::database().await;
    db.ensure_days_around(Timestamp::now()).await.expect("days");
    let site = serving::site(&db).await;
    let mut locations = Vec::new();
    for (slug, token) in [("bergen", "token-b"), ("halifax", "token-h")] {
        locations.push(serving::location(&db, slug, slug, token).await);
    }
    let journey = NewJourney {
        site_id: site,
        slug: "book",
        name: HOSTILE,
        script: SCRIPT,
        apdex_t_s: 1.0,
        author: "Ada",
        plays: PlaceAndPace::usual(&Pace::Every(300), &locations),
        status: cadentis_store::script_version::Status::Active,
    };
    let journey = db.add_journey(&journey).await.expect("a journey");
    let promise = Definition::monthly(journey, 0.9);
    let says = (&promise, jiff::Timestamp::UNIX_EPOCH);
    db.add_goal(site, "Bookable", says, "Ada").await.expect("a goal");
    let server = Server::start_with(&url, serving::KEY, more);
    assert_eq!(server.up().await, 200);
    Served { server, db }
}

/// What a form of these fields is answered.
pub async fn post_form(s: &Served, path: &str, fields: &[(&str, &str)]) -> (u16, String, String) {
    serving::post_form(&s.server.address, path, fields).await
}

pub async fn get(s: &Served, path: &str) -> (u16, String) {
    let answer =
        crate::serving::get(format!("{}{path}", s.server.address)).await.expect("an answer");
    (answer.status().as_u16(), answer.text().await.expect("a body"))
}

pub async fn post(s: &Served, path: &str, token: &str, body: &Value) -> (u16, Value) {
    let client = reqwest::Client::new();
    let answer = client
        .post(format!("{}{path}", s.server.address))
        .bearer_auth(token)
        .json(body)
        .send()
        .await
        .expect("an answer");
    (answer.status().as_u16(), answer.json().await.unwrap_or(Value::Null))
}

pub fn record(id: Uuid, outcome: Outcome) -> RunRecord {
    let trouble = (outcome != Outcome::Passed).then(|| Trouble { line: 4, says: HOSTILE.into() });
    RunRecord {
        id,
        started_at: Timestamp::now(),
        outcome,
        duration_ms: 1_250.0,
        trouble: trouble.clone(),
        steps: vec![StepRecord {
            outcome,
            duration_ms: 1_250.0,
            trouble,
            picture: Some("data:image/jpeg;base64,/9j/4AAQ".into()),
            film: vec![Frame { at_ms: 120.0, picture: "data:image/jpeg;base64,/9j/4AAR".into() }],
            vitals: StepVitals { fcp_ms: Some(110.0), ..StepVitals::default() },
            ..StepRecord::begun("Open", 0.0, Some(2_000.0))
        }],
        browser: "Chromium".into(),
        runner: HOSTILE.into(),
        device: "desktop".into(),
        trial: false,
    }
}

const ASKING: &str = "/api/runner/lease";
const BRINGING: &str = "/api/runner/record";

#[tokio::test]
async fn a_runner_gets_work_for_its_own_location_only_and_its_record_is_taken_once() {
    let s = server().await;
    let asking = json!({ "runner": "r", "program": "0.1.0", "protocol": 4 });
    assert_eq!(post(&s, ASKING, "nobody", &asking).await.0, 401);
    assert_eq!(post(&s, ASKING, "token-b", &asking).await.0, 204, "nothing is due");
    assert_eq!(s.db.make_due(Timestamp::now()).await.expect("due"), 2);
    let (status, work) = post(&s, ASKING, "token-b", &asking).await;
    assert_eq!(
        (status, work["location"].as_str(), work["script"].as_str()),
        (200, Some("bergen"), Some(SCRIPT))
    );
    assert_eq!(post(&s, ASKING, "token-b", &asking).await.0, 204, "leased already");
    let id: Uuid = serde_json::from_value(work["id"].clone()).expect("an id");
    let good = serde_json::to_value(record(id, Outcome::Passed)).expect("JSON");

    assert_eq!(post(&s, BRINGING, "nobody", &good).await.0, 401);
    assert_eq!(post(&s, BRINGING, "token-h", &good).await.0, 410, "not given to this location");
    let mut wrong = good.clone();
    wrong["duration_ms"] = json!(-5.0);
    let (status, says) = post(&s, BRINGING, "token-b", &wrong).await;
    assert_eq!(
        (status, says["detail"].as_str()),
        (422, Some("duration_ms: -5 is no length of time from 0 ms to a day"))
    );
    assert_eq!(post(&s, BRINGING, "token-b", &json!({ "id": 7 })).await.0, 422);
    assert_eq!(post(&s, BRINGING, "token-b", &good).await.0, 204);
    assert_eq!(post(&s, BRINGING, "token-b", &good).await.0, 204, "a repeat changes nothing");
    let day = Stretch::last(86_400, Timestamp::now());
    assert_eq!(s.db.runs(1, 1, day).await.expect("runs").len(), 1);
    let (status, picture) = get(&s, &format!("/marram-ferries/runs/{id}/pictures/0/0")).await;
    assert_eq!(status, 200);
    assert!(!picture.is_empty());
    let (_, page) = get(&s, &format!("/marram-ferries/runs/{id}")).await;
    let film = format!("/marram-ferries/runs/{id}/pictures/0/1");
    assert!(page.contains(&film) && page.contains("<b class=\"moment\">FCP 0.11</b>"), "{page}");
    assert_eq!(get(&s, &film).await.0, 200);
    assert!(!page.contains("base64"), "pictures are kept apart from the record");
    assert_eq!(get(&s, &format!("/marram-ferries/runs/{id}/pictures/0/2")).await.0, 404);
}

/// Plays `outcomes` at Bergen, five minutes apart, the last one just now.
pub async fn play(s: &Served, outcomes: &[Outcome]) -> Vec<Uuid> {
    let mut ids = Vec::new();
    for (i, outcome) in outcomes.iter().enumerate() {
        let at = Timestamp::now() - SignedDuration::from_mins(5 * (outcomes.len() - i) as i64);
        s.db.make_due(at).await.expect("due");
        let work = s.db.lease(1, "r", at, at).await.expect("asked").expect("work");
        s.db.finish(1, record(work.id, *outcome)).await.expect("stored");
        ids.push(work.id);
    }
    ids
}

#[tokio::test]
async fn what_came_from_outside_is_escaped_on_every_page() {
    let s = server().await;
    let ids = play(&s, &[Outcome::Passed, Outcome::Failed, Outcome::Failed]).await;
    for path in [
        "/marram-ferries".to_string(),
        "/marram-ferries/journeys".into(),
        "/marram-ferries/journeys/book".into(),
        "/marram-ferries/goals".into(),
        "/marram-ferries/visitors".into(),
        format!("/marram-ferries/runs/{}", ids[1]),
    ] {
        let (status, page) = get(&s, &path).await;
        assert_eq!(status, 200, "{path}");
        assert!(!page.contains("<script>alert"), "{path}");
    }
    assert!(
        get(&s, &format!("/marram-ferries/runs/{}", ids[1]))
            .await
            .1
            .contains("&#60;script&#62;alert(1)"),
        "and shown as it came"
    );
}

#[tokio::test]
async fn numbers_that_appear_together_agree_and_our_own_trouble_is_not_held_against_the_site() {
    use Outcome::*;
    let s = server().await;
    play(&s, &[Passed, Failed, Unmeasured, Passed, Passed]).await;
    // Three of the four that count: the unmeasured one does not.
    let journey = get(&s, "/marram-ferries/journeys/book").await.1;
    assert!(journey.contains(">75.00 %<"), "availability on the journey");
    assert!(journey.contains("3 / 4 = 75.000 %"), "its proof");
    assert!(journey.contains("1 unmeasured"), "what was left out");
    let goals = get(&s, "/marram-ferries/goals").await.1;
    assert!(
        goals.contains(">75.00 %<") && goals.contains("3 / 4 = 75.000 %"),
        "the goal says the same"
    );
    assert!(
        get(&s, "/marram-ferries/journeys").await.1.contains("<b>75.00 %</b>"),
        "and so does the list"
    );
    // Maintenance over all of it leaves nothing to judge.
    s.db.plan(1, &Maintenance::once(Stretch::last(86_400, Timestamp::now()), "work"), "", "")
        .await
        .expect("added");
    let journey = get(&s, "/marram-ferries/journeys/book").await.1;
    assert!(
        journey.contains(">no data<") && !journey.contains(">75.00 %<"),
        "nothing is counted, and no zero is shown"
    );
}

#[tokio::test]
async fn an_address_that_cannot_be_shown_says_what_would_be_right() {
    let s = server().await;
    for (path, status, says) in [
        (
            "/marram-ferries?from=yesterday&to=now",
            400,
            "yesterday is no moment: write UTC as 2026-11-22T05:00Z",
        ),
        (
            "/marram-ferries/visitors?from=2026-11-22T05:00Z&to=2026-11-22T05:00Z",
            400,
            "ends before it begins",
        ),
        (
            "/marram-ferries/goals?from=2026-01-01T00:00Z&to=2026-11-22T05:00Z",
            400,
            "longer than 62 days",
        ),
        ("/marram-ferries/journeys/nobody", 404, "nobody"),
        (
            "/marram-ferries/runs/00000000-0000-0000-0000-000000000000",
            404,
            "There is no such page here",
        ),
        ("/alerts", 404, "There is no such page here"),
    ] {
        let (got, page) = get(&s, path).await;
        assert_eq!(got, status, "{path}");
        assert!(page.contains(says), "{path}: {page}");
    }
}

#[tokio::test]
async fn before_there_is_anything_pages_say_so() {
    let s = server().await;
    for (path, says) in [
        ("/marram-ferries", "has not played at bergen"),
        ("/marram-ferries/journeys", "Waiting for its first run"),
        ("/marram-ferries/journeys/book", "no data"),
        ("/marram-ferries/visitors", "No page view in this stretch"),
        ("/marram-ferries/goals", "Nothing is counted yet"),
    ] {
        let (status, page) = get(&s, path).await;
        assert_eq!(status, 200, "{path}");
        assert!(page.contains(says), "{path}");
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_record_that_cannot_be_delivered_is_kept_by_its_runner_and_brought_when_the_server_is_back()
 {
    let mut s = server().await;
    // What is played: a request to somebody who answers only when told to.
    let site = tokio::net::TcpListener::bind("127.0.0.1:0").await.expect("a port");
    let script = format!(
        "script \"Wire\"\nstep \"Ask\"\n  send GET http://{}/\n  expect status 200\n",
        site.local_addr().expect("an address")
    );
    let journeys = s.db.journeys(1).await.expect("rows");
    let edit = cadentis_store::script_version::Edit {
        script: &script,
        name: "Wire",
        based_on: 1,
        author: "Ada",
        note: "",
    };
    s.db.save_script(journeys[0].id, &edit, Timestamp::now()).await.expect("saved");
    assert!(s.db.make_due(Timestamp::now()).await.expect("due") > 0);
    let keep = std::env::temp_dir().join(format!("cadentis-kept-{}", Uuid::new_v4()));
    let post = cadentis_runner::agent::Post {
        name: "bergen".into(),
        token: "token-b".into(),
        proxy: None,
        control: None,
    };
    let (address, folder) = (s.server.address.clone(), keep.clone());
    let posts = [post];
    let link = cadentis_runner::link::Link::to(&address, None).expect("no roots");
    let runner = cadentis_runner::agent::work(&link, &posts, &folder);
    tokio::select! {
        () = runner => {}
        () = the_server_is_away_while_it_delivers(&mut s, &site, &keep) => {}
    }
    let day = Stretch::last(86_400, Timestamp::now() + SignedDuration::from_mins(1));
    let runs = s.db.runs(journeys[0].id, 1, day).await.expect("rows");
    // On a machine short of CPU the runner calls it unmeasured; that it came, and once, is what matters here.
    assert_eq!(runs.len(), 1);
    assert_ne!(runs[0].outcome, Outcome::Failed);
    let _ = std::fs::remove_dir_all(&keep);
}

async fn the_server_is_away_while_it_delivers(
    s: &mut Served,
    site: &tokio::net::TcpListener,
    keep: &std::path::Path,
) {
    // The request is here: the server goes away before the answer does.
    let (mut asked, _) = site.accept().await.expect("a request");
    s.server.kill();
    use tokio::io::{AsyncReadExt, AsyncWriteExt};
    let mut request = [0; 1_024];
    assert!(asked.read(&mut request).await.expect("read") > 0);
    asked.write_all(b"HTTP/1.1 200 OK\r\ncontent-length: 0\r\n\r\n").await.expect("answered");
    let kept = cadentis_runner::kept::Kept::of(keep, &s.server.address, "token-b");
    let within = async |what: &str, is: &dyn Fn() -> bool| {
        for _ in 0..200 {
            if is() {
                return;
            }
            tokio::time::sleep(std::time::Duration::from_millis(50)).await;
        }
        panic!("{what}: not within ten seconds");
    };
    within("the record is kept", &|| kept.all().len() == 1).await;
    s.server.again().await;
    within("the record is brought", &|| kept.all().is_empty()).await;
}
