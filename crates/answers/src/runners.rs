//! What runners ask for and bring back: work of their location, records of what they played.

use crate::changes::journeys::parts_of;
use crate::{Answers, Result};
use cadentis_core::journey::{self, recorded::Act};
use cadentis_core::run::RunRecord;
use cadentis_store::run::Finished;
use cadentis_store::secret::Opened;
use cadentis_store::work::Runner;
use jiff::{SignedDuration, Timestamp};
use serde::Serialize;
use serde_json::Value;
use std::collections::HashMap;
use uuid::Uuid;

/// How long a runner may take for one run before another gets it.
const LEASE: SignedDuration = SignedDuration::from_secs(120);

/// Work for a runner, as it is told.
#[derive(Debug, Serialize)]
#[serde(untagged)]
pub enum Lease {
    /// Somebody wants to work on a page.
    Recording {
        /// The recording.
        id: Uuid,
        /// What it is called in the runner's log.
        journey: &'static str,
        /// The address to open.
        record: String,
        /// SOCKS5 proxy that leads out of the location.
        proxy: Option<String>,
        /// Networks that must not be reached.
        denied: Vec<String>,
        /// The server's clock.
        now: Timestamp,
    },
    /// A script is to be played.
    Play(Box<Play>),
}

/// A script that is to be played.
#[derive(Debug, Serialize)]
pub struct Play {
    /// The run, or the trial.
    pub id: Uuid,
    /// The journey's name.
    pub journey: String,
    /// Its script.
    pub script: String,
    /// The location's name.
    pub location: String,
    /// Whether it counts nowhere.
    pub trial: bool,
    /// When it was due; a trial is due when it is asked for.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub due_at: Option<Timestamp>,
    /// The device profile.
    pub device: String,
    /// SOCKS5 proxy that leads out of the location.
    pub proxy: Option<String>,
    /// Networks that must not be reached.
    pub denied: Vec<String>,
    /// What pages looked like when they were accepted.
    pub accepted: HashMap<String, String>,
    /// What the script types or sends unseen.
    pub secrets: HashMap<String, String>,
    /// Hosts that each of them may be typed into or sent to, with everything below.
    pub secret_hosts: HashMap<String, Vec<String>>,
    /// Common parts of scripts.
    pub parts: String,
    /// The server's clock.
    pub now: Timestamp,
}

/// The location whose runners show this token.
///
/// # Errors
/// When the database does not answer.
pub async fn location(answers: &Answers, token: &str) -> Result<Option<i32>> {
    Ok(answers.db.location_by_token(token).await?)
}

/// Notes that a runner was heard of which cannot be given anything.
///
/// # Errors
/// When the database does not answer.
pub async fn heard(answers: &Answers, location: i32, runner: &Runner) -> Result<()> {
    Ok(answers.db.runner_seen(location, runner, runner.seen_at).await?)
}

/// Gives a runner the next thing to do, if there is one: what somebody waits for comes before what is due.
///
/// # Errors
/// When the database does not answer.
pub async fn lease(
    answers: &Answers,
    location: i32,
    mut runner: Runner,
    can_record: bool,
) -> Result<Option<Lease>> {
    let now = runner.seen_at;
    if can_record
        && let Some((id, record, proxy, denied)) =
            answers.db.lease_recording(location, &runner.name, now).await?
    {
        heard(answers, location, &runner).await?;
        let journey = "Recording";
        return Ok(Some(Lease::Recording { id, journey, record, proxy, denied, now }));
    }
    let play = play(answers, location, &runner.name, now).await?;
    runner.busy_since = play.is_some().then_some(now);
    heard(answers, location, &runner).await?;
    Ok(play.map(|p| Lease::Play(Box::new(p))))
}

