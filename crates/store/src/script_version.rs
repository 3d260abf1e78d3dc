//! Scripts of journeys, version by version; common parts; the status of a journey.

use crate::db::{Db, Result};
use crate::journey::Journey;
use crate::run::Run;
use jiff::Timestamp;
use jiff_sqlx::ToSqlx;

/// One version of a script, without its text.
#[derive(Debug, Clone, PartialEq)]
pub struct Version {
    /// Its number.
    pub version: i32,
    /// Who saved it.
    pub author: String,
    /// Why.
    pub note: String,
    /// When.
    pub saved_at: Timestamp,
}

/// What became of a wish to save.
#[derive(Debug, PartialEq)]
pub enum Saved {
    /// It is a new version, of this number.
    Version(i32),
    /// It says what the newest version says already.
    Same(i32),
    /// Somebody saved this version after the one that was edited.
    Overtaken(Version),
}

/// What is to be saved.
#[derive(Debug, Clone, Copy)]
pub struct Edit<'a> {
    /// The new script.
    pub script: &'a str,
    /// The journey's name, as the script says it.
    pub name: &'a str,
    /// The version that was edited.
    pub based_on: i32,
    /// Who saves it.
    pub author: &'a str,
    /// Why.
    pub note: &'a str,
}

/// What a journey's owner can change beside its script.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Status {
    /// It plays.
    Active,
    /// It does not for now.
    Paused,
    /// Played once, as it was to.
    Finished,
    /// It does not any more.
    Archived,
}

impl Status {
    /// All of them.
    pub const ALL: [Status; 4] =
        [Status::Active, Status::Paused, Status::Finished, Status::Archived];

    /// In one word.
    pub fn word(self) -> &'static str {
        match self {
            Status::Active => "active",
            Status::Paused => "paused",
            Status::Finished => "finished",
            Status::Archived => "archived",
        }
    }

    /// The one of this word.
    pub fn parse(word: &str) -> Option<Status> {
        Status::ALL.into_iter().find(|l| l.word() == word)
    }
}

/// What became of deleting a journey.
#[derive(Debug, PartialEq, Eq)]
pub enum Deleted {
    /// It is gone.
    Gone,
    /// Only what is archived can be deleted.
    NotArchived,
    /// This goal counts its runs.
    Counted(String),
}

type VersionRow = (i32, String, String, jiff_sqlx::Timestamp);

fn version((version, author, note, saved_at): VersionRow) -> Version {
    Version { version, author, note, saved_at: saved_at.to_jiff() }
}

impl Db {
    /// The versions of a journey's script, newest first.
    pub async fn versions(&self, journey_id: i32) -> Result<Vec<Version>> {
        let sql = "SELECT version, author, note, saved_at FROM script_version
                   WHERE journey_id = $1 ORDER BY version DESC";
        let rows: Vec<VersionRow> =
            sqlx::query_as(sql).bind(journey_id).fetch_all(&self.lane).await?;
        Ok(rows.into_iter().map(version).collect())
    }

    /// The newest version of each journey of a site, by the id of the journey.
    pub async fn newest_versions(&self, site_id: i32) -> Result<Vec<(i32, Version)>> {
        let sql = "SELECT DISTINCT ON (v.journey_id) v.journey_id, v.version, v.author, v.note, v.saved_at
                   FROM script_version v JOIN journey j ON j.id = v.journey_id
                   WHERE j.site_id = $1 ORDER BY v.journey_id, v.version DESC";
        type Row = (i32, i32, String, String, jiff_sqlx::Timestamp);
        let rows: Vec<Row> = sqlx::query_as(sql).bind(site_id).fetch_all(&self.lane).await?;
        let of = |(id, number, author, note, at)| (id, version((number, author, note, at)));
        Ok(rows.into_iter().map(of).collect())
    }

    /// The script of a version.
    pub async fn script_of_version(&self, journey_id: i32, version: i32) -> Result<Option<String>> {
        let sql = "SELECT script FROM script_version WHERE journey_id = $1 AND version = $2";
        Ok(sqlx::query_scalar(sql)
            .bind(journey_id)
            .bind(version)
            .fetch_optional(&self.lane)
            .await?)
    }

