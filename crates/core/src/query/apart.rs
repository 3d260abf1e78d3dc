//! What some samples have more of than others: values of everything that is known of them, each beside its share of the rest.

use super::groups::{Value, dimension};
use super::{By, Query};
use crate::calendar::Stretch;
use crate::measure::runs::Played;
use crate::measure::sheets::Gather;
use crate::measure::{Key, Measure, Part, Scope, Unit, Worse};
use crate::stats::compare::{Shift, share_shift};
use crate::visitor::sheet::Sheet;
use crate::visitor::slices::in_halves;
use std::collections::{BTreeMap, HashMap};

/// Values of something that is known of samples, and how many samples have each.
pub type Counts = (Key, Vec<(String, u64)>);

/// A value that is over-represented.
#[derive(Debug, Clone, PartialEq)]
pub struct Apart {
    /// Of what.
    pub key: Key,
    /// The value; empty where none was told.
    pub value: String,
    /// How many of those that are looked at have it, and how many there are.
    pub here: (u64, u64),
    /// The same of all others.
    pub others: (u64, u64),
    /// From the share of the others to the one here; nothing where there are no others.
    pub shift: Option<Shift>,
}

impl Apart {
    /// Whether those that are looked at have surely more of it, and notably.
    pub fn is_more(&self) -> bool {
        self.shift.is_some_and(|shift| shift.by() > 0.0 && shift.is_notable_share())
    }

    fn by(&self) -> f64 {
        self.shift.map_or(0.0, |shift| shift.by())
    }
}

/// Every value that those that are looked at have, the commonest first, beside how many of all others have it. `all` counts
/// them too. Shares are compared by Newcombe's method 10 (see [`share_shift`]).
pub fn beside(here: &[Counts], all: &[Counts]) -> Vec<(Key, Vec<Apart>)> {
    let sum = |values: &[(String, u64)]| values.iter().map(|(_, n)| n).sum::<u64>();
    let of_key = |(key, values): &Counts| {
        let (_, whole) = all.iter().find(|(k, _)| k == key)?;
        let of_here = sum(values);
        let of_others = sum(whole).saturating_sub(of_here);
        let with: BTreeMap<&str, u64> = whole.iter().map(|(v, n)| (v.as_str(), *n)).collect();
        let value = |(value, n): &(String, u64)| {
            let with = with.get(value.as_str()).copied().unwrap_or_default();
            let (here, others) = ((*n, of_here), (with.saturating_sub(*n), of_others));
            let shift = share_shift(others, here);
            Apart { key: key.clone(), value: value.clone(), here, others, shift }
        };
        let mut values: Vec<Apart> = values.iter().filter(|(_, n)| *n > 0).map(value).collect();
        values.sort_by(|a, b| b.here.cmp(&a.here).then_with(|| a.value.cmp(&b.value)));
        Some((key.clone(), values))
    };
    here.iter().filter_map(of_key).collect()
}

/// Of these the values that those that are looked at have surely more of; the largest difference first.
pub fn apart(beside: &[(Key, Vec<Apart>)]) -> Vec<Apart> {
    let each = beside.iter().flat_map(|(_, values)| values);
    let mut found: Vec<Apart> = each.filter(|a| a.is_more()).cloned().collect();
    found.sort_by(|a, b| b.by().total_cmp(&a.by()));
    found
}

impl Query {
    /// The measure whose bad samples are looked at beside its others, where it is a share; else those that the query is
    /// narrowed to are, beside all others.
    pub fn tells_bad(&self) -> Option<&Measure> {
        self.measures.first().filter(|m| m.unit() == Unit::Share)
    }

    /// What else is known of its samples than what it is narrowed to, of `known`.
    pub fn unsaid(&self, known: impl IntoIterator<Item = Key>) -> Vec<Key> {
        let is_open = |key: &Key| self.scope.of(key).is_empty();
        let fits = |key: &Key| By::Key(key.clone()).fits(self.subject());
        // Nobody is to blame for what did not fail.
        let tells = |key: &Key| *key != Key::Fault || self.tells_bad().is_none();
        known.into_iter().filter(|key| is_open(key) && fits(key) && tells(key)).collect()
    }
}

/// Whether one more sample that `add` put into the part was bad to the measure; nothing where it was none of its samples.
fn is_bad(measure: &Measure, part: &mut Part, add: impl FnOnce(&mut Part)) -> Option<bool> {
    let (samples, hits) = (part.samples, part.hits);
    add(part);
    let is_hit = part.hits > hits;
    (part.samples > samples).then_some(is_hit == (measure.worse() == Worse::Above))
}

/// Which samples of a sheet are looked at, and which there are beside them, those among them.
fn looked_at(sheet: &Sheet, query: &Query, narrowed: &Gather<'_>) -> (Vec<bool>, Vec<bool>) {
    let mut here = narrowed.kept(sheet);
    let Some(share) = query.tells_bad() else {
        let all = Gather { scope: &Scope::default(), ..*narrowed }.kept(sheet);
        return (here, all);
    };
    let mut all = here.clone();
    let (mut adder, mut part) = (narrowed.adder(sheet), Part::default());
    for row in 0..sheet.rows {
        if all[row] {
            let bad = is_bad(share, &mut part, |part| adder(row, part));
            (here[row], all[row]) = (bad == Some(true), bad.is_some());
        }
    }
    (here, all)
}

/// How many samples have each value of something: of those that are looked at, and of all.
type Both = HashMap<String, (u64, u64)>;

