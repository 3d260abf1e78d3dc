//! What is told of visitors, asked over HTTP of the real program on a real PostgreSQL.

use crate::serving;
use crate::serving::beacons::{BROWSER, OWN, Served, beacon, page, send, server, take, today};
use cadentis_store::page_view_hour::RolledUp;
use cadentis_store::sheet::Filed;
use jiff::{SignedDuration, Timestamp};
use serde_json::{Value, json};
use std::time::Duration;
use uuid::Uuid;

/// A page view some minutes ago, with more of it.
pub fn view(visit: Uuid, minutes_ago: i64, path: &str, more: Value) -> Value {
    let mut view = beacon(Uuid::new_v4());
    let now = Timestamp::now().as_millisecond();
    view["at"] = json!(now - minutes_ago * 60_000);
    view["visit"] = json!(visit);
    view["url"] = json!(format!("http://book.marram.example{path}"));
    more.as_object().into_iter().flatten().for_each(|(k, v)| view[k.as_str()] = v.clone());
    view
}

/// Page families, and a back end that shows traces.
pub async fn with_families(db: &cadentis_store::Db) {
    let site = db.sites().await.expect("sites").remove(0);
    let patterns = [("/sailings", "Sailings"), ("/cabin", "Cabin"), ("/pay", "Pay")]
        .map(|(p, n)| (p.into(), n.into()))
        .into();
    let site = cadentis_store::site::Site {
        patterns,
        trace_link: "http://traces.example/{trace}".into(),
        ..site
    };
    db.set_site(&site).await.expect("set");
    db.set_collecting(&site, Timestamp::now()).await.expect("set");
}

pub async fn post(s: &Served, path: &str, form: &[(&str, &str)]) -> (u16, String) {
    let (status, _, page) = crate::serving::post_form(&s.server.address, path, form).await;
    (status, page)
}

const TRACE: &str = "0af7651916cd43dd8448eb211c80319c";

#[tokio::test]
async fn a_request_that_fails_says_whose_fault_it_is_who_it_hit_and_where_its_trace_is() {
    let s = server().await;
    with_families(&s.db).await;
    let visit = Uuid::new_v4();
    let asked = |status: u16, code: &str, by: Value| {
        json!({"what": "request", "at": 900, "method": "GET", "status": status, "code": code,
        "name": "http://book.marram.example/api/sailings/2026-11-24?token=x", "ms": 80, "trace": TRACE, "by": by})
    };
    let pressed = json!({"what": "action", "at": 800, "name": "find"});
    take(
        &s,
        json!([
            view(
                visit,
                5,
                "/sailings",
                json!({"happened": [pressed, asked(503, "BUSY", json!(0))]})
            ),
            view(
                Uuid::new_v4(),
                4,
                "/sailings",
                json!({"device": "desktop", "happened": [pressed, asked(200, "", json!(0))]})
            ),
        ]),
    )
    .await;
    let requests = page(&s, "/marram-ferries/visitors/requests").await;
    assert!(requests.contains("50.00 % of 2 requests failed"), "{requests}");
    assert!(
        requests.contains("GET book.marram.example/api/sailings/‹date›")
            && requests.contains("gateway 1"),
        "{requests}"
    );
    assert!(
        requests.contains("BUSY (1)")
            && requests.contains(&format!("http://traces.example/{TRACE}")),
        "{requests}"
    );
    assert!(
        requests.contains(&format!("/marram-ferries/visitors/visits/{visit}?at=")),
        "it leads to the visit"
    );
    let desktop = page(&s, "/marram-ferries/visitors/requests?only=device:desktop").await;
    assert!(desktop.contains("None of 1 requests failed."), "{desktop}");
    let actions = page(&s, "/marram-ferries/visitors/actions").await;
    assert!(
        actions.contains("“find” failed 1 of 2 times; 0 tried again, and after 1 of the failures"),
        "{actions}"
    );
    let line = page(&s, &format!("/marram-ferries/visitors/visits/{visit}")).await;
    assert!(line.contains("503, BUSY, 80 ms, the gateway’s doing"), "{line}");
}

