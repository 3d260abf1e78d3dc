//! What changes hours that are long filed: page views that come from files, and families that history is put into anew.
//!
//! An hour has either its rows, from which it is filed again and again, or, once they have left, its sheets alone. The
//! first is changed by its rows, the second by its sheets and cells.

use crate::db::{Db, Result, StoreError, content};
use crate::page_view::put_rows;
use crate::page_view_hour::{lock_day, put_cells};
use crate::run_day::{begin_of, day_of};
use crate::sheet::{Filed, whole_hour};
use cadentis_core::calendar::stretch::hour_of;
use cadentis_core::visitor::filed::{in_other_families, refiled};
use cadentis_core::visitor::{Families, PageView, Sheet};
use jiff::{SignedDuration, Timestamp};
use jiff_sqlx::ToSqlx;
use sqlx::types::Json;
use sqlx::{FromRow, PgConnection};
use std::collections::{BTreeMap, HashSet};

/// Work on history that takes minutes, hour by hour.
#[derive(Debug, Clone)]
pub struct Task {
    /// Its id.
    pub id: i64,
    /// Hours that are done, and hours in all.
    pub done: u64,
    /// Hours in all.
    pub whole: u64,
    /// Page views that were changed.
    pub changed: u64,
    /// How it stands.
    pub state: TaskState,
    /// Why it ended, when it failed.
    pub says: String,
    /// When it began.
    pub begun_at: Timestamp,
    /// When it ended.
    pub ended_at: Option<Timestamp>,
}

/// How work on history stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum TaskState {
    /// It is worked on.
    Runs,
    /// It is done.
    Done,
    /// Somebody stopped it.
    Stopped,
    /// It could not be done.
    Failed,
}

impl TaskState {
    const ALL: [(TaskState, &'static str); 4] = [
        (TaskState::Runs, "runs"),
        (TaskState::Done, "done"),
        (TaskState::Stopped, "stopped"),
        (TaskState::Failed, "failed"),
    ];
}

#[derive(FromRow)]
struct TaskRow {
    id: i64,
    first: jiff_sqlx::Timestamp,
    last: jiff_sqlx::Timestamp,
    at: jiff_sqlx::Timestamp,
    changed: i64,
    state: String,
    says: String,
    begun_at: jiff_sqlx::Timestamp,
    ended_at: Option<jiff_sqlx::Timestamp>,
}

impl TaskRow {
    fn task(self) -> Result<Task> {
        let hours = |from: &jiff_sqlx::Timestamp, to: &jiff_sqlx::Timestamp| {
            (to.to_jiff().as_second() - from.to_jiff().as_second()).unsigned_abs() / 3_600
        };
        let state = TaskState::ALL.iter().find(|(_, word)| *word == self.state);
        Ok(Task {
            id: self.id,
            done: hours(&self.at, &self.last),
            whole: hours(&self.first, &self.last),
            changed: self.changed.unsigned_abs(),
            state: state.ok_or_else(|| content("task.state", &self.state))?.0,
            says: self.says,
            begun_at: self.begun_at.to_jiff(),
            ended_at: self.ended_at.map(|t| t.to_jiff()),
        })
    }
}

/// Stops the work on families of a site.
const STOP: &str = "UPDATE task SET state = 'stopped', ended_at = now() WHERE site_id = $1 AND what = 'families' AND state = 'runs'";

/// How an hour has its page views.
#[derive(PartialEq)]
pub(crate) enum Held {
    Rows,
    Sheets,
}

impl Db {
    /// Puts page views from a file where they belong, hour by hour, whatever their age; those that are there already are
    /// left alone. Answers how many were new.
    pub async fn import_page_views(&self, site_id: i32, views: Vec<PageView>) -> Result<u64> {
        let mut by_hour: BTreeMap<Timestamp, Vec<PageView>> = BTreeMap::new();
        for view in views {
            by_hour.entry(hour_of(view.at)).or_default().push(view);
        }
        let mut new = 0;
        for (hour, mut views) in by_hour {
            let mut seen = HashSet::new();
            views.retain(|v| seen.insert(v.beacon.id));
            views.sort_by_key(|v| (v.at, v.beacon.id));
            let mut tx = self.lane.begin().await?;
            lock_day(&mut tx, site_id, day_of(hour)).await?;
            match held(&mut tx, site_id, hour).await? {
                Held::Rows => {
                    let ids: Vec<uuid::Uuid> = views.iter().map(|v| v.beacon.id).collect();
                    let sql = "SELECT id FROM page_view WHERE site_id = $1 AND at >= $2 AND at < $3 AND id = ANY($4)";
                    let stretch = whole_hour(hour);
                    let there: Vec<uuid::Uuid> = sqlx::query_scalar(sql)
                        .bind(site_id)
                        .bind(stretch.from.to_sqlx())
                        .bind(stretch.to.to_sqlx())
                        .bind(ids)
                        .fetch_all(&mut *tx)
                        .await?;
                    views.retain(|v| !there.contains(&v.beacon.id));
                    new += views.len() as u64;
                    let batch: Vec<(i32, PageView)> =
                        views.into_iter().map(|v| (site_id, v)).collect();
                    put_rows(&mut *tx, &batch).await?;
                }
                Held::Sheets => new += self.add_to_sheets(&mut tx, site_id, hour, views).await?,
            }
            tx.commit().await?;
        }
        Ok(new)
    }

