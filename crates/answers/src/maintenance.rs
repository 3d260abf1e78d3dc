//! Maintenance of a site: what is planned, when it comes next, and what it would have taken out of goals.

use crate::goals::scored;
use crate::{Answers, Result};
use cadentis_core::calendar::{LeftOut, Maintenance, Stretch};
use cadentis_core::goal::Score;
use cadentis_store::journey::Journey;
use cadentis_store::location::Location;
use cadentis_store::maintenance::Planned;
use cadentis_store::site::Site;
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};

/// So many weeks ahead are shown.
pub const WEEKS_AHEAD: i64 = 8;
/// A window is tried on so many weeks.
pub const WEEKS_TRIED: i64 = 12;

/// What maintenance leaves out in a stretch.
///
/// # Errors
/// When the database does not answer.
pub async fn left_out(answers: &Answers, site_id: i32, stretch: Stretch) -> Result<Vec<LeftOut>> {
    Ok(answers.db.maintenance(site_id, stretch).await?)
}

/// A window that is not over.
pub struct Plan {
    /// What is planned.
    pub planned: Planned,
    /// Its occurrences in the weeks ahead, in order of time, with one that goes on.
    pub comes: Vec<Stretch>,
    /// The next one, however far ahead.
    pub next: Option<Stretch>,
    /// The one that goes on.
    pub goes_on: Option<Stretch>,
}

/// What is planned for a site.
pub struct Plans {
    /// Windows that are not over, what goes on first, then by when they come.
    pub plans: Vec<Plan>,
    /// Those that are, the newest first.
    pub over: Vec<Planned>,
    /// Locations with their zones.
    pub places: Vec<(i32, TimeZone)>,
    /// The locations.
    pub locations: Vec<Location>,
    /// The site's journeys.
    pub journeys: Vec<Journey>,
    /// Who gave its calendar an address, and when.
    pub feed: Option<(String, Timestamp)>,
}

/// What is planned for a site.
///
/// # Errors
/// When the database does not answer.
pub async fn ask(answers: &Answers, site: &Site, now: Timestamp) -> Result<Plans> {
    let db = &answers.db;
    let (planned, places, locations, journeys, feed) = futures::try_join!(
        db.planned(site.id),
        db.zones(),
        db.locations(),
        db.journeys(site.id),
        db.maintenance_feed(site.id)
    )?;
    let (mut plans, mut over) = (Vec::new(), Vec::new());
    for planned in planned {
        match of(&planned, now, &places) {
            Some(plan) => plans.push(plan),
            None => over.push(planned),
        }
    }
    plans.sort_by_key(|p| (p.next.map(|n| n.from), p.planned.id));
    over.reverse();
    Ok(Plans { plans, over, places, locations, journeys, feed })
}

/// A window as it comes; `None` when it is over.
fn of(planned: &Planned, now: Timestamp, places: &[(i32, TimeZone)]) -> Option<Plan> {
    let says = &planned.says;
    let next = Some(*says.next(now, 1, places).first()?);
    let ahead = Stretch { from: now, to: now + SignedDuration::from_hours(24 * 7 * WEEKS_AHEAD) };
    let mut comes: Vec<Stretch> =
        says.left_out(ahead, places).into_iter().map(|l| l.stretch).collect();
    comes.sort_by_key(|s| (s.from, s.to));
    comes.dedup();
    Some(Plan { comes, next, goes_on: says.goes_on(now, places), planned: planned.clone() })
}

/// The windows that are not over of the site whose calendar has this address.
///
/// # Errors
/// When the database does not answer.
pub async fn feed(answers: &Answers, token: &str, now: Timestamp) -> Result<Option<Vec<Planned>>> {
    if token.len() != 64 {
        return Ok(None);
    }
    let Some(site) = answers.db.site_of_feed(&crate::people::hashed(token)).await? else {
        return Ok(None);
    };
    let (mut planned, places) = futures::try_join!(answers.db.planned(site), answers.db.zones())?;
    planned.retain(|p| !p.says.next(now, 1, &places).is_empty());
    Ok(Some(planned))
}

/// What a window would have done to a goal.
pub struct TriedGoal {
    /// The goal's name.
    pub name: String,
    /// What was promised.
    pub promised: f64,
    /// What its runs came to.
    pub before: Score,
    /// The same without the time of the window.
    pub after: Score,
}

/// A window tried on the past.
pub struct Tried {
    /// Weeks up to now.
    pub stretch: Stretch,
    /// How often it would have come.
    pub comings: usize,
    /// Each goal that it would have touched.
    pub goals: Vec<TriedGoal>,
    /// Others that it overlaps in the weeks ahead, with the first moment of that.
    pub overlaps: Vec<(String, Stretch)>,
}

/// What a window would have taken out of the site's goals over the last weeks; `id` is the one that is changed. What comes
/// once has nothing to be tried on.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn tried(
    answers: &Answers,
    site: &Site,
    id: Option<i32>,
    says: &Maintenance,
    now: Timestamp,
) -> Result<Tried> {
    let db = &answers.db;
    let (goals, journeys, places, planned) = futures::try_join!(
        db.goals(site.id),
        db.journeys(site.id),
        db.zones(),
        db.planned(site.id)
    )?;
    let week = SignedDuration::from_hours(24 * 7);
    let stretch = Stretch { from: now - week * WEEKS_TRIED as i32, to: now };
    let past =
        says.as_before(now, WEEKS_TRIED).map(|m| m.left_out(stretch, &places)).unwrap_or_default();
    let mut tried = Vec::new();
    if !past.is_empty() {
        for goal in goals {
            let version = goal.at(now);
            if !version.definition.is_within(&says.reach) {
                continue;
            }
            let definition = &version.definition;
            let of = (site, goal.id, definition);
            let (before, after) = scored(answers, of, &journeys, stretch, &past).await?;
            let (name, promised) = (goal.name.clone(), definition.promised);
            tried.push(TriedGoal { name, promised, before, after });
        }
    }
    let ahead = Stretch { from: now, to: now + week * WEEKS_AHEAD as i32 };
    let here = says.left_out(ahead, &places);
    let others = planned.iter().filter(|p| Some(p.id) != id);
    let overlaps = others.filter_map(|other| {
        let theirs = other.says.left_out(ahead, &places);
        let both = |a: &LeftOut, b: &LeftOut| {
            let meets = |a: &[i32], b: &[i32]| {
                a.is_empty() || b.is_empty() || a.iter().any(|id| b.contains(id))
            };
            let common = a.stretch.common(&b.stretch)?;
            let meet = meets(&a.reach.journeys, &b.reach.journeys)
                && meets(&a.reach.locations, &b.reach.locations);
            meet.then_some(common)
        };
        let first = here.iter().flat_map(|a| theirs.iter().filter_map(move |b| both(a, b)));
        first.min_by_key(|s| s.from).map(|s| (other.says.window.why.clone(), s))
    });
    let overlaps = overlaps.collect();
    Ok(Tried { stretch, comings: past.len(), goals: tried, overlaps })
}
