//! The course of what an alert watches, with its levels, what is usual, and when it was open: in a trial, as it was watched, and
//! around an incident.

use crate::course::{Chart, Drawn, chart, thinned};
use crate::frame::Frame;
use cadentis_answers::kept::LeftOut;
use cadentis_core::alert::usual::PIECE_S;
use cadentis_core::alert::{Definition, Evaluation, Rule};
use cadentis_core::calendar::Stretch;
use cadentis_core::measure::{Unit, Worse};

/// Points on a chart at most.
const POINTS: usize = 900;

/// What is drawn of an alert.
pub(super) struct Course<'a> {
    pub definition: &'a Definition,
    pub stretch: Stretch,
    /// Seconds between two evaluations.
    pub every_s: i64,
    /// How it was come by.
    pub sub: &'a str,
    /// Times that stand out: when, what, tone.
    pub spans: Vec<(Stretch, String, &'static str)>,
    pub left_out: &'a [LeftOut],
}

impl Course<'_> {
    /// By what each evaluation said, in order of time.
    pub fn chart(self, frame: &Frame, evaluations: impl Iterator<Item = Evaluation>) -> Chart {
        let definition = self.definition;
        let (unit, worse) = unit(definition);
        let evaluations: Vec<Evaluation> = evaluations.collect();
        let point = |e: &Evaluation| Some((e.at.as_second(), e.judged()?, e.samples));
        let points: Vec<(i64, f64, u64)> = evaluations.iter().filter_map(point).collect();
        let step = points.len().div_ceil(POINTS).max(1) as i64;
        let points = thinned(&points, POINTS, worse);
        let values: Vec<(i64, f64)> = points.iter().map(|p| (p.0, p.1)).collect();
        let samples: Vec<u64> = points.iter().map(|p| p.2).collect();
        let usual = usual(definition, &evaluations);
        let drawn = Drawn {
            points: &values,
            samples: &samples,
            bucket_s: self.every_s * step * 2,
            levels: levels(definition),
            spans: self.spans,
            usual: &usual,
            left_out: self.left_out,
        };
        let sub = match definition.rule {
            Rule::Unusual { .. } => format!("{}; shaded: its usual", self.sub),
            _ => self.sub.to_string(),
        };
        let title = definition.measured.to_string();
        chart(frame, self.stretch, (title, sub), (unit, worse), &drawn)
    }
}

/// The levels of an alert as lines of its chart; those in spreads move with what is usual and are no lines.
fn levels(definition: &Definition) -> Vec<(f64, String, &'static str)> {
    let worse = definition.worse().word();
    match definition.rule {
        Rule::Burns => vec![(1.0, "trigger".into(), "broken")],
        Rule::Unusual { .. } => Vec::new(),
        Rule::Level { warning, critical, clear } => {
            let all = [
                (critical, format!("critical {worse}"), "broken"),
                (warning, format!("warning {worse}"), "strained"),
                (clear, "clears at".to_string(), "within"),
            ];
            all.into_iter().filter_map(|(value, says, tone)| Some((value?, says, tone))).collect()
        }
    }
}

/// From where to where a value is within the least of the levels, on either side of what is usual: by the second.
fn usual(definition: &Definition, evaluations: &[Evaluation]) -> Vec<(i64, f64, f64)> {
    let [warning, critical, _] = definition.rule.levels();
    let Some(least) = warning.or(critical) else { return Vec::new() };
    let mut all: Vec<(i64, f64, f64)> = Vec::new();
    for e in evaluations {
        let Some(usual) = e.usual else { continue };
        let piece = e.at.as_second().div_euclid(PIECE_S) * PIECE_S;
        if all.last().is_none_or(|(held, ..)| *held < piece) {
            let ends = [-least, least].map(|n| usual.at(n, Worse::Above));
            all.push((piece, ends[0], ends[1]));
        }
    }
    let step = all.len().div_ceil(POINTS).max(1);
    all.into_iter().step_by(step).collect()
}

/// What its values are counted in on a chart.
pub(super) fn unit(definition: &Definition) -> (Unit, Worse) {
    match definition.rule {
        Rule::Burns => (Unit::Times, Worse::Above),
        Rule::Level { .. } | Rule::Unusual { .. } => {
            (definition.measured.measure.unit(), definition.worse())
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use cadentis_core::alert::{NoData, Usual, Verdict};
    use cadentis_core::calendar::stretch::at_second;

    fn alert(measured: &str, rule: Rule) -> Definition {
        Definition {
            measured: measured.parse().unwrap(),
            rule,
            window_s: 3_600,
            every_s: 300,
            running: 1,
            least_samples: 0,
            least_places: 0,
            no_data: NoData::Keep,
            service_hours: None,
        }
    }

    fn evaluation(second: i64, usual: Option<Usual>) -> Evaluation {
        Evaluation {
            at: at_second(second),
            value: Some(2_000.0),
            samples: 9,
            verdict: Verdict::Clear,
            usual,
        }
    }

    #[test]
    fn what_is_usual_is_an_area_up_to_the_least_level_told_once_for_each_quarter_of_an_hour() {
        let rule = Rule::Unusual { warning: Some(5.0), critical: Some(8.0), clear: None };
        let unlike = alert("p75 of LCP", rule);
        let band = Some(Usual { middle: 1_800.0, spread: 100.0 });
        let all = [
            evaluation(600, None),
            evaluation(900, band),
            evaluation(1_200, band),
            evaluation(1_800, Some(Usual { middle: 1_900.0, spread: 50.0 })),
        ];
        assert_eq!(usual(&unlike, &all), [(900, 1_300.0, 2_300.0), (1_800, 1_650.0, 2_150.0)]);
        let critical = Rule::Unusual { warning: None, critical: Some(8.0), clear: None };
        let alone = usual(&alert("p75 of LCP", critical), &all[1..2]);
        assert_eq!(
            alone,
            [(900, 1_000.0, 2_600.0)],
            "without a warning the critical level is the least"
        );
        assert!(usual(&unlike, &all[..1]).is_empty());
        assert!(levels(&unlike).is_empty(), "levels that move are no lines");
    }

    #[test]
    fn levels_are_lines_each_with_its_own_tone() {
        let rule = Rule::Level { warning: Some(0.99), critical: Some(0.9), clear: Some(0.999) };
        let drawn = levels(&alert("availability", rule));
        let told: Vec<_> =
            drawn.iter().map(|(at, says, tone)| (*at, says.as_str(), *tone)).collect();
        assert_eq!(
            told,
            [
                (0.9, "critical below", "broken"),
                (0.99, "warning below", "strained"),
                (0.999, "clears at", "within")
            ]
        );
        let burns = alert("burn rate over 1 h and 5 min for goal \"x\"", Rule::Burns);
        assert_eq!(levels(&burns), [(1.0, "trigger".to_string(), "broken")]);
        assert_eq!(unit(&burns), (Unit::Times, Worse::Above));
    }
}
