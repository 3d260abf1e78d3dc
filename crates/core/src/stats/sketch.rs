//! A mergeable summary of many samples, from which any percentile can be read.
//!
//! Bucket `i` holds the samples in `(γ^(i-1), γ^i]` with `γ = (1+a)/(1-a)`, `a` = 0.8 %: answering
//! with the bucket's middle is never off by more than `a` of the true value. Merging adds counts,
//! so it is associative and commutative and a merged sketch equals the sketch of all samples.
//! The scheme of logarithmic buckets is published as Masson, Rim and Lee, "DDSketch", VLDB 2019.
//!
//! Samples below [`FLOOR`] are kept as "nothing" (0); the unit is the caller's. Milliseconds reach
//! from 0.0001 ms to far over an hour, and unitless layout shift fits too.

use super::proof::Proof;
use super::{Interval, Reading, percentile};
use std::sync::LazyLock;

const ERROR: f64 = 0.008;
/// Smaller samples are held as zero.
pub const FLOOR: f64 = 0.0001;
const VERSION: u8 = 1;

/// Buckets from the first filled to the last. Both ends are never empty, so equal samples make
/// equal sketches.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Sketch {
    zeros: u64,
    first: i32,
    counts: Vec<u64>,
}

/// Why bytes are no sketch.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
#[expect(missing_docs, reason = "each says what it is when it is told")]
pub enum SketchError {
    #[error("sketch version {0}: this program reads version {VERSION}")]
    Version(u8),
    #[error("sketch ends in the middle of a number, or a number in it is out of range")]
    Broken,
}

fn log_gamma() -> f64 {
    ((1.0 + ERROR) / (1.0 - ERROR)).ln()
}

/// The bucket by its definition: slow, and right for every positive number.
fn bucket_by_logarithm(value: f64) -> i32 {
    (value.ln() / log_gamma()).ceil() as i32
}

/// No finite number lies in a bucket outside these.
const LOWEST: i32 = -600;
const HIGHEST: i32 = 44_500;

/// For each cell of 1/64 of an octave, a little narrower than a bucket: the bucket at its lower
/// end, and where the next one begins.
struct Cells {
    starts: Vec<(f64, i32)>,
}

/// Leading bits of a number that name its cell: sign, exponent, six bits of the fraction.
const CELL_SHIFT: u32 = 46;
/// The table reaches from 2⁻¹⁴ (under [`FLOOR`]) to 2³⁰.
const CELLS_FROM: u64 = (1023 - 14) << 6;
const CELLS_TO: u64 = (1023 + 30) << 6;

static CELLS: LazyLock<Cells> = LazyLock::new(|| {
    let starts = (CELLS_FROM..CELLS_TO).map(|cell| {
        let low = f64::from_bits(cell << CELL_SHIFT);
        let high = f64::from_bits(((cell + 1) << CELL_SHIFT) - 1);
        let bucket = bucket_by_logarithm(low);
        if bucket_by_logarithm(high) == bucket {
            return (f64::INFINITY, bucket);
        }
        // The last number of the lower bucket, found bit by bit.
        let (mut inside, mut beyond) = (low.to_bits(), high.to_bits());
        while beyond - inside > 1 {
            let middle = inside + (beyond - inside) / 2;
            if bucket_by_logarithm(f64::from_bits(middle)) == bucket {
                inside = middle
            } else {
                beyond = middle
            }
        }
        (f64::from_bits(inside), bucket)
    });
    Cells { starts: starts.collect() }
});

impl Cells {
    /// The bucket of a number from [`FLOOR`] up: one comparison where a logarithm was.
    #[inline]
    fn bucket(&self, value: f64) -> i32 {
        match self.starts.get(((value.to_bits() >> CELL_SHIFT).wrapping_sub(CELLS_FROM)) as usize) {
            Some((last, bucket)) => bucket + i32::from(value > *last),
            None => bucket_by_logarithm(value),
        }
    }
}

impl Sketch {
    /// Counts one sample; says whether it could. Negative and non-finite values are no samples of
    /// a time, size or score: the caller counts what it turns away.
    #[inline]
    pub fn add(&mut self, value: f64) -> bool {
        self.add_by(&CELLS, value)
    }

    /// Counts many; returns how many of them were no samples.
    pub fn add_all(&mut self, values: &[f64]) -> u64 {
        let cells = &*CELLS;
        values.iter().map(|v| u64::from(!self.add_by(cells, *v))).sum()
    }

    #[inline]
    fn add_by(&mut self, cells: &Cells, value: f64) -> bool {
        if !(0.0..=f64::MAX).contains(&value) {
            return false;
        }
        if value < FLOOR {
            self.zeros += 1;
            return true;
        }
        let bucket = cells.bucket(value);
        match self.counts.get_mut(bucket.wrapping_sub(self.first) as usize) {
            Some(count) => *count += 1,
            None => *self.reach(bucket) += 1,
        }
        true
    }

