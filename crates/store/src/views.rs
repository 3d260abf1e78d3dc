//! Page views: batches in, groups out.

use crate::db::{Db, Result};
use cadentis_core::calendar::Stretch;
use cadentis_core::calendar::stretch::hour_of;
use cadentis_core::timing::Vital;
use cadentis_core::visitor::PageView;
use jiff::Timestamp;
use jiff_sqlx::ToSqlx;
use sqlx::{AssertSqlSafe, PgConnection, Row};
use std::collections::{BTreeSet, HashMap};
use uuid::Uuid;

/// What page views can be grouped by.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Attribute {
    Family,
    Device,
    Country,
}

impl Attribute {
    pub const ALL: [Attribute; 3] = [Attribute::Family, Attribute::Device, Attribute::Country];

    /// Name of the column, and of the attribute in the roll-up.
    pub fn column(self) -> &'static str {
        match self {
            Attribute::Family => "family",
            Attribute::Device => "device",
            Attribute::Country => "country",
        }
    }
}

/// Page views of one bucket of time that share one value of an attribute, every sample kept.
#[derive(Debug, Clone, Default)]
pub struct Group {
    /// Beginning of the bucket, in seconds.
    pub bucket: i64,
    pub value: String,
    pub page_views: u64,
    pub abandoned: u64,
    pub blank: u64,
    pub with_errors: u64,
    /// In the order of [`Vital::ALL`]; empty for those not asked for.
    pub vitals: [Vec<f32>; 5],
}

