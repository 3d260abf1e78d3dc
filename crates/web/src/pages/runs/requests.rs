//! The requests of a step: as a waterfall beside those of usual runs, by host, as a table; narrowed and put in
//! order as the address says.

use crate::format;
use crate::view::{Choice, Mark};
use cadentis_answers::kept::Site;
use cadentis_core::run::bars::{Usual, same};
use cadentis_core::run::cause;
use cadentis_core::run::har::hosts;
use cadentis_core::run::{Request, ServerTiming, Split, StepRecord};
use cadentis_core::timing::Phases;
use serde::Deserialize;
use std::collections::HashMap;

/// What is shown of requests.
#[derive(Default)]
pub struct Requests {
    pub hosts: Vec<HostRow>,
    pub kinds: Vec<Choice>,
    /// How many there are before they are narrowed.
    pub all: usize,
    pub legend: Vec<Phase>,
    pub waterfall_height: f64,
    pub ticks: Vec<Mark>,
    pub rows: Vec<Row>,
    pub busy: Vec<Part>,
    pub moments: Vec<Mark>,
    pub table: Vec<Line>,
    pub narrow: Narrow,
}

/// A phase of a request in the legend.
pub struct Phase {
    pub class: &'static str,
    pub says: &'static str,
}

/// A piece of the axis.
pub struct Part {
    pub x: f64,
    pub w: f64,
}

/// A phase of a request on the axis.
pub struct Bar {
    pub class: &'static str,
    pub x: f64,
    pub w: f64,
    pub y: f64,
    pub height: f64,
}

/// The trace of a request: where the back end shows it, if it does, and the beginning of its id.
pub struct Trace {
    pub link: Option<String>,
    pub begins: String,
}

pub struct HostRow {
    pub name: String,
    pub party: &'static str,
    pub requests: u64,
    pub failed: u64,
    pub bytes: String,
    /// All phases of all its requests; they may have run beside each other.
    pub took: String,
    /// Of the step's own time, what was spent waiting for this host.
    pub on_the_way: String,
    pub connecting: String,
}

pub struct Line {
    pub url: String,
    pub cells: Vec<String>,
    pub numbers: Vec<String>,
    pub server: String,
    pub trace: Option<Trace>,
    pub failed: bool,
}

/// What the address narrows requests by, and what it puts them in order by.
#[derive(Debug, Clone, Default, PartialEq, Deserialize)]
#[serde(default)]
pub struct Narrow {
    /// Part of the address.
    pub find: String,
    pub kind: String,
    /// `first` or `third`.
    pub party: String,
    pub sort: String,
}

impl Narrow {
    /// The orders there are: in the address and in words.
    pub const ORDERS: [(&'static str, &'static str); 5] = [
        ("", "when they began"),
        ("took", "the longest first"),
        ("size", "the largest first"),
        ("wait", "the longest wait first"),
        ("host", "by host"),
    ];

    /// The requests to show, each with its place in the step.
    fn shown<'a>(
        &self,
        all: &'a [Request],
        owns: &dyn Fn(&str) -> bool,
    ) -> Vec<(usize, &'a Request)> {
        let wanted = |r: &Request| {
            (self.find.is_empty() || r.url.contains(self.find.trim()))
                && (self.kind.is_empty()
                    || r.kind == self.kind
                    || (self.kind == "failed" && r.is_failed()))
                && (self.party.is_empty() || (self.party == "first") == owns(r.host()))
        };
        let mut shown: Vec<(usize, &Request)> =
            all.iter().enumerate().filter(|(_, r)| wanted(r)).collect();
        match self.sort.as_str() {
            "took" => shown.sort_by(|a, b| b.1.phases.total_ms().total_cmp(&a.1.phases.total_ms())),
            "size" => shown.sort_by_key(|(_, r)| std::cmp::Reverse(r.bytes)),
            "wait" => shown.sort_by(|a, b| b.1.phases.wait_ms.total_cmp(&a.1.phases.wait_ms)),
            "host" => shown.sort_by(|a, b| a.1.host().cmp(b.1.host())),
            _ => {}
        }
        shown
    }
}

