//! Recording a journey: a page in a browser at a location, used from here.

use crate::State;
use crate::error::PageError;
use crate::frame::Frame;
use crate::respond::{TWELVE_HOURS, html};
use crate::view::Named;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::sites;

#[derive(Template)]
#[template(path = "record.html")]
struct Page {
    frame: Frame,
    address: String,
    locations: Vec<Named>,
}

/// `GET /journeys/record`
pub async fn page(
    state: web::Data<State>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(&state, &request, "Journeys", TWELVE_HOURS).await?;
    let locations =
        sites::locations(&state.answers).await?.into_iter().map(Named::location).collect();
    // Where the site's people begin is where most journeys do.
    let address = frame.site.domains.first().map(|d| format!("http://{d}/")).unwrap_or_default();
    html(&Page { address, locations, frame })
}
