//! A limit on any measure, and where its readings stand to it.

use super::budget::{Judged, Standing};
use crate::finding::{LEAST_IN_BUCKET, beyond_since};
use crate::measure::{Measured, Unit, Worse};
use crate::stats::Reading;
use jiff::Timestamp;

/// A limit on a measure: what is worse than it is over it, the limit itself is within.
#[derive(Debug, Clone, PartialEq)]
pub struct Limit {
    /// Which number, of what.
    pub measured: Measured,
    /// In the measure's unit.
    pub level: f64,
}

/// Why a value cannot be the limit of a measure.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum NoLimit {
    /// A share is no share.
    #[error("a limit of a share is above 0 % and below 100 %, or it could not be missed")]
    Share,
    /// A score is no score.
    #[error("a limit of Apdex is above 0 and at most 1")]
    Apdex,
    /// It lies where the measure never is, or where it always is.
    #[error("a limit of “{0}” is {1}")]
    Range(String, &'static str),
}

impl Limit {
    /// Whether this can be the limit of what it limits.
    ///
    /// # Errors
    /// Says what would be right.
    pub fn check(&self) -> Result<(), NoLimit> {
        let (v, measure) = (self.level, &self.measured.measure);
        let fits = v.is_finite() && v.abs() < 1e12;
        let range = |says| Err(NoLimit::Range(measure.to_string(), says));
        match (measure.unit(), measure.worse()) {
            (Unit::Share, Worse::Below) if !(v > 0.0 && v <= 1.0) => Err(NoLimit::Share),
            // None at all may fail: that is a limit that can be missed.
            (Unit::Share, Worse::Above) if !(0.0..1.0).contains(&v) => Err(NoLimit::Share),
            _ if matches!(measure, crate::measure::Measure::Apdex(_)) && !(v > 0.0 && v <= 1.0) => {
                Err(NoLimit::Apdex)
            }
            (Unit::Ms, _) if !(fits && v > 0.0) => range("a time above 0"),
            (Unit::Count | Unit::Times | Unit::Bytes, _) if !(fits && v >= 0.0) => {
                range("a number from 0 on")
            }
            (Unit::State, _) if !(0.0..3.0).contains(&v) => range("ok, unknown or degraded"),
            _ if !fits => range("a number"),
            _ => Ok(()),
        }
    }

    /// How a reading stands against the limit.
    pub fn judge(&self, reading: &Reading) -> Judged {
        judge(reading, self.level, self.measured.measure.worse())
    }

    /// Whether a reading is beyond the limit for sure: with its whole interval; what has none from the samples on that a moment
    /// of a course needs, and a number of things always.
    pub fn is_surely_missed(&self, reading: &Reading) -> bool {
        let judged = self.judge(reading);
        let by_samples = !self.measured.measure.has_interval() && reading.samples >= self.least();
        judged.state == Standing::Strained && (judged.sure || by_samples)
    }

    /// So many samples it takes to say how it stands, where an interval does not.
    fn least(&self) -> u64 {
        match self.measured.measure.unit() {
            // A number of things is sure however small it is.
            Unit::Count | Unit::State | Unit::Times => 0,
            _ => LEAST_IN_BUCKET,
        }
    }

    /// Since when the readings of a course are beyond the limit: the beginning of the last of them in a row that are. Those of
    /// few samples neither begin nor end it. `None` when it was so from the first one on, or is not so.
    pub fn since(&self, course: &[(Timestamp, Reading)]) -> Option<Timestamp> {
        let worse = self.measured.measure.worse();
        beyond_since(course, self.least(), |v| worse.is_beyond(v, self.level))
    }
}

