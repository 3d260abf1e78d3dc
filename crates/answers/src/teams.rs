//! Teams, and who is in them.

use crate::changes::{self, Author, told};
use crate::{Answers, Result};
pub use cadentis_store::team::Team;

/// A name has at most so many characters.
pub const LONGEST_NAME: usize = 60;

/// All teams, by their names.
///
/// # Errors
/// When the database does not answer.
pub async fn all(answers: &Answers) -> Result<Vec<Team>> {
    Ok(answers.db.teams().await?)
}

/// Adds a team; `false` when there is one of that name.
///
/// # Errors
/// When the database does not answer.
pub async fn add(answers: &Answers, by: &Author, name: &str) -> Result<bool> {
    let one = answers.one().await?;
    let added = one.db.add_team(name).await?.is_some();
    if added {
        changes::noted(one, by, "added the team", name).await?;
    }
    Ok(added)
}

/// Changes the name and the members of a team; `false` when there is none such, or another one has the name.
///
/// # Errors
/// When the database does not answer.
pub async fn set(
    answers: &Answers,
    by: &Author,
    id: i32,
    name: &str,
    members: &[i32],
) -> Result<bool> {
    let one = answers.one().await?;
    let before = told::team_now(&one, id).await?;
    let done = one.db.set_team(id, name, members).await?;
    if done {
        let after = told::team_now(&one, id).await?;
        changes::noted_change(one, by, "changed the team", name, (&before, &after)).await?;
    }
    Ok(done)
}

/// Removes a team: what it owned is everybody's. Whether there was one.
///
/// # Errors
/// When the database does not answer.
pub async fn remove(answers: &Answers, by: &Author, id: i32) -> Result<bool> {
    let one = answers.one().await?;
    match one.db.remove_team(id).await? {
        Some(name) => {
            changes::noted(one, by, "removed the team", name).await?;
            Ok(true)
        }
        None => Ok(false),
    }
}
