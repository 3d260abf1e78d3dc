//! What a measure is narrowed to: a journey, a page family, whatever is known of its samples.

use super::Subject;
use crate::visitor::{Attribute, Filter};
use std::collections::BTreeMap;
use std::fmt;

/// What can be named of samples.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum Key {
    /// A journey, by its name in addresses.
    Journey,
    /// A step of one, by its name.
    Step,
    /// A mark that a script or a page sets, by its name.
    Mark,
    /// A location, by its name in addresses.
    Location,
    /// Something that is known of page views.
    Attribute(Attribute),
    /// A request, by method and address with what differs taken out.
    Request,
    /// An action, by its name.
    Action,
    /// A kind of error, by its text with what differs taken out.
    Error,
    /// Whose fault a failed request is.
    Fault,
    /// A goal, by its name.
    Goal,
    /// A dependency, by its name in addresses.
    Dependency,
}

/// Of one thing at most so many alternatives can be named.
pub const MOST_VALUES: usize = 20;
/// And each has at most so many characters.
pub const LONGEST_VALUE: usize = 300;

impl Key {
    /// The word that stands for it.
    pub fn word(&self) -> String {
        match self {
            Key::Journey => "journey".into(),
            Key::Step => "step".into(),
            Key::Mark => "mark".into(),
            Key::Location => "location".into(),
            Key::Attribute(attribute) => attribute.name(),
            Key::Request => "request".into(),
            Key::Action => "action".into(),
            Key::Error => "error".into(),
            Key::Fault => "fault".into(),
            Key::Goal => "goal".into(),
            Key::Dependency => "dependency".into(),
        }
    }

    /// The one of this word.
    pub fn of_word(word: &str) -> Option<Key> {
        let own = [
            Key::Journey,
            Key::Step,
            Key::Mark,
            Key::Location,
            Key::Request,
            Key::Action,
            Key::Error,
            Key::Fault,
            Key::Goal,
            Key::Dependency,
        ];
        own.into_iter()
            .find(|key| key.word() == word)
            .or_else(|| Attribute::parse(word).map(Key::Attribute))
    }

    /// Whether samples of this subject can be narrowed by it.
    pub fn fits(&self, subject: Subject) -> bool {
        match self {
            Key::Journey | Key::Step | Key::Mark | Key::Location => subject == Subject::Runs,
            Key::Attribute(_) => matches!(
                subject,
                Subject::PageViews | Subject::Requests | Subject::Actions | Subject::Errors
            ),
            Key::Request | Key::Fault => subject == Subject::Requests,
            Key::Action => subject == Subject::Actions,
            Key::Error => subject == Subject::Errors,
            Key::Goal => subject == Subject::Goals,
            Key::Dependency => subject == Subject::Dependencies,
        }
    }

    /// Those by which samples of a subject can be narrowed; attributes of the site's own not among them.
    pub fn of_subject(subject: Subject) -> Vec<Key> {
        let own = [Key::Journey, Key::Step, Key::Mark, Key::Location, Key::Request, Key::Action];
        let more = [Key::Error, Key::Fault, Key::Goal, Key::Dependency];
        let attributes = Attribute::ALL.into_iter().map(Key::Attribute);
        own.into_iter().chain(more).chain(attributes).filter(|key| key.fits(subject)).collect()
    }
}

fn clone_of((key, values): (&Key, &Vec<String>)) -> (Key, Vec<String>) {
    (key.clone(), values.clone())
}

/// What a measure is narrowed to: of each thing that is named, samples with one of its values.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Scope(BTreeMap<Key, Vec<String>>);

impl Scope {
    /// Narrowed further, or with one more alternative.
    pub fn and(mut self, key: Key, value: &str) -> Scope {
        let values = self.0.entry(key).or_default();
        if !values.iter().any(|v| v == value) {
            values.push(value.to_string());
        }
        self
    }

    /// Whether it is narrowed to nothing.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// What is named of a thing; empty: anything.
    pub fn of(&self, key: &Key) -> &[String] {
        self.0.get(key).map_or(&[], Vec::as_slice)
    }

    /// Each thing that is named, with its alternatives.
    pub fn parts(&self) -> impl Iterator<Item = (&Key, &[String])> {
        self.0.iter().map(|(key, values)| (key, values.as_slice()))
    }

    /// The same with another name for a value of a thing; `None` where that is not named.
    pub fn renamed(&self, key: &Key, was: &str, is: &str) -> Option<Scope> {
        let values = self.of(key);
        if !values.iter().any(|v| v == was) {
            return None;
        }
        let all = Scope(self.0.iter().filter(|(k, _)| *k != key).map(clone_of).collect());
        Some(
            values
                .iter()
                .map(|v| if v == was { is } else { v })
                .fold(all, |all, v| all.and(key.clone(), v)),
        )
    }

    /// What of it narrows page views.
    pub fn filter(&self) -> Filter {
        self.parts().fold(Filter::default(), |filter, (key, values)| match key {
            Key::Attribute(attribute) => {
                values.iter().fold(filter, |filter, value| filter.and(attribute.clone(), value))
            }
            _ => filter,
        })
    }

    /// Whether a value is among those that are named of a thing, or none is.
    pub fn takes(&self, key: &Key, value: &str) -> bool {
        self.0.get(key).is_none_or(|values| values.iter().any(|v| v == value))
    }
}

/// A text in quotes that is read back as it was.
pub fn quoted(text: &str) -> String {
    format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\""))
}

impl fmt::Display for Scope {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (nth, (key, values)) in self.0.iter().enumerate() {
            let values: Vec<String> = values.iter().map(|v| quoted(v)).collect();
            let and = if nth == 0 { "" } else { " and " };
            write!(f, "{and}{} {}", key.word(), values.join(" or "))?;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_value_that_is_called_something_else_is_named_once_and_others_stay_as_they_were() {
        let family = Key::Attribute(crate::visitor::Attribute::Family);
        let device = Key::Attribute(crate::visitor::Attribute::Device);
        let scope = |values: &[(&Key, &str)]| {
            values.iter().fold(Scope::default(), |s, (key, value)| s.and((*key).clone(), value))
        };
        let all = scope(&[(&family, "Pay"), (&family, "Search"), (&device, "Search")]);
        let renamed = |was, is| all.renamed(&family, was, is);
        assert_eq!(
            renamed("Search", "Sailings"),
            Some(scope(&[(&family, "Pay"), (&family, "Sailings"), (&device, "Search")]))
        );
        assert_eq!(renamed("Search", "Pay"), Some(scope(&[(&family, "Pay"), (&device, "Search")])));
        assert_eq!(renamed("Cabin", "Sailings"), None);
        assert_eq!(scope(&[]).renamed(&family, "Pay", "Sailings"), None);
    }
}
