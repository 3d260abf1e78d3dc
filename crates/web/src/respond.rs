//! How handlers of pages begin and end.

use crate::State;
use crate::error::PageError;
use actix_web::HttpResponse;
use actix_web::http::StatusCode;
use actix_web::http::header::{HeaderName, HeaderValue};
use askama::Template;
use cadentis_answers::kept::Journey;
use cadentis_answers::sites;

/// Leads to another page after something was changed.
pub fn redirect(address: &str) -> HttpResponse {
    HttpResponse::SeeOther().insert_header(("location", address)).finish()
}

/// The answer with a header that goes before what every page says.
pub fn with_header(mut page: HttpResponse, name: HeaderName, value: &str) -> HttpResponse {
    if let Ok(value) = HeaderValue::from_str(value) {
        page.headers_mut().insert(name, value);
    }
    page
}

/// A page.
pub fn html(page: &impl Template) -> Result<HttpResponse, PageError> {
    Ok(HttpResponse::Ok().content_type("text/html; charset=utf-8").body(page.render()?))
}

/// A page with another status, such as a form that was not taken.
pub fn html_with(status: StatusCode, page: &impl Template) -> Result<HttpResponse, PageError> {
    let mut page = html(page)?;
    *page.status_mut() = status;
    Ok(page)
}

/// The journey of the site at this address.
pub async fn journey_of(state: &State, site_id: i32, slug: &str) -> Result<Journey, PageError> {
    let journey = sites::journey(&state.answers, site_id, slug).await?;
    journey.ok_or_else(|| PageError::NotFound(format!("the journey {slug}")))
}

/// How the stretch of a page begins when the address does not say.
pub const SIX_HOURS: i64 = 6 * 3600;
pub const TWELVE_HOURS: i64 = 12 * 3600;
