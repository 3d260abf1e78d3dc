//! The watch: evaluates what is due, and lets incidents open, worsen, ease and clear.
//!
//! One transaction holds the evaluations of alerts, how they stand after them, and what that changes of incidents, so that
//! whoever dies in between has done nothing, and the next does it. The row of the alert is the turn: two servers never evaluate
//! one alert at a time.

mod announced;
mod rehearsed;

use crate::alerts::evaluated;
use crate::{Answers, Result, incidents, measures, usual};
use cadentis_core::alert::incident::{About, REOPENS_WITHIN};
use cadentis_core::alert::notice::Kind;
use cadentis_core::alert::{Evaluation, LAG, Rule, Severity, State, Verdict, notice};
use cadentis_store::Db;
use cadentis_store::alert::Alert;
use cadentis_store::incident::{Event, OpenAlert, What};
use cadentis_store::notice::{Destination, NewNotice, Tells};
use cadentis_store::site::Site;
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use std::collections::HashMap;
use std::sync::atomic::AtomicU64;
use std::sync::atomic::Ordering::Relaxed;
use std::time::Instant;

/// What a turn has done.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Turn {
    /// Alerts that were evaluated.
    pub alerts: usize,
    /// Alerts that could not be, such as those whose journey is gone.
    pub failed: usize,
    /// Evaluations that were done.
    pub evaluations: usize,
}

/// So many alerts are looked for at a time.
const AT_A_TIME: i64 = 200;
/// After a gap no more than so long is caught up with: what lies further back is told as not watched.
const CATCHES_UP: SignedDuration = SignedDuration::from_hours(24);

/// Evaluates whatever is due now, by the database's clock.
///
/// # Errors
/// When the database does not answer.
pub async fn round(answers: &Answers) -> Result<Turn> {
    let begun = Instant::now();
    let done = turn(answers, answers.db.now().await?).await?;
    let watched = &answers.watched;
    watched.turns.fetch_add(1, Relaxed);
    watched.evaluations.fetch_add(done.evaluations as u64, Relaxed);
    let took = begun.elapsed().as_micros().try_into().unwrap_or(u64::MAX);
    watched.micros.fetch_add(took, Relaxed);
    Ok(done)
}

/// What the watch has done in this process, for whoever watches it.
#[derive(Debug, Default)]
pub struct Watched {
    /// Turns, also those in which nothing was due.
    pub turns: AtomicU64,
    /// Evaluations.
    pub evaluations: AtomicU64,
    /// How long all turns took, in microseconds.
    pub micros: AtomicU64,
}

/// By how much the watch is behind what is due, when it is behind.
///
/// # Errors
/// When the database does not answer.
pub async fn lag(answers: &Answers, now: Timestamp) -> Result<Option<SignedDuration>> {
    Ok(answers.db.watch_lag(now - LAG).await?)
}

/// Watches what is past as if it were now, day by day: history that is made in one go (demo, tests) has the incidents that it
/// would have had.
///
/// # Errors
/// When the database does not answer.
pub async fn replay(answers: &Answers, from: Timestamp, to: Timestamp) -> Result<Turn> {
    let mut all = Turn::default();
    let mut now = from;
    while now < to {
        now = (now + CATCHES_UP).min(to);
        let done = turned(answers, now, true).await?;
        all.alerts += done.alerts;
        all.evaluations += done.evaluations;
    }
    Ok(all)
}

/// Evaluates whatever is due at a moment.
///
/// # Errors
/// When the database does not answer.
pub async fn turn(answers: &Answers, now: Timestamp) -> Result<Turn> {
    turned(answers, now, false).await
}

