//! Reports: issued on the page, by programs and by themselves; what an issue says stays, what has changed since is told.

use crate::goals::forty_days;
use crate::server::{Served, get, post_form as post};
use crate::serving::{self, SLUG, Server, program};
use cadentis_answers::changes::Author;
use cadentis_answers::changes::reports::{self as changes, Wanted};
use cadentis_answers::compute::Compute;
use cadentis_answers::{Answers, reports};
use cadentis_core::access::Scope;
use cadentis_core::calendar::Stretch;
use cadentis_core::goal::{Definition as Goal, Period};
use cadentis_core::report::schedule::On;
use cadentis_core::report::{Definition, Kind, Schedule, covered};
use cadentis_standins::receivers::Receivers;
use cadentis_store::Db;
use cadentis_store::secret::Vault;
use cadentis_tell::{Settings, Teller};
use jiff::civil::time;
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use serde_json::{Value, json};
use sha2::{Digest, Sha256};
use std::process::Command;
use std::time::Duration;

fn sha256(bytes: &[u8]) -> String {
    Sha256::digest(bytes).iter().map(|b| format!("{b:02x}")).collect()
}

fn answers(db: &Db) -> Answers {
    let compute = Compute::start(1, 8, Duration::from_secs(60)).expect("threads");
    let vault = Vault::new(serving::KEY).expect("a key");
    Answers::new(db.clone(), compute).with_keys(Some(vault), None)
}

/// Forty days of runs, and a goal over the last seven of them.
async fn world() -> (Served, String) {
    let (db, url) = serving::database().await;
    let (site, _) = forty_days(&db).await;
    let journey = db.journeys(site).await.expect("rows")[0].id;
    let goal = Goal { period: Period::Days(7), ..Goal::monthly(journey, 0.98) };
    db.add_goal(site, "Bookable", (&goal, Timestamp::UNIX_EPOCH), "Ada").await.expect("a goal");
    let server = Server::start(&url);
    assert_eq!(server.up().await, 200);
    (Served { server, db }, url)
}

const FULL: [(&str, &str); 4] =
    [("name", "Service levels"), ("kind", "goals_full"), ("period", "rolling"), ("days", "7")];

fn path(of: &str) -> String {
    format!("/{SLUG}/reports{of}")
}

/// The share of runs that got through, counted from what is exported.
async fn counted_by_hand(s: &Served, covers: Stretch) -> (u64, u64) {
    let client = program(&serving::token(&s.db, 1, &[Scope::Read]).await);
    let journey = s.db.journeys(1).await.expect("rows")[0].slug.clone();
    let file = format!(
        "{}/api/v1/sites/{SLUG}/journeys/{journey}/runs.csv?from={}&to={}",
        s.server.address, covers.from, covers.to
    );
    let file = client.get(file).send().await.expect("an answer").text().await.expect("a text");
    let mut lines = file.lines();
    let head: Vec<&str> = lines.next().expect("a header").split(',').collect();
    let at = head.iter().position(|c| *c == "outcome").expect("a column");
    let outcomes: Vec<&str> = lines.filter_map(|l| l.split(',').nth(at)).collect();
    let failed = outcomes.iter().filter(|o| **o == "failed").count() as u64;
    let counted = outcomes.iter().filter(|o| **o != "unmeasured").count() as u64;
    (counted - failed, counted)
}

