//! Scripted runs beside real visitors: which pages only one side sees, and how the runner's times lie beside people's.

use crate::steps::step_samples;
use crate::views::Views;
use crate::{Answers, Range, Result};
use cadentis_core::journey;
use cadentis_core::stats::{Method, Samples};
use cadentis_core::visitor::beside::{BlindSpot, Verdict, blind_spots, visited};
use cadentis_core::visitor::slices::rows;
use cadentis_core::visitor::{Attribute, Filter};
use cadentis_store::journey::Journey;
use cadentis_store::script_version::Status;
use cadentis_store::sheet::Filed;
use cadentis_store::site::Site;
use serde::Serialize;

/// A journey that visits pages, by name and address.
#[derive(Debug, Clone, Serialize)]
pub struct Visitor {
    /// Its name.
    pub name: String,
    /// Its name in addresses.
    pub slug: String,
}

/// Which page families are seen from one side only.
#[derive(Debug, Clone, Serialize)]
pub struct BlindSpots {
    /// Every family that either side knows, most page views first.
    pub families: Vec<BlindSpot>,
    /// Page views of all of them, and of those that no journey visits.
    pub page_views: u64,
    /// Page views on families that no journey visits.
    pub unwatched: u64,
    /// How many families only journeys see.
    pub unused: u64,
    /// The journeys that were asked.
    pub journeys: Vec<Visitor>,
}

/// The journeys that play where visitors are, each with the steps and families that its newest passed run came to.
async fn journeys_visit(
    answers: &Answers,
    site: &Site,
) -> Result<Vec<(Journey, Vec<(usize, String)>)>> {
    let usual = site.environment_names().into_iter().next().unwrap_or_default();
    let (journeys, mut records) = futures::try_join!(
        answers.db.journeys(site.id),
        answers.db.newest_passed_records(site.id)
    )?;
    let counts = |j: &Journey| j.status != Status::Archived.word() && j.environment == usual;
    let visits = |j: Journey| {
        let record = records.remove(&j.id)?;
        let visits = visited(&record, &site.families);
        Some((j, visits))
    };
    Ok(journeys.into_iter().filter(counts).filter_map(visits).collect())
}

/// Page families that real people use and no journey visits, and the reverse.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn ask(answers: &Answers, site: &Site, range: &Range) -> Result<BlindSpots> {
    let by = Attribute::Family;
    let (views, journeys) = futures::try_join!(
        Views::load(answers, site.id, range.stretch, &range.filter, by, &[], 1),
        journeys_visit(answers, site),
    )?;
    let traffic: Vec<(String, u64)> =
        views.values().into_iter().map(|(f, p)| (f, p.page_views)).collect();
    let by_journey: Vec<(String, Vec<String>)> = journeys
        .iter()
        .map(|(j, v)| (j.name.clone(), v.iter().map(|(_, f)| f.clone()).collect()))
        .collect();
    let families = blind_spots(&traffic, &by_journey);
    Ok(BlindSpots {
        page_views: traffic.iter().map(|(_, n)| n).sum(),
        unwatched: families.iter().filter(|s| s.is_unwatched()).map(|s| s.page_views).sum(),
        unused: families.iter().filter(|s| s.is_unused()).count() as u64,
        families,
        journeys: journeys
            .into_iter()
            .map(|(j, _)| Visitor { name: j.name, slug: j.slug })
            .collect(),
    })
}

/// One step of a journey beside the visitors of the family it is spent on.
pub struct Step {
    /// The journey.
    pub journey: Visitor,
    /// The step's name.
    pub step: String,
    /// All runs beside all visitors.
    pub everywhere: Place,
    /// Each location's runs beside visitors of its country.
    pub places: Vec<Place>,
}

/// Runs of a place beside visitors.
pub struct Place {
    /// The location's name; empty for all of them.
    pub name: String,
    /// Milliseconds of the step, over its runs.
    pub ours: Middle,
    /// Milliseconds until the page had loaded, over page views.
    pub theirs: Middle,
    /// How they lie beside each other.
    pub verdict: Verdict,
    /// The median of ours over theirs, where there are enough of both.
    pub ratio: Option<f64>,
}

/// The middle of many times, in milliseconds.
#[derive(Debug, Clone, Copy, Serialize)]
pub struct Middle {
    /// The median.
    pub median: Option<f64>,
    /// The 75th percentile.
    pub p75: Option<f64>,
    /// How many there were.
    pub samples: u64,
}

impl Middle {
    fn of(samples: &Samples) -> Middle {
        let at = |p: f64| samples.percentile(p, Method::NearestRank);
        Middle { median: at(0.5), p75: at(0.75), samples: samples.len() as u64 }
    }
}

impl Place {
    fn of(name: &str, ours: Samples, theirs: Samples) -> Place {
        let verdict = Verdict::of(&ours, &theirs);
        let (ours, theirs) = (Middle::of(&ours), Middle::of(&theirs));
        let both = ours.median.zip(theirs.median).filter(|_| verdict != Verdict::TooFew);
        let ratio = both.filter(|(_, theirs)| *theirs > 0.0).map(|(ours, theirs)| ours / theirs);
        Place { name: name.into(), ours, theirs, verdict, ratio }
    }
}

/// The steps that journeys spend on this family beside its visitors, over all and from each location's country.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn family(
    answers: &Answers,
    site: &Site,
    range: &Range,
    family: &str,
) -> Result<Vec<Step>> {
    let past = range.stretch;
    let filter = Filter::default().and(Attribute::Family, family);
    let columns = ["family", "country", "load"].map(String::from);
    let sheets = answers.db.sheets_of(Filed::PageViews, site.id, past, &columns).await?;
    let loads = answers
        .computed(move || {
            let mut loads: Vec<(String, f64)> = Vec::new();
            for sheet in &sheets {
                let keep = rows(sheet, past, &filter);
                let told = (0..sheet.rows).filter(|row| keep[*row]).filter_map(|row| {
                    Some((
                        sheet.text("country", row).to_string(),
                        f64::from(sheet.number("load", row)?),
                    ))
                });
                loads.extend(told);
            }
            loads
        })
        .await?;
    let real = |country: Option<&str>| {
        Samples::new(
            loads
                .iter()
                .filter(|(c, _)| country.is_none_or(|wanted| wanted == c))
                .map(|(_, ms)| *ms),
        )
    };
    let mut steps = Vec::new();
    for (j, visits) in journeys_visit(answers, site).await? {
        let Some((nth, _)) = visits.iter().find(|(_, f)| f == family) else { continue };
        let (runs, located) = futures::try_join!(
            answers.db.counted_runs(j.id, site.id, past),
            answers.db.locations_of(&j)
        )?;
        let name = journey::parse(&j.script)
            .ok()
            .and_then(|s| s.counted_steps().nth(*nth).map(|s| s.name.clone()));
        let place = |l: &cadentis_store::location::Location| {
            let ours = step_samples(runs.iter().filter(|r| r.location_id == l.id), *nth);
            Place::of(&l.name, ours, real(Some(&l.country)))
        };
        steps.push(Step {
            step: name.unwrap_or_default(),
            everywhere: Place::of("", step_samples(runs.iter(), *nth), real(None)),
            places: located.iter().map(|(l, _)| place(l)).collect(),
            journey: Visitor { name: j.name, slug: j.slug },
        });
    }
    Ok(steps)
}
