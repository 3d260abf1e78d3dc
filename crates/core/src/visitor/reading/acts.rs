//! What visitors do: actions as things of their own, with what came of them; and whose visits had most trouble.

use crate::calendar::Stretch;
use crate::stats::{Reading, readings};
use crate::visitor::filed::attribute::Filter;
use crate::visitor::filed::sheet::{Coded, IdMap, IdSet, Sheet};
use crate::visitor::reading::calls::most_first;
use crate::visitor::reading::slices::{at_once, in_halves, rows};
use crate::visitor::reading::timeline::{Bucket, Timeline};
use jiff::Timestamp;
use serde::Serialize;
use std::collections::HashMap;

/// The same action again within this time of one that failed is another try.
pub const AGAIN_MS: f64 = 30_000.0;

/// What came of the actions of one name.
#[derive(Debug, Clone, Default, PartialEq, Serialize)]
pub struct Action {
    /// Its name.
    pub name: String,
    /// Page family where it is done most.
    pub page: String,
    /// How often it was tried.
    pub attempts: u64,
    /// Attempts that led to a request that failed or to a script error.
    pub failed: u64,
    /// Attempts that repeat a failed one within [`AGAIN_MS`].
    pub again: u64,
    /// Failed attempts after which the visit did nothing more.
    pub left: u64,
    /// Requests they led to, and milliseconds until the last of them had come, at the 50th and 75th percentile.
    pub requests: u64,
    /// Milliseconds until the last request had come.
    pub ms: Vec<Reading>,
    /// What they asked for, most first.
    pub asked: Vec<(String, u64)>,
}

/// The columns that [`actions`] reads of what happened.
pub const COLUMNS: [&str; 11] = [
    "at",
    "what",
    "name",
    "after",
    "nth",
    "by",
    "ms",
    "failed",
    "family",
    "view.groups",
    "visit.alike",
];

/// What came of the actions of one name.
#[derive(Default)]
struct Gathered {
    action: Action,
    /// Milliseconds until the last request had come.
    ms: Vec<f64>,
    /// How often on each page, by its code.
    pages: Vec<u64>,
}

/// One attempt.
struct One {
    visit: u128,
    /// Milliseconds since 1970.
    at: f64,
    /// Milliseconds until the last request it led to had come; NaN when it led to none.
    until: f32,
    /// Which of the words it is called, and the page.
    name: u32,
    page: u32,
    requests: u16,
    failed: bool,
}

impl One {
    fn until(&self) -> Option<f64> {
        Some(f64::from(self.until)).filter(|ms| !ms.is_nan())
    }
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

    /// The code of every value of a column.
    fn codes(&mut self, column: Option<&Coded<String>>) -> Vec<u32> {
        column.map_or(vec![], |c| c.values.iter().map(|v| self.code(v)).collect())
    }

    /// The code here of every word of others.
    fn codes_of(&mut self, other: &Words) -> Vec<u32> {
        other.texts.iter().map(|text| self.code(text)).collect()
    }

    fn text(&self, code: usize) -> &str {
        &self.texts[code]
    }
}

/// Actions of an hour by their page view and place in what it told: for each page view its newest action, for each action
/// its place and the one before it of the same page view.
struct Places {
    newest: Vec<u32>,
    before: Vec<(u16, u32)>,
}

/// No action.
const NONE: u32 = u32::MAX;

impl Places {
    fn of(page_views: usize) -> Places {
        Places { newest: vec![NONE; page_views], before: Vec::new() }
    }

    fn put(&mut self, page_view: usize, nth: u16) {
        let newest = &mut self.newest[page_view];
        self.before.push((nth, *newest));
        *newest = self.before.len() as u32 - 1;
    }

    fn find(&self, page_view: usize, nth: u16) -> Option<usize> {
        let mut at = self.newest[page_view];
        while let Some((of, before)) = self.before.get(at as usize) {
            if *of == nth {
                return Some(at as usize);
            }
            at = *before;
        }
        None
    }
}

