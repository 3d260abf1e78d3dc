//! Everything that is said about a plain list of numbers, in one pass.

use super::percentile::readings;
use super::{Reading, Sketch};
use crate::timing::Apdex;
use std::num::NonZeroUsize;

/// The percentiles that are said.
pub const SAID: [f64; 5] = [0.5, 0.75, 0.9, 0.95, 0.99];

/// Numbers as they come.
#[derive(Debug, Clone)]
pub struct Summary {
    held: Held,
    count: u64,
    min: f64,
    max: f64,
    // Neumaier's sum: what a plain sum of many numbers loses is kept beside it.
    sum: f64,
    lost: f64,
    /// Target in the numbers' own unit, and the groups.
    apdex: Option<(f64, Apdex)>,
}

#[derive(Debug, Clone)]
enum Held {
    All(Vec<f64>),
    Sketch(Sketch),
}

/// Why a number is not counted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum NotCounted {
    /// It is no finite number.
    #[error("not a finite number")]
    NotFinite,
    /// It is less than nothing.
    #[error("negative: the sketch holds times, sizes and scores from 0 up")]
    Negative,
}

impl Summary {
    /// Keeps every number: exact, eight bytes each.
    pub fn exact(apdex_t: Option<f64>) -> Summary {
        Summary::over(Held::All(Vec::new()), apdex_t)
    }

    /// Keeps a sketch: percentiles within 1 %, constant memory.
    pub fn sketched(apdex_t: Option<f64>) -> Summary {
        Summary::over(Held::Sketch(Sketch::default()), apdex_t)
    }

    fn over(held: Held, apdex_t: Option<f64>) -> Summary {
        let apdex = apdex_t.map(|t| (t, Apdex::new(t)));
        Summary {
            held,
            count: 0,
            min: f64::INFINITY,
            max: f64::NEG_INFINITY,
            sum: 0.0,
            lost: 0.0,
            apdex,
        }
    }

    /// Counts one number.
    ///
    /// # Errors
    /// When it is not finite, or negative and a sketch is kept; nothing has changed then.
    pub fn add(&mut self, value: f64) -> Result<(), NotCounted> {
        if !value.is_finite() {
            return Err(NotCounted::NotFinite);
        }
        match &mut self.held {
            Held::All(all) => all.push(value),
            Held::Sketch(sketch) => {
                if !sketch.add(value) {
                    return Err(NotCounted::Negative);
                }
            }
        }
        self.count += 1;
        self.min = self.min.min(value);
        self.max = self.max.max(value);
        let sum = self.sum + value;
        self.lost += if self.sum.abs() >= value.abs() {
            (self.sum - sum) + value
        } else {
            (value - sum) + self.sum
        };
        self.sum = sum;
        if let Some((t, apdex)) = &mut self.apdex {
            apdex.add_against(value, *t);
        }
        Ok(())
    }

    /// How many numbers there are.
    pub fn count(&self) -> u64 {
        self.count
    }

    /// The least of them.
    pub fn min(&self) -> Option<f64> {
        (self.count > 0).then_some(self.min)
    }

    /// The greatest of them.
    pub fn max(&self) -> Option<f64> {
        (self.count > 0).then_some(self.max)
    }

    /// Their mean.
    pub fn mean(&self) -> Option<f64> {
        (self.count > 0).then(|| (self.sum + self.lost) / self.count as f64)
    }

    /// Readings of [`SAID`], in that order.
    pub fn readings(&self) -> Vec<Reading> {
        match &self.held {
            Held::All(all) => readings(all, &SAID).0,
            Held::Sketch(sketch) => SAID.map(|p| sketch.reading(p)).to_vec(),
        }
    }

    /// The target, in the numbers' own unit, and the groups against it.
    pub fn apdex(&self) -> Option<&(f64, Apdex)> {
        self.apdex.as_ref()
    }

