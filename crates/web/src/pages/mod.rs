//! One module per place.

pub mod first_site;
mod goals;
mod har;
mod journey;
mod journeys;
mod location;
mod now;
mod plays;
mod record;
mod requests;
mod run;
mod runs;
mod script;
mod script_files;
mod setup;
mod start;
pub mod visitors;
mod weeks;

pub use visitors::own_parameters;

use crate::State;
use crate::error::PageError;
use crate::format;
use crate::frame::Frame;
use actix_web::HttpResponse;
use actix_web::http::header::{HeaderName, HeaderValue};
use askama::Template;
use cadentis_answers::kept::{Journey, Location};
use cadentis_answers::sites;
use cadentis_core::finding::Finding;

crate::routes::routes! {
    get "/" => now::page,
    get "/journeys" => journeys::page,
    get "/journeys/new" => start::page,
    post "/journeys/new" => start::make,
    get "/journeys/export" => script_files::export_all,
    post "/journeys/import" => script_files::import,
    get "/journeys/record" => record::page,
    get "/journeys/{slug}" => journey::page,
    get "/journeys/{slug}/runs" => runs::page,
    get "/journeys/{slug}/newest" => runs::newest,
    get "/journeys/{slug}/places" => journey::places_part,
    get "/journeys/{slug}/weeks" => weeks::part,
    get "/journeys/{slug}/changes" => journey::changes_part,
    get "/journeys/{slug}/script" => script::page,
    post "/journeys/{slug}/script" => script::save,
    post "/journeys/{slug}/delete" => script::delete,
    post "/journeys/{slug}/status" => script::set_status,
    get "/api/pace" => plays::schedule,
    post "/journeys/{slug}/plays" => script::plays,
    post "/journeys/{slug}/about" => script::about,
    post "/journeys/{slug}/duplicate" => script::duplicate,
    get "/journeys/{slug}/export" => script::export,
    get "/locations/{slug}" => location::page,
    get "/setup/first-site" => first_site::page,
    post "/setup/first-site" => first_site::make,
    get "/setup" => setup::page,
    post "/setup/secrets" => setup::secret,
    post "/setup/parts" => setup::parts,
    post "/setup/locations" => setup::location,
    post "/setup/place" => setup::move_location,
    post "/setup/site" => setup::site,
    post "/setup/token" => setup::token,
    get "/har" => har::page,
    post "/har" => har::read,
    get "/script-reference" => script::reference,
    get "/runs/{id}" => run::page,
    post "/runs/{id}/accept" => run::accept,
    post "/runs/{id}/repair" => run::repair,
    get "/runs/{id}/pictures/{step}/{nth}" => run::picture,
    get "/{what:runs|trials}/{id}/har" => run::har,
    get "/{what:runs|trials}/{id}/log" => run::log,
    get "/trials/{id}" => run::trial,
    get "/goals" => goals::page,
    post "/goals" => goals::make,
}

/// Leads to another page after something was changed.
fn redirect(address: &str) -> HttpResponse {
    HttpResponse::SeeOther().insert_header(("location", address)).finish()
}

/// The answer with a header that goes before what every page says.
fn with_header(mut page: HttpResponse, name: HeaderName, value: &str) -> HttpResponse {
    if let Ok(value) = HeaderValue::from_str(value) {
        page.headers_mut().insert(name, value);
    }
    page
}

fn html(page: &impl Template) -> Result<HttpResponse, PageError> {
    Ok(HttpResponse::Ok().content_type("text/html; charset=utf-8").body(page.render()?))
}

/// The journey of the site at this address.
async fn journey_of(state: &State, site_id: i32, slug: &str) -> Result<Journey, PageError> {
    let journey = sites::journey(&state.answers, site_id, slug).await?;
    journey.ok_or_else(|| PageError::NotFound(format!("the journey {slug}")))
}

/// Since when what is the matter, or from when to when it was.
fn extent_words(frame: &Frame, finding: &Finding) -> String {
    let clock = if frame.stretch.seconds() > 86_400 { format::day_clock } else { format::clock };
    let at = |moment| clock(moment, &frame.site.zone);
    match (finding.since, finding.until) {
        (Some(since), None) => format!("Since {}.", at(since)),
        (Some(since), Some(until)) => format!("From {} to {}.", at(since), at(until)),
        (None, Some(until)) => format!("Until {}.", at(until)),
        (None, None) => "Throughout this stretch.".into(),
    }
}

/// Something that can be chosen, by its name in addresses.
pub struct Named {
    pub slug: String,
    pub name: String,
}

impl Named {
    fn location(l: Location) -> Named {
        Named { slug: l.slug, name: l.name }
    }
}

/// How the stretch of a page begins when the address does not say.
pub const SIX_HOURS: i64 = 6 * 3600;
pub const TWELVE_HOURS: i64 = 12 * 3600;
