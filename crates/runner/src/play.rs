//! A script, played sentence by sentence.
//!
//! A step lasts from its first act until its last expectation holds and, when it led to a new page,
//! until that page has loaded. All moments are read off the page's own clock; what the driver needs
//! to talk to the browser between the steps is not counted.

use crate::browser::{Browser, Ours};
use cadentis_core::journey::{Element, Journey, Says, Sentence, Step};
use cadentis_core::run::{Mark, Outcome, RunRecord, StepRecord, StepVitals, Trouble};
use cadentis_core::timing::entries::{Shift, layout_shift};
use jiff::Timestamp;
use serde_json::{Value, json};
use std::net::SocketAddr;
use std::time::Duration;
use tokio::time::Instant;
use uuid::Uuid;

/// Where and as whom to play.
#[derive(Debug, Clone)]
pub struct Setting {
    pub id: Uuid,
    pub runner: String,
    pub proxy: Option<SocketAddr>,
    /// How long an expectation may take to hold.
    pub patience: Duration,
    /// Whether to take a picture at the end of each step.
    pub pictures: bool,
}

impl Default for Setting {
    fn default() -> Setting {
        Setting {
            id: Uuid::new_v4(),
            runner: "here".into(),
            proxy: None,
            patience: Duration::from_secs(10),
            pictures: true,
        }
    }
}

/// Plays the journey and returns its record, whatever happens. `started` hears the process id of
/// the browser's driver.
pub async fn play(journey: &Journey, setting: &Setting, started: impl Fn(u32)) -> RunRecord {
    let mut record = RunRecord {
        id: setting.id,
        started_at: Timestamp::now(),
        outcome: Outcome::Unmeasured,
        duration_ms: 0.0,
        trouble: None,
        steps: Vec::new(),
        browser: "Chromium".into(),
        runner: setting.runner.clone(),
    };
    if let Some(proxy) = setting.proxy
        && !answers(proxy).await
    {
        return unmeasured(record, &Ours::Proxy);
    }
    let browser = match Browser::start(setting.proxy).await {
        Ok(browser) => browser,
        Err(e) => return unmeasured(record, &e),
    };
    record.browser = browser.version.clone();
    record.started_at = Timestamp::now();
    if let Some(pid) = browser.pid() {
        started(pid);
    }
    let mut player = Player { browser: &browser, setting, old_origin: None };
    for step in &journey.steps {
        match player.step(step, record.duration_ms).await {
            Ok(played) => {
                record.duration_ms += played.duration_ms;
                let failed = played.outcome == Outcome::Failed;
                if record.trouble.is_none() {
                    record.trouble = played.trouble.clone();
                }
                record.steps.push(played);
                if failed {
                    break;
                }
            }
            Err(e) => {
                browser.end().await;
                return unmeasured(record, &e);
            }
        }
    }
    browser.end().await;
    record.outcome = Outcome::of_steps(record.steps.iter().map(|s| s.outcome));
    if record.outcome == Outcome::Passed && journey.within_ms.is_some_and(|b| record.duration_ms > b as f64) {
        record.outcome = Outcome::Slow;
        let budget = journey.within_ms.unwrap_or(0) as f64 / 1000.0;
        let says =
            format!("All steps together took {:.2} s; the budget is {budget:.1} s.", record.duration_ms / 1000.0);
        record.trouble = Some(Trouble { line: 0, says });
    }
    record
}

fn unmeasured(mut record: RunRecord, ours: &Ours) -> RunRecord {
    record.outcome = Outcome::Unmeasured;
    record.trouble = Some(Trouble { line: 0, says: format!("{ours}.") });
    record
}

async fn answers(proxy: SocketAddr) -> bool {
    let connect = tokio::net::TcpStream::connect(proxy);
    matches!(tokio::time::timeout(Duration::from_secs(3), connect).await, Ok(Ok(_)))
}

/// Why a sentence did not come true: the site's doing.
struct Unmet(String);

struct Player<'a> {
    browser: &'a Browser,
    setting: &'a Setting,
    /// The time origin of a document that an act has sent away: what comes next must be another.
    old_origin: Option<f64>,
}