    async fn add_to_sheets(
        &self,
        tx: &mut PgConnection,
        site_id: i32,
        hour: Timestamp,
        mut views: Vec<PageView>,
    ) -> Result<u64> {
        let (held, told) = self.both_sheets(tx, site_id, hour).await?;
        if let Some(ids) = held.ids("id") {
            let there: HashSet<&u128> = ids.values.iter().collect();
            views.retain(|v| !there.contains(&v.beacon.id.as_u128()));
        }
        if views.is_empty() {
            return Ok(0);
        }
        let (more, more_told) = self.file_both(tx, site_id, hour, &views).await?;
        let joined = |a: &Sheet, b: &Sheet| a.joined(b).map_err(|e| content("sheet", e));
        self.put_both(tx, site_id, hour, &joined(&held, &more)?, &joined(&told, &more_told)?)
            .await?;
        Ok(views.len() as u64)
    }

    /// The sheets of an hour with all their columns; empty ones where there are none.
    async fn both_sheets(
        &self,
        tx: &mut PgConnection,
        site_id: i32,
        hour: Timestamp,
    ) -> Result<(Sheet, Sheet)> {
        let mut both = [Sheet::new(hour.as_second()), Sheet::new(hour.as_second())];
        for (sheet, what) in both.iter_mut().zip([Filed::PageViews, Filed::Happenings]) {
            if let Some(found) =
                self.read_sheets_in(tx, what, site_id, whole_hour(hour), &[], 1).await?.pop()
            {
                *sheet = found;
            }
        }
        let [views, told] = both;
        Ok((views, told))
    }

    /// Replaces the sheets and cells of an hour.
    async fn put_both(
        &self,
        tx: &mut PgConnection,
        site_id: i32,
        hour: Timestamp,
        views: &Sheet,
        told: &Sheet,
    ) -> Result<()> {
        self.put_sheet(tx, Filed::Happenings, site_id, told).await?;
        self.put_sheet(tx, Filed::PageViews, site_id, views).await?;
        put_cells(tx, site_id, hour, views).await?;
        sqlx::query("DELETE FROM page_view_day WHERE site_id = $1 AND hour = $2")
            .bind(site_id)
            .bind(begin_of(day_of(hour)).to_sqlx())
            .execute(tx)
            .await?;
        Ok(())
    }

    /// Begins to put all history into the families that the site has now. One that is under way begins anew.
    pub async fn begin_families(&self, site_id: i32, now: Timestamp) -> Result<()> {
        let mut tx = self.lane.begin().await?;
        sqlx::query(STOP).bind(site_id).execute(&mut *tx).await?;
        let first: Option<jiff_sqlx::Timestamp> = sqlx::query_scalar(
            "SELECT least((SELECT min(hour) FROM sheet WHERE site_id = $1 AND what = 'view' AND name = 'at'),
                          (SELECT min(hour) FROM dirty_hour WHERE site_id = $1))",
        )
        .bind(site_id)
        .fetch_one(&mut *tx)
        .await?;
        let last = hour_of(now) + SignedDuration::from_hours(1);
        let first = first.map_or(last, |f| f.to_jiff().min(last));
        sqlx::query(
            "INSERT INTO task (site_id, what, first, last, at) VALUES ($1, 'families', $2, $3, $3)",
        )
        .bind(site_id)
        .bind(first.to_sqlx())
        .bind(last.to_sqlx())
        .execute(&mut *tx)
        .await?;
        tx.commit().await?;
        Ok(())
    }

