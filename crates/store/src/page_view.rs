//! Page views: batches in, rows out. What is asked about many of them is answered from their sheets.

use crate::db::{Db, Result, content};
use cadentis_core::calendar::Stretch;
use cadentis_core::calendar::stretch::hour_of;
use cadentis_core::text::clean;
use cadentis_core::visitor::PageView;
use cadentis_core::visitor::filed::MAX_OWN_COLUMNS;
use jiff::Timestamp;
use jiff_sqlx::ToSqlx;
use std::collections::{BTreeSet, HashMap};
use uuid::Uuid;

/// What is told of the newest that was turned away, in characters.
const EXAMPLE: usize = 300;
/// The reason under which names of attributes are counted that an hour has no room for.
pub const NAMES_OVER: &str = "names-over";

impl Db {
    /// Stores a batch in one transaction and marks its hours for the roll-up.
    ///
    /// A page view that is there already is replaced by one with a higher `seq` and left alone by
    /// any other, so a repeat changes nothing.
    pub async fn store_page_views(&self, batch: &[(i32, PageView)]) -> Result<()> {
        put_rows(&self.lane, batch).await
    }

    /// The newest page views, newest first.
    pub async fn newest_page_views(
        &self,
        site_id: i32,
        stretch: Stretch,
        most: i64,
    ) -> Result<Vec<PageView>> {
        let rows: Vec<String> = sqlx::query_scalar(
            "SELECT view FROM page_view WHERE site_id = $1 AND at >= $2 AND at < $3 ORDER BY at DESC LIMIT $4",
        )
        .bind(site_id)
        .bind(stretch.from.to_sqlx())
        .bind(stretch.to.to_sqlx())
        .bind(most)
        .fetch_all(&self.lane)
        .await?;
        read(rows)
    }

    /// The ids of all page views that are still rows, to compare with those that were acknowledged.
    pub async fn page_view_ids(&self, site_id: i32, stretch: Stretch) -> Result<Vec<Uuid>> {
        Ok(sqlx::query_scalar(
            "SELECT id FROM page_view WHERE site_id = $1 AND at >= $2 AND at < $3",
        )
        .bind(site_id)
        .bind(stretch.from.to_sqlx())
        .bind(stretch.to.to_sqlx())
        .fetch_all(&self.lane)
        .await?)
    }

    /// Adds to the counts of what was turned away: site, hour, reason, how many, and the newest in words.
    pub async fn count_refused(
        &self,
        counts: &[(i32, Timestamp, String, u64, String)],
    ) -> Result<()> {
        // All or nothing: what was counted is not counted again when something else could not be.
        sqlx::query(
            "INSERT INTO refused
             SELECT site_id, hour, reason, count, example, now()
             FROM unnest($1::int[], $2::timestamptz[], $3::text[], $4::bigint[], $5::text[])
                  AS given(site_id, hour, reason, count, example)
             ON CONFLICT (site_id, hour, reason) DO UPDATE
             SET count = refused.count + excluded.count, example = excluded.example, last_at = excluded.last_at",
        )
        .bind(counts.iter().map(|c| c.0).collect::<Vec<_>>())
        .bind(counts.iter().map(|c| c.1.to_sqlx()).collect::<Vec<_>>())
        .bind(counts.iter().map(|c| c.2.clone()).collect::<Vec<_>>())
        .bind(counts.iter().map(|c| c.3 as i64).collect::<Vec<_>>())
        .bind(counts.iter().map(|c| clean(&c.4, EXAMPLE, None)).collect::<Vec<_>>())
        .execute(&self.lane)
        .await?;
        Ok(())
    }

    /// How many names of attributes and numbers of an hour are not filed, since it has too many: told beside what was
    /// turned away, each time as a whole.
    pub(crate) async fn note_names_over(
        &self,
        tx: &mut sqlx::PgConnection,
        site_id: i32,
        hour: Timestamp,
        over: usize,
    ) -> Result<()> {
        if over == 0 {
            let sql = "DELETE FROM refused WHERE site_id = $1 AND hour = $2 AND reason = $3";
            sqlx::query(sql)
                .bind(site_id)
                .bind(hour.to_sqlx())
                .bind(NAMES_OVER)
                .execute(tx)
                .await?;
            return Ok(());
        }
        sqlx::query(
            "INSERT INTO refused VALUES ($1, $2, $3, $4, $5, now())
             ON CONFLICT (site_id, hour, reason) DO UPDATE SET count = excluded.count, last_at = excluded.last_at",
        )
        .bind(site_id)
        .bind(hour.to_sqlx())
        .bind(NAMES_OVER)
        .bind(over as i64)
        .bind(format!(
            "an hour has at most {MAX_OWN_COLUMNS} attributes and as many numbers; those on most page views stay"
        ))
        .execute(tx)
        .await?;
        Ok(())
    }

