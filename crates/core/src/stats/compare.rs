//! Two stretches side by side: how far a percentile moved, whether one is slower than the other as
//! a whole, how far a share moved. Each answer carries its 95 % interval.

use super::percentile::interval_ranks;
use super::proof::{Proof, counted, plain};
use super::share::{Z95, share, wilson};
use super::{Interval, Reading, Samples};
use serde::Serialize;
use statrs::function::erf::{erfc, erfc_inv};

/// How far something moved from `before` to `after`, in its own unit.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Shift {
    /// The value before.
    pub before: f64,
    /// The value after.
    pub after: f64,
    /// Of `after` − `before`; `None` where one side has too few samples.
    pub interval: Option<Interval>,
}

/// A change of less than this is not pointed at, however sure it is: with enough samples any difference is.
pub const NOTABLE: f64 = 0.05;

/// Of a share: a point.
pub const NOTABLE_POINT: f64 = 0.01;

impl Shift {
    /// How far it moved.
    pub fn by(&self) -> f64 {
        self.after - self.before
    }

    /// Relative to before: 0.15 is 15 % more.
    pub fn relative(&self) -> Option<f64> {
        (self.before != 0.0).then(|| self.by() / self.before)
    }

    /// Whether it is surely a change, and one that somebody would notice.
    pub fn is_notable(&self) -> bool {
        self.is_sure() && self.relative().is_some_and(|r| r.abs() > NOTABLE)
    }

    /// The same of a share: by a point at least.
    pub fn is_notable_share(&self) -> bool {
        self.is_sure() && self.by().abs() >= NOTABLE_POINT
    }

    /// Whether the interval leaves out "no change".
    pub fn is_sure(&self) -> bool {
        self.interval.is_some_and(|i| i.low > 0.0 || i.high < 0.0)
    }

    /// More than before, and surely.
    pub fn is_rise(&self) -> bool {
        self.is_sure() && self.by() > 0.0
    }

    /// How the difference was come by; `what` names it ("p75", "share of errors"), `samples` are
    /// those before and after.
    pub fn proof(&self, what: &str, samples: (u64, u64), method: &str) -> Proof {
        let worked =
            format!("{} − {} = {}", plain(self.after), plain(self.before), plain(self.by()));
        let proof = Proof::new(
            format!("difference = {what} after − {what} before"),
            worked,
            samples.0 + samples.1,
        )
        .by(format!(
            "{} before and {} after; {method}",
            counted(samples.0),
            counted(samples.1)
        ));
        match self.interval {
            None => proof
                .noting("too few samples for a 95 % interval: nothing can be said about chance"),
            Some(i) => {
                let verdict = if self.is_sure() {
                    "no change lies outside it"
                } else {
                    "no change lies inside it"
                };
                proof.noting(format!(
                    "95 % interval {} to {}: {verdict}",
                    plain(i.low),
                    plain(i.high)
                ))
            }
        }
    }
}

/// How far the nearest-rank percentile `p` moved; `None` without samples on either side.
///
/// The standard error of each percentile is read off its own order-statistic interval, and both
/// are added as variances. Source of the method, there for medians: Price and Bonett,
/// "Distribution-free confidence intervals for difference and ratio of medians", Journal of
/// Statistical Computation and Simulation 72 (2002), from memory; its coverage is tested.
pub fn percentile_shift(before: &Samples, after: &Samples, p: f64) -> Option<Shift> {
    reading_shift(&before.reading(p), &after.reading(p), p)
}

/// The same of percentiles that were read already, off samples or sketches, with their intervals.
pub fn reading_shift(before: &Reading, after: &Reading, p: f64) -> Option<Shift> {
    let (a, b) = (before.value?, after.value?);
    let interval = match (standard_error(before, p), standard_error(after, p)) {
        (Some(x), Some(y)) => {
            let reach = Z95 * x.hypot(y);
            Some(Interval { low: b - a - reach, high: b - a + reach })
        }
        _ => None,
    };
    Some(Shift { before: a, after: b, interval })
}

/// Half the width of the order-statistic interval over the normal deviate of its true coverage.
fn standard_error(reading: &Reading, p: f64) -> Option<f64> {
    let n = reading.samples;
    let (low, high) = interval_ranks(n, p)?;
    let width = reading.interval.map(|i| i.high - i.low)?;
    // P(low ≤ X < high) of the binomial is at least 95 %; by its normal approximation:
    let (mean, deviation) = (n as f64 * p, (n as f64 * p * (1.0 - p)).sqrt());
    let coverage = normal_below((high as f64 - 0.5 - mean) / deviation)
        - normal_below((low as f64 - 0.5 - mean) / deviation);
    let deviate = 2f64.sqrt() * erfc_inv((1.0 - coverage).clamp(1e-12, 1.0));
    (deviate > 0.0).then(|| width / (2.0 * deviate))
}

