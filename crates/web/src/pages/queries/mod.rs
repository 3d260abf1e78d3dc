//! Queries: a sentence that is edited, and what it comes to.

mod apart;

pub use apart::apart;

use crate::State;
use crate::access::{After, By, InSite};
use crate::api::v1::AnswerShape;
use crate::asked::{self, Found, Stands, address, link};
use crate::csv_file::CsvFile;
use crate::error::PageError;
use crate::fields::{self, Fields, sentence};
use crate::filters;
use crate::format;
use crate::frame::{Frame, all_of, base};
use crate::offered::offered;
use crate::respond::{TWELVE_HOURS, html, html_with, redirect};
use actix_web::http::StatusCode;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::changes::queries::{self as changes, LONGEST_NAME};
use cadentis_answers::kept::{KeptQuery, SavedQuery, Site};
use cadentis_answers::queries::{Answered, Over};
use cadentis_answers::{measures, queries};
use cadentis_core::measure::scope::quoted;
use cadentis_core::query::{self, By as ToldBy, Query, Value};
use cadentis_core::text::clean;
use jiff::Timestamp;
use uuid::Uuid;

/// What is typed is at most so long; a little more than can be read, so that whoever goes beyond is told.
const LONGEST: usize = cadentis_core::measure::text::LONGEST + 1;

/// What is asked when nothing is said.
const USUAL: &str = "p75 of LCP, count of page views by family and device";

/// Questions to begin with.
const EXAMPLES: [&str; 6] = [
    USUAL,
    "count of page views, share with errors by release and time",
    "p75 of INP, count of page views by browser where count of page views above 30 top 20 by p75 of INP",
    "p95 of request time, share of requests failed by request top 10 by p95 of request time",
    "count of errors, people with errors by error top 10",
    "availability, p95 of run duration by journey and location",
];

#[derive(Template)]
#[template(path = "queries.html")]
struct Page {
    frame: Frame,
    text: String,
    wrong: Option<String>,
    /// What could not be kept, and why.
    refused: Option<String>,
    name: String,
    /// Under which name this is kept, and by whom.
    kept: Option<SavedRow>,
    found: Option<Found>,
    /// How far it is while it is not there yet.
    still: Option<Still>,
    /// Asks again what was stopped.
    stopped: Option<String>,
    /// Where it is told what its samples have more of than others.
    apart: Option<String>,
    /// What else it could be told apart by.
    by: Vec<Pick>,
    /// What else it could ask, and what it is narrowed by, to press.
    picks: Vec<Picks>,
    saved: Vec<SavedRow>,
    examples: Vec<Pick>,
}

/// A query that takes longer than its page waits for.
#[derive(Template)]
#[template(path = "query_still.html")]
struct Still {
    read: u64,
    of: u64,
    /// Its page once it is there.
    page: String,
    /// Where it is asked how far it is, and where it is stopped.
    again: String,
    stop: String,
}

fn still(frame: &Frame, text: &str, (ticket, read, of): (Uuid, u64, u64)) -> Still {
    let page = address(frame, text);
    let of_ticket =
        |what: &str| page.replacen("/queries?", &format!("/queries/longer/{ticket}{what}?"), 1);
    Still {
        read,
        of,
        again: of_ticket(""),
        stop: of_ticket("/stop"),
        page: format!("{page}&ticket={ticket}"),
    }
}

/// Something that leads to another query.
#[derive(Clone)]
struct Pick {
    says: String,
    link: String,
    chosen: bool,
}

/// Parts of a query of a kind, each leading to the query with it or without it.
struct Picks {
    says: &'static str,
    all: Vec<Pick>,
}

struct SavedRow {
    id: i32,
    name: String,
    says: String,
    link: String,
    owner: String,
    used: String,
}

fn saved_row(frame: &Frame, q: &SavedQuery) -> SavedRow {
    let used = |(at, by): &(Timestamp, String)| {
        format!("{} by {by}", format::day_clock(*at, &frame.site.zone))
    };
    SavedRow {
        id: q.id,
        name: q.name.clone(),
        says: q.says.clone(),
        link: address(frame, &q.says),
        owner: q.owner.clone(),
        used: q.used.as_ref().map_or("never".into(), used),
    }
}

/// What samples of a query could be told apart by, each adding it or taking it away.
fn toggles(frame: &Frame, query: &Query) -> Vec<Pick> {
    let mut all = ToldBy::of_subject(query.subject());
    all.extend(query.by.iter().filter(|by| !all.contains(by)).cloned().collect::<Vec<_>>());
    let pick = |by: &ToldBy| Pick {
        says: by.title(),
        link: link(frame, &query.toggled(by)),
        chosen: query.by.contains(by),
    };
    all.iter().map(pick).collect()
}

