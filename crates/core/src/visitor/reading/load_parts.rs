//! Where the time of a page load went until its largest paint.
//!
//! The parts follow one another: looking up the name, connecting, waiting for the first byte (redirects, queueing and
//! the server), until something was painted, until the largest thing was. They add up to LCP exactly. A page view whose
//! moments are not in this order says nothing and is left out. (The order: W3C Navigation Timing, Paint Timing and
//! Largest Contentful Paint.)

use crate::calendar::Stretch;
use crate::visitor::filed::Moments;
use crate::visitor::filed::attribute::Filter;
use crate::visitor::filed::sheet::{Figures, Sheet};
use crate::visitor::reading::slices::rows;

/// The columns that [`moments`] reads.
pub const COLUMNS: [&str; 5] = ["dns", "connect", "ttfb", "fcp", "lcp"];

/// What the wanted page views that have an LCP reported of their load.
pub fn moments(sheets: &[Sheet], stretch: Stretch, filter: &Filter) -> Vec<Moments> {
    let mut all = Vec::new();
    for sheet in sheets {
        let keep = rows(sheet, stretch, filter);
        let [lookup, connect, ttfb, fcp, lcp] = COLUMNS.map(|c| sheet.figures(c));
        let of = |column: &Figures<'_>, row: usize| column.at(row).map(f64::from);
        all.extend((0..sheet.rows).filter(|row| keep[*row] && lcp.at(*row).is_some()).map(|row| {
            Moments {
                lookup: of(&lookup, row),
                connect: of(&connect, row),
                ttfb: of(&ttfb, row),
                fcp: of(&fcp, row),
                lcp: of(&lcp, row),
            }
        }));
    }
    all
}

/// Names of the parts, in order.
pub const PARTS: [&str; 5] = [
    "DNS",
    "connecting",
    "waiting for the first byte",
    "until the first paint",
    "until the largest paint",
];

/// Milliseconds of each of [`PARTS`].
pub type PartsMs = [f64; 5];

/// How one page view's time until LCP was spent.
pub fn load_parts(m: &Moments) -> Option<PartsMs> {
    let (lookup, connect) = (m.lookup.unwrap_or(0.0), m.connect.unwrap_or(0.0));
    let (ttfb, fcp, lcp) = (m.ttfb?, m.fcp?, m.lcp?);
    let spent = [lookup, connect, ttfb - lookup - connect, fcp - ttfb, lcp - fcp];
    // Differences of the last bit are no contradiction.
    spent.iter().all(|ms| ms.is_finite() && *ms > -1e-6).then(|| spent.map(|ms| ms.max(0.0)))
}

/// The mean of each part over the page views between the 70th and the 80th percentile of LCP, and how many they are:
/// what a page view at the 75th is made of. (Percentiles of parts would not add up to a percentile of the whole; common
/// practice, no published source.)
pub fn around_p75(views: &[Moments]) -> Option<(PartsMs, usize)> {
    let mut all: Vec<(f64, PartsMs)> =
        views.iter().filter_map(|m| Some((m.lcp?, load_parts(m)?))).collect();
    all.sort_by(|a, b| a.0.total_cmp(&b.0));
    let at = |p: f64| ((all.len() as f64 * p).ceil() as usize).clamp(1, all.len().max(1)) - 1;
    let band = all.get(at(0.70)..=at(0.80)).filter(|b| !b.is_empty())?;
    let mut mean = [0.0; 5];
    for (_, spent) in band {
        mean.iter_mut().zip(spent).for_each(|(m, ms)| *m += ms / band.len() as f64);
    }
    Some((mean, band.len()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn moments(lookup: f64, connect: f64, ttfb: f64, fcp: f64, lcp: f64) -> Moments {
        let some = Some;
        Moments {
            lookup: some(lookup),
            connect: some(connect),
            ttfb: some(ttfb),
            fcp: some(fcp),
            lcp: some(lcp),
        }
    }

    #[test]
    fn parts_follow_one_another_and_what_contradicts_itself_is_left_out() {
        assert_eq!(
            load_parts(&moments(20.0, 80.0, 300.0, 700.0, 1_500.0)),
            Some([20.0, 80.0, 200.0, 400.0, 800.0])
        );
        assert_eq!(
            load_parts(&moments(20.0, 80.0, 60.0, 700.0, 1_500.0)),
            None,
            "connected after the first byte"
        );
        assert_eq!(
            load_parts(&moments(0.0, 0.0, 300.0, 700.0, 600.0)),
            None,
            "largest before the first paint"
        );
        assert_eq!(load_parts(&Moments { lcp: None, ..moments(1.0, 1.0, 9.0, 10.0, 0.0) }), None);
        assert_eq!(around_p75(&[]), None);
    }

    proptest! {
        #[test]
        fn parts_add_up_to_lcp_and_the_band_holds_the_75th(lcps in prop::collection::vec(100.0..9_000.0f64, 1..200), cut in prop::array::uniform4(0.0..1.0f64)) {
            let mut cut = cut;
            cut.sort_by(f64::total_cmp);
            let views: Vec<Moments> = lcps.iter().map(|lcp| moments(cut[0] * lcp, (cut[1] - cut[0]) * lcp, cut[2] * lcp, cut[3] * lcp, *lcp)).collect();
            for v in &views {
                let total: f64 = load_parts(v).expect("in order").iter().sum();
                prop_assert!((total - v.lcp.unwrap()).abs() < 1e-6);
            }
            let (mean, n) = around_p75(&views).expect("a band");
            prop_assert!(n >= 1);
            let mut sorted = lcps.clone();
            sorted.sort_by(f64::total_cmp);
            let at = |p: f64| sorted[((sorted.len() as f64 * p).ceil() as usize).max(1) - 1];
            let total: f64 = mean.iter().sum();
            prop_assert!(total >= at(0.70) - 1e-6 && total <= at(0.80) + 1e-6);
        }
    }
}
