//! What somebody did on a page while it was recorded, as a script.
//!
//! Acts come one by one; each becomes a sentence. What is filled in stands in one step with the press
//! that sends it off, every other press is a step of its own, named after what was pressed. Expectations and
//! marks belong to the step whose outcome was being looked at when they were pointed out.

use super::{
    By, Element, End, Expectation, Holds, Journey, Ladder, Line, Moment, Reply, Says, Sentence,
    Step, text::is_name,
};
use serde::{Deserialize, Serialize};

/// One way to find an element, as the page tells it: a rung of a ladder.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[expect(missing_docs, reason = "named as in scripts, events and standards")]
#[serde(tag = "by", rename_all = "kebab-case")]
pub enum Way {
    Role { role: String, name: Option<String>, number: Option<u32> },
    Field { label: String, number: Option<u32> },
    Text { text: String, number: Option<u32> },
    TestId { id: String, number: Option<u32> },
    Css { selector: String, number: Option<u32> },
}

/// Several ways, the best first.
pub type Ways = Vec<Way>;

/// What was done.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[expect(missing_docs, reason = "named as in scripts, events and standards")]
#[serde(tag = "act", rename_all = "kebab-case")]
pub enum Act {
    Open {
        address: String,
    },
    Press {
        what: Ways,
    },
    /// `hidden`: what was typed must not be known; a secret stands for it.
    Type {
        into: Ways,
        text: String,
        #[serde(default)]
        hidden: bool,
    },
    Choose {
        option: String,
        from: Ways,
    },
    Tick {
        what: Ways,
        on: bool,
    },
    Key {
        keys: String,
    },
    Upload {
        into: Ways,
    },
    Drag {
        what: Ways,
        to: Ways,
    },
    Hover {
        what: Ways,
    },
    GoBack,
    Reload,
    EnterWindow {
        part: String,
    },
    LeaveWindow,
    EnterFrame {
        frame: Ways,
    },
    LeaveFrame,
    Dialog {
        accept: bool,
    },
    ExpectText {
        text: String,
        inside: Option<Ways>,
    },
    ExpectElement {
        what: Ways,
    },
    WaitFor {
        what: Ways,
    },
    Mark {
        name: String,
        what: Ways,
    },
    ScrollEnd,
    /// The step counted from 0 gets another name.
    Name {
        step: usize,
        name: String,
    },
}

/// Texts longer than this are cut, and nothing has more rungs.
const LONGEST: usize = 200;
const RUNGS: usize = 4;
const NAME_LONGEST: usize = 60;

fn cut(text: &str, most: usize) -> String {
    text.split_whitespace().collect::<Vec<_>>().join(" ").chars().take(most).collect()
}

/// Braces around a name would be read as a variable.
fn plain(text: &str) -> String {
    super::text::as_is(text)
}

impl Way {
    fn element(&self) -> Element {
        let (by, number) = match self {
            Way::Role { role, name, number } => (
                By::Role {
                    role: cut(role, 40),
                    name: name.as_deref().map(|n| plain(&cut(n, LONGEST))),
                },
                number,
            ),
            Way::Field { label, number } => (By::Field(plain(&cut(label, LONGEST))), number),
            Way::Text { text, number } => (By::Text(plain(&cut(text, LONGEST))), number),
            Way::TestId { id, number } => (By::TestId(plain(&cut(id, LONGEST))), number),
            Way::Css { selector, number } => (By::Css(plain(&cut(selector, LONGEST))), number),
        };
        Element { by, number: number.filter(|n| *n > 0), inside: None }
    }

    /// Whether it says anything that a script can say.
    fn says_something(&self) -> bool {
        match self {
            Way::Role { role, name, .. } => {
                super::ROLES.contains(&role.as_str())
                    && name.as_deref().is_none_or(|n| !cut(n, 1).is_empty())
            }
            Way::Field { label: t, .. }
            | Way::Text { text: t, .. }
            | Way::TestId { id: t, .. }
            | Way::Css { selector: t, .. } => !cut(t, 1).is_empty(),
        }
    }

