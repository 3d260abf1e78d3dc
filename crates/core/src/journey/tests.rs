use super::*;
use crate::run::Look;
use proptest::prelude::*;

fn name() -> impl Strategy<Value = String> {
    "[A-Za-zæøåé€\"\\\\][ -~æøåé€\"\\\\\t\n]{0,30}"
}

fn text() -> impl Strategy<Value = String> {
    "[ -~æøåé€\"\\\\\r\t\n]{0,40}"
}

fn by() -> impl Strategy<Value = By> {
    prop_oneof![
        (prop::sample::select(ROLES.to_vec()), prop::option::of(text()))
            .prop_map(|(role, name)| By::Role { role: role.into(), name }),
        text().prop_map(By::Field),
        text().prop_map(By::Text),
        text().prop_map(By::TestId),
        text().prop_map(By::Css),
    ]
}

fn element() -> impl Strategy<Value = Element> {
    let number = || prop::option::of(1u32..1_000);
    let inside =
        (by(), number()).prop_map(|(by, number)| Box::new(Element { by, number, inside: None }));
    (by(), number(), prop::option::of(inside)).prop_map(|(by, number, inside)| Element {
        by,
        number,
        inside,
    })
}

fn ladder() -> impl Strategy<Value = Ladder> {
    prop::collection::vec(element(), 1..4).prop_map(Ladder)
}

fn address() -> impl Strategy<Value = String> {
    "(https?://[a-z.]{1,12}/[!-z|~ ]{0,20}[!-z|~]|\\{host\\}/[a-z]{0,5})"
}

fn number() -> impl Strategy<Value = String> {
    "-?[0-9]{1,9}(\\.[0-9]{1,3})?"
}

fn duration() -> impl Strategy<Value = u64> {
    1u64..3_600_000
}

fn act() -> impl Strategy<Value = Says> {
    prop_oneof![
        address().prop_map(Says::Open),
        ladder().prop_map(Says::Press),
        (text(), ladder()).prop_map(|(text, into)| Says::Type { text, into }),
        (text(), ladder()).prop_map(|(option, from)| Says::Choose { option, from }),
        (ladder(), any::<bool>()).prop_map(|(what, on)| Says::Tick { what, on }),
        ladder().prop_map(Says::Hover),
        ladder().prop_map(Says::ScrollTo),
        Just(Says::ScrollEnd(End::Top)),
        Just(Says::ScrollEnd(End::Bottom)),
        prop::sample::select(vec!["Enter", "Control+A", "Shift+Alt+F4", "+", "Control++", "x"])
            .prop_map(|k| Says::Key(k.into())),
        (text(), 0u64..100_000_000, ladder()).prop_map(|(file, b, into)| Says::Upload {
            file,
            holds: Holds::Bytes(b),
            into
        }),
        (text(), text(), ladder()).prop_map(|(file, t, into)| Says::Upload {
            file,
            holds: Holds::Text(t),
            into
        }),
        (ladder(), ladder()).prop_map(|(what, to)| Says::Drag { what, to }),
        Just(Says::GoBack),
        Just(Says::GoForward),
        Just(Says::Reload),
        ladder().prop_map(Says::WaitFor),
        ladder().prop_map(Says::WaitGone),
        text().prop_map(Says::WaitRequest),
        name().prop_map(Says::Follow),
        prop_oneof![Just(Reply::Accept), Just(Reply::Dismiss), text().prop_map(Reply::Answer)]
            .prop_map(Says::Dialog),
    ]
}

fn source() -> impl Strategy<Value = Source> {
    prop_oneof![
        text().prop_map(Source::Text),
        ladder().prop_map(Source::TextOf),
        ladder().prop_map(Source::ValueOf),
        (text(), ladder()).prop_map(|(attribute, of)| Source::AttributeOf { attribute, of }),
        Just(Source::Address),
        Just(Source::Title),
        text().prop_map(Source::Header),
        Just(Source::Json("$.a[0]['b \"c\"']".into())),
    ]
}

