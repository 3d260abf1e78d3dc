//! Third parties: the hosts that pages fetch from and that are not the site's.

use crate::calendar::Stretch;
use crate::stats::{Reading, readings};
use crate::visitor::beacon::origin_host;
use crate::visitor::filed::attribute::Filter;
use crate::visitor::filed::sheet::{IdSet, Sheet};
use crate::visitor::reading::slices::rows;
use std::collections::BTreeMap;

/// One host that is not the site's, as page views told of it.
#[derive(Debug, Clone, PartialEq)]
pub struct Party {
    /// Its host.
    pub host: String,
    /// Resources and requests that were told of, and the different page views that told of them.
    pub told: u64,
    /// Page views that asked it.
    pub page_views: u64,
    /// Of them those on which it failed.
    pub failed: u64,
    /// Milliseconds of one at the 75th percentile.
    pub p75: Reading,
    /// Milliseconds of all of them.
    pub sum_ms: f64,
}

/// The columns that [`third_parties`] reads of what happened.
pub const COLUMNS: [&str; 5] = ["what", "name", "ms", "failed", "view"];

#[derive(Default)]
struct Gathered {
    ms: Vec<f64>,
    told: u64,
    failed: u64,
    views: IdSet,
}

/// The hosts for which `ours` does not hold, those that took most time in all first.
pub fn third_parties(
    sheets: &[Sheet],
    stretch: Stretch,
    filter: &Filter,
    ours: impl Fn(&str) -> bool,
) -> Vec<Party> {
    let mut by: BTreeMap<String, Gathered> = BTreeMap::new();
    for sheet in sheets {
        let Some(names) = sheet.words("name") else { continue };
        // Each name once an hour, not each row.
        let hosts: Vec<Option<String>> =
            names.values.iter().map(|n| host_of(n).filter(|h| !ours(h))).collect();
        let keep = rows(sheet, stretch, filter);
        let (whats, failed, ms) = (sheet.texts("what"), sheet.texts("failed"), sheet.figures("ms"));
        for row in (0..sheet.rows).filter(|row| keep[*row]) {
            let Some(host) = names.codes.at(row).and_then(|code| hosts[code].as_ref()) else {
                continue;
            };
            if !["resource", "request"].contains(&whats.at(row)) {
                continue;
            }
            if !by.contains_key(host) {
                by.insert(host.clone(), Gathered::default());
            }
            let Some(g) = by.get_mut(host) else { continue };
            g.told += 1;
            g.failed += u64::from(!failed.at(row).is_empty());
            g.ms.extend(ms.at(row).map(f64::from));
            g.views.extend(sheet.id("view", row));
        }
    }
    let party = |(host, g): (String, Gathered)| Party {
        host,
        told: g.told,
        page_views: g.views.len() as u64,
        failed: g.failed,
        p75: readings(&g.ms, &[0.75]).0.first().copied().unwrap_or(Reading::NONE),
        sum_ms: g.ms.iter().sum(),
    };
    let mut all: Vec<Party> = by.into_iter().map(party).collect();
    all.sort_by(|a, b| b.sum_ms.total_cmp(&a.sum_ms).then_with(|| a.host.cmp(&b.host)));
    all
}

/// The host in the family of a resource or request, such as `GET maps.example/tiles/‹n›`.
fn host_of(family: &str) -> Option<String> {
    let address = family.rsplit(' ').next()?;
    let host = origin_host(&format!("https://{address}"));
    host.contains('.').then_some(host)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::calendar::stretch::at_second;
    use crate::visitor::sheet::Column;

    #[test]
    fn hosts_that_are_not_ours_are_gathered_and_the_costliest_comes_first() {
        const HOUR: i64 = 1_795_000_000 / 3_600 * 3_600;
        let rows = [
            ("resource", "maps.example/tiles/‹n›", 300.0, "", 1u128),
            ("resource", "maps.example/lib.js", 900.0, "failed", 1),
            ("request", "GET count.example/hit", 40.0, "", 2),
            ("request", "GET api.a.example/cabins", 70.0, "", 2),
            ("resource", "a.example/app.js", 80.0, "", 2),
            ("error", "maps.example/oops", 1.0, "failed", 3),
            ("resource", "blob", 1.0, "", 3),
        ];
        let mut sheet = Sheet::new(HOUR);
        let columns = [
            ("at", Column::Moments((0..rows.len() as u32).collect())),
            ("what", Column::words(rows.iter().map(|r| r.0))),
            ("name", Column::words(rows.iter().map(|r| r.1))),
            ("ms", Column::numbers(rows.iter().map(|r| Some(r.2)))),
            ("failed", Column::words(rows.iter().map(|r| r.3))),
            ("view", Column::ids(rows.iter().map(|r| r.4))),
        ];
        columns.into_iter().for_each(|(name, column)| sheet.put(name, column).unwrap());
        let hour = Stretch { from: at_second(HOUR), to: at_second(HOUR + 3_600) };
        let ours = |host: &str| host.ends_with("a.example");
        let found = third_parties(&[sheet], hour, &Filter::default(), ours);
        let says: Vec<_> = found
            .iter()
            .map(|p| (p.host.as_str(), p.told, p.page_views, p.failed, p.sum_ms))
            .collect();
        assert_eq!(says, [("maps.example", 2, 1, 1, 1_200.0), ("count.example", 1, 1, 0, 40.0)]);
        assert_eq!(found[0].p75.value, Some(900.0));
    }
}