/// What a query could ask besides, what it is narrowed by, and how many rows it tells.
fn picks(frame: &Frame, query: &Query) -> Vec<Picks> {
    let pick =
        |says: String, other: &Query, chosen: bool| Pick { says, link: link(frame, other), chosen };
    let mut measures = Query::offered(query.subject());
    measures.extend(
        query.measures.iter().filter(|m| !measures.contains(m)).cloned().collect::<Vec<_>>(),
    );
    let measures = measures
        .iter()
        .map(|m| pick(m.to_string(), &query.toggled_measure(m), query.measures.contains(m)));
    let narrowed = query.scope.parts().flat_map(|(key, values)| {
        let one = |v: &String| {
            pick(format!("{} {}", key.word(), quoted(v)), &query.widened(key, v), true)
        };
        values.iter().map(one).collect::<Vec<_>>()
    });
    let conditions = query.conditions.iter().enumerate().map(|(nth, condition)| {
        pick(format!("where {condition}"), &query.without_condition(nth), true)
    });
    let top = query.top.as_ref().map(|top| top.many);
    let tops = [None, Some(5), Some(10), Some(20), Some(100)].map(|many| {
        let says = many.map_or("as many as usual".into(), |many| format!("top {many}"));
        pick(says, &query.with_top(many), many == top)
    });
    let rows = [
        Picks { says: "asks", all: measures.collect() },
        Picks { says: "narrowed by", all: narrowed.chain(conditions).collect() },
        Picks { says: "rows", all: if query.by.is_empty() { Vec::new() } else { tops.to_vec() } },
    ];
    rows.into_iter().filter(|row| !row.all.is_empty()).collect()
}

/// What is asked by the address: its text, or what is usual, narrowed to what page views are filtered by elsewhere.
fn asked(frame: &Frame, request: &HttpRequest) -> String {
    let text = all_of(request, "q").pop().unwrap_or_default();
    let text = clean(text.trim(), LONGEST, None);
    if !text.is_empty() {
        return text;
    }
    match (USUAL.parse::<Query>(), frame.filter.parts().next()) {
        (Ok(mut usual), Some(_)) => {
            for (attribute, values) in frame.filter.parts() {
                let key = cadentis_core::measure::Key::Attribute(attribute.clone());
                let and = |scope: cadentis_core::measure::Scope, value: &String| {
                    scope.and(key.clone(), value)
                };
                usual.scope = values.iter().fold(usual.scope, and);
            }
            usual.to_string()
        }
        _ => USUAL.into(),
    }
}

/// How a query is to be asked.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Asks {
    Anew,
    /// It was asked, and has this ticket.
    Again(Uuid),
    /// Somebody stopped it.
    Not,
}

/// What a query comes to, or how far it is; nothing where it is not to be asked.
async fn answer(
    state: &State,
    frame: &Frame,
    query: &Query,
    asks: Asks,
) -> Result<Option<Stands>, PageError> {
    let over = Over { against: frame.against, ..Over::all_of(frame.past()) };
    let (site, points) = (&frame.site, frame.points());
    if asks == Asks::Not {
        return Ok(None);
    }
    // Whoever came by a link waits for it: nobody else could tell whose it is.
    if frame.who.shared.is_some() {
        let told = queries::ask(&state.answers, site, query, &over, (points, true)).await?;
        return Ok(Some(Stands::Told(Box::new(told))));
    }
    let owner = frame.who.signed.person.id;
    if let Asks::Again(ticket) = asks {
        let stands = state.queries.wait(owner, ticket).await?;
        if !matches!(stands, Stands::Gone) {
            return Ok(Some(stands));
        }
    }
    let stands = state.queries.ask(owner, &state.answers, (site, query), (over, points)).await?;
    Ok(Some(stands))
}

