//! A limit on a reading, and where the reading stands to it.

use crate::measure::Worse;
use crate::stats::proof::plain;
use crate::stats::{Proof, Reading, Samples};
use crate::timing::{Rating, Vital};
use jiff::Timestamp;
use serde::Serialize;

/// How something stands; each has a tone and a shape of its own on every page.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Standing {
    /// Inside its budget.
    Within,
    /// Over its budget.
    Strained,
    /// Failing, or rated poor.
    Broken,
    /// Nothing to judge.
    NoData,
}

/// An error budget of which less than this is left is running out: at the pace that spent the rest, a third of the time is
/// left to do something.
pub const RUNNING_OUT: f64 = 0.25;

impl Standing {
    /// How what is left of an error budget stands, as a share of it.
    pub fn of_error_budget(left: Option<f64>) -> Standing {
        match left {
            None => Standing::NoData,
            Some(left) if left <= 0.0 => Standing::Broken,
            Some(left) if left < RUNNING_OUT => Standing::Strained,
            Some(_) => Standing::Within,
        }
    }

    /// In one word.
    pub fn word(self) -> &'static str {
        match self {
            Standing::Within => "within",
            Standing::Strained => "strained",
            Standing::Broken => "broken",
            Standing::NoData => "nodata",
        }
    }

    /// Where a reading stands to an upper limit in the same unit. The limit itself is within.
    pub fn of(reading: &Reading, limit: f64) -> Standing {
        match reading.value {
            None => Standing::NoData,
            Some(v) if v <= limit => Standing::Within,
            Some(_) => Standing::Strained,
        }
    }

    /// Where a vital's reading at the 75th percentile stands to its published thresholds.
    pub fn of_vital(vital: Vital, reading: &Reading) -> Standing {
        match reading.value.map(|v| vital.rate(v)) {
            None => Standing::NoData,
            Some(Rating::Good) => Standing::Within,
            Some(Rating::NeedsImprovement) => Standing::Strained,
            Some(Rating::Poor) => Standing::Broken,
        }
    }

    /// Where an availability stands to the promised share.
    pub fn of_share(share: Option<f64>, promised: f64) -> Standing {
        match share {
            None => Standing::NoData,
            Some(s) if s >= promised => Standing::Within,
            Some(_) => Standing::Broken,
        }
    }
}

/// What a budget limits.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
pub enum Metric {
    /// A vital of visitors.
    Vital(Vital),
    /// Of a step or a whole run, in milliseconds.
    Duration,
    /// Bytes received.
    Bytes,
    /// Requests made.
    Requests,
    /// Script errors.
    Errors,
}

/// What is read off the samples before it is held against the limit.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub enum Statistic {
    /// A share of the samples, 0 to 1: 0.75 is the 75th percentile.
    Percentile(f64),
    /// The largest sample.
    Most,
}

impl Statistic {
    /// The statistic of these samples.
    pub fn of(self, samples: &Samples) -> Reading {
        match self {
            Statistic::Percentile(p) => samples.reading(p),
            Statistic::Most => Reading {
                value: samples.ordered().last().copied(),
                samples: samples.len() as u64,
                interval: None,
            },
        }
    }

    /// As people say it.
    pub fn words(self) -> String {
        match self {
            Statistic::Percentile(p) => format!("p{}", (p * 1e6).round() / 1e4),
            Statistic::Most => "most".into(),
        }
    }
}

/// Where a budget holds.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub enum Scope {
    /// The whole site.
    Site,
    /// A page family.
    Family(String),
    /// A journey, by its name in addresses.
    Journey(String),
    /// One step of one journey.
    Step(String, String),
}

/// A limit: inside it is well, the limit itself included.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Budget {
    /// What is limited.
    pub metric: Metric,
    /// Which statistic of it.
    pub statistic: Statistic,
    /// In the metric's unit.
    pub limit: f64,
    /// Where it holds.
    pub scope: Scope,
}

