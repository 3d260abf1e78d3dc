//! What leaves when its time is over: evidence, rows that are filed, what is known of people, and whatever would
//! otherwise grow for ever.
//!
//! Everything leaves in pieces, so that no statement runs into its time limit for ever. Nothing leaves while the clock is not
//! believed: a clock that is a year ahead would empty everything at once.

use crate::db::{BY_DAY, Db, Result};
use crate::site::Site;
use cadentis_core::visitor::filed::PERSONAL;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use jiff_sqlx::ToSqlx;
use sqlx::AssertSqlSafe;

/// Rows of page views are kept for so many days after theirs: a beacon comes at most two days late.
pub const ROWS_DAYS: i64 = 4;
/// Days of runs and evidence that are empty leave when they are so many days over: a record comes at most two days late.
const EMPTY_DAYS: i64 = 10;
/// Rows that leave in one statement.
const PIECE: i64 = 2_000;
/// A clock that is so far from where it was last seen has jumped, or nobody has looked for as long.
const JUMP: SignedDuration = SignedDuration::from_hours(48);
/// A clock that goes back by more than this is wrong, or was.
const BACK: SignedDuration = SignedDuration::from_hours(1);
/// After a jump nothing leaves for so long: time to notice and to set the clock right.
const WARY: SignedDuration = SignedDuration::from_hours(24);

/// Tables that only ever grew, and when a row of each leaves.
const ENDS: [&str; 17] = [
    "DELETE FROM alert_evaluation WHERE ctid = ANY (ARRAY(SELECT ctid FROM alert_evaluation WHERE at < $1 - interval '35 days' LIMIT $2))",
    "DELETE FROM work WHERE ctid = ANY (ARRAY(SELECT ctid FROM work WHERE dropped AND due_at < $1 - interval '2 days' LIMIT $2))",
    "DELETE FROM first_try WHERE ctid = ANY (ARRAY(SELECT f.ctid FROM first_try f JOIN site s ON s.id = f.site_id
       WHERE f.due_at < $1 - greatest(s.keep_days, s.keep_failed_days) * interval '1 day' LIMIT $2))",
    "DELETE FROM refused WHERE ctid = ANY (ARRAY(SELECT ctid FROM refused WHERE hour < $1 - interval '400 days' LIMIT $2))",
    "DELETE FROM task WHERE ctid = ANY (ARRAY(SELECT ctid FROM task WHERE ended_at < $1 - interval '90 days' LIMIT $2))",
    "DELETE FROM runner WHERE ctid = ANY (ARRAY(SELECT ctid FROM runner WHERE seen_at < $1 - interval '30 days' LIMIT $2))",
    "DELETE FROM session WHERE ctid = ANY (ARRAY(SELECT ctid FROM session WHERE seen_at < $1 - interval '14 days' LIMIT $2))",
    "DELETE FROM door_link WHERE ctid = ANY (ARRAY(SELECT ctid FROM door_link WHERE ends_at < $1 LIMIT $2))",
    "DELETE FROM sign_in_try WHERE ctid = ANY (ARRAY(SELECT ctid FROM sign_in_try WHERE last_at < $1 - interval '1 day' LIMIT $2))",
    "DELETE FROM api_token WHERE ctid = ANY (ARRAY(SELECT ctid FROM api_token WHERE ends_at < $1 - interval '90 days' LIMIT $2))",
    "DELETE FROM audit WHERE ctid = ANY (ARRAY(SELECT ctid FROM audit WHERE at < $1 - interval '400 days' LIMIT $2))",
    "DELETE FROM marker WHERE ctid = ANY (ARRAY(SELECT ctid FROM marker WHERE removed_at < $1 - interval '30 days' LIMIT $2))",
    "DELETE FROM saved_view WHERE ctid = ANY (ARRAY(SELECT ctid FROM saved_view WHERE removed_at < $1 - interval '30 days' LIMIT $2))",
    "DELETE FROM dependency_state WHERE ctid = ANY (ARRAY(SELECT ctid FROM dependency_state WHERE expires_at < $1 - interval '400 days' LIMIT $2))",
    "DELETE FROM event_taken WHERE ctid = ANY (ARRAY(SELECT ctid FROM event_taken WHERE at < $1 - interval '30 days' LIMIT $2))",
    "DELETE FROM trial WHERE ctid = ANY (ARRAY(SELECT ctid FROM trial WHERE asked_at < $1 - interval '1 day' LIMIT $2))",
    "WITH gone AS (DELETE FROM recording WHERE ctid = ANY (ARRAY(SELECT ctid FROM recording WHERE asked_at < $1 - interval '1 day' LIMIT $2)) RETURNING id),
       pictures AS (DELETE FROM recording_picture p USING gone WHERE p.recording_id = gone.id)
     DELETE FROM recording_input i USING gone WHERE i.recording_id = gone.id",
];

