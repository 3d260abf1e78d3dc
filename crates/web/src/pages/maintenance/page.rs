//! What is planned: the weeks ahead, what goes on, and what was planned before; calendars in and out.

use super::{planned_of, reach_words, when_words};
use crate::State;
use crate::access::{After, By, InSite};
use crate::draw::Axis;
use crate::error::PageError;
use crate::fields::{self, Fields, sentence};
use crate::format;
use crate::frame::{Frame, base};
use crate::respond::{TWELVE_HOURS, html_with, redirect, with_header};
use crate::view::{Mark, Window};
use crate::words::when;
use actix_web::http::StatusCode;
use actix_web::http::header::CACHE_CONTROL;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::changes::maintenance::{self as changes, NotPlanned};
use cadentis_answers::kept::{Planned, Site};
use cadentis_answers::maintenance::{self, Plan, Plans, WEEKS_AHEAD};
use cadentis_core::calendar::Stretch;
use cadentis_core::calendar::stretch::length_text;
use jiff::civil::Weekday;
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};

/// Where lanes of the calendar begin, how wide it is, and how high a lane is.
const LEFT: f64 = 190.0;
const WIDTH: f64 = 1248.0;
const LANE: f64 = 40.0;
/// So many that are over are listed.
const MOST_OVER: usize = 50;

#[derive(Template)]
#[template(path = "maintenance.html")]
struct Page {
    frame: Frame,
    says: String,
    rows: Vec<Row>,
    over: Vec<Over>,
    ticks: Vec<Mark>,
    now_x: f64,
    height: f64,
    feed: Option<String>,
    /// The address of the calendar, shown once.
    shown: Option<String>,
    /// What came of a calendar that was read.
    imported: Option<Imported>,
    typed: String,
    wrong: Option<String>,
}

struct Imported {
    says: String,
    refused: Vec<String>,
}

struct Row {
    id: i32,
    name: String,
    detail: String,
    when: String,
    reach: String,
    runs: &'static str,
    next: String,
    by: String,
    goes_on: bool,
    /// Where its lane is, and what is drawn there.
    y: f64,
    windows: Vec<Window>,
}

struct Over {
    name: String,
    when: String,
    reach: String,
    runs: &'static str,
    ended: String,
    by: String,
}

fn runs_words(holds: bool) -> &'static str {
    if holds { "held" } else { "go on, not counted" }
}

fn by(planned: &Planned, frame: &Frame) -> String {
    let at = when(planned.made_at, &frame.site.zone);
    match planned.author.is_empty() {
        true => at,
        false => format!("{}, {at}", planned.author),
    }
}

/// What goes on, and what comes next.
fn lead(plans: &Plans, zone: &TimeZone) -> String {
    let name = |p: &Plan| p.planned.says.window.why.clone();
    let going: Vec<String> = plans
        .plans
        .iter()
        .filter_map(|p| {
            Some(format!("“{}” goes on until {}", name(p), format::day_clock(p.goes_on?.to, zone)))
        })
        .collect();
    let now =
        if going.is_empty() { "Nothing now.".into() } else { format!("{}.", going.join(", ")) };
    let next = plans.plans.iter().filter(|p| p.goes_on.is_none()).find_map(|p| Some((p, p.next?)));
    match next {
        None if plans.plans.is_empty() => {
            "Nothing is planned. Time that is planned here counts in no goal and opens no alert."
                .into()
        }
        None => now,
        Some((p, at)) => {
            let reach = reach_words(&p.planned.says.reach, &plans.journeys, &plans.locations);
            let runs =
                if p.planned.says.holds { "runs are held" } else { "runs go on and do not count" };
            let length = length_text(at.ms());
            let begins = format::day_clock(at.from, zone);
            format!("{now} Next: “{}” on {begins}, {length}, for {reach}; {runs}.", name(p))
        }
    }
}

/// What a page is shown with besides what is planned.
#[derive(Default)]
struct Besides {
    shown: Option<String>,
    imported: Option<Imported>,
    typed: String,
    wrong: Option<String>,
}

