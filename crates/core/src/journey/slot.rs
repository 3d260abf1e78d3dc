//! The places in a sentence that the writer fills: what may stand there, and reading it.

use super::element::{By, Element, Ladder, ROLES};
use super::line::{ScriptError, Token, Words};
use super::text;
use crate::timing::Vital;

/// An hour: no budget of a page is longer.
const MAX_MS: u64 = 3_600_000;
const MAX_BYTES: u64 = 100_000_000;

/// A kind of place, with how it is written in the reference.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Slot {
    /// A name shown in tables and lanes: 1 to 80 characters.
    Name(&'static str),
    /// Any text, in quotes: what it is.
    Text(&'static str),
    /// An element of the page.
    Element,
    /// An address.
    Address,
    /// A time, such as 2.5 s.
    Duration,
    /// A size, such as 500 KB.
    Size,
    /// A status of HTTP.
    Status,
    /// A whole number.
    Count,
    /// A number of days.
    Days,
    /// A number.
    Number,
    /// A limit of the layout shift: 0 to 10 in steps of 0.0001.
    Score,
    /// A vital that is a time.
    Vital,
    /// A name for a value.
    Variable,
    /// Keys, such as Control+A.
    Keys,
    /// A method of HTTP.
    Method,
    /// A host name.
    Host,
    /// A host name and a port.
    HostPort,
    /// A path into JSON.
    JsonPath,
    /// A sentence of its own.
    Act,
}

/// What stood in a slot.
#[derive(Debug, Clone, PartialEq)]
pub(super) enum Filled {
    Text(String),
    Ladder(Ladder),
    Number(u64),
    Vital(Vital),
}

const KEYS: [&str; 25] = [
    "Enter",
    "Tab",
    "Escape",
    "Backspace",
    "Delete",
    "Space",
    "ArrowUp",
    "ArrowDown",
    "ArrowLeft",
    "ArrowRight",
    "Home",
    "End",
    "PageUp",
    "PageDown",
    "F1",
    "F2",
    "F3",
    "F4",
    "F5",
    "F6",
    "F7",
    "F8",
    "F9",
    "F10",
    "Insert",
];
const MODIFIERS: [&str; 4] = ["Control", "Shift", "Alt", "Meta"];
const METHODS: [&str; 7] = ["GET", "POST", "PUT", "PATCH", "DELETE", "HEAD", "OPTIONS"];
const VITALS: [&str; 4] = ["LCP", "FCP", "TTFB", "INP"];

impl Slot {
    /// How the reference writes it.
    pub fn written(self) -> &'static str {
        match self {
            Slot::Name(_) => "\"NAME\"",
            Slot::Text(_) => "\"TEXT\"",
            Slot::Element => "ELEMENT",
            Slot::Address => "ADDRESS",
            Slot::Duration => "DURATION",
            Slot::Size => "SIZE",
            Slot::Status => "STATUS",
            Slot::Count | Slot::Days | Slot::Number => "NUMBER",
            Slot::Score => "SCORE",
            Slot::Vital => "VITAL",
            Slot::Variable => "NAME",
            Slot::Keys => "KEYS",
            Slot::Method => "METHOD",
            Slot::Host => "HOST",
            Slot::HostPort => "HOST:PORT",
            Slot::JsonPath => "\"JSONPATH\"",
            Slot::Act => "SENTENCE",
        }
    }

    /// What each of these in the reference stands for.
    pub const LEGEND: [(&'static str, &'static str); 16] = [
        ("\"NAME\"", "1 to 80 characters in quotes"),
        (
            "\"TEXT\"",
            "any text in quotes; \\\" \\\\ \\n \\r \\t for what cannot stand there; {name} is a variable, {secret name} a secret",
        ),
        (
            "ELEMENT",
            "a role and a name (button \"Pay\"), any and a role (any listitem), field \"LABEL\", text \"TEXT\", test id \"ID\" or css \"SELECTOR\"; number N takes the Nth, in ELEMENT looks inside another, or ELEMENT is the next rung of the ladder",
        ),
        ("ADDRESS", "begins with http:// or https://, or with a variable"),
        ("DURATION", "a number and ms, s or min; 1 ms to 60 min"),
        ("SIZE", "a number and B, kB or MB; up to 100 MB"),
        ("STATUS", "an HTTP status, 100 to 599"),
        ("NUMBER", "a number"),
        ("SCORE", "0 to 10, four decimals"),
        ("VITAL", "LCP, FCP, TTFB or INP"),
        ("NAME", "a small letter, then small letters, digits and _; 40 at most"),
        (
            "KEYS",
            "a key such as Enter, Tab, Escape, ArrowDown or a single character, with Control+, Shift+, Alt+, Meta+ before it",
        ),
        ("METHOD", "GET, POST, PUT, PATCH, DELETE, HEAD or OPTIONS"),
        ("HOST", "a host name; HOST:PORT with its port"),
        ("\"JSONPATH\"", "a query as RFC 9535 has it, in quotes: \"$.sailings[0].price\""),
        ("SENTENCE", "an act: open, press, type, choose, tick, key and the like"),
    ];

    /// What an error says should have stood there.
    pub(super) fn wanted(self) -> String {
        match self {
            Slot::Name(what) | Slot::Text(what) => format!("{what} in quotes"),
            Slot::Element => "`field`, `text`, `test id`, `css` or a role such as `button`".into(),
            Slot::Address => "an address that begins with http:// or https://".into(),
            Slot::Duration => "a duration such as `2.5 s`".into(),
            Slot::Size => "a size such as `200 kB`".into(),
            Slot::Status => "an HTTP status from 100 to 599".into(),
            Slot::Count => "a whole number from 0 to 100000".into(),
            Slot::Days => "a whole number of days".into(),
            Slot::Number => "a number".into(),
            Slot::Score => "a number from 0 to 10 such as `0.1`".into(),
            Slot::Vital => "`LCP`, `FCP`, `TTFB` or `INP`".into(),
            Slot::Variable => "a name: a small letter, then small letters, digits and _".into(),
            Slot::Keys => "a key such as `Enter`, `Control+A` or `x`".into(),
            Slot::Method => "`GET`, `POST` or another method".into(),
            Slot::Host => "a host name".into(),
            Slot::HostPort => "a host and a port such as `book.marram.example:443`".into(),
            Slot::JsonPath => "a JSONPath in quotes".into(),
            Slot::Act => "an act such as `press`".into(),
        }
    }

    /// Words that can begin it, for completion.
    pub(super) fn begins(self) -> Vec<&'static str> {
        match self {
            Slot::Element => element_words(),
            Slot::Vital => VITALS.to_vec(),
            Slot::Method => METHODS.to_vec(),
            Slot::Keys => KEYS[..10].to_vec(),
            _ => Vec::new(),
        }
    }

    /// Reads it. [`Slot::Act`] is the grammar's affair.
    pub(super) fn read(self, words: &mut Words) -> Result<Filled, ScriptError> {
        let wanted = self.wanted();
        let number = |n: u64| Filled::Number(n);
        Ok(match self {
            Slot::Name(what) => Filled::Text(name(words, what)?),
            Slot::Text(what) => Filled::Text(words.text(what, "\"…\"")?),
            Slot::Element => Filled::Ladder(ladder(words)?),
            Slot::Address => Filled::Text(address(words)?),
            Slot::Duration => number(duration(words)?),
            Slot::Size => number(size(words)?),
            Slot::Status => number(checked(words, &wanted, |w| {
                w.parse().ok().filter(|n| (100..600).contains(n))
            })?),
            Slot::Count => {
                number(checked(words, &wanted, |w| w.parse().ok().filter(|n| *n <= 100_000))?)
            }
            Slot::Days => {
                number(checked(words, &wanted, |w| w.parse().ok().filter(|n| *n <= 3_650))?)
            }
            Slot::Number => {
                let plain = |w: &str| {
                    w.parse::<f64>().ok().filter(|n| n.is_finite()).map(|_| w.to_string())
                };
                Filled::Text(checked(words, &wanted, plain)?)
            }
            Slot::Score => number(checked(words, &wanted, |w| {
                w.parse::<f64>()
                    .ok()
                    .filter(|n| (0.0..=10.0).contains(n))
                    .map(|n| (n * 10_000.0).round() as u64)
            })?),
            Slot::Vital => Filled::Vital(checked(words, &wanted, |w| {
                VITALS.contains(&w).then(|| Vital::parse(w)).flatten()
            })?),
            Slot::Variable => Filled::Text(checked(words, &wanted, |w| {
                (text::is_name(w) && !text::GIVEN.contains(&w)).then(|| w.to_string())
            })?),
            Slot::Keys => Filled::Text(checked(words, &wanted, keys)?),
            Slot::Method => Filled::Text(words.word(&METHODS)?.to_string()),
            Slot::Host => {
                Filled::Text(checked(words, &wanted, |w| host(w).then(|| w.to_string()))?)
            }
            Slot::HostPort => Filled::Text(checked(words, &wanted, |w| {
                let (name, port) = w.rsplit_once(':')?;
                (host(name) && port.parse::<u16>().is_ok_and(|p| p > 0)).then(|| w.to_string())
            })?),
            Slot::JsonPath => {
                let path = words.text("a JSONPath", "\"$.sailings[0].price\"")?;
                if let Err(e) = serde_json_path::JsonPath::parse(&path) {
                    words.step_back();
                    return Err(words.wrong(
                        "a JSONPath (RFC 9535)",
                        Some(format!("{} at character {}", e.message(), e.position() + 1)),
                    ));
                }
                Filled::Text(path)
            }
            Slot::Act => return Err(words.wrong(wanted, None)),
        })
    }
}