/// What left.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Forgotten {
    /// Pieces of evidence of runs.
    pub evidence: u64,
    /// Days of rows, of page views and of runs.
    pub days: u64,
    /// Columns that told of people.
    pub columns: u64,
}

impl Db {
    /// Takes note of the clock and says whether it is believed: it goes on from where it was, or has done so for a day.
    pub async fn beat(&self, now: Timestamp) -> Result<bool> {
        let earliest = (now - JUMP).to_sqlx();
        let latest = (now + BACK).to_sqlx();
        let steady: bool = sqlx::query_scalar(
            "INSERT INTO heartbeat AS h (one, seen_at, steady_since) VALUES (true, $1, '-infinity')
             ON CONFLICT (one) DO UPDATE SET seen_at = $1,
               steady_since = CASE WHEN h.seen_at < $2 OR h.seen_at > $3 THEN $1 ELSE h.steady_since END
             RETURNING steady_since <= $4",
        )
        .bind(now.to_sqlx())
        .bind(earliest)
        .bind(latest)
        .bind((now - WARY).to_sqlx())
        .fetch_one(&self.lane)
        .await?;
        Ok(steady)
    }

    /// Lets everything leave whose time is over at `now`, which is to be the database's own clock, and believed.
    pub async fn forget(&self, now: Timestamp) -> Result<Forgotten> {
        let mut forgotten = Forgotten::default();
        let sites = self.sites().await?;
        for site in &sites {
            forgotten.evidence += self.forget_evidence(site, now).await?;
        }
        for sql in ENDS {
            while self.delete_piece(sql, now).await? {}
        }
        forgotten.columns = self.forget_people(now).await?;
        forgotten.days = self.drop_filed_days(now).await? + self.drop_empty_days(now).await?;
        Ok(forgotten)
    }

    /// Whether there may be more of it.
    async fn delete_piece(&self, sql: &'static str, now: Timestamp) -> Result<bool> {
        let gone = sqlx::query(sql).bind(now.to_sqlx()).bind(PIECE).execute(&self.lane).await?;
        Ok(gone.rows_affected() >= PIECE as u64)
    }

    /// The days of a table that are over for so many days, oldest first: the name of each part.
    async fn parts_before(
        &self,
        table: &str,
        now: Timestamp,
        days: i64,
    ) -> Result<Vec<(String, Date)>> {
        let before = now - SignedDuration::from_hours(24 * days);
        let names: Vec<String> = sqlx::query_scalar(
            "SELECT c.relname::text FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid
             WHERE i.inhparent = $1::regclass ORDER BY 1",
        )
        .bind(table)
        .fetch_all(&self.lane)
        .await?;
        let part = |name: String| {
            let date =
                Date::strptime("%Y%m%d", name.strip_prefix(table)?.strip_prefix('_')?).ok()?;
            let end = date.tomorrow().ok()?.to_zoned(TimeZone::UTC).ok()?.timestamp();
            (end <= before).then_some((name, date))
        };
        Ok(names.into_iter().filter_map(part).collect())
    }

