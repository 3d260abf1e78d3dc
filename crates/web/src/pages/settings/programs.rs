//! Tokens of programs: made, shown once, taken away.

use crate::State;
use crate::access::{After, By, InSite, Who};
use crate::error::PageError;
use crate::frame::{Frame, base};
use crate::respond::{TWELVE_HOURS, html_with, redirect, with_header};
use crate::view::Choice;
use actix_web::http::StatusCode;
use actix_web::http::header::CACHE_CONTROL;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::people::{self, ApiToken};
use cadentis_core::access::Scope;
use cadentis_core::text;
use uuid::Uuid;

/// A name has at most so many characters.
const LONGEST_NAME: usize = 60;
/// A token is good for so many days at most.
const LONGEST_DAYS: i32 = 400;

#[derive(Template)]
#[template(path = "programs.html")]
struct Page {
    frame: Frame,
    tokens: Vec<Row>,
    wrong: Option<String>,
    scopes: Vec<Choice>,
    name: String,
    days: String,
    /// A token that is shown once: for what, and itself.
    shown: Option<Shown>,
    address: String,
    slug: String,
    has_to_prove: bool,
}

struct Shown {
    name: String,
    token: String,
}

struct Row {
    id: Uuid,
    name: String,
    scopes: String,
    made_by: String,
    ends: String,
    seen: String,
    is_over: bool,
}

/// What each scope lets a program do.
fn says(scope: Scope) -> &'static str {
    match scope {
        Scope::Read => "read: whatever is measured, but no single visits",
        Scope::Write => "write: change scripts, goals, alerts, maintenance, reports and markers",
        Scope::Markers => "markers: pin markers and take them away, post states of dependencies",
        Scope::Import => "import: bring page views in files",
        Scope::Play => "play: play a journey or a script at a location now",
    }
}

type Given = Vec<(String, String)>;

fn of<'a>(given: &'a Given, name: &str) -> &'a str {
    given.iter().find(|(n, _)| n == name).map_or("", |(_, v)| v)
}

fn scopes_of(given: &Given) -> Vec<Scope> {
    let named = given.iter().filter(|(n, _)| n == "scope");
    named.filter_map(|(_, v)| Scope::of(v)).collect()
}

async fn page_with(
    state: &State,
    request: &HttpRequest,
    who: &Who,
    given: &Given,
    wrong: Option<String>,
    shown: Option<Shown>,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(state, request, "Settings", TWELVE_HOURS).await?;
    let tokens = people::tokens(&state.answers, frame.site.id).await?;
    let zone = frame.site.zone.clone();
    let day = |at: jiff::Timestamp| at.to_zoned(zone.clone()).strftime("%-d %b %Y").to_string();
    let row = |t: ApiToken| Row {
        id: t.id,
        name: t.name,
        scopes: t.scopes.iter().map(|s| s.word()).collect::<Vec<_>>().join(", "),
        made_by: t.made_by,
        ends: day(t.ends_at),
        seen: t.seen_at.map_or("never".into(), &day),
        is_over: t.ends_at <= frame.now,
    };
    let tokens = tokens.into_iter().map(row).collect();
    let chosen = scopes_of(given);
    let choice = |s: Scope| {
        Choice::new(s.word(), says(s), chosen.contains(&s) || given.is_empty() && s == Scope::Read)
    };
    let days = of(given, "days");
    let status = match wrong {
        Some(_) => StatusCode::UNPROCESSABLE_ENTITY,
        None => StatusCode::OK,
    };
    let page = html_with(
        status,
        &Page {
            tokens,
            wrong,
            scopes: Scope::ALL.into_iter().map(choice).collect(),
            name: of(given, "name").into(),
            days: if days.is_empty() { "90".into() } else { days.into() },
            shown,
            address: state.door.address(request),
            slug: frame.site.slug.clone(),
            has_to_prove: who.has_to_prove(),
            frame,
        },
    )?;
    Ok(with_header(page, CACHE_CONTROL, "no-store"))
}

/// `GET /{site}/settings/programs`
pub async fn page(
    state: web::Data<State>,
    request: HttpRequest,
    who: Who,
) -> Result<HttpResponse, PageError> {
    page_with(&state, &request, &who, &Vec::new(), None, None).await
}

/// `POST /{site}/settings/programs`: a token for this site alone.
pub async fn make(
    state: web::Data<State>,
    request: HttpRequest,
    who: Who,
    InSite(site): InSite,
    given: web::Form<Given>,
) -> Result<HttpResponse, PageError> {
    let name = text::clean(of(&given, "name").trim(), LONGEST_NAME, None);
    let scopes = scopes_of(&given);
    let days = of(&given, "days").trim().parse::<i32>().ok();
    let wrong = match days.filter(|d| (1..=LONGEST_DAYS).contains(d)) {
        _ if name.is_empty() => Some("A token has a name: what it is for.".to_string()),
        _ if scopes.is_empty() => Some("Choose what the program may do.".into()),
        None => Some(format!("A token is good for 1 to {LONGEST_DAYS} days.")),
        Some(days) => {
            let (answers, by) = (&state.answers, who.author());
            let token = people::make_token(answers, &by, site.id, &name, &scopes, days).await?;
            let shown = Some(Shown { name, token: token.text().into() });
            return page_with(&state, &request, &who, &Vec::new(), None, shown).await;
        }
    };
    page_with(&state, &request, &who, &given, wrong, None).await
}

/// `POST /{site}/settings/programs/{id}/remove`: worth nothing from now on.
pub async fn remove(
    state: web::Data<State>,
    By(by): By,
    InSite(site): InSite,
    After(id): After<Uuid>,
) -> Result<HttpResponse, PageError> {
    match people::remove_token(&state.answers, &by, site.id, id).await? {
        true => Ok(redirect(&format!("{}/settings/programs", base(&site)))),
        false => Err(PageError::NotFound("this token".into())),
    }
}
