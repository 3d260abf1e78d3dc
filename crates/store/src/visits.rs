//! Single page views: those of a visit or a person, those of a page family, those with script errors.

use crate::db::{Db, Result};
use crate::sheet::Filed;
use cadentis_core::calendar::Stretch;
use cadentis_core::calendar::stretch::{at_second, hour_of};
use cadentis_core::timing::Vital;
use cadentis_core::visitor::errors::Occurrence;
use cadentis_core::visitor::slices::rows;
use cadentis_core::visitor::{Filter, HappeningRow, Seen, Sheet};
use jiff::{SignedDuration, Timestamp};
use std::collections::{BTreeMap, BTreeSet};
use uuid::Uuid;

/// A visit lasts no longer than this around one of its page views.
const AROUND_H: i64 = 24;

/// Hours that are looked through for errors at a time.
const PIECE_H: i64 = 96;

/// Names of columns, with those that a filter needs.
pub fn with_filter(columns: &[&str], filter: &Filter) -> Vec<String> {
    columns.iter().map(|c| c.to_string()).chain(filter.parts().map(|(a, _)| a.name())).collect()
}

/// Hour and id of a row.
type Place = (i64, u128);

fn place(sheet: &Sheet, row: usize) -> Option<Place> {
    Some((sheet.hour_s, sheet.id("id", row)?))
}

impl Db {
    /// The page views of a visit within a day of this moment, in order of time.
    pub async fn visit(
        &self,
        site_id: i32,
        visit: Uuid,
        near: Timestamp,
        most: usize,
    ) -> Result<Vec<Seen>> {
        let day = SignedDuration::from_hours(AROUND_H);
        self.of_one(
            site_id,
            "visit",
            visit.as_u128(),
            Stretch { from: near - day, to: near + day },
            most,
        )
        .await
    }

    /// The page views in the stretch whose column has this id, in order of time: of a `visit` or a `person`.
    pub async fn of_one(
        &self,
        site_id: i32,
        column: &str,
        id: u128,
        stretch: Stretch,
        most: usize,
    ) -> Result<Vec<Seen>> {
        let columns = ["at".to_string(), "id".to_string(), column.to_string()];
        let sheets = self.sheets_of(Filed::PageViews, site_id, stretch, &columns).await?;
        let mut places: Vec<(i64, Place)> = Vec::new();
        for sheet in &sheets {
            let keep = rows(sheet, stretch, &Filter::default());
            let here =
                (0..sheet.rows).filter(|row| keep[*row] && sheet.id(column, *row) == Some(id));
            places.extend(here.filter_map(|row| Some((sheet.at_ms(row)?, place(sheet, row)?))));
        }
        places.sort_unstable();
        let places: Vec<Place> = places.into_iter().take(most).map(|(_, place)| place).collect();
        self.seen(site_id, &places).await
    }

    /// What happened on the page views of a visit, in order of time.
    pub async fn told_of_visit(
        &self,
        site_id: i32,
        visit: Uuid,
        views: &[Seen],
    ) -> Result<Vec<HappeningRow>> {
        let (Some(first), Some(last)) = (views.first(), views.last()) else {
            return Ok(Vec::new());
        };
        let stretch = Stretch { from: first.at, to: last.at + SignedDuration::from_millis(1) };
        let columns = HappeningRow::COLUMNS.map(String::from);
        let sheets = self.sheets_of(Filed::Happenings, site_id, stretch, &columns).await?;
        let mut all = Vec::new();
        for sheet in &sheets {
            let here =
                (0..sheet.rows).filter(|row| sheet.id("visit", *row) == Some(visit.as_u128()));
            all.extend(here.filter_map(|row| HappeningRow::of(sheet, row)));
        }
        all.sort_by(|a, b| {
            (a.at, a.after).partial_cmp(&(b.at, b.after)).unwrap_or(std::cmp::Ordering::Equal)
        });
        Ok(all)
    }

