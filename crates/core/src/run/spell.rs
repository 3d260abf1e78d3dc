//! Spells of trouble: from when to when a location, or the whole journey, did not get through.

use super::Outcome;
use crate::calendar::Stretch;
use crate::goal::Check;
use jiff::{SignedDuration, Timestamp};
use serde::Serialize;

/// What kind of trouble runs are in.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Trouble {
    /// They do not get through.
    Failing,
    /// They get through, and over a budget.
    Slow,
}

impl Trouble {
    /// Both.
    pub const ALL: [Trouble; 2] = [Trouble::Failing, Trouble::Slow];

    /// The outcome of a run in it.
    pub fn outcome(self) -> Outcome {
        match self {
            Trouble::Failing => Outcome::Failed,
            Trouble::Slow => Outcome::Slow,
        }
    }

    /// What runs in it did, in the middle of a sentence.
    pub fn verb(self) -> &'static str {
        match self {
            Trouble::Failing => "failed",
            Trouble::Slow => "were slow",
        }
    }

    /// Whether a run that came to this is over it. Failing is over when a run gets through, slowness when one is quick
    /// enough; a failed run says nothing about how quick it would have been.
    fn is_over(self, outcome: Outcome) -> bool {
        match self {
            Trouble::Failing => outcome.got_through(),
            Trouble::Slow => outcome == Outcome::Passed,
        }
    }
}

/// Consecutive runs in trouble of one kind at one location.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
pub struct Spell {
    /// When the first of its runs was due.
    pub from: Timestamp,
    /// When the next run was over it; `None` while it lasts.
    pub to: Option<Timestamp>,
    /// Runs in trouble in it.
    pub runs: u64,
}

impl Spell {
    /// The spells of failing in the checks of one location, which must be in order of time.
    ///
    /// A spell begins with the first of `least` failed runs in a row and ends with the next run
    /// that got through. Unmeasured runs neither begin nor end one.
    pub fn of(checks: &[Check], least: u64) -> Vec<Spell> {
        Spell::of_kind(checks, least, Trouble::Failing)
    }

    /// The same of any kind of trouble.
    pub fn of_kind(checks: &[Check], least: u64, kind: Trouble) -> Vec<Spell> {
        let mut spells = Vec::new();
        let mut open: Option<Spell> = None;
        for check in checks {
            match &mut open {
                Some(spell) if check.outcome == kind.outcome() => spell.runs += 1,
                None if check.outcome == kind.outcome() => {
                    open = Some(Spell { from: check.at, to: None, runs: 1 });
                }
                Some(_) if kind.is_over(check.outcome) => {
                    if let Some(mut spell) = open.take()
                        && spell.runs >= least
                    {
                        spell.to = Some(check.at);
                        spells.push(spell);
                    }
                }
                _ => {}
            }
        }
        spells.extend(open.filter(|s| s.runs >= least));
        spells
    }

    /// The spell as a stretch; one that still lasts reaches to `now`.
    pub fn stretch(&self, now: Timestamp) -> Stretch {
        let to = self.to.unwrap_or(now);
        Stretch { from: self.from, to: to.max(self.from + SignedDuration::from_secs(1)) }
    }
}

/// Spells of several locations that overlap: one trouble.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Gathered<'a> {
    /// From the first failure anywhere until it was over everywhere.
    pub stretch: Stretch,
    /// Whether it still goes on somewhere.
    pub lasts: bool,
    /// Where, in the order in which it came there.
    pub places: Vec<&'a str>,
    /// Failed runs in all.
    pub runs: u64,
}

impl Gathered<'_> {
    /// Gathers spells and where they were, in any order, into one each; the most failed runs first.
    pub fn of<'a>(mut spells: Vec<(Spell, &'a str)>, now: Timestamp) -> Vec<Gathered<'a>> {
        spells.sort_by_key(|(s, _)| s.from);
        let mut troubles: Vec<Gathered<'a>> = Vec::new();
        for (spell, place) in spells {
            let stretch = spell.stretch(now);
            match troubles.last_mut() {
                Some(held) if stretch.from < held.stretch.to => {
                    held.stretch.to = held.stretch.to.max(stretch.to);
                    held.lasts |= spell.to.is_none();
                    if !held.places.contains(&place) {
                        held.places.push(place);
                    }
                    held.runs += spell.runs;
                }
                _ => troubles.push(Gathered {
                    stretch,
                    lasts: spell.to.is_none(),
                    places: vec![place],
                    runs: spell.runs,
                }),
            }
        }
        troubles.sort_by_key(|t| std::cmp::Reverse(t.runs));
        troubles
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::calendar::stretch::at_second;

    #[test]
    fn spells_that_overlap_anywhere_are_one_trouble() {
        let spell = |from, to: Option<i64>, runs| Spell {
            from: at_second(from),
            to: to.map(at_second),
            runs,
        };
        let troubles = Gathered::of(
            vec![
                (spell(5_000, None, 2), "Kochi"),
                (spell(300, Some(900), 2), "Bergen"),
                (spell(600, Some(1_500), 3), "Halifax"),
                (spell(1_200, Some(1_800), 2), "Bergen"),
                (spell(1_800, Some(2_100), 2), "Nairobi"),
            ],
            at_second(6_000),
        );
        let seen: Vec<_> = troubles
            .iter()
            .map(|t| (t.stretch.seconds(), t.lasts, t.places.join(" "), t.runs))
            .collect();
        assert_eq!(seen[0], (1_500, false, "Bergen Halifax".into(), 7));
        assert_eq!(
            seen[1..].iter().map(|t| (t.1, t.0)).collect::<Vec<_>>(),
            [(false, 300), (true, 1_000)]
        );
    }

    #[test]
    fn a_spell_reaches_from_the_first_failure_to_the_next_success_and_one_slip_is_none() {
        use Outcome::*;
        let checks: Vec<Check> =
            [Passed, Failed, Passed, Failed, Unmeasured, Failed, Slow, Failed, Failed]
                .into_iter()
                .enumerate()
                .map(|(i, outcome)| Check { at: at_second(i as i64 * 300), outcome })
                .collect();
        let spells = Spell::of(&checks, 2);
        assert_eq!(spells.len(), 2);
        assert_eq!(
            (spells[0].from, spells[0].to, spells[0].runs),
            (at_second(900), Some(at_second(1800)), 2)
        );
        assert_eq!((spells[1].from, spells[1].to), (at_second(2100), None));
    }
}
