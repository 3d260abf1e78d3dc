//! The store against a real PostgreSQL.

mod data;
mod kept;
mod maintenance;
mod moves;
mod people;

use cadentis_core::calendar::stretch::at_second;
use cadentis_core::calendar::{Cover, Pace, Stretch};
use cadentis_core::run::{Counts, Outcome, RunRecord};
use cadentis_core::timing::Vital;
use cadentis_core::visitor::beacon::More;
use cadentis_core::visitor::slices::OTHERS;
use cadentis_core::visitor::{Attribute, Beacon, Families, Filter, PageView, family};
use cadentis_standins::postgres::Cluster;
use cadentis_store::Db;
use cadentis_store::journey::{NewJourney, PlaceAndPace};
use cadentis_store::location::NewLocation;
use cadentis_store::page_view_hour::{HourCell, RolledUp};
use cadentis_store::run::{Finished, Try};
use cadentis_store::script_version::{Edit, Saved, Status};
use cadentis_store::sheet::Filed;
use cadentis_store::site::NewSite;
use jiff::{SignedDuration, Timestamp};
use std::sync::LazyLock;
use uuid::Uuid;

static CLUSTER: LazyLock<Cluster> =
    LazyLock::new(|| Cluster::scratch().expect("PostgreSQL is installed"));

const NOW_S: i64 = 1_795_000_200;

fn now() -> Timestamp {
    at_second(NOW_S)
}

/// An empty, migrated database with one site, one location and one journey.
async fn db() -> (Db, i32) {
    let (db, location, _) = db_at().await;
    (db, location)
}

/// The same, with its address.
async fn db_at() -> (Db, i32, String) {
    let name = format!("t{}", Uuid::new_v4().simple());
    let url = CLUSTER.create_database(&name).expect("a database");
    let db = Db::connect(&url).expect("an address");
    db.migrate().await.expect("migrations");
    db.ensure_days_around(now()).await.expect("days");
    let site = db
        .add_site(&NewSite {
            key: "k",
            name: "Marram Ferries",
            zone: "Europe/Oslo",
            domains: &["marram.example".into()],
            families: &[("/".into(), "Home".into())],
            apdex_t_s: 1.5,
        })
        .await
        .expect("a site");
    let location = NewLocation {
        slug: "bergen",
        name: "Bergen",
        country: "NO",
        kind: "public",
        zone: "Europe/Oslo",
        token: "secret",
        at: None,
        proxy: None,
        denied: Default::default(),
    };
    let location = db.add_location(&location).await.expect("a location");
    let script = "script \"J\"\nstep \"S\"\n  open http://book.marram.example/\n";
    let (pace, places) = (Pace::Every(300), [location]);
    let journey = NewJourney {
        site_id: site,
        slug: "j",
        name: "J",
        script,
        apdex_t_s: 1.0,
        author: "Ada",
        plays: PlaceAndPace::usual(&pace, &places),
        status: cadentis_store::script_version::Status::Active,
    };
    db.add_journey(&journey).await.expect("a journey");
    (db, location, url)
}

fn view(id: u128, at_s: i64, seq: i32, lcp: Option<f64>) -> (i32, PageView) {
    let at = at_second(at_s);
    let beacon = Beacon {
        id: Uuid::from_u128(id),
        seq,
        at_ms: at.as_millisecond(),
        sent_ms: at.as_millisecond(),
        visit: Uuid::from_u128(1),
        url: "http://book.marram.example/".into(),
        device: cadentis_core::visitor::Device::Phone,
        connection: "4g".into(),
        lcp,
        inp: None,
        cls: Some(0.01),
        fcp: None,
        ttfb: None,
        load: None,
        dns: None,
        connect: None,
        abandoned: false,
        blank: false,
        errors: 0,
        error: Some("tab\tand \\N and \"quotes\"".into()),
        more: More::default(),
    };
    let view = PageView {
        at,
        received_at: at,
        family: "Home".into(),
        path: "/".into(),
        ip: "198.51.100.0".parse().expect("an address"),
        country: "NO".into(),
        region: String::new(),
        city: String::new(),
        browser: "Chrome".into(),
        os: "Linux".into(),
        person: 0,
        beacon,
    };
    (1, view)
}

