//! Lanes over time: what page views, requests, actions and funnels were like, one below the other on one axis.

use crate::draw::{Axis, connected, line, round_up, ticks};
use crate::format;
use crate::frame::{Frame, WIDTH};
use crate::view::{Mark, Pin};
use cadentis_answers::pooled::{self, p75};
use cadentis_answers::views::Views;
use cadentis_core::calendar::Stretch;
use cadentis_core::calendar::stretch::at_second;
use cadentis_core::goal::budget::{self, Budget, Metric};
use cadentis_core::stats::share;
use cadentis_core::timing::{Apdex, Vital};
use cadentis_core::visitor::Pool;
use cadentis_core::visitor::timeline::{Bucket, is_whole, whole_buckets};
use jiff::Timestamp;

/// Lanes with the axis that they share.
pub(super) struct Lanes {
    pub ticks: Vec<Mark>,
    pub series: Vec<Series>,
    /// Where something is pinned to the time, and what.
    pub pins: Vec<Pin>,
    pub height: f64,
    /// What they show, for who does not see them.
    pub title: &'static str,
}

/// One lane, drawn.
pub(super) struct Series {
    pub title: String,
    pub sub: String,
    pub top: f64,
    pub scale: String,
    pub line: String,
    pub against: String,
    pub budget: Option<f64>,
    pub reads: String,
}

/// One lane, to be drawn.
struct Lane {
    title: &'static str,
    sub: String,
    now: Vec<Point>,
    then: Vec<Point>,
    limit: Option<f64>,
    /// More than this it can never be.
    ceiling: f64,
    text: fn(f64) -> String,
    /// Seconds between two points beside each other: now, and before, which may be read hour by hour.
    bucket_s: (i64, i64),
}

/// What a lane shows at one moment (seconds since 1970), and of how many it is.
#[derive(Clone)]
struct Point {
    at_s: i64,
    value: f64,
    of: u64,
    /// What else there is to read at it.
    more: String,
}

impl Point {
    fn at(at_s: i64, value: f64, of: u64) -> Point {
        Point { at_s, value, of, more: String::new() }
    }
}

const LANE: f64 = 46.0;
const LEFT: f64 = 196.0;

fn axis(frame: &Frame) -> Axis {
    Axis { stretch: frame.stretch, left: LEFT, width: WIDTH - 232.0 }
}

fn drawn(frame: &Frame, title: &'static str, of_what: &str, lanes: Vec<Lane>) -> Lanes {
    let axis = axis(frame);
    let series: Vec<Series> =
        lanes.into_iter().enumerate().map(|(nth, l)| series(&axis, nth, of_what, l)).collect();
    let height = series.len() as f64 * LANE + 22.0;
    Lanes {
        ticks: ticks(&axis, &frame.site.zone),
        pins: frame.pins(&frame.markers, &axis),
        series,
        height,
        title,
    }
}

fn series(axis: &Axis, nth: usize, of_what: &str, lane: Lane) -> Series {
    let top = nth as f64 * LANE;
    let most = lane
        .now
        .iter()
        .chain(&lane.then)
        .map(|p| p.value)
        .fold(lane.limit.unwrap_or(0.01), f64::max);
    // No share is more than all.
    let top_value = round_up(most * 1.08).min(lane.ceiling);
    let y = |v: f64| top + 42.0 - 36.0 * (v / top_value).min(1.0);
    let draw = |points: &[Point], bucket_s: i64| {
        let places: Vec<_> =
            points.iter().map(|p| (p.at_s, axis.x(at_second(p.at_s)), y(p.value))).collect();
        line(connected(&places, bucket_s, axis))
    };
    let read = |p: &Point| {
        (
            p.at_s,
            format!("{}{} · {} {of_what}", (lane.text)(p.value), p.more, format::thousands(p.of)),
        )
    };
    Series {
        title: lane.title.into(),
        sub: lane.sub,
        top,
        scale: (lane.text)(top_value),
        line: draw(&lane.now, lane.bucket_s.0),
        against: draw(&lane.then, lane.bucket_s.1),
        budget: lane.limit.map(y),
        reads: serde_json::to_string(&lane.now.iter().map(read).collect::<Vec<_>>())
            .unwrap_or_default(),
    }
}

/// Counts of all whole buckets of a stretch up to now.
fn counts(
    buckets: &[Bucket],
    stretch: Stretch,
    now: Timestamp,
    bucket_s: i64,
    shift_s: i64,
) -> Vec<Point> {
    let past = Stretch { from: stretch.from, to: stretch.to.min(now) };
    let point = |(begin, n): (i64, u64)| Point::at(begin + shift_s + bucket_s / 2, n as f64, n);
    whole_buckets(buckets, past, bucket_s).into_iter().map(point).collect()
}

