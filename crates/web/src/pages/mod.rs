//! One module per place.

mod bring;
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
mod setup;
mod start;
mod visitors;
mod weeks;

pub use visitors::own_parameters;

use crate::State;
use crate::error::PageError;
use actix_web::HttpResponse;
use actix_web::web::{self, ServiceConfig};
use askama::Template;
use cadentis_core::stats::Proof;
use cadentis_store::sites::Journey;

pub fn routes(config: &mut ServiceConfig) {
    config
        .route("/", web::get().to(now::page))
        .route("/journeys", web::get().to(journeys::page))
        .route("/journeys/new", web::get().to(start::page))
        .route("/journeys/new", web::post().to(start::make))
        .route("/journeys/export", web::get().to(bring::export_all))
        .route("/journeys/import", web::post().to(bring::import))
        .route("/journeys/record", web::get().to(record::page))
        .route("/journeys/{slug}", web::get().to(journey::page))
        .route("/journeys/{slug}/runs", web::get().to(runs::page))
        .route("/journeys/{slug}/newest", web::get().to(runs::newest))
        .route("/journeys/{slug}/places", web::get().to(journey::places_part))
        .route("/journeys/{slug}/weeks", web::get().to(weeks::part))
        .route("/journeys/{slug}/changes", web::get().to(journey::changes_part))
        .route("/journeys/{slug}/script", web::get().to(script::page))
        .route("/journeys/{slug}/script", web::post().to(script::save))
        .route("/journeys/{slug}/delete", web::post().to(script::delete))
        .route("/journeys/{slug}/life", web::post().to(script::live))
        .route("/api/pace", web::get().to(plays::means))
        .route("/journeys/{slug}/plays", web::post().to(script::plays))
        .route("/journeys/{slug}/about", web::post().to(script::about))
        .route("/journeys/{slug}/duplicate", web::post().to(script::duplicate))
        .route("/journeys/{slug}/export", web::get().to(script::export))
        .route("/locations/{slug}", web::get().to(location::page))
        .route("/setup", web::get().to(setup::page))
        .route("/setup/secrets", web::post().to(setup::secret))
        .route("/setup/parts", web::post().to(setup::parts))
        .route("/setup/locations", web::post().to(setup::location))
        .route("/setup/place", web::post().to(setup::move_location))
        .route("/setup/site", web::post().to(setup::site))
        .route("/setup/token", web::post().to(setup::token))
        .route("/har", web::get().to(har::page))
        .route("/har", web::post().to(har::read))
        .route("/words", web::get().to(script::words))
        .route("/runs/{id}", web::get().to(run::page))
        .route("/runs/{id}/accept", web::post().to(run::accept))
        .route("/runs/{id}/pictures/{step}/{nth}", web::get().to(run::picture))
        .route("/{what:runs|trials}/{id}/har", web::get().to(run::har))
        .route("/{what:runs|trials}/{id}/log", web::get().to(run::log))
        .route("/trials/{id}", web::get().to(run::trial))
        .configure(visitors::routes)
        .route("/goals", web::get().to(goals::page));
}

fn html(page: &impl Template) -> Result<HttpResponse, PageError> {
    Ok(HttpResponse::Ok().content_type("text/html; charset=utf-8").body(page.render()?))
}

/// The journey of the site at this address.
async fn journey_of(state: &State, site_id: i32, slug: &str) -> Result<Journey, PageError> {
    state.db.journey(site_id, slug).await?.ok_or_else(|| PageError::NotFound(format!("the journey {slug}")))
}

/// A headline number with its tone and what it is.
pub struct Figure {
    pub value: String,
    pub label: String,
    pub tone: &'static str,
}

impl Figure {
    pub fn new(value: String, label: String, tone: &'static str) -> Figure {
        Figure { value, label, tone }
    }
}

/// How one number was come by, under its name.
pub struct Working {
    pub title: String,
    pub lines: Vec<String>,
}

impl Working {
    pub fn new(title: impl Into<String>, lines: Vec<String>) -> Working {
        Working { title: title.into(), lines }
    }

    /// The proof of a number; each line begins like a sentence, but p75 stays p75.
    pub fn of(title: impl Into<String>, proof: &Proof) -> Working {
        let lines = proof.lines().into_iter().map(|line| {
            let mut letters = line.chars();
            match (letters.next(), letters.clone().next()) {
                (Some(first), Some(second)) if second.is_alphabetic() => first.to_uppercase().chain(letters).collect(),
                _ => line,
            }
        });
        Working::new(title, lines.collect())
    }
}

/// How the stretch of a page begins when the address does not say.
pub const SIX_HOURS: i64 = 6 * 3600;
pub const TWELVE_HOURS: i64 = 12 * 3600;

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_working_reads_like_sentences_and_leaves_names_of_percentiles_alone() {
        let proof =
            Proof::new("availability = good / counted", "3 / 4 = 75 %", 4).leaving_out(1, "ours").noting("p75 is said");
        let working = Working::of("Availability", &proof);
        assert_eq!(
            working.lines,
            ["Availability = good / counted.", "3 / 4 = 75 %.", "Samples: 4.", "Left out: 1 (ours).", "p75 is said."]
        );
    }
}
