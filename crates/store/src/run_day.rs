//! Days of runs, packed: what a page over weeks reads instead of tens of thousands of rows.
//!
//! A sheet holds every run of a journey that was due on one day (UTC), exactly as its row has it. It is made when
//! the day, which must be over, is first read, and dropped when a late run of that day comes in: both under one lock,
//! so that a sheet never misses a run.

use crate::db::{Db, Result};
use crate::run::{Run, outcome_code, outcome_of};
use cadentis_core::calendar::Stretch;
use cadentis_core::calendar::stretch::at_second;
use cadentis_core::goal::Check;
use cadentis_core::run::level::Timing;
use cadentis_core::run::{Counts, Outcome};
use jiff::{SignedDuration, Timestamp};
use jiff_sqlx::ToSqlx;
use sqlx::postgres::PgRow;
use sqlx::{AssertSqlSafe, PgConnection, Row as _};
use std::collections::HashMap;
use std::sync::Arc;
use uuid::Uuid;

pub(crate) const DAY_S: i64 = 86_400;
/// The first byte of a sheet.
const LAYOUT: u8 = 2;
/// Fewer whole days than this are read row by row.
const WORTH_IT: i64 = 2;

/// Sheets that were read lately, by journey and day, each with the stamp of its row.
pub(crate) type Cache = quick_cache::sync::Cache<(i32, i64), Cached, Weight>;
/// As much of them as is kept in memory, in bytes.
const CACHED: u64 = 96 << 20;

#[derive(Debug, Clone)]
pub(crate) struct Cached {
    /// The transaction that wrote the row: whoever reads it later can tell whether it is still the same.
    stamp: i64,
    sheet: Arc<[u8]>,
}

#[derive(Debug, Clone)]
pub(crate) struct Weight;

impl quick_cache::Weighter<(i32, i64), Cached> for Weight {
    fn weight(&self, _: &(i32, i64), cached: &Cached) -> u64 {
        cached.sheet.len() as u64 + 64
    }
}

pub(crate) fn cache() -> Arc<Cache> {
    Arc::new(Cache::with_weighter(1_000, CACHED, Weight))
}

/// A day, counted from 1970-01-01.
pub(crate) fn day_of(at: Timestamp) -> i64 {
    at.as_second().div_euclid(DAY_S)
}

pub(crate) fn begin_of(day: i64) -> Timestamp {
    at_second(day * DAY_S)
}

fn date_of(day: i64) -> String {
    begin_of(day).strftime("%Y-%m-%d").to_string()
}

/// Packs runs of one journey and day: little endian, one after another.
fn pack(day: i64, runs: &[Run]) -> Vec<u8> {
    let mut sheet = Vec::with_capacity(8 + runs.len() * 72);
    sheet.push(LAYOUT);
    sheet.extend((runs.len() as u32).to_le_bytes());
    for r in runs {
        let offset_us = r.due_at.as_microsecond() - begin_of(day).as_microsecond();
        sheet.extend(r.id.as_bytes());
        sheet.extend((offset_us as u64).to_le_bytes());
        sheet.extend(r.location_id.to_le_bytes());
        sheet.push(outcome_code(r.outcome) as u8);
        sheet.extend(r.duration_ms.to_le_bytes());
        // What is unknown is no number.
        r.split_ms.unwrap_or([f32::NAN; 3]).iter().for_each(|ms| sheet.extend(ms.to_le_bytes()));
        let counts = r.counts.map_or([u64::MAX; 4], Counts::numbers);
        counts.iter().for_each(|n| sheet.extend(n.to_le_bytes()));
        sheet.extend((r.steps_ms.len() as u16).to_le_bytes());
        r.steps_ms.iter().for_each(|ms| sheet.extend(ms.to_le_bytes()));
        let trouble = r.trouble.as_deref().unwrap_or("");
        sheet.extend((trouble.len() as u32).to_le_bytes());
        sheet.extend(trouble.as_bytes());
    }
    sheet
}

