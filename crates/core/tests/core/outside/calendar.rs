use super::rows;
use cadentis_core::calendar::window::{Clock, Length, Repeat, Window};
use cadentis_core::calendar::{Cron, Rule, Stretch, ical};
use jiff::civil::{DateTime, Weekday, date, time};
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};

fn wall(text: &str) -> DateTime {
    DateTime::strptime("%Y%m%dT%H%M%S", text).unwrap()
}

fn oslo() -> TimeZone {
    TimeZone::get("Europe/Oslo").unwrap()
}

#[test]
fn recurrence_rules_expand_as_dateutil_and_rfc_5545_do() {
    let years = SignedDuration::from_hours(5 * 366 * 24);
    for row in rows(include_str!("../../vectors/rules.tsv")) {
        let first = wall(row[1]);
        let rule = Rule::parse(row[0], first, &TimeZone::UTC).unwrap();
        let window =
            Window::once(first, Length::Exact(SignedDuration::from_secs(1)), Clock::Utc, "")
                .repeating(Repeat::Rule(rule));
        let from = TimeZone::UTC.to_timestamp(first).unwrap();
        let within = Stretch { from, to: from + years + SignedDuration::from_secs(1) };
        let got: Vec<String> = window
            .occurrences(within, &TimeZone::UTC)
            .iter()
            .take(12)
            .map(|o| o.from.strftime("%Y%m%dT%H%M").to_string())
            .collect();
        assert_eq!(got.join(","), row[2], "{} from {}", row[0], row[1]);
    }
}

#[test]
fn a_rule_that_began_long_ago_is_still_expanded() {
    // Hourly for twenty-six years: more than two hundred thousand starts lie before.
    let first = date(2000, 1, 1).at(0, 30, 0, 0);
    let rule = Rule::parse("FREQ=HOURLY", first, &TimeZone::UTC).unwrap();
    let window = Window::once(first, Length::Exact(SignedDuration::from_mins(5)), Clock::Utc, "")
        .repeating(Repeat::Rule(rule));
    let day = Stretch {
        from: "2026-11-22T00:00:00Z".parse().unwrap(),
        to: "2026-11-23T00:00:00Z".parse().unwrap(),
    };
    assert_eq!(window.occurrences(day, &TimeZone::UTC).len(), 24);
}

#[test]
fn cron_lines_fall_when_croniter_says() {
    for row in rows(include_str!("../../vectors/cron.tsv")) {
        let cron: Cron = row[0].parse().unwrap();
        let after: Timestamp = row[1].parse().unwrap();
        let next = Stretch {
            from: after + SignedDuration::from_secs(1),
            to: after + SignedDuration::from_hours(24 * 1_500),
        };
        let got: Vec<String> = cron
            .due(next, &TimeZone::UTC)
            .take(5)
            .map(|t| t.strftime("%Y%m%dT%H%M").to_string())
            .collect();
        assert_eq!(got.join(","), row[2], "{} after {}", row[0], row[1]);
    }
}

/// Every kind of window that iCalendar can say in full.
fn windows() -> Vec<Window> {
    let zone = || Clock::Zone(oslo());
    let hours = |h| Length::Exact(SignedDuration::from_hours(h));
    let rule = |text: &str, first| Repeat::Rule(Rule::parse(text, first, &oslo()).unwrap());
    let third = date(2026, 1, 17).at(1, 30, 0, 0);
    let mut weekly = Window::once(
        date(2026, 3, 2).at(4, 0, 0, 0),
        hours(1),
        zone(),
        "Pier office, weekly; a, b",
    )
    .repeating(Repeat::Weekly(vec![Weekday::Monday, Weekday::Thursday]));
    weekly.except = vec![date(2026, 4, 6).at(4, 0, 0, 0)];
    weekly.besides = vec![date(2026, 4, 7).at(5, 0, 0, 0)];
    vec![
        Window::once(date(2026, 11, 22).at(2, 0, 0, 0), hours(3), Clock::Utc, "Database upgrade"),
        weekly,
        Window::once(third, hours(2), zone(), "Third Saturday")
            .repeating(rule("FREQ=MONTHLY;BYDAY=3SA;UNTIL=20261001T000000Z", third)),
        Window::once(
            date(2026, 10, 25).at(0, 0, 0, 0),
            Length::Days(1),
            Clock::Location,
            "Dry dock",
        ),
        Window::once(
            date(2026, 6, 1).at(3, 0, 0, 0),
            hours(1),
            Clock::Location,
            "Each place at three",
        )
        .repeating(rule("FREQ=DAILY;COUNT=5", third)),
    ]
}

/// Daily 22:30 to 06:00 by the wall clock, for a season: what iCalendar has no words for.
fn nightly() -> Window {
    let mut nightly = Window::once(
        date(2026, 1, 1).at(22, 30, 0, 0),
        Length::UntilTime(time(6, 0, 0, 0)),
        Clock::Zone(oslo()),
        "Nights",
    )
    .repeating(Repeat::Daily);
    nightly.in_force = (None, Some("2026-09-01T00:00:00Z".parse().unwrap()));
    nightly
}

fn stamp() -> Timestamp {
    "2026-11-22T12:00:00Z".parse().unwrap()
}

fn written(windows: &[Window]) -> String {
    let entry = |(window, id)| ical::Entry { id, window, detail: "" };
    ical::write(&windows.iter().zip(1i64..).map(entry).collect::<Vec<_>>(), stamp())
}

