//! What is done to history: page views imported in files, and families that everything is put into anew.

use crate::State;
use crate::access::By;
use crate::error::PageError;
use crate::format;
use crate::frame::Asked;
use crate::importing::{self, NotTaken};
use crate::respond::{TWELVE_HOURS, html, redirect};
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::changes;
use cadentis_answers::collecting;
use cadentis_answers::kept::{Task, TaskState};
use cadentis_core::calendar::Stretch;
use cadentis_core::calendar::stretch::length_text;
use cadentis_core::visitor::import::Format;
use cadentis_intake::import::Imported;
use jiff::{SignedDuration, Timestamp};
use serde::Deserialize;

#[derive(Template)]
#[template(path = "families_task.html")]
struct TaskPart {
    base: String,
    task: Option<Shown>,
}

struct Shown {
    runs: bool,
    /// Per cent.
    done: u64,
    says: String,
}

fn shown(task: &Task, now: Timestamp) -> Shown {
    let ended = task.ended_at.unwrap_or(now);
    let took = length_text(ended.duration_since(task.begun_at).as_millis_f64());
    let changed = format!("{} page views changed their family", format::thousands(task.changed));
    let hours =
        format!("{} of {} hours", format::thousands(task.done), format::thousands(task.whole));
    Shown {
        runs: task.state == TaskState::Runs,
        done: (100 * task.done).checked_div(task.whole).unwrap_or(100),
        says: match task.state {
            TaskState::Runs => format!("{hours}; {changed} so far."),
            TaskState::Done => format!(
                "All {} hours are in the families of then; {changed}, in {took}.",
                task.whole
            ),
            TaskState::Stopped => format!(
                "Stopped after {hours}; {changed}. The others are in the families they had."
            ),
            TaskState::Failed => format!("Ended after {hours}: {}. {changed}.", task.says),
        },
    }
}

/// `GET /{site}/settings/visitors/history`: how far the work on families is.
pub async fn task_part(
    state: web::Data<State>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let asked = Asked::load(&request, TWELVE_HOURS)?;
    let task = collecting::families_task(&state.answers, asked.site.id).await?;
    html(&TaskPart { base: asked.base(), task: task.map(|t| shown(&t, asked.now)) })
}

/// `POST /{site}/settings/visitors/history`: puts all history into the families of now.
pub async fn begin(
    state: web::Data<State>,
    By(by): By,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let asked = Asked::load(&request, TWELVE_HOURS)?;
    changes::visitors::begin_families(&state.answers, &by, &asked.site, asked.now).await?;
    Ok(redirect(&format!("{}/settings/visitors#families", asked.base())))
}

/// `POST /{site}/settings/visitors/history/stop`
pub async fn stop(
    state: web::Data<State>,
    By(by): By,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let asked = Asked::load(&request, TWELVE_HOURS)?;
    changes::visitors::stop_families(&state.answers, &by, &asked.site).await?;
    Ok(redirect(&format!("{}/settings/visitors#families", asked.base())))
}

/// What the address says of a file.
#[derive(Debug, Deserialize)]
pub struct About {
    /// Its name, for its ending.
    file: String,
    #[serde(default)]
    device: String,
    #[serde(default)]
    country: String,
}

#[derive(Template)]
#[template(path = "imported.html")]
struct BroughtPart {
    says: String,
    link: Option<String>,
    wrong: Vec<String>,
    more_wrong: usize,
    ignored: String,
}

/// So many of the lines that were not taken are told.
const TOLD: usize = 20;

/// `POST /{site}/settings/visitors/import?file=&device=&country=`: takes the page views of a file; 422 when nothing in it is one.
pub async fn import(
    state: web::Data<State>,
    By(by): By,
    request: HttpRequest,
    about: web::Query<About>,
    body: web::Bytes,
) -> Result<HttpResponse, PageError> {
    let wrong = |says: &str| {
        let part = BroughtPart {
            says: says.into(),
            link: None,
            wrong: vec![],
            more_wrong: 0,
            ignored: String::new(),
        };
        refused(&part)
    };
    let Some(kind) = Format::of(&about.file) else {
        return wrong("A file of page views ends in .har, .csv or .ndjson.");
    };
    let asked = Asked::load(&request, TWELVE_HOURS)?;
    let said = [("device", about.device.as_str()), ("country", &about.country)];
    let imported = match importing::take(&state, &by, &asked.site, (kind, body), said).await {
        Ok(imported) => imported,
        Err(NotTaken::NoText) => return wrong("The file is not text in UTF-8."),
        Err(NotTaken::Away(e)) => return Err(e.into()),
    };
    let part = part(&asked, &imported);
    if imported.read == 0 { refused(&part) } else { html(&part) }
}

fn refused(part: &BroughtPart) -> Result<HttpResponse, PageError> {
    let mut answer = html(part)?;
    *answer.status_mut() = actix_web::http::StatusCode::UNPROCESSABLE_ENTITY;
    Ok(answer)
}

fn part(asked: &Asked, b: &Imported) -> BroughtPart {
    let known = b.read - b.new;
    let says = match (b.read, known) {
        (0, _) => "Nothing was taken.".to_string(),
        (_, 0) => format!("{} page views are there now.", format::thousands(b.new)),
        _ => {
            format!(
                "{} page views are new, {} were there already.",
                format::thousands(b.new),
                format::thousands(known)
            )
        }
    };
    let around = |(first, last): (Timestamp, Timestamp)| Stretch {
        from: first,
        to: last + SignedDuration::from_mins(1),
    };
    let link = b.stretch.map(around).map(|s| {
        format!(
            "{}/visitors?from={}&to={}&against={}",
            asked.base(),
            Stretch::moment(s.from),
            Stretch::moment(s.to),
            asked.kind.word()
        )
    });
    BroughtPart {
        says,
        link,
        wrong: b.wrong.iter().take(TOLD).cloned().collect(),
        more_wrong: b.wrong.len().saturating_sub(TOLD),
        ignored: b.ignored.join(", "),
    }
}
