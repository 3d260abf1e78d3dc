//! One journey and one run as they are answered, and what somebody may change of them.

use super::{SCRIPT, World, world};
use cadentis_answers::changes::goals::Promise;
use cadentis_answers::changes::journeys::{About, NewScript, NotRepaired, NotSaved, SavedAs};
use cadentis_answers::changes::{self, Author};
use cadentis_answers::kept::{Deleted, Journey, Status};
use cadentis_answers::queries::{self, Over};
use cadentis_answers::runs::Wanted;
use cadentis_answers::{
    AnswerError, alerts, goals, journey, measures, run, runs, scripts, setup, sites, weeks,
};
use cadentis_core::calendar::Stretch;
use cadentis_core::goal::Definition;
use cadentis_core::measure::Measured;
use cadentis_core::query::Query;
use cadentis_core::run::Outcome;
use jiff::{SignedDuration, Timestamp};
use std::time::Duration;
use uuid::Uuid;

fn ada() -> Author {
    Author::named("Ada").expect("a name")
}

async fn first(w: &World) -> Journey {
    sites::journey(&w.answers, w.site.id, "j0").await.expect("an answer").expect("a journey")
}

/// Eight rounds that pass, then three in which it fails from Halifax only.
async fn played(w: &World) {
    for round in 0..8 {
        w.plays(5 * round, |_, _| (Outcome::Passed, [300.0, 400.0])).await;
    }
    for round in 8..11 {
        w.plays(5 * round, |_, place| match place {
            1 => (Outcome::Failed, [300.0, 900.0]),
            _ => (Outcome::Passed, [320.0, 400.0]),
        })
        .await;
    }
}

#[tokio::test]
async fn a_journey_says_the_same_of_its_runs_on_its_page_by_location_over_time_and_in_its_list() {
    let w = world(1).await;
    played(&w).await;
    let (j, range) = (first(&w).await, w.range());
    let at = journey::ask(&w.answers, &w.site, &range, range.stretch, &j).await.expect("an answer");
    assert_eq!((at.tally.passed, at.tally.failed, at.tally.all()), (19, 3, 22));
    assert_eq!(at.duration[0].reading.value, Some(700.0), "of those that got through");
    assert_eq!(at.duration[0].reading.samples, 19);
    assert!(at.findings[0].says.contains("halifax"), "{}", at.findings[0].says);
    // A failed run tells of the steps before the one that failed.
    assert_eq!(at.steps.iter().map(|s| s.duration[0].samples).collect::<Vec<_>>(), [22, 19]);

    let places = journey::places(&w.answers, w.site.id, &range, &j).await.expect("an answer");
    let samples: u64 = places.places.iter().map(|p| p.steps[1].0.samples).sum();
    assert_eq!(samples, 19);
    let down: Vec<_> = places.periods.iter().filter_map(|p| p.down.as_ref()).collect();
    assert_eq!((down.len(), down[0].runs, down[0].lasts), (1, 3, true));
    assert_eq!(down[0].places, ["halifax"]);

    let told = weeks::ask(&w.answers, w.site.id, &range, range.stretch, &j, None)
        .await
        .expect("an answer");
    assert!(told.beside.is_none());
    let per_place: u64 = told.places.iter().map(|(_, cells)| cells[0].p75.samples).sum();
    assert_eq!(per_place, 22);

    let wanted = Wanted {
        outcome: Some(Outcome::Failed),
        location: Some("halifax"),
        most: 100,
        ..Wanted::default()
    };
    let failed = runs::ask(&w.answers, &j, range.stretch, &wanted).await.expect("an answer");
    assert_eq!((failed.count, failed.rows.len()), (3, 3));
    assert_eq!(failed.location.map(|l| l.slug), Some("halifax".into()));
    let newest = runs::newest(&w.answers, &j, range.stretch).await.expect("an answer");
    assert!(newest.is_some_and(|r| r.due_at >= failed.rows[0].run.due_at));
}

