//! Requests that pages make, gathered by family: how many, how long, what became of them, whose fault.

use crate::calendar::Stretch;
use crate::stats::{Reading, readings};
use crate::visitor::filed::attribute::Filter;
use crate::visitor::filed::sheet::{Coded, IdSet, Sheet};
use crate::visitor::happening::Fault;
use crate::visitor::reading::slices::{in_halves, rows};
use crate::visitor::reading::timeline::{Bucket, Timeline};
use jiff::Timestamp;
use serde::Serialize;
use std::collections::{BTreeMap, HashMap};
use uuid::Uuid;

/// One call that failed, to look into.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Failed {
    /// When.
    pub at: Timestamp,
    /// On which page view.
    pub view: Uuid,
    /// In which visit.
    pub visit: Uuid,
    /// Status of HTTP; 0 when no answer came.
    pub status: u16,
    /// What the application called it.
    pub code: String,
    /// Empty when none is known.
    pub trace: String,
}

/// The calls of one family.
#[derive(Debug, Clone, Default, PartialEq, Serialize)]
pub struct Calls {
    /// Its name: method, and address with what differs taken out.
    pub name: String,
    /// How many there were.
    pub count: u64,
    /// Of them those that failed.
    pub failed: u64,
    /// Milliseconds at the 50th, 75th and 95th percentile.
    pub ms: Vec<Reading>,
    /// Statuses, codes of the application, pages that asked: most first.
    pub statuses: Vec<(String, u64)>,
    /// How often each code of the application came.
    pub codes: Vec<(String, u64)>,
    /// How often each page family asked.
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

/// The columns that [`calls`] reads of everything that happened; where buckets are whole hours moments do not matter.
pub fn columns(bucket_s: i64) -> Vec<&'static str> {
    let moments = (bucket_s % 3_600 != 0).then_some("at");
    ["what", "name", "ms", "status", "family"].into_iter().chain(moments).collect()
}

/// The columns that [`calls`] reads of what went wrong.
pub const FAILURES: [&str; 9] =
    ["what", "name", "status", "code", "trace", "fault", "view", "visit", "at"];

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
    visits: IdSet,
}

impl Gathered {
    fn absorb(&mut self, other: Gathered) {
        self.count += other.count;
        self.failed += other.failed;
        self.ms.extend(other.ms);
        other.statuses.into_iter().for_each(|(s, n)| *self.statuses.entry(s).or_default() += n);
        other.codes.into_iter().for_each(|(c, n)| bump(&mut self.codes, &c, n));
        other.pages.into_iter().for_each(|(p, n)| bump(&mut self.pages, &p, n));
        self.faults.iter_mut().zip(other.faults).for_each(|(ours, theirs)| *ours += theirs);
        self.newest.extend(other.newest);
        self.visits.extend(other.visits);
    }
}

/// Calls of one kind in a stretch, by family and by time.
pub struct AllCalls {
    /// Those that failed most often first.
    pub families: Vec<Calls>,
    /// The course of all of them, or of one family.
    pub over: Vec<Bucket>,
}

/// Which families of calls are asked about.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub enum Which {
    /// All of them.
    #[default]
    All,
    /// The one of this name.
    Named(String),
    /// Those that go to one of these hosts.
    To(Vec<String>),
}

impl Which {
    /// Whether a family is among them.
    pub fn takes(&self, name: &str) -> bool {
        match self {
            Which::All => true,
            Which::Named(own) => own == name,
            Which::To(hosts) => hosts.iter().any(|host| host_of(name) == host),
        }
    }
}

/// The host that a family of calls goes to, by its name: a method, if it has one, and an address.
pub fn host_of(name: &str) -> &str {
    let address = name.rsplit_once(' ').map_or(name, |(_, address)| address);
    address.split('/').next().unwrap_or_default()
}

