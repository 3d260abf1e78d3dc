//! Beacons: what the snippet sends about one page view, checked on the way in.
//!
//! One page view may send several beacons (at load, when hidden); each carries all that is known,
//! the same `id` and a higher `seq`. The last one wins; a repeat changes nothing.

pub mod collecting;
pub mod family;
mod fields;
pub mod import;
pub mod privacy;

use crate::calendar::stretch::at_second;
use crate::text::clean;
use crate::visitor::happening::{Happened, Happening};
use fields::Fields;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use serde_json_borrow::{ObjectAsVec, Value};
use std::borrow::Cow;
use std::collections::BTreeMap;
use std::net::IpAddr;
use uuid::Uuid;

/// A beacon as it came, every field checked.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Beacon {
    /// Of the page view.
    pub id: Uuid,
    /// Its place in the visit, from 1.
    pub seq: i32,
    /// When the navigation began, by the visitor's clock.
    pub at_ms: i64,
    /// When the beacon was sent, by the same clock.
    pub sent_ms: i64,
    /// The visit.
    pub visit: Uuid,
    /// The page's address without fragment; see [`Beacon::cut`] for its query.
    pub url: String,
    /// Kind of device.
    pub device: Device,
    /// Kind of connection, as the browser tells it.
    pub connection: String,
    /// Milliseconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lcp: Option<f64>,
    /// Milliseconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub inp: Option<f64>,
    /// No unit.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cls: Option<f64>,
    /// Milliseconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fcp: Option<f64>,
    /// Milliseconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ttfb: Option<f64>,
    /// Navigation start to the end of the load event; `None` when it was left before.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub load: Option<f64>,
    /// Looking up the name, in milliseconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub dns: Option<f64>,
    /// Connecting, in milliseconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub connect: Option<f64>,
    /// Left before the load event.
    pub abandoned: bool,
    /// Nothing was painted by the time it was left.
    pub blank: bool,
    /// Script errors.
    pub errors: i32,
    /// Text of the first script error.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub error: Option<String>,
    /// What only some snippets tell.
    #[serde(default, skip_serializing_if = "More::is_nothing")]
    pub more: More,
}

/// What newer snippets tell besides, all of it optional.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct More {
    /// How the page came to be shown; empty for an ordinary load.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub how: String,
    /// Opened in a tab that was not looked at.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub background: bool,
    /// Version of the site.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub release: String,
    /// Such as production.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub environment: String,
    /// Given by the page; only a hash of it is stored.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub person: String,
    /// Rows of before this name was given are read for the days they have left.
    #[serde(alias = "labels", skip_serializing_if = "BTreeMap::is_empty")]
    pub attributes: BTreeMap<String, String>,
    /// Numbers of the site's own.
    #[serde(alias = "figures", skip_serializing_if = "BTreeMap::is_empty")]
    pub numbers: BTreeMap<String, f64>,
    /// Which element was the largest, moved most, answered late.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub lcp_element: String,
    /// What shifted most.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub cls_element: String,
    /// What was interacted with.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub inp_element: String,
    /// Which script kept the slow answer waiting longest.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub inp_script: String,
    /// The three parts of LCP after the first byte, in milliseconds.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub lcp_delay: Option<f64>,
    /// Milliseconds of LCP spent loading it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub lcp_fetch: Option<f64>,
    /// Milliseconds of LCP spent until it was drawn.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub lcp_render: Option<f64>,
    /// Milliseconds of frames that took longer than 50 ms, before the page had loaded.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub long_frames: Option<f64>,
    /// What happened on the page.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub happened: Vec<Happening>,
}

impl More {
    fn is_nothing(&self) -> bool {
        *self == More::default()
    }
}

/// What is stored of one page view: a beacon with what the server knows, and nothing personal.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct PageView {
    /// What the page told.
    pub beacon: Beacon,
    /// When it began.
    pub at: Timestamp,
    /// When it arrived.
    pub received_at: Timestamp,
    /// Page family.
    pub family: String,
    /// Path of the address, without what could tell of a person.
    pub path: String,
    /// The visitor's address, with its end cut off.
    pub ip: IpAddr,
    /// ISO 3166 code.
    pub country: String,
    /// Region; empty when unknown.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub region: String,
    /// City; empty when unknown.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub city: String,
    /// Name of the browser.
    pub browser: Cow<'static, str>,
    /// Name of the operating system.
    pub os: Cow<'static, str>,
    /// Hash of the id that the page gave for the person; 0 when it gave none.
    #[serde(default)]
    pub person: u64,
}

