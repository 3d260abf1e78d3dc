//! All sites: how each does, and registering, changing and archiving them.

use crate::State;
use crate::access::{By, Who};
use crate::around::Around;
use crate::draw::Axis;
use crate::error::{FIRST_SITE, PageError};
use crate::format;
use crate::frame::{self, TWO_WEEKS_S, WIDTH, tone};
use crate::respond::{SIX_HOURS, html, html_with, redirect};
use crate::view::{Choice, Window};
use crate::words::{domains_of, when};
use actix_web::http::StatusCode;
use actix_web::{HttpResponse, web};
use askama::Template;
use cadentis_answers::changes::installation;
use cadentis_answers::kept::Site;
use cadentis_answers::saved_views;
use cadentis_answers::sites::{self, Doing};
use cadentis_answers::teams::{self, Team};
use cadentis_core::calendar::stretch::length_text;
use cadentis_core::calendar::{self, Stretch};
use cadentis_core::goal::Standing;
use cadentis_core::site::check_slug;
use cadentis_core::text;
use jiff::Timestamp;
use jiff::tz::TimeZone;
use serde::Deserialize;

#[derive(Template)]
#[template(path = "sites.html")]
struct All {
    around: Around,
    rows: Vec<Row>,
    /// What all of them come to.
    says: String,
}

struct Row {
    link: String,
    name: String,
    tone: &'static str,
    says: String,
    more: String,
    silhouette: String,
    troubles: Vec<Window>,
    availability: String,
    left: String,
    left_tone: &'static str,
}

fn row(doing: &Doing, shown: Stretch) -> Row {
    let site = &doing.site;
    let axis = Axis { stretch: shown, left: 0.0, width: WIDTH };
    let (tone, says) = match doing.needs.first() {
        Some(worst) => (tone(worst.finding.state), worst.finding.says.clone()),
        None if !doing.is_measured => ("nodata", "Nothing is measured yet.".into()),
        None => ("within", "Nothing needs you.".into()),
    };
    let more = match doing.needs.len() {
        0 | 1 => String::new(),
        2 => "and one thing more".into(),
        n => format!("and {} things more", n - 1),
    };
    let availability = doing.budget.as_ref().map_or(String::new(), |b| {
        let share = format::percent(b.score.share(), 2, Some(b.promised));
        format!("{share} of {:.2} %", b.promised * 100.0)
    });
    let left = doing.budget.as_ref().map(|b| (length_text(b.left_ms()), b.left_share()));
    Row {
        link: frame::base(site),
        name: site.name.clone(),
        tone,
        says,
        more,
        silhouette: frame::silhouette(&doing.strip.page_views, shown, &axis),
        troubles: frame::drawn_troubles(&doing.strip.troubled, &site.zone, &axis),
        availability,
        left: left.as_ref().map_or(String::new(), |(left, _)| format!("error budget left: {left}")),
        left_tone: left.map_or("", |(_, share)| frame::tone(Standing::of_error_budget(share))),
    }
}

#[derive(Deserialize)]
pub struct Wanted {
    all: Option<String>,
}

/// `GET /`: the view that whoever asks begins with; else, and with `all`, every site that they may see; the only one stands for
/// all.
pub async fn list(
    state: web::Data<State>,
    who: Who,
    wanted: web::Query<Wanted>,
) -> Result<HttpResponse, PageError> {
    let names = &who.signed.sites;
    if wanted.all.is_none()
        && let Some((site, view)) =
            saved_views::begun_with(&state.answers, who.signed.person.id).await?
        && let Some(site) = names.iter().find(|s| s.id == site)
    {
        return Ok(redirect(&format!("/{}/views/{view}", site.slug)));
    }
    match names.as_slice() {
        [only] => return Ok(redirect(&format!("/{}", only.slug))),
        [] if who.administers() => return Ok(redirect(FIRST_SITE)),
        _ => {}
    }
    let seen: Vec<i32> = names.iter().map(|s| s.id).collect();
    let mut all = sites::all(&state.answers).await?;
    all.retain(|site| seen.contains(&site.id));
    let now = Timestamp::now();
    let shown = Stretch::last(TWO_WEEKS_S, now);
    let doing = sites::doing(&state.answers, all, SIX_HOURS, shown, now).await?;
    let troubled = doing.iter().filter(|d| !d.needs.is_empty()).count();
    let says = match (doing.len(), troubled) {
        (0, _) => "You are a member of no site yet: an administrator gives rights.".to_string(),
        (_, 0) => "No site needs you.".into(),
        (all, 1) => format!("One of {all} sites needs you."),
        (all, n) => format!("{n} of {all} sites need you."),
    };
    let mut rows: Vec<(usize, Row)> =
        doing.iter().map(|d| (d.needs.len(), row(d, shown))).collect();
    // Whoever needs somebody stands first; else they keep their order.
    rows.sort_by_key(|(needs, _)| *needs == 0);
    let rows = rows.into_iter().map(|(_, row)| row).collect();
    html(&All { around: Around::new(who, "/"), rows, says })
}

#[derive(Template)]
#[template(path = "register.html")]
struct Register {
    around: Around,
    sites: Vec<Kept>,
    wrong: Option<String>,
    typed: Typed,
}

/// A site as its form shows it.
struct Kept {
    id: i32,
    /// Where it is found now.
    address: String,
    name: String,
    slug: String,
    zone: String,
    domains: String,
    is_archived: bool,
    archived: String,
    /// The teams that its new journeys could belong to.
    teams: Vec<Choice>,
}

