//! Whose a trouble at one location is: the site's, the place's, or our own runner's.
//!
//! Common practice, no published source: what fails from everywhere is the site; what fails from one
//! place in every journey, while other places get through, is the place; visitors from there tell
//! whether the place or only our runner in it.

use super::{Outcome, RunRecord, Split};
use serde::Serialize;
use std::collections::HashMap;

/// Who is at fault, as far as the comparison tells.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
pub enum Whose {
    Site,
    /// Network or region around the location.
    Place,
    /// Our own runner, or what is close to it.
    Runner,
    /// One host that is not the site's.
    ThirdParty,
    NotSure,
}

impl Whose {
    pub fn words(self) -> &'static str {
        match self {
            Whose::Site => "the site",
            Whose::Place => "the place",
            Whose::Runner => "our runner",
            Whose::ThirdParty => "a third party",
            Whose::NotSure => "not sure",
        }
    }
}

/// Runs of a comparison in the time of the trouble.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize)]
pub struct Compared {
    pub failed: u64,
    pub all: u64,
}

impl Compared {
    pub fn share(self) -> Option<f64> {
        (self.all > 0).then(|| self.failed as f64 / self.all as f64)
    }
}

/// What is known about the time of a trouble at one location.
#[derive(Debug, Clone, Default, PartialEq, Serialize)]
pub struct Around {
    /// The same journey from other locations.
    pub elsewhere: Compared,
    /// Other journeys from this location.
    pub others_here: Compared,
    /// Page views of visitors from the location's country, and how many would be usual then.
    pub visitors: Option<(u64, f64)>,
    /// The host that was not the site's and failed or held up most of the troubled runs, if one did.
    pub third_party: Option<String>,
}

/// From this share on, a comparison shares the trouble.
const SHARED: f64 = 0.5;
/// Up to this share, it does not.
const SPARED: f64 = 0.1;
/// Fewer runs or usual page views say nothing.
const LEAST: u64 = 3;
const LEAST_VIEWS: f64 = 30.0;
/// Visitors below this share of the usual number are missing; above the second, they are there.
const MISSING: f64 = 0.4;
const THERE: f64 = 0.7;

/// The host that is not the site's and failed, or held up half of the step that failed, in most of these runs. A run
/// in which a request to the site failed accuses nobody else.
pub fn third_party<'a>(failed: impl IntoIterator<Item = &'a RunRecord>, ours: impl Fn(&str) -> bool) -> Option<String> {
    let (mut all, mut blamed) = (0u64, HashMap::<String, u64>::new());
    for run in failed {
        all += 1;
        let Some(step) = run.counted_steps().find(|s| s.outcome == Outcome::Failed) else { continue };
        if step.requests.iter().any(|r| r.is_failed() && ours(r.host())) {
            continue;
        }
        let split = Split::of(step);
        let held_up = |host: &str| split.host(host) >= 0.5 * step.duration_ms;
        let foreign = step.requests.iter().filter(|r| !ours(r.host()));
        let mut hosts: Vec<&str> = foreign.filter(|r| r.is_failed() || held_up(r.host())).map(|r| r.host()).collect();
        hosts.sort_unstable();
        hosts.dedup();
        hosts.into_iter().for_each(|h| *blamed.entry(h.to_string()).or_default() += 1);
    }
    let most = blamed.into_iter().max_by(|(a, n), (b, m)| n.cmp(m).then(b.cmp(a)))?;
    (most.1 * 2 > all && all >= LEAST).then_some(most.0)
}