    /// What a person would call it.
    fn called(&self) -> Option<&str> {
        match self {
            Way::Role { name, .. } => name.as_deref(),
            Way::Field { label, .. } => Some(label),
            Way::Text { text, .. } => Some(text),
            Way::TestId { .. } | Way::Css { .. } => None,
        }
    }
}

fn ladder(ways: &[Way]) -> Option<Ladder> {
    let rungs: Vec<Element> =
        ways.iter().filter(|w| w.says_something()).take(RUNGS).map(Way::element).collect();
    (!rungs.is_empty()).then_some(Ladder(rungs))
}

fn called(ways: &[Way]) -> String {
    let name = ways.iter().find_map(Way::called).filter(|n| !n.trim().is_empty());
    cut(name.unwrap_or("it"), NAME_LONGEST)
}

/// Takes an act that was just done. Typing goes on in the field it began in: every letter is an act of its own.
pub fn add(acts: &mut Vec<Act>, act: Act) {
    match (acts.last_mut(), act) {
        (
            Some(Act::Type { into, text, hidden }),
            Act::Type { into: same, text: newer, hidden: hide },
        ) if *into == same => {
            *text = newer;
            *hidden |= hide;
        }
        (Some(Act::Choose { option, from }), Act::Choose { option: newer, from: same })
            if *from == same =>
        {
            *option = newer;
        }
        (_, act) => acts.push(act),
    }
}

/// A name for the secret that stands for what was typed unseen into this field.
fn secret_name(ways: &[Way]) -> String {
    let lower = called(ways).to_lowercase();
    let kept =
        lower.chars().map(|c| if c.is_ascii_lowercase() || c.is_ascii_digit() { c } else { '_' });
    let name: String = kept.skip_while(|c| !c.is_ascii_lowercase()).take(40).collect();
    let name = name.trim_matches('_').to_string();
    if is_name(&name) { name } else { "password".into() }
}

/// The sentence an act is, and whether it ends its step.
fn says(act: &Act) -> Option<(Says, bool)> {
    let ends = |says| Some((says, true));
    let goes_on = |says| Some((says, false));
    match act {
        Act::Open { address } => ends(Says::Open(plain(&cut(address, 2_000)))),
        Act::Press { what } => ends(Says::Press(ladder(what)?)),
        Act::Type { into, text, hidden } => {
            let text = if *hidden {
                format!("{{secret {}}}", secret_name(into))
            } else {
                plain(&text.chars().take(2_000).collect::<String>())
            };
            goes_on(Says::Type { text, into: ladder(into)? })
        }
        Act::Choose { option, from } => {
            goes_on(Says::Choose { option: plain(&cut(option, LONGEST)), from: ladder(from)? })
        }
        Act::Tick { what, on } => goes_on(Says::Tick { what: ladder(what)?, on: *on }),
        Act::Key { keys } => {
            let says = Says::Key(keys.clone());
            if keys == "Enter" { ends(says) } else { goes_on(says) }
        }
        Act::Upload { into } => {
            let holds = Holds::Text("A file made for this journey.".into());
            goes_on(Says::Upload { file: "file.txt".into(), holds, into: ladder(into)? })
        }
        Act::Drag { what, to } => ends(Says::Drag { what: ladder(what)?, to: ladder(to)? }),
        Act::Hover { what } => goes_on(Says::Hover(ladder(what)?)),
        Act::GoBack => ends(Says::GoBack),
        Act::Reload => ends(Says::Reload),
        Act::EnterWindow { part } => goes_on(Says::EnterWindow(plain(&cut(part, LONGEST)))),
        Act::LeaveWindow => goes_on(Says::LeaveWindow),
        Act::EnterFrame { frame } => goes_on(Says::EnterFrame(ladder(frame)?)),
        Act::LeaveFrame => goes_on(Says::LeaveFrame),
        Act::Dialog { accept } => {
            goes_on(Says::Dialog(if *accept { Reply::Accept } else { Reply::Dismiss }))
        }
        Act::ExpectText { text, .. } if cut(text, 1).is_empty() => None,
        Act::ExpectText { text, inside } => {
            let inside = inside.as_deref().and_then(ladder);
            goes_on(Says::Expect(Expectation::Text { text: plain(&cut(text, LONGEST)), inside }))
        }
        Act::ExpectElement { what } => goes_on(Says::Expect(Expectation::Element(ladder(what)?))),
        Act::WaitFor { what } => goes_on(Says::WaitFor(ladder(what)?)),
        Act::Mark { name, what } => {
            let name = Some(cut(name, NAME_LONGEST))
                .filter(|n| !n.is_empty())
                .unwrap_or_else(|| called(what));
            goes_on(Says::Mark { name, when: Moment::Appears(ladder(what)?) })
        }
        Act::ScrollEnd => goes_on(Says::ScrollEnd(End::Bottom)),
        Act::Name { .. } => None,
    }
}

