//! What a measure usually is at an hour of the week, and how far from that it is.
//!
//! Its usual at a quarter of an hour is the median of the windows that ended within [`NEAR_S`] of the same local time in each of
//! the last [`WEEKS`] weeks. One *spread* tells how well that foretells: 1.4826 times the median of how far each week's windows lay
//! from the median of the other weeks at the same time, over all that ended within [`BESIDE_S`]; where they are normal that is their
//! standard deviation. Both stay where they are when one of the weeks had an outage in it. A spread is never less than
//! [`least_spread`]: what hardly ever moves is not unlike itself for a trifle. What is judged is by how many spreads a value lies
//! on the worse side of the median.

use crate::calendar::stretch::at_second;
use crate::measure::windowed::Moment;
use crate::measure::{Unit, Worse};
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Span, Timestamp};
use serde::{Deserialize, Serialize};

/// So many weeks are looked back at.
pub const WEEKS: usize = 5;
/// Of so many of them something has to be known.
pub const LEAST_WEEKS: usize = 3;
/// The usual is told for pieces of so many seconds: a quarter of an hour.
pub const PIECE_S: i64 = 900;
/// The median is that of windows that ended at most so many seconds before or after the same time of the week: half an hour.
pub const NEAR_S: i64 = 1_800;
/// And a spread is told by windows that ended so many seconds before or after the same time of the week: an hour and a half.
pub const BESIDE_S: i64 = 5_400;
/// The standard deviation of a normal distribution in medians of distances from its median: 1 / Φ⁻¹(3/4).
pub const NORMAL: f64 = 1.482_602_218_505_602;
/// A spread is at least this share of the median. (Common practice, no published source.)
pub const LEAST_SHARE: f64 = 0.025;

/// What is usual at some time of the week.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Usual {
    /// The median.
    pub middle: f64,
    /// One spread, in the unit of the measure; more than nought.
    pub spread: f64,
}

impl Usual {
    /// By how many spreads a value is worse than the median; below nought when it is better.
    pub fn beyond(&self, value: f64, worse: Worse) -> f64 {
        match worse {
            Worse::Above => (value - self.middle) / self.spread,
            Worse::Below => (self.middle - value) / self.spread,
        }
    }

    /// The value that is so many spreads worse than the median.
    pub fn at(&self, spreads: f64, worse: Worse) -> f64 {
        match worse {
            Worse::Above => self.middle + spreads * self.spread,
            Worse::Below => self.middle - spreads * self.spread,
        }
    }
}

/// When the piece begins that a moment lies in.
pub fn piece(at: Timestamp) -> Timestamp {
    at_second(at.as_second().div_euclid(PIECE_S) * PIECE_S)
}

/// The ends of the windows that tell what is usual in a piece, by week, the last first. The same time of the week is that of
/// clocks on the wall, also where they were put forward or back in between.
pub fn ends(piece: Timestamp, zone: &TimeZone) -> [Vec<Timestamp>; WEEKS] {
    let here = piece.to_zoned(zone.clone());
    std::array::from_fn(|nth| {
        let ago = Span::new().weeks(nth as i64 + 1);
        let Ok(then) = here.checked_sub(ago) else { return Vec::new() };
        // Zones that are not whole minutes away had seconds in between, long ago.
        let then = at_second(then.timestamp().as_second().div_euclid(60) * 60);
        let beside = -BESIDE_S / PIECE_S..=BESIDE_S / PIECE_S;
        beside.map(|n| then + SignedDuration::from_secs(n * PIECE_S)).collect()
    })
}

/// The least that a spread is: of counts what chance alone makes of them, of shares the same with so many samples each, of
/// everything else [`LEAST_SHARE`] of the median.
pub fn least_spread(unit: Unit, middle: f64, samples: u64) -> f64 {
    let share = middle.abs() * LEAST_SHARE;
    match unit {
        // A count that comes by chance has its own root as standard deviation (Poisson).
        Unit::Count => middle.max(1.0).sqrt().max(share),
        Unit::Share => {
            let n = samples.max(1) as f64;
            let of = middle.clamp(1.0 / n, 1.0 - 1.0 / n).clamp(0.0, 1.0);
            (of * (1.0 - of) / n).sqrt().max(share.min((1.0 - middle) * LEAST_SHARE)).max(0.001)
        }
        Unit::Ms | Unit::Bytes => share.max(1.0),
        Unit::Plain | Unit::Times => share.max(0.001),
        Unit::State => share.max(1.0),
    }
}

