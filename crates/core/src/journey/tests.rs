use super::*;
use proptest::prelude::*;

fn name() -> impl Strategy<Value = String> {
    "[A-Za-zæøåé€\"\\\\][ -~æøåé€\"\\\\\t\n]{0,30}"
}

fn text() -> impl Strategy<Value = String> {
    "[ -~æøåé€\"\\\\\r\t\n]{0,40}"
}

fn element() -> impl Strategy<Value = Element> {
    prop_oneof![
        (prop::sample::select(ROLES.to_vec()), text())
            .prop_map(|(role, name)| Element::Role { role: role.into(), name }),
        text().prop_map(Element::Field),
        text().prop_map(Element::Text),
        text().prop_map(Element::TestId),
        text().prop_map(Element::Css),
    ]
}

fn says() -> impl Strategy<Value = Says> {
    prop_oneof![
        "[!-~][ -~]{0,30}[!-~]".prop_map(Says::Note),
        "https?://[a-z.]{1,12}/[!-~ ]{0,20}[!-~]".prop_map(Says::Open),
        element().prop_map(Says::Press),
        (text(), element()).prop_map(|(text, into)| Says::Type { text, into }),
        (text(), element()).prop_map(|(option, from)| Says::Choose { option, from }),
        text().prop_map(Says::ExpectText),
        element().prop_map(Says::ExpectElement),
        text().prop_map(Says::ExpectAddress),
        (100u16..600).prop_map(Says::ExpectStatus),
        (name(), element()).prop_map(|(name, when)| Says::Mark { name, when }),
    ]
}

prop_compose! {
    fn journey()(
        name in name(),
        within_ms in prop::option::of(1u64..3_600_000),
        notes in prop::collection::vec("[!-~][ -~]{0,20}[!-~]", 0..3),
        steps in prop::collection::vec((name(), prop::option::of(1u64..3_600_000), prop::collection::vec(says(), 0..6)), 1..5),
    ) -> Journey {
        let steps = steps.into_iter().enumerate().map(|(i, (name, within_ms, says))| Step {
            name: format!("{i} {name}"),
            line: Line(0),
            within_ms,
            // Every step does something.
            sentences: says.into_iter().chain([Says::ExpectStatus(200)]).map(|says| Sentence { line: Line(0), says }).collect(),
        }).collect();
        Journey { name, within_ms, notes, steps }
    }
}

proptest! {
    #[test]
    fn a_printed_journey_reads_back_as_itself(journey in journey()) {
        prop_assert_eq!(parse(&journey.to_string()), Ok(journey));
    }

    #[test]
    fn no_text_makes_the_parser_panic(script in any::<String>()) {
        let _ = parse(&script);
    }

    #[test]
    fn no_broken_script_makes_the_parser_panic(journey in journey(), cut in 0usize..400, insert in "[ -~\\n\"]{0,5}") {
        let script = journey.to_string();
        let at = script.char_indices().map(|(i, _)| i).nth(cut).unwrap_or(script.len());
        if let Err(e) = parse(&format!("{}{insert}", &script[..at])) {
            prop_assert!(e.line >= 1 && e.column >= 1 && !e.expected.is_empty());
        }
    }
}

/// The script, and what must be said about it.
fn complaint(script: &str) -> String {
    parse(script).unwrap_err().to_string()
}

#[test]
fn each_mistake_is_told_with_its_place_and_what_would_be_right() {
    for (script, want) in [
        ("", "line 1, column 1: found no journey; expected `journey \"NAME\"`"),
        ("journey Buy", "line 1, column 9: found `Buy`; expected the journey's name in quotes; write \"Buy\""),
        (
            "journey \"Buy\"\nstep \"Pay",
            "line 2, column 6: found a text that does not end on its line; expected a closing quote `\"`",
        ),
        (
            "journey \"B\"\nstep \"S\"\n  open marram.example",
            "line 3, column 8: found `marram.example`; expected an address that begins with http:// or https://; write `https://marram.example`",
        ),
        (
            "journey \"B\"\nstep \"S\"\n  press \"Pay\"",
            "line 3, column 9: found the text \"Pay\"; expected `field`, `text`, `test id`, `css` or a role such as `button`; say what it is, for example `button \"Pay\"`",
        ),
        (
            "journey \"B\"\nstep \"S\"\n  expect status 99",
            "line 3, column 17: found `99`; expected an HTTP status from 100 to 599",
        ),
        (
            "journey \"B\"\nstep \"S\"\n  within 2 hours",
            "line 3, column 12: found `hours`; expected `ms`, `s` or `min`",
        ),
        (
            "journey \"B\"\nstep \"S\"\n  expect text \"a\" \"b\"",
            "line 3, column 19: found the text \"b\"; expected the end of the line",
        ),
        (
            "journey \"B\"\nstep \"S\"\n",
            "line 2, column 1: found a step that does nothing; expected an action or an expectation under it",
        ),
        (
            "journey \"B\"\nstep \"S\"\n open http://a.b\nstep \"S\"\n",
            "line 4, column 6: found the text \"S\"; expected a name that no other step has",
        ),
    ] {
        assert_eq!(complaint(script), want, "{script}");
    }
}
