//! Runs: written once, read by the stretch, looked into one by one.

use crate::db::{Db, Result, content};
use cadentis_core::calendar::Stretch;
use cadentis_core::goal::{Check, Counted, Tally};
use cadentis_core::run::{Counts, Looked, Outcome, RunRecord, Split};
use cadentis_core::visitor::beacon::owns;
use jiff::{SignedDuration, Timestamp};
use jiff_sqlx::ToSqlx;
use smallvec::SmallVec;
use sqlx::postgres::PgRow;
use sqlx::types::Json;
use sqlx::{AssertSqlSafe, FromRow, PgConnection, Row as _};
use std::collections::HashMap;
use uuid::Uuid;

/// Milliseconds of each step. Most journeys have few: a page over weeks holds tens of thousands of these.
pub type Steps = SmallVec<[f32; 8]>;

/// One run without its record.
#[derive(Debug, Clone)]
pub struct Run {
    /// Its id.
    pub id: Uuid,
    /// The site.
    pub site_id: i32,
    /// The journey.
    pub journey_id: i32,
    /// The location.
    pub location_id: i32,
    /// When it was due.
    pub due_at: Timestamp,
    /// What became of it.
    pub outcome: Outcome,
    /// How long it took, in milliseconds.
    pub duration_ms: f64,
    /// Of each step, as far as it came.
    pub steps_ms: Steps,
    /// What went wrong, if anything did.
    pub trouble: Option<String>,
    /// Milliseconds in network, server and browser, where that is known.
    pub split_ms: Option<[f32; 3]>,
    /// What it fetched, where that is known.
    pub counts: Option<Counts>,
}

impl Run {
    /// When it was due and what became of it.
    pub fn check(&self) -> Check {
        Check { at: self.due_at, outcome: self.outcome }
    }

    /// Its journey and location.
    pub fn place(&self) -> (i32, i32) {
        (self.journey_id, self.location_id)
    }
}

/// What a page looked like when it was accepted.
#[derive(Debug, Clone, PartialEq)]
pub struct Accepted {
    /// Which look at which page.
    pub key: String,
    /// What was seen.
    pub seen: String,
    /// Who accepted it.
    pub author: String,
    /// When.
    pub at: Timestamp,
}

/// The other of two tries.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Try {
    /// This one is the second; the first failed.
    First(Uuid),
    /// This one failed, and was played once more.
    Second(Uuid),
    /// This one failed, and is being played once more.
    Waiting,
}

/// Numbers as they are kept.
fn counts_of(kept: Vec<i64>) -> Option<Counts> {
    let numbers: [i64; 4] = kept.try_into().ok()?;
    Some(Counts::from_numbers(numbers.map(|n| n.unsigned_abs())))
}

pub(crate) fn outcome_code(outcome: Outcome) -> i16 {
    match outcome {
        Outcome::Passed => 0,
        Outcome::Slow => 1,
        Outcome::Failed => 2,
        Outcome::Unmeasured => 3,
    }
}

pub(crate) fn outcome_of(code: i16) -> Result<Outcome> {
    Outcome::ALL
        .into_iter()
        .find(|o| outcome_code(*o) == code)
        .ok_or_else(|| content("run.outcome", format!("{code} is no outcome")))
}

/// The columns of a run without its record, as [`run_of`] reads them.
pub(crate) const COLUMNS: &str = "id, site_id, journey_id, location_id, due_at, outcome, duration_ms, steps_ms, trouble, split_ms, counts";

/// A run from [`COLUMNS`], of which the first is the `nth`. They are found by their places: pages over a day read thousands.
pub(crate) fn run_of(row: &PgRow, nth: usize) -> Result<Run> {
    let due_at: jiff_sqlx::Timestamp = row.try_get(nth + 4)?;
    let split: Option<Vec<f32>> = row.try_get(nth + 9)?;
    let counts: Option<Vec<i64>> = row.try_get(nth + 10)?;
    Ok(Run {
        id: row.try_get(nth)?,
        site_id: row.try_get(nth + 1)?,
        journey_id: row.try_get(nth + 2)?,
        location_id: row.try_get(nth + 3)?,
        due_at: due_at.to_jiff(),
        outcome: outcome_of(row.try_get(nth + 5)?)?,
        duration_ms: row.try_get(nth + 6)?,
        steps_ms: row.try_get::<Vec<f32>, _>(nth + 7)?.into(),
        trouble: row.try_get(nth + 8)?,
        split_ms: split.and_then(|s| s.try_into().ok()),
        counts: counts.and_then(counts_of),
    })
}