    /// Stops what is under way; hours that are done stay as they are.
    pub async fn stop_families(&self, site_id: i32) -> Result<()> {
        sqlx::query(STOP).bind(site_id).execute(&self.lane).await?;
        Ok(())
    }

    /// The newest work on families.
    pub async fn families_task(&self, site_id: i32) -> Result<Option<Task>> {
        let sql =
            "SELECT * FROM task WHERE site_id = $1 AND what = 'families' ORDER BY id DESC LIMIT 1";
        let row: Option<TaskRow> =
            sqlx::query_as(sql).bind(site_id).fetch_optional(&self.lane).await?;
        row.map(TaskRow::task).transpose()
    }

    /// Does one hour of a task, and says whether there was one to do. What cannot be done is written into the task; when
    /// the database is away the hour is done later.
    pub async fn work_on_a_task(&self) -> Result<bool> {
        let mut tx = self.lane.begin().await?;
        // Another server may be at work on it: then this one has nothing to do.
        let sql = "SELECT id, site_id, first, at FROM task WHERE state = 'runs' ORDER BY id LIMIT 1 FOR UPDATE SKIP LOCKED";
        let found: Option<(i64, i32, jiff_sqlx::Timestamp, jiff_sqlx::Timestamp)> =
            sqlx::query_as(sql).fetch_optional(&mut *tx).await?;
        let Some((id, site_id, first, at)) = found else { return Ok(false) };
        // Hours of which nothing is kept have nothing to put anywhere.
        let kept: Option<jiff_sqlx::Timestamp> = sqlx::query_scalar(
            "SELECT greatest((SELECT max(hour) FROM sheet WHERE site_id = $1 AND what = 'view' AND name = 'at' AND hour < $2),
                             (SELECT max(hour) FROM dirty_hour WHERE site_id = $1 AND hour < $2))",
        )
        .bind(site_id)
        .bind(at)
        .fetch_one(&mut *tx)
        .await?;
        let hour = kept.map(jiff_sqlx::Timestamp::to_jiff).filter(|hour| *hour >= first.to_jiff());
        let Some(hour) = hour else {
            let done = "UPDATE task SET at = first, state = 'done', ended_at = now() WHERE id = $1";
            sqlx::query(done).bind(id).execute(&mut *tx).await?;
            tx.commit().await?;
            return Ok(true);
        };
        match self.refile_hour(&mut tx, site_id, hour).await {
            Ok(changed) => {
                sqlx::query("UPDATE task SET at = $2, changed = changed + $3 WHERE id = $1")
                    .bind(id)
                    .bind(hour.to_sqlx())
                    .bind(changed as i64)
                    .execute(&mut *tx)
                    .await?;
                tx.commit().await?;
            }
            Err(e @ StoreError::Content { .. }) => {
                tx.rollback().await?;
                sqlx::query(
                    "UPDATE task SET state = 'failed', says = $2, ended_at = now() WHERE id = $1",
                )
                .bind(id)
                .bind(e.to_string())
                .execute(&self.lane)
                .await?;
            }
            Err(e) => return Err(e),
        }
        Ok(true)
    }

    /// Puts the page views of an hour into the families of now; answers how many changed.
    async fn refile_hour(
        &self,
        tx: &mut PgConnection,
        site_id: i32,
        hour: Timestamp,
    ) -> Result<u64> {
        let patterns: Json<Vec<(String, String)>> =
            sqlx::query_scalar("SELECT families FROM site WHERE id = $1")
                .bind(site_id)
                .fetch_one(&mut *tx)
                .await?;
        let families = Families::new(patterns.0);
        lock_day(tx, site_id, day_of(hour)).await?;
        if held(tx, site_id, hour).await? == Held::Rows {
            return refile_rows(tx, site_id, hour, &families).await;
        }
        // Most hours have nothing that changes: two of their columns tell.
        let looked_at = ["path".to_string(), "family".to_string()];
        let only =
            self.read_sheets_in(tx, Filed::PageViews, site_id, whole_hour(hour), &looked_at, 1);
        if only.await?.iter().all(|sheet| in_other_families(sheet, &families) == 0) {
            return Ok(0);
        }
        let (views, told) = self.both_sheets(tx, site_id, hour).await?;
        match refiled(&views, &told, &families).map_err(|e| content("sheet", e))? {
            None => Ok(0),
            Some((views, told, changed)) => {
                self.put_both(tx, site_id, hour, &views, &told).await?;
                Ok(changed)
            }
        }
    }
}

