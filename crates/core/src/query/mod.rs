//! Queries: several measures of the same samples, told apart by what is known of them.
//!
//! A query is written as it is said and read back:
//! `p75 of LCP, count of page views by family and device for country "NO" where count of page views above 30 top 20 by p75 of LCP`.
//! Its measures and what narrows them are those of [`crate::measure`].
//!
//! - [`text`]: reading, printing, and how one could go on
//! - [`groups`]: gathering samples by what they are told apart by
//! - [`table`]: what groups come to, which of them are kept, and in which order
//! - [`apart`]: what some samples have more of than others

pub mod apart;
pub mod groups;
pub mod table;
#[cfg(test)]
mod tests;
pub mod text;

pub use groups::{Groups, Value};
pub use table::{Table, table};
pub use text::{begun, complete};

use crate::measure::{Counted, Key, Measure, Measured, Scope, Span, Subject, Unit};

/// So many measures are asked at once at most.
pub const MOST_MEASURES: usize = 6;
/// Samples are told apart by so many things at most.
pub const MOST_BY: usize = 2;
/// So many rows are asked for at most.
pub const MOST_ROWS: usize = 1_000;
/// So many are told when nothing is said.
pub const ROWS: usize = 50;
/// So many conditions stand in a query at most.
pub const MOST_CONDITIONS: usize = 4;

/// What samples are told apart by.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum By {
    /// When they were, in pieces of time.
    Time,
    /// Something that is known of them.
    Key(Key),
}

impl By {
    /// The word that stands for it.
    pub fn word(&self) -> String {
        match self {
            By::Time => "time".into(),
            By::Key(key) => key.word(),
        }
    }

    /// As a title of a column.
    pub fn title(&self) -> String {
        match self {
            By::Time => "time".into(),
            By::Key(Key::Attribute(attribute)) => attribute.title(),
            By::Key(key) => key.word(),
        }
    }

    /// Whether samples of this subject can be told apart by it.
    pub fn fits(&self, subject: Subject) -> bool {
        match self {
            By::Time => true,
            By::Key(Key::Goal | Key::Dependency | Key::Mark) => false,
            By::Key(key) => key.fits(subject),
        }
    }

    /// Everything that samples of a subject can be told apart by; attributes of the site's own not among it.
    pub fn of_subject(subject: Subject) -> Vec<By> {
        let keys = Key::of_subject(subject).into_iter().map(By::Key);
        // Steps tell apart the times of steps alone: see [`Query::lacks`].
        let is_offered = |by: &By| by.fits(subject) && *by != By::Key(Key::Step);
        [By::Time].into_iter().chain(keys).filter(is_offered).collect()
    }

    /// The one of this word.
    pub fn of_word(word: &str) -> Option<By> {
        match word {
            "time" => Some(By::Time),
            word => Key::of_word(word).map(By::Key),
        }
    }
}

/// What a group has to come to, to be told.
#[derive(Debug, Clone, PartialEq)]
pub struct Condition {
    /// Which of its numbers.
    pub measure: Measure,
    /// Whether it has to be above the level, else below it; the level itself is neither.
    pub is_above: bool,
    /// The level as it was written: shares in per cent, times in milliseconds.
    pub level: f64,
}

impl Condition {
    /// Whether a value meets it. What is not known meets none.
    pub fn is_met(&self, value: Option<f64>) -> bool {
        let level = match self.measure.unit() {
            Unit::Share => self.level / 100.0,
            _ => self.level,
        };
        value.is_some_and(|v| if self.is_above { v > level } else { v < level })
    }
}

/// How many groups are told, the highest first.
#[derive(Debug, Clone, PartialEq)]
pub struct Top {
    /// So many.
    pub many: usize,
    /// By this number of theirs; by the first that is asked when it does not say.
    pub by: Option<Measure>,
}

/// Several measures of the same samples.
#[derive(Debug, Clone, PartialEq)]
pub struct Query {
    /// Which numbers; one at least, all of the same subject.
    pub measures: Vec<Measure>,
    /// What samples are told apart by.
    pub by: Vec<By>,
    /// Of what.
    pub scope: Scope,
    /// What groups have to come to.
    pub conditions: Vec<Condition>,
    /// How many are told.
    pub top: Option<Top>,
}

impl Query {
    /// The same with another name for something that it is narrowed to; `None` where that is not named.
    pub fn renamed(&self, key: &Key, was: &str, is: &str) -> Option<Query> {
        let scope = self.scope.renamed(key, was, is)?;
        Some(Query { scope, ..self.clone() })
    }

    /// Whether steps tell its samples apart.
    pub fn is_by_step(&self) -> bool {
        self.by.contains(&By::Key(Key::Step))
    }