#[tokio::test]
async fn an_issue_stays_as_it_was_written_and_every_figure_that_changed_since_is_told() {
    let (s, url) = world().await;
    let (status, to, says) = post(&s, &path(""), &FULL).await;
    assert_eq!((status, to.as_str()), (303, path("/1").as_str()), "{says}");
    let page = get(&s, &path("/1")).await.1;
    assert!(page.contains("Not issued: what this report would say now"), "{page}");
    let (status, to, says) = post(&s, &path("/1/issue"), &[("back", "0")]).await;
    assert_eq!((status, to.as_str()), (303, path("/issues/1").as_str()), "{says}");
    let oslo = TimeZone::get("Europe/Oslo").expect("a zone");
    let covers = covered(Period::Days(7), Timestamp::now(), &oslo);
    let (good, counted) = counted_by_hand(&s, covers).await;
    assert!(counted > 1_000 && good < counted, "{good} of {counted}");
    let (status, issue) = get(&s, &path("/issues/1")).await;
    let kept = get(&s, &path("/issues/1/json")).await.1;
    assert_eq!(status, 200);
    assert!(issue.contains(&sha256(kept.as_bytes())), "the checksum is that of the file: {issue}");
    let content: Value = serde_json::from_str(&kept).expect("JSON");
    let figures = content["document"]["figures"].as_array().expect("a list");
    assert_eq!(figures[0]["value"], json!(good as f64 / counted as f64), "{figures:?}");
    let said = figures[0]["text"].as_str().expect("a text");
    assert!(issue.contains(&format!("{said}</dd>")), "what is read is on the page: {issue}");
    let file = get(&s, &path("/issues/1/csv")).await.1;
    assert!(
        file.contains(&format!("figures,\"availability, promised 98.000 %\",,{said}")),
        "{file}"
    );
    let since = get(&s, &path("/issues/1/since")).await.1;
    assert!(since.contains("Nothing has changed since"), "{since}");
    // Asked for again it says nothing new, and is not issued twice.
    let again = post(&s, &path("/1/issue"), &[("back", "0")]).await.1;
    assert_eq!(again, path("/issues/1?same=1"));

    // Five hours are taken out afterwards: the issue stays, and it is told which figures would be others.
    let late = Stretch {
        from: covers.from + SignedDuration::from_hours(30),
        to: covers.from + SignedDuration::from_hours(35),
    };
    s.db.add_carve_out(1, late, "release announced late", "Ada").await.expect("kept");
    assert_eq!(get(&s, &path("/issues/1/json")).await.1, kept, "byte for byte");
    let since = get(&s, &path("/issues/1/since")).await.1;
    let rows = since.matches("<th scope=\"row\">").count();
    assert!(rows > 3 && since.contains("Left out, and why, Carve-out: why"), "{since}");
    assert!(since.contains("runs counted") && since.contains(&counted_text(counted)), "{since}");
    let (status, to, _) = post(&s, &path("/1/issue"), &[("back", "0")]).await;
    assert_eq!((status, to.as_str()), (303, path("/issues/2").as_str()));
    let second = get(&s, &path("/issues/2")).await.1;
    assert!(second.contains("2, replaces 1 of ") && second.contains("Since the issue before"));
    assert!(second.contains("release announced late"), "{second}");
    let first = get(&s, &path("/issues/1")).await.1;
    assert!(first.contains("A newer issue of this time is there"), "{first}");

    // Whoever changes what is kept is found out.
    let pool = sqlx::PgPool::connect(&url).await.expect("a database");
    let sql = "UPDATE report_issue SET content = replace(content, 'Service levels', 'Service level') WHERE id = 1";
    sqlx::query(sql).execute(&pool).await.expect("changed");
    let found = get(&s, &path("/issues/1")).await.1;
    assert!(found.contains("This is not what was issued"), "{found}");
    // What is ended is issued no more, and what was issued stays.
    assert_eq!(post(&s, &path("/1/end"), &[]).await.0, 303);
    assert_eq!(post(&s, &path("/1/issue"), &[("back", "0")]).await.0, 409);
    assert_eq!(get(&s, &path("/issues/2")).await.0, 200);
    let told: Vec<String> =
        s.db.done(10).await.expect("rows").into_iter().map(|d| d.what).collect();
    assert_eq!(told[0], "ended the report");
    assert!(told.contains(&"issued the report".to_string()), "{told:?}");
}

fn counted_text(n: u64) -> String {
    cadentis_core::stats::proof::counted(n)
}

/// Every text that a document shows as a figure or a cell.
fn shown(content: &Value) -> Vec<String> {
    let document = &content["document"];
    let text = |v: &Value| v["text"].as_str().unwrap_or_default().to_string();
    let mut all: Vec<String> =
        document["figures"].as_array().expect("a list").iter().map(text).collect();
    all.push(document["says"].as_str().expect("a text").into());
    for section in document["sections"].as_array().expect("a list") {
        let rows = section["body"]["table"]["rows"].as_array().cloned().unwrap_or_default();
        all.extend(rows.iter().flat_map(|r| r.as_array().expect("a row")).map(text));
    }
    all.retain(|t| !t.is_empty());
    all
}

