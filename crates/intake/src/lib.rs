//! Page views in: check, take away what is personal, queue, write in batches, and only then say yes.
//!
//! A beacon is acknowledged after the transaction that holds it has committed. The queue is
//! bounded; what does not fit is turned away with [`Refusal::Busy`] and counted. What is refused is
//! counted by reason and written down every few seconds.

pub mod import;
mod places;

use cadentis_core::calendar::stretch::hour_of;
use cadentis_core::visitor::{Beacon, BeaconError, PageView, beacon, privacy};
use cadentis_store::Db;
use cadentis_store::rollup::RolledUp;
use cadentis_store::sites::Site;
use jiff::Timestamp;
use quick_cache::sync::Cache;
use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, RwLock};
use std::time::{Duration, Instant};
use tokio::sync::{mpsc, oneshot};

/// What the server knows of the visitor who sent a beacon.
#[derive(Debug, Clone)]
pub struct Sender<'a> {
    /// The `Origin` header, if there was one.
    pub origin: Option<&'a str>,
    pub user_agent: &'a str,
    pub ip: IpAddr,
    /// ISO 3166 code from a trusted proxy; empty when unknown: then a table tells it.
    pub country: &'a str,
    /// Finer places from a trusted proxy; empty when unknown.
    pub region: &'a str,
    pub city: &'a str,
}

/// Why beacons were turned away.
#[derive(Debug, thiserror::Error)]
pub enum Refusal {
    #[error("no site has the key {0}")]
    UnknownSite(String),
    #[error("{host} is not a domain of this site")]
    ForeignOrigin { host: String },
    #[error("{0} bytes; at most {max}", max = beacon::MAX_BYTES)]
    TooLarge(usize),
    #[error("{0}")]
    Malformed(#[from] BeaconError),
    #[error("the body did not come within {0} s")]
    TooSlow(u64),
    #[error("body cut off")]
    CutOff,
    #[error("more than {MOST_A_MINUTE} beacons in a minute from one network")]
    Flood,
    /// The queue is full, or the database does not take anything just now. Try again later.
    #[error("too busy; nothing of this was kept")]
    Busy,
}

impl Refusal {
    /// One word for counting and for the answer.
    pub fn reason(&self) -> &'static str {
        match self {
            Refusal::UnknownSite(_) => "unknown-site",
            Refusal::ForeignOrigin { .. } => "foreign-origin",
            Refusal::TooLarge(_) => "too-large",
            Refusal::TooSlow(_) => "too-slow",
            Refusal::Malformed(_) | Refusal::CutOff => "malformed",
            Refusal::Flood => "flood",
            Refusal::Busy => "busy",
        }
    }
}

/// What became of beacons that were not refused.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Accepted {
    /// Committed.
    Stored,
    /// Sent by a program that says so: dropped and counted.
    Bot,
}

struct Parcel {
    views: Vec<(i32, PageView)>,
    done: oneshot::Sender<Result<(), ()>>,
}

/// How long a site's settings may be out of date here.
const SITE_FOR: Duration = Duration::from_secs(5);
/// The most page views one transaction takes.
const BATCH: usize = 4_000;

/// The most beacons that one masked network may send to a site in a minute: many people share one, but not so many.
pub const MOST_A_MINUTE: u32 = 3_000;
/// Networks that are counted at a time; more than that in a minute are let through.
const MOST_NETWORKS: usize = 100_000;

/// The minute, and how many beacons came in it from each network to each site.
type Minute = (i64, HashMap<(i32, IpAddr), u32>);

/// What is known of a program that sends beacons by what it calls itself.
#[derive(Debug, Clone, Copy)]
struct Agent {
    bot: bool,
    browser: &'static str,
    os: &'static str,
}

impl Agent {
    fn of(user_agent: &str) -> Agent {
        Agent { bot: privacy::is_bot(user_agent), browser: beacon::browser(user_agent), os: beacon::os(user_agent) }
    }
}

/// Programs that are remembered, and how long a name may be for that.
const AGENTS: usize = 2_000;
const AGENT_NAME: usize = 300;

