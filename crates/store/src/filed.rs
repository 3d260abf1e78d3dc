//! Page views by columns: an hour filed by the roll-up, read a few columns at a time.
//!
//! An hour that has changed since it was filed is read from its rows, so that what is answered is never late.

use crate::db::{Db, Result, content};
use cadentis_core::calendar::Stretch;
use cadentis_core::calendar::stretch::{at_second, hour_of};
use cadentis_core::visitor::beacon::owns;
use cadentis_core::visitor::filed::{PERSONAL, happenings, page_views};
use cadentis_core::visitor::{PageView, Seen, Sheet};
use jiff::{SignedDuration, Timestamp};
use jiff_sqlx::ToSqlx;
use sqlx::PgConnection;
use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::sync::Arc;

/// Which of the two sheets of an hour.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Filed {
    PageViews,
    /// What happened on them.
    Happenings,
}

impl Filed {
    pub(crate) fn word(self) -> &'static str {
        match self {
            Filed::PageViews => "view",
            Filed::Happenings => "told",
        }
    }
}

/// From so many hours on a stretch is read in two halves at a time.
const WORTH_TWO: i64 = 48;

/// Rows are kept for so many days after theirs: a beacon comes at most two days late.
pub const ROWS_DAYS: i64 = 4;

impl Db {
    /// The sheets of the hours that a stretch touches, with these columns; without any named, with all. `at` comes with
    /// the first and the last hour anyhow: it says which of their rows lie inside.
    pub async fn sheets_of(
        &self,
        what: Filed,
        site_id: i32,
        stretch: Stretch,
        columns: &[String],
    ) -> Result<Vec<Sheet>> {
        let hours = stretch.seconds() / 3_600;
        if hours < WORTH_TWO {
            return self.read_sheets(what, site_id, stretch, columns, 1).await;
        }
        // Weeks are read over two connections: each gives the database a core of its own.
        let middle = hour_of(stretch.from) + SignedDuration::from_hours(hours / 2);
        let (early, late) = (Stretch { from: stretch.from, to: middle }, Stretch { from: middle, to: stretch.to });
        let (mut all, late) = futures::try_join!(
            self.read_sheets(what, site_id, early, columns, 1),
            self.read_sheets(what, site_id, late, columns, 1),
        )?;
        all.extend(late);
        Ok(all)
    }

    /// The same of every so manieth hour of the stretch, for what needs no more than a part of millions. A number that
    /// has nothing in common with the 24 hours of a day takes all of them alike.
    pub async fn some_hours_of(
        &self,
        what: Filed,
        site_id: i32,
        stretch: Stretch,
        columns: &[String],
        every: i64,
    ) -> Result<Vec<Sheet>> {
        if every <= 1 {
            return self.sheets_of(what, site_id, stretch, columns).await;
        }
        self.read_sheets(what, site_id, stretch, columns, every).await
    }

    /// The same of what a stretch is compared with; nothing, if it is compared with nothing.
    pub async fn sheets_against(
        &self,
        what: Filed,
        site_id: i32,
        against: Option<Stretch>,
        columns: &[String],
    ) -> Result<Vec<Sheet>> {
        match against {
            Some(stretch) => self.sheets_of(what, site_id, stretch, columns).await,
            None => Ok(Vec::new()),
        }
    }

