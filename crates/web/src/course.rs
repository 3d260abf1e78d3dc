//! One measure over time, drawn large: its line, levels across it, and times that stand out.

use crate::draw::{Axis, band, connected, line, round_up, ticks};
use crate::format;
use crate::frame::{Frame, WIDTH, drawn_windows};
use crate::view::{Mark, Pin, Window};
use cadentis_answers::kept::LeftOut;
use cadentis_core::calendar::Stretch;
use cadentis_core::calendar::stretch::at_second;
use cadentis_core::measure::{Unit, Worse};

/// A measure over time, ready to draw on 1248 units.
pub struct Chart {
    pub from_s: i64,
    pub to_s: i64,
    pub title: String,
    pub sub: String,
    pub ticks: Vec<Mark>,
    pub pins: Vec<Pin>,
    /// Maintenance.
    pub out: Vec<Window>,
    /// Times that stand out: openings of an alert.
    pub spans: Vec<Span>,
    pub levels: Vec<Level>,
    /// What is usual, as an area.
    pub usual: String,
    pub line: String,
    /// What stands at the top and at the bottom of the scale.
    pub top: String,
    pub bottom: String,
    /// What is read at the cursor.
    pub reads: String,
}

/// A time that stands out.
pub struct Span {
    pub tone: &'static str,
    pub at: Window,
}

/// A level across the chart.
pub struct Level {
    pub y: f64,
    /// Where its words stand, moved apart from those of other levels.
    pub text_y: f64,
    pub says: String,
    pub tone: &'static str,
}

