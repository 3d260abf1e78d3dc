//! One page family: its vitals over time, where its load goes, its slow page views and its errors.

use super::errors::{self, Row};
use super::filter::FilterLine;
use super::lanes::{self, LANES, Lanes};
use super::{Tabs, readings, slow_row, slow_tone, tabs};
use crate::State;
use crate::error::PageError;
use crate::filters;
use crate::format;
use crate::frame::Frame;
use crate::frame::family_link;
use crate::limits::query;
use crate::respond::{TWELVE_HOURS, html};
use crate::view::{self, Cell, Figure, Link};
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::family::{self, Family, ORIGINS};
use cadentis_answers::pooled::{p75, rated};
use cadentis_answers::views::Views;
use cadentis_answers::visitors;
use cadentis_core::calendar::stretch::{at_second, length_text};
use cadentis_core::stats::compare::share_shift;
use cadentis_core::stats::share;
use cadentis_core::timing::Vital;
use cadentis_core::visitor::load_parts::PARTS;
use cadentis_core::visitor::party::Party;
use cadentis_core::visitor::slices::Named;
use cadentis_core::visitor::{Attribute, Pool};
use serde::Deserialize;

#[derive(Template)]
#[template(path = "family.html")]
struct Page {
    frame: Frame,
    tabs: Tabs,
    filter: FilterLine,
    name: String,
    link: String,
    says: String,
    readings: Vec<Figure>,
    lanes: Lanes,
}

#[derive(Debug, Default, Deserialize)]
struct FamilyQuery {
    family: Option<String>,
}

fn wanted(request: &HttpRequest) -> Result<String, PageError> {
    let wanted = query::<FamilyQuery>(request)?;
    let named = wanted.family.filter(|f| !f.is_empty());
    named.ok_or_else(|| PageError::NotFound("a page family: the address names none".into()))
}

pub async fn page(
    state: web::Data<State>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(&state, &request, "Visitors", TWELVE_HOURS).await?;
    let name = wanted(&request)?;
    let (site_id, range) = (frame.site.id, frame.range());
    let (found, attributes) = futures::try_join!(
        family::ask(&state.answers, site_id, &range, &name, &LANES),
        visitors::attributes(&state.answers, site_id, range.stretch),
    )?;
    let Some(Family { views, before, whole, budgets }) = found else {
        return Err(PageError::NotFound(format!("page views of “{name}” in this stretch")));
    };
    let (all, t_s) = (views.all(), frame.site.t_of(&name));
    let of_all = format::percent(share(all.page_views, whole), 0, None);
    let vital = |v: Vital| format::vital(v, &p75(&all, v));
    let says = format!(
        "{of_all} of page views. At the 75th percentile LCP is {}, INP {}, CLS {}.",
        vital(Vital::Lcp),
        vital(Vital::Inp),
        vital(Vital::Cls)
    );
    html(&Page {
        says,
        readings: readings(&frame, &views, before.as_ref(), None, t_s),
        lanes: lanes::of_views(&frame, &views, before.as_ref(), &budgets, t_s),
        link: family_link(&frame.base, &name),
        tabs: tabs(&frame, "/visitors/family"),
        filter: FilterLine::of(&frame, &attributes),
        name,
        frame,
    })
}

#[derive(Template)]
#[template(path = "family_load.html")]
struct LoadPart {
    frame: Frame,
    spent: Option<LoadBar>,
    rows: Vec<view::Row>,
    kinds: Vec<Row>,
    link: String,
    named: Vec<NamedTable>,
    releases: Vec<ReleaseRow>,
    parties: Vec<PartyRow>,
    /// Which hours elements and third parties are read from, in words; empty when from all.
    part: String,
    /// What this page asked for, what was pressed there, what went wrong.
    beside: Vec<Link>,
}

