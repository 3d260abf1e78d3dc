//! Rehearsals: alerts that are acted out.

use crate::alert::Alert;
use crate::db::{Db, Result, content};
use cadentis_core::alert::{Severity, State};
use jiff::Timestamp;
use jiff_sqlx::ToSqlx;
use sqlx::FromRow;
use sqlx::types::Json;

/// An alert that is, or was, acted out.
#[derive(Debug, Clone, PartialEq)]
pub struct Rehearsal {
    /// Its id.
    pub id: i32,
    /// The alert.
    pub alert_id: i32,
    /// As bad as this.
    pub severity: Severity,
    /// Who wanted it.
    pub author: String,
    /// From when on.
    pub begun_at: Timestamp,
    /// Evaluations up to here are beyond the level.
    pub until: Timestamp,
    /// How the alert stands in it.
    pub state: State,
    /// Up to when it has been acted.
    pub evaluated_to: Timestamp,
    /// The incident that it opened.
    pub incident_id: Option<i32>,
    /// When it was over.
    pub ended_at: Option<Timestamp>,
}

#[derive(FromRow)]
struct Row {
    id: i32,
    alert_id: i32,
    severity: String,
    author: String,
    begun_at: jiff_sqlx::Timestamp,
    until_at: jiff_sqlx::Timestamp,
    state: Json<State>,
    evaluated_to: jiff_sqlx::Timestamp,
    incident_id: Option<i32>,
    ended_at: Option<jiff_sqlx::Timestamp>,
}

impl Row {
    fn rehearsal(self) -> Result<Rehearsal> {
        let severity = Severity::of_word(&self.severity);
        Ok(Rehearsal {
            id: self.id,
            alert_id: self.alert_id,
            severity: severity.ok_or_else(|| content("rehearsal.severity", &self.severity))?,
            author: self.author,
            begun_at: self.begun_at.to_jiff(),
            until: self.until_at.to_jiff(),
            state: self.state.0,
            evaluated_to: self.evaluated_to.to_jiff(),
            incident_id: self.incident_id,
            ended_at: self.ended_at.map(|at| at.to_jiff()),
        })
    }
}

impl Db {
    /// Begins to act an alert out; `None` while it is being acted out already.
    pub async fn add_rehearsal(
        &self,
        alert_id: i32,
        severity: Severity,
        (begun, from, until): (Timestamp, Timestamp, Timestamp),
        author: &str,
    ) -> Result<Option<i32>> {
        let sql = "INSERT INTO rehearsal (alert_id, severity, author, begun_at, until_at, state, evaluated_to)
                   VALUES ($1, $2, $3, $4, $5, $6, $7) ON CONFLICT (alert_id) WHERE ended_at IS NULL DO NOTHING RETURNING id";
        let add = sqlx::query_scalar(sql).bind(alert_id).bind(severity.word()).bind(author);
        let add = add.bind(begun.to_sqlx()).bind(until.to_sqlx());
        let add = add.bind(Json(State::default())).bind(from.to_sqlx());
        Ok(add.fetch_optional(&self.lane).await?)
    }

    /// Rehearsals of an alert, the newest first; at most so many.
    pub async fn rehearsals_of(&self, alert_id: i32, most: i64) -> Result<Vec<Rehearsal>> {
        let sql =
            "SELECT * FROM rehearsal WHERE alert_id = $1 ORDER BY begun_at DESC, id DESC LIMIT $2";
        let rows: Vec<Row> =
            sqlx::query_as(sql).bind(alert_id).bind(most).fetch_all(&self.lane).await?;
        rows.into_iter().map(Row::rehearsal).collect()
    }

    /// Takes the turn of rehearsals that go on, with their alerts, in a transaction: nobody else acts them until that ends.
    pub async fn claim_rehearsals(&self) -> Result<Vec<(Rehearsal, Alert)>> {
        let sql = "SELECT r.* FROM rehearsal r JOIN alert a ON a.id = r.alert_id JOIN site s ON s.id = a.site_id
                   WHERE r.ended_at IS NULL AND s.archived_at IS NULL ORDER BY r.id FOR UPDATE OF r SKIP LOCKED";
        let rows: Vec<Row> = sqlx::query_as(sql).fetch_all(&self.lane).await?;
        let mut all = Vec::new();
        for row in rows {
            let rehearsal = row.rehearsal()?;
            let alert = self.alert_by_id(rehearsal.alert_id).await?;
            all.extend(alert.map(|alert| (rehearsal, alert)));
        }
        Ok(all)
    }

    /// Takes the turn of the rehearsal of an alert that goes on, if one does, in a transaction.
    pub async fn claim_rehearsal_of(&self, alert_id: i32) -> Result<Option<Rehearsal>> {
        let sql = "SELECT * FROM rehearsal WHERE alert_id = $1 AND ended_at IS NULL FOR UPDATE";
        let row: Option<Row> =
            sqlx::query_as(sql).bind(alert_id).fetch_optional(&self.lane).await?;
        row.map(Row::rehearsal).transpose()
    }

    /// Keeps how far a rehearsal has been acted, what it opened, and whether that was its end.
    pub async fn keep_rehearsal(&self, r: &Rehearsal) -> Result<()> {
        let sql = "UPDATE rehearsal SET state = $2, evaluated_to = $3, incident_id = $4, ended_at = $5 WHERE id = $1";
        let set = sqlx::query(sql).bind(r.id).bind(Json(r.state)).bind(r.evaluated_to.to_sqlx());
        let set = set.bind(r.incident_id).bind(r.ended_at.map(|at| at.to_sqlx()));
        set.execute(&self.lane).await?;
        Ok(())
    }
}
