//! Reading a script.

use super::line::{Token, Words};
use super::{Element, Journey, Line, ROLES, Says, ScriptError, Sentence, Step};

/// A script longer than this is refused before it is read.
const MAX_LINES: usize = 2_000;
/// An hour: no budget of a page is longer.
const MAX_MS: u64 = 3_600_000;

/// Reads a script.
///
/// # Errors
/// The first thing that is wrong, with line, column, what was expected and, where it can be told,
/// what would be right.
///
/// ```
/// let e = cadentis_core::journey::parse("journey \"Buy\"\nstep \"Pay\"\n  pres button \"Pay\"").unwrap_err();
/// assert!(e.to_string().starts_with("line 3, column 3: found `pres`; expected `open`"));
/// assert!(e.to_string().ends_with("did you mean `press`?"));
/// ```
pub fn parse(script: &str) -> Result<Journey, ScriptError> {
    let mut journey: Option<Journey> = None;
    let mut notes = Vec::new();
    let mut last_line = 0;
    for (index, text) in script.lines().enumerate() {
        let line = index as u32 + 1;
        last_line = line;
        if index >= MAX_LINES {
            return Err(whole(line, "one more line", format!("at most {MAX_LINES} lines")));
        }
        let trimmed = text.trim();
        if trimmed.is_empty() {
            continue;
        }
        if let Some(note) = trimmed.strip_prefix('#') {
            let note = note.trim().to_string();
            match journey.as_mut() {
                None => notes.push(note),
                Some(Journey { steps, notes, .. }) => match steps.last_mut() {
                    None => notes.push(note),
                    Some(step) => step.sentences.push(Sentence { line: Line(line), says: Says::Note(note) }),
                },
            }
            continue;
        }
        let mut words = Words::read(line, text)?;
        match journey.as_mut() {
            None => {
                words.word(&["journey"])?;
                let name = name(&mut words, "the journey's name", "\"Book a crossing\"")?;
                journey = Some(Journey { name, within_ms: None, notes: std::mem::take(&mut notes), steps: Vec::new() });
            }
            Some(journey) => sentence(journey, &mut words, line)?,
        }
        words.end()?;
    }
    let journey = journey.ok_or_else(|| whole(last_line.max(1), "no journey", "`journey \"NAME\"`".into()))?;
    if journey.steps.is_empty() {
        return Err(whole(last_line, "no step", "at least one `step \"NAME\"`".into()));
    }
    if let Some(step) = journey.steps.iter().find(|s| s.sentences.iter().all(|s| matches!(s.says, Says::Note(_)))) {
        return Err(whole(step.line.0, "a step that does nothing", "an action or an expectation under it".into()));
    }
    Ok(journey)
}

fn whole(line: u32, found: &str, expected: String) -> ScriptError {
    ScriptError { line, column: 1, found: found.into(), expected, hint: None }
}

fn sentence(journey: &mut Journey, words: &mut Words, line: u32) -> Result<(), ScriptError> {
    let Some(step) = journey.steps.last_mut() else {
        match words.word(&["step", "within"])? {
            "within" if journey.within_ms.is_some() => return Err(twice(words)),
            "within" => journey.within_ms = Some(duration(words)?),
            _ => journey.steps.push(new_step(words, line)?),
        }
        return Ok(());
    };
    let says = match words.word(&["open", "press", "type", "choose", "expect", "mark", "within", "step"])? {
        "step" => {
            let step = new_step(words, line)?;
            if journey.steps.iter().any(|s| s.name == step.name) {
                words.step_back();
                return Err(words.wrong("a name that no other step has", None));
            }
            journey.steps.push(step);
            return Ok(());
        }
        "within" if step.within_ms.is_some() => return Err(twice(words)),
        "within" => {
            step.within_ms = Some(duration(words)?);
            return Ok(());
        }
        "open" => Says::Open(address(words)?),
        "press" => Says::Press(element(words)?),
        "type" => {
            let text = words.text("what to type", "\"Ada\"")?;
            words.word(&["into"])?;
            Says::Type { text, into: element(words)? }
        }
        "choose" => {
            let option = words.text("the option", "\"Lunnasay\"")?;
            words.word(&["in"])?;
            Says::Choose { option, from: element(words)? }
        }
        "mark" => {
            let name = name(words, "the mark's name", "\"prices shown\"")?;
            words.word(&["when"])?;
            Says::Mark { name, when: element(words)? }
        }
        _ => match words.word(&["text", "element", "address", "status"])? {
            "text" => Says::ExpectText(words.text("the text", "\"Your booking is held\"")?),
            "element" => Says::ExpectElement(element(words)?),
            "address" => Says::ExpectAddress(words.text("part of the address", "\"/sailings\"")?),
            _ => Says::ExpectStatus(status(words)?),
        },
    };
    step.sentences.push(Sentence { line: Line(line), says });
    Ok(())
}