    /// The count of a bucket outside those held, which are made to reach it.
    #[cold]
    fn reach(&mut self, bucket: i32) -> &mut u64 {
        if self.counts.is_empty() {
            self.first = bucket;
        }
        if bucket < self.first {
            let more = (self.first - bucket) as usize;
            self.counts.splice(0..0, std::iter::repeat_n(0, more));
            self.first = bucket;
        }
        let at = (bucket - self.first) as usize;
        if at >= self.counts.len() {
            self.counts.resize(at + 1, 0);
        }
        &mut self.counts[at]
    }

    /// The sketch of these numbers.
    pub fn of(values: impl IntoIterator<Item = f64>) -> Sketch {
        let mut sketch = Sketch::default();
        for v in values {
            sketch.add(v);
        }
        sketch
    }

    /// Adds what another holds.
    pub fn merge(&mut self, other: &Sketch) {
        self.zeros += other.zeros;
        if other.counts.is_empty() {
            return;
        }
        self.reach(other.first);
        self.reach(other.first + other.counts.len() as i32 - 1);
        let at = (other.first - self.first) as usize;
        self.counts[at..].iter_mut().zip(&other.counts).for_each(|(a, b)| *a += b);
    }

    /// How many numbers there are.
    pub fn count(&self) -> u64 {
        self.zeros + self.counts.iter().sum::<u64>()
    }

    /// Each filled bucket with its count, ascending.
    fn filled(&self) -> impl Iterator<Item = (i32, u64)> + '_ {
        (self.first..).zip(&self.counts).filter(|(_, n)| **n > 0).map(|(b, n)| (b, *n))
    }

    /// The bucket of the sample at `rank` (from 1); `None`: it is held as zero.
    fn bucket_at(&self, rank: u64) -> Option<i32> {
        let mut seen = self.zeros;
        if rank <= seen {
            return None;
        }
        let reached = self.filled().find(|(_, n)| {
            seen += n;
            rank <= seen
        });
        reached
            .map(|(bucket, _)| bucket)
            .or_else(|| Some(self.first + self.counts.len().checked_sub(1)? as i32))
    }

    /// The value at `rank` (from 1), within 1 % of the sample that stands there.
    fn at_rank(&self, rank: u64) -> f64 {
        self.bucket_at(rank).map_or(0.0, middle)
    }

    /// The nearest-rank percentile at `p` (0 to 1), or `None` without samples.
    pub fn percentile(&self, p: f64) -> Option<f64> {
        let n = self.count();
        (n > 0).then(|| self.at_rank(percentile::rank(n, p)))
    }

    /// The percentile with its sample count and 95 % interval. The interval reaches to the outer
    /// bounds of the buckets that its ends lie in: no sample count makes it finer than a bucket.
    pub fn reading(&self, p: f64) -> Reading {
        let n = self.count();
        Reading {
            value: self.percentile(p),
            samples: n,
            interval: percentile::interval_ranks(n, p).map(|(low, high)| Interval {
                low: self.bucket_at(low).map_or(0.0, |b| bound(b - 1)),
                high: self.bucket_at(high).map_or(FLOOR, bound),
            }),
        }
    }

    /// How the reading at `p` was come by.
    pub fn proof(&self, p: f64) -> Proof {
        let rank = percentile::rank(self.count(), p);
        Proof::percentile(
            p,
            &self.reading(p),
            "nearest rank over merged hourly sketches, within 1 %",
            rank,
        )
    }

    /// How many samples are at or below `limit`: at least, and at most. Those in the limit's own bucket may lie on either
    /// side of it.
    pub fn within(&self, limit: f64) -> (u64, u64) {
        let own = CELLS.bucket(limit.max(FLOOR));
        let below =
            self.zeros + self.filled().take_while(|(b, _)| *b < own).map(|(_, n)| n).sum::<u64>();
        (below, below + self.filled().find(|(b, _)| *b == own).map_or(0, |(_, n)| n))
    }

    /// Each filled bucket as (lower bound, upper bound, count), ascending; zeros first as (0, 0, n).
    pub fn spread(&self) -> impl Iterator<Item = (f64, f64, u64)> + '_ {
        let zeros = (self.zeros > 0).then_some((0.0, 0.0, self.zeros));
        zeros.into_iter().chain(self.filled().map(|(b, n)| (bound(b - 1), bound(b), n)))
    }

    /// Compact bytes: version, then variable-length numbers (zeros, then bucket steps and counts).
    pub fn to_bytes(&self) -> Vec<u8> {
        let mut out = vec![VERSION];
        put(&mut out, self.zeros);
        let mut last = 0i64;
        for (bucket, n) in self.filled() {
            let step = i64::from(bucket) - last;
            put(&mut out, ((step << 1) ^ (step >> 63)) as u64);
            put(&mut out, n);
            last = i64::from(bucket);
        }
        out
    }

    /// # Errors
    /// When the bytes were not written by [`Sketch::to_bytes`] of this version.
    pub fn from_bytes(bytes: &[u8]) -> Result<Sketch, SketchError> {
        let (version, mut rest) = bytes.split_first().ok_or(SketchError::Broken)?;
        if *version != VERSION {
            return Err(SketchError::Version(*version));
        }
        let mut sketch = Sketch { zeros: take(&mut rest)?, ..Sketch::default() };
        let (mut last, mut all) = (0i64, sketch.zeros);
        while !rest.is_empty() {
            let folded = take(&mut rest)?;
            let step = (folded >> 1) as i64 ^ -((folded & 1) as i64);
            let begun = !sketch.counts.is_empty();
            last = last.checked_add(step).ok_or(SketchError::Broken)?;
            let bucket = i32::try_from(last).map_err(|_| SketchError::Broken)?;
            let n = take(&mut rest)?;
            all = all.checked_add(n).ok_or(SketchError::Broken)?;
            // Written in rising order, never empty, and only where numbers can lie.
            if n == 0 || !(LOWEST..=HIGHEST).contains(&bucket) || (begun && step <= 0) {
                return Err(SketchError::Broken);
            }
            if begun {
                sketch.counts.resize((bucket - sketch.first) as usize, 0);
            } else {
                sketch.first = bucket;
                sketch.counts.reserve(rest.len());
            }
            sketch.counts.push(n);
        }
        Ok(sketch)
    }
}

