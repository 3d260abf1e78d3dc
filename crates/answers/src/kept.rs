//! What is kept, as plain values: answers hold them whole where there is nothing to compute.

pub use cadentis_core::calendar::LeftOut;
pub use cadentis_store::alert::{Alert, KeptEvaluation, Says as AlertSays, Silence};
pub use cadentis_store::forgetting::ROWS_DAYS;
pub use cadentis_store::funnel::SavedFunnel;
pub use cadentis_store::goal::{CarveOut, Goal, Version as GoalVersion};
pub use cadentis_store::incident::{Event, Incident, OpenAlert, What};
pub use cadentis_store::journey::{Journey, PlaceAndPace};
pub use cadentis_store::location::Location;
pub use cadentis_store::maintenance::Planned;
pub use cadentis_store::marker::Marker;
pub use cadentis_store::measured_budget::MeasuredBudget;
pub use cadentis_store::notice::{Attempt, CallList, Destination, Notice, Sent, Tells};
pub use cadentis_store::page_view::Refused;
pub use cadentis_store::recording::Recording;
pub use cadentis_store::report::{Issue, KeptReport, Report};
pub use cadentis_store::run::{Accepted, Finished, Run, Shown, Try};
pub use cadentis_store::saved_query::{KeptQuery, SavedQuery};
pub use cadentis_store::saved_view::{KeptView, View};
pub use cadentis_store::script_version::{Deleted, Saved, Status, Version};
pub use cadentis_store::secret::{Secret, Vault};
pub use cadentis_store::sheet::Filed;
pub use cadentis_store::site::Site;
pub use cadentis_store::task::{Task, TaskState};
pub use cadentis_store::trial::TrialStatus;
pub use cadentis_store::work::{Backlog, Runner};
