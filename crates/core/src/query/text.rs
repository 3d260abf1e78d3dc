//! Queries as people write them: reading, printing, and how one could go on.

use super::{By, Condition, MOST_BY, MOST_CONDITIONS, MOST_MEASURES, MOST_ROWS, Query, Top};
use crate::measure::text::{Token, length, measure, number, scope, tokens, with_unit};
use crate::measure::{self, Measure, Scope, Subject, TextError, Unit};
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use std::fmt;
use std::str::FromStr;

/// What a part of a query begins with; its measures begin with nothing.
const CLAUSES: [&str; 4] = ["by", "for", "where", "top"];

/// A part of a query: the word it begins with, where that stands, and what follows.
struct Clause {
    word: &'static str,
    column: usize,
    tokens: Vec<Token>,
}

/// The words of a text, with commas that end them as words of their own.
fn words(text: &str) -> Result<Vec<Token>, TextError> {
    let mut all = Vec::new();
    for mut token in tokens(text)? {
        let ends = !token.is_quoted && token.text.len() > 1 && token.text.ends_with(',');
        let column = token.column + token.text.chars().count().saturating_sub(1);
        if ends {
            token.text.pop();
        }
        all.push(token);
        if ends {
            all.push(Token { column, text: ",".into(), is_quoted: false });
        }
    }
    Ok(all)
}

/// The parts of a query, its measures first.
fn clauses(words: Vec<Token>) -> Vec<Clause> {
    let mut all = vec![Clause { word: "", column: 1, tokens: Vec::new() }];
    for token in words {
        let held = all.len() - 1;
        let keyword = CLAUSES.into_iter().find(|word| token.is(word));
        // The order stands in the part that says how many.
        let is_order = token.is("by")
            && all[held].word == "top"
            && !all[held].tokens.iter().any(|t| t.is("by"));
        match keyword.filter(|_| !is_order) {
            Some(word) => all.push(Clause { word, column: token.column, tokens: Vec::new() }),
            None => all[held].tokens.push(token),
        }
    }
    all
}

/// Whether a measure is one that groups can come to: it asks for nothing before the stretch.
fn is_grouped(measure: &Measure) -> bool {
    let of = measure.subject();
    !measure.is_silence()
        && *measure != Measure::NewErrorKinds
        && !matches!(of, Subject::Goals | Subject::Dependencies)
}

fn whole_measure(part: &[Token], end: usize) -> Result<Measure, TextError> {
    let (found, took) = measure(part, end)?;
    if let Some(token) = part.get(took) {
        let says = format!(
            "“{}”, where a comma, “by”, “for”, “where”, “top” or the end would go on",
            token.text
        );
        return Err(TextError::at(token.column, says));
    }
    grouped(found, part.first().map_or(end, |t| t.column))
}

fn grouped(found: Measure, column: usize) -> Result<Measure, TextError> {
    if is_grouped(&found) {
        return Ok(found);
    }
    let says = format!("“{found}” looks beyond the stretch: ask for it on Measures, by itself");
    Err(TextError::at(column, says))
}

fn measures(part: &[Token], end: usize) -> Result<Vec<Measure>, TextError> {
    let mut all: Vec<Measure> = Vec::new();
    for piece in part.split(|t| t.is(",")) {
        let found = whole_measure(piece, piece.last().map_or(end, |_| end))?;
        let column = piece.first().map_or(end, |t| t.column);
        let first = all.first().map(Measure::subject);
        if let Some(first) = first.filter(|first| *first != found.subject()) {
            let says = format!(
                "“{found}” is of {}, the measures before it of {}: a query is about one of them",
                found.subject().words(),
                first.words()
            );
            return Err(TextError::at(column, says));
        }
        if all.contains(&found) {
            return Err(TextError::at(column, format!("“{found}” stands here twice")));
        }
        if all.len() >= MOST_MEASURES {
            let says = format!("a query asks for {MOST_MEASURES} measures at most");
            return Err(TextError::at(column, says));
        }
        all.push(found);
    }
    Ok(all)
}

