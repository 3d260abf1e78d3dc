//! Sites: whose journeys are played and whose visitors report.

use crate::db::{Db, Result, content};
use crate::marker::put_marker;
use crate::renamed::rename_family;
use cadentis_core::marker::{Kind, Said};
use cadentis_core::site::slug_of;
use cadentis_core::visitor::beacon::{origin_host, owns};
use cadentis_core::visitor::collecting::{breaks, t_break};
use cadentis_core::visitor::{Collecting, Families, family};
use jiff::{Timestamp, tz::TimeZone};
use sqlx::FromRow;
use sqlx::types::Json;
use std::collections::BTreeMap;

/// Patterns and names of page families, first match wins.
pub type Patterns = Vec<(String, String)>;

/// A site whose journeys are played and whose visitors report.
#[derive(Debug, Clone)]
pub struct Site {
    /// Its id.
    pub id: i32,
    /// What pages show to report to it.
    pub key: String,
    /// Its name in addresses.
    pub slug: String,
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
    /// The same of page families that have one of their own.
    pub family_t: BTreeMap<String, f64>,
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
    /// Since when nothing is played there and no page view is taken.
    pub archived_at: Option<Timestamp>,
    /// The team that its new journeys belong to.
    pub team_id: Option<i32>,
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

    /// Apdex target of a page family, in seconds: its own, or the site's.
    pub fn t_of(&self, family: &str) -> f64 {
        self.family_t.get(family).copied().unwrap_or(self.apdex_t_s)
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
    slug: String,
    name: String,
    zone: String,
    domains: Vec<String>,
    families: Json<Patterns>,
    apdex_t_s: f64,
    family_t: Json<BTreeMap<String, f64>>,
    parts: String,
    environments: Json<Vec<(String, String)>>,
    keep_days: i32,
    keep_failed_days: i32,
    trace_link: String,
    keep_people_days: i32,
    collecting: Json<Collecting>,
    archived_at: Option<jiff_sqlx::Timestamp>,
    team_id: Option<i32>,
}

impl SiteRow {
    fn site(self) -> Result<Site> {
        Ok(Site {
            id: self.id,
            key: self.key,
            slug: self.slug,
            name: self.name,
            zone: TimeZone::get(&self.zone).map_err(|e| content("site.zone", e))?,
            domains: self.domains,
            families: Families::new(self.families.0.iter().cloned()),
            patterns: self.families.0,
            apdex_t_s: self.apdex_t_s,
            family_t: self.family_t.0,
            parts: self.parts,
            environments: self.environments.0,
            keep_days: self.keep_days,
            keep_failed_days: self.keep_failed_days,
            trace_link: self.trace_link,
            keep_people_days: self.keep_people_days,
            collecting: self.collecting.0,
            archived_at: self.archived_at.map(|at| at.to_jiff()),
            team_id: self.team_id,
        })
    }
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

impl Db {
    /// All sites.
    pub async fn sites(&self) -> Result<Vec<Site>> {
        let rows: Vec<SiteRow> =
            sqlx::query_as("SELECT * FROM site ORDER BY id").fetch_all(&self.lane).await?;
        rows.into_iter().map(SiteRow::site).collect()
    }

    /// The site with this key.
    pub async fn site_by_key(&self, key: &str) -> Result<Option<Site>> {
        let row: Option<SiteRow> = sqlx::query_as("SELECT * FROM site WHERE key = $1")
            .bind(key)
            .fetch_optional(&self.lane)
            .await?;
        row.map(SiteRow::site).transpose()
    }

    /// The site with this name in addresses.
    pub async fn site_by_slug(&self, slug: &str) -> Result<Option<Site>> {
        let row: Option<SiteRow> = sqlx::query_as("SELECT * FROM site WHERE slug = $1")
            .bind(slug)
            .fetch_optional(&self.lane)
            .await?;
        row.map(SiteRow::site).transpose()
    }

    /// The site that had this name in addresses and has another one now.
    pub async fn site_that_was(&self, slug: &str) -> Result<Option<Site>> {
        let sql = "SELECT s.* FROM site_was w JOIN site s ON s.id = w.site_id WHERE w.slug = $1 AND s.slug <> $1";
        let row: Option<SiteRow> =
            sqlx::query_as(sql).bind(slug).fetch_optional(&self.lane).await?;
        row.map(SiteRow::site).transpose()
    }