/// Takes bytes off the front.
struct Reader<'a>(&'a [u8]);

impl<'a> Reader<'a> {
    fn bytes(&mut self, n: usize) -> Option<&'a [u8]> {
        let (taken, rest) = self.0.split_at_checked(n)?;
        self.0 = rest;
        Some(taken)
    }

    fn array<const N: usize>(&mut self) -> Option<[u8; N]> {
        self.bytes(N)?.try_into().ok()
    }
}

/// One run as it lies in a sheet.
struct Packed<'a> {
    id: Uuid,
    due_at: Timestamp,
    location_id: i32,
    outcome: Outcome,
    duration_ms: f64,
    split_ms: [f32; 3],
    counts: [u64; 4],
    steps: &'a [[u8; 4]],
    trouble: &'a str,
}

impl Packed<'_> {
    fn run(&self, site_id: i32, journey_id: i32) -> Run {
        Run {
            id: self.id,
            site_id,
            journey_id,
            location_id: self.location_id,
            due_at: self.due_at,
            outcome: self.outcome,
            duration_ms: self.duration_ms,
            steps_ms: self.steps.iter().map(|c| f32::from_le_bytes(*c)).collect(),
            trouble: (!self.trouble.is_empty()).then(|| self.trouble.to_string()),
            split_ms: (!self.split_ms[0].is_nan()).then_some(self.split_ms),
            counts: (self.counts[0] != u64::MAX).then(|| Counts::from_numbers(self.counts)),
        }
    }
}

fn packed<'a>(r: &mut Reader<'a>, begin: Timestamp) -> Option<Packed<'a>> {
    let id = Uuid::from_bytes(r.array()?);
    let offset = SignedDuration::from_micros(i64::try_from(u64::from_le_bytes(r.array()?)).ok()?);
    let location_id = i32::from_le_bytes(r.array()?);
    let outcome = outcome_of(i16::from(r.array::<1>()?[0])).ok()?;
    let duration_ms = f64::from_le_bytes(r.array()?);
    let split = r.bytes(12)?.as_chunks::<4>().0;
    let split_ms =
        std::array::from_fn(|i| split.get(i).map_or(f32::NAN, |c| f32::from_le_bytes(*c)));
    let counts = r.bytes(32)?.as_chunks::<8>().0;
    let counts = std::array::from_fn(|i| counts.get(i).map_or(0, |c| u64::from_le_bytes(*c)));
    let steps = u16::from_le_bytes(r.array()?) as usize;
    let steps = r.bytes(steps * 4)?.as_chunks::<4>().0;
    let trouble = u32::from_le_bytes(r.array()?) as usize;
    let trouble = std::str::from_utf8(r.bytes(trouble)?).ok()?;
    Some(Packed {
        id,
        due_at: begin.checked_add(offset).ok()?,
        location_id,
        outcome,
        duration_ms,
        split_ms,
        counts,
        steps,
        trouble,
    })
}