/// A release beside the one before it.
struct ReleaseRow {
    name: String,
    link: String,
    since: String,
    views: String,
    /// p75 of each of [`LANES`], with its tone.
    vitals: Vec<Cell>,
    not_good: String,
    abandoned: String,
    errors: String,
    tone: &'static str,
    says: &'static str,
}

/// So many releases stand beside each other, the newest.
const RELEASES: usize = 6;

/// The newest releases of the stretch, newest first, each against the one before it.
fn releases(frame: &Frame, views: &Views, link: &str) -> Vec<ReleaseRow> {
    let mut all = views.since();
    all.retain(|(name, ..)| !name.is_empty());
    all.sort_by_key(|(_, begin, _)| *begin);
    let not_good = |pool: &Pool| {
        let [good, middling, poor] = rated(pool, Vital::Lcp).counts;
        (middling + poor, good + middling + poor)
    };
    let row = |(nth, (name, begin, pool)): (usize, &(String, i64, Pool))| {
        let before = nth.checked_sub(1).and_then(|n| all.get(n)).map(|(.., pool)| not_good(pool));
        let shift = before.and_then(|b| share_shift(b, not_good(pool)));
        let (says, tone) = match shift {
            None => ("", "within"),
            Some(s) if !s.is_sure() => ("no sure difference", "within"),
            Some(s) if s.is_rise() => ("surely worse than the one before", "strained"),
            Some(_) => ("surely better than the one before", "within"),
        };
        let (bad, of) = not_good(pool);
        ReleaseRow {
            link: format!(
                "{link}&{}",
                frame.query_with(&frame.filter.clone().and(Attribute::Release, name))
            ),
            name: name.clone(),
            since: format::day_clock(at_second(*begin), &frame.site.zone),
            views: format::thousands(pool.page_views),
            vitals: LANES
                .map(|v| {
                    let reading = p75(pool, v);
                    Cell::new(format::vital(v, &reading), slow_tone(v, &reading))
                })
                .to_vec(),
            not_good: format::percent(share(bad, of), 1, None),
            abandoned: format::percent(pool.abandoned_share(), 1, None),
            errors: format::percent(pool.error_share(), 1, None),
            tone,
            says,
        }
    };
    all.iter().enumerate().rev().take(RELEASES).map(row).collect()
}

struct PartyRow {
    host: String,
    views: String,
    of_views: String,
    told: String,
    failed: String,
    tone: &'static str,
    p75: String,
    sum: String,
}

const PARTIES: usize = 8;

fn party_row(p: &Party, page_views: u64) -> PartyRow {
    PartyRow {
        host: p.host.clone(),
        views: format::thousands(p.page_views),
        of_views: format::percent(share(p.page_views, page_views), 0, None),
        told: format::thousands(p.told),
        failed: format::percent(share(p.failed, p.told), 1, None),
        tone: if p.failed * 100 >= p.told { "strained" } else { "within" },
        p75: p.p75.value.map_or(format::NO_DATA.into(), |ms| format!("{ms:.0}")),
        sum: length_text(p.sum_ms / page_views.max(1) as f64),
    }
}

/// Where a vital comes from: elements or scripts.
struct NamedTable {
    title: &'static str,
    vital: &'static str,
    columns: Vec<&'static str>,
    rows: Vec<NamedRow>,
}

struct NamedRow {
    name: String,
    page_views: String,
    p75: String,
    tone: &'static str,
    medians: Vec<String>,
}

/// What each of [`ORIGINS`] and the columns beside it are called.
const TITLES: [(&str, &[&str]); 4] = [
    ("Largest element", &["first byte", "until asked for", "to fetch", "to show"]),
    ("Slowest interaction (INP)", &[]),
    ("Script that kept it waiting", &[]),
    ("Largest shift (CLS)", &[]),
];
const NAMED: usize = 4;

