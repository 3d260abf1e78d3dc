//! What people and runners leave with the store: recordings, trials, secrets, tokens, funnels, markers, carve-outs, and
//! the runs that a page asks for beside one.

use super::{db, now, plays, record, that_retries};
use cadentis_core::calendar::Maintenance;
use cadentis_core::calendar::Stretch;
use cadentis_core::goal::Definition;
use cadentis_core::journey::recorded::{Act, Input};
use cadentis_core::marker::{Kind, Said};
use cadentis_core::run::{Outcome, StepRecord};
use cadentis_core::saved_view::{Piece, SPANS, SavedView};
use cadentis_store::Db;
use cadentis_store::funnel::SavedFunnel;
use cadentis_store::goal::Kept;
use cadentis_store::location::NewLocation;
use cadentis_store::person::Given;
use cadentis_store::run::{Finished, Like};
use cadentis_store::saved_view::KeptView;
use cadentis_store::script_version::{Deleted, Edit, Saved, Status};
use cadentis_store::secret::Vault;
use jiff::{SignedDuration, Timestamp};
use serde_json::{Value, json};
use uuid::Uuid;

fn seconds(n: i64) -> Timestamp {
    now() + SignedDuration::from_secs(n)
}

fn minutes(n: i64) -> Timestamp {
    seconds(60 * n)
}

async fn second_location(db: &Db) -> i32 {
    let location = NewLocation {
        slug: "halifax",
        name: "Halifax",
        country: "CA",
        kind: "public",
        zone: "America/Halifax",
        token: "other secret",
        at: None,
        proxy: Some("127.0.0.1:1080"),
        denied: Default::default(),
    };
    db.add_location(&location).await.expect("a location")
}

fn press(x: f64) -> Input {
    serde_json::from_value(json!({ "do": "move", "x": x, "y": 1.0 })).expect("an input")
}

#[tokio::test]
async fn a_recording_goes_to_one_runner_of_its_location_and_inputs_arrive_once_in_their_order() {
    let (db, bergen) = db().await;
    let halifax = second_location(&db).await;
    let id =
        db.ask_recording(1, halifax, "http://book.marram.example/", now()).await.expect("asked");
    let lease = async |at: i32, runner: &str| {
        db.lease_recording(at, runner, seconds(1)).await.expect("asked")
    };
    assert!(lease(bergen, "b").await.is_none(), "it is another location's");
    let (leased, address, proxy, _) = lease(halifax, "a").await.expect("a recording");
    assert_eq!(
        (leased, address.as_str(), proxy.as_deref()),
        (id, "http://book.marram.example/", Some("127.0.0.1:1080"))
    );
    assert!(lease(halifax, "b").await.is_none(), "one browser is enough");

    let tell = async |at: i32, acts: Vec<Act>, picture: Option<&str>, s: i64| {
        db.tell_recording(at, id, acts, &json!({ "s": s }), picture, seconds(s))
            .await
            .expect("told")
    };
    db.recording_inputs(1, id, &[press(1.0), press(2.0)]).await.expect("kept");
    db.recording_inputs(1, id, &[press(3.0)]).await.expect("kept");
    assert!(
        tell(bergen, Vec::new(), None, 2).await.is_none(),
        "a stranger hears that there is no such recording"
    );
    let places = |inputs: Option<Vec<Value>>| -> Vec<f64> {
        inputs.expect("it goes on").iter().filter_map(|i| i["x"].as_f64()).collect()
    };
    assert_eq!(places(tell(halifax, Vec::new(), Some("first"), 2).await), [1.0, 2.0, 3.0]);
    assert!(places(tell(halifax, Vec::new(), Some("second"), 3).await).is_empty());
    let seen = db.recording(1, id, seconds(4)).await.expect("rows").expect("a recording");
    assert_eq!(
        (seen.picture, seen.about, seen.runner.as_deref(), seen.ended),
        (2, json!({ "s": 3 }), Some("a"), false)
    );
    assert_eq!(db.recording_picture(id).await.expect("rows").as_deref(), Some("second"));

    // What was pointed out and taken back, while the runner tells more.
    assert!(
        db.change_acts(1, id, |acts| acts.push(Act::Open { address: "http://x/".into() }))
            .await
            .expect("changed")
    );
    assert!(!db.change_acts(1, Uuid::new_v4(), |_| {}).await.expect("asked"), "nobody's");
    assert_eq!(db.recording(1, id, seconds(4)).await.expect("rows").expect("one").acts.len(), 2);

    // A runner that says nothing for half a minute is gone; it cannot say so itself.
    let silent = db.recording(1, id, seconds(3 + 31)).await.expect("rows").expect("one");
    assert!(silent.ended && silent.trouble.as_deref() == Some("The runner went silent."));
    // It was only slow. But nobody looks on any more, and then it ends.
    assert!(tell(halifax, Vec::new(), None, 40).await.is_some());
    assert!(tell(halifax, Vec::new(), None, 3_600).await.is_none());
    db.recording_over(bergen, id, Some("not theirs")).await.expect("asked");
    db.recording_over(halifax, id, Some("The browser went away.")).await.expect("told");
    let over = db.recording(1, id, seconds(3_600)).await.expect("rows").expect("one");
    assert_eq!((over.ended, over.trouble.as_deref()), (true, Some("The browser went away.")));
    // Two days later the next one sweeps it away, with its pictures.
    db.ask_recording(1, bergen, "http://book.marram.example/", minutes(49 * 60))
        .await
        .expect("asked");
    assert!(db.recording(1, id, minutes(49 * 60)).await.expect("rows").is_none());
    assert!(db.recording_picture(id).await.expect("rows").is_none());
}

