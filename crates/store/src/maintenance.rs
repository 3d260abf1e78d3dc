//! Maintenance: planned time that does not count, and the calendar of it that others read.

use crate::db::{Db, Result, content};
use cadentis_core::calendar::maintenance::Parted;
use cadentis_core::calendar::{LeftOut, Maintenance, Reach, Stretch, Window, zone};
use jiff::Timestamp;
use jiff::tz::TimeZone;
use sqlx::types::Json;
use sqlx::{FromRow, PgExecutor};

/// A maintenance window of a site.
#[derive(Debug, Clone, PartialEq)]
pub struct Planned {
    /// Its id.
    pub id: i32,
    /// When, for what, and what becomes of runs.
    pub says: Maintenance,
    /// More of it than its name.
    pub detail: String,
    /// How often it was changed, and one.
    pub version: i32,
    /// Who planned it; nobody who is known for those of before it was kept.
    pub author: String,
    /// When.
    pub made_at: Timestamp,
}

#[derive(FromRow)]
struct Row {
    id: i32,
    says: Json<Window>,
    journeys: Vec<i32>,
    locations: Vec<i32>,
    holds: bool,
    detail: String,
    version: i32,
    author: String,
    made_at: jiff_sqlx::Timestamp,
}

impl From<Row> for Planned {
    fn from(row: Row) -> Planned {
        let reach = Reach { journeys: row.journeys, locations: row.locations };
        let says = Maintenance { window: row.says.0, reach, holds: row.holds };
        let (id, detail, version, author) = (row.id, row.detail, row.version, row.author);
        Planned { id, says, detail, version, author, made_at: row.made_at.to_jiff() }
    }
}

async fn put(
    to: impl PgExecutor<'_>,
    site_id: i32,
    (window, says): (&Window, &Maintenance),
    detail: &str,
    author: &str,
) -> Result<i32> {
    let sql = "INSERT INTO maintenance (site_id, says, journeys, locations, holds, detail, author)
               VALUES ($1, $2, $3, $4, $5, $6, $7) RETURNING id";
    let put = sqlx::query_scalar(sql).bind(site_id).bind(Json(window));
    let put = put.bind(&says.reach.journeys).bind(&says.reach.locations).bind(says.holds);
    Ok(put.bind(detail).bind(author).fetch_one(to).await?)
}

impl Db {
    /// Every maintenance window that a site ever had, in the order they were made.
    pub async fn planned(&self, site_id: i32) -> Result<Vec<Planned>> {
        let sql = "SELECT id, says, journeys, locations, holds, detail, version, author, made_at FROM maintenance
                   WHERE site_id = $1 ORDER BY id";
        let rows: Vec<Row> = sqlx::query_as(sql).bind(site_id).fetch_all(&self.lane).await?;
        Ok(rows.into_iter().map(Planned::from).collect())
    }

    /// All locations with their zones.
    pub async fn zones(&self) -> Result<Vec<(i32, TimeZone)>> {
        let rows: Vec<(i32, String)> = sqlx::query_as("SELECT id, zone FROM location ORDER BY id")
            .fetch_all(&self.lane)
            .await?;
        let read = |(id, name): (i32, String)| {
            Ok((id, zone(&name).map_err(|_| content("location.zone", name))?))
        };
        rows.into_iter().map(read).collect()
    }

    /// Maintenance that touches the stretch, with its own full extent, in order of time.
    pub async fn maintenance(&self, site_id: i32, stretch: Stretch) -> Result<Vec<LeftOut>> {
        let planned = self.planned(site_id).await?;
        let is_local = planned.iter().any(|p| p.says.is_local());
        let places = if is_local { self.zones().await? } else { Vec::new() };
        let mut all: Vec<LeftOut> =
            planned.iter().flat_map(|p| p.says.left_out(stretch, &places)).collect();
        all.sort_by_key(|l| l.stretch.from);
        Ok(all)
    }

    /// Adds a maintenance window; its id.
    pub async fn plan(
        &self,
        site_id: i32,
        says: &Maintenance,
        detail: &str,
        author: &str,
    ) -> Result<i32> {
        put(&self.lane, site_id, (&says.window, says), detail, author).await
    }

