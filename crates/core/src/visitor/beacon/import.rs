//! Page views that were measured elsewhere: from archives of requests (HAR 1.2), from tables (CSV as in RFC 4180) and
//! from lines of JSON.
//!
//! Whatever the file, each page view becomes the object that a beacon would be, and is checked as one: the names of
//! columns are those of a beacon, with `at` as a moment with its zone or as milliseconds since 1970. An id that is not
//! given is made of what the line says, so that the same file brought twice changes nothing.

use crate::run::{Har, Request};
use crate::visitor::beacon::{Beacon, BeaconError};
use serde_json::{Map, Value, json};
use sha2::{Digest, Sha256};
use std::collections::BTreeSet;
use uuid::Uuid;

/// How page views lie in a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Format {
    /// An archive of requests (HAR 1.2).
    Har,
    /// A table (RFC 4180).
    Csv,
    /// One JSON object on each line.
    Lines,
}

impl Format {
    /// By the ending of a file's name.
    ///
    /// ```
    /// use cadentis_core::visitor::import::Format;
    /// assert_eq!(Format::of("loads.CSV"), Some(Format::Csv));
    /// assert_eq!(Format::of("loads.xls"), None);
    /// ```
    pub fn of(name: &str) -> Option<Format> {
        match name.rsplit('.').next()?.to_ascii_lowercase().as_str() {
            "har" => Some(Format::Har),
            "csv" => Some(Format::Csv),
            "ndjson" | "jsonl" => Some(Format::Lines),
            _ => None,
        }
    }
}

/// A page view as a file told it.
#[derive(Debug, Clone, PartialEq)]
pub struct FromFile {
    /// Where it stands in the file, in words.
    pub place: String,
    /// What it says.
    pub beacon: Beacon,
    /// ISO 3166 code, region, city: empty when the file does not say.
    pub country: String,
    /// Region; empty when it says none.
    pub region: String,
    /// City; empty when it says none.
    pub city: String,
    /// Name of the browser.
    pub browser: String,
    /// Name of the operating system.
    pub os: String,
}

/// What could be read of a file.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Imported {
    /// Page views, in the order of the file.
    pub told: Vec<FromFile>,
    /// What could not be read, each with its place and what is wrong.
    pub wrong: Vec<String>,
    /// Names that no beacon has; they were left out.
    pub ignored: BTreeSet<String>,
}

/// What holds for each page view that does not say otherwise: `device`, `country`, `release`, `environment`.
pub type Defaults = Map<String, Value>;

/// The most page views of one file.
pub const MOST: usize = 200_000;
/// So many wrong lines are told; after them the file is taken for something else.
pub const MOST_WRONG: usize = 200;

const NUMBERS: [&str; 14] = [
    "lcp",
    "inp",
    "cls",
    "fcp",
    "ttfb",
    "load",
    "dns",
    "connect",
    "errors",
    "lcp_delay",
    "lcp_fetch",
    "lcp_render",
    "long_frames",
    "seq",
];
const FLAGS: [&str; 3] = ["abandoned", "blank", "background"];
const TEXTS: [&str; 15] = [
    "url",
    "id",
    "visit",
    "device",
    "connection",
    "error",
    "how",
    "release",
    "environment",
    "person",
    "lcp_element",
    "cls_element",
    "inp_element",
    "inp_script",
    "at",
];
/// What a server knows of a visitor and a file has to tell.
const ASIDE: [&str; 5] = ["country", "region", "city", "browser", "os"];
const NESTED: [&str; 4] = ["attributes", "numbers", "happened", "sent"];

/// Columns of a table, as they may be called.
pub fn columns() -> Vec<&'static str> {
    let mut all: Vec<&str> = [&TEXTS[..], &NUMBERS, &FLAGS, &ASIDE].concat();
    all.sort_unstable();
    all
}

/// Reads a whole file.
pub fn read(format: Format, text: &str, defaults: &Defaults) -> Imported {
    let mut out = Imported::default();
    match format {
        Format::Har => from_har(text, defaults, &mut out),
        Format::Csv => from_csv(text, defaults, &mut out),
        Format::Lines => from_lines(text, defaults, &mut out),
    }
    out
}

