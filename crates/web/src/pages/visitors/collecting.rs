//! Collecting: the snippet to copy, what it may tell, which pages are one family, what arrives and what is turned away,
//! what is kept of people and how it is taken out.

use super::super::redirect;
use super::super::{TWELVE_HOURS, html};
use super::{Tabs, hashes, tabs, view_link};
use crate::State;
use crate::error::PageError;
use crate::format::{self, NO_DATA};
use crate::frame::{Asked, Frame};
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_core::calendar::Stretch;
use cadentis_core::visitor::beside::proposals;
use cadentis_core::visitor::privacy;
use cadentis_core::visitor::slices::rows;
use cadentis_core::visitor::{Collecting, Families, Filter, PageView, Sheet};
use cadentis_core::visitor::{family, import};
use cadentis_store::filed::Filed;
use cadentis_store::forgetting::ROWS_DAYS;
use cadentis_store::sites::Site;
use jiff::SignedDuration;
use serde::Deserialize;
use std::collections::BTreeMap;

#[derive(Template)]
#[template(path = "collecting.html")]
struct Page {
    frame: Frame,
    tabs: Tabs,
    says: String,
    server: String,
    wrong: Option<String>,
    told: Option<String>,
    typed: Typed,
    /// Pattern, page views that it would take: of pages that no family takes.
    proposals: Vec<(String, String)>,
    preview: Preview,
    /// Columns that a table of page views may have.
    columns: String,
}

/// What was typed, or what is kept.
#[derive(Debug, Default, Deserialize)]
pub struct Typed {
    #[serde(default)]
    domains: String,
    #[serde(default)]
    sample: String,
    #[serde(default)]
    keep: String,
    #[serde(default)]
    phrases: String,
    #[serde(default)]
    trace: String,
    #[serde(default)]
    consent: String,
    #[serde(default)]
    families: String,
    #[serde(default)]
    people_days: String,
    #[serde(default)]
    satisfied: String,
}

fn lines(text: &str) -> Vec<String> {
    text.lines().map(str::trim).filter(|l| !l.is_empty()).map(String::from).collect()
}

/// The domains of a site as somebody typed them, one on each line.
pub fn domains_of(text: &str) -> Result<Vec<String>, String> {
    let domains = lines(text);
    match domains.iter().find(|d| d.contains(['/', ':', ' '])) {
        _ if domains.is_empty() => {
            Err("A site has at least one domain: anything else would be refused.".into())
        }
        Some(wrong) => {
            Err(format!("“{wrong}” is no domain: a host name alone, such as book.marram.example."))
        }
        None => Ok(domains),
    }
}

impl Typed {
    fn of(site: &Site) -> Typed {
        let c = &site.collecting;
        Typed {
            domains: site.domains.join("\n"),
            sample: format!("{}", c.sample * 100.0),
            keep: c.keep.join(" "),
            phrases: c.phrases.join("\n"),
            trace: c.trace.join("\n"),
            consent: if c.consent { "wait".into() } else { String::new() },
            families: site
                .patterns
                .iter()
                .map(|(pattern, name)| format!("{pattern} {name}"))
                .collect::<Vec<_>>()
                .join("\n"),
            people_days: site.keep_people_days.to_string(),
            satisfied: site.apdex_t_s.to_string(),
        }
    }

    /// The site with what was typed, or what of it cannot be.
    fn on(&self, site: Site) -> Result<Site, String> {
        let percent = self.sample.trim().trim_end_matches('%').trim();
        let sample = percent.parse::<f64>().map_err(|_| {
            format!("The share of visits is a number of per cent, not “{percent}”.")
        })?;
        let collecting = Collecting {
            sample: sample / 100.0,
            before: vec![],
            keep: self.keep.split_whitespace().map(String::from).collect(),
            phrases: lines(&self.phrases),
            trace: lines(&self.trace),
            consent: self.consent == "wait",
        };
        collecting.check()?;
        let days = self.people_days.trim().parse::<i32>().ok().filter(|d| (1..=800).contains(d));
        let keep_people_days = days.ok_or("What is known of people is kept from 1 to 800 days.")?;
        let satisfied =
            self.satisfied.trim().parse::<f64>().ok().filter(|t| (0.1..=60.0).contains(t));
        let apdex_t_s = satisfied.ok_or("T is from 0.1 to 60 seconds.")?;
        let domains = domains_of(&self.domains)?;
        let patterns = families(&self.families)?;
        Ok(Site { collecting, keep_people_days, apdex_t_s, domains, patterns, ..site })
    }
}

/// Patterns and names, one on each line.
fn families(text: &str) -> Result<Vec<(String, String)>, String> {
    let mut all = Vec::new();
    for (nth, line) in
        text.lines().enumerate().map(|(i, l)| (i + 1, l.trim())).filter(|(_, l)| !l.is_empty())
    {
        match line.split_once(char::is_whitespace) {
            Some((pattern, name)) if pattern.starts_with('/') => {
                all.push((pattern.to_string(), name.trim().to_string()))
            }
            _ => {
                return Err(format!(
                    "Line {nth} of the families: a pattern that begins with / and a name, such as /booking/*/pass Boarding pass."
                ));
            }
        }
    }
    Ok(all)
}

