//! Real users: what a beacon may say, which page it was, what is kept of a person.

pub mod acts;
pub mod attribute;
pub mod beacon;
pub mod beside;
pub mod calls;
pub mod cell;
pub mod collecting;
pub mod errors;
pub mod family;
pub mod filed;
pub mod funnel;
pub mod happening;
pub mod import;
pub mod load_parts;
pub mod measured;
pub mod party;
pub mod privacy;
pub mod sheet;
pub mod slices;
pub mod timeline;

pub use attribute::{Attribute, Filter};
pub use beacon::{Beacon, BeaconError, Device, PageView};
pub use cell::{Cell, Rated};
pub use collecting::Collecting;
pub use family::Families;
pub use filed::{HappeningRow, Seen};
pub use happening::{Fault, Happened, Happening};
pub use measured::{Measured, Pool, has_risen};
pub use sheet::{Column, Sheet};
