//! The record of one run, as a runner sends it and the store keeps it.

use super::Outcome;
use super::{Link, Looked};
use crate::journey::FellBack;
use crate::journey::text::masked;
use crate::text::{JsonLimits, clean_json};
use crate::timing::Phases;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use uuid::Uuid;

/// Everything that was recorded of a run.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct RunRecord {
    /// Given with the lease: a record sent twice is recognised by it.
    pub id: Uuid,
    /// When it began.
    pub started_at: Timestamp,
    /// What became of it.
    pub outcome: Outcome,
    /// All steps together, without the browser's own start.
    pub duration_ms: f64,
    /// What went wrong, if anything did.
    pub trouble: Option<Trouble>,
    /// Its steps, as far as it came.
    pub steps: Vec<StepRecord>,
    /// Name and version of the browser that played.
    pub browser: String,
    /// Name of the runner that played.
    pub runner: String,
    /// Slug of the device profile it was played on.
    #[serde(default = "usual_device")]
    pub device: String,
    /// Played on somebody's wish: counted nowhere.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub trial: bool,
}

fn usual_device() -> String {
    super::DeviceProfile::USUAL.slug.into()
}

/// Why a run or step did not pass.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Trouble {
    /// The line of the script, from 1; 0 when it was not one line's doing.
    pub line: u32,
    /// One sentence.
    pub says: String,
}

/// Everything that was recorded of a step.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct StepRecord {
    /// Its name.
    pub name: String,
    /// What became of it.
    pub outcome: Outcome,
    /// From the beginning of the run, in milliseconds.
    pub start_ms: f64,
    /// How long it took, in milliseconds.
    pub duration_ms: f64,
    /// The limit in milliseconds, as the script says.
    pub budget_ms: Option<f64>,
    /// What went wrong, if anything did.
    pub trouble: Option<Trouble>,
    /// Cleans up: neither its time nor its outcome is the run's.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub clean_up: bool,
    /// Elements that were found by a lower rung of their ladder.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub fell_back: Vec<FellBack>,
    /// Vitals of the page it led to.
    #[serde(default)]
    pub vitals: StepVitals,
    /// Moments that the script named.
    #[serde(default)]
    pub marks: Vec<Mark>,
    /// Whole days that were left of the certificates it saw: of the one that ends first; negative once that has.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub certificate_days: Option<i64>,
    /// What was asked for.
    #[serde(default)]
    pub requests: Vec<Request>,
    /// What stood on the console.
    #[serde(default)]
    pub console: Vec<Console>,
    /// Stretches of more than 50 ms in which the page's main thread was busy: (start, length), in
    /// milliseconds from the step's beginning.
    #[serde(default)]
    pub busy: Vec<(f64, f64)>,
    /// The picture at the step's end (or failure) as a data URL; taken out and kept apart by the
    /// store.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub picture: Option<String>,
    /// Pictures while the step was played, if the run was filmed.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub film: Vec<Frame>,
    /// Links that were looked at.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub links: Vec<Link>,
    /// What was compared with what was accepted.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub looked: Vec<Looked>,
}

/// One picture of a film.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Frame {
    /// From the step's beginning.
    pub at_ms: f64,
    /// A data URL.
    pub picture: String,
}

/// Vitals of the document a step ended on, in milliseconds from the step's beginning where they
/// are moments; `None` where the browser reported none.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize)]
pub struct StepVitals {
    /// First contentful paint, in milliseconds.
    pub fcp_ms: Option<f64>,
    /// Largest contentful paint, in milliseconds.
    pub lcp_ms: Option<f64>,
    /// Time to the first byte, in milliseconds.
    pub ttfb_ms: Option<f64>,
    /// Cumulative layout shift.
    pub cls: Option<f64>,
}

impl RunRecord {
    /// Judges a run by its counted steps, and by its own budget if they all passed.
    pub fn judge(&mut self, budget_ms: Option<f64>) {
        self.outcome = Outcome::of_steps(self.counted_steps().map(|s| s.outcome));
        let Some(budget) = budget_ms.filter(|b| self.duration_ms > *b) else { return };
        if self.outcome == Outcome::Passed {
            self.outcome = Outcome::Slow;
            let (took, budget) = (self.duration_ms / 1000.0, budget / 1000.0);
            let says = format!("All steps together took {took:.2} s; the budget is {budget:.1} s.");
            self.trouble = Some(Trouble { line: 0, says });
        }
    }

