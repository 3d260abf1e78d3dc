//! PostgreSQL, and the only place that knows SQL.
//!
//! A module is named after its table:
//!
//! - [`Db`]: connecting, migrating, days (partitions), health
//! - [`site`], [`location`], [`journey`], [`goal`] (with limits of vitals and what was taken out), [`measured_budget`],
//!   [`marker`], [`maintenance`],
//!   [`funnel`]: what is set up
//! - [`alert`], [`incident`], [`notice`]: what is watched, what came of it, and who is told
//! - [`script_version`]: versions and status of journeys; [`secret`]: what they type unseen; [`trial`]: played on a wish;
//!   [`recording`]: a person at work on a page
//! - [`work`]: due runs and their leases
//! - [`run`]: runs and their records; [`run_day`]: days of them, packed, for pages over weeks
//! - [`page_view`]: page views in; [`sheet`]: hours of them by columns, `columns` of which lie in memory;
//!   [`page_view_hour`]: their cells by the hour; [`visits`]: single ones
//! - [`task`]: what changes hours that are long filed: imports, families anew
//! - [`person`], [`session`], [`api_token`], [`audit`]: who may do what, who is signed in, what was done
//! - [`forgetting`]: what leaves when its time is over, and when the clock is not believed
//! - [`bulk`]: writing history in one go (demo, tests, benchmarks)

#![warn(missing_docs)]

pub mod alert;
pub mod api_token;
pub mod audit;
pub mod bulk;
mod columns;
pub mod db;
pub mod dependency;
pub mod forgetting;
mod fresh;
pub mod funnel;
pub mod goal;
pub mod group_rule;
pub mod incident;
pub mod journey;
pub mod lane;
pub mod location;
pub mod maintenance;
pub mod marker;
pub mod measured_budget;
pub mod notice;
pub mod page_view;
pub mod page_view_hour;
pub mod person;
pub mod provider_sign_in;
pub mod recording;
pub mod rehearsal;
mod renamed;
pub mod report;
pub mod run;
pub mod run_day;
mod run_mark;
pub mod saved_query;
pub mod saved_view;
pub mod script_version;
pub mod secret;
pub mod session;
pub mod share_link;
pub mod sheet;
pub mod site;
pub mod task;
pub mod team;
pub mod trial;
pub mod visits;
pub mod work;

pub use db::{Db, Result, StoreError};
