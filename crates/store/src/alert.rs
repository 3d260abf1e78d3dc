//! Alerts, and what each evaluation of them said.

use crate::db::{Db, Result, content};
use crate::goal::Kept;
use cadentis_core::alert::{Definition, Evaluation, State, Usual, Verdict};
use cadentis_core::calendar::Stretch;
use jiff::{SignedDuration, Timestamp};
use jiff_sqlx::ToSqlx;
use sqlx::types::Json;
use sqlx::{AssertSqlSafe, FromRow};
use std::collections::HashMap;

/// Something that is watched.
#[derive(Debug, Clone, PartialEq)]
pub struct Alert {
    /// Its id.
    pub id: i32,
    /// The site.
    pub site_id: i32,
    /// What it says.
    pub says: Says,
    /// Counts up with every change.
    pub revision: i32,
    /// Whether it is watched at all.
    pub is_on: bool,
    /// Until when it tells nobody.
    pub silence: Option<Silence>,
    /// The name of the team; empty without one.
    pub owner: String,
    /// Who made it or changed it last.
    pub author: String,
    /// How it stands after the last evaluation.
    pub state: State,
    /// Up to when it has been evaluated.
    pub evaluated_to: Timestamp,
}

/// What an alert says, as somebody writes it.
#[derive(Debug, Clone, PartialEq)]
pub struct Says {
    /// Its name.
    pub name: String,
    /// What is watched.
    pub definition: Definition,
    /// The team that owns it.
    pub team_id: Option<i32>,
    /// What to do when it opens.
    pub instructions: String,
    /// Where more is written about it.
    pub link: String,
    /// Call lists that a warning and a critical incident are told to; without, the usual one of the site.
    pub lists: [Option<i32>; 2],
}

/// A time in which an alert tells nobody.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Silence {
    /// Until when.
    pub until: Timestamp,
    /// Why.
    pub why: String,
    /// Who wanted it.
    pub by: String,
}

#[derive(FromRow)]
struct Row {
    id: i32,
    site_id: i32,
    name: String,
    definition: Json<Definition>,
    revision: i32,
    is_on: bool,
    silenced_until: Option<jiff_sqlx::Timestamp>,
    silenced_why: String,
    silenced_by: String,
    team_id: Option<i32>,
    owner: String,
    instructions: String,
    link: String,
    warning_list: Option<i32>,
    critical_list: Option<i32>,
    author: String,
    state: Json<StateRow>,
    evaluated_to: jiff_sqlx::Timestamp,
}

/// A state as it is kept; of an alert that was never evaluated nothing is.
#[derive(serde::Deserialize)]
#[serde(untagged)]
enum StateRow {
    Kept(State),
    None {},
}

impl Row {
    fn alert(self) -> Alert {
        let Row { silenced_why: why, silenced_by: by, .. } = self;
        let silence = self.silenced_until.map(|until| Silence { until: until.to_jiff(), why, by });
        Alert {
            id: self.id,
            site_id: self.site_id,
            says: Says {
                name: self.name,
                definition: self.definition.0,
                team_id: self.team_id,
                instructions: self.instructions,
                link: self.link,
                lists: [self.warning_list, self.critical_list],
            },
            revision: self.revision,
            is_on: self.is_on,
            silence,
            owner: self.owner,
            author: self.author,
            state: match self.state.0 {
                StateRow::Kept(state) => state,
                StateRow::None {} => State::default(),
            },
            evaluated_to: self.evaluated_to.to_jiff(),
        }
    }
}

const ALERT: &str = "SELECT a.*, COALESCE((SELECT name FROM team WHERE team.id = a.team_id), '') AS owner FROM alert a";
/// Up to when an alert has to have been evaluated to be due at a moment.
const DUE: &str =
    "a.is_on AND a.evaluated_to + make_interval(secs => (a.definition->>'every_s')::float8) <= $1
    AND EXISTS (SELECT FROM site s WHERE s.id = a.site_id AND s.archived_at IS NULL)";

fn verdict_code(verdict: Verdict) -> i16 {
    Verdict::ALL.iter().position(|v| *v == verdict).unwrap_or(0) as i16
}

