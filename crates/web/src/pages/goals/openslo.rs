//! Goals out and in as OpenSLO.

use crate::State;
use crate::access::{By, InSite};
use crate::error::PageError;
use crate::fields::{self, Fields, sentence};
use crate::frame::Frame;
use crate::respond::{TWELVE_HOURS, html_with};
use actix_web::http::StatusCode;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::changes::goals::{self as changes, Taken};
use cadentis_answers::goals::openslo::written;

#[derive(Template)]
#[template(path = "openslo.html")]
struct Page {
    frame: Frame,
    text: String,
    wrong: Option<String>,
    rows: Vec<Row>,
    says: String,
}

struct Row {
    what: String,
    /// Where the goal is that it became.
    link: Option<String>,
    says: String,
}

fn row(frame: &Frame, taken: &Taken) -> Row {
    match &taken.became {
        Ok(id) => Row {
            what: taken.what.clone(),
            link: Some(format!("{}/goals?{}#goal-{id}", frame.base, frame.query)),
            says: "promised".into(),
        },
        Err(why) => Row { what: taken.what.clone(), link: None, says: sentence(why) },
    }
}

/// `GET /goals/openslo`
pub async fn openslo(
    state: web::Data<State>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(&state, &request, "Goals", TWELVE_HOURS).await?;
    let (text, rows, says) = (String::new(), Vec::new(), String::new());
    html_with(StatusCode::OK, &Page { frame, text, wrong: None, rows, says })
}

/// `POST /goals/openslo`: what can be promised of the text is; of all else it is told why.
pub async fn take(
    state: web::Data<State>,
    InSite(site): InSite,
    By(by): By,
    request: HttpRequest,
    sent: web::Form<Fields>,
) -> Result<HttpResponse, PageError> {
    let text = fields::one(&sent, "text");
    let taken = changes::take(&state.answers, &by, &site, &text).await?;
    let frame = Frame::load(&state, &request, "Goals", TWELVE_HOURS).await?;
    let (status, page) = match taken {
        Err(why) => (
            StatusCode::UNPROCESSABLE_ENTITY,
            Page {
                frame,
                text,
                wrong: Some(sentence(&why)),
                rows: Vec::new(),
                says: String::new(),
            },
        ),
        Ok(all) => {
            let good = all.iter().filter(|t| t.became.is_ok()).count();
            let says = format!("{good} of {} documents became goals.", all.len());
            let rows = all.iter().map(|t| row(&frame, t)).collect();
            // What became of nothing is still there to be mended.
            let text = if good == all.len() { String::new() } else { text };
            (StatusCode::OK, Page { frame, text, wrong: None, rows, says })
        }
    };
    html_with(status, &page)
}

/// `GET /goals/openslo.yaml`
pub async fn file(
    state: web::Data<State>,
    InSite(site): InSite,
) -> Result<HttpResponse, PageError> {
    let name = format!("{}-goals.yaml", site.slug);
    Ok(HttpResponse::Ok()
        .content_type("application/yaml; charset=utf-8")
        .insert_header(("content-disposition", format!("attachment; filename=\"{name}\"")))
        .body(written(&state.answers, &site).await?))
}
