//! Writing a script: the one form that every journey has as text.

use super::{
    By, Element, End, Expectation, Holds, Journey, JsonIs, Ladder, Moment, Part, Reply, Says,
    Sentence, Source, Timed,
};
use std::fmt::{Display, Formatter, Result, Write};

/// A text in quotes, on one line.
pub(super) struct Quoted<'a>(pub &'a str);

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
        if ms < 1_000 { write!(f, "{ms} ms") } else { write!(f, "{} s", thousandths(ms)) }
    }
}

struct Size(u64);

impl Display for Size {
    fn fmt(&self, f: &mut Formatter<'_>) -> Result {
        match self.0 {
            b if b < 1_000 || !b.is_multiple_of(10) => write!(f, "{b} B"),
            b if b < 1_000_000 => write!(f, "{} kB", thousandths(b)),
            b if b.is_multiple_of(1_000) => write!(f, "{} MB", thousandths(b / 1_000)),
            b => write!(f, "{} kB", thousandths(b)),
        }
    }
}

/// A count of thousandths as a decimal number.
fn thousandths(n: u64) -> String {
    decimal(n, 1_000, 3)
}

fn decimal(n: u64, base: u64, digits: usize) -> String {
    if n.is_multiple_of(base) {
        return (n / base).to_string();
    }
    let rest = format!("{:0digits$}", n % base);
    format!("{}.{}", n / base, rest.trim_end_matches('0'))
}

impl Display for Element {
    fn fmt(&self, f: &mut Formatter<'_>) -> Result {
        match &self.by {
            By::Role { role, name: Some(name) } => write!(f, "{role} {}", Quoted(name)),
            By::Role { role, name: None } => write!(f, "any {role}"),
            By::Field(label) => write!(f, "field {}", Quoted(label)),
            By::Text(text) => write!(f, "text {}", Quoted(text)),
            By::TestId(id) => write!(f, "test id {}", Quoted(id)),
            By::Css(selector) => write!(f, "css {}", Quoted(selector)),
        }?;
        if let Some(number) = self.number {
            write!(f, " number {number}")?;
        }
        if let Some(inside) = &self.inside {
            write!(f, " in {inside}")?;
        }
        Ok(())
    }
}

impl Display for Ladder {
    fn fmt(&self, f: &mut Formatter<'_>) -> Result {
        for (rung, element) in self.0.iter().enumerate() {
            if rung > 0 {
                f.write_str(" or ")?;
            }
            write!(f, "{element}")?;
        }
        Ok(())
    }
}

/// An address, or another word, in quotes if it could not be read without.
struct Bare<'a>(&'a str);

impl Display for Bare<'_> {
    fn fmt(&self, f: &mut Formatter<'_>) -> Result {
        if self.0.contains([' ', '"', '\t']) {
            write!(f, "{}", Quoted(self.0))
        } else {
            f.write_str(self.0)
        }
    }
}