/// Takes from each run of a sheet; `None` when it is not a sheet of ours.
fn unpack<T>(day: i64, sheet: &[u8], take: impl Fn(&Packed<'_>) -> T) -> Option<Vec<T>> {
    let mut r = Reader(sheet);
    if r.array::<1>()? != [LAYOUT] {
        return None;
    }
    let count = u32::from_le_bytes(r.array()?) as usize;
    let mut all = Vec::with_capacity(count.min(sheet.len() / 40));
    let begin = begin_of(day);
    for _ in 0..count {
        all.push(take(&packed(&mut r, begin)?));
    }
    r.0.is_empty().then_some(all)
}

/// Nobody makes or drops the sheet of that day meanwhile.
async fn lock(tx: &mut PgConnection, journey_id: i32, day: i64) -> Result<()> {
    let day = i32::try_from(day).unwrap_or(0);
    sqlx::query("SELECT pg_advisory_xact_lock($1, $2)")
        .bind(journey_id)
        .bind(day)
        .execute(tx)
        .await?;
    Ok(())
}

/// A run of that moment has come in: the sheet of its day, if there is one, is no longer whole.
pub(crate) async fn drop_sheet(
    tx: &mut PgConnection,
    site_id: i32,
    journey_id: i32,
    at: Timestamp,
) -> Result<()> {
    let day = day_of(at);
    lock(tx, journey_id, day).await?;
    sqlx::query("DELETE FROM run_day WHERE site_id = $1 AND journey_id = $2 AND day = $3::date")
        .bind(site_id)
        .bind(journey_id)
        .bind(date_of(day))
        .execute(tx)
        .await?;
    Ok(())
}

/// What is taken of a run, from the sheet of its day or from columns of its row.
trait Taken: Clone + Send + Sync + 'static {
    /// The columns that it is taken from, beside the journey.
    const COLUMNS: &'static str;

    fn of_sheet(site_id: i32, journey_id: i32, run: &Packed<'_>) -> Self;

    /// From the journey and its columns, in their order.
    fn of_row(row: &PgRow) -> Result<Self>;

    /// Where what was taken of whole days is kept, if it is.
    fn held(_: &Db) -> Option<Arc<Taking<Self>>> {
        None
    }
}

/// What was taken of days lately, each with the stamp of the sheet that it was taken from.
pub(crate) type Taking<T> = quick_cache::sync::Cache<(i32, i64), (i64, Arc<[T]>), Heavy>;

#[derive(Debug, Clone)]
pub(crate) struct Heavy;

impl<T> quick_cache::Weighter<(i32, i64), (i64, Arc<[T]>)> for Heavy {
    fn weight(&self, _: &(i32, i64), (_, runs): &(i64, Arc<[T]>)) -> u64 {
        (size_of_val(&runs[..]) + 64) as u64
    }
}

/// A run as goals see it.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct ToGoals {
    /// From where.
    pub location: i32,
    /// When it was due, and what became of it.
    pub check: Check,
    /// How long it took, in milliseconds.
    pub duration_ms: f64,
}

pub(crate) fn to_goals() -> Arc<Taking<ToGoals>> {
    Arc::new(Taking::with_weighter(1_000, CACHED, Heavy))
}

impl Taken for Run {
    const COLUMNS: &'static str = crate::run::COLUMNS;

    fn of_sheet(site_id: i32, journey_id: i32, run: &Packed<'_>) -> Run {
        run.run(site_id, journey_id)
    }

    fn of_row(row: &PgRow) -> Result<Run> {
        crate::run::run_of(row, 1)
    }
}

impl Taken for ToGoals {
    const COLUMNS: &'static str = "due_at, location_id, outcome, duration_ms";

    fn of_sheet(_: i32, _: i32, run: &Packed<'_>) -> ToGoals {
        let check = Check { at: run.due_at, outcome: run.outcome };
        ToGoals { location: run.location_id, check, duration_ms: run.duration_ms }
    }

    fn of_row(row: &PgRow) -> Result<ToGoals> {
        let at: jiff_sqlx::Timestamp = row.try_get(1)?;
        let check = Check { at: at.to_jiff(), outcome: outcome_of(row.try_get(3)?)? };
        Ok(ToGoals { location: row.try_get(2)?, check, duration_ms: row.try_get(4)? })
    }

    fn held(db: &Db) -> Option<Arc<Taking<ToGoals>>> {
        Some(db.to_goals.clone())
    }
}

/// Of a run that got through.
impl Taken for Option<Timing> {
    const COLUMNS: &'static str = ToGoals::COLUMNS;

    fn of_sheet(site_id: i32, journey_id: i32, run: &Packed<'_>) -> Option<Timing> {
        ToGoals::of_sheet(site_id, journey_id, run).timing()
    }

    fn of_row(row: &PgRow) -> Result<Option<Timing>> {
        Ok(ToGoals::of_row(row)?.timing())
    }
}

impl ToGoals {
    fn timing(self) -> Option<Timing> {
        let ToGoals { location, check, duration_ms: ms } = self;
        check.outcome.got_through().then_some(Timing { at: check.at, location, ms })
    }
}