#[tokio::test]
async fn nobody_opens_a_browser_for_a_recording_that_nobody_waits_for() {
    let (db, bergen) = db().await;
    let id =
        db.ask_recording(1, bergen, "http://book.marram.example/", now()).await.expect("asked");
    assert!(
        db.lease_recording(bergen, "a", seconds(90)).await.expect("asked").is_none(),
        "they left a minute ago"
    );
    db.recording_looked(1, id, seconds(91)).await.expect("told");
    assert!(
        db.lease_recording(bergen, "a", seconds(92)).await.expect("asked").is_some(),
        "they are back"
    );
    db.end_recording(1, id).await.expect("ended");
    let heard = db
        .tell_recording(bergen, id, Vec::new(), &json!({}), None, seconds(93))
        .await
        .expect("told");
    assert!(heard.is_none(), "the runner hears that it has ended");
}

#[tokio::test]
async fn a_trial_is_played_once_by_its_location_and_its_first_record_stays() {
    let (db, bergen) = db().await;
    let halifax = second_location(&db).await;
    let id = db.ask_trial(1, bergen, "script \"T\"\n", "desktop", now()).await.expect("asked");
    let lease = async |at: i32, s: i64| {
        db.lease_trial(at, "r", seconds(s), seconds(s + 60)).await.expect("asked")
    };
    assert!(lease(halifax, 0).await.is_none());
    assert_eq!(lease(bergen, 0).await.map(|t| t.id), Some(id));
    assert!(lease(bergen, 30).await.is_none(), "somebody plays it");
    assert!(lease(bergen, 61).await.is_some(), "they did not come back");
    assert_eq!(db.tell_trial(halifax, id, &json!({})).await.expect("told"), None);
    assert_eq!(db.tell_trial(bergen, id, &json!({ "step": 1 })).await.expect("told"), Some(false));

    let trial =
        |ms: f64| cadentis_core::run::RunRecord { trial: true, duration_ms: ms, ..record(id) };
    assert_eq!(db.finish_trial(halifax, &trial(1.0)).await.expect("sent"), Finished::Unknown);
    assert_eq!(db.finish_trial(bergen, &trial(2.0)).await.expect("sent"), Finished::Stored);
    // The first runner was only slow; what somebody looks at does not change under them.
    assert_eq!(db.finish_trial(bergen, &trial(3.0)).await.expect("sent"), Finished::Already);
    let stands = db.trial(id).await.expect("rows").expect("a trial");
    assert_eq!(stands.record.map(|r| r.duration_ms), Some(2.0));
    assert!(lease(bergen, 300).await.is_none(), "it was played");

    // One that was cancelled, and one that nobody took for ten minutes, are played by nobody.
    let cancelled =
        db.ask_trial(1, bergen, "script \"T\"\n", "desktop", now()).await.expect("asked");
    db.cancel_trial(1, cancelled).await.expect("told");
    assert!(lease(bergen, 1).await.is_none());
    assert_eq!(db.tell_trial(bergen, cancelled, &json!({})).await.expect("told"), Some(true));
    db.ask_trial(1, bergen, "script \"T\"\n", "desktop", now()).await.expect("asked");
    assert!(lease(bergen, 601).await.is_none());
}

