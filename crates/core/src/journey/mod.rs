//! The script of a journey: what it says, reading it, writing it.
//!
//! A script is made of lines. A line is empty, a note that begins with `#`, or a sentence that
//! begins with a word of this list; how far it is indented means nothing.
//!
//! | line | says |
//! |---|---|
//! | `journey "NAME"` | first line; names the journey |
//! | `step "NAME"` | begins a step |
//! | `open ADDRESS` | load an address |
//! | `press ELEMENT` | click or tap it |
//! | `type "TEXT" into ELEMENT` | replace what the field holds |
//! | `choose "OPTION" in ELEMENT` | pick an option by the text it shows |
//! | `expect text "TEXT"` | the page shows this text |
//! | `expect element ELEMENT` | the page shows this element |
//! | `expect address "TEXT"` | the page's address contains this |
//! | `expect status NUMBER` | the document was answered with this HTTP status |
//! | `mark "NAME" when ELEMENT` | note the moment the element appears |
//! | `within DURATION` | budget of the step; before the first step, of the whole journey |
//!
//! ELEMENT is an ARIA role and a name (`button "Pay"`), `field "LABEL"`, `text "TEXT"`,
//! `test id "ID"` or `css "SELECTOR"`. DURATION is a number and `ms`, `s` or `min`.

mod line;
mod parse;
mod print;

pub use line::ScriptError;
pub use parse::parse;

/// A journey as its script says it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Journey {
    pub name: String,
    /// Budget for all steps together, in milliseconds.
    pub within_ms: Option<u64>,
    /// Notes before the first step.
    pub notes: Vec<String>,
    pub steps: Vec<Step>,
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Step {
    pub name: String,
    pub line: Line,
    /// Budget in milliseconds.
    pub within_ms: Option<u64>,
    pub sentences: Vec<Sentence>,
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Sentence {
    pub line: Line,
    pub says: Says,
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Says {
    Note(String),
    Open(String),
    Press(Element),
    Type { text: String, into: Element },
    Choose { option: String, from: Element },
    ExpectText(String),
    ExpectElement(Element),
    ExpectAddress(String),
    ExpectStatus(u16),
    Mark { name: String, when: Element },
}

/// How to find something on the page.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Element {
    Role { role: String, name: String },
    Field(String),
    Text(String),
    TestId(String),
    Css(String),
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

/// The ARIA roles a script can name (WAI-ARIA 1.2; those that a person sees as one thing).
pub const ROLES: [&str; 24] = [
    "alert",
    "article",
    "button",
    "checkbox",
    "combobox",
    "dialog",
    "figure",
    "form",
    "heading",
    "img",
    "link",
    "list",
    "listitem",
    "main",
    "navigation",
    "option",
    "radio",
    "region",
    "row",
    "searchbox",
    "status",
    "tab",
    "table",
    "textbox",
];

#[cfg(test)]
mod tests;
