//! Exact percentiles of a set of samples, by a named method, with distribution-free intervals.
//!
//! Readings use [`Method::NearestRank`]: its answer is always a value that was really measured,
//! "95 % of the samples are within L" and "p95 ≤ L" are the same statement, and the sketch answers
//! by the same rank, so exact and merged readings agree.

use super::Reading;
use super::proof::Proof;
use super::select::at_ranks;
use serde::Serialize;

/// How a percentile is read off the ordered samples.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
pub enum Method {
    /// The smallest sample with at least the share `p` of all samples at or below it.
    NearestRank,
    /// One of the nine sample quantile definitions of Hyndman and Fan, "Sample Quantiles in
    /// Statistical Packages", The American Statistician 50 (1996), numbered as there.
    HyndmanFan(u8),
}

/// A 95 % confidence interval, both ends being measured values.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Interval {
    /// Its lower end.
    pub low: f64,
    /// Its upper end.
    pub high: f64,
}

/// Ordered samples. Values that are not finite are left out and counted.
#[derive(Debug, Clone, Default)]
pub struct Samples {
    ordered: Vec<f64>,
    left_out: u64,
}

/// From so many values on, putting them in order digit by digit is quicker than comparing them.
const WORTH_COUNTING: usize = 1_024;
/// Bits of a digit.
const DIGIT: u32 = 11;

/// The values in the order of `f64::total_cmp`, by their bits, the lowest digits first (LSD radix sort; Knuth, "The Art
/// of Computer Programming", volume 3, section 5.2.5). Weeks of runs are sorted a dozen times for one page.
fn in_order(values: &[f64]) -> Vec<f64> {
    const SIGN: u64 = 1 << 63;
    // Bits that order as the values do: negative ones turned around, below the positive ones.
    let mut keys: Vec<u64> = values
        .iter()
        .map(|v| v.to_bits())
        .map(|b| if b & SIGN == 0 { b | SIGN } else { !b })
        .collect();
    let mut next = vec![0; keys.len()];
    for shift in (0..64).step_by(DIGIT as usize) {
        let digit = |key: u64| (key >> shift) as usize & ((1 << DIGIT) - 1);
        let mut counts = [0usize; 1 << DIGIT];
        keys.iter().for_each(|k| counts[digit(*k)] += 1);
        // All the same here: nothing moves.
        if counts[digit(keys[0])] == keys.len() {
            continue;
        }
        let mut place = 0;
        for count in &mut counts {
            place += std::mem::replace(count, place);
        }
        for key in &keys {
            let place = &mut counts[digit(*key)];
            next[*place] = *key;
            *place += 1;
        }
        std::mem::swap(&mut keys, &mut next);
    }
    keys.into_iter().map(|k| f64::from_bits(if k & SIGN == 0 { !k } else { k & !SIGN })).collect()
}

impl Samples {
    /// Puts them in order; what is no finite number is counted and left out.
    pub fn new(values: impl IntoIterator<Item = f64>) -> Samples {
        let mut left_out = 0;
        let mut ordered: Vec<f64> = values
            .into_iter()
            .filter(|v| {
                let keep = v.is_finite();
                left_out += u64::from(!keep);
                keep
            })
            .collect();
        if ordered.len() < WORTH_COUNTING {
            ordered.sort_unstable_by(f64::total_cmp);
        } else {
            ordered = in_order(&ordered);
        }
        Samples { ordered, left_out }
    }

    /// How many there are.
    pub fn len(&self) -> usize {
        self.ordered.len()
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.ordered.is_empty()
    }

    /// How many values were no numbers.
    pub fn left_out(&self) -> u64 {
        self.left_out
    }

    /// From the least to the greatest.
    pub fn ordered(&self) -> &[f64] {
        &self.ordered
    }

    /// How many samples are at or below `limit`.
    pub fn within(&self, limit: f64) -> usize {
        self.ordered.partition_point(|v| *v <= limit)
    }

