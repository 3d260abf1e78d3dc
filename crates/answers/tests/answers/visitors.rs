//! Page views told apart by one attribute or by many at once.

use super::{World, world};
use cadentis_answers::views::Views;
use cadentis_answers::{breakdown, funnels, requests};
use cadentis_core::calendar::Stretch;
use cadentis_core::timing::Vital;
use cadentis_core::visitor::beacon::More;
use cadentis_core::visitor::{Attribute, Beacon, Device, Filter, PageView, Pool};
use cadentis_store::funnel::SavedFunnel;
use cadentis_store::page_view_hour::RolledUp;
use jiff::{SignedDuration, Timestamp};
use uuid::Uuid;

/// Page views of the last two hours: phones in Sweden are slow.
async fn viewed(w: &World) {
    let now = Timestamp::now();
    let views: Vec<(i32, PageView)> = (0..400_u128)
        .map(|n| {
            let (phone, sweden) = (n % 2 == 0, n % 3 == 0);
            let at = now - SignedDuration::from_secs(20 + 17 * n as i64);
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
            let view = PageView {
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
            };
            (w.site.id, view)
        })
        .collect();
    w.db.store_page_views(&views).await.expect("stored");
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
