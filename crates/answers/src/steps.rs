//! Times of the steps of runs.

use cadentis_core::run::Outcome;
use cadentis_core::stats::Samples;
use cadentis_store::run::Run;

/// Milliseconds of the steps that a run got through, in their order.
pub fn steps_through(run: &Run) -> &[f32] {
    match run.outcome {
        Outcome::Passed | Outcome::Slow => &run.steps_ms,
        // The last step of a failed run is the one that failed: its time says how long we waited.
        Outcome::Failed => run.steps_ms.split_last().map_or(&[], |(_, before)| before),
        Outcome::Unmeasured => &[],
    }
}

/// Samples of one step of runs that got that far.
pub fn step_samples<'a>(runs: impl Iterator<Item = &'a Run>, step: usize) -> Samples {
    Samples::new(runs.filter_map(|r| steps_through(r).get(step).copied()).map(f64::from))
}

/// Times of each of so many steps, of runs that got that far, in one walk over the runs.
pub fn step_times<'a>(runs: impl Iterator<Item = &'a Run>, steps: usize) -> Vec<Vec<f64>> {
    let mut times = vec![Vec::new(); steps];
    for run in runs {
        times.iter_mut().zip(steps_through(run)).for_each(|(times, ms)| times.push(f64::from(*ms)));
    }
    times
}
