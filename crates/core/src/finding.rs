//! What needs a person: sentences computed from what was measured, worst first.

use crate::goal::Standing;
use crate::run::Outcome;
use crate::stats::Reading;
use crate::timing::Vital;
use serde::Serialize;

/// One thing that is the matter.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Finding {
    pub state: Standing,
    /// Higher is worse.
    pub weight: f64,
    /// One sentence.
    pub says: String,
    /// What it rests on.
    pub evidence: String,
}

/// What became of a journey's runs at one location in a stretch, newest last.
#[derive(Debug, Clone)]
pub struct LocationOutcomes<'a> {
    pub location: &'a str,
    /// Outcomes of the counted runs, in order of time.
    pub outcomes: &'a [Outcome],
}

impl LocationOutcomes<'_> {
    fn count(&self, outcome: Outcome) -> usize {
        self.outcomes.iter().filter(|o| **o == outcome).count()
    }
}

/// From this share of slow runs on, a location is worth a sentence; single slow runs are noise.
const SLOW_SHARE: f64 = 0.1;
/// From this many failed or unmeasured runs on.
const LEAST: usize = 2;

/// The findings of one journey.
pub fn of_journey(journey: &str, played: &[LocationOutcomes<'_>]) -> Vec<Finding> {
    let mut findings = Vec::new();
    let measured: Vec<&LocationOutcomes<'_>> =
        played.iter().filter(|p| p.count(Outcome::Unmeasured) < p.outcomes.len()).collect();
    let failing: Vec<&&LocationOutcomes<'_>> = measured.iter().filter(|p| p.count(Outcome::Failed) >= LEAST).collect();
    if !failing.is_empty() {
        let runs: usize = failing.iter().map(|p| p.count(Outcome::Failed)).sum();
        let lasting: Vec<&str> =
            failing.iter().filter(|p| newest(p) == Some(Outcome::Failed)).map(|p| p.location).collect();
        let whose = if failing.len() == measured.len() {
            "from every location, so it is the site or what all of them share".to_string()
        } else if failing.len() == 1 {
            format!("from {} alone; the other {} got through", failing[0].location, measured.len() - 1)
        } else {
            format!("from {} of {} locations", failing.len(), measured.len())
        };
        let now = if lasting.is_empty() {
            "It has cleared.".to_string()
        } else {
            format!("It still fails from {}.", list(&lasting))
        };
        findings.push(Finding {
            state: Standing::Broken,
            weight: 100.0 * failing.len() as f64 / measured.len() as f64 + if lasting.is_empty() { 0.0 } else { 200.0 },
            says: format!("“{journey}” failed {whose}. {now}"),
            evidence: format!("{} at {}", count(runs, "run", "failed"), list(&names(&failing))),
        });
    }
    let slow: Vec<&&LocationOutcomes<'_>> = measured
        .iter()
        .filter(|p| {
            p.count(Outcome::Slow) >= LEAST && p.count(Outcome::Slow) as f64 >= SLOW_SHARE * p.outcomes.len() as f64
        })
        .collect();
    if !slow.is_empty() {
        let runs: usize = slow.iter().map(|p| p.count(Outcome::Slow)).sum();
        let lasting: Vec<&str> = slow.iter().filter(|p| newest(p) == Some(Outcome::Slow)).map(|p| p.location).collect();
        let now =
            if lasting.is_empty() { "It has cleared.".into() } else { format!("It still is at {}.", list(&lasting)) };
        let whose = if slow.len() == measured.len() { "every location".into() } else { list(&names(&slow)) };
        findings.push(Finding {
            state: Standing::Strained,
            weight: 50.0 * slow.len() as f64 / measured.len() as f64 + if lasting.is_empty() { 0.0 } else { 60.0 },
            says: format!("“{journey}” was over its budget from {whose}. {now}"),
            evidence: format!(
                "{} of {} there",
                count(runs, "run", "slow"),
                slow.iter().map(|p| p.outcomes.len()).sum::<usize>()
            ),
        });
    }
    for p in played {
        let n = p.count(Outcome::Unmeasured);
        if n >= LEAST {
            findings.push(Finding {
                state: Standing::NoData,
                weight: if newest(p) == Some(Outcome::Unmeasured) { 40.0 } else { 5.0 },
                says: format!("“{journey}” could not be measured from {}: our own runner, not the site.", p.location),
                evidence: format!(
                    "{} of {}; none is held against the site",
                    count(n, "run", "unmeasured"),
                    p.outcomes.len()
                ),
            });
        }
    }
    findings
}

fn newest(p: &LocationOutcomes<'_>) -> Option<Outcome> {
    p.outcomes.last().copied()
}

fn names<'a>(played: &[&&LocationOutcomes<'a>]) -> Vec<&'a str> {
    played.iter().map(|p| p.location).collect()
}

