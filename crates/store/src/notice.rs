//! Whom incidents are told to, and the messages about them.

use crate::db::{Db, Result, content};
use crate::secret::Vault;
use cadentis_core::alert::Severity;
use cadentis_core::alert::notice::{GIVES_UP_AFTER, Kind, Step, wait_after};
use jiff::Timestamp;
use jiff_sqlx::ToSqlx;
use sqlx::FromRow;
use sqlx::types::Json;
use uuid::Uuid;

/// Somebody, or something, that is told.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Destination {
    /// Its id.
    pub id: i32,
    /// The site.
    pub site_id: i32,
    /// Its name.
    pub name: String,
    /// By what way.
    pub kind: Kind,
    /// Where it is.
    pub address: String,
    /// Whether its messages are signed.
    pub is_signed: bool,
    /// A template of one's own; empty for the usual text.
    pub own_text: String,
    /// Who added it.
    pub author: String,
}

/// A ticket, as whoever keeps it calls it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Ticket {
    /// Its name.
    pub name: String,
    /// Where it is; may be empty.
    pub link: String,
}

/// Who is told, in what order.
#[derive(Debug, Clone, PartialEq)]
pub struct CallList {
    /// Its id.
    pub id: i32,
    /// Its name.
    pub name: String,
    /// Its steps.
    pub steps: Vec<Step>,
    /// Whether alerts that name no list are told to it.
    pub is_usual: bool,
    /// Who changed it last.
    pub author: String,
    /// The team that owns it.
    pub team_id: Option<i32>,
    /// The name of that team; empty without one.
    pub owner: String,
}

/// What a notice tells of.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Tells {
    /// An incident opened.
    Opened,
    /// It became critical.
    Worsened,
    /// It is over.
    Cleared,
    /// It opened again.
    Reopened,
    /// Somebody else could not be told.
    Undelivered,
    /// Something that a supplier announced begins soon.
    Reminded,
    /// A report was issued.
    Report,
    /// A destination is tried.
    Test,
}

impl Tells {
    /// All of them.
    pub const ALL: [Tells; 8] = [
        Tells::Opened,
        Tells::Worsened,
        Tells::Cleared,
        Tells::Reopened,
        Tells::Undelivered,
        Tells::Reminded,
        Tells::Report,
        Tells::Test,
    ];

    /// In one word.
    pub fn word(self) -> &'static str {
        match self {
            Tells::Opened => "opened",
            Tells::Worsened => "worsened",
            Tells::Cleared => "cleared",
            Tells::Reopened => "reopened",
            Tells::Undelivered => "undelivered",
            Tells::Reminded => "reminded",
            Tells::Report => "report",
            Tells::Test => "test",
        }
    }
}

/// What became of a notice so far.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Sent {
    /// It waits for its moment, or for the next try.
    Waiting,
    /// It was taken.
    Delivered,
    /// It was not needed any more: somebody had acknowledged, or it was over.
    Dropped,
    /// It could not be delivered in its time.
    GivenUp,
}