#[derive(Deserialize, Default)]
pub struct Typed {
    name: String,
    domains: String,
    zone: String,
    #[serde(default)]
    slug: String,
    /// The id of a team; empty for none.
    #[serde(default)]
    team: String,
}

fn kept(site: Site, all: &[Team]) -> Kept {
    let mut teams = vec![Choice::new("", "nobody’s", site.team_id.is_none())];
    teams.extend(all.iter().map(|t| Choice::new(t.id, &t.name, site.team_id == Some(t.id))));
    Kept {
        teams,
        id: site.id,
        zone: site.zone_name().into(),
        domains: site.domains.join("\n"),
        is_archived: site.archived_at.is_some(),
        archived: site.archived_at.map_or(String::new(), |at| when(at, &TimeZone::UTC)),
        address: site.slug.clone(),
        name: site.name,
        slug: site.slug,
    }
}

/// The page; `of` is the site whose form was filled in with what was typed.
async fn shown(
    state: &State,
    who: Who,
    typed: Typed,
    of: Option<i32>,
    wrong: Option<String>,
) -> Result<HttpResponse, PageError> {
    let teams = teams::all(&state.answers).await?;
    let all = sites::all(&state.answers).await?;
    let mut all: Vec<Kept> = all.into_iter().map(|site| kept(site, &teams)).collect();
    let status = if wrong.is_some() { StatusCode::UNPROCESSABLE_ENTITY } else { StatusCode::OK };
    let typed = match all.iter_mut().find(|s| Some(s.id) == of) {
        None => typed,
        Some(site) => {
            let Typed { name, domains, zone, slug, team } = typed;
            site.teams.iter_mut().for_each(|t| t.chosen = t.value == team);
            (site.name, site.domains, site.zone, site.slug) = (name, domains, zone, slug);
            Typed { zone: "UTC".into(), ..Typed::default() }
        }
    };
    let around = Around::new(who, FIRST_SITE);
    html_with(status, &Register { around, sites: all, wrong, typed })
}

/// `GET /setup/sites`: also where an administrator of an empty installation is led.
pub async fn page(state: web::Data<State>, who: Who) -> Result<HttpResponse, PageError> {
    let typed = Typed { zone: "UTC".into(), ..Typed::default() };
    shown(&state, who, typed, None, None).await
}

/// Name, zone and domains of a site as they were typed, or what is wrong with them.
fn read(typed: &Typed) -> Result<(String, TimeZone, Vec<String>), String> {
    let name = text::clean(typed.name.trim(), 80, None);
    if name.is_empty() {
        return Err("A site has a name.".into());
    }
    let zone = calendar::zone(typed.zone.trim()).map_err(|e| format!("{e}."))?;
    Ok((name, zone, domains_of(&typed.domains)?))
}

/// `POST /setup/sites`: a new site; what to do next is told on its first page.
pub async fn add(
    state: web::Data<State>,
    who: Who,
    By(by): By,
    typed: web::Form<Typed>,
) -> Result<HttpResponse, PageError> {
    let typed = typed.into_inner();
    let (name, zone, domains) = match read(&typed) {
        Ok(read) => read,
        Err(says) => return shown(&state, who, typed, None, Some(says)).await,
    };
    let zone = zone.iana_name().unwrap_or("UTC");
    match installation::add_site(&state.answers, &by, &name, zone, &domains).await? {
        Some(site) => Ok(redirect(&format!("{}/start", frame::base(&site)))),
        None => Ok(redirect(FIRST_SITE)),
    }
}

async fn site_of(state: &State, id: i32) -> Result<Site, PageError> {
    let found = sites::all(&state.answers).await?.into_iter().find(|s| s.id == id);
    found.ok_or_else(|| PageError::NotFound("this site".into()))
}

/// `POST /setup/sites/{id}`: another name, in words or in addresses, another zone, other domains.
pub async fn change(
    state: web::Data<State>,
    who: Who,
    By(by): By,
    id: web::Path<i32>,
    typed: web::Form<Typed>,
) -> Result<HttpResponse, PageError> {
    let (site, typed) = (site_of(&state, *id).await?, typed.into_inner());
    let slug = typed.slug.trim().to_string();
    let read = match check_slug(&slug) {
        // A name that it has already stays fine whatever becomes of the rule.
        Err(e) if slug != site.slug => Err(e.to_string()),
        _ => read(&typed),
    };
    let says = match read {
        Err(says) => says,
        Ok((name, zone, domains)) => {
            let team_id = typed.team.parse().ok();
            let (id, changed) = (site.id, Site { name, zone, domains, slug, team_id, ..site });
            match installation::rename_site(&state.answers, &by, &changed).await? {
                true => return Ok(redirect(FIRST_SITE)),
                false => {
                    let says = format!("Another site is at /{} already.", changed.slug);
                    return shown(&state, who, typed, Some(id), Some(says)).await;
                }
            }
        }
    };
    shown(&state, who, typed, Some(site.id), Some(says)).await
}

#[derive(Deserialize)]
pub struct Archived {
    #[serde(default)]
    archived: Option<String>,
}

/// `POST /setup/sites/{id}/archived`: nothing is played or taken any more, or again.
pub async fn archive(
    state: web::Data<State>,
    By(by): By,
    id: web::Path<i32>,
    typed: web::Form<Archived>,
) -> Result<HttpResponse, PageError> {
    let site = site_of(&state, *id).await?;
    installation::set_archived(&state.answers, &by, &site, typed.archived.is_some()).await?;
    Ok(redirect(FIRST_SITE))
}
