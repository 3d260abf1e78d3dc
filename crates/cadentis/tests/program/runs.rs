//! What a run tells and what is done about it: repairing, accepting, reading archives, steps in trouble.

use crate::server::{Served, get, play, record, server};
use crate::serving;
use cadentis_core::calendar::Maintenance;
use cadentis_core::calendar::Stretch;
use cadentis_core::journey::FellBack;
use cadentis_core::run::looked::{Look, Looked};
use cadentis_core::run::{Asked, Outcome, Request, RunRecord};
use cadentis_core::timing::Phases;
use cadentis_store::script_version::Edit;
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

/// What a form of this body is answered.
pub async fn form(s: &Served, path: &str, body: &str) -> (u16, String) {
    let request = serving::page_of_its_own().post(format!("{}{path}", s.server.address));
    let request =
        request.header("content-type", "application/x-www-form-urlencoded").body(body.to_string());
    let answer = request.send().await.expect("an answer");
    (answer.status().as_u16(), answer.text().await.expect("a body"))
}

#[tokio::test]
async fn the_script_with_what_held_on_top_is_shown_beside_the_old_one_and_becomes_the_next_version_once()
 {
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
    assert!(!get(&s, &format!("/marram-ferries/runs/{calm}")).await.1.contains("What fell back"));
    let page = get(&s, &format!("/marram-ferries/runs/{fell}")).await.1;
    let part = page.split("What fell back").nth(1).unwrap_or_else(|| panic!("{page}"));
    assert!(part.contains("<span class=\"gone\">−   press button &#34;Find&#34; or css"), "{part}");
    assert!(part.contains("<span class=\"new\">+   press css &#34;#find&#34; or button"), "{part}");
    assert!(part.contains("Accept as version 3"), "{part}");

    let address = format!("/marram-ferries/runs/{fell}/repair");
    assert_eq!(
        form(&s, &format!("/marram-ferries/runs/{calm}/repair"), "").await.0,
        409,
        "nothing fell back there"
    );
    assert_eq!(form(&s, &address, "").await.0, 303);
    let journey = s.db.journeys(1).await.expect("rows").remove(0);
    assert_eq!(
        (journey.version, journey.script.contains("press css \"#find\" or button \"Find\"")),
        (3, true)
    );
    // What was played is not the newest any more: nothing of what came after is lost.
    let (status, says) = form(&s, &address, "").await;
    assert!(status == 409 && says.contains("saved version 3 meanwhile"), "{says}");
    let page = get(&s, &format!("/marram-ferries/runs/{fell}")).await.1;
    assert!(
        page.contains("This run played version 2") && !page.contains("Accept as version"),
        "{page}"
    );
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
        r.steps[0].looked =
            vec![look("Departures\nPlatform 2", Some("One line is not as it was."))];
    })
    .await;
    s.db.accept(1, &[&look("Departures\nPlatform 1", None)], "Bo", Timestamp::now())
        .await
        .expect("accepted");
    let page = get(&s, &format!("/marram-ferries/runs/{moved}")).await.1;
    assert!(
        page.contains("Accepted now: by Bo") && page.contains("One line is not as it was."),
        "{page}"
    );
    assert!(
        page.contains("<span class=\"gone\">− Platform 1")
            && page.contains("<span class=\"new\">+ Platform 2")
    );

    assert_eq!(form(&s, &format!("/marram-ferries/runs/{moved}/accept"), "").await.0, 303);
    let accepted = s.db.accepted(1).await.expect("rows");
    assert_eq!(accepted.len(), 1);
    assert_eq!(
        (accepted[0].seen.as_str(), accepted[0].author.as_str()),
        ("Departures\nPlatform 2", "Ada")
    );
    assert!(
        get(&s, &format!("/marram-ferries/runs/{moved}")).await.1.contains("Accepted now: by Ada")
    );
    // The next run is given it to look against.
    s.db.make_due(Timestamp::now()).await.expect("due");
    let client = reqwest::Client::new();
    let asked =
        client.post(format!("{}/api/runner/lease", s.server.address)).bearer_auth("token-b");
    let asked = asked
        .json(&json!({ "runner": "r", "program": "0.1.0", "protocol": 4 }))
        .send()
        .await
        .expect("an answer");
    assert!(asked.text().await.expect("work").contains("Platform 2"));
}

