//! Measures as people write them: reading, printing, and what could come next.

use super::forms::{self, Form, Piece, Slot, Value};
use super::scope::{LONGEST_VALUE, MOST_VALUES, quoted};
use super::{Figure, Key, Measure, Scope, Subject};
use crate::timing::Vital;
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use std::fmt;
use std::str::FromStr;

/// Which number, of what: a measure with its scope.
#[derive(Debug, Clone, PartialEq)]
pub struct Measured {
    /// Which number.
    pub measure: Measure,
    /// Of what.
    pub scope: Scope,
}

/// A text has at most so many characters.
pub const LONGEST: usize = 2_000;

/// Why a text is no measure.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{}", self.words())]
pub struct TextError {
    /// Where, in characters from 1.
    pub column: usize,
    /// What is wrong there.
    pub says: String,
}

impl TextError {
    pub(crate) fn at(column: usize, says: impl Into<String>) -> TextError {
        TextError { column, says: says.into() }
    }

    fn words(&self) -> String {
        format!("column {}: {}", self.column, self.says)
    }
}

/// A word or a quoted text, and where it stands.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Token {
    /// In characters from 1.
    pub column: usize,
    /// Without the quotation marks.
    pub text: String,
    pub is_quoted: bool,
}

impl Token {
    /// Whether it is this word, unquoted.
    pub fn is(&self, word: &str) -> bool {
        !self.is_quoted && self.text == word
    }
}

/// The words and quoted texts of a text.
pub(crate) fn tokens(text: &str) -> Result<Vec<Token>, TextError> {
    if text.chars().count() > LONGEST {
        return Err(TextError::at(LONGEST, format!("a measure has at most {LONGEST} characters")));
    }
    let mut all: Vec<Token> = Vec::new();
    let mut chars = text.chars().enumerate().peekable();
    while let Some((nth, c)) = chars.next() {
        let column = nth + 1;
        if c.is_whitespace() {
            continue;
        }
        let mut token = Token { column, text: String::new(), is_quoted: c == '"' };
        if c == '"' {
            let mut is_closed = false;
            while let Some((_, c)) = chars.next() {
                match c {
                    '"' => {
                        is_closed = true;
                        break;
                    }
                    '\\' => token.text.extend(chars.next().map(|(_, c)| c)),
                    c => token.text.push(c),
                }
            }
            if !is_closed {
                return Err(TextError::at(column, "this quotation mark is never closed"));
            }
        } else {
            token.text.push(c);
            while let Some((_, c)) = chars.next_if(|(_, c)| !c.is_whitespace() && *c != '"') {
                token.text.push(c);
            }
        }
        all.push(token);
    }
    Ok(all)
}

/// A number that is no exponent, sign or infinity.
pub(crate) fn number(text: &str) -> Option<f64> {
    let is_plain = text.bytes().all(|b| b.is_ascii_digit() || b == b'.');
    (is_plain && text.bytes().any(|b| b.is_ascii_digit())).then(|| text.parse().ok())?
}

/// Units of time, the longest first, in milliseconds.
const TIMES: [(&str, f64); 5] =
    [("d", 86_400_000.0), ("h", 3_600_000.0), ("min", 60_000.0), ("s", 1_000.0), ("ms", 1.0)];

/// A number with its unit, which stand together or apart; answers how many tokens it took.
pub(crate) fn with_unit(tokens: &[Token]) -> Option<(f64, Option<&'static str>, usize)> {
    let first = tokens.first().filter(|t| !t.is_quoted)?;
    let unit = |text: &str| TIMES.iter().map(|(name, _)| *name).find(|name| *name == text);
    if let Some(value) = number(&first.text) {
        let next = tokens.get(1).filter(|t| !t.is_quoted).and_then(|t| unit(&t.text));
        return Some((value, next, 1 + usize::from(next.is_some())));
    }
    let end = first.text.find(|c: char| !c.is_ascii_digit() && c != '.')?;
    let (value, name) = first.text.split_at(end);
    Some((number(value)?, Some(unit(name)?), 1))
}

