//! Funnels: page families that visits are expected to go through in order; how many go on, where the others stop, and
//! how it was for them there.
//!
//! Shares refer to all who began, unless said otherwise (common practice, no published source: 96 % then 71 % of all
//! is 74 % from step to step). Whoever did not go on either *abandoned* the page before it had loaded, or *stopped* on
//! a page that had.

use super::attribute::Filter;
use super::sheet::{IdSet, Sheet};
use super::slices::{at_once, rows};
use super::timeline::{Bucket, Timeline};
use crate::calendar::Stretch;
use crate::stats::compare::share_shift;
use crate::stats::{Reading, readings, share};
use crate::timing::Vital;
use serde::Serialize;

/// One step of a funnel and what became of those who reached it.
#[derive(Debug, Clone, Default, PartialEq, Serialize)]
pub struct Step {
    pub family: String,
    pub reached: u64,
    /// Different people among them, of whom the pages told who they are.
    pub people: u64,
    /// Those who did not come to the next step in time; of them those who left the page before it had loaded, and
    /// those who waited long (a poor largest paint) or met a script error or a blank page there.
    pub lost: u64,
    pub abandoned: u64,
    pub troubled: u64,
    /// The troubled among those who went on.
    pub troubled_on: u64,
    /// Milliseconds from reaching this step to the next, of those who went on, at the 50th percentile.
    pub onwards: Option<Reading>,
    /// Milliseconds of LCP on this step, at the 75th percentile: of those who went on and of those who were lost.
    pub went_on: Option<Reading>,
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

#[derive(Debug, Clone, Default, PartialEq, Serialize)]
pub struct Funnel {
    pub steps: Vec<Step>,
    /// By when visits began: how many did, how many did not come to the end, and how long the others took.
    pub over: Vec<Bucket>,
}

impl Funnel {
    pub fn began(&self) -> u64 {
        self.steps.first().map_or(0, |s| s.reached)
    }

