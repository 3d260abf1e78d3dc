//! Where the loading of a page went, from its Navigation Timing entry (W3C, Navigation Timing 2).

use super::phases::{ImpossibleOrder, Moments, Phases, in_order};
use serde::{Deserialize, Serialize};

/// The entry's attributes, by their names in the specification, in milliseconds; 0 means "did not
/// happen (yet)".
#[derive(Debug, Clone, Copy, Default, PartialEq, Deserialize)]
#[serde(rename_all = "camelCase", default)]
#[expect(missing_docs, reason = "named as in scripts, events and standards")]
pub struct Navigation {
    pub start_time: f64,
    pub redirect_start: f64,
    pub redirect_end: f64,
    pub fetch_start: f64,
    pub domain_lookup_start: f64,
    pub domain_lookup_end: f64,
    pub connect_start: f64,
    pub secure_connection_start: f64,
    pub connect_end: f64,
    pub request_start: f64,
    pub response_start: f64,
    pub response_end: f64,
    pub dom_interactive: f64,
    pub dom_content_loaded_event_start: f64,
    pub dom_content_loaded_event_end: f64,
    pub dom_complete: f64,
    pub load_event_start: f64,
    pub load_event_end: f64,
}

/// The parts of a load, which add up to it.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize)]
pub struct Load {
    /// Redirects that led here.
    pub redirect_ms: f64,
    /// The document's own request.
    pub request: Phases,
    /// From the last byte until the parser was done.
    pub parsing_ms: f64,
    /// Deferred scripts and the handlers of DOMContentLoaded.
    pub deferred_ms: f64,
    /// Waiting for pictures, styles and other parts.
    pub parts_ms: f64,
    /// Handlers of the load event.
    pub handlers_ms: f64,
}

impl Load {
    /// All of it, in milliseconds.
    pub fn total_ms(&self) -> f64 {
        self.redirect_ms
            + self.request.total_ms()
            + self.parsing_ms
            + self.deferred_ms
            + self.parts_ms
            + self.handlers_ms
    }
}

impl From<&Navigation> for Moments {
    fn from(n: &Navigation) -> Moments {
        Moments {
            // After redirects, the document's own request begins where they end.
            start: if n.redirect_end > 0.0 { n.redirect_end } else { n.start_time },
            fetch_start: n.fetch_start,
            lookup_start: n.domain_lookup_start,
            lookup_end: n.domain_lookup_end,
            connect_start: n.connect_start,
            secure_start: n.secure_connection_start,
            connect_end: n.connect_end,
            request_start: n.request_start,
            response_start: n.response_start,
            response_end: n.response_end,
        }
    }
}

impl Navigation {
    /// Where the load went.
    ///
    /// # Errors
    /// When two moments that both happened stand in an impossible order. Nothing is clamped.
    pub fn load(&self) -> Result<Load, ImpossibleOrder> {
        in_order(&[
            ("startTime", self.start_time),
            ("redirectStart", self.redirect_start),
            ("redirectEnd", self.redirect_end),
            ("fetchStart", self.fetch_start),
            ("responseEnd", self.response_end),
            ("domInteractive", self.dom_interactive),
            ("domContentLoadedEventStart", self.dom_content_loaded_event_start),
            ("domContentLoadedEventEnd", self.dom_content_loaded_event_end),
            ("domComplete", self.dom_complete),
            ("loadEventStart", self.load_event_start),
            ("loadEventEnd", self.load_event_end),
        ])?;
        let request = Phases::from_moments(&Moments::from(self))?;
        let between =
            |from: f64, to: f64| if from > 0.0 && to > 0.0 { (to - from).max(0.0) } else { 0.0 };
        Ok(Load {
            redirect_ms: if self.redirect_end > 0.0 {
                self.redirect_end - self.start_time
            } else {
                0.0
            },
            request,
            parsing_ms: between(self.response_end, self.dom_interactive),
            deferred_ms: between(self.dom_interactive, self.dom_content_loaded_event_end),
            parts_ms: between(self.dom_content_loaded_event_end, self.load_event_start),
            handlers_ms: between(self.load_event_start, self.load_event_end),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// In the form that a browser reports it, with made-up numbers; real ones are in the browser tests.
    const ENTRY: &str = r#"{"name": "http://fjordline.example/", "entryType": "navigation", "startTime": 0, "duration": 612.4,
        "redirectStart": 0, "redirectEnd": 0, "fetchStart": 3.5, "domainLookupStart": 12.1, "domainLookupEnd": 12.1,
        "connectStart": 12.1, "secureConnectionStart": 0, "connectEnd": 60.3, "requestStart": 60.5, "responseStart": 180.2,
        "responseEnd": 184.9, "domInteractive": 240.0, "domContentLoadedEventStart": 320.4, "domContentLoadedEventEnd": 321.0,
        "domComplete": 611.8, "loadEventStart": 611.9, "loadEventEnd": 612.4, "type": "navigate"}"#;

    #[test]
    fn the_parts_of_a_load_add_up_to_it() {
        let n: Navigation = serde_json::from_str(ENTRY).unwrap();
        let load = n.load().unwrap();
        assert!((load.total_ms() - 612.4).abs() < 1e-9, "{load:?}");
        assert!((load.request.wait_ms - 119.7).abs() < 1e-9);
        assert!((load.parts_ms - 290.9).abs() < 1e-9);
    }

    #[test]
    fn a_load_that_ended_before_it_was_interactive_is_reported() {
        let mut n: Navigation = serde_json::from_str(ENTRY).unwrap();
        n.load_event_start = 100.0;
        let says = n.load().unwrap_err().to_string();
        assert_eq!(says, "loadEventStart (100.0 ms) lies before domComplete (611.8 ms)");
    }

    #[test]
    fn redirects_and_what_has_not_happened_yet_are_told_apart() {
        let n = Navigation {
            redirect_start: 0.5,
            redirect_end: 80.0,
            fetch_start: 80.0,
            request_start: 90.0,
            response_start: 120.0,
            response_end: 130.0,
            ..Navigation::default()
        };
        let load = n.load().unwrap();
        assert_eq!((load.redirect_ms, load.request.queue_ms, load.parsing_ms), (80.0, 10.0, 0.0));
        assert_eq!(load.total_ms(), 130.0);
    }
}
