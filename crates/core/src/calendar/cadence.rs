//! When a journey plays at a location.

use super::stretch::{Stretch, at_second};
use jiff::Timestamp;

/// Every so many seconds, begun at an offset of the location's own, so that the locations of a
/// journey are spread evenly over the interval instead of all starting at once.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Cadence {
    every_s: i64,
    offset_s: i64,
}

/// One minute is the finest cadence (common practice, no published source).
pub const FINEST_S: i64 = 60;

impl Cadence {
    /// The cadence of the `nth` of `of` locations. An interval under a minute counts as a minute.
    pub fn every(seconds: i64, nth: usize, of: usize) -> Cadence {
        let every_s = seconds.max(FINEST_S);
        Cadence { every_s, offset_s: every_s * (nth as i64).rem_euclid(of.max(1) as i64) / of.max(1) as i64 }
    }

    /// The last moment at or before `at` when a run is due.
    pub fn last_due(&self, at: Timestamp) -> Timestamp {
        at_second((at.as_second() - self.offset_s).div_euclid(self.every_s) * self.every_s + self.offset_s)
    }

    /// All moments in the stretch when a run is due.
    pub fn due(&self, stretch: Stretch) -> impl Iterator<Item = Timestamp> + use<> {
        let every = self.every_s;
        let mut first = self.last_due(stretch.from).as_second();
        if first < stretch.from.as_second() || stretch.from.subsec_nanosecond() > 0 {
            first += every;
        }
        (0..).map(move |i| at_second(first + i * every)).take_while(move |at| *at < stretch.to)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn every_five_minutes_is_288_runs_a_day_and_every_minute_1440() {
        let day = Stretch { from: at_second(86_400 * 20_000), to: at_second(86_400 * 20_001) };
        for nth in 0..8 {
            assert_eq!(Cadence::every(300, nth, 8).due(day).count(), 288);
            assert_eq!(Cadence::every(60, nth, 8).due(day).count(), 1_440);
        }
    }

    proptest! {
        #[test]
        fn due_moments_are_the_same_however_the_time_is_cut(
            every in 60i64..4_000, nth in 0usize..9, from in 0i64..100_000, a in 1i64..9_000, b in 1i64..9_000,
        ) {
            let c = Cadence::every(every, nth, 9);
            let cut = |x: i64, y: i64| c.due(Stretch { from: at_second(x), to: at_second(y) }).collect::<Vec<_>>();
            let mut parts = cut(from, from + a);
            parts.extend(cut(from + a, from + a + b));
            prop_assert_eq!(parts, cut(from, from + a + b));
        }
    }
}
