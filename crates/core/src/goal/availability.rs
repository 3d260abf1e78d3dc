//! Availability and uptime (common practice, no published source).
//!
//! *Availability* is the share of counted runs that got through, over all locations. *Uptime* is
//! the share of counted time in which at least one location got through ("reached from
//! somewhere"). Four locations, one of them out all day: availability 75 %, uptime 100 %.
//!
//! A run that is slow got through. A run that is unmeasured says nothing about the site and is
//! left out of both numerator and denominator, as is every run inside maintenance or a carve-out.

use crate::calendar::Stretch;
use crate::run::Outcome;
use jiff::Timestamp;
use serde::Serialize;
use std::collections::BTreeMap;

/// One run, as far as goals are concerned.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Check {
    /// When it was due.
    pub at: Timestamp,
    pub outcome: Outcome,
}

/// Counts of runs by what became of them.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize)]
pub struct Tally {
    pub passed: u64,
    pub slow: u64,
    pub failed: u64,
    pub unmeasured: u64,
    /// Inside maintenance or a carve-out: not counted, whatever the outcome.
    pub left_out: u64,
}

impl Tally {
    pub fn add(&mut self, outcome: Outcome) {
        match outcome {
            Outcome::Passed => self.passed += 1,
            Outcome::Slow => self.slow += 1,
            Outcome::Failed => self.failed += 1,
            Outcome::Unmeasured => self.unmeasured += 1,
        }
    }

    pub fn merge(&mut self, other: &Tally) {
        self.passed += other.passed;
        self.slow += other.slow;
        self.failed += other.failed;
        self.unmeasured += other.unmeasured;
        self.left_out += other.left_out;
    }

    /// Counts the checks outside the windows; those inside are only noted as left out.
    pub fn of(checks: &[Check], left_out: &[Stretch]) -> Tally {
        let mut tally = Tally::default();
        for check in checks {
            if left_out.iter().any(|w| w.contains(check.at)) {
                tally.left_out += 1;
            } else {
                tally.add(check.outcome);
            }
        }
        tally
    }

    pub fn got_through(&self) -> u64 {
        self.passed + self.slow
    }

    /// How many runs the availability is computed from.
    pub fn counted(&self) -> u64 {
        self.got_through() + self.failed
    }

    pub fn all(&self) -> u64 {
        self.counted() + self.unmeasured + self.left_out
    }

    /// Share of counted runs that got through, or `None` when none counts.
    pub fn availability(&self) -> Option<f64> {
        crate::stats::share(self.got_through(), self.counted())
    }
}

/// Share of time at least one location got through.
///
/// Time is cut into slots of one cadence interval. A slot counts when at least one counted run was
/// due in it, and is up when one of those got through. `None` when no slot counts.
pub fn uptime(checks: &[Check], every_s: i64, left_out: &[Stretch]) -> Option<f64> {
    let mut slots: BTreeMap<i64, bool> = BTreeMap::new();
    for check in checks {
        if check.outcome == Outcome::Unmeasured || left_out.iter().any(|w| w.contains(check.at)) {
            continue;
        }
        let up = slots.entry(check.at.as_second().div_euclid(every_s.max(1))).or_default();
        *up |= check.outcome.got_through();
    }
    let up = slots.values().filter(|up| **up).count() as u64;
    crate::stats::share(up, slots.len() as u64)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::calendar::stretch::at_second;
    use proptest::prelude::*;

    /// `outcomes[location][slot]`, five minutes apart.
    fn checks(outcomes: &[Vec<Outcome>]) -> Vec<Check> {
        outcomes
            .iter()
            .flat_map(|l| l.iter().enumerate().map(|(i, o)| Check { at: at_second(i as i64 * 300), outcome: *o }))
            .collect()
    }

    #[test]
    fn four_locations_one_out_all_day_is_75_percent_available_and_always_up() {
        // Common practice, no published source.
        let mut all = vec![vec![Outcome::Passed; 288]; 3];
        all.push(vec![Outcome::Failed; 288]);
        let checks = checks(&all);
        assert_eq!(Tally::of(&checks, &[]).availability(), Some(0.75));
        assert_eq!(uptime(&checks, 300, &[]), Some(1.0));
    }

    #[test]
    fn our_own_trouble_and_nothing_at_all_are_no_data_and_never_a_zero() {
        let checks = checks(&[vec![Outcome::Unmeasured; 5]]);
        assert_eq!(Tally::of(&checks, &[]).availability(), None);
        assert_eq!(uptime(&checks, 300, &[]), None);
    }

    fn outcome() -> impl Strategy<Value = Outcome> {
        prop::sample::select(vec![Outcome::Passed, Outcome::Slow, Outcome::Failed])
    }

    proptest! {
        #[test]
        fn availability_never_exceeds_uptime_when_every_slot_is_measured_everywhere(
            all in prop::collection::vec(prop::collection::vec(outcome(), 24), 1..6),
        ) {
            let one = all.len() == 1;
            let checks = checks(&all);
            let (a, u) = (Tally::of(&checks, &[]).availability().unwrap(), uptime(&checks, 300, &[]).unwrap());
            prop_assert!(a <= u + 1e-12);
            if one {
                prop_assert!((a - u).abs() < 1e-12);
            }
        }

        #[test]
        fn a_carve_out_changes_nothing_outside_it(
            all in prop::collection::vec(prop::collection::vec(outcome(), 24), 1..4), from in 0i64..24, n in 1i64..24,
        ) {
            let checks = checks(&all);
            let window = Stretch { from: at_second(from * 300), to: at_second((from + n) * 300) };
            let outside: Vec<_> = checks.iter().copied().filter(|c| !window.contains(c.at)).collect();
            let (with, without) = (Tally::of(&checks, &[window]), Tally::of(&outside, &[]));
            prop_assert_eq!(with.availability(), without.availability());
            prop_assert_eq!(with.left_out as usize, checks.len() - outside.len());
            prop_assert_eq!(uptime(&checks, 300, &[window]), uptime(&outside, 300, &[]));
        }
    }
}