/// What a sentence took, on the page's clock.
struct Done {
    /// When its act began, if it acts on the page.
    began: Option<f64>,
    /// When it had come true.
    at: f64,
}

fn clock() -> f64 {
    Timestamp::now().as_microsecond() as f64 / 1000.0
}

impl Player<'_> {
    async fn step(&mut self, step: &Step, start_ms: f64) -> Result<StepRecord, Ours> {
        let mut record = StepRecord {
            name: step.name.clone(),
            outcome: Outcome::Passed,
            start_ms,
            duration_ms: 0.0,
            budget_ms: step.within_ms.map(|ms| ms as f64),
            trouble: None,
            vitals: StepVitals::default(),
            marks: Vec::new(),
            requests: Vec::new(),
            console: Vec::new(),
            busy: Vec::new(),
            picture: None,
        };
        let (mut from, mut end) = (None::<f64>, clock());
        let mut marks = Vec::new();
        let mut led_away = false;
        for sentence in &step.sentences {
            let begun = clock();
            match self.sentence(sentence).await? {
                Ok(done) => {
                    from = from.or(done.began);
                    from.get_or_insert(done.at);
                    end = done.at;
                    if let Says::Mark { name, .. } = &sentence.says {
                        marks.push((name.clone(), done.at));
                    }
                }
                Err(Unmet(says)) => {
                    record.outcome = Outcome::Failed;
                    record.trouble = Some(Trouble { line: sentence.line.0, says });
                    from.get_or_insert(begun);
                    end = clock();
                    break;
                }
            }
            led_away |= self.old_origin.is_some();
        }
        let from = from.unwrap_or(end);
        // A page that the step led to belongs to it until it has loaded.
        if led_away && record.outcome == Outcome::Passed {
            let loaded = json!({ "what": "loaded", "loaded": true });
            match self.wait(loaded).await? {
                Some(v) => end = end.max(v["at"].as_f64().unwrap_or(end)),
                None => {
                    record.outcome = Outcome::Failed;
                    let says = format!("The page did not finish loading within {} s.", self.setting.patience.as_secs());
                    record.trouble = Some(Trouble { line: step.line.0, says });
                    end = clock();
                }
            }
            self.old_origin = None;
        }
        record.duration_ms = (end - from).max(0.0);
        record.marks = marks.into_iter().map(|(name, at)| Mark { name, at_ms: (at - from).max(0.0) }).collect();
        if record.outcome == Outcome::Passed && record.budget_ms.is_some_and(|b| record.duration_ms > b) {
            record.outcome = Outcome::Slow;
            let (took, budget) = (record.duration_ms / 1000.0, record.budget_ms.unwrap_or(0.0) / 1000.0);
            let says = format!("{} took {took:.2} s; the budget is {budget:.1} s.", step.name);
            record.trouble = Some(Trouble { line: step.line.0, says });
        }
        // Answers that are on their way when the expectation holds still belong to the step.
        tokio::time::sleep(Duration::from_millis(40)).await;
        if led_away && record.outcome == Outcome::Passed {
            // A busy machine may have loaded the page and not painted it yet; a blank page never is.
            let painted = json!({ "what": "painted", "patience_ms": 1_000 });
            self.browser.ask(&painted, Duration::from_secs(5)).await?;
        }
        let facts = self.browser.ask(&json!({ "what": "facts", "patience_ms": 0 }), Duration::from_secs(5)).await?;
        if let Some(facts) = facts {
            add_facts(&mut record, &facts, from);
        }
        if self.setting.pictures {
            record.picture = self.browser.picture().await.ok();
        }
        if let Ok(evidence) = self.browser.evidence.lock() {
            (record.requests, record.console) = evidence.between(from - 1.0, clock());
            for r in &mut record.requests {
                r.start_ms = (r.start_ms - 1.0).max(0.0);
            }
        }
        Ok(record)
    }

    async fn sentence(&mut self, sentence: &Sentence) -> Result<Result<Done, Unmet>, Ours> {
        let met = |v: &Value| Done { began: None, at: v["at"].as_f64().unwrap_or_else(clock) };
        let patience = self.setting.patience.as_secs();
        Ok(match &sentence.says {
            Says::Note(_) => Ok(Done { began: None, at: clock() }),
            Says::Open(address) => return self.open(address).await,
            Says::Press(element) => return self.press(element).await,
            Says::Type { text, into } => return self.type_text(text, into).await,
            Says::Choose { option, from } => {
                let began = clock();
                let ask = json!({ "what": "choose", "element": as_json(from), "option": option });
                match self.wait(ask).await? {
                    Some(v) => Ok(Done { began: Some(began), at: met(&v).at }),
                    None => Err(Unmet(format!("No {from} with the option \"{option}\" within {patience} s."))),
                }
            }
            Says::Mark { name, when } => match self.wait(json!({ "what": "element", "element": as_json(when) })).await?
            {
                Some(v) => Ok(met(&v)),
                None => Err(Unmet(format!("The mark \"{name}\" never came: no {when} within {patience} s."))),
            },
            Says::ExpectElement(element) => {
                match self.wait(json!({ "what": "element", "element": as_json(element) })).await? {
                    Some(v) => Ok(met(&v)),
                    None => Err(self.unmet(&format!("Expected {element}")).await?),
                }
            }
            Says::ExpectText(text) => match self.wait(json!({ "what": "text", "text": text })).await? {
                Some(v) => Ok(met(&v)),
                None => Err(self.unmet(&format!("Expected the text \"{text}\"")).await?),
            },
            Says::ExpectAddress(part) => match self.wait(json!({ "what": "address", "part": part })).await? {
                Some(v) => Ok(met(&v)),
                None => Err(self.unmet(&format!("Expected an address with \"{part}\"")).await?),
            },
            Says::ExpectStatus(wanted) => {
                // The document must be there before its status is known.
                self.wait(json!({ "what": "loaded" })).await?;
                match self.status_within(Duration::from_secs(2)).await {
                    Some(status) if status == *wanted => Ok(Done { began: None, at: clock() }),
                    Some(status) => {
                        Err(Unmet(format!("Expected the status {wanted}; the page was answered with {status}.")))
                    }
                    None => Err(Unmet(format!("Expected the status {wanted}; the page was not answered."))),
                }
            }
        })
    }

    async fn open(&mut self, address: &str) -> Result<Result<Done, Unmet>, Ours> {
        let before = self.browser.ask(&json!({ "what": "loaded" }), Duration::from_secs(5)).await?;
        self.old_origin = Some(before.and_then(|v| v["origin"].as_f64()).unwrap_or(1.0));
        let began = clock();
        Ok(match self.browser.navigate(address, self.setting.patience).await? {
            Ok(()) => Ok(Done { began: Some(began), at: clock() }),
            Err(words) => Err(Unmet(format!("{address} was not reached ({}).", tidy_words(&words)))),
        })
    }

    async fn press(&mut self, element: &Element) -> Result<Result<Done, Unmet>, Ours> {
        let Some(place) = self.wait(json!({ "what": "element", "element": as_json(element), "reach": true })).await?
        else {
            return Ok(Err(self.unmet(&format!("Wanted to press {element}")).await?));
        };
        let began = clock();
        self.browser
            .act(json!([{ "type": "pointer", "id": "mouse", "actions": [
                { "type": "pointerMove", "x": place["x"], "y": place["y"] },
                { "type": "pointerDown", "button": 0 },
                { "type": "pointerUp", "button": 0 },
            ]}]))
            .await?;
        // Whether the press led away shows at once; a moment is left for the news to arrive.
        tokio::time::sleep(Duration::from_millis(25)).await;
        let led_away = self.browser.evidence.lock().is_ok_and(|e| e.navigations.iter().any(|at| *at + 2.0 >= began));
        if led_away {
            self.old_origin = place["origin"].as_f64();
        }
        Ok(Ok(Done { began: Some(began), at: began }))
    }

    async fn type_text(&mut self, text: &str, into: &Element) -> Result<Result<Done, Unmet>, Ours> {
        let began = clock();
        if self.wait(json!({ "what": "select-all", "element": as_json(into) })).await?.is_none() {
            return Ok(Err(self.unmet(&format!("Wanted to type into {into}")).await?));
        }
        let keys: Vec<Value> = text
            .chars()
            .flat_map(|c| [json!({ "type": "keyDown", "value": c }), json!({ "type": "keyUp", "value": c })])
            .collect();
        self.browser.act(json!([{ "type": "key", "id": "keyboard", "actions": keys }])).await?;
        Ok(Ok(Done { began: Some(began), at: clock() }))
    }

    /// Asks until the answer is yes; `None` when patience ends first.
    async fn wait(&mut self, mut ask: Value) -> Result<Option<Value>, Ours> {
        let until = Instant::now() + self.setting.patience;
        loop {
            let left = until.saturating_duration_since(Instant::now());
            if left.is_zero() {
                return Ok(None);
            }
            ask["patience_ms"] = json!(left.as_millis() as u64);
            ask["not_origin"] = json!(self.old_origin);
            match self.browser.ask(&ask, left + Duration::from_millis(500)).await? {
                Some(v) if v["ok"] == true => return Ok(Some(v)),
                Some(_) => return Ok(None),
                None => {
                    let failed = self.browser.evidence.lock().is_ok_and(|e| e.document_failed.is_some());
                    if failed {
                        return Ok(None);
                    }
                    tokio::time::sleep(Duration::from_millis(5)).await;
                }
            }
        }
    }

    /// Says what was expected and what the page did instead.
    async fn unmet(&self, expected: &str) -> Result<Unmet, Ours> {
        let failed = self.browser.evidence.lock().ok().and_then(|e| e.document_failed.clone());
        Ok(Unmet(match failed {
            Some(words) => format!("{expected}; the page was not reached ({}).", tidy_words(&words)),
            None => format!("{expected}; the page did not show it within {} s.", self.setting.patience.as_secs()),
        }))
    }

    async fn status_within(&self, patience: Duration) -> Option<u16> {
        let until = Instant::now() + patience;
        loop {
            let status = self.browser.evidence.lock().ok().and_then(|e| e.document_status);
            if status.is_some() || Instant::now() > until {
                return status;
            }
            tokio::time::sleep(Duration::from_millis(10)).await;
        }
    }
}

