//! What is wrong with a script although every line of it can be read.

use super::parse::whole;
use super::text::{self, Used};
use super::{Expectation, Journey, Line, Moment, Part, Says, ScriptError, Sentence, Source, Timed};
use std::collections::{HashMap, HashSet};

/// Parts may follow parts, this deep.
const DEEPEST: usize = 8;
/// A script plays at most so many sentences, its parts followed: each time a part is followed it is played again.
const MOST_PLAYED: u64 = 20_000;
/// More that is wrong is not told.
const MOST_WRONG: usize = 100;

impl Journey {
    /// Everything that is wrong beyond the single line: parts that are not there or follow each other for
    /// ever, variables used before they have a value, secrets where they would be shown, marks that are not
    /// of the step.
    pub fn check(&self, shared: &[Part]) -> Vec<ScriptError> {
        let parts = Parts::of(self, shared);
        let mut wrong = parts.wrong;
        // A walk through parts that lead back to themselves would not end; one through these visits at most
        // [`MOST_PLAYED`] sentences.
        if wrong.is_empty() {
            let mut walk = Walk {
                parts: &parts.by_name,
                known: HashSet::from(text::GIVEN),
                wrong: Vec::new(),
            };
            for step in &self.steps {
                let mut marks = HashSet::new();
                walk.sentences(&step.sentences, None, &mut marks);
            }
            wrong = walk.wrong;
        }
        wrong.sort_by_key(|e| e.line);
        wrong.dedup();
        wrong.truncate(MOST_WRONG);
        wrong
    }

    /// The journey together with those shared parts that it follows.
    ///
    /// # Errors
    /// The first thing that [`Journey::check`] finds.
    pub fn with_parts(&self, shared: &[Part]) -> Result<Journey, ScriptError> {
        if let Some(wrong) = self.check(shared).into_iter().next() {
            return Err(wrong);
        }
        let mut journey = self.clone();
        let own: HashSet<String> = journey.parts.iter().map(|p| p.name.clone()).collect();
        // Lines of another text would be read as lines of this script.
        let nowhere = |part: &Part| {
            let sentences =
                part.sentences.iter().map(|s| Sentence { line: Line(0), ..s.clone() }).collect();
            Part { name: part.name.clone(), line: Line(0), sentences }
        };
        journey.parts.extend(shared.iter().filter(|p| !own.contains(&p.name)).map(nowhere));
        Ok(journey)
    }

    /// The names of the secrets it types or sends, parts included.
    pub fn secrets(&self) -> Vec<String> {
        let steps = self.steps.iter().flat_map(|s| &s.sentences);
        let mut names: Vec<String> = steps
            .chain(self.parts.iter().flat_map(|p| &p.sentences))
            .flat_map(|s| texts(&s.says))
            .flat_map(|(_, text)| text::used(text))
            .filter_map(|used| match used {
                Used::Secret(name) => Some(name.to_string()),
                Used::Variable(_) => None,
            })
            .collect();
        names.sort();
        names.dedup();
        names
    }
}

/// A part, and whether the site has it and not the script.
#[derive(Clone, Copy)]
struct Known<'a> {
    part: &'a Part,
    shared: bool,
}

/// The parts by their names, and what is wrong with how they follow each other. Each part is looked at once.
struct Parts<'a> {
    by_name: HashMap<&'a str, Known<'a>>,
    wrong: Vec<ScriptError>,
}

/// What following a part comes to.
#[derive(Clone, Copy)]
struct Weight {
    /// How many parts deep, itself counted.
    depth: usize,
    /// Sentences that are played, those of the parts that it follows each time anew.
    sentences: u64,
}

/// How far the look at a part is.
#[derive(Clone, Copy)]
enum Looked {
    Begun,
    Done(Weight),
}

