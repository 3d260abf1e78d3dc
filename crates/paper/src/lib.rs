//! Documents of reports on paper: as a part of a page, as a page of their own, as PDF, as CSV.
//!
//! Nothing here knows the database or the web: whoever has a document has all that it says.

#![warn(missing_docs)]

mod print;
pub mod sheets;

pub use print::{PrintError, pdf};

use askama::Template;
use base64::Engine;
use cadentis_core::report::{Body, Course, Document, Head, Section, Tone};

/// How documents look, on a page and on paper.
pub const STYLE: &str = include_str!("../assets/document.css");

const FONT: &[u8] = include_bytes!("../../web/static/vendor/commissioner.woff2");

/// The paper that is printed on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Size {
    /// ISO 216 A4.
    #[default]
    A4,
    /// North American Letter.
    Letter,
}

impl Size {
    /// The word that stands for it.
    pub fn word(self) -> &'static str {
        match self {
            Size::A4 => "a4",
            Size::Letter => "letter",
        }
    }

    /// What that word stands for.
    pub fn of_word(word: &str) -> Option<Size> {
        [Size::A4, Size::Letter].into_iter().find(|s| s.word() == word)
    }

    /// As CSS Paged Media calls it.
    fn css(self) -> &'static str {
        match self {
            Size::A4 => "A4",
            Size::Letter => "letter",
        }
    }
}

#[derive(Template)]
#[template(path = "article.html")]
struct Article<'a> {
    d: &'a Document,
    head: &'a Head,
    short_sum: String,
    sections: Vec<Numbered<'a>>,
}

struct Numbered<'a> {
    title: String,
    section: &'a Section,
    drawn: Option<Drawn>,
}

/// A course as it is drawn.
struct Drawn {
    line: String,
    area: String,
    left_out: Vec<(f64, f64)>,
    ticks: Vec<(f64, &'static str, String)>,
    says: String,
    /// The last value of each label of the axis, for whoever reads no lines.
    twin: Vec<(String, String)>,
}

#[derive(Template)]
#[template(path = "page.html")]
struct Page<'a> {
    title: &'a str,
    footer: String,
    size: &'static str,
    font: String,
    style: &'static str,
    article: String,
}

fn shape(tone: &Tone) -> &'static str {
    match tone {
        Tone::Plain => "",
        Tone::Within => "within",
        Tone::Strained => "strained",
        Tone::Broken => "broken",
    }
}

/// What the shape of a tone says to whoever does not see it.
fn shape_says(tone: &Tone) -> &'static str {
    match tone {
        Tone::Plain | Tone::Within => "",
        Tone::Strained => "close to its limit: ",
        Tone::Broken => "beyond its limit: ",
    }
}

const LEFT: f64 = 56.0;
const RIGHT: f64 = 672.0;
const TOP: f64 = 10.0;
const BASE: f64 = 130.0;

fn drawn(course: &Course) -> Drawn {
    let span = (course.to_s - course.from_s).max(1) as f64;
    let x = |s: i64| {
        let part = ((s - course.from_s) as f64 / span).clamp(0.0, 1.0);
        LEFT + (RIGHT - LEFT) * part
    };
    let y = |left: f64| BASE - (BASE - TOP) * left.clamp(-0.04, 1.0);
    let points: Vec<(f64, f64)> = course.points.iter().map(|(s, left)| (x(*s), y(*left))).collect();
    let step = |(at, (x, y)): (usize, &(f64, f64))| {
        format!("{}{x:.1} {y:.1}", if at == 0 { "M" } else { "L" })
    };
    let line: String = points.iter().enumerate().map(step).collect();
    let area = match (points.first(), points.last()) {
        (Some(first), Some(last)) => {
            format!("{line}L{:.1} {BASE}L{:.1} {BASE}Z", last.0, first.0)
        }
        _ => String::new(),
    };
    let percent = |left: f64| format!("{:.0} %", (left * 100.0).floor());
    let many = course.ticks.len();
    let anchor = |nth: usize| match nth {
        0 => "start",
        n if n + 1 == many => "end",
        _ => "middle",
    };
    let at_end = course.points.last().map_or(String::new(), |(_, left)| percent(*left));
    let until = |second: i64| course.points.iter().rev().find(|(s, _)| *s <= second);
    Drawn {
        line,
        area,
        left_out: course
            .left_out
            .iter()
            .map(|(from, to)| (x(*from), (x(*to) - x(*from)).max(1.5)))
            .collect(),
        ticks: course
            .ticks
            .iter()
            .enumerate()
            .map(|(nth, (s, says))| (x(*s), anchor(nth), says.clone()))
            .collect(),
        says: format!("The error budget that was left over time; at its end {at_end}."),
        twin: course
            .ticks
            .iter()
            .filter_map(|(s, says)| Some((says.clone(), percent(until(*s)?.1))))
            .collect(),
    }
}

