//! Expectations, limits, marks, and values read from a page or an answer.

use crate::acts::{as_json, at, tidy_words};
use crate::play::{Done, Player, Stop, clock, inp};
use cadentis_core::journey::{Compare, Expectation, JsonIs, Ladder, Moment, Source, Timed};
use cadentis_core::run::{Link, Trouble};
use cadentis_core::timing::Vital;
use cadentis_core::timing::entries::{Shift, layout_shift};
use serde_json::{Value, json};
use std::time::Duration;
use tokio::time::Instant;

type Met = Result<Done, Stop>;

/// Never met rather than passed over: it was asked in the wrong place.
fn not_of(whom: &str) -> Stop {
    Stop::Unmet(format!("This cannot be expected of {whom}."))
}

impl Player<'_> {
    pub(crate) async fn expect(&mut self, expectation: &Expectation) -> Met {
        if self.dialog_is_open() && needs_page(expectation) {
            return Err(self.dialog_in_the_way());
        }
        match expectation {
            Expectation::Status(_)
            | Expectation::Header { .. }
            | Expectation::Body(_)
            | Expectation::Json { .. }
            | Expectation::Answer(_)
            | Expectation::CertificateDays(_) => self.expect_of_answer(expectation).await,
            Expectation::NoScriptErrors
            | Expectation::NoFailedRequests
            | Expectation::AtMostRequests(_)
            | Expectation::SizeUnder(_)
            | Expectation::NoBrokenLinks => self.expect_of_step(expectation),
            Expectation::Under { what, ms } => self.under(what, *ms as f64).await,
            Expectation::ShiftUnder(limit) => self.shift_under(*limit).await,
            _ => self.expect_of_page(expectation).await,
        }
    }

    /// What the page shows.
    async fn expect_of_page(&mut self, expectation: &Expectation) -> Met {
        match expectation {
            Expectation::Text { text, inside } => self.expect_text(text, inside.as_ref()).await,
            Expectation::NoText(text) => {
                let text = self.values.text(text)?;
                let found = self.wait(json!({ "what": "no-text", "text": text })).await?;
                let says = format!("Expected no text \"{text}\"");
                self.met(found, &says, "the page showed it")
            }
            Expectation::Element(what) => {
                let v = self.need(what, json!({ "what": "element" }), "Expected").await?;
                Ok(Done::at(at(&v)))
            }
            Expectation::NoElement(what) => self.gone(what, "Expected no").await,
            Expectation::Value { value, of } => {
                let value = self.values.text(value)?;
                let found = self.find(of, json!({ "what": "value-is", "value": value })).await?;
                let says = format!("Expected the value \"{value}\" in {of}");
                self.met(found, &says, "it held something else")
            }
            Expectation::Count { of, is, count } => self.count(of, *is, *count).await,
            Expectation::Address(part) => {
                let part = self.values.text(part)?;
                let says = format!("Expected an address with \"{part}\"");
                self.shows(json!({ "what": "address", "part": part }), &says).await
            }
            Expectation::Title(part) => {
                let part = self.values.text(part)?;
                let says = format!("Expected a title with \"{part}\"");
                self.shows(json!({ "what": "title", "part": part }), &says).await
            }
            Expectation::Dialog(part) => self.dialog_says(part).await,
            Expectation::Unchanged { look, without } => {
                self.unchanged(*look, without.as_ref()).await
            }
            _ => Err(not_of("the page")),
        }
    }

    async fn expect_text(&mut self, text: &str, inside: Option<&Ladder>) -> Met {
        let text = self.values.text(text)?;
        match inside {
            None => {
                let says = format!("Expected the text \"{text}\"");
                self.shows(json!({ "what": "shows-text", "text": text }), &says).await
            }
            Some(what) => {
                let found = self.find(what, json!({ "what": "text-in", "text": text })).await?;
                let says = format!("Expected the text \"{text}\" in {what}");
                self.met(found, &says, "it was not there")
            }
        }
    }

    /// Done where it was found.
    fn met(&self, found: Option<Value>, expected: &str, instead: &str) -> Met {
        match found {
            Some(v) => Ok(Done::at(at(&v))),
            None => Err(self.unmet(expected, instead)),
        }
    }

    /// What the server answered.
    async fn expect_of_answer(&mut self, expectation: &Expectation) -> Met {
        let holds = match expectation {
            Expectation::Status(wanted) => match self.status().await? {
                Some(status) if status == *wanted => Ok(()),
                Some(status) => Err(format!(
                    "Expected the status {wanted}; the answer had the status {status}."
                )),
                None => Err(format!("Expected the status {wanted}; the page was not answered.")),
            },
            Expectation::Header { name, holds } => {
                let holds = self.values.text(holds)?;
                match self.header(name).await? {
                    Some(value) if value.contains(&holds) => Ok(()),
                    Some(value) => Err(format!(
                        "Expected the header {name} with \"{holds}\"; it was \"{value}\"."
                    )),
                    None => Err(format!("Expected the header {name}; the answer had none.")),
                }
            }
            Expectation::Body(part) => {
                let part = self.values.text(part)?;
                match self.body().await? {
                    Some(body) if body.contains(&part) => Ok(()),
                    _ => Err(format!(
                        "Expected \"{part}\" in the body of the answer; it was not there."
                    )),
                }
            }
            Expectation::Json { path, is } => return self.json_is(path, is).await,
            Expectation::Answer(part) => {
                let part = self.values.text(part)?;
                let got: Vec<String> = self.addresses.iter().map(ToString::to_string).collect();
                match got.iter().any(|a| a.contains(&part)) {
                    true => Ok(()),
                    false => Err(format!(
                        "Expected an address with \"{part}\"; the answer was {}.",
                        got.join(", ")
                    )),
                }
            }
            Expectation::CertificateDays(days) => match self.certificate_days {
                Some(left) if left >= i64::from(*days) => Ok(()),
                Some(left) => {
                    Err(format!("Expected a certificate for {days} more days; it has {left} left."))
                }
                None => Err("Expected a certificate; no connection was secured above.".into()),
            },
            _ => return Err(not_of("the answer")),
        };
        holds.map(|()| Done::at(clock())).map_err(Stop::Unmet)
    }

    /// What the step came to so far.
    fn expect_of_step(&mut self, expectation: &Expectation) -> Met {
        let (requests, console) = self.seen();
        let holds = match expectation {
            Expectation::NoScriptErrors => match console.into_iter().find(|c| c.uncaught) {
                None => Ok(()),
                Some(error) => {
                    Err(format!("Expected no script errors; there was \"{}\".", error.text))
                }
            },
            Expectation::NoFailedRequests => match requests.into_iter().find(|r| r.is_failed()) {
                None => Ok(()),
                Some(r) => {
                    let status = format!("status {}", r.status);
                    let how = r.failed.map_or(status, |words| tidy_words(&words));
                    Err(format!("Expected no failed requests; {} failed ({how}).", r.url))
                }
            },
            Expectation::AtMostRequests(most) => {
                let count = requests.len() as u32;
                return Ok(self.limit(count <= *most, || {
                    format!("The step made {count} requests; the limit is {most}.")
                }));
            }
            Expectation::SizeUnder(limit) => {
                let bytes: u64 = requests.iter().map(|r| r.bytes).sum();
                let [got, most] = [bytes, *limit].map(|b| b as f64 / 1_000.0);
                return Ok(self.limit(bytes < *limit, || {
                    format!("The step received {got:.1} kB; the limit is {most:.1} kB.")
                }));
            }
            Expectation::NoBrokenLinks => Link::complaint(&self.doing.links).map_or(Ok(()), Err),
            _ => return Err(not_of("the step")),
        };
        holds.map(|()| Done::at(clock())).map_err(Stop::Unmet)
    }

    async fn shift_under(&mut self, limit: u32) -> Met {
        let facts = self.settled_facts().await?;
        let shift = |e: &Value| {
            Some(Shift {
                start_ms: e[0].as_f64()?,
                score: e[1].as_f64()?,
                had_recent_input: e[2].as_bool()?,
            })
        };
        let shifts: Vec<Shift> =
            facts["shifts"].as_array().into_iter().flatten().filter_map(shift).collect();
        let (cls, limit) = (layout_shift(&shifts), f64::from(limit) / 10_000.0);
        Ok(self.limit(cls < limit, || format!("CLS was {cls:.4}; the limit is {limit}.")))
    }

    async fn shows(&mut self, ask: Value, expected: &str) -> Met {
        match self.wait(ask).await? {
            Some(v) => Ok(Done::at(at(&v))),
            None => Err(self.unmet(expected, "the page did not show it")),
        }
    }

    pub(crate) async fn gone(&mut self, what: &Ladder, wanted: &str) -> Met {
        let ladder = as_json(&self.values.ladder(what)?);
        match self.wait(json!({ "what": "gone", "ladder": ladder })).await? {
            Some(v) => Ok(Done::at(at(&v))),
            None => Err(self.unmet(&format!("{wanted} {what}"), "the page showed it")),
        }
    }

    async fn count(&mut self, of: &Ladder, is: Compare, count: u32) -> Met {
        let (least, most) = match is {
            Compare::AtLeast => (count, u32::MAX),
            Compare::AtMost => (0, count),
            Compare::Exactly => (count, count),
        };
        let ladder = as_json(&self.values.ladder(of)?);
        let ask = json!({ "what": "count", "ladder": ladder, "least": least, "most": most });
        match self.wait(ask).await? {
            Some(v) => Ok(Done::at(at(&v))),
            None => Err(self.unmet(
                &format!("Expected {} {count} of {of}", is.words()),
                "the page showed another number",
            )),
        }
    }

    async fn json_is(&mut self, path: &str, is: &JsonIs) -> Met {
        let found = self.json_value(path).await?;
        let shown = |v: &Value| v.as_str().map_or(v.to_string(), String::from);
        let met = match is {
            JsonIs::There => true,
            JsonIs::Text(text) => shown(&found) == self.values.text(text)?,
            JsonIs::AtLeast(n) => {
                found.as_f64().zip(n.parse().ok()).is_some_and(|(v, n): (f64, f64)| v >= n)
            }
            JsonIs::AtMost(n) => {
                found.as_f64().zip(n.parse().ok()).is_some_and(|(v, n): (f64, f64)| v <= n)
            }
        };
        if met {
            return Ok(Done::at(clock()));
        }
        let wanted = match is {
            JsonIs::There => String::new(),
            JsonIs::Text(text) => format!("\"{text}\""),
            JsonIs::AtLeast(n) => format!("at least {n}"),
            JsonIs::AtMost(n) => format!("at most {n}"),
        };
        let found: String = shown(&found).chars().take(200).collect();
        Err(Stop::Unmet(format!("Expected {path} to be {wanted}; it was \"{found}\".")))
    }

    /// The first value that a JSONPath finds in the newest answer.
    async fn json_value(&mut self, path: &str) -> Result<Value, Stop> {
        let unmet = |says: &str| Stop::Unmet(format!("Expected {path} in the answer; {says}."));
        let body = self.body().await?.ok_or_else(|| unmet("there was none"))?;
        let json: Value =
            serde_json::from_str(&body).map_err(|e| unmet(&format!("it is no JSON ({e})")))?;
        let path = serde_json_path::JsonPath::parse(path).map_err(|e| unmet(&e.to_string()))?;
        path.query(&json).first().cloned().ok_or_else(|| unmet("nothing was found"))
    }

    async fn dialog_says(&mut self, part: &str) -> Met {
        let part = self.values.text(part)?;
        let until = Instant::now() + self.doing.patience;
        loop {
            let dialog = self.evidence.lock().ok().and_then(|e| e.dialog.clone());
            match dialog {
                Some(d) if d.says.contains(&part) => return Ok(Done::at(clock())),
                Some(d) => {
                    return Err(Stop::Unmet(format!(
                        "Expected a dialog with \"{part}\"; it says \"{}\".",
                        d.says
                    )));
                }
                None if Instant::now() > until => {
                    return Err(self.unmet(
                        &format!("Expected a dialog with \"{part}\""),
                        "the page opened none",
                    ));
                }
                None => tokio::time::sleep(Duration::from_millis(20)).await,
            }
        }
    }

    /// Requests and console lines of the step so far.
    pub(crate) fn seen(
        &self,
    ) -> (Vec<cadentis_core::run::Request>, Vec<cadentis_core::run::Console>) {
        self.evidence.lock().map(|e| e.between(self.doing.since, clock())).unwrap_or_default()
    }

    /// A limit that does not hold makes the step slow and lets it go on.
    fn limit(&mut self, holds: bool, says: impl FnOnce() -> String) -> Done {
        if !holds {
            self.doing.over.push(Trouble { line: self.doing.line, says: says() });
        }
        Done::at(clock())
    }

    async fn under(&mut self, what: &Timed, limit_ms: f64) -> Met {
        let (name, measured) = match what {
            Timed::Vital(vital) => {
                let facts = self.settled_facts().await?;
                let moment = |name: &str| facts[name].as_f64().filter(|v| *v > 0.0);
                let measured = match vital {
                    Vital::Lcp => moment("lcp"),
                    Vital::Fcp => moment("fcp"),
                    Vital::Ttfb => moment("ttfb"),
                    Vital::Inp => inp(&facts),
                    Vital::Cls => None,
                };
                (vital.name().to_string(), measured)
            }
            Timed::Load => {
                let facts = self.settled_facts().await?;
                ("The load".to_string(), facts["load"].as_f64().filter(|v| *v > 0.0))
            }
            Timed::Mark(name) => {
                let from = self.doing.from.unwrap_or(self.doing.since);
                let mark =
                    self.doing.marks.iter().find(|(n, _)| n == name).map(|(_, at)| at - from);
                (format!("The mark \"{name}\""), mark)
            }
            Timed::Request(part) => {
                let part = self.values.text(part)?;
                let slowest = self.evidence.lock().ok().and_then(|e| {
                    e.answered(&part, self.doing.since).map(|(_, ms)| ms).max_by(f64::total_cmp)
                });
                (format!("The request \"{part}\""), slowest)
            }
        };
        match measured {
            Some(ms) => Ok(self.limit(ms < limit_ms, || {
                format!("{name} took {:.2} s; the limit is {} s.", ms / 1000.0, limit_ms / 1000.0)
            })),
            None => Err(Stop::Unmet(format!(
                "{name} was to be under {} s; there is no value.",
                limit_ms / 1000.0
            ))),
        }
    }

    /// The facts of a page that has loaded and painted.
    async fn settled_facts(&mut self) -> Result<Value, Stop> {
        self.wait(json!({ "what": "loaded", "loaded": true })).await?;
        let painted = json!({ "what": "painted", "patience_ms": 1_000 });
        self.browser()?.ask_window(&painted, Duration::from_secs(5)).await?;
        Ok(self.facts().await?.unwrap_or_default())
    }

    async fn status(&mut self) -> Result<Option<u16>, Stop> {
        if let Some(answer) = &self.answer {
            return Ok(Some(answer.status));
        }
        self.document().await?;
        Ok(self.evidence.lock().ok().and_then(|e| e.document_status))
    }

    /// Waits until the document is there and its answer is known.
    async fn document(&mut self) -> Result<(), Stop> {
        if self.browser.is_none() {
            return Ok(());
        }
        self.wait(json!({ "what": "loaded" })).await?;
        let until = Instant::now() + Duration::from_secs(2);
        while Instant::now() < until
            && self.evidence.lock().is_ok_and(|e| e.document_status.is_none())
        {
            tokio::time::sleep(Duration::from_millis(10)).await;
        }
        Ok(())
    }

    async fn header(&mut self, name: &str) -> Result<Option<String>, Stop> {
        let of = |headers: &[(String, String)]| {
            headers.iter().find(|(n, _)| n.eq_ignore_ascii_case(name)).map(|(_, v)| v.clone())
        };
        if let Some(answer) = &self.answer {
            return Ok(of(&answer.headers));
        }
        self.document().await?;
        Ok(self.evidence.lock().ok().and_then(|e| of(&e.document_headers)))
    }

    async fn body(&mut self) -> Result<Option<String>, Stop> {
        if let Some(answer) = &self.answer {
            return Ok(Some(answer.body.clone()));
        }
        if self.browser.is_none() {
            return Ok(None);
        }
        let about = self.wait(json!({ "what": "about" })).await?;
        Ok(about.and_then(|a| a["body"].as_str().map(String::from)))
    }

    pub(crate) async fn read_value(&mut self, name: &str, be: &Source) -> Met {
        let text = |v: Value, of: &str| v[of].as_str().unwrap_or_default().to_string();
        let value = match be {
            Source::Text(t) => self.values.text(t)?,
            Source::TextOf(what) => text(
                self.need(what, json!({ "what": "read-text" }), "Wanted the text of").await?,
                "value",
            ),
            Source::ValueOf(what) => text(
                self.need(what, json!({ "what": "read-value" }), "Wanted the value of").await?,
                "value",
            ),
            Source::AttributeOf { attribute, of } => {
                let ask = json!({ "what": "read-attribute", "attribute": attribute });
                text(
                    self.need(of, ask, &format!("Wanted the attribute \"{attribute}\" of")).await?,
                    "value",
                )
            }
            Source::Address => {
                text(self.wait(json!({ "what": "about" })).await?.unwrap_or_default(), "address")
            }
            Source::Title => {
                text(self.wait(json!({ "what": "about" })).await?.unwrap_or_default(), "title")
            }
            Source::Header(header) => match self.header(header).await? {
                Some(value) => value,
                None => {
                    return Err(Stop::Unmet(format!(
                        "Wanted the header {header}; the answer had none."
                    )));
                }
            },
            Source::Json(path) => {
                let found = self.json_value(path).await?;
                found.as_str().map_or(found.to_string(), String::from)
            }
        };
        self.values.set(name, value);
        Ok(Done::at(clock()))
    }

    pub(crate) async fn mark(&mut self, name: &str, when: &Moment) -> Met {
        let never = |what: &str| format!("The mark \"{name}\" never came: {what}");
        let at = match when {
            Moment::Appears(what) => match self.find(what, json!({ "what": "element" })).await? {
                Some(v) => at(&v),
                None => {
                    return Err(
                        self.unmet(&never(&format!("no {what}")), "the page did not show it")
                    );
                }
            },
            Moment::Timing(timing) => {
                let timing = self.values.text(timing)?;
                let since = self.doing.from.unwrap_or(self.doing.since);
                match self.wait(json!({ "what": "timing", "name": timing, "since": since })).await?
                {
                    Some(v) => at(&v),
                    None => {
                        return Err(self.unmet(
                            &never(&format!("no timing \"{timing}\"")),
                            "the page set none",
                        ));
                    }
                }
            }
            Moment::Request(part) => {
                let part = self.values.text(part)?;
                match self.request_answered(&part).await {
                    Some(at) => at,
                    None => {
                        return Err(self.unmet(
                            &never(&format!("no request to \"{part}\"")),
                            "none was answered",
                        ));
                    }
                }
            }
        };
        self.doing.marks.push((name.to_string(), at));
        Ok(Done::at(at))
    }

    /// When the first request of this step with this in its address was answered.
    pub(crate) async fn request_answered(&self, part: &str) -> Option<f64> {
        let until = Instant::now() + self.doing.patience;
        loop {
            let at =
                self.evidence.lock().ok().and_then(|e| e.answered(part, self.doing.since).next());
            if at.is_some() || Instant::now() > until {
                return at.map(|(at, _)| at);
            }
            tokio::time::sleep(Duration::from_millis(10)).await;
        }
    }

    /// Asks until the answer is yes; `None` when patience ends first.
    pub(crate) async fn wait(&mut self, mut ask: Value) -> Result<Option<Value>, Stop> {
        let until = Instant::now() + self.doing.patience;
        loop {
            let left = until.saturating_duration_since(Instant::now());
            if left.is_zero() {
                return Ok(None);
            }
            if self.dialog_is_open() {
                return Err(self.dialog_in_the_way());
            }
            ask["patience_ms"] = json!(left.as_millis() as u64);
            ask["not_origin"] = json!(self.old_origin);
            match self.browser()?.ask(&ask, left + Duration::from_millis(500)).await? {
                Some(v) if v["ok"] == true => return Ok(Some(v)),
                Some(_) => return Ok(None),
                None => {
                    let failed = self.evidence.lock().is_ok_and(|e| e.document_failed.is_some());
                    if failed {
                        return Ok(None);
                    }
                    tokio::time::sleep(Duration::from_millis(5)).await;
                }
            }
        }
    }

    /// Says what was expected and what the page did instead.
    pub(crate) fn unmet(&self, expected: &str, instead: &str) -> Stop {
        let failed = self.evidence.lock().ok().and_then(|e| e.document_failed.clone());
        let patience = self.doing.patience.as_secs_f64();
        Stop::Unmet(match failed {
            Some(words) => {
                format!("{expected}; the page was not reached ({}).", tidy_words(&words))
            }
            None => format!("{expected}; {instead} within {patience} s."),
        })
    }

    pub(crate) fn dialog_in_the_way(&self) -> Stop {
        let says = self
            .evidence
            .lock()
            .ok()
            .and_then(|e| e.dialog.clone())
            .map(|d| d.says)
            .unwrap_or_default();
        let says: String = says.chars().take(200).collect();
        Stop::Unmet(format!(
            "A dialog is in the way: \"{says}\". Say accept dialog or dismiss dialog."
        ))
    }
}

fn needs_page(e: &Expectation) -> bool {
    !matches!(
        e,
        Expectation::Dialog(_)
            | Expectation::NoScriptErrors
            | Expectation::NoFailedRequests
            | Expectation::AtMostRequests(_)
            | Expectation::SizeUnder(_)
            | Expectation::Answer(_)
            | Expectation::CertificateDays(_)
    )
}