    /// Evidence of a site whose time is over: of runs that failed later than of others.
    async fn forget_evidence(&self, site: &Site, now: Timestamp) -> Result<u64> {
        let before = |days: i32| (now - SignedDuration::from_hours(24 * i64::from(days))).to_sqlx();
        let (keep, keep_failed) =
            (before(site.keep_days), before(site.keep_failed_days.max(site.keep_days)));
        let mut gone = 0;
        for table in ["run_record", "picture"] {
            // The day in which the time ends is read, too: part of it is over.
            for (part, _) in self.parts_before(table, now, i64::from(site.keep_days) - 1).await? {
                let sql = format!(
                    "DELETE FROM \"{part}\" WHERE ctid = ANY (ARRAY(
                       SELECT e.ctid FROM \"{part}\" e WHERE e.site_id = $1 AND e.due_at < $2
                         AND (e.due_at < $3
                           OR NOT EXISTS (SELECT FROM run r WHERE r.site_id = $1 AND r.due_at = e.due_at AND r.id = e.run_id AND r.outcome = 2)
                          AND NOT EXISTS (SELECT FROM first_try f WHERE f.site_id = $1 AND f.due_at = e.due_at AND f.id = e.run_id))
                       LIMIT $4))"
                );
                loop {
                    // The name came from the catalogue and is one of ours.
                    let piece = sqlx::query(AssertSqlSafe(sql.clone()))
                        .bind(site.id)
                        .bind(keep)
                        .bind(keep_failed)
                        .bind(PIECE)
                        .execute(&self.lane)
                        .await?
                        .rows_affected();
                    gone += piece;
                    if piece < PIECE as u64 {
                        break;
                    }
                }
            }
        }
        Ok(gone)
    }

    /// Columns that tell of people, hours whose time is over.
    async fn forget_people(&self, now: Timestamp) -> Result<u64> {
        let mut columns = 0;
        loop {
            let gone = sqlx::query(
                "DELETE FROM sheet WHERE ctid = ANY (ARRAY(
                   SELECT h.ctid FROM sheet h JOIN site s ON s.id = h.site_id
                   WHERE h.name = ANY($2) AND h.hour < $1 - s.keep_people_days * interval '1 day' LIMIT $3))",
            )
            .bind(now.to_sqlx())
            .bind(PERSONAL.map(String::from).to_vec())
            .bind(PIECE)
            .execute(&self.lane)
            .await?
            .rows_affected();
            columns += gone;
            if gone < PIECE as u64 {
                return Ok(columns);
            }
        }
    }

    /// Days of rows of page views that are long over, and filed.
    async fn drop_filed_days(&self, now: Timestamp) -> Result<u64> {
        let mut days = 0;
        for (part, date) in self.parts_before("page_view", now, ROWS_DAYS).await? {
            let Ok(begin) = date.to_zoned(TimeZone::UTC) else { continue };
            let end = begin.timestamp() + SignedDuration::from_hours(24);
            let waits: bool = sqlx::query_scalar(
                "SELECT EXISTS (SELECT FROM dirty_hour WHERE hour >= $1 AND hour < $2)",
            )
            .bind(begin.timestamp().to_sqlx())
            .bind(end.to_sqlx())
            .fetch_one(&self.lane)
            .await?;
            days += u64::from(!waits && self.drop_part(&part).await?);
        }
        Ok(days)
    }

    /// Days of runs and their evidence in which nothing is left.
    async fn drop_empty_days(&self, now: Timestamp) -> Result<u64> {
        let mut days = 0;
        for table in BY_DAY.into_iter().filter(|t| *t != "page_view") {
            for (part, _) in self.parts_before(table, now, EMPTY_DAYS).await? {
                let sql = AssertSqlSafe(format!("SELECT EXISTS (SELECT FROM \"{part}\")"));
                let used: bool = sqlx::query_scalar(sql).fetch_one(&self.lane).await?;
                days += u64::from(!used && self.drop_part(&part).await?);
            }
        }
        Ok(days)
    }

    /// Drops a day, unless somebody reads the table for so long that everybody else would have to wait behind us.
    async fn drop_part(&self, part: &str) -> Result<bool> {
        let mut tx = self.lane.begin().await?;
        sqlx::query("SET LOCAL lock_timeout = '2s'").execute(&mut *tx).await?;
        let dropped =
            sqlx::query(AssertSqlSafe(format!("DROP TABLE \"{part}\""))).execute(&mut *tx).await;
        match dropped {
            Ok(_) => {
                tx.commit().await?;
                Ok(true)
            }
            // SQLSTATE 55P03, lock not available: next time.
            Err(sqlx::Error::Database(e)) if e.code().as_deref() == Some("55P03") => Ok(false),
            Err(e) => Err(e.into()),
        }
    }
}
