//! HTTP Archive 1.2, in and out.
//!
//! Source of the format: the HAR 1.2 specification; what is written is validated by har-schema.
//! Reading is lenient where writers differ (optional fields missing or null, −1 for "does not
//! apply", fields of their own) and strict where a number cannot be: such things are told, never
//! clamped in silence. Bodies, headers and cookies are passed over: nothing is computed from them,
//! and they may hold what nobody should keep.

use super::{Asked, Request, RunRecord, ServerTiming, StepRecord};
use crate::timing::Phases;
use cadentis_hosts::registered;
use jiff::{SignedDuration, Timestamp};
use serde::de::Visitor;
use serde::{Deserialize, Deserializer, Serialize};
use serde_json::{Value, json};
use std::borrow::Cow;
use std::collections::HashMap;
use std::fmt;

/// An archive, as far as timings are concerned.
#[derive(Debug, Clone, PartialEq)]
pub struct Har {
    /// Name and version of the program that wrote it.
    pub creator: String,
    /// The browser that it was recorded in.
    pub browser: String,
    /// Its pages, in order of time.
    pub pages: Vec<Page>,
    /// Its requests, in order of time.
    pub entries: Vec<Entry>,
    /// What in it could not be so, with its place; the entry is kept as far as it can be.
    pub remarks: Vec<String>,
}

/// A page of an archive.
#[derive(Debug, Clone, PartialEq)]
pub struct Page {
    /// Its id in the archive.
    pub id: String,
    /// Its title.
    pub title: String,
    /// When it began.
    pub started_at: Timestamp,
    /// DOMContentLoaded and load, in milliseconds from the page's start.
    pub content_load_ms: Option<f64>,
    /// Milliseconds until it had loaded.
    pub load_ms: Option<f64>,
}

/// A request of an archive.
#[derive(Debug, Clone, PartialEq)]
pub struct Entry {
    /// Place in [`Har::pages`].
    pub page: Option<usize>,
    /// When it began.
    pub started_at: Timestamp,
    /// `start_ms` counts from the page's start, or from the archive's first entry without a page.
    pub request: Request,
}

/// Why a text is no archive.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
#[expect(missing_docs, reason = "each says what it is when it is told")]
pub enum HarError {
    /// `serde_json` says where and what.
    #[error("HAR: {0}")]
    Json(String),
    #[error("HAR: {place}: {value:?} is no moment: write 2026-11-22T08:30:00.000Z, with its zone")]
    Moment { place: String, value: String },
    #[error("HAR: version {0:?}: 1.1 and 1.2 are read")]
    Version(String),
}

#[derive(Deserialize)]
struct File<'a> {
    #[serde(borrow)]
    log: Log<'a>,
}

/// A text; missing or null is empty. Borrowed from the archive where nothing in it is escaped.
#[derive(Default)]
struct Text<'a>(Cow<'a, str>);

impl<'de: 'a, 'a> Deserialize<'de> for Text<'a> {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Text<'a>, D::Error> {
        struct Reader;
        impl<'de> Visitor<'de> for Reader {
            type Value = Text<'de>;

            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("a text or null")
            }

            fn visit_borrowed_str<E>(self, text: &'de str) -> Result<Text<'de>, E> {
                Ok(Text(Cow::Borrowed(text)))
            }

            fn visit_str<E>(self, text: &str) -> Result<Text<'de>, E> {
                Ok(Text(Cow::Owned(text.to_string())))
            }

            fn visit_none<E>(self) -> Result<Text<'de>, E> {
                Ok(Text::default())
            }

            fn visit_some<D: Deserializer<'de>>(self, from: D) -> Result<Text<'de>, D::Error> {
                from.deserialize_str(self)
            }
        }
        from.deserialize_option(Reader)
    }
}

impl Text<'_> {
    fn as_str(&self) -> &str {
        &self.0
    }

    /// The text, cut to `most` characters.
    fn cut(&self, most: usize) -> String {
        match self.0.char_indices().nth(most).filter(|_| self.0.len() > most) {
            Some((at, _)) => self.0[..at].to_string(),
            None => self.0.to_string(),
        }
    }
}

