//! Views that people put together, and what their pieces can be about.

use crate::goals::{Card, of_window};
use crate::{Answers, Range, Result};
use cadentis_core::saved_view::Piece;
use cadentis_store::goal::Goal;
use cadentis_store::journey::Journey;
use cadentis_store::location::Location;
use cadentis_store::saved_query::SavedQuery;
use cadentis_store::saved_view::View;
use cadentis_store::site::Site;
use jiff::Timestamp;

/// The views of a site by name.
///
/// # Errors
/// When the database does not answer.
pub async fn list(answers: &Answers, site: &Site) -> Result<Vec<View>> {
    Ok(answers.db.saved_views(site.id).await?)
}

/// A view; nothing where the site has none of this id.
///
/// # Errors
/// When the database does not answer.
pub async fn one(answers: &Answers, site: &Site, id: i32) -> Result<Option<View>> {
    Ok(answers.db.saved_view(site.id, id).await?)
}

/// A view that was taken away and can be put back.
///
/// # Errors
/// When the database does not answer.
pub async fn removed(answers: &Answers, site: &Site, id: i32) -> Result<Option<View>> {
    Ok(answers.db.removed_view(site.id, id).await?)
}

/// The view that somebody begins with, by the site that it is of.
///
/// # Errors
/// When the database does not answer.
pub async fn begun_with(answers: &Answers, person: i32) -> Result<Option<(i32, i32)>> {
    Ok(answers.db.start_view(person).await?)
}

/// What pieces can be about.
pub struct Offered {
    /// Goals.
    pub goals: Vec<Goal>,
    /// Journeys.
    pub journeys: Vec<Journey>,
    /// Locations.
    pub locations: Vec<Location>,
    /// Queries that people keep.
    pub queries: Vec<SavedQuery>,
}

impl Offered {
    /// What a piece is called; nothing where what it is about is not there any more.
    pub fn title(&self, piece: &Piece) -> Option<String> {
        let journey = |id: &i32| self.journeys.iter().find(|j| j.id == *id).map(|j| j.name.clone());
        match piece {
            Piece::Text { .. } => Some("Text".into()),
            Piece::Query { query } => {
                let kept = self.queries.iter().find(|q| q.says == *query);
                Some(kept.map_or("Query".into(), |q| q.name.clone()))
            }
            Piece::Goal { goal } => {
                self.goals.iter().find(|g| g.id == *goal).map(|g| g.name.clone())
            }
            Piece::Journey { journey: id } => journey(id),
            Piece::LineUp { journey: id, location: None } => {
                Some(format!("Lanes of {}", journey(id)?))
            }
            Piece::LineUp { journey: id, location: Some(at) } => {
                let place = self.locations.iter().find(|l| l.id == *at)?;
                Some(format!("Lanes of {} from {}", journey(id)?, place.name))
            }
        }
    }
}

/// What the pieces of a site's views can be about.
///
/// # Errors
/// When the database does not answer.
pub async fn offered(answers: &Answers, site: &Site) -> Result<Offered> {
    let db = &answers.db;
    let (goals, journeys, locations, queries) = futures::try_join!(
        db.goals(site.id),
        db.journeys(site.id),
        db.locations(),
        db.saved_queries(site.id),
    )?;
    Ok(Offered { goals, journeys, locations, queries })
}

/// How one goal stands at the end of a range.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn goal(
    answers: &Answers,
    site: &Site,
    id: i32,
    range: &Range,
    now: Timestamp,
) -> Result<Option<Card>> {
    let db = &answers.db;
    let (goals, journeys) = futures::try_join!(db.goals(site.id), db.journeys(site.id))?;
    let Some(goal) = goals.into_iter().find(|g| g.id == id) else { return Ok(None) };
    let of = (range.stretch.to.min(now), None);
    Ok(Some(of_window(answers, site, of, now, goal, &journeys).await?))
}
