//! Budgets on their page: set in place, by two at once, and what is over them.

use crate::server::{get, play, post_form as post, server};
use crate::serving::{self, beacons, program};
use crate::visitors::with_families;
use cadentis_core::access;
use cadentis_core::calendar::Stretch;
use cadentis_core::goal::budget::Scope;
use cadentis_core::run::Outcome;
use cadentis_core::saved_view::Piece;
use jiff::{SignedDuration, Timestamp};
use serde_json::{Value, json};
use uuid::Uuid;

const PAGE: &str = "/marram-ferries/budgets";

#[tokio::test]
async fn limits_are_set_in_place_and_what_is_over_them_is_told_with_its_margin() {
    let s = server().await;
    play(&s, &[Outcome::Passed, Outcome::Passed]).await;
    for n in 0..30 {
        let visit = Uuid::new_v4();
        let mut view = beacons::beacon(visit);
        view["visit"] = json!(visit);
        view["lcp"] = json!(3_000 + n);
        let sent = beacons::send(
            &s.server.address,
            "key",
            view.to_string(),
            beacons::OWN,
            beacons::BROWSER,
        )
        .await;
        assert_eq!(sent.0, 204, "{}", sent.1);
    }
    let page = get(&s, PAGE).await.1;
    assert!(page.contains("Nothing has a limit yet") || page.contains("limits hold"), "{page}");
    let named = page.split("name=\"LCP:").nth(2).and_then(|rest| rest.split('"').next());
    let family = named.expect("a family besides all pages").to_string();
    // All pages may take 2.5 s, which this family takes longer than.
    assert_eq!(
        post(&s, PAGE, &[("LCP:", "2,5"), ("was LCP:", ""), ("CLS:", ""), ("was CLS:", "")])
            .await
            .0,
        303
    );
    let page = get(&s, PAGE).await.1;
    assert!(page.contains("0.52 s over") && page.contains("strained"), "{page}");
    assert!(page.contains("broken over this stretch."), "{page}");
    let told = s.db.done(1).await.expect("rows").remove(0);
    assert_eq!((told.what.as_str(), told.which.as_str()), ("set the budget", "LCP of all pages"));
    assert!(told.was.contains("none") && told.became.contains("2.50 s"), "{told:?}");
    // A family of its own may take longer; nothing typed takes its limit away again.
    let own = format!("LCP:{family}");
    let was = format!("was {own}");
    assert_eq!(post(&s, PAGE, &[(&own, "4"), (&was, "")]).await.0, 303);
    let page = get(&s, PAGE).await.1;
    assert!(page.contains("0.98 s left"), "{page}");
    assert_eq!(s.db.budgets(1).await.expect("rows").len(), 2);
    assert_eq!(post(&s, PAGE, &[(&own, ""), (&was, "4")]).await.0, 303);
    assert_eq!(s.db.budgets(1).await.expect("rows").len(), 1);
}

#[tokio::test]
async fn of_two_who_set_a_limit_the_second_is_told_and_what_is_no_limit_changes_nothing() {
    let s = server().await;
    let set =
        async |limit: &str, was: &str| post(&s, PAGE, &[("LCP:", limit), ("was LCP:", was)]).await;
    assert_eq!(set("2.5", "").await.0, 303);
    let (status, _, page) = set("3", "").await;
    assert!(status == 422 && page.contains("Somebody set 2.50 s meanwhile."), "{page}");
    assert!(
        page.contains("value=\"3\"") && page.contains("name=\"was LCP:\" value=\"2.5\""),
        "{page}"
    );
    for (limit, says) in [
        ("soon", "A limit of LCP is a number, or nothing."),
        ("0", "A limit of LCP is above 0 and at most 600.00 s."),
        ("1e9", "at most 600.00 s"),
        ("NaN", "is a number"),
    ] {
        let (status, _, page) = set(limit, "2.5").await;
        assert!(
            status == 422 && page.contains(says) && page.contains("aria-invalid"),
            "{says}: {page}"
        );
    }
    assert_eq!(s.db.budgets(1).await.expect("rows")[0].limit, 2_500.0);
    // All or none: a right one beside a wrong one is not kept either.
    let both = [("LCP:", "3"), ("was LCP:", "2.5"), ("CLS:", "x"), ("was CLS:", "")];
    assert_eq!(post(&s, PAGE, &both).await.0, 422);
    assert_eq!(s.db.budgets(1).await.expect("rows")[0].limit, 2_500.0);
}

const MEASURED: &str = "/marram-ferries/budgets/measured";

