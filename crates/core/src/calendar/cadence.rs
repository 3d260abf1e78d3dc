//! When a journey plays at a location.

use super::cron::Cron;
use super::stretch::{Stretch, at_second};
use jiff::Timestamp;
use jiff::tz::TimeZone;

/// When a journey plays at one location.
#[derive(Debug, Clone, PartialEq)]
pub enum Cadence {
    /// A single run.
    Once(Timestamp),
    /// Every so many seconds, begun at an offset of the location's own.
    Every {
        /// Seconds between two runs.
        every_s: i64,
        /// Seconds that this location plays after others do.
        offset_s: i64,
    },
    /// By a cron line, read on the clock of a zone.
    Cron(Cron, TimeZone),
}

/// One minute is the finest cadence (common practice, no published source).
pub const FINEST_S: i64 = 60;

impl Cadence {
    /// The cadence of a journey's `nth` location (from 0). An interval under a minute counts as a
    /// minute.
    ///
    /// Starts are spread over the interval instead of all falling together, and a location added
    /// later moves none of the others: offsets halve what is left, 0, ½, ¼, ¾, ⅛, … (van der
    /// Corput, "Verteilungsfunktionen", 1935).
    pub fn every(seconds: i64, nth: usize) -> Cadence {
        let every_s = seconds.max(FINEST_S);
        let part = (nth as u32).reverse_bits() as f64 / 2f64.powi(32);
        Cadence::Every { every_s, offset_s: (every_s as f64 * part) as i64 }
    }

    /// The last moment at or before `at` when a run is due.
    pub fn last_due(&self, at: Timestamp) -> Option<Timestamp> {
        match self {
            Cadence::Once(moment) => Some(*moment).filter(|m| *m <= at),
            Cadence::Every { every_s, offset_s } => Some(at_second(
                (at.as_second() - offset_s).div_euclid(*every_s) * every_s + offset_s,
            )),
            Cadence::Cron(cron, zone) => cron.last_due(at, zone),
        }
    }

    /// All moments in the stretch when a run is due.
    pub fn due(&self, stretch: Stretch) -> Box<dyn Iterator<Item = Timestamp> + '_> {
        match self {
            Cadence::Once(moment) => {
                Box::new([*moment].into_iter().filter(move |m| stretch.contains(*m)))
            }
            Cadence::Every { every_s, offset_s } => {
                let before =
                    (stretch.from.as_second() - offset_s).div_euclid(*every_s) * every_s + offset_s;
                let late =
                    before < stretch.from.as_second() || stretch.from.subsec_nanosecond() > 0;
                let first = if late { before + every_s } else { before };
                Box::new(
                    (0..)
                        .map(move |i| at_second(first + i * every_s))
                        .take_while(move |at| *at < stretch.to),
                )
            }
            Cadence::Cron(cron, zone) => Box::new(cron.due(stretch, zone)),
        }
    }
}

/// How often a journey plays, as a person sets it; each of its locations has a cadence from it.
#[derive(Debug, Clone, PartialEq)]
pub enum Pace {
    /// Once, at this moment.
    Once(Timestamp),
    /// In seconds.
    Every(i64),
    /// On the clock of a zone.
    Cron(Cron, TimeZone),
}

/// What is wrong with a pace.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[expect(missing_docs, reason = "each says what it is when it is told")]
pub enum PaceError {
    #[error("every so many minutes: a whole number from 1 to 1440, not `{0}`")]
    Every(String),
    #[error("once: a moment such as 2026-12-01T09:00, not `{0}`")]
    Once(String),
    #[error("cron: {0}")]
    Cron(#[from] super::cron::CronError),
    #[error("zone: a name of the IANA database such as Europe/Oslo, not `{0}`")]
    Zone(String),
    #[error("a pace begins with `every`, `once` or `cron`, not with `{0}`")]
    Kind(String),
}

/// A Monday: where the runs of a cron line are looked at.
const SOME_MONDAY: Timestamp = Timestamp::constant(1_767_571_200, 0);
/// The longest interval that has a number: a day.
const LONGEST_S: i64 = 86_400;

impl Pace {
    /// Every so many minutes.
    pub fn minutes(text: &str) -> Result<Pace, PaceError> {
        let minutes = text.trim().parse::<i64>().ok().filter(|m| (1..=LONGEST_S / 60).contains(m));
        minutes.map(|m| Pace::Every(m * 60)).ok_or_else(|| PaceError::Every(text.trim().into()))
    }

