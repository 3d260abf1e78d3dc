//! How close a goal is to being missed: one rule for every list that puts the worst first.

use super::burn::{Burn, Forecast, PAIRS, Pair};
use super::{ErrorBudget, Score};
use crate::calendar::Stretch;
use jiff::Timestamp;
use std::cmp::Ordering;

/// What threatens a goal, the worst there is.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Danger {
    /// Nothing does, or nothing is counted.
    None,
    /// At the pace of the last day its error budget is used up then, before the window ends.
    RunsOut(Timestamp),
    /// The error budget is overspent, and nothing more is burning it.
    Missed,
    /// Both windows of a pair burn faster than they may; `is_missed` when nothing is left already.
    Burns {
        /// The fastest pair that does.
        burn: Burn,
        /// Whether the error budget is overspent.
        is_missed: bool,
    },
}

impl Danger {
    /// What threatens a goal over its window at a moment.
    pub fn of(
        budget: &ErrorBudget,
        burns: &[Burn],
        forecast: &Forecast,
        window: Stretch,
        at: Timestamp,
    ) -> Danger {
        if budget.score == Score::default() || budget.score.counted() == 0 {
            return Danger::None;
        }
        let is_missed = budget.left_share().is_some_and(|left| left < 0.0);
        // Pairs are told fastest first.
        if let Some(burn) = burns.iter().find(|b| b.is_burning()) {
            return Danger::Burns { burn: *burn, is_missed };
        }
        match forecast.at {
            _ if is_missed => Danger::Missed,
            // A rolling window ends now: what would be used up later is in another one.
            Some(used_up) if at < window.to && used_up < window.to => Danger::RunsOut(used_up),
            _ => Danger::None,
        }
    }

    /// What burns fast can still be put out, so it comes before what is lost.
    fn rank(&self) -> u8 {
        let place = |pair: &Pair| PAIRS.iter().position(|p| p == pair).unwrap_or(PAIRS.len());
        match self {
            Danger::None => 0,
            Danger::RunsOut(_) => 1,
            Danger::Missed => 2,
            Danger::Burns { burn, .. } => {
                3 + (PAIRS.len() - place(&burn.pair).min(PAIRS.len())) as u8
            }
        }
    }

    /// The worst first; of two in the same danger the one with less left.
    pub fn worst_first(
        (a, left_a): (&Danger, Option<f64>),
        (b, left_b): (&Danger, Option<f64>),
    ) -> Ordering {
        let left = |share: Option<f64>| share.unwrap_or(1.0);
        b.rank().cmp(&a.rank()).then(left(left_a).total_cmp(&left(left_b)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::SignedDuration;

    fn at(text: &str) -> Timestamp {
        text.parse().unwrap()
    }

    fn month() -> Stretch {
        Stretch { from: at("2026-11-01T00:00:00Z"), to: at("2026-12-01T00:00:00Z") }
    }

    fn budget(good: u64, bad: u64) -> ErrorBudget {
        let score = Score { good, bad, ..Score::default() };
        ErrorBudget {
            promised: 0.99,
            window_ms: month().ms(),
            passed_ms: month().ms() / 2.0,
            score,
        }
    }

    fn burns(rates: [f64; 3]) -> Vec<Burn> {
        let of =
            |(pair, rate): (&Pair, f64)| Burn { pair: *pair, long: Some(rate), short: Some(rate) };
        PAIRS.iter().zip(rates).map(of).collect()
    }

    fn forecast(used_up: Option<&str>) -> Forecast {
        let used_up = used_up.map(at);
        Forecast { at: used_up, soonest: used_up, latest: used_up, samples: 100, clumping: 1.0 }
    }

    #[test]
    fn what_burns_comes_before_what_is_lost_and_that_before_what_will_run_out() {
        let now = at("2026-11-16T00:00:00Z");
        let of = |budget: &ErrorBudget, rates, used_up| {
            Danger::of(budget, &burns(rates), &forecast(used_up), month(), now)
        };
        let (fine, lost) = (budget(9_990, 10), budget(9_000, 1_000));
        let fast = of(&fine, [20.0, 7.0, 2.0], None);
        assert!(matches!(fast, Danger::Burns { burn, is_missed: false } if burn.pair == PAIRS[0]));
        let slow = of(&fine, [0.0, 0.0, 1.0], None);
        assert!(matches!(slow, Danger::Burns { burn, .. } if burn.pair == PAIRS[2]));
        let missed = of(&lost, [0.0; 3], None);
        assert_eq!(missed, Danger::Missed);
        let soon = of(&fine, [0.0; 3], Some("2026-11-20T00:00:00Z"));
        assert_eq!(soon, Danger::RunsOut(at("2026-11-20T00:00:00Z")));
        let none = of(&fine, [0.0; 3], Some("2026-12-20T00:00:00Z"));
        assert_eq!(none, Danger::None, "the next month has a budget of its own");
        assert_eq!(of(&budget(0, 0), [20.0; 3], None), Danger::None, "nothing is counted");
        let mut all = [none, soon, missed, slow, fast];
        all.sort_by(|a, b| Danger::worst_first((a, None), (b, None)));
        assert_eq!(all, [fast, slow, missed, soon, none]);
        let (less, more) = ((&missed, Some(-3.0)), (&missed, Some(-0.5)));
        assert_eq!(Danger::worst_first(less, more), Ordering::Less);
    }

    #[test]
    fn a_rolling_window_does_not_run_out_later_than_it_ends() {
        let now = at("2026-11-16T00:00:00Z");
        let rolling = Stretch { from: now - SignedDuration::from_hours(24 * 28), to: now };
        let of = Danger::of(
            &budget(9_990, 10),
            &burns([0.0; 3]),
            &forecast(Some("2026-11-20T00:00:00Z")),
            rolling,
            now,
        );
        assert_eq!(of, Danger::None);
    }
}
