//! What visitors tried to do: attempts, what came of them, who gave up.

use crate::{Answers, Range, Result, compute};
use cadentis_core::visitor::acts::{self, Action, COLUMNS};
use cadentis_core::visitor::timeline::Bucket;
use cadentis_store::sheet::Filed;
use cadentis_store::visits::with_filter;
use serde::Serialize;

/// What became of actions.
#[derive(Debug, Clone, Serialize)]
pub struct Actions {
    /// Every action by its name, the one that failed most first.
    pub actions: Vec<Action>,
    /// The course of the chosen action, or of all.
    pub over: Vec<Bucket>,
    /// The same of what the stretch is compared with; empty without one.
    pub over_before: Vec<Bucket>,
    /// Seconds of a bucket of both.
    pub bucket_s: i64,
}

/// Actions on a site, and the course of one of them if `name` says which.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn ask(
    answers: &Answers,
    site_id: i32,
    range: &Range,
    name: Option<&str>,
) -> Result<Actions> {
    let columns = with_filter(&COLUMNS, &range.filter);
    let (sheets, before) = futures::try_join!(
        answers.db.sheets_of(Filed::Happenings, site_id, range.stretch, &columns),
        answers.db.sheets_against(Filed::Happenings, site_id, range.against, &columns),
    )?;
    let (range, name) = (range.clone(), name.map(String::from));
    let computing = answers.computed(move || {
        let bucket_s = range.bucket_s();
        let of = |sheets, stretch| {
            compute::go_on();
            acts::actions(sheets, stretch, &range.filter, name.as_deref(), bucket_s)
        };
        let now = of(&sheets, range.stretch);
        Actions {
            actions: now.actions,
            over: now.over,
            over_before: range.against.map_or(vec![], |a| of(&before, a).over),
            bucket_s,
        }
    });
    computing.await
}
