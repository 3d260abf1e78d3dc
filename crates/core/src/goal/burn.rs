//! How fast an error budget burns, over long and short windows, and when it will be used up.

use super::error_budget::burn_rate;
use super::{ErrorBudget, Score, Track};
use crate::calendar::{Cover, Stretch};
use crate::stats::Proof;
use crate::stats::share::{share, wilson};
use jiff::{SignedDuration, Timestamp};
use serde::Serialize;

/// A pair of windows that alarm together: the long one says that it matters, the short one that it
/// still goes on.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Pair {
    /// Seconds of the long window.
    pub long_s: i64,
    /// Seconds of the short one.
    pub short_s: i64,
    /// Both must burn at least this fast.
    pub trigger: f64,
}

/// The pairs for thirty days of The Site Reliability Workbook, chapter 5 (from memory): 2 % of the
/// budget in an hour, 5 % in six hours, 10 % in three days; the short window is a twelfth.
pub const PAIRS: [Pair; 3] = [
    Pair { long_s: 3_600, short_s: 300, trigger: 14.4 },
    Pair { long_s: 21_600, short_s: 1_800, trigger: 6.0 },
    Pair { long_s: 259_200, short_s: 21_600, trigger: 1.0 },
];

/// The burn of a pair of windows that end at a moment.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Burn {
    /// The windows.
    pub pair: Pair,
    /// The rate over the long one, if anything was counted in it.
    pub long: Option<f64>,
    /// The rate over the short one.
    pub short: Option<f64>,
}

impl Burn {
    /// Whether both windows are over the trigger.
    pub fn is_burning(&self) -> bool {
        let over = |burn: Option<f64>| burn.is_some_and(|b| b >= self.pair.trigger - 1e-9);
        over(self.long) && over(self.short)
    }
}

/// Scores by the minute, summed up so that any window is read at once.
#[derive(Debug, Clone)]
pub struct Minutes {
    from: i64,
    /// Good and bad before each minute.
    sums: Vec<(u64, u64)>,
}

impl Minutes {
    /// Counts the runs of all tracks, inside the counted time, minute by minute of the stretch.
    pub fn of(tracks: &[Track<'_>], counted: &Cover, stretch: Stretch) -> Minutes {
        let one = |verdict| match verdict {
            super::Verdict::Good => Score { good: 1, ..Score::default() },
            super::Verdict::Bad => Score { bad: 1, ..Score::default() },
            super::Verdict::Unmeasured | super::Verdict::LeftOut => Score::default(),
        };
        let runs = tracks.iter().flat_map(|track| track.within(counted));
        Minutes::of_scores(runs.map(|(at, verdict)| (at, one(verdict))), stretch)
    }

    /// The same of scores, each in the minute that it is told with.
    pub fn of_scores(
        scores: impl Iterator<Item = (Timestamp, Score)>,
        stretch: Stretch,
    ) -> Minutes {
        let from = stretch.from.as_second().div_euclid(60);
        let many = (stretch.to.as_second().div_euclid(60) + 1 - from).max(0) as usize;
        let mut minutes = vec![(0u64, 0u64); many + 1];
        for (at, score) in scores {
            let minute = at.as_second().div_euclid(60) - from + 1;
            // What lies before the stretch is no minute of it.
            let Some(held) = usize::try_from(minute).ok().filter(|m| *m > 0) else { continue };
            let Some(held) = minutes.get_mut(held) else { continue };
            *held = (held.0 + score.good, held.1 + score.bad);
        }
        let (mut good, mut bad) = (0, 0);
        for held in &mut minutes {
            (good, bad) = (good + held.0, bad + held.1);
            *held = (good, bad);
        }
        Minutes { from, sums: minutes }
    }

    /// What the whole minutes from `from` up to `to` held.
    pub fn between(&self, from: Timestamp, to: Timestamp) -> Score {
        let place = |at: Timestamp| {
            ((at.as_second().div_euclid(60) - self.from).max(0) as usize)
                .min(self.sums.len().saturating_sub(1))
        };
        let (a, b) = (self.sums[place(from)], self.sums[place(to)]);
        Score { good: b.0.saturating_sub(a.0), bad: b.1.saturating_sub(a.1), ..Score::default() }
    }

    fn last(&self, seconds: i64, at: Timestamp) -> Score {
        self.between(at - SignedDuration::from_secs(seconds), at)
    }

    /// The burn over each pair of windows that ends at `at`.
    pub fn burns(&self, pairs: &[Pair], promised: f64, at: Timestamp) -> Vec<Burn> {
        let over = |seconds| burn_rate(&self.last(seconds, at), promised);
        pairs
            .iter()
            .map(|p| Burn { pair: *p, long: over(p.long_s), short: over(p.short_s) })
            .collect()
    }

    /// When the budget is used up if things go on as in the last `pace_s` seconds up to `at`.
    pub fn forecast(&self, budget: &ErrorBudget, at: Timestamp, pace_s: i64) -> Forecast {
        let hours = (pace_s / 3_600).max(1);
        let each: Vec<Score> = (0..hours)
            .map(|h| {
                self.between(
                    at - SignedDuration::from_secs((h + 1) * pace_s / hours),
                    at - SignedDuration::from_secs(h * pace_s / hours),
                )
            })
            .collect();
        Forecast::of(budget, at, &each)
    }
}

/// When an error budget will be used up.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Forecast {
    /// At the pace observed; `None`: never.
    pub at: Option<Timestamp>,
    /// 95 % interval of the pace, turned into moments: soonest and latest. `None`: never.
    pub soonest: Option<Timestamp>,
    /// At the upper end of the pace's interval.
    pub latest: Option<Timestamp>,
    /// How many units the pace was read from.
    pub samples: u64,
    /// How many times fewer independent ones they are worth, since runs fail together.
    pub clumping: f64,
}

