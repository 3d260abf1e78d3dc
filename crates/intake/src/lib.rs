//! Page views in: check, take away what is personal, queue, write in batches, and only then say yes.
//!
//! A beacon is acknowledged after the transaction that holds it has committed. The queue is
//! bounded; what does not fit is turned away with [`Refusal::Busy`] and counted. What is refused is
//! counted by reason and written down every few seconds.

pub mod flood;
pub mod import;
mod meter;
mod places;

use cadentis_core::calendar::stretch::hour_of;
use cadentis_core::text::clean;
use cadentis_core::visitor::privacy::PersonKey;
use cadentis_core::visitor::{Beacon, BeaconError, PageView, beacon, privacy};
use cadentis_store::Db;
use cadentis_store::page_view_hour::RolledUp;
use cadentis_store::site::Site;
use cadentis_workers::Workers;
use flood::{Flood, Limits};
use jiff::Timestamp;
pub use meter::{Answer, Meter};
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
    #[error("more than {network} beacons in a minute from one network, or {site} to one site", network = Limits::USUAL.network, site = Limits::USUAL.site)]
    Flood,
    /// What the database will never take.
    #[error("this can never be stored")]
    Unstorable,
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
            Refusal::Malformed(_) | Refusal::CutOff | Refusal::Unstorable => "malformed",
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
    /// How many page views it holds.
    rows: usize,
    views: Vec<(i32, PageView)>,
    done: oneshot::Sender<Result<(), NotStored>>,
}

/// Why page views were not stored.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum NotStored {
    Now,
    Ever,
}

/// How long sites' settings may be out of date here, and a key that no site has is known to be none.
const SITES_FOR: Duration = Duration::from_secs(2);
/// A database that could not tell the sites is asked again after this.
const ASKED_AGAIN: Duration = Duration::from_secs(1);
/// The most page views one transaction takes.
const BATCH: usize = 4_000;

/// What is known of a program that sends beacons by what it calls itself.
#[derive(Debug, Clone, Copy)]
struct Agent {
    bot: bool,
    browser: &'static str,
    os: &'static str,
}

impl Agent {
    fn of(user_agent: &str) -> Agent {
        Agent {
            bot: privacy::is_bot(user_agent),
            browser: beacon::browser(user_agent),
            os: beacon::os(user_agent),
        }
    }
}

/// Programs that are remembered, and how long a name may be for that.
const AGENTS: usize = 2_000;
const AGENT_NAME: usize = 300;

/// All sites by their keys, as they were when they were last read.
#[derive(Debug, Default)]
struct Sites {
    read: Option<Instant>,
    failed: Option<Instant>,
    by_key: HashMap<String, Arc<Site>>,
}

/// What is told of the newest that was turned away, in characters.
const EXAMPLE: usize = 300;
/// Workers that have done nothing to the end for so long are not well.
const WELL_FOR: Duration = Duration::from_secs(120);

