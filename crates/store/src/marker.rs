//! What is pinned to the time axis.

use crate::db::{Db, Result, content};
use cadentis_core::calendar::Stretch;
use cadentis_core::marker::{Kind, Said};
use jiff::Timestamp;
use jiff_sqlx::ToSqlx;
use sqlx::{AssertSqlSafe, FromRow, PgExecutor};

/// Something that happened, pinned to the time axis.
#[derive(Debug, Clone, PartialEq)]
pub struct Marker {
    /// Its id.
    pub id: i32,
    /// When.
    pub at: Timestamp,
    /// What.
    pub said: Said,
    /// Whether every site has it.
    pub is_everywhere: bool,
    /// Who pinned it; nobody who is known for those of before it was kept.
    pub author: String,
    /// How often it was changed.
    pub edits: i32,
    /// When it was taken away.
    pub removed_at: Option<Timestamp>,
}

#[derive(FromRow)]
struct Row {
    id: i32,
    site_id: Option<i32>,
    at: jiff_sqlx::Timestamp,
    kind: String,
    title: String,
    detail: String,
    version: String,
    link: String,
    author: String,
    edits: i32,
    removed_at: Option<jiff_sqlx::Timestamp>,
}

impl Row {
    fn marker(self) -> Result<Marker> {
        let kind = Kind::of_word(&self.kind).ok_or_else(|| content("marker.kind", self.kind))?;
        let Row { title, detail, version, link, .. } = self;
        Ok(Marker {
            id: self.id,
            at: self.at.to_jiff(),
            said: Said { kind, title, detail, version, link },
            is_everywhere: self.site_id.is_none(),
            author: self.author,
            edits: self.edits,
            removed_at: self.removed_at.map(|at| at.to_jiff()),
        })
    }
}

const MARKER: &str = "SELECT id, site_id, at, kind, title, detail, version, link, author, edits, removed_at FROM marker";

/// So many of a stretch are read, the newest.
const MOST: i64 = 2_000;

pub(crate) async fn put_marker(
    to: impl PgExecutor<'_>,
    site_id: Option<i32>,
    at: Timestamp,
    said: &Said,
    author: &str,
) -> Result<i32> {
    let sql = "INSERT INTO marker (site_id, at, kind, title, detail, version, link, author)
               VALUES ($1, $2, $3, $4, $5, $6, $7, $8) RETURNING id";
    let add = sqlx::query_scalar(sql).bind(site_id).bind(at.to_sqlx()).bind(said.kind.word());
    let add = add.bind(&said.title).bind(&said.detail).bind(&said.version).bind(&said.link);
    Ok(add.bind(author).fetch_one(to).await?)
}

impl Db {
    /// The markers of a site in a stretch, those of every site among them, in order of time.
    pub async fn markers(&self, site_id: i32, stretch: Stretch) -> Result<Vec<Marker>> {
        let sql = AssertSqlSafe(format!(
            "SELECT * FROM ({MARKER} WHERE (site_id = $1 OR site_id IS NULL) AND at >= $2 AND at < $3 AND removed_at IS NULL
             ORDER BY at DESC, id DESC LIMIT $4) m ORDER BY at, id"
        ));
        let rows = sqlx::query_as(sql).bind(site_id);
        let rows = rows.bind(stretch.from.to_sqlx()).bind(stretch.to.to_sqlx()).bind(MOST);
        let rows: Vec<Row> = rows.fetch_all(&self.lane).await?;
        rows.into_iter().map(Row::marker).collect()
    }

    /// Markers of a stretch, the oldest first: so many at most after the one at that moment with that id.
    pub async fn markers_after(
        &self,
        site_id: i32,
        stretch: Stretch,
        after: Option<(Timestamp, i32)>,
        most: i64,
    ) -> Result<Vec<Marker>> {
        let sql = AssertSqlSafe(format!(
            "{MARKER} WHERE (site_id = $1 OR site_id IS NULL) AND at >= $2 AND at < $3 AND removed_at IS NULL
               AND ($4::timestamptz IS NULL OR (at, id) > ($4, $5)) ORDER BY at, id LIMIT $6"
        ));
        let rows = sqlx::query_as(sql).bind(site_id);
        let rows = rows.bind(stretch.from.to_sqlx()).bind(stretch.to.to_sqlx());
        let rows = rows.bind(after.map(|(at, _)| at.to_sqlx())).bind(after.map(|(_, id)| id));
        let rows: Vec<Row> = rows.bind(most).fetch_all(&self.lane).await?;
        rows.into_iter().map(Row::marker).collect()
    }

    /// A marker that a site has, even one that was taken away.
    pub async fn marker(&self, site_id: i32, id: i32) -> Result<Option<Marker>> {
        let sql =
            AssertSqlSafe(format!("{MARKER} WHERE id = $2 AND (site_id = $1 OR site_id IS NULL)"));
        let row: Option<Row> =
            sqlx::query_as(sql).bind(site_id).bind(id).fetch_optional(&self.lane).await?;
        row.map(Row::marker).transpose()
    }

    /// Pins a marker to a moment of a site, or of all of them; its id.
    pub async fn add_marker(
        &self,
        site_id: Option<i32>,
        at: Timestamp,
        said: &Said,
        author: &str,
    ) -> Result<i32> {
        put_marker(&self.lane, site_id, at, said, author).await
    }

    /// Lets a marker say something else, if nobody changed it since it had been `edits` times; whether it did.
    pub async fn set_marker(
        &self,
        id: i32,
        edits: i32,
        at: Timestamp,
        said: &Said,
    ) -> Result<bool> {
        let sql = "UPDATE marker SET at = $3, kind = $4, title = $5, detail = $6, version = $7, link = $8, edits = edits + 1
                   WHERE id = $1 AND edits = $2 AND removed_at IS NULL";
        let set = sqlx::query(sql).bind(id).bind(edits).bind(at.to_sqlx()).bind(said.kind.word());
        let set = set.bind(&said.title).bind(&said.detail).bind(&said.version).bind(&said.link);
        Ok(set.execute(&self.lane).await?.rows_affected() > 0)
    }

    /// Takes a marker away, or puts it back; whether that changed anything.
    pub async fn remove_marker(&self, id: i32, is_removed: bool) -> Result<bool> {
        let sql = "UPDATE marker SET removed_at = CASE WHEN $2 THEN now() END WHERE id = $1 AND (removed_at IS NULL) = $2";
        let done = sqlx::query(sql).bind(id).bind(is_removed).execute(&self.lane).await?;
        Ok(done.rows_affected() > 0)
    }
}