pub async fn page(
    state: web::Data<State>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    show(&state, &request, None, None, None).await
}

async fn show(
    state: &State,
    request: &HttpRequest,
    wrong: Option<String>,
    told: Option<String>,
    typed: Option<Typed>,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(state, request, "Setup", TWELVE_HOURS).await?;
    let typed = typed.unwrap_or_else(|| Typed::of(&frame.site));
    let paths = paths(state, frame.site.id, frame.past()).await?;
    let loose: Vec<(&str, u64)> = paths
        .iter()
        .filter(|(path, _)| frame.site.families.of(path) == family::OTHER)
        .map(|(p, n)| (p.as_str(), *n))
        .collect();
    let preview = preview(&families(&typed.families).unwrap_or_default(), &paths);
    let page = Page {
        tabs: tabs("/setup/visitors"),
        says: sentence(&frame.site, &preview),
        server: state.door.address(request),
        proposals: proposals(loose)
            .into_iter()
            .take(8)
            .map(|(p, n)| (p, format::thousands(n)))
            .collect(),
        columns: import::columns().join(", "),
        wrong,
        told,
        typed,
        preview,
        frame,
    };
    html(&page)
}

fn sentence(site: &Site, preview: &Preview) -> String {
    let share = match site.collecting.sample {
        s if s >= 1.0 => "Every visit reports".to_string(),
        s => format!("{} % of visits report", s * 100.0),
    };
    let consent = if site.collecting.consent { ", once the visitor has agreed" } else { "" };
    format!(
        "{share}{consent}, from {}; {} page views arrived in this stretch.",
        site.domains.join(", "),
        preview.whole
    )
}

/// Paths of the stretch and how many page views each had.
async fn paths(
    state: &State,
    site_id: i32,
    stretch: Stretch,
) -> Result<Vec<(String, u64)>, PageError> {
    // A day is enough to see which pages there are.
    let day = SignedDuration::from_hours(24);
    let stretch = Stretch { from: stretch.from.max(stretch.to - day), to: stretch.to };
    let sheets =
        state.db.sheets_of(Filed::PageViews, site_id, stretch, &["path".to_string()]).await?;
    let mut counts: BTreeMap<String, u64> = BTreeMap::new();
    let count = |sheet: &Sheet, counts: &mut BTreeMap<String, u64>| {
        let Some(words) = sheet.words("path") else { return };
        let mut of = vec![0u64; words.values.len()];
        let keep = rows(sheet, stretch, &Filter::default());
        words.codes.iter().zip(keep).filter(|(_, keep)| *keep).for_each(|(code, _)| of[code] += 1);
        for (path, n) in words.values.iter().zip(of) {
            *counts.entry(privacy::cut_query(path).to_string()).or_default() += n;
        }
    };
    sheets.iter().for_each(|s| count(s, &mut counts));
    Ok(counts.into_iter().collect())
}

#[derive(Template)]
#[template(path = "families_preview.html")]
struct Preview {
    wrong: Option<String>,
    whole: String,
    /// How many addresses no family takes, in words.
    loose: String,
    /// Name, page views, share, examples.
    rows: Vec<(String, String, String, String)>,
}

/// Page views of a family, and its paths.
type Taken<'a> = (u64, Vec<&'a (String, u64)>);

/// What each family would take of these paths.
fn preview(patterns: &[(String, String)], paths: &[(String, u64)]) -> Preview {
    let families = Families::new(patterns.iter().cloned());
    let mut by: BTreeMap<&str, Taken<'_>> = BTreeMap::new();
    for path in paths {
        let held = by.entry(families.of(&path.0)).or_default();
        held.0 += path.1;
        held.1.push(path);
    }
    let whole: u64 = paths.iter().map(|(_, n)| n).sum();
    let loose = match by.get(family::OTHER).map_or(0, |(_, paths)| paths.len() as u64) {
        0 => "none".to_string(),
        1 => "one address".into(),
        n => format!("{} addresses", format::thousands(n)),
    };
    let mut all: Vec<_> = by.into_iter().collect();
    all.sort_by_key(|(_, (n, _))| std::cmp::Reverse(*n));
    let row = |(name, (n, mut paths)): (&str, Taken<'_>)| {
        paths.sort_by_key(|p| std::cmp::Reverse(p.1));
        let examples: Vec<&str> = paths.iter().take(3).map(|p| p.0.as_str()).collect();
        let more =
            if paths.len() > 3 { format!(" and {} more", paths.len() - 3) } else { String::new() };
        let share = format::percent(cadentis_core::stats::share(n, whole), 1, None);
        (name.to_string(), format::thousands(n), share, format!("{}{more}", examples.join(", ")))
    };
    Preview {
        wrong: None,
        whole: format::thousands(whole),
        loose,
        rows: all.into_iter().map(row).collect(),
    }
}

