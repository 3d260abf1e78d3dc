//! Scripted runs beside real visitors: which pages both see, and whether the runner's view is like the visitors'.

use crate::run::RunRecord;
use crate::stats::{Method, Samples};
use crate::visitor::beacon::family::Families;
use crate::visitor::beacon::privacy::cut_query;
use crate::visitor::happening::folded;
use serde::Serialize;

/// How a step's times at a location lie beside those of visitors.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Verdict {
    /// The medians are within a quarter of each other.
    Representative,
    /// The runner is quicker by more than a quarter: it does not feel what visitors feel.
    Faster,
    /// The runner is slower by more than a quarter.
    Slower,
    /// Fewer than [`LEAST`] samples on either side.
    TooFew,
}

/// Fewer samples than this say nothing.
pub const LEAST: usize = 20;
/// Medians this far apart, as a ratio, are not alike. (Our own choice.)
pub const APART: f64 = 1.25;

impl Verdict {
    /// What these times say.
    pub fn of(synthetic: &Samples, real: &Samples) -> Verdict {
        let median = |s: &Samples| {
            s.percentile(0.5, Method::NearestRank).filter(|m| *m > 0.0 && s.len() >= LEAST)
        };
        match median(synthetic).zip(median(real)) {
            None => Verdict::TooFew,
            Some((ours, theirs)) if ours > theirs * APART => Verdict::Slower,
            Some((ours, theirs)) if ours * APART < theirs => Verdict::Faster,
            Some(_) => Verdict::Representative,
        }
    }

    /// As people say it.
    pub fn words(self) -> &'static str {
        match self {
            Verdict::Representative => "the runner’s view is representative",
            Verdict::Faster => "the runner is quicker than visitors are",
            Verdict::Slower => "the runner is slower than visitors are",
            Verdict::TooFew => "too few samples to compare",
        }
    }
}

/// The one place whose runner is slower than its visitors while at least two others can be compared and are not: then
/// it is that place, not the site.
pub fn only_here<P>(places: &[(P, Verdict)]) -> Option<&P> {
    let mut slow = places.iter().filter(|(_, v)| *v == Verdict::Slower);
    let (first, second) = (slow.next(), slow.next());
    let fine = places
        .iter()
        .filter(|(_, v)| matches!(v, Verdict::Representative | Verdict::Faster))
        .count();
    first.filter(|_| second.is_none() && fine >= 2).map(|(place, _)| place)
}

/// The page families that the steps of a run came to: number of the step among those that count, and family. A step
/// that loads several pages came to the last.
pub fn visited(record: &RunRecord, families: &Families) -> Vec<(usize, String)> {
    let path = |url: &str| {
        let rest = url.split_once("://").map_or(url, |(_, rest)| rest);
        cut_query(rest.find('/').map_or("/", |at| &rest[at..])).to_string()
    };
    let of = |(nth, step): (usize, &crate::run::StepRecord)| {
        let page = step
            .requests
            .iter()
            .rfind(|r| r.kind == "document" && !(300..400).contains(&r.status))?;
        Some((nth, families.of(&path(&page.url)).to_string()))
    };
    record.counted_steps().enumerate().filter_map(of).collect()
}

/// A page family that is seen from one side only.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct BlindSpot {
    /// The page family.
    pub family: String,
    /// How often visitors were there.
    pub page_views: u64,
    /// Journeys with a step that visits it.
    pub journeys: Vec<String>,
}

impl BlindSpot {
    /// Real people use it and no journey visits it.
    pub fn is_unwatched(&self) -> bool {
        self.page_views > 0 && self.journeys.is_empty()
    }

    /// A journey visits it and nobody else does.
    pub fn is_unused(&self) -> bool {
        self.page_views == 0 && !self.journeys.is_empty()
    }
}

