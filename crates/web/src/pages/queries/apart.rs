//! What stands out among samples of a query, and how they are told apart by everything else.

use super::read;
use crate::State;
use crate::asked::link;
use crate::error::PageError;
use crate::format;
use crate::frame::Frame;
use crate::respond::{TWELVE_HOURS, html};
use crate::words::capital;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::queries::{self, Beside};
use cadentis_core::query::apart::Apart;
use cadentis_core::query::{By, Query};
use cadentis_core::stats::share;

#[derive(Template)]
#[template(path = "query_apart.html")]
struct Part {
    /// What narrows it, as it is written.
    of: String,
    says: String,
    /// What stands out.
    rows: Vec<Row>,
    /// Everything that it says nothing of.
    by: Vec<ByKey>,
    /// The query of these alone.
    alone: String,
}

struct Row {
    name: String,
    link: String,
    here: String,
    others: String,
    is_more: bool,
    title: String,
}

/// The commonest values of something.
struct ByKey {
    title: String,
    /// The query told apart by it.
    link: String,
    values: Vec<Row>,
}

fn percent((n, of): (u64, u64)) -> String {
    format::percent(share(n, of), 0, None)
}

fn row(frame: &Frame, query: &Query, a: &Apart, name: impl Fn(&str) -> String) -> Row {
    let scope = query.scope.clone().and(a.key.clone(), &a.value);
    let interval = a.shift.and_then(|shift| shift.interval).map_or(String::new(), |i| {
        let points = |share: f64| format::signed(share * 100.0, 1);
        format!("; {} to {} points more (95 %)", points(i.low), points(i.high))
    });
    let value = if a.value.is_empty() { "not told" } else { a.value.as_str() };
    Row {
        name: name(value),
        link: link(frame, &Query { scope, ..query.clone() }),
        here: percent(a.here),
        others: percent(a.others),
        is_more: a.is_more(),
        title: format!(
            "{} of {}, of others {} of {}{interval}",
            a.here.0, a.here.1, a.others.0, a.others.1
        ),
    }
}

/// Which of its samples are looked at, and beside which others.
fn says(query: &Query, told: &Beside) -> String {
    let of = query.first();
    // A share is of those that told it; without one all are looked at.
    let words = match told.is_of_bad {
        true => of.measure.samples_words(),
        false => query.subject().words(),
    };
    let number = format::thousands;
    if told.here == 0 {
        return match told.is_of_bad {
            true => format!("None of {} {words} is bad to “{}”.", number(told.others), of.measure),
            false => format!("There are no {words} here."),
        };
    }
    let (here, others) = match told.is_of_bad {
        true => {
            let whole = number(told.here + told.others);
            let here = format!(
                "{} of {whole} {words} that are bad to “{}”",
                number(told.here),
                of.measure
            );
            (here, "the others".to_string())
        }
        false => {
            (format!("{} {words}", number(told.here)), format!("{} others", number(told.others)))
        }
    };
    match told.apart.is_empty() {
        true => format!("Nothing stands out among {here}: they are like {others}."),
        false => format!("What {here} have surely more of than {others}."),
    }
}

fn part(frame: &Frame, query: &Query, told: &Beside) -> Part {
    let title = |a: &Apart| capital(&By::Key(a.key.clone()).title());
    let all = query.first().to_string();
    Part {
        of: all.split_once(" for ").map_or(String::new(), |(_, of)| of.to_string()),
        says: says(query, told),
        rows: told
            .apart
            .iter()
            .map(|a| row(frame, query, a, |value| format!("{} {value}", title(a))))
            .collect(),
        by: told
            .by
            .iter()
            .filter(|(_, values)| values.len() > 1)
            .map(|(key, values)| ByKey {
                title: By::Key(key.clone()).title(),
                link: link(frame, &Query { by: vec![By::Key(key.clone())], ..query.clone() }),
                values: values.iter().map(|a| row(frame, query, a, str::to_string)).collect(),
            })
            .collect(),
        alone: link(frame, query),
    }
}

/// `GET /queries/apart`: what samples of a query have more of than others.
pub async fn apart(
    state: web::Data<State>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::part(&request, "Queries", TWELVE_HOURS)?;
    let query = read(&frame, &request)?;
    if !queries::has_others(&query) {
        let says =
            "it is narrowed to nothing and asks for no share, so there are no others beside it";
        return Err(PageError::Parameter { name: "q".into(), says: says.into() });
    }
    let told = queries::beside(&state.answers, &frame.site, &query, frame.past()).await?;
    let told = told.map_err(|e| PageError::NotFound(e.to_string()))?;
    html(&part(&frame, &query, &told))
}
