//! One alert: what it says, what it came to, when it was open, and whom it tells.

use super::drawn::{Course, unit};
use super::rehearsal::{self, Rehearsal};
use super::{after, alert_of, incident_link, length, tone};
use crate::State;
use crate::access::{After, By, InSite};
use crate::course::Chart;
use crate::error::PageError;
use crate::fields::{self, Fields, Wrong, moment, says_of, sentence};
use crate::filters;
use crate::format;
use crate::frame::{Frame, base};
use crate::respond::{html_with, redirect};
use crate::view::{Fact, Figure};
use crate::words::capital;
use actix_web::http::StatusCode;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::alerts::{self, Watched};
use cadentis_answers::changes::alerts as changes;
use cadentis_answers::kept::{Alert, OpenAlert, Site};
use cadentis_core::alert::Verdict;
use cadentis_core::calendar::Stretch;
use jiff::{SignedDuration, Timestamp};

/// Evaluations of so long are shown when the address does not say.
const DAY_S: i64 = 86_400;

#[derive(Template)]
#[template(path = "alert.html")]
struct Page {
    frame: Frame,
    id: i32,
    name: String,
    sentence: String,
    state: String,
    tone: &'static str,
    is_on: bool,
    silence: Option<String>,
    figures: Vec<Figure>,
    facts: Vec<Fact>,
    instructions: String,
    link: String,
    chart: Chart,
    evaluated: String,
    rows: Vec<Row>,
    rehearsal: Rehearsal,
    /// What was typed of a silence or of a rehearsal.
    typed: Typed,
    wrong: Option<Wrong>,
}

impl Page {
    fn says_of(&self, field: &str) -> Option<&str> {
        says_of(self.wrong.as_ref(), field)
    }
}

/// A silence, or how the alert is acted out, as it is typed.
#[derive(Default)]
pub(super) struct Typed {
    pub until: String,
    pub why: String,
    /// For how long it is acted out, and as bad as what.
    pub minutes: String,
    pub severity: String,
}

/// A time that it was open.
struct Row {
    incident: i32,
    link: String,
    opened: String,
    tone: &'static str,
    severity: &'static str,
    value: String,
    lasted: String,
}

fn state_words(frame: &Frame, alert: &Alert) -> (String, &'static str) {
    let zone = &frame.site.zone;
    let silenced = alert.silence.as_ref().filter(|s| s.until > frame.now);
    match (alert.is_on, silenced, alert.state.open) {
        (false, ..) => ("It is switched off.".into(), "nodata"),
        (_, Some(s), open) => {
            let until = format::day_clock(s.until, zone);
            let is = open.map_or("", |_| " It is beyond a level.");
            (format!("It is silenced until {until} by {}: {}.{is}", s.by, s.why), "nodata")
        }
        (_, _, Some(severity)) => {
            (format!("It is open: {}.", severity.word()), tone(Some(severity)))
        }
        _ => ("It is quiet.".into(), "within"),
    }
}

fn figures(alert: &Alert, frame: &Frame, month: &Watched) -> Vec<Figure> {
    let opened = month.openings.len();
    let mut noticed: Vec<f64> = month
        .openings
        .iter()
        .map(|o| o.opened_at.duration_since(o.since).as_secs_f64() * 1e3)
        .collect();
    noticed.sort_by(f64::total_cmp);
    let median = noticed.get(noticed.len().saturating_sub(1) / 2);
    let open: f64 = month
        .openings
        .iter()
        .map(|o| o.cleared_at.unwrap_or(frame.now).duration_since(o.opened_at).as_secs_f64() * 1e3)
        .sum();
    let words = cadentis_core::calendar::stretch::length_text;
    vec![
        Figure::new(opened.to_string(), "times in 30 days".into(), tone(alert.state.open)),
        Figure::new(
            median.map_or("–".into(), |ms| after(*ms)),
            "until it opened, median".into(),
            "",
        ),
        Figure::new(
            if opened == 0 { "–".into() } else { words(open) },
            "open in 30 days".into(),
            "",
        ),
    ]
}

fn drawn_chart(
    frame: &Frame,
    alert: &Alert,
    watched: &Watched,
    left_out: &[cadentis_answers::kept::LeftOut],
) -> Chart {
    let definition = &alert.says.definition;
    let span = |o: &OpenAlert| {
        let to = o.cleared_at.unwrap_or(frame.now);
        let says = format!("incident {}: {}", o.incident_id, o.severity.word());
        (Stretch { from: o.opened_at, to }, says, tone(Some(o.severity)))
    };
    let course = Course {
        definition,
        stretch: frame.stretch,
        every_s: definition.every_s,
        sub: "as it was watched",
        spans: watched.openings.iter().map(span).collect(),
        left_out,
    };
    course.chart(frame, watched.evaluations.iter().map(|e| e.evaluation))
}

fn evaluated_words(frame: &Frame, alert: &Alert, watched: &Watched) -> String {
    let all = watched.evaluations.len();
    let of = |verdict: Verdict| {
        watched.evaluations.iter().filter(|e| e.evaluation.verdict == verdict).count()
    };
    let late = watched.evaluations.iter().filter(|e| e.is_late).count();
    let mut says = format!(
        "Evaluated up to {}, {} times in this stretch",
        format::day_clock(alert.evaluated_to, &frame.site.zone),
        format::thousands(all as u64)
    );
    for (n, what) in [
        (of(Verdict::NoData), "without data"),
        (of(Verdict::TooFew), "with too few samples"),
        (of(Verdict::NotJudged), "not judged: maintenance or outside service hours"),
        (late, "late, since the watch was behind"),
    ] {
        if n > 0 {
            says += &format!("; {} {what}", format::thousands(n as u64));
        }
    }
    says + "."
}

