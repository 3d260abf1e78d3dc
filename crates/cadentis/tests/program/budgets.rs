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
