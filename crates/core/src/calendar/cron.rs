//! A cron line: minute, hour, day of the month, month, day of the week.
//!
//! Source: POSIX, crontab; with both days restricted, either is enough. Names, ranges, lists and
//! steps (`*/15`, `9-17/2`) as most programs that read cron lines have them (common practice).

use super::Stretch;
use jiff::civil::{Date, DateTime, Time, Weekday};
use jiff::tz::{AmbiguousOffset, TimeZone};
use jiff::{Timestamp, ToSpan};
use std::fmt;
use std::str::FromStr;

/// A line of five fields, as cron has them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Cron {
    text: String,
    minutes: u64,
    hours: u64,
    days: u64,
    months: u64,
    weekdays: u64,
    every_hour: bool,
    any_day: bool,
    any_weekday: bool,
}

/// What is wrong with a cron line, and where.
#[derive(Debug, Clone, thiserror::Error, PartialEq, Eq)]
#[expect(missing_docs, reason = "each says what it is when it is told")]
pub enum CronError {
    #[error(
        "{0} fields: a cron line has five: minute, hour, day of the month, month, day of the week"
    )]
    Fields(usize),
    #[error(
        "{field}: {what:?} is not a number from {from} to {to}{names}, a range such as {from}-{to}, or a step such as */2"
    )]
    Value { field: &'static str, what: String, from: u32, to: u32, names: &'static str },
    #[error("{field}: the range {what:?} runs backwards")]
    Backwards { field: &'static str, what: String },
    #[error("{field}: a step of 0 in {what:?} never moves on")]
    NoStep { field: &'static str, what: String },
    #[error("no year has such a day: {0}")]
    Never(String),
}

const MONTHS: [&str; 12] =
    ["jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec"];
const DAYS: [&str; 7] = ["sun", "mon", "tue", "wed", "thu", "fri", "sat"];

struct Field {
    name: &'static str,
    from: u32,
    to: u32,
    names: &'static [&'static str],
}

const FIELDS: [Field; 5] = [
    Field { name: "minute", from: 0, to: 59, names: &[] },
    Field { name: "hour", from: 0, to: 23, names: &[] },
    Field { name: "day of the month", from: 1, to: 31, names: &[] },
    Field { name: "month", from: 1, to: 12, names: &MONTHS },
    // 7 is Sunday too.
    Field { name: "day of the week", from: 0, to: 7, names: &DAYS },
];

impl Field {
    fn wrong(&self, what: &str) -> CronError {
        CronError::Value {
            field: self.name,
            what: what.chars().take(40).collect(),
            from: self.from,
            to: self.to,
            names: if self.names.is_empty() { "" } else { ", a name of three letters" },
        }
    }

    fn value(&self, text: &str) -> Result<u32, CronError> {
        if let Some(nth) = self.names.iter().position(|n| n.eq_ignore_ascii_case(text)) {
            return Ok(nth as u32 + if self.from == 1 { 1 } else { 0 });
        }
        let digits =
            !text.is_empty() && text.len() <= 3 && text.bytes().all(|b| b.is_ascii_digit());
        text.parse()
            .ok()
            .filter(|v| digits && (self.from..=self.to).contains(v))
            .ok_or_else(|| self.wrong(text))
    }

    /// The set of values that the field names, as bits.
    fn read(&self, text: &str) -> Result<u64, CronError> {
        let mut bits = 0u64;
        for part in text.split(',') {
            let (range, step) = match part.split_once('/') {
                None => (part, None),
                Some((range, step)) => (
                    range,
                    Some(
                        step.parse::<u32>()
                            .ok()
                            .filter(|_| step.len() <= 3)
                            .ok_or_else(|| self.wrong(part))?,
                    ),
                ),
            };
            let (from, to) = match range.split_once('-') {
                _ if range == "*" => (self.from, self.to),
                Some((a, b)) => (self.value(a)?, self.value(b)?),
                // "5/10" runs from 5 to the end.
                None => {
                    (self.value(range)?, if step.is_some() { self.to } else { self.value(range)? })
                }
            };
            let short = || part.chars().take(40).collect();
            if from > to {
                return Err(CronError::Backwards { field: self.name, what: short() });
            }
            match step.unwrap_or(1) {
                0 => return Err(CronError::NoStep { field: self.name, what: short() }),
                step => (from..=to).step_by(step as usize).for_each(|v| bits |= 1 << v),
            }
        }
        Ok(bits)
    }
}

