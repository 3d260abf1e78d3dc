//! Signing in and out, choosing a password by a link, typing it again before what is grave.

use crate::State;
use crate::access::{self, Who, way_on};
use crate::error::PageError;
use crate::respond::{html, html_with, redirect, with_header};
use actix_web::http::StatusCode;
use actix_web::http::header::{CACHE_CONTROL, RETRY_AFTER};
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::people::{self, Invited, SignIn, Token};
use cadentis_core::text;
use serde::Deserialize;
use url::form_urlencoded::byte_serialize;

/// A name has at most so many characters.
pub const LONGEST_NAME: usize = 80;

/// Somebody of a demo, who signs in with one press.
struct DemoPerson {
    name: String,
    email: String,
    does: &'static str,
}

#[derive(Template)]
#[template(path = "sign_in.html")]
struct SignInPage {
    wrong: Option<String>,
    email: String,
    to: String,
    /// Nobody looks after the installation yet, and a link in the log makes the first who does.
    nobody: bool,
    /// What the provider is called, and where it is gone to from here.
    provider: Option<(String, String)>,
    takes_passwords: bool,
    demo: Vec<DemoPerson>,
}

#[derive(Deserialize)]
pub struct Way {
    pub to: Option<String>,
}

#[derive(Deserialize, Default)]
pub struct Typed {
    #[serde(default)]
    email: String,
    #[serde(default)]
    password: String,
    to: Option<String>,
}

async fn sign_in_page(
    state: &State,
    wrong: Option<String>,
    typed: &Typed,
) -> Result<HttpResponse, PageError> {
    let nobody = people::has_nobody(&state.answers).await?;
    let demo = match state.is_demo {
        false => Vec::new(),
        true => people::all(&state.answers).await?.into_iter().map(demo_person).collect(),
    };
    let (sign_on, to) = (state.answers.sign_on(), way_on(typed.to.as_deref()));
    let page = html(&SignInPage {
        wrong,
        email: typed.email.clone(),
        to: to.into(),
        nobody: nobody && sign_on.takes_passwords(),
        provider: sign_on.name().map(|name| (name.into(), by_provider("/sign-in/provider", to))),
        takes_passwords: sign_on.takes_passwords(),
        demo,
    })?;
    Ok(with_header(page, CACHE_CONTROL, "no-store"))
}

/// Where somebody goes to a provider from, on the way to an address of ours.
fn by_provider(path: &str, to: &str) -> String {
    format!("{path}?to={}", byte_serialize(to.as_bytes()).collect::<String>())
}

/// The page to sign in on, with what was wrong, for whoever wants to go on to an address of ours.
pub async fn sign_in_again(
    state: &State,
    status: StatusCode,
    wrong: String,
    to: &str,
) -> Result<HttpResponse, PageError> {
    let typed = Typed { to: Some(to.into()), ..Typed::default() };
    let mut page = sign_in_page(state, Some(wrong), &typed).await?;
    *page.status_mut() = status;
    Ok(page)
}

fn demo_person(p: people::Person) -> DemoPerson {
    let edits = p.roles.iter().any(|(_, r)| *r == cadentis_core::access::Role::Editor);
    let does = match (p.is_administrator, edits) {
        (true, _) => "administrator: sets everything up and sees single visits",
        (_, true) => "editor: writes journeys and goals",
        _ => "reader: looks",
    };
    DemoPerson { name: p.name, email: p.email, does }
}

/// `GET /sign-in?to=`
pub async fn page(
    state: web::Data<State>,
    request: HttpRequest,
    way: web::Query<Way>,
) -> Result<HttpResponse, PageError> {
    let to = way.into_inner().to;
    if access::shown(&state, &request).await?.is_some() {
        return Ok(redirect(way_on(to.as_deref())));
    }
    sign_in_page(&state, None, &Typed { to, ..Typed::default() }).await
}