/// Which runs are wanted.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Like {
    /// Only with this outcome.
    pub outcome: Option<Outcome>,
    /// Only from this location.
    pub location_id: Option<i32>,
    /// Only of this version of the script.
    pub version: Option<i32>,
    /// At least so long, in milliseconds.
    pub longer_ms: f64,
}

/// What became of a record that a runner sent.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Finished {
    /// It is stored now.
    Stored,
    /// The same work was finished before, by this runner or another: nothing was changed.
    Already,
    /// No such work was given to this location.
    Unknown,
}

/// A run as lists have it.
#[derive(Debug, Clone, PartialEq)]
pub struct ListedRun {
    /// Its id.
    pub id: Uuid,
    /// From where.
    pub location_id: i32,
    /// When it was due.
    pub due_at: Timestamp,
    /// How it ended.
    pub outcome: Outcome,
    /// How long it took, in milliseconds.
    pub duration_ms: f64,
    /// How long each counted step took, in milliseconds.
    pub steps_ms: Vec<f32>,
    /// What went wrong.
    pub trouble: Option<String>,
    /// The version of the script that it played.
    pub version: Option<i32>,
    /// What it fetched, where that is known.
    pub counts: Option<Counts>,
}

impl Db {
    /// Stores the record of leased work and ends the work, in one transaction.
    pub async fn finish(&self, location_id: i32, mut record: RunRecord) -> Result<Finished> {
        let mut tx = self.lane.begin().await?;
        let sql = "SELECT journey_id FROM work WHERE id = $1 AND location_id = $2";
        let waits: Option<i32> = sqlx::query_scalar(sql)
            .bind(record.id)
            .bind(location_id)
            .fetch_optional(&mut *tx)
            .await?;
        if let Some(journey_id) = waits {
            crate::work::lock_due(&mut tx, journey_id, location_id).await?;
        }
        type Work = (i32, i32, jiff_sqlx::Timestamp, Option<i32>, Option<Uuid>);
        let work: Option<Work> = sqlx::query_as(
            "DELETE FROM work WHERE id = $1 AND location_id = $2
             RETURNING site_id, journey_id, due_at, version, first_try",
        )
        .bind(record.id)
        .bind(location_id)
        .fetch_optional(&mut *tx)
        .await?;
        let Some((site_id, journey_id, due_at, version, first_try)) = work else {
            drop(tx);
            let known = match self.run(record.id).await? {
                Some(run) => run.location_id == location_id,
                None => false,
            };
            return Ok(if known { Finished::Already } else { Finished::Unknown });
        };
        put_pictures(&mut tx, (site_id, due_at), &mut record).await?;
        // Before a failure counts it is tried again, if the journey wants that. The second try has the same moment.
        let sql = "INSERT INTO work (id, site_id, journey_id, location_id, due_at, first_try)
                   SELECT $6, $1, $2, $3, $4, $5 FROM journey WHERE id = $2 AND retry RETURNING id";
        let second: Option<Uuid> = match (record.outcome, first_try) {
            (Outcome::Failed, None) => {
                let second =
                    sqlx::query_scalar(sql).bind(site_id).bind(journey_id).bind(location_id);
                let id = crate::work::run_id(due_at.to_jiff());
                second.bind(due_at).bind(record.id).bind(id).fetch_optional(&mut *tx).await?
            }
            _ => None,
        };
        let work = LeasedWork { site_id, due_at, journey_id, location_id, version };
        put_run(&mut tx, &work, &record, second).await?;
        if record.outcome == Outcome::Unmeasured {
            crate::work::count_first_tries(&mut tx, [first_try]).await?;
        }
        if record.outcome.got_through() {
            let looked = record.steps.iter().flat_map(|s| &s.looked);
            for l in looked {
                let sql = "INSERT INTO accepted VALUES ($1, $2, $3, 'the first run that passed', $4) ON CONFLICT DO NOTHING";
                let accept = sqlx::query(sql).bind(journey_id).bind(&l.key).bind(&l.seen);
                accept.bind(record.started_at.to_sqlx()).execute(&mut *tx).await?;
            }
        }
        crate::run_day::drop_sheet(&mut tx, site_id, journey_id, due_at.to_jiff()).await?;
        tx.commit().await?;
        Ok(Finished::Stored)
    }

