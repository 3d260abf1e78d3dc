//! One browser for one run: its driver, its profile, its connection; all gone at the end.

use crate::evidence::Evidence;
use crate::film::Film;
use crate::guard::Guard;
use cadentis_core::run::reach::Denied;
use cadentis_core::run::{DeviceProfile, Request};
use futures::StreamExt;
use serde_json::{Value, json};
use std::net::SocketAddr;
use std::path::PathBuf;
use std::process::Stdio;
use std::sync::{Arc, Mutex};
use std::time::Duration;
use thirtyfour::bidi::BiDi;
use thirtyfour::prelude::*;
use tokio::io::{AsyncBufReadExt, BufReader};
use tokio::process::{Child, Command};
use tokio::time::timeout;

/// Our own trouble: the site had no part in it.
#[derive(Debug, thiserror::Error)]
pub enum Ours {
    #[error("The browser driver did not start: {0}")]
    Driver(String),
    #[error("The browser did not start: {0}")]
    Start(String),
    #[error("The browser went away: {0}")]
    Gone(String),
    #[error("The browser did not answer for {0} s")]
    Silent(u64),
    #[error("The run was stuck for {0} s and was broken off")]
    Stuck(u64),
    #[error("The proxy of this location does not answer")]
    Proxy,
    #[error("{0}")]
    Cannot(String),
}

pub struct Browser {
    driver: Option<WebDriver>,
    bidi: BiDi,
    device: DeviceProfile,
    /// Open windows, the one in use last, and the frames entered in it.
    place: Mutex<Place>,
    driver_process: DriverProcess,
    /// The only way out, where not everything may be reached.
    guard: Option<Guard>,
    pub evidence: Arc<Mutex<Evidence>>,
    listener: tokio::task::JoinHandle<()>,
    filming: Mutex<Option<(Film, tokio::task::JoinHandle<()>)>>,
    pub version: String,
}

/// What pages tell while somebody is recorded.
#[derive(Debug)]
pub enum PageEvent {
    Said { context: String, what: String },
    Opened(String),
    Closed(String),
}

#[derive(Debug, Default)]
struct Place {
    windows: Vec<String>,
    frames: Vec<String>,
}

const PAGE_SCRIPT: &str =
    concat!("async (json) => {\n", include_str!("find.js"), include_str!("page.js"), "}");
const RECORD_SCRIPT: &str =
    concat!("(tell) => {\n", include_str!("find.js"), include_str!("record.js"), "}");
const OBSERVER_SCRIPT: &str = include_str!("observe.js");
/// Our scripts run in a world of their own: the page cannot see or disturb them.
const WORLD: &str = "cadentis";

/// What the window shows has changed.
const SHOWN: &str = "goog:cdp.Page.screencastFrame";

const EVENTS: [&str; 12] = [
    "goog:cdp.Network.requestWillBeSent",
    "goog:cdp.Network.loadingFinished",
    "goog:cdp.Network.loadingFailed",
    "network.beforeRequestSent",
    "network.responseCompleted",
    "network.fetchError",
    "log.entryAdded",
    "browsingContext.navigationStarted",
    "browsingContext.navigationFailed",
    "browsingContext.contextCreated",
    "browsingContext.userPromptOpened",
    "browsingContext.userPromptClosed",
];

impl Browser {
    /// Starts a driver on a free port and a browser with an empty profile behind `proxy`.
    ///
    /// # Errors
    /// Everything that goes wrong here is ours.
    pub async fn start(
        proxy: Option<SocketAddr>,
        device: DeviceProfile,
        denied: &Denied,
    ) -> Result<Browser, Ours> {
        let started =
            timeout(Duration::from_secs(30), Browser::try_start(proxy, device, denied)).await;
        started.map_err(|_| Ours::Silent(30))?
    }