#[derive(Deserialize)]
struct Log<'a> {
    #[serde(borrow, default)]
    version: Text<'a>,
    #[serde(borrow, default)]
    creator: Option<Program<'a>>,
    #[serde(borrow, default)]
    browser: Option<Program<'a>>,
    #[serde(borrow, default)]
    pages: Option<Vec<RawPage<'a>>>,
    #[serde(borrow)]
    entries: Vec<RawEntry<'a>>,
}

#[derive(Deserialize)]
struct Program<'a> {
    #[serde(borrow, default)]
    name: Text<'a>,
    #[serde(borrow, default)]
    version: Text<'a>,
}

impl Program<'_> {
    fn words(&self) -> String {
        format!("{} {}", self.name.as_str().trim(), self.version.as_str().trim()).trim().to_string()
    }
}

#[derive(Deserialize)]
#[serde(rename_all = "camelCase")]
struct RawPage<'a> {
    #[serde(borrow)]
    started_date_time: Text<'a>,
    #[serde(borrow)]
    id: Text<'a>,
    #[serde(borrow, default)]
    title: Text<'a>,
    #[serde(default)]
    page_timings: Option<RawPageTimings>,
}

#[derive(Deserialize, Default)]
#[serde(rename_all = "camelCase")]
struct RawPageTimings {
    #[serde(default)]
    on_content_load: Option<f64>,
    #[serde(default)]
    on_load: Option<f64>,
}

#[derive(Deserialize)]
#[serde(rename_all = "camelCase")]
struct RawEntry<'a> {
    #[serde(borrow, default)]
    pageref: Text<'a>,
    #[serde(borrow)]
    started_date_time: Text<'a>,
    #[serde(default)]
    time: Option<f64>,
    #[serde(borrow)]
    request: RawRequest<'a>,
    #[serde(borrow)]
    response: RawResponse<'a>,
    #[serde(default)]
    timings: Option<RawTimings>,
    #[serde(borrow, default)]
    comment: Text<'a>,
    /// Fields that begin with an underscore are the writer's own (HAR 1.2, custom fields); several browsers write
    /// this one.
    #[serde(borrow, default, rename = "_priority")]
    priority: Text<'a>,
}

#[derive(Deserialize)]
struct RawRequest<'a> {
    #[serde(borrow, default)]
    method: Text<'a>,
    #[serde(borrow)]
    url: Text<'a>,
}

#[derive(Deserialize)]
#[serde(rename_all = "camelCase")]
struct RawResponse<'a> {
    #[serde(default)]
    status: Option<f64>,
    #[serde(borrow, default)]
    http_version: Text<'a>,
    #[serde(default)]
    headers_size: Option<f64>,
    #[serde(default)]
    body_size: Option<f64>,
    #[serde(borrow, default)]
    content: Option<RawContent<'a>>,
    #[serde(borrow, default)]
    headers: Vec<RawHeader<'a>>,
}

#[derive(Deserialize)]
struct RawHeader<'a> {
    #[serde(borrow, default)]
    name: Text<'a>,
    #[serde(borrow, default)]
    value: Text<'a>,
}

#[derive(Deserialize)]
#[serde(rename_all = "camelCase")]
struct RawContent<'a> {
    #[serde(default)]
    size: Option<f64>,
    #[serde(borrow, default)]
    mime_type: Text<'a>,
}

#[derive(Deserialize, Default)]
struct RawTimings {
    #[serde(default)]
    blocked: Option<f64>,
    #[serde(default)]
    dns: Option<f64>,
    #[serde(default)]
    connect: Option<f64>,
    #[serde(default)]
    ssl: Option<f64>,
    #[serde(default)]
    send: Option<f64>,
    #[serde(default)]
    wait: Option<f64>,
    #[serde(default)]
    receive: Option<f64>,
}

/// Writers round to milliseconds, each phase for itself.
const ROUNDING_MS: f64 = 8.0;

