//! Columns of sheets, as many of them in memory as were read lately.
//!
//! An hour that is filed changes seldom, and whoever tries one filter after another reads the same columns again and
//! again. Each is known by the transaction that wrote its row, so that what is filed anew is read anew; what tells of one
//! person, ids among it, is not held: in the place of ids stand numbers that this process has drawn for them.

use crate::db::{Db, Result, content};
use crate::sheet::{Asked, Filed, Made};
use cadentis_core::calendar::stretch::at_second;
use cadentis_core::visitor::filed::PERSONAL;
use cadentis_core::visitor::{Column, Sheet};
use jiff_sqlx::ToSqlx;
use sqlx::PgConnection;
use std::collections::BTreeMap;
use std::sync::Arc;

/// Site, which sheet, hour in seconds since 1970, name.
pub(crate) type Key = (i32, Filed, i64, Arc<str>);
pub(crate) type Cache = quick_cache::sync::Cache<Key, Cached, Weight>;
/// As much of them as is kept in memory, in bytes: what a page over a month with ten million page views reads.
const CACHED: u64 = 768 << 20;

#[derive(Debug, Clone)]
pub(crate) struct Cached {
    /// The transaction that wrote the row.
    stamp: i64,
    column: Arc<Column>,
}

#[derive(Debug, Clone)]
pub(crate) struct Weight;

impl quick_cache::Weighter<Key, Cached> for Weight {
    fn weight(&self, _: &Key, cached: &Cached) -> u64 {
        cached.column.weight() as u64 + 200
    }
}

pub(crate) fn cache() -> Arc<Cache> {
    Arc::new(Cache::with_weighter(40_000, CACHED, Weight))
}

/// A column where it lies: hour in seconds since 1970, name, the transaction that wrote it.
pub(crate) type Lies = (i64, Arc<str>, i64);

/// The transaction that wrote a column that is not in memory, and under which names it is wanted.
type Missing = (i64, Vec<Arc<str>>);

/// Columns, those in memory and those as they lie.
pub(crate) struct Gathered {
    site_id: i32,
    what: Filed,
    found: Vec<(i64, Arc<str>, Arc<Column>)>,
    /// By hour and own name.
    missing: BTreeMap<(i64, Arc<str>), Missing>,
    packed: Vec<(jiff_sqlx::Timestamp, String, Vec<u8>)>,
}

impl Db {
    /// These columns: from memory, or from the rows that are the same in this transaction.
    pub(crate) async fn gather_columns(
        &self,
        tx: &mut PgConnection,
        site_id: i32,
        what: Filed,
        lies: Vec<Lies>,
        asked: &[String],
    ) -> Result<Gathered> {
        // Under which names a column is asked for; all columns are when none is named.
        let wanted = |base: &Arc<str>| -> Vec<Arc<str>> {
            let of_base = asked.iter().filter(|a| Asked::of(a).base == &**base);
            let names: Vec<Arc<str>> = of_base.map(|a| a.as_str().into()).collect();
            if names.is_empty() { vec![base.clone()] } else { names }
        };
        let mut found: Vec<(i64, Arc<str>, Arc<Column>)> = Vec::with_capacity(lies.len());
        let mut missing: BTreeMap<(i64, Arc<str>), Missing> = BTreeMap::new();
        for (hour_s, base, stamp) in lies {
            for name in wanted(&base) {
                let key = (site_id, what, hour_s, name);
                match self.columns.get(&key).filter(|c| c.stamp == stamp) {
                    Some(cached) => found.push((hour_s, key.3, cached.column)),
                    None => {
                        let of_base = missing.entry((hour_s, base.clone()));
                        of_base.or_insert_with(|| (stamp, Vec::new())).1.push(key.3);
                    }
                }
            }
        }
        let packed = packed(tx, site_id, what, &missing).await?;
        Ok(Gathered { site_id, what, found, missing, packed })
    }
    /// They as sheets in order of time; what tells of nobody stays in memory.
    pub(crate) async fn unpack_columns(&self, gathered: Gathered) -> Result<Vec<Sheet>> {
        let Gathered { site_id, what, mut found, mut missing, packed } = gathered;
        if packed.is_empty() {
            return as_sheets(found);
        }
        let (cache, other) = (self.columns.clone(), self.other_ids.clone());
        let unpacked = self.heavily(move || {
            for (hour, name, bytes) in packed {
                let hour_s = hour.to_jiff().as_second();
                let read =
                    Arc::new(Column::from_bytes(&bytes).map_err(|e| content("sheet.packed", e))?);
                let of_one = matches!(*read, Column::Ids(_)) || PERSONAL.contains(&name.as_str());
                let Some((stamp, names)) = missing.remove(&(hour_s, name.into())) else { continue };
                for name in names {
                    let made = Asked::of(&name).made;
                    let column = match made {
                        Made::Itself => read.clone(),
                        made => Arc::new(made.of(&read, &other)),
                    };
                    if made != Made::Itself || !of_one {
                        let cached = Cached { stamp, column: column.clone() };
                        cache.insert((site_id, what, hour_s, name.clone()), cached);
                    }
                    found.push((hour_s, name, column));
                }
            }
            as_sheets(found)
        });
        unpacked.await?
    }
}

/// Columns that are not in memory, as they lie.
async fn packed(
    tx: &mut PgConnection,
    site_id: i32,
    what: Filed,
    missing: &BTreeMap<(i64, Arc<str>), Missing>,
) -> Result<Vec<(jiff_sqlx::Timestamp, String, Vec<u8>)>> {
    let (hours, names): (Vec<_>, Vec<_>) = missing
        .keys()
        .map(|(hour_s, name)| (at_second(*hour_s).to_sqlx(), name.to_string()))
        .unzip();
    if hours.is_empty() {
        return Ok(Vec::new());
    }
    Ok(sqlx::query_as(
                    "SELECT s.hour, s.name, s.packed FROM unnest($3::timestamptz[], $4::text[]) AS w(hour, name)
                     JOIN sheet s ON s.site_id = $1 AND s.what = $2 AND s.hour = w.hour AND s.name = w.name",
                )
                .bind(site_id)
                .bind(what.word())
                .bind(hours)
                .bind(names)
                .fetch_all(tx)
                .await?)
}

/// Columns by their hours, in order of time.
fn as_sheets(mut found: Vec<(i64, Arc<str>, Arc<Column>)>) -> Result<Vec<Sheet>> {
    found.sort_by_key(|(hour_s, ..)| *hour_s);
    let mut sheets: Vec<Sheet> = Vec::new();
    for (hour_s, name, column) in found {
        if sheets.last().is_none_or(|s| s.hour_s != hour_s) {
            sheets.push(Sheet::new(hour_s));
        }
        if let Some(sheet) = sheets.last_mut() {
            sheet.put(&*name, column).map_err(|e| content("sheet.packed", e))?;
        }
    }
    Ok(sheets)
}
