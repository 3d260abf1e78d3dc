//! Budgets: page families against vitals, edited in place, any other measure, and steps of journeys against their scripts.

pub mod measured;

use crate::State;
use crate::access::{By, InSite};
use crate::error::PageError;
use crate::fields::{Fields, number, sentence};
use crate::format;
use crate::frame::{Frame, base, family_link, tone};
use crate::respond::{TWELVE_HOURS, html_with, redirect};
use crate::view::Working;
use actix_web::http::StatusCode;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::budgets::{self, Cell, FamilyRow, StepRow};
use cadentis_answers::changes::budgets::{self as changes, MOST_LIMITS, NotSet, Wanted, Which};
use cadentis_core::goal::Standing;
use cadentis_core::timing::Vital;
use std::collections::BTreeMap;

#[derive(Template)]
#[template(path = "budgets.html")]
struct Page {
    frame: Frame,
    says: String,
    vitals: Vec<Head>,
    rows: Vec<Row>,
    steps: Vec<Step>,
    measured: Vec<measured::Row>,
    /// How readings of limited measures were come by.
    proof: Vec<Working>,
    /// What is typed of another limit on a measure, and what is wrong with it.
    another: measured::Typed,
    another_wrong: Option<String>,
    /// What is wrong, in words on top.
    wrong: Option<String>,
}

#[derive(Clone)]
struct Head {
    name: &'static str,
    unit: &'static str,
}

struct Row {
    /// Empty for all pages.
    family: String,
    link: String,
    page_views: String,
    cells: Vec<Field>,
    /// Its Apdex and T; that of all pages is set elsewhere.
    apdex: Field,
}

/// A limit that can be typed, and what it is held against.
#[derive(Default)]
struct Field {
    /// The name of the field, and of the one beside it that holds what it was.
    name: String,
    was: String,
    value: String,
    /// The limit of all pages, which holds where there is none of its own.
    holds: String,
    label: String,
    reading: String,
    tone: &'static str,
    margin: String,
    /// Alerts that watch the same.
    watched: Vec<measured::Watching>,
    wrong: Option<String>,
}

struct Step {
    journey: String,
    link: String,
    step: String,
    reading: String,
    limit: String,
    margin: String,
    tone: &'static str,
}

/// The unit that a limit is typed in.
fn unit(which: Which) -> &'static str {
    match which {
        Which::Vital(Vital::Cls) => "",
        Which::Vital(Vital::Inp) => "ms",
        Which::Vital(Vital::Lcp | Vital::Fcp | Vital::Ttfb) | Which::T => "s",
    }
}

/// How many of its own unit one of the typed unit is.
fn per_unit(which: Which) -> f64 {
    if which != Which::T && unit(which) == "s" { 1_000.0 } else { 1.0 }
}

/// A limit as it is typed.
fn typed(which: Which, limit: Option<f64>) -> String {
    limit.map_or(String::new(), |l| (l / per_unit(which)).to_string())
}

/// T in the name of a field.
const T: &str = "T";

/// The name of a field: of which family and what.
fn field_name(family: Option<&str>, which: Which) -> String {
    let of = match which {
        Which::Vital(vital) => vital.name(),
        Which::T => T,
    };
    format!("{of}:{}", family.unwrap_or_default())
}

/// What was typed: by the name of its field, what it is to be and what it was.
type Typed = BTreeMap<String, (String, String)>;

/// What a page is shown with besides what is kept.
#[derive(Default)]
struct Besides {
    typed: Typed,
    /// By the name of the field.
    wrong: BTreeMap<String, String>,
    /// What fields say now that somebody else changed.
    overtaken: BTreeMap<String, String>,
    /// A limit on a measure that was typed, and what is wrong with it.
    measured: Option<(measured::Typed, String)>,
    /// Another limit on a measure that somebody came to set.
    another: measured::Typed,
}

impl Besides {
    fn measured(typed: measured::Typed, wrong: String) -> Besides {
        Besides { measured: Some((typed, wrong)), ..Besides::default() }
    }
}

