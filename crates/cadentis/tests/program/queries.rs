//! Queries: asked on the page, as a file and by programs; kept, and taken away.

use crate::goals::forty_days;
use crate::server::{Served, get, play, post_form as post, server};
use crate::serving::beacons::{BROWSER, OWN, beacon, send};
use crate::serving::{self, Server, program};
use cadentis_core::access::Scope;
use cadentis_core::run::Outcome;
use jiff::{SignedDuration, Timestamp};
use serde_json::{Value, json};
use std::collections::BTreeMap;
use uuid::Uuid;

fn address(path: &str, q: &str) -> String {
    let q = url::form_urlencoded::Serializer::new(String::new()).append_pair("q", q).finish();
    format!("/marram-ferries/{path}?{q}")
}

/// Page views of two families by two devices from three countries, over the last hour.
async fn views(s: &Served, many: usize) {
    let now = Timestamp::now().as_millisecond();
    for nth in 0..many {
        let mut view = beacon(Uuid::new_v4());
        view["at"] = json!(now - 3_000_000 + (nth * 40_000) as i64 % 2_900_000);
        view["device"] = json!(if nth % 3 == 0 { "desktop" } else { "phone" });
        view["connection"] = json!(if nth % 2 == 0 { "4g" } else { "3g" });
        view["lcp"] = json!(500 + nth * 37 % 4_000);
        view["errors"] = json!(u8::from(nth % 5 == 0));
        let (status, says) = send(&s.server.address, "key", view.to_string(), OWN, BROWSER).await;
        assert_eq!(status, 204, "{says}");
    }
}

/// What programs are answered.
async fn answered(s: &Served, client: &reqwest::Client, body: &Value) -> (u16, Value) {
    let path = format!("{}/api/v1/sites/marram-ferries/queries/answer", s.server.address);
    let answer = client.post(path).json(body).send().await.expect("an answer");
    let status = answer.status().as_u16();
    (status, answer.json().await.unwrap_or_default())
}

/// The value at the 75th of a hundred, by nearest rank.
fn p75(values: &mut [f64]) -> f64 {
    values.sort_by(f64::total_cmp);
    values[(values.len() * 75).div_ceil(100) - 1]
}

