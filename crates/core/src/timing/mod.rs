//! Apdex, web vitals, the phases of a request and of a load.

pub mod apdex;
pub mod entries;
pub mod navigation;
pub mod phases;
pub mod vitals;

pub use apdex::Apdex;
pub use navigation::{Load, Navigation};
pub use phases::Phases;
pub use vitals::{Rating, Vital};
