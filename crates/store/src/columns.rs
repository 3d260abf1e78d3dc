//! Columns of sheets, as many of them in memory as were read lately.
//!
//! An hour that is filed changes seldom, and whoever tries one filter after another reads the same columns again and
//! again. Each is known by the transaction that wrote its row, so that what is filed anew is read anew; what tells of one
//! person, ids among it, is not held.

use crate::db::{Db, Result, content};
use crate::filed::Filed;
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
const CACHED: u64 = 256 << 20;

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
    Arc::new(Cache::with_weighter(20_000, CACHED, Weight))
}

/// A column where it lies: hour in seconds since 1970, name, the transaction that wrote it.
pub(crate) type Lies = (i64, Arc<str>, i64);

impl Db {
    /// These columns as sheets in order of time: from memory, or from the rows that are the same in this transaction.
    pub(crate) async fn columns(
        &self,
        tx: &mut PgConnection,
        site_id: i32,
        what: Filed,
        lies: Vec<Lies>,
    ) -> Result<Vec<Sheet>> {
        let mut found: Vec<(i64, Arc<str>, Arc<Column>)> = Vec::with_capacity(lies.len());
        let mut missing: BTreeMap<(i64, Arc<str>), i64> = BTreeMap::new();
        for (hour_s, name, stamp) in lies {
            match self
                .columns
                .get(&(site_id, what, hour_s, name.clone()))
                .filter(|c| c.stamp == stamp)
            {
                Some(cached) => found.push((hour_s, name, cached.column)),
                None => {
                    missing.insert((hour_s, name), stamp);
                }
            }
        }
        let (hours, names): (Vec<_>, Vec<_>) = missing
            .keys()
            .map(|(hour_s, name)| (at_second(*hour_s).to_sqlx(), name.to_string()))
            .unzip();
        let packed: Vec<(jiff_sqlx::Timestamp, String, Vec<u8>)> = match hours.is_empty() {
            true => Vec::new(),
            false => {
                sqlx::query_as(
                    "SELECT s.hour, s.name, s.packed FROM unnest($3::timestamptz[], $4::text[]) AS w(hour, name)
                     JOIN sheet s ON s.site_id = $1 AND s.what = $2 AND s.hour = w.hour AND s.name = w.name",
                )
                .bind(site_id)
                .bind(what.word())
                .bind(hours)
                .bind(names)
                .fetch_all(tx)
                .await?
            }
        };
        let cache = self.columns.clone();
        let unpacked = tokio::task::spawn_blocking(move || {
            for (hour, name, bytes) in packed {
                let hour_s = hour.to_jiff().as_second();
                let column =
                    Arc::new(Column::from_bytes(&bytes).map_err(|e| content("sheet.packed", e))?);
                let name: Arc<str> = name.into();
                let stamp = missing.get(&(hour_s, name.clone()));
                let of_one = matches!(*column, Column::Ids(_)) || PERSONAL.contains(&&*name);
                if let Some(stamp) = stamp.filter(|_| !of_one) {
                    let cached = Cached { stamp: *stamp, column: column.clone() };
                    cache.insert((site_id, what, hour_s, name.clone()), cached);
                }
                found.push((hour_s, name, column));
            }
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
        });
        unpacked.await.map_err(|e| content("sheet", e))?
    }
}
