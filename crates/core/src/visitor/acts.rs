//! What visitors do: actions as things of their own, with what came of them; and whose visits had most trouble.

use super::attribute::Filter;
use super::calls::most_first;
use super::over::{Bucket, Over};
use super::sheet::{Coded, IdHasher, IdMap, Sheet};
use super::slices::rows;
use crate::calendar::Stretch;
use crate::stats::{Reading, readings};
use jiff::Timestamp;
use std::collections::{BTreeMap, HashMap};
use std::hash::BuildHasherDefault;

/// The same action again within this time of one that failed is another try.
pub const AGAIN_MS: f64 = 30_000.0;

/// What came of the actions of one name.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Action {
    pub name: String,
    /// Page family where it is done most.
    pub page: String,
    pub attempts: u64,
    /// Attempts that led to a request that failed or to a script error.
    pub failed: u64,
    /// Attempts that repeat a failed one within [`AGAIN_MS`].
    pub again: u64,
    /// Failed attempts after which the visit did nothing more.
    pub left: u64,
    /// Requests they led to, and milliseconds until the last of them had come, at the 50th and 75th percentile.
    pub requests: u64,
    pub ms: Vec<Reading>,
    /// What they asked for, most first.
    pub asked: Vec<(String, u64)>,
}

/// The columns that [`Attempts::of`] reads of what happened.
pub const COLUMNS: [&str; 11] = ["at", "what", "name", "after", "nth", "by", "ms", "failed", "family", "view", "visit"];

/// What came of the actions of one name: counts, times until the answer, what they asked for, the pages.
type Gathered = (Action, Vec<f64>, HashMap<u32, u64>, HashMap<u32, u64>);

struct One {
    visit: u128,
    view: u128,
    nth: u16,
    /// Milliseconds since 1970.
    at: f64,
    /// Which of [`Attempts::words`] it is called, and the page.
    name: u32,
    page: u32,
    failed: bool,
    until: Option<f64>,
    asked: Vec<u32>,
}

/// Texts, each kept once: millions of attempts have few names.
#[derive(Default)]
struct Words {
    known: HashMap<String, u32>,
    texts: Vec<String>,
}

impl Words {
    fn code(&mut self, text: &str) -> u32 {
        if let Some(code) = self.known.get(text) {
            return *code;
        }
        let code = self.texts.len() as u32;
        self.known.insert(text.to_string(), code);
        self.texts.push(text.to_string());
        code
    }

    fn text(&self, code: u32) -> &str {
        &self.texts[code as usize]
    }
}

/// By page view and place in what it told.
type Places = HashMap<(u128, u16), usize, BuildHasherDefault<IdHasher>>;

/// Everything that visitors of a stretch did, in order of visit and time.
pub struct Attempts {
    all: Vec<One>,
    words: Words,
    /// When each visit was last heard of, in milliseconds since 1970.
    last: IdMap<f64>,
}

impl Attempts {
    /// An attempt fails when a request or error that it led to did. (Which one led to it, the snippet tells: what begins
    /// within a second of an action. Common practice, no published source.)
    pub fn of(sheets: &[Sheet], stretch: Stretch, filter: &Filter) -> Attempts {
        let (mut all, mut words, mut last): (Vec<One>, Words, IdMap<f64>) = Default::default();
        for sheet in sheets {
            let keep = rows(sheet, stretch, filter);
            let mut of = Places::default();
            let (whats, names, pages) = (sheet.texts("what"), sheet.texts("name"), sheet.texts("family"));
            let (after, nths, bys) = (sheet.figures("after"), sheet.figures("nth"), sheet.figures("by"));
            let (ms, failed) = (sheet.figures("ms"), sheet.texts("failed"));
            // Which visit it was is forgotten after a while.
            let (visits, views) = (sheet.ids("visit"), sheet.ids("view"));
            let moments = sheet.moments("at");
            let begin = sheet.hour_s as f64 * 1_000.0;
            let at = |row: usize| {
                begin + f64::from(moments.get(row).copied().unwrap_or(0)) + f64::from(after.at(row).unwrap_or(0.0))
            };
            let id = |ids: Option<&Coded<u128>>, row: usize| ids.and_then(|i| i.get(row)).copied().unwrap_or(0);
            let here = || (0..sheet.rows).filter(|row| keep[*row]);
            for row in here() {
                let (visit, view) = (id(visits, row), id(views, row));
                let latest = last.entry(visit).or_insert(0.0);
                *latest = latest.max(at(row));
                if whats.at(row) != "action" {
                    continue;
                }
                let nth = nths.at(row).unwrap_or(0.0) as u16;
                of.insert((view, nth), all.len());
                let (name, page) = (words.code(names.at(row)), words.code(pages.at(row)));
                let (failed, until, asked) = (false, None, Vec::new());
                all.push(One { visit, view, nth, at: at(row), name, page, failed, until, asked });
            }
            for row in here() {
                let Some(by) = bys.at(row) else { continue };
                let Some(one) = of.get(&(id(views, row), by as u16)).and_then(|i| all.get_mut(*i)) else { continue };
                one.failed |= !failed.at(row).is_empty();
                if whats.at(row) == "request" {
                    one.asked.push(words.code(names.at(row)));
                    let came = at(row) + f64::from(ms.at(row).unwrap_or(0.0)) - one.at;
                    one.until = Some(one.until.unwrap_or(0.0).max(came));
                }
            }
        }
        all.sort_unstable_by(|a, b| {
            let by_time = || a.at.total_cmp(&b.at);
            a.visit.cmp(&b.visit).then_with(by_time).then_with(|| (a.view, a.nth).cmp(&(b.view, b.nth)))
        });
        Attempts { all, words, last }
    }

