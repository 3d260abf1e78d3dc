//! Reading a script, line by line.

use super::grammar::{self, Form, Made, Place};
use super::line::{Kind, Span, Words};
use super::{Journey, Line, Part, Says, ScriptError, Sentence, Step};
use std::borrow::Cow;

/// A script longer than this is refused before it is read.
const MAX_LINES: usize = 2_000;
/// The most bytes of a script, and of the common parts of a site.
pub const MAX_SCRIPT_BYTES: usize = 200_000;

/// Reads a script.
///
/// # Errors
/// The first thing that is wrong, with line, column, what was expected and, where it can be told,
/// what would be right.
///
/// ```
/// let e = cadentis_core::journey::parse("script \"Buy\"\nstep \"Pay\"\n  pres button \"Pay\"").unwrap_err();
/// assert!(e.to_string().starts_with("line 3, column 3: found `pres`; expected "));
/// assert!(e.to_string().ends_with("did you mean `press`?"));
/// ```
pub fn parse(script: &str) -> Result<Journey, ScriptError> {
    let mut reader = Reader::new(Place::Begin);
    reader.read(script);
    match (reader.errors.into_iter().next(), reader.journey) {
        (None, Some(journey)) => Ok(journey),
        (Some(e), _) => Err(e),
        (None, None) => Err(whole(1, "no script", "`script \"NAME\"`".into())),
    }
}

/// Reads a text of common parts: a script without a journey and without steps.
///
/// # Errors
/// The first thing that is wrong.
pub fn parts(text: &str) -> Result<Vec<Part>, ScriptError> {
    let mut reader = Reader::new(Place::Shared);
    reader.read(text);
    match reader.errors.into_iter().next() {
        Some(e) => Err(e),
        None => Ok(reader.parts),
    }
}

/// Everything that is wrong with a script, in the order of its lines; with `shared` parts of the site.
pub fn problems(script: &str, shared: &[Part]) -> Vec<ScriptError> {
    let mut reader = Reader::new(Place::Begin);
    reader.read(script);
    match reader.journey {
        Some(journey) if reader.errors.is_empty() => journey.check(shared),
        _ => reader.errors,
    }
}

/// What an editor wants to know about one line.
#[derive(Debug, Clone, PartialEq)]
pub struct LineRead {
    /// Its words, each with what it is.
    pub spans: Vec<Span>,
    /// The form of its sentence as the reference writes it, if it could be read.
    pub form: Option<String>,
    /// What could come next, at the end of what was given.
    pub next: Vec<&'static str>,
}

/// Reads every line of a script for an editor, at most as many as a script may have.
pub fn read_lines(script: &str) -> Vec<LineRead> {
    let mut reader = Reader::new(Place::Begin);
    let read = |line: &str| {
        let read = read_at(reader.place(), line);
        reader.stands_after(line);
        read
    };
    script.lines().take(MAX_LINES).map(read).collect()
}

/// Reads one line of a script for an editor: `before` are the lines above it.
pub fn read_line(before: &str, line: &str) -> LineRead {
    let mut reader = Reader::new(Place::Begin);
    before.lines().for_each(|text| reader.stands_after(text));
    read_at(reader.place(), line)
}

fn read_at(place: Place, line: &str) -> LineRead {
    let line = &*today(place, line);
    let trimmed = line.trim_start();
    if trimmed.starts_with('#') {
        let column = (line.chars().count() - trimmed.chars().count()) as u32 + 1;
        let span =
            Span { column, length: trimmed.trim_end().chars().count() as u32, kind: Kind::Note };
        return LineRead { spans: vec![span], form: None, next: Vec::new() };
    }
    let Ok(mut words) = Words::read(1, line) else {
        let spans = quoted_spans(line);
        return LineRead { spans, form: None, next: Vec::new() };
    };
    let form = grammar::read(&mut words, place).ok().map(|m: grammar::Match| Form::written(m.form));
    let spans = words.spans();
    // What is being typed is not yet a word.
    let typed = line.split('"').count() % 2 == 1 && !line.ends_with(char::is_whitespace);
    let (settled, begun) = match line.rfind(char::is_whitespace) {
        _ if !typed => (line, ""),
        Some(at) => line.split_at(at + line[at..].chars().next().map_or(0, char::len_utf8)),
        None => ("", line),
    };
    let next = match Words::read(1, settled) {
        Ok(mut words) => grammar::could_be(&mut words, place),
        Err(_) => Vec::new(),
    };
    let next = next.into_iter().filter(|n| n.starts_with(begun) && *n != begun).collect();
    LineRead { spans, form, next }
}

