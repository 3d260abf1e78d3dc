//! Which slice explains it, the page views broken down by any attribute, and whose visits had most trouble.

use super::places::{self, Map};
use super::{slow_tone, wanted};
use crate::State;
use crate::access;
use crate::csv_file::CsvFile;
use crate::error::PageError;
use crate::filters;
use crate::format;
use crate::frame::Asked;
use crate::limits::query;
use crate::respond::{TWELVE_HOURS, html};
use crate::view::Choice;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::breakdown::{self, Value};
use cadentis_answers::changes::visitors::looked_over;
use cadentis_answers::pooled::{p75, rated};
use cadentis_answers::visitors;
use cadentis_core::stats::share;
use cadentis_core::timing::{Rating, Vital};
use cadentis_core::visitor::Attribute;
use cadentis_core::visitor::acts::Trouble;
use serde::Deserialize;
use uuid::Uuid;

#[derive(Template)]
#[template(path = "carriers.html")]
struct Carriers {
    vital: &'static str,
    all: String,
    rows: Vec<CarrierRow>,
}

/// A value that carries more than its share.
struct CarrierRow {
    name: String,
    share: String,
    /// Of what is not good.
    share_not_good: String,
    more: String,
    link: String,
}

const NAMED: usize = 6;

/// `GET /visitors/explain`: values that carry more of what is not good than of all page views.
pub async fn carriers_part(
    state: web::Data<State>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let asked = Asked::load(&request, TWELVE_HOURS)?;
    let vital = wanted(&request)?;
    let found = breakdown::explained(&state.answers, asked.site.id, &asked.range(), vital).await?;
    let row = |c: &cadentis_core::visitor::slices::Carrier| {
        let filter = asked.filter.clone().and(c.attribute.clone(), &c.value);
        CarrierRow {
            name: format!("{} {}", c.attribute.title(), c.value),
            share: format!("{:.0} %", c.share * 100.0),
            share_not_good: format!("{:.0} %", c.share_not_good * 100.0),
            more: format::thousands(c.excess.round() as u64),
            link: format!(
                "{}/visitors?vital={}&{}",
                asked.base(),
                vital.name(),
                asked.query_with(&filter)
            ),
        }
    };
    html(&Carriers {
        vital: vital.name(),
        all: format!(
            "{} of {} page views are not good",
            format::thousands(found.not_good),
            format::thousands(found.samples)
        ),
        rows: found.carriers.iter().take(NAMED).map(row).collect(),
    })
}

#[derive(Debug, Default, Deserialize)]
struct By {
    by: Option<String>,
}

#[derive(Template)]
#[template(path = "breakdown.html")]
struct Breakdown {
    vital: &'static str,
    title: String,
    map: Option<Map>,
    /// Each with its address, and whether it is this one.
    attributes: Vec<Choice>,
    rows: Vec<BreakdownRow>,
    more: usize,
    csv: String,
}

struct BreakdownRow {
    value: String,
    link: String,
    views: String,
    share: String,
    p75: String,
    tone: &'static str,
    against: String,
    good: f64,
    middling: f64,
    poor: f64,
    abandoned: String,
    errors: String,
}

const ROWS: usize = 25;

