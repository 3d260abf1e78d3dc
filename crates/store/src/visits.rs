//! Single page views: those of a visit, those of a page family, those with script errors.

use crate::db::{Db, Result};
use cadentis_core::calendar::Stretch;
use cadentis_core::visitor::errors::Occurrence;
use cadentis_core::visitor::spent::Moments;
use jiff::{SignedDuration, Timestamp};
use jiff_sqlx::ToSqlx;
use sqlx::{AssertSqlSafe, FromRow};
use uuid::Uuid;

/// One page view as it was stored.
#[derive(Debug, Clone, FromRow)]
pub struct Viewed {
    #[sqlx(try_from = "jiff_sqlx::Timestamp")]
    at: AtJiff,
    pub id: Uuid,
    pub visit: Uuid,
    pub family: String,
    pub path: String,
    pub device: String,
    pub country: String,
    pub browser: String,
    pub os: String,
    pub connection: String,
    pub lcp: Option<f32>,
    pub inp: Option<f32>,
    pub cls: Option<f32>,
    pub fcp: Option<f32>,
    pub ttfb: Option<f32>,
    pub load: Option<f32>,
    pub dns: Option<f32>,
    pub connect: Option<f32>,
    pub abandoned: bool,
    pub blank: bool,
    pub errors: i32,
    pub error: Option<String>,
}

/// A moment out of a row.
#[derive(Debug, Clone, Copy)]
struct AtJiff(Timestamp);

impl From<jiff_sqlx::Timestamp> for AtJiff {
    fn from(at: jiff_sqlx::Timestamp) -> AtJiff {
        AtJiff(at.to_jiff())
    }
}

impl Viewed {
    pub fn at(&self) -> Timestamp {
        self.at.0
    }

    pub fn moments(&self) -> Moments {
        moments_of((self.dns, self.connect, self.ttfb, self.fcp, self.lcp))
    }
}

/// dns, connect, ttfb, fcp, lcp
type Timings = (Option<f32>, Option<f32>, Option<f32>, Option<f32>, Option<f32>);

fn moments_of((lookup, connect, ttfb, fcp, lcp): Timings) -> Moments {
    let of = |v: Option<f32>| v.map(f64::from);
    Moments { lookup: of(lookup), connect: of(connect), ttfb: of(ttfb), fcp: of(fcp), lcp: of(lcp) }
}

/// All columns of a [`Viewed`].
const COLUMNS: &str = "at, id, visit, family, path, device, country, browser, os, connection, lcp, inp, cls, fcp, ttfb,
                       load, dns, connect, abandoned, blank, errors, error";

/// A visit lasts no longer than this around one of its page views.
const AROUND_H: i64 = 24;

impl Db {
    /// The page views of a visit within a day of this moment, in order of time.
    pub async fn visit(&self, site_id: i32, visit: Uuid, near: Timestamp, most: i64) -> Result<Vec<Viewed>> {
        let day = SignedDuration::from_hours(AROUND_H);
        let sql = format!(
            "SELECT {COLUMNS} FROM page_view
             WHERE site_id = $1 AND visit = $2 AND at >= $3 AND at < $4 ORDER BY at, id LIMIT $5"
        );
        Ok(sqlx::query_as(AssertSqlSafe(sql))
            .bind(site_id)
            .bind(visit)
            .bind((near - day).to_sqlx())
            .bind((near + day).to_sqlx())
            .bind(most)
            .fetch_all(&self.pool)
            .await?)
    }

    /// The newest page views, newest first.
    pub async fn newest_page_views(&self, site_id: i32, stretch: Stretch, most: i64) -> Result<Vec<Viewed>> {
        self.listed(site_id, stretch, None, "at DESC", most).await
    }

    /// The page views with the longest LCP, longest first; of one page family if given.
    pub async fn slowest_page_views(
        &self,
        site_id: i32,
        stretch: Stretch,
        family: Option<&str>,
        most: i64,
    ) -> Result<Vec<Viewed>> {
        self.listed(site_id, stretch, family, "lcp DESC NULLS LAST", most).await
    }

    async fn listed(
        &self,
        site_id: i32,
        stretch: Stretch,
        family: Option<&str>,
        order: &'static str,
        most: i64,
    ) -> Result<Vec<Viewed>> {
        let sql = format!(
            "SELECT {COLUMNS} FROM page_view
             WHERE site_id = $1 AND at >= $2 AND at < $3 AND ($4::text IS NULL OR family = $4) ORDER BY {order} LIMIT $5"
        );
        Ok(sqlx::query_as(AssertSqlSafe(sql))
            .bind(site_id)
            .bind(stretch.from.to_sqlx())
            .bind(stretch.to.to_sqlx())
            .bind(family)
            .bind(most)
            .fetch_all(&self.pool)
            .await?)
    }

    /// What page views of a family reported of their load: at most `most`, chosen by their ids, which are random.
    pub async fn moments(&self, site_id: i32, stretch: Stretch, family: &str, most: i64) -> Result<Vec<Moments>> {
        let sql = "SELECT dns, connect, ttfb, fcp, lcp FROM page_view
                   WHERE site_id = $1 AND at >= $2 AND at < $3 AND family = $4 AND lcp IS NOT NULL
                   ORDER BY id LIMIT $5";
        let rows: Vec<Timings> = sqlx::query_as(sql)
            .bind(site_id)
            .bind(stretch.from.to_sqlx())
            .bind(stretch.to.to_sqlx())
            .bind(family)
            .bind(most)
            .fetch_all(&self.pool)
            .await?;
        Ok(rows.into_iter().map(moments_of).collect())
    }

    /// Page views with script errors, newest first; of one page family if given.
    pub async fn errors(
        &self,
        site_id: i32,
        stretch: Stretch,
        family: Option<&str>,
        most: i64,
    ) -> Result<Vec<Occurrence>> {
        type Row = (jiff_sqlx::Timestamp, Uuid, String, String, Option<String>);
        let sql = "SELECT at, visit, family, browser, error FROM page_view
                   WHERE site_id = $1 AND at >= $2 AND at < $3 AND errors > 0 AND ($4::text IS NULL OR family = $4)
                   ORDER BY at DESC LIMIT $5";
        let rows: Vec<Row> = sqlx::query_as(sql)
            .bind(site_id)
            .bind(stretch.from.to_sqlx())
            .bind(stretch.to.to_sqlx())
            .bind(family)
            .bind(most)
            .fetch_all(&self.pool)
            .await?;
        let occurrence = |(at, visit, family, browser, error): Row| Occurrence {
            at: at.to_jiff(),
            visit,
            family,
            browser,
            text: error.unwrap_or_else(|| "an error without a text".into()),
        };
        Ok(rows.into_iter().map(occurrence).collect())
    }
}
