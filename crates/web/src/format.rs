//! Numbers as people read them. Rounding that could flatter lives in the core.

use cadentis_core::calendar::stretch::length_text;
use cadentis_core::calendar::{Length, Stretch, Window};
use cadentis_core::stats::Reading;
use cadentis_core::timing::Vital;
use jiff::civil::Time;
use jiff::{Timestamp, tz::TimeZone};

pub use cadentis_core::calendar::stretch::day_clock;
pub use cadentis_core::stats::share::{NO_DATA, percent};

/// Milliseconds as seconds with two places.
pub fn seconds(ms: f64) -> String {
    format!("{:.2}", ms / 1000.0)
}

/// A reading in milliseconds as seconds with its unit; `*` marks fewer samples than an interval
/// needs.
pub fn reading_s(r: &Reading) -> String {
    match r.value {
        None => NO_DATA.into(),
        Some(v) => format!("{} s{}", seconds(v), if r.is_small() { "*" } else { "" }),
    }
}

/// The interval of a reading in milliseconds, in seconds.
pub fn interval_s(r: &Reading) -> String {
    r.interval.map_or_else(String::new, |i| format!("{}–{} s", seconds(i.low), seconds(i.high)))
}

pub fn vital(v: Vital, r: &Reading) -> String {
    match r.value {
        None => NO_DATA.into(),
        Some(value) => format!("{}{}", v.text(value), if r.is_small() { "*" } else { "" }),
    }
}

/// Whole numbers in groups of three.
pub use cadentis_core::stats::proof::counted as thousands;

pub fn clock(at: Timestamp, zone: &TimeZone) -> String {
    at.to_zoned(zone.clone()).strftime("%H:%M").to_string()
}

/// The times of a window as they were typed.
pub fn window_text(window: &Window) -> String {
    let clock = |t: Time| t.strftime("%H:%M").to_string();
    let from = clock(window.first.time());
    match window.length {
        Length::UntilTime(end) if end > window.first.time() => format!("{from}–{}", clock(end)),
        Length::UntilTime(end) => format!("{from}–{} the next day", clock(end)),
        Length::Days(1) => "all day".into(),
        Length::Days(n) => format!("{n} whole days"),
        Length::Exact(length) => {
            format!("from {from} for {}", length_text(length.as_millis() as f64))
        }
    }
}

/// An occurrence on a clock: the second day is said only where it is another.
pub fn occurrence_text(at: &Stretch, zone: &TimeZone) -> String {
    let (from, to) = (at.from.to_zoned(zone.clone()), at.to.to_zoned(zone.clone()));
    let end = if from.date() == to.date() { "%H:%M" } else { "%a %H:%M" };
    format!("{} – {}", from.strftime("%a %-d %b %H:%M"), to.strftime(end))
}

/// A number with its sign, which it keeps only if something is left of it at so many decimals.
pub fn signed(value: f64, decimals: usize) -> String {
    let size = format!("{:.decimals$}", value.abs());
    let sign = match size.bytes().all(|b| matches!(b, b'0' | b'.')) {
        true => "",
        false if value < 0.0 => "−",
        false => "+",
    };
    format!("{sign}{size}")
}

/// A difference in milliseconds as signed seconds.
pub fn difference_s(ms: f64) -> String {
    signed(ms / 1000.0, 2)
}

