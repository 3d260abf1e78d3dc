//! What needs a person: sentences computed from what was measured, worst first.

use crate::alert::Severity;
use crate::calendar::stretch::length_text;
use crate::goal::limit::Limit;
use crate::goal::{self, Check, Danger, ErrorBudget, Standing};
use crate::measure::Worse;
use crate::run::Outcome;
use crate::stats::Reading;
use crate::timing::Vital;
use jiff::Timestamp;
use jiff::tz::TimeZone;
use serde::Serialize;

/// One thing that is the matter.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Finding {
    /// How bad it is.
    pub state: Standing,
    /// Higher is worse.
    pub weight: f64,
    /// One sentence.
    pub says: String,
    /// What it rests on.
    pub evidence: String,
    /// When it began; `None` when it began before what was looked at.
    pub since: Option<Timestamp>,
    /// When it was over everywhere; `None` while it lasts. What is over needs nobody.
    pub until: Option<Timestamp>,
}

/// What became of a journey's counted runs at one location in a stretch, in order of time.
#[derive(Debug, Clone)]
pub struct LocationChecks<'a> {
    /// The location's name.
    pub location: &'a str,
    /// What became of the runs there, in order of time.
    pub checks: Vec<Check>,
}

impl LocationChecks<'_> {
    fn count(&self, outcome: Outcome) -> usize {
        self.checks.iter().filter(|c| c.outcome == outcome).count()
    }

    fn newest(&self) -> Option<Outcome> {
        self.checks.last().map(|c| c.outcome)
    }

    /// When the newest trouble of this kind began: the first such run after the last that was not; runs that are of
    /// another kind of trouble neither begin nor end it.
    fn since(&self, outcome: Outcome) -> Option<Timestamp> {
        let last = self.checks.iter().rposition(|c| c.outcome == outcome)?;
        let before = self.checks[..last]
            .iter()
            .rposition(|c| ends(c.outcome, outcome))
            .map_or(0, |at| at + 1);
        self.checks[before..].iter().find(|c| c.outcome == outcome).map(|c| c.at)
    }

    /// When it was over: the first run after the last such one that ends it.
    fn until(&self, outcome: Outcome) -> Option<Timestamp> {
        let last = self.checks.iter().rposition(|c| c.outcome == outcome)?;
        self.checks[last..].iter().find(|c| ends(c.outcome, outcome)).map(|c| c.at)
    }
}

/// Whether a run that came to this ends trouble of that kind: a failure is over when a run gets through, slowness when one
/// is quick enough, and not being measured when one is measured.
fn ends(of: Outcome, trouble: Outcome) -> bool {
    match trouble {
        Outcome::Failed => of.got_through(),
        Outcome::Slow => of == Outcome::Passed,
        _ => of != Outcome::Unmeasured,
    }
}

/// From this share of slow runs on, a location is worth a sentence; single slow runs are noise.
const SLOW_SHARE: f64 = 0.1;
/// From this many failed or unmeasured runs on.
const LEAST: usize = 2;

