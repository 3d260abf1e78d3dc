//! Alerts: what is watched, when that opens and clears, and what many of them make together.
//!
//! - [`definition`]: what an alert says, and what is wrong with it
//! - [`usual`]: what a measure usually is, for alerts on what is unlike it
//! - [`judge`]: one evaluation after the other, in the trial and in the watch alike
//! - [`incident`]: what alerts that belong together make; [`notice`]: who is told of it, [`own`]: in words of one's own

use jiff::SignedDuration;

/// The watch looks so far behind the clock: what tells of a moment takes a while to come.
pub const LAG: SignedDuration = SignedDuration::from_secs(30);

pub mod definition;
pub mod incident;
pub mod judge;
pub mod notice;
pub mod own;
pub mod usual;

pub use definition::{Definition, NoData, Rule, Severity, Unfit};
pub use judge::{Change, Evaluation, State, Verdict};
pub use usual::Usual;
