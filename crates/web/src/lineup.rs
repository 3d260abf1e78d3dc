//! The line-up: lanes on one time axis, the view that everything leads to.

use crate::draw::{Axis, band, connected, line, round_up, ticks};
use crate::filters;
use crate::format::{self, NO_DATA};
use crate::frame::said_parts;
use crate::frame::{Frame, WIDTH, drawn_incidents, drawn_windows, tone};
use crate::view::{Mark, Pin, SaidPart, Window};
use askama::Template;
use cadentis_answers::dependencies::Told;
use cadentis_answers::kept::Run;
use cadentis_answers::kept::{LeftOut, Marker};
use cadentis_answers::played::Here;
use cadentis_answers::pooled::{self, rated};
use cadentis_answers::views::Views;
use cadentis_core::calendar::Stretch;
use cadentis_core::calendar::stretch::{at_second, length_text};
use cadentis_core::goal::{ErrorBudget, Standing};
use cadentis_core::run::{Outcome, bars};
use cadentis_core::timing::Vital;
use cadentis_core::visitor::timeline::is_whole;
use jiff::SignedDuration;

/// How lanes are laid out for a width of screen.
#[derive(Debug, Clone, Copy)]
pub struct Layout {
    width: f64,
    /// Room for the names of lanes, left of them; 0: they stand above.
    label: f64,
    /// Room for the scale of a lane, right of it.
    scale: f64,
    /// Room above each lane for its name.
    head: f64,
    /// More bars than this in a lane cannot be told apart: they stand for several runs then.
    most_bars: i64,
    class: &'static str,
}

impl Layout {
    /// For a desk.
    const WIDE: Layout = Layout {
        width: WIDTH,
        label: 196.0,
        scale: 36.0,
        head: 0.0,
        most_bars: 170,
        class: "wide-only",
    };
    /// For a phone: as wide as it is, names above their lanes.
    const NARROW: Layout = Layout {
        width: 366.0,
        label: 0.0,
        scale: 0.0,
        head: 22.0,
        most_bars: 48,
        class: "narrow-only",
    };

    fn axis(&self, stretch: Stretch) -> Axis {
        Axis { stretch, left: self.label, width: self.width - self.label - self.scale }
    }

    fn is_narrow(&self) -> bool {
        self.head > 0.0
    }
}

#[derive(Template)]
#[template(path = "lineup.html")]
pub struct LineUp {
    pub width: f64,
    pub height: f64,
    /// Where the axis begins and ends.
    pub left: f64,
    pub right: f64,
    pub lanes: Vec<Lane>,
    pub ticks: Vec<Mark>,
    pub from_s: i64,
    pub to_s: i64,
    /// What one bar stands for, when it is more than one run.
    pub bars_say: String,
    pub axis_y: f64,
    pub left_out: Vec<Window>,
    /// Markers: lines through all lanes, with a flag on top where no lane tells them.
    pub pins: Vec<Pin>,
    pub has_events: bool,
    pub now_x: Option<f64>,
    /// Whether the patterns that lanes use have to come with it: once a page.
    pub with_patterns: bool,
    /// For which screens it is drawn.
    pub class: &'static str,
    pub narrow: bool,
    /// Where figures stand, right of names.
    pub figure_x: f64,
}

/// A line or an area.
pub struct Drawn {
    pub class: String,
    pub d: String,
}

impl Drawn {
    fn new(class: impl Into<String>, d: impl Into<String>) -> Drawn {
        Drawn { class: class.into(), d: d.into() }
    }
}

/// The limit of a lane, and what stands above it.
pub struct Limit {
    pub y: f64,
    pub says: String,
}

/// The name of an area, where it stands.
pub struct Name {
    pub x: f64,
    pub y: f64,
    pub name: String,
}

/// A marker; its title stands on the left of it where there is no room on the right.
pub struct Flag {
    pub pin: Pin,
    pub is_left: bool,
}