#[tokio::test]
async fn a_run_stands_between_its_neighbours_and_beside_those_of_other_locations() {
    let w = world(1).await;
    played(&w).await;
    let (j, range) = (first(&w).await, w.range());
    let wanted = Wanted { outcome: Some(Outcome::Failed), most: 9, ..Wanted::default() };
    let failed = runs::ask(&w.answers, &j, range.stretch, &wanted).await.expect("an answer").rows;
    let [newest, middle, oldest] = &failed[..] else { panic!("three failed") };
    let at = run::ask(&w.answers, &w.site, middle.run.id, None).await.expect("an answer");
    let at = at.expect("a run");
    assert_eq!((at.near.previous, at.near.next), (Some(oldest.run.id), Some(newest.run.id)));
    let elsewhere: Vec<_> = at.near.elsewhere.iter().map(|(l, r)| (&*l.slug, r.outcome)).collect();
    assert_eq!(elsewhere, [("bergen", Outcome::Passed)]);
    // Every step asked for one thing, and all of it failed.
    let examined = at.examined.expect("a record");
    assert_eq!((examined.failed_requests, examined.script_errors), (2, 0));
    assert!(examined.cause.is_some());
    let other = run::ask(&w.answers, &w.site, middle.run.id, Some(1)).await.expect("an answer");
    assert_eq!(other.and_then(|at| at.examined?.step).map(|s| s.nth), Some(1), "as it was asked");
    assert!(run::ask(&w.answers, &w.site, Uuid::new_v4(), None).await.expect("none").is_none());
    let repaired = changes::journeys::repair(&w.answers, &ada(), &w.site, middle.run.id).await;
    assert!(matches!(repaired.expect("an answer"), Err(NotRepaired::NothingToDo)));
}

#[tokio::test]
async fn a_script_is_saved_once_by_who_may_and_never_over_somebody_elses() {
    let w = world(1).await;
    let better = SCRIPT.replace("link \"Find\"", "link \"Search\"");
    let save = async |by: &Author, script: &str, based_on| {
        let j = first(&w).await;
        let new = NewScript { script, based_on, note: "why" };
        changes::journeys::save_script(&w.answers, by, &w.site, &j, &new).await.expect("an answer")
    };
    let version = first(&w).await.version;
    assert!(matches!(save(&ada(), "script", version).await, Err(NotSaved::Unplayable(_))));
    assert!(
        matches!(save(&ada(), &better, version).await, Ok(SavedAs::New(v)) if v == version + 1)
    );
    assert!(matches!(save(&ada(), &better, version + 1).await, Ok(SavedAs::Same(_))));
    let bo = Author::named("Bo").expect("a name");
    match save(&bo, SCRIPT, version).await {
        Err(NotSaved::Overtaken(by)) => assert_eq!((&*by.author, by.version), ("Ada", version + 1)),
        _ => panic!("it was changed meanwhile"),
    }
    let j = first(&w).await;
    let about = About { team: Some(99), tags: "fares, ,", essential: true };
    changes::journeys::set_about(&w.answers, &ada(), &j, &about).await.expect("kept");
    let kept = first(&w).await;
    assert_eq!((kept.tags, kept.team_id), (vec!["fares".to_string()], None), "no such team");
    let told = scripts::ask(&w.answers, &first(&w).await, Some(version)).await.expect("an answer");
    assert_eq!((told.versions.len(), told.old.as_deref()), (2, Some(SCRIPT)));
    assert_eq!(told.plays_at.len(), 2);
}

