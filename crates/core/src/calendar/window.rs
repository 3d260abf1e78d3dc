//! Windows that come once or again and again: maintenance, service hours.
//!
//! A window is written in wall-clock times and turned into moments only when it is expanded, so
//! that 22:30 stays 22:30 through clock changes. A wall-clock time that clocks skip is read by the
//! offset before the jump (RFC 5545, 3.3.5), one that comes twice is its first coming.

use super::rule::Rule;
use super::written::Written;
use super::{Cover, Stretch};
use jiff::civil::{Date, DateTime, Time, Weekday};
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp, ToSpan};
use serde::{Deserialize, Serialize};

/// Whose clock the times of a window are read on.
#[derive(Debug, Clone, PartialEq)]
pub enum Clock {
    /// That of UTC.
    Utc,
    /// That of a zone, with its changes.
    Zone(TimeZone),
    /// Each location's own.
    Location,
}

/// How long each occurrence lasts.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Length {
    /// Up to this time of day; over midnight when it is not after the start.
    UntilTime(Time),
    /// Whole days from midnight to midnight, 23 or 25 hours where clocks change.
    Days(u16),
    /// Always exactly this long.
    Exact(SignedDuration),
}

/// How often a window comes again.
#[derive(Debug, Clone, PartialEq)]
pub enum Repeat {
    /// Not again.
    Once,
    /// Every day.
    Daily,
    /// On these days of the week, by the day an occurrence begins on.
    Weekly(Vec<Weekday>),
    /// As a rule says.
    Rule(Rule),
}

impl Clock {
    /// The name, among clocks, of each location's own.
    pub const EACH_LOCATION: &str = "each location";

    /// What it is called: `UTC`, a zone, or each location's.
    pub fn name(&self) -> &str {
        match self {
            Clock::Utc => "UTC",
            Clock::Zone(zone) => zone.iana_name().unwrap_or("UTC"),
            Clock::Location => Clock::EACH_LOCATION,
        }
    }
}

impl Repeat {
    /// The recurrence rule that says it (RFC 5545); none of what comes once.
    pub fn rule(&self) -> Option<String> {
        let short = |d: &Weekday| {
            ["MO", "TU", "WE", "TH", "FR", "SA", "SU"][d.to_monday_zero_offset() as usize]
        };
        match self {
            Repeat::Once => None,
            Repeat::Daily => Some("FREQ=DAILY".to_string()),
            Repeat::Weekly(on) => {
                let days: Vec<&str> = on.iter().map(short).collect();
                Some(format!("FREQ=WEEKLY;BYDAY={}", days.join(",")))
            }
            Repeat::Rule(rule) => Some(rule.to_string()),
        }
    }
}

/// Time that comes once or again and again.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(try_from = "Written", into = "Written")]
pub struct Window {
    /// When the first occurrence begins, by the window's clock.
    pub first: DateTime,
    /// How long each one lasts.
    pub length: Length,
    /// How often it comes again.
    pub repeat: Repeat,
    /// Whose clock says when.
    pub clock: Clock,
    /// Occurrences are only those inside: a window in force is not a window happening now.
    pub in_force: (Option<Timestamp>, Option<Timestamp>),
    /// Starts that are left out of the repetition.
    pub except: Vec<DateTime>,
    /// Starts besides the repetition.
    pub besides: Vec<DateTime>,
    /// Why, in words.
    pub why: String,
}

/// Why a window cannot be one.
#[derive(Debug, Clone, thiserror::Error, PartialEq, Eq)]
#[expect(missing_docs, reason = "each says what it is when it is told")]
pub enum WindowError {
    #[error("the window lasts no time at all")]
    Empty,
    #[error("the window lasts {0} days: 366 are the most")]
    TooLong(i64),
    #[error("a weekly window needs at least one day of the week")]
    NoDay,
    #[error("the window stops being in force before it begins to be")]
    Backwards,
}

