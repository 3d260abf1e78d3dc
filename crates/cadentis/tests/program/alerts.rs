//! Alerts as they are tried, kept, watched and looked after; incidents as they open and clear.

use crate::server::{Served, get, post_form as post, record, server};
use crate::serving::{self, SLUG, Server, program};
use cadentis_answers::compute::Compute;
use cadentis_answers::{Answers, alerts, measures, watch};
use cadentis_core::access::Scope;
use cadentis_core::alert::incident::About;
use cadentis_core::alert::{LAG, Severity, Verdict, usual};
use cadentis_core::calendar::stretch::hour_of;
use cadentis_core::calendar::{Maintenance, Stretch};
use cadentis_core::run::{Outcome, RunRecord};
use cadentis_store::incident::{Event, What};
use jiff::{SignedDuration, Timestamp};
use serde_json::{Value, json};
use std::time::Duration;

fn minutes(n: i64) -> SignedDuration {
    SignedDuration::from_mins(n)
}

/// Five minutes that are over.
pub fn begin(back_min: i64) -> Timestamp {
    let second = Timestamp::now().as_second() - back_min * 60;
    Timestamp::from_second(second.div_euclid(300) * 300).expect("a moment")
}

/// One run each five minutes from Bergen since `from`, as they are said to have ended.
pub async fn played(s: &Served, from: Timestamp, outcomes: &[Outcome]) {
    for (nth, outcome) in outcomes.iter().enumerate() {
        let at = from + minutes(5 * nth as i64);
        s.db.make_due(at).await.expect("due");
        let work = s.db.lease(1, "r", at, at).await.expect("asked").expect("work");
        s.db.finish(1, record(work.id, *outcome)).await.expect("stored");
    }
}

fn answers(s: &Served) -> Answers {
    let compute = Compute::start(1, 16, Duration::from_secs(30)).expect("threads");
    Answers::new(s.db.clone(), compute)
}

const FAILS: [(&str, &str); 6] = [
    ("name", "Booking fails"),
    ("measure", "share failed for journey \"book\" and location \"bergen\""),
    ("critical", "60 %"),
    ("warning", "20 %"),
    ("window", "10"),
    ("running", "2"),
];

fn query(fields: &[(&str, &str)]) -> String {
    url::form_urlencoded::Serializer::new(String::new()).extend_pairs(fields).finish()
}

/// Half an hour of failed runs in three hours.
fn trouble() -> Vec<Outcome> {
    let failed = |nth: &i32| (12..18).contains(nth);
    (0..36).map(|nth| if failed(&nth) { Outcome::Failed } else { Outcome::Passed }).collect()
}

