//! Shares of a whole, their intervals, and how they are printed.

use super::Interval;
use super::percentile::binomial;

/// The 97.5 % point of the normal distribution: 95 % lie between it and its negative.
pub const Z95: f64 = 1.959_963_984_540_054;

/// Whether both counts are known and `part` of `whole` can be said, as a fraction from 0 to 1.
pub fn share(part: u64, whole: u64) -> Option<f64> {
    (whole > 0).then(|| part as f64 / whole as f64)
}

/// What is printed where there is nothing to print.
pub const NO_DATA: &str = "no data";

/// A share as a percentage with its sign that never looks better than it is, or that there is no data.
pub fn percent(share: Option<f64>, decimals: usize, goal: Option<f64>) -> String {
    share.map_or_else(|| NO_DATA.into(), |s| format!("{} %", share_text(s, decimals, goal)))
}

/// A share as a percentage with `decimals` places, rounded *towards failing*: a share below
/// `goal` is never printed as one that meets it.
///
/// 98.9996 against a goal of 99 prints as `98.99`, not `99.00`.
pub fn share_text(share: f64, decimals: usize, goal: Option<f64>) -> String {
    let percent = share * 100.0;
    let scale = 10f64.powi(decimals as i32);
    let mut rounded = (percent * scale).round() / scale;
    let missed = |limit: f64| share < limit && rounded >= limit * 100.0;
    // Anything short of everything is printed short of everything, goal or none.
    if goal.is_some_and(missed) || missed(1.0) {
        rounded = (percent * scale).floor() / scale;
    }
    if share > 0.0 && rounded == 0.0 {
        return format!("<{:.decimals$}", 1.0 / scale);
    }
    format!("{rounded:.decimals$}")
}

/// 95 % score interval of a share. Source: Wilson, "Probable inference, the law of succession, and
/// statistical inference", JASA 22 (1927); checked against scipy. `None` without samples.
///
/// `samples` need not be whole: runs that fail together weigh less than their number.
pub fn wilson(part: f64, samples: f64) -> Option<Interval> {
    if samples <= 0.0 {
        return None;
    }
    let (p, z2) = (part / samples, Z95 * Z95);
    let middle = (p + z2 / (2.0 * samples)) / (1.0 + z2 / samples);
    let reach = Z95 / (1.0 + z2 / samples)
        * (p * (1.0 - p) / samples + z2 / (4.0 * samples * samples)).sqrt();
    let low = if part <= 0.0 { 0.0 } else { (middle - reach).max(0.0) };
    let high = if part >= samples { 1.0 } else { (middle + reach).min(1.0) };
    Some(Interval { low, high })
}

/// Exact 95 % interval of a share, never too narrow. Source: Clopper and Pearson, "The use of
/// confidence or fiducial limits", Biometrika 26 (1934); checked against scipy. `None` without
/// samples or when `part` exceeds them.
pub fn clopper_pearson(part: u64, samples: u64) -> Option<Interval> {
    if samples == 0 || part > samples {
        return None;
    }
    // The share at which so few, or so many, would come up in one case of forty.
    let below = |share: f64, end: u64| {
        let (first, chances) = binomial(samples, share);
        chances.iter().take(end.saturating_sub(first) as usize).sum::<f64>()
    };
    let low = if part == 0 { 0.0 } else { halving(|share| 1.0 - below(share, part) < 0.025) };
    let high = if part == samples { 1.0 } else { halving(|share| below(share, part + 1) > 0.025) };
    Some(Interval { low, high })
}

/// The share from 0 to 1 up to which something holds.
fn halving(holds: impl Fn(f64) -> bool) -> f64 {
    let (mut low, mut high) = (0.0, 1.0);
    for _ in 0..56 {
        let middle = (low + high) / 2.0;
        if holds(middle) { low = middle } else { high = middle }
    }
    (low + high) / 2.0
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn all_of_few_may_be_less_and_more_than_all_is_nothing() {
        // All of n: the lower end is the n-th root of one in forty (Clopper and Pearson 1934).
        for n in [1_u64, 5, 50] {
            let interval = clopper_pearson(n, n).unwrap();
            assert!(
                (interval.low - 0.025_f64.powf(1.0 / n as f64)).abs() < 1e-9,
                "{n}: {interval:?}"
            );
            assert_eq!(interval.high, 1.0);
        }
        assert!(clopper_pearson(6, 5).is_none() && clopper_pearson(0, 0).is_none());
    }
}
