//! Real users: what a beacon may say, which page it was, what is kept of a person.
//!
//! - [`beacon`]: what comes in, from pages and from files, and what is taken away of it
//! - [`happening`]: what happened on a page
//! - [`filed`]: hours of both by columns, and what is counted of them
//! - [`reading`]: what is read out of them

pub mod beacon;
pub mod filed;
pub mod happening;
pub mod reading;

pub use beacon::collecting::Collecting;
pub use beacon::family::Families;
pub use beacon::{Beacon, BeaconError, Device, PageView};
pub use beacon::{collecting, family, import, privacy};
pub use filed::attribute::{Attribute, Filter};
pub use filed::cell::{Cell, Rated};
pub use filed::measured::{Measured, Pool, has_risen};
pub use filed::sheet::{Column, Sheet};
pub use filed::{HappeningRow, Seen};
pub use filed::{attribute, cell, measured, sheet};
pub use happening::{Fault, Happened, Happening};
pub use reading::{acts, beside, calls, errors, funnel, load_parts, party, slices, timeline};
