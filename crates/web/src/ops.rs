//! What this process is doing, for whoever watches it: `/healthz`, `/healthz/live` and `/metrics` at an address of their own.
//!
//! Metrics are written as OpenMetrics 1.0. Names begin with `cadentis_`, times are in seconds. The same figures stand in
//! words on Setup.

use crate::api::health;
use crate::{State, Web};
use actix_web::body::MessageBody;
use actix_web::dev::{ServiceRequest, ServiceResponse};
use actix_web::middleware::Next;
use actix_web::{App, HttpResponse, HttpServer, web};
use cadentis_answers::compute::Load;
use cadentis_answers::kept::Backlog;
use cadentis_answers::{setup, watch};
use cadentis_core::calendar::stretch::length_text;
use cadentis_workers::Report;
use jiff::Timestamp;
use prometheus_client::encoding::EncodeLabelSet;
use prometheus_client::encoding::text::encode;
use prometheus_client::metrics::counter::{ConstCounter, Counter};
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::{ConstGauge, Gauge};
use prometheus_client::metrics::histogram::{Histogram, exponential_buckets};
use prometheus_client::registry::{Registry, Unit};
use std::io;
use std::net::{SocketAddr, TcpListener};
use std::sync::atomic::AtomicU64;
use std::sync::atomic::Ordering::Relaxed;
use std::time::{Duration, Instant};

/// The media type of OpenMetrics 1.0.
const OPEN_METRICS: &str = "application/openmetrics-text; version=1.0.0; charset=utf-8";

/// What was asked for, as its route is written, and how it was answered.
#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct Asked {
    method: &'static str,
    route: String,
    /// The first digit of the status, such as `2xx`.
    status: &'static str,
}

/// How long answers took, by route.
#[derive(Debug, Clone)]
pub struct PageMeter(Family<Asked, Histogram, fn() -> Histogram>);

impl Default for PageMeter {
    fn default() -> PageMeter {
        // From five milliseconds to twenty seconds.
        PageMeter(Family::new_with_constructor(|| {
            Histogram::new(exponential_buckets(0.005, 2.0, 13))
        }))
    }
}

/// Notes how long an answer took. Only routes of ours have a name: what strangers make up is one.
pub async fn timed<B: MessageBody>(
    state: web::Data<State>,
    request: ServiceRequest,
    next: Next<B>,
) -> Result<ServiceResponse<B>, actix_web::Error> {
    let begun = Instant::now();
    let answer = next.call(request).await?;
    let route = answer
        .request()
        .match_pattern()
        .filter(|route| !route.is_empty())
        .unwrap_or_else(|| "none".into());
    let method = match answer.request().method().as_str() {
        "GET" => "GET",
        "POST" => "POST",
        "DELETE" => "DELETE",
        _ => "other",
    };
    let status = ["1xx", "2xx", "3xx", "4xx", "5xx"]
        [usize::from(answer.status().as_u16() / 100).clamp(1, 5) - 1];
    state
        .meter
        .0
        .get_or_create(&Asked { method, route, status })
        .observe(begun.elapsed().as_secs_f64());
    Ok(answer)
}

/// How this process is, gathered once.
pub struct Pulse {
    /// Batches of beacons that wait to be written, and how many may.
    pub queue: (usize, usize),
    pub compute: Load,
    pub workers: Vec<Report>,
    /// Connections to the database: open and idle, of pages and of beacons.
    pub connections: [(u32, u32); 2],
    /// What waits in the database; `None` when it does not answer.
    pub backlog: Option<Backlog>,
    /// For how many seconds an alert that is due waits to be evaluated; `None` when none does, or the database does not
    /// answer.
    pub watch_for_s: Option<f64>,
    /// Turns of the watch in this process, evaluations in them, and how many seconds they took.
    pub watched: (u64, u64, f64),
}

impl Pulse {
    pub async fn of(state: &State) -> Pulse {
        let backlog = setup::backlog(&state.answers, Timestamp::now()).await;
        if let Err(e) = &backlog {
            tracing::warn!("what waits in the database is not known: {e}");
        }
        let lag = watch::lag(&state.answers, Timestamp::now()).await.ok().flatten();
        let watched = state.answers.watched();
        let [turns, evaluations, micros] =
            [&watched.turns, &watched.evaluations, &watched.micros].map(|n| n.load(Relaxed));
        Pulse {
            watched: (turns, evaluations, micros as f64 / 1e6),
            watch_for_s: lag.map(|lag| lag.as_secs_f64()),
            queue: state.intake.queue(),
            compute: state.answers.compute().load(),
            workers: state.workers.report(),
            connections: [state.answers.connections(), state.intake.connections()],
            backlog: backlog.ok(),
        }
    }
}

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct Named {
    name: &'static str,
}

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct Pooled {
    pool: &'static str,
    state: &'static str,
}

type Seconds = Gauge<f64, AtomicU64>;