#[tokio::test]
async fn a_query_comes_to_what_the_exported_page_views_come_to_when_somebody_else_groups_them() {
    let s = server().await;
    views(&s, 61).await;
    let client = program(&serving::token(&s.db, 1, &[Scope::Read]).await);
    let from = Timestamp::now() - SignedDuration::from_hours(2);
    let base = format!("{}/api/v1/sites/marram-ferries", s.server.address);
    let exported =
        client.get(format!("{base}/page-views?fields=at,connection,device,lcp,errors&from={from}"));
    let exported = exported.send().await.expect("an answer").text().await.expect("a text");
    let mut by: BTreeMap<(String, String), (Vec<f64>, u64)> = BTreeMap::new();
    for line in exported.lines() {
        let view: Value = serde_json::from_str(line).expect("JSON");
        let text = |name: &str| view[name].as_str().expect("a text").to_string();
        let held = by.entry((text("connection"), text("device"))).or_default();
        held.0.push(view["lcp"].as_f64().expect("a number"));
        held.1 += u64::from(view["errors"].as_f64().unwrap_or(0.0) > 0.0);
    }
    assert_eq!(by.len(), 4, "{exported}");
    let says = "p75 of LCP, count of page views, share with errors by connection and device";
    let (status, told) = answered(&s, &client, &json!({"query": says, "from": from})).await;
    assert_eq!(status, 200, "{told}");
    assert_eq!((&told["query"], &told["is_merged"]), (&json!(says), &json!(false)));
    let columns: Vec<&str> =
        told["columns"].as_array().expect("a list").iter().filter_map(|c| c.as_str()).collect();
    let mut cells = 0;
    for row in told["rows"].as_array().expect("a list") {
        for (nth, column) in columns.iter().enumerate() {
            let key = (row["value"].as_str().expect("a text").to_string(), (*column).to_string());
            let (lcp, errors) = by.get_mut(&key).expect("a group");
            let cell = &row["across"][nth];
            assert_eq!(cell[0]["value"], json!(p75(lcp)), "{key:?}");
            assert_eq!(cell[1]["value"], json!(lcp.len() as f64));
            assert_eq!(cell[2]["value"], json!(*errors as f64 / lcp.len() as f64));
            cells += 1;
        }
    }
    assert_eq!(cells, 4);
    // The same in the file.
    let file = get(&s, &address("queries/csv", says)).await.1;
    assert!(
        file.starts_with(
            "connection,device,p75 of LCP,count of page views,share with errors,samples"
        ),
        "{file}"
    );
    let sum: f64 = file
        .lines()
        .skip(1)
        .map(|l| l.rsplit(',').nth(2).expect("a count").parse::<f64>().expect("a number"))
        .sum();
    assert_eq!((file.lines().count(), sum), (5, 61.0), "{file}");
    // The same as programs get it, from the page; where nothing can be asked that is said.
    let (_, by_api) = answered(&s, &client, &json!({"query": says, "from": from})).await;
    let (minute, later) = ("%Y-%m-%dT%H:%MZ", from + SignedDuration::from_hours(3));
    let at = format!("&from={}&to={}", from.strftime(minute), later.strftime(minute));
    let page = get(&s, &format!("{}{at}", address("queries/json", says))).await.1;
    let page: Value = serde_json::from_str(&page).unwrap_or_else(|e| panic!("{e}: {page}"));
    assert_eq!((&page["rows"], &page["all"]), (&by_api["rows"], &by_api["all"]));
    assert_eq!(get(&s, &address("queries/json", "p75 of nothing")).await.0, 400);
    // What is wrong is told with where and what would be right.
    for (body, pointer) in [
        (json!({"query": "p75 of LCP by person"}), "/query"),
        (json!({"query": "p75 of LCP top 1000000"}), "/query"),
        (json!({"query": "availability for journey \"nowhere\""}), "/query"),
        (json!({"query": says, "points": 0}), "/points"),
    ] {
        let (status, told) = answered(&s, &client, &body).await;
        assert_eq!((status, &told["errors"][0]["pointer"]), (422, &json!(pointer)), "{told}");
    }
    let (status, _) =
        answered(&s, &client, &json!({"query": says, "from": "9999-01-01T00:00:00Z"})).await;
    assert_eq!(status, 400);
}

#[tokio::test]
async fn random_queries_come_to_what_pandas_makes_of_the_exported_page_views_and_runs() {
    let (db, url) = serving::database().await;
    forty_days(&db).await;
    let server = Server::start(&url);
    assert_eq!(server.up().await, 200);
    let s = Served { server, db };
    views(&s, 400).await;
    let token = serving::token(&s.db, 1, &[Scope::Read]).await;
    let script = concat!(env!("CARGO_MANIFEST_DIR"), "/../../scripts/queries_by_hand");
    let mut python = tokio::process::Command::new("/usr/bin/python3");
    python.args([script, &s.server.address, &token, "marram-ferries", "20", "17", "3"]);
    let end = python.output().await.expect("python3 is installed");
    let said = String::from_utf8_lossy(&[end.stdout, end.stderr].concat()).into_owned();
    assert!(end.status.success(), "{said}");
    let words: Vec<&str> = said.split(' ').collect();
    let number = |nth: usize| words.get(nth).and_then(|w| w.parse::<u64>().ok()).unwrap_or(0);
    assert!(number(0) >= 15 && words[3..6].join(" ").contains("page views"), "{said}");
    let equal = words.iter().position(|w| *w == "values").map_or(0, |at| number(at - 1));
    assert!(equal > 200, "{said}");
}