/// Page views of this address whose largest paint took three seconds and more.
async fn views_of(s: &crate::server::Served, url: &str, many: usize) {
    for n in 0..many {
        let mut view = beacons::beacon(Uuid::new_v4());
        view["lcp"] = json!(3_000 + n);
        view["url"] = json!(url);
        let (address, text) = (&s.server.address, view.to_string());
        let sent = beacons::send(address, "key", text, beacons::OWN, beacons::BROWSER).await;
        assert_eq!(sent.0, 204, "{}", sent.1);
    }
}

#[tokio::test]
async fn any_measure_has_a_limit_on_its_worse_side_and_says_who_is_told_when_it_breaks() {
    let s = server().await;
    play(&s, &[Outcome::Passed, Outcome::Failed, Outcome::Passed]).await;
    views_of(&s, "http://book.marram.example/", 30).await;
    let set = async |measure: &str, was: &str, limit: &str| {
        post(&s, MEASURED, &[("measure", measure), ("was", was), ("limit", limit)]).await
    };
    // As it is said; what is set is said as the form has it.
    assert_eq!(set("mean  of LCP", "", "2 s").await.0, 303);
    assert_eq!(set("availability", "", "60 %").await.0, 303);
    let page = get(&s, PAGE).await.1;
    assert!(page.contains("mean of LCP") && page.contains("1.01 s over"), "{page}");
    assert!(page.contains("6.66 points left") || page.contains("6.67 points left"), "{page}");
    assert!(page.contains("limits is broken over this stretch."), "{page}");
    let told = s.db.done(1).await.expect("rows").remove(0);
    assert_eq!((told.what.as_str(), told.which.as_str()), ("set the budget", "availability"));
    assert!(told.became.contains("60 %"), "{told:?}");

    let now = get(&s, "/marram-ferries").await.1;
    assert!(now.contains("“mean of LCP” is 3.01 s, over its limit of 2.00 s."), "{now}");
    assert!(!now.contains("“availability” is"), "what is within its limit is no matter");

    // Nobody is told of it until an alert watches the same: it is offered ready to be saved.
    let watch = "/marram-ferries/alerts/new?measure=mean+of+LCP&#38;warning=2+s";
    assert!(page.contains("nobody") && page.contains(watch), "{page}");
    let form = get(&s, &watch.replace("&#38;", "&")).await.1;
    assert!(form.contains("value=\"mean of LCP\"") && form.contains("value=\"2 s\""), "{form}");
    let offered = get(&s, "/marram-ferries/alerts/new").await.1;
    assert!(offered.contains("Over its budget: mean of LCP"), "{offered}");
    let alert = [("name", "Slow on the mean"), ("measure", "mean of LCP"), ("warning", "2 s")];
    let alert = alert.into_iter().chain([("deed", "save")]).collect::<Vec<_>>();
    assert_eq!(post(&s, "/marram-ferries/alerts", &alert).await.0, 303);
    let page = get(&s, PAGE).await.1;
    assert!(page.contains("Slow on the mean</a>") && !page.contains(watch), "{page}");

    // An empty one takes it away.
    assert_eq!(set("mean of LCP", "2 s", "").await.0, 303);
    assert_eq!(s.db.measured_budgets(1).await.expect("rows").len(), 1);
}

#[tokio::test]
async fn what_cannot_be_limited_is_told_at_its_field_and_of_two_who_set_one_the_second_is_told() {
    let s = server().await;
    let set = async |measure: &str, was: &str, limit: &str| {
        post(&s, MEASURED, &[("measure", measure), ("was", was), ("limit", limit)]).await
    };
    for (measure, limit, says) in [
        ("p75 of gladness", "2 s", "Column"),
        ("p75 of LCP", "2", "a time with its unit"),
        ("p75 of LCP", "0 s", "a time above 0"),
        ("availability", "101 %", "a limit of a share"),
        ("availability for journey \"sail-away\"", "99 %", "is not there"),
        ("error budget left for goal \"None such\"", "10 %", "is not there"),
        ("p75 of LCP", "", "What may it be at most"),
    ] {
        let (status, _, page) = set(measure, "", limit).await;
        assert_eq!(status, 422, "{measure} {limit}");
        assert!(page.to_lowercase().contains(&says.to_lowercase()), "{says}: {page}");
        let typed = measure.replace('"', "&#34;");
        assert!(
            page.contains(&format!("value=\"{typed}\"")),
            "what was typed is still there: {page}"
        );
    }
    assert_eq!(s.db.measured_budgets(1).await.expect("rows"), []);
    assert_eq!(set("p75 of LCP", "", "2 s").await.0, 303);
    let (status, _, page) = set("p75 of LCP", "", "3 s").await;
    assert_eq!(status, 422);
    assert!(page.contains("Somebody set 2 s meanwhile."), "{page}");
    assert!(
        page.contains("value=\"3 s\"") && page.contains("name=\"was\" value=\"2 s\""),
        "{page}"
    );
    assert_eq!(set("p75 of LCP", "2 s", "3 s").await.0, 303);
    for n in 1..50 {
        assert_eq!(set(&format!("p{n} of TTFB"), "", "1 s").await.0, 303, "{n}");
    }
    let (status, _, page) = set("p75 of TTFB", "", "1 s").await;
    assert!(status == 422 && page.contains("50 limits on measures at most"), "{page}");
}

