//! Apdex, web vitals and the phases of a request.

pub mod apdex;
pub mod phases;
pub mod vitals;

pub use apdex::Apdex;
pub use phases::Phases;
pub use vitals::{Rating, Vital};
