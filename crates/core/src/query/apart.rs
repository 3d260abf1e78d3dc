//! What some page views have more of than all others: values of every attribute, each beside its share of the rest.

use crate::stats::compare::{Shift, share_shift};
use crate::visitor::Attribute;

/// Values of an attribute, and how many page views have each.
pub type Counts = (Attribute, Vec<(String, u64)>);

/// A value that is over-represented.
#[derive(Debug, Clone, PartialEq)]
pub struct Apart {
    /// Of which attribute.
    pub attribute: Attribute,
    /// The value; empty where none was told.
    pub value: String,
    /// How many of those that are looked at have it, and how many there are.
    pub here: (u64, u64),
    /// The same of all others.
    pub others: (u64, u64),
    /// From the share of the others to the one here.
    pub shift: Shift,
}

/// Values that those that are looked at have surely more of, and notably, than all others; the largest difference first.
/// `all` counts them too. Shares are compared by Newcombe's method 10 (see [`share_shift`]).
pub fn apart(here: &[Counts], all: &[Counts]) -> Vec<Apart> {
    let mut found = Vec::new();
    for (attribute, values) in here {
        let Some((_, whole)) = all.iter().find(|(a, _)| a == attribute) else { continue };
        let sum = |values: &[(String, u64)]| values.iter().map(|(_, n)| n).sum::<u64>();
        let of_here = sum(values);
        let of_others = sum(whole).saturating_sub(of_here);
        for (value, n) in values {
            let with = whole.iter().find(|(v, _)| v == value).map_or(0, |(_, n)| *n);
            let others = (with.saturating_sub(*n), of_others);
            let Some(shift) = share_shift(others, (*n, of_here)) else { continue };
            if shift.by() > 0.0 && shift.is_notable_share() {
                let (attribute, value) = (attribute.clone(), value.clone());
                found.push(Apart { attribute, value, here: (*n, of_here), others, shift });
            }
        }
    }
    found.sort_by(|a, b| b.shift.by().total_cmp(&a.shift.by()));
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    fn counts(attribute: Attribute, values: &[(&str, u64)]) -> Counts {
        (attribute, values.iter().map(|(v, n)| (v.to_string(), *n)).collect())
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
        let told = apart(&here, &all);
        let of: Vec<_> = told.iter().map(|a| (a.value.as_str(), a.here, a.others)).collect();
        assert_eq!(of[0], ("47.1", (196, 200), (460, 1_000)));
        assert!(of.iter().all(|(value, ..)| *value != "phone"), "{of:?}");
        assert!(of.iter().all(|(value, ..)| *value != "47.0"), "less of it: {of:?}");
    }

    #[test]
    fn of_all_page_views_nothing_is_more_than_of_the_others() {
        let all = [counts(Attribute::Device, &[("phone", 60), ("desktop", 40)])];
        assert!(apart(&all, &all).is_empty() && apart(&[], &all).is_empty());
    }
}
