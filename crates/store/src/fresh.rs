//! Hours that have changed since they were filed, filed in memory: once for each change, by one, for all who ask.
//!
//! While page views pour in, an hour changes with every batch. Filing it anew for every question would then take more of
//! the machine than taking them does, so what was dear to file is answered for a while as it was: see [`Hour::is_good`].

use crate::db::{Db, Result};
use crate::sheet::{Filed, file, rows_of};
use cadentis_core::calendar::stretch::at_second;
use cadentis_core::visitor::{PageView, Sheet};
use jiff::Timestamp;
use sqlx::PgConnection;
use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::sync::{Mutex, OwnedMutexGuard};

/// As much of them as is kept, in bytes.
const KEPT: u64 = 256 << 20;
/// Ids of people among it, it is kept no longer than this, whatever became of the hour meanwhile.
const KEPT_FOR: Duration = Duration::from_secs(90);
/// What is filed within this is always filed anew: so what is answered lags only where page views come by the hundred
/// thousand in an hour.
const CHEAP: Duration = Duration::from_millis(250);
/// What took longer to file is good for so many times as long: a tenth of one processor goes into it at most.
const REST: u32 = 10;
/// But no longer than this.
const LONGEST_REST: Duration = Duration::from_secs(60);
/// How many hours may be filed at a time.
const TURNS: usize = 64;

/// Site and hour in seconds since 1970.
type Key = (i32, i64);

/// An hour as it was when it was filed.
#[derive(Debug)]
pub(crate) struct Hour {
    /// The newest change that is in it.
    marked_at: Timestamp,
    /// The site's domains, which say what is first party.
    domains: Vec<String>,
    filed_at: Instant,
    took: Duration,
    views: Sheet,
    told: Sheet,
    failed: Sheet,
}

impl Hour {
    fn of(
        hour_s: i64,
        marked_at: Timestamp,
        views: &[PageView],
        domains: &[String],
        begun: Instant,
    ) -> Result<Hour> {
        let of = |what| file(what, at_second(hour_s), views, domains);
        let (told, failed) = (of(Filed::Happenings)?, of(Filed::Failures)?);
        let views = of(Filed::PageViews)?;
        let domains = domains.to_vec();
        Ok(Hour {
            marked_at,
            domains,
            filed_at: Instant::now(),
            took: begun.elapsed(),
            views,
            told,
            failed,
        })
    }

    /// Whether it answers for an hour that was last marked then.
    fn is_good(&self, marked_at: Timestamp, domains: &[String]) -> bool {
        let age = self.filed_at.elapsed();
        let rests = self.took > CHEAP && age < (self.took * REST).min(LONGEST_REST);
        self.domains == domains && age < KEPT_FOR && (self.marked_at >= marked_at || rests)
    }

    pub(crate) fn sheet(&self, what: Filed) -> &Sheet {
        match what {
            Filed::PageViews => &self.views,
            Filed::Happenings => &self.told,
            Filed::Failures => &self.failed,
        }
    }
}

#[derive(Debug, Clone)]
struct Weight;

impl quick_cache::Weighter<Key, Arc<Hour>> for Weight {
    fn weight(&self, _: &Key, hour: &Arc<Hour>) -> u64 {
        let of = |s: &Sheet| s.columns().map(|(_, c)| c.weight() as u64 + 100).sum::<u64>();
        of(&hour.views) + of(&hour.told) + of(&hour.failed)
    }
}

/// Hours in memory, and whose turn it is to file one.
#[derive(Debug)]
pub(crate) struct Fresh {
    hours: quick_cache::sync::Cache<Key, Arc<Hour>, Weight>,
    turns: Vec<Arc<Mutex<()>>>,
}

impl Fresh {
    pub(crate) fn new() -> Arc<Fresh> {
        Arc::new(Fresh {
            hours: quick_cache::sync::Cache::with_weighter(TURNS, KEPT, Weight),
            turns: (0..TURNS).map(|_| Arc::default()).collect(),
        })
    }

    fn good(&self, key: Key, marked_at: Timestamp, domains: &[String]) -> Option<Arc<Hour>> {
        self.hours.get(&key).filter(|hour| hour.is_good(marked_at, domains))
    }

    /// Forgets what was kept for its time.
    pub(crate) fn sweep(&self) {
        self.hours.retain(|_, hour| hour.filed_at.elapsed() < KEPT_FOR);
    }

    /// Forgets everything: whoever erases a person looks at what is there now, and so do all who ask after.
    pub(crate) fn forget(&self) {
        self.hours.clear();
    }

