//! The connection pool, migrations, partitions by day, and whether all is well.

use crate::lane::Lane;
use cadentis_compute::{Compute, ComputeError};
use jiff::{Timestamp, ToSpan, tz::TimeZone};
use jiff_sqlx::ToSqlx;
use sqlx::AssertSqlSafe;
use sqlx::postgres::{PgConnectOptions, PgPoolOptions};
use std::str::FromStr;
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::{Semaphore, SemaphorePermit};

/// What can go wrong between us and the database.
#[derive(Debug, thiserror::Error)]
#[expect(missing_docs, reason = "each says what it is when it is told")]
pub enum StoreError {
    #[error("database: {0}")]
    Database(#[from] sqlx::Error),
    #[error("database migration: {0}")]
    Migration(#[from] sqlx::migrate::MigrateError),
    #[error(transparent)]
    Compute(#[from] ComputeError),
    #[error("in the database, {place}: {says}")]
    Content { place: &'static str, says: String },
}

impl StoreError {
    /// Whether a text was asked about that no name can be: it has a NUL in it (SQLSTATE 22021).
    pub fn is_no_text(&self) -> bool {
        matches!(self, StoreError::Database(sqlx::Error::Database(e)) if e.code().as_deref() == Some("22021"))
    }

    /// Whether the same statement will never be taken, however often it is tried: what it holds is no text, number or row
    /// that can be stored (SQLSTATE classes 22, data exception, and 23, integrity constraint violation).
    pub fn is_permanent(&self) -> bool {
        match self {
            StoreError::Database(sqlx::Error::Database(e)) => {
                e.code().is_some_and(|code| code.starts_with("22") || code.starts_with("23"))
            }
            StoreError::Content { .. } => true,
            _ => false,
        }
    }
}

/// What the store gives.
pub type Result<T> = std::result::Result<T, StoreError>;

pub(crate) fn content(place: &'static str, says: impl ToString) -> StoreError {
    StoreError::Content { place, says: says.to_string() }
}

/// A handle on the database, as cheap to clone as its pool.
#[derive(Clone)]
pub struct Db {
    pub(crate) lane: Lane,
    pub(crate) sheets: Arc<crate::run_day::Cache>,
    pub(crate) to_goals: Arc<crate::run_day::Taking<crate::run_day::ToGoals>>,
    pub(crate) columns: Arc<crate::columns::Cache>,
    pub(crate) other_ids: crate::sheet::OtherIds,
    pub(crate) fresh: Arc<crate::fresh::Fresh>,
    spare: Arc<Semaphore>,
    /// Where what was read is unpacked; without it on threads of the runtime.
    compute: Option<Compute>,
}

/// Writers that wait; see [`Db::hold_writers`].
pub struct Held(sqlx::Transaction<'static, sqlx::Postgres>);

impl Held {
    /// Lets go of it.
    pub async fn release(self) -> Result<()> {
        Ok(self.0.rollback().await?)
    }
}

/// The hot tables, each cut into days of UTC.
pub(crate) const BY_DAY: [&str; 4] = ["run", "run_record", "picture", "page_view"];

/// Connections of a pool, when nothing is said.
const CONNECTIONS: u32 = 12;

impl Db {
    /// Connects lazily: a database that is away makes each query an error, not the start.
    ///
    /// # Errors
    /// When the address cannot be read.
    pub fn connect(url: &str) -> Result<Db> {
        Db::connect_with(url, CONNECTIONS)
    }

    /// The same with at most so many connections: whoever has its own waits for nobody else's questions.
    ///
    /// # Errors
    /// When the address cannot be read.
    pub fn connect_with(url: &str, connections: u32) -> Result<Db> {
        let options = PgConnectOptions::from_str(url)?
            .options([("statement_timeout", "30s"), ("timezone", "UTC")]);
        let pool = PgPoolOptions::new()
            .max_connections(connections)
            .acquire_timeout(Duration::from_secs(3))
            .connect_lazy_with(options);
        Ok(Db {
            lane: Lane::any(pool),
            sheets: crate::run_day::cache(),
            to_goals: crate::run_day::to_goals(),
            columns: crate::columns::cache(),
            other_ids: crate::sheet::OtherIds::new(),
            fresh: crate::fresh::Fresh::new(),
            spare: Arc::new(Semaphore::new(connections as usize / 3)),
            compute: None,
        })
    }

    /// The same that unpacks and files what it reads on this pool.
    pub fn with_compute(self, compute: Compute) -> Db {
        Db { compute: Some(compute), ..self }
    }

    /// Leave to read over one more connection than the first, while there are any that others do not need: what is read
    /// in parts at a time is quick where nobody else asks, and keeps nobody waiting where many do.
    pub fn spare(&self) -> Option<SemaphorePermit<'_>> {
        self.spare.try_acquire().ok()
    }

    /// The same on another lane.
    pub(crate) fn on(&self, lane: Lane) -> Db {
        Db { lane, ..self.clone() }
    }

    /// Does what takes a processor a while where nobody who answers is kept waiting by it.
    pub(crate) async fn heavily<T: Send + 'static>(
        &self,
        work: impl FnOnce() -> T + Send + 'static,
    ) -> Result<T> {
        match &self.compute {
            Some(compute) => Ok(compute.run(work).await?),
            None => tokio::task::spawn_blocking(work).await.map_err(|e| content("sheet", e)),
        }
    }

    /// Every row of every table as text: for tests that look for what may not be there.
    pub async fn text_of_every_table(&self) -> Result<Vec<String>> {
        let sql = "SELECT table_name::text FROM information_schema.tables
                   WHERE table_schema = 'public' AND table_type = 'BASE TABLE'";
        let tables: Vec<String> = sqlx::query_scalar(sql).fetch_all(&self.lane).await?;
        let mut all = Vec::new();
        for table in tables {
            let rows = AssertSqlSafe(format!("SELECT t::text FROM \"{table}\" t"));
            let rows: Vec<String> = sqlx::query_scalar(rows).fetch_all(&self.lane).await?;
            all.extend(rows);
        }
        Ok(all)
    }

    /// Brings the tables up to date. Several servers may do so at once.
    pub async fn migrate(&self) -> Result<()> {
        sqlx::migrate!("./migrations").run(self.lane.pool()).await?;
        Ok(())
    }

    /// Makes the partitions of every hot table for each day from `first` to `last`.
    pub async fn ensure_days(&self, first: Timestamp, last: Timestamp) -> Result<()> {
        let date = |at: Timestamp| at.to_zoned(TimeZone::UTC).date();
        let (mut day, last) = (date(first), date(last));
        let mut tx = self.lane.begin().await?;
        // Two servers must not make the same partition at the same time.
        sqlx::query("SELECT pg_advisory_xact_lock(704200)").execute(&mut *tx).await?;
        while day <= last {
            let next = day.tomorrow().map_err(|e| content("day", e))?;
            for table in BY_DAY {
                let sql = format!(
                    "CREATE TABLE IF NOT EXISTS {table}_{} PARTITION OF {table} FOR VALUES FROM ('{day} 00:00Z') TO ('{next} 00:00Z')",
                    day.strftime("%Y%m%d")
                );
                // Made of our own table names and a date only.
                sqlx::query(AssertSqlSafe(sql)).execute(&mut *tx).await?;
            }
            day = next;
        }
        tx.commit().await?;
        Ok(())
    }

    /// Partitions for three days back (late beacons) and two ahead.
    pub async fn ensure_days_around(&self, now: Timestamp) -> Result<()> {
        let (first, last) = (now - 72.hours(), now + 48.hours());
        self.ensure_days(first, last).await
    }

    /// The database's clock: the one that all servers share.
    pub async fn now(&self) -> Result<Timestamp> {
        let now: jiff_sqlx::Timestamp =
            sqlx::query_scalar("SELECT now()").fetch_one(&self.lane).await?;
        Ok(now.to_jiff())
    }

    /// How many days (tables of their own) each hot table has.
    pub async fn days_held(&self) -> Result<Vec<(String, i64)>> {
        let sql = "SELECT i.inhparent::regclass::text, count(*) FROM pg_inherits i
                   WHERE i.inhparent::regclass::text = ANY ($1) GROUP BY 1 ORDER BY 1";
        Ok(sqlx::query_as(sql)
            .bind(BY_DAY.map(String::from).to_vec())
            .fetch_all(&self.lane)
            .await?)
    }

    /// Connections that are open, and how many of them nobody uses.
    pub fn connections(&self) -> (u32, u32) {
        (self.lane.pool().size(), u32::try_from(self.lane.pool().num_idle()).unwrap_or(u32::MAX))
    }

    /// Whether the database answers.
    pub async fn ping(&self) -> Result<()> {
        sqlx::query("SELECT 1").execute(&self.lane).await?;
        Ok(())
    }

    /// Each location with the moment its last run was due, or `None` if it never played.
    pub async fn last_runs(&self, now: Timestamp) -> Result<Vec<(String, Option<Timestamp>)>> {
        let rows: Vec<(String, Option<jiff_sqlx::Timestamp>)> = sqlx::query_as(
            "SELECT l.name, (SELECT max(r.due_at) FROM run r JOIN journey_location jl
                 ON jl.journey_id = r.journey_id AND jl.location_id = r.location_id
               WHERE r.location_id = l.id AND r.due_at > $1)
             FROM location l ORDER BY l.id",
        )
        .bind((now - 48.hours()).to_sqlx())
        .fetch_all(&self.lane)
        .await?;
        Ok(rows.into_iter().map(|(name, at)| (name, at.map(|t| t.to_jiff()))).collect())
    }

    /// Lets nobody write page views until it is released: for tests of what happens then.
    pub async fn hold_writers(&self) -> Result<Held> {
        let mut tx = self.lane.whole("BEGIN").await?;
        sqlx::query("LOCK TABLE dirty_hour IN EXCLUSIVE MODE").execute(&mut *tx).await?;
        Ok(Held(tx))
    }

    /// Closes every connection.
    pub async fn close(&self) {
        self.lane.pool().close().await;
    }
}