    /// Reads what a runner sent: its texts cleaned, its lists bounded.
    ///
    /// # Errors
    /// When it is no record; nothing of it can ever be stored then.
    pub fn read(body: &[u8]) -> Result<RunRecord, String> {
        let mut value: serde_json::Value =
            serde_json::from_slice(body).map_err(|e| e.to_string())?;
        clean_json(&mut value, &JsonLimits::RECORD);
        let mut record: RunRecord = serde_json::from_value(value).map_err(|e| e.to_string())?;
        record.check()?;
        Ok(record)
    }
}

impl StepRecord {
    /// Judges a step that was played: one that did not fail is slow when it took longer than its budget, or when a limit
    /// inside it was exceeded (`over`). Limits make a step slow and not failed: somebody was served.
    pub fn judge(&mut self, line: u32, over: Option<Trouble>) {
        if self.outcome != Outcome::Passed {
            return;
        }
        let budget = self.budget_ms.filter(|b| self.duration_ms > *b).map(|b| {
            let (took, budget) = (self.duration_ms / 1000.0, b / 1000.0);
            Trouble {
                line,
                says: format!("{} took {took:.2} s; the budget is {budget:.1} s.", self.name),
            }
        });
        if let Some(trouble) = budget.or(over) {
            self.outcome = Outcome::Slow;
            self.trouble = Some(trouble);
        }
    }

    /// A certificate was seen with so many whole days left.
    pub fn saw_certificate(&mut self, days: i64) {
        self.certificate_days = Some(self.certificate_days.map_or(days, |held| held.min(days)));
    }

    /// A step that has passed so far and taken no time.
    pub fn begun(name: &str, start_ms: f64, budget_ms: Option<f64>) -> StepRecord {
        StepRecord {
            name: name.into(),
            outcome: Outcome::Passed,
            start_ms,
            duration_ms: 0.0,
            budget_ms,
            trouble: None,
            clean_up: false,
            fell_back: Vec::new(),
            vitals: StepVitals::default(),
            marks: Vec::new(),
            certificate_days: None,
            requests: Vec::new(),
            console: Vec::new(),
            busy: Vec::new(),
            picture: None,
            film: Vec::new(),
            links: Vec::new(),
            looked: Vec::new(),
        }
    }
}

/// A moment that the script named.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Mark {
    /// Its name.
    pub name: String,
    /// From the step's beginning.
    pub at_ms: f64,
}

/// A run has so many marks that are kept beside it, at most.
const MOST_MARKS: usize = 50;
/// Days of a century.
const MOST_DAYS: i64 = 36_525;

impl RunRecord {
    /// When its marks were set, in milliseconds from their step's beginning; of one that was set more than once the first.
    pub fn marks(&self) -> BTreeMap<&str, f64> {
        let mut all = BTreeMap::new();
        for mark in self.counted_steps().flat_map(|s| &s.marks) {
            if mark.at_ms.is_finite() && (all.len() < MOST_MARKS || all.contains_key(&*mark.name)) {
                all.entry(mark.name.as_str()).or_insert(mark.at_ms);
            }
        }
        all
    }

    /// Whole days that were left of the certificates it saw: of the one that ends first.
    pub fn certificate_days(&self) -> Option<i64> {
        let days = self.counted_steps().filter_map(|s| s.certificate_days).min()?;
        // Nobody signs for longer than a century; whoever says so has sent something else.
        Some(days.clamp(-MOST_DAYS, MOST_DAYS))
    }
}

/// One request of a page.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Request {
    /// Its address.
    pub url: String,
    /// Its method.
    pub method: String,
    /// What it was for: document, script, stylesheet, image, font, fetch, …
    pub kind: String,
    /// 0 when no answer came.
    pub status: u16,
    /// From the step's beginning, in milliseconds.
    pub start_ms: f64,
    /// Where its time went.
    pub phases: Phases,
    /// Bytes that came, with headers.
    pub bytes: u64,
    /// Such as `h2`.
    #[serde(default)]
    pub protocol: String,
    /// Whether it came from the browser's own cache.
    #[serde(default)]
    pub from_cache: bool,
    /// The browser's words when no answer came.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub failed: Option<String>,
    /// The trace id that the server answered with (W3C Trace Context).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub trace: Option<String>,
    /// Who asked for it.
    #[serde(default, skip_serializing_if = "Asked::is_empty")]
    pub asked: Asked,
}

