//! Every sentence a script can say: its words and slots, what it means, an example.
//!
//! This one table reads scripts, makes the reference page, and knows what could come next while
//! somebody types.

use super::grammar::{Form, Group, Made, Piece, Slot};
use super::{Compare, End, Expectation, Holds, JsonIs, Moment, Reply, Says, Send, Source, Timed};
use crate::run::Look;

const fn w(word: &'static str) -> Piece {
    Piece::Word(word)
}

const ELEMENT: Piece = Piece::Slot(Slot::Element);
const DURATION: Piece = Piece::Slot(Slot::Duration);
const COUNT: Piece = Piece::Slot(Slot::Count);
const NUMBER: Piece = Piece::Slot(Slot::Number);
const VARIABLE: Piece = Piece::Slot(Slot::Variable);
const JSON: Piece = Piece::Slot(Slot::JsonPath);

const fn text(what: &'static str) -> Piece {
    Piece::Slot(Slot::Text(what))
}

const fn name(what: &'static str) -> Piece {
    Piece::Slot(Slot::Name(what))
}

/// `form!(group, waits, [pieces], meaning, example, making)`
macro_rules! form {
    ($group:ident, $waits:expr, [$($piece:expr),+ $(,)?], $says:expr, $example:expr, $make:expr $(,)?) => {
        Form { group: Group::$group, pieces: &[$($piece),+], waits: $waits, says: $says, example: $example, make: $make }
    };
}

fn says(says: Says) -> Made {
    Made::Says(says)
}

fn expect(e: Expectation) -> Made {
    Made::Says(Says::Expect(e))
}

