//! Gathering samples by what they are told apart by.

use super::{By, Query};
use crate::calendar::stretch::at_second;
use crate::calendar::{Cover, Stretch};
use crate::measure::runs::Played;
use crate::measure::sheets::Gather;
use crate::measure::{Key, Measure, Part};
use crate::visitor::happening::pattern;
use crate::visitor::sheet::{Coded, Sheet};
use crate::visitor::slices::in_halves;
use jiff::{SignedDuration, Timestamp};
use serde::Serialize;
use std::collections::HashMap;
use std::sync::Arc;

/// What a group is told apart by.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize)]
#[serde(untagged)]
pub enum Value {
    /// The second in which a piece of time begins.
    Time(i64),
    /// A value; empty where none was told.
    Text(String),
}

/// So many groups are told apart at most where one measure is asked for, and half as many where two are; samples of further ones
/// are counted in the whole alone.
pub const MOST_GROUPS: usize = 20_000;

/// Samples by group.
#[derive(Debug, Default)]
pub struct Groups {
    index: HashMap<Vec<Value>, usize>,
    /// What each group is told apart by, and what it came to: a part for each needed measure.
    pub groups: Vec<(Vec<Value>, Vec<Part>)>,
    /// All of them together, and what lies in groups beyond the most.
    pub all: Vec<Part>,
    /// How many samples lie in groups beyond the most.
    pub beyond: u64,
}

impl Groups {
    fn new(measures: usize) -> Groups {
        Groups { all: vec![Part::default(); measures], ..Groups::default() }
    }

    /// The place of a group; `None` where there are too many already.
    fn place(&mut self, key: Vec<Value>) -> Option<usize> {
        if let Some(at) = self.index.get(&key) {
            return Some(*at);
        }
        if self.groups.len() >= MOST_GROUPS / self.all.len().max(1) {
            return None;
        }
        let at = self.groups.len();
        self.groups.push((key.clone(), vec![Part::default(); self.all.len()]));
        self.index.insert(key, at);
        Some(at)
    }

    fn absorb(&mut self, other: Groups) {
        self.beyond += other.beyond;
        for (held, more) in self.all.iter_mut().zip(&other.all) {
            held.absorb(more);
        }
        for (key, parts) in other.groups {
            let into = match self.place(key) {
                Some(at) => &mut self.groups[at].1,
                None => {
                    self.beyond += parts.first().map_or(0, |p| p.samples);
                    &mut self.all
                }
            };
            for (held, more) in into.iter_mut().zip(&parts) {
                held.absorb(more);
            }
        }
    }
}

/// From when to when, in which pieces of time, and whether each sample is kept.
#[derive(Debug, Clone)]
pub struct Reach {
    /// From when to when.
    pub stretch: Stretch,
    /// Length of a piece of time in seconds; pieces begin at multiples of it.
    pub bucket_s: i64,
    /// Keep every sample of a percentile.
    pub exact: bool,
    /// Samples of these times alone, such as service hours; of all without.
    pub only: Option<Arc<Cover>>,
}

impl Reach {
    /// Whether a sample of this moment is asked for.
    fn holds(&self, at: Timestamp) -> bool {
        self.only.as_ref().is_none_or(|only| only.contains(at))
    }
}

impl By {
    /// The column of sheets that tells samples apart; moments come with what is measured.
    pub(super) fn column(&self) -> Option<String> {
        match self {
            By::Time => None,
            By::Key(Key::Attribute(attribute)) => Some(attribute.name()),
            By::Key(Key::Error) => Some("text".into()),
            By::Key(Key::Fault) => Some("fault".into()),
            By::Key(_) => Some("name".into()),
        }
    }
}

/// The columns of sheets that a query reads.
pub fn columns(query: &Query, reach: &Reach) -> Vec<String> {
    let mut names: Vec<String> = Vec::new();
    for measure in query.needed() {
        names.extend(gather(&measure, query, reach).columns());
    }
    names.extend(query.by.iter().filter_map(By::column));
    if reach.only.is_some() {
        names.push("at".into());
    }
    names.sort();
    names.dedup();
    names
}

fn gather<'a>(measure: &'a Measure, query: &'a Query, reach: &Reach) -> Gather<'a> {
    let Reach { stretch, bucket_s, exact, .. } = *reach;
    // Where nothing is told apart by time, moments matter at both ends only.
    let bucket_s = if query.by.contains(&By::Time) { bucket_s } else { 3_600 };
    Gather { measure, scope: &query.scope, stretch, bucket_s, exact }
}

/// What rows of a sheet are told apart by: values, and which of them each row has.
pub(super) struct Dimension<'s> {
    pub(super) values: Vec<Value>,
    pub(super) code: Box<dyn Fn(usize) -> usize + 's>,
}