impl Sent {
    const ALL: [(Sent, &'static str); 4] = [
        (Sent::Waiting, "waiting"),
        (Sent::Delivered, "delivered"),
        (Sent::Dropped, "dropped"),
        (Sent::GivenUp, "given_up"),
    ];
}

/// A notice that is to be.
#[derive(Debug, Clone)]
pub struct NewNotice<'a> {
    /// The site.
    pub site_id: i32,
    /// The incident; none for a test.
    pub incident_id: Option<i32>,
    /// The issue of a report, where it tells of one.
    pub issue_id: Option<i32>,
    /// To whom.
    pub destination: (i32, &'a str),
    /// Of what.
    pub tells: Tells,
    /// How bad it is.
    pub severity: Severity,
    /// In words.
    pub says: &'a str,
    /// When that was.
    pub at: Timestamp,
    /// From when on it is sent.
    pub due_at: Timestamp,
    /// Only while nobody has acknowledged the incident.
    pub unless_acknowledged: bool,
}

/// A notice.
#[derive(Debug, Clone, PartialEq)]
pub struct Notice {
    /// Its id.
    pub id: i64,
    /// The same however often it is tried.
    pub key: Uuid,
    /// The site.
    pub site_id: i32,
    /// The incident; none for a test.
    pub incident_id: Option<i32>,
    /// The issue of a report, where it tells of one.
    pub issue_id: Option<i32>,
    /// To whom; `None` when the destination was taken away.
    pub destination_id: Option<i32>,
    /// Its name then.
    pub destination: String,
    /// Of what.
    pub tells: Tells,
    /// How bad it was.
    pub severity: Severity,
    /// In words.
    pub says: String,
    /// When that was.
    pub at: Timestamp,
    /// From when on it was to be sent.
    pub due_at: Timestamp,
    /// What became of it.
    pub sent: Sent,
    /// Tries that failed.
    pub failed: u32,
    /// When it was taken.
    pub told_at: Option<Timestamp>,
}

/// One try to deliver a notice.
#[derive(Debug, Clone, PartialEq)]
pub struct Attempt {
    /// The notice.
    pub notice_id: i64,
    /// When.
    pub at: Timestamp,
    /// Whether it was taken.
    pub is_delivered: bool,
    /// What was answered.
    pub says: String,
}

#[derive(FromRow)]
struct Row {
    id: i64,
    key: Uuid,
    site_id: i32,
    incident_id: Option<i32>,
    issue_id: Option<i32>,
    destination_id: Option<i32>,
    destination: String,
    what: String,
    severity: String,
    says: String,
    at: jiff_sqlx::Timestamp,
    due_at: jiff_sqlx::Timestamp,
    state: String,
    failed: i32,
    told_at: Option<jiff_sqlx::Timestamp>,
}

impl Row {
    fn notice(self) -> Result<Notice> {
        let tells = Tells::ALL.into_iter().find(|t| t.word() == self.what);
        let sent = Sent::ALL.into_iter().find(|(_, word)| *word == self.state);
        Ok(Notice {
            id: self.id,
            key: self.key,
            site_id: self.site_id,
            incident_id: self.incident_id,
            issue_id: self.issue_id,
            destination_id: self.destination_id,
            destination: self.destination,
            tells: tells.ok_or_else(|| content("notice.what", self.what))?,
            severity: Severity::of_word(&self.severity)
                .ok_or_else(|| content("notice.severity", self.severity))?,
            says: self.says,
            at: self.at.to_jiff(),
            due_at: self.due_at.to_jiff(),
            sent: sent.ok_or_else(|| content("notice.state", self.state))?.0,
            failed: self.failed.max(0) as u32,
            told_at: self.told_at.map(|at| at.to_jiff()),
        })
    }
}

#[derive(FromRow)]
struct DestinationRow {
    id: i32,
    site_id: i32,
    name: String,
    kind: String,
    address: String,
    is_signed: bool,
    own_text: String,
    author: String,
}

impl DestinationRow {
    fn destination(self) -> Result<Destination> {
        let kind =
            Kind::of_word(&self.kind).ok_or_else(|| content("destination.kind", self.kind))?;
        let DestinationRow { id, site_id, name, address, is_signed, own_text, author, .. } = self;
        Ok(Destination { id, site_id, name, kind, address, is_signed, own_text, author })
    }
}

#[derive(FromRow)]
struct ListRow {
    id: i32,
    name: String,
    steps: Json<Vec<Step>>,
    is_usual: bool,
    author: String,
    team_id: Option<i32>,
    owner: String,
}

/// What the secret of a destination is sealed for.
pub(crate) fn place(id: i32) -> String {
    format!("destination {id}")
}

/// Who tries a notice has it for so long; whoever dies meanwhile has not tried it.
const LEASE_S: f64 = 90.0;

impl Db {
    /// The destinations of a site, by name.
    pub async fn destinations(&self, site_id: i32) -> Result<Vec<Destination>> {
        let sql = "SELECT id, site_id, name, kind, address, secret IS NOT NULL AS is_signed, own_text, author FROM destination
                   WHERE site_id = $1 ORDER BY name, id";
        let rows: Vec<DestinationRow> =
            sqlx::query_as(sql).bind(site_id).fetch_all(&self.lane).await?;
        rows.into_iter().map(DestinationRow::destination).collect()
    }

    /// Adds a destination, with what its messages are signed with; `None` when the site has one of that name.
    pub async fn add_destination(
        &self,
        site_id: i32,
        (name, kind, address): (&str, Kind, &str),
        secret: Option<(&Vault, &str)>,
        author: &str,
    ) -> Result<Option<i32>> {
        let sql = "INSERT INTO destination (site_id, name, kind, address, author) VALUES ($1, $2, $3, $4, $5)
                   ON CONFLICT (site_id, name) DO NOTHING RETURNING id";
        let add = sqlx::query_scalar(sql).bind(site_id).bind(name).bind(kind.word());
        let id: Option<i32> = add.bind(address).bind(author).fetch_optional(&self.lane).await?;
        if let (Some(id), Some((vault, secret))) = (id, secret) {
            let sealed = vault.seal(&place(id), secret);
            let set = sqlx::query("UPDATE destination SET secret = $2 WHERE id = $1");
            set.bind(id).bind(sealed).execute(&self.lane).await?;
        }
        Ok(id)
    }

