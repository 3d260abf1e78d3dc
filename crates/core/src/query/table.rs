//! What groups come to, which of them are kept, and in which order.
//!
//! The first thing that samples are told apart by makes rows: conditions and order are about what all of a row comes to. The
//! second tells each row apart into columns.

use super::{By, Groups, Query, ROWS, Value};
use crate::measure::{Measure, Part};
use crate::stats::Reading;
use std::cmp::{Ordering, Reverse};
use std::collections::HashMap;

/// A value of the first thing, and what it came to.
#[derive(Debug, Clone, PartialEq)]
pub struct Row {
    /// The value.
    pub value: Value,
    /// Each measure that was asked for, then those that conditions and order ask for.
    pub cells: Vec<Reading>,
    /// The same of each column; nothing where there was no sample.
    pub across: Vec<Option<Vec<Reading>>>,
}

/// What a query came to.
#[derive(Debug, Clone, PartialEq)]
pub struct Table {
    /// Every sample together.
    pub all: Vec<Reading>,
    /// Rows that met the conditions, in order; as many as were asked for.
    pub rows: Vec<Row>,
    /// Values of the second thing: times in order, else what has most samples first.
    pub columns: Vec<Value>,
    /// How many columns more there would be.
    pub columns_beyond: usize,
    /// How many rows there were.
    pub found: usize,
    /// How many of them met the conditions.
    pub kept: usize,
    /// How many samples lie in groups that were too many to be told apart.
    pub beyond: u64,
    /// Whether percentiles are read off merged sketches.
    pub is_merged: bool,
    /// Samples that do not count: maintenance.
    pub left_out: u64,
}

/// Pieces of time are told whole.
const MOST_PIECES: usize = 2_000;
/// So many columns are told.
pub const MOST_COLUMNS: usize = 24;

fn read(parts: &mut [Part], needed: &[Measure], end_s: i64) -> Vec<Reading> {
    parts.iter_mut().zip(needed).map(|(part, measure)| part.reading(measure, end_s)).collect()
}

/// The highest first; what is not known last.
fn highest(a: Option<f64>, b: Option<f64>) -> Ordering {
    match (a, b) {
        (Some(a), Some(b)) => b.total_cmp(&a),
        (a, b) => b.is_some().cmp(&a.is_some()),
    }
}

fn absorb(into: &mut [Part], parts: &[Part]) {
    into.iter_mut().zip(parts).for_each(|(held, part)| held.absorb(part));
}

/// What groups come to; `end_s` is the second at which the stretch ends.
pub fn table(query: &Query, mut groups: Groups, end_s: i64) -> Table {
    let (needed, order) = (query.needed(), query.order());
    let fresh = || vec![Part::default(); needed.len()];
    let mut whole: HashMap<Value, Vec<Part>> = HashMap::new();
    let mut sizes: HashMap<Value, u64> = HashMap::new();
    let mut cells: HashMap<(Value, Value), Vec<Reading>> = HashMap::new();
    let is_alone = query.by.is_empty();
    for (key, mut parts) in groups.groups {
        absorb(&mut groups.all, &parts);
        let mut key = key.into_iter();
        let Some(first) = key.next() else { continue };
        absorb(whole.entry(first.clone()).or_insert_with(fresh), &parts);
        if let Some(second) = key.next() {
            *sizes.entry(second.clone()).or_default() += parts[0].samples;
            cells.insert((first, second), read(&mut parts, &needed, end_s));
        }
    }
    let is_time = query.by.first() == Some(&By::Time);
    let found = if is_alone { 0 } else { whole.len() };
    let mut rows: Vec<(Value, Vec<Reading>)> = whole
        .into_iter()
        .map(|(value, mut parts)| (value, read(&mut parts, &needed, end_s)))
        .collect();
    rows.retain(|(_, cells)| {
        query.conditions.iter().all(|condition| {
            let nth = needed.iter().position(|m| *m == condition.measure);
            condition.is_met(nth.and_then(|nth| cells[nth].value))
        })
    });
    let kept = rows.len();
    rows.sort_by(|(a, x), (b, y)| match is_time && query.top.is_none() {
        true => a.cmp(b),
        false => highest(x[order].value, y[order].value).then_with(|| a.cmp(b)),
    });
    let most = if is_time { MOST_PIECES } else { ROWS };
    rows.truncate(query.top.as_ref().map_or(most, |t| t.many));
    let mut columns: Vec<(Value, u64)> = sizes.into_iter().collect();
    let is_course = query.by.get(1) == Some(&By::Time);
    columns.sort_by(|(a, x), (b, y)| match is_course {
        true => a.cmp(b),
        false => Reverse(x).cmp(&Reverse(y)).then_with(|| a.cmp(b)),
    });
    let all_columns = columns.len();
    columns.truncate(if is_course { MOST_PIECES } else { MOST_COLUMNS });
    let columns: Vec<Value> = columns.into_iter().map(|(value, _)| value).collect();
    let row = |(value, whole): (Value, Vec<Reading>)| {
        let across = columns.iter().map(|c| cells.remove(&(value.clone(), c.clone()))).collect();
        Row { value, cells: whole, across }
    };
    Table {
        rows: rows.into_iter().map(row).collect(),
        columns_beyond: all_columns - columns.len(),
        columns,
        found,
        kept,
        beyond: groups.beyond,
        is_merged: groups.all.iter().any(|part| part.sketch.is_some()),
        left_out: groups.all.first().map_or(0, |part| part.left_out),
        all: read(&mut groups.all, &needed, end_s),
    }
}