#[tokio::test]
async fn an_alert_is_tried_watched_minute_by_minute_and_does_what_was_tried() {
    let s = server().await;
    let from = begin(200);
    played(&s, from, &trouble()).await;

    // Tried on its page: one opening, which failed runs explain.
    let tried = get(&s, &format!("/{SLUG}/alerts/new?{}", query(&FAILS))).await;
    assert_eq!(tried.0, 200, "{}", tried.1);
    assert!(tried.1.contains("It would have opened once in these 30 days."), "{}", tried.1);
    assert!(tried.1.contains("6 runs failed from bergen"), "{}", tried.1);
    assert!(s.db.alerts(1).await.expect("rows").is_empty(), "nothing is kept yet");

    // Tried by a program, and by the plainest means: each minute, over the ten minutes before.
    let token = serving::token(&s.db, 1, &[Scope::Read]).await;
    let to = from + minutes(190);
    let asked = json!({"from": from, "to": to, "definition": {"measure": FAILS[1].1, "critical": 0.6, "warning": 0.2,
        "window_minutes": 10, "running": 2}});
    let at = format!("{}/api/v1/sites/{SLUG}/alerts/try", s.server.address);
    let answer = program(&token).post(&at).json(&asked).send().await.expect("an answer");
    assert_eq!(answer.status(), 200);
    let told: Value = answer.json().await.expect("JSON");
    let failed = |at: Timestamp| {
        trouble()[(at.duration_since(from).as_secs() / 300) as usize] == Outcome::Failed
    };
    let share = |end: Timestamp| {
        let runs =
            (0..36).map(|n| from + minutes(5 * n)).filter(|r| *r >= end - minutes(10) && *r < end);
        let runs: Vec<Timestamp> = runs.collect();
        let bad = runs.iter().filter(|r| failed(**r)).count();
        (!runs.is_empty()).then(|| bad as f64 / runs.len() as f64)
    };
    let (mut open, mut beyond, mut clear, mut want) = (false, 0, 0, Vec::new());
    for minute in 1..=190 {
        let end = from + minutes(minute);
        let Some(share) = share(end) else { continue };
        (beyond, clear) =
            (if share > 0.2 { beyond + 1 } else { 0 }, if share <= 0.2 { clear + 1 } else { 0 });
        if !open && beyond >= 2 {
            open = true;
            want.push(end);
        } else if open && clear >= 2 {
            open = false;
            want.push(end);
        }
    }
    let opening = &told["openings"][0];
    let moment = |name: &str| opening[name].as_str().and_then(|t| t.parse::<Timestamp>().ok());
    assert_eq!(told["openings"].as_array().map(Vec::len), Some(1), "{told}");
    assert_eq!(
        [moment("opened"), moment("cleared")],
        [want.first().copied(), want.last().copied()]
    );
    assert_eq!(opening["severity"], "critical");

    // Kept, and watched from before the trouble on, now and then, as if it were then.
    let (status, to_page, _) = post(&s, &format!("/{SLUG}/alerts"), &FAILS).await;
    assert_eq!((status, to_page.as_str()), (303, "/marram-ferries/alerts/1"));
    let alert = s.db.alert(1, 1).await.expect("asked").expect("kept");
    assert!(s.db.remove_alert(1).await.expect("removed"));
    let id =
        s.db.add_alert(1, &alert.says, (true, from), "Ada").await.expect("added").expect("new");
    let answers = answers(&s);
    for later in [40, 61, 62, 90, 150, 191] {
        watch::turn(&answers, from + minutes(later)).await.expect("watched");
    }
    let whole = Stretch { from: from - minutes(10), to: to + minutes(1) };
    let kept = s.db.evaluations(id, whole).await.expect("rows");
    assert_eq!(kept.len(), 190, "each minute once");
    let openings = s.db.openings_of(id, whole).await.expect("rows");
    assert_eq!(openings.len(), 1);
    assert_eq!(
        [Some(openings[0].opened_at), openings[0].cleared_at],
        [want.first().copied(), want.last().copied()]
    );

    // What it did is on its pages, its incident and its events.
    let page =
        get(&s, &format!("/{SLUG}/alerts/{id}?from={}&to={}", short(from), short(to))).await.1;
    assert!(page.contains("It is quiet.") && page.contains("incidents/1?"), "{page}");
    let incident = get(&s, &format!("/{SLUG}/incidents/1")).await.1;
    for says in [
        "Booking fails",
        "cleared",
        "1 of 1 in more trouble than before: bergen",
        "has acknowledged it",
    ] {
        assert!(incident.contains(says), "{says}: {incident}");
    }
    let events: Vec<What> = s.db.events_of(1).await.expect("rows").iter().map(|e| e.what).collect();
    assert_eq!(events, [What::Opened, What::Worsened, What::Eased, What::Cleared]);
    let list = get(&s, &format!("/{SLUG}/alerts")).await.1;
    assert!(
        list.contains("Nothing is open") && list.contains("Cleared in the last 30 days"),
        "{list}"
    );
    // The list of all is narrowed, and says so where nothing is like that.
    let listed = async |of: &str| get(&s, &format!("/{SLUG}/incidents?{of}")).await.1;
    let about = "about=journey+book";
    for of in [
        "state=cleared",
        "acknowledged=no",
        about,
        "find=FAILS+booking",
        "severity=critical&state=cleared",
    ] {
        let page = listed(of).await;
        assert!(page.contains("1: Booking fails</a>"), "{of}: {page}");
    }
    for of in
        ["state=going-on", "acknowledged=yes", "severity=warning", "find=blank", "about=the+site"]
    {
        let page = listed(of).await;
        assert!(page.contains("None of 1 incidents of this stretch is like that."), "{of}: {page}");
    }
    let page = listed("state=nonsense&find=%3Cb%3E").await;
    assert!(page.contains("value=\"&#60;b&#62;\"") && !page.contains("<b>\""), "{page}");
}

fn short(at: Timestamp) -> String {
    at.strftime("%Y-%m-%dT%H:%MZ").to_string()
}

