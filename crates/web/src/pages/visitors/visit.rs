//! One visit: its page views and what happened on them on a line, what went wrong, and one page view looked into.
//! Finding visits of a person.

use super::family::LoadBar;
use super::{family_link, view_link};
use crate::State;
use crate::access::{After, By};
use crate::error::PageError;
use crate::filters;
use crate::format;
use crate::frame::Frame;
use crate::limits::query;
use crate::respond::{TWELVE_HOURS, html, redirect};
use crate::view::{self, Cell, Fact, Link};
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::changes::visitors::{looked, looked_at_visit};
use cadentis_answers::visit;
use cadentis_core::calendar::stretch::length_text;
use cadentis_core::timing::{Rating, Vital};
use cadentis_core::visitor::load_parts::load_parts;
use cadentis_core::visitor::{Happened, HappeningRow, Seen};
use jiff::Timestamp;
use serde::Deserialize;
use uuid::Uuid;

#[derive(Template)]
#[template(path = "visit.html")]
struct Page {
    frame: Frame,
    id: Uuid,
    who: String,
    says: String,
    cut: bool,
    /// Whether everything that happened is shown, or what went wrong alone.
    all: bool,
    rows: Vec<Row>,
    width: f64,
    height: f64,
    chosen: Option<Chosen>,
    person: Option<String>,
}

/// A page view on the line and in the table.
struct Row {
    link: String,
    here: bool,
    tone: &'static str,
    time: String,
    after: String,
    path: String,
    family: Link,
    cells: Vec<Cell>,
    wrong: String,
    /// On the line: top, left, width until its largest paint or load.
    y: f64,
    x: f64,
    w: f64,
    /// What happened on it.
    told: Vec<ToldRow>,
    ticks: Vec<Tick>,
}

/// One thing that happened, on the line.
struct Tick {
    x: f64,
    what: &'static str,
    tone: &'static str,
    name: String,
}

/// One thing that happened, in the table.
struct ToldRow {
    after: String,
    what: &'static str,
    name: String,
    says: String,
    tone: &'static str,
    trace: Option<String>,
}

/// The page view that is looked into.
struct Chosen {
    path: String,
    spent: Option<LoadBar>,
    timings: Vec<Timing>,
    error: Option<String>,
    /// What was largest, moved most, answered late; the parts of LCP.
    elements: Vec<Fact>,
    attributes: Vec<Fact>,
    resources: Vec<ToldRow>,
    stacks: Vec<Fact>,
}

struct Timing {
    name: &'static str,
    value: String,
    tone: &'static str,
}

#[derive(Debug, Default, Deserialize)]
struct VisitQuery {
    all: Option<String>,
    /// Milliseconds since 1970 of one of its page views.
    at: Option<i64>,
    view: Option<Uuid>,
}

const WIDTH: f64 = 1_248.0;
const LABEL: f64 = 300.0;
const LANE: f64 = 20.0;

pub async fn page(
    state: web::Data<State>,
    By(by): By,
    After(id): After<Uuid>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(&state, &request, "Visitors", TWELVE_HOURS).await?;
    let wanted = query::<VisitQuery>(&request)?;
    let near =
        wanted.at.and_then(|ms| Timestamp::from_millisecond(ms).ok()).unwrap_or(frame.stretch.to);
    let none =
        || PageError::NotFound(format!("page views of the visit {id} within a day of {near}"));
    let asked = visit::ask(&state.answers, frame.site.id, id, near).await?;
    let visit::Visit { views, told, is_cut: cut } = asked.ok_or_else(none)?;
    looked_at_visit(&state.answers, &by, id).await?;
    let (Some(first), Some(last)) = (views.first(), views.last()) else { return Err(none()) };
    let begun = first.at;
    let all = wanted.all.is_some();
    // The line ends when the last page had loaded, as far as that is known.
    let last_ms = [last.load, last.lcp, last.ttfb].into_iter().flatten().fold(0.0f32, f32::max);
    // What happened on it later belongs to the visit, too.
    let told_ms = told
        .iter()
        .filter(|t| t.view == last.id)
        .map(|t| t.after)
        .fold(f64::from(last_ms), f64::max);
    let length_ms = (last.at.duration_since(begun).as_millis_f64() + told_ms).max(1.0);
    let chosen = views
        .iter()
        .find(|v| Some(v.id) == wanted.view)
        .or(views.iter().find(|v| !wrong(v).is_empty()));
    let chosen_id = chosen.map(|v| v.id);
    let zone = frame.site.zone.clone();
    let scale = (WIDTH - LABEL - 10.0) / length_ms;
    let line = Line { frame: &frame, told: &told, begun, scale, all, chosen: chosen_id };
    let rows: Vec<Row> = views.iter().enumerate().map(|(nth, v)| line.row(nth, v)).collect();
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
        id,
        who: format!("{} · {} · {} on {}", first.device, first.country, first.browser, first.os),
        person: (first.person != 0).then(|| {
            format!("{}/visitors/find?person={:016x}&{}", frame.base, first.person, frame.query)
        }),
        says,
        cut,
        all,
        height: rows.len() as f64 * LANE,
        width: WIDTH,
        chosen: chosen.map(|v| look_into(v, &told, &frame)),
        rows,
        frame,
    };
    html(&page)
}

