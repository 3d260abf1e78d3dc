//! The script of a journey: what it says, reading it, writing it.
//!
//! - [`grammar`]: every sentence a script can say, with its meaning and an example; the reader, the
//!   reference page, colouring and completion all come from that one table
//! - [`element`]: how something on a page is found: the locator ladder
//! - [`text`]: texts with variables and secrets in them
//! - [`check`](Journey::check): what is wrong although every line can be read
//! - [`repaired`]: a script in which the rungs that still hold come first
//! - [`recorded`]: what somebody did on a page, as a script
//! - [`starter`]: ready-made beginnings
//!
//! A script is made of lines. A line is empty, a note that begins with `#`, or a sentence; how far
//! it is indented means nothing.

mod check;
pub mod element;
mod forms;
pub mod grammar;
mod line;
mod parse;
mod print;
pub mod recorded;
mod repair;
mod slot;
pub mod starter;
pub mod text;

pub use element::{By, Element, Ladder, ROLES};
pub use line::{Kind, ScriptError, Span};
pub use parse::{LineRead, MAX_SCRIPT_BYTES, parse, parts, problems, read_line, read_lines};
pub use repair::{FellBack, repaired};

use crate::run::Look;
use crate::timing::Vital;

/// A journey as its script says it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Journey {
    /// Its name.
    pub name: String,
    /// Budget for all steps together, in milliseconds.
    pub within_ms: Option<u64>,
    /// Notes before the first step.
    pub notes: Vec<String>,
    /// Common parts that steps may follow.
    pub parts: Vec<Part>,
    /// Its steps, in order.
    pub steps: Vec<Step>,
}

/// Sentences with a name, to be followed from steps.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Part {
    /// Its name, by which steps follow it.
    pub name: String,
    /// Where it stands.
    pub line: Line,
    /// What it does.
    pub sentences: Vec<Sentence>,
}

/// One step: what is done until a page is as it should be.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Step {
    /// Its name.
    pub name: String,
    /// Where it stands.
    pub line: Line,
    /// Played even after a failure; neither its time nor its outcome is the journey's.
    pub clean_up: bool,
    /// Budget in milliseconds.
    pub within_ms: Option<u64>,
    /// What is done and expected, in order.
    pub sentences: Vec<Sentence>,
}

/// One sentence of a script.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Sentence {
    /// Where it stands.
    pub line: Line,
    /// What it says.
    pub says: Says,
    /// How long it may take to come true, in milliseconds, if not as long as usual.
    pub up_to_ms: Option<u64>,
}

/// What a sentence says.
#[derive(Debug, Clone, PartialEq, Eq)]
#[expect(missing_docs, reason = "named as in scripts, events and standards")]
pub enum Says {
    Note(String),
    Open(String),
    Press(Ladder),
    Type {
        text: String,
        into: Ladder,
    },
    Choose {
        option: String,
        from: Ladder,
    },
    Tick {
        what: Ladder,
        on: bool,
    },
    Hover(Ladder),
    ScrollTo(Ladder),
    ScrollEnd(End),
    Key(String),
    Upload {
        file: String,
        holds: Holds,
        into: Ladder,
    },
    Drag {
        what: Ladder,
        to: Ladder,
    },
    GoBack,
    GoForward,
    Reload,
    WaitFor(Ladder),
    WaitGone(Ladder),
    WaitRequest(String),
    EnterWindow(String),
    LeaveWindow,
    EnterFrame(Ladder),
    LeaveFrame,
    Dialog(Reply),
    Let {
        name: String,
        be: Source,
    },
    Follow(String),
    If {
        visible: Ladder,
        then: Box<Says>,
    },
    Mark {
        name: String,
        when: Moment,
    },
    Send(Box<Send>),
    LookUp(String),
    /// Looks at the pages that an address leads to.
    Crawl {
        from: String,
        links: u32,
        deep: u32,
        hosts: u32,
    },
    Connect {
        to: String,
        secure: bool,
    },
    Expect(Expectation),
}

/// An end of a page.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[expect(missing_docs, reason = "named as in scripts, events and standards")]
pub enum End {
    Top,
    Bottom,
}

/// What an uploaded file holds: it is made when it is needed.
#[expect(missing_docs, reason = "named as in scripts, events and standards")]
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Holds {
    Bytes(u64),
    Text(String),
}

/// What is said to a dialog of the page.
#[expect(missing_docs, reason = "named as in scripts, events and standards")]
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Reply {
    Accept,
    Dismiss,
    Answer(String),
}

/// Where the value of a variable comes from.
#[expect(missing_docs, reason = "named as in scripts, events and standards")]
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Source {
    Text(String),
    TextOf(Ladder),
    ValueOf(Ladder),
    AttributeOf { attribute: String, of: Ladder },
    Address,
    Title,
    Header(String),
    Json(String),
}

/// The moment a mark notes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Moment {
    /// The element appears.
    Appears(Ladder),
    /// The page's own User Timing mark of this name.
    Timing(String),
    /// A request whose address contains this was answered.
    Request(String),
}

