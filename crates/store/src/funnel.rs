//! Funnels that were saved.

use crate::db::{Db, Result};
use sqlx::FromRow;

/// A funnel as it is kept: page families in order, from the first to the last within so many seconds.
#[derive(Debug, Clone, PartialEq, FromRow)]
pub struct SavedFunnel {
    /// Its name.
    pub name: String,
    /// Its page families, in order.
    pub steps: Vec<String>,
    /// From the first page to the last within so many seconds.
    pub within_s: i32,
}

impl Db {
    /// The funnels of a site by name.
    pub async fn funnels(&self, site_id: i32) -> Result<Vec<SavedFunnel>> {
        let sql = "SELECT name, steps, within_s FROM funnel WHERE site_id = $1 ORDER BY name";
        Ok(sqlx::query_as(sql).bind(site_id).fetch_all(&self.lane).await?)
    }

    /// Keeps a funnel; one of the same name is replaced.
    pub async fn save_funnel(&self, site_id: i32, funnel: &SavedFunnel) -> Result<()> {
        sqlx::query(
            "INSERT INTO funnel (site_id, name, steps, within_s) VALUES ($1, $2, $3, $4)
             ON CONFLICT (site_id, name) DO UPDATE SET steps = excluded.steps, within_s = excluded.within_s",
        )
        .bind(site_id)
        .bind(&funnel.name)
        .bind(&funnel.steps)
        .bind(funnel.within_s)
        .execute(&self.lane)
        .await?;
        Ok(())
    }

    /// Deletes a funnel.
    pub async fn delete_funnel(&self, site_id: i32, name: &str) -> Result<()> {
        let sql = "DELETE FROM funnel WHERE site_id = $1 AND name = $2";
        sqlx::query(sql).bind(site_id).bind(name).execute(&self.lane).await?;
        Ok(())
    }
}
