//! Writing a script: the one form that every journey has as text.

use super::{Element, Journey, Says};
use std::fmt::{Display, Formatter, Result, Write};

/// A text in quotes, on one line.
struct Quoted<'a>(&'a str);

impl Display for Quoted<'_> {
    fn fmt(&self, f: &mut Formatter<'_>) -> Result {
        f.write_char('"')?;
        for c in self.0.chars() {
            match c {
                '"' => f.write_str("\\\"")?,
                '\\' => f.write_str("\\\\")?,
                '\n' => f.write_str("\\n")?,
                '\r' => f.write_str("\\r")?,
                '\t' => f.write_str("\\t")?,
                c => f.write_char(c)?,
            }
        }
        f.write_char('"')
    }
}

struct Duration(u64);

impl Display for Duration {
    fn fmt(&self, f: &mut Formatter<'_>) -> Result {
        let ms = self.0;
        if ms < 1_000 {
            write!(f, "{ms} ms")
        } else if ms.is_multiple_of(1_000) {
            write!(f, "{} s", ms / 1_000)
        } else {
            let thousandths = format!("{:03}", ms % 1_000);
            write!(f, "{}.{} s", ms / 1_000, thousandths.trim_end_matches('0'))
        }
    }
}

impl Display for Element {
    fn fmt(&self, f: &mut Formatter<'_>) -> Result {
        match self {
            Element::Role { role, name } => write!(f, "{role} {}", Quoted(name)),
            Element::Field(label) => write!(f, "field {}", Quoted(label)),
            Element::Text(text) => write!(f, "text {}", Quoted(text)),
            Element::TestId(id) => write!(f, "test id {}", Quoted(id)),
            Element::Css(selector) => write!(f, "css {}", Quoted(selector)),
        }
    }
}

impl Display for Says {
    fn fmt(&self, f: &mut Formatter<'_>) -> Result {
        match self {
            Says::Note(note) => write!(f, "# {note}"),
            Says::Open(address) if address.contains([' ', '"', '\t']) => write!(f, "open {}", Quoted(address)),
            Says::Open(address) => write!(f, "open {address}"),
            Says::Press(element) => write!(f, "press {element}"),
            Says::Type { text, into } => write!(f, "type {} into {into}", Quoted(text)),
            Says::Choose { option, from } => write!(f, "choose {} in {from}", Quoted(option)),
            Says::ExpectText(text) => write!(f, "expect text {}", Quoted(text)),
            Says::ExpectElement(element) => write!(f, "expect element {element}"),
            Says::ExpectAddress(part) => write!(f, "expect address {}", Quoted(part)),
            Says::ExpectStatus(status) => write!(f, "expect status {status}"),
            Says::Mark { name, when } => write!(f, "mark {} when {when}", Quoted(name)),
        }
    }
}

impl Display for Journey {
    /// The script: reading it again gives this journey.
    fn fmt(&self, f: &mut Formatter<'_>) -> Result {
        writeln!(f, "journey {}", Quoted(&self.name))?;
        for note in &self.notes {
            writeln!(f, "  # {note}")?;
        }
        if let Some(ms) = self.within_ms {
            writeln!(f, "  within {}", Duration(ms))?;
        }
        for step in &self.steps {
            writeln!(f, "\nstep {}", Quoted(&step.name))?;
            for sentence in &step.sentences {
                writeln!(f, "  {}", sentence.says)?;
            }
            if let Some(ms) = step.within_ms {
                writeln!(f, "  within {}", Duration(ms))?;
            }
        }
        Ok(())
    }
}