fn parted(keys: &[Key], counted: Vec<Both>) -> (Vec<Counts>, Vec<Counts>) {
    let each = keys.iter().zip(counted).map(|(key, values)| {
        let here = values.iter().map(|(value, (here, _))| (value.clone(), *here)).collect();
        let all = values.into_iter().map(|(value, (_, all))| (value, all)).collect();
        ((key.clone(), here), (key.clone(), all))
    });
    each.unzip()
}

/// How samples are gathered: moments matter at both ends only.
fn gather<'q>(query: &'q Query, measure: &'q Measure, stretch: Stretch) -> Gather<'q> {
    Gather { measure, scope: &query.scope, stretch, bucket_s: 3_600, exact: false }
}

/// The columns that [`of_sheets`] reads.
pub fn columns(query: &Query, stretch: Stretch, keys: &[Key]) -> Vec<String> {
    let Some(measure) = query.measures.first() else { return Vec::new() };
    let mut names = gather(query, measure, stretch).columns();
    names.extend(keys.iter().filter_map(|key| By::Key(key.clone()).column()));
    names.sort();
    names.dedup();
    names
}

/// Counts by each of the keys the samples of a query that are looked at, and all that they are looked at beside: those are
/// the bad ones of its first measure where it is a share (see [`Query::tells_bad`]), else those that it is narrowed to.
pub fn of_sheets(
    sheets: &[Sheet],
    query: &Query,
    stretch: Stretch,
    keys: &[Key],
) -> (Vec<Counts>, Vec<Counts>) {
    let Some(measure) = query.measures.first() else { return Default::default() };
    let narrowed = gather(query, measure, stretch);
    let by: Vec<By> = keys.iter().cloned().map(By::Key).collect();
    let count = |sheets: &[Sheet]| {
        let mut counted = vec![Both::new(); by.len()];
        for sheet in sheets {
            let (here, all) = looked_at(sheet, query, &narrowed);
            for (by, counted) in by.iter().zip(&mut counted) {
                let dimension = dimension(by, sheet, &narrowed);
                let mut of = vec![(0, 0); dimension.values.len()];
                for row in (0..sheet.rows).filter(|row| all[*row]) {
                    if let Some((n, whole)) = of.get_mut((dimension.code)(row)) {
                        *n += u64::from(here[row]);
                        *whole += 1;
                    }
                }
                for (value, (n, whole)) in dimension.values.iter().zip(of) {
                    if let (Value::Text(text), 1..) = (value, whole) {
                        add(counted, text, (n, whole));
                    }
                }
            }
        }
        counted
    };
    let (mut counted, back) = in_halves(sheets, count);
    for (counted, more) in counted.iter_mut().zip(back) {
        more.iter().for_each(|(value, n)| add(counted, value, *n));
    }
    parted(keys, counted)
}

fn add(counted: &mut Both, value: &str, (here, all): (u64, u64)) {
    match counted.get_mut(value) {
        Some(held) => *held = (held.0 + here, held.1 + all),
        None => _ = counted.insert(value.to_string(), (here, all)),
    }
}

/// The same of runs that a query is narrowed to, of a share; `name` says what one is told apart by.
pub fn of_runs(
    runs: &[Played],
    share: &Measure,
    keys: &[Key],
    name: impl Fn(&Played, &Key) -> String,
) -> (Vec<Counts>, Vec<Counts>) {
    let mut counted = vec![Both::new(); keys.len()];
    let mut part = Part::default();
    for run in runs {
        let Some(bad) = is_bad(share, &mut part, |part| part.add_run(share, run)) else { continue };
        for (key, counted) in keys.iter().zip(&mut counted) {
            add(counted, &name(run, key), (u64::from(bad), 1));
        }
    }
    parted(keys, counted)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::visitor::Attribute;

    fn counts(attribute: Attribute, values: &[(&str, u64)]) -> Counts {
        (Key::Attribute(attribute), values.iter().map(|(v, n)| (v.to_string(), *n)).collect())
    }

    #[test]
    fn what_is_surely_more_here_than_elsewhere_is_told_and_what_may_be_chance_is_not() {
        let here = [
            counts(Attribute::Release, &[("47.1", 196), ("47.0", 4)]),
            counts(Attribute::Country, &[("KE", 12), ("NO", 188)]),
            counts(Attribute::Device, &[("phone", 101), ("desktop", 99)]),
        ];
        let all = [
            counts(Attribute::Release, &[("47.1", 656), ("47.0", 544)]),
            counts(Attribute::Country, &[("KE", 42), ("NO", 1_158)]),
            counts(Attribute::Device, &[("phone", 601), ("desktop", 599)]),
        ];
        let told = beside(&here, &all);
        let more = apart(&told);
        let of: Vec<_> = more.iter().map(|a| (a.value.as_str(), a.here, a.others)).collect();
        assert_eq!(of[0], ("47.1", (196, 200), (460, 1_000)));
        assert!(of.iter().all(|(value, ..)| *value != "phone"), "{of:?}");
        assert!(of.iter().all(|(value, ..)| *value != "47.0"), "less of it: {of:?}");
        // Each value is told all the same, the commonest first.
        let values: Vec<_> = told[1].1.iter().map(|a| (a.value.as_str(), a.here.0)).collect();
        assert_eq!(values, [("NO", 188), ("KE", 12)]);
    }

    #[test]
    fn of_all_page_views_nothing_is_more_than_of_the_others() {
        let all = [counts(Attribute::Device, &[("phone", 60), ("desktop", 40)])];
        assert!(apart(&beside(&all, &all)).is_empty() && beside(&[], &all).is_empty());
    }
}