/// Milliseconds of one of a unit of time.
pub fn ms_of_unit(unit: &str) -> Option<f64> {
    TIMES.iter().find(|(name, _)| *name == unit).map(|(_, ms)| *ms)
}

fn in_ms(value: f64, unit: &str) -> Option<f64> {
    ms_of_unit(unit).map(|ms| value * ms)
}

impl Slot {
    /// What stands there, and how many tokens it takes.
    fn read(self, tokens: &[Token]) -> Option<(Value, usize)> {
        let first = tokens.first()?;
        match self {
            Slot::Percentile => {
                let percent = number(first.text.strip_prefix('p')?)?;
                let is_one = (1.0..=99.99).contains(&percent) && !first.is_quoted;
                // In hundredths of a per cent, so that what is printed is read back to the last bit.
                is_one.then_some((Value::Percentile((percent * 100.0).round() / 10_000.0), 1))
            }
            Slot::Vital => Some((Value::Vital(Vital::parse(&first.text)?), 1)),
            Slot::Figure => {
                let named = |figure| Some((Value::Figure(figure), 1));
                match first.text.as_str() {
                    "load" => named(Figure::Load),
                    text if text.eq_ignore_ascii_case("dns") => named(Figure::Dns),
                    "connect" => named(Figure::Connect),
                    "number" => {
                        let name = tokens.get(1).filter(|t| t.is_quoted && !t.text.is_empty())?;
                        Some((Value::Figure(Figure::Own(name.text.clone())), 2))
                    }
                    text => named(Figure::Vital(Vital::parse(text)?)),
                }
            }
            Slot::Limit => {
                let (value, unit, took) = with_unit(tokens)?;
                let (value, is_time) = match unit {
                    Some(unit) => (in_ms(value, unit)?, true),
                    None => (value, false),
                };
                (value > 0.0 && value < 1e9).then_some((Value::Limit(value, is_time), took))
            }
            Slot::Length => {
                let (value, unit, took) = with_unit(tokens)?;
                let seconds = in_ms(value, unit?)? / 1_000.0;
                let is_one = (60.0..=2_678_400.0).contains(&seconds) && seconds % 60.0 == 0.0;
                is_one.then_some((Value::Length(seconds as i64), took))
            }
        }
    }
}

/// Units of size, the largest first, in bytes (IEC 80000-13 and SI: decimal).
const SIZES: [(&str, f64); 4] = [("GB", 1e9), ("MB", 1e6), ("kB", 1e3), ("B", 1.0)];

/// A size as people read it: three digits of the unit that fits.
pub(crate) fn size_words(bytes: f64) -> String {
    let fits = |(_, factor): &&(&str, f64)| bytes.abs() >= *factor;
    match SIZES.iter().find(fits) {
        Some((unit, 1.0)) => format!("{bytes:.0} {unit}"),
        Some((unit, factor)) => {
            let value = bytes / factor;
            let digits = usize::from(value.abs() < 100.0) + usize::from(value.abs() < 10.0);
            format!("{value:.digits$} {unit}")
        }
        None => format!("{bytes:.0} B"),
    }
}

/// A size as it is typed and read back to the last bit.
pub(crate) fn size(bytes: f64) -> String {
    let reads_back = |(unit, factor): &&(&str, f64)| {
        let value = bytes / factor;
        value >= 1.0 && read_size(&format!("{value} {unit}")) == Some(bytes)
    };
    match SIZES.iter().find(reads_back) {
        Some((unit, factor)) => format!("{} {unit}", bytes / factor),
        None => format!("{bytes} B"),
    }
}

/// A size with its unit, such as `1.5 MB`, in bytes.
pub(crate) fn read_size(text: &str) -> Option<f64> {
    let text = text.trim();
    let (unit, factor) = SIZES.iter().find(|(unit, _)| text.ends_with(unit))?;
    Some(number(text[..text.len() - unit.len()].trim())? * factor)
}