    /// Waits for the turn at these hours. All who ask take turns in one order, so nobody waits for who waits for them.
    async fn turns(&self, keys: impl Iterator<Item = Key>) -> Vec<OwnedMutexGuard<()>> {
        let mut wanted: Vec<usize> = keys
            .map(|(site, hour_s)| {
                usize::try_from((hour_s / 3_600 + i64::from(site)).rem_euclid(TURNS as i64))
                    .unwrap_or(0)
            })
            .collect();
        wanted.sort_unstable();
        wanted.dedup();
        let mut held = Vec::with_capacity(wanted.len());
        for turn in wanted {
            if let Some(turn) = self.turns.get(turn) {
                held.push(turn.clone().lock_owned().await);
            }
        }
        held
    }
}

/// The rows of an hour that nobody has filed yet.
struct Unfiled {
    hour_s: i64,
    marked_at: Timestamp,
    rows: Vec<String>,
    begun: Instant,
}

/// What changed hours are answered from: those in memory, and the rows of others, with the turn at filing them.
pub(crate) struct Changed {
    site_id: i32,
    domains: Vec<String>,
    held: Vec<Arc<Hour>>,
    unfiled: Vec<Unfiled>,
    turns: Vec<OwnedMutexGuard<()>>,
}

impl Db {
    /// Gathers changed hours, with the moment each was last marked, inside a transaction that sees them so.
    pub(crate) async fn changed(
        &self,
        tx: &mut PgConnection,
        site_id: i32,
        marked: &BTreeMap<Timestamp, Timestamp>,
    ) -> Result<Changed> {
        let mut changed = Changed {
            site_id,
            domains: Vec::new(),
            held: Vec::new(),
            unfiled: Vec::new(),
            turns: Vec::new(),
        };
        if marked.is_empty() {
            return Ok(changed);
        }
        changed.domains = self.domains(tx, site_id).await?;
        let good = |hour: Timestamp, marked_at: Timestamp| {
            self.fresh.good((site_id, hour.as_second()), marked_at, &changed.domains)
        };
        let others = marked.iter().filter(|(hour, at)| good(**hour, **at).is_none());
        let others: Vec<Key> = others.map(|(hour, _)| (site_id, hour.as_second())).collect();
        let turns = self.fresh.turns(others.into_iter()).await;
        for (hour, marked_at) in marked {
            // Whoever had the turn before may have filed it.
            if let Some(held) = good(*hour, *marked_at) {
                changed.held.push(held);
                continue;
            }
            let begun = Instant::now();
            let rows = rows_of(tx, site_id, *hour).await?;
            let (hour_s, marked_at) = (hour.as_second(), *marked_at);
            changed.unfiled.push(Unfiled { hour_s, marked_at, rows, begun });
        }
        changed.turns = turns;
        Ok(changed)
    }

    /// Files what nobody has filed yet, keeps it for others, and gives all of it.
    pub(crate) async fn file_changed(&self, changed: Changed) -> Result<Vec<Arc<Hour>>> {
        let Changed { site_id, domains, mut held, unfiled, turns } = changed;
        if unfiled.is_empty() {
            return Ok(held);
        }
        let fresh = self.fresh.clone();
        let filing = self.heavily(move || {
            for Unfiled { hour_s, marked_at, rows, begun } in unfiled {
                let views = crate::page_view::read(rows)?;
                let hour = Arc::new(Hour::of(hour_s, marked_at, &views, &domains, begun)?);
                fresh.hours.insert((site_id, hour_s), hour.clone());
                held.push(hour);
            }
            // Whoever waits finds it now.
            drop(turns);
            Ok(held)
        });
        filing.await?
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn hour(took: Duration, age: Duration) -> Hour {
        let (marked_at, begun) = (at_second(100), Instant::now());
        let mut hour = Hour::of(0, marked_at, &[], &["marram.example".into()], begun).unwrap();
        hour.took = took;
        hour.filed_at = Instant::now().checked_sub(age).unwrap();
        hour
    }

    #[test]
    fn an_hour_is_good_for_its_change_and_while_it_rests_for_later_ones() {
        let ours = ["marram.example".to_string()];
        let s = Duration::from_secs;
        let cheap = hour(CHEAP, Duration::ZERO);
        assert!(cheap.is_good(at_second(100), &ours));
        assert!(!cheap.is_good(at_second(101), &ours), "what is cheap is never late");
        assert!(!cheap.is_good(at_second(100), &[]), "another site's first party");
        let dear = |age| hour(Duration::from_millis(400), age).is_good(at_second(101), &ours);
        assert!(dear(s(3)) && !dear(s(5)), "ten times 400 ms");
        let dearest = |age| hour(s(8), age).is_good(at_second(101), &ours);
        assert!(dearest(s(59)) && !dearest(s(61)), "but never longer");
        assert!(!hour(CHEAP, s(91)).is_good(at_second(100), &ours), "ids are not kept");
    }
}