/// From when on a trouble was seen, and when it was over: of several locations, the earliest and the latest. While it lasts
/// somewhere only those places count, in which it does.
fn extent(
    troubled: &[&&LocationChecks<'_>],
    kind: Outcome,
) -> (Option<Timestamp>, Option<Timestamp>) {
    let lasting: Vec<&&&LocationChecks<'_>> =
        troubled.iter().filter(|p| p.until(kind).is_none()).collect();
    if lasting.is_empty() {
        let since = troubled.iter().filter_map(|p| p.since(kind)).min();
        return (since, troubled.iter().filter_map(|p| p.until(kind)).max());
    }
    (lasting.iter().filter_map(|p| p.since(kind)).min(), None)
}

/// What is promised comes before what is merely slow or failing: its weight begins here.
const PROMISED: f64 = 200.0;

/// A goal in danger, as it is told.
#[derive(Debug, Clone, Copy)]
pub struct Endangered<'a> {
    /// The goal's name.
    pub name: &'a str,
    /// Over what it is judged now, such as "November 2026".
    pub window: &'a str,
    /// What threatens it.
    pub danger: Danger,
    /// What is promised.
    pub measure: &'a goal::Measure,
    /// What is left of its error budget.
    pub budget: &'a ErrorBudget,
    /// Since when it is in this danger, as far as runs tell.
    pub since: Option<Timestamp>,
    /// Where most of what burns it comes from, and the share of all that was bad.
    pub mostly: Option<(&'a str, f64)>,
}

/// An incident that goes on comes before everything that is merely measured: somebody was, or was to be, told of it.
const INCIDENT: f64 = 300.0;

/// What is the matter with an incident that goes on, or was.
pub fn of_incident(incident: &Happened<'_>) -> Finding {
    let Happened { number, title, severity, since, until, acknowledged } = *incident;
    let (state, weight) = match severity {
        Severity::Critical => (Standing::Broken, INCIDENT + 50.0),
        Severity::Warning => (Standing::Strained, INCIDENT),
    };
    let evidence = match (acknowledged, until) {
        (Some(by), _) => format!("acknowledged by {by}"),
        (None, None) => "acknowledged by nobody yet".into(),
        (None, Some(_)) => "acknowledged by nobody".into(),
    };
    let says = format!("Incident {number}, {}: {title}.", severity.word());
    // Of two alike the one that nobody looks after comes first.
    let weight = weight + if acknowledged.is_none() { 10.0 } else { 0.0 };
    Finding { state, weight, says, evidence, since: Some(since), until }
}

/// An incident, as it is told.
#[derive(Debug, Clone, Copy)]
pub struct Happened<'a> {
    /// Its number.
    pub number: i32,
    /// In a few words.
    pub title: &'a str,
    /// How bad it is, or was.
    pub severity: Severity,
    /// When it opened.
    pub since: Timestamp,
    /// When it cleared.
    pub until: Option<Timestamp>,
    /// Who looks after it.
    pub acknowledged: Option<&'a str>,
}

/// What is the matter with a goal; moments are told on the clock of this zone.
pub fn of_goal(goal: &Endangered<'_>, zone: &TimeZone) -> Option<Finding> {
    let clock = |at: Timestamp| at.to_zoned(zone.clone()).strftime("%a %-d %b %H:%M").to_string();
    let Endangered { name, window, budget, .. } = *goal;
    let left = budget.left_ms();
    let lasts = |rate: f64| match budget.lasts_ms(rate) {
        Some(ms) if ms > 0.0 => format!("; at this pace it is used up in {}", length_text(ms)),
        _ => String::new(),
    };
    let (state, says, weight) = match goal.danger {
        Danger::None => return None,
        Danger::Burns { burn, is_missed } => {
            let rate = burn.short.unwrap_or(0.0).min(burn.long.unwrap_or(0.0));
            let faster = format!("its error budget burns {rate:.1} times as fast as it may");
            let says = match is_missed {
                true => {
                    format!("“{name}” is missed for {window} and goes on being missed: {faster}.")
                }
                false => format!("“{name}” is in danger: {faster}{}.", lasts(rate)),
            };
            (Standing::Broken, says, 30.0 + burn.pair.trigger)
        }
        Danger::Missed => {
            let over = budget.part_text(goal.measure, -left);
            (
                Standing::Broken,
                format!(
                    "“{name}” is missed for {window}: its error budget is overspent by {over}."
                ),
                20.0,
            )
        }
        Danger::RunsOut(at) => {
            let says = format!(
                "“{name}” will be missed for {window} at the pace of the last day: its error budget is used up on {}.",
                clock(at)
            );
            (Standing::Strained, says, 10.0)
        }
    };
    let part = |ms| budget.part_text(goal.measure, ms);
    let rest = match goal.measure.of_page_views() {
        None => format!("{} of {}", part(left.max(0.0)), part(budget.allowed_ms())),
        Some(_) => part(left.max(0.0)),
    };
    let rest = format!("{rest} left of the error budget");
    let evidence = match goal.mostly {
        Some((whence, share)) => {
            format!("{rest}; {:.0} % of what was bad is {whence}", share * 100.0)
        }
        None => rest,
    };
    Some(Finding {
        state,
        weight: PROMISED + weight,
        says,
        evidence,
        since: goal.since,
        until: None,
    })
}

