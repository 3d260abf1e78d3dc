//! Plays journeys in a real browser, over W3C WebDriver BiDi.
//!
//! - [`browser`]: one browser for one run, started and ended by us
//! - [`evidence`]: what the browser told about requests, console and errors
//! - [`play`]: a script, sentence by sentence, and the record it leaves; `acts` does what a person
//!   does, `expect` waits and judges, `values` fills texts, `keys` knows the keyboard
//! - `crawl`: links, looked at one after another; `look`: a page against what was accepted of it
//! - [`wire`]: requests, names and connections without a browser
//! - `guard`: the only way out where not everything may be reached; [`leftovers`]: what a bad end left behind
//! - [`film`]: what was to be seen meanwhile
//! - [`fair`]: whether this machine could measure at all
//! - [`record`]: a person at work on a page, told as acts
//! - [`agent`]: asks a server for work and brings back records; [`kept`]: those it could not take yet
//!
//! A runner talks to the server over HTTP only and never sees the database.

mod acts;
pub mod agent;
pub mod browser;
mod certificates;
mod crawl;
pub mod evidence;
mod expect;
pub mod fair;
pub mod film;
mod guard;
pub mod kept;
mod keys;
pub mod leftovers;
pub mod link;
mod look;
pub mod play;
pub mod record;
mod values;
pub mod wire;

pub use play::{News, Setting, play};
