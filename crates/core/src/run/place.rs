//! Whose a trouble at one location is: the site's, the place's, or our own runner's.
//!
//! Common practice, no published source: what fails from everywhere is the site; what fails from one
//! place in every journey, while other places get through, is the place; visitors from there tell
//! whether the place or only our runner in it.

use super::spell::Trouble;
use super::{RunRecord, Split};
use serde::Serialize;
use std::collections::HashMap;

/// Who is at fault, as far as the comparison tells.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
pub enum Whose {
    /// The site's own.
    Site,
    /// Network or region around the location.
    Place,
    /// Our own runner, or what is close to it.
    Runner,
    /// One host that is not the site's.
    ThirdParty,
    /// Nothing tells.
    NotSure,
}

impl Whose {
    /// As people say it.
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
    /// In the same kind of trouble.
    pub troubled: u64,
    /// Runs in all.
    pub all: u64,
}

impl Compared {
    /// The share in trouble, if there was any run.
    pub fn share(self) -> Option<f64> {
        (self.all > 0).then(|| self.troubled as f64 / self.all as f64)
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
    /// How long their pages took at the 75th percentile, and how long would be usual, in milliseconds.
    pub visitors_wait: Option<(f64, f64)>,
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
/// Visitors who wait so many times as long as usual are slow, too; below the second they are as quick as ever.
const WAITS: f64 = 1.3;
const AS_QUICK: f64 = 1.1;

/// The part of a step's time that a host must have taken to have held it up.
const HELD_UP: f64 = 0.5;
/// The same of a slow step that would have kept its budget without the host.
const HELD_OVER: f64 = 0.25;

/// The host that is not the site's and failed, or held up the step that was in trouble, in most of these runs. A run
/// in which a request to the site failed accuses nobody else.
pub fn third_party<'a>(
    troubled: impl IntoIterator<Item = &'a RunRecord>,
    kind: Trouble,
    ours: impl Fn(&str) -> bool,
) -> Option<String> {
    let (mut all, mut blamed) = (0u64, HashMap::<String, u64>::new());
    for run in troubled {
        all += 1;
        let Some(step) = run.counted_steps().find(|s| s.outcome == kind.outcome()) else {
            continue;
        };
        if step.requests.iter().any(|r| r.is_failed() && ours(r.host())) {
            continue;
        }
        let split = Split::of(step);
        let over = step.budget_ms.map(|b| step.duration_ms - b).filter(|over| *over > 0.0);
        let held_up = |host: &str| match (kind, over) {
            (Trouble::Slow, Some(over)) => {
                split.host(host) >= over.max(HELD_OVER * step.duration_ms)
            }
            _ => split.host(host) >= HELD_UP * step.duration_ms,
        };
        let foreign = step.requests.iter().filter(|r| !ours(r.host()));
        let mut hosts: Vec<&str> =
            foreign.filter(|r| r.is_failed() || held_up(r.host())).map(|r| r.host()).collect();
        hosts.sort_unstable();
        hosts.dedup();
        hosts.into_iter().for_each(|h| *blamed.entry(h.to_string()).or_default() += 1);
    }
    let most = blamed.into_iter().max_by(|(a, n), (b, m)| n.cmp(m).then(b.cmp(a)))?;
    (most.1 * 2 > all && all >= LEAST).then_some(most.0)
}

/// What visitors from the same country tell of a trouble there.
enum Visitors {
    /// They have it, too.
    Share,
    /// They do not.
    Spared,
}

fn visitors(around: &Around, kind: Trouble) -> Option<(Visitors, String)> {
    match kind {
        Trouble::Failing => {
            let (seen, usual) = around.visitors.filter(|(_, usual)| *usual >= LEAST_VIEWS)?;
            let words =
                format!("{seen} page views came from the same country, usually about {usual:.0}");
            match seen as f64 / usual {
                share if share <= MISSING => Some((Visitors::Share, words)),
                share if share >= THERE => Some((Visitors::Spared, words)),
                _ => None,
            }
        }
        Trouble::Slow => {
            let (now, usual) = around.visitors_wait.filter(|(_, usual)| *usual > 0.0)?;
            let words = format!(
                "visitors from the same country waited {:.1} s at p75, usually {:.1}",
                now / 1000.0,
                usual / 1000.0
            );
            match now / usual {
                times if times >= WAITS => Some((Visitors::Share, words)),
                times if times <= AS_QUICK => Some((Visitors::Spared, words)),
                _ => None,
            }
        }
    }
}

/// The verdict on a trouble of this kind, and the sentence of evidence it rests on.
pub fn whose(around: &Around, kind: Trouble) -> (Whose, String) {
    let known = |c: Compared| c.share().filter(|_| c.all >= LEAST);
    let says = |c: Compared, what: &str| {
        format!("{} of {} runs {what} {} at the same time", c.troubled, c.all, kind.verb())
    };
    let elsewhere = says(around.elsewhere, "of this journey from other locations");
    let Some(away) = known(around.elsewhere) else {
        return (Whose::NotSure, "there is no other location to compare with at that time".into());
    };
    if let Some(host) = &around.third_party
        && away > SPARED
    {
        let did = if kind == Trouble::Failing { "failed or held up" } else { "held up" };
        return (Whose::ThirdParty, format!("{host} {did} most of these runs; {elsewhere}"));
    }
    if away >= SHARED {
        return (Whose::Site, elsewhere);
    }
    if away > SPARED {
        return (Whose::NotSure, format!("{elsewhere}: neither all nor none"));
    }
    let here = known(around.others_here);
    let others = says(around.others_here, "of other journeys from here");
    match (here, visitors(around, kind)) {
        (_, Some((Visitors::Share, words))) => (Whose::Place, format!("{elsewhere}; {words}")),
        (Some(here), Some((Visitors::Spared, words))) if here >= SHARED => {
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
    use crate::run::Outcome;
    use proptest::prelude::*;

    fn runs(failed: u64, all: u64) -> Compared {
        Compared { troubled: failed, all }
    }

    #[test]
    fn the_comparison_tells_the_site_from_the_place_and_the_place_from_the_runner() {
        let around = |elsewhere, others_here, visitors| Around {
            elsewhere,
            others_here,
            visitors,
            ..Around::default()
        };
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
            let (whose, says) = whose(&around, Trouble::Failing);
            assert_eq!(whose, want, "{says}");
            assert!(!says.is_empty());
        }
        let host = Around {
            third_party: Some("tiles.isles-map.example".into()),
            ..around(runs(60, 64), runs(0, 10), None)
        };
        assert_eq!(whose(&host, Trouble::Failing).0, Whose::ThirdParty);
    }

    #[test]
    fn slow_trouble_is_told_apart_by_how_long_visitors_wait_and_every_verdict_can_come() {
        let around = |elsewhere, others_here, wait: Option<f64>| Around {
            elsewhere,
            others_here,
            visitors_wait: wait.map(|times| (times * 2_000.0, 2_000.0)),
            ..Around::default()
        };
        for (around, want) in [
            (around(runs(40, 64), runs(0, 10), None), Whose::Site),
            (around(runs(0, 64), runs(9, 10), Some(1.8)), Whose::Place),
            (around(runs(0, 64), runs(9, 10), None), Whose::Place),
            (around(runs(0, 64), runs(9, 10), Some(1.02)), Whose::Runner),
            (around(runs(0, 64), runs(9, 10), Some(1.2)), Whose::Place),
            (around(runs(0, 64), runs(0, 10), Some(1.0)), Whose::NotSure),
            (around(runs(20, 64), runs(9, 10), Some(2.0)), Whose::NotSure),
            (
                Around {
                    third_party: Some("tiles.isles-map.example".into()),
                    ..around(runs(40, 64), runs(9, 10), None)
                },
                Whose::ThirdParty,
            ),
        ] {
            let (whose, says) = whose(&around, Trouble::Slow);
            assert_eq!(whose, want, "{says}");
            assert!(
                says.contains("slow") || says.contains("waited") || says.contains("held up"),
                "{says}"
            );
            assert!(!says.contains("failed"), "{says}");
        }
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
            RunRecord { outcome: Outcome::Failed, ..RunRecord::of_steps(vec![step]) }
        };
        let (page, tiles) = ("http://book.marram.example/", "http://tiles.isles-map.example/1");
        let ours = |h: &str| h == "book.marram.example";
        let answered =
            |url: &str, status| crate::run::Request { status, ..request(url, 0.0, 5.0, 40.0, 5.0) };
        let slow = run(vec![answered(page, 200), request(tiles, 60.0, 20.0, 9_900.0, 5.0)]);
        let broken = run(vec![answered(page, 200), answered(tiles, 503)]);
        let site = run(vec![answered(page, 500), answered(tiles, 503)]);
        let other = run(vec![answered(page, 200)]);
        assert_eq!(
            third_party([&slow, &broken, &other], Trouble::Failing, ours).as_deref(),
            Some("tiles.isles-map.example")
        );
        assert_eq!(
            third_party([&broken, &site, &site], Trouble::Failing, ours),
            None,
            "the site failed, too"
        );
        assert_eq!(
            third_party([&slow, &broken, &other, &other], Trouble::Failing, ours),
            None,
            "no more than half"
        );
        assert_eq!(
            third_party([&slow, &slow], Trouble::Failing, ours),
            None,
            "two runs say nothing"
        );
        // Slow runs: without the host the step would have kept its budget.
        let over = |wait: f64, budget: f64| {
            let mut run = run(vec![answered(page, 200), request(tiles, 60.0, 20.0, wait, 5.0)]);
            run.outcome = Outcome::Slow;
            let step = &mut run.steps[0];
            (step.outcome, step.duration_ms, step.budget_ms) =
                (Outcome::Slow, wait + 120.0, Some(budget));
            run
        };
        let (held, hardly) = (over(2_000.0, 900.0), over(300.0, 50.0));
        assert_eq!(
            third_party([&held, &held, &held], Trouble::Slow, ours).as_deref(),
            Some("tiles.isles-map.example")
        );
        assert_eq!(
            third_party([&hardly, &hardly, &hardly], Trouble::Slow, ours),
            None,
            "it was over without it, too"
        );
    }

    proptest! {
        #[test]
        fn nobody_is_blamed_without_three_runs_to_compare_with(failed in 0u64..3, all in 0u64..3, here in 0u64..50, seen in 0u64..900) {
            let around = Around {
                elsewhere: runs(failed.min(all), all), others_here: runs(here, 50), visitors: Some((seen, 500.0)),
                ..Around::default()
            };
            for kind in Trouble::ALL {
                prop_assert_eq!(whose(&around, kind).0, Whose::NotSure);
            }
        }
    }
}