fn told_apart(clause: &Clause, end: usize, subject: Subject) -> Result<Vec<By>, TextError> {
    let keys = || {
        let words: Vec<String> = By::of_subject(subject).iter().map(By::word).collect();
        words.join(", ")
    };
    let mut all: Vec<By> = Vec::new();
    for piece in clause.tokens.split(|t| t.is("and") || t.is(",")) {
        let Some(token) = piece.first() else {
            return Err(TextError::at(end, format!("the end, where one of {} goes on", keys())));
        };
        let found = By::of_word(&token.text).filter(|by| !token.is_quoted && by.fits(subject));
        let Some(found) = found else {
            let says = format!(
                "{} cannot be told apart by “{}”, only by {}",
                subject.words(),
                token.text,
                keys()
            );
            return Err(TextError::at(token.column, says));
        };
        if let Some(more) = piece.get(1) {
            let says = format!("“{}”, where “and” or the next part would go on", more.text);
            return Err(TextError::at(more.column, says));
        }
        if all.contains(&found) {
            let says = format!("{} stands here twice", found.word());
            return Err(TextError::at(token.column, says));
        }
        if all.len() >= MOST_BY {
            let says = format!("samples are told apart by {MOST_BY} things at most");
            return Err(TextError::at(token.column, says));
        }
        all.push(found);
    }
    Ok(all)
}

/// A level, in the unit of what it is a level of.
fn level(part: &[Token], end: usize, unit: Unit) -> Result<f64, TextError> {
    let column = part.first().map_or(end, |t| t.column);
    let wrong = |says: &str| Err(TextError::at(column, says));
    let text: String = part.iter().map(|t| t.text.as_str()).collect();
    let of_time = with_unit(part).filter(|(_, _, took)| *took == part.len());
    match unit {
        Unit::Share => match text.strip_suffix('%').and_then(number) {
            Some(percent) if percent <= 100.0 => Ok(percent),
            _ => wrong("a level of a share is a number of per cent, such as 5 %"),
        },
        Unit::Ms => match of_time.and_then(|(v, u, _)| Some(v * measure::text::ms_of_unit(u?)?)) {
            Some(ms) if ms < 1e12 => Ok(ms),
            _ => wrong("a level of a time is a number with a unit, such as 2.5 s"),
        },
        Unit::Bytes => match measure::text::read_size(&text) {
            Some(bytes) if bytes < 1e15 => Ok(bytes),
            _ => wrong("a level of a size is a number with a unit, such as 1.5 MB"),
        },
        _ => match number(&text) {
            Some(plain) if plain < 1e12 => Ok(plain),
            _ => wrong("a level of a count is a plain number, such as 100"),
        },
    }
}

fn conditions(clause: &Clause, end: usize, subject: Subject) -> Result<Vec<Condition>, TextError> {
    let mut all = Vec::new();
    for piece in clause.tokens.split(|t| t.is("and")) {
        let column = piece.first().map_or(end, |t| t.column);
        let (found, took) = measure(piece, end)?;
        let found = grouped(found, column)?;
        if found.subject() != subject {
            let says =
                format!("“{found}” is of {}, not of {}", found.subject().words(), subject.words());
            return Err(TextError::at(column, says));
        }
        let is_above = match piece.get(took) {
            Some(token) if token.is("above") => true,
            Some(token) if token.is("below") => false,
            other => {
                let at = other.map_or(end, |t| t.column);
                return Err(TextError::at(at, "“above” or “below” and a level go on here"));
            }
        };
        let level = level(&piece[took + 1..], end, found.unit())?;
        if all.len() >= MOST_CONDITIONS {
            let says = format!("a query has {MOST_CONDITIONS} conditions at most");
            return Err(TextError::at(column, says));
        }
        all.push(Condition { measure: found, is_above, level });
    }
    Ok(all)
}