/// A length in milliseconds, in the unit that reads best and is read back as it was.
pub fn length(ms: f64) -> String {
    let reads_back = |value: f64, factor: f64| {
        let text = value.to_string();
        number(&text).is_some_and(|v| v * factor == ms)
    };
    let best = TIMES.iter().find(|(_, factor)| {
        let value = ms / factor;
        let is_whole = value.fract() == 0.0 || *factor == 1_000.0;
        value >= 1.0 && is_whole && reads_back(value, *factor)
    });
    match best {
        Some((name, factor)) => format!("{} {name}", ms / factor),
        None => format!("{ms} ms"),
    }
}

impl fmt::Display for Value {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Value::Percentile(p) => write!(f, "p{}", (p * 1e6).round() / 1e4),
            Value::Figure(Figure::Vital(vital)) => f.write_str(vital.name()),
            Value::Figure(Figure::Load) => f.write_str("load"),
            Value::Figure(Figure::Dns) => f.write_str("DNS"),
            Value::Figure(Figure::Connect) => f.write_str("connect"),
            Value::Figure(Figure::Own(name)) => write!(f, "number {}", quoted(name)),
            Value::Vital(vital) => f.write_str(vital.name()),
            Value::Limit(ms, true) => f.write_str(&length(*ms)),
            Value::Limit(value, false) => write!(f, "{value}"),
            Value::Length(seconds) => f.write_str(&length(*seconds as f64 * 1_000.0)),
        }
    }
}

/// How far a form goes along with the tokens.
struct Fit {
    values: Vec<Value>,
    /// How many pieces fitted.
    pieces: usize,
    /// How many tokens they took.
    tokens: usize,
}

fn fit(form: &Form, tokens: &[Token]) -> Fit {
    let mut fit = Fit { values: Vec::new(), pieces: 0, tokens: 0 };
    for piece in form.pieces {
        let rest = &tokens[fit.tokens..];
        let took = match piece {
            Piece::Word(word) => rest
                .first()
                .is_some_and(|t| !t.is_quoted && t.text.eq_ignore_ascii_case(word))
                .then_some(1),
            Piece::Slot(slot) => slot.read(rest).map(|(value, took)| {
                fit.values.push(value);
                took
            }),
        };
        let Some(took) = took else { break };
        fit.tokens += took;
        fit.pieces += 1;
    }
    fit
}

fn expected(piece: &Piece) -> String {
    match piece {
        Piece::Word(word) => format!("“{word}”"),
        Piece::Slot(slot) => slot.words().to_string(),
    }
}

/// The measure that tokens begin with, and how many it took; `end` is the column after the last.
pub(crate) fn measure(tokens: &[Token], end: usize) -> Result<(Measure, usize), TextError> {
    let mut best: (usize, Vec<String>) = (0, Vec::new());
    // A longer form before a shorter one that it begins with.
    let mut whole: Option<(Measure, usize)> = None;
    for form in forms::forms() {
        let fit = fit(form, tokens);
        if fit.pieces == form.pieces.len() {
            if let Some(made) = (form.make)(&fit.values)
                && whole.as_ref().is_none_or(|(_, took)| fit.tokens > *took)
            {
                whole = Some((made, fit.tokens));
                continue;
            }
            let says =
                "a limit with a unit where a time is limited (2.5 s), and without where not (0.1)";
            (fit.tokens > best.0).then(|| best = (fit.tokens, vec![says.into()]));
            continue;
        }
        let wanted = expected(&form.pieces[fit.pieces]);
        match fit.tokens.cmp(&best.0) {
            std::cmp::Ordering::Greater => best = (fit.tokens, vec![wanted]),
            std::cmp::Ordering::Equal if !best.1.contains(&wanted) => best.1.push(wanted),
            _ => {}
        }
    }
    // What goes on after a whole measure is its scope, or a mistake that its own sentence tells.
    if let Some((measure, took)) = whole {
        return Ok((measure, took));
    }
    let column = tokens.get(best.0).map_or(end, |t| t.column);
    let found = tokens.get(best.0).map_or("the end".into(), |t| format!("“{}”", t.text));
    Err(TextError::at(column, format!("{found}, where {} would go on", best.1.join(", or "))))
}

