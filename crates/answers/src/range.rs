//! What a question is about.

use cadentis_core::calendar::Stretch;
use cadentis_core::visitor::Filter;

/// A stretch of time up to now, what it is compared with, and which page views count.
#[derive(Debug, Clone)]
pub struct Range {
    /// From when to when, no longer than until now.
    pub stretch: Stretch,
    /// What it is compared with, if with anything.
    pub against: Option<Stretch>,
    /// Which page views are asked about.
    pub filter: Filter,
    /// In at most so many buckets of time a course is told.
    pub points: i64,
}

impl Range {
    /// Seconds of one bucket of a course over the stretch.
    pub fn bucket_s(&self) -> i64 {
        self.stretch.bucket_seconds(self.points)
    }
}