/// The findings of one journey.
pub fn of_journey(journey: &str, played: &[LocationChecks<'_>]) -> Vec<Finding> {
    let measured: Vec<&LocationChecks<'_>> =
        played.iter().filter(|p| p.count(Outcome::Unmeasured) < p.checks.len()).collect();
    let mut findings = Vec::new();
    findings.extend(failing(journey, &measured));
    findings.extend(slow(journey, &measured));
    findings.extend(played.iter().filter_map(|p| unmeasured(journey, p)));
    findings
}

fn failing(journey: &str, measured: &[&LocationChecks<'_>]) -> Option<Finding> {
    let failing: Vec<&&LocationChecks<'_>> =
        measured.iter().filter(|p| p.count(Outcome::Failed) >= LEAST).collect();
    let first = failing.first()?;
    let runs: usize = failing.iter().map(|p| p.count(Outcome::Failed)).sum();
    let lasting: Vec<&str> =
        failing.iter().filter(|p| p.until(Outcome::Failed).is_none()).map(|p| p.location).collect();
    let whose = if failing.len() == measured.len() {
        "from every location, so it is the site or what all of them share".to_string()
    } else if failing.len() == 1 {
        let others = match measured.len() - 1 {
            1 => "location".to_string(),
            n => n.to_string(),
        };
        format!("from {} alone; the other {others} got through", first.location)
    } else {
        format!("from {} of {} locations", failing.len(), measured.len())
    };
    let now = match lasting.as_slice() {
        [] => String::new(),
        some => format!(" It still fails from {}.", list(some)),
    };
    let (since, until) = extent(&failing, Outcome::Failed);
    Some(Finding {
        state: Standing::Broken,
        weight: 100.0 * failing.len() as f64 / measured.len() as f64
            + if lasting.is_empty() { 0.0 } else { 200.0 },
        says: format!("“{journey}” failed {whose}.{now}"),
        evidence: format!("{} at {}", count(runs, "run", "failed"), list(&names(&failing))),
        since,
        until,
    })
}

fn slow(journey: &str, measured: &[&LocationChecks<'_>]) -> Option<Finding> {
    let many = |p: &&&LocationChecks<'_>| {
        p.count(Outcome::Slow) >= LEAST
            && p.count(Outcome::Slow) as f64 >= SLOW_SHARE * p.checks.len() as f64
    };
    let slow: Vec<&&LocationChecks<'_>> = measured.iter().filter(many).collect();
    if slow.is_empty() {
        return None;
    }
    let runs: usize = slow.iter().map(|p| p.count(Outcome::Slow)).sum();
    let lasting: Vec<&str> =
        slow.iter().filter(|p| p.until(Outcome::Slow).is_none()).map(|p| p.location).collect();
    let now = match lasting.as_slice() {
        [] => String::new(),
        some => format!(" It still is at {}.", list(some)),
    };
    let whose =
        if slow.len() == measured.len() { "every location".into() } else { list(&names(&slow)) };
    let (since, until) = extent(&slow, Outcome::Slow);
    Some(Finding {
        state: Standing::Strained,
        weight: 50.0 * slow.len() as f64 / measured.len() as f64
            + if lasting.is_empty() { 0.0 } else { 60.0 },
        says: format!("“{journey}” was over its budget from {whose}.{now}"),
        evidence: format!(
            "{} of {} there",
            count(runs, "run", "slow"),
            slow.iter().map(|p| p.checks.len()).sum::<usize>()
        ),
        since,
        until,
    })
}

fn unmeasured(journey: &str, p: &LocationChecks<'_>) -> Option<Finding> {
    let n = p.count(Outcome::Unmeasured);
    (n >= LEAST).then(|| Finding {
        state: Standing::NoData,
        weight: if p.newest() == Some(Outcome::Unmeasured) { 40.0 } else { 5.0 },
        says: format!(
            "“{journey}” could not be measured from {}: our own runner, not the site.",
            p.location
        ),
        evidence: format!(
            "{} of {}; none is held against the site",
            count(n, "run", "unmeasured"),
            p.checks.len()
        ),
        since: p.since(Outcome::Unmeasured),
        until: p.until(Outcome::Unmeasured),
    })
}

/// A run that was due may be so late: it waits for a runner, is played, and its record is on its way.
const LATE_S: i64 = 15 * 60;

/// Since when a location is silent: when the first run was due that did not come. What is not due is not awaited, be it
/// night or the journey paused.
///
/// `due` are the moments at which runs were due since `newest`, the last one that came (or since the beginning of what is
/// looked at), in order of time.
pub fn silent_since(
    due: impl IntoIterator<Item = Timestamp>,
    newest: Option<Timestamp>,
    now: Timestamp,
) -> Option<Timestamp> {
    let awaited = due.into_iter().find(|at| newest.is_none_or(|came| *at > came))?;
    (now.duration_since(awaited).as_secs() > LATE_S).then_some(awaited)
}

fn names<'a>(played: &[&&LocationChecks<'a>]) -> Vec<&'a str> {
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
///
/// `since` is when it was last within, if that is known.
pub fn of_vital(
    vital: Vital,
    family: &str,
    reading: &Reading,
    limit: f64,
    share_of_views: f64,
    since: Option<Timestamp>,
) -> Option<Finding> {
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
        since,
        until: None,
    })
}

