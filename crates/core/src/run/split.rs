//! Where a step's time went: every millisecond of it to one host and phase, or to the browser.
//!
//! We walk back from the step's end. At each moment the page was held up by the request that ended
//! last before it, or was arriving then; the gap between its end and that moment was the browser's own work.
//! The request's phases take their time, and the walk goes on from its beginning. Parts therefore
//! add up to the step exactly, and requests that ran beside the chain cost nothing.

use super::{Outcome, Request, RunRecord, StepRecord};
use serde::Serialize;

/// Only what had begun to arrive can have set off what came next; when a step fails, what it was
/// still waiting for at its end counts too.
fn had_begun_to_arrive(request: &Request, at: f64, step: &StepRecord) -> bool {
    let first_byte_ms = request.end_ms() - request.phases.receive_ms;
    first_byte_ms <= at || (step.outcome == Outcome::Failed && at == step.duration_ms)
}

/// What the time was spent on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Where {
    /// Waiting for a free connection.
    Queueing,
    /// Looking up, connecting, securing, sending.
    Connecting,
    /// Waiting for the server's first byte.
    Waiting,
    /// Receiving bytes.
    Receiving,
    /// No request held the page up: the browser was at work.
    Browser,
}

impl Where {
    /// As people say it.
    pub fn words(self) -> &'static str {
        match self {
            Where::Queueing => "queueing",
            Where::Connecting => "connecting",
            Where::Waiting => "waiting for servers",
            Where::Receiving => "receiving",
            Where::Browser => "browser at work",
        }
    }

    /// The coarse split that is followed over weeks.
    pub fn side(self) -> &'static str {
        match self {
            Where::Waiting => "server",
            Where::Browser => "browser",
            _ => "network",
        }
    }
}

/// Time on one host and kind of work. The browser's own work has no host.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Part {
    /// The host; empty for what is no host's.
    pub host: String,
    /// Which part of the time.
    pub what: Where,
    /// Milliseconds.
    pub ms: f64,
}

/// A step's time, split.
#[derive(Debug, Clone, Default, PartialEq, Serialize)]
pub struct Split {
    /// Its parts; together they are the step's time.
    pub parts: Vec<Part>,
    /// Positions, in the step's list, of the requests that the chain went through, last first.
    pub chain: Vec<usize>,
    /// What each host's requests took together, whether or not the page waited for them: trouble on the way to a host
    /// shows in all of them.
    pub hosts: Vec<HostTime>,
}

/// Milliseconds that the requests to one host took together, without queueing: that depends on the page.
#[derive(Debug, Clone, Default, PartialEq, Serialize)]
pub struct HostTime {
    /// The host.
    pub host: String,
    /// Looking up, connecting, securing, receiving: what is spent on the way.
    pub way_ms: f64,
    /// Waiting for the first byte, on the way as much as at the server.
    pub wait_ms: f64,
}

impl HostTime {
    /// All of it, in milliseconds.
    pub fn total_ms(&self) -> f64 {
        self.way_ms + self.wait_ms
    }
}

impl Split {
    /// The split of a step.
    pub fn of(step: &StepRecord) -> Split {
        let mut split = Split { hosts: host_times(step), ..Split::default() };
        let mut at = step.duration_ms;
        let mut used = vec![false; step.requests.len()];
        while at > 0.0 {
            let held_up_by = step
                .requests
                .iter()
                .enumerate()
                .filter(|(i, r)| {
                    !used[*i]
                        && !r.is_beacon()
                        && r.start_ms < at
                        && had_begun_to_arrive(r, at, step)
                })
                .max_by(|(_, a), (_, b)| {
                    a.end_ms()
                        .min(at)
                        .total_cmp(&b.end_ms().min(at))
                        .then(b.start_ms.total_cmp(&a.start_ms))
                });
            let Some((i, request)) = held_up_by else {
                split.add("", Where::Browser, at);
                break;
            };
            used[i] = true;
            let end = request.end_ms().min(at);
            split.add("", Where::Browser, at - end.max(0.0));
            if end <= 0.0 {
                break;
            }
            split.chain.push(i);
            split.add_request(request, end);
            at = request.start_ms;
        }
        split
    }

    /// The request's phases, as far as they lie between the step's beginning and `end`.
    fn add_request(&mut self, request: &Request, end: f64) {
        let p = &request.phases;
        let mut from = request.start_ms;
        for (what, ms) in [
            (Where::Queueing, p.queue_ms),
            (Where::Connecting, p.connecting_ms() + p.request_ms),
            (Where::Waiting, p.wait_ms),
            (Where::Receiving, p.receive_ms),
        ] {
            let to = from + ms;
            self.add(request.host(), what, to.min(end) - from.max(0.0));
            from = to;
        }
    }

