//! Page views that a goal is judged by, counted by the hour: an hour that is filed holds the same each time it is asked for.

use super::views::{Minute, minute};
use crate::calendar::Cover;
use crate::calendar::Stretch;
use crate::calendar::stretch::at_second;
use crate::measure::Measured;
use crate::measure::sheets::{Gather, Parts, values_of};
use crate::measure::windowed::MINUTE_S;
use crate::visitor::slices::in_halves;
use crate::visitor::{Attribute, Sheet};
use jiff::Timestamp;
use std::collections::BTreeMap;

const HOUR_S: i64 = 3_600;

/// What was good and what was bad of one value of an attribute.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OfValue {
    /// The value.
    pub value: Box<str>,
    /// What of it was as it should be.
    pub good: u64,
    /// What of it was not.
    pub bad: u64,
}

/// What a whole hour held: by its minutes, or by the values of an attribute.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Hour {
    /// Those of its minutes that held something.
    Minutes(Box<[Minute]>),
    /// Values that were seen in it.
    Values(Box<[OfValue]>),
}

impl Hour {
    /// Bytes that it takes in memory, about.
    pub fn weight(&self) -> usize {
        match self {
            Hour::Minutes(all) => std::mem::size_of_val(&**all),
            Hour::Values(all) => {
                all.iter().map(|v| v.value.len() + std::mem::size_of::<OfValue>()).sum()
            }
        }
    }
}

/// Counts the whole hours of sheets: by the minute, or by this attribute.
pub fn count(sheets: &[Sheet], of: &Measured, by: Option<&Attribute>) -> BTreeMap<i64, Hour> {
    let one = |sheet: &Sheet| {
        let wanted = Gather::of(of, whole(sheet.hour_s), (MINUTE_S, false));
        let Some(by) = by else {
            let mut parts = Parts::new();
            wanted.take(sheet, &mut parts);
            return Hour::Minutes(
                parts.iter().map(|(at, p)| minute(*at, p, &of.measure)).collect(),
            );
        };
        let values = values_of(sheet, &wanted, by, &wanted.kept(sheet));
        let value = |(value, part): (&str, _)| {
            let Minute { good, bad, .. } = minute(0, &part, &of.measure);
            OfValue { value: value.into(), good, bad }
        };
        Hour::Values(values.into_iter().map(value).collect())
    };
    let of_all = |half: &[Sheet]| half.iter().map(|s| (s.hour_s, one(s))).collect();
    let (mut all, back): (BTreeMap<i64, Hour>, BTreeMap<i64, Hour>) = in_halves(sheets, of_all);
    all.extend(back);
    all
}

/// The hour that begins then.
pub fn whole(hour_s: i64) -> Stretch {
    Stretch { from: at_second(hour_s), to: at_second(hour_s + HOUR_S) }
}

/// The whole hours of a stretch and what lies before and after them; none that is empty.
pub fn parted(stretch: Stretch) -> (Option<Stretch>, Vec<Stretch>) {
    // Whole seconds of a moment before 1970 are nearer to it, not earlier.
    let hour_ns = i128::from(HOUR_S) * 1_000_000_000;
    let floor = |at: Timestamp| at_second(at.as_nanosecond().div_euclid(hour_ns) as i64 * HOUR_S);
    let from = match floor(stretch.from) {
        begin if begin == stretch.from => begin,
        begin => at_second(begin.as_second() + HOUR_S),
    };
    let to = floor(stretch.to);
    if from >= to {
        return (None, Some(stretch).filter(|s| s.from < s.to).into_iter().collect());
    }
    let ends = [Stretch { from: stretch.from, to: from }, Stretch { from: to, to: stretch.to }];
    (Some(Stretch { from, to }), ends.into_iter().filter(|s| s.from < s.to).collect())
}

