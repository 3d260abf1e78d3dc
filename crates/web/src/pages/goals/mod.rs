//! Goals: what is promised, how it stands, what is taken out of it; made and changed with a trial on the past.

mod carve;
mod form;
mod openslo;
mod page;

use crate::State;
use crate::error::PageError;
use cadentis_answers::changes;
use cadentis_answers::kept::{Goal, Site};

pub use carve::{carve_out, revoke};
pub use form::{change, changed, make, new, remove};
pub use openslo::{file, openslo, take};
pub use page::page;

async fn goal_of(state: &State, site: &Site, id: i32) -> Result<Goal, PageError> {
    let found = changes::goals::goal(&state.answers, site, id).await?;
    found.ok_or_else(|| PageError::NotFound(format!("the goal {id}")))
}
