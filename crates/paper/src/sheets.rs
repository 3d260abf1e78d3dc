//! A document as CSV: each figure and each cell a line, with the number behind it.

use cadentis_core::report::{Body, Document};

/// The columns: which figure or table, which row, which column, what is read there, and the number behind it.
pub const COLUMNS: [&str; 5] = ["part", "row", "column", "text", "value"];

/// Every figure and every cell of a document, in the order in which they are read.
pub fn lines(document: &Document) -> Vec<[String; 5]> {
    let number = |value: Option<f64>| value.map_or(String::new(), |v| v.to_string());
    let mut all = Vec::new();
    for figure in &document.figures {
        let (label, text) = (figure.label.clone(), figure.text.clone());
        all.push(["figures".into(), label, String::new(), text, number(figure.value)]);
    }
    for section in &document.sections {
        match &section.body {
            Body::Course(course) => all.extend(course.points.iter().map(|(second, left)| {
                let at = jiff::Timestamp::from_second(*second).unwrap_or_default().to_string();
                let text = format!("{:.2} %", left * 100.0);
                [section.title.clone(), at, "left".into(), text, left.to_string()]
            })),
            Body::Words(_) => {}
            Body::Table(table) => {
                for row in &table.rows {
                    let name = row.first().map_or("", |c| c.text.as_str());
                    for (cell, column) in row.iter().zip(&table.columns).skip(1) {
                        all.push([
                            section.title.clone(),
                            name.into(),
                            column.title.clone(),
                            cell.text.clone(),
                            number(cell.value),
                        ]);
                    }
                }
            }
        }
    }
    all
}