pub struct Lane {
    pub title: String,
    pub sub: String,
    pub figure: String,
    pub figure_tone: &'static str,
    pub note: String,
    pub top: f64,
    pub height: f64,
    /// How far the whole lane is moved down, to make room for names.
    pub shift: f64,
    pub scale: String,
    pub budget: Option<Limit>,
    pub bars: Vec<Bar>,
    pub lines: Vec<Drawn>,
    pub areas: Vec<Drawn>,
    /// Names of areas, where they stand.
    pub names: Vec<Name>,
    pub markers: Vec<Flag>,
    pub windows: Vec<Window>,
    /// Incidents.
    pub incidents: Vec<crate::frame::Bar>,
    /// States that others say, each in its tone.
    pub said: Vec<SaidPart>,
    /// (seconds, what the cursor reads there), as JSON.
    pub reads: String,
}

impl Lane {
    fn new(title: &str, sub: String, top: f64, height: f64) -> Lane {
        Lane {
            title: title.into(),
            sub,
            figure: String::new(),
            figure_tone: "within",
            note: String::new(),
            top,
            height,
            shift: 0.0,
            scale: String::new(),
            budget: None,
            bars: vec![],
            lines: vec![],
            areas: vec![],
            names: vec![],
            markers: vec![],
            windows: vec![],
            incidents: vec![],
            said: vec![],
            reads: "[]".into(),
        }
    }

    pub fn base(&self) -> f64 {
        self.top + self.height - 4.0
    }
}

pub struct Bar {
    pub x: f64,
    pub y: f64,
    pub w: f64,
    pub h: f64,
    pub outcome: &'static str,
    pub href: String,
    pub says: String,
}

impl Bar {
    pub fn mid(&self) -> f64 {
        self.x + self.w / 2.0
    }
}

/// What a line-up of a journey shows.
pub struct RunLanes {
    pub here: Vec<Here>,
    pub budget_ms: Option<f64>,
    pub every_s: i64,
    pub promised: Option<f64>,
}

pub struct Happened<'a> {
    pub markers: &'a [Marker],
    pub maintenance: &'a [LeftOut],
    /// What others say of what the site stands on.
    pub said: &'a [Told],
}

/// A part of a stack: its class, its name, and its value in each bucket.
pub struct Layer {
    pub class: String,
    pub name: String,
    pub values: Vec<f64>,
}

/// Layers on each other over buckets that begin at `from_s`, each `bucket_s` long. Buckets of which nothing is known
/// interrupt them. `top` is the height of the scale.
pub struct Stack<'a> {
    pub title: &'a str,
    pub sub: String,
    pub layers: Vec<Layer>,
    pub known: Vec<bool>,
    pub from_s: i64,
    pub bucket_s: i64,
    pub top: f64,
    pub scale: String,
    pub says: Box<dyn Fn(usize) -> String + 'a>,
}

