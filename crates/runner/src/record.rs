//! A person at work on a page, from far away: pictures go out, mouse and keys come in, and what they do is told
//! as acts that a script can be made of.

use crate::browser::{Browser, Ours, PageEvent};
use crate::keys;
use cadentis_core::journey::recorded::{Act, Input, Ways};
use cadentis_core::run::DeviceProfile;
use cadentis_core::run::reach::{Denied, is_web};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use std::future::Future;
use std::net::SocketAddr;
use std::time::Duration;
use tokio::sync::mpsc::UnboundedReceiver;

/// What goes to whoever looks on.
#[derive(Debug, Default, Serialize)]
pub struct News {
    /// A data URL, when the picture has changed.
    pub picture: Option<String>,
    pub acts: Vec<Act>,
    /// Where the page is, whether it has a dialog open, what was pointed at, the options of a list that was pressed.
    pub about: Value,
}

/// What comes back.
#[derive(Debug, Default, Deserialize)]
pub struct Answer {
    #[serde(default)]
    pub inputs: Vec<Input>,
    /// Nobody looks on any more.
    #[serde(default)]
    pub ended: bool,
}

const IDLE: Duration = Duration::from_millis(70);

/// Opens an address and carries acts out and inputs in until `exchange` says that it has ended.
///
/// # Errors
/// What went wrong with the browser, or the browser's words when the first address cannot be opened.
pub async fn record<F>(
    address: &str,
    proxy: Option<SocketAddr>,
    denied: &Denied,
    mut exchange: impl FnMut(News) -> F,
) -> Result<(), String>
where
    F: Future<Output = Answer>,
{
    let browser =
        Browser::start(proxy, DeviceProfile::USUAL, denied).await.map_err(|e| e.to_string())?;
    let ended = Desk::at(&browser).run(address, &mut exchange).await;
    browser.end().await;
    ended
}

struct Desk<'a> {
    browser: &'a Browser,
    /// The frames in which the last act was done.
    frames: Vec<Ways>,
    acts: Vec<Act>,
    picture: String,
    pointed: Value,
    options: Value,
}

