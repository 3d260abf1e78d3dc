//! Ready-made beginnings: two or three fields in, a script out.

use super::{
    By, Expectation, Journey, JsonIs, Ladder, Line, Says, ScriptError, Send, Sentence, Step,
    grammar::Slot, line::Words,
};
use crate::run::Look;

/// A beginning, with what it asks for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Starter {
    /// Its name in forms.
    pub slug: &'static str,
    /// What it is called.
    pub title: &'static str,
    /// What it is for.
    pub says: &'static str,
    /// What has to be filled in.
    pub fields: &'static [Field],
}

/// One thing a starter asks for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Field {
    /// Its name in forms.
    pub name: &'static str,
    /// What stands beside it.
    pub label: &'static str,
    /// What it could be filled in with.
    pub example: &'static str,
    /// May be left empty.
    pub optional: bool,
}

const fn field(name: &'static str, label: &'static str, example: &'static str) -> Field {
    Field { name, label, example, optional: false }
}

const ADDRESS: Field = field("address", "Address", "http://book.marram.example/");

/// All of them, in the order of the page.
pub const STARTERS: [Starter; 6] = [
    Starter {
        slug: "page",
        title: "One page",
        says: "Loads a page, expects a text on it, and holds its LCP and load under a limit.",
        fields: &[ADDRESS, field("text", "A text it must show", "Departures today")],
    },
    Starter {
        slug: "click-through",
        title: "Click through",
        says: "Loads a page and follows its links one after another, a step each.",
        fields: &[
            ADDRESS,
            field(
                "links",
                "Links to follow, by their texts, separated by commas",
                "Tomorrow, Timetable",
            ),
        ],
    },
    Starter {
        slug: "sign-in",
        title: "Sign in",
        says: "Signs in with a secret and expects a text that only a signed-in person sees.",
        fields: &[
            ADDRESS,
            field("user", "User name", "ada"),
            field("secret", "Name of the secret that holds the password", "desk_password"),
            field("text", "A text to be seen after it", "You are signed in"),
        ],
    },
    Starter {
        slug: "endpoint",
        title: "HTTP endpoint",
        says: "Sends a request without a browser and looks at status, time and JSON.",
        fields: &[
            field("address", "Address", "http://book.marram.example/api/sailings"),
            Field {
                optional: true,
                ..field("path", "A JSONPath that must find something", "$.sailings[0]")
            },
        ],
    },
    Starter {
        slug: "links",
        title: "Broken links",
        says: "Looks at the pages that an address leads to, and tells every link that leads nowhere, and where it stands.",
        fields: &[
            ADDRESS,
            Field { optional: true, ..field("links", "At most so many links", "50") },
            Field { optional: true, ..field("deep", "So many clicks away", "2") },
        ],
    },
    Starter {
        slug: "unchanged",
        title: "Unwanted change",
        says: "Compares text, structure, third-party hosts and picture of a page with what was accepted.",
        fields: &[
            ADDRESS,
            Field {
                optional: true,
                ..field("without", "Areas to leave out, as a CSS selector", "table, .clock")
            },
        ],
    },
];

/// A field that cannot be used as it is.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{label}: {says}")]
pub struct FieldError {
    /// The field.
    pub field: &'static str,
    /// What stands beside it.
    pub label: &'static str,
    /// What is wrong with it.
    pub says: String,
}

impl Starter {
    /// The one of this name.
    pub fn of(slug: &str) -> Option<Starter> {
        STARTERS.into_iter().find(|s| s.slug == slug)
    }

