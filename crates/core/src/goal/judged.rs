//! Measures of what is promised, at moments.

use super::burn::Pair;
use super::definition::{Held, PACE};
use super::{Definition, ErrorBudget, Score};
use crate::calendar::{Cover, Stretch};
use crate::measure::Measure;
use crate::measure::windowed::Moment;
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use std::collections::BTreeMap;

/// How far before a moment a measure of a goal looks, beside the goal's own window, in seconds.
fn reach_s(measure: &Measure) -> i64 {
    match measure {
        Measure::Burn { long_s, .. } => *long_s,
        _ => PACE.as_secs(),
    }
}

/// From when on what a goal held has to be known, to tell a measure of it at a moment: a burn rate asks for its windows alone,
/// all else for the goal's own window, too.
pub fn reach(
    measure: &Measure,
    definition: &Definition,
    at: Timestamp,
    zone: &TimeZone,
) -> Timestamp {
    let back = at - SignedDuration::from_secs(reach_s(measure));
    match measure {
        Measure::Burn { .. } => back,
        _ => back.min(definition.period.around(at, zone).from),
    }
}

/// What a goal came to at these moments, which are in order of time and lie in windows that this definition judges.
pub fn of_goal(
    measure: &Measure,
    definition: &Definition,
    held: &Held<'_>,
    moments: &[Timestamp],
    left_out: &Cover,
    zone: &TimeZone,
) -> Vec<Moment> {
    let (Some(first), Some(last)) = (moments.first(), moments.last()) else { return Vec::new() };
    let window_of = |at: Timestamp| definition.period.around(at, zone);
    let from = reach(measure, definition, *first, zone);
    let minutes = definition.minutes(held, Stretch { from, to: *last }, left_out, zone);
    // Calendar windows are few: what of each counts is worked out once.
    let mut counted: BTreeMap<(Timestamp, Timestamp), Cover> = BTreeMap::new();
    let mut budget = |at: Timestamp| {
        let window = window_of(at);
        let cover = counted
            .entry((window.from, window.to))
            .or_insert_with(|| definition.counted(window, left_out, zone));
        let past = Stretch { from: window.from, to: window.to.min(at).max(window.from) };
        ErrorBudget {
            promised: definition.promised,
            window_ms: cover.ms(),
            passed_ms: cover.within(past).ms(),
            score: minutes.between(past.from, past.to),
        }
    };
    let told = |at: Timestamp| {
        let (value, score): (Option<f64>, Score) = match measure {
            Measure::Burn { long_s, short_s } => {
                let pair = Pair { long_s: *long_s, short_s: *short_s, trigger: 0.0 };
                let burn = minutes.burns(&[pair], definition.promised, at)[0];
                let score = minutes.between(at - SignedDuration::from_secs(*long_s), at);
                (burn.long.zip(burn.short).map(|(long, short)| long.min(short)), score)
            }
            Measure::BudgetLeft => {
                let budget = budget(at);
                (budget.left_share().filter(|_| budget.score.counted() > 0), budget.score)
            }
            _ => {
                let budget = budget(at);
                let forecast = minutes.forecast(&budget, at, PACE.as_secs());
                let lasts = forecast.at.map(|until| until.duration_since(at).as_secs_f64() * 1e3);
                (lasts, budget.score)
            }
        };
        Moment { at, value, samples: score.counted(), places: 0 }
    };
    moments.iter().copied().map(told).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::calendar::stretch::at_second;
    use crate::goal::burn::PAIRS;
    use crate::goal::{Track, Verdict};
    use proptest::prelude::*;

    fn oslo() -> TimeZone {
        TimeZone::get("Europe/Oslo").unwrap()
    }

    proptest! {
        #[test]
        fn what_is_told_of_a_goal_at_a_moment_is_what_its_page_tells(
            bad in prop::collection::vec(any::<bool>(), 97), hours in prop::collection::vec(1i64..1_200, 1..4), out in 0i64..300,
        ) {
            // Over the end of October, where clocks change.
            let begin = at_second(1_760_000_400 / 300 * 300);
            let runs: Vec<_> = (0..1_200 * 12)
                .map(|n| (begin + SignedDuration::from_secs(n * 300), if bad[n as usize % 97] { Verdict::Bad } else { Verdict::Good }))
                .collect();
            let tracks = [Track { journey: 1, location: 1, runs: &runs }];
            let runs = Held::Runs { tracks: &tracks, slot_s: 300 };
            let goal = Definition::monthly(1, 0.9);
            let from = begin + SignedDuration::from_hours(out);
            let left_out = Cover::from(Stretch { from, to: from + SignedDuration::from_hours(3) });
            let mut moments: Vec<_> = hours.iter().map(|h| begin + SignedDuration::from_hours(*h)).collect();
            moments.sort();
            let of = |measure: Measure| of_goal(&measure, &goal, &runs, &moments, &left_out, &oslo());
            let (left, lasts) = (of(Measure::BudgetLeft), of(Measure::BudgetLasts));
            let pair = PAIRS[1];
            let burn = of(Measure::Burn { long_s: pair.long_s, short_s: pair.short_s });
            for (nth, at) in moments.iter().enumerate() {
                let standing = goal.standing(&runs, *at, &left_out, &oslo());
                let budget = standing.judged.budget;
                prop_assert_eq!(left[nth].samples, budget.score.counted());
                prop_assert_eq!(left[nth].value, budget.left_share().filter(|_| budget.score.counted() > 0));
                prop_assert_eq!(lasts[nth].value, standing.forecast.at.map(|u| u.duration_since(*at).as_secs_f64() * 1e3));
                let held = standing.burns[1];
                prop_assert_eq!(burn[nth].value, held.long.zip(held.short).map(|(a, b)| a.min(b)));
            }
        }
    }
}
