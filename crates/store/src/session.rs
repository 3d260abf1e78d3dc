//! Who is signed in, and how often somebody tried in vain.

use crate::db::{Db, Result};
use crate::person::{COLUMNS, Person, person};
use cadentis_core::access::{IDLE_S, LONGEST_S, wait_s};
use jiff::Timestamp;
use serde::Deserialize;
use sqlx::Row;
use sqlx::types::Json;
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
    /// The teams they are in.
    pub teams: Vec<i32>,
    /// The sites they may read that are not archived, as far as a list of them is of any use.
    pub sites: Vec<SiteName>,
}

impl Signed {
    /// Nobody: whoever comes by a link and is somebody nowhere here.
    pub fn nobody() -> Signed {
        let person = Person {
            id: 0,
            email: String::new(),
            name: String::new(),
            is_administrator: false,
            sees_people: false,
            has_password: false,
            subject: None,
            groups: Vec::new(),
            gone_at: None,
            roles: Vec::new(),
        };
        Signed {
            person,
            session: Uuid::nil(),
            proved_for_s: i64::MAX,
            teams: Vec::new(),
            sites: Vec::new(),
        }
    }
}

/// A site by its names.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
pub struct SiteName {
    /// Its id.
    pub id: i32,
    /// Its name in addresses.
    pub slug: String,
    /// Its name.
    pub name: String,
}

/// More sites than this are told on the page of all sites only.
const MOST_SITES: i64 = 50;

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
    /// Begins a session of somebody who proved so many seconds ago who they are.
    pub async fn begin_session(
        &self,
        token: &[u8],
        person_id: i32,
        browser: &str,
        address: IpAddr,
        proved_ago_s: i64,
    ) -> Result<()> {
        let sql = "INSERT INTO session (token, id, person_id, browser, address, proved_at)
                   VALUES ($1, $2, $3, $4, $5::inet, now() - $6 * interval '1 second')";
        let begin = sqlx::query(sql).bind(token).bind(Uuid::new_v4()).bind(person_id).bind(browser);
        let begin = begin.bind(address.to_string()).bind(proved_ago_s as f64);
        begin.execute(&self.lane).await?;
        Ok(())
    }

    /// Who has this session, if it has not ended. That it was used is noted once a minute.
    pub async fn signed(&self, token: &[u8]) -> Result<Option<Signed>> {
        let sql = format!(
            "SELECT {COLUMNS},
               ARRAY(SELECT site_id FROM member m WHERE m.person_id = p.id ORDER BY 1) AS sites,
               ARRAY(SELECT role FROM member m WHERE m.person_id = p.id ORDER BY site_id) AS roles,
               s.id AS session, extract(epoch FROM now() - s.proved_at)::bigint AS proved_for_s,
               ARRAY(SELECT team_id FROM team_member t WHERE t.person_id = p.id) AS teams,
               (SELECT coalesce(jsonb_agg(jsonb_build_object('id', id, 'slug', slug, 'name', name) ORDER BY id), '[]') FROM (
                  SELECT id, slug, name FROM site WHERE archived_at IS NULL AND (p.is_administrator OR EXISTS (
                    SELECT FROM member m WHERE m.person_id = p.id AND m.site_id = site.id)) ORDER BY id LIMIT $4) AS seen) AS seen_sites,
               s.seen_at < now() - interval '1 minute' AS is_stale
             FROM session s JOIN person p ON p.id = s.person_id
             WHERE s.token = $1 AND {ALIVE} AND p.gone_at IS NULL"
        );
        let row = sqlx::query(sqlx::AssertSqlSafe(sql))
            .bind(token)
            .bind(IDLE_S as f64)
            .bind(LONGEST_S as f64)
            .bind(MOST_SITES)
            .fetch_optional(&self.lane)
            .await?;
        let Some(row) = row else { return Ok(None) };
        if row.try_get("is_stale")? {
            let sql = "UPDATE session SET seen_at = now() WHERE token = $1";
            sqlx::query(sql).bind(token).execute(&self.lane).await?;
        }
        Ok(Some(Signed {
            person: person(&row)?,
            session: row.try_get("session")?,
            proved_for_s: row.try_get("proved_for_s")?,
            teams: row.try_get("teams")?,
            sites: row.try_get::<Json<Vec<SiteName>>, _>("seen_sites")?.0,
        }))
    }

    /// Notes that the password was typed again.
    pub async fn prove(&self, session: Uuid) -> Result<()> {
        let sql = "UPDATE session SET proved_at = now() WHERE id = $1";
        sqlx::query(sql).bind(session).execute(&self.lane).await?;
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
            .fetch_all(&self.lane)
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

    /// Lets everybody's session be so many seconds older: for tests of what ends.
    pub async fn age_sessions(&self, by_s: i64) -> Result<()> {
        let sql = "UPDATE session SET begun_at = begun_at - $1 * interval '1 second',
                   seen_at = seen_at - $1 * interval '1 second', proved_at = proved_at - $1 * interval '1 second'";
        sqlx::query(sql).bind(by_s as f64).execute(&self.lane).await?;
        Ok(())
    }

    /// Ends a session of somebody; whether there was one.
    pub async fn end_session(&self, person_id: i32, session: Uuid) -> Result<bool> {
        let sql = "DELETE FROM session WHERE person_id = $1 AND id = $2";
        let done = sqlx::query(sql).bind(person_id).bind(session).execute(&self.lane).await?;
        Ok(done.rows_affected() > 0)
    }

    /// Takes a try of this account or network, unless it has to wait: gives for how many seconds. All servers count together,
    /// and two tries at once are two.
    pub async fn take_try(&self, whose: &str, free: u32) -> Result<i64> {
        let mut tx = self.lane.begin().await?;
        let sql =
            "INSERT INTO sign_in_try VALUES ($1, 0, clock_timestamp()) ON CONFLICT DO NOTHING";
        sqlx::query(sql).bind(whose).execute(&mut *tx).await?;
        let sql = "SELECT CASE WHEN last_at > clock_timestamp() - interval '1 day' THEN failures ELSE 0 END,
                     greatest(0, extract(epoch FROM clock_timestamp() - last_at))::bigint
                   FROM sign_in_try WHERE whose = $1 FOR UPDATE";
        let (failures, ago_s): (i32, i64) =
            sqlx::query_as(sql).bind(whose).fetch_one(&mut *tx).await?;
        let wait = wait_s(failures.unsigned_abs(), free) - ago_s;
        if wait > 0 {
            return Ok(wait);
        }
        let sql =
            "UPDATE sign_in_try SET failures = $2, last_at = clock_timestamp() WHERE whose = $1";
        let next = failures.saturating_add(1).min(1_000_000);
        sqlx::query(sql).bind(whose).bind(next).execute(&mut *tx).await?;
        tx.commit().await?;
        Ok(0)
    }

    /// Gives a try back that was not in vain.
    pub async fn give_try_back(&self, whose: &str) -> Result<()> {
        let sql = "UPDATE sign_in_try SET failures = greatest(failures - 1, 0) WHERE whose = $1";
        sqlx::query(sql).bind(whose).execute(&self.lane).await?;
        Ok(())
    }

    /// Forgets that it tried in vain.
    pub async fn forget_tries(&self, whose: &str) -> Result<()> {
        let sql = "DELETE FROM sign_in_try WHERE whose = $1";
        sqlx::query(sql).bind(whose).execute(&self.lane).await?;
        Ok(())
    }
}
