//! The first page of an empty installation: which site is looked at.

use crate::State;
use crate::access::By;
use crate::error::PageError;
use crate::respond::{html, redirect};
use crate::words::domains_of;
use actix_web::{HttpResponse, web};
use askama::Template;
use cadentis_answers::changes;
use cadentis_answers::sites;
use cadentis_core::calendar;
use cadentis_core::text;
use serde::Deserialize;

#[derive(Template)]
#[template(path = "first_site.html")]
struct Page {
    wrong: Option<String>,
    typed: Typed,
}

#[derive(Deserialize, Default)]
pub struct Typed {
    name: String,
    domains: String,
    zone: String,
}

/// `GET /setup/first-site`: where every page of an empty installation leads.
pub async fn page(state: web::Data<State>) -> Result<HttpResponse, PageError> {
    if sites::first(&state.answers).await?.is_some() {
        return Ok(redirect("/setup"));
    }
    html(&Page { wrong: None, typed: Typed { zone: "UTC".into(), ..Typed::default() } })
}

/// `POST /setup/first-site`
pub async fn make(
    state: web::Data<State>,
    By(by): By,
    typed: web::Form<Typed>,
) -> Result<HttpResponse, PageError> {
    if sites::first(&state.answers).await?.is_some() {
        return Err(PageError::Refused("There is a site already; it stays as it is.".into()));
    }
    let typed = typed.into_inner();
    let name = text::clean(typed.name.trim(), 80, None);
    let domains = match (calendar::zone(&typed.zone), domains_of(&typed.domains)) {
        _ if name.is_empty() => Err("A site has a name.".into()),
        (Err(e), _) => Err(format!("{e}.")),
        (Ok(_), domains) => domains,
    };
    let domains = match domains {
        Ok(domains) => domains,
        Err(says) => return html(&Page { wrong: Some(says), typed }),
    };
    let answers = &state.answers;
    changes::installation::add_site(answers, &by, &name, &typed.zone, &domains).await?;
    Ok(redirect("/setup"))
}
