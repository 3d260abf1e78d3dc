//! Markers of a site: those of a stretch, and what was before and after one.

use crate::played::of_journeys;
use crate::pooled::p75;
use crate::views::Views;
use crate::{Answers, Result};
use cadentis_core::calendar::Stretch;
use cadentis_core::stats::compare::{Shift, reading_shift, share_shift};
use cadentis_core::stats::{Proof, Reading, Samples};
use cadentis_core::timing::Vital;
use cadentis_core::visitor::{Attribute, Filter, Pool};
use cadentis_store::marker::Marker;
use cadentis_store::script_version::Status;
use cadentis_store::site::Site;
use jiff::{SignedDuration, Timestamp};

/// The percentile that readings are compared at.
const COMPARED_AT: f64 = 0.75;

/// The markers of a stretch, in order of time.
///
/// # Errors
/// When the database does not answer.
pub async fn of_stretch(answers: &Answers, site: &Site, stretch: Stretch) -> Result<Vec<Marker>> {
    Ok(answers.db.markers(site.id, stretch).await?)
}

/// As [`of_stretch`] has them, page by page: so many at most, after the one at that moment with that id.
///
/// # Errors
/// When the database does not answer.
pub async fn after(
    answers: &Answers,
    site: &Site,
    (stretch, after, most): (Stretch, Option<(Timestamp, i32)>, usize),
) -> Result<Vec<Marker>> {
    Ok(answers.db.markers_after(site.id, stretch, after, most as i64).await?)
}

/// A marker of the site, even one that was taken away.
///
/// # Errors
/// When the database does not answer.
pub async fn one(answers: &Answers, site: &Site, id: i32) -> Result<Option<Marker>> {
    Ok(answers.db.marker(site.id, id).await?)
}

/// What is compared of page views or runs.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Measured {
    /// A vital, in its own unit.
    Vital(Vital),
    /// The share of page views with a script error.
    WithErrors,
    /// The share of page views that were left before they had loaded.
    Abandoned,
    /// How long runs took that got through, in milliseconds.
    Duration,
    /// The share of runs that got through.
    Availability,
}

impl Measured {
    /// Whether more of it is worse.
    pub fn is_worse_up(self) -> bool {
        self != Measured::Availability
    }

    /// Whether it is a share.
    pub fn is_share(self) -> bool {
        matches!(self, Measured::WithErrors | Measured::Abandoned | Measured::Availability)
    }
}

/// One measure before and after.
pub struct Pair {
    /// What is compared.
    pub what: Measured,
    /// How it moved; `None` where one side has nothing.
    pub shift: Option<Shift>,
    /// Samples before and after.
    pub samples: [u64; 2],
}

impl Pair {
    /// Whether it surely became worse or better, by enough to be noticed.
    pub fn is_worse(&self) -> Option<bool> {
        let shift = self.shift?;
        let notable = match self.what.is_share() {
            true => shift.is_notable_share(),
            false => shift.is_notable(),
        };
        if !notable {
            return None;
        }
        Some((shift.by() > 0.0) == self.what.is_worse_up())
    }

    /// How the difference was come by.
    pub fn proof(&self) -> Option<Proof> {
        let shift = self.shift?;
        let samples = (self.samples[0], self.samples[1]);
        Some(match self.what.is_share() {
            true => shift.proof(
                "share",
                samples,
                "Newcombe’s method 10, from the Wilson limits of both",
            ),
            false => shift.proof(
                "p75",
                samples,
                "nearest rank; both standard errors read off their order statistics",
            ),
        })
    }
}

/// Some page views, or the runs of a journey, before and after.
pub struct Side {
    /// Which they are: a device, a journey; empty of all page views.
    pub name: String,
    /// Where a journey is found.
    pub slug: String,
    /// How many there were before and after.
    pub count: [u64; 2],
    /// What is compared.
    pub pairs: Vec<Pair>,
}

/// What was before and after a moment.
pub struct Around {
    /// What is compared.
    pub before: Stretch,
    /// With what; it ends now at the latest.
    pub after: Stretch,
    /// All page views first, then those of each device.
    pub visitors: Vec<Side>,
    /// Page families in which something surely became worse or better, the most viewed first.
    pub families: Vec<Side>,
    /// Each journey that played on both sides or on one.
    pub journeys: Vec<Side>,
    /// Other markers in the same time, which may be what it was.
    pub others: Vec<Marker>,
    /// Whether maintenance lies in the same time.
    pub is_maintained: bool,
}

/// So many page families are told at most.
const MOST_FAMILIES: usize = 8;

