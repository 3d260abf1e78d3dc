//! A set of moments: what several windows cover together.

use super::Stretch;
use jiff::Timestamp;

/// Stretches in order that neither overlap nor touch.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Cover(Vec<Stretch>);

impl Cover {
    /// What these stretches cover together; empty or backward ones cover nothing.
    pub fn of(stretches: impl IntoIterator<Item = Stretch>) -> Cover {
        let mut all: Vec<Stretch> = stretches.into_iter().filter(|s| s.from < s.to).collect();
        all.sort_by_key(|s| s.from);
        let mut merged: Vec<Stretch> = Vec::new();
        for s in all {
            match merged.last_mut() {
                Some(last) if s.from <= last.to => last.to = last.to.max(s.to),
                _ => merged.push(s),
            }
        }
        Cover(merged)
    }

    /// The stretches, apart from each other and in order of time.
    pub fn stretches(&self) -> &[Stretch] {
        &self.0
    }

    /// Whether it covers nothing.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// Whether it covers this moment.
    pub fn contains(&self, at: Timestamp) -> bool {
        let after = self.0.partition_point(|s| s.from <= at);
        after > 0 && at < self.0[after - 1].to
    }

    /// Length in milliseconds.
    pub fn ms(&self) -> f64 {
        self.0.iter().map(Stretch::ms).sum()
    }

    /// What either covers.
    pub fn or(&self, other: &Cover) -> Cover {
        Cover::of(self.0.iter().chain(&other.0).copied())
    }

    /// What both cover.
    pub fn and(&self, other: &Cover) -> Cover {
        let (mut i, mut j, mut common) = (0, 0, Vec::new());
        while let (Some(a), Some(b)) = (self.0.get(i), other.0.get(j)) {
            common.extend(a.common(b));
            if a.to <= b.to { i += 1 } else { j += 1 }
        }
        Cover(common)
    }

    /// What this covers and the other does not.
    pub fn without(&self, other: &Cover) -> Cover {
        let mut rest = Vec::new();
        for s in &self.0 {
            let mut from = s.from;
            let first = other.0.partition_point(|o| o.to <= s.from);
            for o in other.0[first..].iter().take_while(|o| o.from < s.to) {
                if from < o.from {
                    rest.push(Stretch { from, to: o.from });
                }
                from = o.to;
            }
            if from < s.to {
                rest.push(Stretch { from, to: s.to });
            }
        }
        Cover(rest)
    }

    /// The part inside a stretch.
    pub fn within(&self, stretch: Stretch) -> Cover {
        self.and(&Cover::from(stretch))
    }
}

impl From<Stretch> for Cover {
    fn from(stretch: Stretch) -> Cover {
        Cover::of([stretch])
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::calendar::stretch::at_second;
    use proptest::prelude::*;

    fn stretches() -> impl Strategy<Value = Vec<Stretch>> {
        let one = (0i64..500, 0i64..60)
            .prop_map(|(a, n)| Stretch { from: at_second(a), to: at_second(a + n) });
        prop::collection::vec(one, 0..12)
    }

    proptest! {
        #[test]
        fn sets_of_moments_follow_the_laws_of_sets(a in stretches(), b in stretches(), probe in 0i64..600) {
            let (x, y, at) = (Cover::of(a.clone()), Cover::of(b.clone()), at_second(probe));
            let (in_a, in_b) = (a.iter().any(|s| s.contains(at)), b.iter().any(|s| s.contains(at)));
            prop_assert_eq!(x.contains(at), in_a);
            prop_assert_eq!(x.or(&y).contains(at), in_a || in_b);
            prop_assert_eq!(x.and(&y).contains(at), in_a && in_b);
            prop_assert_eq!(x.without(&y).contains(at), in_a && !in_b);
            prop_assert!((x.and(&y).ms() + x.without(&y).ms() - x.ms()).abs() < 1e-6);
            for set in [&x, &x.or(&y), &x.and(&y), &x.without(&y)] {
                prop_assert!(set.stretches().windows(2).all(|w| w[0].to < w[1].from));
            }
        }
    }

    #[test]
    fn a_cover_of_nothing_is_empty_and_one_of_a_moment_is_not() {
        let at = |s: i64| crate::calendar::stretch::at_second(s);
        assert!(Cover::of([]).is_empty());
        let one = Cover::of([Stretch { from: at(0), to: at(1) }]);
        assert!(!one.is_empty() && one.contains(at(0)) && !one.contains(at(1)));
    }
}
