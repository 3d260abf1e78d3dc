//! An archive of requests (HAR) that somebody brings, read like a run and not kept.

use super::requests::{Carried, Narrow, Requests, Whose};
use crate::State;
use crate::access::InSite;
use crate::error::PageError;
use crate::filters;
use crate::format;
use crate::frame::Frame;
use crate::respond::{TWELVE_HOURS, html};
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::kept::Site;
use cadentis_core::run::{Har, Split, Where};
use serde::Deserialize;
use std::collections::HashMap;

#[derive(Template)]
#[template(path = "har.html")]
struct Page {
    frame: Frame,
}

#[derive(Template)]
#[template(path = "har_read.html")]
struct Read {
    says: String,
    remarks: Vec<String>,
    steps: Vec<StepTab>,
    name: String,
    took: String,
    parts: Vec<PartRow>,
    asked: Requests,
    filter_to: Option<Vec<Carried>>,
}

/// A step, and whether it is shown.
struct StepTab {
    name: String,
    took: String,
    here: bool,
}

/// A part of the step's time.
struct PartRow {
    name: &'static str,
    seconds: String,
    percent: String,
}

/// `GET /har`
pub async fn page(
    state: web::Data<State>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    html(&Page { frame: Frame::load(&state, &request, "Journeys", TWELVE_HOURS).await? })
}

#[derive(Deserialize)]
pub struct HarForm {
    #[serde(default)]
    step: usize,
}

/// `POST /har?step=`: a part of a page; 422 with what is wrong and where.
pub async fn read(
    InSite(site): InSite,
    wanted: web::Query<HarForm>,
    body: web::Bytes,
) -> Result<HttpResponse, PageError> {
    let wrong = |says: String| {
        Ok(HttpResponse::UnprocessableEntity().content_type("text/plain; charset=utf-8").body(says))
    };
    // Tens of thousands of requests: beside what else is answered.
    let read = web::block(move || read_step(&body, wanted.step, &site));
    match read.await.map_err(|_| PageError::Broken("the server is ending".into()))? {
        Ok(page) => html(&page),
        Err(says) => wrong(says),
    }
}

/// One step of an archive as it is shown, or what is wrong with the archive.
fn read_step(body: &[u8], wanted: usize, site: &Site) -> Result<Read, String> {
    let har = Har::read(&String::from_utf8_lossy(body))
        .map_err(|e| format!("It cannot be read: {e}."))?;
    let steps = har.steps();
    let step = steps.get(wanted).or(steps.first()).ok_or("There is no request in it.")?;
    let split = Split::of(step);
    let parts =
        [Where::Queueing, Where::Connecting, Where::Waiting, Where::Receiving, Where::Browser];
    let part = |what: Where| {
        let ms = split.total(what);
        PartRow {
            name: what.words(),
            seconds: format::seconds(ms),
            percent: format!("{:.0}", 100.0 * ms / step.duration_ms.max(1.0)),
        }
    };
    Ok(Read {
        says: format!(
            "{} requests of {} pages, written by {}.",
            har.entries.len(),
            har.pages.len(),
            if har.creator.is_empty() { "an unnamed program" } else { &har.creator }
        ),
        steps: steps
            .iter()
            .map(|s| StepTab {
                name: s.name.clone(),
                took: format::seconds(s.duration_ms),
                here: std::ptr::eq(s, step),
            })
            .collect(),
        name: step.name.clone(),
        took: format::seconds(step.duration_ms),
        parts: parts.into_iter().map(part).filter(|p| p.seconds != "0.00").collect(),
        asked: Requests::of(
            step,
            &split,
            &HashMap::new(),
            &Whose { owns: &har.first_party(), site },
            &Narrow::default(),
        ),
        filter_to: None,
        remarks: har.remarks.clone(),
    })
}
