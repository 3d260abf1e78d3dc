//! Gathering a measure from page views and from what happened on them.

use super::{Counted, Ended, Key, Measure, Measured, Part, Rated, Scope, Subject};
use crate::calendar::{Cover, Stretch};
use crate::timing::Rating;
use crate::visitor::filed::attribute::Attribute;
use crate::visitor::happening::pattern;
use crate::visitor::sheet::Sheet;
use crate::visitor::slices::rows;
use std::collections::{BTreeMap, HashMap};

/// How samples are gathered.
#[derive(Debug, Clone, Copy)]
pub struct Gather<'a> {
    /// Which number.
    pub measure: &'a Measure,
    /// Of what.
    pub scope: &'a Scope,
    /// From when to when.
    pub stretch: Stretch,
    /// Length of a bucket of time in seconds; buckets begin at multiples of it.
    pub bucket_s: i64,
    /// Keep every sample of a percentile.
    pub exact: bool,
}

/// Adds a row of a sheet to a part.
pub(crate) type Adder<'s> = Box<dyn FnMut(usize, &mut Part) + 's>;

/// Parts of time, by the second in which each begins.
pub type Parts = BTreeMap<i64, Part>;

impl<'a> Gather<'a> {
    /// How samples of this measure are gathered.
    pub fn of(of: &'a Measured, stretch: Stretch, (bucket_s, exact): (i64, bool)) -> Gather<'a> {
        Gather { measure: &of.measure, scope: &of.scope, stretch, bucket_s, exact }
    }
}

impl Gather<'_> {
    /// The columns that it reads.
    pub fn columns(&self) -> Vec<String> {
        let mut names: Vec<String> =
            self.scope.filter().parts().map(|(attribute, _)| attribute.name()).collect();
        let mut add = |more: &[&str]| names.extend(more.iter().map(|name| (*name).to_string()));
        // Where buckets are whole hours, moments matter at both ends only, where they come anyhow.
        if self.bucket_s % 3_600 != 0 || self.measure.is_silence() {
            add(&["at"]);
        }
        let fault = !self.scope.of(&Key::Fault).is_empty();
        match self.measure {
            Measure::Views(Counted::Visits) => add(&["visit"]),
            Measure::Views(Counted::People) => add(&["person"]),
            Measure::ViewFigure(figure, _) => add(&[&figure.column()]),
            Measure::ViewsRated(vital, _) => add(&[&vital.name().to_lowercase()]),
            Measure::Apdex(_) => add(&["lcp"]),
            Measure::ViewsEnded(Ended::WithErrors) => add(&["errors"]),
            // Something that every page view has, so that the sheet knows how many there are.
            Measure::ViewsEnded(_) => add(&["ended", "family"]),
            Measure::Views(Counted::PageViews) => add(&["family"]),
            Measure::HappenedCount(_) => add(&["what", "name"]),
            Measure::HappenedTime(..) => add(&["what", "name", "ms"]),
            Measure::HappenedFailed(_) if fault => add(&["what", "name", "failed", "fault"]),
            Measure::HappenedFailed(_) => add(&["what", "name", "failed"]),
            Measure::ErrorCount if self.scope.of(&Key::Error).is_empty() => {
                add(&["what", "failed"])
            }
            Measure::ErrorCount | Measure::ErrorKinds | Measure::NewErrorKinds => {
                add(&["what", "failed", "text"])
            }
            Measure::ErrorPeople => add(&["what", "failed", "text", "person"]),
            _ => {}
        }
        names.sort();
        names.dedup();
        names
    }

    /// Whether it is read from what happened on page views.
    pub fn is_of_happenings(&self) -> bool {
        matches!(self.measure.subject(), Subject::Requests | Subject::Actions | Subject::Errors)
    }

    /// Whether it is enough to read what went wrong.
    pub fn is_of_failures(&self) -> bool {
        self.measure.subject() == Subject::Errors
    }

    /// Gathers the rows of one sheet.
    pub fn take(&self, sheet: &Sheet, into: &mut Parts) {
        let keep = self.kept(sheet);
        if !keep.contains(&true) {
            return;
        }
        match self.measure {
            Measure::Views(Counted::Visits) => self.ids(sheet, "visit", &keep, into),
            Measure::Views(Counted::People) => self.ids(sheet, "person", &keep, into),
            Measure::ErrorPeople => self.ids(sheet, "person", &keep, into),
            Measure::ErrorKinds | Measure::NewErrorKinds => self.kinds(sheet, &keep, into),
            _ => self.one_by_one(sheet, &keep, into),
        }
    }