    /// The percentile at `p` (0 to 1), or `None` without samples.
    ///
    /// ```
    /// use cadentis_core::stats::{Method, Samples};
    /// let s = Samples::new([15.0, 20.0, 35.0, 40.0, 50.0]);
    /// assert_eq!(s.percentile(0.40, Method::NearestRank), Some(20.0));
    /// assert_eq!(s.percentile(0.40, Method::HyndmanFan(7)), Some(29.0));
    /// ```
    ///
    /// # Panics
    /// If the method is a Hyndman–Fan type outside 1 to 9: a mistake in the program, not in data.
    pub fn percentile(&self, p: f64, method: Method) -> Option<f64> {
        let n = self.ordered.len();
        if n == 0 {
            return None;
        }
        let p = p.clamp(0.0, 1.0);
        let nth = |k: f64| self.ordered[(k.max(1.0) as usize).min(n) - 1];
        let size = n as f64;
        Some(match method {
            Method::NearestRank => nth(rank(n as u64, p) as f64),
            Method::HyndmanFan(kind @ 1..=3) => {
                let position = if kind == 3 { size * p - 0.5 } else { size * p };
                let below = tidy_floor(position);
                let exact = (position - below).abs() < NEAR * size;
                match kind {
                    1 if exact => nth(below),
                    2 if exact => (nth(below) + nth(below + 1.0)) / 2.0,
                    3 if exact && below % 2.0 == 0.0 => nth(below),
                    _ => nth(below + 1.0),
                }
            }
            Method::HyndmanFan(kind) => {
                let (a, b) = match kind {
                    4 => (0.0, 1.0),
                    5 => (0.5, 0.5),
                    6 => (0.0, 0.0),
                    7 => (1.0, 1.0),
                    8 => (1.0 / 3.0, 1.0 / 3.0),
                    9 => (3.0 / 8.0, 3.0 / 8.0),
                    _ => panic!("Hyndman and Fan number their types 1 to 9, not {kind}"),
                };
                let position = a + p * (size + 1.0 - a - b);
                let below = tidy_floor(position);
                let part = (position - below).max(0.0);
                let (low, high) = (nth(below), nth(below + 1.0));
                low + part * (high - low)
            }
        })
    }

    /// The nearest-rank percentile with its sample count and 95 % interval.
    pub fn reading(&self, p: f64) -> Reading {
        let n = self.ordered.len() as u64;
        Reading {
            value: self.percentile(p, Method::NearestRank),
            samples: n,
            interval: interval_ranks(n, p).map(|(low, high)| Interval {
                low: self.ordered[low as usize - 1],
                high: self.ordered[high as usize - 1],
            }),
        }
    }

    /// How the reading at `p` was come by.
    pub fn proof(&self, p: f64) -> Proof {
        let n = self.ordered.len() as u64;
        Proof::percentile(p, &self.reading(p), "nearest rank over all samples, exact", rank(n, p))
            .leaving_out(self.left_out, "not a finite number")
    }
}

/// Products such as 0.07 × 100 land a hair beside the whole number that was meant.
const NEAR: f64 = 1e-12;

fn tidy_floor(x: f64) -> f64 {
    let nearest = x.round();
    if (x - nearest).abs() < NEAR * nearest.abs().max(1.0) { nearest } else { x.floor() }
}

/// The nearest rank (from 1) of the share `p` among `n` samples; 0 when there are none.
pub fn rank(n: u64, p: f64) -> u64 {
    let exact = p * n as f64;
    let nearest = exact.round();
    let up = if (exact - nearest).abs() < NEAR * nearest.max(1.0) { nearest } else { exact.ceil() };
    (up as u64).clamp(1, n.max(1)).min(n)
}

/// Ranks (from 1) of the two order statistics that enclose the percentile `p` of the underlying
/// distribution with at least 95 % confidence, 2.5 % at most on either side; `None` when `n`
/// samples cannot give that.
///
/// The number of samples below the true percentile is binomial(n, p), whatever the distribution.
/// Low is the largest rank k with P(X < k) ≤ 2.5 %, high the smallest with P(X < k) ≥ 97.5 %.
/// Source: Conover, Practical Nonparametric Statistics, 3.2 (from memory); the binomial is checked
/// against scipy.
pub fn interval_ranks(n: u64, p: f64) -> Option<(u64, u64)> {
    if n == 0 || p <= 0.0 || p >= 1.0 {
        return None;
    }
    let (first, weights) = binomial(n, p);
    let (mut low, mut high, mut sum) = (first, None, 0.0);
    for (k, weight) in (first..).zip(weights) {
        // `sum` is P(X < k).
        if sum <= 0.025 {
            low = k;
        }
        if sum >= 0.975 {
            high = Some(k);
            break;
        }
        sum += weight;
    }
    let high = high.unwrap_or(n + 1);
    (low >= 1 && high <= n).then_some((low, high))
}

/// The binomial distribution of `n` draws at `p`, 0 to 1: the first number that can matter, and the
/// probabilities from there on.
///
/// Counted from the mode outwards until nothing more can matter, some twenty standard deviations:
/// no logarithm that loses digits when `n` is large.
pub(super) fn binomial(n: u64, p: f64) -> (u64, Vec<f64>) {
    const NOTHING: f64 = 1e-22;
    let odds = p / (1.0 - p);
    let mode = ((n + 1) as f64 * p).floor().min(n as f64) as u64;
    let mut weights = Vec::new();
    let (mut k, mut weight) = (mode, 1.0);
    while k > 0 && weight > NOTHING {
        weight *= k as f64 / ((n - k + 1) as f64 * odds);
        k -= 1;
        weights.push(weight);
    }
    let first = k;
    weights.reverse();
    weights.push(1.0);
    let (mut k, mut weight) = (mode, 1.0);
    while k < n && weight > NOTHING {
        weight *= (n - k) as f64 * odds / (k + 1) as f64;
        k += 1;
        weights.push(weight);
    }
    let total: f64 = weights.iter().sum();
    weights.iter_mut().for_each(|w| *w /= total);
    (first, weights)
}

