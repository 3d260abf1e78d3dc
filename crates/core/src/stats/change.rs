//! Since when: the moments at which a noisy series with a daily rhythm changed its level.
//!
//! Times multiply rather than add, so the series is taken in logarithms: a change of 15 % is the
//! same step at night as at noon. The rhythm of the day is taken out as the median of each bucket
//! of the day against the level around it; then the series is cut into the levels that explain it
//! best, each further cut paying a fixed price, and rhythm and levels are found again from each
//! other until they agree. The cut itself is optimal partitioning: Jackson and others, "An
//! algorithm for optimal partitioning of data on an interval", IEEE Signal Processing Letters 12
//! (2005), from memory.

use super::Interval;
use super::compare::normal_below;
use super::share::Z95;
use serde::Serialize;

/// One bucket of the series.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Bucket {
    /// The reading of the bucket, above zero; `None` without samples.
    pub value: Option<f64>,
    /// How many there are.
    pub samples: u64,
}

/// A lasting change of level.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Change {
    /// The first bucket of the new level.
    pub at: usize,
    /// New level over old: 1.15 is 15 % more.
    pub ratio: f64,
    /// 95 % interval of the ratio.
    pub interval: Interval,
    /// How likely a step this large is at any one of the series' buckets while nothing changes.
    pub p: f64,
}

/// A level lasts at least this many buckets: fewer are an episode, not a change.
const LEAST: usize = 4;
/// What a further cut must gain, in squared standard errors per logarithm of the series' length.
/// The rate of false alarms that follows is measured in the tests.
const PRICE: f64 = 3.4;
/// No series is taken to be quieter than a thousandth: without noise, rounding would be a change.
const FINEST: f64 = 0.001;
/// A bucket further than this many deviations from those around it counts as that far.
const FARTHEST: f64 = 3.0;

/// The changes of level in a series of even buckets, `per_day` of them a day (0: no rhythm), in
/// order of time. A rhythm needs three days; a shorter series is taken as it stands.
pub fn changes(series: &[Bucket], per_day: usize) -> Vec<Change> {
    let held: Vec<(usize, f64, f64)> = {
        let mut counts: Vec<u64> =
            series.iter().filter(|b| b.value.is_some()).map(|b| b.samples.max(1)).collect();
        counts.sort_unstable();
        let usual = counts.get(counts.len() / 2).copied().unwrap_or(1) as f64;
        series
            .iter()
            .enumerate()
            .filter_map(|(i, b)| {
                let value = b.value.filter(|v| *v > 0.0 && v.is_finite())?;
                // Half of the noise is the bucket's own sampling, half would be there anyway.
                let n = b.samples.max(1) as f64;
                Some((i, value.ln(), 2.0 * n / (n + usual)))
            })
            .collect()
    };
    if held.len() < 2 * LEAST {
        return vec![];
    }
    let rhythmic = per_day > 1 && series.len() >= 3 * per_day;
    let mut levels = around(&held, per_day.max(7));
    let mut cuts = Vec::new();
    for _ in 0..4 {
        let flat = if rhythmic { without_rhythm(&held, &levels, per_day) } else { held.clone() };
        let tamed = tamed(&flat);
        let found = cut(&tamed);
        let same = found == cuts;
        cuts = found;
        if same || !rhythmic {
            return judged(&tamed, &cuts);
        }
        levels = levels_of(&tamed, &cuts);
    }
    let flat = without_rhythm(&held, &levels, per_day);
    judged(&tamed(&flat), &cuts)
}

fn median(values: &mut [f64]) -> f64 {
    if values.is_empty() {
        return 0.0;
    }
    let middle = values.len() / 2;
    *values.select_nth_unstable_by(middle, f64::total_cmp).1
}

/// The running median over `width` places around each: a level that follows changes.
fn around(held: &[(usize, f64, f64)], width: usize) -> Vec<f64> {
    (0..held.len())
        .map(|i| {
            let from = i.saturating_sub(width / 2).min(held.len().saturating_sub(width));
            let mut near: Vec<f64> =
                held[from..(from + width).min(held.len())].iter().map(|h| h.1).collect();
            median(&mut near)
        })
        .collect()
}

fn without_rhythm(
    held: &[(usize, f64, f64)],
    levels: &[f64],
    per_day: usize,
) -> Vec<(usize, f64, f64)> {
    let mut by_phase = vec![Vec::new(); per_day];
    for ((i, value, _), level) in held.iter().zip(levels) {
        by_phase[i % per_day].push(value - level);
    }
    let rhythm: Vec<f64> = by_phase.iter_mut().map(|v| median(v)).collect();
    held.iter().map(|(i, value, weight)| (*i, value - rhythm[i % per_day], *weight)).collect()
}

/// The deviation of one bucket of usual weight, from differences of neighbours so that changes of
/// level do not count.
fn deviation(held: &[(usize, f64, f64)]) -> f64 {
    apart(held, 1..=1).max(FINEST)
}

