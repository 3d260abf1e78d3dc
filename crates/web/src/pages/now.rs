//! Now: what needs a person, the line-up of the last hours, what is silent.

use crate::State as Shared;
use crate::error::PageError;
use crate::format;
use crate::frame::{Frame, incident_around, tone};
use crate::lineup::{Happened, LineUp, RunLanes};
use crate::respond::{SIX_HOURS, html};
use crate::view::Link;
use crate::words::capital;
use crate::words::{extent_words, seen_says};
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::dependencies::Told;
use cadentis_answers::kept::Run;
use cadentis_answers::now::{self, At, First, Matter, Silence};
use cadentis_answers::played::Here;
use cadentis_core::calendar::stretch::length_text;
use cadentis_core::dependency::{Kind, State};
use cadentis_core::finding::Finding;
use cadentis_core::run::cause::Cause;
use jiff::SignedDuration;

#[derive(Template)]
#[template(path = "now.html")]
struct Page {
    frame: Frame,
    headline: String,
    findings: Vec<Row>,
    /// What was the matter in this stretch and is over: it needs nobody.
    cleared: Vec<Row>,
    cleared_since: String,
    journey_name: String,
    journey_slug: String,
    lineup: String,
    /// Neither a journey nor a page view: what to do is told instead.
    nothing_yet: bool,
    silent: Vec<String>,
    /// What others say of what the site stands on.
    said: Vec<Said>,
}

/// What others say, in a sentence.
struct Said {
    tone: &'static str,
    says: String,
}

struct Row {
    /// From when, or from when to when.
    extent: String,
    tone: &'static str,
    says: String,
    evidence: String,
    cause: String,
    href: String,
    act: &'static str,
    /// The incident about the same, when the row leads elsewhere.
    incident: Option<Link>,
}

impl Row {
    fn new(frame: &Frame, f: Finding, href: String, act: &'static str) -> Row {
        Row {
            extent: extent_words(frame, &f),
            tone: if f.until.is_some() { "within" } else { tone(f.state) },
            says: f.says,
            evidence: f.evidence,
            cause: String::new(),
            href,
            act,
            incident: None,
        }
    }
}

pub async fn page(
    state: web::Data<Shared>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(&state, &request, "Now", SIX_HOURS).await?;
    let (site, past) = (&frame.site, frame.past());
    let found = now::ask(&state.answers, site, &frame.range(), frame.stretch, frame.now).await?;
    let all = found.views.all();
    let lineup = match &found.first {
        None => String::new(),
        Some(First { played, promised, spent }) => {
            let locations = played.located.iter().map(|(l, _)| l.clone());
            let lanes = RunLanes {
                here: Here::each(&played.runs, locations),
                budget_ms: played.script().and_then(|s| s.within_ms).map(|ms| ms as f64),
                every_s: i64::from(played.journey.every_s),
                promised: *promised,
            };
            let (markers, maintenance) = (&found.markers, &found.maintenance);
            let happened = Happened { markers, maintenance, said: &found.dependencies };
            LineUp::of(
                &frame,
                &happened,
                &found.views,
                Some(&found.by_country),
                Some(&lanes),
                Some(spent),
            )?
        }
    };
    let mut silent: Vec<String> = found.silent.iter().map(|s| silence(&frame, s)).collect();
    if frame.stretch.contains(frame.now) && all.page_views == 0 {
        silent.push("No page view has arrived in this stretch.".into());
    }
    let behind = SignedDuration::from_secs(crate::ops::WATCH_BEHIND_S as i64);
    if let Some(lag) = found.watch_lag.filter(|lag| *lag > behind) {
        let long = length_text(lag.as_secs_f64() * 1e3);
        silent.push(format!("The watch is {long} behind: no alert can have opened meanwhile."));
    }
    let cleared: Vec<Row> = found.cleared.into_iter().map(|m| row(&frame, m)).collect();
    let rows: Vec<Row> =
        found.needs.into_iter().take(MOST_FINDINGS).map(|m| row(&frame, m)).collect();
    let first = found.first.as_ref().map(|f| &f.played.journey);
    let (journey_name, journey_slug) =
        first.map_or_else(Default::default, |j| (j.name.clone(), j.slug.clone()));
    let nothing_yet = journey_slug.is_empty() && all.page_views == 0;
    let headline = match rows.len() {
        0 if nothing_yet => "Nothing is measured yet.".to_string(),
        0 if cleared.is_empty() => "Nothing needs you.".to_string(),
        0 => "Nothing needs you now.".to_string(),
        1 => "One thing needs you.".to_string(),
        n => format!("{n} things need you, worst first."),
    };
    let said = found.dependencies.iter().flat_map(|t| said(&frame, t)).collect();
    let cleared_since = format::day_clock(past.from, &site.zone);
    html(&Page {
        headline,
        findings: rows,
        cleared,
        cleared_since,
        journey_name,
        journey_slug,
        lineup,
        silent,
        said,
        nothing_yet,
        frame,
    })
}

