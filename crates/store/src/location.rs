//! Locations: from where journeys are played.

use crate::db::{Db, Result};
use crate::journey::Journey;
use cadentis_core::calendar::Cadence;
use cadentis_core::run::reach::Denied;
use sqlx::{AssertSqlSafe, FromRow};
use std::collections::HashMap;

/// Where journeys are played.
#[derive(Debug, Clone, FromRow)]
pub struct Location {
    /// Its id.
    pub id: i32,
    /// Its name in addresses.
    pub slug: String,
    /// Its name.
    pub name: String,
    /// ISO 3166 code.
    pub country: String,
    /// `public` or `in-house`.
    pub kind: String,
    /// Name of its zone.
    pub zone: String,
    /// In degrees.
    pub latitude: Option<f64>,
    /// In degrees.
    pub longitude: Option<f64>,
    /// SOCKS5 proxy that leads out of it, as host and port.
    pub proxy: Option<String>,
    /// Networks that its runner must not reach.
    pub denied: Vec<String>,
}

const LOCATION: &str =
    "l.id, l.slug, l.name, l.country, l.kind, l.zone, l.latitude, l.longitude, l.proxy, l.denied";

/// A location that is to be.
#[derive(Debug, Clone)]
pub struct NewLocation<'a> {
    /// Its name in addresses.
    pub slug: &'a str,
    /// Its name.
    pub name: &'a str,
    /// ISO 3166 code.
    pub country: &'a str,
    /// `public` or `in-house`.
    pub kind: &'a str,
    /// Name of its zone.
    pub zone: &'a str,
    /// What its runners show.
    pub token: &'a str,
    /// Latitude and longitude, in degrees.
    pub at: Option<(f64, f64)>,
    /// SOCKS5 proxy that leads out of it.
    pub proxy: Option<&'a str>,
    /// Networks that its runner must not reach; see [`Denied::to_public`].
    pub denied: Denied,
}

impl Db {
    /// All locations.
    pub async fn locations(&self) -> Result<Vec<Location>> {
        let sql = AssertSqlSafe(format!("SELECT {LOCATION} FROM location l ORDER BY id"));
        Ok(sqlx::query_as(sql).fetch_all(&self.lane).await?)
    }

    /// The locations a journey plays at, in the order of their starts, each with its cadence.
    pub async fn locations_of(&self, journey: &Journey) -> Result<Vec<(Location, Cadence)>> {
        let rows: Vec<Location> = sqlx::query_as(AssertSqlSafe(format!(
            "SELECT {LOCATION} FROM location l JOIN journey_location jl ON jl.location_id = l.id
             WHERE jl.journey_id = $1 ORDER BY jl.nth"
        )))
        .bind(journey.id)
        .fetch_all(&self.lane)
        .await?;
        let pace = journey.pace()?;
        Ok(rows.into_iter().enumerate().map(|(nth, l)| (l, pace.cadence(nth))).collect())
    }

    /// The locations of each of these journeys in their order, by journey.
    pub async fn locations_of_all(
        &self,
        journeys: &[Journey],
    ) -> Result<HashMap<i32, Vec<(Location, Cadence)>>> {
        let ids: Vec<i32> = journeys.iter().map(|j| j.id).collect();
        let (locations, plays): (Vec<Location>, Vec<(i32, i32)>) = futures::try_join!(
            self.locations(),
            async {
                let sql = "SELECT journey_id, location_id FROM journey_location WHERE journey_id = ANY($1) ORDER BY nth";
                Ok(sqlx::query_as(sql).bind(&ids).fetch_all(&self.lane).await?)
            }
        )?;
        let mut all = HashMap::new();
        for journey in journeys {
            let pace = journey.pace()?;
            let own = plays.iter().filter(|(id, _)| *id == journey.id);
            let own = own.filter_map(|(_, at)| locations.iter().find(|l| l.id == *at)).cloned();
            all.insert(
                journey.id,
                own.enumerate().map(|(nth, l)| (l, pace.cadence(nth))).collect(),
            );
        }
        Ok(all)
    }

    /// Adds a location whose runner shows `token`.
    pub async fn add_location(&self, l: &NewLocation<'_>) -> Result<i32> {
        let sql =
            "INSERT INTO location (slug, name, country, kind, zone, token_sha256, latitude, longitude, proxy, denied)
                   VALUES ($1, $2, $3, $4, $5, sha256(convert_to($6, 'UTF8')), $7, $8, $9, $10) RETURNING id";
        Ok(sqlx::query_scalar(sql)
            .bind(l.slug)
            .bind(l.name)
            .bind(l.country)
            .bind(l.kind)
            .bind(l.zone)
            .bind(l.token)
            .bind(l.at.map(|(latitude, _)| latitude))
            .bind(l.at.map(|(_, longitude)| longitude))
            .bind(l.proxy)
            .bind(l.denied.texts())
            .fetch_one(&self.lane)
            .await?)
    }

    /// Where a location is, the proxy that leads out of it, and what must not be reached from there.
    pub async fn set_where(
        &self,
        slug: &str,
        at: Option<(f64, f64)>,
        proxy: Option<&str>,
        denied: &Denied,
    ) -> Result<()> {
        sqlx::query("UPDATE location SET latitude = $2, longitude = $3, proxy = $4, denied = $5 WHERE slug = $1")
            .bind(slug)
            .bind(at.map(|(latitude, _)| latitude))
            .bind(at.map(|(_, longitude)| longitude))
            .bind(proxy)
            .bind(denied.texts())
            .execute(&self.lane)
            .await?;
        Ok(())
    }

    /// Gives a location's runner a new token; the old one is worth nothing from now on.
    pub async fn set_token(&self, slug: &str, token: &str) -> Result<()> {
        sqlx::query(
            "UPDATE location SET token_sha256 = sha256(convert_to($2, 'UTF8')) WHERE slug = $1",
        )
        .bind(slug)
        .bind(token)
        .execute(&self.lane)
        .await?;
        Ok(())
    }
}
