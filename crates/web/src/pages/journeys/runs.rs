//! All runs of a journey in the stretch, to be narrowed: outcome, location, version, length.

use crate::State;
use crate::access::After;
use crate::csv_file::CsvFile;
use crate::error::PageError;
use crate::format;
use crate::frame::{Asked, Frame, tone_of};
use crate::limits::query;
use crate::respond::{TWELVE_HOURS, html, journey_of, redirect};
use crate::view::Choice;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::kept::Location;
use cadentis_answers::runs::{self, Runs, Wanted};
use cadentis_core::calendar::Stretch;
use cadentis_core::run::Outcome;
use jiff::tz::TimeZone;
use serde::Deserialize;

#[derive(Template)]
#[template(path = "runs.html")]
struct Page {
    frame: Frame,
    name: String,
    slug: String,
    says: String,
    rows: Vec<Row>,
    outcomes: Vec<Choice>,
    locations: Vec<Choice>,
    versions: Vec<Choice>,
    longer: String,
    /// Addresses of the pages before and after.
    newer: Option<String>,
    older: Option<String>,
    csv: String,
    from: String,
    to: String,
    against: &'static str,
}

struct Row {
    link: String,
    at: String,
    local: String,
    location: String,
    outcome: &'static str,
    tone: &'static str,
    took: String,
    version: String,
    trouble: String,
}

/// What the address narrows the list by.
#[derive(Debug, Default, Deserialize)]
struct RunsQuery {
    outcome: Option<String>,
    location: Option<String>,
    version: Option<String>,
    /// Seconds.
    longer: Option<String>,
    page: Option<i64>,
    csv: Option<String>,
}

const A_PAGE: i64 = 100;
/// A file has at most so many rows.
const A_FILE: i64 = 200_000;

/// What the list is narrowed by, as it was typed.
struct Narrowed {
    outcome: Option<Outcome>,
    location: Option<String>,
    version: Option<i32>,
    longer_s: f64,
}

impl Narrowed {
    fn read(query: &RunsQuery) -> Narrowed {
        let given = |text: &Option<String>| {
            text.as_deref().map(str::trim).filter(|t| !t.is_empty()).map(String::from)
        };
        let longer = given(&query.longer).and_then(|s| s.replace(',', ".").parse::<f64>().ok());
        Narrowed {
            outcome: given(&query.outcome).and_then(|w| Outcome::parse(&w)),
            location: given(&query.location),
            version: given(&query.version).and_then(|v| v.parse().ok()),
            longer_s: longer.unwrap_or(0.0).max(0.0),
        }
    }

    fn longer(&self) -> String {
        if self.longer_s > 0.0 { self.longer_s.to_string() } else { String::new() }
    }

    /// The same in an address.
    fn query(&self, told: &Runs, frame: &Frame) -> String {
        format!(
            "outcome={}&location={}&version={}&longer={}&{}",
            self.outcome.map_or("", Outcome::word),
            told.location.as_ref().map_or("", |l| l.slug.as_str()),
            self.version.map_or(String::new(), |v| v.to_string()),
            self.longer(),
            frame.query
        )
    }
}

