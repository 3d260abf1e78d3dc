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
use cadentis_answers::incidents::{self, Stage, Wanted};
use cadentis_core::alert::Severity;
use cadentis_core::text::clean;
use serde::Deserialize;

/// Incidents of so long are shown when the address does not say.
const MONTH_S: i64 = 28 * 86_400;

#[derive(Template)]
#[template(path = "incidents.html")]
struct Page {
    frame: Frame,
    says: String,
    severities: Vec<Choice>,
    stages: Vec<Choice>,
    looks: Vec<Choice>,
    subjects: Vec<Choice>,
    find: String,
    rows: Vec<IncidentRow>,
}

#[derive(Default, Deserialize)]
struct Asked {
    severity: Option<String>,
    state: Option<String>,
    acknowledged: Option<String>,
    about: Option<String>,
    find: Option<String>,
}

impl Asked {
    fn wanted(&self) -> Wanted {
        let word = |of: &Option<String>| of.clone().filter(|word| !word.is_empty());
        Wanted {
            severity: word(&self.severity).and_then(|w| Severity::of_word(&w)),
            stage: word(&self.state).and_then(|w| Stage::of_word(&w)),
            is_acknowledged: match self.acknowledged.as_deref() {
                Some("yes") => Some(true),
                Some("no") => Some(false),
                _ => None,
            },
            about: word(&self.about),
            text: clean(self.find.as_deref().unwrap_or_default(), LONGEST, None),
        }
    }
}

/// What is looked for has so many characters at most.
const LONGEST: usize = 200;

/// Values and what they are called, of which one may be chosen; without one all are shown.
fn choices<'a>(
    any: &str,
    all: impl IntoIterator<Item = (&'a str, &'a str)>,
    chosen: &str,
) -> Vec<Choice> {
    let first = Choice::new("", any, chosen.is_empty());
    let of = |(value, name): (&str, &str)| Choice::new(value, name, value == chosen);
    std::iter::once(first).chain(all.into_iter().map(of)).collect()
}

/// `GET /incidents`
pub async fn page(
    state: web::Data<State>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let asked = query::<Asked>(&request)?;
    let frame = Frame::load(&state, &request, "Alerts", MONTH_S).await?;
    let wanted = asked.wanted();
    let found = incidents::of_stretch(&state.answers, &frame.site, frame.past()).await?;
    let all: Vec<_> = found.iter().filter(|i| wanted.takes(i)).collect();
    let is_narrowed = wanted != Wanted::default();
    let nobody = all.iter().filter(|i| i.acknowledged.is_none()).count();
    let says = match (all.len(), nobody) {
        (0, _) if is_narrowed && !found.is_empty() => {
            format!("None of {} incidents of this stretch is like that.", found.len())
        }
        (0, _) => "No incident lies in this stretch.".to_string(),
        (1, 0) => "One incident lies in this stretch; somebody looked after it.".into(),
        (1, _) => "One incident lies in this stretch; nobody acknowledged it.".into(),
        (n, 0) => format!("{n} incidents lie in this stretch; each was acknowledged."),
        (n, nobody) => {
            format!("{n} incidents lie in this stretch; {nobody} were acknowledged by nobody.")
        }
    };
    let subjects = incidents::subjects(&found);
    let severities = [("critical", "critical"), ("warning", "warning")];
    let stages = [("going-on", "go on"), ("cleared", "cleared, not closed"), ("closed", "closed")];
    let looks = [("yes", "by somebody"), ("no", "by nobody")];
    let acknowledged = wanted.is_acknowledged.map_or("", |is| if is { "yes" } else { "no" });
    let of_subjects = subjects.iter().map(|s| (s.as_str(), s.as_str()));
    html(&Page {
        says,
        severities: choices("any", severities, wanted.severity.map_or("", Severity::word)),
        stages: choices("all", stages, wanted.stage.map_or("", Stage::word)),
        looks: choices("all", looks, acknowledged),
        subjects: choices("anything", of_subjects, wanted.about.as_deref().unwrap_or_default()),
        find: wanted.text.clone(),
        rows: all.iter().map(|i| IncidentRow::of(&frame, i)).collect(),
        frame,
    })
}
