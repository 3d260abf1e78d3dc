//! Page views as lines of JSON, an hour at a time: what somebody else's arithmetic is tried on.

use crate::{Answers, Result};
use cadentis_core::calendar::Stretch;
use cadentis_core::calendar::stretch::{at_second, hour_of};
use cadentis_core::visitor::filed;
use cadentis_core::visitor::slices::rows;
use cadentis_core::visitor::{Attribute, Filter, Sheet};
use cadentis_store::sheet::Filed;
use jiff::{SignedDuration, Timestamp};
use std::fmt::Write;
use uuid::Uuid;

/// What can be told of a page view. Nothing of it tells of one person.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Field {
    name: String,
    kind: Kind,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Kind {
    /// When it began, RFC 3339.
    At,
    /// Its own id.
    Id,
    /// A text; nothing when it is not told.
    Word,
    /// A number; nothing when it was not measured.
    Number,
}

/// Numbers of a page view, in milliseconds but for `cls` and `errors`. How late it came is ours.
fn numbers() -> impl Iterator<Item = &'static str> {
    filed::numbers().filter(|name| *name != "late")
}

/// Texts beside attributes. `ended` is `abandoned`, `blank`, or nothing.
const WORDS: [&str; 4] = ["path", "how", "ended", "background"];

impl Field {
    /// The field of this name; attributes of pages are `attribute.fare`, their numbers `number.passengers`.
    pub fn of(name: &str) -> Option<Field> {
        let kind = match name {
            "at" => Kind::At,
            "id" => Kind::Id,
            _ if WORDS.contains(&name) || name.starts_with("attribute.") => Kind::Word,
            _ if numbers().any(|n| n == name) || name.starts_with("number.") => Kind::Number,
            _ if Attribute::ROLLED.iter().any(|a| a.name() == name) => Kind::Word,
            _ if matches!(name, "region" | "city" | "os" | "environment") => Kind::Word,
            _ => return None,
        };
        Some(Field { name: name.to_string(), kind })
    }

    /// The names of all fields that there always are.
    pub fn names() -> Vec<String> {
        let attributes = ["family", "device", "country", "region", "city", "browser", "os"];
        let more = ["connection", "release", "environment"];
        let all =
            ["at", "id"].into_iter().chain(attributes).chain(more).chain(WORDS).chain(numbers());
        all.map(String::from).collect()
    }
}

/// The page views of the hour that begins then, as far as they lie in the stretch, a line each in order of time.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn hour(
    answers: &Answers,
    site_id: i32,
    begin: Timestamp,
    stretch: Stretch,
    fields: &[Field],
) -> Result<Vec<u8>> {
    let end = hour_of(begin) + SignedDuration::from_hours(1);
    let inside = Stretch { from: begin.max(stretch.from), to: end.min(stretch.to) };
    let mut columns: Vec<String> = fields.iter().map(|f| f.name.clone()).collect();
    columns.push("at".into());
    let sheets = answers.db.sheets_of(Filed::PageViews, site_id, inside, &columns).await?;
    let fields = fields.to_vec();
    answers.computed(move || sheets.iter().flat_map(|s| lines(s, inside, &fields)).collect()).await
}

fn lines(sheet: &Sheet, inside: Stretch, fields: &[Field]) -> Vec<u8> {
    let keep = rows(sheet, inside, &Filter::default());
    let moments = sheet.moments("at");
    let mut text = String::new();
    for row in (0..sheet.rows).filter(|row| keep.get(*row) == Some(&true)) {
        for (nth, field) in fields.iter().enumerate() {
            text.push(if nth == 0 { '{' } else { ',' });
            let _ = write!(text, "{}:", quoted(&field.name));
            match field.kind {
                Kind::At => {
                    let after = moments.get(row).copied().unwrap_or(0);
                    let at = at_second(sheet.hour_s) + SignedDuration::from_millis(after.into());
                    let _ = write!(text, "\"{at}\"");
                }
                Kind::Id => {
                    let id = Uuid::from_u128(sheet.id("id", row).unwrap_or(0));
                    let _ = write!(text, "\"{id}\"");
                }
                Kind::Word => match sheet.text(&field.name, row) {
                    "" => text.push_str("null"),
                    word => text.push_str(&quoted(word)),
                },
                // A float of four bytes is written as short as it is read back the same.
                Kind::Number => match sheet.number(&field.name, row) {
                    Some(n) => text.push_str(&serde_json::to_string(&n).unwrap_or("null".into())),
                    None => text.push_str("null"),
                },
            }
        }
        text.push_str("}\n");
    }
    text.into_bytes()
}

fn quoted(text: &str) -> String {
    serde_json::to_string(text).unwrap_or_else(|_| "\"\"".into())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_field_that_is_named_is_one_and_none_tells_of_a_person() {
        for name in Field::names() {
            assert!(Field::of(&name).is_some(), "{name}");
        }
        assert!(Field::of("attribute.fare").is_some() && Field::of("number.passengers").is_some());
        for personal in ["visit", "person", "ip", "error", "visit.alike", "view.groups", "", "url"]
        {
            assert_eq!(Field::of(personal), None, "{personal}");
        }
    }
}