    /// What the messages of a destination are signed with.
    pub async fn destination_secret(&self, id: i32, vault: &Vault) -> Result<Option<String>> {
        let sql = "SELECT secret FROM destination WHERE id = $1";
        let sealed: Option<Option<Vec<u8>>> =
            sqlx::query_scalar(sql).bind(id).fetch_optional(&self.lane).await?;
        match sealed.flatten() {
            None => Ok(None),
            Some(sealed) => match vault.open(&place(id), &sealed) {
                Some(secret) => Ok(Some(secret)),
                None => Err(content("destination.secret", "it was sealed with another key")),
            },
        }
    }

    /// Lets a destination be told in words of one's own, or in the usual ones; whether it is there.
    pub async fn set_own_text(&self, site_id: i32, id: i32, text: &str) -> Result<bool> {
        let sql = "UPDATE destination SET own_text = $3 WHERE site_id = $1 AND id = $2";
        let set = sqlx::query(sql).bind(site_id).bind(id).bind(text);
        Ok(set.execute(&self.lane).await?.rows_affected() > 0)
    }

    /// Keeps the ticket that stands for an incident at a destination.
    pub async fn put_ticket(
        &self,
        incident_id: i32,
        destination_id: i32,
        ticket: &Ticket,
    ) -> Result<()> {
        let sql =
            "INSERT INTO ticket (incident_id, destination_id, name, link) VALUES ($1, $2, $3, $4)
                   ON CONFLICT (incident_id, destination_id) DO UPDATE SET name = $3, link = $4";
        let put = sqlx::query(sql).bind(incident_id).bind(destination_id);
        put.bind(&ticket.name).bind(&ticket.link).execute(&self.lane).await?;
        Ok(())
    }

    /// The tickets that stand for an incident, with the destination that keeps each.
    pub async fn tickets_of(&self, incident_id: i32) -> Result<Vec<(i32, Ticket)>> {
        let sql =
            "SELECT destination_id, name, link FROM ticket WHERE incident_id = $1 ORDER BY name";
        type Row = (i32, String, String);
        let rows: Vec<Row> = sqlx::query_as(sql).bind(incident_id).fetch_all(&self.lane).await?;
        Ok(rows.into_iter().map(|(id, name, link)| (id, Ticket { name, link })).collect())
    }

    /// Lets a destination be somewhere else, by its name.
    pub async fn move_destination(&self, site_id: i32, name: &str, address: &str) -> Result<()> {
        let sql = "UPDATE destination SET address = $3 WHERE site_id = $1 AND name = $2";
        let set = sqlx::query(sql).bind(site_id).bind(name).bind(address);
        set.execute(&self.lane).await?;
        Ok(())
    }

    /// Takes a destination away; its name, if there was one.
    pub async fn remove_destination(&self, site_id: i32, id: i32) -> Result<Option<String>> {
        let sql = "DELETE FROM destination WHERE site_id = $1 AND id = $2 RETURNING name";
        Ok(sqlx::query_scalar(sql).bind(site_id).bind(id).fetch_optional(&self.lane).await?)
    }

    /// The call lists of a site, by name.
    pub async fn call_lists(&self, site_id: i32) -> Result<Vec<CallList>> {
        let sql = "SELECT l.id, l.name, l.steps, l.is_usual, l.author, l.team_id, COALESCE(t.name, '') AS owner
                   FROM call_list l LEFT JOIN team t ON t.id = l.team_id WHERE l.site_id = $1 ORDER BY l.name, l.id";
        let rows: Vec<ListRow> = sqlx::query_as(sql).bind(site_id).fetch_all(&self.lane).await?;
        let list = |r: ListRow| CallList {
            id: r.id,
            name: r.name,
            steps: r.steps.0,
            is_usual: r.is_usual,
            author: r.author,
            team_id: r.team_id,
            owner: r.owner,
        };
        Ok(rows.into_iter().map(list).collect())
    }