/// `GET /visitors/breakdown?by=…`: page views by one attribute, each value beside its own in the stretch compared with;
/// as CSV with `csv=1`.
pub async fn breakdown_part(
    state: web::Data<State>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let asked = Asked::load(&request, TWELVE_HOURS)?;
    let (vital, site_id) = (wanted(&request)?, asked.site.id);
    let by = query::<By>(&request)?;
    let by = by.by.as_deref().and_then(Attribute::parse).unwrap_or_else(|| {
        // Within a country its regions, within a region its cities.
        let narrowed = |a: &Attribute| asked.filter.parts().any(|(known, _)| known == a);
        match (narrowed(&Attribute::Region), narrowed(&Attribute::Country)) {
            (true, _) => Attribute::City,
            (_, true) => Attribute::Region,
            _ => Attribute::Country,
        }
    });
    let range = asked.range();
    let (values, attributes) = futures::try_join!(
        breakdown::ask(&state.answers, site_id, &range, &by, vital),
        visitors::attributes(&state.answers, site_id, asked.past()),
    )?;
    let whole: u64 = values.iter().map(|v| v.pool.page_views).sum();
    if request.query_string().split('&').any(|p| p == "csv=1") {
        return Ok(as_csv(&by, vital, &values, whole));
    }
    let map =
        if places::is_place(&by) { Some(places::map(&state, &asked, vital).await?) } else { None };
    let row = |Value { value, pool, before }: &Value| {
        let m = rated(pool, vital);
        let reading = m.p75;
        let was = before.as_ref().and_then(|p| p75(p, vital).value);
        let of = |r: Rating| 120.0 * m.share(r).unwrap_or(0.0);
        BreakdownRow {
            link: format!(
                "{}/visitors?vital={}&{}",
                asked.base(),
                vital.name(),
                asked.query_with(&asked.filter.clone().and(by.clone(), value))
            ),
            value: match (value.as_str(), &by) {
                ("", _) => "not told".into(),
                (code, Attribute::Country) => places::country_name(code),
                _ => value.clone(),
            },
            views: format::thousands(pool.page_views),
            share: format::percent(share(pool.page_views, whole), 1, None),
            p75: format::vital(vital, &reading),
            tone: slow_tone(vital, &reading),
            against: match reading.value.zip(was) {
                Some((now, was)) if vital == Vital::Cls => format::signed(now - was, 3),
                Some((now, was)) => format!("{} s", format::difference_s(now - was)),
                None => "–".into(),
            },
            good: of(Rating::Good),
            middling: of(Rating::NeedsImprovement),
            poor: of(Rating::Poor),
            abandoned: format::percent(pool.abandoned_share(), 1, None),
            errors: format::percent(pool.error_share(), 1, None),
        }
    };
    let address = |a: &Attribute| {
        format!(
            "{}/visitors/breakdown?by={}&vital={}&{}",
            asked.base(),
            a.name(),
            vital.name(),
            asked.query_with(&asked.filter)
        )
    };
    let all = Attribute::ALL.into_iter().chain(attributes.into_iter().map(Attribute::Own));
    html(&Breakdown {
        vital: vital.name(),
        map,
        title: by.title(),
        attributes: all.map(|a| Choice::new(address(&a), a.title(), a == by)).collect(),
        rows: values.iter().take(ROWS).map(row).collect(),
        more: values.len().saturating_sub(ROWS),
        csv: format!("{}&csv=1", address(&by)),
    })
}

fn as_csv(by: &Attribute, vital: Vital, values: &[Value], whole: u64) -> HttpResponse {
    let mut file = CsvFile::with_header([
        by.title(),
        "page views".into(),
        "share".into(),
        format!("{} p75", vital.name()),
        "samples".into(),
        "abandoned".into(),
        "with errors".into(),
    ]);
    for Value { value, pool, .. } in values {
        let m = rated(pool, vital);
        let text = |n: Option<f64>| n.map_or(String::new(), |n| format!("{n:.4}"));
        file.row([
            value.clone(),
            pool.page_views.to_string(),
            text(share(pool.page_views, whole)),
            text(m.p75.value),
            m.samples().to_string(),
            pool.abandoned.to_string(),
            pool.with_errors.to_string(),
        ]);
    }
    file.download("page-views.csv")
}

#[derive(Template)]
#[template(path = "trouble.html")]
struct TroublePart {
    people: Vec<TroubleRow>,
    visits: Vec<TroubleRow>,
}

struct TroubleRow {
    link: String,
    last: String,
    page: String,
    says: String,
}

/// `GET /visitors/trouble`: the visits, and the people of whom pages told who they are, that had most trouble.
pub async fn trouble_part(
    state: web::Data<State>,
    access::By(by): access::By,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let asked = Asked::load(&request, TWELVE_HOURS)?;
    looked_over(&state.answers, &by, "looked at who had the most trouble at", &asked.site).await?;
    let found = breakdown::trouble(&state.answers, asked.site.id, &asked.range(), 6).await?;
    let zone = &asked.site.zone;
    let rows = |column: &str, all: &[Trouble]| {
        let row = |t: &Trouble| {
            let link = if column == "visit" {
                format!(
                    "{}/visitors/visits/{}?at={}",
                    asked.base(),
                    Uuid::from_u128(t.id),
                    t.last.as_millisecond()
                )
            } else {
                format!(
                    "{}/visitors/find?person={:016x}&{}",
                    asked.base(),
                    t.id,
                    asked.query_with(&asked.filter)
                )
            };
            let counted = [
                (t.errors, "with errors"),
                (t.abandoned, "abandoned"),
                (t.blank, "blank"),
                (t.slow, "slow"),
            ];
            let kinds: Vec<String> = counted
                .iter()
                .filter(|(n, _)| *n > 0)
                .map(|(n, word)| format!("{n} {word}"))
                .collect();
            TroubleRow {
                link,
                last: format::day_clock(t.last, zone),
                page: t.page.clone(),
                says: format!("{} of {} page views", kinds.join(", "), t.page_views),
            }
        };
        all.iter().map(row).collect::<Vec<_>>()
    };
    html(&TroublePart {
        people: rows("person", &found.people),
        visits: rows("visit", &found.visits),
    })
}