#[tokio::test]
async fn secrets_are_sealed_for_their_site_and_name_and_another_key_opens_none() {
    let (db, _) = db().await;
    let vault = Vault::new(&Vault::new_key()).expect("a key");
    let names = ["desk_key".to_string(), "not there".to_string()];
    let set = async |site: i32, secret: &str| {
        db.set_secret(&vault, site, ("desk_key", secret), &[], "Ada", now()).await.expect("kept");
    };
    set(1, "sea & sand").await;
    let open =
        async |vault: &Vault, site: i32| db.open_secrets(vault, site, &names).await.expect("rows");
    let found = open(&vault, 1).await.expect("opened");
    assert_eq!((found.len(), found["desk_key"].secret.as_str()), (1, "sea & sand"));
    assert!(
        open(&vault, 2).await.expect("nothing to open").is_empty(),
        "another site's are its own"
    );
    set(1, "new").await;
    assert_eq!(open(&vault, 1).await.expect("opened")["desk_key"].secret, "new");
    let listed = db.secrets(1).await.expect("rows");
    assert_eq!(
        listed.iter().map(|s| (s.name.as_str(), s.author.as_str())).collect::<Vec<_>>(),
        [("desk_key", "Ada")]
    );
    let other = Vault::new(&Vault::new_key()).expect("a key");
    let error = open(&other, 1).await.map(|_| ()).expect_err("another key opens none").to_string();
    assert!(error.contains("desk_key") && !error.contains("new"), "{error}");
    db.remove_secret(1, "desk_key").await.expect("gone");
    assert!(open(&vault, 1).await.expect("nothing").is_empty());
}

#[tokio::test]
async fn an_old_token_opens_nothing_from_the_moment_there_is_a_new_one() {
    let (db, bergen) = db().await;
    let of = async |token: &str| db.location_by_token(token).await.expect("asked");
    assert_eq!(of("secret").await, Some(bergen));
    db.set_token("bergen", "newer").await.expect("changed");
    assert_eq!((of("secret").await, of("newer").await, of("").await), (None, Some(bergen), None));
    assert!(
        db.site_by_key("k").await.expect("asked").is_some()
            && db.site_by_key("K").await.expect("asked").is_none()
    );
}

/// Promises a share of a journey's runs; the goal's id.
async fn promise(db: &Db, journey: i32, name: &str) -> i32 {
    let definition = Definition::monthly(journey, 0.995);
    let add = db.add_goal(1, name, (&definition, Timestamp::UNIX_EPOCH), "Ada");
    add.await.expect("rows").expect("a new one")
}