/// Hosts that were called for whatever was asked for by scripts or makes up pages, those called most first.
pub fn hosts(sheets: &[Sheet]) -> Vec<(String, u64)> {
    let mut all: HashMap<String, u64> = HashMap::new();
    for sheet in sheets {
        let (Some(whats), Some(names)) = (sheet.words("what"), sheet.words("name")) else {
            continue;
        };
        let is_call: Vec<bool> =
            whats.values.iter().map(|w| w == "request" || w == "resource").collect();
        let mut counts = vec![0u64; names.values.len()];
        for row in 0..sheet.rows {
            let what = whats.codes.at(row).and_then(|w| is_call.get(w)).copied();
            if let Some(name) = names.codes.at(row).filter(|_| what == Some(true)) {
                counts[name] += 1;
            }
        }
        for (name, n) in names.values.iter().zip(counts).filter(|(_, n)| *n > 0) {
            let host = host_of(name);
            if !host.is_empty() {
                *all.entry(host.to_string()).or_default() += n;
            }
        }
    }
    most_first(all)
}

/// Everything of these kinds (`request`, `resource`) in the stretch, with what of it went wrong; the course of those that are
/// asked about, and of families to one host alone those.
pub fn calls(
    sheets: &[Sheet],
    failures: &[Sheet],
    stretch: Stretch,
    filter: &Filter,
    whats: &[&str],
    which: &Which,
    bucket_s: i64,
) -> AllCalls {
    let (mut all, more) = in_halves(sheets, |half| {
        let mut all = Gathering { by: HashMap::new(), over: Timeline::new(bucket_s), which };
        for sheet in half {
            let keep = rows(sheet, stretch, filter);
            whats.iter().for_each(|what| all.take(sheet, &keep, what));
        }
        all
    });
    all.over.absorb(more.over);
    for (name, gathered) in more.by {
        all.by.entry(name).or_default().absorb(gathered);
    }
    for sheet in failures {
        let keep = rows(sheet, stretch, filter);
        whats.iter().for_each(|what| all.take_failures(sheet, &keep, what));
    }
    let to_host = matches!(which, Which::To(_));
    let told = all.by.into_iter().filter(|(name, _)| !to_host || which.takes(name));
    let mut families: Vec<Calls> = told.map(|(name, g)| family(name, g)).collect();
    families.sort_by(|a, b| (b.failed, b.count, &a.name).cmp(&(a.failed, a.count, &b.name)));
    AllCalls { families, over: all.over.buckets() }
}

fn family(name: String, mut g: Gathered) -> Calls {
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
}

struct Gathering<'a> {
    by: HashMap<String, Gathered>,
    over: Timeline,
    /// Those whose course is told.
    which: &'a Which,
}

impl Gathering<'_> {
    /// Takes in the calls of an hour. What there are few of (names, statuses, pages) is counted by its code.
    fn take(&mut self, sheet: &Sheet, keep: &[bool], what: &str) {
        let (Some(whats), Some(names)) = (sheet.words("what"), sheet.words("name")) else { return };
        let Some(what) = whats.values.iter().position(|w| w == what) else { return };
        let (ms, moments, begin) = (sheet.figures("ms"), sheet.moments("at"), sheet.hour_s * 1_000);
        let coded = sheet.coded("status");
        let mut pages = Counts::of(sheet.words("family"), names);
        let mut statuses = Counts::of(coded.as_deref(), names);
        let wanted: Vec<bool> = names.values.iter().map(|n| self.which.takes(n)).collect();
        let mut counts = vec![0u64; names.values.len()];
        let mut times: Vec<Vec<f64>> = vec![Vec::new(); names.values.len()];
        for row in (0..sheet.rows).filter(|row| keep[*row]) {
            let Some(name) = names.codes.at(row).filter(|_| whats.codes.at(row) == Some(what))
            else {
                continue;
            };
            let took = ms.at(row).map(f64::from);
            counts[name] += 1;
            times[name].extend(took);
            pages.add(name, row);
            statuses.add(name, row);
            if wanted[name] {
                let at_ms = begin + moments.get(row).map_or(0, |at| i64::from(*at));
                self.over.add(at_ms, false, took);
            }
        }
        let gathered = counts.into_iter().zip(times).enumerate().filter(|(_, (n, _))| *n > 0);
        for (name, (count, times)) in gathered {
            let g = self.by.entry(names.values[name].clone()).or_default();
            g.count += count;
            g.ms.extend(times);
            pages.of_name(name).for_each(|(page, n)| bump(&mut g.pages, page, n));
            for (status, n) in statuses.of_name(name) {
                *g.statuses.entry(status_of(*status)).or_default() += n;
            }
            // Without a status in the whole hour nobody was answered.
            if statuses.column.is_none() {
                *g.statuses.entry(0).or_default() += count;
            }
            if pages.column.is_none() {
                bump(&mut g.pages, "", count);
            }
        }
    }

    /// Takes in what of the calls of an hour went wrong; they are counted already.
    fn take_failures(&mut self, sheet: &Sheet, keep: &[bool], what: &str) {
        let (whats, names) = (sheet.texts("what"), sheet.texts("name"));
        for row in (0..sheet.rows).filter(|row| keep[*row] && whats.at(*row) == what) {
            let name = names.at(row);
            let Some(g) = self.by.get_mut(name).filter(|g| g.failed < g.count) else { continue };
            take_failure(g, sheet, row);
            if let Some(at_ms) = sheet.at_ms(row)
                && self.which.takes(name)
            {
                self.over.fail(at_ms);
            }
        }
    }
}

