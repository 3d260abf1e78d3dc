//! Page views of sheets, narrowed by a filter and told apart by time and by an attribute.
//!
//! Short stretches keep every sample, so that what is computed from them is exact; long ones are held as sketches
//! (within 1 %), like the cells of the roll-up.

use crate::calendar::Stretch;
use crate::stats::compare::share_shift;
use crate::stats::{Method, Reading, Samples, readings};
use crate::timing::Vital;
use crate::visitor::filed::attribute::{Attribute, Filter};
use crate::visitor::filed::cell::Rated;
use crate::visitor::filed::measured::Pool;
use crate::visitor::filed::sheet::{Figures, IdSet, Sheet};
use std::collections::BTreeMap;

/// Stretches up to this long are read page view by page view and are exact: a working day and the hour before it. Longer
/// ones merge hours, within the sketch's error.
pub const EXACT_S: i64 = 13 * 3_600;

/// Whether a stretch is short enough to be read page view by page view.
pub fn is_read_exactly(stretch: Stretch) -> bool {
    stretch.seconds() <= EXACT_S
}

/// What is asked of sheets.
#[derive(Debug, Clone, Copy)]
pub struct Selection<'a> {
    /// From when to when.
    pub stretch: Stretch,
    /// Which page views count.
    pub filter: &'a Filter,
    /// Length of a bucket of time in seconds; buckets begin at multiples of it.
    pub bucket_s: i64,
    /// The attribute whose values are told apart.
    pub by: Option<&'a Attribute>,
    /// The vitals that are read.
    pub vitals: &'a [Vital],
    /// Keep every sample.
    pub exact: bool,
}

impl Selection<'_> {
    /// The columns that are needed for it.
    pub fn columns(&self) -> Vec<String> {
        let mut names = vec!["ended".to_string(), "errors".into()];
        // Where buckets are whole hours, moments matter at both ends only.
        if self.bucket_s % 3_600 != 0 {
            names.push("at".into());
        }
        names.extend(self.filter.parts().map(|(a, _)| a.name()));
        names.extend(self.by.map(Attribute::name));
        names.extend(self.vitals.iter().map(|v| v.name().to_lowercase()));
        names.sort();
        names.dedup();
        names
    }
}

/// Which rows are in the stretch and pass the filter.
pub fn rows(sheet: &Sheet, stretch: Stretch, filter: &Filter) -> Vec<bool> {
    let mut keep = vec![true; sheet.rows];
    let begin_ms = sheet.hour_s * 1_000;
    let (from, to) =
        (stretch.from.as_millisecond() - begin_ms, stretch.to.as_millisecond() - begin_ms);
    if from > 0 || to < 3_600_000 {
        for (keep, at) in keep.iter_mut().zip(sheet.moments("at")) {
            *keep = (from..to).contains(&i64::from(*at));
        }
    }
    for (attribute, values) in filter.parts() {
        match sheet.words(&attribute.name()) {
            Some(words) => {
                let fits: Vec<bool> = words.values.iter().map(|v| values.contains(v)).collect();
                words.codes.narrow(&mut keep, &fits);
            }
            // Nobody told it in that hour.
            None if !values.iter().any(String::is_empty) => keep.fill(false),
            None => {}
        }
    }
    keep
}

/// The same for 0 and for 1, both at a time: millions of rows take a core a while.
pub fn at_once<T: Send>(of: impl Fn(u8) -> T + Sync) -> (T, T) {
    std::thread::scope(|s| {
        let second = s.spawn(|| of(1));
        let first = of(0);
        // Whoever joins it sees its panic as their own.
        (first, second.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)))
    })
}

/// The same of the front half of the sheets and of the back half, both at a time.
pub fn in_halves<T: Send>(sheets: &[Sheet], of: impl Fn(&[Sheet]) -> T + Sync) -> (T, T) {
    let (front, back) = sheets.split_at(sheets.len() / 2);
    at_once(|nth| of(if nth == 0 { front } else { back }))
}

/// Page views of which the means and medians of a table are sure enough.
const ENOUGH: u64 = 300_000;

