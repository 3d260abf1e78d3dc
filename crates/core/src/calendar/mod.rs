//! When: stretches of time and sets of them, cadences, windows that recur, calendars in and out.

pub mod cadence;
pub mod cover;
pub mod cron;
pub mod ical;
mod rule;
pub mod stretch;
pub mod window;

pub use cadence::{Cadence, Pace, PaceError};
pub use cover::Cover;
pub use cron::Cron;
pub use rule::{Rule, RuleError};
pub use stretch::{Against, Stretch};
pub use window::{Clock, Length, Repeat, Window};
