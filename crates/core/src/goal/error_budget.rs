//! The error budget of a goal: how much may go wrong, how much did, how fast it goes.
//!
//! Source of the terms: Site Reliability Engineering, appendix A (allowed downtime), and The Site
//! Reliability Workbook, chapter 5 (burn rate); values in the tests from memory.

use super::{Measure, Period, Score};
use crate::calendar::stretch::length_text;
use crate::calendar::{Cover, Stretch};
use crate::stats::{Proof, share_text};
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
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
    /// What the time that has passed held.
    pub score: Score,
}

impl ErrorBudget {
    /// How long the service may be away in the whole window.
    pub fn allowed_ms(&self) -> f64 {
        allowed_ms(self.promised, self.window_ms)
    }

    /// The passed time weighted with the share that was bad in it.
    pub fn spent_ms(&self) -> f64 {
        self.score.share().map_or(0.0, |good| (1.0 - good) * self.passed_ms)
    }

    /// Negative when the goal can no longer be met.
    pub fn left_ms(&self) -> f64 {
        self.allowed_ms() - self.spent_ms()
    }

    /// Share of the budget that is left; negative when overspent. `None` when nothing was allowed.
    pub fn left_share(&self) -> Option<f64> {
        (self.allowed_ms() > 0.0).then(|| self.left_ms() / self.allowed_ms())
    }

    /// A part of it as people read it: time that may be lost, or of page views, which do not come evenly, a share of all
    /// that may be bad.
    pub fn part_text(&self, of: &Measure, ms: f64) -> String {
        match of.of_page_views() {
            None => length_text(ms),
            Some(_) if self.allowed_ms() > 0.0 => {
                format!("{} %", share_text(ms / self.allowed_ms(), 0, None))
            }
            Some(_) => "–".into(),
        }
    }

    /// What is left, beside what there was.
    pub fn left_text(&self, of: &Measure) -> String {
        let part = |ms| self.part_text(of, ms);
        match of.of_page_views() {
            None => format!("{} of {}", part(self.left_ms()), part(self.allowed_ms())),
            Some(_) => part(self.left_ms()),
        }
    }

    /// How long the rest lasts if the service goes on failing at `burn`; `None` when it never ends.
    pub fn lasts_ms(&self, burn: f64) -> Option<f64> {
        let rate = burn * (1.0 - self.promised);
        (rate > 0.0).then(|| (self.left_ms() / rate).max(0.0))
    }

    /// How the budget was come by.
    pub fn proof(&self) -> Proof {
        let spent = match self.score.share() {
            None => "nothing counted yet, nothing spent".to_string(),
            Some(good) => format!(
                "spent {:.4} % × {} = {}",
                (1.0 - good) * 100.0,
                length_text(self.passed_ms),
                length_text(self.spent_ms())
            ),
        };
        Proof::new(
            "error budget = (1 − promised) × counted time of the window; spent = share of bad × counted time passed",
            format!(
                "allowed (1 − {}) × {} = {}; {spent}; left {}",
                self.promised,
                length_text(self.window_ms),
                length_text(self.allowed_ms()),
                length_text(self.left_ms())
            ),
            self.score.counted(),
        )
        .noting(format!("as a share: {:.3} % of all may be bad", (1.0 - self.promised) * 100.0))
    }
}

/// A goal as far as its error budget is concerned.
#[derive(Debug, Clone)]
pub struct Promise<'a> {
    /// The promised share, 0 to 1.
    pub promised: f64,
    /// Over what it is promised.
    pub period: Period,
    /// Whose midnight ends a day.
    pub zone: &'a TimeZone,
    /// Time that counts, wherever it was asked about.
    pub counted: &'a Cover,
}

impl Promise<'_> {
    /// The error budget of the window that `at` is judged in, when `score` is what the window has
    /// held up to `at`.
    pub fn budget(&self, at: Timestamp, score: Score) -> ErrorBudget {
        self.budget_in(self.period.around(at, self.zone), at, score)
    }

    fn budget_in(&self, window: Stretch, at: Timestamp, score: Score) -> ErrorBudget {
        ErrorBudget {
            promised: self.promised,
            window_ms: self.counted.within(window).ms(),
            passed_ms: self
                .counted
                .within(Stretch { from: window.from, to: at.min(window.to) })
                .ms(),
            score,
        }
    }

    /// The error budget as the stretch went by: at the beginning of each bucket and at its end, each
    /// in the window that the moment is judged in. `buckets` (beginning, score), `bucket_s` long and
    /// in order of time, must reach back to the beginning of the window of the stretch's beginning.
    pub fn course(
        &self,
        stretch: Stretch,
        buckets: &[(Timestamp, Score)],
        bucket_s: i64,
    ) -> Vec<(Timestamp, ErrorBudget)> {
        let long = SignedDuration::from_secs(bucket_s);
        // The bucket that the stretch begins in gives its first point, what it holds not yet in it.
        let first = buckets.partition_point(|(at, _)| *at + long <= stretch.from);
        let points = (first..buckets.len()).map(|nth| (buckets[nth].0.max(stretch.from), nth));
        let points =
            points.chain([(stretch.to, buckets.len())]).filter(|(at, _)| *at <= stretch.to);
        // Sums of everything before each bucket: any window is the difference of two.
        let mut sums = vec![Score::default()];
        for (_, score) in buckets {
            let mut sum = sums[sums.len() - 1];
            sum.merge(score);
            sums.push(sum);
        }
        points
            .map(|(at, nth)| {
                let window = self.period.around(at, self.zone);
                let from = buckets.partition_point(|(b, _)| *b < window.from).min(nth);
                (at, self.budget_in(window, at, sums[nth].since(&sums[from])))
            })
            .collect()
    }
}