impl FromStr for Cron {
    type Err = CronError;

    fn from_str(text: &str) -> Result<Cron, CronError> {
        let fields: Vec<&str> = text.split_ascii_whitespace().collect();
        let [minute, hour, day, month, weekday] = fields[..] else {
            return Err(CronError::Fields(fields.len()));
        };
        let read = |nth: usize, text: &str| FIELDS[nth].read(text);
        let weekdays = read(4, weekday)?;
        let cron = Cron {
            text: fields.join(" "),
            minutes: read(0, minute)?,
            hours: read(1, hour)?,
            days: read(2, day)?,
            months: read(3, month)?,
            weekdays: (weekdays | weekdays >> 7) & 0x7f,
            every_hour: hour == "*",
            any_day: day.starts_with('*'),
            any_weekday: weekday.starts_with('*'),
        };
        // Four years and a leap day more than hold every day that any year has; a century's missing
        // leap day does not matter for whether there is one at all.
        let day = jiff::civil::date(2024, 1, 1);
        if !day.series(1.day()).take(4 * 366).any(|d| cron.is_on(d)) {
            return Err(CronError::Never(cron.text));
        }
        Ok(cron)
    }
}

impl fmt::Display for Cron {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

impl Cron {
    fn is_on(&self, date: Date) -> bool {
        let day = self.days >> date.day() & 1 == 1;
        let weekday = self.weekdays >> date.weekday().since(Weekday::Sunday) & 1 == 1;
        let of_days = match (self.any_day, self.any_weekday) {
            (false, false) => day || weekday,
            _ => day && weekday,
        };
        self.months >> date.month() & 1 == 1 && of_days
    }

    /// The moments of one day, in order.
    ///
    /// When clocks jump ahead, a time that is skipped comes at the first moment after the jump;
    /// when they are set back, a time that comes twice is taken once, the first time. A line for
    /// every hour follows the clock through both, so that no hour goes without.
    fn on(&self, date: Date, zone: &TimeZone) -> Vec<Timestamp> {
        let mut moments = Vec::new();
        let set = |bits: u64| (0..60).filter(move |v| bits >> v & 1 == 1);
        for hour in set(self.hours) {
            for minute in set(self.minutes) {
                let at = DateTime::from_parts(date, Time::constant(hour as i8, minute as i8, 0, 0));
                let ambiguous = zone.to_ambiguous_timestamp(at);
                match ambiguous.offset() {
                    AmbiguousOffset::Unambiguous { .. } => moments.extend(ambiguous.compatible()),
                    AmbiguousOffset::Fold { .. } => {
                        moments.extend(ambiguous.earlier());
                        if self.every_hour {
                            moments.extend(ambiguous.later());
                        }
                    }
                    AmbiguousOffset::Gap { .. } if self.every_hour => {}
                    AmbiguousOffset::Gap { .. } => {
                        // Read by the offset after the jump, the time lies before it.
                        let jump = ambiguous
                            .earlier()
                            .ok()
                            .and_then(|before| zone.following(before).next());
                        moments.extend(jump.map(|t| t.timestamp()));
                    }
                }
            }
        }
        moments.sort_unstable();
        moments.dedup();
        moments
    }

