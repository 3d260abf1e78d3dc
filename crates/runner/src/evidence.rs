//! What the browser told: requests with their phases, console lines, script errors, navigations.
//!
//! Field names are those of W3C WebDriver BiDi. Moments are milliseconds since 1970.

use cadentis_core::run::reach::is_web;
use cadentis_core::run::record::MAX_TEXT;
use cadentis_core::run::{Asked, Console, Request, ServerTiming};
use cadentis_core::text::clean;
use cadentis_core::timing::phases::{Moments, Phases};
use serde_json::Value;
use std::collections::{HashMap, HashSet};

#[derive(Debug, Default)]
pub struct Evidence {
    /// Requests that were sent: their id, redirect count, and when.
    begun: HashMap<(String, u64), f64>,
    /// Those that have not been answered yet, or whose last byte has not come.
    under_way: HashSet<(String, u64)>,
    /// What to add to the browser's own clock to have the time of day, in milliseconds.
    since_1970_ms: Option<f64>,
    /// When requests ended whose answer has not been told yet, by their id.
    ended: HashMap<String, f64>,
    /// How requests came about, by their id.
    asked: HashMap<String, Asked>,
    requests: Vec<Seen>,
    console: Vec<(f64, Console)>,
    /// When navigations started, and in which context.
    navigations: Vec<(String, f64)>,
    /// Status of the newest document that was answered, and of a navigation that failed.
    pub document_status: Option<u16>,
    pub document_headers: Vec<(String, String)>,
    pub document_failed: Option<String>,
    /// The dialog that is open.
    pub dialog: Option<Dialog>,
    /// Windows and tabs that were opened, the first one included.
    pub windows: usize,
    /// Where a page went that is not of the web.
    pub left_the_web: Option<String>,
}

/// More of one run is not held: a page that writes and asks for ever must not fill this machine. A text on the console is
/// as long as the record keeps.
const MAX_CONSOLE: usize = 2_000;
const MAX_REQUESTS: usize = 5_000;

/// What pages may show beside addresses of the web: nothing of it leaves the browser.
fn stays_inside(url: &str) -> bool {
    is_web(url)
        || ["about:", "data:", "blob:", "javascript:"].iter().any(|s| url.starts_with(s))
        || url.is_empty()
}

/// A dialog of the page: alert, confirm, prompt or beforeunload.
#[derive(Debug, Clone, PartialEq)]
pub struct Dialog {
    pub context: String,
    pub kind: String,
    pub says: String,
}

#[derive(Debug, Clone)]
struct Seen {
    /// The browser's id of it; empty for what the runner sent itself.
    id: String,
    start: f64,
    request: Request,
}

impl Seen {
    /// Its last byte came, or it was given up: what is not accounted for until then was spent on receiving once the
    /// answer had begun, and on being connected as long as nothing came.
    fn ends_at(&mut self, end: f64) {
        let phases = &mut self.request.phases;
        let more = (end - self.start - phases.total_ms()).max(0.0);
        match self.request.failed.is_some() && phases.wait_ms == 0.0 {
            true => phases.connect_ms += more,
            false => phases.receive_ms += more,
        }
    }

    /// Whether the browser goes on to where the answer sends it, and tells no end of this one.
    fn is_redirect(&self, answer: &Value) -> bool {
        (300..400).contains(&self.request.status)
            && headers(answer).iter().any(|(n, _)| n.eq_ignore_ascii_case("location"))
    }
}

