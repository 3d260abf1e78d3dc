//! Views that people put together, and with which of them each begins.

use crate::db::{Db, Result};
use cadentis_core::saved_view::SavedView;
use jiff::Timestamp;
use sqlx::FromRow;
use sqlx::types::Json;

/// A view as it is kept.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct View {
    /// Its id.
    pub id: i32,
    /// Its name.
    pub name: String,
    /// What it is made of.
    pub definition: SavedView,
    /// Counts up with each change.
    pub version: i32,
    /// The team that it belongs to, and what that is called.
    pub team: Option<(i32, String)>,
    /// Who changed it last.
    pub author: String,
    /// When that was.
    pub changed_at: Timestamp,
}

/// What became of a view that was to be kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum KeptView {
    /// It is kept, with this id.
    Kept(i32),
    /// Another one has its name.
    Taken,
    /// Somebody changed it in the meantime, or took it away.
    Overtaken,
}

#[derive(FromRow)]
struct Row {
    id: i32,
    name: String,
    definition: Json<SavedView>,
    version: i32,
    team_id: Option<i32>,
    team: Option<String>,
    author: String,
    changed_at: jiff_sqlx::Timestamp,
}

impl Row {
    fn view(self) -> View {
        View {
            id: self.id,
            name: self.name,
            definition: self.definition.0,
            version: self.version,
            team: self.team_id.zip(self.team),
            author: self.author,
            changed_at: self.changed_at.to_jiff(),
        }
    }
}

const VIEWS: &str =
    "SELECT v.id, v.name, v.definition, v.version, v.team_id, t.name AS team, v.author, v.changed_at
     FROM saved_view v LEFT JOIN team t ON t.id = v.team_id";

impl Db {
    /// The views of a site by name.
    pub async fn saved_views(&self, site_id: i32) -> Result<Vec<View>> {
        let sql = format!("{VIEWS} WHERE v.site_id = $1 AND v.removed_at IS NULL ORDER BY v.name");
        let rows = sqlx::query_as(sqlx::AssertSqlSafe(sql)).bind(site_id);
        let rows: Vec<Row> = rows.fetch_all(&self.lane).await?;
        Ok(rows.into_iter().map(Row::view).collect())
    }

    /// A view of a site.
    pub async fn saved_view(&self, site_id: i32, id: i32) -> Result<Option<View>> {
        self.view_that(site_id, id, "v.removed_at IS NULL").await
    }

    /// A view of a site that was taken away and can be put back.
    pub async fn removed_view(&self, site_id: i32, id: i32) -> Result<Option<View>> {
        self.view_that(site_id, id, "v.removed_at IS NOT NULL").await
    }

    async fn view_that(&self, site_id: i32, id: i32, is: &str) -> Result<Option<View>> {
        let sql = format!("{VIEWS} WHERE v.site_id = $1 AND v.id = $2 AND {is}");
        let row = sqlx::query_as(sqlx::AssertSqlSafe(sql)).bind(site_id).bind(id);
        let row: Option<Row> = row.fetch_optional(&self.lane).await?;
        Ok(row.map(Row::view))
    }

    /// Keeps a new view, or changes one that still has this version.
    pub async fn put_saved_view(
        &self,
        site_id: i32,
        known: Option<(i32, i32)>,
        (name, definition, team): (&str, &SavedView, Option<i32>),
        author: &str,
    ) -> Result<KeptView> {
        let (id, version) = known.unwrap_or_default();
        let sql = "SELECT count(*) FROM saved_view WHERE site_id = $1 AND name = $2 AND id <> $3
                   AND removed_at IS NULL";
        let others = sqlx::query_scalar::<_, i64>(sql).bind(site_id).bind(name).bind(id);
        if others.fetch_one(&self.lane).await? > 0 {
            return Ok(KeptView::Taken);
        }
        let sql = match known {
            None => {
                "INSERT INTO saved_view (site_id, name, definition, team_id, author)
                 SELECT $1, $2, $3, $4, $5 WHERE $6 = 0 AND $7 = 0
                 ON CONFLICT (site_id, name) WHERE removed_at IS NULL DO NOTHING RETURNING id"
            }
            Some(_) => {
                "UPDATE saved_view SET name = $2, definition = $3, team_id = $4, author = $5,
                   version = version + 1, changed_at = now()
                 WHERE site_id = $1 AND id = $6 AND version = $7 AND removed_at IS NULL RETURNING id"
            }
        };
        let put = sqlx::query_scalar(sql).bind(site_id).bind(name).bind(Json(definition));
        let put = put.bind(team).bind(author).bind(id).bind(version);
        let kept: Option<i32> = put.fetch_optional(&self.lane).await?;
        // Two new ones of a name at once: whoever came second finds it taken.
        let not = if known.is_none() { KeptView::Taken } else { KeptView::Overtaken };
        Ok(kept.map_or(not, KeptView::Kept))
    }

    /// Takes a view away, so that it can be put back.
    pub async fn remove_saved_view(&self, site_id: i32, id: i32) -> Result<()> {
        let sql = "UPDATE saved_view SET removed_at = now() WHERE site_id = $1 AND id = $2";
        sqlx::query(sql).bind(site_id).bind(id).execute(&self.lane).await?;
        Ok(())
    }

    /// Puts a view back that was taken away; not where another has its name by now.
    pub async fn restore_saved_view(&self, site_id: i32, id: i32) -> Result<bool> {
        let sql = "UPDATE saved_view v SET removed_at = NULL WHERE site_id = $1 AND id = $2 AND NOT EXISTS
                   (SELECT FROM saved_view o WHERE o.site_id = $1 AND o.name = v.name AND o.removed_at IS NULL)";
        let back = sqlx::query(sql).bind(site_id).bind(id).execute(&self.lane).await?;
        Ok(back.rows_affected() > 0)
    }

    /// The view that somebody begins with, and the site that it is of.
    pub async fn start_view(&self, person_id: i32) -> Result<Option<(i32, i32)>> {
        let sql = "SELECT v.site_id, v.id FROM person p JOIN saved_view v ON v.id = p.start_view_id AND v.removed_at IS NULL
                   WHERE p.id = $1";
        Ok(sqlx::query_as(sql).bind(person_id).fetch_optional(&self.lane).await?)
    }

    /// Sets the view that somebody begins with; none is what everybody begins with.
    pub async fn set_start_view(&self, person_id: i32, view_id: Option<i32>) -> Result<()> {
        let sql = "UPDATE person SET start_view_id = $2 WHERE id = $1";
        sqlx::query(sql).bind(person_id).bind(view_id).execute(&self.lane).await?;
        Ok(())
    }
}
