//! What one execution of a journey leaves, where its time went, and the likely cause.

pub mod bars;
pub mod cause;
pub mod counts;
pub mod device;
pub mod film;
pub mod gate;
pub mod har;
pub mod level;
pub mod links;
pub mod looked;
pub mod place;
pub mod reach;
pub mod record;
pub mod spell;
pub mod split;

pub use cause::{Cause, Difference, Who};
pub use counts::Counts;
pub use device::{DeviceProfile, PROFILES};
pub use har::{Har, HarError};
pub use links::Link;
pub use looked::{Look, Looked};
pub use record::{
    Asked, Console, Frame, Mark, Request, RunRecord, ServerTiming, StepRecord, StepVitals, Trouble,
};
pub use spell::{Spell, Trouble as TroubleKind};
pub use split::{HostTime, Part, Split, Where};

use serde::{Deserialize, Serialize};

/// What became of a run, or of a step.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Outcome {
    /// Everything as expected, inside the budgets.
    Passed,
    /// Everything as expected, over a budget.
    Slow,
    /// An expectation did not hold, or the site did not answer.
    Failed,
    /// Our own browser, driver, proxy or machine; never held against the site.
    Unmeasured,
}

impl Outcome {
    /// All of them, best first.
    pub const ALL: [Outcome; 4] =
        [Outcome::Passed, Outcome::Slow, Outcome::Failed, Outcome::Unmeasured];

    /// In one word.
    pub fn word(self) -> &'static str {
        match self {
            Outcome::Passed => "passed",
            Outcome::Slow => "slow",
            Outcome::Failed => "failed",
            Outcome::Unmeasured => "unmeasured",
        }
    }

    /// The one of this word.
    pub fn parse(word: &str) -> Option<Outcome> {
        Outcome::ALL.into_iter().find(|o| o.word() == word)
    }

    /// Whether the visitor's business got done.
    pub fn got_through(self) -> bool {
        matches!(self, Outcome::Passed | Outcome::Slow)
    }

    /// The outcome of a run from those of its steps: the gravest, but what we could not measure
    /// hides everything, since the rest of the run was not seen.
    pub fn of_steps(steps: impl IntoIterator<Item = Outcome>) -> Outcome {
        steps.into_iter().max().unwrap_or(Outcome::Unmeasured)
    }
}