/// What a value of page views was over time.
///
/// Only of whole buckets: a part of one has few page views and would draw a spike.
fn points_of(
    views: &Views,
    past: Stretch,
    shift_s: i64,
    value: &dyn Fn(&Pool) -> Option<f64>,
) -> Vec<Point> {
    let at = |begin: i64| begin + shift_s + views.bucket_s / 2;
    let point =
        |(begin, pool): (i64, Pool)| Some(Point::at(at(begin), value(&pool)?, pool.page_views));
    whole(views, past).filter_map(point).collect()
}

fn whole(views: &Views, past: Stretch) -> impl Iterator<Item = (i64, Pool)> {
    let bucket_s = views.bucket_s;
    views.buckets(None).into_iter().filter(move |(begin, _)| is_whole(*begin, bucket_s, past))
}

/// The stretch that is compared with; the own one where there is none.
fn against(frame: &Frame) -> Stretch {
    frame.against.unwrap_or(frame.past())
}

/// How far what is compared with is moved to lie under the stretch.
fn shift_s(frame: &Frame) -> i64 {
    frame.against.map_or(0, |a| frame.stretch.from.as_second() - a.from.as_second())
}

/// What a lane can never exceed, by how it is written.
fn ceiling(text: fn(f64) -> String) -> f64 {
    if text(1.0) == percent(1.0) || text(1.0) == score(1.0) { 1.0 } else { f64::INFINITY }
}

fn score(v: f64) -> String {
    format!("{v:.2}")
}

fn percent(v: f64) -> String {
    format!("{:.2} %", v * 100.0)
}

/// Vitals that have a lane over time.
pub(super) const LANES: [Vital; 3] = [Vital::Lcp, Vital::Inp, Vital::Cls];

/// A lane for each of [`LANES`], the Apdex score, and the frustrated and the abandoned share.
pub(super) fn of_views(
    frame: &Frame,
    views: &Views,
    before: Option<&Views>,
    limits: &[Budget],
    t_s: f64,
) -> Lanes {
    let all = views.all();
    let lane = |title, sub: String, limit, text, value: &dyn Fn(&Pool) -> Option<f64>| Lane {
        title,
        sub,
        now: points_of(views, frame.past(), 0, value),
        then: before.map_or(vec![], |b| points_of(b, against(frame), shift_s(frame), value)),
        limit,
        ceiling: ceiling(text),
        text,
        bucket_s: (views.bucket_s, before.map_or(views.bucket_s, |b| b.bucket_s)),
    };
    let apdex = |pool: &Pool| pooled::apdex(pool, t_s);
    let frustrated = |pool: &Pool| {
        let apdex = apdex(pool);
        share(apdex.frustrated, apdex.samples())
    };
    let mut lanes: Vec<Lane> = LANES
        .into_iter()
        .map(|v| {
            // The site's own budget where it has one, else what web.dev calls good.
            let limit = budget::holding(limits, Metric::Vital(v), None)
                .map_or(v.thresholds().0, |b| b.limit);
            let sub = format!("p75 {} · budget {}", format::vital(v, &p75(&all, v)), v.text(limit));
            let text: fn(f64) -> String = match v {
                Vital::Cls => |v| Vital::Cls.text(v),
                Vital::Inp => |v| Vital::Inp.text(v),
                _ => |v| Vital::Lcp.text(v),
            };
            lane(v.name(), sub, Some(limit), text, &|pool| p75(pool, v).value)
        })
        .collect();
    // The score as a line; who was satisfied, tolerated it or was frustrated is read at each moment.
    let of_three = |a: &Apdex| {
        let of = |n: u64| format::percent(share(n, a.samples()), 1, None);
        format!(
            "{} satisfied, {} tolerating, {} frustrated",
            of(a.satisfied),
            of(a.tolerating),
            of(a.frustrated)
        )
    };
    let sub = format!(
        "{} [{t_s:.1}] by LCP",
        apdex(&all).score().map_or(format::NO_DATA.into(), |a| format!("{a:.2}"))
    );
    let mut scored = lane("Apdex", sub, None, score, &|pool| apdex(pool).score());
    let told = whole(views, frame.past()).filter(|(_, pool)| apdex(pool).score().is_some());
    for (point, (_, pool)) in scored.now.iter_mut().zip(told) {
        point.more = format!(" · {}", of_three(&apdex(&pool)));
    }
    lanes.push(scored);
    let waited = format!(
        "{} waited over {:.0} s for LCP",
        format::percent(frustrated(&all), 2, None),
        4.0 * t_s
    );
    lanes.push(lane("Frustrated", waited, None, percent, &frustrated));
    let left = format!("{} of page views", format::percent(all.abandoned_share(), 2, None));
    lanes.push(lane("Abandoned", left, None, percent, &Pool::abandoned_share));
    drawn(frame, "Vitals over time", "page views", lanes)
}

