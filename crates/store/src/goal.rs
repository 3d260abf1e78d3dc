//! Goals, budgets, and what was taken out of them.

use crate::db::{Db, Result, content};
use cadentis_core::calendar::{LeftOut, Reach, Stretch};
use cadentis_core::goal::budget::{Budget, Metric, Scope, Statistic};
use cadentis_core::goal::{Definition, Period};
use cadentis_core::timing::Vital;
use jiff::Timestamp;
use jiff::tz::TimeZone;
use jiff_sqlx::ToSqlx;
use sqlx::types::Json;
use sqlx::{FromRow, PgConnection};

/// A promise, with all that it ever said.
#[derive(Debug, Clone, PartialEq)]
pub struct Goal {
    /// Its id.
    pub id: i32,
    /// The site.
    pub site_id: i32,
    /// Its name.
    pub name: String,
    /// What it says and said, newest first; never empty.
    pub versions: Vec<Version>,
}

/// What a goal says from a moment on.
#[derive(Debug, Clone, PartialEq)]
pub struct Version {
    /// Which one, from 1.
    pub version: i32,
    /// What it says.
    pub definition: Definition,
    /// Windows that begin then or later are judged by it.
    pub from: Timestamp,
    /// Who made it; nobody who is known for goals of before there were people.
    pub author: String,
    /// When it was made.
    pub made_at: Timestamp,
}

impl Goal {
    /// The version that was in force at a moment; before the first one it is the first.
    pub fn at(&self, at: Timestamp) -> &Version {
        let in_force = self.versions.iter().find(|v| v.from <= at);
        in_force.unwrap_or(&self.versions[self.versions.len() - 1])
    }

    /// The version that judges a moment, and the window that the moment lies in: the one that was in force when the window
    /// began, of a rolling window the one in force when it ends.
    pub fn judged_at(&self, at: Timestamp, zone: &TimeZone) -> (&Version, Stretch) {
        let period = self.at(at).definition.period;
        let version = match period {
            Period::Days(_) => self.at(at),
            _ => self.at(period.around(at, zone).from),
        };
        (version, version.definition.period.around(at, zone))
    }

    /// The newest version, whether it is in force yet or not.
    pub fn newest(&self) -> &Version {
        &self.versions[0]
    }
}

/// What became of a goal that was to be changed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kept {
    /// It says something else, in this version.
    Version(i32),
    /// Somebody changed it meanwhile.
    Overtaken,
    /// Another goal of the site has the name.
    Taken,
}

/// Time that was taken out of a goal.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CarveOut {
    /// Its id.
    pub id: i32,
    /// From when to when.
    pub stretch: Stretch,
    /// Why.
    pub why: String,
    /// Who.
    pub author: String,
    /// When it was taken out.
    pub made_at: Timestamp,
    /// When it was taken back, and by whom.
    pub revoked: Option<(Timestamp, String)>,
}

type CarvedRow = (jiff_sqlx::Timestamp, jiff_sqlx::Timestamp, String, String);

fn carved((from, to, why, author): CarvedRow) -> LeftOut {
    LeftOut {
        stretch: Stretch { from: from.to_jiff(), to: to.to_jiff() },
        why,
        author: Some(author),
        reach: Reach::default(),
        is_held: false,
    }
}

#[derive(FromRow)]
struct VersionRow {
    id: i32,
    name: String,
    version: i32,
    definition: Json<Definition>,
    from_at: jiff_sqlx::Timestamp,
    author: String,
    made_at: jiff_sqlx::Timestamp,
}

async fn put_version(
    tx: &mut PgConnection,
    goal_id: i32,
    version: i32,
    (definition, from): (&Definition, Timestamp),
    author: &str,
) -> Result<()> {
    let sql = "INSERT INTO goal_version (goal_id, version, definition, from_at, author) VALUES ($1, $2, $3, $4, $5)";
    let put = sqlx::query(sql).bind(goal_id).bind(version).bind(Json(definition));
    put.bind(from.to_sqlx()).bind(author).execute(tx).await?;
    Ok(())
}

