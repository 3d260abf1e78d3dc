//! Goals as a file that other programs read.

use crate::{Answers, Result};
use cadentis_core::goal::openslo::{Said, write};
use cadentis_store::site::Site;

/// Every goal of a site as OpenSLO, as it is promised now.
///
/// # Errors
/// When the database does not answer.
pub async fn written(answers: &Answers, site: &Site) -> Result<String> {
    let db = &answers.db;
    let (goals, journeys, locations) =
        futures::try_join!(db.goals(site.id), db.journeys(site.id), db.locations())?;
    let slug_of = |id: &i32| journeys.iter().find(|j| j.id == *id).map(|j| j.slug.clone());
    let place_of = |id: &i32| locations.iter().find(|l| l.id == *id).map(|l| l.slug.clone());
    let said = |goal: &cadentis_store::goal::Goal| {
        let says = goal.newest().definition.clone();
        Said {
            name: goal.name.clone(),
            journeys: says.journeys.iter().filter_map(slug_of).collect(),
            locations: says.locations.iter().filter_map(place_of).collect(),
            measure: says.measure,
            combine: says.combine,
            service_hours: says.service_hours,
            period: says.period,
            promised: says.promised,
        }
    };
    let said: Vec<Said> = goals.iter().map(said).collect();
    Ok(write(&site.slug, site.zone_name(), &said))
}