impl Desk<'_> {
    fn at(browser: &Browser) -> Desk<'_> {
        let (frames, acts) = (Vec::new(), Vec::new());
        Desk {
            browser,
            frames,
            acts,
            picture: String::new(),
            pointed: Value::Null,
            options: Value::Null,
        }
    }

    async fn run<F>(
        &mut self,
        address: &str,
        exchange: &mut impl FnMut(News) -> F,
    ) -> Result<(), String>
    where
        F: Future<Output = Answer>,
    {
        let ours = |e: Ours| e.to_string();
        let mut told = self.browser.told_by_pages().await.map_err(ours)?;
        if !is_web(address) {
            return Err(format!("{address} is no web address"));
        }
        self.browser.navigate(address, Duration::from_secs(20)).await.map_err(ours)??;
        loop {
            self.hear(&mut told).await.map_err(ours)?;
            let news = self.news().await.map_err(ours)?;
            let quiet = news.picture.is_none() && news.acts.is_empty();
            let answer = exchange(news).await;
            if answer.ended {
                return Ok(());
            }
            if quiet && answer.inputs.is_empty() {
                tokio::time::sleep(IDLE).await;
            }
            for input in answer.inputs {
                self.perform(input).await.map_err(ours)?;
            }
        }
    }

    async fn news(&mut self) -> Result<News, Ours> {
        let dialog = self.browser.evidence.lock().ok().and_then(|e| e.dialog.clone());
        let mut picture = None;
        if dialog.is_none() {
            // A page on its way to another has no picture; the next one will do.
            let now = self.browser.picture().await.unwrap_or_default();
            if now != self.picture && !now.is_empty() {
                self.picture.clone_from(&now);
                picture = Some(now);
            }
        }
        let about = json!({
            "address": self.browser.address().await?, "windows": self.browser.windows(),
            "dialog": dialog.map(|d| json!({ "kind": d.kind, "says": d.says })),
            "pointed": self.pointed, "options": self.options,
        });
        Ok(News { picture, acts: std::mem::take(&mut self.acts), about })
    }

    async fn hear(&mut self, told: &mut UnboundedReceiver<PageEvent>) -> Result<(), Ours> {
        while let Ok(told) = told.try_recv() {
            match told {
                PageEvent::Said { context, what } => self.said(&context, &what).await?,
                PageEvent::Opened(id) if id != self.browser.window() => {
                    // A window has no address before it has begun to load.
                    tokio::time::sleep(Duration::from_millis(300)).await;
                    let address = self.browser.adopt_window(&id).await?;
                    let rest = address.split_once("://").map_or(address.as_str(), |(_, rest)| rest);
                    let part = rest
                        .find('/')
                        .map_or(rest, |at| &rest[at..])
                        .split('?')
                        .next()
                        .unwrap_or(rest);
                    self.leave_frames();
                    self.acts.push(Act::EnterWindow { part: part.into() });
                }
                PageEvent::Closed(id) if self.browser.forget_window(&id) => {
                    self.acts.push(Act::LeaveWindow)
                }
                PageEvent::Opened(_) | PageEvent::Closed(_) => {}
            }
        }
        Ok(())
    }

    async fn said(&mut self, context: &str, what: &str) -> Result<(), Ours> {
        let Ok(said) = serde_json::from_str::<Value>(what) else { return Ok(()) };
        if let Ok(act) = serde_json::from_value::<Act>(said["did"].clone()) {
            self.options = Value::Null;
            let frames: Vec<Ways> =
                serde_json::from_value(said["frames"].clone()).unwrap_or_default();
            if frames != self.frames {
                self.leave_frames();
                self.acts
                    .extend(frames.iter().map(|frame| Act::EnterFrame { frame: frame.clone() }));
                self.frames = frames;
            }
            if let Act::Upload { into } = &act {
                self.upload(context, into).await?;
            }
            self.acts.push(act);
        }
        if said["pointed"].is_object() {
            self.pointed = said["pointed"].clone();
        }
        if said["options"].is_object() {
            self.options = said["options"].clone();
            self.options["context"] = json!(context);
        }
        Ok(())
    }

    fn leave_frames(&mut self) {
        let entered = std::mem::take(&mut self.frames).len();
        self.acts.extend(std::iter::repeat_n(Act::LeaveFrame, entered));
    }

    async fn upload(&self, context: &str, into: &Ways) -> Result<(), Ours> {
        let ask = json!({ "what": "keep", "ladder": into, "at_once": true });
        self.browser.ask_in(context, &ask, Duration::from_secs(2)).await?;
        let folder = crate::leftovers::folder("upload");
        let file = folder.join("file.txt");
        let cannot = |e: std::io::Error| Ours::Cannot(format!("A file could not be made: {e}"));
        std::fs::create_dir_all(&folder).map_err(cannot)?;
        self.browser.also_remove(folder);
        std::fs::write(&file, "A file made for this journey.").map_err(cannot)?;
        // A field in a frame, or gone meanwhile, is told by the page itself: it shows no file.
        let _ = self.browser.upload_to_kept(&file).await?;
        Ok(())
    }

    async fn perform(&mut self, input: Input) -> Result<(), Ours> {
        match input {
            Input::Move { x, y } => self.mouse(x, y, None).await,
            Input::Down { x, y } => {
                self.options = Value::Null;
                self.mouse(x, y, Some("pointerDown")).await
            }
            Input::Up { x, y } => self.mouse(x, y, Some("pointerUp")).await,
            Input::Wheel { x, y, dx, dy } => {
                let whole = |v: f64| v.round() as i64;
                let scroll = json!({ "type": "scroll", "x": whole(x), "y": whole(y), "deltaX": whole(dx), "deltaY": whole(dy) });
                self.browser
                    .act_in_window(json!([{ "type": "wheel", "id": "wheel", "actions": [scroll] }]))
                    .await
            }
            Input::Key { keys } => self.keys(keys::pressed(&keys)).await,
            Input::Text { text } => self.keys(keys::typed(&text)).await,
            // Also what came another way than through the server's own check.
            Input::Open { address } if !is_web(&address) => Ok(()),
            Input::Open { address } => {
                if self.browser.navigate(&address, Duration::from_secs(20)).await?.is_ok() {
                    self.leave_frames();
                    self.acts.push(Act::Open { address });
                }
                Ok(())
            }
            Input::Back => {
                if self.browser.traverse(-1).await?.is_ok() {
                    self.leave_frames();
                    self.acts.push(Act::GoBack);
                }
                Ok(())
            }
            Input::Reload => {
                self.browser.reload().await?;
                self.leave_frames();
                self.acts.push(Act::Reload);
                Ok(())
            }
            Input::Choose { context, of, option } => {
                self.options = Value::Null;
                let ask =
                    json!({ "what": "choose", "ladder": of, "option": option, "at_once": true });
                self.browser.ask_in(&context, &ask, Duration::from_secs(2)).await.map(|_| ())
            }
            Input::Point { on } => {
                self.pointed = Value::Null;
                self.browser.point(on).await
            }
            Input::Hover { what } => {
                self.browser.point(false).await?;
                let ask = json!({ "what": "reach", "ladder": what, "at_once": true });
                let place = self.browser.ask_window(&ask, Duration::from_secs(2)).await?;
                if let Some((x, y)) = place.and_then(|p| p["x"].as_f64().zip(p["y"].as_f64())) {
                    self.mouse(x, y, None).await?;
                    self.acts.push(Act::Hover { what });
                }
                Ok(())
            }
            Input::Dialog { accept } => {
                let dialog = self.browser.evidence.lock().ok().and_then(|e| e.dialog.clone());
                let Some(dialog) = dialog else { return Ok(()) };
                self.browser.reply(&dialog.context, accept, None).await?;
                self.acts.push(Act::Dialog { accept });
                Ok(())
            }
            Input::CloseWindow => {
                if self.browser.leave_window().await?.is_some() {
                    self.leave_frames();
                    self.acts.push(Act::LeaveWindow);
                }
                Ok(())
            }
        }
    }

    async fn keys(&self, actions: Vec<Value>) -> Result<(), Ours> {
        self.browser
            .act_in_window(json!([{ "type": "key", "id": "keyboard", "actions": actions }]))
            .await
    }

    async fn mouse(&self, x: f64, y: f64, then: Option<&str>) -> Result<(), Ours> {
        // Just outside of the window there is nothing to press, and the driver would call it an error.
        let most = |side: u32| f64::from(side - 1);
        let desktop = DeviceProfile::USUAL;
        let (x, y) =
            (x.clamp(0.0, most(desktop.width)) as i64, y.clamp(0.0, most(desktop.height)) as i64);
        let mut actions = vec![json!({ "type": "pointerMove", "x": x, "y": y, "duration": 0 })];
        actions.extend(then.map(|kind| json!({ "type": kind, "button": 0 })));
        let mouse = json!({ "type": "pointer", "id": "mouse", "parameters": { "pointerType": "mouse" }, "actions": actions });
        self.browser.act_in_window(json!([mouse])).await
    }
}