/// Where a reading stands to its budget.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Judged {
    /// How the reading stands against the limit.
    pub state: Standing,
    /// How much of the limit is left, in the metric's unit; negative when it is over.
    pub margin: Option<f64>,
    /// The same as a share of the limit.
    pub margin_share: Option<f64>,
    /// Whether the whole interval of the reading lies on one side of the limit.
    pub sure: bool,
}

impl Budget {
    /// How a reading stands against the limit.
    pub fn judge(&self, reading: &Reading) -> Judged {
        super::limit::judge(reading, self.limit, Worse::Above)
    }

    /// The first moment of the series at which the budget was broken, and the first of the spell
    /// that lasts to the end of it, if one does. Moments without samples neither begin nor end one.
    pub fn broken(&self, series: &[(Timestamp, Reading)]) -> Broken {
        let over = series.iter().filter_map(|(at, r)| r.value.map(|v| (*at, v > self.limit)));
        let (mut first, mut since) = (None, None);
        for (at, over) in over {
            if over {
                first = first.or(Some(at));
                since = since.or(Some(at));
            } else {
                since = None;
            }
        }
        Broken { first, since }
    }

    /// How the standing was come by.
    pub fn proof(&self, reading: &Reading) -> Proof {
        let judged = self.judge(reading);
        let worked = match (reading.value, judged.margin) {
            (Some(v), Some(m)) => {
                format!("{} against {}: {} left", plain(v), plain(self.limit), plain(m))
            }
            _ => "no samples: no data".into(),
        };
        let proof = Proof::new(
            format!("margin = limit − {}; the limit itself is within", self.statistic.words()),
            worked,
            reading.samples,
        );
        match reading.interval {
            None => proof,
            Some(i) if judged.sure => proof.noting(format!(
                "sure: all of {} to {} is on that side",
                plain(i.low),
                plain(i.high)
            )),
            Some(i) => proof.noting(format!(
                "not sure: the limit lies within {} to {}",
                plain(i.low),
                plain(i.high)
            )),
        }
    }
}

/// Why something cannot be the limit of a vital.
#[derive(Debug, Clone, Copy, PartialEq, thiserror::Error)]
#[error("a limit of {} is above 0 and at most {}", .0.name(), .0.text(most(*.0)))]
pub struct NoLimit(pub Vital);

/// No limit is larger: whoever waits ten minutes, or sees ten screens jump, has left.
fn most(vital: Vital) -> f64 {
    match vital {
        Vital::Cls => 10.0,
        Vital::Inp => 60_000.0,
        Vital::Lcp | Vital::Fcp | Vital::Ttfb => 600_000.0,
    }
}

/// Whether this can be the limit of a vital, in its own unit.
///
/// # Errors
/// Says what would be right.
pub fn check_limit(vital: Vital, limit: f64) -> Result<(), NoLimit> {
    if limit > 0.0 && limit <= most(vital) { Ok(()) } else { Err(NoLimit(vital)) }
}

/// When a budget was broken.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
pub struct Broken {
    /// When it was over for the first time.
    pub first: Option<Timestamp>,
    /// Since when it is over now.
    pub since: Option<Timestamp>,
}

