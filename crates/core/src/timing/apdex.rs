//! Apdex, as the Apdex Technical Specification 1.1 writes it (from memory).

use crate::stats::Proof;
use crate::stats::proof::counted;
use serde::Serialize;

/// From where to where a target time T may lie, in seconds.
pub const TARGETS_S: std::ops::RangeInclusive<f64> = 0.1..=60.0;

/// The group counts behind a score.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize)]
pub struct Apdex {
    /// Target time T in seconds.
    pub t_s: f64,
    /// Up to T.
    pub satisfied: u64,
    /// Beyond T, up to four times T.
    pub tolerating: u64,
    /// Beyond that, or failed.
    pub frustrated: u64,
    /// Where the groups are not known exactly: from where to where the score may lie.
    pub between: Option<(f64, f64)>,
}

impl Apdex {
    /// With the target T in seconds.
    pub fn new(t_s: f64) -> Apdex {
        Apdex { t_s, ..Apdex::default() }
    }

    /// Counts one task that took `ms`; both bounds, T and 4T, belong to the better group.
    pub fn add(&mut self, ms: f64) {
        self.add_against(ms, self.t_s * 1000.0);
    }

    /// Counts one value against a target in the value's own unit.
    pub fn add_against(&mut self, value: f64, t: f64) {
        if value <= t {
            self.satisfied += 1;
        } else if value <= 4.0 * t {
            self.tolerating += 1;
        } else {
            self.frustrated += 1;
        }
    }

    /// Counts one task that failed: frustrated, however quick it was.
    pub fn add_failed(&mut self) {
        self.frustrated += 1;
    }

    /// How many there are.
    pub fn samples(&self) -> u64 {
        self.satisfied + self.tolerating + self.frustrated
    }

    /// Under a hundred samples, as the specification marks them.
    pub fn is_small_group(&self) -> bool {
        (1..100).contains(&self.samples())
    }

    /// (satisfied + tolerating / 2) / all, or `None` without samples.
    pub fn score(&self) -> Option<f64> {
        let n = self.samples();
        (n > 0).then(|| (self.satisfied as f64 + self.tolerating as f64 / 2.0) / n as f64)
    }

    /// From groups that are known within bounds: how many of `all` are up to T, and up to 4T, at least and at most. Each
    /// count is taken in the middle of its bounds.
    pub fn within_bounds(t_s: f64, all: u64, up_to_t: (u64, u64), up_to_4t: (u64, u64)) -> Apdex {
        let middle = |(least, most): (u64, u64)| least.midpoint(most);
        let (satisfied, tolerable) = (middle(up_to_t), middle(up_to_4t));
        let score = |t: u64, four_t: u64| (t + four_t) as f64 / (2.0 * all as f64);
        let is_known = all == 0 || (up_to_t.0, up_to_4t.0) == (up_to_t.1, up_to_4t.1);
        Apdex {
            t_s,
            satisfied,
            tolerating: tolerable - satisfied,
            frustrated: all - tolerable,
            between: (!is_known)
                .then(|| (score(up_to_t.0, up_to_4t.0), score(up_to_t.1, up_to_4t.1))),
        }
    }

    /// How far off the score may be, in words, if that would be seen; empty when the groups are known.
    pub fn bounds_words(&self) -> String {
        let text = |(low, high): (f64, f64)| format!("between {low:.3} and {high:.3}");
        self.between.map_or(String::new(), text)
    }

    /// How the score was come by.
    pub fn proof(&self) -> Proof {
        let worked = match self.score() {
            None => "no samples: NS".to_string(),
            Some(_) => format!(
                "({} + {} / 2) / {} = {self}",
                counted(self.satisfied),
                counted(self.tolerating),
                counted(self.samples())
            ),
        };
        let proof =
            Proof::new("Apdex = (satisfied + tolerating / 2) / all", worked, self.samples()).by(
                format!(
                    "satisfied up to T = {} s, tolerating up to 4T = {} s, both included",
                    self.t_s,
                    4.0 * self.t_s
                ),
            );
        match self.between {
            None => proof,
            Some(_) => proof.noting(format!(
                "the groups are read off merged hourly sketches, where what lies within 1 % of T or 4T may be on either side: half of it is counted on each; the score is {}",
                self.bounds_words()
            )),
        }
    }