#[tokio::test]
async fn runs_are_asked_by_journey_and_location_and_a_name_that_is_not_there_says_what_is() {
    let s = server().await;
    play(&s, &[Outcome::Passed, Outcome::Failed, Outcome::Slow, Outcome::Passed]).await;
    let client = program(&serving::token(&s.db, 1, &[Scope::Read]).await);
    let says = "availability, count of runs by location";
    let (status, told) = answered(&s, &client, &json!({"query": says})).await;
    assert_eq!(status, 200, "{told}");
    let all = &told["all"];
    assert_eq!((&all[0]["value"], &all[1]["value"]), (&json!(0.75), &json!(4.0)), "{told}");
    let runs: f64 = told["rows"]
        .as_array()
        .expect("a list")
        .iter()
        .filter_map(|r| r["cells"][1]["value"].as_f64())
        .sum();
    assert_eq!(runs, 4.0);
    let (_, told) =
        answered(&s, &client, &json!({"query": "availability for location \"berge\""})).await;
    assert!(told["detail"].as_str().expect("a text").contains("there is “bergen”"), "{told}");
    let page =
        get(&s, &address("queries", "availability by location for journey \"nowhere\"")).await;
    assert!(page.0 == 422 && page.1.contains("is not there; there is"), "{}", page.1);
}

#[tokio::test]
async fn a_query_is_asked_on_its_page_turned_looked_into_and_kept_under_a_name() {
    let s = server().await;
    views(&s, 40).await;
    let says = "p75 of LCP, count of page views by connection and device";
    let (status, page) = get(&s, &address("queries", says)).await;
    assert_eq!(status, 200, "{page}");
    assert!(
        page.contains("40 page views that told it; exact: each sample was looked at"),
        "{page}"
    );
    // Cells, a row and the turned table lead on, each to a query of its own.
    let leads = |text: &str| {
        let text: String = url::form_urlencoded::byte_serialize(text.as_bytes()).collect();
        page.contains(&format!("q={text}&#38;"))
    };
    assert!(leads("p75 of LCP, count of page views by device and connection"), "turned: {page}");
    assert!(
        leads("p75 of LCP, count of page views by device for connection \"3g\""),
        "a row: {page}"
    );
    let cell = "p75 of LCP, count of page views for device \"phone\" and connection \"4g\"";
    assert!(leads(cell), "a cell: {page}");
    assert!(page.contains("class=\"lane line-0\"") && page.contains("heat-6"), "{page}");
    // However it is typed it reads alike; what is wrong is told, and nothing typed is lost.
    let (_, same) = get(&s, &address("queries", "count of page views top 5 by device")).await;
    assert!(
        same.contains("where “by” or the end would go on") || same.contains("would go on"),
        "{same}"
    );
    let (status, wrong) = get(&s, &address("queries", "p75 of LCP by <b>")).await;
    assert!(status == 422 && wrong.contains("cannot be told apart by “&#60;b&#62;”"), "{wrong}");
    assert!(
        wrong.contains("value=\"p75 of LCP by &#60;b&#62;\"") && !wrong.contains("<b>\""),
        "{wrong}"
    );
    // Parts of it are picked and let go of; what is as it should be can be promised.
    assert!(
        leads("p75 of LCP, count of page views, p75 of INP by connection and device"),
        "{page}"
    );
    assert!(leads("count of page views by connection and device"), "let go of: {page}");
    assert!(leads(&format!("{says} top 10")), "{page}");
    assert!(!page.contains("Promise it"), "a percentile is no share: {page}");
    let narrow = "share of LCP within 2.5 s for device \"phone\" where count of page views above 3";
    let narrowed = get(&s, &address("queries", narrow)).await.1;
    assert!(narrowed.contains(">device &#34;phone&#34;</a>"), "{narrowed}");
    assert!(narrowed.contains(">where count of page views above 3</a>"), "{narrowed}");
    let promise =
        "/goals/new?kind=experience&#38;share=share+of+LCP+within+2.5+s+for+device+%22phone%22";
    assert!(narrowed.contains(promise), "{narrowed}");
    let goal = get(&s, "/marram-ferries/goals/new?kind=experience&share=share+of+CLS+good").await.1;
    assert!(
        goal.contains("value=\"share of CLS good\"") && goal.contains("value=\"75\""),
        "{goal}"
    );
    // Kept by one, it is not replaced by another.
    let keep = [("name", "Slow <pages>"), ("q", says)];
    let (status, to, _) = post(&s, "/marram-ferries/queries", &keep).await;
    assert!(status == 303 && to.contains("/queries?q=p75"), "{to}");
    let page = get(&s, &address("queries", says)).await.1;
    assert!(
        page.contains("Slow &#60;pages&#62; <span class=\"muted\">kept by Ada</span>"),
        "{page}"
    );
    let kept = s.db.saved_queries(1).await.expect("rows").remove(0);
    assert_eq!((kept.says.as_str(), kept.used.map(|u| u.1).as_deref()), (says, Some("Ada")));
    s.db.save_query(1, ("Theirs", "count of page views"), "Tor").await.expect("kept");
    let (status, _, page) =
        post(&s, "/marram-ferries/queries", &[("name", "Theirs"), ("q", says)]).await;
    assert!(status == 422 && page.contains("Somebody else keeps a query of this name"), "{page}");
    assert!(page.contains("value=\"Theirs\""), "what was typed is there: {page}");
    let (status, _, page) =
        post(&s, "/marram-ferries/queries", &[("name", "x"), ("q", "nonsense")]).await;
    assert!(status == 422 && page.contains("Nothing was kept."), "{page}");
    assert_eq!(s.db.done(1).await.expect("rows")[0].what, "kept the query");
    let remove = format!("/marram-ferries/queries/{}/remove", kept.id);
    assert_eq!((post(&s, &remove, &[]).await.0, post(&s, &remove, &[]).await.0), (303, 404));
}

