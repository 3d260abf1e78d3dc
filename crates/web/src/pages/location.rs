//! One location: every journey from there, and whose its troubles were.

use super::{TWELVE_HOURS, html};
use crate::State;
use crate::error::PageError;
use crate::format::{self, NO_DATA};
use crate::frame::{Frame, tone};
use crate::views::Views;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_core::calendar::Stretch;
use cadentis_core::calendar::stretch::length_text;
use cadentis_core::goal::{Standing, Tally};
use cadentis_core::run::Outcome;
use cadentis_core::run::place::{self, Around, Compared, Whose, whose};
use cadentis_core::run::spell::Spell;
use cadentis_core::stats::Samples;
use cadentis_core::visitor::{Attribute, Filter};
use cadentis_store::runs::Run;
use cadentis_store::sites::{Journey, LeftOut, Location};
use jiff::{SignedDuration, Timestamp};

#[derive(Template)]
#[template(path = "location.html")]
struct Page {
    frame: Frame,
    name: String,
    about: String,
    says: String,
    rows: Vec<Row>,
    troubles: Vec<Trouble>,
    visitors: String,
}

struct Row {
    link: String,
    name: String,
    bars: Vec<(f64, &'static str, f64)>,
    availability: String,
    tone: &'static str,
    elsewhere: String,
    p75: String,
    against: String,
    runs: String,
}

struct Trouble {
    journey: String,
    link: String,
    from: String,
    length: String,
    whose: &'static str,
    /// Not the site's doing, and not held against it in tone.
    ours: bool,
    evidence: String,
}

/// Bars in the strip of a journey.
const BARS: usize = 144;

/// Failed runs of a trouble that are looked at for a third party in their way.
const LOOKED_AT: usize = 12;

/// One journey's runs, here and elsewhere, in order of time.
struct JourneyRuns {
    journey: Journey,
    here: Vec<Run>,
    elsewhere: Vec<Run>,
    before: Vec<Run>,
}

fn compared<'a>(runs: impl Iterator<Item = &'a Run>, stretch: Stretch) -> Compared {
    let measured = runs.filter(|r| stretch.contains(r.due_at) && r.outcome != Outcome::Unmeasured);
    measured.fold(Compared::default(), |c, r| Compared {
        failed: c.failed + u64::from(r.outcome == Outcome::Failed),
        all: c.all + 1,
    })
}

pub async fn page(
    state: web::Data<State>,
    slug: web::Path<String>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(&state, &request, "Journeys", TWELVE_HOURS).await?;
    let past = frame.past();
    let everything = Filter::default();
    let locations = state.db.locations().await?;
    let location = locations.iter().find(|l| l.slug == *slug);
    let location = location.ok_or_else(|| PageError::NotFound(format!("the location {slug}")))?;
    let week = SignedDuration::from_hours(24 * 7);
    let week_before = Stretch { from: past.from - week, to: past.to - week };
    let (journeys, maintenance, views, usual) = futures::try_join!(
        state.db.journeys(frame.site.id),
        state.db.maintenance(frame.site.id, past),
        Views::rolled(&state, frame.site.id, past, &everything, Attribute::Country, &[], 1_000),
        Views::rolled(&state, frame.site.id, week_before, &everything, Attribute::Country, &[], 1_000),
    )?;
    let left_out = LeftOut::cover(&maintenance);
    let mut all = Vec::new();
    for journey in journeys.into_iter().filter(|j| j.status != "archived") {
        let counted = |runs: Vec<Run>| runs.into_iter().filter(|r| !left_out.contains(r.due_at));
        let runs = state.db.runs(journey.id, frame.site.id, past).await?;
        let (here, elsewhere): (Vec<Run>, Vec<Run>) = counted(runs).partition(|r| r.location_id == location.id);
        let before = match frame.against {
            Some(a) => state.db.runs(journey.id, frame.site.id, a).await?,
            None => Vec::new(),
        };
        let before = before.into_iter().filter(|r| r.location_id == location.id).collect();
        all.push(JourneyRuns { journey, here, elsewhere, before });
    }
    all.retain(|p| !p.here.is_empty());
    let rows = all.iter().map(|p| row(&frame, p)).collect();
    let troubles = troubles(&state, &frame, location, &all, &views, &usual).await?;
    let in_all: Vec<&Trouble> = troubles.iter().collect();
    let says = match in_all.as_slice() {
        [] if all.is_empty() => "Nothing was played from here in this stretch.".into(),
        [] => "Every journey gets through from here.".into(),
        some => {
            let of = |w: Whose| some.iter().filter(|t| t.whose == w.words()).count();
            let told: Vec<String> = [Whose::Site, Whose::Place, Whose::Runner, Whose::ThirdParty, Whose::NotSure]
                .into_iter()
                .filter(|w| of(*w) > 0)
                .map(|w| format!("{} ({})", w.words(), of(w)))
                .collect();
            let word = if some.len() == 1 { "time" } else { "times" };
            format!("Journeys did not get through from here {} {word}. Whose it was: {}.", some.len(), told.join(", "))
        }
    };
    let count = |views: &Views| views.buckets(Some(&location.country)).iter().map(|(_, p)| p.page_views).sum::<u64>();
    html(&Page {
        name: location.name.clone(),
        about: format!("{} location in {}, {}", location.kind, location.country, location.zone),
        says,
        rows,
        troubles,
        visitors: format!(
            "{} page views came from the same country ({}) in this stretch, {} in the same hours a week before.",
            format::thousands(count(&views)),
            location.country,
            format::thousands(count(&usual))
        ),
        frame,
    })
}