fn hour() -> Stretch {
    let from = at_second(NOW_S - NOW_S.rem_euclid(3600));
    Stretch { from, to: from + SignedDuration::from_hours(1) }
}

fn record(id: Uuid) -> RunRecord {
    RunRecord {
        id,
        started_at: now(),
        outcome: Outcome::Passed,
        duration_ms: 1234.5,
        trouble: None,
        steps: vec![],
        browser: "Chromium".into(),
        runner: "r".into(),
        device: "desktop".into(),
        trial: false,
    }
}

#[tokio::test]
async fn a_repeated_or_reordered_beacon_changes_nothing_and_the_last_one_wins() {
    let (db, _) = db().await;
    let (first, last) = (view(7, NOW_S, 1, None), view(7, NOW_S, 2, Some(2100.0)));
    for batch in [
        vec![first.clone()],
        vec![last.clone(), first.clone()],
        vec![last.clone()],
        vec![first.clone(), first],
    ] {
        db.store_page_views(&batch).await.expect("stored");
    }
    let sheets = db.sheets_of(Filed::PageViews, 1, hour(), &["lcp".into()]).await.expect("sheets");
    assert_eq!(sheets.iter().map(|s| s.rows).sum::<usize>(), 1);
    assert_eq!(sheets[0].number("lcp", 0), Some(2100.0));
}

#[tokio::test]
async fn rolling_up_can_be_repeated_and_late_page_views_are_counted_once() {
    let (db, _) = db().await;
    let lcp = |db: Db| async move {
        while db.roll_up_one().await.expect("rolled up") != RolledUp::Nothing {}
        let cells = db.cells(1, hour(), &[Attribute::Family], &[Vital::Lcp]).await.expect("cells");
        // A day made of them, and read again as it was kept, says the same.
        let day = Stretch {
            from: hour().from - SignedDuration::from_hours(30),
            to: hour().to + SignedDuration::from_hours(30),
        };
        for _ in 0..2 {
            let by_day =
                db.cells_by_day(1, day, &[Attribute::Family], &[Vital::Lcp]).await.expect("days");
            assert_eq!(by_day.len(), 1);
            let says = |c: &HourCell| {
                (c.value.clone(), c.cell.page_views, c.cell.vital(Vital::Lcp).clone())
            };
            assert_eq!(says(&by_day[0]), says(&cells[0]));
        }
        (
            cells.iter().map(|c| c.cell.page_views).sum::<u64>(),
            cells.iter().map(|c| c.cell.vital(Vital::Lcp).counts[0]).sum::<u64>(),
        )
    };
    db.store_page_views(&[view(1, NOW_S, 1, Some(900.0)), view(2, NOW_S + 1, 1, Some(9_000.0))])
        .await
        .expect("stored");
    assert_eq!(lcp(db.clone()).await, (2, 1));
    // A late one, a repeat, and a better one for the second.
    db.store_page_views(&[
        view(3, NOW_S - 60, 1, Some(800.0)),
        view(1, NOW_S, 1, Some(900.0)),
        view(2, NOW_S + 1, 2, Some(1_000.0)),
    ])
    .await
    .expect("stored");
    assert_eq!(lcp(db.clone()).await, (3, 3));
    assert_eq!(lcp(db.clone()).await, (3, 3));
}