#[tokio::test]
async fn what_is_unlike_its_usual_opens_where_a_fixed_level_would_have_to_be_guessed() {
    let s = server().await;
    let from = begin(200);
    let site = s.db.site_by_slug(SLUG).await.expect("asked").expect("there");
    let weeks = usual::ends(from, &site.zone).map(|ends| ends[ends.len() / 2]);
    let play = async |from: Timestamp, slow: std::ops::Range<i64>, seed: i64| {
        for nth in -24..36 {
            let at = from + minutes(5 * nth);
            s.db.make_due(at).await.expect("due");
            let work = s.db.lease(1, "r", at, at).await.expect("asked").expect("work");
            let factor = if slow.contains(&nth) { 3.0 } else { 1.0 };
            // No two alike, and no chance in it.
            let duration_ms = factor * (1_000.0 + ((nth * 37 + seed * 61).rem_euclid(97)) as f64);
            let mut played = RunRecord { duration_ms, ..record(work.id, Outcome::Passed) };
            played.steps.clear();
            // Days without runs that are long over leave by themselves, once in a while.
            for _ in 0..3 {
                s.db.ensure_days(at - minutes(1_440), at + minutes(1_440)).await.expect("days");
                if s.db.finish(1, played.clone()).await.is_ok() {
                    break;
                }
            }
        }
    };
    for (nth, week) in weeks.iter().enumerate().take(4).rev() {
        // One of the weeks had an outage of its own.
        let slow = if nth == 2 { 10..20 } else { 0..0 };
        play(*week, slow, nth as i64).await;
    }
    play(from, 12..18, 9).await;
    let fields = [
        ("name", "Booking unlike its usual"),
        ("measure", "p75 of run duration for journey \"book\""),
        ("rule", "unusual"),
        ("critical", "8"),
        ("warning", "5"),
        ("window", "15"),
        ("running", "2"),
    ];
    let page = get(&s, &format!("/{SLUG}/alerts/new?{}", query(&fields))).await.1;
    assert!(page.contains("is unlike its usual: more than 8 spreads above it"), "{page}");
    assert!(page.contains("It would have opened once in these 30 days."), "{page}");
    assert!(page.contains("class=\"usual\" d=\"M"), "its usual is drawn");
    assert!(page.contains("too few weeks before them"), "what no three weeks tell is not judged");

    // Watched minute by minute it opens where it was tried, and keeps what was usual then.
    let (status, _, answer) = post(&s, &format!("/{SLUG}/alerts"), &fields).await;
    assert_eq!(status, 303, "{answer}");
    let says = s.db.alerts(1).await.expect("rows").remove(0);
    s.db.remove_alert(says.id).await.expect("removed");
    let id = s.db.add_alert(1, &says.says, (true, from), "Ada").await.expect("added").expect("new");
    let answers = answers(&s);
    for later in [30, 64, 65, 66, 90, 170] {
        watch::turn(&answers, from + minutes(later)).await.expect("watched");
    }
    let whole = Stretch { from, to: from + minutes(170) };
    let openings = s.db.openings_of(id, whole).await.expect("rows");
    let moments = (openings[0].opened_at, openings[0].cleared_at.expect("over"));
    assert_eq!(openings.len(), 1);
    let about = measures::about(&answers, &site, &says.says.definition.measured).await;
    assert!(about.expect("asked").is_ok());
    let tried = alerts::tried(&answers, &site, &says.says.definition, whole).await;
    let tried = tried.expect("tried").expect("there").openings;
    assert_eq!((tried[0].opening.opened, tried[0].opening.cleared), (moments.0, Some(moments.1)));
    // Fast runs of half an hour are slow from an hour after the beginning on, and a window of a quarter of an hour long after.
    assert!(moments.0 > from + minutes(60) && moments.0 <= from + minutes(72), "{moments:?}");
    assert!(moments.1 > from + minutes(90) && moments.1 <= from + minutes(112), "{moments:?}");
    let kept = s.db.evaluations(id, whole).await.expect("rows");
    let usual = kept.iter().find(|e| e.evaluation.at == moments.0).and_then(|e| e.evaluation.usual);
    let usual = usual.expect("kept");
    assert!((1_000.0..1_200.0).contains(&usual.middle) && usual.spread < 150.0, "{usual:?}");
    let events = s.db.events_of(openings[0].incident_id).await.expect("rows");
    assert!(events[0].says.contains("usual at this time of the week is 1."), "{events:?}");

    // Maintenance tells nothing of what is usual: with two of four weeks in it too little is known, and nothing opens.
    for week in &weeks[..2] {
        let around = Stretch { from: *week - minutes(300), to: *week + minutes(300) };
        s.db.plan(1, &Maintenance::once(around, "Database moved"), "", "").await.expect("kept");
    }
    let again = alerts::tried(&answers, &site, &says.says.definition, whole).await;
    let again = again.expect("tried").expect("there");
    assert!(again.openings.is_empty());
    assert!(again.evaluations.iter().all(|e| e.usual.is_none()));
}

#[tokio::test]
async fn what_cannot_be_an_alert_is_told_at_its_field_and_keeps_what_was_typed() {
    let s = server().await;
    let wrong = |field: &'static str, value: &'static str| {
        let mut fields = FAILS.to_vec();
        fields.retain(|(name, _)| *name != field);
        fields.push((field, value));
        fields
    };
    for (fields, says) in [
        (wrong("measure", "share filed"), "Column 7: “filed”"),
        (
            wrong("measure", "share failed for journey nowhere"),
            "Journey “nowhere” is not there; there is “book”.",
        ),
        (wrong("critical", "a lot"), "“a lot” is no level: write a share such as 2.5 %."),
        (wrong("critical", "10 %"), "The critical level is worse than the warning: above it."),
        (wrong("window", "0"), "A window is 1 minute to 24 hours long"),
        (wrong("window", "soon"), "A whole number from 0 to 1440."),
        (wrong("clear", "50 %"), "The clear level is on the good side"),
        (wrong("running", "99"), "A whole number from 0 to 60."),
        (wrong("name", " "), "A name has 1 to 80 characters."),
        (wrong("link", "javascript:alert(1)"), "A link is an address that begins with"),
        (wrong("open", "06:00"), "Service hours have days"),
    ] {
        let (status, _, page) = post(&s, &format!("/{SLUG}/alerts"), &fields).await;
        assert!(status == 422 && page.contains(says), "{says}: {status} {page}");
        assert!(page.contains("value=\"20 %\""), "what was typed is there: {page}");
    }
    assert!(s.db.alerts(1).await.expect("rows").is_empty());
    let token = serving::token(&s.db, 1, &[Scope::Read]).await;
    let at = format!("{}/api/v1/sites/{SLUG}/alerts/try", s.server.address);
    let now = Timestamp::now();
    for (definition, pointer) in [
        (
            json!({"measure": "share filed", "critical": 1, "window_minutes": 5}),
            "/definition/measure",
        ),
        (json!({"measure": "share failed", "window_minutes": 5}), "/definition/critical"),
        (
            json!({"measure": "share failed", "critical": 0.1, "window_minutes": 5000}),
            "/definition/window_minutes",
        ),
        (
            json!({"measure": "p75 of LCP", "critical": 1, "window_minutes": 5, "least_locations": 2}),
            "/definition/least_locations",
        ),
        (
            json!({"measure": "share failed", "burns": true, "window_minutes": 5}),
            "/definition/measure",
        ),
    ] {
        let body = json!({"from": now - minutes(60), "to": now, "definition": definition});
        let answer = program(&token).post(&at).json(&body).send().await.expect("an answer");
        assert_eq!(answer.status(), 422, "{definition}");
        let told: Value = answer.json().await.expect("a problem");
        assert_eq!(told["errors"][0]["pointer"], pointer, "{told}");
    }
    let body = json!({"from": now - minutes(60 * 24 * 70), "to": now, "definition": {"measure": "share failed", "critical": 0.1, "window_minutes": 5}});
    let answer = program(&token).post(&at).json(&body).send().await.expect("an answer");
    let told: Value = answer.json().await.expect("a problem");
    assert_eq!(told["errors"][0]["pointer"], "/to", "{told}");
}

