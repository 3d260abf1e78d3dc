//! What groups of the provider give.

use crate::State;
use crate::access::{By, Who};
use crate::around::Around;
use crate::error::PageError;
use crate::respond::{html_with, redirect};
use crate::view::Choice;
use actix_web::http::StatusCode;
use actix_web::{HttpResponse, web};
use askama::Template;
use cadentis_answers::kept::Site;
use cadentis_answers::provider;
use cadentis_answers::teams::{self, Team};
use cadentis_answers::{people, sites};
use cadentis_core::access::Role;
use cadentis_core::groups::{Grant, Rule};
use cadentis_core::text;
use serde::Deserialize;

/// A name of a group has at most so many characters.
const LONGEST_GROUP: usize = 200;
const GROUPS: &str = "/setup/groups";

#[derive(Template)]
#[template(path = "groups.html")]
struct Page {
    around: Around,
    /// What the provider is called; without one nobody comes with groups.
    provider: Option<String>,
    /// The group of administrators that stands in the settings.
    settled: Option<String>,
    rules: Vec<Row>,
    /// Whatever a group may give.
    grants: Vec<Choice>,
    /// Groups that somebody came with.
    seen: Vec<String>,
    group: String,
    wrong: Option<String>,
}

struct Row {
    id: i32,
    group: String,
    gives: String,
}

/// Whatever a group may give, with its name in a form and in words.
fn grants(sites: &[Site], teams: &[Team]) -> Vec<(Grant, String, String)> {
    let mut all = vec![
        (Grant::Administrator, "administrator".to_string(), "administrator".to_string()),
        (Grant::People, "people".into(), "sees single visits and persons".into()),
    ];
    for site in sites {
        all.extend(Role::ALL.map(|role| {
            let value = format!("{}.{}", role.word(), site.id);
            (Grant::Role(site.id, role), value, format!("{} of {}", role.word(), site.name))
        }));
    }
    let team = |t: &Team| {
        (Grant::Team(t.id), format!("team.{}", t.id), format!("member of the team {}", t.name))
    };
    all.extend(teams.iter().map(team));
    all
}

#[derive(Default, Deserialize)]
pub struct Typed {
    #[serde(default)]
    group: String,
    #[serde(default)]
    gives: String,
}

async fn shown(
    state: &State,
    who: Who,
    typed: Typed,
    wrong: Option<String>,
) -> Result<HttpResponse, PageError> {
    let answers = &state.answers;
    let grants = grants(&sites::all(answers).await?, &teams::all(answers).await?);
    let gives = |grant: Grant| {
        let found = grants.iter().find(|(g, _, _)| *g == grant);
        found.map_or_else(String::new, |(_, _, says)| says.clone())
    };
    let kept = provider::rules(answers).await?;
    let row =
        |k: provider::KeptRule| Row { id: k.id, gives: gives(k.rule.grant), group: k.rule.group };
    let mut seen: Vec<String> =
        people::all(answers).await?.into_iter().flat_map(|p| p.groups).collect();
    seen.sort_unstable();
    seen.dedup();
    let status = if wrong.is_some() { StatusCode::UNPROCESSABLE_ENTITY } else { StatusCode::OK };
    html_with(
        status,
        &Page {
            around: Around::new(who, GROUPS),
            provider: answers.sign_on().name().map(str::to_string),
            settled: answers.sign_on().administrators().map(str::to_string),
            rules: kept.into_iter().map(row).collect(),
            grants: grants
                .iter()
                .map(|(_, value, says)| Choice::new(value, says, *value == typed.gives))
                .collect(),
            seen,
            group: typed.group,
            wrong,
        },
    )
}

/// `GET /setup/groups`
pub async fn page(state: web::Data<State>, who: Who) -> Result<HttpResponse, PageError> {
    shown(&state, who, Typed::default(), None).await
}

/// `POST /setup/groups`: a group gives something from the next signing in on.
pub async fn add(
    state: web::Data<State>,
    who: Who,
    By(by): By,
    typed: web::Form<Typed>,
) -> Result<HttpResponse, PageError> {
    let typed = typed.into_inner();
    let group = text::clean(typed.group.trim(), LONGEST_GROUP, None);
    let grants = grants(&sites::all(&state.answers).await?, &teams::all(&state.answers).await?);
    let grant = grants.iter().find(|(_, value, _)| *value == typed.gives).map(|(g, _, _)| *g);
    let (Some(grant), false) = (grant, group.is_empty()) else {
        let says = "A rule has the name of a group, and something that it gives.";
        return shown(&state, who, typed, Some(says.into())).await;
    };
    match provider::add_rule(&state.answers, &by, &Rule { group, grant }).await? {
        true => Ok(redirect(GROUPS)),
        false => {
            let says = "The group gives this already.";
            shown(&state, who, typed, Some(says.into())).await
        }
    }
}

/// `POST /setup/groups/{id}/remove`
pub async fn remove(
    state: web::Data<State>,
    By(by): By,
    id: web::Path<i32>,
) -> Result<HttpResponse, PageError> {
    match provider::remove_rule(&state.answers, &by, *id).await? {
        true => Ok(redirect(GROUPS)),
        false => Err(PageError::NotFound("this rule".into())),
    }
}
