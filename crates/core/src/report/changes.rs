//! What differs between two documents of the same report: figure by figure, cell by cell.

use super::document::{Body, Cell, Document, Section, Table};
use serde::{Deserialize, Serialize};

/// Something that says another thing than before.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Change {
    /// What it is.
    pub what: String,
    /// What it said; empty where it was not there.
    pub before: String,
    /// What it says; empty where it is gone.
    pub now: String,
}

/// So many changes are told at most: whoever finds more looks at both.
pub const MOST_CHANGES: usize = 200;

/// What `now` says that `before` did not. Sentences and workings follow from the figures and are not told beside them.
pub fn changes(before: &Document, now: &Document) -> Vec<Change> {
    let mut all = Vec::new();
    pairs(
        &mut all,
        before.facts.iter().map(|(what, says)| (what.clone(), says.clone())),
        now.facts.iter().map(|(what, says)| (what.clone(), says.clone())),
    );
    pairs(
        &mut all,
        before.figures.iter().map(|f| (f.label.clone(), f.text.clone())),
        now.figures.iter().map(|f| (f.label.clone(), f.text.clone())),
    );
    let cells = |d: &Document| d.sections.iter().flat_map(of_section).collect::<Vec<_>>();
    pairs(&mut all, cells(before).into_iter(), cells(now).into_iter());
    all.truncate(MOST_CHANGES);
    all
}

/// Each cell by what it is: the title of its table, its row and its column.
fn of_section(section: &Section) -> Vec<(String, String)> {
    let Body::Table(table) = &section.body else { return Vec::new() };
    let mut seen: Vec<&str> = Vec::new();
    let mut all = Vec::new();
    for row in &table.rows {
        let Some((name, cells)) = row.split_first() else { continue };
        // Two rows of a name are told apart by their order.
        let nth = seen.iter().filter(|s| **s == name.text).count();
        seen.push(&name.text);
        let name = match nth {
            0 => name.text.clone(),
            n => format!("{} ({})", name.text, n + 1),
        };
        match cells {
            [] => all.push((format!("{}, {name}", section.title), "there".into())),
            _ => all.extend(cells.iter().zip(columns(table)).map(|(cell, column)| {
                (format!("{}, {name}: {column}", section.title), says(cell))
            })),
        }
    }
    all
}

fn columns(table: &Table) -> impl Iterator<Item = &str> {
    table.columns.iter().skip(1).map(|c| c.title.as_str())
}

/// An empty cell is there all the same.
fn says(cell: &Cell) -> String {
    if cell.text.is_empty() { "–".into() } else { cell.text.clone() }
}

fn pairs(
    all: &mut Vec<Change>,
    before: impl Iterator<Item = (String, String)>,
    now: impl Iterator<Item = (String, String)>,
) {
    let mut before: Vec<(String, String)> = before.collect();
    for (what, says) in now {
        let was = before.iter().position(|(other, _)| *other == what);
        let was = was.map_or(String::new(), |at| before.remove(at).1);
        if was != says {
            all.push(Change { what, before: was, now: says });
        }
    }
    let gone = |(what, before)| Change { what, before, now: String::new() };
    all.extend(before.into_iter().map(gone));
}
