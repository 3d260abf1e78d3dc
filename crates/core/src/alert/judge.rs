//! One evaluation after the other: what each says, and when an alert opens, worsens, eases and clears.
//!
//! The trial and the watch go through [`State::step`] alike, so that what was tried is what is watched.

use super::definition::{Definition, NoData, Rule, Severity};
use super::usual::Usual;
use crate::measure::windowed::Moment;
use crate::measure::{Unit, Worse};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// What one evaluation says.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Verdict {
    /// At the clear level or on its good side.
    Clear,
    /// Neither beyond a level nor clear.
    Between,
    /// Beyond the level of a warning.
    Warning,
    /// Beyond the critical level.
    Critical,
    /// Nothing to tell.
    NoData,
    /// Fewer samples or locations than it asks for.
    TooFew,
    /// Outside service hours or in maintenance: it is not judged.
    NotJudged,
}

impl Verdict {
    /// All of them, in the order in which they are kept.
    pub const ALL: [Verdict; 7] = [
        Verdict::Clear,
        Verdict::Between,
        Verdict::Warning,
        Verdict::Critical,
        Verdict::NoData,
        Verdict::TooFew,
        Verdict::NotJudged,
    ];

    /// In a few words.
    pub fn words(self) -> &'static str {
        match self {
            Verdict::Clear => "clear",
            Verdict::Between => "between clear and trouble",
            Verdict::Warning => "warning",
            Verdict::Critical => "critical",
            Verdict::NoData => "no data",
            Verdict::TooFew => "too few samples",
            Verdict::NotJudged => "not judged",
        }
    }
}

/// One evaluation.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Evaluation {
    /// Up to when was looked.
    pub at: Timestamp,
    /// What the measure came to.
    pub value: Option<f64>,
    /// Of how many samples.
    pub samples: u64,
    /// What that says.
    pub verdict: Verdict,
    /// What is usual then, of an alert that asks.
    pub usual: Option<Usual>,
}

impl Evaluation {
    /// The value, if anything was judged by it.
    pub fn judged(&self) -> Option<f64> {
        let is_judged = !matches!(self.verdict, Verdict::NotJudged | Verdict::TooFew);
        self.value.filter(|_| is_judged)
    }
}

impl Definition {
    /// What a measure that came to this says. `counts` is whether that moment is judged at all.
    pub fn judge(&self, moment: &Moment, counts: bool) -> Evaluation {
        self.judge_beside(moment, None, counts)
    }

    /// The same beside what is usual then; an alert that asks for it judges nothing where it is not known.
    pub fn judge_beside(&self, moment: &Moment, usual: Option<Usual>, counts: bool) -> Evaluation {
        let Moment { at, value, samples, places } = *moment;
        let usual = usual.filter(|_| matches!(self.rule, Rule::Unusual { .. }));
        let evaluation = Evaluation { at, value, samples, verdict: Verdict::NotJudged, usual };
        let few = samples < self.least_samples || places < self.least_places;
        let verdict = match (value, self.counted(&evaluation)) {
            _ if !counts => Verdict::NotJudged,
            (None, _) => Verdict::NoData,
            (Some(_), None) => Verdict::TooFew,
            (Some(_), Some(_)) if few => Verdict::TooFew,
            (Some(_), Some(value)) => self.beyond(value),
        };
        Evaluation { verdict, ..evaluation }
    }

    /// What an evaluation came to, in what the levels are counted in.
    pub fn counted(&self, evaluation: &Evaluation) -> Option<f64> {
        let value = evaluation.value?;
        match self.rule {
            Rule::Unusual { .. } => Some(evaluation.usual?.beyond(value, self.worse())),
            Rule::Level { .. } | Rule::Burns => Some(value),
        }
    }

