//! An issue of a report, as it was written: on a page, as PDF, CSV and JSON; and what has changed since.

use crate::State;
use crate::access::After;
use crate::csv_file::CsvFile;
use crate::error::PageError;
use crate::frame::{Frame, all_of};
use crate::respond::{TWELVE_HOURS, html};
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::kept::Site;
use cadentis_answers::reports::{self, Shown};
use cadentis_core::report::{Change, period_name};
use cadentis_paper::{Size, sheets};

#[derive(Template)]
#[template(path = "issue.html")]
struct IssuePage {
    frame: Frame,
    id: i32,
    report_id: i32,
    name: String,
    of: String,
    article: String,
    /// A newer one of the same time.
    newer: Option<(String, i32)>,
    /// It was asked for again and says nothing new.
    is_same: bool,
}

/// What has changed since an issue was written.
#[derive(Template)]
#[template(path = "issue_since.html")]
struct SincePart {
    frame: Frame,
    report_id: i32,
    changes: Vec<Change>,
}

async fn shown(state: &State, site: &Site, id: i32) -> Result<Shown, PageError> {
    let found = reports::issue(&state.answers, site, id).await?;
    found.ok_or_else(|| PageError::NotFound(format!("issue {id} of a report")))
}

/// `GET /reports/issues/{id}`
pub async fn page(
    state: web::Data<State>,
    id: After<i32>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(&state, &request, "Reports", TWELVE_HOURS).await?;
    let shown = shown(&state, &frame.site, id.0).await?;
    let period = shown.content.definition.period;
    html(&IssuePage {
        id: shown.issue.id,
        report_id: shown.report.id,
        name: shown.report.name.clone(),
        of: period_name(period, shown.issue.covers, &frame.site.zone),
        article: cadentis_paper::article(&shown.content.document, &shown.head(&frame.site)),
        newer: shown.replaced_by.as_ref().map(|i| (super::issue_link(&frame, i.id), i.number)),
        is_same: !all_of(&request, "same").is_empty(),
        frame,
    })
}

/// `GET /reports/issues/{id}/since`: what the report would say now and does not in this issue.
pub async fn since(
    state: web::Data<State>,
    id: After<i32>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::part(&request, "Reports", TWELVE_HOURS)?;
    let shown = shown(&state, &frame.site, id.0).await?;
    let changes = reports::since(&state.answers, &frame.site, &shown).await?;
    html(&SincePart { report_id: shown.report.id, changes, frame })
}

/// `GET /reports/issues/{id}/pdf`: on A4, or with `paper=letter` on Letter.
pub async fn pdf(
    state: web::Data<State>,
    id: After<i32>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::part(&request, "Reports", TWELVE_HOURS)?;
    let asked = all_of(&request, "paper").pop();
    let size = match asked.as_deref() {
        None => Size::A4,
        Some(word) => Size::of_word(word).ok_or_else(|| PageError::Parameter {
            name: "paper".into(),
            says: "it is a4 or letter".into(),
        })?,
    };
    let shown = shown(&state, &frame.site, id.0).await?;
    let head = shown.head(&frame.site);
    let page = cadentis_paper::page(&shown.content.document, &head, size);
    let pdf = cadentis_paper::pdf(&page).await;
    let pdf = pdf.map_err(|e| PageError::Broken(e.to_string()))?;
    let name = shown.file(&frame.site, "pdf");
    Ok(HttpResponse::Ok()
        .content_type("application/pdf")
        .insert_header(("content-disposition", format!("attachment; filename=\"{name}\"")))
        .body(pdf))
}

/// `GET /reports/issues/{id}/csv`: every figure and every cell, a line each.
pub async fn csv(
    state: web::Data<State>,
    id: After<i32>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::part(&request, "Reports", TWELVE_HOURS)?;
    let shown = shown(&state, &frame.site, id.0).await?;
    let mut table = CsvFile::with_header(sheets::COLUMNS);
    for line in sheets::lines(&shown.content.document) {
        table.row(line);
    }
    Ok(table.download(&shown.file(&frame.site, "csv")))
}

/// `GET /reports/issues/{id}/json`: what the issue is kept as, byte for byte; its SHA-256 is the checksum.
pub async fn json(
    state: web::Data<State>,
    id: After<i32>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::part(&request, "Reports", TWELVE_HOURS)?;
    let shown = shown(&state, &frame.site, id.0).await?;
    let name = shown.file(&frame.site, "json");
    Ok(HttpResponse::Ok()
        .content_type("application/json")
        .insert_header(("content-disposition", format!("attachment; filename=\"{name}\"")))
        .body(shown.kept))
}
