//! All runs of a journey in the stretch, to be narrowed: outcome, location, version, length.

use super::redirect;
use super::{TWELVE_HOURS, html, journey_of};
use crate::State;
use crate::csv_file::CsvFile;
use crate::error::PageError;
use crate::format;
use crate::frame::{Frame, tone_of};
use crate::limits::query;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_core::run::Outcome;
use cadentis_store::runs::Like;
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
    outcomes: Vec<(&'static str, bool)>,
    locations: Vec<(String, String, bool)>,
    versions: Vec<(i32, bool)>,
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

pub async fn page(
    state: web::Data<State>,
    slug: web::Path<String>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(&state, &request, "Journeys", TWELVE_HOURS).await?;
    let wanted = query::<RunsQuery>(&request)?;
    let j = journey_of(&state, frame.site.id, &slug).await?;
    let (locations, versions) = futures::try_join!(state.db.locations(), state.db.versions(j.id))?;
    let given = |text: &Option<String>| {
        text.as_deref().map(str::trim).filter(|t| !t.is_empty()).map(String::from)
    };
    let outcome = given(&wanted.outcome).and_then(|w| Outcome::parse(&w));
    let location = given(&wanted.location).and_then(|w| locations.iter().find(|l| l.slug == w));
    let version = given(&wanted.version).and_then(|v| v.parse().ok());
    let longer_s = given(&wanted.longer)
        .and_then(|s| s.replace(',', ".").parse::<f64>().ok())
        .unwrap_or(0.0)
        .max(0.0);
    let like = Like {
        outcome,
        location_id: location.map(|l| l.id),
        version,
        longer_ms: longer_s * 1000.0,
    };
    let page = wanted.page.unwrap_or(0).clamp(0, 1_000_000);
    let (skip, most) = if wanted.csv.is_some() { (0, A_FILE) } else { (page * A_PAGE, A_PAGE) };
    let (runs, count) =
        state.db.runs_like((j.id, frame.site.id), frame.past(), &like, skip, most).await?;
    let place = |id: i32| locations.iter().find(|l| l.id == id);
    let rows: Vec<Row> = runs
        .iter()
        .map(|(r, version)| {
            let zone = place(r.location_id)
                .and_then(|l| TimeZone::get(&l.zone).ok())
                .unwrap_or(TimeZone::UTC);
            Row {
                link: frame.run_link(&r.id),
                at: r
                    .due_at
                    .to_zoned(frame.site.zone.clone())
                    .strftime("%a %-d %b %H:%M:%S")
                    .to_string(),
                local: r.due_at.to_zoned(zone).strftime("%H:%M %Z").to_string(),
                location: place(r.location_id).map_or(String::new(), |l| l.name.clone()),
                outcome: r.outcome.word(),
                tone: tone_of(r.outcome),
                took: if r.outcome == Outcome::Unmeasured {
                    "–".into()
                } else {
                    format::seconds(r.duration_ms)
                },
                version: version.map_or("–".into(), |v| v.to_string()),
                trouble: r.trouble.clone().unwrap_or_default(),
            }
        })
        .collect();
    if wanted.csv.is_some() {
        let mut file = CsvFile::with_header([
            "id",
            "due_utc",
            "location",
            "outcome",
            "duration_ms",
            "version",
            "trouble",
        ]);
        for (r, version) in &runs {
            let name = place(r.location_id).map_or("", |l| l.name.as_str());
            let version = version.map_or(String::new(), |v| v.to_string());
            let trouble = r.trouble.as_deref().unwrap_or("");
            let (id, at, ms) = (r.id.to_string(), r.due_at.to_string(), r.duration_ms.to_string());
            file.row([&id, &at, name, r.outcome.word(), &ms, &version, trouble]);
        }
        return Ok(file.download(&format!("{}-runs.csv", j.slug)));
    }
    let narrow = format!(
        "outcome={}&location={}&version={}&longer={}&{}",
        outcome.map_or("", Outcome::word),
        location.map_or("", |l| l.slug.as_str()),
        version.map_or(String::new(), |v: i32| v.to_string()),
        if longer_s > 0.0 { longer_s.to_string() } else { String::new() },
        frame.query
    );
    let at = |page: i64| format!("?page={page}&{narrow}");
    let shown = match rows.len() {
        0 => String::new(),
        n => format!("; {} to {} are shown, newest first", skip + 1, skip + n as i64),
    };
    let pick = |o: Outcome| (o.word(), Some(o) == outcome);
    html(&Page {
        says: format!(
            "{} of its runs in this stretch{shown}.",
            format::thousands(count.max(0) as u64)
        ),
        name: j.name,
        slug: j.slug,
        rows,
        outcomes: Outcome::ALL.map(pick).to_vec(),
        locations: locations
            .iter()
            .map(|l| (l.slug.clone(), l.name.clone(), Some(l.id) == like.location_id))
            .collect(),
        versions: versions.iter().map(|v| (v.version, Some(v.version) == version)).collect(),
        longer: if longer_s > 0.0 { longer_s.to_string() } else { String::new() },
        newer: (page > 0).then(|| at(page - 1)),
        older: (skip + A_PAGE < count).then(|| at(page + 1)),
        csv: format!("?csv=1&{narrow}"),
        from: cadentis_core::calendar::Stretch::moment(frame.stretch.from),
        to: cadentis_core::calendar::Stretch::moment(frame.stretch.to),
        against: frame.against_kind(),
        frame,
    })
}

/// `GET /journeys/{slug}/newest`: the newest run of all, for links that always hold.
pub async fn newest(
    state: web::Data<State>,
    slug: web::Path<String>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let asked = crate::frame::Asked::load(&state, &request, TWELVE_HOURS).await?;
    let gone = || PageError::NotFound(format!("a run of {slug} in this stretch"));
    let j = journey_of(&state, asked.site.id, &slug).await?;
    let (runs, _) =
        state.db.runs_like((j.id, asked.site.id), asked.past(), &Like::default(), 0, 1).await?;
    runs.first().map(|(r, _)| redirect(&format!("/runs/{}", r.id))).ok_or_else(gone)
}
