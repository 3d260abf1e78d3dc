//! What a query came to, in words and in a table.

use super::lines::{Lines, lines};
use super::{link, opened, promised, watched};
use crate::format::{self, NO_DATA};
use crate::frame::{Frame, named_link};
use crate::words::capital;
use cadentis_answers::queries::Answered;
use cadentis_core::calendar::stretch::{at_second, length_text};
use cadentis_core::measure::{Key, Measure, Subject, Unit};
use cadentis_core::query::{By, Query, Value};
use cadentis_core::stats::Reading;
use cadentis_core::visitor::Filter;
use jiff::tz::TimeZone;

/// What a query came to.
pub struct Found {
    /// How many samples, and how they were read.
    pub says: String,
    /// What is not told.
    pub but: Vec<String>,
    pub lines: Option<Lines>,
    /// What rows are.
    pub row_title: String,
    /// What columns are, and each of them.
    pub column_title: String,
    pub columns: Vec<String>,
    /// The first measure, and the others.
    pub first: String,
    pub others: Vec<String>,
    pub is_compared: bool,
    pub has_intervals: bool,
    pub rows: Vec<Row>,
    /// Everything together.
    pub all: Row,
    pub csv: String,
    /// A report of it.
    pub report: String,
    /// A view that it becomes a piece of.
    pub view: String,
    /// The same with rows and columns turned.
    pub flip: Option<String>,
    /// An alert on the first measure.
    pub watch: Option<String>,
    /// A goal of the first measure, where it is a share of what is as it should be.
    pub promise: Option<String>,
    /// A limit on the first measure.
    pub budget: Option<String>,
    pub json: String,
    /// Whether a number of it opens to what stands out in it.
    pub opens: bool,
}

impl Found {
    /// How many columns its table has.
    pub fn width(&self) -> usize {
        let more = usize::from(self.has_intervals) + usize::from(self.is_compared);
        3 + self.columns.len() + more + self.others.len()
    }
}

pub struct Row {
    pub name: String,
    /// The same query of this row alone.
    pub link: Option<String>,
    /// What stands out in it.
    pub open: Option<String>,
    /// Its page views on Visitors.
    pub visitors: Option<String>,
    pub across: Vec<Cell>,
    pub value: String,
    pub interval: String,
    pub against: String,
    pub others: Vec<String>,
}

/// A cell of the first measure.
pub struct Cell {
    pub value: String,
    /// 0 to 6, the higher the darker.
    pub heat: usize,
    pub link: Option<String>,
    /// What stands out in it.
    pub open: Option<String>,
    pub title: String,
}

/// Steps of how dark a cell is.
const HEATS: f64 = 6.0;

fn named(value: &Value, zone: &TimeZone) -> String {
    match value {
        Value::Text(text) if text.is_empty() => "not told".into(),
        Value::Text(text) => text.clone(),
        Value::Time(second) => format::day_clock(at_second(*second), zone),
    }
}

fn text(unit: Unit, value: Option<f64>) -> String {
    value.map_or(NO_DATA.into(), |v| unit.text(v))
}

/// A difference with its sign.
fn difference(unit: Unit, by: f64) -> String {
    match unit {
        Unit::Ms => format!("{} s", format::difference_s(by)),
        Unit::Share => format!("{} points", format::signed(by * 100.0, 2)),
        Unit::Count => format::signed(by, 0),
        _ => format::signed(by, 3),
    }
}

struct Shows<'a> {
    frame: &'a Frame,
    query: &'a Query,
    measures: &'a [Measure],
}

impl Shows<'_> {
    fn unit(&self, nth: usize) -> Unit {
        self.measures.get(nth).map_or(Unit::Plain, Measure::unit)
    }

    fn row(&self, name: String, cells: &[Reading], before: Option<&Reading>) -> Row {
        let unit = self.unit(0);
        let (first, rest) = (cells[0], &cells[1..self.measures.len()]);
        let half = |i: cadentis_core::stats::Interval| {
            format!("{} to {}", unit.text(i.low), unit.text(i.high))
        };
        let by = first.value.zip(before.and_then(|b| b.value)).map(|(now, was)| now - was);
        Row {
            name,
            link: None,
            open: None,
            visitors: None,
            across: Vec::new(),
            value: text(unit, first.value),
            interval: first.interval.map_or(String::new(), half),
            against: by.map_or(String::new(), |by| difference(unit, by)),
            others: (1..).zip(rest).map(|(nth, c)| text(self.unit(nth), c.value)).collect(),
        }
    }

    /// Where the page views of a value are looked at, of a query of page views.
    fn visitors(&self, value: &Value) -> Option<String> {
        let (By::Key(Key::Attribute(attribute)), Value::Text(text)) =
            (self.query.by.first()?, value)
        else {
            return None;
        };
        if self.query.subject() != Subject::PageViews || text.is_empty() {
            return None;
        }
        let filter: Filter = self.query.scope.filter().and(attribute.clone(), text);
        Some(format!("{}/visitors?{}", self.frame.base, self.frame.query_with(&filter)))
    }
}

