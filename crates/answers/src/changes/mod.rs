//! Whatever somebody changes: one function for each, which knows what is allowed and by whom it is done.
//!
//! - [`journeys`]: journeys, their scripts, where and when they play, goals over them
//! - [`visitors`]: how page views are collected, funnels, who is forgotten
//! - [`installation`]: sites, locations, secrets, common parts

pub mod installation;
pub mod journeys;
pub mod visitors;

use std::fmt::{self, Display};

/// A name has at most so many characters.
const LONGEST_NAME: usize = 80;

/// Who changes something.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Author(String);

impl Author {
    /// Whoever gave this name; `None` when nothing was given.
    pub fn named(name: &str) -> Option<Author> {
        let name = cut(name, LONGEST_NAME);
        (!name.is_empty()).then_some(Author(name))
    }

    /// Somebody who did not say.
    pub fn somebody() -> Author {
        Author("somebody".into())
    }

    /// Their name.
    pub fn name(&self) -> &str {
        &self.0
    }
}

impl Display for Author {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

/// Says in the log who did what to what.
fn noted(by: &Author, what: &str, which: impl Display) {
    tracing::info!("{by} {what} {which}");
}

/// The beginning of a text, without spaces around it.
fn cut(text: &str, most: usize) -> String {
    text.trim().chars().take(most).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_author_has_a_name_that_is_neither_empty_nor_endless() {
        assert_eq!(Author::named("  \n"), None);
        assert_eq!(Author::named(" Ada ").map(|a| a.to_string()), Some("Ada".into()));
        let long = Author::named(&"é".repeat(500)).map(|a| a.name().chars().count());
        assert_eq!(long, Some(LONGEST_NAME));
    }
}
