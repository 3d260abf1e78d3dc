//! Scripts played once on somebody's wish: asked for on a page, leased like work, told about while
//! they play, kept a day and counted nowhere.

use crate::db::{Db, Result};
use crate::run::Finished;
use cadentis_core::run::RunRecord;
use jiff::{SignedDuration, Timestamp};
use jiff_sqlx::ToSqlx;
use serde_json::Value;
use sqlx::FromRow;
use sqlx::types::Json;
use uuid::Uuid;

/// How long a trial and what it left are kept.
const KEPT: SignedDuration = SignedDuration::from_hours(24);

/// One trial to play.
#[derive(Debug, Clone, FromRow)]
pub struct Trial {
    /// Its id.
    pub id: Uuid,
    /// The site.
    pub site_id: i32,
    /// The script.
    pub script: String,
    /// The location's name.
    pub location: String,
    /// The device profile.
    pub device: String,
    /// SOCKS5 proxy that leads out of the location.
    pub proxy: Option<String>,
    /// Networks that must not be reached from the location.
    pub denied: Vec<String>,
}

/// How a trial stands.
#[derive(Debug, Clone)]
pub struct TrialStatus {
    /// The site.
    pub site_id: i32,
    /// The location.
    pub location_id: i32,
    /// The script.
    pub script: String,
    /// When it was asked for.
    pub asked_at: Timestamp,
    /// The runner that plays it.
    pub runner: Option<String>,
    /// Whether somebody broke it off.
    pub cancelled: bool,
    /// How far it is.
    pub progress: Option<Value>,
    /// What was recorded, once it was played.
    pub record: Option<RunRecord>,
}

impl Db {
    /// Asks for a trial; older ones that are done leave.
    pub async fn ask_trial(
        &self,
        site_id: i32,
        location_id: i32,
        script: &str,
        device: &str,
        now: Timestamp,
    ) -> Result<Uuid> {
        sqlx::query("DELETE FROM trial WHERE asked_at < $1")
            .bind((now - KEPT).to_sqlx())
            .execute(&self.lane)
            .await?;
        let id = Uuid::new_v4();
        sqlx::query(
            "INSERT INTO trial (id, site_id, location_id, script, asked_at, device) VALUES ($1, $2, $3, $4, $5, $6)",
        )
        .bind(id)
        .bind(site_id)
        .bind(location_id)
        .bind(script)
        .bind(now.to_sqlx())
        .bind(device)
        .execute(&self.lane)
        .await?;
        Ok(id)
    }

    /// Leases the oldest trial of a location that nobody plays. Somebody waits for it: one that was asked for
    /// ten minutes ago is of no interest any more.
    pub async fn lease_trial(
        &self,
        location_id: i32,
        runner: &str,
        now: Timestamp,
        until: Timestamp,
    ) -> Result<Option<Trial>> {
        let trial: Option<Trial> = sqlx::query_as(
            "WITH mine AS (
                 SELECT id FROM trial WHERE location_id = $1 AND record IS NULL AND NOT cancelled
                   AND asked_at > $2::timestamptz - interval '10 minutes' AND (lease_until IS NULL OR lease_until < $2)
                 ORDER BY asked_at LIMIT 1 FOR UPDATE SKIP LOCKED)
             UPDATE trial t SET lease_until = $3, leased_by = $4
             FROM mine, location l WHERE t.id = mine.id AND l.id = t.location_id
             RETURNING t.id, t.site_id, t.script, l.name AS location, t.device, l.proxy, l.denied",
        )
        .bind(location_id)
        .bind(now.to_sqlx())
        .bind(until.to_sqlx())
        .bind(runner)
        .fetch_optional(&self.lane)
        .await?;
        Ok(trial)
    }

    /// Keeps how far a trial is; whether somebody has cancelled it meanwhile, `None` for a stranger.
    pub async fn tell_trial(
        &self,
        location_id: i32,
        id: Uuid,
        progress: &Value,
    ) -> Result<Option<bool>> {
        let sql =
            "UPDATE trial SET progress = $3 WHERE id = $1 AND location_id = $2 RETURNING cancelled";
        Ok(sqlx::query_scalar(sql)
            .bind(id)
            .bind(location_id)
            .bind(Json(progress))
            .fetch_optional(&self.lane)
            .await?)
    }

    /// Keeps the record of a trial at this location, if it is the first: a runner that was only slow changes nothing.
    pub async fn finish_trial(&self, location_id: i32, record: &RunRecord) -> Result<Finished> {
        let sql = "WITH mine AS (SELECT id, record IS NULL AS first FROM trial
                       WHERE id = $1 AND location_id = $2 FOR UPDATE),
                   kept AS (UPDATE trial t SET record = $3 FROM mine WHERE t.id = mine.id AND mine.first)
                   SELECT first FROM mine";
        let first: Option<bool> = sqlx::query_scalar(sql)
            .bind(record.id)
            .bind(location_id)
            .bind(Json(record))
            .fetch_optional(&self.lane)
            .await?;
        Ok(match first {
            Some(true) => Finished::Stored,
            Some(false) => Finished::Already,
            None => Finished::Unknown,
        })
    }

    /// Breaks it off as soon as its runner hears.
    pub async fn cancel_trial(&self, site_id: i32, id: Uuid) -> Result<()> {
        sqlx::query("UPDATE trial SET cancelled = true WHERE id = $1 AND site_id = $2")
            .bind(id)
            .bind(site_id)
            .execute(&self.lane)
            .await?;
        Ok(())
    }

    /// How a trial stands.
    pub async fn trial(&self, id: Uuid) -> Result<Option<TrialStatus>> {
        type Row = (
            i32,
            i32,
            String,
            jiff_sqlx::Timestamp,
            Option<String>,
            bool,
            Option<Json<Value>>,
            Option<Json<RunRecord>>,
        );
        let row: Option<Row> = sqlx::query_as(
            "SELECT site_id, location_id, script, asked_at, leased_by, cancelled, progress, record FROM trial WHERE id = $1",
        )
        .bind(id)
        .fetch_optional(&self.lane)
        .await?;
        Ok(row.map(
            |(site_id, location_id, script, asked_at, runner, cancelled, progress, record)| {
                TrialStatus {
                    site_id,
                    location_id,
                    script,
                    asked_at: asked_at.to_jiff(),
                    runner,
                    cancelled,
                    progress: progress.map(|p| p.0),
                    record: record.map(|r| r.0),
                }
            },
        ))
    }
}
