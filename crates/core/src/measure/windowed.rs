//! A measure over a window that moves on: what it came to at the end of each minute. Trials of alerts and the watch itself
//! read it here, so that both tell the same.

use super::sheets::Parts;
use super::{Measure, Part};
use jiff::Timestamp;
use serde::Serialize;

/// What a measure came to over the window that ends at a moment.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Moment {
    /// When the window ends, which is not in it.
    pub at: Timestamp,
    /// `None` when there was nothing to tell.
    pub value: Option<f64>,
    /// How many samples there were.
    pub samples: u64,
    /// From how many locations they came, of runs.
    pub places: u32,
}

/// A minute, of which parts are made and by which windows move on.
pub const MINUTE_S: i64 = 60;

/// The measure over the last `window_s` seconds at each of these moments, which are in order of time and whole minutes;
/// `parts` are by the minute and reach back a window before the first of them.
pub fn windowed(
    measure: &Measure,
    parts: &Parts,
    window_s: i64,
    moments: impl IntoIterator<Item = Timestamp>,
) -> Vec<Moment> {
    let mut newest: Option<i64> = None;
    let mut ahead = parts.iter().peekable();
    moments
        .into_iter()
        .map(|at| {
            let end_s = at.as_second();
            while let Some((_, part)) = ahead.next_if(|(begin, _)| **begin < end_s) {
                newest = newest.max(part.newest_s);
            }
            let mut all = Part::default();
            parts.range(end_s - window_s..end_s).for_each(|(_, part)| all.absorb(part));
            if measure.is_silence() {
                // How long nothing came is no question of the window: the newest of all before it counts.
                all.newest_s = newest;
            }
            Moment {
                at,
                value: all.value(measure, end_s),
                samples: all.samples,
                places: all.places.len() as u32,
            }
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::calendar::stretch::at_second;
    use crate::measure::runs::{Played, gather};
    use crate::measure::{Measured, Span, Statistic};
    use crate::run::Outcome;
    use crate::stats::{Method, Samples};
    use proptest::prelude::*;

    fn runs() -> impl Strategy<Value = Vec<Played>> {
        let one = (
            0i64..7_200,
            1i32..4,
            prop::sample::select(Outcome::ALL.to_vec()),
            1.0..9_000.0f64,
            any::<bool>(),
            prop::option::of(-5i64..90),
        );
        prop::collection::vec(one, 0..150).prop_map(|all| {
            let mut runs: Vec<Played> = all
                .into_iter()
                .map(|(second, location, outcome, duration_ms, is_counted, certificate_days)| {
                    Played {
                        outcome,
                        duration_ms,
                        certificate_days,
                        is_counted,
                        ..Played::passed(second, location)
                    }
                })
                .collect();
            runs.sort_by_key(|r| r.at);
            runs
        })
    }

    proptest! {
        #[test]
        fn a_window_comes_to_what_its_samples_come_to_by_themselves(runs in runs(), window in 1i64..60, nth in 0i64..120) {
            let (end, window_s) = (nth * 60, window * 60);
            let inside = |r: &&Played| {
                let at = r.at.as_second();
                r.is_counted && r.outcome != Outcome::Unmeasured && end - window_s <= at && at < end
            };
            let counted: Vec<&Played> = runs.iter().filter(inside).collect();
            let of = |measure: &Measure| {
                let parts = gather(&runs, measure, MINUTE_S);
                windowed(measure, &parts, window_s, [at_second(end)])[0]
            };
            let p75 = of(&Measure::RunTime(Span::Run, Statistic::Percentile(0.75)));
            let through = counted.iter().filter(|r| r.outcome.got_through());
            let durations = Samples::new(through.map(|r| r.duration_ms));
            prop_assert_eq!(p75.value, durations.percentile(0.75, Method::NearestRank));
            prop_assert_eq!(p75.samples, durations.len() as u64);

            let availability = of(&Measure::Availability);
            let good = counted.iter().filter(|r| r.outcome.got_through()).count();
            prop_assert_eq!(availability.value, (!counted.is_empty()).then(|| good as f64 / counted.len() as f64));
            let places = counted.iter().map(|r| r.location).collect::<std::collections::BTreeSet<_>>();
            prop_assert_eq!(availability.places as usize, places.len());
            prop_assert_eq!(of(&Measure::RunCount).value, Some(counted.len() as f64));

            let silence = of(&Measure::RunSilence).value;
            let before = runs.iter().filter(|r| r.is_counted && r.outcome != Outcome::Unmeasured && r.at.as_second() < end);
            let newest = before.map(|r| r.at.as_second()).max();
            prop_assert_eq!(silence, newest.map(|at| (end - at) as f64 * 1_000.0));
        }

        #[test]
        fn the_whole_is_the_same_whatever_it_was_cut_into(runs in runs(), bucket in 1i64..90) {
            for text in ["availability", "p95 of run duration", "mean of run duration", "failing locations", "certificate days left", "count of runs"] {
                let measure = text.parse::<Measured>().unwrap().measure;
                let whole = |bucket_s: i64| {
                    let mut all = Part::default();
                    gather(&runs, &measure, bucket_s).values().for_each(|part| all.absorb(part));
                    let value = all.value(&measure, 7_200);
                    (value.map(|v| (v * 1e6).round()), all.samples)
                };
                prop_assert_eq!(whole(bucket * 60), whole(10_000), "{}", text);
            }
        }
    }

    #[test]
    fn a_certificate_that_was_renewed_is_as_good_as_the_newest_run_of_each_location_saw_it() {
        let run = |second: i64, location: i32, certificate_days| Played {
            certificate_days,
            ..Played::passed(second, location)
        };
        let runs = [
            run(10, 1, Some(3)),
            run(20, 2, Some(3)),
            run(70, 1, Some(90)),
            run(130, 2, None),
            run(190, 2, Some(89)),
        ];
        let measure = Measure::CertificateDays;
        let parts = gather(&runs, &measure, MINUTE_S);
        let at = [60, 120, 180, 240, 900].map(at_second);
        let read = windowed(&measure, &parts, 180, at);
        let values: Vec<_> = read.iter().map(|m| m.value).collect();
        // The second location still sees the old one for a while, and a run that saw none says nothing of it.
        assert_eq!(values, [Some(3.0), Some(3.0), Some(3.0), Some(89.0), None]);
        assert_eq!(read.iter().map(|m| m.samples).collect::<Vec<_>>(), [2, 3, 3, 2, 0]);
    }

    #[test]
    fn a_location_fails_as_long_as_its_newest_run_did() {
        let run = |second: i64, location: i32, outcome| Played {
            outcome,
            ..Played::passed(second, location)
        };
        use Outcome::{Failed, Passed};
        let runs =
            [run(10, 1, Failed), run(70, 1, Passed), run(80, 2, Failed), run(130, 3, Failed)];
        let measure = Measure::FailingLocations;
        let parts = gather(&runs, &measure, MINUTE_S);
        let at = [60, 120, 180, 240, 600].map(at_second);
        let values: Vec<_> = windowed(&measure, &parts, 180, at).iter().map(|m| m.value).collect();
        assert_eq!(values, [Some(1.0), Some(1.0), Some(2.0), Some(2.0), Some(0.0)]);
    }
}