#[tokio::test]
async fn a_link_to_an_issue_opens_it_with_its_files_and_what_has_changed_and_no_other_issue() {
    let (s, _) = world().await;
    post(&s, &path(""), &FULL).await;
    for back in ["0", "1"] {
        assert_eq!(post(&s, &path("/1/issue"), &[("back", back)]).await.0, 303);
    }
    let to = "/reports/issues/1?from=2026-11-22T05:00Z&to=2026-11-22T11:00Z";
    let shared = post(&s, &format!("/{SLUG}/settings/shares"), &[("to", to), ("days", "7")]).await;
    let link = shared.2.split("<code>").nth(1).and_then(|rest| rest.split("</code>").next());
    let link = link.expect("a link").replace("&#38;", "&");
    let shown = serving::client_with("a=b").get(&link).send().await.expect("an answer");
    assert_eq!(shown.status(), 200);
    let cookie = shown.headers()["set-cookie"].to_str().expect("a cookie").to_string();
    let page = shown.text().await.expect("a page");
    assert!(page.contains("/reports/issues/1/pdf?paper=letter"), "it offers its files: {page}");
    let has_it = serving::client_with(cookie.split(';').next().expect("a cookie"));
    let ask = async |of: &str| {
        let asked = has_it.get(format!("{}{}", s.server.address, path(of)));
        asked.send().await.expect("an answer")
    };
    let kept = get(&s, &path("/issues/1/json")).await.1;
    assert_eq!(ask("/issues/1/json").await.text().await.expect("a file"), kept);
    for (of, kind) in [
        ("/issues/1/csv", "text/csv"),
        ("/issues/1/since", "text/html"),
        ("/issues/1/pdf?paper=letter", "application/pdf"),
    ] {
        let answer = ask(of).await;
        assert_eq!(answer.status(), 200, "{of}");
        assert!(answer.headers()["content-type"].to_str().expect("text").starts_with(kind), "{of}");
    }
    for of in ["/issues/2", "/issues/2/json", "/issues/2/pdf", "/1", ""] {
        assert_eq!(ask(of).await.status(), 303, "{of} leads to signing in");
    }
}

/// Text of each page, size in points and whether it is tagged, as pypdf reads them.
const READ_PDF: &str = "import sys, json, pypdf\nr = pypdf.PdfReader(sys.argv[1])\n\
    print(json.dumps({'pages': [p.extract_text() for p in r.pages], 'width': float(r.pages[0].mediabox.width),\n\
      'height': float(r.pages[0].mediabox.height), 'tagged': '/StructTreeRoot' in r.trailer['/Root'],\n\
      'outline': [o.title for o in r.outline if not isinstance(o, list)]}))";

fn read_pdf(pdf: &[u8]) -> Value {
    let file = std::env::temp_dir().join(format!("cadentis-test-{}.pdf", uuid::Uuid::new_v4()));
    std::fs::write(&file, pdf).expect("written");
    let read = Command::new("/usr/bin/python3")
        .args(["-c", READ_PDF])
        .arg(&file)
        .output()
        .expect("python3");
    let _ = std::fs::remove_file(&file);
    assert!(read.status.success(), "{}", String::from_utf8_lossy(&read.stderr));
    serde_json::from_slice(&read.stdout).expect("JSON")
}

/// Without spaces: where a line of a PDF ends is no part of what it says.
fn packed(text: &str) -> String {
    text.chars().filter(|c| !c.is_whitespace()).collect()
}

#[tokio::test]
async fn the_pdf_as_another_reader_reads_it_holds_every_figure_of_the_issue_page_by_page() {
    let (s, _) = world().await;
    post(&s, &path(""), &FULL).await;
    post(&s, &path("/1/issue"), &[("back", "1")]).await;
    let content: Value =
        serde_json::from_str(&get(&s, &path("/issues/1/json")).await.1).expect("JSON");
    let fetch = async |of: &str| {
        let at = format!("{}{}", s.server.address, path(of));
        let answer = serving::get(at).await.expect("an answer");
        (answer.status().as_u16(), answer.bytes().await.expect("bytes"))
    };
    let (status, pdf) = fetch("/issues/1/pdf").await;
    assert_eq!(status, 200, "{}", String::from_utf8_lossy(&pdf));
    let read = read_pdf(&pdf);
    let pages: Vec<&str> =
        read["pages"].as_array().expect("pages").iter().filter_map(Value::as_str).collect();
    let text = packed(&pages.concat());
    let shown = shown(&content);
    assert!(shown.len() > 20, "{shown:?}");
    for says in &shown {
        assert!(text.contains(&packed(says)), "“{says}” is not in the PDF: {text}");
    }
    assert!(text.contains(&packed("Table 1. By location")), "numbered: {text}");
    let many = pages.len();
    assert!(many > 1 && packed(pages[0]).contains(&format!("1of{many}")), "{}", pages[0]);
    assert!(packed(pages[many - 1]).contains(&format!("{many}of{many}")));
    assert_eq!(read["tagged"], json!(true));
    let size =
        |read: &Value| [&read["width"], &read["height"]].map(|v| v.as_f64().unwrap().round());
    // ISO 216: 210 mm by 297 mm; Letter is 8.5 by 11 inches; a point is 1/72 of an inch.
    assert_eq!(size(&read), [595.0, 842.0]);
    let letter = read_pdf(&fetch("/issues/1/pdf?paper=letter").await.1);
    assert_eq!(size(&letter), [612.0, 792.0]);
    assert_eq!(fetch("/issues/1/pdf?paper=a9").await.0, 400);
}