/// The hours that a cover holds wholly, and what it holds of others.
pub fn counting(counted: &Cover) -> (Vec<Stretch>, Vec<Stretch>) {
    let (mut wholly, mut partly) = (Vec::new(), Vec::new());
    for stretch in counted.stretches() {
        let (whole, ends) = parted(*stretch);
        wholly.extend(whole);
        partly.extend(ends);
    }
    (wholly, partly)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::goal::views::minutes;
    use crate::measure::sheets::{by_value, gather};
    use crate::visitor::Column;
    use jiff::SignedDuration;
    use proptest::prelude::*;

    /// Page views of an hour: millisecond, LCP, family.
    fn sheet(hour_s: i64, views: &[(u32, f32, u8)]) -> Sheet {
        let mut sheet = Sheet::new(hour_s);
        let columns = [
            ("at", Column::Moments(views.iter().map(|(at, ..)| *at).collect())),
            ("lcp", Column::numbers(views.iter().map(|(_, lcp, _)| Some(*lcp)))),
            (
                "family",
                Column::words(
                    views.iter().map(|(.., f)| ["home", "search", "pay"][usize::from(*f)]),
                ),
            ),
        ];
        columns.into_iter().for_each(|(name, column)| sheet.put(name, column).unwrap());
        sheet
    }

    fn views() -> impl Strategy<Value = Vec<(u32, f32, u8)>> {
        let view = (0..3_600_000u32, 0.0..6_000.0f32, 0..3u8);
        proptest::collection::vec(view, 0..60).prop_map(|mut all| {
            all.sort_by_key(|(at, ..)| *at);
            all
        })
    }

    fn minute_of(nth: i64) -> Timestamp {
        at_second(nth * MINUTE_S)
    }

    proptest! {
        #[test]
        fn hours_counted_one_by_one_are_what_the_whole_comes_to(
            all in proptest::collection::vec(views(), 1..8),
            cuts in proptest::collection::vec((0..480i64, 1..200i64), 0..4),
        ) {
            let of: Measured = "share of LCP within 2.5 s".parse().unwrap();
            let sheets: Vec<Sheet> =
                all.iter().enumerate().map(|(nth, v)| sheet(nth as i64 * HOUR_S, v)).collect();
            let stretch = Stretch { from: at_second(0), to: at_second(sheets.len() as i64 * HOUR_S) };
            let wanted = Gather::of(&of, stretch, (MINUTE_S, false));
            let by_minute: Vec<Minute> = count(&sheets, &of, None)
                .into_values()
                .flat_map(|h| match h { Hour::Minutes(m) => m.into_vec(), Hour::Values(_) => Vec::new() })
                .collect();
            prop_assert_eq!(by_minute, minutes(&gather(&sheets, &wanted), &of.measure));

            // By value, of the time that counts: whole hours from what was counted, the rest from its rows.
            let counted = Cover::of(cuts.iter().map(|(from, long)| Stretch {
                from: minute_of(*from),
                to: minute_of(from + long),
            })).within(stretch);
            let family = Attribute::Family;
            let (wholly, partly) = counting(&counted);
            let hours = count(&sheets, &of, Some(&family));
            let mut held: BTreeMap<String, (u64, u64)> = BTreeMap::new();
            let mut add = |value: &str, good: u64, bad: u64| {
                let at = held.entry(value.to_string()).or_default();
                (at.0, at.1) = (at.0 + good, at.1 + bad);
            };
            for (hour_s, hour) in &hours {
                let Hour::Values(values) = hour else { continue };
                if wholly.iter().any(|s| s.contains(at_second(*hour_s))) {
                    values.iter().for_each(|v| add(&v.value, v.good, v.bad));
                }
            }
            let rest = by_value(&sheets, &wanted, &family, &Cover::of(partly));
            rest.iter().for_each(|(value, p)| add(value, p.hits, p.samples - p.hits));
            let direct = by_value(&sheets, &wanted, &family, &counted);
            let direct: BTreeMap<String, (u64, u64)> =
                direct.into_iter().map(|(v, p)| (v, (p.hits, p.samples - p.hits))).collect();
            prop_assert_eq!(held, direct);
        }

        #[test]
        fn a_stretch_falls_apart_into_whole_hours_and_less_than_two_hours_beside_them(
            from in -90_000_000i64..90_000_000, long in 0i64..40_000_000,
        ) {
            let from = Timestamp::from_millisecond(from).unwrap();
            let stretch = Stretch { from, to: from + SignedDuration::from_millis(long) };
            let (whole, ends) = parted(stretch);
            let all = Cover::of(whole.into_iter().chain(ends.iter().copied()));
            prop_assert_eq!(all, Cover::from(stretch));
            prop_assert!(ends.iter().all(|s| s.ms() < 7_200_000.0));
            if let Some(whole) = whole {
                prop_assert_eq!(whole.from.as_millisecond().rem_euclid(3_600_000), 0);
                prop_assert_eq!(whole.to.as_millisecond().rem_euclid(3_600_000), 0);
                prop_assert!(ends.iter().all(|s| s.ms() < 3_600_000.0));
            }
        }
    }

    /// Requests of an hour: millisecond, whether it failed, its name; and an action that failed with each of them.
    fn asked(hour_s: i64, all: &[(u32, bool, &str)]) -> Sheet {
        let mut sheet = Sheet::new(hour_s);
        let twice = || all.iter().flat_map(|one| [(one, "request"), (one, "action")]);
        let columns =
            [
                ("at", Column::Moments(twice().map(|((at, ..), _)| *at).collect())),
                ("what", Column::words(twice().map(|(_, what)| what))),
                ("name", Column::words(twice().map(|((_, _, name), _)| *name))),
                (
                    "failed",
                    Column::words(twice().map(|((_, failed, _), what)| {
                        if *failed || what == "action" { "503" } else { "" }
                    })),
                ),
                (
                    "device",
                    Column::words(
                        twice().map(|((at, ..), _)| if at % 2 == 1 { "phone" } else { "desktop" }),
                    ),
                ),
            ];
        columns.into_iter().for_each(|(name, column)| sheet.put(name, column).unwrap());
        sheet
    }

    #[test]
    fn of_requests_what_did_not_fail_is_good_minute_by_minute_and_by_device() {
        let of: Measured = "share of requests failed for request \"GET /pay\"".parse().unwrap();
        let sheets = [
            asked(
                0,
                &[(1, true, "GET /pay"), (59_999, false, "GET /pay"), (60_000, true, "GET /cabin")],
            ),
            asked(HOUR_S, &[(3_599_000, true, "GET /pay")]),
            asked(2 * HOUR_S, &[]),
        ];
        let minute = |begin_s, good, bad| Minute { begin_s, good, bad };
        let by_minute = count(&sheets, &of, None);
        assert_eq!(by_minute[&0], Hour::Minutes([minute(0, 1, 1)].into()));
        assert_eq!(by_minute[&HOUR_S], Hour::Minutes([minute(2 * HOUR_S - MINUTE_S, 0, 1)].into()));
        // An hour that held nothing of it is known to hold nothing.
        assert_eq!(by_minute[&(2 * HOUR_S)], Hour::Minutes([].into()));
        let by_device = count(&sheets, &of, Some(&Attribute::Device));
        let Hour::Values(values) = &by_device[&0] else { panic!("{by_device:?}") };
        let values: Vec<(&str, u64, u64)> =
            values.iter().map(|v| (&*v.value, v.good, v.bad)).collect();
        assert_eq!(values, [("phone", 1, 1)]);
        assert!(by_minute[&0].weight() > by_minute[&(2 * HOUR_S)].weight());
        assert!(by_device[&0].weight() > "phone".len());
    }

    #[test]
    fn what_a_cover_holds_of_hours_is_told_apart_from_the_hours_that_it_holds_wholly() {
        let stretch = |from_min: i64, to_min: i64| Stretch {
            from: minute_of(from_min),
            to: minute_of(to_min),
        };
        let (wholly, partly) =
            counting(&Cover::of([stretch(30, 180), stretch(200, 220), stretch(240, 300)]));
        assert_eq!(wholly, [stretch(60, 180), stretch(240, 300)]);
        assert_eq!(partly, [stretch(30, 60), stretch(200, 220)]);
        assert_eq!(counting(&Cover::default()), (vec![], vec![]));
        assert_eq!(whole(HOUR_S), stretch(60, 120));
    }
}
