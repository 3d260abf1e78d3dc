//! Scripted runs beside real visitors: blind spots, and a family's journey steps beside its visitors, place by place.

use super::{Tabs, tabs};
use crate::State;
use crate::error::PageError;
use crate::format::{self, NO_DATA};
use crate::frame::family_link;
use crate::frame::{Asked, Frame};
use crate::limits::query;
use crate::pages::visitors::filter::FilterLine;
use crate::respond::{TWELVE_HOURS, html};
use crate::view::Link;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::{beside, visitors};
use cadentis_core::visitor::beside::{BlindSpot, Verdict, only_here};
use serde::Deserialize;

#[derive(Template)]
#[template(path = "blind_spots.html")]
struct Page {
    frame: Frame,
    tabs: Tabs,
    filter: FilterLine,
    says: String,
    rows: Vec<Row>,
}

struct Row {
    family: String,
    link: String,
    views: String,
    share: String,
    journeys: Vec<Link>,
    tone: &'static str,
    says: &'static str,
}

pub async fn page(
    state: web::Data<State>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(&state, &request, "Visitors", TWELVE_HOURS).await?;
    let range = frame.range();
    let (found, attributes) = futures::try_join!(
        beside::ask(&state.answers, &frame.site, &range),
        visitors::attributes(&state.answers, frame.site.id, range.stretch),
    )?;
    let (whole, unwatched, unused) = (found.page_views, found.unwatched, found.unused);
    let says = match (unwatched, unused) {
        (0, 0) => {
            "Every page family that people use is visited by a journey, and every journey’s pages are used.".into()
        }
        _ => {
            let share = format::percent(cadentis_core::stats::share(unwatched, whole), 1, None);
            let unused = match unused {
                0 => String::new(),
                1 => "; one page family is seen by journeys only".into(),
                n => format!("; {n} page families are seen by journeys only"),
            };
            format!("{share} of page views are on pages that no journey visits{unused}.")
        }
    };
    let row = |s: &BlindSpot| Row {
        link: format!("{}&{}", family_link(&frame.base, &s.family), frame.query),
        family: s.family.clone(),
        views: format::thousands(s.page_views),
        share: format::percent(cadentis_core::stats::share(s.page_views, whole), 1, None),
        journeys: s
            .journeys
            .iter()
            .filter_map(|name| found.journeys.iter().find(|j| &j.name == name))
            .map(|j| {
                Link::new(format!("{}/journeys/{}?{}", frame.base, j.slug, frame.query), &j.name)
            })
            .collect(),
        tone: if s.is_unwatched() || s.is_unused() { "strained" } else { "within" },
        says: match (s.is_unwatched(), s.is_unused()) {
            (true, _) => "no journey visits it",
            (_, true) => "nobody else visits it",
            _ => "",
        },
    };
    let rows = found.families.iter().map(row).collect();
    let filter = FilterLine::of(&frame, &attributes);
    html(&Page { tabs: tabs(&frame, "/visitors/blind-spots"), filter, says, rows, frame })
}

#[derive(Debug, Default, Deserialize)]
struct BlindSpotsQuery {
    family: Option<String>,
}

#[derive(Template)]
#[template(path = "beside.html")]
struct BesidePart {
    steps: Vec<BesideStep>,
}

struct BesideStep {
    journey: String,
    step: String,
    link: String,
    says: String,
    places: Vec<PlaceRow>,
}

struct PlaceRow {
    place: String,
    ours: String,
    ours_p75: String,
    runs: String,
    theirs: String,
    theirs_p75: String,
    views: String,
    ratio: String,
    says: &'static str,
    tone: &'static str,
}

/// `GET /visitors/family/beside?family=`: the steps that journeys spend on this family beside its visitors, over all
/// and from each location's country.
pub async fn beside_part(
    state: web::Data<State>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let asked = Asked::load(&request, TWELVE_HOURS)?;
    let wanted = query::<BlindSpotsQuery>(&request)?;
    let family = wanted.family.unwrap_or_default();
    let found = beside::family(&state.answers, &asked.site, &asked.range(), &family).await?;
    let step = |s: &beside::Step| {
        let verdicts: Vec<(&str, Verdict)> =
            s.places.iter().map(|p| (p.name.as_str(), p.verdict)).collect();
        let says = match only_here(&verdicts) {
            Some(place) => format!(
                "Only at {place} the runner is slower than visitors of its country are: it is that place, not the site."
            ),
            None => {
                let comparable = verdicts.iter().filter(|(_, v)| *v != Verdict::TooFew).count();
                format!(
                    "{comparable} of {} locations can be compared with visitors of their country.",
                    verdicts.len()
                )
            }
        };
        BesideStep {
            journey: s.journey.name.clone(),
            step: s.step.clone(),
            link: format!("{}/journeys/{}", asked.base(), s.journey.slug),
            says,
            places: std::iter::once(&s.everywhere).chain(&s.places).map(place_row).collect(),
        }
    };
    let steps = found.iter().map(step).collect();
    html(&BesidePart { steps })
}

fn place_row(place: &beside::Place) -> PlaceRow {
    let (ours, theirs, verdict) = (&place.ours, &place.theirs, place.verdict);
    let text = |v: Option<f64>| v.map_or(NO_DATA.into(), |v| format!("{} s", format::seconds(v)));
    PlaceRow {
        place: if place.name.is_empty() { "everywhere".into() } else { place.name.clone() },
        ours: text(ours.median),
        ours_p75: text(ours.p75),
        runs: format::thousands(ours.samples),
        theirs: text(theirs.median),
        theirs_p75: text(theirs.p75),
        views: format::thousands(theirs.samples),
        ratio: place.ratio.map_or("–".into(), |ratio| format!("{ratio:.2}")),
        says: verdict.words(),
        tone: match verdict {
            Verdict::Slower => "strained",
            Verdict::TooFew => "nodata",
            _ => "within",
        },
    }
}
