//! What was promised, and what is left of the error budget.

use crate::{Answers, Result};
use cadentis_core::calendar::Stretch;
use cadentis_core::calendar::stretch::at_second;
use cadentis_core::goal::{self, Check, ErrorBudget, Period, Promise, Tally};
use cadentis_store::sites::{Goal, LeftOut, Site};

/// Everything that does not count towards a goal within the stretch.
///
/// # Errors
/// When the database does not answer.
pub async fn left_out(
    answers: &Answers,
    site: &Site,
    goal: &Goal,
    stretch: Stretch,
) -> Result<Vec<LeftOut>> {
    let (mut all, carved) = futures::try_join!(
        answers.db.maintenance(site.id, stretch),
        answers.db.carve_outs(goal.id)
    )?;
    all.extend(carved.into_iter().filter(|c| c.stretch.common(&stretch).is_some()));
    Ok(all)
}

/// The error budget of the calendar month at about `points` moments of the stretch: second, and what stood then.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn budget_over(
    answers: &Answers,
    site: &Site,
    goal: &Goal,
    stretch: Stretch,
    points: i64,
) -> Result<Vec<(i64, ErrorBudget)>> {
    let months = Stretch {
        from: Stretch::month_of(stretch.from, &site.zone).from,
        to: Stretch::month_of(stretch.to, &site.zone).to,
    };
    let out = LeftOut::cover(&left_out(answers, site, goal, months).await?);
    let bucket_s = stretch.bucket_seconds(points);
    let whole = Stretch { from: months.from, to: stretch.to };
    let checks = answers.db.checks(goal.journey_id, site.id, whole).await?;
    let (zone, promised) = (site.zone.clone(), goal.promised);
    let computing = answers.computed(move || {
        let checks: Vec<Check> = checks.into_iter().map(|(_, c)| c).collect();
        let buckets = Tally::buckets(&checks, &out, bucket_s);
        let buckets: Vec<_> =
            buckets.into_iter().map(|(second, tally)| (at_second(second), tally.score())).collect();
        let counted = goal::counted(months, &[], &out, &zone);
        let promise = Promise { promised, period: Period::Month, zone: &zone, counted: &counted };
        promise.course(stretch, &buckets, bucket_s)
    });
    Ok(computing.await?.into_iter().map(|(at, budget)| (at.as_second(), budget)).collect())
}