/// Each how manieth hour is read of so many page views where a part of them is enough. These numbers and 24 have nothing in
/// common, so that each hour of the day has its turn.
pub fn every_hour(page_views: u64) -> i64 {
    [1, 5, 7, 11, 13, 17, 19, 23, 25, 29, 31]
        .into_iter()
        .find(|n| page_views <= ENOUGH * *n as u64)
        .unwrap_or(35)
}

#[derive(Default)]
struct Group {
    counts: [u64; 4],
    samples: [Vec<f32>; 5],
    rated: [Rated; 5],
}

/// Pools by beginning of the bucket (seconds) and value of the attribute.
pub fn pools(sheet: &Sheet, wanted: &Selection<'_>) -> Vec<(i64, String, Pool)> {
    let keep = rows(sheet, wanted.stretch, wanted.filter);
    let by = wanted.by.and_then(|a| sheet.words(&a.name()));
    let values = by.map_or(1, |w| w.values.len());
    let bucket_of = |at_s: i64| at_s.div_euclid(wanted.bucket_s) * wanted.bucket_s;
    let one_bucket = bucket_of(sheet.hour_s) == bucket_of(sheet.hour_s + 3_599);
    // Rows are in order of time, so the bucket of one is nearly always that of the one before.
    let mut groups: Vec<(i64, Vec<Group>)> = Vec::new();
    let mut here = 0;
    let ended = sheet.words("ended");
    let fates: Vec<[bool; 2]> = ended
        .map(|w| {
            w.values.iter().map(|v| [v.starts_with("abandoned"), v.ends_with("blank")]).collect()
        })
        .unwrap_or_default();
    let errors = sheet.figures("errors");
    let columns: Vec<(usize, Figures<'_>)> = Vital::ALL
        .iter()
        .enumerate()
        .filter(|(_, v)| wanted.vitals.contains(v))
        .map(|(i, v)| (i, sheet.figures(&v.name().to_lowercase())))
        .collect();
    let begin = bucket_of(sheet.hour_s);
    let kept: Vec<u32> =
        keep.iter().zip(0u32..).filter(|(keep, _)| **keep).map(|(_, row)| row).collect();
    // Where each kept row's group is: columns are then walked one after the other, each in its own order.
    let mut places: Vec<(u32, u32)> = Vec::with_capacity(kept.len());
    for row in kept.iter().map(|row| *row as usize) {
        let bucket = if one_bucket {
            begin
        } else {
            bucket_of(
                sheet.hour_s
                    + i64::from(sheet.moments("at").get(row).copied().unwrap_or(0)) / 1_000,
            )
        };
        if groups.get(here).is_none_or(|(b, _)| *b != bucket) {
            here = groups.iter().position(|(b, _)| *b == bucket).unwrap_or_else(|| {
                groups.push((bucket, (0..values).map(|_| Group::default()).collect()));
                groups.len() - 1
            });
        }
        let code = by.and_then(|w| w.codes.at(row)).unwrap_or(0);
        places.push((here as u32, code as u32));
        let group = &mut groups[here].1[code];
        let [abandoned, blank] =
            ended.and_then(|w| w.codes.at(row)).map_or([false; 2], |code| fates[code]);
        let wrong = errors.at(row).is_some_and(|n| n > 0.0);
        for (count, more) in group.counts.iter_mut().zip([true, abandoned, blank, wrong]) {
            *count += u64::from(more);
        }
    }
    for (i, column) in columns {
        for (row, (bucket, code)) in kept.iter().zip(&places) {
            let Some(value) = column.at(*row as usize) else { continue };
            let group = &mut groups[*bucket as usize].1[*code as usize];
            if wanted.exact {
                group.samples[i].push(value);
            } else {
                group.rated[i].add(Vital::ALL[i], f64::from(value));
            }
        }
    }
    let mut out = Vec::new();
    for (bucket, groups) in groups {
        for (code, group) in groups.into_iter().enumerate().filter(|(_, g)| g.counts[0] > 0) {
            let value = by.map_or(String::new(), |w| w.values[code].clone());
            let mut pool = Pool::default();
            let [views, abandoned, blank, wrong] = group.counts;
            pool.count(views, abandoned, blank, wrong);
            pool.add_samples(&group.samples);
            pool.add_rated(&group.rated);
            out.push((bucket, value, pool));
        }
    }
    out
}

/// A value of an attribute that has more than its share of what is not good.
#[derive(Debug, Clone, PartialEq)]
pub struct Carrier {
    /// The attribute.
    pub attribute: Attribute,
    /// Its value.
    pub value: String,
    /// Samples with that value, and how many of them are not good.
    pub samples: u64,
    /// Of them those that are not good.
    pub not_good: u64,
    /// Share of all samples, and of all that are not good.
    pub share: f64,
    /// Its share of all that are not good.
    pub share_not_good: f64,
    /// So many more are not good than would be if it did like the others.
    pub excess: f64,
}

/// Which values carry more of the samples that are not good (by the thresholds of the vital) than of all samples,
/// surely and by a tenth: those with the greatest excess first. (Common practice, no published source; the interval is
/// that of a difference of shares.)
pub fn carriers(vital: Vital, parts: &[(Attribute, Vec<(String, Pool)>)]) -> Vec<Carrier> {
    let mut found = Vec::new();
    for (attribute, values) in parts {
        let of: Vec<(&String, u64, u64)> = values
            .iter()
            .map(|(value, pool)| {
                let measured = pool.measured(vital);
                (value, measured.samples(), measured.not_good())
            })
            .collect();
        let (all, bad): (u64, u64) = of.iter().fold((0, 0), |(a, b), (_, n, k)| (a + n, b + k));
        for (value, samples, not_good) in of {
            let rest = (bad - not_good, all - samples);
            let Some(shift) = share_shift(rest, (not_good, samples)) else { continue };
            if !shift.is_rise() || shift.after < 1.1 * shift.before || value.is_empty() {
                continue;
            }
            found.push(Carrier {
                attribute: attribute.clone(),
                value: value.clone(),
                samples,
                not_good,
                share: samples as f64 / all as f64,
                share_not_good: not_good as f64 / bad as f64,
                excess: not_good as f64 - shift.before * samples as f64,
            });
        }
    }
    found.sort_by(|a, b| b.excess.total_cmp(&a.excess));
    found
}

/// A minute and how its page views did.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Minute {
    /// When it begins, in seconds since 1970.
    pub at_s: i64,
    /// The 75th percentile.
    pub p75: f64,
    /// How many samples it rests on.
    pub samples: u64,
}

