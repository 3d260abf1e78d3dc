//! Goals tried on the past.

use super::held::{left_out, load};
use crate::{Answers, Result};
use cadentis_core::calendar::{LeftOut, Reach, Stretch};
use cadentis_core::goal::definition::Judged;
use cadentis_core::goal::{Definition, Score, views};
use cadentis_store::goal::Goal;
use cadentis_store::journey::Journey;
use cadentis_store::site::Site;
use jiff::Timestamp;

/// A window that a goal was tried on.
pub struct TriedWindow {
    /// How it had been.
    pub judged: Judged,
    /// What spent most of its error budget, and how many were bad there, the worst first.
    pub spent_by: Vec<(String, u64)>,
}

/// A goal tried on the past.
pub struct Tried {
    /// Windows, the one at hand first.
    pub windows: Vec<TriedWindow>,
    /// The highest share that all of them would have held.
    pub would_have_held: Option<f64>,
}

/// A goal is tried on so many windows, with the one at hand.
pub const TRIED: usize = 6;
/// So many are told who spent an error budget.
const MOST_SPENDERS: usize = 3;

/// What a goal would have been in the windows up to now, whether it is kept or not.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn tried(
    answers: &Answers,
    site: &Site,
    goal_id: Option<i32>,
    definition: &Definition,
    now: Timestamp,
) -> Result<Tried> {
    let windows = definition.windows(now, &site.zone, TRIED);
    let from = windows.last().map_or(now, |w| w.from);
    let to = windows.first().map_or(now, |w| w.to);
    let journeys = answers.db.journeys(site.id).await?;
    let past = Stretch { from, to: now };
    let (out, mut loaded, places) = futures::try_join!(
        left_out(answers, site, goal_id, Stretch { from, to: to.max(now) }),
        load(answers, site, definition, &journeys, past),
        async { Ok(answers.db.locations().await?) },
    )?;
    let (zone, definition) = (site.zone.clone(), definition.clone());
    let computing = answers.computed(move || {
        let out = loaded.leaving_out(&out);
        let tracks = loaded.tracks();
        let held = loaded.held(&tracks);
        let trial = definition.tried(&held, now, &out, &zone, TRIED);
        let windows = trial.windows.into_iter().map(|judged| {
            let counted = definition.counted(judged.window, &out, &zone);
            let mut spent: Vec<(i32, i32, u64)> = tracks
                .iter()
                .map(|t| (t.journey, t.location, t.between(judged.past).bad_in(&counted)))
                .filter(|(.., bad)| *bad > 0)
                .collect();
            spent.sort_by_key(|(.., bad)| std::cmp::Reverse(*bad));
            let named = |(journey, location, bad): (i32, i32, u64)| {
                let journey = &journeys.iter().find(|j| j.id == journey)?.name;
                let place = &places.iter().find(|l| l.id == location)?.name;
                let is_alone = definition.journeys.len() == 1;
                let where_ = || format!("{journey} at {place}");
                Some((if is_alone { place.clone() } else { where_() }, bad))
            };
            let mut spent_by: Vec<_> =
                spent.into_iter().filter_map(named).take(MOST_SPENDERS).collect();
            if let Some(minutes) = &loaded.minutes {
                let found = views::troubles(minutes, judged.past, &counted, definition.promised);
                let hours = |t: views::Trouble| (t.stretch.words(&zone), t.score.bad);
                spent_by.extend(found.into_iter().take(MOST_SPENDERS).map(hours));
            }
            TriedWindow { judged, spent_by }
        });
        Tried { windows: windows.collect(), would_have_held: trial.would_have_held }
    });
    computing.await
}

/// What a goal's runs came to over a stretch, and what they would have come to with more left out.
///
/// # Errors
/// When the database does not answer or too much waits.
pub(crate) async fn scored(
    answers: &Answers,
    (site, goal_id, definition): (&Site, i32, &Definition),
    journeys: &[Journey],
    stretch: Stretch,
    besides: &[LeftOut],
) -> Result<(Score, Score)> {
    let (out, mut loaded) = futures::try_join!(
        left_out(answers, site, Some(goal_id), stretch),
        load(answers, site, definition, journeys, stretch),
    )?;
    let (zone, definition) = (site.zone.clone(), definition.clone());
    let all = [&out[..], besides].concat();
    let computing = answers.computed(move || {
        let mut of = |out: &[LeftOut]| {
            let everywhere = loaded.leaving_out(out);
            let tracks = loaded.tracks();
            let held = loaded.held(&tracks);
            definition.score(&held, stretch, &everywhere, &zone)
        };
        (of(&out), of(&all))
    });
    computing.await
}

/// What the period in which time begins came to, and what it would come to with that time taken out.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn with_and_without(
    answers: &Answers,
    site: &Site,
    goal: &Goal,
    (stretch, why): (Stretch, &str),
) -> Result<(Score, Score)> {
    let (version, window) = goal.judged_at(stretch.from, &site.zone);
    let now = answers.db.now().await?;
    let past = Stretch { from: window.from.min(now), to: window.to.min(now) };
    let journeys = answers.db.journeys(site.id).await?;
    let out = LeftOut {
        stretch,
        why: why.into(),
        author: Some(String::new()),
        reach: Reach::default(),
        is_held: false,
    };
    scored(answers, (site, goal.id, &version.definition), &journeys, past, &[out]).await
}
