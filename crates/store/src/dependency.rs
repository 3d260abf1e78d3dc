//! Dependencies of a site: states that were posted, what was announced.

use crate::db::{Db, Result, content};
use cadentis_core::calendar::Stretch;
use cadentis_core::dependency::{Announcement, Kind, Phase, Post, State};
use jiff::Timestamp;
use jiff_sqlx::ToSqlx;
use sqlx::FromRow;

/// What a site stands on.
#[derive(Debug, Clone, PartialEq, Eq, FromRow)]
pub struct Dependency {
    /// Its id.
    pub id: i32,
    /// Its name in addresses.
    pub slug: String,
    /// Its name.
    pub name: String,
    /// Hosts whose requests are its own.
    pub hosts: Vec<String>,
}

#[derive(FromRow)]
struct PostRow {
    dependency_id: i32,
    at: jiff_sqlx::Timestamp,
    state: String,
    says: String,
    link: String,
    expires_at: jiff_sqlx::Timestamp,
    author: String,
}

#[derive(FromRow)]
struct AnnouncementRow {
    dependency_id: i32,
    subject: String,
    kind: String,
    phase: String,
    title: String,
    says: String,
    link: String,
    from_at: jiff_sqlx::Timestamp,
    to_at: Option<jiff_sqlx::Timestamp>,
}

/// An announcement that the watch has something to do with.
#[derive(Debug, Clone, PartialEq)]
pub struct Announced {
    /// Its id.
    pub id: i32,
    /// The site.
    pub site_id: i32,
    /// The dependency's name in addresses.
    pub slug: String,
    /// The dependency's name.
    pub name: String,
    /// What was announced.
    pub says: Announcement,
    /// The incident that it holds open.
    pub incident_id: Option<i32>,
    /// What was told there last.
    pub told_as: String,
    /// The beginning that was reminded of.
    pub reminded_from: Option<Timestamp>,
}

#[derive(FromRow)]
struct AnnouncedRow {
    id: i32,
    site_id: i32,
    slug: String,
    name: String,
    incident_id: Option<i32>,
    told_as: String,
    reminded_from: Option<jiff_sqlx::Timestamp>,
    #[sqlx(flatten)]
    says: AnnouncementRow,
}

impl AnnouncementRow {
    fn read(self) -> Result<Announcement> {
        let kind =
            Kind::of_word(&self.kind).ok_or_else(|| content("announcement.kind", self.kind))?;
        let phase =
            Phase::of_word(&self.phase).ok_or_else(|| content("announcement.phase", self.phase))?;
        let (from, to) = (self.from_at.to_jiff(), self.to_at.map(|at| at.to_jiff()));
        let AnnouncementRow { subject, title, says, link, .. } = self;
        Ok(Announcement { subject, kind, phase, title, says, link, from, to })
    }
}

impl Db {
    /// Takes the turn of announcements of which something may be to do at a moment, in a transaction: outages that go on or
    /// hold an incident open, and what begins within two days and was not reminded of.
    pub async fn claim_announcements(&self, now: Timestamp) -> Result<Vec<Announced>> {
        let sql = "SELECT a.*, d.site_id, d.slug, d.name FROM announcement a JOIN dependency d ON d.id = a.dependency_id
                   JOIN site s ON s.id = d.site_id
                   WHERE s.archived_at IS NULL AND (a.incident_id IS NOT NULL OR a.phase NOT IN ('cancelled', 'ended') AND (
                       a.kind = 'outage' AND a.from_at <= $1 AND COALESCE(a.to_at, 'infinity') > $1
                       OR a.kind = 'outage' AND a.phase = 'started' AND COALESCE(a.to_at, 'infinity') > $1
                       OR a.kind <> 'outage' AND a.from_at > $1 AND a.from_at < $1::timestamptz + interval '2 days'
                          AND a.reminded_from IS DISTINCT FROM a.from_at))
                   ORDER BY a.id LIMIT 200 FOR UPDATE OF a SKIP LOCKED";
        let rows: Vec<AnnouncedRow> =
            sqlx::query_as(sql).bind(now.to_sqlx()).fetch_all(&self.lane).await?;
        let read = |row: AnnouncedRow| {
            let AnnouncedRow { id, site_id, slug, name, incident_id, told_as, .. } = row;
            let reminded_from = row.reminded_from.map(|at| at.to_jiff());
            let says = row.says.read()?;
            Ok(Announced { id, site_id, slug, name, says, incident_id, told_as, reminded_from })
        };
        rows.into_iter().map(read).collect()
    }

