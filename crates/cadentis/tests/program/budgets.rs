//! Budgets on their page: set in place, by two at once, and what is over them.

use crate::server::{get, play, post_form as post, server};
use crate::serving::beacons;
use cadentis_core::run::Outcome;
use serde_json::json;
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

/// Page views of a largest paint, some of them with an error.
async fn views(s: &crate::server::Served, many: usize) {
    for n in 0..many {
        let mut view = beacons::beacon(Uuid::new_v4());
        view["lcp"] = json!(3_000 + n);
        let (address, text) = (&s.server.address, view.to_string());
        let sent = beacons::send(address, "key", text, beacons::OWN, beacons::BROWSER).await;
        assert_eq!(sent.0, 204, "{}", sent.1);
    }
}

#[tokio::test]
async fn any_measure_has_a_limit_on_its_worse_side_and_says_who_is_told_when_it_breaks() {
    let s = server().await;
    play(&s, &[Outcome::Passed, Outcome::Failed, Outcome::Passed]).await;
    views(&s, 30).await;
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
