//! Calendars that other programs subscribe to, known by their address alone.

use crate::State;
use crate::error::PageError;
use actix_web::http::header::{CACHE_CONTROL, CONTENT_TYPE};
use actix_web::{HttpResponse, web};
use cadentis_answers::maintenance;
use cadentis_core::calendar::ical::{self, Entry};
use jiff::Timestamp;

crate::routes::routes! {
    Public get "/calendars/{token}.ics" => planned,
}

/// The maintenance of a site, as iCalendar (RFC 5545): windows as they repeat, not their occurrences.
async fn planned(
    state: web::Data<State>,
    token: web::Path<String>,
) -> Result<HttpResponse, PageError> {
    let now = Timestamp::now();
    let planned = maintenance::feed(&state.answers, &token, now).await?;
    let planned = planned.ok_or_else(|| PageError::NotFound("this calendar".into()))?;
    let plain: Vec<_> = planned.iter().filter_map(|p| Some((p, p.says.window.plain()?))).collect();
    let entry = |(p, window)| {
        let p: &cadentis_answers::kept::Planned = p;
        Entry { id: p.id.into(), window, detail: &p.detail }
    };
    let entries: Vec<Entry<'_>> = plain.iter().map(|(p, window)| entry((p, window))).collect();
    Ok(HttpResponse::Ok()
        .insert_header((CONTENT_TYPE, "text/calendar; charset=utf-8"))
        .insert_header((CACHE_CONTROL, "private, max-age=300"))
        .body(ical::write(&entries, now)))
}