/// The same; of history nothing is late, and incidents were noticed when they opened.
async fn turned(answers: &Answers, now: Timestamp, is_history: bool) -> Result<Turn> {
    let sites: HashMap<i32, Site> =
        answers.db.sites().await?.into_iter().map(|s| (s.id, s)).collect();
    let mut turn = Turn::default();
    if !is_history {
        rehearsed::follow(answers, &sites, now).await?;
        announced::follow(answers, &sites, now).await?;
    }
    loop {
        let due = answers.db.due_alerts(now - LAG, AT_A_TIME).await?;
        let done = together(answers, &sites, &due, (now, is_history)).await?;
        turn.alerts += done.alerts;
        turn.evaluations += done.evaluations;
        turn.failed += done.failed;
        // What others have is theirs; what none of us could take now waits for the next round.
        if (due.len() as i64) < AT_A_TIME || done.alerts == 0 {
            if !is_history {
                incidents::keep_openings(answers, &sites, now).await?;
            }
            return Ok(turn);
        }
    }
}

/// An alert whose turn it is, and what its evaluations say.
struct Walk {
    alert: Alert,
    evaluations: Vec<Evaluation>,
    state: State,
    open: Option<OpenAlert>,
}

/// Evaluates these alerts in one transaction, and lets incidents follow in the order of time, whichever alert it was: what is
/// caught up with comes out as if it had been watched.
async fn together(
    answers: &Answers,
    sites: &HashMap<i32, Site>,
    due: &[i32],
    (now, is_history): (Timestamp, bool),
) -> Result<Turn> {
    let mut turn = Turn::default();
    if due.is_empty() {
        return Ok(turn);
    }
    let up_to = now - LAG;
    let (db, change) = answers.db.in_one().await?;
    let mut walks = Vec::new();
    for alert in db.claim_alerts(due, up_to).await? {
        let Some(site) = sites.get(&alert.site_id) else { continue };
        // One that cannot be evaluated stays due, and keeps no other from being watched.
        let evaluations = match evaluations(answers, site, &alert, up_to).await {
            Ok(evaluations) => evaluations,
            Err(e) => {
                tracing::warn!(
                    "the alert {} of {} is not evaluated: {e}",
                    alert.says.name,
                    site.name
                );
                turn.failed += 1;
                continue;
            }
        };
        turn.failed += usize::from(evaluations.iter().all(|e| e.verdict == Verdict::NoData));
        turn.alerts += 1;
        turn.evaluations += evaluations.len();
        let open = match alert.state.open.is_some() || is_open_to_be(&alert, &evaluations) {
            true => db.open_of(alert.id).await?,
            false => None,
        };
        walks.push(Walk { state: alert.state, alert, evaluations, open });
    }
    let moments = walks.iter().enumerate().flat_map(|(nth, w)| {
        w.evaluations.iter().enumerate().map(move |(place, e)| (e.at, nth, place))
    });
    let mut moments: Vec<(Timestamp, usize, usize)> = moments.collect();
    moments.sort_unstable();
    for (at, nth, place) in moments {
        let w = &mut walks[nth];
        let e = w.evaluations[place];
        w.state.step(&w.alert.says.definition, &e);
        let is_silent = w.alert.silence.as_ref().is_some_and(|s| at <= s.until);
        let site = sites.get(&w.alert.site_id).map(|s| &s.zone);
        let by = Watching {
            db: &db,
            alert: &w.alert,
            zone: site.cloned().unwrap_or(TimeZone::UTC),
            noticed: if is_history { at + LAG } else { now },
            // Of what is long over nobody is woken.
            tells: !is_history && now.duration_since(at) < OLD_NEWS,
            rehearsal: None,
        };
        let open = w.open.take();
        w.open = by.follow(w.state.open, open, (&e, is_silent, w.state.since)).await?;
    }
    for w in &walks {
        // Late is what was due a whole interval before the newest that is due.
        let every = w.alert.says.definition.every_s.max(60);
        let on_time = match is_history {
            true => w.alert.evaluated_to,
            false => up_to - SignedDuration::from_secs(every + 60),
        };
        db.keep_evaluations(w.alert.id, &w.evaluations, on_time, &w.state).await?;
    }
    change.commit().await?;
    Ok(turn)
}

/// Whether any evaluation may open it.
fn is_open_to_be(alert: &Alert, evaluations: &[Evaluation]) -> bool {
    let mut state = alert.state;
    let mut step = |e: &Evaluation| state.step(&alert.says.definition, e).is_some();
    evaluations.iter().any(&mut step)
}

