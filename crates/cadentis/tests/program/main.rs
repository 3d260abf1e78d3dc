//! The program as it is started, on a real PostgreSQL.

mod addresses;
mod alerts;
mod api;
mod budgets;
mod dependencies;
mod deploy;
mod door;
mod empty;
mod goals;
mod intake;
mod maintenance;
mod markers;
mod measures;
mod notices;
mod ops;
mod people;
mod provider;
mod recomputed;
mod runs;
mod scripts;
mod server;
mod serving;
mod shares;
mod sites;
mod stats;
mod visitors;
