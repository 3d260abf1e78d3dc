//! A new journey: a starter and its fields, where and how often, what that costs.

use super::script::see;
use super::{TWELVE_HOURS, html};
use crate::State;
use crate::api::scripts::foreign;
use crate::error::PageError;
use crate::frame::Frame;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_core::journey::starter::{STARTERS, Starter};
use cadentis_store::sites::{Location, NewJourney};
use std::collections::HashMap;

#[derive(Template)]
#[template(path = "start.html")]
struct Page {
    frame: Frame,
    wrong: Option<Wrong>,
    starters: Vec<StarterRow>,
    locations: Vec<LocationRow>,
    name: String,
    author: String,
    every: String,
    /// Mean seconds and bytes of the site's runs in the last day, from which a cost is reckoned.
    mean_s: String,
    mean_bytes: String,
}

struct Wrong {
    field: String,
    says: String,
}

struct StarterRow {
    slug: &'static str,
    title: &'static str,
    says: &'static str,
    chosen: bool,
    fields: Vec<FieldRow>,
}

struct FieldRow {
    name: String,
    label: &'static str,
    example: &'static str,
    value: String,
    wrong: Option<String>,
}

struct LocationRow {
    slug: String,
    name: String,
    kind: String,
    chosen: bool,
}

type Given = Vec<(String, String)>;

fn of<'a>(given: &'a Given, name: &str) -> Option<&'a str> {
    given.iter().find(|(n, _)| n == name).map(|(_, v)| v.trim()).filter(|v| !v.is_empty())
}

async fn show(
    state: &State,
    request: &HttpRequest,
    given: &Given,
    wrong: Option<Wrong>,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(state, request, "Journeys", TWELVE_HOURS).await?;
    let (locations, cost) = futures::try_join!(state.db.locations(), state.db.mean_run(frame.site.id, frame.now))?;
    let chosen = of(given, "starter").unwrap_or(STARTERS[0].slug).to_string();
    let starters = STARTERS.into_iter().map(|s| StarterRow {
        slug: s.slug,
        title: s.title,
        says: s.says,
        chosen: s.slug == chosen,
        fields: s
            .fields
            .iter()
            .map(|f| {
                let name = format!("{}.{}", s.slug, f.name);
                let wrong = wrong.as_ref().filter(|w| w.field == name).map(|w| w.says.clone());
                FieldRow {
                    value: of(given, &name).unwrap_or("").into(),
                    name,
                    label: f.label,
                    example: f.example,
                    wrong,
                }
            })
            .collect(),
    });
    let picked = |slug: &str| given.is_empty() || given.iter().any(|(n, v)| n == "location" && v == slug);
    let row = |l: Location| LocationRow { chosen: picked(&l.slug), slug: l.slug, name: l.name, kind: l.kind };
    let page = Page {
        starters: starters.collect(),
        locations: locations.into_iter().map(row).collect(),
        name: of(given, "name").unwrap_or("").into(),
        author: of(given, "author").unwrap_or("").into(),
        every: of(given, "every").unwrap_or("5").into(),
        mean_s: cost.map_or(String::new(), |(ms, _)| format!("{:.2}", ms / 1000.0)),
        mean_bytes: cost.map_or(String::new(), |(_, bytes)| format!("{bytes:.0}")),
        wrong,
        frame,
    };
    html(&page)
}

/// `GET /journeys/new`
pub async fn page(state: web::Data<State>, request: HttpRequest) -> Result<HttpResponse, PageError> {
    show(&state, &request, &Vec::new(), None).await
}

/// `POST /journeys/new`: the journey, paused, at its script page. A wrong field is told beside it.
pub async fn make(
    state: web::Data<State>,
    request: HttpRequest,
    given: web::Form<Given>,
) -> Result<HttpResponse, PageError> {
    if let Some(answer) = foreign(&request) {
        return Ok(answer);
    }
    let wrong = |field: &str, says: &str| Some(Wrong { field: field.into(), says: says.into() });
    let starter = of(&given, "starter").and_then(Starter::of);
    let Some(starter) = starter else {
        return show(&state, &request, &given, wrong("starter", "Choose a starter.")).await;
    };
    let name: String = of(&given, "name").unwrap_or("").chars().take(80).collect();
    let author: String = of(&given, "author").unwrap_or("").chars().take(80).collect();
    let every = of(&given, "every").and_then(|e| e.parse::<i32>().ok()).filter(|e| (1..=1_440).contains(e));
    let fields: HashMap<String, &str> = starter
        .fields
        .iter()
        .filter_map(|f| Some((f.name.into(), of(&given, &format!("{}.{}", starter.slug, f.name))?)))
        .collect();
    let journey = match starter.journey(&name, |field| fields.get(field).copied()) {
        Ok(journey) => journey,
        Err(e) => {
            let field = format!("{}.{}", starter.slug, e.field);
            return show(&state, &request, &given, wrong(&field, &format!("{e}."))).await;
        }
    };
    if name.is_empty() {
        return show(&state, &request, &given, wrong("name", "A journey needs a name.")).await;
    }
    if author.is_empty() {
        return show(&state, &request, &given, wrong("author", "Say who you are: versions have an author.")).await;
    }
    let Some(every) = every else {
        return show(&state, &request, &given, wrong("every", "Every 1 to 1440 minutes.")).await;
    };
    let all = state.db.locations().await?;
    let picked = |l: &&Location| given.iter().any(|(n, v)| n == "location" && *v == l.slug);
    let locations: Vec<i32> = all.iter().filter(picked).map(|l| l.id).collect();
    if locations.is_empty() {
        return show(&state, &request, &given, wrong("location", "Choose at least one location.")).await;
    }
    let site = state.db.sites().await?.into_iter().next().ok_or_else(|| PageError::NotFound("no site yet".into()))?;
    let slug = state.db.free_slug(site.id, &slug(&name)).await?;
    let script = journey.to_string();
    let new = NewJourney {
        site_id: site.id,
        slug: &slug,
        name: &name,
        script: &script,
        every_s: every * 60,
        apdex_t_s: site.apdex_t_s,
        author: &author,
        locations: &locations,
    };
    let id = state.db.add_journey(&new).await?;
    state.db.set_life(id, cadentis_store::scripts::Life::Paused).await?;
    Ok(see(&format!("/journeys/{slug}/script")))
}

/// A name as it stands in an address.
fn slug(name: &str) -> String {
    let mut slug = String::new();
    for c in name.to_lowercase().chars() {
        match c {
            c if c.is_alphanumeric() => slug.push(c),
            _ if !slug.ends_with('-') && !slug.is_empty() => slug.push('-'),
            _ => {}
        }
    }
    let slug: String = slug.trim_end_matches('-').chars().take(60).collect();
    // `new` is this page.
    if slug.is_empty() || slug == "new" { "journey".into() } else { slug }
}

#[cfg(test)]
mod tests {
    use super::slug;

    #[test]
    fn a_name_becomes_an_address() {
        assert_eq!(slug("Book a crossing"), "book-a-crossing");
        assert_eq!(slug("  Überfahrt: 08:15! "), "überfahrt-08-15");
        assert_eq!((slug("!?"), slug("New")), ("journey".to_string(), "journey".to_string()));
    }
}
