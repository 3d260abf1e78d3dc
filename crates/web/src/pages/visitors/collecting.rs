//! Collecting: the snippet to copy, what it may tell, which pages are one family, what arrives and what is turned away,
//! what is kept of people and how it is taken out.

use super::{Tabs, tabs, view_link};
use crate::State;
use crate::access::By;
use crate::error::PageError;
use crate::format::{self, NO_DATA};
use crate::frame::{Asked, Frame, base};
use crate::respond::{TWELVE_HOURS, html, redirect};
use crate::words::{domains_of, lines};
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::changes;
use cadentis_answers::changes::visitors::looked_over;
use cadentis_answers::collecting::{self, Taken};
use cadentis_answers::kept::{ROWS_DAYS, Site};
use cadentis_answers::visit;
use cadentis_core::calendar::Stretch;
use cadentis_core::timing::apdex::TARGETS_S;
use cadentis_core::visitor::collecting::percent_text;
use cadentis_core::visitor::import;
use cadentis_core::visitor::{Collecting, PageView};
use jiff::SignedDuration;
use serde::Deserialize;

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
    /// For pages that no family takes.
    proposals: Vec<Proposal>,
    preview: Preview,
    /// Columns that a table of page views may have.
    columns: String,
}

/// A pattern, and the page views that it would take.
struct Proposal {
    pattern: String,
    page_views: String,
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

impl Typed {
    fn of(site: &Site) -> Typed {
        let c = &site.collecting;
        Typed {
            domains: site.domains.join("\n"),
            sample: percent_text(c.sample),
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
        let satisfied = self.satisfied.trim().parse::<f64>().ok().filter(|t| TARGETS_S.contains(t));
        let apdex_t_s = satisfied.ok_or_else(|| {
            format!("T is from {} to {} seconds.", TARGETS_S.start(), TARGETS_S.end())
        })?;
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
    let frame = Frame::load(state, request, "Settings", TWELVE_HOURS).await?;
    let typed = typed.unwrap_or_else(|| Typed::of(&frame.site));
    let patterns = families(&typed.families).unwrap_or_default();
    let seen = collecting::preview(&state.answers, &frame.site, frame.past(), &patterns).await?;
    let preview = preview(&seen);
    let page = Page {
        tabs: tabs(&frame, "/settings/visitors"),
        says: sentence(&frame.site, &preview),
        server: state.door.address(request),
        proposals: seen
            .proposals
            .iter()
            .map(|(pattern, n)| Proposal {
                pattern: pattern.clone(),
                page_views: format::thousands(*n),
            })
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

#[derive(Template)]
#[template(path = "families_preview.html")]
struct Preview {
    wrong: Option<String>,
    whole: String,
    /// How many addresses no family takes, in words.
    loose: String,
    rows: Vec<TakenRow>,
}

/// What a family would take.
struct TakenRow {
    family: String,
    page_views: String,
    share: String,
    examples: String,
}

fn preview(told: &collecting::Preview) -> Preview {
    let row = |t: &Taken| {
        let more = t.paths - t.examples.len();
        let more = if more > 0 { format!(" and {more} more") } else { String::new() };
        let share = cadentis_core::stats::share(t.page_views, told.page_views);
        TakenRow {
            family: t.family.clone(),
            page_views: format::thousands(t.page_views),
            share: format::percent(share, 1, None),
            examples: format!("{}{more}", t.examples.join(", ")),
        }
    };
    Preview {
        wrong: None,
        whole: format::thousands(told.page_views),
        loose: match told.loose {
            0 => "none".to_string(),
            1 => "one address".into(),
            n => format!("{} addresses", format::thousands(n as u64)),
        },
        rows: told.families.iter().map(row).collect(),
    }
}

/// `POST /{site}/settings/visitors/families`: what the patterns in the form would take, without keeping them.
pub async fn preview_part(
    state: web::Data<State>,
    request: HttpRequest,
    typed: web::Form<Typed>,
) -> Result<HttpResponse, PageError> {
    let asked = Asked::load(&request, TWELVE_HOURS)?;
    match families(&typed.families) {
        Ok(patterns) => {
            let (site, past) = (&asked.site, asked.past());
            html(&preview(&collecting::preview(&state.answers, site, past, &patterns).await?))
        }
        Err(says) => html(&Preview {
            wrong: Some(says),
            whole: String::new(),
            loose: String::new(),
            rows: vec![],
        }),
    }
}

/// `POST /{site}/settings/visitors`: keeps what was typed.
pub async fn save(
    state: web::Data<State>,
    By(by): By,
    request: HttpRequest,
    typed: web::Form<Typed>,
) -> Result<HttpResponse, PageError> {
    let typed = typed.into_inner();
    let asked = Asked::load(&request, TWELVE_HOURS)?;
    match typed.on(asked.site.clone()) {
        Ok(site) => {
            changes::visitors::set_collecting(&state.answers, &by, &site, asked.now).await?;
            Ok(redirect(&format!("{}/settings/visitors", asked.base())))
        }
        Err(says) => show(&state, &request, Some(says), None, Some(typed)).await,
    }
}

#[derive(Debug, Deserialize)]
pub struct Who {
    who: String,
}

/// `POST /{site}/settings/visitors/forget`: takes out what is known of a person or a visit.
pub async fn forget(
    state: web::Data<State>,
    By(by): By,
    request: HttpRequest,
    who: web::Form<Who>,
) -> Result<HttpResponse, PageError> {
    let asked = Asked::load(&request, TWELVE_HOURS)?;
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
    let gone = changes::visitors::forget(&state.answers, &by, &asked.site, who, asked.now).await?;
    let told = format!(
        "{} page views of this {} were erased. Figures of the last {} days do not count them any more; older ones are \
         counts and percentiles that tell of nobody, and stay.",
        format::thousands(gone.page_views),
        gone.what,
        ROWS_DAYS
    );
    show(&state, &request, None, Some(told), None).await
}

#[derive(Template)]
#[template(path = "collecting_live.html")]
struct Live {
    rows: Vec<LiveRow>,
    complete: String,
    refused: Vec<RefusedRow>,
}

/// What was turned away for one reason.
struct RefusedRow {
    reason: String,
    count: String,
    /// The newest, in words.
    newest: String,
    at: String,
}

struct LiveRow {
    time: String,
    link: String,
    page: String,
    kept: String,
    cut: String,
}

/// The most arrivals that are shown.
const LIVE: i64 = 8;

/// `GET /{site}/settings/visitors/live`: what arrived last, each with what was kept and what was cut; what was turned away in the
/// last hour.
pub async fn live_part(
    state: web::Data<State>,
    By(by): By,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let asked = Asked::load(&request, TWELVE_HOURS)?;
    looked_over(&state.answers, &by, "looked at what arrives at", &asked.site).await?;
    let lately = Stretch { from: asked.now - SignedDuration::from_hours(1), to: asked.now };
    let visit::Live { newest, refused } =
        visit::live(&state.answers, &asked.site, lately, LIVE).await?;
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
            link: view_link(&base(&asked.site), v.at, v.beacon.visit, v.beacon.id),
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
                RefusedRow {
                    reason: r.reason.replace('-', " "),
                    count: format::thousands(r.count.unsigned_abs()),
                    newest: r.example.clone(),
                    at: when,
                }
            })
            .collect(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::made_up::site;
    use proptest::prelude::*;

    fn name() -> impl Strategy<Value = String> {
        "[A-Z][a-z]{0,9}( [a-z]{1,9})?"
    }

    prop_compose! {
        fn collected()(
            percent in 1u32..=100_000,
            keep in prop::collection::vec("[a-z][a-z0-9_-]{0,9}", 0..4),
            phrases in prop::collection::vec("[A-Za-z][a-z ,.]{2,20}[a-z.]", 0..4),
            trace in prop::collection::vec("https://[a-z]{1,9}[.]example", 0..3),
            consent in any::<bool>(),
        ) -> Collecting {
            let sample = f64::from(percent) / 1_000.0 / 100.0;
            Collecting { sample, before: vec![], keep, phrases, trace, consent }
        }
    }

    proptest! {
        #[test]
        fn what_is_collected_is_read_from_its_form_as_it_was_written_there(
            collecting in collected(),
            keep_people_days in 1..=800i32,
            tenths in 1..=600u32,
            domains in prop::collection::vec("[a-z]{1,9}[.]example", 1..4),
            patterns in prop::collection::vec(("/[a-z*]{0,9}", name()), 0..5),
        ) {
            let apdex_t_s = f64::from(tenths) / 10.0;
            let kept = Site { collecting, keep_people_days, apdex_t_s, domains, patterns, ..site() };
            let read = Typed::of(&kept).on(site()).unwrap();
            prop_assert_eq!(read.collecting, kept.collecting);
            prop_assert_eq!(read.keep_people_days, kept.keep_people_days);
            prop_assert_eq!(read.apdex_t_s, kept.apdex_t_s);
            prop_assert_eq!(read.domains, kept.domains);
            prop_assert_eq!(read.patterns, kept.patterns);
        }
    }

    #[test]
    fn what_cannot_be_collected_is_told_with_what_would_be_right() {
        let wrong = |change: &dyn Fn(&mut Typed)| {
            let mut typed = Typed::of(&site());
            change(&mut typed);
            typed.on(site()).map(|_| ()).unwrap_err()
        };
        assert_eq!(
            wrong(&|t| t.sample = "half".into()),
            "The share of visits is a number of per cent, not “half”."
        );
        assert!(wrong(&|t| t.sample = "0".into()).contains("over 0 and at most 1"));
        assert!(wrong(&|t| t.people_days = "801".into()).contains("from 1 to 800 days"));
        assert_eq!(wrong(&|t| t.satisfied = "60.5".into()), "T is from 0.1 to 60 seconds.");
        assert!(wrong(&|t| t.domains = "  ".into()).contains("at least one domain"));
        assert!(wrong(&|t| t.families = "/pay Pay\npay Pay".into()).starts_with("Line 2 "));
        assert!(wrong(&|t| t.phrases = "no".into()).contains("4 to 120 characters"));
    }
}
