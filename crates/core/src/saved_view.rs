//! Saved views: pieces that somebody put in an order, all over the same time.

use crate::measure::Key;
use crate::query::Query;
use serde::{Deserialize, Serialize};
use std::fmt;

/// One piece of a saved view.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum Piece {
    /// What somebody wrote.
    Text {
        /// Its paragraphs, an empty line between two.
        text: String,
    },
    /// What a query comes to.
    Query {
        /// As it is written.
        query: String,
    },
    /// How a goal stands.
    Goal {
        /// Its id.
        goal: i32,
    },
    /// How a journey does: a sentence and its readings.
    Journey {
        /// Its id.
        journey: i32,
    },
    /// The lanes of a journey.
    LineUp {
        /// Its id.
        journey: i32,
        /// Of this location alone; all of them without.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        location: Option<i32>,
    },
}

/// A view has so many pieces at most.
pub const MOST_PIECES: usize = 30;
/// A text has so many characters at most, a query as many as one may have.
pub const LONGEST_TEXT: usize = 2_000;

/// The times that a view can be over when no other is asked for, in seconds, as they are called.
pub const SPANS: [(i64, &str); 6] = [
    (3_600, "the last hour"),
    (6 * 3_600, "the last 6 hours"),
    (12 * 3_600, "the last 12 hours"),
    (86_400, "the last 24 hours"),
    (7 * 86_400, "the last 7 days"),
    (28 * 86_400, "the last 28 days"),
];

/// What a saved view is made of.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SavedView {
    /// The time up to now that it is over when no other is asked for, one of [`SPANS`].
    pub span_s: i64,
    /// Its pieces, in their order.
    pub pieces: Vec<Piece>,
}

impl SavedView {
    /// The same with another name for something that its queries are narrowed to; `None` where none of them names it.
    pub fn renamed(&self, key: &Key, was: &str, is: &str) -> Option<SavedView> {
        let mut pieces = self.pieces.clone();
        for piece in &mut pieces {
            if let Piece::Query { query } = piece
                && let Some(renamed) =
                    query.parse::<Query>().ok().and_then(|q| q.renamed(key, was, is))
            {
                *query = renamed.to_string();
            }
        }
        (pieces != self.pieces).then_some(SavedView { pieces, ..self.clone() })
    }
}

/// Why a view cannot be as it is wanted.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Wrong {
    /// It has no piece.
    Empty,
    /// It has more than [`MOST_PIECES`].
    TooMany,
    /// It is over none of [`SPANS`].
    Span,
    /// A piece, counted from 0, and what is wrong with it.
    Piece(usize, String),
}

impl fmt::Display for Wrong {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Wrong::Empty => write!(f, "a view has at least one piece: add what it shows"),
            Wrong::TooMany => write!(f, "a view has at most {MOST_PIECES} pieces"),
            Wrong::Span => write!(f, "choose one of the times that are offered"),
            Wrong::Piece(nth, why) => write!(f, "piece {}: {why}", nth + 1),
        }
    }
}

impl SavedView {
    /// Says what is wrong with it, the first thing first.
    ///
    /// # Errors
    /// What is wrong, where something is.
    pub fn check(&self) -> Result<(), Wrong> {
        if !SPANS.iter().any(|(s, _)| *s == self.span_s) {
            return Err(Wrong::Span);
        }
        if self.pieces.is_empty() {
            return Err(Wrong::Empty);
        }
        if self.pieces.len() > MOST_PIECES {
            return Err(Wrong::TooMany);
        }
        for (nth, piece) in self.pieces.iter().enumerate() {
            match piece {
                Piece::Text { text } if text.trim().is_empty() => {
                    return Err(Wrong::Piece(nth, "a text says something".into()));
                }
                Piece::Text { text } if text.chars().count() > LONGEST_TEXT => {
                    let why = format!("a text has at most {LONGEST_TEXT} characters");
                    return Err(Wrong::Piece(nth, why));
                }
                Piece::Query { query } => {
                    let read = query.parse::<crate::query::Query>();
                    read.map_err(|e| Wrong::Piece(nth, e.to_string()))?;
                }
                _ => {}
            }
        }
        Ok(())
    }