fn top(clause: &Clause, end: usize, subject: Subject) -> Result<Top, TextError> {
    let first = clause.tokens.first();
    let many = first.and_then(|t| t.text.parse().ok()).filter(|n| (1..=MOST_ROWS).contains(n));
    let Some(many) = many else {
        let says = format!("“top” is followed by a number from 1 to {MOST_ROWS}");
        return Err(TextError::at(first.map_or(end, |t| t.column), says));
    };
    let by = match clause.tokens.get(1) {
        None => None,
        Some(token) if token.is("by") => {
            let found = whole_measure(&clause.tokens[2..], end)?;
            if found.subject() != subject {
                let says = format!("“{found}” is not of {}", subject.words());
                return Err(TextError::at(token.column, says));
            }
            Some(found)
        }
        Some(token) => {
            let says = format!("“{}”, where “by” or the end would go on", token.text);
            return Err(TextError::at(token.column, says));
        }
    };
    Ok(Top { many, by })
}

impl FromStr for Query {
    type Err = TextError;

    fn from_str(text: &str) -> Result<Query, TextError> {
        let end = text.chars().count() + 1;
        let parts = clauses(words(text)?);
        let asked = measures(&parts[0].tokens, parts.get(1).map_or(end, |c| c.column))?;
        let subject = asked.first().map_or(Subject::PageViews, Measure::subject);
        let mut query = Query {
            measures: asked,
            by: Vec::new(),
            scope: Scope::default(),
            conditions: Vec::new(),
            top: None,
        };
        for (nth, clause) in parts.iter().enumerate().skip(1) {
            if parts[1..nth].iter().any(|c| c.word == clause.word) {
                let says = format!("“{}” stands here twice", clause.word);
                return Err(TextError::at(clause.column, says));
            }
            let end = parts.get(nth + 1).map_or(end, |c| c.column);
            match clause.word {
                "by" => query.by = told_apart(clause, end, subject)?,
                "where" => query.conditions = conditions(clause, end, subject)?,
                "top" => query.top = Some(top(clause, end, subject)?),
                _ => {
                    let word =
                        Token { column: clause.column, text: "for".into(), is_quoted: false };
                    let of: Vec<Token> =
                        [word].into_iter().chain(clause.tokens.iter().cloned()).collect();
                    query.scope = scope(&of, end, subject)?;
                }
            }
        }
        match query.lacks() {
            Some(says) => Err(TextError::at(end, says)),
            None => Ok(query),
        }
    }
}

fn level_text(condition: &Condition) -> String {
    match condition.measure.unit() {
        Unit::Share => format!("{} %", condition.level),
        Unit::Ms => length(condition.level),
        Unit::Bytes => measure::text::size(condition.level),
        _ => condition.level.to_string(),
    }
}

impl fmt::Display for Condition {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let side = if self.is_above { "above" } else { "below" };
        write!(f, "{} {side} {}", self.measure, level_text(self))
    }
}

impl fmt::Display for Query {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let measures: Vec<String> = self.measures.iter().map(Measure::to_string).collect();
        f.write_str(&measures.join(", "))?;
        if !self.by.is_empty() {
            let by: Vec<String> = self.by.iter().map(By::word).collect();
            write!(f, " by {}", by.join(" and "))?;
        }
        if !self.scope.is_empty() {
            write!(f, " for {}", self.scope)?;
        }
        for (nth, condition) in self.conditions.iter().enumerate() {
            let word = if nth == 0 { "where" } else { "and" };
            write!(f, " {word} {condition}")?;
        }
        match &self.top {
            None => Ok(()),
            Some(Top { many, by: None }) => write!(f, " top {many}"),
            Some(Top { many, by: Some(by) }) => write!(f, " top {many} by {by}"),
        }
    }
}

