//! SVG made of numbers.

use crate::view::Mark;
use cadentis_core::calendar::Stretch;
use jiff::Timestamp;
use std::fmt::Write;

/// A horizontal time axis.
#[derive(Debug, Clone, Copy)]
pub struct Axis {
    pub stretch: Stretch,
    pub left: f64,
    pub width: f64,
}

impl Axis {
    pub fn x(&self, at: Timestamp) -> f64 {
        self.left + self.width * self.stretch.position(at).clamp(-0.01, 1.01)
    }

    pub fn right(&self) -> f64 {
        self.left + self.width
    }

    /// The part of a window that can be seen: its left edge and width.
    pub fn window(&self, window: &Stretch) -> Option<(f64, f64)> {
        let seen = window.common(&self.stretch)?;
        let x = self.x(seen.from);
        Some((x, (self.x(seen.to) - x).max(1.5)))
    }
}

/// A line through the points; a `None` interrupts it.
pub fn line(points: impl IntoIterator<Item = Option<(f64, f64)>>) -> String {
    let mut d = String::new();
    let mut pen_down = false;
    for point in points {
        match point {
            Some((x, y)) => {
                let _ = write!(d, "{}{x:.1} {y:.1}", if pen_down { "L" } else { "M" });
                pen_down = true;
            }
            None => pen_down = false,
        }
    }
    d
}

/// A moment (seconds since 1970), and where it is drawn.
pub type At = (i64, f64, f64);

/// Places of points that stand for buckets of so many seconds, with a break where nothing was known in between: a line
/// across hours without data would say that something was measured there. A point that stands alone becomes a dash.
pub fn connected(points: &[At], bucket_s: i64, axis: &Axis) -> Vec<Option<(f64, f64)>> {
    const DASH: f64 = 2.0;
    let mut all = Vec::with_capacity(points.len());
    let far = |a: Option<&At>, b: Option<&At>| match (a, b) {
        (Some(a), Some(b)) => b.0 - a.0 > bucket_s * 3 / 2,
        _ => true,
    };
    for (i, p) in points.iter().enumerate() {
        let (_, x, y) = *p;
        if x > axis.right() {
            break;
        }
        let before = i.checked_sub(1).and_then(|i| points.get(i));
        match (far(before, Some(p)), far(Some(p), points.get(i + 1))) {
            (true, true) => all.extend([None, Some((x - DASH, y)), Some((x + DASH, y))]),
            (true, false) => all.extend([None, Some((x, y))]),
            _ => all.push(Some((x, y))),
        }
    }
    all
}

/// The area between two lines over the same x.
pub fn band(points: &[(f64, f64, f64)]) -> String {
    if points.is_empty() {
        return String::new();
    }
    let there = line(points.iter().map(|(x, top, _)| Some((*x, *top))));
    let back = line(points.iter().rev().map(|(x, _, bottom)| Some((*x, *bottom))));
    format!("{there}L{}Z", &back[1..])
}

/// A round number at or above `value`: 1, 2, 2.5 or 5 times a power of ten.
pub fn round_up(value: f64) -> f64 {
    if value <= 0.0 {
        return 1.0;
    }
    let power = 10f64.powf(value.log10().floor());
    [1.0, 1.5, 2.0, 2.5, 3.0, 4.0, 5.0, 6.0, 8.0, 10.0]
        .into_iter()
        .map(|s| s * power)
        .find(|v| *v >= value * 0.999)
        .unwrap_or(value)
}