pub(super) fn dimension<'s>(by: &By, sheet: &'s Sheet, gather: &Gather<'_>) -> Dimension<'s> {
    let of_words = |words: Option<&'s Coded<String>>, say: &dyn Fn(&str) -> String| match words {
        Some(words) => Dimension {
            values: words.values.iter().map(|v| Value::Text(say(v))).collect(),
            code: Box::new(move |row| words.codes.at(row).unwrap_or(0)),
        },
        None => Dimension { values: vec![Value::Text(say(""))], code: Box::new(|_| 0) },
    };
    let plain = |v: &str| v.to_string();
    match by {
        By::Time => {
            let (bucket_s, hour_s) = (gather.bucket_s, sheet.hour_s);
            let first = hour_s.div_euclid(bucket_s) * bucket_s;
            let last = (hour_s + 3_599).div_euclid(bucket_s) * bucket_s;
            let values = (0..=(last - first) / bucket_s).map(|n| first + n * bucket_s);
            let moments = sheet.moments("at");
            let code = move |row: usize| {
                let at_s = hour_s + i64::from(moments.get(row).copied().unwrap_or(0)) / 1_000;
                ((at_s - first) / bucket_s).max(0) as usize
            };
            Dimension { values: values.map(Value::Time).collect(), code: Box::new(code) }
        }
        By::Key(Key::Attribute(attribute)) => of_words(sheet.words(&attribute.name()), &plain),
        By::Key(Key::Error) => of_words(sheet.words("text"), &|text| pattern(text)),
        By::Key(Key::Fault) => of_words(sheet.words("fault"), &plain),
        By::Key(_) => of_words(sheet.words("name"), &plain),
    }
}

/// Local places are looked up in a table of so many; more are looked up one by one.
const DENSE: usize = 1 << 16;
const UNKNOWN: u32 = u32::MAX;
const BEYOND: u32 = u32::MAX - 1;

fn take(sheet: &Sheet, query: &Query, needed: &[Measure], reach: &Reach, into: &mut Groups) {
    let gathers: Vec<Gather<'_>> = needed.iter().map(|m| gather(m, query, reach)).collect();
    let Some(first) = gathers.first() else { return };
    let mut keep = first.kept(sheet);
    if reach.only.is_some() {
        let moments = sheet.moments("at");
        for (row, keep) in keep.iter_mut().enumerate().filter(|(_, keep)| **keep) {
            let ms = i64::from(moments.get(row).copied().unwrap_or(0));
            let at = at_second(sheet.hour_s) + SignedDuration::from_millis(ms);
            *keep = reach.holds(at);
        }
    }
    if !keep.contains(&true) {
        return;
    }
    let dimensions: Vec<Dimension<'_>> =
        query.by.iter().map(|by| dimension(by, sheet, first)).collect();
    let mut adders: Vec<_> = gathers.iter().map(|g| g.adder(sheet)).collect();
    let size = dimensions.iter().map(|d| d.values.len().max(1)).product::<usize>();
    let mut dense = vec![UNKNOWN; if size <= DENSE { size } else { 0 }];
    let mut sparse: HashMap<usize, u32> = HashMap::new();
    for row in (0..sheet.rows).filter(|row| keep[*row]) {
        let codes = dimensions.iter().map(|d| ((d.code)(row), d.values.len()));
        let local = codes.fold(0, |sum, (code, many)| sum * many + code);
        let mut place = match dense.get(local) {
            Some(place) => *place,
            None => sparse.get(&local).copied().unwrap_or(UNKNOWN),
        };
        if place == UNKNOWN {
            let key = dimensions.iter().map(|d| d.values[(d.code)(row)].clone()).collect();
            place = into.place(key).map_or(BEYOND, |at| at as u32);
            match dense.get_mut(local) {
                Some(held) => *held = place,
                None => {
                    sparse.insert(local, place);
                }
            }
        }
        let parts = match place {
            BEYOND => {
                into.beyond += 1;
                &mut into.all
            }
            at => &mut into.groups[at as usize].1,
        };
        for (adder, part) in adders.iter_mut().zip(parts) {
            adder(row, part);
        }
    }
}

/// Gathers page views, or what happened on them, on both cores.
pub fn of_sheets(sheets: &[Sheet], query: &Query, reach: &Reach) -> Groups {
    let needed = query.needed();
    let (mut all, back) = in_halves(sheets, |half| {
        let mut groups = Groups::new(needed.len());
        half.iter().for_each(|sheet| take(sheet, query, &needed, reach, &mut groups));
        groups
    });
    all.absorb(back);
    all
}

/// Gathers runs; `name` says what one is told apart by.
pub fn of_runs(
    runs: &[Played],
    query: &Query,
    reach: &Reach,
    name: impl Fn(&Played, &Key) -> String,
) -> Groups {
    let needed = query.needed();
    let mut groups = Groups::new(needed.len());
    for run in runs.iter().filter(|run| reach.holds(run.at)) {
        let value = |by: &By| match by {
            By::Time => Value::Time(run.at.as_second().div_euclid(reach.bucket_s) * reach.bucket_s),
            By::Key(key) => Value::Text(name(run, key)),
        };
        let into = match groups.place(query.by.iter().map(value).collect()) {
            Some(at) => &mut groups.groups[at].1,
            None => {
                groups.beyond += 1;
                &mut groups.all
            }
        };
        for (measure, part) in needed.iter().zip(into) {
            part.add_run(measure, run);
        }
    }
    groups
}
