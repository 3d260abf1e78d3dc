//! What is kept, as plain values: answers hold them whole where there is nothing to compute.

pub use cadentis_store::filed::Filed;
pub use cadentis_store::forgetting::ROWS_DAYS;
pub use cadentis_store::history::{Task, TaskState};
pub use cadentis_store::recordings::Recording;
pub use cadentis_store::runs::{Accepted, Finished, Run, Shown, Try};
pub use cadentis_store::scripts::{Deleted, Saved, Status, Version};
pub use cadentis_store::secrets::{Secret, Vault};
pub use cadentis_store::sites::{
    Goal, Journey, LeftOut, Location, Marker, PlaceAndPace, SavedFunnel, Site,
};
pub use cadentis_store::trials::TrialStatus;
pub use cadentis_store::views::Refused;
pub use cadentis_store::work::{Backlog, Runner};