/// Everything there is to say, as one text.
fn text(state: &State, pulse: &Pulse) -> Result<String, std::fmt::Error> {
    let mut all = Registry::with_prefix("cadentis");
    tell_requests(&mut all, state, pulse);
    tell_computing(&mut all, pulse.compute);
    tell_watch(&mut all, pulse.watched);
    tell_database(&mut all, pulse);
    tell_workers(&mut all, pulse);
    let mut text = String::new();
    encode(&mut text, &all)?;
    Ok(text)
}

fn gauge(n: f64) -> ConstGauge<f64> {
    ConstGauge::new(n)
}

/// Beacons and pages.
fn tell_requests(all: &mut Registry, state: &State, pulse: &Pulse) {
    let meter = state.intake.meter();
    all.register(
        "beacons",
        "Requests with beacons by how they were answered",
        meter.beacons.clone(),
    );
    all.register("batch_seconds", "Writing one batch of page views", meter.batch.clone());
    all.register("page_seconds", "Answering a request, by route", state.meter.0.clone());
    let (waiting, capacity) = pulse.queue;
    all.register(
        "beacon_queue",
        "Batches of beacons that wait to be written",
        gauge(waiting as f64),
    );
    all.register(
        "beacon_queue_capacity",
        "Batches of beacons that may wait",
        gauge(capacity as f64),
    );
}

/// Questions.
fn tell_computing(all: &mut Registry, load: Load) {
    all.register(
        "compute_waiting",
        "Questions that wait to be computed",
        gauge(load.waiting as f64),
    );
    all.register(
        "compute_running",
        "Questions that are being computed",
        gauge(load.running as f64),
    );
    let ended = Family::<Named, Counter>::default();
    for (name, n) in [("done", load.done), ("left", load.left), ("refused", load.refused)] {
        ended.get_or_create(&Named { name }).inc_by(n);
    }
    all.register("compute_questions", "What became of questions", ended);
    let busy = ConstCounter::new(load.busy_ms as f64 / 1000.0);
    all.register_with_unit("compute_busy", "Time spent computing", Unit::Seconds, busy);
}

/// What the watch has done.
fn tell_watch(all: &mut Registry, (turns, evaluations, seconds): (u64, u64, f64)) {
    let turns = ConstCounter::new(turns);
    all.register("watch_turns", "Turns of the watch, also those in which nothing was due", turns);
    let evaluations = ConstCounter::new(evaluations);
    all.register("watch_evaluations", "Evaluations of alerts", evaluations);
    let took = ConstCounter::new(seconds);
    all.register_with_unit("watch", "What turns of the watch took", Unit::Seconds, took);
}

/// The database, and what waits in it.
fn tell_database(all: &mut Registry, pulse: &Pulse) {
    all.register(
        "database_up",
        "Whether the database answers",
        gauge(f64::from(u8::from(pulse.backlog.is_some()))),
    );
    let connections = Family::<Pooled, Gauge>::default();
    for (pool, (open, idle)) in ["pages", "beacons"].into_iter().zip(pulse.connections) {
        for (state, n) in [("idle", idle), ("used", open.saturating_sub(idle))] {
            connections.get_or_create(&Pooled { pool, state }).set(i64::from(n));
        }
    }
    all.register("database_connections", "Open connections to the database", connections);
    if let Some(b) = &pulse.backlog {
        all.register(
            "rollup_hours",
            "Hours of page views that are to be filed anew",
            gauge(b.hours as f64),
        );
        let lag = gauge(b.hours_for_s.unwrap_or(0.0));
        all.register_with_unit(
            "rollup_lag",
            "Since the oldest of them was marked",
            Unit::Seconds,
            lag,
        );
        all.register("runs_due", "Runs that are due and that no runner has", gauge(b.due as f64));
        let late = gauge(b.due_for_s.unwrap_or(0.0));
        all.register_with_unit(
            "runs_late",
            "Since the oldest of them was due",
            Unit::Seconds,
            late,
        );
        let behind = gauge(pulse.watch_for_s.unwrap_or(0.0));
        all.register_with_unit(
            "watch_lag",
            "Since an alert that is due should have been evaluated",
            Unit::Seconds,
            behind,
        );
        all.register("runs_leased", "Runs that runners have", gauge(b.leased as f64));
        all.register(
            "records_kept",
            "Records of runs that runners keep until a server takes them",
            gauge(b.kept as f64),
        );
    }
}

/// What works in the background.
fn tell_workers(all: &mut Registry, pulse: &Pulse) {
    let (well, age) = (Family::<Named, Gauge>::default(), Family::<Named, Seconds>::default());
    let restarts = Family::<Named, Counter>::default();
    for w in &pulse.workers {
        let name = Named { name: w.name };
        well.get_or_create(&name).set(i64::from(w.is_well));
        restarts.get_or_create(&name).inc_by(w.restarts);
        if let Some(last) = w.last_success {
            age.get_or_create(&name).set(last.as_secs_f64());
        }
    }
    all.register("worker_well", "Whether a worker has done something to the end lately", well);
    all.register_with_unit(
        "worker_success_age",
        "Since a worker last did something to the end",
        Unit::Seconds,
        age,
    );
    all.register("worker_restarts", "How often a worker panicked and began again", restarts);
}