/// A measure that is over its limit, as far as that is sure.
///
/// `since` is when it was last within, if that is known.
pub fn of_limit(limit: &Limit, reading: &Reading, since: Option<Timestamp>) -> Option<Finding> {
    let value = reading.value.filter(|_| limit.is_surely_missed(reading))?;
    let (measured, unit) = (&limit.measured, limit.measured.measure.unit());
    let over = match measured.measure.worse() {
        Worse::Above => "over",
        Worse::Below => "below",
    };
    // How far it is off in shares of its limit; nobody promises that nothing happens and is not disturbed by one.
    let off = (value - limit.level).abs() / limit.level.abs().max(f64::MIN_POSITIVE);
    Some(Finding {
        state: Standing::Strained,
        weight: 10.0 * (1.0 + off.min(2.0)),
        says: format!(
            "“{measured}” is {}, {over} its limit of {}.",
            unit.text(value),
            unit.text(limit.level)
        ),
        evidence: format!("{} {}", reading.samples, measured.measure.samples_words()),
        since,
        until: None,
    })
}

impl Standing {
    fn max_grave(self, other: Standing) -> Standing {
        if self == Standing::Broken || other == Standing::Broken { Standing::Broken } else { other }
    }
}

/// A bucket with fewer samples does not say whether a number is over its limit.
pub(crate) const LEAST_IN_BUCKET: u64 = 20;

/// Since when a reading is over its limit: the beginning of the last buckets in a row that are. Buckets with few samples
/// neither begin nor end it. `None` when it was over from the first one on.
pub fn over_since(buckets: &[(Timestamp, Reading)], limit: f64) -> Option<Timestamp> {
    beyond_since(buckets, LEAST_IN_BUCKET, |v| v > limit)
}

/// The same of whatever is too much, of buckets with at least so many samples.
pub(crate) fn beyond_since(
    buckets: &[(Timestamp, Reading)],
    least: u64,
    is_beyond: impl Fn(f64) -> bool,
) -> Option<Timestamp> {
    let mut since = None;
    for (at, reading) in buckets.iter().rev().filter(|(_, r)| r.samples >= least) {
        match reading.value {
            Some(v) if is_beyond(v) => since = Some(*at),
            Some(_) => return since,
            None => {}
        }
    }
    None
}