/// What tokens that begin with “for” narrow samples to; nothing when there are none.
pub(crate) fn scope(tokens: &[Token], end: usize, subject: Subject) -> Result<Scope, TextError> {
    let mut scope = Scope::default();
    let mut rest = tokens.iter().peekable();
    let Some(first) = rest.next() else { return Ok(scope) };
    if first.is_quoted || first.text != "for" {
        return Err(TextError::at(
            first.column,
            format!("“{}”, where “for” or the end would go on", first.text),
        ));
    }
    let keys = || {
        let of = Key::of_subject(subject);
        let mut words: Vec<String> = of.iter().map(Key::word).collect();
        if of.iter().any(|key| matches!(key, Key::Attribute(_))) {
            words.push("attribute.name".into());
        }
        words.join(", ")
    };
    loop {
        let Some(word) = rest.next() else {
            return Err(TextError::at(end, format!("the end, where one of {} goes on", keys())));
        };
        let key = Key::of_word(&word.text).filter(|key| !word.is_quoted && key.fits(subject));
        let Some(key) = key else {
            let says = format!(
                "{} cannot be narrowed by “{}”, only by {}",
                subject.words(),
                word.text,
                keys()
            );
            return Err(TextError::at(word.column, says));
        };
        if !scope.of(&key).is_empty() {
            let says = format!("{} stands here twice: write its values with “or”", key.word());
            return Err(TextError::at(word.column, says));
        }
        loop {
            let Some(value) = rest.next() else {
                let says = format!("the end, where a value of {} goes on", key.word());
                return Err(TextError::at(end, says));
            };
            if value.text.chars().count() > LONGEST_VALUE {
                let says = format!("a value has at most {LONGEST_VALUE} characters");
                return Err(TextError::at(value.column, says));
            }
            scope = scope.and(key.clone(), &value.text);
            if scope.of(&key).len() > MOST_VALUES {
                let says = format!("at most {MOST_VALUES} values stand side by side");
                return Err(TextError::at(value.column, says));
            }
            if rest.next_if(|t| !t.is_quoted && t.text == "or").is_none() {
                break;
            }
        }
        match rest.next() {
            None => return Ok(scope),
            Some(t) if !t.is_quoted && t.text == "and" => {}
            Some(t) => {
                let says = format!("“{}”, where “or”, “and” or the end goes on", t.text);
                return Err(TextError::at(t.column, says));
            }
        }
    }
}

impl FromStr for Measured {
    type Err = TextError;

    fn from_str(text: &str) -> Result<Measured, TextError> {
        let tokens = tokens(text)?;
        let end = text.chars().count() + 1;
        let (measure, took) = measure(&tokens, end)?;
        let scope = scope(&tokens[took..], end, measure.subject())?;
        let measured = Measured { measure, scope };
        match measured.lacks() {
            None => Ok(measured),
            Some(says) => Err(TextError::at(end, says)),
        }
    }
}

impl Measured {
    /// The same with another name for something that it is narrowed to; `None` where that is not named.
    pub fn renamed(&self, key: &Key, was: &str, is: &str) -> Option<Measured> {
        let scope = self.scope.renamed(key, was, is)?;
        Some(Measured { measure: self.measure.clone(), scope })
    }

    /// What must be named besides, if anything.
    pub(crate) fn lacks(&self) -> Option<&'static str> {
        let has = |key: Key| !self.scope.of(&key).is_empty();
        let one = |key: Key| self.scope.of(&key).len() == 1;
        match &self.measure {
            Measure::RunTime(super::Span::Step, _) => (!one(Key::Journey) || !one(Key::Step))
                .then_some("a step's time asks for one journey and one step: write for journey \"…\" and step \"…\""),
            Measure::RunTime(super::Span::Mark, _) => (!one(Key::Mark))
                .then_some("a mark's time asks for one mark: write for mark \"…\""),
            m if has(Key::Mark) && !m.is_narrowed_by(&Key::Mark) => Some("only a mark's time is narrowed by a mark"),
            m if has(Key::Step) && !m.is_narrowed_by(&Key::Step) => Some("only a step's time is narrowed by a step"),
            m if m.subject() == Subject::Goals => {
                (!one(Key::Goal)).then_some("this asks for one goal: write for goal \"…\"")
            }
            Measure::DependencyState => (!one(Key::Dependency))
                .then_some("this asks for one dependency: write for dependency \"…\""),
            Measure::HappenedCount(_) | Measure::HappenedTime(..) if has(Key::Fault) => {
                Some("only the share of requests that failed is told apart by fault")
            }
            _ => None,
        }
    }
}