/// How often each name comes with each value of another column.
struct Counts<'a, T> {
    column: Option<&'a Coded<T>>,
    names: usize,
    counts: Vec<u64>,
}

impl<'a, T> Counts<'a, T> {
    fn of(column: Option<&'a Coded<T>>, names: &Coded<String>) -> Counts<'a, T> {
        let (names, values) = (names.values.len(), column.map_or(0, |c| c.values.len()));
        Counts { column, names, counts: vec![0; names * values] }
    }

    fn add(&mut self, name: usize, row: usize) {
        if let Some(value) = self.column.and_then(|c| c.codes.at(row)) {
            self.counts[value * self.names + name] += 1;
        }
    }

    fn of_name(&self, name: usize) -> impl Iterator<Item = (&'a T, u64)> + '_ {
        let values = self.column.into_iter().flat_map(|c| &c.values).enumerate();
        values
            .map(move |(value, of)| (of, self.counts[value * self.names + name]))
            .filter(|(_, n)| *n > 0)
    }
}

/// A status as it is kept among numbers; what is unknown is 0.
fn status_of(bits: u32) -> u16 {
    Some(f32::from_bits(bits)).filter(|s| !s.is_nan()).map_or(0, |s| s as u16)
}

fn take_failure(g: &mut Gathered, sheet: &Sheet, row: usize) {
    g.failed += 1;
    let (code, fault) = (sheet.text("code", row), sheet.text("fault", row));
    if !code.is_empty() {
        bump(&mut g.codes, code, 1);
    }
    if let Some(nth) = Fault::ALL.iter().position(|f| f.words() == fault) {
        g.faults[nth] += 1;
    }
    let visit = sheet.id("visit", row).unwrap_or(0);
    g.visits.insert(visit);
    if let (Some(at), Some(view)) = (sheet.at_ms(row), sheet.id("view", row)) {
        g.newest.push(Failed {
            at: Timestamp::from_millisecond(at).unwrap_or_default(),
            view: Uuid::from_u128(view),
            visit: Uuid::from_u128(visit),
            status: sheet.number("status", row).map_or(0, |s| s as u16),
            code: code.to_string(),
            trace: sheet.text("trace", row).to_string(),
        });
        if g.newest.len() > 64 {
            newest_first(&mut g.newest);
        }
    }
}

fn newest_first(failed: &mut Vec<Failed>) {
    failed.sort_by_key(|f| std::cmp::Reverse(f.at));
    failed.truncate(NAMED);
}

fn bump(counts: &mut HashMap<String, u64>, key: &str, more: u64) {
    match counts.get_mut(key) {
        Some(n) => *n += more,
        None => {
            counts.insert(key.to_string(), more);
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
    use crate::visitor::filed::failures;
    use crate::visitor::sheet::Column;
    use proptest::prelude::*;

    const HOUR: i64 = 1_795_000_000 / 3_600 * 3_600;

    /// Name, status, milliseconds, code.
    fn sheet(rows: &[(usize, u16, f32, &str)], first: usize) -> Sheet {
        let nth = first..first + rows.len();
        let mut s = Sheet::new(HOUR);
        let failed = |r: &(usize, u16, f32, &str)| r.1 >= 400;
        let columns = [
            ("at", Column::Moments(nth.clone().map(|n| n as u32).collect())),
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
            ("view", Column::ids(nth.map(|n| n as u128))),
            ("visit", Column::ids(rows.iter().map(|r| r.0 as u128))),
        ];
        columns.into_iter().for_each(|(name, column)| s.put(name, column).unwrap());
        s
    }

    fn of_all(rows: &[(usize, u16, f32, &str)], what: &str, which: &Which) -> AllCalls {
        let hour = Stretch { from: at_second(HOUR), to: at_second(HOUR + 3_600) };
        // Once in two sheets, so that halves are brought together, too.
        let (front, back) = rows.split_at(rows.len() / 2);
        let sheets = [sheet(front, 0), sheet(back, front.len())];
        let failures = sheets.each_ref().map(|s| failures(s).unwrap());
        calls(&sheets, &failures, hour, &Filter::default(), &[what], which, 60)
    }

    #[test]
    fn a_family_of_calls_tells_its_failures_their_codes_and_the_newest() {
        let rows = [
            (1, 200, 80.0, ""),
            (1, 503, 20.0, "BUSY"),
            (1, 503, 30.0, "BUSY"),
            (2, 200, 10.0, ""),
        ];
        let all = of_all(&rows, "request", &Which::All).families;
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
        assert!(of_all(&rows, "resource", &Which::All).families.is_empty());
        let of = |which: Which| of_all(&rows, "request", &which).over;
        assert_eq!((of(Which::All)[0].count, of(Which::All)[0].failed), (4, 2));
        let second = of(Which::Named("GET /2".into()));
        assert_eq!((second[0].count, second[0].p75.value), (1, Some(10.0)));
    }

    #[test]
    fn a_family_goes_to_the_host_that_its_name_says_and_no_further() {
        for (name, host) in [
            ("GET book.marram.example/api/sailings", "book.marram.example"),
            ("tiles.isles-map.example/‹n›/‹n›.png", "tiles.isles-map.example"),
            ("POST pay.example", "pay.example"),
            ("GET /api/sailings", ""),
            ("", ""),
        ] {
            assert_eq!(host_of(name), host, "{name}");
            let to = Which::To(vec!["other.example".into(), "pay.example".into()]);
            assert_eq!(to.takes(name), host == "pay.example");
        }
        let part = Which::To(vec!["example".into()]);
        assert!(!part.takes("GET pay.example/x"), "nor to a part of one");
    }

    #[test]
    fn hosts_are_those_that_were_called_the_one_called_most_first() {
        let words = |all: [&str; 5]| Column::words(all);
        let mut s = Sheet::new(HOUR);
        let what = words(["request", "resource", "resource", "error", "action"]);
        let name = words(["GET a.example/1", "b.example/2", "b.example/3", "c.example x", "Pay"]);
        s.put("what", what).unwrap();
        s.put("name", name).unwrap();
        let found = hosts(&[s]);
        assert_eq!(found, [("b.example".to_string(), 2), ("a.example".to_string(), 1)]);
    }

    proptest! {
        #[test]
        fn every_call_is_in_one_family_and_every_failure_is_somebodys(
            rows in prop::collection::vec((0..4usize, prop::sample::select(vec![200u16, 404, 503]), 1f32..900.0), 0..60),
        ) {
            let rows: Vec<_> = rows.into_iter().map(|(n, s, ms)| (n, s, ms, "")).collect();
            let all = of_all(&rows, "request", &Which::All).families;
            prop_assert_eq!(all.iter().map(|c| c.count).sum::<u64>(), rows.len() as u64);
            for c in &all {
                prop_assert_eq!(c.faults.iter().sum::<u64>(), c.failed);
                prop_assert_eq!(c.statuses.iter().map(|s| s.1).sum::<u64>(), c.count);
            }
        }
    }
}
