//! Lanes over time: what page views, requests, actions and funnels were like, one below the other on one axis.

use crate::draw::{Axis, line, round_up, ticks};
use crate::format;
use crate::frame::{Frame, WIDTH, drawn_markers};
use crate::views::Views;
use cadentis_core::calendar::Stretch;
use cadentis_core::calendar::stretch::at_second;
use cadentis_core::goal::budget::{self, Budget, Metric};
use cadentis_core::stats::share;
use cadentis_core::timing::Vital;
use cadentis_core::visitor::Pool;
use cadentis_core::visitor::over::Bucket;

/// Lanes with the axis that they share.
pub(super) struct Lanes {
    pub ticks: Vec<(f64, String)>,
    pub series: Vec<Series>,
    /// Where something is pinned to the time, and what.
    pub markers: Vec<(f64, String)>,
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
    text: fn(f64) -> String,
}

/// What a lane shows at one moment (seconds since 1970), and of how many it is.
#[derive(Clone)]
struct Point {
    at_s: i64,
    value: f64,
    of: u64,
}

const LANE: f64 = 46.0;
const LEFT: f64 = 196.0;

fn axis(frame: &Frame) -> Axis {
    Axis { stretch: frame.stretch, left: LEFT, width: WIDTH - 232.0 }
}

fn drawn(frame: &Frame, title: &'static str, of_what: &str, lanes: Vec<Lane>) -> Lanes {
    let axis = axis(frame);
    let series: Vec<Series> = lanes.into_iter().enumerate().map(|(nth, l)| series(&axis, nth, of_what, l)).collect();
    let height = series.len() as f64 * LANE + 22.0;
    let inside: Vec<_> = frame.markers.iter().filter(|m| frame.stretch.contains(m.at)).cloned().collect();
    Lanes { ticks: ticks(&axis, &frame.site.zone), markers: drawn_markers(&inside, &axis), series, height, title }
}

fn series(axis: &Axis, nth: usize, of_what: &str, lane: Lane) -> Series {
    let top = nth as f64 * LANE;
    let most = lane.now.iter().chain(&lane.then).map(|p| p.value).fold(lane.limit.unwrap_or(0.01), f64::max);
    let top_value = round_up(most * 1.08);
    let y = |v: f64| top + 42.0 - 36.0 * (v / top_value).min(1.0);
    let draw = |points: &[Point]| {
        let places = points.iter().map(|p| (axis.x(at_second(p.at_s)), y(p.value)));
        line(places.filter(|(x, _)| *x <= axis.right()).map(Some))
    };
    let read = |p: &Point| (p.at_s, format!("{} · {} {of_what}", (lane.text)(p.value), format::thousands(p.of)));
    Series {
        title: lane.title.into(),
        sub: lane.sub,
        top,
        scale: (lane.text)(top_value),
        line: draw(&lane.now),
        against: draw(&lane.then),
        budget: lane.limit.map(y),
        reads: serde_json::to_string(&lane.now.iter().map(read).collect::<Vec<_>>()).unwrap_or_default(),
    }
}

/// How far what is compared with is moved to lie under the stretch.
fn shift_s(frame: &Frame) -> i64 {
    frame.against.map_or(0, |a| frame.stretch.from.as_second() - a.from.as_second())
}

fn percent(v: f64) -> String {
    format!("{:.2} %", v * 100.0)
}

/// Vitals that have a lane over time.
pub(super) const LANES: [Vital; 3] = [Vital::Lcp, Vital::Inp, Vital::Cls];