/// The upper end of a bucket.
fn bound(bucket: i32) -> f64 {
    (f64::from(bucket) * log_gamma()).exp()
}

fn middle(bucket: i32) -> f64 {
    // The point with the same relative distance to both ends of the bucket.
    bound(bucket) * (1.0 - ERROR)
}

fn put(out: &mut Vec<u8>, mut n: u64) {
    while n >= 0x80 {
        out.push((n as u8) | 0x80);
        n >>= 7;
    }
    out.push(n as u8);
}

fn take(rest: &mut &[u8]) -> Result<u64, SketchError> {
    // Most numbers are small.
    if let [byte @ 0..0x80, after @ ..] = *rest {
        *rest = after;
        return Ok(u64::from(*byte));
    }
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
        fn the_interval_of_a_sketch_holds_that_of_all_samples(values in samples(), p in 0.1..0.9f64) {
            let exact = Samples::new(values.clone()).reading(p).interval;
            let about = Sketch::of(values).reading(p).interval;
            prop_assert_eq!(exact.is_some(), about.is_some());
            if let (Some(e), Some(a)) = (exact, about) {
                prop_assert!(a.low <= e.low * (1.0 + 1e-12) && e.high <= a.high * (1.0 + 1e-12), "{a:?} around {e:?}");
            }
        }

        #[test]
        fn the_table_names_the_same_bucket_as_the_logarithm(value in (-4.0..12.0f64).prop_map(|e| 10f64.powf(e)), bits: u64) {
            prop_assert_eq!(CELLS.bucket(value), bucket_by_logarithm(value));
            let any = f64::from_bits(bits).abs();
            if any.is_finite() && any >= FLOOR {
                prop_assert_eq!(CELLS.bucket(any), bucket_by_logarithm(any));
                prop_assert!((LOWEST..=HIGHEST).contains(&CELLS.bucket(any)));
            }
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
        fn what_is_read_from_foreign_bytes_is_written_back_the_same(bytes in prop::collection::vec(any::<u8>(), 0..12)) {
            let bytes = [vec![VERSION], bytes].concat();
            if let Ok(sketch) = Sketch::from_bytes(&bytes) {
                prop_assert_eq!(Sketch::from_bytes(&sketch.to_bytes()), Ok(sketch));
            }
        }

        #[test]
        fn foreign_bytes_are_an_error_or_a_sketch_but_never_a_panic(bytes in prop::collection::vec(any::<u8>(), 0..60)) {
            let _ = Sketch::from_bytes(&bytes);
        }
    }

    #[test]
    fn a_negative_time_is_turned_away_and_said_to_be() {
        let mut sketch = Sketch::default();
        assert_eq!(sketch.add_all(&[1.0, -1.0, f64::NAN, f64::INFINITY, 0.0, 2.0]), 3);
        assert_eq!(sketch.count(), 3);
        assert_eq!(sketch.percentile(0.3), Some(0.0));
    }

    #[test]
    fn layout_shift_fits_too() {
        let shifts: Vec<f64> = (1..1_000).map(|i| f64::from(i) / 4_000.0).collect();
        let exact =
            Samples::new(shifts.iter().copied()).percentile(0.75, Method::NearestRank).unwrap();
        let about = Sketch::of(shifts).percentile(0.75).unwrap();
        assert!((about - exact).abs() <= 0.01 * exact);
    }
}