/// When what a row tells of happened, in milliseconds since 1970.
fn moments(sheet: &Sheet) -> impl Fn(usize) -> f64 + '_ {
    let (at, after) = (sheet.moments("at"), sheet.figures("after"));
    let begin = sheet.hour_s as f64 * 1_000.0;
    move |row| {
        begin
            + f64::from(at.get(row).copied().unwrap_or(0))
            + f64::from(after.at(row).unwrap_or(0.0))
    }
}

/// What visitors of a stretch did, by name and by time.
pub struct AllActions {
    /// Those that failed most often first.
    pub actions: Vec<Action>,
    /// The course of all of them, or of one.
    pub over: Vec<Bucket>,
}

/// What visitors of a stretch did; the course of one action, if `name` says which. `bucket_s` is the length of a bucket.
///
/// An attempt fails when a request or error that it led to did. (Which one led to it, the snippet tells: what begins
/// within a second of an action. Common practice, no published source.)
pub fn actions(
    sheets: &[Sheet],
    stretch: Stretch,
    filter: &Filter,
    name: Option<&str>,
    bucket_s: i64,
) -> AllActions {
    let (mut all, more) = in_halves(sheets, |half| {
        let mut all = Gathering { over: Timeline::new(bucket_s), name, ..Gathering::default() };
        for sheet in half {
            let hour = attempts(sheet, &rows(sheet, stretch, filter), &mut all.words);
            all.take(hour);
        }
        all
    });
    all.absorb(more);
    // Of what millions of visits did afterwards only that of a few is asked about.
    if !all.failed.is_empty() {
        let failed = std::mem::take(&mut all.failed);
        let (front, back) = in_halves(sheets, |half| Followed::of(half, stretch, filter, &failed));
        all.follow(front, back);
    }
    let over = std::mem::replace(&mut all.over, Timeline::new(bucket_s)).buckets();
    AllActions { actions: all.actions(), over }
}

/// What was done in an hour, and how often each action asked for what.
#[derive(Default)]
struct Hour {
    ones: Vec<One>,
    asked: HashMap<(u32, u32), u64>,
}

/// What was done in an hour, by the rows that count.
fn attempts(sheet: &Sheet, keep: &[bool], all: &mut Words) -> Hour {
    let mut hour = Hour::default();
    let (Some(whats), Some(names)) = (sheet.words("what"), sheet.words("name")) else {
        return hour;
    };
    let is = |word: &str| whats.values.iter().position(|w| w == word);
    let (Some(action), request) = (is("action"), is("request")) else { return hour };
    let Some((views, page_views)) = sheet.groups("view.groups") else { return hour };
    let pages = sheet.words("family");
    let (name_of, page_of) = (all.codes(Some(names)), all.codes(pages));
    let nameless = all.code("");
    let (nths, bys, ms, failed) =
        (sheet.figures("nth"), sheet.figures("by"), sheet.figures("ms"), sheet.words("failed"));
    let is_failure: Vec<bool> =
        failed.map_or(vec![], |f| f.values.iter().map(|v| !v.is_empty()).collect());
    // Which visit it was is forgotten after a while.
    let visits = sheet.ids("visit.alike");
    let at = moments(sheet);
    let mut places = Places::of(page_views);
    let here = || (0..sheet.rows).filter(|row| keep[*row]);
    for row in here().filter(|row| whats.codes.at(*row) == Some(action)) {
        let (Some(view), Some(name)) = (views.at(row), names.codes.at(row)) else { continue };
        let page = pages.and_then(|p| page_of.get(p.codes.at(row)?)).copied();
        places.put(view, nths.at(row).unwrap_or(0.0) as u16);
        hour.ones.push(One {
            visit: visits.and_then(|v| v.get(row)).copied().unwrap_or(0),
            at: at(row),
            until: f32::NAN,
            name: name_of[name],
            page: page.unwrap_or(nameless),
            requests: 0,
            failed: false,
        });
    }
    if sheet.column("by").is_none() {
        return hour;
    }
    for row in here() {
        let Some(by) = bys.at(row) else { continue };
        let place = views.at(row).and_then(|view| places.find(view, by as u16));
        let Some(one) = place.and_then(|i| hour.ones.get_mut(i)) else { continue };
        one.failed |= failed.and_then(|f| f.codes.at(row)).is_some_and(|c| is_failure[c]);
        if request.is_some() && whats.codes.at(row) == request {
            if let Some(name) = names.codes.at(row) {
                *hour.asked.entry((one.name, name_of[name])).or_default() += 1;
            }
            one.requests += 1;
            let came = at(row) + f64::from(ms.at(row).unwrap_or(0.0)) - one.at;
            // The greater of both; a number beside NaN is the greater.
            one.until = one.until.max(came.max(0.0) as f32);
        }
    }
    hour
}