fn count(n: usize, what: &str, adjective: &str) -> String {
    format!("{n} {adjective} {what}{}", if n == 1 { "" } else { "s" })
}

/// `A`, `A and B`, `A, B and 3 more`.
pub fn list(names: &[&str]) -> String {
    match names {
        [] => String::new(),
        [one] => one.to_string(),
        [a, b] => format!("{a} and {b}"),
        [a, b, c] => format!("{a}, {b} and {c}"),
        [a, b, rest @ ..] => format!("{a}, {b} and {} more", rest.len()),
    }
}

/// A vital of a page family over its budget at the 75th percentile.
pub fn of_vital(vital: Vital, family: &str, reading: &Reading, limit: f64, share_of_views: f64) -> Option<Finding> {
    let value = reading.value.filter(|v| *v > limit)?;
    // Sure only when the whole interval lies beyond the limit; few samples are left alone.
    let sure = reading.interval.is_some_and(|i| i.low > limit);
    sure.then(|| Finding {
        state: Standing::of_vital(vital, reading).max_grave(Standing::Strained),
        weight: 30.0 * share_of_views.min(1.0) * (value / limit).min(4.0),
        says: format!(
            "{} of “{family}” is {} at the 75th percentile, over its budget of {}.",
            vital.name(),
            vital.text(value),
            vital.text(limit)
        ),
        evidence: format!("{} page views, {:.0} % of all", reading.samples, share_of_views * 100.0),
    })
}

impl Standing {
    fn max_grave(self, other: Standing) -> Standing {
        if self == Standing::Broken || other == Standing::Broken { Standing::Broken } else { other }
    }
}

/// Worst first.
pub fn order(mut findings: Vec<Finding>) -> Vec<Finding> {
    findings.sort_by(|a, b| b.weight.total_cmp(&a.weight));
    findings
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::stats::Samples;
    use Outcome::*;

    #[test]
    fn a_failure_from_one_place_is_told_apart_from_one_everywhere() {
        let bad = [Passed, Failed, Failed];
        let good = [Passed, Passed, Passed];
        let one = of_journey(
            "Book",
            &[LocationOutcomes { location: "A", outcomes: &bad }, LocationOutcomes { location: "B", outcomes: &good }],
        );
        assert_eq!(one[0].says, "“Book” failed from A alone; the other 1 got through. It still fails from A.");
        let all = of_journey(
            "Book",
            &[LocationOutcomes { location: "A", outcomes: &bad }, LocationOutcomes { location: "B", outcomes: &bad }],
        );
        assert!(all[0].says.contains("from every location"));
        assert!(order([one, all].concat())[0].says.contains("every location"));
    }

    #[test]
    fn our_own_trouble_is_said_to_be_ours_and_one_slip_is_no_finding() {
        let ours = [Unmeasured, Unmeasured];
        let slip = [Passed, Slow, Passed, Passed, Passed, Passed, Passed, Passed, Passed, Passed, Passed, Failed];
        let found = of_journey(
            "Book",
            &[LocationOutcomes { location: "A", outcomes: &ours }, LocationOutcomes { location: "B", outcomes: &slip }],
        );
        assert_eq!(found.len(), 1);
        assert_eq!(found[0].state, Standing::NoData);
        assert!(found[0].says.contains("our own runner"));
    }

    #[test]
    fn a_vital_is_over_its_budget_only_when_its_whole_interval_is() {
        let clear = Samples::new((0..400).map(|i| 2600.0 + f64::from(i))).reading(0.75);
        assert!(of_vital(Vital::Lcp, "Sailings", &clear, 2500.0, 0.2).is_some());
        let few = Samples::new([9000.0]).reading(0.75);
        assert_eq!(of_vital(Vital::Lcp, "Sailings", &few, 2500.0, 0.2), None);
    }
}