fn expectation() -> impl Strategy<Value = Expectation> {
    let count = (
        prop::sample::select(vec![Compare::AtLeast, Compare::AtMost, Compare::Exactly]),
        0u32..100_000,
        ladder(),
    );
    let is = prop_oneof![
        Just(JsonIs::There),
        text().prop_map(JsonIs::Text),
        number().prop_map(JsonIs::AtLeast),
        number().prop_map(JsonIs::AtMost)
    ];
    let timed = prop_oneof![
        prop::sample::select(vec![Vital::Lcp, Vital::Fcp, Vital::Ttfb, Vital::Inp])
            .prop_map(Timed::Vital),
        Just(Timed::Load),
        name().prop_map(Timed::Mark),
        text().prop_map(Timed::Request),
    ];
    prop_oneof![
        (text(), prop::option::of(ladder()))
            .prop_map(|(text, inside)| Expectation::Text { text, inside }),
        text().prop_map(Expectation::NoText),
        ladder().prop_map(Expectation::Element),
        ladder().prop_map(Expectation::NoElement),
        (text(), ladder()).prop_map(|(value, of)| Expectation::Value { value, of }),
        count.prop_map(|(is, count, of)| Expectation::Count { of, is, count }),
        text().prop_map(Expectation::Address),
        text().prop_map(Expectation::Title),
        (100u16..600).prop_map(Expectation::Status),
        (text(), text()).prop_map(|(name, holds)| Expectation::Header { name, holds }),
        text().prop_map(Expectation::Body),
        is.prop_map(|is| Expectation::Json { path: "$..price".into(), is }),
        text().prop_map(Expectation::Dialog),
        Just(Expectation::NoScriptErrors),
        Just(Expectation::NoFailedRequests),
        (0u32..100_000).prop_map(Expectation::AtMostRequests),
        (0u64..100_000_000).prop_map(Expectation::SizeUnder),
        (timed, duration()).prop_map(|(what, ms)| Expectation::Under { what, ms }),
        (0u32..100_000).prop_map(Expectation::ShiftUnder),
        text().prop_map(Expectation::Answer),
        (0u32..3_650).prop_map(Expectation::CertificateDays),
        Just(Expectation::NoBrokenLinks),
        (
            prop::sample::select(vec![Look::Text, Look::Structure, Look::Picture]),
            prop::option::of(ladder())
        )
            .prop_map(|(look, without)| Expectation::Unchanged { look, without }),
        Just(Expectation::Unchanged { look: Look::Hosts, without: None }),
    ]
}

fn says() -> impl Strategy<Value = Says> {
    let moment = prop_oneof![
        ladder().prop_map(Moment::Appears),
        text().prop_map(Moment::Timing),
        text().prop_map(Moment::Request)
    ];
    let headers = prop::collection::vec((text(), text()), 0..3);
    let send =
        (prop::sample::select(vec!["GET", "POST"]), address(), headers, prop::option::of(text()));
    prop_oneof![
        2 => "[!-~][ -~]{0,30}[!-~]".prop_map(Says::Note),
        10 => act(),
        2 => text().prop_map(Says::EnterWindow),
        1 => Just(Says::LeaveWindow),
        1 => ladder().prop_map(Says::EnterFrame),
        1 => Just(Says::LeaveFrame),
        4 => ("[a-z][a-z0-9_]{0,12}", source())
            .prop_filter("given", |(name, _)| !text::GIVEN.contains(&name.as_str()))
            .prop_map(|(name, be)| Says::Let { name, be }),
        2 => (ladder(), act()).prop_map(|(visible, then)| Says::If { visible, then: Box::new(then) }),
        3 => (name(), moment).prop_map(|(name, when)| Says::Mark { name, when }),
        2 => send.prop_map(|(method, address, headers, body)| {
            Says::Send(Box::new(Send { method: method.into(), address, headers, body }))
        }),
        1 => ("https?://[a-z]{1,9}\\.example/[a-z0-9/?=&-]{0,12}", 1u32..500, 0u32..9, 1u32..20)
            .prop_map(|(from, links, deep, hosts)| Says::Crawl { from, links, deep, hosts }),
        1 => Just(Says::LookUp("book.marram.example".into())),
        1 => any::<bool>().prop_map(|secure| Says::Connect { to: "book.marram.example:443".into(), secure }),
        12 => expectation().prop_map(Says::Expect),
    ]
}

/// Whether a sentence may say how long it may take: the table knows.
fn waits(says: &Says) -> bool {
    let mut script = format!("script \"J\"\nstep \"S\"\n  {says} up to 2 s\n");
    if let Says::Note(_) = says {
        script.clear();
    }
    parse(&script).is_ok()
}

fn sentence(says: Says, up_to_ms: Option<u64>) -> Sentence {
    Sentence { line: Line(0), up_to_ms: up_to_ms.filter(|_| waits(&says)), says }
}

