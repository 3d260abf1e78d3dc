//! What happened on a page view: requests its scripts made, errors, resources that failed or were slow, what the
//! visitor pressed, what the page itself told.

use crate::visitor::beacon::privacy::cut_query;
use serde::{Deserialize, Serialize};

/// What can happen on a page.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Happened {
    /// A request by fetch or XHR.
    Request,
    /// A script error or a rejection that nobody handled.
    Error,
    /// A picture, script, style or font: one that failed, or was among the slowest.
    Resource,
    /// An error that the page wrote on its console.
    Console,
    /// A phrase that must not appear, and did.
    Phrase,
    /// Something the visitor pressed, or an action that the page names.
    Action,
    /// An event that the page tells of.
    Event,
    /// Another view of a page that did not load anew.
    Route,
}

impl Happened {
    /// All of them.
    pub const ALL: [Happened; 8] = [
        Happened::Request,
        Happened::Error,
        Happened::Resource,
        Happened::Console,
        Happened::Phrase,
        Happened::Action,
        Happened::Event,
        Happened::Route,
    ];

    /// In one word, as it is filed.
    pub fn word(self) -> &'static str {
        match self {
            Happened::Request => "request",
            Happened::Error => "error",
            Happened::Resource => "resource",
            Happened::Console => "console",
            Happened::Phrase => "phrase",
            Happened::Action => "action",
            Happened::Event => "event",
            Happened::Route => "route",
        }
    }

    /// The one of this word.
    pub fn parse(word: &str) -> Option<Happened> {
        Happened::ALL.into_iter().find(|h| h.word() == word)
    }
}

/// One of them.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Happening {
    /// What it is.
    pub what: Happened,
    /// Milliseconds since the page view began.
    pub at: f64,
    /// Address without query (request, resource), text (error, console), name (action, event), key (phrase).
    pub name: String,
    /// How long it took, in milliseconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ms: Option<f64>,
    /// HTTP status; 0 when no answer came.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub status: Option<u16>,
    /// Bytes that came.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bytes: Option<f64>,
    /// Method of HTTP.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub method: String,
    /// The application's own error code.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub code: String,
    /// Id of the trace, 32 hexadecimal digits.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub trace: String,
    /// Where in the scripts, frame by frame.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub stack: String,
    /// Which action of the same page view led to it, counted from 0 among all that happened.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub by: Option<u16>,
    /// The visitor was without a network when it failed.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub offline: bool,
}

/// Whose fault a request is that failed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Fault {
    /// Without a network, or a request that the server rightly refuses (4xx).
    Visitor,
    /// Something before the back end: 502, 503, 504, or no answer at all.
    Gateway,
    /// The back end answered that it failed: another 5xx, or an error code of its own in a good answer.
    BackEnd,
    /// A host that is not the site's.
    ThirdParty,
}

impl Fault {
    /// All of them, in the order in which they are told.
    pub const ALL: [Fault; 4] = [Fault::Visitor, Fault::Gateway, Fault::BackEnd, Fault::ThirdParty];

    /// As people say it.
    pub fn words(self) -> &'static str {
        match self {
            Fault::Visitor => "visitor",
            Fault::Gateway => "gateway",
            Fault::BackEnd => "back end",
            Fault::ThirdParty => "third party",
        }
    }
}

impl Happening {
    /// One that begins so many milliseconds after the page view did.
    pub fn new(what: Happened, at: f64, name: impl Into<String>) -> Happening {
        Happening {
            what,
            at,
            name: name.into(),
            ms: None,
            status: None,
            bytes: None,
            method: String::new(),
            code: String::new(),
            trace: String::new(),
            stack: String::new(),
            by: None,
            offline: false,
        }
    }

    /// Whether it went wrong. (What a status means: RFC 9110, section 15; the rest common practice, no published
    /// source.)
    pub fn is_failed(&self) -> bool {
        match self.what {
            Happened::Request | Happened::Resource => {
                self.status.is_some_and(|s| s == 0 || s >= 400) || !self.code.is_empty()
            }
            Happened::Error | Happened::Console | Happened::Phrase => true,
            Happened::Action | Happened::Event | Happened::Route => false,
        }
    }

