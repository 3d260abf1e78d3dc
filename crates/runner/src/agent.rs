//! Asks a server for work, plays it, brings the record back.

use crate::fair::{self, Watch};
use crate::film::Film;
use crate::kept::Kept;
use crate::link::Link;
use crate::play::{News, Setting, play};
use crate::record::{self, Answer};
use cadentis_core::journey;
use cadentis_core::run::reach::Denied;
use cadentis_core::run::{DeviceProfile, Outcome, RunRecord, Trouble};
use cadentis_https::StatusCode;
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use std::collections::HashMap;
use std::net::SocketAddr;
use std::path::Path;
use std::sync::Mutex;
use std::time::Duration;
use uuid::Uuid;

/// The protocol between runner and server that this program speaks. Version 2 brought common parts,
/// secrets and trials; version 3 devices, proxies and recording; version 4 denied networks, and records that say whether
/// they are of a trial.
pub const PROTOCOL: i32 = 4;

/// A location this runner plays for.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Post {
    pub name: String,
    /// Shown to the server.
    pub token: String,
    /// The SOCKS5 proxy that leads out of the location, if it needs one.
    pub proxy: Option<SocketAddr>,
    /// Host and port of something that is always there: when it cannot be reached either, a failed run is our
    /// network's doing.
    #[serde(default)]
    pub control: Option<String>,
}

/// Work as the server gives it.
#[derive(Debug, Deserialize)]
struct Work {
    id: Uuid,
    journey: String,
    #[serde(default)]
    script: String,
    /// Somebody wants to work on the page at this address; nothing is to be played.
    #[serde(default)]
    record: Option<String>,
    /// Common parts of the site.
    #[serde(default)]
    parts: String,
    #[serde(default)]
    secrets: HashMap<String, String>,
    /// Hosts that each of them is for.
    #[serde(default)]
    secret_hosts: HashMap<String, Vec<String>>,
    /// What was accepted of its pages.
    #[serde(default)]
    accepted: HashMap<String, String>,
    #[serde(default)]
    location: String,
    /// Slug of the device profile to play on.
    #[serde(default)]
    device: String,
    /// The location's proxy, when this runner has none of its own.
    proxy: Option<SocketAddr>,
    /// Networks that this location must not reach.
    #[serde(default)]
    denied: Denied,
    /// Somebody waits for it and looks on.
    #[serde(default)]
    trial: bool,
    /// The server's clock when it gave the work.
    now: Option<Timestamp>,
    #[serde(skip)]
    clock_offset: SignedDuration,
}

/// Clocks further apart than this are set right.
const CLOCK_FAIR: SignedDuration = SignedDuration::from_millis(500);
/// How wide pictures are while somebody looks on, and of runs that are kept by the thousand.
const TRIAL_WIDTH: u32 = 640;
const RUN_WIDTH: u32 = 400;
/// How often somebody who looks on hears how it goes.
const TELL_EVERY: Duration = Duration::from_millis(400);

/// Plays for ever, one run at a time, for each location in turn. A server that is away is asked
/// again.
///
/// Records that the server cannot take wait in the folder `keep`.
pub async fn work(link: &Link, posts: &[Post], keep: &Path) {
    let swept = crate::leftovers::sweep(&std::env::temp_dir());
    if swept > 0 {
        tracing::info!("{swept} folders of runners that ended badly were removed");
    }
    // A person at work on a page has a browser of their own beside the one that plays.
    let mut recording: Option<tokio::task::JoinHandle<()>> = None;
    loop {
        let mut idle = true;
        for post in posts {
            let kept = Kept::of(keep, link.server(), &post.token);
            let free = recording.as_ref().is_none_or(tokio::task::JoinHandle::is_finished);
            match lease(link, post, free, kept.count()).await {
                Ok(Some(Work { id, record: Some(address), proxy, denied, .. })) => {
                    tracing::info!("{}: somebody works on {address}", post.name);
                    let (link, mut post) = (link.clone(), post.clone());
                    post.proxy = post.proxy.or(proxy);
                    recording = Some(tokio::spawn(carry(link, post, id, address, denied)));
                }
                Ok(Some(work)) => {
                    idle = false;
                    deliver_kept(link, post, &kept).await;
                    let mut record = play_work(link, &work, post).await;
                    record.trial = work.trial;
                    if let Err(says) = record.check() {
                        record = nothing(
                            &Setting { id: work.id, ..Setting::default() },
                            &format!("The record of it is none: {says}."),
                        );
                    }
                    tracing::info!(
                        "{}{} at {}: {} in {:.0} ms{}",
                        work.journey,
                        if work.trial { " (trial)" } else { "" },
                        post.name,
                        record.outcome.word(),
                        record.duration_ms,
                        record
                            .trouble
                            .as_ref()
                            .map(|t| format!(" ({})", t.says))
                            .unwrap_or_default()
                    );
                    deliver(link, post, &record, &kept).await;
                }
                Ok(None) => deliver_kept(link, post, &kept).await,
                Err(e) => tracing::warn!("{}: no work from {}: {e}", post.name, link.server()),
            }
        }
        if idle {
            tokio::time::sleep(Duration::from_secs(2)).await;
        }
    }
}

