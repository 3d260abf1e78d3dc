//! History in one go, through COPY: for the demo, for tests and for benchmarks.

use crate::db::{Db, Result, content};
use crate::run::{Run, outcome_code};
use cadentis_core::run::RunRecord;
use cadentis_core::visitor::PageView;
use jiff::Timestamp;
use sqlx::PgConnection;
use sqlx::pool::PoolConnection;
use sqlx::postgres::{PgPoolCopyExt, Postgres};
use std::fmt::Write;
use std::time::{Duration, Instant};

/// Rows wait here until there are enough for a COPY.
const ENOUGH_BYTES: usize = 4 << 20;

impl Db {
    /// Writes runs (each with its runner's name and, if its details are kept, its record).
    pub async fn copy_runs(
        &self,
        runs: impl IntoIterator<Item = (Run, String, Option<RunRecord>)>,
    ) -> Result<()> {
        let (mut rows, mut records) = (String::new(), String::new());
        for (run, runner, record) in runs {
            let steps: Vec<String> = run.steps_ms.iter().map(f32::to_string).collect();
            let split = run.split_ms.map_or("\\N".into(), |[network, server, browser]| {
                format!("{{{network},{server},{browser}}}")
            });
            let counts = run.counts.map_or("\\N".into(), |counts| {
                let [requests, bytes, third_party, errors] = counts.numbers();
                format!("{{{requests},{bytes},{third_party},{errors}}}")
            });
            let marks = record.as_ref().map(RunRecord::marks).filter(|marks| !marks.is_empty());
            let marks = marks.and_then(|marks| serde_json::to_string(&marks).ok());
            let marks = marks.map_or("\\N".into(), |marks| escape(&marks));
            let days = record.as_ref().and_then(RunRecord::certificate_days);
            let days = days.map_or("\\N".into(), |days| days.to_string());
            let _ = writeln!(
                rows,
                "{}\t{at}\t{}\t{}\t{}\t{at}\t{}\t{}\t{{{}}}\t{}\t{}\tChromium\t1\t{split}\t{counts}\t{marks}\t{days}",
                run.site_id,
                run.id,
                run.journey_id,
                run.location_id,
                outcome_code(run.outcome),
                run.duration_ms,
                steps.join(","),
                run.trouble.as_deref().map_or("\\N".into(), escape),
                escape(&runner),
                at = run.due_at,
            );
            if let Some(json) = record.and_then(|r| serde_json::to_string(&r).ok()) {
                let _ = writeln!(
                    records,
                    "{}\t{}\t{}\t{}",
                    run.site_id,
                    run.due_at,
                    run.id,
                    escape(&json)
                );
            }
            if rows.len() > ENOUGH_BYTES {
                self.copy("run", &mut rows).await?;
            }
            if records.len() > ENOUGH_BYTES {
                self.copy("run_record", &mut records).await?;
            }
        }
        self.copy("run", &mut rows).await?;
        self.copy("run_record", &mut records).await
    }

    /// What the database itself says is a percentile of the numbers of all rows, or of those with the device and country that
    /// `only` names, and how long it took: to compare with what is computed here, in tests and benchmarks.
    pub async fn percentile_cont(
        &self,
        rows: &[(f32, String, String)],
        p: f64,
        only: Option<(&str, &str)>,
    ) -> Result<(Option<f64>, Duration)> {
        let mut tx = self.lane.begin().await?;
        sqlx::query(
            "CREATE TEMP TABLE measured (value float4, device text, country text) ON COMMIT DROP",
        )
        .execute(&mut *tx)
        .await?;
        for some in rows.chunks(50_000) {
            sqlx::query(
                "INSERT INTO measured SELECT * FROM unnest($1::float4[], $2::text[], $3::text[])",
            )
            .bind(some.iter().map(|r| r.0).collect::<Vec<_>>())
            .bind(some.iter().map(|r| r.1.clone()).collect::<Vec<_>>())
            .bind(some.iter().map(|r| r.2.clone()).collect::<Vec<_>>())
            .execute(&mut *tx)
            .await?;
        }
        sqlx::query("ANALYZE measured").execute(&mut *tx).await?;
        let begun = Instant::now();
        let said: Option<f64> = sqlx::query_scalar(
            "SELECT percentile_cont($1) WITHIN GROUP (ORDER BY value) FROM measured
             WHERE $2::text IS NULL OR device = $2 AND country = $3",
        )
        .bind(p)
        .bind(only.map(|o| o.0))
        .bind(only.map(|o| o.1))
        .fetch_one(&mut *tx)
        .await?;
        let took = begun.elapsed();
        tx.rollback().await?;
        Ok((said, took))
    }

    /// Writes page views that are known to be new. Their hours are not marked: see
    /// [`Db::mark_hours`].
    pub async fn copy_page_views(
        &self,
        views: impl IntoIterator<Item = (i32, PageView)>,
    ) -> Result<()> {
        let mut rows = String::new();
        for (site, v) in views {
            let text = serde_json::to_string(&v).map_err(|e| content("page_view.view", e))?;
            let _ = writeln!(
                rows,
                "{site}\t{}\t{}\t{}\t{}",
                v.at,
                v.beacon.id,
                v.beacon.seq,
                escape(&text)
            );
            if rows.len() > ENOUGH_BYTES {
                self.copy("page_view", &mut rows).await?;
            }
        }
        self.copy("page_view", &mut rows).await
    }

    /// Marks every hour that has page views for the roll-up.
    pub async fn mark_hours(&self, from: Timestamp, to: Timestamp) -> Result<()> {
        use jiff_sqlx::ToSqlx;
        sqlx::query(
            "INSERT INTO dirty_hour (site_id, hour)
             SELECT DISTINCT site_id, date_trunc('hour', at) FROM page_view WHERE at >= $1 AND at < $2
             ON CONFLICT (site_id, hour) DO UPDATE SET marked_at = clock_timestamp()",
        )
        .bind(from.to_sqlx())
        .bind(to.to_sqlx())
        .execute(&self.lane)
        .await?;
        Ok(())
    }

    /// Tells the planner what came in, and which pages every reader may see without looking.
    pub async fn vacuum(&self) -> Result<()> {
        for sql in [
            "VACUUM ANALYZE run",
            "ANALYZE run_record",
            "VACUUM ANALYZE sheet",
            "VACUUM ANALYZE page_view_hour",
        ] {
            let mut connection: PoolConnection<Postgres> = self.lane.pool().acquire().await?;
            sqlx::query(sql).execute(&mut *connection as &mut PgConnection).await?;
        }
        Ok(())
    }

    async fn copy(&self, table: &'static str, rows: &mut String) -> Result<()> {
        if rows.is_empty() {
            return Ok(());
        }
        let mut copy = self.lane.pool().copy_in_raw(&format!("COPY {table} FROM STDIN")).await?;
        copy.send(rows.as_bytes()).await?;
        copy.finish().await?;
        rows.clear();
        Ok(())
    }
}

/// A text as COPY wants it.
fn escape(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        match c {
            '\\' => out.push_str("\\\\"),
            '\t' => out.push_str("\\t"),
            '\n' => out.push_str("\\n"),
            '\r' => out.push_str("\\r"),
            '\0' => {}
            c => out.push(c),
        }
    }
    out
}