async fn evaluations(
    answers: &Answers,
    site: &Site,
    alert: &Alert,
    up_to: Timestamp,
) -> Result<Vec<Evaluation>> {
    let definition = &alert.says.definition;
    let moments = definition.moments(alert.evaluated_to.max(up_to - CATCHES_UP), up_to);
    match measures::about(answers, site, &definition.measured).await? {
        Ok(about) => {
            evaluated(answers, site, (definition, &about), moments, usual::From::Remembered).await
        }
        // What it names is gone: nothing can be told, which is told.
        Err(_) => {
            let verdict = Verdict::NoData;
            let none = |at| Evaluation { at, value: None, samples: 0, verdict, usual: None };
            Ok(moments.into_iter().map(none).collect())
        }
    }
}

/// What opened longer ago than this is told to nobody: it was caught up with.
const OLD_NEWS: SignedDuration = SignedDuration::from_hours(6);

/// An alert while it is followed.
struct Watching<'a> {
    db: &'a Db,
    alert: &'a Alert,
    zone: TimeZone,
    /// When what happens is noticed.
    noticed: Timestamp,
    /// Whether anybody is told.
    tells: bool,
    /// The rehearsal in which it is acted out.
    rehearsal: Option<i32>,
}

impl Watching<'_> {
    /// The time that it has been open for, if it is.
    async fn is_open(&self) -> Result<Option<OpenAlert>> {
        Ok(match self.rehearsal {
            Some(id) => self.db.open_in_rehearsal(id).await?,
            None => self.db.open_of(self.alert.id).await?,
        })
    }

    /// Lets what is kept of incidents follow how an alert stands after an evaluation. Looking at how it stands, not at what
    /// changed, it also opens what a silence kept quiet, once that is over.
    async fn follow(
        &self,
        stands: Option<Severity>,
        open: Option<OpenAlert>,
        (e, is_silent, since): (&Evaluation, bool, Option<Timestamp>),
    ) -> Result<Option<OpenAlert>> {
        let (db, alert) = (self.db, self.alert);
        match (open, stands) {
            (None, Some(severity)) if !is_silent => {
                let since = since.unwrap_or(e.at);
                let open = OpenAlert {
                    id: 0,
                    incident_id: self.opened(severity, e, since).await?,
                    alert_id: self.rehearsal.is_none().then_some(alert.id),
                    rehearsal_id: self.rehearsal,
                    name: alert.says.name.clone(),
                    definition: alert.says.definition.clone(),
                    severity,
                    since,
                    opened_at: e.at,
                    cleared_at: None,
                    value: e.value,
                    samples: e.samples,
                };
                db.open_alert(&open).await?;
                self.is_open().await
            }
            (Some(open), None) => {
                db.set_open(open.id, open.severity, Some(e.at)).await?;
                let cleared = left(db, open.incident_id, &alert.says.name, e.at, "").await?;
                if cleared && self.tells {
                    let says = format!("{} has cleared: {}", alert.says.name, self.said(e));
                    tell_of_end(db, alert.site_id, open.incident_id, &says, e.at).await?;
                }
                Ok(None)
            }
            (Some(open), Some(severity)) if severity != open.severity => {
                self.moved(&open, severity, e).await?;
                Ok(Some(OpenAlert { severity, ..open }))
            }
            (open, _) => Ok(open),
        }
    }

    /// What the measure came to, in words.
    fn said(&self, e: &Evaluation) -> String {
        let came_to = self.came_to(e);
        match self.rehearsal {
            Some(_) => format!("acted out, nothing is wrong: {came_to}"),
            None => came_to,
        }
    }

    fn came_to(&self, e: &Evaluation) -> String {
        let measured = &self.alert.says.definition.measured;
        let Some(value) = e.value else { return format!("{measured}: no data") };
        let unit = measured.measure.unit();
        match self.alert.says.definition.rule {
            Rule::Burns => {
                format!("the error budget burns {value:.1} times as fast as its trigger")
            }
            Rule::Level { .. } => format!("{measured} is {}", unit.text(value)),
            Rule::Unusual { .. } => match e.usual {
                Some(usual) => format!(
                    "{measured} is {}; usual at this time of the week is {}",
                    unit.text(value),
                    unit.text(usual.middle)
                ),
                None => format!("{measured} is {}", unit.text(value)),
            },
        }
    }

    /// Opens an incident, or lets the alert join the one that it belongs to; the incident's number.
    async fn opened(&self, severity: Severity, e: &Evaluation, since: Timestamp) -> Result<i32> {
        let (db, alert) = (self.db, self.alert);
        let about = About::of(&alert.says.definition);
        let says = format!("{}: {}", alert.says.name, self.said(e));
        let event = |what| Event { at: e.at, what, says: says.clone(), author: String::new() };
        // What is acted out has nothing to do with what is.
        let known = match self.rehearsal {
            Some(_) => None,
            None => db.incident_to_join(alert.site_id, &about, e.at, REOPENS_WITHIN).await?,
        };
        let Some(known) = known else {
            let moments = (since, e.at, self.noticed);
            let title = (&about, alert.says.name.as_str());
            let acted = self.rehearsal.is_some();
            let id = db.open_incident(alert.site_id, title, severity, moments, acted).await?;
            db.note_event(id, &event(What::Opened)).await?;
            self.tell(id, Tells::Opened, severity, &says, e.at).await?;
            return Ok(id);
        };
        let reopens = known.cleared_at.is_some_and(|cleared| cleared < e.at);
        let stands = known.now.map_or(severity, |held| held.max(severity));
        db.set_incident(known.id, Some(stands), None, reopens).await?;
        let what = if reopens { What::Reopened } else { What::Joined };
        db.note_event(known.id, &event(what)).await?;
        // One outage wakes once: another alert about it is told only where it makes it worse.
        if reopens {
            self.tell(known.id, Tells::Reopened, severity, &says, e.at).await?;
        } else if known.now.is_some_and(|held| severity > held) {
            self.tell(known.id, Tells::Worsened, severity, &says, e.at).await?;
        }
        Ok(known.id)
    }

    /// Lets the alert be worse or better.
    async fn moved(&self, open: &OpenAlert, severity: Severity, e: &Evaluation) -> Result<()> {
        let db = self.db;
        db.set_open(open.id, severity, None).await?;
        let parts = db.alerts_of(&[open.incident_id]).await?;
        let others = parts.iter().filter(|p| p.cleared_at.is_none() && p.id != open.id);
        let before = others.clone().map(|p| p.severity).chain([open.severity]).max();
        let stands = others.map(|p| p.severity).chain([severity]).max();
        db.set_incident(open.incident_id, stands, None, false).await?;
        let what = if severity > open.severity { What::Worsened } else { What::Eased };
        let says = format!("{}: {}", open.name, self.said(e));
        let event = Event { at: e.at, what, says: says.clone(), author: String::new() };
        db.note_event(open.incident_id, &event).await?;
        if stands > before {
            self.tell(open.incident_id, Tells::Worsened, severity, &says, e.at).await?;
        }
        Ok(())
    }

    /// Writes notices down for whoever is to be told, in the transaction of what they tell of.
    async fn tell(
        &self,
        incident_id: i32,
        tells: Tells,
        severity: Severity,
        says: &str,
        at: Timestamp,
    ) -> Result<()> {
        if !self.tells {
            return Ok(());
        }
        let to = (list_of(self.alert, severity), severity, self.noticed, &self.zone);
        opens_for(self.db, to, (incident_id, tells, says, at), self.rehearsal.is_some()).await
    }
}

