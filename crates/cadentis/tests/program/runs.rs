//! What a run tells and what is done about it: repairing, accepting, reading archives, steps in trouble.

use crate::server::{Served, get, play, record, server};
use crate::serving;
use cadentis_core::journey::FellBack;
use cadentis_core::run::looked::{Look, Looked};
use cadentis_core::run::{Outcome, RunRecord};
use cadentis_store::scripts::Edit;
use jiff::{SignedDuration, Timestamp};
use serde_json::json;
use std::process::Command;
use uuid::Uuid;

/// Brings a record of a run that was due a while ago.
async fn bring(s: &Served, minutes_ago: i64, change: impl FnOnce(&mut RunRecord)) -> Uuid {
    let at = Timestamp::now() - SignedDuration::from_mins(minutes_ago);
    s.db.make_due(at).await.expect("due");
    let work = s.db.lease(1, "r", at, at).await.expect("asked").expect("work");
    let mut record = record(work.id, Outcome::Passed);
    change(&mut record);
    s.db.finish(1, record).await.expect("stored");
    work.id
}

async fn form(s: &Served, path: &str, body: &str) -> (u16, String) {
    let request = serving::page_of_its_own().post(format!("{}{path}", s.server.address));
    let request = request.header("content-type", "application/x-www-form-urlencoded").body(body.to_string());
    let answer = request.send().await.expect("an answer");
    (answer.status().as_u16(), answer.text().await.expect("a body"))
}

#[tokio::test]
async fn the_script_with_what_held_on_top_is_shown_beside_the_old_one_and_becomes_the_next_version_once() {
    let s = server().await;
    let ladder = "script \"Book\"\n\nstep \"Open\"\n  open http://book.marram.example/\n  press button \"Find\" or css \"#find\"\n";
    let journey = s.db.journeys(1).await.expect("rows").remove(0);
    let edit = Edit { script: ladder, name: "Book", based_on: 1, author: "Ada", note: "" };
    s.db.save_script(journey.id, &edit, Timestamp::now()).await.expect("saved");
    let calm = bring(&s, 12, |_| ()).await;
    let fell = bring(&s, 7, |r| {
        r.steps[0].fell_back = vec![FellBack {
            line: 5,
            rung: 1,
            which: 0,
            found_by: "css \"#find\"".into(),
            instead_of: "button \"Find\"".into(),
        }];
    })
    .await;
    assert!(!get(&s, &format!("/runs/{calm}")).await.1.contains("What fell back"));
    let page = get(&s, &format!("/runs/{fell}")).await.1;
    let part = page.split("What fell back").nth(1).unwrap_or_else(|| panic!("{page}"));
    assert!(part.contains("<span class=\"gone\">−   press button &#34;Find&#34; or css"), "{part}");
    assert!(part.contains("<span class=\"new\">+   press css &#34;#find&#34; or button"), "{part}");
    assert!(part.contains("Accept as version 3"), "{part}");

    let address = format!("/runs/{fell}/repair");
    let (status, says) = form(&s, &address, "author=").await;
    assert!(status == 409 && says.contains("Say who you are"), "{says}");
    assert_eq!(form(&s, &format!("/runs/{calm}/repair"), "author=Ada").await.0, 409, "nothing fell back there");
    assert_eq!(form(&s, &address, "author=Ada").await.0, 303);
    let journey = s.db.journeys(1).await.expect("rows").remove(0);
    assert_eq!((journey.version, journey.script.contains("press css \"#find\" or button \"Find\"")), (3, true));
    // What was played is not the newest any more: nothing of what came after is lost.
    let (status, says) = form(&s, &address, "author=Ada").await;
    assert!(status == 409 && says.contains("saved version 3 meanwhile"), "{says}");
    let page = get(&s, &format!("/runs/{fell}")).await.1;
    assert!(page.contains("This run played version 2") && !page.contains("Accept as version"), "{page}");
}

#[tokio::test]
async fn what_a_run_saw_is_accepted_by_somebody_and_later_runs_are_held_against_it() {
    let s = server().await;
    let look = |seen: &str, changed: Option<&str>| Looked {
        key: "Open: text".into(),
        look: Look::Text,
        seen: seen.into(),
        changed: changed.map(String::from),
    };
    bring(&s, 12, |r| r.steps[0].looked = vec![look("Departures\nPlatform 1", None)]).await;
    let moved = bring(&s, 7, |r| {
        r.outcome = Outcome::Failed;
        r.steps[0].looked = vec![look("Departures\nPlatform 2", Some("One line is not as it was."))];
    })
    .await;
    s.db.accept(1, &[&look("Departures\nPlatform 1", None)], "Ada", Timestamp::now()).await.expect("accepted");
    let page = get(&s, &format!("/runs/{moved}")).await.1;
    assert!(page.contains("Accepted now: by Ada") && page.contains("One line is not as it was."), "{page}");
    assert!(page.contains("<span class=\"gone\">− Platform 1") && page.contains("<span class=\"new\">+ Platform 2"));

    assert_eq!(form(&s, &format!("/runs/{moved}/accept"), "author=Bo").await.0, 303);
    let accepted = s.db.accepted(1).await.expect("rows");
    assert_eq!(accepted.len(), 1);
    assert_eq!((accepted[0].seen.as_str(), accepted[0].author.as_str()), ("Departures\nPlatform 2", "Bo"));
    assert!(get(&s, &format!("/runs/{moved}")).await.1.contains("Accepted now: by Bo"));
    // The next run is given it to look against.
    s.db.make_due(Timestamp::now()).await.expect("due");
    let client = reqwest::Client::new();
    let asked = client.post(format!("{}/api/runner/lease", s.server.address)).bearer_auth("token-b");
    let asked =
        asked.json(&json!({ "runner": "r", "program": "0.1.0", "protocol": 4 })).send().await.expect("an answer");
    assert!(asked.text().await.expect("work").contains("Platform 2"));
}