struct Gathering<'a> {
    words: Words,
    /// By the code of their name.
    by: Vec<Gathered>,
    asked: HashMap<(u32, u32), u64>,
    over: Timeline,
    /// The action whose course is told; of all without one.
    name: Option<&'a str>,
    /// Visits in which an attempt failed.
    failed: IdSet,
}

impl Default for Gathering<'_> {
    fn default() -> Self {
        Gathering {
            words: Words::default(),
            by: Vec::new(),
            asked: HashMap::new(),
            over: Timeline::new(1),
            name: None,
            failed: IdSet::default(),
        }
    }
}

impl Gathering<'_> {
    fn take(&mut self, hour: Hour) {
        let wanted = self.name.map(|name| self.words.known.get(name).copied());
        self.by.resize_with(self.words.texts.len(), Gathered::default);
        for one in &hour.ones {
            let g = &mut self.by[one.name as usize];
            g.action.attempts += 1;
            g.action.failed += u64::from(one.failed);
            g.action.requests += u64::from(one.requests);
            g.ms.extend(one.until());
            let page = one.page as usize;
            if g.pages.len() <= page {
                g.pages.resize(page + 1, 0);
            }
            g.pages[page] += 1;
            if one.failed && one.visit != 0 {
                self.failed.insert(one.visit);
            }
            // What took a time is the last request it led to.
            if wanted.is_none_or(|wanted| wanted == Some(one.name)) {
                self.over.add(one.at as i64, one.failed, one.until());
            }
        }
        for (asked, n) in hour.asked {
            *self.asked.entry(asked).or_default() += n;
        }
    }

    fn absorb(&mut self, other: Gathering<'_>) {
        let codes = self.words.codes_of(&other.words);
        let ours = |code: u32| codes[code as usize];
        self.by.resize_with(self.words.texts.len(), Gathered::default);
        for (name, more) in other.by.into_iter().enumerate() {
            let g = &mut self.by[ours(name as u32) as usize];
            g.action.attempts += more.action.attempts;
            g.action.failed += more.action.failed;
            g.action.requests += more.action.requests;
            g.ms.extend(more.ms);
            for (page, n) in more.pages.into_iter().enumerate() {
                let page = ours(page as u32) as usize;
                if g.pages.len() <= page {
                    g.pages.resize(page + 1, 0);
                }
                g.pages[page] += n;
            }
        }
        for ((name, asked), n) in other.asked {
            *self.asked.entry((ours(name), ours(asked))).or_default() += n;
        }
        self.over.absorb(other.over);
        self.failed.extend(other.failed);
    }

    /// Counts who tried again after a failure, and who did nothing more.
    fn follow(&mut self, front: Followed, back: Followed) {
        let mut last = front.last;
        for (visit, at) in back.last {
            let latest = last.entry(visit).or_insert(0.0);
            *latest = latest.max(at);
        }
        let mut ones: Vec<One> = Vec::new();
        for (words, more) in [(front.words, front.ones), (back.words, back.ones)] {
            let codes = self.words.codes_of(&words);
            ones.extend(more.into_iter().map(|one| One { name: codes[one.name as usize], ..one }));
        }
        ones.sort_by(|a, b| a.visit.cmp(&b.visit).then_with(|| a.at.total_cmp(&b.at)));
        self.by.resize_with(self.words.texts.len(), Gathered::default);
        // Name and moment of each attempt of the visit at hand that failed and was not yet tried again.
        let (mut visit, mut failed_at): (u128, Vec<(u32, f64)>) = (0, Vec::new());
        for one in &ones {
            if one.visit != visit {
                visit = one.visit;
                failed_at.clear();
            }
            let action = &mut self.by[one.name as usize].action;
            let before = failed_at.iter().position(|(name, _)| *name == one.name);
            if before.is_some_and(|i| one.at - failed_at[i].1 <= AGAIN_MS) {
                action.again += 1;
            }
            before.map(|i| failed_at.swap_remove(i));
            if one.failed {
                failed_at.push((one.name, one.at));
                // What it led to itself came within its own time; anything later is going on.
                let over = one.at + one.until().unwrap_or(0.0) + 1_000.0;
                action.left += u64::from(last.get(&one.visit).is_none_or(|l| *l <= over));
            }
        }
    }

    /// By name, those that failed most often first.
    fn actions(self) -> Vec<Action> {
        let words = &self.words;
        let mut asked: Vec<Vec<(String, u64)>> = vec![Vec::new(); self.by.len()];
        for ((name, what), n) in &self.asked {
            asked[*name as usize].push((words.text(*what as usize).to_string(), *n));
        }
        let done = self.by.into_iter().zip(asked).enumerate();
        let mut out: Vec<Action> = done
            .filter(|(_, (g, _))| g.action.attempts > 0)
            .map(|(name, (g, asked))| {
                let pages = g.pages.into_iter().enumerate().filter(|(_, n)| *n > 0);
                let pages = most_first(pages.map(|(page, n)| (words.text(page).to_string(), n)));
                Action {
                    name: words.text(name).to_string(),
                    page: pages.into_iter().next().map_or(String::new(), |(page, _)| page),
                    ms: readings(&g.ms, &[0.5, 0.75]).0,
                    asked: most_first(asked),
                    ..g.action
                }
            })
            .collect();
        out.sort_by(|a, b| (b.failed, b.attempts, &a.name).cmp(&(a.failed, a.attempts, &b.name)));
        out
    }
}

