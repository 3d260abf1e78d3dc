//! Incidents: what alerts that belong together make, and what people do about them.

use crate::db::{Db, Result, content};
use cadentis_core::alert::incident::{About, AtOpening};
use cadentis_core::alert::{Definition, Severity};
use cadentis_core::calendar::Stretch;
use jiff::{SignedDuration, Timestamp};
use jiff_sqlx::ToSqlx;
use sqlx::types::Json;
use sqlx::{AssertSqlSafe, FromRow};

/// Something that went wrong, as far as alerts tell.
#[derive(Debug, Clone, PartialEq)]
pub struct Incident {
    /// Its number.
    pub id: i32,
    /// The site.
    pub site_id: i32,
    /// What its alerts have in common.
    pub about: About,
    /// In a few words.
    pub title: String,
    /// The worst it came to.
    pub severity: Severity,
    /// How bad it is; `None` when it has cleared.
    pub now: Option<Severity>,
    /// The first evaluation beyond a level.
    pub since: Timestamp,
    /// The evaluation that opened it.
    pub opened_at: Timestamp,
    /// When that was done.
    pub noticed_at: Timestamp,
    /// When all of its alerts had cleared.
    pub cleared_at: Option<Timestamp>,
    /// How often it opened again.
    pub reopened: i32,
    /// When somebody said that they look after it, and who.
    pub acknowledged: Option<(Timestamp, String)>,
    /// When somebody said that nothing more is to do, and who.
    pub closed: Option<(Timestamp, String)>,
    /// Acted out: it counts nowhere.
    pub is_rehearsal: bool,
    /// What it looked like when it was noticed, where that was kept.
    pub at_opening: Option<AtOpening>,
}

/// A time that an alert of an incident was open.
#[derive(Debug, Clone, PartialEq)]
pub struct OpenAlert {
    /// Its own id.
    pub id: i32,
    /// The incident.
    pub incident_id: i32,
    /// The alert; `None` when it was taken away, or is acted out.
    pub alert_id: Option<i32>,
    /// The rehearsal in which it is acted out.
    pub rehearsal_id: Option<i32>,
    /// Its name then.
    pub name: String,
    /// What it said then.
    pub definition: Definition,
    /// The worst it came to.
    pub severity: Severity,
    /// The first evaluation beyond a level.
    pub since: Timestamp,
    /// When it opened.
    pub opened_at: Timestamp,
    /// When it cleared.
    pub cleared_at: Option<Timestamp>,
    /// What the measure was when it opened, of how many samples.
    pub value: Option<f64>,
    /// Of so many samples.
    pub samples: u64,
}

/// What happens to an incident.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum What {
    /// The first of its alerts opened.
    Opened,
    /// Another alert opened.
    Joined,
    /// A warning became critical.
    Worsened,
    /// What was critical is a warning.
    Eased,
    /// One of several alerts cleared.
    Left,
    /// The last of its alerts cleared.
    Cleared,
    /// An alert opened after all had cleared.
    Reopened,
    /// Somebody looks after it.
    Acknowledged,
    /// Somebody wrote something down.
    Note,
    /// Nothing more is to do.
    Closed,
}

impl What {
    /// All of them.
    pub const ALL: [What; 10] = [
        What::Opened,
        What::Joined,
        What::Worsened,
        What::Eased,
        What::Left,
        What::Cleared,
        What::Reopened,
        What::Acknowledged,
        What::Note,
        What::Closed,
    ];

    /// In one word.
    pub fn word(self) -> &'static str {
        match self {
            What::Opened => "opened",
            What::Joined => "joined",
            What::Worsened => "worsened",
            What::Eased => "eased",
            What::Left => "left",
            What::Cleared => "cleared",
            What::Reopened => "reopened",
            What::Acknowledged => "acknowledged",
            What::Note => "note",
            What::Closed => "closed",
        }
    }
}

/// Something that happened to an incident.
#[derive(Debug, Clone, PartialEq)]
pub struct Event {
    /// When.
    pub at: Timestamp,
    /// What.
    pub what: What,
    /// In words.
    pub says: String,
    /// Who did it; empty for the watch.
    pub author: String,
}