    /// Whose fault it is, if it is a request or resource that failed; `ours` says whether a host is the site's.
    pub fn fault(&self, ours: impl Fn(&str) -> bool) -> Option<Fault> {
        if !matches!(self.what, Happened::Request | Happened::Resource) || !self.is_failed() {
            return None;
        }
        if self.offline {
            return Some(Fault::Visitor);
        }
        if !ours(&crate::visitor::beacon::origin_host(&self.name)) {
            return Some(Fault::ThirdParty);
        }
        Some(match self.status.unwrap_or(200) {
            0 | 502..=504 => Fault::Gateway,
            400..=499 => Fault::Visitor,
            _ => Fault::BackEnd,
        })
    }

    /// The name under which those of its kind are gathered: numbers, ids and dates left open.
    pub fn family(&self) -> String {
        match self.what {
            Happened::Request => {
                format!("{} {}", self.method, folded(&self.name)).trim_start().to_string()
            }
            Happened::Resource => folded(&self.name),
            Happened::Error | Happened::Console => pattern(&self.name),
            Happened::Phrase | Happened::Action | Happened::Event => self.name.clone(),
            Happened::Route => folded(&self.name),
        }
    }

    /// Where in the scripts it went wrong: the innermost line of the stack, without host, line and column, so that a
    /// release that moves lines leaves the fingerprint alone.
    pub fn place(&self) -> String {
        self.stack.lines().find_map(frame).unwrap_or_default()
    }
}

/// `function file` of a line of a stack, as browsers write them: `at f (https://a.example/app.js:1:2)` or
/// `f@https://a.example/app.js:1:2`.
fn frame(line: &str) -> Option<String> {
    let line = line.trim();
    let (name, address) = match line.strip_prefix("at ") {
        Some(rest) => match rest.split_once(" (") {
            Some((name, address)) => (name, address.trim_end_matches(')')),
            None => ("", rest),
        },
        None => line.split_once('@')?,
    };
    let path = address.split_once("://").map_or(address, |(_, rest)| rest);
    let file = cut_query(path).trim_end_matches(|c: char| c.is_ascii_digit() || c == ':');
    // A script that stands in the page itself has the address of the page.
    let (_, file) = file.split_once('/')?;
    let file = file.rsplit('/').next().filter(|f| !f.is_empty()).unwrap_or("page");
    Some(format!("{name} {file}").trim_start().to_string())
}

/// An address with those of its segments left open that name one thing: numbers, ids, dates.
///
/// ```
/// use cadentis_core::visitor::happening::folded;
/// assert_eq!(folded("https://a.example/sailings/2026-11-23/4711?x=1"), "a.example/sailings/‹date›/‹n›");
/// ```
pub fn folded(address: &str) -> String {
    let rest = address.split_once("://").map_or(address, |(_, rest)| rest);
    let parts: Vec<String> =
        cut_query(rest).split('/').enumerate().map(|(i, s)| segment(i, s)).collect();
    parts.join("/")
}

fn segment(nth: usize, text: &str) -> String {
    // The host stays as it is.
    if nth == 0 || text.is_empty() {
        return text.to_string();
    }
    let digits = text.bytes().filter(u8::is_ascii_digit).count();
    let letters = text.bytes().filter(u8::is_ascii_alphabetic).count();
    if is_date(text) {
        return "‹date›".into();
    }
    if digits > 0 && letters == 0 {
        return "‹n›".into();
    }
    let hex = text.bytes().all(|b| b.is_ascii_hexdigit() || b == b'-');
    // Codes of bookings and the like: capitals and digits together.
    let code = digits > 0 && text.bytes().all(|b| b.is_ascii_uppercase() || b.is_ascii_digit());
    if digits > 0 && (code || hex && text.len() >= 8) {
        return "‹id›".into();
    }
    text.to_string()
}

fn is_date(text: &str) -> bool {
    let bytes = text.as_bytes();
    bytes.len() == 10
        && bytes
            .iter()
            .enumerate()
            .all(|(i, b)| if i == 4 || i == 7 { *b == b'-' } else { b.is_ascii_digit() })
}

