//! Reports of a saved view: its pieces in their order, each as the report of its kind tells it.

use super::{goals, measured};
use crate::saved_views::offered;
use crate::{Answers, Result};
use cadentis_core::calendar::Stretch;
use cadentis_core::report::{Body, Definition, Document, Kind, Section};
use cadentis_core::saved_view::{Piece, paragraphs};
use cadentis_store::site::Site;

/// What a report of this piece alone would be about; nothing of a text.
fn of_piece(report: &Definition, piece: &Piece) -> Option<Definition> {
    let mut of = Definition {
        kind: Kind::Timings,
        period: report.period,
        goals: Vec::new(),
        journeys: Vec::new(),
        locations: Vec::new(),
        hours: None,
        filter: String::new(),
        query: String::new(),
        view: None,
        schedule: None,
    };
    match piece {
        Piece::Text { .. } => return None,
        Piece::Query { query } => {
            of.kind = Kind::Query;
            of.query = query.clone();
        }
        Piece::Goal { goal } => {
            of.kind = Kind::GoalsFull;
            of.goals = vec![*goal];
        }
        Piece::Journey { journey } => of.journeys = vec![*journey],
        Piece::LineUp { journey, location } => {
            of.journeys = vec![*journey];
            of.locations = location.iter().copied().collect();
        }
    }
    Some(of)
}

pub(super) async fn write(
    answers: &Answers,
    site: &Site,
    (definition, covers): (&Definition, Stretch),
    document: &mut Document,
) -> Result<()> {
    let view = match definition.view {
        Some(id) => answers.db.saved_view(site.id, id).await?,
        None => None,
    };
    let Some(view) = view else {
        document.says = "The view that this report is of was taken away.".into();
        return Ok(());
    };
    document.facts.push(("View".into(), format!("{}, version {}", view.name, view.version)));
    let known = offered(answers, site).await?;
    let mut says = Vec::new();
    for piece in &view.definition.pieces {
        let Some(title) = known.title(piece) else {
            document.also.push("A piece showed what was taken away since.".into());
            continue;
        };
        let Some(of) = of_piece(definition, piece) else {
            if let Piece::Text { text } = piece {
                document.sections.push(Section {
                    title: String::new(),
                    note: String::new(),
                    body: Body::Words(paragraphs(text)),
                });
            }
            continue;
        };
        let mut part = Document::default();
        let about = (&of, covers);
        match of.kind {
            Kind::Query => measured::query(answers, site, about, &mut part).await?,
            Kind::Timings => measured::timings(answers, site, about, &mut part).await?,
            _ => {
                goals::write(answers, site, about, &mut part).await?;
                // What is promised is what a view of it is opened for.
                says.push(part.says.clone());
                document.figures.append(&mut part.figures);
            }
        }
        for section in &mut part.sections {
            section.title = format!("{title}: {}", section.title);
        }
        for working in &mut part.working {
            working.title = format!("{title}: {}", working.title);
        }
        document.sections.append(&mut part.sections);
        document.working.append(&mut part.working);
        document.also.append(&mut part.also);
    }
    document.says = match says.is_empty() {
        true => format!("What “{}” shows, over this time.", view.name),
        false => says.join(" "),
    };
    Ok(())
}
