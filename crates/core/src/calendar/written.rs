//! A window as it is kept: texts that people and programs can read, and that are read back to the same window.

use super::window::{Clock, Length, Repeat, Window, WindowError};
use super::{Rule, RuleError, ZoneError, zone};
use jiff::civil::{DateTime, Time, Weekday};
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};

/// A window as it is kept.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub(super) struct Written {
    first: DateTime,
    length: WrittenLength,
    #[serde(default)]
    repeat: WrittenRepeat,
    /// `UTC`, `location`, or the name of a zone.
    clock: String,
    #[serde(default)]
    in_force: (Option<Timestamp>, Option<Timestamp>),
    #[serde(default)]
    except: Vec<DateTime>,
    #[serde(default)]
    besides: Vec<DateTime>,
    why: String,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
enum WrittenLength {
    Until(Time),
    Days(u16),
    Seconds(i64),
}

#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
enum WrittenRepeat {
    #[default]
    Once,
    Daily,
    /// Days of the week, 0 for Monday.
    Weekly(Vec<i8>),
    Rule(String),
}

/// Why what was kept is no window.
#[derive(Debug, thiserror::Error)]
#[expect(missing_docs, reason = "each says what it is when it is told")]
pub enum WrittenError {
    #[error(transparent)]
    Zone(#[from] ZoneError),
    #[error(transparent)]
    Rule(#[from] RuleError),
    #[error(transparent)]
    Window(#[from] WindowError),
    #[error("{0} is no day of the week: 0 is Monday, 6 is Sunday")]
    Day(i8),
}

/// The word for "each location's own clock".
const LOCATION: &str = "location";

impl From<Window> for Written {
    fn from(w: Window) -> Written {
        Written {
            first: w.first,
            length: match w.length {
                Length::UntilTime(end) => WrittenLength::Until(end),
                Length::Days(n) => WrittenLength::Days(n),
                Length::Exact(length) => WrittenLength::Seconds(length.as_secs()),
            },
            repeat: match w.repeat {
                Repeat::Once => WrittenRepeat::Once,
                Repeat::Daily => WrittenRepeat::Daily,
                Repeat::Weekly(days) => {
                    WrittenRepeat::Weekly(days.iter().map(|d| d.to_monday_zero_offset()).collect())
                }
                Repeat::Rule(rule) => WrittenRepeat::Rule(rule.to_string()),
            },
            clock: w.clock.word().to_string(),
            in_force: w.in_force,
            except: w.except,
            besides: w.besides,
            why: w.why,
        }
    }
}

impl TryFrom<Written> for Window {
    type Error = WrittenError;

    fn try_from(w: Written) -> Result<Window, WrittenError> {
        let clock = Clock::of_word(&w.clock)?;
        let day = |d: &i8| Weekday::from_monday_zero_offset(*d).map_err(|_| WrittenError::Day(*d));
        let repeat = match &w.repeat {
            WrittenRepeat::Once => Repeat::Once,
            WrittenRepeat::Daily => Repeat::Daily,
            WrittenRepeat::Weekly(days) => {
                Repeat::Weekly(days.iter().map(day).collect::<Result<_, _>>()?)
            }
            WrittenRepeat::Rule(text) => {
                let zone = match &clock {
                    Clock::Zone(zone) => zone.clone(),
                    Clock::Utc | Clock::Location => TimeZone::UTC,
                };
                Repeat::Rule(Rule::parse(text, w.first, &zone)?)
            }
        };
        let length = match w.length {
            WrittenLength::Until(end) => Length::UntilTime(end),
            WrittenLength::Days(n) => Length::Days(n),
            WrittenLength::Seconds(s) => Length::Exact(SignedDuration::from_secs(s)),
        };
        let Written { first, in_force, except, besides, why, .. } = w;
        let window = Window { first, length, repeat, clock, in_force, except, besides, why };
        window.check()?;
        Ok(window)
    }
}

impl Clock {
    /// In one word: `UTC`, `location`, or the name of the zone.
    pub fn word(&self) -> &str {
        match self {
            Clock::Utc => "UTC",
            Clock::Zone(zone) => zone.iana_name().unwrap_or("UTC"),
            Clock::Location => LOCATION,
        }
    }

    /// The clock of this word.
    ///
    /// # Errors
    /// When it names no zone.
    pub fn of_word(word: &str) -> Result<Clock, ZoneError> {
        match word {
            "UTC" => Ok(Clock::Utc),
            LOCATION => Ok(Clock::Location),
            name => Ok(Clock::Zone(zone(name)?)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::date;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn a_window_is_read_back_as_it_was_kept(
            length in 0usize..3, repeat in 0usize..4, clock in 0usize..3, hour in 0i8..24, bounded in any::<bool>(),
        ) {
            let first = date(2026, 3, 1).at(hour, 30, 0, 0);
            let zone = TimeZone::get("Europe/Oslo").unwrap();
            let rule = Rule::parse("FREQ=MONTHLY;BYDAY=1WE;UNTIL=20271231", first, &zone).unwrap();
            let window = Window {
                first,
                length: [
                    Length::UntilTime(jiff::civil::time(0, 15, 0, 0)),
                    Length::Days(3),
                    Length::Exact(SignedDuration::from_mins(90)),
                ][length],
                repeat: [
                    Repeat::Once,
                    Repeat::Daily,
                    Repeat::Weekly(vec![Weekday::Monday, Weekday::Sunday]),
                    Repeat::Rule(rule),
                ][repeat].clone(),
                clock: [Clock::Utc, Clock::Location, Clock::Zone(zone)][clock].clone(),
                in_force: (bounded.then_some(Timestamp::UNIX_EPOCH), None),
                except: vec![date(2026, 3, 8).at(hour, 30, 0, 0)],
                besides: vec![date(2026, 3, 9).at(1, 0, 0, 0)],
                why: "“Backup”".into(),
            };
            let kept = serde_json::to_string(&window).unwrap();
            prop_assert_eq!(serde_json::from_str::<Window>(&kept).unwrap(), window, "{}", kept);
        }
    }

    #[test]
    fn what_is_no_window_is_refused_with_its_reason() {
        let read = |more: &str| {
            let text = format!(r#"{{"first":"2026-03-01T22:30:00","why":"w",{more}}}"#);
            serde_json::from_str::<Window>(&text).unwrap_err().to_string()
        };
        assert!(read(r#""length":{"days":1},"clock":"Oslo""#).contains("no time zone"));
        assert!(read(r#""length":{"days":0},"clock":"UTC""#).contains("lasts no time"));
        assert!(
            read(r#""length":{"days":1},"clock":"UTC","repeat":{"weekly":[9]}"#)
                .contains("no day of the week")
        );
        assert!(
            read(r#""length":{"days":1},"clock":"UTC","repeat":{"rule":"FREQ=SECONDLY"}"#)
                .contains("every hour")
        );
    }
}
