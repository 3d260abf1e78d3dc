//! Months in which nothing happens: how often an alert on what is unlike its usual opens all the same.
//!
//! Page views come by chance around a curve of the day and the week, each day a little more or less than its usual and a little
//! faster or slower; waits are log-normal. Nobody breaks anything. `CADENTIS_QUIET_MONTHS=100` with `--release` and `--nocapture`
//! prints the figures that `bench/README.md` has.

use cadentis_core::alert::judge::{Opening, openings};
use cadentis_core::alert::{Definition, NoData, Rule, Severity, usual};
use cadentis_core::calendar::stretch::at_second;
use cadentis_core::measure::Part;
use cadentis_core::measure::windowed::{Moment, windowed};
use jiff::Timestamp;
use jiff::tz::TimeZone;
use rand::rngs::SmallRng;
use rand::{Rng, SeedableRng};
use rand_distr::{Distribution, LogNormal, Normal, Poisson};
use std::collections::BTreeMap;

const DAY_S: i64 = 86_400;
/// Five weeks that tell the usual, and the month that is judged by it.
const DAYS: i64 = 35 + 30;

fn alert(measured: &str, warning: f64, critical: f64) -> Definition {
    Definition {
        measured: measured.parse().unwrap(),
        rule: Rule::Unusual { warning: Some(warning), critical: Some(critical), clear: None },
        window_s: 3_600,
        every_s: 300,
        running: 3,
        least_samples: 50,
        least_places: 0,
        no_data: NoData::Keep,
        service_hours: None,
    }
}

/// What each minute of nine quiet weeks has of page views: how many, how long they took, how many of them failed.
fn minutes(luck: &mut SmallRng) -> BTreeMap<i64, Part> {
    let (daily, slower) = (Normal::new(1.0, 0.06).unwrap(), Normal::new(1.0, 0.02).unwrap());
    let mut parts = BTreeMap::new();
    for day in 0..DAYS {
        let busy: f64 = daily.sample(luck) * if day % 7 >= 5 { 0.7 } else { 1.0 };
        let wait = LogNormal::new(f64::ln(1_800.0 * slower.sample(luck)), 0.6).unwrap();
        for minute in 0..1_440 {
            let hour = minute as f64 / 60.0;
            // Least at four in the morning, most at four in the afternoon.
            let curve = 1.1 - (std::f64::consts::TAU * (hour - 4.0) / 24.0).cos();
            let count = Poisson::new((6.0 * busy * curve).max(0.01)).unwrap().sample(luck) as u64;
            let values: Vec<f64> = (0..count).map(|_| wait.sample(luck)).collect();
            let hits = (0..count).filter(|_| luck.random_bool(0.01)).count() as u64;
            parts.insert(
                day * DAY_S + minute * 60,
                Part { samples: count, hits, values, ..Part::default() },
            );
        }
    }
    parts
}

/// When it is open in the month that is judged.
fn opened(alert: &Definition, parts: &BTreeMap<i64, Part>) -> Vec<Opening> {
    let measure = &alert.measured.measure;
    let every = |step: i64, from: i64| {
        (from / step..=DAYS * DAY_S / step).map(move |n| at_second(n * step))
    };
    let told = |moments: Vec<Timestamp>| windowed(measure, parts, alert.window_s, moments);
    let past: BTreeMap<Timestamp, Moment> = told(every(usual::PIECE_S, 0).collect())
        .into_iter()
        .filter(|m| m.samples >= alert.least_samples)
        .map(|m| (m.at, m))
        .collect();
    let mut known = None;
    let judged = told(every(alert.every_s, 35 * DAY_S).collect()).into_iter().map(|m| {
        let piece = usual::piece(m.at);
        let band = match known {
            Some((at, band)) if at == piece => band,
            _ => {
                let week =
                    |ends: Vec<Timestamp>| ends.iter().map(|e| past.get(e).copied()).collect();
                let weeks: Vec<Vec<Option<Moment>>> =
                    usual::ends(piece, &TimeZone::UTC).map(week).to_vec();
                usual::of(measure.unit(), &weeks)
            }
        };
        known = Some((piece, band));
        alert.judge_beside(&m, band, true)
    });
    openings(alert, &judged.collect::<Vec<_>>())
}

#[test]
fn what_is_quiet_hardly_ever_opens_and_trouble_nearly_always_does() {
    let months: u64 = std::env::var("CADENTIS_QUIET_MONTHS").map_or(2, |n| n.parse().unwrap());
    let measures = ["p75 of LCP", "count of page views", "share of requests failed"];
    let alerts: Vec<Vec<Definition>> = measures
        .iter()
        .map(|m| [(3.0, 5.0), (4.0, 6.0), (5.0, 8.0)].map(|(w, c)| alert(m, w, c)).to_vec())
        .collect();
    let mut seen = vec![[0; 3]; measures.len()];
    let mut found = vec![vec![(0, 0); 3]; measures.len()];
    for month in 0..months {
        let mut luck = SmallRng::seed_from_u64(7 + month);
        let mut parts = minutes(&mut luck);
        for (nth, levels) in alerts.iter().enumerate() {
            for (place, alert) in levels.iter().enumerate() {
                let all = opened(alert, &parts);
                found[nth][place].0 += all.len();
                found[nth][place].1 +=
                    all.iter().filter(|o| o.severity == Severity::Critical).count();
            }
        }
        // Two hours of the last day but one in which everything takes twice as long, three quarters never come, and a tenth fails.
        let from = (DAYS - 2) * DAY_S + 36_000;
        for part in parts.range_mut(from..from + 7_200).map(|(_, part)| part) {
            part.values = part.values.iter().step_by(4).map(|v| v * 2.0).collect();
            part.samples = part.values.len() as u64;
            part.hits =
                part.samples / 10 + u64::from(luck.random_bool((part.samples % 10) as f64 / 10.0));
        }
        let end = at_second(from + 7_200);
        for (nth, levels) in alerts.iter().enumerate() {
            let is_then = |o: &Opening| o.opened <= end && o.cleared.is_none_or(|at| at > end);
            for (place, alert) in levels.iter().enumerate() {
                seen[nth][place] += u64::from(opened(alert, &parts).iter().any(is_then));
            }
        }
    }
    for ((measure, levels), seen) in measures.iter().zip(&found).zip(&seen) {
        println!(
            "{measure}: {levels:?} openings, of them critical, and {seen:?} times of trouble seen, at 3/5, 4/6 and 5/8 in {months} months"
        );
    }
    for (levels, seen) in found.iter().zip(&seen) {
        assert!(levels[1].0 as u64 <= 2 * months && levels[2].0 as u64 <= months, "{found:?}");
        assert!(seen[2] * 10 >= months * 9, "{seen:?}");
    }
}