#[tokio::test]
async fn what_one_server_holds_in_memory_of_an_hour_is_read_anew_when_another_has_filed_it_anew() {
    let (one, _, url) = db_at().await;
    let other = Db::connect(&url).expect("an address");
    let lcps = async |db: &Db| {
        let sheets = db
            .sheets_of(Filed::PageViews, 1, hour(), &["lcp".into(), "error".into()])
            .await
            .expect("sheets");
        let rows = sheets.iter().flat_map(|s| {
            (0..s.rows).map(|row| (s.number("lcp", row), s.text("error", row).len()))
        });
        rows.collect::<Vec<_>>()
    };
    let by_both = async || {
        // The first time from rows of the database, the second from memory.
        let says = [lcps(&one).await, lcps(&one).await, lcps(&other).await, lcps(&other).await];
        assert!(says.iter().all(|s| *s == says[0]), "{says:?}");
        says[0].iter().filter_map(|(lcp, _)| *lcp).collect::<Vec<_>>()
    };
    one.store_page_views(&[view(1, NOW_S, 1, Some(900.0))]).await.expect("stored");
    while one.roll_up_one().await.expect("rolled up") != RolledUp::Nothing {}
    assert_eq!(by_both().await, [900.0]);
    other
        .store_page_views(&[view(1, NOW_S, 2, Some(950.0)), view(2, NOW_S + 1, 1, Some(7.0))])
        .await
        .expect("stored");
    assert_eq!(by_both().await, [950.0, 7.0], "from its rows while it waits");
    while other.roll_up_one().await.expect("rolled up") != RolledUp::Nothing {}
    assert_eq!(by_both().await, [950.0, 7.0]);
    let visit = view(2, NOW_S + 1, 1, None).1.beacon.visit.as_u128();
    let gone = one.forget_person(1, "visit", visit, hour()).await.expect("forgotten");
    assert_eq!(by_both().await.len() as u64, 2 - gone);
    assert!(gone > 0);
}

#[tokio::test]
async fn page_views_copied_in_bulk_are_those_that_the_front_door_would_have_stored() {
    let (db, _) = db().await;
    let views: Vec<_> =
        (0..50).map(|i| view(i, NOW_S + i as i64, 1, (i % 3 > 0).then_some(i as f64))).collect();
    db.copy_page_views(views.clone()).await.expect("copied");
    // Every one of them is there already, to the last character.
    db.store_page_views(&views).await.expect("stored");
    let sheets = db.sheets_of(Filed::PageViews, 1, hour(), &[]).await.expect("sheets");
    assert_eq!(sheets[0].rows, 50);
    assert_eq!((0..50).filter(|row| sheets[0].number("lcp", *row).is_some()).count(), 33);
    assert_eq!(sheets[0].text("error", 7), "tab\tand \\N and \"quotes\"");
}

#[tokio::test]
async fn percentiles_from_cells_lie_within_a_hundredth_of_what_the_database_computes_from_the_same_rows()
 {
    let (db, _) = db().await;
    // Two hours of page views, spread over two powers of ten without a pattern.
    let spread = |i: u64| {
        150.0
            * 100f64
                .powf((i.wrapping_mul(0x9e37_79b9_7f4a_7c15) >> 11) as f64 / (1u64 << 53) as f64)
    };
    let from = hour().from.as_second() - 3_600;
    let views: Vec<_> = (0..6_000u64)
        .map(|i| {
            let (site, mut v) =
                view(u128::from(i) + 1, from + i as i64, 1, Some(f64::from(spread(i) as f32)));
            v.country = if i % 3 == 0 { "SE".into() } else { "NO".into() };
            (site, v)
        })
        .collect();
    db.copy_page_views(views.clone()).await.expect("copied");
    db.mark_hours(at_second(from), at_second(from + 7_200)).await.expect("marked");
    while db.roll_up_one().await.expect("rolled up") != RolledUp::Nothing {}
    let stretch = Stretch { from: at_second(from), to: at_second(from + 7_200) };
    let rows: Vec<(f32, String, String)> = views
        .iter()
        .map(|(_, v)| (v.beacon.lcp.unwrap_or(0.0) as f32, "phone".into(), v.country.clone()))
        .collect();
    let cells = db.cells(1, stretch, &[Attribute::Country], &[Vital::Lcp]).await.expect("cells");
    for only in [None, Some("SE"), Some("NO")] {
        let mut pool = cadentis_core::visitor::Pool::default();
        for c in cells.iter().filter(|c| only.is_none_or(|o| o == c.value)) {
            pool.count(c.cell.page_views, 0, 0, 0);
            pool.add_rated(&c.cell.vitals);
        }
        for p in [0.5, 0.75, 0.9, 0.95, 0.99] {
            let (said, _) =
                db.percentile_cont(&rows, p, only.map(|o| ("phone", o))).await.expect("computed");
            let (ours, theirs) = (pool.measured(Vital::Lcp).reading(p), said.expect("a number"));
            let off = ours.value.expect("a number") / theirs - 1.0;
            // The database draws a line between two neighbours, which lie close together here.
            assert!(off.abs() <= 0.0105, "p{p} {only:?}: {ours:?} beside {theirs}");
        }
    }
}