fn named_tables(found: &[Vec<Named>]) -> Vec<NamedTable> {
    let table = |nth: usize| {
        let (vital, (title, columns)) = (ORIGINS[nth].vital, TITLES[nth]);
        let row = |n: &Named| {
            let median = |ms: &Option<f64>| {
                ms.map_or("–".into(), |ms| format!("{} s", format::seconds(ms)))
            };
            NamedRow {
                name: n.name.clone(),
                page_views: format::thousands(n.p75.samples),
                p75: format::vital(vital, &n.p75),
                tone: slow_tone(vital, &n.p75),
                medians: n.medians.iter().map(median).collect(),
            }
        };
        NamedTable {
            title,
            vital: vital.name(),
            columns: columns.to_vec(),
            rows: found[nth].iter().take(NAMED).map(row).collect(),
        }
    };
    (0..ORIGINS.len().min(found.len())).map(table).filter(|t| !t.rows.is_empty()).collect()
}

/// Where the time until LCP went, drawn.
pub(super) struct LoadBar {
    pub total: String,
    pub says: String,
    pub parts: Vec<LoadBarPart>,
}

pub(super) struct LoadBarPart {
    pub x: f64,
    pub w: f64,
    pub class: &'static str,
    pub name: &'static str,
    pub seconds: String,
}

const BAR: f64 = 1_000.0;

impl LoadBar {
    pub fn of(spent: &[f64; 5], says: String) -> LoadBar {
        const CLASSES: [&str; 5] = ["dns", "connect", "waiting", "receiving", "browser"];
        let total: f64 = spent.iter().sum();
        let mut x = 0.0;
        let parts = spent.iter().zip(PARTS).zip(CLASSES).map(|((ms, name), class)| {
            let w = BAR * ms / total.max(1e-9);
            let left = x;
            x += w;
            LoadBarPart { x: left, w, class, name, seconds: format!("{} s", format::seconds(*ms)) }
        });
        LoadBar { parts: parts.collect(), total: format!("{} s", format::seconds(total)), says }
    }
}

/// `GET /visitors/family/load?family=`: what single page views tell; read after the page, which does not wait for it.
pub async fn load_part(
    state: web::Data<State>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::part(&request, "Visitors", TWELVE_HOURS)?;
    let name = wanted(&request)?;
    let filter = frame.filter.clone().and(Attribute::Family, &name);
    let loads = family::loads(&state.answers, &frame.site, &frame.range(), &name, &LANES).await?;
    let part = match loads.every {
        1 => String::new(),
        n => format!("read from each {n}th hour: {} page views", format::thousands(loads.read)),
    };
    let spent = loads.spent.map(|(spent, n)| {
        let says = format!(
            "Means over the {} page views between the 70th and the 80th percentile of LCP, out of {} that reported it{}{part}.",
            format::thousands(n as u64),
            format::thousands(loads.with_lcp),
            if part.is_empty() { "" } else { ", " },
        );
        LoadBar::of(&spent, says)
    });
    let kinds = loads
        .kinds
        .iter()
        .take(5)
        .map(|k| errors::row(k, loads.errors, Some(&name), &frame.site))
        .collect();
    let slow = loads.slowest.iter().map(|s| slow_row(s, &frame.site)).collect();
    let named = named_tables(&loads.named);
    let query = frame.query_with(&filter);
    let beside = [
        ("requests", "/visitors/requests?"),
        ("pictures, scripts, styles", "/visitors/requests?what=resource&"),
        ("actions", "/visitors/actions?"),
        ("what went wrong", "/visitors/errors?"),
        ("by anything else", "/visitors?"),
    ];
    let beside =
        beside.map(|(name, path)| Link::new(format!("{}{path}{query}", frame.base), name)).to_vec();
    html(&LoadPart {
        releases: releases(&frame, &loads.by_release, &family_link(&frame.base, &name)),
        parties: loads.parties.iter().take(PARTIES).map(|p| party_row(p, loads.read)).collect(),
        part,
        spent,
        rows: slow,
        kinds,
        link: family_link(&frame.base, &name),
        named,
        beside,
        frame,
    })
}
