//! What a query came to, drawn and in words, wherever it is shown.

mod asking;
mod lines;
mod shown;

pub use asking::{Asking, Stands};

pub use lines::HEIGHT;
pub use shown::{Found, found};

use crate::frame::Frame;
use cadentis_core::measure::{Measure, Measured, Rated, Statistic, Subject};
use cadentis_core::query::Query;

/// The address of a query over this stretch.
pub fn link(frame: &Frame, query: &Query) -> String {
    address(frame, &query.to_string())
}

pub fn address(frame: &Frame, text: &str) -> String {
    let text: String = url::form_urlencoded::byte_serialize(text.as_bytes()).collect();
    format!("{}/queries?q={text}&{}", frame.base, frame.query)
}

/// The measure of a query with what narrows it, where an alert can be about it.
fn watched(query: &Query) -> Option<String> {
    let measure = query.measures.first()?.clone();
    let is_watched = !matches!(query.subject(), Subject::Goals | Subject::Dependencies);
    is_watched.then(|| Measured { measure, scope: query.scope.clone() }.to_string())
}

/// The measure of a query with what narrows it, where it is a share that can be promised: of what is as it should be.
fn promised(query: &Query) -> Option<String> {
    let measure = query.measures.first()?.clone();
    let is_good = match &measure {
        Measure::ViewFigure(_, s) | Measure::HappenedTime(_, s) => {
            matches!(s, Statistic::Within(_))
        }
        Measure::ViewsRated(_, rated) => *rated == Rated::Good,
        _ => false,
    };
    is_good.then(|| Measured { measure, scope: query.scope.clone() }.to_string())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_as_it_should_be_can_be_promised_and_what_is_watched_is_no_goal() {
        let of = |text: &str| text.parse::<Query>().unwrap_or_else(|e| panic!("{text}: {e}"));
        for (text, can_be) in [
            ("share of LCP within 2.5 s by device", true),
            ("share of CLS good", true),
            ("share of request time within 800 ms by request", true),
            ("share of INP poor", false),
            ("p75 of LCP, share of CLS good", false),
            ("share abandoned", false),
            ("availability by journey", false),
        ] {
            assert_eq!(promised(&of(text)).is_some(), can_be, "{text}");
            assert!(watched(&of(text)).is_some(), "{text}");
        }
        let narrowed = of("share of CLS good by device for country \"NO\"");
        assert_eq!(promised(&narrowed).as_deref(), Some("share of CLS good for country \"NO\""));
    }
}