/// Reads one token that must please `right`.
fn checked<T>(
    words: &mut Words,
    wanted: &str,
    right: impl Fn(&str) -> Option<T>,
) -> Result<T, ScriptError> {
    if let Some(Token::Text(_)) = words.peek() {
        return Err(words.wrong(wanted, Some("without quotes".into())));
    }
    let word = words.any(wanted)?;
    right(&word).ok_or_else(|| {
        words.step_back();
        words.wrong(wanted, None)
    })
}

fn host(name: &str) -> bool {
    !name.is_empty()
        && name.len() <= 253
        && name.bytes().all(|b| b.is_ascii_alphanumeric() || b"-._[]:".contains(&b))
        && name.split('.').all(|label| !label.is_empty())
}

/// Keys pressed together, as they are written.
fn keys(word: &str) -> Option<String> {
    let mut parts: Vec<&str> = word.split('+').collect();
    // `Control++`: the key is the plus sign.
    if word == "+" || word.ends_with("++") {
        parts.truncate(parts.len() - 2);
        parts.push("+");
    }
    let (key, modifiers) = parts.split_last()?;
    let known = KEYS.contains(key) || key.chars().count() == 1;
    (known && modifiers.iter().all(|m| MODIFIERS.contains(m))).then(|| word.to_string())
}