#[tokio::test]
async fn a_goal_says_what_was_in_force_then_and_of_two_who_change_it_one_is_told() {
    let (db, _) = db().await;
    let journey = db.journeys(1).await.expect("rows").remove(0);
    let id = promise(&db, journey.id, "Booking works").await;
    let says = |promised, from| (Definition::monthly(journey.id, promised), minutes(from));
    let goal = async || {
        db.goals(1).await.expect("rows").into_iter().find(|g| g.id == id).expect("the goal")
    };
    let set = async |based_on, name: &str, promised, from| {
        let (definition, from) = says(promised, from);
        db.set_goal(&goal().await, based_on, name, (&definition, from), "Bo").await.expect("rows")
    };
    assert_eq!(set(1, "Booking works", 0.99, 60).await, Kept::Version(2));
    assert_eq!(set(1, "Booking works", 0.5, 60).await, Kept::Overtaken);
    promise(&db, journey.id, "Another").await;
    assert_eq!(set(2, "Another", 0.5, 60).await, Kept::Taken);
    assert!(
        db.add_goal(1, "Another", (&says(0.5, 0).0, minutes(0)), "Bo")
            .await
            .expect("rows")
            .is_none()
    );
    let now = goal().await;
    assert_eq!((now.newest().version, now.newest().author.as_str()), (2, "Bo"));
    let promised = |at| now.at(minutes(at)).definition.promised;
    assert_eq!((promised(59), promised(60), promised(-60_000_000)), (0.995, 0.99, 0.995));
    // What is taken out and put back stays in the record.
    let stretch = Stretch { from: minutes(5), to: minutes(8) };
    db.add_carve_out(id, stretch, "our test", "Ada").await.expect("kept");
    let record = async || db.record_of_carve_outs(id).await.expect("rows").remove(0);
    let carved = record().await;
    assert!(carved.revoked.is_none() && carved.stretch == stretch);
    let revoke = async || db.revoke_carve_out(id, carved.id, "Bo").await.expect("rows");
    assert_eq!(revoke().await.map(|c| c.stretch), Some(stretch));
    assert!(revoke().await.is_none(), "once");
    assert!(db.carve_outs(id).await.expect("rows").is_empty());
    assert_eq!(record().await.revoked.map(|(_, by)| by).as_deref(), Some("Bo"));
    assert!(db.remove_goal(id).await.expect("rows") && !db.remove_goal(id).await.expect("rows"));
}

fn pinned(title: &str) -> Said {
    let (title, version) = (title.to_string(), "40".to_string());
    Said { kind: Kind::Release, title, version, ..Said::default() }
}

#[tokio::test]
async fn markers_carve_outs_and_funnels_are_there_as_they_were_given() {
    let (db, _) = db().await;
    let stretch = |from: i64, to: i64| Stretch { from: minutes(from), to: minutes(to) };
    for (at, title) in [(10, "Release 40.3"), (0, "at the beginning"), (20, "at the end")] {
        db.add_marker(Some(1), minutes(at), &pinned(title), "Ada").await.expect("kept");
    }
    let titles = |all: Vec<cadentis_store::marker::Marker>| {
        all.into_iter().map(|m| m.said.title).collect::<Vec<_>>()
    };
    let found = db.markers(1, stretch(0, 20)).await.expect("rows");
    assert_eq!(
        titles(found),
        ["at the beginning", "Release 40.3"],
        "in order; the end is the next stretch's"
    );
    assert!(
        db.markers(2, stretch(0, 30)).await.expect("rows").is_empty(),
        "another site has its own"
    );
    // One of every site is on each of them, and none of another's is found by its number.
    let everywhere =
        db.add_marker(None, minutes(5), &pinned("network"), "Ines").await.expect("kept");
    for site in [1, 2] {
        let found = db.markers(site, stretch(4, 6)).await.expect("rows");
        assert_eq!(
            (titles(found.clone()), found[0].is_everywhere),
            (vec!["network".to_string()], true)
        );
    }
    let own = db.markers(1, stretch(9, 11)).await.expect("rows").remove(0);
    assert_eq!((&own.said, own.author.as_str(), own.edits), (&pinned("Release 40.3"), "Ada", 0));
    assert!(db.marker(2, own.id).await.expect("asked").is_none());
    assert!(db.marker(2, everywhere).await.expect("asked").is_some());
    // Of two who change it the second is told; what is taken away can be put back, and changes no more.
    let set = async |edits| {
        db.set_marker(own.id, edits, minutes(10), &pinned("Release 40.4")).await.expect("asked")
    };
    assert_eq!((set(0).await, set(0).await), (true, false));
    let remove = async |is_removed| db.remove_marker(own.id, is_removed).await.expect("asked");
    assert_eq!((remove(true).await, remove(true).await, set(1).await), (true, false, false));
    assert!(db.markers(1, stretch(9, 11)).await.expect("rows").is_empty());
    assert!(db.marker(1, own.id).await.expect("asked").is_some_and(|m| m.removed_at.is_some()));
    assert_eq!((remove(false).await, remove(false).await), (true, false));
    assert_eq!(titles(db.markers(1, stretch(9, 11)).await.expect("rows")), ["Release 40.4"]);

    let journey = db.journeys(1).await.expect("rows").remove(0);
    let goal = promise(&db, journey.id, "Booking works").await;
    db.add_carve_out(goal, stretch(5, 8), "our test", "Ada").await.expect("kept");
    let carved = db.carve_outs(goal).await.expect("rows");
    assert_eq!((carved[0].stretch, carved[0].author.as_deref()), (stretch(5, 8), Some("Ada")));
    assert!(db.carve_outs(goal + 1).await.expect("rows").is_empty());

    let funnel = |within_s| SavedFunnel {
        name: "Buy".into(),
        steps: vec!["A".into(), "B".into()],
        within_s,
    };
    db.save_funnel(1, &funnel(60)).await.expect("kept");
    db.save_funnel(1, &funnel(90)).await.expect("changed");
    assert_eq!(db.funnels(1).await.expect("rows"), [funnel(90)]);
    db.delete_funnel(2, "Buy").await.expect("nothing there");
    assert_eq!(db.funnels(1).await.expect("rows").len(), 1, "another site's is another");
    db.delete_funnel(1, "Buy").await.expect("gone");
    assert!(db.funnels(1).await.expect("rows").is_empty());
}