/// What a step that begins, or ends, with this act is called.
fn title(act: &Act) -> String {
    match act {
        Act::Open { address } => {
            let path = address
                .split_once("://")
                .and_then(|(_, rest)| rest.split_once('/'))
                .map_or("", |(_, p)| p);
            let path = path.split(['?', '#']).next().unwrap_or("").trim_end_matches('/');
            if path.is_empty() { "Open the page".into() } else { format!("Open {path}") }
        }
        Act::Press { what } => called(what),
        Act::Type { into, .. } | Act::Upload { into } => format!("Fill in {}", called(into)),
        Act::Choose { from, .. } => format!("Choose {}", called(from)),
        Act::Tick { what, .. } => format!("Tick {}", called(what)),
        Act::Key { keys } if keys == "Enter" => "Send with Enter".into(),
        Act::Key { keys } => format!("Key {keys}"),
        Act::Drag { what, .. } => format!("Drag {}", called(what)),
        Act::Hover { what } => format!("Hover over {}", called(what)),
        Act::GoBack => "Go back".into(),
        Act::Reload => "Load again".into(),
        _ => "Look".into(),
    }
}

/// Whether an act looks at what the step before led to, or carries on in it, rather than begin the next.
fn stays(act: &Act) -> bool {
    matches!(
        act,
        Act::EnterWindow { .. }
            | Act::LeaveWindow
            | Act::Dialog { .. }
            | Act::ExpectText { .. }
            | Act::ExpectElement { .. }
            | Act::WaitFor { .. }
            | Act::Mark { .. }
            | Act::ScrollEnd
    )
}

/// The script of what was done.
pub fn journey(name: &str, acts: &[Act]) -> Journey {
    let mut steps: Vec<Step> = Vec::new();
    let mut names: Vec<(usize, &str)> = Vec::new();
    // Entering a frame belongs to what is done in it next.
    let mut before: Vec<Sentence> = Vec::new();
    let mut ended = true;
    for act in acts {
        if let Act::Name { step, name } = act {
            names.push((*step, name));
        }
        let Some((says, ends)) = says(act) else { continue };
        let sentence = Sentence { line: Line(0), says, up_to_ms: None };
        if matches!(act, Act::EnterFrame { .. } | Act::LeaveFrame) {
            before.push(sentence);
            continue;
        }
        if (ended && !stays(act)) || steps.is_empty() {
            let (line, name) = (Line(0), title(act));
            steps.push(Step {
                name,
                line,
                clean_up: false,
                within_ms: None,
                sentences: Vec::new(),
            });
            ended = false;
        }
        let Some(step) = steps.last_mut() else { continue };
        if ends {
            step.name = title(act);
            ended = true;
        }
        step.sentences.append(&mut before);
        step.sentences.push(sentence);
    }
    for (step, name) in names {
        let name = cut(name, 80);
        if let Some(step) = steps.get_mut(step).filter(|_| !name.is_empty()) {
            step.name = name;
        }
    }
    tell_apart(&mut steps);
    Journey { name: cut(name, 80), within_ms: None, notes: Vec::new(), parts: Vec::new(), steps }
}