/// What visits in which an attempt failed did.
struct Followed {
    words: Words,
    ones: Vec<One>,
    /// When each was last heard of, in milliseconds since 1970.
    last: IdMap<f64>,
}

impl Followed {
    fn of(sheets: &[Sheet], stretch: Stretch, filter: &Filter, failed: &IdSet) -> Followed {
        let (words, ones, last) = (Words::default(), Vec::new(), IdMap::default());
        let mut all = Followed { words, ones, last };
        for sheet in sheets {
            let Some(visits) = sheet.ids("visit.alike") else { continue };
            let theirs: Vec<bool> = visits.values.iter().map(|v| failed.contains(v)).collect();
            if !theirs.contains(&true) {
                continue;
            }
            let mut keep = rows(sheet, stretch, filter);
            visits.codes.narrow(&mut keep, &theirs);
            let at = moments(sheet);
            for row in (0..sheet.rows).filter(|row| keep[*row]) {
                let latest = all.last.entry(visits.get(row).copied().unwrap_or(0)).or_insert(0.0);
                *latest = latest.max(at(row));
            }
            all.ones.extend(attempts(sheet, &keep, &mut all.words).ones);
        }
        all
    }
}

/// What befell one visit, or one person.
#[derive(Debug, Clone, Default, PartialEq, Serialize)]
pub struct Trouble {
    /// The visit, or the person.
    pub id: u128,
    /// Page views.
    pub page_views: u64,
    /// Page views with a script error.
    pub errors: u64,
    /// Page views that were left before they had loaded.
    pub abandoned: u64,
    /// Page views that stayed blank.
    pub blank: u64,
    /// Page views whose largest paint was poor.
    pub slow: u64,
    /// When it was last heard of.
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
pub fn troubled(
    sheets: &[Sheet],
    stretch: Stretch,
    filter: &Filter,
    column: &str,
    most: usize,
) -> Vec<Trouble> {
    let poor = crate::timing::Vital::Lcp.thresholds().1 as f32;
    // Those with even ids at the same time as those with odd ones.
    let (mut all, odd) = at_once(|odd| {
        let mut by: IdMap<(Trouble, &str)> = IdMap::default();
        for sheet in sheets {
            let Some(ids) = sheet.ids(column) else { continue };
            let mut keep = rows(sheet, stretch, filter);
            let mine = |id: &u128| *id != 0 && *id % 2 == u128::from(odd);
            ids.codes.narrow(&mut keep, &ids.values.iter().map(mine).collect::<Vec<_>>());
            let (endings, pages) = (sheet.texts("ended"), sheet.texts("family"));
            let (errors, lcp) = (sheet.figures("errors"), sheet.figures("lcp"));
            for row in (0..sheet.rows).filter(|row| keep[*row]) {
                let Some(id) = ids.get(row).copied() else { continue };
                let (t, page) = by.entry(id).or_default();
                let ended = endings.at(row);
                t.id = id;
                t.page_views += 1;
                t.errors += u64::from(errors.at(row).is_some_and(|n| n > 0.0));
                t.abandoned += u64::from(ended.starts_with("abandoned"));
                t.blank += u64::from(ended.ends_with("blank"));
                t.slow += u64::from(lcp.at(row).is_some_and(|v| v > poor));
                let at = sheet
                    .at_ms(row)
                    .and_then(|ms| Timestamp::from_millisecond(ms).ok())
                    .unwrap_or_default();
                if at >= t.last {
                    t.last = at;
                    *page = pages.at(row);
                }
            }
        }
        let troubled = by.into_values().filter(|(t, _)| t.score() > 0);
        troubled.map(|(t, page)| Trouble { page: page.to_string(), ..t }).collect::<Vec<_>>()
    });
    all.extend(odd);
    all.sort_by(|a, b| b.score().cmp(&a.score()).then(b.last.cmp(&a.last)).then(a.id.cmp(&b.id)));
    all.truncate(most);
    all
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::calendar::stretch::at_second;
    use crate::visitor::sheet::Column;
    use proptest::prelude::*;

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
            ("view.groups", Column::groups(rows.iter().map(|r| r.7))),
            ("visit.alike", Column::ids(rows.iter().map(|r| r.7))),
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
        let of = |name| actions(&[sheet(&rows)], stretch, &Filter::default(), name, 3_600);
        let all = of(None).actions;
        let pay = &all[0];
        assert_eq!(
            (pay.name.as_str(), pay.attempts, pay.failed, pay.again, pay.left),
            ("pay", 4, 2, 1, 1)
        );
        assert_eq!(
            (pay.requests, pay.asked.clone(), pay.page.as_str()),
            (2, vec![("POST /pay".to_string(), 2)], "Cabin")
        );
        // Until the answer: 100 and 300 ms, 100 and 500 ms.
        assert!(
            (pay.ms[0].value.unwrap() - 400.0).abs() < 1.0
                && (pay.ms[1].value.unwrap() - 600.0).abs() < 1.0
        );
        assert_eq!((all[1].name.as_str(), all[1].attempts, all[1].failed), ("help", 1, 0));
        let over = of(Some("pay")).over;
        assert_eq!((over[0].count, over[0].failed, over[0].p75.samples), (4, 2, 2));
    }