#[tokio::test]
async fn a_page_family_has_a_t_of_its_own_by_which_its_apdex_is_counted() {
    let s = server().await;
    with_families(&s.db).await;
    views_of(&s, "http://book.marram.example/sailings", 30).await;
    views_of(&s, "http://book.marram.example/pay", 10).await;
    let set = async |t: &str, was: &str| {
        let (status, _, page) = post(&s, PAGE, &[("T:Sailings", t), ("was T:Sailings", was)]).await;
        (status, page)
    };
    // By the T of all pages nobody had it quickly; by one of its own whoever came to this family had.
    let of_family = "/marram-ferries/visitors/family?family=Sailings";
    assert!(get(&s, of_family).await.1.contains("Apdex [1.5] by LCP"));
    assert_eq!(set("3,5", "").await.0, 303);
    let page = get(&s, of_family).await.1;
    assert!(page.contains("Apdex [3.5] by LCP") && page.contains("1.00"), "{page}");
    assert!(
        page.contains("0 % waited over 14 s for LCP") || page.contains("0.00 % waited over 14 s"),
        "{page}"
    );
    let page = get(&s, PAGE).await.1;
    let row = page.split("<tr>").find(|row| row.contains("name=\"T:Sailings\"")).expect("a row");
    assert!(row.contains("1.00 by") && row.contains("value=\"3.5\""), "{row}");
    let row = page.split("<tr>").find(|row| row.contains("name=\"T:Pay\"")).expect("a row");
    assert!(row.contains("0.50 by") && row.contains("placeholder=\"1.5\""), "{row}");
    let all = page.split("<tr>").find(|row| row.contains("All pages</th>")).expect("a row");
    assert!(all.contains("0.50 by 1.5") && !page.contains("name=\"T:\""), "{all}");
    // Programs read the same.
    let reads = program(&serving::token(&s.db, 1, &[access::Scope::Read]).await);
    let from = Timestamp::now() - SignedDuration::from_hours(2);
    let address = format!("{}/api/v1/sites/marram-ferries/families?from={from}", s.server.address);
    let families: Value =
        reads.get(address).send().await.expect("an answer").json().await.expect("JSON");
    let score = |name: &str| {
        let of = families.as_array().expect("a list").iter().find(|f| f["family"] == name);
        of.map(|f| (f["views"]["apdex"]["t_ms"].clone(), f["views"]["apdex"]["score"].clone()))
            .unwrap_or_else(|| panic!("{families}"))
    };
    assert_eq!(score("Sailings"), (json!(3_500.0), json!(1.0)));
    assert_eq!(score("Pay"), (json!(1_500.0), json!(0.5)));
    // Each change is a marker and in the audit; what is no T, or was set by another meanwhile, is told at its field.
    let day =
        Stretch { from: Timestamp::now() - SignedDuration::from_hours(24), to: Timestamp::MAX };
    let markers = s.db.markers(1, day).await.expect("rows");
    let titles: Vec<&str> = markers.iter().map(|m| m.said.title.as_str()).collect();
    assert_eq!(titles, ["Apdex T of Sailings 1.5 s → 3.5 s"]);
    let told = s.db.done(1).await.expect("rows").remove(0);
    assert_eq!(
        (told.what.as_str(), told.which.as_str()),
        ("set the budget", "T of Apdex of Sailings")
    );
    for (t, was, says) in [
        ("61", "3.5", "T is from 0.1 to 60 seconds"),
        ("quick", "3.5", "T is a number of seconds, or nothing."),
        ("2", "", "Somebody set 3.5 s meanwhile."),
    ] {
        let (status, page) = set(t, was).await;
        assert!(status == 422 && page.contains(says), "{says}: {page}");
    }
    assert_eq!(post(&s, PAGE, &[("T:", "9"), ("was T:", "")]).await.0, 303);
    let site = s.db.sites().await.expect("rows").remove(0);
    assert_eq!((site.apdex_t_s, site.family_t.get("Sailings").copied()), (1.5, Some(3.5)));
    assert_eq!(set("", "3.5").await.0, 303);
    assert!(s.db.sites().await.expect("rows")[0].family_t.is_empty());
}

