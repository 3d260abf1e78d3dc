//! What templates are filled with where more than one page has the same: values with names, no places in tuples.

use cadentis_answers::kept::Location;
use cadentis_core::stats::Proof;

/// A mark on an axis, and what stands there.
#[derive(Debug, Clone, PartialEq)]
pub struct Mark {
    pub x: f64,
    pub says: String,
}

impl Mark {
    pub fn new(x: f64, says: impl Into<String>) -> Mark {
        Mark { x, says: says.into() }
    }
}

/// A marker on an axis: what it says, and where it is told.
#[derive(Debug, Clone, PartialEq)]
pub struct Pin {
    pub x: f64,
    pub says: String,
    pub link: String,
}

/// A part of an axis in which others said the same of a dependency.
#[derive(Debug, Clone, PartialEq)]
pub struct SaidPart {
    pub tone: &'static str,
    pub at: Window,
}

/// A piece of an axis, and what it is.
#[derive(Debug, Clone, PartialEq)]
pub struct Window {
    pub x: f64,
    pub w: f64,
    pub says: String,
}

impl Window {
    pub fn new(x: f64, w: f64, says: impl Into<String>) -> Window {
        Window { x, w, says: says.into() }
    }
}

/// One of several values that can be chosen.
#[derive(Debug, Clone, PartialEq)]
pub struct Choice {
    pub value: String,
    pub name: String,
    pub chosen: bool,
}

impl Choice {
    pub fn new(value: impl ToString, name: impl ToString, chosen: bool) -> Choice {
        Choice { value: value.to_string(), name: name.to_string(), chosen }
    }

    /// All of these by value and name, of which some are chosen.
    pub fn among<'a>(
        all: impl IntoIterator<Item = (&'a str, &'a str)>,
        chosen: &[String],
    ) -> Vec<Choice> {
        let of = |(value, name)| Choice::new(value, name, chosen.iter().any(|c| c == value));
        all.into_iter().map(of).collect()
    }

    /// One whose name is its value.
    pub fn of(value: impl ToString, chosen: bool) -> Choice {
        Choice::new(value.to_string(), value, chosen)
    }
}

/// Something that leads on.
#[derive(Debug, Clone, PartialEq)]
pub struct Link {
    pub link: String,
    pub name: String,
}

impl Link {
    pub fn new(link: impl Into<String>, name: impl Into<String>) -> Link {
        Link { link: link.into(), name: name.into() }
    }
}

/// Something by its name.
#[derive(Debug, Clone, PartialEq)]
pub struct Fact {
    pub name: String,
    pub says: String,
}

impl Fact {
    pub fn new(name: impl Into<String>, says: impl Into<String>) -> Fact {
        Fact { name: name.into(), says: says.into() }
    }
}

/// A cell of a table with its tone.
#[derive(Debug, Clone, PartialEq)]
pub struct Cell {
    pub says: String,
    pub tone: &'static str,
}

impl Cell {
    pub fn new(says: impl Into<String>, tone: &'static str) -> Cell {
        Cell { says: says.into(), tone }
    }
}

/// A row of a table: where it leads, and what stands in its columns.
#[derive(Debug, Clone, PartialEq)]
pub struct Row {
    pub link: String,
    pub cells: Vec<String>,
}

/// Something that can be chosen, by its name in addresses.
pub struct Named {
    pub slug: String,
    pub name: String,
}

impl Named {
    pub fn location(l: Location) -> Named {
        Named { slug: l.slug, name: l.name }
    }
}

/// What is wrong with one of the forms of a page.
pub struct Wrong {
    pub form: &'static str,
    pub says: String,
}

impl Wrong {
    /// What is wrong with the form of this name, if it is that one.
    pub fn of<'a>(wrong: Option<&'a Wrong>, form: &str) -> Option<&'a str> {
        wrong.filter(|w| w.form == form).map(|w| w.says.as_str())
    }
}

/// A headline number with its tone and what it is.
pub struct Figure {
    pub value: String,
    pub label: String,
    pub tone: &'static str,
}

impl Figure {
    pub fn new(value: String, label: String, tone: &'static str) -> Figure {
        Figure { value, label, tone }
    }
}

/// How one number was come by, under its name.
pub struct Working {
    pub title: String,
    pub lines: Vec<String>,
}

impl Working {
    pub fn new(title: impl Into<String>, lines: Vec<String>) -> Working {
        Working { title: title.into(), lines }
    }

    /// The proof of a number.
    pub fn of(title: impl Into<String>, proof: &Proof) -> Working {
        Working::new(title, proof.sentences())
    }
}

impl From<(String, Vec<String>)> for Working {
    fn from((title, lines): (String, Vec<String>)) -> Working {
        Working { title, lines }
    }
}

#[cfg(test)]
mod tests {

    #[test]
    fn templates_read_names_not_places_and_no_line_of_them_is_too_long_to_review() {
        const LONGEST: usize = 160;
        let folder = concat!(env!("CARGO_MANIFEST_DIR"), "/templates");
        let mut seen = 0;
        for entry in std::fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            let text = std::fs::read_to_string(&path).unwrap();
            for (nth, line) in text.lines().enumerate() {
                let place = format!("{}:{}", path.display(), nth + 1);
                assert!(line.chars().count() <= LONGEST, "{place}: {} characters", line.len());
                // What stands between braces is read; `x.0` would be a place in a tuple, `x + 2.0` is a number.
                for piece in line.split("{{").chain(line.split("{%")).skip(1) {
                    let read = piece.split("}}").next().unwrap().split("%}").next().unwrap();
                    let mut before = ' ';
                    for pair in read.chars().collect::<Vec<_>>().windows(2) {
                        let is_place = pair[0] == '.' && pair[1].is_ascii_digit();
                        assert!(
                            !is_place || before.is_ascii_digit() || before == '.',
                            "{place}: {read}"
                        );
                        before = pair[0];
                    }
                }
                seen += 1;
            }
        }
        assert!(seen > 700, "{seen}");
    }
}