    /// Ends what a window was at the parting, and lets `next` go on; `None` when somebody changed it since `based_on`.
    pub async fn replan(
        &self,
        site_id: i32,
        (id, based_on): (i32, i32),
        before: Option<&Window>,
        next: Option<(&Window, &Maintenance, &str)>,
        author: &str,
    ) -> Result<Option<()>> {
        let mut tx = self.lane.begin().await?;
        let sql = "SELECT version FROM maintenance WHERE site_id = $1 AND id = $2 FOR UPDATE";
        let found: Option<i32> =
            sqlx::query_scalar(sql).bind(site_id).bind(id).fetch_optional(&mut *tx).await?;
        if found != Some(based_on) {
            return Ok(None);
        }
        match before {
            Some(was) => {
                let sql = "UPDATE maintenance SET says = $2, version = version + 1 WHERE id = $1";
                sqlx::query(sql).bind(id).bind(Json(was)).execute(&mut *tx).await?;
                if let Some((window, says, detail)) = next {
                    put(&mut *tx, site_id, (window, says), detail, author).await?;
                }
            }
            None => match next {
                Some((window, says, detail)) => {
                    let sql = "UPDATE maintenance SET says = $2, journeys = $3, locations = $4, holds = $5, detail = $6,
                                 author = $7, version = version + 1 WHERE id = $1";
                    let set = sqlx::query(sql).bind(id).bind(Json(window));
                    let set = set.bind(&says.reach.journeys).bind(&says.reach.locations);
                    set.bind(says.holds).bind(detail).bind(author).execute(&mut *tx).await?;
                }
                None => {
                    let sql = "DELETE FROM maintenance WHERE id = $1";
                    sqlx::query(sql).bind(id).execute(&mut *tx).await?;
                }
            },
        }
        tx.commit().await?;
        Ok(Some(()))
    }

    /// Ends an occurrence: the window is parted as [`Maintenance::ended`] says.
    pub async fn end_planned(
        &self,
        site_id: i32,
        planned: &Planned,
        parted: &Parted,
    ) -> Result<Option<()>> {
        let next = parted.after.as_ref().map(|w| (w, &planned.says, planned.detail.as_str()));
        let which = (planned.id, planned.version);
        self.replan(site_id, which, parted.before.as_ref(), next, &planned.author).await
    }

    /// Gives a site's maintenance an address for others, in place of the one that it had.
    pub async fn set_maintenance_feed(
        &self,
        site_id: i32,
        hash: &[u8],
        author: &str,
    ) -> Result<()> {
        let sql = "INSERT INTO maintenance_feed (site_id, token_sha256, author) VALUES ($1, $2, $3)
                   ON CONFLICT (site_id) DO UPDATE SET token_sha256 = excluded.token_sha256, author = excluded.author, made_at = now()";
        sqlx::query(sql).bind(site_id).bind(hash).bind(author).execute(&self.lane).await?;
        Ok(())
    }

    /// Closes the address; whether there was one.
    pub async fn remove_maintenance_feed(&self, site_id: i32) -> Result<bool> {
        let done = sqlx::query("DELETE FROM maintenance_feed WHERE site_id = $1").bind(site_id);
        Ok(done.execute(&self.lane).await?.rows_affected() > 0)
    }

    /// Who opened the address of a site's maintenance, and when.
    pub async fn maintenance_feed(&self, site_id: i32) -> Result<Option<(String, Timestamp)>> {
        let sql = "SELECT author, made_at FROM maintenance_feed WHERE site_id = $1";
        let row: Option<(String, jiff_sqlx::Timestamp)> =
            sqlx::query_as(sql).bind(site_id).fetch_optional(&self.lane).await?;
        Ok(row.map(|(author, at)| (author, at.to_jiff())))
    }

    /// The site whose maintenance has this address.
    pub async fn site_of_feed(&self, hash: &[u8]) -> Result<Option<i32>> {
        let sql = "SELECT site_id FROM maintenance_feed WHERE token_sha256 = $1";
        Ok(sqlx::query_scalar(sql).bind(hash).fetch_optional(&self.lane).await?)
    }
}
