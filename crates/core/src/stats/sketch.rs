//! A mergeable summary of many samples, from which any percentile can be read.
//!
//! Bucket `i` holds the samples in `(γ^(i-1), γ^i]` with `γ = (1+a)/(1-a)`, `a` = 0.8 %: answering
//! with the bucket's middle is never off by more than `a` of the true value. Merging adds counts,
//! so it is associative and commutative and a merged sketch equals the sketch of all samples.
//! The scheme of logarithmic buckets is published as Masson, Rim and Lee, "DDSketch", VLDB 2019.
//!
//! Samples below [`FLOOR`] are kept as "nothing" (0); the unit is the caller's. Milliseconds reach
//! from 0.0001 ms to far over an hour, and unitless layout shift fits too.

use super::{Interval, Reading, percentile};
use std::collections::BTreeMap;

const ERROR: f64 = 0.008;
/// Smaller samples are held as zero.
pub const FLOOR: f64 = 0.0001;
const VERSION: u8 = 1;

#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Sketch {
    zeros: u64,
    buckets: BTreeMap<i32, u64>,
}

/// Why bytes are no sketch.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
pub enum SketchError {
    #[error("sketch version {0}: this program reads version {VERSION}")]
    Version(u8),
    #[error("sketch ends in the middle of a number, or a number in it is out of range")]
    Broken,
}

fn log_gamma() -> f64 {
    ((1.0 + ERROR) / (1.0 - ERROR)).ln()
}

impl Sketch {
    /// Counts one sample. Negative and non-finite values are a caller's mistake and are ignored.
    pub fn add(&mut self, value: f64) {
        if !value.is_finite() || value < 0.0 {
            return;
        }
        if value < FLOOR {
            self.zeros += 1;
        } else {
            let bucket = (value.ln() / log_gamma()).ceil() as i32;
            *self.buckets.entry(bucket).or_default() += 1;
        }
    }

    pub fn of(values: impl IntoIterator<Item = f64>) -> Sketch {
        let mut sketch = Sketch::default();
        values.into_iter().for_each(|v| sketch.add(v));
        sketch
    }

    pub fn merge(&mut self, other: &Sketch) {
        self.zeros += other.zeros;
        for (bucket, n) in &other.buckets {
            *self.buckets.entry(*bucket).or_default() += n;
        }
    }

    pub fn count(&self) -> u64 {
        self.zeros + self.buckets.values().sum::<u64>()
    }

    /// The value at `rank` (from 1), within 1 % of the sample that stands there.
    fn at_rank(&self, rank: u64) -> f64 {
        let mut seen = self.zeros;
        if rank <= seen {
            return 0.0;
        }
        for (bucket, n) in &self.buckets {
            seen += n;
            if rank <= seen {
                return middle(*bucket);
            }
        }
        self.buckets.keys().next_back().map_or(0.0, |b| middle(*b))
    }

    /// The nearest-rank percentile at `p` (0 to 1), or `None` without samples.
    pub fn percentile(&self, p: f64) -> Option<f64> {
        let n = self.count();
        (n > 0).then(|| self.at_rank(percentile::rank(n, p)))
    }

    /// The percentile with its sample count and 95 % interval.
    pub fn reading(&self, p: f64) -> Reading {
        let n = self.count();
        Reading {
            value: self.percentile(p),
            samples: n,
            interval: percentile::interval_ranks(n, p)
                .map(|(low, high)| Interval { low: self.at_rank(low), high: self.at_rank(high) }),
        }
    }

    /// How many samples are at or below `limit`; those in the limit's own bucket count as below.
    pub fn within(&self, limit: f64) -> u64 {
        let last = (limit.max(FLOOR).ln() / log_gamma()).ceil() as i32;
        self.zeros + self.buckets.range(..=last).map(|(_, n)| n).sum::<u64>()
    }

