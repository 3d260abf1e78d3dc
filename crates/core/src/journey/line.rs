//! One line of a script as words, quoted texts and numbers, each with its column; and the error
//! that every complaint about a script is.

/// What is wrong with a script, and where.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("line {line}, column {column}: found {found}; expected {expected}{}", hint.as_ref().map(|h| format!("; {h}")).unwrap_or_default())]
pub struct ScriptError {
    /// From 1.
    pub line: u32,
    /// In characters, from 1.
    pub column: u32,
    /// What stands there.
    pub found: String,
    /// What would be right.
    pub expected: String,
    /// What would be right, when it can be told.
    pub hint: Option<String>,
}

/// A stretch of a line, for colouring: where, how long (in characters), and what it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Span {
    /// From 1.
    pub column: u32,
    /// Its length in characters.
    pub length: u32,
    /// What it is.
    pub kind: Kind,
}

/// What a word of a line is, for its colour.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// A word of the language.
    Word,
    /// A quoted text.
    Text,
    /// An address, number, duration, name: what the writer chose, without quotes.
    Value,
    /// A note.
    Note,
}

impl Kind {
    /// In one word, as pages have it.
    pub fn word(self) -> &'static str {
        match self {
            Kind::Word => "word",
            Kind::Text => "text",
            Kind::Value => "value",
            Kind::Note => "note",
        }
    }
}

#[derive(Debug, Clone, PartialEq)]
pub(super) enum Token {
    Word(String),
    Text(String),
}

/// The tokens of one line, taken from left to right.
pub(super) struct Words {
    line: u32,
    tokens: Vec<(Span, Token)>,
    next: usize,
    end_column: u32,
    /// Words of the language that could have stood where the last error was found.
    pub could_be: Vec<&'static str>,
}

impl Words {
    pub fn read(line: u32, text: &str) -> Result<Words, ScriptError> {
        let mut tokens = Vec::new();
        let chars: Vec<char> = text.chars().collect();
        let mut at = 0;
        while at < chars.len() {
            let start = at;
            let token = if chars[at].is_whitespace() {
                at += 1;
                continue;
            } else if chars[at] == '"' {
                let (quoted, after) =
                    quoted(&chars, at).map_err(|(wrong, found, expected)| ScriptError {
                        line,
                        column: wrong as u32 + 1,
                        found,
                        expected: expected.into(),
                        hint: None,
                    })?;
                at = after;
                Token::Text(quoted)
            } else {
                while at < chars.len() && !chars[at].is_whitespace() && chars[at] != '"' {
                    at += 1;
                }
                Token::Word(chars[start..at].iter().collect())
            };
            let kind = if matches!(token, Token::Text(_)) { Kind::Text } else { Kind::Value };
            tokens.push((
                Span { column: start as u32 + 1, length: (at - start) as u32, kind },
                token,
            ));
        }
        let end_column = text.trim_end().chars().count() as u32 + 1;
        Ok(Words { line, tokens, next: 0, end_column, could_be: Vec::new() })
    }

    /// What was read, for colouring; words not yet taken count as values.
    pub fn spans(&self) -> Vec<Span> {
        self.tokens.iter().map(|(span, _)| *span).collect()
    }

    pub fn peek(&self) -> Option<&Token> {
        self.tokens.get(self.next).map(|(_, t)| t)
    }

    pub fn at_end(&self) -> bool {
        self.peek().is_none()
    }

    /// Whether the next token is this word of the language.
    pub fn next_is(&self, word: &str) -> bool {
        matches!(self.peek(), Some(Token::Word(w)) if w == word)
    }

    /// An error about the next token.
    pub fn wrong(&self, expected: impl Into<String>, hint: Option<String>) -> ScriptError {
        let (column, found) = match self.tokens.get(self.next) {
            None => (self.end_column, "the end of the line".to_string()),
            Some((at, Token::Word(w))) => (at.column, format!("`{}`", shorten(w))),
            Some((at, Token::Text(t))) => (at.column, format!("the text \"{}\"", shorten(t))),
        };
        ScriptError { line: self.line, column, found, expected: expected.into(), hint }
    }

