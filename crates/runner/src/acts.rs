//! What a person does, done in the browser; and requests without it.

use crate::browser::Ours;
use crate::keys;
use crate::play::{Done, Player, Stop, clock};
use crate::wire::WireError;
use cadentis_core::journey::{By, Element, End, FellBack, Holds, Ladder, Reply, Says, Send};
use cadentis_core::run::reach::is_web;
use serde_json::{Value, json};
use std::time::Duration;
use tokio::time::Instant;

type Acted = Result<Done, Stop>;

/// An address as it is quoted in a sentence.
fn shown(address: &str) -> String {
    address.chars().take(200).collect()
}

impl Player<'_> {
    /// Plays one sentence; a condition and a part that is followed are the caller's affair.
    pub(crate) async fn sentence(&mut self, says: &Says) -> Acted {
        if self.dialog_is_open()
            && !matches!(says, Says::Dialog(_) | Says::Expect(_) | Says::Note(_))
        {
            return Err(self.dialog_in_the_way());
        }
        match says {
            Says::Note(_) | Says::If { .. } | Says::Follow(_) => Ok(Done::at(clock())),
            Says::Open(address) => self.open(&self.values.text(address)?).await,
            Says::Press(what) => self.press(what, "press").await,
            Says::Type { text, into } => self.type_text(text, into).await,
            Says::Choose { option, from } => self.choose(option, from).await,
            Says::Tick { what, on } => self.tick(what, *on).await,
            Says::Hover(what) => self.hover(what).await,
            Says::ScrollTo(what) => {
                let began = clock();
                let v = self.need(what, json!({ "what": "scroll" }), "Wanted to scroll to").await?;
                Ok(Done::acted(began, at(&v)))
            }
            Says::ScrollEnd(end) => self.scroll_to_end(*end).await,
            Says::Key(keys) => self.key(keys).await,
            Says::Upload { file, holds, into } => self.upload(file, holds, into).await,
            Says::Drag { what, to } => self.drag(what, to).await,
            Says::GoBack => self.traverse(-1).await,
            Says::GoForward => self.traverse(1).await,
            Says::Reload => self.reload().await,
            Says::WaitFor(what) => {
                let v = self.need(what, json!({ "what": "element" }), "Waited for").await?;
                Ok(Done::at(at(&v)))
            }
            Says::WaitGone(what) => self.gone(what, "Waited until there was no").await,
            Says::WaitRequest(part) => {
                let part = self.values.text(part)?;
                match self.request_answered(&part).await {
                    Some(at) => Ok(Done::at(at)),
                    None => Err(self.unmet(
                        &format!("Waited for a request to \"{part}\""),
                        "none was answered",
                    )),
                }
            }
            Says::EnterWindow(part) => self.enter_window(part).await,
            Says::LeaveWindow => match self.browser()?.leave_window().await? {
                Some(()) => Ok(Done::at(clock())),
                None => {
                    Err(Stop::Unmet("There is no window to leave: this is the first one.".into()))
                }
            },
            Says::EnterFrame(what) => {
                self.need(what, json!({ "what": "keep" }), "Wanted to enter the frame").await?;
                match self.browser()?.enter_kept_frame().await? {
                    Some(()) => Ok(Done::at(clock())),
                    None => Err(Stop::Unmet(format!("{what} is not a frame."))),
                }
            }
            Says::LeaveFrame => match self.browser()?.leave_frame() {
                Some(()) => Ok(Done::at(clock())),
                None => Err(Stop::Unmet("There is no frame to leave.".into())),
            },
            Says::Dialog(reply) => self.reply(reply).await,
            Says::Let { name, be } => self.read_value(name, be).await,
            Says::Mark { name, when } => self.mark(name, when).await,
            Says::Send(send) => self.send(send).await,
            Says::Crawl { from, links, deep, hosts } => {
                let most = crate::crawl::Most {
                    links: *links as usize,
                    deep: *deep,
                    hosts: *hosts as usize,
                };
                self.crawl(&self.values.text(from)?, most).await
            }
            Says::LookUp(host) => self.look_up(host).await,
            Says::Connect { to, secure } => self.connect(to, *secure).await,
            Says::Expect(e) => self.expect(e).await,
        }
    }

    async fn scroll_to_end(&mut self, end: End) -> Acted {
        let began = clock();
        let ask = json!({ "what": "to-end", "top": end == End::Top });
        let v = self.wait(ask).await?;
        Ok(Done::acted(began, v.as_ref().map_or_else(clock, at)))
    }

    async fn reload(&mut self) -> Acted {
        self.old_origin = self.origin().await?.or(Some(1.0));
        let began = clock();
        self.browser()?.reload().await?;
        Ok(Done::acted(began, clock()))
    }

    async fn key(&mut self, keys: &str) -> Acted {
        let origin = self.origin().await?;
        let began = clock();
        let pressed = keys::pressed(keys);
        self.browser()?
            .act(json!([{ "type": "key", "id": "keyboard", "actions": pressed }]))
            .await?;
        self.after_act(began, origin).await;
        Ok(Done::acted(began, began))
    }

    async fn look_up(&mut self, host: &str) -> Acted {
        let began = clock();
        match tokio::time::timeout(self.doing.patience, self.wire.look_up(host)).await {
            Ok(Ok((addresses, _))) => {
                self.addresses = addresses;
                Ok(Done::acted(began, clock()))
            }
            Ok(Err(e @ WireError::Proxied)) => Err(Stop::Ours(Ours::Cannot(sentence(&e)))),
            Ok(Err(e)) => Err(Stop::Unmet(format!("{}.", sentence(&e)))),
            Err(_) => Err(Stop::Unmet(format!(
                "{host} was not found within {} s.",
                self.doing.patience.as_secs()
            ))),
        }
    }

    async fn connect(&mut self, to: &str, secure: bool) -> Acted {
        let began = clock();
        match self.wire.open(to, secure, self.doing.patience).await {
            Ok((_, days)) => {
                if secure {
                    self.certificate_days = days;
                    self.doing.saw_certificate(days);
                }
                Ok(Done::acted(began, clock()))
            }
            Err(e) => Err(Stop::Unmet(format!("{}.", sentence(&e)))),
        }
    }

    async fn open(&mut self, address: &str) -> Acted {
        // A variable may hold anything; what the script says itself was checked when it was read.
        if !is_web(address) {
            return Err(Stop::Unmet(format!(
                "{} is no web address: only http and https are opened.",
                shown(address)
            )));
        }
        let before = self
            .browser()?
            .ask_window(&json!({ "what": "loaded" }), Duration::from_secs(5))
            .await?;
        self.old_origin = Some(before.and_then(|v| v["origin"].as_f64()).unwrap_or(1.0));
        self.answer = None;
        let began = clock();
        match self.browser()?.navigate(address, self.doing.patience).await? {
            Ok(()) => Ok(Done::acted(began, clock())),
            Err(words) => {
                Err(Stop::Unmet(format!("{address} was not reached ({}).", tidy_words(&words))))
            }
        }
    }

    /// Presses the middle of an element; when it was pressed.
    async fn press(&mut self, what: &Ladder, word: &str) -> Acted {
        let place =
            self.need(what, json!({ "what": "reach" }), &format!("Wanted to {word}")).await?;
        self.press_at(&place).await
    }

    async fn press_at(&mut self, place: &Value) -> Acted {
        let began = clock();
        self.browser()?
            .act(json!([{ "type": "pointer", "id": "mouse", "actions": [
                { "type": "pointerMove", "x": place["x"], "y": place["y"] },
                { "type": "pointerDown", "button": 0 },
                { "type": "pointerUp", "button": 0 },
            ]}]))
            .await?;
        self.after_act(began, place["origin"].as_f64()).await;
        Ok(Done::acted(began, began))
    }

    /// Whether an act led away shows at once; a moment is left for the news to arrive.
    async fn after_act(&mut self, began: f64, origin: Option<f64>) {
        tokio::time::sleep(Duration::from_millis(25)).await;
        let Some(browser) = self.browser else { return };
        let (window, context) = (browser.window(), browser.context());
        let away = self
            .evidence
            .lock()
            .is_ok_and(|e| e.navigated(&window, began - 2.0) || e.navigated(&context, began - 2.0));
        if away {
            self.old_origin = origin;
            self.answer = None;
        }
    }

    async fn origin(&self) -> Result<Option<f64>, Ours> {
        let about = self
            .browser()?
            .ask_window(&json!({ "what": "loaded" }), Duration::from_secs(5))
            .await?;
        Ok(about.and_then(|v| v["origin"].as_f64()))
    }

    async fn type_text(&mut self, text: &str, into: &Ladder) -> Acted {
        let filled = self.values.text(text)?;
        // What is typed from a secret is not to be seen in pictures either.
        let hide = cadentis_core::journey::text::used(text)
            .iter()
            .any(|u| matches!(u, cadentis_core::journey::text::Used::Secret(_)));
        let began = clock();
        let place = self
            .need(into, json!({ "what": "select-all", "hide": hide }), "Wanted to type into")
            .await?;
        // Of the document that the field is in, which may be a frame of somebody else's.
        self.values.may_go_to(text, place["host"].as_str().unwrap_or_default())?;
        let origin = self.origin().await?;
        let keys = match filled.is_empty() {
            true => keys::pressed("Delete"),
            false => keys::typed(&filled),
        };
        self.browser()?.act(json!([{ "type": "key", "id": "keyboard", "actions": keys }])).await?;
        if filled.contains('\n') {
            self.after_act(began, origin).await;
        }
        Ok(Done::acted(began, clock()))
    }

    async fn choose(&mut self, option: &str, from: &Ladder) -> Acted {
        let option = self.values.text(option)?;
        let began = clock();
        let ask = json!({ "what": "choose", "option": option });
        match self.find(from, ask).await? {
            Some(v) => Ok(Done::acted(began, at(&v))),
            None => {
                let patience = self.doing.patience.as_secs_f64();
                Err(Stop::Unmet(format!(
                    "No {from} with the option \"{option}\" within {patience} s."
                )))
            }
        }
    }

    async fn tick(&mut self, what: &Ladder, on: bool) -> Acted {
        let word = if on { "tick" } else { "untick" };
        let place =
            self.need(what, json!({ "what": "reach" }), &format!("Wanted to {word}")).await?;
        if place["on"] == on {
            let at = at(&place);
            return Ok(Done::acted(at, at));
        }
        self.press_at(&place).await
    }

    async fn hover(&mut self, what: &Ladder) -> Acted {
        let place = self.need(what, json!({ "what": "reach" }), "Wanted to hover over").await?;
        let began = clock();
        self.browser()?
            .act(json!([{ "type": "pointer", "id": "mouse", "actions": [
                { "type": "pointerMove", "x": place["x"], "y": place["y"] },
            ]}]))
            .await?;
        Ok(Done::acted(began, clock()))
    }

    async fn drag(&mut self, what: &Ladder, to: &Ladder) -> Acted {
        self.need_nth(to, 1, json!({ "what": "reach" }), "Wanted to drag to").await?;
        let source = self.need(what, json!({ "what": "reach" }), "Wanted to drag").await?;
        // Reaching for one may have scrolled the other.
        let target = self.need_nth(to, 1, json!({ "what": "reach" }), "Wanted to drag to").await?;
        let began = clock();
        let middle =
            |a: &Value, b: &Value| (a.as_f64().unwrap_or(0.0) + b.as_f64().unwrap_or(0.0)) / 2.0;
        let (x, y) = (
            middle(&source["x"], &target["x"]).round(),
            middle(&source["y"], &target["y"]).round(),
        );
        let moved =
            |x: &Value, y: &Value| json!({ "type": "pointerMove", "x": x, "y": y, "duration": 40 });
        self.browser()?
            .act(json!([{ "type": "pointer", "id": "mouse", "actions": [
                { "type": "pointerMove", "x": source["x"], "y": source["y"] },
                { "type": "pointerDown", "button": 0 },
                moved(&json!(x as i64), &json!(y as i64)),
                moved(&target["x"], &target["y"]),
                moved(&target["x"], &target["y"]),
                { "type": "pointerUp", "button": 0 },
            ]}]))
            .await?;
        self.after_act(began, source["origin"].as_f64()).await;
        Ok(Done::acted(began, clock()))
    }

    async fn upload(&mut self, file: &str, holds: &Holds, into: &Ladder) -> Acted {
        let began = clock();
        self.need(into, json!({ "what": "keep" }), "Wanted to upload into").await?;
        // The field sees the file's own name, so each file has a folder of its own.
        let folder = crate::leftovers::folder("upload");
        let name = file
            .rsplit(['/', '\\'])
            .next()
            .filter(|n| !n.is_empty() && *n != "..")
            .unwrap_or("file");
        let path = folder.join(name);
        let content = match holds {
            Holds::Bytes(bytes) => vec![b'.'; usize::try_from(*bytes).unwrap_or(0)],
            Holds::Text(text) => self.values.text(text)?.into_bytes(),
        };
        let made = tokio::fs::create_dir(&folder).await;
        let written = match made {
            Ok(()) => tokio::fs::write(&path, content).await,
            Err(e) => Err(e),
        };
        if let Err(e) = written {
            return Err(Stop::Ours(Ours::Cannot(format!(
                "A file to upload could not be made: {e}"
            ))));
        }
        let given = self.browser()?.upload_to_kept(&path).await;
        // The browser reads it when the form is sent; it is removed with the browser's profile.
        self.browser()?.also_remove(folder);
        match given? {
            Ok(()) => Ok(Done::acted(began, clock())),
            Err(words) => Err(Stop::Unmet(format!("{into} does not take a file ({words})."))),
        }
    }

    async fn traverse(&mut self, delta: i32) -> Acted {
        let origin = self.origin().await?;
        let began = clock();
        let there = self.browser()?.traverse(delta).await?;
        if let Err(words) = there {
            let way = if delta < 0 { "back" } else { "forward" };
            return Err(Stop::Unmet(format!("There is no page to go {way} to ({words}).")));
        }
        tokio::time::sleep(Duration::from_millis(25)).await;
        // Another document has another time origin; within one document nothing is waited for.
        let until = Instant::now() + Duration::from_millis(400);
        while Instant::now() < until {
            let window = self.browser()?.window();
            if self.evidence.lock().is_ok_and(|e| e.navigated(&window, began - 2.0))
                || self.origin().await? != origin
            {
                self.old_origin = origin;
                self.answer = None;
                break;
            }
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
        Ok(Done::acted(began, clock()))
    }

    async fn enter_window(&mut self, part: &str) -> Acted {
        let part = self.values.text(part)?;
        let until = Instant::now() + self.doing.patience;
        loop {
            if self.browser()?.enter_window(&part).await?.is_some() {
                self.old_origin = None;
                // The page in it may still be on its way.
                self.wait(json!({ "what": "loaded", "loaded": true })).await?;
                return Ok(Done::at(clock()));
            }
            if Instant::now() > until {
                return Err(self.unmet(
                    &format!("Wanted to enter the window \"{part}\""),
                    "no other window is called so",
                ));
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }

    async fn reply(&mut self, reply: &Reply) -> Acted {
        let until = Instant::now() + self.doing.patience;
        loop {
            let dialog = self.evidence.lock().ok().and_then(|e| e.dialog.clone());
            if let Some(dialog) = dialog {
                let origin = self.old_origin;
                let began = clock();
                let text = match reply {
                    Reply::Answer(text) => Some(self.values.text(text)?),
                    _ => None,
                };
                self.browser()?
                    .reply(&dialog.context, !matches!(reply, Reply::Dismiss), text.as_deref())
                    .await?;
                for _ in 0..50 {
                    if !self.dialog_is_open() {
                        break;
                    }
                    tokio::time::sleep(Duration::from_millis(10)).await;
                }
                self.after_act(began, origin.or(Some(1.0))).await;
                return Ok(Done::acted(began, clock()));
            }
            if Instant::now() > until {
                return Err(self.unmet("Wanted to reply to a dialog", "the page opened none"));
            }
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
    }

    async fn send(&mut self, send: &Send) -> Acted {
        let send = self.values.send(send)?;
        let began = clock();
        let (record, answer) = self.wire.send(&send, self.doing.patience).await;
        if let Ok(mut evidence) = self.evidence.lock() {
            evidence.add(began, record);
        }
        match answer {
            Ok(answer) => {
                self.doing.saw_certificate(answer.certificate_days);
                self.answer = Some(answer);
                Ok(Done::acted(began, clock()))
            }
            Err(e) => Err(Stop::Unmet(format!("{}.", sentence(&e)))),
        }
    }

    /// Finds an element and does something with it; `None` when it does not come in time.
    pub(crate) async fn find(
        &mut self,
        ladder: &Ladder,
        ask: Value,
    ) -> Result<Option<Value>, Stop> {
        self.find_nth(ladder, 0, ask).await
    }

    async fn find_nth(
        &mut self,
        ladder: &Ladder,
        which: u32,
        mut ask: Value,
    ) -> Result<Option<Value>, Stop> {
        let filled = self.values.ladder(ladder)?;
        ask["ladder"] = as_json(&filled);
        ask["begun"] = json!(clock());
        let found = self.wait(ask).await?;
        if let Some(rung) = found.as_ref().and_then(|v| v["rung"].as_u64()).filter(|r| *r > 0) {
            self.doing.off_clock += found.as_ref().and_then(|v| v["grace"].as_f64()).unwrap_or(0.0);
            let fell = FellBack {
                line: self.doing.line,
                rung: rung as u32,
                which,
                found_by: ladder.0.get(rung as usize).map(ToString::to_string).unwrap_or_default(),
                instead_of: ladder.0.first().map(ToString::to_string).unwrap_or_default(),
            };
            if !self.doing.fell_back.contains(&fell) {
                self.doing.fell_back.push(fell);
            }
        }
        Ok(found)
    }

    /// As [`Player::find`], but it has to be there: `wanted` begins the sentence that says otherwise.
    pub(crate) async fn need(
        &mut self,
        ladder: &Ladder,
        ask: Value,
        wanted: &str,
    ) -> Result<Value, Stop> {
        self.need_nth(ladder, 0, ask, wanted).await
    }

    async fn need_nth(
        &mut self,
        ladder: &Ladder,
        which: u32,
        ask: Value,
        wanted: &str,
    ) -> Result<Value, Stop> {
        match self.find_nth(ladder, which, ask).await? {
            Some(found) => Ok(found),
            None => Err(self.unmet(&format!("{wanted} {ladder}"), "the page did not show it")),
        }
    }

    /// Whether the page, once it is there, shows an element; waits for it only as long as is said.
    pub(crate) async fn is_visible(
        &mut self,
        what: &Ladder,
        up_to_ms: Option<u64>,
    ) -> Result<bool, Stop> {
        if self.old_origin.is_some() {
            self.wait(json!({ "what": "loaded", "loaded": true })).await?;
            self.old_origin = None;
        }
        let ladder = as_json(&self.values.ladder(what)?);
        let ms = up_to_ms.unwrap_or(0);
        let ask =
            json!({ "what": "element", "ladder": ladder, "at_once": true, "patience_ms": ms });
        let found =
            self.browser()?.ask(&ask, Duration::from_millis(ms) + Duration::from_secs(5)).await?;
        Ok(found.is_some_and(|v| v["ok"] == true))
    }
}

pub(crate) fn at(answer: &Value) -> f64 {
    answer["at"].as_f64().unwrap_or_else(clock)
}

/// An error's words as the beginning of a sentence.
fn sentence(e: &WireError) -> String {
    let words = e.to_string();
    let mut letters = words.chars();
    letters.next().map(|first| first.to_uppercase().chain(letters).collect()).unwrap_or_default()
}

pub(crate) fn as_json(ladder: &Ladder) -> Value {
    ladder.0.iter().map(element_as_json).collect()
}

fn element_as_json(element: &Element) -> Value {
    let mut json = match &element.by {
        By::Role { role, name } => json!({ "by": "role", "role": role, "name": name }),
        By::Field(label) => json!({ "by": "field", "label": label }),
        By::Text(text) => json!({ "by": "text", "text": text }),
        By::TestId(id) => json!({ "by": "test-id", "id": id }),
        By::Css(selector) => json!({ "by": "css", "selector": selector }),
    };
    json["number"] = json!(element.number);
    json["inside"] = element.inside.as_deref().map_or(Value::Null, element_as_json);
    json
}

/// The browser's own name for what went wrong, out of a driver's sentence around it.
pub(crate) fn tidy_words(words: &str) -> String {
    match words.find("net::ERR_") {
        Some(at) => words[at..]
            .chars()
            .take_while(|c| c.is_ascii_alphanumeric() || "_:".contains(*c))
            .collect(),
        None => words.chars().take(120).collect(),
    }
}