/// `POST /setup/visitors/families`: what the patterns in the form would take, without keeping them.
pub async fn preview_part(
    state: web::Data<State>,
    request: HttpRequest,
    typed: web::Form<Typed>,
) -> Result<HttpResponse, PageError> {
    let asked = Asked::load(&state, &request, TWELVE_HOURS).await?;
    match families(&typed.families) {
        Ok(patterns) => {
            html(&preview(&patterns, &paths(&state, asked.site.id, asked.past()).await?))
        }
        Err(says) => html(&Preview {
            wrong: Some(says),
            whole: String::new(),
            loose: String::new(),
            rows: vec![],
        }),
    }
}

/// `POST /setup/visitors`: keeps what was typed.
pub async fn save(
    state: web::Data<State>,
    request: HttpRequest,
    typed: web::Form<Typed>,
) -> Result<HttpResponse, PageError> {
    let typed = typed.into_inner();
    let asked = Asked::load(&state, &request, TWELVE_HOURS).await?;
    match typed.on(asked.site) {
        Ok(site) => {
            state.db.set_collecting(&site, asked.now).await?;
            Ok(redirect("/setup/visitors"))
        }
        Err(says) => show(&state, &request, Some(says), None, Some(typed)).await,
    }
}

#[derive(Debug, Deserialize)]
pub struct Who {
    who: String,
}

/// `POST /setup/visitors/forget`: takes out what is known of a person or a visit.
pub async fn forget(
    state: web::Data<State>,
    request: HttpRequest,
    who: web::Form<Who>,
) -> Result<HttpResponse, PageError> {
    let asked = Asked::load(&state, &request, TWELVE_HOURS).await?;
    let who = who.who.trim();
    if who.is_empty() {
        return show(
            &state,
            &request,
            Some("Type a person’s id, or the id of a visit.".into()),
            None,
            None,
        )
        .await;
    }
    let days = i64::from(asked.site.keep_people_days);
    let stretch =
        Stretch { from: asked.now - SignedDuration::from_hours(24 * days), to: asked.now };
    let (column, ids) = match uuid::Uuid::parse_str(who) {
        Ok(visit) => ("visit", vec![visit.as_u128()]),
        Err(_) => ("person", hashes(&state, &asked.site.key, who)),
    };
    let mut gone = 0;
    for id in ids {
        gone += state.db.forget_person(asked.site.id, column, id, stretch).await?;
    }
    let told = format!(
        "{} page views of this {column} were erased. Figures of the last {} days do not count them any more; older ones are \
         counts and percentiles that tell of nobody, and stay.",
        format::thousands(gone),
        ROWS_DAYS
    );
    show(&state, &request, None, Some(told), None).await
}

#[derive(Template)]
#[template(path = "collecting_live.html")]
struct Live {
    rows: Vec<LiveRow>,
    complete: String,
    /// Reason, how many, the newest in words, when.
    refused: Vec<(String, String, String, String)>,
}

struct LiveRow {
    time: String,
    link: String,
    page: String,
    kept: String,
    cut: String,
}

/// `GET /setup/visitors/live`: what arrived last, each with what was kept and what was cut; what was turned away in the
/// last hour.
pub async fn live_part(
    state: web::Data<State>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let asked = Asked::load(&state, &request, TWELVE_HOURS).await?;
    let lately = Stretch { from: asked.now - SignedDuration::from_hours(1), to: asked.now };
    let (newest, refused) = futures::try_join!(
        state.db.newest_page_views(asked.site.id, lately, 8),
        state.db.refused_lately(asked.site.id, lately),
    )?;
    let zone = &asked.site.zone;
    let row = |v: &PageView| {
        let m = &v.beacon.more;
        let vitals = [v.beacon.ttfb, v.beacon.fcp, v.beacon.lcp, v.beacon.inp, v.beacon.cls]
            .iter()
            .flatten()
            .count();
        let mut kept = vec![format!("{vitals} vitals")];
        if !m.happened.is_empty() {
            let n = m.happened.len();
            kept.push(format!("{n} thing{} that happened", if n == 1 { "" } else { "s" }));
        }
        if !m.attributes.is_empty() {
            kept.push(format!(
                "attributes {}",
                m.attributes.iter().map(|(k, v)| format!("{k}={v}")).collect::<Vec<_>>().join(", ")
            ));
        }
        if !m.release.is_empty() {
            kept.push(format!("release {}", m.release));
        }
        let who = if v.person == 0 { "" } else { "; the person’s id to a hash" };
        LiveRow {
            time: v.at.to_zoned(zone.clone()).strftime("%H:%M:%S").to_string(),
            link: view_link(v.at, v.beacon.visit, v.beacon.id),
            page: v.path.clone(),
            kept: kept.join(", "),
            cut: format!("the address, to {}{who}", v.ip),
        }
    };
    html(&Live {
        complete: newest.first().map_or(NO_DATA.into(), |v| format::clock(v.at, zone)),
        rows: newest.iter().map(row).collect(),
        refused: refused
            .iter()
            .map(|r| {
                let when = r.last().map_or(String::new(), |at| format::clock(at, zone));
                (
                    r.reason.replace('-', " "),
                    format::thousands(r.count.unsigned_abs()),
                    r.example.clone(),
                    when,
                )
            })
            .collect(),
    })
}
