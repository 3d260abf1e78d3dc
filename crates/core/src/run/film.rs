//! Which picture of a film shows a moment.

/// A picture's moment is told by the frame it came from, a paint's by its own: they may be one frame apart.
const FRAME_MS: f64 = 17.0;

/// The first picture on which a moment is past; the last one when the film ends before. Pictures stand in order of
/// their moments.
pub fn first_showing(pictures: &[f64], moment_ms: f64) -> Option<usize> {
    let last = pictures.len().checked_sub(1)?;
    Some(pictures.iter().position(|at| *at + FRAME_MS >= moment_ms).unwrap_or(last))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_moment_is_on_the_first_picture_after_it() {
        let film = [30.0, 180.0, 420.0];
        let on = |moment| first_showing(&film, moment);
        assert_eq!((on(0.0), on(41.0), on(200.0), on(437.0)), (Some(0), Some(0), Some(2), Some(2)));
        assert_eq!(on(2_000.0), Some(2), "the film ended before");
        assert_eq!(first_showing(&[], 5.0), None);
    }
}
