//! Somebody at work on a page that is to become a journey. The page stands in a browser of a runner, which
//! brings pictures and acts and takes inputs; both sides meet here, so any server can carry for any other.

use crate::db::{Db, Result};
use cadentis_core::journey::recorded::{self, Act, Input};
use jiff::{SignedDuration, Timestamp};
use jiff_sqlx::ToSqlx;
use serde_json::Value;
use sqlx::types::Json;
use uuid::Uuid;

/// A recording that nobody has looked at for so long ends, and so does one whose runner is silent.
pub const UNSEEN: SignedDuration = SignedDuration::from_secs(60);
/// No recording lasts longer.
pub const LONGEST: SignedDuration = SignedDuration::from_mins(60);
/// No recording has more acts.
const MOST_ACTS: usize = 2_000;

/// How a recording stands.
#[derive(Debug, Clone, PartialEq)]
pub struct Recording {
    /// The site.
    pub site_id: i32,
    /// The location.
    pub location_id: i32,
    /// When it was asked for.
    pub asked_at: Timestamp,
    /// The runner that has it.
    pub runner: Option<String>,
    /// Whether it is over.
    pub ended: bool,
    /// Why, when something went wrong.
    pub trouble: Option<String>,
    /// What was done so far.
    pub acts: Vec<Act>,
    /// The page's address, title and size.
    pub about: Value,
    /// Which picture is the newest; 0 before the first.
    pub picture: i32,
}

type Row = (
    i32,
    i32,
    jiff_sqlx::Timestamp,
    jiff_sqlx::Timestamp,
    Option<String>,
    Option<jiff_sqlx::Timestamp>,
    bool,
    Option<String>,
    Json<Vec<Act>>,
    Json<Value>,
    i32,
);

impl Db {
    /// Asks for a browser at a location that opens this address; recordings of days ago leave.
    pub async fn ask_recording(
        &self,
        site_id: i32,
        location_id: i32,
        address: &str,
        now: Timestamp,
    ) -> Result<Uuid> {
        let old = (now - SignedDuration::from_hours(48)).to_sqlx();
        sqlx::query(
            "WITH gone AS (DELETE FROM recording WHERE asked_at < $1 RETURNING id),
                  pictures AS (DELETE FROM recording_picture WHERE recording_id IN (SELECT id FROM gone))
             DELETE FROM recording_input WHERE recording_id IN (SELECT id FROM gone)",
        )
        .bind(old)
        .execute(&self.lane)
        .await?;
        let id = Uuid::new_v4();
        let opened = vec![Act::Open { address: address.into() }];
        sqlx::query(
            "INSERT INTO recording (id, site_id, location_id, address, asked_at, looked_at, acts)
             VALUES ($1, $2, $3, $4, $5, $5, $6)",
        )
        .bind(id)
        .bind(site_id)
        .bind(location_id)
        .bind(address)
        .bind(now.to_sqlx())
        .bind(Json(opened))
        .execute(&self.lane)
        .await?;
        Ok(id)
    }