#[tokio::test]
async fn a_funnel_is_kept_says_what_is_wrong_with_it_and_counts_who_went_on() {
    let s = server().await;
    with_families(&s.db).await;
    let (status, page_with) = post(
        &s,
        "/marram-ferries/visitors/funnels",
        &[("name", "Buy"), ("minutes", "0"), ("step1", "Sailings"), ("step2", "Cabin")],
    )
    .await;
    assert!(
        status == 200
            && page_with.contains("The time is from 1 to 1440 minutes.")
            && page_with.contains("value=\"Buy\"")
    );
    let good = [
        ("name", "Buy"),
        ("minutes", "30"),
        ("step1", "Sailings"),
        ("step2", "Cabin"),
        ("step3", "Pay"),
    ];
    assert_eq!(post(&s, "/marram-ferries/visitors/funnels", &good).await.0, 303);
    let mut views = Vec::new();
    for n in 0..4 {
        let visit = Uuid::new_v4();
        views.push(view(visit, 20, "/sailings", json!({})));
        if n < 3 {
            views.push(view(
                visit,
                18,
                "/cabin",
                if n == 2 { json!({"abandoned": true, "lcp": null}) } else { json!({}) },
            ));
        }
        if n < 2 {
            views.push(view(visit, 15, "/pay", json!({})));
        }
    }
    take(&s, json!(views)).await;
    let funnels = page(&s, "/marram-ferries/visitors/funnels").await;
    assert!(
        funnels.contains("Buy: 50 % of 4 visits came to the end; most were lost on"),
        "{funnels}"
    );
    assert!(
        funnels.contains("1 left before it had loaded, 0 waited long or met an error, 0 stopped"),
        "{funnels}"
    );
    assert!(
        funnels.contains("75.0 %") && funnels.contains("66.7 %"),
        "of all, and of the step before: {funnels}"
    );
    assert_eq!(
        post(&s, "/marram-ferries/visitors/funnels/delete", &[("name", "Buy")]).await.0,
        303
    );
    assert!(page(&s, "/marram-ferries/visitors/funnels").await.contains("No funnel yet"));
}

#[tokio::test]
async fn a_person_is_found_by_a_hash_alone_and_taken_out_when_asked_and_figures_stay() {
    let s = server().await;
    let (visit, other) = (Uuid::new_v4(), Uuid::new_v4());
    take(
        &s,
        json!([
            view(visit, 5, "/a", json!({"person": "passenger@marram.example"})),
            view(other, 4, "/b", json!({"person": "eve"})),
        ]),
    )
    .await;
    let find = "/marram-ferries/visitors/find?who=passenger@marram.example";
    assert!(page(&s, find).await.contains(&format!("/marram-ferries/visitors/visits/{visit}?at=")));
    // Who looked at the visit is noted, and which visit it was until that is erased.
    page(&s, &format!("/marram-ferries/visitors/visits/{visit}")).await;
    let looked = async |at: &str| {
        let done = s.db.done(20).await.expect("rows");
        done.iter().any(|d| d.what == "looked at the visit" && d.which == at)
    };
    assert!(looked(&visit.to_string()).await);
    let everything = s.db.text_of_every_table().await.expect("read").join("\n");
    assert!(
        !everything.contains("passenger@") && everything.contains(&visit.to_string()),
        "only the hash is kept"
    );
    // Once filed, once more as rows.
    while s.db.roll_up_one().await.expect("rolled up") != RolledUp::Nothing {}
    let (_, told) = post(
        &s,
        "/marram-ferries/settings/visitors/forget",
        &[("who", "passenger@marram.example")],
    )
    .await;
    assert!(told.contains("1 page views of this person were erased"), "{told}");
    assert!(page(&s, find).await.contains("Nobody of this id visited"));
    // Filed hours are packed: no id of them is to be seen in a text, so they are unpacked and asked.
    let filed: Vec<u128> = {
        let sheets =
            s.db.sheets_of(Filed::PageViews, 1, today(), &["visit".into()]).await.expect("sheets");
        sheets.iter().flat_map(|sh| (0..sh.rows).filter_map(|r| sh.id("visit", r))).collect()
    };
    assert_eq!(filed, [other.as_u128()], "one visit is left");
    let everything = s.db.text_of_every_table().await.expect("read").join("\n");
    assert!(!everything.contains(&visit.to_string()), "nor in a row");
    assert!(looked("that was erased").await, "that somebody looked stays");
    // A late beacon files the hour anew: what was taken out stays out.
    take(&s, view(other, 4, "/c", json!({}))).await;
    while s.db.roll_up_one().await.expect("rolled up") != RolledUp::Nothing {}
    let sheets =
        s.db.sheets_of(Filed::PageViews, 1, today(), &["path".into()]).await.expect("sheets");
    let mut paths: Vec<String> =
        sheets.iter().flat_map(|sh| (0..sh.rows).map(|r| sh.text("path", r).to_string())).collect();
    paths.sort();
    assert_eq!(paths, ["/b", "/c"]);
    let (_, told) =
        post(&s, "/marram-ferries/settings/visitors/forget", &[("who", &other.to_string())]).await;
    assert!(told.contains("2 page views of this visit"), "{told}");
}