pub struct Row {
    pub y: f64,
    pub path: String,
    pub host: String,
    pub status: String,
    pub size: String,
    pub took: String,
    pub end: f64,
    pub title: String,
    pub failed: bool,
    pub critical: bool,
    pub blocking: bool,
    pub ghost: Option<Part>,
    pub bars: Vec<Bar>,
}

const PLOT_LEFT: f64 = 510.0;
/// Leaves room for a length and the usual one behind the last bar.
const PLOT_WIDTH: f64 = 600.0;
const ROW: f64 = 21.0;

const PHASES: [(&str, &str); 7] = [
    ("queueing", "queue"),
    ("dns", "DNS"),
    ("connect", "connect"),
    ("tls", "TLS"),
    ("sending", "request"),
    ("waiting", "waiting"),
    ("receiving", "receiving"),
];

fn phases(p: &Phases) -> [f64; 7] {
    [p.queue_ms, p.dns_ms, p.connect_ms, p.tls_ms, p.request_ms, p.wait_ms, p.receive_ms]
}

/// A parameter that a form has to carry on.
pub struct Carried {
    pub name: String,
    pub value: String,
}

/// Which hosts are the first party, and where traces of theirs are looked at.
pub struct Whose<'a> {
    pub owns: &'a dyn Fn(&str) -> bool,
    pub site: &'a Site,
}

impl Requests {
    /// The orders there are, in the address and in words.
    pub fn orders(&self) -> Vec<Choice> {
        let order = |(value, name)| Choice::new(value, name, self.narrow.sort == value);
        Narrow::ORDERS.into_iter().map(order).collect()
    }

    /// The requests of a step, beside those of usual runs; `narrow` chooses which are shown, and in what order.
    pub fn of(
        step: &StepRecord,
        split: &Split,
        usual: &HashMap<String, Usual>,
        whose: &Whose<'_>,
        narrow: &Narrow,
    ) -> Requests {
        let ends = step.requests.iter().map(Request::end_ms);
        let scale = Scale { end_ms: ends.fold(step.duration_ms, f64::max).max(1.0) };
        let mut kinds: Vec<String> = step.requests.iter().map(|r| r.kind.clone()).collect();
        kinds.sort_unstable();
        kinds.dedup();
        let shown: Vec<(usize, &Request)> = narrow.shown(&step.requests, whose.owns);
        let row = |(nth, (i, r)): (usize, &(usize, &Request))| {
            let usual = usual.get(&same(r));
            let y = 18.0 + nth as f64 * ROW;
            Row { critical: split.chain.contains(i), ..row(r, usual, &scale, y) }
        };
        Requests {
            hosts: host_rows(step, split, whose),
            kinds: kinds.into_iter().map(|k| Choice::of(&k, k == narrow.kind)).collect(),
            all: step.requests.len(),
            legend: PHASES.iter().map(|(class, says)| Phase { class, says }).collect(),
            waterfall_height: 18.0 + shown.len() as f64 * ROW + 46.0,
            ticks: scale.ticks(),
            rows: shown.iter().enumerate().map(row).collect(),
            busy: step.busy.iter().map(|(at, ms)| scale.part(*at, *ms, 1.0)).collect(),
            moments: moments(step, &scale),
            table: shown.iter().map(|(_, r)| line(r, whose.site)).collect(),
            narrow: narrow.clone(),
        }
    }
}

/// The axis of a waterfall: from the beginning of the step to the end of its last request.
struct Scale {
    end_ms: f64,
}

impl Scale {
    fn x(&self, ms: f64) -> f64 {
        PLOT_LEFT + PLOT_WIDTH * (ms / self.end_ms).clamp(0.0, 1.0)
    }

