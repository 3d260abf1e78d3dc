//! A journey over time: its steps on each other, network, server and browser, every step at every location, and
//! another journey beside it.

use super::journey::by_location;
use super::{TWELVE_HOURS, html, journey_of};
use crate::State;
use crate::draw::{line, round_up};
use crate::error::PageError;
use crate::filters;
use crate::format::{self, NO_DATA};
use crate::frame::{Frame, tone};
use crate::limits::query;
use crate::lineup::{Compared, Layer, LineUp, Stack};
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::steps::step_samples;
use cadentis_core::calendar::Stretch;
use cadentis_core::goal::Standing;
use cadentis_core::journey::{self, Journey as Script};
use cadentis_core::run::level;
use cadentis_core::stats::compare::percentile_shift;
use cadentis_core::stats::{Method, Samples};
use cadentis_store::runs::Run;
use cadentis_store::sites::{Journey, Location};
use serde::Deserialize;
use std::collections::{BTreeSet, HashMap};

#[derive(Template)]
#[template(path = "weeks.html")]
struct Part {
    slug: String,
    lineup: String,
    bucket: String,
    steps: Vec<String>,
    /// Location, and per step: course, p75 now, tone.
    sparks: Vec<(String, Vec<Spark>)>,
    others: Vec<(String, String, bool)>,
    beside: Option<Beside>,
    from: String,
    to: String,
    against: &'static str,
}

struct Spark {
    d: String,
    budget_y: Option<f64>,
    p75: String,
    tone: &'static str,
}

struct Beside {
    title: String,
    says: String,
    /// Step, p50 and p75 here and there, the difference and its interval, tone.
    rows: Vec<(String, [String; 6], &'static str)>,
}

#[derive(Default, Deserialize)]
struct WeeksQuery {
    beside: Option<String>,
}

/// Buckets of a course.
const MOST: i64 = 56;
const SPARK: (f64, f64) = (110.0, 24.0);

fn median(samples: Samples) -> Option<f64> {
    samples.percentile(0.5, Method::NearestRank)
}

/// Runs in buckets of time, counted from the beginning of the stretch.
struct Buckets {
    from_s: i64,
    bucket_s: i64,
    count: usize,
}

impl Buckets {
    fn of(stretch: Stretch) -> Buckets {
        let bucket_s = stretch.bucket_seconds(MOST);
        let from_s = stretch.from.as_second().div_euclid(bucket_s) * bucket_s;
        let count = (stretch.to.as_second() - from_s).div_euclid(bucket_s) + 1;
        Buckets { from_s, bucket_s, count: usize::try_from(count).unwrap_or(0) }
    }

    fn split<'a>(&self, runs: impl Iterator<Item = &'a Run>) -> Vec<Vec<&'a Run>> {
        let mut split = vec![Vec::new(); self.count];
        for run in runs {
            let at = (run.due_at.as_second() - self.from_s).div_euclid(self.bucket_s);
            if let Some(bucket) = usize::try_from(at).ok().and_then(|i| split.get_mut(i)) {
                bucket.push(run);
            }
        }
        split
    }

    fn middle(&self, i: usize) -> i64 {
        self.from_s + i as i64 * self.bucket_s + self.bucket_s / 2
    }
}

