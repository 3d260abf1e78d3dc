//! Limits of vitals and of any measure: set and taken away.

use super::{Author, noted_change};
use crate::measures::{self, NotThere};
use crate::{Answers, Result};
use cadentis_core::alert::definition::exact;
use cadentis_core::goal::budget::{Budget, Metric, Scope, check_limit};
use cadentis_core::goal::limit::{Limit, NoLimit};
use cadentis_core::measure::Measured;
use cadentis_core::timing::Vital;
use cadentis_core::timing::apdex::TARGETS_S;
use cadentis_store::site::Site;

/// What a limit holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Which {
    /// A vital, in its unit.
    Vital(Vital),
    /// The time T of Apdex up to which a visitor is satisfied, in seconds; of a page family.
    T,
}

impl Which {
    /// As it is called.
    pub fn name(self) -> &'static str {
        match self {
            Which::Vital(vital) => vital.name(),
            Which::T => "T of Apdex",
        }
    }

    /// A limit of it with its unit.
    pub fn text(self, limit: f64) -> String {
        match self {
            Which::Vital(vital) => vital.text(limit),
            Which::T => format!("{limit} s"),
        }
    }

    /// Whether it can be so much; what would be right, if not.
    ///
    /// # Errors
    /// Says what would be right.
    pub fn check(self, limit: f64) -> std::result::Result<(), String> {
        match self {
            Which::Vital(vital) => check_limit(vital, limit).map_err(|e| e.to_string()),
            Which::T if TARGETS_S.contains(&limit) => Ok(()),
            Which::T => {
                Err(format!("T is from {} to {} seconds", TARGETS_S.start(), TARGETS_S.end()))
            }
        }
    }
}

/// A limit that is to be another.
#[derive(Debug, Clone, PartialEq)]
pub struct Wanted {
    /// Of this page family; of all pages without.
    pub family: Option<String>,
    /// What it holds.
    pub which: Which,
    /// What it was when it was read.
    pub was: Option<f64>,
    /// What it is to be, in its unit; none takes it away.
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
    let sites = one.db.sites().await?;
    let t_of = |family: &str| sites.iter().find(|s| s.id == site.id)?.family_t.get(family).copied();
    let now = |w: &Wanted| match w.which {
        Which::Vital(vital) => own(&limits, w.family.as_deref(), vital),
        Which::T => w.family.as_deref().and_then(t_of),
    };
    let overtaken: Vec<Wanted> = wanted
        .iter()
        .filter(|w| !is_same(now(w), w.was))
        .map(|w| Wanted { was: now(w), ..w.clone() })
        .collect();
    if !overtaken.is_empty() {
        return Ok(Err(NotSet::Overtaken(overtaken)));
    }
    let more = wanted.iter().filter(|w| w.was.is_none() && w.limit.is_some()).count();
    let of_families = sites.iter().find(|s| s.id == site.id).map_or(0, |s| s.family_t.len());
    if limits.len() + of_families + more > MOST_LIMITS {
        return Ok(Err(NotSet::TooMany));
    }
    let said = |limit: Option<f64>, which: Which| limit.map_or("none".into(), |l| which.text(l));
    let name = |w: &Wanted| {
        format!("{} of {}", w.which.name(), w.family.as_deref().unwrap_or("all pages"))
    };
    let (mut before, mut after, mut targets) = (Vec::new(), Vec::new(), Vec::new());
    for w in wanted {
        match (w.which, &w.family) {
            (Which::Vital(vital), family) => {
                let which = (family.as_deref(), vital);
                one.db.set_budget(site.id, which, w.limit, by.name()).await?;
            }
            (Which::T, Some(family)) => targets.push((family.clone(), w.limit)),
            // That of all pages is set with what is collected of them.
            (Which::T, None) => continue,
        }
        before.push(("limit", format!("{} {}", name(w), said(w.was, w.which))));
        after.push(("limit", format!("{} {}", name(w), said(w.limit, w.which))));
    }
    if !targets.is_empty() {
        one.db.set_family_t(site.id, &targets, by.name(), one.db.now().await?).await?;
    }
    let which = wanted.iter().map(name).collect::<Vec<_>>().join(", ");
    noted_change(one, by, "set the budget", which, (&before, &after)).await?;
    Ok(Ok(()))
}

/// A site has so many limits on measures at most: each is read whenever they are looked at.
pub const MOST_MEASURED: usize = 50;

/// Why a limit on a measure was not set.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
pub enum NotLimited {
    /// It is none.
    #[error("{0}")]
    NoLimit(NoLimit),
    /// It is about something that is not there.
    #[error("{0}")]
    NotThere(NotThere),
    /// Somebody else changed it meanwhile: what it is now.
    #[error("{}", overtaken(*.0, .1))]
    Overtaken(Option<f64>, Measured),
    /// There would be more than [`MOST_MEASURED`].
    #[error("a site has {MOST_MEASURED} limits on measures at most")]
    TooMany,
}

fn overtaken(now: Option<f64>, measured: &Measured) -> String {
    match now {
        Some(limit) => {
            format!("somebody set {} meanwhile", exact(measured.measure.unit(), limit))
        }
        None => "somebody took it away meanwhile".into(),
    }
}

/// Sets the limit of a measure, or takes it away without one, when it still is what it was when it was read.
///
/// # Errors
/// When the database does not answer.
pub async fn set_measured(
    answers: &Answers,
    by: &Author,
    site: &Site,
    measured: &Measured,
    (was, limit): (Option<f64>, Option<f64>),
) -> Result<std::result::Result<(), NotLimited>> {
    if let Some(level) = limit {
        let limit = Limit { measured: measured.clone(), level };
        if let Err(why) = limit.check() {
            return Ok(Err(NotLimited::NoLimit(why)));
        }
        if let Err(why) = measures::about(answers, site, measured).await? {
            return Ok(Err(NotLimited::NotThere(why)));
        }
    }
    let one = answers.one().await?;
    one.db.budgets_locked(site.id).await?;
    let kept = one.db.measured_budgets(site.id).await?;
    let now = kept.iter().find(|k| k.limit.measured == *measured).map(|k| k.limit.level);
    // What a limit is typed as is read back to the last bit.
    if now != was {
        return Ok(Err(NotLimited::Overtaken(now, measured.clone())));
    }
    if now.is_none() && limit.is_some() && kept.len() >= MOST_MEASURED {
        return Ok(Err(NotLimited::TooMany));
    }
    let (text, unit) = (measured.to_string(), measured.measure.unit());
    one.db.set_measured_budget(site.id, &text, limit, by.name()).await?;
    let said = |limit: Option<f64>| limit.map_or("none".into(), |l| exact(unit, l));
    let (before, after) = (vec![("limit", said(now))], vec![("limit", said(limit))]);
    noted_change(one, by, "set the budget", text, (&before, &after)).await?;
    Ok(Ok(()))
}
