//! How a reading was come by: the formula, the numbers put into it, the method, what was left out.

use super::Reading;
use serde::Serialize;

/// A value that a page can print line by line.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Proof {
    /// The rule in words: `availability = runs that got through / counted runs`.
    pub formula: String,
    /// The rule with this reading's numbers: `8,596 / 8,640 = 99.49 %`.
    pub worked: String,
    /// What was done with the samples, and how exact that is.
    pub method: String,
    /// How many samples the reading rests on.
    pub samples: u64,
    /// How many were not counted, and why; only where there were any.
    pub left_out: Vec<(u64, String)>,
    /// What else must be known to repeat the computation: window, zone, what a word means.
    pub notes: Vec<String>,
}

impl Proof {
    /// A number with its formula, the same worked out, and how many samples it rests on.
    pub fn new(formula: impl Into<String>, worked: impl Into<String>, samples: u64) -> Proof {
        Proof {
            formula: formula.into(),
            worked: worked.into(),
            method: String::new(),
            samples,
            left_out: vec![],
            notes: vec![],
        }
    }

    /// Says by which method.
    pub fn by(mut self, method: impl Into<String>) -> Proof {
        self.method = method.into();
        self
    }

    /// Notes `count` samples as not counted; none is not worth a line.
    pub fn leaving_out(mut self, count: u64, why: impl Into<String>) -> Proof {
        if count > 0 {
            self.left_out.push((count, why.into()));
        }
        self
    }

    /// Adds a remark.
    pub fn noting(mut self, note: impl Into<String>) -> Proof {
        self.notes.push(note.into());
        self
    }

    /// The proof of a percentile at `p`, which stands at `rank` of the ordered samples.
    pub(crate) fn percentile(p: f64, reading: &Reading, method: &str, rank: u64) -> Proof {
        let n = reading.samples;
        let percent = format!("{}", (p * 1e6).round() / 1e4);
        let worked = match reading.value {
            None => "no samples: no data".to_string(),
            Some(v) => {
                format!(
                    "rank {} = {percent} % of {}, rounded up; the sample there is {}",
                    counted(rank),
                    counted(n),
                    plain(v)
                )
            }
        };
        let interval = match (reading.value, reading.interval) {
            (None, _) => String::new(),
            (_, Some(i)) => {
                format!(
                    "95 % interval {} to {}, from order statistics, whatever the distribution",
                    plain(i.low),
                    plain(i.high)
                )
            }
            (_, None) => format!("{n} samples are too few for a 95 % interval: marked *"),
        };
        let proof = Proof::new(
            format!("p{percent} = the smallest sample with {percent} % of all at or below it"),
            worked,
            n,
        )
        .by(method);
        if interval.is_empty() { proof } else { proof.noting(interval) }
    }

    /// One line after the other; each begins like a sentence, but p75 stays p75.
    pub fn sentences(&self) -> Vec<String> {
        let begun = |line: String| {
            let mut letters = line.chars();
            match (letters.next(), letters.clone().next()) {
                (Some(first), Some(second)) if second.is_alphabetic() => {
                    first.to_uppercase().chain(letters).collect()
                }
                _ => line,
            }
        };
        self.lines().into_iter().map(begun).collect()
    }

    /// One line after the other, as a page prints them.
    pub fn lines(&self) -> Vec<String> {
        let mut lines = vec![format!("{}.", self.formula), format!("{}.", self.worked)];
        lines.push(if self.method.is_empty() {
            format!("Samples: {}.", counted(self.samples))
        } else {
            format!("Samples: {}; {}.", counted(self.samples), self.method)
        });
        lines.extend(
            self.left_out.iter().map(|(n, why)| format!("Left out: {} ({why}).", counted(*n))),
        );
        lines.extend(self.notes.iter().map(|note| format!("{note}.")));
        lines
    }
}

/// Whole numbers in groups of three.
pub fn counted(n: u64) -> String {
    let digits = n.to_string();
    let mut out = String::new();
    for (i, c) in digits.chars().enumerate() {
        if i > 0 && (digits.len() - i).is_multiple_of(3) {
            out.push(',');
        }
        out.push(c);
    }
    out
}

/// A value with as many digits as say something, without an exponent.
pub fn plain(value: f64) -> String {
    let size = value.abs();
    let decimals = match size {
        0.0 => 0,
        s if s >= 1_000.0 => 0,
        s if s >= 10.0 => 1,
        s if s >= 1.0 => 2,
        _ => 4,
    };
    format!("{value:.decimals$}")
}

#[cfg(test)]
mod tests {
    use super::Proof;
    use crate::stats::Samples;

    #[test]
    fn a_percentile_proves_itself_with_rank_interval_and_what_was_left_out() {
        let samples = Samples::new((1..=200).map(f64::from).chain([f64::NAN]));
        assert_eq!(
            samples.proof(0.75).lines(),
            [
                "p75 = the smallest sample with 75 % of all at or below it.",
                "rank 150 = 75 % of 200, rounded up; the sample there is 150.0.",
                "Samples: 200; nearest rank over all samples, exact.",
                "Left out: 1 (not a finite number).",
                "95 % interval 138.0 to 163.0, from order statistics, whatever the distribution.",
            ]
        );
        let few = Samples::new([4.0]).proof(0.95).lines();
        assert_eq!(few[3], "1 samples are too few for a 95 % interval: marked *.");
        assert_eq!(Samples::default().proof(0.95).worked, "no samples: no data");
    }

    #[test]
    fn a_working_reads_like_sentences_and_leaves_names_of_percentiles_alone() {
        let proof = Proof::new("availability = good / counted", "3 / 4 = 75 %", 4)
            .leaving_out(1, "ours")
            .noting("p75 is said");
        assert_eq!(
            proof.sentences(),
            [
                "Availability = good / counted.",
                "3 / 4 = 75 %.",
                "Samples: 4.",
                "Left out: 1 (ours).",
                "p75 is said."
            ]
        );
    }
}