    async fn try_start(
        proxy: Option<SocketAddr>,
        device: DeviceProfile,
        denied: &Denied,
    ) -> Result<Browser, Ours> {
        // Now and then a port that the driver chose is gone before it takes it.
        let mut tries = 0;
        let driver_process = loop {
            tries += 1;
            match DriverProcess::start().await {
                Err(_) if tries < 3 => {}
                started => break started?,
            }
        };
        let guard = match denied.is_empty() {
            true => None,
            false => Some(
                Guard::start(denied.clone(), proxy)
                    .await
                    .map_err(|e| Ours::Cannot(e.to_string()))?,
            ),
        };
        let out = guard.as_ref().map(|g| g.address).or(proxy);
        let session =
            Browser::session(driver_process.port, out, device, &driver_process.profile).await;
        let (driver, bidi, context, version) = session?;
        let evidence = Arc::new(Mutex::new(Evidence::default()));
        let mut events = bidi.subscribe_raw();
        let heard = evidence.clone();
        let listener = tokio::spawn(async move {
            while let Some(event) = events.next().await {
                if let Ok(mut evidence) = heard.lock() {
                    evidence.hear(&event.method, &event.params);
                }
            }
        });
        let place = Mutex::new(Place { windows: vec![context], frames: Vec::new() });
        let browser = Browser {
            driver: Some(driver),
            bidi,
            device,
            place,
            driver_process,
            guard,
            evidence,
            listener,
            filming: Mutex::default(),
            version,
        };
        browser.prepare().await?;
        Ok(browser)
    }

    async fn session(
        port: u16,
        proxy: Option<SocketAddr>,
        device: DeviceProfile,
        profile: &std::path::Path,
    ) -> Result<(WebDriver, BiDi, String, String), Ours> {
        let start = |e: WebDriverError| Ours::Start(first_line(&e.to_string()));
        let mut caps = DesiredCapabilities::chrome();
        caps.enable_bidi().map_err(start)?;
        if let Some(binary) = cadentis_processes::chromium::slim() {
            caps.set_binary(binary).map_err(start)?;
            // Its name in the words of the driver.
            caps.set("browserName", cadentis_processes::chromium::SLIM_NAME).map_err(start)?;
        }
        // What to say to a dialog is the script's affair.
        caps.set("unhandledPromptBehavior", "ignore").map_err(start)?;
        let mut flags: Vec<String> =
            cadentis_processes::chromium::flags().into_iter().map(String::from).collect();
        flags.push(format!("--window-size={},{}", device.width, device.height));
        flags.push(format!("--user-data-dir={}", profile.display()));
        // A page that comes out of the back/forward cache is lost to the driver when it holds frames
        // (seen with Chromium 156); going back loads it again.
        flags.push("--disable-features=BackForwardCache".into());
        if let Some(proxy) = proxy {
            flags.push(format!("--proxy-server=socks5://{proxy}"));
            // Otherwise loopback addresses would go around the proxy.
            flags.push("--proxy-bypass-list=<-loopback>".into());
        }
        for flag in flags {
            caps.add_arg(&flag).map_err(start)?;
        }
        let driver =
            WebDriver::new(&format!("http://127.0.0.1:{port}"), caps).await.map_err(start)?;
        let bidi = driver.bidi().await.map_err(start)?;
        let context =
            bidi.browsing_context().top_level().await.map_err(|e| Ours::Start(e.to_string()))?;
        let context = serde_json::to_value(context)
            .ok()
            .and_then(|v| v.as_str().map(str::to_string))
            .unwrap_or_default();
        let name = |key: &str| {
            driver
                .handle()
                .capabilities()
                .get(key)
                .and_then(Value::as_str)
                .unwrap_or("")
                .to_string()
        };
        let version = format!("Chromium {}", name("browserVersion"));
        Ok((driver, bidi, context, version))
    }

    async fn prepare(&self) -> Result<(), Ours> {
        self.send("session.subscribe", json!({ "events": EVENTS })).await?;
        self.set_viewport().await?;
        // Nothing is downloaded: it would fill the disk of whoever plays.
        let deny =
            json!({ "method": "Browser.setDownloadBehavior", "params": { "behavior": "deny" } });
        self.send("goog:cdp.sendCommand", deny).await?;
        let observe = json!({ "functionDeclaration": OBSERVER_SCRIPT, "sandbox": WORLD });
        self.send("script.addPreloadScript", observe).await?;
        Ok(())
    }

