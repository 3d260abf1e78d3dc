//! Page views told apart by one attribute or by many at once.

use super::{World, world};
use cadentis_answers::views::Views;
use cadentis_answers::{breakdown, funnels, goals, requests};
use cadentis_core::calendar::Stretch;
use cadentis_core::calendar::stretch::at_second;
use cadentis_core::goal::{Definition, Measure as Promised, Period};
use cadentis_core::timing::Vital;
use cadentis_core::visitor::beacon::More;
use cadentis_core::visitor::{Attribute, Beacon, Device, Filter, PageView, Pool};
use cadentis_store::funnel::SavedFunnel;
use cadentis_store::page_view_hour::RolledUp;
use jiff::{SignedDuration, Timestamp};
use uuid::Uuid;

/// The nth page view, opened then: phones in Sweden are slow.
fn view(n: u128, at: Timestamp) -> PageView {
    let (phone, sweden) = (n.is_multiple_of(2), n.is_multiple_of(3));
    let beacon = Beacon {
        id: Uuid::from_u128(n + 1),
        seq: 1,
        at_ms: at.as_millisecond(),
        sent_ms: at.as_millisecond(),
        visit: Uuid::from_u128(1_000 + n / 3),
        url: "http://book.marram.example/".into(),
        device: if phone { Device::Phone } else { Device::Desktop },
        connection: "4g".into(),
        lcp: Some(if phone && sweden { 6_000.0 } else { 900.0 }),
        inp: None,
        cls: None,
        fcp: None,
        ttfb: None,
        load: None,
        dns: None,
        connect: None,
        abandoned: false,
        blank: false,
        errors: 0,
        error: None,
        more: More::default(),
    };
    PageView {
        at,
        received_at: at,
        family: ["Home", "Cabin", "Pay"][(n % 3) as usize].into(),
        path: "/".into(),
        ip: "198.51.100.0".parse().expect("an address"),
        country: if sweden { "SE" } else { "NO" }.into(),
        region: String::new(),
        city: String::new(),
        browser: "Chromium".into(),
        os: "Linux".into(),
        person: 0,
        beacon,
    }
}

/// Page views of the last two hours.
async fn viewed(w: &World) {
    let now = Timestamp::now();
    let nth = |n: u128| (w.site.id, view(n, now - SignedDuration::from_secs(20 + 17 * n as i64)));
    let views: Vec<(i32, PageView)> = (0..400).map(nth).collect();
    w.db.store_page_views(&views).await.expect("stored");
    rolled_up(w).await;
}

async fn rolled_up(w: &World) {
    while w.db.roll_up_one().await.expect("rolled up") != RolledUp::Nothing {}
}

fn counts(values: &[(String, Pool)]) -> Vec<(String, u64, [u64; 3])> {
    let of = |(v, p): &(String, Pool)| (v.clone(), p.page_views, p.measured(Vital::Lcp).counts);
    let mut all: Vec<_> = values.iter().map(of).collect();
    all.sort();
    all
}

#[tokio::test]
async fn attributes_read_at_once_say_what_each_says_alone_filtered_or_not_exact_or_merged() {
    let w = world(1).await;
    viewed(&w).await;
    let hours = |n: i64| Stretch {
        from: Timestamp::now() - SignedDuration::from_hours(n),
        to: Timestamp::now() + SignedDuration::from_mins(1),
    };
    for stretch in [hours(3), hours(40)] {
        for filter in [Filter::default(), Filter::parse(["device:phone"]).0] {
            let asked =
                [Attribute::Device, Attribute::Country, Attribute::Family, Attribute::Release];
            let at_once =
                Views::by_each(&w.answers, w.site.id, stretch, &filter, &asked, &[Vital::Lcp])
                    .await;
            for (by, together) in asked.iter().zip(at_once.expect("an answer")) {
                let alone = Views::load(
                    &w.answers,
                    w.site.id,
                    stretch,
                    &filter,
                    by.clone(),
                    &[Vital::Lcp],
                    1,
                )
                .await;
                let alone = alone.expect("an answer");
                assert_eq!(counts(&together.values()), counts(&alone.values()), "{by:?}");
                let whole = if filter.is_empty() { 400 } else { 200 };
                assert_eq!(together.all().page_views, whole);
            }
        }
    }
}

#[tokio::test]
async fn what_is_not_good_is_explained_by_those_who_have_more_than_their_share_of_it() {
    let w = world(1).await;
    viewed(&w).await;
    let found = breakdown::explained(&w.answers, w.site.id, &w.range(), Vital::Lcp)
        .await
        .expect("an answer");
    assert_eq!(found.samples, 400);
    // Every sixth: phones in Sweden.
    assert_eq!(found.not_good, (0..400).filter(|n| n % 6 == 0).count() as u64);
    let named: Vec<&str> = found.carriers.iter().map(|c| c.value.as_str()).collect();
    assert!(named.contains(&"phone") && named.contains(&"SE"), "{named:?}");
    assert!(!named.contains(&"desktop") && !named.contains(&"4g"), "{named:?}");
    // Beside what it is compared with: nobody came then.
    let range = w.range();
    let before = Stretch {
        from: range.stretch.from - SignedDuration::from_hours(5),
        to: range.stretch.from,
    };
    let range = cadentis_answers::Range { against: Some(before), ..range };
    let values =
        breakdown::ask(&w.answers, w.site.id, &range, &Attribute::Country, Vital::Lcp).await;
    let values = values.expect("an answer");
    assert_eq!(values[0].value, "NO", "most page views first");
    assert!(values.iter().all(|v| v.before.is_none()));
}