/// Carries between somebody who works on a page and the browser the page stands in, until they end it.
async fn carry(link: Link, post: Post, id: Uuid, address: String, denied: Denied) {
    let tell = async |body: &Value| -> Option<Answer> {
        let answer = link.post("/api/runner/recording", &post.token, body).await.ok()?;
        answer.json().ok().filter(|_| answer.status.is_success())
    };
    let exchange = async |news: record::News| {
        let mut body = json!(news);
        body["id"] = json!(id);
        // A server that is away for long has given the recording up.
        for wait_ms in [200, 500, 1_000, 2_000, 4_000] {
            if let Some(answer) = tell(&body).await {
                return answer;
            }
            tokio::time::sleep(Duration::from_millis(wait_ms)).await;
        }
        Answer { ended: true, ..Answer::default() }
    };
    let trouble = record::record(&address, post.proxy, &denied, exchange).await.err();
    if let Some(trouble) = &trouble {
        tracing::warn!("{}: recording ended: {trouble}", post.name);
    }
    tell(&json!({ "id": id, "over": true, "trouble": trouble })).await;
}

async fn lease(
    link: &Link,
    post: &Post,
    can_record: bool,
    kept: usize,
) -> Result<Option<Work>, String> {
    let asking = json!({
        "runner": runner_name(post), "program": env!("CARGO_PKG_VERSION"), "protocol": PROTOCOL, "can_record": can_record,
        "kept": kept,
    });
    let asked = Timestamp::now();
    let answer = link.post("/api/runner/lease", &post.token, &asking).await?;
    match answer.status {
        StatusCode::NO_CONTENT => Ok(None),
        StatusCode::UPGRADE_REQUIRED => {
            let problem: Value = answer.json().unwrap_or_default();
            Err(problem["detail"]
                .as_str()
                .unwrap_or("this runner speaks another protocol")
                .to_string())
        }
        status if status.is_success() => {
            let mut work: Work = answer.json()?;
            work.clock_offset = work
                .now
                .map_or(SignedDuration::ZERO, |n| fair::clock_offset(asked, Timestamp::now(), n));
            Ok(Some(work))
        }
        status => Err(format!("answered with {status}")),
    }
}

fn runner_name(post: &Post) -> String {
    format!("{}-{}", post.name, std::process::id())
}

async fn play_work(link: &Link, work: &Work, post: &Post) -> RunRecord {
    let film = Film::of_width(if work.trial { TRIAL_WIDTH } else { RUN_WIDTH });
    let setting = Setting {
        id: work.id,
        runner: runner_name(post),
        location: work.location.clone(),
        proxy: post.proxy.or(work.proxy),
        denied: work.denied.clone(),
        device: DeviceProfile::of(&work.device).unwrap_or(DeviceProfile::USUAL),
        secrets: work.secrets.clone(),
        secret_hosts: work.secret_hosts.clone(),
        accepted: work.accepted.clone(),
        film: Some(film.clone()),
        ..Setting::default()
    };
    let read = journey::parts(&work.parts).and_then(|parts| {
        journey::parse(&work.script).and_then(|journey| journey.with_parts(&parts))
    });
    let script = match read {
        Ok(script) => script,
        Err(e) => {
            return nothing(&setting, &format!("The script cannot be read by this runner: {e}."));
        }
    };
    let progress = Mutex::new(json!({ "steps": [] }));
    let told = |news: News<'_>| {
        let Ok(mut progress) = progress.lock() else { return };
        match news {
            News::Browser(_) => {}
            News::Begun(step) => progress["step"] = json!(step),
            News::Line(line) => progress["line"] = json!(line),
            News::Done(step) => {
                let done = json!({ "name": step.name, "outcome": step.outcome.word(), "duration_ms": step.duration_ms });
                progress["steps"].as_array_mut().into_iter().for_each(|s| s.push(done.clone()));
            }
        }
    };
    let cancelled = async {
        if !work.trial {
            return std::future::pending().await;
        }
        look_on(link, post, work.id, &progress, &film).await;
    };
    let watch = Watch::begin();
    let mut record = tokio::select! {
        played = play(&script, &setting, told) => played,
        () = cancelled => nothing(&setting, "It was cancelled."),
    };
    fair::judge(&mut record, watch, post.control.as_deref(), setting.proxy).await;
    // Moments are told by the server's clock, however wrong ours is.
    if work.clock_offset.abs() > CLOCK_FAIR {
        tracing::warn!(
            "{}: the clock of this machine is off by {:#}",
            post.name,
            work.clock_offset
        );
        record.started_at =
            record.started_at.checked_add(work.clock_offset).unwrap_or(record.started_at);
    }
    record
}