/// So many starts are listed at most where no rule can say them.
const MOST_LISTED: usize = 1_000;

/// No occurrence is longer.
const MOST_DAYS: i64 = 366;

impl Window {
    /// A window that comes once.
    pub fn once(first: DateTime, length: Length, clock: Clock, why: impl Into<String>) -> Window {
        let (repeat, in_force) = (Repeat::Once, (None, None));
        Window {
            first,
            length,
            repeat,
            clock,
            in_force,
            except: vec![],
            besides: vec![],
            why: why.into(),
        }
    }

    /// The same, coming again.
    pub fn repeating(self, repeat: Repeat) -> Window {
        Window { repeat, ..self }
    }

    /// # Errors
    /// When it could never occur, or an occurrence has no length or too much.
    pub fn check(&self) -> Result<(), WindowError> {
        let empty = match self.length {
            Length::Days(n) => n == 0,
            Length::Exact(d) => !d.is_positive(),
            Length::UntilTime(_) => false,
        };
        if empty {
            Err(WindowError::Empty)
        } else if self.most_days() > MOST_DAYS {
            Err(WindowError::TooLong(self.most_days()))
        } else if self.repeat == Repeat::Weekly(vec![]) {
            Err(WindowError::NoDay)
        } else if matches!(self.in_force, (Some(from), Some(until)) if from >= until) {
            Err(WindowError::Backwards)
        } else {
            Ok(())
        }
    }

    /// Days that an occurrence can reach over.
    fn most_days(&self) -> i64 {
        match self.length {
            Length::UntilTime(_) => 1,
            Length::Days(n) => i64::from(n),
            Length::Exact(length) => length.as_hours() / 24 + 1,
        }
    }

    /// The zone its times are read in, for a location in the zone `here`.
    fn zone(&self, here: &TimeZone) -> TimeZone {
        match &self.clock {
            Clock::Utc => TimeZone::UTC,
            Clock::Zone(zone) => zone.clone(),
            Clock::Location => here.clone(),
        }
    }

    /// The occurrence that begins at that wall-clock time.
    fn occurrence(&self, start: DateTime, zone: &TimeZone) -> Option<Stretch> {
        let moment = |at: DateTime| zone.to_ambiguous_timestamp(at).compatible().ok();
        let midnight = |date: Date| date.to_zoned(zone.clone()).ok().map(|z| z.timestamp());
        let (from, to) = match self.length {
            Length::UntilTime(end) => {
                let date =
                    if end > start.time() { start.date() } else { start.date().tomorrow().ok()? };
                (moment(start)?, moment(DateTime::from_parts(date, end))?)
            }
            Length::Days(n) => (
                midnight(start.date())?,
                midnight(start.date().checked_add(i32::from(n).days()).ok()?)?,
            ),
            Length::Exact(length) => {
                let from = moment(start)?;
                (from, from.checked_add(length).ok()?)
            }
        };
        let in_force = Stretch {
            from: self.in_force.0.unwrap_or(Timestamp::MIN),
            to: self.in_force.1.unwrap_or(Timestamp::MAX),
        };
        Stretch { from, to }.common(&in_force)
    }

    /// Wall-clock starts from `from` to `to`, in order.
    fn starts(&self, from: DateTime, to: DateTime) -> Vec<DateTime> {
        let daily = |on: &dyn Fn(Date) -> bool| -> Vec<DateTime> {
            from.date()
                .max(self.first.date())
                .series(1.day())
                .take_while(|d| *d <= to.date())
                .filter(|d| on(*d))
                .map(|d| DateTime::from_parts(d, self.first.time()))
                .collect()
        };
        let mut starts = match &self.repeat {
            Repeat::Once => vec![self.first],
            Repeat::Daily => daily(&|_| true),
            Repeat::Weekly(days) => daily(&|d| days.contains(&d.weekday())),
            Repeat::Rule(rule) => rule.starts(self.first, from, to),
        };
        starts.retain(|s| !self.except.contains(s));
        starts.extend(&self.besides);
        starts.retain(|s| (from..=to).contains(s));
        starts.sort_unstable();
        starts.dedup();
        starts
    }