impl<'a> Parts<'a> {
    fn of(journey: &'a Journey, shared: &'a [Part]) -> Parts<'a> {
        let mut by_name = HashMap::new();
        let all = journey.parts.iter().map(|part| Known { part, shared: false });
        for known in all.chain(shared.iter().map(|part| Known { part, shared: true })) {
            // The script's own goes before the site's.
            by_name.entry(known.part.name.as_str()).or_insert(known);
        }
        let mut parts = Parts { by_name, wrong: Vec::new() };
        let mut looked = HashMap::new();
        let mut played = 0u64;
        for step in &journey.steps {
            let weight = parts.weigh(&step.sentences, None, 0, &mut looked);
            played = played.saturating_add(weight.sentences);
        }
        if played > MOST_PLAYED && parts.wrong.is_empty() {
            let expected = format!(
                "parts that come to at most {MOST_PLAYED} sentences; here they are {played}"
            );
            let line = journey.steps.first().map_or(1, |s| s.line.0);
            parts.wrong.push(whole(line, "steps that follow parts", expected));
        }
        parts
    }

    /// `at`: the line that complaints are about, when these sentences stand in a part of the site.
    fn weigh(
        &mut self,
        sentences: &'a [Sentence],
        at: Option<u32>,
        above: usize,
        looked: &mut HashMap<&'a str, Looked>,
    ) -> Weight {
        let mut weight = Weight { depth: 0, sentences: sentences.len() as u64 };
        for sentence in sentences {
            let line = at.unwrap_or(sentence.line.0);
            let Some(name) = followed(&sentence.says) else { continue };
            let Some(known) = self.by_name.get(name).copied() else { continue };
            let inside = match looked.get(name).copied() {
                Some(Looked::Done(inside)) => inside,
                Some(Looked::Begun) => {
                    self.too_deep(line, name);
                    continue;
                }
                None if above + 1 > DEEPEST => {
                    self.too_deep(line, name);
                    continue;
                }
                None => {
                    looked.insert(name, Looked::Begun);
                    let at = (known.shared || at.is_some()).then_some(line);
                    let of = self.weigh(&known.part.sentences, at, above + 1, looked);
                    let inside = Weight { depth: of.depth + 1, sentences: of.sentences };
                    looked.insert(name, Looked::Done(inside));
                    inside
                }
            };
            // Looked at before from higher up.
            if above + inside.depth > DEEPEST {
                self.too_deep(line, name);
            }
            weight.depth = weight.depth.max(inside.depth);
            weight.sentences = weight.sentences.saturating_add(inside.sentences);
        }
        weight
    }

    fn too_deep(&mut self, line: u32, name: &str) {
        if self.wrong.len() < MOST_WRONG {
            let expected = format!("parts that follow each other at most {DEEPEST} deep");
            self.wrong.push(whole(line, &format!("the part \"{name}\" once more"), expected));
        }
    }
}

/// The part that a sentence follows, perhaps only if something is visible.
fn followed(says: &Says) -> Option<&str> {
    match says {
        Says::Follow(name) => Some(name),
        Says::If { then, .. } => followed(then),
        _ => None,
    }
}

struct Walk<'a> {
    parts: &'a HashMap<&'a str, Known<'a>>,
    known: HashSet<&'a str>,
    wrong: Vec<ScriptError>,
}

impl<'a> Walk<'a> {
    /// `at`: the line that complaints are about, when these sentences stand in a part of the site.
    fn sentences(
        &mut self,
        sentences: &'a [Sentence],
        at: Option<(u32, &str)>,
        marks: &mut HashSet<&'a str>,
    ) {
        for sentence in sentences {
            if self.wrong.len() >= MOST_WRONG {
                return;
            }
            let line = at.map_or(sentence.line.0, |(line, _)| line);
            let place = at.map(|(_, part)| format!(" in the part \"{part}\"")).unwrap_or_default();
            let says = match &sentence.says {
                Says::If { then, .. } => then,
                says => says,
            };
            for (may_be_secret, text) in texts(&sentence.says) {
                for used in text::used(text) {
                    match used {
                        Used::Secret(name) if !may_be_secret => self.wrong.push(ScriptError {
                            hint: Some("a secret may be typed into a field or sent in a header or body".into()),
                            ..whole(
                                line,
                                &format!("{{secret {name}}}{place}"),
                                "no secret here: it would be shown".into(),
                            )
                        }),
                        Used::Variable(name) if !self.known.contains(name) => self.wrong.push(ScriptError {
                            hint: Some(format!(
                                "write `let {name} be …` above it, or {{{{{name}}} for the text itself"
                            )),
                            ..whole(line, &format!("{{{name}}}{place}"), "a variable that has a value by then".into())
                        }),
                        _ => {}
                    }
                }
            }
            match says {
                Says::Let { name, .. } => {
                    self.known.insert(name);
                }
                Says::Mark { name, .. } => {
                    marks.insert(name);
                }
                Says::Expect(Expectation::Under { what: Timed::Mark(name), .. })
                    if !marks.contains(name.as_str()) =>
                {
                    let expected = "a mark noted above it in this step".into();
                    self.wrong.push(whole(line, &format!("the mark \"{name}\"{place}"), expected));
                }
                Says::Follow(name) => self.follow(name, line, &place, at.is_some(), marks),
                _ => {}
            }
        }
    }

