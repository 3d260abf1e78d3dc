//! Who may do what.

use crate::State;
use crate::access::Who;
use crate::around::Around;
use crate::error::PageError;
use crate::pages::people::door::LONGEST_NAME;
use crate::respond::{html_with, redirect, with_header};
use crate::view::Choice;
use actix_web::http::StatusCode;
use actix_web::http::header::CACHE_CONTROL;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::kept::Site;
use cadentis_answers::people::{self, Changed, Given, Invitation, Token};
use cadentis_answers::provider::SignOn;
use cadentis_answers::sites;
use cadentis_core::access::Role;
use cadentis_core::text;
use serde::Deserialize;

#[derive(Template)]
#[template(path = "people.html")]
struct Page {
    around: Around,
    people: Vec<Row>,
    /// A role on each site, for somebody new.
    sites: Vec<OnSite>,
    wrong: Option<String>,
    typed: Typed,
    /// A link that is shown once, and for whom.
    link: Option<Shown>,
    has_to_prove: bool,
    /// Whether passwords let people in, and links let them choose one.
    takes_passwords: bool,
    provider: Option<String>,
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
    sites: Vec<OnSite>,
    /// What stands below their address: how they come in, or why they do not.
    beside: String,
    is_gone: bool,
    is_me: bool,
}

/// What somebody is on a site, to choose.
struct OnSite {
    /// The name of the field.
    field: String,
    site: String,
    roles: Vec<Choice>,
}

/// One for each site, with what is chosen for it.
fn on_sites(sites: &[Site], chosen: &[(i32, Role)]) -> Vec<OnSite> {
    let on = |site: &Site| {
        let role = chosen.iter().find(|(id, _)| *id == site.id).map(|(_, role)| *role);
        let mut roles = vec![Choice::new("", "no member", role.is_none())];
        roles.extend(Role::ALL.map(|r| Choice::of(r.word(), role == Some(r))));
        OnSite { field: format!("{ROLE_ON}{}", site.id), site: site.name.clone(), roles }
    };
    sites.iter().map(on).collect()
}

/// What the name of a field for a role begins with; the id of the site follows.
const ROLE_ON: &str = "role.";

/// The fields of a form as they were sent: there is one for each site.
type Fields = Vec<(String, String)>;

/// What was typed and chosen.
#[derive(Default, Clone)]
struct Typed {
    name: String,
    email: String,
    administrator: bool,
    people: bool,
    roles: Vec<(i32, Role)>,
}

impl Typed {
    fn of(fields: &Fields) -> Typed {
        let field = |name: &str| fields.iter().find(|(n, _)| n == name).map(|(_, v)| v.clone());
        let role = |(name, value): &(String, String)| {
            Some((name.strip_prefix(ROLE_ON)?.parse().ok()?, Role::of(value)?))
        };
        Typed {
            name: field("name").unwrap_or_default(),
            email: field("email").unwrap_or_default(),
            administrator: field("administrator").is_some(),
            people: field("people").is_some(),
            roles: fields.iter().filter_map(role).collect(),
        }
    }

    /// What they are given, on sites that there are.
    fn given(&self, sites: &[Site]) -> Given {
        let is_there = |(id, _): &&(i32, Role)| sites.iter().any(|site| site.id == *id);
        Given {
            is_administrator: self.administrator,
            sees_people: self.people,
            roles: self.roles.iter().filter(is_there).copied().collect(),
        }
    }
}

#[derive(Default)]
struct Beside {
    wrong: Option<String>,
    typed: Typed,
    link: Option<Shown>,
}

async fn shown(state: &State, who: &Who, beside: Beside) -> Result<HttpResponse, PageError> {
    let sites = sites::all(&state.answers).await?;
    let row = |p: people::Person| Row {
        sites: on_sites(&sites, &p.roles),
        id: p.id,
        is_administrator: p.is_administrator,
        sees_people: p.sees_people,
        beside: how(state.answers.sign_on(), &p),
        is_gone: p.gone_at.is_some(),
        is_me: p.id == who.signed.person.id,
        name: p.name,
        email: p.email,
    };
    let status = match beside.wrong {
        Some(_) => StatusCode::UNPROCESSABLE_ENTITY,
        None => StatusCode::OK,
    };
    let page = html_with(
        status,
        &Page {
            people: people::all(&state.answers).await?.into_iter().map(row).collect(),
            wrong: beside.wrong,
            // Who is let in reads the only site there is, unless something else is chosen.
            sites: match sites.as_slice() {
                [only] if beside.typed.email.is_empty() => {
                    on_sites(&sites, &[(only.id, Role::Reader)])
                }
                _ => on_sites(&sites, &beside.typed.roles),
            },
            typed: beside.typed,
            link: beside.link,
            has_to_prove: who.has_to_prove(),
            takes_passwords: state.answers.sign_on().takes_passwords(),
            provider: state.answers.sign_on().name().map(str::to_string),
            around: Around::new(who.clone(), "/setup/people"),
        },
    )?;
    Ok(with_header(page, CACHE_CONTROL, "no-store"))
}