/// Site, hour and reason of what was turned away.
type Turned = (i32, Timestamp, &'static str);

#[derive(Clone)]
pub struct Intake {
    db: Db,
    queue: mpsc::Sender<Parcel>,
    waiting: Arc<AtomicUsize>,
    capacity: usize,
    sites: Arc<RwLock<Sites>>,
    /// One reads the sites, the others wait for it.
    reads_sites: Arc<tokio::sync::Mutex<()>>,
    refused: Arc<Mutex<HashMap<Turned, (u64, String)>>>,
    flood: Arc<Flood>,
    /// Without one, nothing is kept of people's ids.
    persons: Option<PersonKey>,
    agents: Arc<Cache<String, Agent>>,
    meter: Meter,
}

impl Intake {
    /// Starts the writer on the running runtime. `capacity` is how many batches may wait; `persons` makes of people's ids
    /// what is kept of them.
    pub fn start(db: Db, capacity: usize, persons: Option<PersonKey>, workers: &Workers) -> Intake {
        let (queue, receiver) = mpsc::channel(capacity);
        let intake = Intake {
            db: db.clone(),
            queue,
            waiting: Arc::default(),
            capacity,
            sites: Arc::default(),
            reads_sites: Arc::default(),
            refused: Arc::default(),
            flood: Arc::new(Flood::new(Limits::USUAL)),
            persons,
            agents: Arc::new(Cache::new(AGENTS)),
            meter: Meter::default(),
        };
        // Held outside of the writer: one that panics leaves the queue to the next.
        let receiver = Arc::new(tokio::sync::Mutex::new(receiver));
        let (waiting, meter) = (intake.waiting.clone(), intake.meter.clone());
        workers.start("writer of page views", WELL_FOR, move || {
            let (db, receiver, waiting, meter) =
                (db.clone(), receiver.clone(), waiting.clone(), meter.clone());
            async move {
                write(&db, &mut *receiver.lock().await, &waiting, &meter).await;
                Ok(Duration::ZERO)
            }
        });
        let counting = intake.clone();
        workers.start("counts of what was refused", WELL_FOR, move || {
            let counting = counting.clone();
            async move {
                counting.write_counts().await?;
                Ok(Duration::from_secs(2))
            }
        });
        intake
    }

    /// Connections to the database that beacons alone use: open ones, and those of them that are idle.
    pub fn connections(&self) -> (u32, u32) {
        self.db.connections()
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
            Ok(Accepted::Bot) => {
                self.count(site_id, now, "bot", sender.user_agent.chars().take(120).collect())
            }
            Ok(Accepted::Stored) => {}
        }
        self.meter.answered(match &answer {
            Err(refusal) => refusal.reason(),
            Ok(Accepted::Bot) => "bot",
            Ok(Accepted::Stored) => "stored",
        });
        answer
    }

    /// Counts what could not even be read.
    pub async fn unread(&self, key: &str, refusal: Refusal, now: Timestamp) -> Refusal {
        let site = self.site(key).await.map_or(0, |site| site.id);
        self.count(site, now, refusal.reason(), refusal.to_string());
        self.meter.answered(refusal.reason());
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
        let network = privacy::mask(sender.ip);
        if self.flood.is_over(site.id, network, beacons.len() as u32, now.as_second() / 60) {
            return Err(Refusal::Flood);
        }
        let rows = beacons.len();
        let views = beacons
            .into_iter()
            .map(|b| (site.id, page_view(b, &site, sender, agent, self.persons.as_ref(), now)))
            .collect();
        let (done, committed) = oneshot::channel();
        // Counted before the writer can have it, or it would be taken off before it was put on.
        self.waiting.fetch_add(1, Ordering::Relaxed);
        if self.queue.try_send(Parcel { rows, views, done }).is_err() {
            self.waiting.fetch_sub(1, Ordering::Relaxed);
            return Err(Refusal::Busy);
        }
        match committed.await {
            Ok(Ok(())) => Ok(Accepted::Stored),
            Ok(Err(NotStored::Ever)) => Err(Refusal::Unstorable),
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

    /// What it has done since it was started.
    pub fn meter(&self) -> &Meter {
        &self.meter
    }

    /// (batches that wait, how many may)
    pub fn queue(&self) -> (usize, usize) {
        (self.waiting.load(Ordering::Relaxed), self.capacity)
    }

    /// The site of this key. Whether there is one is known without a question to the database: keys that are made up cost
    /// nothing.
    async fn site(&self, key: &str) -> Result<Arc<Site>, Refusal> {
        if let Some(known) = self.known_site(key, SITES_FOR) {
            return known;
        }
        let _reads = self.reads_sites.lock().await;
        // Somebody else may have read them meanwhile.
        if let Some(known) = self.known_site(key, SITES_FOR) {
            return known;
        }
        let read = self.db.sites().await;
        let Ok(mut sites) = self.sites.write() else { return Err(Refusal::Busy) };
        match read {
            Ok(all) => {
                let taken = all.into_iter().filter(|s| s.archived_at.is_none());
                let by_key = taken.map(|s| (s.key.clone(), Arc::new(s))).collect();
                *sites = Sites { read: Some(Instant::now()), failed: None, by_key };
            }
            Err(e) => {
                tracing::warn!("beacons turned away: {e}");
                sites.failed = Some(Instant::now());
                return Err(Refusal::Busy);
            }
        }
        drop(sites);
        self.known_site(key, Duration::MAX).unwrap_or(Err(Refusal::Busy))
    }

    /// What is known of a key from the last reading of the sites, if that is not older than this.
    fn known_site(&self, key: &str, age: Duration) -> Option<Result<Arc<Site>, Refusal>> {
        let sites = self.sites.read().ok()?;
        if sites.failed.is_some_and(|at| at.elapsed() < ASKED_AGAIN) {
            return Some(Err(Refusal::Busy));
        }
        sites.read.filter(|at| at.elapsed() < age)?;
        let unknown = || Refusal::UnknownSite(clean(key, 64, None));
        Some(sites.by_key.get(key).cloned().ok_or_else(unknown))
    }

    fn count(&self, site_id: i32, now: Timestamp, reason: &'static str, example: String) {
        if let Ok(mut refused) = self.refused.lock() {
            let held = refused.entry((site_id, hour_of(now), reason)).or_default();
            *held = (held.0 + 1, clean(&example, EXAMPLE, None));
        }
    }

    /// Writes the counts down; what cannot be written now is kept for the next time, what never can is let go.
    ///
    /// # Errors
    /// When the database does not take them now.
    pub async fn write_counts(&self) -> Result<(), String> {
        let counts: Vec<_> = match self.refused.lock() {
            Ok(mut refused) => refused.drain().collect(),
            Err(_) => return Ok(()),
        };
        if counts.is_empty() {
            return Ok(());
        }
        let rows: Vec<_> = counts
            .iter()
            .map(|((s, h, reason), (n, e))| (*s, *h, reason.to_string(), *n, e.clone()))
            .collect();
        let Err(e) = self.db.count_refused(&rows).await else { return Ok(()) };
        if e.is_permanent() {
            tracing::error!("counts of what was refused cannot be stored and are let go: {e}");
            return Ok(());
        }
        if let Ok(mut refused) = self.refused.lock() {
            for (key, (n, example)) in counts {
                refused.entry(key).or_insert((0, example)).0 += n;
            }
        }
        Err(e.to_string())
    }
}

fn page_view(
    b: Beacon,
    site: &Site,
    sender: &Sender<'_>,
    agent: Agent,
    persons: Option<&PersonKey>,
    now: Timestamp,
) -> PageView {
    let country: String = sender
        .country
        .chars()
        .filter(char::is_ascii_alphabetic)
        .take(2)
        .collect::<String>()
        .to_ascii_uppercase();
    let known = |text: &str| clean(text, 60, None);
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
        person: persons.map_or(0, |key| key.person(&site.key, &b.more.person)),
        beacon: b.without_person(),
    }
}

/// Takes what waits, writes it in one transaction, answers everyone who waited for it.
///
/// Ends now and then, so that it is seen to be well.
async fn write(db: &Db, queue: &mut mpsc::Receiver<Parcel>, waiting: &AtomicUsize, meter: &Meter) {
    let mut parcels = Vec::new();
    let until = Instant::now() + WELL_FOR / 4;
    while Instant::now() < until {
        match tokio::time::timeout(WELL_FOR / 4, queue.recv_many(&mut parcels, 256)).await {
            Ok(0) => {
                // Nobody can send any more: the program ends.
                tokio::time::sleep(WELL_FOR / 4).await;
            }
            Ok(_) => {}
            Err(_) => return,
        }
        while !parcels.is_empty() {
            let mut rows = 0;
            let fits = parcels.iter().take_while(|p: &&Parcel| {
                rows += p.rows;
                rows <= BATCH
            });
            let n = fits.count().max(1);
            let batch: Vec<Parcel> = parcels.drain(..n).collect();
            waiting.fetch_sub(batch.len(), Ordering::Relaxed);
            let begun = Instant::now();
            put(db, batch).await;
            meter.batch.observe(begun.elapsed().as_secs_f64());
        }
    }
}

/// Stores parcels together. One that can never be stored does not hold the others back: each is then tried by itself.
async fn put(db: &Db, mut batch: Vec<Parcel>) {
    let views: Vec<(i32, PageView)> =
        batch.iter_mut().flat_map(|p| std::mem::take(&mut p.views)).collect();
    let lengths = batch.iter().map(|p| p.rows);
    let stored = store(db, &views).await;
    if stored != Err(NotStored::Ever) || batch.len() == 1 {
        // A visitor who has gone does not wait for an answer.
        for parcel in batch {
            let _ = parcel.done.send(stored);
        }
        return;
    }
    let mut rest = views.as_slice();
    let lengths: Vec<usize> = lengths.collect();
    for (parcel, rows) in batch.into_iter().zip(lengths) {
        let (mine, others) = rest.split_at(rows.min(rest.len()));
        rest = others;
        let _ = parcel.done.send(store(db, mine).await);
    }
}

async fn store(db: &Db, views: &[(i32, PageView)]) -> Result<(), NotStored> {
    db.store_page_views(views).await.map_err(|e| {
        tracing::warn!("page views turned away: {e}");
        if e.is_permanent() { NotStored::Ever } else { NotStored::Now }
    })
}

/// Rebuilds one marked hour and says how long to rest: long after an hour that beacons pour into, since it would be filed
/// anew again and again, and they come first. Meanwhile it is read from its rows.
///
/// # Errors
/// When the database does not do it now.
pub async fn roll_up(db: &Db) -> Result<Duration, String> {
    let begun = Instant::now();
    match db.roll_up_one().await.map_err(|e| e.to_string())? {
        RolledUp::StillComing => {
            Ok((begun.elapsed() * 30).clamp(Duration::from_millis(20), Duration::from_secs(60)))
        }
        RolledUp::Hour => {
            Ok(begun.elapsed().clamp(Duration::from_millis(20), Duration::from_secs(2)))
        }
        RolledUp::Nothing => Ok(Duration::from_secs(2)),
    }
}
