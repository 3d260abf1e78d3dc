//! Answers from a real PostgreSQL.

mod journeys;
mod statements;
mod visitors;

use cadentis_answers::Answers;
use cadentis_answers::compute::Compute;
use cadentis_core::calendar::{Pace, Stretch};
use cadentis_core::run::{Mark, Outcome, Request, RunRecord, StepRecord, Trouble};
use cadentis_core::timing::Phases;
use cadentis_core::visitor::Filter;
use cadentis_standins::postgres::Cluster;
use cadentis_store::Db;
use cadentis_store::journey::{NewJourney, PlaceAndPace};
use cadentis_store::location::NewLocation;
use cadentis_store::script_version::Status;
use cadentis_store::site::{NewSite, Site};
use jiff::{SignedDuration, Timestamp};
use std::sync::LazyLock;
use std::time::Duration;
use uuid::Uuid;

static CLUSTER: LazyLock<Cluster> =
    LazyLock::new(|| Cluster::scratch().expect("PostgreSQL is installed"));

const SCRIPT: &str = "script \"J\"\n  within 2 s\nstep \"Open\"\n  open http://book.marram.example/\n  within 1 s\n\
    step \"Search\"\n  press link \"Find\"\n  within 1 s\n";

/// A site with so many journeys, each at two locations, and what answers about it.
struct World {
    answers: Answers,
    db: Db,
    site: Site,
    locations: Vec<i32>,
    begin: Timestamp,
}

async fn world(journeys: usize) -> World {
    let url =
        CLUSTER.create_database(&format!("t{}", Uuid::new_v4().simple())).expect("a database");
    let db = Db::connect(&url).expect("an address");
    db.migrate().await.expect("migrations");
    let begin = Timestamp::now() - SignedDuration::from_hours(2);
    db.ensure_days_around(begin).await.expect("days");
    db.ensure_days_around(Timestamp::now()).await.expect("days");
    let new = NewSite {
        key: "k",
        name: "Marram Ferries",
        zone: "Europe/Oslo",
        domains: &["marram.example".into()],
        families: &[("/".into(), "Home".into())],
        apdex_t_s: 1.5,
    };
    let site_id = db.add_site(&new).await.expect("a site");
    let mut locations = Vec::new();
    for (slug, country) in [("bergen", "NO"), ("halifax", "CA")] {
        let location = NewLocation {
            slug,
            name: slug,
            country,
            kind: "public",
            zone: "UTC",
            token: slug,
            at: None,
            proxy: None,
            denied: Default::default(),
        };
        locations.push(db.add_location(&location).await.expect("a location"));
    }
    for nth in 0..journeys {
        let (pace, slug) = (Pace::Every(300), format!("j{nth}"));
        let journey = NewJourney {
            site_id,
            slug: &slug,
            name: &format!("Journey {nth}"),
            script: SCRIPT,
            apdex_t_s: 1.0,
            author: "Ada",
            plays: PlaceAndPace::usual(&pace, &locations),
            status: Status::Active,
        };
        db.add_journey(&journey).await.expect("a journey");
    }
    let site = db.sites().await.expect("sites").remove(0);
    let compute = Compute::start(2, 64, Duration::from_secs(20)).expect("threads");
    World { answers: Answers::new(db.clone(), compute), db, site, locations, begin }
}

/// A run with two steps of so many milliseconds, each one request of the site's own.
fn record(id: Uuid, outcome: Outcome, steps_ms: [f64; 2]) -> RunRecord {
    let trouble =
        (outcome == Outcome::Failed).then(|| Trouble { line: 7, says: "It was not there.".into() });
    let step = |(name, ms): (&str, f64)| StepRecord {
        duration_ms: ms,
        outcome,
        requests: vec![Request {
            url: format!("http://book.marram.example/{name}"),
            method: "GET".into(),
            kind: "document".into(),
            status: if outcome == Outcome::Failed { 503 } else { 200 },
            start_ms: 1.0,
            phases: Phases { wait_ms: ms - 2.0, receive_ms: 1.0, ..Phases::default() },
            bytes: 9,
            protocol: "http/1.1".into(),
            from_cache: false,
            failed: None,
            trace: None,
            asked: Default::default(),
        }],
        certificate_days: (name == "Search").then_some(if outcome == Outcome::Failed {
            11
        } else {
            12
        }),
        marks: if name == "Search" { vec![mark("map in place", ms / 2.0)] } else { vec![] },
        ..StepRecord::begun(name, 0.0, Some(1_000.0))
    };
    RunRecord {
        id,
        started_at: Timestamp::now(),
        outcome,
        duration_ms: steps_ms.iter().sum(),
        trouble,
        steps: ["Open", "Search"].into_iter().zip(steps_ms).map(step).collect(),
        browser: "Chromium".into(),
        runner: "r".into(),
        device: "desktop".into(),
        trial: false,
    }
}

fn mark(name: &str, at_ms: f64) -> Mark {
    Mark { name: name.into(), at_ms }
}

impl World {
    /// Plays whatever is due at so many minutes from the beginning: `of` says what comes of a journey at a location.
    async fn plays(&self, minutes: i64, of: impl Fn(usize, usize) -> (Outcome, [f64; 2])) {
        let at = self.begin + SignedDuration::from_mins(minutes);
        self.db.make_due(at).await.expect("due");
        for (place, location) in self.locations.iter().enumerate() {
            while let Some(work) = self.db.lease(*location, "r", at, at).await.expect("asked") {
                let journey =
                    work.journey.trim_start_matches("Journey ").parse().expect("a number");
                let (outcome, ms) = of(journey, place);
                self.db.finish(*location, record(work.id, outcome, ms)).await.expect("stored");
            }
        }
    }

    fn range(&self) -> cadentis_answers::Range {
        let stretch =
            Stretch { from: self.begin - SignedDuration::from_mins(5), to: Timestamp::now() };
        cadentis_answers::Range { stretch, against: None, filter: Filter::default(), points: 96 }
    }
}