#[tokio::test]
async fn a_step_that_fails_or_is_over_its_budget_is_told_with_its_newest_such_run() {
    let s = server().await;
    play(&s, &[Outcome::Passed, Outcome::Failed]).await;
    assert!(
        !get(&s, "/marram-ferries/journeys").await.1.contains("Steps in trouble"),
        "one failed run is no pattern"
    );
    let second = bring(&s, 0, |r| *r = record(r.id, Outcome::Failed)).await;
    let page = get(&s, "/marram-ferries/journeys").await.1;
    let told = page.split("Steps in trouble").nth(1).unwrap_or_else(|| panic!("{page}"));
    assert!(
        told.contains(&format!("/marram-ferries/runs/{second}?step=0"))
            && told.contains("2 runs failed in it"),
        "{told}"
    );

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
    let page = get(&s, "/marram-ferries/journeys").await.1;
    let told = page.split("Steps in trouble").nth(1).unwrap_or_else(|| panic!("{page}"));
    assert!(
        told.contains(&format!("/marram-ferries/runs/{newest}?step=0"))
            && told.contains("of 2.0 s"),
        "{told}"
    );
}

#[tokio::test]
async fn an_archive_is_read_with_its_own_first_party_and_what_is_none_is_told_where() {
    let s = server().await;
    let read = async |path: &str, body: String| {
        let request =
            serving::page_of_its_own().post(format!("{}{path}", s.server.address)).body(body);
        let answer = request.send().await.expect("an answer");
        let status = answer.status().as_u16();
        // How cells of a table are laid out in lines says nothing.
        let body = answer.text().await.expect("a body").replace("</th>\n ", "</th>");
        (status, body)
    };
    let entry = |page: &str, url: &str, wait: u32| {
        json!({ "pageref": page, "startedDateTime": "2026-11-22T08:30:00.100Z", "time": wait, "request": { "url": url },
            "response": { "status": 200, "content": { "mimeType": "text/html" } }, "timings": { "wait": wait } })
    };
    let page = |id: &str| json!({ "id": id, "title": format!("Page {id}"), "startedDateTime": "2026-11-22T08:30:00Z" });
    let archive = json!({ "log": { "version": "1.2", "pages": [page("a"), page("b")], "entries": [
        entry("a", "https://www.isles.example/", 300), entry("a", "https://book.marram.example/x.js", 40),
        entry("b", "https://static.isles.example/b.css", 70)] } });
    let (status, shown) = read("/marram-ferries/har", archive.to_string()).await;
    assert_eq!(status, 200);
    assert!(shown.contains("3 requests of 2 pages") && shown.contains("Page a"), "{shown}");
    // Whose archive it is, its first page says: the site of this installation is a third party in it.
    let row = |host: &str, party: &str| format!("<th scope=\"row\">{host}</th><td>{party}</td>");
    assert!(shown.contains(&row("www.isles.example", "first")), "{shown}");
    assert!(shown.contains(&row("book.marram.example", "third")), "{shown}");
    let (_, second) = read("/marram-ferries/har?step=1", archive.to_string()).await;
    assert!(second.contains(&row("static.isles.example", "first")), "{second}");
    let (status, says) = read("/marram-ferries/har", "{\"log\": {\"entries\": 7}}".into()).await;
    assert!(status == 422 && says.contains("line 1 column"), "{says}");
    let (status, says) = read("/marram-ferries/har", "{\"log\": {\"entries\": []}}".into()).await;
    assert!(status == 422 && says.contains("There is no request in it"), "{says}");
}

#[test]
fn a_browser_that_will_not_start_is_our_own_trouble_and_no_failure_of_the_site() {
    let dir = std::env::temp_dir().join(format!("cadentis-play-{}", Uuid::new_v4().simple()));
    std::fs::create_dir(&dir).expect("a directory");
    let file = dir.join("look.cadentis");
    std::fs::write(&file, "script \"Look\"\nstep \"Page\"\n  open http://book.marram.example/\n")
        .expect("written");
    let play = |file: &std::path::Path| {
        // There is no driver where the program looks for one.
        let run = Command::new(env!("CARGO_BIN_EXE_cadentis"))
            .env("PATH", &dir)
            .arg("play")
            .arg(file)
            .output();
        run.expect("it runs")
    };
    let told = play(&file);
    let says = String::from_utf8_lossy(&[told.stdout, told.stderr].concat()).to_lowercase();
    assert_eq!(told.status.code(), Some(2), "{says}");
    assert!(
        says.contains("unmeasured") && says.contains("the browser driver did not start"),
        "{says}"
    );

    std::fs::write(&file, "script \"Look\"\nstep \"Page\"\n  opne http://book.marram.example/\n")
        .expect("written");
    let told = play(&file);
    let says = String::from_utf8_lossy(&[told.stdout, told.stderr].concat()).to_string();
    assert_eq!(told.status.code(), Some(2), "{says}");
    assert!(says.contains("line 3, column 3: found `opne`"), "{says}");
    std::fs::remove_dir_all(dir).expect("removed");
}