impl Imported {
    /// `false` once there is no use in going on.
    fn goes_on(&mut self) -> bool {
        if self.told.len() >= MOST {
            self.wrong.push(format!("only the first {MOST} page views of a file are taken"));
            return false;
        }
        self.wrong.len() < MOST_WRONG
    }

    fn take(&mut self, mut object: Map<String, Value>, defaults: &Defaults, place: &str) {
        for (name, value) in defaults {
            object.entry(name.clone()).or_insert_with(|| value.clone());
        }
        let unknown = |name: &str| {
            ![&TEXTS[..], &NUMBERS, &FLAGS, &ASIDE, &NESTED].iter().any(|l| l.contains(&name))
        };
        let strange: Vec<String> = object.keys().filter(|name| unknown(name)).cloned().collect();
        for name in strange {
            object.remove(&name);
            self.ignored.insert(name.chars().take(60).collect());
        }
        match told(object, place) {
            Ok(told) => self.told.push(told),
            Err(e) => self.wrong.push(e.to_string()),
        }
    }
}

fn from_lines(text: &str, defaults: &Defaults, out: &mut Imported) {
    for (nth, line) in text.lines().enumerate().filter(|(_, line)| !line.trim().is_empty()) {
        if !out.goes_on() {
            return;
        }
        let place = format!("line {}", nth + 1);
        match serde_json::from_str::<Value>(line) {
            Ok(Value::Object(object)) => out.take(object, defaults, &place),
            Ok(_) => out.wrong.push(format!("{place}: not an object")),
            Err(e) => out.wrong.push(format!("{place}, column {}: no JSON", e.column())),
        }
    }
}

fn from_csv(text: &str, defaults: &Defaults, out: &mut Imported) {
    let mut reader = csv::ReaderBuilder::new().trim(csv::Trim::All).from_reader(text.as_bytes());
    let names: Vec<String> = match reader.headers() {
        Ok(names) => names.iter().map(str::to_string).collect(),
        Err(e) => return out.wrong.push(format!("line 1: {e}")),
    };
    if let Some(missing) = ["url", "at"].into_iter().find(|m| !names.iter().any(|n| n == m)) {
        return out.wrong.push(format!(
            "line 1: no column is called “{missing}”; they may be called {}",
            columns().join(", ")
        ));
    }
    let mut lines = Lines { text, byte: 0, line: 1 };
    for record in reader.records() {
        if !out.goes_on() {
            return;
        }
        match record {
            Ok(record) => {
                let place = format!("line {}", lines.at(record.position()));
                let mut object = Map::new();
                let told = names.iter().zip(record.iter()).filter(|(_, value)| !value.is_empty());
                told.for_each(|(name, value)| put(&mut object, name, value));
                out.take(object, defaults, &place);
            }
            Err(e) => out.wrong.push(format!("line {}: {}", lines.at(e.position()), says(&e))),
        }
    }
}

/// Counts lines as an editor does; the reader's own count lags behind where lines end with two characters.
struct Lines<'a> {
    text: &'a str,
    byte: usize,
    line: usize,
}

impl Lines<'_> {
    fn at(&mut self, position: Option<&csv::Position>) -> usize {
        let bytes = self.text.as_bytes();
        let mut to =
            position.map_or(self.byte, |p| (p.byte() as usize).clamp(self.byte, bytes.len()));
        // A record begins behind the end of the line before it.
        while bytes.get(to).is_some_and(|b| matches!(b, b'\r' | b'\n')) {
            to += 1;
        }
        self.line += bytes[self.byte..to].iter().filter(|b| **b == b'\n').count();
        self.byte = to;
        self.line
    }
}

fn says(e: &csv::Error) -> String {
    match e.kind() {
        csv::ErrorKind::UnequalLengths { expected_len, len, .. } => {
            format!("{len} values for {expected_len} columns")
        }
        _ => e.to_string(),
    }
}

