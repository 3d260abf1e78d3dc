//! What a query came to, drawn and in words, wherever it is shown.

mod asking;
mod lines;
mod shown;

pub use asking::{Asking, Stands};

pub use lines::HEIGHT;
pub use shown::{Found, found};

use crate::frame::Frame;
use cadentis_answers::queries;
use cadentis_core::measure::{Measure, Rated, Statistic, Subject};
use cadentis_core::query::Query;

/// The address of a query over this stretch.
pub fn link(frame: &Frame, query: &Query) -> String {
    address(frame, &query.to_string())
}

pub fn address(frame: &Frame, text: &str) -> String {
    let text: String = url::form_urlencoded::byte_serialize(text.as_bytes()).collect();
    format!("{}/queries?q={text}&{}", frame.base, frame.query)
}

/// Where it is told what samples of a query have more of than others, where there are any and whoever looks may ask.
pub fn opened(frame: &Frame, query: &Query) -> Option<String> {
    let may = frame.who.shared.is_none() && queries::has_others(query);
    may.then(|| link(frame, query).replacen('?', "/apart?", 1))
}

/// The measure of a query with what narrows it, where an alert can be about it.
fn watched(query: &Query) -> Option<String> {
    let is_watched = !matches!(query.subject(), Subject::Goals | Subject::Dependencies);
    is_watched.then(|| query.first().to_string())
}

/// The measure of a query with what narrows it, where it is a share that can be promised: of what is as it should be.
fn promised(query: &Query) -> Option<String> {
    let of = query.first();
    let is_good = match &of.measure {
        Measure::ViewFigure(_, s) | Measure::HappenedTime(_, s) => {
            matches!(s, Statistic::Within(_))
        }
        Measure::ViewsRated(_, rated) => *rated == Rated::Good,
        _ => false,
    };
    is_good.then(|| of.to_string())
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
