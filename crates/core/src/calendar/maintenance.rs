//! Maintenance: windows that say for what they are and what becomes of runs, and time that does not count.

use super::{Clock, Cover, Length, Repeat, Rule, Stretch, Window};
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp, ToSpan};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

/// For which journeys at which locations something is; none named means all of them.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Reach {
    /// These journeys.
    pub journeys: Vec<i32>,
    /// These locations.
    pub locations: Vec<i32>,
}

impl Reach {
    /// Whether it is for the whole site.
    pub fn is_everything(&self) -> bool {
        self.journeys.is_empty() && self.locations.is_empty()
    }

    /// Whether it is for this journey, wherever it plays.
    pub fn has_journey(&self, journey: i32) -> bool {
        self.journeys.is_empty() || self.journeys.contains(&journey)
    }

    /// Whether it is for this location, whatever plays there.
    pub fn has_location(&self, location: i32) -> bool {
        self.locations.is_empty() || self.locations.contains(&location)
    }

    /// Whether it is for this journey at this location.
    pub fn has(&self, journey: i32, location: i32) -> bool {
        self.has_journey(journey) && self.has_location(location)
    }
}

/// Time that does not count: planned (maintenance) or taken out afterwards (a carve-out).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LeftOut {
    /// From when to when.
    pub stretch: Stretch,
    /// Why it does not count.
    pub why: String,
    /// Who carved it out; `None` for maintenance.
    pub author: Option<String>,
    /// For what it does not count.
    pub reach: Reach,
    /// Whether runs were held: not made at all.
    pub is_held: bool,
}

impl LeftOut {
    /// Time that some of these leave out for a journey at a location.
    pub fn at(all: &[LeftOut], journey: i32, location: i32) -> Cover {
        Cover::of(all.iter().filter(|l| l.reach.has(journey, location)).map(|l| l.stretch))
    }

    /// The same of time in which runs are held.
    pub fn held(all: &[LeftOut], journey: i32, location: i32) -> Cover {
        let held = all.iter().filter(|l| l.is_held && l.reach.has(journey, location));
        Cover::of(held.map(|l| l.stretch))
    }

    /// Time that some of these leave out for every one of these journeys and locations; without any, for the whole site.
    pub fn everywhere(all: &[LeftOut], places: &BTreeSet<(i32, i32)>) -> Cover {
        let mut covers =
            places.iter().map(|(journey, location)| LeftOut::at(all, *journey, *location));
        match covers.next() {
            Some(first) => covers.fold(first, |common, cover| common.and(&cover)),
            None => Cover::of(all.iter().filter(|l| l.reach.is_everything()).map(|l| l.stretch)),
        }
    }

    /// Those for a journey, wherever it plays.
    pub fn of_journey(all: Vec<LeftOut>, journey: i32) -> Vec<LeftOut> {
        all.into_iter().filter(|l| l.reach.has_journey(journey)).collect()
    }
}

/// Planned time that does not count.
#[derive(Debug, Clone, PartialEq)]
pub struct Maintenance {
    /// When.
    pub window: Window,
    /// For what.
    pub reach: Reach,
    /// Whether runs are not made meanwhile; else they go on and do not count.
    pub holds: bool,
}

/// Why something cannot be maintenance.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[expect(missing_docs, reason = "each says what it is when it is told")]
pub enum NoMaintenance {
    #[error("it would begin again before it ends: {0}")]
    Overlaps(String),
    #[error("it would come {0} times in four weeks: {MOST_COMINGS} are the most, twice a day")]
    TooOften(usize),
    #[error("it would never come")]
    Never,
}

/// Maintenance comes so often in four weeks at most.
pub const MOST_COMINGS: usize = 56;
/// A site has so many windows that are not over at most.
pub const MOST_WINDOWS: usize = 200;

/// What maintenance becomes when it is changed at a moment.
#[derive(Debug, Clone, PartialEq)]
pub struct Parted {
    /// What it was until then; `None` when it had not come yet.
    pub before: Option<Window>,
    /// What it is from then on; `None` when nothing is to come.
    pub after: Option<Window>,
}

