//! Every parser of the core against what nobody would write. Few cases here; run with
//! `PROPTEST_CASES=1000000 cargo test --release -p cadentis-core --test core fuzz` for many.

use cadentis_core::calendar::window::{Clock, Length, Window};
use cadentis_core::calendar::{Cron, Repeat, Rule, Stretch, ical};
use cadentis_core::journey;
use cadentis_core::run::Har;
use cadentis_core::stats::Sketch;
use cadentis_core::visitor::{Beacon, Column, Filter, filed};
use jiff::civil::date;
use jiff::tz::TimeZone;
use proptest::prelude::*;

fn beacon_received() -> jiff::Timestamp {
    jiff::Timestamp::from_millisecond(1_795_000_004_080).expect("a moment")
}

/// A text that begins right and then goes wrong: pieces of the language in any order.
fn pieces(words: &'static [&'static str]) -> impl Strategy<Value = String> {
    let piece = prop_oneof![
        8 => prop::sample::select(words).prop_map(str::to_string),
        1 => "[0-9]{1,12}",
        1 => "\\PC{0,4}",
    ];
    prop::collection::vec(piece, 0..24).prop_map(|p| p.concat())
}

const SCRIPT: &[&str] = &[
    "script ",
    "step ",
    "open ",
    "press ",
    "type ",
    "into ",
    "expect ",
    "within ",
    "mark ",
    "\"Book\"",
    "\"",
    "button ",
    "link ",
    "field ",
    "text ",
    "\n",
    "  ",
    "4 s",
    "ms",
    "#",
    "http://x.example/",
    "status ",
    "address ",
    "title ",
    "css ",
];
const BEACON: &[&str] = &[
    "{",
    "}",
    "[",
    "]",
    ",",
    ":",
    "\"",
    "\"id\":",
    "\"0192f0c4-0000-7000-8000-000000000001\"",
    "\"seq\":",
    "1",
    "-1",
    "1e999",
    "null",
    "true",
    "\"at\":1795000000000",
    "\"sent\":1795000004000",
    "\"visit\":\"0192f0c4-0000-7000-8000-000000000002\"",
    "\"url\":\"https://a.example/?x#y\"",
    "\"device\":\"phone\"",
    "\"labels\":{\"plan\":\"gold\"}",
    "\"happened\":[{",
    "\"what\":\"request\"",
    "\"name\":\"http://x/?a:1:2\"",
    "\"status\":503",
    "\"ms\":80.5",
    "\"stack\":\"at f (http://x/?q:1:2)\"",
    "\\u0000",
    "\u{1F6A2}",
];
const CRON: &[&str] = &["*", "/", "-", ",", " ", "0", "59", "7", "31", "jan", "sun", "feb-", "*/"];
const ICAL: &[&str] = &[
    "BEGIN:VCALENDAR\r\n",
    "END:VCALENDAR\r\n",
    "BEGIN:VEVENT\r\n",
    "END:VEVENT\r\n",
    "DTSTART",
    ":20261025T023000",
    "Z",
    "\r\n",
    ";TZID=Europe/Oslo",
    ";VALUE=DATE:20261025",
    "DTEND",
    "DURATION:",
    "PT1H",
    "P1W",
    "RRULE:FREQ=",
    "DAILY",
    "MONTHLY",
    ";COUNT=3",
    ";BYDAY=-1SU",
    ";UNTIL=",
    "EXDATE",
    "RDATE",
    "SUMMARY:a\\, b",
    "X-CADENTIS-ENDS:060000",
    " ",
    ":",
    "99999999T999999",
];
const RULE: &[&str] = &[
    "FREQ=",
    "HOURLY",
    "DAILY",
    "WEEKLY",
    "MONTHLY",
    "YEARLY",
    ";",
    "INTERVAL=",
    "COUNT=",
    "UNTIL=20261231T000000Z",
    "BYDAY=",
    "MO",
    "-1SU",
    ",",
    "BYMONTH=",
    "BYMONTHDAY=",
    "BYSETPOS=",
    "BYWEEKNO=",
    "BYYEARDAY=",
    "BYHOUR=",
    "WKST=SU",
    "1",
    "-",
    "366",
    "5",
];
const HAR: &[&str] = &[
    "{\"log\":{",
    "\"entries\":[",
    "{",
    "}",
    "]",
    ",",
    "\"startedDateTime\":\"2026-11-22T08:30:00Z\"",
    "\"request\":{\"url\":\"x\"}",
    "\"response\":{}",
    "\"timings\":{\"wait\":",
    "-1",
    "1e308",
    "null",
    "\"pages\":[",
    "\"id\":\"p\"",
    "\"time\":",
    "\"",
];
const LENGTH: &[&str] =
    &["P", "T", "1", "-", "+", "W", "D", "H", "M", "S", "Y", ".", "9999999999", " "];