fn twice(words: &Words) -> ScriptError {
    words.wrong("one `within` only", Some("remove this line or the earlier one".into()))
}

fn new_step(words: &mut Words, line: u32) -> Result<Step, ScriptError> {
    Ok(Step {
        name: name(words, "the step's name", "\"Search sailings\"")?,
        line: Line(line),
        within_ms: None,
        sentences: Vec::new(),
    })
}

/// A name is shown in tables and lanes: one to eighty characters, not only blanks.
fn name(words: &mut Words, what: &str, example: &str) -> Result<String, ScriptError> {
    let name = words.text(what, example)?;
    if name.trim().is_empty() || name.chars().count() > 80 {
        words.step_back();
        return Err(words.wrong(format!("{what}, 1 to 80 characters"), None));
    }
    Ok(name)
}

fn address(words: &mut Words) -> Result<String, ScriptError> {
    let expected = "an address that begins with http:// or https://";
    let address = words.any(expected)?;
    let after = address.strip_prefix("http://").or_else(|| address.strip_prefix("https://"));
    match after {
        Some(host) if !host.is_empty() && !host.starts_with('/') => Ok(address),
        Some(_) => {
            words.step_back();
            Err(words.wrong("a host name after `://`", None))
        }
        None => {
            words.step_back();
            let hint =
                (!address.contains("://") && address.contains('.')).then(|| format!("write `https://{address}`"));
            Err(words.wrong(expected, hint))
        }
    }
}

fn status(words: &mut Words) -> Result<u16, ScriptError> {
    let expected = "an HTTP status from 100 to 599";
    let word = words.any(expected)?;
    word.parse().ok().filter(|s| (100..600).contains(s)).ok_or_else(|| {
        words.step_back();
        words.wrong(expected, None)
    })
}

fn duration(words: &mut Words) -> Result<u64, ScriptError> {
    let expected = "a duration such as `2.5 s`";
    let word = words.any(expected)?;
    let digits = word.trim_end_matches(|c: char| c.is_ascii_alphabetic());
    let number: f64 = digits.parse().ok().filter(|n: &f64| n.is_finite()).ok_or_else(|| {
        words.step_back();
        words.wrong(expected, None)
    })?;
    let factor = match &word[digits.len()..] {
        "" => match words.word(&["ms", "s", "min"])? {
            "ms" => 1.0,
            "s" => 1_000.0,
            _ => 60_000.0,
        },
        "ms" => 1.0,
        "s" => 1_000.0,
        "min" => 60_000.0,
        _ => {
            words.step_back();
            return Err(words.wrong("a number with `ms`, `s` or `min`", None));
        }
    };
    let ms = (number * factor).round();
    if (1.0..=MAX_MS as f64).contains(&ms) {
        Ok(ms as u64)
    } else {
        words.step_back();
        Err(words.wrong("a duration from 1 ms to 60 min", None))
    }
}

fn element(words: &mut Words) -> Result<Element, ScriptError> {
    const KINDS: [&str; 4] = ["field", "text", "test", "css"];
    if let Some(Token::Text(text)) = words.peek() {
        let hint = format!("say what it is, for example `button \"{}\"`", text.escape_debug());
        return Err(words.wrong("`field`, `text`, `test id`, `css` or a role such as `button`", Some(hint)));
    }
    let all: Vec<&'static str> = KINDS.into_iter().chain(ROLES).collect();
    Ok(match words.word(&all)? {
        "field" => Element::Field(words.text("the field's label", "field \"Passengers\"")?),
        "text" => Element::Text(words.text("the text", "text \"from €\"")?),
        "css" => Element::Css(words.text("a CSS selector", "css \"#total\"")?),
        "test" => {
            words.word(&["id"])?;
            Element::TestId(words.text("the test id", "test id \"pay\"")?)
        }
        role => Element::Role { role: role.into(), name: words.text("its name", &format!("{role} \"Continue\""))? },
    })
}