fn verdict_of(code: i16) -> Result<Verdict> {
    let found = usize::try_from(code).ok().and_then(|nth| Verdict::ALL.get(nth));
    found.copied().ok_or_else(|| content("alert_evaluation.verdict", format!("{code} is none")))
}

/// An evaluation as it is kept.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct KeptEvaluation {
    /// What it said.
    pub evaluation: Evaluation,
    /// Whether it was done later than it was due.
    pub is_late: bool,
}

#[derive(FromRow)]
struct EvaluationRow {
    alert_id: i32,
    at: jiff_sqlx::Timestamp,
    value: Option<f64>,
    samples: i64,
    verdict: i16,
    is_late: bool,
    middle: Option<f64>,
    spread: Option<f64>,
}

impl EvaluationRow {
    fn read(self) -> Result<KeptEvaluation> {
        let evaluation = Evaluation {
            at: self.at.to_jiff(),
            value: self.value,
            samples: self.samples.max(0) as u64,
            verdict: verdict_of(self.verdict)?,
            usual: self.middle.zip(self.spread).map(|(middle, spread)| Usual { middle, spread }),
        };
        Ok(KeptEvaluation { evaluation, is_late: self.is_late })
    }
}

impl Db {
    /// The alerts of a site, by name.
    pub async fn alerts(&self, site_id: i32) -> Result<Vec<Alert>> {
        let sql = format!("{ALERT} WHERE a.site_id = $1 ORDER BY a.name, a.id");
        let rows: Vec<Row> =
            sqlx::query_as(AssertSqlSafe(sql)).bind(site_id).fetch_all(&self.lane).await?;
        Ok(rows.into_iter().map(Row::alert).collect())
    }

    /// The alert of a site with this id.
    pub async fn alert(&self, site_id: i32, id: i32) -> Result<Option<Alert>> {
        let sql = format!("{ALERT} WHERE a.site_id = $1 AND a.id = $2");
        let row: Option<Row> = sqlx::query_as(AssertSqlSafe(sql))
            .bind(site_id)
            .bind(id)
            .fetch_optional(&self.lane)
            .await?;
        Ok(row.map(Row::alert))
    }

    /// The alert with this id, of whichever site.
    pub async fn alert_by_id(&self, id: i32) -> Result<Option<Alert>> {
        let sql = format!("{ALERT} WHERE a.id = $1");
        let row: Option<Row> =
            sqlx::query_as(AssertSqlSafe(sql)).bind(id).fetch_optional(&self.lane).await?;
        Ok(row.map(Row::alert))
    }