/// How a request came about and what the browser and the server told about it beside its times.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Asked {
    /// What made the browser ask: the parser, or the address of the script.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub initiator: Option<String>,
    /// How urgent the browser thought it, in its own words: VeryHigh to VeryLow.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub priority: Option<String>,
    /// Nothing is painted before it is there (Resource Timing, renderBlockingStatus).
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub blocking: bool,
    /// What the server says it did (W3C Server Timing).
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub server: Vec<ServerTiming>,
}

impl Asked {
    fn is_empty(&self) -> bool {
        *self == Asked::default()
    }
}

/// One metric of a Server-Timing header.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ServerTiming {
    /// Its name.
    pub name: String,
    /// Milliseconds, if it tells any.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ms: Option<f64>,
    /// Its description.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub says: String,
}

impl ServerTiming {
    /// The metrics of a header, 20 at most.
    ///
    /// Source: W3C Server Timing, section 4 (the header field): names with parameters `dur` and `desc`, both
    /// tokens or quoted strings; of a parameter that comes twice the first counts.
    ///
    /// ```
    /// use cadentis_core::run::ServerTiming;
    /// let read = ServerTiming::read(r#"db;dur=53.2, cache;desc="Read, not made";dur=2, miss"#);
    /// let said: Vec<_> = read.iter().map(|t| (t.name.as_str(), t.ms, t.says.as_str())).collect();
    /// assert_eq!(said, [("db", Some(53.2), ""), ("cache", Some(2.0), "Read, not made"), ("miss", None, "")]);
    /// // W3C Trace Context, section 3.2: example.
    /// let traced = "db;dur=5, traceparent;desc=\"00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01\"";
    /// let id = ServerTiming::trace(&ServerTiming::read(traced));
    /// assert_eq!(id.as_deref(), Some("0af7651916cd43dd8448eb211c80319c"));
    /// assert_eq!(ServerTiming::trace(&ServerTiming::read("traceparent;desc=\"nonsense\"")), None);
    /// ```
    pub fn read(header: &str) -> Vec<ServerTiming> {
        let metric = |text: &str| {
            let mut parts = unquoted(text, ';');
            let name: String = parts.next()?.trim().chars().take(60).collect();
            if name.is_empty() {
                return None;
            }
            let mut timing = ServerTiming { name, ms: None, says: String::new() };
            for part in parts {
                let (key, value) = part.split_once('=').unwrap_or((part, ""));
                let value = value.trim().trim_matches('"').replace("\\\"", "\"");
                match key.trim().to_ascii_lowercase().as_str() {
                    "dur" if timing.ms.is_none() => {
                        timing.ms = value.parse().ok().filter(|ms: &f64| ms.is_finite())
                    }
                    "desc" if timing.says.is_empty() => {
                        timing.says = value.chars().take(200).collect()
                    }
                    _ => {}
                }
            }
            Some(timing)
        };
        unquoted(header, ',').filter_map(metric).take(20).collect()
    }
}

impl ServerTiming {
    /// The trace id among these: `traceparent;desc="00-<trace>-<span>-01"` (W3C Trace Context, section 3.2, in a
    /// metric of that name: common practice).
    pub fn trace(all: &[ServerTiming]) -> Option<String> {
        let value = &all.iter().find(|t| t.name == "traceparent")?.says;
        let id = value.split('-').nth(1)?;
        (id.len() == 32 && id.bytes().all(|b| b.is_ascii_hexdigit())).then(|| id.to_string())
    }
}

/// As it stands in a header.
impl std::fmt::Display for ServerTiming {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.name)?;
        if let Some(ms) = self.ms {
            write!(f, ";dur={ms}")?;
        }
        if !self.says.is_empty() {
            write!(f, ";desc=\"{}\"", self.says.replace('"', "\\\""))?;
        }
        Ok(())
    }
}

/// The parts of a text between separators that do not stand in quotes.
fn unquoted(text: &str, separator: char) -> impl Iterator<Item = &str> {
    let mut quoted = false;
    let mut before = ' ';
    text.split(move |c: char| {
        quoted ^= c == '"' && before != '\\';
        before = c;
        c == separator && !quoted
    })
}

impl Request {
    /// When it was over, in milliseconds since the step began.
    pub fn end_ms(&self) -> f64 {
        self.start_ms + self.phases.total_ms()
    }