impl Maintenance {
    /// A stretch of whole seconds, of the whole site: runs go on and do not count.
    pub fn once(stretch: Stretch, why: &str) -> Maintenance {
        let first = TimeZone::UTC.to_datetime(stretch.from);
        let length = Length::Exact(stretch.to.duration_since(stretch.from));
        let window = Window::once(first, length, Clock::Utc, why);
        Maintenance { window, reach: Reach::default(), holds: false }
    }

    /// Whether it can be.
    ///
    /// # Errors
    /// Says what is wrong with how it repeats.
    pub fn check(&self) -> Result<(), NoMaintenance> {
        // On its own clock; where each location has another, on that of UTC: what overlaps there does so on any.
        let mut comings = self.window.next(self.begins(), MOST_COMINGS + 2, &TimeZone::UTC);
        let Some(first) = comings.first().copied() else { return Err(NoMaintenance::Never) };
        let end = first.from + SignedDuration::from_hours(28 * 24);
        comings.retain(|c| c.from < end);
        if comings.len() > MOST_COMINGS {
            return Err(NoMaintenance::TooOften(comings.len()));
        }
        match comings.windows(2).find(|two| two[1].from < two[0].to) {
            Some(two) => {
                let clock = |at: Timestamp| {
                    TimeZone::UTC.to_datetime(at).strftime("%Y-%m-%d %H:%M").to_string()
                };
                let says = format!(
                    "it begins at {} (UTC) and lasts until {}",
                    clock(two[1].from),
                    clock(two[0].to)
                );
                Err(NoMaintenance::Overlaps(says))
            }
            None => Ok(()),
        }
    }

    /// Some moment before its first occurrence on any clock.
    fn begins(&self) -> Timestamp {
        let first = TimeZone::UTC.to_timestamp(self.window.first).unwrap_or(Timestamp::UNIX_EPOCH);
        let before = first.checked_sub(SignedDuration::from_hours(48)).unwrap_or(Timestamp::MIN);
        self.window.in_force.0.map_or(before, |from| from.max(before))
    }