    /// Gives the oldest recording of a location that has no browser yet to a runner: its id, address, the location's
    /// proxy, and networks that must not be reached.
    pub async fn lease_recording(
        &self,
        location_id: i32,
        runner: &str,
        now: Timestamp,
    ) -> Result<Option<(Uuid, String, Option<String>, Vec<String>)>> {
        let row: Option<(Uuid, String, Option<String>, Vec<String>)> = sqlx::query_as(
            "WITH mine AS (
                 SELECT id FROM recording WHERE location_id = $1 AND NOT ended AND runner IS NULL
                   AND looked_at > $3::timestamptz - interval '1 minute'
                 ORDER BY asked_at LIMIT 1 FOR UPDATE SKIP LOCKED)
             UPDATE recording r SET runner = $2, told_at = $3 FROM mine, location l
             WHERE r.id = mine.id AND l.id = r.location_id RETURNING r.id, r.address, l.proxy, l.denied",
        )
        .bind(location_id)
        .bind(runner)
        .bind(now.to_sqlx())
        .fetch_optional(&self.lane)
        .await?;
        Ok(row)
    }

    /// Takes what the runner tells and gives what was done at the picture meanwhile; `None` when the runner shall
    /// end it, or has no such recording.
    pub async fn tell_recording(
        &self,
        location_id: i32,
        id: Uuid,
        acts: Vec<Act>,
        about: &Value,
        picture: Option<&str>,
        now: Timestamp,
    ) -> Result<Option<Vec<Value>>> {
        let mut tx = self.lane.begin().await?;
        type Mine = (bool, jiff_sqlx::Timestamp, jiff_sqlx::Timestamp, Json<Vec<Act>>);
        let mine: Option<Mine> = sqlx::query_as(
            "SELECT ended, looked_at, asked_at, acts FROM recording WHERE id = $1 AND location_id = $2 FOR UPDATE",
        )
        .bind(id)
        .bind(location_id)
        .fetch_optional(&mut *tx)
        .await?;
        let Some((ended, looked_at, asked_at, Json(mut all))) = mine else { return Ok(None) };
        let over = now.duration_since(looked_at.to_jiff()) > UNSEEN
            || now.duration_since(asked_at.to_jiff()) > LONGEST;
        acts.into_iter().for_each(|act| recorded::add(&mut all, act));
        all.truncate(MOST_ACTS);
        sqlx::query("UPDATE recording SET acts = $2, about = $3, told_at = $4, ended = ended OR $5 WHERE id = $1")
            .bind(id)
            .bind(Json(all))
            .bind(Json(about))
            .bind(now.to_sqlx())
            .bind(over)
            .execute(&mut *tx)
            .await?;
        if let Some(picture) = picture {
            sqlx::query(
                "INSERT INTO recording_picture VALUES ($1, 1, $2)
                 ON CONFLICT (recording_id) DO UPDATE SET nth = recording_picture.nth + 1, picture = $2",
            )
            .bind(id)
            .bind(picture)
            .execute(&mut *tx)
            .await?;
        }
        let mut inputs: Vec<(i64, Json<Value>)> = sqlx::query_as(
            "DELETE FROM recording_input WHERE recording_id = $1 RETURNING nth, input",
        )
        .bind(id)
        .fetch_all(&mut *tx)
        .await?;
        tx.commit().await?;
        inputs.sort_by_key(|(nth, _)| *nth);
        Ok((!ended && !over).then(|| inputs.into_iter().map(|(_, input)| input.0).collect()))
    }

    /// Nobody works on it any more.
    pub async fn end_recording(&self, site_id: i32, id: Uuid) -> Result<()> {
        sqlx::query("UPDATE recording SET ended = true WHERE id = $1 AND site_id = $2")
            .bind(id)
            .bind(site_id)
            .execute(&self.lane)
            .await?;
        Ok(())
    }

    /// The runner has ended it, for this reason.
    pub async fn recording_over(
        &self,
        location_id: i32,
        id: Uuid,
        trouble: Option<&str>,
    ) -> Result<()> {
        sqlx::query(
            "UPDATE recording SET ended = true, trouble = $3 WHERE id = $1 AND location_id = $2",
        )
        .bind(id)
        .bind(location_id)
        .bind(trouble)
        .execute(&self.lane)
        .await?;
        Ok(())
    }

    /// How a recording stands.
    pub async fn recording(
        &self,
        site_id: i32,
        id: Uuid,
        now: Timestamp,
    ) -> Result<Option<Recording>> {
        let row: Option<Row> = sqlx::query_as(
            "SELECT site_id, location_id, asked_at, looked_at, runner, told_at, ended, trouble, acts, about,
                    coalesce((SELECT nth FROM recording_picture WHERE recording_id = id), 0)
             FROM recording WHERE id = $1 AND site_id = $2",
        )
        .bind(id)
        .bind(site_id)
        .fetch_optional(&self.lane)
        .await?;
        let recording = |(
            site_id,
            location_id,
            asked_at,
            _,
            runner,
            told_at,
            ended,
            trouble,
            acts,
            about,
            picture,
        ): Row| {
            // A runner that died cannot say so.
            let silent = !ended
                && told_at.is_some_and(|at| {
                    now.duration_since(at.to_jiff()) > SignedDuration::from_secs(30)
                });
            Recording {
                site_id,
                location_id,
                asked_at: asked_at.to_jiff(),
                runner,
                ended: ended || silent,
                trouble: trouble.or_else(|| silent.then(|| "The runner went silent.".into())),
                acts: acts.0,
                about: about.0,
                picture,
            }
        };
        Ok(row.map(recording))
    }

    /// Somebody looks on.
    pub async fn recording_looked(&self, site_id: i32, id: Uuid, now: Timestamp) -> Result<()> {
        sqlx::query("UPDATE recording SET looked_at = $2 WHERE id = $1 AND site_id = $3")
            .bind(id)
            .bind(now.to_sqlx())
            .bind(site_id)
            .execute(&self.lane)
            .await?;
        Ok(())
    }

    /// The newest picture, as an address that holds it.
    pub async fn recording_picture(&self, id: Uuid) -> Result<Option<String>> {
        let sql = "SELECT picture FROM recording_picture WHERE recording_id = $1";
        Ok(sqlx::query_scalar(sql).bind(id).fetch_optional(&self.lane).await?)
    }

    /// Hands inputs to the runner, in their order.
    pub async fn recording_inputs(&self, site_id: i32, id: Uuid, inputs: &[Input]) -> Result<()> {
        let inputs: Vec<Json<&Input>> = inputs.iter().map(Json).collect();
        sqlx::query(
            "INSERT INTO recording_input (recording_id, input)
             SELECT $1, i FROM unnest($2::jsonb[]) WITH ORDINALITY AS given(i, at)
             WHERE EXISTS (SELECT FROM recording WHERE id = $1 AND site_id = $3 AND NOT ended) ORDER BY at",
        )
        .bind(id)
        .bind(inputs)
        .bind(site_id)
        .execute(&self.lane)
        .await?;
        Ok(())
    }

    /// Changes what was done: what is pointed out comes in, the last act goes, steps get names.
    pub async fn change_acts(
        &self,
        site_id: i32,
        id: Uuid,
        change: impl FnOnce(&mut Vec<Act>) + Send,
    ) -> Result<bool> {
        let mut tx = self.lane.begin().await?;
        let acts: Option<Json<Vec<Act>>> = sqlx::query_scalar(
            "SELECT acts FROM recording WHERE id = $1 AND site_id = $2 FOR UPDATE",
        )
        .bind(id)
        .bind(site_id)
        .fetch_optional(&mut *tx)
        .await?;
        let Some(Json(mut acts)) = acts else { return Ok(false) };
        change(&mut acts);
        sqlx::query("UPDATE recording SET acts = $2 WHERE id = $1")
            .bind(id)
            .bind(Json(acts))
            .execute(&mut *tx)
            .await?;
        tx.commit().await?;
        Ok(true)
    }
}
