//! Fifty prepared runs, ten of each kind of trouble: whose doing the likely cause says they were.
//!
//! The runs are made of requests as a browser would report them, with a seeded noise on every phase;
//! the trouble is put in on purpose, so what is right is known.

use cadentis_core::run::cause::{Sure, Who, likely_cause};
use cadentis_core::run::{Outcome, Request, RunRecord, Split, StepRecord};
use cadentis_core::timing::Phases;
use rand::rngs::SmallRng;
use rand::{Rng, SeedableRng};

const SITE: &str = "book.marram.example";
const MAP: &str = "tiles.isles-map.example";

#[derive(Debug, Clone, Copy, PartialEq)]
enum Fault {
    None,
    SlowLookup,
    SlowServer,
    SlowThirdParty,
    HeavyScript,
    LossyPlace,
}

impl Fault {
    fn whose(self) -> Option<Who> {
        match self {
            Fault::None => None,
            Fault::SlowLookup | Fault::LossyPlace => Some(Who::Network),
            Fault::SlowServer => Some(Who::Site),
            Fault::SlowThirdParty => Some(Who::ThirdParty),
            Fault::HeavyScript => Some(Who::Page),
        }
    }
}

/// One step: the document, its script, what the script asks for, the supplier's map, the last work.
fn step(random: &mut SmallRng, fault: Fault) -> StepRecord {
    let extra = if fault == Fault::None { 0.0 } else { random.random_range(500.0..2_500.0) };
    let mut noisy = |ms: f64| ms * random.random_range(0.8..1.35);
    let mut requests: Vec<Request> = Vec::new();
    let mut add = |host: &str, path: &str, kind: &str, start_ms: f64, phases: Phases| -> f64 {
        let end = start_ms + phases.total_ms();
        requests.push(Request {
            url: format!("http://{host}{path}"),
            method: "GET".into(),
            kind: kind.into(),
            status: 200,
            start_ms,
            phases,
            bytes: 9_000,
            protocol: "http/1.1".into(),
            from_cache: false,
            failed: None,
            trace: None,
            asked: Default::default(),
        });
        end
    };
    let new = |noisy: &mut dyn FnMut(f64) -> f64, wait: f64| Phases {
        dns_ms: noisy(6.0),
        connect_ms: noisy(40.0),
        request_ms: 0.4,
        wait_ms: noisy(wait),
        receive_ms: noisy(12.0),
        ..Phases::default()
    };
    let again = |noisy: &mut dyn FnMut(f64) -> f64, wait: f64| Phases {
        queue_ms: noisy(1.0),
        request_ms: 0.3,
        wait_ms: noisy(wait),
        receive_ms: noisy(9.0),
        ..Phases::default()
    };
    let mut phases = [
        new(&mut noisy, 90.0),
        again(&mut noisy, 50.0),
        again(&mut noisy, 150.0),
        new(&mut noisy, 60.0),
    ];
    let mut work = [noisy(25.0), noisy(30.0), noisy(20.0), noisy(60.0)];
    match fault {
        Fault::None => {}
        Fault::SlowLookup => phases[0].dns_ms += extra,
        Fault::SlowServer => phases[2].wait_ms += extra,
        Fault::SlowThirdParty => phases[3].connect_ms += extra,
        Fault::HeavyScript => work[3] += extra,
        Fault::LossyPlace => {
            // A lost packet costs a timeout: of a handshake, of a body, now and then of an answer's first byte.
            let lost = 2 + usize::from(noisy(1.0) > 1.0);
            for n in 0..lost {
                let timeout = extra / lost as f64;
                let phases = &mut phases[[0, 3, 2][n]];
                match noisy(1.0) {
                    x if x < 0.95 && phases.connect_ms > 0.0 => phases.connect_ms += timeout,
                    x if x < 1.28 => phases.receive_ms += timeout,
                    _ => phases.wait_ms += timeout,
                }
            }
        }
    }
    let document = add(SITE, "/sailings", "document", 2.0, phases[0]);
    let script = add(SITE, "/static/app.js", "script", document + work[0], phases[1]);
    let api = add(SITE, "/api/sailings", "fetch", script + work[1], phases[2]);
    let map = add(MAP, "/v2/map.js", "script", api + work[2], phases[3]);
    let duration_ms = map + work[3];
    StepRecord {
        duration_ms,
        requests,
        outcome: Outcome::Slow,
        ..StepRecord::begun("Search", 0.0, Some(900.0))
    }
}

fn run(step: StepRecord) -> RunRecord {
    RunRecord {
        id: uuid::Uuid::nil(),
        started_at: jiff::Timestamp::UNIX_EPOCH,
        outcome: Outcome::Slow,
        duration_ms: step.duration_ms,
        trouble: None,
        steps: vec![step],
        browser: "Chromium".into(),
        runner: "r".into(),
        device: "desktop".into(),
        trial: false,
    }
}

#[test]
fn the_likely_cause_is_right_on_45_of_50_prepared_runs_and_otherwise_not_sure() {
    let faults = [
        Fault::SlowLookup,
        Fault::SlowServer,
        Fault::SlowThirdParty,
        Fault::HeavyScript,
        Fault::LossyPlace,
    ];
    let mut random = SmallRng::seed_from_u64(50);
    let (mut right, mut not_sure, mut wrong) = (0, 0, Vec::new());
    for fault in faults {
        for _ in 0..10 {
            let usual: Vec<Split> =
                (0..20).map(|_| Split::of(&step(&mut random, Fault::None))).collect();
            let cause = likely_cause(&run(step(&mut random, fault)), &usual, |host| host == SITE);
            match cause {
                Some(c) if c.sure == Sure::NotSure => not_sure += 1,
                Some(c) if Some(c.who) == fault.whose() => right += 1,
                other => wrong.push((fault, other.map(|c| c.says))),
            }
        }
    }
    assert!(right >= 45, "{right} right, {not_sure} not sure; {wrong:#?}");
    assert!(wrong.is_empty(), "{wrong:#?}");
}

#[test]
fn a_run_that_is_only_a_little_slower_than_usual_is_blamed_on_nobody_for_sure() {
    let mut random = SmallRng::seed_from_u64(51);
    let sure = (0..200).filter(|_| {
        let usual: Vec<Split> =
            (0..20).map(|_| Split::of(&step(&mut random, Fault::None))).collect();
        let cause = likely_cause(&run(step(&mut random, Fault::None)), &usual, |host| host == SITE);
        cause.is_some_and(|c| c.sure == Sure::Likely && c.extra_ms > 100.0)
    });
    assert_eq!(sure.count(), 0);
}
