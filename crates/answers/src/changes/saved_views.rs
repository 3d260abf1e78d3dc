//! Saved views: put together, changed, taken away, begun with.

use super::{Author, cut, may, noted};
use crate::{Answers, Result};
use cadentis_core::saved_view::{Piece, SavedView, Wrong};
use cadentis_store::saved_view::{KeptView, View};
use cadentis_store::site::Site;
use std::fmt;

/// A name has at most so many characters.
pub const LONGEST_NAME: usize = 80;
/// A site keeps so many views at most.
pub const MOST: usize = 200;

/// What is to be kept.
pub struct Wanted {
    /// The view that is changed and its version as it was shown, or a new one.
    pub known: Option<(i32, i32)>,
    /// Its name.
    pub name: String,
    /// What it is made of.
    pub definition: SavedView,
    /// The team that it is to belong to.
    pub team: Option<i32>,
}

/// Why a view was not kept.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum NotKept {
    /// Its name is none, or too long.
    Name,
    /// Another one has its name.
    Taken,
    /// Somebody changed it in the meantime, or took it away.
    Overtaken,
    /// The site has as many as it may have.
    TooMany,
    /// There is no such team.
    Team,
    /// What it is made of is wrong.
    Wrong(Wrong),
}

impl NotKept {
    /// The field that is wrong; `form` is none of them.
    pub fn field(&self) -> &'static str {
        match self {
            NotKept::Name | NotKept::Taken => "name",
            NotKept::Overtaken | NotKept::TooMany => "form",
            NotKept::Team => "team",
            NotKept::Wrong(Wrong::Span) => "span",
            NotKept::Wrong(_) => "pieces",
        }
    }
}

impl fmt::Display for NotKept {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            NotKept::Name => write!(f, "a name has 1 to {LONGEST_NAME} characters"),
            NotKept::Taken => write!(f, "another view has this name"),
            NotKept::Overtaken => write!(
                f,
                "somebody changed this view while you did, or took it away: open it in another window, see what is different, and keep yours from there"
            ),
            NotKept::TooMany => write!(f, "a site keeps {MOST} views: take one away first"),
            NotKept::Team => write!(f, "choose one of the teams"),
            NotKept::Wrong(wrong) => wrong.fmt(f),
        }
    }
}

/// That every piece is about something that there is.
async fn missing(answers: &Answers, site: &Site, view: &SavedView) -> Result<Option<Wrong>> {
    let db = &answers.db;
    let (goals, journeys, locations) =
        futures::try_join!(db.goals(site.id), db.journeys(site.id), db.locations())?;
    let is_there = |piece: &Piece| match piece {
        Piece::Goal { goal } => goals.iter().any(|g| g.id == *goal),
        Piece::Journey { journey } => journeys.iter().any(|j| j.id == *journey),
        Piece::LineUp { journey, location } => {
            let known = |id: &i32| locations.iter().any(|l| l.id == *id);
            journeys.iter().any(|j| j.id == *journey) && location.as_ref().is_none_or(known)
        }
        Piece::Text { .. } | Piece::Query { .. } => true,
    };
    let nth = view.pieces.iter().position(|piece| !is_there(piece));
    Ok(nth.map(|nth| Wrong::Piece(nth, "what it shows is not there any more: drop it".into())))
}

/// Keeps a view, a new one or one that is changed.
///
/// # Errors
/// When it belongs, or is to belong, to a team that whoever it is is not in, or the database does not answer.
pub async fn save(
    answers: &Answers,
    by: &Author,
    site: &Site,
    wanted: Wanted,
) -> Result<std::result::Result<i32, NotKept>> {
    let name = cut(&wanted.name, LONGEST_NAME + 1);
    if name.is_empty() || name.chars().count() > LONGEST_NAME {
        return Ok(Err(NotKept::Name));
    }
    let definition = wanted.definition.printed();
    if let Err(wrong) = definition.check() {
        return Ok(Err(NotKept::Wrong(wrong)));
    }
    if let Some(wrong) = missing(answers, site, &definition).await? {
        return Ok(Err(NotKept::Wrong(wrong)));
    }
    if let Some(team) = wanted.team {
        if !answers.db.teams().await?.iter().any(|t| t.id == team) {
            return Ok(Err(NotKept::Team));
        }
        may(by, wanted.team, &name, "its new team")?;
    }
    let one = answers.one().await?;
    match wanted.known {
        Some((id, _)) => match one.db.saved_view(site.id, id).await? {
            Some(view) => may_change(by, &view)?,
            None => return Ok(Err(NotKept::Overtaken)),
        },
        None if one.db.saved_views(site.id).await?.len() >= MOST => {
            return Ok(Err(NotKept::TooMany));
        }
        None => {}
    }
    let says = (name.as_str(), &definition, wanted.team);
    Ok(match one.db.put_saved_view(site.id, wanted.known, says, by.name()).await? {
        KeptView::Taken => Err(NotKept::Taken),
        KeptView::Overtaken => Err(NotKept::Overtaken),
        KeptView::Kept(id) => {
            let done = if wanted.known.is_some() { "changed the view" } else { "added the view" };
            noted(one, by, done, format!("{name}: {} pieces", definition.pieces.len())).await?;
            Ok(id)
        }
    })
}

fn may_change(by: &Author, view: &View) -> Result<()> {
    let team = view.team.as_ref();
    may(by, team.map(|(id, _)| *id), &view.name, team.map_or("", |(_, name)| name))
}

/// Takes a view away; whether there was one.
///
/// # Errors
/// When it belongs to a team that whoever it is is not in, or the database does not answer.
pub async fn remove(answers: &Answers, by: &Author, site: &Site, id: i32) -> Result<bool> {
    let one = answers.one().await?;
    let Some(view) = one.db.saved_view(site.id, id).await? else { return Ok(false) };
    may_change(by, &view)?;
    one.db.remove_saved_view(site.id, id).await?;
    noted(one, by, "took away the view", view.name).await?;
    Ok(true)
}

/// Puts a view back that was taken away; nothing where there is none, or another has its name by now.
///
/// # Errors
/// When it belongs to a team that whoever it is is not in, or the database does not answer.
pub async fn restore(
    answers: &Answers,
    by: &Author,
    site: &Site,
    id: i32,
) -> Result<std::result::Result<(), NotKept>> {
    let one = answers.one().await?;
    let Some(view) = one.db.removed_view(site.id, id).await? else {
        return Ok(Err(NotKept::Overtaken));
    };
    may_change(by, &view)?;
    if one.db.saved_views(site.id).await?.len() >= MOST {
        return Ok(Err(NotKept::TooMany));
    }
    if !one.db.restore_saved_view(site.id, id).await? {
        return Ok(Err(NotKept::Taken));
    }
    noted(one, by, "put back the view", view.name).await?;
    Ok(Ok(()))
}

/// Begins with a view from now on, or with none.
///
/// # Errors
/// When the database does not answer.
pub async fn begin_with(
    answers: &Answers,
    by: &Author,
    person: i32,
    view: Option<&View>,
) -> Result<()> {
    let one = answers.one().await?;
    one.db.set_start_view(person, view.map(|v| v.id)).await?;
    match view {
        Some(view) => noted(one, by, "begins with the view", &view.name).await,
        None => noted(one, by, "begins with no view any more", "").await,
    }
}