/// Kind of device.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Device {
    /// Held in one hand.
    Phone,
    /// Held in both.
    Tablet,
    /// On a desk.
    Desktop,
}

impl Device {
    /// All of them.
    pub const ALL: [Device; 3] = [Device::Phone, Device::Tablet, Device::Desktop];

    /// In one word.
    pub fn word(self) -> &'static str {
        match self {
            Device::Phone => "phone",
            Device::Tablet => "tablet",
            Device::Desktop => "desktop",
        }
    }
}

/// What is wrong with a beacon: which field, and what would be right.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{field}: {says}")]
pub struct BeaconError {
    /// The field.
    pub field: String,
    /// What is wrong with it.
    pub says: String,
}

fn wrong(field: impl Into<String>, says: impl Into<String>) -> BeaconError {
    BeaconError { field: field.into(), says: says.into() }
}

/// The most beacons in one batch.
pub const MAX_BATCH: usize = 100;
/// The longest body of one batch, in bytes.
pub const MAX_BYTES: usize = 64 * 1024;
/// The most attributes, and the most numbers, of a page view; and how long a name and a value may be.
pub const MAX_ATTRIBUTES: usize = 10;
/// Names of a site's own are no longer than this.
pub const MAX_NAME: usize = 30;
const MAX_VALUE: usize = 60;
/// The longest address of a page that is kept.
const MAX_URL: usize = 1_000;
/// The longest name of a host (RFC 1035, section 2.3.4).
const MAX_HOST: usize = 253;
/// The most that is told of what happened on a page view.
pub const MAX_HAPPENED: usize = 80;
/// No timing of a page view is longer than an hour.
const MAX_MS: f64 = 3_600_000.0;
/// A page is not reported about for longer than this after it was opened.
const MAX_OPEN_MS: i64 = 48 * 3_600_000;

impl Beacon {
    /// Reads the body of a request: one beacon, or an array of them.
    ///
    /// # Errors
    /// The first field that is missing or out of range, named as in `beacon[3].lcp`.
    pub fn read(body: &[u8]) -> Result<Vec<Beacon>, BeaconError> {
        let value: Value = serde_json::from_slice(body).map_err(|e| {
            wrong("body", format!("no JSON: line {}, column {}", e.line(), e.column()))
        })?;
        match value {
            Value::Array(all) if all.is_empty() => Err(wrong("body", "an empty array")),
            Value::Array(all) if all.len() > MAX_BATCH => {
                Err(wrong("body", format!("{} beacons; at most {MAX_BATCH}", all.len())))
            }
            Value::Array(all) => all
                .iter()
                .enumerate()
                .map(|(i, v)| Beacon::of(v, &format!("beacon[{i}]")))
                .collect(),
            one => Ok(vec![Beacon::of(&one, "beacon")?]),
        }
    }

