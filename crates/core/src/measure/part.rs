//! What is gathered of samples, and what it comes to.

use super::{Measure, Statistic, Unit};
use crate::stats::percentile::rank;
use crate::stats::proof::{counted, plain};
use crate::stats::share::wilson;
use crate::stats::{Interval, Proof, Reading, Sketch, readings, share};
use crate::visitor::sheet::IdSet;
use std::cmp::Reverse;
use std::collections::{BTreeMap, BTreeSet, HashSet};

/// What samples of some time come to, of one measure. Parts of time that touch are put together by [`Part::absorb`]: the
/// whole is the same whatever it was cut into.
#[derive(Debug, Clone, Default)]
pub struct Part {
    /// How many samples there are.
    pub samples: u64,
    /// Of them those that the measure asks for: that failed, are within the limit, are satisfied.
    pub hits: u64,
    /// Of Apdex those that tolerate.
    pub halves: u64,
    /// Sum of the values, for a mean.
    pub sum: f64,
    /// The values, for a percentile that is exact.
    pub values: Vec<f64>,
    /// The same merged, where there would be too many.
    pub sketch: Option<Box<Sketch>>,
    /// Different ids.
    pub ids: IdSet,
    /// Different texts.
    pub kinds: HashSet<String>,
    /// The second of the newest sample.
    pub newest_s: Option<i64>,
    /// The newest sample of each location and journey, and whether it failed.
    pub newest: BTreeMap<(i32, i32), (i64, bool)>,
    /// The newest sample of each location and journey, and days that were left of its certificates.
    pub certificates: BTreeMap<(i32, i32), (i64, Reverse<i64>)>,
    /// The locations that samples come from.
    pub places: BTreeSet<i32>,
    /// Samples that do not count: maintenance.
    pub left_out: u64,
}

impl Part {
    /// Adds what another has gathered.
    pub fn absorb(&mut self, other: &Part) {
        self.samples += other.samples;
        self.hits += other.hits;
        self.halves += other.halves;
        self.sum += other.sum;
        self.left_out += other.left_out;
        self.values.extend_from_slice(&other.values);
        match (&mut self.sketch, &other.sketch) {
            (Some(held), Some(more)) => held.merge(more),
            (None, Some(more)) => self.sketch = Some(more.clone()),
            (_, None) => {}
        }
        self.ids.extend(&other.ids);
        self.kinds.extend(other.kinds.iter().cloned());
        self.newest_s = self.newest_s.max(other.newest_s);
        for (of, newest) in &other.newest {
            let held = self.newest.entry(*of).or_insert(*newest);
            *held = (*held).max(*newest);
        }
        for (of, newest) in &other.certificates {
            let held = self.certificates.entry(*of).or_insert(*newest);
            *held = (*held).max(*newest);
        }
        self.places.extend(&other.places);
    }

    /// One more value of a statistic.
    pub(super) fn add(&mut self, statistic: Statistic, value: f64, exact: bool) {
        self.samples += 1;
        match statistic {
            Statistic::Percentile(_) if exact => self.values.push(value),
            Statistic::Percentile(_) => {
                self.sketch.get_or_insert_default().add(value);
            }
            Statistic::Mean => self.sum += value,
            Statistic::Within(limit) => self.hits += u64::from(value <= limit),
        }
    }

    /// What the measure comes to; `None` when there is nothing to tell. `at_s` is the second up to which is looked: what
    /// tells how long ago something was asks for it.
    pub fn value(&mut self, measure: &Measure, at_s: i64) -> Option<f64> {
        use Measure as M;
        match measure {
            M::RunTime(_, statistic)
            | M::RunTally(_, statistic)
            | M::ViewFigure(_, statistic)
            | M::HappenedTime(_, statistic) => self.statistic(*statistic),
            M::Availability
            | M::RunsSlow
            | M::RunsFailed
            | M::ViewsRated(..)
            | M::ViewsEnded(_) => share(self.hits, self.samples),
            M::HappenedFailed(_) => share(self.hits, self.samples),
            M::Apdex(_) => (self.samples > 0)
                .then(|| (self.hits as f64 + self.halves as f64 / 2.0) / self.samples as f64),
            M::RunSilence | M::ViewSilence => {
                self.newest_s.map(|newest| (at_s - newest).max(0) as f64 * 1_000.0)
            }
            M::FailingLocations => Some(self.failing() as f64),
            M::CertificateDays => {
                self.certificates.values().map(|(_, Reverse(days))| *days as f64).reduce(f64::min)
            }
            M::ErrorKinds | M::NewErrorKinds => Some(self.kinds.len() as f64),
            M::ErrorPeople => Some(self.ids.len() as f64),
            M::Views(super::Counted::PageViews) => Some(self.samples as f64),
            M::Views(_) => Some(self.ids.len() as f64),
            M::RunCount | M::HappenedCount(_) | M::ErrorCount => Some(self.samples as f64),
            // What is judged and what is posted is read elsewhere.
            M::BudgetLeft | M::Burn { .. } | M::BudgetLasts | M::DependencyState => None,
        }
    }

