//! Limits of vitals: set and taken away.

use super::{Author, noted_change};
use crate::{Answers, Result};
use cadentis_core::goal::budget::{Budget, Metric, Scope};
use cadentis_core::timing::Vital;
use cadentis_store::site::Site;

/// A limit that is to be another.
#[derive(Debug, Clone, PartialEq)]
pub struct Wanted {
    /// Of this page family; of all pages without.
    pub family: Option<String>,
    /// Of this vital.
    pub vital: Vital,
    /// What it was when it was read.
    pub was: Option<f64>,
    /// What it is to be, in the vital's unit; none takes it away.
    pub limit: Option<f64>,
}

/// The limit of its own that a family has, or the site.
pub fn own(limits: &[Budget], family: Option<&str>, vital: Vital) -> Option<f64> {
    let scope = family.map_or(Scope::Site, |f| Scope::Family(f.to_string()));
    let own = limits.iter().find(|b| b.metric == Metric::Vital(vital) && b.scope == scope);
    own.map(|b| b.limit)
}

/// A site has so many limits at most.
pub const MOST_LIMITS: usize = 1_000;

/// Why limits were not set.
#[derive(Debug, Clone, PartialEq)]
pub enum NotSet {
    /// Somebody else changed these meanwhile: what they are now.
    Overtaken(Vec<Wanted>),
    /// There would be more than [`MOST_LIMITS`].
    TooMany,
}

/// Whether two limits are the same, but for what is lost when one is written down.
fn is_same(a: Option<f64>, b: Option<f64>) -> bool {
    match (a, b) {
        (Some(a), Some(b)) => (a - b).abs() < 1e-3,
        (a, b) => a == b,
    }
}

/// Sets limits, all of them or none: those that somebody else changed meanwhile are answered, and nothing is changed then.
///
/// # Errors
/// When the database does not answer.
pub async fn set(
    answers: &Answers,
    by: &Author,
    site: &Site,
    wanted: &[Wanted],
) -> Result<std::result::Result<(), NotSet>> {
    let one = answers.one().await?;
    let limits = one.db.budgets_locked(site.id).await?;
    let now = |w: &Wanted| own(&limits, w.family.as_deref(), w.vital);
    let overtaken: Vec<Wanted> = wanted
        .iter()
        .filter(|w| !is_same(now(w), w.was))
        .map(|w| Wanted { was: now(w), ..w.clone() })
        .collect();
    if !overtaken.is_empty() {
        return Ok(Err(NotSet::Overtaken(overtaken)));
    }
    let more = wanted.iter().filter(|w| w.was.is_none() && w.limit.is_some()).count();
    if limits.len() + more > MOST_LIMITS {
        return Ok(Err(NotSet::TooMany));
    }
    let said = |limit: Option<f64>, vital: Vital| limit.map_or("none".into(), |l| vital.text(l));
    let name = |w: &Wanted| {
        format!("{} of {}", w.vital.name(), w.family.as_deref().unwrap_or("all pages"))
    };
    let (mut before, mut after) = (Vec::new(), Vec::new());
    for w in wanted {
        let which = (w.family.as_deref(), w.vital);
        one.db.set_budget(site.id, which, w.limit, by.name()).await?;
        before.push(("limit", format!("{} {}", name(w), said(w.was, w.vital))));
        after.push(("limit", format!("{} {}", name(w), said(w.limit, w.vital))));
    }
    let which = wanted.iter().map(name).collect::<Vec<_>>().join(", ");
    noted_change(one, by, "set the budget", which, (&before, &after)).await?;
    Ok(Ok(()))
}