/// The page of a query, with what was not kept and why.
async fn show(
    state: &State,
    frame: Frame,
    (text, asks): (String, Asks),
    (refused, name): (Option<String>, String),
) -> Result<HttpResponse, PageError> {
    // A link opens what it was made for alone.
    let is_shared = frame.who.shared.is_some();
    let saved = match is_shared {
        true => Vec::new(),
        false => queries::saved(&state.answers, &frame.site).await?,
    };
    let mut page = Page {
        kept: None,
        found: None,
        still: None,
        stopped: None,
        apart: None,
        by: Vec::new(),
        picks: Vec::new(),
        wrong: None,
        saved: saved.iter().map(|q| saved_row(&frame, q)).collect(),
        examples: EXAMPLES
            .map(|says| Pick { says: says.into(), link: address(&frame, says), chosen: false })
            .to_vec(),
        refused,
        name,
        text,
        frame,
    };
    match page.text.parse::<Query>() {
        Err(e) => page.wrong = Some(sentence(&e)),
        Ok(query) => {
            let frame = &page.frame;
            match answer(state, frame, &query, asks).await? {
                Some(Stands::Told(told)) => match *told {
                    Err(not_there) => page.wrong = Some(sentence(&not_there)),
                    Ok(answered) => page.found = Some(asked::found(frame, &query, &answered)),
                },
                Some(Stands::Still(ticket, read, of)) => {
                    page.still = Some(still(frame, &query.to_string(), (ticket, read, of)));
                }
                Some(Stands::Gone) | None => page.stopped = Some(link(frame, &query)),
            }
            if !is_shared && page.found.is_some() {
                queries::used(&state.answers, &frame.site, &query, frame.who.name()).await?;
            }
            page.by = if is_shared { Vec::new() } else { toggles(frame, &query) };
            page.picks = if is_shared { Vec::new() } else { picks(frame, &query) };
            page.apart = asked::opened(frame, &query);
            // However it was typed, it reads as it is printed.
            page.text = query.to_string();
            page.kept = saved.iter().find(|q| q.says == page.text).map(|q| saved_row(frame, q));
        }
    }
    let bad = page.wrong.is_some() || page.refused.is_some();
    html_with(if bad { StatusCode::UNPROCESSABLE_ENTITY } else { StatusCode::OK }, &page)
}

/// `GET /queries`: what is asked with `q`, and what it comes to.
pub async fn page(
    state: web::Data<State>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(&state, &request, "Queries", TWELVE_HOURS).await?;
    let text = asked(&frame, &request);
    let ticket = all_of(&request, "ticket").pop().and_then(|t| t.parse().ok());
    let is_stopped = !all_of(&request, "stopped").is_empty();
    let asks = match ticket {
        _ if is_stopped => Asks::Not,
        Some(ticket) => Asks::Again(ticket),
        None => Asks::Anew,
    };
    show(&state, frame, (text, asks), (None, String::new())).await
}

/// `GET /queries/longer/{ticket}`: how far a query is; leads to its page once it is there.
pub async fn longer(
    state: web::Data<State>,
    ticket: After<Uuid>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::part(&request, "Queries", TWELVE_HOURS)?;
    let text = asked(&frame, &request);
    match state.queries.look(frame.who.signed.person.id, ticket.0) {
        Some((read, of)) => html(&still(&frame, &text, (ticket.0, read, of))),
        // What it came to is told on its page.
        None => {
            let page = format!("{}&ticket={}", address(&frame, &text), ticket.0);
            Ok(HttpResponse::Ok().insert_header(("hx-redirect", page)).finish())
        }
    }
}

/// `POST /queries/longer/{ticket}/stop`
pub async fn stop(
    state: web::Data<State>,
    ticket: After<Uuid>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::part(&request, "Queries", TWELVE_HOURS)?;
    state.queries.stop(frame.who.signed.person.id, ticket.0);
    let text = asked(&frame, &request);
    Ok(redirect(&format!("{}&stopped=1", address(&frame, &text))))
}

/// `GET /queries/next`: how what is typed could go on.
pub async fn next(
    state: web::Data<State>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let site = crate::access::site(&request)?;
    let text = clean(&all_of(&request, "q").pop().unwrap_or_default(), LONGEST, None);
    let values = match query::begun(&text) {
        Some(begun) => measures::values(&state.answers, &site, &begun).await?,
        None => Vec::new(),
    };
    offered(&text, query::complete(&text).into_iter().chain(values))
}

/// The query of an address.
fn read(frame: &Frame, request: &HttpRequest) -> Result<Query, PageError> {
    let says = |e: cadentis_core::measure::TextError| PageError::Parameter {
        name: "q".into(),
        says: e.to_string(),
    };
    asked(frame, request).parse().map_err(says)
}

/// The query of an address, and what it comes to, for a file.
async fn told(
    state: &State,
    frame: &Frame,
    request: &HttpRequest,
) -> Result<(Query, Answered), PageError> {
    let query = read(frame, request)?;
    let (over, of) = (Over::all_of(frame.past()), (frame.points(), false));
    let answered = queries::ask(&state.answers, &frame.site, &query, &over, of).await?;
    Ok((query, answered.map_err(|e| PageError::NotFound(e.to_string()))?))
}