    /// Runs of a journey, newest first, that come after this one (its moment and id) in that order: so many at most.
    pub async fn runs_after(
        &self,
        journey: (i32, i32),
        stretch: Stretch,
        like: &Like,
        after: Option<(Timestamp, Uuid)>,
        most: i64,
    ) -> Result<Vec<ListedRun>> {
        let sql = "SELECT id, location_id, due_at, outcome, duration_ms, steps_ms, trouble, version, counts
             FROM run WHERE journey_id = $1 AND site_id = $2 AND due_at >= $3 AND due_at < $4
              AND ($5::int2 IS NULL OR outcome = $5) AND ($6::int4 IS NULL OR location_id = $6)
              AND ($7::timestamptz IS NULL OR (due_at, id) < ($7, $8))
             ORDER BY due_at DESC, id DESC LIMIT $9";
        #[derive(FromRow)]
        struct Row {
            id: Uuid,
            location_id: i32,
            due_at: jiff_sqlx::Timestamp,
            outcome: i16,
            duration_ms: f64,
            steps_ms: Vec<f32>,
            trouble: Option<String>,
            version: Option<i32>,
            counts: Option<Vec<i64>>,
        }
        let rows: Vec<Row> = sqlx::query_as(sql)
            .bind(journey.0)
            .bind(journey.1)
            .bind(stretch.from.to_sqlx())
            .bind(stretch.to.to_sqlx())
            .bind(like.outcome.map(outcome_code))
            .bind(like.location_id)
            .bind(after.map(|(at, _)| at.to_sqlx()))
            .bind(after.map(|(_, id)| id))
            .bind(most)
            .fetch_all(&self.lane)
            .await?;
        let run = |r: Row| {
            Ok(ListedRun {
                id: r.id,
                location_id: r.location_id,
                due_at: r.due_at.to_jiff(),
                outcome: outcome_of(r.outcome)?,
                duration_ms: r.duration_ms,
                steps_ms: r.steps_ms,
                trouble: r.trouble,
                version: r.version,
                counts: r.counts.and_then(counts_of),
            })
        };
        rows.into_iter().map(run).collect()
    }

    /// A page of a journey's runs, newest first, and how many there are in all.
    pub async fn runs_like(
        &self,
        journey: (i32, i32),
        stretch: Stretch,
        like: &Like,
        skip: i64,
        most: i64,
    ) -> Result<(Vec<(Run, Option<i32>)>, i64)> {
        type Row = (Uuid, i32, jiff_sqlx::Timestamp, i16, f64, Option<String>, Option<i32>);
        let narrowed =
            "FROM run WHERE journey_id = $1 AND site_id = $2 AND due_at >= $3 AND due_at < $4
              AND ($5::int2 IS NULL OR outcome = $5) AND ($6::int4 IS NULL OR location_id = $6)
              AND ($7::int4 IS NULL OR version = $7) AND duration_ms >= $8";
        let outcome = like.outcome.map(outcome_code);
        let rows = format!(
            "SELECT id, location_id, due_at, outcome, duration_ms, trouble, version {narrowed}
             ORDER BY due_at DESC, id LIMIT $9 OFFSET $10"
        );
        let rows: Vec<Row> = sqlx::query_as(AssertSqlSafe(rows))
            .bind(journey.0)
            .bind(journey.1)
            .bind(stretch.from.to_sqlx())
            .bind(stretch.to.to_sqlx())
            .bind(outcome)
            .bind(like.location_id)
            .bind(like.version)
            .bind(like.longer_ms)
            .bind(most)
            .bind(skip)
            .fetch_all(&self.lane)
            .await?;
        let count: i64 = sqlx::query_scalar(AssertSqlSafe(format!("SELECT count(*) {narrowed}")))
            .bind(journey.0)
            .bind(journey.1)
            .bind(stretch.from.to_sqlx())
            .bind(stretch.to.to_sqlx())
            .bind(outcome)
            .bind(like.location_id)
            .bind(like.version)
            .bind(like.longer_ms)
            .fetch_one(&self.lane)
            .await?;
        let run = |(id, location_id, due_at, outcome, duration_ms, trouble, version): Row| {
            let (journey_id, site_id) = journey;
            let outcome = outcome_of(outcome)?;
            let steps_ms = Steps::new();
            let due_at = due_at.to_jiff();
            let (split_ms, counts) = (None, None);
            let run = Run {
                id,
                site_id,
                journey_id,
                location_id,
                due_at,
                outcome,
                duration_ms,
                steps_ms,
                trouble,
                split_ms,
                counts,
            };
            Ok((run, version))
        };
        Ok((rows.into_iter().map(run).collect::<Result<_>>()?, count))
    }

