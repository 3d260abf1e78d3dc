//! Funnels: page families that visits are expected to go through in order; how many go on, where the others stop, and
//! how it was for them there.
//!
//! Shares refer to all who began, unless said otherwise (common practice, no published source: 96 % then 71 % of all
//! is 74 % from step to step). Whoever did not go on either *abandoned* the page before it had loaded, or *stopped* on
//! a page that had.

use crate::calendar::Stretch;
use crate::stats::compare::share_shift;
use crate::stats::{Reading, readings, share};
use crate::timing::Vital;
use crate::visitor::filed::attribute::Filter;
use crate::visitor::filed::sheet::{AlikeMap, Sheet};
use crate::visitor::reading::slices::{at_once, rows};
use crate::visitor::reading::timeline::{Bucket, Timeline};
use serde::Serialize;

/// One step of a funnel and what became of those who reached it.
#[derive(Debug, Clone, Default, PartialEq, Serialize)]
pub struct Step {
    /// The page family.
    pub family: String,
    /// Visits that came to it.
    pub reached: u64,
    /// Different people among them, of whom the pages told who they are.
    pub people: u64,
    /// Those who did not come to the next step in time; of them those who left the page before it had loaded, and
    /// those who waited long (a poor largest paint) or met a script error or a blank page there.
    pub lost: u64,
    /// Of them those who left the page before it had loaded.
    pub abandoned: u64,
    /// Of them those who waited long or met an error.
    pub troubled: u64,
    /// The troubled among those who went on.
    pub troubled_on: u64,
    /// Milliseconds from reaching this step to the next, of those who went on, at the 50th percentile.
    pub onwards: Option<Reading>,
    /// Milliseconds of LCP on this step, at the 75th percentile: of those who went on and of those who were lost.
    pub went_on: Option<Reading>,
    /// LCP of those who were lost.
    pub left: Option<Reading>,
    /// Whether trouble here surely went with leaving: share of the troubled among those who left a page that had loaded
    /// against those who went on. (Who left before it had loaded is no witness: of those, all left.)
    pub trouble_tells: bool,
}

impl Step {
    /// Share of all who began.
    pub fn of_all(&self, began: u64) -> Option<f64> {
        share(self.reached, began)
    }
}

/// What became of the visits that began.
#[derive(Debug, Clone, Default, PartialEq, Serialize)]
pub struct Funnel {
    /// Its steps, in order.
    pub steps: Vec<Step>,
    /// By when visits began: how many did, how many did not come to the end, and how long the others took.
    pub over: Vec<Bucket>,
}

impl Funnel {
    /// How many visits began.
    pub fn began(&self) -> u64 {
        self.steps.first().map_or(0, |s| s.reached)
    }

    /// How many came to the last step.
    pub fn completed(&self) -> u64 {
        self.steps.last().map_or(0, |s| s.reached)
    }
}

/// The columns that [`funnel`] reads.
pub const COLUMNS: [&str; 7] =
    ["at", "visit.alike", "person.alike", "family", "lcp", "errors", "ended"];

/// A page view that belongs to a step of the funnel.
#[derive(Clone, Copy)]
struct View {
    /// Milliseconds since 1970.
    at: i64,
    /// Where the steps of who it was are kept; [`UNKNOWN`] when nobody said.
    person: u32,
    step: u8,
    decided: Decided,
}

/// How it was for a visit on a page: of several views of a page, the last before going on or giving up decides.
#[derive(Clone, Copy)]
struct Decided {
    lcp: f32,
    abandoned: bool,
    troubled: bool,
}

/// Where a visit is.
#[derive(Clone, Copy)]
struct Visit {
    /// When it came to the first step, and to the one where it is.
    first: i64,
    here: i64,
    step: u8,
    decided: Decided,
}

