//! PostgreSQL, and the only place that knows SQL.
//!
//! - [`Db`]: connecting, migrating, days (partitions), health
//! - [`sites`]: sites, locations, journeys, goals, markers, maintenance
//! - [`scripts`]: their versions and status; [`secrets`]: what they type unseen; [`trials`]: played on a wish;
//!   [`recordings`]: a person at work on a page
//! - [`work`]: due runs and their leases
//! - [`runs`]: runs and their records; `sheets`: days of them, packed, for pages over weeks
//! - [`views`]: page views in; [`filed`]: hours of them by columns; [`rollup`]: their cells by the hour; [`visits`]: single
//!   ones
//! - [`history`]: what changes hours that are long filed: imports, families anew
//! - [`forgetting`]: what leaves when its time is over, and when the clock is not believed
//! - [`bulk`]: writing history in one go (demo, tests, benchmarks)

#![warn(missing_docs)]

pub mod bulk;
mod columns;
pub mod db;
pub mod filed;
pub mod forgetting;
pub mod history;
pub mod recordings;
pub mod rollup;
pub mod runs;
pub mod scripts;
pub mod secrets;
mod sheets;
pub mod sites;
pub mod trials;
pub mod views;
pub mod visits;
pub mod work;

pub use db::{Db, Result, StoreError};