fn margin(vital: Vital, cell: &Cell, frame: &Frame) -> String {
    let Some(margin) = cell.judged.and_then(|j| j.margin) else { return String::new() };
    let amount = vital.text(margin.abs());
    match (margin >= 0.0, cell.since) {
        (true, _) => format!("{amount} left"),
        (false, Some(at)) => {
            format!("{amount} over since {}", format::day_clock(at, &frame.site.zone))
        }
        (false, None) => format!("{amount} over"),
    }
}

/// A field as it stands between what is kept, what was typed and what somebody else set; it says nothing of a reading yet.
fn field(
    which: Which,
    family: Option<&str>,
    (own, holds): (Option<f64>, Option<f64>),
    besides: &Besides,
) -> Field {
    let name = field_name(family, which);
    let kept = typed(which, own);
    let label = match which {
        Which::Vital(vital) => format!("Limit of {}", vital.name()),
        Which::T => which.name().to_string(),
    };
    Field {
        value: besides.typed.get(&name).map_or(kept.clone(), |(limit, _)| limit.clone()),
        was: besides.overtaken.get(&name).cloned().unwrap_or(kept),
        holds: if own.is_none() { typed(which, holds) } else { String::new() },
        label: format!("{label} of {}", family.unwrap_or("all pages")),
        wrong: besides.wrong.get(&name).cloned(),
        name,
        ..Field::default()
    }
}

fn held(vital: Vital, row: &FamilyRow, cell: &Cell, frame: &Frame, besides: &Besides) -> Field {
    let kept = (cell.own, cell.holds);
    Field {
        reading: format::vital(vital, &cell.reading),
        // What has no limit stands nowhere.
        tone: cell.judged.map_or("", |j| tone(j.state)),
        margin: margin(vital, cell, frame),
        watched: measured::watching(frame, &cell.watched),
        ..field(Which::Vital(vital), row.family.as_deref(), kept, besides)
    }
}

fn scored(row: &FamilyRow, besides: &Besides) -> Field {
    let apdex = &row.apdex;
    let kept = (row.own_t_s, Some(apdex.t_s));
    let frustrated = format::thousands(apdex.frustrated);
    Field {
        reading: apdex.score().map_or(format::NO_DATA.into(), |score| format!("{score:.2}")),
        margin: if apdex.frustrated > 0 {
            format!("{frustrated} frustrated")
        } else {
            String::new()
        },
        ..field(Which::T, row.family.as_deref(), kept, besides)
    }
}

fn step(s: StepRow, frame: &Frame) -> Step {
    let (journey, slug) = s.journey;
    Step {
        link: format!("{}/journeys/{slug}/script", frame.base),
        step: s.step.unwrap_or_else(|| "all steps together".into()),
        reading: format::reading_s(&s.reading),
        limit: s.limit_ms.map_or("none".into(), |ms| format!("{} s", format::seconds(ms))),
        margin: match s.limit_ms.zip(s.reading.value) {
            Some((limit, value)) if value <= limit => {
                format!("{} s left", format::seconds(limit - value))
            }
            Some((limit, value)) => format!("{} s over", format::seconds(value - limit)),
            None => String::new(),
        },
        tone: tone(s.state),
        journey,
    }
}