impl Db {
    /// The goals of a site, in the order they were made.
    pub async fn goals(&self, site_id: i32) -> Result<Vec<Goal>> {
        let sql = "SELECT g.id, g.name, v.version, v.definition, v.from_at, v.author, v.made_at FROM goal g
                   JOIN goal_version v ON v.goal_id = g.id WHERE g.site_id = $1 ORDER BY g.id, v.version DESC";
        let rows: Vec<VersionRow> = sqlx::query_as(sql).bind(site_id).fetch_all(&self.lane).await?;
        let mut goals: Vec<Goal> = Vec::new();
        for row in rows {
            if goals.last().is_none_or(|g| g.id != row.id) {
                goals.push(Goal { id: row.id, site_id, name: row.name, versions: Vec::new() });
            }
            let Some(goal) = goals.last_mut() else { continue };
            goal.versions.push(Version {
                version: row.version,
                definition: row.definition.0,
                from: row.from_at.to_jiff(),
                author: row.author,
                made_at: row.made_at.to_jiff(),
            });
        }
        Ok(goals)
    }

    /// Adds a goal that holds from a moment on; its id, or `None` when the site has one of that name.
    pub async fn add_goal(
        &self,
        site_id: i32,
        name: &str,
        says: (&Definition, Timestamp),
        author: &str,
    ) -> Result<Option<i32>> {
        let mut tx = self.lane.begin().await?;
        let sql =
            "INSERT INTO goal (site_id, name) VALUES ($1, $2) ON CONFLICT DO NOTHING RETURNING id";
        let id: Option<i32> =
            sqlx::query_scalar(sql).bind(site_id).bind(name).fetch_optional(&mut *tx).await?;
        if let Some(id) = id {
            put_version(&mut tx, id, 1, says, author).await?;
        }
        tx.commit().await?;
        Ok(id)
    }

    /// Lets a goal say something else from a moment on, if nobody has changed it since version `based_on`.
    pub async fn set_goal(
        &self,
        goal: &Goal,
        based_on: i32,
        name: &str,
        says: (&Definition, Timestamp),
        author: &str,
    ) -> Result<Kept> {
        let mut tx = self.lane.begin().await?;
        let sql = "SELECT id FROM goal WHERE site_id = $1 ORDER BY id FOR UPDATE";
        let _: Vec<i32> = sqlx::query_scalar(sql).bind(goal.site_id).fetch_all(&mut *tx).await?;
        let sql = "SELECT max(version) FROM goal_version WHERE goal_id = $1";
        let newest: Option<i32> = sqlx::query_scalar(sql).bind(goal.id).fetch_one(&mut *tx).await?;
        if newest != Some(based_on) {
            return Ok(Kept::Overtaken);
        }
        let sql = "UPDATE goal SET name = $2 WHERE id = $1
                     AND NOT EXISTS (SELECT FROM goal WHERE site_id = $3 AND name = $2 AND id <> $1)";
        let done = sqlx::query(sql).bind(goal.id).bind(name).bind(goal.site_id);
        if done.execute(&mut *tx).await?.rows_affected() == 0 {
            return Ok(Kept::Taken);
        }
        put_version(&mut tx, goal.id, based_on + 1, says, author).await?;
        tx.commit().await?;
        Ok(Kept::Version(based_on + 1))
    }

    /// Takes a goal away with its versions and carve-outs; whether there was one.
    pub async fn remove_goal(&self, id: i32) -> Result<bool> {
        let done = sqlx::query("DELETE FROM goal WHERE id = $1").bind(id);
        Ok(done.execute(&self.lane).await?.rows_affected() > 0)
    }