#[tokio::test]
async fn how_a_query_could_go_on_is_offered_with_the_names_that_are_there() {
    let s = server().await;
    views(&s, 3).await;
    let offers = async |q: &str, option: &str| {
        let (status, page) = get(&s, &address("queries/next", q)).await;
        let option = option.replace('"', "&#34;");
        assert!(status == 200 && page.contains(&format!("value=\"{option}\"")), "{q}: {page}");
    };
    offers("p75 of LCP b", "p75 of LCP by").await;
    offers("p75 of LCP by family and ", "p75 of LCP by family and time").await;
    offers(
        "availability by location for journey ",
        "availability by location for journey \"book\"",
    )
    .await;
    offers("availability for journey ", "availability for journey \"book\"").await;
}

#[tokio::test]
async fn a_cell_whose_page_views_did_not_tell_the_measure_says_so_and_leads_on() {
    let s = server().await;
    views(&s, 6).await;
    let mut untold = beacon(Uuid::new_v4());
    untold["device"] = json!("tablet");
    untold["connection"] = json!("4g");
    untold["lcp"] = Value::Null;
    let sent = send(&s.server.address, "key", untold.to_string(), OWN, BROWSER).await;
    assert_eq!(sent.0, 204, "{}", sent.1);
    let says = "p75 of LCP, count of page views by device and connection";
    let (_, page) = get(&s, &address("queries", says)).await;
    let row = page.split("<tr>").find(|row| row.contains(">tablet</a>")).expect("a row");
    assert!(row.contains(">no data</a>"), "{row}");
    // No link is without words; where there was no page view at all there is no link.
    assert!(!row.contains("></a>") && row.contains("<td class=\"n heat-0\"></td>"), "{row}");
}

/// What a page says of what stands out, with its tags taken out.
async fn stands_out(s: &Served, q: &str) -> (u16, String, String) {
    let (status, part) = get(s, &address("queries/apart", q)).await;
    let mut words = String::new();
    let mut in_tag = false;
    for letter in part.chars() {
        in_tag = (in_tag || letter == '<') && letter != '>';
        words.push(if in_tag || letter == '>' { ' ' } else { letter });
    }
    (status, words.split_whitespace().collect::<Vec<_>>().join(" "), part)
}

