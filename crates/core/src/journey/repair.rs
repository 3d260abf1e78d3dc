//! A script whose ladders begin with the rung that still holds.

use super::{Expectation, Journey, Ladder, Line, Moment, Says, Sentence, Source};
use serde::{Deserialize, Serialize};

/// A run found an element by a lower rung of its ladder.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct FellBack {
    /// The line of the script, from 1.
    pub line: u32,
    /// The rung that held, from 0 for the best.
    pub rung: u32,
    /// Which element of the line it was, from 0.
    #[serde(default)]
    pub which: u32,
    /// How it was found.
    pub found_by: String,
    /// How it should have been found.
    pub instead_of: String,
}

/// The journey with the rungs that held moved to the top; those above them stay below as lower rungs,
/// so nothing is forgotten if the page changes back.
pub fn repaired(journey: &Journey, fell_back: &[FellBack]) -> Journey {
    let mut journey = journey.clone();
    let parts = journey.parts.iter_mut().flat_map(|p| &mut p.sentences);
    for sentence in journey.steps.iter_mut().flat_map(|s| &mut s.sentences).chain(parts) {
        let Sentence { line: Line(line), says, .. } = sentence;
        for (which, ladder) in ladders(says).into_iter().enumerate() {
            let fell = fell_back.iter().find(|f| f.line == *line && f.which as usize == which);
            if let Some(rung) = fell.map(|f| f.rung as usize).filter(|r| *r < ladder.0.len()) {
                let held = ladder.0.remove(rung);
                ladder.0.insert(0, held);
            }
        }
    }
    journey
}

/// The ladders of a sentence, in the order they are written.
fn ladders(says: &mut Says) -> Vec<&mut Ladder> {
    match says {
        Says::Press(l)
        | Says::Type { into: l, .. }
        | Says::Choose { from: l, .. }
        | Says::Tick { what: l, .. }
        | Says::Hover(l)
        | Says::ScrollTo(l)
        | Says::Upload { into: l, .. }
        | Says::WaitFor(l)
        | Says::WaitGone(l)
        | Says::EnterFrame(l)
        | Says::Mark { when: Moment::Appears(l), .. }
        | Says::Let {
            be: Source::TextOf(l) | Source::ValueOf(l) | Source::AttributeOf { of: l, .. },
            ..
        }
        | Says::Expect(
            Expectation::Text { inside: Some(l), .. }
            | Expectation::Element(l)
            | Expectation::NoElement(l)
            | Expectation::Unchanged { without: Some(l), .. }
            | Expectation::Value { of: l, .. }
            | Expectation::Count { of: l, .. },
        ) => vec![l],
        Says::Drag { what, to } => vec![what, to],
        Says::If { visible, then } => std::iter::once(visible).chain(ladders(then)).collect(),
        _ => Vec::new(),
    }
}