/// `GET /journeys/{slug}/weeks?beside=`: a part of the journey's page.
pub async fn part(
    state: web::Data<State>,
    slug: web::Path<String>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::part(&state, &request, "Journeys", TWELVE_HOURS).await?;
    let wanted = query::<WeeksQuery>(&request)?;
    let (site, past) = (frame.site.id, frame.past());
    let j = journey_of(&state, site, &slug).await?;
    let script = journey::parse(&j.script).map_err(|e| PageError::Script {
        journey: j.name.clone(),
        slug: j.slug.clone(),
        says: e.to_string(),
    })?;
    let all = state.db.journeys(site).await?;
    // A copy, or what it was copied from, is what one compares with.
    let kin = |o: &&Journey| o.copied_from == Some(j.id) || (j.copied_from == Some(o.id));
    let other = match wanted.beside.as_deref() {
        Some("") => None,
        Some(slug) => all.iter().find(|o| o.slug == slug && o.id != j.id),
        None => all.iter().find(kin),
    };
    let (runs, maintenance, located) = futures::try_join!(
        state.db.counted_runs(j.id, site, past),
        state.db.maintenance(site, frame.stretch),
        state.db.locations_of(&j),
    )?;
    let theirs = match other {
        Some(o) => Some((o, state.db.counted_runs(o.id, site, past).await?)),
        None => None,
    };
    let counted: Vec<&Run> = runs.iter().collect();
    let locations: Vec<Location> = located.into_iter().map(|(l, _)| l).collect();
    let buckets = Buckets::of(past);
    let split = buckets.split(counted.iter().copied());
    let steps = steps_of(&script, &split);
    let sides = sides_of(&split);
    let says_steps = |i: usize| {
        let of = steps.iter().map(|l| format!("{} {}", l.name, format::seconds(l.values[i])));
        of.collect::<Vec<_>>().join(" · ")
    };
    let says_sides = |i: usize| {
        let of = sides.iter().map(|l| format!("{} {:.0} %", l.name, l.values[i]));
        of.collect::<Vec<_>>().join(" · ")
    };
    let known = |layers: &[Layer]| -> Vec<bool> {
        (0..buckets.count).map(|i| layers.iter().any(|l| l.values[i] > 0.0)).collect()
    };
    let whole = |i: usize| steps.iter().map(|l| l.values[i]).sum::<f64>();
    let top = round_up((0..buckets.count).map(whole).fold(1.0, f64::max) * 1.05);
    let (known_steps, known_sides) = (known(&steps), known(&sides));
    let stack = |title, sub: &str, layers: &[Layer], known, top, scale, says| Stack {
        title,
        sub: sub.into(),
        layers: layers
            .iter()
            .map(|l| Layer {
                class: l.class.clone(),
                name: l.name.clone(),
                values: l.values.clone(),
            })
            .collect(),
        known,
        from_s: buckets.from_s,
        bucket_s: buckets.bucket_s,
        top,
        scale,
        says,
    };
    let seconds = format!("{} s", format::seconds(top).trim_end_matches('0').trim_end_matches('.'));
    let stacks = [
        stack(
            "Steps on each other",
            "medians over all locations",
            &steps,
            known_steps,
            top,
            seconds,
            &says_steps,
        ),
        stack(
            "Where time went",
            "share of all runs",
            &sides,
            known_sides,
            100.0,
            "100 %".into(),
            &says_sides,
        ),
    ];
    let beside = theirs.as_ref().map(|(o, their_runs)| {
        Pair::of(&j, &script, &counted, o, their_runs.iter().collect(), &locations)
    });
    let lines: Vec<Compared<'_>> = beside.iter().map(|pair| pair.course(&buckets)).collect();
    let lineup = LineUp::over(&frame, &maintenance, &stacks, &lines)?;
    html(&Part {
        lineup,
        bucket: cadentis_core::calendar::stretch::length_text(buckets.bucket_s as f64 * 1000.0),
        steps: script.counted_steps().map(|s| s.name.clone()).collect(),
        sparks: sparks(&script, &counted, &locations, &buckets),
        others: all
            .iter()
            .filter(|o| o.id != j.id && o.status != "archived")
            .map(|o| (o.slug.clone(), o.name.clone(), other.is_some_and(|x| x.id == o.id)))
            .collect(),
        beside: beside.map(|pair| pair.table()),
        slug: j.slug,
        from: Stretch::moment(frame.stretch.from),
        to: Stretch::moment(frame.stretch.to),
        against: frame.against_kind(),
    })
}

fn steps_of(script: &Script, split: &[Vec<&Run>]) -> Vec<Layer> {
    let layer = |(i, s): (usize, &journey::Step)| Layer {
        class: format!("layer layer-{}", i % 4),
        name: s.name.clone(),
        values: split
            .iter()
            .map(|runs| median(step_samples(runs.iter().copied(), i)).unwrap_or(0.0))
            .collect(),
    };
    script.counted_steps().enumerate().map(layer).collect()
}

/// Shares, in per cent, of all the time of a bucket's runs.
fn sides_of(split: &[Vec<&Run>]) -> Vec<Layer> {
    let of = |runs: &Vec<&Run>| {
        let known = runs.iter().filter(|r| r.outcome.got_through()).filter_map(|r| r.split_ms);
        level::shares(known.map(|s| s.map(f64::from)))
    };
    let shares: Vec<[f64; 3]> = split.iter().map(of).collect();
    ["network", "server", "browser"]
        .into_iter()
        .enumerate()
        .map(|(i, name)| Layer {
            class: format!("layer side-{name}"),
            name: name.into(),
            values: shares.iter().map(|s| s[i]).collect(),
        })
        .collect()
}

fn sparks(
    script: &Script,
    counted: &[&Run],
    locations: &[Location],
    buckets: &Buckets,
) -> Vec<(String, Vec<Spark>)> {
    let here = by_location(counted.iter().copied());
    let row = |l: &Location| {
        let runs = here.get(&l.id).map_or(&[][..], Vec::as_slice);
        let split = buckets.split(runs.iter().copied());
        let cells = script.counted_steps().enumerate().map(|(i, s)| {
            let course: Vec<Option<f64>> =
                split.iter().map(|runs| median(step_samples(runs.iter().copied(), i))).collect();
            let p75 = step_samples(runs.iter().copied(), i).reading(0.75);
            let budget = s.within_ms.map(|b| b as f64);
            // Down to nothing, so that heights can be compared along a row; the rare giant is cut.
            let usual = median(Samples::new(course.iter().copied().flatten())).unwrap_or(1.0);
            let top = (usual * 2.0).max(budget.filter(|b| *b < usual * 3.0).unwrap_or(0.0) * 1.1);
            let y = |ms: f64| SPARK.1 - 2.0 - (SPARK.1 - 4.0) * (ms / top.max(1.0)).min(1.0);
            let x = |i: usize| SPARK.0 * (i as f64 + 0.5) / course.len().max(1) as f64;
            Spark {
                d: line(course.iter().enumerate().map(|(i, ms)| ms.map(|ms| (x(i), y(ms))))),
                budget_y: budget.filter(|b| *b <= top).map(y),
                p75: p75.value.map_or(NO_DATA.into(), format::seconds),
                tone: budget.map_or("within", |b| tone(Standing::of(&p75, b))),
            }
        });
        (l.name.clone(), cells.collect())
    };
    locations.iter().map(row).collect()
}

