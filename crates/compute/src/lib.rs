//! Where all heavy arithmetic runs: a few threads of their own, with a bounded queue before them.
//!
//! So a page that reads ten million page views can neither stall the threads that answer requests nor, since its threads
//! are nice to all others, keep beacons waiting. What waits longer than it may, or for somebody who has gone, is never
//! begun; what has begun stops between its parts when nobody waits any more ([`go_on`]).

use std::cell::RefCell;
use std::panic::{AssertUnwindSafe, catch_unwind, resume_unwind};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::mpsc::{Receiver, SyncSender, TrySendError, sync_channel};
use std::sync::{Arc, Mutex};
use std::thread;
use std::time::Duration;
use tokio::sync::oneshot;
use tokio::time::{Instant, timeout_at};

/// How nice the threads are to all others, from 0 to 19 (setpriority(2)).
const NICE: i32 = 10;

/// What is asked of the pool, and of whom nobody knows yet whether they still wait.
struct Job {
    deadline: Instant,
    /// Does it, or with `false` leaves it.
    work: Box<dyn FnOnce(bool) + Send>,
}

thread_local! {
    /// Whether whoever asked for what this thread computes has gone.
    static GONE: RefCell<Option<Arc<AtomicBool>>> = const { RefCell::new(None) };
}

/// What a computation that nobody waits for ends with.
struct NobodyWaits;

/// Ends the computation that calls it when whoever asked has gone: to be called between its parts, where nothing is locked
/// and nothing half done is shared. Outside of the pool it does nothing.
pub fn go_on() {
    let gone =
        GONE.with_borrow(|gone| gone.as_ref().is_some_and(|gone| gone.load(Ordering::Relaxed)));
    if gone {
        // No panic: nobody made a mistake, and nothing is written to the log.
        resume_unwind(Box::new(NobodyWaits));
    }
}

/// Tells that whoever asked has gone, however that came.
struct Asker(Arc<AtomicBool>);

impl Drop for Asker {
    fn drop(&mut self) {
        self.0.store(true, Ordering::Relaxed);
    }
}

/// A handle to the pool.
#[derive(Clone)]
pub struct Compute {
    jobs: SyncSender<Job>,
    patience: Duration,
    counts: Arc<Counts>,
}

#[derive(Default)]
struct Counts {
    waiting: AtomicU64,
    running: AtomicU64,
    done: AtomicU64,
    left: AtomicU64,
    refused: AtomicU64,
    busy_ms: AtomicU64,
}

/// What the pool has done since it was started.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Load {
    /// What waits now.
    pub waiting: u64,
    /// What is being computed now.
    pub running: u64,
    /// What was computed to its end.
    pub done: u64,
    /// What was never begun, or stopped between its parts: whoever asked had gone, or had waited too long.
    pub left: u64,
    /// What was turned away since too much waited.
    pub refused: u64,
    /// Milliseconds spent computing, over all threads.
    pub busy_ms: u64,
}

/// Why something was not computed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum ComputeError {
    /// So much waits already that nothing more is taken.
    #[error("too many questions wait to be computed")]
    Busy,
    /// It was not ready in time.
    #[error("it was not computed within {} s", .0.as_secs())]
    TooLong(Duration),
    /// It stopped in the middle: a mistake of ours.
    #[error("computing it failed")]
    Failed,
}

impl Compute {
    /// Starts `threads` threads, at least one. At most `waiting` questions wait for them; each is ready within `patience`
    /// or not at all.
    ///
    /// # Errors
    /// When the system gives no threads.
    pub fn start(threads: usize, waiting: usize, patience: Duration) -> std::io::Result<Compute> {
        let (jobs, queue) = sync_channel(waiting);
        let queue = Arc::new(Mutex::new(queue));
        for nth in 0..threads.max(1) {
            let queue = queue.clone();
            thread::Builder::new().name(format!("compute-{nth}")).spawn(move || work(&queue))?;
        }
        Ok(Compute { jobs, patience, counts: Arc::default() })
    }