/// Writes notices of an incident down for whoever is to be told by a call list, in the transaction of what they tell of.
async fn opens_for(
    db: &Db,
    (list, severity, noticed, zone): ((i32, Option<i32>), Severity, Timestamp, &TimeZone),
    (incident_id, tells, says, at): (i32, Tells, &str, Timestamp),
    is_acted: bool,
) -> Result<()> {
    for (due, to) in whom(db, list, severity, noticed, zone).await? {
        // Nothing is mended that is not broken.
        if is_acted && to.kind == Kind::Repair {
            continue;
        }
        let new = NewNotice {
            site_id: list.0,
            incident_id: Some(incident_id),
            issue_id: None,
            destination: (to.id, &to.name),
            tells,
            severity,
            says,
            at,
            due_at: due.at,
            unless_acknowledged: due.unless_acknowledged,
        };
        db.add_notice(&new).await?;
    }
    Ok(())
}

/// The site of an alert, and the call list that it names for this severity.
pub(crate) fn list_of(alert: &Alert, severity: Severity) -> (i32, Option<i32>) {
    (alert.site_id, alert.says.lists[usize::from(severity == Severity::Critical)])
}

/// Who is told of an incident of this severity that opens on a site at a moment, and when: by the call list that is named, or
/// the usual one.
pub(crate) async fn whom(
    db: &Db,
    (site_id, list): (i32, Option<i32>),
    severity: Severity,
    at: Timestamp,
    zone: &TimeZone,
) -> Result<Vec<(notice::Due, Destination)>> {
    let lists = db.call_lists(site_id).await?;
    let list = match list {
        Some(id) => lists.iter().find(|l| l.id == id),
        None => lists.iter().find(|l| l.is_usual),
    };
    let Some(list) = list else { return Ok(Vec::new()) };
    let destinations = db.destinations(site_id).await?;
    let find = |due: notice::Due| {
        let to = destinations.iter().find(|d| d.id == due.destination)?;
        Some((due, to.clone()))
    };
    Ok(notice::due(&list.steps, severity, at, zone).into_iter().filter_map(find).collect())
}