    /// Adds an alert that is watched from a moment on; `None` when the site has one of that name.
    pub async fn add_alert(
        &self,
        site_id: i32,
        says: &Says,
        (is_on, from): (bool, Timestamp),
        author: &str,
    ) -> Result<Option<i32>> {
        let sql = "INSERT INTO alert (site_id, name, definition, team_id, instructions, link, is_on, evaluated_to, author,
                     warning_list, critical_list) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11) ON CONFLICT (site_id, name) DO NOTHING RETURNING id";
        let add = sqlx::query_scalar(sql).bind(site_id).bind(&says.name);
        let add = add.bind(Json(&says.definition)).bind(says.team_id);
        let add = add.bind(&says.instructions).bind(&says.link).bind(is_on);
        let add = add.bind(from.to_sqlx()).bind(author).bind(says.lists[0]).bind(says.lists[1]);
        Ok(add.fetch_optional(&self.lane).await?)
    }

    /// Lets an alert say something else, unless somebody changed it since this revision. What has been counted of
    /// evaluations running begins anew; whether it is open stays.
    pub async fn set_alert(
        &self,
        alert: &Alert,
        based_on: i32,
        says: &Says,
        author: &str,
    ) -> Result<Kept> {
        let sql = "SELECT EXISTS (SELECT FROM alert WHERE site_id = $1 AND name = $2 AND id <> $3)";
        let taken = sqlx::query_scalar(sql).bind(alert.site_id).bind(&says.name).bind(alert.id);
        if taken.fetch_one(&self.lane).await? {
            return Ok(Kept::Taken);
        }
        let sql = "UPDATE alert SET name = $3, definition = $4, team_id = $5, instructions = $6, link = $7, author = $8,
                     revision = revision + 1, state = $9, warning_list = $10, critical_list = $11 WHERE id = $1 AND revision = $2 RETURNING revision";
        let state = State { open: alert.state.open, ..State::default() };
        let set = sqlx::query_scalar(sql).bind(alert.id).bind(based_on).bind(&says.name);
        let set = set.bind(Json(&says.definition)).bind(says.team_id).bind(&says.instructions);
        let set = set.bind(&says.link).bind(author).bind(Json(state));
        let set = set.bind(says.lists[0]).bind(says.lists[1]);
        Ok(match set.fetch_optional(&self.lane).await? {
            Some(revision) => Kept::Version(revision),
            None => Kept::Overtaken,
        })
    }

    /// Switches an alert on from a moment on, or off; whether it was the other way.
    pub async fn switch_alert(&self, id: i32, on: bool, now: Timestamp) -> Result<bool> {
        let sql = "UPDATE alert SET is_on = $2, evaluated_to = CASE WHEN $2 THEN $3 ELSE evaluated_to END, state = $4
                   WHERE id = $1 AND is_on <> $2";
        let set = sqlx::query(sql).bind(id).bind(on).bind(now.to_sqlx());
        Ok(set.bind(Json(State::default())).execute(&self.lane).await?.rows_affected() > 0)
    }

    /// Lets an alert tell nobody until then, or tell again.
    pub async fn silence_alert(&self, id: i32, silence: Option<&Silence>) -> Result<()> {
        let sql = "UPDATE alert SET silenced_until = $2, silenced_why = $3, silenced_by = $4 WHERE id = $1";
        let set = sqlx::query(sql).bind(id).bind(silence.map(|s| s.until.to_sqlx()));
        let set = set.bind(silence.map_or("", |s| &s.why)).bind(silence.map_or("", |s| &s.by));
        set.execute(&self.lane).await?;
        Ok(())
    }

    /// Takes an alert away with its evaluations; whether there was one.
    pub async fn remove_alert(&self, id: i32) -> Result<bool> {
        let gone = sqlx::query("DELETE FROM alert WHERE id = $1").bind(id);
        Ok(gone.execute(&self.lane).await?.rows_affected() > 0)
    }

    /// Alerts that are due to be evaluated up to a moment, those that waited longest first.
    pub async fn due_alerts(&self, up_to: Timestamp, most: i64) -> Result<Vec<i32>> {
        let sql = format!("SELECT a.id FROM alert a WHERE {DUE} ORDER BY a.evaluated_to LIMIT $2");
        let due = sqlx::query_scalar(AssertSqlSafe(sql)).bind(up_to.to_sqlx()).bind(most);
        Ok(due.fetch_all(&self.lane).await?)
    }

    /// Takes the turn of these alerts, as far as they are due and nobody has them, in a transaction: nobody else evaluates them
    /// until that ends.
    pub async fn claim_alerts(&self, ids: &[i32], up_to: Timestamp) -> Result<Vec<Alert>> {
        let sql = format!(
            "{ALERT} WHERE {DUE} AND a.id = ANY ($2) ORDER BY a.id FOR UPDATE OF a SKIP LOCKED"
        );
        let rows: Vec<Row> = sqlx::query_as(AssertSqlSafe(sql))
            .bind(up_to.to_sqlx())
            .bind(ids)
            .fetch_all(&self.lane)
            .await?;
        Ok(rows.into_iter().map(Row::alert).collect())
    }

    /// Keeps what evaluations said, and how the alert stands after them; those of before `on_time` were late.
    pub async fn keep_evaluations(
        &self,
        alert_id: i32,
        evaluations: &[Evaluation],
        on_time: Timestamp,
        state: &State,
    ) -> Result<()> {
        let Some(last) = evaluations.last() else { return Ok(()) };
        let sql = "INSERT INTO alert_evaluation (alert_id, at, value, samples, verdict, is_late, middle, spread)
                   SELECT $1, u.at, u.value, u.samples, u.verdict, u.at < $6, u.middle, u.spread
                   FROM unnest($2::timestamptz[], $3::float8[], $4::bigint[], $5::smallint[], $7::float8[], $8::float8[])
                     AS u (at, value, samples, verdict, middle, spread)
                   ON CONFLICT (alert_id, at) DO NOTHING";
        let each = |of: fn(&Evaluation) -> i64| evaluations.iter().map(of).collect::<Vec<_>>();
        let put = sqlx::query(sql).bind(alert_id);
        let at: Vec<_> = evaluations.iter().map(|e| e.at.to_sqlx()).collect();
        let put = put.bind(at).bind(evaluations.iter().map(|e| e.value).collect::<Vec<_>>());
        let put = put.bind(each(|e| i64::try_from(e.samples).unwrap_or(i64::MAX)));
        let verdicts: Vec<i16> = evaluations.iter().map(|e| verdict_code(e.verdict)).collect();
        let usual = |of: fn(Usual) -> f64| evaluations.iter().map(|e| e.usual.map(of)).collect();
        let (middle, spread): (Vec<_>, Vec<_>) = (usual(|u| u.middle), usual(|u| u.spread));
        let put = put.bind(verdicts).bind(on_time.to_sqlx()).bind(middle).bind(spread);
        put.execute(&self.lane).await?;
        let sql = "UPDATE alert SET state = $2, evaluated_to = $3 WHERE id = $1";
        let set = sqlx::query(sql).bind(alert_id).bind(Json(state)).bind(last.at.to_sqlx());
        set.execute(&self.lane).await?;
        Ok(())
    }

    /// What evaluations of an alert said in a stretch, in order of time.
    pub async fn evaluations(
        &self,
        alert_id: i32,
        stretch: Stretch,
    ) -> Result<Vec<KeptEvaluation>> {
        let sql = "SELECT alert_id, at, value, samples, verdict, is_late, middle, spread FROM alert_evaluation
                   WHERE alert_id = $1 AND at >= $2 AND at < $3 ORDER BY at";
        let rows = sqlx::query_as(sql).bind(alert_id).bind(stretch.from.to_sqlx());
        let rows: Vec<EvaluationRow> =
            rows.bind(stretch.to.to_sqlx()).fetch_all(&self.lane).await?;
        rows.into_iter().map(EvaluationRow::read).collect()
    }

    /// The same of all alerts of a site, by alert.
    pub async fn evaluations_of_site(
        &self,
        site_id: i32,
        stretch: Stretch,
    ) -> Result<HashMap<i32, Vec<KeptEvaluation>>> {
        let sql =
            "SELECT e.alert_id, e.at, e.value, e.samples, e.verdict, e.is_late, e.middle, e.spread
                   FROM alert_evaluation e JOIN alert a ON a.id = e.alert_id
                   WHERE a.site_id = $1 AND e.at >= $2 AND e.at < $3 ORDER BY e.at";
        let rows = sqlx::query_as(sql).bind(site_id).bind(stretch.from.to_sqlx());
        let rows: Vec<EvaluationRow> =
            rows.bind(stretch.to.to_sqlx()).fetch_all(&self.lane).await?;
        let mut all: HashMap<i32, Vec<KeptEvaluation>> = HashMap::new();
        for row in rows {
            all.entry(row.alert_id).or_default().push(row.read()?);
        }
        Ok(all)
    }

    /// For how long the alert that waited longest has been due at a moment; nothing when none is.
    pub async fn watch_lag(&self, up_to: Timestamp) -> Result<Option<SignedDuration>> {
        let sql = format!(
            "SELECT min(a.evaluated_to + make_interval(secs => (a.definition->>'every_s')::float8)) FROM alert a WHERE {DUE}"
        );
        let oldest: Option<jiff_sqlx::Timestamp> = sqlx::query_scalar(AssertSqlSafe(sql))
            .bind(up_to.to_sqlx())
            .fetch_one(&self.lane)
            .await?;
        Ok(oldest.map(|at| up_to.duration_since(at.to_jiff())))
    }
}