/// Every family that either side knows, most page views first; `by_journey` names what each journey visits.
pub fn blind_spots(
    traffic: &[(String, u64)],
    by_journey: &[(String, Vec<String>)],
) -> Vec<BlindSpot> {
    let journeys_of = |family: &str| -> Vec<String> {
        by_journey
            .iter()
            .filter(|(_, f)| f.iter().any(|f| f == family))
            .map(|(name, _)| name.clone())
            .collect()
    };
    let spot = |family: &String, page_views: u64| BlindSpot {
        family: family.clone(),
        page_views,
        journeys: journeys_of(family),
    };
    let mut all: Vec<BlindSpot> = traffic.iter().map(|(family, n)| spot(family, *n)).collect();
    for family in by_journey.iter().flat_map(|(_, families)| families) {
        if !all.iter().any(|s| &s.family == family) {
            all.push(spot(family, 0));
        }
    }
    all.sort_by(|a, b| b.page_views.cmp(&a.page_views).then_with(|| a.family.cmp(&b.family)));
    all
}

/// Patterns that would gather observed paths, with how many page views each, most first: numbers, ids and dates are
/// left open.
///
/// ```
/// use cadentis_core::visitor::beside::proposals;
/// let seen = [("/booking/K7Q2/pass", 3), ("/booking/AB12/pass", 2), ("/help", 1)];
/// assert_eq!(proposals(seen), [("/booking/*/pass".to_string(), 5), ("/help".to_string(), 1)]);
/// ```
pub fn proposals<'a>(paths: impl IntoIterator<Item = (&'a str, u64)>) -> Vec<(String, u64)> {
    let mut by: std::collections::HashMap<String, u64> = std::collections::HashMap::new();
    for (path, n) in paths {
        let pattern: Vec<String> = folded(path)
            .split('/')
            .map(|s| if s.starts_with('‹') { "*".to_string() } else { s.to_string() })
            .collect();
        *by.entry(pattern.join("/")).or_default() += n;
    }
    crate::visitor::reading::calls::most_first(by)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn samples(ms: f64, n: usize) -> Samples {
        Samples::new((0..n).map(|i| ms + i as f64 * 0.01))
    }

    #[test]
    fn a_runner_is_like_its_visitors_within_a_quarter_and_says_nothing_of_few() {
        let real = samples(1_000.0, 50);
        for (ms, want) in [
            (1_240.0, Verdict::Representative),
            (1_260.0, Verdict::Slower),
            (790.0, Verdict::Faster),
            (810.0, Verdict::Representative),
        ] {
            assert_eq!(Verdict::of(&samples(ms, 50), &real), want, "{ms}");
        }
        assert_eq!(Verdict::of(&samples(900.0, 19), &real), Verdict::TooFew);
        assert_eq!(Verdict::of(&samples(900.0, 50), &samples(1.0, 0)), Verdict::TooFew);
    }

    #[test]
    fn one_slow_place_among_fine_ones_is_that_place_and_two_are_the_site() {
        use Verdict::*;
        assert_eq!(only_here(&[("a", Slower), ("b", Representative), ("c", Faster)]), Some(&"a"));
        assert_eq!(only_here(&[("a", Slower), ("b", Slower), ("c", Faster), ("d", Faster)]), None);
        assert_eq!(
            only_here(&[("a", Slower), ("b", TooFew), ("c", Faster)]),
            None,
            "one other is not enough"
        );
    }

    #[test]
    fn what_only_one_side_sees_is_a_blind_spot() {
        let s = |t: &str| t.to_string();
        let spots = blind_spots(
            &[(s("Home"), 90), (s("Help"), 40)],
            &[(s("Book"), vec![s("Home"), s("Conditions")])],
        );
        let says: Vec<_> =
            spots.iter().map(|s| (s.family.as_str(), s.is_unwatched(), s.is_unused())).collect();
        assert_eq!(
            says,
            [("Home", false, false), ("Help", true, false), ("Conditions", false, true)]
        );
        assert_eq!(spots[0].journeys, ["Book"]);
    }
}