    /// Which rows are samples.
    pub(crate) fn kept(&self, sheet: &Sheet) -> Vec<bool> {
        let mut keep = rows(sheet, self.stretch, &self.scope.filter());
        if !self.is_of_happenings() {
            return keep;
        }
        let mut narrow = |column: &str, fits: &dyn Fn(&str) -> bool| match sheet.words(column) {
            Some(words) => {
                let fits: Vec<bool> = words.values.iter().map(|v| fits(v)).collect();
                words.codes.narrow(&mut keep, &fits);
            }
            None if !fits("") => keep.fill(false),
            None => {}
        };
        match self.measure.subject() {
            Subject::Errors => {
                narrow("what", &|what| what != "request" && what != "action");
                narrow("failed", &|failed| !failed.is_empty());
                if !self.scope.of(&Key::Error).is_empty() {
                    narrow("text", &|text| self.scope.takes(&Key::Error, &pattern(text)));
                }
            }
            subject => {
                let (what, key) = match subject {
                    Subject::Requests => ("request", Key::Request),
                    _ => ("action", Key::Action),
                };
                narrow("what", &|w| w == what);
                narrow("name", &|name| self.scope.takes(&key, name));
            }
        }
        keep
    }

    /// The bucket of a row.
    pub(crate) fn bucket(&self, sheet: &Sheet) -> impl Fn(usize) -> i64 + use<'_> {
        let of = |at_s: i64| at_s.div_euclid(self.bucket_s) * self.bucket_s;
        let (begin, end) = (of(sheet.hour_s), of(sheet.hour_s + 3_599));
        let (moments, hour_s) = (sheet.moments("at").to_vec(), sheet.hour_s);
        let bucket_s = self.bucket_s;
        move |row| {
            if begin == end {
                return begin;
            }
            let at_s = hour_s + i64::from(moments.get(row).copied().unwrap_or(0)) / 1_000;
            at_s.div_euclid(bucket_s) * bucket_s
        }
    }

    /// What is read of each row.
    fn read<'s>(&self, sheet: &'s Sheet) -> impl Fn(usize) -> Row<'s> + use<'s> {
        let figures = match self.measure {
            Measure::ViewFigure(figure, _) => sheet.figures(&figure.column()),
            Measure::ViewsRated(vital, _) => sheet.figures(&vital.name().to_lowercase()),
            Measure::Apdex(_) => sheet.figures("lcp"),
            Measure::HappenedTime(..) => sheet.figures("ms"),
            _ => sheet.figures("errors"),
        };
        let texts = sheet.texts(match self.measure {
            Measure::HappenedFailed(_) => "failed",
            _ => "ended",
        });
        let faults = sheet.texts("fault");
        let reads = self.reads_figure();
        move |row| Row {
            figure: reads.then(|| figures.at(row)).flatten().map(f64::from),
            text: texts.at(row),
            fault: faults.at(row),
        }
    }

    fn one_by_one(&self, sheet: &Sheet, keep: &[bool], into: &mut Parts) {
        let (bucket, read) = (self.bucket(sheet), self.read(sheet));
        let moments = sheet.moments("at");
        // Rows are in order of time: the part of one is nearly always that of the one before.
        let mut here: (i64, Part) = (i64::MIN, Part::default());
        for row in (0..sheet.rows).filter(|row| keep[*row]) {
            let at = bucket(row);
            if at != here.0 {
                put(into, std::mem::replace(&mut here, (at, Part::default())));
            }
            self.add(&read(row), &mut here.1);
            if self.measure.is_silence() {
                let at_s = sheet.hour_s + moments.get(row).map_or(0, |ms| i64::from(*ms) / 1_000);
                here.1.newest_s = here.1.newest_s.max(Some(at_s));
            }
        }
        put(into, here);
    }

    fn reads_figure(&self) -> bool {
        matches!(
            self.measure,
            Measure::ViewFigure(..)
                | Measure::ViewsRated(..)
                | Measure::Apdex(_)
                | Measure::HappenedTime(..)
                | Measure::ViewsEnded(Ended::WithErrors)
        )
    }

    fn add(&self, row: &Row<'_>, part: &mut Part) {
        match self.measure {
            Measure::ViewFigure(_, statistic) | Measure::HappenedTime(_, statistic) => {
                if let Some(value) = row.figure {
                    part.add(*statistic, value, self.exact);
                }
            }
            Measure::ViewsRated(vital, rated) => {
                if let Some(value) = row.figure {
                    let is_hit = match rated {
                        Rated::Good => vital.rate(value) == Rating::Good,
                        Rated::Poor => vital.rate(value) == Rating::Poor,
                    };
                    part.samples += 1;
                    part.hits += u64::from(is_hit);
                }
            }
            Measure::Apdex(t_ms) => {
                if let Some(value) = row.figure {
                    part.samples += 1;
                    part.hits += u64::from(value <= *t_ms);
                    part.halves += u64::from(value > *t_ms && value <= 4.0 * t_ms);
                }
            }
            Measure::ViewsEnded(ended) => {
                let is_hit = match ended {
                    Ended::Abandoned => row.text.starts_with("abandoned"),
                    Ended::Blank => row.text.ends_with("blank"),
                    Ended::WithErrors => row.figure.is_some_and(|n| n > 0.0),
                };
                part.samples += 1;
                part.hits += u64::from(is_hit);
            }
            Measure::HappenedFailed(_) => {
                let is_failed = !row.text.is_empty() && self.scope.takes(&Key::Fault, row.fault);
                part.samples += 1;
                part.hits += u64::from(is_failed);
            }
            _ => part.samples += 1,
        }
    }

    /// Adds rows of a sheet to parts one by one, whatever it counts.
    pub(crate) fn adder<'s>(&'s self, sheet: &'s Sheet) -> Adder<'s> {
        let ids_of = |column: &str| {
            let ids = sheet.ids(column);
            Box::new(move |row: usize, part: &mut Part| {
                part.samples += 1;
                part.ids.extend(ids.and_then(|ids| ids.get(row)).filter(|id| **id != 0));
            })
        };
        match self.measure {
            Measure::Views(Counted::Visits) => ids_of("visit"),
            Measure::Views(Counted::People) | Measure::ErrorPeople => ids_of("person"),
            Measure::ErrorKinds | Measure::NewErrorKinds => {
                let texts = sheet.texts("text");
                let mut patterns: HashMap<&str, String> = HashMap::new();
                Box::new(move |row, part| {
                    part.samples += 1;
                    let text = texts.at(row);
                    let kind = patterns.entry(text).or_insert_with(|| pattern(text));
                    if !part.kinds.contains(kind) {
                        part.kinds.insert(kind.clone());
                    }
                })
            }
            _ => {
                let read = self.read(sheet);
                Box::new(move |row, part| self.add(&read(row), part))
            }
        }
    }

    fn ids(&self, sheet: &Sheet, column: &str, keep: &[bool], into: &mut Parts) {
        let bucket = self.bucket(sheet);
        let ids = sheet.ids(column);
        for row in (0..sheet.rows).filter(|row| keep[*row]) {
            let part = into.entry(bucket(row)).or_default();
            part.samples += 1;
            let id = ids.and_then(|ids| ids.get(row)).filter(|id| **id != 0);
            part.ids.extend(id);
        }
    }

    fn kinds(&self, sheet: &Sheet, keep: &[bool], into: &mut Parts) {
        let bucket = self.bucket(sheet);
        let texts = sheet.texts("text");
        // Each text once, not each row.
        let mut patterns: HashMap<&str, String> = HashMap::new();
        for row in (0..sheet.rows).filter(|row| keep[*row]) {
            let part = into.entry(bucket(row)).or_default();
            part.samples += 1;
            let text = texts.at(row);
            let kind = patterns.entry(text).or_insert_with(|| pattern(text));
            if !part.kinds.contains(kind) {
                part.kinds.insert(kind.clone());
            }
        }
    }
}

