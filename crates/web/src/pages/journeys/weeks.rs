//! A journey over time: its steps on each other, network, server and browser, every step at every location, and
//! another journey beside it.

use crate::State;
use crate::access::After;
use crate::draw::{line, round_up};
use crate::error::PageError;
use crate::filters;
use crate::format::{self, NO_DATA};
use crate::frame::{Frame, tone};
use crate::limits::query;
use crate::lineup::{Compared, Layer, LineUp, Stack};
use crate::respond::{TWELVE_HOURS, html, journey_of};
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::kept::{Journey, Location};
use cadentis_answers::weeks::{self, Buckets, Cell, Course, Pair};
use cadentis_core::calendar::Stretch;
use cadentis_core::calendar::stretch::length_text;
use cadentis_core::goal::Standing;
use serde::Deserialize;

#[derive(Template)]
#[template(path = "weeks.html")]
struct Part {
    base: String,
    slug: String,
    lineup: String,
    bucket: String,
    steps: Vec<String>,
    sparks: Vec<SparkRow>,
    others: Vec<Other>,
    beside: Option<Beside>,
    from: String,
    to: String,
    against: &'static str,
}

/// A location, and a course for each step.
struct SparkRow {
    location: String,
    cells: Vec<Spark>,
}

/// A journey that could stand beside this one.
struct Other {
    slug: String,
    name: String,
    chosen: bool,
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
    rows: Vec<BesideRow>,
}

struct BesideRow {
    step: String,
    /// p50 and p75 here and there, the difference and its interval.
    cells: [String; 6],
    tone: &'static str,
}

#[derive(Default, Deserialize)]
struct WeeksQuery {
    beside: Option<String>,
}

const SPARK: (f64, f64) = (110.0, 24.0);

/// `GET /journeys/{slug}/weeks?beside=`: a part of the journey's page.
pub async fn part(
    state: web::Data<State>,
    After(slug): After<String>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::part(&request, "Journeys", TWELVE_HOURS)?;
    let wanted = query::<WeeksQuery>(&request)?;
    let j = journey_of(&state, frame.site.id, &slug).await?;
    let (range, beside) = (frame.range(), wanted.beside.as_deref());
    let told = weeks::ask(&state.answers, frame.site.id, &range, frame.stretch, &j, beside).await?;
    let stacks = stacks(&told);
    let lines: Vec<Compared<'_>> =
        told.beside.iter().map(|b| compared(&told.buckets, &b.course)).collect();
    let lineup = LineUp::over(&frame, &told.maintenance, &stacks, &lines)?;
    let chosen = told.beside.as_ref().map(|b| b.journey.id);
    let spark_row = |(location, cells): &(Location, Vec<Cell>)| SparkRow {
        location: location.name.clone(),
        cells: cells.iter().map(spark).collect(),
    };
    let other = |o: &Journey| Other {
        slug: o.slug.clone(),
        name: o.name.clone(),
        chosen: chosen == Some(o.id),
    };
    html(&Part {
        base: frame.base.clone(),
        lineup,
        bucket: length_text(told.buckets.bucket_s as f64 * 1000.0),
        steps: told.steps.iter().map(|s| s.name.clone()).collect(),
        sparks: told.places.iter().map(spark_row).collect(),
        others: told.others.iter().map(other).collect(),
        beside: told.beside.as_ref().map(|b| table(&j, b)),
        slug: j.slug,
        from: Stretch::moment(frame.stretch.from),
        to: Stretch::moment(frame.stretch.to),
        against: frame.against_kind(),
    })
}

/// Steps on each other, and where time went.
fn stacks(told: &weeks::Weeks) -> [Stack<'_>; 2] {
    let (steps, sides, buckets) = (&told.steps, &told.sides, told.buckets);
    let says_steps = |i: usize| {
        let of = steps.iter().map(|l| format!("{} {}", l.name, format::seconds(l.values[i])));
        of.collect::<Vec<_>>().join(" · ")
    };
    let says_sides = |i: usize| {
        let of = sides.iter().map(|l| format!("{} {:.0} %", l.name, l.values[i]));
        of.collect::<Vec<_>>().join(" · ")
    };
    let known = |layers: &[Course]| -> Vec<bool> {
        (0..buckets.count).map(|i| layers.iter().any(|l| l.values[i] > 0.0)).collect()
    };
    let whole = |i: usize| steps.iter().map(|l| l.values[i]).sum::<f64>();
    let top = round_up((0..buckets.count).map(whole).fold(1.0, f64::max) * 1.05);
    let layers = |courses: &[Course], class: fn(usize, &str) -> String| -> Vec<Layer> {
        let layer = |(i, c): (usize, &Course)| Layer {
            class: class(i, &c.name),
            name: c.name.clone(),
            values: c.values.clone(),
        };
        courses.iter().enumerate().map(layer).collect()
    };
    let seconds = format!("{} s", format::seconds(top).trim_end_matches('0').trim_end_matches('.'));
    [
        Stack {
            title: "Steps on each other",
            sub: "medians over all locations".into(),
            layers: layers(steps, |i, _| format!("layer layer-{}", i % 4)),
            known: known(steps),
            from_s: buckets.from_s,
            bucket_s: buckets.bucket_s,
            top,
            scale: seconds,
            says: Box::new(says_steps),
        },
        Stack {
            title: "Where time went",
            sub: "share of all runs".into(),
            layers: layers(sides, |_, name| format!("layer side-{name}")),
            known: known(sides),
            from_s: buckets.from_s,
            bucket_s: buckets.bucket_s,
            top: 100.0,
            scale: "100 %".into(),
            says: Box::new(says_sides),
        },
    ]
}