/// Time that may be lost in a window of that length.
pub fn allowed_ms(promised: f64, window_ms: f64) -> f64 {
    (1.0 - promised) * window_ms
}

/// How many times faster than "exactly used up at the end of the window" the budget is spent:
/// the share of bad over the share that may be bad. `None` when nothing was counted.
pub fn burn_rate(score: &Score, promised: f64) -> Option<f64> {
    (promised < 1.0).then_some(())?;
    score.share().map(|good| (1.0 - good) / (1.0 - promised))
}

/// The burn rate that spends `share` of the budget of `window_h` hours within `within_h` hours.
pub fn burn_that_spends(share: f64, within_h: f64, window_h: f64) -> f64 {
    share * window_h / within_h
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::goal::burn::PAIRS;

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
            let pair = PAIRS.iter().find(|p| p.long_s as f64 == within_h * 3_600.0).unwrap();
            assert_eq!((pair.trigger, pair.short_s), (want, pair.long_s / 12));
        }
        let score = Score { good: 9_856, bad: 144, ..Score::default() };
        assert!((burn_rate(&score, 0.999).unwrap() - 14.4).abs() < 1e-9);
        assert_eq!(burn_rate(&Score::default(), 0.999), None);
    }

    #[test]
    fn a_total_outage_spends_its_own_length_and_the_rest_is_what_was_allowed_less_that() {
        // Ten days passed of thirty, every five minutes, forty minutes out at the only location.
        let b = ErrorBudget {
            promised: 0.995,
            window_ms: 30.0 * DAY_MS,
            passed_ms: 10.0 * DAY_MS,
            score: Score { good: 2_872, bad: 8, ..Score::default() },
        };
        assert!((b.spent_ms() - 40.0 * 60_000.0).abs() < 1e-3);
        assert!((b.left_ms() - 176.0 * 60_000.0).abs() < 1e-3);
        assert!((b.left_share().unwrap() - 176.0 / 216.0).abs() < 1e-9);
        // At burn 1 the whole allowance lasts the whole window.
        assert!((b.lasts_ms(1.0).unwrap() - 30.0 * DAY_MS * 176.0 / 216.0).abs() < 1.0);
        assert_eq!(b.lasts_ms(0.0), None);
    }

    #[test]
    fn a_course_begins_anew_with_each_month_and_ends_with_the_stretch() {
        let at = |s: &str| -> Timestamp { s.parse().unwrap() };
        let stretch = Stretch { from: at("2026-10-31T00:00:00Z"), to: at("2026-11-01T12:00:00Z") };
        let all = Cover::from(Stretch {
            from: at("2026-10-01T00:00:00Z"),
            to: at("2026-12-01T00:00:00Z"),
        });
        let promise =
            Promise { promised: 0.99, period: Period::Month, zone: &TimeZone::UTC, counted: &all };
        let day = |n: i64| {
            (
                at("2026-10-30T00:00:00Z") + SignedDuration::from_hours(24 * n),
                Score { good: 95, bad: 5, ..Score::default() },
            )
        };
        let course = promise.course(stretch, &[day(0), day(1), day(2)], 86_400);
        let seen: Vec<(String, u64)> =
            course.iter().map(|(at, b)| (at.to_string(), b.score.bad)).collect();
        assert_eq!(
            seen,
            [
                ("2026-10-31T00:00:00Z".into(), 5),
                ("2026-11-01T00:00:00Z".into(), 0),
                ("2026-11-01T12:00:00Z".into(), 5)
            ]
        );
        assert_eq!(course[2].1, promise.budget(stretch.to, day(2).1));
        assert_eq!(course[2].1.window_ms, 30.0 * DAY_MS);
        assert_eq!(course[2].1.passed_ms, DAY_MS / 2.0);
    }

    #[test]
    fn a_rolling_window_forgets_what_is_older() {
        let at = |day: i64| crate::calendar::stretch::at_second(day * 86_400);
        let all = Cover::from(Stretch { from: at(0), to: at(40) });
        let promise = Promise {
            promised: 0.99,
            period: Period::Days(7),
            zone: &TimeZone::UTC,
            counted: &all,
        };
        // Bad on the third day only.
        let buckets: Vec<_> = (0..20)
            .map(|d| {
                (at(d), Score { good: 95, bad: if d == 3 { 5 } else { 0 }, ..Score::default() })
            })
            .collect();
        let course = promise.course(Stretch { from: at(8), to: at(14) }, &buckets[..14], 86_400);
        let bad: Vec<u64> = course.iter().map(|(_, b)| b.score.bad).collect();
        assert_eq!(bad, [5, 5, 5, 0, 0, 0, 0]);
        assert!(
            course.iter().all(|(_, b)| b.window_ms == 7.0 * DAY_MS && b.passed_ms == b.window_ms)
        );
        assert_eq!(course[2].1.score.good, 7 * 95);
    }
}