    /// Every occurrence that touches the stretch, at full length, for a location in that zone.
    pub fn occurrences(&self, within: Stretch, here: &TimeZone) -> Vec<Stretch> {
        let zone = self.zone(here);
        // A day more on either side, for clock changes.
        let civil = |at: Timestamp, days: i64| {
            let wall = zone.to_datetime(at);
            let edge = if days < 0 { DateTime::MIN } else { DateTime::MAX };
            wall.checked_add(days.days()).unwrap_or(edge)
        };
        let (from, to) =
            (civil(within.from, -self.most_days().min(MOST_DAYS) - 1), civil(within.to, 1));
        self.starts(from, to)
            .into_iter()
            .filter_map(|start| self.occurrence(start, &zone))
            .filter(|o| o.common(&within).is_some())
            .collect()
    }

    /// The same for readers that know nothing of being in force: what it begins and ends with is written into the
    /// repetition itself, or as a list of starts where a rule cannot say it. An occurrence that was cut short lasts its
    /// whole length there. `None` when it never comes.
    pub fn plain(&self) -> Option<Window> {
        let (from, until) = self.in_force;
        if (from, until) == (None, None) {
            return Some(self.clone());
        }
        let zone = self.zone(&TimeZone::UTC);
        let within =
            Stretch { from: from.unwrap_or(Timestamp::MIN), to: until.unwrap_or(Timestamp::MAX) };
        let wall = |at: Timestamp| zone.to_datetime(at);
        let first = from.map_or(self.first, |at| {
            wall(at).checked_sub((self.most_days() + 1).days()).unwrap_or(self.first)
        });
        let last = until.map_or(first, wall).max(first);
        // Ten years from its beginning, as far as anybody looks.
        let far = first.checked_add(3_660.days()).unwrap_or(DateTime::MAX);
        let last = if until.is_some() { last } else { far };
        let mut starts = self.starts(first, last);
        starts.retain(|s| self.occurrence(*s, &zone).is_some_and(|o| o.common(&within).is_some()));
        let (head, rest) = starts.split_first()?;
        let is_counted = |r: &Rule| r.to_string().contains("COUNT=");
        let goes_on = match &self.repeat {
            Repeat::Once => true,
            Repeat::Daily | Repeat::Weekly(_) => until.is_none(),
            Repeat::Rule(rule) => until.is_none() && !is_counted(rule),
        };
        Some(match goes_on {
            true => Window { first: *head, in_force: (None, None), ..self.clone() },
            false => Window {
                first: *head,
                repeat: Repeat::Once,
                except: Vec::new(),
                besides: rest.iter().copied().take(MOST_LISTED).collect(),
                in_force: (None, None),
                ..self.clone()
            },
        })
    }

    /// The moments of the stretch that the window covers, for a location in that zone.
    pub fn cover(&self, within: Stretch, here: &TimeZone) -> Cover {
        Cover::of(self.occurrences(within, here)).within(within)
    }

