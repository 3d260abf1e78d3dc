//! Requests that pages make, gathered by family: how many, how long, what became of them, whose fault.

use super::attribute::Filter;
use super::happening::Fault;
use super::sheet::Sheet;
use super::slices::rows;
use super::timeline::{Bucket, Timeline};
use crate::calendar::Stretch;
use crate::stats::{Reading, readings};
use jiff::Timestamp;
use serde::Serialize;
use std::collections::{BTreeMap, HashMap};
use uuid::Uuid;

/// One call that failed, to look into.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Failed {
    pub at: Timestamp,
    pub view: Uuid,
    pub visit: Uuid,
    pub status: u16,
    pub code: String,
    /// Empty when none is known.
    pub trace: String,
}

/// The calls of one family.
#[derive(Debug, Clone, Default, PartialEq, Serialize)]
pub struct Calls {
    pub name: String,
    pub count: u64,
    pub failed: u64,
    /// Milliseconds at the 50th, 75th and 95th percentile.
    pub ms: Vec<Reading>,
    /// Statuses, codes of the application, pages that asked: most first.
    pub statuses: Vec<(String, u64)>,
    pub codes: Vec<(String, u64)>,
    pub pages: Vec<(String, u64)>,
    /// Failed ones by whose fault they are, in the order of [`Fault::ALL`].
    pub faults: [u64; 4],
    /// The newest that failed, newest first.
    pub newest: Vec<Failed>,
    /// The visits that one of them failed for.
    pub visits: u64,
}

/// So many of the newest failures are named.
const NAMED: usize = 3;

/// The columns that [`calls`] reads.
pub const COLUMNS: [&str; 12] = [
    "what", "name", "ms", "status", "code", "trace", "fault", "failed", "family", "view", "visit",
    "at",
];

#[derive(Default)]
struct Gathered {
    count: u64,
    failed: u64,
    ms: Vec<f64>,
    statuses: BTreeMap<u16, u64>,
    codes: HashMap<String, u64>,
    pages: HashMap<String, u64>,
    faults: [u64; 4],
    newest: Vec<Failed>,
    visits: std::collections::HashSet<u128>,
}

/// Everything of one kind (`request` or `resource`) in the stretch, those that failed most often first.
pub fn calls(sheets: &[Sheet], stretch: Stretch, filter: &Filter, what: &str) -> Vec<Calls> {
    let mut by: HashMap<String, Gathered> = HashMap::new();
    for sheet in sheets {
        let keep = rows(sheet, stretch, filter);
        let (whats, names, pages) =
            (sheet.texts("what"), sheet.texts("name"), sheet.texts("family"));
        let (failed, codes, faults) =
            (sheet.texts("failed"), sheet.texts("code"), sheet.texts("fault"));
        let (ms, statuses) = (sheet.figures("ms"), sheet.figures("status"));
        for row in (0..sheet.rows).filter(|row| keep[*row] && whats.at(*row) == what) {
            let name = names.at(row);
            if !by.contains_key(name) {
                by.insert(name.to_string(), Gathered::default());
            }
            let Some(g) = by.get_mut(name) else { continue };
            let status = statuses.at(row).map_or(0, |s| s as u16);
            g.count += 1;
            g.ms.extend(ms.at(row).map(f64::from));
            *g.statuses.entry(status).or_default() += 1;
            bump(&mut g.pages, pages.at(row));
            if failed.at(row).is_empty() {
                continue;
            }
            g.failed += 1;
            let code = codes.at(row);
            if !code.is_empty() {
                bump(&mut g.codes, code);
            }
            let fault = faults.at(row);
            if let Some(nth) = Fault::ALL.iter().position(|f| f.words() == fault) {
                g.faults[nth] += 1;
            }
            let visit = sheet.id("visit", row).unwrap_or(0);
            g.visits.insert(visit);
            if let (Some(at), Some(view)) = (sheet.at_ms(row), sheet.id("view", row)) {
                let at = Timestamp::from_millisecond(at).unwrap_or_default();
                let (view, visit) = (Uuid::from_u128(view), Uuid::from_u128(visit));
                let trace = sheet.text("trace", row).to_string();
                g.newest.push(Failed { at, view, visit, status, code: code.to_string(), trace });
                if g.newest.len() > 64 {
                    newest_first(&mut g.newest);
                }
            }
        }
    }
    let mut all: Vec<Calls> = by
        .into_iter()
        .map(|(name, mut g)| {
            newest_first(&mut g.newest);
            let status = |s: u16| if s == 0 { "no answer".to_string() } else { s.to_string() };
            Calls {
                name,
                count: g.count,
                failed: g.failed,
                ms: readings(&g.ms, &[0.5, 0.75, 0.95]).0,
                statuses: most_first(g.statuses.into_iter().map(|(s, n)| (status(s), n))),
                codes: most_first(g.codes),
                pages: most_first(g.pages),
                faults: g.faults,
                newest: g.newest,
                visits: g.visits.len() as u64,
            }
        })
        .collect();
    all.sort_by(|a, b| (b.failed, b.count, &a.name).cmp(&(a.failed, a.count, &b.name)));
    all
}

