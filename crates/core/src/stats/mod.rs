//! Percentiles with their uncertainty, the sketch that lets them be merged, comparing two
//! stretches, when a series changed.

pub mod change;
pub mod compare;
pub mod percentile;
pub mod proof;
pub mod select;
pub mod share;
pub mod sketch;
pub mod summary;

pub use percentile::{Interval, Method, Samples, readings};
pub use proof::Proof;
use serde::Serialize;
pub use share::{share, share_text};
pub use sketch::Sketch;
pub use summary::Summary;

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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn few_samples_carry_a_mark_and_so_does_neither_nothing_nor_enough() {
        let median = |n: u32| Samples::new((0..n).map(f64::from)).reading(0.5);
        // Five samples lie below the median with a chance of 1 in 32: too much for either end of 95 %.
        assert_eq!(
            [0, 1, 5, 6, 50].map(|n| median(n).is_small()),
            [false, true, true, false, false]
        );
        assert_eq!(Reading::NONE.samples, 0);
        assert!(!Reading::NONE.is_small(), "no data is no small sample");
    }
}
