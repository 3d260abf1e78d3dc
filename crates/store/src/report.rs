//! Reports, and what was issued of them.

use crate::db::{Db, Result, content};
use cadentis_core::calendar::Stretch;
use cadentis_core::report::Definition;
use jiff::Timestamp;
use jiff_sqlx::ToSqlx;
use sqlx::FromRow;
use sqlx::types::Json;

/// A report as it is kept.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Report {
    /// Its id.
    pub id: i32,
    /// The site.
    pub site_id: i32,
    /// Its name.
    pub name: String,
    /// What it is about.
    pub definition: Definition,
    /// Counts up with each change.
    pub version: i32,
    /// The call list that is told of each issue.
    pub list_id: Option<i32>,
    /// Who changed it last.
    pub author: String,
    /// The moment of the next issue.
    pub next_at: Option<Timestamp>,
    /// When it was ended.
    pub ended_at: Option<Timestamp>,
}

/// What was issued of a report, without its content.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Issue {
    /// Its id.
    pub id: i32,
    /// The report.
    pub report_id: i32,
    /// The how manieth of this time.
    pub number: i32,
    /// The time that it covers.
    pub covers: Stretch,
    /// When it was made.
    pub made_at: Timestamp,
    /// By whom.
    pub author: String,
    /// The checksum of its content.
    pub checksum: String,
}

/// An issue that is to be kept.
#[derive(Debug, Clone)]
pub struct NewIssue<'a> {
    /// The report.
    pub report: &'a Report,
    /// The time that it covers.
    pub covers: Stretch,
    /// When it is made.
    pub made_at: Timestamp,
    /// By whom.
    pub author: &'a str,
    /// Everything that it says.
    pub content: &'a str,
    /// The checksum of that.
    pub checksum: &'a str,
}

/// What became of a report that was to be kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum KeptReport {
    /// It is kept, with this id.
    Kept(i32),
    /// Another report of the site has the name.
    Taken,
    /// Somebody changed it meanwhile, or it was ended.
    Overtaken,
}

#[derive(FromRow)]
struct Row {
    id: i32,
    site_id: i32,
    name: String,
    definition: Json<Definition>,
    version: i32,
    list_id: Option<i32>,
    author: String,
    next_at: Option<jiff_sqlx::Timestamp>,
    ended_at: Option<jiff_sqlx::Timestamp>,
}

impl Row {
    fn report(self) -> Report {
        Report {
            id: self.id,
            site_id: self.site_id,
            name: self.name,
            definition: self.definition.0,
            version: self.version,
            list_id: self.list_id,
            author: self.author,
            next_at: self.next_at.map(|at| at.to_jiff()),
            ended_at: self.ended_at.map(|at| at.to_jiff()),
        }
    }
}

#[derive(FromRow)]
struct IssueRow {
    id: i32,
    report_id: i32,
    number: i32,
    from_at: jiff_sqlx::Timestamp,
    to_at: jiff_sqlx::Timestamp,
    made_at: jiff_sqlx::Timestamp,
    author: String,
    checksum: String,
}

impl IssueRow {
    fn issue(self) -> Issue {
        Issue {
            id: self.id,
            report_id: self.report_id,
            number: self.number,
            covers: Stretch { from: self.from_at.to_jiff(), to: self.to_at.to_jiff() },
            made_at: self.made_at.to_jiff(),
            author: self.author,
            checksum: self.checksum,
        }
    }
}

const COLUMNS: &str = "id, site_id, name, definition, version, list_id, author, next_at, ended_at";
const ISSUE_COLUMNS: &str = "id, report_id, number, from_at, to_at, made_at, author, checksum";
/// Whoever makes an issue has its turn for so many seconds.
const LEASE_S: f64 = 600.0;