    /// The same, which nobody else changes until the transaction ends.
    pub async fn budgets_locked(&self, site_id: i32) -> Result<Vec<Budget>> {
        sqlx::query("SELECT pg_advisory_xact_lock(704203, $1)")
            .bind(site_id)
            .execute(&self.lane)
            .await?;
        self.budgets(site_id).await
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

    /// What is taken out of a goal.
    pub async fn carve_outs(&self, goal_id: i32) -> Result<Vec<LeftOut>> {
        let rows: Vec<CarvedRow> = sqlx::query_as(
            "SELECT from_at, to_at, why, author FROM carve_out WHERE goal_id = $1 AND revoked_at IS NULL ORDER BY from_at",
        )
        .bind(goal_id)
        .fetch_all(&self.lane)
        .await?;
        Ok(rows.into_iter().map(carved).collect())
    }

    /// What was ever taken out of a goal, the newest first, also what was taken back.
    pub async fn record_of_carve_outs(&self, goal_id: i32) -> Result<Vec<CarveOut>> {
        type Found = (
            i32,
            jiff_sqlx::Timestamp,
            jiff_sqlx::Timestamp,
            String,
            String,
            jiff_sqlx::Timestamp,
            Option<jiff_sqlx::Timestamp>,
            Option<String>,
        );
        let sql =
            "SELECT id, from_at, to_at, why, author, made_at, revoked_at, revoked_by FROM carve_out
                   WHERE goal_id = $1 ORDER BY id DESC LIMIT 500";
        let rows: Vec<Found> = sqlx::query_as(sql).bind(goal_id).fetch_all(&self.lane).await?;
        let carve_out =
            |(id, from, to, why, author, made_at, revoked_at, revoked_by): Found| CarveOut {
                id,
                stretch: Stretch { from: from.to_jiff(), to: to.to_jiff() },
                why,
                author,
                made_at: made_at.to_jiff(),
                revoked: revoked_at.map(|at| at.to_jiff()).zip(revoked_by),
            };
        Ok(rows.into_iter().map(carve_out).collect())
    }

    /// Sets the limit of a vital for a page family, or for the whole site; takes it away without one.
    pub async fn set_budget(
        &self,
        site_id: i32,
        (family, vital): (Option<&str>, Vital),
        limit: Option<f64>,
        author: &str,
    ) -> Result<()> {
        let sql = match limit {
            Some(_) => {
                "INSERT INTO budget (site_id, family, vital, limit_value, author) VALUES ($1, $2, $3, $4, $5)
                 ON CONFLICT ON CONSTRAINT budget_of_one DO UPDATE SET limit_value = $4, author = $5, set_at = now()"
            }
            None => {
                "DELETE FROM budget WHERE site_id = $1 AND family IS NOT DISTINCT FROM $2 AND vital = $3
                   AND $4::float8 IS NULL AND $5::text IS NOT NULL"
            }
        };
        let set = sqlx::query(sql).bind(site_id).bind(family).bind(vital.name());
        set.bind(limit).bind(author).execute(&self.lane).await?;
        Ok(())
    }

    /// Takes a carve-out of a goal back; what it was, if it was in force.
    pub async fn revoke_carve_out(
        &self,
        goal_id: i32,
        id: i32,
        by: &str,
    ) -> Result<Option<LeftOut>> {
        let sql = "UPDATE carve_out SET revoked_at = now(), revoked_by = $3 WHERE goal_id = $1 AND id = $2 AND revoked_at IS NULL
                   RETURNING from_at, to_at, why, author";
        let row: Option<CarvedRow> =
            sqlx::query_as(sql).bind(goal_id).bind(id).bind(by).fetch_optional(&self.lane).await?;
        Ok(row.map(carved))
    }

    /// Takes time out of a goal; its id.
    pub async fn add_carve_out(
        &self,
        goal_id: i32,
        stretch: Stretch,
        why: &str,
        author: &str,
    ) -> Result<i32> {
        let sql = "INSERT INTO carve_out (goal_id, from_at, to_at, why, author) VALUES ($1, $2, $3, $4, $5) RETURNING id";
        let put = sqlx::query_scalar(sql).bind(goal_id).bind(stretch.from.to_sqlx());
        let put = put.bind(stretch.to.to_sqlx()).bind(why).bind(author);
        Ok(put.fetch_one(&self.lane).await?)
    }
}