/// Two steps of one name could not be told apart in a table.
fn tell_apart(steps: &mut [Step]) {
    for i in 1..steps.len() {
        let (before, rest) = steps.split_at_mut(i);
        let taken = |name: &str| before.iter().any(|s| s.name == name);
        if taken(&rest[0].name) {
            let name = rest[0].name.clone();
            let numbered = (2..).map(|n| format!("{name} ({n})"));
            rest[0].name = numbered.into_iter().find(|n| !taken(n)).unwrap_or(name);
        }
    }
}

/// What somebody does at the picture of the page. Places are pixels of the window.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[expect(missing_docs, reason = "named as in scripts, events and standards")]
#[serde(tag = "do", rename_all = "kebab-case")]
pub enum Input {
    Move {
        x: f64,
        y: f64,
    },
    Down {
        x: f64,
        y: f64,
    },
    Up {
        x: f64,
        y: f64,
    },
    Wheel {
        x: f64,
        y: f64,
        dx: f64,
        dy: f64,
    },
    /// Keys as a script names them, joined by `+`.
    Key {
        keys: String,
    },
    Text {
        text: String,
    },
    Open {
        address: String,
    },
    Back,
    Reload,
    /// An option of the list that was offered.
    Choose {
        context: String,
        of: Ways,
        option: String,
    },
    Point {
        on: bool,
    },
    Hover {
        what: Ways,
    },
    Dialog {
        accept: bool,
    },
    CloseWindow,
}

/// The longest address and the longest text of one input.
const MAX_INPUT: usize = 2_000;

