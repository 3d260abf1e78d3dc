//! Percentiles with their uncertainty, and the sketch that lets them be merged.

pub mod percentile;
pub mod sketch;

pub use percentile::{Interval, Method, Samples};
use serde::Serialize;
pub use sketch::Sketch;

/// A number with what is needed to believe it.
///
/// `value` is `None` when there was nothing to measure: the percentile of no samples is "no data",
/// never zero.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Reading {
    /// The value, in the unit that the field holding this reading names.
    pub value: Option<f64>,
    /// How many samples it was computed from.
    pub samples: u64,
    /// 95 % confidence interval, where one exists for so few samples.
    pub interval: Option<Interval>,
}

impl Reading {
    /// The reading of nothing.
    pub const NONE: Reading = Reading { value: None, samples: 0, interval: None };

    /// Too few samples to be printed without a mark: no 95 % interval exists for them.
    pub fn is_small(&self) -> bool {
        self.value.is_some() && self.interval.is_none()
    }
}

/// Whether both counts are known and `part` of `whole` can be said, as a fraction from 0 to 1.
pub fn share(part: u64, whole: u64) -> Option<f64> {
    (whole > 0).then(|| part as f64 / whole as f64)
}

/// A share as a percentage with `decimals` places, rounded *towards failing*: a share below
/// `goal` is never printed as one that meets it.
///
/// 98.9996 against a goal of 99 prints as `98.99`, not `99.00`.
pub fn share_text(share: f64, decimals: usize, goal: Option<f64>) -> String {
    let percent = share * 100.0;
    let scale = 10f64.powi(decimals as i32);
    let mut rounded = (percent * scale).round() / scale;
    let missed = |limit: f64| share < limit && rounded >= limit * 100.0;
    // Anything short of everything is printed short of everything, goal or none.
    if goal.is_some_and(missed) || missed(1.0) {
        rounded = (percent * scale).floor() / scale;
    }
    if share > 0.0 && rounded == 0.0 {
        return format!("<{:.decimals$}", 1.0 / scale);
    }
    format!("{rounded:.decimals$}")
}
