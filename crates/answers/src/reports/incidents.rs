//! Reports of incidents: what opened, how long it took to be acknowledged and to clear.

use crate::{Answers, Result};
use cadentis_core::alert::Severity;
use cadentis_core::calendar::Stretch;
use cadentis_core::calendar::stretch::{day_clock, length_text};
use cadentis_core::report::{Cell, Document, Figure, Section, Table, Tone, Working};
use cadentis_core::stats::{Method, Samples};
use cadentis_store::incident::Incident;
use cadentis_store::site::Site;

/// So many are told; a report of more says so.
const MOST: usize = 500;

fn middle(of: impl Iterator<Item = f64>) -> (Option<f64>, usize) {
    let all: Vec<f64> = of.collect();
    let many = all.len();
    (Samples::new(all).percentile(0.5, Method::NearestRank), many)
}

pub(super) async fn write(
    answers: &Answers,
    site: &Site,
    covers: Stretch,
    document: &mut Document,
) -> Result<()> {
    let mut all = answers.db.incidents(site.id, covers).await?;
    all.retain(|i| !i.is_rehearsal && covers.contains(i.opened_at));
    all.sort_by_key(|i| (i.opened_at, i.id));
    let beyond = all.len().saturating_sub(MOST);
    let to_acknowledge = |i: &Incident| {
        i.acknowledged.as_ref().map(|(at, _)| Stretch { from: i.opened_at, to: *at }.ms())
    };
    let to_clear = |i: &Incident| i.cleared_at.map(|at| Stretch { from: i.since, to: at }.ms());
    let (acknowledged, many) = middle(all.iter().filter_map(to_acknowledge));
    let (cleared, over) = middle(all.iter().filter_map(to_clear));
    let critical = all.iter().filter(|i| i.severity == Severity::Critical).count();
    document.says = match all.len() {
        0 => "No incident opened.".into(),
        n => {
            let longest = all.iter().filter(|i| to_clear(i).is_some());
            let longest = longest.max_by(|a, b| {
                to_clear(a).partial_cmp(&to_clear(b)).unwrap_or(std::cmp::Ordering::Equal)
            });
            let longest = longest.map_or(String::new(), |i| {
                format!(
                    " The longest was {} from {}: {}.",
                    length_text(to_clear(i).unwrap_or(0.0)),
                    day_clock(i.since, &site.zone),
                    i.title
                )
            });
            let one = if n == 1 { "incident" } else { "incidents" };
            format!("{n} {one} opened, {critical} of them critical.{longest}")
        }
    };
    if beyond > 0 {
        document.also.push(format!("{beyond} more are not told one by one."));
    }
    let open = all.iter().filter(|i| i.cleared_at.is_none()).count();
    let time = |ms: Option<f64>| ms.map_or("–".into(), length_text);
    let figure = |text: String, label: String, value: Option<f64>| Figure {
        text,
        label,
        value,
        tone: Tone::Plain,
    };
    document.figures = vec![
        figure(all.len().to_string(), "incidents opened".into(), Some(all.len() as f64)),
        figure(critical.to_string(), "of them critical".into(), Some(critical as f64)),
        figure(time(acknowledged), format!("to acknowledge, median of {many}"), acknowledged),
        figure(time(cleared), format!("to clear, median of {over}"), cleared),
    ];
    if open > 0 {
        document.also.push(format!("{open} had not cleared when this was written."));
    }
    let mut table =
        Table::of(&["Incident", "what", "worst", "opened", "#acknowledged after", "by", "#lasted"]);
    for i in all.iter().take(MOST) {
        let worst = match i.severity {
            Severity::Critical => Cell::text("critical").standing(Tone::Broken),
            Severity::Warning => Cell::text("warning").standing(Tone::Strained),
        };
        let by = i.acknowledged.as_ref().map_or(String::new(), |(_, by)| by.clone());
        let lasted = to_clear(i);
        table.row(vec![
            Cell::text(i.id.to_string()),
            Cell::text(&i.title),
            worst,
            Cell::text(day_clock(i.opened_at, &site.zone)),
            Cell::number(time(to_acknowledge(i)), to_acknowledge(i)),
            Cell::text(by),
            Cell::number(lasted.map_or("open".into(), length_text), lasted),
        ]);
    }
    document.sections.push(Section::table("Incidents", table));
    document.working.push(Working {
        title: "Times".into(),
        lines: vec![
            "To acknowledge: from the evaluation that opened it until somebody said that they look after it.".into(),
            "To clear, and how long it lasted: from the first evaluation beyond a level until all of its alerts had cleared.".into(),
            "Medians by nearest rank, over those that were acknowledged and those that cleared.".into(),
            "Rehearsals are left out.".into(),
        ],
    });
    Ok(())
}
