//! Tokens of programs: each for one site, with what it may do and until when.

use crate::db::{Db, Result};
use cadentis_core::access::Scope;
use jiff::Timestamp;
use sqlx::Row;
use uuid::Uuid;

/// A token, as whoever looks after it sees it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ApiToken {
    /// Its id, which opens nothing.
    pub id: Uuid,
    /// What it is for.
    pub name: String,
    /// The one site that it is good for.
    pub site_id: i32,
    /// What it may do.
    pub scopes: Vec<Scope>,
    /// Who made it.
    pub made_by: String,
    /// Until when it is good.
    pub ends_at: Timestamp,
    /// When it was last shown, to the minute.
    pub seen_at: Option<Timestamp>,
}

fn token(row: &sqlx::postgres::PgRow) -> Result<ApiToken> {
    let scopes: Vec<String> = row.try_get("scopes")?;
    let (ends_at, seen_at): (jiff_sqlx::Timestamp, Option<jiff_sqlx::Timestamp>) =
        (row.try_get("ends_at")?, row.try_get("seen_at")?);
    Ok(ApiToken {
        id: row.try_get("id")?,
        name: row.try_get("name")?,
        site_id: row.try_get("site_id")?,
        scopes: scopes.iter().filter_map(|s| Scope::of(s)).collect(),
        made_by: row.try_get("made_by")?,
        ends_at: ends_at.to_jiff(),
        seen_at: seen_at.map(|at| at.to_jiff()),
    })
}

impl Db {
    /// Keeps a token that is good for so many days.
    pub async fn add_api_token(
        &self,
        hash: &[u8],
        site_id: i32,
        name: &str,
        scopes: &[Scope],
        made_by: &str,
        days: i32,
    ) -> Result<Uuid> {
        let id = Uuid::new_v4();
        let sql = "INSERT INTO api_token (token, id, name, site_id, scopes, made_by, ends_at)
                   VALUES ($1, $2, $3, $4, $5, $6, now() + $7 * interval '1 day')";
        let add = sqlx::query(sql).bind(hash).bind(id).bind(name).bind(site_id);
        let words: Vec<String> = scopes.iter().map(|s| s.word().to_string()).collect();
        add.bind(words).bind(made_by).bind(days).execute(&self.lane).await?;
        Ok(id)
    }

    /// The token that this is the hash of, while it is good.
    pub async fn api_token(&self, hash: &[u8]) -> Result<Option<ApiToken>> {
        let sql = "SELECT *, seen_at IS NULL OR seen_at < now() - interval '1 minute' AS is_stale FROM api_token
                   WHERE token = $1 AND ends_at > now()";
        let row = sqlx::query(sql).bind(hash).fetch_optional(&self.lane).await?;
        let Some(row) = row else { return Ok(None) };
        if row.try_get("is_stale")? {
            let sql = "UPDATE api_token SET seen_at = now() WHERE token = $1";
            sqlx::query(sql).bind(hash).execute(&self.lane).await?;
        }
        Ok(Some(token(&row)?))
    }

    /// The tokens of a site, the newest first, those that have ended among them.
    pub async fn api_tokens(&self, site_id: i32) -> Result<Vec<ApiToken>> {
        let sql = "SELECT * FROM api_token WHERE site_id = $1 ORDER BY made_at DESC";
        let rows = sqlx::query(sql).bind(site_id).fetch_all(&self.lane).await?;
        rows.iter().map(token).collect()
    }

    /// Takes a token away; its name, if there was one.
    pub async fn remove_api_token(&self, site_id: i32, id: Uuid) -> Result<Option<String>> {
        let sql = "DELETE FROM api_token WHERE site_id = $1 AND id = $2 RETURNING name";
        Ok(sqlx::query_scalar(sql).bind(site_id).bind(id).fetch_optional(&self.lane).await?)
    }
}
