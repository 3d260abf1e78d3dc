//! What pipelines ask: scripts pushed and pulled, gates, JUnit; each as the guide says it.

use crate::runs::{form, play_all};
use crate::server::{Served, get, server};
use crate::serving;
use cadentis_core::access::Scope;
use serde_json::{Value, json};
use std::path::Path;
use std::process::Command;
use uuid::Uuid;

fn temporary(what: &str) -> std::path::PathBuf {
    let dir = std::env::temp_dir().join(format!("cadentis-{what}-{}", Uuid::new_v4().simple()));
    std::fs::create_dir(&dir).expect("a directory");
    dir
}

/// A command that asks the server with a token; its code and what it says.
fn ask(s: &Served, token: &str, dir: &Path, args: &[&str]) -> (Option<i32>, String) {
    let mut command = Command::new(env!("CARGO_BIN_EXE_cadentis"));
    command.args(args).current_dir(dir).env("CADENTIS_SERVER", &s.server.address);
    command.env("CADENTIS_SITE", "marram-ferries").env("CADENTIS_TOKEN", token);
    let end = command.output().expect("it runs");
    (end.status.code(), String::from_utf8_lossy(&[end.stdout, end.stderr].concat()).to_string())
}

#[tokio::test]
async fn scripts_are_kept_beside_the_code_and_nothing_that_somebody_else_changed_is_lost() {
    let s = server().await;
    let dir = temporary("push");
    let token = serving::token(&s.db, 1, &[Scope::Read, Scope::Write]).await;
    let run = |line: &str| ask(&s, &token, &dir, &line.split(' ').collect::<Vec<_>>());
    let file = dir.join("journeys/book.cadentis");
    let here = || std::fs::read_to_string(&file).expect("a file");
    let there = async || s.db.journeys(1).await.expect("rows")[0].script.clone();
    let versions = async || s.db.versions(1).await.expect("rows");

    let (code, says) = run("pull journeys --dry-run");
    assert!(code == Some(0) && says.contains("new there     book, version 1"), "{says}");
    assert!(says.contains("+script \"Book\"") && !file.exists(), "it did nothing: {says}");
    assert_eq!(run("pull journeys").0, Some(0));
    assert_eq!(here(), there().await);
    assert_eq!(run("push journeys"), (Some(0), String::new()), "nothing was changed");

    // Changed here alone: shown, then saved.
    std::fs::write(&file, here().replace("within 2 s", "within 3 s")).expect("written");
    let (code, says) = run("push journeys --dry-run");
    assert!(
        code == Some(0) && says.contains("-  within 2 s") && says.contains("+  within 3 s"),
        "{says}"
    );
    assert_eq!(versions().await.len(), 1, "it did nothing");
    let (code, says) = run("pull journeys");
    assert!(code == Some(0) && says.contains("changed here  book: push it"), "{says}");
    let (code, says) = run("push journeys --note slower");
    assert!(code == Some(0) && says.contains("saved      book, version 2"), "{says}");
    let newest = versions().await[0].clone();
    assert_eq!((newest.author.as_str(), newest.note.as_str()), ("token a test", "slower"));
    assert_eq!(there().await, here());

    // Somebody saves another one on its page: pulled while nothing is changed here, a conflict when it is.
    let save = async |script: &str, based_on: i32| {
        let to = format!("{}/marram-ferries/journeys/book/script", s.server.address);
        let body = json!({ "script": script, "based_on": based_on, "note": "" });
        let sent = serving::page_of_its_own().post(to).json(&body).send().await;
        sent.expect("an answer").status().as_u16()
    };
    let theirs = here().replace("within 3 s", "within 4 s");
    assert_eq!(save(&theirs, 2).await, 200);
    let (code, says) = run("push journeys");
    assert_eq!((code, says.as_str()), (Some(0), ""), "it was changed there alone");
    let (_, says) = run("pull journeys");
    assert!(says.contains("newer there   book, version 3") && here() == theirs, "{says}");
    assert_eq!(save(&theirs.replace("4 s", "5 s"), 3).await, 200);
    std::fs::write(&file, theirs.replace("4 s", "6 s")).expect("written");
    std::fs::write(dir.join("journeys/timetable.cadentis"), theirs.replace("Book", "Timetable"))
        .expect("written");
    for line in ["push journeys", "pull journeys"] {
        let (code, says) = run(line);
        let both = "Ada saved version 4 on";
        assert!(
            code == Some(1) && says.contains(both) && says.contains("changed here, too"),
            "{line}: {says}"
        );
        assert!(here().contains("within 6 s"), "{line}: nothing is lost");
    }
    assert_eq!(
        (versions().await.len(), s.db.journeys(1).await.expect("rows").len()),
        (4, 1),
        "none was saved"
    );
    let (code, says) = run("push journeys --over");
    assert!(
        code == Some(0)
            && says.contains("book, version 5")
            && says.contains("timetable, version 1"),
        "{says}"
    );
    let added = s.db.journeys(1).await.expect("rows").into_iter().find(|j| j.slug == "timetable");
    assert_eq!(added.map(|j| (j.name, j.status)), Some(("Timetable".into(), "paused".into())));

    // What the same token saved came from here: a folder that was taken from version control anew goes on from it.
    std::fs::remove_file(dir.join("journeys/.cadentis.json")).expect("removed");
    std::fs::write(&file, theirs.replace("4 s", "7 s")).expect("written");
    let (code, says) = run("push journeys");
    assert!(code == Some(0) && says.contains("book, version 6"), "{says}");
    std::fs::remove_dir_all(dir).expect("removed");
}