#[tokio::test]
async fn ten_thousand_addresses_and_releases_make_one_family_and_few_cells() {
    let (db, _) = db().await;
    let views: Vec<_> = (0..10_000u128)
        .map(|i| {
            let (site, mut v) =
                view(i + 1, hour().from.as_second() + (i / 4) as i64, 1, Some(900.0));
            v.path = format!("/p{i}");
            v.family = Families::new([("/", "Home")]).of(&v.path).to_string();
            v.beacon.more.release = format!("r{i}");
            (site, v)
        })
        .collect();
    db.copy_page_views(views.clone()).await.expect("copied");
    db.mark_hours(hour().from, hour().to).await.expect("marked");
    while db.roll_up_one().await.expect("rolled up") != RolledUp::Nothing {}
    for (by, cells, named) in
        [(Attribute::Family, 1, family::OTHER), (Attribute::Release, 200, OTHERS)]
    {
        let found = db.cells(1, hour(), std::slice::from_ref(&by), &[]).await.expect("cells");
        assert_eq!(
            (found.len(), found.iter().map(|c| c.cell.page_views).sum::<u64>()),
            (cells, 10_000),
            "{by:?}"
        );
        assert!(found.iter().any(|c| c.value == named), "{by:?}");
    }
    // Each of them is there all the same.
    let (filter, _) = Filter::parse(["release:r7777"]);
    let one = db.slowest_page_views(1, hour(), &filter, Vital::Lcp, 5).await.expect("views");
    assert_eq!(one.iter().map(|v| v.path.as_str()).collect::<Vec<_>>(), ["/p7777"]);
}

#[tokio::test]
async fn work_is_given_to_one_runner_at_a_time_comes_back_when_a_lease_ends_and_is_finished_once() {
    let (db, location) = db().await;
    assert_eq!(db.location_by_token("secret").await.expect("asked"), Some(location));
    assert_eq!(db.location_by_token("wrong").await.expect("asked"), None);
    assert_eq!(db.make_due(now()).await.expect("due"), 1);
    assert_eq!(db.make_due(now()).await.expect("due"), 0, "the same moment is due once");
    let minute = SignedDuration::from_mins(1);
    let first = db.lease(location, "a", now(), now() + minute).await.expect("asked").expect("work");
    assert!(
        db.lease(location, "b", now(), now() + minute).await.expect("asked").is_none(),
        "leased already"
    );
    // The first runner died; its lease ends.
    let later = now() + minute * 2;
    let second =
        db.lease(location, "b", later, later + minute).await.expect("asked").expect("work again");
    assert_eq!(first.id, second.id);
    assert_eq!(db.finish(location, record(second.id)).await.expect("sent"), Finished::Stored);
    // The first was not dead, only slow.
    assert_eq!(db.finish(location, record(first.id)).await.expect("sent"), Finished::Already);
    assert_eq!(db.finish(location, record(Uuid::new_v4())).await.expect("sent"), Finished::Unknown);
    let runs = db.runs(1, 1, Stretch { from: now() - minute * 60, to: later }).await.expect("runs");
    assert_eq!(runs.len(), 1);
    assert_eq!(db.make_due(now()).await.expect("due"), 0, "played already");
}

#[tokio::test]
async fn work_that_nobody_took_before_the_next_was_due_is_dropped() {
    let (db, location) = db().await;
    db.make_due(now()).await.expect("due");
    let next = now() + SignedDuration::from_mins(5);
    assert_eq!(db.make_due(next).await.expect("due"), 1);
    let work = db
        .lease(location, "a", next, next + SignedDuration::from_mins(1))
        .await
        .expect("asked")
        .expect("work");
    assert!(work.due_at > now() - SignedDuration::from_secs(1));
    assert!(db.lease(location, "a", next, next).await.expect("asked").is_none());
}

