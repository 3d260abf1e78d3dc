//! What goals are judged by: runs and page views of a stretch, and what of its time does not count.

use super::hours;
use crate::samples;
use crate::{AnswerError, Answers, Result};
use cadentis_core::calendar::{Cadence, Cover, LeftOut, Stretch};
use cadentis_core::goal::definition::Held;
use cadentis_core::goal::hours::{Hour, counting, parted};
use cadentis_core::goal::views::Minute;
use cadentis_core::goal::{Check, Definition, Score, Track, Verdict, views};
use cadentis_core::measure::sheets::{Gather, by_value};
use cadentis_core::measure::windowed::MINUTE_S;
use cadentis_core::measure::{Key, Measured};
use cadentis_core::visitor::Attribute;
use cadentis_store::journey::Journey;
use cadentis_store::location::Location;
use cadentis_store::run_day::ToGoals;
use cadentis_store::site::Site;
use jiff::Timestamp;
use std::borrow::Cow;
use std::collections::{BTreeMap, HashMap};

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
    pub(super) fn counted(&self) -> Cow<'_, [Check]> {
        match self.left_out.is_empty() {
            true => Cow::Borrowed(&self.checks),
            false => {
                let counts = |c: &&Check| !self.left_out.contains(c.at);
                self.checks.iter().filter(counts).copied().collect()
            }
        }
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
            if here.left_out.is_empty() {
                continue;
            }
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

/// The page views of a stretch that a goal is about: of whole hours what was counted of them, of its ends the rows.
async fn load_views(
    answers: &Answers,
    site: &Site,
    of: &Measured,
    stretch: Stretch,
) -> Result<Loaded> {
    let (whole, ends) = parted(stretch);
    let mut minutes = Vec::new();
    if let Some(whole) = whole {
        for hour in hours::counted(answers, site.id, of, None, whole).await?.values() {
            if let Hour::Minutes(theirs) = &**hour {
                minutes.extend_from_slice(theirs);
            }
        }
    }
    for end in ends {
        let parts = samples::parts(answers, site.id, of, end, (MINUTE_S, false)).await?;
        minutes.extend(views::minutes(&parts, &of.measure));
    }
    minutes.sort_by_key(|m| m.begin_s);
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
    let slot_s = theirs.iter().map(|j| i64::from(j.every_s)).max().unwrap_or(300);
    let definition = definition.clone();
    // Tens of thousands of runs take a core a while.
    let here = answers.computed(move || by_place(runs, &definition)).await?;
    Ok(Loaded { here, minutes: None, located, slot_s })
}

/// Runs by their journey and location, as the goal sees them.
fn by_place(runs: HashMap<i32, Vec<ToGoals>>, definition: &Definition) -> Vec<Here> {
    let about = |run: &&ToGoals| {
        definition.locations.is_empty() || definition.locations.contains(&run.location)
    };
    let mut all: Vec<Here> = Vec::new();
    for (journey, runs) in runs {
        let (first, many) = (all.len(), runs.len());
        for run in runs.iter().filter(about) {
            // Locations are few, and take turns.
            let known = all[first..].iter().position(|here| here.location == run.location);
            let nth = match known {
                Some(nth) => first + nth,
                None => {
                    let held = many / 8;
                    all.push(Here {
                        journey,
                        location: run.location,
                        checks: Vec::with_capacity(held),
                        runs: Vec::with_capacity(held),
                        left_out: Cover::default(),
                    });
                    all.len() - 1
                }
            };
            let verdict = definition.measure.verdict(run.check.outcome, run.duration_ms);
            all[nth].runs.push((run.check.at, verdict));
            all[nth].checks.push(run.check);
        }
    }
    all.sort_by_key(|here| (here.journey, here.location));
    all
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
    let (wholly, partly) = counting(&counted.within(stretch));
    let mut all: BTreeMap<Box<str>, Score> = BTreeMap::new();
    let mut add = |value: &str, good: u64, bad: u64| {
        let score = Score { good, bad, ..Score::default() };
        all.entry(value.into()).or_default().merge(&score);
    };
    if let Some(hull) = hull(&wholly) {
        let hours = hours::counted(answers, site.id, of, Some(&by), hull).await?;
        for stretch in wholly {
            let here = hours.range(stretch.from.as_second()..stretch.to.as_second());
            for (_, hour) in here {
                if let Hour::Values(values) = &**hour {
                    values.iter().for_each(|v| add(&v.value, v.good, v.bad));
                }
            }
        }
    }
    // Many parts of hours, as of hours of service that begin at half past, are read at once.
    let reads = match partly.len() <= FEW {
        true => partly.iter().map(|p| (*p, Cover::from(*p))).collect(),
        false => {
            hull(&partly).map(|hull| (hull, Cover::of(partly))).into_iter().collect::<Vec<_>>()
        }
    };
    for (stretch, counted) in reads {
        let (measured, attribute) = (of.clone(), by.clone());
        let read = (MINUTE_S, false);
        let wanted = Gather::of(of, stretch, read);
        let sheets = samples::sheets(answers, site.id, &wanted, &[by.name()]).await?;
        let computing = answers.computed(move || {
            by_value(&sheets, &Gather::of(&measured, stretch, read), &attribute, &counted)
        });
        for (value, part) in computing.await? {
            let minute = views::minute(0, &part, &of.measure);
            add(&value, minute.good, minute.bad);
        }
    }
    let mut values: Vec<(String, Score)> =
        all.into_iter().map(|(value, score)| (value.into(), score)).collect();
    values.sort_by_key(|(_, score)| std::cmp::Reverse(score.bad));
    Ok((by, values))
}

/// So many parts of hours are read each by itself.
const FEW: usize = 4;

/// From the first of them to the last.
fn hull(stretches: &[Stretch]) -> Option<Stretch> {
    Some(Stretch { from: stretches.first()?.from, to: stretches.last()?.to })
}