/// What was so many minutes before and after a moment, and how sure it is that something moved.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn around(
    answers: &Answers,
    site: &Site,
    (id, at): (i32, Timestamp),
    minutes: i64,
    now: Timestamp,
) -> Result<Around> {
    let reach = SignedDuration::from_mins(minutes);
    let before = Stretch { from: at - reach, to: at.min(now) };
    let after = Stretch { from: at, to: (at + reach).min(now).max(at) };
    let whole = Stretch { from: before.from, to: after.to };
    let db = &answers.db;
    let mut journeys = db.journeys(site.id).await?;
    journeys.retain(|j| j.status != Status::Archived.word());
    let everything = Filter::default();
    let by = [Attribute::Device, Attribute::Family];
    let views =
        |stretch: Stretch| Views::by_each(answers, site.id, stretch, &everything, &by, &Vital::ALL);
    let (old, new, ran, runs, (markers, maintenance)) = futures::try_join!(
        views(before),
        views(after),
        of_journeys(answers, site.id, journeys.clone(), before),
        of_journeys(answers, site.id, journeys.clone(), after),
        async {
            Ok(futures::try_join!(db.markers(site.id, whole), db.maintenance(site.id, whole))?)
        },
    )?;
    let computing = answers.computed(move || {
        let [old_devices, old_families] = old;
        let [new_devices, new_families] = new;
        let mut visitors = vec![side("", &old_devices.all(), &new_devices.all())];
        visitors.extend(sides(&old_devices, &new_devices));
        let mut families = sides(&old_families, &new_families);
        families.retain(|s| s.pairs.iter().any(|p| p.is_worse().is_some()));
        families.truncate(MOST_FAMILIES);
        let journeys = ran.iter().zip(&runs).map(|(before, after)| {
            let through =
                |p: &crate::played::Played| Samples::new(p.runs.through().map(|r| r.duration_ms));
            let (a, b) = (through(before), through(after));
            let (was, is) = (before.runs.tally(), after.runs.tally());
            let of = |shift, what, samples| Pair { what, shift, samples };
            let duration =
                reading_shift(&a.reading(COMPARED_AT), &b.reading(COMPARED_AT), COMPARED_AT);
            let counted = [was.counted(), is.counted()];
            let available =
                share_shift((was.got_through(), counted[0]), (is.got_through(), counted[1]));
            Side {
                name: after.journey.name.clone(),
                slug: after.journey.slug.clone(),
                count: [was.all(), is.all()],
                pairs: vec![
                    of(duration, Measured::Duration, [a.len() as u64, b.len() as u64]),
                    of(available, Measured::Availability, counted),
                ],
            }
        });
        let journeys = journeys.filter(|s| s.count != [0, 0]).collect();
        Around {
            before,
            after,
            visitors,
            families,
            journeys,
            others: markers.into_iter().filter(|m| m.id != id).collect(),
            is_maintained: !maintenance.is_empty(),
        }
    });
    computing.await
}

/// Each value of an attribute that there is before or after, the most viewed first.
fn sides(before: &Views, after: &Views) -> Vec<Side> {
    let (before, mut after) = (before.values(), after.values());
    let mut pairs: Vec<(String, Pool, Pool)> = Vec::new();
    for (value, old) in before {
        let same = after.iter().position(|(v, _)| *v == value);
        let new = same.map(|at| after.swap_remove(at).1).unwrap_or_default();
        pairs.push((value, old, new));
    }
    pairs.extend(after.into_iter().map(|(value, new)| (value, Pool::default(), new)));
    pairs.sort_by_key(|(value, old, new)| {
        (std::cmp::Reverse(old.page_views + new.page_views), value.clone())
    });
    pairs.iter().map(|(value, old, new)| side(value, old, new)).collect()
}

fn side(name: &str, old: &Pool, new: &Pool) -> Side {
    let vital = |what: Vital| {
        let of = |pool: &Pool| -> Reading { p75(pool, what) };
        let (a, b) = (of(old), of(new));
        let shift = reading_shift(&a, &b, COMPARED_AT);
        Pair { what: Measured::Vital(what), shift, samples: [a.samples, b.samples] }
    };
    let count = [old.page_views, new.page_views];
    let share = |what, a: u64, b: u64| Pair {
        what,
        shift: share_shift((a, count[0]), (b, count[1])),
        samples: count,
    };
    let mut pairs: Vec<Pair> = Vital::ALL.map(vital).into();
    pairs.push(share(Measured::WithErrors, old.with_errors, new.with_errors));
    pairs.push(share(Measured::Abandoned, old.abandoned, new.abandoned));
    Side { name: name.into(), slug: String::new(), count, pairs }
}