/// Tells how a trial goes, with the newest picture, until somebody cancels it.
async fn look_on(link: &Link, post: &Post, id: Uuid, progress: &Mutex<Value>, film: &Film) {
    loop {
        tokio::time::sleep(TELL_EVERY).await;
        let mut now = progress.lock().map(|p| p.clone()).unwrap_or_default();
        now["picture"] = json!(film.newest());
        let told = json!({ "id": id, "progress": now });
        let answer = link.post("/api/runner/progress", &post.token, &told).await;
        // A server that is away hears it later, or never: what counts is the record.
        let Ok(answer) = answer else { continue };
        let says: Value = answer.json().unwrap_or_default();
        if says["cancelled"] == true {
            return;
        }
    }
}

fn nothing(setting: &Setting, says: &str) -> RunRecord {
    RunRecord {
        id: setting.id,
        started_at: Timestamp::now(),
        outcome: Outcome::Unmeasured,
        duration_ms: 0.0,
        trouble: Some(Trouble { line: 0, says: says.into() }),
        steps: Vec::new(),
        browser: "Chromium".into(),
        runner: setting.runner.clone(),
        device: setting.device.slug.into(),
        trial: false,
    }
}

/// What became of delivering a record.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Delivery {
    /// The server has it.
    Done,
    /// The server says that nobody can ever take it: it is no record, or of work that nobody knows.
    Never,
    /// The server did not take it; another one it may take.
    NotThis,
    /// There is no server to speak to.
    NotYet,
}

impl Delivery {
    /// What an answer means. Only what the server itself calls unreadable or gone is given up: a proxy on the way, a
    /// token that is being changed or a limit set too low say nothing about the record.
    fn of(status: StatusCode) -> Delivery {
        match status {
            s if s.is_success() => Delivery::Done,
            StatusCode::UNPROCESSABLE_ENTITY | StatusCode::GONE => Delivery::Never,
            s if s.is_server_error() => Delivery::NotYet,
            _ => Delivery::NotThis,
        }
    }
}

async fn deliver_once(link: &Link, post: &Post, record: &RunRecord) -> Delivery {
    let sent = link.post("/api/runner/record", &post.token, record).await;
    let (delivery, says) = match sent {
        Ok(answer) => (Delivery::of(answer.status), answer.status.to_string()),
        Err(e) => (Delivery::NotYet, e),
    };
    match delivery {
        Delivery::Done => {}
        Delivery::Never => tracing::warn!(
            "{}: the server cannot use the record of {}: {says}",
            post.name,
            record.id
        ),
        Delivery::NotThis | Delivery::NotYet => {
            tracing::warn!("{}: record not taken yet: {says}", post.name)
        }
    }
    delivery
}

/// Delivers a record; one that the server does not take is kept until it does.
async fn deliver(link: &Link, post: &Post, record: &RunRecord, kept: &Kept) {
    for wait_s in [1, 2, 4, 8, 15, 30] {
        if matches!(deliver_once(link, post, record).await, Delivery::Done | Delivery::Never) {
            return;
        }
        match kept.put(record) {
            Ok(()) => {
                return tracing::warn!("{}: the record is kept and delivered later", post.name);
            }
            Err(e) => tracing::error!("{}: the record cannot be kept: {e}", post.name),
        }
        tokio::time::sleep(Duration::from_secs(wait_s)).await;
    }
    tracing::error!("{}: record given up; the work will be given out again", post.name);
}

/// Delivers what was kept, now that the server answers. One that is not taken holds up no other.
async fn deliver_kept(link: &Link, post: &Post, kept: &Kept) {
    for (file, record) in kept.all() {
        match deliver_once(link, post, &record).await {
            Delivery::Done | Delivery::Never => {
                tracing::info!(
                    "{}: a record of {} is not kept any more",
                    post.name,
                    record.started_at
                );
                let _ = std::fs::remove_file(file);
            }
            Delivery::NotThis => {}
            Delivery::NotYet => return,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_record_is_given_up_only_when_the_server_calls_it_unreadable_or_gone() {
        for (status, want) in [
            (204, Delivery::Done),
            (422, Delivery::Never),
            (410, Delivery::Never),
            (400, Delivery::NotThis),
            (401, Delivery::NotThis),
            (404, Delivery::NotThis),
            (413, Delivery::NotThis),
            (421, Delivery::NotThis),
            (500, Delivery::NotYet),
            (503, Delivery::NotYet),
        ] {
            let status = StatusCode::from_u16(status).expect("one");
            assert_eq!(Delivery::of(status), want, "{status}");
        }
    }
}