/// The same by bucket of time; of one family only, if `name` says which.
pub fn calls_over(
    sheets: &[Sheet],
    stretch: Stretch,
    filter: &Filter,
    what: &str,
    name: Option<&str>,
    bucket_s: i64,
) -> Vec<Bucket> {
    let mut over = Timeline::new(bucket_s);
    for sheet in sheets {
        let keep = rows(sheet, stretch, filter);
        let (whats, names, failed) =
            (sheet.texts("what"), sheet.texts("name"), sheet.texts("failed"));
        let ms = sheet.figures("ms");
        let wanted =
            |row: &usize| whats.at(*row) == what && name.is_none_or(|n| names.at(*row) == n);
        for row in (0..sheet.rows).filter(|row| keep[*row]).filter(wanted) {
            let Some(at_ms) = sheet.at_ms(row) else { continue };
            over.add(at_ms, !failed.at(row).is_empty(), ms.at(row).map(f64::from));
        }
    }
    over.buckets()
}

fn newest_first(failed: &mut Vec<Failed>) {
    failed.sort_by_key(|f| std::cmp::Reverse(f.at));
    failed.truncate(NAMED);
}

fn bump(counts: &mut HashMap<String, u64>, key: &str) {
    match counts.get_mut(key) {
        Some(n) => *n += 1,
        None => {
            counts.insert(key.to_string(), 1);
        }
    }
}

/// Most first; those that are equal by name.
pub fn most_first(counts: impl IntoIterator<Item = (String, u64)>) -> Vec<(String, u64)> {
    let mut counts: Vec<(String, u64)> = counts.into_iter().collect();
    counts.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
    counts
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::calendar::stretch::at_second;
    use crate::visitor::sheet::Column;
    use proptest::prelude::*;

    const HOUR: i64 = 1_795_000_000 / 3_600 * 3_600;

    /// Name, status, milliseconds, code.
    fn sheet(rows: &[(usize, u16, f32, &str)]) -> Sheet {
        let mut s = Sheet::new(HOUR);
        let failed = |r: &(usize, u16, f32, &str)| r.1 >= 400;
        let columns = [
            ("at", Column::Moments((0..rows.len() as u32).collect())),
            ("what", Column::words(rows.iter().map(|_| "request"))),
            ("name", Column::words(rows.iter().map(|r| format!("GET /{}", r.0)))),
            ("status", Column::numbers(rows.iter().map(|r| Some(f32::from(r.1))))),
            ("ms", Column::numbers(rows.iter().map(|r| Some(r.2)))),
            ("code", Column::words(rows.iter().map(|r| r.3))),
            ("failed", Column::words(rows.iter().map(|r| if failed(r) { "failed" } else { "" }))),
            (
                "fault",
                Column::words(
                    rows.iter().map(|r| if failed(r) { Fault::Gateway.words() } else { "" }),
                ),
            ),
            ("view", Column::ids((0..rows.len() as u128).collect::<Vec<_>>())),
            ("visit", Column::ids(rows.iter().map(|r| r.0 as u128))),
        ];
        columns.into_iter().for_each(|(name, column)| s.put(name, column).unwrap());
        s
    }

    fn hour() -> Stretch {
        Stretch { from: at_second(HOUR), to: at_second(HOUR + 3_600) }
    }

    #[test]
    fn a_family_of_calls_tells_its_failures_their_codes_and_the_newest() {
        let rows = [
            (1, 200, 80.0, ""),
            (1, 503, 20.0, "BUSY"),
            (1, 503, 30.0, "BUSY"),
            (2, 200, 10.0, ""),
        ];
        let all = calls(&[sheet(&rows)], hour(), &Filter::default(), "request");
        assert_eq!(
            all.iter().map(|c| (c.name.as_str(), c.count, c.failed)).collect::<Vec<_>>(),
            [("GET /1", 3, 2), ("GET /2", 1, 0)]
        );
        let first = &all[0];
        assert_eq!(first.ms[0].value, Some(30.0));
        assert_eq!(first.statuses, [("503".to_string(), 2), ("200".into(), 1)]);
        assert_eq!(
            (first.codes.clone(), first.faults, first.visits),
            (vec![("BUSY".to_string(), 2)], [0, 2, 0, 0], 1)
        );
        assert_eq!(first.newest.iter().map(|f| f.view.as_u128()).collect::<Vec<_>>(), [2, 1]);
        assert!(calls(&[sheet(&rows)], hour(), &Filter::default(), "resource").is_empty());
        let of =
            |name| calls_over(&[sheet(&rows)], hour(), &Filter::default(), "request", name, 60);
        assert_eq!((of(None)[0].count, of(None)[0].failed), (4, 2));
        assert_eq!((of(Some("GET /2"))[0].count, of(Some("GET /2"))[0].p75.value), (1, Some(10.0)));
    }

    proptest! {
        #[test]
        fn every_call_is_in_one_family_and_every_failure_is_somebodys(
            rows in prop::collection::vec((0..4usize, prop::sample::select(vec![200u16, 404, 503]), 1f32..900.0), 0..60),
        ) {
            let rows: Vec<_> = rows.into_iter().map(|(n, s, ms)| (n, s, ms, "")).collect();
            let all = calls(&[sheet(&rows)], hour(), &Filter::default(), "request");
            prop_assert_eq!(all.iter().map(|c| c.count).sum::<u64>(), rows.len() as u64);
            for c in &all {
                prop_assert_eq!(c.faults.iter().sum::<u64>(), c.failed);
                prop_assert_eq!(c.statuses.iter().map(|s| s.1).sum::<u64>(), c.count);
            }
        }
    }
}
