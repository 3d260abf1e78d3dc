//! Counting runs (common practice, no published source).
//!
//! *Availability* is the share of counted runs that got through, over all locations. *Uptime* is
//! the share of counted time in which at least one location got through ("reached from
//! somewhere"). Four locations, one of them out all day: availability 75 %, uptime 100 %.
//!
//! A run that is slow got through. A run that is unmeasured says nothing about the site and is
//! left out of both numerator and denominator, as is every run inside maintenance or a carve-out.

use super::Score;
use crate::calendar::Cover;
use crate::run::Outcome;
use jiff::Timestamp;
use serde::Serialize;

/// One run, as far as goals are concerned.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Check {
    /// When it was due.
    pub at: Timestamp,
    /// What became of it.
    pub outcome: Outcome,
}

/// Counts of runs by what became of them.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize)]
pub struct Tally {
    /// Runs that passed.
    pub passed: u64,
    /// Runs that got through slowly.
    pub slow: u64,
    /// Runs that failed.
    pub failed: u64,
    /// Runs that say nothing of the site.
    pub unmeasured: u64,
    /// Inside maintenance or a carve-out: not counted, whatever the outcome.
    pub left_out: u64,
}

/// From this share of failed runs in an hour on, the hour is called troubled.
pub const TROUBLE_SHARE: f64 = 0.05;

impl Tally {
    /// Counts one more.
    pub fn add(&mut self, outcome: Outcome) {
        match outcome {
            Outcome::Passed => self.passed += 1,
            Outcome::Slow => self.slow += 1,
            Outcome::Failed => self.failed += 1,
            Outcome::Unmeasured => self.unmeasured += 1,
        }
    }

    /// Counts what another has counted.
    pub fn merge(&mut self, other: &Tally) {
        self.passed += other.passed;
        self.slow += other.slow;
        self.failed += other.failed;
        self.unmeasured += other.unmeasured;
        self.left_out += other.left_out;
    }

    /// Counts the checks outside what is left out; those inside are only noted.
    pub fn of(checks: &[Check], left_out: &Cover) -> Tally {
        let mut tally = Tally::default();
        for check in checks {
            if left_out.contains(check.at) {
                tally.left_out += 1;
            } else {
                tally.add(check.outcome);
            }
        }
        tally
    }

    /// Tallies of buckets of so many seconds, counted from 1970, in order of time; buckets without a check are left
    /// out.
    pub fn buckets(checks: &[Check], left_out: &Cover, bucket_s: i64) -> Vec<(i64, Tally)> {
        let mut buckets: std::collections::BTreeMap<i64, Tally> = std::collections::BTreeMap::new();
        for check in checks {
            let tally =
                buckets.entry(check.at.as_second().div_euclid(bucket_s) * bucket_s).or_default();
            if left_out.contains(check.at) {
                tally.left_out += 1;
            } else {
                tally.add(check.outcome);
            }
        }
        buckets.into_iter().collect()
    }

    /// Runs that passed or got through slowly.
    pub fn got_through(&self) -> u64 {
        self.passed + self.slow
    }

    /// How many runs the availability is computed from.
    pub fn counted(&self) -> u64 {
        self.got_through() + self.failed
    }

    /// All runs, also those that do not count.
    pub fn all(&self) -> u64 {
        self.counted() + self.unmeasured + self.left_out
    }

    /// Share of counted runs that got through, or `None` when none counts.
    pub fn availability(&self) -> Option<f64> {
        self.score().share()
    }

    /// The tally as an availability goal sees it.
    pub fn score(&self) -> Score {
        Score {
            good: self.got_through(),
            bad: self.failed,
            unmeasured: self.unmeasured,
            missing: 0,
            left_out: self.left_out,
        }
    }

    /// Whether an hour of these runs is worth pointing at.
    pub fn is_troubled(&self) -> bool {
        crate::stats::share(self.failed, self.counted()).is_some_and(|s| s >= TROUBLE_SHARE)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::calendar::stretch::at_second;
    use crate::calendar::{Cover, Stretch};
    use proptest::prelude::*;

    const OUTCOMES: [Outcome; 4] =
        [Outcome::Passed, Outcome::Slow, Outcome::Failed, Outcome::Unmeasured];

    fn checks() -> impl Strategy<Value = Vec<Check>> {
        let check = (0..20_000i64, 0..4usize)
            .prop_map(|(s, o)| Check { at: at_second(s), outcome: OUTCOMES[o] });
        prop::collection::vec(check, 0..120)
    }

    proptest! {
        #[test]
        fn buckets_hold_every_check_once_and_add_up_to_the_whole(checks in checks(), from in 0..20_000i64, length in 0..9_000i64) {
            let left_out = Cover::of([Stretch { from: at_second(from), to: at_second(from + length) }]);
            let buckets = Tally::buckets(&checks, &left_out, 900);
            prop_assert!(buckets.windows(2).all(|w| w[0].0 < w[1].0));
            prop_assert!(buckets.iter().all(|(begin, t)| begin % 900 == 0 && t.all() > 0));
            let whole = Tally::of(&checks, &left_out);
            let sum = |of: fn(&Tally) -> u64| buckets.iter().map(|(_, t)| of(t)).sum::<u64>();
            let sums = (sum(|t| t.passed), sum(|t| t.slow), sum(|t| t.failed), sum(|t| t.unmeasured), sum(|t| t.left_out));
            prop_assert_eq!(sums, (whole.passed, whole.slow, whole.failed, whole.unmeasured, whole.left_out));
            prop_assert_eq!(whole.all(), checks.len() as u64);
            // Counted by hand: what lies in the left-out time counts nowhere else.
            let out = checks.iter().filter(|c| (from..from + length).contains(&c.at.as_second())).count();
            prop_assert_eq!(whole.left_out, out as u64);
        }
    }
}
