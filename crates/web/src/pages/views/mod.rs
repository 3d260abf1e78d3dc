//! Saved views: pieces that people put in an order, over one time; on a page, on paper, on a wall.

mod form;
mod piece;

pub use form::{change, changed, make, new};
pub use piece::part;

use crate::State;
use crate::access::{After, By, InSite, Who};
use crate::error::PageError;
use crate::fields::{self, Fields, sentence};
use crate::format;
use crate::frame::{Asked, Frame, all_of, base, named_link, with_filter};
use crate::respond::{TWELVE_HOURS, html, redirect};
use crate::words::capital;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::changes::saved_views as changes;
use cadentis_answers::kept::{Site, View};
use cadentis_answers::saved_views;

#[derive(Template)]
#[template(path = "saved_views.html")]
struct ListPage {
    frame: Frame,
    rows: Vec<Row>,
    /// The view that was just taken away.
    undo: Option<(i32, String)>,
}

struct Row {
    link: String,
    name: String,
    pieces: usize,
    span: &'static str,
    team: String,
    changed: String,
    is_start: bool,
}

#[derive(Template)]
#[template(path = "saved_view.html")]
struct ViewPage {
    frame: Frame,
    id: i32,
    name: String,
    says: String,
    /// Where each piece is asked for.
    pieces: Vec<String>,
    is_start: bool,
    /// The wall of it, and where a link to that is made.
    wall: String,
    wall_link: String,
}

#[derive(Template)]
#[template(path = "wall.html")]
struct WallPage {
    name: String,
    site: String,
    zone: String,
    span: &'static str,
    pieces: Vec<String>,
    back: Option<String>,
}

async fn view_of(state: &State, site: &Site, id: i32) -> Result<View, PageError> {
    let found = saved_views::one(&state.answers, site, id).await?;
    found.ok_or_else(|| PageError::NotFound(format!("view {id}")))
}

/// The view that whoever looks begins with; nobody who came by a link begins with one.
async fn start_of(state: &State, who: &Who) -> Result<Option<(i32, i32)>, PageError> {
    match who.shared {
        Some(_) => Ok(None),
        None => Ok(saved_views::begun_with(&state.answers, who.signed.person.id).await?),
    }
}

fn owner(view: &View) -> String {
    view.team.as_ref().map_or("every editor’s".into(), |(_, name)| name.clone())
}

/// `GET /views`
pub async fn page(
    state: web::Data<State>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(&state, &request, "Queries", TWELVE_HOURS).await?;
    let all = saved_views::list(&state.answers, &frame.site).await?;
    let start = start_of(&state, &frame.who).await?;
    let row = |view: &View| Row {
        link: format!("{}/views/{}", frame.base, view.id),
        name: view.name.clone(),
        pieces: view.definition.pieces.len(),
        span: view.definition.span_words(),
        team: owner(view),
        changed: format!(
            "{} by {}",
            format::day_clock(view.changed_at, &frame.site.zone),
            view.author
        ),
        is_start: start.is_some_and(|(_, id)| id == view.id),
    };
    let undo = match all_of(&request, "removed").pop().and_then(|id| id.parse().ok()) {
        Some(id) => saved_views::removed(&state.answers, &frame.site, id).await?,
        None => None,
    };
    let undo = undo.map(|view| (view.id, view.name));
    html(&ListPage { rows: all.iter().map(row).collect(), undo, frame })
}

/// Where the pieces of a view are asked for, as it is now.
fn piece_links(base: &str, view: &View, over: &str) -> Vec<String> {
    let link =
        |nth| format!("{base}/views/{}/pieces/{nth}?version={}{over}", view.id, view.version);
    (0..view.definition.pieces.len()).map(link).collect()
}

/// `GET /views/{id}`: over its own time up to now when the address says none; with `wall`, without anything around it, anew each
/// minute.
pub async fn view(
    state: web::Data<State>,
    InSite(site): InSite,
    who: Who,
    id: After<i32>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let view = view_of(&state, &site, id.0).await?;
    if !all_of(&request, "wall").is_empty() {
        // What narrows page views narrows them on a wall, too; its time goes on.
        let filter = Asked::load(&request, view.definition.span_s)?.filter;
        let only = with_filter(String::new(), &filter);
        return html(&WallPage {
            pieces: piece_links(&base(&site), &view, &only),
            span: view.definition.span_words(),
            zone: site.zone_name().to_string(),
            back: who.shared.is_none().then(|| format!("{}/views/{}", base(&site), view.id)),
            site: site.name,
            name: view.name,
        });
    }
    let frame = Frame::load(&state, &request, "Queries", view.definition.span_s).await?;
    let start = start_of(&state, &frame.who).await?;
    let wall = format!("/views/{}?wall=1", view.id);
    html(&ViewPage {
        id: view.id,
        says: format!("{} pieces, {}.", view.definition.pieces.len(), owner(&view)),
        pieces: piece_links(&frame.base, &view, &format!("&{}", frame.query)),
        is_start: start.is_some_and(|(_, id)| id == view.id),
        wall_link: named_link(&format!("{}/settings/shares", frame.base), &[("to", &wall)]),
        wall: format!("{}{wall}", frame.base),
        name: view.name,
        frame,
    })
}

/// `POST /views/{id}/start`: whoever asks begins with it, or with `none` no more.
pub async fn start(
    state: web::Data<State>,
    InSite(site): InSite,
    By(by): By,
    who: Who,
    id: After<i32>,
    fields: web::Form<Fields>,
) -> Result<HttpResponse, PageError> {
    let view = view_of(&state, &site, id.0).await?;
    let begun = Some(&view).filter(|_| fields::one(&fields, "none").is_empty());
    changes::begin_with(&state.answers, &by, who.signed.person.id, begun).await?;
    Ok(redirect(&format!("{}/views/{}", base(&site), view.id)))
}

/// `POST /views/{id}/remove`
pub async fn remove(
    state: web::Data<State>,
    InSite(site): InSite,
    By(by): By,
    id: After<i32>,
) -> Result<HttpResponse, PageError> {
    match changes::remove(&state.answers, &by, &site, id.0).await? {
        true => Ok(redirect(&format!("{}/views?removed={}", base(&site), id.0))),
        false => Err(PageError::NotFound("this view, or it was taken away already".into())),
    }
}

/// `POST /views/{id}/restore`
pub async fn restore(
    state: web::Data<State>,
    InSite(site): InSite,
    By(by): By,
    id: After<i32>,
) -> Result<HttpResponse, PageError> {
    match changes::restore(&state.answers, &by, &site, id.0).await? {
        Ok(()) => Ok(redirect(&format!("{}/views/{}", base(&site), id.0))),
        Err(changes::NotKept::Overtaken) => Err(PageError::NotFound(
            "this view among those that can be put back: it is there, or it is gone for good"
                .into(),
        )),
        Err(why) => Err(PageError::Refused(sentence(&capital(&why.to_string())))),
    }
}
