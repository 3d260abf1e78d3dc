//! Maintenance on its page: planned, changed, ended, called off; calendars in and out.

use crate::server::{get, play, post_form as post, server};
use crate::serving;
use cadentis_core::access::Role;
use cadentis_core::calendar::{Maintenance, Pace, Stretch, ical};
use cadentis_core::run::Outcome;
use cadentis_store::journey::PlaceAndPace;
use cadentis_store::person::Given;
use cadentis_store::script_version::Status;
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};

const LIST: &str = "/marram-ferries/maintenance";

fn oslo() -> TimeZone {
    TimeZone::get("Europe/Oslo").expect("a zone")
}

/// Fields of a form for a window, as they are typed: a day, a time, and how many hours.
fn window<'a>(
    name: &'a str,
    day: &'a str,
    begins: &'a str,
    hours: &'a str,
) -> Vec<(&'a str, &'a str)> {
    vec![
        ("name", name),
        ("repeats", "once"),
        ("day", day),
        ("begins", begins),
        ("lasts", "hours"),
        ("many", hours),
        ("clock", "site"),
    ]
}

#[tokio::test]
async fn a_window_is_shown_on_every_clock_before_it_is_planned_and_what_is_wrong_is_told_at_its_field()
 {
    let s = server().await;
    play(&s, &[Outcome::Passed, Outcome::Failed]).await;
    let mut fields = window("Backup <b>", "2030-03-24", "22:30", "2");
    fields[1].1 = "weekly";
    fields.push(("on", "sun"));
    let query = url::form_urlencoded::Serializer::new(String::new()).extend_pairs(&fields).finish();
    let (status, page) = get(&s, &format!("{LIST}/new?{query}")).await;
    assert_eq!(status, 200, "{page}");
    assert!(
        page.contains("Sun 24 Mar 22:30 – Mon 00:30") && page.contains("Sun 24 Mar 21:30 – 23:30"),
        "{page}"
    );
    // After clocks have gone forward UTC reads another time, the site the same.
    assert!(
        page.contains("Sun 31 Mar 22:30 – Mon 00:30")
            && page.contains(">Sun 31 Mar 20:30 – 22:30</b>"),
        "{page}"
    );
    assert!(page.contains("Of “Bookable” it would have taken out"), "{page}");
    assert!(s.db.planned(1).await.expect("rows").is_empty(), "nothing is kept");
    for (name, value, says) in [
        ("name", "", "Say what it is"),
        ("day", "soon", "Say from which day on"),
        ("day", "2020-01-05", "All of it is over already"),
        ("many", "0", "a number of hours above 0"),
        ("until", "2020-01-01", "It would be over on 2020-01-01, before it begins"),
        ("clock", "Mars/Olympus", "“Mars/Olympus” is no time zone"),
        ("repeats", "rule", "A rule is one of RFC 5545"),
    ] {
        let mut wrong = window("Backup <b>", "2030-03-24", "22:30", "2");
        wrong.retain(|(n, _)| *n != name);
        wrong.push((name, value));
        let (status, _, page) = post(&s, LIST, &wrong).await;
        assert!(status == 422 && page.contains(says), "{says}: {status} {page}");
        assert!(
            page.contains("value=\"22:30\"") || name == "begins",
            "what was typed stays: {page}"
        );
    }
    let mut hourly = window("x", "2030-03-24", "22:30", "0.5");
    hourly[1].1 = "rule";
    hourly.push(("rule", "FREQ=HOURLY"));
    let (status, _, page) = post(&s, LIST, &hourly).await;
    assert!(status == 422 && page.contains("56 are the most, twice a day"), "{page}");
    assert_eq!(post(&s, LIST, &fields).await.0, 303);
    let page = get(&s, LIST).await.1;
    assert!(
        page.contains(
            "Nothing now. Next: “Backup &#60;b&#62;” on Sun 24 Mar 22:30, 2 h, for the whole site"
        ),
        "{page}"
    );
    let told = s.db.done(1).await.expect("rows").remove(0);
    assert_eq!(told.what, "planned maintenance");
    let says = "begins: 2030-03-24 22:30; lasts: 2 h; comes again: FREQ=WEEKLY;BYDAY=SU; by the clock of: Europe/Oslo; journeys: all";
    assert!(told.became.starts_with(says), "{}", told.became);
}

