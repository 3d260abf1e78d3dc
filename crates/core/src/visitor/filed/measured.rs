//! The samples of one vital, pooled from wherever they came: raw page views (exact) or cells of the
//! roll-up (within 1 %). Percentiles are read off the pool, never averaged.

use crate::stats::compare::share_shift;
use crate::stats::{Proof, Reading, Samples, Sketch, share};
use crate::timing::{Apdex, Rating, Vital};
use crate::visitor::filed::cell::{Cell, Rated};

/// Page views being pooled.
#[derive(Debug, Clone, Default)]
pub struct Pool {
    /// All page views.
    pub page_views: u64,
    /// Those that were left before they had loaded.
    pub abandoned: u64,
    /// Those that stayed blank.
    pub blank: u64,
    /// Those with a script error.
    pub with_errors: u64,
    exact: [Vec<f64>; 5],
    merged: [Rated; 5],
}

/// The samples of one vital, ready to be read.
#[derive(Debug, Clone)]
pub struct Measured {
    /// Good, needs improvement, poor.
    pub counts: [u64; 3],
    values: Values,
}

#[derive(Debug, Clone)]
enum Values {
    Exact(Samples),
    Merged(Sketch),
}

impl Pool {
    /// Counts so many more.
    pub fn count(&mut self, page_views: u64, abandoned: u64, blank: u64, with_errors: u64) {
        self.page_views += page_views;
        self.abandoned += abandoned;
        self.blank += blank;
        self.with_errors += with_errors;
    }

    /// Raw samples, in the order of [`Vital::ALL`].
    pub fn add_samples(&mut self, vitals: &[Vec<f32>; 5]) {
        for (list, values) in self.exact.iter_mut().zip(vitals) {
            list.extend(values.iter().map(|v| f64::from(*v)));
        }
    }

    /// Cells, in the order of [`Vital::ALL`].
    pub fn add_rated(&mut self, vitals: &[Rated; 5]) {
        for (held, rated) in self.merged.iter_mut().zip(vitals) {
            held.merge(rated);
        }
    }

    /// The pool as a cell of the roll-up.
    pub fn cell(&self) -> Cell {
        let mut vitals = self.merged.clone();
        for ((vital, rated), values) in Vital::ALL.into_iter().zip(&mut vitals).zip(&self.exact) {
            values.iter().for_each(|v| rated.add(vital, *v));
        }
        let Pool { page_views, abandoned, blank, with_errors, .. } = *self;
        Cell { page_views, abandoned, blank, with_errors, vitals }
    }

    /// Adds everything that another pool holds.
    pub fn absorb(&mut self, other: &Pool) {
        self.count(other.page_views, other.abandoned, other.blank, other.with_errors);
        for (list, more) in self.exact.iter_mut().zip(&other.exact) {
            list.extend_from_slice(more);
        }
        self.add_rated(&other.merged);
    }

    /// What was measured of a vital.
    pub fn measured(&self, vital: Vital) -> Measured {
        let place = Vital::ALL.iter().position(|v| *v == vital).unwrap_or(0);
        let (exact, merged) = (&self.exact[place], &self.merged[place]);
        let mut counts = merged.counts;
        for value in exact {
            counts[rating_place(vital.rate(*value))] += 1;
        }
        if merged.sketch.count() == 0 {
            return Measured { counts, values: Values::Exact(Samples::new(exact.iter().copied())) };
        }
        let mut sketch = merged.sketch.clone();
        sketch.add_all(exact);
        Measured { counts, values: Values::Merged(sketch) }
    }

    /// The share of those that were left.
    pub fn abandoned_share(&self) -> Option<f64> {
        share(self.abandoned, self.page_views)
    }

    /// The share of those that stayed blank.
    pub fn blank_share(&self) -> Option<f64> {
        share(self.blank, self.page_views)
    }

    /// The share of those with a script error.
    pub fn error_share(&self) -> Option<f64> {
        share(self.with_errors, self.page_views)
    }
}

/// Whether a share (part, whole) has risen so far that it is worth pointing at: surely, by half, and
/// to more than one in a hundred.
pub fn has_risen(now: (u64, u64), then: (u64, u64)) -> bool {
    share_shift(then, now)
        .is_some_and(|s| s.is_rise() && s.after > 0.01 && s.after > 1.5 * s.before)
}

fn rating_place(rating: Rating) -> usize {
    match rating {
        Rating::Good => 0,
        Rating::NeedsImprovement => 1,
        Rating::Poor => 2,
    }
}

