//! Which picture of a film shows a moment.

/// A picture's moment is when its frame was drawn, a paint's when it was presented: up to two frames of 60 Hz later
/// (seen with Chromium 156).
const PRESENTED_MS: f64 = 34.0;

/// The first picture on which a moment is past; the last one when the film ends before. Pictures stand in order of
/// their moments.
pub fn first_showing(pictures: &[f64], moment_ms: f64) -> Option<usize> {
    let last = pictures.len().checked_sub(1)?;
    Some(pictures.iter().position(|at| *at + PRESENTED_MS >= moment_ms).unwrap_or(last))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_moment_is_on_the_first_picture_after_it() {
        let film = [30.0, 180.0, 420.0];
        let on = |moment| first_showing(&film, moment);
        assert_eq!((on(0.0), on(61.0), on(215.0), on(437.0)), (Some(0), Some(0), Some(2), Some(2)));
        assert_eq!(on(2_000.0), Some(2), "the film ended before");
        assert_eq!(first_showing(&[], 5.0), None);
    }
}