/// What is taken of the runs of a day: what is held of this very sheet, or anew.
fn taken<T: Taken>(
    key: (i32, i64),
    site_id: i32,
    of: &Cached,
    held: Option<&Taking<T>>,
) -> Option<Day<T>> {
    let known = held.and_then(|held| held.get(&key)).filter(|(stamp, _)| *stamp == of.stamp);
    if let Some((_, runs)) = known {
        return Some(Day::Held(runs));
    }
    let runs = unpack(key.1, &of.sheet, |p| T::of_sheet(site_id, key.0, p))?;
    let Some(held) = held else { return Some(Day::New(runs)) };
    let runs: Arc<[T]> = runs.into();
    held.insert(key, (of.stamp, runs.clone()));
    Some(Day::Held(runs))
}

/// What was taken of the runs of a day.
enum Day<T> {
    New(Vec<T>),
    Held(Arc<[T]>),
}

impl<T> Day<T> {
    fn len(&self) -> usize {
        match self {
            Day::New(runs) => runs.len(),
            Day::Held(runs) => runs.len(),
        }
    }
}

/// The runs of these journeys in a stretch as their rows have them, each with its journey.
async fn rows<'e, T: Taken>(
    from: impl sqlx::PgExecutor<'e>,
    journeys: &[i32],
    site_id: i32,
    stretch: Stretch,
) -> Result<Vec<(i32, T)>> {
    if stretch.to <= stretch.from {
        return Ok(Vec::new());
    }
    let sql = format!(
        "SELECT journey_id, {} FROM run
         WHERE site_id = $2 AND journey_id = ANY($1) AND due_at >= $3 AND due_at < $4 ORDER BY due_at",
        T::COLUMNS
    );
    let rows = sqlx::query(AssertSqlSafe(sql))
        .bind(journeys)
        .bind(site_id)
        .bind(stretch.from.to_sqlx())
        .bind(stretch.to.to_sqlx())
        .fetch_all(from)
        .await?;
    rows.iter().map(|row| Ok((row.try_get(0)?, T::of_row(row)?))).collect()
}

/// What was found of one journey.
fn only<T>(by_journey: HashMap<i32, Vec<T>>) -> Vec<T> {
    by_journey.into_values().next().unwrap_or_default()
}

impl Db {
    /// All runs of a journey that were due in the stretch, in order of time.
    pub async fn runs(&self, journey_id: i32, site_id: i32, stretch: Stretch) -> Result<Vec<Run>> {
        Ok(only(self.runs_of(&[journey_id], site_id, stretch).await?))
    }

    /// The same of many journeys at once, by journey; those without a run are left out.
    pub async fn runs_of(
        &self,
        journeys: &[i32],
        site_id: i32,
        stretch: Stretch,
    ) -> Result<HashMap<i32, Vec<Run>>> {
        self.each_run(journeys, site_id, stretch).await
    }

    /// When, where and how long a journey's runs were that got through.
    pub async fn timings(
        &self,
        journey_id: i32,
        site_id: i32,
        stretch: Stretch,
    ) -> Result<Vec<Timing>> {
        let all: HashMap<i32, Vec<Option<Timing>>> =
            self.each_run(&[journey_id], site_id, stretch).await?;
        Ok(only(all).into_iter().flatten().collect())
    }

    /// What goals are judged by: every run of these journeys in the stretch, in order of time.
    pub async fn runs_for_goals(
        &self,
        journeys: &[i32],
        site_id: i32,
        stretch: Stretch,
    ) -> Result<HashMap<i32, Vec<ToGoals>>> {
        self.each_run(journeys, site_id, stretch).await
    }