/// `GET /metrics`.
async fn metrics(state: web::Data<State>) -> HttpResponse {
    let pulse = Pulse::of(&state).await;
    match text(&state, &pulse) {
        Ok(text) => HttpResponse::Ok().content_type(OPEN_METRICS).body(text),
        Err(e) => {
            tracing::error!("metrics cannot be written: {e}");
            HttpResponse::InternalServerError().finish()
        }
    }
}

/// `GET /healthz/live`: this process answers, whatever else is the matter. Whoever restarts it by this does not do so because
/// the database is away.
async fn live() -> HttpResponse {
    HttpResponse::Ok().content_type("text/plain").body("live\n")
}

/// Binds the address that nothing but health and metrics is answered at.
///
/// # Errors
/// When the address is taken or not ours.
pub fn bind(state: State, address: SocketAddr) -> io::Result<Web> {
    let listener = TcpListener::bind(address)?;
    let address = listener.local_addr()?;
    let server = HttpServer::new(move || {
        App::new()
            .app_data(web::Data::new(state.clone()))
            .route("/metrics", web::get().to(metrics))
            .route("/healthz", web::get().to(health::healthz))
            .route("/healthz/live", web::get().to(live))
    })
    .workers(1)
    .disable_signals()
    .shutdown_timeout(1)
    .listen(listener)?
    .run();
    Ok(Web { server, address })
}

/// From so many seconds on the watch is said to be behind: two evaluations.
pub const WATCH_BEHIND_S: f64 = 120.0;

/// Something to say of this server, and how it stands.
pub struct Sentence {
    pub says: String,
    pub tone: &'static str,
}

impl Sentence {
    fn new(says: String, tone: &'static str) -> Sentence {
        Sentence { says, tone }
    }
}

/// The same in sentences, for people.
pub fn sentences(pulse: &Pulse) -> Vec<Sentence> {
    let (waiting, capacity) = pulse.queue;
    let mut all = vec![Sentence::new(
        format!("Beacons: {waiting} of at most {capacity} batches wait to be written."),
        if waiting * 2 > capacity { "strained" } else { "within" },
    )];
    match &pulse.backlog {
        None => all.push(Sentence::new("The database does not say what waits.".into(), "broken")),
        Some(b) => all.extend(waiting_says(b)),
    }
    let behind = pulse.watch_for_s.unwrap_or(0.0);
    all.push(match behind {
        s if s < WATCH_BEHIND_S => {
            Sentence::new("Watch: every alert is evaluated in time.".into(), "within")
        }
        s => {
            let long = length_text(s * 1e3);
            Sentence::new(
                format!("Watch: alerts are {long} behind: what opens is told late."),
                "strained",
            )
        }
    });
    let load = pulse.compute;
    all.push(Sentence::new(
        format!(
            "Computing: {} questions answered, {} refused, {} left since nobody waited any more; {} wait now.",
            load.done, load.refused, load.left, load.waiting
        ),
        if load.waiting > 0 { "strained" } else { "within" },
    ));
    all.extend(pulse.workers.iter().map(worker_says));
    all
}

fn waiting_says(b: &Backlog) -> [Sentence; 2] {
    let late = b.due_for_s.unwrap_or(0.0);
    let runs = match b.due {
        0 => format!("Runs: none waits for a runner; runners have {}.", b.leased),
        n => format!(
            "Runs: {n} wait for a runner, the oldest for {}; runners have {}.",
            length_text(late * 1_000.0),
            b.leased
        ),
    };
    let lag = b.hours_for_s.unwrap_or(0.0);
    let hours = match b.hours {
        0 => "Page views: every hour is filed.".into(),
        n => format!(
            "Page views: {n} {} to be filed anew, the oldest marked {} ago.",
            if n == 1 { "hour is" } else { "hours are" },
            length_text(lag * 1_000.0)
        ),
    };
    let tone = |s: f64| if s > LATE_S { "strained" } else { "within" };
    [Sentence::new(runs, tone(late)), Sentence::new(hours, tone(lag))]
}

fn worker_says(w: &Report) -> Sentence {
    let last =
        w.last_success.map_or("not yet".into(), |age: Duration| format!("{} s ago", age.as_secs()));
    let restarts = match w.restarts {
        0 => String::new(),
        n => format!(", begun again {n} times"),
    };
    Sentence::new(
        format!("Worker “{}”: last done {last}{restarts}.", w.name),
        if w.is_well { "within" } else { "broken" },
    )
}

/// What waits for longer than this is told as trouble, in seconds: a cadence is a minute at the least.
const LATE_S: f64 = 90.0;