    /// An evaluation that is acted out: as bad as this, or clear; of an alert on what is unlike its usual beside what is.
    /// `None` where the alert has no such level.
    pub fn acted(
        &self,
        at: Timestamp,
        as_bad: Option<Severity>,
        usual: Option<Usual>,
    ) -> Option<Evaluation> {
        let samples = self.least_samples.max(1);
        let verdict = match as_bad {
            Some(Severity::Critical) => Verdict::Critical,
            Some(Severity::Warning) => Verdict::Warning,
            None => Verdict::Clear,
        };
        let [warning, critical, _] = self.rule.levels();
        let far = |level: f64| {
            let step = match self.level_unit() {
                Unit::Share => (level.abs() * 0.1).max(0.001),
                Unit::State | Unit::Count => (level.abs() * 0.1).max(1.0).round(),
                Unit::Ms | Unit::Bytes | Unit::Plain | Unit::Times => (level.abs() * 0.1).max(0.1),
            };
            match self.side() {
                Worse::Above => level + step,
                Worse::Below => level - step,
            }
        };
        let value = match (self.rule, as_bad) {
            (Rule::Burns, Some(_)) => 1.2,
            (Rule::Burns, None) => 0.0,
            (_, Some(Severity::Critical)) => far(critical?),
            // A level itself is within, so that at the critical one it is no worse than a warning.
            (_, Some(Severity::Warning)) => {
                let beyond = far(warning?);
                critical.unwrap_or(beyond)
            }
            (_, None) => self.clears_at()?,
        };
        let value = match self.rule {
            Rule::Unusual { .. } => usual.map(|u| u.at(value, self.worse())),
            Rule::Level { .. } | Rule::Burns => Some(value),
        };
        Some(Evaluation { at, value, samples, verdict, usual })
    }

    fn beyond(&self, value: f64) -> Verdict {
        let [warning, critical, _] = self.rule.levels();
        let side = self.side();
        let over = |level: Option<f64>| level.is_some_and(|level| side.is_beyond(value, level));
        match (over(critical), over(warning), self.clears_at()) {
            (true, ..) => Verdict::Critical,
            (_, true, _) => Verdict::Warning,
            (_, _, Some(clear)) if side.is_beyond(value, clear) => Verdict::Between,
            _ => Verdict::Clear,
        }
    }

    /// What the burn rates over the paired windows say, each as far over its trigger as its moment's value says (1 is the
    /// trigger itself); the pairs in the order of [`crate::goal::burn::PAIRS`].
    pub fn judge_burns(&self, pairs: &[Moment; 3], counts: bool) -> Evaluation {
        let over = |m: &Moment| m.value.is_some_and(|v| v >= 1.0 - 1e-9);
        let worst = pairs.iter().filter(|m| m.value.is_some());
        let worst = worst.max_by(|a, b| a.value.unwrap_or(0.0).total_cmp(&b.value.unwrap_or(0.0)));
        let told = worst.unwrap_or(&pairs[0]);
        let verdict = match () {
            () if !counts => Verdict::NotJudged,
            () if worst.is_none() => Verdict::NoData,
            () if told.samples < self.least_samples => Verdict::TooFew,
            () if over(&pairs[0]) || over(&pairs[1]) => Verdict::Critical,
            () if over(&pairs[2]) => Verdict::Warning,
            () => Verdict::Clear,
        };
        let Moment { at, value, samples, .. } = *told;
        Evaluation { at, value, samples, verdict, usual: None }
    }
}

/// How an alert stands between two evaluations.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct State {
    /// How bad it is; `None` while it is quiet.
    pub open: Option<Severity>,
    /// Evaluations running that were beyond some level, and beyond the critical one.
    pub beyond: u32,
    /// Those beyond the critical level alone.
    pub critical: u32,
    /// Evaluations running that were clear, or had left the critical level.
    pub clear: u32,
    /// Evaluations running that were no longer critical.
    pub easier: u32,
    /// The first evaluation of those running that were beyond.
    pub since: Option<Timestamp>,
}

/// What an evaluation changes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Change {
    /// It opens.
    Opened(Severity),
    /// A warning becomes critical.
    Worsened,
    /// What was critical is a warning.
    Eased,
    /// It is over.
    Cleared,
}