/// `GET /setup/people`
pub async fn page(state: web::Data<State>, who: Who) -> Result<HttpResponse, PageError> {
    shown(&state, &who, Beside::default()).await
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
    fields: web::Form<Fields>,
) -> Result<HttpResponse, PageError> {
    let typed = Typed::of(&fields);
    let name = text::clean(typed.name.trim(), LONGEST_NAME, None);
    let wrong = |says: &str| Beside { wrong: Some(says.into()), typed: typed.clone(), link: None };
    let Some(email) = people::email_of(&typed.email).filter(|_| !name.is_empty()) else {
        let says = "Somebody has a name, and an address such as ida@marram.example.";
        return shown(&state, &who, wrong(says)).await;
    };
    let given = typed.given(&sites::all(&state.answers).await?);
    match people::invite(&state.answers, &who.author(), &email, &name, &given).await? {
        Invitation::Link(token) => {
            let link = Some(link_of(&state, &request, &name, &token));
            shown(&state, &who, Beside { link, ..Beside::default() }).await
        }
        Invitation::ByProvider => Ok(redirect("/setup/people")),
        Invitation::Taken => {
            let says = "Somebody has this address already.";
            shown(&state, &who, wrong(says)).await
        }
    }
}

/// How somebody comes in.
fn how(sign_on: &SignOn, p: &people::Person) -> String {
    match (p.gone_at, &p.subject, sign_on.name()) {
        (Some(_), _, _) => "shut out".into(),
        (None, Some(_), Some(name)) if p.groups.is_empty() => format!("by {name}"),
        (None, Some(_), Some(name)) => format!("by {name}, in {}", p.groups.join(", ")),
        (None, None, Some(name)) if !sign_on.takes_passwords() => {
            format!("has not signed in by {name} yet")
        }
        _ if p.has_password => String::new(),
        _ => "has not chosen a password".into(),
    }
}

async fn became(state: &State, who: &Who, changed: Changed) -> Result<HttpResponse, PageError> {
    match changed {
        Changed::Done => Ok(redirect("/setup/people")),
        Changed::Nobody => Err(PageError::NotFound("this person".into())),
        Changed::LastAdministrator => {
            let says = "Nobody would look after this installation any more: make somebody else an administrator first.";
            let beside = Beside { wrong: Some(says.into()), ..Beside::default() };
            shown(state, who, beside).await
        }
    }
}

/// `POST /setup/people/{id}`: what they may do.
pub async fn change(
    state: web::Data<State>,
    who: Who,
    id: web::Path<i32>,
    fields: web::Form<Fields>,
) -> Result<HttpResponse, PageError> {
    let given = Typed::of(&fields).given(&sites::all(&state.answers).await?);
    let changed = people::set_given(&state.answers, &who.author(), *id, &given).await?;
    became(&state, &who, changed).await
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
    let token = people::link_for(&state.answers, &who.author(), *id).await?;
    let link = Some(link_of(&state, &request, &person.name, &token));
    shown(&state, &who, Beside { link, ..Beside::default() }).await
}

#[derive(Deserialize)]
pub struct Gone {
    #[serde(default)]
    gone: Option<String>,
}

/// `POST /setup/people/{id}/gone`: may sign in no more, or again.
pub async fn gone(
    state: web::Data<State>,
    who: Who,
    id: web::Path<i32>,
    typed: web::Form<Gone>,
) -> Result<HttpResponse, PageError> {
    let changed =
        people::set_gone(&state.answers, &who.author(), *id, typed.gone.is_some()).await?;
    became(&state, &who, changed).await
}