/// How the visits of the stretch went through these families, in order, other pages between allowed; from the first to
/// the last within `within_ms`. A visit counts once, from its first page view of the first family on. `bucket_s` is the
/// length of a bucket of [`Funnel::over`].
pub fn funnel(
    sheets: &[Sheet],
    stretch: Stretch,
    filter: &Filter,
    families: &[String],
    within_ms: i64,
    bucket_s: i64,
) -> Funnel {
    // Visits do not meet: those with even ids are followed at the same time as those with odd ones.
    let (mut all, odd) = at_once(|part| {
        let mut followed = Followed::new(families.len(), within_ms, bucket_s);
        // Room for all at once: growing step by step would move millions again and again.
        let visits: usize =
            sheets.iter().filter_map(|s| s.ids("visit.alike")).map(|v| v.values.len()).sum();
        followed.known.reserve(visits / 2);
        followed.visits.reserve(visits / 2);
        sheets.iter().for_each(|s| followed.take(s, stretch, filter, families, u128::from(part)));
        followed.over()
    });
    all.absorb(odd);
    let people = all.people();
    let Followed { held, over, .. } = all;
    let read = |values: &[f64], p: f64| {
        readings(values, &[p]).0.into_iter().next().filter(|r| r.value.is_some())
    };
    let steps = families.iter().zip(held).enumerate().map(|(nth, (family, h))| {
        let went_on = h.step.reached - h.step.lost;
        let tells = share_shift(
            (h.step.troubled_on, went_on),
            (h.step.troubled, h.step.lost - h.step.abandoned),
        );
        Step {
            family: family.clone(),
            people: people[nth],
            onwards: read(&h.onwards, 0.5),
            went_on: read(&h.went_on, 0.75),
            left: read(&h.left, 0.75),
            trouble_tells: h.step.lost > 0 && tells.is_some_and(|s| s.is_rise()),
            ..h.step
        }
    });
    Funnel { steps: steps.collect(), over: over.buckets() }
}

/// What is known of those who reached a step.
#[derive(Default)]
struct Held {
    step: Step,
    onwards: Vec<f64>,
    went_on: Vec<f64>,
    left: Vec<f64>,
}

/// Visits that are followed through the steps, page view by page view in order of time.
struct Followed {
    within_ms: i64,
    /// Those that have come to the first step, and where to find them.
    visits: Vec<Visit>,
    known: AlikeMap<u32>,
    /// People of whom pages told who they are, and to which steps each has come: a bit for each.
    persons: AlikeMap<u32>,
    reached: Vec<u64>,
    held: Vec<Held>,
    over: Timeline,
}

/// A visit that has not come to the first step yet, or somebody who is nobody.
const UNKNOWN: u32 = u32::MAX;

impl Followed {
    fn new(steps: usize, within_ms: i64, bucket_s: i64) -> Followed {
        Followed {
            within_ms,
            visits: Vec::new(),
            known: AlikeMap::default(),
            persons: AlikeMap::default(),
            reached: Vec::new(),
            held: (0..steps).map(|_| Held::default()).collect(),
            over: Timeline::new(bucket_s),
        }
    }