impl LineUp {
    /// A line-up of stacks and of lines that are compared, on the axis of the page, for every width of screen.
    pub fn over(
        frame: &Frame,
        maintenance: &[LeftOut],
        stacks: &[Stack<'_>],
        lines: &[Compared<'_>],
    ) -> askama::Result<String> {
        let of = |layout| LineUp::over_as(frame, maintenance, stacks, lines, layout).render();
        Ok(of(Layout::WIDE)? + &of(Layout::NARROW)?)
    }

    fn over_as(
        frame: &Frame,
        maintenance: &[LeftOut],
        stacks: &[Stack<'_>],
        lines: &[Compared<'_>],
        layout: Layout,
    ) -> LineUp {
        let axis = layout.axis(frame.stretch);
        let mut lanes: Vec<Lane> = Vec::new();
        for stack in stacks {
            let top = lanes.last().map_or(0.0, |l| l.top + l.height);
            lanes.push(stack_lane(&axis, stack, top));
        }
        for compared in lines {
            let top = lanes.last().map_or(0.0, |l| l.top + l.height);
            lanes.push(compared_lane(&axis, compared, top));
        }
        LineUp::laid_out(frame, layout, lanes, maintenance, String::new(), false)
    }

    /// Lanes one below the other, as this layout has them.
    fn laid_out(
        frame: &Frame,
        layout: Layout,
        mut lanes: Vec<Lane>,
        maintenance: &[LeftOut],
        bars_say: String,
        with_patterns: bool,
    ) -> LineUp {
        let axis = layout.axis(frame.stretch);
        lanes
            .iter_mut()
            .zip(1u32..)
            .for_each(|(lane, nth)| lane.shift = f64::from(nth) * layout.head);
        // What is for some locations only is told in the lane of events: the others go on.
        let everywhere: Vec<LeftOut> =
            maintenance.iter().filter(|l| l.reach.locations.is_empty()).cloned().collect();
        let height = lanes.last().map_or(0.0, |l| l.top + l.height + l.shift);
        LineUp {
            width: layout.width,
            height: height + 24.0,
            left: axis.left,
            right: axis.right(),
            ticks: ticks(&axis, &frame.site.zone),
            from_s: frame.stretch.from.as_second(),
            to_s: frame.stretch.to.as_second(),
            bars_say,
            axis_y: height,
            left_out: drawn_windows(&everywhere, &axis),
            pins: frame.pins(&frame.markers, &axis),
            has_events: lanes.first().is_some_and(|l| l.title == EVENTS),
            now_x: frame.stretch.contains(frame.now).then(|| axis.x(frame.now)),
            with_patterns,
            class: layout.class,
            narrow: layout.is_narrow(),
            figure_x: if layout.is_narrow() { layout.width } else { layout.label - 10.0 },
            lanes,
        }
    }

    /// The line-up for every width of screen.
    pub fn of(
        frame: &Frame,
        happened: &Happened<'_>,
        visitors: &Views,
        by_country: Option<&Views>,
        played: Option<&RunLanes>,
        budget: Option<&[(i64, ErrorBudget)]>,
    ) -> askama::Result<String> {
        let of = |layout| {
            LineUp::of_as(frame, happened, visitors, by_country, played, budget, layout).render()
        };
        Ok(of(Layout::WIDE)? + &of(Layout::NARROW)?)
    }

    fn of_as(
        frame: &Frame,
        happened: &Happened<'_>,
        visitors: &Views,
        by_country: Option<&Views>,
        played: Option<&RunLanes>,
        budget: Option<&[(i64, ErrorBudget)]>,
        layout: Layout,
    ) -> LineUp {
        let axis = layout.axis(frame.stretch);
        let mut lanes =
            vec![happenings(frame, &axis, happened), visitor_lane(frame, &axis, visitors)];
        let mut top: f64 = lanes.iter().map(|l| l.height).sum();
        for told in happened.said {
            let lane = said_lane(frame, &axis, told, top);
            top += lane.height;
            lanes.push(lane);
        }
        let mut bars_say = String::new();
        if let Some(played) = played {
            let slots = frame.stretch.seconds() / played.every_s.max(1);
            let most = layout.most_bars;
            let a_bar_s = if slots > most {
                frame.stretch.bucket_seconds(most).max(played.every_s)
            } else {
                0
            };
            if a_bar_s > 0 {
                bars_say = format!(
                    "Each bar stands for the runs of {}: its height is their median.",
                    length_text(a_bar_s as f64 * 1000.0)
                );
            }
            let lanes_of = Lanes { frame, axis: &axis, played, by_country, a_bar_s };
            for here in &played.here {
                let lane = lanes_of.lane(here, top);
                top += lane.height;
                lanes.push(lane);
            }
        }
        if let Some(budget) = budget.filter(|b| !b.is_empty()) {
            lanes.push(budget_lane(&axis, budget, top));
        }
        // Patterns are defined once a page: an svg that is not shown defines none.
        LineUp::laid_out(frame, layout, lanes, happened.maintenance, bars_say, !layout.is_narrow())
    }
}

fn stack_lane(axis: &Axis, stack: &Stack<'_>, top: f64) -> Lane {
    let mut lane = Lane::new(stack.title, stack.sub.clone(), top, 132.0);
    let (plot_top, base) = (lane.top + 8.0, lane.base());
    let y =
        |value: f64| base - (base - plot_top) * (value / stack.top.max(f64::MIN_POSITIVE)).min(1.0);
    let x =
        |i: usize| axis.x(at_second(stack.from_s + i as i64 * stack.bucket_s + stack.bucket_s / 2));
    lane.scale.clone_from(&stack.scale);
    let mut below = vec![0.0; stack.known.len()];
    for layer in &stack.layers {
        let above: Vec<f64> = below.iter().zip(&layer.values).map(|(b, v)| b + v).collect();
        // An area for each run of known buckets.
        let mut area = String::new();
        let mut begun = None;
        for i in 0..=stack.known.len() {
            let known = stack.known.get(i) == Some(&true);
            match (known, begun) {
                (true, None) => begun = Some(i),
                (false, Some(from)) => {
                    let points: Vec<(f64, f64, f64)> =
                        (from..i).map(|i| (x(i), y(above[i]), y(below[i]))).collect();
                    area += &band(&points);
                    begun = None;
                }
                _ => {}
            }
        }
        lane.areas.push(Drawn::new(&layer.class, area));
        // The name stands where its layer is thickest.
        let thickest = (0..stack.known.len())
            .filter(|i| stack.known[*i] && (axis.left + 60.0..axis.right() - 60.0).contains(&x(*i)))
            .max_by(|a, b| layer.values[*a].total_cmp(&layer.values[*b]));
        if let Some(i) = thickest.filter(|i| y(below[*i]) - y(above[*i]) > 13.0) {
            let middle = (y(below[i]) + y(above[i])) / 2.0 + 4.0;
            lane.names.push(Name { x: x(i), y: middle, name: layer.name.clone() });
        }
        below = above;
    }
    lane.reads =
        reads((0..stack.known.len()).filter(|i| stack.known[*i]).map(|i| {
            (stack.from_s + i as i64 * stack.bucket_s + stack.bucket_s / 2, (stack.says)(i))
        }));
    lane
}

/// The middle of a bucket in seconds, and both values there.
type Pair = (i64, Option<f64>, Option<f64>);

/// Two courses of the same thing on one scale.
pub struct Compared<'a> {
    pub title: &'a str,
    pub sub: String,
    /// Ours and theirs, in milliseconds.
    pub points: Vec<Pair>,
}

fn compared_lane(axis: &Axis, compared: &Compared<'_>, top: f64) -> Lane {
    let mut lane = Lane::new(compared.title, compared.sub.clone(), top, 92.0);
    let (plot_top, base) = (lane.top + 8.0, lane.base());
    let all = compared.points.iter().flat_map(|(_, a, b)| [*a, *b]).flatten();
    let top_ms = round_up(all.fold(1.0, f64::max) * 1.1);
    let y = |ms: f64| base - (base - plot_top) * (ms / top_ms).min(1.0);
    lane.scale =
        format!("{} s", format::seconds(top_ms).trim_end_matches('0').trim_end_matches('.'));
    let course = |pick: fn(&Pair) -> Option<f64>| {
        line(compared.points.iter().map(|p| pick(p).map(|ms| (axis.x(at_second(p.0)), y(ms)))))
    };
    lane.lines.push(Drawn::new("ours-line", course(|p| p.1)));
    lane.lines.push(Drawn::new("theirs-line", course(|p| p.2)));
    let seconds =
        |ms: Option<f64>| ms.map_or(NO_DATA.into(), |ms| format!("{} s", format::seconds(ms)));
    let says = |p: &Pair| (p.0, format!("here {}, there {}", seconds(p.1), seconds(p.2)));
    lane.reads = reads(compared.points.iter().filter(|p| p.1.or(p.2).is_some()).map(says));
    lane
}

/// The lane that tells what happened.
const EVENTS: &str = "Events";

fn happenings(frame: &Frame, axis: &Axis, happened: &Happened<'_>) -> Lane {
    let mut lane = Lane::new(EVENTS, "releases, incidents".into(), 0.0, 40.0);
    let pins = frame.pins(happened.markers, axis);
    let next: Vec<f64> = pins.iter().skip(1).map(|pin| pin.x).collect();
    let flag = |(i, pin): (usize, Pin)| {
        // A label that would leave the lane, or lie on the next one, stands left of its flag.
        let room = next.get(i).copied().unwrap_or(axis.right()) - pin.x;
        let is_left = room < 20.0 + 6.6 * pin.says.chars().count() as f64;
        Flag { pin, is_left }
    };
    lane.markers = pins.into_iter().enumerate().map(flag).collect();
    lane.windows = drawn_windows(happened.maintenance, axis);
    lane.incidents = drawn_incidents(&frame.incidents, &frame.base, frame.now, axis);
    lane
}

fn said_lane(frame: &Frame, axis: &Axis, told: &Told, top: f64) -> Lane {
    let mut lane =
        Lane::new(&told.dependency.name, format!("says {}", told.state.word()), top, 38.0);
    let zone = &frame.site.zone;
    lane.said = said_parts(told, axis, zone);
    lane.reads = reads(told.course.iter().flat_map(|(stretch, state)| {
        let says = format!("says {}", state.word());
        [(stretch.from.as_second(), says.clone()), (stretch.to.as_second() - 1, says)]
    }));
    lane
}

fn visitor_lane(frame: &Frame, axis: &Axis, views: &Views) -> Lane {
    let all = views.all();
    let p75 = pooled::p75(&all, Vital::Lcp);
    let sub = format!("{} page views", format::thousands(all.page_views));
    let mut lane = Lane::new("Visitors, LCP p75", sub, 40.0, 84.0);
    let limit = Vital::Lcp.thresholds().0;
    lane.figure = format::vital(Vital::Lcp, &p75);
    lane.figure_tone = if p75.value.is_some_and(|v| v > limit) { "strained" } else { "within" };
    let half = SignedDuration::from_secs(views.bucket_s / 2);
    struct Point {
        x: f64,
        at_s: i64,
        views: u64,
        p50: f64,
        p75: f64,
        p90: f64,
        n: u64,
    }
    let points: Vec<Point> = views
        .buckets(None)
        .into_iter()
        .filter_map(|(bucket, pool)| {
            let m = rated(&pool, Vital::Lcp);
            let value = |p: f64| m.at(p).value;
            let x = axis.x(at_second(bucket) + half);
            (axis.left..=axis.right()).contains(&x).then_some(())?;
            // Half a bucket is no bucket: its few page views would draw a spike.
            is_whole(bucket, views.bucket_s, frame.past()).then_some(())?;
            Some(Point {
                x,
                at_s: bucket,
                views: pool.page_views,
                p50: value(0.5)?,
                p75: value(0.75)?,
                p90: value(0.9)?,
                n: m.samples(),
            })
        })
        .collect();
    let top_ms = round_up(points.iter().map(|p| p.p75 * 1.25).fold(limit * 1.15, f64::max));
    let (plot_top, base) = (lane.top + 6.0, lane.base() - 16.0);
    let y = |ms: f64| base - (base - plot_top) * (ms / top_ms).min(1.0);
    lane.scale =
        format!("{} s", format::seconds(top_ms).trim_end_matches('0').trim_end_matches('.'));
    lane.budget = Some(Limit { y: y(limit), says: format!("budget {:.1} s", limit / 1000.0) });
    let apart = |a: &Point, b: &Point| b.at_s - a.at_s > views.bucket_s * 3 / 2;
    let pieces: Vec<&[Point]> = points.chunk_by(|a, b| !apart(a, b)).collect();
    let band = pieces.iter().map(|piece| {
        let edges: Vec<(f64, f64, f64)> = piece.iter().map(|p| (p.x, y(p.p90), y(p.p50))).collect();
        band(&edges)
    });
    lane.areas.push(Drawn::new("visitors-band", band.collect::<String>()));
    let course: Vec<(i64, f64, f64)> = points.iter().map(|p| (p.at_s, p.x, y(p.p75))).collect();
    lane.lines.push(Drawn::new("visitors-line", line(connected(&course, views.bucket_s, axis))));
    let most = points.iter().map(|p| p.views).max().unwrap_or(1).max(1) as f64;
    let width =
        (axis.width * views.bucket_s as f64 / frame.stretch.seconds() as f64 * 0.8).max(1.0);
    lane.bars = points
        .iter()
        .map(|p| {
            let h = 14.0 * p.views as f64 / most;
            Bar {
                x: p.x - width / 2.0,
                y: lane.top + lane.height - 3.0 - h,
                w: width,
                h,
                outcome: "volume",
                href: String::new(),
                says: String::new(),
            }
        })
        .collect();
    lane.reads = reads(points.iter().map(|p| {
        (p.at_s + views.bucket_s / 2, format!("{} · {} views", Vital::Lcp.text(p.p75), p.n))
    }));
    lane
}

/// What lanes of locations have in common.
struct Lanes<'a> {
    frame: &'a Frame,
    axis: &'a Axis,
    played: &'a RunLanes,
    by_country: Option<&'a Views>,
    /// What a bar stands for, in seconds; 0: for one run.
    a_bar_s: i64,
}

/// How high something stands in a lane, and what its scale reaches to.
struct Height {
    plot_top: f64,
    base: f64,
    top_ms: f64,
}

impl Height {
    fn y(&self, ms: f64) -> f64 {
        self.base - (self.base - self.plot_top) * (ms / self.top_ms).min(1.0)
    }

    /// Of a bar; what took no time that means anything has one height.
    fn bar(&self, outcome: Outcome, ms: Option<f64>) -> f64 {
        match (outcome, ms) {
            (Outcome::Failed | Outcome::Unmeasured, _) | (_, None) => 12.0,
            (_, Some(ms)) => self.base - self.y(ms),
        }
    }
}

impl Lanes<'_> {
    fn lane(&self, here: &Here, top: f64) -> Lane {
        let (played, tally) = (self.played, here.runs.tally());
        let mut lane = Lane::new(&here.location.name, here.location.kind.clone(), top, 44.0);
        let promised = played.promised.unwrap_or(1.0);
        lane.figure = format::percent(tally.availability(), 1, Some(promised));
        lane.figure_tone = match tally.availability() {
            None => "nodata",
            Some(a) if a < promised => "broken",
            _ => "within",
        };
        lane.note = [(tally.slow, "slow"), (tally.unmeasured, "unmeasured")]
            .into_iter()
            .filter(|(n, _)| *n > 0)
            .map(|(n, word)| format!("{n} {word}"))
            .collect::<Vec<_>>()
            .join(", ");
        // Scaled to what is usual here, so that a difference fills the lane; the rare giant is cut.
        let top_ms = round_up(here.nearly_longest_ms().unwrap_or(1_000.0) * 1.12);
        lane.scale =
            format!("{} s", format::seconds(top_ms).trim_end_matches('0').trim_end_matches('.'));
        let height = Height { plot_top: lane.top + 5.0, base: lane.base(), top_ms };
        let budget = played.budget_ms.filter(|b| *b <= top_ms);
        lane.budget = budget.map(|b| Limit { y: height.y(b), says: String::new() });
        if let Some(views) = self.by_country {
            let country = self.country_line(views, &here.location.country, &height);
            lane.lines.push(Drawn::new("region-line", country));
        }
        let (bars, read): (Vec<Bar>, Vec<(i64, String)>) = match self.a_bar_s {
            0 => here.runs.drawn().map(|(r, c)| self.run(here, r, c, &height)).unzip(),
            s => here.bars(s).iter().map(|b| self.merged(here, b, &height)).unzip(),
        };
        (lane.bars, lane.reads) = (bars, reads(read));
        lane
    }

    /// Visitors of the location's country, on a scale of their own.
    fn country_line(&self, views: &Views, country: &str, height: &Height) -> String {
        let points = views.course(Some(country), Vital::Lcp, 0.75, self.frame.past());
        let points: Vec<(i64, f64, f64)> = points
            .into_iter()
            .map(|p| (p.middle_s, self.axis.x(at_second(p.middle_s)), p.value))
            .filter(|(_, x, _)| (self.axis.left..=self.axis.right()).contains(x))
            .collect();
        let most = points.iter().map(|(_, _, v)| *v).fold(1.0, f64::max);
        let y = |v: f64| height.base - (height.base - height.plot_top) * 0.9 * v / most;
        let points: Vec<_> = points.into_iter().map(|(at, x, v)| (at, x, y(v))).collect();
        line(connected(&points, views.bucket_s, self.axis))
    }

    /// So many seconds as a width, with a gap to the next.
    fn width(&self, seconds: i64, share: f64) -> f64 {
        let all = self.frame.stretch.seconds() as f64;
        (self.axis.width * seconds as f64 / all * share).clamp(2.0, 9.0)
    }

    /// A bar that stands for one run, and what the cursor reads there.
    fn run(&self, here: &Here, r: &Run, counts: bool, height: &Height) -> (Bar, (i64, String)) {
        let zone = &self.frame.site.zone;
        let (word, through) = (r.outcome.word(), r.outcome.got_through());
        let took = format!("{} s", format::seconds(r.duration_ms));
        let mut says = format!("{} {}: {word}", format::clock(r.due_at, zone), here.location.name);
        if through {
            says += &format!(", {took}");
        }
        if let Some(trouble) = &r.trouble {
            says += &format!(". {trouble}");
        }
        let short = if through { took } else { word.into() };
        let read = if counts { short } else { format!("{short}, not counted") };
        let w = self.width(self.played.every_s, 0.62);
        let h = height.bar(r.outcome, Some(r.duration_ms));
        let bar = Bar {
            x: self.axis.x(r.due_at) - w / 2.0,
            y: height.base - h,
            w,
            h,
            outcome: if counts { word } else { "left-out" },
            href: self.frame.run_link(&r.id),
            says,
        };
        (bar, (r.due_at.as_second(), read))
    }

    /// A bar that stands for several runs, and what the cursor reads there.
    fn merged(&self, here: &Here, b: &bars::Bar<&Run>, height: &Height) -> (Bar, (i64, String)) {
        let middle = b.median_ms.map_or(NO_DATA.into(), |ms| format!("{} s", format::seconds(ms)));
        let trouble = match (b.failed, b.slow) {
            (0, 0) => String::new(),
            (0, slow) => format!(" · {slow} slow"),
            (failed, _) => format!(" · {failed} failed"),
        };
        let at = format::day_clock(at_second(b.from_s), &self.frame.site.zone);
        let (place, n) = (&here.location.name, b.runs);
        let at_s = b.from_s + self.a_bar_s / 2;
        let w = self.width(self.a_bar_s, 0.66);
        let h = height.bar(b.outcome, b.median_ms);
        let bar = Bar {
            x: self.axis.x(at_second(at_s)) - w / 2.0,
            y: height.base - h,
            w,
            h,
            outcome: b.outcome.word(),
            href: self.frame.run_link(&b.shown.id),
            says: format!("{at} {place}: {n} runs, median {middle}{trouble}"),
        };
        (bar, (at_s, format!("{middle}{trouble}")))
    }
}

fn budget_lane(axis: &Axis, budget: &[(i64, ErrorBudget)], top: f64) -> Lane {
    let last = &budget[budget.len() - 1].1;
    let mut lane = Lane::new("Error budget left", String::new(), top, 50.0);
    let left = last.left_share().unwrap_or(0.0);
    lane.figure = format::percent(Some(left.max(0.0)), 0, None);
    lane.figure_tone = tone(Standing::of_error_budget(Some(left)));
    lane.note = if left < 0.0 {
        format!("overspent by {}", length_text(-last.left_ms()))
    } else {
        format!("{} of {}", length_text(last.left_ms()), length_text(last.allowed_ms()))
    };
    let (plot_top, base) = (lane.top + 7.0, lane.base());
    let y = |share: f64| base - (base - plot_top) * share.clamp(0.0, 1.0);
    let points: Vec<(f64, f64)> = budget
        .iter()
        .map(|(s, b)| (axis.x(at_second(*s)), y(b.left_share().unwrap_or(0.0))))
        .filter(|(x, _)| *x <= axis.right() + 1.0)
        .collect();
    lane.areas.push(Drawn::new(
        "budget-area",
        band(&points.iter().map(|(x, y)| (*x, *y, base)).collect::<Vec<_>>()),
    ));
    lane.lines.push(Drawn::new("budget-line", line(points.iter().map(|p| Some(*p)))));
    lane.scale = "100 %".into();
    lane.reads = reads(budget.iter().map(|(s, b)| {
        let left = b.left_ms();
        (
            *s,
            if left < 0.0 {
                format!("over by {}", length_text(-left))
            } else {
                format!("{} left", length_text(left))
            },
        )
    }));
    lane
}

fn reads(values: impl IntoIterator<Item = (i64, String)>) -> String {
    serde_json::to_string(&values.into_iter().collect::<Vec<_>>()).unwrap_or_else(|_| "[]".into())
}

#[cfg(test)]
mod tests {
    use super::*;
    use cadentis_core::goal::Score;
    use proptest::prelude::*;

