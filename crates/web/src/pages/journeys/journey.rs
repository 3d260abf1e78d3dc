//! One journey: readings, the line-up, its steps, its steps by location.

use crate::State;
use crate::access::After;
use crate::at_journey::{figures, lanes, sentences};
use crate::error::PageError;
use crate::format::{self, NO_DATA};
use crate::frame::{Asked, Frame, tone};
use crate::respond::{TWELVE_HOURS, html, journey_of};
use crate::view::{Figure, Working};
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::goals::words::uptime_proof;
use cadentis_answers::journey::{self, AtJourney, Changed, Period, SOUGHT_S, StepReading, Told};
use cadentis_core::calendar::Stretch;
use cadentis_core::calendar::stretch::length_text;
use cadentis_core::goal::Standing;
use cadentis_core::stats::Reading;
use jiff::Timestamp;
use jiff::tz::TimeZone;

#[derive(Template)]
#[template(path = "journey.html")]
struct Page {
    frame: Frame,
    name: String,
    says: Vec<String>,
    readings: Vec<Figure>,
    lineup: String,
    steps: Vec<StepRow>,
    proof: Vec<Working>,
    script: String,
    slug: String,
}

#[derive(Template)]
#[template(path = "places.html")]
struct PlacesPart {
    frame: Frame,
    slug: String,
    steps: Vec<StepName>,
    heat: Vec<HeatRow>,
    usual: Vec<UsualRow>,
    periods: Vec<PeriodRow>,
}

struct StepName {
    whole: String,
    short: String,
}

struct HeatRow {
    location: String,
    /// A cell for each step.
    cells: Vec<HeatCell>,
}

struct HeatCell {
    p75: String,
    tone: &'static str,
    /// Class of the share of the budget.
    share: String,
}

/// The whole run at a location, now and in the stretch compared with.
struct UsualRow {
    name: String,
    now: String,
    before: String,
    difference: String,
    slug: String,
}

struct PeriodRow {
    tone: &'static str,
    from: String,
    length: String,
    says: String,
    runs: String,
}

struct StepRow {
    name: String,
    median: String,
    p75: String,
    p95: String,
    budget: String,
    against: String,
    tone: &'static str,
    fill: f64,
    /// With what an alert on it begins.
    watched: String,
}

pub async fn page(
    state: web::Data<State>,
    After(slug): After<String>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(&state, &request, "Journeys", TWELVE_HOURS).await?;
    let j = journey_of(&state, frame.site.id, &slug).await?;
    let range = frame.range();
    let at = journey::ask(&state.answers, &frame.site, &range, frame.stretch, &j).await?;
    html(&Page {
        says: sentences(&frame, &at),
        readings: figures(&at),
        lineup: lanes(&frame, &j, &at, |_| true)?,
        steps: at.steps.iter().map(step_row).collect(),
        proof: proof(&frame, &at, i64::from(j.every_s)),
        name: j.name,
        script: j.script,
        slug: j.slug,
        frame,
    })
}

fn proof(frame: &Frame, at: &AtJourney, every_s: i64) -> Vec<Working> {
    let (past, tally) = (frame.past(), &at.tally);
    let stretch = vec![
        format!("{} {}, {} to {}.", frame.words, frame.zone, past.from, past.to),
        format!(
            "{} runs in all: {} passed, {} slow, {} failed; {} unmeasured and {} inside maintenance are left out{}.",
            tally.all(),
            tally.passed,
            tally.slow,
            tally.failed,
            tally.unmeasured,
            tally.left_out,
            match at.held {
                0 => String::new(),
                n => format!("; {} more were held for maintenance", format::thousands(n)),
            }
        ),
        format!("Compared {}.", frame.against_words),
        "A step’s time: from its first act until its last expectation holds and the page it led to has loaded.".into(),
    ];
    let kept = at.promised.unwrap_or(1.0);
    let available = tally.score().proof(
        "availability",
        ("runs that got through", "counted runs", "runs"),
        kept,
    );
    let in_ms = |told: &Told| {
        told.proof.clone().noting("samples are the runs that got through, in milliseconds")
    };
    vec![
        Working::new("Stretch", stretch),
        Working::of("Availability", &available),
        Working::of("Uptime, reached from somewhere", &uptime_proof(&at.uptime, every_s)),
        Working::of("p75 of the whole run", &in_ms(&at.duration[0])),
        Working::of("p95 of the whole run", &in_ms(&at.duration[1])),
        Working::of("Apdex", &at.apdex.proof().noting("failed runs count as frustrated")),
    ]
}

