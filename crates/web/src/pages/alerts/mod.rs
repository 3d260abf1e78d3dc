//! Alerts: what is watched, what it came to, and what people do about it.

mod drawn;
mod form;
mod incident;
mod incidents;
mod one;
mod rehearsal;
mod text;
mod told;

pub use form::{change, changed, make, new};
pub use incident::{acknowledge, close, markdown, note, page as incident};
pub use incidents::page as incidents;
pub use one::{page as one, remove, silence, switch};
pub use rehearsal::rehearse;
pub use text::{page as destination, save as set_text};
pub use told::{
    add_destination, page as told, put_list, remove_destination, remove_list,
    test as test_destination,
};

use crate::State;
use crate::error::PageError;
use crate::filters;
use crate::format;
use crate::frame::{Frame, incident_around, tone_of_severity as tone};
use crate::respond::{TWELVE_HOURS, html};
use crate::view::Link;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::alerts::{self, Listed};
use cadentis_answers::kept::{Alert, Incident, Site};
use cadentis_core::alert::incident::About;
use cadentis_core::alert::{Evaluation, Rule};
use cadentis_core::calendar::Stretch;
use cadentis_core::calendar::stretch::length_text;
use jiff::{SignedDuration, Timestamp};

/// How long something lasted.
fn length(from: Timestamp, to: Timestamp) -> String {
    length_text(to.duration_since(from).as_secs_f64() * 1e3)
}

/// How long something took to show.
fn after(ms: f64) -> String {
    if ms < 1000.0 { "at once".into() } else { length_text(ms) }
}

/// The alert of this site, or that there is none.
async fn alert_of(state: &State, site: &Site, id: i32) -> Result<Alert, PageError> {
    let alert = alerts::one(&state.answers, site, id).await?;
    alert.ok_or_else(|| PageError::NotFound(format!("the alert {id}")))
}

/// The address of an incident's page, at the time around it.
fn incident_link(frame: &Frame, id: i32, lasted: Stretch) -> String {
    let around = incident_around(lasted.from, lasted.to);
    format!("{}/incidents/{id}?{}", frame.base, frame.query_of(&around))
}

/// The address of what an incident is about, without its stretch.
fn about_link(frame: &Frame, about: &About) -> Option<Link> {
    let base = &frame.base;
    let (to, name) = match about {
        About::Journey(slug) => (format!("{base}/journeys/{slug}?"), "The journey at that time"),
        About::Location(slug) => (format!("{base}/locations/{slug}?"), "The location at that time"),
        About::Family(name) => {
            (format!("{}&", crate::frame::family_link(base, name)), "The page family at that time")
        }
        About::Goal(_) => (format!("{base}/goals?"), "The goals at that time"),
        About::Dependency(_) => (format!("{base}/dependencies?"), "The dependencies at that time"),
        About::Site => (format!("{base}?"), "The site at that time"),
    };
    Some(Link::new(to, name))
}

#[derive(Template)]
#[template(path = "alerts.html")]
struct Page {
    frame: Frame,
    title: String,
    says: String,
    /// What makes the silence less to be trusted.
    but: Option<String>,
    open: Vec<IncidentRow>,
    rows: Vec<Row>,
    over: Vec<IncidentRow>,
}

/// An incident in a list.
struct IncidentRow {
    id: i32,
    /// Its page, at the time around it.
    link: String,
    title: String,
    tone: &'static str,
    severity: &'static str,
    about: String,
    opened: String,
    lasted: String,
    acknowledged: String,
}

impl IncidentRow {
    fn of(frame: &Frame, i: &Incident) -> IncidentRow {
        let lasts = i.cleared_at.is_none();
        let until = i.cleared_at.unwrap_or(frame.now);
        let acknowledged = match (&i.acknowledged, lasts) {
            (Some((at, by)), _) => format!("by {by} after {}", length(i.opened_at, *at)),
            (None, true) => "by nobody yet".into(),
            (None, false) => "by nobody".into(),
        };
        IncidentRow {
            id: i.id,
            link: incident_link(frame, i.id, Stretch { from: i.since, to: until }),
            title: i.title.clone(),
            tone: tone(Some(i.severity)),
            severity: i.severity.word(),
            about: i.about.to_string(),
            opened: format::day_clock(i.opened_at, &frame.site.zone),
            lasted: length(i.opened_at, until),
            acknowledged,
        }
    }
}

struct Row {
    id: i32,
    name: String,
    says: String,
    tone: &'static str,
    word: String,
    owner: String,
    opened: String,
    last: String,
    /// The last day: a line, and the level that opens it, on 120 × 26 units.
    line: String,
    level: Option<f64>,
    value: String,
}

const SPARK_W: f64 = 120.0;
const SPARK_H: f64 = 26.0;

