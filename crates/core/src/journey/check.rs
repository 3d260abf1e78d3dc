//! What is wrong with a script although every line of it can be read.

use super::parse::whole;
use super::text::{self, Used};
use super::{Expectation, Journey, Line, Moment, Part, Says, ScriptError, Sentence, Source, Timed};
use std::collections::HashSet;

/// Parts may follow parts, this deep.
const DEEPEST: usize = 8;

impl Journey {
    /// Everything that is wrong beyond the single line: parts that are not there or follow each other for
    /// ever, variables used before they have a value, secrets where they would be shown, marks that are not
    /// of the step.
    pub fn check(&self, shared: &[Part]) -> Vec<ScriptError> {
        let mut walk = Walk { own: &self.parts, shared, known: HashSet::from(text::GIVEN), wrong: Vec::new() };
        for step in &self.steps {
            let mut marks = HashSet::new();
            walk.sentences(&step.sentences, None, 0, &mut marks);
        }
        walk.wrong.sort_by_key(|e| e.line);
        walk.wrong.dedup();
        walk.wrong
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
            let sentences = part.sentences.iter().map(|s| Sentence { line: Line(0), ..s.clone() }).collect();
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

struct Walk<'a> {
    own: &'a [Part],
    shared: &'a [Part],
    known: HashSet<&'a str>,
    wrong: Vec<ScriptError>,
}

impl<'a> Walk<'a> {
    /// `at`: the line that complaints are about, when these sentences stand in a part of the site.
    fn sentences(
        &mut self,
        sentences: &'a [Sentence],
        at: Option<(u32, &str)>,
        depth: usize,
        marks: &mut HashSet<&'a str>,
    ) {
        for sentence in sentences {
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
                Says::Expect(Expectation::Under { what: Timed::Mark(name), .. }) if !marks.contains(name.as_str()) => {
                    let expected = "a mark noted above it in this step".into();
                    self.wrong.push(whole(line, &format!("the mark \"{name}\"{place}"), expected));
                }
                Says::Follow(name) => self.follow(name, line, &place, at.is_some(), depth, marks),
                _ => {}
            }
        }
    }

    fn follow(&mut self, name: &str, line: u32, place: &str, shared: bool, depth: usize, marks: &mut HashSet<&'a str>) {
        if depth >= DEEPEST {
            let expected = format!("parts that follow each other at most {DEEPEST} deep");
            self.wrong.push(whole(line, &format!("the part \"{name}\"{place} once more"), expected));
            return;
        }
        let own = self.own.iter().find(|p| p.name == name);
        match own.or_else(|| self.shared.iter().find(|p| p.name == name)) {
            Some(part) => {
                let at = (shared || own.is_none()).then_some((line, part.name.as_str()));
                self.sentences(&part.sentences, at, depth + 1, marks);
            }
            None => {
                let names: Vec<String> =
                    self.own.iter().chain(self.shared).map(|p| format!("\"{}\"", p.name)).collect();
                let hint = if names.is_empty() {
                    "there is none yet".into()
                } else {
                    format!("there are {}", names.join(", "))
                };
                self.wrong.push(ScriptError {
                    hint: Some(hint),
                    ..whole(line, &format!("the part \"{name}\"{place}"), "a part of this script or of the site".into())
                });
            }
        }
    }
}

/// The texts of a sentence in which variables can stand, and whether a secret may.
fn texts(says: &Says) -> Vec<(bool, &str)> {
    let mut all: Vec<(bool, &str)> = Vec::new();
    match says {
        Says::Open(t) | Says::Crawl { from: t, .. } | Says::WaitRequest(t) | Says::EnterWindow(t) => {
            all.push((false, t))
        }
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