pub(crate) async fn held(tx: &mut PgConnection, site_id: i32, hour: Timestamp) -> Result<Held> {
    let part = format!("page_view_{}", hour.strftime("%Y%m%d"));
    let there: bool = sqlx::query_scalar("SELECT to_regclass($1) IS NOT NULL")
        .bind(part)
        .fetch_one(&mut *tx)
        .await?;
    if !there {
        return Ok(Held::Sheets);
    }
    let stretch = whole_hour(hour);
    // A sheet without rows was filed from rows that are gone: it is all there is.
    let alone: bool = sqlx::query_scalar(
        "SELECT EXISTS (SELECT FROM sheet WHERE site_id = $1 AND what = 'view' AND name = 'at' AND hour = $2)
            AND NOT EXISTS (SELECT FROM page_view WHERE site_id = $1 AND at >= $2 AND at < $3)",
    )
    .bind(site_id)
    .bind(stretch.from.to_sqlx())
    .bind(stretch.to.to_sqlx())
    .fetch_one(tx)
    .await?;
    Ok(if alone { Held::Sheets } else { Held::Rows })
}

async fn refile_rows(
    tx: &mut PgConnection,
    site_id: i32,
    hour: Timestamp,
    families: &Families,
) -> Result<u64> {
    let stretch = whole_hour(hour);
    let rows: Vec<(jiff_sqlx::Timestamp, uuid::Uuid, i32, String)> = sqlx::query_as(
        "SELECT at, id, seq, view FROM page_view WHERE site_id = $1 AND at >= $2 AND at < $3",
    )
    .bind(site_id)
    .bind(stretch.from.to_sqlx())
    .bind(stretch.to.to_sqlx())
    .fetch_all(&mut *tx)
    .await?;
    let mut changed = Vec::new();
    for (at, id, seq, text) in rows {
        let mut view: PageView =
            serde_json::from_str(&text).map_err(|e| content("page_view.view", e))?;
        let now = families.of(&view.path);
        if now != view.family {
            view.family = now.to_string();
            changed.push((
                at,
                id,
                seq,
                serde_json::to_string(&view).map_err(|e| content("page_view.view", e))?,
            ));
        }
    }
    if changed.is_empty() {
        return Ok(0);
    }
    // Marked first: whoever writes rows takes the mark before the rows, too.
    crate::page_view::mark_hour(tx, site_id, hour).await?;
    // A beacon that came meanwhile has a higher number, and the family of now.
    sqlx::query(
        "WITH given AS (SELECT * FROM unnest($2::timestamptz[], $3::uuid[], $4::int[], $5::text[]) AS a(at, id, seq, view))
         UPDATE page_view p SET view = given.view FROM given
         WHERE p.site_id = $1 AND p.at = given.at AND p.id = given.id AND p.seq = given.seq",
    )
    .bind(site_id)
    .bind(changed.iter().map(|c| c.0).collect::<Vec<_>>())
    .bind(changed.iter().map(|c| c.1).collect::<Vec<_>>())
    .bind(changed.iter().map(|c| c.2).collect::<Vec<_>>())
    .bind(changed.iter().map(|c| c.3.clone()).collect::<Vec<_>>())
    .execute(&mut *tx)
    .await?;
    Ok(changed.len() as u64)
}