    /// The zones of the locations that it is for, once each.
    fn zones<'a>(&self, places: &'a [(i32, TimeZone)]) -> Vec<(&'a TimeZone, Vec<i32>)> {
        let mut zones: Vec<(&TimeZone, Vec<i32>)> = Vec::new();
        for (id, zone) in places.iter().filter(|(id, _)| self.reach.has_location(*id)) {
            match zones.iter_mut().find(|(z, _)| *z == zone) {
                Some((_, ids)) => ids.push(*id),
                None => zones.push((zone, vec![*id])),
            }
        }
        zones
    }

    /// Whether its time is another at every location.
    pub fn is_local(&self) -> bool {
        self.window.clock == Clock::Location
    }

    /// Its occurrences that touch the stretch, at full length; `places` are the locations with their zones.
    pub fn left_out(&self, within: Stretch, places: &[(i32, TimeZone)]) -> Vec<LeftOut> {
        let one = |stretch, reach: &Reach| LeftOut {
            stretch,
            why: self.window.why.clone(),
            author: None,
            reach: reach.clone(),
            is_held: self.holds,
        };
        if !self.is_local() {
            let all = self.window.occurrences(within, &TimeZone::UTC);
            return all.into_iter().map(|stretch| one(stretch, &self.reach)).collect();
        }
        let mut all = Vec::new();
        for (zone, locations) in self.zones(places) {
            let reach = Reach { journeys: self.reach.journeys.clone(), locations };
            all.extend(
                self.window
                    .occurrences(within, zone)
                    .into_iter()
                    .map(|stretch| one(stretch, &reach)),
            );
        }
        all
    }

    /// The next occurrences that end after a moment, at any of the locations, each with its zone.
    pub fn next(&self, after: Timestamp, most: usize, places: &[(i32, TimeZone)]) -> Vec<Stretch> {
        if !self.is_local() {
            return self.window.next(after, most, &TimeZone::UTC);
        }
        let zones = self.zones(places);
        let mut all: Vec<Stretch> =
            zones.into_iter().flat_map(|(zone, _)| self.window.next(after, most, zone)).collect();
        all.sort_by_key(|s| (s.from, s.to));
        all.dedup();
        all.truncate(most);
        all
    }

    /// The same as if it had come for so many weeks at a moment, whenever it begins; `None` of what comes once, or so many
    /// times.
    pub fn as_before(&self, at: Timestamp, weeks: i64) -> Option<Maintenance> {
        let counted = |rule: &Rule| rule.to_string().contains("COUNT=");
        match &self.window.repeat {
            Repeat::Once => return None,
            Repeat::Rule(rule) if counted(rule) => return None,
            Repeat::Rule(_) | Repeat::Daily | Repeat::Weekly(_) => {}
        }
        // By twelve weeks each: what comes every second, third or fourth week keeps its weeks.
        let begins = TimeZone::UTC.to_timestamp(self.window.first).ok()?;
        let wanted = at.checked_sub(SignedDuration::from_hours(24 * 7 * (weeks + 1))).ok()?;
        let days = begins.duration_since(wanted).as_hours().max(0) / 24;
        let first = self.window.first.checked_sub(((days + 83) / 84 * 84).days()).ok()?;
        let in_force = (None, self.window.in_force.1);
        let window = Window { first, in_force, ..self.window.clone() };
        Some(Maintenance { window, ..self.clone() })
    }

    /// Whether it had begun at any location before a moment.
    fn has_come(&self, at: Timestamp, places: &[(i32, TimeZone)]) -> bool {
        let first = self.next(self.begins(), 1, places);
        first.first().is_some_and(|first| first.from < at)
    }

    /// Parts it at a moment: what has been stays as it was, whatever becomes of the rest.
    pub fn parted(&self, at: Timestamp, places: &[(i32, TimeZone)]) -> Parted {
        let cut = |in_force| Window { in_force, ..self.window.clone() };
        let (from, until) = self.window.in_force;
        if !self.has_come(at, places) {
            return Parted { before: None, after: Some(self.window.clone()) };
        }
        let is_over = self.next(at, 1, places).is_empty();
        let before = if is_over { self.window.clone() } else { cut((from, Some(at))) };
        Parted { before: Some(before), after: (!is_over).then(|| cut((Some(at), until))) }
    }

    /// The occurrence that is going on, where it goes on at all: the one that ends last.
    pub fn goes_on(&self, at: Timestamp, places: &[(i32, TimeZone)]) -> Option<Stretch> {
        let now = self.next(at, places.len() + 1, places).into_iter().filter(|s| s.contains(at));
        now.max_by_key(|s| s.to)
    }

    /// What there is of it when the occurrence that goes on ends now: that, and the rest that comes later.
    pub fn ended(&self, at: Timestamp, places: &[(i32, TimeZone)]) -> Parted {
        let Some(now) = self.goes_on(at, places) else { return self.parted(at, places) };
        let parted = self.parted(at, places);
        let after = parted.after.map(|w| Window { in_force: (Some(now.to), w.in_force.1), ..w });
        let after = after.filter(|w| {
            let rest = Maintenance { window: w.clone(), ..self.clone() };
            w.check().is_ok() && !rest.next(now.to, 1, places).is_empty()
        });
        Parted { after, ..parted }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::{Weekday, date, time};
    use proptest::prelude::*;

    fn zone(name: &str) -> TimeZone {
        TimeZone::get(name).unwrap()
    }

    fn at(text: &str) -> Timestamp {
        text.parse().unwrap()
    }

    fn places() -> Vec<(i32, TimeZone)> {
        vec![(1, zone("Europe/Oslo")), (2, zone("America/Halifax")), (3, zone("Europe/Oslo"))]
    }

    fn nightly(clock: Clock) -> Maintenance {
        let until = Length::UntilTime(time(0, 30, 0, 0));
        let window = Window::once(date(2026, 11, 1).at(22, 30, 0, 0), until, clock, "backup");
        Maintenance {
            window: window.repeating(Repeat::Daily),
            reach: Reach::default(),
            holds: false,
        }
    }

    fn covered(all: &[Window], within: Stretch, like: &Maintenance, place: i32) -> Cover {
        let left_out = |w: &Window| {
            Maintenance { window: w.clone(), ..like.clone() }.left_out(within, &places())
        };
        let all: Vec<LeftOut> = all.iter().flat_map(left_out).collect();
        LeftOut::at(&all, 1, place).within(within)
    }

    #[test]
    fn a_window_on_each_locations_own_clock_leaves_out_another_time_at_each() {
        let all = nightly(Clock::Location).left_out(
            Stretch { from: at("2026-11-20T12:00:00Z"), to: at("2026-11-21T12:00:00Z") },
            &places(),
        );
        let of = |place| LeftOut::at(&all, 7, place).stretches().to_vec();
        assert_eq!(
            of(1),
            [Stretch { from: at("2026-11-20T21:30:00Z"), to: at("2026-11-20T23:30:00Z") }]
        );
        assert_eq!(
            of(2),
            [Stretch { from: at("2026-11-21T02:30:00Z"), to: at("2026-11-21T04:30:00Z") }]
        );
        assert_eq!(of(3), of(1));
        assert!(LeftOut::everywhere(&all, &[(7, 1), (7, 2)].into()).is_empty(), "never at both");
        assert_eq!(LeftOut::everywhere(&all, &[(7, 1), (8, 3)].into()).stretches(), of(1));
    }

    #[test]
    fn what_it_is_not_for_goes_on_counting() {
        let reach = Reach { journeys: vec![7], locations: vec![2] };
        let for_one = Maintenance { reach, holds: true, ..nightly(Clock::Utc) };
        let within = Stretch { from: at("2026-11-20T12:00:00Z"), to: at("2026-11-21T12:00:00Z") };
        let all = for_one.left_out(within, &places());
        let empty = |journey, place| LeftOut::at(&all, journey, place).is_empty();
        assert!(!empty(7, 2) && empty(7, 1) && empty(8, 2));
        assert!(!LeftOut::held(&all, 7, 2).is_empty());
        assert!(LeftOut::held(&nightly(Clock::Utc).left_out(within, &places()), 7, 2).is_empty());
        assert!(LeftOut::everywhere(&all, &BTreeSet::new()).is_empty());
    }

    #[test]
    fn what_would_come_too_often_or_over_itself_or_never_is_refused() {
        let rule = |text: &str, hours: i64| {
            let first = date(2026, 12, 1).at(1, 0, 0, 0);
            let rule = Rule::parse(text, first, &TimeZone::UTC).unwrap();
            let length = Length::Exact(SignedDuration::from_hours(hours));
            let window = Window::once(first, length, Clock::Utc, "").repeating(Repeat::Rule(rule));
            Maintenance { window, ..nightly(Clock::Utc) }.check()
        };
        assert!(matches!(rule("FREQ=HOURLY", 1), Err(NoMaintenance::TooOften(_))));
        assert!(matches!(rule("FREQ=DAILY", 30), Err(NoMaintenance::Overlaps(_))));
        assert_eq!(rule("FREQ=DAILY;BYHOUR=1,13", 12), Ok(()));
        assert_eq!(rule("FREQ=MONTHLY;BYDAY=1WE", 3), Ok(()));
        let mut never = nightly(Clock::Utc);
        never.window = never.window.repeating(Repeat::Once);
        never.window.in_force = (Some(at("2027-01-01T00:00:00Z")), None);
        assert_eq!(never.check(), Err(NoMaintenance::Never));
    }

    #[test]
    fn what_ends_now_comes_again_and_once_ends_for_good() {
        let now = at("2026-11-20T23:00:00Z");
        let parted = nightly(Clock::Utc).ended(now, &places());
        assert_eq!(parted.before.unwrap().in_force, (None, Some(now)));
        assert_eq!(parted.after.unwrap().in_force, (Some(at("2026-11-21T00:30:00Z")), None));
        let mut once = nightly(Clock::Utc);
        once.window = Window {
            first: date(2026, 11, 20).at(22, 30, 0, 0),
            repeat: Repeat::Once,
            ..once.window
        };
        let parted = once.ended(now, &places());
        assert_eq!(
            (parted.before.map(|w| w.in_force), parted.after),
            (Some((None, Some(now))), None)
        );
        assert_eq!(
            once.parted(at("2026-11-21T12:00:00Z"), &places()),
            Parted { before: Some(once.window.clone()), after: None }
        );
        assert_eq!(
            once.parted(at("2026-11-20T12:00:00Z"), &places()),
            Parted { before: None, after: Some(once.window.clone()) }
        );
    }

    #[test]
    fn what_begins_later_is_tried_as_if_it_had_come_all_the_time() {
        let now = at("2026-11-27T12:00:00Z");
        let week = SignedDuration::from_hours(24 * 7);
        let past = Stretch { from: now - week * 12, to: now };
        let first = date(2030, 3, 24).at(22, 30, 0, 0);
        let rule = Rule::parse("FREQ=WEEKLY;INTERVAL=2;BYDAY=SU", first, &TimeZone::UTC).unwrap();
        let like = |repeat| {
            let window = Window { first, repeat, ..nightly(Clock::Utc).window };
            Maintenance { window, ..nightly(Clock::Utc) }
        };
        let often = |repeat| like(repeat).as_before(now, 12).unwrap().left_out(past, &[]).len();
        assert_eq!(often(Repeat::Daily), 84);
        assert_eq!(often(Repeat::Weekly(vec![Weekday::Sunday])), 12);
        assert_eq!(often(Repeat::Rule(rule)), 6);
        assert_eq!(like(Repeat::Once).as_before(now, 12), None);
        let thrice = Rule::parse("FREQ=DAILY;COUNT=3", first, &TimeZone::UTC).unwrap();
        assert_eq!(like(Repeat::Rule(thrice)).as_before(now, 12), None);
    }

    proptest! {
        #[test]
        fn parting_a_window_changes_no_time_that_is_left_out(
            hours in -100i64..900, hour in 0i8..24, long in 1i64..20, weekly in any::<bool>(), local in any::<bool>(), place in 1i32..4,
        ) {
            let clock = if local { Clock::Location } else { Clock::Zone(zone("Europe/Oslo")) };
            let repeat = if weekly { Repeat::Weekly(vec![Weekday::Sunday, Weekday::Tuesday]) } else { Repeat::Daily };
            let length = Length::Exact(SignedDuration::from_hours(long));
            // Over the end of summer time in both zones (IANA tz database: 25 October and 1 November 2026).
            let window = Window::once(date(2026, 10, 20).at(hour, 0, 0, 0), length, clock, "").repeating(repeat);
            let whole = Maintenance { window: window.clone(), ..nightly(Clock::Utc) };
            let moment = at("2026-10-20T00:00:00Z") + SignedDuration::from_hours(hours);
            let within = Stretch { from: at("2026-10-15T00:00:00Z"), to: at("2026-11-20T00:00:00Z") };
            let parted = whole.parted(moment, &places());
            let parts: Vec<Window> = parted.before.into_iter().chain(parted.after).collect();
            prop_assert_eq!(covered(&parts, within, &whole, place), covered(&[window], within, &whole, place));
        }

        #[test]
        fn ending_an_occurrence_takes_out_the_rest_of_it_alone(minute in 0i64..20_000, local in any::<bool>(), place in 1i32..4) {
            let clock = if local { Clock::Location } else { Clock::Utc };
            let whole = nightly(clock);
            let now = at("2026-11-05T00:00:00Z") + SignedDuration::from_mins(minute);
            let within = Stretch { from: at("2026-11-01T00:00:00Z"), to: at("2026-12-10T00:00:00Z") };
            let parted = whole.ended(now, &places());
            let parts: Vec<Window> = parted.before.into_iter().chain(parted.after).collect();
            let before = covered(std::slice::from_ref(&whole.window), within, &whole, place);
            let taken = whole.goes_on(now, &places()).map_or(Cover::default(), |s| Cover::from(Stretch { from: now, to: s.to }));
            prop_assert_eq!(covered(&parts, within, &whole, place), before.without(&taken));
        }
    }
}
