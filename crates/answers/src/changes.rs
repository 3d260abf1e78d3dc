//! Whatever is changed by somebody, with who it was. (The first of them; others still go to the store by themselves.)

use crate::{Answers, Result};
use cadentis_core::text::slug;
use cadentis_store::scripts::Status;
use cadentis_store::sites::{NewJourney, PlaceAndPace, Site};

/// Names in addresses that stand for pages beside the journeys.
const PAGES: [&str; 4] = ["new", "record", "import", "export"];

/// What a journey of this name is called in addresses, if nobody has that already.
pub fn slug_of_journey(name: &str) -> String {
    match slug(name) {
        slug if slug.is_empty() || PAGES.contains(&slug.as_str()) => "journey".into(),
        slug => slug,
    }
}

/// Adds a journey, paused, whose script can be played. What it is called in addresses.
///
/// # Errors
/// When the database does not answer.
pub async fn add_journey(
    answers: &Answers,
    site: &Site,
    author: &str,
    name: &str,
    script: &str,
    plays: PlaceAndPace<'_>,
) -> Result<String> {
    let slug = answers.db.free_slug(site.id, &slug_of_journey(name)).await?;
    let new = NewJourney {
        site_id: site.id,
        slug: &slug,
        name,
        script,
        apdex_t_s: site.apdex_t_s,
        author,
        plays,
        status: Status::Paused,
    };
    answers.db.add_journey(&new).await?;
    Ok(slug)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_journey_is_never_called_as_a_page_beside_it_is() {
        assert_eq!(slug_of_journey("Book a crossing"), "book-a-crossing");
        for name in ["!?", "New", "record", "  Import "] {
            assert_eq!(slug_of_journey(name), "journey", "{name}");
        }
    }
}
