//! Dependencies: lanes of what others say of them, what is announced, and saying it by hand.

use crate::State;
use crate::access::{By, InSite};
use crate::draw::{Axis, ticks};
use crate::error::PageError;
use crate::fields::{self, Fields, sentence};
use crate::filters;
use crate::format;
use crate::frame::{Frame, base, said_parts, tone_of_state};
use crate::respond::{TWELVE_HOURS, html_with, redirect};
use crate::view::{Choice, Mark, Pin, SaidPart};
use crate::words::{seen_says, when};
use actix_web::http::StatusCode;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::changes::dependencies::{self as changes, Posted};
use cadentis_answers::dependencies::{self, Told};
use cadentis_answers::kept::Site;
use cadentis_core::calendar::stretch::length_text;
use cadentis_core::dependency::{
    Announcement, LONGEST_NAME, LONGEST_SAYS, State as How, USUAL_MINUTES,
};
use jiff::Timestamp;

const LANE: f64 = 40.0;
const LEFT: f64 = 196.0;
const RIGHT: f64 = 1_212.0;

#[derive(Template)]
#[template(path = "dependencies.html")]
struct Page {
    frame: Frame,
    says: String,
    rows: Vec<Row>,
    announced: Vec<Announced>,
    history: Vec<Past>,
    ticks: Vec<Mark>,
    pins: Vec<Pin>,
    height: f64,
    states: Vec<Choice>,
    known: Vec<Choice>,
    typed: Typed,
    wrong: Option<String>,
}

/// A dependency with its lane.
struct Row {
    slug: String,
    name: String,
    tone: &'static str,
    state: &'static str,
    says: String,
    link: String,
    since: String,
    expires: String,
    by: String,
    y: f64,
    parts: Vec<SaidPart>,
    /// What pages see of it.
    seen: String,
    /// Its hosts, as they are typed.
    hosts: String,
}

struct Announced {
    name: String,
    kind: &'static str,
    phase: &'static str,
    title: String,
    says: String,
    link: String,
    extent: String,
    goes_on: bool,
}

struct Past {
    at: String,
    name: String,
    state: &'static str,
    tone: &'static str,
    says: String,
    by: String,
}

#[derive(Default)]
struct Typed {
    slug: String,
    name: String,
    state: String,
    says: String,
    link: String,
    minutes: String,
}

fn row(told: &Told, frame: &Frame, axis: &Axis, nth: usize) -> Row {
    let zone = &frame.site.zone;
    let last = told.last.as_ref();
    Row {
        slug: told.dependency.slug.clone(),
        name: told.dependency.name.clone(),
        tone: tone_of_state(told.state),
        state: told.state.word(),
        says: last.map_or(String::new(), |p| p.says.clone()),
        link: last.map_or(String::new(), |p| p.link.clone()),
        since: told.since.map_or(String::new(), |at| format::day_clock(at, zone)),
        expires: last.map_or(String::new(), |p| format::day_clock(p.expires_at, zone)),
        by: last.map_or(String::new(), |p| p.author.clone()),
        y: nth as f64 * LANE,
        parts: said_parts(told, axis, zone),
        seen: told.seen.as_ref().map_or(String::new(), seen_says),
        hosts: told.dependency.hosts.join(", "),
    }
}

fn announced(told: &Told, a: &Announcement, frame: &Frame) -> Announced {
    let zone = &frame.site.zone;
    let to = a.to.map_or(String::new(), |to| format!(" to {}", when(to, zone)));
    Announced {
        name: told.dependency.name.clone(),
        kind: a.kind.word(),
        phase: a.phase.word(),
        title: a.title.clone(),
        says: a.says.clone(),
        link: a.link.clone(),
        extent: format!("{}{to}", when(a.from, zone)),
        goes_on: a.goes_on(frame.now),
    }
}

/// So many posts are listed.
const MOST_PAST: usize = 100;

fn lead(told: &[Told], frame: &Frame) -> String {
    // What is said holds up to the end of what is shown.
    let end = frame.now.min(frame.stretch.to);
    let troubled: Vec<String> = told
        .iter()
        .filter(|t| t.state.is_trouble())
        .map(|t| {
            let since = t.since.map_or(String::new(), |at| {
                format!(" for {}", length_text(end.duration_since(at).as_millis_f64()))
            });
            format!("“{}” says {}{since}", t.dependency.name, t.state.word())
        })
        .collect();
    let unknown = told.iter().filter(|t| t.state == How::Unknown).count();
    match (told.len(), troubled.is_empty(), unknown) {
        (0, ..) => "Nobody has said anything of what this site stands on. Whoever looks after a service posts its state with a token, or an editor does below; what is not said again becomes unknown.".into(),
        (_, false, _) => format!("{}.", troubled.join(", ")),
        (n, true, 0) => format!("All of {n} say that they are as they should be."),
        (n, true, unknown) => format!("None of {n} says that it is in trouble; of {unknown} nothing is known now."),
    }
}

