//! When a journey plays at a location.

use super::cron::Cron;
use super::stretch::{Stretch, at_second};
use jiff::Timestamp;
use jiff::tz::TimeZone;

#[derive(Debug, Clone, PartialEq)]
pub enum Cadence {
    /// A single run.
    Once(Timestamp),
    /// Every so many seconds, begun at an offset of the location's own.
    Every { every_s: i64, offset_s: i64 },
    /// By a cron line, read on the clock of a zone.
    Cron(Cron, TimeZone),
}

/// One minute is the finest cadence (common practice, no published source).
pub const FINEST_S: i64 = 60;

impl Cadence {
    /// The cadence of a journey's `nth` location (from 0). An interval under a minute counts as a
    /// minute.
    ///
    /// Starts are spread over the interval instead of all falling together, and a location added
    /// later moves none of the others: offsets halve what is left, 0, ½, ¼, ¾, ⅛, … (van der
    /// Corput, "Verteilungsfunktionen", 1935).
    pub fn every(seconds: i64, nth: usize) -> Cadence {
        let every_s = seconds.max(FINEST_S);
        let part = (nth as u32).reverse_bits() as f64 / 2f64.powi(32);
        Cadence::Every { every_s, offset_s: (every_s as f64 * part) as i64 }
    }

    /// The last moment at or before `at` when a run is due.
    pub fn last_due(&self, at: Timestamp) -> Option<Timestamp> {
        match self {
            Cadence::Once(moment) => Some(*moment).filter(|m| *m <= at),
            Cadence::Every { every_s, offset_s } => {
                Some(at_second((at.as_second() - offset_s).div_euclid(*every_s) * every_s + offset_s))
            }
            Cadence::Cron(cron, zone) => cron.last_due(at, zone),
        }
    }

    /// All moments in the stretch when a run is due.
    pub fn due(&self, stretch: Stretch) -> Box<dyn Iterator<Item = Timestamp> + '_> {
        match self {
            Cadence::Once(moment) => Box::new([*moment].into_iter().filter(move |m| stretch.contains(*m))),
            Cadence::Every { every_s, offset_s } => {
                let before = (stretch.from.as_second() - offset_s).div_euclid(*every_s) * every_s + offset_s;
                let late = before < stretch.from.as_second() || stretch.from.subsec_nanosecond() > 0;
                let first = if late { before + every_s } else { before };
                Box::new((0..).map(move |i| at_second(first + i * every_s)).take_while(move |at| *at < stretch.to))
            }
            Cadence::Cron(cron, zone) => Box::new(cron.due(stretch, zone)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn every_five_minutes_is_288_runs_a_day_every_minute_1440_and_once_is_one() {
        // Arithmetic.
        let day = Stretch { from: at_second(86_400 * 20_000), to: at_second(86_400 * 20_001) };
        for nth in 0..8 {
            assert_eq!(Cadence::every(300, nth).due(day).count(), 288);
            assert_eq!(Cadence::every(60, nth).due(day).count(), 1_440);
        }
        let once = Cadence::Once(at_second(86_400 * 20_000 + 5));
        assert_eq!((once.due(day).count(), once.last_due(day.from), once.last_due(day.to).is_some()), (1, None, true));
        let hourly = Cadence::Cron("0 * * * *".parse().unwrap(), TimeZone::UTC);
        assert_eq!(hourly.due(day).count(), 24);
        assert_eq!(hourly.last_due(at_second(86_400 * 20_000 + 3_599)), Some(day.from));
    }

    #[test]
    fn eight_locations_start_evenly_and_a_ninth_moves_none_of_them() {
        let mut offsets: Vec<i64> = (0..8)
            .map(|nth| match Cadence::every(480, nth) {
                Cadence::Every { offset_s, .. } => offset_s,
                other => panic!("{other:?}"),
            })
            .collect();
        offsets.sort_unstable();
        assert_eq!(offsets, [0, 60, 120, 180, 240, 300, 360, 420]);
    }

    proptest! {
        #[test]
        fn due_moments_are_the_same_however_the_time_is_cut(
            every in 60i64..4_000, nth in 0usize..9, from in 0i64..100_000, a in 1i64..9_000, b in 1i64..9_000,
        ) {
            for c in [Cadence::every(every, nth), Cadence::Cron("*/7 1-22 * * *".parse().unwrap(), TimeZone::UTC), Cadence::Once(at_second(from + a))] {
                let cut = |x: i64, y: i64| c.due(Stretch { from: at_second(x), to: at_second(y) }).collect::<Vec<_>>();
                let mut parts = cut(from, from + a);
                parts.extend(cut(from + a, from + a + b));
                prop_assert_eq!(&parts, &cut(from, from + a + b));
                prop_assert_eq!(c.last_due(at_second(from + a + b - 1)).filter(|d| *d >= at_second(from)), parts.last().copied());
            }
        }
    }
}
