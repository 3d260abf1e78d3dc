//! Due runs and their leases.
//!
//! Work is a row with the id that its run will have. A lease hides it from other runners until it
//! ends; a lease that ends without a record makes it free again, so a dead runner loses nothing.
//! Work is deleted in the transaction that stores its run, so it is done once.

use crate::db::{Db, Result};
use cadentis_core::calendar::{LeftOut, Maintenance, Pace, Stretch};
use jiff::{SignedDuration, Timestamp};
use jiff_sqlx::ToSqlx;
use sqlx::{AssertSqlSafe, PgConnection};
use uuid::Uuid;

/// Work is given out at most so often: three runners that did not come back are no accident.
const MOST_ATTEMPTS: i32 = 3;

/// A new id for a run that was due then. It begins with the moment (UUID version 7, RFC 9562), so that the day of a run is
/// known from its id alone.
pub fn run_id(due: Timestamp) -> Uuid {
    let ms = u64::try_from(due.as_millisecond()).unwrap_or(0);
    uuid::Builder::from_unix_timestamp_millis(ms, &rand::random()).into_uuid()
}

/// When a run was due, to the millisecond, as its id tells; `None` for ids of before.
pub(crate) fn due_of(id: Uuid) -> Option<Timestamp> {
    let (seconds, nanos) = id.get_timestamp().filter(|_| id.get_version_num() == 7)?.to_unix();
    Timestamp::new(i64::try_from(seconds).ok()?, nanos as i32).ok()
}

/// One at a time for the due runs of a journey at a location, until the transaction ends.
pub(crate) async fn lock_due(
    tx: &mut PgConnection,
    journey_id: i32,
    location_id: i32,
) -> Result<()> {
    sqlx::query("SELECT pg_advisory_xact_lock(hashtextextended($1, 704201))")
        .bind(format!("{journey_id}/{location_id}"))
        .execute(tx)
        .await?;
    Ok(())
}

/// One run to play.
#[derive(Debug, Clone)]
pub struct Work {
    /// The run.
    pub id: Uuid,
    /// The site.
    pub site_id: i32,
    /// The journey's name.
    pub journey: String,
    /// Its script.
    pub script: String,
    /// The location's name.
    pub location: String,
    /// When it is due.
    pub due_at: Timestamp,
    /// Slug of the device profile.
    pub device: String,
    /// The location's proxy, and networks that must not be reached from it.
    pub proxy: Option<String>,
    /// Networks that must not be reached.
    pub denied: Vec<String>,
    /// The journey.
    pub journey_id: i32,
}

/// A process that plays at a location.
#[derive(Debug, Clone, PartialEq)]
pub struct Runner {
    /// Its name.
    pub name: String,
    /// Version of its program, and of the protocol it speaks.
    pub program: String,
    /// The protocol that it speaks.
    pub protocol: i32,
    /// When it was last heard of.
    pub seen_at: Timestamp,
    /// When it was given what it plays now.
    pub busy_since: Option<Timestamp>,
    /// How many records it keeps until they are taken.
    pub kept: i32,
}