/// A document as a part of a page.
pub fn article(document: &Document, head: &Head) -> String {
    let (mut figures, mut tables) = (0, 0);
    let mut sections = Vec::new();
    for section in &document.sections {
        let (title, drawn) = match &section.body {
            Body::Course(course) => {
                figures += 1;
                (format!("Figure {figures}. {}", section.title), Some(drawn(course)))
            }
            Body::Table(_) => {
                tables += 1;
                (format!("Table {tables}. {}", section.title), None)
            }
            Body::Words(_) => (section.title.clone(), None),
        };
        sections.push(Numbered { title, section, drawn });
    }
    let article = Article {
        sections,
        short_sum: head.checksum.chars().take(12).collect(),
        d: document,
        head,
    };
    // A template that writes into memory does not fail.
    article.render().unwrap_or_default()
}

/// A document as a page of its own that asks for nothing else.
pub fn page(document: &Document, head: &Head, size: Size) -> String {
    let issue = match head.issue.split([',', ' ']).next() {
        Some(number) if !number.is_empty() => format!(" · issue {number}"),
        _ => String::new(),
    };
    let page = Page {
        title: &document.title,
        footer: css_text(&format!("{} · {}{issue}", document.site, document.title)),
        size: size.css(),
        font: base64::engine::general_purpose::STANDARD.encode(FONT),
        style: STYLE,
        article: article(document, head),
    };
    page.render().unwrap_or_default()
}

/// A text between the quotes of a style: nothing of it ends them, or the style.
fn css_text(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        match c {
            '"' | '\\' | '<' | '>' | '&' | '\'' => out.push_str(&format!("\\{:06x}", c as u32)),
            c if c.is_control() => out.push(' '),
            c => out.push(c),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use cadentis_core::report::{Cell, Table};

    fn document() -> Document {
        let mut table = Table::of(&["Location", "#availability"]);
        table.row(vec![
            Cell::text("<b>Bergen</b>"),
            Cell::number("99.03 %", Some(0.9903)).standing(Tone::Broken),
        ]);
        let course = Course {
            from_s: 0,
            to_s: 100,
            points: vec![(0, 1.0), (50, 0.5), (100, -3.0)],
            left_out: vec![(20, 30)],
            ticks: vec![(0, "1 Oct".into()), (50, "15 Oct".into()), (100, "31 Oct".into())],
        };
        Document {
            title: "Crossings \"</style><script>\" can be booked".into(),
            site: "Marram".into(),
            says: "The promise was not kept.".into(),
            sections: vec![
                Section::table("By location", table.clone()),
                Section {
                    title: "Error budget left".into(),
                    note: String::new(),
                    body: Body::Course(course),
                },
                Section::table("Again", table),
            ],
            ..Document::default()
        }
    }

    #[test]
    fn figures_and_tables_are_numbered_each_by_itself_and_texts_from_outside_stay_texts() {
        let html = page(&document(), &Head::default(), Size::Letter);
        for says in ["Table 1. By location", "Figure 1. Error budget left", "Table 2. Again"] {
            assert!(html.contains(says), "{says}");
        }
        assert!(!html.contains("<b>Bergen"), "a name is no markup");
        assert!(!html.contains("<script"), "nor does a title end the style");
        assert_eq!(html.matches("</style>").count(), 1);
        assert!(html.contains("beyond its limit: "), "state is said, not only drawn");
        assert!(html.contains("size: letter"));
    }

    #[test]
    fn a_course_stays_in_its_frame_and_has_a_twin_in_words() {
        let Some(Body::Course(course)) = document().sections.into_iter().map(|s| s.body).nth(1)
        else {
            panic!("no course")
        };
        let drawn = drawn(&course);
        assert_eq!(drawn.line, "M56.0 10.0L364.0 70.0L672.0 134.8");
        let [(x, w)] = drawn.left_out.as_slice() else { panic!("one") };
        assert!((x - 179.2).abs() < 1e-9 && (w - 61.6).abs() < 1e-9);
        assert_eq!(drawn.twin[1], ("15 Oct".into(), "50 %".into()));
    }
}
