//! Page views by columns: an hour filed by the roll-up, read a few columns at a time.
//!
//! An hour that has changed since it was filed is read from its rows, so that what is answered is not late: see
//! [`crate::fresh`].

use crate::db::{Db, Result, content};
use cadentis_core::calendar::Stretch;
use cadentis_core::calendar::stretch::{at_second, hour_of};
use cadentis_core::visitor::beacon::owns;
use cadentis_core::visitor::filed::{failures, happenings, names_over, page_views};
use cadentis_core::visitor::sheet::{ALIKE, GROUPS};
use cadentis_core::visitor::{Column, PageView, Seen, Sheet};
use jiff::{SignedDuration, Timestamp};
use jiff_sqlx::ToSqlx;
use sqlx::PgConnection;
use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::hash::{BuildHasher, RandomState};
use std::sync::Arc;
use uuid::Uuid;

/// Which of the two sheets of an hour.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Filed {
    /// The page views themselves.
    PageViews,
    /// What happened on them.
    Happenings,
    /// Of that what went wrong.
    Failures,
}

impl Filed {
    pub(crate) fn word(self) -> &'static str {
        match self {
            Filed::PageViews => "view",
            Filed::Happenings => "told",
            Filed::Failures => "fail",
        }
    }
}

/// Hours of a stretch in which something happened, of which it is not filed by itself what went wrong.
const NOT_FILED: &str = "SELECT hour FROM sheet t WHERE site_id = $1 AND what = 'told' AND name = 'at' AND hour >= $2 AND hour < $3
       AND (extract(epoch FROM hour)::bigint / 3600) % $4 = 0
       AND NOT EXISTS (SELECT FROM sheet f WHERE f.site_id = $1 AND f.what = 'fail' AND f.name = 'at' AND f.hour = t.hour)
       AND NOT EXISTS (SELECT FROM dirty_hour d WHERE d.site_id = $1 AND d.hour = t.hour)
     ORDER BY hour LIMIT $5";

/// A column as it is asked for: its own name, and what is made of it.
pub(crate) struct Asked<'a> {
    pub(crate) base: &'a str,
    pub(crate) made: Made,
}

/// What is made of a column.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Made {
    /// Nothing: it is as it is filed.
    Itself,
    /// See [`ALIKE`].
    Alike,
    /// See [`GROUPS`].
    Groups,
}

impl Asked<'_> {
    pub(crate) fn of(name: &str) -> Asked<'_> {
        match (name.strip_suffix(ALIKE), name.strip_suffix(GROUPS)) {
            (Some(base), _) => Asked { base, made: Made::Alike },
            (_, Some(base)) => Asked { base, made: Made::Groups },
            _ => Asked { base: name, made: Made::Itself },
        }
    }
}

/// What stands in the place of ids in columns that stay in memory: known to this process alone.
pub(crate) type OtherIds = RandomState;

impl Made {
    pub(crate) fn of(self, column: &Column, other: &OtherIds) -> Column {
        match self {
            Made::Itself => column.clone(),
            Made::Alike => column.alike(|id| other.hash_one(id)),
            Made::Groups => column.grouped(),
        }
    }
}

/// Leaves of a whole sheet the columns that were asked for; of none all.
fn as_asked(sheet: &mut Sheet, columns: &[String], other: &OtherIds) -> Result<()> {
    if columns.is_empty() {
        return Ok(());
    }
    for name in columns {
        let Asked { base, made } = Asked::of(name);
        if made != Made::Itself
            && let Some(column) = sheet.column(base).map(|c| made.of(c, other))
        {
            sheet.put(name, column).map_err(|e| content("sheet", e))?;
        }
    }
    sheet.keep(|name| name == "at" || columns.iter().any(|c| c == name));
    Ok(())
}

/// What sheets are made of.
struct Gathered {
    what: Filed,
    filed: crate::columns::Gathered,
    /// Of hours that were filed before what went wrong was filed by itself.
    before: Vec<Sheet>,
    changed: crate::fresh::Changed,
}

