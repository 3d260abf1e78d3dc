//! Fields of a form as they were sent, and how they are read.

use crate::words::capital;
use cadentis_core::text;
use std::fmt::Display;

/// Names and values, in the order they were sent.
pub type Fields = Vec<(String, String)>;

/// A field that is wrong, and how.
pub type Wrong = (&'static str, String);

/// So many values of one name are read.
const MOST_VALUES: usize = 100;

/// Every value of this name that is not empty.
pub fn all(fields: &Fields, name: &str) -> Vec<String> {
    let these = fields.iter().filter(|(n, v)| n == name && !v.is_empty());
    these.map(|(_, v)| v.clone()).take(MOST_VALUES).collect()
}

/// The value of this name; empty without.
pub fn one(fields: &Fields, name: &str) -> String {
    all(fields, name).pop().unwrap_or_default()
}

/// The value of this name, or the usual one.
pub fn usual(fields: &Fields, name: &str, usual: &str) -> String {
    all(fields, name).pop().unwrap_or_else(|| usual.into())
}

/// A text of one line, without spaces around it.
pub fn line(fields: &Fields, name: &str, most: usize) -> String {
    text::clean(one(fields, name).trim(), most, None)
}

/// A number as people write it, with a point or a comma.
pub fn number(text: &str) -> Option<f64> {
    text.trim().replace(',', ".").parse::<f64>().ok().filter(|n| n.is_finite())
}

/// A reason as a sentence.
pub fn sentence(why: &impl Display) -> String {
    format!("{}.", capital(&why.to_string()))
}