/// The minute with the highest 75th percentile among those with at least `least` samples.
pub fn worst_minute(
    sheets: &[Sheet],
    stretch: Stretch,
    filter: &Filter,
    vital: Vital,
    least: usize,
) -> Option<Minute> {
    let mut worst: Option<Minute> = None;
    for sheet in sheets {
        let keep = rows(sheet, stretch, filter);
        let mut minutes: Vec<Vec<f64>> = vec![Vec::new(); 60];
        let values = sheet.figures(&vital.name().to_lowercase());
        for (row, at) in sheet.moments("at").iter().enumerate().filter(|(row, _)| keep[*row]) {
            let Some(value) = values.at(row) else { continue };
            if let Some(minute) = minutes.get_mut(*at as usize / 60_000) {
                minute.push(f64::from(value));
            }
        }
        for (nth, values) in
            minutes.into_iter().enumerate().filter(|(_, v)| v.len() >= least.max(1))
        {
            let samples = Samples::new(values);
            let Some(p75) = samples.percentile(0.75, Method::NearestRank) else { continue };
            if worst.is_none_or(|w| p75 > w.p75) {
                worst = Some(Minute {
                    at_s: sheet.hour_s + nth as i64 * 60,
                    p75,
                    samples: samples.len() as u64,
                });
            }
        }
    }
    worst
}

