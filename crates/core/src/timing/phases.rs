//! The phases of one request, as Resource Timing (W3C) orders them:
//! queue → DNS → connect (TLS inside it) → request → waiting → receiving.

use serde::{Deserialize, Serialize};

/// How long each phase took, in milliseconds. A phase that did not happen is 0: a reused
/// connection has no DNS, connect or TLS. `connect` does not contain `tls`.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize)]
pub struct Phases {
    /// Waiting to be sent.
    #[serde(rename = "q")]
    pub queue_ms: f64,
    /// Looking up the name.
    #[serde(rename = "l")]
    pub dns_ms: f64,
    /// Connecting.
    #[serde(rename = "c")]
    pub connect_ms: f64,
    /// Agreeing on keys.
    #[serde(rename = "t")]
    pub tls_ms: f64,
    /// Sending.
    #[serde(rename = "s")]
    pub request_ms: f64,
    /// Waiting for the first byte.
    #[serde(rename = "w")]
    pub wait_ms: f64,
    /// Receiving.
    #[serde(rename = "r")]
    pub receive_ms: f64,
}

/// The moments a browser reports for one request, in milliseconds on one clock; 0 or less means
/// "did not happen", as in the specification.
#[derive(Debug, Clone, Copy, Default, PartialEq, Deserialize)]
#[expect(missing_docs, reason = "named as in scripts, events and standards")]
pub struct Moments {
    pub start: f64,
    pub fetch_start: f64,
    pub lookup_start: f64,
    pub lookup_end: f64,
    pub connect_start: f64,
    pub secure_start: f64,
    pub connect_end: f64,
    pub request_start: f64,
    pub response_start: f64,
    pub response_end: f64,
}

/// Two moments in an order that cannot have happened.
#[derive(Debug, thiserror::Error, PartialEq)]
#[error("{later} ({later_ms:.1} ms) lies before {earlier} ({earlier_ms:.1} ms)")]
#[expect(missing_docs, reason = "named as in scripts, events and standards")]
pub struct ImpossibleOrder {
    pub earlier: &'static str,
    pub earlier_ms: f64,
    pub later: &'static str,
    pub later_ms: f64,
}

/// Clocks of browser processes are compared to a hundredth of a millisecond.
const CLOCK_STEP_MS: f64 = 0.01;

