//! CLS and INP from the entries that a browser reports, as web-vitals computes them: the browser
//! tests hold both against that library on the same page.

use serde::Deserialize;

/// One `layout-shift` entry.
#[derive(Debug, Clone, Copy, PartialEq, Deserialize)]
pub struct Shift {
    /// When it happened, in milliseconds.
    pub start_ms: f64,
    /// How much it shifted.
    pub score: f64,
    /// Came within half a second of an input, so the visitor expected it.
    pub had_recent_input: bool,
}

/// The cumulative layout shift of entries in order of time: the largest sum over a session window.
/// A window goes on while the next shift comes less than 1 s after the last and less than 5 s after
/// the window's first; shifts caused by input are left out.
///
/// Source: web.dev/articles/cls (from memory).
pub fn layout_shift(shifts: &[Shift]) -> f64 {
    let (mut first, mut last, mut sum, mut most) = (f64::MIN, f64::MIN, 0.0, 0.0f64);
    for shift in shifts.iter().filter(|s| !s.had_recent_input) {
        if shift.start_ms - last < 1_000.0 && shift.start_ms - first < 5_000.0 {
            sum += shift.score;
        } else {
            first = shift.start_ms;
            sum = shift.score;
        }
        last = shift.start_ms;
        most = most.max(sum);
    }
    most
}

/// One `event` or `first-input` entry.
#[derive(Debug, Clone, Copy, PartialEq, Deserialize)]
pub struct Event {
    /// The same for all events of one press or tap; 0 for events that are no part of one.
    pub interaction: u64,
    /// How long until the next paint, in milliseconds.
    pub duration_ms: f64,
}

/// Interactions of which the longest one is not counted.
const PER_LEFT_OUT: u64 = 50;
/// No more than this many of the longest are looked at.
const LONGEST: usize = 10;

/// The interaction to next paint: the longest interaction, leaving out one in every fifty. An
/// interaction lasts as long as its longest event. `count` is how many interactions the page has
/// had, those too quick to be reported included. `None` without any.
///
/// Source: web.dev/articles/inp (from memory).
pub fn interaction_to_next_paint(events: &[Event], count: u64) -> Option<f64> {
    let mut longest: Vec<(u64, f64)> = Vec::new();
    for event in events.iter().filter(|e| e.interaction > 0) {
        match longest.iter_mut().find(|(id, _)| *id == event.interaction) {
            Some((_, held)) => *held = held.max(event.duration_ms),
            None => longest.push((event.interaction, event.duration_ms)),
        }
        longest.sort_by(|a, b| b.1.total_cmp(&a.1));
        longest.truncate(LONGEST);
    }
    let last = longest.len().checked_sub(1)?;
    longest.get(last.min((count / PER_LEFT_OUT) as usize)).map(|(_, ms)| *ms)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn shifts(of: &[(f64, f64)]) -> Vec<Shift> {
        of.iter()
            .map(|(start_ms, score)| Shift {
                start_ms: *start_ms,
                score: *score,
                had_recent_input: false,
            })
            .collect()
    }

    #[test]
    fn layout_shift_is_the_worst_session_window() {
        assert_eq!(layout_shift(&[]), 0.0);
        // A gap of a second begins a new window.
        assert!(
            (layout_shift(&shifts(&[(0.0, 0.1), (999.0, 0.1), (1_999.0, 0.15)])) - 0.2).abs()
                < 1e-9
        );
        // Five seconds after its first shift a window is full.
        let every_900: Vec<_> = (0..8).map(|i| (f64::from(i) * 900.0, 0.1)).collect();
        assert!((layout_shift(&shifts(&every_900)) - 0.6).abs() < 1e-9);
        // What follows an input was expected.
        let expected = Shift { start_ms: 10.0, score: 0.5, had_recent_input: true };
        assert!(
            (layout_shift(&[&shifts(&[(0.0, 0.1)])[..], &[expected]].concat()) - 0.1).abs() < 1e-9
        );
    }

    fn events(durations: &[f64]) -> Vec<Event> {
        durations
            .iter()
            .enumerate()
            .map(|(i, ms)| Event { interaction: 1 + i as u64, duration_ms: *ms })
            .collect()
    }

    #[test]
    fn one_interaction_in_fifty_is_left_out() {
        let all = events(&[400.0, 300.0, 200.0, 100.0]);
        assert_eq!(interaction_to_next_paint(&all, 4), Some(400.0));
        assert_eq!(interaction_to_next_paint(&all, 49), Some(400.0));
        assert_eq!(interaction_to_next_paint(&all, 50), Some(300.0));
        assert_eq!(interaction_to_next_paint(&all, 100), Some(200.0));
        // Fewer were long enough to be reported than are left out: the least of them.
        assert_eq!(interaction_to_next_paint(&all, 1_000), Some(100.0));
        assert_eq!(
            interaction_to_next_paint(&[Event { interaction: 0, duration_ms: 900.0 }], 3),
            None
        );
        // Pointer down, up and click of one tap.
        let tap = [(7, 24.0), (7, 160.0), (7, 40.0)]
            .map(|(interaction, duration_ms)| Event { interaction, duration_ms });
        assert_eq!(interaction_to_next_paint(&tap, 1), Some(160.0));
    }

    proptest! {
        #[test]
        fn the_order_of_events_does_not_matter(durations in prop::collection::vec(8.0..2_000.0f64, 1..9), count in 0u64..400, turn in 0usize..9) {
            let mut turned = events(&durations);
            let before = interaction_to_next_paint(&turned, count);
            let by = turn % turned.len();
            turned.rotate_left(by);
            prop_assert_eq!(interaction_to_next_paint(&turned, count), before);
        }
    }
}