/// Positions and labels for the axis: about one every 90 units, on whole hours or days.
pub fn ticks(axis: &Axis, zone: &jiff::tz::TimeZone) -> Vec<Mark> {
    const STEPS_S: [i64; 12] =
        [300, 600, 900, 1_800, 3_600, 7_200, 10_800, 21_600, 43_200, 86_400, 172_800, 604_800];
    let most = axis.width / 88.0;
    let step = STEPS_S
        .into_iter()
        .find(|s| axis.stretch.seconds() as f64 / *s as f64 <= most)
        .unwrap_or(604_800);
    if step >= 86_400 {
        let days = axis.stretch.days(zone);
        let every = (step / 86_400) as usize;
        let label = |at: &Timestamp| at.to_zoned(zone.clone()).strftime("%a %-d").to_string();
        return days.iter().step_by(every).map(|at| Mark::new(axis.x(*at), label(at))).collect();
    }
    // Counted in local time, so that labels fall on whole local hours.
    let mut ticks = Vec::new();
    let mut second = axis.stretch.from.as_second().div_euclid(300) * 300;
    while second <= axis.stretch.to.as_second() {
        let at = cadentis_core::calendar::stretch::at_second(second);
        let local = at.to_zoned(zone.clone());
        let of_day = i64::from(local.hour()) * 3600 + i64::from(local.minute()) * 60;
        if of_day % step == 0 && at >= axis.stretch.from {
            let label =
                if of_day == 0 { local.strftime("%a %-d") } else { local.strftime("%H:%M") };
            ticks.push(Mark::new(axis.x(at), label.to_string()));
        }
        second += 300;
    }
    ticks
}

#[cfg(test)]
mod tests {
    use super::*;
    use cadentis_core::calendar::stretch::at_second;
    use jiff::tz::TimeZone;
    use proptest::prelude::*;

    fn axis(from: &str, to: &str) -> Axis {
        Axis { stretch: Stretch::parse(from, to).expect("a stretch"), left: 196.0, width: 1016.0 }
    }

    #[test]
    fn a_window_is_drawn_as_far_as_it_can_be_seen() {
        let a = axis("2026-11-22T00:00Z", "2026-11-22T10:00Z");
        let hours = |from: i64, to: i64| {
            let begin = a.stretch.from.as_second();
            Stretch { from: at_second(begin + from * 3600), to: at_second(begin + to * 3600) }
        };
        let (x, w) = a.window(&hours(-5, 5)).expect("half of it is seen");
        assert!((x - 196.0).abs() < 1e-6 && (w - 508.0).abs() < 1e-6);
        assert_eq!(a.window(&hours(11, 12)), None);
    }

    #[test]
    fn labels_stand_on_whole_local_hours_also_when_the_clocks_change() {
        // Oslo, 25 October 2026: 03:00 becomes 02:00 at 01:00 UTC (IANA tz database).
        let a = axis("2026-10-24T20:00Z", "2026-10-25T08:00Z");
        let labels: Vec<String> = ticks(&a, &TimeZone::get("Europe/Oslo").expect("a zone"))
            .into_iter()
            .map(|t| t.says)
            .collect();
        assert!(labels.iter().all(|l| l.ends_with(":00") || l.starts_with("Sun")), "{labels:?}");
        assert!(labels.contains(&"Sun 25".to_string()), "{labels:?}");
    }

    #[test]
    fn a_line_breaks_where_nothing_is_known_and_a_lone_point_is_seen() {
        let hour = 1_795_000_000 / 3_600 * 3_600;
        let stretch = Stretch { from: at_second(hour), to: at_second(hour + 36_000) };
        let axis = Axis { stretch, left: 0.0, width: 360.0 };
        let points: Vec<At> = [0, 1, 10, 20, 21, 900]
            .map(|n| hour + n * 600)
            .map(|at| (at, axis.x(at_second(at)), 5.0))
            .to_vec();
        let places = connected(&points, 600, &axis);
        let x: Vec<Option<f64>> = places.iter().map(|p| p.map(|(x, _)| x.round())).collect();
        let want = [
            None,
            Some(0.0),
            Some(6.0),
            None,
            Some(58.0),
            Some(62.0),
            None,
            Some(120.0),
            Some(126.0),
        ];
        assert_eq!(x, want);
    }