    /// Keeps what came of an announcement.
    pub async fn keep_announced(&self, a: &Announced) -> Result<()> {
        let sql = "UPDATE announcement SET incident_id = $2, told_as = $3, reminded_from = $4 WHERE id = $1";
        let set = sqlx::query(sql).bind(a.id).bind(a.incident_id).bind(&a.told_as);
        set.bind(a.reminded_from.map(|at| at.to_sqlx())).execute(&self.lane).await?;
        Ok(())
    }

    /// The incidents that announcements of a dependency hold open.
    pub async fn incidents_announced_by(&self, site_id: i32, slug: &str) -> Result<Vec<i32>> {
        let sql =
            "SELECT a.incident_id FROM announcement a JOIN dependency d ON d.id = a.dependency_id
                   WHERE d.site_id = $1 AND d.slug = $2 AND a.incident_id IS NOT NULL";
        let ids = sqlx::query_scalar(sql).bind(site_id).bind(slug);
        Ok(ids.fetch_all(&self.lane).await?)
    }

    /// Whether an announcement holds this incident open.
    pub async fn is_announced(&self, incident_id: i32) -> Result<bool> {
        let sql = "SELECT EXISTS (SELECT FROM announcement WHERE incident_id = $1)";
        Ok(sqlx::query_scalar(sql).bind(incident_id).fetch_one(&self.lane).await?)
    }

    /// The dependencies of a site, by name.
    pub async fn dependencies(&self, site_id: i32) -> Result<Vec<Dependency>> {
        let sql =
            "SELECT id, slug, name, hosts FROM dependency WHERE site_id = $1 ORDER BY name, id";
        Ok(sqlx::query_as(sql).bind(site_id).fetch_all(&self.lane).await?)
    }

    /// The dependency of this name in addresses, made when there is none yet; a name that is given becomes its name.
    pub async fn put_dependency(
        &self,
        site_id: i32,
        slug: &str,
        name: Option<&str>,
    ) -> Result<i32> {
        let sql = "INSERT INTO dependency (site_id, slug, name) VALUES ($1, $2, COALESCE($3, $2))
                   ON CONFLICT (site_id, slug) DO UPDATE SET name = COALESCE($3, dependency.name) RETURNING id";
        let put = sqlx::query_scalar(sql).bind(site_id).bind(slug).bind(name);
        Ok(put.fetch_one(&self.lane).await?)
    }

    /// Says which hosts are asked for what a dependency does; which they were, if there is such a one.
    pub async fn set_dependency_hosts(
        &self,
        site_id: i32,
        slug: &str,
        hosts: &[String],
    ) -> Result<Option<Vec<String>>> {
        let sql = "UPDATE dependency d SET hosts = $3 FROM dependency was
                   WHERE d.site_id = $1 AND d.slug = $2 AND was.id = d.id RETURNING was.hosts";
        let set = sqlx::query_scalar(sql).bind(site_id).bind(slug).bind(hosts);
        Ok(set.fetch_optional(&self.lane).await?)
    }

    /// Takes a dependency away with all that was posted of it; its name, if there was one.
    pub async fn remove_dependency(&self, site_id: i32, slug: &str) -> Result<Option<String>> {
        let sql = "DELETE FROM dependency WHERE site_id = $1 AND slug = $2 RETURNING name";
        Ok(sqlx::query_scalar(sql).bind(site_id).bind(slug).fetch_optional(&self.lane).await?)
    }

