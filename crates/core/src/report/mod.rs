//! Reports: what one is about, when it is issued, and the document that an issue is.
//!
//! An issue is frozen: its document holds every figure as it was written, and whoever kept it can tell by its checksum that it
//! still is what was sent. What has changed since is found by comparing it with the document that would be issued now.
//!
//! - [`document`]: figures, courses, tables and workings, in the order in which they are read
//! - [`changes`]: what differs between two issues of the same report
//! - [`schedule`]: when a report is issued next, and which time it is then about

pub mod changes;
pub mod document;
pub mod schedule;
#[cfg(test)]
mod tests;

pub use changes::{Change, changes};
pub use document::{
    Body, Cell, Column, Course, Document, Figure, Head, Section, Table, Tone, Working,
};
pub use schedule::{Schedule, covered, period_name};

use crate::goal::Period;
use crate::goal::definition::ServiceHours;
use crate::measure::{Key, Measured, Scope, TextError};
use crate::query::Query;
use serde::{Deserialize, Serialize};

/// What a report tells of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Kind {
    /// Goals, a row each.
    GoalsShort,
    /// Goals with what spent their error budgets and how each figure was come by.
    GoalsFull,
    /// Durations of journeys and vitals of page families.
    Timings,
    /// Incidents, and how long they took to be acknowledged and to clear.
    Incidents,
    /// What was played and collected, by what and for whom.
    Usage,
    /// What a kept query comes to.
    Query,
    /// The pieces of a saved view.
    View,
}

impl Kind {
    /// All of them, in the order in which they are offered.
    pub const ALL: [Kind; 7] = [
        Kind::GoalsShort,
        Kind::GoalsFull,
        Kind::Timings,
        Kind::Incidents,
        Kind::Usage,
        Kind::Query,
        Kind::View,
    ];

    /// The word that stands for it in addresses and programs.
    pub fn word(self) -> &'static str {
        match self {
            Kind::GoalsShort => "goals_short",
            Kind::GoalsFull => "goals_full",
            Kind::Timings => "timings",
            Kind::Incidents => "incidents",
            Kind::Usage => "usage",
            Kind::Query => "query",
            Kind::View => "view",
        }
    }

    /// What that word stands for.
    pub fn of_word(word: &str) -> Option<Kind> {
        Kind::ALL.into_iter().find(|k| k.word() == word)
    }

    /// As a document is called.
    pub fn title(self) -> &'static str {
        match self {
            Kind::GoalsShort | Kind::GoalsFull => "service level report",
            Kind::Timings => "timings report",
            Kind::Incidents => "incident report",
            Kind::Usage => "usage report",
            Kind::Query => "query report",
            Kind::View => "report",
        }
    }

    /// As it is offered.
    pub fn says(self) -> &'static str {
        match self {
            Kind::GoalsShort => "goals, a row each",
            Kind::GoalsFull => "goals in full, with what spent their error budgets",
            Kind::Timings => "timings of journeys and pages",
            Kind::Incidents => "incidents, with the time to acknowledge and to clear",
            Kind::Usage => "usage: runs, browser time, page views",
            Kind::Query => "what a kept query comes to",
            Kind::View => "the pieces of a saved view",
        }
    }

    /// Whether it can be narrowed to journeys and locations.
    pub fn takes_places(self) -> bool {
        matches!(self, Kind::Timings | Kind::Usage)
    }

    /// Whether it can be narrowed to hours of the week: goals have hours of their own, and incidents have none.
    pub fn takes_hours(self) -> bool {
        matches!(self, Kind::Timings | Kind::Usage | Kind::Query)
    }
}

/// What a report is about, and when it is issued.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Definition {
    /// What it tells of.
    pub kind: Kind,
    /// The time that each issue covers: the last of its kind that is over.
    pub period: Period,
    /// Of which goals; none stands for all.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub goals: Vec<i32>,
    /// Of which journeys; none stands for all.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub journeys: Vec<i32>,
    /// From which locations; none stands for all.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub locations: Vec<i32>,
    /// In these hours of the site's zone alone, of what takes them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hours: Option<ServiceHours>,
    /// What page views of timings and usage are narrowed to, as measures are: `device "phone" and country "NO"`.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub filter: String,
    /// What is asked, of a query report.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub query: String,
    /// The saved view that it tells of.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub view: Option<i32>,
    /// When it is issued by itself.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub schedule: Option<Schedule>,
}

impl Definition {
    /// The same with another name for something that it is narrowed to; `None` where that is not named.
    pub fn renamed(&self, key: &Key, was: &str, is: &str) -> Option<Definition> {
        let query = self.query.parse::<Query>().ok().and_then(|q| q.renamed(key, was, is));
        let filter = narrowed(&self.filter).ok().and_then(|scope| scope.renamed(key, was, is));
        if query.is_none() && filter.is_none() {
            return None;
        }
        Some(Definition {
            query: query.map_or_else(|| self.query.clone(), |q| q.to_string()),
            filter: filter.map_or_else(|| self.filter.clone(), |f| f.to_string()),
            ..self.clone()
        })
    }
}

/// What a filter narrows page views to, as it is typed: `device "phone" and country "NO"`.
///
/// # Errors
/// Says what is wrong with it, and where in it.
pub fn narrowed(filter: &str) -> Result<Scope, TextError> {
    const BEFORE: &str = "count of page views for ";
    if filter.trim().is_empty() {
        return Ok(Scope::default());
    }
    let of = |e: TextError| TextError {
        column: e.column.saturating_sub(BEFORE.chars().count()).max(1),
        ..e
    };
    Ok(format!("{BEFORE}{filter}").parse::<Measured>().map_err(of)?.scope)
}