    async fn set_viewport(&self) -> Result<(), Ours> {
        let d = &self.device;
        let viewport = json!({ "width": d.width, "height": d.height });
        let size =
            json!({ "context": self.window(), "viewport": viewport, "devicePixelRatio": d.scale });
        self.send("browsingContext.setViewport", size).await?;
        if *d == DeviceProfile::USUAL {
            return Ok(());
        }
        // In the browser's own protocol: BiDi has no words yet for a slow processor and a slow line.
        let session = self.send("goog:cdp.getSession", json!({ "context": self.window() })).await?;
        let tell = async |method: &str, params: Value| {
            let command =
                json!({ "method": method, "params": params, "session": session["session"] });
            self.send("goog:cdp.sendCommand", command).await
        };
        let own = tell("Browser.getVersion", json!({})).await?;
        let own = &own["result"];
        if let Some(agent) = own["userAgent"].as_str().and_then(|own| d.user_agent(own)) {
            tell("Emulation.setUserAgentOverride", json!({ "userAgent": agent })).await?;
        }
        // The size as well: only here a phone's screen, and its reading of a page's viewport, can be said.
        let metrics = json!({
            "width": d.width, "height": d.height, "screenWidth": d.width, "screenHeight": d.height,
            "deviceScaleFactor": d.scale, "mobile": d.mobile,
        });
        tell("Emulation.setDeviceMetricsOverride", metrics).await?;
        if d.touches > 0 {
            tell(
                "Emulation.setTouchEmulationEnabled",
                json!({ "enabled": true, "maxTouchPoints": d.touches }),
            )
            .await?;
        }
        tell("Emulation.setCPUThrottlingRate", json!({ "rate": d.slow_down })).await?;
        if let Some(n) = d.network {
            let bytes = |kbit: f64| kbit * 1000.0 / 8.0;
            tell("Network.enable", json!({})).await?;
            let slow = json!({
                "offline": false, "latency": n.latency_ms, "downloadThroughput": bytes(n.down_kbit),
                "uploadThroughput": bytes(n.up_kbit),
            });
            tell("Network.emulateNetworkConditions", slow).await?;
        }
        Ok(())
    }

    /// From now on there is a picture whenever what the window in use shows has changed.
    pub async fn film(&self, film: &Film) -> Result<(), Ours> {
        let (told, bidi, mut events) = (film.clone(), self.bidi.clone(), self.bidi.subscribe_raw());
        let listener = tokio::spawn(async move {
            let mut last = tokio::time::Instant::now();
            while let Some(event) = events.next().await {
                if event.method == SHOWN {
                    told.hear(&bidi, &event.params, &mut last).await;
                }
            }
        });
        if let Ok(mut filming) = self.filming.lock() {
            *filming = Some((film.clone(), listener));
        }
        self.send("session.subscribe", json!({ "events": [SHOWN] })).await?;
        self.film_window().await
    }

    /// The film goes on in the window in use, if there is one.
    async fn film_window(&self) -> Result<(), Ours> {
        let film = self.filming.lock().ok().and_then(|f| f.as_ref().map(|(film, _)| film.clone()));
        let Some(film) = film else { return Ok(()) };
        let session = self.send("goog:cdp.getSession", json!({ "context": self.window() })).await?;
        let begin = film.beginning((self.device.width, self.device.height));
        let begin = json!({ "method": "Page.startScreencast", "params": begin, "session": session["session"] });
        self.send("goog:cdp.sendCommand", begin).await?;
        Ok(())
    }