#[tokio::test]
async fn a_journey_that_is_counted_or_playing_is_not_deleted_and_a_copy_is_another() {
    let w = world(1).await;
    let (answers, j) = (&w.answers, first(&w).await);
    let free = changes::journeys::duplicate(answers, &ada(), &w.site, &j, Some("nowhere")).await;
    let free = free.expect("a copy");
    let copy = sites::journey(answers, w.site.id, &free).await.expect("an answer").expect("it");
    assert_eq!((copy.copied_from, &*copy.status), (Some(j.id), Status::Paused.word()));
    assert_eq!(copy.environment, j.environment, "there is no such environment to move it to");
    let gone = changes::journeys::delete(answers, &ada(), &copy).await.expect("an answer");
    assert_eq!(gone, Deleted::NotArchived);
    changes::journeys::set_status(answers, &ada(), &copy, Status::Archived).await.expect("kept");
    let definition = Definition::monthly(copy.id, 0.99);
    let promise = Promise { name: "Promise", definition: &definition, from: Timestamp::UNIX_EPOCH };
    let made = changes::goals::add(answers, &ada(), &w.site, &promise).await.expect("an answer");
    assert!(made.is_ok());
    let gone = changes::journeys::delete(answers, &ada(), &copy).await.expect("an answer");
    assert_eq!(gone, Deleted::Counted("Promise".into()));
    let told = goals::ask(answers, &w.site, &w.range(), Timestamp::now()).await.expect("goals");
    assert_eq!(told.cards.len(), 1);
    assert_eq!(told.cards[0].budget.score.counted(), 0, "nothing was played of it");
}

#[tokio::test]
async fn a_journey_whose_script_cannot_be_read_says_where_it_is_mended() {
    let w = world(1).await;
    let broken = Journey { script: "nothing".into(), ..first(&w).await };
    let range = w.range();
    let answer = journey::ask(&w.answers, &w.site, &range, range.stretch, &broken).await;
    match answer {
        Err(AnswerError::Script { slug, says, .. }) => {
            assert_eq!(slug, "j0");
            assert!(says.contains("line 1"), "{says}");
        }
        _ => panic!("it cannot be read"),
    }
}

#[tokio::test]
async fn a_location_is_away_when_its_runner_has_not_asked_for_a_while_and_common_parts_are_kept_only_when_all_plays()
 {
    let w = world(1).await;
    let at = Timestamp::from_second(w.begin.as_second()).expect("a moment");
    let runner = cadentis_answers::kept::Runner {
        name: "r".into(),
        program: "1".into(),
        protocol: 4,
        seen_at: at,
        busy_since: None,
        kept: 0,
    };
    let location = cadentis_answers::runners::location(&w.answers, "bergen").await.expect("it");
    let location = location.expect("its token");
    cadentis_answers::runners::heard(&w.answers, location, &runner).await.expect("noted");
    let presences = async |now| {
        let told = setup::locations(&w.answers, now).await.expect("an answer");
        told.iter().map(|l| l.presence).collect::<Vec<_>>()
    };
    let minutes = |n| at + jiff::SignedDuration::from_mins(n);
    assert_eq!(presences(minutes(1)).await[0], setup::Presence::There(at));
    assert_eq!(presences(minutes(9)).await[0], setup::Presence::Away(at));
    assert_eq!(presences(minutes(1)).await[1], setup::Presence::Never);

    let j = first(&w).await;
    let follows =
        "script \"J\"\nstep \"Open\"\n  open http://book.marram.example/\n  follow \"Sign in\"\n";
    let parts = "part \"Sign in\"\n  press button \"Sign in\"\n";
    let keep = async |text: &str| {
        changes::installation::set_parts(&w.answers, &ada(), &w.site, text)
            .await
            .expect("an answer")
    };
    assert!(keep("part").await.is_err());
    assert!(keep(parts).await.is_ok());
    let site = sites::by_slug(&w.answers, &w.site.slug).await.expect("an answer").expect("a site");
    let new = NewScript { script: follows, based_on: j.version, note: "" };
    let saved = changes::journeys::save_script(&w.answers, &ada(), &site, &j, &new).await;
    assert!(saved.expect("an answer").is_ok());
    match keep("").await {
        Err(changes::installation::NotKept::Needed(name, _)) => assert_eq!(name, "J"),
        _ => panic!("a journey follows it"),
    }
}

