//! Page views, and what happened on them, read out of sheets: narrowed, told apart, gathered.

pub mod acts;
pub mod beside;
pub mod calls;
pub mod errors;
pub mod funnel;
pub mod load_parts;
pub mod party;
pub mod slices;
pub mod timeline;