fn row(frame: &Frame, l: &Listed) -> Row {
    let (alert, zone) = (&l.alert, &frame.site.zone);
    let definition = &alert.says.definition;
    let silence = alert.silence.as_ref().filter(|s| s.until > frame.now);
    let (tone, word) = match (alert.is_on, silence, alert.state.open) {
        (false, ..) => ("nodata", "off".to_string()),
        (_, Some(s), _) => {
            ("nodata", format!("silenced until {}", format::day_clock(s.until, zone)))
        }
        (_, _, Some(severity)) => (tone(Some(severity)), severity.word().into()),
        _ => ("within", "quiet".into()),
    };
    let [warning, critical, _] = definition.rule.levels();
    let level = match definition.rule {
        Rule::Burns => Some(1.0),
        _ => warning.or(critical),
    };
    // What is unlike its usual is drawn by how far beyond that it is.
    let point = |e: &Evaluation| {
        Some((e.at.as_second(), definition.counted(e).filter(|_| e.judged().is_some())?, 0))
    };
    let points: Vec<(i64, f64, u64)> = l.day.iter().filter_map(|e| point(&e.evaluation)).collect();
    let points = crate::course::thinned(&points, 120, definition.side());
    let most = points.iter().map(|p| p.1).chain(level).fold(f64::MIN_POSITIVE, f64::max);
    let least = points.iter().map(|p| p.1).chain(level).fold(f64::INFINITY, f64::min);
    let low = if least > most * 0.5 { least - (most - least).max(most * 0.01) * 0.3 } else { 0.0 };
    let span = ((most - low) * 1.1).max(f64::MIN_POSITIVE);
    let y = |v: f64| SPARK_H - 2.0 - (SPARK_H - 4.0) * ((v - low) / span).clamp(0.0, 1.0);
    let begin = frame.now.as_second() - 86_400;
    let x = |s: i64| SPARK_W * ((s - begin) as f64 / 86_400.0).clamp(0.0, 1.0);
    let unit = definition.measured.measure.unit();
    let value = l.day.iter().rev().find_map(|e| e.evaluation.value);
    Row {
        id: alert.id,
        name: alert.says.name.clone(),
        says: definition.sentence(),
        tone,
        word,
        owner: alert.owner.clone(),
        opened: match l.opened.0 {
            0 => "never".into(),
            n => n.to_string(),
        },
        last: l.opened.1.map_or(String::new(), |at| format::day_clock(at, zone)),
        line: crate::draw::line(points.iter().map(|(s, v, _)| Some((x(*s), y(*v))))),
        level: level.filter(|_| !points.is_empty()).map(y),
        value: match (value, definition.rule) {
            (None, _) => format::NO_DATA.into(),
            (Some(v), Rule::Burns) => format!("{:.2} of trigger", v),
            (Some(v), _) => unit.text(v),
        },
    }
}

fn headline(found: &alerts::Alerts) -> (String, String) {
    let open = &found.open;
    let title = match (open.len(), found.alerts.len()) {
        (0, 0) => "No alert yet".to_string(),
        (0, _) => "Nothing is open".into(),
        (1, _) => "One incident goes on".into(),
        (n, _) => format!("{n} incidents go on"),
    };
    let on = found.alerts.iter().filter(|l| l.alert.is_on).count();
    let newest = found.alerts.iter().filter(|l| l.alert.is_on).map(|l| l.alert.evaluated_to).max();
    let says = match (found.alerts.len(), newest) {
        (0, _) => {
            "An alert watches any measure, and is tried on the past thirty days before it is kept."
                .to_string()
        }
        (_, None) => "All alerts are switched off: nobody is told of anything.".into(),
        (_, Some(_)) if on == 1 => "One alert is watched each minute.".into(),
        _ => format!("{on} alerts are watched each minute."),
    };
    (title, says)
}

/// `GET /alerts`
pub async fn page(
    state: web::Data<State>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(&state, &request, "Alerts", TWELVE_HOURS).await?;
    let found = alerts::ask(&state.answers, &frame.site, frame.now).await?;
    let (title, says) = headline(&found);
    let late =
        found.lag.filter(|lag| *lag > SignedDuration::from_secs(crate::ops::WATCH_BEHIND_S as i64));
    let but = late.map(|lag| {
        let behind = length_text(lag.as_secs_f64() * 1e3);
        format!("The watch is {behind} behind: silence says nothing of that time yet.")
    });
    let incident = |i: &Incident| IncidentRow::of(&frame, i);
    html(&Page {
        open: found.open.iter().map(incident).collect(),
        over: found.over.iter().map(incident).collect(),
        rows: found.alerts.iter().map(|l| row(&frame, l)).collect(),
        title,
        says,
        but,
        frame,
    })
}