    /// Each filled bucket as (lower bound, upper bound, count), ascending; zeros first as (0, 0, n).
    pub fn spread(&self) -> impl Iterator<Item = (f64, f64, u64)> + '_ {
        let zeros = (self.zeros > 0).then_some((0.0, 0.0, self.zeros));
        zeros.into_iter().chain(
            self.buckets
                .iter()
                .map(|(b, n)| ((f64::from(b - 1) * log_gamma()).exp(), (f64::from(*b) * log_gamma()).exp(), *n)),
        )
    }

    /// Compact bytes: version, then variable-length numbers (zeros, then bucket steps and counts).
    pub fn to_bytes(&self) -> Vec<u8> {
        let mut out = vec![VERSION];
        put(&mut out, self.zeros);
        let mut last = 0i64;
        for (bucket, n) in &self.buckets {
            let step = i64::from(*bucket) - last;
            put(&mut out, ((step << 1) ^ (step >> 63)) as u64);
            put(&mut out, *n);
            last = i64::from(*bucket);
        }
        out
    }

    pub fn from_bytes(bytes: &[u8]) -> Result<Sketch, SketchError> {
        let (version, mut rest) = bytes.split_first().ok_or(SketchError::Broken)?;
        if *version != VERSION {
            return Err(SketchError::Version(*version));
        }
        let mut sketch = Sketch { zeros: take(&mut rest)?, buckets: BTreeMap::new() };
        let mut last = 0i64;
        while !rest.is_empty() {
            let folded = take(&mut rest)?;
            let step = (folded >> 1) as i64 ^ -((folded & 1) as i64);
            last = last.checked_add(step).ok_or(SketchError::Broken)?;
            let bucket = i32::try_from(last).map_err(|_| SketchError::Broken)?;
            let n = take(&mut rest)?;
            let held = sketch.buckets.entry(bucket).or_default();
            *held = held.checked_add(n).ok_or(SketchError::Broken)?;
        }
        Ok(sketch)
    }
}

fn middle(bucket: i32) -> f64 {
    // The point with the same relative distance to both ends of the bucket.
    (f64::from(bucket) * log_gamma()).exp() * (1.0 - ERROR)
}

fn put(out: &mut Vec<u8>, mut n: u64) {
    while n >= 0x80 {
        out.push((n as u8) | 0x80);
        n >>= 7;
    }
    out.push(n as u8);
}

fn take(rest: &mut &[u8]) -> Result<u64, SketchError> {
    let mut n = 0u64;
    for (i, byte) in rest.iter().enumerate().take(10) {
        n |= u64::from(byte & 0x7f).checked_shl(7 * i as u32).ok_or(SketchError::Broken)?;
        if byte & 0x80 == 0 {
            *rest = &rest[i + 1..];
            return Ok(n);
        }
    }
    Err(SketchError::Broken)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::stats::{Method, Samples};
    use proptest::prelude::*;

    fn samples() -> impl Strategy<Value = Vec<f64>> {
        // 0.1 ms to one hour, spread over the orders of magnitude.
        prop::collection::vec((-1.0..6.556_f64).prop_map(|e| 10f64.powf(e)), 1..300)
    }

    proptest! {
        #[test]
        fn any_percentile_is_within_one_percent(values in samples(), p in 0.0..1.0f64) {
            let exact = Samples::new(values.clone()).percentile(p, Method::NearestRank).unwrap();
            let about = Sketch::of(values).percentile(p).unwrap();
            prop_assert!((about - exact).abs() <= 0.01 * exact, "{about} for {exact}");
        }

        #[test]
        fn a_merged_sketch_is_the_sketch_of_all_in_any_order(a in samples(), b in samples(), c in samples()) {
            let all = Sketch::of(a.iter().chain(&b).chain(&c).copied());
            let (a, b, c) = (Sketch::of(a), Sketch::of(b), Sketch::of(c));
            let mut left = a.clone();
            left.merge(&b);
            left.merge(&c);
            let mut right = c;
            right.merge(&b);
            right.merge(&a);
            prop_assert_eq!(&left, &all);
            prop_assert_eq!(&right, &all);
        }

        #[test]
        fn bytes_bring_the_sketch_back(values in samples()) {
            let sketch = Sketch::of(values.into_iter().chain([0.0]));
            prop_assert_eq!(Sketch::from_bytes(&sketch.to_bytes()), Ok(sketch));
        }

        #[test]
        fn foreign_bytes_are_an_error_or_a_sketch_but_never_a_panic(bytes in prop::collection::vec(any::<u8>(), 0..60)) {
            let _ = Sketch::from_bytes(&bytes);
        }
    }
}
