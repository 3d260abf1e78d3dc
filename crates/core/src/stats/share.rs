//! Shares of a whole, their intervals, and how they are printed.

use super::Interval;
use statrs::function::beta::{beta_reg, inv_beta_reg};

/// The 97.5 % point of the normal distribution: 95 % lie between it and its negative.
pub const Z95: f64 = 1.959_963_984_540_054;

/// Whether both counts are known and `part` of `whole` can be said, as a fraction from 0 to 1.
pub fn share(part: u64, whole: u64) -> Option<f64> {
    (whole > 0).then(|| part as f64 / whole as f64)
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
    let reach = Z95 / (1.0 + z2 / samples) * (p * (1.0 - p) / samples + z2 / (4.0 * samples * samples)).sqrt();
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
    let (k, n) = (part as f64, samples as f64);
    let low = if part == 0 { 0.0 } else { beta_quantile(k, n - k + 1.0, 0.025) };
    let high = if part == samples { 1.0 } else { beta_quantile(k + 1.0, n - k, 0.975) };
    Some(Interval { low, high })
}

/// The library's inverse is a good guess; halving what is left around it makes it exact.
fn beta_quantile(a: f64, b: f64, p: f64) -> f64 {
    let guess = inv_beta_reg(a, b, p).clamp(0.0, 1.0);
    let near = |by: f64| ((guess * (1.0 - by)).max(0.0), (guess * (1.0 + by)).min(1.0));
    let (mut low, mut high) = near(1e-3);
    if beta_reg(a, b, low) > p || beta_reg(a, b, high) < p {
        (low, high) = (0.0, 1.0);
    }
    for _ in 0..80 {
        let middle = (low + high) / 2.0;
        if beta_reg(a, b, middle) < p { low = middle } else { high = middle }
    }
    (low + high) / 2.0
}