/// An alert on runs that fail, watched from before they did.
pub async fn watched(s: &Served, from: Timestamp) -> i32 {
    let (status, _, page) = post(s, &format!("/{SLUG}/alerts"), &FAILS).await;
    assert_eq!(status, 303, "{page}");
    let alert = s.db.alerts(1).await.expect("rows").remove(0);
    s.db.remove_alert(alert.id).await.expect("removed");
    let added = s.db.add_alert(1, &alert.says, (true, from), "Ada").await.expect("added");
    added.expect("a new one")
}

#[tokio::test]
async fn people_acknowledge_write_silence_and_switch_and_an_incident_follows() {
    let s = server().await;
    let from = begin(120);
    played(&s, from, &[Outcome::Failed; 20]).await;
    let id = watched(&s, from).await;
    let answers = answers(&s);
    let at = from + minutes(60);
    watch::turn(&answers, at).await.expect("watched");
    let open = s.db.incident(1, 1).await.expect("asked").expect("opened");
    assert_eq!((open.now, &open.about), (Some(Severity::Critical), &About::Journey("book".into())));
    let list = get(&s, &format!("/{SLUG}/alerts")).await.1;
    assert!(list.contains("One incident goes on") && list.contains("by nobody yet"), "{list}");

    let on = |path: &str| format!("/{SLUG}/incidents/1/{path}");
    assert_eq!(post(&s, &on("acknowledge"), &[]).await.0, 303);
    assert_eq!(post(&s, &on("acknowledge"), &[]).await.0, 303, "a second time changes nothing");
    assert_eq!(post(&s, &on("note"), &[("says", "<b>Rolled back</b> | at 14:20")]).await.0, 303);
    assert_eq!(post(&s, &on("close"), &[]).await.0, 303);
    let page = get(&s, &on("")).await;
    let page =
        if page.0 == 200 { page.1 } else { get(&s, &format!("/{SLUG}/incidents/1")).await.1 };
    assert!(page.contains("until acknowledged, by Ada") && !page.contains("<b>Rolled"), "{page}");
    assert!(
        s.db.incident(1, 1).await.expect("asked").expect("there").closed.is_none(),
        "it goes on"
    );
    let text = get(&s, &on("markdown")).await.1;
    assert!(
        text.starts_with("# Incident 1: Booking fails")
            && text.contains("\\<b\\>Rolled back\\</b\\> \\| at 14:20"),
        "{text}"
    );

    // Silenced while it is open it stays open; nothing new is told of it.
    let alert = |path: &str| format!("/{SLUG}/alerts/{id}/{path}");
    let until = (Timestamp::now() + minutes(120)).strftime("%Y-%m-%dT%H:%M").to_string();
    let refused = post(&s, &alert("silence"), &[("until", "2020-01-01T10:00"), ("why", "x")]).await;
    assert!(
        refused.0 == 422 && refused.2.contains("A silence ends within 90 days from now."),
        "{}",
        refused.2
    );
    assert_eq!(post(&s, &alert("silence"), &[("until", &until), ("why", "new pier")]).await.0, 303);
    let page = get(&s, &format!("/{SLUG}/alerts/{id}")).await.1;
    assert!(page.contains("It is silenced until") && page.contains("new pier"), "{page}");

    // Switched off it leaves the incident, which clears with it; its number stays.
    assert_eq!(post(&s, &alert("switch"), &[("on", "no")]).await.0, 303);
    let cleared = s.db.incident(1, 1).await.expect("asked").expect("there");
    assert!(cleared.cleared_at.is_some() && cleared.now.is_none());
    let events = s.db.events_of(1).await.expect("rows");
    let last: &Event = events.last().expect("some");
    assert!(
        last.what == What::Cleared && last.says.contains("was switched off by Ada"),
        "{last:?}"
    );
    assert_eq!(post(&s, &on("close"), &[]).await.0, 303);
    assert!(s.db.incident(1, 1).await.expect("asked").expect("there").closed.is_some());
    assert_eq!(post(&s, &alert("remove"), &[]).await.0, 303);
    let page = get(&s, &format!("/{SLUG}/incidents/1")).await.1;
    assert!(
        page.contains("closed by Ada") && page.contains("share failed for journey"),
        "it stays as it was: {page}"
    );
    let deeds: Vec<String> =
        s.db.done(20).await.expect("rows").into_iter().map(|d| d.what).collect();
    for what in [
        "made the alert",
        "silenced the alert",
        "switched off the alert",
        "took away the alert",
        "closed the incident",
    ] {
        assert!(deeds.iter().any(|d| d == what), "{what}: {deeds:?}");
    }
}