    /// The runs of a journey in a stretch, by the one rule about what counts: maintenance that touches the stretch is
    /// left out.
    pub async fn counted_runs(
        &self,
        journey_id: i32,
        site_id: i32,
        stretch: Stretch,
    ) -> Result<Counted<Run>> {
        let (runs, maintenance) = futures::try_join!(
            self.runs(journey_id, site_id, stretch),
            self.maintenance(site_id, stretch)
        )?;
        Ok(Counted::of(runs, &maintenance, Run::place, Run::check))
    }

    /// The same of many journeys at once, by journey.
    pub async fn counted_runs_of(
        &self,
        journeys: &[i32],
        site_id: i32,
        stretch: Stretch,
    ) -> Result<HashMap<i32, Counted<Run>>> {
        let (mut runs, maintenance) = futures::try_join!(
            self.runs_of(journeys, site_id, stretch),
            self.maintenance(site_id, stretch)
        )?;
        let counted = |id: &i32| {
            (
                *id,
                Counted::of(
                    runs.remove(id).unwrap_or_default(),
                    &maintenance,
                    Run::place,
                    Run::check,
                ),
            )
        };
        Ok(journeys.iter().map(counted).collect())
    }

    /// Counts of a site's runs, over all journeys, in each hour (UTC) in which one failed.
    pub async fn failing_hours(
        &self,
        site_id: i32,
        stretch: Stretch,
    ) -> Result<Vec<(Timestamp, Tally)>> {
        let rows: Vec<(jiff_sqlx::Timestamp, i64, i64, i64, i64)> = sqlx::query_as(
            "WITH bad AS MATERIALIZED (
                 SELECT DISTINCT date_bin('1 hour', due_at, 'epoch') AS hour FROM run
                 WHERE site_id = $1 AND due_at >= $2 AND due_at < $3 AND outcome = 2)
             SELECT bad.hour, n.* FROM bad CROSS JOIN LATERAL (
                 SELECT count(*) FILTER (WHERE outcome = 0), count(*) FILTER (WHERE outcome = 1),
                        count(*) FILTER (WHERE outcome = 2), count(*) FILTER (WHERE outcome = 3)
                 FROM run WHERE site_id = $1 AND due_at >= bad.hour AND due_at < bad.hour + interval '1 hour') n
             ORDER BY 1",
        )
        .bind(site_id)
        .bind(stretch.from.to_sqlx())
        .bind(stretch.to.to_sqlx())
        .fetch_all(&self.lane)
        .await?;
        let tally =
            |(at, passed, slow, failed, unmeasured): (jiff_sqlx::Timestamp, i64, i64, i64, i64)| {
                let n = |v: i64| v.unsigned_abs();
                let tally = Tally {
                    passed: n(passed),
                    slow: n(slow),
                    failed: n(failed),
                    unmeasured: n(unmeasured),
                    left_out: 0,
                };
                (at.to_jiff(), tally)
            };
        Ok(rows.into_iter().map(tally).collect())
    }

    /// One run, found by its id alone.
    pub async fn run(&self, id: Uuid) -> Result<Option<Run>> {
        // Its id tells the day; only those of before are looked for in every one.
        let due = crate::work::due_of(id);
        let (from, to) = match due {
            Some(due) => {
                (due - SignedDuration::from_millis(1), due + SignedDuration::from_millis(1))
            }
            None => (Timestamp::UNIX_EPOCH, Timestamp::MAX),
        };
        let sql = format!(
            "SELECT {COLUMNS} FROM run WHERE id = $1 AND due_at >= $2 AND due_at <= $3
             UNION ALL
             SELECT {COLUMNS} FROM first_try WHERE id = $1 AND due_at >= $2 AND due_at <= $3"
        );
        let row = sqlx::query(AssertSqlSafe(sql))
            .bind(id)
            .bind(from.to_sqlx())
            .bind(to.to_sqlx())
            .fetch_optional(&self.lane)
            .await?;
        row.map(|row| run_of(&row, 0)).transpose()
    }

    /// The first run of a site that is kept: the first that measured the site where any has.
    pub async fn first_run(&self, site_id: i32) -> Result<Option<Uuid>> {
        let first = "SELECT id FROM run WHERE site_id = $1 ORDER BY due_at LIMIT 1";
        let measured =
            "SELECT id FROM run WHERE site_id = $1 AND outcome <> $2 ORDER BY due_at LIMIT 1";
        let found = sqlx::query_scalar(measured)
            .bind(site_id)
            .bind(outcome_code(Outcome::Unmeasured))
            .fetch_optional(&self.lane)
            .await?;
        match found {
            Some(id) => Ok(Some(id)),
            None => Ok(sqlx::query_scalar(first).bind(site_id).fetch_optional(&self.lane).await?),
        }
    }

    /// The other try of a run that was played twice.
    pub async fn other_try(&self, id: Uuid) -> Result<Option<Try>> {
        let sql = "SELECT id, second, EXISTS (SELECT FROM run WHERE run.id = second) FROM first_try
                   WHERE id = $1 OR second = $1";
        let row: Option<(Uuid, Uuid, bool)> =
            sqlx::query_as(sql).bind(id).fetch_optional(&self.lane).await?;
        Ok(row.map(|(first, second, played)| match (first == id, played) {
            (false, _) => Try::First(first),
            (true, true) => Try::Second(second),
            (true, false) => Try::Waiting,
        }))
    }

    /// The record of a run, or `None` when its details were not kept.
    pub async fn record(&self, run: &Run) -> Result<Option<RunRecord>> {
        let sql =
            "SELECT record FROM run_record WHERE site_id = $1 AND due_at = $2 AND run_id = $3";
        let row: Option<Json<RunRecord>> = sqlx::query_scalar(sql)
            .bind(run.site_id)
            .bind(run.due_at.to_sqlx())
            .bind(run.id)
            .fetch_optional(&self.lane)
            .await?;
        Ok(row.map(|r| r.0))
    }

    /// Records of runs that passed before this one at the same location with the same version of the script, within a day,
    /// newest first.
    pub async fn usual_records(&self, run: &Run, most: i64) -> Result<Vec<RunRecord>> {
        Ok(self.usual_records_of(&[run], most).await?.remove(&run.id).unwrap_or_default())
    }

    /// The same of many runs at once, by the run's id.
    pub async fn usual_records_of(
        &self,
        runs: &[&Run],
        most: i64,
    ) -> Result<HashMap<Uuid, Vec<RunRecord>>> {
        let Some(first) = runs.first() else { return Ok(HashMap::new()) };
        let of = |f: fn(&Run) -> i32| runs.iter().map(|r| f(r)).collect::<Vec<i32>>();
        let rows: Vec<(Uuid, String)> = sqlx::query_as(
            "SELECT w.id, usual.record FROM unnest($2::uuid[], $3::int4[], $4::int4[], $5::timestamptz[])
                 AS w(id, journey_id, location_id, due_at)
             CROSS JOIN LATERAL (
                 SELECT rr.record::text AS record, r.due_at FROM run r JOIN run_record rr
                     ON rr.site_id = r.site_id AND rr.due_at = r.due_at AND rr.run_id = r.id
                    AND rr.due_at < w.due_at AND rr.due_at >= w.due_at - interval '1 day'
                 WHERE r.site_id = $1 AND r.journey_id = w.journey_id AND r.location_id = w.location_id
                   AND r.due_at < w.due_at AND r.due_at >= w.due_at - interval '1 day' AND r.outcome = 0
                   AND r.version IS NOT DISTINCT FROM (
                         SELECT version FROM run WHERE site_id = $1 AND due_at = w.due_at AND id = w.id
                         UNION ALL SELECT version FROM first_try WHERE site_id = $1 AND due_at = w.due_at AND id = w.id)
                 ORDER BY r.due_at DESC LIMIT $6) AS usual
             ORDER BY w.id, usual.due_at DESC",
        )
        .bind(first.site_id)
        .bind(runs.iter().map(|r| r.id).collect::<Vec<_>>())
        .bind(of(|r| r.journey_id))
        .bind(of(|r| r.location_id))
        .bind(runs.iter().map(|r| r.due_at.to_sqlx()).collect::<Vec<_>>())
        .bind(most)
        .fetch_all(&self.lane)
        .await?;
        // Pages of hundreds of requests make records of hundreds of kilobytes: read two at a time.
        let read = |rows: &[(Uuid, String)]| {
            rows.iter().map(|(id, r)| (*id, serde_json::from_str(r))).collect::<Vec<_>>()
        };
        let (front, back) = rows.split_at(rows.len() / 2);
        let records: Vec<(Uuid, serde_json::Result<RunRecord>)> = std::thread::scope(|s| {
            let back = s.spawn(|| read(back));
            let mut all = read(front);
            all.extend(back.join().unwrap_or_default());
            all
        });
        let mut by_run: HashMap<Uuid, Vec<RunRecord>> = HashMap::new();
        for (id, record) in records {
            by_run
                .entry(id)
                .or_default()
                .push(record.map_err(|e| content("run_record.record", e))?);
        }
        Ok(by_run)
    }

    /// The record of each journey's newest run that passed, as far as one was kept, by the journey's id.
    pub async fn newest_passed_records(&self, site_id: i32) -> Result<HashMap<i32, RunRecord>> {
        let sql = "SELECT j.id, rr.record FROM journey j
                   CROSS JOIN LATERAL (SELECT r.site_id, r.due_at, r.id FROM run r
                       JOIN run_record k ON k.site_id = r.site_id AND k.due_at = r.due_at AND k.run_id = r.id
                       WHERE r.site_id = $1 AND r.journey_id = j.id AND r.outcome = 0
                       ORDER BY r.due_at DESC LIMIT 1) AS newest
                   JOIN run_record rr ON rr.site_id = newest.site_id AND rr.due_at = newest.due_at AND rr.run_id = newest.id
                   WHERE j.site_id = $1";
        let rows: Vec<(i32, Json<RunRecord>)> =
            sqlx::query_as(sql).bind(site_id).fetch_all(&self.lane).await?;
        Ok(rows.into_iter().map(|(id, record)| (id, record.0)).collect())
    }

    /// Records of these runs, as far as they were kept.
    pub async fn records(&self, runs: &[&Run]) -> Result<Vec<RunRecord>> {
        let Some(first) = runs.first() else { return Ok(Vec::new()) };
        let (ids, due): (Vec<Uuid>, Vec<_>) =
            runs.iter().map(|r| (r.id, r.due_at.to_sqlx())).unzip();
        let sql = "SELECT record FROM run_record WHERE site_id = $1 AND due_at = ANY($2) AND run_id = ANY($3)";
        let rows: Vec<Json<RunRecord>> = sqlx::query_scalar(sql)
            .bind(first.site_id)
            .bind(due)
            .bind(ids)
            .fetch_all(&self.lane)
            .await?;
        Ok(rows.into_iter().map(|r| r.0).collect())
    }

    /// Runs of the same journey due within `seconds` of this one, itself left out: those here tell
    /// the one before and after, those elsewhere the same minutes at other locations.
    pub async fn runs_around(&self, run: &Run, seconds: i64) -> Result<Vec<Run>> {
        let around = SignedDuration::from_secs(seconds);
        let stretch = Stretch { from: run.due_at - around, to: run.due_at + around };
        let mut near = self.runs(run.journey_id, run.site_id, stretch).await?;
        near.retain(|r| r.id != run.id);
        Ok(near)
    }

    /// Mean duration (ms) and mean size of record and pictures (bytes) of the site's runs in the last day, over at most
    /// 500 of them; `None` when there were none.
    pub async fn mean_run(&self, site_id: i32, now: Timestamp) -> Result<Option<(f64, f64)>> {
        let sql = "SELECT avg(d)::float8, avg(b)::float8 FROM (
                       SELECT r.duration_ms AS d, pg_column_size(k.record) + coalesce((SELECT sum(pg_column_size(p.image)) FROM picture p
                           WHERE p.site_id = r.site_id AND p.due_at = r.due_at AND p.run_id = r.id), 0) AS b FROM run r
                       JOIN run_record k ON k.site_id = r.site_id AND k.due_at = r.due_at AND k.run_id = r.id
                       WHERE r.site_id = $1 AND r.due_at > $2::timestamptz - interval '1 day'
                       ORDER BY r.due_at DESC LIMIT 500) AS newest";
        let mean: (Option<f64>, Option<f64>) =
            sqlx::query_as(sql).bind(site_id).bind(now.to_sqlx()).fetch_one(&self.lane).await?;
        Ok(mean.0.zip(mean.1))
    }

    /// What was accepted of a journey's pages, by what it is kept under: what was seen, by whom it was accepted, when.
    pub async fn accepted(&self, journey_id: i32) -> Result<Vec<Accepted>> {
        let sql = "SELECT key, seen, author, accepted_at FROM accepted WHERE journey_id = $1 ORDER BY key";
        let rows: Vec<(String, String, String, jiff_sqlx::Timestamp)> =
            sqlx::query_as(sql).bind(journey_id).fetch_all(&self.lane).await?;
        let accepted = |(key, seen, author, at): (String, String, String, jiff_sqlx::Timestamp)| {
            Accepted { key, seen, author, at: at.to_jiff() }
        };
        Ok(rows.into_iter().map(accepted).collect())
    }

    /// Accepts what a run saw, instead of what was accepted before.
    pub async fn accept(
        &self,
        journey_id: i32,
        looked: &[&Looked],
        author: &str,
        now: Timestamp,
    ) -> Result<()> {
        let mut tx = self.lane.begin().await?;
        for l in looked {
            sqlx::query(
                "INSERT INTO accepted VALUES ($1, $2, $3, $4, $5) ON CONFLICT (journey_id, key)
                 DO UPDATE SET seen = $3, author = $4, accepted_at = $5",
            )
            .bind(journey_id)
            .bind(&l.key)
            .bind(&l.seen)
            .bind(author)
            .bind(now.to_sqlx())
            .execute(&mut *tx)
            .await?;
        }
        tx.commit().await?;
        Ok(())
    }

    /// Which pictures there are of a run.
    pub async fn pictures(&self, run: &Run) -> Result<Vec<Shown>> {
        let sql = "SELECT step, nth, at_ms FROM picture WHERE site_id = $1 AND due_at = $2 AND run_id = $3 ORDER BY step, nth";
        Ok(sqlx::query_as(sql)
            .bind(run.site_id)
            .bind(run.due_at.to_sqlx())
            .bind(run.id)
            .fetch_all(&self.lane)
            .await?)
    }

    /// One picture: its media type and bytes.
    pub async fn picture(
        &self,
        run: &Run,
        step: i16,
        nth: i16,
    ) -> Result<Option<(String, Vec<u8>)>> {
        let sql = "SELECT mime, image FROM picture
                   WHERE site_id = $1 AND due_at = $2 AND run_id = $3 AND step = $4 AND nth = $5";
        Ok(sqlx::query_as(sql)
            .bind(run.site_id)
            .bind(run.due_at.to_sqlx())
            .bind(run.id)
            .bind(step)
            .bind(nth)
            .fetch_optional(&self.lane)
            .await?)
    }
}