    /// Adds a site; its id. Its name in addresses is made of its name, with a number behind it when that is taken.
    pub async fn add_site(&self, site: &NewSite<'_>) -> Result<i32> {
        let slug = slug_of(site.name);
        let sql = "INSERT INTO site (key, name, zone, domains, families, apdex_t_s, slug)
                   SELECT $1, $2, $3, $4, $5, $6, $7 || CASE WHEN EXISTS (SELECT FROM site WHERE slug = $7)
                     THEN '-' || (SELECT max(id) + 1 FROM site) ELSE '' END RETURNING id";
        Ok(sqlx::query_scalar(sql)
            .bind(site.key)
            .bind(site.name)
            .bind(site.zone)
            .bind(site.domains)
            .bind(Json(site.families))
            .bind(site.apdex_t_s)
            .bind(slug)
            .fetch_one(&self.lane)
            .await?)
    }

    /// What is collected from visitors, which pages are one family, which hosts are the site's, how long people are
    /// known.
    pub async fn set_collecting(&self, site: &Site, now: Timestamp) -> Result<()> {
        let mut tx = self.lane.begin().await?;
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
            rename_family(&mut tx, site.id, &was, &is).await?;
        }
        for (title, detail) in breaks((t_s, site.apdex_t_s), (held.sample, collecting.sample)) {
            let said = Said { kind: Kind::Change, title, detail: detail.into(), ..Said::default() };
            put_marker(&mut *tx, Some(site.id), now, &said, "").await?;
        }
        tx.commit().await?;
        Ok(())
    }

    /// Apdex targets of page families, in seconds; without one a family has the site's. Each that is another is a marker.
    pub async fn set_family_t(
        &self,
        site_id: i32,
        wanted: &[(String, Option<f64>)],
        author: &str,
        now: Timestamp,
    ) -> Result<()> {
        let mut tx = self.lane.begin().await?;
        let (t_s, Json(mut all)): (f64, Json<BTreeMap<String, f64>>) =
            sqlx::query_as("SELECT apdex_t_s, family_t FROM site WHERE id = $1 FOR UPDATE")
                .bind(site_id)
                .fetch_one(&mut *tx)
                .await?;
        for (family, is) in wanted {
            let was = match is {
                Some(is) => all.insert(family.clone(), *is),
                None => all.remove(family),
            };
            let of = (was.unwrap_or(t_s), is.unwrap_or(t_s));
            if let Some((title, detail)) = t_break(Some(family), of) {
                let kind = Kind::Change;
                let said = Said { kind, title, detail: detail.into(), ..Said::default() };
                put_marker(&mut *tx, Some(site_id), now, &said, author).await?;
            }
        }
        sqlx::query("UPDATE site SET family_t = $2 WHERE id = $1")
            .bind(site_id)
            .bind(Json(&all))
            .execute(&mut *tx)
            .await?;
        tx.commit().await?;
        Ok(())
    }

    /// What a site is called, in words and in addresses, its zone and its domains; `false` when another one has that name in
    /// addresses.
    pub async fn rename_site(&self, site: &Site) -> Result<bool> {
        // What it was called leads to it from now on; of two that were called so, to the one that was last.
        let sql = "WITH was AS (
                     INSERT INTO site_was SELECT slug, id FROM site
                     WHERE id = $1 AND slug <> $3 AND NOT EXISTS (SELECT FROM site WHERE slug = $3 AND id <> $1)
                     ON CONFLICT (slug) DO UPDATE SET site_id = excluded.site_id)
                   UPDATE site SET name = $2, slug = $3, zone = $4, domains = $5, team_id = (SELECT id FROM team WHERE id = $6)
                   WHERE id = $1
                     AND NOT EXISTS (SELECT FROM site WHERE slug = $3 AND id <> $1)";
        let done = sqlx::query(sql)
            .bind(site.id)
            .bind(&site.name)
            .bind(&site.slug)
            .bind(site.zone_name())
            .bind(&site.domains)
            .bind(site.team_id)
            .execute(&self.lane)
            .await;
        match done {
            Ok(done) => Ok(done.rows_affected() > 0),
            // Somebody else took the name meanwhile.
            Err(e) if e.as_database_error().is_some_and(|e| e.is_unique_violation()) => Ok(false),
            Err(e) => Err(e.into()),
        }
    }

    /// Lets a site rest, or go on: runs that wait are not played any more.
    pub async fn set_archived(&self, site_id: i32, archived: bool) -> Result<()> {
        let mut tx = self.lane.begin().await?;
        let sql = "UPDATE site SET archived_at = CASE WHEN $2 THEN coalesce(archived_at, now()) END WHERE id = $1";
        sqlx::query(sql).bind(site_id).bind(archived).execute(&mut *tx).await?;
        if archived {
            let sql = "DELETE FROM work WHERE site_id = $1 AND attempts = 0";
            sqlx::query(sql).bind(site_id).execute(&mut *tx).await?;
        }
        tx.commit().await?;
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
            .execute(&self.lane)
            .await?;
        Ok(())
    }
}
