//! What a measure of a site usually is at the times at which an alert looks at it.

use crate::alerts::places;
use crate::measures::{self, About};
use crate::{Answers, Result};
use cadentis_core::alert::{Definition, Usual, usual};
use cadentis_core::calendar::{LeftOut, Stretch};
use cadentis_core::measure::windowed::Moment;
use cadentis_store::site::Site;
use jiff::{SignedDuration, Timestamp};
use std::collections::{BTreeMap, BTreeSet};

/// What is usual is remembered of so many alerts and quarters of an hour: it is told by what is days old.
pub(crate) const REMEMBERED: usize = 20_000;

/// Where what is usual is taken from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum From {
    /// Told anew: what was planned or has come since counts.
    Anew,
    /// Remembered from earlier in the same quarter of an hour: for the watch, which asks each minute.
    Remembered,
}

/// Ends of windows further apart than this are read by themselves, without what lies between.
const APART: SignedDuration = SignedDuration::from_hours(6);

/// Of what the usual is told: site, measure, window, least samples, least locations, and when the piece begins.
pub(crate) type Of = (i32, String, i64, u64, u32, Timestamp);

/// What is usual in each piece that these moments lie in, which are in order of time.
///
/// # Errors
/// When the database does not answer or too much waits.
pub(crate) async fn bands(
    answers: &Answers,
    site: &Site,
    (definition, about): (&Definition, &About),
    (moments, from): (&[Timestamp], From),
) -> Result<BTreeMap<Timestamp, Option<Usual>>> {
    let d = definition;
    let text = d.measured.to_string();
    let of = |at| (site.id, text.clone(), d.window_s, d.least_samples, d.least_places, at);
    let pieces: BTreeSet<Timestamp> = moments.iter().map(|at| usual::piece(*at)).collect();
    let remembers = from == From::Remembered;
    let held = |at: &Timestamp| answers.usual.get(&of(*at)).filter(|_| remembers);
    let mut known: BTreeMap<Timestamp, Option<Usual>> =
        pieces.iter().filter_map(|at| Some((*at, held(at)?))).collect();
    let unknown: Vec<_> = pieces.into_iter().filter(|at| !known.contains_key(at)).collect();
    let weeks: Vec<_> = unknown.iter().map(|at| (*at, usual::ends(*at, &site.zone))).collect();
    let told = past(answers, site, (definition, about), &weeks).await?;
    let unit = definition.measured.measure.unit();
    let computing = answers.computed(move || {
        let week = |ends: &Vec<Timestamp>| ends.iter().map(|e| told.get(e).copied()).collect();
        let of = |(at, ends): (Timestamp, [Vec<Timestamp>; usual::WEEKS])| {
            (at, usual::of(unit, &ends.each_ref().map(week)))
        };
        weeks.into_iter().map(of).collect::<Vec<_>>()
    });
    for (at, usual) in computing.await? {
        if remembers {
            answers.usual.insert(of(at), usual);
        }
        known.insert(at, usual);
    }
    Ok(known)
}

/// What the windows that end at these moments came to, as far as they are judged and have as many samples as the alert asks
/// for: in maintenance nothing is usual.
async fn past(
    answers: &Answers,
    site: &Site,
    (definition, about): (&Definition, &About),
    weeks: &[(Timestamp, [Vec<Timestamp>; usual::WEEKS])],
) -> Result<BTreeMap<Timestamp, Moment>> {
    let ends: BTreeSet<Timestamp> =
        weeks.iter().flat_map(|(_, weeks)| weeks.iter().flatten().copied()).collect();
    let mut ranges: Vec<Vec<Timestamp>> = Vec::new();
    for end in ends {
        match ranges.last_mut() {
            Some(range) if end.duration_since(range[range.len() - 1]) <= APART => range.push(end),
            _ => ranges.push(vec![end]),
        }
    }
    let places = places(answers, about).await?;
    let mut told = BTreeMap::new();
    for range in ranges {
        let reach = SignedDuration::from_secs(definition.window_s);
        let stretch = Stretch { from: range[0] - reach, to: range[range.len() - 1] };
        let left_out = answers.db.maintenance(site.id, stretch).await?;
        let out = LeftOut::everywhere(&left_out, &places);
        let judged = definition.judged(stretch, &out, &site.zone);
        let all = measures::windowed(answers, site, about, definition.window_s, range).await?;
        let fits = |m: &Moment| {
            judged.contains(m.at - SignedDuration::from_secs(1))
                && m.samples >= definition.least_samples
                && m.places >= definition.least_places
        };
        told.extend(all.into_iter().filter(fits).map(|m| (m.at, m)));
    }
    Ok(told)
}
