//! Cells: hours of page views by one attribute, rebuilt from raw rows whenever they change.
//!
//! Writing page views marks their hour. A rebuild replaces all cells of the hour and takes the mark
//! away in one transaction, so it can be repeated and late page views are never counted twice. Days are made of
//! their hours when they are first read.

use crate::db::{Db, Result, content};
use crate::run_day::{DAY_S, begin_of, day_of};
use cadentis_core::calendar::Stretch;
use cadentis_core::timing::Vital;
use cadentis_core::visitor::slices::{Selection, capped, pools};
use cadentis_core::visitor::{Attribute, Cell, Filter, PageView, Rated, Sheet};
use jiff::{SignedDuration, Timestamp};
use jiff_sqlx::ToSqlx;
use rand::seq::IndexedRandom;
use sqlx::{PgConnection, Row};
use std::collections::{BTreeMap, HashSet};

/// What a roll-up came to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum RolledUp {
    /// No hour was marked.
    Nothing,
    /// By the hour.
    Hour,
    /// An hour that page views came into meanwhile: it is marked anew.
    StillComing,
}

/// An hour has at most so many cells by one attribute.
const MOST_VALUES: usize = 200;

/// The cell of one hour and one value of an attribute.
#[derive(Debug, Clone)]
pub struct HourCell {
    /// Which attribute: its place among those that were asked for.
    pub by: usize,
    /// The hour.
    pub hour: Timestamp,
    /// The attribute's value.
    pub value: String,
    /// What was counted.
    pub cell: Cell,
}

impl Db {
    /// Rebuilds one marked hour.
    ///
    /// Whoever writes page views meanwhile is not held up: the mark is looked at and not locked, and taken away only if
    /// it is still the one that was seen before the rows were read.
    pub async fn roll_up_one(&self) -> Result<RolledUp> {
        self.fresh.sweep();
        // One of the oldest: two servers seldom choose the same.
        let marked: Vec<(i32, jiff_sqlx::Timestamp)> =
            sqlx::query_as("SELECT site_id, hour FROM dirty_hour ORDER BY marked_at LIMIT 8")
                .fetch_all(&self.lane)
                .await?;
        let Some((site_id, hour)) = marked.choose(&mut rand::rng()).copied() else {
            return Ok(RolledUp::Nothing);
        };
        let from = hour.to_jiff();
        let mut tx = self.lane.begin().await?;
        lock_day(&mut tx, site_id, day_of(from)).await?;
        let seen: Option<jiff_sqlx::Timestamp> =
            sqlx::query_scalar("SELECT marked_at FROM dirty_hour WHERE site_id = $1 AND hour = $2")
                .bind(site_id)
                .bind(hour)
                .fetch_optional(&mut *tx)
                .await?;
        // Another server was quicker.
        let Some(seen) = seen else { return Ok(RolledUp::Hour) };
        sqlx::query("DELETE FROM page_view_day WHERE site_id = $1 AND hour = $2")
            .bind(site_id)
            .bind(begin_of(day_of(from)).to_sqlx())
            .execute(&mut *tx)
            .await?;
        if let Some(sheet) = self.file_hour(&mut tx, site_id, from).await? {
            put_cells(&mut tx, site_id, from, &sheet).await?;
        }
        let taken = sqlx::query(
            "DELETE FROM dirty_hour WHERE site_id = $1 AND hour = $2 AND marked_at = $3",
        )
        .bind(site_id)
        .bind(hour)
        .bind(seen)
        .execute(&mut *tx)
        .await?;
        tx.commit().await?;
        Ok(if taken.rows_affected() == 0 { RolledUp::StillComing } else { RolledUp::Hour })
    }

    /// Files and rolls up an hour of history at once, without rows: for demos, tests and benchmarks. The page views are
    /// all that there are of it, in order of time.
    pub async fn file_history(
        &self,
        site_id: i32,
        hour: Timestamp,
        views: &[PageView],
    ) -> Result<()> {
        let mut tx = self.lane.begin().await?;
        let sheet = self.put_views(&mut tx, site_id, hour, views).await?;
        put_cells(&mut tx, site_id, hour, &sheet).await?;
        tx.commit().await?;
        Ok(())
    }

    /// Cells by these attributes of all whole hours that begin in the stretch.
    pub async fn cells(
        &self,
        site_id: i32,
        stretch: Stretch,
        by: &[Attribute],
        vitals: &[Vital],
    ) -> Result<Vec<HourCell>> {
        cells_of(&self.lane, "page_view_hour", site_id, stretch, by, vitals).await
    }

