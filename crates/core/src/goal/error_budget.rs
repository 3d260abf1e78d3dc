//! The error budget of a goal: how much may go wrong, how much did, how fast it goes.
//!
//! Source of the terms: Site Reliability Engineering, appendix A (allowed downtime), and The Site
//! Reliability Workbook, chapter 5 (burn rate); values in the tests from memory.

use super::availability::Tally;
use serde::Serialize;

/// An error budget over a whole window, part of which has passed.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct ErrorBudget {
    /// The promised share, 0 to 1.
    pub promised: f64,
    /// Counted time of the whole window, in milliseconds: its length without what was left out.
    pub window_ms: f64,
    /// Counted time of the window that has passed.
    pub passed_ms: f64,
    /// Runs of the time that has passed.
    pub tally: Tally,
}

impl ErrorBudget {
    /// How long the service may be away in the whole window.
    pub fn allowed_ms(&self) -> f64 {
        allowed_ms(self.promised, self.window_ms)
    }

    /// The passed time weighted with the share of runs that failed in it.
    pub fn spent_ms(&self) -> f64 {
        self.tally.availability().map_or(0.0, |a| (1.0 - a) * self.passed_ms)
    }

    /// Negative when the goal can no longer be met.
    pub fn left_ms(&self) -> f64 {
        self.allowed_ms() - self.spent_ms()
    }

    /// Share of the budget that is left; negative when overspent. `None` when nothing was allowed.
    pub fn left_share(&self) -> Option<f64> {
        (self.allowed_ms() > 0.0).then(|| self.left_ms() / self.allowed_ms())
    }

    /// How long the rest lasts if the service goes on failing at `burn`; `None` when it never ends.
    pub fn lasts_ms(&self, burn: f64) -> Option<f64> {
        let rate = burn * (1.0 - self.promised);
        (rate > 0.0).then(|| (self.left_ms() / rate).max(0.0))
    }
}

/// Time that may be lost in a window of that length.
pub fn allowed_ms(promised: f64, window_ms: f64) -> f64 {
    (1.0 - promised) * window_ms
}

/// How many times faster than "exactly used up at the end of the window" the budget is spent:
/// the share of failed runs over the share that may fail. `None` without runs.
pub fn burn_rate(tally: &Tally, promised: f64) -> Option<f64> {
    (promised < 1.0).then_some(())?;
    tally.availability().map(|a| (1.0 - a) / (1.0 - promised))
}

/// The burn rate that spends `share` of the budget of `window_h` hours within `within_h` hours.
pub fn burn_that_spends(share: f64, within_h: f64, window_h: f64) -> f64 {
    share * window_h / within_h
}

#[cfg(test)]
mod tests {
    use super::*;

    const DAY_MS: f64 = 86_400_000.0;

    #[test]
    fn allowed_downtime_is_that_of_the_sre_book() {
        // Site Reliability Engineering, appendix A.
        for (promised, days, want_min) in [
            (0.99, 30.0, 432.0),
            (0.995, 30.0, 216.0),
            (0.999, 30.0, 43.2),
            (0.9995, 30.0, 21.6),
            (0.9999, 30.0, 4.32),
            (0.999, 365.0, 525.6),
        ] {
            let got = allowed_ms(promised, days * DAY_MS) / 60_000.0;
            assert!((got - want_min).abs() < 1e-6, "{promised}: {got} min");
        }
    }

    #[test]
    fn burn_rates_are_those_of_the_sre_workbook() {
        // The Site Reliability Workbook, chapter 5, thirty days.
        for (share, within_h, want) in [(0.02, 1.0, 14.4), (0.05, 6.0, 6.0), (0.10, 72.0, 1.0)] {
            assert!((burn_that_spends(share, within_h, 720.0) - want).abs() < 1e-9);
        }
        let tally = Tally { passed: 9_856, failed: 144, ..Tally::default() };
        assert!((burn_rate(&tally, 0.999).unwrap() - 14.4).abs() < 1e-9);
        assert_eq!(burn_rate(&Tally::default(), 0.999), None);
    }

    #[test]
    fn a_total_outage_spends_its_own_length_and_the_rest_is_what_was_allowed_less_that() {
        // Ten days passed of thirty, every five minutes, forty minutes out at the only location.
        let b = ErrorBudget {
            promised: 0.995,
            window_ms: 30.0 * DAY_MS,
            passed_ms: 10.0 * DAY_MS,
            tally: Tally { passed: 2_872, failed: 8, ..Tally::default() },
        };
        assert!((b.spent_ms() - 40.0 * 60_000.0).abs() < 1e-3);
        assert!((b.left_ms() - 176.0 * 60_000.0).abs() < 1e-3);
        assert!((b.left_share().unwrap() - 176.0 / 216.0).abs() < 1e-9);
        // At burn 1 the whole allowance lasts the whole window.
        assert!((b.lasts_ms(1.0).unwrap() - 30.0 * DAY_MS * 176.0 / 216.0).abs() < 1.0);
        assert_eq!(b.lasts_ms(0.0), None);
    }
}