#[tokio::test]
async fn a_report_of_a_saved_view_tells_its_pieces_in_their_order_and_says_when_the_view_changed() {
    let (s, _) = world().await;
    let text = "Look at the lanes.\n\nThen at the goal.";
    let piece = |kind: &'static str, of: &'static str| [("piece", kind), ("of", of)];
    let form = |version: &'static str, pieces: &[[(&'static str, &'static str); 2]]| {
        let mut all = vec![("name", "Mornings"), ("span", "86400"), ("version", version)];
        all.extend(pieces.iter().flatten());
        all
    };
    let query = "availability, count of runs by location";
    let all =
        [piece("text", text), piece("goal", "1"), piece("line_up", "1 2"), piece("query", query)];
    let views = format!("/{SLUG}/views");
    assert_eq!(post(&s, &views, &form("0", &all)).await.0, 303);
    let fields = [("name", "Mornings"), ("kind", "view"), ("period", "rolling"), ("days", "7")];
    let (status, _, says) = post(&s, &path(""), &fields).await;
    assert!(status == 422 && says.contains("What it is about is not there: view."), "{says}");
    let fields = [&fields[..], &[("view", "1")]].concat();
    let (status, to, says) = post(&s, &path(""), &fields).await;
    assert_eq!((status, to.as_str()), (303, path("/1").as_str()), "{says}");
    assert_eq!(post(&s, &path("/1/issue"), &[("back", "0")]).await.0, 303);
    let issue = get(&s, &path("/issues/1")).await.1;
    let at = |text: &str| issue.find(text).unwrap_or_else(|| panic!("{text}: {issue}"));
    let places = [
        at("<p>Look at the lanes.</p><p>Then at the goal.</p>"),
        at("Bookable: Error budget left"),
        at("Lanes of book from Quay: Journeys"),
        at("Query: By location"),
    ];
    assert!(places.is_sorted(), "in their order: {places:?}");
    assert!(issue.contains("Mornings, version 1") && issue.contains("The promise was"), "{issue}");
    // The working of each piece says of which one it is; the file holds what the tables hold.
    assert!(issue.contains("<h3>Query: By location</h3>"), "{issue}");
    let file = get(&s, &path("/issues/1/csv")).await.1;
    assert!(file.contains("Query: By location,Bergen,count of runs,"), "{file}");
    // The view is another one: the issue stays, and says so; without the view there is nothing to tell.
    assert_eq!(post(&s, &format!("{views}/1"), &form("1", &all[1..])).await.0, 303);
    let since = get(&s, &path("/issues/1/since")).await.1;
    assert!(
        since.contains("Mornings, version 1") && since.contains("Mornings, version 2"),
        "{since}"
    );
    assert_eq!(get(&s, &path("/issues/1")).await.1.matches("Look at the lanes.").count(), 1);
    assert_eq!(post(&s, &format!("{views}/1/remove"), &[]).await.0, 303);
    let page = get(&s, &path("/1")).await.1;
    assert!(page.contains("The view that this report is of was taken away."), "{page}");
}

