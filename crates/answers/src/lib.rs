//! Answers: between what is stored and whatever shows or judges it.
//!
//! One module per question. Each reads through the store, lets the core compute on the one [compute pool](compute), and
//! gives a plain struct with named fields: numbers as numbers, readings with their samples and interval, no words made
//! for people, no markup. A page, an alert, a report and the API that ask the same question have the same number.
//!
//! - [`compute`]: where all heavy arithmetic runs
//! - [`range`]: what a question is about: stretch, comparison, filter
//! - [`views`]: page views pooled by time and by an attribute, which most questions about visitors begin with
//! - [`changes`]: what somebody changes, with who it was
//! - [`visitors`], [`family`], [`breakdown`], [`requests`], [`actions`], [`errors`], [`funnels`], [`beside`]: what real
//!   people had; [`visit`]: single ones; [`collecting`]: how it is collected
//! - [`played`], [`steps`]: runs, which [`now`], [`journeys`] and [`location`] begin with; [`journey`], [`weeks`],
//!   [`runs`], [`run`]: one journey and one run; [`goals`]: what is promised of them
//! - [`scripts`], [`trials`], [`recordings`]: writing a journey; [`runners`]: what plays it
//! - [`sites`], [`strip`], [`setup`]: what every page has, and what is set up
//! - [`people`]: who may do what, and signing in; [`provider`]: signing in by a provider, and what its groups give
//! - [`export`]: page views as lines of JSON
//! - [`measures`]: any measure as a reading, over time, and over a window that moves on
//! - [`alerts`], [`incidents`]: what is watched and what came of it; [`watch`]: what watches it; [`notices`]: who is told
//! - [`kept`]: what answers hold whole

#![warn(missing_docs)]

pub mod actions;
pub mod alerts;
pub mod beside;
pub mod breakdown;
pub mod budgets;
pub mod changes;
pub mod collecting;
pub mod dependencies;
pub mod errors;
pub mod export;
pub mod family;
pub mod find;
pub mod funnels;
pub mod goals;
pub mod incidents;
pub mod journey;
pub mod journeys;
pub mod kept;
pub mod location;
pub mod maintenance;
pub mod markers;
pub mod measures;
pub mod notices;
pub mod now;
pub mod people;
pub mod played;
pub mod pooled;
pub mod provider;
pub mod queries;
pub mod range;
pub mod recordings;
pub mod reports;
pub mod requests;
pub mod run;
pub mod runners;
pub mod runs;
mod samples;
pub mod saved_views;
pub mod scripts;
pub mod setup;
pub mod shares;
pub mod sites;
pub mod start;
pub mod steps;
pub mod strip;
pub mod teams;
pub mod telling;
pub mod trials;
pub mod usual;
pub mod views;
pub mod visit;
pub mod visitors;
pub mod watch;
pub mod weeks;

pub use cadentis_compute as compute;
use cadentis_core::alert::Usual;
use cadentis_core::visitor::privacy::PersonKey;
use cadentis_store::secret::Vault;
use cadentis_store::{Db, StoreError};
use compute::{Compute, ComputeError};
use quick_cache::sync::Cache;
use std::sync::Arc;

pub use range::Range;

/// Where answers come from. A handle, as cheap to clone as its parts.
#[derive(Clone)]
pub struct Answers {
    db: Db,
    compute: Compute,
    /// Opens secrets; without it none can be kept.
    vault: Option<Vault>,
    /// Makes of people's ids what is kept of them; without it nothing is.
    persons: Option<PersonKey>,
    /// How people are let in.
    sign_on: provider::SignOn,
    /// What is usual of what is watched.
    usual: Arc<Cache<usual::Of, Option<Usual>>>,
    /// Hours of page views that goals have counted.
    hours: Arc<goals::Hours>,
    /// What the watch has done in this process.
    watched: Arc<watch::Watched>,
}

/// Why a question was not answered.
#[derive(Debug, thiserror::Error)]
pub enum AnswerError {
    /// The database does not answer, or holds something that cannot be read.
    #[error(transparent)]
    Store(StoreError),
    /// It was not computed.
    #[error(transparent)]
    Compute(#[from] ComputeError),
    /// It belongs to a team that whoever wants to change it is not in.
    #[error("{what} belongs to {team}: its members change it, and administrators")]
    NotTheirs {
        /// What was to be changed.
        what: String,
        /// The team.
        team: String,
    },
    /// It is about a journey whose script cannot be read.
    #[error("the script of {journey} cannot be read: {says}")]
    Script {
        /// The journey's name.
        journey: String,
        /// Its name in addresses.
        slug: String,
        /// What is wrong, and where.
        says: String,
    },
}

impl From<StoreError> for AnswerError {
    fn from(e: StoreError) -> AnswerError {
        match e {
            StoreError::Compute(e) => AnswerError::Compute(e),
            e => AnswerError::Store(e),
        }
    }
}

impl AnswerError {
    /// Whether the database answered something that cannot be read.
    pub fn is_unreadable(&self) -> bool {
        matches!(self, AnswerError::Store(StoreError::Content { .. }))
    }

    /// What is kept cannot be read.
    pub(crate) fn unreadable(place: &'static str, says: &dyn std::fmt::Display) -> AnswerError {
        AnswerError::Store(StoreError::Content { place, says: says.to_string() })
    }

    /// Whether it was about a name that nothing can have.
    pub fn is_no_text(&self) -> bool {
        matches!(self, AnswerError::Store(e) if e.is_no_text())
    }

    /// Whether the same would be answered however often it were tried.
    pub fn is_permanent(&self) -> bool {
        matches!(self, AnswerError::Store(e) if e.is_permanent())
    }
}

/// What a question gives.
pub type Result<T> = std::result::Result<T, AnswerError>;

impl Answers {
    /// Answers from this database, computed there, without keys for secrets and people.
    pub fn new(db: Db, compute: Compute) -> Answers {
        let db = db.with_compute(compute.clone());
        let usual = Arc::new(Cache::new(usual::REMEMBERED));
        let sign_on = provider::SignOn::default();
        let hours = goals::remembered();
        let watched = Arc::default();
        Answers { db, compute, vault: None, persons: None, sign_on, usual, hours, watched }
    }

    /// The same with the keys of an installation.
    pub fn with_keys(self, vault: Option<Vault>, persons: Option<PersonKey>) -> Answers {
        Answers { vault, persons, ..self }
    }

    /// The same, with people let in by a provider.
    pub fn with_sign_on(self, sign_on: provider::SignOn) -> Answers {
        Answers { sign_on, ..self }
    }

    /// How people are let in.
    pub fn sign_on(&self) -> &provider::SignOn {
        &self.sign_on
    }

    /// What the watch has done in this process.
    pub fn watched(&self) -> &watch::Watched {
        &self.watched
    }

    /// Whether secrets can be kept.
    pub fn has_vault(&self) -> bool {
        self.vault.is_some()
    }

    /// Connections to the database: open ones, and those of them that are idle.
    pub fn connections(&self) -> (u32, u32) {
        self.db.connections()
    }

    /// What the compute pool has done, and what waits for it.
    pub fn compute(&self) -> &Compute {
        &self.compute
    }

    /// Computes on the pool.
    ///
    /// # Errors
    /// When too much waits, or it took too long.
    async fn computed<T: Send + 'static>(
        &self,
        work: impl FnOnce() -> T + Send + 'static,
    ) -> Result<T> {
        Ok(self.compute.run(work).await?)
    }
}