/// What is usual by what the windows of each week came to, in the order of [`ends`]; `None` where too few weeks tell.
pub fn of(unit: Unit, weeks: &[Vec<Option<Moment>>]) -> Option<Usual> {
    let value = |m: &Option<Moment>| m.and_then(|m| m.value);
    let told = |week: &&Vec<Option<Moment>>| week.iter().any(|m| value(m).is_some());
    if weeks.iter().filter(told).count() < LEAST_WEEKS {
        return None;
    }
    let longest = weeks.iter().map(Vec::len).max()?;
    let (half, near) = (longest / 2, (NEAR_S / PIECE_S) as usize);
    let at = |nth: usize| weeks.iter().filter_map(move |week| value(week.get(nth)?));
    let close = (0..longest).filter(|nth| nth.abs_diff(half) <= near);
    let middle = median(close.flat_map(at).collect())?;
    let mut far = Vec::with_capacity(longest * weeks.len());
    for nth in 0..longest {
        let here: Vec<f64> = at(nth).collect();
        for (own, value) in here.iter().enumerate() {
            let others = here.iter().enumerate().filter(|(other, _)| *other != own);
            far.extend(median(others.map(|(_, v)| *v).collect()).map(|m| (value - m).abs()));
        }
    }
    let samples = weeks.iter().flatten().flatten().map(|m| m.samples as f64);
    let least = least_spread(unit, middle, median(samples.collect())? as u64);
    Some(Usual { middle, spread: (median(far)? * NORMAL).max(least) })
}