/// Share of a normal distribution below `z` standard deviations.
pub(crate) fn normal_below(z: f64) -> f64 {
    0.5 * erfc(-z / 2f64.sqrt())
}

/// How far a share moved; `None` without samples on either side.
///
/// Source: Newcombe, "Interval estimation for the difference between independent proportions",
/// Statistics in Medicine 17 (1998), method 10, from the Wilson limits of both; checked against
/// statsmodels.
pub fn share_shift(before: (u64, u64), after: (u64, u64)) -> Option<Shift> {
    let (a, b) = (share(before.0, before.1)?, share(after.0, after.1)?);
    let of = |(part, whole): (u64, u64)| wilson(part as f64, whole as f64);
    let (x, y) = (of(before)?, of(after)?);
    let by = b - a;
    let interval = Interval {
        low: by - (b - y.low).hypot(x.high - a),
        high: by + (y.high - b).hypot(a - x.low),
    };
    Some(Shift { before: a, after: b, interval: Some(interval) })
}

/// The rank test of two sets of samples.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct RankTest {
    /// Pairs in which `after` is the larger, ties counted half.
    pub u: f64,
    /// The same as a share of all pairs: how likely a sample of `after` is above one of `before`;
    /// one half when nothing changed.
    pub above: f64,
    /// Two-sided: how likely at least this imbalance is when nothing changed.
    pub p: f64,
    /// Whether `p` was counted out or is the normal approximation (with tie and continuity
    /// correction).
    pub exact: bool,
    /// Samples before and after.
    pub samples: (u64, u64),
}

impl RankTest {
    /// How the test was come by.
    pub fn proof(&self) -> Proof {
        let (n, m) = self.samples;
        Proof::new(
            "U = pairs in which the sample after is larger than the one before, ties counted half",
            format!(
                "U = {} of {} pairs = {:.1} %; p = {:.2e}",
                self.u,
                n * m,
                self.above * 100.0,
                self.p
            ),
            n + m,
        )
        .by(if self.exact {
            "Mann–Whitney, counted out"
        } else {
            "Mann–Whitney, normal approximation with tie and continuity correction"
        })
    }
}

/// The test of Mann and Whitney, "On a test of whether one of two random variables is
/// stochastically larger than the other", Annals of Mathematical Statistics 18 (1947); checked
/// against scipy. `None` without samples on either side.
///
/// Counted out when one side has at most eight samples and nothing is tied.
pub fn mann_whitney(before: &Samples, after: &Samples) -> Option<RankTest> {
    let (x, y) = (before.ordered(), after.ordered());
    if x.is_empty() || y.is_empty() {
        return None;
    }
    let (n, m) = (x.len() as f64, y.len() as f64);
    let (mut i, mut j, mut u, mut ties) = (0, 0, 0.0, 0.0);
    while i < x.len() || j < y.len() {
        let at = match (x.get(i), y.get(j)) {
            (Some(a), Some(b)) => a.min(*b),
            (Some(a), None) => *a,
            (None, b) => *b.unwrap_or(&0.0),
        };
        let run =
            |values: &[f64], from: usize| values[from..].iter().take_while(|v| **v <= at).count();
        let (a, b) = (run(x, i), run(y, j));
        u += b as f64 * (i as f64 + a as f64 / 2.0);
        let tied = (a + b) as f64;
        ties += tied * (tied * tied - 1.0);
        i += a;
        j += b;
    }
    let pairs = n * m;
    let least = u.min(pairs - u);
    let exact = ties == 0.0 && x.len().min(y.len()) <= 8 && pairs <= 1e6;
    let p = if exact {
        (2.0 * counted_out(x.len().min(y.len()), x.len().max(y.len()), least as usize)).min(1.0)
    } else {
        let all = n + m;
        let deviation = (pairs / 12.0 * (all + 1.0 - ties / (all * (all - 1.0)))).sqrt();
        let z = (pairs / 2.0 - least - 0.5) / deviation;
        if deviation > 0.0 { (2.0 * normal_below(-z)).min(1.0) } else { 1.0 }
    };
    Some(RankTest { u, above: u / pairs, p, exact, samples: (x.len() as u64, y.len() as u64) })
}

