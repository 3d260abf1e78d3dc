//! Gathering a measure from runs.

use super::sheets::Parts;
use super::{Measure, Part, Span, Tallied};
use crate::run::{Counts, Outcome};
use jiff::Timestamp;
use std::cmp::Reverse;

/// A run as measures see it.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Played {
    /// When it was due.
    pub at: Timestamp,
    /// Of which journey.
    pub journey: i32,
    /// From where.
    pub location: i32,
    /// What became of it.
    pub outcome: Outcome,
    /// How long it took, in milliseconds.
    pub duration_ms: f64,
    /// Which of its steps is asked about.
    pub step: usize,
    /// How long that took, if it came through it.
    pub step_ms: Option<f64>,
    /// When the mark that is asked about was set, from its step's beginning, if it was.
    pub mark_ms: Option<f64>,
    /// Days that were left of the certificates it saw, if that is asked about and it saw one.
    pub certificate_days: Option<i64>,
    /// Milliseconds in network, server and browser, where that is known.
    pub split_ms: Option<[f64; 3]>,
    /// What it fetched, where that is known.
    pub counts: Option<Counts>,
    /// Whether it counts; what maintenance leaves out does not.
    pub is_counted: bool,
}

impl Part {
    /// One more run.
    pub fn add_run(&mut self, measure: &Measure, run: &Played) {
        if !run.is_counted {
            self.left_out += 1;
            return;
        }
        if run.outcome == Outcome::Unmeasured {
            return;
        }
        let at_s = run.at.as_second();
        self.places.insert(run.location);
        match measure {
            Measure::RunTime(span, statistic) => {
                let value = match span {
                    Span::Step => run.step_ms,
                    Span::Mark => run.mark_ms,
                    _ if !run.outcome.got_through() => None,
                    Span::Run => Some(run.duration_ms),
                    Span::Network => run.split_ms.map(|s| s[0]),
                    Span::Server => run.split_ms.map(|s| s[1]),
                    Span::Browser => run.split_ms.map(|s| s[2]),
                };
                if let Some(value) = value {
                    self.add(*statistic, value, true);
                }
            }
            Measure::RunTally(tallied, statistic) => {
                let is_told = run.outcome.got_through() || *tallied == Tallied::ScriptErrors;
                if let Some(counts) = run.counts.filter(|_| is_told) {
                    self.add(*statistic, tallied.of(&counts) as f64, true);
                }
            }
            Measure::FailingLocations => {
                let failed = run.outcome == Outcome::Failed;
                self.samples += 1;
                let of = (run.location, run.journey);
                let held = self.newest.entry(of).or_insert((at_s, failed));
                *held = (*held).max((at_s, failed));
            }
            Measure::CertificateDays => {
                if let Some(days) = run.certificate_days {
                    self.samples += 1;
                    let seen = (at_s, Reverse(days));
                    let held = self.certificates.entry((run.location, run.journey)).or_insert(seen);
                    *held = (*held).max(seen);
                }
            }
            Measure::RunSilence => {
                self.samples += 1;
                self.newest_s = self.newest_s.max(Some(at_s));
            }
            _ => {
                let is_hit = match measure {
                    Measure::Availability => run.outcome.got_through(),
                    Measure::RunsSlow => run.outcome == Outcome::Slow,
                    Measure::RunsFailed => run.outcome == Outcome::Failed,
                    _ => false,
                };
                self.samples += 1;
                self.hits += u64::from(is_hit);
            }
        }
    }
}

/// Gathers runs into buckets of so many seconds.
pub fn gather<'a>(
    runs: impl IntoIterator<Item = &'a Played>,
    measure: &Measure,
    bucket_s: i64,
) -> Parts {
    let mut parts = Parts::new();
    for run in runs {
        let at = run.at.as_second().div_euclid(bucket_s) * bucket_s;
        parts.entry(at).or_default().add_run(measure, run);
    }
    parts
}