impl Db {
    /// Writes the newest due run of every active journey and location, and drops those that nobody
    /// took before the next one was due: a run that late would say nothing about its moment. Of work that was given
    /// out the row stays for two days, in case its record is only late.
    ///
    /// What falls into maintenance that holds runs is not due.
    ///
    /// Returns how many were added.
    ///
    /// A journey that plays once is finished when all its locations have played it.
    pub async fn make_due(&self, now: Timestamp) -> Result<u64> {
        let mut added = 0;
        for site in self.sites().await?.into_iter().filter(|s| s.archived_at.is_none()) {
            let planned = self.planned(site.id).await?;
            let holding: Vec<_> = planned.iter().map(|p| &p.says).filter(|m| m.holds).collect();
            let zones = if holding.is_empty() { Vec::new() } else { self.zones().await? };
            for journey in self.journeys(site.id).await? {
                if journey.status != "active" {
                    continue;
                }
                for (location, cadence) in self.locations_of(&journey).await? {
                    let Some(due) = cadence.last_due(now) else { continue };
                    let moment = Stretch { from: due, to: due + SignedDuration::from_nanos(1) };
                    let held = |m: &&Maintenance| {
                        !LeftOut::held(&m.left_out(moment, &zones), journey.id, location.id)
                            .is_empty()
                    };
                    if holding.iter().any(held) {
                        continue;
                    }
                    let mut tx = self.lane.begin().await?;
                    let dropped: Vec<Option<Uuid>> = sqlx::query_scalar(
                        "WITH late AS (
                             SELECT id, attempts FROM work WHERE journey_id = $1 AND location_id = $2 AND due_at < $3
                               AND NOT dropped AND (lease_until IS NULL OR lease_until < $4)),
                         waits AS (UPDATE work SET dropped = true FROM late
                                   WHERE work.id = late.id AND late.attempts > 0 RETURNING first_try),
                         gone AS (DELETE FROM work USING late
                                  WHERE work.id = late.id AND late.attempts = 0 RETURNING first_try)
                         SELECT first_try FROM waits UNION ALL SELECT first_try FROM gone",
                    )
                    .bind(journey.id)
                    .bind(location.id)
                    .bind(due.to_sqlx())
                    .bind(now.to_sqlx())
                    .fetch_all(&mut *tx)
                    .await?;
                    count_first_tries(&mut tx, dropped).await?;
                    // Whoever finishes a run holds this while its work goes and its run comes: a statement that begins
                    // afterwards sees one or the other.
                    lock_due(&mut tx, journey.id, location.id).await?;
                    // Already played, or already waiting.
                    added += sqlx::query(
                        "INSERT INTO work (id, site_id, journey_id, location_id, due_at)
                         SELECT $5, $1, $2, $3, $4
                         WHERE NOT EXISTS (SELECT FROM run WHERE site_id = $1 AND due_at = $4
                                             AND journey_id = $2 AND location_id = $3)
                           -- A clock that was set back makes no run of the past due.
                           AND NOT EXISTS (SELECT FROM run WHERE journey_id = $2 AND location_id = $3 AND due_at > $4)
                           AND NOT EXISTS (SELECT FROM work WHERE journey_id = $2 AND location_id = $3 AND due_at > $4)
                         ON CONFLICT (journey_id, location_id, due_at) DO NOTHING",
                    )
                    .bind(site.id)
                    .bind(journey.id)
                    .bind(location.id)
                    .bind(due.to_sqlx())
                    .bind(run_id(due))
                    .execute(&mut *tx)
                    .await?
                    .rows_affected();
                    tx.commit().await?;
                }
                if matches!(journey.pace()?, Pace::Once(at) if at <= now) {
                    sqlx::query(
                        "UPDATE journey SET status = 'finished' WHERE id = $1 AND status = 'active'
                           AND NOT EXISTS (SELECT FROM work WHERE journey_id = $1 AND NOT dropped)",
                    )
                    .bind(journey.id)
                    .execute(&self.lane)
                    .await?;
                }
            }
        }
        Ok(added)
    }

    /// Takes note of a runner that asks for work; what has not changed is written at most every five seconds.
    pub async fn runner_seen(
        &self,
        location_id: i32,
        runner: &Runner,
        now: Timestamp,
    ) -> Result<()> {
        sqlx::query(
            "INSERT INTO runner VALUES ($1, $2, $3, $4, $5, $6, $7)
             ON CONFLICT (location_id, name) DO UPDATE SET program = $3, protocol = $4, seen_at = $5, busy_since = $6, kept = $7
             WHERE runner.seen_at < $5::timestamptz - interval '5 seconds'
                OR (runner.busy_since IS NULL) <> ($6::timestamptz IS NULL)
                OR (runner.program, runner.protocol, runner.kept) <> ($3, $4, $7)",
        )
        .bind(location_id)
        .bind(&runner.name)
        .bind(&runner.program)
        .bind(runner.protocol)
        .bind(now.to_sqlx())
        .bind(runner.busy_since.map(|at| at.to_sqlx()))
        .bind(runner.kept)
        .execute(&self.lane)
        .await?;
        Ok(())
    }

    /// Runners seen in the last week, by location, newest first.
    pub async fn runners(&self, now: Timestamp) -> Result<Vec<(i32, Runner)>> {
        type Row =
            (i32, String, String, i32, jiff_sqlx::Timestamp, Option<jiff_sqlx::Timestamp>, i32);
        let rows: Vec<Row> = sqlx::query_as(
            "SELECT location_id, name, program, protocol, seen_at, busy_since, kept FROM runner
             WHERE seen_at > $1::timestamptz - interval '7 days' ORDER BY location_id, seen_at DESC",
        )
        .bind(now.to_sqlx())
        .fetch_all(&self.lane)
        .await?;
        let runner = |(location, name, program, protocol, seen_at, busy_since, kept): Row| {
            let busy_since = busy_since.map(|at| at.to_jiff());
            (
                location,
                Runner { name, program, protocol, seen_at: seen_at.to_jiff(), busy_since, kept },
            )
        };
        Ok(rows.into_iter().map(runner).collect())
    }

    /// The location whose runner shows this token.
    pub async fn location_by_token(&self, token: &str) -> Result<Option<i32>> {
        let sql = "SELECT id FROM location WHERE token_sha256 = sha256(convert_to($1, 'UTF8'))";
        Ok(sqlx::query_scalar(sql).bind(token).fetch_optional(&self.lane).await?)
    }

    /// Leases the oldest free work of a location until `until`: of a journey that is active, and not given out too often
    /// already, since what ends one runner after another would end all of them.
    pub async fn lease(
        &self,
        location_id: i32,
        runner: &str,
        now: Timestamp,
        until: Timestamp,
    ) -> Result<Option<Work>> {
        type Row = (
            Uuid,
            i32,
            String,
            String,
            String,
            jiff_sqlx::Timestamp,
            String,
            Option<String>,
            Vec<String>,
            i32,
        );
        let free = free("$2", "$5");
        let sql = format!(
            "WITH mine AS (
                 SELECT w.id FROM work w JOIN journey j ON j.id = w.journey_id WHERE w.location_id = $1 AND {free}
                 ORDER BY w.due_at LIMIT 1 FOR UPDATE OF w SKIP LOCKED)
             UPDATE work w SET lease_until = $3, leased_by = $4, attempts = attempts + 1, version = j.version
             FROM mine, journey j, location l
             WHERE w.id = mine.id AND j.id = w.journey_id AND l.id = w.location_id
             RETURNING w.id, w.site_id, j.name, j.script, l.name, w.due_at, j.device, l.proxy, l.denied, j.id"
        );
        let row: Option<Row> = sqlx::query_as(AssertSqlSafe(sql))
            .bind(location_id)
            .bind(now.to_sqlx())
            .bind(until.to_sqlx())
            .bind(runner)
            .bind(MOST_ATTEMPTS)
            .fetch_optional(&self.lane)
            .await?;
        Ok(row.map(
            |(
                id,
                site_id,
                journey,
                script,
                location,
                due_at,
                device,
                proxy,
                denied,
                journey_id,
            )| Work {
                id,
                site_id,
                journey,
                script,
                location,
                due_at: due_at.to_jiff(),
                device,
                proxy,
                denied,
                journey_id,
            },
        ))
    }
}