/// P(U ≤ u) of samples sized `n` ≤ `m` without ties: the coefficients of the Gaussian binomial.
fn counted_out(n: usize, m: usize, u: usize) -> f64 {
    let mut ways = vec![0.0f64; u + 1];
    ways[0] = 1.0;
    for i in 1..=n {
        for k in (m + i..=u).rev() {
            ways[k] -= ways[k - m - i];
        }
        for k in i..=u {
            ways[k] += ways[k - i];
        }
    }
    let all: f64 = (1..=n).map(|i| (m + i) as f64 / i as f64).product();
    ways.iter().sum::<f64>() / all
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_shift_says_whether_nothing_may_have_happened() {
        let before = Samples::new((0..400).map(|i| 1_000.0 + f64::from(i)));
        let after = Samples::new((0..400).map(|i| 1_180.0 + f64::from(i)));
        let shift = percentile_shift(&before, &after, 0.75).unwrap();
        assert_eq!(shift.by(), 180.0);
        assert!(shift.is_rise());
        assert!(!percentile_shift(&before, &before, 0.75).unwrap().is_sure());
        assert!(percentile_shift(&before, &Samples::default(), 0.75).is_none());
        assert_eq!(percentile_shift(&before, &Samples::new([9.0]), 0.75).unwrap().interval, None);
        let lines = shift.proof("p75", (400, 400), "order statistics").lines();
        assert_eq!(lines[1], "1479 − 1299 = 180.0.");
        assert_eq!(lines[2], "Samples: 800; 400 before and 400 after; order statistics.");
        assert!(lines[3].ends_with("no change lies outside it."), "{lines:?}");
        let test = mann_whitney(&Samples::new([1.0, 2.0]), &Samples::new([2.0, 3.0, 4.0])).unwrap();
        assert_eq!(test.proof().worked, "U = 5.5 of 6 pairs = 91.7 %; p = 2.36e-1");
    }

    proptest! {
        #[test]
        fn the_rank_test_turns_round_with_its_sides(x in prop::collection::vec(0u8..40, 1..60), y in prop::collection::vec(0u8..40, 1..60)) {
            let of = |v: &[u8]| Samples::new(v.iter().map(|v| f64::from(*v)));
            let (there, back) = (mann_whitney(&of(&x), &of(&y)).unwrap(), mann_whitney(&of(&y), &of(&x)).unwrap());
            let by_pairs: f64 = x.iter().flat_map(|a| y.iter().map(move |b| if b > a { 1.0 } else if a == b { 0.5 } else { 0.0 })).sum();
            prop_assert_eq!(there.u, by_pairs);
            prop_assert!((there.above + back.above - 1.0).abs() < 1e-12);
            prop_assert!((there.p - back.p).abs() < 1e-12);
        }
    }

    #[test]
    fn no_change_at_all_is_no_rise_however_sure_it_is() {
        let shift = |before: f64, after: f64, low: f64, high: f64| Shift {
            before,
            after,
            interval: Some(Interval { low, high }),
        };
        assert!(!shift(1.0, 1.0, 0.1, 0.2).is_rise());
        assert!(shift(1.0, 1.2, 0.1, 0.3).is_rise());
        assert!(!shift(1.0, 1.2, 0.0, 0.3).is_rise() && !shift(1.0, 0.8, -0.3, -0.1).is_rise());
    }

    #[test]
    fn a_share_of_many_moves_by_what_it_moved_and_its_interval_lies_around_that() {
        // R: prop.test(c(30, 60), c(1000, 1000)) differs only by its continuity correction; the score interval of a
        // difference (Newcombe 1998, method 10) is within a thousandth of it.
        let shift = share_shift((30, 1_000), (60, 1_000)).unwrap();
        assert!((shift.by() - 0.03).abs() < 1e-12 && shift.is_rise());
        let interval = shift.interval.unwrap();
        assert!(
            interval.low > 0.0115
                && interval.low < 0.0135
                && interval.high > 0.0465
                && interval.high < 0.0500
        );
        // The other way round it is the same with the other sign.
        let back = share_shift((60, 1_000), (30, 1_000)).unwrap();
        let turned = back.interval.unwrap();
        assert!(
            (turned.low + interval.high).abs() < 1e-12
                && (turned.high + interval.low).abs() < 1e-12
        );
        assert!(share_shift((0, 0), (1, 2)).is_none());
    }
}
