//! The first measure of a query over time: a line for each of the first rows.

use crate::draw::{Axis, connected, line, round_up, ticks};
use crate::format;
use crate::frame::{Frame, WIDTH};
use crate::view::{Mark, Pin};
use cadentis_answers::queries::{Answered, MOST_LINES};
use cadentis_core::calendar::stretch::at_second;
use cadentis_core::measure::Unit;
use cadentis_core::query::{By, Query, Table, Value};
use cadentis_core::stats::Reading;

/// Lines, ready to draw on 1248 units.
pub struct Lines {
    pub from_s: i64,
    pub to_s: i64,
    pub title: String,
    pub top: String,
    pub ticks: Vec<Mark>,
    pub pins: Vec<Pin>,
    pub lines: Vec<Line>,
}

/// A row over time.
pub struct Line {
    pub nth: usize,
    pub name: String,
    /// As much of its name as there is room for.
    pub short: String,
    /// Where its name and what is read of it stand.
    pub y: f64,
    pub path: String,
    pub reads: String,
}

pub const HEIGHT: f64 = 210.0;
const TOP: f64 = 12.0;
const BASE: f64 = 184.0;
/// Names stand so far below each other.
const APART: f64 = 34.0;
const LEFT: f64 = 226.0;
/// So much of a name fits beside the lines.
const LONGEST: usize = 25;

/// Second of a piece of time, and what it came to.
type Points = Vec<(i64, Reading)>;

/// The name and the points of each line.
fn courses(query: &Query, answered: &Answered) -> Vec<(String, Points)> {
    let at = |value: &Value| match value {
        Value::Time(second) => *second,
        Value::Text(_) => 0,
    };
    let name = |value: &Value| match value {
        Value::Text(text) if text.is_empty() => "not told".into(),
        Value::Text(text) => text.clone(),
        Value::Time(_) => String::new(),
    };
    let rows = |table: &Table| -> Points {
        table.rows.iter().map(|row| (at(&row.value), row.cells[0])).collect()
    };
    // A row each, its pieces of time across.
    let across = |table: &Table, order: &[Value]| {
        let of = |value: &Value| {
            let row = table.rows.iter().find(|r| r.value == *value)?;
            let cells = table.columns.iter().zip(&row.across);
            let points = cells.filter_map(|(c, cells)| Some((at(c), cells.as_ref()?[0])));
            Some((name(value), points.collect()))
        };
        order.iter().take(MOST_LINES).filter_map(of).collect::<Vec<_>>()
    };
    let table = &answered.table;
    let order: Vec<Value> = table.rows.iter().map(|r| r.value.clone()).collect();
    match (query.by.as_slice(), &answered.course) {
        ([], Some(course)) | ([By::Time], Some(course)) => vec![(String::new(), rows(course))],
        ([By::Time], None) => vec![(String::new(), rows(table))],
        ([By::Time, _], _) => {
            let column = |(nth, value): (usize, &Value)| {
                let cell = |row: &cadentis_core::query::table::Row| {
                    Some((at(&row.value), row.across.get(nth)?.as_ref()?[0]))
                };
                (name(value), table.rows.iter().filter_map(cell).collect())
            };
            table.columns.iter().enumerate().take(MOST_LINES).map(column).collect()
        }
        ([_, By::Time], _) => across(table, &order),
        (_, Some(course)) => across(course, &order),
        (_, None) => Vec::new(),
    }
}