impl Db {
    /// The reports of a site by name, those that were ended last.
    pub async fn reports(&self, site_id: i32) -> Result<Vec<Report>> {
        let sql = format!(
            "SELECT {COLUMNS} FROM report WHERE site_id = $1 ORDER BY ended_at IS NOT NULL, name LIMIT 500"
        );
        let rows: Vec<Row> =
            sqlx::query_as(sqlx::AssertSqlSafe(sql)).bind(site_id).fetch_all(&self.lane).await?;
        Ok(rows.into_iter().map(Row::report).collect())
    }

    /// A report of a site.
    pub async fn report(&self, site_id: i32, id: i32) -> Result<Option<Report>> {
        let sql = format!("SELECT {COLUMNS} FROM report WHERE site_id = $1 AND id = $2");
        let row = sqlx::query_as(sqlx::AssertSqlSafe(sql)).bind(site_id).bind(id);
        let row: Option<Row> = row.fetch_optional(&self.lane).await?;
        Ok(row.map(Row::report))
    }

    /// Keeps a new report, or changes one that still has this version.
    pub async fn put_report(
        &self,
        site_id: i32,
        known: Option<(i32, i32)>,
        (name, definition): (&str, &Definition),
        (list_id, next_at): (Option<i32>, Option<Timestamp>),
        author: &str,
    ) -> Result<KeptReport> {
        let sql = "SELECT count(*) FROM report WHERE site_id = $1 AND name = $2 AND ended_at IS NULL AND id <> $3";
        let id = known.map_or(0, |(id, _)| id);
        let others = sqlx::query_scalar::<_, i64>(sql).bind(site_id).bind(name).bind(id);
        if others.fetch_one(&self.lane).await? > 0 {
            return Ok(KeptReport::Taken);
        }
        let sql = match known {
            None => {
                "INSERT INTO report (site_id, name, definition, list_id, next_at, author)
                 SELECT $1, $2, $3, $4, $5, $6 WHERE $7 = 0 AND $8 = 0 RETURNING id"
            }
            Some(_) => {
                "UPDATE report SET name = $2, definition = $3, list_id = $4, next_at = $5, author = $6,
                   version = version + 1, leased_until = NULL
                 WHERE site_id = $1 AND id = $7 AND version = $8 AND ended_at IS NULL RETURNING id"
            }
        };
        let (id, version) = known.unwrap_or_default();
        let put = sqlx::query_scalar(sql).bind(site_id).bind(name).bind(Json(definition));
        let put = put.bind(list_id).bind(next_at.map(ToSqlx::to_sqlx)).bind(author);
        let kept: Option<i32> = put.bind(id).bind(version).fetch_optional(&self.lane).await?;
        Ok(kept.map_or(KeptReport::Overtaken, KeptReport::Kept))
    }

    /// Ends a report: it is issued no more. Its name, if there was one that was not ended yet.
    pub async fn end_report(&self, site_id: i32, id: i32) -> Result<Option<String>> {
        let sql = "UPDATE report SET ended_at = now(), next_at = NULL WHERE site_id = $1 AND id = $2 AND ended_at IS NULL
                   RETURNING name";
        Ok(sqlx::query_scalar(sql).bind(site_id).bind(id).fetch_optional(&self.lane).await?)
    }

