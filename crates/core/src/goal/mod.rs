//! What was promised, and whether it is kept: availability, uptime, performance, budgets, error
//! budgets, how fast they burn.

pub mod availability;
pub mod budget;
pub mod burn;
mod counted;
pub mod danger;
pub mod definition;
pub mod error_budget;
pub mod hours;
pub mod judged;
pub mod limit;
pub mod measure;
pub mod openslo;
pub mod period;
pub mod views;

pub use availability::{Check, Tally};
pub use budget::{Budget, Standing};
pub use burn::{Burn, Forecast, Minutes};
pub use counted::Counted;
pub use danger::Danger;
pub use definition::Definition;
pub use error_budget::{ErrorBudget, Promise};
pub use measure::{Combine, FailedRuns, Measure, Score, Track, Verdict, uptime};
pub use period::{Period, counted};