    pub(super) fn of(value: &Value<'_>, place: &str) -> Result<Beacon, BeaconError> {
        let map = value.as_object().ok_or_else(|| wrong(place, "not an object"))?;
        let fields = Fields { map, place };
        let url = clean(fields.text("url")?.split('#').next().unwrap_or(""), MAX_URL, None);
        if !(url.starts_with("http://") || url.starts_with("https://")) || host(&url).is_empty() {
            return Err(wrong(
                fields.place_of("url"),
                "not an address that begins with http:// or https://",
            ));
        }
        // 2000 to 2100: the visitor's clock may be wrong, but must be a clock.
        let clock = |name: &str| fields.whole(name, 946_684_800_000, 4_102_444_800_000);
        let (at_ms, sent_ms) = (clock("at")?, clock("sent")?);
        if !(0..=MAX_OPEN_MS).contains(&(sent_ms - at_ms)) {
            return Err(wrong(fields.place_of("sent"), "not within the 48 hours after `at`"));
        }
        let error = privacy::cut_queries(&fields.short("error", 300)?);
        Ok(Beacon {
            id: fields.id("id")?,
            seq: fields.whole("seq", 0, 1_000)? as i32,
            at_ms,
            sent_ms,
            visit: fields.id("visit")?,
            url,
            device: match fields.text("device")? {
                "phone" => Device::Phone,
                "tablet" => Device::Tablet,
                "desktop" => Device::Desktop,
                _ => return Err(wrong(fields.place_of("device"), "not phone, tablet or desktop")),
            },
            connection: fields.short("connection", 16)?,
            lcp: fields.number("lcp", MAX_MS)?,
            inp: fields.number("inp", MAX_MS)?,
            cls: fields.number("cls", 1_000.0)?,
            fcp: fields.number("fcp", MAX_MS)?,
            ttfb: fields.number("ttfb", MAX_MS)?,
            load: fields.number("load", MAX_MS)?,
            dns: fields.number("dns", MAX_MS)?,
            connect: fields.number("connect", MAX_MS)?,
            abandoned: fields.flag("abandoned")?,
            blank: fields.flag("blank")?,
            errors: if map.contains_key("errors") {
                fields.whole("errors", 0, 10_000)? as i32
            } else {
                0
            },
            error: (!error.is_empty()).then(|| error.clone()),
            more: More {
                happened: with_error(happened(map, place)?, &error),
                how: fields.short("how", 16)?,
                background: fields.flag("background")?,
                release: fields.short("release", 40)?,
                environment: fields.short("environment", 40)?,
                person: fields.short("person", 200)?,
                attributes: attributes(map, place)?,
                numbers: numbers(map, place)?,
                lcp_element: fields.short("lcp_element", 120)?,
                cls_element: fields.short("cls_element", 120)?,
                inp_element: fields.short("inp_element", 120)?,
                inp_script: privacy::cut_query(&fields.short("inp_script", 300)?).to_string(),
                lcp_delay: fields.number("lcp_delay", MAX_MS)?,
                lcp_fetch: fields.number("lcp_fetch", MAX_MS)?,
                lcp_render: fields.number("lcp_render", MAX_MS)?,
                long_frames: fields.number("long_frames", MAX_MS)?,
            },
        })
    }

    /// The beacon without what the page said of who it was.
    pub fn without_person(mut self) -> Beacon {
        self.more.person.clear();
        self
    }

    /// The page's host name without port, in lower case.
    pub fn host(&self) -> String {
        host(&self.url)
    }

    /// The beacon with only these query parameters left in its address.
    pub fn cut(mut self, keep: &[String]) -> Beacon {
        self.url = privacy::keep_query(&self.url, keep);
        self
    }

    /// Path of the address.
    pub fn path(&self) -> &str {
        let rest = self.url.split_once("://").map_or("", |(_, rest)| rest);
        rest.find('/').map_or("/", |at| &rest[at..])
    }

    /// When the navigation began, by our clock.
    ///
    /// The visitor's clock is set right by how far `sent` is from the moment of receipt, rounded to
    /// ten minutes: a right clock is left alone to the millisecond, a wrong one is moved by the
    /// same amount for every beacon of the page view, so that repeats still meet.
    pub fn at(&self, received: Timestamp) -> Timestamp {
        const STEP: i64 = 600_000;
        let off = received.as_millisecond() - self.sent_ms;
        let moved = (off + STEP / 2).div_euclid(STEP) * STEP;
        let at = (self.at_ms + moved).min(received.as_millisecond());
        Timestamp::from_millisecond(at).unwrap_or_else(|_| at_second(0))
    }
}

/// Whether an attribute or number may be called so: a letter, then letters, digits, `-` and `_`.
pub fn is_attribute_name(name: &str) -> bool {
    name.len() <= MAX_NAME
        && name.starts_with(|c: char| c.is_ascii_alphabetic())
        && name.chars().all(|c| c.is_ascii_alphanumeric() || c == '-' || c == '_')
}