fn moment(place: impl Fn() -> String, value: &Text<'_>) -> Result<Timestamp, HarError> {
    value.as_str().parse().map_err(|_| HarError::Moment { place: place(), value: value.cut(60) })
}

impl Har {
    /// Reads an archive.
    ///
    /// # Errors
    /// When it is no JSON, lacks a field that everything hangs on (`log.entries`, a request's
    /// `url`, a `startedDateTime`), or has a moment without a zone.
    pub fn read(text: &str) -> Result<Har, HarError> {
        let text = text.strip_prefix('\u{feff}').unwrap_or(text);
        let File { log } = serde_json::from_str(text).map_err(|e| HarError::Json(e.to_string()))?;
        if !["", "1.1", "1.2"].contains(&log.version.as_str().trim()) {
            return Err(HarError::Version(log.version.cut(20)));
        }
        let mut pages = Vec::new();
        for (nth, p) in log.pages.unwrap_or_default().into_iter().enumerate() {
            let known = |ms: Option<f64>| ms.filter(|v| *v >= 0.0);
            let timings = p.page_timings.unwrap_or_default();
            pages.push(Page {
                started_at: moment(
                    || format!("log.pages[{nth}].startedDateTime"),
                    &p.started_date_time,
                )?,
                id: p.id.cut(200),
                title: p.title.cut(super::record::MAX_TEXT),
                content_load_ms: known(timings.on_content_load),
                load_ms: known(timings.on_load),
            });
        }
        let places: HashMap<&str, usize> =
            pages.iter().enumerate().map(|(i, p): (usize, &Page)| (p.id.as_str(), i)).collect();
        let mut starts = Vec::with_capacity(log.entries.len());
        for (nth, e) in log.entries.iter().enumerate() {
            starts.push(moment(
                || format!("log.entries[{nth}].startedDateTime"),
                &e.started_date_time,
            )?);
        }
        let first = starts.iter().min().copied();
        let mut remarks = Vec::new();
        let mut entries = Vec::with_capacity(log.entries.len());
        for (nth, (e, started_at)) in log.entries.into_iter().zip(starts).enumerate() {
            let page = places.get(e.pageref.as_str()).copied();
            if page.is_none() && !e.pageref.as_str().is_empty() {
                remarks.push(format!(
                    "log.entries[{nth}].pageref: there is no page {:?}",
                    e.pageref.cut(60)
                ));
            }
            let begin = page.map(|p| pages[p].started_at).or(first).unwrap_or(started_at);
            let start_ms = started_at.duration_since(begin).as_secs_f64() * 1000.0;
            entries.push(Entry {
                page,
                started_at,
                request: request(nth, e, start_ms, &mut remarks),
            });
        }
        let program = |p: &Option<Program<'_>>| p.as_ref().map(Program::words).unwrap_or_default();
        Ok(Har {
            creator: program(&log.creator),
            browser: program(&log.browser),
            pages,
            entries,
            remarks,
        })
    }

    /// The archive of a run: each step is a page.
    pub fn of_run(record: &RunRecord) -> Har {
        let at = |ms: f64| record.started_at + SignedDuration::from_micros((ms * 1000.0) as i64);
        let pages = record.steps.iter().enumerate().map(|(nth, step)| Page {
            id: format!("step_{}", nth + 1),
            title: step.name.clone(),
            started_at: at(step.start_ms),
            content_load_ms: None,
            load_ms: None,
        });
        let entries = record.steps.iter().enumerate().flat_map(|(nth, step)| {
            step.requests.iter().map(move |r| Entry {
                page: Some(nth),
                started_at: at(step.start_ms + r.start_ms),
                request: r.clone(),
            })
        });
        Har {
            creator: concat!("Cadentis ", env!("CARGO_PKG_VERSION")).into(),
            browser: record.browser.clone(),
            pages: pages.collect(),
            entries: entries.collect(),
            remarks: vec![],
        }
    }

    /// Its entries by [`Har::pages`], and last those of no page: one way through them, however many pages there are.
    pub fn by_page(&self) -> Vec<Vec<&Entry>> {
        let mut by = vec![Vec::new(); self.pages.len() + 1];
        for e in &self.entries {
            by[e.page.unwrap_or(self.pages.len())].push(e);
        }
        by
    }

