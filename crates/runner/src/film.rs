//! What was to be seen while a run was played: the browser sends a picture whenever what it shows has changed.

use serde_json::{Value, json};
use std::sync::{Arc, Mutex};
use std::time::Duration;
use thirtyfour::bidi::BiDi;
use tokio::time::Instant;

/// The next picture is asked for after this: a page that moves all the time has a picture at least every quarter of a
/// second, and its browser is not busy with pictures only.
const PACE: Duration = Duration::from_millis(100);
/// No step keeps more pictures than this.
const LONGEST: usize = 40;

/// Pictures as they come: the moment at which each was shown (milliseconds since 1970) and a data URL.
#[derive(Debug, Clone)]
pub struct Film {
    frames: Arc<Mutex<Vec<(f64, String)>>>,
    /// Pictures are scaled down to this many pixels.
    width: u32,
}

impl Film {
    pub fn of_width(width: u32) -> Film {
        Film { frames: Arc::default(), width }
    }

    pub fn newest(&self) -> Option<String> {
        self.frames.lock().ok()?.last().map(|(_, picture)| picture.clone())
    }

    /// Takes the pictures that were shown since then; what is older shows the step before and goes.
    pub fn take_since(&self, from: f64) -> Vec<(f64, String)> {
        let taken = self.frames.lock().map(|mut f| std::mem::take(&mut *f)).unwrap_or_default();
        thinned(taken.into_iter().filter(|(at, _)| *at >= from).collect(), LONGEST)
    }

    /// The command that begins it in a window `size` pixels wide and high.
    pub(crate) fn beginning(&self, size: (u32, u32)) -> Value {
        let height = f64::from(self.width) * f64::from(size.1) / f64::from(size.0.max(1));
        json!({ "format": "jpeg", "quality": 50, "maxWidth": self.width, "maxHeight": height.ceil() as u32 })
    }

    /// Takes one event of the browser's and says that it was taken, in time for the next.
    pub(crate) async fn hear(&self, bidi: &BiDi, event: &Value, last: &mut Instant) {
        let frame = &event["params"];
        let at = frame["metadata"]["timestamp"].as_f64().map(|s| s * 1000.0);
        if let (Some(at), Some(data), Ok(mut frames)) =
            (at, frame["data"].as_str(), self.frames.lock())
        {
            frames.push((at, format!("data:image/jpeg;base64,{data}")));
        }
        tokio::time::sleep_until(*last + PACE).await;
        *last = Instant::now();
        let taken = json!({
            "method": "Page.screencastFrameAck", "params": { "sessionId": frame["sessionId"] }, "session": event["session"],
        });
        // Of a window that has closed meanwhile nothing more is wanted.
        let _ = bidi.send_raw("goog:cdp.sendCommand", taken).await;
    }
}

/// At most so many of them, spread evenly, the first and the last among them.
fn thinned<T>(all: Vec<T>, most: usize) -> Vec<T> {
    let (n, most) = (all.len(), most.max(2));
    if n <= most {
        return all;
    }
    let mut wanted = (0..most).map(|i| i * (n - 1) / (most - 1)).peekable();
    let kept = all.into_iter().enumerate().filter(|(i, _)| wanted.next_if_eq(i).is_some());
    kept.map(|(_, frame)| frame).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn a_film_that_is_too_long_keeps_its_ends_and_its_order(n in 0usize..500, most in 2usize..60) {
            let kept = thinned((0..n).collect(), most);
            prop_assert_eq!(kept.len(), n.min(most));
            prop_assert!(kept.is_sorted());
            prop_assert_eq!(kept.first().copied(), (n > 0).then_some(0));
            prop_assert_eq!(kept.last().copied(), n.checked_sub(1));
        }
    }
}
