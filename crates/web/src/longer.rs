//! Answers that take longer than people wait for: computed beside the page, which shows how far they are and may be left or
//! stopped, and shown once they are there.

use std::collections::HashMap;
use std::future::Future;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};
use tokio::task::{JoinError, JoinHandle};
use uuid::Uuid;

/// So many are computed or kept at a time; of somebody, so many.
const MOST: usize = 48;
const MOST_OF_ONE: usize = 3;
/// What nobody asks for any more is let go of.
const PATIENCE: Duration = Duration::from_secs(60);

struct Begun<T> {
    /// Whose it is: nobody else is told.
    owner: i32,
    asked: Instant,
    /// Taken out while somebody waits for it.
    work: Option<JoinHandle<T>>,
    stop: tokio::task::AbortHandle,
}

impl<T> Drop for Begun<T> {
    fn drop(&mut self) {
        self.stop.abort();
    }
}

/// Answers on their way.
pub struct Longer<T> {
    begun: Arc<Mutex<HashMap<Uuid, Begun<T>>>>,
}

impl<T> Clone for Longer<T> {
    fn clone(&self) -> Longer<T> {
        Longer { begun: self.begun.clone() }
    }
}

impl<T> Default for Longer<T> {
    fn default() -> Longer<T> {
        Longer { begun: Arc::default() }
    }
}

/// How an answer stands.
#[derive(Debug, PartialEq, Eq)]
pub enum Waited<T> {
    /// It is there, and told once.
    Done(T),
    /// It is still being computed.
    Still,
    /// There is none: it was told, stopped, or let go of.
    Gone,
}

impl<T: Send + 'static> Longer<T> {
    fn all(&self) -> MutexGuard<'_, HashMap<Uuid, Begun<T>>> {
        self.begun.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Begins to compute for somebody; what they began before that is more than they may have is stopped.
    pub fn begin(&self, owner: i32, work: impl Future<Output = T> + Send + 'static) -> Uuid {
        let mut all = self.all();
        all.retain(|_, b| b.asked.elapsed() < PATIENCE);
        let oldest = |all: &HashMap<Uuid, Begun<T>>, is: &dyn Fn(&Begun<T>) -> bool| {
            let those = all.iter().filter(|(_, b)| is(b));
            those.min_by_key(|(_, b)| b.asked).map(|(id, _)| *id)
        };
        if all.values().filter(|b| b.owner == owner).count() >= MOST_OF_ONE
            && let Some(id) = oldest(&all, &|b| b.owner == owner)
        {
            all.remove(&id);
        }
        if all.len() >= MOST
            && let Some(id) = oldest(&all, &|_| true)
        {
            all.remove(&id);
        }
        let ticket = Uuid::new_v4();
        let work = tokio::spawn(work);
        let (stop, asked) = (work.abort_handle(), Instant::now());
        all.insert(ticket, Begun { owner, asked, work: Some(work), stop });
        ticket
    }

    /// Waits for an answer for so long at most.
    pub async fn wait(&self, owner: i32, ticket: Uuid, patience: Duration) -> Waited<T> {
        let work = match self.all().get_mut(&ticket).filter(|b| b.owner == owner) {
            None => return Waited::Gone,
            Some(begun) => {
                begun.asked = Instant::now();
                begun.work.take()
            }
        };
        // Somebody waits for it in another window.
        let Some(work) = work else {
            tokio::time::sleep(patience).await;
            return Waited::Still;
        };
        // Whoever leaves while waiting leaves it as it was.
        let mut waiting = Waiting { longer: self, ticket, work: Some(work) };
        let ended: Option<Result<T, JoinError>> = match waiting.work.as_mut() {
            Some(work) => tokio::time::timeout(patience, work).await.ok(),
            None => None,
        };
        match ended {
            None => Waited::Still,
            Some(ended) => {
                waiting.work = None;
                self.all().remove(&ticket);
                ended.map_or(Waited::Gone, Waited::Done)
            }
        }
    }

    /// Whether it is on its way.
    pub fn knows(&self, ticket: Uuid) -> bool {
        self.all().contains_key(&ticket)
    }

    /// Whether somebody's is still being computed; somebody looks at it then.
    pub fn goes_on(&self, owner: i32, ticket: Uuid) -> bool {
        match self.all().get_mut(&ticket).filter(|b| b.owner == owner) {
            Some(begun) => {
                begun.asked = Instant::now();
                !begun.stop.is_finished()
            }
            None => false,
        }
    }

    /// Stops computing; whether there was something to stop.
    pub fn stop(&self, owner: i32, ticket: Uuid) -> bool {
        let mut all = self.all();
        let is_theirs = all.get(&ticket).is_some_and(|b| b.owner == owner);
        is_theirs && all.remove(&ticket).is_some()
    }
}

