//! Goals in words: what is promised, how it stands, and how that was come by.

use super::Card;
use cadentis_core::calendar::Stretch;
use cadentis_core::calendar::stretch::{day_clock, length_text};
use cadentis_core::goal::{Combine, ErrorBudget, Measure, Period, Score};
use cadentis_core::stats::Proof;
use cadentis_core::stats::proof::counted;
use cadentis_core::stats::share::{percent, share_text};
use jiff::tz::TimeZone;

/// A part of an error budget.
pub fn part(c: &Card, budget: &ErrorBudget, ms: f64) -> String {
    budget.part_text(&c.version.definition.measure, ms)
}

/// What is said first of a goal.
pub fn says(c: &Card, name: &str) -> String {
    match (c.budget.left_share(), c.forecast.at) {
        _ if c.budget.score.counted() == 0 => format!("Nothing is counted yet in {name}."),
        (Some(l), _) if l < 0.0 => format!(
            "Missed for {name}: the error budget is overspent by {}.",
            part(c, &c.budget, -c.budget.left_ms())
        ),
        // A rolling window ends now: there is no course that it could be on.
        (Some(l), _) if matches!(c.version.definition.period, Period::Days(_)) => {
            format!(
                "Held over {name}, with {} of the error budget left.",
                percent(Some(l), 0, None)
            )
        }
        (_, Some(end)) if end < c.window.to => format!(
            "At the pace of the last 24 hours the error budget runs out in {}, before the period ends.",
            length_text(Stretch { from: c.past.to, to: end }.ms())
        ),
        _ => format!(
            "On course for {name}: at the pace of the last 24 hours the error budget outlasts it."
        ),
    }
}

/// What its share is a share of.
pub fn measured(measure: &Measure) -> &'static str {
    match measure {
        Measure::Availability => "availability",
        Measure::Uptime => "uptime",
        Measure::Performance { .. } => "within the limit",
        Measure::Experience(_) => "good experience",
    }
}

/// What is promised, in a sentence.
pub fn promise(c: &Card, zone_name: &str) -> String {
    let says = &c.version.definition;
    let names: Vec<&str> = c.journeys.iter().map(|j| j.name.as_str()).collect();
    let mut text = format!(
        "{} % over {}; {}",
        share_text(says.promised, 3, None),
        says.period.words(),
        says.measure.words(),
    );
    if !names.is_empty() {
        text += &format!(", of {}", cadentis_core::finding::list(&names));
    }
    if names.len() > 1 {
        text += &format!("; {}", says.combine.words());
    }
    if !says.locations.is_empty() {
        let places: Vec<&str> = c.locations.iter().map(|l| l.location.name.as_str()).collect();
        text += &format!("; at {}", cadentis_core::finding::list(&places));
    }
    if let Some(hours) = &says.service_hours {
        text += &format!("; {} in {}", hours.words(), zone_name);
    }
    text + "."
}

/// How an uptime was come by.
pub fn uptime_proof(uptime: &Score, every_s: i64) -> Proof {
    let good = format!("slots of {} min in which at least one location got through", every_s / 60);
    uptime.proof("uptime", (&good, "slots with a counted run", "runs"), 1.0)
}

/// How each figure of a goal was come by: a title and its lines each.
pub fn workings(
    c: &Card,
    name: &str,
    (zone, zone_name): (&TimeZone, &str),
) -> Vec<(String, Vec<String>)> {
    let says = &c.version.definition;
    let mut window = vec![
        format!("{name} in {}, {} to {}.", zone_name, c.window.from, c.window.to),
        format!("Judged up to {}.", day_clock(c.past.to, zone)),
        match says.measure.of_page_views() {
            Some(of) => format!("Read of visitors: {of}."),
            None => {
                format!("{} locations, every {} min at most.", c.locations.len(), c.every_s / 60)
            }
        },
        format!("Version {} of the goal: {}", c.version.version, promise(c, zone_name)),
    ];
    window.extend(c.left_out.iter().map(|w| {
        let kind = w.author.as_ref().map_or("Maintenance".into(), |a| format!("Carve-out by {a}"));
        format!("{kind}, not counted: {} ({}).", w.stretch.words(zone), w.why)
    }));
    let of = match (&says.measure, says.combine) {
        (Measure::Uptime, _) => {
            ("times in which some location got through", "counted times", "runs")
        }
        (Measure::Experience(_), _) => ("those that were good", "those that told it", "samples"),
        (_, Combine::All | Combine::Any) => ("moments that were good", "counted moments", "runs"),
        (Measure::Availability, _) => ("runs that got through", "counted runs", "runs"),
        (Measure::Performance { .. }, _) => ("runs within the limit", "counted runs", "runs"),
    };
    let share = c.score.proof(measured(&says.measure), of, says.promised);
    let share = match says.measure {
        Measure::Availability => {
            share.noting(format!("slow runs got through: {} of them", counted(c.tally.slow)))
        }
        _ => share,
    };
    let spent = c.budget.proof().noting(
        "burn rate = share of bad / share that may be bad; 1 spends the budget exactly by the end of the window",
    );
    let forecast = c.forecast.proof("the last 24 hours", |at| day_clock(at, zone));
    let mut all = vec![
        ("Window".into(), window),
        ("Share".into(), share.sentences()),
        ("Error budget".into(), spent.sentences()),
        ("Forecast".into(), forecast.sentences()),
    ];
    if let Some(uptime) = &c.uptime {
        let uptime = uptime_proof(uptime, c.every_s);
        all.insert(2, ("Uptime, reached from somewhere".into(), uptime.sentences()));
    }
    all
}
