//! Work that goes on for ever beside what is asked for: named, restarted after a panic, and seen.
//!
//! A worker is a function that does one round and says how long to rest. It tells nobody how it is: whether it panicked, and
//! when it last did a round to the end, is noted here and read by health.

use std::collections::BTreeMap;
use std::future::Future;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

/// The first rest after a round that failed or panicked, and the longest.
const FIRST_REST: Duration = Duration::from_secs(1);
const LONGEST_REST: Duration = Duration::from_secs(60);

/// Every worker of this process.
#[derive(Debug, Clone, Default)]
pub struct Workers(Arc<Mutex<BTreeMap<&'static str, Account>>>);

#[derive(Debug, Clone)]
struct Account {
    begun: Instant,
    last_success: Option<Instant>,
    restarts: u64,
    trouble: Option<String>,
    /// Without a round done to the end for so long it is not well.
    patience: Duration,
}

/// How one worker is.
#[derive(Debug, Clone, PartialEq)]
pub struct Report {
    pub name: &'static str,
    /// Since it last did a round to the end; `None` when it never did.
    pub last_success: Option<Duration>,
    /// How often it panicked.
    pub restarts: u64,
    /// What the newest round failed of; `None` when it did not.
    pub trouble: Option<String>,
    pub is_well: bool,
}

impl Workers {
    /// Does rounds of this work for ever. A round gives the time to rest, or what went wrong; after that, and after a
    /// panic, it rests longer each time. `patience` is how long it may go without a round done to the end.
    pub fn start<F, R>(
        &self,
        name: &'static str,
        patience: Duration,
        mut round: F,
    ) -> tokio::task::JoinHandle<()>
    where
        F: FnMut() -> R + Send + 'static,
        R: Future<Output = Result<Duration, String>> + Send + 'static,
    {
        self.note(name, |_| {}, patience);
        let workers = self.clone();
        tokio::spawn(async move {
            let mut rest = FIRST_REST;
            loop {
                // In a task of its own: a panic ends that and not us.
                let done = tokio::spawn(round()).await;
                let wait = match done {
                    Ok(Ok(wait)) => {
                        rest = FIRST_REST;
                        workers.note(
                            name,
                            |a| {
                                a.last_success = Some(Instant::now());
                                a.trouble = None;
                            },
                            patience,
                        );
                        wait
                    }
                    Ok(Err(says)) => {
                        tracing::warn!("{name} waits: {says}");
                        workers.note(name, |a| a.trouble = Some(says), patience);
                        longer(&mut rest)
                    }
                    Err(e) if e.is_panic() => {
                        tracing::error!("{name} panicked and begins again");
                        workers.note(
                            name,
                            |a| {
                                a.restarts += 1;
                                a.trouble = Some("it panicked".into());
                            },
                            patience,
                        );
                        longer(&mut rest)
                    }
                    // The program ends.
                    Err(_) => return,
                };
                tokio::time::sleep(wait).await;
            }
        })
    }

    fn note(&self, name: &'static str, change: impl FnOnce(&mut Account), patience: Duration) {
        let Ok(mut all) = self.0.lock() else { return };
        let new = || Account {
            begun: Instant::now(),
            last_success: None,
            restarts: 0,
            trouble: None,
            patience,
        };
        change(all.entry(name).or_insert_with(new));
    }

    /// How every worker is, by name.
    pub fn report(&self) -> Vec<Report> {
        let Ok(all) = self.0.lock() else { return Vec::new() };
        let report = |(name, a): (&&'static str, &Account)| Report {
            name,
            last_success: a.last_success.map(|at| at.elapsed()),
            restarts: a.restarts,
            trouble: a.trouble.clone(),
            is_well: a.last_success.unwrap_or(a.begun).elapsed() <= a.patience,
        };
        all.iter().map(report).collect()
    }
}

fn longer(rest: &mut Duration) -> Duration {
    let now = *rest;
    *rest = (*rest * 2).min(LONGEST_REST);
    now
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::atomic::{AtomicUsize, Ordering};

    #[tokio::test(start_paused = true)]
    async fn a_worker_that_panics_begins_again_and_is_not_well_until_it_does_a_round() {
        let workers = Workers::default();
        let rounds = Arc::new(AtomicUsize::new(0));
        let counted = rounds.clone();
        workers.start("roll-up", Duration::from_secs(3_600), move || {
            let n = counted.fetch_add(1, Ordering::SeqCst);
            async move {
                match n {
                    0 => panic!("as wished"),
                    1 => Err("the database is away".to_string()),
                    _ => Ok(Duration::from_secs(5)),
                }
            }
        });
        let of = |workers: &Workers| workers.report().remove(0);
        tokio::time::sleep(Duration::from_millis(100)).await;
        let first = of(&workers);
        assert_eq!(
            (first.restarts, first.last_success, first.trouble.as_deref()),
            (1, None, Some("it panicked"))
        );
        // The rests grow: one second, then two.
        tokio::time::sleep(Duration::from_millis(1_100)).await;
        assert_eq!(of(&workers).trouble.as_deref(), Some("the database is away"));
        tokio::time::sleep(Duration::from_millis(2_100)).await;
        let third = of(&workers);
        assert!(
            third.last_success.is_some() && third.trouble.is_none() && third.is_well,
            "{third:?}"
        );
        assert_eq!((third.restarts, rounds.load(Ordering::SeqCst)), (1, 3));
    }

    #[tokio::test]
    async fn a_worker_without_a_round_for_longer_than_its_patience_is_not_well() {
        let workers = Workers::default();
        workers.start("due runs", Duration::ZERO, || async { Err("no".to_string()) });
        tokio::time::sleep(Duration::from_millis(20)).await;
        assert!(!workers.report()[0].is_well);
    }

    #[test]
    fn rests_grow_to_a_minute() {
        let mut rest = FIRST_REST;
        let rests: Vec<u64> = (0..8).map(|_| longer(&mut rest).as_secs()).collect();
        assert_eq!(rests, [1, 2, 4, 8, 16, 32, 60, 60]);
    }
}
