//! Limits on any measure, beside those of vitals that [`crate::goal`] keeps.

use crate::db::{Db, Result, content};
use cadentis_core::goal::limit::Limit;
use jiff::Timestamp;
use sqlx::FromRow;

/// A limit as it is kept.
#[derive(Debug, Clone, PartialEq)]
pub struct MeasuredBudget {
    /// Its id.
    pub id: i32,
    /// What is limited, and to what.
    pub limit: Limit,
    /// Who set it.
    pub author: String,
    /// When it was set.
    pub set_at: Timestamp,
}

#[derive(FromRow)]
struct Row {
    id: i32,
    measured: String,
    limit_value: f64,
    author: String,
    set_at: jiff_sqlx::Timestamp,
}

impl Db {
    /// The limits of a site on measures, in the order they were set first.
    pub async fn measured_budgets(&self, site_id: i32) -> Result<Vec<MeasuredBudget>> {
        let sql = "SELECT id, measured, limit_value, author, set_at FROM measured_budget
                   WHERE site_id = $1 ORDER BY id";
        let rows: Vec<Row> = sqlx::query_as(sql).bind(site_id).fetch_all(&self.lane).await?;
        let of = |r: Row| {
            let measured =
                r.measured.parse().map_err(|_| content("measured_budget.measured", r.measured))?;
            Ok(MeasuredBudget {
                id: r.id,
                limit: Limit { measured, level: r.limit_value },
                author: r.author,
                set_at: r.set_at.to_jiff(),
            })
        };
        rows.into_iter().map(of).collect()
    }

    /// Sets a limit, or takes it away without one.
    pub async fn set_measured_budget(
        &self,
        site_id: i32,
        measured: &str,
        limit: Option<f64>,
        author: &str,
    ) -> Result<()> {
        let Some(limit) = limit else {
            let sql = "DELETE FROM measured_budget WHERE site_id = $1 AND measured = $2";
            sqlx::query(sql).bind(site_id).bind(measured).execute(&self.lane).await?;
            return Ok(());
        };
        let sql = "INSERT INTO measured_budget (site_id, measured, limit_value, author) VALUES ($1, $2, $3, $4)
                   ON CONFLICT ON CONSTRAINT measured_budget_of_one
                   DO UPDATE SET limit_value = $3, author = $4, set_at = now()";
        let set = sqlx::query(sql).bind(site_id).bind(measured).bind(limit).bind(author);
        set.execute(&self.lane).await?;
        Ok(())
    }
}