#[tokio::test]
async fn what_cannot_be_pushed_is_told_where_and_what_nobody_may_stays_as_it_is() {
    let s = server().await;
    let dir = temporary("refused");
    let token = serving::token(&s.db, 1, &[Scope::Read, Scope::Write]).await;
    let reads = serving::token(&s.db, 1, &[Scope::Read]).await;
    let file = |name: &str| dir.join("journeys").join(name);
    assert_eq!(ask(&s, &reads, &dir, &["pull", "journeys"]).0, Some(0));
    let good = std::fs::read_to_string(file("book.cadentis")).expect("a file");
    std::fs::write(file("book.cadentis"), good.replace("within 2 s", "within 3 s"))
        .expect("written");
    let (code, says) = ask(&s, &reads, &dir, &["push", "journeys"]);
    assert!(code == Some(1) && says.contains("This token was not made for that."), "{says}");
    // One that cannot be read keeps all of them here.
    std::fs::write(file("timetable.cadentis"), "script \"x\"\nstep \"y\"\n  opne z\n")
        .expect("written");
    let (code, says) = ask(&s, &token, &dir, &["push", "journeys"]);
    assert!(code == Some(1) && says.contains("timetable.cadentis: line 3, column 3"), "{says}");
    assert!(
        says.contains("Nothing was saved.") && s.db.versions(1).await.expect("rows").len() == 1,
        "{says}"
    );
    // What only the server knows is wrong: a part that is not there.
    std::fs::write(file("timetable.cadentis"), "script \"x\"\nstep \"y\"\n  follow \"nobody\"\n")
        .expect("written");
    let (code, says) = ask(&s, &token, &dir, &["push", "journeys"]);
    assert!(code == Some(1) && says.contains("refused    timetable (422"), "{says}");
    std::fs::write(file("Time table.cadentis"), &good).expect("written");
    let (code, says) = ask(&s, &token, &dir, &["push", "journeys"]);
    assert!(code == Some(2) && says.contains("such as time-table.cadentis"), "{says}");
    let (code, says) = ask(&s, &token, &dir, &["push", "nowhere"]);
    assert!(code == Some(2) && says.contains("nowhere"), "{says}");
    let (code, says) = ask(&s, "0", &dir, &["pull", "journeys"]);
    assert!(code == Some(2) && says.contains("401"), "{says}");
    let (code, says) =
        ask(&s, &token, &dir, &["pull", "journeys", "--server", "http://127.0.0.1:9"]);
    assert!(code == Some(2) && says.contains("did not answer"), "{says}");
    // Of another site: nothing is mixed up.
    serving::another_site(&s.db).await;
    let (code, says) = ask(&s, &token, &dir, &["pull", "journeys", "--site", "harbour"]);
    assert!(code == Some(2), "{says}");
    assert_eq!(get(&s, "/marram-ferries/journeys/record").await.0, 200);
    let client = serving::program(&token);
    let put = async |name: &str, body: Value| {
        let to = format!("{}/api/v1/sites/marram-ferries/scripts/{name}", s.server.address);
        let answer = client.put(to).json(&body).send().await.expect("an answer");
        (answer.status().as_u16(), answer.json::<Value>().await.expect("JSON"))
    };
    for name in ["record", "Book", "a--b"] {
        let (status, told) = put(name, json!({ "script": good })).await;
        assert_eq!(status, 422, "{name}: {told}");
    }
    let (status, told) = put("book", json!({ "script": good })).await;
    assert!(
        status == 409 && told["detail"].as_str().is_some_and(|d| d.contains("which version")),
        "{told}"
    );
    let (status, told) = put("book", json!({ "script": good, "based_on": 7 })).await;
    assert_eq!((status, &told["errors"]), (409, &Value::Null), "{told}");
    assert_eq!(put("nowhere", json!({ "script": good, "based_on": 1 })).await.0, 404);
    std::fs::remove_dir_all(dir).expect("removed");
}

