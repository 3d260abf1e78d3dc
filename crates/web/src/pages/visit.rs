//! One visit: its page views on a line, what went wrong on each, and one of them looked into.

use super::family::SpentBar;
use super::visitors::{family_link, view_link};
use super::{TWELVE_HOURS, html};
use crate::State;
use crate::error::PageError;
use crate::filters;
use crate::format;
use crate::frame::Frame;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_core::calendar::stretch::length_text;
use cadentis_core::timing::{Rating, Vital};
use cadentis_core::visitor::Seen;
use cadentis_core::visitor::spent::spent;
use jiff::Timestamp;
use serde::Deserialize;
use uuid::Uuid;

/// No visit is shown longer than this.
const MOST: usize = 300;

#[derive(Template)]
#[template(path = "visit.html")]
struct Page {
    frame: Frame,
    id: Uuid,
    who: String,
    says: String,
    cut: bool,
    rows: Vec<Row>,
    width: f64,
    height: f64,
    chosen: Option<Chosen>,
}

/// A page view on the line and in the table.
struct Row {
    link: String,
    here: bool,
    tone: &'static str,
    time: String,
    after: String,
    path: String,
    family: (String, String),
    cells: Vec<(String, &'static str)>,
    wrong: String,
    /// On the line: top, left, width until its largest paint or load.
    y: f64,
    x: f64,
    w: f64,
}

/// The page view that is looked into.
struct Chosen {
    path: String,
    spent: Option<SpentBar>,
    /// Name, value, tone.
    timings: Vec<(&'static str, String, &'static str)>,
    error: Option<String>,
}

#[derive(Debug, Default, Deserialize)]
struct Wanted {
    /// Milliseconds since 1970 of one of its page views.
    at: Option<i64>,
    view: Option<Uuid>,
}

const WIDTH: f64 = 1_248.0;
const LABEL: f64 = 300.0;
const LANE: f64 = 20.0;

pub async fn page(
    state: web::Data<State>,
    id: web::Path<Uuid>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(&state, &request, "Visitors", TWELVE_HOURS).await?;
    let wanted = web::Query::<Wanted>::from_query(request.query_string()).map(|q| q.into_inner()).unwrap_or_default();
    let near = wanted.at.and_then(|ms| Timestamp::from_millisecond(ms).ok()).unwrap_or(frame.stretch.to);
    let mut views = state.db.visit(frame.site.id, *id, near, MOST + 1).await?;
    // What is said is said of what is shown.
    let cut = views.len() > MOST;
    views.truncate(MOST);
    let (Some(first), Some(last)) = (views.first(), views.last()) else {
        return Err(PageError::NotFound(format!("page views of the visit {id} within a day of {near}")));
    };
    let begun = first.at;
    // The line ends when the last page had loaded, as far as that is known.
    let last_ms = [last.load, last.lcp, last.ttfb].into_iter().flatten().fold(0.0f32, f32::max);
    let length_ms = (last.at.duration_since(begun).as_millis_f64() + f64::from(last_ms)).max(1.0);
    let chosen = views.iter().find(|v| Some(v.id) == wanted.view).or(views.iter().find(|v| !wrong(v).is_empty()));
    let chosen_id = chosen.map(|v| v.id);
    let zone = frame.site.zone.clone();
    let scale = (WIDTH - LABEL - 10.0) / length_ms;
    let rows: Vec<Row> = views
        .iter()
        .enumerate()
        .map(|(nth, v)| {
            let after = v.at.duration_since(begun).as_millis_f64();
            let took = f64::from([v.load, v.lcp].into_iter().flatten().fold(0.0f32, f32::max));
            let wrong = wrong(v);
            Row {
                link: format!("{}&{}", view_link(v.at, v.visit, v.id), frame.query),
                here: Some(v.id) == chosen_id,
                tone: tone_of(v),
                time: v.at.to_zoned(zone.clone()).strftime("%H:%M:%S").to_string(),
                after: format!("+{}", length_text(after)),
                path: v.path.clone(),
                family: (v.family.clone(), format!("{}&{}", family_link(&v.family), frame.query)),
                cells: [(Vital::Lcp, v.lcp), (Vital::Inp, v.inp), (Vital::Cls, v.cls)].map(vital_cell).to_vec(),
                wrong: wrong.join(", "),
                y: nth as f64 * LANE,
                x: LABEL + after * scale,
                w: (took * scale).max(3.0),
            }
        })
        .collect();
    let troubled = views.iter().filter(|v| !wrong(v).is_empty()).count();
    let ended = match (last.abandoned, last.blank) {
        (_, true) => "; it ended on a page that stayed blank",
        (true, _) => "; it ended on a page that was left before it had loaded",
        _ => "",
    };
    let says = format!(
        "Began {}, {} page view{} over {}; {} of them had trouble{ended}.",
        format::day_clock(begun, &zone),
        views.len(),
        if views.len() == 1 { "" } else { "s" },
        length_text(length_ms),
        if troubled == 0 { "none".into() } else { troubled.to_string() },
    );
    let page = Page {
        id: *id,
        who: format!("{} · {} · {} on {}", first.device, first.country, first.browser, first.os),
        says,
        cut,
        height: rows.len() as f64 * LANE,
        width: WIDTH,
        chosen: chosen.map(look_into),
        rows,
        frame,
    };
    html(&page)
}

fn vital_cell((vital, value): (Vital, Option<f32>)) -> (String, &'static str) {
    match value.map(f64::from) {
        None => ("–".into(), "within"),
        Some(v) => (vital.text(v), rated(vital, v)),
    }
}

fn rated(vital: Vital, value: f64) -> &'static str {
    match vital.rate(value) {
        Rating::Good => "within",
        Rating::NeedsImprovement => "strained",
        Rating::Poor => "broken",
    }
}