/// From so many hours on a stretch is read in two halves at a time.
const WORTH_TWO: i64 = 48;

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
        // Weeks are read over two connections: each gives the database a core of its own.
        let spare = self.spare().filter(|_| hours >= WORTH_TWO);
        if spare.is_none() {
            return self.read_sheets(what, site_id, stretch, columns, 1).await;
        }
        let middle = hour_of(stretch.from) + SignedDuration::from_hours(hours / 2);
        let (early, late) =
            (Stretch { from: stretch.from, to: middle }, Stretch { from: middle, to: stretch.to });
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

    /// Hours of a stretch of which something is kept, each with the transaction that filed it: the same number is the same
    /// sheet. Without a number it has changed since, or was never filed.
    pub async fn hours_of(
        &self,
        what: Filed,
        site_id: i32,
        stretch: Stretch,
    ) -> Result<Vec<(i64, Option<i64>)>> {
        Ok(sqlx::query_as(
            "SELECT extract(epoch FROM hour)::bigint, CASE WHEN d.site_id IS NULL THEN s.stamp END
             FROM (SELECT hour, xmin::text::bigint AS stamp FROM sheet
                   WHERE site_id = $1 AND what = $2 AND name = 'at' AND hour >= $3 AND hour < $4) s
             FULL JOIN (SELECT hour, site_id FROM dirty_hour WHERE site_id = $1 AND hour >= $3 AND hour < $4) d USING (hour)
             ORDER BY 1",
        )
        .bind(site_id)
        .bind(what.word())
        .bind(hour_of(stretch.from).to_sqlx())
        .bind(stretch.to.to_sqlx())
        .fetch_all(&self.lane)
        .await?)
    }

    async fn read_sheets(
        &self,
        what: Filed,
        site_id: i32,
        stretch: Stretch,
        columns: &[String],
        every: i64,
    ) -> Result<Vec<Sheet>> {
        // One moment for all questions: an hour is filed or changed, never neither.
        let mut tx = self.lane.whole("BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY").await?;
        let gathered = self.gather_sheets(&mut tx, what, site_id, stretch, columns, every).await?;
        // The connection is somebody else's while this is unpacked.
        tx.commit().await?;
        self.unpack_sheets(gathered, columns).await
    }

    /// The same inside a transaction: whoever changes an hour reads it under the lock of its day.
    pub(crate) async fn read_sheets_in(
        &self,
        tx: &mut PgConnection,
        what: Filed,
        site_id: i32,
        stretch: Stretch,
        columns: &[String],
        every: i64,
    ) -> Result<Vec<Sheet>> {
        let gathered = self.gather_sheets(tx, what, site_id, stretch, columns, every).await?;
        self.unpack_sheets(gathered, columns).await
    }

    /// Everything that sheets are made of, as it lies in the database.
    async fn gather_sheets(
        &self,
        tx: &mut PgConnection,
        what: Filed,
        site_id: i32,
        stretch: Stretch,
        columns: &[String],
        every: i64,
    ) -> Result<Gathered> {
        let hours = Stretch { from: hour_of(stretch.from), to: stretch.to };
        let mut names: Vec<String> = columns.iter().map(|c| Asked::of(c).base.into()).collect();
        let moments = names.is_empty() || names.iter().any(|n| n == "at");
        if !moments {
            names.push("at".into());
        }
        let ends = [hours.from, hour_of(stretch.to)];
        let changed: Vec<(jiff_sqlx::Timestamp, jiff_sqlx::Timestamp)> =
            sqlx::query_as("SELECT hour, marked_at FROM dirty_hour WHERE site_id = $1 AND hour >= $2 AND hour < $3 AND (extract(epoch FROM hour)::bigint / 3600) % $4 = 0")
                .bind(site_id)
                .bind(hours.from.to_sqlx())
                .bind(hours.to.to_sqlx())
                .bind(every)
                .fetch_all(&mut *tx)
                .await?;
        let changed: BTreeMap<Timestamp, Timestamp> =
            changed.into_iter().map(|(hour, at)| (hour.to_jiff(), at.to_jiff())).collect();
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
        .bind(changed.keys().map(|h| h.to_sqlx()).collect::<Vec<_>>())
        .bind(moments)
        .bind(ends.map(|h| h.to_sqlx()).to_vec())
        .bind(every)
        .fetch_all(&mut *tx)
        .await?;
        let mut lies = Vec::new();
        for (name, hours, stamps) in filed {
            let name: Arc<str> = name.into();
            lies.extend(
                hours.into_iter().zip(stamps).map(|(hour_s, stamp)| (hour_s, name.clone(), stamp)),
            );
        }
        let filed = self.gather_columns(tx, site_id, what, lies, columns).await?;
        let before = match what {
            Filed::Failures => self.failures_of_before(tx, site_id, hours, columns, every).await?,
            _ => Vec::new(),
        };
        let changed = self.changed(tx, site_id, &changed).await?;
        Ok(Gathered { what, filed, before, changed })
    }

    /// The sheets of what was gathered, in order of time.
    async fn unpack_sheets(&self, gathered: Gathered, columns: &[String]) -> Result<Vec<Sheet>> {
        let Gathered { what, filed, before, changed } = gathered;
        let mut sheets = self.unpack_columns(filed).await?;
        sheets.extend(before);
        for hour in self.file_changed(changed).await? {
            let mut sheet = hour.sheet(what).clone();
            as_asked(&mut sheet, columns, &self.other_ids)?;
            sheets.push(sheet);
        }
        sheets.sort_by_key(|s| s.hour_s);
        Ok(sheets)
    }

    /// What went wrong in hours that were filed before that was filed by itself.
    async fn failures_of_before(
        &self,
        tx: &mut PgConnection,
        site_id: i32,
        hours: Stretch,
        columns: &[String],
        every: i64,
    ) -> Result<Vec<Sheet>> {
        let before: Vec<jiff_sqlx::Timestamp> = sqlx::query_scalar(NOT_FILED)
            .bind(site_id)
            .bind(hours.from.to_sqlx())
            .bind(hours.to.to_sqlx())
            .bind(every)
            .bind(i64::MAX)
            .fetch_all(&mut *tx)
            .await?;
        let mut found = Vec::new();
        for hour in before {
            let (hour, told) = (hour.to_jiff(), Filed::Happenings);
            let all = self.read_filed(tx, told, site_id, hour).await?;
            let mut sheet = failures(&all).map_err(|e| content("sheet", e))?;
            as_asked(&mut sheet, columns, &self.other_ids)?;
            found.push(sheet);
        }
        Ok(found)
    }

    /// Everything that is filed of an hour.
    async fn read_filed(
        &self,
        tx: &mut PgConnection,
        what: Filed,
        site_id: i32,
        hour: Timestamp,
    ) -> Result<Sheet> {
        let columns: Vec<(String, Vec<u8>)> = sqlx::query_as(
            "SELECT name, packed FROM sheet WHERE site_id = $1 AND what = $2 AND hour = $3",
        )
        .bind(site_id)
        .bind(what.word())
        .bind(hour.to_sqlx())
        .fetch_all(&mut *tx)
        .await?;
        let mut sheet = Sheet::new(hour.as_second());
        for (name, packed) in columns {
            let column = Column::from_bytes(&packed).map_err(|e| content("sheet.packed", e))?;
            sheet.put(name, column).map_err(|e| content("sheet.packed", e))?;
        }
        Ok(sheet)
    }

    /// Files what went wrong in hours that were filed before that was filed by itself, so many at most; how many they were.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn file_failures_of_before(&self, most: i64) -> Result<u64> {
        let mut done = 0;
        for site in self.sites().await? {
            let hours: Vec<jiff_sqlx::Timestamp> = sqlx::query_scalar(NOT_FILED)
                .bind(site.id)
                .bind(at_second(0).to_sqlx())
                .bind((self.now().await? + SignedDuration::from_hours(48)).to_sqlx())
                .bind(1i64)
                .bind(most)
                .fetch_all(&self.lane)
                .await?;
            for hour in hours {
                let hour = hour.to_jiff();
                let mut tx = self.lane.begin().await?;
                crate::page_view_hour::lock_day(&mut tx, site.id, crate::run_day::day_of(hour))
                    .await?;
                let all = self.read_filed(&mut tx, Filed::Happenings, site.id, hour).await?;
                let sheet = failures(&all).map_err(|e| content("sheet", e))?;
                self.put_one(&mut tx, Filed::Failures, site.id, &sheet).await?;
                tx.commit().await?;
                done += 1;
            }
        }
        Ok(done)
    }

    /// These page views, by the hour (seconds) and id of each, in the order given.
    pub async fn seen(&self, site_id: i32, wanted: &[(i64, u128)]) -> Result<Vec<Seen>> {
        let hours: BTreeSet<i64> = wanted.iter().map(|(hour, _)| *hour).collect();
        let mut found: BTreeMap<u128, Seen> = BTreeMap::new();
        for hour in hours {
            let ids: HashSet<u128> =
                wanted.iter().filter(|(h, _)| *h == hour).map(|(_, id)| *id).collect();
            let stretch = whole_hour(at_second(hour));
            for sheet in self.sheets_of(Filed::PageViews, site_id, stretch, &[]).await? {
                let rows = (0..sheet.rows)
                    .filter(|row| sheet.id("id", *row).is_some_and(|id| ids.contains(&id)));
                found.extend(
                    rows.filter_map(|row| Some((sheet.id("id", row)?, Seen::of(&sheet, row)?))),
                );
            }
        }
        Ok(wanted.iter().filter_map(|(_, id)| found.remove(id)).collect())
    }

    /// The attributes that page views of the stretch carry.
    pub async fn attributes(&self, site_id: i32, stretch: Stretch) -> Result<Vec<String>> {
        let names: Vec<String> = sqlx::query_scalar(
            "SELECT DISTINCT substr(name, 11) FROM sheet WHERE site_id = $1 AND what = 'view' AND name >= 'attribute.'
               AND name < 'attribute/' AND hour >= $2 AND hour < $3 ORDER BY 1 LIMIT 10",
        )
        .bind(site_id)
        .bind(hour_of(stretch.from).to_sqlx())
        .bind(stretch.to.to_sqlx())
        .fetch_all(&self.lane)
        .await?;
        Ok(names)
    }

    /// Domains of a site.
    pub(crate) async fn domains(&self, tx: &mut PgConnection, site_id: i32) -> Result<Vec<String>> {
        let domains: Option<Vec<String>> =
            sqlx::query_scalar("SELECT domains FROM site WHERE id = $1")
                .bind(site_id)
                .fetch_optional(tx)
                .await?;
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
        let there: bool = sqlx::query_scalar("SELECT to_regclass($1) IS NOT NULL")
            .bind(day)
            .fetch_one(&mut *tx)
            .await?;
        if !there {
            return Ok(None);
        }
        let views = crate::page_view::read(rows_of(tx, site_id, hour).await?)?;
        self.note_names_over(tx, site_id, hour, names_over(&views)).await?;
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
        Ok((
            file(Filed::PageViews, hour, views, &domains)?,
            file(Filed::Happenings, hour, views, &domains)?,
        ))
    }

    /// Replaces a sheet, and what went wrong with what happened.
    pub(crate) async fn put_sheet(
        &self,
        tx: &mut PgConnection,
        what: Filed,
        site_id: i32,
        sheet: &Sheet,
    ) -> Result<()> {
        if what == Filed::Happenings {
            let failed = failures(sheet).map_err(|e| content("sheet", e))?;
            self.put_one(tx, Filed::Failures, site_id, &failed).await?;
        }
        self.put_one(tx, what, site_id, sheet).await
    }

    async fn put_one(
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

    /// Erases everything that is known of a person, or of one visit: their page views leave rows and sheets. What was
    /// rolled up of hours whose rows are gone stays as it was. Answers how many page views left.
    ///
    /// Page views that arrive meanwhile are looked for once more.
    pub async fn forget_person(
        &self,
        site_id: i32,
        column: &str,
        id: u128,
        stretch: Stretch,
    ) -> Result<u64> {
        let mut gone = 0;
        let mut columns = vec![column.to_string(), "visit".to_string()];
        columns.dedup();
        let mut visits = BTreeSet::new();
        for _ in 0..3 {
            self.fresh.forget();
            let mut hours = Vec::new();
            for held in self.sheets_of(Filed::PageViews, site_id, stretch, &columns).await? {
                let before = hours.len();
                for row in (0..held.rows).filter(|row| held.id(column, *row) == Some(id)) {
                    visits.extend(held.id("visit", row).map(Uuid::from_u128));
                    hours.truncate(before);
                    hours.push(at_second(held.hour_s));
                }
            }
            if hours.is_empty() {
                break;
            }
            for hour in hours {
                gone += self.forget_in_hour(site_id, column, id, hour).await?;
            }
            self.fresh.forget();
        }
        self.forget_looks(&visits).await?;
        Ok(gone)
    }

    /// Everything is read under the lock of the day, so that nothing that is filed in between is lost.
    async fn forget_in_hour(
        &self,
        site_id: i32,
        column: &str,
        id: u128,
        hour: Timestamp,
    ) -> Result<u64> {
        let mut tx = self.lane.begin().await?;
        crate::page_view_hour::lock_day(&mut tx, site_id, crate::run_day::day_of(hour)).await?;
        let gone = match crate::task::held(&mut tx, site_id, hour).await? {
            crate::task::Held::Rows => {
                // Marked first: whoever writes rows takes the mark before the rows, too.
                crate::page_view::mark_hour(&mut tx, site_id, hour).await?;
                let gone = forget_rows_of(&mut tx, site_id, column, id, hour).await?;
                self.file_hour(&mut tx, site_id, hour).await?;
                gone
            }
            crate::task::Held::Sheets => {
                let mut gone = 0;
                for what in [Filed::PageViews, Filed::Happenings] {
                    for sheet in self
                        .read_sheets_in(&mut tx, what, site_id, whole_hour(hour), &[], 1)
                        .await?
                    {
                        let keep: Vec<bool> =
                            (0..sheet.rows).map(|row| sheet.id(column, row) != Some(id)).collect();
                        if what == Filed::PageViews {
                            gone += keep.iter().filter(|kept| !**kept).count() as u64;
                        }
                        self.put_sheet(&mut tx, what, site_id, &sheet.only(&keep)).await?;
                    }
                }
                gone
            }
        };
        tx.commit().await?;
        Ok(gone)
    }
}