    /// So many milliseconds from a moment on, at least so wide.
    fn part(&self, at: f64, ms: f64, least: f64) -> Part {
        Part { x: self.x(at), w: (self.x(at + ms) - self.x(at)).max(least) }
    }

    fn ticks(&self) -> Vec<Mark> {
        let tick_ms = crate::draw::round_up(self.end_ms / 7.0);
        (0..)
            .map(|i| f64::from(i) * tick_ms)
            .take_while(|t| *t <= self.end_ms)
            .map(|t| Mark::new(self.x(t), format!("{:.2} s", t / 1000.0)))
            .collect()
    }
}

fn host_rows(step: &StepRecord, split: &Split, whose: &Whose<'_>) -> Vec<HostRow> {
    let owner = |host: &str| if (whose.owns)(host) { "first" } else { "third" };
    hosts(step.requests.iter())
        .into_iter()
        .map(|h| HostRow {
            party: owner(&h.name),
            on_the_way: format::seconds(split.host(&h.name)),
            requests: h.requests,
            failed: h.failed,
            bytes: size(h.bytes),
            took: format::seconds(h.phases.total_ms()),
            connecting: format::seconds(h.phases.dns_ms + h.phases.connect_ms + h.phases.tls_ms),
            name: h.name,
        })
        .collect()
}

fn row(r: &Request, usual: Option<&Usual>, scale: &Scale, y: f64) -> Row {
    let mut at = r.start_ms;
    let (mut bars, mut told) = (Vec::new(), Vec::new());
    for ((class, word), ms) in PHASES.iter().zip(phases(&r.phases)) {
        if ms > 0.0 {
            let (offset, height) = match *class {
                "queueing" | "sending" => (9.0, 2.0),
                "waiting" => (6.0, 8.0),
                _ => (4.0, 12.0),
            };
            let Part { x, w } = scale.part(at, ms, 0.6);
            bars.push(Bar { class, x, w, y: y + offset, height });
            told.push(format!("{word} {ms:.0} ms"));
        }
        at += ms;
    }
    let whole = r.phases.total_ms();
    let more = usual
        .filter(|usual| cause::is_slower_than_usual(whole, usual.length_ms))
        .map_or(String::new(), |usual| format!(" · usually {:.0}", usual.length_ms));
    let failed = r.failed.as_ref().map_or(String::new(), |f| format!(". {f}"));
    Row {
        y,
        path: shorten(r.path(), 33),
        host: shorten(r.host(), 24),
        status: if r.status == 0 { "none".into() } else { r.status.to_string() },
        size: if r.from_cache { "cache".into() } else { size(r.bytes) },
        took: format!("{whole:.0} ms{more}"),
        end: scale.x(r.end_ms()),
        title: format!("{} {}: {}{failed}", r.method, r.url, told.join(", ")),
        failed: r.is_failed(),
        critical: false,
        blocking: r.asked.blocking,
        ghost: usual.map(|usual| scale.part(usual.start_ms, usual.length_ms, 0.6)),
        bars,
    }
}

/// Moments of the step that fall on the axis.
fn moments(step: &StepRecord, scale: &Scale) -> Vec<Mark> {
    let v = &step.vitals;
    let painted = [("FCP", v.fcp_ms), ("LCP", v.lcp_ms)];
    let moments = painted
        .into_iter()
        .filter_map(|(name, at)| Some((name, at?)))
        .chain(step.marks.iter().map(|m| (m.name.as_str(), m.at_ms)))
        .chain([("end", step.duration_ms)])
        .filter(|(_, at)| *at <= scale.end_ms)
        .map(|(name, at)| Mark::new(scale.x(at), format!("{name} {}", format::seconds(at))));
    tidy(moments.collect())
}

