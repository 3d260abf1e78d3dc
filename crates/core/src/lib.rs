//! The rules and the arithmetic of Cadentis.
//!
//! Everything here is a plain function of its arguments: no interface, no database, no network, no
//! clock, no randomness. Whoever calls passes the time and the samples in. Folders follow the job:
//!
//! - [`stats`]: percentiles with intervals, the mergeable sketch, shares
//! - [`timing`]: Apdex, web vitals, the phases of a request
//! - [`journey`]: the script language (parse, check, print)
//! - [`run`]: what one execution leaves, its outcome, where the time went, the likely cause
//! - [`visitor`]: beacons, page families, privacy, cells of the roll-up
//! - [`calendar`]: stretches, months in a zone, cadences
//! - [`finding`]: what needs a person, in words, worst first
//! - [`access`]: who may do what; [`groups`]: what a provider's groups give
//! - [`text`]: texts from outside, cleaned and bounded
//! - [`goal`]: availability, uptime, budgets, error budgets
//! - [`measure`]: the one vocabulary of what is judged and asked; [`alert`]: what is watched of it; [`query`]: several of it at
//!   once, by what samples are told apart by
//! - [`report`]: documents that are issued and stay as they were; [`saved_view`]: pieces that somebody put in an order
//!
//! Times are [`jiff::Timestamp`]; durations are milliseconds as `f64` with `_ms` in the name.

#![warn(missing_docs)]

pub mod access;
pub mod alert;
pub mod calendar;
pub mod dependency;
pub mod finding;
pub mod goal;
pub mod groups;
pub mod journey;
pub mod marker;
pub mod measure;
pub mod query;
pub mod report;
pub mod run;
pub mod saved_view;
pub mod share;
pub mod site;
pub mod stats;
pub mod text;
pub mod timing;
pub mod visitor;