/// The texts of a line that cannot be read as a whole.
fn quoted_spans(line: &str) -> Vec<Span> {
    match line.chars().position(|c| c == '"') {
        Some(at) => {
            vec![Span {
                column: at as u32 + 1,
                length: (line.chars().count() - at) as u32,
                kind: Kind::Text,
            }]
        }
        None => Vec::new(),
    }
}

/// A line as it is written today. Scripts written before began with `journey` and opened secure connections with
/// `secure`; columns stay where they are, and printing a script writes the words of today.
fn today(place: Place, text: &str) -> Cow<'_, str> {
    let (indent, rest) = text.split_at(text.len() - text.trim_start().len());
    let word = |old: &str| rest.strip_prefix(old).filter(|rest| rest.starts_with([' ', '\t']));
    match place {
        Place::Begin => word("journey").map(|rest| format!("{indent}script {rest}").into()),
        Place::Step | Place::Part => {
            word("secure").map(|rest| format!("{indent}tls   {rest}").into())
        }
        _ => None,
    }
    .unwrap_or(Cow::Borrowed(text))
}

struct Reader {
    begin: Place,
    journey: Option<Journey>,
    parts: Vec<Part>,
    notes: Vec<String>,
    errors: Vec<ScriptError>,
    last_line: u32,
}

impl Reader {
    fn new(begin: Place) -> Reader {
        Reader {
            begin,
            journey: None,
            parts: Vec::new(),
            notes: Vec::new(),
            errors: Vec::new(),
            last_line: 0,
        }
    }

    fn place(&self) -> Place {
        match &self.journey {
            Some(j) if !j.steps.is_empty() => Place::Step,
            _ if !self.parts.is_empty() => Place::Part,
            Some(_) => Place::Head,
            None => self.begin,
        }
    }

    /// Notes only whether a line begins the journey, a part or a step: what it says beyond that does not
    /// decide where the next one stands.
    fn stands_after(&mut self, text: &str) {
        let text = &*today(self.place(), text);
        let nothing = || Sentence { line: Line(0), says: Says::Reload, up_to_ms: None };
        let first = text.split_whitespace().next().unwrap_or("");
        match (first, self.journey.as_mut()) {
            ("script", None) => {
                self.journey = Some(Journey {
                    name: String::new(),
                    within_ms: None,
                    notes: Vec::new(),
                    parts: Vec::new(),
                    steps: Vec::new(),
                });
            }
            ("part", Some(_)) => {
                self.parts.push(Part {
                    name: String::new(),
                    line: Line(0),
                    sentences: vec![nothing()],
                });
            }
            ("step" | "clean", Some(journey)) => {
                journey.steps.push(step(String::new(), Line(0), false))
            }
            _ => {}
        }
    }

    fn read(&mut self, script: &str) {
        if script.len() > MAX_SCRIPT_BYTES {
            let found = format!("{} bytes", script.len());
            self.errors.push(whole(1, &found, format!("at most {MAX_SCRIPT_BYTES} bytes")));
            return;
        }
        for (index, text) in script.lines().enumerate() {
            let line = index as u32 + 1;
            self.last_line = line;
            if index >= MAX_LINES {
                self.errors.push(whole(
                    line,
                    "one more line",
                    format!("at most {MAX_LINES} lines"),
                ));
                return;
            }
            let trimmed = text.trim();
            if let Some(note) = trimmed.strip_prefix('#') {
                self.note(note.trim().to_string(), line);
            } else if !trimmed.is_empty()
                && let Err(e) = self.line(line, text)
            {
                self.errors.push(e);
            }
        }
        self.end();
    }

    fn note(&mut self, note: String, line: u32) {
        let says = Says::Note(note.clone());
        let sentence = Sentence { line: Line(line), says, up_to_ms: None };
        match self.sentences() {
            Some(sentences) => sentences.push(sentence),
            None => match self.journey.as_mut() {
                Some(journey) => journey.notes.push(note),
                None => self.notes.push(note),
            },
        }
    }

    /// Where the sentence of this line goes.
    fn sentences(&mut self) -> Option<&mut Vec<Sentence>> {
        match self.journey.as_mut().and_then(|j| j.steps.last_mut()) {
            Some(step) => Some(&mut step.sentences),
            None => self.parts.last_mut().map(|p| &mut p.sentences),
        }
    }

