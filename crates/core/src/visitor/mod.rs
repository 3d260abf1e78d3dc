//! Real users: what a beacon may say, which page it was, what is kept of a person.

pub mod beacon;
pub mod cell;
pub mod errors;
pub mod family;
pub mod measured;
pub mod privacy;
pub mod spent;

pub use beacon::{Beacon, BeaconError, Device, PageView};
pub use cell::{Cell, Rated};
pub use family::Families;
pub use measured::{Measured, Pool, has_risen};