    /// By bucket of time; of one action only, if `name` says which. What took a time is the last request it led to.
    pub fn over(&self, name: Option<&str>, bucket_s: i64) -> Vec<Bucket> {
        let mut over = Over::new(bucket_s);
        for one in self.all.iter().filter(|one| name.is_none_or(|n| self.words.text(one.name) == n)) {
            over.add(one.at as i64, one.failed, one.until);
        }
        over.buckets()
    }

    /// By name, those that failed most often first.
    pub fn actions(&self) -> Vec<Action> {
        let mut by: BTreeMap<u32, Gathered> = BTreeMap::new();
        // Name and moment of each attempt of the visit at hand that failed and was not yet tried again with success.
        let (mut visit, mut failed_at): (u128, Vec<(u32, f64)>) = (0, Vec::new());
        for one in &self.all {
            if one.visit != visit {
                visit = one.visit;
                failed_at.clear();
            }
            let (action, ms, asked, pages) = by.entry(one.name).or_default();
            action.attempts += 1;
            action.requests += one.asked.len() as u64;
            ms.extend(one.until);
            one.asked.iter().for_each(|name| *asked.entry(*name).or_default() += 1);
            *pages.entry(one.page).or_default() += 1;
            if visit == 0 {
                action.failed += u64::from(one.failed);
                continue;
            }
            let before = failed_at.iter().position(|(name, _)| *name == one.name);
            if before.is_some_and(|i| one.at - failed_at[i].1 <= AGAIN_MS) {
                action.again += 1;
            }
            before.map(|i| failed_at.swap_remove(i));
            if one.failed {
                action.failed += 1;
                failed_at.push((one.name, one.at));
                // What it led to itself came within its own time; anything later is going on.
                let over = one.at + one.until.unwrap_or(0.0) + 1_000.0;
                action.left += u64::from(self.last.get(&one.visit).is_none_or(|l| *l <= over));
            }
        }
        let named = |counts: HashMap<u32, u64>| {
            most_first(counts.into_iter().map(|(code, n)| (self.words.text(code).to_string(), n)))
        };
        let mut out: Vec<Action> = by
            .into_iter()
            .map(|(name, (action, ms, asked, pages))| Action {
                name: self.words.text(name).to_string(),
                page: named(pages).into_iter().next().map_or(String::new(), |(page, _)| page),
                ms: readings(&ms, &[0.5, 0.75]).0,
                asked: named(asked),
                ..action
            })
            .collect();
        out.sort_by(|a, b| (b.failed, b.attempts, &a.name).cmp(&(a.failed, a.attempts, &b.name)));
        out
    }
}

/// What befell one visit, or one person.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Trouble {
    pub id: u128,
    pub page_views: u64,
    pub errors: u64,
    pub abandoned: u64,
    pub blank: u64,
    /// Page views whose largest paint was poor.
    pub slow: u64,
    pub last: Timestamp,
    /// The page family it was on last.
    pub page: String,
}

impl Trouble {
    /// How many page views had trouble of any kind, each kind counted.
    pub fn score(&self) -> u64 {
        self.errors + self.abandoned + self.blank + self.slow
    }
}