/// Cells of a row of a chart's table, as its parts carry them.
pub fn cells(cells: &[String]) -> String {
    serde_json::to_string(cells).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;
    use cadentis_core::stats::Samples;
    use proptest::prelude::*;

    #[test]
    fn nothing_is_printed_as_no_data_and_few_samples_carry_a_mark() {
        assert_eq!(reading_s(&Reading::NONE), "no data");
        assert_eq!(percent(None, 2, None), "no data");
        assert_eq!(reading_s(&Samples::new([1_234.0]).reading(0.75)), "1.23 s*");
        let many = Samples::new((0..100).map(f64::from)).reading(0.75);
        assert_eq!(reading_s(&many), "0.07 s");
        assert!(!interval_s(&many).is_empty());
    }

    #[test]
    fn thousands_are_grouped_and_differences_signed() {
        for (n, want) in [(0, "0"), (999, "999"), (1_000, "1,000"), (1_697_159, "1,697,159")] {
            assert_eq!(thousands(n), want);
        }
        assert_eq!(
            (difference_s(910.0).as_str(), difference_s(-40.0).as_str()),
            ("+0.91", "−0.04")
        );
    }

    #[test]
    fn what_rounds_to_nothing_has_no_sign() {
        for nothing in [0.0, -0.0, 4.9, -4.9, -0.001] {
            assert_eq!(difference_s(nothing), "0.00", "{nothing}");
        }
        assert_eq!(difference_s(-5.1), "−0.01");
        assert_eq!([signed(-0.04, 1), signed(0.05, 0), signed(-0.5004, 3)], ["0.0", "0", "−0.500"]);
    }

    proptest! {
        #[test]
        fn a_signed_number_reads_back_as_what_it_rounds_to(value in -1e6..1e6f64, decimals in 0..5usize) {
            let text = signed(value, decimals);
            let read: f64 = text.replace('−', "-").parse().unwrap();
            prop_assert!((read - value).abs() <= 0.5000001 * 10f64.powi(-(decimals as i32)), "{} for {}", text, value);
            prop_assert_eq!(text.starts_with(['+', '−']), read != 0.0);
        }

        #[test]
        fn a_share_is_never_said_to_be_whole_or_to_keep_a_goal_that_it_misses(parts in 0..100_000u32, whole in 1..100_000u32, goal in 0.5..0.9999f64) {
            let share = f64::from(parts.min(whole)) / f64::from(whole);
            for decimals in 0..4 {
                let text = percent(Some(share), decimals, Some(goal));
                let number = text.trim_end_matches(" %");
                if let Some(least) = number.strip_prefix('<') {
                    prop_assert!(share > 0.0 && share * 100.0 < least.parse().unwrap(), "{} for {}", text, share);
                    continue;
                }
                let read: f64 = number.parse().unwrap();
                prop_assert_eq!(read >= 100.0, share >= 1.0, "{} for {}", text, share);
                prop_assert!(share >= goal || read < goal * 100.0 + 1e-9, "{} of {}", text, goal);
            }
        }
    }

    #[test]
    fn a_window_says_its_times_as_they_were_typed() {
        use cadentis_core::calendar::{Clock, Repeat};
        use jiff::SignedDuration;
        use jiff::civil::{date, time};
        let from = date(2026, 11, 22).at(22, 30, 0, 0);
        let of = |length| {
            let clock = Clock::Zone(TimeZone::UTC);
            window_text(&Window::once(from, length, clock, "works").repeating(Repeat::Daily))
        };
        assert_eq!(of(Length::UntilTime(time(23, 45, 0, 0))), "22:30–23:45");
        assert_eq!(of(Length::UntilTime(time(4, 0, 0, 0))), "22:30–04:00 the next day");
        assert_eq!(of(Length::UntilTime(time(22, 30, 0, 0))), "22:30–22:30 the next day");
        assert_eq!(of(Length::Days(1)), "all day");
        assert_eq!(of(Length::Days(3)), "3 whole days");
        let exact = of(Length::Exact(SignedDuration::from_mins(90)));
        assert_eq!(exact, "from 22:30 for 1 h 30 min");
    }

    #[test]
    fn an_occurrence_names_its_second_day_where_that_is_another_on_the_clock_it_is_told_by() {
        let at = |text: &str| text.parse::<Timestamp>().unwrap();
        let night = Stretch { from: at("2026-11-22T21:00Z"), to: at("2026-11-22T23:30Z") };
        assert_eq!(occurrence_text(&night, &TimeZone::UTC), "Sun 22 Nov 21:00 – 23:30");
        let oslo = TimeZone::get("Europe/Oslo").unwrap();
        assert_eq!(occurrence_text(&night, &oslo), "Sun 22 Nov 22:00 – Mon 00:30");
    }

    #[test]
    fn cells_of_a_chart_are_read_back_by_scripts_whatever_they_hold() {
        let said = ["a \"b\"".to_string(), "</svg>".to_string(), String::new()];
        let read: Vec<String> = serde_json::from_str(&cells(&said)).unwrap();
        assert_eq!(read, said);
    }
}