#[tokio::test]
async fn counts_by_bucket_leave_out_what_lies_in_windows() {
    let (db, location) = db().await;
    let mut ids = Vec::new();
    for i in 0..4 {
        let at = now() + SignedDuration::from_mins(5 * i);
        db.make_due(at).await.expect("due");
        let work = db.lease(location, "a", at, at).await.expect("asked").expect("work");
        let mut r = record(work.id);
        r.outcome = if i == 1 { Outcome::Failed } else { Outcome::Passed };
        db.finish(location, r).await.expect("stored");
        ids.push(work.due_at);
    }
    let all = Stretch { from: ids[0], to: ids[3] + SignedDuration::from_secs(1) };
    let window = Stretch { from: ids[1], to: ids[2] };
    let count = |out: Vec<Stretch>| {
        let (db, out) = (db.clone(), Cover::of(out));
        async move {
            let runs = db.runs_for_goals(&[1], 1, all).await.expect("rows");
            let checks: Vec<_> = runs[&1].iter().map(|run| run.check).collect();
            let rows = cadentis_core::goal::Tally::buckets(&checks, &out, 86_400 * 31);
            let t = rows.iter().fold(cadentis_core::goal::Tally::default(), |mut t, (_, x)| {
                t.merge(x);
                t
            });
            (t.passed, t.failed, t.left_out)
        }
    };
    assert_eq!(count(vec![]).await, (3, 1, 0));
    assert_eq!(count(vec![window]).await, (3, 0, 1));
    assert_eq!(
        db.failing_hours(1, all).await.expect("hours").iter().map(|(_, t)| t.failed).sum::<u64>(),
        1
    );
}

#[tokio::test]
async fn of_two_who_save_at_once_one_is_told_who_was_quicker() {
    let (db, _) = db().await;
    let journey = db.journeys(1).await.expect("rows").remove(0);
    let edit = |script: &'static str, author: &'static str| Edit {
        script,
        name: "J",
        based_on: 1,
        author,
        note: "",
    };
    let (ada, bo) = (edit("script \"A\"", "Ada"), edit("script \"B\"", "Bo"));
    let (a, b) = tokio::join!(
        db.save_script(journey.id, &ada, now()),
        db.save_script(journey.id, &bo, now())
    );
    let saved = [a.expect("asked"), b.expect("asked")];
    assert_eq!(saved.iter().filter(|s| matches!(s, Saved::Version(2))).count(), 1, "{saved:?}");
    assert_eq!(
        saved.iter().filter(|s| matches!(s, Saved::Overtaken(v) if v.version == 2)).count(),
        1,
        "{saved:?}"
    );
    let versions = db.versions(journey.id).await.expect("rows");
    assert_eq!(versions.iter().map(|v| v.version).collect::<Vec<_>>(), [2, 1]);
    let newest = db.script_of_version(journey.id, 2).await.expect("rows");
    assert_eq!(
        newest,
        Some(db.journey(1, &journey.slug).await.expect("rows").expect("a journey").script)
    );
}