    /// Once, at a moment on the clock of a zone; with an offset or a `Z` it is that moment anywhere.
    pub fn once(text: &str, zone: &TimeZone) -> Result<Pace, PaceError> {
        let text = text.trim();
        let wall = || {
            text.parse::<jiff::civil::DateTime>()
                .ok()?
                .to_zoned(zone.clone())
                .ok()
                .map(|z| z.timestamp())
        };
        let moment = text.parse::<Timestamp>().ok().or_else(wall);
        moment.map(Pace::Once).ok_or_else(|| PaceError::Once(text.into()))
    }

    /// By a cron line on the clock of a zone.
    pub fn cron(line: &str, zone: &str) -> Result<Pace, PaceError> {
        let cron: Cron = line.trim().parse()?;
        let zone = TimeZone::get(zone).map_err(|_| PaceError::Zone(zone.into()))?;
        Ok(Pace::Cron(cron, zone))
    }

    /// The cadence of the journey's `nth` location (from 0). Only an interval is spread over locations: who says
    /// at what minute means that minute.
    pub fn cadence(&self, nth: usize) -> Cadence {
        match self {
            Pace::Once(at) => Cadence::Once(*at),
            Pace::Every(seconds) => Cadence::every(*seconds, nth),
            Pace::Cron(cron, zone) => Cadence::Cron(cron.clone(), zone.clone()),
        }
    }

    /// The shortest time between two runs at a location, in seconds: what a bar on an axis stands for. Of a cron
    /// line it is looked for in two hundred runs.
    pub fn slot_s(&self) -> i64 {
        match self {
            Pace::Once(_) => LONGEST_S,
            Pace::Every(seconds) => *seconds,
            Pace::Cron(..) => {
                let due = self.next(SOME_MONDAY, 200);
                let gaps = due.windows(2).map(|w| w[1].duration_since(w[0]).as_secs());
                gaps.min().unwrap_or(LONGEST_S).max(FINEST_S)
            }
        }
    }

    /// The next runs at one location after `from`, `most` at most, within a year.
    pub fn next(&self, from: Timestamp, most: usize) -> Vec<Timestamp> {
        let to = at_second(from.as_second() + 366 * 86_400);
        self.cadence(0).due(Stretch { from, to }).take(most).collect()
    }

    /// Runs at one location in the thirty days from `from`.
    pub fn runs_in_thirty_days(&self, from: Timestamp) -> usize {
        self.cadence(0).due(Stretch { from, to: at_second(from.as_second() + 30 * 86_400) }).count()
    }

    /// As a sentence has it: "every 5 min".
    pub fn words(&self, zone: &TimeZone) -> String {
        match self {
            Pace::Once(at) => {
                format!("once, {}", at.to_zoned(zone.clone()).strftime("%-d %b %Y %H:%M %Z"))
            }
            Pace::Every(seconds) => format!("every {} min", *seconds as f64 / 60.0),
            Pace::Cron(cron, zone) => {
                format!("by the cron line {cron} ({})", zone.iana_name().unwrap_or("UTC"))
            }
        }
    }
}

/// As it is kept: `every 300`, `once 2026-12-01T08:00:00Z`, `cron Europe/Oslo 0 6 * * 1-5`.
impl std::fmt::Display for Pace {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Pace::Once(at) => write!(f, "once {at}"),
            Pace::Every(seconds) => write!(f, "every {seconds}"),
            Pace::Cron(cron, zone) => {
                write!(f, "cron {} {cron}", zone.iana_name().unwrap_or("UTC"))
            }
        }
    }
}

impl std::str::FromStr for Pace {
    type Err = PaceError;