    /// Tells whether a host is the first party: registered under the same name as the host that the first page came from
    /// (Public Suffix List). Without such a name, as for addresses, only that host itself is.
    pub fn first_party(&self) -> impl Fn(&str) -> bool + '_ {
        let first_page =
            self.pages.iter().enumerate().min_by_key(|(_, p)| p.started_at).map(|(nth, _)| nth);
        let named = || self.entries.iter().filter(|e| !e.request.host().is_empty());
        let of_first = named().filter(|e| e.page == first_page).min_by_key(|e| e.started_at);
        let first = of_first
            .or_else(|| named().min_by_key(|e| e.started_at))
            .map(|e| registered(e.request.host()));
        move |host| first == Some(registered(host))
    }

    /// Its pages as the steps of a run, so that it can be read like one. Requests that belong to no page are a step
    /// of their own. A page lasts until its load event or, where that is not said, until its last answer.
    pub fn steps(&self) -> Vec<StepRecord> {
        let begin = self
            .entries
            .iter()
            .map(|e| e.started_at)
            .chain(self.pages.iter().map(|p| p.started_at))
            .min();
        let Some(begin) = begin else { return Vec::new() };
        let ms = |from: Timestamp, to: Timestamp| to.duration_since(from).as_secs_f64() * 1000.0;
        let by_page = self.by_page();
        let step = |name: &str, of: usize, load_ms: Option<f64>, began: Option<Timestamp>| {
            let own = &by_page[of];
            let began = own.iter().map(|e| e.started_at).chain(began).min()?;
            let mut step = StepRecord::begun(name, ms(begin, began), None);
            step.requests = own
                .iter()
                .map(|e| Request { start_ms: ms(began, e.started_at), ..e.request.clone() })
                .collect();
            let last = step.requests.iter().map(Request::end_ms).fold(0.0, f64::max);
            step.duration_ms = load_ms.unwrap_or(last);
            let failed = step.requests.first().is_some_and(Request::is_failed);
            step.outcome = if failed { super::Outcome::Failed } else { super::Outcome::Passed };
            (!own.is_empty()).then_some(step)
        };
        let pages = self.pages.iter().enumerate().filter_map(|(nth, p)| {
            let title = if p.title.trim().is_empty() { &p.id } else { &p.title };
            step(title, nth, p.load_ms, Some(p.started_at))
        });
        pages.chain(step("Without a page", self.pages.len(), None, None)).collect()
    }

    /// Writes the archive as JSON.
    pub fn write(&self) -> String {
        let program = |words: &str| {
            let (name, version) = words.rsplit_once([' ', '/']).unwrap_or((words, ""));
            json!({ "name": name, "version": version })
        };
        let unknown = |ms: Option<f64>| ms.unwrap_or(-1.0);
        let pages: Vec<Value> = self
            .pages
            .iter()
            .map(|p| {
                json!({
                    "startedDateTime": p.started_at.to_string(), "id": p.id, "title": p.title,
                    "pageTimings": { "onContentLoad": unknown(p.content_load_ms), "onLoad": unknown(p.load_ms) },
                })
            })
            .collect();
        let entries: Vec<Value> = self.entries.iter().map(|e| self.entry(e)).collect();
        let mut log = json!({ "version": "1.2", "creator": program(&self.creator), "pages": pages, "entries": entries });
        if !self.browser.is_empty() {
            log["browser"] = program(&self.browser);
        }
        json!({ "log": log }).to_string()
    }

    fn entry(&self, entry: &Entry) -> Value {
        let (r, p) = (&entry.request, &entry.request.phases);
        // What took no time did not happen: a reused connection has no lookup.
        let happened = |ms: f64| if ms > 0.0 { ms } else { -1.0 };
        let version = match r.protocol.as_str() {
            "" => "unknown",
            known => known,
        };
        let query: Vec<Value> = r
            .path()
            .split_once('?')
            .map_or("", |(_, q)| q.split('#').next().unwrap_or(""))
            .split('&')
            .filter(|part| !part.is_empty())
            .map(|part| {
                let (name, value) = part.split_once('=').unwrap_or((part, ""));
                json!({ "name": name, "value": value })
            })
            .collect();
        let mut written = json!({
            "startedDateTime": entry.started_at.to_string(),
            "time": p.total_ms(),
            "request": {
                "method": r.method, "url": r.url, "httpVersion": version, "cookies": [], "headers": [],
                "queryString": query, "headersSize": -1, "bodySize": -1,
            },
            "response": {
                "status": r.status, "statusText": "", "httpVersion": version, "cookies": [], "headers": [],
                "content": { "size": r.bytes, "mimeType": mime_of(&r.kind) },
                "redirectURL": "", "headersSize": -1, "bodySize": if r.from_cache { 0 } else { r.bytes },
            },
            "cache": {},
            "timings": {
                "blocked": happened(p.queue_ms), "dns": happened(p.dns_ms),
                "connect": happened(p.connect_ms + p.tls_ms), "ssl": happened(p.tls_ms),
                "send": p.request_ms, "wait": p.wait_ms, "receive": p.receive_ms,
            },
        });
        if let Some(page) = entry.page.and_then(|page| self.pages.get(page)) {
            written["pageref"] = json!(page.id);
        }
        if let Some(failed) = &r.failed {
            written["comment"] = json!(failed);
        }
        if let Some(priority) = &r.asked.priority {
            written["_priority"] = json!(priority);
        }
        if !r.asked.server.is_empty() {
            let said: Vec<String> = r.asked.server.iter().map(ServerTiming::to_string).collect();
            written["response"]["headers"] =
                json!([{ "name": "server-timing", "value": said.join(", ") }]);
        }
        written
    }

    /// What each host cost, the most time first.
    pub fn hosts(&self) -> Vec<Host> {
        hosts(self.entries.iter().map(|e| &e.request))
    }
}

