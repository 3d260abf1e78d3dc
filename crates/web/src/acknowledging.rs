//! Acknowledging an incident by the link of a notice, without signing in: the link is looked at first and pressed then, so that
//! programs that follow links in mail say nothing for anybody.

use crate::State;
use crate::error::PageError;
use crate::respond::{html, with_header};
use actix_web::http::header::CACHE_CONTROL;
use actix_web::{HttpResponse, web};
use askama::Template;
use cadentis_answers::changes::{Author, alerts};
use cadentis_answers::notices::{self, ByLink};
use jiff::Timestamp;

crate::routes::routes! {
    Public get "/acknowledge/{holds}" => look,
    Public post "/acknowledge/{holds}" => acknowledge,
}

#[derive(Template)]
#[template(path = "acknowledge.html")]
struct Page {
    holds: String,
    title: String,
    site: String,
    says: String,
    can: bool,
}

async fn found(state: &State, holds: &str) -> Result<ByLink, PageError> {
    let found = notices::by_link(&state.answers, holds).await?;
    found.ok_or_else(|| {
        PageError::NotFound("an incident behind this link; links are good for a week".into())
    })
}

fn page(holds: String, found: &ByLink) -> Result<HttpResponse, PageError> {
    let i = &found.incident;
    let says = match (&i.acknowledged, i.cleared_at) {
        (Some((_, by)), _) => format!("{by} looks after it."),
        (None, Some(_)) => "It has cleared; nobody acknowledged it.".into(),
        (None, None) => "Nobody looks after it yet.".into(),
    };
    let page = html(&Page {
        title: format!("Incident {}: {}", i.id, i.title),
        site: found.site.name.clone(),
        can: i.acknowledged.is_none(),
        says,
        holds,
    })?;
    Ok(with_header(page, CACHE_CONTROL, "no-store"))
}

/// `GET /acknowledge/{holds}`: what it is about.
async fn look(
    state: web::Data<State>,
    holds: web::Path<String>,
) -> Result<HttpResponse, PageError> {
    let holds = holds.into_inner();
    let found = found(&state, &holds).await?;
    page(holds, &found)
}

/// `POST /acknowledge/{holds}`: whoever was told by that link looks after it.
async fn acknowledge(
    state: web::Data<State>,
    holds: web::Path<String>,
) -> Result<HttpResponse, PageError> {
    let holds = holds.into_inner();
    let by_link = found(&state, &holds).await?;
    let by = Author::named(&format!("{} (by link)", by_link.whom));
    if let Some(by) = by {
        alerts::acknowledge(&state.answers, &by, &by_link.incident, Timestamp::now()).await?;
    }
    let found = found(&state, &holds).await?;
    page(holds, &found)
}
