//! A query is asked beside its page: what takes long shows how far it is, and can be stopped.

use crate::longer::{Longer, Waited};
use cadentis_answers::kept::Site;
use cadentis_answers::measures::NotThere;
use cadentis_answers::queries::{self, Answered, Over, Progress};
use cadentis_answers::{AnswerError, Answers};
use cadentis_core::query::Query;
use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;
use uuid::Uuid;

type Told = Result<Result<Answered, NotThere>, AnswerError>;

/// Queries on their way.
#[derive(Clone)]
pub struct Asking {
    longer: Longer<Told>,
    /// How far each is that is not told yet.
    progress: Arc<Mutex<HashMap<Uuid, Progress>>>,
    /// After so long a page shows how far its query is.
    after: Duration,
}

/// How a query stands.
pub enum Stands {
    /// What it came to.
    Told(Box<Result<Answered, NotThere>>),
    /// It is still being asked: its ticket, hours that were read, and all of them.
    Still(Uuid, u64, u64),
    /// There is none of this ticket.
    Gone,
}

impl Asking {
    /// Pages show how far a query is after so long.
    pub fn after(after: Duration) -> Asking {
        Asking { longer: Longer::default(), progress: Arc::default(), after }
    }

    /// Asks a query for somebody.
    ///
    /// # Errors
    /// As the answer.
    pub(crate) async fn ask(
        &self,
        owner: i32,
        answers: &Answers,
        (site, query): (&Site, &Query),
        (over, points): (Over, i64),
    ) -> Result<Stands, AnswerError> {
        let progress = over.progress.clone();
        let (answers, site, query) = (answers.clone(), site.clone(), query.clone());
        let asked =
            async move { queries::ask(&answers, &site, &query, &over, (points, true)).await };
        let ticket = self.longer.begin(owner, asked);
        self.keep(ticket, progress);
        self.wait(owner, ticket).await
    }

    fn keep(&self, ticket: Uuid, progress: Progress) {
        let mut all = self.progress.lock().unwrap_or_else(PoisonError::into_inner);
        // What is on its way no more has nothing to tell.
        all.retain(|ticket, _| self.longer.knows(*ticket));
        all.insert(ticket, progress);
    }

    /// Looks again at a query that was asked.
    ///
    /// # Errors
    /// As the answer.
    pub(crate) async fn wait(&self, owner: i32, ticket: Uuid) -> Result<Stands, AnswerError> {
        let waited = self.longer.wait(owner, ticket, self.after).await;
        let mut all = self.progress.lock().unwrap_or_else(PoisonError::into_inner);
        Ok(match waited {
            Waited::Still => {
                let (read, of) = all.get(&ticket).cloned().unwrap_or_default().hours();
                Stands::Still(ticket, read, of)
            }
            Waited::Done(told) => {
                all.remove(&ticket);
                Stands::Told(Box::new(told?))
            }
            Waited::Gone => Stands::Gone,
        })
    }

    /// How far a query is, without waiting for it; nothing once it has ended, or where there is none.
    pub(crate) fn look(&self, owner: i32, ticket: Uuid) -> Option<(u64, u64)> {
        if !self.longer.goes_on(owner, ticket) {
            return None;
        }
        let all = self.progress.lock().unwrap_or_else(PoisonError::into_inner);
        Some(all.get(&ticket).cloned().unwrap_or_default().hours())
    }

    /// Stops asking.
    pub(crate) fn stop(&self, owner: i32, ticket: Uuid) -> bool {
        self.longer.stop(owner, ticket)
    }
}
