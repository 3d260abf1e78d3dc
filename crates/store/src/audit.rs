//! What was done, by whom, from where.

use crate::db::{Db, Result};
use jiff::Timestamp;
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
}

impl Db {
    /// Notes that something was done.
    pub async fn note_done(
        &self,
        (person_id, name): (Option<i32>, &str),
        address: Option<IpAddr>,
        what: &str,
        which: &str,
    ) -> Result<()> {
        let sql = "INSERT INTO audit (person_id, name, address, what, which) VALUES ($1, $2, $3::inet, $4, $5)";
        let note = sqlx::query(sql).bind(person_id).bind(name);
        let note = note.bind(address.map(|a| a.to_string())).bind(what).bind(which);
        note.execute(&self.pool).await?;
        Ok(())
    }

    /// The newest that was done, so many at most.
    pub async fn done(&self, most: i64) -> Result<Vec<Done>> {
        type Found = (jiff_sqlx::Timestamp, String, Option<String>, String, String);
        let sql =
            "SELECT at, name, host(address), what, which FROM audit ORDER BY at DESC LIMIT $1";
        let rows: Vec<Found> = sqlx::query_as(sql).bind(most).fetch_all(&self.pool).await?;
        let done = |(at, name, address, what, which): Found| Done {
            at: at.to_jiff(),
            name,
            address: address.and_then(|a| a.parse().ok()),
            what,
            which,
        };
        Ok(rows.into_iter().map(done).collect())
    }
}