    /// Computes, and gives what came of it.
    ///
    /// # Errors
    /// When too much waits, it was not ready in time, or it panicked.
    pub async fn run<T: Send + 'static>(
        &self,
        work: impl FnOnce() -> T + Send + 'static,
    ) -> Result<T, ComputeError> {
        let (answer, heard) = oneshot::channel();
        let deadline = Instant::now() + self.patience;
        let counts = self.counts.clone();
        let asker = Asker(Arc::default());
        let gone = asker.0.clone();
        let job = move |begin: bool| {
            counts.waiting.fetch_sub(1, Ordering::Relaxed);
            // Whoever asked may have gone meanwhile.
            if !begin || gone.load(Ordering::Relaxed) {
                counts.left.fetch_add(1, Ordering::Relaxed);
                return;
            }
            counts.running.fetch_add(1, Ordering::Relaxed);
            let begun = std::time::Instant::now();
            GONE.set(Some(gone));
            let result = catch_unwind(AssertUnwindSafe(work));
            GONE.set(None);
            counts.busy_ms.fetch_add(begun.elapsed().as_millis() as u64, Ordering::Relaxed);
            counts.running.fetch_sub(1, Ordering::Relaxed);
            let is_left = result.as_ref().is_err_and(|e| e.is::<NobodyWaits>());
            let ended = if is_left { &counts.left } else { &counts.done };
            ended.fetch_add(1, Ordering::Relaxed);
            let _ = answer.send(result);
        };
        self.counts.waiting.fetch_add(1, Ordering::Relaxed);
        match self.jobs.try_send(Job { deadline, work: Box::new(job) }) {
            Ok(()) => {}
            Err(e) => {
                self.counts.waiting.fetch_sub(1, Ordering::Relaxed);
                self.counts.refused.fetch_add(1, Ordering::Relaxed);
                return Err(match e {
                    TrySendError::Full(_) => ComputeError::Busy,
                    TrySendError::Disconnected(_) => ComputeError::Failed,
                });
            }
        }
        match timeout_at(deadline, heard).await {
            Ok(Ok(Ok(result))) => Ok(result),
            Ok(Ok(Err(_))) => Err(ComputeError::Failed),
            Ok(Err(_)) | Err(_) => Err(ComputeError::TooLong(self.patience)),
        }
    }

    /// What it has done, and what waits for it.
    pub fn load(&self) -> Load {
        let of = |count: &AtomicU64| count.load(Ordering::Relaxed);
        let c = &self.counts;
        Load {
            waiting: of(&c.waiting),
            running: of(&c.running),
            done: of(&c.done),
            left: of(&c.left),
            refused: of(&c.refused),
            busy_ms: of(&c.busy_ms),
        }
    }
}