    /// The same with hours of whole days (UTC) in one, for buckets that no day is cut by.
    pub async fn cells_by_day(
        &self,
        site_id: i32,
        stretch: Stretch,
        by: &[Attribute],
        vitals: &[Vital],
    ) -> Result<Vec<HourCell>> {
        let first = day_of(stretch.from + SignedDuration::from_secs(DAY_S - 1));
        let today: i64 =
            sqlx::query_scalar("SELECT floor(extract(epoch FROM now()) / 86400)::bigint")
                .fetch_one(&self.lane)
                .await?;
        let end = day_of(stretch.to).min(today);
        if end <= first {
            return self.cells(site_id, stretch, by, vitals).await;
        }
        let (early, late) = (
            Stretch { from: stretch.from, to: begin_of(first) },
            Stretch { from: begin_of(end), to: stretch.to },
        );
        let days = Stretch { from: begin_of(first), to: begin_of(end) };
        let (mut all, late, kept) = futures::try_join!(
            self.cells(site_id, early, by, vitals),
            self.cells(site_id, late, by, vitals),
            cells_of(&self.lane, "page_view_day", site_id, days, by, vitals),
        )?;
        let there: HashSet<(usize, i64)> = kept.iter().map(|c| (c.by, day_of(c.hour))).collect();
        all.extend(kept);
        for (nth, attribute) in by.iter().enumerate() {
            for day in (first..end).filter(|d| !there.contains(&(nth, *d))) {
                let made = self.make_day(site_id, day, attribute).await?;
                all.extend(made.into_iter().map(|cell| HourCell { by: nth, ..cell }));
            }
        }
        all.extend(late);
        Ok(all)
    }

    /// Puts the hours of a day in one and keeps it, unless one of them is about to be rebuilt.
    async fn make_day(&self, site_id: i32, day: i64, by: &Attribute) -> Result<Vec<HourCell>> {
        let mut tx = self.lane.begin().await?;
        lock_day(&mut tx, site_id, day).await?;
        let whole = Stretch { from: begin_of(day), to: begin_of(day + 1) };
        let mut values: BTreeMap<String, Cell> = BTreeMap::new();
        let by_it = std::slice::from_ref(by);
        for hour in cells_of(&mut *tx, "page_view_hour", site_id, whole, by_it, &Vital::ALL).await?
        {
            values.entry(hour.value).or_default().merge(&hour.cell);
        }
        let made: Vec<HourCell> = values
            .into_iter()
            .map(|(value, cell)| HourCell { by: 0, hour: whole.from, value, cell })
            .collect();
        let sql = "SELECT EXISTS (SELECT FROM dirty_hour WHERE site_id = $1 AND hour >= $2 AND hour < $3)";
        let changes: bool = sqlx::query_scalar(sql)
            .bind(site_id)
            .bind(whole.from.to_sqlx())
            .bind(whole.to.to_sqlx())
            .fetch_one(&mut *tx)
            .await?;
        if !changes {
            // Another reader may have made it just before.
            let sql =
                "DELETE FROM page_view_day WHERE site_id = $1 AND attribute = $2 AND hour = $3";
            let gone = sqlx::query(sql).bind(site_id).bind(by.name()).bind(whole.from.to_sqlx());
            gone.execute(&mut *tx).await?;
            for cell in &made {
                put_cell(&mut tx, "page_view_day", site_id, by, cell).await?;
            }
        }
        tx.commit().await?;
        Ok(made)
    }

    /// Page views by hour, for the time strip.
    pub async fn page_view_hours(
        &self,
        site_id: i32,
        stretch: Stretch,
    ) -> Result<Vec<(Timestamp, u64)>> {
        let rows: Vec<(jiff_sqlx::Timestamp, i64)> = sqlx::query_as(
            "SELECT hour, sum(page_views)::bigint FROM page_view_hour
             WHERE site_id = $1 AND attribute = 'device' AND hour >= $2 AND hour < $3 GROUP BY 1 ORDER BY 1",
        )
        .bind(site_id)
        .bind(stretch.from.to_sqlx())
        .bind(stretch.to.to_sqlx())
        .fetch_all(&self.lane)
        .await?;
        Ok(rows.into_iter().map(|(hour, n)| (hour.to_jiff(), n.unsigned_abs())).collect())
    }
}