    fn line(&mut self, line: u32, text: &str) -> Result<(), ScriptError> {
        let text = today(self.place(), text);
        let mut words = Words::read(line, &text)?;
        let read = grammar::read(&mut words, self.place())?;
        // From here on what is wrong is wrong with the line's last word or text.
        let about = |words: &mut Words, expected: &str, hint: Option<&str>| {
            words.step_back();
            words.wrong(expected, hint.map(String::from))
        };
        match read.made {
            Made::Journey(name) => {
                let notes = std::mem::take(&mut self.notes);
                self.journey = Some(Journey {
                    name,
                    within_ms: None,
                    notes,
                    parts: Vec::new(),
                    steps: Vec::new(),
                });
            }
            Made::Part(name) => {
                if self.parts.iter().any(|p| p.name == name) {
                    return Err(about(&mut words, "a name that no other part has", None));
                }
                self.parts.push(Part { name, line: Line(line), sentences: Vec::new() });
            }
            Made::Step { name, clean_up } => {
                let Some(journey) = self.journey.as_mut() else {
                    return Err(about(
                        &mut words,
                        "a part: these are common parts, without steps",
                        None,
                    ));
                };
                if journey.steps.iter().any(|s| s.name == name) {
                    return Err(about(&mut words, "a name that no other step has", None));
                }
                if !clean_up && journey.steps.last().is_some_and(|s| s.clean_up) {
                    return Err(about(
                        &mut words,
                        "clean-up steps at the end",
                        Some("move this step above them"),
                    ));
                }
                journey.steps.push(step(name, Line(line), clean_up));
            }
            Made::Within(ms) => {
                let Some(journey) = self.journey.as_mut() else { return Ok(()) };
                let within =
                    journey.steps.last_mut().map_or(&mut journey.within_ms, |s| &mut s.within_ms);
                if within.is_some() {
                    let hint = "remove this line or the earlier one";
                    return Err(about(&mut words, "one `within` only", Some(hint)));
                }
                *within = Some(ms);
            }
            Made::Header(name, value) => match self.send_above() {
                Some(send) => send.headers.push((name, value)),
                None => return Err(about(&mut words, "a `send` in the line above", None)),
            },
            Made::Body(body) => match self.send_above() {
                Some(send) if send.body.is_none() => send.body = Some(body),
                Some(_) => return Err(about(&mut words, "one body only", None)),
                None => return Err(about(&mut words, "a `send` in the line above", None)),
            },
            Made::Says(says) => {
                let sentence = Sentence { line: Line(line), says, up_to_ms: read.up_to_ms };
                if let Some(sentences) = self.sentences() {
                    sentences.push(sentence);
                }
            }
        }
        Ok(())
    }

    fn send_above(&mut self) -> Option<&mut super::Send> {
        match self.sentences()?.last_mut().map(|s| &mut s.says) {
            Some(Says::Send(send)) => Some(send),
            _ => None,
        }
    }

    fn end(&mut self) {
        let idle =
            |sentences: &[Sentence]| sentences.iter().all(|s| matches!(s.says, Says::Note(_)));
        if let Some(part) = self.parts.iter().find(|p| idle(&p.sentences)) {
            self.errors.push(whole(
                part.line.0,
                "a part that does nothing",
                "a sentence under it".into(),
            ));
        }
        let last = self.last_line.max(1);
        match self.journey.as_mut() {
            None if self.begin == Place::Shared => {}
            None => {
                if self.errors.is_empty() {
                    self.errors.push(whole(last, "no script", "`script \"NAME\"`".into()));
                }
            }
            Some(journey) => {
                journey.parts = std::mem::take(&mut self.parts);
                if !journey.steps.iter().any(|s| !s.clean_up) {
                    self.errors.push(whole(last, "no step", "at least one `step \"NAME\"`".into()));
                }
                if let Some(step) = journey.steps.iter().find(|s| idle(&s.sentences)) {
                    let says = "an action or an expectation under it".to_string();
                    // A step whose lines could not be read has something to do.
                    if self.errors.is_empty() {
                        self.errors.push(whole(step.line.0, "a step that does nothing", says));
                    }
                }
            }
        }
    }
}

fn step(name: String, line: Line, clean_up: bool) -> Step {
    Step { name, line, clean_up, within_ms: None, sentences: Vec::new() }
}

pub(super) fn whole(line: u32, found: &str, expected: String) -> ScriptError {
    ScriptError { line, column: 1, found: found.into(), expected, hint: None }
}