/// The line of a visit, from its first page view on.
struct Line<'a> {
    frame: &'a Frame,
    told: &'a [HappeningRow],
    begun: Timestamp,
    /// Units of the drawing for a millisecond.
    scale: f64,
    /// Whether everything that happened is shown.
    all: bool,
    chosen: Option<Uuid>,
}

impl Line<'_> {
    fn row(&self, nth: usize, v: &Seen) -> Row {
        let after = v.at.duration_since(self.begun).as_millis_f64();
        let took = f64::from([v.load, v.lcp].into_iter().flatten().fold(0.0f32, f32::max));
        let wrong = wrong(v);
        Row {
            link: format!(
                "{}&{}",
                view_link(&self.frame.base, v.at, v.visit, v.id),
                self.frame.query
            ),
            here: Some(v.id) == self.chosen,
            tone: tone_of(v),
            time: v.at.to_zoned(self.frame.site.zone.clone()).strftime("%H:%M:%S").to_string(),
            after: format!("+{}", length_text(after)),
            path: v.path.clone(),
            family: Link::new(
                format!("{}&{}", family_link(&self.frame.base, &v.family), self.frame.query),
                &v.family,
            ),
            cells: [(Vital::Lcp, v.lcp), (Vital::Inp, v.inp), (Vital::Cls, v.cls)]
                .map(vital_cell)
                .to_vec(),
            wrong: wrong.join(", "),
            y: nth as f64 * LANE,
            x: LABEL + after * self.scale,
            w: (took * self.scale).max(3.0),
            told: self
                .told
                .iter()
                .filter(|t| t.view == v.id && is_shown(t, self.all))
                .map(|t| told_row(t, self.frame))
                .collect(),
            ticks: self
                .told
                .iter()
                .filter(|t| t.view == v.id && (t.what != Happened::Resource || t.failed))
                .map(|t| Tick {
                    x: LABEL + (after + t.after) * self.scale,
                    what: t.what.word(),
                    tone: told_tone(t),
                    name: t.name.clone(),
                })
                .collect(),
        }
    }
}

/// Without being asked for everything: what somebody did, and what went wrong.
fn is_shown(t: &HappeningRow, all: bool) -> bool {
    all || t.failed || matches!(t.what, Happened::Action | Happened::Event | Happened::Route)
}

fn told_tone(t: &HappeningRow) -> &'static str {
    if t.failed { "broken" } else { "within" }
}

fn told_row(t: &HappeningRow, frame: &Frame) -> ToldRow {
    let mut says = Vec::new();
    match t.status {
        Some(0) => says.push("no answer".to_string()),
        Some(status) => says.push(status.to_string()),
        None => {}
    }
    if !t.code.is_empty() {
        says.push(t.code.clone());
    }
    says.extend(t.ms.map(|ms| format!("{ms:.0} ms")));
    says.extend(t.bytes.filter(|b| *b > 0.0).map(|b| format!("{:.1} kB", b / 1000.0)));
    if !t.fault.is_empty() {
        says.push(match t.fault.as_str() {
            "visitor" => "the visitor’s side".into(),
            fault => format!("the {fault}’s doing"),
        });
    }
    if !t.place.is_empty() {
        says.push(format!("in {}", t.place));
    }
    ToldRow {
        after: format!("{:.2} s", t.after / 1000.0),
        what: t.what.word(),
        name: if t.what == Happened::Request { t.name.clone() } else { t.text.clone() },
        says: says.join(", "),
        tone: told_tone(t),
        trace: Some(t.trace.as_str())
            .filter(|t| !t.is_empty())
            .and_then(|t| frame.site.trace_address(t)),
    }
}

#[derive(Template)]
#[template(path = "find.html")]
struct FindPage {
    frame: Frame,
    says: String,
    typed: String,
    rows: Vec<view::Row>,
}

#[derive(Debug, Default, Deserialize)]
struct Sought {
    who: Option<String>,
    person: Option<String>,
}