/// An object of at most [`MAX_ATTRIBUTES`] well-named entries: their place, name and value.
fn named<'a>(
    map: &'a ObjectAsVec<'_>,
    field: &str,
    place: &str,
) -> Result<impl Iterator<Item = (String, &'a str, &'a Value<'a>)>, BeaconError> {
    let at = format!("{place}.{field}");
    let entries = match map.get(field) {
        None | Some(Value::Null) => None,
        Some(Value::Object(entries)) => Some(entries),
        Some(_) => return Err(wrong(at, "not an object")),
    };
    if let Some(n) = entries.map(ObjectAsVec::len).filter(|n| *n > MAX_ATTRIBUTES) {
        return Err(wrong(at, format!("{n} of them; at most {MAX_ATTRIBUTES}")));
    }
    let entries = entries.map(ObjectAsVec::iter).into_iter().flatten();
    let entries: Vec<(&str, &Value<'_>)> = entries.collect();
    if let Some((name, _)) = entries.iter().find(|(name, _)| !is_attribute_name(name)) {
        let name = clean(name, MAX_NAME, None);
        return Err(wrong(
            at,
            format!("“{name}” is no name: a letter, then letters, digits, - and _, at most 30"),
        ));
    }
    Ok(entries.into_iter().map(move |(name, value)| (format!("{at}.{name}"), name, value)))
}

fn attributes(map: &ObjectAsVec<'_>, place: &str) -> Result<BTreeMap<String, String>, BeaconError> {
    let read = |(at, name, value): (String, &str, &Value<'_>)| match value {
        Value::Str(s) => Ok((name.to_string(), clean(s, MAX_VALUE, None))),
        Value::Bool(b) => Ok((name.to_string(), b.to_string())),
        _ => Err(wrong(at, "neither a text nor true or false")),
    };
    named(map, "attributes", place)?.map(read).collect()
}

fn numbers(map: &ObjectAsVec<'_>, place: &str) -> Result<BTreeMap<String, f64>, BeaconError> {
    let read = |(at, name, value): (String, &str, &Value<'_>)| {
        let number = value
            .as_f64()
            .filter(|n| n.abs() <= 1e15)
            .ok_or_else(|| wrong(at, "not a number up to 1e15"))?;
        Ok((name.to_string(), number))
    };
    named(map, "numbers", place)?.map(read).collect()
}

fn happened(map: &ObjectAsVec<'_>, place: &str) -> Result<Vec<Happening>, BeaconError> {
    let all = match map.get("happened") {
        None | Some(Value::Null) => return Ok(Vec::new()),
        Some(Value::Array(all)) if all.len() <= MAX_HAPPENED => all,
        Some(Value::Array(all)) => {
            return Err(wrong(
                format!("{place}.happened"),
                format!("{} of them; at most {MAX_HAPPENED}", all.len()),
            ));
        }
        Some(_) => return Err(wrong(format!("{place}.happened"), "not an array")),
    };
    all.iter()
        .enumerate()
        .map(|(i, one)| happening(one, &format!("{place}.happened[{i}]")))
        .collect()
}

/// Older snippets tell the first script error by its text alone: it happened all the same.
fn with_error(mut happened: Vec<Happening>, error: &str) -> Vec<Happening> {
    if !error.is_empty() && !happened.iter().any(|h| h.what == Happened::Error) {
        happened.push(Happening::new(Happened::Error, 0.0, error));
    }
    happened
}

fn happening(value: &Value<'_>, place: &str) -> Result<Happening, BeaconError> {
    let map = value.as_object().ok_or_else(|| wrong(place, "not an object"))?;
    let field = |name: &str| format!("{place}.{name}");
    let text = |name: &str, most: usize| match map.get(name) {
        None | Some(Value::Null) => Ok(String::new()),
        // A stack has lines.
        Some(Value::Str(s)) => Ok(clean(s, most, Some('\n'))),
        Some(_) => Err(wrong(field(name), "not a text")),
    };
    let number = |name: &str, most: f64| match map.get(name) {
        None | Some(Value::Null) => Ok(None),
        Some(v) => match v.as_f64() {
            Some(n) if (0.0..=most).contains(&n) => Ok(Some(n)),
            Some(n) => Err(wrong(field(name), format!("{n} is not from 0 to {most}"))),
            None => Err(wrong(field(name), "not a number")),
        },
    };
    let what = text("what", 20)?;
    let what = Happened::parse(&what).ok_or_else(|| {
        let known: Vec<&str> = Happened::ALL.iter().map(|h| h.word()).collect();
        wrong(field("what"), format!("“{what}” is none of {}", known.join(", ")))
    })?;
    let name: String = text("name", 300)?;
    let name = match what {
        Happened::Request | Happened::Resource | Happened::Route => {
            privacy::cut_query(&name).to_string()
        }
        _ => privacy::cut_queries(&name),
    };
    let trace = text("trace", 32)?;
    if !(trace.is_empty() || trace.len() == 32 && trace.bytes().all(|b| b.is_ascii_hexdigit())) {
        return Err(wrong(field("trace"), "not 32 hexadecimal digits"));
    }
    Ok(Happening {
        ms: number("ms", MAX_MS)?,
        status: number("status", 999.0)?.map(|n| n as u16),
        bytes: number("bytes", 1e12)?,
        method: text("method", 10)?,
        code: text("code", 40)?,
        stack: privacy::cut_queries(&text("stack", 1_000)?),
        by: number("by", MAX_HAPPENED as f64)?.map(|n| n as u16),
        offline: map.get("offline").is_some_and(|v| v == &Value::Bool(true)),
        trace,
        ..Happening::new(what, number("at", MAX_OPEN_MS as f64)?.unwrap_or(0.0), name)
    })
}

fn host(url: &str) -> String {
    let rest = url.split_once("://").map_or("", |(_, rest)| rest);
    let authority = rest.split(['/', '?', '#']).next().unwrap_or("");
    let host = authority.rsplit('@').next().unwrap_or("");
    clean(host.split(':').next().unwrap_or(""), MAX_HOST, None).to_ascii_lowercase()
}

/// Whether a host name belongs to a site: one of its domains or below one.
pub fn owns(domains: &[String], host: &str) -> bool {
    let host = host.split(':').next().unwrap_or("");
    domains
        .iter()
        .any(|d| host == d || host.strip_suffix(d.as_str()).is_some_and(|h| h.ends_with('.')))
}

/// The host name in an `Origin` header, without port.
pub fn origin_host(origin: &str) -> String {
    host(origin)
}

/// Browser family by its user agent string. Order matters: most browsers claim to be others too.
pub fn browser(user_agent: &str) -> &'static str {
    let has = |s: &str| user_agent.contains(s);
    match () {
        () if has("Edg/") => "Edge",
        () if has("OPR/") => "Opera",
        () if has("SamsungBrowser/") => "Samsung Internet",
        () if has("Firefox/") || has("FxiOS/") => "Firefox",
        () if has("Chrome/") || has("CriOS/") || has("Chromium/") => "Chrome",
        () if has("Safari/") => "Safari",
        () => "Other",
    }
}

