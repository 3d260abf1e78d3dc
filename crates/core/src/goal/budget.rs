//! A limit on a reading, and where the reading stands to it.

use crate::stats::Reading;
use crate::timing::{Rating, Vital};
use serde::Serialize;

/// How something stands; each has a tone and a shape of its own on every page.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum State {
    /// Inside its budget.
    Within,
    /// Over its budget.
    Strained,
    /// Failing, or rated poor.
    Broken,
    /// Nothing to judge.
    NoData,
}

impl State {
    pub fn word(self) -> &'static str {
        match self {
            State::Within => "within",
            State::Strained => "strained",
            State::Broken => "broken",
            State::NoData => "nodata",
        }
    }

    /// Where a reading stands to an upper limit in the same unit. The limit itself is within.
    pub fn of(reading: &Reading, limit: f64) -> State {
        match reading.value {
            None => State::NoData,
            Some(v) if v <= limit => State::Within,
            Some(_) => State::Strained,
        }
    }

    /// Where a vital's reading at the 75th percentile stands to its published thresholds.
    pub fn of_vital(vital: Vital, reading: &Reading) -> State {
        match reading.value.map(|v| vital.rate(v)) {
            None => State::NoData,
            Some(Rating::Good) => State::Within,
            Some(Rating::NeedsImprovement) => State::Strained,
            Some(Rating::Poor) => State::Broken,
        }
    }

    /// Where an availability stands to the promised share.
    pub fn of_share(share: Option<f64>, promised: f64) -> State {
        match share {
            None => State::NoData,
            Some(s) if s >= promised => State::Within,
            Some(_) => State::Broken,
        }
    }
}

/// How much of the limit is left, in the reading's unit; negative when it is over.
pub fn margin(reading: &Reading, limit: f64) -> Option<f64> {
    reading.value.map(|v| limit - v)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::stats::{Samples, share_text};

    #[test]
    fn the_limit_itself_is_within_and_nothing_is_no_data() {
        let p75 = Samples::new([2000.0]).reading(0.75);
        assert_eq!(State::of(&p75, 2000.0), State::Within);
        assert_eq!(State::of(&p75, 1999.9), State::Strained);
        assert_eq!(State::of(&Reading::NONE, 1.0), State::NoData);
        assert_eq!(margin(&p75, 1500.0), Some(-500.0));
    }

    #[test]
    fn rounding_never_turns_a_missed_goal_into_a_met_one() {
        // Common practice, no published source.
        assert_eq!(share_text(0.989_999_6, 2, Some(0.99)), "98.99");
        assert_eq!(share_text(0.99, 2, Some(0.99)), "99.00");
        assert_eq!(share_text(0.999_999, 2, None), "99.99");
        assert_eq!(share_text(1.0, 2, Some(1.0)), "100.00");
        assert_eq!(share_text(0.000_01, 1, None), "<0.1");
    }
}
