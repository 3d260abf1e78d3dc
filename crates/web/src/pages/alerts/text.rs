//! What a destination is told, in words of one's own: tried on what was told last before it is kept.

use crate::State;
use crate::access::{After, By, InSite};
use crate::error::PageError;
use crate::fields::{self, Fields, Wrong, says_of, sentence};
use crate::frame::{Frame, base};
use crate::respond::{TWELVE_HOURS, html_with, redirect};
use crate::words::capital;
use actix_web::http::StatusCode;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::changes::notices as changes;
use cadentis_answers::kept::{Destination, Site};
use cadentis_answers::{notices, telling};
use cadentis_core::alert::notice::{GATEWAY_TEXT, Kind};
use cadentis_core::alert::own::{LONGEST_TEMPLATE, Told, rendered};
use cadentis_core::text;

#[derive(Template)]
#[template(path = "destination.html")]
struct Page {
    frame: Frame,
    id: i32,
    name: String,
    kind: &'static str,
    address: String,
    /// Whether it takes a text of one's own.
    has_text: bool,
    is_own: bool,
    typed: String,
    longest: usize,
    names: String,
    /// What the text makes of what was told last, or of an example.
    preview: String,
    has_told: bool,
    wrong: Option<Wrong>,
}

async fn destination(state: &State, site: &Site, id: i32) -> Result<Destination, PageError> {
    let all = notices::ask(&state.answers, site).await?.destinations;
    let found = all.into_iter().find(|d| d.id == id);
    found.ok_or_else(|| PageError::NotFound(format!("the destination {id}")))
}

async fn show(
    state: &web::Data<State>,
    site: &Site,
    to: &Destination,
    request: &HttpRequest,
    (typed, mut wrong): (String, Option<Wrong>),
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(state, request, "Alerts", TWELVE_HOURS).await?;
    let pages = state.door.address(request);
    let newest = telling::newest(&state.answers, site, &pages).await?;
    let has_told = newest.is_some();
    let newest = newest.unwrap_or_else(Told::example);
    let template = match (typed.as_str(), to.kind) {
        ("", Kind::Gateway) => GATEWAY_TEXT,
        // The usual text has these parts.
        ("", _) => "{{ title }}\n{{ says }}\n{{ at }}\n{{ link }}",
        (typed, _) => typed,
    };
    let preview = match rendered(template, &newest) {
        Ok(text) => text,
        Err(why) => {
            wrong = wrong.or(Some(("text", sentence(&capital(&why)))));
            String::new()
        }
    };
    let status = if wrong.is_some() { StatusCode::UNPROCESSABLE_ENTITY } else { StatusCode::OK };
    let page = Page {
        id: to.id,
        name: to.name.clone(),
        kind: to.kind.words(),
        address: to.address.clone(),
        has_text: to.kind.has_text(),
        is_own: !to.own_text.is_empty(),
        typed: if typed.is_empty() { template.to_string() } else { typed },
        longest: LONGEST_TEMPLATE,
        names: Told::NAMES.join(", "),
        preview,
        has_told,
        wrong,
        frame,
    };
    html_with(status, &page)
}

/// `GET /call-lists/destinations/{id}`
pub async fn page(
    state: web::Data<State>,
    InSite(site): InSite,
    After(id): After<i32>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let to = destination(&state, &site, id).await?;
    show(&state, &site, &to, &request, (to.own_text.clone(), None)).await
}

/// `POST /call-lists/destinations/{id}/text`: keeps it; with `preview` it is only tried, with `usual` the usual text is back.
pub async fn save(
    state: web::Data<State>,
    InSite(site): InSite,
    After(id): After<i32>,
    By(by): By,
    request: HttpRequest,
    fields: web::Form<Fields>,
) -> Result<HttpResponse, PageError> {
    let to = destination(&state, &site, id).await?;
    let is = |name: &str| !fields::one(&fields, name).is_empty();
    let given = text::clean(&fields::one(&fields, "text"), LONGEST_TEMPLATE + 1, Some('\n'));
    let given = if is("usual") { String::new() } else { given };
    if is("preview") {
        return show(&state, &site, &to, &request, (given, None)).await;
    }
    match changes::set_text(&state.answers, &by, &site, (&to, &given)).await? {
        Ok(()) => Ok(redirect(&format!("{}/call-lists/destinations/{id}", base(&site)))),
        Err(why) => {
            let wrong = (why.field(), sentence(&capital(&why.to_string())));
            show(&state, &site, &to, &request, (given, Some(wrong))).await
        }
    }
}

impl Page {
    fn says_of(&self, field: &str) -> Option<&str> {
        says_of(self.wrong.as_ref(), field)
    }
}