/// A request sent without the browser.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Send {
    /// The method.
    pub method: String,
    /// The address.
    pub address: String,
    /// Names and values of headers.
    pub headers: Vec<(String, String)>,
    /// What is sent along.
    pub body: Option<String>,
}

/// What must be true.
#[derive(Debug, Clone, PartialEq, Eq)]
#[expect(missing_docs, reason = "named as in scripts, events and standards")]
pub enum Expectation {
    Text {
        text: String,
        inside: Option<Ladder>,
    },
    NoText(String),
    Element(Ladder),
    NoElement(Ladder),
    Value {
        value: String,
        of: Ladder,
    },
    Count {
        of: Ladder,
        is: Compare,
        count: u32,
    },
    Address(String),
    Title(String),
    Status(u16),
    Header {
        name: String,
        holds: String,
    },
    Body(String),
    Json {
        path: String,
        is: JsonIs,
    },
    Dialog(String),
    NoScriptErrors,
    NoFailedRequests,
    AtMostRequests(u32),
    SizeUnder(u64),
    Under {
        what: Timed,
        ms: u64,
    },
    /// Limit of the layout shift, in ten-thousandths.
    ShiftUnder(u32),
    Answer(String),
    CertificateDays(u32),
    NoBrokenLinks,
    /// As it was accepted, but for what is left out.
    Unchanged {
        look: Look,
        without: Option<Ladder>,
    },
}

/// How two counts are compared.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[expect(missing_docs, reason = "named as in scripts, events and standards")]
pub enum Compare {
    AtLeast,
    AtMost,
    Exactly,
}

impl Compare {
    /// Whether a count is as the limit says.
    pub fn holds(self, count: u32, limit: u32) -> bool {
        match self {
            Compare::AtLeast => count >= limit,
            Compare::AtMost => count <= limit,
            Compare::Exactly => count == limit,
        }
    }

    /// As scripts say it.
    pub fn words(self) -> &'static str {
        match self {
            Compare::AtLeast => "at least",
            Compare::AtMost => "at most",
            Compare::Exactly => "exactly",
        }
    }
}

/// What is wanted of the values a JSONPath finds; numbers as they were written.
#[expect(missing_docs, reason = "named as in scripts, events and standards")]
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum JsonIs {
    There,
    Text(String),
    AtLeast(String),
    AtMost(String),
}

/// Something that takes time and may have a limit.
#[expect(missing_docs, reason = "named as in scripts, events and standards")]
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Timed {
    Vital(Vital),
    Load,
    Mark(String),
    Request(String),
}

impl Says {
    /// Whether it needs a browser.
    pub fn needs_browser(&self) -> bool {
        match self {
            Says::Note(_)
            | Says::Send(_)
            | Says::LookUp(_)
            | Says::Crawl { .. }
            | Says::Connect { .. }
            | Says::Follow(_) => false,
            Says::Let { be, .. } => {
                !matches!(be, Source::Text(_) | Source::Header(_) | Source::Json(_))
            }
            Says::Expect(e) => !matches!(
                e,
                Expectation::Status(_)
                    | Expectation::Header { .. }
                    | Expectation::Body(_)
                    | Expectation::Json { .. }
                    | Expectation::Answer(_)
                    | Expectation::CertificateDays(_)
                    | Expectation::NoBrokenLinks
                    | Expectation::AtMostRequests(_)
                    | Expectation::SizeUnder(_)
                    | Expectation::NoFailedRequests
            ),
            _ => true,
        }
    }
}

impl Journey {
    /// Whether any sentence needs a browser; the others are checks of HTTP, names and connections.
    pub fn needs_browser(&self) -> bool {
        let steps = self.steps.iter().flat_map(|s| &s.sentences);
        steps.chain(self.parts.iter().flat_map(|p| &p.sentences)).any(|s| s.says.needs_browser())
    }

    /// Steps whose time and outcome are the journey's.
    pub fn counted_steps(&self) -> impl Iterator<Item = &Step> {
        self.steps.iter().filter(|s| !s.clean_up)
    }

    /// Marks that it notes, in its steps and in parts that stand in it.
    pub fn marks(&self) -> impl Iterator<Item = &str> {
        let parts = self.parts.iter().flat_map(|p| &p.sentences);
        let all = self.counted_steps().flat_map(|s| &s.sentences).chain(parts);
        all.filter_map(|sentence| {
            let says = match &sentence.says {
                Says::If { then, .. } => then,
                says => says,
            };
            match says {
                Says::Mark { name, .. } => Some(name.as_str()),
                _ => None,
            }
        })
    }

    /// The common part of this name.
    pub fn part(&self, name: &str) -> Option<&Part> {
        self.parts.iter().find(|p| p.name == name)
    }
}

/// The line (from 1) something stood on. It is where a thing was said, not what was said, so two
/// journeys that differ only in it are equal.
#[derive(Debug, Clone, Copy, Default)]
pub struct Line(pub u32);

impl PartialEq for Line {
    fn eq(&self, _: &Line) -> bool {
        true
    }
}

impl Eq for Line {}

#[cfg(test)]
mod tests;