    /// Takes from each run of these journeys in the stretch: from sheets on whole days that are over, from rows
    /// elsewhere. As many statements for many journeys as for one.
    async fn each_run<T: Taken>(
        &self,
        journeys: &[i32],
        site_id: i32,
        stretch: Stretch,
    ) -> Result<HashMap<i32, Vec<T>>> {
        let mut all: HashMap<i32, Vec<T>> = HashMap::new();
        let add = |all: &mut HashMap<i32, Vec<T>>, runs: Vec<(i32, T)>| {
            runs.into_iter().for_each(|(journey, run)| all.entry(journey).or_default().push(run));
        };
        let rows = |stretch| rows::<T>(&self.lane, journeys, site_id, stretch);
        let first = day_of(stretch.from + SignedDuration::from_nanos(DAY_S * 1_000_000_000 - 1));
        if day_of(stretch.to) - first < WORTH_IT {
            add(&mut all, rows(stretch).await?);
            return Ok(all);
        }
        // A day is over when it is over by the database's clock.
        let today: i64 =
            sqlx::query_scalar("SELECT floor(extract(epoch FROM now()) / 86400)::bigint")
                .fetch_one(&self.lane)
                .await?;
        let end = day_of(stretch.to).min(today).max(first);
        let until_first = Stretch { from: stretch.from, to: begin_of(first) };
        let from_end = Stretch { from: begin_of(end), to: stretch.to };
        let (early, late, sheets) = futures::try_join!(
            rows(until_first),
            rows(from_end),
            self.sheets(journeys, site_id, first, end)
        )?;
        // Beside whatever else the page waits for: tens of thousands of runs take a core a while.
        let days: Vec<(i32, i64)> =
            journeys.iter().flat_map(|j| (first..end).map(|day| (*j, day))).collect();
        let wanted = days.clone();
        let held = T::held(self);
        let unpacked = self.heavily(move || {
            let of_day = |key: (i32, i64)| taken(key, site_id, sheets.get(&key)?, held.as_deref());
            wanted.into_iter().map(of_day).collect::<Vec<_>>()
        });
        let mut unpacked = unpacked.await?;
        for ((journey, day), runs) in days.iter().zip(&mut unpacked) {
            if runs.is_none() {
                let sheet = self.make_sheet(*journey, site_id, *day).await?;
                let taken = unpack(*day, &sheet, |p| T::of_sheet(site_id, *journey, p));
                *runs = taken.map(Day::New);
            }
        }
        // As long as they will be at once: runs are moved no more often than they must.
        let mut many: HashMap<i32, usize> = HashMap::new();
        for ((journey, _), runs) in days.iter().zip(&unpacked) {
            *many.entry(*journey).or_default() += runs.as_ref().map_or(0, Day::len);
        }
        let beside = early.len() + late.len();
        for (journey, many) in many.into_iter().filter(|(_, many)| *many > 0) {
            all.insert(journey, Vec::with_capacity(many + beside));
        }
        add(&mut all, early);
        for ((journey, _), runs) in days.into_iter().zip(unpacked) {
            match runs {
                Some(Day::New(runs)) if !runs.is_empty() => {
                    all.entry(journey).or_default().extend(runs);
                }
                Some(Day::Held(runs)) if !runs.is_empty() => {
                    all.entry(journey).or_default().extend_from_slice(&runs);
                }
                _ => {}
            }
        }
        add(&mut all, late);
        Ok(all)
    }