impl Forecast {
    /// How the forecast was come by; `when` prints a moment in the reader's zone, `pace` names the
    /// time that the pace was read from.
    pub fn proof(&self, pace: &str, when: impl Fn(Timestamp) -> String) -> Proof {
        let moment = |at: Option<Timestamp>| at.map_or("never".to_string(), &when);
        let proof = Proof::new(
            "used up at = now + error budget left / share of bad",
            format!("at the pace of {pace}: {}", moment(self.at)),
            self.samples,
        )
        .by("share of bad with its 95 % interval (Wilson)")
        .noting(format!(
            "95 % interval of the pace: {} to {}",
            moment(self.soonest),
            moment(self.latest)
        ));
        if self.clumping > 1.0 {
            proof.noting(format!(
                "failures came together: the runs are worth {:.1} times fewer independent ones",
                self.clumping
            ))
        } else {
            proof
        }
    }

    /// From the scores of even parts of the pace window.
    ///
    /// The interval is Wilson's for the share of bad, with the number of runs divided by how much
    /// more the parts differ among each other than independent failures would (Pearson's χ² over
    /// its degrees of freedom, the usual over-dispersion of a quasi-binomial; from memory).
    pub fn of(budget: &ErrorBudget, at: Timestamp, parts: &[Score]) -> Forecast {
        let mut all = Score::default();
        parts.iter().for_each(|p| all.merge(p));
        let nothing = Forecast { at: None, soonest: None, latest: None, samples: 0, clumping: 1.0 };
        let Some(bad) = share(all.bad, all.counted()) else { return nothing };
        let held: Vec<&Score> = parts.iter().filter(|p| p.counted() > 0).collect();
        let spread: f64 = held
            .iter()
            .map(|p| {
                let n = p.counted() as f64;
                let expected = n * bad;
                if bad > 0.0 && bad < 1.0 {
                    (p.bad as f64 - expected).powi(2) / (expected * (1.0 - bad))
                } else {
                    0.0
                }
            })
            .sum();
        let clumping =
            if held.len() > 1 { (spread / (held.len() - 1) as f64).max(1.0) } else { 1.0 };
        let worth = all.counted() as f64 / clumping;
        let pace = wilson(bad * worth, worth);
        let may = 1.0 - budget.promised;
        let end = |bad: f64| {
            let ms = budget.lasts_ms(bad / may).filter(|_| may > 0.0)?;
            // What lies beyond a century is never.
            (ms < 3.2e12).then(|| at + SignedDuration::from_millis(ms as i64))
        };
        Forecast {
            at: end(bad),
            soonest: pace.and_then(|p| end(p.high)),
            latest: pace.and_then(|p| end(p.low)),
            samples: all.counted(),
            clumping,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::calendar::stretch::at_second;
    use crate::goal::Verdict;

    /// Ten locations every minute; `bad(minute, location)`.
    fn minutes(many: i64, bad: impl Fn(i64, i64) -> bool) -> Minutes {
        let tracks: Vec<Vec<_>> = (0..10)
            .map(|l| {
                (0..many)
                    .map(|m| {
                        (at_second(m * 60), if bad(m, l) { Verdict::Bad } else { Verdict::Good })
                    })
                    .collect()
            })
            .collect();
        let tracks: Vec<Track> = tracks
            .iter()
            .enumerate()
            .map(|(l, r)| Track { journey: 1, location: l as i32, runs: r })
            .collect();
        let stretch = Stretch { from: at_second(0), to: at_second(many * 60) };
        Minutes::of(&tracks, &Cover::from(stretch), stretch)
    }

    #[test]
    fn the_first_pair_fires_at_14_4_in_both_windows_and_stops_when_the_short_one_recovers() {
        // The Site Reliability Workbook, chapter 5: 99.9 % promised, 1.44 % bad.
        let burning = minutes(180, |m, l| l == 0 && m % 6 == 5);
        // One in sixty over the hour, one in fifty over the last five minutes.
        let burns = burning.burns(&PAIRS, 0.999, at_second(180 * 60));
        assert!(
            (burns[0].long.unwrap() - 1_000.0 / 60.0).abs() < 1e-9 && burns[0].is_burning(),
            "{burns:?}"
        );
        let recovered = minutes(180, |m, l| m < 170 && l < 2);
        let burns = recovered.burns(&PAIRS, 0.999, at_second(180 * 60));
        assert!(burns[0].long.unwrap() > 14.4 && burns[0].short == Some(0.0));
        assert!(!burns[0].is_burning());
        let going_on = minutes(180, |_, l| l < 2);
        assert!(going_on.burns(&PAIRS, 0.999, at_second(180 * 60)).iter().all(Burn::is_burning));
        let nothing =
            Minutes::of(&[], &Cover::default(), Stretch { from: at_second(0), to: at_second(60) });
        assert_eq!(nothing.burns(&PAIRS, 0.999, at_second(60))[0].long, None);
    }

    fn budget(bad: u64) -> ErrorBudget {
        let day = 86_400_000.0;
        let score = Score { good: 14_400 * 10 - bad, bad, ..Score::default() };
        ErrorBudget { promised: 0.99, window_ms: 30.0 * day, passed_ms: 10.0 * day, score }
    }

    #[test]
    fn a_steady_pace_of_twice_the_allowance_ends_halfway_through_what_is_left() {
        // 2 % bad, 1 % allowed; nothing spent yet: 7.2 h last 15 days.
        let steady = minutes(1_440, |m, l| (m * 10 + l) % 50 == 0);
        let at = at_second(1_440 * 60);
        let f = steady.forecast(&budget(0), at, 86_400);
        let days = |t: Option<Timestamp>| t.unwrap().duration_since(at).as_secs_f64() / 86_400.0;
        assert!((days(f.at) - 15.0).abs() < 0.1, "{f:?}");
        assert!(days(f.soonest) < days(f.at) && days(f.at) < days(f.latest));
        assert_eq!(f.clumping, 1.0);
    }

    #[test]
    fn failures_that_come_together_widen_the_forecast_and_none_means_never() {
        let at = at_second(1_440 * 60);
        let spread = minutes(1_440, |m, l| (m * 10 + l) % 50 == 0).forecast(&budget(0), at, 86_400);
        // The same number of bad runs, all within half an hour.
        let clumped =
            minutes(1_440, |m, _| (600..628).contains(&m)).forecast(&budget(0), at, 86_400);
        assert!(clumped.clumping > 10.0);
        assert!(clumped.soonest < spread.soonest);
        assert!(clumped.latest.is_none_or(|t| t > spread.latest.unwrap()));
        let calm = minutes(1_440, |_, _| false).forecast(&budget(0), at, 86_400);
        assert_eq!((calm.at, calm.latest), (None, None));
        assert!(calm.soonest.is_some(), "no failure seen does not mean none can come");
        let lines = clumped.proof("the last 24 h", |t| t.to_string()).lines();
        assert!(lines[1].starts_with("at the pace of the last 24 h: 1970-01-"), "{lines:?}");
        assert!(lines[4].starts_with("failures came together"), "{lines:?}");
        assert_eq!(calm.proof("a day", |t| t.to_string()).worked, "at the pace of a day: never");
    }

    #[test]
    fn a_budget_that_is_used_up_ended_now() {
        let at = at_second(1_440 * 60);
        let f = minutes(1_440, |_, l| l == 0).forecast(&budget(14_400), at, 86_400);
        assert_eq!(f.at, Some(at));
    }

    #[test]
    fn a_forecast_says_that_failures_came_together_only_when_they_did() {
        let forecast =
            |clumping| Forecast { at: None, soonest: None, latest: None, samples: 9, clumping };
        let says = |clumping| {
            forecast(clumping).proof("the last day", |at| at.to_string()).notes.join(" ")
        };
        assert!(!says(1.0).contains("came together"));
        assert!(says(1.5).contains("worth 1.5 times fewer"));
        assert!(says(1.0).contains("never to never"), "{}", says(1.0));
    }

    #[test]
    fn a_burn_just_at_its_trigger_burns_and_both_windows_have_to() {
        let pair = PAIRS[0];
        let burn = |long: f64, short: f64| Burn { pair, long: Some(long), short: Some(short) };
        let (at, below) = (pair.trigger, pair.trigger * 0.999);
        assert!(
            burn(at, at).is_burning(),
            "a tenth of a percent that is not whole in binary must not hide it"
        );
        assert!(burn(at - 1e-12, at).is_burning());
        assert!(!burn(at, below).is_burning() && !burn(below, at).is_burning());
        assert!(
            !Burn { pair, long: None, short: Some(at) }.is_burning(),
            "nothing known is no alarm"
        );
    }
}
