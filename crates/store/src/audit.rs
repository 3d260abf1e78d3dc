//! What was done, by whom, from where.

use crate::db::{Db, Result};
use jiff::{SignedDuration, Timestamp};
use jiff_sqlx::ToSqlx;
use std::collections::BTreeSet;
use std::net::IpAddr;
use uuid::Uuid;

/// Something that was done.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Done {
    /// When.
    pub at: Timestamp,
    /// By whom, as they were called then.
    pub name: String,
    /// From where, if a person did it.
    pub address: Option<IpAddr>,
    /// What.
    pub what: String,
    /// To what.
    pub which: String,
    /// What it was before; empty where only that it was done is told.
    pub was: String,
    /// What it is since.
    pub became: String,
}

/// Something that is to be noted.
#[derive(Debug, Clone, Copy, Default)]
pub struct Deed<'a> {
    /// What.
    pub what: &'a str,
    /// To what.
    pub which: &'a str,
    /// Before and after, where that is told.
    pub was: &'a str,
    /// What it is since.
    pub became: &'a str,
}

/// How it is noted that somebody looked at a visit, which is named by its id.
pub const LOOKED_AT_VISIT: &str = "looked at the visit";

impl Db {
    /// Takes the ids of visits that were erased out of what is noted: that somebody looked at one stays.
    pub(crate) async fn forget_looks(&self, visits: &BTreeSet<Uuid>) -> Result<()> {
        let ids: Vec<String> = visits.iter().map(Uuid::to_string).collect();
        let sql = "UPDATE audit SET which = 'that was erased' WHERE what = $1 AND which = ANY ($2)";
        sqlx::query(sql).bind(LOOKED_AT_VISIT).bind(ids).execute(&self.lane).await?;
        Ok(())
    }

    /// Notes that something was done.
    pub async fn note_done(
        &self,
        (person_id, name): (Option<i32>, &str),
        address: Option<IpAddr>,
        deed: Deed<'_>,
    ) -> Result<()> {
        let sql = "INSERT INTO audit (person_id, name, address, what, which, was, became)
                   VALUES ($1, $2, $3::inet, $4, $5, $6, $7)";
        let note = sqlx::query(sql).bind(person_id).bind(name);
        let note = note.bind(address.map(|a| a.to_string())).bind(deed.what).bind(deed.which);
        note.bind(deed.was).bind(deed.became).execute(&self.lane).await?;
        Ok(())
    }

    /// Whether somebody did the same less than so long ago.
    pub async fn is_noted(
        &self,
        (person_id, name): (Option<i32>, &str),
        (what, which): (&str, &str),
        lately: SignedDuration,
    ) -> Result<bool> {
        let sql = "SELECT EXISTS (SELECT FROM audit WHERE person_id IS NOT DISTINCT FROM $1 AND name = $2 AND what = $3
                   AND which = $4 AND at > clock_timestamp() - $5 * interval '1 second')";
        let asked = sqlx::query_scalar(sql).bind(person_id).bind(name).bind(what).bind(which);
        Ok(asked.bind(lately.as_secs_f64()).fetch_one(&self.lane).await?)
    }

    /// The newest that was done, so many at most.
    pub async fn done(&self, most: i64) -> Result<Vec<Done>> {
        self.done_before(None, "", most).await
    }

    /// What was done before a moment, newest first, so many at most; of whose name this is a part, if it is not empty.
    pub async fn done_before(
        &self,
        before: Option<Timestamp>,
        who: &str,
        most: i64,
    ) -> Result<Vec<Done>> {
        type Found = (jiff_sqlx::Timestamp, String, Option<String>, String, String, String, String);
        let sql = "SELECT at, name, host(address), what, which, was, became FROM audit
                   WHERE ($1::timestamptz IS NULL OR at < $1) AND ($2 = '' OR position(lower($2) IN lower(name)) > 0)
                   ORDER BY at DESC LIMIT $3";
        let rows: Vec<Found> = sqlx::query_as(sql)
            .bind(before.map(|at| at.to_sqlx()))
            .bind(who)
            .bind(most)
            .fetch_all(&self.lane)
            .await?;
        let done = |(at, name, address, what, which, was, became): Found| Done {
            at: at.to_jiff(),
            name,
            address: address.and_then(|a| a.parse().ok()),
            what,
            which,
            was,
            became,
        };
        Ok(rows.into_iter().map(done).collect())
    }
}
