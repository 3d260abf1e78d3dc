//! Trouble put into the stand-in site and the network before it, ten times each kind: whose doing the likely cause of the
//! run that was really played says it was.

use crate::{ALONE, World, world};
use cadentis_core::journey::parse;
use cadentis_core::run::cause::{Cause, Sure, Who, likely_cause};
use cadentis_core::run::{Outcome, RunRecord, Split};
use cadentis_runner::{Setting, play};
use cadentis_standins::places::{BOOKING_HOST, MAP_HOST};
use rand::rngs::SmallRng;
use rand::{Rng, SeedableRng};

const SCRIPT: &str = r##"script "Search"
step "Search sailings"
  open http://book.marram.example/sailings?from=Skarholm&to=Lunnasay
  mark "map in place" when css "#map img"
  expect element list "Sailings"
  within 600 ms
"##;

/// How often each kind of trouble is played.
const TIMES: usize = 10;
/// Runs without trouble, which all are compared with.
const USUAL: usize = 14;

#[derive(Debug, Clone, Copy, PartialEq)]
enum Fault {
    SlowConnection,
    SlowServer,
    SlowThirdParty,
    HeavyScript,
    LossyPlace,
}

impl Fault {
    const ALL: [Fault; 5] = [
        Fault::SlowConnection,
        Fault::SlowServer,
        Fault::SlowThirdParty,
        Fault::HeavyScript,
        Fault::LossyPlace,
    ];

    fn whose(self) -> Who {
        match self {
            Fault::SlowConnection | Fault::LossyPlace => Who::Network,
            Fault::SlowServer => Who::Site,
            Fault::SlowThirdParty => Who::ThirdParty,
            Fault::HeavyScript => Who::Page,
        }
    }

    /// Puts it in, `extra_ms` of it.
    fn begin(self, w: &World, extra_ms: u64) {
        let slow_to_connect = |host: &str| {
            w.proxy.change(|p| p.slow_to_connect = [(host.to_string(), extra_ms as f64)].into())
        };
        match self {
            Fault::SlowConnection => slow_to_connect(BOOKING_HOST),
            Fault::SlowServer => w.site.change(|s| s.slow_api_ms = extra_ms),
            Fault::SlowThirdParty => slow_to_connect(MAP_HOST),
            Fault::HeavyScript => w.site.change(|s| s.heavy_script_ms = extra_ms),
            Fault::LossyPlace => w.proxy.change(|p| p.loss = 0.3),
        }
    }

    fn end(w: &World) {
        w.site.change(|s| *s = Default::default());
        w.proxy.change(|p| (p.loss, p.slow_to_connect) = (0.0, Default::default()));
    }
}

async fn played(w: &World) -> RunRecord {
    let setting = Setting { proxy: Some(w.proxy.address), pictures: false, ..Setting::default() };
    play(&parse(SCRIPT).expect("a script"), &setting, |_| {}).await
}

/// One run more without trouble, if it passes.
async fn without_trouble(w: &World) -> Option<Split> {
    let run = played(w).await;
    (run.outcome == Outcome::Passed).then(|| Split::of(&run.steps[0]))
}

/// What a run with this trouble is said to be the doing of. A run that the trouble spared is played again: one that was not
/// slow, or that lost packets of one host only, which nobody can tell from trouble of that host. One packet may cost nothing:
/// two of each host are lost, at least.
async fn caused(w: &World, fault: Fault, extra_ms: u64, usual: &[Split]) -> Cause {
    for _ in 0..10 {
        let lost = || [BOOKING_HOST, MAP_HOST].map(|host| w.proxy.lost(host));
        let before = lost();
        fault.begin(w, extra_ms);
        let run = played(w).await;
        Fault::end(w);
        assert_ne!(run.outcome, Outcome::Unmeasured, "{fault:?}: {:?}", run.trouble);
        let spared = fault == Fault::LossyPlace
            && lost().iter().zip(before).any(|(now, before)| *now < before + 2);
        if run.outcome == Outcome::Slow
            && !spared
            && let Some(cause) = likely_cause(&run, usual, |host| host == BOOKING_HOST)
        {
            return cause;
        }
    }
    panic!("{fault:?} of {extra_ms} ms never made the step slow")
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_likely_cause_of_trouble_that_was_really_played_is_right_or_not_sure_and_never_wrong() {
    let _alone = ALONE.lock().await;
    let w = world("bergen").await;
    Fault::end(&w);
    let mut usual = Vec::new();
    while usual.len() < USUAL {
        usual.extend(without_trouble(&w).await);
    }
    let mut random = SmallRng::seed_from_u64(5);
    let (mut right, mut not_sure, mut wrong) = (0, Vec::new(), Vec::new());
    for fault in Fault::ALL {
        for _ in 0..TIMES {
            let cause = caused(&w, fault, random.random_range(700..2_000), &usual).await;
            println!("{fault:?}: {:?}: {:?}: {}", cause.who, cause.sure, cause.says);
            match cause.sure {
                Sure::NotSure => not_sure.push((fault, cause.says)),
                _ if cause.who == fault.whose() => right += 1,
                _ => wrong.push((fault, cause.who, cause.says)),
            }
            // What is usual are the last runs without trouble: a machine that has less to give by now shows in both.
            if let Some(run) = without_trouble(&w).await {
                usual.remove(0);
                usual.push(run);
            }
        }
    }
    assert!(wrong.is_empty(), "{wrong:#?}");
    assert!(right >= 40, "{right} right; not sure: {not_sure:#?}");
    w.site.stop().await;
}