/// Leads on with the cookie of a session.
pub fn let_in(
    state: &State,
    request: &HttpRequest,
    token: &Token,
    to: Option<&str>,
) -> HttpResponse {
    let mut answer = HttpResponse::SeeOther();
    answer.insert_header(("location", way_on(to)));
    answer.insert_header((CACHE_CONTROL, "no-store"));
    answer.cookie(access::cookie(state, request, Some(token.text()))).finish()
}

/// A page with what was wrong, as an answer that programs understand too.
fn turned_away(page: HttpResponse, what: &SignIn) -> HttpResponse {
    let mut page = page;
    match what {
        SignIn::Wait(seconds) => {
            *page.status_mut() = StatusCode::TOO_MANY_REQUESTS;
            with_header(page, RETRY_AFTER, &seconds.to_string())
        }
        _ => {
            *page.status_mut() = StatusCode::UNAUTHORIZED;
            page
        }
    }
}

fn in_words(what: &SignIn, wrong: &str) -> String {
    match what {
        SignIn::Wait(s) if *s >= 120 => {
            format!("Too many tries. The next one is looked at in {} minutes.", (s + 59) / 60)
        }
        SignIn::Wait(s) => format!("Too many tries. The next one is looked at in {s} s."),
        _ => wrong.to_string(),
    }
}

/// `POST /sign-in`
pub async fn sign_in(
    state: web::Data<State>,
    request: HttpRequest,
    typed: web::Form<Typed>,
) -> Result<HttpResponse, PageError> {
    let from = access::from(&state, &request);
    let became = people::sign_in(&state.answers, &typed.email, &typed.password, from).await?;
    if let SignIn::In(token) = &became {
        // Whatever session the browser had is another one's.
        if let Some(before) = access::shown(&state, &request).await? {
            people::end(&state.answers, &before.signed, before.signed.session).await?;
        }
        return Ok(let_in(&state, &request, token, typed.to.as_deref()));
    }
    let wrong = in_words(&became, "Nobody with this address and this password may sign in.");
    Ok(turned_away(sign_in_page(&state, Some(wrong), &typed).await?, &became))
}

/// `POST /sign-in/demo`: with one press, in a demo alone.
pub async fn sign_in_to_demo(
    state: web::Data<State>,
    request: HttpRequest,
    typed: web::Form<Typed>,
) -> Result<HttpResponse, PageError> {
    if !state.is_demo {
        return Err(PageError::NotFound("/sign-in/demo".into()));
    }
    let from = access::from(&state, &request);
    match people::sign_in_without(&state.answers, &typed.email, from).await? {
        Some(token) => Ok(let_in(&state, &request, &token, typed.to.as_deref())),
        None => Err(PageError::NotFound("this person of the demo".into())),
    }
}

/// `POST /sign-out`
pub async fn sign_out(
    state: web::Data<State>,
    request: HttpRequest,
    who: Who,
) -> Result<HttpResponse, PageError> {
    people::end(&state.answers, &who.signed, who.signed.session).await?;
    let mut answer = HttpResponse::SeeOther();
    answer.insert_header(("location", "/sign-in"));
    Ok(answer.cookie(access::cookie(&state, &request, None)).finish())
}

#[derive(Template)]
#[template(path = "welcome.html")]
struct WelcomePage {
    token: String,
    invited: Invited,
    wrong: Option<String>,
    email: String,
    name: String,
}

impl WelcomePage {
    fn is_first(&self) -> bool {
        self.invited == Invited::First
    }
}

#[derive(Deserialize, Default)]
pub struct Chosen {
    #[serde(default)]
    email: String,
    #[serde(default)]
    name: String,
    #[serde(default)]
    password: String,
}

async fn invited(state: &State, token: &str) -> Result<Invited, PageError> {
    let found = people::invited(&state.answers, token).await?;
    found.ok_or_else(|| PageError::Gone("This link is good no more.".into()))
}

