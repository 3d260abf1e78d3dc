//! When: stretches of time and sets of them, cadences, windows that recur, calendars in and out.

pub mod cadence;
pub mod cover;
pub mod cron;
pub mod ical;
pub mod maintenance;
mod rule;
pub mod stretch;
pub mod window;
mod written;

pub use cadence::{Cadence, Pace, PaceError};
pub use cover::Cover;
pub use cron::Cron;
pub use maintenance::{LeftOut, Maintenance, Reach};
pub use rule::{Rule, RuleError};
pub use stretch::{Against, Stretch};
pub use window::{Clock, Length, Repeat, Window};
pub use written::WrittenError;

/// A name that is none of a time zone.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("“{0}” is no time zone: write one as Europe/Oslo or UTC")]
pub struct ZoneError(String);

/// The time zone of this name (IANA).
///
/// # Errors
/// Says what was given and what would be right.
///
/// ```
/// use cadentis_core::calendar::zone;
/// assert!(zone("Europe/Oslo").is_ok());
/// assert_eq!(zone("Oslo").unwrap_err().to_string(), "“Oslo” is no time zone: write one as Europe/Oslo or UTC");
/// ```
pub fn zone(name: &str) -> Result<jiff::tz::TimeZone, ZoneError> {
    jiff::tz::TimeZone::get(name).map_err(|_| ZoneError(name.chars().take(60).collect()))
}