#[tokio::test]
async fn two_people_change_one_alert_and_neither_loses_anything_and_its_incident_goes_on() {
    let s = server().await;
    let from = begin(120);
    played(&s, from, &[Outcome::Failed; 20]).await;
    let id = watched(&s, from).await;
    let answers = answers(&s);
    watch::turn(&answers, from + minutes(30)).await.expect("watched");
    let before = s.db.alert(1, id).await.expect("asked").expect("kept");
    assert_eq!(before.state.open, Some(Severity::Critical));
    let at = format!("/{SLUG}/alerts/{id}");
    let typed = |changed: (&'static str, &'static str), based_on: &str| {
        let mut fields = FAILS.to_vec();
        fields.retain(|(name, _)| *name != changed.0);
        let mut fields: Vec<(String, String)> =
            fields.into_iter().map(|(n, v)| (n.into(), v.into())).collect();
        fields.push((changed.0.into(), changed.1.into()));
        fields.push(("based_on".into(), based_on.into()));
        fields
    };
    let send = async |fields: Vec<(String, String)>| {
        let fields: Vec<(&str, &str)> = fields.iter().map(|(n, v)| (&**n, &**v)).collect();
        post(&s, &at, &fields).await
    };
    let first = before.revision.to_string();
    assert_eq!(send(typed(("critical", "80 %"), &first)).await.0, 303);
    // Whoever began from what it said before is told what it says now, and finds what was typed.
    let (status, _, page) = send(typed(("running", "4"), &first)).await;
    assert!(status == 422 && page.contains("Somebody changed this alert meanwhile"), "{page}");
    assert!(page.contains("80 %") && page.contains("name=\"running\" value=\"4\""), "{page}");
    let second = s.db.alert(1, id).await.expect("asked").expect("kept");
    assert_eq!((second.says.definition.running, second.revision), (2, before.revision + 1));
    // What ran before it was changed counts no more; what is open stays open, in the incident that it opened.
    assert_eq!(second.state.open, Some(Severity::Critical));
    assert_eq!((second.state.beyond, second.state.critical, second.state.since), (0, 0, None));
    assert_eq!(send(typed(("running", "4"), &second.revision.to_string())).await.0, 303);
    watch::turn(&answers, from + minutes(60)).await.expect("watched");
    let all = s.db.incidents(1, Stretch { from, to: Timestamp::now() }).await.expect("rows");
    assert!(all.len() == 1 && all[0].now == Some(Severity::Critical), "{all:?}");
    let third = s.db.alert(1, id).await.expect("asked").expect("kept");
    assert_eq!(third.says.definition.running, 4);
    let deeds = s.db.done(20).await.expect("rows");
    assert_eq!(deeds.iter().filter(|d| d.what == "changed the alert").count(), 2);
}

#[tokio::test]
async fn one_outage_is_one_incident_that_opens_again_when_it_flickers() {
    let s = server().await;
    let from = begin(300);
    let mut outcomes = trouble();
    outcomes.extend(trouble().into_iter().skip(9).take(15));
    played(&s, from, &outcomes).await;
    watched(&s, from).await;
    let failing = s.db.alerts(1).await.expect("rows").remove(0);
    let mut second = failing.says.clone();
    second.name = "Booking fails, slower".into();
    second.definition.running = 6;
    s.db.add_alert(1, &second, (true, from), "Ada").await.expect("added").expect("new");
    let answers = answers(&s);
    watch::turn(&answers, from + minutes(255)).await.expect("watched");
    let all = s.db.incidents(1, Stretch { from, to: Timestamp::now() }).await.expect("rows");
    // Both alerts, both times: the second began more than half an hour after the first had cleared.
    assert_eq!(all.len(), 2, "{all:?}");
    let of_first = s.db.alerts_of(&[all[1].id]).await.expect("rows");
    assert_eq!(of_first.len(), 2, "two alerts about one journey are one incident");
    let events: Vec<What> =
        s.db.events_of(all[1].id).await.expect("rows").iter().map(|e| e.what).collect();
    assert_eq!(events.first(), Some(&What::Opened));
    assert!(events.contains(&What::Joined) && events.contains(&What::Left), "{events:?}");
    assert_eq!(events.iter().filter(|w| **w == What::Cleared).count(), 1);
}