/// Whether moments that happened (above 0) stand in the order given; the first always happened.
pub(super) fn in_order(moments: &[(&'static str, f64)]) -> Result<(), ImpossibleOrder> {
    let Some((mut last, rest)) = moments.split_first().map(|(first, rest)| (*first, rest)) else {
        return Ok(());
    };
    for (name, at) in rest.iter().filter(|(_, at)| *at > 0.0) {
        if at + CLOCK_STEP_MS < last.1 {
            return Err(ImpossibleOrder {
                earlier: last.0,
                earlier_ms: last.1,
                later: name,
                later_ms: *at,
            });
        }
        last = (name, *at);
    }
    Ok(())
}

impl Phases {
    /// All of them, in milliseconds.
    pub fn total_ms(&self) -> f64 {
        self.queue_ms
            + self.dns_ms
            + self.connect_ms
            + self.tls_ms
            + self.request_ms
            + self.wait_ms
            + self.receive_ms
    }

    /// Adds another request's phases, phase by phase.
    pub fn add(&mut self, other: &Phases) {
        self.queue_ms += other.queue_ms;
        self.dns_ms += other.dns_ms;
        self.connect_ms += other.connect_ms;
        self.tls_ms += other.tls_ms;
        self.request_ms += other.request_ms;
        self.wait_ms += other.wait_ms;
        self.receive_ms += other.receive_ms;
    }

    /// Time spent to get a connection.
    pub fn connecting_ms(&self) -> f64 {
        self.dns_ms + self.connect_ms + self.tls_ms
    }

    /// Phases from the moments of Resource Timing.
    ///
    /// # Errors
    /// When two moments that both happened stand in an impossible order. Nothing is clamped.
    pub fn from_moments(m: &Moments) -> Result<Phases, ImpossibleOrder> {
        in_order(&[
            ("start", m.start),
            ("fetchStart", m.fetch_start),
            ("domainLookupStart", m.lookup_start),
            ("domainLookupEnd", m.lookup_end),
            ("connectStart", m.connect_start),
            ("secureConnectionStart", m.secure_start),
            ("connectEnd", m.connect_end),
            ("requestStart", m.request_start),
            ("responseStart", m.response_start),
            ("responseEnd", m.response_end),
        ])?;
        let between = |from: f64, to: f64| {
            if from > 0.0 && to > 0.0 { (to - from).max(0.0) } else { 0.0 }
        };
        let tls_ms = between(m.secure_start, m.connect_end);
        let before_request = [m.connect_end, m.lookup_end, m.fetch_start, m.start]
            .into_iter()
            .find(|at| *at > 0.0)
            .unwrap_or(0.0);
        let first_work = [m.lookup_start, m.connect_start, m.request_start, m.response_start]
            .into_iter()
            .find(|at| *at > 0.0)
            .unwrap_or(m.start);
        Ok(Phases {
            queue_ms: (first_work - m.start).max(0.0),
            dns_ms: between(m.lookup_start, m.lookup_end),
            connect_ms: (between(m.connect_start, m.connect_end) - tls_ms).max(0.0),
            tls_ms,
            // With a connection of its own, the time between its readiness and the request counts
            // as sending; without one it is queueing and counted there.
            request_ms: if m.connect_end > 0.0 {
                between(before_request, m.request_start)
            } else {
                0.0
            },
            wait_ms: between(m.request_start, m.response_start),
            receive_ms: between(m.response_start, m.response_end),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_fresh_secure_connection_splits_into_all_its_phases() {
        // Order of the attributes: Resource Timing 2, section 4 (from memory).
        let m = Moments {
            start: 10.0,
            fetch_start: 10.0,
            lookup_start: 12.0,
            lookup_end: 20.0,
            connect_start: 20.0,
            secure_start: 50.0,
            connect_end: 90.0,
            request_start: 91.0,
            response_start: 150.0,
            response_end: 170.0,
        };
        let p = Phases::from_moments(&m).unwrap();
        assert_eq!(
            (p.queue_ms, p.dns_ms, p.connect_ms, p.tls_ms, p.request_ms, p.wait_ms, p.receive_ms),
            (2.0, 8.0, 30.0, 40.0, 1.0, 59.0, 20.0)
        );
        assert_eq!(p.total_ms(), 160.0);
    }

    #[test]
    fn an_answer_before_its_question_is_reported_with_both_moments() {
        let m = Moments {
            start: 0.0,
            request_start: 50.0,
            response_start: 40.0,
            response_end: 60.0,
            ..Moments::default()
        };
        let e = Phases::from_moments(&m).unwrap_err();
        assert_eq!(e.to_string(), "responseStart (40.0 ms) lies before requestStart (50.0 ms)");
    }

    proptest! {
        #[test]
        fn phases_add_up_to_the_whole_request(steps in prop::collection::vec(0.0..500.0f64, 9), reused: bool) {
            let mut at = 1.0;
            let mut next = |i: usize| { at += steps[i]; at };
            let mut m = Moments { start: 1.0, fetch_start: next(0), ..Moments::default() };
            if !reused {
                m.lookup_start = next(1);
                m.lookup_end = next(2);
                m.connect_start = m.lookup_end;
                m.secure_start = next(3);
                m.connect_end = next(4);
            }
            m.request_start = next(5);
            m.response_start = next(6);
            m.response_end = next(7);
            let p = Phases::from_moments(&m).unwrap();
            prop_assert!((p.total_ms() - (m.response_end - m.start)).abs() < 1e-6);
        }
    }
}
