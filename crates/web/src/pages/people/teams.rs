//! Teams: who is in them.

use crate::State;
use crate::access::{By, Who};
use crate::around::Around;
use crate::error::PageError;
use crate::respond::{html_with, redirect};
use crate::view::Choice;
use actix_web::http::StatusCode;
use actix_web::{HttpResponse, web};
use askama::Template;
use cadentis_answers::people;
use cadentis_answers::teams::{self, LONGEST_NAME};
use cadentis_core::text;

#[derive(Template)]
#[template(path = "teams.html")]
struct Page {
    around: Around,
    teams: Vec<Row>,
    wrong: Option<String>,
    /// The name that was typed for a new one.
    typed: String,
}

struct Row {
    id: i32,
    name: String,
    owns: String,
    /// Everybody, with who is in it.
    people: Vec<Choice>,
}

/// The fields of a form: a name, and a member each.
type Fields = Vec<(String, String)>;

fn name_in(fields: &Fields) -> Option<String> {
    let name = fields.iter().find(|(n, _)| n == "name").map_or("", |(_, v)| v.as_str());
    Some(text::clean(name.trim(), LONGEST_NAME, None)).filter(|name| !name.is_empty())
}

async fn shown(
    state: &State,
    who: Who,
    typed: String,
    wrong: Option<String>,
) -> Result<HttpResponse, PageError> {
    let people = people::all(&state.answers).await?;
    let row = |t: teams::Team| Row {
        owns: match t.journeys {
            0 => "owns no journey".into(),
            1 => "owns one journey".into(),
            n => format!("owns {n} journeys"),
        },
        people: people
            .iter()
            .filter(|p| p.gone_at.is_none() || t.members.contains(&p.id))
            .map(|p| Choice::new(p.id, &p.name, t.members.contains(&p.id)))
            .collect(),
        id: t.id,
        name: t.name,
    };
    let teams = teams::all(&state.answers).await?.into_iter().map(row).collect();
    let status = if wrong.is_some() { StatusCode::UNPROCESSABLE_ENTITY } else { StatusCode::OK };
    html_with(status, &Page { around: Around::new(who, TEAMS), teams, wrong, typed })
}

const TEAMS: &str = "/setup/teams";
const NO_NAME: &str = "A team has a name.";

/// `GET /setup/teams`
pub async fn page(state: web::Data<State>, who: Who) -> Result<HttpResponse, PageError> {
    shown(&state, who, String::new(), None).await
}

/// `POST /setup/teams`: a new team, without members.
pub async fn add(
    state: web::Data<State>,
    who: Who,
    By(by): By,
    fields: web::Form<Fields>,
) -> Result<HttpResponse, PageError> {
    let Some(name) = name_in(&fields) else {
        return shown(&state, who, String::new(), Some(NO_NAME.into())).await;
    };
    match teams::add(&state.answers, &by, &name).await? {
        true => Ok(redirect(TEAMS)),
        false => {
            let says = format!("There is a team {name} already.");
            shown(&state, who, name, Some(says)).await
        }
    }
}

/// `POST /setup/teams/{id}`: its name and who is in it.
pub async fn change(
    state: web::Data<State>,
    who: Who,
    By(by): By,
    id: web::Path<i32>,
    fields: web::Form<Fields>,
) -> Result<HttpResponse, PageError> {
    let Some(name) = name_in(&fields) else {
        return shown(&state, who, String::new(), Some(NO_NAME.into())).await;
    };
    let members = fields.iter().filter(|(n, _)| n == "member");
    let members: Vec<i32> = members.filter_map(|(_, v)| v.parse().ok()).collect();
    if !teams::all(&state.answers).await?.iter().any(|t| t.id == *id) {
        return Err(PageError::NotFound("this team".into()));
    }
    match teams::set(&state.answers, &by, *id, &name, &members).await? {
        true => Ok(redirect(TEAMS)),
        false => {
            let says = format!("There is a team {name} already.");
            shown(&state, who, String::new(), Some(says)).await
        }
    }
}

/// `POST /setup/teams/{id}/remove`: what it owned is everybody's.
pub async fn remove(
    state: web::Data<State>,
    By(by): By,
    id: web::Path<i32>,
) -> Result<HttpResponse, PageError> {
    match teams::remove(&state.answers, &by, *id).await? {
        true => Ok(redirect(TEAMS)),
        false => Err(PageError::NotFound("this team".into())),
    }
}