/// A value of a table, as the kind that its column has; what is not of that kind stays a text and is told of later.
fn put(object: &mut Map<String, Value>, name: &str, value: &str) {
    let number =
        || value.parse::<f64>().ok().and_then(serde_json::Number::from_f64).map(Value::Number);
    let text = || Value::String(value.to_string());
    let flag = || match value.to_ascii_lowercase().as_str() {
        "true" | "1" | "yes" => Value::Bool(true),
        "false" | "0" | "no" => Value::Bool(false),
        _ => text(),
    };
    let mut nested = |of: &str, key: &str, value: Value| {
        let held = object.entry(of).or_insert_with(|| json!({}));
        if let Value::Object(held) = held {
            held.insert(key.to_string(), value);
        }
    };
    if let Some(key) = name.strip_prefix("attribute.") {
        nested("attributes", key, text());
    } else if let Some(key) = name.strip_prefix("number.") {
        nested("numbers", key, number().unwrap_or_else(text));
    } else {
        let value = match name {
            _ if NUMBERS.contains(&name) => number().unwrap_or_else(text),
            "at" => number().unwrap_or_else(text),
            _ if FLAGS.contains(&name) => flag(),
            _ => text(),
        };
        object.insert(name.to_string(), value);
    }
}

/// Whether scripts asked for it; the rest is a resource of the page.
fn is_call(request: &Request) -> bool {
    request.kind == "fetch"
}

fn from_har(text: &str, defaults: &Defaults, out: &mut Imported) {
    let har = match Har::read(text) {
        Ok(har) => har,
        Err(e) => return out.wrong.push(e.to_string()),
    };
    if har.pages.is_empty() {
        return out.wrong.push(
            "it has no pages, only requests: nothing in it says what a page view was".into(),
        );
    }
    for (nth, (page, own)) in har.pages.iter().zip(har.by_page()).enumerate() {
        if !out.goes_on() {
            return;
        }
        let place = format!("page {}", nth + 1);
        let mut asked: Vec<&Request> = own.into_iter().map(|e| &e.request).collect();
        asked.sort_by(|a, b| a.start_ms.total_cmp(&b.start_ms));
        let Some(document) = asked.first().copied() else {
            out.wrong.push(format!(
                "{place}: none of the requests belongs to it, so its address is not known"
            ));
            continue;
        };
        let p = &document.phases;
        let mut object = json!({
            "url": document.url,
            "at": page.started_at.as_millisecond(),
            "dns": p.dns_ms,
            "connect": p.connect_ms + p.tls_ms,
            "ttfb": document.start_ms.max(0.0) + p.queue_ms + p.dns_ms + p.connect_ms + p.tls_ms + p.request_ms + p.wait_ms,
            "happened": happened(&asked[1..]),
        });
        if let Value::Object(object) = &mut object {
            object.extend(page.load_ms.map(|ms| ("load".to_string(), json!(ms))));
            let browser = har.browser.split([' ', '/']).next().unwrap_or("");
            if !browser.is_empty() {
                object.insert("browser".into(), json!(browser));
            }
            out.take(std::mem::take(object), defaults, &place);
        }
    }
}

/// The failed, the calls and the slowest of the others, as many as a beacon may tell.
fn happened(asked: &[&Request]) -> Vec<Value> {
    let took = |r: &Request| {
        let p = &r.phases;
        p.queue_ms + p.dns_ms + p.connect_ms + p.tls_ms + p.request_ms + p.wait_ms + p.receive_ms
    };
    let failed = |r: &Request| r.status == 0 || r.status >= 400;
    let mut all: Vec<&&Request> = asked.iter().filter(|r| !r.url.starts_with("data:")).collect();
    all.sort_by(|a, b| {
        (failed(b), is_call(b)).cmp(&(failed(a), is_call(a))).then(took(b).total_cmp(&took(a)))
    });
    all.truncate(crate::visitor::beacon::MAX_HAPPENED);
    all.sort_by(|a, b| a.start_ms.total_cmp(&b.start_ms));
    let one = |r: &&Request| {
        let mut o = json!({"what": if is_call(r) { "request" } else { "resource" }, "at": r.start_ms.max(0.0), "name": r.url,
            "ms": took(r), "status": r.status, "bytes": r.bytes});
        if is_call(r) {
            o["method"] = json!(r.method);
        }
        o
    };
    all.into_iter().map(one).collect()
}

/// An id made of a text: always the same for the same text (UUID version 8, RFC 9562).
fn id_of(text: &str) -> Uuid {
    let hash = Sha256::digest(text.as_bytes());
    let mut bytes = [0; 16];
    bytes.copy_from_slice(&hash[..16]);
    uuid::Builder::from_custom_bytes(bytes).into_uuid()
}