/// Page views that name the same element or script.
#[derive(Debug, Clone, PartialEq)]
pub struct Named {
    /// What they name.
    pub name: String,
    /// The value at the 75th percentile of those page views, with how many they are.
    pub p75: Reading,
    /// Medians of the other columns that were asked for; `None` where nobody told them.
    pub medians: Vec<Option<f64>>,
}

/// Page views gathered by what a column of texts names, most first: values of `number`, and medians of more columns.
pub fn by_name(
    sheets: &[Sheet],
    stretch: Stretch,
    filter: &Filter,
    words: &str,
    number: &str,
    more: &[&str],
) -> Vec<Named> {
    let mut by: BTreeMap<&str, Vec<Vec<f64>>> = BTreeMap::new();
    for sheet in sheets {
        let Some(names) = sheet.words(words) else { continue };
        let keep = rows(sheet, stretch, filter);
        let numbers = sheet.figures(number);
        let others: Vec<_> = more.iter().map(|column| sheet.figures(column)).collect();
        for row in (0..sheet.rows).filter(|row| keep[*row]) {
            let Some(name) = names.get(row).filter(|n| !n.is_empty()) else { continue };
            let Some(value) = numbers.at(row) else { continue };
            let held = by.entry(name).or_insert_with(|| vec![Vec::new(); more.len() + 1]);
            held[0].push(f64::from(value));
            for (values, column) in held[1..].iter_mut().zip(&others) {
                values.extend(column.at(row).map(f64::from));
            }
        }
    }
    let median = |values: &Vec<f64>| readings(values, &[0.5]).0[0].value;
    let mut all: Vec<Named> = by
        .into_iter()
        .map(|(name, held)| Named {
            name: name.to_string(),
            p75: readings(&held[0], &[0.75]).0[0],
            medians: held[1..].iter().map(median).collect(),
        })
        .collect();
    all.sort_by(|a, b| b.p75.samples.cmp(&a.p75.samples).then_with(|| a.name.cmp(&b.name)));
    all
}

/// What values beyond those that are told apart are called together.
pub const OTHERS: &str = "all others";

/// The pools of at most `most` values, those with most page views; the rest is one, called [`OTHERS`]. Releases and the
/// like are what pages say: a page that says something new each time must not make as many cells.
pub fn capped(mut pools: Vec<(i64, String, Pool)>, most: usize) -> Vec<(i64, String, Pool)> {
    if pools.len() <= most {
        return pools;
    }
    pools.sort_by(|a, b| b.2.page_views.cmp(&a.2.page_views).then_with(|| a.1.cmp(&b.1)));
    let rest = pools.split_off(most.saturating_sub(1));
    let mut others: BTreeMap<i64, Pool> = BTreeMap::new();
    rest.iter().for_each(|(bucket, _, pool)| others.entry(*bucket).or_default().absorb(pool));
    pools.extend(others.into_iter().map(|(bucket, pool)| (bucket, OTHERS.to_string(), pool)));
    pools
}