#[cfg(test)]
impl Played {
    /// One that got through within a second, for tests.
    pub(crate) fn passed(at_s: i64, location: i32) -> Played {
        Played {
            at: crate::calendar::stretch::at_second(at_s),
            journey: 1,
            location,
            outcome: Outcome::Passed,
            duration_ms: 1_000.0,
            step: 0,
            step_ms: None,
            mark_ms: None,
            certificate_days: None,
            split_ms: None,
            counts: None,
            is_counted: true,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::calendar::stretch::at_second;
    use crate::measure::{Statistic, Unit};
    use proptest::prelude::*;

    fn run(outcome: Outcome, counts: Option<Counts>) -> Played {
        Played { outcome, counts, ..Played::passed(0, 1) }
    }

    fn fetched(requests: u64, bytes: u64, script_errors: u64) -> Option<Counts> {
        Some(Counts { requests, bytes, third_party_bytes: bytes / 4, script_errors })
    }

    fn value(text: &str, runs: &[Played]) -> (Option<f64>, u64) {
        let measure = text.parse::<crate::measure::Measured>().unwrap().measure;
        let mut part = Part::default();
        runs.iter().for_each(|run| part.add_run(&measure, run));
        let reading = part.reading(&measure, 60);
        (reading.value, reading.samples)
    }

    #[test]
    fn a_marks_time_is_told_of_runs_that_set_it_whatever_became_of_them_later() {
        let set = |outcome, ms| Played { mark_ms: ms, ..run(outcome, None) };
        let runs = [
            set(Outcome::Passed, Some(800.0)),
            set(Outcome::Slow, Some(2_000.0)),
            set(Outcome::Failed, Some(1_000.0)),
            set(Outcome::Failed, None),
            set(Outcome::Unmeasured, Some(9_000.0)),
            Played { is_counted: false, ..set(Outcome::Passed, Some(9_000.0)) },
        ];
        let of = |measure: &str| value(&format!("{measure} for mark \"map in place\""), &runs);
        assert_eq!(of("p50 of mark time"), (Some(1_000.0), 3));
        assert_eq!(of("share of mark time within 1 s"), (Some(2.0 / 3.0), 3));
        // One mark is asked about, and nothing else is narrowed by one.
        let parse = |text: &str| text.parse::<crate::measure::Measured>().map(|m| m.to_string());
        assert!(parse("p75 of mark time").unwrap_err().to_string().contains("asks for one mark"));
        assert!(parse("p75 of mark time for mark \"a\" or \"b\"").is_err());
        assert!(parse("availability for mark \"a\"").is_err());
        let whole = "p75 of mark time for journey \"book\" and mark \"map in place\" and location \"bergen\"";
        assert_eq!(parse(whole).unwrap(), whole);
    }

    #[test]
    fn what_came_is_told_of_runs_that_got_through_and_errors_of_all_whose_requests_are_known() {
        let left_out = Played { is_counted: false, ..run(Outcome::Passed, fetched(900, 9_000, 9)) };
        let runs = [
            run(Outcome::Passed, fetched(40, 1_000, 0)),
            run(Outcome::Slow, fetched(60, 3_000, 1)),
            run(Outcome::Failed, fetched(500, 8_000, 7)),
            run(Outcome::Unmeasured, fetched(700, 8_000, 70)),
            run(Outcome::Passed, None),
            left_out,
        ];
        assert_eq!(value("p95 of requests per run", &runs), (Some(60.0), 2));
        assert_eq!(value("mean of requests per run", &runs), (Some(50.0), 2));
        assert_eq!(value("mean of bytes per run", &runs), (Some(2_000.0), 2));
        assert_eq!(value("p50 of third-party bytes per run", &runs), (Some(250.0), 2));
        assert_eq!(value("mean of script errors per run", &runs), (Some(8.0 / 3.0), 3));
        assert_eq!(value("p95 of bytes per run", &runs[4..]), (None, 0), "nothing is known of it");
    }

    #[test]
    fn a_number_of_things_is_whole_and_the_mean_of_such_is_none() {
        let unit = |tallied, statistic| Measure::RunTally(tallied, statistic).unit();
        let p95 = Statistic::Percentile(0.95);
        assert_eq!(unit(Tallied::Requests, p95), Unit::Count);
        assert_eq!(unit(Tallied::ScriptErrors, Statistic::Mean), Unit::Plain);
        assert_eq!(unit(Tallied::Bytes, Statistic::Mean), Unit::Bytes);
        assert_eq!(Unit::Bytes.text(1_234_567.0), "1.23 MB");
    }

    proptest! {
        #[test]
        fn the_same_runs_come_to_the_same_whatever_pieces_of_time_they_are_gathered_in(
            counts in prop::collection::vec((0u64..200, 0u64..1 << 40, 0i64..7_200), 1..50), bucket_s in 60i64..4_000,
        ) {
            let runs: Vec<Played> = counts.iter().map(|(requests, bytes, second)| Played {
                at: at_second(*second), ..run(Outcome::Passed, fetched(*requests, *bytes, 0))
            }).collect();
            for text in ["p75 of requests per run", "p95 of bytes per run"] {
                let measure = text.parse::<crate::measure::Measured>().unwrap().measure;
                let mut all = Part::default();
                gather(&runs, &measure, bucket_s).values().for_each(|part| all.absorb(part));
                prop_assert_eq!((all.value(&measure, 0), all.samples), value(text, &runs));
            }
        }
    }
}
