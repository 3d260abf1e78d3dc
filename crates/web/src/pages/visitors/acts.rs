//! User actions: attempts, what came of them, who gave up.

use super::filter::FilterLine;
use super::lanes::{self, Lanes, Words};
use super::{Tabs, family_link, named_link, tabs};
use crate::State;
use crate::error::PageError;
use crate::filters;
use crate::format::{self, NO_DATA};
use crate::frame::Frame;
use crate::frame::own_parameters;
use crate::limits::query;
use crate::respond::{TWELVE_HOURS, html};
use crate::view::{Link, Working};
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::{actions, visitors};
use cadentis_core::stats::share;
use cadentis_core::visitor::acts::Action;
use serde::Deserialize;

#[derive(Template)]
#[template(path = "visitor_actions.html")]
struct Page {
    frame: Frame,
    tabs: Tabs,
    filter: FilterLine,
    says: String,
    /// The action that the lanes are about, with the address without it.
    chosen: Option<Link>,
    lanes: Lanes,
    rows: Vec<Row>,
    proof: Vec<Working>,
}

struct Row {
    name: String,
    /// The address of its own lanes.
    link: String,
    page: Link,
    attempts: String,
    worked: String,
    tone: &'static str,
    again: String,
    left: String,
    median: String,
    p75: String,
    asked: String,
}

#[derive(Debug, Default, Deserialize)]
struct ActionsQuery {
    /// One action.
    name: Option<String>,
}

pub async fn page(
    state: web::Data<State>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(&state, &request, "Visitors", TWELVE_HOURS).await?;
    let (site_id, range, past) = (frame.site.id, frame.range(), frame.past());
    let wanted = query::<ActionsQuery>(&request)?;
    let name = wanted.name.filter(|n| !n.is_empty());
    let (found, attributes) = futures::try_join!(
        actions::ask(&state.answers, site_id, &range, name.as_deref()),
        visitors::attributes(&state.answers, site_id, past),
    )?;
    let all = found.actions;
    let words = Words {
        title: "Actions over time",
        count: "Attempts",
        failed: "Failed",
        time: "Until the answer",
        of_what: "attempts",
    };
    let lanes = lanes::of_buckets(&frame, &words, &found.over, &found.over_before, found.bucket_s);
    let without = format!("{}?{}{}", frame.here, own_parameters(&request, &["name"]), frame.query);
    let says = match all.first().filter(|a| a.failed > 0) {
        None if all.is_empty() => "No action was told in this stretch.".to_string(),
        None => format!(
            "Each of {} actions worked.",
            format::thousands(all.iter().map(|a| a.attempts).sum())
        ),
        Some(worst) => format!(
            "“{}” failed {} of {} times; {} tried again, and after {} of the failures the visit did nothing more.",
            worst.name,
            format::thousands(worst.failed),
            format::thousands(worst.attempts),
            format::thousands(worst.again),
            format::thousands(worst.left)
        ),
    };
    let proof = vec![Working::new(
        "Actions",
        vec![
            format!("{} {}, {} to {}.", frame.words, frame.zone, past.from, past.to),
            "An action is what a visitor pressed, by what the page calls it (data-cadentis-action) or by its element, never by its text; or what the page names itself.".into(),
            "What begins within a second of it was led to by it. It failed when a request or script error that it led to did.".into(),
            "Tried again: the same action in the same visit within 30 s of one that failed. Gave up: nothing else was told of the visit afterwards.".into(),
        ],
    )];
    let page = Page {
        tabs: tabs(&frame, "/visitors/actions"),
        filter: FilterLine::of(&frame, &attributes),
        says,
        chosen: name.map(|n| Link::new(without, n)),
        lanes,
        rows: all.iter().take(80).map(|a| row(a, &frame)).collect(),
        proof,
        frame,
    };
    html(&page)
}

fn row(a: &Action, frame: &Frame) -> Row {
    let ms = |nth: usize| {
        a.ms.get(nth).and_then(|r| r.value).map_or(NO_DATA.into(), |v| format!("{v:.0}"))
    };
    let asked: Vec<String> = a
        .asked
        .iter()
        .take(2)
        .map(|(name, n)| format!("{name} ({})", format::thousands(*n)))
        .collect();
    Row {
        link: format!("{}&{}", named_link(&frame.here, &[("name", &a.name)]), frame.query),
        name: a.name.clone(),
        page: Link::new(format!("{}&{}", family_link(&frame.base, &a.page), frame.query), &a.page),
        attempts: format::thousands(a.attempts),
        worked: format::percent(share(a.attempts - a.failed, a.attempts), 1, Some(1.0)),
        tone: if a.failed * 100 >= a.attempts { "strained" } else { "within" },
        again: format::thousands(a.again),
        left: format::thousands(a.left),
        median: ms(0),
        p75: ms(1),
        asked: asked.join(", "),
    }
}