    /// Takes the turn of the report that is due longest; nobody else makes its issue for a while.
    pub async fn due_report(&self, now: Timestamp) -> Result<Option<Report>> {
        let sql = format!(
            "UPDATE report SET leased_until = $1::timestamptz + make_interval(secs => $2) WHERE id = (
               SELECT id FROM report WHERE ended_at IS NULL AND next_at <= $1
                 AND (leased_until IS NULL OR leased_until <= $1)
               ORDER BY next_at LIMIT 1 FOR UPDATE SKIP LOCKED)
             RETURNING {COLUMNS}"
        );
        let due = sqlx::query_as(sqlx::AssertSqlSafe(sql)).bind(now.to_sqlx()).bind(LEASE_S);
        let due: Option<Row> = due.fetch_optional(&self.lane).await?;
        Ok(due.map(Row::report))
    }

    /// Goes on to the moment of the issue after this one; whether the report still was at it.
    pub async fn set_next_issue(
        &self,
        report: &Report,
        next_at: Option<Timestamp>,
    ) -> Result<bool> {
        let sql = "UPDATE report SET next_at = $3, leased_until = NULL
                   WHERE id = $1 AND next_at = $2 AND version = $4 AND ended_at IS NULL";
        let set = sqlx::query(sql).bind(report.id).bind(report.next_at.map(ToSqlx::to_sqlx));
        let set = set.bind(next_at.map(ToSqlx::to_sqlx)).bind(report.version);
        Ok(set.execute(&self.lane).await?.rows_affected() > 0)
    }

    /// Keeps an issue: its id and number.
    pub async fn add_issue(&self, new: &NewIssue<'_>) -> Result<(i32, i32)> {
        let sql = "INSERT INTO report_issue (report_id, site_id, number, from_at, to_at, made_at, author, content, checksum)
                   SELECT $1, $2, coalesce(max(number), 0) + 1, $3, $4, $5, $6, $7, $8 FROM report_issue
                   WHERE report_id = $1 AND from_at = $3 AND to_at = $4 RETURNING id, number";
        let add = sqlx::query_as(sql).bind(new.report.id).bind(new.report.site_id);
        let add = add.bind(new.covers.from.to_sqlx()).bind(new.covers.to.to_sqlx());
        let add = add.bind(new.made_at.to_sqlx()).bind(new.author).bind(new.content);
        Ok(add.bind(new.checksum).fetch_one(&self.lane).await?)
    }

    /// The newest issues of a report, the newest first.
    pub async fn issues_of(&self, report_id: i32, most: i64) -> Result<Vec<Issue>> {
        let sql = format!(
            "SELECT {ISSUE_COLUMNS} FROM report_issue WHERE report_id = $1 ORDER BY to_at DESC, number DESC LIMIT $2"
        );
        let rows = sqlx::query_as(sqlx::AssertSqlSafe(sql)).bind(report_id).bind(most);
        let rows: Vec<IssueRow> = rows.fetch_all(&self.lane).await?;
        Ok(rows.into_iter().map(IssueRow::issue).collect())
    }

    /// The newest issue of each report of a site.
    pub async fn newest_issues(&self, site_id: i32) -> Result<Vec<Issue>> {
        let sql = format!(
            "SELECT DISTINCT ON (report_id) {ISSUE_COLUMNS} FROM report_issue WHERE site_id = $1
             ORDER BY report_id, to_at DESC, number DESC"
        );
        let rows = sqlx::query_as(sqlx::AssertSqlSafe(sql)).bind(site_id);
        let rows: Vec<IssueRow> = rows.fetch_all(&self.lane).await?;
        Ok(rows.into_iter().map(IssueRow::issue).collect())
    }

    /// An issue of a site with its content.
    pub async fn issue(&self, site_id: i32, id: i32) -> Result<Option<(Issue, String)>> {
        let sql =
            format!("SELECT {ISSUE_COLUMNS} FROM report_issue WHERE site_id = $1 AND id = $2");
        let row = sqlx::query_as(sqlx::AssertSqlSafe(sql)).bind(site_id).bind(id);
        let row: Option<IssueRow> = row.fetch_optional(&self.lane).await?;
        let Some(row) = row else { return Ok(None) };
        let sql = "SELECT content FROM report_issue WHERE id = $1";
        let kept: Option<String> =
            sqlx::query_scalar(sql).bind(id).fetch_optional(&self.lane).await?;
        let kept = kept.ok_or_else(|| content("report_issue", "gone while it was read"))?;
        Ok(Some((row.issue(), kept)))
    }

    /// The site of an issue and the report that it is of, as whoever tells of it needs them.
    pub async fn report_of_issue(&self, id: i32) -> Result<Option<(i32, i32)>> {
        let sql = "SELECT site_id, report_id FROM report_issue WHERE id = $1";
        Ok(sqlx::query_as(sql).bind(id).fetch_optional(&self.lane).await?)
    }
}