/// What went wrong on a page view, in words.
fn wrong(v: &Seen) -> Vec<String> {
    let mut wrong = Vec::new();
    if v.blank {
        wrong.push("stayed blank".to_string());
    }
    if v.abandoned {
        wrong.push("left before it had loaded".into());
    }
    if v.errors > 0 {
        wrong.push(format!("{} script error{}", v.errors, if v.errors == 1 { "" } else { "s" }));
    }
    for (vital, value) in [(Vital::Lcp, v.lcp), (Vital::Inp, v.inp), (Vital::Cls, v.cls)] {
        if let Some(value) = value.map(f64::from).filter(|value| vital.rate(*value) == Rating::Poor) {
            wrong.push(format!("{} {} is poor", vital.name(), vital.text(value)));
        }
    }
    wrong
}

fn tone_of(v: &Seen) -> &'static str {
    match (v.blank || v.abandoned || v.errors > 0, wrong(v).is_empty()) {
        (true, _) => "broken",
        (false, false) => "strained",
        (false, true) => "within",
    }
}

fn look_into(v: &Seen) -> Chosen {
    let seconds = |ms: Option<f32>| ms.map_or("not told".into(), |ms| format!("{} s", format::seconds(f64::from(ms))));
    let vital = |vital: Vital, value: Option<f32>| match value.map(f64::from) {
        None => (vital.name(), "not told".to_string(), "nodata"),
        Some(value) => (vital.name(), vital.text(value), rated(vital, value)),
    };
    Chosen {
        path: v.path.clone(),
        spent: spent(&v.moments()).map(|s| SpentBar::of(&s, String::new())),
        timings: vec![
            ("looking up the name", seconds(v.dns), "within"),
            ("connecting", seconds(v.connect), "within"),
            vital(Vital::Ttfb, v.ttfb),
            vital(Vital::Fcp, v.fcp),
            vital(Vital::Lcp, v.lcp),
            ("loaded", seconds(v.load), "within"),
            vital(Vital::Inp, v.inp),
            vital(Vital::Cls, v.cls),
            ("connection", if v.connection.is_empty() { "not told".into() } else { v.connection.clone() }, "within"),
        ],
        error: v.error.clone(),
    }
}
