//! From nothing to the first journey that has played and the first page view that has arrived.

use crate::State;
use crate::access::{InSite, who};
use crate::error::PageError;
use crate::format;
use crate::frame::{self, Frame};
use crate::respond::{TWELVE_HOURS, html};
use crate::words::capital;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::kept::Site;
use cadentis_answers::setup::Presence;
use cadentis_answers::start::{self, Start};
use jiff::Timestamp;

#[derive(Template)]
#[template(path = "first_steps.html")]
struct Page {
    frame: Frame,
    steps: Steps,
    snippet: String,
}

/// The part that is read again every two seconds until nothing is missing.
#[derive(Template)]
#[template(path = "steps_done.html")]
struct Steps {
    base: String,
    says: String,
    steps: Vec<Step>,
    is_done: bool,
}

struct Step {
    name: &'static str,
    is_done: bool,
    /// What is there, or what is missing.
    says: String,
    link: String,
    act: &'static str,
}

impl Steps {
    fn of(site: &Site, found: &Start, administers: bool) -> Steps {
        let base = frame::base(site);
        let steps = vec![
            location(found, administers),
            journey(&base, found),
            run(&base, site, found),
            page_view(&base, site, found, administers),
        ];
        let left = steps.iter().filter(|s| !s.is_done).count();
        let says = match left {
            0 => format!("{} is measured from both sides.", site.name),
            1 => "One step is left.".into(),
            n => format!("{n} steps are left."),
        };
        Steps { base, says, steps, is_done: found.is_done() }
    }
}

fn location(found: &Start, administers: bool) -> Step {
    let away = found.locations.iter().find(|l| matches!(l.presence, Presence::Away(_)));
    let says = match (found.locations.first(), away) {
        _ if found.has_runner() => {
            let there = found.locations.iter().filter(|l| matches!(l.presence, Presence::There(_)));
            let names: Vec<&str> = there.map(|l| l.location.name.as_str()).collect();
            format!("{} asked for work just now.", names.join(", "))
        }
        (_, Some(away)) => format!(
            "The runner of {} has not asked for work for a while: start it again.",
            away.location.name
        ),
        (Some(first), None) => format!(
            "{} has no runner yet: start one with the command that was shown with its token.",
            first.location.name
        ),
        (None, None) => {
            "A machine that plays journeys: its name and country, then one command there.".into()
        }
    };
    let (link, act) = match administers {
        true => ("/setup".to_string(), "Locations"),
        false => (String::new(), ""),
    };
    Step { name: "A location that plays", is_done: found.has_runner(), says, link, act }
}

fn journey(base: &str, found: &Start) -> Step {
    let name = "A first journey";
    match &found.journey {
        Some(j) => {
            let plays = j.status == "active";
            let paused =
                if plays { "" } else { " is written and paused: play it once, then start it" };
            let link = format!("{base}/journeys/{}/script", j.slug);
            let (says, act) = (format!("{}{paused}.", j.name), "its script");
            Step { name, is_done: plays, says, link, act }
        }
        None => Step {
            name,
            is_done: false,
            says: "What a visitor does, step by step: from a starter, recorded, or written.".into(),
            link: format!("{base}/journeys/new"),
            act: "Make it",
        },
    }
}

fn run(base: &str, site: &Site, found: &Start) -> Step {
    let name = "It has played";
    match &found.run {
        Some(run) if !found.has_played() => Step {
            name,
            is_done: false,
            says: format!(
                "The run of {} measured nothing: something of our own was in its way. The next one comes by itself.",
                format::clock(run.due_at, &site.zone)
            ),
            link: format!("{base}/runs/{}", run.id),
            act: "what was in its way",
        },
        Some(run) => Step {
            name,
            is_done: true,
            says: format!(
                "{} in {} s at {}.",
                capital(run.outcome.word()),
                format::seconds(run.duration_ms),
                format::clock(run.due_at, &site.zone)
            ),
            link: format!("{base}/runs/{}", run.id),
            act: "the run",
        },
        None => {
            let says = match (&found.journey, found.has_runner()) {
                (Some(j), true) if j.status != "active" => {
                    "It comes by itself once the journey is started."
                }
                (Some(_), true) => "Its first run is due within the time between two of its runs.",
                (Some(_), false) => "It waits for a location that plays.",
                (None, _) => "It comes by itself once a journey and a location are there.",
            };
            Step { name, is_done: false, says: says.into(), link: String::new(), act: "" }
        }
    }
}

fn page_view(base: &str, site: &Site, found: &Start, administers: bool) -> Step {
    let (name, is_done) = ("A first page view", found.arrived.is_some());
    let says = match (found.arrived, found.refused.first()) {
        (Some(at), _) => format!("The newest arrived at {}.", format::clock(at, &site.zone)),
        (None, Some(refused)) => format!(
            "{} came in the last hour and were turned away: {} ({}).",
            refused.count,
            refused.reason.replace('-', " "),
            refused.example
        ),
        (None, None) => {
            "None has come. The line below goes into the head of your pages; open one of them then."
                .into()
        }
    };
    let (link, act) = match (is_done, administers) {
        (true, _) => (format!("{base}/visitors"), "the visitors"),
        (false, true) => (format!("{base}/settings/visitors"), "Collecting"),
        (false, false) => (String::new(), ""),
    };
    Step { name, is_done, says, link, act }
}

/// `GET /{site}/start`
pub async fn page(
    state: web::Data<State>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(&state, &request, "Now", TWELVE_HOURS).await?;
    let found = start::ask(&state.answers, &frame.site, frame.now).await?;
    let steps = Steps::of(&frame.site, &found, frame.who.administers());
    let server = state.door.address(&request);
    let snippet = format!("<script async src=\"{server}/snippet/{}.js\"></script>", frame.site.key);
    html(&Page { frame, steps, snippet })
}

/// `GET /{site}/start/steps`: how far it is now.
pub async fn steps_part(
    state: web::Data<State>,
    request: HttpRequest,
    InSite(site): InSite,
) -> Result<HttpResponse, PageError> {
    let who = who(&request).ok_or(PageError::SignedOut)?;
    let found = start::ask(&state.answers, &site, Timestamp::now()).await?;
    html(&Steps::of(&site, &found, who.administers()))
}