impl Evidence {
    /// Takes one event.
    pub fn hear(&mut self, method: &str, params: &Value) {
        let at = params["timestamp"].as_f64().unwrap_or(0.0);
        match method {
            // How urgent a request was, and whether painting waited for it, only the browser's own protocol says.
            "goog:cdp.Network.requestWillBeSent" => {
                let said = &params["params"];
                if let Some(id) = said["requestId"].as_str() {
                    self.asked.insert(id.into(), asked(said));
                }
                if let (Some(own_s), Some(wall_s)) =
                    (said["timestamp"].as_f64(), said["wallTime"].as_f64())
                {
                    self.since_1970_ms = Some((wall_s - own_s) * 1000.0);
                }
            }
            // `responseEnd` of the standard's timings is the end of the headers in this browser, and the moment that its
            // event names is the request's beginning: when the last byte came only the browser's own protocol says.
            "goog:cdp.Network.loadingFinished" | "goog:cdp.Network.loadingFailed" => {
                let said = &params["params"];
                let Some(id) = said["requestId"].as_str() else { return };
                let own_ms = said["timestamp"].as_f64().map(|s| s * 1000.0);
                let Some(end) = own_ms.zip(self.since_1970_ms).map(|(own, add)| own + add) else {
                    return;
                };
                match self.requests.iter_mut().rev().find(|s| s.id == id) {
                    Some(seen) => {
                        seen.ends_at(end);
                        self.under_way.retain(|(of, _)| of != id);
                    }
                    None if self.under_way.iter().any(|(of, _)| of == id) => {
                        self.ended.insert(id.into(), end);
                    }
                    None => {}
                }
            }
            "network.beforeRequestSent" => {
                self.begun.insert(key(params), at);
                self.under_way.insert(key(params));
            }
            "network.responseCompleted" | "network.fetchError" => {
                let end = self.ended.remove(&key(params).0);
                let seen = self.request(params, at);
                if end.is_some() || seen.as_ref().is_none_or(|s| s.is_redirect(&params["response"]))
                {
                    self.under_way.remove(&key(params));
                }
                self.begun.remove(&key(params));
                if let Some(mut seen) = seen {
                    if let Some(end) = end {
                        seen.ends_at(end);
                    }
                    if seen.request.kind == "document" {
                        self.document_status = Some(seen.request.status).filter(|s| *s > 0);
                        self.document_headers = headers(&params["response"]);
                        self.document_failed = seen.request.failed.clone();
                    }
                    if self.requests.len() < MAX_REQUESTS {
                        self.requests.push(seen);
                    }
                }
            }
            "log.entryAdded" => {
                if self.console.len() >= MAX_CONSOLE {
                    return;
                }
                let text = clean(params["text"].as_str().unwrap_or(""), MAX_TEXT, Some('\n'));
                let level = params["level"].as_str().unwrap_or("info").to_string();
                let uncaught = params["type"] == "javascript";
                self.console.push((at, Console { at_ms: 0.0, level, text, uncaught }));
            }
            "browsingContext.navigationStarted" => {
                let url = params["url"].as_str().unwrap_or("");
                if self.left_the_web.is_none() && !stays_inside(url) {
                    self.left_the_web = Some(url.chars().take(200).collect());
                }
                self.navigations.push((params["context"].as_str().unwrap_or("").into(), at));
                self.document_failed = None;
            }
            "browsingContext.contextCreated" if params["parent"].is_null() => self.windows += 1,
            "browsingContext.userPromptOpened" => {
                let text = |name: &str| params[name].as_str().unwrap_or("").to_string();
                self.dialog = Some(Dialog {
                    context: text("context"),
                    kind: text("type"),
                    says: text("message"),
                });
            }
            "browsingContext.userPromptClosed" => self.dialog = None,
            _ => {}
        }
    }

    fn request(&self, params: &Value, at: f64) -> Option<Seen> {
        let asked = &params["request"];
        let url = asked["url"].as_str()?.to_string();
        if !url.starts_with("http") {
            return None;
        }
        let t = &asked["timings"];
        let base = t["timeOrigin"].as_f64().filter(|o| *o > 0.0);
        let begun = self.begun.get(&key(params)).copied().unwrap_or(at);
        let answer = &params["response"];
        let failed = params["errorText"].as_str().map(str::to_string);
        let from_cache = answer["fromCache"].as_bool().unwrap_or(false);
        let phases = match base {
            // What comes out of the cache brings the timings of the request that put it there.
            _ if from_cache => Phases::default(),
            Some(base) if t["responseStart"].as_f64().is_some_and(|v| v > 0.0) => {
                // The moment the page asked comes from another clock reading than the rest, to the
                // whole millisecond: it may not lie after the network's first moment.
                let start = begun.min(base);
                let of = |name: &str| {
                    t[name].as_f64().filter(|v| *v > 0.0).map_or(0.0, |v| base - start + v)
                };
                let m = Moments {
                    start: 0.0,
                    fetch_start: 0.0,
                    lookup_start: of("dnsStart"),
                    lookup_end: of("dnsEnd"),
                    connect_start: of("connectStart"),
                    secure_start: of("tlsStart"),
                    connect_end: of("connectEnd"),
                    request_start: of("requestStart").max(base - start),
                    response_start: of("responseStart"),
                    response_end: of("responseEnd"),
                };
                Phases::from_moments(&m).unwrap_or_else(|e| {
                    tracing::debug!("{url}: {e}");
                    Phases::default()
                })
            }
            // No answer came: all that is known is how long we waited for one.
            _ => Phases::default(),
        };
        let headers = headers(answer);
        let header = |name: &str| {
            headers.iter().find(|(n, _)| n.eq_ignore_ascii_case(name)).map(|(_, v)| v.as_str())
        };
        let server = header("server-timing").map(ServerTiming::read).unwrap_or_default();
        Some(Seen {
            id: key(params).0,
            start: base.filter(|_| !from_cache).map_or(begun, |b| begun.min(b)),
            request: Request {
                url,
                method: asked["method"].as_str().unwrap_or("GET").into(),
                kind: kind(asked),
                status: answer["status"].as_u64().and_then(|s| u16::try_from(s).ok()).unwrap_or(0),
                start_ms: 0.0,
                phases,
                bytes: answer["bytesReceived"].as_u64().unwrap_or(0),
                protocol: answer["protocol"].as_str().unwrap_or("").into(),
                from_cache,
                failed,
                trace: ServerTiming::trace(&server),
                asked: Asked {
                    server,
                    ..self.asked.get(&key(params).0).cloned().unwrap_or_default()
                },
            },
        })
    }

