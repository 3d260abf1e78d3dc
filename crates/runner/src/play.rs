//! A script, played sentence by sentence.
//!
//! A step lasts from its first act until its last expectation holds and, when it led to a new page,
//! until that page has loaded. All moments are read off the page's own clock; what the driver needs
//! to talk to the browser between the steps is not counted.

use crate::browser::{Browser, Ours};
use crate::evidence::Evidence;
use crate::film::Film;
use crate::values::{Unfilled, Values};
use crate::wire::{Answer, Wire};
use cadentis_core::journey::{FellBack, Journey, Part, Says, Sentence, Step};
use cadentis_core::run::reach::Denied;
use cadentis_core::run::{
    DeviceProfile, Frame, Link, Looked, Mark, Outcome, RunRecord, StepRecord, StepVitals, Trouble,
};
use cadentis_core::timing::entries::{Event, Shift, interaction_to_next_paint, layout_shift};
use jiff::Timestamp;
use serde_json::{Value, json};
use std::collections::HashMap;
use std::net::SocketAddr;
use std::sync::{Arc, Mutex};
use std::time::Duration;
use tokio_rustls::rustls::pki_types::CertificateDer;
use uuid::Uuid;

/// Where and as whom to play.
#[derive(Debug, Clone)]
pub struct Setting {
    pub id: Uuid,
    pub runner: String,
    /// The location's name.
    pub location: String,
    pub proxy: Option<SocketAddr>,
    /// Networks that must not be reached from there.
    pub denied: Denied,
    pub device: DeviceProfile,
    /// What was accepted of its pages, by what it is kept under.
    pub accepted: HashMap<String, String>,
    /// What secrets of the script are.
    pub secrets: HashMap<String, String>,
    /// Hosts that each of them may be typed into or sent to, with everything below; one that is not named is for any.
    pub secret_hosts: HashMap<String, Vec<String>>,
    /// Certificates trusted beside the public ones, by requests sent without the browser.
    pub roots: Vec<CertificateDer<'static>>,
    /// How long an expectation may take to hold.
    pub patience: Duration,
    /// A run that takes longer is stuck and is broken off, with everything that it started.
    pub longest: Duration,
    /// Whether to take a picture at the end of each step.
    pub pictures: bool,
    /// Where to put what is to be seen meanwhile.
    pub film: Option<Film>,
}

/// How long a run may take: the server gives it two minutes.
const STUCK: Duration = Duration::from_secs(100);
/// How long a crawl may take when it does not say.
const CRAWL: Duration = Duration::from_secs(60);
/// Answers that are on their way when a step ends are waited for this long.
const ON_THEIR_WAY: Duration = Duration::from_millis(40);

impl Default for Setting {
    fn default() -> Setting {
        Setting {
            id: Uuid::new_v4(),
            runner: "here".into(),
            location: "here".into(),
            proxy: None,
            denied: Denied::default(),
            device: DeviceProfile::USUAL,
            accepted: HashMap::new(),
            secrets: HashMap::new(),
            secret_hosts: HashMap::new(),
            roots: Vec::new(),
            patience: Duration::from_secs(10),
            longest: STUCK,
            pictures: true,
            film: None,
        }
    }
}

/// What is told while a run is played.
#[derive(Debug)]
pub enum News<'a> {
    /// The browser stands; the process id of its driver.
    Browser(Option<u32>),
    /// A step begins: its place in the script, from 0.
    Begun(usize),
    /// A sentence begins: its line.
    Line(u32),
    /// The step has been played.
    Done(&'a StepRecord),
}