/// How many different ids stand in a column among the wanted rows; an id of zero is nobody.
pub fn different(sheets: &[Sheet], stretch: Stretch, filter: &Filter, column: &str) -> u64 {
    let mut ids: IdSet = IdSet::default();
    for sheet in sheets {
        let Some(held) = sheet.ids(column) else { continue };
        let mut seen = vec![false; held.values.len()];
        for (code, _) in
            held.codes.iter().zip(rows(sheet, stretch, filter)).filter(|(_, keep)| *keep)
        {
            seen[code] = true;
        }
        ids.extend(
            held.values.iter().zip(seen).filter(|(id, seen)| *seen && **id != 0).map(|(id, _)| *id),
        );
    }
    ids.len() as u64
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::calendar::stretch::at_second;
    use crate::timing::Rating;
    use crate::visitor::filed::ended;
    use crate::visitor::sheet::Column;
    use proptest::prelude::*;
    use std::collections::HashSet;

    const HOUR: i64 = 1_764_000_000 / 3_600 * 3_600;

    #[derive(Debug, Clone)]
    struct Row {
        at: u32,
        device: usize,
        country: usize,
        lcp: Option<f32>,
        abandoned: bool,
        visit: u128,
    }

    const DEVICES: [&str; 3] = ["phone", "tablet", "desktop"];
    const COUNTRIES: [&str; 3] = ["NO", "SE", "KE"];

    fn sheet(rows: &[Row]) -> Sheet {
        let mut sheet = Sheet::new(HOUR);
        let columns = [
            ("at", Column::Moments(rows.iter().map(|r| r.at).collect())),
            ("device", Column::words(rows.iter().map(|r| DEVICES[r.device]))),
            ("country", Column::words(rows.iter().map(|r| COUNTRIES[r.country]))),
            ("lcp", Column::numbers(rows.iter().map(|r| r.lcp))),
            ("ended", Column::words(rows.iter().map(|r| ended(r.abandoned, false)))),
            ("visit", Column::ids(rows.iter().map(|r| r.visit))),
        ];
        columns.into_iter().for_each(|(name, column)| sheet.put(name, column).unwrap());
        sheet
    }

    fn row() -> impl Strategy<Value = Row> {
        let of = (
            0..3_600_000u32,
            0..3usize,
            0..3usize,
            prop::option::of(50f32..9e3),
            any::<bool>(),
            0..20u128,
        );
        of.prop_map(|(at, device, country, lcp, abandoned, visit)| Row {
            at,
            device,
            country,
            lcp,
            abandoned,
            visit,
        })
    }

    fn hour() -> Stretch {
        Stretch { from: at_second(HOUR), to: at_second(HOUR + 3_600) }
    }

    proptest! {
        #[test]
        fn a_filter_and_a_stretch_take_exactly_the_rows_that_they_name(
            rows in prop::collection::vec(row(), 0..80), from in 0..3_600i64, length in 1..3_600i64, exact: bool,
        ) {
            let stretch = Stretch { from: at_second(HOUR + from), to: at_second(HOUR + from + length) };
            let (filter, _) = Filter::parse(["device:phone", "country:NO", "country:SE"]);
            let by = Attribute::Country;
            let wanted = Selection { stretch, filter: &filter, bucket_s: 900, by: Some(&by), vitals: &[Vital::Lcp], exact };
            let pools = pools(&sheet(&rows), &wanted);
            let want: Vec<&Row> = rows.iter().filter(|r| {
                let s = i64::from(r.at) - from * 1_000;
                r.device == 0 && r.country < 2 && (0..length * 1_000).contains(&s)
            }).collect();
            prop_assert_eq!(pools.iter().map(|p| p.2.page_views).sum::<u64>(), want.len() as u64);
            prop_assert_eq!(pools.iter().map(|p| p.2.abandoned).sum::<u64>(), want.iter().filter(|r| r.abandoned).count() as u64);
            for (bucket, value, pool) in &pools {
                let inside = want.iter().filter(|r| {
                    let at = HOUR + i64::from(r.at) / 1_000;
                    COUNTRIES[r.country] == value && at.div_euclid(900) * 900 == *bucket
                });
                let lcps: Vec<f64> = inside.filter_map(|r| r.lcp.map(f64::from)).collect();
                let measured = pool.measured(Vital::Lcp);
                prop_assert_eq!(measured.samples(), lcps.len() as u64);
                let good = lcps.iter().filter(|v| Vital::Lcp.rate(**v) == Rating::Good).count() as u64;
                prop_assert_eq!(measured.counts[0], good);
            }
        }

        #[test]
        fn visits_are_counted_once_however_many_hours_they_are_seen_in(rows in prop::collection::vec(row(), 0..60)) {
            let sheet = sheet(&rows);
            let want = rows.iter().filter(|r| r.visit != 0).map(|r| r.visit).collect::<HashSet<_>>().len() as u64;
            let twice = [sheet.clone(), sheet];
            prop_assert_eq!(different(&twice, hour(), &Filter::default(), "visit"), want);
        }
    }

    #[test]
    fn those_who_carry_more_than_their_share_are_named_and_chance_is_not() {
        let pool = |good: usize, poor: usize| {
            let mut pool = Pool::default();
            let lcp = [vec![1_000f32; good], vec![5_000f32; poor]].concat();
            pool.count((good + poor) as u64, 0, 0, 0);
            pool.add_samples(&[lcp, vec![], vec![], vec![], vec![]]);
            pool
        };
        let devices =
            vec![("phone".to_string(), pool(300, 200)), ("desktop".to_string(), pool(480, 20))];
        let browsers = vec![("A".to_string(), pool(392, 108)), ("B".to_string(), pool(388, 112))];
        let found =
            carriers(Vital::Lcp, &[(Attribute::Device, devices), (Attribute::Browser, browsers)]);
        assert_eq!(found.len(), 1, "a hundred and eight of 500 beside 112 is chance: {found:?}");
        let phone = &found[0];
        assert_eq!((phone.value.as_str(), phone.samples, phone.not_good), ("phone", 500, 200));
        assert!(
            (phone.share - 0.5).abs() < 1e-9 && (phone.share_not_good - 200.0 / 220.0).abs() < 1e-9
        );
        // Like the desktops, 20 of 500 would not have been good.
        assert!((phone.excess - 180.0).abs() < 1e-9);
    }

    #[test]
    fn values_without_end_are_told_as_others_and_none_is_lost() {
        let pool = |n: u64| {
            let mut pool = Pool::default();
            pool.count(n, 0, 0, 0);
            pool
        };
        let all: Vec<_> = (1..=1_000u64).map(|n| (0, format!("r{n}"), pool(n))).collect();
        let few = capped(all.clone(), 100);
        assert_eq!((few.len(), few[0].1.as_str(), few[99].1.as_str()), (100, "r1000", OTHERS));
        assert_eq!(few.iter().map(|p| p.2.page_views).sum::<u64>(), 500_500);
        assert_eq!(
            capped(all[..100].to_vec(), 100).len(),
            100,
            "as many as may be stay as they are"
        );
    }

    #[test]
    fn page_views_are_gathered_by_the_element_they_name() {
        let mut sheet = Sheet::new(HOUR);
        let columns = [
            ("at", Column::Moments(vec![0, 1, 2, 3])),
            ("lcp_element", Column::words(["img", "h1", "img", ""])),
            ("lcp", Column::numbers([Some(2_000.0), Some(900.0), Some(3_000.0), Some(9_000.0)])),
            ("lcp_fetch", Column::numbers([Some(700.0), None, Some(900.0), None])),
        ];
        columns.into_iter().for_each(|(name, column)| sheet.put(name, column).unwrap());
        let found =
            by_name(&[sheet], hour(), &Filter::default(), "lcp_element", "lcp", &["lcp_fetch"]);
        let says: Vec<_> = found
            .iter()
            .map(|n| (n.name.as_str(), n.p75.samples, n.p75.value, n.medians[0]))
            .collect();
        assert_eq!(says, [("img", 2, Some(3_000.0), Some(700.0)), ("h1", 1, Some(900.0), None)]);
    }

    #[test]
    fn the_worst_minute_is_not_one_that_hardly_anybody_saw() {
        let row = |minute: u32, lcp: f32| Row {
            at: minute * 60_000,
            device: 0,
            country: 0,
            lcp: Some(lcp),
            abandoned: false,
            visit: 1,
        };
        let mut rows = vec![row(7, 9_000.0)];
        rows.extend((0..40).map(|i| row(5, 1_000.0 + i as f32)));
        rows.extend((0..40).map(|i| row(31, 3_000.0 + i as f32)));
        let worst = worst_minute(&[sheet(&rows)], hour(), &Filter::default(), Vital::Lcp, 20);
        assert_eq!(worst, Some(Minute { at_s: HOUR + 31 * 60, p75: 3_029.0, samples: 40 }));
        let (none, _) = Filter::parse(["device:desktop"]);
        assert_eq!(worst_minute(&[sheet(&rows)], hour(), &none, Vital::Lcp, 20), None);
    }
}
