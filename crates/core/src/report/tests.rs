//! Schedules over changes of clocks and short months, and what differs between documents.

use super::document::checksum;
use super::schedule::On;
use super::*;
use crate::goal::Period;
use jiff::Timestamp;
use jiff::civil::time;
use jiff::tz::TimeZone;
use proptest::prelude::*;

fn oslo() -> TimeZone {
    TimeZone::get("Europe/Oslo").expect("a zone")
}

fn at(text: &str) -> Timestamp {
    text.parse().expect("a moment")
}

fn issued(on: On, clock: (i8, i8), after: &str, times: usize) -> Vec<String> {
    let schedule = Schedule { on, at: time(clock.0, clock.1, 0, 0) };
    let mut after = at(after);
    let mut all = Vec::new();
    for _ in 0..times {
        after = schedule.next(after, &oslo()).expect("a next one");
        all.push(after.to_zoned(oslo()).strftime("%Y-%m-%d %H:%M").to_string());
    }
    all
}

#[test]
fn the_31st_of_a_shorter_month_is_its_last_day() {
    let got = issued(On::DayOfMonth(31), (6, 0), "2027-01-01T00:00:00Z", 4);
    assert_eq!(
        got,
        ["2027-01-31 06:00", "2027-02-28 06:00", "2027-03-31 06:00", "2027-04-30 06:00"]
    );
    let got = issued(On::DayOfMonth(30), (6, 0), "2028-02-01T00:00:00Z", 1);
    assert_eq!(got, ["2028-02-29 06:00"], "a leap year has a day more");
}

#[test]
fn an_hour_that_clocks_skip_comes_later_and_one_that_they_repeat_comes_once() {
    // In Oslo clocks go from 02:00 to 03:00 on 28 March 2027 and from 03:00 back to 02:00 on 31 October 2027.
    let got = issued(On::EachDay, (2, 30), "2027-03-27T12:00:00Z", 2);
    assert_eq!(got, ["2027-03-28 03:30", "2027-03-29 02:30"]);
    let schedule = Schedule { on: On::EachDay, at: time(2, 30, 0, 0) };
    let first = schedule.next(at("2027-10-30T12:00:00Z"), &oslo()).expect("a next one");
    assert_eq!(first, at("2027-10-31T00:30:00Z"), "before clocks went back");
    assert_eq!(schedule.next(first, &oslo()), Some(at("2027-11-01T01:30:00Z")));
}

#[test]
fn weeks_and_quarters_come_on_their_days() {
    let got = issued(On::Weekday(1), (7, 15), "2026-11-28T10:00:00Z", 2);
    assert_eq!(got, ["2026-11-30 07:15", "2026-12-07 07:15"]);
    let got = issued(On::DayOfQuarter(2), (7, 15), "2026-11-28T10:00:00Z", 2);
    assert_eq!(got, ["2027-01-02 07:15", "2027-04-02 07:15"]);
}

#[test]
fn an_issue_covers_the_last_period_that_is_over() {
    let month = covered(Period::Month, at("2026-11-03T05:00:00Z"), &oslo());
    assert_eq!((month.from, month.to), (at("2026-09-30T22:00:00Z"), at("2026-10-31T23:00:00Z")));
    assert_eq!(month.seconds(), 745 * 3_600, "clocks went back in it");
    let week = covered(Period::Week, at("2026-11-28T10:00:00Z"), &oslo());
    assert_eq!((week.from, week.to), (at("2026-11-15T23:00:00Z"), at("2026-11-22T23:00:00Z")));
    let days = covered(Period::Days(2), at("2026-11-28T10:00:00Z"), &oslo());
    assert_eq!((days.from, days.to), (at("2026-11-25T23:00:00Z"), at("2026-11-27T23:00:00Z")));
}

