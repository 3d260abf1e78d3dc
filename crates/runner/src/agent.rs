//! Asks a server for work, plays it, brings the record back.

use crate::play::{Setting, play};
use cadentis_core::journey;
use cadentis_core::run::{Outcome, RunRecord, Trouble};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::net::SocketAddr;
use std::time::Duration;
use uuid::Uuid;

/// A location this runner plays for.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Post {
    pub name: String,
    /// Shown to the server.
    pub token: String,
    /// The SOCKS5 proxy that leads out of the location, if it needs one.
    pub proxy: Option<SocketAddr>,
}

/// Work as the server gives it.
#[derive(Debug, Deserialize)]
struct Work {
    id: Uuid,
    journey: String,
    script: String,
}

/// Plays for ever, one run at a time, for each location in turn. A server that is away is asked
/// again.
pub async fn work(server: &str, posts: &[Post]) {
    let client = reqwest::Client::builder().timeout(Duration::from_secs(20)).build().unwrap_or_default();
    loop {
        let mut idle = true;
        for post in posts {
            match lease(&client, server, post).await {
                Ok(Some(work)) => {
                    idle = false;
                    let record = play_work(&work, post).await;
                    tracing::info!(
                        "{} at {}: {} in {:.0} ms{}",
                        work.journey,
                        post.name,
                        record.outcome.word(),
                        record.duration_ms,
                        record.trouble.as_ref().map(|t| format!(" ({})", t.says)).unwrap_or_default()
                    );
                    bring(&client, server, post, &record).await;
                }
                Ok(None) => {}
                Err(e) => tracing::warn!("{}: no work from {server}: {e}", post.name),
            }
        }
        if idle {
            tokio::time::sleep(Duration::from_secs(2)).await;
        }
    }
}

async fn lease(client: &reqwest::Client, server: &str, post: &Post) -> Result<Option<Work>, reqwest::Error> {
    let answer = client
        .post(format!("{server}/api/runner/lease"))
        .bearer_auth(&post.token)
        .json(&serde_json::json!({ "runner": runner_name(post) }))
        .send()
        .await?
        .error_for_status()?;
    if answer.status() == reqwest::StatusCode::NO_CONTENT {
        return Ok(None);
    }
    Ok(Some(answer.json().await?))
}

fn runner_name(post: &Post) -> String {
    format!("{}-{}", post.name, std::process::id())
}

async fn play_work(work: &Work, post: &Post) -> RunRecord {
    let setting = Setting {
        id: work.id,
        runner: runner_name(post),
        location: post.name.clone(),
        proxy: post.proxy,
        ..Setting::default()
    };
    match journey::parse(&work.script).and_then(|j| j.with_parts(&[])) {
        // The server gives a run two minutes; a browser that takes longer is stuck.
        Ok(script) => match tokio::time::timeout(Duration::from_secs(100), play(&script, &setting, |_| {})).await {
            Ok(record) => record,
            Err(_) => nothing(&setting, "The run was stuck for 100 s and was broken off."),
        },
        Err(e) => nothing(&setting, &format!("The script cannot be read by this runner: {e}.")),
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
    }
}

/// Brings a record until the server has it or says that it does not want it.
async fn bring(client: &reqwest::Client, server: &str, post: &Post, record: &RunRecord) {
    for wait_s in [1, 2, 4, 8, 15, 30] {
        let sent =
            client.post(format!("{server}/api/runner/record")).bearer_auth(&post.token).json(record).send().await;
        match sent {
            Ok(answer) if answer.status().is_success() => return,
            Ok(answer) if answer.status().is_client_error() => {
                tracing::warn!("{}: the server does not want the record: {}", post.name, answer.status());
                return;
            }
            Ok(answer) => tracing::warn!("{}: record not taken yet: {}", post.name, answer.status()),
            Err(e) => tracing::warn!("{}: record not taken yet: {e}", post.name),
        }
        tokio::time::sleep(Duration::from_secs(wait_s)).await;
    }
    tracing::error!("{}: record given up; the work will be given out again", post.name);
}