    fn from_str(kept: &str) -> Result<Pace, PaceError> {
        let (kind, rest) = kept.split_once(' ').unwrap_or((kept, ""));
        match kind {
            "once" => Pace::once(rest, &TimeZone::UTC),
            "every" => {
                let seconds =
                    rest.parse::<i64>().ok().filter(|s| (FINEST_S..=LONGEST_S).contains(s));
                seconds.map(Pace::Every).ok_or_else(|| PaceError::Every(rest.into()))
            }
            "cron" => {
                let (zone, line) = rest.split_once(' ').unwrap_or((rest, ""));
                Pace::cron(line, zone)
            }
            _ => Err(PaceError::Kind(kind.into())),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_pace_is_kept_as_text_and_says_what_would_be_right() {
        let oslo = TimeZone::get("Europe/Oslo").unwrap();
        let noon = at_second(86_400 * 20_000 + 43_200);
        for (pace, kept, words) in [
            (Pace::minutes("5").unwrap(), "every 300", "every 5 min"),
            (
                Pace::once("2024-10-04T14:00", &oslo).unwrap(),
                "once 2024-10-04T12:00:00Z",
                "once, 4 Oct 2024 14:00 CEST",
            ),
            (
                Pace::cron("0 6 * * 1-5", "Europe/Oslo").unwrap(),
                "cron Europe/Oslo 0 6 * * 1-5",
                "by the cron line 0 6 * * 1-5 (Europe/Oslo)",
            ),
        ] {
            assert_eq!((pace.to_string().as_str(), pace.words(&oslo).as_str()), (kept, words));
            assert_eq!(kept.parse(), Ok(pace));
        }
        assert_eq!(Pace::once("2024-10-04T12:00:00Z", &oslo), Ok(Pace::Once(noon)));
        for (wrong, says) in [
            (Pace::minutes("0"), "every so many minutes: a whole number from 1 to 1440, not `0`"),
            (
                Pace::once("tomorrow", &oslo),
                "once: a moment such as 2026-12-01T09:00, not `tomorrow`",
            ),
            (
                Pace::cron("0 6 * * *", "Oslo"),
                "zone: a name of the IANA database such as Europe/Oslo, not `Oslo`",
            ),
            ("daily".parse(), "a pace begins with `every`, `once` or `cron`, not with `daily`"),
        ] {
            assert_eq!(wrong.unwrap_err().to_string(), says);
        }
        assert!(Pace::cron("61 * * * *", "UTC").unwrap_err().to_string().starts_with("cron: "));
    }

    #[test]
    fn a_slot_is_the_shortest_time_between_two_runs_and_thirty_days_have_so_many() {
        let from = at_second(86_400 * 20_000);
        // Weekdays at 06:00 and 06:30: half an hour apart at least; 21 weekdays in these thirty days.
        let cron = Pace::cron("0,30 6 * * 1-5", "UTC").unwrap();
        assert_eq!((cron.slot_s(), cron.runs_in_thirty_days(from)), (1_800, 42));
        let every = Pace::minutes("5").unwrap();
        assert_eq!((every.slot_s(), every.runs_in_thirty_days(from)), (300, 8_640));
        assert_eq!(Pace::Once(from).runs_in_thirty_days(from), 1);
        assert_eq!(every.next(from, 2), [from, at_second(86_400 * 20_000 + 300)]);
    }
    use proptest::prelude::*;

    #[test]
    fn every_five_minutes_is_288_runs_a_day_every_minute_1440_and_once_is_one() {
        // Arithmetic.
        let day = Stretch { from: at_second(86_400 * 20_000), to: at_second(86_400 * 20_001) };
        for nth in 0..8 {
            assert_eq!(Cadence::every(300, nth).due(day).count(), 288);
            assert_eq!(Cadence::every(60, nth).due(day).count(), 1_440);
        }
        let once = Cadence::Once(at_second(86_400 * 20_000 + 5));
        assert_eq!(
            (once.due(day).count(), once.last_due(day.from), once.last_due(day.to).is_some()),
            (1, None, true)
        );
        let hourly = Cadence::Cron("0 * * * *".parse().unwrap(), TimeZone::UTC);
        assert_eq!(hourly.due(day).count(), 24);
        assert_eq!(hourly.last_due(at_second(86_400 * 20_000 + 3_599)), Some(day.from));
    }

    #[test]
    fn eight_locations_start_evenly_and_a_ninth_moves_none_of_them() {
        let mut offsets: Vec<i64> = (0..8)
            .map(|nth| match Cadence::every(480, nth) {
                Cadence::Every { offset_s, .. } => offset_s,
                other => panic!("{other:?}"),
            })
            .collect();
        offsets.sort_unstable();
        assert_eq!(offsets, [0, 60, 120, 180, 240, 300, 360, 420]);
    }

    proptest! {
        #[test]
        fn due_moments_are_the_same_however_the_time_is_cut(
            every in 60i64..4_000, nth in 0usize..9, from in 0i64..100_000, a in 1i64..9_000, b in 1i64..9_000,
        ) {
            for c in [Cadence::every(every, nth), Cadence::Cron("*/7 1-22 * * *".parse().unwrap(), TimeZone::UTC), Cadence::Once(at_second(from + a))] {
                let cut = |x: i64, y: i64| c.due(Stretch { from: at_second(x), to: at_second(y) }).collect::<Vec<_>>();
                let mut parts = cut(from, from + a);
                parts.extend(cut(from + a, from + a + b));
                prop_assert_eq!(&parts, &cut(from, from + a + b));
                prop_assert_eq!(c.last_due(at_second(from + a + b - 1)).filter(|d| *d >= at_second(from)), parts.last().copied());
            }
        }
    }
}
