//! Page views that an experience goal is judged by: counted by the minute in which their pages were opened (common practice,
//! no published source).

use super::Score;
use super::error_budget::burn_rate;
use crate::calendar::stretch::at_second;
use crate::calendar::{Cover, Stretch};
use crate::measure::sheets::Parts;
use crate::measure::{Measure, Part, Subject, Unit, Worse};
use jiff::Timestamp;

/// What one minute held.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Minute {
    /// When it begins, in seconds since 1970.
    pub begin_s: i64,
    /// Page views, requests or actions that were as they should be.
    pub good: u64,
    /// Those that were not.
    pub bad: u64,
}

/// Whether a share of it can be promised: it counts samples that are one way or the other, and visitors bring them.
pub fn is_promised(measure: &Measure) -> bool {
    let of = measure.subject();
    matches!(of, Subject::PageViews | Subject::Requests | Subject::Actions)
        && measure.unit() == Unit::Share
}

/// What a part holds of a share, as a minute.
pub fn minute(begin_s: i64, part: &Part, measure: &Measure) -> Minute {
    let (hits, others) = (part.hits, part.samples - part.hits);
    match measure.worse() {
        Worse::Below => Minute { begin_s, good: hits, bad: others },
        Worse::Above => Minute { begin_s, good: others, bad: hits },
    }
}

/// The same of parts by the minute.
pub fn minutes(parts: &Parts, measure: &Measure) -> Vec<Minute> {
    parts.iter().map(|(begin_s, part)| minute(*begin_s, part, measure)).collect()
}

/// Those that begin in a stretch.
fn between(minutes: &[Minute], stretch: Stretch) -> &[Minute] {
    let place = |at: Timestamp| minutes.partition_point(|m| at_second(m.begin_s) < at);
    let from = place(stretch.from);
    &minutes[from..place(stretch.to).max(from)]
}

/// The minutes of a stretch, each as what it counts to.
pub fn counted_in<'a>(
    minutes: &'a [Minute],
    stretch: Stretch,
    counted: &'a Cover,
) -> impl Iterator<Item = (Timestamp, Score)> + 'a {
    // Both are in order of time: each stretch is looked at once.
    let mut ahead = counted.stretches().iter().peekable();
    between(minutes, stretch).iter().map(move |m| {
        let at = at_second(m.begin_s);
        while ahead.next_if(|s| s.to <= at).is_some() {}
        let score = match ahead.peek().is_some_and(|s| s.from <= at) {
            true => Score { good: m.good, bad: m.bad, ..Score::default() },
            false => Score { left_out: m.good + m.bad, ..Score::default() },
        };
        (at, score)
    })
}

/// What the whole minutes of a stretch hold, of them what lies in the counted time.
pub fn score(minutes: &[Minute], stretch: Stretch, counted: &Cover) -> Score {
    let mut all = Score::default();
    counted_in(minutes, stretch, counted).for_each(|(_, score)| all.merge(&score));
    all
}

const HOUR_S: i64 = 3_600;

/// A time in which more was bad than may be.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Trouble {
    /// Whole hours that follow each other.
    pub stretch: Stretch,
    /// What they held.
    pub score: Score,
    /// How much more was bad than the promise lets be: it took that much of the error budget of other hours.
    pub beyond: f64,
}

/// Hours in which more was bad than the promise lets be, those that follow each other as one; what took most first.
pub fn troubles(
    minutes: &[Minute],
    stretch: Stretch,
    counted: &Cover,
    promised: f64,
) -> Vec<Trouble> {
    let mut all: Vec<Trouble> = Vec::new();
    for (at, score) in counted_in(minutes, stretch, counted) {
        let begin = at_second(at.as_second().div_euclid(HOUR_S) * HOUR_S);
        let hour = Stretch { from: begin, to: at_second(begin.as_second() + HOUR_S) };
        match all.last_mut().filter(|t| t.stretch == hour) {
            Some(held) => held.score.merge(&score),
            None => all.push(Trouble { stretch: hour, score, beyond: 0.0 }),
        }
    }
    all.retain(|t| burn_rate(&t.score, promised).is_some_and(|rate| rate > 1.0));
    all.dedup_by(|next, held| {
        let follows = held.stretch.to == next.stretch.from;
        if follows {
            held.stretch.to = next.stretch.to;
            held.score.merge(&next.score);
        }
        follows
    });
    for t in &mut all {
        t.beyond = t.score.bad as f64 - t.score.counted() as f64 * (1.0 - promised);
        t.stretch = t.stretch.common(&stretch).unwrap_or(t.stretch);
    }
    all.sort_by(|a, b| b.beyond.total_cmp(&a.beyond));
    all
}

