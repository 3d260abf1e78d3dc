//! Requests that pages make, by family: how many, how long, what became of them, whose fault.

use crate::{Answers, Range, Result, compute};
pub use cadentis_core::visitor::calls::Which;

use cadentis_core::visitor::calls::{Calls, FAILURES, calls, columns};
use cadentis_core::visitor::timeline::Bucket;
use cadentis_store::sheet::Filed;
use cadentis_store::visits::with_filter;
use serde::Serialize;

/// Requests that scripts make, or what a page is made of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Kind {
    /// Asked for by a script (fetch, XMLHttpRequest).
    Request,
    /// Pictures, scripts, styles.
    Resource,
}

impl Kind {
    /// As it is filed.
    pub fn word(self) -> &'static str {
        match self {
            Kind::Request => "request",
            Kind::Resource => "resource",
        }
    }
}

/// What became of requests.
#[derive(Debug, Clone, Serialize)]
pub struct Requests {
    /// Every family, the one that failed most first.
    pub families: Vec<Calls>,
    /// The course of the chosen family, or of all.
    pub over: Vec<Bucket>,
    /// The same of what the stretch is compared with; empty without one.
    pub over_before: Vec<Bucket>,
    /// Seconds of a bucket of both.
    pub bucket_s: i64,
}

/// Requests of a site, and the course of those that are asked about; of one host those that go there alone.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn ask(
    answers: &Answers,
    site_id: i32,
    range: &Range,
    kind: Kind,
    which: &Which,
) -> Result<Requests> {
    let bucket_s = range.bucket_s();
    let columns = with_filter(&columns(bucket_s), &range.filter);
    let failures = with_filter(&FAILURES, &range.filter);
    let (db, told, failed) = (&answers.db, Filed::Happenings, Filed::Failures);
    let (sheets, failed, before, failed_before) = futures::try_join!(
        db.sheets_of(told, site_id, range.stretch, &columns),
        db.sheets_of(failed, site_id, range.stretch, &failures),
        db.sheets_against(told, site_id, range.against, &columns),
        db.sheets_against(failed, site_id, range.against, &failures),
    )?;
    let (range, which) = (range.clone(), which.clone());
    let computing = answers.computed(move || {
        let of = |sheets, failed, stretch| {
            compute::go_on();
            calls(sheets, failed, stretch, &range.filter, &[kind.word()], &which, bucket_s)
        };
        let now = of(&sheets, &failed, range.stretch);
        Requests {
            families: now.families,
            over: now.over,
            over_before: range.against.map_or(vec![], |a| of(&before, &failed_before, a).over),
            bucket_s,
        }
    });
    computing.await
}