/// The deviation of one bucket of usual weight, from differences of buckets that far apart.
fn apart(held: &[(usize, f64, f64)], lags: std::ops::RangeInclusive<usize>) -> f64 {
    let step = |a: &(usize, f64, f64), b: &(usize, f64, f64)| {
        (b.1 - a.1).abs() / (1.0 / a.2 + 1.0 / b.2).sqrt()
    };
    let mut steps: Vec<f64> = lags
        .flat_map(|lag| held.iter().zip(&held[lag.min(held.len())..]).map(move |(a, b)| step(a, b)))
        .collect();
    // The median of the absolute normal deviate is 0.6745.
    median(&mut steps) / 0.674_49
}

/// Buckets far from those around them, drawn nearer: one outlier is no change.
fn tamed(held: &[(usize, f64, f64)]) -> Vec<(usize, f64, f64)> {
    let most = FARTHEST * deviation(held);
    let levels = around(held, 7);
    held.iter()
        .zip(levels)
        .map(|((i, value, weight), level)| {
            let reach = most / weight.sqrt();
            (*i, value.clamp(level - reach, level + reach), *weight)
        })
        .collect()
}

/// First places of all levels but the first, by optimal partitioning.
fn cut(held: &[(usize, f64, f64)]) -> Vec<usize> {
    let n = held.len();
    let sums = sums(held);
    // Sum of squares about the mean of places a to b.
    let cost = |a: usize, b: usize| {
        let (w, x, xx) = (sums[b].0 - sums[a].0, sums[b].1 - sums[a].1, sums[b].2 - sums[a].2);
        (xx - x * x / w).max(0.0)
    };
    let price = price(held);
    let mut best = vec![f64::INFINITY; n + 1];
    let mut from = vec![0usize; n + 1];
    best[0] = -price;
    for end in LEAST..=n {
        for start in (0..=end - LEAST).filter(|s| *s == 0 || *s >= LEAST) {
            let total = best[start] + cost(start, end) + price;
            if total < best[end] {
                best[end] = total;
                from[end] = start;
            }
        }
    }
    let mut cuts = Vec::new();
    let mut at = from[n];
    while at > 0 {
        cuts.push(at);
        at = from[at];
    }
    cuts.reverse();
    cuts
}

fn price(held: &[(usize, f64, f64)]) -> f64 {
    PRICE * (held.len() as f64).ln() * (deviation(held) * together(held)).powi(2)
}

/// How many times wider the error of a mean is than [`deviation`] says, where neighbours go
/// together: such neighbours differ less from each other than from buckets further off. For noise
/// of which a share r goes on from one bucket to the next (autoregressive of order one), differences
/// of neighbours have the variance (1 − r) of those far apart, and the variance of a mean is
/// (1 + r) / (1 − r) times that of independent buckets.
fn together(held: &[(usize, f64, f64)]) -> f64 {
    let far = apart(held, 9..=13);
    let near = deviation(held);
    let r = if far > near { (1.0 - (near / far).powi(2)).min(0.9) } else { 0.0 };
    (1.0 + r).sqrt() / (1.0 - r)
}

fn sums(held: &[(usize, f64, f64)]) -> Vec<(f64, f64, f64)> {
    let mut sums = vec![(0.0, 0.0, 0.0)];
    for (_, x, w) in held {
        let (a, b, c) = sums[sums.len() - 1];
        sums.push((a + w, b + w * x, c + w * x * x));
    }
    sums
}

fn levels_of(held: &[(usize, f64, f64)], cuts: &[usize]) -> Vec<f64> {
    let ends = cuts.iter().copied().chain([held.len()]);
    let mut levels = Vec::with_capacity(held.len());
    let mut start = 0;
    for end in ends {
        let mut part: Vec<f64> = held[start..end].iter().map(|h| h.1).collect();
        let level = median(&mut part);
        levels.extend(std::iter::repeat_n(level, end - start));
        start = end;
    }
    levels
}

