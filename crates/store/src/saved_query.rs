//! Queries that were saved.

use crate::db::{Db, Result};
use jiff::Timestamp;
use sqlx::FromRow;

/// A query as it is kept.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SavedQuery {
    /// Its id.
    pub id: i32,
    /// Its name.
    pub name: String,
    /// What it says.
    pub says: String,
    /// Who keeps it.
    pub owner: String,
    /// When it was last asked, and by whom.
    pub used: Option<(Timestamp, String)>,
}

#[derive(FromRow)]
struct Row {
    id: i32,
    name: String,
    says: String,
    owner: String,
    used_at: Option<jiff_sqlx::Timestamp>,
    used_by: Option<String>,
}

/// What became of a query that was to be kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum KeptQuery {
    /// It is kept, with this id.
    Kept(i32),
    /// Somebody else keeps one of that name.
    Taken,
    /// The site has as many as it may have.
    TooMany,
}

/// A site keeps so many queries at most.
pub const MOST_SAVED: i64 = 500;

impl Db {
    /// The queries of a site: what was used last first, then by name.
    pub async fn saved_queries(&self, site_id: i32) -> Result<Vec<SavedQuery>> {
        let sql =
            "SELECT id, name, says, owner, used_at, used_by FROM saved_query WHERE site_id = $1
                   ORDER BY used_at DESC NULLS LAST, name";
        let rows: Vec<Row> = sqlx::query_as(sql).bind(site_id).fetch_all(&self.lane).await?;
        let of = |r: Row| SavedQuery {
            id: r.id,
            name: r.name,
            says: r.says,
            owner: r.owner,
            used: r.used_at.map(|at| at.to_jiff()).zip(r.used_by),
        };
        Ok(rows.into_iter().map(of).collect())
    }

    /// Keeps a query; whoever keeps one of the same name replaces it.
    pub async fn save_query(
        &self,
        site_id: i32,
        (name, says): (&str, &str),
        owner: &str,
    ) -> Result<KeptQuery> {
        let sql = "SELECT count(*) FROM saved_query WHERE site_id = $1 AND name <> $2";
        let many: i64 =
            sqlx::query_scalar(sql).bind(site_id).bind(name).fetch_one(&self.lane).await?;
        if many >= MOST_SAVED {
            return Ok(KeptQuery::TooMany);
        }
        let sql = "INSERT INTO saved_query (site_id, name, says, owner) VALUES ($1, $2, $3, $4)
                   ON CONFLICT (site_id, name) DO UPDATE SET says = excluded.says
                   WHERE saved_query.owner = excluded.owner RETURNING id";
        let put = sqlx::query_scalar(sql).bind(site_id).bind(name).bind(says).bind(owner);
        let id: Option<i32> = put.fetch_optional(&self.lane).await?;
        Ok(id.map_or(KeptQuery::Taken, KeptQuery::Kept))
    }

    /// Takes a query away; its name, if there was one.
    pub async fn delete_query(&self, site_id: i32, id: i32) -> Result<Option<String>> {
        let sql = "DELETE FROM saved_query WHERE site_id = $1 AND id = $2 RETURNING name";
        Ok(sqlx::query_scalar(sql).bind(site_id).bind(id).fetch_optional(&self.lane).await?)
    }

    /// Takes note of who asked a saved query, at most once a minute.
    pub async fn query_used(&self, site_id: i32, says: &str, by: &str) -> Result<()> {
        let sql =
            "UPDATE saved_query SET used_at = now(), used_by = $3 WHERE site_id = $1 AND says = $2
                   AND (used_at IS NULL OR used_by <> $3 OR used_at < now() - interval '1 minute')";
        sqlx::query(sql).bind(site_id).bind(says).bind(by).execute(&self.lane).await?;
        Ok(())
    }
}
