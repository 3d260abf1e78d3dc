//! What is pinned to the time axis.

use crate::db::{Db, Result};
use cadentis_core::calendar::Stretch;
use jiff::Timestamp;
use jiff_sqlx::ToSqlx;
use sqlx::PgExecutor;

/// Something that happened, pinned to the time axis.
#[derive(Debug, Clone)]
pub struct Marker {
    /// Its id.
    pub id: i32,
    /// When.
    pub at: Timestamp,
    /// What, in a word or two.
    pub title: String,
    /// More of it.
    pub detail: String,
}

pub(crate) async fn put_marker(
    to: impl PgExecutor<'_>,
    site_id: i32,
    at: Timestamp,
    title: &str,
    detail: &str,
) -> Result<i32> {
    let sql =
        "INSERT INTO marker (site_id, at, title, detail) VALUES ($1, $2, $3, $4) RETURNING id";
    let add = sqlx::query_scalar(sql).bind(site_id).bind(at.to_sqlx()).bind(title).bind(detail);
    Ok(add.fetch_one(to).await?)
}

impl Db {
    /// The markers in a stretch.
    pub async fn markers(&self, site_id: i32, stretch: Stretch) -> Result<Vec<Marker>> {
        let rows: Vec<(i32, jiff_sqlx::Timestamp, String, String)> = sqlx::query_as(
            "SELECT id, at, title, detail FROM marker WHERE site_id = $1 AND at >= $2 AND at < $3 ORDER BY at",
        )
        .bind(site_id)
        .bind(stretch.from.to_sqlx())
        .bind(stretch.to.to_sqlx())
        .fetch_all(&self.lane)
        .await?;
        Ok(rows
            .into_iter()
            .map(|(id, at, title, detail)| Marker { id, at: at.to_jiff(), title, detail })
            .collect())
    }

    /// Takes a marker of a site away; its title, if there was one.
    pub async fn remove_marker(&self, site_id: i32, id: i32) -> Result<Option<String>> {
        let sql = "DELETE FROM marker WHERE site_id = $1 AND id = $2 RETURNING title";
        Ok(sqlx::query_scalar(sql).bind(site_id).bind(id).fetch_optional(&self.lane).await?)
    }

    /// Adds a marker; its id.
    pub async fn add_marker(
        &self,
        site_id: i32,
        at: Timestamp,
        title: &str,
        detail: &str,
    ) -> Result<i32> {
        put_marker(&self.lane, site_id, at, title, detail).await
    }
}