/// Every sentence of the language.
pub static FORMS: &[Form] = &[
    // The frame
    form!(
        Frame,
        false,
        [w("script"), name("the journey's name")],
        "First line; names the journey.",
        "script \"Book a crossing\"",
        |s| Made::Journey(s.text())
    ),
    form!(
        Frame,
        false,
        [w("step"), name("the step's name")],
        "Begins a step. It lasts from its first act until its last expectation holds and the page it led to has loaded.",
        "step \"Search sailings\"",
        |s| Made::Step { name: s.text(), clean_up: false }
    ),
    form!(
        Frame,
        false,
        [w("clean"), w("up"), name("the step's name")],
        "Begins a step at the end that is played even after a failure. Neither its time nor its outcome is the journey's.",
        "clean up \"Give the booking back\"",
        |s| Made::Step { name: s.text(), clean_up: true }
    ),
    form!(
        Frame,
        false,
        [w("part"), name("the part's name")],
        "Begins a common part: sentences that steps can follow. Stands before the first step.",
        "part \"Sign in\"",
        |s| Made::Part(s.text())
    ),
    form!(
        Frame,
        false,
        [w("within"), DURATION],
        "Budget of the step; before the first step, of the whole journey. Over it the run is slow.",
        "within 2.5 s",
        |s| Made::Within(s.number())
    ),
    form!(
        Frame,
        false,
        [w("follow"), name("the part's name")],
        "Does what a common part says, of this script or of the site.",
        "follow \"Sign in\"",
        |s| says(Says::Follow(s.text()))
    ),
    // Acts
    form!(
        Acts,
        false,
        [w("open"), Piece::Slot(Slot::Address)],
        "Loads an address.",
        "open http://book.marram.example/",
        |s| says(Says::Open(s.text()))
    ),
    form!(
        Acts,
        true,
        [w("press"), ELEMENT],
        "Clicks or taps it, once it is there.",
        "press button \"Find sailings\"",
        |s| says(Says::Press(s.ladder()))
    ),
    form!(
        Acts,
        true,
        [w("type"), text("what to type"), w("into"), ELEMENT],
        "Replaces what the field holds, key by key.",
        "type \"Ada Holm\" into field \"Lead passenger\"",
        |s| says(Says::Type { text: s.text(), into: s.ladder() })
    ),
    form!(
        Acts,
        true,
        [w("choose"), text("the option"), w("in"), ELEMENT],
        "Picks an option by the text it shows.",
        "choose \"Lunnasay\" in field \"To\"",
        |s| says(Says::Choose { option: s.text(), from: s.ladder() })
    ),
    form!(
        Acts,
        true,
        [w("tick"), ELEMENT],
        "Presses a box or radio button unless it is on already.",
        "tick checkbox \"Bicycle\"",
        |s| says(Says::Tick { what: s.ladder(), on: true })
    ),
    form!(
        Acts,
        true,
        [w("untick"), ELEMENT],
        "Presses a box if it is on.",
        "untick checkbox \"Send me offers\"",
        |s| says(Says::Tick { what: s.ladder(), on: false })
    ),
    form!(
        Acts,
        true,
        [w("hover"), w("over"), ELEMENT],
        "Moves the pointer there.",
        "hover over button \"More\"",
        |s| says(Says::Hover(s.ladder()))
    ),
    form!(
        Acts,
        true,
        [w("scroll"), w("to"), ELEMENT],
        "Scrolls until it is in view.",
        "scroll to heading \"Conditions of carriage\"",
        |s| says(Says::ScrollTo(s.ladder()))
    ),
    form!(
        Acts,
        false,
        [w("scroll"), w("to"), w("top")],
        "Scrolls to the top of the page.",
        "scroll to top",
        |_| says(Says::ScrollEnd(End::Top))
    ),
    form!(
        Acts,
        false,
        [w("scroll"), w("to"), w("bottom")],
        "Scrolls to the bottom of the page.",
        "scroll to bottom",
        |_| says(Says::ScrollEnd(End::Bottom))
    ),
    form!(
        Acts,
        false,
        [w("key"), Piece::Slot(Slot::Keys)],
        "Presses keys together, wherever the focus is.",
        "key Control+A",
        |s| says(Says::Key(s.text()))
    ),
    form!(
        Acts,
        true,
        [
            w("upload"),
            text("the file's name"),
            w("of"),
            Piece::Slot(Slot::Size),
            w("into"),
            ELEMENT
        ],
        "Gives a file field a made-up file of this size.",
        "upload \"pets.pdf\" of 20 kB into field \"Papers\"",
        |s| says(Says::Upload {
            file: s.text(),
            holds: Holds::Bytes(s.number()),
            into: s.ladder()
        })
    ),
    form!(
        Acts,
        true,
        [
            w("upload"),
            text("the file's name"),
            w("holding"),
            text("what it holds"),
            w("into"),
            ELEMENT
        ],
        "Gives a file field a file with this text in it.",
        "upload \"group.csv\" holding \"Ada,Holm\\n\" into field \"Papers\"",
        |s| says(Says::Upload { file: s.text(), holds: Holds::Text(s.text()), into: s.ladder() })
    ),
    form!(
        Acts,
        true,
        [w("drag"), ELEMENT, w("to"), ELEMENT],
        "Takes hold of one thing, moves it to the middle of another and lets go.",
        "drag listitem \"Suitcase\" to region \"Car deck\"",
        |s| says(Says::Drag { what: s.ladder(), to: s.ladder() })
    ),
    form!(Acts, false, [w("go"), w("back")], "As the browser's button.", "go back", |_| says(
        Says::GoBack
    )),
    form!(
        Acts,
        false,
        [w("go"), w("forward")],
        "As the browser's button.",
        "go forward",
        |_| says(Says::GoForward)
    ),
    form!(Acts, false, [w("reload")], "Loads the page again.", "reload", |_| says(Says::Reload)),
    // Waiting
    form!(
        Waiting,
        true,
        [w("wait"), w("for"), ELEMENT],
        "Waits until the page shows it; fails when it does not come in time.",
        "wait for button \"Continue\" up to 20 s",
        |s| says(Says::WaitFor(s.ladder()))
    ),
    form!(
        Waiting,
        true,
        [w("wait"), w("for"), w("no"), ELEMENT],
        "Waits until the page no longer shows it.",
        "wait for no text \"Looking for sailings\"",
        |s| says(Says::WaitGone(s.ladder()))
    ),
    form!(
        Waiting,
        true,
        [w("wait"), w("for"), w("request"), text("part of its address")],
        "Waits until a request of this step with this in its address was answered.",
        "wait for request \"/api/sailings\"",
        |s| says(Says::WaitRequest(s.text()))
    ),
    form!(
        Waiting,
        true,
        [w("if"), w("visible"), ELEMENT, w("then"), Piece::Slot(Slot::Act)],
        "Does it if the page, once loaded, shows the element; else goes on. With up to, waits that long for it, and the wait counts.",
        "if visible button \"Accept cookies\" then press button \"Accept cookies\"",
        |s| says(Says::If { visible: s.ladder(), then: s.act() })
    ),
    // Windows
    form!(
        Windows,
        true,
        [w("enter"), w("window"), text("part of its title or address")],
        "Goes on in another window or tab of the browser.",
        "enter window \"Conditions\"",
        |s| says(Says::EnterWindow(s.text()))
    ),
    form!(
        Windows,
        false,
        [w("leave"), w("window")],
        "Closes it and goes back to the one before.",
        "leave window",
        |_| says(Says::LeaveWindow)
    ),
    form!(
        Windows,
        true,
        [w("enter"), w("frame"), ELEMENT],
        "Goes on inside a frame of the page.",
        "enter frame css \"iframe#insurance\"",
        |s| says(Says::EnterFrame(s.ladder()))
    ),
    form!(
        Windows,
        false,
        [w("leave"), w("frame")],
        "Goes back to the page around the frame.",
        "leave frame",
        |_| says(Says::LeaveFrame)
    ),
    form!(
        Windows,
        true,
        [w("accept"), w("dialog")],
        "Says yes to a dialog the page has opened.",
        "accept dialog",
        |_| says(Says::Dialog(Reply::Accept))
    ),
    form!(
        Windows,
        true,
        [w("dismiss"), w("dialog")],
        "Says no to it.",
        "dismiss dialog",
        |_| says(Says::Dialog(Reply::Dismiss))
    ),
    form!(
        Windows,
        true,
        [w("answer"), w("dialog"), text("the answer")],
        "Types an answer into it and says yes.",
        "answer dialog \"Two\"",
        |s| says(Says::Dialog(Reply::Answer(s.text())))
    ),
    // Values
    form!(
        Values,
        false,
        [w("let"), VARIABLE, w("be"), text("its value")],
        "Gives a variable a value. {run}, {now} and {location} are always there: the run's id, seconds since 1970, where it plays.",
        "let lead be \"Ada {run}\"",
        |s| says(Says::Let { name: s.text(), be: Source::Text(s.text()) })
    ),
    form!(
        Values,
        true,
        [w("let"), VARIABLE, w("be"), w("text"), w("of"), ELEMENT],
        "Reads what an element shows.",
        "let code be text of css \"p b\"",
        |s| says(Says::Let { name: s.text(), be: Source::TextOf(s.ladder()) })
    ),
    form!(
        Values,
        true,
        [w("let"), VARIABLE, w("be"), w("value"), w("of"), ELEMENT],
        "Reads what a field holds.",
        "let lead be value of field \"Lead passenger\"",
        |s| says(Says::Let { name: s.text(), be: Source::ValueOf(s.ladder()) })
    ),
    form!(
        Values,
        true,
        [w("let"), VARIABLE, w("be"), w("attribute"), text("its name"), w("of"), ELEMENT],
        "Reads an attribute of an element.",
        "let pass be attribute \"href\" of link \"Boarding pass\"",
        |s| says(Says::Let {
            name: s.text(),
            be: Source::AttributeOf { attribute: s.text(), of: s.ladder() }
        })
    ),
    form!(
        Values,
        false,
        [w("let"), VARIABLE, w("be"), w("address")],
        "Reads the page's address.",
        "let here be address",
        |s| says(Says::Let { name: s.text(), be: Source::Address })
    ),
    form!(
        Values,
        false,
        [w("let"), VARIABLE, w("be"), w("title")],
        "Reads the page's title.",
        "let heading be title",
        |s| says(Says::Let { name: s.text(), be: Source::Title })
    ),
    form!(
        Values,
        false,
        [w("let"), VARIABLE, w("be"), w("header"), text("its name")],
        "Reads a header of the newest answer.",
        "let kind be header \"content-type\"",
        |s| says(Says::Let { name: s.text(), be: Source::Header(s.text()) })
    ),
    form!(
        Values,
        false,
        [w("let"), VARIABLE, w("be"), w("json"), JSON],
        "Reads the first value a JSONPath finds in the newest answer.",
        "let price be json \"$.sailings[0].price\"",
        |s| says(Says::Let { name: s.text(), be: Source::Json(s.text()) })
    ),
    // Expectations
    form!(
        Expectations,
        true,
        [w("expect"), w("text"), text("the text")],
        "The page shows this text.",
        "expect text \"Departures today\"",
        |s| expect(Expectation::Text { text: s.text(), inside: None })
    ),
    form!(
        Expectations,
        true,
        [w("expect"), w("text"), text("the text"), w("in"), ELEMENT],
        "An element shows this text.",
        "expect text \"08:15\" in list \"Sailings\"",
        |s| expect(Expectation::Text { text: s.text(), inside: Some(s.ladder()) })
    ),
    form!(
        Expectations,
        true,
        [w("expect"), w("no"), w("text"), text("the text")],
        "The page does not show this text, or not for long.",
        "expect no text \"We cannot show the sailings\"",
        |s| expect(Expectation::NoText(s.text()))
    ),
    form!(
        Expectations,
        true,
        [w("expect"), w("element"), ELEMENT],
        "The page shows this element.",
        "expect element list \"Sailings\"",
        |s| expect(Expectation::Element(s.ladder()))
    ),
    form!(
        Expectations,
        true,
        [w("expect"), w("no"), w("element"), ELEMENT],
        "The page does not show this element, or not for long.",
        "expect no element alert \"Sold out\"",
        |s| expect(Expectation::NoElement(s.ladder()))
    ),
    form!(
        Expectations,
        true,
        [w("expect"), w("value"), text("the value"), w("in"), ELEMENT],
        "A field holds exactly this.",
        "expect value \"Ada Holm\" in field \"Lead passenger\"",
        |s| expect(Expectation::Value { value: s.text(), of: s.ladder() })
    ),
    form!(
        Expectations,
        true,
        [w("expect"), w("at"), w("least"), COUNT, w("of"), ELEMENT],
        "The page shows at least so many.",
        "expect at least 3 of any listitem",
        |s| {
            let count = s.count();
            expect(Expectation::Count { is: Compare::AtLeast, count, of: s.ladder() })
        }
    ),
    form!(
        Expectations,
        true,
        [w("expect"), w("at"), w("most"), COUNT, w("of"), ELEMENT],
        "The page shows at most so many.",
        "expect at most 12 of any listitem",
        |s| {
            let count = s.count();
            expect(Expectation::Count { is: Compare::AtMost, count, of: s.ladder() })
        }
    ),
    form!(
        Expectations,
        true,
        [w("expect"), w("exactly"), COUNT, w("of"), ELEMENT],
        "The page shows just so many.",
        "expect exactly 6 of any listitem in list \"Sailings\"",
        |s| {
            let count = s.count();
            expect(Expectation::Count { is: Compare::Exactly, count, of: s.ladder() })
        }
    ),
    form!(
        Expectations,
        true,
        [w("expect"), w("address"), text("part of the address")],
        "The page's address contains this.",
        "expect address \"/sailings\"",
        |s| expect(Expectation::Address(s.text()))
    ),
    form!(
        Expectations,
        true,
        [w("expect"), w("title"), text("part of the title")],
        "The page's title contains this.",
        "expect title \"Marram Ferries\"",
        |s| expect(Expectation::Title(s.text()))
    ),
    form!(
        Expectations,
        false,
        [w("expect"), w("status"), Piece::Slot(Slot::Status)],
        "The newest answer, to send or to the page's document, had this HTTP status.",
        "expect status 200",
        |s| expect(Expectation::Status(u16::try_from(s.number()).unwrap_or(0)))
    ),
    form!(
        Expectations,
        false,
        [w("expect"), w("header"), text("its name"), w("with"), text("part of its value")],
        "The newest answer had this header, with this in it.",
        "expect header \"content-type\" with \"json\"",
        |s| expect(Expectation::Header { name: s.text(), holds: s.text() })
    ),
    form!(
        Expectations,
        false,
        [w("expect"), w("body"), text("part of the body")],
        "The newest answer to send has this in its body.",
        "expect body \"sailings\"",
        |s| expect(Expectation::Body(s.text()))
    ),
    form!(
        Expectations,
        false,
        [w("expect"), w("json"), JSON],
        "The JSONPath (RFC 9535) finds something in the newest answer to send.",
        "expect json \"$.sailings[0]\"",
        |s| expect(Expectation::Json { path: s.text(), is: JsonIs::There })
    ),
    form!(
        Expectations,
        false,
        [w("expect"), w("json"), JSON, w("is"), text("the value")],
        "The first value found is this; numbers and true as JSON writes them.",
        "expect json \"$.sailings[0].from\" is \"Skarholm\"",
        |s| expect(Expectation::Json { path: s.text(), is: JsonIs::Text(s.text()) })
    ),
    form!(
        Expectations,
        false,
        [w("expect"), w("json"), JSON, w("at"), w("least"), NUMBER],
        "The first value found is a number not below this.",
        "expect json \"$.sailings[0].price\" at least 10",
        |s| expect(Expectation::Json { path: s.text(), is: JsonIs::AtLeast(s.text()) })
    ),
    form!(
        Expectations,
        false,
        [w("expect"), w("json"), JSON, w("at"), w("most"), NUMBER],
        "The first value found is a number not above this.",
        "expect json \"$.sailings[0].price\" at most 99.5",
        |s| expect(Expectation::Json { path: s.text(), is: JsonIs::AtMost(s.text()) })
    ),
    form!(
        Expectations,
        true,
        [w("expect"), w("dialog"), text("part of what it says")],
        "The page has opened a dialog that says this; it stays open.",
        "expect dialog \"Give the booking back?\"",
        |s| expect(Expectation::Dialog(s.text()))
    ),
    form!(
        Expectations,
        false,
        [w("expect"), w("no"), w("script"), w("errors")],
        "No uncaught script error in this step so far.",
        "expect no script errors",
        |_| expect(Expectation::NoScriptErrors)
    ),
    form!(
        Expectations,
        false,
        [w("expect"), w("no"), w("failed"), w("requests")],
        "Every request of this step so far was answered, with a status below 400.",
        "expect no failed requests",
        |_| expect(Expectation::NoFailedRequests)
    ),
    // Limits
    form!(
        Limits,
        false,
        [w("expect"), Piece::Slot(Slot::Vital), w("under"), DURATION],
        "A vital of the page, as far as it is known at this line.",
        "expect LCP under 2.5 s",
        |s| {
            let vital = s.vital();
            expect(Expectation::Under { what: Timed::Vital(vital), ms: s.number() })
        }
    ),
    form!(
        Limits,
        false,
        [w("expect"), w("CLS"), w("under"), Piece::Slot(Slot::Score)],
        "The layout shift of the page so far.",
        "expect CLS under 0.1",
        |s| expect(Expectation::ShiftUnder(s.count()))
    ),
    form!(
        Limits,
        false,
        [w("expect"), w("load"), w("under"), DURATION],
        "From navigation to the end of the page's load event.",
        "expect load under 3 s",
        |s| expect(Expectation::Under { what: Timed::Load, ms: s.number() })
    ),
    form!(
        Limits,
        false,
        [w("expect"), w("mark"), name("the mark's name"), w("under"), DURATION],
        "From the step's beginning to a mark of this step.",
        "expect mark \"map in place\" under 1.5 s",
        |s| expect(Expectation::Under { what: Timed::Mark(s.text()), ms: s.number() })
    ),
    form!(
        Limits,
        false,
        [w("expect"), w("request"), text("part of its address"), w("under"), DURATION],
        "The slowest request of this step with this in its address.",
        "expect request \"/api/sailings\" under 800 ms",
        |s| expect(Expectation::Under { what: Timed::Request(s.text()), ms: s.number() })
    ),
    form!(
        Limits,
        false,
        [w("expect"), w("at"), w("most"), COUNT, w("requests")],
        "How many requests this step has made so far.",
        "expect at most 60 requests",
        |s| expect(Expectation::AtMostRequests(s.count()))
    ),
    form!(
        Limits,
        false,
        [w("expect"), w("size"), w("under"), Piece::Slot(Slot::Size)],
        "Bytes received in this step so far.",
        "expect size under 1.5 MB",
        |s| expect(Expectation::SizeUnder(s.number()))
    ),
    form!(
        Expectations,
        true,
        [w("expect"), w("unchanged"), w("text")],
        "The words that can be seen are those that were accepted; those of the first run that passes are.",
        "expect unchanged text",
        |_| expect(Expectation::Unchanged { look: Look::Text, without: None })
    ),
    form!(
        Expectations,
        true,
        [w("expect"), w("unchanged"), w("text"), w("without"), ELEMENT],
        "The same, leaving out every element found so and what is in it.",
        "expect unchanged text without css \".departures\"",
        |s| expect(Expectation::Unchanged { look: Look::Text, without: Some(s.ladder()) })
    ),
    form!(
        Expectations,
        true,
        [w("expect"), w("unchanged"), w("structure")],
        "The elements, one in another, are as accepted.",
        "expect unchanged structure",
        |_| expect(Expectation::Unchanged { look: Look::Structure, without: None })
    ),
    form!(
        Expectations,
        true,
        [w("expect"), w("unchanged"), w("structure"), w("without"), ELEMENT],
        "The same, leaving out every element found so and what is in it.",
        "expect unchanged structure without css \".departures\"",
        |s| expect(Expectation::Unchanged { look: Look::Structure, without: Some(s.ladder()) })
    ),
    form!(
        Expectations,
        true,
        [w("expect"), w("unchanged"), w("hosts")],
        "The step has asked no hosts, beside the page’s own, but those accepted.",
        "expect unchanged hosts",
        |_| expect(Expectation::Unchanged { look: Look::Hosts, without: None })
    ),
    form!(
        Expectations,
        true,
        [w("expect"), w("unchanged"), w("picture")],
        "The picture is as accepted: of blocks of 16 pixels one in a hundred may be lighter or darker.",
        "expect unchanged picture",
        |_| expect(Expectation::Unchanged { look: Look::Picture, without: None })
    ),
    form!(
        Expectations,
        true,
        [w("expect"), w("unchanged"), w("picture"), w("without"), ELEMENT],
        "The same, leaving out every element found so and what is in it.",
        "expect unchanged picture without css \".departures\"",
        |s| expect(Expectation::Unchanged { look: Look::Picture, without: Some(s.ladder()) })
    ),
    // Marks
    form!(
        Marks,
        true,
        [w("mark"), name("the mark's name"), w("when"), ELEMENT],
        "Notes the moment the element appears.",
        "mark \"map in place\" when css \"#map img\"",
        |s| says(Says::Mark { name: s.text(), when: Moment::Appears(s.ladder()) })
    ),
    form!(
        Marks,
        true,
        [
            w("mark"),
            name("the mark's name"),
            w("at"),
            w("timing"),
            text("the name of the page's mark")
        ],
        "Notes the moment of the page's own User Timing mark.",
        "mark \"list filled\" at timing \"sailings-shown\"",
        |s| says(Says::Mark { name: s.text(), when: Moment::Timing(s.text()) })
    ),
    form!(
        Marks,
        true,
        [w("mark"), name("the mark's name"), w("at"), w("request"), text("part of its address")],
        "Notes the moment such a request of this step was answered.",
        "mark \"prices here\" at request \"/api/sailings\"",
        |s| says(Says::Mark { name: s.text(), when: Moment::Request(s.text()) })
    ),
    // Requests
    form!(
        Requests,
        true,
        [w("send"), Piece::Slot(Slot::Method), Piece::Slot(Slot::Address)],
        "Sends a request without the browser; lines that begin with the word with belong to it. Redirects are not followed.",
        "send GET http://book.marram.example/api/sailings",
        |s| says(Says::Send(Box::new(Send {
            method: s.text(),
            address: s.text(),
            headers: Vec::new(),
            body: None
        })))
    ),
    form!(
        Requests,
        false,
        [w("with"), w("header"), text("its name"), text("its value")],
        "A header of the request above.",
        "with header \"Accept\" \"application/json\"",
        |s| Made::Header(s.text(), s.text())
    ),
    form!(
        Requests,
        false,
        [w("with"), w("body"), text("what to send")],
        "The body of the request above.",
        "with body \"{\\\"berths\\\": 2}\"",
        |s| Made::Body(s.text())
    ),
    form!(
        Requests,
        true,
        [
            w("crawl"),
            COUNT,
            w("links"),
            COUNT,
            w("deep"),
            COUNT,
            w("hosts"),
            w("from"),
            Piece::Slot(Slot::Address)
        ],
        "Looks at the pages an address leads to, without the browser: so many links, so many clicks away, on so many hosts. Pages of other hosts are looked at and not followed. Takes up to 60 s unless it says otherwise.",
        "crawl 50 links 2 deep 2 hosts from http://book.marram.example/",
        |s| says(Says::Crawl {
            links: s.count(),
            deep: s.count(),
            hosts: s.count(),
            from: s.text()
        })
    ),
    form!(
        Requests,
        false,
        [w("expect"), w("no"), w("broken"), w("links")],
        "Every link that this step has looked at leads somewhere.",
        "expect no broken links",
        |_| expect(Expectation::NoBrokenLinks)
    ),
    form!(
        Requests,
        true,
        [w("look"), w("up"), Piece::Slot(Slot::Host)],
        "Asks for the addresses of a host name.",
        "look up localhost",
        |s| says(Says::LookUp(s.text()))
    ),
    form!(
        Requests,
        false,
        [w("expect"), w("answer"), text("part of an address")],
        "One of the addresses looked up contains this.",
        "expect answer \"127.0.0.1\"",
        |s| expect(Expectation::Answer(s.text()))
    ),
    form!(
        Requests,
        true,
        [w("connect"), w("to"), Piece::Slot(Slot::HostPort)],
        "Opens a TCP connection and closes it.",
        "connect to book.marram.example:80",
        |s| says(Says::Connect { to: s.text(), secure: false })
    ),
    form!(
        Requests,
        true,
        [w("tls"), Piece::Slot(Slot::HostPort)],
        "Opens a TCP connection, then TLS; fails when the certificate does not hold for this host today.",
        "tls book.marram.example:443",
        |s| says(Says::Connect { to: s.text(), secure: true })
    ),
    form!(
        Requests,
        false,
        [w("expect"), w("certificate"), w("for"), Piece::Slot(Slot::Days), w("days")],
        "The certificate of the newest TLS connection is valid for so many more days.",
        "expect certificate for 14 days",
        |s| expect(Expectation::CertificateDays(s.count()))
    ),
];