    /// Keeps a call list by its name; its id. The usual one is no other any more.
    pub async fn put_call_list(
        &self,
        site_id: i32,
        (name, steps, is_usual): (&str, &[Step], bool),
        author: &str,
    ) -> Result<i32> {
        if is_usual {
            let sql = "UPDATE call_list SET is_usual = false WHERE site_id = $1 AND name <> $2";
            sqlx::query(sql).bind(site_id).bind(name).execute(&self.lane).await?;
        }
        let sql = "INSERT INTO call_list (site_id, name, steps, is_usual, author) VALUES ($1, $2, $3, $4, $5)
                   ON CONFLICT (site_id, name) DO UPDATE SET steps = $3, is_usual = $4, author = $5 RETURNING id";
        let put = sqlx::query_scalar(sql).bind(site_id).bind(name).bind(Json(steps));
        Ok(put.bind(is_usual).bind(author).fetch_one(&self.lane).await?)
    }

    /// Gives a call list to a team, or to nobody in particular.
    pub async fn own_call_list(&self, id: i32, team_id: Option<i32>) -> Result<()> {
        let sql = "UPDATE call_list SET team_id = $2 WHERE id = $1";
        sqlx::query(sql).bind(id).bind(team_id).execute(&self.lane).await?;
        Ok(())
    }

    /// Takes a call list away; its name, if there was one.
    pub async fn remove_call_list(&self, site_id: i32, id: i32) -> Result<Option<String>> {
        let sql = "DELETE FROM call_list WHERE site_id = $1 AND id = $2 RETURNING name";
        Ok(sqlx::query_scalar(sql).bind(site_id).bind(id).fetch_optional(&self.lane).await?)
    }