    fn statistic(&mut self, statistic: Statistic) -> Option<f64> {
        match statistic {
            Statistic::Mean => (self.samples > 0).then(|| self.sum / self.samples as f64),
            Statistic::Within(_) => share(self.hits, self.samples),
            Statistic::Percentile(p) => match &self.sketch {
                Some(sketch) => sketch.percentile(p),
                None if self.values.is_empty() => None,
                None => {
                    let nth = rank(self.values.len() as u64, p) as usize - 1;
                    Some(*self.values.select_nth_unstable_by(nth, f64::total_cmp).1)
                }
            },
        }
    }

    /// Locations of which the newest run of some journey failed.
    fn failing(&self) -> usize {
        let failed = self.newest.iter().filter(|(_, (_, failed))| *failed);
        failed.map(|((location, _), _)| location).collect::<BTreeSet<_>>().len()
    }

    /// The measure with its interval, where there is one.
    pub fn reading(&mut self, measure: &Measure, at_s: i64) -> Reading {
        let value = self.value(measure, at_s);
        let interval = match (measure.percentile(), &self.sketch) {
            (Some(p), Some(sketch)) => sketch.reading(p).interval,
            (Some(_), None) if self.values.is_empty() => None,
            (Some(p), None) => readings(&self.values, &[p]).0[0].interval,
            (None, _) if measure.has_interval() => wilson(self.hits as f64, self.samples as f64),
            _ => None,
        };
        Reading { value, samples: self.samples, interval }
    }

    /// How the measure was come by.
    pub fn proof(&mut self, measure: &Measure, at_s: i64) -> Proof {
        let reading = self.reading(measure, at_s);
        let unit = measure.unit();
        let worked = match reading.value {
            None => "nothing to tell: no data".to_string(),
            Some(value) => self.worked(measure, value),
        };
        let proof = Proof::new(
            format!("{measure}, over {}", measure.samples_words()),
            worked,
            reading.samples,
        )
        .leaving_out(self.left_out, "runs in maintenance");
        let proof = match reading.interval {
            None => proof,
            Some(Interval { low, high }) => proof.noting(format!(
                "95 % interval {} to {}{}",
                unit.text(low),
                unit.text(high),
                if unit == Unit::Share { " (Wilson)" } else { "" }
            )),
        };
        match self.sketch {
            Some(_) => proof.by("read off merged sketches, within 1 %"),
            None => proof.by("exact: each sample was looked at"),
        }
    }

    fn worked(&self, measure: &Measure, value: f64) -> String {
        use Measure as M;
        let unit = measure.unit();
        let all = counted(self.samples);
        match measure {
            M::Apdex(_) => format!(
                "({} + {} / 2) / {all} = {value:.3}",
                counted(self.hits),
                counted(self.halves)
            ),
            m if m.unit() == Unit::Share => {
                format!("{} / {all} = {}", counted(self.hits), unit.text(value))
            }
            M::RunTime(_, Statistic::Mean)
            | M::RunTally(_, Statistic::Mean)
            | M::ViewFigure(_, Statistic::Mean)
            | M::HappenedTime(_, Statistic::Mean) => {
                format!("{} / {all} = {}", plain(self.sum), unit.text(value))
            }
            M::RunTime(_, Statistic::Percentile(p))
            | M::RunTally(_, Statistic::Percentile(p))
            | M::ViewFigure(_, Statistic::Percentile(p))
            | M::HappenedTime(_, Statistic::Percentile(p)) => format!(
                "rank {} of {all} in order = {}",
                counted(rank(self.samples, *p)),
                unit.text(value)
            ),
            _ => unit.text(value),
        }
    }
}