/// Two journeys from the places where both play.
struct Pair<'a> {
    steps: Vec<String>,
    ours: Vec<&'a Run>,
    theirs: Vec<&'a Run>,
    title: String,
    places: Vec<&'a str>,
}

impl<'a> Pair<'a> {
    fn of(
        j: &Journey,
        script: &Script,
        counted: &[&'a Run],
        other: &Journey,
        theirs: Vec<&'a Run>,
        locations: &'a [Location],
    ) -> Pair<'a> {
        let places = |runs: &[&Run]| runs.iter().map(|r| r.location_id).collect::<BTreeSet<_>>();
        let both: BTreeSet<i32> = places(counted).intersection(&places(&theirs)).copied().collect();
        let common = |r: &&&Run| both.contains(&r.location_id);
        Pair {
            steps: script.counted_steps().map(|s| s.name.clone()).collect(),
            ours: counted.iter().filter(common).copied().collect(),
            theirs: theirs.iter().filter(common).copied().collect(),
            title: if j.environment == other.environment {
                other.name.clone()
            } else {
                format!(
                    "{} ({})",
                    other.name.trim_end_matches(&format!(" ({})", other.environment)),
                    other.environment
                )
            },
            places: locations
                .iter()
                .filter(|l| both.contains(&l.id))
                .map(|l| l.name.as_str())
                .collect(),
        }
    }

    fn course(&self, buckets: &Buckets) -> Compared<'static> {
        // Where one of two places was silent, the mix would move the median: each place is taken for itself.
        let course = |runs: &[&'a Run]| -> Vec<Option<f64>> {
            let by: HashMap<i32, Vec<&Run>> = by_location(runs.iter().copied());
            let split: Vec<Vec<Vec<&Run>>> =
                by.values().map(|r| buckets.split(r.iter().copied())).collect();
            let through = |runs: &Vec<&Run>| {
                Samples::new(runs.iter().filter(|r| r.outcome.got_through()).map(|r| r.duration_ms))
            };
            (0..buckets.count)
                .map(|i| level::of_places(split.iter().map(|s| through(&s[i]))))
                .collect()
        };
        let (ours, theirs) = (course(&self.ours), course(&self.theirs));
        let points = ours
            .into_iter()
            .zip(theirs)
            .enumerate()
            .map(|(i, (a, b))| (buckets.middle(i), a, b))
            .collect();
        Compared { title: "Here and beside", sub: "mean of the places’ medians".into(), points }
    }

    fn table(&self) -> Beside {
        let seconds = |v: Option<f64>| v.map_or(NO_DATA.into(), format::seconds);
        let whole = |runs: &[&Run]| {
            Samples::new(runs.iter().filter(|r| r.outcome.got_through()).map(|r| r.duration_ms))
        };
        let row = |name: &str, ours: Samples, theirs: Samples| {
            let of = |s: &Samples, p| s.percentile(p, Method::NearestRank);
            let shift = percentile_shift(&ours, &theirs, 0.75);
            let tone = match &shift {
                Some(s) if s.is_notable() => "strained",
                _ => "within",
            };
            let interval = shift.as_ref().and_then(|s| s.interval);
            let cells = [
                seconds(of(&ours, 0.5)),
                seconds(of(&theirs, 0.5)),
                seconds(of(&ours, 0.75)),
                seconds(of(&theirs, 0.75)),
                shift.as_ref().map_or("–".into(), |s| format::difference_s(s.by())),
                interval.map_or("–".into(), |i| {
                    format!("{} to {}", format::difference_s(i.low), format::difference_s(i.high))
                }),
            ];
            (name.to_string(), cells, tone)
        };
        let mut rows: Vec<_> = self
            .steps
            .iter()
            .enumerate()
            .map(|(i, name)| {
                row(
                    name,
                    step_samples(self.ours.iter().copied(), i),
                    step_samples(self.theirs.iter().copied(), i),
                )
            })
            .collect();
        rows.push(row("Whole run", whole(&self.ours), whole(&self.theirs)));
        Beside {
            title: self.title.clone(),
            says: if self.places.is_empty() {
                "No location has played both in this stretch.".into()
            } else {
                format!(
                    "Only from where both play: {}. {} runs here, {} there; steps are matched by their place in the script.",
                    self.places.join(", "),
                    format::thousands(self.ours.len() as u64),
                    format::thousands(self.theirs.len() as u64)
                )
            },
            rows,
        }
    }
}