/// The text with addresses, ids and numbers left open, and without what browsers put before it.
pub fn pattern(text: &str) -> String {
    let text = text.trim().trim_start_matches("Uncaught ");
    let words = text.split_whitespace().map(|word| {
        if word.contains("://") {
            return "‹address›".to_string();
        }
        let mut out = String::new();
        let mut run = String::new();
        let close = |run: &mut String, out: &mut String| {
            let digits = run.chars().filter(char::is_ascii_digit).count();
            // Digits alone are a number, however many.
            let id = run.chars().all(|c| c.is_ascii_hexdigit() || c == '-')
                && run.contains(|c: char| c.is_ascii_alphabetic())
                && run.len() >= 8;
            match (digits, id) {
                (0, _) => out.push_str(run),
                (_, true) => out.push_str("‹id›"),
                _ => out.push_str(&without_numbers(run)),
            }
            run.clear();
        };
        for c in word.chars() {
            if c.is_alphanumeric() || c == '-' {
                run.push(c);
            } else {
                close(&mut run, &mut out);
                out.push(c);
            }
        }
        close(&mut run, &mut out);
        out
    });
    words.collect::<Vec<_>>().join(" ")
}

fn without_numbers(run: &str) -> String {
    let mut out = String::new();
    for c in run.chars() {
        match c.is_ascii_digit() {
            true if out.ends_with("‹n›") => {}
            true => out.push_str("‹n›"),
            false => out.push(c),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_that_differ_by_numbers_ids_and_dates_are_of_one_family() {
        for (address, want) in [
            ("https://a.example/api/sailings?from=x", "a.example/api/sailings"),
            ("https://a.example/api/sailings/12/berths/7", "a.example/api/sailings/‹n›/berths/‹n›"),
            ("https://a.example/booking/K7Q2/pass", "a.example/booking/‹id›/pass"),
            ("/booking/0192f0c4-0000-7000-8000-000000000001", "/booking/‹id›"),
            ("/v2/map.js", "/v2/map.js"),
            ("/day/2026-11-24", "/day/‹date›"),
            ("127.0.0.1:80/x", "127.0.0.1:80/x"),
        ] {
            assert_eq!(folded(address), want);
        }
    }

    #[test]
    fn whose_fault_a_failed_request_is_follows_from_who_answered_what() {
        let request = |url: &str, status: u16| Happening {
            status: Some(status),
            method: "GET".into(),
            ..Happening::new(Happened::Request, 1.0, url)
        };
        let ours = |host: &str| host == "a.example";
        for (url, status, want) in [
            ("https://a.example/x", 200, None),
            ("https://a.example/x", 404, Some(Fault::Visitor)),
            ("https://a.example/x", 503, Some(Fault::Gateway)),
            ("https://a.example/x", 0, Some(Fault::Gateway)),
            ("https://a.example/x", 500, Some(Fault::BackEnd)),
            ("https://map.example/x", 503, Some(Fault::ThirdParty)),
        ] {
            assert_eq!(request(url, status).fault(ours), want, "{url} {status}");
        }
        assert_eq!(
            Happening { offline: true, ..request("https://a.example/x", 0) }.fault(ours),
            Some(Fault::Visitor)
        );
        let coded = Happening { code: "NO_BERTH".into(), ..request("https://a.example/x", 200) };
        assert_eq!(coded.fault(ours), Some(Fault::BackEnd), "a good answer that says it failed");
        assert_eq!(Happening::new(Happened::Error, 1.0, "x").fault(ours), None);
    }

    #[test]
    fn the_place_of_an_error_is_its_innermost_line_without_numbers_in_either_spelling() {
        let of = |stack: &str| {
            Happening { stack: stack.into(), ..Happening::new(Happened::Error, 0.0, "x") }.place()
        };
        assert_eq!(
            of("TypeError: x\n    at show (https://a.example/s/app.js?v=3:12:7)\n    at b.js:1:1"),
            "show app.js"
        );
        assert_eq!(
            of("show@https://a.example/s/app.js:12:7\n@https://a.example/:1:1"),
            "show app.js"
        );
        assert_eq!(of("TypeError: x\n    at https://a.example/s/app.js:12:7"), "app.js");
        assert_eq!(of("E\n    at go (https://a.example/:9:103)"), "go page");
        assert_eq!(of("no stack"), "");
    }
}