#[tokio::test]
async fn a_mark_is_measured_in_all_runs_that_set_it_and_one_that_nobody_sets_is_told_with_what_is_near()
 {
    let w = world(1).await;
    played(&w).await;
    let about = async |text: &str| {
        let measured: Measured = text.parse().expect("a measure");
        measures::about(&w.answers, &w.site, &measured).await.expect("an answer")
    };
    let stretch = w.range().stretch;
    let read = async |text: &str| {
        let about = about(text).await.expect("it is there");
        let read = measures::reading(&w.answers, &w.site, &about, stretch).await;
        let reading = read.expect("an answer").reading;
        (reading.value, reading.samples)
    };
    // Set in the middle of each search: after 200 ms in runs that got through, after 450 in the three that failed.
    let marked = "for journey \"j0\" and mark \"map in place\"";
    assert_eq!(read(&format!("p50 of mark time {marked}")).await, (Some(200.0), 22));
    assert_eq!(read(&format!("p95 of mark time {marked}")).await, (Some(450.0), 22));
    let there = format!("mean of mark time {marked} and location \"halifax\"");
    let (mean, samples) = read(&there).await;
    assert_eq!(samples, 11);
    assert!((mean.expect("a mean") - (8.0 * 200.0 + 3.0 * 450.0) / 11.0).abs() < 1e-6, "{mean:?}");
    let none =
        about("p75 of mark time for mark \"map in plaice\"").await.expect_err("nobody sets it");
    assert_eq!(none.to_string(), "mark “map in plaice” is not there; there is “map in place”");
    let offered = measures::values(&w.answers, &w.site, "p75 of mark time for mark \"ma").await;
    assert_eq!(offered.expect("an answer"), ["\"map in place\""]);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn days_left_of_certificates_are_measured_by_themselves_and_beside_others_in_a_query() {
    let w = world(1).await;
    played(&w).await;
    let measured: Measured = "certificate days left for journey \"j0\"".parse().expect("a measure");
    let about = measures::about(&w.answers, &w.site, &measured).await.expect("an answer");
    let about = about.expect("it is there");
    let stretch = w.range().stretch;
    let read = measures::reading(&w.answers, &w.site, &about, stretch).await.expect("an answer");
    // Runs that got through saw twelve, and those that failed, such as the newest one from Halifax, eleven.
    assert_eq!((read.reading.value, read.reading.samples), (Some(11.0), 22));
    let query: Query = "availability, certificate days left by location".parse().expect("a query");
    let over = Over::all_of(stretch);
    let progress = over.progress.clone();
    let answered = queries::ask(&w.answers, &w.site, &query, &over, (50, true)).await;
    let answered = answered.expect("an answer").expect("it is there");
    let mut days: Vec<_> = answered.table.rows.iter().map(|r| r.cells[1].value).collect();
    days.sort_by(|a, b| a.partial_cmp(b).expect("numbers"));
    assert_eq!(days, [Some(11.0), Some(12.0)]);
    assert_eq!(progress.hours(), (0, 0), "queries over runs say no hours");
    let offered = alerts::ready_made(&w.answers, &w.site).await.expect("an answer");
    let ends = offered.iter().find(|(name, _)| name.starts_with("A certificate of"));
    assert_eq!(ends.map(|(_, of)| of.measured.to_string()), Some(measured.to_string()));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_is_still_to_be_read_of_a_query_only_becomes_less() {
    let w = world(1).await;
    let to = w.range().stretch.to;
    let day = |n: i64| to - SignedDuration::from_hours(24 * n);
    let query: Query = "count of page views by device".parse().expect("a query");
    let stretch = Stretch { from: day(30), to };
    let against = Some(Stretch { from: day(60), to: day(30) });
    let over = Over { against, ..Over::all_of(stretch) };
    let progress = over.progress.clone();
    let asked = queries::ask(&w.answers, &w.site, &query, &over, (50, true));
    tokio::pin!(asked);
    let mut left = Vec::new();
    loop {
        tokio::select! {
            answered = &mut asked => break answered.map(|_| ()).expect("an answer"),
            () = tokio::time::sleep(Duration::from_millis(1)) => {
                let (read, of) = progress.hours();
                left.push(of - read);
            }
        }
    }
    assert!(left.is_sorted_by(|a, b| a >= b), "{left:?}");
    let (read, of) = progress.hours();
    assert!(
        (720 * 3..=723 * 3).contains(&of),
        "the stretch, its lines, and what it is compared with: {of}"
    );
    assert_eq!(read, of);
}