    /// The specification's name for the score's band.
    pub fn band(&self) -> Option<&'static str> {
        self.score().map(|s| match s {
            s if s >= 0.94 => "excellent",
            s if s >= 0.85 => "good",
            s if s >= 0.70 => "fair",
            s if s >= 0.50 => "poor",
            _ => "unacceptable",
        })
    }
}

impl std::fmt::Display for Apdex {
    /// The uniform notation: `0.75 [4.0]`; `*` marks a small group (under 100 samples), `NS` no
    /// sample.
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self.score() {
            None => write!(f, "NS")?,
            Some(score) => write!(f, "{score:.2}")?,
        }
        // T is a multiple of 0.1 s in the specification; one that is not is written out.
        match (self.t_s * 10.0).fract().abs() < 1e-9 {
            true => write!(f, " [{:.1}]", self.t_s)?,
            false => write!(f, " [{}]", self.t_s)?,
        }
        if self.is_small_group() {
            write!(f, "*")?;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn of(t_s: f64, times: &[f64]) -> Apdex {
        let mut a = Apdex::new(t_s);
        times.iter().for_each(|ms| a.add(*ms));
        a
    }

    #[test]
    fn the_specifications_example_scores_three_quarters() {
        let a = Apdex { t_s: 4.0, satisfied: 60, tolerating: 30, frustrated: 10, between: None };
        assert_eq!(a.score(), Some(0.75));
        assert_eq!(a.to_string(), "0.75 [4.0]");
        assert_eq!(a.band(), Some("fair"));
        let few = Apdex { t_s: 1.5, satisfied: 6, tolerating: 3, frustrated: 1, between: None };
        assert_eq!(
            few.proof().lines(),
            [
                "Apdex = (satisfied + tolerating / 2) / all.",
                "(6 + 3 / 2) / 10 = 0.75 [1.5]*.",
                "Samples: 10; satisfied up to T = 1.5 s, tolerating up to 4T = 6 s, both included.",
            ]
        );
    }

    #[test]
    fn both_bounds_belong_to_the_better_group() {
        let a = of(2.0, &[2000.0, 2000.1, 8000.0, 8000.1]);
        assert_eq!((a.satisfied, a.tolerating, a.frustrated), (1, 2, 1));
        assert_eq!(a.to_string(), "0.50 [2.0]*");
    }

    #[test]
    fn groups_within_bounds_are_counted_in_the_middle_and_the_score_says_how_far_off_it_may_be() {
        let a = Apdex::within_bounds(1.5, 100, (50, 60), (80, 84));
        assert_eq!(
            (a.satisfied, a.tolerating, a.frustrated, a.between),
            (55, 27, 18, Some((0.65, 0.72)))
        );
        assert!(
            a.proof().lines()[3].ends_with("the score is between 0.650 and 0.720."),
            "{:?}",
            a.proof().lines()
        );
        let known = Apdex::within_bounds(1.5, 100, (60, 60), (80, 80));
        assert_eq!((known, known.bounds_words().as_str()), (Apdex { between: None, ..known }, ""));
        assert_eq!(Apdex::within_bounds(1.5, 0, (0, 0), (0, 0)).score(), None);
    }

    #[test]
    fn no_sample_is_said_and_not_scored() {
        assert_eq!(Apdex::new(1.5).score(), None);
        assert_eq!(Apdex::new(1.5).to_string(), "NS [1.5]");
    }

    proptest! {
        #[test]
        fn the_score_lies_between_nought_and_one_and_rises_with_t(
            times in prop::collection::vec(0.0..60_000.0f64, 1..80), t in 0.1..20.0f64, more in 0.0..20.0f64,
        ) {
            let low = of(t, &times).score().unwrap();
            let high = of(t + more, &times).score().unwrap();
            prop_assert!((0.0..=1.0).contains(&low));
            prop_assert!(high >= low);
        }
    }
}