/// What requests to one host cost together.
#[derive(Debug, Clone, Default, PartialEq, Serialize)]
pub struct Host {
    /// Its name.
    pub name: String,
    /// Requests to it.
    pub requests: u64,
    /// Of them those that failed.
    pub failed: u64,
    /// Bytes that came from it.
    pub bytes: u64,
    /// Phases summed over the requests; they may have run beside each other.
    pub phases: Phases,
}

/// What each host cost, the most time first.
pub fn hosts<'a>(requests: impl Iterator<Item = &'a Request>) -> Vec<Host> {
    let mut by_name: HashMap<&str, Host> = HashMap::new();
    for r in requests {
        let host = by_name.entry(r.host()).or_default();
        host.requests += 1;
        host.failed += u64::from(r.is_failed());
        host.bytes += r.bytes;
        host.phases.add(&r.phases);
    }
    let mut all: Vec<Host> =
        by_name.into_iter().map(|(name, host)| Host { name: name.to_string(), ..host }).collect();
    all.sort_by(|a, b| {
        b.phases.total_ms().total_cmp(&a.phases.total_ms()).then_with(|| a.name.cmp(&b.name))
    });
    all
}

fn request(nth: usize, e: RawEntry<'_>, start_ms: f64, remarks: &mut Vec<String>) -> Request {
    let timings = e.timings.unwrap_or_default();
    let mut phase = |name: &str, ms: Option<f64>| match ms {
        // −1 and what is missing did not happen.
        None | Some(-1.0) => 0.0,
        Some(ms) if (0.0..=86_400_000.0).contains(&ms) => ms,
        Some(ms) => {
            remarks.push(format!(
                "log.entries[{nth}].timings.{name}: {ms} is no length of time, taken as not there"
            ));
            0.0
        }
    };
    let (connect, ssl) = (phase("connect", timings.connect), phase("ssl", timings.ssl));
    let phases = Phases {
        queue_ms: phase("blocked", timings.blocked),
        dns_ms: phase("dns", timings.dns),
        // In an archive the secure part lies inside connect; some writers leave connect at −1.
        connect_ms: if connect > 0.0 { (connect - ssl).max(0.0) } else { 0.0 },
        tls_ms: ssl,
        request_ms: phase("send", timings.send),
        wait_ms: phase("wait", timings.wait),
        receive_ms: phase("receive", timings.receive),
    };
    if connect > 0.0 && ssl > connect + ROUNDING_MS {
        remarks.push(format!(
            "log.entries[{nth}].timings: ssl ({ssl} ms) is longer than connect ({connect} ms), which contains it"
        ));
    }
    if let Some(time) = e.time.filter(|t| (t - phases.total_ms()).abs() > ROUNDING_MS) {
        remarks.push(format!(
            "log.entries[{nth}].time: {time} ms is not the sum of its timings, {} ms",
            phases.total_ms()
        ));
    }
    let response = e.response;
    let status = response.status.filter(|s| (0.0..1_000.0).contains(s)).unwrap_or(0.0) as u16;
    let size = |bytes: Option<f64>| bytes.filter(|b| *b >= 0.0 && *b < 1e15).map(|b| b as u64);
    let content = response.content;
    let bytes = match size(response.body_size) {
        Some(body) => body + size(response.headers_size).unwrap_or(0),
        None => size(content.as_ref().and_then(|c| c.size)).unwrap_or(0),
    };
    let mime = content.map(|c| c.mime_type).unwrap_or_default();
    let comment = e.comment.cut(super::record::MAX_TEXT);
    let said =
        response.headers.iter().find(|h| h.name.as_str().eq_ignore_ascii_case("server-timing"));
    let server = said.map(|h| ServerTiming::read(h.value.as_str())).unwrap_or_default();
    let priority = Some(e.priority.cut(20)).filter(|p| !p.is_empty());
    let method = e.request.method.cut(20);
    Request {
        url: e.request.url.cut(super::record::MAX_TEXT),
        method: if method.is_empty() { "GET".into() } else { method },
        kind: kind_of(mime.as_str()).to_string(),
        status,
        start_ms,
        phases,
        bytes,
        protocol: response.http_version.cut(40),
        from_cache: false,
        failed: (status == 0)
            .then(|| if comment.is_empty() { "no answer".into() } else { comment }),
        trace: ServerTiming::trace(&server),
        asked: Asked { priority, server, ..Asked::default() },
    }
}