async fn play(
    answers: &Answers,
    location: i32,
    runner: &str,
    now: Timestamp,
) -> Result<Option<Play>> {
    let (db, until) = (&answers.db, now + LEASE);
    let (site_id, mut play) = if let Some(t) = db.lease_trial(location, runner, now, until).await? {
        let name = journey::parse(&t.script).map_or_else(|_| "a script".into(), |j| j.name);
        let play = Play {
            id: t.id,
            journey: name,
            script: t.script,
            location: t.location,
            trial: true,
            due_at: None,
            device: t.device,
            proxy: t.proxy,
            denied: t.denied,
            accepted: HashMap::new(),
            secrets: HashMap::new(),
            secret_hosts: HashMap::new(),
            parts: String::new(),
            now,
        };
        (t.site_id, play)
    } else if let Some(w) = db.lease(location, runner, now, until).await? {
        let accepted = db.accepted(w.journey_id).await?;
        let play = Play {
            id: w.id,
            journey: w.journey,
            script: w.script,
            location: w.location,
            trial: false,
            due_at: Some(w.due_at),
            device: w.device,
            proxy: w.proxy,
            denied: w.denied,
            accepted: accepted.into_iter().map(|a| (a.key, a.seen)).collect(),
            secrets: HashMap::new(),
            secret_hosts: HashMap::new(),
            parts: String::new(),
            now,
        };
        (w.site_id, play)
    } else {
        return Ok(None);
    };
    let site = db.sites().await?.into_iter().find(|s| s.id == site_id);
    let shared = site.as_ref().map(parts_of).unwrap_or_default();
    let names = journey::parse(&play.script)
        .and_then(|j| j.with_parts(&shared))
        .map(|j| j.secrets())
        .unwrap_or_default();
    for (name, opened) in secrets(answers, site_id, &names).await? {
        let of_site = || site.as_ref().map(|site| site.domains.clone()).unwrap_or_default();
        let hosts = if opened.hosts.is_empty() { of_site() } else { opened.hosts };
        play.secret_hosts.insert(name.clone(), hosts);
        play.secrets.insert(name, opened.secret);
    }
    play.parts = site.map(|s| s.parts).unwrap_or_default();
    play.now = Timestamp::now();
    Ok(Some(play))
}

/// What these names stand for. A secret that cannot be opened is left out: the runner says that it is missing, and the
/// run is unmeasured.
async fn secrets(
    answers: &Answers,
    site_id: i32,
    names: &[String],
) -> Result<HashMap<String, Opened>> {
    let Some(vault) = answers.vault.as_ref().filter(|_| !names.is_empty()) else {
        return Ok(HashMap::new());
    };
    let opened = answers.db.open_secrets(vault, site_id, names).await?;
    Ok(opened.unwrap_or_else(|e| {
        tracing::error!("{e}");
        HashMap::new()
    }))
}

/// What happens on a page that somebody works on.
pub struct OnPage<'a> {
    /// The recording.
    pub id: Uuid,
    /// What was done.
    pub acts: Vec<Act>,
    /// The page's address, title and size.
    pub about: &'a Value,
    /// Its newest picture.
    pub picture: Option<&'a str>,
}

/// Takes what happens on a page that somebody works on; what they did meanwhile, or `None` when it is over.
///
/// # Errors
/// When the database does not answer.
pub async fn tell_recording(
    answers: &Answers,
    location: i32,
    told: OnPage<'_>,
) -> Result<Option<Vec<Value>>> {
    let OnPage { id, acts, about, picture } = told;
    let now = Timestamp::now();
    Ok(answers.db.tell_recording(location, id, acts, about, picture, now).await?)
}

/// Ends a recording, for the trouble that is told.
///
/// # Errors
/// When the database does not answer.
pub async fn recording_over(
    answers: &Answers,
    location: i32,
    id: Uuid,
    trouble: Option<&str>,
) -> Result<()> {
    Ok(answers.db.recording_over(location, id, trouble).await?)
}

/// Takes how far a trial is; whether it was cancelled meanwhile, or `None` when there is no such trial here.
///
/// # Errors
/// When the database does not answer.
pub async fn tell_trial(
    answers: &Answers,
    location: i32,
    id: Uuid,
    progress: &Value,
) -> Result<Option<bool>> {
    Ok(answers.db.tell_trial(location, id, progress).await?)
}

/// Takes the record of a run or a trial.
///
/// # Errors
/// When the database does not answer, or can never hold it.
pub async fn finish(answers: &Answers, location: i32, record: RunRecord) -> Result<Finished> {
    match record.trial {
        true => Ok(answers.db.finish_trial(location, &record).await?),
        false => Ok(answers.db.finish(location, record).await?),
    }
}
