//! Marks that runs set and what was left of certificates that they saw, as they are kept beside each of them.

use crate::db::{Db, Result};
use cadentis_core::calendar::Stretch;
use jiff_sqlx::ToSqlx;
use std::collections::HashMap;
use uuid::Uuid;

impl Db {
    /// When a mark was set in runs of these journeys, in milliseconds from its step's beginning, by run.
    pub async fn marks(
        &self,
        journeys: &[i32],
        site_id: i32,
        stretch: Stretch,
        name: &str,
    ) -> Result<HashMap<Uuid, f64>> {
        let sql = "SELECT id, (marks ->> $5)::float8 FROM run
                   WHERE site_id = $1 AND journey_id = ANY ($2) AND due_at >= $3 AND due_at < $4 AND marks ? $5";
        let rows: Vec<(Uuid, f64)> = sqlx::query_as(sql)
            .bind(site_id)
            .bind(journeys)
            .bind(stretch.from.to_sqlx())
            .bind(stretch.to.to_sqlx())
            .bind(name)
            .fetch_all(&self.lane)
            .await?;
        Ok(rows.into_iter().collect())
    }

    /// Names of marks that were set in runs of these journeys.
    pub async fn marks_named(
        &self,
        journeys: &[i32],
        site_id: i32,
        stretch: Stretch,
    ) -> Result<Vec<String>> {
        let sql = "SELECT DISTINCT jsonb_object_keys(marks) FROM run
                   WHERE site_id = $1 AND journey_id = ANY ($2) AND due_at >= $3 AND due_at < $4 AND marks IS NOT NULL
                   ORDER BY 1 LIMIT 200";
        Ok(sqlx::query_scalar(sql)
            .bind(site_id)
            .bind(journeys)
            .bind(stretch.from.to_sqlx())
            .bind(stretch.to.to_sqlx())
            .fetch_all(&self.lane)
            .await?)
    }

    /// Days that were left of the certificates that runs of these journeys saw, by run.
    pub async fn certificate_days(
        &self,
        journeys: &[i32],
        site_id: i32,
        stretch: Stretch,
    ) -> Result<HashMap<Uuid, i64>> {
        let sql = "SELECT id, certificate_days::bigint FROM run
                   WHERE site_id = $1 AND journey_id = ANY ($2) AND due_at >= $3 AND due_at < $4 AND certificate_days IS NOT NULL";
        let rows: Vec<(Uuid, i64)> = sqlx::query_as(sql)
            .bind(site_id)
            .bind(journeys)
            .bind(stretch.from.to_sqlx())
            .bind(stretch.to.to_sqlx())
            .fetch_all(&self.lane)
            .await?;
        Ok(rows.into_iter().collect())
    }

    /// Journeys of which some run saw a certificate.
    pub async fn journeys_with_certificates(
        &self,
        site_id: i32,
        stretch: Stretch,
    ) -> Result<Vec<i32>> {
        let sql = "SELECT DISTINCT journey_id FROM run
                   WHERE site_id = $1 AND due_at >= $2 AND due_at < $3 AND certificate_days IS NOT NULL";
        Ok(sqlx::query_scalar(sql)
            .bind(site_id)
            .bind(stretch.from.to_sqlx())
            .bind(stretch.to.to_sqlx())
            .fetch_all(&self.lane)
            .await?)
    }
}
