//! A person at work on a page: what they do is told as acts, and the script made of it plays.

use crate::{ALONE, World, world};
use cadentis_core::journey::recorded::Input;
use cadentis_core::journey::recorded::{self, Act, Ways};
use cadentis_core::run::Outcome;
use cadentis_core::run::reach::Denied;
use cadentis_runner::record::{Answer, News, record};
use cadentis_runner::{Setting, play};
use serde_json::Value;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

/// What was told so far.
#[derive(Default)]
struct Seen {
    acts: Vec<Act>,
    about: Value,
    pictures: usize,
    inputs: Vec<Input>,
    ended: bool,
}

#[derive(Clone, Default)]
struct Person(Arc<Mutex<Seen>>);

impl Person {
    fn with<T>(&self, f: impl FnOnce(&mut Seen) -> T) -> T {
        f(&mut self.0.lock().expect("no test thread has panicked"))
    }

    fn does(&self, inputs: impl IntoIterator<Item = Input>) {
        self.with(|s| s.inputs.extend(inputs));
    }

    fn presses(&self, (x, y): (f64, f64)) {
        self.does([Input::Move { x, y }, Input::Down { x, y }, Input::Up { x, y }]);
    }

    async fn until<T>(&self, what: &str, mut seen: impl FnMut(&mut Seen) -> Option<T>) -> T {
        let until = Instant::now() + Duration::from_secs(15);
        loop {
            if let Some(seen) = self.with(&mut seen) {
                return seen;
            }
            let acts = self.with(|s| format!("{:#?} {}", s.acts, s.about));
            assert!(Instant::now() < until, "no {what}: {acts}");
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }

    async fn arrives_at(&self, part: &str) {
        self.until(part, |s| {
            s.about["address"].as_str().is_some_and(|a| a.ends_with(part)).then_some(())
        })
        .await;
        // What the page shows settles.
        tokio::time::sleep(Duration::from_millis(600)).await;
    }

    /// Points at a place, without doing anything there.
    async fn points_at(&self, (x, y): (f64, f64)) -> Value {
        self.does([Input::Point { on: true }]);
        tokio::time::sleep(Duration::from_millis(400)).await;
        self.presses((x, y));
        let pointed =
            self.until("thing pointed at", |s| s.about["pointed"].as_object().cloned()).await;
        self.does([Input::Point { on: false }]);
        self.until("end of pointing", |s| s.about["pointed"].is_null().then_some(())).await;
        Value::Object(pointed)
    }
}

fn ways(pointed: &Value) -> Ways {
    serde_json::from_value(pointed["ways"].clone()).expect("ways")
}

// The columns of the booking site's pages at 1280 × 800.
const TO: (f64, f64) = (438.0, 441.0);
const FIND: (f64, f64) = (589.0, 438.0);

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_somebody_does_on_a_page_becomes_a_script_that_plays() {
    let _alone = ALONE.lock().await;
    let World { site, proxy } = world("bergen").await;
    let person = Person::default();
    let address = "http://book.marram.example/";
    person.with(|s| s.acts.push(Act::Open { address: address.into() }));
    let heard = person.clone();
    let exchange = move |news: News| {
        let answer = heard.with(|s| {
            news.acts.into_iter().for_each(|act| recorded::add(&mut s.acts, act));
            s.about = news.about;
            s.pictures += usize::from(news.picture.is_some());
            Answer { inputs: std::mem::take(&mut s.inputs), ended: s.ended }
        });
        std::future::ready(answer)
    };
    let recording = tokio::spawn({
        let proxy = proxy.address;
        async move { record(address, Some(proxy), &Denied::default(), exchange).await }
    });
    person.until("picture", |s| (s.pictures > 0).then_some(())).await;
    person.arrives_at("/").await;

    // A list of options cannot be seen in a picture: it is offered.
    person.presses(TO);
    let options = person.until("options", |s| s.about["options"].as_object().cloned()).await;
    assert_eq!(options["all"].as_array().map(Vec::len), Some(4));
    let of: Ways = serde_json::from_value(options["of"].clone()).expect("ways");
    let context = options["context"].as_str().expect("a context").to_string();
    person.does([Input::Choose { context, of, option: "Orrin Point".into() }]);
    person
        .until("choice", |s| matches!(s.acts.last(), Some(Act::Choose { .. })).then_some(()))
        .await;
    person.presses(FIND);
    person.arrives_at("?from=Skarholm&to=Orrin+Point").await;
    let pointed = person.points_at((300.0, 480.0)).await;
    person.with(|s| s.acts.push(Act::ExpectElement { what: ways(&pointed) }));

    // Typing, a password field, Enter.
    person.does([Input::Open { address: format!("{address}sign-in") }]);
    person.arrives_at("/sign-in").await;
    person.does(std::iter::repeat_n(Input::Key { keys: "Tab".into() }, 3));
    person.does([
        Input::Text { text: "ada".into() },
        Input::Key { keys: "Tab".into() },
        Input::Text { text: "sea".into() },
    ]);
    person.does([Input::Key { keys: "Enter".into() }]);
    person.arrives_at("user=ada&password=sea").await;

    // Fields inside an open shadow root: events name the host of the root, what was meant is inside.
    person.does([Input::Open { address: format!("{address}gifts") }]);
    person.arrives_at("/gifts").await;
    person.does(std::iter::repeat_n(Input::Key { keys: "Tab".into() }, 3));
    person.does([Input::Text { text: "M-77".into() }]);
    person.does(std::iter::repeat_n(Input::Key { keys: "Tab".into() }, 2));
    person.does([Input::Key { keys: "Space".into() }]);
    person.until("tick", |s| matches!(s.acts.last(), Some(Act::Tick { .. })).then_some(())).await;

    let acts = person.with(|s| {
        s.ended = true;
        s.acts.clone()
    });
    assert_eq!(recording.await.expect("no panic"), Ok(()));
    let journey = recorded::journey("Recorded", &acts);
    let script = journey.to_string();
    println!("{script}");
    for sentence in [
        r#"choose "Orrin Point" in field "To""#,
        r#"press button "Find sailings""#,
        r#"type "ada" into field "User""#,
        r#"type "sea" into field "Password""#,
        "key Enter",
        r#"type "M-77" into field "Card number""#,
        r#"tick field "Keep the rest""#,
    ] {
        assert!(script.contains(sentence), "{sentence}\n{script}");
    }
    // The press that Enter makes by itself is not a press of the person's.
    assert!(!script.contains(r#"press button "Sign in""#), "{script}");
    let setting = Setting { proxy: Some(proxy.address), pictures: false, ..Setting::default() };
    let record = play(&journey, &setting, |_| {}).await;
    assert_eq!(record.outcome, Outcome::Passed, "{:?}\n{script}", record.trouble);
    assert!(record.steps.iter().all(|s| s.fell_back.is_empty()), "the best way held");
    site.stop().await;
}