/// Puts an answer that is waited for back when the waiting ends.
struct Waiting<'a, T: Send + 'static> {
    longer: &'a Longer<T>,
    ticket: Uuid,
    work: Option<JoinHandle<T>>,
}

impl<T: Send + 'static> Drop for Waiting<'_, T> {
    fn drop(&mut self) {
        if let Some(work) = self.work.take()
            && let Some(begun) = self.longer.all().get_mut(&self.ticket)
        {
            begun.work = Some(work);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::atomic::{AtomicBool, Ordering};
    use tokio::sync::oneshot;

    const MOMENT: Duration = Duration::from_millis(5);

    /// Work that goes on until it is told to end, and says when it was let go of.
    fn work() -> (oneshot::Sender<u8>, Arc<AtomicBool>, impl Future<Output = u8> + Send) {
        struct Gone(Arc<AtomicBool>);
        impl Drop for Gone {
            fn drop(&mut self) {
                self.0.store(true, Ordering::SeqCst);
            }
        }
        let (end, ended) = oneshot::channel();
        let is_gone = Arc::new(AtomicBool::new(false));
        let gone = Gone(is_gone.clone());
        (end, is_gone, async move {
            let _gone = gone;
            ended.await.unwrap_or(0)
        })
    }

    #[tokio::test]
    async fn an_answer_is_told_once_it_is_there_once_and_to_nobody_else() {
        let longer = Longer::default();
        let (end, _, work) = work();
        let ticket = longer.begin(1, work);
        assert_eq!(longer.wait(1, ticket, MOMENT).await, Waited::Still);
        assert_eq!(longer.wait(2, ticket, MOMENT).await, Waited::Gone, "it is not theirs");
        assert!(longer.goes_on(1, ticket) && !longer.goes_on(2, ticket));
        end.send(7).expect("it goes on");
        assert_eq!(longer.wait(1, ticket, PATIENCE).await, Waited::Done(7));
        assert_eq!(longer.wait(1, ticket, MOMENT).await, Waited::Gone);
    }

    #[tokio::test]
    async fn what_is_stopped_ends_and_what_somebody_only_left_goes_on() {
        let longer = Longer::default();
        let (end, gone, it) = work();
        let ticket = longer.begin(1, it);
        // Left while it is waited for.
        let left = tokio::time::timeout(MOMENT, longer.wait(1, ticket, PATIENCE)).await;
        assert!(left.is_err() && !gone.load(Ordering::SeqCst));
        end.send(3).expect("it goes on");
        assert_eq!(longer.wait(1, ticket, PATIENCE).await, Waited::Done(3));

        let (_end, gone, it) = work();
        let ticket = longer.begin(1, it);
        assert!(!longer.stop(2, ticket), "it is not theirs");
        assert!(longer.stop(1, ticket));
        for _ in 0..200 {
            if gone.load(Ordering::SeqCst) {
                break;
            }
            tokio::time::sleep(MOMENT).await;
        }
        assert!(gone.load(Ordering::SeqCst), "nobody computes what nobody wants");
        assert_eq!(longer.wait(1, ticket, MOMENT).await, Waited::Gone);
        assert!(!longer.stop(1, ticket), "once");
    }

    #[tokio::test]
    async fn whoever_begins_more_than_they_may_have_loses_the_oldest_and_others_keep_theirs() {
        let longer = Longer::default();
        let (mut ends, mut tickets) = (Vec::new(), Vec::new());
        let (_end, _, other) = work();
        let theirs = longer.begin(2, other);
        for _ in 0..=MOST_OF_ONE {
            let (end, _, it) = work();
            ends.push(end);
            tickets.push(longer.begin(1, it));
        }
        assert_eq!(longer.wait(1, tickets[0], MOMENT).await, Waited::Gone);
        assert_eq!(longer.wait(1, tickets[MOST_OF_ONE], MOMENT).await, Waited::Still);
        assert_eq!(longer.wait(2, theirs, MOMENT).await, Waited::Still);
        for owner in 10..10 + 2 * MOST as i32 {
            let (end, _, it) = work();
            ends.push(end);
            longer.begin(owner, it);
        }
        assert!(longer.all().len() <= MOST, "nothing grows without bound");
    }

    #[tokio::test]
    async fn work_that_panics_is_gone_and_takes_nobody_with_it() {
        let longer: Longer<u8> = Longer::default();
        let ticket = longer.begin(1, async { panic!("on purpose") });
        assert_eq!(longer.wait(1, ticket, PATIENCE).await, Waited::Gone);
    }
}