#[tokio::test]
async fn a_journey_is_deleted_only_when_it_is_archived_and_no_goal_counts_its_runs() {
    let (db, location) = db().await;
    let journey = db.journeys(1).await.expect("rows").remove(0);
    db.make_due(now()).await.expect("due");
    plays(&db, location, Outcome::Passed, now()).await.expect("due");
    let delete = async || db.delete_journey(journey.id).await.expect("asked");
    assert!(matches!(delete().await, Deleted::NotArchived));
    let goal = promise(&db, journey.id, "Booking works").await;
    db.set_status(journey.id, Status::Archived).await.expect("kept");
    assert!(matches!(delete().await, Deleted::Counted(name) if name == "Booking works"), "{goal}");
}

#[tokio::test]
async fn a_page_finds_the_runs_that_are_like_it_asks_and_those_around_one() {
    let (db, location) = db().await;
    let journey = db.journeys(1).await.expect("rows").remove(0);
    let mut ids = Vec::new();
    for nth in 0..12 {
        if nth == 8 {
            let script = format!("{}  expect status 200\n", journey.script);
            let edit = Edit { script: &script, name: "J", based_on: 1, author: "Ada", note: "" };
            assert!(matches!(
                db.save_script(journey.id, &edit, now()).await.expect("saved"),
                Saved::Version(2)
            ));
        }
        let at = minutes(5 * nth);
        db.make_due(at).await.expect("due");
        let outcome = [Outcome::Passed, Outcome::Slow, Outcome::Failed][nth as usize % 3];
        ids.push(plays(&db, location, outcome, at).await.expect("work"));
    }
    let all = Stretch { from: minutes(-10), to: minutes(100) };
    let like = async |like: Like, skip: i64, most: i64| {
        let (rows, count) =
            db.runs_like((journey.id, 1), all, &like, skip, most).await.expect("rows");
        (rows.into_iter().map(|(run, version)| (run.id, version)).collect::<Vec<_>>(), count)
    };
    let any = Like { outcome: None, location_id: None, version: None, longer_ms: 0.0 };
    let (first, count) = like(any, 0, 5).await;
    let (rest, _) = like(any, 5, 50).await;
    let paged: Vec<Uuid> = first.iter().chain(&rest).map(|(id, _)| *id).collect();
    let newest_first: Vec<Uuid> = ids.iter().rev().copied().collect();
    assert_eq!((paged, count), (newest_first, 12), "each once, newest first, whatever the page");
    assert_eq!(like(Like { outcome: Some(Outcome::Failed), ..any }, 0, 50).await.1, 4);
    assert_eq!(like(Like { location_id: Some(location + 1), ..any }, 0, 50).await.1, 0);
    let (second, count) = like(Like { version: Some(2), ..any }, 0, 50).await;
    assert!(
        count == 4
            && second.iter().all(|(id, version)| *version == Some(2) && ids[8..].contains(id))
    );
    assert_eq!(like(Like { longer_ms: 1e9, ..any }, 0, 50).await.1, 0);

    // Beside one: those of its own version at its own location before it that passed; those of the same minutes.
    let run = db.run(ids[11]).await.expect("rows").expect("a run");
    let usual = db.usual_records(&run, 20).await.expect("rows");
    assert_eq!(
        usual.iter().map(|r| r.id).collect::<Vec<_>>(),
        [ids[9]],
        "of version 2 one has passed before it"
    );
    let middle = db.run(ids[5]).await.expect("rows").expect("a run");
    let around = db.runs_around(&middle, 6 * 60).await.expect("rows");
    assert_eq!(around.iter().map(|r| r.id).collect::<Vec<_>>(), [ids[4], ids[6]]);
    let passed = db.newest_passed_records(1).await.expect("rows");
    assert_eq!(passed.get(&journey.id).map(|r| r.id), Some(ids[9]));
    assert!(db.newest_passed_records(2).await.expect("rows").is_empty());
    let (played, _) = db.script_played(&middle, &journey).await.expect("rows");
    assert_eq!(played, Some(1), "the script of then");
    let (mean_ms, bytes) = db.mean_run(1, minutes(60)).await.expect("rows").expect("runs");
    assert!((mean_ms - 1234.5).abs() < 1e-6 && bytes > 100.0, "{mean_ms} {bytes}");
    assert_eq!(
        db.mean_run(1, minutes(60 + 25 * 60)).await.expect("rows"),
        None,
        "none in its last day"
    );

    // Maintenance leaves out what was due in it, for every page alike.
    let window = Stretch { from: minutes(14), to: minutes(21) };
    let says = Maintenance::once(window, "new engine");
    db.plan(1, &says, "", "Ada").await.expect("kept");
    let counted = db.counted_runs(journey.id, 1, all).await.expect("rows");
    let left: Vec<Uuid> =
        counted.drawn().filter(|(_, counts)| !counts).map(|(run, _)| run.id).collect();
    assert_eq!((left, counted.iter().count()), (vec![ids[3], ids[4]], 10));
}