    const DAY_S: i64 = 86_400;

    fn axis() -> Axis {
        Layout::WIDE.axis(Stretch { from: at_second(0), to: at_second(DAY_S) })
    }

    /// What is left of a promise of 99 % over a day, when so many of a hundred were bad by then.
    fn left(passed_s: i64, bad: u64) -> (i64, ErrorBudget) {
        let score = Score { good: 100 - bad, bad, ..Score::default() };
        let day_ms = DAY_S as f64 * 1_000.0;
        let passed_ms = passed_s as f64 * 1_000.0;
        (passed_s, ErrorBudget { promised: 0.99, window_ms: day_ms, passed_ms, score })
    }

    #[test]
    fn an_error_budget_is_told_by_what_is_left_of_it_or_by_how_much_it_was_overspent() {
        let whole = budget_lane(&axis(), &[left(0, 0), left(DAY_S / 2, 0)], 10.0);
        assert_eq!((whole.figure.as_str(), whole.figure_tone), ("100 %", "within"));
        assert_eq!(whole.note, "14 min 24 s of 14 min 24 s");
        let over = budget_lane(&axis(), &[left(0, 0), left(DAY_S / 2, 4)], 10.0);
        assert_eq!((over.figure.as_str(), over.figure_tone), ("0 %", "broken"));
        assert!(over.note.starts_with("overspent by "), "{}", over.note);
        let read: Vec<(i64, String)> = serde_json::from_str(&over.reads).unwrap();
        assert_eq!(read.iter().map(|r| r.0).collect::<Vec<_>>(), [0, DAY_S / 2]);
        assert!(read[0].1.ends_with(" left") && read[1].1.starts_with("over by "), "{read:?}");
    }

