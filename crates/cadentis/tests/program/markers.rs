//! Markers on their page and from a pipeline: pinned, changed, deleted, put back; and what was before and after.

use crate::server::{get, play, post_form as post, server};
use crate::serving::{self, beacons};
use cadentis_core::access::{Role, Scope};
use cadentis_core::calendar::Stretch;
use cadentis_core::run::Outcome;
use cadentis_store::person::Given;
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use serde_json::json;
use sha2::{Digest, Sha256};
use uuid::Uuid;

const LIST: &str = "/marram-ferries/markers";

/// A moment as a form has it.
fn clock(at: Timestamp) -> String {
    let zone = TimeZone::get("Europe/Oslo").expect("a zone");
    at.to_zoned(zone).strftime("%Y-%m-%dT%H:%M").to_string()
}

#[tokio::test]
async fn a_marker_is_pinned_changed_deleted_and_put_back_and_each_is_told() {
    let s = server().await;
    let at = clock(Timestamp::now() - SignedDuration::from_mins(90));
    let fields = |title: &'static str, based_on: &'static str| {
        vec![
            ("at", at.as_str()),
            ("kind", "release"),
            ("title", title),
            ("version", "40.3"),
            ("link", "https://ci.marram.example/17"),
            ("based_on", based_on),
        ]
    };
    let (status, to, _) = post(&s, LIST, &fields("Release <b>", "0")).await;
    assert_eq!((status, to.as_str()), (303, "/marram-ferries/markers/1"));
    let page = get(&s, "/marram-ferries/markers/1").await.1;
    assert!(page.contains("Release &#60;b&#62;") && page.contains("release 40.3"), "{page}");
    assert!(page.contains("href=\"https://ci.marram.example/17\" rel=\"noreferrer noopener\""));
    // It stands on charts, with a way to its page.
    let now = get(&s, "/marram-ferries").await.1;
    assert!(now.contains("href=\"/marram-ferries/markers/1\""), "{now}");
    for (field, value, says) in [
        ("at", "9999-01-01T00:00", "between the year 2000 and a year from now"),
        ("title", "", "A title has 1 to 80 characters."),
        ("link", "javascript:alert(1)", "begins with http:// or https://"),
    ] {
        let mut wrong = fields("x", "0");
        wrong.retain(|(n, _)| *n != field);
        wrong.push((field, value));
        let (status, _, page) = post(&s, LIST, &wrong).await;
        assert!(status == 422 && page.contains(says), "{says}: {status} {page}");
        assert!(page.contains("value=\"40.3\""), "what was typed stays");
    }
    let one = "/marram-ferries/markers/1";
    assert_eq!(post(&s, one, &fields("Release 40.4", "0")).await.0, 303);
    let (status, _, page) = post(&s, one, &fields("Release 40.5", "0")).await;
    assert!(status == 422 && page.contains("Somebody changed or deleted it meanwhile"), "{page}");
    assert!(page.contains("value=\"Release 40.5\""), "{page}");
    let told = s.db.done(1).await.expect("rows").remove(0);
    assert!(told.was.contains("Release <b>") && told.became.contains("Release 40.4"), "{told:?}");
    let (status, to, _) = post(&s, &format!("{one}/remove"), &[]).await;
    assert_eq!((status, to.as_str()), (303, "/marram-ferries/markers?deleted=1"));
    let list = get(&s, &to).await.1;
    assert!(list.contains("“Release 40.4” is deleted.") && list.contains("Undo"), "{list}");
    assert!(!get(&s, "/marram-ferries").await.1.contains(one), "it is on no chart");
    assert_eq!(post(&s, &format!("{one}/restore"), &[]).await.0, 303);
    assert!(get(&s, LIST).await.1.contains("Release 40.4"));
    let what: Vec<String> = s.db.done(2).await.expect("rows").into_iter().map(|d| d.what).collect();
    assert_eq!(what, ["put back the marker", "took away the marker"]);
}

#[tokio::test]
async fn what_surely_moved_at_a_marker_is_said_with_its_interval_and_what_did_not_is_not() {
    let s = server().await;
    play(&s, &[Outcome::Passed, Outcome::Passed]).await;
    let moment = Timestamp::now() - SignedDuration::from_mins(60);
    // Phones take a second longer after it, desktops as long as before.
    for n in 0..80i64 {
        for (after, sign) in [(false, -1), (true, 1)] {
            let visit = Uuid::new_v4();
            let is_phone = n % 2 == 0;
            let mut view = beacons::beacon(visit);
            view["visit"] = json!(visit);
            let at = moment + SignedDuration::from_secs(sign * (60 + n * 30));
            view["at"] = json!(at.as_millisecond());
            let more = if after && is_phone { 1_000 } else { 0 };
            view["lcp"] = json!(1_500 + (n * 37) % 400 + more);
            view["device"] = json!(if is_phone { "phone" } else { "desktop" });
            let (own, browser) = (beacons::OWN, beacons::BROWSER);
            let sent =
                beacons::send(&s.server.address, "key", view.to_string(), own, browser).await;
            assert_eq!(sent.0, 204, "{}", sent.1);
        }
    }
    let at = clock(moment);
    let fields = [("at", at.as_str()), ("kind", "release"), ("title", "Release 40.3")];
    assert_eq!(post(&s, LIST, &fields).await.0, 303);
    let page = get(&s, "/marram-ferries/markers/1").await.1;
    assert!(
        page.contains("LCP at p75 surely rose by") && page.contains("surely on phone alone"),
        "{page}"
    );
    assert!(!page.contains("CLS at p75 surely"), "{page}");
    assert!(page.contains("not surely") && page.contains("95 % interval"), "{page}");
    assert!(
        page.contains("<summary>Proof</summary>")
            && page.contains("Difference = p75 after − p75 before")
    );
    // Of a quarter of an hour there is less to say, and of another marker in it more.
    let fields = [("at", at.as_str()), ("kind", "note"), ("title", "Prices changed")];
    assert_eq!(post(&s, LIST, &fields).await.0, 303);
    let page = get(&s, "/marram-ferries/markers/1?minutes=15").await.1;
    assert!(page.contains("“Prices changed” lies in the same time"), "{page}");
    assert_eq!(get(&s, "/marram-ferries/markers/1?minutes=7").await.0, 200, "the usual");
    assert_eq!(get(&s, "/marram-ferries/markers/99").await.0, 404);
}

