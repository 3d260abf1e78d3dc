//! What programs have done: a journey played now, page views brought in files.

use crate::api::{HERE, World};
use crate::server::{post, record};
use cadentis_core::access::Scope;
use cadentis_core::run::Outcome;
use jiff::{SignedDuration, Timestamp};
use serde_json::{Value, json};
use uuid::Uuid;

const SCRIPT: &str = "script \"Look\"\nstep \"Open\"\n  open http://book.marram.example/\n";

#[tokio::test]
async fn a_token_made_to_play_has_a_journey_or_a_script_played_and_hears_how_it_stands() {
    let w = World::new().await;
    let plays = w.token(1, &[Scope::Play], 30).await;
    let reads = w.token(1, &[Scope::Read], 30).await;
    let trials = format!("{HERE}/trials");
    let body = json!({ "journey": "book", "location": "bergen" });
    assert_eq!(w.refused(&reads, "POST", &trials, Some(body.clone())).await.0, 403);
    for (body, at) in [
        (json!({ "location": "bergen" }), "/journey"),
        (json!({ "journey": "book", "script": SCRIPT, "location": "bergen" }), "/journey"),
        (json!({ "journey": "nowhere", "location": "bergen" }), "/journey"),
        (json!({ "journey": "book", "location": "atlantis" }), "/location"),
        (json!({ "journey": "book", "location": "bergen", "device": "fridge" }), "/device"),
        (json!({ "script": "open the door", "location": "bergen" }), "/script"),
    ] {
        let told = w.refused(&plays, "POST", &trials, Some(body)).await;
        assert_eq!((told.0, told.1.as_str()), (422, Some(at)));
    }

    let asked = async |body: Value| {
        let answer = w.ask(&plays, "POST", &trials, Some(body)).await;
        assert_eq!(answer.status(), 202);
        let at = answer.headers()["location"].to_str().expect("an address").to_string();
        let id: Uuid =
            serde_json::from_value(answer.json::<Value>().await.expect("JSON")["id"].clone())
                .expect("an id");
        assert_eq!(at, format!("{trials}/{id}"));
        (id, at)
    };
    let (id, at) = asked(body).await;
    let stands = async |at: &str| w.json(&plays, at).await;
    assert_eq!(stands(&at).await["state"], "waiting");
    let asking = json!({ "runner": "r", "program": "0.1.0", "protocol": 4 });
    let (_, work) = post(&w.s, "/api/runner/lease", "token-b", &asking).await;
    assert_eq!((&work["id"], &work["trial"]), (&json!(id), &json!(true)));
    assert_eq!(stands(&at).await["state"], "playing");
    let mut played = record(id, Outcome::Failed);
    played.trial = true;
    assert_eq!(post(&w.s, "/api/runner/record", "token-b", &json!(played)).await.0, 204);
    let ended = stands(&at).await;
    assert_eq!((&ended["state"], &ended["outcome"]), (&json!("ended"), &json!("failed")));
    assert_eq!(
        (&ended["trouble"]["line"], &ended["steps"][0]["name"]),
        (&json!(4), &json!("Open"))
    );
    assert!(w.s.db.run(id).await.expect("rows").is_none(), "it counts nowhere");

    let (_, at) = asked(json!({ "script": SCRIPT, "location": "bergen", "device": "phone" })).await;
    assert_eq!(w.ask(&plays, "DELETE", &at, None).await.status(), 204);
    assert_eq!(stands(&at).await["state"], "stopped");
    let done: Vec<(String, String)> =
        w.s.db.done(3).await.expect("rows").into_iter().map(|d| (d.what, d.which)).collect();
    assert_eq!(done[0].0, "stopped a trial");
    assert_eq!(done[1], ("played a trial".into(), "Look at bergen".into()));
    assert_eq!(
        (done[2].0.as_str(), w.s.db.done(1).await.expect("rows")[0].name.as_str()),
        ("played a trial", "token a test")
    );
    let none = format!("{trials}/{}", Uuid::new_v4());
    assert_eq!(w.refused(&plays, "DELETE", &none, None).await.0, 404);
    assert_eq!(w.refused(&plays, "GET", &none, None).await.0, 404);
}

#[tokio::test]
async fn a_token_made_to_import_brings_page_views_once_and_hears_what_was_not_taken() {
    let w = World::new().await;
    let brings = w.token(1, &[Scope::Import], 30).await;
    let reads = w.token(1, &[Scope::Read], 30).await;
    let send = async |token: &str, asked: &str, text: String| {
        let to = format!("{}{HERE}/page-views?{asked}", w.s.server.address);
        let request = reqwest::Client::new().post(to).bearer_auth(token).body(text);
        let answer = request.send().await.expect("an answer");
        (answer.status().as_u16(), answer.json::<Value>().await.expect("JSON"))
    };
    let at = Timestamp::now() - SignedDuration::from_mins(30);
    let line = |host: &str| format!("http://{host}/cabin,{at},900\n");
    let file = format!("url,at,lcp\n{}{}", line("book.marram.example"), line("evil.example"));
    let kind = "kind=csv&device=desktop&country=NO";
    assert_eq!(send(&reads, kind, file.clone()).await.0, 403);
    let (status, told) = send(&brings, kind, file.clone()).await;
    assert_eq!(status, 200, "{told}");
    assert_eq!(
        (&told["read"], &told["new"], &told["more_wrong"]),
        (&json!(1), &json!(1), &json!(0))
    );
    let wrong = told["wrong"][0].as_str().expect("a sentence");
    assert!(wrong.contains("line 3.url: evil.example is not a domain of this site"), "{wrong}");
    let (_, again) = send(&brings, kind, file.clone()).await;
    assert_eq!(
        (&again["read"], &again["new"]),
        (&json!(1), &json!(0)),
        "sent again it is there once"
    );
    let from = at - SignedDuration::from_mins(30);
    let visitors = w.json(&reads, &format!("{HERE}/visitors?from={from}")).await;
    assert_eq!(visitors["all"]["page_views"], json!(1), "{visitors}");
    let done = w.s.db.done(1).await.expect("rows").remove(0);
    assert_eq!(done.what, "brought a file of page views to");

    for (asked, text, status, at) in [
        ("kind=exe", file.clone(), 400, "?kind"),
        ("device=desktop", file.clone(), 400, "?kind"),
        ("kind=csv&fridge=1", file.clone(), 400, "?fridge"),
        ("kind=ndjson&device=desktop", "no lines\n".to_string(), 422, ""),
    ] {
        let (was, told) = send(&brings, asked, text).await;
        assert_eq!(
            (was, told["errors"][0]["pointer"].as_str()),
            (status, Some(at)),
            "{asked}: {told}"
        );
    }
}