/// The value in the middle; of an even number the mean of the two.
fn median(mut values: Vec<f64>) -> Option<f64> {
    if values.is_empty() {
        return None;
    }
    values.sort_by(f64::total_cmp);
    let half = values.len() / 2;
    match values.len() % 2 {
        1 => Some(values[half]),
        _ => Some((values[half - 1] + values[half]) / 2.0),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rand::rngs::SmallRng;
    use rand::{Rng, SeedableRng};
    use rand_distr::StandardNormal;
    use statrs::distribution::{ContinuousCDF, Normal};

    fn moments(values: &[f64]) -> Vec<Option<Moment>> {
        let of = |(nth, value): (usize, &f64)| {
            let at = at_second(nth as i64 * PIECE_S);
            Some(Moment { at, value: Some(*value), samples: 100, places: 1 })
        };
        values.iter().enumerate().map(of).collect()
    }

    #[test]
    fn a_spread_is_the_standard_deviation_of_what_is_foretold_and_no_curve_of_the_day_makes_it_wider()
     {
        let normal = Normal::new(0.0, 1.0).unwrap();
        assert!((NORMAL - 1.0 / normal.inverse_cdf(0.75)).abs() < 1e-6);
        // Five weeks by chance around a morning on which every quarter of an hour has 300 more than the one before.
        let mut luck = SmallRng::seed_from_u64(1);
        let mut week = || {
            let around = |nth: i32| 1_000.0 + f64::from(nth) * 300.0;
            moments(
                &(0..13)
                    .map(|n| around(n) + 100.0 * luck.sample::<f64, _>(StandardNormal))
                    .collect::<Vec<_>>(),
            )
        };
        let all: Vec<Usual> =
            (0..400).map(|_| of(Unit::Ms, &[(); WEEKS].map(|()| week())).unwrap()).collect();
        let mean = |of: fn(&Usual) -> f64| all.iter().map(of).sum::<f64>() / all.len() as f64;
        assert!((mean(|u| u.middle) - 2_800.0).abs() < 20.0, "{}", mean(|u| u.middle));
        // The median of four others has a standard deviation of its own, 0.55 of theirs (order statistics of four).
        let foretold = 100.0 * (1.0 + 0.298f64).sqrt();
        assert!((mean(|u| u.spread) / foretold - 1.0).abs() < 0.12, "{}", mean(|u| u.spread));
        let usual = Usual { middle: 2_500.0, spread: 200.0 };
        assert_eq!(
            [usual.beyond(3_100.0, Worse::Above), usual.beyond(1_900.0, Worse::Below)],
            [3.0, 3.0]
        );
    }

    #[test]
    fn the_same_time_of_the_week_is_that_of_clocks_on_the_wall() {
        let oslo = TimeZone::get("Europe/Oslo").unwrap();
        // Clocks went back on 25 October 2026: nine in the morning was 07:00Z before it and 08:00Z after it.
        let nine: Timestamp = "2026-10-26T08:00:00Z".parse().unwrap();
        let weeks = ends(nine, &oslo);
        let middle = |week: &Vec<Timestamp>| week[week.len() / 2].to_string();
        assert_eq!(middle(&weeks[0]), "2026-10-19T07:00:00Z");
        assert_eq!(
            middle(&ends("2026-10-20T07:00:00Z".parse().unwrap(), &oslo)[0]),
            "2026-10-13T07:00:00Z"
        );
        assert_eq!(weeks.iter().map(Vec::len).collect::<Vec<_>>(), [13; WEEKS]);
        assert_eq!(
            (weeks[0][0], weeks[0][12]),
            (
                nine - SignedDuration::from_secs(608_400 + 5_400),
                nine - SignedDuration::from_secs(608_400 - 5_400)
            )
        );
        assert_eq!(piece("2026-10-26T08:14:59Z".parse().unwrap()), nine);
    }

    #[test]
    fn two_weeks_tell_nothing_and_what_never_moves_is_not_unlike_itself_for_a_trifle() {
        let week = moments(&[0.0; 7]);
        assert_eq!(of(Unit::Share, &vec![week.clone(); 2]), None);
        let none = vec![None; 7];
        assert_eq!(of(Unit::Share, &[week.clone(), week.clone(), none]), None);
        // No run of 100 failed, ever: one is what chance makes of one in a hundred, four are not.
        let usual = of(Unit::Share, &vec![week; 3]).unwrap();
        assert!(
            usual.beyond(0.01, Worse::Above) < 1.1 && usual.beyond(0.05, Worse::Above) > 4.0,
            "{usual:?}"
        );
        let usual = of(Unit::Count, &vec![moments(&[100.0; 7]); 3]).unwrap();
        assert_eq!((usual.spread, usual.beyond(60.0, Worse::Below)), (10.0, 4.0));
    }

    proptest! {
        #[test]
        fn one_bad_week_of_five_moves_the_usual_no_further_than_the_others_reach(
            values in prop::collection::vec(prop::collection::vec(1_000.0..2_000.0f64, 13), 4), outage in 5_000.0..1e6f64, nth in 0usize..5,
        ) {
            let mut weeks: Vec<Vec<Option<Moment>>> = values.iter().map(|v| moments(v)).collect();
            weeks.insert(nth, moments(&[outage; 13]));
            let usual = of(Unit::Ms, &weeks).unwrap();
            prop_assert!((1_000.0..2_000.0).contains(&usual.middle), "{usual:?}");
            // Four of five weeks lie within a thousand of each other, so the middle of what they foretell does.
            prop_assert!(usual.spread <= 1_000.0 * NORMAL && usual.spread >= 1_000.0 * LEAST_SHARE, "{usual:?}");
            prop_assert!((usual.at(usual.beyond(outage, Worse::Above), Worse::Above) - outage).abs() < 1e-6 * outage);
        }

        #[test]
        fn a_spread_is_never_nought(middle in 0.0..1e6f64, samples in 0u64..1_000_000, nth in 0usize..6) {
            let unit = [Unit::Ms, Unit::Share, Unit::Count, Unit::Plain, Unit::Times, Unit::State][nth];
            let middle = if unit == Unit::Share { (middle / 1e6).min(1.0) } else { middle };
            let least = least_spread(unit, middle, samples);
            prop_assert!(least > 0.0 && least.is_finite());
        }
    }
}