/// Readings of several percentiles of unsorted samples, found together without sorting; and how
/// many samples were no finite numbers and so are in none of them.
///
/// ```
/// use cadentis_core::stats::readings;
/// let (read, left_out) = readings(&[50.0, 15.0, f64::NAN, 40.0, 20.0, 35.0], &[0.5, 0.95]);
/// assert_eq!((read[0].value, read[1].value, left_out), (Some(35.0), Some(50.0), 1));
/// ```
pub fn readings(samples: &[f64], ps: &[f64]) -> (Vec<Reading>, u64) {
    let ranked = at_ranks(samples, |n| {
        ps.iter()
            .flat_map(|p| {
                let (low, high) = interval_ranks(n, *p).unwrap_or((1, 1));
                [rank(n, *p), low, high]
            })
            .collect()
    });
    let read = |(p, found): (&f64, &[f64])| Reading {
        value: Some(found[0]),
        samples: ranked.counted,
        interval: interval_ranks(ranked.counted, *p)
            .map(|_| Interval { low: found[1], high: found[2] }),
    };
    let read = if ranked.values.is_empty() {
        vec![Reading::NONE; ps.len()]
    } else {
        ps.iter().zip(ranked.values.chunks_exact(3)).map(read).collect()
    };
    (read, ranked.left_out)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn nist_handbook_7_2_6_2_ninetieth_percentile() {
        // NIST/SEMATECH e-Handbook of Statistical Methods, 7.2.6.2: (N+1)p, which is type 6.
        let s = Samples::new([
            95.1772, 95.1567, 95.1937, 95.1959, 95.1442, 95.0610, 95.1591, 95.1195, 95.1065,
            95.0925, 95.1990, 95.1682,
        ]);
        let p90 = s.percentile(0.9, Method::HyndmanFan(6)).unwrap();
        assert!((p90 - 95.19807).abs() < 1e-5, "{p90}");
    }

    #[test]
    fn textbook_nearest_rank() {
        let s = Samples::new([50.0, 15.0, 40.0, 20.0, 35.0]);
        for (p, want) in [(0.05, 15.0), (0.3, 20.0), (0.4, 20.0), (0.5, 35.0), (1.0, 50.0)] {
            assert_eq!(s.percentile(p, Method::NearestRank), Some(want), "P{p}");
        }
    }

    #[test]
    fn order_statistic_interval_of_the_median_of_ten() {
        // Conover's table for n = 10 and the median: ranks 2 and 9 cover 97.9 % (from memory).
        assert_eq!(interval_ranks(10, 0.5), Some((2, 9)));
        // Nine samples cannot bound a 95th percentile from above.
        assert_eq!(interval_ranks(9, 0.95), None);
    }

    proptest! {
        #[test]
        fn digit_by_digit_gives_the_order_that_comparing_gives(values in prop::collection::vec(prop::num::f64::ANY, 1..80), times in 1usize..40) {
            let values: Vec<f64> = values.repeat(times);
            let mut sorted = values.clone();
            sorted.sort_by(f64::total_cmp);
            let bits = |v: &[f64]| v.iter().map(|v| v.to_bits()).collect::<Vec<_>>();
            prop_assert_eq!(bits(&in_order(&values)), bits(&sorted));
        }

        #[test]
        fn readings_without_sorting_are_those_of_sorted_samples(
            values in prop::collection::vec(0.0..1e6f64, 0..400), times in 1usize..30, ps in prop::collection::vec(0.01..0.99f64, 1..6),
        ) {
            let values = values.repeat(times);
            let sorted = Samples::new(values.iter().copied());
            let want: Vec<Reading> = ps.iter().map(|p| sorted.reading(*p)).collect();
            prop_assert_eq!(readings(&values, &ps), (want, 0));
        }

        #[test]
        fn percentiles_never_fall_as_p_rises(
            mut values in prop::collection::vec(0.0..1e6f64, 1..200), a in 0.0..1.0f64, b in 0.0..1.0f64, kind in 0u8..=9,
        ) {
            let method = if kind == 0 { Method::NearestRank } else { Method::HyndmanFan(kind) };
            let s = Samples::new(values.drain(..));
            let (low, high) = (a.min(b), a.max(b));
            prop_assert!(s.percentile(low, method).unwrap() <= s.percentile(high, method).unwrap() + 1e-9);
        }

        #[test]
        fn a_share_within_a_limit_and_the_nearest_rank_percentile_say_the_same(
            values in prop::collection::vec(0u32..50, 1..120), limit in 0u32..50, percent in 1u32..=100,
        ) {
            let s = Samples::new(values.iter().map(|v| f64::from(*v)));
            let enough = s.within(f64::from(limit)) as u64 * 100 >= u64::from(percent) * s.len() as u64;
            let p = s.percentile(f64::from(percent) / 100.0, Method::NearestRank).unwrap();
            prop_assert_eq!(enough, p <= f64::from(limit));
        }
    }
}