#[tokio::test]
async fn a_trial_is_leased_once_is_forgotten_after_ten_minutes_and_leaves_after_a_day() {
    let (db, _) = db().await;
    let minutes = |n: i64| now() + SignedDuration::from_mins(n);
    let id = db.ask_trial(1, 1, "script \"J\"", "desktop", now()).await.expect("asked");
    let (one, two) = tokio::join!(
        db.lease_trial(1, "a", minutes(1), minutes(3)),
        db.lease_trial(1, "b", minutes(1), minutes(3))
    );
    let leased = [one.expect("asked"), two.expect("asked")];
    assert_eq!(leased.iter().flatten().map(|t| t.id).collect::<Vec<_>>(), [id]);
    // The lease ends without a record: it is given out again, until nobody waits any more.
    assert!(db.lease_trial(1, "b", minutes(4), minutes(6)).await.expect("asked").is_some());
    assert!(db.lease_trial(1, "b", minutes(11), minutes(13)).await.expect("asked").is_none());
    assert_eq!(
        db.tell_trial(2, id, &serde_json::json!({})).await.expect("asked"),
        None,
        "another location's"
    );
    assert_eq!(db.finish_trial(2, &record(id)).await.expect("asked"), Finished::Unknown);
    assert_eq!(db.finish_trial(1, &record(id)).await.expect("asked"), Finished::Stored);
    assert!(db.trial(id).await.expect("rows").is_some_and(|t| t.record.is_some()));
    db.ask_trial(1, 1, "script \"K\"", "desktop", minutes(25 * 60)).await.expect("asked");
    assert!(db.trial(id).await.expect("rows").is_none());
}

#[tokio::test]
async fn a_copy_plays_at_the_same_places_and_waits_paused_and_what_paused_does_not_wait_as_work() {
    let (db, _) = db().await;
    let journey = db.journeys(1).await.expect("rows").remove(0);
    assert!(db.make_due(now()).await.expect("due") > 0);
    db.set_status(journey.id, Status::Paused).await.expect("kept");
    assert!(
        db.lease(1, "r", now(), now() + SignedDuration::from_mins(2))
            .await
            .expect("asked")
            .is_none()
    );
    let slug = db.free_slug(1, &journey.slug).await.expect("rows");
    assert_eq!(slug, format!("{}-2", journey.slug));
    db.duplicate(&journey, &slug, "script \"C\"", "C", "production", "Ada", now())
        .await
        .expect("copied");
    let copy = db.journey(1, &slug).await.expect("rows").expect("the copy");
    assert_eq!((copy.status.as_str(), copy.version, copy.every_s), ("paused", 1, journey.every_s));
    let places = async |j: &cadentis_store::journey::Journey| {
        db.locations_of(j).await.expect("rows").into_iter().map(|(l, _)| l.id).collect::<Vec<_>>()
    };
    assert_eq!(places(&copy).await, places(&journey).await);
    assert_eq!(db.still_to_answer(copy.id).await.expect("rows").len(), places(&copy).await.len());
    assert_eq!(db.make_due(now()).await.expect("due"), 0);
}

/// The only journey, which plays once more before a failure counts.
async fn that_retries(db: &Db, location: i32) -> cadentis_store::journey::Journey {
    let journey = db.journeys(1).await.expect("rows").remove(0);
    let places = [location];
    let plays = PlaceAndPace { retry: true, ..PlaceAndPace::usual(&Pace::Every(300), &places) };
    db.set_place_and_pace(journey.id, &plays).await.expect("kept");
    journey
}

/// Plays what is due with this outcome; the id of the run.
async fn plays(db: &Db, location: i32, outcome: Outcome, at: Timestamp) -> Option<Uuid> {
    let work =
        db.lease(location, "r", at, at + SignedDuration::from_mins(2)).await.expect("asked")?;
    let played = RunRecord { outcome, ..record(work.id) };
    assert_eq!(db.finish(location, played).await.expect("stored"), Finished::Stored);
    Some(work.id)
}

