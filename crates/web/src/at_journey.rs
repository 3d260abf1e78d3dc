//! How a journey does: in sentences, readings and lanes, wherever it is shown.

use crate::error::PageError;
use crate::format::{self, NO_DATA};
use crate::frame::{Frame, tone};
use crate::lineup::{Happened, LineUp, RunLanes};
use crate::view::Figure;
use crate::words::extent_words;
use cadentis_answers::journey::AtJourney;
use cadentis_answers::kept::{Journey, Location};
use cadentis_answers::played::Here;
use cadentis_core::goal::Standing;

/// Its lanes, of the locations that are wanted.
pub fn lanes(
    frame: &Frame,
    j: &Journey,
    at: &AtJourney,
    wanted: impl Fn(&Location) -> bool,
) -> Result<String, PageError> {
    let played = RunLanes {
        here: Here::each(&at.runs, at.locations.iter().filter(|l| wanted(l)).cloned()),
        budget_ms: at.budget_ms,
        every_s: i64::from(j.every_s),
        promised: at.promised,
    };
    let (markers, maintenance) = (&at.markers, &at.maintenance);
    let happened = Happened { markers, maintenance, said: &at.dependencies };
    let (views, spent) = (&at.views, Some(at.spent.as_slice()));
    let by_country = Some(&at.by_country);
    Ok(LineUp::of(frame, &happened, views, by_country, Some(&played), spent)?)
}

/// Its readings over all locations.
pub fn figures(at: &AtJourney) -> Vec<Figure> {
    let promised = at.promised;
    let label =
        promised.map_or("availability".into(), |p| format!("availability · goal {:.2}", p * 100.0));
    let [p75, p95] = [&at.duration[0].reading, &at.duration[1].reading];
    let (available, reached, apdex) = (at.tally.availability(), at.uptime.share(), &at.apdex);
    vec![
        Figure::new(
            format::percent(available, 2, Some(promised.unwrap_or(1.0))),
            label,
            tone(Standing::of_share(available, promised.unwrap_or(0.0))),
        ),
        Figure::new(
            format::percent(reached, 2, Some(1.0)),
            "uptime · reached from somewhere".into(),
            tone(Standing::of_share(reached, 1.0)),
        ),
        Figure::new(
            format::reading_s(p75),
            at.budget_ms.map_or("p75".into(), |b| format!("p75 · budget {:.1}", b / 1000.0)),
            at.budget_ms.map_or("within", |b| tone(Standing::of(p75, b))),
        ),
        Figure::new(format::reading_s(p95), format!("p95 · {}", format::interval_s(p95)), "within"),
        Figure::new(
            apdex.score().map_or(NO_DATA.into(), |s| format!("{s:.2}")),
            format!("Apdex [{:.1}] · {} runs", apdex.t_s, apdex.samples()),
            "within",
        ),
    ]
}

/// What is the matter with it.
pub fn sentences(frame: &Frame, at: &AtJourney) -> Vec<String> {
    let found = at.findings.iter().take(2);
    let mut says: Vec<String> =
        found.map(|f| format!("{} {}", f.says, extent_words(frame, f))).collect();
    if let Some((s, more_ms)) = at.slower_step().filter(|_| frame.against.is_some()) {
        says.push(format!(
            "“{}” is {} s slower at p75 than {}.",
            s.name,
            format::seconds(more_ms),
            frame.against_words.trim_start_matches("against ").trim_end_matches(" (dashed)")
        ));
    }
    if says.is_empty() {
        says.push("Gets through within its budgets from every location.".into());
    }
    says
}