    /// The page views with the highest value of a vital, highest first.
    pub async fn slowest_page_views(
        &self,
        site_id: i32,
        stretch: Stretch,
        filter: &Filter,
        vital: Vital,
        most: usize,
    ) -> Result<Vec<Seen>> {
        let column = vital.name().to_lowercase();
        let columns = with_filter(&[&column], filter);
        let sheets = self.sheets_of(Filed::PageViews, site_id, stretch, &columns).await?;
        // Value, hour and row: ids are four times as long as all else, and only of these few are they wanted.
        let mut slowest: Vec<(f32, i64, usize)> = Vec::new();
        for sheet in &sheets {
            let keep = rows(sheet, stretch, filter);
            let values = sheet.figures(&column);
            let kept = (0..sheet.rows)
                .filter(|row| keep[*row])
                .filter_map(|row| Some((values.at(row)?, row)));
            let least = if slowest.len() < most {
                f32::MIN
            } else {
                slowest.last().map_or(f32::MIN, |s| s.0)
            };
            slowest.extend(kept.filter(|(v, _)| *v > least).map(|(v, row)| (v, sheet.hour_s, row)));
            slowest.sort_by(|a, b| b.0.total_cmp(&a.0));
            slowest.truncate(most);
        }
        let hours: BTreeSet<i64> = slowest.iter().map(|(_, hour, _)| *hour).collect();
        let mut found = BTreeMap::new();
        for hour in hours {
            let whole = Stretch { from: at_second(hour), to: at_second(hour + 3_600) };
            for sheet in self.sheets_of(Filed::PageViews, site_id, whole, &[]).await? {
                for (value, _, row) in slowest.iter().filter(|(_, h, _)| *h == hour) {
                    // The hour may have been filed anew in between: then another row stands there.
                    let seen = Seen::of(&sheet, *row)
                        .filter(|_| sheet.number(&column, *row) == Some(*value));
                    found.extend(seen.map(|seen| ((hour, *row), seen)));
                }
            }
        }
        Ok(slowest.into_iter().filter_map(|(_, hour, row)| found.remove(&(hour, row))).collect())
    }

    /// What went wrong in pages, newest first: script errors, errors on the console, phrases that must not appear,
    /// resources that failed.
    pub async fn errors(
        &self,
        site_id: i32,
        stretch: Stretch,
        filter: &Filter,
        most: usize,
    ) -> Result<Vec<Occurrence>> {
        let columns = with_filter(
            &[
                "at", "what", "failed", "text", "place", "view", "visit", "person", "family",
                "browser", "release",
            ],
            filter,
        );
        let mut all = Vec::new();
        let mut end = stretch.to;
        // From the end in pieces: often the newest are enough.
        while end > stretch.from && all.len() < most {
            let begin = hour_of(end - SignedDuration::from_hours(PIECE_H)).max(stretch.from);
            let piece = Stretch { from: begin, to: end };
            all.extend(self.errors_of(site_id, piece, filter, &columns).await?);
            end = begin;
        }
        all.truncate(most);
        Ok(all)
    }

    async fn errors_of(
        &self,
        site_id: i32,
        stretch: Stretch,
        filter: &Filter,
        columns: &[String],
    ) -> Result<Vec<Occurrence>> {
        let sheets = self.sheets_of(Filed::Failures, site_id, stretch, columns).await?;
        let mut all = Vec::new();
        for sheet in sheets.iter().rev() {
            let keep = rows(sheet, stretch, filter);
            let (whats, failed) = (sheet.texts("what"), sheet.texts("failed"));
            let is_wrong = |row: &usize| {
                let what = whats.at(*row);
                what != "request" && what != "action" && !failed.at(*row).is_empty()
            };
            let wrong = (0..sheet.rows).rev().filter(|row| keep[*row]).filter(is_wrong);
            all.extend(wrong.filter_map(|row| {
                Some(Occurrence {
                    at: Timestamp::from_millisecond(sheet.at_ms(row)?).ok()?,
                    what: sheet.text("what", row).to_string(),
                    place: sheet.text("place", row).to_string(),
                    release: sheet.text("release", row).to_string(),
                    view: Uuid::from_u128(sheet.id("view", row)?),
                    visit: Uuid::from_u128(sheet.id("visit", row).unwrap_or(0)),
                    person: sheet.id("person", row).unwrap_or(0) as u64,
                    family: sheet.text("family", row).to_string(),
                    browser: sheet.text("browser", row).to_string(),
                    text: sheet.text("text", row).to_string(),
                })
            }));
        }
        Ok(all)
    }
}