/// What is read of a row.
struct Row<'a> {
    figure: Option<f64>,
    text: &'a str,
    fault: &'a str,
}

fn put(into: &mut Parts, (at, part): (i64, Part)) {
    if part.samples > 0 {
        into.entry(at).or_default().absorb(&part);
    }
}

/// A kind of error is new when it was not seen for so long.
pub const FIRST_SIGHT_S: i64 = 14 * 86_400;

/// Of parts that reach back by [`FIRST_SIGHT_S`] those from a moment on, with the kinds alone that are seen for the first time
/// in them.
pub fn first_sights(parts: Parts, from_s: i64) -> Parts {
    let mut seen: HashMap<String, i64> = HashMap::new();
    let mut all = Parts::new();
    for (at, mut part) in parts {
        part.kinds.retain(|kind| {
            let before = seen.insert(kind.clone(), at);
            before.is_none_or(|before| at - before > FIRST_SIGHT_S)
        });
        if at >= from_s {
            all.insert(at, part);
        }
    }
    all
}

/// Gathers all sheets by the values of an attribute, of each row that lies in the counted time; of shares, means and times.
pub fn by_value(
    sheets: &[Sheet],
    wanted: &Gather<'_>,
    attribute: &Attribute,
    counted: &Cover,
) -> BTreeMap<String, Part> {
    let of = |half: &[Sheet]| {
        let mut all: BTreeMap<String, Part> = BTreeMap::new();
        for sheet in half {
            let mut keep = wanted.kept(sheet);
            let counts = |at_ms: &u32| counted.contains(at_ms_of(sheet, *at_ms));
            for (keep, at) in keep.iter_mut().zip(sheet.moments("at")) {
                *keep = *keep && counts(at);
            }
            for (value, part) in values_of(sheet, wanted, attribute, &keep) {
                all.entry(value.to_string()).or_default().absorb(&part);
            }
        }
        all
    };
    let (mut all, back) = crate::visitor::slices::in_halves(sheets, of);
    for (value, part) in back {
        all.entry(value).or_default().absorb(&part);
    }
    all
}

