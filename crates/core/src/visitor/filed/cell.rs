//! A cell of the roll-up: the page views of one hour that share one attribute.

use crate::stats::sketch::{Sketch, SketchError};
use crate::timing::{Rating, Vital};

/// The samples of one vital: how many are good, need improvement or are poor, exactly; and their
/// sketch.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Rated {
    /// Good, needs improvement, poor.
    pub counts: [u64; 3],
    /// All values.
    pub sketch: Sketch,
}

impl Rated {
    /// Counts one more.
    pub fn add(&mut self, vital: Vital, value: f64) {
        self.counts[match vital.rate(value) {
            Rating::Good => 0,
            Rating::NeedsImprovement => 1,
            Rating::Poor => 2,
        }] += 1;
        self.sketch.add(value);
    }

    /// Counts what another has counted.
    pub fn merge(&mut self, other: &Rated) {
        for (a, b) in self.counts.iter_mut().zip(other.counts) {
            *a += b;
        }
        self.sketch.merge(&other.sketch);
    }

    /// Share of samples with that rating (0 good, 1 needs improvement, 2 poor).
    pub fn share(&self, rating: usize) -> Option<f64> {
        crate::stats::share(self.counts[rating], self.counts.iter().sum())
    }

    /// As bytes, to be kept.
    pub fn to_bytes(&self) -> Vec<u8> {
        let mut out: Vec<u8> = self.counts.iter().flat_map(|n| n.to_le_bytes()).collect();
        out.extend(self.sketch.to_bytes());
        out
    }

    /// # Errors
    /// When the bytes were not written by [`Rated::to_bytes`].
    pub fn from_bytes(bytes: &[u8]) -> Result<Rated, SketchError> {
        let (head, rest) = bytes.split_at_checked(24).ok_or(SketchError::Broken)?;
        let mut counts = [0; 3];
        for (n, chunk) in counts.iter_mut().zip(head.chunks_exact(8)) {
            *n = u64::from_le_bytes(chunk.try_into().map_err(|_| SketchError::Broken)?);
        }
        Ok(Rated { counts, sketch: Sketch::from_bytes(rest)? })
    }
}

/// All that a cell holds.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Cell {
    /// All page views.
    pub page_views: u64,
    /// Those that were left before they had loaded.
    pub abandoned: u64,
    /// Those that stayed blank.
    pub blank: u64,
    /// Page views with at least one script error.
    pub with_errors: u64,
    /// In the order of [`Vital::ALL`].
    pub vitals: [Rated; 5],
}

/// What a cell needs of one page view.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Facts {
    /// Left before it had loaded.
    pub abandoned: bool,
    /// Stayed blank.
    pub blank: bool,
    /// Had a script error.
    pub with_errors: bool,
    /// In the order of [`Vital::ALL`].
    pub vitals: [Option<f64>; 5],
}

impl Cell {
    /// Counts one more.
    pub fn add(&mut self, facts: &Facts) {
        self.page_views += 1;
        self.abandoned += u64::from(facts.abandoned);
        self.blank += u64::from(facts.blank);
        self.with_errors += u64::from(facts.with_errors);
        for ((vital, rated), value) in
            Vital::ALL.into_iter().zip(&mut self.vitals).zip(facts.vitals)
        {
            if let Some(value) = value {
                rated.add(vital, value);
            }
        }
    }

    /// Counts what another has counted.
    pub fn merge(&mut self, other: &Cell) {
        self.page_views += other.page_views;
        self.abandoned += other.abandoned;
        self.blank += other.blank;
        self.with_errors += other.with_errors;
        for (a, b) in self.vitals.iter_mut().zip(&other.vitals) {
            a.merge(b);
        }
    }

    /// What was measured of a vital.
    pub fn vital(&self, vital: Vital) -> &Rated {
        let place = Vital::ALL.iter().position(|v| *v == vital).unwrap_or(0);
        &self.vitals[place]
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn minutes_sum_to_the_hour_and_bytes_keep_everything(
            views in prop::collection::vec((any::<bool>(), prop::option::of(0.0..9_000.0f64), prop::option::of(0.0..1.0f64)), 1..120), cut in 0usize..120,
        ) {
            let facts: Vec<Facts> = views.iter().map(|(abandoned, lcp, cls)| Facts {
                abandoned: *abandoned, vitals: [*lcp, None, *cls, None, None], ..Facts::default()
            }).collect();
            let cell = |f: &[Facts]| f.iter().fold(Cell::default(), |mut c, f| { c.add(f); c });
            let (a, b) = facts.split_at(cut.min(facts.len()));
            let mut parts = cell(a);
            parts.merge(&cell(b));
            let whole = cell(&facts);
            prop_assert_eq!(&parts, &whole);
            for rated in &whole.vitals {
                prop_assert_eq!(&Rated::from_bytes(&rated.to_bytes()).unwrap(), rated);
            }
        }
    }
}