/// A site and since when it is held here.
type Held = (Instant, Arc<Site>);
/// Site, hour and reason of what was turned away.
type Turned = (i32, Timestamp, &'static str);

#[derive(Clone)]
pub struct Intake {
    db: Db,
    queue: mpsc::Sender<Parcel>,
    waiting: Arc<AtomicUsize>,
    capacity: usize,
    sites: Arc<RwLock<HashMap<String, Held>>>,
    refused: Arc<Mutex<HashMap<Turned, (u64, String)>>>,
    minute: Arc<Mutex<Minute>>,
    agents: Arc<Cache<String, Agent>>,
}

impl Intake {
    /// Starts the writer on the running runtime. `capacity` is how many batches may wait.
    pub fn start(db: Db, capacity: usize) -> Intake {
        let (queue, receiver) = mpsc::channel(capacity);
        let intake = Intake {
            db: db.clone(),
            queue,
            waiting: Arc::default(),
            capacity,
            sites: Arc::default(),
            refused: Arc::default(),
            minute: Arc::default(),
            agents: Arc::new(Cache::new(AGENTS)),
        };
        tokio::spawn(write(db, receiver, intake.waiting.clone()));
        let counting = intake.clone();
        tokio::spawn(async move {
            loop {
                tokio::time::sleep(Duration::from_secs(2)).await;
                counting.write_counts().await;
            }
        });
        intake
    }

    /// Takes one request's beacons. Returns when they are committed.
    ///
    /// # Errors
    /// When they are turned away; it has been counted.
    pub async fn receive(
        &self,
        key: &str,
        sender: &Sender<'_>,
        body: &[u8],
        now: Timestamp,
    ) -> Result<Accepted, Refusal> {
        let mut site_id = 0;
        let answer = self.take(key, sender, body, now, &mut site_id).await;
        match &answer {
            Err(refusal) => self.count(site_id, now, refusal.reason(), refusal.to_string()),
            Ok(Accepted::Bot) => self.count(site_id, now, "bot", sender.user_agent.chars().take(120).collect()),
            Ok(Accepted::Stored) => {}
        }
        answer
    }

    /// Counts what could not even be read.
    pub async fn unread(&self, key: &str, refusal: Refusal, now: Timestamp) -> Refusal {
        let site = self.site(key).await.map_or(0, |site| site.id);
        self.count(site, now, refusal.reason(), refusal.to_string());
        refusal
    }

    async fn take(
        &self,
        key: &str,
        sender: &Sender<'_>,
        body: &[u8],
        now: Timestamp,
        site_id: &mut i32,
    ) -> Result<Accepted, Refusal> {
        let site = self.site(key).await?;
        *site_id = site.id;
        if body.len() > beacon::MAX_BYTES {
            return Err(Refusal::TooLarge(body.len()));
        }
        if let Some(origin) = sender.origin {
            let host = beacon::origin_host(origin);
            if !site.owns(&host) {
                return Err(Refusal::ForeignOrigin { host });
            }
        }
        let beacons = Beacon::read(body)?;
        if let Some(foreign) = beacons.iter().map(Beacon::host).find(|h| !site.owns(h)) {
            return Err(Refusal::ForeignOrigin { host: foreign });
        }
        let agent = self.agent(sender.user_agent);
        if agent.bot {
            return Ok(Accepted::Bot);
        }
        if self.is_flood(site.id, privacy::mask(sender.ip), beacons.len() as u32, now) {
            return Err(Refusal::Flood);
        }
        let views = beacons.into_iter().map(|b| (site.id, page_view(b, &site, sender, agent, now))).collect();
        let (done, committed) = oneshot::channel();
        // Counted before the writer can have it, or it would be taken off before it was put on.
        self.waiting.fetch_add(1, Ordering::Relaxed);
        if self.queue.try_send(Parcel { views, done }).is_err() {
            self.waiting.fetch_sub(1, Ordering::Relaxed);
            return Err(Refusal::Busy);
        }
        match committed.await {
            Ok(Ok(())) => Ok(Accepted::Stored),
            _ => Err(Refusal::Busy),
        }
    }

    /// Names are long and few: each is looked into once.
    fn agent(&self, user_agent: &str) -> Agent {
        if let Some(agent) = self.agents.get(user_agent) {
            return agent;
        }
        let agent = Agent::of(user_agent);
        if user_agent.len() <= AGENT_NAME {
            self.agents.insert(user_agent.to_string(), agent);
        }
        agent
    }

    fn is_flood(&self, site_id: i32, network: IpAddr, beacons: u32, now: Timestamp) -> bool {
        let Ok(mut held) = self.minute.lock() else { return false };
        let minute = now.as_second() / 60;
        if held.0 != minute {
            *held = (minute, HashMap::new());
        }
        if held.1.len() >= MOST_NETWORKS && !held.1.contains_key(&(site_id, network)) {
            return false;
        }
        let count = held.1.entry((site_id, network)).or_default();
        *count = count.saturating_add(beacons);
        *count > MOST_A_MINUTE
    }

    /// (batches that wait, how many may)
    pub fn queue(&self) -> (usize, usize) {
        (self.waiting.load(Ordering::Relaxed), self.capacity)
    }

    async fn site(&self, key: &str) -> Result<Arc<Site>, Refusal> {
        let held = self.sites.read().ok().and_then(|s| s.get(key).cloned());
        if let Some((since, site)) = held
            && since.elapsed() < SITE_FOR
        {
            return Ok(site);
        }
        let site = self.db.site_by_key(key).await.map_err(|e| {
            tracing::warn!("beacons turned away: {e}");
            Refusal::Busy
        })?;
        let site = Arc::new(site.ok_or_else(|| Refusal::UnknownSite(key.chars().take(64).collect()))?);
        if let Ok(mut sites) = self.sites.write() {
            sites.insert(key.to_string(), (Instant::now(), site.clone()));
        }
        Ok(site)
    }

    fn count(&self, site_id: i32, now: Timestamp, reason: &'static str, example: String) {
        if let Ok(mut refused) = self.refused.lock() {
            let held = refused.entry((site_id, hour_of(now), reason)).or_default();
            *held = (held.0 + 1, example);
        }
    }

    /// Writes the counts down; what cannot be written is kept for the next time.
    pub async fn write_counts(&self) {
        let counts: Vec<_> = match self.refused.lock() {
            Ok(mut refused) => refused.drain().map(|((s, h, r), (n, example))| (s, h, r, n, example)).collect(),
            Err(_) => return,
        };
        let rows: Vec<_> = counts.iter().map(|(s, h, r, n, e)| (*s, *h, r.to_string(), *n, e.clone())).collect();
        if !rows.is_empty()
            && self.db.count_refused(&rows).await.is_err()
            && let Ok(mut refused) = self.refused.lock()
        {
            for (s, h, r, n, example) in counts {
                refused.entry((s, h, r)).or_insert((0, example)).0 += n;
            }
        }
    }
}

fn page_view(b: Beacon, site: &Site, sender: &Sender<'_>, agent: Agent, now: Timestamp) -> PageView {
    let country: String =
        sender.country.chars().filter(char::is_ascii_alphabetic).take(2).collect::<String>().to_ascii_uppercase();
    let known = |text: &str| text.chars().filter(|c| !c.is_control()).take(60).collect::<String>();
    let environment = site.environment_of(&b.host()).to_string();
    let mut b = b.cut(&site.collecting.keep);
    if b.more.environment.is_empty() {
        b.more.environment = environment;
    }
    PageView {
        at: b.at(now),
        received_at: now,
        family: site.families.of(b.path()).to_string(),
        path: b.path().to_string(),
        ip: privacy::mask(sender.ip),
        country: match country.len() {
            2 => country,
            _ => places::country(privacy::mask(sender.ip)).unwrap_or_else(|| "??".into()),
        },
        region: known(sender.region),
        city: known(sender.city),
        browser: agent.browser.into(),
        os: agent.os.into(),
        person: privacy::person(&site.key, &b.more.person),
        beacon: b.without_person(),
    }
}

/// Takes what waits, writes it in one transaction, answers everyone who waited for it.
async fn write(db: Db, mut queue: mpsc::Receiver<Parcel>, waiting: Arc<AtomicUsize>) {
    let mut parcels = Vec::new();
    while queue.recv_many(&mut parcels, 256).await > 0 {
        while !parcels.is_empty() {
            let mut rows = 0;
            let fits = parcels.iter().take_while(|p: &&Parcel| {
                rows += p.views.len();
                rows <= BATCH
            });
            let n = fits.count().max(1);
            let (mut views, mut waiters) = (Vec::new(), Vec::new());
            for parcel in parcels.drain(..n) {
                views.extend(parcel.views);
                waiters.push(parcel.done);
            }
            let stored = db.store_page_views(&views).await.map_err(|e| {
                tracing::warn!("page views turned away: {e}");
            });
            waiting.fetch_sub(waiters.len(), Ordering::Relaxed);
            for waiter in waiters {
                // A visitor who has gone does not wait for an answer.
                let _ = waiter.send(stored);
            }
        }
    }
}

/// Rebuilds marked hours for ever, resting when there are none, and long after an hour that beacons pour into: it would be
/// filed anew again and again, and they come first. Meanwhile it is read from its rows.
pub async fn roll_up(db: Db) {
    loop {
        let begun = Instant::now();
        let rest = match db.roll_up_one().await {
            Ok(RolledUp::StillComing) => {
                (begun.elapsed() * 30).clamp(Duration::from_millis(20), Duration::from_secs(60))
            }
            Ok(RolledUp::Hour) => begun.elapsed().clamp(Duration::from_millis(20), Duration::from_secs(2)),
            Ok(RolledUp::Nothing) => Duration::from_secs(2),
            Err(e) => {
                tracing::warn!("roll-up waits: {e}");
                Duration::from_secs(5)
            }
        };
        tokio::time::sleep(rest).await;
    }
}
