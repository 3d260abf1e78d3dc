//! Reports: what is issued, by itself or when asked, and each issue as it was written.

mod form;
mod issue;

pub use form::{change, changed, make, new};
pub use issue::{csv, json, page as issue_page, pdf, since};

use crate::State;
use crate::access::{After, By, InSite};
use crate::error::PageError;
use crate::fields::{self, Fields};
use crate::format;
use crate::frame::{Frame, all_of, base};
use crate::respond::{TWELVE_HOURS, html, redirect};
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::changes::reports::{self as changes, Made};
use cadentis_answers::kept::{Issue, Report, Site};
use cadentis_answers::reports;
use cadentis_core::calendar::Stretch;
use cadentis_core::report::{Head, period_name};
use cadentis_core::text::capital;

#[derive(Template)]
#[template(path = "reports.html")]
struct ListPage {
    frame: Frame,
    rows: Vec<Row>,
    ended: Vec<Row>,
}

struct Row {
    link: String,
    name: String,
    says: String,
    when: String,
    next: String,
    to: String,
    /// The newest issue: its address, and what it is of.
    newest: Option<(String, String)>,
}

#[derive(Template)]
#[template(path = "report.html")]
struct ReportPage {
    frame: Frame,
    id: i32,
    name: String,
    says: String,
    when: String,
    is_ended: bool,
    issues: Vec<IssueRow>,
    /// Periods that can be issued.
    periods: Vec<PeriodRow>,
    back: usize,
    period: String,
    /// What it would say of the chosen one.
    draft: String,
}

struct IssueRow {
    link: String,
    of: String,
    number: i32,
    made: String,
    author: String,
    checksum: String,
}

struct PeriodRow {
    link: String,
    name: String,
    here: bool,
}

async fn report_of(state: &State, site: &Site, id: i32) -> Result<(Report, Vec<Issue>), PageError> {
    let found = reports::one(&state.answers, site, id).await?;
    found.ok_or_else(|| PageError::NotFound(format!("report {id}")))
}

fn issue_link(frame: &Frame, id: i32) -> String {
    format!("{}/reports/issues/{id}?{}", frame.base, frame.query)
}

fn of_words(report: &Report, covers: Stretch, site: &Site) -> String {
    capital(&period_name(report.definition.period, covers, &site.zone))
}

fn when_words(report: &Report) -> String {
    match (&report.definition.schedule, report.ended_at) {
        (_, Some(_)) => "ended: issued no more".into(),
        (None, _) => "issued when asked".into(),
        (Some(schedule), _) => schedule.words(),
    }
}

/// `GET /reports`
pub async fn page(
    state: web::Data<State>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(&state, &request, "Reports", TWELVE_HOURS).await?;
    let all = reports::list(&state.answers, &frame.site).await?;
    let lists = reports::offered(&state.answers, &frame.site).await?.lists;
    let zone = &frame.site.zone;
    let row = |(report, newest): &(Report, Option<Issue>)| Row {
        link: format!("{}/reports/{}?{}", frame.base, report.id, frame.query),
        name: report.name.clone(),
        says: capital(report.definition.kind.says()),
        when: when_words(report),
        next: report.next_at.map_or("–".into(), |at| format::day_clock(at, zone)),
        to: match report.list_id {
            Some(id) => lists
                .iter()
                .find(|(of, _)| *of == id)
                .map_or(String::new(), |(_, name)| name.clone()),
            None => "–".into(),
        },
        newest: newest.as_ref().map(|i| {
            let number = if i.number > 1 { format!(", issue {}", i.number) } else { String::new() };
            (issue_link(&frame, i.id), of_words(report, i.covers, &frame.site) + &number)
        }),
    };
    let is_ended = |(report, _): &&(Report, Option<Issue>)| report.ended_at.is_some();
    let (ended, going): (Vec<_>, Vec<_>) = all.iter().partition(is_ended);
    html(&ListPage {
        rows: going.into_iter().map(row).collect(),
        ended: ended.into_iter().map(row).collect(),
        frame,
    })
}

/// `GET /reports/{id}`: its issues, and what it would say now of a period that is over.
pub async fn report(
    state: web::Data<State>,
    id: After<i32>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(&state, &request, "Reports", TWELVE_HOURS).await?;
    let (report, issues) = report_of(&state, &frame.site, id.0).await?;
    let back: usize = all_of(&request, "back").pop().and_then(|b| b.parse().ok()).unwrap_or(0);
    let periods = reports::periods(&report, frame.now, &frame.site);
    let back = back.min(periods.len() - 1);
    let covers = periods[back];
    let of = (report.name.as_str(), &report.definition);
    let document = reports::document(&state.answers, &frame.site, of, covers).await?;
    let head = Head {
        warning: "Not issued: what this report would say now. It changes with what comes in late, is carved out or is put back."
            .into(),
        ..Head::default()
    };
    let row = |issue: &Issue| IssueRow {
        link: issue_link(&frame, issue.id),
        of: of_words(&report, issue.covers, &frame.site),
        number: issue.number,
        made: format::day_clock(issue.made_at, &frame.site.zone),
        author: issue.author.clone(),
        checksum: issue.checksum.chars().take(12).collect(),
    };
    let period = |(nth, covers): (usize, &Stretch)| PeriodRow {
        link: format!("{}/reports/{}?back={nth}&{}", frame.base, report.id, frame.query),
        name: of_words(&report, *covers, &frame.site),
        here: nth == back,
    };
    html(&ReportPage {
        id: report.id,
        name: report.name.clone(),
        says: capital(report.definition.kind.says()),
        when: when_words(&report),
        is_ended: report.ended_at.is_some(),
        issues: issues.iter().map(row).collect(),
        periods: periods.iter().enumerate().take(6.max(back + 1)).map(period).collect(),
        back,
        period: of_words(&report, covers, &frame.site),
        draft: cadentis_paper::article(&document, &head),
        frame,
    })
}

/// `POST /reports/{id}/issue`: issues a period that is over.
pub async fn issued(
    state: web::Data<State>,
    InSite(site): InSite,
    By(by): By,
    id: After<i32>,
    fields: web::Form<Fields>,
) -> Result<HttpResponse, PageError> {
    let (report, _) = report_of(&state, &site, id.0).await?;
    if report.ended_at.is_some() {
        return Err(PageError::Refused("This report was ended: it is issued no more.".into()));
    }
    let back = fields::one(&fields, "back").parse().unwrap_or(0);
    let made = changes::issue(&state.answers, &by, &site, &report, back).await?;
    let (Made::New(id) | Made::Same(id)) = made;
    let same = if matches!(made, Made::Same(_)) { "?same=1" } else { "" };
    Ok(redirect(&format!("{}/reports/issues/{id}{same}", base(&site))))
}

/// `POST /reports/{id}/end`
pub async fn end(
    state: web::Data<State>,
    InSite(site): InSite,
    By(by): By,
    id: After<i32>,
) -> Result<HttpResponse, PageError> {
    match changes::end(&state.answers, &by, &site, id.0).await? {
        true => Ok(redirect(&format!("{}/reports", base(&site)))),
        false => Err(PageError::NotFound("this report, or it was ended already".into())),
    }
}