fn welcome_page(
    token: &str,
    invited: Invited,
    wrong: Option<String>,
    typed: Chosen,
) -> Result<HttpResponse, PageError> {
    let status = if wrong.is_some() { StatusCode::UNPROCESSABLE_ENTITY } else { StatusCode::OK };
    let Chosen { email, name, .. } = typed;
    let page =
        html_with(status, &WelcomePage { token: token.into(), invited, wrong, email, name })?;
    Ok(with_header(page, CACHE_CONTROL, "no-store"))
}

/// `GET /welcome/{token}`: what a link leads to.
pub async fn welcome(
    state: web::Data<State>,
    token: web::Path<String>,
) -> Result<HttpResponse, PageError> {
    let invited = invited(&state, &token).await?;
    welcome_page(&token, invited, None, Chosen::default())
}

/// `POST /welcome/{token}`: the password is chosen.
pub async fn accept(
    state: web::Data<State>,
    request: HttpRequest,
    token: web::Path<String>,
    typed: web::Form<Chosen>,
) -> Result<HttpResponse, PageError> {
    let invited = invited(&state, &token).await?;
    let typed = typed.into_inner();
    let (name, email) = match &invited {
        Invited::First => {
            (text::clean(typed.name.trim(), LONGEST_NAME, None), people::email_of(&typed.email))
        }
        Invited::Somebody { name, email } => (name.clone(), Some(email.clone())),
    };
    let Some(email) = email.filter(|_| !name.is_empty()) else {
        let says = "You have a name, and an address such as ida@marram.example.";
        return welcome_page(&token, invited, Some(says.into()), typed);
    };
    if let Err(weak) = people::is_strong(&typed.password, &[&email, &name, "cadentis"]) {
        return welcome_page(&token, invited, Some(weak.to_string()), typed);
    }
    let from = access::from(&state, &request);
    let first = (invited == Invited::First).then_some((email.as_str(), name.as_str()));
    match people::accept(&state.answers, &token, first, &typed.password, from).await? {
        Some(session) => Ok(let_in(&state, &request, &session, None)),
        None => Err(PageError::Gone("This link is good no more.".into())),
    }
}

#[derive(Template)]
#[template(path = "confirm.html")]
struct ConfirmPage {
    name: String,
    to: String,
    wrong: Option<String>,
    /// What the provider is called that says who they are, and where it is gone to from here.
    provider: Option<(String, String)>,
    has_password: bool,
}

fn confirm_page(
    state: &State,
    who: &Who,
    to: &str,
    wrong: Option<String>,
) -> Result<HttpResponse, PageError> {
    let (person, sign_on) = (&who.signed.person, state.answers.sign_on());
    let provider = sign_on.name().filter(|_| person.subject.is_some());
    html(&ConfirmPage {
        name: who.name().into(),
        to: to.into(),
        wrong,
        provider: provider.map(|name| (name.into(), by_provider("/confirm/provider", to))),
        has_password: person.has_password && sign_on.takes_passwords(),
    })
}

/// `GET /confirm?to=`: the password once more.
pub async fn confirm(
    state: web::Data<State>,
    who: Who,
    way: web::Query<Way>,
) -> Result<HttpResponse, PageError> {
    confirm_page(&state, &who, way_on(way.to.as_deref()), None)
}

/// `POST /confirm`
pub async fn confirmed(
    state: web::Data<State>,
    request: HttpRequest,
    who: Who,
    typed: web::Form<Typed>,
) -> Result<HttpResponse, PageError> {
    let address = access::from(&state, &request).address;
    let to = way_on(typed.to.as_deref());
    match people::prove(&state.answers, &who.signed, &typed.password, address).await? {
        SignIn::In(_) => Ok(redirect(to)),
        became => {
            let wrong = Some(in_words(&became, "This is not your password."));
            Ok(turned_away(confirm_page(&state, &who, to, wrong)?, &became))
        }
    }
}
