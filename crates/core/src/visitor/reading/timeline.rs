//! What happened, by bucket of time: how often, how often it failed, how long it took.

use crate::calendar::Stretch;
use crate::stats::{Reading, readings, share};
use serde::Serialize;
use std::collections::BTreeMap;

/// One bucket of time in which something happened.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Bucket {
    /// When it begins, in seconds since 1970.
    pub begin_s: i64,
    /// How often it happened.
    pub count: u64,
    /// How often it failed.
    pub failed: u64,
    /// Milliseconds at the 75th percentile, of those that took a time.
    pub p75: Reading,
}

impl Bucket {
    /// The share that failed.
    pub fn failed_share(&self) -> Option<f64> {
        share(self.failed, self.count)
    }
}

/// Gathers what happened into buckets that begin at multiples of their length.
#[derive(Debug, Clone)]
pub struct Timeline {
    bucket_s: i64,
    held: BTreeMap<i64, Held>,
    /// What is added comes nearly in order of time: the bucket at hand is kept out of the others.
    here: Option<(i64, Held)>,
}

#[derive(Debug, Clone, Default)]
struct Held {
    count: u64,
    failed: u64,
    ms: Vec<f64>,
}

impl Held {
    fn absorb(&mut self, other: Held) {
        self.count += other.count;
        self.failed += other.failed;
        match self.ms.is_empty() {
            true => self.ms = other.ms,
            false => self.ms.extend(other.ms),
        }
    }
}

impl Timeline {
    /// `bucket_s` is the length of a bucket in seconds, at least one.
    pub fn new(bucket_s: i64) -> Timeline {
        Timeline { bucket_s: bucket_s.max(1), held: BTreeMap::new(), here: None }
    }

    /// One more at this moment (milliseconds since 1970); `ms` is what it took, if it is known.
    pub fn add(&mut self, at_ms: i64, failed: bool, ms: Option<f64>) {
        let begin = at_ms.div_euclid(self.bucket_s * 1_000) * self.bucket_s;
        let here = match &mut self.here {
            Some((at, here)) if *at == begin => here,
            _ => {
                self.put_away();
                let before = self.held.remove(&begin).unwrap_or_default();
                &mut self.here.insert((begin, before)).1
            }
        };
        here.count += 1;
        here.failed += u64::from(failed);
        here.ms.extend(ms);
    }

    /// Of those that were added at about this moment one more had failed.
    pub fn fail(&mut self, at_ms: i64) {
        self.put_away();
        let begin = at_ms.div_euclid(self.bucket_s * 1_000) * self.bucket_s;
        if let Some(held) = self.held.get_mut(&begin) {
            held.failed = (held.failed + 1).min(held.count);
        }
    }

    fn put_away(&mut self) {
        if let Some((begin, here)) = self.here.take() {
            self.held.insert(begin, here);
        }
    }

    /// Adds what another holds, whose buckets are as long.
    pub fn absorb(&mut self, mut other: Timeline) {
        self.put_away();
        other.put_away();
        for (begin, held) in other.held {
            self.held.entry(begin).or_default().absorb(held);
        }
    }

    /// In order of time; buckets in which nothing happened are left out.
    pub fn buckets(mut self) -> Vec<Bucket> {
        self.put_away();
        let bucket = |(begin_s, held): (i64, Held)| Bucket {
            begin_s,
            count: held.count,
            failed: held.failed,
            p75: readings(&held.ms, &[0.75]).0.first().copied().unwrap_or(Reading::NONE),
        };
        self.held.into_iter().map(bucket).collect()
    }
}

/// Whether a bucket that begins then lies inside the stretch as a whole.
pub fn is_whole(begin_s: i64, bucket_s: i64, stretch: Stretch) -> bool {
    begin_s >= stretch.from.as_second() && begin_s + bucket_s <= stretch.to.as_second()
}

/// How often it happened in each whole bucket of a stretch, also in those in which it did not: half a bucket would look
/// as if something had stopped. Beginnings (seconds since 1970) and counts.
pub fn whole_buckets(buckets: &[Bucket], stretch: Stretch, bucket_s: i64) -> Vec<(i64, u64)> {
    let bucket_s = bucket_s.max(1);
    let first = (stretch.from.as_second() + bucket_s - 1).div_euclid(bucket_s) * bucket_s;
    let of = |begin: i64| buckets.iter().find(|b| b.begin_s == begin).map_or(0, |b| b.count);
    (first..=stretch.to.as_second() - bucket_s)
        .step_by(bucket_s as usize)
        .map(|begin| (begin, of(begin)))
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::calendar::stretch::at_second;
    use proptest::prelude::*;

    #[test]
    fn buckets_in_which_nothing_happened_are_counted_as_none_and_half_ones_are_left_out() {
        let bucket =
            |begin_s: i64, count: u64| Bucket { begin_s, count, failed: 0, p75: Reading::NONE };
        let buckets = [bucket(0, 9), bucket(1_200, 5), bucket(3_600, 2)];
        let of = |from: i64, to: i64| {
            whole_buckets(&buckets, Stretch { from: at_second(from), to: at_second(to) }, 600)
        };
        assert_eq!(of(300, 4_000), [(600, 0), (1_200, 5), (1_800, 0), (2_400, 0), (3_000, 0)]);
        assert_eq!(of(0, 1_100), [(0, 9)], "what goes on is not counted yet");
    }

    proptest! {
        #[test]
        fn each_is_in_one_bucket_and_a_wider_bucket_is_the_sum_of_its_narrow_ones(
            all in prop::collection::vec((-9_000_000i64..9_000_000, any::<bool>(), prop::option::of(0.0..9e4f64)), 0..120),
            narrow_s in 1i64..900, times in 1i64..9,
        ) {
            let of = |bucket_s: i64| {
                let mut over = Timeline::new(bucket_s);
                all.iter().for_each(|(at, failed, ms)| over.add(*at, *failed, *ms));
                over.buckets()
            };
            let (narrow, wide) = (of(narrow_s), of(narrow_s * times));
            for w in &wide {
                let end = w.begin_s + narrow_s * times;
                let parts: Vec<&Bucket> = narrow.iter().filter(|n| (w.begin_s..end).contains(&n.begin_s)).collect();
                prop_assert_eq!(parts.iter().map(|n| n.count).sum::<u64>(), w.count);
                prop_assert_eq!(parts.iter().map(|n| n.failed).sum::<u64>(), w.failed);
                let inside = all.iter().filter(|(at, ..)| (w.begin_s * 1_000..end * 1_000).contains(at));
                let mut ms: Vec<f64> = inside.filter_map(|(_, _, ms)| *ms).collect();
                ms.sort_by(f64::total_cmp);
                // Nearest rank: the first value that three in four do not lie above.
                prop_assert_eq!(w.p75.value, ms.get((ms.len() * 3).div_ceil(4).max(1) - 1).copied());
            }
            prop_assert_eq!(wide.iter().map(|w| w.count).sum::<u64>(), all.len() as u64);
        }
    }
}