/// Plays all that is due at the first location, each journey as long as `takes` says.
pub async fn play_all(s: &Served, minutes_ago: i64, takes: impl Fn(i32) -> f64) {
    let at = Timestamp::now() - SignedDuration::from_mins(minutes_ago);
    s.db.make_due(at).await.expect("due");
    while let Some(work) = s.db.lease(1, "r", at, at).await.expect("asked") {
        let mut record = record(work.id, Outcome::Passed);
        record.duration_ms = takes(work.journey_id);
        record.steps[0].duration_ms = record.duration_ms;
        record.steps[0].requests = vec![document()];
        s.db.finish(1, record).await.expect("stored");
    }
}

fn document() -> Request {
    Request {
        url: "http://book.marram.example/cabin?x=1".into(),
        method: "GET".into(),
        kind: "document".into(),
        status: 200,
        start_ms: 0.0,
        phases: Phases::default(),
        bytes: 4_000,
        protocol: String::new(),
        from_cache: false,
        failed: None,
        trace: None,
        asked: Asked::default(),
    }
}

#[tokio::test]
async fn a_journey_stands_beside_its_copy_with_what_counts_of_both() {
    let s = server().await;
    assert_eq!(form(&s, "/marram-ferries/journeys/book/duplicate", "environment=").await.0, 303);
    let journeys = s.db.journeys(1).await.expect("rows");
    let copy = journeys.iter().find(|j| j.slug != "book").expect("a copy");
    assert_eq!(
        form(&s, &format!("/marram-ferries/journeys/{}/status", copy.slug), "status=active")
            .await
            .0,
        303
    );
    // Eleven runs of each, a second slower there; then two in maintenance that would move every number.
    for nth in 0..11 {
        play_all(&s, 70 - 5 * nth, |journey| {
            1_000.0 + 10.0 * nth as f64 + if journey == copy.id { 1_000.0 } else { 0.0 }
        })
        .await;
    }
    for minutes in [12, 7] {
        play_all(&s, minutes, |_| 60_000.0).await;
    }
    // A run is of its slot, which lies up to five minutes before: the last two are within 17 minutes, the others are not.
    let work = Stretch::last(18 * 60, Timestamp::now());
    s.db.plan(1, &Maintenance::once(work, "work"), "", "").await.expect("added");
    let (status, part) = get(&s, "/marram-ferries/journeys/book/weeks").await;
    assert_eq!(status, 200);
    // Nearest rank of eleven: the 6th and the 9th.
    let row =
        part.split("<th scope=\"row\">Whole run</th>").nth(1).unwrap_or_else(|| panic!("{part}"));
    let cells: Vec<&str> =
        row.split("</td>").take(5).map(|c| c.rsplit('>').next().unwrap_or("")).collect();
    assert_eq!(cells, ["1.05", "2.05", "1.08", "2.08", "+1.00"], "{row}");
    let alone = get(&s, "/marram-ferries/journeys/book/weeks?beside=").await.1;
    assert!(alone.contains("Side by side with") && !alone.contains("Whole run</th>"), "{alone}");
}

#[tokio::test]
async fn a_script_that_nothing_can_read_is_told_where_it_stands_and_brings_no_page_down() {
    let s = server().await;
    let id = play(&s, &[Outcome::Passed]).await[0];
    let edit = Edit {
        script: "script \"Book\"\nstep \"Open\"\n  opne x\n",
        name: "Book",
        based_on: 1,
        author: "Ada",
        note: "",
    };
    s.db.save_script(1, &edit, Timestamp::now()).await.expect("saved past the page that checks it");
    for path in [
        "/marram-ferries",
        "/marram-ferries/journeys",
        "/marram-ferries/journeys/book/script",
        "/marram-ferries/journeys/book/runs",
        "/marram-ferries/goals",
        "/marram-ferries/locations/bergen",
    ] {
        assert_eq!(get(&s, path).await.0, 200, "{path}");
    }
    assert_eq!(
        get(&s, &format!("/marram-ferries/runs/{id}")).await.0,
        200,
        "what was played is not what is there now"
    );
    for path in ["/marram-ferries/journeys/book", "/marram-ferries/journeys/book/weeks"] {
        let (status, says) = get(&s, path).await;
        assert!(
            status == 422 && says.contains("line 3, column 3: found `opne`"),
            "{status} {says}"
        );
    }
    // Its page does not take it as it is.
    let text = json!({ "script": edit.script, "based_on": 2, "note": "" });
    let answer = serving::page_of_its_own()
        .post(format!("{}/marram-ferries/journeys/book/script", s.server.address))
        .json(&text);
    let answer = answer.send().await.expect("an answer");
    assert_eq!(answer.status(), 422);
    assert!(answer.text().await.expect("JSON").contains("found `opne`"));
}

