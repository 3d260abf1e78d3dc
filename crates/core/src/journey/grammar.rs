//! What a form of a sentence is, and reading a line by the forms there are ([`FORMS`]): which one it
//! has, or what should have stood where none goes on.

use super::Says;
use super::element::Ladder;
pub use super::forms::FORMS;
use super::line::{ScriptError, Token, Words};
use super::slot::Filled;
pub use super::slot::Slot;
use crate::timing::Vital;

/// One form of a sentence.
pub struct Form {
    /// Where it stands in the reference.
    pub group: Group,
    /// What it is made of.
    pub pieces: &'static [Piece],
    /// Whether `up to DURATION` may follow.
    pub waits: bool,
    /// What it means, as a sentence.
    pub says: &'static str,
    /// A line that can be played.
    pub example: &'static str,
    pub(super) make: fn(&mut Slots) -> Made,
}

/// One piece of a sentence.
#[derive(Debug, Clone, Copy)]
pub enum Piece {
    /// A word that stands there as it is.
    Word(&'static str),
    /// Room for what differs from sentence to sentence.
    Slot(Slot),
}

/// The headings of the reference, in its order.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Group {
    /// Script, steps, parts.
    Frame,
    /// What a visitor does.
    Acts,
    /// Waiting for something.
    Waiting,
    /// Windows, frames and dialogs.
    Windows,
    /// Values that are kept and used again.
    Values,
    /// What must be true.
    Expectations,
    /// What must be less than a limit.
    Limits,
    /// Names for moments.
    Marks,
    /// Checks without a browser.
    Requests,
}

impl Group {
    /// All of them, in the order of the reference.
    pub const ALL: [Group; 9] = [
        Group::Frame,
        Group::Acts,
        Group::Waiting,
        Group::Windows,
        Group::Values,
        Group::Expectations,
        Group::Limits,
        Group::Marks,
        Group::Requests,
    ];

    /// As the reference heads it.
    pub fn title(self) -> &'static str {
        match self {
            Group::Frame => "The frame of a script",
            Group::Acts => "What a person does",
            Group::Waiting => "Waiting, and what may not be there",
            Group::Windows => "Windows, frames, dialogs",
            Group::Values => "Variables",
            Group::Expectations => "Expectations",
            Group::Limits => "Limits: over them a step is slow, not failed",
            Group::Marks => "Marks",
            Group::Requests => "Without a browser: HTTP, names, connections",
        }
    }
}

/// What a line adds to a script.
#[derive(Debug, Clone, PartialEq)]
pub(super) enum Made {
    Journey(String),
    Part(String),
    Step { name: String, clean_up: bool },
    Within(u64),
    Header(String, String),
    Body(String),
    Says(Says),
}

/// What stood in the slots of a form, from left to right. A form takes what its pieces name; that each
/// form does is tested with its example.
pub(super) struct Slots(std::vec::IntoIter<Filled>, Option<Says>);

impl Slots {
    pub(super) fn text(&mut self) -> String {
        match self.0.next() {
            Some(Filled::Text(t)) => t,
            _ => String::new(),
        }
    }

    pub(super) fn ladder(&mut self) -> Ladder {
        match self.0.next() {
            Some(Filled::Ladder(l)) => l,
            _ => Ladder(Vec::new()),
        }
    }

    pub(super) fn number(&mut self) -> u64 {
        match self.0.next() {
            Some(Filled::Number(n)) => n,
            _ => 0,
        }
    }

    pub(super) fn count(&mut self) -> u32 {
        u32::try_from(self.number()).unwrap_or(u32::MAX)
    }

    pub(super) fn vital(&mut self) -> Vital {
        match self.0.next() {
            Some(Filled::Vital(v)) => v,
            _ => Vital::Lcp,
        }
    }

    pub(super) fn act(&mut self) -> Box<Says> {
        Box::new(self.1.take().unwrap_or(Says::Reload))
    }
}

impl Form {
    /// The form as the reference writes it.
    pub fn written(&self) -> String {
        let piece = |p: &Piece| match p {
            Piece::Word(w) => *w,
            Piece::Slot(s) => s.written(),
        };
        let waits = if self.waits { " [up to DURATION]" } else { "" };
        self.pieces.iter().map(piece).collect::<Vec<_>>().join(" ") + waits
    }
}

/// Where a line stands, which decides what it may say.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Place {
    /// Before `journey`.
    Begin,
    /// Before the first part of a text of parts.
    Shared,
    /// After `journey`, before the first part or step.
    Head,
    Part,
    Step,
    /// The sentence of an `if visible`.
    Act,
}