/// What a record is stored under.
struct LeasedWork {
    site_id: i32,
    due_at: jiff_sqlx::Timestamp,
    journey_id: i32,
    location_id: i32,
    version: Option<i32>,
}

/// Takes the pictures out of a record and stores them beside it.
async fn put_pictures(
    tx: &mut PgConnection,
    (site_id, due_at): (i32, jiff_sqlx::Timestamp),
    record: &mut RunRecord,
) -> Result<()> {
    for (step, s) in record.steps.iter_mut().enumerate() {
        let at_the_end = s.picture.take().map(|picture| (0i16, None, picture));
        let film = std::mem::take(&mut s.film).into_iter().zip(1i16..);
        let film = film.map(|(f, nth)| (nth, Some(f.at_ms as f32), f.picture));
        for (nth, at_ms, picture) in at_the_end.into_iter().chain(film) {
            let Some((mime, image)) = data_url(&picture) else { continue };
            sqlx::query(
                "INSERT INTO picture VALUES ($1, $2, $3, $4, $5, decode($6, 'base64'), $7, $8)",
            )
            .bind(site_id)
            .bind(due_at)
            .bind(record.id)
            .bind(step as i16)
            .bind(mime)
            .bind(image)
            .bind(nth)
            .bind(at_ms)
            .execute(&mut *tx)
            .await?;
        }
    }
    Ok(())
}