async fn show(
    state: &web::Data<State>,
    request: &HttpRequest,
    (typed, wrong): (Typed, Option<String>),
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(state, request, "Goals", TWELVE_HOURS).await?;
    let (answers, stretch, now) = (&state.answers, frame.stretch, frame.now);
    let mut told = dependencies::ask(answers, &frame.site, stretch, now).await?;
    dependencies::see(answers, &frame.site, &mut told, stretch, now).await?;
    let axis = Axis { stretch: frame.stretch, left: LEFT, width: RIGHT - LEFT };
    let zone = frame.site.zone.clone();
    let all = told.iter().flat_map(|t| t.announced.iter().map(move |a| (t, a)));
    let mut history: Vec<(Timestamp, Past)> = told
        .iter()
        .flat_map(|t| {
            t.posts.iter().map(|p| {
                let past = Past {
                    at: format::day_clock(p.at, &zone),
                    name: t.dependency.name.clone(),
                    state: p.state.word(),
                    tone: tone_of_state(p.state),
                    says: p.says.clone(),
                    by: p.author.clone(),
                };
                (p.at, past)
            })
        })
        .collect();
    history.sort_by_key(|(at, _)| std::cmp::Reverse(*at));
    let status = if wrong.is_some() { StatusCode::UNPROCESSABLE_ENTITY } else { StatusCode::OK };
    html_with(
        status,
        &Page {
            says: lead(&told, &frame),
            rows: told.iter().enumerate().map(|(nth, t)| row(t, &frame, &axis, nth)).collect(),
            announced: all.map(|(t, a)| announced(t, a, &frame)).collect(),
            history: history.into_iter().take(MOST_PAST).map(|(_, past)| past).collect(),
            ticks: ticks(&axis, &zone),
            pins: frame.pins(&frame.markers, &axis),
            height: told.len() as f64 * LANE,
            states: [How::Ok, How::Degraded, How::Down, How::Unknown]
                .map(|s| Choice::of(s.word(), s.word() == typed.state))
                .to_vec(),
            known: told
                .iter()
                .map(|t| Choice::new(&t.dependency.slug, &t.dependency.name, false))
                .collect(),
            typed,
            wrong,
            frame,
        },
    )
}

/// `GET /dependencies`
pub async fn page(
    state: web::Data<State>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let typed = Typed { minutes: USUAL_MINUTES.to_string(), ..Typed::default() };
    show(&state, &request, (typed, None)).await
}

fn back(site: &Site) -> HttpResponse {
    redirect(&format!("{}/dependencies", base(site)))
}

/// `POST /dependencies`: a state, by hand.
pub async fn post(
    state: web::Data<State>,
    InSite(site): InSite,
    By(by): By,
    request: HttpRequest,
    fields: web::Form<Fields>,
) -> Result<HttpResponse, PageError> {
    let typed = Typed {
        slug: fields::line(&fields, "slug", 60),
        name: fields::line(&fields, "name", LONGEST_NAME),
        state: fields::one(&fields, "state"),
        says: fields::line(&fields, "says", LONGEST_SAYS),
        link: fields::line(&fields, "link", 500),
        minutes: fields::one(&fields, "minutes"),
    };
    let (how, minutes) = (How::of_word(&typed.state), typed.minutes.trim().parse::<i64>());
    let wrong = match (how, minutes) {
        (None, _) => "It is ok, degraded, down or unknown.".to_string(),
        (_, Err(_)) => "It is good for a number of minutes.".to_string(),
        (Some(state_now), Ok(minutes)) => {
            let name = (!typed.name.is_empty()).then_some(typed.name.as_str());
            let posted = Posted {
                slug: &typed.slug,
                name,
                state: state_now,
                says: &typed.says,
                link: &typed.link,
                minutes,
            };
            let now = (Timestamp::now(), None);
            match changes::post(&state.answers, &by, &site, &posted, now).await? {
                Ok(_) => return Ok(back(&site)),
                Err(why) => sentence(&why),
            }
        }
    };
    show(&state, &request, (typed, Some(wrong))).await
}

/// `POST /dependencies/{slug}/hosts`: whose requests are its own.
pub async fn hosts(
    state: web::Data<State>,
    InSite(site): InSite,
    By(by): By,
    request: HttpRequest,
    path: web::Path<(String, String)>,
    fields: web::Form<Fields>,
) -> Result<HttpResponse, PageError> {
    let (slug, given) = (path.into_inner().1, fields::line(&fields, "hosts", 3_000));
    let hosts = given.split([',', ' ']).filter(|h| !h.is_empty()).map(String::from);
    let hosts: Vec<String> = hosts.collect();
    match changes::set_hosts(&state.answers, &by, &site, &slug, &hosts).await? {
        Ok(true) => Ok(back(&site)),
        Ok(false) => Err(PageError::NotFound("this dependency".into())),
        Err(why) => {
            let typed = Typed { minutes: USUAL_MINUTES.to_string(), ..Typed::default() };
            let wrong = format!("{given}: {}", sentence(&why));
            show(&state, &request, (typed, Some(wrong))).await
        }
    }
}

/// `POST /dependencies/{slug}/remove`
pub async fn remove(
    state: web::Data<State>,
    InSite(site): InSite,
    By(by): By,
    path: web::Path<(String, String)>,
) -> Result<HttpResponse, PageError> {
    let slug = path.into_inner().1;
    match changes::remove(&state.answers, &by, &site, &slug).await? {
        true => Ok(back(&site)),
        false => Err(PageError::NotFound("this dependency".into())),
    }
}