    /// Follows the page views of an hour, of visits whose ids are even (0) or odd (1).
    fn take(
        &mut self,
        sheet: &Sheet,
        stretch: Stretch,
        filter: &Filter,
        families: &[String],
        odd: u128,
    ) {
        let (Some(words), Some(visits)) = (sheet.words("family"), sheet.ids("visit.alike")) else {
            return;
        };
        let poor = Vital::Lcp.thresholds().1 as f32;
        let mut keep = rows(sheet, stretch, filter);
        let step = |v: &String| families.iter().position(|f| f == v).map(|n| n as u8);
        let steps: Vec<Option<u8>> = words.values.iter().map(step).collect();
        words.codes.narrow(&mut keep, &steps.iter().map(Option::is_some).collect::<Vec<_>>());
        let ours: Vec<bool> = visits.values.iter().map(|v| *v != 0 && v % 2 == odd).collect();
        visits.codes.narrow(&mut keep, &ours);
        // Each visit of the hour is looked up once, not with each of its page views.
        let known = |(v, ours): (&u128, &bool)| match ours {
            true => self.known.get(&(*v as u64)).copied().unwrap_or(UNKNOWN),
            false => UNKNOWN,
        };
        let mut places: Vec<u32> = visits.values.iter().zip(&ours).map(known).collect();
        let people = sheet.ids("person.alike");
        let mut places_of_people = vec![UNKNOWN; people.map_or(0, |p| p.values.len())];
        let (moments, begin) = (sheet.moments("at"), sheet.hour_s * 1_000);
        let (endings, lcps, errors) =
            (sheet.words("ended"), sheet.figures("lcp"), sheet.figures("errors"));
        let fates: Vec<[bool; 2]> = endings.map_or(vec![], |w| {
            w.values.iter().map(|v| [v.starts_with("abandoned"), v.ends_with("blank")]).collect()
        });
        for row in (0..sheet.rows).filter(|row| keep[*row]) {
            let step = words.codes.at(row).and_then(|code| steps[code]);
            let (Some(step), Some(code)) = (step, visits.codes.at(row)) else { continue };
            if places[code] == UNKNOWN && step != 0 {
                continue;
            }
            let Some(at) = moments.get(row).map(|at| begin + i64::from(*at)) else { continue };
            let [abandoned, blank] =
                endings.and_then(|w| w.codes.at(row)).map_or([false; 2], |code| fates[code]);
            let lcp = lcps.at(row).unwrap_or(f32::NAN);
            let wrong = errors.at(row).is_some_and(|n| n > 0.0);
            let mut person = UNKNOWN;
            if let Some((code, id)) = people.and_then(|p| Some((p.codes.at(row)?, *p.get(row)?)))
                && id != 0
            {
                let place = &mut places_of_people[code];
                if *place == UNKNOWN {
                    *place = place_of(&mut self.persons, &mut self.reached, id as u64);
                }
                person = *place;
            }
            let view = View {
                at,
                step,
                person,
                decided: Decided { lcp, abandoned, troubled: wrong || blank || lcp > poor },
            };
            if places[code] == UNKNOWN {
                places[code] = self.visits.len() as u32;
                self.known.insert(visits.values[code] as u64, places[code]);
                self.visits.push(Visit { first: at, here: at, step, decided: view.decided });
                self.came(&view);
            } else {
                self.follow(places[code] as usize, &view);
            }
        }
    }

    /// One more page view of a visit that has begun.
    fn follow(&mut self, place: usize, view: &View) {
        let visit = &mut self.visits[place];
        if view.step == visit.step {
            visit.decided = view.decided;
        } else if view.step == visit.step + 1 && view.at - visit.first <= self.within_ms {
            let h = &mut self.held[usize::from(visit.step)];
            h.onwards.push((view.at - visit.here) as f64);
            h.went_on.extend(visit.decided.lcp());
            h.step.troubled_on += u64::from(visit.decided.troubled);
            (visit.here, visit.step, visit.decided) = (view.at, view.step, view.decided);
            self.came(view);
        }
    }

    /// Somebody has come to a step.
    fn came(&mut self, view: &View) {
        self.held[usize::from(view.step)].step.reached += 1;
        if let Some(mask) = self.reached.get_mut(view.person as usize) {
            *mask |= 1 << view.step.min(63);
        }
    }

    /// What became of all of them, when there are no more page views.
    fn over(mut self) -> Followed {
        self.known = AlikeMap::default();
        let last = self.held.len().saturating_sub(1);
        for visit in std::mem::take(&mut self.visits) {
            let nth = usize::from(visit.step);
            let lost = nth < last;
            let took = (visit.here - visit.first) as f64;
            self.over.add(visit.first, lost, (!lost).then_some(took));
            if lost {
                let (h, decided) = (&mut self.held[nth], visit.decided);
                h.step.lost += 1;
                h.step.abandoned += u64::from(decided.abandoned);
                h.step.troubled += u64::from(decided.troubled && !decided.abandoned);
                h.left.extend(decided.lcp());
            }
        }
        self
    }

    fn absorb(&mut self, other: Followed) {
        for (h, more) in self.held.iter_mut().zip(other.held) {
            h.step.reached += more.step.reached;
            h.step.lost += more.step.lost;
            h.step.abandoned += more.step.abandoned;
            h.step.troubled += more.step.troubled;
            h.step.troubled_on += more.step.troubled_on;
            h.onwards.extend(more.onwards);
            h.went_on.extend(more.went_on);
            h.left.extend(more.left);
        }
        self.over.absorb(other.over);
        for (person, place) in other.persons {
            let mask = other.reached[place as usize];
            let place = place_of(&mut self.persons, &mut self.reached, person);
            self.reached[place as usize] |= mask;
        }
    }