#[tokio::test]
async fn a_failure_counts_only_when_the_second_try_fails_too_and_both_are_kept() {
    let (db, location) = db().await;
    let journey = that_retries(&db, location).await;
    let day = Stretch {
        from: now() - SignedDuration::from_hours(12),
        to: now() + SignedDuration::from_hours(12),
    };
    let counted = async || {
        let runs = db.runs(journey.id, 1, day).await.expect("rows");
        runs.iter().map(|r| (r.id, r.outcome)).collect::<Vec<_>>()
    };
    for (nth, second) in
        [Outcome::Passed, Outcome::Failed, Outcome::Unmeasured].into_iter().enumerate()
    {
        let at = now() + SignedDuration::from_mins(5 * nth as i64);
        db.make_due(at).await.expect("due");
        let before = counted().await.len();
        let first = plays(&db, location, Outcome::Failed, at).await.expect("due");
        assert_eq!(counted().await.len(), before, "it does not count yet");
        assert_eq!(db.other_try(first).await.expect("rows"), Some(Try::Waiting));
        assert_eq!(db.make_due(at).await.expect("due"), 0, "the second try is there already");
        let again = plays(&db, location, second, at).await.expect("the second try");
        let runs = counted().await;
        assert!(runs.contains(&(again, second)));
        match second {
            // Our own trouble says nothing: what is known is the failure.
            Outcome::Unmeasured => {
                assert!(runs.contains(&(first, Outcome::Failed)));
                assert_eq!(db.other_try(again).await.expect("rows"), None);
            }
            _ => {
                assert!(!runs.iter().any(|(id, _)| *id == first));
                assert_eq!(db.other_try(again).await.expect("rows"), Some(Try::First(first)));
                assert_eq!(db.other_try(first).await.expect("rows"), Some(Try::Second(again)));
            }
        }
        let kept = db.run(first).await.expect("rows").expect("the first try is kept");
        assert!(kept.outcome == Outcome::Failed && db.record(&kept).await.expect("rows").is_some());
        assert_eq!(plays(&db, location, Outcome::Passed, at).await, None, "there is no third");
    }
    // A second try that nobody plays before the next is due: the first counts.
    let at = now() + SignedDuration::from_mins(20);
    db.make_due(at).await.expect("due");
    let first = plays(&db, location, Outcome::Failed, at).await.expect("due");
    db.make_due(at + SignedDuration::from_mins(5)).await.expect("due");
    assert!(counted().await.contains(&(first, Outcome::Failed)));
}

#[tokio::test]
async fn a_journey_that_plays_once_is_finished_when_every_location_has_played_it() {
    let (db, location) = db().await;
    let journey = db.journeys(1).await.expect("rows").remove(0);
    let once = Pace::Once(now() + SignedDuration::from_mins(10));
    db.set_place_and_pace(journey.id, &PlaceAndPace::usual(&once, &[location]))
        .await
        .expect("kept");
    let status = async || db.journey(1, "j").await.expect("rows").expect("a journey").status;
    assert_eq!(db.make_due(now()).await.expect("due"), 0, "not yet");
    let late = now() + SignedDuration::from_mins(30);
    assert_eq!((db.make_due(late).await.expect("due"), status().await.as_str()), (1, "active"));
    assert!(plays(&db, location, Outcome::Passed, late).await.is_some());
    assert_eq!((db.make_due(late).await.expect("due"), status().await.as_str()), (0, "finished"));
    // With another moment it plays again.
    let again = Pace::Once(late);
    db.set_place_and_pace(journey.id, &PlaceAndPace::usual(&again, &[location]))
        .await
        .expect("kept");
    assert_eq!((db.make_due(late).await.expect("due"), status().await.as_str()), (1, "active"));
}

#[tokio::test]
async fn evidence_leaves_when_its_time_is_over_and_that_of_failed_runs_later() {
    let (db, location) = db().await;
    let site = db.sites().await.expect("rows").remove(0);
    let mut ids = Vec::new();
    for (nth, outcome) in [Outcome::Passed, Outcome::Failed].into_iter().enumerate() {
        let at = now() + SignedDuration::from_mins(5 * nth as i64);
        db.make_due(at).await.expect("due");
        ids.push(plays(&db, location, outcome, at).await.expect("due"));
    }
    let site = cadentis_store::site::Site { keep_days: 2, keep_failed_days: 5, ..site };
    db.set_site(&site).await.expect("kept");
    let kept = async |days: i64| {
        db.forget(now() + SignedDuration::from_hours(24 * days + 1)).await.expect("forgotten");
        let mut kept = Vec::new();
        for id in &ids {
            let run = db.run(*id).await.expect("rows").expect("the run itself stays");
            kept.push(db.record(&run).await.expect("rows").is_some());
        }
        kept
    };
    assert_eq!(kept(1).await, [true, true]);
    assert_eq!(kept(2).await, [false, true]);
    assert_eq!(kept(5).await, [false, false]);
}