fn name(words: &mut Words, what: &str) -> Result<String, ScriptError> {
    let name = words.text(what, "\"Search sailings\"")?;
    if name.trim().is_empty() || name.chars().count() > 80 {
        words.step_back();
        return Err(words.wrong(format!("{what}, 1 to 80 characters"), None));
    }
    Ok(name)
}

fn address(words: &mut Words) -> Result<String, ScriptError> {
    let expected = Slot::Address.wanted();
    let address = words.any(&expected)?;
    if address.starts_with('{')
        && text::used(&address).first().is_some_and(|u| matches!(u, text::Used::Variable(_)))
    {
        return Ok(address);
    }
    let after = address.strip_prefix("http://").or_else(|| address.strip_prefix("https://"));
    match after {
        Some(host) if !host.is_empty() && !host.starts_with('/') => Ok(address),
        Some(_) => {
            words.step_back();
            Err(words.wrong("a host name after `://`", None))
        }
        None => {
            words.step_back();
            let hint = (!address.contains("://") && address.contains('.'))
                .then(|| format!("write `https://{address}`"));
            Err(words.wrong(expected, hint))
        }
    }
}

/// A number and its unit, in one word or two; the first of `units` is the base.
fn measured(
    words: &mut Words,
    expected: &str,
    units: &[(&'static str, f64)],
) -> Result<f64, ScriptError> {
    let word = words.any(expected)?;
    let digits = word.trim_end_matches(|c: char| c.is_ascii_alphabetic());
    let number: f64 = digits.parse().ok().filter(|n: &f64| n.is_finite()).ok_or_else(|| {
        words.step_back();
        words.wrong(expected, None)
    })?;
    let names: Vec<&'static str> = units.iter().map(|u| u.0).collect();
    let unit = match &word[digits.len()..] {
        "" => words.word(&names)?,
        unit => names.iter().copied().find(|n| *n == unit).ok_or_else(|| {
            words.step_back();
            words.wrong(
                format!(
                    "a number with {}",
                    names.iter().map(|n| format!("`{n}`")).collect::<Vec<_>>().join(", ")
                ),
                None,
            )
        })?,
    };
    Ok(number * units.iter().find(|u| u.0 == unit).map_or(1.0, |u| u.1))
}

fn duration(words: &mut Words) -> Result<u64, ScriptError> {
    let units = [("ms", 1.0), ("s", 1_000.0), ("min", 60_000.0)];
    let ms = measured(words, &Slot::Duration.wanted(), &units)?.round();
    if (1.0..=MAX_MS as f64).contains(&ms) {
        Ok(ms as u64)
    } else {
        words.step_back();
        Err(words.wrong("a duration from 1 ms to 60 min", None))
    }
}

fn size(words: &mut Words) -> Result<u64, ScriptError> {
    let units = [("B", 1.0), ("kB", 1_000.0), ("MB", 1_000_000.0)];
    let bytes = measured(words, &Slot::Size.wanted(), &units)?.round();
    if (0.0..=MAX_BYTES as f64).contains(&bytes) {
        Ok(bytes as u64)
    } else {
        words.step_back();
        Err(words.wrong("a size from 0 B to 100 MB", None))
    }
}

fn element_words() -> Vec<&'static str> {
    ["field", "text", "test", "css", "any"].into_iter().chain(ROLES).collect()
}

fn ladder(words: &mut Words) -> Result<Ladder, ScriptError> {
    let mut rungs = vec![element(words, 0)?];
    while words.take(&["or"]).is_some() {
        rungs.push(element(words, 0)?);
        if rungs.len() > 8 {
            return Err(words.wrong("at most 8 ways to find an element", None));
        }
    }
    Ok(Ladder(rungs))
}

fn element(words: &mut Words, depth: u32) -> Result<Element, ScriptError> {
    if let Some(Token::Text(text)) = words.peek() {
        let hint = format!("say what it is, for example `button \"{}\"`", text.escape_debug());
        return Err(words.wrong(Slot::Element.wanted(), Some(hint)));
    }
    let by = match words.word(&element_words())? {
        "field" => By::Field(words.text("the field's label", "field \"Passengers\"")?),
        "text" => By::Text(words.text("the text", "text \"from €\"")?),
        "css" => By::Css(words.text("a CSS selector", "css \"#total\"")?),
        "test" => {
            words.word(&["id"])?;
            By::TestId(words.text("the test id", "test id \"pay\"")?)
        }
        "any" => By::Role { role: words.word(&ROLES)?.into(), name: None },
        role => By::Role {
            role: role.into(),
            name: Some(words.text("its name", &format!("{role} \"Continue\""))?),
        },
    };
    let number = match words.take(&["number"]) {
        None => None,
        Some(_) => Some(checked(words, "a whole number from 1 to 1000", |w| {
            w.parse().ok().filter(|n| (1..=1_000).contains(n))
        })?),
    };
    let inside = match words.take(&["in"]) {
        None => None,
        Some(_) if depth >= 3 => {
            return Err(words.wrong("at most three elements inside each other", None));
        }
        Some(_) => Some(Box::new(element(words, depth + 1)?)),
    };
    Ok(Element { by, number, inside })
}
