//! How many requests a token may send in a minute, at this server.

use std::collections::HashMap;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use uuid::Uuid;

/// Requests of one token within a minute; said in the description of the API.
pub const A_MINUTE: u32 = 600;
const MINUTE: Duration = Duration::from_secs(60);

/// Counts the requests of each token.
#[derive(Clone, Default)]
pub struct Pace(Arc<Mutex<HashMap<Uuid, (Instant, u32)>>>);

/// What is left to a token.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Left {
    /// Whether this request may go on.
    pub is_within: bool,
    /// Requests that are left until the minute is over.
    pub remaining: u32,
    /// Seconds until then, rounded up.
    pub reset_s: u64,
}

impl Pace {
    /// Counts one request of a token.
    pub fn take(&self, token: Uuid, now: Instant) -> Left {
        let Ok(mut counts) = self.0.lock() else {
            return Left { is_within: true, remaining: A_MINUTE, reset_s: 60 };
        };
        // Tokens that were not seen for a minute are not worth their place.
        counts.retain(|_, (begun, _)| now.duration_since(*begun) < MINUTE);
        let (begun, taken) = counts.entry(token).or_insert((now, 0));
        let is_within = *taken < A_MINUTE;
        *taken = (*taken + 1).min(A_MINUTE);
        let over = MINUTE.saturating_sub(now.duration_since(*begun));
        let reset_s = over.as_secs() + u64::from(over.subsec_nanos() > 0);
        Left { is_within, remaining: A_MINUTE - *taken, reset_s }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_token_that_asks_too_often_waits_for_the_minute_to_end_and_others_do_not() {
        let (pace, begun) = (Pace::default(), Instant::now());
        let (busy, calm) = (Uuid::from_u128(1), Uuid::from_u128(2));
        for nth in 1..=A_MINUTE {
            let left = pace.take(busy, begun);
            assert_eq!(left, Left { is_within: true, remaining: A_MINUTE - nth, reset_s: 60 });
        }
        let later = begun + Duration::from_millis(20_500);
        let left = pace.take(busy, later);
        assert_eq!(left, Left { is_within: false, remaining: 0, reset_s: 40 });
        assert!(pace.take(calm, later).is_within);
        assert!(pace.take(busy, begun + MINUTE).is_within, "the next minute is a new one");
    }
}