/// Tells whoever was told of an incident that it is over.
pub(crate) async fn tell_of_end(
    db: &Db,
    site_id: i32,
    incident_id: i32,
    says: &str,
    at: Timestamp,
) -> Result<()> {
    let now = db.now().await?;
    let all = db.destinations(site_id).await?;
    let hears = |id: i32| all.iter().any(|d| d.id == id && d.kind.hears_of_ends());
    for (id, name) in db.told_of(incident_id).await?.into_iter().filter(|(id, _)| hears(*id)) {
        let new = NewNotice {
            site_id,
            incident_id: Some(incident_id),
            issue_id: None,
            destination: (id, &name),
            tells: Tells::Cleared,
            severity: Severity::Warning,
            says,
            at,
            due_at: now,
            unless_acknowledged: false,
        };
        db.add_notice(&new).await?;
    }
    Ok(())
}

/// Lets an alert leave its incident, which clears with the last of them: whether it has.
pub(crate) async fn left(
    db: &Db,
    incident_id: i32,
    name: &str,
    at: Timestamp,
    why: &str,
) -> Result<bool> {
    let says = match why {
        "" => format!("{name} has cleared"),
        why => format!("{name} {why}"),
    };
    left_by(db, incident_id, at, &says).await
}

/// The same for whatever held an incident open, in a sentence.
pub(crate) async fn left_by(db: &Db, incident_id: i32, at: Timestamp, says: &str) -> Result<bool> {
    let parts = db.alerts_of(&[incident_id]).await?;
    let held = parts.iter().filter(|p| p.cleared_at.is_none()).map(|p| p.severity).max();
    // An outage that goes on by what its supplier says keeps it open without any alert.
    let stands = match held {
        None if db.is_announced(incident_id).await? => Some(Severity::Warning),
        held => held,
    };
    // One that is caught up with later may have cleared before another did.
    let last = parts.iter().filter_map(|p| p.cleared_at).max().map_or(at, |last| last.max(at));
    let cleared = stands.is_none().then_some(last);
    db.set_incident(incident_id, stands, cleared, false).await?;
    let what = if cleared.is_some() { What::Cleared } else { What::Left };
    db.note_event(incident_id, &Event { at, what, says: says.into(), author: String::new() })
        .await?;
    Ok(cleared.is_some())
}