fn wanted(name: &str, kind: Kind, list: Option<i32>) -> Wanted {
    let schedule = Some(Schedule { on: On::EachDay, at: time(6, 0, 0, 0) });
    let definition = Definition {
        kind,
        period: Period::Days(1),
        goals: Vec::new(),
        journeys: Vec::new(),
        locations: Vec::new(),
        hours: None,
        filter: String::new(),
        query: String::new(),
        view: None,
        schedule,
    };
    Wanted { known: None, name: name.into(), definition, list }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_is_due_is_issued_once_whoever_looks_missed_ones_are_made_up_for_and_sent_to_who_may_see_them()
 {
    let (db, _url) = serving::database().await;
    forty_days(&db).await;
    let site = db.sites().await.expect("rows").remove(0);
    let answers = answers(&db);
    // Dot may not look at the site; nobody knows whose the other address is.
    let given = cadentis_store::person::Given {
        is_administrator: false,
        sees_people: false,
        roles: Vec::new(),
    };
    db.add_person("dot@marram.example", "Dot", &given).await.expect("a person");
    let got = Receivers::start(0, Vec::new()).await.expect("ports");
    let by = Author::named("Ada").expect("a name");
    let mut to = Vec::new();
    for (name, address) in [("Owner", "owner@ferries.example"), ("Dot", "Dot@marram.example")] {
        let mail = cadentis_core::alert::notice::Kind::Mail;
        let new = (name, mail, address);
        let id = db.add_destination(site.id, new, None, "Ada").await.expect("kept");
        to.push(id.expect("a new one"));
    }
    let step = cadentis_core::alert::notice::Step {
        after_min: 0,
        least: cadentis_core::alert::Severity::Critical,
        hours: None,
        destinations: to,
    };
    let list = ("Owners", std::slice::from_ref(&step), false);
    db.put_call_list(site.id, list, "Ada").await.expect("kept");
    let list = db.call_lists(site.id).await.expect("rows")[0].id;
    let id = changes::save(&answers, &by, &site, wanted("Daily", Kind::Timings, Some(list))).await;
    let id = id.expect("answered").expect("kept");
    assert!(!reports::round(&answers).await.expect("a round"), "nothing is due yet");

    // Nobody looked for two days.
    let report = db.report(site.id, id).await.expect("a row").expect("there");
    let zone = &site.zone;
    let today = Timestamp::now().to_zoned(zone.clone()).date();
    let at = |days: i64| {
        let date = today.checked_sub(jiff::Span::new().days(days)).expect("a day");
        date.at(6, 0, 0, 0).to_zoned(zone.clone()).expect("a moment").timestamp()
    };
    assert!(db.set_next_issue(&report, Some(at(2))).await.expect("set"));
    // Somebody took its turn and died: nobody else has it until that has run out.
    let now = Timestamp::now();
    assert!(db.due_report(now).await.expect("asked").is_some());
    assert!(db.due_report(now).await.expect("asked").is_none());
    let later = now + SignedDuration::from_secs(601);
    assert!(db.due_report(later).await.expect("asked").is_some());
    let report = db.report(site.id, id).await.expect("a row").expect("there");
    assert!(db.set_next_issue(&report, Some(at(2))).await.expect("set"));
    // Four look at once.
    for _ in 0..6 {
        let round = || reports::round(&answers);
        futures::future::try_join_all([round(), round(), round(), round()]).await.expect("rounds");
    }
    let issues = db.issues_of(id, 50).await.expect("rows");
    let next = db.report(site.id, id).await.expect("a row").expect("there").next_at;
    assert!(next.is_some_and(|next| next > Timestamp::now()), "{next:?}");
    let covers: Vec<Timestamp> = issues.iter().map(|i| i.covers.to).collect();
    let midnight = |days: i64| {
        let date = today.checked_sub(jiff::Span::new().days(days)).expect("a day");
        date.to_zoned(zone.clone()).expect("a moment").timestamp()
    };
    let wanted: Vec<Timestamp> =
        [0, 1, 2].into_iter().filter(|d| at(*d) < Timestamp::now()).map(midnight).collect();
    assert_eq!(covers, wanted, "each day once, the newest first");
    assert!(issues.iter().all(|i| i.number == 1 && i.author == "the schedule"), "{issues:?}");

    // Told with the PDF to whom it may be told.
    let teller = Teller::new(Settings {
        smtp_url: Some(format!("smtp://{}", got.smtp)),
        mail_from: Some("Cadentis <cadentis@marram.example>".into()),
        may_reach_private: true,
        pages: "https://pages.marram.example".into(),
    });
    let sent = teller.expect("settings").round(&answers).await.expect("a round");
    assert_eq!(sent, issues.len());
    let mails: Vec<_> = got.got().into_iter().filter(|g| g.way.contains("mail")).collect();
    assert!(mails.iter().all(|m| m.to == "owner@ferries.example"), "{mails:?}");
    let read = "import sys, email, email.policy, json\n\
        m = email.message_from_string(sys.stdin.read(), policy=email.policy.default)\n\
        a = list(m.iter_attachments())\n\
        print(json.dumps([m['subject'], [x.get_filename() for x in a], [x.get_content_type() for x in a],\n\
          a[0].get_content()[:5].decode(), m.get_body(('plain',)).get_content()]))";
    let mail: Value =
        serde_json::from_str(&crate::notices::python(read, &mails[0].body)).expect("JSON");
    let subject = mail[0].as_str().expect("a text");
    assert!(subject.starts_with("Report: Daily, ") && subject.ends_with("Marram Ferries"));
    assert_eq!((&mail[2], &mail[3]), (&json!(["application/pdf"]), &json!("%PDF-")), "{mail}");
    let link = format!("https://pages.marram.example/{SLUG}/reports/issues/");
    assert!(mail[4].as_str().expect("a text").contains(&link), "{mail}");
    let done = db.done(20).await.expect("rows");
    let issued = done.iter().find(|d| d.what == "issued the report").expect("noted");
    assert!(issued.which.contains("not sent to Dot, who may not see this site"), "{issued:?}");
}

#[tokio::test]
async fn every_kind_says_what_it_can_of_what_is_there_and_what_was_taken_away_is_told() {
    let (s, _) = world().await;
    let query = "count of runs, p95 of run duration by location";
    for (nth, (kind, says)) in [
        ("goals_short", "The promise was"),
        ("timings", "The slowest journey was"),
        ("incidents", "No incident opened."),
        ("usage", "of browser time"),
        ("query", "Count of runs: "),
    ]
    .into_iter()
    .enumerate()
    {
        let name = format!("Of {kind}");
        let fields = [
            ("name", name.as_str()),
            ("kind", kind),
            ("period", "week"),
            ("query", query),
            ("journey", "1"),
            ("goal", "1"),
        ];
        let (status, to, page) = post(&s, &path(""), &fields).await;
        assert_eq!((status, to), (303, path(&format!("/{}", nth + 1))), "{page}");
        let (status, page) = get(&s, &path(&format!("/{}", nth + 1))).await;
        assert!(status == 200 && page.contains(says), "{kind}: {page}");
        assert!(!page.contains("NaN") && !page.contains("-0."), "{kind}: {page}");
    }
    let list = get(&s, &path("")).await.1;
    assert!(list.contains("issued when asked") && list.contains("none yet"), "{list}");
    // A report says what it was about that is there no more.
    let journey = s.db.journeys(1).await.expect("rows")[0].slug.clone();
    post(&s, &format!("/{SLUG}/goals/1/remove"), &[]).await;
    post(&s, &format!("/{SLUG}/journeys/{journey}/delete"), &[("name", &journey)]).await;
    let goals = get(&s, &path("/1")).await.1;
    let gone = s.db.goals(1).await.expect("rows").is_empty();
    assert!(!gone || goals.contains("1 of the goals that this report is about was taken away"));
    for (fields, says) in [
        (vec![("name", "")], "1 to 80 characters"),
        (vec![("name", "Of usage")], "has the name"),
        (vec![("kind", "poem")], "kinds that are offered"),
        (vec![("period", "rolling"), ("days", "900")], "1 to 366 days"),
        (vec![("period", "rolling"), ("days", "many")], "whole number of days"),
        (vec![("rule", "day_of_month"), ("day", "32"), ("at", "06:00")], "1 to 31"),
        (vec![("rule", "each_day"), ("at", "noon")], "time of day such as"),
        (vec![("kind", "query"), ("query", "p75 of joy")], "can be asked"),
        (vec![("kind", "timings"), ("journey", "999")], "is not there"),
        (vec![("rule", "each_day"), ("at", "06:00"), ("list", "77")], "call list is not there"),
        (vec![("list", "77")], "issued by itself"),
    ] {
        let mut all = vec![("name", "Other"), ("kind", "usage"), ("period", "month")];
        all.retain(|(name, _)| !fields.iter().any(|(given, _)| given == name));
        all.extend(fields.iter().copied());
        let (status, _, page) = post(&s, &path(""), &all).await;
        assert!(status == 422 && page.contains(says), "{fields:?}: {page}");
    }
    // Two people change one report: the second is told, and keeps what was typed.
    let change = |name: &'static str| {
        [("name", name), ("kind", "usage"), ("period", "month"), ("version", "1")]
    };
    assert_eq!(post(&s, &path("/4"), &change("Of use")).await.0, 303);
    let (status, _, page) = post(&s, &path("/4"), &change("Of using")).await;
    assert!(status == 422 && page.contains("changed it meanwhile"), "{page}");
    assert!(page.contains("value=\"Of using\""), "{page}");
}