    #[test]
    fn a_line_is_interrupted_where_nothing_was_measured_and_scales_are_round() {
        assert_eq!(
            line([Some((0.0, 1.0)), None, Some((2.0, 3.0)), Some((4.0, 5.0))]),
            "M0.0 1.0M2.0 3.0L4.0 5.0"
        );
        for (value, want) in
            [(0.0, 1.0), (7.3, 8.0), (2_100.0, 2_500.0), (0.13, 0.15), (1_000.0, 1_000.0)]
        {
            assert!((round_up(value) - want).abs() < 1e-9, "{value}");
        }
    }

    fn points() -> impl Strategy<Value = Vec<(i64, f64, f64)>> {
        prop::collection::vec((1..9i64, 0.0..100.0f64), 0..40).prop_map(|steps| {
            let mut at = 0;
            let moved = |(step, y): (i64, f64)| {
                at += step * 60;
                (at, at as f64 / 10.0, y)
            };
            steps.into_iter().map(moved).collect()
        })
    }

    proptest! {
        #[test]
        fn a_line_goes_through_every_point_once_and_joins_only_neighbours(points in points()) {
            let axis = Axis { stretch: axis("2026-11-22T00:00Z", "2026-11-23T00:00Z").stretch, left: 0.0, width: 1e6 };
            let drawn = connected(&points, 60, &axis);
            // Each point is there, alone as a dash of two.
            let alone = |i: usize| {
                let far = |a: usize, b: usize| points[b].0 - points[a].0 > 90;
                (i == 0 || far(i - 1, i)) && (i + 1 == points.len() || far(i, i + 1))
            };
            let dashes = (0..points.len()).filter(|i| alone(*i)).count();
            prop_assert_eq!(drawn.iter().flatten().count(), points.len() + dashes);
            // As many pieces as there are gaps, and one.
            let gaps = points.windows(2).filter(|w| w[1].0 - w[0].0 > 90).count();
            let pieces = line(drawn).matches('M').count();
            prop_assert_eq!(pieces, if points.is_empty() { 0 } else { gaps + 1 });
        }

        #[test]
        fn a_scale_holds_its_value_and_wastes_less_than_half(value in (-6.0..9.0f64).prop_map(|e| 10f64.powf(e))) {
            let top = round_up(value);
            prop_assert!(top >= value * 0.999 && top <= value * 1.51, "{} for {}", top, value);
        }

        #[test]
        fn labels_of_an_axis_go_from_left_to_right_and_have_room(hours in 1..2_000i64, begin in 0..8_760i64, zone in 0..3usize) {
            let from = jiff::Timestamp::from_second(1_767_225_600 + begin * 3_600).unwrap();
            let stretch = Stretch { from, to: from + jiff::SignedDuration::from_hours(hours) };
            let axis = Axis { stretch, left: 40.0, width: 880.0 };
            let zone = TimeZone::get(["UTC", "Europe/Oslo", "America/St_Johns"][zone]).unwrap();
            let ticks = ticks(&axis, &zone);
            prop_assert!(ticks.iter().all(|t| (30.0..=930.0).contains(&t.x) && !t.says.is_empty()));
            // Where the clocks change an hour may be missing between two labels, never more.
            prop_assert!(ticks.windows(2).all(|w| w[1].x - w[0].x > 40.0), "{:?}", ticks);
            prop_assert!(ticks.len() <= 24, "{}", ticks.len());
        }

        #[test]
        fn a_window_is_seen_within_the_axis_or_not_at_all(from in -100..200i64, length in 1..200i64) {
            let axis = axis("2026-11-22T00:00Z", "2026-11-22T01:40Z");
            let at = |minutes: i64| axis.stretch.from + jiff::SignedDuration::from_mins(minutes);
            let window = Stretch { from: at(from), to: at(from + length) };
            let seen = axis.window(&window);
            prop_assert_eq!(seen.is_some(), from < 100 && from + length > 0);
            if let Some((x, width)) = seen {
                prop_assert!(x >= axis.left && x + width <= axis.right() + 1.5 && width >= 1.5);
            }
        }
    }
}