#[tokio::test]
async fn a_clock_that_jumps_evaluates_nothing_twice_and_catches_up_with_no_more_than_a_day() {
    let s = server().await;
    let from = begin(120);
    played(&s, from, &[Outcome::Failed; 20]).await;
    let id = watched(&s, from).await;
    let answers = answers(&s);
    let at = async |min: i64| {
        watch::turn(&answers, from + minutes(min) + LAG).await.expect("watched").evaluations
    };
    assert_eq!(at(60).await, 60);
    assert_eq!(at(20).await, 0, "back by forty minutes");
    assert_eq!(at(60).await, 0);
    assert_eq!(at(61).await, 1);
    let whole = Stretch { from, to: from + minutes(62) };
    let kept = s.db.evaluations(id, whole).await.expect("rows");
    let moments: Vec<Timestamp> = kept.iter().map(|e| e.evaluation.at).collect();
    let each: Vec<Timestamp> = (1..=61).map(|nth| from + minutes(nth)).collect();
    assert_eq!(moments, each, "each minute once");
    // Three days on, as after a night's sleep of a laptop: a day is caught up with, and what opened stays one incident.
    assert_eq!(at(61 + 3 * 1440).await, 1440);
    let all = s.db.incidents(1, Stretch { from, to: from + minutes(5000) }).await.expect("rows");
    assert_eq!(all.len(), 1, "{all:?}");
}

#[tokio::test]
async fn what_comes_late_opens_nothing_afterwards_and_a_trial_says_that_it_would_have() {
    let s = server().await;
    let from = begin(60);
    let id = watched(&s, from).await;
    let answers = answers(&s);
    watch::turn(&answers, from + minutes(40)).await.expect("watched");
    // What was played meanwhile arrives only now.
    played(&s, from, &[Outcome::Failed; 3]).await;
    watch::turn(&answers, from + minutes(45)).await.expect("watched");
    let whole = Stretch { from, to: from + minutes(45) };
    assert!(s.db.openings_of(id, whole).await.expect("rows").is_empty());
    let kept = s.db.evaluations(id, whole).await.expect("rows");
    assert!(kept.iter().all(|e| e.evaluation.verdict == Verdict::NoData), "as it was known then");
    let site = s.db.site_by_slug(SLUG).await.expect("asked").expect("there");
    let alert = s.db.alert(1, id).await.expect("asked").expect("there");
    let tried = alerts::tried(&answers, &site, &alert.says.definition, whole).await;
    let tried = tried.expect("tried").expect("there");
    assert_eq!(tried.openings.len(), 1, "by what is known now it would have");
    assert!(tried.openings[0].opening.opened <= from + minutes(3));
}

#[tokio::test]
async fn an_alert_that_is_looked_at_hourly_is_not_late_within_its_hour() {
    let s = server().await;
    let now = Timestamp::now();
    let fields = [FAILS[0], FAILS[1], FAILS[2], ("window", "60"), ("every", "60")];
    let (status, _, page) = post(&s, &format!("/{SLUG}/alerts"), &fields).await;
    assert_eq!(status, 303, "{page}");
    let says = s.db.alerts(1).await.expect("rows").remove(0);
    for (evaluated_min_ago, want) in [(10, None), (59, None), (64, Some(minutes(4)))] {
        assert!(s.db.remove_alert(s.db.alerts(1).await.expect("rows")[0].id).await.expect("gone"));
        let at = (true, now - minutes(evaluated_min_ago));
        s.db.add_alert(1, &says.says, at, "Ada").await.expect("added");
        let lag = s.db.watch_lag(now).await.expect("asked");
        assert_eq!(
            lag.map(|l| l.round(jiff::Unit::Second).expect("rounds")),
            want,
            "{evaluated_min_ago}"
        );
    }
}

#[tokio::test]
async fn an_alert_whose_journey_is_gone_tells_that_nothing_can_be_told() {
    let s = server().await;
    let from = begin(60);
    let id = watched(&s, from).await;
    let mut alert = s.db.alert(1, id).await.expect("asked").expect("kept");
    alert.says.definition.measured = "share failed for journey gone".parse().expect("a measure");
    s.db.set_alert(&alert, alert.revision, &alert.says, "Ada").await.expect("set");
    let turn = watch::turn(&answers(&s), from + minutes(30)).await.expect("watched");
    assert_eq!((turn.alerts, turn.failed), (1, 1));
    let kept = s.db.evaluations(id, Stretch { from, to: from + minutes(40) }).await.expect("rows");
    assert!(kept.len() == 29 && kept.iter().all(|e| e.evaluation.verdict == Verdict::NoData));
    let page = get(&s, &format!("/{SLUG}/alerts/{id}")).await.1;
    assert!(page.contains("without data"), "{page}");
}