/// Nobody makes a day while one of its hours is rebuilt. Days of runs are locked by their journey; sites have numbers
/// below zero here.
pub(crate) async fn lock_day(tx: &mut PgConnection, site_id: i32, day: i64) -> Result<()> {
    let day = i32::try_from(day).unwrap_or(0);
    sqlx::query("SELECT pg_advisory_xact_lock($1, $2)")
        .bind(-site_id)
        .bind(day)
        .execute(tx)
        .await?;
    Ok(())
}

/// Replaces the cells of an hour.
pub(crate) async fn put_cells(
    tx: &mut PgConnection,
    site_id: i32,
    hour: Timestamp,
    sheet: &Sheet,
) -> Result<()> {
    sqlx::query("DELETE FROM page_view_hour WHERE site_id = $1 AND hour = $2")
        .bind(site_id)
        .bind(hour.to_sqlx())
        .execute(&mut *tx)
        .await?;
    let everything = Filter::default();
    let stretch = Stretch { from: hour, to: hour + SignedDuration::from_hours(1) };
    for attribute in Attribute::ROLLED {
        let wanted = Selection {
            stretch,
            filter: &everything,
            bucket_s: 3_600,
            by: Some(&attribute),
            vitals: &Vital::ALL,
            exact: false,
        };
        for (_, value, pool) in capped(pools(sheet, &wanted), MOST_VALUES) {
            let cell = HourCell { by: 0, hour, value, cell: pool.cell() };
            put_cell(tx, "page_view_hour", site_id, &attribute, &cell).await?;
        }
    }
    Ok(())
}

async fn put_cell(
    tx: &mut PgConnection,
    table: &str,
    site_id: i32,
    by: &Attribute,
    HourCell { hour, value, cell, .. }: &HourCell,
) -> Result<()> {
    let sql = format!(
        "INSERT INTO {table} VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13)"
    );
    let row = sqlx::query(sqlx::AssertSqlSafe(sql))
        .bind(site_id)
        .bind(by.name())
        .bind(hour.to_sqlx())
        .bind(value)
        .bind(cell.page_views as i64)
        .bind(cell.abandoned as i64)
        .bind(cell.blank as i64)
        .bind(cell.with_errors as i64);
    cell.vitals.iter().fold(row, |row, rated| row.bind(rated.to_bytes())).execute(tx).await?;
    Ok(())
}

async fn cells_of<'e>(
    from: impl sqlx::PgExecutor<'e>,
    table: &str,
    site_id: i32,
    stretch: Stretch,
    by: &[Attribute],
    vitals: &[Vital],
) -> Result<Vec<HourCell>> {
    // A sketch that nobody asked for is not read.
    let lists: String = Vital::ALL
        .into_iter()
        .map(|v| {
            let column = v.name().to_lowercase();
            if vitals.contains(&v) {
                format!(", {column}")
            } else {
                format!(", NULL::bytea AS {column}")
            }
        })
        .collect();
    let sql = format!(
        "SELECT attribute, hour, value, page_views, abandoned, blank, with_errors {lists} FROM {table}
             WHERE site_id = $1 AND attribute = ANY($2) AND hour >= $3 AND hour < $4 ORDER BY attribute, hour, value"
    );
    let names: Vec<String> = by.iter().map(|a| a.name().to_string()).collect();
    let rows = sqlx::query(sqlx::AssertSqlSafe(sql))
        .bind(site_id)
        .bind(&names)
        .bind(stretch.from.to_sqlx())
        .bind(stretch.to.to_sqlx())
        .fetch_all(from)
        .await?;
    rows.iter()
        .map(|r| {
            let count = |name: &str| r.try_get::<i64, _>(name).map(i64::unsigned_abs);
            let mut cell = Cell {
                page_views: count("page_views")?,
                abandoned: count("abandoned")?,
                blank: count("blank")?,
                with_errors: count("with_errors")?,
                ..Cell::default()
            };
            for (vital, rated) in Vital::ALL.into_iter().zip(&mut cell.vitals) {
                if let Some(bytes) =
                    r.try_get::<Option<&[u8]>, _>(vital.name().to_lowercase().as_str())?
                {
                    *rated = Rated::from_bytes(bytes).map_err(|e| content("page_view_hour", e))?;
                }
            }
            let attribute: &str = r.try_get("attribute")?;
            Ok(HourCell {
                by: names.iter().position(|name| name == attribute).unwrap_or(0),
                hour: r.try_get::<jiff_sqlx::Timestamp, _>("hour")?.to_jiff(),
                value: r.try_get("value")?,
                cell,
            })
        })
        .collect()
}