fn told(mut object: Map<String, Value>, place: &str) -> Result<FromFile, BeaconError> {
    let wrong = |field: &str, says: &str| BeaconError {
        field: format!("{place}.{field}"),
        says: says.into(),
    };
    // Keys are in order, so the same line has the same text.
    let whole = Value::Object(object.clone()).to_string();
    let mut aside = |name: &str| match object.remove(name) {
        None | Some(Value::Null) => Ok(String::new()),
        Some(Value::String(s)) => {
            Ok(s.chars().filter(|c| !c.is_control()).take(60).collect::<String>())
        }
        Some(_) => Err(wrong(name, "not a text")),
    };
    let (country, region, city) = (aside("country")?, aside("region")?, aside("city")?);
    let (browser, os) = (aside("browser")?, aside("os")?);
    if !(country.is_empty()
        || country.len() == 2 && country.bytes().all(|b| b.is_ascii_alphabetic()))
    {
        return Err(wrong("country", "not a code of two letters, such as NO"));
    }
    if let Some(Value::String(at)) = object.get("at") {
        let at: jiff::Timestamp = at.parse().map_err(|_| {
            wrong(
                "at",
                "no moment: write 2026-11-22T08:30:00Z with its zone, or milliseconds since 1970",
            )
        })?;
        object.insert("at".into(), json!(at.as_millisecond()));
    }
    if !object.contains_key("sent") {
        object.extend(object.get("at").cloned().map(|at| ("sent".to_string(), at)));
    }
    object.entry("seq").or_insert_with(|| json!(1));
    object.entry("id").or_insert_with(|| json!(id_of(&whole)));
    match object.get("visit") {
        Some(Value::String(visit)) if Uuid::parse_str(visit).is_err() => {
            let id = id_of(&format!("visit {visit}"));
            object.insert("visit".into(), json!(id));
        }
        None => {
            let id = id_of(&format!("visit of {whole}"));
            object.insert("visit".into(), json!(id));
        }
        Some(_) => {}
    }
    let beacon = Beacon::of(&(&Value::Object(object)).into(), place)?;
    let country = country.to_ascii_uppercase();
    Ok(FromFile { place: place.into(), beacon, country, region, city, browser, os })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::visitor::Device;
    use proptest::prelude::*;

    fn defaults() -> Defaults {
        let Value::Object(map) = json!({"device": "desktop"}) else { unreachable!() };
        map
    }

    #[test]
    fn a_table_is_read_and_each_wrong_line_is_told_with_what_would_be_right() {
        let text = "url,at,lcp,device,country,abandoned,attribute.plan,number.cart,shoe\r\n\
            https://a.example/cabin?x=1,2026-11-22T08:30:00+01:00,2100.5,phone,no,false,\"gold, old\",3,42\r\n\
            https://a.example/,1795000000000,,,,,,,\r\n\
            https://a.example/,yesterday,,,,,,,\r\n\
            https://a.example/,2026-11-22T08:30:00Z,-1,,,,,,\r\n\
            https://a.example/,2026-11-22T08:30:00Z,2 s,,,,,,\r\n\
            https://a.example/,2026-11-22T08:30:00Z,,,Norway,,,,\r\n\
            https://a.example/\r\n";
        let read = read(Format::Csv, text, &defaults());
        assert_eq!(read.told.len(), 2, "{:?}", read.wrong);
        let first = &read.told[0];
        assert_eq!(
            (first.country.as_str(), first.beacon.device, first.beacon.lcp),
            ("NO", Device::Phone, Some(2100.5))
        );
        assert_eq!(first.beacon.at_ms, 1_795_332_600_000);
        assert_eq!(
            (first.beacon.more.attributes["plan"].as_str(), first.beacon.more.numbers["cart"]),
            ("gold, old", 3.0)
        );
        assert_eq!(
            (read.told[1].beacon.device, read.told[1].beacon.at_ms),
            (Device::Desktop, 1_795_000_000_000)
        );
        assert_eq!(read.ignored.iter().collect::<Vec<_>>(), ["shoe"]);
        assert_eq!(
            read.wrong,
            [
                "line 4.at: no moment: write 2026-11-22T08:30:00Z with its zone, or milliseconds since 1970",
                "line 5.lcp: negative",
                "line 6.lcp: not a number",
                "line 7.country: not a code of two letters, such as NO",
                "line 8: 1 values for 9 columns",
            ]
        );
        let nothing = super::read(Format::Csv, "address,time\na,b\n", &defaults());
        assert!(
            nothing.wrong[0].starts_with(
                "line 1: no column is called “url”; they may be called abandoned, at,"
            )
        );
    }

    #[test]
    fn lines_of_json_are_read_and_a_repeat_has_the_same_ids() {
        let line = r#"{"url":"https://a.example/pay","at":1795000000000,"device":"phone","visit":"s-77","lcp":900,"happened":[{"what":"request","at":5,"name":"https://a.example/api?k=1","ms":80,"status":503}]}"#;
        let other = line.replace("900", "901");
        let text = format!("{line}\n\n{other}\nnot json\n[1]\n{line}");
        let read = read(Format::Lines, &text, &Defaults::new());
        assert_eq!(read.wrong, ["line 4, column 2: no JSON", "line 5: not an object"]);
        let ids: Vec<Uuid> = read.told.iter().map(|t| t.beacon.id).collect();
        assert!(ids[0] == ids[2] && ids[0] != ids[1], "{ids:?}");
        assert_eq!(read.told[0].beacon.visit, read.told[1].beacon.visit, "the visit has a name");
        assert_eq!(read.told[0].beacon.more.happened[0].name, "https://a.example/api");
        assert_eq!(ids[0].get_version_num(), 8);
    }

    #[test]
    fn a_page_of_an_archive_becomes_a_page_view_with_what_it_asked_for() {
        let entry = |start: &str, url: &str, status: u16, mime: &str| {
            json!({"pageref": "p", "startedDateTime": start, "time": 60,
                "request": {"method": "GET", "url": url, "httpVersion": "h2", "headers": [], "queryString": [], "cookies": [], "headersSize": -1, "bodySize": 0},
                "response": {"status": status, "statusText": "", "httpVersion": "h2", "headers": [], "cookies": [], "redirectURL": "", "headersSize": -1, "bodySize": 500,
                    "content": {"size": 500, "mimeType": mime}},
                "cache": {}, "timings": {"blocked": 1, "dns": 10, "connect": 20, "ssl": 12, "send": 1, "wait": 25, "receive": 3}})
        };
        let har = json!({"log": {"version": "1.2", "creator": {"name": "x", "version": "1"}, "browser": {"name": "Firefox", "version": "140"},
        "pages": [{"id": "p", "title": "t", "startedDateTime": "2026-11-22T08:30:00.000Z", "pageTimings": {"onContentLoad": 300, "onLoad": 900}}],
        "entries": [
            entry("2026-11-22T08:30:00.000Z", "https://a.example/cabin?x=1", 200, "text/html"),
            entry("2026-11-22T08:30:00.100Z", "https://a.example/app.js", 200, "text/javascript"),
            entry("2026-11-22T08:30:00.200Z", "https://a.example/api", 503, "application/json"),
        ]}});
        let read = read(Format::Har, &har.to_string(), &defaults());
        assert_eq!(read.wrong, Vec::<String>::new());
        let told = &read.told[0];
        assert_eq!(
            (told.beacon.path(), told.beacon.load, told.browser.as_str()),
            ("/cabin?x=1", Some(900.0), "Firefox")
        );
        // ssl lies inside connect (HAR 1.2): 1 + 10 + 20 + 1 + 25.
        assert_eq!(
            (told.beacon.ttfb, told.beacon.dns, told.beacon.connect),
            (Some(57.0), Some(10.0), Some(20.0))
        );
        let says: Vec<_> =
            told.beacon.more.happened.iter().map(|h| (h.what.word(), h.at, h.status)).collect();
        assert_eq!(says, [("resource", 100.0, Some(200)), ("request", 200.0, Some(503))]);
    }

    proptest! {
        #[test]
        fn no_file_makes_the_reader_panic(text in "\\PC{0,200}|(url,at,lcp\n)?([a-z0-9\",\n]{0,120})", kind in 0..3usize) {
            let format = [Format::Har, Format::Csv, Format::Lines][kind];
            let read = read(format, &text, &defaults());
            prop_assert!(read.wrong.len() <= MOST_WRONG + 1);
        }
    }
}