#[derive(FromRow)]
struct Row {
    id: i32,
    site_id: i32,
    about: Json<About>,
    title: String,
    severity: String,
    now_severity: Option<String>,
    since: jiff_sqlx::Timestamp,
    opened_at: jiff_sqlx::Timestamp,
    noticed_at: jiff_sqlx::Timestamp,
    cleared_at: Option<jiff_sqlx::Timestamp>,
    reopened: i32,
    acknowledged_at: Option<jiff_sqlx::Timestamp>,
    acknowledged_by: Option<String>,
    closed_at: Option<jiff_sqlx::Timestamp>,
    closed_by: Option<String>,
    is_rehearsal: bool,
    at_opening: Option<Json<AtOpening>>,
}

fn severity(word: &str) -> Result<Severity> {
    Severity::of_word(word).ok_or_else(|| content("incident.severity", word))
}

impl Row {
    fn incident(self) -> Result<Incident> {
        let by = |at: Option<jiff_sqlx::Timestamp>, who: Option<String>| {
            at.map(|at| (at.to_jiff(), who.unwrap_or_default()))
        };
        Ok(Incident {
            id: self.id,
            site_id: self.site_id,
            about: self.about.0,
            title: self.title,
            severity: severity(&self.severity)?,
            now: self.now_severity.as_deref().map(severity).transpose()?,
            since: self.since.to_jiff(),
            opened_at: self.opened_at.to_jiff(),
            noticed_at: self.noticed_at.to_jiff(),
            cleared_at: self.cleared_at.map(|at| at.to_jiff()),
            reopened: self.reopened,
            acknowledged: by(self.acknowledged_at, self.acknowledged_by),
            closed: by(self.closed_at, self.closed_by),
            is_rehearsal: self.is_rehearsal,
            at_opening: self.at_opening.map(|kept| kept.0),
        })
    }
}

#[derive(FromRow)]
struct OpenRow {
    id: i32,
    incident_id: i32,
    alert_id: Option<i32>,
    rehearsal_id: Option<i32>,
    name: String,
    definition: Json<Definition>,
    severity: String,
    since: jiff_sqlx::Timestamp,
    opened_at: jiff_sqlx::Timestamp,
    cleared_at: Option<jiff_sqlx::Timestamp>,
    value: Option<f64>,
    samples: i64,
}

impl OpenRow {
    fn open(self) -> Result<OpenAlert> {
        Ok(OpenAlert {
            id: self.id,
            incident_id: self.incident_id,
            alert_id: self.alert_id,
            rehearsal_id: self.rehearsal_id,
            name: self.name,
            definition: self.definition.0,
            severity: severity(&self.severity)?,
            since: self.since.to_jiff(),
            opened_at: self.opened_at.to_jiff(),
            cleared_at: self.cleared_at.map(|at| at.to_jiff()),
            value: self.value,
            samples: self.samples.max(0) as u64,
        })
    }
}

impl Db {
    async fn incidents_by(
        &self,
        sql: &str,
        site_id: i32,
        stretch: Stretch,
    ) -> Result<Vec<Incident>> {
        let sql = format!("SELECT * FROM incident WHERE site_id = $1 {sql}");
        let rows = sqlx::query_as::<_, Row>(AssertSqlSafe(sql)).bind(site_id);
        let rows = rows.bind(stretch.from.to_sqlx()).bind(stretch.to.to_sqlx());
        rows.fetch_all(&self.lane).await?.into_iter().map(Row::incident).collect()
    }

    /// Incidents of a site that were open at some time of a stretch, newest first; at most 500. What was acted out is none.
    pub async fn incidents(&self, site_id: i32, stretch: Stretch) -> Result<Vec<Incident>> {
        let sql = "AND NOT is_rehearsal AND opened_at < $3 AND COALESCE(cleared_at, 'infinity') >= $2 ORDER BY opened_at DESC, id DESC LIMIT 500";
        self.incidents_by(sql, site_id, stretch).await
    }