    /// From now on pages tell what is done on them: texts that the receiver gets with the context they come from.
    /// Windows that open and close are told as well.
    pub async fn told_by_pages(
        &self,
    ) -> Result<tokio::sync::mpsc::UnboundedReceiver<PageEvent>, Ours> {
        let (give, take) = tokio::sync::mpsc::unbounded_channel();
        let mut events = self.bidi.subscribe_raw();
        tokio::spawn(async move {
            while let Some(event) = events.next().await {
                let text = |value: &Value| value.as_str().unwrap_or_default().to_string();
                let p = &event.params;
                let told = match event.method.as_str() {
                    "script.message" if p["channel"] == WORLD => PageEvent::Said {
                        context: text(&p["source"]["context"]),
                        what: text(&p["data"]["value"]),
                    },
                    "browsingContext.contextCreated" if p["parent"].is_null() => {
                        PageEvent::Opened(text(&p["context"]))
                    }
                    "browsingContext.contextDestroyed" if p["parent"].is_null() => {
                        PageEvent::Closed(text(&p["context"]))
                    }
                    _ => continue,
                };
                if give.send(told).is_err() {
                    return;
                }
            }
        });
        let events = ["script.message", "browsingContext.contextDestroyed"];
        self.send("session.subscribe", json!({ "events": events })).await?;
        // In the page's own world: out of a world of its own nothing comes through a channel (Chromium 156).
        let channel = json!({ "type": "channel", "value": { "channel": WORLD } });
        let record = json!({ "functionDeclaration": RECORD_SCRIPT, "arguments": [channel] });
        self.send("script.addPreloadScript", record).await?;
        Ok(take)
    }

    /// Goes on in a window that was opened; its address.
    pub async fn adopt_window(&self, id: &str) -> Result<String, Ours> {
        if let Ok(mut place) = self.place.lock() {
            place.windows.push(id.to_string());
        }
        self.set_viewport().await?;
        self.film_window().await?;
        self.address().await
    }

    /// A window has closed by itself; whether it was the one in use.
    pub fn forget_window(&self, id: &str) -> bool {
        self.place.lock().is_ok_and(|mut p| {
            let used = p.windows.len() > 1 && p.windows.last().is_some_and(|w| w == id);
            p.windows.retain(|w| w != id);
            used
        })
    }

    /// The address in the window in use.
    pub async fn address(&self) -> Result<String, Ours> {
        let tree = self
            .send("browsingContext.getTree", json!({ "root": self.window(), "maxDepth": 0 }))
            .await?;
        Ok(tree["contexts"][0]["url"].as_str().unwrap_or_default().to_string())
    }

    /// Tells pages whether what is pressed is only shown to us.
    pub async fn point(&self, on: bool) -> Result<(), Ours> {
        let tree = self.send("browsingContext.getTree", json!({ "root": self.window() })).await?;
        let mut contexts = vec![tree["contexts"][0].clone()];
        while let Some(context) = contexts.pop() {
            contexts.extend(context["children"].as_array().cloned().unwrap_or_default());
            let target = json!({ "context": context["context"] });
            let tell = format!("() => globalThis.cadentisPoint && cadentisPoint({on})");
            let params =
                json!({ "functionDeclaration": tell, "awaitPromise": false, "target": target });
            self.send("script.callFunction", params).await?;
        }
        Ok(())
    }

    /// How many windows deep the visit is.
    pub fn windows(&self) -> usize {
        self.place.lock().map_or(0, |p| p.windows.len())
    }

    /// The window in use.
    pub fn window(&self) -> String {
        self.place.lock().map(|p| p.windows.last().cloned().unwrap_or_default()).unwrap_or_default()
    }

    /// The frame in use, or the window when none is.
    pub fn context(&self) -> String {
        let place = self.place.lock();
        place
            .map(|p| p.frames.last().or(p.windows.last()).cloned().unwrap_or_default())
            .unwrap_or_default()
    }

    /// Goes on in another window whose address or title contains `part`; `None` when there is none.
    pub async fn enter_window(&self, part: &str) -> Result<Option<()>, Ours> {
        let tree = self.send("browsingContext.getTree", json!({ "maxDepth": 0 })).await?;
        for window in tree["contexts"].as_array().into_iter().flatten() {
            let Some(id) = window["context"].as_str() else { continue };
            if self.place.lock().is_ok_and(|p| p.windows.iter().any(|w| w == id)) {
                continue;
            }
            let about = json!({ "what": "about", "patience_ms": 0 });
            let title = self.ask_in(id, &about, Duration::from_secs(2)).await?;
            let title =
                title.and_then(|t| t["title"].as_str().map(String::from)).unwrap_or_default();
            if window["url"].as_str().is_some_and(|u| u.contains(part)) || title.contains(part) {
                if let Ok(mut place) = self.place.lock() {
                    place.frames.clear();
                    place.windows.push(id.to_string());
                }
                self.send("browsingContext.activate", json!({ "context": id })).await?;
                if let Err(e) = self.film_window().await {
                    tracing::warn!("no film of a window: {e}");
                }
                return Ok(Some(()));
            }
        }
        Ok(None)
    }