    /// What it does not say and would have to.
    pub(crate) fn lacks(&self) -> Option<&'static str> {
        let is_of_step = |m: &Measure| matches!(m, Measure::RunTime(Span::Step, _));
        if self.is_by_step() {
            if !self.needed().iter().all(is_of_step) {
                return Some(
                    "only a step's time is told apart by step: write p75 of step duration",
                );
            }
            if self.scope.of(&Key::Journey).len() != 1 || !self.scope.of(&Key::Step).is_empty() {
                return Some(
                    "steps are those of one journey: write for journey \"…\", and no step",
                );
            }
            return None;
        }
        let lacking = |measure| Measured { measure, scope: self.scope.clone() }.lacks();
        self.needed().into_iter().find_map(lacking)
    }

    /// What its samples are.
    pub fn subject(&self) -> Subject {
        self.measures.first().map_or(Subject::PageViews, Measure::subject)
    }

    /// Its first measure, with what it is narrowed to.
    pub fn first(&self) -> Measured {
        let measure = self.measures.first().cloned().unwrap_or(Measure::Views(Counted::PageViews));
        Measured { measure, scope: self.scope.clone() }
    }

    /// Every number that has to be worked out of a group: those that are asked first, then what conditions and order ask.
    pub fn needed(&self) -> Vec<Measure> {
        let conditions = self.conditions.iter().map(|c| &c.measure);
        let order = self.top.iter().filter_map(|t| t.by.as_ref());
        let mut all: Vec<Measure> = Vec::new();
        for measure in self.measures.iter().chain(conditions).chain(order) {
            if !all.contains(measure) {
                all.push(measure.clone());
            }
        }
        all
    }

    /// Where among the needed ones the number is that groups are ordered by.
    pub fn order(&self) -> usize {
        let by = self.top.as_ref().and_then(|t| t.by.as_ref());
        by.and_then(|by| self.needed().iter().position(|m| m == by)).unwrap_or(0)
    }

    /// The same of one group alone, told apart by the rest; nothing where the group is of a time.
    pub fn within(&self, nth: usize, value: &Value) -> Option<Query> {
        let (By::Key(key), Value::Text(text)) = (self.by.get(nth)?, value) else { return None };
        let mut narrowed = self.clone();
        narrowed.by.remove(nth);
        narrowed.scope = Scope::default();
        for (other, values) in self.scope.parts().filter(|(other, _)| *other != key) {
            let and = |scope: Scope, value: &String| scope.and(other.clone(), value);
            narrowed.scope = values.iter().fold(narrowed.scope, and);
        }
        narrowed.scope = narrowed.scope.and(key.clone(), text);
        Some(narrowed)
    }

    /// The same with this number too, or without it; the last one stays, and of too many the one that came last gives way.
    pub fn toggled_measure(&self, measure: &Measure) -> Query {
        let mut other = self.clone();
        match other.measures.iter().position(|m| m == measure) {
            Some(at) if other.measures.len() > 1 => {
                other.measures.remove(at);
            }
            Some(_) => {}
            None => {
                other.measures.truncate(MOST_MEASURES - 1);
                other.measures.push(measure.clone());
            }
        }
        other
    }

    /// The same that is narrowed to this value no more.
    pub fn widened(&self, key: &Key, value: &str) -> Query {
        let mut other = self.clone();
        other.scope = Scope::default();
        for (of, values) in self.scope.parts() {
            let kept = values.iter().filter(|v| of != key || v.as_str() != value);
            other.scope = kept.fold(other.scope, |scope, v| scope.and(of.clone(), v));
        }
        other
    }

    /// The same without one of its conditions.
    pub fn without_condition(&self, nth: usize) -> Query {
        let mut other = self.clone();
        if nth < other.conditions.len() {
            other.conditions.remove(nth);
        }
        other
    }

    /// The same with so many rows, in the order that it has; as many as usual without.
    pub fn with_top(&self, many: Option<usize>) -> Query {
        let by = self.top.as_ref().and_then(|top| top.by.clone());
        Query { top: many.map(|many| Top { many, by }), ..self.clone() }
    }

    /// What can be asked of samples of a subject besides: each form of a measure once, as its example says it, and each vital.
    pub fn offered(subject: Subject) -> Vec<Measure> {
        let vitals = ["p75 of LCP", "p75 of INP", "p75 of CLS", "p75 of TTFB"];
        let forms = crate::measure::forms::forms().filter(|form| form.subject == subject);
        let examples = forms.map(|form| form.example.split(" for ").next().unwrap_or_default());
        let mut all: Vec<Measure> = Vec::new();
        for text in vitals.into_iter().filter(|_| subject == Subject::PageViews).chain(examples) {
            if let Ok(query) = text.parse::<Query>()
                && let Some(measure) = query.measures.into_iter().next()
                && !all.contains(&measure)
            {
                all.push(measure);
            }
        }
        all
    }

    /// The same told apart by this too, or by it no more; by two things at most, of which the older gives way.
    pub fn toggled(&self, by: &By) -> Query {
        let mut other = self.clone();
        match other.by.iter().position(|b| b == by) {
            Some(at) => {
                other.by.remove(at);
            }
            None => {
                other.by.push(by.clone());
                if other.by.len() > MOST_BY {
                    other.by.remove(0);
                }
            }
        }
        other
    }
}
