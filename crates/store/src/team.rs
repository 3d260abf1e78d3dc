//! Teams: who is in them, and what they own.

use crate::db::{Db, Result};
use sqlx::FromRow;

/// A team.
#[derive(Debug, Clone, PartialEq, Eq, FromRow)]
pub struct Team {
    /// Its id.
    pub id: i32,
    /// Its name.
    pub name: String,
    /// Who is in it.
    pub members: Vec<i32>,
    /// How many journeys it owns.
    pub journeys: i64,
}

impl Db {
    /// All teams, by their names.
    pub async fn teams(&self) -> Result<Vec<Team>> {
        let sql = "SELECT id, name, ARRAY(SELECT person_id FROM team_member m WHERE m.team_id = team.id ORDER BY 1) AS members,
                     (SELECT count(*) FROM journey j WHERE j.team_id = team.id) AS journeys
                   FROM team ORDER BY name";
        Ok(sqlx::query_as(sql).fetch_all(&self.lane).await?)
    }

    /// Adds a team; `None` when there is one of that name.
    pub async fn add_team(&self, name: &str) -> Result<Option<i32>> {
        let sql = "INSERT INTO team (name) VALUES ($1) ON CONFLICT DO NOTHING RETURNING id";
        Ok(sqlx::query_scalar(sql).bind(name).fetch_optional(&self.lane).await?)
    }

    /// Changes the name and the members of a team; `false` when there is none with this id, or another one has the name.
    pub async fn set_team(&self, id: i32, name: &str, members: &[i32]) -> Result<bool> {
        let mut tx = self.lane.begin().await?;
        let sql = "UPDATE team SET name = $2 WHERE id = $1 AND NOT EXISTS (SELECT FROM team WHERE name = $2 AND id <> $1)";
        if sqlx::query(sql).bind(id).bind(name).execute(&mut *tx).await?.rows_affected() == 0 {
            return Ok(false);
        }
        sqlx::query("DELETE FROM team_member WHERE team_id = $1")
            .bind(id)
            .execute(&mut *tx)
            .await?;
        let sql = "INSERT INTO team_member SELECT $1, p.id FROM person p WHERE p.id = ANY ($2)";
        sqlx::query(sql).bind(id).bind(members).execute(&mut *tx).await?;
        tx.commit().await?;
        Ok(true)
    }

    /// Removes a team: what it owned is everybody's. Its name.
    pub async fn remove_team(&self, id: i32) -> Result<Option<String>> {
        let sql = "DELETE FROM team WHERE id = $1 RETURNING name";
        Ok(sqlx::query_scalar(sql).bind(id).fetch_optional(&self.lane).await?)
    }
}