/// How a reading stands against a limit that it may not be worse than.
pub(super) fn judge(reading: &Reading, limit: f64, worse: Worse) -> Judged {
    let sign = if worse == Worse::Above { 1.0 } else { -1.0 };
    let is_beyond = |v: f64| worse.is_beyond(v, limit);
    let margin = reading.value.map(|v| (limit - v) * sign);
    Judged {
        state: match reading.value {
            None => Standing::NoData,
            Some(v) if is_beyond(v) => Standing::Strained,
            Some(_) => Standing::Within,
        },
        margin,
        margin_share: margin.filter(|_| limit != 0.0).map(|m| m / limit),
        sure: reading.interval.is_some_and(|i| is_beyond(i.low) == is_beyond(i.high)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::calendar::stretch::at_second;
    use crate::stats::{Interval, Samples};
    use proptest::prelude::*;

    fn limit(text: &str, level: f64) -> Limit {
        Limit { measured: text.parse().unwrap_or_else(|e| panic!("{text}: {e}")), level }
    }

    fn reading(value: f64, samples: u64) -> Reading {
        Reading { value: Some(value), samples, interval: None }
    }

    #[test]
    fn what_is_worse_is_over_on_the_side_of_its_measure_and_the_limit_is_within() {
        let slow = limit("p75 of LCP", 2_500.0);
        assert_eq!(slow.judge(&reading(2_500.0, 9)).state, Standing::Within);
        assert_eq!(slow.judge(&reading(2_600.0, 9)).state, Standing::Strained);
        assert_eq!(slow.judge(&reading(2_600.0, 9)).margin, Some(-100.0));
        let good = limit("share of CLS good", 0.9);
        assert_eq!(good.judge(&reading(0.9, 9)).state, Standing::Within);
        assert_eq!(good.judge(&reading(0.95, 9)).state, Standing::Within);
        let under = good.judge(&reading(0.8, 9));
        assert_eq!(under.state, Standing::Strained);
        assert!((under.margin.unwrap() + 0.1).abs() < 1e-12, "{under:?}");
        assert_eq!(good.judge(&Reading::NONE).state, Standing::NoData);
    }

    #[test]
    fn it_is_sure_when_all_of_the_interval_lies_on_one_side() {
        let with = |low: f64, high: f64| Reading {
            value: Some(0.5),
            samples: 9,
            interval: Some(Interval { low, high }),
        };
        let good = limit("share of CLS good", 0.9);
        assert!(good.judge(&with(0.4, 0.6)).sure);
        assert!(good.judge(&with(0.9, 0.99)).sure, "the limit itself is within");
        assert!(!good.judge(&with(0.4, 0.95)).sure);
        assert!(!good.judge(&reading(0.4, 9)).sure, "without an interval nothing is");
        assert!(good.is_surely_missed(&with(0.4, 0.6)) && !good.is_surely_missed(&with(0.4, 0.95)));
        let errors = limit("count of errors", 3.0);
        assert!(errors.is_surely_missed(&reading(4.0, 4)), "a number of things is what it is");
        assert!(!errors.is_surely_missed(&reading(3.0, 3)));
        let mean = limit("mean of LCP", 2_000.0);
        assert!(
            mean.is_surely_missed(&reading(3_000.0, 30))
                && !mean.is_surely_missed(&reading(3_000.0, 9))
        );
        let median = limit("p50 of LCP", 2_000.0);
        assert!(
            !median.is_surely_missed(&reading(3_000.0, 30)),
            "it has an interval, and it is not there"
        );
    }

    #[test]
    fn a_limit_that_cannot_be_missed_or_kept_is_none() {
        for (text, level, fine) in [
            ("p75 of LCP", 2_500.0, true),
            ("p75 of LCP", 0.0, false),
            ("p75 of LCP", f64::INFINITY, false),
            ("p75 of CLS", 0.1, true),
            ("share failed", 0.0, true),
            ("share failed", 1.0, false),
            ("share failed", -0.1, false),
            ("availability", 0.0, false),
            ("availability", 1.0, true),
            ("availability", 1.01, false),
            ("Apdex at 2 s", 0.85, true),
            ("Apdex at 2 s", 1.1, false),
            ("count of errors", 0.0, true),
            ("count of errors", -1.0, false),
            ("count of errors", f64::NAN, false),
            ("state for dependency \"payments\"", 1.0, true),
            ("state for dependency \"payments\"", 3.0, false),
        ] {
            let limit = limit(text, level);
            assert_eq!(limit.check().is_ok(), fine, "{text} {level}: {:?}", limit.check());
        }
        let says = limit("p75 of LCP", -1.0).check().unwrap_err().to_string();
        assert_eq!(says, "a limit of “p75 of LCP” is a time above 0");
    }

    #[test]
    fn it_is_over_since_the_first_of_the_last_buckets_that_are_and_few_samples_say_nothing() {
        let course = |values: &[(f64, u64)]| -> Vec<(Timestamp, Reading)> {
            (0..).zip(values).map(|(i, (v, n))| (at_second(i * 3_600), reading(*v, *n))).collect()
        };
        let good = limit("share of CLS good", 0.9);
        let hours = [(0.95, 50), (0.8, 50), (0.99, 3), (0.7, 50)];
        assert_eq!(good.since(&course(&hours)), Some(at_second(3_600)));
        assert_eq!(good.since(&course(&hours[1..])), None, "it was so all the time");
        assert_eq!(good.since(&course(&hours[..1])), None, "it is not so");
        let errors = limit("count of errors", 0.0);
        assert_eq!(errors.since(&course(&[(0.0, 0), (2.0, 2)])), Some(at_second(3_600)));
    }

    proptest! {
        #[test]
        fn within_and_a_margin_not_below_nought_are_one_on_either_side(
            values in prop::collection::vec(0.0..1.0f64, 1..60),
            level in 0.01..0.99f64,
            is_above in any::<bool>(),
        ) {
            let text = if is_above { "share failed" } else { "availability" };
            let judged = limit(text, level).judge(&Samples::new(values).reading(0.5));
            prop_assert_eq!(judged.state == Standing::Within, judged.margin.is_some_and(|m| m >= 0.0));
        }
    }
}