/// One thread of the pool: it ends when nobody can ask any more.
fn work(queue: &Mutex<Receiver<Job>>) {
    // On Linux each thread has a niceness of its own, which threads that it starts inherit.
    if let Err(e) = rustix::process::setpriority_process(None, NICE) {
        tracing::debug!("computing is as urgent as all else: {e}");
    }
    loop {
        // Held only while waiting for the next job, never while doing it.
        let next = match queue.lock() {
            Ok(queue) => queue.recv(),
            Err(_) => return,
        };
        let Ok(job) = next else { return };
        (job.work)(Instant::now() < job.deadline);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::mpsc::channel;

    fn pool(threads: usize, waiting: usize) -> Compute {
        Compute::start(threads, waiting, Duration::from_secs(20)).unwrap()
    }

    /// Keeps one thread of the pool at work until the sender goes.
    async fn occupy(pool: &Compute) -> std::sync::mpsc::Sender<()> {
        let (release, held) = channel::<()>();
        let (begun, begins) = oneshot::channel();
        let other = pool.clone();
        tokio::spawn(async move {
            other
                .run(move || {
                    let _ = begun.send(());
                    let _ = held.recv();
                })
                .await
        });
        begins.await.unwrap();
        release
    }

    #[tokio::test]
    async fn what_is_computed_comes_back_and_a_panic_is_an_error_that_takes_no_thread_with_it() {
        let pool = pool(1, 4);
        assert_eq!(pool.run(|| 6 * 7).await, Ok(42));
        for _ in 0..3 {
            assert_eq!(
                pool.run(|| -> u8 { panic!("on purpose") }).await,
                Err(ComputeError::Failed)
            );
        }
        assert_eq!(pool.run(|| 1).await, Ok(1));
        assert_eq!((pool.load().done, pool.load().waiting, pool.load().running), (5, 0, 0));
    }

    #[tokio::test]
    async fn only_so_much_waits_and_what_is_over_it_is_refused_at_once() {
        let pool = pool(1, 2);
        let release = occupy(&pool).await;
        let waiting: Vec<_> = (0..2)
            .map(|n| {
                let pool = pool.clone();
                tokio::spawn(async move { pool.run(move || n).await })
            })
            .collect();
        while pool.load().waiting < 2 {
            tokio::task::yield_now().await;
        }
        assert_eq!(pool.run(|| 9).await, Err(ComputeError::Busy));
        drop(release);
        for (n, answer) in waiting.into_iter().enumerate() {
            assert_eq!(answer.await.unwrap(), Ok(n));
        }
        assert_eq!(pool.load().refused, 1);
    }

    #[tokio::test]
    async fn nothing_is_begun_for_somebody_who_has_gone() {
        let pool = pool(1, 4);
        let release = occupy(&pool).await;
        let begun = Arc::new(AtomicBool::new(false));
        let (other, seen) = (pool.clone(), begun.clone());
        let reader =
            tokio::spawn(
                async move { other.run(move || seen.store(true, Ordering::SeqCst)).await },
            );
        while pool.load().waiting < 1 {
            tokio::task::yield_now().await;
        }
        reader.abort();
        let _ = reader.await;
        drop(release);
        assert_eq!(pool.run(|| 1).await, Ok(1), "what came behind it is done");
        assert!(!begun.load(Ordering::SeqCst));
        assert_eq!(pool.load().left, 1);
    }

    #[tokio::test]
    async fn what_has_begun_stops_between_its_parts_when_nobody_waits_any_more() {
        let pool = pool(1, 4);
        let (begun, begins) = oneshot::channel();
        let other = pool.clone();
        let reader = tokio::spawn(async move {
            let parts = move || {
                let _ = begun.send(());
                // Far longer than anybody waits here.
                let until = Instant::now() + Duration::from_secs(10);
                while Instant::now() < until {
                    go_on();
                    thread::yield_now();
                }
            };
            other.run::<()>(parts).await
        });
        begins.await.unwrap();
        assert_eq!(pool.load().running, 1);
        reader.abort();
        let _ = reader.await;
        let next = pool.run(|| {
            go_on();
            1
        });
        assert_eq!(next.await, Ok(1), "whoever waits gets an answer from the same thread");
        assert_eq!((pool.load().left, pool.load().done, pool.load().running), (1, 1, 0));
        // Where nobody asked, nothing ends.
        go_on();
    }

    #[tokio::test]
    async fn what_has_waited_too_long_is_told_so_and_never_begun() {
        let pool = Compute::start(1, 4, Duration::from_millis(50)).unwrap();
        let release = occupy(&pool).await;
        let begun = Arc::new(AtomicBool::new(false));
        let seen = begun.clone();
        let late = pool.run(move || seen.store(true, Ordering::SeqCst)).await;
        assert_eq!(late, Err(ComputeError::TooLong(Duration::from_millis(50))));
        drop(release);
        assert_eq!(pool.run(|| 1).await, Ok(1));
        assert!(!begun.load(Ordering::SeqCst));
    }

    #[tokio::test]
    async fn threads_of_the_pool_are_nice_and_those_that_answer_are_not() {
        let nice = || rustix::process::getpriority_process(None).unwrap();
        let here = nice();
        let there = pool(1, 1).run(nice).await.unwrap();
        assert!(there >= NICE.max(here), "{here} here, {there} there");
    }
}
