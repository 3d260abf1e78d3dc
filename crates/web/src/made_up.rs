//! What alerts and reports can say, made up for tests of what shows and reads them: forms of people and shapes of programs.

use cadentis_answers::kept::{Report, Site};
use cadentis_core::alert::{Definition as Alert, NoData, Rule};
use cadentis_core::goal::Period;
use cadentis_core::goal::definition::ServiceHours;
use cadentis_core::measure::{Measured, Unit};
use cadentis_core::report::schedule::On;
use cadentis_core::report::{Definition, Kind, Schedule};
use cadentis_core::visitor::Families;
use jiff::civil::time;
use jiff::tz::TimeZone;
use proptest::prelude::*;

const MEASURES: [&str; 7] = [
    "p75 of LCP for family \"Sailings list\" and device \"phone\"",
    "availability for journey \"book-a-crossing\"",
    "share of requests failed",
    "count of errors",
    "p95 of bytes per run",
    "state for dependency \"payments\"",
    "burn rate over 1 h and 5 min for goal \"Bookable\"",
];

/// Levels that the unit of this measure can have, the worse one last.
fn levels(measured: &Measured, a: f64, b: f64) -> (f64, f64) {
    let (a, b) = match measured.measure.unit() {
        Unit::State => (0.0, 1.0),
        // As many decimals as anybody types.
        Unit::Share => (a.round() / 100.0 / 100.0, b.round() / 100.0 / 100.0),
        Unit::Count => (a.round(), b.round()),
        _ => (a, b),
    };
    let worse = measured.measure.worse();
    if worse.is_beyond(b, a) { (a, b) } else { (b, a) }
}

/// A site as it begins, with one domain.
pub fn site() -> Site {
    Site {
        id: 1,
        key: "key".into(),
        slug: "marram-ferries".into(),
        name: "Marram Ferries".into(),
        zone: TimeZone::get("Europe/Oslo").expect("a zone"),
        domains: vec!["marram.example".into()],
        families: Families::new(Vec::<(String, String)>::new()),
        apdex_t_s: 1.5,
        family_t: Default::default(),
        parts: String::new(),
        environments: Vec::new(),
        keep_days: 14,
        keep_failed_days: 90,
        trace_link: String::new(),
        keep_people_days: 30,
        collecting: Default::default(),
        patterns: Vec::new(),
        archived_at: None,
        team_id: None,
    }
}

prop_compose! {
    /// Hours of some days, over midnight or not; none of no day.
    pub fn hours()(days in prop::array::uniform7(any::<bool>()), from in 0i8..24, until in 0i8..24) -> Option<ServiceHours> {
        let hours = ServiceHours { days, from: time(from, 30, 0, 0), until: time(until, 15, 0, 0) };
        days.contains(&true).then_some(hours)
    }
}

prop_compose! {
    /// What an alert says; not each of them can be watched.
    pub fn alerts()(
        measure in prop::sample::select(MEASURES.to_vec()),
        rule in 0..3u8,
        (low, high) in (1.0..5_000.0f64, 5_001.0..10_000.0f64),
        clears in any::<bool>(),
        window in 1i64..1_440,
        every in 1i64..60,
        running in 1u32..10,
        least_samples in 0u64..1_000,
        no_data in prop::sample::select(NoData::ALL.to_vec()),
        service_hours in hours(),
    ) -> Alert {
        let measured: Measured = measure.parse().expect("a measure");
        let (least, most) = levels(&measured, low, high);
        let rule = match rule {
            0 => Rule::Level { warning: Some(least), critical: Some(most), clear: clears.then_some(least) },
            1 => Rule::Unusual { warning: None, critical: Some(3.5), clear: clears.then_some(1.0) },
            _ => Rule::Burns,
        };
        Alert {
            measured, rule, running, least_samples, no_data, service_hours,
            window_s: window.max(every) * 60, every_s: every * 60, least_places: 0,
        }
    }
}

prop_compose! {
    fn schedules()(on in 0..4u8, day in 1i8..8, hour in 0i8..24, minute in 0i8..60) -> Schedule {
        let on = match on {
            0 => On::EachDay,
            1 => On::Weekday(day),
            2 => On::DayOfMonth(day * 4),
            _ => On::DayOfQuarter(day * 4),
        };
        Schedule { on, at: time(hour, minute, 0, 0) }
    }
}

prop_compose! {
    /// A report, whatever it is about.
    pub fn reports()(
        kind in prop::sample::select(Kind::ALL.to_vec()),
        period in prop::sample::select(vec![Period::Week, Period::Month, Period::Quarter, Period::Days(1), Period::Days(366)]),
        [goals, journeys, locations] in prop::array::uniform3(prop::collection::vec(1..99i32, 0..4)),
        [filter, query] in prop::array::uniform2(prop::sample::select(vec!["", "device \"phone\"", "count of errors by error"])),
        (view, list_id) in (prop::option::of(1..99i32), prop::option::of(1..9i32)),
        schedule in prop::option::of(schedules()),
        hours in hours(),
        version in 1..50i32,
    ) -> Report {
        let (filter, query) = (filter.to_string(), query.to_string());
        let definition = Definition { kind, period, goals, journeys, locations, hours, filter, query, view, schedule };
        Report {
            id: 1, site_id: 1, name: "Service levels".into(), definition, version, list_id,
            author: "Ada".into(), ended_at: None, next_at: None,
        }
    }
}
