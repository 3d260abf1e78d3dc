//! Runs from one place in bars: each stands for one run, or for all that were due within a length of time.

use super::{Outcome, Request, StepRecord};
use crate::stats::{Method, Samples};
use std::collections::{BTreeMap, HashMap};

/// What a bar needs to know of a run.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Told {
    /// When it was due, in seconds since 1970.
    pub due_s: i64,
    /// How it ended.
    pub outcome: Outcome,
    /// How long it took, in milliseconds.
    pub duration_ms: f64,
}

/// All runs that were due within one length of time.
#[derive(Debug, Clone, PartialEq)]
pub struct Bar<R> {
    /// When that begins, in seconds since 1970.
    pub from_s: i64,
    /// How many runs.
    pub runs: u64,
    /// The median of those that got through, in milliseconds.
    pub median_ms: Option<f64>,
    /// How many failed.
    pub failed: u64,
    /// How many were slow.
    pub slow: u64,
    /// Failed when one of them did, slow when most were, unmeasured when none was measured.
    pub outcome: Outcome,
    /// The one to look at: the first that ended so.
    pub shown: R,
}

/// Runs in bars of `length_s` seconds, in order of time.
pub fn bars<R: Copy>(
    runs: impl IntoIterator<Item = R>,
    told: impl Fn(R) -> Told,
    length_s: i64,
) -> Vec<Bar<R>> {
    let mut by: BTreeMap<i64, Vec<(R, Told)>> = BTreeMap::new();
    for run in runs {
        let told = told(run);
        by.entry(told.due_s.div_euclid(length_s.max(1))).or_default().push((run, told));
    }
    let bar = |(nth, runs): (i64, Vec<(R, Told)>)| {
        let ended = |o: Outcome| runs.iter().filter(|(_, t)| t.outcome == o).count();
        let through = runs.iter().filter(|(_, t)| t.outcome.got_through());
        let durations = Samples::new(through.map(|(_, t)| t.duration_ms));
        let (failed, slow) = (ended(Outcome::Failed), ended(Outcome::Slow));
        let outcome = if failed > 0 {
            Outcome::Failed
        } else if slow * 2 > runs.len() {
            Outcome::Slow
        } else if durations.is_empty() {
            Outcome::Unmeasured
        } else {
            Outcome::Passed
        };
        let shown = runs.iter().find(|(_, t)| t.outcome == outcome).or(runs.first())?.0;
        Some(Bar {
            from_s: nth * length_s.max(1),
            runs: runs.len() as u64,
            median_ms: durations.percentile(0.5, Method::NearestRank),
            failed: failed as u64,
            slow: slow as u64,
            outcome,
            shown,
        })
    };
    by.into_iter().filter_map(bar).collect()
}

/// As long as all but the longest two in a hundred took, in milliseconds: what a scale of them reaches to.
pub fn nearly_longest(runs: impl IntoIterator<Item = Told>) -> Option<f64> {
    let through = runs.into_iter().filter(|t| t.outcome.got_through());
    Samples::new(through.map(|t| t.duration_ms)).percentile(0.98, Method::NearestRank)
}

/// Where a request usually stands within its step: medians of its start and its length, in milliseconds.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Usual {
    /// Since the step began.
    pub start_ms: f64,
    /// From its start to its end.
    pub length_ms: f64,
}

/// What makes two requests the same: method, host and path without the query.
pub fn same(r: &Request) -> String {
    format!("{} {}{}", r.method, r.host(), r.path().split('?').next().unwrap_or("/"))
}

/// Where each request of these steps usually stands, by what makes it [the same](same).
pub fn usual<'a>(steps: impl IntoIterator<Item = &'a StepRecord>) -> HashMap<String, Usual> {
    let mut seen: HashMap<String, (Vec<f64>, Vec<f64>)> = HashMap::new();
    for r in steps.into_iter().flat_map(|s| &s.requests) {
        let (starts, lengths) = seen.entry(same(r)).or_default();
        starts.push(r.start_ms);
        lengths.push(r.phases.total_ms());
    }
    let median = |v: Vec<f64>| Samples::new(v).percentile(0.5, Method::NearestRank);
    let usual =
        |(starts, lengths)| Some(Usual { start_ms: median(starts)?, length_ms: median(lengths)? });
    seen.into_iter().filter_map(|(key, of)| Some((key, usual(of)?))).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn told(due_s: i64, outcome: Outcome, duration_ms: f64) -> Told {
        Told { due_s, outcome, duration_ms }
    }

    #[test]
    fn a_bar_is_as_bad_as_one_failed_run_or_as_most_of_them_and_shows_the_first_such_run() {
        use Outcome::{Failed, Passed, Slow, Unmeasured};
        let of = |outcomes: &[Outcome]| {
            let runs: Vec<Told> =
                (0..).zip(outcomes).map(|(i, o)| told(600 + i, *o, 100.0 + i as f64)).collect();
            let bars = bars(0..runs.len(), |i| runs[i], 600);
            assert_eq!((bars.len(), bars[0].from_s), (1, 600));
            (bars[0].outcome, bars[0].shown, bars[0].median_ms)
        };
        assert_eq!(of(&[Passed, Slow, Failed, Failed]), (Failed, 2, Some(100.0)));
        assert_eq!(of(&[Passed, Slow, Slow]), (Slow, 1, Some(101.0)));
        assert_eq!(of(&[Slow, Passed]), (Passed, 1, Some(100.0)), "half is not most");
        assert_eq!(of(&[Unmeasured, Passed]), (Passed, 1, Some(101.0)));
        assert_eq!(of(&[Unmeasured, Unmeasured]), (Unmeasured, 0, None), "no data, not zero");
    }

    proptest! {
        #[test]
        fn every_run_is_in_one_bar_and_bars_stand_in_order(
            runs in prop::collection::vec((-5_000i64..5_000, 0usize..4, 0.0..9_000.0f64), 0..60),
            length in 1i64..2_000,
        ) {
            let outcomes =
                [Outcome::Passed, Outcome::Slow, Outcome::Failed, Outcome::Unmeasured];
            let runs: Vec<Told> =
                runs.into_iter().map(|(at, o, ms)| told(at, outcomes[o], ms)).collect();
            let made = bars(0..runs.len(), |i| runs[i], length);
            prop_assert_eq!(made.iter().map(|b| b.runs).sum::<u64>(), runs.len() as u64);
            prop_assert!(made.is_sorted_by(|a, b| a.from_s + length <= b.from_s));
            for bar in &made {
                let inside: Vec<&Told> =
                    runs.iter().filter(|r| (bar.from_s..bar.from_s + length).contains(&r.due_s)).collect();
                prop_assert_eq!(inside.len() as u64, bar.runs);
                let failed = inside.iter().filter(|r| r.outcome == Outcome::Failed).count();
                prop_assert_eq!(failed as u64, bar.failed);
                prop_assert_eq!(bar.median_ms.is_some(), inside.iter().any(|r| r.outcome.got_through()));
            }
        }
    }
}