    /// How many came to the last step.
    pub fn completed(&self) -> u64 {
        self.steps.last().map_or(0, |s| s.reached)
    }
}

/// The columns that [`funnel`] reads.
pub const COLUMNS: [&str; 7] = ["at", "visit", "person", "family", "lcp", "errors", "ended"];

#[derive(Clone, Copy)]
struct View {
    at: i64,
    /// Hash of who it was; 0 when nobody said.
    person: u64,
    lcp: f32,
    step: u8,
    abandoned: bool,
    troubled: bool,
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
        let views = views_of(sheets, stretch, filter, families, u128::from(part));
        followed(views, families, within_ms, bucket_s)
    });
    all.absorb(odd);
    let Followed { held, over } = all;
    let read = |values: &[f64], p: f64| {
        readings(values, &[p]).0.into_iter().next().filter(|r| r.value.is_some())
    };
    let steps = families.iter().zip(held).map(|(family, h)| {
        let went_on = h.step.reached - h.step.lost;
        let tells = share_shift(
            (h.step.troubled_on, went_on),
            (h.step.troubled, h.step.lost - h.step.abandoned),
        );
        Step {
            family: family.clone(),
            people: h.people.len() as u64,
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
    people: IdSet,
    onwards: Vec<f64>,
    went_on: Vec<f64>,
    left: Vec<f64>,
}

/// Visits that were followed through the steps.
struct Followed {
    held: Vec<Held>,
    over: Timeline,
}

impl Followed {
    fn absorb(&mut self, other: Followed) {
        for (h, more) in self.held.iter_mut().zip(other.held) {
            h.step.reached += more.step.reached;
            h.step.lost += more.step.lost;
            h.step.abandoned += more.step.abandoned;
            h.step.troubled += more.step.troubled;
            h.step.troubled_on += more.step.troubled_on;
            h.people.extend(more.people);
            h.onwards.extend(more.onwards);
            h.went_on.extend(more.went_on);
            h.left.extend(more.left);
        }
        self.over.absorb(other.over);
    }
}

/// Page views of the families by visits whose ids are even (0) or odd (1), in order of visit and time.
fn views_of(
    sheets: &[Sheet],
    stretch: Stretch,
    filter: &Filter,
    families: &[String],
    odd: u128,
) -> Vec<(u128, View)> {
    let mut views = Vec::new();
    let poor = Vital::Lcp.thresholds().1 as f32;
    for sheet in sheets {
        let (Some(words), Some(visits)) = (sheet.words("family"), sheet.ids("visit")) else {
            continue;
        };
        let mut keep = rows(sheet, stretch, filter);
        let steps: Vec<Option<u8>> = words
            .values
            .iter()
            .map(|v| families.iter().position(|f| f == v).map(|n| n as u8))
            .collect();
        words.codes.narrow(&mut keep, &steps.iter().map(Option::is_some).collect::<Vec<_>>());
        visits.codes.narrow(
            &mut keep,
            &visits.values.iter().map(|v| *v != 0 && v % 2 == odd).collect::<Vec<_>>(),
        );
        let people = sheet.ids("person");
        let (endings, lcps, errors) =
            (sheet.texts("ended"), sheet.figures("lcp"), sheet.figures("errors"));
        for row in (0..sheet.rows).filter(|row| keep[*row]) {
            let Some(step) = words.codes.at(row).and_then(|code| steps[code]) else { continue };
            let (Some(visit), Some(at)) = (visits.get(row).copied(), sheet.at_ms(row)) else {
                continue;
            };
            let ended = endings.at(row);
            let lcp = lcps.at(row).unwrap_or(f32::NAN);
            let wrong =
                errors.at(row).is_some_and(|n| n > 0.0) || ended.ends_with("blank") || lcp > poor;
            let person = people.and_then(|p| p.get(row)).copied().unwrap_or(0) as u64;
            let abandoned = ended.starts_with("abandoned");
            views.push((visit, View { at, step, person, lcp, abandoned, troubled: wrong }));
        }
    }
    views.sort_by_key(|(visit, view)| (*visit, view.at));
    views
}

fn followed(
    views: Vec<(u128, View)>,
    families: &[String],
    within_ms: i64,
    bucket_s: i64,
) -> Followed {
    let mut held: Vec<Held> = families.iter().map(|_| Held::default()).collect();
    let mut over = Timeline::new(bucket_s);
    for views in views.chunk_by(|a, b| a.0 == b.0) {
        let views = || views.iter().map(|(_, view)| view);
        let Some(first) = views().find(|v| v.step == 0).copied() else { continue };
        let mut here = first;
        for (nth, h) in held.iter_mut().enumerate() {
            h.step.reached += 1;
            if here.person != 0 {
                h.people.insert(here.person.into());
            }
            let next = views()
                .find(|v| {
                    usize::from(v.step) == nth + 1
                        && v.at >= here.at
                        && v.at - first.at <= within_ms
                })
                .copied();
            // Of several views of this page, the last before going on or giving up is the one that decided.
            let until = next.map_or(i64::MAX, |n| n.at);
            let decided = views()
                .rfind(|v| usize::from(v.step) == nth && v.at >= here.at && v.at <= until)
                .copied()
                .unwrap_or(here);
            let lcp = Some(f64::from(decided.lcp)).filter(|v| !v.is_nan());
            match next {
                Some(next) => {
                    h.onwards.push((next.at - here.at) as f64);
                    h.went_on.extend(lcp);
                    h.step.troubled_on += u64::from(decided.troubled);
                    here = next;
                }
                None => {
                    let lost = nth + 1 < families.len();
                    over.add(first.at, lost, (!lost).then_some((here.at - first.at) as f64));
                    if lost {
                        h.step.lost += 1;
                        h.step.abandoned += u64::from(decided.abandoned);
                        h.step.troubled += u64::from(decided.troubled && !decided.abandoned);
                        h.left.extend(lcp);
                    }
                    break;
                }
            }
        }
    }
    Followed { held, over }
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
            ("visit", Column::ids(rows.iter().map(|r| r.0))),
            ("family", Column::words(rows.iter().map(|r| FAMILIES[r.1]))),
            ("lcp", Column::numbers(rows.iter().map(|r| Some(r.3)))),
            ("ended", Column::words(rows.iter().map(|r| if r.4 { "abandoned" } else { "" }))),
        ];
        columns.into_iter().for_each(|(name, column)| s.put(name, column).unwrap());
        s
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