    fn add(&mut self, host: &str, what: Where, ms: f64) {
        if ms <= 0.0 {
            return;
        }
        match self.parts.iter_mut().find(|p| p.host == host && p.what == what) {
            Some(part) => part.ms += ms,
            None => self.parts.push(Part { host: host.to_string(), what, ms }),
        }
    }

    /// Milliseconds of one part of one host.
    pub fn ms(&self, host: &str, what: Where) -> f64 {
        self.parts.iter().find(|p| p.host == host && p.what == what).map_or(0.0, |p| p.ms)
    }

    /// Time of a run in network, server and browser, in milliseconds, over all its steps; `None` when no request is
    /// known.
    pub fn sides(record: &RunRecord) -> Option<[f64; 3]> {
        if record.counted_steps().all(|s| s.requests.is_empty()) {
            return None;
        }
        let mut sides = [0.0; 3];
        for part in record.counted_steps().flat_map(|s| Split::of(s).parts) {
            let side = match part.what.side() {
                "network" => 0,
                "server" => 1,
                _ => 2,
            };
            sides[side] += part.ms;
        }
        Some(sides)
    }

    /// What the requests to this host took together.
    pub fn host_time(&self, host: &str) -> HostTime {
        self.hosts.iter().find(|h| h.host == host).cloned().unwrap_or_default()
    }

    /// Time of one kind of work over all hosts.
    pub fn total(&self, what: Where) -> f64 {
        self.parts.iter().filter(|p| p.what == what).map(|p| p.ms).sum()
    }

    /// Time of the step that went to this host.
    pub fn host(&self, host: &str) -> f64 {
        self.parts.iter().filter(|p| p.host == host).map(|p| p.ms).sum()
    }
}

fn host_times(step: &StepRecord) -> Vec<HostTime> {
    let mut hosts: Vec<HostTime> = Vec::new();
    for request in step.requests.iter().filter(|r| !r.is_beacon()) {
        let nth = hosts.iter().position(|h| h.host == request.host()).unwrap_or_else(|| {
            hosts.push(HostTime { host: request.host().to_string(), ..HostTime::default() });
            hosts.len() - 1
        });
        let phases = &request.phases;
        hosts[nth].way_ms += phases.connecting_ms() + phases.request_ms + phases.receive_ms;
        hosts[nth].wait_ms += phases.wait_ms;
    }
    hosts
}

#[cfg(test)]
pub(super) mod tests {
    use super::*;
    use crate::timing::Phases;
    use proptest::prelude::*;

    pub fn request(
        url: &str,
        start_ms: f64,
        connect_ms: f64,
        wait_ms: f64,
        receive_ms: f64,
    ) -> Request {
        Request {
            url: url.into(),
            method: "GET".into(),
            kind: "script".into(),
            status: 200,
            start_ms,
            phases: Phases { connect_ms, wait_ms, receive_ms, ..Phases::default() },
            bytes: 1,
            protocol: String::new(),
            from_cache: false,
            failed: None,
            trace: None,
            asked: Default::default(),
        }
    }

    pub fn step(duration_ms: f64, requests: Vec<Request>) -> StepRecord {
        StepRecord { duration_ms, requests, ..StepRecord::begun("Search", 0.0, None) }
    }

    #[test]
    fn a_slow_third_party_that_holds_the_page_up_takes_the_blame_and_a_request_beside_it_none() {
        let s = Split::of(&step(
            2600.0,
            vec![
                request("http://site/", 0.0, 20.0, 80.0, 10.0),
                request("http://site/quick.css", 115.0, 0.0, 30.0, 5.0),
                request("http://map/map.js", 120.0, 1930.0, 100.0, 50.0),
            ],
        ));
        assert_eq!(s.ms("map", Where::Connecting), 1930.0);
        assert_eq!(s.ms("site", Where::Waiting), 80.0);
        // 110–120 before the map script was asked for, 2200–2600 after it came.
        assert_eq!(s.total(Where::Browser), 410.0);
        assert_eq!(s.chain, vec![2, 0]);
        let site = s.host_time("site");
        assert_eq!(
            (site.way_ms, site.wait_ms),
            (20.0 + 10.0 + 5.0, 80.0 + 30.0),
            "also of what nobody waited for"
        );
    }

    proptest! {
        #[test]
        fn the_parts_add_up_to_the_step(
            duration in 1.0..9_000.0f64,
            requests in prop::collection::vec((-500.0..9_000.0f64, 0.0..900.0f64, 0.0..900.0f64, 0.0..900.0f64), 0..20),
        ) {
            let requests = requests.into_iter().enumerate().map(|(i, (s, c, w, r))| request(&format!("http://h{}/", i % 3), s, c, w, r)).collect();
            let split = Split::of(&step(duration, requests));
            let sum: f64 = split.parts.iter().map(|p| p.ms).sum();
            prop_assert!((sum - duration).abs() < 1e-6, "{sum} of {duration}");
        }
    }
}