/// `GET /journeys/{slug}/places`: each step at each location, each location against its own usual, periods up and
/// down. A part of the page that comes after it: over weeks it takes as long as the rest.
pub async fn places_part(
    state: web::Data<State>,
    After(slug): After<String>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::part(&request, "Journeys", TWELVE_HOURS)?;
    let j = journey_of(&state, frame.site.id, &slug).await?;
    let told = journey::places(&state.answers, frame.site.id, &frame.range(), &j).await?;
    let cell = |(r, budget): &(Reading, Option<f64>)| {
        let share = r.value.zip(*budget).map_or(0.0, |(v, b)| (v / b).min(1.3));
        HeatCell {
            p75: r.value.map_or("–".into(), format::seconds),
            tone: budget.map_or("within", |b| tone(Standing::of(r, b))),
            share: format!("share-{}", (share * 10.0).round() as u32),
        }
    };
    let heat = told.places.iter().map(|p| HeatRow {
        location: p.location.name.clone(),
        cells: p.steps.iter().map(cell).collect(),
    });
    let usual = told.places.iter().map(|p| {
        let seconds = |v: Option<f64>| v.map_or(NO_DATA.into(), format::seconds);
        let both = p.p75.zip(p.p75_before);
        UsualRow {
            name: p.location.name.clone(),
            now: seconds(p.p75),
            before: seconds(p.p75_before),
            difference: both.map_or("–".into(), |(a, b)| format::difference_s(a - b)),
            slug: p.location.slug.clone(),
        }
    });
    html(&PlacesPart {
        steps: told.steps.iter().map(|s| StepName { whole: s.clone(), short: short(s) }).collect(),
        heat: heat.collect(),
        usual: usual.collect(),
        periods: told.periods.iter().map(|p| period_row(&frame, &j.slug, p)).collect(),
        slug: j.slug,
        frame,
    })
}

/// The beginning of a name, for a narrow column.
fn short(name: &str) -> String {
    name.split_whitespace().take(2).collect::<Vec<_>>().join(" ")
}

fn period_row(frame: &Frame, slug: &str, p: &Period) -> PeriodRow {
    let zone = &frame.site.zone;
    let moment = |at: Timestamp| at.to_zoned(zone.clone()).strftime("%a %-d %b %H:%M").to_string();
    let link = |outcome: &str| {
        let (from, to) = (Stretch::moment(p.stretch.from), Stretch::moment(p.stretch.to));
        let against = frame.against_kind();
        format!(
            "{}/journeys/{slug}/runs?outcome={outcome}&from={from}&to={to}&against={against}",
            frame.base
        )
    };
    let (tone, says, runs) = match &p.down {
        None => ("within", "up from everywhere".to_string(), link("")),
        Some(down) => {
            let places = match down.places.is_empty() {
                true => "every location".into(),
                false => down.places.join(", "),
            };
            let lasts = if down.lasts { ", still" } else { "" };
            let says = format!("down from {places}{lasts}: {} failed runs", down.runs);
            ("broken", says, link("failed"))
        }
    };
    PeriodRow {
        tone,
        from: moment(p.stretch.from),
        length: length_text(p.stretch.seconds() as f64 * 1000.0),
        says,
        runs,
    }
}

#[derive(Template)]
#[template(path = "changes.html")]
struct ChangesPart {
    rows: Vec<ChangeRow>,
    days: i64,
    runs: String,
}

struct ChangeRow {
    tone: &'static str,
    at: String,
    says: String,
    near: String,
}

/// `GET /journeys/{slug}/changes`: since when it is quicker or slower, over three weeks up to the end of the
/// stretch, with the markers near.
pub async fn changes_part(
    state: web::Data<State>,
    After(slug): After<String>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let asked = Asked::load(&request, TWELVE_HOURS)?;
    let j = journey_of(&state, asked.site.id, &slug).await?;
    let told = journey::changed(&state.answers, asked.site.id, &asked.range(), &j).await?;
    html(&ChangesPart {
        rows: told.changed.iter().map(|c| change_row(c, &asked.site.zone)).collect(),
        days: SOUGHT_S / 86_400,
        runs: format::thousands(told.runs as u64),
    })
}

