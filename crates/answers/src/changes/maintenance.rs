//! Maintenance: planned, changed, ended, made longer, called off; what has been stays as it was.

use super::{Author, cut, noted, noted_change, told};
use crate::people::{Token, hashed};
use crate::{Answers, Result};
use cadentis_core::calendar::maintenance::{MOST_WINDOWS, NoMaintenance};
use cadentis_core::calendar::window::WindowError;
use cadentis_core::calendar::{Maintenance, Stretch, Window};
use cadentis_store::maintenance::Planned;
use cadentis_store::script_version::Status;
use cadentis_store::site::Site;
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};

/// More of a window than its name is told in at most so many characters.
pub const LONGEST_DETAIL: usize = 500;
/// A window has a name of at most so many characters.
pub const LONGEST_NAME: usize = 80;
/// What goes on is made longer by so many minutes at most at once.
pub const LONGEST_MINUTES: i64 = 24 * 60;

/// Why something was not planned.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[expect(missing_docs, reason = "each says what it is when it is told")]
pub enum NotPlanned {
    #[error(transparent)]
    Window(#[from] WindowError),
    #[error(transparent)]
    Maintenance(#[from] NoMaintenance),
    #[error("all of it is over already: what has been is taken out of a goal on the page of goals")]
    Over,
    #[error("somebody changed it meanwhile: read what it says now and change that")]
    Overtaken,
    #[error("a site has {MOST_WINDOWS} windows that are not over at most")]
    TooMany,
    #[error("it does not go on now")]
    NotNow,
}

/// That something is planned by whom it is theirs to change: administrators, and whoever is in the teams of all journeys that
/// it is for.
async fn are_theirs(answers: &Answers, by: &Author, site: &Site, says: &Maintenance) -> Result<()> {
    let journeys = answers.db.journeys(site.id).await?;
    // What is for all journeys is for those of every team.
    let current = journeys.iter().filter(|j| j.status != Status::Archived.word());
    let mut reached = current.filter(|j| says.reach.has_journey(j.id));
    reached.try_for_each(|j| super::journeys::theirs(by, j))
}

fn named(says: &Maintenance) -> Maintenance {
    let why = cut(&says.window.why, LONGEST_NAME);
    Maintenance { window: Window { why, ..says.window.clone() }, ..says.clone() }
}

/// What there will be of a window that is kept now: nothing of it lies in the past.
fn from_now(
    says: &Maintenance,
    now: Timestamp,
    places: &[(i32, TimeZone)],
) -> std::result::Result<Window, NotPlanned> {
    says.window.check()?;
    says.check()?;
    says.parted(now, places).after.ok_or(NotPlanned::Over)
}

/// Plans something; what lies before `now` of it is left as it was.
///
/// # Errors
/// When a journey belongs to a team that whoever it is is not in, or the database does not answer.
pub async fn plan(
    answers: &Answers,
    by: &Author,
    site: &Site,
    (says, detail): (&Maintenance, &str),
    now: Timestamp,
) -> Result<std::result::Result<i32, NotPlanned>> {
    are_theirs(answers, by, site, says).await?;
    let (says, detail) = (named(says), cut(detail, LONGEST_DETAIL));
    let (places, planned) = futures::try_join!(answers.db.zones(), answers.db.planned(site.id))?;
    let current = planned.iter().filter(|p| !p.says.next(now, 1, &places).is_empty()).count();
    if current >= MOST_WINDOWS {
        return Ok(Err(NotPlanned::TooMany));
    }
    let window = match from_now(&says, now, &places) {
        Ok(window) => window,
        Err(why) => return Ok(Err(why)),
    };
    let says = Maintenance { window, ..says };
    let one = answers.one().await?;
    let id = one.db.plan(site.id, &says, &detail, by.name()).await?;
    let after = told::maintenance(answers, site, &says, &detail).await?;
    noted_change(one, by, "planned maintenance", &says.window.why, (&Vec::new(), &after)).await?;
    Ok(Ok(id))
}

/// Lets a window be another from now on, if nobody changed it since version `based_on`.
///
/// # Errors
/// When a journey, of before or of now, belongs to a team that whoever it is is not in, or the database does not answer.
pub async fn replan(
    answers: &Answers,
    by: &Author,
    site: &Site,
    (was, based_on): (&Planned, i32),
    (says, detail): (&Maintenance, &str),
    now: Timestamp,
) -> Result<std::result::Result<(), NotPlanned>> {
    are_theirs(answers, by, site, &was.says).await?;
    are_theirs(answers, by, site, says).await?;
    let (says, detail) = (named(says), cut(detail, LONGEST_DETAIL));
    let places = answers.db.zones().await?;
    let window = match from_now(&says, now, &places) {
        Ok(window) => window,
        Err(why) => return Ok(Err(why)),
    };
    let before = was.says.parted(now, &places).before;
    let says = Maintenance { window, ..says };
    let one = answers.one().await?;
    let next = Some((&says.window, &says, detail.as_str()));
    let done = one.db.replan(site.id, (was.id, based_on), before.as_ref(), next, by.name()).await?;
    if done.is_none() {
        return Ok(Err(NotPlanned::Overtaken));
    }
    let (old, new) = (
        told::maintenance(answers, site, &was.says, &was.detail).await?,
        told::maintenance(answers, site, &says, &detail).await?,
    );
    noted_change(one, by, "changed maintenance", &says.window.why, (&old, &new)).await?;
    Ok(Ok(()))
}

/// Calls off what is to come of a window; what has been stays.
///
/// # Errors
/// When a journey belongs to a team that whoever it is is not in, or the database does not answer.
pub async fn call_off(
    answers: &Answers,
    by: &Author,
    site: &Site,
    was: &Planned,
    now: Timestamp,
) -> Result<std::result::Result<(), NotPlanned>> {
    are_theirs(answers, by, site, &was.says).await?;
    let places = answers.db.zones().await?;
    let parted = was.says.parted(now, &places);
    if parted.after.is_none() {
        return Ok(Err(NotPlanned::Over));
    }
    let one = answers.one().await?;
    let which = (was.id, was.version);
    let before = parted.before.as_ref();
    if one.db.replan(site.id, which, before, None, by.name()).await?.is_none() {
        return Ok(Err(NotPlanned::Overtaken));
    }
    let old = told::maintenance(answers, site, &was.says, &was.detail).await?;
    noted_change(one, by, "called off maintenance", &was.says.window.why, (&old, &Vec::new()))
        .await?;
    Ok(Ok(()))
}

/// Ends what goes on now; it comes again as planned.
///
/// # Errors
/// When a journey belongs to a team that whoever it is is not in, or the database does not answer.
pub async fn end(
    answers: &Answers,
    by: &Author,
    site: &Site,
    was: &Planned,
    now: Timestamp,
) -> Result<std::result::Result<(), NotPlanned>> {
    are_theirs(answers, by, site, &was.says).await?;
    let places = answers.db.zones().await?;
    if was.says.goes_on(now, &places).is_none() {
        return Ok(Err(NotPlanned::NotNow));
    }
    let one = answers.one().await?;
    if one.db.end_planned(site.id, was, &was.says.ended(now, &places)).await?.is_none() {
        return Ok(Err(NotPlanned::Overtaken));
    }
    noted(one, by, "ended maintenance", &was.says.window.why).await?;
    Ok(Ok(()))
}

/// Makes what goes on now longer, this time alone: a window of its own follows it.
///
/// # Errors
/// When a journey belongs to a team that whoever it is is not in, or the database does not answer.
pub async fn extend(
    answers: &Answers,
    by: &Author,
    site: &Site,
    was: &Planned,
    minutes: i64,
    now: Timestamp,
) -> Result<std::result::Result<(), NotPlanned>> {
    are_theirs(answers, by, site, &was.says).await?;
    let places = answers.db.zones().await?;
    let moment = Stretch { from: now, to: now + SignedDuration::from_secs(1) };
    // On each location's own clock it goes on at some of them only, and ends at each at its own time.
    let going = was.says.left_out(moment, &places);
    if going.is_empty() {
        return Ok(Err(NotPlanned::NotNow));
    }
    let longer = SignedDuration::from_mins(minutes.clamp(1, LONGEST_MINUTES));
    let one = answers.one().await?;
    for occurrence in going {
        let to = occurrence.stretch.to;
        let more = Maintenance::once(Stretch { from: to, to: to + longer }, &occurrence.why);
        let says = Maintenance { reach: occurrence.reach, holds: was.says.holds, ..more };
        one.db.plan(site.id, &says, &was.detail, by.name()).await?;
    }
    let which = format!("{} by {} min", was.says.window.why, longer.as_mins());
    noted(one, by, "extended maintenance", which).await?;
    Ok(Ok(()))
}

/// Gives the site's maintenance an address for other calendars, in place of the one that it had; it is told once.
///
/// # Errors
/// When the database does not answer.
pub async fn open_feed(answers: &Answers, by: &Author, site: &Site) -> Result<Token> {
    let token = Token::new();
    let one = answers.one().await?;
    one.db.set_maintenance_feed(site.id, &hashed(token.text()), by.name()).await?;
    noted(one, by, "opened the calendar of", &site.name).await?;
    Ok(token)
}

/// Closes the address; whether there was one.
///
/// # Errors
/// When the database does not answer.
pub async fn close_feed(answers: &Answers, by: &Author, site: &Site) -> Result<bool> {
    let one = answers.one().await?;
    if !one.db.remove_maintenance_feed(site.id).await? {
        return Ok(false);
    }
    noted(one, by, "closed the calendar of", &site.name).await?;
    Ok(true)
}

/// What was read out of a calendar, and what of it was planned.
pub struct Imported {
    /// Names of what was planned.
    pub planned: Vec<String>,
    /// What was not, and why.
    pub refused: Vec<String>,
}

/// Plans every event of an iCalendar text that can be, for the whole site.
///
/// # Errors
/// When the database does not answer.
pub async fn import(
    answers: &Answers,
    by: &Author,
    site: &Site,
    text: &str,
    holds: bool,
    now: Timestamp,
) -> Result<Imported> {
    let (windows, wrong) = cadentis_core::calendar::ical::read(text);
    let mut imported =
        Imported { planned: Vec::new(), refused: wrong.iter().map(ToString::to_string).collect() };
    for window in windows {
        let name = match window.why.trim() {
            "" => "Planned work".to_string(),
            why => cut(why, LONGEST_NAME),
        };
        let window = Window { why: name.clone(), ..window };
        let says = Maintenance { window, reach: Default::default(), holds };
        match plan(answers, by, site, (&says, ""), now).await? {
            Ok(_) => imported.planned.push(name),
            Err(why) => {
                imported.refused.push(format!("{name}: {why}"));
                // It would be said of each that follows.
                if why == NotPlanned::TooMany {
                    break;
                }
            }
        }
    }
    Ok(imported)
}

/// The window of a site with this id.
///
/// # Errors
/// When the database does not answer.
pub async fn planned(answers: &Answers, site: &Site, id: i32) -> Result<Option<Planned>> {
    Ok(answers.db.planned(site.id).await?.into_iter().find(|p| p.id == id))
}