/// Plays the journey and returns its record, whatever happens; `told` hears how it goes. Shared parts
/// must be in the journey already (see [`Journey::with_parts`]).
pub async fn play(journey: &Journey, setting: &Setting, told: impl Fn(News<'_>)) -> RunRecord {
    let secrets: Vec<String> = setting.secrets.values().cloned().collect();
    let mut record =
        match tokio::time::timeout(setting.longest, played(journey, setting, &told)).await {
            Ok(record) => record,
            Err(_) => unmeasured(begun(journey, setting), &Ours::Stuck(setting.longest.as_secs())),
        };
    record.mask(&secrets);
    record
}

/// A record of which nothing is known yet.
fn begun(journey: &Journey, setting: &Setting) -> RunRecord {
    RunRecord {
        id: setting.id,
        started_at: Timestamp::now(),
        outcome: Outcome::Unmeasured,
        duration_ms: 0.0,
        trouble: None,
        steps: Vec::new(),
        browser: if journey.needs_browser() { "Chromium".into() } else { "no browser".into() },
        runner: setting.runner.clone(),
        device: setting.device.slug.into(),
        trial: false,
    }
}

async fn played(journey: &Journey, setting: &Setting, told: &impl Fn(News<'_>)) -> RunRecord {
    let needs_browser = journey.needs_browser();
    let mut record = begun(journey, setting);
    if let Some(proxy) = setting.proxy
        && !answers(proxy).await
    {
        return unmeasured(record, &Ours::Proxy);
    }
    let browser = match needs_browser {
        false => None,
        true => match Browser::start(setting.proxy, setting.device, &setting.denied).await {
            Ok(browser) => Some(browser),
            Err(e) => return unmeasured(record, &e),
        },
    };
    if let Some(browser) = &browser {
        record.browser = browser.version.clone();
    }
    record.started_at = Timestamp::now();
    if let (Some(browser), Some(film)) = (&browser, &setting.film)
        && let Err(e) = browser.film(film).await
    {
        // The run counts, whether there are pictures of it or not.
        tracing::warn!("no film: {e}");
    }
    told(News::Browser(browser.as_ref().and_then(Browser::pid)));
    let evidence = browser.as_ref().map(|b| b.evidence.clone()).unwrap_or_default();
    let given = [
        ("run", setting.id.to_string()),
        ("now", record.started_at.as_second().to_string()),
        ("location", setting.location.clone()),
    ];
    let mut player = Player {
        browser: browser.as_ref(),
        evidence,
        setting,
        parts: &journey.parts,
        values: Values::new(given, &setting.secrets, &setting.secret_hosts),
        wire: Wire {
            proxy: setting.proxy,
            roots: setting.roots.clone(),
            denied: setting.denied.clone(),
        },
        answer: None,
        addresses: Vec::new(),
        certificate_days: None,
        old_origin: None,
        doing: Doing::default(),
        told,
    };
    let ours = play_steps(&mut player, journey, &mut record).await;
    let wire = player.wire;
    if let Some(browser) = browser {
        browser.end().await;
    }
    if let Some(ours) = ours {
        return unmeasured(record, &ours);
    }
    if needs_browser {
        wire.look_at_certificates(&mut record).await;
    }
    record.judge(journey.within_ms.map(|ms| ms as f64));
    record
}

/// Plays the steps into the record; gives what of our own stopped it, if anything did.
async fn play_steps(
    player: &mut Player<'_>,
    journey: &Journey,
    record: &mut RunRecord,
) -> Option<Ours> {
    let told = player.told;
    let mut ours = None;
    let mut failed = false;
    for (nth, step) in journey.steps.iter().enumerate() {
        // Nothing is played after a failure but what cleans up.
        if (failed || ours.is_some()) && !step.clean_up {
            continue;
        }
        told(News::Begun(nth));
        let flood = out_of_control(player.evidence.clone());
        let stepped = tokio::select! {
            stepped = player.step(step, record.duration_ms) => stepped,
            says = flood => Ok(flooded(step, record.duration_ms, says)),
        };
        match stepped {
            Ok(played) => {
                told(News::Done(&played));
                if !step.clean_up {
                    record.duration_ms += played.duration_ms;
                    failed |= played.outcome == Outcome::Failed;
                    if record.trouble.is_none() {
                        record.trouble = played.trouble.clone();
                    }
                }
                record.steps.push(played);
            }
            // Without a browser that answers there is no cleaning up either.
            Err(e) => {
                if !step.clean_up || ours.is_some() {
                    let gone = !matches!(e, Ours::Cannot(_));
                    ours = ours.or(Some(e));
                    if gone {
                        break;
                    }
                }
            }
        }
    }
    ours
}

/// A visit has no use for more windows: a page that opens more is out of control.
const MOST_WINDOWS: usize = 20;

/// Ends when the page has opened more windows than that, or has left the web.
async fn out_of_control(evidence: Arc<Mutex<Evidence>>) -> String {
    loop {
        let (windows, left) =
            evidence.lock().map_or((0, None), |e| (e.windows, e.left_the_web.clone()));
        if windows > MOST_WINDOWS {
            return format!("The page opened more than {MOST_WINDOWS} windows.");
        }
        if let Some(address) = left {
            return format!("The page went to {address}; only http and https are opened.");
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}

fn flooded(step: &Step, start_ms: f64, says: String) -> StepRecord {
    let mut record = StepRecord::begun(&step.name, start_ms, step.within_ms.map(|ms| ms as f64));
    record.clean_up = step.clean_up;
    record.outcome = Outcome::Failed;
    record.trouble = Some(Trouble { line: step.line.0, says });
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

/// Why a sentence did not come true.
pub(crate) enum Stop {
    /// The site's doing: one sentence about it.
    Unmet(String),
    Ours(Ours),
}

impl From<Ours> for Stop {
    fn from(ours: Ours) -> Stop {
        Stop::Ours(ours)
    }
}

impl From<Unfilled> for Stop {
    fn from(unfilled: Unfilled) -> Stop {
        match unfilled {
            Unfilled::Variable(name) => Stop::Unmet(format!("The variable {name} has no value.")),
            Unfilled::Secret(name) => {
                Stop::Ours(Ours::Cannot(format!("The secret {name} is not stored")))
            }
            // Nobody's outage: it is kept back, and an editor or administrator says where it may go.
            Unfilled::NotHere { secret, host, hosts } => Stop::Ours(Ours::Cannot(format!(
                "The secret {secret} was kept back: it is for {} and not for {host}",
                hosts.join(", ")
            ))),
        }
    }
}

/// What a sentence took, on the page's clock.
pub(crate) struct Done {
    /// When its act began, if it acts on the page.
    pub began: Option<f64>,
    /// When it had come true.
    pub at: f64,
}

impl Done {
    /// Something that took no time of its own.
    pub fn at(at: f64) -> Done {
        Done { began: None, at }
    }

    pub fn acted(began: f64, at: f64) -> Done {
        Done { began: Some(began), at }
    }
}

/// Milliseconds since 1970.
pub(crate) fn clock() -> f64 {
    Timestamp::now().as_microsecond() as f64 / 1000.0
}

/// The step being played.
#[derive(Default)]
pub(crate) struct Doing {
    /// When its first act began.
    pub from: Option<f64>,
    /// When it was begun to be played; requests and console lines since then are its own.
    pub since: f64,
    /// Waiting of ours that is not the page's: the grace that a lower rung is given.
    pub off_clock: f64,
    pub marks: Vec<(String, f64)>,
    pub fell_back: Vec<FellBack>,
    /// Limits that did not hold: the step is slow.
    pub over: Vec<Trouble>,
    /// Links looked at, and looks at the page.
    pub links: Vec<Link>,
    pub looked: Vec<Looked>,
    /// Days that are left of the certificates it saw: of the one that ends first.
    pub certificate_days: Option<i64>,
    /// The name of the step.
    pub step: String,
    /// The line of the sentence, and how long it may take.
    pub line: u32,
    pub patience: Duration,
}

impl Doing {
    /// A certificate was seen with so many whole days left.
    pub fn saw_certificate(&mut self, days: Option<i64>) {
        self.certificate_days = self.certificate_days.into_iter().chain(days).min();
    }
}

pub(crate) struct Player<'a> {
    pub browser: Option<&'a Browser>,
    pub evidence: Arc<Mutex<Evidence>>,
    pub setting: &'a Setting,
    parts: &'a [Part],
    pub values: Values,
    pub wire: Wire,
    /// The newest answer to `send`, until a page is newer.
    pub answer: Option<Answer>,
    pub addresses: Vec<std::net::IpAddr>,
    pub certificate_days: Option<i64>,
    /// The time origin of a document that an act has sent away: what comes next must be another.
    pub old_origin: Option<f64>,
    pub doing: Doing,
    told: &'a dyn Fn(News<'_>),
}

impl Player<'_> {
    pub fn browser(&self) -> Result<&Browser, Ours> {
        self.browser.ok_or_else(|| Ours::Cannot("A browser is needed and none was started".into()))
    }

    pub fn dialog_is_open(&self) -> bool {
        self.browser.is_some_and(Browser::dialog_is_open)
    }

    async fn step(&mut self, step: &Step, start_ms: f64) -> Result<StepRecord, Ours> {
        let mut record =
            StepRecord::begun(&step.name, start_ms, step.within_ms.map(|ms| ms as f64));
        record.clean_up = step.clean_up;
        self.doing = Doing { since: clock() - 1.0, step: step.name.clone(), ..Doing::default() };
        let (mut end, mut led_away) = (clock(), false);
        match self.sentences(&step.sentences, None, &mut led_away).await {
            Ok(at) => end = at.unwrap_or(end),
            Err(Stop::Ours(ours)) => return Err(ours),
            Err(Stop::Unmet(says)) => {
                record.outcome = Outcome::Failed;
                record.trouble = Some(Trouble { line: self.doing.line, says });
                end = clock();
            }
        }
        let from = self.doing.from.unwrap_or(end);
        let talk = self.browser.filter(|b| !b.dialog_is_open());
        // A page that the step led to belongs to it until it has loaded.
        if led_away && record.outcome == Outcome::Passed && talk.is_some() {
            self.doing.patience = self.setting.patience;
            let stopped = match self.wait(json!({ "what": "loaded", "loaded": true })).await {
                Ok(Some(v)) => {
                    end = end.max(v["at"].as_f64().unwrap_or(end));
                    None
                }
                Ok(None) => Some(format!(
                    "The page did not finish loading within {} s.",
                    self.setting.patience.as_secs()
                )),
                Err(Stop::Unmet(says)) => Some(says),
                Err(Stop::Ours(ours)) => return Err(ours),
            };
            if let Some(says) = stopped {
                record.outcome = Outcome::Failed;
                record.trouble = Some(Trouble { line: step.line.0, says });
                end = clock();
            }
            self.old_origin = None;
        }
        let doing = std::mem::take(&mut self.doing);
        record.duration_ms = (end - from - doing.off_clock).max(0.0);
        record.marks = doing
            .marks
            .into_iter()
            .map(|(name, at)| Mark { name, at_ms: (at - from).max(0.0) })
            .collect();
        record.fell_back = doing.fell_back;
        record.links = doing.links;
        record.looked = doing.looked;
        record.certificate_days = doing.certificate_days;
        record.judge(step.line.0, doing.over.into_iter().next());
        if let Some(browser) = talk {
            self.answers_on_their_way().await;
            if led_away && record.outcome != Outcome::Failed {
                // A busy machine may have loaded the page and not painted it yet; a blank page never is.
                let painted = json!({ "what": "painted", "patience_ms": 1_000 });
                browser.ask_window(&painted, Duration::from_secs(5)).await?;
            }
            if let Some(facts) = self.facts().await? {
                add_facts(&mut record, &facts, from);
            }
            if self.setting.pictures {
                record.picture = browser.picture().await.ok();
            }
        }
        if let Some(film) = &self.setting.film {
            let shown = film.take_since(from).into_iter();
            record.film = shown.map(|(at, picture)| Frame { at_ms: at - from, picture }).collect();
        }
        if let Ok(evidence) = self.evidence.lock() {
            (record.requests, record.console) = evidence.between(from - 1.0, clock());
            for r in &mut record.requests {
                r.start_ms = (r.start_ms - 1.0).max(0.0);
                if let Some(browser) = self.browser {
                    browser.amend(r);
                }
            }
        }
        Ok(record)
    }

    /// Answers that are on their way when an expectation holds still belong to the step.
    async fn answers_on_their_way(&self) {
        let until = tokio::time::Instant::now() + ON_THEIR_WAY;
        while tokio::time::Instant::now() < until
            && self.evidence.lock().is_ok_and(|e| e.is_waiting())
        {
            tokio::time::sleep(Duration::from_millis(3)).await;
        }
    }

    /// Plays sentences in order; when the last one came true. `at`: the line they count for when they
    /// stand in a part of the site, which has lines of its own.
    async fn sentences(
        &mut self,
        sentences: &[Sentence],
        at: Option<u32>,
        led_away: &mut bool,
    ) -> Result<Option<f64>, Stop> {
        let mut end = None;
        for sentence in sentences {
            let line = at.unwrap_or(sentence.line.0);
            self.doing.line = line;
            let usual = match sentence.says {
                Says::Crawl { .. } => CRAWL,
                _ => self.setting.patience,
            };
            self.doing.patience = sentence.up_to_ms.map_or(usual, Duration::from_millis);
            (self.told)(News::Line(line));
            let mut says = &sentence.says;
            if let Says::If { visible, then } = says {
                let there = self.is_visible(visible, sentence.up_to_ms).await?;
                self.doing.patience = self.setting.patience;
                if !there {
                    continue;
                }
                says = then;
            }
            if let Says::Follow(name) = says {
                let Some(part) = self.parts.iter().find(|p| p.name == *name) else {
                    return Err(Stop::Ours(Ours::Cannot(format!(
                        "The part \"{name}\" is not there"
                    ))));
                };
                // A part of the site says so by having no lines of its own.
                let at = (part.line.0 == 0).then_some(line).or(at);
                end = Box::pin(self.sentences(&part.sentences, at, led_away)).await?.or(end);
                continue;
            }
            let begun = clock();
            let done = match self.sentence(says).await {
                Ok(done) => done,
                Err(stop) => {
                    self.doing.from.get_or_insert(begun);
                    return Err(stop);
                }
            };
            if !matches!(says, Says::Note(_)) {
                self.doing.from.get_or_insert(done.began.unwrap_or(done.at));
                end = Some(done.at);
            }
            *led_away |= self.old_origin.is_some();
        }
        Ok(end)
    }

    /// What the page's performance timeline holds now.
    pub async fn facts(&self) -> Result<Option<Value>, Ours> {
        let facts = json!({ "what": "facts", "patience_ms": 0 });
        self.browser()?.ask_window(&facts, Duration::from_secs(5)).await
    }
}

/// The vitals and busy stretches of the document that the step ended on.
fn add_facts(record: &mut StepRecord, facts: &Value, from: f64) {
    let origin = facts["origin"].as_f64().unwrap_or(0.0);
    // Counted from the step's beginning; what was before it belongs to an earlier step.
    let moment = |name: &str| {
        facts[name].as_f64().filter(|v| *v > 0.0).map(|v| origin + v - from).filter(|v| *v >= 0.0)
    };
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

/// INP of the page so far; when something was pressed and nothing took as long as the browser reports
/// (16 ms), that much.
pub(crate) fn inp(facts: &Value) -> Option<f64> {
    let events: Vec<Event> = facts["events"]
        .as_array()?
        .iter()
        .filter_map(|e| Some(Event { interaction: e[0].as_u64()?, duration_ms: e[2].as_f64()? }))
        .collect();
    let mut interactions: Vec<u64> = events.iter().map(|e| e.interaction).collect();
    interactions.sort_unstable();
    interactions.dedup();
    let touched = facts["touched"] == true;
    interaction_to_next_paint(&events, interactions.len() as u64).or(touched.then_some(16.0))
}