/// What is drawn.
#[derive(Default)]
pub struct Drawn<'a> {
    /// Second and value, in order of time.
    pub points: &'a [(i64, f64)],
    /// Samples of each point.
    pub samples: &'a [u64],
    /// Seconds between two points that belong together.
    pub bucket_s: i64,
    /// Levels: value, what it is, tone.
    pub levels: Vec<(f64, String, &'static str)>,
    /// Times that stand out: when, what, tone.
    pub spans: Vec<(Stretch, String, &'static str)>,
    /// What is usual at a second: from where to where.
    pub usual: &'a [(i64, f64, f64)],
    pub left_out: &'a [LeftOut],
}

pub const HEIGHT: f64 = 210.0;
const TOP: f64 = 10.0;
const BASE: f64 = 184.0;
/// Words of levels are at least so far apart.
const APART: f64 = 13.0;

/// From where to where the scale goes.
fn scale(drawn: &Drawn<'_>, unit: Unit, worse: Worse) -> (f64, f64) {
    let values = drawn.points.iter().map(|(_, v)| *v).chain(drawn.levels.iter().map(|l| l.0));
    let values: Vec<f64> = values.chain(drawn.usual.iter().map(|u| u.2)).collect();
    let most = values.iter().copied().fold(0.0, f64::max);
    let least = values.iter().copied().fold(f64::INFINITY, f64::min);
    match unit {
        // A share of what should be all of them is seen by what is missing.
        Unit::Share if worse == Worse::Below && most <= 1.0 && least > 0.5 => {
            (1.0 - round_up(((1.0 - least) * 1.2).max(0.001)).min(1.0), 1.0)
        }
        Unit::Share if most <= 1.0 => (least.min(0.0), round_up(most * 1.1).clamp(0.001, 1.0)),
        Unit::State => (0.0, 3.0),
        _ => (least.min(0.0), round_up(most * 1.1)),
    }
}

/// Draws a measure over a stretch.
pub fn chart(
    frame: &Frame,
    stretch: Stretch,
    (title, sub): (String, String),
    (unit, worse): (Unit, Worse),
    drawn: &Drawn<'_>,
) -> Chart {
    let axis = Axis { stretch, left: 196.0, width: WIDTH - 232.0 };
    let (low, high) = scale(drawn, unit, worse);
    let height = (high - low).max(f64::MIN_POSITIVE);
    let y = |v: f64| BASE - (BASE - TOP) * ((v - low) / height).clamp(0.0, 1.0);
    let places: Vec<_> =
        drawn.points.iter().map(|(at, v)| (*at, axis.x(at_second(*at)), y(*v))).collect();
    let read = |((at, value), samples): (&(i64, f64), &u64)| {
        (*at, format!("{} · {}", unit.text(*value), format::thousands(*samples)))
    };
    let reads: Vec<(i64, String)> = drawn.points.iter().zip(drawn.samples).map(read).collect();
    let mut levels: Vec<Level> = drawn
        .levels
        .iter()
        .map(|(value, says, tone)| Level {
            y: y(*value),
            text_y: y(*value) - 3.0,
            says: format!("{says} {}", unit.text(*value)),
            tone,
        })
        .collect();
    levels.sort_by(|a, b| b.y.total_cmp(&a.y));
    for nth in 1..levels.len() {
        let below = levels[nth - 1].text_y;
        levels[nth].text_y = levels[nth].text_y.min(below - APART);
    }
    let span = |(at, says, tone): &(Stretch, String, &'static str)| {
        let (x, w) = axis.window(at)?;
        Some(Span { tone, at: Window::new(x, w.max(2.0), says) })
    };
    let usual: Vec<Vec<(f64, f64, f64)>> = pieces(drawn.usual)
        .into_iter()
        .map(|piece| {
            let place =
                |(at, from, to): &(i64, f64, f64)| (axis.x(at_second(*at)), y(*to), y(*from));
            piece.iter().map(place).collect()
        })
        .collect();
    Chart {
        from_s: stretch.from.as_second(),
        to_s: stretch.to.as_second(),
        ticks: ticks(&axis, &frame.site.zone),
        pins: frame.pins(&frame.markers, &axis),
        out: drawn_windows(drawn.left_out, &axis),
        spans: drawn.spans.iter().filter_map(span).collect(),
        usual: usual.iter().map(|piece| band(piece)).collect(),
        line: line(connected(&places, drawn.bucket_s, &axis)),
        top: unit.text(high),
        bottom: unit.text(low),
        reads: serde_json::to_string(&reads).unwrap_or_default(),
        levels,
        title,
        sub,
    }
}

/// What is usual, parted where for a while nothing is known of it.
fn pieces(usual: &[(i64, f64, f64)]) -> Vec<&[(i64, f64, f64)]> {
    let steps = usual.windows(2).map(|pair| pair[1].0 - pair[0].0);
    let Some(step) = steps.min() else { return vec![usual] };
    usual.chunk_by(|a, b| b.0 - a.0 <= 2 * step).collect()
}

/// At most so many points of many: of each piece of time the worst, so that no moment of trouble is lost on the way to the
/// screen.
pub fn thinned(points: &[(i64, f64, u64)], most: usize, worse: Worse) -> Vec<(i64, f64, u64)> {
    let piece = points.len().div_ceil(most.max(1)).max(1);
    let worst = |piece: &[(i64, f64, u64)]| {
        piece.iter().copied().reduce(|a, b| if worse.is_beyond(b.1, a.1) { b } else { a })
    };
    points.chunks(piece).filter_map(worst).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn where_nothing_is_known_of_what_is_usual_nothing_is_drawn_of_it() {
        let at = |seconds: &[i64]| seconds.iter().map(|s| (*s, 1.0, 2.0)).collect::<Vec<_>>();
        let usual = at(&[0, 900, 1_800, 9_000, 9_900]);
        assert_eq!(pieces(&usual), [&usual[..3], &usual[3..]]);
        assert_eq!(pieces(&usual[..1]), [&usual[..1]]);
        assert!(pieces(&[]).concat().is_empty());
    }

    proptest! {
        #[test]
        fn every_value_and_level_lies_on_the_scale_and_no_share_beyond_all(
            values in prop::collection::vec(0.0..1.0f64, 1..20), level in 0.0..1.0f64, factor in prop::sample::select(vec![1.0, 90.0, 4e6]),
        ) {
            for (unit, worse) in [(Unit::Share, Worse::Below), (Unit::Share, Worse::Above), (Unit::Ms, Worse::Above)] {
                let factor = if unit == Unit::Share { 1.0 } else { factor };
                let points: Vec<(i64, f64)> = values.iter().enumerate().map(|(i, v)| (i as i64, v * factor)).collect();
                let drawn = Drawn { points: &points, levels: vec![(level * factor, "level".into(), "broken")], ..Drawn::default() };
                let (low, high) = scale(&drawn, unit, worse);
                let all = points.iter().map(|p| p.1).chain([level * factor]);
                for value in all {
                    prop_assert!(low <= value + 1e-9 && value <= high + 1e-9, "{unit:?} {low} {value} {high}");
                }
                prop_assert!(unit != Unit::Share || high <= 1.0 + 1e-9);
            }
        }
    }

    proptest! {
        #[test]
        fn of_many_points_the_worst_of_each_piece_is_left_and_none_is_made_up(
            values in prop::collection::vec(0.0..100.0f64, 0..300), most in 1..60usize, above in any::<bool>(),
        ) {
            let worse = if above { Worse::Above } else { Worse::Below };
            let points: Vec<(i64, f64, u64)> =
                values.iter().enumerate().map(|(i, v)| (i as i64 * 60, *v, 3)).collect();
            let thin = thinned(&points, most, worse);
            prop_assert!(thin.len() <= most && thin.is_empty() == points.is_empty());
            prop_assert!(thin.iter().all(|p| points.contains(p)));
            prop_assert!(thin.windows(2).all(|w| w[0].0 < w[1].0), "in order of time");
            let worst = |all: &[(i64, f64, u64)]| all.iter().map(|p| p.1).reduce(|a, b| worse.worst(a, b));
            prop_assert_eq!(worst(&thin), worst(&points), "no moment of trouble is lost");
        }
    }
}