#[tokio::test]
async fn weeks_of_runs_are_the_same_from_sheets_as_from_rows_and_a_late_run_is_in_them() {
    let (db, location) = db().await;
    let journey = db.journeys(1).await.expect("rows").remove(0);
    // Five days that are over, a run an hour.
    let today = Timestamp::now().as_second().div_euclid(86_400) * 86_400;
    let begin = today - 5 * 86_400;
    db.ensure_days(at_second(begin), at_second(today)).await.expect("days");
    // Work of the second day is given out then and comes back only at the end.
    let late = at_second(begin + 86_400 + 1_800);
    db.make_due(late).await.expect("due");
    let work = db
        .lease(location, "r", late, late + SignedDuration::from_mins(2))
        .await
        .expect("asked")
        .expect("work");
    let run = |n: i64| cadentis_store::run::Run {
        id: Uuid::new_v4(),
        site_id: 1,
        journey_id: journey.id,
        location_id: location,
        due_at: at_second(begin + n * 3_600),
        outcome: if n % 7 == 0 { Outcome::Failed } else { Outcome::Passed },
        duration_ms: 500.0 + n as f64,
        steps_ms: [1.5, n as f32].into_iter().collect(),
        trouble: (n % 7 == 0).then(|| format!("trouble “{n}”")),
        split_ms: None,
        counts: (n % 3 == 0).then(|| Counts::from_numbers([n as u64, 1 << 41, 7, n as u64 % 2])),
    };
    let all: Vec<_> = (0..120).map(run).collect();
    db.copy_runs(all.iter().map(|r| (r.clone(), "r".to_string(), None))).await.expect("copied");
    let stretch = Stretch { from: at_second(begin + 5_000), to: at_second(today - 2_000) };
    let read = async || format!("{:?}", db.runs(journey.id, 1, stretch).await.expect("rows"));
    let wanted = |all: &[cadentis_store::run::Run]| {
        format!(
            "{:?}",
            all.iter().filter(|r| stretch.contains(r.due_at)).cloned().collect::<Vec<_>>()
        )
    };
    // The first reading makes the sheets, the second reads them.
    assert_eq!(read().await, wanted(&all));
    assert_eq!(read().await, wanted(&all));
    let id = work.id;
    assert_eq!(db.finish(location, record(id)).await.expect("stored"), Finished::Stored);
    let runs = db.runs(journey.id, 1, stretch).await.expect("rows");
    assert_eq!(
        (runs.len(), runs.iter().filter(|r| r.id == id).count()),
        (all.iter().filter(|r| stretch.contains(r.due_at)).count() + 1, 1)
    );
    assert!(runs.windows(2).all(|w| w[0].due_at <= w[1].due_at));
}

#[tokio::test]
async fn a_record_that_comes_late_is_taken_and_a_clock_that_jumps_makes_no_flood_and_no_run_of_the_past()
 {
    let (db, location) = db().await;
    let minutes = |n: i64| now() + SignedDuration::from_mins(n);
    db.make_due(now()).await.expect("due");
    let work = db.lease(location, "r", now(), minutes(2)).await.expect("asked").expect("work");
    // Nobody can deliver for twenty minutes; meanwhile other work was due, and this is not given out again.
    db.make_due(minutes(20)).await.expect("due");
    let next =
        db.lease(location, "r", minutes(20), minutes(22)).await.expect("asked").expect("work");
    assert_ne!(next.id, work.id);
    assert!(db.lease(location, "other", minutes(20), minutes(22)).await.expect("asked").is_none());
    assert_eq!(db.finish(location, record(work.id)).await.expect("stored"), Finished::Stored);
    assert_eq!(db.finish(location, record(work.id)).await.expect("known"), Finished::Already);
    assert_eq!(db.finish(location, record(next.id)).await.expect("stored"), Finished::Stored);
    // Three hours ahead: one run, not thirty-six. Two days back: none.
    assert_eq!(db.make_due(minutes(200)).await.expect("due"), 1);
    assert_eq!(db.make_due(minutes(-2_880)).await.expect("due"), 0);
}