    /// Whether this context has begun to navigate since `from`.
    pub fn navigated(&self, context: &str, from: f64) -> bool {
        self.navigations.iter().any(|(c, at)| c == context && *at >= from)
    }

    /// Requests sent since `from` whose address contains `part`: when they were answered, and how long
    /// they took.
    pub fn answered(&self, part: &str, from: f64) -> impl Iterator<Item = (f64, f64)> {
        let of_them =
            self.requests.iter().filter(move |s| s.start >= from && s.request.url.contains(part));
        of_them.map(|s| (s.start + s.request.phases.total_ms(), s.request.phases.total_ms()))
    }

    /// Whether a request is still to be answered, or its last byte to come.
    pub fn is_waiting(&self) -> bool {
        !self.under_way.is_empty()
    }

    /// Takes note of a request that the runner sent itself.
    pub fn add(&mut self, start: f64, request: Request) {
        self.requests.push(Seen { id: String::new(), start, request });
    }

    /// Requests and console lines that began in `[from, to)`, their moments counted from `from`.
    pub fn between(&self, from: f64, to: f64) -> (Vec<Request>, Vec<Console>) {
        let mut requests: Vec<Request> = self
            .requests
            .iter()
            .filter(|s| s.start >= from && s.start < to)
            .map(|s| Request { start_ms: s.start - from, ..s.request.clone() })
            .collect();
        requests.sort_by(|a, b| a.start_ms.total_cmp(&b.start_ms));
        let console = self
            .console
            .iter()
            .filter(|(at, _)| *at >= from && *at < to)
            .map(|(at, c)| Console { at_ms: at - from, ..c.clone() })
            .collect();
        (requests, console)
    }
}

fn asked(said: &Value) -> Asked {
    let text = |value: &Value| value.as_str().map(|t| t.chars().take(500).collect::<String>());
    let by = &said["initiator"];
    let script = || {
        text(&by["stack"]["callFrames"][0]["url"])
            .or_else(|| text(&by["url"]))
            .filter(|url| !url.is_empty())
    };
    let initiator = match by["type"].as_str() {
        Some("script") => script().or(Some("script".into())),
        Some(kind @ ("parser" | "preload" | "preflight")) => Some(kind.into()),
        _ => None,
    };
    let blocking = matches!(
        said["renderBlockingBehavior"].as_str(),
        Some("Blocking" | "InBodyParserBlocking")
    );
    Asked {
        initiator,
        priority: text(&said["request"]["initialPriority"]),
        blocking,
        server: Vec::new(),
    }
}

fn headers(answer: &Value) -> Vec<(String, String)> {
    let pair = |h: &Value| {
        Some((h["name"].as_str()?.to_string(), h["value"]["value"].as_str()?.to_string()))
    };
    answer["headers"]
        .as_array()
        .map(|all| all.iter().filter_map(pair).collect())
        .unwrap_or_default()
}

fn key(params: &Value) -> (String, u64) {
    let id = params["request"]["request"].as_str().unwrap_or("").to_string();
    (id, params["redirectCount"].as_u64().unwrap_or(0))
}

