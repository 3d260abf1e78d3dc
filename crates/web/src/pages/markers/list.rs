//! The markers of a stretch, and pinning another.

use super::{Typed, clock, wrong};
use crate::State;
use crate::access::{By, InSite};
use crate::error::PageError;
use crate::fields::{Fields, Wrong, says_of};
use crate::frame::{Frame, base};
use crate::limits::query;
use crate::respond::{html_with, redirect};
use crate::view::Choice;
use crate::words::when;
use actix_web::http::StatusCode;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::changes::markers as changes;
use cadentis_answers::kept::Marker;
use cadentis_answers::markers;
use serde::Deserialize;

/// Without a stretch in the address, those of four weeks.
const FOUR_WEEKS: i64 = 28 * 86_400;

#[derive(Template)]
#[template(path = "markers.html")]
struct Page {
    frame: Frame,
    rows: Vec<Row>,
    /// The marker that was just taken away.
    undo: Option<(i32, String)>,
    typed: Typed,
    kinds: Vec<Choice>,
    wrong: Option<Wrong>,
    opens: bool,
}

impl Page {
    fn says_of(&self, field: &str) -> Option<&str> {
        says_of(self.wrong.as_ref(), field)
    }
}

struct Row {
    id: i32,
    at: String,
    kind: &'static str,
    title: String,
    version: String,
    detail: String,
    by: String,
    is_everywhere: bool,
}

#[derive(Default, Deserialize)]
struct Asked {
    at: Option<String>,
    deleted: Option<i32>,
}

/// What a list is shown with.
struct Shown {
    typed: Typed,
    wrong: Option<Wrong>,
    opens: bool,
    deleted: Option<i32>,
}

async fn show(
    state: &web::Data<State>,
    request: &HttpRequest,
    shown: Shown,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(state, request, "Goals", FOUR_WEEKS).await?;
    let mut all = markers::of_stretch(&state.answers, &frame.site, frame.stretch).await?;
    all.reverse();
    let zone = frame.site.zone.clone();
    let row = |m: Marker| Row {
        id: m.id,
        at: when(m.at, &zone),
        kind: m.said.kind.word(),
        title: m.said.title,
        version: m.said.version,
        detail: m.said.detail,
        by: m.author,
        is_everywhere: m.is_everywhere,
    };
    let undo = match shown.deleted {
        Some(id) => markers::one(&state.answers, &frame.site, id).await?,
        None => None,
    };
    let undo = undo.filter(|m| m.removed_at.is_some()).map(|m| (m.id, m.said.title));
    let mut typed = shown.typed;
    if typed.at.is_empty() {
        typed.at = clock(frame.now, &zone);
    }
    let wrong = shown.wrong;
    let status = if wrong.is_some() { StatusCode::UNPROCESSABLE_ENTITY } else { StatusCode::OK };
    html_with(
        status,
        &Page {
            rows: all.into_iter().map(row).collect(),
            undo,
            kinds: typed.kinds(),
            typed,
            wrong,
            opens: shown.opens,
            frame,
        },
    )
}

/// `GET /markers`
pub async fn page(
    state: web::Data<State>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let deleted = query::<Asked>(&request)?.deleted;
    let typed = Typed { kind: "note".into(), ..Typed::default() };
    show(&state, &request, Shown { typed, wrong: None, opens: false, deleted }).await
}

/// `GET /markers/new?at=`: the moment comes from a chart.
pub async fn new(
    state: web::Data<State>,
    InSite(site): InSite,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let at = query::<Asked>(&request)?.at.unwrap_or_default();
    let at = at.parse().map_or(String::new(), |at| clock(at, &site.zone));
    let typed = Typed { at, kind: "note".into(), ..Typed::default() };
    show(&state, &request, Shown { typed, wrong: None, opens: true, deleted: None }).await
}

/// `POST /markers`
pub async fn pinned(
    state: web::Data<State>,
    InSite(site): InSite,
    By(by): By,
    request: HttpRequest,
    fields: web::Form<Fields>,
) -> Result<HttpResponse, PageError> {
    let typed = Typed::of(&fields);
    let why = match typed.read(&site.zone, None) {
        Ok((at, said)) => {
            let what = (at, &said);
            match changes::add(&state.answers, &by, &site, what, typed.is_everywhere).await? {
                Ok(id) => return Ok(redirect(&format!("{}/markers/{id}", base(&site)))),
                Err(why) => wrong(&why),
            }
        }
        Err(why) => why,
    };
    show(&state, &request, Shown { typed, wrong: Some(why), opens: true, deleted: None }).await
}
