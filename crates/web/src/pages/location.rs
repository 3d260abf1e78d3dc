//! One location: every journey from there, and whose its troubles were.

use super::journey::runs_against;
use super::{TWELVE_HOURS, html};
use crate::State;
use crate::error::PageError;
use crate::format::{self, NO_DATA};
use crate::frame::{Frame, tone};
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::views::Views;
use cadentis_core::calendar::Stretch;
use cadentis_core::calendar::stretch::length_text;
use cadentis_core::goal::{Counted, Standing};
use cadentis_core::run::place::{self, Around, Compared, Whose, whose};
use cadentis_core::run::spell::Spell;
use cadentis_core::run::{Outcome, TroubleKind};
use cadentis_core::stats::Samples;
use cadentis_core::timing::Vital;
use cadentis_core::visitor::{Attribute, Filter, Pool};
use cadentis_store::runs::Run;
use cadentis_store::sites::{Journey, Location};
use futures::TryFutureExt;
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
    kind: TroubleKind,
    did: &'static str,
    whose: &'static str,
    /// Not the site's doing, and not held against it in tone.
    ours: bool,
    evidence: String,
}

/// Bars in the strip of a journey.
const BARS: usize = 144;

/// Failed runs of a trouble that are looked at for a third party in their way.
const LOOKED_AT: usize = 12;

/// So many runs in a row begin a trouble.
const IN_A_ROW: u64 = 2;

/// One journey's runs, here and elsewhere, in order of time.
struct JourneyRuns {
    journey: Journey,
    here: Counted<Run>,
    elsewhere: Counted<Run>,
    before: Counted<Run>,
}