/// A request of this address that brought so many bytes.
fn request(url: &str, bytes: u64) -> Value {
    json!({
        "url": url, "method": "GET", "kind": "document", "status": 200, "start_ms": 0.0, "bytes": bytes,
        "phases": { "q": 0.0, "l": 0.0, "c": 0.0, "t": 0.0, "s": 0.0, "w": 1.0, "r": 0.0 },
    })
}

#[tokio::test]
async fn what_a_run_fetched_is_kept_with_it_by_whose_hosts_it_came_from_and_first_tries_keep_theirs()
 {
    let (db, location) = db().await;
    let journey = that_retries(&db, location).await;
    let owns = db.sites().await.expect("rows").remove(0).domains;
    assert!(!owns.is_empty());
    db.make_due(now()).await.expect("due");
    let mut ids = Vec::new();
    for outcome in [Outcome::Failed, Outcome::Unmeasured] {
        let work = db.lease(location, "r", now(), minutes(2)).await.expect("asked").expect("work");
        let mut record = record(work.id);
        record.outcome = outcome;
        let mut step = serde_json::to_value(StepRecord::begun("Open", 0.0, None)).expect("JSON");
        step["requests"] = json!([
            request(&format!("http://{}/", owns[0]), 1_000),
            request("http://tiles.isles-map.example/4.png", 300),
        ]);
        let set = |name: &str, at: f64| json!({ "name": name, "at_ms": at });
        step["marks"] =
            json!([set("map in place", 812.5), set("prices", 90.0), set("prices", 70.0)]);
        step["certificate_days"] = json!(12);
        step["console"] =
            json!([{ "at_ms": 1.0, "level": "error", "text": "no", "uncaught": true }]);
        record.steps = vec![serde_json::from_value(step).expect("a step")];
        assert_eq!(db.finish(location, record).await.expect("stored"), Finished::Stored);
        ids.push(work.id);
    }
    // The second try could not measure: the first counts after all, and has what it had.
    let stretch = Stretch { from: minutes(-60), to: minutes(60) };
    let runs = db.runs(journey.id, 1, stretch).await.expect("rows");
    let counted = runs.iter().find(|r| r.id == ids[0]).expect("the first try").counts;
    let numbers = counted.expect("it is known").numbers();
    assert_eq!(numbers, [2, 1_300, 300, 1]);
    let listed = db.runs_after((journey.id, 1), stretch, &Like::default(), None, 9).await;
    let listed = listed.expect("rows");
    assert!(listed.iter().all(|r| r.counts.map(|c| c.numbers()) == Some(numbers)), "{listed:?}");
    // Its marks, too, each as it was set first; and nobody else's.
    let marked = async |name: &str| {
        let all = db.marks(&[journey.id], 1, stretch, name).await.expect("rows");
        all.get(&ids[0]).copied()
    };
    assert_eq!(marked("map in place").await, Some(812.5));
    assert_eq!((marked("prices").await, marked("map").await), (Some(90.0), None));
    let days = db.certificate_days(&[journey.id], 1, stretch).await.expect("rows");
    assert_eq!(days.get(&ids[0]), Some(&12));
    let secured = db.journeys_with_certificates(1, stretch).await.expect("rows");
    assert_eq!(secured, [journey.id]);
    let named = db.marks_named(&[journey.id], 1, stretch).await.expect("rows");
    assert_eq!(named, ["map in place", "prices"]);
    assert!(db.marks_named(&[journey.id + 1], 1, stretch).await.expect("rows").is_empty());
    let one = db.run(ids[0]).await.expect("rows").expect("a run");
    assert_eq!(one.counts.map(|c| c.numbers()), Some(numbers));
}