/// A lane for each of [`LANES`], one for the frustrated and one for the abandoned share.
pub(super) fn of_views(frame: &Frame, views: &Views, before: Option<&Views>, limits: &[Budget]) -> Lanes {
    let t_ms = frame.site.apdex_t_s * 1000.0;
    let all = views.all();
    let points = |views: &Views, shift_s: i64, value: &dyn Fn(&Pool) -> Option<f64>| -> Vec<Point> {
        let point = |(begin, pool): (i64, Pool)| {
            Some(Point { at_s: begin + shift_s + views.bucket_s / 2, value: value(&pool)?, of: pool.page_views })
        };
        views.buckets(None).into_iter().filter_map(point).collect()
    };
    let lane = |title, sub: String, limit, text, value: &dyn Fn(&Pool) -> Option<f64>| Lane {
        title,
        sub,
        now: points(views, 0, value),
        then: before.map_or(vec![], |b| points(b, shift_s(frame), value)),
        limit,
        text,
    };
    let frustrated = |pool: &Pool| {
        let apdex = pool.measured(Vital::Lcp).apdex(t_ms);
        share(apdex.frustrated, apdex.samples())
    };
    let mut lanes: Vec<Lane> = LANES
        .into_iter()
        .map(|v| {
            // The site's own budget where it has one, else what web.dev calls good.
            let limit = budget::holding(limits, Metric::Vital(v), None).map_or(v.thresholds().0, |b| b.limit);
            let sub = format!("p75 {} · budget {}", format::vital(v, &all.measured(v).reading(0.75)), v.text(limit));
            let text: fn(f64) -> String = match v {
                Vital::Cls => |v| Vital::Cls.text(v),
                Vital::Inp => |v| Vital::Inp.text(v),
                _ => |v| Vital::Lcp.text(v),
            };
            lane(v.name(), sub, Some(limit), text, &|pool| pool.measured(v).reading(0.75).value)
        })
        .collect();
    let waited = format!(
        "{} waited over {:.0} s for LCP",
        format::percent(frustrated(&all), 2, None),
        4.0 * frame.site.apdex_t_s
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
pub(super) fn of_buckets(frame: &Frame, words: &Words, now: &[Bucket], before: &[Bucket], bucket_s: i64) -> Lanes {
    let (count, failed) = now.iter().fold((0, 0), |(n, bad), b| (n + b.count, bad + b.failed));
    let points = |buckets: &[Bucket], shift_s: i64, value: fn(&Bucket) -> Option<f64>| -> Vec<Point> {
        let point =
            |b: &Bucket| Some(Point { at_s: b.begin_s + shift_s + bucket_s / 2, value: value(b)?, of: b.count });
        buckets.iter().filter_map(point).collect()
    };
    let lane = |title, sub: String, text, value: fn(&Bucket) -> Option<f64>| Lane {
        title,
        sub,
        now: points(now, 0, value),
        then: points(before, shift_s(frame), value),
        limit: None,
        text,
    };
    // A count of half a bucket is no count: it would look as if something had stopped.
    let whole_only = |buckets: &[Bucket], stretch: Stretch| -> Vec<Bucket> {
        let inside = |b: &&Bucket| {
            stretch.contains(at_second(b.begin_s)) && at_second(b.begin_s + bucket_s) <= stretch.to.min(frame.now)
        };
        buckets.iter().filter(inside).cloned().collect()
    };
    let counts = |b: &Bucket| Some(b.count as f64);
    let counted = Lane {
        now: points(&whole_only(now, frame.stretch), 0, counts),
        then: frame.against.map_or(vec![], |a| points(&whole_only(before, a), shift_s(frame), counts)),
        ..lane(words.count, String::new(), whole, counts)
    };
    let each = cadentis_core::calendar::stretch::length_text(bucket_s as f64 * 1_000.0);
    let lanes = vec![
        Lane { sub: format!("{} · each {each}", format::thousands(count)), ..counted },
        lane(words.failed, format::percent(share(failed, count), 2, None), percent, Bucket::failed_share),
        lane(words.time, "at the 75th percentile".into(), seconds, |b| b.p75.value),
    ];
    drawn(frame, words.title, words.of_what, lanes)
}

/// How often something went wrong, and the share of page views with script errors.
pub(super) fn of_errors(
    frame: &Frame,
    (times, views): (&[Bucket], &Views),
    (times_before, before): (&[Bucket], Option<&Views>),
) -> Lanes {
    let points = |buckets: &[Bucket], shift_s: i64| -> Vec<Point> {
        let middle = shift_s + views.bucket_s / 2;
        buckets.iter().map(|b| Point { at_s: b.begin_s + middle, value: b.count as f64, of: b.count }).collect()
    };
    let shares = |views: &Views, shift_s: i64| -> Vec<Point> {
        let point = |(begin, pool): (i64, Pool)| {
            let at_s = begin + shift_s + views.bucket_s / 2;
            Some(Point { at_s, value: pool.error_share()?, of: pool.page_views })
        };
        views.buckets(None).into_iter().filter_map(point).collect()
    };
    let shift = shift_s(frame);
    let told = times.iter().map(|b| b.count).sum();
    let lanes = vec![
        Lane {
            title: "Times",
            sub: format!("{} in all", format::thousands(told)),
            now: points(times, 0),
            then: points(times_before, shift),
            limit: None,
            text: whole,
        },
        Lane {
            title: "With script errors",
            sub: format!("{} of page views", format::percent(views.all().error_share(), 2, None)),
            now: shares(views, 0),
            then: before.map_or(vec![], |b| shares(b, shift)),
            limit: None,
            text: percent,
        },
    ];
    drawn(frame, "Errors over time", "here", lanes)
}

fn whole(v: f64) -> String {
    format::thousands(v.round() as u64)
}

fn seconds(ms: f64) -> String {
    if ms < 1_000.0 { format!("{ms:.0} ms") } else { cadentis_core::calendar::stretch::length_text(ms) }
}
