//! Whether what is to be released may go on: its runs beside those of what is live, and how much slower it may be.

use crate::stats::compare::{Shift, share_shift};
use serde::Serialize;

/// What a comparison says.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Verdict {
    /// Not surely worse than is allowed.
    Passes,
    /// There are too few runs to say anything, which is no reason to go on.
    TooFewRuns,
    /// Surely worse than is allowed.
    Worse,
}

impl Verdict {
    /// As people say it.
    pub fn words(self) -> &'static str {
        match self {
            Verdict::Passes => "passes",
            Verdict::TooFewRuns => "too few runs",
            Verdict::Worse => "surely worse than allowed",
        }
    }
}

/// How a duration moved: `allowed` of 0.05 lets it become a twentieth longer. It is worse when even the low end of the 95 %
/// interval of the difference is beyond that; without an interval nobody knows.
pub fn of_duration(moved: Option<&Shift>, allowed: f64) -> Verdict {
    let Some((moved, interval)) = moved.and_then(|m| m.interval.map(|i| (m, i))) else {
        return Verdict::TooFewRuns;
    };
    match interval.low > allowed * moved.before {
        true => Verdict::Worse,
        false => Verdict::Passes,
    }
}

/// How the share of failed runs moved: failed and counted ones, live and to be released. It is worse when it surely rose.
pub fn of_failures(live: (u64, u64), candidate: (u64, u64)) -> Verdict {
    match share_shift(live, candidate) {
        None => Verdict::TooFewRuns,
        Some(moved) if moved.is_rise() => Verdict::Worse,
        Some(_) => Verdict::Passes,
    }
}

/// What all of them say together: the worst of them, and that there are too few runs where nothing was compared.
pub fn together(verdicts: impl IntoIterator<Item = Verdict>) -> Verdict {
    verdicts.into_iter().max().unwrap_or(Verdict::TooFewRuns)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::stats::compare::percentile_shift;
    use crate::stats::{Interval, Samples};
    use proptest::prelude::*;

    #[test]
    fn only_what_is_surely_beyond_what_is_allowed_stops_a_release_and_too_few_runs_let_nothing_through()
     {
        let moved = |low, high| Shift {
            before: 1_000.0,
            after: 1_000.0 + (low + high) / 2.0,
            interval: Some(Interval { low, high }),
        };
        assert_eq!(of_duration(Some(&moved(60.0, 90.0)), 0.05), Verdict::Worse);
        assert_eq!(of_duration(Some(&moved(40.0, 90.0)), 0.05), Verdict::Passes, "may be within");
        assert_eq!(of_duration(Some(&moved(-90.0, -60.0)), 0.05), Verdict::Passes, "quicker");
        let unknown = Shift { interval: None, ..moved(60.0, 90.0) };
        assert_eq!(of_duration(Some(&unknown), 0.05), Verdict::TooFewRuns);
        assert_eq!(of_duration(None, 0.05), Verdict::TooFewRuns);
        assert_eq!(of_failures((1, 400), (12, 60)), Verdict::Worse);
        assert_eq!(of_failures((1, 400), (1, 60)), Verdict::Passes);
        assert_eq!(of_failures((1, 400), (0, 0)), Verdict::TooFewRuns);
        use Verdict::*;
        assert_eq!(together([Passes, TooFewRuns, Passes]), TooFewRuns);
        assert_eq!(together([TooFewRuns, Worse]), Worse);
        assert_eq!(together([]), TooFewRuns, "nothing compared is nothing known");
    }

    proptest! {
        #[test]
        fn a_release_that_is_as_quick_as_what_is_live_is_seldom_stopped_and_one_twice_as_slow_always(seed in 0u64..4_000) {
            let run = |nth: u64, of: u64| {
                let x = (nth + of * 977 + seed * 7_919).wrapping_mul(0x9e37_79b9_7f4a_7c15) >> 40;
                800.0 + (x % 400) as f64
            };
            let live = Samples::new((0..60).map(|n| run(n, 1)));
            let twice = Samples::new((0..40).map(|n| 2.0 * run(n, 2)));
            prop_assert_eq!(of_duration(percentile_shift(&live, &twice, 0.75).as_ref(), 0.05), Verdict::Worse);
            let same = percentile_shift(&live, &live, 0.75);
            prop_assert_eq!(of_duration(same.as_ref(), 0.0), Verdict::Passes);
        }
    }
}