    fn follow(
        &mut self,
        name: &'a str,
        line: u32,
        place: &str,
        shared: bool,
        marks: &mut HashSet<&'a str>,
    ) {
        let Some(known) = self.parts.get(name).copied() else {
            let mut names: Vec<String> =
                self.parts.keys().map(|name| format!("\"{name}\"")).collect();
            names.sort();
            names.truncate(20);
            let hint = if names.is_empty() {
                "there is none yet".into()
            } else {
                format!("there are {}", names.join(", "))
            };
            self.wrong.push(ScriptError {
                hint: Some(hint),
                ..whole(
                    line,
                    &format!("the part \"{name}\"{place}"),
                    "a part of this script or of the site".into(),
                )
            });
            return;
        };
        let at = (shared || known.shared).then_some((line, known.part.name.as_str()));
        self.sentences(&known.part.sentences, at, marks);
    }
}

/// The texts of a sentence in which variables can stand, and whether a secret may.
fn texts(says: &Says) -> Vec<(bool, &str)> {
    let mut all: Vec<(bool, &str)> = Vec::new();
    match says {
        Says::Open(t)
        | Says::Crawl { from: t, .. }
        | Says::WaitRequest(t)
        | Says::EnterWindow(t) => all.push((false, t)),
        Says::Press(l)
        | Says::Tick { what: l, .. }
        | Says::Hover(l)
        | Says::ScrollTo(l)
        | Says::WaitFor(l)
        | Says::WaitGone(l)
        | Says::EnterFrame(l) => all.extend(l.texts().map(|t| (false, t))),
        Says::Type { text, into } => {
            all.push((true, text));
            all.extend(into.texts().map(|t| (false, t)));
        }
        Says::Choose { option, from } => {
            all.push((false, option));
            all.extend(from.texts().map(|t| (false, t)));
        }
        Says::Upload { holds, into, .. } => {
            if let super::Holds::Text(t) = holds {
                all.push((false, t));
            }
            all.extend(into.texts().map(|t| (false, t)));
        }
        Says::Drag { what, to } => all.extend(what.texts().chain(to.texts()).map(|t| (false, t))),
        Says::Dialog(super::Reply::Answer(t)) => all.push((true, t)),
        Says::Let { be, .. } => match be {
            Source::Text(t) => all.push((false, t)),
            Source::TextOf(l) | Source::ValueOf(l) | Source::AttributeOf { of: l, .. } => {
                all.extend(l.texts().map(|t| (false, t)));
            }
            _ => {}
        },
        Says::If { visible, then } => {
            all.extend(visible.texts().map(|t| (false, t)));
            all.extend(texts(then));
        }
        Says::Mark { when, .. } => match when {
            Moment::Appears(l) => all.extend(l.texts().map(|t| (false, t))),
            Moment::Request(t) | Moment::Timing(t) => all.push((false, t)),
        },
        Says::Send(send) => {
            all.push((false, &send.address));
            all.extend(send.headers.iter().map(|(_, v)| (true, v.as_str())));
            all.extend(send.body.iter().map(|b| (true, b.as_str())));
        }
        Says::Expect(e) => match e {
            Expectation::Text { text, inside } => {
                all.push((false, text));
                all.extend(inside.iter().flat_map(|l| l.texts()).map(|t| (false, t)));
            }
            Expectation::NoText(t)
            | Expectation::Address(t)
            | Expectation::Title(t)
            | Expectation::Body(t)
            | Expectation::Dialog(t)
            | Expectation::Answer(t) => all.push((false, t)),
            Expectation::Element(l)
            | Expectation::NoElement(l)
            | Expectation::Unchanged { without: Some(l), .. }
            | Expectation::Count { of: l, .. } => {
                all.extend(l.texts().map(|t| (false, t)));
            }
            Expectation::Value { value, of } => {
                all.push((false, value));
                all.extend(of.texts().map(|t| (false, t)));
            }
            Expectation::Header { holds, .. } => all.push((false, holds)),
            Expectation::Json { is: super::JsonIs::Text(t), .. } => all.push((false, t)),
            Expectation::Under { what: Timed::Request(t), .. } => all.push((false, t)),
            _ => {}
        },
        _ => {}
    }
    all
}