/// Operating system by the user agent string.
pub fn os(user_agent: &str) -> &'static str {
    let has = |s: &str| user_agent.contains(s);
    match () {
        () if has("Android") => "Android",
        () if has("iPhone") || has("iPad") => "iOS",
        () if has("Windows") => "Windows",
        () if has("Mac OS X") => "macOS",
        () if has("CrOS") => "ChromeOS",
        () if has("Linux") => "Linux",
        () => "Other",
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use serde_json::{Map, Value, json};

    fn good() -> Value {
        json!({
            "id": "0192f0c4-0000-7000-8000-000000000001", "seq": 1, "at": 1_795_000_000_000i64, "sent": 1_795_000_004_000i64,
            "visit": "0192f0c4-0000-7000-8000-000000000002", "url": "https://book.marram.example/sailings?from=SKA#x",
            "device": "phone", "connection": "4g", "lcp": 2100.5, "cls": 0.02, "errors": 1, "error": "x is not a function"
        })
    }

    fn read(value: &Value) -> Result<Beacon, String> {
        Beacon::read(value.to_string().as_bytes())
            .map(|mut b| b.remove(0))
            .map_err(|e| e.to_string())
    }

    #[test]
    fn a_beacon_is_read_and_its_query_cut() {
        let b = read(&good()).unwrap().cut(&[]);
        assert_eq!(
            (b.url.as_str(), b.path(), b.host().as_str()),
            ("https://book.marram.example/sailings", "/sailings", "book.marram.example")
        );
        assert_eq!((b.lcp, b.inp, b.errors), (Some(2100.5), None, 1));
    }

    #[test]
    fn each_wrong_field_is_named_with_what_is_wrong() {
        for (field, value, want) in [
            ("lcp", json!(-1), "beacon.lcp: negative"),
            ("lcp", json!("2"), "beacon.lcp: not a number"),
            ("cls", json!(5000), "beacon.cls: 5000 is over 1000"),
            ("id", json!("x"), "beacon.id: not a UUID"),
            ("device", json!("fridge"), "beacon.device: not phone, tablet or desktop"),
            (
                "url",
                json!("javascript:alert(1)"),
                "beacon.url: not an address that begins with http:// or https://",
            ),
            ("at", json!(0), "beacon.at: 0 is not from 946684800000 to 4102444800000"),
            ("visit", Value::Null, "beacon.visit: not a text"),
            (
                "sent",
                json!(1_794_999_999_999i64),
                "beacon.sent: not within the 48 hours after `at`",
            ),
            ("attributes", json!([1]), "beacon.attributes: not an object"),
            (
                "attributes",
                json!({"plan": 3}),
                "beacon.attributes.plan: neither a text nor true or false",
            ),
            ("numbers", json!({"cart": "3"}), "beacon.numbers.cart: not a number up to 1e15"),
            (
                "happened",
                json!([{"what": "dance"}]),
                "beacon.happened[0].what: “dance” is none of request, error, resource, console, phrase, action, event, route",
            ),
            (
                "happened",
                json!([{"what": "request", "ms": -2}]),
                "beacon.happened[0].ms: -2 is not from 0 to 3600000",
            ),
            (
                "happened",
                json!([{"what": "request", "trace": "xyz"}]),
                "beacon.happened[0].trace: not 32 hexadecimal digits",
            ),
        ] {
            let mut b = good();
            b[field] = value;
            assert_eq!(read(&b).unwrap_err(), want);
        }
        let mut b = good();
        b["attributes"] =
            (0..10_000).map(|i| (format!("l{i}"), json!("x"))).collect::<Map<_, _>>().into();
        assert_eq!(read(&b).unwrap_err(), "beacon.attributes: 10000 of them; at most 10");
        b["attributes"] = json!({"<b>": "x"});
        assert!(read(&b).unwrap_err().starts_with("beacon.attributes: “<b>” is no name"));
        b["attributes"] = Value::Null;
        b["happened"] = vec![json!({"what": "event", "name": "x"}); MAX_HAPPENED + 1].into();
        assert_eq!(read(&b).unwrap_err(), "beacon.happened: 81 of them; at most 80");
        let two = json!([good(), 7]).to_string();
        assert_eq!(
            Beacon::read(two.as_bytes()).unwrap_err().to_string(),
            "beacon[1]: not an object"
        );
        assert_eq!(Beacon::read(b"{").unwrap_err().field, "body");
    }

    #[test]
    fn what_is_stored_of_a_page_view_is_read_back_and_addresses_of_requests_lose_their_query() {
        let mut b = good();
        b["attributes"] = json!({"plan": "gold", "signed-in": true});
        b["numbers"] = json!({"cart": 3.5});
        b["happened"] = json!([
            {"what": "action", "at": 900, "name": "button#search"},
            {"what": "request", "at": 950, "name": "https://a.example/api?token=1", "method": "GET", "ms": 80.5,
             "status": 503, "code": "BUSY", "trace": "0af7651916cd43dd8448eb211c80319c", "by": 0},
        ]);
        let beacon = read(&b).unwrap();
        assert_eq!(beacon.more.happened[1].name, "https://a.example/api");
        assert_eq!(beacon.more.attributes["signed-in"], "true");
        let view = PageView {
            at: beacon.at(at_second(1_795_000_010)),
            received_at: at_second(1_795_000_010),
            family: "Sailings".into(),
            path: beacon.path().into(),
            ip: "198.51.100.0".parse().unwrap(),
            country: "NO".into(),
            region: String::new(),
            city: "Oslo".into(),
            browser: "Chrome".into(),
            os: "Android".into(),
            person: 7,
            beacon,
        };
        let stored = serde_json::to_string(&view).unwrap();
        assert_eq!(serde_json::from_str::<PageView>(&stored).unwrap(), view);
    }

    #[test]
    fn a_right_clock_is_left_alone_and_a_wrong_one_moved_alike_for_every_beacon() {
        let b = read(&good()).unwrap();
        let received = |late: i64| Timestamp::from_millisecond(b.sent_ms + late).unwrap();
        assert_eq!(b.at(received(80)).as_millisecond(), b.at_ms);
        let hour = 3_600_000;
        assert_eq!(b.at(received(hour + 80)).as_millisecond(), b.at_ms + hour);
        assert_eq!(b.at(received(hour + 9_000)), b.at(received(hour + 80)));
    }

    proptest! {
        #[test]
        fn no_body_makes_the_reader_panic(body in prop::collection::vec(any::<u8>(), 0..200)) {
            let _ = Beacon::read(&body);
        }

        #[test]
        fn no_value_in_any_field_makes_the_reader_panic(
            field in prop::sample::select(vec!["id", "seq", "at", "sent", "visit", "url", "device", "lcp", "errors", "error", "blank"]),
            number: f64, text in ".{0,40}", kind in 0..3,
        ) {
            let mut b = good();
            b[field] = match kind { 0 => json!(number), 1 => json!(text), _ => json!([number]) };
            let _ = read(&b);
        }
    }
}