fn compared<'a>(runs: impl Iterator<Item = &'a Run>, stretch: Stretch, kind: TroubleKind) -> Compared {
    let measured = runs.filter(|r| stretch.contains(r.due_at) && r.outcome != Outcome::Unmeasured);
    measured.fold(Compared::default(), |c, r| Compared {
        troubled: c.troubled + u64::from(r.outcome == kind.outcome()),
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
    let (journeys, views, usual) = futures::try_join!(
        state.db.journeys(frame.site.id).err_into(),
        Views::rolled(&state.answers, frame.site.id, past, &everything, Attribute::Country, &[Vital::Lcp], 1_000),
        Views::rolled(
            &state.answers,
            frame.site.id,
            week_before,
            &everything,
            Attribute::Country,
            &[Vital::Lcp],
            1_000
        ),
    )?;
    let mut all = Vec::new();
    for journey in journeys.into_iter().filter(|j| j.status != "archived") {
        let runs = state.db.counted_runs(journey.id, frame.site.id, past).await?;
        let (here, elsewhere) =
            (runs.filtered(|r| r.location_id == location.id), runs.filtered(|r| r.location_id != location.id));
        let before = runs_against(&state, &frame, journey.id).await?.filtered(|r| r.location_id == location.id);
        all.push(JourneyRuns { journey, here, elsewhere, before });
    }
    all.retain(|p| !p.here.all().is_empty());
    let rows = all.iter().map(|p| row(&frame, p)).collect();
    let troubles = troubles(&state, &frame, location, &all, &views, &usual).await?;
    let says = if all.is_empty() {
        "Nothing was played from here in this stretch.".into()
    } else {
        let told: Vec<String> = TroubleKind::ALL.into_iter().filter_map(|kind| sentence(&troubles, kind)).collect();
        if told.is_empty() { "Every journey gets through from here within its budgets.".into() } else { told.join(" ") }
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

/// How often journeys were in this kind of trouble from here, and whose doing it was.
fn sentence(troubles: &[Trouble], kind: TroubleKind) -> Option<String> {
    let some: Vec<&Trouble> = troubles.iter().filter(|t| t.kind == kind).collect();
    let of = |w: Whose| some.iter().filter(|t| t.whose == w.words()).count();
    let told: Vec<String> = [Whose::Site, Whose::Place, Whose::Runner, Whose::ThirdParty, Whose::NotSure]
        .into_iter()
        .filter(|w| of(*w) > 0)
        .map(|w| format!("{} ({})", w.words(), of(w)))
        .collect();
    let did = match kind {
        TroubleKind::Failing => "did not get through",
        TroubleKind::Slow => "were over their budgets",
    };
    let times = if some.len() == 1 { "one time".into() } else { format!("{} times", some.len()) };
    (!some.is_empty()).then(|| format!("Journeys {did} from here {times}; whose it was: {}.", told.join(", ")))
}

fn row(frame: &Frame, p: &JourneyRuns) -> Row {
    let (here, elsewhere) = (p.here.tally(), p.elsewhere.tally());
    let p75 = |runs: &Counted<Run>| Samples::new(runs.through().map(|r| r.duration_ms)).reading(0.75).value;
    let (now, then) = (p75(&p.here), p75(&p.before));
    let newest = &p.here.all()[p.here.all().len().saturating_sub(BARS)..];
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
    kind: TroubleKind,
) -> cadentis_store::Result<Option<String>> {
    let troubled = |r: &&Run| stretch.contains(r.due_at) && r.outcome == kind.outcome();
    let all: Vec<&Run> = p.here.iter().chain(p.elsewhere.iter()).filter(troubled).collect();
    let some: Vec<&Run> = all.iter().copied().step_by(all.len().div_ceil(LOOKED_AT).max(1)).collect();
    let records = state.db.records(&some).await?;
    Ok(place::third_party(&records, kind, |host| frame.site.owns(host)))
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
    let in_hours = |buckets: &[(i64, Pool)], s: Stretch, shift: i64| -> Pool {
        let hours = s.from.as_second().div_euclid(3_600) * 3_600 - shift..s.to.as_second() - shift;
        let mut pool = Pool::default();
        buckets.iter().filter(|(at, _)| hours.contains(at)).for_each(|(_, p)| pool.absorb(p));
        pool
    };
    let wait = |pool: &Pool| {
        let reading = pool.measured(Vital::Lcp).reading(0.75);
        reading.value.filter(|_| !reading.is_small())
    };
    let mut troubles: Vec<(Timestamp, Trouble)> = Vec::new();
    let spells = all.iter().flat_map(|p| {
        let checks: Vec<_> = p.here.checks().collect();
        let of = move |kind| Spell::of_kind(&checks, IN_A_ROW, kind).into_iter().map(move |spell| (p, kind, spell));
        TroubleKind::ALL.into_iter().flat_map(of)
    });
    for (p, kind, spell) in spells {
        let stretch = spell.stretch(past.to);
        let others = all.iter().filter(|o| o.journey.id != p.journey.id).flat_map(|o| o.here.iter());
        let elsewhere = compared(p.elsewhere.iter(), stretch, kind);
        let third_party = match elsewhere.troubled {
            0 => None,
            _ => third_party(state, frame, p, stretch, kind).await?,
        };
        let (now, then) = (in_hours(&seen, stretch, 0), in_hours(&usually, stretch, 7 * 86_400));
        let around = Around {
            elsewhere,
            others_here: compared(others, stretch, kind),
            visitors: Some((now.page_views, then.page_views as f64)),
            visitors_wait: wait(&now).zip(wait(&then)),
            third_party,
        };
        let (whose, evidence) = whose(&around, kind);
        let (from, to) = (Stretch::moment(stretch.from), Stretch::moment(stretch.to + SignedDuration::from_mins(1)));
        let at = stretch.from.to_zoned(frame.site.zone.clone());
        let trouble = Trouble {
            journey: p.journey.name.clone(),
            link: format!(
                "/journeys/{}/runs?outcome={}&location={}&from={from}&to={to}&against={}",
                p.journey.slug,
                kind.outcome().word(),
                location.slug,
                frame.against_kind()
            ),
            from: at.strftime("%a %-d %b %H:%M %Z").to_string(),
            length: length_text(stretch.seconds() as f64 * 1000.0),
            kind,
            did: kind.verb(),
            whose: whose.words(),
            ours: whose == Whose::Runner,
            evidence,
        };
        troubles.push((stretch.from, trouble));
    }
    troubles.sort_by_key(|(at, _)| std::cmp::Reverse(*at));
    Ok(troubles.into_iter().map(|(_, t)| t).collect())
}