impl State {
    /// Takes one more evaluation; what that changes.
    pub fn step(&mut self, definition: &Definition, evaluation: &Evaluation) -> Option<Change> {
        // What no data stands for is as bad as it gets with this alert.
        let worst = match definition.rule {
            Rule::Level { critical: None, .. } | Rule::Unusual { critical: None, .. } => {
                Verdict::Warning
            }
            _ => Verdict::Critical,
        };
        let verdict = match (evaluation.verdict, definition.no_data) {
            (Verdict::NoData, NoData::Clear) => Verdict::Clear,
            (Verdict::NoData, NoData::Open) => worst,
            (verdict, _) => verdict,
        };
        let count = |held: u32, so: bool| if so { held.saturating_add(1) } else { 0 };
        match verdict {
            // Nothing is known: neither what runs goes on, nor does it end.
            Verdict::NoData | Verdict::TooFew | Verdict::NotJudged => return None,
            _ => {}
        }
        let beyond = matches!(verdict, Verdict::Warning | Verdict::Critical);
        self.since = match (beyond, self.beyond) {
            (false, _) => None,
            (true, 0) => Some(evaluation.at),
            (true, _) => self.since,
        };
        self.beyond = count(self.beyond, beyond);
        self.critical = count(self.critical, verdict == Verdict::Critical);
        self.easier = count(self.easier, verdict != Verdict::Critical);
        self.clear = count(self.clear, verdict == Verdict::Clear);
        let running = definition.running.max(1);
        let (open, change) = match self.open {
            None if self.critical >= running => {
                (Some(Severity::Critical), Change::Opened(Severity::Critical))
            }
            None if self.beyond >= running => {
                (Some(Severity::Warning), Change::Opened(Severity::Warning))
            }
            Some(_) if self.clear >= running => (None, Change::Cleared),
            Some(Severity::Warning) if self.critical >= running => {
                (Some(Severity::Critical), Change::Worsened)
            }
            // Only where there is a level for a warning: without one it is critical until it clears.
            Some(Severity::Critical)
                if definition.has_warning() && beyond && self.easier >= running =>
            {
                (Some(Severity::Warning), Change::Eased)
            }
            _ => return None,
        };
        self.open = open;
        Some(change)
    }
}

impl Definition {
    fn has_warning(&self) -> bool {
        match self.rule {
            Rule::Level { warning, .. } | Rule::Unusual { warning, .. } => warning.is_some(),
            Rule::Burns => true,
        }
    }
}

/// A time for which an alert is, or would have been, open.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Opening {
    /// The first evaluation of those that made it open.
    pub since: Timestamp,
    /// The evaluation at which it opened.
    pub opened: Timestamp,
    /// The one at which it cleared; `None` while it lasts.
    pub cleared: Option<Timestamp>,
    /// The worst it came to.
    pub severity: Severity,
    /// The worst value.
    pub worst: Option<f64>,
    /// How many changes there were to tell of: opening, worsening, clearing.
    pub changes: u32,
}

