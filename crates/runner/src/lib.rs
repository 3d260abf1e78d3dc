//! Plays journeys in a real browser, over W3C WebDriver BiDi.
//!
//! - [`browser`]: one browser for one run, started and ended by us
//! - [`evidence`]: what the browser told about requests, console and errors
//! - [`play`]: a script, sentence by sentence, and the record it leaves
//! - [`agent`]: asks a server for work and brings back records
//!
//! A runner talks to the server over HTTP only and never sees the database.

pub mod agent;
pub mod browser;
pub mod evidence;
pub mod play;

pub use play::{Setting, play};