/// Those with most trouble, by `visit` or `person`, worst first.
pub fn troubled(sheets: &[Sheet], stretch: Stretch, filter: &Filter, column: &str, most: usize) -> Vec<Trouble> {
    let mut by: IdMap<Trouble> = IdMap::default();
    let poor = crate::timing::Vital::Lcp.thresholds().1 as f32;
    for sheet in sheets {
        let keep = rows(sheet, stretch, filter);
        let Some(ids) = sheet.ids(column) else { continue };
        let (endings, pages) = (sheet.texts("ended"), sheet.texts("family"));
        let (errors, lcp) = (sheet.figures("errors"), sheet.figures("lcp"));
        for row in (0..sheet.rows).filter(|row| keep[*row]) {
            let Some(id) = ids.get(row).copied().filter(|id| *id != 0) else { continue };
            let t = by.entry(id).or_default();
            let ended = endings.at(row);
            t.id = id;
            t.page_views += 1;
            t.errors += u64::from(errors.at(row).is_some_and(|n| n > 0.0));
            t.abandoned += u64::from(ended.starts_with("abandoned"));
            t.blank += u64::from(ended.ends_with("blank"));
            t.slow += u64::from(lcp.at(row).is_some_and(|v| v > poor));
            let at = sheet.at_ms(row).and_then(|ms| Timestamp::from_millisecond(ms).ok()).unwrap_or_default();
            if at >= t.last {
                t.last = at;
                t.page = pages.at(row).to_string();
            }
        }
    }
    let mut all: Vec<Trouble> = by.into_values().filter(|t| t.score() > 0).collect();
    all.sort_by(|a, b| b.score().cmp(&a.score()).then(b.last.cmp(&a.last)).then(a.id.cmp(&b.id)));
    all.truncate(most);
    all
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::calendar::stretch::at_second;
    use crate::visitor::sheet::Column;

    const HOUR: i64 = 1_795_000_000 / 3_600 * 3_600;

    /// What, name, second, nth, by, milliseconds, failed, visit. All of one page view a visit.
    type Row = (&'static str, &'static str, f32, u16, Option<u16>, Option<f32>, bool, u128);

    fn sheet(rows: &[Row]) -> Sheet {
        let mut s = Sheet::new(HOUR);
        let columns = [
            ("at", Column::Moments(vec![0; rows.len()])),
            ("what", Column::words(rows.iter().map(|r| r.0))),
            ("name", Column::words(rows.iter().map(|r| r.1))),
            ("after", Column::numbers(rows.iter().map(|r| Some(r.2 * 1_000.0)))),
            ("nth", Column::numbers(rows.iter().map(|r| Some(f32::from(r.3))))),
            ("by", Column::numbers(rows.iter().map(|r| r.4.map(f32::from)))),
            ("ms", Column::numbers(rows.iter().map(|r| r.5))),
            ("failed", Column::words(rows.iter().map(|r| if r.6 { "failed" } else { "" }))),
            ("family", Column::words(rows.iter().map(|_| "Cabin"))),
            ("view", Column::ids(rows.iter().map(|r| r.7))),
            ("visit", Column::ids(rows.iter().map(|r| r.7))),
        ];
        columns.into_iter().for_each(|(name, column)| s.put(name, column).unwrap());
        s
    }

    #[test]
    fn an_action_tells_its_tries_its_failures_and_who_gave_up() {
        let rows: [Row; 9] = [
            // Fails, is tried again, works.
            ("action", "pay", 1.0, 0, None, None, false, 1),
            ("request", "POST /pay", 1.1, 1, Some(0), Some(300.0), true, 1),
            ("action", "pay", 9.0, 2, None, None, false, 1),
            ("request", "POST /pay", 9.1, 3, Some(2), Some(500.0), false, 1),
            // Fails, and nothing follows.
            ("action", "pay", 5.0, 0, None, None, false, 2),
            ("error", "x is gone", 5.2, 1, Some(0), None, true, 2),
            // Works at once; the error had another reason.
            ("action", "pay", 2.0, 0, None, None, false, 3),
            ("error", "y is gone", 30.0, 1, None, None, true, 3),
            ("action", "help", 3.0, 2, None, None, false, 3),
        ];
        let stretch = Stretch { from: at_second(HOUR), to: at_second(HOUR + 3_600) };
        let attempts = Attempts::of(&[sheet(&rows)], stretch, &Filter::default());
        let all = attempts.actions();
        let pay = &all[0];
        assert_eq!((pay.name.as_str(), pay.attempts, pay.failed, pay.again, pay.left), ("pay", 4, 2, 1, 1));
        assert_eq!(
            (pay.requests, pay.asked.clone(), pay.page.as_str()),
            (2, vec![("POST /pay".to_string(), 2)], "Cabin")
        );
        // Until the answer: 100 and 300 ms, 100 and 500 ms.
        assert!((pay.ms[0].value.unwrap() - 400.0).abs() < 1.0 && (pay.ms[1].value.unwrap() - 600.0).abs() < 1.0);
        assert_eq!((all[1].name.as_str(), all[1].attempts, all[1].failed), ("help", 1, 0));
        let over = attempts.over(Some("pay"), 3_600);
        assert_eq!((over[0].count, over[0].failed, over[0].p75.samples), (4, 2, 2));
    }
}