/// The commands that the guide shows, as it shows them.
fn shown_in_the_guide() -> Vec<String> {
    let guide = include_str!("../../../../docs/pipelines.md");
    let blocks = guide.split("```sh\n").skip(1).filter_map(|b| b.split("```").next());
    let lines = blocks.flat_map(str::lines).filter(|l| l.starts_with("cadentis "));
    lines.map(str::to_string).collect()
}

#[tokio::test]
async fn the_gate_stops_what_is_surely_slower_or_fails_more_and_does_not_guess_as_the_guide_says() {
    let s = server().await;
    assert_eq!(form(&s, "/marram-ferries/journeys/book/duplicate", "environment=").await.0, 303);
    let journeys = s.db.journeys(1).await.expect("rows");
    let copy = journeys.iter().find(|j| j.slug != "book").expect("a copy").clone();
    let status = format!("/marram-ferries/journeys/{}/status", copy.slug);
    assert_eq!(form(&s, &status, "status=active").await.0, 303);
    let token = serving::token(&s.db, 1, &[cadentis_core::access::Scope::Read]).await;
    let guide: Vec<String> = shown_in_the_guide();
    let shown = guide.iter().find(|l| l.starts_with("cadentis gate ")).expect("it is shown");
    let run = |more: &str| {
        // As the guide says it, with the names of this site.
        let line = shown
            .replace("book-a-crossing-pre-release", &copy.slug)
            .replace("book-a-crossing", "book")
            .replacen("cadentis", env!("CARGO_BIN_EXE_cadentis"), 1);
        // What is said again takes the place of what the guide says.
        let line = match more.starts_with("--allow") {
            true => line.replace("--allow 5", ""),
            false => line,
        };
        let mut shell = Command::new("sh");
        shell.args(["-c", &format!("{line} {more}")]);
        shell.env("CADENTIS_SERVER", &s.server.address).env("CADENTIS_SITE", "marram-ferries");
        let end = shell.env("CADENTIS_TOKEN", &token).output().expect("it runs");
        let text = |bytes: Vec<u8>| String::from_utf8(bytes).expect("text");
        (end.status.code(), format!("{}{}", text(end.stdout), text(end.stderr)))
    };
    let (code, says) = run("");
    assert!(code == Some(2) && says.contains("too few runs"), "nothing was played: {says}");
    for nth in 0..24 {
        play_all(&s, 130 - 5 * nth, |journey| {
            1_000.0 + 10.0 * nth as f64 + if journey == copy.id { 500.0 } else { 0.0 }
        })
        .await;
    }
    let (code, says) = run("");
    assert!(code == Some(1) && says.contains("surely worse than allowed"), "{says}");
    assert!(says.contains("24 runs live, 24 to be released; 0 and 0 of them failed"), "{says}");
    assert!(says.contains("Open") && says.contains("the whole run"), "{says}");
    let (code, says) = run("--allow 80");
    assert!(code == Some(0) && says.contains("passes"), "within what is allowed: {says}");
    let (code, says) = run("--allow 80 --json");
    let told: Value = serde_json::from_str(&says).expect("JSON");
    assert_eq!((code, &told["verdict"]), (Some(0), &json!("passes")));
    assert_eq!(told["pairs"][0]["difference_ms"], json!(500.0), "{told}");
    for (more, says) in [("--site x", "404"), ("--allow 2000", "It is a share from 0 to 10")] {
        let (code, told) = run(more);
        assert!(code == Some(2) && told.contains(says), "{told}");
    }
    let every: Vec<&str> = guide.iter().filter_map(|l| l.split(' ').nth(1)).collect();
    assert_eq!(
        every,
        ["play", "pull", "push", "push", "marker", "gate"],
        "each of them is run by a test"
    );
}

