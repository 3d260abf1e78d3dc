//! One location: every journey from there beside the same elsewhere, and whose its troubles were.

use crate::views::Views;
use crate::{Answers, Range, Result};
use cadentis_core::calendar::Stretch;
use cadentis_core::goal::Counted;
use cadentis_core::run::place::{self, Around, Compared, Whose, whose};
use cadentis_core::run::spell::Spell;
use cadentis_core::run::{Outcome, RunRecord, TroubleKind};
use cadentis_core::stats::{Reading, Samples};
use cadentis_core::timing::Vital;
use cadentis_core::visitor::{Attribute, Filter, Pool};
use cadentis_store::journey::Journey;
use cadentis_store::location::Location;
use cadentis_store::run::Run;
use cadentis_store::script_version::Status;
use cadentis_store::site::Site;
use jiff::SignedDuration;
use std::collections::HashMap;
use uuid::Uuid;

/// Troubled runs that are looked at for a third party in their way.
const LOOKED_AT: usize = 12;
/// So many runs in a row begin a trouble.
const IN_A_ROW: u64 = 2;
/// A week, in seconds: visitors are compared with those of a week before.
const WEEK_S: i64 = 7 * 86_400;

/// One journey's runs, here and elsewhere, in order of time.
pub struct JourneyRuns {
    /// The journey.
    pub journey: Journey,
    /// From this location.
    pub here: Counted<Run>,
    /// From all others.
    pub elsewhere: Counted<Run>,
    /// The 75th percentile of those from here that got through, in milliseconds.
    pub duration: Reading,
    /// The same in what the stretch is compared with.
    pub duration_before: Reading,
}

/// The 75th percentile of runs that got through.
fn duration(runs: &Counted<Run>) -> Reading {
    Samples::new(runs.through().map(|r| r.duration_ms)).reading(0.75)
}

/// A time in which a journey was in trouble from here.
pub struct Trouble {
    /// The journey's name.
    pub journey: String,
    /// Its name in addresses.
    pub slug: String,
    /// From the first such run until it was over, or until now.
    pub stretch: Stretch,
    /// Failing or slow.
    pub kind: TroubleKind,
    /// Whose doing it was.
    pub whose: Whose,
    /// What that rests on, in a sentence.
    pub evidence: String,
}

/// What there is to say of a location.
pub struct AtLocation {
    /// The location itself.
    pub location: Location,
    /// Every journey that was played from here, in its order.
    pub journeys: Vec<JourneyRuns>,
    /// Its troubles, newest first.
    pub troubles: Vec<Trouble>,
    /// Page views from the same country in the stretch, and in the same hours a week before.
    pub visitors: u64,
    /// The same a week before.
    pub visitors_before: u64,
}

/// What there is to say of the location with this name in addresses; `None` when there is none.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn ask(
    answers: &Answers,
    site: &Site,
    range: &Range,
    slug: &str,
) -> Result<Option<AtLocation>> {
    let (db, past, everything) = (&answers.db, range.stretch, Filter::default());
    let (locations, mut journeys) = futures::try_join!(db.locations(), db.journeys(site.id))?;
    let Some(location) = locations.into_iter().find(|l| l.slug == *slug) else { return Ok(None) };
    journeys.retain(|j| j.status != Status::Archived.word());
    let week = SignedDuration::from_secs(WEEK_S);
    let week_before = Stretch { from: past.from - week, to: past.to - week };
    let ids: Vec<i32> = journeys.iter().map(|j| j.id).collect();
    let by_country = |stretch| {
        Views::rolled(
            answers,
            site.id,
            stretch,
            &everything,
            Attribute::Country,
            &[Vital::Lcp],
            1_000,
        )
    };
    let of_store = async {
        let before = async {
            match range.against {
                Some(against) => db.counted_runs_of(&ids, site.id, against).await,
                None => Ok(HashMap::new()),
            }
        };
        Ok(futures::try_join!(db.counted_runs_of(&ids, site.id, past), before)?)
    };
    let (views, usual, (mut runs, mut before)) =
        futures::try_join!(by_country(past), by_country(week_before), of_store)?;
    let here = |r: &Run| r.location_id == location.id;
    let of_journey = |journey: Journey| {
        let runs = runs.remove(&journey.id).unwrap_or_else(|| Counted::none(Run::check));
        let before = before.remove(&journey.id).unwrap_or_else(|| Counted::none(Run::check));
        let (from_here, elsewhere) = (runs.filtered(here), runs.filtered(|r| !here(r)));
        JourneyRuns {
            duration: duration(&from_here),
            duration_before: duration(&before.filtered(here)),
            here: from_here,
            elsewhere,
            journey,
        }
    };
    let mut played: Vec<JourneyRuns> = journeys.into_iter().map(of_journey).collect();
    played.retain(|p| !p.here.is_empty());
    let (seen, usually) =
        (views.buckets(Some(&location.country)), usual.buckets(Some(&location.country)));
    let troubles = troubles(answers, site, past, &played, &seen, &usually).await?;
    let count = |buckets: &[(i64, Pool)]| buckets.iter().map(|(_, p)| p.page_views).sum::<u64>();
    Ok(Some(AtLocation {
        visitors: count(&seen),
        visitors_before: count(&usually),
        location,
        journeys: played,
        troubles,
    }))
}