/// The vitals and busy stretches of the document that the step ended on.
fn add_facts(record: &mut StepRecord, facts: &Value, from: f64) {
    let origin = facts["origin"].as_f64().unwrap_or(0.0);
    // Counted from the step's beginning; what was before it belongs to an earlier step.
    let moment =
        |name: &str| facts[name].as_f64().filter(|v| *v > 0.0).map(|v| origin + v - from).filter(|v| *v >= 0.0);
    // Nothing is cut off at the end: a frame that an act set off may be painted just after the step.
    let since = |entry: &Value| Some(origin + entry[0].as_f64()? - from).filter(|at| *at >= 0.0);
    let list = |name: &str| facts[name].as_array().map(Vec::as_slice).unwrap_or_default();
    let shift = |entry: &Value| {
        let had_recent_input = entry[2].as_bool().unwrap_or(false);
        Some(Shift { start_ms: since(entry)?, score: entry[1].as_f64()?, had_recent_input })
    };
    let shifts: Vec<Shift> = list("shifts").iter().filter_map(shift).collect();
    record.vitals = StepVitals {
        fcp_ms: moment("fcp"),
        lcp_ms: moment("lcp"),
        ttfb_ms: moment("ttfb"),
        cls: moment("fcp").map(|_| layout_shift(&shifts)),
    };
    record.busy = list("long").iter().filter_map(|p| Some((since(p)?, p[1].as_f64()?))).collect();
}

fn as_json(element: &Element) -> Value {
    match element {
        Element::Role { role, name } => json!({ "by": "role", "role": role, "name": name }),
        Element::Field(label) => json!({ "by": "field", "label": label }),
        Element::Text(text) => json!({ "by": "text", "text": text }),
        Element::TestId(id) => json!({ "by": "test-id", "id": id }),
        Element::Css(selector) => json!({ "by": "css", "selector": selector }),
    }
}

/// The browser's own name for what went wrong, out of a driver's sentence around it.
fn tidy_words(words: &str) -> String {
    match words.find("net::ERR_") {
        Some(at) => words[at..].chars().take_while(|c| c.is_ascii_alphanumeric() || "_:".contains(*c)).collect(),
        None => words.chars().take(120).collect(),
    }
}
