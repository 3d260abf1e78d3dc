//! Links that show one page of a site to whoever has them.

use crate::db::{Db, Result};
use jiff::Timestamp;
use sqlx::Row;
use uuid::Uuid;

/// A link, as whoever looks after it sees it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ShareLink {
    /// Its id, which opens nothing.
    pub id: Uuid,
    /// The site.
    pub site_id: i32,
    /// The page, below the name of the site.
    pub path: String,
    /// Its parameters, its stretch among them.
    pub query: String,
    /// Who made it.
    pub made_by: String,
    /// Until when it is good.
    pub ends_at: Timestamp,
    /// When it was last opened, to the minute.
    pub seen_at: Option<Timestamp>,
}

fn link(row: &sqlx::postgres::PgRow) -> Result<ShareLink> {
    let (ends_at, seen_at): (jiff_sqlx::Timestamp, Option<jiff_sqlx::Timestamp>) =
        (row.try_get("ends_at")?, row.try_get("seen_at")?);
    Ok(ShareLink {
        id: row.try_get("id")?,
        site_id: row.try_get("site_id")?,
        path: row.try_get("path")?,
        query: row.try_get("query")?,
        made_by: row.try_get("made_by")?,
        ends_at: ends_at.to_jiff(),
        seen_at: seen_at.map(|at| at.to_jiff()),
    })
}

impl Db {
    /// Keeps a link that is good for so many days. Those that ended a month ago leave.
    pub async fn add_share_link(
        &self,
        hash: &[u8],
        site_id: i32,
        (path, query): (&str, &str),
        made_by: &str,
        days: i32,
    ) -> Result<()> {
        let mut tx = self.lane.begin().await?;
        sqlx::query("DELETE FROM share_link WHERE ends_at < now() - interval '30 days'")
            .execute(&mut *tx)
            .await?;
        let sql = "INSERT INTO share_link (token, id, site_id, path, query, made_by, ends_at)
                   VALUES ($1, $2, $3, $4, $5, $6, now() + $7 * interval '1 day')";
        let add = sqlx::query(sql).bind(hash).bind(Uuid::new_v4()).bind(site_id).bind(path);
        add.bind(query).bind(made_by).bind(days).execute(&mut *tx).await?;
        tx.commit().await?;
        Ok(())
    }

    /// The link that this is the hash of, while it is good. That it was opened is noted once a minute.
    pub async fn share_link(&self, hash: &[u8]) -> Result<Option<ShareLink>> {
        let sql = "SELECT *, seen_at IS NULL OR seen_at < now() - interval '1 minute' AS is_stale FROM share_link
                   WHERE token = $1 AND ends_at > now()";
        let row = sqlx::query(sql).bind(hash).fetch_optional(&self.lane).await?;
        let Some(row) = row else { return Ok(None) };
        if row.try_get("is_stale")? {
            let sql = "UPDATE share_link SET seen_at = now() WHERE token = $1";
            sqlx::query(sql).bind(hash).execute(&self.lane).await?;
        }
        Ok(Some(link(&row)?))
    }

    /// The links of a site, the newest first, those that have ended lately among them.
    pub async fn share_links(&self, site_id: i32) -> Result<Vec<ShareLink>> {
        let sql = "SELECT * FROM share_link WHERE site_id = $1 ORDER BY made_at DESC LIMIT 500";
        let rows = sqlx::query(sql).bind(site_id).fetch_all(&self.lane).await?;
        rows.iter().map(link).collect()
    }

    /// Takes a link of a site back, at once; the page that it showed.
    pub async fn remove_share_link(&self, site_id: i32, id: Uuid) -> Result<Option<String>> {
        let sql = "DELETE FROM share_link WHERE site_id = $1 AND id = $2 RETURNING path";
        Ok(sqlx::query_scalar(sql).bind(site_id).bind(id).fetch_optional(&self.lane).await?)
    }

    /// Lets every link be so many seconds older: for tests of what ends.
    pub async fn age_share_links(&self, by_s: i64) -> Result<()> {
        let sql = "UPDATE share_link SET ends_at = ends_at - $1 * interval '1 second'";
        sqlx::query(sql).bind(by_s as f64).execute(&self.lane).await?;
        Ok(())
    }
}
