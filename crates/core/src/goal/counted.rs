//! What counts: the one rule by which every page, goal and report takes runs into its figures.
//!
//! A run inside maintenance or a carve-out does not count, whatever became of it. One that is unmeasured counts in no figure
//! about the site but is told as unmeasured. Percentiles of durations are those of runs that got through.

use super::{Check, Score, Tally};
use crate::calendar::{Cover, LeftOut};
use crate::run::Outcome;
use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

/// Runs in order of time, each known to count or not. It can only be made with what is left out.
#[derive(Debug, Clone)]
pub struct Counted<R> {
    /// Shared with whatever these were taken from.
    runs: Arc<Vec<R>>,
    /// Which of them, and whether each counts.
    which: Vec<(u32, bool)>,
    check: fn(&R) -> Check,
}

impl<R> Counted<R> {
    /// `place` tells a run's journey and location, `check` when it was due and what became of it.
    pub fn of(
        runs: Vec<R>,
        left_out: &[LeftOut],
        place: fn(&R) -> (i32, i32),
        check: fn(&R) -> Check,
    ) -> Counted<R> {
        let mut covers: HashMap<(i32, i32), Cover> = HashMap::new();
        let mut which = Vec::with_capacity(runs.len());
        for (nth, run) in (0..).zip(&runs) {
            let of = |(journey, location)| LeftOut::at(left_out, journey, location);
            let place = place(run);
            let cover = covers.entry(place).or_insert_with(|| of(place));
            which.push((nth, !cover.contains(check(run).at)));
        }
        Counted { runs: Arc::new(runs), which, check }
    }

    /// None at all.
    pub fn none(check: fn(&R) -> Check) -> Counted<R> {
        Counted { runs: Arc::default(), which: Vec::new(), check }
    }

    /// The runs that count, unmeasured ones among them.
    pub fn iter(&self) -> impl DoubleEndedIterator<Item = &R> + Clone {
        self.drawn().filter(|(_, counts)| *counts).map(|(run, _)| run)
    }

    /// Every run with whether it counts: for drawing, never for figures.
    pub fn drawn(&self) -> impl DoubleEndedIterator<Item = (&R, bool)> + Clone {
        self.which.iter().map(|(nth, counts)| (&self.runs[*nth as usize], *counts))
    }

    /// Every run, for drawing.
    pub fn all(&self) -> impl DoubleEndedIterator<Item = &R> + ExactSizeIterator + Clone {
        self.which.iter().map(|(nth, _)| &self.runs[*nth as usize])
    }

    /// Whether there is none at all.
    pub fn is_empty(&self) -> bool {
        self.which.is_empty()
    }

    /// The runs that count and got through: those whose durations make percentiles.
    pub fn through(&self) -> impl DoubleEndedIterator<Item = &R> + Clone {
        self.iter().filter(|r| (self.check)(r).outcome.got_through())
    }

