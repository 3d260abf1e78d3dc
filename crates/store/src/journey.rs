//! Journeys: what is played, where and when.

use crate::db::{Db, Result, content};
use crate::script_version::Status;
use cadentis_core::calendar::Pace;
use cadentis_core::run::DeviceProfile;
use sqlx::{FromRow, PgConnection};

/// A scripted journey.
#[derive(Debug, Clone, FromRow)]
pub struct Journey {
    /// Its id.
    pub id: i32,
    /// The site.
    pub site_id: i32,
    /// Its name in addresses.
    pub slug: String,
    /// Its name.
    pub name: String,
    /// The newest version of its script.
    pub script: String,
    /// As it is kept; see [`Journey::pace`].
    #[sqlx(rename = "pace")]
    pub pace_kept: String,
    /// The shortest time between two runs at a location.
    pub every_s: i32,
    /// Slug of a device profile.
    pub device: String,
    /// Where it looks.
    pub environment: String,
    /// Whether a failed run is played once more before it counts.
    pub retry: bool,
    /// The journey it was copied from.
    pub copied_from: Option<i32>,
    /// The newest version of its script.
    pub version: i32,
    /// See [`Status`].
    pub status: String,
    /// Words to find it by.
    pub tags: Vec<String>,
    /// The team that owns it.
    pub team_id: Option<i32>,
    /// The name of that team; empty without one.
    pub owner: String,
    /// Whether its failure stops the visitor's business.
    pub essential: bool,
    /// Apdex target of a whole run, in seconds.
    pub apdex_t_s: f64,
}

impl Journey {
    /// How often it plays.
    pub fn pace(&self) -> Result<Pace> {
        self.pace_kept.parse().map_err(|e| content("journey.pace", e))
    }
}

/// Where, how often and on what a journey plays.
#[derive(Debug, Clone)]
pub struct PlaceAndPace<'a> {
    /// How often.
    pub pace: &'a Pace,
    /// From where.
    pub locations: &'a [i32],
    /// On what.
    pub device: &'a str,
    /// Where it looks.
    pub environment: &'a str,
    /// Whether a failed run is played once more before it counts.
    pub retry: bool,
}

impl<'a> PlaceAndPace<'a> {
    /// On the usual device, where visitors are, each failure counted at once.
    pub fn usual(pace: &'a Pace, locations: &'a [i32]) -> PlaceAndPace<'a> {
        PlaceAndPace {
            pace,
            locations,
            device: DeviceProfile::USUAL.slug,
            environment: "production",
            retry: false,
        }
    }
}

/// A journey that is to be.
#[derive(Debug, Clone)]
pub struct NewJourney<'a> {
    /// The site.
    pub site_id: i32,
    /// Its name in addresses.
    pub slug: &'a str,
    /// Its name.
    pub name: &'a str,
    /// Its script.
    pub script: &'a str,
    /// Apdex target of a whole run, in seconds.
    pub apdex_t_s: f64,
    /// Who adds it.
    pub author: &'a str,
    /// Where, how often and on what it plays.
    pub plays: PlaceAndPace<'a>,
    /// What it is from the first moment on: nobody is given work of a journey that is still being made.
    pub status: Status,
}

/// The locations a journey plays at from now on, starts spread in their order.
async fn play_at(tx: &mut PgConnection, journey_id: i32, locations: &[i32]) -> Result<()> {
    sqlx::query("DELETE FROM journey_location WHERE journey_id = $1 AND location_id <> ALL ($2)")
        .bind(journey_id)
        .bind(locations)
        .execute(&mut *tx)
        .await?;
    // A location that stays keeps its place in the spread.
    sqlx::query(
        "INSERT INTO journey_location SELECT $1, l, (SELECT coalesce(max(nth), -1) FROM journey_location WHERE journey_id = $1) + at
         FROM unnest($2::int[]) WITH ORDINALITY AS given(l, at)
         WHERE l NOT IN (SELECT location_id FROM journey_location WHERE journey_id = $1)",
    )
    .bind(journey_id)
    .bind(locations)
    .execute(&mut *tx)
    .await?;
    Ok(())
}

const JOURNEY: &str =
    "SELECT j.*, coalesce(t.name, '') AS owner FROM journey j LEFT JOIN team t ON t.id = j.team_id";

impl Db {
    /// The journeys of a site.
    pub async fn journeys(&self, site_id: i32) -> Result<Vec<Journey>> {
        let sql = format!("{JOURNEY} WHERE j.site_id = $1 ORDER BY j.id");
        let sql = sqlx::AssertSqlSafe(sql);
        Ok(sqlx::query_as(sql).bind(site_id).fetch_all(&self.lane).await?)
    }

    /// The journey with this name in addresses.
    pub async fn journey(&self, site_id: i32, slug: &str) -> Result<Option<Journey>> {
        let sql = format!("{JOURNEY} WHERE j.site_id = $1 AND j.slug = $2");
        let sql = sqlx::AssertSqlSafe(sql);
        Ok(sqlx::query_as(sql).bind(site_id).bind(slug).fetch_optional(&self.lane).await?)
    }

    /// Adds a journey that plays at these locations, starts spread in their order.
    pub async fn add_journey(&self, j: &NewJourney<'_>) -> Result<i32> {
        let mut tx = self.lane.begin().await?;
        let id: i32 = sqlx::query_scalar(
            "INSERT INTO journey (site_id, slug, name, script, every_s, apdex_t_s, pace, device, environment, retry, status, team_id)
             VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, (SELECT team_id FROM site WHERE id = $1)) RETURNING id",
        )
        .bind(j.site_id)
        .bind(j.slug)
        .bind(j.name)
        .bind(j.script)
        .bind(j.plays.pace.slot_s() as i32)
        .bind(j.apdex_t_s)
        .bind(j.plays.pace.to_string())
        .bind(j.plays.device)
        .bind(j.plays.environment)
        .bind(j.plays.retry)
        .bind(j.status.word())
        .fetch_one(&mut *tx)
        .await?;
        sqlx::query("INSERT INTO script_version VALUES ($1, 1, $2, $3, 'first version', now())")
            .bind(id)
            .bind(j.script)
            .bind(j.author)
            .execute(&mut *tx)
            .await?;
        play_at(&mut tx, id, j.plays.locations).await?;
        tx.commit().await?;
        Ok(id)
    }

    /// Changes where, how often and on what a journey plays. What waits at places or moments that are no more is
    /// dropped; one that was finished plays again.
    pub async fn set_place_and_pace(
        &self,
        journey_id: i32,
        plays: &PlaceAndPace<'_>,
    ) -> Result<()> {
        let mut tx = self.lane.begin().await?;
        sqlx::query(
            "UPDATE journey SET every_s = $2, pace = $3, device = $4, environment = $5, retry = $6,
                    status = CASE WHEN status = 'finished' AND pace <> $3 THEN 'active' ELSE status END WHERE id = $1",
        )
        .bind(journey_id)
        .bind(plays.pace.slot_s() as i32)
        .bind(plays.pace.to_string())
        .bind(plays.device)
        .bind(plays.environment)
        .bind(plays.retry)
        .execute(&mut *tx)
        .await?;
        play_at(&mut tx, journey_id, plays.locations).await?;
        crate::work::drop_waiting(&mut tx, journey_id).await?;
        tx.commit().await?;
        Ok(())
    }
}