prop_compose! {
    fn journey()(
        name in name(),
        within_ms in prop::option::of(duration()),
        notes in prop::collection::vec("[!-~][ -~]{0,20}[!-~]", 0..3),
        part in prop::collection::vec((says(), prop::option::of(duration())), 0..3),
        steps in prop::collection::vec((name(), prop::option::of(duration()), prop::collection::vec((says(), prop::option::of(duration())), 0..6)), 1..5),
        clean_up in any::<bool>(),
    ) -> Journey {
        // Every part and step does something.
        let sentences = |says: Vec<(Says, Option<u64>)>| -> Vec<Sentence> {
            says.into_iter().map(|(says, up_to)| sentence(says, up_to)).chain([sentence(Says::Reload, None)]).collect()
        };
        let last = steps.len() - 1;
        let steps = steps.into_iter().enumerate().map(|(i, (name, within_ms, says))| Step {
            name: format!("{i} {name}"),
            line: Line(0),
            clean_up: clean_up && i == last && i > 0,
            within_ms,
            sentences: sentences(says),
        }).collect();
        let parts = if part.is_empty() { Vec::new() } else {
            vec![Part { name: "P".into(), line: Line(0), sentences: sentences(part) }]
        };
        Journey { name, within_ms, notes, parts, steps }
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
        ("", "line 1, column 1: found no script; expected `script \"NAME\"`"),
        (
            "script Buy",
            "line 1, column 8: found `Buy`; expected the journey's name in quotes; write \"Buy\"",
        ),
        (
            "script \"Buy\"\nstep \"Pay",
            "line 2, column 6: found a text that does not end on its line; expected a closing quote `\"`",
        ),
        (
            "script \"B\"\nstep \"S\"\n  open marram.example",
            "line 3, column 8: found `marram.example`; expected an address that begins with http:// or https://; write `https://marram.example`",
        ),
        (
            "script \"B\"\nstep \"S\"\n  press \"Pay\"",
            "line 3, column 9: found the text \"Pay\"; expected `field`, `text`, `test id`, `css` or a role such as `button`; say what it is, for example `button \"Pay\"`",
        ),
        (
            "script \"B\"\nstep \"S\"\n  expect status 99",
            "line 3, column 17: found `99`; expected an HTTP status from 100 to 599",
        ),
        (
            "script \"B\"\nstep \"S\"\n  within 2 hours",
            "line 3, column 12: found `hours`; expected `ms`, `s` or `min`",
        ),
        (
            "script \"B\"\nstep \"S\"\n  expect text \"a\" \"b\"",
            "line 3, column 19: found the text \"b\"; expected `in` or the end of the line",
        ),
        (
            "script \"B\"\nstep \"S\"\n",
            "line 2, column 1: found a step that does nothing; expected an action or an expectation under it",
        ),
        (
            "script \"B\"\nstep \"S\"\n open http://a.b\nstep \"S\"\n",
            "line 4, column 6: found the text \"S\"; expected a name that no other step has",
        ),
    ] {
        assert_eq!(complaint(script), want, "{script}");
    }
}

/// A script in which this line stands where it may.
fn around(line: &str) -> String {
    let first = line.split(' ').next().unwrap_or("");
    match first {
        "script" => format!("{line}\nstep \"S\"\n  reload\n"),
        "part" => format!("script \"J\"\n{line}\n  reload\nstep \"S\"\n  reload\n"),
        "step" | "clean" => format!("script \"J\"\nstep \"A\"\n  reload\n{line}\n  reload\n"),
        "with" => format!("script \"J\"\nstep \"S\"\n  send POST http://a.b/\n    {line}\n"),
        _ => format!("script \"J\"\nstep \"S\"\n  reload\n  {line}\n"),
    }
}

#[test]
fn the_example_of_every_form_reads_as_that_form_and_prints_as_itself() {
    for form in grammar::FORMS {
        let script = around(form.example);
        let journey = parse(&script).unwrap_or_else(|e| panic!("{}: {e}", form.example));
        assert!(
            journey.to_string().contains(form.example),
            "{}\nwas printed as\n{journey}",
            form.example
        );
        let at = script.lines().position(|l| l.trim() == form.example).expect("the example's line");
        let before: String = script.lines().take(at).map(|l| format!("{l}\n")).collect();
        assert_eq!(read_line(&before, form.example).form, Some(form.written()), "{}", form.example);
    }
}

#[test]
fn every_place_to_fill_stands_in_the_legend() {
    for form in grammar::FORMS {
        for piece in form.pieces {
            if let grammar::Piece::Slot(slot) = piece {
                let written = slot.written().split(':').next().unwrap_or("");
                assert!(grammar::Slot::LEGEND.iter().any(|(w, _)| *w == written), "{written}");
            }
        }
    }
}