/// `GET /visitors/find?who=…`: the visits of a person by the id that pages gave, or a visit by its own id.
pub async fn find(
    state: web::Data<State>,
    By(by): By,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(&state, &request, "Visitors", TWELVE_HOURS).await?;
    let sought = query::<Sought>(&request)?;
    let typed = sought.who.unwrap_or_default().trim().to_string();
    if let Ok(visit) = Uuid::parse_str(&typed) {
        return Ok(redirect(&format!("{}/visitors/visits/{visit}?{}", frame.base, frame.query)));
    }
    let is_asked = !typed.is_empty() || sought.person.is_some();
    let persons = match sought.person.as_deref().and_then(|p| u64::from_str_radix(p, 16).ok()) {
        Some(person) => vec![u128::from(person)],
        None => visit::persons(&state.answers, &frame.site.key, &typed),
    };
    let past = frame.past();
    let views = visit::of_persons(&state.answers, frame.site.id, &persons, past).await?;
    let zone = &frame.site.zone;
    let mut visits: Vec<(Uuid, Vec<&Seen>)> = Vec::new();
    for v in &views {
        match visits.iter_mut().find(|(id, _)| *id == v.visit) {
            Some((_, seen)) => seen.push(v),
            None => visits.push((v.visit, vec![v])),
        }
    }
    let row = |(id, seen): &(Uuid, Vec<&Seen>)| {
        let (first, last) = (seen[0], seen[seen.len() - 1]);
        let troubled = seen.iter().filter(|v| !wrong(v).is_empty()).count();
        let cells = vec![
            format::day_clock(first.at, zone),
            seen.len().to_string(),
            format!("{} · {} on {}", first.device, first.browser, first.os),
            last.family.clone(),
            if troubled == 0 {
                "no trouble".into()
            } else {
                format!("{troubled} with trouble: {}", wrong(last).join(", "))
            },
        ];
        let at = first.at.as_millisecond();
        view::Row {
            link: format!("{}/visitors/visits/{id}?at={at}&{}", frame.base, frame.query),
            cells,
        }
    };
    let rows: Vec<_> = visits.iter().rev().map(row).collect();
    if is_asked {
        // Whom they looked for is not kept anywhere.
        let found = format!("and found {} visits", rows.len());
        looked(&state.answers, &by, "looked for a person", &found).await?;
    }
    let says = match (is_asked, rows.len()) {
        (false, _) => "Type the id that pages give for a person, or the id of a visit.".to_string(),
        (_, 0) => format!("Nobody of this id visited {}.", frame.words),
        (_, n) => {
            format!("{n} visit{} in this stretch, newest first.", if n == 1 { "" } else { "s" })
        }
    };
    html(&FindPage { says, typed, rows, frame })
}