pub(crate) fn whole_hour(hour: Timestamp) -> Stretch {
    Stretch { from: hour, to: hour + SignedDuration::from_hours(1) }
}

/// Takes the rows of a person or visit out of an hour. They are told apart here and not by the database, to which a text
/// may hold what it cannot read.
async fn forget_rows_of(
    tx: &mut PgConnection,
    site_id: i32,
    column: &str,
    id: u128,
    hour: Timestamp,
) -> Result<u64> {
    let is = |view: &PageView| match column {
        "visit" => view.beacon.visit.as_u128() == id,
        _ => u128::from(view.person) == id,
    };
    let views = crate::page_view::read(rows_of(tx, site_id, hour).await?)?;
    let (at, ids): (Vec<_>, Vec<_>) =
        views.iter().filter(|v| is(v)).map(|v| (v.at.to_sqlx(), v.beacon.id)).unzip();
    let gone = sqlx::query(
        "DELETE FROM page_view p USING unnest($2::timestamptz[], $3::uuid[]) AS gone(at, id)
         WHERE p.site_id = $1 AND p.at = gone.at AND p.id = gone.id",
    )
    .bind(site_id)
    .bind(at)
    .bind(ids)
    .execute(tx)
    .await?;
    Ok(gone.rows_affected())
}

/// The rows of an hour, in order of time, as they lie.
pub(crate) async fn rows_of(
    tx: &mut PgConnection,
    site_id: i32,
    hour: Timestamp,
) -> Result<Vec<String>> {
    Ok(sqlx::query_scalar(
        "SELECT view FROM page_view WHERE site_id = $1 AND at >= $2 AND at < $3 ORDER BY at, id",
    )
    .bind(site_id)
    .bind(hour.to_sqlx())
    .bind((hour + SignedDuration::from_hours(1)).to_sqlx())
    .fetch_all(tx)
    .await?)
}

pub(crate) fn file(
    what: Filed,
    hour: Timestamp,
    views: &[PageView],
    domains: &[String],
) -> Result<Sheet> {
    let sheet = match what {
        Filed::PageViews => page_views(hour.as_second(), views),
        Filed::Happenings => happenings(hour.as_second(), views, |host| owns(domains, host)),
        Filed::Failures => happenings(hour.as_second(), views, |host| owns(domains, host))
            .and_then(|told| failures(&told)),
    };
    sheet.map_err(|e| content("sheet", e))
}