fn compared(buckets: &Buckets, course: &[(Option<f64>, Option<f64>)]) -> Compared<'static> {
    let points = course.iter().enumerate().map(|(i, (a, b))| (buckets.middle(i), *a, *b));
    Compared {
        title: "Here and beside",
        sub: "mean of the places’ medians".into(),
        points: points.collect(),
    }
}

fn spark(cell: &Cell) -> Spark {
    // Down to nothing, so that heights can be compared along a row; the rare giant is cut.
    let usual = cell.usual.unwrap_or(1.0);
    let budget = cell.budget_ms;
    let top = (usual * 2.0).max(budget.filter(|b| *b < usual * 3.0).unwrap_or(0.0) * 1.1);
    let y = |ms: f64| SPARK.1 - 2.0 - (SPARK.1 - 4.0) * (ms / top.max(1.0)).min(1.0);
    let x = |i: usize| SPARK.0 * (i as f64 + 0.5) / cell.course.len().max(1) as f64;
    Spark {
        d: line(cell.course.iter().enumerate().map(|(i, ms)| ms.map(|ms| (x(i), y(ms))))),
        budget_y: budget.filter(|b| *b <= top).map(y),
        p75: cell.p75.value.map_or(NO_DATA.into(), format::seconds),
        tone: budget.map_or("within", |b| tone(Standing::of(&cell.p75, b))),
    }
}

fn table(j: &Journey, beside: &weeks::Beside) -> Beside {
    let (other, [ours, theirs]) = (&beside.journey, beside.runs);
    let seconds = |v: Option<f64>| v.map_or(NO_DATA.into(), format::seconds);
    let row = |p: &Pair| {
        let interval = p.shift.as_ref().and_then(|s| s.interval);
        BesideRow {
            step: p.step.clone().unwrap_or_else(|| "Whole run".into()),
            cells: [
                seconds(p.ours[0]),
                seconds(p.theirs[0]),
                seconds(p.ours[1]),
                seconds(p.theirs[1]),
                p.shift.as_ref().map_or("–".into(), |s| format::difference_s(s.by())),
                interval.map_or("–".into(), |i| {
                    format!("{} to {}", format::difference_s(i.low), format::difference_s(i.high))
                }),
            ],
            tone: if p.shift.is_some_and(|s| s.is_notable()) { "strained" } else { "within" },
        }
    };
    Beside {
        title: if j.environment == other.environment {
            other.name.clone()
        } else {
            let suffix = format!(" ({})", other.environment);
            format!("{} ({})", other.name.trim_end_matches(&suffix), other.environment)
        },
        says: if beside.places.is_empty() {
            "No location has played both in this stretch.".into()
        } else {
            format!(
                "Only from where both play: {}. {} runs here, {} there; steps are matched by their place in the script.",
                beside.places.join(", "),
                format::thousands(ours as u64),
                format::thousands(theirs as u64)
            )
        },
        rows: beside.pairs.iter().map(row).collect(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use cadentis_core::stats::{Reading, Samples};
    use proptest::prelude::*;

    fn cell(course: Vec<Option<f64>>, p75: Reading, budget_ms: Option<f64>) -> Cell {
        let usual = course.iter().flatten().copied().reduce(f64::max);
        Cell { course, p75, usual, budget_ms }
    }

    #[test]
    fn a_small_course_says_its_reading_and_shows_its_limit_where_there_is_room_for_it() {
        let p75 = Samples::new([2_000.0; 40]).reading(0.75);
        let drawn = spark(&cell(vec![Some(2_000.0), None, Some(1_900.0)], p75, Some(1_500.0)));
        assert_eq!((drawn.p75.as_str(), drawn.tone), ("2.00", "strained"));
        assert!(drawn.budget_y.is_some_and(|y| y > 2.0 && y < SPARK.1), "{:?}", drawn.budget_y);
        assert_eq!(drawn.d.matches('M').count(), 2, "a break where nothing was measured");
        let far = spark(&cell(vec![Some(100.0)], p75, Some(9_000.0)));
        assert_eq!(far.budget_y, None, "it would press the course flat");
        let nothing = spark(&cell(vec![None, None], Reading::NONE, None));
        assert_eq!((nothing.p75.as_str(), nothing.d.as_str()), (NO_DATA, ""));
    }

    proptest! {
        #[test]
        fn whatever_was_measured_is_drawn_inside_its_frame(
            course in prop::collection::vec(prop::option::of(0.0..90_000.0f64), 1..40), budget in prop::option::of(1.0..90_000.0f64),
        ) {
            let drawn = spark(&cell(course.clone(), Reading::NONE, budget));
            let points: Vec<(f64, f64)> = drawn.d.split(['M', 'L']).skip(1).map(|p| {
                let (x, y) = p.split_once(' ').unwrap();
                (x.parse().unwrap(), y.parse().unwrap())
            }).collect();
            prop_assert_eq!(points.len(), course.iter().flatten().count());
            prop_assert!(points.iter().all(|(x, y)| (0.0..=SPARK.0).contains(x) && (1.9..=SPARK.1).contains(y)));
            prop_assert!(drawn.budget_y.is_none_or(|y| (0.0..=SPARK.1).contains(&y)));
        }
    }
}
