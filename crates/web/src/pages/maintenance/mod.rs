//! Maintenance: what is planned, when that is on every clock that matters, and what it would have taken out of goals.

mod form;
mod page;
mod when;

use crate::State;
use crate::error::PageError;
use crate::format::window_text;
use cadentis_answers::changes;
use cadentis_answers::kept::{Journey, Location, Planned, Site};
use cadentis_core::calendar::{Clock, Maintenance, Reach, Repeat, Window};
use cadentis_core::goal::definition::DAYS;
use jiff::civil::Weekday;

pub use form::{change, changed, make, new};
pub use page::{close_feed, end, extend, import, open_feed, page, remove};

async fn planned_of(state: &State, site: &Site, id: i32) -> Result<Planned, PageError> {
    let found = changes::maintenance::planned(&state.answers, site, id).await?;
    found.ok_or_else(|| PageError::NotFound(format!("the maintenance {id}")))
}

/// Days of the week as people read them.
fn days(days: &[Weekday]) -> String {
    let names = days.iter().map(|d| DAYS[d.to_monday_zero_offset() as usize].1);
    names.collect::<Vec<_>>().join(" ")
}

/// How a window repeats, in words.
fn repeats(window: &Window) -> String {
    match &window.repeat {
        Repeat::Once => "once".into(),
        Repeat::Daily => "every day".into(),
        Repeat::Weekly(on) => format!("every week on {}", days(on)),
        Repeat::Rule(rule) => format!("by the rule {rule}"),
    }
}

/// Whose clock it is on, in words.
fn on_clock(clock: &Clock, site: &Site) -> String {
    match clock {
        Clock::Utc => "UTC".into(),
        Clock::Location => "each location’s own clock".into(),
        Clock::Zone(zone) if *zone == site.zone => format!("the site’s clock, {}", clock.word()),
        Clock::Zone(_) => clock.word().to_string(),
    }
}

/// When it comes, in words.
fn when_words(says: &Maintenance, site: &Site) -> String {
    let window = &says.window;
    let (how, clock) = (repeats(window), on_clock(&window.clock, site));
    format!("{how}, {}, {clock}", window_text(window))
}

/// For what it is, in words.
fn reach_words(reach: &Reach, journeys: &[Journey], locations: &[Location]) -> String {
    let journey = |id: &i32| journeys.iter().find(|j| j.id == *id).map(|j| j.name.clone());
    let location = |id: &i32| locations.iter().find(|l| l.id == *id).map(|l| l.name.clone());
    let names = |names: Vec<String>| names.join(", ");
    let named: Vec<String> = reach.journeys.iter().filter_map(journey).collect();
    let placed: Vec<String> = reach.locations.iter().filter_map(location).collect();
    match (reach.journeys.is_empty(), reach.locations.is_empty()) {
        (true, true) => "the whole site".into(),
        (false, true) => names(named),
        (true, false) => format!("everything from {}", names(placed)),
        (false, false) => format!("{} from {}", names(named), names(placed)),
    }
}