proptest! {
    #[test]
    fn no_beacon_makes_the_reader_panic_and_what_it_takes_can_be_filed(body in pieces(BEACON), whole: bool) {
        let body = if whole { format!("{{\"id\":\"0192f0c4-0000-7000-8000-000000000001\",\"seq\":1,\"at\":1795000000000,\"sent\":1795000004000,\"visit\":\"0192f0c4-0000-7000-8000-000000000002\",\"url\":\"https://a.example/\",\"device\":\"phone\",{body}}}") } else { body };
        for beacon in Beacon::read(body.as_bytes()).unwrap_or_default() {
            let at = beacon.at(beacon_received());
            let view = cadentis_core::visitor::PageView {
                at, received_at: at, family: "F".into(), path: beacon.path().into(), ip: [198, 51, 100, 0].into(), country: "NO".into(),
                region: String::new(), city: String::new(), browser: "B".into(), os: "O".into(), person: 0, beacon,
            };
            let hour = at.as_second().div_euclid(3_600) * 3_600;
            let sheet = filed::page_views(hour, std::slice::from_ref(&view)).expect("a sheet");
            prop_assert_eq!(filed::Seen::of(&sheet, 0).map(|s| s.id), Some(view.beacon.id));
            let told = filed::happenings(hour, &[view], |_| true).expect("a sheet");
            prop_assert!((0..told.rows).all(|row| filed::HappeningRow::of(&told, row).is_some()));
        }
    }

    #[test]
    fn no_bytes_and_no_address_make_columns_and_filters_panic(bytes in prop::collection::vec(any::<u8>(), 0..120), text in "\\PC{0,40}") {
        let _ = Column::from_bytes(&bytes);
        let (filter, _) = Filter::parse([text.as_str(), &format!("device:{text}"), &format!("label.{text}")]);
        let texts = filter.texts();
        prop_assert_eq!(Filter::parse(texts.iter().map(String::as_str)).0, filter);
    }

    #[test]
    fn a_script_is_read_or_refused(text in pieces(SCRIPT)) {
        if let Ok(journey) = journey::parse(&text) {
            prop_assert_eq!(journey::parse(&journey.to_string()), Ok(journey));
        }
    }

    #[test]
    fn a_cron_line_is_read_or_refused(text in pieces(CRON)) {
        if let Ok(cron) = text.parse::<Cron>() {
            prop_assert_eq!(cron.to_string().parse::<Cron>(), Ok(cron));
        }
    }

    #[test]
    fn a_calendar_is_read_or_refused(text in pieces(ICAL)) {
        let (windows, _) = ical::read(&text);
        for w in windows {
            prop_assert!(w.check().is_ok());
        }
    }

    #[test]
    fn an_archive_is_read_or_refused(text in pieces(HAR)) {
        if let Ok(har) = Har::read(&text) {
            prop_assert!(Har::read(&har.write()).is_ok());
        }
    }

    #[test]
    fn a_length_is_read_or_refused(text in pieces(LENGTH)) {
        let window = ical::length_of(&text).map(|length| Window::once(date(2026, 1, 1).at(0, 0, 0, 0), length, Clock::Utc, ""));
        prop_assert!(window.is_none_or(|w| !matches!(w.length, Length::Exact(d) if !d.is_positive())));
    }

    #[test]
    fn a_sketchs_bytes_are_read_or_refused(bytes in prop::collection::vec(any::<u8>(), 0..40)) {
        let _ = Sketch::from_bytes(&[&[1], &bytes[..]].concat());
    }
}

proptest! {
    // A rule that can be read is expanded too, and that takes its time.
    #![proptest_config(ProptestConfig { cases: ProptestConfig::default().cases / 4, ..ProptestConfig::default() })]

    #[test]
    fn a_recurrence_rule_is_read_and_expanded_or_refused(text in pieces(RULE)) {
        let first = date(2026, 1, 31).at(2, 30, 0, 0);
        if let Ok(rule) = Rule::parse(&text, first, &TimeZone::UTC) {
            let window = Window::once(first, Length::Days(1), Clock::Utc, "").repeating(Repeat::Rule(rule));
            let year = Stretch { from: "2026-06-01T00:00:00Z".parse().unwrap(), to: "2026-09-01T00:00:00Z".parse().unwrap() };
            prop_assert!(window.cover(year, &TimeZone::UTC).stretches().windows(2).all(|w| w[0].to < w[1].from));
        }
    }
}
