//! The window over which a goal is kept, and which of its time counts.

use crate::calendar::{Cover, Stretch, Window};
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};

/// Over what something is promised.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Period {
    /// The calendar month in the goal's zone.
    Month,
    /// Three calendar months, from January, April, July or October, in the goal's zone.
    Quarter,
    /// The calendar week, from Monday, in the goal's zone.
    Week,
    /// The last so many days, by the goal's wall clock.
    Days(u16),
}

impl Period {
    /// In one word.
    pub fn word(self) -> &'static str {
        match self {
            Period::Month => "month",
            Period::Quarter => "quarter",
            Period::Week => "week",
            Period::Days(_) => "rolling",
        }
    }

    /// As people say it.
    pub fn words(self) -> String {
        match self {
            Period::Month => "each calendar month".into(),
            Period::Quarter => "each quarter of a year".into(),
            Period::Week => "each week, from Monday".into(),
            Period::Days(1) => "the last day".into(),
            Period::Days(n) => format!("the last {n} days"),
        }
    }

    /// What a window of this kind is called.
    pub fn name(self, window: Stretch, zone: &TimeZone) -> String {
        let at = |t: Timestamp| t.to_zoned(zone.clone());
        let last = window.to - SignedDuration::from_secs(1);
        match self {
            Period::Month => at(window.from).strftime("%B %Y").to_string(),
            Period::Quarter => {
                format!("{} to {}", at(window.from).strftime("%B"), at(last).strftime("%B %Y"))
            }
            Period::Week => format!("the week from {}", at(window.from).strftime("%-d %B %Y")),
            Period::Days(n) => {
                let days = if n == 1 { "the day".into() } else { format!("{n} days") };
                format!("{days} up to {}", at(window.to).strftime("%-d %B %Y %H:%M"))
            }
        }
    }

    /// The window that `at` is judged in. A rolling one ends at `at`; calendar ones may reach
    /// beyond it.
    pub fn around(self, at: Timestamp, zone: &TimeZone) -> Stretch {
        match self {
            Period::Month => Stretch::month_of(at, zone),
            Period::Quarter => Stretch::quarter_of(at, zone),
            Period::Week => Stretch::week_of(at, zone),
            Period::Days(n) => Stretch::days_before(at, n, zone),
        }
    }
}

/// The time of a stretch that counts: within service hours (all of it where there are none), less
/// everything left out. `zone` is the site's, for windows in "each location's own time".
pub fn counted(
    stretch: Stretch,
    service_hours: &[Window],
    left_out: &Cover,
    zone: &TimeZone,
) -> Cover {
    let open = if service_hours.is_empty() {
        Cover::from(stretch)
    } else {
        service_hours.iter().fold(Cover::default(), |open, w| open.or(&w.cover(stretch, zone)))
    };
    open.without(left_out)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::calendar::{Clock, Length, Repeat};
    use jiff::civil::{Weekday, date, time};

    #[test]
    fn service_hours_of_a_month_with_a_clock_change_are_counted_to_the_second() {
        // Weekdays 06–22 in Oslo; October 2026 has 22 of them, clocks change on a Sunday night.
        let oslo = TimeZone::get("Europe/Oslo").unwrap();
        use Weekday::*;
        let hours = Window::once(
            date(2020, 1, 1).at(6, 0, 0, 0),
            Length::UntilTime(time(22, 0, 0, 0)),
            Clock::Zone(oslo.clone()),
            "",
        )
        .repeating(Repeat::Weekly(vec![Monday, Tuesday, Wednesday, Thursday, Friday]));
        let month = Period::Month.around("2026-10-20T12:00:00Z".parse().unwrap(), &oslo);
        let open = counted(month, std::slice::from_ref(&hours), &Cover::default(), &oslo);
        assert_eq!(open.ms(), 22.0 * 16.0 * 3_600_000.0);
        // Maintenance half inside and half outside the service hours takes out its inside only.
        let upgrade = Stretch {
            from: "2026-10-20T19:00:00Z".parse().unwrap(),
            to: "2026-10-20T21:00:00Z".parse().unwrap(),
        };
        let less = counted(month, &[hours], &Cover::from(upgrade), &oslo);
        assert_eq!(open.ms() - less.ms(), 3_600_000.0);
        // Around the clock the change itself counts: an hour more.
        assert_eq!(
            counted(month, &[], &Cover::default(), &oslo).ms(),
            (31.0 * 24.0 + 1.0) * 3_600_000.0
        );
    }

    #[test]
    fn a_week_a_month_and_a_rolling_window_hold_the_moment_they_judge() {
        let oslo = TimeZone::get("Europe/Oslo").unwrap();
        let at = "2026-11-22T23:30:00Z".parse().unwrap();
        // In Oslo it is already Monday.
        assert_eq!(Period::Week.around(at, &oslo).from, "2026-11-22T23:00:00Z".parse().unwrap());
        assert!(Period::Month.around(at, &oslo).contains(at));
        assert_eq!(Period::Days(7).around(at, &oslo).to, at);
    }
}
