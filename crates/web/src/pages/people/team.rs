//! Who may do what, and what was done.

use crate::State;
use crate::access::Who;
use crate::error::PageError;
use crate::frame::Frame;
use crate::pages::people::door::LONGEST_NAME;
use crate::respond::{TWELVE_HOURS, html, redirect, with_header};
use actix_web::http::StatusCode;
use actix_web::http::header::CACHE_CONTROL;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::people::{self, Changed, Given, Token};
use cadentis_core::access::Role;
use cadentis_core::text;
use serde::Deserialize;

/// So much of what was done is shown.
const DONE: i64 = 50;

#[derive(Template)]
#[template(path = "people.html")]
struct Page {
    frame: Frame,
    people: Vec<Row>,
    done: Vec<DoneRow>,
    wrong: Option<String>,
    typed: Typed,
    /// A link that is shown once, and for whom.
    link: Option<Shown>,
    has_to_prove: bool,
}

struct Shown {
    name: String,
    address: String,
}

struct Row {
    id: i32,
    name: String,
    email: String,
    is_administrator: bool,
    sees_people: bool,
    role: &'static str,
    has_password: bool,
    is_gone: bool,
    is_me: bool,
}

struct DoneRow {
    at: String,
    name: String,
    address: String,
    what: String,
    which: String,
}

#[derive(Deserialize, Default, Clone)]
pub struct Typed {
    #[serde(default)]
    name: String,
    #[serde(default)]
    email: String,
    #[serde(default)]
    role: String,
    #[serde(default)]
    administrator: Option<String>,
    #[serde(default)]
    people: Option<String>,
}

impl Typed {
    fn given(&self, site_id: i32) -> Given {
        Given {
            is_administrator: self.administrator.is_some(),
            sees_people: self.people.is_some(),
            role: Role::of(&self.role).map(|role| (site_id, role)),
        }
    }
}

#[derive(Default)]
struct Beside {
    wrong: Option<String>,
    typed: Typed,
    link: Option<Shown>,
}

async fn shown(
    state: &State,
    request: &HttpRequest,
    who: &Who,
    beside: Beside,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(state, request, "Setup", TWELVE_HOURS).await?;
    let (site_id, zone) = (frame.site.id, frame.site.zone.clone());
    let row = |p: people::Person| Row {
        role: p.roles.iter().find(|(site, _)| *site == site_id).map_or("", |(_, r)| r.word()),
        id: p.id,
        is_administrator: p.is_administrator,
        sees_people: p.sees_people,
        has_password: p.has_password,
        is_gone: p.gone_at.is_some(),
        is_me: p.id == who.signed.person.id,
        name: p.name,
        email: p.email,
    };
    let done = |d: people::Done| DoneRow {
        at: d.at.to_zoned(zone.clone()).strftime("%a %-d %b %H:%M:%S %Z").to_string(),
        name: d.name,
        address: d.address.map_or(String::new(), |a| a.to_string()),
        what: d.what,
        which: d.which,
    };
    let status = match beside.wrong {
        Some(_) => StatusCode::UNPROCESSABLE_ENTITY,
        None => StatusCode::OK,
    };
    let mut page = html(&Page {
        people: people::all(&state.answers).await?.into_iter().map(row).collect(),
        done: people::done(&state.answers, DONE).await?.into_iter().map(done).collect(),
        wrong: beside.wrong,
        typed: beside.typed,
        link: beside.link,
        has_to_prove: who.has_to_prove(),
        frame,
    })?;
    *page.status_mut() = status;
    Ok(with_header(page, CACHE_CONTROL, "no-store"))
}

/// `GET /setup/people`
pub async fn page(
    state: web::Data<State>,
    request: HttpRequest,
    who: Who,
) -> Result<HttpResponse, PageError> {
    shown(&state, &request, &who, Beside::default()).await
}

fn link_of(state: &State, request: &HttpRequest, name: &str, token: &Token) -> Shown {
    let address = format!("{}/welcome/{}", state.door.address(request), token.text());
    Shown { name: name.into(), address }
}

/// `POST /setup/people`: somebody new, who chooses a password by a link.
pub async fn invite(
    state: web::Data<State>,
    request: HttpRequest,
    who: Who,
    typed: web::Form<Typed>,
) -> Result<HttpResponse, PageError> {
    let typed = typed.into_inner();
    let site = state.site().await?;
    let name = text::clean(typed.name.trim(), LONGEST_NAME, None);
    let wrong = |says: &str| Beside { wrong: Some(says.into()), typed: typed.clone(), link: None };
    let Some(email) = people::email_of(&typed.email).filter(|_| !name.is_empty()) else {
        let says = "Somebody has a name, and an address such as ida@marram.example.";
        return shown(&state, &request, &who, wrong(says)).await;
    };
    let given = typed.given(site.id);
    match people::invite(&state.answers, &who.signed, &email, &name, given).await? {
        Some(token) => {
            let link = Some(link_of(&state, &request, &name, &token));
            shown(&state, &request, &who, Beside { link, ..Beside::default() }).await
        }
        None => {
            let says = "Somebody has this address already.";
            shown(&state, &request, &who, wrong(says)).await
        }
    }
}

async fn became(
    state: &State,
    request: &HttpRequest,
    who: &Who,
    changed: Changed,
) -> Result<HttpResponse, PageError> {
    match changed {
        Changed::Done => Ok(redirect("/setup/people")),
        Changed::Nobody => Err(PageError::NotFound("this person".into())),
        Changed::LastAdministrator => {
            let says = "Nobody would look after this installation any more: make somebody else an administrator first.";
            let beside = Beside { wrong: Some(says.into()), ..Beside::default() };
            shown(state, request, who, beside).await
        }
    }
}

/// `POST /setup/people/{id}`: what they may do.
pub async fn change(
    state: web::Data<State>,
    request: HttpRequest,
    who: Who,
    id: web::Path<i32>,
    typed: web::Form<Typed>,
) -> Result<HttpResponse, PageError> {
    let site = state.site().await?;
    let given = typed.given(site.id);
    let changed = people::set_given(&state.answers, &who.signed, *id, site.id, given).await?;
    became(&state, &request, &who, changed).await
}

/// `POST /setup/people/{id}/link`: a new link, for who has forgotten their password.
pub async fn link(
    state: web::Data<State>,
    request: HttpRequest,
    who: Who,
    id: web::Path<i32>,
) -> Result<HttpResponse, PageError> {
    let found = people::all(&state.answers).await?.into_iter().find(|p| p.id == *id);
    let Some(person) = found.filter(|p| p.gone_at.is_none()) else {
        return Err(PageError::NotFound("this person".into()));
    };
    let token = people::link_for(&state.answers, &who.signed, *id).await?;
    let link = Some(link_of(&state, &request, &person.name, &token));
    shown(&state, &request, &who, Beside { link, ..Beside::default() }).await
}

#[derive(Deserialize)]
pub struct Gone {
    #[serde(default)]
    gone: Option<String>,
}

/// `POST /setup/people/{id}/gone`: may sign in no more, or again.
pub async fn gone(
    state: web::Data<State>,
    request: HttpRequest,
    who: Who,
    id: web::Path<i32>,
    typed: web::Form<Gone>,
) -> Result<HttpResponse, PageError> {
    let changed = people::set_gone(&state.answers, &who.signed, *id, typed.gone.is_some()).await?;
    became(&state, &request, &who, changed).await
}
