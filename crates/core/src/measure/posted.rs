//! Measures of what is posted, at moments.

use super::state_level;
use super::windowed::Moment;
use crate::dependency::{self, Post, State};
use jiff::Timestamp;

/// The state of a dependency at these moments, from posts in order of time.
pub fn of_dependency(posts: &[Post], moments: &[Timestamp]) -> Vec<Moment> {
    let told = |at: &Timestamp| {
        let (state, post, _) = dependency::at(posts, *at);
        let known = state != State::Unknown;
        let value = Some(state_level(state));
        Moment { at: *at, value, samples: u64::from(known && post.is_some()), places: 0 }
    };
    moments.iter().map(told).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::calendar::stretch::at_second;

    #[test]
    fn what_is_posted_is_told_until_it_expires() {
        let post = |second: i64, state, minutes: i64| Post {
            at: at_second(second),
            state,
            says: String::new(),
            link: String::new(),
            expires_at: at_second(second + minutes * 60),
            author: "x".into(),
        };
        let posts = [post(60, State::Degraded, 10), post(300, State::Ok, 5)];
        let moments = [0, 60, 290, 300, 599, 600].map(at_second);
        let told = of_dependency(&posts, &moments);
        let values: Vec<_> = told.iter().map(|m| (m.value.unwrap(), m.samples)).collect();
        assert_eq!(values, [(1.0, 0), (2.0, 1), (2.0, 1), (0.0, 1), (0.0, 1), (1.0, 0)]);
    }
}