fn change_row(changed: &Changed, zone: &TimeZone) -> ChangeRow {
    let near = changed.near.iter().map(|m| {
        let minutes = m.at.duration_since(changed.at).as_mins();
        let apart = length_text(minutes.abs() as f64 * 60_000.0);
        let when = match minutes {
            0 => "at that time".to_string(),
            ..0 => format!("{apart} before"),
            _ => format!("{apart} after"),
        };
        format!("{} ({when})", m.said.title)
    });
    let near: Vec<String> = near.collect();
    let c = &changed.change;
    let (word, sign) = if c.ratio > 1.0 { ("slower", 1.0) } else { ("quicker", -1.0) };
    // What it is quicker by is told without a sign; an end of the interval that lies on the other side keeps its own.
    let percent = |r: f64| {
        let by = sign * (r - 1.0) * 100.0;
        let text = format::signed(by, 1);
        format!("{} %", if by < 0.0 { text.as_str() } else { text.trim_start_matches('+') })
    };
    let (low, high) = match sign > 0.0 {
        true => (c.interval.low, c.interval.high),
        false => (c.interval.high, c.interval.low),
    };
    ChangeRow {
        tone: if c.ratio > 1.0 { "strained" } else { "within" },
        at: changed.at.to_zoned(zone.clone()).strftime("%a %-d %b %H:%M %Z").to_string(),
        says: format!("{word} by {} ({} to {})", percent(c.ratio), percent(low), percent(high)),
        near: match near.is_empty() {
            true => "no marker within three hours".into(),
            false => near.join("; "),
        },
    }
}

fn step_row(step: &StepReading) -> StepRow {
    let seconds = |r: &Reading| r.value.map_or(NO_DATA.into(), format::seconds);
    let [median, p75, p95] = &step.duration;
    let share = p75.value.zip(step.budget_ms).map_or(0.0, |(v, b)| v / b);
    StepRow {
        name: step.name.clone(),
        median: seconds(median),
        p75: seconds(p75),
        p95: seconds(p95),
        budget: step.budget_ms.map_or("–".into(), |b| format!("{:.1}", b / 1000.0)),
        against: step.more_ms().map_or("–".into(), format::difference_s),
        tone: step.standing().map_or("within", tone),
        fill: (110.0 * share).min(150.0),
        watched: {
            // Its limit, or half as long again as usual.
            let level = step.budget_ms.or(p75.value.map(|ms| ms * 1.5)).unwrap_or(1_000.0);
            format!("&warning={level:.0}+ms&window=30&running=3")
        },
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use cadentis_answers::kept::Marker;
    use cadentis_core::marker::Said;
    use cadentis_core::stats::Interval;
    use cadentis_core::stats::change::Change;

    #[test]
    fn a_change_is_told_by_how_much_without_a_sign_that_would_turn_it_around() {
        let at: Timestamp = "2026-11-28T04:00:00Z".parse().unwrap();
        let says = |ratio: f64, low: f64, high: f64, near: Vec<Marker>| {
            let change = Change { at: 40, ratio, interval: Interval { low, high }, p: 0.001 };
            let row = change_row(&Changed { at, change, near }, &TimeZone::UTC);
            (row.says, row.near)
        };
        assert_eq!(says(1.279, 1.275, 1.282, vec![]).0, "slower by 27.9 % (27.5 % to 28.2 %)");
        assert_eq!(says(0.794, 0.791, 0.797, vec![]).0, "quicker by 20.6 % (20.3 % to 20.9 %)");
        assert_eq!(says(0.99, 0.97, 1.01, vec![]).0, "quicker by 1.0 % (−1.0 % to 3.0 %)");
        let marker = |minutes: i64, title: &str| Marker {
            id: 1,
            at: at + jiff::SignedDuration::from_mins(minutes),
            said: Said { title: title.into(), ..Said::default() },
            is_everywhere: false,
            author: "Ada".into(),
            edits: 0,
            removed_at: None,
        };
        let near = says(1.1, 1.0, 1.2, vec![marker(0, "a"), marker(-30, "b"), marker(60, "c")]).1;
        assert_eq!(near, "a (at that time); b (30 min before); c (1 h after)");
    }
}