    /// The journey that begins so.
    ///
    /// # Errors
    /// The first field that is missing or wrong.
    pub fn journey<'a>(
        &self,
        name: &str,
        given: impl Fn(&str) -> Option<&'a str>,
    ) -> Result<Journey, FieldError> {
        let value = |field: &Field| {
            given(field.name).map(str::trim).filter(|v| !v.is_empty()).map(str::to_string)
        };
        for field in self.fields {
            if !field.optional && value(field).is_none() {
                let says = format!("is needed, for example {}", field.example);
                return Err(FieldError { field: field.name, label: field.label, says });
            }
        }
        let of = |name: &str| {
            self.fields.iter().find(|f| f.name == name).and_then(value).unwrap_or_default()
        };
        let wrong = |name: &str, says: String| {
            let field = self.fields.iter().find(|f| f.name == name);
            FieldError {
                field: field.map_or("", |f| f.name),
                label: field.map_or("", |f| f.label),
                says,
            }
        };
        let address = read(&of("address"), Slot::Address).map_err(|says| wrong("address", says))?;
        let open = Says::Open(address.clone());
        let shows = |text: String| Says::Expect(Expectation::Text { text, inside: None });
        let under = |what, ms| Says::Expect(Expectation::Under { what, ms });
        let steps = match self.slug {
            "page" => vec![step(
                "Open the page",
                vec![
                    open,
                    Says::Expect(Expectation::Status(200)),
                    shows(of("text")),
                    under(super::Timed::Vital(crate::timing::Vital::Lcp), 2_500),
                    under(super::Timed::Load, 4_000),
                ],
            )],
            "click-through" => {
                let mut steps =
                    vec![step("Open the page", vec![open, Says::Expect(Expectation::Status(200))])];
                for text in of("links").split(',').map(str::trim).filter(|t| !t.is_empty()) {
                    let by = |role: &str| By::Role { role: role.into(), name: Some(text.into()) };
                    let ladder = Ladder(vec![
                        by("link").into(),
                        by("button").into(),
                        By::Text(text.into()).into(),
                    ]);
                    let name: String =
                        format!("{}. {text}", steps.len() + 1).chars().take(80).collect();
                    steps.push(step(
                        &name,
                        vec![Says::Press(ladder), Says::Expect(Expectation::NoFailedRequests)],
                    ));
                }
                steps
            }
            "links" => {
                let count = |name: &str, usual: u32, most: u32| match of(name).as_str() {
                    "" => Ok(usual),
                    text => {
                        text.parse().ok().filter(|n| (1..=most).contains(n)).ok_or_else(|| {
                            wrong(name, format!("is a whole number from 1 to {most}"))
                        })
                    }
                };
                let (links, deep) = (count("links", 50, 1_000)?, count("deep", 2, 10)?);
                let crawl = Says::Crawl { from: address, links, deep, hosts: 1 };
                vec![step(
                    "Look at the links",
                    vec![crawl, Says::Expect(Expectation::NoBrokenLinks)],
                )]
            }
            "unchanged" => {
                let css = of("without");
                let without = (!css.is_empty()).then(|| Ladder(vec![By::Css(css).into()]));
                let look = |look| {
                    // Hosts are asked by the page as a whole.
                    let without = without.clone().filter(|_| look != Look::Hosts);
                    Says::Expect(Expectation::Unchanged { look, without })
                };
                vec![step(
                    "Open the page",
                    std::iter::once(open).chain(Look::ALL.map(look)).collect(),
                )]
            }
            "sign-in" => {
                let secret = of("secret");
                if !super::text::is_name(&secret) {
                    return Err(wrong(
                        "secret",
                        "is a small letter, then small letters, digits and _".into(),
                    ));
                }
                let field =
                    |labels: [&str; 3]| Ladder(labels.map(|l| By::Field(l.into()).into()).to_vec());
                let button =
                    |name: &str| By::Role { role: "button".into(), name: Some(name.into()) }.into();
                vec![
                    step("Open the page", vec![open]),
                    step(
                        "Sign in",
                        vec![
                            Says::Type {
                                text: of("user"),
                                into: field(["User", "User name", "E-mail"]),
                            },
                            Says::Type {
                                text: format!("{{secret {secret}}}"),
                                into: field(["Password", "Passphrase", "Code"]),
                            },
                            Says::Press(Ladder(
                                ["Sign in", "Log in", "Continue"].map(button).to_vec(),
                            )),
                            shows(of("text")),
                        ],
                    ),
                ]
            }
            _ => {
                let send = Send { method: "GET".into(), address, headers: Vec::new(), body: None };
                let mut says =
                    vec![Says::Send(Box::new(send)), Says::Expect(Expectation::Status(200))];
                let path = of("path");
                if !path.is_empty() {
                    let quoted = super::print::Quoted(&path).to_string();
                    let path = read(&quoted, Slot::JsonPath).map_err(|says| wrong("path", says))?;
                    says.push(Says::Expect(Expectation::Json { path, is: JsonIs::There }));
                }
                vec![Step { within_ms: Some(1_000), ..step("Ask", says) }]
            }
        };
        Ok(Journey {
            name: name.into(),
            within_ms: None,
            notes: Vec::new(),
            parts: Vec::new(),
            steps,
        })
    }
}

/// Reads a field as a script would.
fn read(text: &str, slot: Slot) -> Result<String, String> {
    let says = |e: ScriptError| match e.hint {
        Some(hint) => format!("expected {}; {hint}", e.expected),
        None => format!("expected {}", e.expected),
    };
    let mut words = Words::read(1, text).map_err(says)?;
    let read = slot.read(&mut words).map_err(says)?;
    words.end().map_err(says)?;
    match read {
        super::slot::Filled::Text(text) => Ok(text),
        _ => Ok(text.to_string()),
    }
}

fn step(name: &str, says: Vec<Says>) -> Step {
    let sentences =
        says.into_iter().map(|says| Sentence { line: Line(0), says, up_to_ms: None }).collect();
    Step { name: name.into(), line: Line(0), clean_up: false, within_ms: None, sentences }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_starter_makes_a_script_that_can_be_read_and_says_which_field_is_missing() {
        for starter in STARTERS {
            let example =
                |name: &str| starter.fields.iter().find(|f| f.name == name).map(|f| f.example);
            let journey = starter.journey("Mine", example).expect(starter.slug);
            let script = journey.to_string();
            assert_eq!(super::super::problems(&script, &[]), [], "{script}");
            assert_eq!(super::super::parse(&script), Ok(journey), "{script}");
            for field in starter.fields.iter().filter(|f| !f.optional) {
                let wrong =
                    starter.journey("Mine", |name| example(name).filter(|_| name != field.name));
                assert_eq!(wrong.expect_err("a field is missing").field, field.name);
            }
        }
        let page = Starter::of("page").expect("a starter");
        let wrong =
            page.journey("Mine", |name| Some(if name == "text" { "x" } else { "marram.example" }));
        let says = wrong.expect_err("no address").to_string();
        assert!(
            says.starts_with("Address: expected an address")
                && says.ends_with("write `https://marram.example`"),
            "{says}"
        );
    }
}