fn compared<'a>(
    runs: impl Iterator<Item = &'a Run>,
    stretch: Stretch,
    kind: TroubleKind,
) -> Compared {
    let measured = runs.filter(|r| stretch.contains(r.due_at) && r.outcome != Outcome::Unmeasured);
    measured.fold(Compared::default(), |c, r| Compared {
        troubled: c.troubled + u64::from(r.outcome == kind.outcome()),
        all: c.all + 1,
    })
}

/// A few of the runs of a journey that were in this trouble in this time, wherever.
fn looked_at(p: &JourneyRuns, stretch: Stretch, kind: TroubleKind) -> Vec<&Run> {
    let troubled = |r: &&Run| stretch.contains(r.due_at) && r.outcome == kind.outcome();
    let all: Vec<&Run> = p.here.iter().chain(p.elsewhere.iter()).filter(troubled).collect();
    all.iter().copied().step_by(all.len().div_ceil(LOOKED_AT).max(1)).collect()
}

async fn troubles(
    answers: &Answers,
    site: &Site,
    past: Stretch,
    all: &[JourneyRuns],
    seen: &[(i64, Pool)],
    usually: &[(i64, Pool)],
) -> Result<Vec<Trouble>> {
    let spells = all.iter().flat_map(|p| {
        let checks: Vec<_> = p.here.checks().collect();
        let of = move |kind| {
            Spell::of_kind(&checks, IN_A_ROW, kind).into_iter().map(move |spell| (p, kind, spell))
        };
        TroubleKind::ALL.into_iter().flat_map(of)
    });
    let spells: Vec<(&JourneyRuns, TroubleKind, Stretch, Compared)> = spells
        .map(|(p, kind, spell)| {
            let stretch = spell.stretch(past.to);
            (p, kind, stretch, compared(p.elsewhere.iter(), stretch, kind))
        })
        .collect();
    // Records of all of them at once. Where nothing was wrong elsewhere nobody else is suspected.
    let suspected = spells.iter().filter(|(.., elsewhere)| elsewhere.troubled > 0);
    let wanted: Vec<&Run> =
        suspected.flat_map(|(p, kind, stretch, _)| looked_at(p, *stretch, *kind)).collect();
    let records = answers.db.records(&wanted).await?;
    let records: HashMap<Uuid, RunRecord> = records.into_iter().map(|r| (r.id, r)).collect();
    let trouble =
        |(p, kind, stretch, elsewhere): (&JourneyRuns, TroubleKind, Stretch, Compared)| {
            let others =
                all.iter().filter(|o| o.journey.id != p.journey.id).flat_map(|o| o.here.iter());
            let third_party = match elsewhere.troubled {
                0 => None,
                _ => {
                    let own = looked_at(p, stretch, kind);
                    let own: Vec<RunRecord> =
                        own.iter().filter_map(|r| records.get(&r.id)).cloned().collect();
                    place::third_party(&own, kind, |host| site.owns(host))
                }
            };
            let (now, then) = (in_hours(seen, stretch, 0), in_hours(usually, stretch, WEEK_S));
            let around = Around {
                elsewhere,
                others_here: compared(others, stretch, kind),
                visitors: Some((now.page_views, then.page_views as f64)),
                visitors_wait: wait(&now).zip(wait(&then)),
                third_party,
            };
            let (whose, evidence) = whose(&around, kind);
            let (journey, slug) = (p.journey.name.clone(), p.journey.slug.clone());
            Trouble { journey, slug, stretch, kind, whose, evidence }
        };
    let mut troubles: Vec<Trouble> = spells.into_iter().map(trouble).collect();
    troubles.sort_by_key(|t| std::cmp::Reverse(t.stretch.from));
    Ok(troubles)
}

/// Page views of the whole hours that a trouble touches, `shift_s` before it: they are counted by the hour.
fn in_hours(buckets: &[(i64, Pool)], s: Stretch, shift_s: i64) -> Pool {
    let hours = s.from.as_second().div_euclid(3_600) * 3_600 - shift_s..s.to.as_second() - shift_s;
    let mut pool = Pool::default();
    buckets.iter().filter(|(at, _)| hours.contains(at)).for_each(|(_, p)| pool.absorb(p));
    pool
}

/// How long visitors waited, where enough of them tell.
fn wait(pool: &Pool) -> Option<f64> {
    let reading = pool.measured(Vital::Lcp).reading(0.75);
    reading.value.filter(|_| !reading.is_small())
}