    /// Deletes an archived journey with its versions, runs and evidence, for good.
    pub async fn delete_journey(&self, journey_id: i32) -> Result<Deleted> {
        let mut tx = self.lane.begin().await?;
        let status: String =
            sqlx::query_scalar("SELECT status FROM journey WHERE id = $1 FOR UPDATE")
                .bind(journey_id)
                .fetch_one(&mut *tx)
                .await?;
        if status != Status::Archived.word() {
            return Ok(Deleted::NotArchived);
        }
        let sql = "SELECT g.name FROM goal g JOIN goal_version v ON v.goal_id = g.id
                   WHERE v.definition -> 'journeys' @> to_jsonb($1::integer) LIMIT 1";
        if let Some(goal) =
            sqlx::query_scalar(sql).bind(journey_id).fetch_optional(&mut *tx).await?
        {
            return Ok(Deleted::Counted(goal));
        }
        for sql in [
            "DELETE FROM picture p USING run r
             WHERE r.journey_id = $1 AND p.site_id = r.site_id AND p.due_at = r.due_at AND p.run_id = r.id",
            "DELETE FROM picture p USING first_try r
             WHERE r.journey_id = $1 AND p.site_id = r.site_id AND p.due_at = r.due_at AND p.run_id = r.id",
            "DELETE FROM run_record e USING run r
             WHERE r.journey_id = $1 AND e.site_id = r.site_id AND e.due_at = r.due_at AND e.run_id = r.id",
            "DELETE FROM run_record e USING first_try r
             WHERE r.journey_id = $1 AND e.site_id = r.site_id AND e.due_at = r.due_at AND e.run_id = r.id",
            "DELETE FROM first_try WHERE journey_id = $1",
            "DELETE FROM run WHERE journey_id = $1",
            "DELETE FROM run_day WHERE journey_id = $1",
            "DELETE FROM work WHERE journey_id = $1",
            "DELETE FROM journey WHERE id = $1",
        ] {
            sqlx::query(sql).bind(journey_id).execute(&mut *tx).await?;
        }
        tx.commit().await?;
        Ok(Deleted::Gone)
    }

    /// Saves a script as the next version, unless somebody was quicker.
    pub async fn save_script(
        &self,
        journey_id: i32,
        edit: &Edit<'_>,
        now: Timestamp,
    ) -> Result<Saved> {
        let mut tx = self.lane.begin().await?;
        let (newest, script): (i32, String) =
            sqlx::query_as("SELECT version, script FROM journey WHERE id = $1 FOR UPDATE")
                .bind(journey_id)
                .fetch_one(&mut *tx)
                .await?;
        if newest != edit.based_on {
            let sql = "SELECT version, author, note, saved_at FROM script_version WHERE journey_id = $1 AND version = $2";
            let row: VersionRow =
                sqlx::query_as(sql).bind(journey_id).bind(newest).fetch_one(&mut *tx).await?;
            return Ok(Saved::Overtaken(version(row)));
        }
        if script == edit.script {
            return Ok(Saved::Same(newest));
        }
        sqlx::query("INSERT INTO script_version VALUES ($1, $2, $3, $4, $5, $6)")
            .bind(journey_id)
            .bind(newest + 1)
            .bind(edit.script)
            .bind(edit.author)
            .bind(edit.note)
            .bind(now.to_sqlx())
            .execute(&mut *tx)
            .await?;
        sqlx::query("UPDATE journey SET script = $2, name = $3, version = $4 WHERE id = $1")
            .bind(journey_id)
            .bind(edit.script)
            .bind(edit.name)
            .bind(newest + 1)
            .execute(&mut *tx)
            .await?;
        tx.commit().await?;
        Ok(Saved::Version(newest + 1))
    }

    /// The script of a run, with its version if that was kept; else the newest.
    pub async fn script_played(
        &self,
        run: &Run,
        journey: &Journey,
    ) -> Result<(Option<i32>, String)> {
        let sql = "SELECT v.version, v.script FROM run r
                   JOIN script_version v ON v.journey_id = r.journey_id AND v.version = r.version
                   WHERE r.site_id = $1 AND r.due_at = $2 AND r.id = $3";
        let kept: Option<(i32, String)> = sqlx::query_as(sql)
            .bind(run.site_id)
            .bind(run.due_at.to_sqlx())
            .bind(run.id)
            .fetch_optional(&self.lane)
            .await?;
        Ok(kept.map_or_else(
            || (None, journey.script.clone()),
            |(version, script)| (Some(version), script),
        ))
    }