pub async fn page(
    state: web::Data<State>,
    After(slug): After<String>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(&state, &request, "Journeys", TWELVE_HOURS).await?;
    let query = query::<RunsQuery>(&request)?;
    let j = journey_of(&state, frame.site.id, &slug).await?;
    let narrowed = Narrowed::read(&query);
    let page = query.page.unwrap_or(0).clamp(0, 1_000_000);
    let (skip, most) = if query.csv.is_some() { (0, A_FILE) } else { (page * A_PAGE, A_PAGE) };
    let wanted = Wanted {
        outcome: narrowed.outcome,
        location: narrowed.location.as_deref(),
        version: narrowed.version,
        longer_ms: narrowed.longer_s * 1000.0,
        skip,
        most,
    };
    let told = runs::ask(&state.answers, &j, frame.past(), &wanted).await?;
    if query.csv.is_some() {
        return Ok(csv(&told).download(&format!("{}-runs.csv", j.slug)));
    }
    let narrow = narrowed.query(&told, &frame);
    let at = |page: i64| format!("?page={page}&{narrow}");
    let shown = match told.rows.len() {
        0 => String::new(),
        n => format!("; {} to {} are shown, newest first", skip + 1, skip + n as i64),
    };
    let here = told.location.as_ref().map(|l| l.id);
    let outcome = |o: Outcome| Choice::new(o.word(), o.word(), Some(o) == narrowed.outcome);
    let location = |l: &Location| Choice::new(&l.slug, &l.name, Some(l.id) == here);
    let version = |v: i32| Choice::new(v, v, Some(v) == narrowed.version);
    html(&Page {
        says: format!(
            "{} of its runs in this stretch{shown}.",
            format::thousands(told.count.max(0) as u64)
        ),
        name: j.name,
        slug: j.slug,
        rows: told.rows.iter().map(|r| row(&frame, &told, r)).collect(),
        outcomes: Outcome::ALL.map(outcome).into(),
        locations: told.locations.iter().map(location).collect(),
        versions: told.versions.iter().map(|v| version(v.version)).collect(),
        longer: narrowed.longer(),
        newer: (page > 0).then(|| at(page - 1)),
        older: (skip + A_PAGE < told.count).then(|| at(page + 1)),
        csv: format!("?csv=1&{narrow}"),
        from: Stretch::moment(frame.stretch.from),
        to: Stretch::moment(frame.stretch.to),
        against: frame.against_kind(),
        frame,
    })
}

fn location_of(told: &Runs, id: i32) -> Option<&Location> {
    told.locations.iter().find(|l| l.id == id)
}

fn row(frame: &Frame, told: &Runs, row: &runs::Row) -> Row {
    let r = &row.run;
    let location = location_of(told, r.location_id);
    let zone = location.and_then(|l| TimeZone::get(&l.zone).ok()).unwrap_or(TimeZone::UTC);
    let at = r.due_at.to_zoned(frame.site.zone.clone());
    Row {
        link: frame.run_link(&r.id),
        at: at.strftime("%a %-d %b %H:%M:%S").to_string(),
        local: r.due_at.to_zoned(zone).strftime("%H:%M %Z").to_string(),
        location: location.map_or(String::new(), |l| l.name.clone()),
        outcome: r.outcome.word(),
        tone: tone_of(r.outcome),
        took: match r.outcome {
            Outcome::Unmeasured => "–".into(),
            _ => format::seconds(r.duration_ms),
        },
        version: row.version.map_or("–".into(), |v| v.to_string()),
        trouble: r.trouble.clone().unwrap_or_default(),
    }
}

fn csv(told: &Runs) -> CsvFile {
    let mut file = CsvFile::with_header([
        "id",
        "due_utc",
        "location",
        "outcome",
        "duration_ms",
        "version",
        "trouble",
    ]);
    for runs::Row { run: r, version } in &told.rows {
        let name = location_of(told, r.location_id).map_or("", |l| l.name.as_str());
        let version = version.map_or(String::new(), |v| v.to_string());
        let trouble = r.trouble.as_deref().unwrap_or("");
        let (id, at, ms) = (r.id.to_string(), r.due_at.to_string(), r.duration_ms.to_string());
        file.row([&id, &at, name, r.outcome.word(), &ms, &version, trouble]);
    }
    file
}

/// `GET /journeys/{slug}/newest`: the newest run of all, for links that always hold.
pub async fn newest(
    state: web::Data<State>,
    After(slug): After<String>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let asked = Asked::load(&request, TWELVE_HOURS)?;
    let j = journey_of(&state, asked.site.id, &slug).await?;
    let run = runs::newest(&state.answers, &j, asked.past()).await?;
    run.map(|r| redirect(&format!("{}/runs/{}", asked.base(), r.id)))
        .ok_or_else(|| PageError::NotFound(format!("a run of {slug} in this stretch")))
}