#[tokio::test]
async fn answers_can_be_sent_as_they_are_and_hold_numbers_not_words() {
    let w = world(1).await;
    viewed(&w).await;
    let funnel = SavedFunnel {
        name: "Buy".into(),
        steps: vec!["Home".into(), "Cabin".into()],
        within_s: 3_600,
    };
    w.db.save_funnel(w.site.id, &funnel).await.expect("kept");
    let found = funnels::ask(&w.answers, w.site.id, &w.range()).await.expect("an answer");
    let sent = serde_json::to_value(&found).expect("JSON");
    let steps = &sent["funnels"][0]["now"]["steps"];
    assert!(steps[0]["reached"].as_u64().is_some_and(|n| n > 100), "{steps}");
    assert_eq!(steps[0]["reached"].as_u64(), Some(found.funnels[0].now.began()));
    assert_eq!(sent["bucket_s"], w.range().bucket_s());
    let kind = requests::Kind::Request;
    let none = requests::ask(&w.answers, w.site.id, &w.range(), kind, &requests::Which::All)
        .await
        .expect("an answer");
    assert_eq!(serde_json::to_value(&none).expect("JSON")["families"], serde_json::json!([]));
}

#[tokio::test]
async fn what_goals_remember_of_an_hour_is_what_the_hour_holds_whatever_becomes_of_it() {
    let w = world(1).await;
    viewed(&w).await;
    let definition = Definition {
        measure: Promised::Experience("share of LCP within 2.5 s".parse().expect("a measure")),
        journeys: Vec::new(),
        period: Period::Days(1),
        ..Definition::monthly(0, 0.9)
    };
    let now = w.db.now().await.expect("a moment");
    let id = w.db.add_goal(w.site.id, "Seen in time", (&definition, w.begin), "Ada").await;
    let id = id.expect("kept").expect("it is new");
    // What is good and bad of the day: tried on it, on the goal's card, and by its families and devices.
    let counted = async || {
        let now = Timestamp::now();
        let tried = goals::tried(&w.answers, &w.site, Some(id), &definition, now);
        let tried = tried.await.expect("tried").windows.remove(0).judged.score;
        let asked = goals::ask(&w.answers, &w.site, &w.range(), now).await.expect("an answer");
        let card = asked.cards.into_iter().next().expect("the goal");
        let mut by: Vec<(String, u64, u64)> = Vec::new();
        by.extend(card.views.expect("values").values.into_iter().map(|(v, s)| (v, s.good, s.bad)));
        by.sort();
        assert_eq!((tried.good, tried.bad), (card.score.good, card.score.bad));
        assert_eq!(by.iter().map(|v| v.1).sum::<u64>(), card.score.good, "{by:?}");
        assert_eq!(by.iter().map(|v| v.2).sum::<u64>(), card.score.bad, "{by:?}");
        (tried.good, tried.bad, by)
    };
    // Every sixth is a phone in Sweden; those are at home all.
    let begin = counted().await;
    assert_eq!((begin.0, begin.1), (333, 67));
    let of = |value: &str, all: &[(String, u64, u64)]| all.iter().find(|v| v.0 == value).cloned();
    assert_eq!(of("Home", &begin.2), Some(("Home".into(), 67, 67)));
    assert_eq!(counted().await, begin, "from memory");
    // A slow one more in an hour that is over, from its rows first, then filed with it.
    let hour_s = now.as_second().div_euclid(3_600) * 3_600;
    let late = at_second(hour_s - 1_200);
    w.db.store_page_views(&[(w.site.id, view(600, late))]).await.expect("stored");
    let more = counted().await;
    assert_eq!((more.0, more.1), (333, 68));
    rolled_up(&w).await;
    assert_eq!(counted().await, more);
    // Whose visit is erased is in nothing that is counted.
    let day = Stretch { from: now - SignedDuration::from_hours(24), to: Timestamp::now() };
    let gone = w.db.forget_person(w.site.id, "visit", 1_200, day).await.expect("erased");
    assert_eq!(gone, 1);
    let less = counted().await;
    assert_eq!((less.0, less.1), (333, 67));
    assert_eq!(less, begin);
    // Half an hour that is carved out counts nowhere; the rest of its hours does, though it is no whole hour.
    let half = Stretch {
        from: late - SignedDuration::from_mins(15),
        to: late + SignedDuration::from_mins(15),
    };
    w.db.add_carve_out(id, half, "a power cut", "Ada").await.expect("carved out");
    let carved = counted().await;
    assert!(carved.0 < begin.0 && carved.1 < begin.1, "{carved:?}");
}