async fn show(
    state: &web::Data<State>,
    request: &HttpRequest,
    besides: Besides,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(state, request, "Goals", TWELVE_HOURS).await?;
    let plans = maintenance::ask(&state.answers, &frame.site, frame.now).await?;
    let zone = frame.site.zone.clone();
    let week = SignedDuration::from_hours(24 * 7);
    let ahead = Stretch {
        from: frame.now - SignedDuration::from_hours(24 * 4),
        to: frame.now + week * WEEKS_AHEAD as i32,
    };
    let axis = Axis { stretch: ahead, left: LEFT, width: WIDTH - LEFT };
    let rows: Vec<Row> = plans
        .plans
        .iter()
        .enumerate()
        .map(|(nth, plan)| row(plan, &plans, &frame, &axis, nth as f64 * LANE))
        .collect();
    let over = plans.over.iter().take(MOST_OVER).map(|p| Over {
        name: p.says.window.why.clone(),
        when: when_words(&p.says, &frame.site),
        reach: reach_words(&p.says.reach, &plans.journeys, &plans.locations),
        runs: runs_words(p.says.holds),
        ended: p.says.window.in_force.1.map_or(String::new(), |at| when(at, &zone)),
        by: by(p, &frame),
    });
    let status = match (&besides.wrong, &besides.imported) {
        (Some(_), _) => StatusCode::UNPROCESSABLE_ENTITY,
        _ => StatusCode::OK,
    };
    let page = html_with(
        status,
        &Page {
            says: lead(&plans, &zone),
            over: over.collect(),
            ticks: mondays(&axis, &zone),
            now_x: axis.x(frame.now),
            height: rows.len() as f64 * LANE,
            rows,
            feed: plans
                .feed
                .as_ref()
                .map(|(who, at)| format!("{who} gave it an address on {}.", when(*at, &zone))),
            shown: besides.shown,
            imported: besides.imported,
            typed: besides.typed,
            wrong: besides.wrong,
            frame,
        },
    )?;
    Ok(with_header(page, CACHE_CONTROL, "no-store"))
}

/// The Mondays of the weeks ahead.
fn mondays(axis: &Axis, zone: &TimeZone) -> Vec<Mark> {
    let days = axis.stretch.days(zone).into_iter().map(|at| (at, at.to_zoned(zone.clone())));
    let mondays = days.filter(|(_, day)| day.weekday() == Weekday::Monday);
    mondays.map(|(at, day)| Mark::new(axis.x(at), day.strftime("%-d %b").to_string())).collect()
}

fn row(plan: &Plan, plans: &Plans, frame: &Frame, axis: &Axis, y: f64) -> Row {
    let (zone, says) = (&frame.site.zone, &plan.planned.says);
    let windows = plan.comes.iter().filter_map(|s| {
        let (x, w) = axis.window(s)?;
        Some(Window::new(x, w.max(4.0), format::occurrence_text(s, zone)))
    });
    Row {
        id: plan.planned.id,
        name: says.window.why.clone(),
        detail: plan.planned.detail.clone(),
        when: when_words(says, &frame.site),
        reach: reach_words(&says.reach, &plans.journeys, &plans.locations),
        runs: runs_words(says.holds),
        next: match (plan.goes_on, plan.next) {
            (Some(s), _) => format!("now, until {}", format::day_clock(s.to, zone)),
            (None, Some(s)) => format::occurrence_text(&s, zone),
            (None, None) => String::new(),
        },
        by: by(&plan.planned, frame),
        goes_on: plan.goes_on.is_some(),
        y,
        windows: windows.collect(),
    }
}

/// `GET /maintenance`
pub async fn page(
    state: web::Data<State>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    show(&state, &request, Besides::default()).await
}

fn back(site: &Site) -> HttpResponse {
    redirect(&format!("{}/maintenance", base(site)))
}

/// Back to the list, or why not.
fn done(site: &Site, made: Result<(), NotPlanned>) -> Result<HttpResponse, PageError> {
    match made {
        Ok(()) => Ok(back(site)),
        Err(why) => Err(PageError::Refused(sentence(&why))),
    }
}

/// `POST /maintenance/{id}/end`: what goes on ends now.
pub async fn end(
    state: web::Data<State>,
    InSite(site): InSite,
    By(by): By,
    id: After<i32>,
) -> Result<HttpResponse, PageError> {
    let planned = planned_of(&state, &site, id.0).await?;
    done(&site, changes::end(&state.answers, &by, &site, &planned, Timestamp::now()).await?)
}

/// So many minutes longer at a press.
const LONGER_MIN: i64 = 30;

/// `POST /maintenance/{id}/extend`: what goes on lasts half an hour longer.
pub async fn extend(
    state: web::Data<State>,
    InSite(site): InSite,
    By(by): By,
    id: After<i32>,
) -> Result<HttpResponse, PageError> {
    let planned = planned_of(&state, &site, id.0).await?;
    let now = Timestamp::now();
    done(&site, changes::extend(&state.answers, &by, &site, &planned, LONGER_MIN, now).await?)
}

/// `POST /maintenance/{id}/remove`: what is to come is called off.
pub async fn remove(
    state: web::Data<State>,
    InSite(site): InSite,
    By(by): By,
    id: After<i32>,
) -> Result<HttpResponse, PageError> {
    let planned = planned_of(&state, &site, id.0).await?;
    done(&site, changes::call_off(&state.answers, &by, &site, &planned, Timestamp::now()).await?)
}

/// A calendar may have at most so many bytes.
const LONGEST_CALENDAR: usize = 1_000_000;