/// What is drawn of an answer; nothing without a single point.
pub fn lines(frame: &Frame, query: &Query, answered: &Answered) -> Option<Lines> {
    let unit = query.measures.first().map_or(Unit::Plain, |m| m.unit());
    let courses = courses(query, answered);
    let values = courses.iter().flat_map(|(_, points)| points.iter().filter_map(|p| p.1.value));
    let most = values.fold(None, |most: Option<f64>, v| Some(most.map_or(v, |m| m.max(v))))?;
    let high = match unit {
        Unit::Share => round_up(most).clamp(f64::MIN_POSITIVE, 1.0),
        _ => round_up(most).max(f64::MIN_POSITIVE),
    };
    let axis = Axis { stretch: frame.stretch, left: LEFT, width: WIDTH - 36.0 - LEFT };
    let y = |v: f64| BASE - (BASE - TOP) * (v / high).clamp(0.0, 1.0);
    let middle = answered.bucket_s / 2;
    let of = |(nth, (name, points)): (usize, (String, Points))| {
        let mut points: Vec<(i64, f64, u64)> = points
            .into_iter()
            .filter_map(|(at, reading)| Some((at + middle, reading.value?, reading.samples)))
            .collect();
        points.sort_by_key(|p| p.0);
        let places: Vec<_> =
            points.iter().map(|(at, v, _)| (*at, axis.x(at_second(*at)), y(*v))).collect();
        let read = |(at, v, samples): &(i64, f64, u64)| {
            (*at, format!("{} · {}", unit.text(*v), format::thousands(*samples)))
        };
        let reads: Vec<(i64, String)> = points.iter().map(read).collect();
        Line {
            nth,
            short: match name.chars().count() > LONGEST {
                true => name.chars().take(LONGEST - 1).chain(['…']).collect(),
                false => name.clone(),
            },
            name,
            y: TOP + 8.0 + APART * nth as f64,
            path: line(connected(&places, answered.bucket_s, &axis)),
            reads: serde_json::to_string(&reads).unwrap_or_default(),
        }
    };
    Some(Lines {
        from_s: frame.stretch.from.as_second(),
        to_s: frame.stretch.to.as_second(),
        title: query.measures.first().map(ToString::to_string).unwrap_or_default(),
        top: unit.text(high),
        ticks: ticks(&axis, &frame.site.zone),
        pins: frame.pins(&frame.markers, &axis),
        lines: courses.into_iter().enumerate().map(of).collect(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use cadentis_core::query::table::Row;

    fn reading(value: f64) -> Reading {
        Reading { value: Some(value), samples: 30, interval: None }
    }

    fn text(value: &str) -> Value {
        Value::Text(value.into())
    }

    fn row(value: Value, cells: &[f64], across: Vec<Option<f64>>) -> Row {
        let cell = |v: &f64| reading(*v);
        Row {
            value,
            cells: cells.iter().map(cell).collect(),
            across: across.into_iter().map(|v| v.map(|v| vec![reading(v)])).collect(),
        }
    }

    fn table(rows: Vec<Row>, columns: Vec<Value>) -> Table {
        let found = rows.len();
        Table {
            all: vec![reading(1.0)],
            rows,
            columns,
            columns_beyond: 0,
            found,
            kept: found,
            beyond: 0,
            is_merged: false,
            left_out: 0,
        }
    }

    fn answered(table: Table, course: Option<Table>) -> Answered {
        Answered { table, before: None, course, bucket_s: 600 }
    }

    fn told(query: &str, answered: &Answered) -> Vec<(String, Vec<(i64, f64)>)> {
        let query: Query = query.parse().unwrap();
        let values = |points: Points| {
            points.into_iter().filter_map(|(at, r)| Some((at, r.value?))).collect()
        };
        courses(&query, answered).into_iter().map(|(name, points)| (name, values(points))).collect()
    }

    #[test]
    fn without_anything_that_tells_apart_there_is_one_line_without_a_name() {
        let course = table(
            vec![row(Value::Time(0), &[5.0], vec![]), row(Value::Time(600), &[6.0], vec![])],
            vec![],
        );
        let all = answered(table(vec![], vec![]), Some(course));
        let line = vec![(String::new(), vec![(0, 5.0), (600, 6.0)])];
        assert_eq!(told("p75 of LCP", &all), line);
        let by_time = answered(
            table(
                vec![row(Value::Time(0), &[5.0], vec![]), row(Value::Time(600), &[6.0], vec![])],
                vec![],
            ),
            None,
        );
        assert_eq!(told("p75 of LCP by time", &by_time), line);
    }

    #[test]
    fn each_of_the_first_rows_has_a_line_in_the_order_of_the_table() {
        let rows = ["phone", "", "desktop"].map(|name| row(text(name), &[1.0], vec![])).to_vec();
        let times = vec![Value::Time(0), Value::Time(600)];
        // As it comes: the course may have its rows in another order.
        let course = table(
            vec![
                row(text("desktop"), &[1.0], vec![Some(3.0), None]),
                row(text("phone"), &[1.0], vec![Some(1.0), Some(2.0)]),
                row(text(""), &[1.0], vec![None, Some(9.0)]),
            ],
            times,
        );
        let lines = told("p75 of LCP by device", &answered(table(rows, vec![]), Some(course)));
        assert_eq!(
            lines,
            [
                ("phone".to_string(), vec![(0, 1.0), (600, 2.0)]),
                ("not told".to_string(), vec![(600, 9.0)]),
                ("desktop".to_string(), vec![(0, 3.0)]),
            ]
        );
    }

    #[test]
    fn time_beside_something_else_makes_a_line_of_each_of_those_whichever_stands_first() {
        let wanted = [
            ("phone".to_string(), vec![(0, 1.0), (600, 2.0)]),
            ("desktop".to_string(), vec![(0, 3.0)]),
        ];
        let devices = vec![text("phone"), text("desktop")];
        let down = table(
            vec![
                row(Value::Time(0), &[1.0], vec![Some(1.0), Some(3.0)]),
                row(Value::Time(600), &[1.0], vec![Some(2.0), None]),
            ],
            devices,
        );
        assert_eq!(told("p75 of LCP by time and device", &answered(down, None)), wanted);
        let across = table(
            vec![
                row(text("phone"), &[1.0], vec![Some(1.0), Some(2.0)]),
                row(text("desktop"), &[1.0], vec![Some(3.0), None]),
            ],
            vec![Value::Time(0), Value::Time(600)],
        );
        assert_eq!(told("p75 of LCP by device and time", &answered(across, None)), wanted);
    }

    #[test]
    fn no_more_lines_are_drawn_than_can_be_told_apart() {
        let names: Vec<String> = (0..20).map(|n| format!("row {n}")).collect();
        let rows = |cells: Vec<Option<f64>>| {
            names.iter().map(|n| row(text(n), &[1.0], cells.clone())).collect::<Vec<_>>()
        };
        let course = table(rows(vec![Some(1.0)]), vec![Value::Time(0)]);
        let all = answered(table(rows(vec![]), vec![]), Some(course));
        assert_eq!(told("p75 of LCP by release", &all).len(), MOST_LINES);
    }
}
