//! Script errors, gathered by what went wrong: one mistake in the script leaves many texts that differ by a number, an
//! id or an address (common practice, no published source).

use crate::visitor::happening::pattern;
use jiff::Timestamp;
use serde::Serialize;
use std::collections::{BTreeMap, HashMap, HashSet};
use uuid::Uuid;

/// A script error, or something else that went wrong in a page.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Occurrence {
    /// `error`, `console`, `phrase` or `resource`.
    pub what: String,
    /// Where in the scripts; empty when nobody told.
    pub place: String,
    /// Version of the site.
    pub release: String,
    /// The page view.
    pub view: Uuid,
    /// 0 when nobody said who it was.
    pub person: u64,
    /// When.
    pub at: Timestamp,
    /// The visit.
    pub visit: Uuid,
    /// Page family.
    pub family: String,
    /// Name of the browser.
    pub browser: String,
    /// What was said.
    pub text: String,
}

/// Occurrences of one kind.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Kind {
    /// A script error, a console error, …
    pub what: String,
    /// What is alike in all their texts.
    pub pattern: String,
    /// Where in the scripts.
    pub place: String,
    /// How often it happened.
    pub count: u64,
    /// How many people met it, of whom pages told who they are.
    pub people: u64,
    /// How often in each version of the site.
    pub releases: Vec<(String, u64)>,
    /// The newest text as it was.
    pub example: String,
    /// On how many page views.
    pub page_views: u64,
    /// In how many visits.
    pub visits: u64,
    /// When first.
    pub first: Timestamp,
    /// When last.
    pub last: Timestamp,
    /// How many page views of each page family and browser, most first.
    pub families: Vec<(String, u64)>,
    /// How often in each browser.
    pub browsers: Vec<(String, u64)>,
    /// Moments and visits of the newest, newest first.
    pub newest: Vec<(Timestamp, Uuid)>,
}

/// So many of the newest occurrences are named.
const NAMED: usize = 3;

/// Gathers them, those that touched most visits first.
pub fn kinds(occurrences: &[Occurrence]) -> Vec<Kind> {
    let mut by: BTreeMap<(String, String, String), Vec<&Occurrence>> = BTreeMap::new();
    for o in occurrences {
        by.entry((o.what.clone(), pattern(&o.text), o.place.clone())).or_default().push(o);
    }
    let mut kinds: Vec<Kind> = by
        .into_iter()
        .filter_map(|((what, pattern, place), mut all)| {
            all.sort_by_key(|o| std::cmp::Reverse(o.at));
            let (newest, oldest) = (*all.first()?, *all.last()?);
            Some(Kind {
                what,
                pattern,
                place,
                count: all.len() as u64,
                people: all
                    .iter()
                    .map(|o| o.person)
                    .filter(|p| *p != 0)
                    .collect::<HashSet<_>>()
                    .len() as u64,
                releases: counted(all.iter().map(|o| o.release.as_str()).filter(|r| !r.is_empty())),
                example: newest.text.clone(),
                page_views: all.iter().map(|o| o.view).collect::<HashSet<_>>().len() as u64,
                visits: all.iter().map(|o| o.visit).collect::<HashSet<_>>().len() as u64,
                first: oldest.at,
                last: newest.at,
                families: counted(all.iter().map(|o| o.family.as_str())),
                browsers: counted(all.iter().map(|o| o.browser.as_str())),
                newest: all.iter().take(NAMED).map(|o| (o.at, o.visit)).collect(),
            })
        })
        .collect();
    kinds.sort_by(|a, b| b.visits.cmp(&a.visits).then(a.pattern.cmp(&b.pattern)));
    kinds
}

/// How often each stands there, most first.
fn counted<'a>(values: impl Iterator<Item = &'a str>) -> Vec<(String, u64)> {
    let mut counts: HashMap<&str, u64> = HashMap::new();
    values.for_each(|v| *counts.entry(v).or_default() += 1);
    let mut counts: Vec<(String, u64)> =
        counts.into_iter().map(|(v, n)| (v.to_string(), n)).collect();
    counts.sort_by(|a, b| b.1.cmp(&a.1).then(a.0.cmp(&b.0)));
    counts
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::calendar::stretch::at_second;
    use proptest::prelude::*;

    #[test]
    fn texts_that_differ_by_numbers_ids_and_addresses_are_of_one_kind() {
        for (text, want) in [
            ("Uncaught TypeError: x is not a function", "TypeError: x is not a function"),
            ("Sailing 4711 has no berth 12b", "Sailing ‹n› has no berth ‹n›b"),
            ("no booking 0192f0c4-0000-7000-8000-000000000001", "no booking ‹id›"),
            ("booking 10000000 of 2026-11-24", "booking ‹n› of ‹n›-‹n›-‹n›"),
            ("Failed to load https://a.example/p?x=1 in time", "Failed to load ‹address› in time"),
            (
                "Cannot read properties of null (reading 'dead')",
                "Cannot read properties of null (reading 'dead')",
            ),
            ("at app.js:120:7", "at app.js:‹n›:‹n›"),
        ] {
            assert_eq!(pattern(text), want);
        }
    }

    #[test]
    fn a_kind_tells_its_visits_its_pages_and_since_when() {
        let o = |s: i64, visit: u128, family: &str, text: &str| Occurrence {
            what: "error".into(),
            place: String::new(),
            release: "7".into(),
            view: Uuid::from_u128(s as u128),
            person: visit as u64,
            at: at_second(s),
            visit: Uuid::from_u128(visit),
            family: family.into(),
            browser: "Chrome".into(),
            text: text.into(),
        };
        let all = [
            o(30, 1, "Cabin", "berth 3 is gone"),
            o(10, 1, "Cabin", "berth 2 is gone"),
            o(20, 2, "Home", "berth 77 is gone"),
            o(25, 3, "Home", "nothing here"),
        ];
        let kinds = kinds(&all);
        assert_eq!(kinds.len(), 2);
        let first = &kinds[0];
        assert_eq!(
            (first.pattern.as_str(), first.example.as_str()),
            ("berth ‹n› is gone", "berth 3 is gone")
        );
        assert_eq!((first.page_views, first.visits, first.people), (3, 2, 2));
        assert_eq!(first.releases, [("7".to_string(), 3)]);
        assert_eq!((first.first, first.last), (at_second(10), at_second(30)));
        assert_eq!(first.families, [("Cabin".to_string(), 2), ("Home".to_string(), 1)]);
        assert_eq!(first.newest[0], (at_second(30), Uuid::from_u128(1)));
    }

    proptest! {
        #[test]
        fn a_pattern_is_its_own_pattern_and_numbers_make_no_difference(text in "[a-z '.:()]{0,30}", n: u32, m: u32) {
            let once = pattern(&text);
            prop_assert_eq!(pattern(&once), once);
            prop_assert_eq!(pattern(&format!("{text} of {n}")), pattern(&format!("{text} of {m}")));
        }

        #[test]
        fn no_text_makes_it_panic_and_every_occurrence_is_in_one_kind(texts in prop::collection::vec(".{0,60}", 0..20)) {
            let all: Vec<Occurrence> = texts.into_iter().enumerate().map(|(i, text)| Occurrence {
                at: at_second(i as i64), visit: Uuid::from_u128(i as u128), family: "F".into(), browser: "B".into(), text,
                what: "error".into(), place: String::new(), release: String::new(), view: Uuid::from_u128(i as u128), person: 0,
            }).collect();
            prop_assert_eq!(kinds(&all).iter().map(|k| k.page_views).sum::<u64>(), all.len() as u64);
        }
    }
}
