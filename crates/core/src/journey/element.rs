//! How something on a page is found.
//!
//! An element is known by an ARIA role and its name, by its field's label, by its text, by a test
//! id or by a CSS selector; `number N` takes the Nth of several, `in` looks inside another element.
//! A ladder is several ways to the same element, the best first: a run that had to use a lower rung
//! still passes and says so.

/// Several ways to find one element, the best first; never empty.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Ladder(pub Vec<Element>);

/// One way to find something: a rung of a ladder.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Element {
    /// How it is found.
    pub by: By,
    /// Which of several, from 1.
    pub number: Option<u32>,
    /// The element it is looked for in.
    pub inside: Option<Box<Element>>,
}

/// Ways to find an element.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum By {
    /// An ARIA role; without a name any element of the role.
    Role {
        /// Its role.
        role: String,
        /// Its accessible name.
        name: Option<String>,
    },
    /// A field by its label.
    Field(String),
    /// By the text in it.
    Text(String),
    /// By its `data-testid`.
    TestId(String),
    /// By a CSS selector.
    Css(String),
}

impl From<By> for Element {
    fn from(by: By) -> Element {
        Element { by, number: None, inside: None }
    }
}

impl From<Element> for Ladder {
    fn from(element: Element) -> Ladder {
        Ladder(vec![element])
    }
}

impl Ladder {
    /// The same ladder with every text changed; for variables.
    ///
    /// # Errors
    /// The first error of `change`.
    pub fn map<E>(&self, change: &impl Fn(&str) -> Result<String, E>) -> Result<Ladder, E> {
        Ok(Ladder(self.0.iter().map(|e| e.map(change)).collect::<Result<_, E>>()?))
    }

    /// Every text in it.
    pub fn texts(&self) -> impl Iterator<Item = &str> {
        self.0
            .iter()
            .flat_map(|e| std::iter::successors(Some(e), |e| e.inside.as_deref()))
            .filter_map(|e| match &e.by {
                By::Role { name, .. } => name.as_deref(),
                By::Field(t) | By::Text(t) | By::TestId(t) | By::Css(t) => Some(t.as_str()),
            })
    }
}

impl Element {
    fn map<E>(&self, change: &impl Fn(&str) -> Result<String, E>) -> Result<Element, E> {
        let by = match &self.by {
            By::Role { role, name } => {
                By::Role { role: role.clone(), name: name.as_deref().map(change).transpose()? }
            }
            By::Field(t) => By::Field(change(t)?),
            By::Text(t) => By::Text(change(t)?),
            By::TestId(t) => By::TestId(change(t)?),
            By::Css(t) => By::Css(change(t)?),
        };
        let inside = self.inside.as_ref().map(|e| e.map(change).map(Box::new)).transpose()?;
        Ok(Element { by, number: self.number, inside })
    }
}

/// The ARIA roles a script can name (WAI-ARIA 1.2; those that a person sees as one thing).
pub const ROLES: [&str; 30] = [
    "alert",
    "article",
    "button",
    "cell",
    "checkbox",
    "combobox",
    "dialog",
    "figure",
    "form",
    "heading",
    "img",
    "link",
    "list",
    "listbox",
    "listitem",
    "main",
    "menuitem",
    "navigation",
    "option",
    "radio",
    "region",
    "row",
    "searchbox",
    "slider",
    "spinbutton",
    "status",
    "switch",
    "tab",
    "table",
    "textbox",
];