impl Display for Says {
    fn fmt(&self, f: &mut Formatter<'_>) -> Result {
        match self {
            Says::Note(note) => write!(f, "# {note}"),
            Says::Open(address) => write!(f, "open {}", Bare(address)),
            Says::Press(what) => write!(f, "press {what}"),
            Says::Type { text, into } => write!(f, "type {} into {into}", Quoted(text)),
            Says::Choose { option, from } => write!(f, "choose {} in {from}", Quoted(option)),
            Says::Tick { what, on: true } => write!(f, "tick {what}"),
            Says::Tick { what, on: false } => write!(f, "untick {what}"),
            Says::Hover(what) => write!(f, "hover over {what}"),
            Says::ScrollTo(what) => write!(f, "scroll to {what}"),
            Says::ScrollEnd(End::Top) => f.write_str("scroll to top"),
            Says::ScrollEnd(End::Bottom) => f.write_str("scroll to bottom"),
            Says::Key(keys) => write!(f, "key {keys}"),
            Says::Upload { file, holds: Holds::Bytes(bytes), into } => {
                write!(f, "upload {} of {} into {into}", Quoted(file), Size(*bytes))
            }
            Says::Upload { file, holds: Holds::Text(text), into } => {
                write!(f, "upload {} holding {} into {into}", Quoted(file), Quoted(text))
            }
            Says::Drag { what, to } => write!(f, "drag {what} to {to}"),
            Says::GoBack => f.write_str("go back"),
            Says::GoForward => f.write_str("go forward"),
            Says::Reload => f.write_str("reload"),
            Says::WaitFor(what) => write!(f, "wait for {what}"),
            Says::WaitGone(what) => write!(f, "wait for no {what}"),
            Says::WaitRequest(part) => write!(f, "wait for request {}", Quoted(part)),
            Says::EnterWindow(part) => write!(f, "enter window {}", Quoted(part)),
            Says::LeaveWindow => f.write_str("leave window"),
            Says::EnterFrame(what) => write!(f, "enter frame {what}"),
            Says::LeaveFrame => f.write_str("leave frame"),
            Says::Dialog(Reply::Accept) => f.write_str("accept dialog"),
            Says::Dialog(Reply::Dismiss) => f.write_str("dismiss dialog"),
            Says::Dialog(Reply::Answer(text)) => write!(f, "answer dialog {}", Quoted(text)),
            Says::Let { name, be } => write!(f, "let {name} be {be}"),
            Says::Follow(part) => write!(f, "follow {}", Quoted(part)),
            Says::If { visible, then } => write!(f, "if visible {visible} then {then}"),
            Says::Mark { name, when } => {
                write!(f, "mark {} ", Quoted(name))?;
                match when {
                    Moment::Appears(what) => write!(f, "when {what}"),
                    Moment::Timing(timing) => write!(f, "at timing {}", Quoted(timing)),
                    Moment::Request(part) => write!(f, "at request {}", Quoted(part)),
                }
            }
            // What goes with it stands on lines of its own; see Sentence.
            Says::Send(send) => write!(f, "send {} {}", send.method, Bare(&send.address)),
            Says::Crawl { from, links, deep, hosts } => {
                write!(f, "crawl {links} links {deep} deep {hosts} hosts from {from}")
            }
            Says::LookUp(host) => write!(f, "look up {host}"),
            Says::Connect { to, secure: false } => write!(f, "connect to {to}"),
            Says::Connect { to, secure: true } => write!(f, "tls {to}"),
            Says::Expect(e) => write!(f, "expect {e}"),
        }
    }
}

impl Display for Source {
    fn fmt(&self, f: &mut Formatter<'_>) -> Result {
        match self {
            Source::Text(text) => write!(f, "{}", Quoted(text)),
            Source::TextOf(what) => write!(f, "text of {what}"),
            Source::ValueOf(what) => write!(f, "value of {what}"),
            Source::AttributeOf { attribute, of } => {
                write!(f, "attribute {} of {of}", Quoted(attribute))
            }
            Source::Address => f.write_str("address"),
            Source::Title => f.write_str("title"),
            Source::Header(name) => write!(f, "header {}", Quoted(name)),
            Source::Json(path) => write!(f, "json {}", Quoted(path)),
        }
    }
}

