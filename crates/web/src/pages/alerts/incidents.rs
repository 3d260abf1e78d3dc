//! Incidents of a stretch.

use super::IncidentRow;
use crate::State;
use crate::error::PageError;
use crate::frame::Frame;
use crate::limits::query;
use crate::respond::html;
use crate::view::Choice;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::incidents;
use cadentis_core::alert::Severity;
use serde::Deserialize;

/// Incidents of so long are shown when the address does not say.
const MONTH_S: i64 = 28 * 86_400;

#[derive(Template)]
#[template(path = "incidents.html")]
struct Page {
    frame: Frame,
    says: String,
    severities: Vec<Choice>,
    rows: Vec<IncidentRow>,
}

#[derive(Default, Deserialize)]
struct Asked {
    severity: Option<String>,
}

/// `GET /incidents`
pub async fn page(
    state: web::Data<State>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let asked = query::<Asked>(&request)?;
    let frame = Frame::load(&state, &request, "Alerts", MONTH_S).await?;
    let wanted = asked.severity.as_deref().and_then(Severity::of_word);
    let mut all = incidents::of_stretch(&state.answers, &frame.site, frame.past()).await?;
    all.retain(|i| wanted.is_none_or(|s| i.severity == s));
    let nobody = all.iter().filter(|i| i.acknowledged.is_none()).count();
    let says = match (all.len(), nobody) {
        (0, _) => "No incident lies in this stretch.".to_string(),
        (1, 0) => "One incident lies in this stretch; somebody looked after it.".into(),
        (1, _) => "One incident lies in this stretch; nobody acknowledged it.".into(),
        (n, 0) => format!("{n} incidents lie in this stretch; each was acknowledged."),
        (n, nobody) => {
            format!("{n} incidents lie in this stretch; {nobody} were acknowledged by nobody.")
        }
    };
    let word = wanted.map_or("", Severity::word);
    let choices = [("", "all"), ("critical", "critical"), ("warning", "warning")];
    html(&Page {
        says,
        severities: choices.map(|(v, n)| Choice::new(v, n, v == word)).to_vec(),
        rows: all.iter().map(|i| IncidentRow::of(&frame, i)).collect(),
        frame,
    })
}