    /// The sheets of these journeys and days, where there are any.
    async fn sheets(
        &self,
        journeys: &[i32],
        site_id: i32,
        first: i64,
        end: i64,
    ) -> Result<HashMap<(i32, i64), Cached>> {
        let sql = "SELECT journey_id, day - '1970-01-01'::date, xmin::text::bigint FROM run_day
                   WHERE site_id = $1 AND journey_id = ANY($2) AND day >= $3::date AND day < $4::date";
        let stamps: Vec<(i32, i32, i64)> = sqlx::query_as(sql)
            .bind(site_id)
            .bind(journeys)
            .bind(date_of(first))
            .bind(date_of(end))
            .fetch_all(&self.lane)
            .await?;
        let mut sheets = HashMap::new();
        let mut to_read = (Vec::new(), Vec::new());
        for (journey, day, stamp) in stamps {
            let key = (journey, i64::from(day));
            match self.sheets.get(&key).filter(|c| c.stamp == stamp) {
                Some(cached) => {
                    sheets.insert(key, cached);
                }
                None => {
                    to_read.0.push(journey);
                    to_read.1.push(date_of(key.1));
                }
            }
        }
        if !to_read.0.is_empty() {
            // Those that were dropped meanwhile are made anew.
            let sql = "SELECT d.journey_id, d.day - '1970-01-01'::date, d.xmin::text::bigint, d.sheet FROM run_day d
                       JOIN unnest($2::int4[], $3::date[]) AS wanted(journey_id, day)
                         ON d.journey_id = wanted.journey_id AND d.day = wanted.day WHERE d.site_id = $1";
            let read: Vec<(i32, i32, i64, Vec<u8>)> = sqlx::query_as(sql)
                .bind(site_id)
                .bind(to_read.0)
                .bind(to_read.1)
                .fetch_all(&self.lane)
                .await?;
            for (journey, day, stamp, sheet) in read {
                let key = (journey, i64::from(day));
                let read = Cached { stamp, sheet: sheet.into() };
                self.sheets.insert(key, read.clone());
                sheets.insert(key, read);
            }
        }
        Ok(sheets)
    }

    /// Reads a day row by row and keeps its sheet.
    async fn make_sheet(&self, journey_id: i32, site_id: i32, day: i64) -> Result<Vec<u8>> {
        let mut tx = self.lane.begin().await?;
        lock(&mut tx, journey_id, day).await?;
        let whole = Stretch { from: begin_of(day), to: begin_of(day + 1) };
        let runs = rows::<Run>(&mut *tx, &[journey_id], site_id, whole).await?;
        let sheet = pack(day, &runs.into_iter().map(|(_, run)| run).collect::<Vec<_>>());
        sqlx::query(
            "INSERT INTO run_day VALUES ($1, $2, $3::date, $4)
             ON CONFLICT (site_id, journey_id, day) DO UPDATE SET sheet = excluded.sheet",
        )
        .bind(site_id)
        .bind(journey_id)
        .bind(date_of(day))
        .bind(&sheet)
        .execute(&mut *tx)
        .await?;
        tx.commit().await?;
        Ok(sheet)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn run() -> impl Strategy<Value = Run> {
        let of = (any::<u128>(), 0..86_400_000_000i64, any::<i32>(), 0..4usize, any::<f64>());
        let split = prop::option::of(prop::array::uniform3(0f32..9e6));
        let counts = prop::option::of(prop::array::uniform4(0..u64::MAX));
        let more = (
            prop::collection::vec(any::<f32>(), 0..9),
            prop::option::of("\\PC{1,40}"),
            split,
            counts,
        );
        (of, more).prop_map(
            |(
                (id, us, location_id, outcome, duration_ms),
                (steps_ms, trouble, split_ms, counts),
            )| Run {
                counts: counts.map(Counts::from_numbers),
                split_ms,
                id: Uuid::from_u128(id),
                site_id: 1,
                journey_id: 2,
                location_id,
                due_at: begin_of(20_000) + SignedDuration::from_micros(us),
                outcome: Outcome::ALL[outcome],
                duration_ms,
                steps_ms: steps_ms.into(),
                trouble,
            },
        )
    }

    proptest! {
        #[test]
        fn what_is_packed_is_unpacked_and_what_is_cut_is_refused(runs in prop::collection::vec(run(), 0..12), cut in 0usize..400) {
            let sheet = pack(20_000, &runs);
            let read = unpack(20_000, &sheet, |p| Run::of_sheet(1, 2, p)).unwrap_or_default();
            prop_assert_eq!(format!("{read:?}"), format!("{runs:?}"));
            let cut = &sheet[..cut.min(sheet.len().saturating_sub(1))];
            prop_assert!(unpack(20_000, cut, |p| Run::of_sheet(1, 2, p)).is_none());
        }
    }
}
