//! Scripted runs beside real visitors: blind spots, and a family's journey steps beside its visitors, place by place.

use super::super::journey::step_samples;
use super::super::{TWELVE_HOURS, html};
use super::{Tabs, family_link, tabs};
use crate::State;
use crate::error::PageError;
use crate::format::{self, NO_DATA};
use crate::frame::{Asked, Frame};
use crate::limits::query;
use crate::pages::visitors::filter::FilterLine;
use crate::views::Views;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_core::stats::{Method, Samples};
use cadentis_core::visitor::beside::{BlindSpot, Verdict, blind_spots, only_here, visited};
use cadentis_core::visitor::slices::rows;
use cadentis_core::visitor::{Attribute, Filter};
use cadentis_store::filed::Filed;
use cadentis_store::scripts::Status;
use cadentis_store::sites::Journey;
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
    /// Name and address.
    journeys: Vec<(String, String)>,
    tone: &'static str,
    says: &'static str,
}

/// The journeys that play where visitors are, each with the steps and families that its newest passed run came to.
async fn journeys_visit(
    state: &State,
    asked: &cadentis_store::sites::Site,
) -> Result<Vec<(Journey, Vec<(usize, String)>)>, PageError> {
    let mut all = Vec::new();
    let usual = asked.environment_names().into_iter().next().unwrap_or_default();
    for j in state.db.journeys(asked.id).await? {
        if j.status == Status::Archived.word() || j.environment != usual {
            continue;
        }
        if let Some(record) = state.db.newest_passed_record(asked.id, j.id).await? {
            let visits = visited(&record, &asked.families);
            all.push((j, visits));
        }
    }
    Ok(all)
}

pub async fn page(state: web::Data<State>, request: HttpRequest) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(&state, &request, "Visitors", TWELVE_HOURS).await?;
    let (site_id, past) = (frame.site.id, frame.past());
    let (views, attributes) = futures::try_join!(
        Views::load(&state, site_id, past, &frame.filter, Attribute::Family, &[], 1),
        state.db.attributes(site_id, past),
    )?;
    let journeys = journeys_visit(&state, &frame.site).await?;
    let traffic: Vec<(String, u64)> = views.values().into_iter().map(|(f, p)| (f, p.page_views)).collect();
    let whole: u64 = traffic.iter().map(|(_, n)| n).sum();
    let by_journey: Vec<(String, Vec<String>)> =
        journeys.iter().map(|(j, v)| (j.name.clone(), v.iter().map(|(_, f)| f.clone()).collect())).collect();
    let spots = blind_spots(&traffic, &by_journey);
    let unwatched: u64 = spots.iter().filter(|s| s.is_unwatched()).map(|s| s.page_views).sum();
    let unused = spots.iter().filter(|s| s.is_unused()).count();
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
        link: format!("{}&{}", family_link(&s.family), frame.query),
        family: s.family.clone(),
        views: format::thousands(s.page_views),
        share: format::percent(cadentis_core::stats::share(s.page_views, whole), 1, None),
        journeys: s
            .journeys
            .iter()
            .filter_map(|name| journeys.iter().find(|(j, _)| &j.name == name))
            .map(|(j, _)| (j.name.clone(), format!("/journeys/{}?{}", j.slug, frame.query)))
            .collect(),
        tone: if s.is_unwatched() || s.is_unused() { "strained" } else { "within" },
        says: match (s.is_unwatched(), s.is_unused()) {
            (true, _) => "no journey visits it",
            (_, true) => "nobody else visits it",
            _ => "",
        },
    };
    let rows = spots.iter().map(row).collect();
    let filter = FilterLine::of(&frame, &attributes);
    html(&Page { tabs: tabs("/visitors/blind-spots"), filter, says, rows, frame })
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
pub async fn beside_part(state: web::Data<State>, request: HttpRequest) -> Result<HttpResponse, PageError> {
    let asked = Asked::load(&state, &request, TWELVE_HOURS).await?;
    let wanted = query::<BlindSpotsQuery>(&request)?;
    let family = wanted.family.unwrap_or_default();
    let (site_id, past) = (asked.site.id, asked.past());
    let filter = Filter::default().and(Attribute::Family, &family);
    let columns = ["family", "country", "load"].map(String::from);
    let sheets = state.db.sheets_of(Filed::PageViews, site_id, past, &columns).await?;
    let mut loads: Vec<(String, f64)> = Vec::new();
    for sheet in &sheets {
        let keep = rows(sheet, past, &filter);
        let told = (0..sheet.rows).filter(|row| keep[*row]);
        loads.extend(
            told.filter_map(|row| {
                Some((sheet.text("country", row).to_string(), f64::from(sheet.number("load", row)?)))
            }),
        );
    }
    let mut steps = Vec::new();
    for (j, visits) in journeys_visit(&state, &asked.site).await? {
        let Some((nth, _)) = visits.iter().find(|(_, f)| *f == family) else { continue };
        let runs = state.db.counted_runs(j.id, site_id, past).await?;
        let located = state.db.locations_of(&j).await?;
        let name = cadentis_core::journey::parse(&j.script)
            .ok()
            .and_then(|s| s.counted_steps().nth(*nth).map(|s| s.name.clone()))
            .unwrap_or_default();
        let real = |country: Option<&str>| {
            Samples::new(loads.iter().filter(|(c, _)| country.is_none_or(|wanted| wanted == c)).map(|(_, ms)| *ms))
        };
        let mut verdicts = Vec::new();
        let mut places = vec![place_row("everywhere", &step_samples(runs.iter(), *nth), &real(None)).0];
        for (l, _) in &located {
            let ours = step_samples(runs.iter().filter(|r| r.location_id == l.id), *nth);
            let (row, verdict) = place_row(&l.name, &ours, &real(Some(&l.country)));
            places.push(row);
            verdicts.push((l.name.clone(), verdict));
        }
        let says = match only_here(&verdicts) {
            Some(place) => format!(
                "Only at {place} the runner is slower than visitors of its country are: it is that place, not the site."
            ),
            None => {
                let comparable = verdicts.iter().filter(|(_, v)| *v != Verdict::TooFew).count();
                format!(
                    "{} of {} locations can be compared with visitors of their country.",
                    comparable,
                    verdicts.len()
                )
            }
        };
        steps.push(BesideStep {
            journey: j.name.clone(),
            step: name,
            link: format!("/journeys/{}", j.slug),
            says,
            places,
        });
    }
    html(&BesidePart { steps })
}

fn place_row(place: &str, ours: &Samples, theirs: &Samples) -> (PlaceRow, Verdict) {
    let verdict = Verdict::of(ours, theirs);
    let at = |s: &Samples, p: f64| s.percentile(p, Method::NearestRank);
    let text = |v: Option<f64>| v.map_or(NO_DATA.into(), |v| format!("{} s", format::seconds(v)));
    let ratio = at(ours, 0.5).zip(at(theirs, 0.5)).filter(|(_, b)| *b > 0.0 && verdict != Verdict::TooFew);
    let row = PlaceRow {
        place: place.into(),
        ours: text(at(ours, 0.5)),
        ours_p75: text(at(ours, 0.75)),
        runs: format::thousands(ours.len() as u64),
        theirs: text(at(theirs, 0.5)),
        theirs_p75: text(at(theirs, 0.75)),
        views: format::thousands(theirs.len() as u64),
        ratio: ratio.map_or("–".into(), |(a, b)| format!("{:.2}", a / b)),
        says: verdict.words(),
        tone: match verdict {
            Verdict::Slower => "strained",
            Verdict::TooFew => "nodata",
            _ => "within",
        },
    };
    (row, verdict)
}