impl fmt::Display for Measure {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Some((form, values)) = forms::of(self) else { return Ok(()) };
        let mut values = values.iter();
        for (nth, piece) in form.pieces.iter().enumerate() {
            if nth > 0 {
                f.write_str(" ")?;
            }
            match piece {
                Piece::Word(word) => f.write_str(word)?,
                Piece::Slot(_) => values.next().map_or(Ok(()), |value| value.fmt(f))?,
            }
        }
        Ok(())
    }
}

impl fmt::Display for Measured {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.measure.fmt(f)?;
        if self.scope.is_empty() {
            return Ok(());
        }
        write!(f, " for {}", self.scope)
    }
}

impl Serialize for Measured {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for Measured {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Measured, D::Error> {
        String::deserialize(deserializer)?.parse().map_err(serde::de::Error::custom)
    }
}

/// The thing a value of which is being typed, with what has been typed of the value and what stood before it.
pub fn value_begun(text: &str) -> Option<(Key, String)> {
    let mut all = tokens(text).or_else(|_| tokens(&format!("{text}\""))).ok()?;
    let begun = match text.chars().last() {
        Some(c) if !c.is_whitespace() => all.pop().map(|t| t.text).unwrap_or_default(),
        _ => String::new(),
    };
    let (measure, took) = measure(&all, 0).ok()?;
    let mut key = None;
    let mut rest = all.get(took..)?.iter().skip(1);
    while let Some(token) = rest.next() {
        match token.text.as_str() {
            "and" if !token.is_quoted => key = None,
            "or" if !token.is_quoted => {}
            word if key.is_none() => key = Some(Key::of_word(word)?),
            // A value stands here already, and nothing that leads to another.
            _ if rest.clone().next().is_none() => return None,
            _ => {}
        }
    }
    key.filter(|key| key.fits(measure.subject())).map(|key| (key, begun))
}

/// What could be typed next after this text, whole words; what has been begun of a word is completed. At most a few dozen.
pub fn complete(text: &str) -> Vec<String> {
    let Ok(mut all) = tokens(text) else { return Vec::new() };
    let begun = match text.chars().last() {
        Some(c) if !c.is_whitespace() => all.pop(),
        _ => None,
    };
    let begins = |word: &str| match &begun {
        None => true,
        Some(t) => {
            !t.is_quoted
                && word.to_lowercase().starts_with(&t.text.to_lowercase())
                && word != t.text
        }
    };
    let mut next: Vec<String> = Vec::new();
    let mut add = |word: &str| {
        if begins(word) && !next.iter().any(|n| n == word) {
            next.push(word.to_string());
        }
    };
    for form in forms::forms() {
        let fit = fit(form, &all);
        if fit.tokens != all.len() {
            continue;
        }
        match form.pieces.get(fit.pieces) {
            Some(Piece::Word(word)) => add(word),
            Some(Piece::Slot(slot)) => slot.beginnings().iter().for_each(|word| add(word)),
            None => add("for"),
        }
    }
    let whole = measure(&all, 0).ok();
    let rest = whole.as_ref().and_then(|(m, took)| Some((m, m.subject(), all.get(*took..)?)));
    if let Some((measure, subject, [first, rest @ ..])) = rest
        && first.text == "for"
    {
        let named: Vec<&str> = rest.iter().map(|t| t.text.as_str()).collect();
        let wants_key = rest.last().is_none_or(|t| !t.is_quoted && t.text == "and");
        let wants_value = rest
            .last()
            .is_some_and(|t| !t.is_quoted && (t.text == "or" || Key::of_word(&t.text).is_some()));
        if wants_key {
            let keys = Key::of_subject(subject).into_iter();
            let keys = keys.filter(|key| measure.is_narrowed_by(key)).map(|key| key.word());
            keys.filter(|word| !named.contains(&word.as_str())).for_each(|word| add(&word));
        } else if !wants_value {
            ["and", "or"].into_iter().for_each(add);
        }
    }
    next
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::measure::{Counted, Ended, Happening, Rated, Span, Statistic, Tallied};
    use crate::visitor::Attribute;
    use proptest::prelude::*;

    fn statistic(of_time: bool) -> impl Strategy<Value = Statistic> {
        prop_oneof![
            (100u32..=9_999).prop_map(|p| Statistic::Percentile(f64::from(p) / 10_000.0)),
            Just(Statistic::Mean),
            (0.001..100_000.0f64).prop_map(move |limit| {
                Statistic::Within(if of_time { limit.max(1.0) } else { limit })
            }),
        ]
    }

    fn figure() -> impl Strategy<Value = Figure> {
        prop_oneof![
            prop::sample::select(Vital::ALL.to_vec()).prop_map(Figure::Vital),
            prop::sample::select(vec![Figure::Load, Figure::Dns, Figure::Connect]),
            "[ -~]{1,12}".prop_map(Figure::Own),
        ]
    }

    fn any_measure() -> impl Strategy<Value = Measure> {
        let plain =
            forms::forms().filter(|f| !f.pieces.iter().any(|p| matches!(p, Piece::Slot(_))));
        let plain: Vec<Measure> = plain.filter_map(|f| (f.make)(&[])).collect();
        let span = prop::sample::select(vec![
            Span::Run,
            Span::Step,
            Span::Mark,
            Span::Network,
            Span::Server,
            Span::Browser,
        ]);
        let tallied = prop::sample::select(vec![
            Tallied::Requests,
            Tallied::Bytes,
            Tallied::ThirdPartyBytes,
            Tallied::ScriptErrors,
        ]);
        let vital = prop::sample::select(Vital::ALL.to_vec());
        let happening = prop::sample::select(vec![Happening::Request, Happening::Action]);
        prop_oneof![
            prop::sample::select(plain),
            (span, statistic(true)).prop_map(|(span, s)| Measure::RunTime(span, s)),
            (tallied, 1u32..9_999).prop_map(|(tallied, p)| {
                Measure::RunTally(tallied, Statistic::Percentile(f64::from(p.max(100)) / 10_000.0))
            }),
            (figure(), statistic(false)).prop_map(|(figure, s)| Measure::ViewFigure(figure, s)),
            (vital.clone(), any::<bool>()).prop_map(|(vital, good)| {
                Measure::ViewsRated(vital, if good { Rated::Good } else { Rated::Poor })
            }),
            (1.0..60_000.0f64).prop_map(Measure::Apdex),
            (happening, statistic(true)).prop_map(|(what, s)| Measure::HappenedTime(what, s)),
            (1i64..3_000, 1i64..3_000)
                .prop_map(|(a, b)| Measure::Burn { long_s: a.max(b) * 60, short_s: a.min(b) * 60 }),
        ]
    }

    fn any_measured() -> impl Strategy<Value = Measured> {
        let values = prop::collection::vec((0..12usize, "[ -~äø]{1,10}"), 0..5);
        (any_measure(), values, "[ -~]{1,8}").prop_map(|(measure, values, own)| {
            let mut keys = Key::of_subject(measure.subject());
            keys.retain(|key| !matches!(key, Key::Step | Key::Mark | Key::Fault));
            keys.push(Key::Attribute(Attribute::Own(own.replace([' ', '"', '\\'], "x"))));
            keys.retain(|key| key.fits(measure.subject()));
            let is_single = |key: &Key| {
                matches!(key, Key::Goal | Key::Dependency)
                    || (*key == Key::Journey && matches!(measure, Measure::RunTime(Span::Step, _)))
            };
            let mut scope = Scope::default();
            for (nth, value) in values {
                let key = keys[nth % keys.len()].clone();
                if !is_single(&key) {
                    scope = scope.and(key, &value);
                }
            }
            for key in keys.into_iter().filter(is_single) {
                scope = scope.and(key, "one");
            }
            if matches!(measure, Measure::RunTime(Span::Step, _)) {
                scope = scope.and(Key::Step, "Search");
            }
            if matches!(measure, Measure::RunTime(Span::Mark, _)) {
                scope = scope.and(Key::Mark, "map in place");
            }
            Measured { measure, scope }
        })
    }

    proptest! {
        #[test]
        fn what_is_printed_is_read_back_as_it_was(measured in any_measured()) {
            let text = measured.to_string();
            prop_assert_eq!(text.parse::<Measured>(), Ok(measured), "{}", text);
        }

        #[test]
        fn no_text_does_harm_and_what_is_refused_says_where(text in "[a-zA-Z0-9 .\"\\\\%]{0,60}") {
            complete(&text);
            if let Err(e) = text.parse::<Measured>() {
                prop_assert!(e.column >= 1 && e.column <= text.chars().count() + 1 && !e.says.is_empty());
            }
        }

        #[test]
        fn completing_word_by_word_leads_through_every_measure(measured in any_measured()) {
            // Whatever is typed by hand (numbers, names in quotes) cannot be completed; every other word is offered.
            let text = measured.measure.to_string();
            let words = tokens(&text).unwrap();
            let mut typed = String::new();
            for word in words {
                let is_by_hand = word.is_quoted || word.text.contains(|c: char| c.is_ascii_digit());
                let is_unit = TIMES.iter().any(|(name, _)| *name == word.text);
                let offered = complete(&typed);
                prop_assert!(is_by_hand || is_unit || offered.contains(&word.text), "{typed:?} {word:?} {offered:?}");
                typed += &if word.is_quoted { quoted(&word.text) } else { word.text };
                typed.push(' ');
            }
        }
    }

    #[test]
    fn every_example_is_read_printed_alike_and_has_the_form_it_stands_beside() {
        for form in forms::forms() {
            let measured: Measured =
                form.example.parse().unwrap_or_else(|e| panic!("{}: {e}", form.example));
            assert_eq!(measured.to_string(), form.example);
            assert_eq!(measured.measure.subject(), form.subject, "{}", form.example);
            let (of, _) = forms::of(&measured.measure).unwrap();
            assert_eq!(of.example, form.example, "two forms take the same measure");
        }
    }

    #[test]
    fn mistakes_are_told_where_they_stand_with_what_would_be_right() {
        let mut told = Vec::new();
        for (text, column, says) in [
            ("p75 of LPC", 8, "LCP, INP, CLS, FCP, TTFB, load, DNS, connect, or number"),
            ("p100 of LCP", 1, "a percentile from p1 to p99.99"),
            (
                "p75 of LCP for journey \"x\"",
                16,
                "page views cannot be narrowed by “journey”, only by family",
            ),
            ("p75 of LCP for device", 22, "the end, where a value of device goes on"),
            ("p75 of LCP for device phone or", 31, "a value of device"),
            (
                "p75 of LCP for device phone device tablet",
                29,
                "“device”, where “or”, “and” or the end",
            ),
            ("p75 of LCP for device phone and device tablet", 33, "device stands here twice"),
            ("p75 of LCP by device", 12, "“by”, where “for” or the end would go on"),
            ("share of LCP within 2", 22, "a limit with a unit"),
            ("share of CLS within 2 s", 24, "a limit with a unit"),
            ("p75 of step duration", 21, "a step's time asks for one journey and one step"),
            ("availability for step \"Pay\"", 28, "only a step's time"),
            ("error budget left", 18, "this asks for one goal"),
            ("burn rate over 1 s and 5 min", 16, "“1”, where a length such as 5 min"),
            ("", 1, "the end"),
            ("availability for device \"phone", 25, "this quotation mark is never closed"),
        ] {
            let wrong = text.parse::<Measured>().unwrap_err();
            if !wrong.says.contains(says) || wrong.column != column {
                told.push(format!("{text}: {wrong}"));
            }
        }
        assert_eq!(told, [""; 0]);
        let long = format!("availability for journey {}", "x".repeat(3_000));
        assert!(long.parse::<Measured>().unwrap_err().says.contains("2000 characters"));
    }

    #[test]
    fn short_ways_of_writing_mean_the_same() {
        let same =
            |a: &str, b: &str| assert_eq!(a.parse::<Measured>().unwrap(), b.parse().unwrap());
        same("P75 of lcp".replacen('P', "p", 1).as_str(), "p75 of LCP");
        same("share of LCP within 2500ms", "share of LCP within 2.5 s");
        same("availability for journey book", "availability for journey \"book\"");
        same(
            "burn rate over 5 min and 1 h for goal x",
            "burn rate over 1 h and 5 min for goal \"x\"",
        );
        assert_eq!(Measure::Views(Counted::People).to_string(), "count of people");
        assert_eq!(Measure::ViewsEnded(Ended::Blank).to_string(), "share blank");
    }

    #[test]
    fn what_comes_next_is_offered_and_what_is_begun_completed() {
        assert!(complete("").contains(&"availability".to_string()));
        assert_eq!(complete("p75 of L"), ["LCP", "load"]);
        assert!(complete("p75 of LCP ").contains(&"for".to_string()));
        assert!(complete("p75 of LCP for ").contains(&"device".to_string()));
        assert!(!complete("p75 of LCP for ").contains(&"journey".to_string()));
        assert_eq!(complete("availability for journey \"x\" "), ["and", "or"]);
        assert_eq!(complete("availability for journey \"x\" and "), ["location"]);
        let step = "p75 of step duration for journey \"x\" and ";
        assert_eq!(complete(step), ["step", "location"]);
        let mark = "p75 of mark time for journey \"x\" and ";
        assert_eq!(complete(mark), ["mark", "location"]);
        assert!(complete("availability for journey ").is_empty(), "a name is not ours to guess");
        let begun = |text: &str| value_begun(text).map(|(key, begun)| (key.word(), begun));
        let some = |key: &str, begun: &str| Some((key.to_string(), begun.to_string()));
        assert_eq!(begun("availability for journey "), some("journey", ""));
        assert_eq!(begun("availability for journey \"Book a"), some("journey", "Book a"));
        assert_eq!(begun("p75 of LCP for device phone or ta"), some("device", "ta"));
        assert_eq!(begun("p75 of LCP for device phone "), None);
        assert_eq!(begun("p75 of LCP for device phone and country "), some("country", ""));
        assert_eq!(begun("p75 of "), None);
    }

    proptest! {
        #[test]
        fn a_size_is_printed_in_a_unit_and_read_back_to_the_last_bit(bytes in 0u64..1 << 52) {
            let text = size(bytes as f64);
            prop_assert_eq!(read_size(&text), Some(bytes as f64), "{}", text);
            prop_assert_eq!(read_size(&text.replace(' ', "")), Some(bytes as f64), "{}", text);
        }

        #[test]
        fn a_size_for_people_has_three_digits_and_is_within_half_a_hundredth_of_itself(bytes in 1.0..1e13f64) {
            let text = size_words(bytes);
            let near = read_size(&text).unwrap();
            prop_assert!((near - bytes).abs() <= (bytes * 0.005_1).max(0.5), "{} for {}", text, bytes);
            let digits = text.chars().filter(char::is_ascii_digit).count();
            prop_assert!(digits <= 3 || bytes >= 1e12 || text.starts_with("1000"), "{}", text);
        }
    }

    #[test]
    fn sizes_have_units_of_ten_and_nothing_else_is_one() {
        // SI prefixes with the byte of IEC 80000-13.
        for (text, bytes) in [("1.5 MB", 1.5e6), ("300kB", 3e5), ("2 GB", 2e9), ("17 B", 17.0)] {
            assert_eq!(read_size(text), Some(bytes), "{text}");
        }
        for text in ["", "MB", "1.5", "1.5 MiB", "-1 MB", "1e3 B", "1 mb", "one MB"] {
            assert_eq!(read_size(text), None, "{text}");
        }
        assert_eq!(size_words(0.0), "0 B");
        assert_eq!([size_words(999.0), size_words(1_234.0)], ["999 B", "1.23 kB"]);
        assert_eq!([size_words(45_678_901.0), size_words(7.7e11)], ["45.7 MB", "770 GB"]);
    }
}