    async fn read_sheets(
        &self,
        what: Filed,
        site_id: i32,
        stretch: Stretch,
        columns: &[String],
        every: i64,
    ) -> Result<Vec<Sheet>> {
        let hours = Stretch { from: hour_of(stretch.from), to: stretch.to };
        let mut names: Vec<String> = columns.to_vec();
        let moments = names.is_empty() || names.iter().any(|n| n == "at");
        if !moments {
            names.push("at".into());
        }
        let ends = [hours.from, hour_of(stretch.to)];
        // One moment for all three questions: an hour is filed or changed, never neither.
        let mut tx = self.pool.begin_with("BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY").await?;
        let changed: Vec<jiff_sqlx::Timestamp> =
            sqlx::query_scalar("SELECT hour FROM dirty_hour WHERE site_id = $1 AND hour >= $2 AND hour < $3 AND (extract(epoch FROM hour)::bigint / 3600) % $4 = 0")
                .bind(site_id)
                .bind(hours.from.to_sqlx())
                .bind(hours.to.to_sqlx())
                .bind(every)
                .fetch_all(&mut *tx)
                .await?;
        let changed: BTreeSet<Timestamp> = changed.into_iter().map(|h| h.to_jiff()).collect();
        let filed: Vec<(String, Vec<i64>, Vec<i64>)> = sqlx::query_as(
            "SELECT name, array_agg(extract(epoch FROM hour)::bigint), array_agg(xmin::text::bigint) FROM sheet
             WHERE site_id = $1 AND what = $2 AND hour >= $3 AND hour < $4 AND (cardinality($5::text[]) = 0 OR name = ANY($5))
               AND hour <> ALL($6) AND ($7 OR name <> 'at' OR hour = ANY($8))
               AND (extract(epoch FROM hour)::bigint / 3600) % $9 = 0
             GROUP BY name",
        )
        .bind(site_id)
        .bind(what.word())
        .bind(hours.from.to_sqlx())
        .bind(hours.to.to_sqlx())
        .bind(&names)
        .bind(changed.iter().map(|h| h.to_sqlx()).collect::<Vec<_>>())
        .bind(moments)
        .bind(ends.map(|h| h.to_sqlx()).to_vec())
        .bind(every)
        .fetch_all(&mut *tx)
        .await?;
        let mut lies = Vec::new();
        for (name, hours, stamps) in filed {
            let name: Arc<str> = name.into();
            lies.extend(hours.into_iter().zip(stamps).map(|(hour_s, stamp)| (hour_s, name.clone(), stamp)));
        }
        let mut sheets = self.columns(&mut tx, site_id, what, lies).await?;
        let domains = self.domains(&mut tx, site_id).await?;
        let mut fresh = Vec::new();
        for hour in changed {
            fresh.push((hour, rows_of(&mut tx, site_id, hour).await?));
        }
        tx.commit().await?;
        if fresh.is_empty() {
            return Ok(sheets);
        }
        let with_fresh = tokio::task::spawn_blocking(move || {
            for (hour, views) in fresh {
                let mut sheet = file(what, hour, &views, &domains)?;
                if !names.is_empty() {
                    sheet.keep(|name| names.iter().any(|n| n == name));
                }
                sheets.push(sheet);
            }
            sheets.sort_by_key(|s| s.hour_s);
            Ok(sheets)
        });
        with_fresh.await.map_err(|e| content("sheet", e))?
    }

    /// These page views, by the hour (seconds) and id of each, in the order given.
    pub async fn seen(&self, site_id: i32, wanted: &[(i64, u128)]) -> Result<Vec<Seen>> {
        let hours: BTreeSet<i64> = wanted.iter().map(|(hour, _)| *hour).collect();
        let mut found: BTreeMap<u128, Seen> = BTreeMap::new();
        for hour in hours {
            let ids: HashSet<u128> = wanted.iter().filter(|(h, _)| *h == hour).map(|(_, id)| *id).collect();
            let stretch = Stretch { from: at_second(hour), to: at_second(hour + 3_600) };
            for sheet in self.sheets_of(Filed::PageViews, site_id, stretch, &[]).await? {
                let rows = (0..sheet.rows).filter(|row| sheet.id("id", *row).is_some_and(|id| ids.contains(&id)));
                found.extend(rows.filter_map(|row| Some((sheet.id("id", row)?, Seen::of(&sheet, row)?))));
            }
        }
        Ok(wanted.iter().filter_map(|(_, id)| found.remove(id)).collect())
    }

    /// The labels that page views of the stretch carry.
    pub async fn labels(&self, site_id: i32, stretch: Stretch) -> Result<Vec<String>> {
        let names: Vec<String> = sqlx::query_scalar(
            "SELECT DISTINCT substr(name, 7) FROM sheet WHERE site_id = $1 AND what = 'view' AND name >= 'label.'
               AND name < 'label/' AND hour >= $2 AND hour < $3 ORDER BY 1 LIMIT 10",
        )
        .bind(site_id)
        .bind(hour_of(stretch.from).to_sqlx())
        .bind(stretch.to.to_sqlx())
        .fetch_all(&self.pool)
        .await?;
        Ok(names)
    }