    /// An error about a token that should have been one of these words, or `or`.
    pub fn none_of(&mut self, allowed: &[&'static str], or: Option<&str>) -> ScriptError {
        self.could_be = allowed.to_vec();
        let near = match self.peek() {
            Some(Token::Word(word)) => nearest(word, allowed),
            _ => None,
        };
        let expected = match or {
            Some(or) => format!(
                "{} or {or}",
                allowed.iter().map(|w| format!("`{w}`")).collect::<Vec<_>>().join(", ")
            ),
            None => one_of(allowed),
        };
        self.wrong(expected, near.map(|n| format!("did you mean `{n}`?")))
    }

    /// Takes the next token if it is one of these words.
    pub fn take(&mut self, allowed: &[&'static str]) -> Option<&'static str> {
        let Some(Token::Word(word)) = self.peek() else { return None };
        let known = allowed.iter().find(|a| *a == word)?;
        self.tokens[self.next].0.kind = Kind::Word;
        self.next += 1;
        Some(known)
    }

    /// The next token must be one of these words.
    pub fn word(&mut self, allowed: &[&'static str]) -> Result<&'static str, ScriptError> {
        match self.take(allowed) {
            Some(known) => Ok(known),
            None => Err(self.none_of(allowed, None)),
        }
    }

    /// The next token must be a quoted text.
    pub fn text(&mut self, what: &str, example: &str) -> Result<String, ScriptError> {
        match self.peek() {
            Some(Token::Text(text)) => {
                let text = text.clone();
                self.next += 1;
                Ok(text)
            }
            Some(Token::Word(word)) => Err(self
                .wrong(format!("{what} in quotes"), Some(format!("write \"{}\"", shorten(word))))),
            None => {
                Err(self.wrong(format!("{what} in quotes"), Some(format!("for example {example}"))))
            }
        }
    }

    /// The next token, word or text, as it stands.
    pub fn any(&mut self, expected: &str) -> Result<String, ScriptError> {
        match self.peek() {
            Some(Token::Word(s) | Token::Text(s)) => {
                let s = s.clone();
                self.next += 1;
                Ok(s)
            }
            None => Err(self.wrong(expected, None)),
        }
    }

    pub fn step_back(&mut self) {
        self.next -= 1;
    }

    pub fn end(&self) -> Result<(), ScriptError> {
        match self.peek() {
            None => Ok(()),
            Some(_) => Err(self.wrong("the end of the line", None)),
        }
    }
}

type Misquoted = (usize, String, &'static str);

fn quoted(chars: &[char], open: usize) -> Result<(String, usize), Misquoted> {
    let mut text = String::new();
    let mut at = open + 1;
    while let Some(c) = chars.get(at) {
        match c {
            '"' => return Ok((text, at + 1)),
            '\\' => {
                text.push(match chars.get(at + 1) {
                    Some('n') => '\n',
                    Some('r') => '\r',
                    Some('t') => '\t',
                    Some(c @ ('"' | '\\')) => *c,
                    Some(c) => {
                        return Err((
                            at,
                            format!("`\\{c}`"),
                            "`\\\"`, `\\\\`, `\\n`, `\\r` or `\\t`",
                        ));
                    }
                    None => break,
                });
                at += 2;
            }
            c => {
                text.push(*c);
                at += 1;
            }
        }
    }
    Err((open, "a text that does not end on its line".into(), "a closing quote `\"`"))
}

fn one_of(words: &[&str]) -> String {
    match words {
        [one] => format!("`{one}`"),
        [most @ .., last] => {
            format!(
                "{} or `{last}`",
                most.iter().map(|w| format!("`{w}`")).collect::<Vec<_>>().join(", ")
            )
        }
        [] => String::new(),
    }
}

fn shorten(text: &str) -> String {
    if text.chars().count() <= 40 {
        text.escape_debug().to_string()
    } else {
        format!("{}…", text.chars().take(39).collect::<String>().escape_debug())
    }
}

/// The allowed word that is at most two slips (letters added, lost or changed) away.
fn nearest(word: &str, allowed: &[&'static str]) -> Option<&'static str> {
    let word: Vec<char> = word.to_lowercase().chars().take(24).collect();
    allowed
        .iter()
        .map(|a| (slips(&word, a), *a))
        .filter(|(d, a)| *d <= 2 && *d < a.len())
        .min()
        .map(|(_, a)| a)
}

fn slips(a: &[char], b: &str) -> usize {
    let mut row: Vec<usize> = (0..=a.len()).collect();
    for (j, cb) in b.chars().enumerate() {
        let mut diagonal = row[0];
        row[0] = j + 1;
        for (i, ca) in a.iter().enumerate() {
            let changed = diagonal + usize::from(*ca != cb);
            diagonal = row[i + 1];
            row[i + 1] = changed.min(row[i] + 1).min(diagonal + 1);
        }
    }
    row[a.len()]
}