async fn show(
    state: &web::Data<State>,
    request: &HttpRequest,
    besides: Besides,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(state, request, "Goals", TWELVE_HOURS).await?;
    let found = budgets::ask(&state.answers, &frame.site, &frame.range()).await?;
    let over = |cell: &Cell| cell.judged.is_some_and(|j| j.state == Standing::Strained);
    let broken = found.families.iter().flat_map(|r| &r.cells).filter(|c| over(c)).count()
        + found.steps.iter().filter(|s| s.state == Standing::Strained).count()
        + found.measured.iter().filter(|m| m.judged.state == Standing::Strained).count();
    let limited =
        found.families.iter().flat_map(|r| &r.cells).filter(|c| c.holds.is_some()).count()
            + found.steps.iter().filter(|s| s.limit_ms.is_some()).count()
            + found.measured.len();
    let says = match (limited, broken) {
        (0, _) => {
            "Nothing has a limit yet: type one below, for all pages or for a page family.".into()
        }
        (n, 0) => format!("All of {n} limits hold over this stretch."),
        (n, 1) => format!("One of {n} limits is broken over this stretch."),
        (n, broken) => format!("{broken} of {n} limits are broken over this stretch."),
    };
    let row = |r: &FamilyRow| Row {
        family: r.family.clone().unwrap_or_default(),
        link: r
            .family
            .as_deref()
            .map_or(String::new(), |f| format!("{}&{}", family_link(&frame.base, f), frame.query)),
        page_views: format::thousands(r.page_views),
        cells: Vital::ALL
            .iter()
            .zip(&r.cells)
            .map(|(vital, cell)| held(*vital, r, cell, &frame, &besides))
            .collect(),
        apdex: scored(r, &besides),
    };
    let rows: Vec<Row> = found.families.iter().map(row).collect();
    let measured: Vec<measured::Row> =
        found.measured.iter().map(|m| measured::row(&frame, m, &besides)).collect();
    let another = match &besides.measured {
        Some((typed, _)) if measured.iter().any(|row| row.measure == typed.measure) => None,
        Some((typed, wrong)) => Some((typed.clone(), Some(wrong.clone()))),
        None => Some((besides.another.clone(), None)),
    };
    let is_wrong = besides.measured.is_some();
    let (another, another_wrong) = another.unwrap_or_default();
    let wrong = match (besides.wrong.len(), besides.overtaken.is_empty()) {
        (0, _) => None,
        (_, true) => Some("Nothing was saved yet: what is wrong is told at its field.".to_string()),
        (_, false) => Some("Nothing was saved yet: somebody changed limits meanwhile. What you typed is here; save again to set it.".to_string()),
    };
    let status =
        if wrong.is_some() || is_wrong { StatusCode::UNPROCESSABLE_ENTITY } else { StatusCode::OK };
    html_with(
        status,
        &Page {
            says,
            vitals: Vital::ALL
                .map(|v| Head { name: v.name(), unit: unit(Which::Vital(v)) })
                .to_vec(),
            rows,
            steps: found.steps.into_iter().map(|s| step(s, &frame)).collect(),
            measured,
            proof: found.measured.iter().filter_map(measured::working).collect(),
            another,
            another_wrong,
            wrong,
            frame,
        },
    )
}

/// `GET /budgets`
pub async fn page(
    state: web::Data<State>,
    request: HttpRequest,
    fields: web::Query<Fields>,
) -> Result<HttpResponse, PageError> {
    let another = measured::Typed::of(&fields);
    show(&state, &request, Besides { another, ..Besides::default() }).await
}

/// What is named in the name of a field.
fn which_of(name: &str) -> Option<Which> {
    if name == T { Some(Which::T) } else { Vital::parse(name).map(Which::Vital) }
}

/// What was typed that differs from what it was, or what is wrong with it.
fn read(typed: &Typed) -> Result<Vec<Wanted>, BTreeMap<String, String>> {
    let (mut wanted, mut wrong) = (Vec::new(), BTreeMap::new());
    for (name, (limit, was)) in typed {
        let Some((which, family)) = name.split_once(':') else { continue };
        // No page family has such a name.
        if family.chars().count() > LONGEST_FAMILY || family.chars().any(char::is_control) {
            continue;
        }
        let Some(which) = which_of(which).filter(|w| *w != Which::T || !family.is_empty()) else {
            continue;
        };
        // To a thousandth of its unit: what is read is what was kept.
        let of = |text: &str| number(text).map(|n| (n * per_unit(which) * 1e3).round() / 1e3);
        if limit == was {
            continue;
        }
        let family = (!family.is_empty()).then(|| family.to_string());
        let limit = match limit.trim() {
            "" => None,
            text => match of(text.trim_end_matches(unit(which))) {
                Some(limit) => match which.check(limit) {
                    Ok(()) => Some(limit),
                    Err(e) => {
                        wrong.insert(name.clone(), sentence(&e));
                        continue;
                    }
                },
                None => {
                    let says = match which {
                        Which::T => "T is a number of seconds, or nothing.".to_string(),
                        _ => format!("A limit of {} is a number, or nothing.", which.name()),
                    };
                    wrong.insert(name.clone(), says);
                    continue;
                }
            },
        };
        wanted.push(Wanted { family, which, was: of(was), limit });
    }
    if wrong.is_empty() { Ok(wanted) } else { Err(wrong) }
}

