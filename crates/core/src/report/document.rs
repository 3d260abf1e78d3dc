//! The document that an issue of a report is: every text as it was written, beside the number that it was written from.

use super::Change;
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};

/// Everything that an issue says, in the order in which it is read.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Document {
    /// What it is called: of what, over which time.
    pub title: String,
    /// What kind of report it is.
    pub kind: String,
    /// The site.
    pub site: String,
    /// What it covers: period, promise, what was counted.
    pub facts: Vec<(String, String)>,
    /// The sentence that matters.
    pub says: String,
    /// What else is to be said, a sentence each.
    pub also: Vec<String>,
    /// The figures that are read first.
    pub figures: Vec<Figure>,
    /// Courses and tables.
    pub sections: Vec<Section>,
    /// How each figure was come by.
    pub working: Vec<Working>,
}

/// What stands above and below a document: which issue of it this is.
#[derive(Debug, Clone, Default)]
pub struct Head {
    /// `2, replaces 1 of 1 Nov 2026 06:00`; empty for what was not issued.
    pub issue: String,
    /// When it was made, in whose zone, by whom and with which version.
    pub made: String,
    /// The checksum of what it is kept as.
    pub checksum: String,
    /// That it is not what was issued, or that it was not issued at all.
    pub warning: String,
    /// What the issue before it said.
    pub since_before: Vec<Change>,
}

/// How something stands; told by a shape as well as by a colour.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Tone {
    /// Nothing to be said.
    #[default]
    Plain,
    /// Within what was promised.
    Within,
    /// Close to it.
    Strained,
    /// Beyond it.
    Broken,
}

/// A figure with what it is.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Figure {
    /// As it is read.
    pub text: String,
    /// What it is.
    pub label: String,
    /// How it stands.
    #[serde(default)]
    pub tone: Tone,
    /// The number behind it: shares from 0 to 1, times in milliseconds.
    pub value: Option<f64>,
}

/// A part of a document with a title.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Section {
    /// Its title, without a number: figures and tables are numbered in their order.
    pub title: String,
    /// What is to be known beside it; may be empty.
    pub note: String,
    /// What it shows.
    pub body: Body,
}

/// What a part shows.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Body {
    /// Something over time.
    Course(Course),
    /// Rows and columns.
    Table(Table),
    /// Paragraphs that somebody wrote.
    Words(Vec<String>),
}

/// The part of an error budget that is left over time.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Course {
    /// The first second of its axis.
    pub from_s: i64,
    /// The second at which it ends.
    pub to_s: i64,
    /// Second, and the part that was left then: 1 for all of it, below 0 where more was spent than there was.
    pub points: Vec<(i64, f64)>,
    /// Seconds that were not counted: from, to.
    pub left_out: Vec<(i64, i64)>,
    /// What the axis says: second and text.
    pub ticks: Vec<(i64, String)>,
}

/// Rows and columns; the first column names the row.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Table {
    /// Its columns.
    pub columns: Vec<Column>,
    /// Its rows, as many cells each as there are columns.
    pub rows: Vec<Vec<Cell>>,
}

/// A column of a table.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Column {
    /// Its title.
    pub title: String,
    /// Whether it holds numbers, which stand at its right.
    pub is_number: bool,
}

/// A cell of a table.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Cell {
    /// As it is read.
    pub text: String,
    /// How it stands.
    #[serde(default)]
    pub tone: Tone,
    /// The number behind it: shares from 0 to 1, times in milliseconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub value: Option<f64>,
}

/// How a figure was come by.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Working {
    /// Of what.
    pub title: String,
    /// Line by line.
    pub lines: Vec<String>,
}

impl Cell {
    /// A cell that is text alone.
    pub fn text(text: impl Into<String>) -> Cell {
        Cell { text: text.into(), ..Cell::default() }
    }

    /// A cell with the number behind it.
    pub fn number(text: impl Into<String>, value: Option<f64>) -> Cell {
        Cell { text: text.into(), value, tone: Tone::Plain }
    }

    /// Says how it stands.
    pub fn standing(self, tone: Tone) -> Cell {
        Cell { tone, ..self }
    }
}

impl Table {
    /// An empty table; a title that begins with `#` is that of a column of numbers.
    pub fn of(titles: &[&str]) -> Table {
        let column = |title: &&str| match title.strip_prefix('#') {
            Some(title) => Column { title: title.into(), is_number: true },
            None => Column { title: (*title).into(), is_number: false },
        };
        Table { columns: titles.iter().map(column).collect(), rows: Vec::new() }
    }

    /// With one more row.
    pub fn row(&mut self, cells: Vec<Cell>) {
        debug_assert_eq!(cells.len(), self.columns.len());
        self.rows.push(cells);
    }
}

impl Section {
    /// A table under a title.
    pub fn table(title: impl Into<String>, table: Table) -> Section {
        Section { title: title.into(), note: String::new(), body: Body::Table(table) }
    }

    /// With what is to be known beside it.
    pub fn noting(self, note: impl Into<String>) -> Section {
        Section { note: note.into(), ..self }
    }
}

/// The checksum of what an issue was kept as: SHA-256 (FIPS 180-4) over its bytes, in hexadecimal digits.
pub fn checksum(kept: &str) -> String {
    Sha256::digest(kept.as_bytes()).iter().map(|b| format!("{b:02x}")).collect()
}