#[tokio::test]
async fn whatever_names_a_page_family_follows_it_when_it_is_called_something_else() {
    let s = server().await;
    with_families(&s.db).await;
    let of = "p75 of LCP for family \"Sailings\"";
    let set = [("measure", of), ("was", ""), ("limit", "2 s")];
    assert_eq!(post(&s, MEASURED, &set).await.0, 303);
    let alert =
        [("name", "Sailings are slow"), ("measure", of), ("warning", "2 s"), ("deed", "save")];
    assert_eq!(post(&s, "/marram-ferries/alerts", &alert).await.0, 303);
    let t = [
        ("T:Sailings", "2"),
        ("was T:Sailings", ""),
        ("LCP:Sailings", "2.5"),
        ("was LCP:Sailings", ""),
    ];
    assert_eq!(post(&s, PAGE, &t).await.0, 303);
    let share = "share of LCP within 2.5 s for family \"Sailings\" or \"Pay\"";
    let goal = json!({"name": "Seen in time", "promised": 0.9, "measure": "experience", "share_of": share,
        "period": "rolling", "days": 7});
    let writes = program(&serving::token(&s.db, 1, &[access::Scope::Write]).await);
    let address = format!("{}/api/v1/sites/marram-ferries/goals", s.server.address);
    let made = writes.post(&address).json(&goal).send().await.expect("an answer");
    assert_eq!(made.status().as_u16(), 201);

    let query = "p75 of LCP by device for family \"Sailings\"";
    let keep = [("q", query), ("name", "Sailings by device")];
    assert_eq!(post(&s, "/marram-ferries/queries", &keep).await.0, 303);
    let view = [("name", "Morning"), ("span", "3600"), ("piece", "query"), ("of", query)];
    assert_eq!(post(&s, "/marram-ferries/views", &view).await.0, 303);
    let report = [
        ("name", "Timings"),
        ("kind", "timings"),
        ("period", "week"),
        ("filter", "family \"Sailings\""),
    ];
    assert_eq!(post(&s, "/marram-ferries/reports", &report).await.0, 303);

    let site = s.db.sites().await.expect("sites").remove(0);
    let patterns = [("/sailings", "Timetable"), ("/cabin", "Cabin"), ("/pay", "Pay")];
    let patterns = patterns.map(|(p, n)| (p.into(), n.into())).into();
    let renamed = cadentis_store::site::Site { patterns, ..site };
    s.db.set_collecting(&renamed, Timestamp::now()).await.expect("set");

    let of = "p75 of LCP for family \"Timetable\"";
    let site = s.db.sites().await.expect("sites").remove(0);
    assert_eq!(site.family_t.into_iter().collect::<Vec<_>>(), [("Timetable".to_string(), 2.0)]);
    let limits = s.db.measured_budgets(1).await.expect("rows");
    assert_eq!(limits[0].limit.measured.to_string(), of);
    assert_eq!(s.db.budgets(1).await.expect("rows")[0].scope, Scope::Family("Timetable".into()));
    assert_eq!(s.db.alerts(1).await.expect("rows")[0].says.definition.measured.to_string(), of);
    let goals = s.db.goals(1).await.expect("rows");
    let goal = goals.iter().find(|g| g.name == "Seen in time").expect("the goal");
    let of = goal.at(Timestamp::now()).definition.measure.of_page_views().expect("of page views");
    assert_eq!(of.scope.to_string(), "family \"Timetable\" or \"Pay\"");
    let query = query.replace("Sailings", "Timetable");
    assert_eq!(s.db.saved_queries(1).await.expect("rows")[0].says, query);
    let view = s.db.saved_views(1).await.expect("rows").remove(0);
    assert_eq!((view.definition.pieces, view.version), (vec![Piece::Query { query }], 2));
    let report = s.db.reports(1).await.expect("rows").remove(0);
    assert_eq!((report.definition.filter.as_str(), report.version), ("family \"Timetable\"", 2));
}
