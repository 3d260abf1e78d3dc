//! What goals are judged by: runs and page views of a stretch, and what of its time does not count.

use crate::samples;
use crate::{AnswerError, Answers, Result};
use cadentis_core::calendar::{Cadence, Cover, LeftOut, Stretch};
use cadentis_core::goal::definition::Held;
use cadentis_core::goal::views::Minute;
use cadentis_core::goal::{Check, Definition, Score, Track, Verdict, views};
use cadentis_core::measure::sheets::{Gather, by_value};
use cadentis_core::measure::windowed::MINUTE_S;
use cadentis_core::measure::{Key, Measured, Part};
use cadentis_core::visitor::Attribute;
use cadentis_store::journey::Journey;
use cadentis_store::location::Location;
use cadentis_store::site::Site;
use jiff::{SignedDuration, Timestamp};
use std::collections::BTreeMap;

/// Where a journey plays, and when.
pub(super) type Located = Vec<(Location, Cadence)>;

/// Everything that does not count towards a goal within the stretch; of one that is not kept yet, maintenance.
///
/// # Errors
/// When the database does not answer.
pub async fn left_out(
    answers: &Answers,
    site: &Site,
    goal_id: Option<i32>,
    stretch: Stretch,
) -> Result<Vec<LeftOut>> {
    let carved = async {
        match goal_id {
            Some(id) => Ok(answers.db.carve_outs(id).await?),
            None => Ok::<_, AnswerError>(Vec::new()),
        }
    };
    let maintenance = async { Ok(answers.db.maintenance(site.id, stretch).await?) };
    let (mut all, carved) = futures::try_join!(maintenance, carved)?;
    all.extend(carved.into_iter().filter(|c| c.stretch.common(&stretch).is_some()));
    Ok(all)
}

/// The runs of one journey at one location.
pub(crate) struct Here {
    pub(super) journey: i32,
    pub(super) location: i32,
    pub(super) checks: Vec<Check>,
    pub(super) runs: Vec<(Timestamp, Verdict)>,
    /// What does not count of this journey at this location.
    pub(super) left_out: Cover,
}

impl Here {
    /// Those that count.
    pub(super) fn counted(&self) -> impl Iterator<Item = Check> + '_ {
        self.checks.iter().copied().filter(|c| !self.left_out.contains(c.at))
    }
}

/// What a goal is judged by.
pub(crate) struct Loaded {
    pub(super) here: Vec<Here>,
    /// Page views by the minute, where it is of those.
    pub(super) minutes: Option<Vec<Minute>>,
    /// Where each journey plays and when, as far as the goal is about it.
    pub(super) located: Vec<(i32, Located)>,
    /// The longest interval of the journeys' cadences, in seconds.
    pub(super) slot_s: i64,
}

impl Loaded {
    /// Takes note of what does not count: of each journey at each location by itself; what is left out of all of them is
    /// answered.
    pub(crate) fn leaving_out(&mut self, all: &[LeftOut]) -> Cover {
        for here in &mut self.here {
            here.left_out = LeftOut::at(all, here.journey, here.location);
            for (at, verdict) in &mut here.runs {
                if here.left_out.contains(*at) {
                    *verdict = Verdict::LeftOut;
                }
            }
        }
        let of = |(journey, located): &(i32, Located)| {
            let journey = *journey;
            located.iter().map(move |(l, _)| (journey, l.id)).collect::<Vec<_>>()
        };
        LeftOut::everywhere(all, &self.located.iter().flat_map(of).collect())
    }

    pub(crate) fn tracks(&self) -> Vec<Track<'_>> {
        let all = self.here.iter();
        all.map(|h| Track { journey: h.journey, location: h.location, runs: &h.runs }).collect()
    }

    /// All of it; the tracks are those of its runs.
    pub(crate) fn held<'a>(&'a self, tracks: &'a [Track<'a>]) -> Held<'a> {
        match &self.minutes {
            Some(minutes) => Held::PageViews(minutes),
            None => Held::Runs { tracks, slot_s: self.slot_s },
        }
    }
}

/// Page views are read for so long at a time: what was read before is let go of.
const READ_AT_ONCE: SignedDuration = SignedDuration::from_hours(31 * 24);