/// Whether a row of `work` may be given out: nobody has it, its journey plays, and not too many have tried. `now` and
/// `most` are the placeholders of the moment and of [`MOST_ATTEMPTS`].
fn free(now: &str, most: &str) -> String {
    format!(
        "NOT w.dropped AND (w.lease_until IS NULL OR w.lease_until < {now}) AND j.status = 'active' AND w.attempts < {most}"
    )
}

/// What waits to be done.
#[derive(Debug, Clone, Copy, PartialEq, sqlx::FromRow)]
pub struct Backlog {
    /// Hours of page views that are to be filed anew, and seconds since the oldest of them was marked.
    pub hours: i64,
    /// For how many seconds the oldest of them.
    pub hours_for_s: Option<f64>,
    /// Runs that are due and that no runner has, and seconds since the oldest of them was due.
    pub due: i64,
    /// For how many seconds the oldest of them.
    pub due_for_s: Option<f64>,
    /// Runs that runners have.
    pub leased: i64,
    /// Records that runners keep until they are taken, as they said in the last week.
    pub kept: i64,
}

impl Db {
    /// What waits in the database at this moment.
    pub async fn backlog(&self, now: Timestamp) -> Result<Backlog> {
        let free = free("$1", "$2");
        let sql = format!(
            "SELECT (SELECT count(*) FROM dirty_hour) AS hours,
                    (SELECT extract(epoch FROM clock_timestamp() - min(marked_at))::float8 FROM dirty_hour) AS hours_for_s,
                    count(*) FILTER (WHERE {free}) AS due,
                    extract(epoch FROM $1 - min(w.due_at) FILTER (WHERE {free}))::float8 AS due_for_s,
                    count(*) FILTER (WHERE w.lease_until >= $1) AS leased,
                    (SELECT coalesce(sum(kept), 0) FROM runner WHERE seen_at > $1::timestamptz - interval '7 days') AS kept
             FROM work w JOIN journey j ON j.id = w.journey_id"
        );
        Ok(sqlx::query_as(AssertSqlSafe(sql))
            .bind(now.to_sqlx())
            .bind(MOST_ATTEMPTS)
            .fetch_one(&self.lane)
            .await?)
    }
}