    /// Posts that say something about a stretch: those in it, and of each dependency the last before; with the id of their
    /// dependency, in order of time.
    pub async fn states(&self, site_id: i32, stretch: Stretch) -> Result<Vec<(i32, Post)>> {
        let sql = "SELECT s.* FROM dependency d CROSS JOIN LATERAL (
                       (SELECT * FROM dependency_state WHERE dependency_id = d.id AND at < $2 ORDER BY at DESC LIMIT 1)
                       UNION ALL
                       (SELECT * FROM dependency_state WHERE dependency_id = d.id AND at >= $2 AND at < $3 ORDER BY at DESC LIMIT 5000)
                   ) s WHERE d.site_id = $1 ORDER BY s.at";
        let rows = sqlx::query_as(sql).bind(site_id);
        let rows = rows.bind(stretch.from.to_sqlx()).bind(stretch.to.to_sqlx());
        let rows: Vec<PostRow> = rows.fetch_all(&self.lane).await?;
        let read = |row: PostRow| {
            let state = State::of_word(&row.state)
                .ok_or_else(|| content("dependency_state.state", row.state))?;
            let (at, expires_at) = (row.at.to_jiff(), row.expires_at.to_jiff());
            let PostRow { says, link, author, .. } = row;
            Ok((row.dependency_id, Post { at, state, says, link, expires_at, author }))
        };
        rows.into_iter().map(read).collect()
    }

    /// Keeps a state; of two at one moment the later word counts.
    pub async fn post_state(&self, dependency_id: i32, post: &Post) -> Result<()> {
        let sql = "INSERT INTO dependency_state VALUES ($1, $2, $3, $4, $5, $6, $7)
                   ON CONFLICT (dependency_id, at) DO UPDATE
                   SET state = $3, says = $4, link = $5, expires_at = $6, author = $7";
        let put = sqlx::query(sql).bind(dependency_id).bind(post.at.to_sqlx());
        let put = put.bind(post.state.word()).bind(&post.says).bind(&post.link);
        put.bind(post.expires_at.to_sqlx()).bind(&post.author).execute(&self.lane).await?;
        Ok(())
    }

    /// Lets the newest state of a dependency be good for longer, when this says the same again while it still is; whether it
    /// did. Whoever posts each minute leaves one row for each change, not for each minute.
    pub async fn prolong_state(&self, site_id: i32, slug: &str, post: &Post) -> Result<bool> {
        let sql = "UPDATE dependency_state s SET expires_at = greatest(s.expires_at, $8)
                   FROM dependency d WHERE d.site_id = $1 AND d.slug = $2 AND s.dependency_id = d.id
                     AND s.at = (SELECT max(at) FROM dependency_state WHERE dependency_id = d.id)
                     AND s.at <= $3 AND s.expires_at >= $3
                     AND (s.state, s.says, s.link, s.author) = ($4, $5, $6, $7)";
        let set = sqlx::query(sql).bind(site_id).bind(slug).bind(post.at.to_sqlx());
        let set = set.bind(post.state.word()).bind(&post.says).bind(&post.link).bind(&post.author);
        Ok(set.bind(post.expires_at.to_sqlx()).execute(&self.lane).await?.rows_affected() > 0)
    }

    /// What was announced and touches a stretch or comes later, with the id of the dependency, by when it begins.
    pub async fn announcements(
        &self,
        site_id: i32,
        stretch: Stretch,
    ) -> Result<Vec<(i32, Announcement)>> {
        let sql = "SELECT a.dependency_id, a.subject, a.kind, a.phase, a.title, a.says, a.link, a.from_at, a.to_at
                   FROM announcement a JOIN dependency d ON d.id = a.dependency_id
                   WHERE d.site_id = $1 AND (a.to_at IS NULL OR a.to_at > $2) AND a.told_at > $2::timestamptz - interval '400 days'
                   ORDER BY a.from_at LIMIT 500";
        let rows = sqlx::query_as(sql).bind(site_id).bind(stretch.from.to_sqlx());
        let rows: Vec<AnnouncementRow> = rows.fetch_all(&self.lane).await?;
        let read = |row: AnnouncementRow| Ok((row.dependency_id, row.read()?));
        rows.into_iter().map(read).collect()
    }

    /// Keeps what was announced, in place of what was told of the same before, unless that was told later.
    pub async fn announce(
        &self,
        dependency_id: i32,
        a: &Announcement,
        told_at: Timestamp,
        author: &str,
    ) -> Result<bool> {
        let sql = "INSERT INTO announcement (dependency_id, subject, kind, phase, title, says, link, from_at, to_at, told_at, author)
                   VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11)
                   ON CONFLICT (dependency_id, subject) DO UPDATE SET kind = $3, phase = $4, title = $5, says = $6, link = $7,
                     from_at = $8, to_at = $9, told_at = $10, author = $11 WHERE announcement.told_at <= $10";
        let put = sqlx::query(sql).bind(dependency_id).bind(&a.subject).bind(a.kind.word());
        let put = put.bind(a.phase.word()).bind(&a.title).bind(&a.says).bind(&a.link);
        let put = put.bind(a.from.to_sqlx()).bind(a.to.map(|at| at.to_sqlx()));
        let put = put.bind(told_at.to_sqlx()).bind(author).execute(&self.lane).await?;
        Ok(put.rows_affected() > 0)
    }

    /// Takes note of an event by what its source calls it; `false` when it came before.
    pub async fn take_event(&self, site_id: i32, source: &str, id: &str) -> Result<bool> {
        let sql = "INSERT INTO event_taken (site_id, source, event_id) VALUES ($1, $2, $3) ON CONFLICT DO NOTHING";
        let put = sqlx::query(sql).bind(site_id).bind(source).bind(id);
        Ok(put.execute(&self.lane).await?.rows_affected() > 0)
    }
}
