//! One's own sessions and password.

use crate::State;
use crate::access::{self, Who};
use crate::error::PageError;
use crate::format;
use crate::respond::{html_with, redirect};
use actix_web::http::StatusCode;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::people::{self, SignIn};
use jiff::tz::TimeZone;
use serde::Deserialize;
use uuid::Uuid;

#[derive(Template)]
#[template(path = "me.html")]
struct Page {
    name: String,
    email: String,
    may: Vec<&'static str>,
    sessions: Vec<Row>,
    wrong: Option<String>,
    administers: bool,
    /// Whether a password lets them in.
    has_password: bool,
    /// What the provider is called that they sign in by.
    provider: Option<String>,
    groups: String,
}

struct Row {
    id: Uuid,
    here: bool,
    browser: String,
    address: String,
    begun: String,
    seen: String,
}

async fn shown(state: &State, who: &Who, wrong: Option<String>) -> Result<HttpResponse, PageError> {
    let sessions = people::sessions(&state.answers, &who.signed).await?;
    let row = |s: people::Session| Row {
        id: s.id,
        here: s.id == who.signed.session,
        browser: s.browser,
        address: s.address.to_string(),
        begun: format::day_clock(s.begun_at, &TimeZone::UTC),
        seen: format::day_clock(s.seen_at, &TimeZone::UTC),
    };
    let may = [
        (who.administers(), "look after this installation and its people"),
        (who.edits(), "change journeys, goals and funnels, and play them now"),
        (who.sees_people(), "see single visits and persons"),
        (true, "read what is measured"),
    ];
    let (person, sign_on) = (&who.signed.person, state.answers.sign_on());
    let status = if wrong.is_some() { StatusCode::UNPROCESSABLE_ENTITY } else { StatusCode::OK };
    html_with(
        status,
        &Page {
            name: person.name.clone(),
            email: person.email.clone(),
            may: may.into_iter().filter(|(may, _)| *may).map(|(_, says)| says).collect(),
            sessions: sessions.into_iter().map(row).collect(),
            wrong,
            administers: who.administers(),
            has_password: person.has_password && sign_on.takes_passwords(),
            provider: sign_on.name().filter(|_| person.subject.is_some()).map(str::to_string),
            groups: person.groups.join(", "),
        },
    )
}

/// `GET /me`
pub async fn page(state: web::Data<State>, who: Who) -> Result<HttpResponse, PageError> {
    shown(&state, &who, None).await
}

#[derive(Deserialize)]
pub struct NewPassword {
    #[serde(default)]
    old: String,
    #[serde(default)]
    new: String,
}

/// `POST /me/password`: every other session ends.
pub async fn password(
    state: web::Data<State>,
    request: HttpRequest,
    who: Who,
    typed: web::Form<NewPassword>,
) -> Result<HttpResponse, PageError> {
    let from = access::from(&state, &request);
    match people::prove(&state.answers, &who.signed, &typed.old, from.address).await? {
        SignIn::In(_) => {}
        SignIn::Wrong => {
            return shown(&state, &who, Some("The old password is another one.".into())).await;
        }
        SignIn::Wait(s) => {
            let says = format!("Too many tries. The next one is looked at in {s} s.");
            return shown(&state, &who, Some(says)).await;
        }
    }
    let person = &who.signed.person;
    let about = [person.email.as_str(), person.name.as_str(), "cadentis"];
    if let Err(weak) = people::is_strong(&typed.new, &about) {
        return shown(&state, &who, Some(weak.to_string())).await;
    }
    let token = people::set_password(&state.answers, person, &typed.new, from).await?;
    let cookie = access::cookie(&state, &request, Some(token.text()));
    Ok(HttpResponse::SeeOther().insert_header(("location", "/me")).cookie(cookie).finish())
}

#[derive(Deserialize)]
pub struct Ended {
    id: Uuid,
}

/// `POST /me/sessions/end`
pub async fn end(
    state: web::Data<State>,
    who: Who,
    ended: web::Form<Ended>,
) -> Result<HttpResponse, PageError> {
    people::end(&state.answers, &who.signed, ended.id).await?;
    Ok(redirect("/me"))
}
