//! Measures: what can be asked, in words, and what it comes to over the stretch.

use crate::State;
use crate::course::{Chart, Drawn, chart};
use crate::error::PageError;
use crate::fields::sentence;
use crate::filters;
use crate::format;
use crate::frame::{Frame, all_of};
use crate::offered::offered;
use crate::respond::{TWELVE_HOURS, html, html_with};
use crate::view::Working;
use actix_web::http::StatusCode;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::measures::{self, Course};
use cadentis_core::calendar::stretch::length_text;
use cadentis_core::measure::{Key, Measured, Subject, complete, forms};
use cadentis_core::text::clean;

#[derive(Template)]
#[template(path = "measures.html")]
struct Page {
    frame: Frame,
    /// What was asked, as it was typed.
    text: String,
    wrong: Option<String>,
    found: Option<Found>,
    groups: Vec<Group>,
}

struct Found {
    /// As it reads.
    text: String,
    value: String,
    interval: String,
    samples: String,
    proof: Vec<Working>,
    chart: Chart,
    rows: Vec<Row>,
}

/// A bucket of the course, for who does not see the line.
struct Row {
    at: String,
    value: String,
    samples: String,
}

/// Forms of what is read of one kind of sample.
struct Group {
    title: String,
    /// What it can be narrowed by.
    narrowed: String,
    forms: Vec<Form>,
}

struct Form {
    written: String,
    says: &'static str,
    example: &'static str,
    link: String,
}

/// What is typed is at most so long; a little more than can be read, so that whoever goes beyond is told.
const LONGEST: usize = cadentis_core::measure::text::LONGEST + 1;

fn written(form: &forms::Form) -> String {
    let piece = |piece: &forms::Piece| match piece {
        forms::Piece::Word(word) => (*word).to_string(),
        forms::Piece::Slot(forms::Slot::Percentile) => "pNN".into(),
        forms::Piece::Slot(forms::Slot::Figure) => "NUMBER".into(),
        forms::Piece::Slot(forms::Slot::Vital) => "VITAL".into(),
        forms::Piece::Slot(forms::Slot::Limit) => "LIMIT".into(),
        forms::Piece::Slot(forms::Slot::Length) => "LENGTH".into(),
    };
    form.pieces.iter().map(piece).collect::<Vec<_>>().join(" ")
}

/// The address of what a measure comes to.
fn link(frame: &Frame, text: &str) -> String {
    let text: String = url::form_urlencoded::byte_serialize(text.as_bytes()).collect();
    format!("{}/measures?of={text}&{}", frame.base, frame.query)
}

fn groups(frame: &Frame) -> Vec<Group> {
    let form = |form: &'static forms::Form| Form {
        written: written(form),
        says: form.says,
        example: form.example,
        link: link(frame, form.example),
    };
    let group = |subject: Subject| {
        let keys: Vec<String> = Key::of_subject(subject).iter().map(Key::word).collect();
        let own = matches!(subject, Subject::PageViews | Subject::Requests | Subject::Actions);
        let own = if own { ", attribute.NAME" } else { "" };
        Group {
            title: crate::words::capital(subject.words()),
            narrowed: format!("{}{own}", keys.join(", ")),
            forms: forms::forms().filter(|f| f.subject == subject).map(form).collect(),
        }
    };
    Subject::ALL.into_iter().map(group).collect()
}

fn row(frame: &Frame, course: &Course, unit: cadentis_core::measure::Unit) -> Vec<Row> {
    let row = |p: &measures::Point| Row {
        at: format::day_clock(
            cadentis_core::calendar::stretch::at_second(p.begin_s),
            &frame.site.zone,
        ),
        value: p.reading.value.map_or(format::NO_DATA.into(), |v| unit.text(v)),
        samples: format::thousands(p.reading.samples),
    };
    course.points.iter().map(row).collect()
}

async fn find(
    state: &State,
    frame: &Frame,
    measured: &Measured,
) -> Result<Result<Found, String>, PageError> {
    let (answers, site) = (&state.answers, &frame.site);
    let about = match measures::about(answers, site, measured).await? {
        Ok(about) => about,
        Err(not_there) => return Ok(Err(sentence(&not_there))),
    };
    let past = frame.past();
    let (read, course, left_out) = futures::try_join!(
        measures::reading(answers, site, &about, past),
        measures::course(answers, site, &about, past, frame.points()),
        cadentis_answers::maintenance::left_out(answers, site.id, past),
    )?;
    let (unit, worse) = (measured.measure.unit(), measured.measure.worse());
    let middle = course.bucket_s / 2;
    let value = |p: &measures::Point| Some((p.begin_s + middle, p.reading.value?));
    let points: Vec<(i64, f64)> = course.points.iter().filter_map(value).collect();
    let samples: Vec<u64> = course.points.iter().map(|p| p.reading.samples).collect();
    let drawn = Drawn {
        points: &points,
        samples: &samples,
        bucket_s: course.bucket_s,
        left_out: &left_out,
        ..Drawn::default()
    };
    let text = measured.to_string();
    let sub = format!("{} a point", length_text(course.bucket_s as f64 * 1e3));
    let chart = chart(frame, frame.stretch, (text.clone(), sub), (unit, worse), &drawn);
    let reading = read.reading;
    Ok(Ok(Found {
        value: reading.value.map_or(format::NO_DATA.into(), |v| unit.text(v)),
        interval: reading.interval.map_or(String::new(), |i| {
            format!("95 % interval {} to {}", unit.text(i.low), unit.text(i.high))
        }),
        samples: format!(
            "{} {}",
            format::thousands(reading.samples),
            measured.measure.samples_words()
        ),
        proof: vec![Working::of(&text, &read.proof)],
        rows: row(frame, &course, unit),
        chart,
        text,
    }))
}

/// `GET /measures`: what can be asked; with `of`, what it comes to.
pub async fn page(
    state: web::Data<State>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(&state, &request, "Goals", TWELVE_HOURS).await?;
    let text = all_of(&request, "of").pop().unwrap_or_default();
    let text = clean(text.trim(), LONGEST, None);
    let groups = groups(&frame);
    if text.is_empty() {
        return html(&Page { frame, text, wrong: None, found: None, groups });
    }
    let found = match text.parse::<Measured>() {
        Ok(measured) => find(&state, &frame, &measured).await?,
        Err(e) => Err(sentence(&e)),
    };
    let (found, wrong) = match found {
        Ok(found) => (Some(found), None),
        Err(wrong) => (None, Some(wrong)),
    };
    let status = if wrong.is_some() { StatusCode::UNPROCESSABLE_ENTITY } else { StatusCode::OK };
    html_with(status, &Page { frame, text, wrong, found, groups })
}

/// What fields in which a measure is typed are called: of its page, of an alert, of a goal.
const FIELDS: [&str; 3] = ["of", "measure", "share"];

/// `GET /measures/next`: how what is typed could go on.
pub async fn next(
    state: web::Data<State>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let site = crate::access::site(&request)?;
    let typed = FIELDS.iter().find_map(|field| all_of(&request, field).pop());
    let text = clean(&typed.unwrap_or_default(), LONGEST, None);
    let values = measures::values(&state.answers, &site, &text).await?;
    offered(&text, complete(&text).into_iter().chain(values))
}
