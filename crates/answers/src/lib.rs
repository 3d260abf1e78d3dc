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
//!   people had
//! - [`played`], [`steps`]: runs, which [`now`], [`journeys`] and [`location`] begin with; [`goals`]: what is promised of
//!   them

#![warn(missing_docs)]

pub mod actions;
pub mod beside;
pub mod breakdown;
pub mod changes;
pub mod compute;
pub mod errors;
pub mod family;
pub mod funnels;
pub mod goals;
pub mod journeys;
pub mod location;
pub mod now;
pub mod played;
pub mod range;
pub mod requests;
pub mod steps;
pub mod views;
pub mod visitors;

use cadentis_store::{Db, StoreError};
use compute::{Compute, ComputeError};

pub use range::Range;

/// Where answers come from. A handle, as cheap to clone as its parts.
#[derive(Clone)]
pub struct Answers {
    db: Db,
    compute: Compute,
}

/// Why a question was not answered.
#[derive(Debug, thiserror::Error)]
pub enum AnswerError {
    /// The database does not answer, or holds something that cannot be read.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// It was not computed.
    #[error(transparent)]
    Compute(#[from] ComputeError),
}

/// What a question gives.
pub type Result<T> = std::result::Result<T, AnswerError>;

impl Answers {
    /// Answers from this database, computed there.
    pub fn new(db: Db, compute: Compute) -> Answers {
        Answers { db, compute }
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