#[tokio::test]
async fn a_limit_of_a_measure_is_one_for_each_measure_and_goes_with_its_site() {
    let (db, _) = db().await;
    let set = async |measured: &str, limit: Option<f64>| {
        db.set_measured_budget(1, measured, limit, "Ada").await.expect("set");
    };
    set("p75 of request time", Some(800.0)).await;
    set("availability", Some(0.99)).await;
    set("p75 of request time", Some(0.1 + 0.2)).await;
    let kept = db.measured_budgets(1).await.expect("rows");
    let told: Vec<_> = kept.iter().map(|k| (k.limit.measured.to_string(), k.limit.level)).collect();
    let first = ("p75 of request time".to_string(), 0.1 + 0.2);
    assert_eq!(
        told,
        [first, ("availability".to_string(), 0.99)],
        "in the order they were set first"
    );
    set("availability", None).await;
    set("availability", None).await;
    assert_eq!(db.measured_budgets(1).await.expect("rows").len(), 1);
    assert_eq!(db.measured_budgets(2).await.expect("rows"), []);
}

#[tokio::test]
async fn a_view_that_was_taken_away_leaves_its_name_and_comes_back_only_while_that_is_free() {
    let (db, _) = db().await;
    let says = SavedView {
        span_s: SPANS[0].0,
        pieces: vec![Piece::Text { text: "What to look at.".into() }],
    };
    let put = async |name: &str| db.put_saved_view(1, None, (name, &says, None), "Ada").await;
    let KeptView::Kept(first) = put("Mornings").await.expect("kept") else { panic!("taken") };
    assert_eq!(put("Mornings").await.expect("asked"), KeptView::Taken);
    let given = Given { is_administrator: false, sees_people: false, roles: Vec::new() };
    let ada = db.add_person("ada@marram.example", "Ada", &given).await;
    let ada = ada.expect("a person").expect("a new one");
    db.set_start_view(ada, Some(first)).await.expect("set");
    db.remove_saved_view(1, first).await.expect("taken away");
    assert_eq!(db.saved_view(1, first).await.expect("rows"), None);
    assert_eq!(db.saved_views(1).await.expect("rows"), []);
    assert_eq!(db.start_view(ada).await.expect("rows"), None, "nobody begins with it");
    let changed = db.put_saved_view(1, Some((first, 1)), ("Other", &says, None), "Tor").await;
    assert_eq!(changed.expect("asked"), KeptView::Overtaken, "nor changes it");

    let KeptView::Kept(second) = put("Mornings").await.expect("kept") else { panic!("taken") };
    assert!(!db.restore_saved_view(1, first).await.expect("asked"), "its name is taken");
    db.remove_saved_view(1, second).await.expect("taken away");
    assert!(db.restore_saved_view(1, first).await.expect("asked"));
    let back = db.saved_view(1, first).await.expect("rows").expect("a view");
    assert_eq!((back.name.as_str(), back.definition), ("Mornings", says));
    assert_eq!(db.start_view(ada).await.expect("rows"), Some((1, first)), "who began with it does");
}