    /// What visits told one after the other: (visit, seconds since the one before, kind, whether it failed).
    fn told() -> impl Strategy<Value = Vec<(u128, u16, u8, bool)>> {
        prop::collection::vec((1..5u128, 1..40u16, 0..4u8, any::<bool>()), 0..40)
    }

    proptest! {
        #[test]
        fn tries_failures_and_leavings_are_those_that_one_finds_visit_by_visit(told in told(), hours in 1..4usize) {
            // Each visit presses “pay” or “help”; a request or an error is led to by its last action.
            let mut clocks = [0f32; 5];
            let mut last_action: [Option<u16>; 5] = [None; 5];
            let mut nths = [0u16; 5];
            let mut rows: Vec<Row> = Vec::new();
            for (visit, wait, kind, failed) in told {
                let v = visit as usize;
                clocks[v] += f32::from(wait);
                let nth = nths[v];
                nths[v] += 1;
                rows.push(match kind {
                    0 | 1 => {
                        last_action[v] = Some(nth);
                        ("action", if kind == 0 { "pay" } else { "help" }, clocks[v], nth, None, None, false, visit)
                    }
                    2 => ("request", "POST /pay", clocks[v], nth, last_action[v], Some(250.0), failed, visit),
                    _ => ("error", "x is gone", clocks[v], nth, last_action[v], None, true, visit),
                });
            }
            // Whole visits to an hour each: what an action led to is told with it.
            let sheets: Vec<Sheet> = (0..hours)
                .map(|h| sheet(&rows.iter().copied().filter(|r| r.7 as usize % hours == h).collect::<Vec<_>>()))
                .collect();
            let stretch = Stretch { from: at_second(HOUR), to: at_second(HOUR + 3_600) };
            let found = actions(&sheets, stretch, &Filter::default(), None, 60).actions;
            for name in ["pay", "help"] {
                let mut want = [0u64; 5];
                for one in rows.iter().filter(|r| r.0 == "action" && r.1 == name) {
                    let mine = || rows.iter().filter(|r| r.7 == one.7);
                    let led = |of: &Row| mine().filter(move |r| r.4 == Some(of.3)).copied().collect::<Vec<Row>>();
                    let failed = |of: &Row| led(of).iter().any(|r| r.6);
                    let until = led(one).iter().filter(|r| r.0 == "request").map(|r| r.2 + 0.25).fold(one.2, f32::max);
                    // The attempt of the same name before it, if that one failed.
                    let before = mine().rfind(|r| r.0 == "action" && r.1 == name && r.3 < one.3);
                    let again = before.is_some_and(|b| failed(b) && one.2 - b.2 <= AGAIN_MS as f32 / 1_000.0);
                    let left = failed(one) && mine().all(|r| r.2 <= until + 1.0);
                    want[0] += 1;
                    want[1] += u64::from(failed(one));
                    want[2] += u64::from(again);
                    want[3] += u64::from(left);
                    want[4] += led(one).iter().filter(|r| r.0 == "request").count() as u64;
                }
                let got = found.iter().find(|a| a.name == name).cloned().unwrap_or_default();
                prop_assert_eq!([got.attempts, got.failed, got.again, got.left, got.requests], want, "{}", name);
            }
        }

        #[test]
        fn those_with_most_trouble_are_told_with_all_of_it_wherever_their_page_views_lie(
            views in prop::collection::vec((0..6u128, 0..3_600_000u32, 0..2u8, any::<bool>(), prop::option::of(1_000f32..8_000.0)), 0..60),
            cut in 0..60usize,
        ) {
            let one = |views: &[(u128, u32, u8, bool, Option<f32>)]| {
                let mut s = Sheet::new(HOUR);
                let columns = [
                    ("at", Column::Moments(views.iter().map(|v| v.1).collect())),
                    ("visit", Column::ids(views.iter().map(|v| v.0))),
                    ("ended", Column::words(views.iter().map(|v| if v.3 { "abandoned" } else { "" }))),
                    ("errors", Column::numbers(views.iter().map(|v| Some(f32::from(v.2))))),
                    ("family", Column::words(views.iter().map(|v| format!("at {}", v.1)))),
                    ("lcp", Column::numbers(views.iter().map(|v| v.4))),
                ];
                columns.into_iter().for_each(|(name, column)| s.put(name, column).unwrap());
                s
            };
            let (front, back) = views.split_at(cut.min(views.len()));
            let stretch = Stretch { from: at_second(HOUR), to: at_second(HOUR + 3_600) };
            let found = troubled(&[one(front), one(back)], stretch, &Filter::default(), "visit", 100);
            let trouble = |v: &(u128, u32, u8, bool, Option<f32>)| {
                [u64::from(v.2 > 0), u64::from(v.3), u64::from(v.4.is_some_and(|lcp| lcp > 4_000.0))]
            };
            for visit in 1..6 {
                let mine: Vec<_> = views.iter().filter(|v| v.0 == visit).collect();
                let sum = |i: usize| mine.iter().map(|v| trouble(v)[i]).sum::<u64>();
                let want = (mine.len() as u64, sum(0), sum(1), sum(2));
                let got = found.iter().find(|t| t.id == visit);
                if want.1 + want.2 + want.3 == 0 {
                    prop_assert!(got.is_none());
                    continue;
                }
                let got = got.unwrap();
                prop_assert_eq!((got.page_views, got.errors, got.abandoned, got.slow), want);
                let last = mine.iter().map(|v| v.1).max().unwrap();
                prop_assert_eq!(&got.page, &format!("at {last}"));
            }
            prop_assert!(found.iter().all(|t| t.id != 0) && found.is_sorted_by(|a, b| a.score() >= b.score()));
        }
    }
}