    /// What became of those that count, in order of time.
    pub fn checks(&self) -> impl DoubleEndedIterator<Item = Check> + Clone + '_ {
        self.iter().map(|r| (self.check)(r))
    }

    /// Counts of all of them, with how many are left out.
    pub fn tally(&self) -> Tally {
        let mut tally = Tally::default();
        for (run, counts) in self.drawn() {
            match counts {
                true => tally.add((self.check)(run).outcome),
                false => tally.left_out += 1,
            }
        }
        tally
    }

    /// The share of slots of so many seconds in which it was reached from somewhere.
    pub fn uptime(&self, slot_s: i64) -> Score {
        let checks: Vec<Check> = self.checks().collect();
        let score = super::uptime(&checks, slot_s, &Cover::default());
        Score { left_out: self.tally().left_out, ..score }
    }

    /// The newest run that counts and came to this.
    pub fn newest(&self, outcome: Outcome) -> Option<&R> {
        self.iter().rev().find(|r| (self.check)(r).outcome == outcome)
    }

    /// Taken apart by what `key` says of each: each still counts or not as it did.
    pub fn by<K: Ord>(&self, key: impl Fn(&R) -> K) -> BTreeMap<K, Counted<R>> {
        let none = || Counted { runs: self.runs.clone(), which: Vec::new(), check: self.check };
        let mut by: BTreeMap<K, Counted<R>> = BTreeMap::new();
        for (nth, counts) in &self.which {
            let part = by.entry(key(&self.runs[*nth as usize])).or_insert_with(none);
            part.which.push((*nth, *counts));
        }
        by
    }

    /// Only some of them: each still counts or not as it did.
    pub fn filtered(&self, keep: impl Fn(&R) -> bool) -> Counted<R> {
        let keep = |(nth, _): &&(u32, bool)| keep(&self.runs[*nth as usize]);
        let which = self.which.iter().filter(keep).copied().collect();
        Counted { runs: self.runs.clone(), which, check: self.check }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::calendar::stretch::at_second;
    use crate::calendar::{Reach, Stretch};
    use proptest::prelude::*;

    fn checks(outcomes: &[Outcome]) -> Vec<Check> {
        outcomes
            .iter()
            .enumerate()
            .map(|(i, o)| Check { at: at_second(i as i64 * 300), outcome: *o })
            .collect()
    }

    fn left_out(stretch: Stretch, reach: Reach) -> LeftOut {
        LeftOut { stretch, why: "work".into(), author: None, reach, is_held: false }
    }

    fn outcomes() -> impl Strategy<Value = Vec<Outcome>> {
        prop::collection::vec(prop::sample::select(Outcome::ALL.to_vec()), 0..60)
    }

    proptest! {
        #[test]
        fn what_counts_here_is_what_the_tally_of_goals_counts(outcomes in outcomes(), from in 0i64..60, length in 0i64..30) {
            let stretch = Stretch { from: at_second(from * 300), to: at_second((from + length) * 300 + 1) };
            let out = Cover::from(stretch);
            let checks = checks(&outcomes);
            let counted = Counted::of(checks.clone(), &[left_out(stretch, Reach::default())], |_| (1, 1), |c| *c);
            prop_assert_eq!(counted.tally(), Tally::of(&checks, &out));
            prop_assert_eq!(counted.iter().count() as u64 + counted.tally().left_out, outcomes.len() as u64);
            prop_assert_eq!(counted.through().count() as u64, counted.tally().got_through());
            prop_assert!(counted.iter().all(|c| !out.contains(c.at)));
            prop_assert_eq!(counted.filtered(|_| true).tally(), counted.tally());
            // Taken apart, each is in one part, counts there as it did, and the parts' parts are theirs alone.
            let by = counted.by(|c| c.at.as_second() / 300 % 3);
            prop_assert_eq!(by.values().map(|part| part.tally().all()).sum::<u64>(), counted.tally().all());
            for (of, part) in &by {
                prop_assert_eq!(part.tally(), counted.filtered(|c| c.at.as_second() / 300 % 3 == *of).tally());
                let odd = part.filtered(|c| c.at.as_second() / 300 % 2 == 1);
                prop_assert!(odd.all().all(|c| c.at.as_second() / 300 % 6 == (of + 3 * i64::from(of % 2 == 0)) % 6));
            }
            let uptime = counted.uptime(300);
            prop_assert_eq!(uptime, super::super::uptime(&checks, 300, &out));
        }
    }

    #[test]
    fn the_newest_of_an_outcome_is_never_one_that_is_left_out() {
        use Outcome::*;
        let out =
            left_out(Stretch { from: at_second(600), to: at_second(1_000) }, Reach::default());
        let counted =
            Counted::of(checks(&[Failed, Passed, Failed, Failed]), &[out], |_| (1, 1), |c| *c);
        assert_eq!(counted.newest(Failed).map(|c| c.at), Some(at_second(0)));
        assert_eq!(counted.newest(Slow), None);
        assert!(Counted::none(|c: &Check| *c).newest(Passed).is_none());
    }

    #[test]
    fn maintenance_of_one_location_leaves_the_runs_of_others_alone() {
        let out = left_out(
            Stretch { from: at_second(0), to: at_second(10_000) },
            Reach { journeys: vec![], locations: vec![2] },
        );
        let run =
            |location: i32| (location, Check { at: at_second(300), outcome: Outcome::Failed });
        let counted = Counted::of(vec![run(1), run(2)], &[out], |r| (7, r.0), |r| r.1);
        assert_eq!(counted.iter().map(|r| r.0).collect::<Vec<_>>(), [1]);
        assert_eq!(counted.tally().left_out, 1);
    }
}