/// Size, interval and sureness of each cut.
fn judged(held: &[(usize, f64, f64)], cuts: &[usize]) -> Vec<Change> {
    let sums = sums(held);
    let error = deviation(held) * together(held);
    let ends: Vec<usize> =
        [0].into_iter().chain(cuts.iter().copied()).chain([held.len()]).collect();
    ends.windows(3)
        .map(|w| {
            let part = |a: usize, b: usize| {
                (sums[b].0 - sums[a].0, (sums[b].1 - sums[a].1) / (sums[b].0 - sums[a].0))
            };
            let ((w1, old), (w2, new)) = (part(w[0], w[1]), part(w[1], w[2]));
            let (by, error) = (new - old, error * (1.0 / w1 + 1.0 / w2).sqrt());
            let z = if error > 0.0 { by.abs() / error } else { f64::INFINITY };
            Change {
                at: held[w[1]].0,
                ratio: by.exp(),
                interval: Interval {
                    low: (by - Z95 * error).exp(),
                    high: (by + Z95 * error).exp(),
                },
                p: (2.0 * normal_below(-z) * held.len() as f64).min(1.0),
            }
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rand::rngs::SmallRng;
    use rand::{Rng, SeedableRng};
    use rand_distr::{Distribution, LogNormal, StandardNormal};

    /// Two weeks of hours, each the median of some samples as they come: log-normal around a level
    /// with a daily rhythm, fewer at night; now and then an hour that is far off for a reason of
    /// its own, or has no sample at all. `busy` is how many times eighty samples an hour has.
    fn two_weeks(seed: u64, busy: f64, shift: Option<(usize, f64)>) -> Vec<Bucket> {
        let mut rng = SmallRng::seed_from_u64(seed);
        let spread = LogNormal::new(0.0, 0.45).unwrap();
        (0..336)
            .map(|hour| {
                let day = (hour % 24) as f64 / 24.0 * std::f64::consts::TAU;
                let level = 1_400.0
                    * (1.0 + 0.25 * day.sin())
                    * shift.map_or(1.0, |(at, by)| if hour >= at { by } else { 1.0 });
                let own = (0.03 * rng.sample::<f64, _>(StandardNormal)).exp()
                    * if rng.random_bool(0.01) { 1.6 } else { 1.0 };
                let samples = (busy * (80.0 + 50.0 * day.sin())) as u64;
                let mut values: Vec<f64> =
                    (0..samples).map(|_| level * own * spread.sample(&mut rng)).collect();
                let value = (!rng.random_bool(0.01)).then(|| median(&mut values));
                Bucket { value, samples }
            })
            .collect()
    }

    #[test]
    fn a_shift_of_15_percent_is_found_within_two_buckets() {
        // Hours of 80 samples are off by about 8 % each, hours of 240 by about 5 %.
        for (busy, least) in [(1.0, 255), (3.0, 291)] {
            let (mut found, mut near, mut sized) = (0, 0, 0);
            for seed in 0..300u64 {
                let at = 30 + (seed as usize * 37) % 276;
                let by = if seed % 2 == 0 { 1.15 } else { 1.0 / 1.15 };
                let changes = changes(&two_weeks(seed, busy, Some((at, by))), 24);
                found += u32::from(!changes.is_empty());
                if let Some(c) = changes.iter().find(|c| c.at.abs_diff(at) <= 2) {
                    near += 1;
                    sized += u32::from((c.interval.low..=c.interval.high).contains(&by));
                }
            }
            eprintln!(
                "of 300 shifts: {found} seen, {near} within two buckets, {sized} with the true size in the interval"
            );
            assert!(near >= least && found >= 299, "{found} seen, {near} near");
        }
    }

    #[test]
    fn unshifted_noise_raises_a_false_alarm_in_few_of_a_thousand_series() {
        let false_alarms = (0..1_000)
            .filter(|seed| !changes(&two_weeks(10_000 + seed, 1.0, None), 24).is_empty())
            .count();
        eprintln!("{false_alarms} false alarms in 1,000 series");
        assert!(false_alarms <= 10, "{false_alarms}");
    }

    #[test]
    fn noise_whose_neighbours_go_together_is_not_taken_for_changes() {
        for share in [0.3, 0.5, 0.7] {
            let (mut alarms, mut seen) = (0, 0);
            for seed in 0..500 {
                let series = |by: f64| -> Vec<Bucket> {
                    let mut rng = SmallRng::seed_from_u64(seed);
                    let mut off = 0.0;
                    let hour = |h: usize| {
                        let own: f64 = rng.sample(StandardNormal);
                        off = share * off + (1.0f64 - share * share).sqrt() * 0.06 * own;
                        let day = (h % 24) as f64 / 24.0 * std::f64::consts::TAU;
                        let level =
                            1_400.0 * (1.0 + 0.25 * day.sin()) * if h < 150 { 1.0 } else { by };
                        Bucket { value: Some(level * off.exp()), samples: 100 }
                    };
                    (0..336).map(hour).collect()
                };
                alarms += u32::from(!changes(&series(1.0), 24).is_empty());
                seen += u32::from(!changes(&series(1.15), 24).is_empty());
            }
            eprintln!("{share} goes on: {alarms} false alarms and {seen} shifts seen, of 500");
            assert!(alarms <= 10 && seen >= 495, "{share}: {alarms} {seen}");
        }
    }

    #[test]
    fn a_series_without_noise_changes_where_it_changes_and_an_outlier_is_no_change() {
        let series = |value: &dyn Fn(usize) -> f64| -> Vec<Bucket> {
            (0..100).map(|i| Bucket { value: Some(value(i)), samples: 10 }).collect()
        };
        assert_eq!(changes(&series(&|_| 5.0), 24), []);
        let step = changes(&series(&|i| if i < 40 { 100.0 } else { 130.0 }), 0);
        assert_eq!(step.iter().map(|c| c.at).collect::<Vec<_>>(), [40]);
        assert!((step[0].ratio - 1.3).abs() < 1e-9);
        let wobble = |i: usize| 100.0 + (i * 7 % 11) as f64;
        assert_eq!(changes(&series(&|i| if i == 50 { 2_000.0 } else { wobble(i) }), 0), []);
        assert_eq!(changes(&series(&wobble)[..7], 0), [], "too short to say");
    }
}