/// The verdict, and the sentence of evidence it rests on.
pub fn whose(around: &Around) -> (Whose, String) {
    let known = |c: Compared| c.share().filter(|_| c.all >= LEAST);
    let says = |c: Compared, what: &str| format!("{} of {} runs {what} failed at the same time", c.failed, c.all);
    let elsewhere = says(around.elsewhere, "of this journey from other locations");
    let Some(away) = known(around.elsewhere) else {
        return (Whose::NotSure, "there is no other location to compare with at that time".into());
    };
    if let Some(host) = &around.third_party
        && away > SPARED
    {
        return (Whose::ThirdParty, format!("{host} failed or held up most of these runs; {elsewhere}"));
    }
    if away >= SHARED {
        return (Whose::Site, elsewhere);
    }
    if away > SPARED {
        return (Whose::NotSure, format!("{elsewhere}: neither all nor none"));
    }
    let visitors = around.visitors.filter(|(_, usual)| *usual >= LEAST_VIEWS).map(|(seen, usual)| {
        (seen as f64 / usual, format!("{seen} page views came from the same country, usually about {usual:.0}"))
    });
    let here = known(around.others_here);
    let others = says(around.others_here, "of other journeys from here");
    match (here, visitors) {
        (_, Some((share, words))) if share <= MISSING => (Whose::Place, format!("{elsewhere}; {words}")),
        (Some(here), Some((share, words))) if here >= SHARED && share >= THERE => {
            (Whose::Runner, format!("{elsewhere}; {others}; {words}"))
        }
        (Some(here), _) if here >= SHARED => (Whose::Place, format!("{elsewhere}; {others}")),
        (Some(here), _) if here <= SPARED => {
            (Whose::NotSure, format!("{elsewhere}; {others}: only this journey, only from here"))
        }
        _ => (Whose::NotSure, elsewhere),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn runs(failed: u64, all: u64) -> Compared {
        Compared { failed, all }
    }

    #[test]
    fn the_comparison_tells_the_site_from_the_place_and_the_place_from_the_runner() {
        let around = |elsewhere, others_here, visitors| Around { elsewhere, others_here, visitors, third_party: None };
        for (around, want) in [
            (around(runs(60, 64), runs(9, 10), None), Whose::Site),
            (around(runs(0, 64), runs(9, 10), None), Whose::Place),
            (around(runs(0, 64), runs(9, 10), Some((12, 400.0))), Whose::Place),
            (around(runs(1, 64), runs(9, 10), Some((390, 400.0))), Whose::Runner),
            (around(runs(0, 64), runs(0, 10), None), Whose::NotSure),
            (around(runs(20, 64), runs(9, 10), None), Whose::NotSure),
            (around(runs(0, 2), runs(9, 10), None), Whose::NotSure),
            // Ten visitors more or less say nothing.
            (around(runs(0, 64), runs(9, 10), Some((2, 12.0))), Whose::Place),
        ] {
            let (whose, says) = whose(&around);
            assert_eq!(whose, want, "{says}");
            assert!(!says.is_empty());
        }
        let host =
            Around { third_party: Some("tiles.isles-map.example".into()), ..around(runs(60, 64), runs(0, 10), None) };
        assert_eq!(whose(&host).0, Whose::ThirdParty);
    }

    #[test]
    fn a_foreign_host_is_named_when_it_failed_in_most_runs_and_the_site_did_not() {
        use crate::run::StepRecord;
        use crate::run::split::tests::request;
        let run = |requests| {
            let step = StepRecord {
                outcome: Outcome::Failed,
                duration_ms: 10_000.0,
                requests,
                ..StepRecord::begun("S", 0.0, None)
            };
            RunRecord {
                id: uuid::Uuid::nil(),
                started_at: jiff::Timestamp::UNIX_EPOCH,
                outcome: Outcome::Failed,
                duration_ms: 10_000.0,
                trouble: None,
                steps: vec![step],
                browser: String::new(),
                runner: String::new(),
                device: "desktop".into(),
                trial: false,
            }
        };
        let (page, tiles) = ("http://book.marram.example/", "http://tiles.isles-map.example/1");
        let ours = |h: &str| h == "book.marram.example";
        let answered = |url: &str, status| crate::run::Request { status, ..request(url, 0.0, 5.0, 40.0, 5.0) };
        let slow = run(vec![answered(page, 200), request(tiles, 60.0, 20.0, 9_900.0, 5.0)]);
        let broken = run(vec![answered(page, 200), answered(tiles, 503)]);
        let site = run(vec![answered(page, 500), answered(tiles, 503)]);
        let other = run(vec![answered(page, 200)]);
        assert_eq!(third_party([&slow, &broken, &other], ours).as_deref(), Some("tiles.isles-map.example"));
        assert_eq!(third_party([&broken, &site, &site], ours), None, "the site failed, too");
        assert_eq!(third_party([&slow, &broken, &other, &other], ours), None, "no more than half");
        assert_eq!(third_party([&slow, &slow], ours), None, "two runs say nothing");
    }

    proptest! {
        #[test]
        fn nobody_is_blamed_without_three_runs_to_compare_with(failed in 0u64..3, all in 0u64..3, here in 0u64..50, seen in 0u64..900) {
            let around = Around {
                elsewhere: runs(failed.min(all), all), others_here: runs(here, 50), visitors: Some((seen, 500.0)), third_party: None,
            };
            prop_assert_eq!(whose(&around).0, Whose::NotSure);
        }
    }
}