impl Db {
    /// Stores a batch in one transaction and marks its hours for the roll-up.
    ///
    /// A page view that is there already is replaced by one with a higher `seq` and left alone by
    /// any other, so a repeat changes nothing.
    pub async fn store_page_views(&self, batch: &[(i32, PageView)]) -> Result<()> {
        // PostgreSQL refuses to touch one row twice in one statement: the newest of each stays.
        let mut newest: HashMap<(i32, Timestamp, Uuid), &PageView> = HashMap::new();
        for (site, view) in batch {
            let held = newest.entry((*site, view.at, view.beacon.id)).or_insert(view);
            if view.beacon.seq > held.beacon.seq {
                *held = view;
            }
        }
        // In one order everywhere, so that two servers never wait for each other's rows.
        let mut rows: Vec<(i32, &PageView)> = newest.into_iter().map(|((site, ..), v)| (site, v)).collect();
        rows.sort_by_key(|(site, v)| (*site, v.at, v.beacon.id));

        macro_rules! column {
            ($row:ident => $value:expr) => {
                rows.iter().map(|(_, $row)| $value).collect::<Vec<_>>()
            };
        }
        let float = |v: Option<f64>| v.map(|v| v as f32);
        let hours: BTreeSet<(i32, Timestamp)> = rows.iter().map(|(site, v)| (*site, hour_of(v.at))).collect();
        let mut tx = self.pool.begin().await?;
        sqlx::query(
            "INSERT INTO page_view (site_id, at, id, seq, visit, received_at, family, path, device, country, browser,
                 os, connection, ip, lcp, inp, cls, fcp, ttfb, load, dns, connect, abandoned, blank, errors, error)
             SELECT a.site_id, a.at, a.id, a.seq, a.visit, a.received_at, a.family, a.path, a.device, a.country,
                 a.browser, a.os, a.connection, a.ip::inet, a.lcp, a.inp, a.cls, a.fcp, a.ttfb, a.load, a.dns,
                 a.connect, a.abandoned, a.blank, a.errors, a.error
             FROM unnest($1::int[], $2::timestamptz[], $3::uuid[], $4::int[], $5::uuid[], $6::timestamptz[],
                 $7::text[], $8::text[], $9::text[], $10::text[], $11::text[], $12::text[], $13::text[], $14::text[],
                 $15::float4[], $16::float4[], $17::float4[], $18::float4[], $19::float4[], $20::float4[],
                 $21::float4[], $22::float4[], $23::bool[], $24::bool[], $25::int[], $26::text[])
               AS a(site_id, at, id, seq, visit, received_at, family, path, device, country, browser, os, connection,
                 ip, lcp, inp, cls, fcp, ttfb, load, dns, connect, abandoned, blank, errors, error)
             ON CONFLICT (site_id, at, id) DO UPDATE SET seq = excluded.seq, received_at = excluded.received_at,
                 lcp = excluded.lcp, inp = excluded.inp, cls = excluded.cls, fcp = excluded.fcp,
                 ttfb = excluded.ttfb, load = excluded.load, dns = excluded.dns, connect = excluded.connect,
                 abandoned = excluded.abandoned, blank = excluded.blank, errors = excluded.errors,
                 error = excluded.error
             WHERE page_view.seq < excluded.seq",
        )
        .bind(rows.iter().map(|(site, _)| *site).collect::<Vec<_>>())
        .bind(column!(v => v.at.to_sqlx()))
        .bind(column!(v => v.beacon.id))
        .bind(column!(v => v.beacon.seq))
        .bind(column!(v => v.beacon.visit))
        .bind(column!(v => v.received_at.to_sqlx()))
        .bind(column!(v => v.family.as_str()))
        .bind(column!(v => v.path.as_str()))
        .bind(column!(v => v.beacon.device.word()))
        .bind(column!(v => v.country.as_str()))
        .bind(column!(v => v.browser))
        .bind(column!(v => v.os))
        .bind(column!(v => v.beacon.connection.as_str()))
        .bind(column!(v => v.ip.to_string()))
        .bind(column!(v => float(v.beacon.lcp)))
        .bind(column!(v => float(v.beacon.inp)))
        .bind(column!(v => float(v.beacon.cls)))
        .bind(column!(v => float(v.beacon.fcp)))
        .bind(column!(v => float(v.beacon.ttfb)))
        .bind(column!(v => float(v.beacon.load)))
        .bind(column!(v => float(v.beacon.dns)))
        .bind(column!(v => float(v.beacon.connect)))
        .bind(column!(v => v.beacon.abandoned))
        .bind(column!(v => v.beacon.blank))
        .bind(column!(v => v.beacon.errors))
        .bind(column!(v => v.beacon.error.as_deref()))
        .execute(&mut *tx)
        .await?;
        sqlx::query(
            "INSERT INTO dirty_hour (site_id, hour) SELECT * FROM unnest($1::int[], $2::timestamptz[])
             ON CONFLICT (site_id, hour) DO UPDATE SET marked_at = clock_timestamp()",
        )
        .bind(hours.iter().map(|(site, _)| *site).collect::<Vec<_>>())
        .bind(hours.iter().map(|(_, hour)| hour.to_sqlx()).collect::<Vec<_>>())
        .execute(&mut *tx)
        .await?;
        tx.commit().await?;
        Ok(())
    }

    /// Groups raw page views by bucket and, if asked, by an attribute. Samples of the vitals asked
    /// for come whole, so that whatever is computed from them is exact.
    pub async fn groups(
        &self,
        site_id: i32,
        stretch: Stretch,
        bucket_s: i64,
        by: Option<Attribute>,
        vitals: &[Vital],
    ) -> Result<Vec<Group>> {
        let mut connection = self.pool.acquire().await?;
        groups(&mut connection, site_id, stretch, bucket_s, by, vitals).await
    }

    /// How many different visits, and page views, there were.
    pub async fn count_visits(&self, site_id: i32, stretch: Stretch) -> Result<(u64, u64)> {
        let (visits, views): (i64, i64) = sqlx::query_as(
            "SELECT count(DISTINCT visit), count(*) FROM page_view WHERE site_id = $1 AND at >= $2 AND at < $3",
        )
        .bind(site_id)
        .bind(stretch.from.to_sqlx())
        .bind(stretch.to.to_sqlx())
        .fetch_one(&self.pool)
        .await?;
        Ok((visits.unsigned_abs(), views.unsigned_abs()))
    }

    /// The ids of all page views, to compare with those that were acknowledged.
    pub async fn page_view_ids(&self, site_id: i32, stretch: Stretch) -> Result<Vec<Uuid>> {
        Ok(sqlx::query_scalar("SELECT id FROM page_view WHERE site_id = $1 AND at >= $2 AND at < $3")
            .bind(site_id)
            .bind(stretch.from.to_sqlx())
            .bind(stretch.to.to_sqlx())
            .fetch_all(&self.pool)
            .await?)
    }

    /// Adds to the counts of what was turned away.
    pub async fn count_refused(&self, counts: &[(i32, Timestamp, String, u64)]) -> Result<()> {
        for (site, hour, reason, count) in counts {
            sqlx::query(
                "INSERT INTO refused VALUES ($1, $2, $3, $4)
                 ON CONFLICT (site_id, hour, reason) DO UPDATE SET count = refused.count + excluded.count",
            )
            .bind(site)
            .bind(hour.to_sqlx())
            .bind(reason)
            .bind(*count as i64)
            .execute(&self.pool)
            .await?;
        }
        Ok(())
    }

    /// Counts of what was turned away by reason, most first.
    pub async fn refused(&self, site_id: i32, stretch: Stretch) -> Result<Vec<(String, u64)>> {
        let rows: Vec<(String, i64)> = sqlx::query_as(
            "SELECT reason, sum(count)::bigint FROM refused WHERE site_id = $1 AND hour >= $2 AND hour < $3
             GROUP BY 1 ORDER BY 2 DESC",
        )
        .bind(site_id)
        .bind(hour_of(stretch.from).to_sqlx())
        .bind(stretch.to.to_sqlx())
        .fetch_all(&self.pool)
        .await?;
        Ok(rows.into_iter().map(|(reason, n)| (reason, n.unsigned_abs())).collect())
    }
}

