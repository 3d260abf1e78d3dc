//! Hours of page views that goals are judged by, as many in memory as were counted lately.
//!
//! An hour that is filed changes seldom, and a goal counts each hour of its period whenever somebody looks. Each is known by
//! the transaction that filed it, so that what is filed anew is counted anew.

use crate::samples;
use crate::{Answers, Result};
use cadentis_core::calendar::Stretch;
use cadentis_core::calendar::stretch::at_second;
use cadentis_core::goal::hours::{Hour, count, whole};
use cadentis_core::measure::Measured;
use cadentis_core::measure::sheets::Gather;
use cadentis_core::measure::windowed::MINUTE_S;
use cadentis_core::visitor::Attribute;
use quick_cache::sync::Cache;
use std::collections::BTreeMap;
use std::sync::Arc;

/// Site, the measure with what it is told apart by, and the hour in seconds since 1970.
type Key = (i32, Arc<str>, i64);

/// As much as is kept in memory, in bytes: six months of a dozen goals.
const HELD: u64 = 64 << 20;
/// So many hours are read at a time, at most: what was read before is let go of.
const AT_ONCE: usize = 31 * 24;

#[derive(Debug, Clone)]
pub(crate) struct Held {
    /// The transaction that filed it.
    stamp: i64,
    hour: Arc<Hour>,
}

#[derive(Debug, Clone)]
pub(crate) struct Weight;

impl quick_cache::Weighter<Key, Held> for Weight {
    fn weight(&self, _: &Key, held: &Held) -> u64 {
        held.hour.weight() as u64 + 120
    }
}

/// Hours that were counted lately.
pub(crate) type Hours = Cache<Key, Held, Weight>;

pub(crate) fn remembered() -> Arc<Hours> {
    Arc::new(Cache::with_weighter(40_000, HELD, Weight))
}

/// Hours that follow each other.
fn in_rows(missing: &[(i64, Option<i64>)]) -> impl Iterator<Item = &[(i64, Option<i64>)]> {
    missing.chunk_by(|a, b| whole(a.0).to == at_second(b.0)).flat_map(|row| row.chunks(AT_ONCE))
}

/// What the whole hours of a stretch held: by their minutes, or by the values of an attribute.
pub(super) async fn counted(
    answers: &Answers,
    site_id: i32,
    of: &Measured,
    by: Option<&Attribute>,
    stretch: Stretch,
) -> Result<BTreeMap<i64, Arc<Hour>>> {
    let filed = samples::filed(&Gather::of(of, stretch, (MINUTE_S, false)));
    let name = by.map(Attribute::name);
    let text: Arc<str> = format!("{of} by {}", name.as_deref().unwrap_or_default()).into();
    let mut all = BTreeMap::new();
    let mut missing = Vec::new();
    for (hour_s, stamp) in answers.db.hours_of(filed, site_id, stretch).await? {
        let held = stamp.and_then(|stamp| {
            answers.hours.get(&(site_id, text.clone(), hour_s)).filter(|h| h.stamp == stamp)
        });
        match held {
            Some(held) => _ = all.insert(hour_s, held.hour),
            None => missing.push((hour_s, stamp)),
        }
    }
    for row in in_rows(&missing) {
        let (Some((first, _)), Some((last, _))) = (row.first(), row.last()) else { continue };
        let stretch = Stretch { from: at_second(*first), to: whole(*last).to };
        let wanted = Gather::of(of, stretch, (MINUTE_S, false));
        let sheets = samples::sheets(answers, site_id, &wanted, name.as_slice()).await?;
        let (of, by) = (of.clone(), by.cloned());
        let mut new = answers.computed(move || count(&sheets, &of, by.as_ref())).await?;
        for (hour_s, stamp) in row {
            let Some(hour) = new.remove(hour_s).map(Arc::new) else { continue };
            if let Some(stamp) = *stamp {
                let held = Held { stamp, hour: hour.clone() };
                answers.hours.insert((site_id, text.clone(), *hour_s), held);
            }
            all.insert(*hour_s, hour);
        }
    }
    Ok(all)
}
