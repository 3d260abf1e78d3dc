//! What is pinned to the time axis: markers and maintenance.

use crate::db::{Db, Result};
use cadentis_core::calendar::{Cover, Stretch};
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

/// Time that does not count: planned (maintenance) or taken out afterwards (a carve-out).
#[derive(Debug, Clone)]
pub struct LeftOut {
    /// From when to when.
    pub stretch: Stretch,
    /// Why it does not count.
    pub why: String,
    /// Who carved it out; `None` for maintenance.
    pub author: Option<String>,
}

impl LeftOut {
    /// All the time that some of these leave out.
    pub fn cover(all: &[LeftOut]) -> Cover {
        Cover::of(all.iter().map(|l| l.stretch))
    }
}

pub(crate) type WindowRow = (jiff_sqlx::Timestamp, jiff_sqlx::Timestamp, String, Option<String>);

pub(crate) fn left_out(rows: Vec<WindowRow>) -> Vec<LeftOut> {
    rows.into_iter()
        .map(|(from, to, why, author)| LeftOut {
            stretch: Stretch { from: from.to_jiff(), to: to.to_jiff() },
            why,
            author,
        })
        .collect()
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

    /// Maintenance that touches the stretch, with its own full extent.
    pub async fn maintenance(&self, site_id: i32, stretch: Stretch) -> Result<Vec<LeftOut>> {
        let rows: Vec<WindowRow> = sqlx::query_as(
            "SELECT from_at, to_at, why, NULL::text FROM maintenance
             WHERE site_id = $1 AND to_at > $2 AND from_at < $3 ORDER BY from_at",
        )
        .bind(site_id)
        .bind(stretch.from.to_sqlx())
        .bind(stretch.to.to_sqlx())
        .fetch_all(&self.lane)
        .await?;
        Ok(left_out(rows))
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

    /// Adds maintenance.
    pub async fn add_maintenance(&self, site_id: i32, stretch: Stretch, why: &str) -> Result<()> {
        sqlx::query(
            "INSERT INTO maintenance (site_id, from_at, to_at, why) VALUES ($1, $2, $3, $4)",
        )
        .bind(site_id)
        .bind(stretch.from.to_sqlx())
        .bind(stretch.to.to_sqlx())
        .bind(why)
        .execute(&self.lane)
        .await?;
        Ok(())
    }
}