#[tokio::test]
async fn a_step_that_fails_or_is_over_its_budget_is_told_with_its_newest_such_run() {
    let s = server().await;
    play(&s, &[Outcome::Passed, Outcome::Failed]).await;
    assert!(!get(&s, "/journeys").await.1.contains("Steps in trouble"), "one failed run is no pattern");
    let second = bring(&s, 0, |r| *r = record(r.id, Outcome::Failed)).await;
    let page = get(&s, "/journeys").await.1;
    let told = page.split("Steps in trouble").nth(1).unwrap_or_else(|| panic!("{page}"));
    assert!(told.contains(&format!("/runs/{second}?step=0")) && told.contains("2 runs failed in it"), "{told}");

    // Over its budget of two seconds, in enough runs to be sure.
    let s = server().await;
    let mut newest = Uuid::nil();
    for nth in 0..40 {
        newest = bring(&s, 5 * (41 - nth), |r| {
            r.duration_ms = 2_600.0 + nth as f64;
            r.steps[0].duration_ms = r.duration_ms;
        })
        .await;
    }
    let page = get(&s, "/journeys").await.1;
    let told = page.split("Steps in trouble").nth(1).unwrap_or_else(|| panic!("{page}"));
    assert!(told.contains(&format!("/runs/{newest}?step=0")) && told.contains("of 2.0 s"), "{told}");
}

#[tokio::test]
async fn an_archive_is_read_with_its_own_first_party_and_what_is_none_is_told_where() {
    let s = server().await;
    let read = async |path: &str, body: String| {
        let request = serving::page_of_its_own().post(format!("{}{path}", s.server.address)).body(body);
        let answer = request.send().await.expect("an answer");
        (answer.status().as_u16(), answer.text().await.expect("a body"))
    };
    let entry = |page: &str, url: &str, wait: u32| {
        json!({ "pageref": page, "startedDateTime": "2026-11-22T08:30:00.100Z", "time": wait, "request": { "url": url },
            "response": { "status": 200, "content": { "mimeType": "text/html" } }, "timings": { "wait": wait } })
    };
    let page = |id: &str| json!({ "id": id, "title": format!("Page {id}"), "startedDateTime": "2026-11-22T08:30:00Z" });
    let archive = json!({ "log": { "version": "1.2", "pages": [page("a"), page("b")], "entries": [
        entry("a", "https://www.isles.example/", 300), entry("a", "https://book.marram.example/x.js", 40),
        entry("b", "https://static.isles.example/b.css", 70)] } });
    let (status, shown) = read("/har", archive.to_string()).await;
    assert_eq!(status, 200);
    assert!(shown.contains("3 requests of 2 pages") && shown.contains("Page a"), "{shown}");
    // Whose archive it is, its first page says: the site of this installation is a third party in it.
    let row = |host: &str, party: &str| format!("<th scope=\"row\">{host}</th><td>{party}</td>");
    assert!(shown.contains(&row("www.isles.example", "first")), "{shown}");
    assert!(shown.contains(&row("book.marram.example", "third")), "{shown}");
    let (_, second) = read("/har?step=1", archive.to_string()).await;
    assert!(second.contains(&row("static.isles.example", "first")), "{second}");
    let (status, says) = read("/har", "{\"log\": {\"entries\": 7}}".into()).await;
    assert!(status == 422 && says.contains("line 1 column"), "{says}");
    let (status, says) = read("/har", "{\"log\": {\"entries\": []}}".into()).await;
    assert!(status == 422 && says.contains("There is no request in it"), "{says}");
}

#[test]
fn a_browser_that_will_not_start_is_our_own_trouble_and_no_failure_of_the_site() {
    let dir = std::env::temp_dir().join(format!("cadentis-play-{}", Uuid::new_v4().simple()));
    std::fs::create_dir(&dir).expect("a directory");
    let file = dir.join("look.cadentis");
    std::fs::write(&file, "script \"Look\"\nstep \"Page\"\n  open http://book.marram.example/\n").expect("written");
    let play = |file: &std::path::Path| {
        // There is no driver where the program looks for one.
        let run = Command::new(env!("CARGO_BIN_EXE_cadentis")).env("PATH", &dir).arg("play").arg(file).output();
        run.expect("it runs")
    };
    let told = play(&file);
    let says = String::from_utf8_lossy(&[told.stdout, told.stderr].concat()).to_lowercase();
    assert_eq!(told.status.code(), Some(2), "{says}");
    assert!(says.contains("unmeasured") && says.contains("the browser driver did not start"), "{says}");

    std::fs::write(&file, "script \"Look\"\nstep \"Page\"\n  opne http://book.marram.example/\n").expect("written");
    let told = play(&file);
    let says = String::from_utf8_lossy(&[told.stdout, told.stderr].concat()).to_string();
    assert_eq!(told.status.code(), Some(2), "{says}");
    assert!(says.contains("line 3, column 3: found `opne`"), "{says}");
    std::fs::remove_dir_all(dir).expect("removed");
}