    /// Closes the window in use; `None` when it is the first one.
    pub async fn leave_window(&self) -> Result<Option<()>, Ours> {
        let left = match self.place.lock() {
            Ok(mut place) if place.windows.len() > 1 => {
                place.frames.clear();
                place.windows.pop()
            }
            _ => None,
        };
        let Some(left) = left else { return Ok(None) };
        self.send("browsingContext.close", json!({ "context": left })).await?;
        self.send("browsingContext.activate", json!({ "context": self.window() })).await?;
        Ok(Some(()))
    }

    /// Goes on inside the frame that `page.js` has just kept.
    pub async fn enter_kept_frame(&self) -> Result<Option<()>, Ours> {
        let frame = self.kept("() => globalThis.kept.contentWindow").await?;
        let Some(frame) = frame["value"]["context"].as_str() else { return Ok(None) };
        if let Ok(mut place) = self.place.lock() {
            place.frames.push(frame.to_string());
        }
        Ok(Some(()))
    }

    /// Back to the page around the frame; `None` outside of frames.
    pub fn leave_frame(&self) -> Option<()> {
        self.place.lock().ok()?.frames.pop().map(|_| ())
    }

    /// Gives files to the field that `page.js` has just kept; the browser's words when it cannot.
    pub async fn upload_to_kept(&self, file: &std::path::Path) -> Result<Result<(), String>, Ours> {
        let field = self.kept("() => globalThis.kept").await?;
        let element = json!({ "sharedId": field["sharedId"] });
        let params = json!({ "context": self.context(), "element": element, "files": [file] });
        match timeout(Duration::from_secs(10), self.bidi.send_raw("input.setFiles", params)).await {
            Ok(Ok(_)) => Ok(Ok(())),
            Ok(Err(e)) => Ok(Err(first_line(&e.to_string()))),
            Err(_) => Err(Ours::Silent(10)),
        }
    }

    async fn kept(&self, which: &str) -> Result<Value, Ours> {
        let target = json!({ "context": self.context(), "sandbox": WORLD });
        let params =
            json!({ "functionDeclaration": which, "awaitPromise": false, "target": target });
        Ok(self.send("script.callFunction", params).await?["result"].take())
    }

    /// Says yes or no to the dialog that is open.
    pub async fn reply(&self, dialog: &str, accept: bool, text: Option<&str>) -> Result<(), Ours> {
        let mut params = json!({ "context": dialog, "accept": accept });
        if let Some(text) = text {
            params["userText"] = json!(text);
        }
        self.send("browsingContext.handleUserPrompt", params).await?;
        Ok(())
    }

    /// Removes this folder, too, when the browser ends.
    pub fn also_remove(&self, folder: PathBuf) {
        if let Ok(mut folders) = self.driver_process.folders.lock() {
            folders.push(folder);
        }
    }

    /// Goes through the history of the window.
    pub async fn traverse(&self, delta: i32) -> Result<Result<(), String>, Ours> {
        let params = json!({ "context": self.window(), "delta": delta });
        match timeout(
            Duration::from_secs(10),
            self.bidi.send_raw("browsingContext.traverseHistory", params),
        )
        .await
        {
            Ok(Ok(_)) => Ok(Ok(())),
            Ok(Err(e)) => Ok(Err(first_line(&e.to_string()))),
            Err(_) => Err(Ours::Silent(10)),
        }
    }

    pub async fn reload(&self) -> Result<(), Ours> {
        self.send("browsingContext.reload", json!({ "context": self.window(), "wait": "none" }))
            .await?;
        Ok(())
    }

    /// Sends a command. Whatever the answer complains of is ours; see [`Browser::ask`] and
    /// [`Browser::navigate`] for what may be the page's.
    async fn send(&self, method: &str, params: Value) -> Result<Value, Ours> {
        match timeout(Duration::from_secs(10), self.bidi.send_raw(method, params)).await {
            Ok(Ok(answer)) => Ok(answer),
            Ok(Err(e)) => Err(Ours::Gone(first_line(&e.to_string()))),
            Err(_) => Err(Ours::Silent(10)),
        }
    }

