//! What was done, by whom, from where, and what it was before.

use crate::State;
use crate::access::Who;
use crate::around::{Around, moment};
use crate::csv_file::CsvFile;
use crate::error::PageError;
use crate::limits::query;
use crate::respond::html;
use actix_web::http::header::{CONTENT_DISPOSITION, CONTENT_TYPE};
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::AnswerError;
use cadentis_answers::people::{self, Done};
use futures::stream;
use jiff::Timestamp;
use serde::Deserialize;

/// So much is on a page, and read at a time for a file.
const A_PAGE: i64 = 100;
const AT_A_TIME: i64 = 2_000;

#[derive(Template)]
#[template(path = "audit.html")]
struct Page {
    around: Around,
    who: String,
    rows: Vec<Row>,
    /// The address of what was done before.
    older: Option<String>,
    csv: String,
}

struct Row {
    at: String,
    name: String,
    address: String,
    what: String,
    was: String,
    became: String,
}

#[derive(Default, Deserialize)]
struct Asked {
    #[serde(default)]
    who: String,
    /// Microseconds since 1970: what was done before then.
    before: Option<i64>,
}

impl Asked {
    fn of(request: &HttpRequest) -> Result<Asked, PageError> {
        query::<Asked>(request)
    }

    fn before(&self) -> Result<Option<Timestamp>, PageError> {
        let none = |_| PageError::Parameter {
            name: "before".into(),
            says: "it is no moment of the list".into(),
        };
        self.before.map(Timestamp::from_microsecond).transpose().map_err(none)
    }

    /// The address of a page of the list.
    fn address(&self, path: &str, before: Option<Timestamp>) -> String {
        let mut pairs = url::form_urlencoded::Serializer::new(String::new());
        pairs.append_pair("who", &self.who);
        if let Some(before) = before {
            pairs.append_pair("before", &before.as_microsecond().to_string());
        }
        format!("{path}?{}", pairs.finish())
    }
}

/// `GET /setup/audit?who=&before=`
pub async fn page(
    state: web::Data<State>,
    request: HttpRequest,
    who: Who,
) -> Result<HttpResponse, PageError> {
    let asked = Asked::of(&request)?;
    let done = people::done(&state.answers, asked.before()?, &asked.who, A_PAGE).await?;
    let last = done.last().filter(|_| done.len() as i64 == A_PAGE).map(|d| d.at);
    let row = |d: Done| Row {
        at: moment(d.at),
        name: d.name,
        address: d.address.map_or(String::new(), |a| a.to_string()),
        what: format!("{} {}", d.what, d.which).trim_end().to_string(),
        was: d.was,
        became: d.became,
    };
    html(&Page {
        older: last.map(|at| asked.address("/setup/audit", Some(at))),
        csv: asked.address("/setup/audit.csv", None),
        rows: done.into_iter().map(row).collect(),
        who: asked.who,
        around: Around::new(who, "/setup/audit"),
    })
}

/// `GET /setup/audit.csv?who=`: all of it, newest first, sent while it is read.
pub async fn file(
    state: web::Data<State>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let asked = Asked::of(&request)?;
    let head =
        CsvFile::with_header(["at_utc", "name", "address", "what", "which", "was", "became"]);
    let (answers, who) = (state.answers.clone(), asked.who);
    // The head, then pieces from a moment on, then nothing.
    let begun = (Some(head.bytes()), None::<Timestamp>, false);
    let pieces = stream::try_unfold(begun, move |(head, before, ended)| {
        let (answers, who) = (answers.clone(), who.clone());
        async move {
            if let Some(head) = head {
                return Ok(Some((web::Bytes::from(head), (None, before, ended))));
            }
            if ended {
                return Ok::<_, AnswerError>(None);
            }
            let done = people::done(&answers, before, &who, AT_A_TIME).await?;
            let mut file = CsvFile::without_header();
            for d in &done {
                let address = d.address.map_or(String::new(), |a| a.to_string());
                let at = d.at.to_string();
                file.row([&at, &d.name, &address, &d.what, &d.which, &d.was, &d.became]);
            }
            let next = (None, done.last().map(|d| d.at), (done.len() as i64) < AT_A_TIME);
            Ok(Some((web::Bytes::from(file.bytes()), next)))
        }
    });
    Ok(HttpResponse::Ok()
        .insert_header((CONTENT_TYPE, "text/csv; charset=utf-8"))
        .insert_header((CONTENT_DISPOSITION, "attachment; filename=\"audit.csv\""))
        .streaming(Box::pin(pieces)))
}