    /// How the time is called that it is over when no other is asked for.
    pub fn span_words(&self) -> &'static str {
        SPANS.iter().find(|(s, _)| *s == self.span_s).map_or("", |(_, words)| words)
    }

    /// The same with every query as it is printed, however it was typed, and texts without space around them.
    #[must_use]
    pub fn printed(mut self) -> SavedView {
        for piece in &mut self.pieces {
            match piece {
                Piece::Query { query } => {
                    if let Ok(read) = query.parse::<crate::query::Query>() {
                        *query = read.to_string();
                    }
                }
                Piece::Text { text } => *text = text.trim().to_string(),
                _ => {}
            }
        }
        self
    }
}

/// The paragraphs of a text: an empty line begins the next, however lines end.
pub fn paragraphs(text: &str) -> Vec<String> {
    let lines = text.replace('\r', "");
    lines.split("\n\n").map(|p| p.trim().to_string()).filter(|p| !p.is_empty()).collect()
}

/// Moves a piece to where another one stands; those between move up. What is beyond the ends changes nothing.
pub fn moved<T>(mut pieces: Vec<T>, from: usize, to: usize) -> Vec<T> {
    if from < pieces.len() && to < pieces.len() {
        let piece = pieces.remove(from);
        pieces.insert(to, piece);
    }
    pieces
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn of(pieces: Vec<Piece>) -> SavedView {
        SavedView { span_s: 43_200, pieces }
    }

    fn query(text: &str) -> Piece {
        Piece::Query { query: text.into() }
    }

    #[test]
    fn what_is_wrong_with_a_view_names_the_piece() {
        let says = |view: SavedView| view.check().map_err(|w| w.to_string());
        assert_eq!(says(of(vec![Piece::Goal { goal: 3 }, query("p75 of LCP by family")])), Ok(()));
        let wrong = |view: SavedView| says(view).unwrap_err();
        assert!(wrong(of(vec![])).contains("at least one piece"));
        assert!(wrong(of(vec![Piece::Goal { goal: 1 }; MOST_PIECES + 1])).contains("at most 30"));
        let text = |text: String| Piece::Text { text };
        assert!(
            wrong(of(vec![query("count of page views"), text(" \n ".into())]))
                .starts_with("piece 2: a text says")
        );
        assert!(wrong(of(vec![text("é".repeat(LONGEST_TEXT + 1))])).contains("2000 characters"));
        assert!(wrong(of(vec![query("p75 of LPC by family")])).starts_with("piece 1: "));
        assert!(
            wrong(SavedView { span_s: 5, ..of(vec![query("count of page views")]) })
                .contains("times")
        );
    }

    #[test]
    fn a_view_is_kept_as_it_is_printed() {
        let typed = of(vec![
            query("  count of page views   by   device "),
            Piece::Text { text: " a\n\nb ".into() },
        ]);
        let printed = typed.printed();
        assert_eq!(printed.pieces[0], query("count of page views by device"));
        assert_eq!(printed.pieces[1], Piece::Text { text: "a\n\nb".into() });
        let lanes = Piece::LineUp { journey: 2, location: Some(4) };
        let kept = serde_json::to_string(&of(vec![lanes.clone()])).unwrap();
        assert!(kept.contains(r#"{"kind":"line_up","journey":2,"location":4}"#), "{kept}");
        assert_eq!(serde_json::from_str::<SavedView>(&kept).unwrap().pieces, [lanes]);
    }

    #[test]
    fn an_empty_line_begins_a_paragraph_however_lines_end() {
        assert_eq!(paragraphs("a\r\nb\r\n\r\n\r\nc\n\n"), ["a\nb", "c"]);
        assert!(paragraphs(" \n\n ").is_empty());
    }

    proptest! {
        #[test]
        fn moving_a_piece_loses_none_and_keeps_the_order_of_all_others(
            many in 1_usize..12, from in 0_usize..14, to in 0_usize..14
        ) {
            let before: Vec<usize> = (0..many).collect();
            let after = moved(before.clone(), from, to);
            let others = |all: &[usize]| all.iter().copied().filter(|n| *n != from).collect::<Vec<_>>();
            prop_assert_eq!(others(&before), others(&after));
            prop_assert_eq!(after.len(), many);
            if from < many && to < many {
                prop_assert_eq!(after[to], from);
            } else {
                prop_assert_eq!(after, before);
            }
        }
    }
}