    /// As [`Db::incidents`] has them, page by page: so many at most after the one that opened at that moment with that id.
    pub async fn incidents_after(
        &self,
        site_id: i32,
        stretch: Stretch,
        after: Option<(Timestamp, i32)>,
        most: i64,
    ) -> Result<Vec<Incident>> {
        let sql = "SELECT * FROM incident WHERE site_id = $1 AND NOT is_rehearsal AND opened_at < $3
                     AND COALESCE(cleared_at, 'infinity') >= $2
                     AND ($4::timestamptz IS NULL OR (opened_at, id) < ($4, $5)) ORDER BY opened_at DESC, id DESC LIMIT $6";
        let rows = sqlx::query_as::<_, Row>(sql).bind(site_id);
        let rows = rows.bind(stretch.from.to_sqlx()).bind(stretch.to.to_sqlx());
        let rows = rows.bind(after.map(|(at, _)| at.to_sqlx())).bind(after.map(|(_, id)| id));
        rows.bind(most).fetch_all(&self.lane).await?.into_iter().map(Row::incident).collect()
    }

    /// The incident of a site with this number.
    pub async fn incident(&self, site_id: i32, id: i32) -> Result<Option<Incident>> {
        let sql = "SELECT * FROM incident WHERE site_id = $1 AND id = $2";
        let row: Option<Row> =
            sqlx::query_as(sql).bind(site_id).bind(id).fetch_optional(&self.lane).await?;
        row.map(Row::incident).transpose()
    }

    /// Incidents that were noticed from this moment on and of which it is not kept what they looked like then, the oldest
    /// first: site and number.
    pub async fn incidents_to_keep(&self, from: Timestamp, most: i64) -> Result<Vec<(i32, i32)>> {
        let sql = "SELECT site_id, id FROM incident WHERE at_opening IS NULL AND noticed_at >= $1 AND cleared_at IS NULL
                   ORDER BY id LIMIT $2";
        let some = sqlx::query_as(sql).bind(from.to_sqlx()).bind(most);
        Ok(some.fetch_all(&self.lane).await?)
    }

    /// Keeps what an incident looked like when it was noticed, unless that is kept.
    pub async fn keep_opening(&self, id: i32, at_opening: &AtOpening) -> Result<()> {
        let sql = "UPDATE incident SET at_opening = $2 WHERE id = $1 AND at_opening IS NULL";
        sqlx::query(sql).bind(id).bind(Json(at_opening)).execute(&self.lane).await?;
        Ok(())
    }

    /// The newest incident about this that takes in an alert that opens at a moment: one that opened no later than so long
    /// after it, and goes on or cleared no earlier than so long before: alerts are caught up with one after the other.
    /// Nobody else opens one about the site until the transaction ends.
    pub async fn incident_to_join(
        &self,
        site_id: i32,
        about: &About,
        at: Timestamp,
        near: SignedDuration,
    ) -> Result<Option<Incident>> {
        sqlx::query("SELECT pg_advisory_xact_lock(7300, $1)")
            .bind(site_id)
            .execute(&self.lane)
            .await?;
        let sql = "SELECT * FROM incident WHERE site_id = $1 AND about = $2 AND closed_at IS NULL AND NOT is_rehearsal
                     AND COALESCE(cleared_at, 'infinity') >= $3 AND opened_at <= $4 ORDER BY opened_at DESC LIMIT 1";
        let row: Option<Row> = sqlx::query_as(sql)
            .bind(site_id)
            .bind(Json(about))
            .bind((at - near).to_sqlx())
            .bind((at + near).to_sqlx())
            .fetch_optional(&self.lane)
            .await?;
        row.map(Row::incident).transpose()
    }