#[test]
fn what_no_line_shows_is_found_by_the_check() {
    let wrong = |lines: &str| -> Vec<String> {
        problems(&format!("script \"J\"\nstep \"S\"\n{lines}"), &[])
            .iter()
            .map(ToString::to_string)
            .collect()
    };
    assert_eq!(
        wrong("  let code be \"1\"\n  expect text \"{code} {run}\"\n"),
        Vec::<String>::new()
    );
    let says = &wrong("  press link \"Order {order}\"\n")[0];
    assert!(
        says.starts_with(
            "line 3, column 1: found {order}; expected a variable that has a value by then; write `let order be"
        ),
        "{says}"
    );
    let says =
        &wrong("  open http://a.b/?key={secret key}\n  type \"{secret key}\" into field \"Key\"\n");
    assert_eq!(says.len(), 1, "{says:?}");
    let says = &wrong("  open http://a.b/?key={secret_key}\n")[0];
    assert!(says.contains("{secret_key}"), "{says}");
    assert!(wrong("  follow \"Sign in\"\n")[0].ends_with("there is none yet"));
    assert!(
        wrong("  expect mark \"M\" under 1 s\n")[0].contains("a mark noted above it in this step")
    );
    // A part that follows itself never ends.
    let round = "script \"J\"\npart \"P\"\n  follow \"P\"\nstep \"S\"\n  follow \"P\"\n";
    assert!(problems(round, &[])[0].to_string().contains("at most 8 deep"));
    // Every line that cannot be read is told, not only the first.
    assert_eq!(wrong("  pres button \"A\"\n  reload\n  expct text \"B\"\n").len(), 2);
}

/// Random parts that follow each other at random, and steps that follow them.
fn graphs() -> impl Strategy<Value = String> {
    (1usize..30).prop_flat_map(|parts| {
        let follows = prop::collection::vec(prop::collection::vec(0..parts + 2, 1..20), parts);
        (follows, prop::collection::vec(0..parts + 1, 1..10)).prop_map(|(follows, steps)| {
            let mut script = String::from("script \"G\"\n");
            for (part, follows) in follows.iter().enumerate() {
                script += &format!("part \"{part}\"\n  reload\n");
                follows.iter().for_each(|f| script += &format!("  follow \"{f}\"\n"));
            }
            for (step, follows) in steps.iter().enumerate() {
                script += &format!("step \"S{step}\"\n  follow \"{follows}\"\n");
            }
            script
        })
    })
}

#[test]
fn parts_that_follow_each_other_without_end_or_too_often_are_told_at_once() {
    // A part that follows itself twenty times: walked through it would be 20⁸ parts.
    let twenty = format!(
        "script \"J\"\npart \"P\"\n{}step \"S\"\n  follow \"P\"\n",
        "  follow \"P\"\n".repeat(20)
    );
    let told = problems(&twenty, &[]);
    assert!(
        (1..=20).contains(&told.len()) && told[0].to_string().contains("at most 8 deep"),
        "{told:?}"
    );
    // Eight parts deep without a circle, each followed twenty times: as many, and nobody would ever see the end.
    let mut deep = String::from("script \"J\"\n");
    for n in 0..7 {
        deep += &format!("part \"{n}\"\n{}", format!("  follow \"{}\"\n", n + 1).repeat(20));
    }
    deep += "part \"7\"\n  reload\nstep \"S\"\n  follow \"0\"\n";
    let told = problems(&deep, &[]);
    assert_eq!(told.len(), 1, "{told:?}");
    assert!(told[0].to_string().contains("at most 20000 sentences"), "{}", told[0]);
    // A chain of nine.
    let mut chain = String::from("script \"J\"\n");
    for n in 0..9 {
        chain += &format!("part \"{n}\"\n  follow \"{}\"\n", n + 1);
    }
    chain += "part \"9\"\n  reload\nstep \"S\"\n  follow \"0\"\n";
    assert!(problems(&chain, &[])[0].to_string().contains("at most 8 deep"));
}

