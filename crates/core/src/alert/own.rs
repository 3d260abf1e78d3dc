//! Texts of one's own for what is told: a template in the syntax of Jinja, bounded in time, length and reach.

use minijinja::value::Serde;
use minijinja::{Environment, UndefinedBehavior, Value};
use serde::Serialize;
use std::io;

/// A template has so many characters at most.
pub const LONGEST_TEMPLATE: usize = 4_000;
/// And makes so many bytes at most.
pub const LONGEST_TEXT: usize = 8_000;
/// A template takes so many steps at most: loops end.
const FUEL: u64 = 50_000;

/// What a template can name.
#[derive(Debug, Clone, Default, PartialEq, Serialize)]
pub struct Told {
    /// The site.
    pub site: String,
    /// `opened`, `worsened`, `cleared`, `reopened`, `reminded`, `undelivered` or `test`.
    pub tells: String,
    /// `warning` or `critical`.
    pub severity: String,
    /// Such as “Critical: Booking fails (incident 12)”.
    pub title: String,
    /// What it is, in a sentence.
    pub says: String,
    /// When, by the clock of the site.
    pub at: String,
    /// The page that stands at that moment.
    pub link: String,
    /// Where whoever gets it says that they look after it; empty where there is nothing to acknowledge.
    pub acknowledge: String,
    /// The number of the incident; nothing for a test.
    pub incident: Option<i32>,
    /// What its alerts have in common.
    pub about: String,
    /// Whether it is acted out.
    pub is_rehearsal: bool,
}

impl Told {
    /// The names that a template can have.
    pub const NAMES: [&str; 11] = [
        "site",
        "tells",
        "severity",
        "title",
        "says",
        "at",
        "link",
        "acknowledge",
        "incident",
        "about",
        "is_rehearsal",
    ];

    /// Something to try a template with where nothing has been told yet.
    pub fn example() -> Told {
        Told {
            site: "Marram Ferries".into(),
            tells: "opened".into(),
            severity: "critical".into(),
            title: "Critical: Booking fails (incident 12)".into(),
            says: "Booking fails: share failed is 60 %".into(),
            at: "Sat 28 Nov 2026 08:30".into(),
            link: "https://cadentis.marram.example/marram-ferries/incidents/12".into(),
            acknowledge: "https://cadentis.marram.example/acknowledge/1-abc".into(),
            incident: Some(12),
            about: "journey book-a-crossing".into(),
            is_rehearsal: false,
        }
    }
}

/// Takes no more than so much.
struct Bounded(Vec<u8>);

impl io::Write for Bounded {
    fn write(&mut self, more: &[u8]) -> io::Result<usize> {
        if self.0.len() + more.len() > LONGEST_TEXT {
            return Err(io::Error::other("too long"));
        }
        self.0.extend_from_slice(more);
        Ok(more.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

/// What a template makes of what is told. It reads nothing else, and calls nothing.
///
/// # Errors
/// Says what is wrong with the template, and in which line.
pub fn rendered(template: &str, told: &Told) -> Result<String, String> {
    if template.chars().count() > LONGEST_TEMPLATE {
        return Err(format!("a text has {LONGEST_TEMPLATE} characters at most"));
    }
    let mut all = Environment::new();
    all.set_fuel(Some(FUEL));
    all.set_undefined_behavior(UndefinedBehavior::Strict);
    // What it is for is not HTML: quotes stay as they are, and JSON has a filter of its own.
    all.set_auto_escape_callback(|_| minijinja::AutoEscape::None);
    let mut out = Bounded(Vec::new());
    let tried = all.template_from_named_str("text", template);
    match tried.and_then(|t| t.render_captured_to(Value::from(Serde(told)), &mut out).map(|_| ())) {
        Ok(()) => Ok(String::from_utf8_lossy(&out.0).into_owned()),
        Err(e) => Err(wrong(&e)),
    }
}

fn wrong(e: &minijinja::Error) -> String {
    use minijinja::ErrorKind;
    let says = match e.kind() {
        ErrorKind::WriteFailure => {
            return format!("the text would be longer than {LONGEST_TEXT} bytes");
        }
        ErrorKind::OutOfFuel => "it takes too long".to_string(),
        ErrorKind::UndefinedError => {
            format!("it names what is not there; there is {}", Told::NAMES.join(", "))
        }
        _ => e.detail().map_or_else(|| e.kind().to_string(), str::to_string),
    };
    match e.line() {
        Some(line) => format!("line {line}: {says}"),
        None => says,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_template_says_what_is_told_and_makes_json_of_it_whatever_it_holds() {
        let told = Told { says: "“x” \"quoted\"\n<b> {{ link }}".into(), ..Told::example() };
        let text =
            rendered("{{ title }}{% if is_rehearsal %} (rehearsal){% endif %}\n{{ says }}", &told);
        assert_eq!(
            text.unwrap(),
            format!("{}\n{}", told.title, told.says),
            "what is told is no template"
        );
        let json =
            rendered("{\"text\": {{ says|tojson }}, \"n\": {{ incident|tojson }}}", &told).unwrap();
        let read: serde_json::Value = serde_json::from_str(&json).unwrap();
        assert_eq!(
            (read["text"].as_str(), read["n"].as_i64()),
            (Some(told.says.as_str()), Some(12))
        );
        let fields = serde_json::to_value(Told::example()).unwrap();
        let names: Vec<&String> = fields.as_object().unwrap().keys().collect();
        assert!(
            Told::NAMES.iter().all(|n| names.iter().any(|k| k == n))
                && names.len() == Told::NAMES.len()
        );
    }

    #[test]
    fn what_is_wrong_with_a_template_is_told_with_its_line() {
        let of = |template: &str| rendered(template, &Told::example()).unwrap_err();
        assert!(
            of("a\n{{ nothing }}")
                .starts_with("line 2: it names what is not there; there is site, tells")
        );
        assert!(of("{{ title").contains("line 1"));
        assert!(
            of("{% for i in range(9000) %}{% for j in range(9000) %}{% endfor %}{% endfor %}")
                .contains("it takes too long")
        );
        assert_eq!(
            of("{% for i in range(2000) %}12345678{% endfor %}"),
            "the text would be longer than 8000 bytes"
        );
        assert!(of(&"x".repeat(4_001)).contains("4000 characters"));
        assert!(of("{% include \"/etc/passwd\" %}").contains("line 1"));
    }

    proptest! {
        #[test]
        fn no_template_does_harm(template in "[{}% a-z|().\"\\[\\]~*0-9\n]{0,60}") {
            if let Ok(text) = rendered(&template, &Told::example()) {
                prop_assert!(text.len() <= LONGEST_TEXT);
            }
        }
    }
}