    /// Writes a notice down: whoever comes to it sends it.
    pub async fn add_notice(&self, n: &NewNotice<'_>) -> Result<i64> {
        let sql = "INSERT INTO notice (site_id, incident_id, destination_id, destination, what, severity, says, at, due_at,
                     unless_acknowledged, next_at, issue_id) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $9, $11) RETURNING id";
        let add = sqlx::query_scalar(sql).bind(n.site_id).bind(n.incident_id).bind(n.destination.0);
        let add = add.bind(n.destination.1).bind(n.tells.word()).bind(n.severity.word());
        let add = add.bind(n.says).bind(n.at.to_sqlx()).bind(n.due_at.to_sqlx());
        Ok(add.bind(n.unless_acknowledged).bind(n.issue_id).fetch_one(&self.lane).await?)
    }

    /// Takes the turn of notices whose moment has come, the oldest first: nobody else tries them for a while. Of one incident
    /// and destination only the oldest comes, so that a clearing is never told before its opening. What is not needed any
    /// more is dropped.
    pub async fn due_notices(&self, now: Timestamp, most: i64) -> Result<Vec<Notice>> {
        let sql = "UPDATE notice n SET state = 'dropped' FROM incident i
                   WHERE n.state = 'waiting' AND n.unless_acknowledged AND n.next_at <= $1 AND i.id = n.incident_id
                     AND (i.acknowledged_at IS NOT NULL OR i.cleared_at IS NOT NULL)";
        sqlx::query(sql).bind(now.to_sqlx()).execute(&self.lane).await?;
        let sql = "UPDATE notice SET next_at = $1::timestamptz + make_interval(secs => $3) WHERE id = ANY (ARRAY(
                     SELECT id FROM notice n WHERE n.state = 'waiting' AND n.next_at <= $1 AND NOT EXISTS (
                       SELECT FROM notice e WHERE e.state = 'waiting' AND e.id < n.id AND e.due_at <= $1
                         AND e.incident_id = n.incident_id AND e.destination_id = n.destination_id)
                     ORDER BY n.id LIMIT $2 FOR UPDATE SKIP LOCKED))
                   RETURNING *";
        let rows = sqlx::query_as(sql).bind(now.to_sqlx()).bind(most).bind(LEASE_S);
        let rows: Vec<Row> = rows.fetch_all(&self.lane).await?;
        let mut all: Vec<Notice> = rows.into_iter().map(Row::notice).collect::<Result<_>>()?;
        all.sort_by_key(|n| n.id);
        Ok(all)
    }

    /// Notes what became of a try; whether the notice is given up now.
    pub async fn note_attempt(
        &self,
        notice: &Notice,
        (is_delivered, says): (bool, &str),
        now: Timestamp,
    ) -> Result<bool> {
        let mut tx = self.lane.begin().await?;
        let sql = "INSERT INTO notice_attempt (notice_id, at, is_delivered, says) VALUES ($1, $2, $3, $4)";
        let note = sqlx::query(sql).bind(notice.id).bind(now.to_sqlx()).bind(is_delivered);
        note.bind(says).execute(&mut *tx).await?;
        let failed = notice.failed + 1;
        let gives_up = !is_delivered
            && (notice.destination_id.is_none()
                || now.duration_since(notice.due_at) >= GIVES_UP_AFTER);
        let state = match (is_delivered, gives_up) {
            (true, _) => "delivered",
            (_, true) => "given_up",
            _ => "waiting",
        };
        let sql = "UPDATE notice SET state = $2, failed = $3, next_at = $4, told_at = CASE WHEN $2 = 'delivered' THEN $5 END
                   WHERE id = $1";
        let next = now + wait_after(failed);
        let set = sqlx::query(sql).bind(notice.id).bind(state);
        let set = set.bind(if is_delivered { notice.failed } else { failed } as i32);
        set.bind(next.to_sqlx()).bind(now.to_sqlx()).execute(&mut *tx).await?;
        tx.commit().await?;
        Ok(gives_up)
    }

    /// Lets a notice be tried at once.
    pub async fn hurry_notice(&self, id: i64) -> Result<()> {
        let sql = "UPDATE notice SET next_at = least(next_at, now()), due_at = least(due_at, now()) WHERE id = $1";
        sqlx::query(sql).bind(id).execute(&self.lane).await?;
        Ok(())
    }

    /// The notices of an incident, in order.
    pub async fn notices_of(&self, incident_id: i32) -> Result<Vec<Notice>> {
        let sql = "SELECT * FROM notice WHERE incident_id = $1 ORDER BY id LIMIT 500";
        let rows: Vec<Row> = sqlx::query_as(sql).bind(incident_id).fetch_all(&self.lane).await?;
        rows.into_iter().map(Row::notice).collect()
    }

    /// The notice with this id.
    pub async fn notice(&self, id: i64) -> Result<Option<Notice>> {
        let row: Option<Row> = sqlx::query_as("SELECT * FROM notice WHERE id = $1")
            .bind(id)
            .fetch_optional(&self.lane)
            .await?;
        row.map(Row::notice).transpose()
    }

    /// The newest notices of a site, the newest first.
    pub async fn newest_notices(&self, site_id: i32, most: i64) -> Result<Vec<Notice>> {
        let sql = "SELECT * FROM notice WHERE site_id = $1 ORDER BY id DESC LIMIT $2";
        let rows: Vec<Row> =
            sqlx::query_as(sql).bind(site_id).bind(most).fetch_all(&self.lane).await?;
        rows.into_iter().map(Row::notice).collect()
    }

    /// The tries of these notices, in order.
    pub async fn attempts_of(&self, notices: &[i64]) -> Result<Vec<Attempt>> {
        let sql = "SELECT notice_id, at, is_delivered, says FROM notice_attempt WHERE notice_id = ANY ($1) ORDER BY at";
        type Row = (i64, jiff_sqlx::Timestamp, bool, String);
        let rows: Vec<Row> = sqlx::query_as(sql).bind(notices).fetch_all(&self.lane).await?;
        let read = |(notice_id, at, is_delivered, says): Row| Attempt {
            notice_id,
            at: at.to_jiff(),
            is_delivered,
            says,
        };
        Ok(rows.into_iter().map(read).collect())
    }

    /// Destinations that were, or are to be, told of an incident since it opened: whoever heard of trouble hears of its end.
    pub async fn told_of(&self, incident_id: i32) -> Result<Vec<(i32, String)>> {
        let sql = "SELECT DISTINCT destination_id, destination FROM notice WHERE incident_id = $1 AND destination_id IS NOT NULL
                     AND (state = 'delivered' OR (state = 'waiting' AND NOT unless_acknowledged)) ORDER BY 1";
        Ok(sqlx::query_as(sql).bind(incident_id).fetch_all(&self.lane).await?)
    }

    /// How many notices wait that were due before a moment.
    pub async fn late_notices(&self, before: Timestamp) -> Result<i64> {
        let sql = "SELECT count(*) FROM notice WHERE state = 'waiting' AND due_at < $1";
        Ok(sqlx::query_scalar(sql).bind(before.to_sqlx()).fetch_one(&self.lane).await?)
    }
}