#[tokio::test]
async fn what_is_collected_is_what_the_site_wants_and_what_cannot_be_is_said() {
    let s = server().await;
    let form = |sample: &'static str, families: &'static str| {
        [
            ("domains", "marram.example"),
            ("sample", sample),
            ("keep", "from"),
            ("phrases", "went wrong"),
            ("trace", ""),
            ("families", families),
            ("people_days", "30"),
            ("satisfied", "1.5"),
        ]
    };
    for (sample, families, want) in [
        ("0", "", "The share of visits is over 0 and at most 1, not 0."),
        ("much", "", "not “much”"),
        ("50", "booking Held", "Line 1 of the families: a pattern that begins with / and a name"),
    ] {
        let (status, says) =
            post(&s, "/marram-ferries/settings/visitors", &form(sample, families)).await;
        assert!(status == 200 && says.contains(want), "{says}");
    }
    assert_eq!(
        post(&s, "/marram-ferries/settings/visitors", &form("50", "/sailings Sailings")).await.0,
        303
    );
    let script = page(&s, "/snippet/key.js").await;
    assert!(
        script.contains(r#""sample":0.5"#) && script.contains(r#""phrases":["went wrong"]"#),
        "{}",
        &script[..400]
    );
    assert_eq!(
        crate::serving::get(format!("{}/snippet/nobody.js", s.server.address))
            .await
            .expect("an answer")
            .status(),
        404
    );
    // Settings are believed for a while: until they hold, other pages arrive.
    let mut live = String::new();
    for _ in 0..100 {
        let one = view(
            Uuid::new_v4(),
            1,
            "/sailings?from=SKA&token=x",
            json!({"attributes": {"fare": "guest"}}),
        );
        take(&s, one).await;
        live = page(&s, "/marram-ferries/settings/visitors/live").await;
        if live.contains("/sailings?from=SKA<") {
            break;
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    assert!(
        live.contains("/sailings?from=SKA<") && live.contains("attributes fare=guest"),
        "{live}"
    );
    let (status, _) = send(
        &s.server.address,
        "key",
        beacon(Uuid::new_v4()).to_string(),
        "http://evil.example",
        BROWSER,
    )
    .await;
    assert_eq!(status, 403);
    for _ in 0..60 {
        if page(&s, "/marram-ferries/settings/visitors/live")
            .await
            .contains("evil.example is not a domain of this site")
        {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(100)).await;
    }
    assert!(
        page(&s, "/marram-ferries/settings/visitors/live")
            .await
            .contains("evil.example is not a domain of this site")
    );
    let (_, preview) = post(
        &s,
        "/marram-ferries/settings/visitors/families",
        &[("families", "/sailings Where to")],
    )
    .await;
    assert!(preview.contains("Where to") && preview.contains("100.0 %"), "{preview}");
    let (_, wrong) =
        post(&s, "/marram-ferries/settings/visitors/families", &[("families", "<b>")]).await;
    assert!(wrong.contains("field-wrong") && !wrong.contains("<b>"), "{wrong}");
}

#[tokio::test]
async fn hostile_texts_are_shown_harmless_on_every_page_about_visitors() {
    let s = server().await;
    let bad = "<script>alert(1)</script>\"'&";
    let visit = Uuid::new_v4();
    let happened = json!([
        {"what": "action", "at": 1, "name": bad}, {"what": "event", "at": 1, "name": bad}, {"what": "phrase", "at": 1, "name": bad},
        {"what": "request", "at": 2, "name": format!("http://x.example/{bad}"), "method": "<i>", "status": 500, "code": bad, "by": 0},
        {"what": "error", "at": 3, "name": bad, "stack": format!("at {bad} (http://x.example/{bad}:1:1)")},
        {"what": "console", "at": 4, "name": bad}, {"what": "resource", "at": 4, "name": format!("http://x.example/{bad}"), "status": 0},
    ]);
    take(&s, view(visit, 3, &format!("/{bad}"), json!({"errors": 1, "error": bad, "connection": bad, "release": bad, "environment": bad,
        "attributes": {"fare": bad}, "person": bad, "lcp_element": bad, "cls_element": bad, "inp_element": bad, "inp_script": bad,
        "how": bad, "lcp": 9_000, "happened": happened}))).await;
    let only = "only=attribute.fare%3A%3Cscript%3Ealert(1)%3C%2Fscript%3E%22'%26";
    for path in [
        "/marram-ferries/visitors",
        "/marram-ferries/visitors/arrivals",
        "/marram-ferries/visitors/slowest",
        "/marram-ferries/visitors/explain",
        "/marram-ferries/visitors/breakdown?by=attribute.fare",
        "/marram-ferries/visitors/breakdown?by=release",
        "/marram-ferries/visitors/trouble",
        "/marram-ferries/visitors/errors",
        "/marram-ferries/visitors/requests",
        "/marram-ferries/visitors/requests?what=resource",
        "/marram-ferries/visitors/actions",
        "/marram-ferries/visitors/funnels",
        "/marram-ferries/visitors/blind-spots",
        "/marram-ferries/visitors/values?attribute=attribute.fare",
        "/marram-ferries/settings/visitors",
        "/marram-ferries/settings/visitors/live",
        "/marram-ferries/visitors/find?who=%3Cscript%3Ealert(1)%3C/script%3E",
        "/marram-ferries/visitors/family/load?family=Other+pages",
        "/marram-ferries/visitors/family?family=Other+pages",
        &format!("/marram-ferries/visitors/visits/{visit}?all=1"),
        &format!("/marram-ferries/visitors?{only}"),
    ] {
        let shown = page(&s, path).await;
        assert!(!shown.contains("<script>alert") && !shown.contains("<i>"), "{path}: {shown}");
    }
    assert!(
        page(&s, &format!("/marram-ferries/visitors?{only}"))
            .await
            .contains("&#60;script&#62;alert(1)"),
        "the filter is shown as it is"
    );
    let csv = page(&s, "/marram-ferries/visitors/breakdown?by=attribute.fare&csv=1").await;
    let mut rows = csv::Reader::from_reader(csv.as_bytes());
    assert_eq!(
        &rows.records().next().expect("a row").expect("RFC 4180")[0],
        &bad[..bad.len().min(60)]
    );
}

#[tokio::test]
async fn rows_leave_after_their_time_and_what_was_filed_of_them_still_answers() {
    let s = server().await;
    let visit = Uuid::new_v4();
    take(
        &s,
        json!([
            view(visit, 5, "/a", json!({"errors": 1, "error": "x is gone"})),
            view(visit, 3, "/b", json!({}))
        ]),
    )
    .await;
    while s.db.roll_up_one().await.expect("rolled up") != RolledUp::Nothing {}
    let week = SignedDuration::from_hours(24 * 7);
    let gone = s.db.forget(Timestamp::now() + week).await.expect("forgotten");
    assert!(gone.days > 0);
    assert!(s.db.page_view_ids(1, today()).await.expect("ids").is_empty(), "no rows are left");
    assert!(
        page(&s, &format!("/marram-ferries/visitors/visits/{visit}"))
            .await
            .contains("2 page views over")
    );
    assert!(page(&s, "/marram-ferries/visitors/errors").await.contains("x is gone"));
    // People are known no longer than the site wants.
    let gone = s.db.forget(Timestamp::now() + week * 10).await.expect("forgotten");
    assert!(gone.columns >= 3, "{gone:?}");
    // Nor is anybody signed in for so long.
    serving::sign_in(&s.db, "Bo", serving::ADMINISTRATOR, serving::SESSION).await;
    let unknown =
        crate::serving::get(format!("{}/marram-ferries/visitors/visits/{visit}", s.server.address))
            .await
            .expect("an answer");
    assert_eq!(unknown.status(), 404);
    assert!(
        page(&s, "/marram-ferries/visitors")
            .await
            .contains("<dd class=\"within\">2</dd><dt>page views"),
        "figures stay"
    );
}

#[tokio::test]
async fn a_visit_is_followed_from_an_error_to_its_pages_and_a_family_says_where_its_load_goes() {
    let s = server().await;
    let (now, visit) = (Timestamp::now().as_millisecond(), Uuid::new_v4());
    let hostile = "<script>alert(1)</script> berth";
    let view = |minutes_ago: i64, path: &str, more: Value| {
        let at = now - minutes_ago * 60_000;
        let mut view = json!({"id": Uuid::new_v4(), "seq": 1, "at": at, "sent": now, "visit": visit,
            "device": "phone", "url": format!("http://book.marram.example{path}"), "dns": 20, "connect": 80,
            "ttfb": 300, "fcp": 700, "lcp": 1_500, "load": 1_800, "lcp_element": "img.hero", "lcp_fetch": 700});
        more.as_object().into_iter().flatten().for_each(|(k, v)| view[k.as_str()] = v.clone());
        view
    };
    let error = |n: u32| json!({"errors": 1, "error": format!("{hostile} {n} is gone")});
    let left = json!({"abandoned": true, "lcp": null, "load": null});
    let views = json!([
        view(9, "/", json!({})),
        view(8, "/sailings", error(17)),
        view(7, "/sailings", error(18)),
        view(6, "/cabin", left)
    ]);
    assert_eq!(send(&s.server.address, "key", views.to_string(), OWN, BROWSER).await.0, 204);

    // Two texts, one kind; it leads to the visit.
    let errors = page(&s, "/marram-ferries/visitors/errors").await;
    assert!(errors.contains("berth ‹n› is gone") && !errors.contains("<script>alert"), "{errors}");
    assert!(
        errors.contains("50.00 % of page views told of a script error; 1 kind of trouble in all."),
        "{errors}"
    );
    let link = format!("/marram-ferries/visitors/visits/{visit}?at=");
    let rest = errors.split_once(&link).expect("a link to the visit").1;
    let at: String = rest.chars().take_while(char::is_ascii_digit).collect();

    let line = page(&s, &format!("{link}{at}")).await;
    assert!(line.contains("4 page views over") && line.contains("3 of them had trouble"), "{line}");
    assert!(line.contains("it ended on a page that was left before it had loaded"), "{line}");
    // The first with trouble is looked into: 20, 80, 200, 400 and 800 ms make the 1.50 s.
    assert!(
        line.contains("1.50 s until its largest paint") && line.contains("<b>0.20 s</b> waiting"),
        "{line}"
    );
    assert!(!line.contains("<script>alert"));

    // Opened in a tab behind: when it was painted says nothing of how long anybody waited.
    let behind = Uuid::new_v4();
    let seen_late = view(
        4,
        "/behind",
        json!({"visit": behind, "background": true, "lcp": 9_000, "fcp": 9_000}),
    );
    assert_eq!(
        send(&s.server.address, "key", json!([seen_late]).to_string(), OWN, BROWSER).await.0,
        204
    );
    let line = page(
        &s,
        &format!(
            "/marram-ferries/visitors/visits/{behind}?view={}",
            seen_late["id"].as_str().expect("an id")
        ),
    )
    .await;
    assert!(
        line.contains("opened in a tab that nobody looked at") && !line.contains("9.00 s"),
        "{line}"
    );

    // Without families of its own, each path is its own.
    let visitors = page(&s, "/marram-ferries/visitors").await;
    let family = visitors
        .split_once("/marram-ferries/visitors/family?family=")
        .expect("a link to a family")
        .1;
    let family: String = family.chars().take_while(|c| *c != '&' && *c != '"').collect();
    let whole = page(&s, &format!("/marram-ferries/visitors/family?family={family}")).await;
    assert!(whole.contains("At the 75th percentile LCP is 1.50 s"), "{whole}");
    let load = page(&s, &format!("/marram-ferries/visitors/family/load?family={family}")).await;
    assert!(load.contains("Where 1.50 s until the largest paint go"), "{load}");
    assert!(
        load.contains("<code>img.hero</code>") && load.contains(">0.70 s<"),
        "its largest element and what it took: {load}"
    );
    let nobody = crate::serving::get(format!(
        "{}/marram-ferries/visitors/family?family=nobody",
        s.server.address
    ))
    .await
    .expect("an answer");
    assert_eq!(nobody.status(), 404);
    let unknown = format!("{}/marram-ferries/visitors/visits/{}", s.server.address, Uuid::new_v4());
    assert_eq!(crate::serving::get(unknown).await.expect("an answer").status(), 404);
}

/// Brings a file and gives the answer's status and text.
pub async fn import(s: &Served, name: &str, text: &str) -> (u16, String) {
    let url = format!(
        "{}/marram-ferries/settings/visitors/import?file={name}&device=desktop&country=",
        s.server.address
    );
    let answer = crate::serving::page_of_its_own()
        .post(url)
        .body(text.to_string())
        .send()
        .await
        .expect("an answer");
    (answer.status().as_u16(), answer.text().await.unwrap_or_default())
}

#[tokio::test]
async fn page_views_from_files_are_taken_once_where_their_time_is_and_what_is_wrong_is_told_by_its_line()
 {
    let s = server().await;
    with_families(&s.db).await;
    let at = |hours_ago: i64| Timestamp::now() - SignedDuration::from_hours(hours_ago);
    // Two that lie long ago, where nothing is a row any more, and one of today.
    let line = |at: Timestamp, lcp: u32| {
        format!("http://book.marram.example/cabin?token=x,{at},{lcp},NO\n")
    };
    let old = format!("url,at,lcp,country\n{}{}", line(at(24 * 40), 900), line(at(24 * 40), 1_900));
    let file = format!(
        "{old}{}http://evil.example/,{},5,NO\n{}",
        line(at(1), 2_900),
        at(1),
        line(at(-3), 3_900)
    );
    let (status, says) = import(&s, "loads.csv", &file).await;
    assert_eq!(status, 200, "{says}");
    assert!(says.contains("3 page views are there now."), "{says}");
    assert!(says.contains("line 5.url: evil.example is not a domain of this site"), "{says}");
    assert!(says.contains("line 6.at: in the future"), "{says}");
    let (_, again) = import(&s, "loads.csv", &file).await;
    assert!(again.contains("0 page views are new, 3 were there already."), "{again}");
    let seen =
        page(&s, &format!("/marram-ferries/visitors?from={}&to={}", at(24 * 40 + 1), at(24 * 39)))
            .await;
    assert!(seen.contains("<dd class=\"within\">2</dd>") && seen.contains("Cabin"), "{seen}");
    assert!(
        !s.db.text_of_every_table().await.expect("texts").iter().any(|t| t.contains("token")),
        "its query is cut"
    );
    let lines = json!({"url": "http://book.marram.example/pay", "at": at(24 * 40), "device": "phone",
        "happened": [{"what": "request", "at": 9, "name": "http://book.marram.example/api/pay", "method": "POST", "status": 503, "ms": 70}]});
    assert_eq!(import(&s, "loads.ndjson", &lines.to_string()).await.0, 200);
    let stretch = format!("from={}&to={}", at(24 * 40 + 1), at(24 * 39));
    let asked = page(&s, &format!("/marram-ferries/visitors/requests?{stretch}")).await;
    assert!(
        asked.contains("POST book.marram.example/api/pay") && asked.contains("gateway 1"),
        "{asked}"
    );
    let country =
        page(&s, &format!("/marram-ferries/visitors/breakdown?by=country&{stretch}")).await;
    // Timeline more than 13 hours by cells: within 1 %.
    let titles: Vec<&str> =
        country.split("<title>").skip(1).filter_map(|t| t.split('<').next()).collect();
    assert!(
        country.contains("Norway (NO)")
            && titles.contains(&"Norway: 2 page views, LCP p75 1.89 s*"),
        "{titles:?}"
    );
    for (name, text, want) in [
        ("loads.xls", "", "A file of page views ends in .har, .csv or .ndjson."),
        ("loads.har", "{}", "Nothing was taken."),
        ("loads.csv", "a,b\n1,2\n", "line 1: no column is called “url”"),
    ] {
        let (status, says) = import(&s, name, text).await;
        assert!(status == 422 && says.contains(want), "{name}: {says}");
    }
}

#[tokio::test]
async fn history_is_put_into_new_families_hour_by_hour_rows_and_sheets_alike() {
    let s = server().await;
    let at = |hours_ago: i64| Timestamp::now() - SignedDuration::from_hours(hours_ago);
    let pressed = json!({"happened": [{"what": "action", "at": 5, "name": "find"}]});
    take(
        &s,
        json!([
            view(Uuid::new_v4(), 5, "/cabin", pressed),
            view(Uuid::new_v4(), 4, "/help", json!({}))
        ]),
    )
    .await;
    let old = format!("url,at,lcp\nhttp://book.marram.example/cabin,{},900\n", at(24 * 9));
    assert_eq!(import(&s, "old.csv", &old).await.0, 200);
    let families = |text: String| text.matches(">Cabin<").count();
    let stretch = format!("from={}&to={}", at(24 * 10), at(-1));
    assert_eq!(families(page(&s, &format!("/marram-ferries/visitors?{stretch}")).await), 0);
    with_families(&s.db).await;
    assert_eq!(post(&s, "/marram-ferries/settings/visitors/history", &[]).await.0, 303);
    let mut part = String::new();
    for _ in 0..200 {
        part = page(&s, "/marram-ferries/settings/visitors/history").await;
        if !part.contains("<progress") {
            break;
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    assert!(
        part.contains("hours are in the families of then; 2 page views changed their family"),
        "{part}"
    );
    // The rows of today are filed anew in a while; the old hour is there at once.
    for _ in 0..100 {
        if page(&s, &format!("/marram-ferries/visitors/breakdown?by=family&csv=1&{stretch}"))
            .await
            .contains("Cabin,2,")
        {
            break;
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    let table =
        page(&s, &format!("/marram-ferries/visitors/breakdown?by=family&csv=1&{stretch}")).await;
    assert!(table.contains("Cabin,2,") && table.contains("Other pages,1,"), "{table}");
    let acts = page(&s, "/marram-ferries/visitors/actions?only=family:Cabin").await;
    assert!(
        acts.contains("Each of 1 actions worked."),
        "what happened moved with its page view: {acts}"
    );
}

#[tokio::test]
async fn a_change_of_t_and_of_the_share_that_reports_is_drawn_and_counts_are_scaled_by_the_share_of_their_time()
 {
    let s = server().await;
    let form = |sample: &'static str, t: &'static str| {
        [
            ("domains", "marram.example"),
            ("sample", sample),
            ("people_days", "60"),
            ("families", "/ Home"),
            ("satisfied", t),
        ]
    };
    take(
        &s,
        json!([view(Uuid::new_v4(), 90, "/", json!({})), view(Uuid::new_v4(), 80, "/", json!({}))]),
    )
    .await;
    let page_of = async |s: &Served| page(s, "/marram-ferries/visitors").await;
    assert!(page_of(&s).await.contains("every visit reports"));
    let (status, says) = post(&s, "/marram-ferries/settings/visitors", &form("10", "0")).await;
    assert!(
        status == 200
            && says.contains("T is from 0.1 to 60 seconds.")
            && says.contains("value=\"10\"")
    );
    assert_eq!(post(&s, "/marram-ferries/settings/visitors", &form("10", "2.5")).await.0, 303);
    // Two before the change stand for themselves; one after it, for ten.
    let mut later = beacon(Uuid::new_v4());
    later["at"] = json!(Timestamp::now().as_millisecond());
    later["sent"] = json!(Timestamp::now().as_millisecond() + 1);
    let until = Timestamp::now() + SignedDuration::from_hours(1);
    take(&s, json!([later])).await;
    let now = page(
        &s,
        &format!(
            "/marram-ferries/visitors?from={}&to={until}",
            until - SignedDuration::from_hours(12)
        ),
    )
    .await;
    assert!(
        now.contains("Apdex [2.5] by LCP") && now.contains("from 3 that report"),
        "{}",
        now.len()
    );
    assert!(
        now.contains("Apdex T 1.5 s → 2.5 s") && now.contains("100 % → 10 % of visits report"),
        "both are drawn"
    );
    assert!(now.contains(
        "3 page views reported. Each stands for 1 ÷ the share of visits that reported at its time"
    ));
    let hours = format!("from={}&to={until}", until - SignedDuration::from_hours(12));
    for path in ["requests", "actions", "errors", "funnels"] {
        let says = page(&s, &format!("/marram-ferries/visitors/{path}?{hours}")).await;
        assert!(says.contains("10 % to 100 % of visits report in this stretch"), "{path}");
    }
}

#[tokio::test]
async fn a_family_that_is_renamed_takes_its_budgets_and_funnels_with_it() {
    let s = server().await;
    with_families(&s.db).await;
    let funnel = [
        ("name", "Buy"),
        ("minutes", "30"),
        ("step1", "Sailings"),
        ("step2", "Cabin"),
        ("step3", "Pay"),
    ];
    assert_eq!(post(&s, "/marram-ferries/visitors/funnels", &funnel).await.0, 303);
    let cabin = (Some("Cabin"), cadentis_core::timing::Vital::Lcp);
    s.db.set_budget(1, cabin, Some(2_000.0), "Ada").await.expect("a budget");
    let form = [
        ("domains", "marram.example"),
        ("sample", "100"),
        ("people_days", "60"),
        ("families", "/sailings Sailings\n/cabin Choose a cabin\n/pay Pay"),
        ("satisfied", "1.5"),
    ];
    assert_eq!(post(&s, "/marram-ferries/settings/visitors", &form).await.0, 303);
    let funnels = s.db.funnels(1).await.expect("funnels");
    assert_eq!(funnels[0].steps, ["Sailings", "Choose a cabin", "Pay"]);
    let budgets = s.db.budgets(1).await.expect("budgets");
    assert!(
        matches!(&budgets[0].scope, cadentis_core::goal::budget::Scope::Family(name) if name == "Choose a cabin"),
        "{budgets:?}"
    );
}