#[test]
fn what_a_pipeline_reads_of_a_run_is_what_another_reader_of_junit_finds_step_by_step() {
    let dir = std::env::temp_dir().join(format!("cadentis-junit-{}", Uuid::new_v4().simple()));
    std::fs::create_dir(&dir).expect("a directory");
    let (script, file) = (dir.join("book.cadentis"), dir.join("junit.xml"));
    let open = "open http://book.marram.example/";
    let text = format!(
        "script \"Look <&> about\"\nstep \"Timetable\"\n  {open}\n  expect text \"Timetable\"\nstep \"Nonsense\"\n  {open}\n  \
         expect text \"no ferry \\\"sails\\\"\" up to 1 s\nstep \"Later\"\n  {open}\n"
    );
    let read = "import sys, json, junitparser\n\
        x = junitparser.JUnitXml.fromfile(sys.argv[1])\n\
        s = list(x)[0]\n\
        print(json.dumps([s.name, [[c.name, c.classname, (c.time or 0) > 0,\n\
          [type(r).__name__ + ' ' + (r.type or '') for r in c.result], [r.message for r in c.result]] for c in s],\n\
          s.tests, s.failures, s.errors, s.skipped]))";
    let played = |text: &str| {
        std::fs::write(&script, text).expect("written");
        let run = Command::new(env!("CARGO_BIN_EXE_cadentis"))
            .args(["play", "--location", "bergen", "--junit"])
            .args([&file, &script])
            .output()
            .expect("it runs");
        let told = Command::new("/usr/bin/python3").args(["-c", read]).arg(&file).output();
        let told = told.expect("python3");
        let says = String::from_utf8_lossy(&[run.stdout, run.stderr].concat()).to_string();
        let told: Value = serde_json::from_slice(&told.stdout)
            .unwrap_or_else(|e| panic!("{e}: {says} {}", String::from_utf8_lossy(&told.stderr)));
        (run.status.code(), told)
    };
    let (code, told) = played(&text);
    assert_eq!((code, &told[0]), (Some(1), &json!("Look <&> about")), "{told}");
    let cases = told[1].as_array().expect("a list");
    assert_eq!(cases[0], json!(["Timetable", "Look <&> about", true, [], []]));
    assert_eq!((&cases[1][0], &cases[1][3]), (&json!("Nonsense"), &json!(["Failure failed"])));
    let why = cases[1][4][0].as_str().expect("a text");
    assert!(why.contains("line 7") && why.contains("no ferry \"sails\""), "{why}");
    assert_eq!((&cases[2][0], &cases[2][3]), (&json!("Later"), &json!(["Skipped "])));
    assert_eq!([&told[2], &told[3], &told[4], &told[5]], [3, 1, 0, 1].map(|n| json!(n)).each_ref());
    let (code, told) = played("script \"x\"\nstep \"y\"\n  opne z\n");
    assert_eq!((code, &told[1][0][3]), (Some(2), &json!(["Error unmeasured"])), "{told}");
    std::fs::remove_dir_all(dir).expect("removed");
}