proptest! {
    /// The work is bounded whatever the parts: what passes plays at most 20,000 sentences, and what is told is at most 100.
    #[test]
    fn whatever_parts_follow_each_other_the_work_of_checking_and_playing_is_bounded(script in graphs()) {
        let told = problems(&script, &[]);
        prop_assert!(told.len() <= 100);
        if told.is_empty() {
            let journey = parse(&script).unwrap();
            let mut played = 0u64;
            let mut waits: Vec<&str> = Vec::new();
            for sentence in journey.steps.iter().flat_map(|s| &s.sentences) {
                if let Says::Follow(name) = &sentence.says { waits.push(name); }
            }
            while let Some(name) = waits.pop() {
                for sentence in &journey.part(name).unwrap().sentences {
                    played += 1;
                    prop_assert!(played <= 20_000);
                    if let Says::Follow(name) = &sentence.says { waits.push(name); }
                }
            }
        }
    }
}

#[test]
fn scripts_of_before_are_read_and_written_anew() {
    let old = "journey \"Book\"\nstep \"S\"\n  secure book.marram.example:443\n  expect certificate for 14 days\n";
    let told = problems(old, &[]);
    assert!(told.is_empty(), "{told:?}");
    let new = parse(old).unwrap().to_string();
    assert!(
        new.starts_with("script \"Book\"") && new.contains("  tls book.marram.example:443"),
        "{new}"
    );
    assert_eq!(parse(&new).unwrap(), parse(old).unwrap());
    // What is wrong stands where it is written.
    let wrong = problems("journey Book\nstep \"S\"\n  reload\n", &[]);
    assert_eq!((wrong[0].line, wrong[0].column), (1, 9), "{}", wrong[0]);
}

#[test]
fn a_part_of_the_site_brings_its_variables_and_its_troubles_along() {
    let shared =
        parts("part \"Sign in\"\n  open http://a.b/{place}\n  let who be text of css \"#who\"\n")
            .expect("parts");
    let script = "script \"J\"\nstep \"S\"\n  let place be \"in\"\n  follow \"Sign in\"\n  expect text \"{who}\"\n";
    let journey = parse(script).expect("a script");
    let linked = journey.with_parts(&shared).expect("parts fit");
    assert_eq!(linked.parts.len(), 1);
    let early = problems(&script.replace("  let place be \"in\"\n", ""), &shared);
    assert_eq!((early.len(), early[0].line), (1, 3), "{early:?}");
    assert!(early[0].to_string().contains("{place} in the part \"Sign in\""));
}

#[test]
fn an_unfinished_line_knows_what_could_come_next() {
    let before = "script \"J\"\nstep \"S\"\n";
    let next = |line: &str| read_line(before, line).next;
    assert!(
        next("  ").contains(&"press")
            && next("  ").contains(&"step")
            && !next("  ").contains(&"script")
    );
    assert_eq!(next("  pre"), ["press"]);
    assert!(next("  press ").contains(&"button"));
    assert_eq!(next("  press but"), ["button"]);
    assert_eq!(next("  expect certificate "), ["for"]);
    assert!(next("  press button \"Pa").is_empty());
    assert_eq!(next("  press button \"Pay\" "), ["up to"]);
    assert_eq!(read_line("", "scr").next, ["script"]);
    assert!(read_line("script \"J\"\n", "").next.contains(&"part"));
}

#[test]
fn the_rung_that_held_comes_first_in_the_repaired_script() {
    let script = "script \"J\"\n\nstep \"S\"\n  drag css \"#a\" or text \"A\" to css \"#b\" or text \"B\" or test id \"b\"\n";
    let fell =
        FellBack { line: 4, rung: 2, which: 1, found_by: String::new(), instead_of: String::new() };
    let repaired = repaired(&parse(script).expect("a script"), &[fell]);
    let want = script.replace(
        "css \"#b\" or text \"B\" or test id \"b\"",
        "test id \"b\" or css \"#b\" or text \"B\"",
    );
    assert_eq!(repaired.to_string(), want);
}

#[test]
fn marks_of_a_script_are_those_of_its_steps_and_parts_wherever_they_stand() {
    let script = parse(
        "script \"Book\"\nstep \"Search\"\n  open http://book.marram.example/\n  mark \"map in place\" when css \"#map img\"\n  \
         if visible css \"#hint\" then press css \"#hint\"\nclean up \"Sign out\"\n  mark \"gone\" when css \"#bye\"\n",
    );
    let script = script.unwrap_or_else(|e| panic!("{e:?}"));
    assert_eq!(
        script.marks().collect::<Vec<_>>(),
        ["map in place"],
        "what cleans up is not measured"
    );
    let none =
        parse("script \"Book\"\nstep \"Search\"\n  open http://book.marram.example/\n").unwrap();
    assert_eq!(none.marks().count(), 0);
}