/// Drops what nobody plays yet.
pub(crate) async fn drop_waiting(tx: &mut PgConnection, journey_id: i32) -> Result<()> {
    let dropped: Vec<Option<Uuid>> = sqlx::query_scalar(
        "DELETE FROM work WHERE journey_id = $1 AND lease_until IS NULL RETURNING first_try",
    )
    .bind(journey_id)
    .fetch_all(&mut *tx)
    .await?;
    count_first_tries(tx, dropped).await
}

/// First tries whose second never came, or could not measure: they count after all.
pub(crate) async fn count_first_tries(
    tx: &mut PgConnection,
    first_tries: impl IntoIterator<Item = Option<Uuid>>,
) -> Result<()> {
    let ids: Vec<Uuid> = first_tries.into_iter().flatten().collect();
    if ids.is_empty() {
        return Ok(());
    }
    let counted: Vec<(i32, i32, jiff_sqlx::Timestamp)> = sqlx::query_as(
        "WITH gone AS (DELETE FROM first_try WHERE id = ANY ($1) RETURNING *)
         INSERT INTO run SELECT site_id, due_at, id, journey_id, location_id, started_at, outcome, duration_ms, steps_ms,
                                trouble, runner, browser, version, split_ms, counts, marks, certificate_days FROM gone
         RETURNING site_id, journey_id, due_at",
    )
    .bind(ids)
    .fetch_all(&mut *tx)
    .await?;
    for (site_id, journey_id, due_at) in counted {
        crate::run_day::drop_sheet(tx, site_id, journey_id, due_at.to_jiff()).await?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_id_of_a_run_tells_when_it_was_due_and_ids_of_before_tell_nothing() {
        for second in [0, 1_795_000_200, 4_102_444_800] {
            let due = Timestamp::from_second(second).expect("a moment");
            let id = run_id(due);
            assert_eq!((due_of(id), id.get_version_num()), (Some(due), 7));
            assert_ne!(id, run_id(due), "two runs of one moment have ids of their own");
        }
        assert_eq!(due_of(Uuid::new_v4()), None);
    }
}
