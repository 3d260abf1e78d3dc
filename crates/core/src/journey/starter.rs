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
        let given = Given { fields: self.fields, value: &value };
        let steps = match self.slug {
            "page" => given.page()?,
            "click-through" => given.click_through()?,
            "links" => given.links()?,
            "unchanged" => given.unchanged()?,
            "sign-in" => given.sign_in()?,
            _ => given.interface()?,
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

/// What was filled in.
struct Given<'a> {
    fields: &'static [Field],
    value: &'a dyn Fn(&Field) -> Option<String>,
}

fn status_200() -> Says {
    Says::Expect(Expectation::Status(200))
}

fn shows(text: String) -> Says {
    Says::Expect(Expectation::Text { text, inside: None })
}

fn under(what: super::Timed, ms: u64) -> Says {
    Says::Expect(Expectation::Under { what, ms })
}

impl Given<'_> {
    fn field(&self, name: &str) -> Option<&Field> {
        self.fields.iter().find(|f| f.name == name)
    }

    /// What a field holds; nothing when it was left empty.
    fn of(&self, name: &str) -> String {
        self.field(name).and_then(self.value).unwrap_or_default()
    }

    fn wrong(&self, name: &str, says: String) -> FieldError {
        let field = self.field(name);
        let (field, label) = field.map_or(("", ""), |f| (f.name, f.label));
        FieldError { field, label, says }
    }

    fn address(&self) -> Result<String, FieldError> {
        read(&self.of("address"), Slot::Address).map_err(|says| self.wrong("address", says))
    }

    fn open(&self) -> Result<Says, FieldError> {
        Ok(Says::Open(self.address()?))
    }

    fn count(&self, name: &str, usual: u32, most: u32) -> Result<u32, FieldError> {
        match self.of(name).as_str() {
            "" => Ok(usual),
            text => text
                .parse()
                .ok()
                .filter(|n| (1..=most).contains(n))
                .ok_or_else(|| self.wrong(name, format!("is a whole number from 1 to {most}"))),
        }
    }

    fn page(&self) -> Result<Vec<Step>, FieldError> {
        let says = vec![
            self.open()?,
            status_200(),
            shows(self.of("text")),
            under(super::Timed::Vital(crate::timing::Vital::Lcp), 2_500),
            under(super::Timed::Load, 4_000),
        ];
        Ok(vec![step("Open the page", says)])
    }

    fn click_through(&self) -> Result<Vec<Step>, FieldError> {
        let mut steps = vec![step("Open the page", vec![self.open()?, status_200()])];
        for text in self.of("links").split(',').map(str::trim).filter(|t| !t.is_empty()) {
            let by = |role: &str| By::Role { role: role.into(), name: Some(text.into()) };
            let ladder = [by("link"), by("button"), By::Text(text.into())];
            let press = Says::Press(Ladder(ladder.map(Into::into).to_vec()));
            let name = format!("{}. {text}", steps.len() + 1);
            let name: String = name.chars().take(80).collect();
            let says = vec![press, Says::Expect(Expectation::NoFailedRequests)];
            steps.push(step(&name, says));
        }
        Ok(steps)
    }

    fn links(&self) -> Result<Vec<Step>, FieldError> {
        let from = self.address()?;
        let (links, deep) = (self.count("links", 50, 1_000)?, self.count("deep", 2, 10)?);
        let crawl = Says::Crawl { from, links, deep, hosts: 1 };
        let says = vec![crawl, Says::Expect(Expectation::NoBrokenLinks)];
        Ok(vec![step("Look at the links", says)])
    }

    fn unchanged(&self) -> Result<Vec<Step>, FieldError> {
        let css = self.of("without");
        let without = (!css.is_empty()).then(|| Ladder(vec![By::Css(css).into()]));
        let look = |look| {
            // Hosts are asked by the page as a whole.
            let without = without.clone().filter(|_| look != Look::Hosts);
            Says::Expect(Expectation::Unchanged { look, without })
        };
        let says = std::iter::once(self.open()?).chain(Look::ALL.map(look));
        Ok(vec![step("Open the page", says.collect())])
    }

    fn sign_in(&self) -> Result<Vec<Step>, FieldError> {
        let secret = self.of("secret");
        if !super::text::is_name(&secret) {
            let says = "is a small letter, then small letters, digits and _";
            return Err(self.wrong("secret", says.into()));
        }
        let field = |labels: [&str; 3]| Ladder(labels.map(|l| By::Field(l.into()).into()).to_vec());
        let button =
            |name: &str| By::Role { role: "button".into(), name: Some(name.into()) }.into();
        let (user, password) =
            (["User", "User name", "E-mail"], ["Password", "Passphrase", "Code"]);
        let says = vec![
            Says::Type { text: self.of("user"), into: field(user) },
            Says::Type { text: format!("{{secret {secret}}}"), into: field(password) },
            Says::Press(Ladder(["Sign in", "Log in", "Continue"].map(button).to_vec())),
            shows(self.of("text")),
        ];
        Ok(vec![step("Open the page", vec![self.open()?]), step("Sign in", says)])
    }

    fn interface(&self) -> Result<Vec<Step>, FieldError> {
        let (method, address) = ("GET".into(), self.address()?);
        let send = Send { method, address, headers: Vec::new(), body: None };
        let mut says = vec![Says::Send(Box::new(send)), status_200()];
        let path = self.of("path");
        if !path.is_empty() {
            let quoted = super::print::Quoted(&path).to_string();
            let path = read(&quoted, Slot::JsonPath).map_err(|says| self.wrong("path", says))?;
            says.push(Says::Expect(Expectation::Json { path, is: JsonIs::There }));
        }
        Ok(vec![Step { within_ms: Some(1_000), ..step("Ask", says) }])
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