/// `GET /alerts/{id}`
pub async fn page(
    state: web::Data<State>,
    InSite(site): InSite,
    After(id): After<i32>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    show(&state, &site, id, &request, Typed::default(), None).await
}

pub(super) async fn show(
    state: &web::Data<State>,
    site: &Site,
    id: i32,
    request: &HttpRequest,
    mut typed: Typed,
    wrong: Option<Wrong>,
) -> Result<HttpResponse, PageError> {
    let alert = alert_of(state, site, id).await?;
    let frame = Frame::load(state, request, "Alerts", DAY_S).await?;
    let past = frame.past();
    let month = Stretch { from: frame.now - SignedDuration::from_hours(24 * 30), to: frame.now };
    let (watched, left_out, openings) = futures::try_join!(
        alerts::watched(&state.answers, &alert, past),
        cadentis_answers::maintenance::left_out(&state.answers, site.id, past),
        alerts::watched(&state.answers, &alert, month),
    )?;
    let (state_says, state_tone) = state_words(&frame, &alert);
    let definition = &alert.says.definition;
    let (unit, _) = unit(definition);
    let row = |o: &OpenAlert| Row {
        incident: o.incident_id,
        link: {
            let to = o.cleared_at.unwrap_or(frame.now);
            incident_link(&frame, o.incident_id, Stretch { from: o.since, to })
        },
        opened: format::day_clock(o.opened_at, &site.zone),
        tone: tone(Some(o.severity)),
        severity: o.severity.word(),
        value: o.value.map_or(format::NO_DATA.into(), |v| unit.text(v)),
        lasted: match o.cleared_at {
            Some(to) => length(o.opened_at, to),
            None => "it is open".into(),
        },
    };
    let owner =
        if alert.owner.is_empty() { "nobody in particular".into() } else { alert.owner.clone() };
    if typed.until.is_empty() {
        let hour = frame.now + SignedDuration::from_hours(1);
        typed.until = hour.to_zoned(site.zone.clone()).strftime("%Y-%m-%dT%H:%M").to_string();
    }
    if typed.minutes.is_empty() {
        typed.minutes = (definition.opens_after_min() + 5).to_string();
    }
    let rehearsal = rehearsal::load(state, &frame, &alert, &typed.severity).await?;
    let status = if wrong.is_some() { StatusCode::UNPROCESSABLE_ENTITY } else { StatusCode::OK };
    let page = Page {
        figures: figures(&alert, &frame, &openings),
        facts: vec![
            Fact::new("belongs to", owner),
            Fact::new("no data", definition.no_data.words()),
            Fact::new("changed by", &alert.author),
        ],
        chart: drawn_chart(&frame, &alert, &watched, &left_out),
        evaluated: evaluated_words(&frame, &alert, &watched),
        rows: openings.openings.iter().map(row).collect(),
        silence: alert.silence.as_ref().filter(|s| s.until > frame.now).map(|s| s.why.clone()),
        rehearsal,
        typed,
        wrong,
        sentence: definition.sentence(),
        state: state_says,
        tone: state_tone,
        is_on: alert.is_on,
        instructions: alert.says.instructions.clone(),
        link: alert.says.link.clone(),
        name: alert.says.name.clone(),
        id,
        frame,
    };
    html_with(status, &page)
}

/// `POST /alerts/{id}/switch`: on or off.
pub async fn switch(
    state: web::Data<State>,
    InSite(site): InSite,
    After(id): After<i32>,
    By(by): By,
    fields: web::Form<Fields>,
) -> Result<HttpResponse, PageError> {
    let alert = alert_of(&state, &site, id).await?;
    let on = fields::one(&fields, "on") == "yes";
    changes::switch(&state.answers, &by, &alert, on, Timestamp::now()).await?;
    Ok(redirect(&format!("{}/alerts/{id}", base(&site))))
}

/// `POST /alerts/{id}/silence`: until a moment, with a reason; without a moment it tells again.
pub async fn silence(
    state: web::Data<State>,
    InSite(site): InSite,
    After(id): After<i32>,
    By(by): By,
    request: HttpRequest,
    fields: web::Form<Fields>,
) -> Result<HttpResponse, PageError> {
    let alert = alert_of(&state, &site, id).await?;
    let typed = Typed {
        until: fields::line(&fields, "until", 40),
        why: fields::line(&fields, "why", changes::LONGEST_NOTE + 1),
        ..Typed::default()
    };
    let until = match typed.until.as_str() {
        "" => None,
        text => match moment(text, &site.zone) {
            Ok(until) => Some(until),
            Err(e) => {
                let wrong = Some(("until", sentence(&capital(&e))));
                return show(&state, &site, id, &request, typed, wrong).await;
            }
        },
    };
    let wanted = until.map(|until| (until, typed.why.as_str()));
    match changes::silence(&state.answers, &by, &alert, wanted, Timestamp::now()).await? {
        Ok(()) => Ok(redirect(&format!("{}/alerts/{id}", base(&site)))),
        Err(why) => {
            let field = match why {
                changes::NotSilenced::Why => "why",
                changes::NotSilenced::Until => "until",
            };
            let wrong = Some((field, sentence(&why)));
            show(&state, &site, id, &request, typed, wrong).await
        }
    }
}

/// `POST /alerts/{id}/remove`
pub async fn remove(
    state: web::Data<State>,
    InSite(site): InSite,
    After(id): After<i32>,
    By(by): By,
) -> Result<HttpResponse, PageError> {
    let alert = alert_of(&state, &site, id).await?;
    changes::remove(&state.answers, &by, &alert, Timestamp::now()).await?;
    Ok(redirect(&format!("{}/alerts", base(&site))))
}
