//! Requests that the pages make, by family: how many, how long, what became of them, whose fault.

use super::filter::FilterLine;
use super::lanes::{self, Lanes, Words};
use super::{Tabs, named_link, tabs, view_link};
use crate::State;
use crate::error::PageError;
use crate::filters;
use crate::format::{self, NO_DATA};
use crate::frame::Frame;
use crate::frame::own_parameters;
use crate::limits::query;
use crate::respond::{TWELVE_HOURS, html};
use crate::view::{Fact, Link, Working};
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::requests::{self, Kind, Which};
use cadentis_answers::visitors;
use cadentis_core::stats::{Reading, share};
use cadentis_core::visitor::Fault;
use cadentis_core::visitor::calls::Calls;
use serde::Deserialize;

#[derive(Template)]
#[template(path = "visitor_requests.html")]
struct Page {
    frame: Frame,
    tabs: Tabs,
    filter: FilterLine,
    says: String,
    resources: bool,
    /// The family that the lanes are about, with the address without it.
    chosen: Option<Link>,
    lanes: Lanes,
    rows: Vec<Row>,
    proof: Vec<Working>,
}

struct Row {
    name: String,
    /// The address of its own lanes.
    link: String,
    count: String,
    failed: String,
    tone: &'static str,
    ms: Vec<String>,
    statuses: String,
    codes: String,
    /// Whose doing, and how many of the failed.
    faults: Vec<Fact>,
    pages: String,
    newest: Vec<Newest>,
}

struct Newest {
    time: String,
    link: String,
    says: String,
    trace: Option<String>,
}

#[derive(Debug, Default, Deserialize)]
struct RequestsQuery {
    what: Option<String>,
    /// One family of requests.
    name: Option<String>,
    /// Those that go to this host.
    host: Option<String>,
}

/// From this share of failed calls on a family is worth pointing at.
const TROUBLE: f64 = 0.01;

pub async fn page(
    state: web::Data<State>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(&state, &request, "Visitors", TWELVE_HOURS).await?;
    let wanted = query::<RequestsQuery>(&request)?;
    let resources = wanted.what.as_deref() == Some("resource");
    let kind = if resources { Kind::Resource } else { Kind::Request };
    let what = kind.word();
    let (site_id, range, past) = (frame.site.id, frame.range(), frame.past());
    let given = |text: Option<String>| text.filter(|t| !t.is_empty());
    let (name, host) = (given(wanted.name), given(wanted.host));
    let which = match (&name, &host) {
        (Some(name), _) => Which::Named(name.clone()),
        (None, Some(host)) => Which::To(vec![host.clone()]),
        (None, None) => Which::All,
    };
    let (found, attributes) = futures::try_join!(
        requests::ask(&state.answers, site_id, &range, kind, &which),
        visitors::attributes(&state.answers, site_id, past),
    )?;
    let all = found.families;
    let lanes = lanes::of_buckets(
        &frame,
        &Words {
            title: "Requests over time",
            count: "Calls",
            failed: "Failed",
            time: "Time",
            of_what: "calls",
        },
        &found.over,
        &found.over_before,
        found.bucket_s,
    );
    let without =
        format!("{}?{}{}", frame.here, own_parameters(&request, &["name", "host"]), frame.query);
    let proof = vec![Working::new(
        if resources { "Resources" } else { "Requests" },
        vec![
            format!("{} {}, {} to {}.", frame.words, frame.zone, past.from, past.to),
            format!("{} calls in {} families, all read.", format::thousands(all.iter().map(|c| c.count).sum()), all.len()),
            "A family is a method and an address without its query, with numbers, ids and dates left open.".into(),
            "Failed: no answer, a status of 400 or more, or an error code of the application's own. Visitor: the browser was offline, or 4xx. Gateway: no answer, 502, 503, 504. Back end: other 5xx, or an error code in a good answer. Third party: a host that is not the site's.".into(),
            "Of resources each page view tells the six slowest, the slowest of each of at most eight other hosts, and those that failed.".into(),
        ],
    )];
    let page = Page {
        tabs: tabs(&frame, "/visitors/requests"),
        filter: FilterLine::of(&frame, &attributes),
        says: sentence(&all, what),
        resources,
        chosen: name.or(host).map(|n| Link::new(without, n)),
        lanes,
        rows: all.iter().take(60).map(|c| row(c, what, &frame)).collect(),
        proof,
        frame,
    };
    html(&page)
}

fn sentence(all: &[Calls], what: &str) -> String {
    let (count, failed) = all.iter().fold((0, 0), |(n, f), c| (n + c.count, f + c.failed));
    let Some(worst) = all.first().filter(|c| c.failed > 0) else {
        return match count {
            0 => format!("No {what} was told in this stretch."),
            _ => format!("None of {} {what}s failed.", format::thousands(count)),
        };
    };
    let whose =
        Fault::ALL.iter().zip(worst.faults).max_by_key(|(_, n)| *n).map_or("", |(f, _)| f.words());
    format!(
        "{} of {} {what}s failed. “{}” failed most: {} of {}, mostly the {whose}’s doing, for {} visits.",
        format::percent(share(failed, count), 2, None),
        format::thousands(count),
        worst.name,
        format::thousands(worst.failed),
        format::thousands(worst.count),
        format::thousands(worst.visits),
    )
}

fn row(c: &Calls, what: &str, frame: &Frame) -> Row {
    let ms = |r: &Reading| r.value.map_or(NO_DATA.into(), |v| format!("{v:.0}"));
    let listed = |list: &[(String, u64)], most: usize| {
        let some: Vec<String> = list
            .iter()
            .take(most)
            .map(|(name, n)| format!("{name} ({})", format::thousands(*n)))
            .collect();
        some.join(", ")
    };
    let bad = share(c.failed, c.count).unwrap_or(0.0);
    let newest = c.newest.iter().map(|f| {
        let status = if f.status == 0 { "no answer".to_string() } else { f.status.to_string() };
        Newest {
            time: format::day_clock(f.at, &frame.site.zone),
            link: format!("{}&{}", view_link(&frame.base, f.at, f.visit, f.view), frame.query),
            says: format!("{status} {}", f.code).trim_end().to_string(),
            trace: Some(f.trace.as_str())
                .filter(|t| !t.is_empty())
                .and_then(|t| frame.site.trace_address(t)),
        }
    });
    Row {
        link: format!(
            "{}&{}",
            named_link(&frame.here, &[("what", what), ("name", &c.name)]),
            frame.query
        ),
        name: c.name.clone(),
        count: format::thousands(c.count),
        failed: format::percent(share(c.failed, c.count), 2, None),
        tone: if bad >= TROUBLE { "strained" } else { "within" },
        ms: if c.ms.is_empty() { vec![NO_DATA.into(); 3] } else { c.ms.iter().map(ms).collect() },
        statuses: listed(&c.statuses, 4),
        codes: listed(&c.codes, 3),
        faults: Fault::ALL
            .iter()
            .zip(c.faults)
            .filter(|(_, n)| *n > 0)
            .map(|(f, n)| Fact::new(f.words(), format::thousands(n)))
            .collect(),
        pages: listed(&c.pages, 3),
        newest: newest.collect(),
    }
}
