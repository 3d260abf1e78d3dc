//! Fields of a form as they were sent, and how they are read.

use crate::words::capital;
use cadentis_core::goal::definition::{DAYS, ServiceHours};
use cadentis_core::text;
use jiff::Timestamp;
use jiff::civil::{DateTime, Time};
use jiff::tz::TimeZone;
use std::fmt::Display;

/// Names and values, in the order they were sent.
pub type Fields = Vec<(String, String)>;

/// A field that is wrong, and how.
pub type Wrong = (&'static str, String);

/// What is wrong with a field, if it is that one.
pub fn says_of<'a>(wrong: Option<&'a Wrong>, field: &str) -> Option<&'a str> {
    wrong.filter(|(f, _)| *f == field).map(|(_, says)| says.as_str())
}

/// So many values of one name are read.
const MOST_VALUES: usize = 100;

/// Every value of this name that is not empty.
pub fn all(fields: &Fields, name: &str) -> Vec<String> {
    let these = fields.iter().filter(|(n, v)| n == name && !v.is_empty());
    these.map(|(_, v)| v.clone()).take(MOST_VALUES).collect()
}

/// The value of this name; empty without.
pub fn one(fields: &Fields, name: &str) -> String {
    all(fields, name).pop().unwrap_or_default()
}

/// The value of this name, or the usual one.
pub fn usual(fields: &Fields, name: &str, usual: &str) -> String {
    all(fields, name).pop().unwrap_or_else(|| usual.into())
}

/// A text of one line, without spaces around it.
pub fn line(fields: &Fields, name: &str, most: usize) -> String {
    text::clean(one(fields, name).trim(), most, None)
}

/// A number as people write it, with a point or a comma.
pub fn number(text: &str) -> Option<f64> {
    text.trim().replace(',', ".").parse::<f64>().ok().filter(|n| n.is_finite())
}

/// A reason as a sentence.
pub fn sentence(why: &impl Display) -> String {
    format!("{}.", capital(&why.to_string()))
}

/// A moment as it is typed, by the clock of the site.
pub fn moment(text: &str, zone: &TimeZone) -> Result<Timestamp, String> {
    let civil: DateTime = text.trim().parse().map_err(|_| {
        format!("“{}” is no moment such as 2026-11-20 22:30", text::clean(text, 40, None))
    })?;
    let read = zone.to_ambiguous_timestamp(civil);
    match read.offset() {
        jiff::tz::AmbiguousOffset::Gap { .. } => {
            Err(format!("clocks skip {} here", civil.strftime("%-d %b %Y %H:%M")))
        }
        _ => read.compatible().map_err(|e| e.to_string()),
    }
}

/// Service hours as they are typed: fields `day`, `open`, `closed`.
#[derive(Debug, Clone, Default)]
pub struct Hours {
    pub days: Vec<String>,
    pub open: String,
    pub closed: String,
}

impl Hours {
    pub fn of(fields: &Fields) -> Hours {
        Hours::ending(fields, "")
    }

    /// The same of fields whose names end like this, where a form has several.
    pub fn ending(fields: &Fields, end: &str) -> Hours {
        let name = |of: &str| format!("{of}{end}");
        Hours {
            days: all(fields, &name("day")),
            open: one(fields, &name("open")),
            closed: one(fields, &name("closed")),
        }
    }

    pub fn from(hours: Option<&ServiceHours>) -> Hours {
        let Some(hours) = hours else { return Hours::default() };
        let clock = |t: Time| t.strftime("%H:%M").to_string();
        let open = DAYS.iter().zip(hours.days).filter(|(_, on)| *on);
        Hours {
            days: open.map(|(day, _)| day.0.into()).collect(),
            open: clock(hours.from),
            closed: clock(hours.until),
        }
    }

    /// What they are; nothing of it means always.
    pub fn read(&self) -> Result<Option<ServiceHours>, Wrong> {
        if self.open.is_empty() && self.closed.is_empty() && self.days.is_empty() {
            return Ok(None);
        }
        let time = |text: &str| Time::strptime("%H:%M", text.trim()).ok();
        let (Some(from), Some(until)) = (time(&self.open), time(&self.closed)) else {
            let says = "Service hours have days, and two times of day such as 06:00 and 22:00; or nothing of it.";
            return Err(("hours", says.into()));
        };
        let days = DAYS.map(|(word, _)| self.days.iter().any(|d| d == word));
        Ok(Some(ServiceHours { days, from, until }))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn moments_are_read_by_the_clock_of_the_site_and_one_that_clocks_skip_is_told() {
        let zone = TimeZone::get("Europe/Oslo").unwrap();
        let read = |text: &str| moment(text, &zone).map(|t| t.to_string());
        assert_eq!(read("2026-11-20T22:30").as_deref(), Ok("2026-11-20T21:30:00Z"));
        assert_eq!(read("2026-11-20 22:30").as_deref(), Ok("2026-11-20T21:30:00Z"));
        // EU summer time begins on 29 March 2026 at 01:00 UTC (IANA tz database).
        assert_eq!(read("2026-03-29T02:30"), Err("clocks skip 29 Mar 2026 02:30 here".into()));
        // It ends on 25 October: 02:30 comes twice, and is its first coming.
        assert_eq!(read("2026-10-25T02:30").as_deref(), Ok("2026-10-25T00:30:00Z"));
        assert!(read("soon<b>").unwrap_err().starts_with("“soon<b>” is no moment"));
    }
}