#[tokio::test]
async fn programs_keep_reports_issue_them_and_read_what_was_issued_byte_for_byte() {
    let (s, _) = world().await;
    let of = async |scopes: &[Scope]| program(&serving::token(&s.db, 1, scopes).await);
    let (reads, writes) = (of(&[Scope::Read]).await, of(&[Scope::Write]).await);
    let at = |of: &str| format!("{}/api/v1/sites/{SLUG}/{of}", s.server.address);
    let ask = async |request: reqwest::RequestBuilder| {
        let answer = request.send().await.expect("an answer");
        let status = answer.status().as_u16();
        (status, answer.json::<Value>().await.unwrap_or_default())
    };
    let new = json!({"name": "Monthly", "kind": "goals_short", "period": "month",
        "schedule": {"on": "day_of_month", "day": 31, "at": "06:30"}});
    assert_eq!(ask(reads.post(at("reports")).json(&new)).await.0, 403);
    let (status, made) = ask(writes.post(at("reports")).json(&new)).await;
    assert_eq!((status, &made["id"]), (201, &json!(1)), "{made}");
    for (field, value, pointer) in [
        ("kind", json!("poem"), "/kind"),
        ("period", json!("decade"), "/period"),
        ("schedule", json!({"on": "day_of_month", "day": 40, "at": "06:30"}), "/schedule/day"),
        ("schedule", json!({"on": "each_day", "at": "noon"}), "/schedule/at"),
        ("call_list", json!(9), "/call_list"),
        ("goals", json!([77]), "/goals"),
        ("name", json!("Monthly"), "/name"),
    ] {
        let mut wrong = new.clone();
        wrong["name"] = json!("Other");
        wrong[field] = value;
        let (status, told) = ask(writes.post(at("reports")).json(&wrong)).await;
        assert_eq!((status, &told["errors"][0]["pointer"]), (422, &json!(pointer)), "{told}");
    }
    let listed = ask(reads.get(at("reports"))).await.1;
    assert_eq!(listed[0]["schedule"], new["schedule"], "{listed}");
    assert!(listed[0]["next_at"].is_string() && listed[0]["newest"].is_null(), "{listed}");
    // Changed by whoever read it last; whoever read an older one is told.
    let mut other = new.clone();
    other["schedule"]["at"] = json!("07:00");
    let put = |version: i32, body: &Value| {
        ask(writes.put(at(&format!("reports/1?version={version}"))).json(body))
    };
    assert_eq!(listed[0]["version"], json!(1), "{listed}");
    assert_eq!(put(1, &other).await, (200, json!({"id": 1})));
    let (status, told) = put(1, &new).await;
    assert!(status == 409 && told["detail"].as_str().is_some_and(|d| d.contains("load it anew")));
    other["kind"] = json!("poem");
    assert_eq!(put(2, &other).await.0, 422);
    assert_eq!(ask(writes.put(at("reports/1")).json(&new)).await.0, 400, "which version?");
    assert_eq!(ask(writes.put(at("reports/9?version=1")).json(&new)).await.0, 404);
    assert_eq!(ask(reads.put(at("reports/1?version=2")).json(&new)).await.0, 403);
    let listed = ask(reads.get(at("reports"))).await.1;
    let now = (&listed[0]["version"], &listed[0]["schedule"]["at"]);
    assert_eq!(now, (&json!(2), &json!("07:00")), "{listed}");
    let (status, made) = ask(writes.post(at("reports/1/issues")).json(&json!({}))).await;
    assert_eq!(status, 201, "{made}");
    assert_eq!(ask(writes.post(at("reports/1/issues")).json(&json!({}))).await, (200, made));
    let issues = ask(reads.get(at("reports/1/issues"))).await.1;
    let kept = reads.get(at("report-issues/1")).send().await.expect("an answer");
    let kept = kept.bytes().await.expect("bytes");
    assert_eq!(issues[0]["checksum"], json!(sha256(&kept)), "{issues}");
    assert_eq!(ask(writes.post(at("reports/1/issues")).json(&json!({"back": 24}))).await.0, 422);
    assert_eq!(ask(writes.delete(at("reports/1"))).await.0, 204);
    assert_eq!(ask(writes.delete(at("reports/1"))).await.0, 404);
    assert_eq!(put(2, &new).await.0, 409, "it was ended");
    assert_eq!(ask(reads.get(at("report-issues/1"))).await.0, 200, "what was issued stays");
}

