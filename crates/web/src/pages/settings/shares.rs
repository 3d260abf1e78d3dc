//! Links that show one page of the site to whoever has them: made, shown once, taken back.

use crate::State;
use crate::access::{After, By, InSite, SHARE};
use crate::error::PageError;
use crate::frame::{Frame, base};
use crate::limits::query;
use crate::respond::{TWELVE_HOURS, html_with, redirect, with_header};
use crate::words::when;
use actix_web::http::StatusCode;
use actix_web::http::header::CACHE_CONTROL;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::shares::{self, LONGEST_DAYS, ShareLink};
use cadentis_core::share::{can_be_shared, goes_on};
use serde::Deserialize;
use uuid::Uuid;

#[derive(Template)]
#[template(path = "shares.html")]
struct Page {
    frame: Frame,
    links: Vec<Row>,
    /// The page that is to be shared, below the name of the site.
    to: String,
    days: String,
    wrong: Option<String>,
    /// A link that is shown once.
    shown: Option<String>,
}

struct Row {
    id: Uuid,
    address: String,
    page: String,
    made_by: String,
    ends: String,
    seen: String,
    is_over: bool,
}

#[derive(Default, Deserialize)]
struct Asked {
    to: Option<String>,
}

#[derive(Deserialize)]
pub struct Typed {
    to: String,
    days: String,
}

/// The longest address that can be shared.
const LONGEST: usize = 2_000;

async fn shown(
    state: &State,
    request: &HttpRequest,
    typed: Typed,
    wrong: Option<String>,
    link: Option<String>,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(state, request, "Settings", TWELVE_HOURS).await?;
    let links = shares::of_site(&state.answers, &frame.site).await?;
    let zone = frame.site.zone.clone();
    let row = |l: ShareLink| Row {
        id: l.id,
        address: format!("{}{}?{}", frame.base, l.path, l.query),
        page: if l.path.is_empty() { "Now".into() } else { l.path },
        made_by: l.made_by,
        ends: when(l.ends_at, &zone),
        seen: l.seen_at.map_or("never".into(), |at| when(at, &zone)),
        is_over: l.ends_at <= frame.now,
    };
    let links = links.into_iter().map(row).collect();
    let status = if wrong.is_some() { StatusCode::UNPROCESSABLE_ENTITY } else { StatusCode::OK };
    let Typed { to, days } = typed;
    let page = html_with(status, &Page { links, to, days, wrong, shown: link, frame })?;
    Ok(with_header(page, CACHE_CONTROL, "no-store"))
}

/// `GET /{site}/settings/shares?to=`
pub async fn page(
    state: web::Data<State>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let to = query::<Asked>(&request)?.to.unwrap_or_default();
    shown(&state, &request, Typed { to, days: "7".into() }, None, None).await
}

/// `POST /{site}/settings/shares`: a link to a page at a stretch, shown once.
pub async fn make(
    state: web::Data<State>,
    By(by): By,
    InSite(site): InSite,
    request: HttpRequest,
    typed: web::Form<Typed>,
) -> Result<HttpResponse, PageError> {
    let typed = typed.into_inner();
    let (path, asked) = typed.to.split_once('?').unwrap_or((&typed.to, ""));
    let pairs = || url::form_urlencoded::parse(asked.as_bytes());
    let has = |name: &str| pairs().any(|(n, value)| n == name && !value.is_empty());
    let days = typed.days.trim().parse::<i32>().ok().filter(|d| (1..=LONGEST_DAYS).contains(d));
    let wrong = match days {
        _ if !can_be_shared(path) || typed.to.len() > LONGEST => {
            Some("This page cannot be shared: visits, logs, scripts and settings are for those who sign in.".to_string())
        }
        _ if !(has("from") && has("to") || goes_on(path, has)) => {
            Some("What is shared has a stretch of its own: press Share on the page.".into())
        }
        None => Some(format!("A link is good for 1 to {LONGEST_DAYS} days.")),
        Some(_) => None,
    };
    let (None, Some(days)) = (&wrong, days) else {
        return shown(&state, &request, typed, wrong, None).await;
    };
    // As the address will be read, whatever way it was written.
    let kept = pairs().filter(|(name, _)| name != SHARE);
    let kept = url::form_urlencoded::Serializer::new(String::new()).extend_pairs(kept).finish();
    let token = shares::make(&state.answers, &by, &site, (path, &kept), days).await?;
    let server = state.door.address(&request);
    let link = format!("{server}{}{path}?{kept}&{SHARE}={}", base(&site), token.text());
    let empty = Typed { to: String::new(), days: "7".into() };
    shown(&state, &request, empty, None, Some(link)).await
}

/// `POST /{site}/settings/shares/{id}/remove`: opens nothing from now on.
pub async fn remove(
    state: web::Data<State>,
    By(by): By,
    InSite(site): InSite,
    After(id): After<Uuid>,
) -> Result<HttpResponse, PageError> {
    match shares::remove(&state.answers, &by, &site, id).await? {
        true => Ok(redirect(&format!("{}/settings/shares", base(&site)))),
        false => Err(PageError::NotFound("this link".into())),
    }
}