#[tokio::test]
async fn what_stands_out_is_told_of_page_views_requests_errors_and_runs_as_they_were_sent() {
    let s = server().await;
    let now = Timestamp::now().as_millisecond();
    // On phones most requests fail and an error follows; half of all came from phones.
    for nth in 0..80u128 {
        let (on_phone, fails) = (nth % 2 == 0, nth % 4 == 0 || nth % 40 == 1);
        let mut view = beacon(Uuid::from_u128(7_000 + nth));
        view["at"] = json!(now - 1_500_000 + 15_000 * nth as i64);
        view["device"] = json!(if on_phone { "phone" } else { "desktop" });
        view["lcp"] = json!(if fails { 5_000 } else { 900 });
        let status = if fails { 503 } else { 200 };
        let name = format!("{OWN}/api/{}", if nth % 2 == 0 { "berths" } else { "sailings" });
        let asked = json!({"what": "request", "at": 900, "method": "GET", "status": status, "name": name, "ms": 50});
        let error = json!({"what": "error", "at": 950, "name": "TypeError", "text": "no berth"});
        view["happened"] = if fails { json!([asked, error]) } else { json!([asked]) };
        let sent = send(&s.server.address, "key", view.to_string(), OWN, BROWSER).await;
        assert_eq!(sent.0, 204, "{}", sent.1);
    }
    // 20 of 40 phones and 2 of 40 desktops failed.
    let (_, says, part) = stands_out(&s, "share of requests failed").await;
    assert!(says.contains("What 22 of 80 requests that are bad to “share of requests failed” have surely more of than the others."), "{says}");
    assert!(says.contains("Device phone 91 % of others 34 %"), "{says}");
    assert!(part.contains("title=\"20 of 22, of others 20 of 58; "), "{part}");
    let berths = format!("GET {}/api/berths", OWN.trim_start_matches("http://"));
    assert!(says.contains(&format!("Request {berths} 91 % of others 34 %")), "{says}");
    // Everything else is told, too, with the commonest first.
    assert!(
        says.contains(
            "by device phone 91 % of others 34 %, surely more here desktop 9 % of others 66 %"
        ),
        "{says}"
    );
    // Narrowed to one device, that is what is looked at beside the other.
    let (_, says, _) = stands_out(&s, "p95 of request time for device \"phone\"").await;
    assert!(says.contains("What 40 requests have surely more of than 40 others."), "{says}");
    assert!(says.contains(&format!("Request {berths} 100 % of others 0 %")), "{says}");
    let (_, says, _) = stands_out(&s, "share of LCP within 2.5 s for device \"desktop\"").await;
    assert!(says.contains("Nothing stands out among 2 of 40 page views"), "{says}");
    let (_, says, _) = stands_out(&s, "count of errors for device \"phone\"").await;
    assert!(says.contains("20 errors") && says.contains("2 others"), "{says}");
    // Of runs those that failed, by where they played; and a name that is not there is told.
    play(&s, &[Outcome::Passed, Outcome::Failed, Outcome::Passed]).await;
    let (_, says, _) = stands_out(&s, "availability").await;
    assert!(says.contains("1 of 3 runs that are bad to “availability”"), "{says}");
    assert_eq!(stands_out(&s, "availability for journey \"nowhere\"").await.0, 404);
    for no_others in ["p75 of LCP by device", "p95 of run duration", "what?"] {
        assert_eq!(stands_out(&s, no_others).await.0, 400, "{no_others}");
    }
    // Numbers of a table open to it in their place, where there is something beside them.
    let (_, page) = get(&s, &address("queries", "p75 of LCP by device")).await;
    let row = page.split("<tr>").find(|row| row.contains(">phone</a>")).expect("a row");
    let opens = "hx-get=\"/marram-ferries/queries/apart?q=p75+of+LCP+for+device+%22phone%22&#38;";
    assert!(row.contains(opens) && row.contains("<tr class=\"opened\"><td colspan="), "{row}");
    let (_, page) = get(&s, &address("queries", "p95 of run duration by location")).await;
    assert!(!page.contains("queries/apart"), "{page}");
}