    /// All moments in the stretch, by the clock of a zone.
    pub fn due<'a>(
        &'a self,
        stretch: Stretch,
        zone: &'a TimeZone,
    ) -> impl Iterator<Item = Timestamp> + 'a {
        let first = stretch.from.to_zoned(zone.clone()).date();
        let last = stretch.to.to_zoned(zone.clone()).date();
        first
            .series(1.day())
            .take_while(move |d| *d <= last)
            .filter(|d| self.is_on(*d))
            .flat_map(|d| self.on(d, zone))
            .filter(move |at| stretch.contains(*at))
    }

    /// The last moment at or before `at`.
    pub fn last_due(&self, at: Timestamp, zone: &TimeZone) -> Option<Timestamp> {
        let mut day = at.to_zoned(zone.clone()).date();
        // 29 February of a leap year may be eight years away, over the end of a century.
        for _ in 0..9 * 366 {
            if self.is_on(day)
                && let Some(last) = self.on(day, zone).into_iter().rev().find(|due| *due <= at)
            {
                return Some(last);
            }
            day = day.yesterday().ok()?;
        }
        None
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn due(line: &str, from: &str, to: &str, zone: &str) -> Vec<String> {
        let stretch = Stretch { from: from.parse().unwrap(), to: to.parse().unwrap() };
        let cron: Cron = line.parse().unwrap();
        let zone = TimeZone::get(zone).unwrap();
        cron.due(stretch, &zone).map(|t| t.to_string()).collect()
    }

    #[test]
    fn with_both_days_restricted_either_is_enough() {
        // POSIX crontab: "0 0 1,15 * 1" runs on the first and fifteenth and on every Monday.
        assert_eq!(
            due("0 0 1,15 * 1", "2026-06-01T00:00:00Z", "2026-06-16T00:00:00Z", "UTC"),
            ["2026-06-01T00:00:00Z", "2026-06-08T00:00:00Z", "2026-06-15T00:00:00Z"]
        );
        assert_eq!(
            due("30 6 13 * fri", "2026-11-12T00:00:00Z", "2026-11-21T00:00:00Z", "UTC").len(),
            2
        );
    }

    #[test]
    fn a_time_that_clocks_skip_comes_right_after_the_jump_and_one_that_comes_twice_is_taken_once() {
        // IANA tz database: Oslo jumps from 02:00 to 03:00 on 29 March 2026 at 01:00 UTC and goes
        // back from 03:00 to 02:00 on 25 October at 01:00 UTC.
        assert_eq!(
            due("30 2 * * *", "2026-03-28T12:00:00Z", "2026-03-30T12:00:00Z", "Europe/Oslo"),
            ["2026-03-29T01:00:00Z", "2026-03-30T00:30:00Z"]
        );
        assert_eq!(
            due("30 2 * * *", "2026-10-24T12:00:00Z", "2026-10-25T12:00:00Z", "Europe/Oslo"),
            ["2026-10-25T00:30:00Z"]
        );
        // The United States change at 02:00 local, on 8 March and 1 November 2026.
        assert_eq!(
            due("30 2 * * *", "2026-03-08T00:00:00Z", "2026-03-09T00:00:00Z", "America/New_York"),
            ["2026-03-08T07:00:00Z"]
        );
        assert_eq!(
            due("30 1 * * *", "2026-11-01T00:00:00Z", "2026-11-02T00:00:00Z", "America/New_York"),
            ["2026-11-01T05:30:00Z"]
        );
        // Every half hour goes on through both without a hole or a repeat.
        for day in ["2026-03-29", "2026-10-25"] {
            let all = due(
                "*/30 * * * *",
                &format!("{day}T00:00:00Z"),
                &format!("{day}T04:00:00Z"),
                "Europe/Oslo",
            );
            assert_eq!(all.len(), 8, "{all:?}");
        }
    }

    #[test]
    fn what_is_wrong_is_said_with_its_field_and_range() {
        for (line, says) in [
            (
                "* * * *",
                "4 fields: a cron line has five: minute, hour, day of the month, month, day of the week",
            ),
            (
                "61 * * * *",
                "minute: \"61\" is not a number from 0 to 59, a range such as 0-59, or a step such as */2",
            ),
            ("* 20-8 * * *", "hour: the range \"20-8\" runs backwards"),
            ("*/0 * * * *", "minute: a step of 0 in \"*/0\" never moves on"),
            ("0 0 30 feb *", "no year has such a day: 0 0 30 feb *"),
            (
                "0 0 * * ?",
                "day of the week: \"?\" is not a number from 0 to 7, a name of three letters, a range such as 0-7, or a step such as */2",
            ),
        ] {
            assert_eq!(line.parse::<Cron>().unwrap_err().to_string(), says);
        }
    }

    proptest! {
        #[test]
        fn reading_a_cron_line_never_panics(line in "[0-9*/,a-z -]{0,24}|\\PC{0,20}") {
            let _ = line.parse::<Cron>();
        }

        #[test]
        fn the_last_due_moment_is_the_last_of_those_listed(
            minute in 0u8..60, hours in "\\*|[0-9]|1[0-9]-2[0-3]|\\*/5", at in 1_770_000_000i64..1_800_000_000,
        ) {
            let cron: Cron = format!("{minute} {hours} * * *").parse().unwrap();
            let zone = TimeZone::get("America/Halifax").unwrap();
            let at = Timestamp::from_second(at).unwrap();
            let before = Stretch { from: at - jiff::SignedDuration::from_hours(50), to: at + jiff::SignedDuration::from_nanos(1) };
            prop_assert_eq!(cron.last_due(at, &zone), cron.due(before, &zone).last());
        }
    }
}
