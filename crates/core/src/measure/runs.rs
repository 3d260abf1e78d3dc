//! Gathering a measure from runs.

use super::sheets::Parts;
use super::{Measure, Part, Span};
use crate::run::Outcome;
use jiff::Timestamp;

/// A run as measures see it.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Played {
    /// When it was due.
    pub at: Timestamp,
    /// Of which journey.
    pub journey: i32,
    /// From where.
    pub location: i32,
    /// What became of it.
    pub outcome: Outcome,
    /// How long it took, in milliseconds.
    pub duration_ms: f64,
    /// How long the step took that is asked about, if it came through it.
    pub step_ms: Option<f64>,
    /// Milliseconds in network, server and browser, where that is known.
    pub split_ms: Option<[f64; 3]>,
    /// Whether it counts; what maintenance leaves out does not.
    pub counts: bool,
}

impl Part {
    /// One more run.
    pub fn add_run(&mut self, measure: &Measure, run: &Played) {
        if !run.counts {
            self.left_out += 1;
            return;
        }
        if run.outcome == Outcome::Unmeasured {
            return;
        }
        let at_s = run.at.as_second();
        self.places.insert(run.location);
        match measure {
            Measure::RunTime(span, statistic) => {
                let value = match span {
                    Span::Step => run.step_ms,
                    _ if !run.outcome.got_through() => None,
                    Span::Run => Some(run.duration_ms),
                    Span::Network => run.split_ms.map(|s| s[0]),
                    Span::Server => run.split_ms.map(|s| s[1]),
                    Span::Browser => run.split_ms.map(|s| s[2]),
                };
                if let Some(value) = value {
                    self.add(*statistic, value, true);
                }
            }
            Measure::FailingLocations => {
                let failed = run.outcome == Outcome::Failed;
                self.samples += 1;
                let of = (run.location, run.journey);
                let held = self.newest.entry(of).or_insert((at_s, failed));
                *held = (*held).max((at_s, failed));
            }
            Measure::RunSilence => {
                self.samples += 1;
                self.newest_s = self.newest_s.max(Some(at_s));
            }
            _ => {
                let is_hit = match measure {
                    Measure::Availability => run.outcome.got_through(),
                    Measure::RunsSlow => run.outcome == Outcome::Slow,
                    Measure::RunsFailed => run.outcome == Outcome::Failed,
                    _ => false,
                };
                self.samples += 1;
                self.hits += u64::from(is_hit);
            }
        }
    }
}

/// Gathers runs into buckets of so many seconds.
pub fn gather<'a>(
    runs: impl IntoIterator<Item = &'a Played>,
    measure: &Measure,
    bucket_s: i64,
) -> Parts {
    let mut parts = Parts::new();
    for run in runs {
        let at = run.at.as_second().div_euclid(bucket_s) * bucket_s;
        parts.entry(at).or_default().add_run(measure, run);
    }
    parts
}