    /// What was turned away in the stretch by reason, most first, with the newest of each in words and its moment.
    pub async fn refused_lately(&self, site_id: i32, stretch: Stretch) -> Result<Vec<Refused>> {
        Ok(sqlx::query_as(
            "SELECT reason, sum(count)::bigint AS count, max(last_at) AS last_at,
                    (array_agg(example ORDER BY last_at DESC NULLS LAST))[1] AS example
             FROM refused WHERE site_id = $1 AND hour >= $2 AND hour < $3 GROUP BY 1 ORDER BY 2 DESC",
        )
        .bind(site_id)
        .bind(hour_of(stretch.from).to_sqlx())
        .bind(stretch.to.to_sqlx())
        .fetch_all(&self.lane)
        .await?)
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
        .fetch_all(&self.lane)
        .await?;
        Ok(rows.into_iter().map(|(reason, n)| (reason, n.unsigned_abs())).collect())
    }
}

/// What was turned away for one reason.
#[derive(Debug, Clone, sqlx::FromRow)]
pub struct Refused {
    /// Why.
    pub reason: String,
    /// How many.
    pub count: i64,
    last_at: Option<jiff_sqlx::Timestamp>,
    /// The newest, in words.
    pub example: String,
}

impl Refused {
    /// When the newest came.
    pub fn last(&self) -> Option<Timestamp> {
        self.last_at.map(|at| at.to_jiff())
    }
}

/// Marks an hour as changed since it was filed.
pub(crate) async fn mark_hour(
    tx: &mut sqlx::PgConnection,
    site_id: i32,
    hour: Timestamp,
) -> Result<()> {
    sqlx::query(
        "INSERT INTO dirty_hour (site_id, hour) VALUES ($1, $2)
         ON CONFLICT (site_id, hour) DO UPDATE SET marked_at = clock_timestamp()",
    )
    .bind(site_id)
    .bind(hour.to_sqlx())
    .execute(tx)
    .await?;
    Ok(())
}

/// See [`Db::store_page_views`].
pub(crate) async fn put_rows(
    to: impl sqlx::PgExecutor<'_>,
    batch: &[(i32, PageView)],
) -> Result<()> {
    // PostgreSQL refuses to touch one row twice in one statement: the newest of each stays.
    let mut newest: HashMap<(i32, Timestamp, Uuid), &PageView> =
        HashMap::with_capacity(batch.len());
    for (site, view) in batch {
        let held = newest.entry((*site, view.at, view.beacon.id)).or_insert(view);
        if view.beacon.seq > held.beacon.seq {
            *held = view;
        }
    }
    // In one order everywhere, so that two servers never wait for each other's rows.
    let mut rows: Vec<(i32, &PageView)> =
        newest.into_iter().map(|((site, ..), v)| (site, v)).collect();
    rows.sort_by_key(|(site, v)| (*site, v.at, v.beacon.id));
    let texts: std::result::Result<Vec<String>, _> =
        rows.iter().map(|(_, v)| serde_json::to_string(v)).collect();
    let texts = texts.map_err(|e| content("page_view.view", e))?;
    let hours: BTreeSet<(i32, Timestamp)> =
        rows.iter().map(|(site, v)| (*site, hour_of(v.at))).collect();
    // One statement is one transaction and one way to the database and back.
    sqlx::query(
        "WITH put AS (
             INSERT INTO page_view (site_id, at, id, seq, view)
             SELECT * FROM unnest($1::int[], $2::timestamptz[], $3::uuid[], $4::int[], $5::text[])
             ON CONFLICT (site_id, at, id) DO UPDATE SET seq = excluded.seq, view = excluded.view
             WHERE page_view.seq < excluded.seq)
         INSERT INTO dirty_hour (site_id, hour) SELECT * FROM unnest($6::int[], $7::timestamptz[])
         ON CONFLICT (site_id, hour) DO UPDATE SET marked_at = clock_timestamp()",
    )
    .bind(rows.iter().map(|(site, _)| *site).collect::<Vec<_>>())
    .bind(rows.iter().map(|(_, v)| v.at.to_sqlx()).collect::<Vec<_>>())
    .bind(rows.iter().map(|(_, v)| v.beacon.id).collect::<Vec<_>>())
    .bind(rows.iter().map(|(_, v)| v.beacon.seq).collect::<Vec<_>>())
    .bind(texts)
    .bind(hours.iter().map(|(site, _)| *site).collect::<Vec<_>>())
    .bind(hours.iter().map(|(_, hour)| hour.to_sqlx()).collect::<Vec<_>>())
    .execute(to)
    .await?;
    Ok(())
}

/// Page views out of their texts.
pub(crate) fn read(rows: Vec<String>) -> Result<Vec<PageView>> {
    rows.iter().map(|r| serde_json::from_str(r).map_err(|e| content("page_view.view", e))).collect()
}
