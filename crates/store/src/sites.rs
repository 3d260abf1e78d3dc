//! Sites, locations, journeys, goals, and what is pinned to the time axis.

use crate::db::{Db, Result, content};
use crate::scripts::Status;
use cadentis_core::calendar::{Cadence, Cover, Pace, Stretch};
use cadentis_core::goal::budget::{Budget, Metric, Scope, Statistic};
use cadentis_core::run::DeviceProfile;
use cadentis_core::run::reach::Denied;
use cadentis_core::timing::Vital;
use cadentis_core::visitor::beacon::{origin_host, owns};
use cadentis_core::visitor::collecting::breaks;
use cadentis_core::visitor::{Collecting, Families, family};
use jiff::{Timestamp, tz::TimeZone};
use jiff_sqlx::ToSqlx;
use sqlx::types::Json;
use sqlx::{AssertSqlSafe, FromRow, PgConnection};
use std::collections::HashMap;

/// Patterns and names of page families, first match wins.
pub type Patterns = Vec<(String, String)>;

/// A site whose journeys are played and whose visitors report.
#[derive(Debug, Clone)]
pub struct Site {
    /// Its id.
    pub id: i32,
    /// What pages show to report to it.
    pub key: String,
    /// Its name.
    pub name: String,
    /// Whose midnight begins its days.
    pub zone: TimeZone,
    /// Hosts that are its own, with everything below them.
    pub domains: Vec<String>,
    /// Its page families.
    pub families: Families,
    /// Apdex target of page loads, in seconds.
    pub apdex_t_s: f64,
    /// Common parts of its scripts, as text.
    pub parts: String,
    /// Name and address of each environment; the first is what visitors use.
    pub environments: Vec<(String, String)>,
    /// How long evidence is kept, in days; of runs that failed.
    pub keep_days: i32,
    /// Of runs that failed.
    pub keep_failed_days: i32,
    /// Where the back end shows a trace, with `{trace}` for its id; empty when it does not.
    pub trace_link: String,
    /// How long anything is known of people, in days.
    pub keep_people_days: i32,
    /// How page views are collected.
    pub collecting: Collecting,
    /// Its page families as they are kept.
    pub patterns: Patterns,
}

impl Site {
    /// The environment whose address has this host; the first when none has.
    pub fn environment_of(&self, host: &str) -> &str {
        let of = |address: &str| origin_host(address) == host;
        let found =
            self.environments.iter().find(|(_, address)| of(address)).or(self.environments.first());
        found.map_or("", |(name, _)| name)
    }

    /// The names of its environments; without any there is production alone.
    pub fn environment_names(&self) -> Vec<String> {
        let names: Vec<String> = self.environments.iter().map(|(name, _)| name.clone()).collect();
        if names.is_empty() { vec!["production".into()] } else { names }
    }

    /// The address of a trace in the back end.
    pub fn trace_address(&self, trace: &str) -> Option<String> {
        (!self.trace_link.is_empty()).then(|| self.trace_link.replace("{trace}", trace))
    }

    /// Whether a host name belongs to the site: one of its domains or below one.
    pub fn owns(&self, host: &str) -> bool {
        owns(&self.domains, host)
    }

    /// Name of its zone.
    pub fn zone_name(&self) -> &str {
        self.zone.iana_name().unwrap_or("UTC")
    }
}

#[derive(FromRow)]
struct SiteRow {
    id: i32,
    key: String,
    name: String,
    zone: String,
    domains: Vec<String>,
    families: Json<Patterns>,
    apdex_t_s: f64,
    parts: String,
    environments: Json<Vec<(String, String)>>,
    keep_days: i32,
    keep_failed_days: i32,
    trace_link: String,
    keep_people_days: i32,
    collecting: Json<Collecting>,
}