#[tokio::test]
async fn what_goes_on_takes_runs_out_until_it_ends_early_and_what_has_been_stays() {
    let s = server().await;
    let ids = play(&s, &[Outcome::Passed, Outcome::Failed, Outcome::Passed, Outcome::Passed]).await;
    let failed = s.db.run(ids[1]).await.expect("rows").expect("the failure").due_at;
    let zone = oslo();
    let now = Timestamp::now();
    let began = (now - SignedDuration::from_mins(20)).to_zoned(zone.clone());
    let (day, time) = (began.strftime("%Y-%m-%d").to_string(), began.strftime("%H:%M").to_string());
    assert_eq!(post(&s, LIST, &window("Moved", &day, &time, "2")).await.0, 303);
    // It holds from the moment it is kept: what failed before still counts.
    let planned = s.db.planned(1).await.expect("rows").remove(0);
    assert!(planned.says.window.in_force.0.is_some_and(|from| from >= now && from > failed));
    let page = get(&s, LIST).await.1;
    assert!(page.contains("“Moved” goes on until") && page.contains("Ends now"), "{page}");
    let id = planned.id;
    assert_eq!(post(&s, &format!("{LIST}/{id}/extend"), &[]).await.0, 303);
    let windows = s.db.planned(1).await.expect("rows");
    let longer = &windows[1].says.window;
    let ends = planned.says.goes_on(Timestamp::now(), &[]).expect("it goes on").to;
    let ahead = Stretch { from: ends, to: ends + SignedDuration::from_mins(30) };
    assert_eq!(longer.next(now, 1, &TimeZone::UTC), [ahead]);
    assert_eq!(post(&s, &format!("{LIST}/{id}/end"), &[]).await.0, 303);
    let (status, _, page) = post(&s, &format!("{LIST}/{id}/end"), &[]).await;
    assert!(status == 400 || status == 422 || status == 409, "{status}");
    assert!(page.contains("It does not go on now."), "{page}");
    let ended = s.db.planned(1).await.expect("rows").remove(0).says.window.in_force;
    assert!(ended.1.is_some_and(|at| at >= now && at <= Timestamp::now()), "{ended:?}");
    assert_eq!(post(&s, &format!("{LIST}/{}/remove", windows[1].id), &[]).await.0, 303);
    let page = get(&s, LIST).await.1;
    assert!(page.contains("What is over") && page.contains("Nothing is planned."), "{page}");
    let what: Vec<String> = s.db.done(9).await.expect("rows").into_iter().map(|d| d.what).collect();
    for done in ["ended maintenance", "extended maintenance", "called off maintenance"] {
        assert!(what.iter().any(|w| w == done), "{what:?}");
    }
}

#[tokio::test]
async fn of_two_who_change_a_window_the_second_is_told_and_loses_nothing() {
    let s = server().await;
    assert_eq!(post(&s, LIST, &window("Backup", "2030-03-24", "22:30", "2")).await.0, 303);
    let change = get(&s, &format!("{LIST}/1/change")).await.1;
    assert!(
        change.contains("value=\"2030-03-24\"") && change.contains("value=\"22:30\""),
        "{change}"
    );
    let mut first = window("Backup", "2030-03-24", "23:00", "2");
    first.push(("based_on", "1"));
    assert_eq!(post(&s, &format!("{LIST}/1"), &first).await.0, 303);
    let mut second = window("Backup of all", "2030-03-24", "21:00", "2");
    second.push(("based_on", "1"));
    let (status, _, page) = post(&s, &format!("{LIST}/1"), &second).await;
    assert!(status == 422 && page.contains("Somebody changed it meanwhile"), "{page}");
    assert!(page.contains("value=\"Backup of all\"") && page.contains("value=\"21:00\""), "{page}");
    let told = s.db.done(1).await.expect("rows").remove(0);
    assert_eq!(
        (told.was.as_str(), told.became.as_str()),
        ("begins: 2030-03-24 22:30", "begins: 2030-03-24 23:00")
    );
    // Another site's window is not found there.
    serving::another_site(&s.db).await;
    assert_eq!(post(&s, "/freight/maintenance/1/remove", &[]).await.0, 404);
    assert_eq!(get(&s, &format!("{LIST}/9/change")).await.0, 404);
}

