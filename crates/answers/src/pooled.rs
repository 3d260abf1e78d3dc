//! What pooled page views come to: the percentile that vitals are judged by, how they are rated, Apdex, and what went wrong.

use cadentis_core::stats::{Proof, Reading};
use cadentis_core::timing::{Apdex, Rating, Vital};
use cadentis_core::visitor::{Measured, Pool};

/// Vitals are judged by their 75th percentile (web.dev, "Defining the Core Web Vitals metrics thresholds").
const JUDGED_BY: f64 = 0.75;

/// A vital of pooled page views.
pub struct Rated {
    /// The percentile that it is judged by.
    pub p75: Reading,
    /// How many are good, in the middle, poor.
    pub counts: [u64; 3],
    /// How many are not good.
    pub not_good: u64,
    measured: Measured,
}

/// A vital of these page views.
pub fn rated(pool: &Pool, vital: Vital) -> Rated {
    let measured = pool.measured(vital);
    Rated {
        p75: measured.reading(JUDGED_BY),
        counts: measured.counts,
        not_good: measured.not_good(),
        measured,
    }
}

/// The percentile of these page views that the vital is judged by.
pub fn p75(pool: &Pool, vital: Vital) -> Reading {
    pool.measured(vital).reading(JUDGED_BY)
}

/// Apdex of these page views: satisfied is who waited `t_s` seconds for the largest paint at most.
pub fn apdex(pool: &Pool, t_s: f64) -> Apdex {
    pool.measured(Vital::Lcp).apdex(t_s * 1_000.0)
}

impl Rated {
    /// The share of those that were measured with this rating; nothing when none was measured.
    pub fn share(&self, rating: Rating) -> Option<f64> {
        self.measured.share(rating)
    }

    /// How many were measured.
    pub fn samples(&self) -> u64 {
        self.measured.samples()
    }

    /// Other percentiles, for a band around the one that it is judged by.
    pub fn at(&self, p: f64) -> Reading {
        self.measured.reading(p)
    }

    /// How the percentile was come by.
    pub fn proof(&self) -> Proof {
        self.measured.proof(JUDGED_BY)
    }

    /// How many lie in each of so many equal parts of a range.
    pub fn histogram(&self, low: f64, high: f64, bins: usize) -> Vec<u64> {
        self.measured.histogram(low, high, bins)
    }
}