/// What these rows of one sheet come to by the values of an attribute; of shares, means and times.
pub(crate) fn values_of<'s>(
    sheet: &'s Sheet,
    wanted: &Gather<'_>,
    attribute: &Attribute,
    keep: &[bool],
) -> HashMap<&'s str, Part> {
    let (read, values) = (wanted.read(sheet), sheet.texts(&attribute.name()));
    let mut all: HashMap<&str, Part> = HashMap::new();
    for row in (0..sheet.rows).filter(|row| keep[*row]) {
        wanted.add(&read(row), all.entry(values.at(row)).or_default());
    }
    all
}

fn at_ms_of(sheet: &Sheet, at_ms: u32) -> jiff::Timestamp {
    let ms = sheet.hour_s * 1_000 + i64::from(at_ms);
    jiff::Timestamp::from_millisecond(ms).unwrap_or_default()
}

/// Gathers all sheets, on both cores.
pub fn gather(sheets: &[Sheet], wanted: &Gather<'_>) -> Parts {
    let (mut all, back) = crate::visitor::slices::in_halves(sheets, |half| {
        let mut parts = Parts::new();
        half.iter().for_each(|sheet| wanted.take(sheet, &mut parts));
        parts
    });
    for (at, part) in back {
        all.entry(at).or_default().absorb(&part);
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::calendar::stretch::at_second;
    use crate::visitor::sheet::Column;

    /// An hour in which these errors were told, each by its minute and text.
    fn told(hour_s: i64, errors: &[(u32, &str)]) -> Sheet {
        let mut sheet = Sheet::new(hour_s);
        let columns = [
            ("at", Column::Moments(errors.iter().map(|(minute, _)| minute * 60_000).collect())),
            ("what", Column::words(errors.iter().map(|_| "error"))),
            ("failed", Column::words(errors.iter().map(|_| "failed"))),
            ("text", Column::words(errors.iter().map(|(_, text)| *text))),
        ];
        columns.into_iter().for_each(|(name, column)| sheet.put(name, column).unwrap());
        sheet
    }

    #[test]
    fn a_kind_of_error_is_new_once_and_again_when_it_was_not_seen_for_two_weeks() {
        let day = 86_400;
        let sheets = [
            told(
                0,
                &[(0, "x is not a function"), (1, "x is not a function"), (2, "no sailing 17")],
            ),
            told(13 * day, &[(0, "no sailing 99")]),
            told(15 * day, &[(0, "x is not a function"), (5, "no sailing 3"), (5, "all new")]),
        ];
        let measure = Measure::NewErrorKinds;
        let scope = Scope::default();
        let stretch = Stretch { from: at_second(0), to: at_second(16 * day) };
        let wanted =
            Gather { measure: &measure, scope: &scope, stretch, bucket_s: 60, exact: true };
        let parts = first_sights(gather(&sheets, &wanted), 60);
        let mut new: Vec<(i64, Vec<String>)> = parts
            .into_iter()
            .map(|(at, part)| (at, part.kinds.into_iter().collect()))
            .filter(|(_, kinds): &(i64, Vec<String>)| !kinds.is_empty())
            .collect();
        new.iter_mut().for_each(|(_, kinds)| kinds.sort());
        let named = |kinds: &[&str]| kinds.iter().map(|k| pattern(k)).collect::<Vec<_>>();
        assert_eq!(
            new,
            [
                (120, named(&["no sailing 17"])),
                (15 * day, named(&["x is not a function"])),
                (15 * day + 300, named(&["all new"])),
            ]
        );
    }
}
