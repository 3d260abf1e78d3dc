//! One marker: what was before and after it, and what it says.

use super::around::{Compared, compared};
use super::{Typed, marker_of, wrong};
use crate::State;
use crate::access::{After, By, InSite};
use crate::error::PageError;
use crate::fields::{Fields, Wrong, says_of, sentence};
use crate::frame::{Frame, base};
use crate::limits::query;
use crate::respond::{SIX_HOURS, html_with, redirect};
use crate::view::Choice;
use crate::words::when;
use actix_web::http::StatusCode;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::changes::markers as changes;
use cadentis_answers::kept::Marker;
use cadentis_answers::markers;
use cadentis_core::calendar::Stretch;
use jiff::SignedDuration;
use serde::Deserialize;

/// Minutes before and after that can be chosen, and how that is said.
const REACHES: [(i64, &str); 5] =
    [(15, "15 min"), (60, "1 h"), (360, "6 h"), (1_440, "1 day"), (10_080, "1 week")];
const USUAL_MIN: i64 = 60;

#[derive(Template)]
#[template(path = "marker.html")]
struct Page {
    frame: Frame,
    id: i32,
    at: String,
    said: cadentis_core::marker::Said,
    by: String,
    is_removed: bool,
    /// Whether whoever looks may change it.
    is_theirs: bool,
    reaches: Vec<Choice>,
    compared: Compared,
    typed: Typed,
    kinds: Vec<Choice>,
    wrong: Option<Wrong>,
}

impl Page {
    fn says_of(&self, field: &str) -> Option<&str> {
        says_of(self.wrong.as_ref(), field)
    }
}

#[derive(Default, Deserialize)]
struct Asked {
    minutes: Option<i64>,
}

/// How many minutes before and after are compared.
fn minutes(request: &HttpRequest) -> Result<i64, PageError> {
    let asked = query::<Asked>(request)?.minutes.unwrap_or(USUAL_MIN);
    Ok(REACHES.iter().map(|r| r.0).find(|m| *m == asked).unwrap_or(USUAL_MIN))
}

async fn show(
    state: &web::Data<State>,
    request: &HttpRequest,
    marker: Marker,
    (typed, wrong): (Option<Typed>, Option<Wrong>),
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(state, request, "Goals", SIX_HOURS).await?;
    let minutes = minutes(request)?;
    let moment = (marker.id, marker.at);
    let around = markers::around(&state.answers, &frame.site, moment, minutes, frame.now).await?;
    let zone = frame.site.zone.clone();
    let typed = typed.unwrap_or_else(|| Typed::from(&marker, &zone));
    let status = if wrong.is_some() { StatusCode::UNPROCESSABLE_ENTITY } else { StatusCode::OK };
    html_with(
        status,
        &Page {
            id: marker.id,
            at: when(marker.at, &zone),
            by: marker.author.clone(),
            is_removed: marker.removed_at.is_some(),
            is_theirs: frame.who.edits() && (frame.who.administers() || !marker.is_everywhere),
            reaches: REACHES.map(|(m, name)| Choice::new(m, name, m == minutes)).to_vec(),
            compared: compared(&frame, &around),
            kinds: typed.kinds(),
            typed,
            wrong,
            said: marker.said,
            frame,
        },
    )
}

/// `GET /markers/{id}?minutes=`
pub async fn one(
    state: web::Data<State>,
    InSite(site): InSite,
    id: After<i32>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let marker = marker_of(&state, &site, id.0).await?;
    if !request.query_string().contains("from=") {
        // The stretch of the page is the time around the marker.
        let minutes = minutes(&request)?;
        let reach = SignedDuration::from_mins(minutes);
        let around = Stretch { from: marker.at - reach, to: marker.at + reach };
        let (from, to) = (Stretch::moment(around.from), Stretch::moment(around.to));
        let here = format!("{}/markers/{}", base(&site), marker.id);
        return Ok(redirect(&format!("{here}?minutes={minutes}&from={from}&to={to}")));
    }
    show(&state, &request, marker, (None, None)).await
}

/// `POST /markers/{id}`
pub async fn changed(
    state: web::Data<State>,
    InSite(site): InSite,
    By(by): By,
    id: After<i32>,
    request: HttpRequest,
    fields: web::Form<Fields>,
) -> Result<HttpResponse, PageError> {
    let marker = marker_of(&state, &site, id.0).await?;
    let typed = Typed::of(&fields);
    let why = match typed.read(&site.zone, Some(marker.at)) {
        Ok((at, said)) => {
            let which = (&marker, typed.based_on);
            match changes::set(&state.answers, &by, which, (at, &said)).await? {
                Ok(()) => return Ok(redirect(&format!("{}/markers/{}", base(&site), marker.id))),
                Err(why) => wrong(&why),
            }
        }
        Err(why) => why,
    };
    show(&state, &request, marker, (Some(typed), Some(why))).await
}

/// `POST /markers/{id}/remove`: it can be put back from the list.
pub async fn remove(
    state: web::Data<State>,
    InSite(site): InSite,
    By(by): By,
    id: After<i32>,
) -> Result<HttpResponse, PageError> {
    let marker = marker_of(&state, &site, id.0).await?;
    match changes::remove(&state.answers, &by, &marker, true).await? {
        Ok(_) => Ok(redirect(&format!("{}/markers?deleted={}", base(&site), marker.id))),
        Err(why) => Err(PageError::Refused(sentence(&why))),
    }
}

/// `POST /markers/{id}/restore`
pub async fn restore(
    state: web::Data<State>,
    InSite(site): InSite,
    By(by): By,
    id: After<i32>,
) -> Result<HttpResponse, PageError> {
    let marker = marker_of(&state, &site, id.0).await?;
    match changes::remove(&state.answers, &by, &marker, false).await? {
        Ok(_) => Ok(redirect(&format!("{}/markers/{}", base(&site), marker.id))),
        Err(why) => Err(PageError::Refused(sentence(&why))),
    }
}
