//! Goals, budgets, and what was taken out of them.

use crate::db::{Db, Result, content};
use crate::marker::{LeftOut, WindowRow, left_out};
use cadentis_core::calendar::Stretch;
use cadentis_core::goal::budget::{Budget, Metric, Scope, Statistic};
use cadentis_core::timing::Vital;
use jiff_sqlx::ToSqlx;
use sqlx::FromRow;

/// A promise.
#[derive(Debug, Clone, FromRow)]
pub struct Goal {
    /// Its id.
    pub id: i32,
    /// The site.
    pub site_id: i32,
    /// The journey.
    pub journey_id: i32,
    /// Its name.
    pub name: String,
    /// The promised availability, 0 to 1.
    pub promised: f64,
}

impl Db {
    /// The goals of a site.
    pub async fn goals(&self, site_id: i32) -> Result<Vec<Goal>> {
        let sql = "SELECT * FROM goal WHERE site_id = $1 ORDER BY id";
        Ok(sqlx::query_as(sql).bind(site_id).fetch_all(&self.lane).await?)
    }

    /// The limits on vitals at the 75th percentile, in the order they were set.
    pub async fn budgets(&self, site_id: i32) -> Result<Vec<Budget>> {
        let sql = "SELECT family, vital, limit_value FROM budget WHERE site_id = $1 ORDER BY id";
        let rows: Vec<(Option<String>, String, f64)> =
            sqlx::query_as(sql).bind(site_id).fetch_all(&self.lane).await?;
        rows.into_iter()
            .map(|(family, vital, limit)| {
                let metric = Metric::Vital(
                    Vital::parse(&vital).ok_or_else(|| content("budget.vital", vital))?,
                );
                let scope = family.map_or(Scope::Site, Scope::Family);
                Ok(Budget { metric, statistic: Statistic::Percentile(0.75), limit, scope })
            })
            .collect()
    }

    /// What was taken out of a goal.
    pub async fn carve_outs(&self, goal_id: i32) -> Result<Vec<LeftOut>> {
        let rows: Vec<WindowRow> = sqlx::query_as(
            "SELECT from_at, to_at, why, author FROM carve_out WHERE goal_id = $1 ORDER BY from_at",
        )
        .bind(goal_id)
        .fetch_all(&self.lane)
        .await?;
        Ok(left_out(rows))
    }

    /// Adds a goal; its id.
    pub async fn add_goal(
        &self,
        site_id: i32,
        journey_id: i32,
        name: &str,
        promised: f64,
    ) -> Result<i32> {
        let sql = "INSERT INTO goal (site_id, journey_id, name, promised) VALUES ($1, $2, $3, $4) RETURNING id";
        Ok(sqlx::query_scalar(sql)
            .bind(site_id)
            .bind(journey_id)
            .bind(name)
            .bind(promised)
            .fetch_one(&self.lane)
            .await?)
    }

    /// Adds a budget.
    pub async fn add_budget(
        &self,
        site_id: i32,
        family: Option<&str>,
        vital: &str,
        limit: f64,
    ) -> Result<()> {
        sqlx::query(
            "INSERT INTO budget (site_id, family, vital, limit_value) VALUES ($1, $2, $3, $4)",
        )
        .bind(site_id)
        .bind(family)
        .bind(vital)
        .bind(limit)
        .execute(&self.lane)
        .await?;
        Ok(())
    }

    /// Takes time out of a goal.
    pub async fn add_carve_out(
        &self,
        goal_id: i32,
        stretch: Stretch,
        why: &str,
        author: &str,
    ) -> Result<()> {
        sqlx::query("INSERT INTO carve_out (goal_id, from_at, to_at, why, author) VALUES ($1, $2, $3, $4, $5)")
            .bind(goal_id)
            .bind(stretch.from.to_sqlx())
            .bind(stretch.to.to_sqlx())
            .bind(why)
            .bind(author)
            .execute(&self.lane)
            .await?;
        Ok(())
    }
}
