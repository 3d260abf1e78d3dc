//! One location: every journey from there, and whose its troubles were.

use crate::State;
use crate::access::After;
use crate::error::PageError;
use crate::format::{self, NO_DATA};
use crate::frame::{Frame, tone};
use crate::respond::{TWELVE_HOURS, html};
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::kept::Location;
use cadentis_answers::kept::Run;
use cadentis_answers::location::{self, JourneyRuns};
use cadentis_core::calendar::Stretch;
use cadentis_core::calendar::stretch::length_text;
use cadentis_core::goal::Standing;
use cadentis_core::run::TroubleKind;
use cadentis_core::run::place::Whose;
use jiff::SignedDuration;

#[derive(Template)]
#[template(path = "location.html")]
struct Page {
    frame: Frame,
    slug: String,
    name: String,
    about: String,
    says: String,
    rows: Vec<Row>,
    troubles: Vec<Trouble>,
    visitors: String,
}

struct Row {
    link: String,
    slug: String,
    name: String,
    bars: Vec<Bar>,
    availability: String,
    tone: &'static str,
    elsewhere: String,
    p75: String,
    against: String,
    runs: String,
}

/// A run.
struct Bar {
    x: f64,
    outcome: &'static str,
    /// How far below the top it begins.
    low: f64,
}

struct Trouble {
    journey: String,
    link: String,
    from: String,
    length: String,
    did: &'static str,
    whose: &'static str,
    /// Not the site's doing, and not held against it in tone.
    ours: bool,
    evidence: String,
}

/// Bars in the strip of a journey.
const BARS: usize = 144;

pub async fn page(
    state: web::Data<State>,
    After(slug): After<String>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(&state, &request, "Journeys", TWELVE_HOURS).await?;
    let found = location::ask(&state.answers, &frame.site, &frame.range(), &slug).await?;
    let found = found.ok_or_else(|| PageError::NotFound(format!("the location {slug}")))?;
    let location = &found.location;
    let rows = found.journeys.iter().map(|p| row(&frame, p)).collect();
    let troubles: Vec<Trouble> =
        found.troubles.iter().map(|t| trouble(&frame, location, t)).collect();
    let says = if found.journeys.is_empty() {
        "Nothing was played from here in this stretch.".into()
    } else {
        let told: Vec<String> = TroubleKind::ALL
            .into_iter()
            .filter_map(|kind| sentence(&found.troubles, kind))
            .collect();
        if told.is_empty() {
            "Every journey gets through from here within its budgets.".into()
        } else {
            told.join(" ")
        }
    };
    html(&Page {
        slug: location.slug.clone(),
        name: location.name.clone(),
        about: format!("{} location in {}, {}", location.kind, location.country, location.zone),
        says,
        rows,
        troubles,
        visitors: format!(
            "{} page views came from the same country ({}) in this stretch, {} in the same hours a week before.",
            format::thousands(found.visitors),
            location.country,
            format::thousands(found.visitors_before)
        ),
        frame,
    })
}

/// How often journeys were in this kind of trouble from here, and whose doing it was.
fn sentence(troubles: &[location::Trouble], kind: TroubleKind) -> Option<String> {
    let some: Vec<&location::Trouble> = troubles.iter().filter(|t| t.kind == kind).collect();
    let of = |w: Whose| some.iter().filter(|t| t.whose == w).count();
    let told: Vec<String> =
        [Whose::Site, Whose::Place, Whose::Runner, Whose::ThirdParty, Whose::NotSure]
            .into_iter()
            .filter(|w| of(*w) > 0)
            .map(|w| format!("{} ({})", w.words(), of(w)))
            .collect();
    let did = match kind {
        TroubleKind::Failing => "did not get through",
        TroubleKind::Slow => "were over their budgets",
    };
    let times = if some.len() == 1 { "one time".into() } else { format!("{} times", some.len()) };
    (!some.is_empty())
        .then(|| format!("Journeys {did} from here {times}; whose it was: {}.", told.join(", ")))
}

fn row(frame: &Frame, p: &JourneyRuns) -> Row {
    let (here, elsewhere) = (p.here.tally(), p.elsewhere.tally());
    let (now, then) = (p.duration.value, p.duration_before.value);
    let mut newest: Vec<(&Run, bool)> = p.here.drawn().rev().take(BARS).collect();
    newest.reverse();
    let most = newest.iter().map(|(r, _)| r.duration_ms).fold(1.0, f64::max);
    let bar = |(i, (r, counts)): (usize, &(&Run, bool))| {
        let low = if r.outcome.got_through() {
            16.0 * (1.0 - (r.duration_ms / most).min(1.0))
        } else {
            6.0
        };
        let word = if *counts { r.outcome.word() } else { "left-out" };
        Bar { x: i as f64 * 4.0, outcome: word, low: low.min(13.0) }
    };
    Row {
        link: format!("{}/journeys/{}?{}", frame.base, p.journey.slug, frame.query),
        slug: p.journey.slug.clone(),
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

fn trouble(frame: &Frame, location: &Location, t: &location::Trouble) -> Trouble {
    let to = Stretch::moment(t.stretch.to + SignedDuration::from_mins(1));
    let from = Stretch::moment(t.stretch.from);
    let at = t.stretch.from.to_zoned(frame.site.zone.clone());
    Trouble {
        journey: t.journey.clone(),
        link: format!(
            "{}/journeys/{}/runs?outcome={}&location={}&from={from}&to={to}&against={}",
            frame.base,
            t.slug,
            t.kind.outcome().word(),
            location.slug,
            frame.against_kind()
        ),
        from: at.strftime("%a %-d %b %H:%M %Z").to_string(),
        length: length_text(t.stretch.seconds() as f64 * 1000.0),
        did: t.kind.verb(),
        whose: t.whose.words(),
        ours: t.whose == Whose::Runner,
        evidence: t.evidence.clone(),
    }
}