impl Place {
    fn allows(self, form: &Form) -> bool {
        let first = match form.pieces[0] {
            Piece::Word(w) => w,
            Piece::Slot(_) => "",
        };
        match self {
            Place::Begin => first == "script",
            Place::Shared => first == "part",
            Place::Head => matches!(first, "step" | "clean" | "part" | "within"),
            Place::Part => !matches!(first, "script" | "within"),
            Place::Step => !matches!(first, "script" | "part"),
            Place::Act => {
                form.group == Group::Acts
                    || matches!(first, "wait" | "follow" | "accept" | "dismiss" | "answer")
            }
        }
    }
}

/// A line read: the form it has, what it makes, and how long it may take.
pub(super) struct Match {
    pub form: &'static Form,
    pub made: Made,
    pub up_to_ms: Option<u64>,
}

/// Reads a sentence to its end.
pub(super) fn read(words: &mut Words, place: Place) -> Result<Match, ScriptError> {
    let read = read_form(words, place)?;
    words.end()?;
    Ok(read)
}

fn read_form(words: &mut Words, place: Place) -> Result<Match, ScriptError> {
    let mut live: Vec<&'static Form> = FORMS.iter().filter(|f| place.allows(f)).collect();
    let mut filled = Vec::new();
    let mut act = None;
    for at in 0.. {
        let whole = live.iter().position(|f| f.pieces.len() == at);
        let mut allowed: Vec<&'static str> = Vec::new();
        let mut slot = None;
        for form in &live {
            match form.pieces.get(at) {
                Some(Piece::Word(w)) if !allowed.contains(w) => allowed.push(w),
                Some(Piece::Slot(s)) => slot = Some(*s),
                _ => {}
            }
        }
        if let Some(word) = words.take(&allowed) {
            live.retain(|f| matches!(f.pieces.get(at), Some(Piece::Word(w)) if *w == word));
            continue;
        }
        if let Some(whole) = whole {
            let form = live[whole];
            // What follows the sentence of an `if visible` is said of the whole.
            let up_to_ms = if place == Place::Act { None } else { up_to(words, form, &allowed)? };
            let made = (form.make)(&mut Slots(filled.into_iter(), act));
            return Ok(Match { form, made, up_to_ms });
        }
        let Some(slot) = slot else { return Err(words.none_of(&allowed, None)) };
        if !allowed.is_empty() && !could_begin(slot, words) {
            return Err(words.none_of(&allowed, Some(&slot.wanted())));
        }
        if slot == Slot::Act {
            let Made::Says(says) = read_form(words, Place::Act)?.made else {
                return Err(words.wrong(slot.wanted(), None));
            };
            act = Some(says);
        } else {
            if words.at_end() {
                words.could_be = slot.begins();
            }
            filled.push(slot.read(words)?);
        }
        live.retain(|f| matches!(f.pieces.get(at), Some(Piece::Slot(_))));
    }
    Err(words.none_of(&[], None))
}

/// Whether the next token may stand in the slot, where words could stand there too.
fn could_begin(slot: Slot, words: &Words) -> bool {
    match words.peek() {
        Some(Token::Text(_)) => {
            matches!(slot, Slot::Text(_) | Slot::Name(_) | Slot::JsonPath | Slot::Element)
        }
        Some(Token::Word(w)) => match slot {
            Slot::Element | Slot::Vital | Slot::Method => slot.begins().contains(&w.as_str()),
            Slot::Text(_) | Slot::Name(_) | Slot::JsonPath => false,
            _ => true,
        },
        None => false,
    }
}

fn up_to(
    words: &mut Words,
    form: &Form,
    others: &[&'static str],
) -> Result<Option<u64>, ScriptError> {
    if !form.waits || !words.next_is("up") {
        if !words.at_end() && !others.is_empty() {
            return Err(words.none_of(others, Some("the end of the line")));
        }
        return Ok(None);
    }
    words.word(&["up"])?;
    words.word(&["to"])?;
    match Slot::Duration.read(words)? {
        Filled::Number(ms) => Ok(Some(ms)),
        _ => Ok(None),
    }
}

/// What could be written at the end of an unfinished line, inside a step.
pub(super) fn could_be(words: &mut Words, place: Place) -> Vec<&'static str> {
    match read_form(words, place) {
        Err(_) => std::mem::take(&mut words.could_be),
        Ok(m) => {
            let mut next = Vec::new();
            if m.form.waits && m.up_to_ms.is_none() {
                next.push("up to");
            }
            next
        }
    }
}