/// The budget that holds for a metric of a page family: the family's own before the site's.
pub fn holding<'a>(
    budgets: &'a [Budget],
    metric: Metric,
    family: Option<&str>,
) -> Option<&'a Budget> {
    let of = |wanted: &dyn Fn(&Scope) -> bool| {
        budgets.iter().find(|b| b.metric == metric && wanted(&b.scope))
    };
    family
        .and_then(|f| of(&|scope| matches!(scope, Scope::Family(own) if own == f)))
        .or_else(|| of(&|scope| *scope == Scope::Site))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::calendar::stretch::at_second;
    use crate::stats::share_text;
    use proptest::prelude::*;

    #[test]
    fn the_limit_itself_is_within_and_nothing_is_no_data() {
        let p75 = Samples::new([2000.0]).reading(0.75);
        assert_eq!(Standing::of(&p75, 2000.0), Standing::Within);
        assert_eq!(Standing::of(&p75, 1999.9), Standing::Strained);
        assert_eq!(Standing::of(&Reading::NONE, 1.0), Standing::NoData);
        let judged = lcp(1500.0, Scope::Site).judge(&p75);
        assert_eq!((judged.margin, judged.sure), (Some(-500.0), false));
    }

    fn lcp(limit: f64, scope: Scope) -> Budget {
        Budget {
            metric: Metric::Vital(Vital::Lcp),
            statistic: Statistic::Percentile(0.75),
            limit,
            scope,
        }
    }

    #[test]
    fn a_familys_own_budget_comes_before_the_sites() {
        let budgets = [lcp(2500.0, Scope::Site), lcp(1800.0, Scope::Family("Timetable".into()))];
        let limit = |metric, family| holding(&budgets, metric, family).map(|b| b.limit);
        assert_eq!(limit(Metric::Vital(Vital::Lcp), Some("Timetable")), Some(1800.0));
        assert_eq!(limit(Metric::Vital(Vital::Lcp), Some("Home")), Some(2500.0));
        assert_eq!(limit(Metric::Vital(Vital::Cls), Some("Home")), None);
    }

    #[test]
    fn the_first_broken_moment_and_the_spell_that_lasts_are_told_apart() {
        let series = |values: &[Option<f64>]| -> Vec<(Timestamp, Reading)> {
            let reading = |v: &Option<f64>| Reading {
                value: *v,
                samples: u64::from(v.is_some()),
                interval: None,
            };
            values.iter().enumerate().map(|(i, v)| (at_second(i as i64 * 60), reading(v))).collect()
        };
        let budget = lcp(10.0, Scope::Site);
        let broken = budget.broken(&series(&[
            Some(9.0),
            Some(11.0),
            Some(10.0),
            Some(12.0),
            None,
            Some(13.0),
        ]));
        assert_eq!(broken, Broken { first: Some(at_second(60)), since: Some(at_second(180)) });
        assert_eq!(budget.broken(&series(&[Some(11.0), Some(1.0), None])).since, None);
    }

    #[test]
    fn a_proof_says_whether_the_interval_is_on_one_side() {
        let many = Samples::new((0..400).map(f64::from));
        let sure = lcp(500.0, Scope::Site).proof(&many.reading(0.75)).lines();
        assert_eq!(sure[1], "299.0 against 500.0: 201.0 left.");
        assert!(sure[3].starts_with("sure: "), "{sure:?}");
        assert!(
            lcp(300.0, Scope::Site).proof(&many.reading(0.75)).lines()[3].starts_with("not sure: ")
        );
    }

    proptest! {
        #[test]
        fn within_and_a_margin_not_below_nought_are_one(values in prop::collection::vec(0.0..100.0f64, 0..80), limit in 0.0..100.0f64) {
            let samples = Samples::new(values);
            let judged = lcp(limit, Scope::Site).judge(&Statistic::Percentile(0.75).of(&samples));
            prop_assert_eq!(judged.state == Standing::Within, judged.margin.is_some_and(|m| m >= 0.0));
            prop_assert!(Statistic::Most.of(&samples).value >= Statistic::Percentile(0.75).of(&samples).value);
        }
    }

    #[test]
    fn rounding_never_turns_a_missed_goal_into_a_met_one() {
        // Common practice, no published source.
        assert_eq!(share_text(0.989_999_6, 2, Some(0.99)), "98.99");
        assert_eq!(share_text(0.99, 2, Some(0.99)), "99.00");
        assert_eq!(share_text(0.999_999, 2, None), "99.99");
        assert_eq!(share_text(1.0, 2, Some(1.0)), "100.00");
        assert_eq!(share_text(0.000_01, 1, None), "<0.1");
    }
}
