//! Samples of a measure, read of runs, of page views and of what happened on them.

use crate::measures::About;
use crate::steps::steps_through;
use crate::{Answers, Result};
use cadentis_core::calendar::Stretch;
use cadentis_core::measure::Measured;
use cadentis_core::measure::runs::Played;
use cadentis_core::measure::sheets::{Gather, Parts, gather};
use cadentis_core::visitor::sheet::Sheet;
use cadentis_store::run::Run;
use cadentis_store::sheet::Filed;
use cadentis_store::site::Site;
use std::collections::HashMap;
use std::ops::RangeInclusive;

/// Which sheets hold them.
pub(crate) fn filed(wanted: &Gather<'_>) -> Filed {
    match (wanted.is_of_failures(), wanted.is_of_happenings()) {
        (true, _) => Filed::Failures,
        (_, true) => Filed::Happenings,
        _ => Filed::PageViews,
    }
}

/// The sheets that hold them, with these columns beside those that the measure reads.
pub(crate) async fn sheets(
    answers: &Answers,
    site_id: i32,
    wanted: &Gather<'_>,
    more: &[String],
) -> Result<Vec<Sheet>> {
    let filed = filed(wanted);
    let mut columns = wanted.columns();
    columns.extend_from_slice(more);
    columns.sort();
    columns.dedup();
    Ok(answers.db.sheets_of(filed, site_id, wanted.stretch, &columns).await?)
}

/// What samples of a stretch come to, in buckets of so many seconds.
pub(crate) async fn parts(
    answers: &Answers,
    site_id: i32,
    measured: &Measured,
    stretch: Stretch,
    (bucket_s, exact): (i64, bool),
) -> Result<Parts> {
    let wanted = Gather::of(measured, stretch, (bucket_s, exact));
    let sheets = sheets(answers, site_id, &wanted, &[]).await?;
    let measured = measured.clone();
    let computing = answers
        .computed(move || gather(&sheets, &Gather::of(&measured, stretch, (bucket_s, exact))));
    computing.await
}

/// The runs that a measure is read of.
pub(crate) async fn played(
    answers: &Answers,
    site: &Site,
    about: &About,
    stretch: Stretch,
) -> Result<Vec<Played>> {
    let step = about.step;
    read(answers, site, about, stretch, move |_, _| {
        step.unwrap_or_default()..=step.unwrap_or_default()
    })
    .await
}

/// The same once for each step that they came through; what does not count once.
pub(crate) async fn played_by_step(
    answers: &Answers,
    site: &Site,
    about: &About,
    stretch: Stretch,
) -> Result<Vec<Played>> {
    let each = |run: &Run, is_counted: bool| match is_counted {
        true => 0..=steps_through(run).len().saturating_sub(1),
        false => 0..=0,
    };
    read(answers, site, about, stretch, each).await
}

/// Runs, once for each of these steps.
async fn read(
    answers: &Answers,
    site: &Site,
    about: &About,
    stretch: Stretch,
    steps: impl Fn(&Run, bool) -> RangeInclusive<usize> + Send + 'static,
) -> Result<Vec<Played>> {
    let ids: Vec<i32> = about.journeys.iter().map(|j| j.id).collect();
    let marks = async {
        match &about.mark {
            Some(mark) => answers.db.marks(&ids, site.id, stretch, mark).await,
            None => Ok(HashMap::new()),
        }
    };
    let certificates = async {
        match about.certificates {
            true => answers.db.certificate_days(&ids, site.id, stretch).await,
            false => Ok(HashMap::new()),
        }
    };
    let counted = answers.db.counted_runs_of(&ids, site.id, stretch);
    let (counted, marks, certificates) = futures::try_join!(counted, marks, certificates)?;
    let locations = about.locations.clone();
    let computing = answers.computed(move || {
        let here = |run: &Run| locations.as_ref().is_none_or(|ids| ids.contains(&run.location_id));
        let seen = |run: &Run, is_counted: bool, step: usize| Played {
            at: run.due_at,
            journey: run.journey_id,
            location: run.location_id,
            outcome: run.outcome,
            duration_ms: run.duration_ms,
            step,
            step_ms: steps_through(run).get(step).map(|ms| f64::from(*ms)),
            mark_ms: marks.get(&run.id).copied(),
            certificate_days: certificates.get(&run.id).copied(),
            split_ms: run.split_ms.map(|split| split.map(f64::from)),
            counts: run.counts,
            is_counted,
        };
        let drawn = counted.values().flat_map(|runs| runs.drawn()).filter(|(run, _)| here(run));
        let mut all = Vec::new();
        for (run, is_counted) in drawn {
            all.extend(steps(run, is_counted).map(|step| seen(run, is_counted, step)));
        }
        all
    });
    computing.await
}
