//! What was done, by whom, from where.

use crate::db::{Db, Result};
use jiff::Timestamp;
use jiff_sqlx::ToSqlx;
use std::net::IpAddr;

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

impl Db {
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