    /// Domains of a site.
    async fn domains(&self, tx: &mut PgConnection, site_id: i32) -> Result<Vec<String>> {
        let domains: Option<Vec<String>> =
            sqlx::query_scalar("SELECT domains FROM site WHERE id = $1").bind(site_id).fetch_optional(tx).await?;
        Ok(domains.unwrap_or_default())
    }

    /// Files an hour anew; gives its sheet of page views, or `None` when its rows are gone and what is filed stays.
    pub(crate) async fn file_hour(
        &self,
        tx: &mut PgConnection,
        site_id: i32,
        hour: Timestamp,
    ) -> Result<Option<Sheet>> {
        let day = format!("page_view_{}", hour.strftime("%Y%m%d"));
        let there: bool =
            sqlx::query_scalar("SELECT to_regclass($1) IS NOT NULL").bind(day).fetch_one(&mut *tx).await?;
        if !there {
            return Ok(None);
        }
        let views = rows_of(tx, site_id, hour).await?;
        Ok(Some(self.put_views(tx, site_id, hour, &views).await?))
    }

    /// Files these page views as all that there are of the hour, in order of time; gives their sheet.
    pub(crate) async fn put_views(
        &self,
        tx: &mut PgConnection,
        site_id: i32,
        hour: Timestamp,
        views: &[PageView],
    ) -> Result<Sheet> {
        let (sheet, told) = self.file_both(tx, site_id, hour, views).await?;
        self.put_sheet(tx, Filed::Happenings, site_id, &told).await?;
        self.put_sheet(tx, Filed::PageViews, site_id, &sheet).await?;
        Ok(sheet)
    }

    /// The sheets of an hour in which there are these page views alone: of them, and of what happened on them.
    pub(crate) async fn file_both(
        &self,
        tx: &mut PgConnection,
        site_id: i32,
        hour: Timestamp,
        views: &[PageView],
    ) -> Result<(Sheet, Sheet)> {
        let domains = self.domains(tx, site_id).await?;
        Ok((file(Filed::PageViews, hour, views, &domains)?, file(Filed::Happenings, hour, views, &domains)?))
    }

    /// Replaces a sheet.
    pub(crate) async fn put_sheet(
        &self,
        tx: &mut PgConnection,
        what: Filed,
        site_id: i32,
        sheet: &Sheet,
    ) -> Result<()> {
        let hour = at_second(sheet.hour_s).to_sqlx();
        sqlx::query("DELETE FROM sheet WHERE site_id = $1 AND what = $2 AND hour = $3")
            .bind(site_id)
            .bind(what.word())
            .bind(hour)
            .execute(&mut *tx)
            .await?;
        let (names, packed): (Vec<String>, Vec<Vec<u8>>) =
            sheet.columns().map(|(name, column)| (name.to_string(), column.to_bytes())).unzip();
        sqlx::query(
            "INSERT INTO sheet SELECT $1, $2, a.name, $3, a.packed FROM unnest($4::text[], $5::bytea[]) AS a(name, packed)",
        )
        .bind(site_id)
        .bind(what.word())
        .bind(hour)
        .bind(names)
        .bind(packed)
        .execute(&mut *tx)
        .await?;
        Ok(())
    }