/// Stores the run; as the first of two tries, when it is tried again under this id.
async fn put_run(
    tx: &mut PgConnection,
    work: &LeasedWork,
    record: &RunRecord,
    second: Option<Uuid>,
) -> Result<()> {
    let LeasedWork { site_id, due_at, journey_id, location_id, version } = *work;
    let insert = match second {
        None => {
            "INSERT INTO run VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16, $17)"
        }
        Some(_) => {
            "INSERT INTO first_try VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $18, $14, $15, $16, $17)"
        }
    };
    let domains: Vec<String> = sqlx::query_scalar("SELECT domains FROM site WHERE id = $1")
        .bind(site_id)
        .fetch_one(&mut *tx)
        .await?;
    let counts = Counts::of(record, |host| owns(&domains, host));
    let marks = record.marks();
    let row = sqlx::query(insert)
        .bind(site_id)
        .bind(due_at)
        .bind(record.id)
        .bind(journey_id)
        .bind(location_id)
        .bind(record.started_at.to_sqlx())
        .bind(outcome_code(record.outcome))
        .bind(record.duration_ms)
        .bind(record.counted_steps().map(|s| s.duration_ms as f32).collect::<Vec<f32>>())
        .bind(record.trouble.as_ref().map(|t| &t.says))
        .bind(&record.runner)
        .bind(&record.browser)
        .bind(version)
        .bind(Split::sides(record).map(|s| s.map(|ms| ms as f32).to_vec()))
        .bind(counts.map(|c| c.numbers().map(|n| i64::try_from(n).unwrap_or(i64::MAX)).to_vec()))
        .bind((!marks.is_empty()).then_some(Json(marks)))
        .bind(record.certificate_days().and_then(|days| i32::try_from(days).ok()));
    match second {
        None => row.execute(&mut *tx).await?,
        Some(second) => row.bind(second).execute(&mut *tx).await?,
    };
    sqlx::query("INSERT INTO run_record VALUES ($1, $2, $3, $4)")
        .bind(site_id)
        .bind(due_at)
        .bind(record.id)
        .bind(Json(record))
        .execute(&mut *tx)
        .await?;
    Ok(())
}

/// A picture of a run: of which step, which of them (0 is the one at the end), and when it was shown, in milliseconds
/// from the step's beginning.
#[derive(Debug, Clone, Copy, PartialEq, sqlx::FromRow)]
pub struct Shown {
    /// The step's place.
    pub step: i16,
    /// The picture's place in the step.
    pub nth: i16,
    /// Milliseconds since the step began; `None` at its end.
    pub at_ms: Option<f32>,
}

/// Media type and base64 text of a data URL.
fn data_url(url: &str) -> Option<(&str, &str)> {
    url.strip_prefix("data:")?.split_once(";base64,")
}