/// `POST /maintenance/import`: every event of a calendar that can be a window.
pub async fn import(
    state: web::Data<State>,
    InSite(site): InSite,
    By(by): By,
    request: HttpRequest,
    fields: web::Form<Fields>,
) -> Result<HttpResponse, PageError> {
    let text = fields::one(&fields, "calendar");
    let wrong = |says: &str| Besides {
        wrong: Some(says.into()),
        typed: text.clone(),
        ..Besides::default()
    };
    if text.trim().is_empty() {
        return show(
            &state,
            &request,
            wrong("Choose a file, or paste a calendar: it begins with BEGIN:VCALENDAR."),
        )
        .await;
    }
    if text.len() > LONGEST_CALENDAR {
        return show(
            &state,
            &request,
            Besides { typed: String::new(), ..wrong("A calendar has at most 1 MB here.") },
        )
        .await;
    }
    let holds = fields::one(&fields, "runs") == "held";
    let read = changes::import(&state.answers, &by, &site, &text, holds, Timestamp::now()).await?;
    let says = match read.planned.len() {
        0 => "Nothing of it was planned.".to_string(),
        1 => format!("“{}” is planned.", read.planned[0]),
        n => format!("{n} windows are planned."),
    };
    let kept = if read.refused.is_empty() { String::new() } else { text.clone() };
    let imported = Imported { says, refused: read.refused.into_iter().take(50).collect() };
    show(&state, &request, Besides { imported: Some(imported), typed: kept, ..Besides::default() })
        .await
}

/// `POST /maintenance/feed`: an address for other calendars, shown once.
pub async fn open_feed(
    state: web::Data<State>,
    InSite(site): InSite,
    By(by): By,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let token = changes::open_feed(&state.answers, &by, &site).await?;
    let address = format!("{}/calendars/{}.ics", state.door.address(&request), token.text());
    show(&state, &request, Besides { shown: Some(address), ..Besides::default() }).await
}

/// `POST /maintenance/feed/close`
pub async fn close_feed(
    state: web::Data<State>,
    InSite(site): InSite,
    By(by): By,
) -> Result<HttpResponse, PageError> {
    changes::close_feed(&state.answers, &by, &site).await?;
    Ok(back(&site))
}

#[cfg(test)]
mod tests {
    use super::*;
    use cadentis_core::calendar::Maintenance;
    use cadentis_core::calendar::stretch::at_second;

    const BEGIN: i64 = 1_795_046_400;

    /// An hour that is planned for the whole site, so many hours from a midnight of UTC on.
    fn hour(name: &str, from: i64) -> Plan {
        let begin = at_second(BEGIN + from * 3_600);
        let stretch = Stretch { from: begin, to: at_second(BEGIN + (from + 1) * 3_600) };
        let says = Maintenance::once(stretch, name);
        let planned = Planned {
            id: 1,
            says,
            detail: String::new(),
            version: 1,
            author: "Ada".into(),
            made_at: at_second(BEGIN),
        };
        Plan { planned, comes: vec![stretch], next: Some(stretch), goes_on: None }
    }

    fn plans(plans: Vec<Plan>) -> Plans {
        Plans {
            plans,
            over: Vec::new(),
            places: Vec::new(),
            locations: Vec::new(),
            journeys: Vec::new(),
            feed: None,
        }
    }

    #[test]
    fn what_goes_on_is_told_before_what_comes_next_each_with_what_becomes_of_runs() {
        let zone = TimeZone::get("Europe/Oslo").unwrap();
        assert!(lead(&plans(vec![]), &zone).starts_with("Nothing is planned."));
        let mut now = hour("Database moved", 0);
        (now.goes_on, now.next) = (now.next, None);
        let going = lead(&plans(vec![now]), &zone);
        assert!(
            going.starts_with("“Database moved” goes on until ") && going.ends_with("02:00."),
            "{going}"
        );
        let mut held = hour("Harbour works", 30);
        held.planned.says.holds = true;
        let next = lead(&plans(vec![held]), &zone);
        assert!(next.starts_with("Nothing now. Next: “Harbour works” on "), "{next}");
        assert!(next.contains("07:00") && next.ends_with("; runs are held."), "{next}");
        let next = lead(&plans(vec![hour("Harbour works", 30)]), &zone);
        assert!(next.ends_with("; runs go on and do not count."), "{next}");
    }

    #[test]
    fn every_monday_of_the_weeks_ahead_is_marked_by_the_sites_own_midnight() {
        let zone = TimeZone::get("Europe/Oslo").unwrap();
        let stretch = Stretch { from: at_second(BEGIN), to: at_second(BEGIN + 28 * 86_400) };
        let axis = Axis { stretch, left: LEFT, width: WIDTH - LEFT };
        let marks = mondays(&axis, &zone);
        assert_eq!(marks.len(), 4);
        assert!(marks.windows(2).all(|m| (m[1].x - m[0].x - axis.width / 4.0).abs() < 0.01));
    }
}
