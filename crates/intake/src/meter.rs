//! What the intake has done since it was started, as metrics.

use prometheus_client::encoding::EncodeLabelSet;
use prometheus_client::metrics::counter::Counter;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::histogram::{Histogram, exponential_buckets};

/// How a request with beacons was answered: `stored`, `bot`, or the reason it was refused for.
#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
pub struct Answer {
    answer: &'static str,
}

/// A handle to the counts.
#[derive(Debug, Clone)]
pub struct Meter {
    /// Requests by how they were answered.
    pub beacons: Family<Answer, Counter>,
    /// Seconds that a batch took to be written, whether it was or not.
    pub batch: Histogram,
}

impl Default for Meter {
    fn default() -> Meter {
        // From a millisecond to eight seconds.
        Meter {
            beacons: Family::default(),
            batch: Histogram::new(exponential_buckets(0.001, 2.0, 14)),
        }
    }
}

impl Meter {
    pub(crate) fn answered(&self, answer: &'static str) {
        self.beacons.get_or_create(&Answer { answer }).inc();
    }
}