impl SiteRow {
    fn site(self) -> Result<Site> {
        Ok(Site {
            id: self.id,
            key: self.key,
            name: self.name,
            zone: TimeZone::get(&self.zone).map_err(|e| content("site.zone", e))?,
            domains: self.domains,
            families: Families::new(self.families.0.iter().cloned()),
            patterns: self.families.0,
            apdex_t_s: self.apdex_t_s,
            parts: self.parts,
            environments: self.environments.0,
            keep_days: self.keep_days,
            keep_failed_days: self.keep_failed_days,
            trace_link: self.trace_link,
            keep_people_days: self.keep_people_days,
            collecting: self.collecting.0,
        })
    }
}

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
    /// Who may save its script; nobody named: everybody.
    pub editors: Vec<String>,
    /// The journey it was copied from.
    pub copied_from: Option<i32>,
    /// The newest version of its script.
    pub version: i32,
    /// See [`Status`].
    pub status: String,
    /// Words to find it by.
    pub tags: Vec<String>,
    /// Whose it is.
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

    /// Whether somebody of this name may save its script.
    pub fn may_be_edited_by(&self, name: &str) -> bool {
        self.editors.is_empty() || self.owner == name || self.editors.iter().any(|e| e == name)
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

/// Something that happened, pinned to the time axis.
#[derive(Debug, Clone)]
pub struct Marker {
    /// When.
    pub at: Timestamp,
    /// What, in a word or two.
    pub title: String,
    /// More of it.
    pub detail: String,
}

/// Time that does not count: planned (maintenance) or taken out afterwards (a carve-out).
#[derive(Debug, Clone)]
pub struct LeftOut {
    /// From when to when.
    pub stretch: Stretch,
    /// Why it does not count.
    pub why: String,
    /// Who carved it out; `None` for maintenance.
    pub author: Option<String>,
}

impl LeftOut {
    /// All the time that some of these leave out.
    pub fn cover(all: &[LeftOut]) -> Cover {
        Cover::of(all.iter().map(|l| l.stretch))
    }
}

type WindowRow = (jiff_sqlx::Timestamp, jiff_sqlx::Timestamp, String, Option<String>);

fn left_out(rows: Vec<WindowRow>) -> Vec<LeftOut> {
    rows.into_iter()
        .map(|(from, to, why, author)| LeftOut {
            stretch: Stretch { from: from.to_jiff(), to: to.to_jiff() },
            why,
            author,
        })
        .collect()
}

impl Db {
    /// All sites.
    pub async fn sites(&self) -> Result<Vec<Site>> {
        let rows: Vec<SiteRow> =
            sqlx::query_as("SELECT * FROM site ORDER BY id").fetch_all(&self.pool).await?;
        rows.into_iter().map(SiteRow::site).collect()
    }

    /// The site with this key.
    pub async fn site_by_key(&self, key: &str) -> Result<Option<Site>> {
        let row: Option<SiteRow> = sqlx::query_as("SELECT * FROM site WHERE key = $1")
            .bind(key)
            .fetch_optional(&self.pool)
            .await?;
        row.map(SiteRow::site).transpose()
    }

    /// All locations.
    pub async fn locations(&self) -> Result<Vec<Location>> {
        let sql = AssertSqlSafe(format!("SELECT {LOCATION} FROM location l ORDER BY id"));
        Ok(sqlx::query_as(sql).fetch_all(&self.pool).await?)
    }

    /// The locations a journey plays at, in the order of their starts, each with its cadence.
    pub async fn locations_of(&self, journey: &Journey) -> Result<Vec<(Location, Cadence)>> {
        let rows: Vec<Location> = sqlx::query_as(AssertSqlSafe(format!(
            "SELECT {LOCATION} FROM location l JOIN journey_location jl ON jl.location_id = l.id
             WHERE jl.journey_id = $1 ORDER BY jl.nth"
        )))
        .bind(journey.id)
        .fetch_all(&self.pool)
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
                Ok(sqlx::query_as(sql).bind(&ids).fetch_all(&self.pool).await?)
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

    /// The journeys of a site.
    pub async fn journeys(&self, site_id: i32) -> Result<Vec<Journey>> {
        let sql = "SELECT * FROM journey WHERE site_id = $1 ORDER BY id";
        Ok(sqlx::query_as(sql).bind(site_id).fetch_all(&self.pool).await?)
    }

    /// The journey with this name in addresses.
    pub async fn journey(&self, site_id: i32, slug: &str) -> Result<Option<Journey>> {
        let sql = "SELECT * FROM journey WHERE site_id = $1 AND slug = $2";
        Ok(sqlx::query_as(sql).bind(site_id).bind(slug).fetch_optional(&self.pool).await?)
    }

    /// The goals of a site.
    pub async fn goals(&self, site_id: i32) -> Result<Vec<Goal>> {
        let sql = "SELECT * FROM goal WHERE site_id = $1 ORDER BY id";
        Ok(sqlx::query_as(sql).bind(site_id).fetch_all(&self.pool).await?)
    }

    /// The limits on vitals at the 75th percentile, in the order they were set.
    pub async fn budgets(&self, site_id: i32) -> Result<Vec<Budget>> {
        let sql = "SELECT family, vital, limit_value FROM budget WHERE site_id = $1 ORDER BY id";
        let rows: Vec<(Option<String>, String, f64)> =
            sqlx::query_as(sql).bind(site_id).fetch_all(&self.pool).await?;
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

    /// The markers in a stretch.
    pub async fn markers(&self, site_id: i32, stretch: Stretch) -> Result<Vec<Marker>> {
        let rows: Vec<(jiff_sqlx::Timestamp, String, String)> = sqlx::query_as(
            "SELECT at, title, detail FROM marker WHERE site_id = $1 AND at >= $2 AND at < $3 ORDER BY at",
        )
        .bind(site_id)
        .bind(stretch.from.to_sqlx())
        .bind(stretch.to.to_sqlx())
        .fetch_all(&self.pool)
        .await?;
        Ok(rows
            .into_iter()
            .map(|(at, title, detail)| Marker { at: at.to_jiff(), title, detail })
            .collect())
    }

    /// Maintenance that touches the stretch, with its own full extent.
    pub async fn maintenance(&self, site_id: i32, stretch: Stretch) -> Result<Vec<LeftOut>> {
        let rows: Vec<WindowRow> = sqlx::query_as(
            "SELECT from_at, to_at, why, NULL::text FROM maintenance
             WHERE site_id = $1 AND to_at > $2 AND from_at < $3 ORDER BY from_at",
        )
        .bind(site_id)
        .bind(stretch.from.to_sqlx())
        .bind(stretch.to.to_sqlx())
        .fetch_all(&self.pool)
        .await?;
        Ok(left_out(rows))
    }

    /// What was taken out of a goal.
    pub async fn carve_outs(&self, goal_id: i32) -> Result<Vec<LeftOut>> {
        let rows: Vec<WindowRow> = sqlx::query_as(
            "SELECT from_at, to_at, why, author FROM carve_out WHERE goal_id = $1 ORDER BY from_at",
        )
        .bind(goal_id)
        .fetch_all(&self.pool)
        .await?;
        Ok(left_out(rows))
    }

    /// Adds a site; its id.
    pub async fn add_site(&self, site: &NewSite<'_>) -> Result<i32> {
        let sql = "INSERT INTO site (key, name, zone, domains, families, apdex_t_s)
                   VALUES ($1, $2, $3, $4, $5, $6) RETURNING id";
        Ok(sqlx::query_scalar(sql)
            .bind(site.key)
            .bind(site.name)
            .bind(site.zone)
            .bind(site.domains)
            .bind(Json(site.families))
            .bind(site.apdex_t_s)
            .fetch_one(&self.pool)
            .await?)
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
            .fetch_one(&self.pool)
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
            .execute(&self.pool)
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
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Adds a journey that plays at these locations, starts spread in their order.
    pub async fn add_journey(&self, j: &NewJourney<'_>) -> Result<i32> {
        let mut tx = self.pool.begin().await?;
        let id: i32 = sqlx::query_scalar(
            "INSERT INTO journey (site_id, slug, name, script, every_s, apdex_t_s, pace, device, environment, retry, status)
             VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11) RETURNING id",
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
        let mut tx = self.pool.begin().await?;
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

    /// What is collected from visitors, which pages are one family, which hosts are the site's, how long people are
    /// known.
    pub async fn set_collecting(&self, site: &Site, now: Timestamp) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        let (t_s, Json(held), Json(patterns)): (f64, Json<Collecting>, Json<Patterns>) =
            sqlx::query_as(
                "SELECT apdex_t_s, collecting, families FROM site WHERE id = $1 FOR UPDATE",
            )
            .bind(site.id)
            .fetch_one(&mut *tx)
            .await?;
        let collecting = site.collecting.clone().after(&held, now);
        sqlx::query(
            "UPDATE site SET collecting = $2, families = $3, domains = $4, keep_people_days = $5, apdex_t_s = $6 WHERE id = $1",
        )
        .bind(site.id)
        .bind(Json(&collecting))
        .bind(Json(&site.patterns))
        .bind(&site.domains)
        .bind(site.keep_people_days)
        .bind(site.apdex_t_s)
        .execute(&mut *tx)
        .await?;
        for (was, is) in family::renamed(&patterns, &site.patterns) {
            for sql in [
                "UPDATE budget SET family = $3 WHERE site_id = $1 AND family = $2",
                "UPDATE funnel SET steps = array_replace(steps, $2, $3) WHERE site_id = $1 AND $2 = ANY (steps)",
            ] {
                sqlx::query(sql).bind(site.id).bind(&was).bind(&is).execute(&mut *tx).await?;
            }
        }
        for (title, detail) in breaks((t_s, site.apdex_t_s), (held.sample, collecting.sample)) {
            put_marker(&mut tx, site.id, now, &title, detail).await?;
        }
        tx.commit().await?;
        Ok(())
    }

    /// The funnels of a site by name.
    pub async fn funnels(&self, site_id: i32) -> Result<Vec<SavedFunnel>> {
        let sql = "SELECT name, steps, within_s FROM funnel WHERE site_id = $1 ORDER BY name";
        Ok(sqlx::query_as(sql).bind(site_id).fetch_all(&self.pool).await?)
    }

    /// Keeps a funnel; one of the same name is replaced.
    pub async fn save_funnel(&self, site_id: i32, funnel: &SavedFunnel) -> Result<()> {
        sqlx::query(
            "INSERT INTO funnel (site_id, name, steps, within_s) VALUES ($1, $2, $3, $4)
             ON CONFLICT (site_id, name) DO UPDATE SET steps = excluded.steps, within_s = excluded.within_s",
        )
        .bind(site_id)
        .bind(&funnel.name)
        .bind(&funnel.steps)
        .bind(funnel.within_s)
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Deletes a funnel.
    pub async fn delete_funnel(&self, site_id: i32, name: &str) -> Result<()> {
        let sql = "DELETE FROM funnel WHERE site_id = $1 AND name = $2";
        sqlx::query(sql).bind(site_id).bind(name).execute(&self.pool).await?;
        Ok(())
    }

    /// Environments, how long evidence is kept, where traces are.
    pub async fn set_site(&self, site: &Site) -> Result<()> {
        let sql = "UPDATE site SET environments = $2, keep_days = $3, keep_failed_days = $4, trace_link = $5 WHERE id = $1";
        sqlx::query(sql)
            .bind(site.id)
            .bind(Json(&site.environments))
            .bind(site.keep_days)
            .bind(site.keep_failed_days)
            .bind(&site.trace_link)
            .execute(&self.pool)
            .await?;
        Ok(())
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
            .fetch_one(&self.pool)
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
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Adds a marker.
    pub async fn add_marker(
        &self,
        site_id: i32,
        at: Timestamp,
        title: &str,
        detail: &str,
    ) -> Result<()> {
        put_marker(&mut *self.pool.acquire().await?, site_id, at, title, detail).await
    }

    /// Adds maintenance.
    pub async fn add_maintenance(&self, site_id: i32, stretch: Stretch, why: &str) -> Result<()> {
        sqlx::query(
            "INSERT INTO maintenance (site_id, from_at, to_at, why) VALUES ($1, $2, $3, $4)",
        )
        .bind(site_id)
        .bind(stretch.from.to_sqlx())
        .bind(stretch.to.to_sqlx())
        .bind(why)
        .execute(&self.pool)
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
            .execute(&self.pool)
            .await?;
        Ok(())
    }
}

/// A funnel as it is kept: page families in order, from the first to the last within so many seconds.
#[derive(Debug, Clone, PartialEq, FromRow)]
pub struct SavedFunnel {
    /// Its name.
    pub name: String,
    /// Its page families, in order.
    pub steps: Vec<String>,
    /// From the first page to the last within so many seconds.
    pub within_s: i32,
}

/// A site that is to be.
#[derive(Debug, Clone)]
pub struct NewSite<'a> {
    /// What pages show to report to it.
    pub key: &'a str,
    /// Its name.
    pub name: &'a str,
    /// Name of its zone.
    pub zone: &'a str,
    /// Hosts that are its own.
    pub domains: &'a [String],
    /// Patterns and names of its page families.
    pub families: &'a [(String, String)],
    /// Apdex target of page loads, in seconds.
    pub apdex_t_s: f64,
}

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

async fn put_marker(
    to: &mut PgConnection,
    site_id: i32,
    at: Timestamp,
    title: &str,
    detail: &str,
) -> Result<()> {
    sqlx::query("INSERT INTO marker (site_id, at, title, detail) VALUES ($1, $2, $3, $4)")
        .bind(site_id)
        .bind(at.to_sqlx())
        .bind(title)
        .bind(detail)
        .execute(to)
        .await?;
    Ok(())
}