/// How many samples there were, how they were read, and what is not told of them.
fn says(query: &Query, answered: &Answered) -> (String, Vec<String>) {
    let table = &answered.table;
    let first = query.measures.first();
    let read = if table.is_merged {
        "percentiles merged from sketches, within 1 %"
    } else {
        "exact: each sample was looked at"
    };
    let samples = table.all.first().map_or(0, |r| r.samples);
    let words = first.map_or("samples", |m| m.samples_words());
    let mut says = format!("{} {words}; {read}", format::thousands(samples));
    if query.by.contains(&By::Time) || answered.course.is_some() {
        says += &format!("; {} a piece of time", length_text(answered.bucket_s as f64 * 1e3));
    }
    let mut but = Vec::new();
    let (found, kept, told) = (table.found, table.kept, table.rows.len());
    if found > kept {
        but.push(format!("{} of {found} did not meet the conditions.", found - kept));
    }
    if kept > told {
        but.push(format!(
            "{} more are not shown: write “top {}” for more.",
            kept - told,
            (told * 4).min(cadentis_core::query::MOST_ROWS)
        ));
    }
    if table.columns_beyond > 0 {
        but.push(format!("{} more columns are not shown.", table.columns_beyond));
    }
    if table.beyond > 0 {
        but.push(format!(
            "{} samples lie in groups that were too many to be told apart.",
            format::thousands(table.beyond)
        ));
    }
    if table.left_out > 0 {
        but.push(format!(
            "{} runs in maintenance are left out.",
            format::thousands(table.left_out)
        ));
    }
    (says + ".", but)
}

/// What a query came to.
pub fn found(frame: &Frame, query: &Query, answered: &Answered) -> Found {
    let (table, zone) = (&answered.table, &frame.site.zone);
    let shows = Shows { frame, query, measures: &query.measures };
    let unit = shows.unit(0);
    let before = |value: &Value| {
        let rows = &answered.before.as_ref()?.rows;
        rows.iter().find(|r| r.value == *value)?.cells.first()
    };
    // A course across is drawn, not written out.
    let is_across = query.by.get(1).is_some_and(|by| *by != By::Time);
    let columns: Vec<&Value> = if is_across { table.columns.iter().collect() } else { Vec::new() };
    let of_cells = table.rows.iter().flat_map(|r| &r.across).flatten();
    let values: Vec<f64> = of_cells.filter_map(|cells| cells[0].value).collect();
    let most = values.iter().copied().fold(f64::NEG_INFINITY, f64::max);
    let least = values.iter().copied().fold(f64::INFINITY, f64::min).min(most);
    let heat = |v: f64| match most - least {
        range if range > 0.0 => ((v - least) / range * HEATS).round() as usize,
        _ => 0,
    };
    let rows = table.rows.iter().map(|row| {
        let name = named(&row.value, zone);
        let within = query.within(0, &row.value);
        let cell = |(column, cells): (&&Value, &Option<Vec<Reading>>)| {
            let reading = cells.as_ref().map(|c| c[0]);
            let value = reading.and_then(|r| r.value);
            let inner = within.as_ref().and_then(|q| q.within(0, column));
            Cell {
                // Page views that did not tell it are there, and lead on like others.
                value: reading.map_or(String::new(), |r| text(unit, r.value)),
                heat: value.map_or(0, heat),
                open: inner.as_ref().filter(|_| reading.is_some()).and_then(|q| opened(frame, q)),
                link: inner.filter(|_| reading.is_some()).map(|q| link(frame, &q)),
                title: reading.map_or(String::new(), |r| {
                    format!("{name}, {}: {} samples", named(column, zone), r.samples)
                }),
            }
        };
        Row {
            across: columns.iter().zip(&row.across).map(cell).collect(),
            link: within.as_ref().map(|q| link(frame, q)),
            open: within.as_ref().and_then(|q| opened(frame, q)),
            visitors: shows.visitors(&row.value),
            ..shows.row(name.clone(), &row.cells, before(&row.value))
        }
    });
    let rows: Vec<Row> = rows.collect();
    let of_all = answered.before.as_ref().and_then(|b| b.all.first());
    let (says, but) = says(query, answered);
    let text: String = url::form_urlencoded::byte_serialize(query.to_string().as_bytes()).collect();
    let flipped = || {
        let mut other = query.clone();
        other.by.reverse();
        link(frame, &other)
    };
    let blank =
        || Cell { value: String::new(), heat: 0, link: None, open: None, title: String::new() };
    let all = Row {
        across: columns.iter().map(|_| blank()).collect(),
        ..shows.row("all".into(), &table.all, of_all)
    };
    let has_intervals = rows.iter().chain([&all]).any(|r| !r.interval.is_empty());
    Found {
        lines: lines(frame, query, answered),
        row_title: query.by.first().map_or(String::new(), |by| capital(&by.title())),
        column_title: query.by.get(1).map_or(String::new(), By::title),
        columns: columns.iter().map(|column| named(column, zone)).collect(),
        first: query.measures[0].to_string(),
        others: query.measures[1..].iter().map(ToString::to_string).collect(),
        is_compared: answered.before.is_some(),
        has_intervals,
        opens: rows.iter().any(|r| r.open.is_some() || r.across.iter().any(|c| c.open.is_some())),
        all,
        rows,
        report: format!("{}/reports/new?query={text}&{}", frame.base, frame.query),
        view: format!("{}/views/new?query={text}&{}", frame.base, frame.query),
        csv: format!("{}/queries/csv?q={text}&{}", frame.base, frame.query),
        flip: (query.by.len() == 2).then(flipped),
        watch: watched(query)
            .filter(|_| frame.who.edits())
            .map(|text| named_link(&format!("{}/alerts/new", frame.base), &[("measure", &text)])),
        budget: watched(query)
            .filter(|_| frame.who.edits())
            .map(|text| named_link(&format!("{}/budgets", frame.base), &[("measure", &text)]))
            .map(|link| link + "#measured"),
        promise: promised(query).filter(|_| frame.who.edits()).map(|text| {
            let to = format!("{}/goals/new", frame.base);
            named_link(&to, &[("kind", "experience"), ("share", &text)])
        }),
        json: format!("{}/queries/json?q={text}&{}", frame.base, frame.query),
        says,
        but,
    }
}