    /// Drops the rows of days that are long over and filed, and what is known of people when its time is over. Answers
    /// how many days and columns left.
    pub async fn forget_rows(&self, now: Timestamp) -> Result<(u64, u64)> {
        let before = now - SignedDuration::from_hours(24 * ROWS_DAYS);
        let parts: Vec<String> = sqlx::query_scalar(
            "SELECT c.relname::text FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid
             WHERE i.inhparent = 'page_view'::regclass ORDER BY 1",
        )
        .fetch_all(&self.pool)
        .await?;
        let mut days = 0;
        for part in parts {
            let day = part.trim_start_matches("page_view_");
            let Ok(date) = jiff::civil::Date::strptime("%Y%m%d", day) else { continue };
            let Ok(end) = date.tomorrow().and_then(|d| d.to_zoned(jiff::tz::TimeZone::UTC)) else { continue };
            if end.timestamp() > before {
                continue;
            }
            let begin = end.timestamp() - SignedDuration::from_hours(24);
            let sql = "SELECT EXISTS (SELECT FROM dirty_hour WHERE hour >= $1 AND hour < $2)";
            let waits: bool = sqlx::query_scalar(sql)
                .bind(begin.to_sqlx())
                .bind(end.timestamp().to_sqlx())
                .fetch_one(&self.pool)
                .await?;
            if !waits {
                // The name came from the catalogue and is one of ours.
                sqlx::query(sqlx::AssertSqlSafe(format!("DROP TABLE \"{part}\""))).execute(&self.pool).await?;
                days += 1;
            }
        }
        let gone = sqlx::query(
            "DELETE FROM sheet USING site WHERE site.id = sheet.site_id AND sheet.name = ANY($2)
               AND sheet.hour < $1 - site.keep_people_days * interval '1 day'",
        )
        .bind(now.to_sqlx())
        .bind(PERSONAL.map(String::from).to_vec())
        .execute(&self.pool)
        .await?;
        Ok((days, gone.rows_affected()))
    }

    /// Takes everything out that is known of a person, or of one visit: page views stay in figures that are rolled up,
    /// and leave rows and sheets. Answers how many page views left.
    pub async fn forget_person(&self, site_id: i32, column: &str, id: u128, stretch: Stretch) -> Result<u64> {
        let mut gone = 0;
        for held in self.sheets_of(Filed::PageViews, site_id, stretch, &[column.to_string()]).await? {
            let is = |sheet: &Sheet, row: usize| sheet.id(column, row) == Some(id);
            let here = (0..held.rows).filter(|row| is(&held, *row)).count();
            if here == 0 {
                continue;
            }
            let hour = at_second(held.hour_s);
            let whole = Stretch { from: hour, to: hour + SignedDuration::from_hours(1) };
            let mut kept = Vec::new();
            for what in [Filed::PageViews, Filed::Happenings] {
                for sheet in self.sheets_of(what, site_id, whole, &[]).await? {
                    let keep: Vec<bool> = (0..sheet.rows).map(|row| !is(&sheet, row)).collect();
                    kept.push((what, sheet.only(&keep)));
                }
            }
            let sql = match column {
                "visit" => {
                    "DELETE FROM page_view WHERE site_id = $1 AND at >= $2 AND at < $3 AND view::json->'beacon'->>'visit' = $4"
                }
                _ => "DELETE FROM page_view WHERE site_id = $1 AND at >= $2 AND at < $3 AND view::json->>'person' = $4",
            };
            let text = if column == "visit" { uuid::Uuid::from_u128(id).to_string() } else { id.to_string() };
            let mut tx = self.pool.begin().await?;
            crate::rollup::lock_day(&mut tx, site_id, crate::sheets::day_of(hour)).await?;
            sqlx::query(sql)
                .bind(site_id)
                .bind(whole.from.to_sqlx())
                .bind(whole.to.to_sqlx())
                .bind(text)
                .execute(&mut *tx)
                .await?;
            for (what, sheet) in kept {
                self.put_sheet(&mut tx, what, site_id, &sheet).await?;
            }
            tx.commit().await?;
            gone += here as u64;
        }
        Ok(gone)
    }
}

/// The rows of an hour, in order of time.
async fn rows_of(tx: &mut PgConnection, site_id: i32, hour: Timestamp) -> Result<Vec<PageView>> {
    let rows: Vec<String> =
        sqlx::query_scalar("SELECT view FROM page_view WHERE site_id = $1 AND at >= $2 AND at < $3 ORDER BY at, id")
            .bind(site_id)
            .bind(hour.to_sqlx())
            .bind((hour + SignedDuration::from_hours(1)).to_sqlx())
            .fetch_all(tx)
            .await?;
    crate::views::read(rows)
}

fn file(what: Filed, hour: Timestamp, views: &[PageView], domains: &[String]) -> Result<Sheet> {
    let sheet = match what {
        Filed::PageViews => page_views(hour.as_second(), views),
        Filed::Happenings => happenings(hour.as_second(), views, |host| owns(domains, host)),
    };
    sheet.map_err(|e| content("sheet", e))
}