    /// How its percentiles are come by.
    pub fn method(&self) -> &'static str {
        match self.held {
            Held::All(_) => "nearest rank over all samples, exact",
            Held::Sketch(_) => "nearest rank over a sketch, within 1 %",
        }
    }

    /// Counts in `bins` bins from the smallest to the largest number, as (from, to, count): even
    /// on a logarithmic scale where the numbers span more than a factor of twenty, else even.
    pub fn histogram(&self, bins: NonZeroUsize) -> Vec<(f64, f64, u64)> {
        let (Some(min), Some(max)) = (self.min(), self.max()) else { return vec![] };
        let many = bins.get();
        if min == max {
            return vec![(min, max, self.count)];
        }
        let logarithmic = min > 0.0 && max / min > 20.0;
        let scale = |v: f64| if logarithmic { v.ln() } else { v };
        let (low, width) = (scale(min), (scale(max) - scale(min)) / many as f64);
        let place = |v: f64| (((scale(v.clamp(min, max)) - low) / width) as usize).min(many - 1);
        let mut counts = vec![0; many];
        match &self.held {
            Held::All(all) => all.iter().for_each(|v| counts[place(*v)] += 1),
            Held::Sketch(sketch) => {
                sketch.spread().for_each(|(a, b, n)| counts[place((a + b) / 2.0)] += n)
            }
        }
        let edge = |i: usize| {
            let at = low + width * i as f64;
            if i == 0 {
                min
            } else if i == many {
                max
            } else if logarithmic {
                at.exp()
            } else {
                at
            }
        };
        counts.into_iter().enumerate().map(|(i, n)| (edge(i), edge(i + 1), n)).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::stats::Samples;
    use proptest::prelude::*;

    #[test]
    fn a_sum_of_large_and_small_numbers_loses_nothing() {
        // Neumaier's own example: a plain sum gives 0.
        let mut s = Summary::exact(None);
        for v in [1.0, 1e100, 1.0, -1e100] {
            s.add(v).unwrap();
        }
        assert_eq!(s.mean(), Some(0.5));
    }

    #[test]
    fn what_cannot_be_counted_is_said_and_changes_nothing() {
        let mut s = Summary::sketched(Some(1.0));
        assert_eq!(s.add(-1.0), Err(NotCounted::Negative));
        assert_eq!(s.add(f64::NAN), Err(NotCounted::NotFinite));
        assert_eq!((s.count(), s.mean(), s.readings()[0]), (0, None, Reading::NONE));
        assert!(s.histogram(NonZeroUsize::MIN).is_empty());
    }

    proptest! {
        #[test]
        fn all_and_sketched_say_the_same_within_a_hundredth(values in prop::collection::vec(0.1..5_000.0f64, 1..300), t in 1.0..900.0f64) {
            let (mut exact, mut about) = (Summary::exact(Some(t)), Summary::sketched(Some(t)));
            values.iter().for_each(|v| { exact.add(*v).unwrap(); about.add(*v).unwrap(); });
            prop_assert_eq!(exact.apdex(), about.apdex());
            prop_assert_eq!(exact.mean(), about.mean());
            let samples = Samples::new(values.iter().copied());
            for ((p, a), b) in SAID.iter().zip(exact.readings()).zip(about.readings()) {
                prop_assert_eq!(a, samples.reading(*p));
                prop_assert!((a.value.unwrap() - b.value.unwrap()).abs() <= 0.01 * a.value.unwrap());
            }
            for s in [&exact, &about] {
                let bins = s.histogram(NonZeroUsize::new(12).unwrap());
                prop_assert_eq!(bins.iter().map(|b| b.2).sum::<u64>(), values.len() as u64);
            }
        }
    }

    proptest! {
        #[test]
        fn a_histogram_has_every_number_once_between_edges_that_meet(
            values in prop::collection::vec(0.5..5_000.0f64, 1..200), bins in 1..40usize,
        ) {
            let mut s = Summary::exact(None);
            values.iter().for_each(|v| s.add(*v).unwrap());
            let drawn = s.histogram(NonZeroUsize::new(bins).unwrap());
            prop_assert_eq!(drawn.iter().map(|b| b.2).sum::<u64>(), values.len() as u64);
            let (least, most) = (s.min().unwrap(), s.max().unwrap());
            prop_assert_eq!((drawn[0].0, drawn[drawn.len() - 1].1), (least, most));
            if least < most {
                prop_assert_eq!(drawn.len(), bins);
            }
            for pair in drawn.windows(2) {
                prop_assert!(pair[0].0 < pair[0].1 && (pair[0].1 - pair[1].0).abs() <= 1e-9 * pair[1].0.abs().max(1.0));
            }
            // Each bin has what lies between its edges; a number on an edge may stand on either side.
            for (from, to, count) in &drawn {
                let near = 1e-9 * to;
                let surely = values.iter().filter(|v| **v > from + near && **v < to - near).count() as u64;
                let perhaps = values.iter().filter(|v| **v >= from - near && **v <= to + near).count() as u64;
                prop_assert!((surely..=perhaps).contains(count), "{} in {}..{}: {} to {}", count, from, to, surely, perhaps);
            }
        }
    }

    #[test]
    fn it_says_whether_its_percentiles_are_exact() {
        let (mut exact, mut sketched) = (Summary::exact(None), Summary::sketched(None));
        exact.add(1.0).unwrap();
        sketched.add(1.0).unwrap();
        assert_eq!(exact.method(), "nearest rank over all samples, exact");
        assert_eq!(sketched.method(), "nearest rank over a sketch, within 1 %");
    }
}