/// The page views of a stretch that a goal is about.
async fn load_views(
    answers: &Answers,
    site: &Site,
    of: &Measured,
    stretch: Stretch,
) -> Result<Loaded> {
    let mut minutes = Vec::new();
    let mut from = stretch.from;
    while from < stretch.to {
        let here = Stretch { from, to: stretch.to.min(from + READ_AT_ONCE) };
        let parts = samples::parts(answers, site.id, of, here, (MINUTE_S, false)).await?;
        minutes.extend(views::minutes(&parts, &of.measure));
        from = here.to;
    }
    // A minute that was read in two halves is one.
    minutes.dedup_by(|next, held| {
        let same = next.begin_s == held.begin_s;
        if same {
            (held.good, held.bad) = (held.good + next.good, held.bad + next.bad);
        }
        same
    });
    Ok(Loaded { here: Vec::new(), minutes: Some(minutes), located: Vec::new(), slot_s: MINUTE_S })
}

/// What of a stretch a goal is about.
pub(crate) async fn load(
    answers: &Answers,
    site: &Site,
    definition: &Definition,
    journeys: &[Journey],
    stretch: Stretch,
) -> Result<Loaded> {
    if let Some(of) = definition.measure.of_page_views() {
        return load_views(answers, site, of, stretch).await;
    }
    let about =
        |location: i32| definition.locations.is_empty() || definition.locations.contains(&location);
    let theirs: Vec<&Journey> =
        journeys.iter().filter(|j| definition.journeys.contains(&j.id)).collect();
    let located = async {
        let mut all = Vec::new();
        for j in &theirs {
            let mut located = answers.db.locations_of(j).await?;
            located.retain(|(l, _)| about(l.id));
            all.push((j.id, located));
        }
        Ok::<_, AnswerError>(all)
    };
    let ids = &definition.journeys;
    let runs = async { Ok(answers.db.runs_for_goals(ids, site.id, stretch).await?) };
    let (located, runs) = futures::try_join!(located, runs)?;
    let mut here: BTreeMap<(i32, i32), Here> = BTreeMap::new();
    for (journey, runs) in runs {
        for (location, check, duration_ms) in runs.into_iter().filter(|(l, ..)| about(*l)) {
            let of = here.entry((journey, location)).or_insert_with(|| Here {
                journey,
                location,
                checks: Vec::new(),
                runs: Vec::new(),
                left_out: Cover::default(),
            });
            of.runs.push((check.at, definition.measure.verdict(check.outcome, duration_ms)));
            of.checks.push(check);
        }
    }
    let slot_s = theirs.iter().map(|j| i64::from(j.every_s)).max().unwrap_or(300);
    Ok(Loaded { here: here.into_values().collect(), minutes: None, located, slot_s })
}

/// Values of the attribute that page views of a goal are told apart by, with what was counted of each, what was worst first:
/// page families, or devices where it is of one family.
pub(super) async fn by_values(
    answers: &Answers,
    site: &Site,
    of: &Measured,
    stretch: Stretch,
    counted: Cover,
) -> Result<(Attribute, Vec<(String, Score)>)> {
    let by = match of.scope.of(&Key::Attribute(Attribute::Family)).len() {
        1 => Attribute::Device,
        _ => Attribute::Family,
    };
    let read = (MINUTE_S, false);
    let wanted = Gather::of(of, stretch, read);
    let sheets = samples::sheets(answers, site.id, &wanted, &[by.name()]).await?;
    let (attribute, of) = (by.clone(), of.clone());
    let computing = answers.computed(move || {
        let parts = by_value(&sheets, &Gather::of(&of, stretch, read), &attribute, &counted);
        let score = |(value, part): (String, Part)| {
            let minute = views::minute(0, &part, &of.measure);
            (value, Score { good: minute.good, bad: minute.bad, ..Score::default() })
        };
        let mut values: Vec<(String, Score)> = parts.into_iter().map(score).collect();
        values.sort_by_key(|(_, score)| std::cmp::Reverse(score.bad));
        values
    });
    Ok((by, computing.await?))
}