#[test]
fn a_calendar_written_by_us_is_expanded_by_another_reader_as_by_us() {
    // windows.ics is what we write; occurrences.tsv is what icalendar and recurring_ical_events
    // from PyPI make of it (windows.py).
    let text = written(&windows());
    assert_eq!(
        text.replace("\r\n", "\n"),
        include_str!("../../vectors/windows.ics").replace("\r\n", "\n"),
        "windows.ics is out of date"
    );
    let year = Stretch {
        from: "2026-01-01T00:00:00Z".parse().unwrap(),
        to: "2026-12-31T00:00:00Z".parse().unwrap(),
    };
    let mut ours: Vec<String> = Vec::new();
    for w in windows() {
        // A floating time is printed as it stands, one with a zone in UTC.
        let z = if w.clock == Clock::Location { "" } else { "Z" };
        for o in w.occurrences(year, &TimeZone::UTC) {
            let format =
                if matches!(w.length, Length::Days(_)) { "%Y%m%d" } else { "%Y%m%dT%H%M%S" };
            let z = if matches!(w.length, Length::Days(_)) { "" } else { z };
            ours.push(format!(
                "{}\t{}{z}\t{}{z}",
                w.why,
                o.from.strftime(format),
                o.to.strftime(format)
            ));
        }
    }
    ours.sort();
    let theirs: Vec<String> =
        rows(include_str!("../../vectors/occurrences.tsv")).map(|r| r.join("\t")).collect();
    assert_eq!(ours, theirs);
}

#[test]
fn windows_come_back_from_a_calendar_as_they_went() {
    let all: Vec<Window> = windows().into_iter().chain([nightly()]).collect();
    let (back, wrong) = ical::read(&written(&all));
    assert_eq!(wrong, []);
    assert_eq!(back.len(), all.len());
    let year = Stretch {
        from: "2026-01-01T00:00:00Z".parse().unwrap(),
        to: "2027-01-01T00:00:00Z".parse().unwrap(),
    };
    for (there, here) in all.iter().zip(&back) {
        assert_eq!(
            (&here.why, &here.clock, here.in_force),
            (&there.why, &there.clock, there.in_force)
        );
        assert_eq!(here.cover(year, &oslo()), there.cover(year, &oslo()), "{}", there.why);
    }
    assert_eq!(&back[5].length, &Length::UntilTime(time(6, 0, 0, 0)));
}

#[test]
fn a_text_with_every_escape_comes_back_and_a_rule_cannot_smuggle_in_a_line() {
    let why = "a\\n, b; \"c\" \\, end\nsecond line";
    let window = Window::once(date(2026, 1, 1).at(0, 0, 0, 0), Length::Days(1), Clock::Utc, why);
    let (back, wrong) = ical::read(&written(&[window]));
    assert_eq!((wrong.len(), back[0].why.as_str()), (0, why));
    let first = date(2026, 1, 1).at(0, 0, 0, 0);
    assert_eq!(
        Rule::parse(" freq=daily ;\n count=3;", first, &TimeZone::UTC).unwrap().to_string(),
        "FREQ=DAILY;COUNT=3"
    );
    let says = Rule::parse("FREQ=DAILY;COUNT=3\r\nSUMMARY:x", first, &TimeZone::UTC)
        .unwrap_err()
        .to_string();
    assert_eq!(says, "RRULE \"FREQ=DAILY;COUNT=3SUMMARY:x\": a line break in it");
}

#[test]
fn a_calendar_with_mistakes_gives_what_is_right_and_says_what_is_not() {
    let event = |lines: &str| format!("BEGIN:VEVENT\r\nUID:x\r\n{lines}\r\nEND:VEVENT\r\n");
    let text = format!(
        "BEGIN:VCALENDAR\r\nVERSION:2.0\r\n{}{}{}{}{}{}END:VCALENDAR\r\n",
        event("SUMMARY:Good\r\nDTSTART:20261122T020000Z\r\nDURATION:PT90M"),
        event("SUMMARY:No end\r\nDTSTART:20261122T020000Z"),
        event("SUMMARY:Odd zone\r\nDTSTART;TZID=Mars/Olympus:20261122T020000\r\nDURATION:PT1H"),
        event(
            "SUMMARY:Too often\r\nDTSTART:20261122T020000Z\r\nDURATION:PT1M\r\nRRULE:FREQ=SECONDLY"
        ),
        event(
            "SUMMARY:Called off\r\nSTATUS:CANCELLED\r\nDTSTART:20261122T020000Z\r\nDURATION:PT1H"
        ),
        event("SUMMARY:Day\r\nDTSTART;VALUE=DATE:20261122"),
    );
    let (windows, wrong) = ical::read(&text);
    let names: Vec<&str> = windows.iter().map(|w| w.why.as_str()).collect();
    assert_eq!(names, ["Good", "Day"]);
    let says: Vec<String> = wrong.iter().map(|w| w.to_string()).collect();
    assert_eq!(
        says,
        [
            "event 2 (No end): no DTEND or DURATION",
            "event 3 (Odd zone): TZID \"Mars/Olympus\" is no zone of the IANA tz database, such as Europe/Oslo",
            "event 4 (Too often): RRULE \"FREQ=SECONDLY\": a window can repeat every hour at the most",
        ]
    );
    assert_eq!(
        ical::read("hello").1[0].to_string(),
        "no iCalendar text: it begins with BEGIN:VCALENDAR and ends with END:VCALENDAR"
    );
}