fn line(r: &Request, site: &Site) -> Line {
    let said = |t: &ServerTiming| match (t.ms, t.says.is_empty()) {
        (Some(ms), _) => format!("{} {ms} ms", if t.says.is_empty() { &t.name } else { &t.says }),
        (None, true) => t.name.clone(),
        (None, false) => format!("{}: {}", t.name, t.says),
    };
    // The trace has a column of its own.
    let server: Vec<String> =
        r.asked.server.iter().filter(|t| t.name != "traceparent").map(said).collect();
    Line {
        url: r.url.clone(),
        cells: [
            r.kind.clone(),
            r.asked.initiator.as_deref().map_or(String::new(), short_initiator),
            r.asked.priority.clone().unwrap_or_default(),
            if r.asked.blocking { "yes".into() } else { String::new() },
            r.protocol.clone(),
            if r.from_cache { "yes".into() } else { String::new() },
        ]
        .to_vec(),
        numbers: [r.status.to_string(), r.bytes.to_string(), format!("{:.0}", r.start_ms)]
            .into_iter()
            .chain(
                phases(&r.phases).map(|ms| if ms > 0.0 { format!("{ms:.1}") } else { "–".into() }),
            )
            .collect(),
        server: server.join(", "),
        trace: r
            .trace
            .as_deref()
            .map(|id| Trace { link: site.trace_address(id), begins: id.chars().take(8).collect() }),
        failed: r.is_failed(),
    }
}

/// The parser, or the file name of a script.
fn short_initiator(by: &str) -> String {
    let path = by.split(['?', '#']).next().unwrap_or(by);
    path.rsplit('/').find(|part| !part.is_empty()).unwrap_or(by).chars().take(40).collect()
}

/// Labels that would lie on each other are put side by side in one.
fn tidy(mut moments: Vec<Mark>) -> Vec<Mark> {
    moments.sort_by(|a, b| a.x.total_cmp(&b.x));
    let mut kept: Vec<Mark> = Vec::new();
    for m in moments {
        match kept.last_mut() {
            Some(last) if m.x - last.x < 8.0 + 3.0 * (last.says.len() + m.says.len()) as f64 => {
                last.says = format!("{} · {}", last.says, m.says);
            }
            _ => kept.push(m),
        }
    }
    kept
}

fn shorten(text: &str, most: usize) -> String {
    if text.chars().count() <= most {
        text.into()
    } else {
        text.chars().take(most - 1).chain(['…']).collect()
    }
}

fn size(bytes: u64) -> String {
    if bytes < 1024 { format!("{bytes} B") } else { format!("{:.1} kB", bytes as f64 / 1024.0) }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn request(url: &str, kind: &str, wait_ms: f64, bytes: u64) -> Request {
        let phases = Phases { wait_ms, ..Phases::default() };
        let (url, kind) = (url.to_string(), kind.to_string());
        serde_json::from_value(serde_json::json!({
            "url": url, "method": "GET", "kind": kind, "status": 200, "start_ms": 0.0, "phases": phases, "bytes": bytes,
        }))
        .expect("a request")
    }

    #[test]
    fn requests_are_narrowed_and_put_in_order_and_keep_their_places() {
        let all = [
            request("http://a.example/one.js", "script", 10.0, 300),
            request("http://b.example/two.js", "script", 30.0, 100),
            request("http://a.example/three.svg", "image", 20.0, 200),
        ];
        let places = |narrow: Narrow| -> Vec<usize> {
            narrow
                .shown(&all, &|host| host == "a.example")
                .into_iter()
                .map(|(place, _)| place)
                .collect()
        };
        let by = |find: &str, kind: &str, party: &str, sort: &str| {
            places(Narrow {
                find: find.into(),
                kind: kind.into(),
                party: party.into(),
                sort: sort.into(),
            })
        };
        assert_eq!(by("", "", "", ""), [0, 1, 2]);
        assert_eq!(by("", "script", "", "wait"), [1, 0]);
        assert_eq!(by("", "", "first", "size"), [0, 2]);
        assert_eq!(by(".js", "", "third", "took"), [1]);
        assert_eq!(short_initiator("https://a.example/lib/app.js?v=2"), "app.js");
    }
}