/// `GET /queries/csv`: the answer as a file, numbers as they are: shares from 0 to 1, times in milliseconds.
pub async fn csv(state: web::Data<State>, request: HttpRequest) -> Result<HttpResponse, PageError> {
    let frame = Frame::part(&request, "Queries", TWELVE_HOURS)?;
    let (query, answered) = told(&state, &frame, &request).await?;
    let head = query.by.iter().map(ToldBy::word);
    let head = head.chain(query.measures.iter().map(ToString::to_string));
    let mut file = CsvFile::with_header(head.chain(["samples".to_string()]));
    let value = |value: &Value| match value {
        Value::Text(text) => text.clone(),
        Value::Time(second) => cadentis_core::calendar::stretch::at_second(*second).to_string(),
    };
    let asked = query.measures.len();
    let mut line = |key: Vec<String>, cells: &[cadentis_core::stats::Reading]| {
        let number = |v: Option<f64>| v.map_or(String::new(), |v| v.to_string());
        let numbers = cells.iter().take(asked).map(|c| number(c.value));
        let samples = cells.first().map_or(0, |c| c.samples).to_string();
        file.row(key.into_iter().chain(numbers).chain([samples]));
    };
    if query.by.is_empty() {
        line(Vec::new(), &answered.table.all);
    }
    for row in &answered.table.rows {
        if query.by.len() < 2 {
            line(vec![value(&row.value)], &row.cells);
        }
        for (column, cells) in answered.table.columns.iter().zip(&row.across) {
            if let Some(cells) = cells {
                line(vec![value(&row.value), value(column)], cells);
            }
        }
    }
    Ok(file.download("query.csv"))
}

/// `GET /queries/json`: the answer as programs get it.
pub async fn json(
    state: web::Data<State>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::part(&request, "Queries", TWELVE_HOURS)?;
    let (query, answered) = told(&state, &frame, &request).await?;
    Ok(HttpResponse::Ok().json(AnswerShape::of(&query, answered)))
}

/// To the query, over the stretch that it was kept from.
fn back(site: &Site, request: &HttpRequest, says: &str) -> HttpResponse {
    let kept = url::form_urlencoded::parse(request.query_string().as_bytes());
    let kept = kept.filter(|(name, _)| matches!(&**name, "from" | "to" | "against"));
    let to = url::form_urlencoded::Serializer::new(String::new())
        .append_pair("q", says)
        .extend_pairs(kept)
        .finish();
    redirect(&format!("{}/queries?{to}", base(site)))
}

/// `POST /queries`: keeps a query under a name.
pub async fn save(
    state: web::Data<State>,
    InSite(site): InSite,
    By(by): By,
    request: HttpRequest,
    fields: web::Form<Fields>,
) -> Result<HttpResponse, PageError> {
    let name = fields::line(&fields, "name", LONGEST_NAME + 1);
    let text = clean(fields::one(&fields, "q").trim(), LONGEST, None);
    let refused = match text.parse::<Query>() {
        // What is wrong with it is told beside it anyhow.
        Err(_) => "Nothing was kept.".to_string(),
        Ok(_) if name.is_empty() => "A query that is kept has a name.".into(),
        Ok(_) if name.chars().count() > LONGEST_NAME => "A name has at most 80 characters.".into(),
        Ok(query) => match changes::save(&state.answers, &by, &site, (&name, &query)).await? {
            KeptQuery::Kept(_) => return Ok(back(&site, &request, &query.to_string())),
            KeptQuery::Taken => {
                "Somebody else keeps a query of this name: choose another one.".into()
            }
            KeptQuery::TooMany => {
                "This site keeps as many queries as it may: take one away first.".into()
            }
        },
    };
    let frame = Frame::load(&state, &request, "Queries", TWELVE_HOURS).await?;
    show(&state, frame, (text, Asks::Anew), (Some(refused), name)).await
}

/// `POST /queries/{id}/remove`
pub async fn remove(
    state: web::Data<State>,
    InSite(site): InSite,
    By(by): By,
    id: After<i32>,
) -> Result<HttpResponse, PageError> {
    match changes::remove(&state.answers, &by, &site, id.0).await? {
        true => Ok(redirect(&format!("{}/queries", base(&site)))),
        false => Err(PageError::NotFound("this query, or it was taken away already".into())),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_question_to_begin_with_can_be_asked() {
        for example in EXAMPLES {
            let query: Query = example.parse().unwrap_or_else(|e| panic!("{example}: {e}"));
            assert_eq!(query.to_string(), example);
        }
    }
}