    /// The next `most` occurrences that end after `after`, looking ten years ahead.
    pub fn next(&self, after: Timestamp, most: usize, here: &TimeZone) -> Vec<Stretch> {
        let day = SignedDuration::from_hours(24);
        let mut found = Vec::new();
        for days in [40, 400, 3_660] {
            let Ok(to) = after.checked_add(day * days) else { break };
            found = self.occurrences(Stretch { from: after, to }, here);
            if found.len() >= most {
                break;
            }
        }
        found.truncate(most);
        found
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::{date, time};
    use proptest::prelude::*;

    fn zone(name: &str) -> TimeZone {
        TimeZone::get(name).unwrap()
    }

    fn stretch(from: &str, to: &str) -> Stretch {
        Stretch { from: from.parse().unwrap(), to: to.parse().unwrap() }
    }

    fn nightly(clock: Clock) -> Window {
        Window::once(
            date(2026, 1, 1).at(22, 30, 0, 0),
            Length::UntilTime(time(0, 30, 0, 0)),
            clock,
            "backup",
        )
        .repeating(Repeat::Daily)
    }

    #[test]
    fn a_window_over_midnight_is_its_two_halves() {
        // Common practice, no published source: 22:30–00:30 equals 22:30–24:00 and 00:00–00:30.
        let oslo = Clock::Zone(zone("Europe/Oslo"));
        let within = stretch("2026-03-20T00:00:00Z", "2026-04-05T00:00:00Z");
        let half = |from: Time, to: Time| {
            Window::once(
                date(2026, 1, 1).to_datetime(from),
                Length::UntilTime(to),
                oslo.clone(),
                "",
            )
            .repeating(Repeat::Daily)
            .cover(within, &TimeZone::UTC)
        };
        let both = half(time(22, 30, 0, 0), Time::midnight())
            .or(&half(Time::midnight(), time(0, 30, 0, 0)));
        assert_eq!(nightly(oslo.clone()).cover(within, &TimeZone::UTC), both);
    }

    #[test]
    fn an_all_day_window_lasts_23_or_25_hours_when_clocks_change() {
        // IANA tz database: Oslo, 29 March and 25 October 2026.
        let all_day = |d: Date| {
            let window = Window::once(
                d.at(0, 0, 0, 0),
                Length::Days(1),
                Clock::Zone(zone("Europe/Oslo")),
                "",
            );
            window.next("2026-01-01T00:00:00Z".parse().unwrap(), 1, &TimeZone::UTC)[0].seconds()
                / 3_600
        };
        assert_eq!(
            (all_day(date(2026, 3, 29)), all_day(date(2026, 3, 30)), all_day(date(2026, 10, 25))),
            (23, 24, 25)
        );
    }

    #[test]
    fn the_same_wall_time_is_earlier_further_east_and_each_location_has_its_own() {
        let after = "2026-06-10T12:00:00Z".parse().unwrap();
        let at = |here: &str| nightly(Clock::Location).next(after, 1, &zone(here))[0];
        let (oslo, halifax) = (at("Europe/Oslo"), at("America/Halifax"));
        assert_eq!(halifax.from.duration_since(oslo.from).as_hours(), 5);
        // For some weeks in spring America has changed its clocks and Europe has not.
        let spring = "2026-03-15T12:00:00Z".parse().unwrap();
        let then = |here: &str| nightly(Clock::Location).next(spring, 1, &zone(here))[0].from;
        assert_eq!(then("America/Halifax").duration_since(then("Europe/Oslo")).as_hours(), 4);
        assert_eq!(
            nightly(Clock::Utc).next(after, 1, &zone("Europe/Oslo"))[0].from.to_string(),
            "2026-06-10T22:30:00Z"
        );
    }

    #[test]
    fn a_weekly_window_belongs_to_the_day_it_begins_on_and_only_while_in_force() {
        let mut w = nightly(Clock::Utc).repeating(Repeat::Weekly(vec![Weekday::Saturday]));
        w.in_force = (None, Some("2026-11-21T23:00:00Z".parse().unwrap()));
        let found =
            w.occurrences(stretch("2026-11-09T00:00:00Z", "2026-12-01T00:00:00Z"), &TimeZone::UTC);
        // It stops being in force in the middle of its last occurrence.
        let want = [
            stretch("2026-11-14T22:30:00Z", "2026-11-15T00:30:00Z"),
            stretch("2026-11-21T22:30:00Z", "2026-11-21T23:00:00Z"),
        ];
        assert_eq!(found, want);
        assert_eq!(w.next("2026-11-22T00:00:00Z".parse().unwrap(), 3, &TimeZone::UTC), []);
    }

    #[test]
    fn a_window_that_could_never_be_is_refused_with_its_reason() {
        let of =
            |length| Window::once(date(2026, 1, 1).at(0, 0, 0, 0), length, Clock::Utc, "").check();
        assert_eq!(of(Length::Exact(SignedDuration::ZERO)), Err(WindowError::Empty));
        assert_eq!(of(Length::Days(0)), Err(WindowError::Empty));
        assert_eq!(of(Length::Days(400)), Err(WindowError::TooLong(400)));
        assert_eq!(of(Length::UntilTime(Time::midnight())), Ok(()));
        assert_eq!(
            nightly(Clock::Utc).repeating(Repeat::Weekly(vec![])).check(),
            Err(WindowError::NoDay)
        );
    }

    proptest! {
        #[test]
        fn a_window_written_without_being_in_force_comes_at_the_same_times(
            from in prop::option::of(0i64..400), length in 1i64..200, ends in any::<bool>(), weekly in any::<bool>(), hour in 0i8..24,
        ) {
            let repeat = if weekly { Repeat::Weekly(vec![Weekday::Monday, Weekday::Saturday]) } else { Repeat::Daily };
            let mut w = Window::once(date(2026, 1, 1).at(hour, 30, 0, 0), Length::Exact(SignedDuration::from_mins(50)), Clock::Zone(zone("Europe/Oslo")), "")
                .repeating(repeat);
            let begin: Timestamp = "2026-01-01T12:00:00Z".parse().unwrap();
            let day = |n: i64| begin + SignedDuration::from_hours(24 * n);
            w.in_force = (from.map(day), ends.then(|| day(from.unwrap_or(0) + length)));
            let within = Stretch { from: day(-5), to: day(700) };
            let Some(plain) = w.plain() else {
                let all = Stretch { from: day(-5), to: day(700) };
                prop_assert_eq!(w.occurrences(all, &TimeZone::UTC), vec![]);
                return Ok(());
            };
            prop_assert_eq!(plain.in_force, (None, None));
            // Ends that cut an occurrence apart, this makes whole.
            let starts = |w: &Window| w.occurrences(within, &TimeZone::UTC).iter().map(|o| o.to).collect::<Vec<_>>();
            let cut = |ends: Vec<Timestamp>| ends.into_iter().filter(|e| w.in_force.1 != Some(*e)).collect::<Vec<_>>();
            let (whole, again) = (cut(starts(&w)), cut(starts(&plain)));
            prop_assert!(again.len() - whole.len() <= 1 && again.starts_with(&whole), "{whole:?} {again:?}");
        }

        #[test]
        fn an_expanded_window_never_overlaps_itself_and_does_not_depend_on_how_time_is_cut(
            hour in 0i8..24, minute in 0i8..60, end in 0i8..24, from in 1_766_000_000i64..1_800_000_000, days in 1i64..40, cut in 1i64..40, place in 0usize..3,
        ) {
            let here = zone(["Europe/Oslo", "America/Halifax", "Australia/Lord_Howe"][place]);
            let w = Window::once(date(2025, 1, 1).at(hour, minute, 0, 0), Length::UntilTime(time(end, 0, 0, 0)), Clock::Location, "")
                .repeating(Repeat::Daily);
            let at = |s: i64| Timestamp::from_second(s).unwrap();
            let whole = Stretch { from: at(from), to: at(from + days * 86_400) };
            let middle = at(from + cut.min(days) * 43_200);
            let parts = w.cover(Stretch { to: middle, ..whole }, &here).or(&w.cover(Stretch { from: middle, ..whole }, &here));
            let cover = w.cover(whole, &here);
            prop_assert!(cover.stretches().windows(2).all(|w| w[0].to < w[1].from));
            prop_assert_eq!(cover, parts);
        }
    }
}