/// When an alert that is quiet at the beginning would have been open, by evaluations in order of time.
pub fn openings(definition: &Definition, evaluations: &[Evaluation]) -> Vec<Opening> {
    let mut state = State::default();
    let mut all: Vec<Opening> = Vec::new();
    for e in evaluations {
        let since = state.since;
        let change = state.step(definition, e);
        if let Some(Change::Opened(severity)) = change {
            all.push(Opening {
                since: state.since.or(since).unwrap_or(e.at),
                opened: e.at,
                cleared: None,
                severity,
                worst: None,
                changes: 0,
            });
        }
        let Some(last) = all.last_mut().filter(|o| o.cleared.is_none()) else { continue };
        let worse = definition.worse();
        last.worst = match (last.worst, e.value) {
            (Some(held), Some(value)) => Some(match definition.rule {
                Rule::Level { .. } | Rule::Unusual { .. } => worse.worst(held, value),
                Rule::Burns => held.max(value),
            }),
            (held, value) => held.or(value),
        };
        match change {
            Some(Change::Cleared) => last.cleared = Some(e.at),
            Some(Change::Worsened) => last.severity = Severity::Critical,
            _ => {}
        }
        last.changes += u32::from(change.is_some());
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::calendar::stretch::at_second;
    use proptest::prelude::*;

    fn alert(running: u32, no_data: NoData) -> Definition {
        Definition {
            measured: "share failed".parse().unwrap(),
            rule: Rule::Level { warning: Some(0.2), critical: Some(0.5), clear: Some(0.1) },
            window_s: 300,
            every_s: 60,
            running,
            least_samples: 2,
            least_places: 0,
            no_data,
            service_hours: None,
        }
    }

    fn moment(nth: usize, value: Option<f64>, samples: u64) -> Moment {
        Moment { at: at_second(nth as i64 * 60), value, samples, places: 1 }
    }

    fn evaluated(definition: &Definition, values: &[Option<f64>]) -> Vec<Evaluation> {
        let of = |(nth, v): (usize, &Option<f64>)| definition.judge(&moment(nth, *v, 10), true);
        values.iter().enumerate().map(of).collect()
    }

    fn changes(definition: &Definition, values: &[Option<f64>]) -> Vec<(usize, Change)> {
        let mut state = State::default();
        let step = |(nth, e): (usize, &Evaluation)| Some((nth, state.step(definition, e)?));
        evaluated(definition, values).iter().enumerate().filter_map(step).collect()
    }

    #[test]
    fn levels_are_within_and_what_lies_between_them_neither_opens_nor_clears() {
        let alert = alert(1, NoData::Keep);
        let verdict = |value: f64| alert.judge(&moment(0, Some(value), 10), true).verdict;
        assert_eq!(
            [0.0, 0.1, 0.15, 0.2, 0.21, 0.5, 0.51].map(verdict),
            [
                Verdict::Clear,
                Verdict::Clear,
                Verdict::Between,
                Verdict::Between,
                Verdict::Warning,
                Verdict::Warning,
                Verdict::Critical
            ]
        );
        assert_eq!(alert.judge(&moment(0, Some(0.9), 1), true).verdict, Verdict::TooFew);
        assert_eq!(alert.judge(&moment(0, None, 0), true).verdict, Verdict::NoData);
        assert_eq!(alert.judge(&moment(0, Some(0.9), 10), false).verdict, Verdict::NotJudged);
    }

    #[test]
    fn it_opens_worsens_eases_and_clears_after_so_many_evaluations_running() {
        use Change::*;
        let of = |values: &[f64]| {
            changes(&alert(2, NoData::Keep), &values.iter().map(|v| Some(*v)).collect::<Vec<_>>())
        };
        assert_eq!(of(&[0.3, 0.0, 0.3, 0.0]), [], "never twice running");
        assert_eq!(
            of(&[0.3, 0.3, 0.6, 0.6, 0.3, 0.3, 0.15, 0.1, 0.0]),
            [(1, Opened(Severity::Warning)), (3, Worsened), (5, Eased), (8, Cleared)]
        );
        assert_eq!(
            of(&[0.6, 0.6, 0.0, 0.6, 0.0, 0.0]),
            [(1, Opened(Severity::Critical)), (5, Cleared)]
        );
        assert_eq!(of(&[0.3, 0.6, 0.0, 0.0]), [(1, Opened(Severity::Warning)), (3, Cleared)]);
    }

    #[test]
    fn no_data_means_what_the_alert_says_it_means() {
        let values = [Some(0.6), None, None, Some(0.0), None, None];
        let of = |no_data| changes(&alert(1, no_data), &values);
        let opened = (0, Change::Opened(Severity::Critical));
        assert_eq!(of(NoData::Keep), [opened, (3, Change::Cleared)]);
        assert_eq!(of(NoData::Clear), [opened, (1, Change::Cleared)]);
        assert_eq!(
            of(NoData::Open),
            [opened, (3, Change::Cleared), (4, Change::Opened(Severity::Critical))]
        );
    }

    #[test]
    fn what_is_acted_out_is_judged_as_bad_as_it_is_meant_to_be() {
        let level = |warning, critical, clear| Rule::Level { warning, critical, clear };
        let unusual = Rule::Unusual { warning: Some(5.0), critical: Some(8.0), clear: None };
        let usual = Some(Usual { middle: 1_800.0, spread: 90.0 });
        let at = at_second(600);
        for (measured, rule) in [
            ("share failed", level(Some(0.02), Some(0.1), Some(0.01))),
            ("availability", level(Some(0.99), Some(0.5), None)),
            ("p75 of LCP", level(None, Some(2_500.0), None)),
            ("p75 of CLS", level(Some(0.0), Some(0.001), None)),
            ("failing locations", level(Some(1.0), Some(2.0), None)),
            ("count of page views", level(Some(100.0), None, None)),
            ("p75 of LCP", unusual),
            ("count of page views", unusual),
        ] {
            let alert = Definition {
                measured: measured.parse().unwrap(),
                rule,
                least_samples: 50,
                ..alert(1, NoData::Keep)
            };
            let [warning, critical, _] = rule.levels();
            for (as_bad, has) in [
                (Some(Severity::Warning), warning.is_some()),
                (Some(Severity::Critical), critical.is_some()),
                (None, true),
            ] {
                let acted = alert.acted(at, as_bad, usual);
                assert_eq!(acted.is_some(), has, "{}", alert.sentence());
                let Some(acted) = acted else { continue };
                let Evaluation { value, samples, .. } = acted;
                let judged =
                    alert.judge_beside(&Moment { at, value, samples, places: 1 }, usual, true);
                assert_eq!(acted.verdict, judged.verdict, "{} at {value:?}", alert.sentence());
            }
        }
        let burns = Definition { rule: Rule::Burns, ..alert(1, NoData::Keep) };
        let worst = burns.acted(at, Some(Severity::Critical), None).unwrap();
        assert_eq!((worst.verdict, worst.value), (Verdict::Critical, Some(1.2)));
    }

    #[test]
    fn what_is_unlike_its_usual_is_judged_by_how_far_on_the_worse_side_it_is() {
        let of = |measured: &str| Definition {
            measured: measured.parse().unwrap(),
            rule: Rule::Unusual { warning: Some(4.0), critical: Some(8.0), clear: Some(2.0) },
            ..alert(1, NoData::Keep)
        };
        let usual = Some(Usual { middle: 1_000.0, spread: 50.0 });
        let judged = |alert: &Definition, value: f64, usual| {
            alert.judge_beside(&moment(0, Some(value), 10), usual, true).verdict
        };
        let slow = of("p75 of LCP");
        use Verdict::{Between, Clear, Critical, TooFew, Warning};
        assert_eq!(
            [400.0, 1_100.0, 1_101.0, 1_200.0, 1_201.0, 1_401.0].map(|v| judged(&slow, v, usual)),
            [Clear, Clear, Between, Between, Warning, Critical]
        );
        let few = of("count of page views");
        assert_eq!(
            [1_600.0, 799.0, 599.0].map(|v| judged(&few, v, usual)),
            [Clear, Warning, Critical]
        );
        assert_eq!(judged(&slow, 9_000.0, None), TooFew, "without a usual nothing is unlike it");
        // What a fixed level says has nothing to do with it.
        let fixed = alert(1, NoData::Keep);
        assert_eq!(
            fixed.judge_beside(&moment(0, Some(0.3), 10), usual, true),
            fixed.judge(&moment(0, Some(0.3), 10), true)
        );
    }

    #[test]
    fn an_error_budget_that_burns_is_judged_by_its_paired_windows() {
        let alert = Definition {
            measured: "burn rate over 1 h and 5 min for goal \"x\"".parse().unwrap(),
            rule: Rule::Burns,
            ..alert(1, NoData::Keep)
        };
        let of = |ratios: [Option<f64>; 3]| {
            alert.judge_burns(&ratios.map(|r| moment(0, r, 10)), true).verdict
        };
        assert_eq!(of([Some(1.0), Some(0.1), Some(0.1)]), Verdict::Critical);
        assert_eq!(of([Some(0.9), Some(1.2), Some(0.1)]), Verdict::Critical);
        assert_eq!(of([Some(0.9), Some(0.9), Some(1.0)]), Verdict::Warning);
        assert_eq!(of([Some(0.9), Some(0.9), None]), Verdict::Clear);
        assert_eq!(of([None, None, None]), Verdict::NoData);
    }

    proptest! {
        #[test]
        fn what_is_acted_out_for_as_long_as_it_takes_opens_and_then_clears(
            running in 1u32..6, every_min in 1i64..31, severity in 0usize..2, unusual in any::<bool>(), start in 0i64..100_000,
        ) {
            let severity = Severity::ALL[severity];
            let levels = |warning, critical| match unusual {
                true => Rule::Unusual { warning, critical, clear: None },
                false => Rule::Level { warning, critical, clear: None },
            };
            let alert = Definition {
                measured: "p75 of LCP".parse().unwrap(),
                rule: levels(Some(5.0), Some(8.0)),
                every_s: every_min * 60,
                window_s: 3_600,
                ..alert(running, NoData::Keep)
            };
            prop_assert_eq!(alert.check(), Ok(()));
            let from = at_second(start);
            let until = from + jiff::SignedDuration::from_mins(alert.opens_after_min());
            let mut state = State::default();
            for at in alert.moments(from, until) {
                prop_assert_eq!(state.open, None, "not before it is due");
                let e = alert.acted(at, Some(severity), None).unwrap();
                state.step(&alert, &e);
            }
            prop_assert_eq!(state.open, Some(severity));
            for at in alert.moments(until, until + jiff::SignedDuration::from_mins(alert.opens_after_min())) {
                prop_assert_eq!(state.open, Some(severity));
                state.step(&alert, &alert.acted(at, None, None).unwrap());
            }
            prop_assert_eq!(state.open, None);
        }

        #[test]
        fn openings_follow_from_their_rule_and_from_nothing_else(
            values in prop::collection::vec(prop::option::weighted(0.9, 0.0..1.0f64), 0..120), running in 1u32..5,
        ) {
            // By the plainest means: of what is known, look back over the last `running` values at each.
            let alert = alert(running, NoData::Keep);
            let known: Vec<(usize, f64)> = values.iter().enumerate().filter_map(|(i, v)| Some((i, (*v)?))).collect();
            let all = |nth: usize, fits: &dyn Fn(f64) -> bool| {
                nth + 1 >= running as usize && known[nth + 1 - running as usize..=nth].iter().all(|(_, v)| fits(*v))
            };
            let (mut is_open, mut want) = (false, Vec::new());
            for (nth, (at, _)) in known.iter().enumerate() {
                if !is_open && all(nth, &|v| v > 0.2) {
                    is_open = true;
                    want.push((*at, None));
                } else if is_open && all(nth, &|v| v <= 0.1) {
                    is_open = false;
                    let last = want.len() - 1;
                    want[last].1 = Some(*at);
                }
            }
            let nth = |at: Timestamp| (at.as_second() / 60) as usize;
            let told: Vec<(usize, Option<usize>)> =
                openings(&alert, &evaluated(&alert, &values)).iter().map(|o| (nth(o.opened), o.cleared.map(nth))).collect();
            prop_assert_eq!(told, want);
        }

        #[test]
        fn watching_in_pieces_is_watching_in_one(
            values in prop::collection::vec(prop::option::weighted(0.9, 0.0..1.0f64), 0..80), cut in 0usize..80, running in 1u32..4,
        ) {
            let alert = alert(running, NoData::Open);
            let all = evaluated(&alert, &values);
            let mut one = State::default();
            let whole: Vec<_> = all.iter().map(|e| one.step(&alert, e)).collect();
            let (first, second) = all.split_at(cut.min(all.len()));
            let mut state = State::default();
            let mut parts: Vec<_> = first.iter().map(|e| state.step(&alert, e)).collect();
            // Kept in the database in between.
            let mut state: State = serde_json::from_str(&serde_json::to_string(&state).unwrap()).unwrap();
            parts.extend(second.iter().map(|e| state.step(&alert, e)));
            prop_assert_eq!((whole, one), (parts, state));
        }
    }
}