pub(crate) async fn groups(
    connection: &mut PgConnection,
    site_id: i32,
    stretch: Stretch,
    bucket_s: i64,
    by: Option<Attribute>,
    vitals: &[Vital],
) -> Result<Vec<Group>> {
    let value = by.map_or("''", Attribute::column);
    let lists: String = Vital::ALL
        .into_iter()
        .map(|v| {
            let column = v.name().to_lowercase();
            if vitals.contains(&v) {
                format!(", coalesce(array_agg({column}) FILTER (WHERE {column} IS NOT NULL), '{{}}') AS {column}")
            } else {
                format!(", '{{}}'::float4[] AS {column}")
            }
        })
        .collect();
    // Made of column names of ours; values are bound.
    let sql = format!(
        "SELECT date_bin($4 * interval '1 second', at, 'epoch') AS bucket, {value} AS value, count(*) AS page_views,
             count(*) FILTER (WHERE abandoned) AS abandoned, count(*) FILTER (WHERE blank) AS blank,
             count(*) FILTER (WHERE errors > 0) AS with_errors {lists}
         FROM page_view WHERE site_id = $1 AND at >= $2 AND at < $3 GROUP BY 1, 2 ORDER BY 1, 2"
    );
    let rows = sqlx::query(AssertSqlSafe(sql))
        .bind(site_id)
        .bind(stretch.from.to_sqlx())
        .bind(stretch.to.to_sqlx())
        .bind(bucket_s)
        .fetch_all(connection)
        .await?;
    rows.iter()
        .map(|r| {
            let count = |name: &str| r.try_get::<i64, _>(name).map(i64::unsigned_abs);
            Ok(Group {
                bucket: r.try_get::<jiff_sqlx::Timestamp, _>("bucket")?.to_jiff().as_second(),
                value: r.try_get("value")?,
                page_views: count("page_views")?,
                abandoned: count("abandoned")?,
                blank: count("blank")?,
                with_errors: count("with_errors")?,
                vitals: [
                    r.try_get("lcp")?,
                    r.try_get("inp")?,
                    r.try_get("cls")?,
                    r.try_get("fcp")?,
                    r.try_get("ttfb")?,
                ],
            })
        })
        .collect()
}