    /// Begins to load an address; the browser's words when it cannot.
    pub async fn navigate(
        &self,
        url: &str,
        patience: Duration,
    ) -> Result<Result<(), String>, Ours> {
        if let Ok(mut place) = self.place.lock() {
            place.frames.clear();
        }
        let params = json!({ "context": self.window(), "url": url, "wait": "none" });
        match timeout(patience, self.bidi.send_raw("browsingContext.navigate", params)).await {
            Ok(Ok(_)) => Ok(Ok(())),
            Ok(Err(e)) => {
                let words = first_line(&e.to_string());
                if words.contains("net::ERR_PROXY") {
                    return Err(Ours::Proxy);
                }
                if words.contains("net::ERR_") || words.contains("invalid argument") {
                    return Ok(Err(words));
                }
                Err(Ours::Gone(words))
            }
            Err(_) => Ok(Err(format!("no answer within {} s", patience.as_secs()))),
        }
    }

    /// Asks something of the page. `None` when the document went away meanwhile, or the page is too
    /// busy to answer.
    pub async fn ask(&self, question: &Value, patience: Duration) -> Result<Option<Value>, Ours> {
        self.ask_in(&self.context(), question, patience).await
    }

    /// Asks the window in use, whatever frame the script is in.
    pub async fn ask_window(
        &self,
        question: &Value,
        patience: Duration,
    ) -> Result<Option<Value>, Ours> {
        self.ask_in(&self.window(), question, patience).await
    }

    pub(crate) async fn ask_in(
        &self,
        context: &str,
        question: &Value,
        patience: Duration,
    ) -> Result<Option<Value>, Ours> {
        let params = json!({
            "functionDeclaration": PAGE_SCRIPT,
            "arguments": [{ "type": "string", "value": question.to_string() }],
            "awaitPromise": true,
            "target": { "context": context, "sandbox": WORLD },
        });
        let asked = timeout(patience, self.bidi.send_raw("script.callFunction", params));
        let asked = tokio::select! {
            asked = asked => asked,
            // A page with an open dialog answers nothing.
            () = self.dialog_opens() => return Ok(None),
        };
        match asked {
            Ok(Ok(answer)) => {
                let text = answer["result"]["value"].as_str();
                Ok(text.and_then(|t| serde_json::from_str(t).ok()))
            }
            // Between two documents there is nobody to ask. Whether the browser is there at all
            // is another question.
            Ok(Err(_)) | Err(_) => {
                self.send(
                    "browsingContext.getTree",
                    json!({ "root": self.window(), "maxDepth": 0 }),
                )
                .await?;
                Ok(None)
            }
        }
    }

    /// Performs input actions (pointer, keys) as a person's devices would, where the script is.
    pub async fn act(&self, actions: Value) -> Result<(), Ours> {
        self.act_in(&self.context(), actions).await
    }

    /// The same with places counted in the window, whatever frame is there.
    pub async fn act_in_window(&self, actions: Value) -> Result<(), Ours> {
        self.act_in(&self.window(), actions).await
    }

    async fn act_in(&self, context: &str, actions: Value) -> Result<(), Ours> {
        let acted =
            self.send("input.performActions", json!({ "context": context, "actions": actions }));
        // A dialog that an act opens holds up the answer to the act until somebody replies.
        tokio::select! {
            acted = acted => match acted {
                Err(_) if self.dialog_is_open() => Ok(()),
                acted => acted.map(|_| ()),
            },
            () = self.dialog_opens() => Ok(()),
        }
    }