    /// Names of the locations of a journey that have not brought a run yet.
    pub async fn still_to_answer(&self, journey_id: i32) -> Result<Vec<String>> {
        let sql = "SELECT l.name FROM journey_location jl JOIN location l ON l.id = jl.location_id
                   WHERE jl.journey_id = $1 AND NOT EXISTS
                     (SELECT FROM run r WHERE r.journey_id = $1 AND r.location_id = jl.location_id)
                   ORDER BY jl.nth";
        Ok(sqlx::query_scalar(sql).bind(journey_id).fetch_all(&self.lane).await?)
    }

    /// Work that waits is dropped unless the journey is active.
    pub async fn set_status(&self, journey_id: i32, status: Status) -> Result<()> {
        let mut tx = self.lane.begin().await?;
        sqlx::query("UPDATE journey SET status = $2 WHERE id = $1")
            .bind(journey_id)
            .bind(status.word())
            .execute(&mut *tx)
            .await?;
        if status != Status::Active {
            crate::work::drop_waiting(&mut tx, journey_id).await?;
        }
        tx.commit().await?;
        Ok(())
    }

    /// Changes the team that owns a journey (one that there is not is none), tags and weight.
    pub async fn set_about(
        &self,
        journey_id: i32,
        team_id: Option<i32>,
        tags: &[String],
        essential: bool,
    ) -> Result<()> {
        sqlx::query(
            "UPDATE journey SET team_id = (SELECT id FROM team WHERE id = $2), tags = $3, essential = $4 WHERE id = $1",
        )
        .bind(journey_id)
        .bind(team_id)
        .bind(tags)
        .bind(essential)
        .execute(&self.lane)
        .await?;
        Ok(())
    }

    /// A name for addresses that no journey of the site has yet, like `wanted`.
    pub async fn free_slug(&self, site_id: i32, wanted: &str) -> Result<String> {
        let taken: Vec<String> = sqlx::query_scalar("SELECT slug FROM journey WHERE site_id = $1")
            .bind(site_id)
            .fetch_all(&self.lane)
            .await?;
        let free = |slug: &String| !taken.contains(slug);
        let numbered = (2..).map(|n| format!("{wanted}-{n}"));
        Ok(std::iter::once(wanted.to_string()).chain(numbered).find(free).unwrap_or_default())
    }

    /// A copy of a journey in an environment: the same locations and cadence, paused until somebody starts it.
    #[allow(clippy::too_many_arguments, reason = "each is one column of the copy")]
    pub async fn duplicate(
        &self,
        journey: &Journey,
        slug: &str,
        script: &str,
        name: &str,
        environment: &str,
        author: &str,
        now: Timestamp,
    ) -> Result<i32> {
        let mut tx = self.lane.begin().await?;
        let id: i32 = sqlx::query_scalar(
            "INSERT INTO journey (site_id, slug, name, script, every_s, apdex_t_s, status, tags, team_id, essential, pace,
                                  device, environment, retry, copied_from)
             SELECT site_id, $2, $3, $4, every_s, apdex_t_s, 'paused', tags, team_id, essential, pace,
                    device, $5, retry, id FROM journey WHERE id = $1
             RETURNING id",
        )
        .bind(journey.id)
        .bind(slug)
        .bind(name)
        .bind(script)
        .bind(environment)
        .fetch_one(&mut *tx)
        .await?;
        sqlx::query(
            "INSERT INTO journey_location SELECT $2, location_id, nth FROM journey_location WHERE journey_id = $1",
        )
        .bind(journey.id)
        .bind(id)
        .execute(&mut *tx)
        .await?;
        sqlx::query("INSERT INTO script_version VALUES ($1, 1, $2, $3, $4, $5)")
            .bind(id)
            .bind(script)
            .bind(author)
            .bind(format!("copy of {}, version {}", journey.name, journey.version))
            .bind(now.to_sqlx())
            .execute(&mut *tx)
            .await?;
        tx.commit().await?;
        Ok(id)
    }

    /// Replaces the common parts of a site.
    pub async fn set_parts(&self, site_id: i32, parts: &str) -> Result<()> {
        sqlx::query("UPDATE site SET parts = $2 WHERE id = $1")
            .bind(site_id)
            .bind(parts)
            .execute(&self.lane)
            .await?;
        Ok(())
    }
}