impl Display for Expectation {
    fn fmt(&self, f: &mut Formatter<'_>) -> Result {
        match self {
            Expectation::Text { text, inside: None } => write!(f, "text {}", Quoted(text)),
            Expectation::Text { text, inside: Some(what) } => {
                write!(f, "text {} in {what}", Quoted(text))
            }
            Expectation::NoText(text) => write!(f, "no text {}", Quoted(text)),
            Expectation::Element(what) => write!(f, "element {what}"),
            Expectation::NoElement(what) => write!(f, "no element {what}"),
            Expectation::Value { value, of } => write!(f, "value {} in {of}", Quoted(value)),
            Expectation::Count { of, is, count } => write!(f, "{} {count} of {of}", is.words()),
            Expectation::Address(part) => write!(f, "address {}", Quoted(part)),
            Expectation::Title(part) => write!(f, "title {}", Quoted(part)),
            Expectation::Status(status) => write!(f, "status {status}"),
            Expectation::Header { name, holds } => {
                write!(f, "header {} with {}", Quoted(name), Quoted(holds))
            }
            Expectation::Body(part) => write!(f, "body {}", Quoted(part)),
            Expectation::Json { path, is } => {
                write!(f, "json {}", Quoted(path))?;
                match is {
                    JsonIs::There => Ok(()),
                    JsonIs::Text(value) => write!(f, " is {}", Quoted(value)),
                    JsonIs::AtLeast(n) => write!(f, " at least {n}"),
                    JsonIs::AtMost(n) => write!(f, " at most {n}"),
                }
            }
            Expectation::Dialog(part) => write!(f, "dialog {}", Quoted(part)),
            Expectation::NoScriptErrors => f.write_str("no script errors"),
            Expectation::NoFailedRequests => f.write_str("no failed requests"),
            Expectation::AtMostRequests(count) => write!(f, "at most {count} requests"),
            Expectation::SizeUnder(bytes) => write!(f, "size under {}", Size(*bytes)),
            Expectation::Under { what, ms } => write!(f, "{what} under {}", Duration(*ms)),
            Expectation::ShiftUnder(limit) => {
                write!(f, "CLS under {}", decimal(u64::from(*limit), 10_000, 4))
            }
            Expectation::Answer(part) => write!(f, "answer {}", Quoted(part)),
            Expectation::NoBrokenLinks => f.write_str("no broken links"),
            Expectation::Unchanged { look, without: None } => {
                write!(f, "unchanged {}", look.word())
            }
            Expectation::Unchanged { look, without: Some(what) } => {
                write!(f, "unchanged {} without {what}", look.word())
            }
            Expectation::CertificateDays(days) => write!(f, "certificate for {days} days"),
        }
    }
}

impl Display for Timed {
    fn fmt(&self, f: &mut Formatter<'_>) -> Result {
        match self {
            Timed::Vital(vital) => f.write_str(vital.name()),
            Timed::Load => f.write_str("load"),
            Timed::Mark(name) => write!(f, "mark {}", Quoted(name)),
            Timed::Request(part) => write!(f, "request {}", Quoted(part)),
        }
    }
}

impl Display for Sentence {
    fn fmt(&self, f: &mut Formatter<'_>) -> Result {
        write!(f, "  {}", self.says)?;
        if let Some(ms) = self.up_to_ms {
            write!(f, " up to {}", Duration(ms))?;
        }
        writeln!(f)?;
        if let Says::Send(send) = &self.says {
            for (name, value) in &send.headers {
                writeln!(f, "    with header {} {}", Quoted(name), Quoted(value))?;
            }
            if let Some(body) = &send.body {
                writeln!(f, "    with body {}", Quoted(body))?;
            }
        }
        Ok(())
    }
}

impl Display for Part {
    fn fmt(&self, f: &mut Formatter<'_>) -> Result {
        writeln!(f, "part {}", Quoted(&self.name))?;
        self.sentences.iter().try_for_each(|s| write!(f, "{s}"))
    }
}

impl Display for Journey {
    /// The script: reading it again gives this journey.
    fn fmt(&self, f: &mut Formatter<'_>) -> Result {
        writeln!(f, "script {}", Quoted(&self.name))?;
        for note in &self.notes {
            writeln!(f, "  # {note}")?;
        }
        if let Some(ms) = self.within_ms {
            writeln!(f, "  within {}", Duration(ms))?;
        }
        for part in &self.parts {
            write!(f, "\n{part}")?;
        }
        for step in &self.steps {
            let word = if step.clean_up { "clean up" } else { "step" };
            writeln!(f, "\n{word} {}", Quoted(&step.name))?;
            for sentence in &step.sentences {
                write!(f, "{sentence}")?;
            }
            if let Some(ms) = step.within_ms {
                writeln!(f, "  within {}", Duration(ms))?;
            }
        }
        Ok(())
    }
}
