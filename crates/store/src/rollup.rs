//! Cells: hours of page views by one attribute, rebuilt from raw rows whenever they change.
//!
//! Writing page views marks their hour. A rebuild replaces all cells of the hour and takes the mark
//! away in one transaction, so it can be repeated and late page views are never counted twice.

use crate::db::{Db, Result, content};
use crate::views::{Attribute, groups};
use cadentis_core::calendar::Stretch;
use cadentis_core::timing::Vital;
use cadentis_core::visitor::{Cell, Rated};
use jiff::{SignedDuration, Timestamp};
use jiff_sqlx::ToSqlx;
use sqlx::Row;

/// The cell of one hour and one value of an attribute.
#[derive(Debug, Clone)]
pub struct HourCell {
    pub hour: Timestamp,
    pub value: String,
    pub cell: Cell,
}

impl Db {
    /// Rebuilds one marked hour; `false` when none is marked.
    pub async fn roll_up_one(&self) -> Result<bool> {
        let mut tx = self.pool.begin().await?;
        let row: Option<(i32, jiff_sqlx::Timestamp)> =
            sqlx::query_as("SELECT site_id, hour FROM dirty_hour ORDER BY marked_at LIMIT 1 FOR UPDATE SKIP LOCKED")
                .fetch_optional(&mut *tx)
                .await?;
        let Some((site_id, hour)) = row else { return Ok(false) };
        let from = hour.to_jiff();
        let stretch = Stretch { from, to: from + SignedDuration::from_hours(1) };
        sqlx::query("DELETE FROM page_view_hour WHERE site_id = $1 AND hour = $2")
            .bind(site_id)
            .bind(hour)
            .execute(&mut *tx)
            .await?;
        for attribute in Attribute::ALL {
            for g in groups(&mut tx, site_id, stretch, 3600, Some(attribute), &Vital::ALL).await? {
                let mut bytes = Vital::ALL.into_iter().zip(&g.vitals).map(|(vital, values)| {
                    let mut rated = Rated::default();
                    values.iter().for_each(|v| rated.add(vital, f64::from(*v)));
                    rated.to_bytes()
                });
                let mut next = || bytes.next().unwrap_or_default();
                sqlx::query(
                    "INSERT INTO page_view_hour VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13)",
                )
                .bind(site_id)
                .bind(attribute.column())
                .bind(hour)
                .bind(&g.value)
                .bind(g.page_views as i64)
                .bind(g.abandoned as i64)
                .bind(g.blank as i64)
                .bind(g.with_errors as i64)
                .bind(next())
                .bind(next())
                .bind(next())
                .bind(next())
                .bind(next())
                .execute(&mut *tx)
                .await?;
            }
        }
        sqlx::query("DELETE FROM dirty_hour WHERE site_id = $1 AND hour = $2")
            .bind(site_id)
            .bind(hour)
            .execute(&mut *tx)
            .await?;
        tx.commit().await?;
        Ok(true)
    }

    /// Cells by one attribute of all whole hours that begin in the stretch.
    pub async fn cells(
        &self,
        site_id: i32,
        stretch: Stretch,
        by: Attribute,
        vitals: &[Vital],
    ) -> Result<Vec<HourCell>> {
        // A sketch that nobody asked for is not read.
        let lists: String = Vital::ALL
            .into_iter()
            .map(|v| {
                let column = v.name().to_lowercase();
                if vitals.contains(&v) { format!(", {column}") } else { format!(", NULL::bytea AS {column}") }
            })
            .collect();
        let sql = format!(
            "SELECT hour, value, page_views, abandoned, blank, with_errors {lists} FROM page_view_hour
             WHERE site_id = $1 AND attribute = $2 AND hour >= $3 AND hour < $4 ORDER BY hour, value"
        );
        let rows = sqlx::query(sqlx::AssertSqlSafe(sql))
            .bind(site_id)
            .bind(by.column())
            .bind(stretch.from.to_sqlx())
            .bind(stretch.to.to_sqlx())
            .fetch_all(&self.pool)
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
                    if let Some(bytes) = r.try_get::<Option<&[u8]>, _>(vital.name().to_lowercase().as_str())? {
                        *rated = Rated::from_bytes(bytes).map_err(|e| content("page_view_hour", e))?;
                    }
                }
                Ok(HourCell {
                    hour: r.try_get::<jiff_sqlx::Timestamp, _>("hour")?.to_jiff(),
                    value: r.try_get("value")?,
                    cell,
                })
            })
            .collect()
    }

    /// Page views by hour, for the time strip.
    pub async fn page_view_hours(&self, site_id: i32, stretch: Stretch) -> Result<Vec<(Timestamp, u64)>> {
        let rows: Vec<(jiff_sqlx::Timestamp, i64)> = sqlx::query_as(
            "SELECT hour, sum(page_views)::bigint FROM page_view_hour
             WHERE site_id = $1 AND attribute = 'device' AND hour >= $2 AND hour < $3 GROUP BY 1 ORDER BY 1",
        )
        .bind(site_id)
        .bind(stretch.from.to_sqlx())
        .bind(stretch.to.to_sqlx())
        .fetch_all(&self.pool)
        .await?;
        Ok(rows.into_iter().map(|(hour, n)| (hour.to_jiff(), n.unsigned_abs())).collect())
    }
}