/// Worst first; what is over comes after what lasts.
pub fn order(mut findings: Vec<Finding>) -> Vec<Finding> {
    findings.sort_by(|a, b| {
        a.until.is_some().cmp(&b.until.is_some()).then(b.weight.total_cmp(&a.weight))
    });
    findings
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::calendar::stretch::at_second;
    use crate::stats::Samples;
    use Outcome::*;

    fn at<'a>(location: &'a str, outcomes: &[Outcome]) -> LocationChecks<'a> {
        let check =
            |(i, o): (usize, &Outcome)| Check { at: at_second(i as i64 * 300), outcome: *o };
        LocationChecks { location, checks: outcomes.iter().enumerate().map(check).collect() }
    }

    #[test]
    fn a_goal_in_danger_is_told_before_anything_else_with_how_fast_and_whose_doing() {
        use crate::goal::Score;
        use crate::goal::burn::{Burn, PAIRS};
        let budget = |bad| ErrorBudget {
            promised: 0.99,
            window_ms: 30.0 * 86_400_000.0,
            passed_ms: 15.0 * 86_400_000.0,
            score: Score { good: 10_000 - bad, bad, ..Score::default() },
        };
        let told = |danger, bad| {
            let budget = budget(bad);
            let mostly = Some(("“Book” from Valparaíso", 0.47));
            let goal = Endangered {
                name: "Bookable",
                window: "November",
                danger,
                measure: &goal::Measure::Availability,
                budget: &budget,
                since: None,
                mostly,
            };
            of_goal(&goal, &TimeZone::UTC)
        };
        let burn = Burn { pair: PAIRS[0], long: Some(20.0), short: Some(16.0) };
        let burns = told(Danger::Burns { burn, is_missed: false }, 10).unwrap();
        assert!(burns.says.starts_with("“Bookable” is in danger: its error budget burns 16.0 times as fast as it may; at this pace it is used up in "), "{}", burns.says);
        assert!(
            burns.evidence.ends_with("47 % of what was bad is “Book” from Valparaíso"),
            "{}",
            burns.evidence
        );
        let missed = told(Danger::Missed, 1_000).unwrap();
        assert!(
            missed.says.contains("is missed for November: its error budget is overspent by"),
            "{}",
            missed.says
        );
        assert!(
            burns.weight > missed.weight && missed.weight > 100.0,
            "before journeys that fail everywhere"
        );
        let soon = told(Danger::RunsOut(Timestamp::UNIX_EPOCH), 10).unwrap();
        assert_eq!((soon.state, missed.state), (Standing::Strained, Standing::Broken));
        assert!(told(Danger::None, 10).is_none());
    }

    #[test]
    fn a_failure_from_one_place_is_told_apart_from_one_everywhere() {
        let (bad, good) = ([Passed, Failed, Failed], [Passed, Passed, Passed]);
        let one = of_journey("Book", &[at("A", &bad), at("B", &good)]);
        assert_eq!(
            one[0].says,
            "“Book” failed from A alone; the other location got through. It still fails from A."
        );
        let all = of_journey("Book", &[at("A", &bad), at("B", &bad)]);
        assert!(all[0].says.contains("from every location"));
        assert!(order([one, all].concat())[0].says.contains("every location"));
    }

    #[test]
    fn each_finding_says_since_when_and_what_is_over_when_it_was_over() {
        // Failing since the third run at A, since the fourth at B; an unmeasured run ends nothing.
        let lasts = of_journey(
            "Book",
            &[
                at("A", &[Passed, Passed, Failed, Unmeasured, Failed]),
                at("B", &[Failed, Passed, Passed, Failed, Failed]),
            ],
        );
        assert_eq!((lasts[0].since, lasts[0].until), (Some(at_second(600)), None));
        // Over at A with the fourth run, at B with the fifth.
        let over = of_journey(
            "Book",
            &[
                at("A", &[Passed, Failed, Failed, Slow, Passed]),
                at("B", &[Passed, Passed, Failed, Failed, Passed]),
            ],
        );
        assert_eq!((over[0].since, over[0].until), (Some(at_second(300)), Some(at_second(1_200))));
        assert!(!over[0].says.contains("still"));
        // Where it lasts somewhere, what is over elsewhere does not make it older.
        let mixed = of_journey(
            "Book",
            &[
                at("A", &[Failed, Failed, Passed, Passed, Passed]),
                at("B", &[Passed, Passed, Passed, Failed, Failed]),
            ],
        );
        assert_eq!((mixed[0].since, mixed[0].until), (Some(at_second(900)), None));
        let slow = of_journey("Book", &[at("A", &[Slow, Slow, Passed])]);
        assert_eq!((slow[0].state, slow[0].until), (Standing::Strained, Some(at_second(600))));
        // What is over comes last, however bad it was.
        let ordered =
            order([over, of_journey("Look", &[at("A", &[Unmeasured, Unmeasured])])].concat());
        assert_eq!(ordered[0].state, Standing::NoData);
    }

    #[test]
    fn our_own_trouble_is_said_to_be_ours_and_one_slip_is_no_finding() {
        let slip = [
            Passed, Slow, Passed, Passed, Passed, Passed, Passed, Passed, Passed, Passed, Passed,
            Failed,
        ];
        let found = of_journey("Book", &[at("A", &[Unmeasured, Unmeasured]), at("B", &slip)]);
        assert_eq!(found.len(), 1);
        assert_eq!(found[0].state, Standing::NoData);
        assert!(found[0].says.contains("our own runner"));
    }

    #[test]
    fn silence_is_when_something_was_due_and_did_not_come() {
        let minutes = |n: i64| at_second(n * 60);
        let every_five = |from: i64, to: i64| (from..=to).filter(|m| m % 5 == 0).map(minutes);
        // Twelve minutes after the last run two were due: late, not silent.
        assert_eq!(silent_since(every_five(0, 72), Some(minutes(60)), minutes(72)), None);
        assert_eq!(
            silent_since(every_five(0, 85), Some(minutes(60)), minutes(85)),
            Some(minutes(65))
        );
        // A weekday's journey at night: nothing is due.
        assert_eq!(silent_since([], Some(minutes(60)), minutes(900)), None);
        // Nothing ever came of the first.
        assert_eq!(silent_since([minutes(10)], None, minutes(40)), Some(minutes(10)));
    }

    #[test]
    fn a_vital_is_over_its_budget_only_when_its_whole_interval_is_and_since_its_last_good_hour() {
        let clear = Samples::new((0..400).map(|i| 2600.0 + f64::from(i))).reading(0.75);
        assert!(of_vital(Vital::Lcp, "Sailings", &clear, 2500.0, 0.2, None).is_some());
        let few = Samples::new([9000.0]).reading(0.75);
        assert_eq!(of_vital(Vital::Lcp, "Sailings", &few, 2500.0, 0.2, None), None);
        let limit = |text: &str, level| Limit { measured: text.parse().unwrap(), level };
        let errors = limit("count of errors", 3.0);
        let count = |n: u64| Reading { value: Some(n as f64), samples: n, interval: None };
        let found = of_limit(&errors, &count(9), None).unwrap();
        assert_eq!(found.says, "“count of errors” is 9, over its limit of 3.");
        assert_eq!(of_limit(&errors, &count(3), None), None);
        let slow = limit("p75 of LCP for family \"Sailings\"", 2_500.0);
        assert!(of_limit(&slow, &clear, None).unwrap().says.contains("over its limit of 2.50 s"));
        assert_eq!(of_limit(&slow, &few, None), None);
        let hour = |ms: f64, n: u64| Samples::new((0..n).map(|_| ms)).reading(0.75);
        let hours = |values: &[(f64, u64)]| -> Vec<(Timestamp, Reading)> {
            values
                .iter()
                .enumerate()
                .map(|(i, (ms, n))| (at_second(i as i64 * 3_600), hour(*ms, *n)))
                .collect()
        };
        let since = over_since(
            &hours(&[(9_000.0, 50), (1_000.0, 50), (3_000.0, 50), (900.0, 2), (3_000.0, 50)]),
            2_500.0,
        );
        assert_eq!(since, Some(at_second(7_200)), "an hour of two page views says nothing");
        assert_eq!(
            over_since(&hours(&[(3_000.0, 50), (3_000.0, 50)]), 2_500.0),
            None,
            "from the first one on"
        );
        assert_eq!(over_since(&hours(&[(3_000.0, 50), (1_000.0, 50)]), 2_500.0), None);
    }
}