    #[test]
    fn lanes_of_a_phone_are_named_above_and_those_of_a_desk_on_their_left() {
        let stretch = Stretch { from: at_second(0), to: at_second(DAY_S) };
        let (wide, narrow) = (Layout::WIDE.axis(stretch), Layout::NARROW.axis(stretch));
        assert!(!Layout::WIDE.is_narrow() && Layout::NARROW.is_narrow());
        assert!(wide.left > 100.0 && wide.right() < WIDTH);
        assert_eq!((narrow.left, narrow.right()), (0.0, 366.0));
    }

    proptest! {
        #[test]
        fn a_bar_stays_inside_its_lane_and_what_took_longer_is_no_lower(
            top in 1.0..60_000.0f64, a in 0.0..90_000.0f64, b in 0.0..90_000.0f64,
        ) {
            let height = Height { plot_top: 5.0, base: 40.0, top_ms: top };
            let bar = |ms| height.bar(Outcome::Passed, Some(ms));
            for ms in [a, b] {
                prop_assert!((0.0..=35.0).contains(&bar(ms)));
                prop_assert!((5.0..=40.0).contains(&height.y(ms)));
            }
            prop_assert!(a > b || bar(a) <= bar(b));
            // What failed, and what was not measured, says nothing by its height.
            prop_assert_eq!(height.bar(Outcome::Failed, Some(a)), height.bar(Outcome::Failed, Some(b)));
            prop_assert_eq!(height.bar(Outcome::Unmeasured, None), 12.0);
        }

        #[test]
        fn what_the_cursor_reads_is_read_back_as_it_was_whatever_the_texts_hold(
            values in prop::collection::vec((any::<i64>(), ".{0,12}"), 0..6),
        ) {
            let back: Vec<(i64, String)> = serde_json::from_str(&reads(values.clone())).unwrap();
            prop_assert_eq!(back, values);
        }
    }
}