    /// Its host.
    pub fn host(&self) -> &str {
        self.url
            .split_once("://")
            .map_or("", |(_, rest)| rest.split(['/', '?', '#']).next().unwrap_or(""))
    }

    /// Path with the query, or `/`.
    pub fn path(&self) -> &str {
        let rest = self.url.split_once("://").map_or(self.url.as_str(), |(_, rest)| rest);
        rest.find('/').map_or("/", |at| &rest[at..])
    }

    /// No answer, or one that says something went wrong.
    pub fn is_failed(&self) -> bool {
        self.failed.is_some() || self.status >= 400
    }

    /// Sent for its own sake and waited for by nothing on the page: a beacon.
    pub fn is_beacon(&self) -> bool {
        self.kind == "beacon" || self.kind == "ping"
    }
}

/// One line of the console, or one uncaught script error.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Console {
    /// Milliseconds since the step began.
    pub at_ms: f64,
    /// error, warn, info, debug.
    pub level: String,
    /// What stood there.
    pub text: String,
    /// An exception nobody caught.
    #[serde(default)]
    pub uncaught: bool,
}

/// What came from outside is cut to these lengths on the way in.
pub const MAX_TEXT: usize = 2_000;
/// No step keeps more requests.
pub const MAX_REQUESTS: usize = 2_000;

impl RunRecord {
    /// The steps whose time and outcome are the run's.
    pub fn counted_steps(&self) -> impl Iterator<Item = &StepRecord> {
        self.steps.iter().filter(|s| !s.clean_up)
    }

    /// Writes over these secrets wherever a text of the record shows them.
    pub fn mask(&mut self, secrets: &[String]) {
        let over = |text: &mut String| *text = masked(text, secrets);
        let trouble = |t: &mut Option<Trouble>| t.iter_mut().for_each(|t| over(&mut t.says));
        trouble(&mut self.trouble);
        for step in &mut self.steps {
            trouble(&mut step.trouble);
            for fell in &mut step.fell_back {
                over(&mut fell.found_by);
                over(&mut fell.instead_of);
            }
            for request in &mut step.requests {
                over(&mut request.url);
                request.failed.iter_mut().for_each(over);
                request.asked.initiator.iter_mut().for_each(over);
                request.asked.server.iter_mut().for_each(|t| over(&mut t.says));
            }
            step.console.iter_mut().for_each(|c| over(&mut c.text));
            for link in &mut step.links {
                over(&mut link.address);
                over(&mut link.on);
                over(&mut link.text);
            }
            step.looked.iter_mut().for_each(|l| over(&mut l.seen));
        }
    }

    /// The run as lines of text, in the order things happened: moments in seconds from its beginning.
    pub fn log(&self) -> String {
        let mut lines: Vec<(f64, String)> = Vec::new();
        for step in &self.steps {
            let at = |ms: f64| step.start_ms + ms;
            let word = if step.clean_up { "clean up" } else { "step" };
            lines.push((at(0.0), format!("{word} \"{}\"", step.name)));
            lines.extend(step.marks.iter().map(|m| (at(m.at_ms), format!("mark \"{}\"", m.name))));
            lines.extend(
                step.certificate_days
                    .map(|days| (at(0.0), format!("certificate: {days} days left"))),
            );
            lines.extend(
                step.console
                    .iter()
                    .map(|c| (at(c.at_ms), format!("console {}: {}", c.level, c.text))),
            );
            let failed = step.requests.iter().filter(|r| r.is_failed());
            lines.extend(failed.map(|r| {
                let how = r.failed.clone().unwrap_or_else(|| r.status.to_string());
                (at(r.end_ms()), format!("{} {} failed: {how}", r.method, r.url))
            }));
            let fell = |f: &FellBack| {
                format!("line {} fell back to {} from {}", f.line, f.found_by, f.instead_of)
            };
            lines.extend(step.fell_back.iter().map(|f| (at(step.duration_ms), fell(f))));
            let trouble = step
                .trouble
                .as_ref()
                .map(|t| format!(": line {}: {}", t.line, t.says))
                .unwrap_or_default();
            lines.push((
                at(step.duration_ms),
                format!("{word} \"{}\" {}{trouble}", step.name, step.outcome.word()),
            ));
        }
        lines.sort_by(|a, b| a.0.total_cmp(&b.0));
        let head = format!(
            "{} {} on {} by {}\n",
            self.started_at,
            self.outcome.word(),
            self.browser,
            self.runner
        );
        let one_line = |text: &str| text.replace(['\n', '\r'], " ");
        lines.into_iter().fold(head, |log, (ms, says)| {
            log + &format!("{:>9.3} {}\n", ms / 1000.0, one_line(&says))
        })
    }

