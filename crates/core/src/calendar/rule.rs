//! A recurrence rule of RFC 5545, expanded on the wall clock.
//!
//! The expansion itself is the `rrule` library's. It is fed wall-clock times dressed as UTC, so
//! that the only time-zone rules that count are those of the rest of the program.

use chrono::TimeZone as _;
use jiff::civil::{Date, DateTime};
use jiff::tz::TimeZone;
use jiff::{Timestamp, civil};
use rrule::{Frequency, RRule, RRuleSet, Tz, Unvalidated};
use std::fmt;

/// A rule as it was written, and when it ends.
#[derive(Debug, Clone, PartialEq)]
pub struct Rule {
    text: String,
    parsed: Box<RRule<Unvalidated>>,
}

/// Why a rule is none.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
#[expect(missing_docs, reason = "each says what it is when it is told")]
pub enum RuleError {
    #[error("RRULE {text:?}: {says}")]
    Broken { text: String, says: String },
    #[error("RRULE {0:?}: a window can repeat every hour at the most")]
    TooOften(String),
    #[error("RRULE: UNTIL {0:?} is no moment: write 20261231, 20261231T220000 or 20261231T220000Z")]
    Until(String),
}

/// Occurrences that one expansion may give: hourly for more than seven years.
const MOST: u16 = u16::MAX;

impl Rule {
    /// Reads the value of an RRULE property. `first` is the start of the first occurrence; `zone`
    /// is needed to read an end that is given in UTC on the window's own clock.
    ///
    /// # Errors
    /// When it is no rule, or repeats more often than hourly.
    pub fn parse(text: &str, first: DateTime, zone: &TimeZone) -> Result<Rule, RuleError> {
        let short: String = text.chars().filter(|c| !c.is_control()).take(200).collect();
        let broken = |says: String| RuleError::Broken { text: short.clone(), says };
        let (mut parts, mut kept, mut until) = (Vec::new(), Vec::new(), None);
        for part in text.trim().trim_end_matches(';').split(';') {
            let part = part.trim().to_ascii_uppercase();
            if part.chars().any(char::is_control) {
                return Err(broken("a line break in it".into()));
            }
            match part.split_once('=') {
                Some((key, value)) if key.trim() == "UNTIL" => {
                    let end = wall_clock(value.trim(), zone);
                    until = Some(
                        end.ok_or_else(|| RuleError::Until(value.chars().take(40).collect()))?,
                    );
                }
                _ => parts.push(part.clone()),
            }
            kept.push(part);
        }
        let mut parsed: RRule<Unvalidated> =
            parts.join(";").parse().map_err(|e| broken(format!("{e}")))?;
        if matches!(parsed.get_freq(), Frequency::Secondly | Frequency::Minutely) {
            return Err(RuleError::TooOften(short));
        }
        if let Some(until) = until {
            parsed =
                parsed.until(dressed(until).ok_or_else(|| broken("UNTIL is out of range".into()))?);
        }
        let start =
            dressed(first).ok_or_else(|| broken("the first start is out of range".into()))?;
        parsed.clone().validate(start).map_err(|e| broken(format!("{e}")))?;
        Ok(Rule { text: kept.join(";"), parsed: Box::new(parsed) })
    }

    /// Starts from `from` to `to` of a repetition that began at `first`.
    pub(super) fn starts(&self, first: DateTime, from: DateTime, to: DateTime) -> Vec<DateTime> {
        let (Some(start), Some(after), Some(before)) = (dressed(first), dressed(from), dressed(to))
        else {
            return vec![];
        };
        if to < first {
            return vec![];
        }
        let Ok(rule) = (*self.parsed).clone().validate(start) else { return vec![] };
        let set = RRuleSet::new(start).rrule(rule).after(after).before(before);
        set.all(MOST).dates.into_iter().filter_map(undressed).collect()
    }
}

impl fmt::Display for Rule {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

/// A DATE or DATE-TIME value as a wall-clock time in that zone; a bare date is its last second.
fn wall_clock(value: &str, zone: &TimeZone) -> Option<DateTime> {
    if let Some(utc) = value.strip_suffix(['Z', 'z']) {
        let at: Timestamp = TimeZone::UTC.to_timestamp(date_time(utc)?).ok()?;
        return Some(zone.to_datetime(at));
    }
    date_time(value).or_else(|| day(value).map(|d| d.at(23, 59, 59, 0)))
}

/// `20261231` of RFC 5545.
pub(super) fn day(value: &str) -> Option<Date> {
    let digits = value.len() == 8 && value.bytes().all(|b| b.is_ascii_digit());
    Date::strptime("%Y%m%d", value).ok().filter(|_| digits)
}

/// `20261231T220000` of RFC 5545, without its Z.
pub(super) fn date_time(value: &str) -> Option<DateTime> {
    let (date, time) = value.split_once(['T', 't'])?;
    let digits = time.len() == 6 && time.bytes().all(|b| b.is_ascii_digit());
    Some(day(date)?.to_datetime(civil::Time::strptime("%H%M%S", time).ok().filter(|_| digits)?))
}

/// A wall-clock time as the library takes it.
fn dressed(at: DateTime) -> Option<chrono::DateTime<Tz>> {
    let day =
        chrono::NaiveDate::from_ymd_opt(at.year().into(), at.month() as u32, at.day() as u32)?;
    let naive = day.and_hms_opt(at.hour() as u32, at.minute() as u32, at.second() as u32)?;
    Some(Tz::UTC.from_utc_datetime(&naive))
}

fn undressed(at: chrono::DateTime<Tz>) -> Option<DateTime> {
    let seconds = at.timestamp();
    Timestamp::from_second(seconds).ok().map(|t| TimeZone::UTC.to_datetime(t))
}
