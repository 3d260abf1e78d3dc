//! The level of a journey over weeks: one value an hour, whatever locations happened to play in it.

use super::spell::Gathered;
use crate::calendar::Stretch;
use crate::stats::change::Bucket;
use crate::stats::{Method, Samples};
use jiff::Timestamp;
use std::collections::HashMap;

/// A run that got through.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Timing {
    /// When it was due.
    pub at: Timestamp,
    /// From where.
    pub location: i32,
    /// How long it took, in milliseconds.
    pub ms: f64,
}

/// Hours of the stretch, each the median of its runs' durations as shares of the usual at their own
/// location (its median over the stretch). A location that falls silent for a day therefore changes
/// nothing, however far away it is.
pub fn hours(timings: &[Timing], stretch: Stretch) -> Vec<Bucket> {
    let mut places: HashMap<i32, Vec<f64>> = HashMap::new();
    for t in timings.iter().filter(|t| t.ms > 0.0) {
        places.entry(t.location).or_default().push(t.ms);
    }
    let median = |ms: Vec<f64>| Samples::new(ms).percentile(0.5, Method::NearestRank);
    let usual: HashMap<i32, f64> =
        places.into_iter().filter_map(|(l, ms)| Some((l, median(ms)?))).collect();
    let mut hours: Vec<Vec<f64>> =
        vec![Vec::new(); usize::try_from(stretch.seconds() / 3_600).unwrap_or(0)];
    for t in timings {
        let hour = (t.at.as_second() - stretch.from.as_second()).div_euclid(3_600);
        let share = usual.get(&t.location).map(|u| t.ms / u).filter(|s| *s > 0.0);
        if let Some((hour, share)) =
            usize::try_from(hour).ok().and_then(|h| hours.get_mut(h)).zip(share)
        {
            hour.push(share);
        }
    }
    let bucket = |shares: Vec<f64>| Bucket { samples: shares.len() as u64, value: median(shares) };
    hours.into_iter().map(bucket).collect()
}

/// What each part has of the sum of all, in per cent; nothing of nothing.
pub fn shares<const N: usize>(parts: impl Iterator<Item = [f64; N]>) -> [f64; N] {
    let sums = parts.fold([0.0; N], |sums, part| std::array::from_fn(|i| sums[i] + part[i]));
    let whole: f64 = sums.iter().sum();
    if whole > 0.0 { sums.map(|sum| 100.0 * sum / whole) } else { [0.0; N] }
}

/// The mean of the places' own medians; `None` when any place has none, since a place that falls silent would move
/// the rest.
pub fn of_places(places: impl Iterator<Item = Samples>) -> Option<f64> {
    let medians: Option<Vec<f64>> =
        places.map(|p| p.percentile(0.5, Method::NearestRank)).collect();
    medians.filter(|m| !m.is_empty()).map(|m| m.iter().sum::<f64>() / m.len() as f64)
}

/// A period in which a journey got through from everywhere, or did not from somewhere.
#[derive(Debug, Clone, PartialEq)]
pub struct Period<'a> {
    /// From when to when.
    pub stretch: Stretch,
    /// What was wrong; `None` when it got through from everywhere.
    pub down: Option<Gathered<'a>>,
}

/// The stretch as periods up and down, one after another without gaps.
pub fn periods<'a>(mut troubles: Vec<Gathered<'a>>, stretch: Stretch) -> Vec<Period<'a>> {
    troubles.sort_by_key(|t| t.stretch.from);
    let mut periods = Vec::new();
    let mut at = stretch.from;
    for trouble in troubles {
        let from = trouble.stretch.from.max(at);
        let to = trouble.stretch.to.min(stretch.to);
        if to <= from {
            continue;
        }
        if from > at {
            periods.push(Period { stretch: Stretch { from: at, to: from }, down: None });
        }
        periods.push(Period { stretch: Stretch { from, to }, down: Some(trouble) });
        at = to;
    }
    if at < stretch.to {
        periods.push(Period { stretch: Stretch { from: at, to: stretch.to }, down: None });
    }
    periods
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::calendar::stretch::at_second;
    use proptest::prelude::*;

    fn two_weeks() -> Stretch {
        Stretch { from: at_second(0), to: at_second(14 * 86_400) }
    }

    fn timings(ms: impl Fn(i64, i32) -> f64, plays: impl Fn(i64, i32) -> bool) -> Vec<Timing> {
        let all =
            (0..14 * 24).flat_map(|h| (0..12).flat_map(move |i| (0..4).map(move |l| (h, i, l))));
        all.filter(|(h, _, l)| plays(*h, *l))
            .map(|(h, i, location)| Timing {
                at: at_second(h * 3_600 + i * 300),
                location,
                ms: ms(h, location) * (1.0 + 0.01 * ((i * 7 + h) % 5) as f64),
            })
            .collect()
    }

    #[test]
    fn a_far_location_that_falls_silent_moves_no_level_and_a_slower_site_does() {
        let far = |l: i32| [400.0, 600.0, 900.0, 3_000.0][l as usize];
        let silent = hours(
            &timings(|_, l| far(l), |h, l| !(l == 3 && (100..180).contains(&h))),
            two_weeks(),
        );
        assert_eq!(crate::stats::change::changes(&silent, 24), []);
        let slower = hours(
            &timings(|h, l| far(l) * if h >= 200 { 1.2 } else { 1.0 }, |_, _| true),
            two_weeks(),
        );
        let changes = crate::stats::change::changes(&slower, 24);
        assert_eq!(changes.iter().map(|c| c.at).collect::<Vec<_>>(), [200]);
        assert!((changes[0].ratio - 1.2).abs() < 0.03, "{changes:?}");
    }

    #[test]
    fn shares_are_of_all_time_and_a_silent_place_leaves_no_level() {
        // Arithmetic: 1 + 3, 2 + 2 and 1 + 1 of 10.
        assert_eq!(shares([[1.0, 2.0, 1.0], [3.0, 2.0, 1.0]].into_iter()), [40.0, 40.0, 20.0]);
        assert_eq!(shares(std::iter::empty::<[f64; 2]>()), [0.0, 0.0]);
        let places = |silent: bool| {
            let far = if silent { vec![] } else { vec![800.0, 900.0, 1_000.0] };
            of_places([Samples::new([100.0, 300.0, 200.0]), Samples::new(far)].into_iter())
        };
        assert_eq!((places(false), places(true)), (Some(550.0), None));
        assert_eq!(of_places(std::iter::empty()), None);
    }

    proptest! {
        #[test]
        fn periods_cover_the_stretch_once(from in prop::collection::vec((0i64..100_000, 1i64..20_000), 0..6)) {
            let whole = Stretch { from: at_second(5_000), to: at_second(90_000) };
            let mut troubles: Vec<Gathered<'_>> = from.iter().map(|(f, l)| Gathered {
                stretch: Stretch { from: at_second(*f), to: at_second(f + l) }, lasts: false, places: vec!["a"], runs: 2,
            }).collect();
            troubles.sort_by_key(|t| t.stretch.from);
            let periods = periods(troubles, whole);
            prop_assert_eq!(periods.iter().map(|p| p.stretch.seconds()).sum::<i64>(), whole.seconds());
            for pair in periods.windows(2) {
                prop_assert_eq!(pair[0].stretch.to, pair[1].stretch.from);
                prop_assert!(pair[0].down.is_some() || pair[1].down.is_some());
            }
        }
    }
}
