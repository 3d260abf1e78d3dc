//! What was promised, and whether it is kept: availability, uptime, budgets, error budgets.

pub mod availability;
pub mod budget;
pub mod error_budget;

pub use availability::{Check, Tally};
pub use budget::State;
pub use error_budget::ErrorBudget;
