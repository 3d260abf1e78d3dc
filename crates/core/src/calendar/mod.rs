//! Stretches of time, months in a zone, cadences.

pub mod cadence;
pub mod stretch;

pub use cadence::Cadence;
pub use stretch::{Against, Stretch};