impl Input {
    /// What is wrong with an input, if anything: whoever sends it chooses what a browser somewhere else does.
    pub fn complaint(&self) -> Option<String> {
        let long = |text: &str| text.chars().count() > MAX_INPUT;
        match self {
            Input::Open { address } if !crate::run::reach::is_web(address) => {
                Some("Only addresses that begin with http:// or https:// are opened.".into())
            }
            Input::Open { address: text } | Input::Text { text } | Input::Key { keys: text }
                if long(text) =>
            {
                Some(format!("At most {MAX_INPUT} characters at a time."))
            }
            Input::Choose { context, option, .. } if long(context) || long(option) => {
                Some(format!("At most {MAX_INPUT} characters at a time."))
            }
            Input::Wheel { x, y, dx, dy } if [x, y, dx, dy].iter().any(|v| !v.is_finite()) => {
                Some("Places are numbers.".into())
            }
            _ => None,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn role(role: &str, name: &str) -> Way {
        Way::Role { role: role.into(), name: Some(name.into()), number: None }
    }

    fn css(selector: &str) -> Way {
        Way::Css { selector: selector.into(), number: Some(2) }
    }

    fn label(text: &str) -> Ways {
        vec![Way::Field { label: text.into(), number: None }]
    }

    fn recorded(all: Vec<Act>) -> String {
        let mut acts = Vec::new();
        all.into_iter().for_each(|a| add(&mut acts, a));
        journey("Book", &acts).to_string()
    }

    #[test]
    fn what_is_filled_in_stands_with_the_press_that_sends_it_off() {
        let typed = |text: &str| Act::Type {
            into: label("Lead passenger"),
            text: text.into(),
            hidden: false,
        };
        let script = recorded(vec![
            Act::Open { address: "http://book.marram.example/cabin?x=1".into() },
            Act::ExpectText { text: " Cabin  and passengers ".into(), inside: None },
            typed("R"),
            typed("Ri"),
            typed("Rik"),
            Act::Choose { option: "2".into(), from: label("Passengers") },
            Act::Press { what: vec![role("button", "Hold the booking"), css("main button")] },
            Act::Mark { name: "held".into(), what: vec![role("heading", "Your booking is held")] },
            Act::EnterFrame { frame: vec![css("iframe")] },
            Act::Press { what: vec![role("button", "Insure me")] },
            Act::LeaveFrame,
            Act::Press { what: vec![role("button", "Insure me")] },
            Act::Name { step: 0, name: "Cabin page".into() },
        ]);
        assert_eq!(
            script,
            r#"script "Book"

step "Cabin page"
  open http://book.marram.example/cabin?x=1
  expect text "Cabin and passengers"

step "Hold the booking"
  type "Rik" into field "Lead passenger"
  choose "2" in field "Passengers"
  press button "Hold the booking" or css "main button" number 2
  mark "held" when heading "Your booking is held"

step "Insure me"
  enter frame css "iframe" number 2
  press button "Insure me"

step "Insure me (2)"
  leave frame
  press button "Insure me"
"#
        );
        assert_eq!(super::super::problems(&script, &[]), []);
    }

    #[test]
    fn what_is_typed_unseen_becomes_a_secret_and_braces_stay_what_they_are() {
        let script = recorded(vec![
            Act::Open { address: "http://book.marram.example/".into() },
            Act::Type { into: label("Your Pass-word 2"), text: "********".into(), hidden: true },
            Act::Type { into: label("Note"), text: "{run} is no variable".into(), hidden: false },
        ]);
        assert!(
            script.contains(r#"type "{secret your_pass_word_2}" into field "Your Pass-word 2""#),
            "{script}"
        );
        assert!(script.contains(r#"type "{{run} is no variable""#), "{script}");
    }

    fn text() -> impl Strategy<Value = String> {
        prop_oneof![
            "[ -~]{0,12}",
            "\\PC{0,8}",
            Just("{run}".to_string()),
            Just("{secret x}".to_string())
        ]
    }

    fn way() -> impl Strategy<Value = Way> {
        let number = proptest::option::of(0..9u32);
        (text(), number, 0..5).prop_map(|(t, number, kind)| match kind {
            0 => Way::Role { role: "button".into(), name: Some(t), number },
            1 => Way::Field { label: t, number },
            2 => Way::Text { text: t, number },
            3 => Way::TestId { id: t, number },
            _ => Way::Css { selector: t, number },
        })
    }

    fn act() -> impl Strategy<Value = Act> {
        let ways = || proptest::collection::vec(way(), 0..6);
        prop_oneof![
            ways().prop_map(|what| Act::Press { what }),
            (ways(), text(), any::<bool>()).prop_map(|(into, text, hidden)| Act::Type {
                into,
                text,
                hidden
            }),
            (ways(), text()).prop_map(|(from, option)| Act::Choose { option, from }),
            (ways(), text())
                .prop_map(|(inside, text)| Act::ExpectText { text, inside: Some(inside) }),
            (ways(), text()).prop_map(|(what, name)| Act::Mark { name, what }),
            ways().prop_map(|frame| Act::EnterFrame { frame }),
            Just(Act::GoBack),
            (0..9usize, text()).prop_map(|(step, name)| Act::Name { step, name }),
        ]
    }

    proptest! {
        #[test]
        fn whatever_was_done_the_script_can_be_read_back_as_it_is(acts in proptest::collection::vec(act(), 1..14)) {
            let mut all = vec![Act::Open { address: "http://book.marram.example/".into() }];
            acts.into_iter().for_each(|a| add(&mut all, a));
            let journey = journey("Recorded", &all);
            let script = journey.to_string();
            prop_assert_eq!(super::super::parse(&script), Ok(journey), "{}", script);
        }
    }
}
