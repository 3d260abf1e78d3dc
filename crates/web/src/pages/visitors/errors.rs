//! Script errors of visitors, gathered by what went wrong.

use super::filter::FilterLine;
use super::lanes::{self, Lanes};
use super::{Tabs, tabs};
use crate::State;
use crate::error::PageError;
use crate::filters;
use crate::format;
use crate::frame::own_parameters;
use crate::frame::{self, Frame};
use crate::frame::{family_link, named_link};
use crate::limits::query;
use crate::respond::{TWELVE_HOURS, html};
use crate::view::{Link, Working};
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::kept::Site;
use cadentis_answers::{Range, errors, visitors};
use cadentis_core::stats::share;
use cadentis_core::visitor::Attribute;
use cadentis_core::visitor::errors::Kind;
use serde::Deserialize;

#[derive(Template)]
#[template(path = "errors.html")]
struct Page {
    frame: Frame,
    tabs: Tabs,
    filter: FilterLine,
    says: String,
    family: Option<String>,
    /// The kind that the lane is about, with the address without it.
    chosen: Option<Link>,
    lanes: Lanes,
    rows: Vec<Row>,
    proof: Vec<Working>,
}

pub(super) struct Row {
    pub what: String,
    pub place: String,
    pub releases: String,
    /// Empty when nobody said who they were.
    pub people: String,
    pub count: String,
    pub pattern: String,
    /// The address of its own lane.
    pub link: String,
    pub example: String,
    pub visits: String,
    pub page_views: String,
    pub share: String,
    pub first: String,
    pub last: String,
    pub families: Vec<FamilyCount>,
    pub browsers: String,
    /// Moments of the newest.
    pub newest: Vec<Link>,
}

/// How often a kind was met on a page family.
pub(super) struct FamilyCount {
    pub name: String,
    pub count: String,
    pub link: String,
}

#[derive(Debug, Default, Deserialize)]
struct ErrorsQuery {
    family: Option<String>,
    /// One kind, by its pattern.
    name: Option<String>,
}

pub async fn page(
    state: web::Data<State>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(&state, &request, "Visitors", TWELVE_HOURS).await?;
    let wanted = query::<ErrorsQuery>(&request)?;
    let family = wanted.family.filter(|f| !f.is_empty());
    let (site_id, past) = (frame.site.id, frame.past());
    let filter = match &family {
        Some(family) => frame.filter.clone().and(Attribute::Family, family),
        None => frame.filter.clone(),
    };
    let name = wanted.name.filter(|n| !n.is_empty());
    let range = Range { filter, ..frame.range() };
    let (found, attributes) = futures::try_join!(
        errors::ask(&state.answers, site_id, &range, name.as_deref()),
        visitors::attributes(&state.answers, site_id, past),
    )?;
    let lanes = lanes::of_errors(
        &frame,
        (found.over.as_deref(), &found.views),
        (found.over_before.as_deref(), found.views_before.as_ref()),
    );
    let without = format!("{}?{}{}", frame.here, own_parameters(&request, &["name"]), frame.query);
    let (all, kinds) = (found.views.all(), found.kinds);
    let touched = share(all.with_errors, all.page_views);
    let says = match kinds.first() {
        None => "Nothing went wrong in this stretch that a page view told of.".to_string(),
        Some(first) => format!(
            "{} of page views told of a script error; {} kind{} of trouble in all. “{}” touched most visits: {}.",
            format::percent(touched, 2, None),
            kinds.len(),
            if kinds.len() == 1 { "" } else { "s" },
            first.pattern,
            format::thousands(first.visits)
        ),
    };
    let read = if found.cut {
        format!("Only the newest {} of this stretch were read.", format::thousands(found.read))
    } else {
        format!("All {} of this stretch were read.", format::thousands(found.read))
    };
    let proof = vec![Working::new(
        "Script errors",
        vec![
            format!("{} {}, {} to {}.", frame.words, frame.zone, past.from, past.to),
            read,
            "Of one kind are texts that differ only by numbers, ids and addresses and come from the same place: function and file of the innermost line of the stack, without line numbers, so that a release leaves them alone.".into(),
            "Script errors and rejections that nobody handled; errors that the page writes on its console; phrases that must not appear; pictures, scripts and styles that did not come. Only the first two count as script errors of a page view.".into(),
        ],
    )];
    let rows = kinds.iter().map(|k| row(k, found.read, family.as_deref(), &frame.site)).collect();
    let (tabs, filter) = (tabs(&frame, "/visitors/errors"), FilterLine::of(&frame, &attributes));
    html(&Page {
        tabs,
        filter,
        says,
        family,
        chosen: name.map(|n| Link::new(without, n)),
        lanes,
        rows,
        proof,
        frame,
    })
}

/// One kind in a table, on one page family or on all; `all` page views had errors.
pub(super) fn row(k: &Kind, all: u64, family: Option<&str>, site: &Site) -> Row {
    let (base, zone) = (frame::base(site), &site.zone);
    let of_family = family.map(|family| ("family", family));
    let moment = |at| format::day_clock(at, zone);
    let browsers: Vec<String> =
        k.browsers.iter().take(3).map(|(b, n)| format!("{b} {}", format::thousands(*n))).collect();
    let releases: Vec<String> = k
        .releases
        .iter()
        .take(3)
        .map(|(r, n)| format!("{r} ({})", format::thousands(*n)))
        .collect();
    Row {
        what: k.what.clone(),
        place: k.place.clone(),
        releases: releases.join(", "),
        people: match k.people {
            0 => String::new(),
            1 => "1 person".into(),
            n => format!("{} people", format::thousands(n)),
        },
        count: format::thousands(k.count),
        link: named_link(
            &format!("{base}/visitors/errors"),
            &[("name", k.pattern.as_str())].into_iter().chain(of_family).collect::<Vec<_>>(),
        ),
        pattern: k.pattern.clone(),
        example: k.example.clone(),
        visits: format::thousands(k.visits),
        page_views: format::thousands(k.page_views),
        share: format::percent(share(k.count, all), 0, None),
        first: moment(k.first),
        last: moment(k.last),
        families: k
            .families
            .iter()
            .take(4)
            .map(|(f, n)| FamilyCount {
                name: f.clone(),
                count: format::thousands(*n),
                link: family_link(&base, f),
            })
            .collect(),
        browsers: browsers.join(", "),
        newest: k
            .newest
            .iter()
            .map(|(at, visit)| {
                let time = at.to_zoned(zone.clone()).strftime("%a %-d %H:%M").to_string();
                Link::new(
                    format!("{base}/visitors/visits/{visit}?at={}", at.as_millisecond()),
                    time,
                )
            })
            .collect(),
    }
}
