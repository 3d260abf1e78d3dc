//! When a report is issued by itself, and which time it is then about.

use crate::calendar::Stretch;
use crate::goal::Period;
use jiff::civil::{Date, DateTime, Time, Weekday};
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp, ToSpan};
use serde::{Deserialize, Serialize};

/// When a report is issued, by the clock of its site.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Schedule {
    /// On which days.
    pub on: On,
    /// At what time of them.
    pub at: Time,
}

/// On which days something is done.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum On {
    /// Each day.
    EachDay,
    /// Each week, on this day of it: 1 for Monday to 7 for Sunday.
    Weekday(i8),
    /// Each month, on this day; on the last one of shorter months.
    DayOfMonth(i8),
    /// In January, April, July and October, on this day.
    DayOfQuarter(i8),
}

/// So many days are looked at at most until the next one: a quarter has 92.
const LOOKED_AT: i32 = 100;

impl Schedule {
    /// As people say it.
    pub fn words(self) -> String {
        let at = self.at.strftime("%H:%M");
        let shorter = |day: i8| match day {
            29.. => ", or the last one of a shorter month",
            _ => "",
        };
        match self.on {
            On::EachDay => format!("each day at {at}"),
            On::Weekday(day) => {
                let name = match Weekday::from_monday_one_offset(day) {
                    Ok(day) => format!("{day:?}"),
                    Err(_) => "Monday".into(),
                };
                format!("each {name} at {at}")
            }
            On::DayOfMonth(day) => {
                format!("each month on day {day}{} at {at}", shorter(day))
            }
            On::DayOfQuarter(day) => {
                format!("in January, April, July and October on day {day}{} at {at}", shorter(day))
            }
        }
    }

    fn is_on(self, date: Date) -> bool {
        let falls = |day: i8| date.day() == day.clamp(1, date.days_in_month());
        match self.on {
            On::EachDay => true,
            On::Weekday(day) => date.weekday().to_monday_one_offset() == day.clamp(1, 7),
            On::DayOfMonth(day) => falls(day),
            On::DayOfQuarter(day) => date.month() % 3 == 1 && falls(day),
        }
    }

    /// The first moment after `after`. A time that a change of clocks skips comes as much later as was skipped; one that it
    /// repeats comes once, the first time.
    pub fn next(self, after: Timestamp, zone: &TimeZone) -> Option<Timestamp> {
        let mut date = after.to_zoned(zone.clone()).date();
        for _ in 0..LOOKED_AT {
            if self.is_on(date) {
                let at = DateTime::from_parts(date, self.at);
                let at = zone.to_ambiguous_zoned(at).compatible().ok()?.timestamp();
                if at > after {
                    return Some(at);
                }
            }
            date = date.checked_add(1.day()).ok()?;
        }
        None
    }
}

/// What the time of an issue is called; whole days by the last of them.
pub fn period_name(period: Period, covers: Stretch, zone: &TimeZone) -> String {
    let last = (covers.to - SignedDuration::from_secs(1)).to_zoned(zone.clone());
    let last = last.strftime("%-d %B %Y");
    match period {
        Period::Days(1) => last.to_string(),
        Period::Days(n) => format!("the {n} days to {last}"),
        _ => period.name(covers, zone),
    }
}

/// The time that an issue made at `at` covers: the last calendar period that was over by then, or the last whole days.
pub fn covered(period: Period, at: Timestamp, zone: &TimeZone) -> Stretch {
    match period {
        Period::Days(_) => {
            let today = at.to_zoned(zone.clone()).start_of_day();
            let midnight = today.map_or(at, |t| t.timestamp());
            period.around(midnight, zone)
        }
        _ => {
            let now = period.around(at, zone);
            period.around(now.from - SignedDuration::from_secs(1), zone)
        }
    }
}