    /// How many different people came to each step.
    fn people(&self) -> Vec<u64> {
        let of = |nth: usize| self.reached.iter().filter(|mask| **mask >> nth & 1 == 1).count();
        (0..self.held.len()).map(|nth| of(nth) as u64).collect()
    }
}

/// Where a person's steps are kept.
fn place_of(persons: &mut AlikeMap<u32>, reached: &mut Vec<u64>, person: u64) -> u32 {
    *persons.entry(person).or_insert_with(|| {
        reached.push(0);
        reached.len() as u32 - 1
    })
}

impl Decided {
    fn lcp(&self) -> Option<f64> {
        Some(f64::from(self.lcp)).filter(|v| !v.is_nan())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::calendar::stretch::at_second;
    use crate::visitor::sheet::Column;
    use proptest::prelude::*;

    const HOUR: i64 = 1_795_000_000 / 3_600 * 3_600;
    const FAMILIES: [&str; 4] = ["List", "Cabin", "Pay", "Elsewhere"];

    /// Visit, family, second, LCP, abandoned.
    type Row = (u128, usize, u32, f32, bool);

    fn sheet(rows: &[Row]) -> Sheet {
        let mut s = Sheet::new(HOUR);
        let columns = [
            ("at", Column::Moments(rows.iter().map(|r| r.2 * 1_000).collect())),
            ("visit.alike", Column::ids(rows.iter().map(|r| r.0))),
            ("family", Column::words(rows.iter().map(|r| FAMILIES[r.1]))),
            ("lcp", Column::numbers(rows.iter().map(|r| Some(r.3)))),
            ("ended", Column::words(rows.iter().map(|r| if r.4 { "abandoned" } else { "" }))),
        ];
        columns.into_iter().for_each(|(name, column)| s.put(name, column).unwrap());
        s
    }

    /// The same by following one visit after the other, as it is said: what is measured against.
    fn one_by_one(rows: &[Row], within_s: u32) -> Vec<(u64, u64, u64)> {
        let mut told = vec![(0, 0, 0); 3];
        let visits: std::collections::BTreeSet<u128> = rows.iter().map(|r| r.0).collect();
        for visit in visits {
            let of: Vec<&Row> = rows.iter().filter(|r| r.0 == visit).collect();
            let Some(first) = of.iter().position(|r| r.1 == 0) else { continue };
            let (mut here, begun) = (first, of[first].2);
            for (step, told) in told.iter_mut().enumerate() {
                told.0 += 1;
                let rest = of.iter().enumerate().skip(here + 1);
                let mut onwards = rest.filter(|(_, r)| r.1 == step + 1 && r.2 - begun <= within_s);
                let next = onwards.next().map(|(i, _)| i).filter(|_| step < 2);
                let until = next.unwrap_or(of.len());
                let decided = of[here..until].iter().rfind(|r| r.1 == step).unwrap();
                match next {
                    Some(next) => here = next,
                    None => {
                        told.1 += u64::from(step < 2);
                        told.2 += u64::from(step < 2 && decided.4);
                        break;
                    }
                }
            }
        }
        told
    }

    fn of(rows: &[Row], within_s: i64) -> Funnel {
        let stretch = Stretch { from: at_second(HOUR), to: at_second(HOUR + 3_600) };
        let families: Vec<String> = FAMILIES[..3].iter().map(|f| f.to_string()).collect();
        funnel(&[sheet(rows)], stretch, &Filter::default(), &families, within_s * 1_000, 600)
    }

    #[test]
    fn ninety_six_then_seventy_one_of_a_hundred_is_seventy_four_from_step_to_step() {
        // Common practice, no published source.
        let mut rows: Vec<Row> = (1..=100).map(|v| (v, 0, 0, 1_000.0, false)).collect();
        rows.extend((1..=96).map(|v| (v, 1, 10, 1_000.0, false)));
        rows.extend((1..=71).map(|v| (v, 2, 40, 1_000.0, false)));
        let f = of(&rows, 600);
        let shares: Vec<String> = f
            .steps
            .iter()
            .map(|s| format!("{:.0}", s.of_all(f.began()).unwrap() * 100.0))
            .collect();
        assert_eq!(shares, ["100", "96", "71"]);
        assert_eq!(
            format!("{:.0}", 100.0 * f.steps[2].reached as f64 / f.steps[1].reached as f64),
            "74"
        );
        assert_eq!(f.steps[1].onwards.unwrap().value, Some(30_000.0));
    }

    #[test]
    fn order_and_time_count_other_pages_between_do_not_and_leaving_is_told_from_stopping() {
        let rows: [Row; 11] = [
            (1, 0, 0, 900.0, false),
            (1, 3, 5, 900.0, false),
            (1, 1, 9, 900.0, false),
            (2, 1, 0, 900.0, false),
            (2, 0, 5, 9_000.0, false),
            (3, 0, 0, 900.0, false),
            (3, 1, 700, 900.0, false),
            (4, 0, 0, 900.0, false),
            (4, 0, 20, 900.0, true),
            (5, 1, 0, 900.0, false),
            (5, 2, 4, 900.0, false),
        ];
        let f = of(&rows, 600);
        // 1 goes on; 2 came in the wrong order and waited long; 3 took too long; 4 left a page that had not loaded.
        assert_eq!(f.steps.iter().map(|s| s.reached).collect::<Vec<_>>(), [4, 1, 0]);
        assert_eq!((f.steps[0].lost, f.steps[0].abandoned, f.steps[0].troubled), (3, 1, 1));
        assert_eq!((f.steps[1].lost, f.began(), f.completed()), (1, 4, 0));
    }

    #[test]
    fn those_who_left_waited_longer_and_it_is_said_only_when_it_is_sure() {
        let mut rows: Vec<Row> =
            (1..=200).map(|v| (v, 0, 0, if v <= 120 { 1_000.0 } else { 6_000.0 }, false)).collect();
        rows.extend((1..=110).map(|v| (v, 1, 10, 1_000.0, false)));
        let f = of(&rows, 600);
        assert_eq!(
            (f.steps[0].went_on.unwrap().value, f.steps[0].left.unwrap().value),
            (Some(1_000.0), Some(6_000.0))
        );
        assert!(f.steps[0].trouble_tells);
        let few =
            of(&[(1, 0, 0, 6_000.0, false), (2, 0, 0, 900.0, false), (2, 1, 3, 900.0, false)], 600);
        assert!(!few.steps[0].trouble_tells, "one visit proves nothing");
        // Whoever left before it had loaded is lost by that alone: it says nothing about waiting.
        let mut early: Vec<Row> = (1..=200).map(|v| (v, 0, 0, 1_000.0, v > 120)).collect();
        early.extend((1..=120).map(|v| (v, 1, 10, 1_000.0, false)));
        assert!(!of(&early, 600).steps[0].trouble_tells);
    }

    proptest! {
        #[test]
        fn following_all_at_once_finds_what_following_each_visit_alone_finds(
            rows in prop::collection::vec((1..6u128, 0..4usize, 0..3_000u32, 100f32..9e3, any::<bool>()), 0..80),
            within_s in 1..3_000u32,
        ) {
            let mut rows = rows;
            rows.sort_by_key(|r| r.2);
            let told: Vec<_> = of(&rows, within_s.into()).steps.iter().map(|s| (s.reached, s.lost, s.abandoned)).collect();
            prop_assert_eq!(told, one_by_one(&rows, within_s));
        }

        #[test]
        fn completions_and_losses_add_up_to_all_who_began(
            rows in prop::collection::vec((1..12u128, 0..4usize, 0..3_000u32, 100f32..9e3, any::<bool>()), 0..80),
        ) {
            let f = of(&rows, 900);
            let lost: u64 = f.steps.iter().map(|s| s.lost).sum();
            prop_assert_eq!(lost + f.completed(), f.began());
            for pair in f.steps.windows(2) {
                prop_assert_eq!(pair[0].reached - pair[0].lost, pair[1].reached);
            }
            prop_assert!(f.steps.iter().all(|s| s.abandoned + s.troubled <= s.lost));
            prop_assert_eq!(f.over.iter().map(|b| (b.count, b.failed)).fold((0, 0), |a, b| (a.0 + b.0, a.1 + b.1)), (f.began(), lost));
        }
    }
}
