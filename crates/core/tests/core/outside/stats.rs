use super::{close, number, rows};
use cadentis_core::stats::compare::{mann_whitney, percentile_shift, share_shift};
use cadentis_core::stats::percentile::interval_ranks;
use cadentis_core::stats::share::{clopper_pearson, wilson};
use cadentis_core::stats::{Method, Samples};
use rand::SeedableRng;
use rand::rngs::SmallRng;
use rand_distr::{Distribution, LogNormal};

fn samples(list: &str) -> Samples {
    Samples::new(list.split(',').map(number))
}

#[test]
fn all_nine_quantile_types_and_nearest_rank_agree_with_numpy() {
    let mut cases = 0;
    for row in rows(include_str!("../../vectors/quantiles.tsv")) {
        let (data, p) = (samples(row[0]), number(row[1]) / 100.0);
        for (kind, want) in (1..=9).zip(&row[2..]) {
            let got = data.percentile(p, Method::HyndmanFan(kind)).unwrap();
            close(got, number(want), 1e-10, &format!("type {kind} of {} at {p}", row[0]));
        }
        assert_eq!(
            data.percentile(p, Method::NearestRank),
            data.percentile(p, Method::HyndmanFan(1))
        );
        cases += 1;
    }
    assert!(cases >= 1_000);
}

#[test]
fn ranks_of_quantile_intervals_are_those_of_scipys_binomial() {
    for row in rows(include_str!("../../vectors/ranks.tsv")) {
        let (n, p) = (number(row[0]) as u64, number(row[1]) / 100.0);
        let want = Some((number(row[2]) as u64, number(row[3]) as u64)).filter(|w| w.0 > 0);
        assert_eq!(interval_ranks(n, p), want, "{n} samples at {p}");
    }
}

#[test]
fn mann_whitney_agrees_with_scipy_with_and_without_ties() {
    let mut exact = 0;
    for row in rows(include_str!("../../vectors/mann_whitney.tsv")) {
        let test = mann_whitney(&samples(row[0]), &samples(row[1])).unwrap();
        assert_eq!(test.u, number(row[2]));
        close(test.p, number(row[3]), 1e-9, &format!("{} against {}", row[0], row[1]));
        exact += u32::from(test.exact);
    }
    assert!(exact > 100, "some are counted out");
}

#[test]
fn intervals_of_shares_agree_with_scipy_and_of_their_difference_with_statsmodels() {
    for row in rows(include_str!("../../vectors/shares.tsv")) {
        let n = |i: usize| number(row[i]) as u64;
        let (k, all) = (n(0), n(1));
        let (w, c) = (wilson(k as f64, all as f64).unwrap(), clopper_pearson(k, all).unwrap());
        let d = share_shift((k, all), (n(2), n(3))).unwrap().interval.unwrap();
        for (i, got) in [w.low, w.high, c.low, c.high, d.low, d.high].into_iter().enumerate() {
            close(got, number(row[4 + i]), 1e-8, &format!("{k} of {all}, column {}", 4 + i));
        }
    }
}

#[test]
fn intervals_of_shares_hold_out_where_numbers_are_large() {
    // Beyond the vectors: the exact interval and the score interval meet as samples grow.
    for (k, n) in [
        (1, 1_000_000_000),
        (500_000_000, 1_000_000_000),
        (999_999_999, 1_000_000_000),
        (43, 864_000),
    ] {
        let (w, c) = (wilson(k as f64, n as f64).unwrap(), clopper_pearson(k, n).unwrap());
        let share = k as f64 / n as f64;
        assert!(c.low <= share && share <= c.high, "{k} of {n}: {c:?}");
        let wide = |i: cadentis_core::stats::Interval| i.high - i.low;
        assert!((wide(c) / wide(w) - 1.0).abs() < 0.25, "{k} of {n}: {c:?} beside {w:?}");
    }
}

#[test]
fn the_interval_of_a_percentile_shift_holds_the_true_shift_as_often_as_it_says() {
    // Skewed samples of unlike sizes; the true 75th percentiles are known from the distribution.
    let mut rng = SmallRng::seed_from_u64(7);
    let (old, new) = (LogNormal::new(7.0, 0.5).unwrap(), LogNormal::new(7.1, 0.6).unwrap());
    let p75 = |mu: f64, sigma: f64| (mu + 0.674_489_750_196 * sigma).exp();
    let truth = p75(7.1, 0.6) - p75(7.0, 0.5);
    let held = (0..2_000)
        .filter(|_| {
            let mut draw = |d: LogNormal<f64>, n| {
                Samples::new((0..n).map(|_| d.sample(&mut rng)).collect::<Vec<_>>())
            };
            let (a, b) = (draw(old, 160), draw(new, 90));
            percentile_shift(&a, &b, 0.75)
                .unwrap()
                .interval
                .is_some_and(|i| (i.low..=i.high).contains(&truth))
        })
        .count();
    eprintln!("{held} of 2,000 intervals hold the true shift");
    assert!((1_860..=1_960).contains(&held), "{held} of 2,000");
}