/// The first minute of a stretch in which more was bad than may be.
pub fn first_bad(
    minutes: &[Minute],
    stretch: Stretch,
    counted: &Cover,
    promised: f64,
) -> Option<Timestamp> {
    let mut all = troubles(minutes, stretch, counted, promised);
    all.sort_by_key(|t| t.stretch.from);
    let hours = all.first()?.stretch;
    let bad = |(_, score): &(Timestamp, Score)| burn_rate(score, promised).is_some_and(|r| r > 1.0);
    counted_in(minutes, hours, counted).find(bad).map(|(at, _)| at)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::goal::definition::{Definition, Held};
    use crate::goal::{Combine, Measure as Promised, Period, Track, Verdict};
    use crate::measure::windowed::MINUTE_S;
    use jiff::SignedDuration;
    use jiff::tz::TimeZone;
    use proptest::prelude::*;

    fn goal(of: &str, promised: f64) -> Definition {
        Definition {
            measure: Promised::Experience(of.parse().unwrap()),
            journeys: Vec::new(),
            ..Definition::monthly(0, promised)
        }
    }

    /// A minute each, from a midnight of UTC on.
    fn each(held: &[(u64, u64)]) -> Vec<Minute> {
        let minute = |(nth, (good, bad)): (usize, &(u64, u64))| Minute {
            begin_s: DAY_S + nth as i64 * MINUTE_S,
            good: *good,
            bad: *bad,
        };
        held.iter().enumerate().map(minute).collect()
    }

    const DAY_S: i64 = 1_794_528_000;

    fn stretch(from_minute: i64, to_minute: i64) -> Stretch {
        let at = |minute: i64| at_second(DAY_S + minute * MINUTE_S);
        Stretch { from: at(from_minute), to: at(to_minute) }
    }

    #[test]
    fn what_of_a_share_is_good_is_what_the_measure_counts_unless_more_of_it_is_worse() {
        let part = Part { samples: 10, hits: 7, ..Part::default() };
        let parts = Parts::from([(60, part)]);
        let of = |text: &str| {
            let measured: crate::measure::Measured = text.parse().unwrap();
            assert!(is_promised(&measured.measure), "{text}");
            let minute = minutes(&parts, &measured.measure)[0];
            (minute.good, minute.bad)
        };
        assert_eq!(of("share of LCP within 2.5 s"), (7, 3));
        assert_eq!(of("share of INP good"), (7, 3));
        assert_eq!(of("share with errors"), (3, 7));
        assert_eq!(of("share of requests failed"), (3, 7));
    }

    #[test]
    fn only_shares_that_visitors_bring_are_promised_and_of_no_journey() {
        let refused = |of: &str| {
            matches!(goal(of, 0.9).check(), Err(crate::goal::definition::Impossible::NoShare(_)))
        };
        assert!(refused("p75 of LCP") && refused("availability") && refused("Apdex at 2 s"));
        assert!(refused("share of run duration within 8 s"), "runs have goals of their own");
        let of_views = goal("share of LCP within 2.5 s for family \"Timetable\"", 0.9);
        assert_eq!(of_views.check(), Ok(()));
        let both = Definition { journeys: vec![1], ..of_views };
        assert_eq!(both.check(), Err(crate::goal::definition::Impossible::NotOfRuns));
    }

    #[test]
    fn hours_that_are_worse_than_promised_are_one_where_they_follow_each_other_the_dearest_first() {
        // Of four hours the second and third are bad, and of the sixth a little more than may be.
        let mut held = vec![(10, 0); 360];
        held[60..180].fill((5, 5));
        held[300..360].fill((8, 2));
        let (minutes, all) = (each(&held), Cover::from(stretch(0, 360)));
        let found = troubles(&minutes, stretch(0, 360), &all, 0.9);
        let of: Vec<_> = found.iter().map(|t| (t.stretch, t.score.bad, t.beyond.round())).collect();
        assert_eq!(of, [(stretch(60, 180), 600, 480.0), (stretch(300, 360), 120, 60.0)]);
        let without = all.without(&Cover::from(stretch(0, 150)));
        let found = troubles(&minutes, stretch(0, 360), &without, 0.9);
        assert_eq!(found[0].score.bad, 150, "what is left out took nothing");
        assert_eq!(first_bad(&minutes, stretch(0, 360), &all, 0.9), Some(stretch(60, 61).from));
        assert_eq!(first_bad(&minutes, stretch(0, 60), &all, 0.9), None);
    }

    proptest! {
        #[test]
        fn page_views_are_judged_as_runs_would_be_that_came_in_the_same_minutes(
            held in prop::collection::vec((0u64..4, 0u64..3), 600), out in 0i64..500, long in 1i64..200, days in prop::option::of(1u16..3),
        ) {
            let minutes = each(&held);
            let mut runs = Vec::new();
            for m in &minutes {
                let good = (0..m.good).map(|_| Verdict::Good);
                runs.extend(good.chain((0..m.bad).map(|_| Verdict::Bad)).map(|v| (at_second(m.begin_s), v)));
            }
            let tracks = [Track { journey: 1, location: 1, runs: &runs }];
            let (runs, views) = (Held::Runs { tracks: &tracks, slot_s: 60 }, Held::PageViews(&minutes));
            let period = days.map_or(Period::Month, Period::Days);
            let of_views = Definition { period, ..goal("share of LCP within 2.5 s", 0.8) };
            let of_runs = Definition { period, combine: Combine::Pooled, ..Definition::monthly(1, 0.8) };
            let left_out = Cover::from(stretch(out, out + long));
            let (now, zone) = (stretch(0, 600).to, TimeZone::get("Europe/Oslo").unwrap());
            prop_assert_eq!(of_views.standing(&views, now, &left_out, &zone), of_runs.standing(&runs, now, &left_out, &zone));
            prop_assert_eq!(of_views.tried(&views, now, &left_out, &zone, 3), of_runs.tried(&runs, now, &left_out, &zone, 3));
            let reach = Stretch { from: now - SignedDuration::from_hours(20), to: now };
            prop_assert_eq!(of_views.course(&views, reach, 90, &left_out, &zone), of_runs.course(&runs, reach, 90, &left_out, &zone));
        }
    }
}