#[tokio::test]
async fn a_report_is_narrowed_to_hours_of_the_week_and_to_some_page_views_and_says_so() {
    let (s, _) = world().await;
    let oslo = TimeZone::get("Europe/Oslo").expect("a zone");
    let covers = covered(Period::Days(7), Timestamp::now(), &oslo);
    let usage = [("name", "Usage"), ("kind", "usage"), ("period", "rolling"), ("days", "7")];
    let hours = ["mon", "tue", "wed", "thu", "fri"].map(|day| ("day_of_week", day));
    let hours = hours.into_iter().chain([("open_of_week", "08:00"), ("closed_of_week", "17:00")]);
    let fields: Vec<_> = usage.into_iter().chain(hours.clone()).collect();
    let (status, to, says) = post(&s, &path(""), &fields).await;
    assert_eq!((status, to.as_str()), (303, path("/1").as_str()), "{says}");
    let page = get(&s, &path("/1")).await.1;
    assert!(page.contains("Mon Tue Wed Thu Fri 08:00–17:00 in Europe/Oslo"), "{page}");

    // The same, counted from what is exported.
    let client = program(&serving::token(&s.db, 1, &[Scope::Read]).await);
    let mut counted = 0;
    for journey in s.db.journeys(1).await.expect("rows") {
        let file = format!(
            "{}/api/v1/sites/{SLUG}/journeys/{}/runs.csv?from={}&to={}",
            s.server.address, journey.slug, covers.from, covers.to
        );
        let file = client.get(file).send().await.expect("an answer").text().await.expect("a text");
        let mut lines = file.lines();
        let head: Vec<&str> = lines.next().expect("a header").split(',').collect();
        let at = |name: &str| head.iter().position(|c| *c == name).expect("a column");
        let (due, outcome) = (at("due_utc"), at("outcome"));
        let is_asked = |line: &&str| {
            let cells: Vec<&str> = line.split(',').collect();
            let at: Timestamp = cells[due].parse().expect("a moment");
            let there = at.to_zoned(oslo.clone());
            let is_weekday = there.weekday().to_monday_one_offset() <= 5;
            cells[outcome] != "unmeasured" && is_weekday && (8..17).contains(&there.hour())
        };
        counted += lines.filter(is_asked).count();
    }
    assert!(counted > 300, "{counted}");
    post(&s, &path("/1/issue"), &[("back", "0")]).await;
    let kept: Value =
        serde_json::from_str(&get(&s, &path("/issues/1/json")).await.1).expect("JSON");
    let figures = kept["document"]["figures"].as_array().expect("a list");
    assert_eq!(figures[0]["value"], json!(counted as f64), "{figures:?}");

    // What it is narrowed to stays on the form, and page views are narrowed by what they tell.
    let form = get(&s, &path("/1/change")).await.1;
    assert!(form.contains("value=\"08:00\"") && form.contains("value=\"mon\" checked"), "{form}");
    let with = |filter: &'static str| -> Vec<(&str, &str)> {
        let named =
            usage.into_iter().map(|(n, v)| if n == "name" { (n, "Phones") } else { (n, v) });
        named.chain([("filter", filter)]).collect()
    };
    let (status, to, says) = post(&s, &path(""), &with("device  \"phone\"")).await;
    assert_eq!((status, to.as_str()), (303, path("/2").as_str()), "{says}");
    let page = get(&s, &path("/2")).await.1;
    assert!(page.contains("of device &#34;phone&#34;"), "{page}");
    for (fields, field) in [
        (with("devise \"phone\""), "column 1: page views cannot be narrowed by “devise”"),
        (with("journey \"book-a-crossing\""), "cannot be narrowed"),
        (usage.into_iter().chain([("day_of_week", "mon")]).collect(), "two times of day"),
        (
            usage
                .into_iter()
                .chain([("open_of_week", "08:00"), ("closed_of_week", "17:00")])
                .collect(),
            "at least one day",
        ),
    ] {
        let (status, _, page) = post(&s, &path(""), &fields).await;
        assert!(status == 422 && page.contains(field), "{field}: {status} {page}");
    }
}
