//! One page family: its vitals over time, where its load goes, its slow page views and its errors.

use super::super::{Figure, TWELVE_HOURS, html};
use super::errors::{self, Row};
use super::filter::FilterLine;
use super::lanes::{self, LANES, Lanes};
use super::{SeenRow, Tabs, family_link, readings, slow_row, slow_tone, tabs};
use crate::State;
use crate::error::PageError;
use crate::filters;
use crate::format;
use crate::frame::Frame;
use crate::limits::query;
use crate::views::Views;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_core::calendar::Stretch;
use cadentis_core::calendar::stretch::{at_second, length_text};
use cadentis_core::stats::compare::share_shift;
use cadentis_core::stats::share;
use cadentis_core::timing::Vital;
use cadentis_core::visitor::errors::kinds;
use cadentis_core::visitor::load_parts::{self, PARTS, around_p75, moments};
use cadentis_core::visitor::party::{self, Party, third_parties};
use cadentis_core::visitor::slices::{Named, by_name, every_hour, rows};
use cadentis_core::visitor::{Attribute, Filter, Pool, Sheet};
use cadentis_store::filed::Filed;
use cadentis_store::visits::with_filter;
use serde::Deserialize;

const MOST_ERRORS: usize = 5_000;

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

pub async fn page(state: web::Data<State>, request: HttpRequest) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(&state, &request, "Visitors", TWELVE_HOURS).await?;
    let name = wanted(&request)?;
    let (site_id, past) = (frame.site.id, frame.past());
    let (views, before, limits, attributes) = futures::try_join!(
        Views::load(&state, site_id, past, &frame.filter, Attribute::Family, &LANES, frame.points()),
        async {
            match frame.against {
                Some(a) => Views::rolled(&state, site_id, a, &frame.filter, Attribute::Family, &LANES, frame.points())
                    .await
                    .map(Some),
                None => Ok(None),
            }
        },
        state.db.budgets(site_id),
        state.db.attributes(site_id, past),
    )?;
    let whole = views.all().page_views;
    let (views, before) = (views.only(&name), before.map(|b| b.only(&name)));
    let all = views.all();
    if all.page_views == 0 && before.as_ref().is_none_or(|b| b.all().page_views == 0) {
        return Err(PageError::NotFound(format!("page views of “{name}” in this stretch")));
    }
    let of_all = format::percent(share(all.page_views, whole), 0, None);
    let vital = |v: Vital| format::vital(v, &all.measured(v).reading(0.75));
    let says = format!(
        "{of_all} of page views. At the 75th percentile LCP is {}, INP {}, CLS {}.",
        vital(Vital::Lcp),
        vital(Vital::Inp),
        vital(Vital::Cls)
    );
    html(&Page {
        says,
        readings: readings(&frame, &views, before.as_ref(), None),
        lanes: lanes::of_views(&frame, &views, before.as_ref(), &limits),
        link: family_link(&name),
        tabs: tabs("/visitors/family"),
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
    rows: Vec<SeenRow>,
    kinds: Vec<Row>,
    link: String,
    named: Vec<NamedTable>,
    releases: Vec<ReleaseRow>,
    parties: Vec<PartyRow>,
    /// Which hours elements and third parties are read from, in words; empty when from all.
    part: String,
    /// What this page asked for, what was pressed there, what went wrong: name and address.
    beside: Vec<(&'static str, String)>,
}

/// A release beside the one before it.
struct ReleaseRow {
    name: String,
    link: String,
    since: String,
    views: String,
    /// p75 of each of [`LANES`], with its tone.
    vitals: Vec<(String, &'static str)>,
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
        let [good, middling, poor] = pool.measured(Vital::Lcp).counts;
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
            link: format!("{link}&{}", frame.query_with(&frame.filter.clone().and(Attribute::Release, name))),
            name: name.clone(),
            since: format::day_clock(at_second(*begin), &frame.site.zone),
            views: format::thousands(pool.page_views),
            vitals: LANES
                .map(|v| {
                    let reading = pool.measured(v).reading(0.75);
                    (format::vital(v, &reading), slow_tone(v, &reading))
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
    /// Name, page views, p75, tone, medians.
    rows: Vec<(String, String, String, &'static str, Vec<String>)>,
}

/// Title, column that names, vital, further columns with their titles.
type Origin = (&'static str, &'static str, Vital, &'static [(&'static str, &'static str)]);

const ORIGINS: [Origin; 4] = [
    (
        "Largest element",
        "lcp_element",
        Vital::Lcp,
        &[
            ("ttfb", "first byte"),
            ("lcp_delay", "until asked for"),
            ("lcp_fetch", "to fetch"),
            ("lcp_render", "to show"),
        ],
    ),
    ("Slowest interaction (INP)", "inp_element", Vital::Inp, &[]),
    ("Script that kept it waiting", "inp_script", Vital::Inp, &[]),
    ("Largest shift (CLS)", "cls_element", Vital::Cls, &[]),
];
const NAMED: usize = 4;

fn named_tables(sheets: &[Sheet], stretch: Stretch, filter: &Filter) -> Vec<NamedTable> {
    let table = |(title, words, vital, more): Origin| {
        let columns: Vec<&str> = more.iter().map(|(column, _)| *column).collect();
        let found = by_name(sheets, stretch, filter, words, &vital.name().to_lowercase(), &columns);
        let row = |n: &Named| {
            let median = |ms: &Option<f64>| ms.map_or("–".into(), |ms| format!("{} s", format::seconds(ms)));
            (
                n.name.clone(),
                format::thousands(n.p75.samples),
                format::vital(vital, &n.p75),
                slow_tone(vital, &n.p75),
                n.medians.iter().map(median).collect(),
            )
        };
        NamedTable {
            title,
            vital: vital.name(),
            columns: more.iter().map(|(_, title)| *title).collect(),
            rows: found.iter().take(NAMED).map(row).collect(),
        }
    };
    ORIGINS.into_iter().map(table).filter(|t| !t.rows.is_empty()).collect()
}

/// Where the time until LCP went, drawn.
pub(super) struct LoadBar {
    pub total: String,
    pub says: String,
    /// Left, width, class, name, seconds.
    pub parts: Vec<(f64, f64, &'static str, &'static str, String)>,
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
            (left, w, class, name, format!("{} s", format::seconds(*ms)))
        });
        LoadBar { parts: parts.collect(), total: format!("{} s", format::seconds(total)), says }
    }
}

/// `GET /visitors/family/load?family=`: what single page views tell; read after the page, which does not wait for it.
pub async fn load_part(state: web::Data<State>, request: HttpRequest) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(&state, &request, "Visitors", TWELVE_HOURS).await?;
    let name = wanted(&request)?;
    let (site_id, past) = (frame.site.id, frame.past());
    let filter = frame.filter.clone().and(Attribute::Family, &name);
    let columns: Vec<&str> = ORIGINS
        .iter()
        .flat_map(|(_, words, _, more)| more.iter().map(|(column, _)| *column).chain([*words]))
        .chain(["inp", "cls"])
        .chain(load_parts::COLUMNS)
        .collect();
    let columns = with_filter(&columns, &filter);
    let told = with_filter(&party::COLUMNS, &filter);
    let by_release = Views::load(&state, site_id, past, &filter, Attribute::Release, &LANES, frame.points()).await?;
    let every = every_hour(by_release.all().page_views);
    let (sheets, slowest, errors, told) = futures::try_join!(
        state.db.some_hours_of(Filed::PageViews, site_id, past, &columns, every),
        state.db.slowest_page_views(site_id, past, &filter, Vital::Lcp, 12),
        state.db.errors(site_id, past, &filter, MOST_ERRORS),
        state.db.some_hours_of(Filed::Happenings, site_id, past, &told, every),
    )?;
    let read: usize = sheets.iter().map(|s| rows(s, past, &filter).iter().filter(|keep| **keep).count()).sum();
    let parties = third_parties(&told, past, &filter, |host| frame.site.owns(host));
    let part = match every {
        1 => String::new(),
        n => format!("read from each {n}th hour: {} page views", format::thousands(read as u64)),
    };
    let moments = moments(&sheets, past, &filter);
    let spent = around_p75(&moments).map(|(spent, n)| {
        let says = format!(
            "Means over the {} page views between the 70th and the 80th percentile of LCP, out of {} that reported it{}{part}.",
            format::thousands(n as u64),
            format::thousands(moments.len() as u64),
            if part.is_empty() { "" } else { ", " },
        );
        LoadBar::of(&spent, says)
    });
    let zone = &frame.site.zone;
    let kinds = kinds(&errors).iter().take(5).map(|k| errors::row(k, errors.len() as u64, Some(&name), zone)).collect();
    let slow = slowest.iter().map(|s| slow_row(s, zone)).collect();
    let named = named_tables(&sheets, past, &filter);
    let query = frame.query_with(&filter);
    let beside = [
        ("requests", "/visitors/requests?"),
        ("pictures, scripts, styles", "/visitors/requests?what=resource&"),
        ("actions", "/visitors/actions?"),
        ("what went wrong", "/visitors/errors?"),
        ("by anything else", "/visitors?"),
    ];
    let beside = beside.map(|(name, path)| (name, format!("{path}{query}"))).to_vec();
    html(&LoadPart {
        releases: releases(&frame, &by_release, &family_link(&name)),
        parties: parties.iter().take(PARTIES).map(|p| party_row(p, read as u64)).collect(),
        part,
        spent,
        rows: slow,
        kinds,
        link: family_link(&name),
        named,
        beside,
        frame,
    })
}