#[tokio::test]
async fn a_location_is_moved_with_its_way_out_and_what_is_no_place_changes_nothing() {
    let s = server().await;
    let place = |latitude: &str, proxy: &str, denied: &str| {
        format!("slug=bergen&latitude={latitude}&longitude=5.32&proxy={proxy}&denied={denied}")
    };
    for (body, says) in [
        (place("91", "", ""), "Coordinates are degrees"),
        (place("north", "", ""), "Coordinates are degrees"),
        (
            place("60.39", "proxy.marram.example", ""),
            "A proxy is the address and port of a SOCKS5 server",
        ),
        (place("60.39", "", "10.0.0.0/33"), "is no network such as"),
    ] {
        let (status, page) = form(&s, "/setup/place", &body).await;
        assert!(status == 200 && page.contains(says), "{says}: {status}");
    }
    let bergen = async || {
        s.db.locations()
            .await
            .expect("rows")
            .into_iter()
            .find(|l| l.slug == "bergen")
            .expect("there")
    };
    assert_eq!((bergen().await.latitude, bergen().await.proxy), (None, None));
    assert_eq!(
        form(&s, "/setup/place", &place("60.39", "10.0.0.5:1080", "10.1.0.0/16+fe80::/10")).await.0,
        303
    );
    let moved = bergen().await;
    assert_eq!((moved.latitude, moved.longitude), (Some(60.39), Some(5.32)));
    // The next work for it goes that way, and not there.
    play_all(&s, 30, |_| 1_000.0).await;
    s.db.make_due(Timestamp::now()).await.expect("due");
    let work =
        s.db.lease(1, "r", Timestamp::now(), Timestamp::now()).await.expect("asked").expect("work");
    assert_eq!(work.proxy.as_deref(), Some("10.0.0.5:1080"));
    assert_eq!(work.denied, ["10.1.0.0/16", "fe80::/10"]);
}

#[tokio::test]
async fn scripted_runs_stand_beside_the_visitors_of_their_page_and_country() {
    let s = server().await;
    for nth in 0..25 {
        play_all(&s, 5 * (26 - nth), |_| 3_000.0).await;
    }
    let now = Timestamp::now().as_millisecond();
    let lines: Vec<String> = (1..=30_u128)
        .map(|nth| {
            json!({ "id": Uuid::from_u128(nth), "visit": Uuid::from_u128(nth), "url": "http://book.marram.example/cabin",
                "at": now - 60_000 * nth as i64, "device": "desktop", "load": 1_000, "country": "NO" })
            .to_string()
        })
        .collect();
    let import = serving::page_of_its_own().post(format!(
        "{}/marram-ferries/settings/visitors/import?file=a.ndjson&device=&country=",
        s.server.address
    ));
    let came = import
        .body(lines.join("\n"))
        .send()
        .await
        .expect("an answer")
        .text()
        .await
        .expect("a part");
    assert!(came.contains("30 page views are there now"), "{came}");
    let family = "Other+pages";
    let part = get(&s, &format!("/marram-ferries/visitors/family/beside?family={family}")).await.1;
    let row = |place: &str| {
        let row = part
            .split(&format!("<th scope=\"row\">{place}</th>"))
            .nth(1)
            .unwrap_or_else(|| panic!("{part}"));
        row.split("</tr>").next().unwrap_or("").to_string()
    };
    assert!(row("bergen").contains(">25<") && row("bergen").contains(">30<"), "{part}");
    assert!(row("bergen").contains("the runner is slower than visitors are"), "{part}");
    assert!(row("halifax").contains("too few samples to compare"), "{part}");
    assert!(part.contains("1 of 2 locations can be compared"), "{part}");
    // Under maintenance nothing is left to compare.
    s.db.plan(1, &Maintenance::once(Stretch::last(86_400, Timestamp::now()), "work"), "", "")
        .await
        .expect("added");
    let part = get(&s, &format!("/marram-ferries/visitors/family/beside?family={family}")).await.1;
    assert!(part.contains("0 of 2 locations can be compared"), "{part}");
}