#[tokio::test]
async fn administrators_alone_pin_to_every_site_and_a_token_only_to_its_own() {
    let s = server().await;
    let at = clock(Timestamp::now() - SignedDuration::from_mins(5));
    let fields =
        [("at", at.as_str()), ("kind", "note"), ("title", "Network"), ("everywhere", "on")];
    let session = "5e55104000000000000000000000000000000000000000000000000000000002";
    let edits =
        Given { is_administrator: false, sees_people: false, roles: vec![(1, Role::Editor)] };
    serving::sign_in(&s.db, "Tor", edits, session).await;
    let editor = serving::signed_in_as(session);
    let body = url::form_urlencoded::Serializer::new(String::new()).extend_pairs(fields).finish();
    let asked = editor.post(format!("{}{LIST}", s.server.address)).body(body);
    let asked = asked.header("content-type", "application/x-www-form-urlencoded");
    let answer = asked.send().await.expect("an answer");
    assert_eq!(answer.status().as_u16(), 422);
    assert!(answer.text().await.expect("a page").contains("administrators alone change it"));
    assert_eq!(post(&s, LIST, &fields).await.0, 303);
    let hour = Stretch::last(3_600, Timestamp::now());
    let (from, to) = (Stretch::moment(hour.from), Stretch::moment(hour.to));
    let one = format!("{}{LIST}/1?from={from}&to={to}", s.server.address);
    let of_editor = editor.get(one).send().await;
    let page = of_editor.expect("an answer").text().await.expect("a page");
    assert!(page.contains("<h1>Network</h1>") && !page.contains("Change or delete it"), "{page}");
    let said = cadentis_core::marker::Said { title: "Cable cut".into(), ..Default::default() };
    let id = s.db.add_marker(None, Timestamp::now(), &said, "Ines").await.expect("kept");
    let token = format!("{}{}", Uuid::new_v4().simple(), Uuid::new_v4().simple());
    let hash = Sha256::digest(token.as_bytes());
    s.db.add_api_token(&hash, 1, "a test", &[Scope::Markers], "Ada", 1).await.expect("a token");
    let client = serving::program(&token);
    let one = format!("{}/api/v1/sites/marram-ferries/markers/{id}", s.server.address);
    assert_eq!(client.delete(one).send().await.expect("an answer").status().as_u16(), 403);
    assert!(s.db.marker(1, id).await.expect("asked").is_some_and(|m| m.removed_at.is_none()));
}

#[tokio::test]
async fn a_pipeline_pins_its_release_with_the_command_and_is_told_what_is_wrong() {
    let s = server().await;
    let token = format!("{}{}", Uuid::new_v4().simple(), Uuid::new_v4().simple());
    let hash = Sha256::digest(token.as_bytes());
    s.db.add_api_token(&hash, 1, "a test", &[Scope::Markers], "Ada", 1).await.expect("a token");
    let run = |more: &[&str], token: &str| {
        let mut command = std::process::Command::new(env!("CARGO_BIN_EXE_cadentis"));
        command.arg("marker").args(more).env("CADENTIS_SERVER", &s.server.address);
        command.env("CADENTIS_TOKEN", token).env("CADENTIS_SITE", "marram-ferries");
        let end = command.output().expect("it runs");
        let text = |bytes: Vec<u8>| String::from_utf8(bytes).expect("text");
        (end.status.code(), text(end.stdout), text(end.stderr))
    };
    let (code, said, wrong) = run(
        &["Release 40.3", "--version", "40.3", "--link", "https://ci.marram.example/17"],
        &token,
    );
    assert_eq!((code, said.as_str()), (Some(0), "1\n"), "{wrong}");
    let day = Stretch::last(86_400, Timestamp::now() + SignedDuration::from_mins(1));
    let kept = s.db.markers(1, day).await.expect("rows").remove(0);
    assert_eq!((kept.said.kind.word(), kept.said.version.as_str()), ("release", "40.3"));
    assert_eq!(kept.author, "token a test");
    for (more, token, says) in [
        (
            &["x", "--link", "ftp://a"][..],
            token.as_str(),
            "A link is an address that begins with http",
        ),
        (&["x", "--at", "soon"], &token, "A moment such as"),
        (&["x"], "wrong", "401"),
        (&["x", "--site", "../../x"], &token, "404"),
        (&["x", "--server", "http://127.0.0.1:9"], &token, "did not answer"),
    ] {
        let (code, said, wrong) = run(more, token);
        assert!(code == Some(1) && said.is_empty() && wrong.contains(says), "{says}: {wrong}");
        assert!(!wrong.contains(token), "the token is not told");
    }
}