/// More things than this at once are not looked into by anybody.
const MOST_FINDINGS: usize = 7;

/// A matter as it stands in the list.
fn row(frame: &Frame, matter: Matter) -> Row {
    let leads_there = matches!(matter.at, At::Incident(_));
    let incident = matter.incident.filter(|_| !leads_there).map(|id| {
        let since = matter.finding.since.unwrap_or(frame.now);
        let around = incident_around(since, matter.finding.until.unwrap_or(frame.now));
        let to = format!("{}/incidents/{id}?{}", frame.base, frame.query_of(&around));
        Link::new(to, format!("incident {id}"))
    });
    Row { incident, ..looked_into(frame, matter) }
}

fn looked_into(frame: &Frame, matter: Matter) -> Row {
    match matter.at {
        At::Goal(id) => {
            let href = format!("{}/goals?{}#goal-{id}", frame.base, frame.query);
            let since = matter.finding.since;
            let mut row = Row::new(frame, matter.finding, href, "look into the goal");
            if since.is_none() {
                row.extent.clear();
            }
            row
        }
        At::Incident(id) => {
            let since = matter.finding.since.unwrap_or(frame.now);
            let around = incident_around(since, matter.finding.until.unwrap_or(frame.now));
            let href = format!("{}/incidents/{id}?{}", frame.base, frame.query_of(&around));
            Row::new(frame, matter.finding, href, "look into the incident")
        }
        At::Limit => {
            let href = format!("{}/budgets?{}#measured", frame.base, frame.query);
            Row::new(frame, matter.finding, href, "look into the limits")
        }
        At::Visitors(vital) => {
            let href = format!("{}/visitors?vital={}&{}", frame.base, vital.name(), frame.query);
            Row::new(frame, matter.finding, href, "look into the visitors")
        }
        At::Journey { slug, run, cause } => {
            let of_journey = || format!("{}/journeys/{slug}?{}", frame.base, frame.query);
            let href = run.as_ref().map_or_else(of_journey, |r| frame.run_link(&r.id));
            let mut row = Row::new(frame, matter.finding, href, "look into the newest such run");
            row.cause = run
                .zip(cause)
                .map_or_else(String::new, |(run, cause)| cause_says(frame, &run, &cause));
            row
        }
    }
}

/// What is said of a dependency: how it is, and what goes on or is soon to come.
fn said(frame: &Frame, t: &Told) -> Vec<Said> {
    let (zone, name) = (&frame.site.zone, &t.dependency.name);
    let mut all = Vec::new();
    if t.state.is_trouble() {
        let since =
            t.since.map_or(String::new(), |at| format!(" since {}", format::day_clock(at, zone)));
        let words = t.last.as_ref().map(|p| p.says.as_str()).filter(|says| !says.is_empty());
        let words = words.map_or(String::new(), |says| format!(": {says}"));
        let tone = if t.state == State::Down { "broken" } else { "strained" };
        let seen = t.seen.as_ref().map_or(String::new(), |seen| format!("; {}", seen_says(seen)));
        let says = format!("“{name}” says {}{since}{words}{seen}", t.state.word());
        all.push(Said { tone, says });
    }
    for a in &t.announced {
        let what = match a.kind {
            Kind::Outage => "an outage",
            Kind::Planned => "planned work",
            Kind::Advisory => "an advisory",
        };
        if a.goes_on(frame.now) {
            let until =
                a.to.map_or(String::new(), |to| format!(" until {}", format::day_clock(to, zone)));
            all.push(Said {
                tone: "strained",
                says: format!("“{name}” has {what} now{until}: {}", a.title),
            });
        } else if a.is_near(frame.now) {
            let from = format::day_clock(a.from, zone);
            all.push(Said {
                tone: "nodata",
                says: format!("“{name}” announces {what} from {from}: {}", a.title),
            });
        }
    }
    all
}

/// What is said of a location from which a run was due and did not come.
fn silence(frame: &Frame, s: &Silence) -> String {
    let length = length_text(frame.now.duration_since(s.since).as_millis_f64());
    let at = format::day_clock(s.since, &frame.site.zone);
    format!("“{}” has not played at {} since it was due {at}, {length} ago.", s.journey, s.location)
}

/// The likely cause of a run's trouble in a sentence.
fn cause_says(frame: &Frame, run: &Run, cause: &Cause) -> String {
    let clock = if frame.stretch.seconds() > 86_400 { format::day_clock } else { format::clock };
    let at = clock(run.due_at, &frame.site.zone);
    format!("{} ({at}): {}: {}", capital(cause.sure.words()), cause.who.words(), cause.says)
}
