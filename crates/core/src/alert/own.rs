//! Texts of one's own for what is told: a template in the syntax of Jinja, bounded in time, length and reach.
//!
//! Fuel bounds steps and we bound what comes out, but a step can double what it holds, and a template has room for a hundred of
//! them. So there is `if` alone, filters that make nothing longer but by quoting it, and no `*`: what is left grows no faster than the
//! template is written.

use minijinja::value::Serde;
use minijinja::{Environment, UndefinedBehavior, Value, filters};
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
    /// `opened`, `worsened`, `cleared`, `reopened`, `reminded`, `undelivered`, `report` or `test`.
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

/// Statements that a template can have.
const STATEMENTS: [&str; 4] = ["if", "elif", "else", "endif"];

/// That a template has nothing in it by which it could grow.
fn check(template: &str) -> Result<(), String> {
    let line = |at: usize| template[..at].matches('\n').count() + 1;
    let mut at = 0;
    while let Some(found) = template[at..].find(['{']) {
        let begin = at + found;
        at = begin + 1;
        let rest = &template[begin..];
        let is_statement = rest.starts_with("{%");
        if !is_statement && !rest.starts_with("{{") {
            continue;
        }
        let inside = rest[2..].trim_start_matches(['-', '+']).trim_start();
        let word: String =
            inside.chars().take_while(|c| c.is_alphanumeric() || *c == '_').collect();
        if is_statement && !STATEMENTS.contains(&word.as_str()) {
            let all = STATEMENTS.join(", ");
            return Err(format!("line {}: “{word}” is not taken: there is {all}", line(begin)));
        }
        // Whatever a text in quotation marks holds is no part of it.
        let (mut quote, mut escaped) = (None, false);
        for (place, c) in rest[2..].char_indices() {
            let here = begin + 2 + place;
            match quote {
                Some(_) if escaped => escaped = false,
                Some(_) if c == '\\' => escaped = true,
                Some(q) if c == q => quote = None,
                Some(_) => {}
                None if c == '"' || c == '\'' => quote = Some(c),
                None if c == '*' => return Err(format!("line {}: “*” is not taken", line(here))),
                None if c == '}' => {
                    at = here;
                    break;
                }
                None => {}
            }
        }
    }
    Ok(())
}

/// What a template makes of what is told. It reads nothing else, and calls nothing.
///
/// # Errors
/// Says what is wrong with the template, and in which line.
pub fn rendered(template: &str, told: &Told) -> Result<String, String> {
    if template.chars().count() > LONGEST_TEMPLATE {
        return Err(format!("a text has {LONGEST_TEMPLATE} characters at most"));
    }
    check(template)?;
    let mut all = Environment::empty();
    all.add_filter("upper", filters::upper);
    all.add_filter("lower", filters::lower);
    all.add_filter("trim", filters::trim);
    all.add_filter("tojson", filters::tojson);
    all.add_filter("default", filters::default);
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
        assert!(of(&"x".repeat(4_001)).contains("4000 characters"));
        let long = Told { says: "x".repeat(3_000), ..Told::example() };
        let much = rendered("{{ says }}{{ says }}{{ says }}", &long);
        assert_eq!(much.unwrap_err(), "the text would be longer than 8000 bytes");
        assert!(of("{% include \"/etc/passwd\" %}").contains("line 1"));
    }

    #[test]
    fn nothing_can_be_doubled_until_it_fills_the_memory() {
        let of = |template: &str| rendered(template, &Told::example());
        for (template, says) in [
            (
                format!("{{% set x = says %}}{}", "{% set x = x ~ x %}".repeat(200)),
                "“set” is not taken",
            ),
            ("{% with x = says ~ says %}{{ x }}{% endwith %}".into(), "“with” is not taken"),
            ("{%- for x in [says ~ says] %}{{ x }}{% endfor %}".into(), "“for” is not taken"),
            ("{{ \"x\" * 4000000000 }}".into(), "“*” is not taken"),
            ("{{ \"}}\" * 4000000000 }}".into(), "“*” is not taken"),
            ("{{ 'a\\'}}' * 4000000000 }}".into(), "“*” is not taken"),
            ("{{ [1] * 4000000000 }}".into(), "“*” is not taken"),
            ("{{ says|replace('a', says) }}".into(), "unknown"),
            ("{{ range(9) }}".into(), "range is unknown"),
        ] {
            let why = of(&template).unwrap_err();
            assert!(why.contains(says), "{template}: {why}");
        }
        // What stands outside, or in quotation marks, is a text.
        assert_eq!(of("*{{ severity }}* 2 * 3 { % {").unwrap(), "*critical* 2 * 3 { % {");
        assert_eq!(of("{{ 'a*b' ~ \"*\" }}").unwrap(), "a*b*");
        assert_eq!(of("{%- if is_rehearsal -%} no {%- else -%} yes {%- endif -%}").unwrap(), "yes");
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