    /// Cuts texts and lists that are too long, and refuses numbers that no run can have.
    ///
    /// # Errors
    /// Names the field that is wrong.
    pub fn check(&mut self) -> Result<(), String> {
        let time = |name: &str, ms: f64| {
            if ms.is_finite() && (0.0..=86_400_000.0).contains(&ms) {
                Ok(())
            } else {
                Err(format!("{name}: {ms} is no length of time from 0 ms to a day"))
            }
        };
        time("duration_ms", self.duration_ms)?;
        for step in &mut self.steps {
            time(&format!("step \"{}\": start_ms", step.name), step.start_ms)?;
            time(&format!("step \"{}\": duration_ms", step.name), step.duration_ms)?;
            step.requests.truncate(MAX_REQUESTS);
            step.console.truncate(MAX_REQUESTS);
            for r in &mut step.requests {
                time(&format!("request {}: phases", r.url), r.phases.total_ms())?;
                cut(&mut r.url);
            }
            for c in &mut step.console {
                cut(&mut c.text);
            }
        }
        Ok(())
    }
}

fn cut(text: &mut String) {
    if let Some((at, _)) = text.char_indices().nth(MAX_TEXT) {
        text.truncate(at);
        text.push('…');
    }
}

#[cfg(test)]
impl RunRecord {
    /// One of these steps for tests, that passed.
    pub(crate) fn of_steps(steps: Vec<StepRecord>) -> RunRecord {
        RunRecord {
            id: Uuid::nil(),
            started_at: Timestamp::UNIX_EPOCH,
            outcome: Outcome::Passed,
            duration_ms: steps.iter().map(|s| s.duration_ms).sum(),
            trouble: None,
            steps,
            browser: String::new(),
            runner: String::new(),
            device: usual_device(),
            trial: false,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn step(name: &str, clean_up: bool, marks: &[(&str, f64)]) -> StepRecord {
        let marks = marks.iter().map(|(name, at_ms)| Mark { name: (*name).into(), at_ms: *at_ms });
        StepRecord { clean_up, marks: marks.collect(), ..StepRecord::begun(name, 0.0, None) }
    }

    fn run(steps: Vec<StepRecord>) -> RunRecord {
        RunRecord::of_steps(steps)
    }

    #[test]
    fn a_mark_is_when_it_was_set_first_and_what_cleans_up_sets_none() {
        let record = run(vec![
            step("Open", false, &[("prices", 90.0), ("map in place", 812.5), ("prices", 70.0)]),
            step("Search", false, &[("map in place", 40.0), ("never", f64::NAN)]),
            step("Sign out", true, &[("gone", 5.0)]),
        ]);
        let all: Vec<(&str, f64)> = record.marks().into_iter().collect();
        assert_eq!(all, [("map in place", 812.5), ("prices", 90.0)]);
    }

    #[test]
    fn a_run_has_as_many_days_left_as_the_certificate_that_ends_first() {
        let of = |days: &[Option<i64>]| {
            let step = |certificate_days: &Option<i64>| StepRecord {
                certificate_days: *certificate_days,
                ..step("Open", false, &[])
            };
            run(days.iter().map(step).collect()).certificate_days()
        };
        assert_eq!(of(&[Some(40), None, Some(12)]), Some(12));
        assert_eq!(of(&[Some(-3), Some(12)]), Some(-3), "one that has ended");
        assert_eq!(of(&[None]), None);
        assert_eq!(of(&[Some(i64::MAX)]), Some(MOST_DAYS));
        let cleaning = StepRecord { certificate_days: Some(1), ..step("Leave", true, &[]) };
        assert_eq!(run(vec![cleaning]).certificate_days(), None, "what cleans up decides nothing");
    }

    #[test]
    fn a_page_that_sets_marks_without_end_has_some_of_them_kept() {
        let names: Vec<String> = (0..500).map(|n| format!("tick {n:03}")).collect();
        let marks: Vec<(&str, f64)> = names.iter().map(|n| (n.as_str(), 1.0)).collect();
        let record = run(vec![step("Open", false, &marks)]);
        assert_eq!(record.marks().len(), MOST_MARKS);
        assert!(
            record.marks().contains_key("tick 000") && !record.marks().contains_key("tick 499")
        );
    }
}