    async fn dialog_opens(&self) {
        while !self.dialog_is_open() {
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
    }

    pub fn dialog_is_open(&self) -> bool {
        self.evidence.lock().is_ok_and(|e| e.dialog.is_some())
    }

    /// A picture of the viewport as a data URL.
    pub async fn picture(&self) -> Result<String, Ours> {
        let format = json!({ "type": "image/jpeg", "quality": 0.6 });
        let params = json!({ "context": self.window(), "origin": "viewport", "format": format });
        let answer = self.send("browsingContext.captureScreenshot", params).await?;
        Ok(format!("data:image/jpeg;base64,{}", answer["data"].as_str().unwrap_or_default()))
    }

    /// A picture of the viewport, exact to the pixel: PNG in base64.
    pub async fn exact_picture(&self) -> Result<String, Ours> {
        let params = json!({ "context": self.window(), "origin": "viewport" });
        let answer = self.send("browsingContext.captureScreenshot", params).await?;
        Ok(answer["data"].as_str().unwrap_or_default().to_string())
    }

    /// The process id of the driver; the browser is below it.
    pub fn pid(&self) -> Option<u32> {
        self.driver_process.process.id()
    }

    fn stop_listening(&self) {
        self.listener.abort();
        if let Some((_, filming)) = self.filming.lock().ok().and_then(|mut f| f.take()) {
            filming.abort();
        }
    }

    /// Ends the browser and everything it started.
    pub async fn end(mut self) {
        self.stop_listening();
        if let Some(driver) = self.driver.take() {
            let _ = timeout(Duration::from_secs(3), driver.quit()).await;
        }
        self.driver_process.end().await;
    }

    /// Puts into the browser's account of a request what only the way out could see.
    pub fn amend(&self, request: &mut Request) {
        if let Some(guard) = &self.guard {
            guard.amend(request);
        }
    }
}

impl Drop for Browser {
    fn drop(&mut self) {
        self.stop_listening();
    }
}

/// A driver, the browser below it and the folders of both: owned from the moment the driver is started, so that a run
/// that is broken off at any later moment leaves nothing behind.
struct DriverProcess {
    process: Child,
    port: u16,
    profile: PathBuf,
    /// Folders to remove at the end, beside the profile.
    folders: Mutex<Vec<PathBuf>>,
}

impl DriverProcess {
    /// Starts a driver on a port of its own choice.
    async fn start() -> Result<DriverProcess, Ours> {
        let mut command = Command::new("chromedriver");
        command.arg("--port=0").stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::null());
        command.kill_on_drop(true);
        cadentis_processes::bind_to_us(command.as_std_mut());
        let profile = crate::leftovers::folder("profile");
        let process = command.spawn().map_err(|e| Ours::Driver(e.to_string()))?;
        let mut started = DriverProcess { process, port: 0, profile, folders: Mutex::default() };
        let said =
            started.process.stdout.take().ok_or_else(|| Ours::Driver("it says nothing".into()))?;
        started.port = port_said(BufReader::new(said)).await?;
        Ok(started)
    }

    fn below(&self) -> Vec<i32> {
        self.process.id().map(|pid| cadentis_processes::below(pid as i32)).unwrap_or_default()
    }

    async fn end(&mut self) {
        let below = self.below();
        let _ = self.process.kill().await;
        let _ = tokio::task::spawn_blocking(move || cadentis_processes::end_these(&below)).await;
    }
}

impl Drop for DriverProcess {
    /// The driver dies with its handle, but what it started would not.
    fn drop(&mut self) {
        self.below().into_iter().for_each(|pid| cadentis_processes::signal(pid, libc::SIGKILL));
        let _ = std::fs::remove_dir_all(&self.profile);
        for folder in self.folders.lock().map(|mut f| std::mem::take(&mut *f)).unwrap_or_default() {
            let _ = std::fs::remove_dir_all(folder);
        }
    }
}

async fn port_said(said: BufReader<tokio::process::ChildStdout>) -> Result<u16, Ours> {
    let mut lines = said.lines();
    while let Ok(Some(line)) = lines.next_line().await {
        if let Some(port) =
            line.split("on port ").nth(1).and_then(|p| p.trim_end_matches('.').parse().ok())
            && line.contains("successfully")
        {
            // Somebody has to go on reading, or the driver would wait for room to write.
            tokio::spawn(async move { while let Ok(Some(_)) = lines.next_line().await {} });
            return Ok(port);
        }
    }
    Err(Ours::Driver("it ended without naming its port".into()))
}

fn first_line(text: &str) -> String {
    text.lines().next().unwrap_or("").chars().take(300).collect()
}
