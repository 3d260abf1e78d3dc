//! Whatever somebody changes: one function for each, which knows what is allowed and by whom it is done.
//!
//! - [`journeys`]: journeys, their scripts, where and when they play
//! - [`alerts`]: what is watched, and what people do about incidents
//! - [`notices`]: who is told of them
//! - [`budgets`]: limits of vitals
//! - [`dependencies`]: what others say of what a site stands on
//! - [`goals`]: what is promised of them, and what is taken out
//! - [`maintenance`]: planned time that does not count
//! - [`markers`]: what is pinned to the time axis
//! - [`reports`]: what is reported of, and issues of it
//! - [`saved_views`]: pieces that somebody put in an order
//! - [`trials`]: what a location's browser does now for somebody
//! - [`visitors`]: how page views are collected, funnels, who is forgotten
//! - [`installation`]: sites, locations, secrets, common parts

pub mod alerts;
pub mod budgets;
pub mod dependencies;
pub mod goals;
pub mod installation;
pub mod journeys;
pub mod maintenance;
pub mod markers;
pub mod notices;
pub mod queries;
pub mod reports;
pub mod saved_views;
pub(crate) mod told;
pub mod trials;
pub mod visitors;

use crate::{AnswerError, Answers, Result};
use cadentis_store::audit::Deed;
use cadentis_store::lane::OneChange;
use cadentis_store::person::Person;
use cadentis_store::session::Signed;
use std::fmt::{self, Display};
use std::net::IpAddr;
use std::ops::Deref;
use told::Parts;

/// A name has at most so many characters.
const LONGEST_NAME: usize = 80;
/// What something was done to is told in at most so many characters.
const LONGEST_WHICH: usize = 200;
/// What it was, and what it is, is told in at most so many characters each.
const LONGEST_TOLD: usize = 2_000;

/// Who changes something.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Author {
    name: String,
    /// Who it is, and from where: nobody without, such as a program of ours.
    person: Option<i32>,
    address: Option<IpAddr>,
    /// The teams whose things they change, beside what nobody owns; `None`: everybody's.
    teams: Option<Vec<i32>>,
}

impl Author {
    /// Whoever gave this name; `None` when nothing was given.
    pub fn named(name: &str) -> Option<Author> {
        let name = cut(name, LONGEST_NAME);
        (!name.is_empty()).then_some(Author { name, person: None, address: None, teams: None })
    }

    /// Somebody who is signed in; administrators change what any team owns.
    pub fn signed(signed: &Signed, address: Option<IpAddr>) -> Author {
        let (person, teams) = (&signed.person, signed.teams.clone());
        let teams = (!person.is_administrator).then_some(teams);
        Author { name: cut(&person.name, LONGEST_NAME), person: Some(person.id), address, teams }
    }

    /// Somebody who does nothing that a team could own.
    pub fn person(person: &Person, address: Option<IpAddr>) -> Author {
        let (name, teams) = (cut(&person.name, LONGEST_NAME), Some(Vec::new()));
        Author { name, person: Some(person.id), address, teams }
    }

    /// Whether they may change what this team owns; what nobody owns everybody may.
    pub fn may_change(&self, team: Option<i32>) -> bool {
        let theirs = |team| self.teams.as_ref().is_none_or(|teams| teams.contains(&team));
        team.is_none_or(theirs)
    }

    /// Whether what stands on every site is theirs to change.
    pub fn administers(&self) -> bool {
        self.person.is_some() && self.teams.is_none()
    }

    /// A program that shows a token.
    pub fn program(token: &str) -> Author {
        let name = cut(&format!("token {token}"), LONGEST_NAME);
        Author { name, person: None, address: None, teams: None }
    }

    /// Their name.
    pub fn name(&self) -> &str {
        &self.name
    }
}

impl Display for Author {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.name)
    }
}

/// A change that is being made: whatever is written through it is kept once it is [`noted`], and with the line that tells
/// of it. What is not noted is not kept.
pub(crate) struct One {
    answers: Answers,
    change: OneChange,
}

impl Deref for One {
    type Target = Answers;

    fn deref(&self) -> &Answers {
        &self.answers
    }
}

impl Answers {
    /// Begins a change.
    pub(crate) async fn one(&self) -> Result<One> {
        let (db, change) = self.db.in_one().await?;
        Ok(One { answers: Answers { db, ..self.clone() }, change })
    }
}

impl One {
    async fn kept(self, by: &Author, deed: Deed<'_>) -> Result<()> {
        self.db.note_done((by.person, by.name()), by.address, deed).await?;
        Ok(self.change.commit().await?)
    }
}

/// Keeps a change, and who did what to what; then says it in the log.
pub(crate) async fn noted(one: One, by: &Author, what: &str, which: impl Display) -> Result<()> {
    let which = which.to_string();
    let short = cut(&which, LONGEST_WHICH);
    one.kept(by, Deed { what, which: &short, ..Deed::default() }).await?;
    tracing::info!("{by} {what} {which}");
    Ok(())
}

/// The same of something that was changed: which parts of it, and from what to what.
pub(crate) async fn noted_change(
    one: One,
    by: &Author,
    what: &str,
    which: impl Display,
    (before, after): (&Parts, &Parts),
) -> Result<()> {
    let which = which.to_string();
    let (was, became) = told::differing(before, after);
    let short = cut(&which, LONGEST_WHICH);
    let (from, to) = (cut(&was, LONGEST_TOLD), cut(&became, LONGEST_TOLD));
    one.kept(by, Deed { what, which: &short, was: &from, became: &to }).await?;
    tracing::info!("{by} {what} {which}: from {was} to {became}");
    Ok(())
}

/// That what a team owns is theirs to change.
fn may(by: &Author, team: Option<i32>, what: &str, whose: &str) -> Result<()> {
    if by.may_change(team) {
        return Ok(());
    }
    Err(AnswerError::NotTheirs { what: what.into(), team: whose.into() })
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
