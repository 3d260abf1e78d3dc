//! Who is signed in, and how often somebody tried in vain.

use crate::db::{Db, Result};
use crate::person::{Person, person};
use cadentis_core::access::{IDLE_S, LONGEST_S};
use jiff::Timestamp;
use sqlx::Row;
use std::net::IpAddr;
use uuid::Uuid;

/// Somebody who is signed in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Signed {
    /// Who.
    pub person: Person,
    /// Their session.
    pub session: Uuid,
    /// Seconds since they typed their password.
    pub proved_for_s: i64,
    /// The first site, which pages are about.
    pub site_id: Option<i32>,
}

/// A session, as whoever has it sees it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Session {
    /// Its id, which lets nobody in.
    pub id: Uuid,
    /// When it began.
    pub begun_at: Timestamp,
    /// When it was last used.
    pub seen_at: Timestamp,
    /// What the browser said of itself.
    pub browser: String,
    /// From where it began.
    pub address: IpAddr,
}

const ALIVE: &str = "s.seen_at > now() - $2 * interval '1 second' AND s.begun_at > now() - $3 * interval '1 second'";

impl Db {
    /// Begins a session.
    pub async fn begin_session(
        &self,
        token: &[u8],
        person_id: i32,
        browser: &str,
        address: IpAddr,
    ) -> Result<()> {
        let sql = "INSERT INTO session (token, id, person_id, browser, address) VALUES ($1, $2, $3, $4, $5::inet)";
        let begin = sqlx::query(sql).bind(token).bind(Uuid::new_v4()).bind(person_id).bind(browser);
        begin.bind(address.to_string()).execute(&self.pool).await?;
        Ok(())
    }

    /// Who has this session, if it has not ended. That it was used is noted once a minute.
    pub async fn signed(&self, token: &[u8]) -> Result<Option<Signed>> {
        let sql = format!(
            "SELECT p.id, p.email, p.name, p.is_administrator, p.sees_people, p.password IS NOT NULL AS has_password, p.gone_at,
               ARRAY(SELECT site_id FROM member m WHERE m.person_id = p.id ORDER BY 1) AS sites,
               ARRAY(SELECT role FROM member m WHERE m.person_id = p.id ORDER BY site_id) AS roles,
               s.id AS session, extract(epoch FROM now() - s.proved_at)::bigint AS proved_for_s,
               (SELECT min(id) FROM site) AS site_id, s.seen_at < now() - interval '1 minute' AS is_stale
             FROM session s JOIN person p ON p.id = s.person_id
             WHERE s.token = $1 AND {ALIVE} AND p.gone_at IS NULL"
        );
        let row = sqlx::query(sqlx::AssertSqlSafe(sql))
            .bind(token)
            .bind(IDLE_S as f64)
            .bind(LONGEST_S as f64)
            .fetch_optional(&self.pool)
            .await?;
        let Some(row) = row else { return Ok(None) };
        if row.try_get("is_stale")? {
            let sql = "UPDATE session SET seen_at = now() WHERE token = $1";
            sqlx::query(sql).bind(token).execute(&self.pool).await?;
        }
        Ok(Some(Signed {
            person: person(&row)?,
            session: row.try_get("session")?,
            proved_for_s: row.try_get("proved_for_s")?,
            site_id: row.try_get("site_id")?,
        }))
    }

    /// Notes that the password was typed again.
    pub async fn prove(&self, session: Uuid) -> Result<()> {
        let sql = "UPDATE session SET proved_at = now() WHERE id = $1";
        sqlx::query(sql).bind(session).execute(&self.pool).await?;
        Ok(())
    }

    /// The sessions of somebody that have not ended, newest first.
    pub async fn sessions_of(&self, person_id: i32) -> Result<Vec<Session>> {
        let sql = format!(
            "SELECT s.id, s.begun_at, s.seen_at, s.browser, host(s.address) FROM session s
             WHERE s.person_id = $1 AND {ALIVE} ORDER BY s.seen_at DESC"
        );
        type Found = (Uuid, jiff_sqlx::Timestamp, jiff_sqlx::Timestamp, String, String);
        let rows: Vec<Found> = sqlx::query_as(sqlx::AssertSqlSafe(sql))
            .bind(person_id)
            .bind(IDLE_S as f64)
            .bind(LONGEST_S as f64)
            .fetch_all(&self.pool)
            .await?;
        let session = |(id, begun_at, seen_at, browser, address): Found| {
            Some(Session {
                id,
                begun_at: begun_at.to_jiff(),
                seen_at: seen_at.to_jiff(),
                browser,
                address: address.parse().ok()?,
            })
        };
        Ok(rows.into_iter().filter_map(session).collect())
    }

    /// Ends a session of somebody; whether there was one.
    pub async fn end_session(&self, person_id: i32, session: Uuid) -> Result<bool> {
        let sql = "DELETE FROM session WHERE person_id = $1 AND id = $2";
        let done = sqlx::query(sql).bind(person_id).bind(session).execute(&self.pool).await?;
        Ok(done.rows_affected() > 0)
    }

    /// How often this account or network tried in vain lately, and seconds since the last time.
    pub async fn tries(&self, whose: &str) -> Result<(u32, i64)> {
        let sql = "SELECT failures, extract(epoch FROM clock_timestamp() - last_at)::bigint FROM sign_in_try
                   WHERE whose = $1 AND last_at > now() - interval '1 day'";
        let found: Option<(i32, i64)> =
            sqlx::query_as(sql).bind(whose).fetch_optional(&self.pool).await?;
        Ok(found.map_or((0, 0), |(n, ago)| (n.unsigned_abs(), ago)))
    }

    /// Notes that it tried in vain.
    pub async fn note_try(&self, whose: &str) -> Result<()> {
        let sql = "INSERT INTO sign_in_try AS t VALUES ($1, 1, clock_timestamp())
                   ON CONFLICT (whose) DO UPDATE SET last_at = clock_timestamp(),
                     failures = CASE WHEN t.last_at > now() - interval '1 day' THEN least(t.failures, 1000000) + 1 ELSE 1 END";
        sqlx::query(sql).bind(whose).execute(&self.pool).await?;
        Ok(())
    }

    /// Forgets that it did.
    pub async fn forget_tries(&self, whose: &str) -> Result<()> {
        let sql = "DELETE FROM sign_in_try WHERE whose = $1";
        sqlx::query(sql).bind(whose).execute(&self.pool).await?;
        Ok(())
    }
}