const KINDS: [(&str, &str); 6] = [
    ("text/html", "document"),
    ("javascript", "script"),
    ("css", "stylesheet"),
    ("image/", "image"),
    ("font", "font"),
    ("json", "fetch"),
];

fn kind_of(mime: &str) -> &'static str {
    let mime = mime.to_ascii_lowercase();
    KINDS.iter().find(|(part, _)| mime.contains(part)).map_or("other", |(_, kind)| kind)
}

fn mime_of(kind: &str) -> &'static str {
    match kind {
        "document" => "text/html",
        "script" => "text/javascript",
        "stylesheet" => "text/css",
        "image" => "image/*",
        "font" => "font/*",
        "fetch" | "xhr" => "application/json",
        _ => "application/octet-stream",
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// As another program might write it: optional things missing or null, fields of its own, −1.
    const FOREIGN: &str = r#"{"log": {"creator": {"name": "Packet Reader", "_build": 7}, "pages": [
        {"startedDateTime": "2026-11-22T09:30:00.100+01:00", "id": "p1", "pageTimings": {"onLoad": 1234.5, "_ready": 5}}],
      "entries": [
        {"pageref": "p1", "startedDateTime": "2026-11-22T08:30:00.350Z", "time": 103.0, "_priority": "High",
         "request": {"method": "GET", "url": "https://fjordline.example/book?from=bgo", "headers": [{"name": "Cookie", "value": "secret"}]},
         "response": {"status": 200, "bodySize": -1, "content": {"size": 5120, "mimeType": "text/html; charset=utf-8", "text": "<p>"}},
         "timings": {"blocked": 3, "dns": -1, "connect": 40, "ssl": 25, "send": null, "wait": 50, "receive": 10, "_queued": 2}},
        {"startedDateTime": "2026-11-22T08:30:01Z", "time": 700, "request": {"url": "https://maps.example/t.png"},
         "response": {"status": 0}, "timings": {"blocked": -4, "wait": 5}, "comment": "refused"}]}}"#;

    #[test]
    fn an_archive_of_another_programs_habits_is_read_and_what_cannot_be_is_told() {
        let har = Har::read(FOREIGN).unwrap();
        assert_eq!(
            (har.creator.as_str(), har.pages[0].load_ms, har.pages[0].content_load_ms),
            ("Packet Reader", Some(1234.5), None)
        );
        let first = &har.entries[0];
        assert_eq!(
            (first.page, first.request.start_ms, first.request.bytes),
            (Some(0), 250.0, 5120)
        );
        let p = first.request.phases;
        assert_eq!(
            (p.queue_ms, p.dns_ms, p.connect_ms, p.tls_ms, p.wait_ms, p.total_ms()),
            (3.0, 0.0, 15.0, 25.0, 50.0, 103.0)
        );
        assert_eq!(
            (first.request.kind.as_str(), first.request.host()),
            ("document", "fjordline.example")
        );
        assert_eq!(har.entries[1].request.failed.as_deref(), Some("refused"));
        assert_eq!(
            har.remarks,
            [
                "log.entries[1].timings.blocked: -4 is no length of time, taken as not there",
                "log.entries[1].time: 700 ms is not the sum of its timings, 5 ms",
            ]
        );
        let hosts = har.hosts();
        assert_eq!((hosts[0].name.as_str(), hosts[1].failed), ("fjordline.example", 1));
        assert!(!har.write().contains("secret"));
        // Some writers leave the colon out of the zone.
        let moved = FOREIGN.replace("+01:00", "+0100");
        assert_eq!(Har::read(&moved).unwrap().pages[0].started_at, har.pages[0].started_at);
    }

    #[test]
    fn the_first_party_is_who_registered_the_host_of_the_first_page() {
        let entry = |page: &str, second: u32, url: &str| {
            json!({ "pageref": page, "startedDateTime": format!("2026-11-22T08:30:{second:02}Z"),
                "request": { "url": url }, "response": { "status": 200 } })
        };
        let page = |id: &str, second: u32| json!({ "id": id, "title": id, "startedDateTime": format!("2026-11-22T08:30:{second:02}Z") });
        let read = |pages: Vec<Value>, entries: Vec<Value>| {
            Har::read(&json!({ "log": { "pages": pages, "entries": entries } }).to_string())
                .unwrap()
        };
        // The pages stand in no order, and a page's entries neither.
        let har = read(
            vec![page("later", 9), page("first", 1)],
            vec![
                entry("later", 9, "https://pay.example/"),
                entry("first", 3, "https://cdn.example/a.js"),
                entry("first", 1, "https://book.marram.co.uk:8443/"),
            ],
        );
        let ours = har.first_party();
        assert!(
            ours("book.marram.co.uk") && ours("static.marram.co.uk:443") && ours("marram.co.uk")
        );
        assert!(!ours("fjord.co.uk"), "a suffix under which anybody registers is nobody's name");
        assert!(!ours("pay.example") && !ours("cdn.example") && !ours("notmarram.co.uk"));
        // An address is its own name, and so is a host of one word; without pages the earliest request tells.
        let har = read(
            vec![],
            vec![entry("", 2, "http://cdn.example/"), entry("", 1, "http://10.0.0.7:81/")],
        );
        assert!(har.first_party()("10.0.0.7") && !har.first_party()("10.9.0.7"));
        assert!(!read(vec![], vec![]).first_party()("marram.example"));
    }

    #[test]
    fn what_is_no_archive_is_refused_with_its_place() {
        let says = |text: &str| Har::read(text).unwrap_err().to_string();
        assert_eq!(says("{\"log\":\n {}}"), "HAR: missing field `entries` at line 2 column 3");
        assert_eq!(
            says("{\"log\": {\"version\": \"2.0\", \"entries\": []}}"),
            "HAR: version \"2.0\": 1.1 and 1.2 are read"
        );
        let entry = r#"{"log": {"entries": [{"startedDateTime": "2026-11-22 08:30", "request": {"url": "x"}, "response": {}}]}}"#;
        assert_eq!(
            says(entry),
            "HAR: log.entries[0].startedDateTime: \"2026-11-22 08:30\" is no moment: write 2026-11-22T08:30:00.000Z, with its zone"
        );
    }

    proptest! {
        #[test]
        fn what_was_written_is_read_back(
            phases in prop::collection::vec(0.0..500.0f64, 7), status in 100u16..600, bytes in 0u64..1_000_000, url in "https://[a-z]{1,9}\\.example/[a-z]{0,9}(\\?[a-z]=[0-9]&b)?", title in "\\PC{0,20}",
        ) {
            let round = |ms: f64| (ms * 8.0).round() / 8.0;
            let request = Request {
                url, method: "POST".into(), kind: "script".into(), status, start_ms: 12.5,
                phases: Phases {
                    queue_ms: round(phases[0]), dns_ms: round(phases[1]), connect_ms: round(phases[2]), tls_ms: round(phases[3]),
                    request_ms: round(phases[4]), wait_ms: round(phases[5]), receive_ms: round(phases[6]),
                },
                bytes, protocol: "h2".into(), from_cache: false, failed: None, trace: None,
                asked: Asked {
                    priority: Some("High".into()),
                    server: ServerTiming::read("db;dur=12.5;desc=\"rows, read\", miss"), ..Asked::default()
                },
            };
            let started_at: Timestamp = "2026-11-22T08:30:00Z".parse().unwrap();
            let har = Har {
                creator: "Cadentis 1".into(), browser: "Chromium 156".into(),
                pages: vec![Page { id: "step_1".into(), title, started_at, content_load_ms: None, load_ms: Some(9.5) }],
                entries: vec![Entry { page: Some(0), started_at: started_at + SignedDuration::from_micros(12_500), request }],
                remarks: vec![],
            };
            prop_assert_eq!(Har::read(&har.write()), Ok(har));
        }

        #[test]
        fn steps_hold_every_request_once_at_the_moment_it_was_made(starts in prop::collection::vec((0i64..5_000, 0usize..3), 1..12)) {
            let at = |ms: i64| "2026-11-22T08:30:00Z".parse::<Timestamp>().unwrap() + SignedDuration::from_millis(ms);
            let page = |nth: usize| Page {
                id: format!("p{nth}"), title: String::new(), started_at: at(0), content_load_ms: None, load_ms: None,
            };
            let entry = |(ms, page): &(i64, usize)| Entry {
                page: (*page < 2).then_some(*page), started_at: at(*ms),
                request: serde_json::from_value(serde_json::json!({
                    "url": format!("http://a.example/{ms}"), "method": "GET", "kind": "other", "status": 200,
                    "start_ms": 0.0, "phases": Phases::default(), "bytes": 1,
                })).unwrap(),
            };
            let har = Har {
                creator: String::new(), browser: String::new(), pages: vec![page(0), page(1)],
                entries: starts.iter().map(entry).collect(), remarks: vec![],
            };
            let mut said: Vec<String> = har.steps().iter().flat_map(|s| {
                s.requests.iter().map(|r| format!("{} {}", r.url, (s.start_ms + r.start_ms).round())).collect::<Vec<_>>()
            }).collect();
            let mut wanted: Vec<String> = starts.iter().map(|(ms, _)| format!("http://a.example/{ms} {ms}")).collect();
            said.sort();
            wanted.sort();
            prop_assert_eq!(said, wanted);
        }

        #[test]
        fn reading_never_panics(cut in 0usize..1_400, with in "[{}\\[\\]\":,0-9a-z-]{0,6}", end in 0usize..1_400) {
            let keep = |i: usize| FOREIGN.get(..i).unwrap_or(FOREIGN);
            let rest = FOREIGN.get(end..).unwrap_or("");
            let _ = Har::read(&format!("{}{with}{rest}", keep(cut)));
        }
    }
}