impl Measured {
    /// How many need improvement or are poor.
    pub fn not_good(&self) -> u64 {
        self.counts[1] + self.counts[2]
    }

    /// The reading at `p`.
    pub fn reading(&self, p: f64) -> Reading {
        match &self.values {
            Values::Exact(samples) => samples.reading(p),
            Values::Merged(sketch) => sketch.reading(p),
        }
    }

    /// How many values there are.
    pub fn samples(&self) -> u64 {
        self.counts.iter().sum()
    }

    /// Share of samples with that rating.
    pub fn share(&self, rating: Rating) -> Option<f64> {
        share(self.counts[rating_place(rating)], self.samples())
    }

    /// The Apdex groups for a target of `t_ms`.
    pub fn apdex(&self, t_ms: f64) -> Apdex {
        let within = |limit: f64| match &self.values {
            Values::Exact(samples) => (samples.within(limit) as u64, samples.within(limit) as u64),
            Values::Merged(sketch) => sketch.within(limit),
        };
        Apdex::within_bounds(t_ms / 1000.0, self.samples(), within(t_ms), within(4.0 * t_ms))
    }

    /// How the reading at `p` was come by.
    pub fn proof(&self, p: f64) -> Proof {
        match &self.values {
            Values::Exact(samples) => samples.proof(p),
            Values::Merged(sketch) => sketch.proof(p),
        }
    }

    /// How many samples lie in each of `bins` bins from `low` to `high`, evenly wide on a
    /// logarithmic scale; what lies outside is counted in the first or last.
    pub fn histogram(&self, low: f64, high: f64, bins: usize) -> Vec<u64> {
        let mut counts = vec![0; bins];
        let width = (high / low).ln() / bins as f64;
        let mut put = |value: f64, n: u64| {
            let bin = ((value.max(low) / low).ln() / width).floor() as usize;
            counts[bin.min(bins - 1)] += n;
        };
        match &self.values {
            Values::Exact(samples) => samples.ordered().iter().for_each(|v| put(*v, 1)),
            Values::Merged(sketch) => sketch.spread().for_each(|(a, b, n)| put((a * b).sqrt(), n)),
        }
        counts
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_share_is_said_to_have_risen_only_when_it_surely_did_and_it_matters() {
        assert!(has_risen((60, 1_000), (20, 1_000)));
        assert!(!has_risen((6, 100), (2, 100)), "four more in a hundred may be chance");
        assert!(!has_risen((900, 100_000), (100, 100_000)), "under one in a hundred");
        assert!(!has_risen((60, 1_000), (0, 0)), "nothing to compare with");
    }

    proptest! {
        #[test]
        fn raw_and_rolled_up_page_views_tell_the_same(values in prop::collection::vec(50.0f32..9_000.0, 1..300), p in 0.01..0.99f64) {
            let vitals = [values.clone(), vec![], vec![], vec![], vec![]];
            let mut raw = Pool::default();
            raw.add_samples(&vitals);
            let mut rated = Rated::default();
            values.iter().for_each(|v| rated.add(Vital::Lcp, f64::from(*v)));
            let mut rolled = Pool::default();
            rolled.add_rated(&[rated, Rated::default(), Rated::default(), Rated::default(), Rated::default()]);
            let (raw, rolled) = (raw.measured(Vital::Lcp), rolled.measured(Vital::Lcp));
            prop_assert_eq!(raw.counts, rolled.counts);
            let (a, b) = (raw.reading(p), rolled.reading(p));
            prop_assert_eq!(a.samples, b.samples);
            prop_assert!((a.value.unwrap() - b.value.unwrap()).abs() <= 0.01 * a.value.unwrap());
            for t_ms in [700.0, 1_500.0, f64::from(values[0])] {
                let (known, read) = (raw.apdex(t_ms), rolled.apdex(t_ms));
                let (low, high) = read.between.unwrap_or((read.score().unwrap(), read.score().unwrap()));
                prop_assert!(low - 1e-12 <= known.score().unwrap() && known.score().unwrap() <= high + 1e-12, "{known:?} {read:?}");
                prop_assert!(low <= read.score().unwrap() + 0.5 / values.len() as f64 && known.between.is_none());
            }
            prop_assert_eq!(raw.histogram(10.0, 20_000.0, 40).iter().sum::<u64>(), values.len() as u64);
            prop_assert_eq!(rolled.histogram(10.0, 20_000.0, 40).iter().sum::<u64>(), values.len() as u64);
        }
    }
}