impl Serialize for Query {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for Query {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Query, D::Error> {
        let text = String::deserialize(deserializer)?;
        text.parse().map_err(serde::de::Error::custom)
    }
}

/// The part of a query that its end lies in, what stands there since the part or its last comma or “and” began, and the first
/// measure of all.
fn at_end(text: &str) -> Option<(&'static str, Vec<Token>, Option<Measure>)> {
    let mut parts = clauses(words(text).ok()?);
    let first = parts[0].tokens.split(|t| t.is(",")).next().unwrap_or_default().to_vec();
    let first = measure(&first, 0).ok().map(|(m, _)| m);
    let last = parts.pop()?;
    Some((last.word, last.tokens, first))
}

/// Of what narrows a query, as far as it is typed, the same as one measure would have it: what names values completes that.
pub fn begun(text: &str) -> Option<String> {
    let (word, part, first) = at_end(text)?;
    let first = first.filter(|_| word == "for")?;
    let quoted = |t: &Token| match t.is_quoted {
        true => measure::scope::quoted(&t.text),
        false => t.text.clone(),
    };
    let part: Vec<String> = part.iter().map(quoted).collect();
    let space = if text.ends_with(char::is_whitespace) { " " } else { "" };
    Some(format!("{first} for {}{space}", part.join(" ")))
}

/// What could be typed next after this text, whole words; what has been begun of a word is completed.
pub fn complete(text: &str) -> Vec<String> {
    let Some((word, part, first)) = at_end(text) else { return Vec::new() };
    let is_open = text.ends_with(|c: char| !c.is_whitespace() && c != ',');
    let next = |words: &[&str], begun: Option<&Token>| -> Vec<String> {
        let fits = |w: &&&str| begun.is_none_or(|t| w.starts_with(&t.text) && **w != t.text);
        words.iter().filter(fits).map(|w| (*w).to_string()).collect()
    };
    let begun = part.last().filter(|_| is_open);
    let last = |part: &[Token], between: &str| -> Vec<Token> {
        part.split(|t| t.is(between)).next_back().unwrap_or_default().to_vec()
    };
    let of_measure = |part: &[Token], after: &[&str]| {
        let words: Vec<&str> = part.iter().map(|t| t.text.as_str()).collect();
        let space = if is_open || words.is_empty() { "" } else { " " };
        let mut all = measure::complete(&format!("{}{space}", words.join(" ")));
        all.retain(|word| word != "for");
        // A measure that is whole is followed by the next part.
        let settled = &part[..part.len() - usize::from(is_open && !part.is_empty())];
        if measure(settled, 0).is_ok_and(|(_, took)| took == settled.len()) {
            all.extend(next(after, begun));
        }
        all
    };
    let subject = first.as_ref().map(Measure::subject);
    match (word, subject) {
        ("", _) => of_measure(&last(&part, ","), &["by", "for", "where", "top"]),
        ("by", Some(subject)) => {
            let settled = part.len() - usize::from(begun.is_some());
            if settled % 2 == 1 {
                return next(&["and", "for", "where", "top"], begun);
            }
            let keys: Vec<String> = By::of_subject(subject).iter().map(By::word).collect();
            let named = |key: &&String| !part[..settled].iter().any(|t| t.text == **key);
            let keys: Vec<&str> = keys.iter().filter(named).map(String::as_str).collect();
            next(&keys, begun)
        }
        ("for", Some(_)) => {
            let text = super::begun(text).unwrap_or_default();
            let mut all = measure::complete(&text);
            if all.iter().any(|w| w == "and") {
                all.extend(next(&["by", "where", "top"], begun));
            }
            all
        }
        ("where", Some(_)) => {
            let piece = last(&part, "and");
            let of = of_measure(&piece, &["above", "below"]);
            match of.is_empty() && piece.iter().any(|t| t.is("above") || t.is("below")) {
                true => next(&["and", "top"], begun),
                false => of,
            }
        }
        ("top", Some(_)) => match part.iter().position(|t| t.is("by")) {
            Some(at) => of_measure(&part[at + 1..], &[]),
            None if part.is_empty() => next(&["10", "20", "50"], begun),
            None => next(&["by"], begun.filter(|_| part.len() > 1)),
        },
        _ => Vec::new(),
    }
}