#[tokio::test]
async fn a_calendar_comes_in_with_what_could_not_be_told_and_goes_out_to_whoever_has_its_address() {
    let s = server().await;
    let event = |lines: &str| format!("BEGIN:VEVENT\r\nUID:x\r\n{lines}\r\nEND:VEVENT\r\n");
    let text = format!(
        "BEGIN:VCALENDAR\r\nVERSION:2.0\r\n{}{}{}{}END:VCALENDAR\r\n",
        event(
            "SUMMARY:Backup\r\nDTSTART;TZID=Europe/Oslo:20300324T223000\r\nDURATION:PT2H\r\nRRULE:FREQ=WEEKLY;BYDAY=SU"
        ),
        event("SUMMARY:Odd zone\r\nDTSTART;TZID=Mars/Olympus:20301122T020000\r\nDURATION:PT1H"),
        event("SUMMARY:Over\r\nDTSTART:20200101T020000Z\r\nDURATION:PT1H"),
        event("SUMMARY:Hourly\r\nDTSTART:20300101T020000Z\r\nDURATION:PT1M\r\nRRULE:FREQ=HOURLY"),
    );
    let (status, _, page) =
        post(&s, &format!("{LIST}/import"), &[("calendar", &text), ("runs", "held")]).await;
    assert_eq!(status, 200, "{page}");
    for says in [
        "“Backup” is planned.",
        "Mars/Olympus",
        "Over: all of it is over already",
        "Hourly: it would come",
    ] {
        assert!(page.contains(says), "{says}: {page}");
    }
    let planned = s.db.planned(1).await.expect("rows");
    assert!(planned.len() == 1 && planned[0].says.holds);
    for (wrong, says) in [("hello", "no iCalendar text"), ("", "begins with BEGIN:VCALENDAR")] {
        let (_, _, page) = post(&s, &format!("{LIST}/import"), &[("calendar", wrong)]).await;
        assert!(page.contains(says), "{page}");
    }
    let large = "x".repeat(1_000_001);
    let (status, _, page) = post(&s, &format!("{LIST}/import"), &[("calendar", &large)]).await;
    assert!((status == 422 && page.contains("at most 1 MB")) || status == 413, "{status}");

    let (status, _, page) = post(&s, &format!("{LIST}/feed"), &[]).await;
    let address = page.split("<code>").nth(1).and_then(|rest| rest.split("</code>").next());
    let address = address.expect("an address, shown once").to_string();
    assert!(status == 200 && address.ends_with(".ics"), "{page}");
    assert!(!get(&s, LIST).await.1.contains(&address), "once");
    // Nobody is signed in who reads it.
    let read = async || reqwest::get(&address).await.expect("an answer");
    let answer = read().await;
    assert_eq!(answer.headers()["content-type"], "text/calendar; charset=utf-8");
    let (windows, wrong) = ical::read(&answer.text().await.expect("a text"));
    assert!(wrong.is_empty() && windows.len() == 1);
    let year = Stretch {
        from: "2030-01-01T00:00:00Z".parse().expect("a moment"),
        to: "2031-01-01T00:00:00Z".parse().expect("a moment"),
    };
    let ours = planned[0].says.window.occurrences(year, &TimeZone::UTC);
    assert_eq!((windows[0].occurrences(year, &TimeZone::UTC), ours.len()), (ours.clone(), 41));
    assert_eq!(post(&s, &format!("{LIST}/feed/close"), &[]).await.0, 303);
    assert_eq!(read().await.status().as_u16(), 404);
    assert_eq!(get(&s, "/calendars/short.ics").await.0, 404);
}

#[tokio::test]
async fn what_is_held_is_not_silent_and_a_team_alone_plans_for_its_journeys() {
    let s = server().await;
    play(&s, &[Outcome::Passed, Outcome::Passed]).await;
    let journey = s.db.journeys(1).await.expect("rows").remove(0);
    s.db.set_status(journey.id, Status::Active).await.expect("active");
    // From the quay nothing came that was due.
    let first = s.db.locations().await.expect("rows")[0].id;
    let quay = serving::location(&s.db, "quay", "Quay", "quay").await;
    let (pace, places) = (Pace::Every(300), [first, quay]);
    s.db.set_place_and_pace(journey.id, &PlaceAndPace::usual(&pace, &places)).await.expect("kept");
    let silent = async || get(&s, "/marram-ferries").await.1.contains("has not played at Quay");
    assert!(silent().await);
    let now = Timestamp::now();
    let hours = SignedDuration::from_hours;
    let moved = Stretch { from: now - hours(8), to: now + hours(1) };
    let held = Maintenance { holds: true, ..Maintenance::once(moved, "moved") };
    s.db.plan(1, &held, "", "Ada").await.expect("kept");
    assert!(!silent().await, "what was held was never going to come");
    // The whole site is the journeys of every team: somebody of none of them plans nothing for it.
    let team = s.db.add_team("Booking").await.expect("a team");
    s.db.set_about(journey.id, team, &[], true).await.expect("theirs");
    let session = "5e55104000000000000000000000000000000000000000000000000000000003";
    let edits =
        Given { is_administrator: false, sees_people: false, roles: vec![(1, Role::Editor)] };
    serving::sign_in(&s.db, "Tor", edits, session).await;
    let editor = serving::signed_in_as(session);
    let fields = window("Backup", "2030-03-24", "22:30", "2");
    let body = url::form_urlencoded::Serializer::new(String::new()).extend_pairs(fields).finish();
    let asked = editor.post(format!("{}{LIST}", s.server.address)).body(body);
    let asked = asked.header("content-type", "application/x-www-form-urlencoded");
    let answer = asked.send().await.expect("an answer");
    assert_eq!(answer.status().as_u16(), 422);
    assert!(answer.text().await.expect("a page").contains("choose journeys of your own team"));
    assert_eq!(s.db.planned(1).await.expect("rows").len(), 1);
}