    /// Opens an incident; its number.
    pub async fn open_incident(
        &self,
        site_id: i32,
        (about, title): (&About, &str),
        severity: Severity,
        (since, opened, noticed): (Timestamp, Timestamp, Timestamp),
        is_rehearsal: bool,
    ) -> Result<i32> {
        let sql = "INSERT INTO incident (site_id, about, title, severity, now_severity, since, opened_at, noticed_at, is_rehearsal)
                   VALUES ($1, $2, $3, $4, $4, $5, $6, $7, $8) RETURNING id";
        let put = sqlx::query_scalar(sql).bind(site_id).bind(Json(about)).bind(title);
        let put = put.bind(severity.word()).bind(since.to_sqlx()).bind(opened.to_sqlx());
        let put = put.bind(noticed.to_sqlx()).bind(is_rehearsal);
        Ok(put.fetch_one(&self.lane).await?)
    }

    /// Notes that an alert opened, as a part of an incident.
    pub async fn open_alert(&self, alert: &OpenAlert) -> Result<()> {
        let sql = "INSERT INTO incident_alert (incident_id, alert_id, name, definition, severity, since, opened_at, value, samples, rehearsal_id)
                   VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10)";
        let put = sqlx::query(sql).bind(alert.incident_id).bind(alert.alert_id).bind(&alert.name);
        let put = put.bind(Json(&alert.definition)).bind(alert.severity.word());
        let put = put.bind(alert.since.to_sqlx()).bind(alert.opened_at.to_sqlx());
        let put = put.bind(alert.value).bind(alert.samples as i64).bind(alert.rehearsal_id);
        put.execute(&self.lane).await?;
        Ok(())
    }

    /// The time that an alert has been open for, if it is.
    pub async fn open_of(&self, alert_id: i32) -> Result<Option<OpenAlert>> {
        let sql = "SELECT * FROM incident_alert WHERE alert_id = $1 AND cleared_at IS NULL";
        let row: Option<OpenRow> =
            sqlx::query_as(sql).bind(alert_id).fetch_optional(&self.lane).await?;
        row.map(OpenRow::open).transpose()
    }

    /// The time that an alert has been open for in a rehearsal, if it is.
    pub async fn open_in_rehearsal(&self, rehearsal_id: i32) -> Result<Option<OpenAlert>> {
        let sql = "SELECT * FROM incident_alert WHERE rehearsal_id = $1 AND cleared_at IS NULL";
        let row: Option<OpenRow> =
            sqlx::query_as(sql).bind(rehearsal_id).fetch_optional(&self.lane).await?;
        row.map(OpenRow::open).transpose()
    }

    /// The alerts of these incidents, in the order in which they opened.
    pub async fn alerts_of(&self, incidents: &[i32]) -> Result<Vec<OpenAlert>> {
        let sql =
            "SELECT * FROM incident_alert WHERE incident_id = ANY ($1) ORDER BY opened_at, id";
        let rows: Vec<OpenRow> = sqlx::query_as(sql).bind(incidents).fetch_all(&self.lane).await?;
        rows.into_iter().map(OpenRow::open).collect()
    }

    /// Each time that an alert was open in a stretch, newest first; at most 500.
    pub async fn openings_of(&self, alert_id: i32, stretch: Stretch) -> Result<Vec<OpenAlert>> {
        let sql = "SELECT * FROM incident_alert WHERE alert_id = $1 AND opened_at < $3
                     AND COALESCE(cleared_at, 'infinity') >= $2 ORDER BY opened_at DESC LIMIT 500";
        let rows = sqlx::query_as(sql).bind(alert_id).bind(stretch.from.to_sqlx());
        let rows: Vec<OpenRow> = rows.bind(stretch.to.to_sqlx()).fetch_all(&self.lane).await?;
        rows.into_iter().map(OpenRow::open).collect()
    }

    /// How often alerts of a site opened since a moment, by alert.
    pub async fn opened_since(
        &self,
        site_id: i32,
        since: Timestamp,
    ) -> Result<Vec<(i32, i64, Timestamp)>> {
        let sql = "SELECT a.alert_id, count(*), max(a.opened_at) FROM incident_alert a JOIN incident i ON i.id = a.incident_id
                   WHERE i.site_id = $1 AND a.opened_at >= $2 AND a.alert_id IS NOT NULL AND NOT i.is_rehearsal GROUP BY 1";
        type Row = (i32, i64, jiff_sqlx::Timestamp);
        let rows = sqlx::query_as(sql).bind(site_id).bind(since.to_sqlx());
        let rows: Vec<Row> = rows.fetch_all(&self.lane).await?;
        Ok(rows.into_iter().map(|(id, n, at)| (id, n, at.to_jiff())).collect())
    }

    /// Lets a time that an alert is open be as bad as this, or end.
    pub async fn set_open(
        &self,
        id: i32,
        severity: Severity,
        cleared: Option<Timestamp>,
    ) -> Result<()> {
        let sql = "UPDATE incident_alert SET cleared_at = $3,
                     severity = CASE WHEN severity = 'critical' THEN severity ELSE $2 END WHERE id = $1";
        let set = sqlx::query(sql).bind(id).bind(severity.word());
        set.bind(cleared.map(|at| at.to_sqlx())).execute(&self.lane).await?;
        Ok(())
    }

    /// Lets an incident be as bad as this, or cleared at a moment; one that opens again is counted.
    pub async fn set_incident(
        &self,
        id: i32,
        now: Option<Severity>,
        cleared: Option<Timestamp>,
        reopens: bool,
    ) -> Result<()> {
        let sql = "UPDATE incident SET now_severity = $2, cleared_at = $3, reopened = reopened + $4::int,
                     severity = CASE WHEN $2 = 'critical' THEN 'critical' ELSE severity END WHERE id = $1";
        let set = sqlx::query(sql).bind(id).bind(now.map(Severity::word));
        set.bind(cleared.map(|at| at.to_sqlx())).bind(reopens).execute(&self.lane).await?;
        Ok(())
    }

    /// Notes something that happened to an incident.
    pub async fn note_event(&self, incident_id: i32, event: &Event) -> Result<()> {
        let sql = "INSERT INTO incident_event (incident_id, at, what, says, author) VALUES ($1, $2, $3, $4, $5)";
        let put = sqlx::query(sql).bind(incident_id).bind(event.at.to_sqlx());
        let put = put.bind(event.what.word()).bind(&event.says).bind(&event.author);
        put.execute(&self.lane).await?;
        Ok(())
    }

    /// What happened to an incident, in order; at most 1000.
    pub async fn events_of(&self, incident_id: i32) -> Result<Vec<Event>> {
        let sql = "SELECT at, what, says, author FROM incident_event WHERE incident_id = $1 ORDER BY at, id LIMIT 1000";
        type Row = (jiff_sqlx::Timestamp, String, String, String);
        let rows: Vec<Row> = sqlx::query_as(sql).bind(incident_id).fetch_all(&self.lane).await?;
        let read = |(at, what, says, author): Row| {
            let found = What::ALL.into_iter().find(|w| w.word() == what);
            let what = found.ok_or_else(|| content("incident_event.what", what))?;
            Ok(Event { at: at.to_jiff(), what, says, author })
        };
        rows.into_iter().map(read).collect()
    }

    /// Notes that somebody looks after an incident; whether nobody did before.
    pub async fn acknowledge(&self, id: i32, by: &str, at: Timestamp) -> Result<bool> {
        let sql = "UPDATE incident SET acknowledged_at = $3, acknowledged_by = $2 WHERE id = $1 AND acknowledged_at IS NULL";
        let set = sqlx::query(sql).bind(id).bind(by).bind(at.to_sqlx());
        Ok(set.execute(&self.lane).await?.rows_affected() > 0)
    }

    /// Notes that nothing more is to do about an incident that has cleared; whether that was not said before.
    pub async fn close_incident(&self, id: i32, by: &str, at: Timestamp) -> Result<bool> {
        let sql = "UPDATE incident SET closed_at = $3, closed_by = $2 WHERE id = $1 AND closed_at IS NULL AND cleared_at IS NOT NULL";
        let set = sqlx::query(sql).bind(id).bind(by).bind(at.to_sqlx());
        Ok(set.execute(&self.lane).await?.rows_affected() > 0)
    }
}