fn vital_cell((vital, value): (Vital, Option<f32>)) -> Cell {
    match value.map(f64::from) {
        None => Cell::new("–", "within"),
        Some(v) => Cell::new(vital.text(v), rated(vital, v)),
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
        if let Some(value) = value.map(f64::from).filter(|value| vital.rate(*value) == Rating::Poor)
        {
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

fn look_into(v: &Seen, told: &[HappeningRow], frame: &Frame) -> Chosen {
    let seconds = |ms: Option<f32>| {
        ms.map_or("not told".into(), |ms| format!("{} s", format::seconds(f64::from(ms))))
    };
    let timing = |name, value, tone| Timing { name, value, tone };
    let vital = |vital: Vital, value: Option<f32>| match value.map(f64::from) {
        None => timing(vital.name(), "not told".to_string(), "nodata"),
        Some(value) => timing(vital.name(), vital.text(value), rated(vital, value)),
    };
    Chosen {
        path: v.path.clone(),
        spent: load_parts(&v.moments()).map(|s| LoadBar::of(&s, String::new())),
        timings: vec![
            timing("looking up the name", seconds(v.dns), "within"),
            timing("connecting", seconds(v.connect), "within"),
            vital(Vital::Ttfb, v.ttfb),
            vital(Vital::Fcp, v.fcp),
            vital(Vital::Lcp, v.lcp),
            timing("loaded", seconds(v.load), "within"),
            vital(Vital::Inp, v.inp),
            vital(Vital::Cls, v.cls),
            timing(
                "connection",
                if v.connection.is_empty() { "not told".into() } else { v.connection.clone() },
                "within",
            ),
        ],
        error: v.error.clone(),
        elements: elements(v),
        attributes: v.attributes.iter().map(|(name, says)| Fact::new(name, says)).collect(),
        resources: told
            .iter()
            .filter(|t| t.view == v.id && matches!(t.what, Happened::Resource | Happened::Request))
            .map(|t| told_row(t, frame))
            .collect(),
        stacks: told
            .iter()
            .filter(|t| t.view == v.id && !t.stack.is_empty())
            .map(|t| Fact::new(&t.text, &t.stack))
            .collect(),
    }
}

/// Which elements and scripts the vitals come from.
fn elements(v: &Seen) -> Vec<Fact> {
    let part = |name: &str, ms: Option<f32>| {
        ms.map(|ms| format!("{} s {name}", format::seconds(f64::from(ms))))
    };
    let mut all = Vec::new();
    if v.background {
        let says = "opened in a tab that nobody looked at: FCP and LCP would tell when it was turned to, and are left out";
        all.push(Fact::new("in the background", says));
    }
    if !v.lcp_element.is_empty() {
        let parts = [
            part("until it was asked for", v.lcp_delay),
            part("to fetch", v.lcp_fetch),
            part("to show", v.lcp_render),
        ];
        let parts: Vec<String> = parts.into_iter().flatten().collect();
        let parts =
            if parts.is_empty() { String::new() } else { format!(": {}", parts.join(", ")) };
        all.push(Fact::new("largest paint (LCP)", format!("{}{parts}", v.lcp_element)));
    }
    if !v.cls_element.is_empty() {
        all.push(Fact::new("largest shift (CLS)", &v.cls_element));
    }
    if !v.inp_element.is_empty() {
        let says = format!("{} {}", v.inp_element, v.inp_script);
        all.push(Fact::new("slowest interaction (INP)", says.trim_end()));
    }
    if let Some(ms) = v.long_frames.filter(|ms| *ms > 0.0) {
        all.push(Fact::new("long frames before it had loaded", format!("{ms:.0} ms")));
    }
    if !v.how.is_empty() {
        all.push(Fact::new("how it was opened", v.how.replace('_', " ")));
    }
    if !v.release.is_empty() {
        all.push(Fact::new("release", &v.release));
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;
    use cadentis_core::visitor::{Column, Sheet};
    use proptest::prelude::*;

    /// A page view that tells nothing but when it was.
    fn seen() -> Seen {
        let mut sheet = Sheet::new(1_795_000_000 / 3_600 * 3_600);
        sheet.put("at", Column::Moments(vec![5_000])).unwrap();
        sheet.put("id", Column::ids([7])).unwrap();
        Seen::of(&sheet, 0).expect("a page view")
    }

    #[test]
    fn what_went_wrong_is_told_in_the_order_of_how_grave_it_is() {
        let fine = seen();
        assert_eq!((wrong(&fine).len(), tone_of(&fine)), (0, "within"));
        let slow = Seen { lcp: Some(4_200.0), inp: Some(600.0), cls: Some(0.3), ..seen() };
        assert_eq!(wrong(&slow), ["LCP 4.20 s is poor", "INP 600 ms is poor", "CLS 0.30 is poor"]);
        assert_eq!(tone_of(&slow), "strained", "somebody was served");
        let one = Seen { errors: 1, ..seen() };
        assert_eq!((wrong(&one), tone_of(&one)), (vec!["1 script error".to_string()], "broken"));
        let all = Seen { blank: true, abandoned: true, errors: 2, ..slow };
        assert_eq!(
            wrong(&all)[..3],
            ["stayed blank", "left before it had loaded", "2 script errors"].map(String::from)
        );
        assert_eq!(wrong(&all).len(), 6);
    }

    #[test]
    fn where_a_vital_came_from_is_told_with_its_parts_as_far_as_they_are_known() {
        assert!(elements(&seen()).is_empty());
        let told = Seen {
            lcp_element: "img.hero".into(),
            lcp_delay: Some(120.0),
            lcp_fetch: None,
            lcp_render: Some(40.0),
            cls_element: "div.banner".into(),
            inp_element: "button.find".into(),
            long_frames: Some(0.0),
            how: "back_forward".into(),
            release: "40.3".into(),
            ..seen()
        };
        let facts: Vec<(String, String)> =
            elements(&told).into_iter().map(|f| (f.name, f.says)).collect();
        let has = |name: &str, says: &str| {
            assert!(facts.contains(&(name.into(), says.into())), "{name}: {says} in {facts:?}");
        };
        has("largest paint (LCP)", "img.hero: 0.12 s until it was asked for, 0.04 s to show");
        has("largest shift (CLS)", "div.banner");
        has("slowest interaction (INP)", "button.find");
        has("how it was opened", "back forward");
        has("release", "40.3");
        assert_eq!(facts.len(), 5, "no long frames are none: {facts:?}");
        let behind = elements(&Seen { background: true, ..seen() });
        assert_eq!(behind[0].name, "in the background");
    }

    proptest! {
        #[test]
        fn a_vital_has_the_tone_of_its_published_rating_and_what_is_not_told_none(value in prop::option::of(0.0..9_000.0f32)) {
            for vital in Vital::ALL {
                let cell = vital_cell((vital, value));
                match value.map(f64::from) {
                    None => prop_assert_eq!((cell.says.as_str(), cell.tone), ("–", "within")),
                    Some(v) => {
                        let want = match vital.rate(v) {
                            Rating::Good => "within",
                            Rating::NeedsImprovement => "strained",
                            Rating::Poor => "broken",
                        };
                        prop_assert_eq!((cell.says, cell.tone), (vital.text(v), want));
                    }
                }
            }
        }
    }
}