fn row(frame: &Frame, p: &JourneyRuns) -> Row {
    let tally = |runs: &[Run]| Tally::of(&runs.iter().map(Run::check).collect::<Vec<_>>(), &LeftOut::cover(&[]));
    let (here, elsewhere) = (tally(&p.here), tally(&p.elsewhere));
    let p75 = |runs: &[Run]| {
        let through = runs.iter().filter(|r| r.outcome.got_through()).map(|r| r.duration_ms);
        Samples::new(through).reading(0.75).value
    };
    let (now, then) = (p75(&p.here), p75(&p.before));
    let newest = &p.here[p.here.len().saturating_sub(BARS)..];
    let most = newest.iter().map(|r| r.duration_ms).fold(1.0, f64::max);
    let bar = |(i, r): (usize, &Run)| {
        let low = if r.outcome.got_through() { 16.0 * (1.0 - (r.duration_ms / most).min(1.0)) } else { 6.0 };
        (i as f64 * 4.0, r.outcome.word(), low.min(13.0))
    };
    Row {
        link: format!("/journeys/{}?{}", p.journey.slug, frame.query),
        name: p.journey.name.clone(),
        bars: newest.iter().enumerate().map(bar).collect(),
        availability: format::percent(here.availability(), 2, Some(1.0)),
        tone: tone(Standing::of_share(here.availability(), 1.0)),
        elsewhere: format::percent(elsewhere.availability(), 2, Some(1.0)),
        p75: now.map_or(NO_DATA.into(), format::seconds),
        against: now.zip(then).map_or("–".into(), |(a, b)| format::difference_s(a - b)),
        runs: format::thousands(here.all()),
    }
}

/// The host that is not the site's and was in the way of most runs of the journey that failed in this time, of a few
/// looked at.
async fn third_party(
    state: &State,
    frame: &Frame,
    p: &JourneyRuns,
    stretch: Stretch,
) -> cadentis_store::Result<Option<String>> {
    let failed = |r: &&Run| stretch.contains(r.due_at) && r.outcome == Outcome::Failed;
    let all: Vec<&Run> = p.here.iter().chain(&p.elsewhere).filter(failed).collect();
    let some: Vec<&Run> = all.iter().copied().step_by(all.len().div_ceil(LOOKED_AT).max(1)).collect();
    let records = state.db.records(&some).await?;
    Ok(place::third_party(&records, |host| frame.site.owns(host)))
}

async fn troubles(
    state: &State,
    frame: &Frame,
    location: &Location,
    all: &[JourneyRuns],
    views: &Views,
    usual: &Views,
) -> cadentis_store::Result<Vec<Trouble>> {
    let past = frame.past();
    let (seen, usually) = (views.buckets(Some(&location.country)), usual.buckets(Some(&location.country)));
    // Whole hours that the trouble touches: page views are counted by the hour.
    let in_hours = |buckets: &[(i64, cadentis_core::visitor::Pool)], s: Stretch, shift: i64| -> u64 {
        let hours = s.from.as_second().div_euclid(3_600) * 3_600 - shift..s.to.as_second() - shift;
        buckets.iter().filter(|(at, _)| hours.contains(at)).map(|(_, p)| p.page_views).sum()
    };
    let mut troubles: Vec<(Timestamp, Trouble)> = Vec::new();
    for p in all {
        let checks: Vec<_> = p.here.iter().map(Run::check).collect();
        for spell in Spell::of(&checks, 2) {
            let stretch = spell.stretch(past.to);
            let others = all.iter().filter(|o| o.journey.id != p.journey.id).flat_map(|o| &o.here);
            let elsewhere = compared(p.elsewhere.iter(), stretch);
            let third_party = match elsewhere.failed {
                0 => None,
                _ => third_party(state, frame, p, stretch).await?,
            };
            let around = Around {
                elsewhere,
                others_here: compared(others, stretch),
                visitors: Some((in_hours(&seen, stretch, 0), in_hours(&usually, stretch, 7 * 86_400) as f64)),
                third_party,
            };
            let (whose, evidence) = whose(&around);
            let (from, to) =
                (Stretch::moment(stretch.from), Stretch::moment(stretch.to + SignedDuration::from_mins(1)));
            let at = stretch.from.to_zoned(frame.site.zone.clone());
            let trouble = Trouble {
                journey: p.journey.name.clone(),
                link: format!(
                    "/journeys/{}/runs?outcome=failed&location={}&from={from}&to={to}&against={}",
                    p.journey.slug,
                    location.slug,
                    frame.against_kind()
                ),
                from: at.strftime("%a %-d %b %H:%M %Z").to_string(),
                length: length_text(stretch.seconds() as f64 * 1000.0),
                whose: whose.words(),
                ours: whose == Whose::Runner,
                evidence,
            };
            troubles.push((stretch.from, trouble));
        }
    }
    troubles.sort_by_key(|(at, _)| std::cmp::Reverse(*at));
    Ok(troubles.into_iter().map(|(_, t)| t).collect())
}