fn kind(asked: &Value) -> String {
    let destination = asked["destination"].as_str().unwrap_or("");
    let initiator = asked["initiatorType"].as_str().unwrap_or("");
    match (destination, initiator) {
        ("", "beacon") => "beacon",
        ("", "fetch" | "xmlhttprequest") => "fetch",
        ("", "") => "other",
        ("", other) => other,
        ("style", _) => "stylesheet",
        (known, _) => known,
    }
    .to_string()
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    /// Shapes and figures as Chromium 156 reported them, shortened: the answer is told first, then its end on the
    /// browser's own clock, which is 900 ms behind here.
    fn told(e: &mut Evidence, request: &Value, answer: Value, ends: &[(&str, f64)]) {
        let id = &request["request"];
        let sent = json!({"params": {"requestId": id, "timestamp": 0.1, "wallTime": 1.0}});
        e.hear("goog:cdp.Network.requestWillBeSent", &sent);
        let begun = json!({"timestamp": 998.0, "request": request, "redirectCount": 0});
        e.hear("network.beforeRequestSent", &begun);
        let mut event = json!({"timestamp": 998.0, "request": request, "redirectCount": 0});
        let method = match answer.get("errorText") {
            Some(text) => {
                event["errorText"] = text.clone();
                "network.fetchError"
            }
            None => {
                event["response"] = answer;
                "network.responseCompleted"
            }
        };
        e.hear(method, &event);
        for (method, at) in ends {
            assert!(e.is_waiting(), "its last byte has not come");
            e.hear(
                &format!("goog:cdp.Network.{method}"),
                &json!({"params": {"requestId": id, "timestamp": at}}),
            );
        }
    }

    #[test]
    fn an_event_becomes_a_request_with_its_phases_and_ends_with_its_last_byte_not_with_its_headers()
    {
        let mut e = Evidence::default();
        let request = json!({"request": "1", "url": "http://book.marram.example/", "method": "GET", "destination": "document",
            "timings": {"timeOrigin": 1000.0, "dnsStart": 0, "connectStart": 1.0, "connectEnd": 31.0, "requestStart": 32.0,
                        "responseStart": 80.0, "responseEnd": 80.2}});
        let answer = json!({"status": 200, "bytesReceived": 512, "headers": []});
        told(&mut e, &request, answer, &[("loadingFinished", 0.9)]);
        assert!(!e.is_waiting());
        let (requests, _) = e.between(990.0, 2000.0);
        let p = requests[0].phases;
        assert_eq!(
            (requests[0].start_ms, p.queue_ms, p.connect_ms, p.request_ms, p.wait_ms),
            (8.0, 3.0, 30.0, 1.0, 48.0)
        );
        assert!((p.receive_ms - 720.0).abs() < 1e-6, "from 1080 to 1800: {}", p.receive_ms);
        assert_eq!(e.document_status, Some(200));
    }

    #[test]
    fn what_was_never_answered_took_until_it_was_given_up() {
        let mut e = Evidence::default();
        let request = json!({"request": "3", "url": "http://map/", "method": "GET", "timings": {"timeOrigin": 998.0}});
        let answer = json!({"errorText": "net::ERR_CONNECTION_RESET"});
        told(&mut e, &request, answer, &[("loadingFailed", 0.4)]);
        let (requests, _) = e.between(990.0, 2000.0);
        assert!((requests[0].phases.connect_ms - 302.0).abs() < 1e-6, "{:?}", requests[0].phases);
        assert!(!e.is_waiting());
    }

    #[test]
    fn where_the_browser_is_sent_on_nothing_more_is_waited_for() {
        let mut e = Evidence::default();
        let request = json!({"request": "4", "url": "http://book/", "method": "GET",
            "timings": {"timeOrigin": 998.0, "requestStart": 1.0, "responseStart": 9.0, "responseEnd": 9.1}});
        let to = json!([{"name": "location", "value": {"type": "string", "value": "/there"}}]);
        told(&mut e, &request, json!({"status": 302, "headers": to}), &[]);
        assert!(!e.is_waiting());
    }

    #[test]
    fn what_comes_out_of_the_cache_does_not_bring_old_timings_along() {
        let mut e = Evidence::default();
        let request = json!({"request": "2", "url": "http://book.marram.example/static/app.css", "method": "GET", "destination": "style",
            "timings": {"timeOrigin": 998.0, "requestStart": 1.0, "responseStart": 300.0, "responseEnd": 309.0}});
        let answer = json!({"status": 200, "fromCache": true, "headers": []});
        told(&mut e, &request, answer, &[("loadingFinished", 0.1)]);
        let (requests, _) = e.between(990.0, 6000.0);
        assert!(requests[0].from_cache);
        assert!((requests[0].phases.total_ms() - 2.0).abs() < 1e-6);
    }
}
