//! The program as it is started, on a real PostgreSQL.

mod door;
mod intake;
mod scripts;
mod server;
mod serving;
mod stats;
mod visitors;