/// A page family has a name of at most so many characters.
const LONGEST_FAMILY: usize = 200;

/// So many limits are set at once at most.
const MOST: usize = 2_000;

/// `POST /budgets`: every limit that was changed.
pub async fn save(
    state: web::Data<State>,
    InSite(site): InSite,
    By(by): By,
    request: HttpRequest,
    fields: web::Form<Fields>,
) -> Result<HttpResponse, PageError> {
    let mut typed = Typed::new();
    for (name, value) in fields.iter().take(2 * MOST) {
        let value = cadentis_core::text::clean(value.trim(), 40, None);
        match name.strip_prefix("was ") {
            Some(name) => typed.entry(name.to_string()).or_default().1 = value,
            None => typed.entry(name.clone()).or_default().0 = value,
        }
    }
    let wanted = match read(&typed) {
        Ok(wanted) => wanted,
        Err(wrong) => {
            return show(&state, &request, Besides { typed, wrong, ..Besides::default() }).await;
        }
    };
    if wanted.is_empty() {
        return Ok(redirect(&format!("{}/budgets", base(&site))));
    }
    match changes::set(&state.answers, &by, &site, &wanted).await? {
        Ok(()) => Ok(redirect(&format!("{}/budgets", base(&site)))),
        Err(NotSet::TooMany) => {
            Err(PageError::Refused(format!("A site has {MOST_LIMITS} limits at most.")))
        }
        Err(NotSet::Overtaken(overtaken)) => {
            let name = |w: &Wanted| field_name(w.family.as_deref(), w.which);
            let says = |w: &Wanted| match w.was {
                Some(limit) => format!("Somebody set {} meanwhile.", w.which.text(limit)),
                None => "Somebody took it away meanwhile.".to_string(),
            };
            let wrong = overtaken.iter().map(|w| (name(w), says(w))).collect();
            let overtaken =
                overtaken.iter().map(|w| (name(w), self::typed(w.which, w.was))).collect();
            show(&state, &request, Besides { typed, wrong, overtaken, ..Besides::default() }).await
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(name: &str, limit: &str, was: &str) -> Result<Vec<Wanted>, BTreeMap<String, String>> {
        super::read(&Typed::from([(name.to_string(), (limit.to_string(), was.to_string()))]))
    }

    #[test]
    fn limits_are_read_in_the_unit_they_are_typed_in_and_only_what_changed_is_wanted() {
        let one = |name, limit, was| read(name, limit, was).unwrap().remove(0);
        let lcp = one("LCP:Sailings list", "2,5", "");
        assert_eq!(
            (lcp.family.as_deref(), lcp.limit, lcp.was),
            (Some("Sailings list"), Some(2_500.0), None)
        );
        assert_eq!(one("INP:", "200 ms", "180").limit, Some(200.0));
        assert_eq!(one("INP:", "200 ms", "180").was, Some(180.0));
        assert_eq!(one("CLS:", "0.1", "").limit, Some(0.1));
        assert_eq!(one("LCP:", "", "2.5").limit, None, "taken away");
        assert_eq!(read("LCP:", "2.5", "2.5"), Ok(vec![]));
        for (name, limit) in
            [("LCP:", "soon"), ("LCP:", "0"), ("LCP:", "-1"), ("CLS:", "11"), ("LCP:", "601")]
        {
            assert!(read(name, limit, "").unwrap_err().contains_key(name), "{name} {limit}");
        }
        assert_eq!(read("MAGIC:", "1", ""), Ok(vec![]), "nothing of that name");
    }
}
