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

/// From this share of failed runs in an hour on, the hour is called troubled.
pub const TROUBLE_SHARE: f64 = 0.05;

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
            let tally = buckets.entry(check.at.as_second().div_euclid(bucket_s) * bucket_s).or_default();
            if left_out.contains(check.at) {
                tally.left_out += 1;
            } else {
                tally.add(check.outcome);
            }
        }
        buckets.into_iter().collect()
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
