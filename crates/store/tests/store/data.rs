//! What two do at once, what dies in between, and what would never end.

use super::{db, db_at, hour, now, record, view};
use cadentis_core::calendar::stretch::at_second;
use cadentis_core::calendar::{Pace, Stretch};
use cadentis_core::run::{Outcome, RunRecord, Trouble};
use cadentis_core::visitor::{Happened, Happening, PageView, Sheet};
use cadentis_store::Db;
use cadentis_store::forgetting::Forgotten;
use cadentis_store::journey::{NewJourney, PlaceAndPace};
use cadentis_store::page_view_hour::RolledUp;
use cadentis_store::run::Finished;
use cadentis_store::script_version::Status;
use cadentis_store::sheet::Filed;
use cadentis_store::task::TaskState;
use jiff::{SignedDuration, Timestamp};
use serde_json::json;
use uuid::Uuid;

fn minutes(n: i64) -> Timestamp {
    now() + SignedDuration::from_mins(n)
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_run_is_never_due_again_while_it_is_being_finished() {
    let (db, location) = db().await;
    let journey = db.journeys(1).await.expect("rows").remove(0);
    for round in 0..1_000 {
        let at = minutes(5 * round);
        assert_eq!(db.make_due(at).await.expect("due"), 1, "round {round}");
        let work = db
            .lease(location, "r", at, at + SignedDuration::from_mins(2))
            .await
            .expect("asked")
            .expect("work");
        let (other, late) = (db.clone(), work.due_at + SignedDuration::from_secs(30));
        let (due, stored) = tokio::join!(
            tokio::spawn(async move { other.make_due(late).await }),
            db.finish(location, record(work.id)),
        );
        assert_eq!(due.expect("no panic").expect("due"), 0, "round {round}: due again");
        assert_eq!(stored.expect("stored"), Finished::Stored);
        assert!(db.lease(location, "r", late, at).await.expect("asked").is_none(), "round {round}");
        // Days of the far end of the test are made as they come.
        if round % 200 == 0 {
            db.ensure_days_around(at).await.expect("days");
        }
    }
    let all = Stretch { from: minutes(-60), to: minutes(5_060) };
    assert_eq!(db.runs(journey.id, 1, all).await.expect("rows").len(), 1_000);
}

#[tokio::test]
async fn goals_are_judged_by_a_run_that_came_days_late_too_however_often_its_day_was_read() {
    let (db, location) = db().await;
    let journey = db.journeys(1).await.expect("rows").remove(0);
    let mut records = Vec::new();
    for day in 0..5 {
        let at = now() + SignedDuration::from_hours(24 * day);
        db.ensure_days_around(at).await.expect("days");
        db.make_due(at).await.expect("due");
        let until = at + SignedDuration::from_mins(1);
        let work = db.lease(location, "r", at, until).await.expect("asked").expect("work");
        records.push(RunRecord { duration_ms: 1_000.0 + day as f64, ..record(work.id) });
    }
    let late = records.remove(2);
    for record in records {
        assert_eq!(db.finish(location, record).await.expect("stored"), Finished::Stored);
    }
    let stretch = Stretch { from: minutes(-60), to: now() + SignedDuration::from_hours(24 * 5) };
    let read = async || {
        let all = db.runs_for_goals(&[journey.id], 1, stretch).await.expect("rows");
        all[&journey.id].iter().map(|r| (r.location, r.duration_ms)).collect::<Vec<_>>()
    };
    let took = |ms: &[f64]| ms.iter().map(|ms| (location, *ms)).collect::<Vec<_>>();
    for _ in 0..3 {
        assert_eq!(read().await, took(&[1_000.0, 1_001.0, 1_003.0, 1_004.0]));
    }
    assert_eq!(db.finish(location, late).await.expect("stored"), Finished::Stored);
    for _ in 0..3 {
        assert_eq!(read().await, took(&[1_000.0, 1_001.0, 1_002.0, 1_003.0, 1_004.0]));
    }
    // Whole runs and times of those that got through are taken from the same days.
    let runs = db.runs(journey.id, 1, stretch).await.expect("rows");
    let whole: Vec<_> = runs.iter().map(|r| (r.location_id, r.duration_ms)).collect();
    assert_eq!(whole, read().await);
    let timings = db.timings(journey.id, 1, stretch).await.expect("rows");
    let timings: Vec<_> = timings.iter().map(|t| (t.location, t.ms)).collect();
    assert_eq!(timings, whole);
}

#[tokio::test]
async fn work_of_a_paused_journey_is_not_given_out_again_and_no_work_more_than_three_times() {
    let (db, location) = db().await;
    let journey = db.journeys(1).await.expect("rows").remove(0);
    let lease = async |n: i64| {
        db.lease(location, "r", minutes(n), minutes(n) + SignedDuration::from_secs(20)).await
    };
    db.make_due(now()).await.expect("due");
    let first = lease(0).await.expect("asked").expect("work");
    db.set_status(journey.id, Status::Paused).await.expect("kept");
    assert!(lease(1).await.expect("asked").is_none(), "its lease has ended, but it is paused");
    db.set_status(journey.id, Status::Active).await.expect("kept");
    for n in 2..4 {
        assert_eq!(lease(n).await.expect("asked").map(|w| w.id), Some(first.id));
    }
    assert!(lease(4).await.expect("asked").is_none(), "three runners did not come back with it");
    assert_eq!(
        db.finish(location, record(first.id)).await.expect("taken"),
        Finished::Stored,
        "one of them does"
    );
}

#[tokio::test]
async fn what_waits_is_what_would_be_given_out_and_nothing_that_never_will() {
    let (db, location) = db().await;
    let journey = db.journeys(1).await.expect("rows").remove(0);
    let waits = async |n: i64| {
        let b = db.backlog(minutes(n)).await.expect("rows");
        (b.due, b.due_for_s.map(|s| s.round() as i64 / 60), b.leased)
    };
    assert_eq!(waits(0).await, (0, None, 0));
    db.make_due(now()).await.expect("due");
    let due_at =
        db.lease(location, "r", now(), minutes(1)).await.expect("asked").expect("work").due_at;
    let late = minutes(2).duration_since(due_at).as_secs() / 60;
    assert_eq!(waits(0).await, (0, None, 1));
    assert_eq!(waits(2).await, (1, Some(late), 0), "its runner did not come back");
    db.set_status(journey.id, Status::Paused).await.expect("kept");
    assert_eq!(waits(2).await.0, 0, "paused");
    db.set_status(journey.id, Status::Active).await.expect("kept");
    for n in [2, 4] {
        db.lease(location, "r", minutes(n), minutes(n + 1)).await.expect("asked").expect("work");
    }
    assert_eq!(
        waits(9).await,
        (0, None, 0),
        "three runners did not come back: it is given to nobody any more"
    );
}

#[tokio::test]
async fn a_journey_that_is_made_paused_is_never_due_before() {
    let (db, location) = db().await;
    let (pace, places) = (Pace::Every(300), [location]);
    let new = NewJourney {
        site_id: 1,
        slug: "made",
        name: "Made",
        script: "script \"Made\"\nstep \"S\"\n  reload\n",
        apdex_t_s: 1.0,
        author: "Ada",
        plays: PlaceAndPace::usual(&pace, &places),
        status: Status::Paused,
    };
    let id = db.add_journey(&new).await.expect("made");
    db.make_due(now()).await.expect("due");
    while let Some(work) = db.lease(location, "r", now(), minutes(2)).await.expect("asked") {
        assert_ne!(work.journey_id, id);
    }
}

fn of_person(id: u128, at_s: i64, person: u64) -> (i32, PageView) {
    let (site, mut view) = view(id, at_s, 1, Some(1_000.0));
    (view.person, view.beacon.visit) = (person, Uuid::from_u128(id));
    (site, view)
}

async fn ids(db: &Db) -> Vec<u128> {
    let sheets = db.sheets_of(Filed::PageViews, 1, hour(), &["id".into()]).await.expect("sheets");
    let mut ids: Vec<u128> = sheets
        .iter()
        .flat_map(|s| (0..s.rows).filter_map(|row| s.id("id", row)).collect::<Vec<_>>())
        .collect();
    ids.sort_unstable();
    ids
}

async fn roll_up(db: &Db) {
    while db.roll_up_one().await.expect("rolled up") != RolledUp::Nothing {}
}

#[tokio::test(flavor = "multi_thread", worker_threads = 4)]
async fn an_hour_that_has_changed_is_filed_in_memory_once_for_all_who_ask_and_anew_with_the_next_change()
 {
    let (db, _, url) = db_at().await;
    let begin = hour().from.as_second();
    let views = |ids: std::ops::Range<u128>| -> Vec<_> {
        ids.map(|id| of_person(id, begin + i64::try_from(id).unwrap_or(0), 7)).collect()
    };
    db.store_page_views(&views(0..50)).await.expect("stored");
    let all = |n: u128| (0..n).collect::<Vec<_>>();
    assert_eq!(ids(&db).await, all(50));
    // Rows that go without a mark are still in memory, and nowhere else.
    let pool = sqlx::PgPool::connect(&url).await.expect("a database");
    sqlx::query("DELETE FROM page_view").execute(&pool).await.expect("gone");
    let asked: Vec<_> = (0..12)
        .map(|_| {
            let db = db.clone();
            tokio::spawn(async move { ids(&db).await })
        })
        .collect();
    for answer in asked {
        assert_eq!(answer.await.expect("answered"), all(50));
    }
    let other = Db::connect(&url).expect("an address");
    assert_eq!(ids(&other).await, all(0), "another process has a memory of its own");
    // Whatever is stored is answered at once, from whatever process.
    for n in 1..=20u128 {
        db.store_page_views(&views(n - 1..n)).await.expect("stored");
        let (ours, theirs) = tokio::join!(ids(&db), ids(&other));
        assert_eq!((ours, theirs), (all(n), all(n)));
    }
    // Nothing of an erased person stays in memory.
    assert_eq!(db.forget_person(1, "person", 7, hour()).await.expect("erased"), 20);
    assert_eq!(ids(&db).await, all(0));
}

#[tokio::test]
async fn an_hour_is_known_by_whoever_filed_it_until_it_changes() {
    let (db, _) = db().await;
    let begin = hour().from.as_second();
    let around = Stretch { from: at_second(begin - 3_600), to: at_second(begin + 7_200) };
    let known = async |what: Filed| db.hours_of(what, 1, around).await.expect("rows");
    assert_eq!(known(Filed::PageViews).await, []);
    // What has come and is not filed yet is there, and known by nobody.
    db.store_page_views(&[with_failure(1, begin + 5, 7)]).await.expect("stored");
    assert_eq!(known(Filed::PageViews).await, [(begin, None)]);
    roll_up(&db).await;
    let filed = known(Filed::PageViews).await;
    assert!(matches!(filed[..], [(hour, Some(_))] if hour == begin), "{filed:?}");
    assert_eq!(known(Filed::PageViews).await, filed, "the same for as long as it is the same");
    assert_eq!(known(Filed::Happenings).await.len(), 1);
    assert_eq!(db.hours_of(Filed::PageViews, 2, around).await.expect("rows"), [], "another site's");
    // More has come, and is filed anew; then somebody leaves it.
    db.store_page_views(&[with_failure(2, begin + 6, 8)]).await.expect("stored");
    assert_eq!(known(Filed::PageViews).await, [(begin, None)]);
    roll_up(&db).await;
    let anew = known(Filed::PageViews).await;
    assert!(anew[0].1.is_some() && anew != filed, "{anew:?}");
    assert_eq!(db.forget_person(1, "person", 7, hour()).await.expect("erased"), 1);
    roll_up(&db).await;
    let less = known(Filed::PageViews).await;
    assert!(less[0].1.is_some() && less != anew, "{less:?}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn erasing_a_person_loses_no_page_view_that_is_filed_in_between() {
    let (db, _) = db().await;
    let begin = hour().from.as_second();
    for round in 0..40u128 {
        let (theirs, others) = (1_000 + round * 10, 1_001 + round * 10);
        db.store_page_views(&[of_person(theirs, begin + 1, 77)]).await.expect("stored");
        roll_up(&db).await;
        let meanwhile = db.clone();
        let files = tokio::spawn(async move {
            meanwhile.store_page_views(&[of_person(others, begin + 2, 5)]).await.expect("stored");
            roll_up(&meanwhile).await;
        });
        assert!(
            db.forget_person(1, "person", 77, hour()).await.expect("erased") >= 1,
            "round {round}"
        );
        files.await.expect("filed");
        roll_up(&db).await;
        assert!(!ids(&db).await.contains(&theirs), "round {round}: still there");
        assert!(ids(&db).await.contains(&others), "round {round}: somebody else's is lost");
    }
    // What happened on a page is erased with it, and a text that the database cannot read holds nobody up.
    let mut odd = of_person(9_000, begin + 3, 78);
    odd.1.beacon.url = "https://book.marram.example/\u{0}".into();
    odd.1.path = "/\u{0}".into();
    db.store_page_views(&[odd]).await.expect("a row is a text in JSON, which can say anything");
    assert_eq!(db.forget_person(1, "person", 78, hour()).await.expect("erased"), 1);
}

#[tokio::test]
async fn erasing_from_hours_whose_rows_are_gone_leaves_what_is_not_theirs() {
    let (db, _) = db().await;
    let old = at_second(hour().from.as_second() - 30 * 86_400);
    let views = [of_person(1, old.as_second() + 1, 77).1, of_person(2, old.as_second() + 2, 5).1];
    db.file_history(1, old, &views).await.expect("filed");
    let stretch = Stretch { from: old, to: old + SignedDuration::from_hours(1) };
    assert_eq!(db.forget_person(1, "person", 77, stretch).await.expect("erased"), 1);
    let sheets = db.sheets_of(Filed::PageViews, 1, stretch, &["id".into()]).await.expect("sheets");
    assert_eq!((sheets[0].rows, sheets[0].id("id", 0)), (1, Some(2)));
    assert_eq!(db.forget_person(1, "person", 77, stretch).await.expect("erased"), 0);
}

#[tokio::test]
async fn history_is_put_into_families_by_the_hours_that_there_are_and_not_by_those_between() {
    let (db, _) = db().await;
    let ago = |days: i64| at_second(hour().from.as_second() - days * 86_400);
    for (id, days) in [(1, 300), (2, 30)] {
        let at = ago(days);
        let views = [of_person(id, at.as_second() + 1, 7).1];
        db.file_history(1, at, &views).await.expect("filed");
    }
    db.store_page_views(&[of_person(3, hour().from.as_second() + 1, 7)]).await.expect("stored");
    db.begin_families(1, now()).await.expect("begun");
    // One of rows that are not filed yet, two of sheets, and the end.
    let mut turns = 0;
    while db.work_on_a_task().await.expect("done") {
        turns += 1;
        assert!(turns <= 4, "it walks through hours of which nothing is kept");
    }
    let task = db.families_task(1).await.expect("rows").expect("a task");
    assert_eq!((turns, task.state), (4, TaskState::Done));
    assert_eq!((task.done, task.whole > 300 * 24), (task.whole, true));
}

/// A page view whose script asked for something that came, and for something that did not.
fn with_failure(id: u128, at_s: i64, person: u64) -> (i32, PageView) {
    let (site, mut view) = of_person(id, at_s, person);
    let asked = |status: u16| Happening {
        status: Some(status),
        ms: Some(40.0),
        method: "GET".into(),
        ..Happening::new(
            Happened::Request,
            900.0,
            format!("https://book.marram.example/{}", if status < 400 { "fine" } else { "broken" }),
        )
    };
    view.beacon.more.happened = vec![asked(200), asked(503)];
    (site, view)
}

#[tokio::test]
async fn what_went_wrong_is_told_of_every_hour_whether_filed_just_now_before_or_not_yet() {
    let (db, _, url) = db_at().await;
    let begin = hour().from.as_second();
    let columns = ["name", "visit"].map(String::from);
    let failed = async || {
        let found = db.sheets_of(Filed::Failures, 1, hour(), &columns).await.expect("sheets");
        let row = |s: &Sheet, row| (s.text("name", row).to_string(), s.id("visit", row));
        let all = found.iter().flat_map(|s| (0..s.rows).map(|n| row(s, n)).collect::<Vec<_>>());
        all.collect::<Vec<_>>()
    };
    let of = |id: u128| ("GET book.marram.example/broken".to_string(), Some(id));
    db.store_page_views(&[with_failure(1, begin + 1, 77)]).await.expect("stored");
    assert_eq!(failed().await, [of(1)], "from its rows");
    roll_up(&db).await;
    assert_eq!(failed().await, [of(1)], "as it is filed");
    assert_eq!(db.file_failures_of_before(9).await.expect("asked"), 0, "nothing is of before");
    // As it was before what went wrong was filed by itself.
    let pool = sqlx::PgPool::connect(&url).await.expect("a database");
    sqlx::query("DELETE FROM sheet WHERE what = 'fail'").execute(&pool).await.expect("gone");
    assert_eq!(failed().await, [of(1)], "out of everything that happened");
    assert_eq!(db.file_failures_of_before(9).await.expect("filed"), 1);
    assert_eq!(failed().await, [of(1)]);
    db.store_page_views(&[with_failure(2, begin + 2, 5)]).await.expect("stored");
    roll_up(&db).await;
    assert_eq!(db.forget_person(1, "person", 77, hour()).await.expect("erased"), 1);
    assert_eq!(failed().await, [of(2)], "and leaves with whom it befell");
}

#[tokio::test]
async fn ids_that_stay_in_memory_are_alike_where_ids_are_and_tell_nothing_of_them() {
    let (db, _) = db().await;
    let begin = hour().from.as_second();
    let visits = |visit: u128, id: u128, at_s: i64| {
        let (site, mut view) = of_person(id, at_s, 0);
        view.beacon.visit = Uuid::from_u128(visit);
        (site, view)
    };
    // One visit over two hours, another in one, and nobody who says who it is.
    let views = [visits(7, 1, begin - 60), visits(7, 2, begin + 1), visits(8, 3, begin + 2)];
    db.store_page_views(&views).await.expect("stored");
    let stretch = Stretch { from: at_second(begin - 3_600), to: hour().to };
    let columns = ["visit", "visit.alike", "visit.groups", "person.alike"].map(String::from);
    let mut before = None;
    for round in ["from rows", "filed", "from memory"] {
        let sheets = db.sheets_of(Filed::PageViews, 1, stretch, &columns).await.expect("sheets");
        let rows = sheets.iter().flat_map(|s| (0..s.rows).map(move |row| (s, row)));
        let ids: Vec<_> =
            rows.map(|(s, row)| (s.id("visit", row), s.id("visit.alike", row))).collect();
        assert_eq!(ids.iter().map(|i| i.0).collect::<Vec<_>>(), [Some(7), Some(7), Some(8)]);
        assert_eq!(ids[0].1, ids[1].1, "{round}");
        assert_ne!(ids[1].1, ids[2].1, "{round}");
        assert!(ids.iter().all(|(id, alike)| id != alike && alike.is_some()), "{round}: {ids:?}");
        assert_eq!(sheets[1].groups("visit.groups").map(|g| g.1), Some(2), "{round}");
        assert!(
            sheets.iter().all(|s| (0..s.rows).all(|r| s.id("person.alike", r).unwrap_or(0) == 0))
        );
        assert_eq!(*before.get_or_insert(ids.clone()), ids, "{round}");
        roll_up(&db).await;
    }
}

#[tokio::test]
async fn a_clock_that_jumps_is_not_believed_for_a_day() {
    let (db, _) = db().await;
    let hours = |n: i64| now() + SignedDuration::from_hours(n);
    assert!(db.beat(now()).await.expect("noted"), "the first look has nothing to compare with");
    assert!(db.beat(hours(20)).await.expect("noted"));
    // A week ahead, and on from there.
    assert!(!db.beat(hours(168)).await.expect("noted"));
    assert!(!db.beat(hours(180)).await.expect("noted"));
    assert!(db.beat(hours(193)).await.expect("noted"), "a day later it is believed");
    // Set back: that is a jump, too.
    assert!(!db.beat(hours(21)).await.expect("noted"));
    assert!(!db.beat(hours(44)).await.expect("noted"));
    assert!(db.beat(hours(46)).await.expect("noted"));
}

#[tokio::test]
async fn what_has_had_its_time_leaves_in_pieces_and_empty_days_with_it() {
    let (db, location) = db().await;
    let journey = db.journeys(1).await.expect("rows").remove(0);
    db.make_due(now()).await.expect("due");
    let work = db.lease(location, "r", now(), minutes(2)).await.expect("asked").expect("work");
    db.finish(location, record(work.id)).await.expect("stored");
    let trial = db.ask_trial(1, location, "script \"J\"", "desktop", now()).await.expect("asked");
    db.count_refused(&[(1, hour().from, "flood".into(), 3, "x\u{0}y".into())])
        .await
        .expect("counted");
    let days = async |db: &Db| {
        let held = db.days_held().await.expect("counted");
        held.into_iter().map(|(table, n)| format!("{table} {n}")).collect::<Vec<_>>().join(", ")
    };
    assert_eq!(days(&db).await, "page_view 6, picture 6, run 6, run_record 6");
    let refused = async |db: &Db| db.refused(1, hour()).await.expect("rows");
    assert_eq!(refused(&db).await, [("flood".to_string(), 3)]);
    let after = |n: i64| now() + SignedDuration::from_hours(24 * n);
    let gone = db.forget(after(60)).await.expect("forgotten");
    assert_eq!(gone.evidence, 1);
    // The day that still has a run stays; rows of page views and all else that is empty leave.
    assert_eq!(days(&db).await, "run 1");
    assert!(db.trial(trial).await.expect("rows").is_none());
    assert_eq!(refused(&db).await.len(), 1, "what was refused is told for over a year");
    let again = db.forget(after(450)).await.expect("forgotten");
    assert_eq!(again, Forgotten::default());
    assert!(refused(&db).await.is_empty());
    let runs = db
        .runs(journey.id, 1, Stretch { from: minutes(-60), to: minutes(60) })
        .await
        .expect("rows");
    assert_eq!(runs.len(), 1, "what became of a run stays");
}

#[tokio::test]
async fn what_can_never_be_stored_is_told_from_what_cannot_be_now() {
    let (db, location) = db().await;
    db.make_due(now()).await.expect("due");
    let work = db.lease(location, "r", now(), minutes(2)).await.expect("asked").expect("work");
    let mut bad = record(work.id);
    (bad.outcome, bad.trouble) =
        (Outcome::Failed, Some(Trouble { line: 1, says: "a\u{0}b".into() }));
    let refused =
        db.finish(location, bad.clone()).await.expect_err("a NUL is in no text of the database");
    assert!(refused.is_permanent(), "{refused}");
    // As it comes through the door it is clean.
    let read =
        cadentis_core::run::RunRecord::read(json!(bad).to_string().as_bytes()).expect("a record");
    assert_eq!(db.finish(location, read).await.expect("stored"), Finished::Stored);
    // A day for which there is no table never comes.
    let far = view(1, 1_000_000_000, 1, None);
    assert!(db.store_page_views(&[far]).await.expect_err("no such day").is_permanent());
    db.close().await;
    assert!(!db.ping().await.expect_err("closed").is_permanent());
}

#[tokio::test]
async fn names_that_an_hour_has_no_room_for_are_counted_once_however_often_it_is_filed() {
    let (db, _) = db().await;
    let begin = hour().from.as_second();
    let views: Vec<(i32, PageView)> = (0..20u128)
        .map(|n| {
            let (site, mut v) = view(n + 1, begin + n as i64, 1, None);
            v.beacon.more.attributes =
                (0..10).map(|i| (format!("n{n}x{i}"), "x".to_string())).collect();
            (site, v)
        })
        .collect();
    db.store_page_views(&views).await.expect("stored");
    for round in 0..2 {
        roll_up(&db).await;
        let refused = db.refused(1, hour()).await.expect("rows");
        assert_eq!(refused, [("names-over".to_string(), 150)]);
        db.store_page_views(&[view(500 + round, begin, 1, None)]).await.expect("stored");
    }
    assert!(db.attributes(1, hour()).await.expect("rows").len() <= 50);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn whoever_leaves_while_a_question_begins_leaves_no_connection_in_its_transaction() {
    let (db, _) = db().await;
    for nth in 0..400u64 {
        let other = db.clone();
        let reading = tokio::spawn(async move {
            let columns = ["lcp".to_string()];
            other.sheets_of(Filed::PageViews, 1, hour(), &columns).await.map(|_| ())
        });
        tokio::time::sleep(std::time::Duration::from_micros(nth * 37 % 1_500)).await;
        reading.abort();
    }
    // A connection that were left reading only would refuse to write.
    for _ in 0..5 {
        let each = (0..12).map(|nth| {
            let (db, name) = (db.clone(), format!("query {nth}"));
            async move { db.save_query(1, (&name, "count of page views"), "Ada").await.map(|_| ()) }
        });
        for written in futures::future::join_all(each).await {
            written.expect("it is written");
        }
    }
}
