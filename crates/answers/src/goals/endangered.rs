//! Goals that are in danger of being missed.

use super::AT_ONCE;
use super::held::{by_values, left_out, load};
use crate::{Answers, Result};
use cadentis_core::calendar::Stretch;
use cadentis_core::goal::definition::PACE;
use cadentis_core::goal::{self, Danger, ErrorBudget, Period, Track, views};
use cadentis_core::stats::share;
use cadentis_store::goal::Goal;
use cadentis_store::journey::Journey;
use cadentis_store::site::Site;
use futures::stream::{self, StreamExt, TryStreamExt};
use jiff::{SignedDuration, Timestamp};
use std::collections::BTreeMap;

/// A goal that is in danger of being missed, or is.
pub struct InDanger {
    /// The goal.
    pub goal: Goal,
    /// The period that it is judged over, and the window.
    pub window: (Period, Stretch),
    /// What threatens it.
    pub danger: Danger,
    /// What is left of its error budget.
    pub budget: ErrorBudget,
    /// The first bad run of the long window that burns, or of the last day.
    pub since: Option<Timestamp>,
    /// What is promised.
    pub measure: goal::Measure,
    /// Where most of what was bad since then comes from, and its share.
    pub mostly: Option<(String, f64)>,
    /// The journeys that it is over.
    pub journeys: Vec<i32>,
}

/// Goals that are in danger at a moment, the worst first.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn in_danger(
    answers: &Answers,
    site: &Site,
    goals: &[Goal],
    journeys: &[Journey],
    now: Timestamp,
) -> Result<Vec<InDanger>> {
    let each = goals.iter().map(|goal| of_goal(answers, site, goal, journeys, now));
    let found: Vec<Option<InDanger>> = stream::iter(each).buffered(AT_ONCE).try_collect().await?;
    let mut found: Vec<InDanger> = found.into_iter().flatten().collect();
    let left = |d: &InDanger| d.budget.left_share();
    found.sort_by(|a, b| Danger::worst_first((&a.danger, left(a)), (&b.danger, left(b))));
    Ok(found)
}

/// A goal at a moment, if it is in danger.
async fn of_goal(
    answers: &Answers,
    site: &Site,
    goal: &Goal,
    journeys: &[Journey],
    now: Timestamp,
) -> Result<Option<InDanger>> {
    let (version, window) = goal.judged_at(now, &site.zone);
    let definition = version.definition.clone();
    let period = definition.period;
    let longest = goal::burn::PAIRS.iter().map(|p| p.long_s).max().unwrap_or_default();
    let from = window.from.min(now - SignedDuration::from_secs(longest));
    let read = Stretch { from, to: now };
    let (out, mut loaded) = futures::try_join!(
        left_out(answers, site, Some(goal.id), Stretch { from, to: window.to.max(now) }),
        load(answers, site, &definition, journeys, read),
    )?;
    let (zone, goal) = (site.zone.clone(), goal.clone());
    let named: BTreeMap<i32, String> = journeys.iter().map(|j| (j.id, j.name.clone())).collect();
    let computing = answers.computed(move || {
        let out = loaded.leaving_out(&out);
        let tracks = loaded.tracks();
        let held = loaded.held(&tracks);
        let standing = definition.standing(&held, now, &out, &zone);
        let budget = standing.judged.budget;
        let danger = Danger::of(&budget, &standing.burns, &standing.forecast, window, now);
        let looked_s = match danger {
            Danger::None => return None,
            Danger::Burns { burn, .. } => burn.pair.long_s,
            Danger::Missed | Danger::RunsOut(_) => PACE.as_secs(),
        };
        let recent = Stretch { from: now - SignedDuration::from_secs(looked_s), to: now };
        let counted = definition.counted(recent, &out, &zone);
        let bad: Vec<(i32, i32, u64)> = tracks
            .iter()
            .map(|t| (t.journey, t.location, t.between(recent).bad_in(&counted)))
            .collect();
        let all: u64 = bad.iter().map(|(.., n)| n).sum();
        let places = loaded.located.iter().flat_map(|(_, at)| at.iter().map(|(l, _)| l));
        let place = |id: i32| places.clone().find(|l| l.id == id).map(|l| l.name.clone());
        let most = bad.iter().max_by_key(|(.., n)| *n).filter(|(.., n)| *n > 0);
        let mostly = most.and_then(|(journey, location, n)| {
            let whence = format!("“{}” from {}", named.get(journey)?, place(*location)?);
            Some((whence, share(*n, all)?))
        });
        let first = |t: &Track<'_>| t.between(recent).first_bad(&counted);
        let since = match &loaded.minutes {
            Some(m) => views::first_bad(m, recent, &counted, definition.promised),
            None => tracks.iter().filter_map(first).min(),
        };
        let (journeys, measure) = (definition.journeys.clone(), definition.measure.clone());
        let window = (period, window);
        let found = InDanger { goal, window, danger, measure, budget, since, mostly, journeys };
        Some((found, recent, counted))
    });
    let Some((mut danger, recent, counted)) = computing.await? else { return Ok(None) };
    if let Some(of) = danger.measure.of_page_views() {
        let (by, values) = by_values(answers, site, of, recent, counted).await?;
        let all: u64 = values.iter().map(|(_, score)| score.bad).sum();
        let worst = values.first().filter(|(_, score)| score.bad > 0);
        danger.mostly = worst.and_then(|(value, score)| {
            Some((format!("{} “{value}”", by.title()), share(score.bad, all)?))
        });
    }
    Ok(Some(danger))
}