#[tokio::test]
async fn whoever_dies_in_the_middle_of_a_turn_has_skipped_nothing_and_opened_nothing_twice() {
    let s = server().await;
    let from = begin(400);
    played(&s, from, &trouble()).await;
    watched(&s, from).await;
    let one = s.db.alerts(1).await.expect("rows").remove(0);
    // Many alerts, so that a turn takes a while.
    for nth in 0..60 {
        let mut says = one.says.clone();
        says.name = format!("Booking fails {nth}");
        s.db.add_alert(1, &says, (true, from), "Ada").await.expect("added").expect("new");
    }
    for round in 0..20u64 {
        let mut server = Server::watching(&s.server.url);
        tokio::time::sleep(Duration::from_millis(300 + 37 * round)).await;
        server.kill();
    }
    let last = Server::watching(&s.server.url);
    let whole = Stretch { from, to: Timestamp::now() };
    let all = s.db.alerts(1).await.expect("rows");
    for _ in 0..120 {
        let all = s.db.alerts(1).await.expect("rows");
        if all.iter().all(|a| a.evaluated_to > from + minutes(220)) {
            break;
        }
        tokio::time::sleep(Duration::from_millis(250)).await;
    }
    drop(last);
    for alert in all {
        let kept = s.db.evaluations(alert.id, whole).await.expect("rows");
        let gaps = kept
            .windows(2)
            .filter(|w| w[1].evaluation.at.duration_since(w[0].evaluation.at) != minutes(1));
        assert_eq!(gaps.count(), 0, "{}: nothing was skipped", alert.says.name);
        assert!(kept[0].evaluation.at <= from + minutes(1), "{}", alert.says.name);
        let openings = s.db.openings_of(alert.id, whole).await.expect("rows");
        assert_eq!(openings.len(), 1, "{}: {openings:?}", alert.says.name);
        assert!(openings[0].cleared_at.is_some());
    }
    let incidents = s.db.incidents(1, whole).await.expect("rows");
    assert_eq!(incidents.len(), 1, "one outage: {incidents:?}");
    assert!(LAG > SignedDuration::ZERO);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn alerts_drawn_at_random_open_and_clear_at_the_minute_that_a_script_in_another_language_finds()
 {
    let (db, url) = serving::database().await;
    crate::goals::forty_days(&db).await;
    let server = Server::start(&url);
    assert_eq!(server.up().await, 200);
    let s = crate::serving::beacons::Served { server, db };
    crate::visitors::with_families(&s.db).await;
    let rows = crate::recomputed::made(hour_of(Timestamp::now()).as_millisecond());
    let (status, says) =
        crate::visitors::import(&s, "loads.ndjson", &crate::recomputed::file(&rows)).await;
    assert_eq!(status, 200, "{says}");
    let token = serving::token(&s.db, 1, &[Scope::Read]).await;
    let script = concat!(env!("CARGO_MANIFEST_DIR"), "/../../scripts/alerts_by_hand");
    let mut python = tokio::process::Command::new("python3");
    python.args([script, &s.server.address, &token, SLUG, "30", "7", "2.5"]);
    let end = python.output().await.expect("python3 is installed");
    let said = String::from_utf8_lossy(&[end.stdout, end.stderr].concat()).into_owned();
    assert!(end.status.success() && said.contains("each to the minute"), "{said}");
    let opened = said.split(": ").nth(1).and_then(|t| t.split(' ').next()?.parse::<u32>().ok());
    assert!(opened > Some(20), "so few openings show nothing: {said}");
}

#[tokio::test]
async fn programs_keep_read_change_and_take_away_alerts_and_are_told_at_which_place_something_is_wrong()
 {
    let s = server().await;
    let token = serving::token(&s.db, 1, &[Scope::Read, Scope::Write]).await;
    let client = program(&token);
    let all = format!("{}/api/v1/sites/{SLUG}/alerts", s.server.address);
    let ask = async |method: &str, at: String, body: Value| -> (u16, Value) {
        let method = method.parse().expect("a method");
        let answer = client.request(method, at).json(&body).send().await.expect("an answer");
        (answer.status().as_u16(), answer.json().await.unwrap_or(Value::Null))
    };
    // Every part of it comes back as it was given.
    let definition = json!({
        "measure": "share failed for journey \"book\"", "warning": 0.02, "critical": 0.1, "clear": 0.01, "burns": false,
        "unusual": false, "window_minutes": 15, "every_minutes": 5, "running": 3, "least_samples": 4, "least_locations": 2,
        "no_data": "open", "service_hours": {"days": ["mon", "sun"], "from": "06:00", "until": "22:30"},
    });
    let given = json!({"name": "Booking fails", "definition": definition, "instructions": "Call the quay.",
        "link": "https://wiki.marram.example/booking", "is_on": true});
    let (status, made) = ask("POST", all.clone(), given.clone()).await;
    assert_eq!((status, &made["id"]), (201, &json!(1)), "{made}");
    let one = format!("{all}/1");
    let (status, kept) = ask("GET", one.clone(), Value::Null).await;
    assert_eq!(status, 200);
    for field in ["name", "definition", "instructions", "link", "is_on"] {
        assert_eq!(kept[field], given[field], "{field}");
    }
    assert_eq!(
        (&kept["revision"], &kept["open"], &kept["team"]),
        (&json!(1), &Value::Null, &Value::Null)
    );
    let (_, listed) = ask("GET", all.clone(), Value::Null).await;
    assert_eq!(listed, json!([kept]));

    // Whoever changes it says what they have read.
    let mut changed = given.clone();
    changed["revision"] = json!(1);
    changed["definition"]["running"] = json!(2);
    let (status, answer) = ask("PUT", one.clone(), changed.clone()).await;
    assert_eq!(
        (status, &answer["revision"], &answer["definition"]["running"]),
        (200, &json!(2), &json!(2))
    );
    let (status, answer) = ask("PUT", one.clone(), changed.clone()).await;
    assert_eq!(status, 409, "{answer}");
    assert!(answer["type"].as_str().is_some_and(|t| t.ends_with("changed-meanwhile")), "{answer}");

    for (at, value, pointer) in [
        ("/name", json!("x".repeat(81)), "/name"),
        ("/name", json!(" "), "/name"),
        ("/link", json!("javascript:alert(1)"), "/link"),
        ("/team", json!("Nobody's"), "/team"),
        ("/critical_list", json!("Duty"), "/critical_list"),
        ("/definition/measure", json!("share of nothing"), "/definition/measure"),
        ("/definition/measure", json!("share failed for journey \"gone\""), "/definition/measure"),
        ("/definition/window_minutes", json!(0), "/definition/window_minutes"),
        ("/definition/window_minutes", json!(i64::MAX), "/definition/window_minutes"),
        ("/definition/critical", json!(0.01), "/definition/critical"),
        ("/definition/clear", json!(0.5), "/definition/clear"),
        ("/definition/service_hours/from", json!("6 o'clock"), "/definition/service_hours/from"),
        ("/definition/service_hours/days/0", json!("monday"), "/definition/service_hours/days/0"),
        ("/definition/burns", json!(true), "/definition/measure"),
    ] {
        let mut wrong = given.clone();
        wrong["name"] = json!("Another");
        wrong["team"] = Value::Null;
        wrong["critical_list"] = Value::Null;
        *wrong.pointer_mut(at).expect("there") = value;
        let (status, answer) = ask("POST", all.clone(), wrong).await;
        assert_eq!(
            (status, &answer["errors"][0]["pointer"]),
            (422, &json!(pointer)),
            "{at}: {answer}"
        );
    }
    let (status, answer) = ask("POST", all.clone(), given.clone()).await;
    assert_eq!(
        (status, &answer["errors"][0]["pointer"]),
        (422, &json!("/name")),
        "taken: {answer}"
    );
    let mut unlike = given.clone();
    unlike["name"] = json!("Unlike its usual");
    unlike["definition"]["unusual"] = json!(true);
    for (name, value) in [("warning", 5.0), ("critical", 8.0), ("clear", 4.0)] {
        unlike["definition"][name] = json!(value);
    }
    let (status, made) = ask("POST", all.clone(), unlike.clone()).await;
    assert_eq!(status, 201, "{made}");
    let (_, kept) = ask("GET", format!("{all}/{}", made["id"]), Value::Null).await;
    assert_eq!(kept["definition"], unlike["definition"]);

    // A pipeline silences it while it deploys, and lets it tell again.
    let silence = format!("{one}/silence");
    let soon = Timestamp::now() + minutes(30);
    let quiet = json!({"until": soon, "why": "deploying 2026.48"});
    let (status, kept) = ask("PUT", silence.clone(), quiet).await;
    assert_eq!(status, 200, "{kept}");
    let until = kept["silenced_until"].as_str().and_then(|t| t.parse::<Timestamp>().ok());
    assert!(until.expect("told").duration_since(soon).abs() < SignedDuration::from_millis(1));
    for (wrong, pointer) in [
        (json!({"until": soon}), "/why"),
        (json!({"until": "2020-01-01T00:00:00Z", "why": "x"}), "/until"),
        (json!({"until": "2099-01-01T00:00:00Z", "why": "x"}), "/until"),
    ] {
        let (status, answer) = ask("PUT", silence.clone(), wrong).await;
        assert_eq!((status, &answer["errors"][0]["pointer"]), (422, &json!(pointer)), "{answer}");
    }
    let (status, kept) = ask("PUT", silence, json!({})).await;
    assert_eq!((status, &kept["silenced_until"]), (200, &Value::Null));
    // And whoever is woken elsewhere says so here; the first who did stays.
    let now = Timestamp::now();
    let incident = (&About::Site, "Booking fails");
    let id = s.db.open_incident(1, incident, Severity::Critical, (now, now, now), false).await;
    let at = format!("{}/api/v1/sites/{SLUG}/incidents/{}", s.server.address, id.expect("opened"));
    let (status, told) = ask("POST", format!("{at}/acknowledge"), Value::Null).await;
    assert_eq!(status, 200, "{told}");
    let first = told["acknowledged_by"].clone();
    assert!(first.as_str().is_some_and(|who| who.contains("token")), "{told}");
    assert_eq!(
        ask("POST", format!("{at}/acknowledge"), Value::Null).await.1["acknowledged_by"],
        first
    );
    assert_eq!(
        ask("POST", at.replace("/incidents/", "/incidents/9") + "/acknowledge", Value::Null)
            .await
            .0,
        404
    );

    assert_eq!(ask("DELETE", one.clone(), Value::Null).await.0, 204);
    for method in ["GET", "DELETE"] {
        assert_eq!(ask(method, one.clone(), Value::Null).await.0, 404, "{method}");
    }
    changed["revision"] = json!(2);
    assert_eq!(ask("PUT", one, changed).await.0, 404);
}