fn document(value: &str) -> Document {
    let mut table = Table::of(&["Location", "#availability"]);
    table.row(vec![Cell::text("Bergen"), Cell::number(value, None)]);
    table.row(vec![Cell::text("Halifax"), Cell::number("99.90 %", Some(0.999))]);
    Document {
        facts: vec![("Promise".into(), "99.50 %".into())],
        figures: vec![Figure {
            text: value.into(),
            label: "availability".into(),
            ..Figure::default()
        }],
        sections: vec![Section::table("By location", table)],
        ..Document::default()
    }
}

#[test]
fn each_figure_that_says_something_else_is_told_with_what_it_said() {
    let change = |what: &str, before: &str, now: &str| Change {
        what: what.into(),
        before: before.into(),
        now: now.into(),
    };
    let (before, mut now) = (document("99.73 %"), document("99.74 %"));
    if let Some(Section { body: Body::Table(table), .. }) = now.sections.first_mut() {
        table.rows[1][0] = Cell::text("Nairobi");
    }
    assert_eq!(
        changes(&before, &now),
        [
            change("availability", "99.73 %", "99.74 %"),
            change("By location, Bergen: availability", "99.73 %", "99.74 %"),
            change("By location, Nairobi: availability", "", "99.90 %"),
            change("By location, Halifax: availability", "99.90 %", ""),
        ]
    );
}

#[test]
fn a_checksum_is_that_of_the_standard() {
    // FIPS 180-4, the example "abc" of NIST's example values for SHA-256.
    assert_eq!(checksum("abc"), "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad");
}

proptest! {
    #[test]
    fn a_document_reads_back_as_it_was_kept_and_differs_from_itself_in_nothing(
        texts in prop::collection::vec("\\PC{0,12}", 1..12), value in prop::option::of(-1e12..1e12f64),
    ) {
        let mut kept = document("1");
        let mut table = Table::of(&["name", "#value"]);
        for text in &texts {
            table.row(vec![Cell::text(text.clone()), Cell::number(text.clone(), value)]);
        }
        kept.sections.push(Section::table("More", table));
        let text = serde_json::to_string(&kept).expect("written");
        let read: Document = serde_json::from_str(&text).expect("read");
        prop_assert_eq!(&read, &kept);
        prop_assert_eq!(serde_json::to_string(&read).expect("written"), text);
        prop_assert!(changes(&kept, &read).is_empty());
    }

    #[test]
    fn a_schedule_never_goes_back_and_leaves_no_period_out(
        day in 1i8..=31, hour in 0i8..24, minute in 0i8..60, start in 1_700_000_000i64..1_900_000_000,
    ) {
        let schedule = Schedule { on: On::DayOfMonth(day), at: time(hour, minute, 0, 0) };
        let mut after = Timestamp::from_second(start).expect("a moment");
        let mut last: Option<crate::calendar::Stretch> = None;
        for _ in 0..14 {
            let next = schedule.next(after, &oslo()).expect("a next one");
            prop_assert!(next > after);
            let covers = covered(Period::Month, next, &oslo());
            prop_assert!(covers.to <= next, "it is over");
            if let Some(last) = last {
                prop_assert_eq!(last.to, covers.from);
            }
            (after, last) = (next, Some(covers));
        }
    }
}

#[test]
fn a_filter_narrows_page_views_and_says_where_it_is_none() {
    let of = |text: &str| super::narrowed(text).map(|scope| scope.to_string());
    assert_eq!(of("  "), Ok(String::new()));
    let two = "device \"phone\" and country \"NO\" or \"SE\"";
    assert_eq!(of(two), Ok(two.to_string()), "as it is printed it is read again");
    let wrong = |text: &str| super::narrowed(text).unwrap_err();
    assert_eq!(wrong("devise \"phone\"").column, 1, "columns are those of what was typed");
    assert_eq!(wrong("device \"phone\" and planet \"Mars\"").column, 20);
    assert!(wrong("journey \"book-a-crossing\"").says.contains("cannot be narrowed"));
    assert!(super::narrowed("device \"phone").is_err(), "never closed");
}