#[tokio::test]
async fn a_query_that_takes_long_shows_how_far_it_is_is_told_once_it_is_there_and_can_be_stopped() {
    let s = crate::server::server_with(&["--longer-after-ms", "0"]).await;
    play(&s, &[Outcome::Passed, Outcome::Failed]).await;
    let path = "/marram-ferries/queries?q=availability".to_string();
    // Without patience its page never waits: it says how far it is, and where to look again.
    let page = get(&s, &path).await.1;
    let at = |page: &str, begin: &str| -> String {
        let from = page.find(begin).unwrap_or_else(|| panic!("{begin}: {page}")) + begin.len();
        let text: String = page[from..].chars().take_while(|c| *c != '"').collect();
        text.replace("&#38;", "&")
    };
    assert!(page.contains("<progress"), "{page}");
    let (again, stop) = (
        at(&page, "hx-get=\"/marram-ferries/queries/longer/"),
        at(&page, "action=\"/marram-ferries/queries/longer/"),
    );
    let longer = |rest: &str| format!("/marram-ferries/queries/longer/{rest}");
    // Its page is told once it has ended.
    let mut to = String::new();
    for _ in 0..400 {
        let answer = serving::get(format!("{}{}", s.server.address, longer(&again)))
            .await
            .expect("an answer");
        assert_eq!(answer.status(), 200);
        if let Some(page) = answer.headers().get("hx-redirect") {
            to = page.to_str().expect("a path").to_string();
            break;
        }
        assert!(answer.text().await.expect("a part").contains("hx-trigger=\"load delay:500ms\""));
        tokio::time::sleep(std::time::Duration::from_millis(25)).await;
    }
    let found = get(&s, &to).await.1;
    assert!(found.contains("50.00 %") && !found.contains("<progress"), "{found}");
    assert!(
        get(&s, &to).await.1.contains("<progress"),
        "told once: asked anew, it is on its way again"
    );

    // What is stopped is not asked again by itself.
    let (status, to, _) = post(&s, &longer(&stop), &[]).await;
    assert!(status == 303 && to.contains("stopped=1"), "{status} {to}");
    let page = get(&s, &to).await.1;
    assert!(page.contains("It was stopped.") && page.contains("Ask it again"), "{page}");
    // Whoever else knows the ticket is told nothing.
    let ticket = at(&get(&s, &path).await.1, "hx-get=\"/marram-ferries/queries/longer/");
    let session = "5e55104000000000000000000000000000000000000000000000000000000099";
    serving::sign_in(&s.db, "Tor", serving::ADMINISTRATOR, session).await;
    let other = serving::signed_in_as(session);
    let answer = other
        .get(format!("{}{}", s.server.address, longer(&ticket)))
        .send()
        .await
        .expect("an answer");
    assert!(
        answer.headers().contains_key("hx-redirect"),
        "it is not theirs: {:?}",
        answer.status()
    );
}

#[tokio::test]
async fn steps_of_a_journey_stand_beside_each_other_each_as_when_it_is_asked_about_alone() {
    let (db, url) = serving::database().await;
    forty_days(&db).await;
    let server = Server::start(&url);
    assert_eq!(server.up().await, 200);
    let s = Served { server, db };
    let client = program(&serving::token(&s.db, 1, &[Scope::Read]).await);
    let journey = s.db.journeys(1).await.expect("rows").remove(0);
    let script = cadentis_core::journey::parse(&journey.script).expect("a script");
    let names: Vec<String> = script.counted_steps().map(|step| step.name.clone()).collect();
    let from = Timestamp::now() - SignedDuration::from_hours(24 * 9);
    let asked = async |says: String| {
        let (status, told) = answered(&s, &client, &json!({ "query": says, "from": from })).await;
        assert_eq!(status, 200, "{says}: {told}");
        told
    };
    let of = format!("for journey \"{}\"", journey.slug);
    let measures = "p75 of step duration, mean of step duration";
    let each = asked(format!("{measures} by step {of}")).await;
    let rows = each["rows"].as_array().expect("rows");
    assert_eq!((rows.len(), names.len()), (2, 2), "{each}");
    for row in rows {
        let step = row["value"].as_str().expect("a name");
        assert!(names.iter().any(|name| name == step), "{step} is none of {names:?}");
        let alone = asked(format!("{measures} {of} and step \"{step}\"")).await;
        assert_eq!(row["cells"], alone["all"], "{step}");
    }
}