/// What buckets are called: all of them, the failed ones, their time; and what is counted.
pub(super) struct Words {
    pub title: &'static str,
    pub count: &'static str,
    pub failed: &'static str,
    pub time: &'static str,
    pub of_what: &'static str,
}

/// Three lanes: how often it happened, which share failed, how long it took.
pub(super) fn of_buckets(
    frame: &Frame,
    words: &Words,
    now: &[Bucket],
    before: &[Bucket],
    bucket_s: i64,
) -> Lanes {
    let (count, failed) = now.iter().fold((0, 0), |(n, bad), b| (n + b.count, bad + b.failed));
    let points =
        |buckets: &[Bucket], shift_s: i64, value: fn(&Bucket) -> Option<f64>| -> Vec<Point> {
            let at = |b: &Bucket| b.begin_s + shift_s + bucket_s / 2;
            let point = |b: &Bucket| Some(Point::at(at(b), value(b)?, b.count));
            buckets.iter().filter_map(point).collect()
        };
    let lane = |title, sub: String, text, value: fn(&Bucket) -> Option<f64>| Lane {
        title,
        sub,
        now: points(now, 0, value),
        then: points(before, shift_s(frame), value),
        limit: None,
        ceiling: ceiling(text),
        text,
        bucket_s: (bucket_s, bucket_s),
    };
    let shift = shift_s(frame);
    let counted = Lane {
        now: counts(now, frame.stretch, frame.now, bucket_s, 0),
        then: frame.against.map_or(vec![], |a| counts(before, a, frame.now, bucket_s, shift)),
        ..lane(words.count, String::new(), whole_number, |_| None)
    };
    let each = cadentis_core::calendar::stretch::length_text(bucket_s as f64 * 1_000.0);
    let lanes = vec![
        Lane { sub: format!("{} · each {each}", format::thousands(count)), ..counted },
        lane(
            words.failed,
            format::percent(share(failed, count), 2, None),
            percent,
            Bucket::failed_share,
        ),
        lane(words.time, "at the 75th percentile".into(), seconds, |b| b.p75.value),
    ];
    drawn(frame, words.title, words.of_what, lanes)
}

/// How often something went wrong (`None` when not all of it was read), and the share of page views with script errors.
pub(super) fn of_errors(
    frame: &Frame,
    (times, views): (Option<&[Bucket]>, &Views),
    (times_before, before): (Option<&[Bucket]>, Option<&Views>),
) -> Lanes {
    let shift = shift_s(frame);
    let told = match times {
        Some(t) => format!("{} in all", format::thousands(t.iter().map(|b| b.count).sum())),
        None => "too many to be drawn".into(),
    };
    let lanes = vec![
        Lane {
            title: "Times",
            sub: told,
            now: times.map_or(vec![], |t| counts(t, frame.stretch, frame.now, views.bucket_s, 0)),
            then: times_before
                .zip(frame.against)
                .map_or(vec![], |(t, a)| counts(t, a, frame.now, views.bucket_s, shift)),
            limit: None,
            ceiling: f64::INFINITY,
            text: whole_number,
            bucket_s: (views.bucket_s, views.bucket_s),
        },
        Lane {
            title: "With script errors",
            sub: format!("{} of page views", format::percent(views.all().error_share(), 2, None)),
            now: points_of(views, frame.past(), 0, &Pool::error_share),
            then: before
                .map_or(vec![], |b| points_of(b, against(frame), shift, &Pool::error_share)),
            limit: None,
            ceiling: 1.0,
            text: percent,
            bucket_s: (views.bucket_s, before.map_or(views.bucket_s, |b| b.bucket_s)),
        },
    ];
    drawn(frame, "Errors over time", "here", lanes)
}

fn whole_number(v: f64) -> String {
    format::thousands(v.round() as u64)
}

fn seconds(ms: f64) -> String {
    if ms < 1_000.0 {
        format!("{ms:.0} ms")
    } else {
        cadentis_core::calendar::stretch::length_text(ms)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_gap_of_an_hour_in_ten_minutes_is_a_gap_also_where_what_was_before_is_read_by_the_hour() {
        let stretch = Stretch { from: at_second(0), to: at_second(6 * 3_600) };
        let axis = Axis { stretch, left: LEFT, width: WIDTH - 232.0 };
        let point = |at_s: i64| Point::at(at_s, 1.0, 5);
        let lane = Lane {
            title: "LCP",
            sub: String::new(),
            now: [300, 900, 1_500, 5_400, 6_000].map(point).into(),
            then: [1_800, 5_400, 9_000].map(point).into(),
            limit: None,
            ceiling: f64::INFINITY,
            text: score,
            bucket_s: (600, 3_600),
        };
        let drawn = series(&axis, 0, "page views", lane);
        let parts = |path: &str| path.matches('M').count();
        assert_eq!(
            (parts(&drawn.line), parts(&drawn.against)),
            (2, 1),
            "{} {}",
            drawn.line,
            drawn.against
        );
    }
}
