//! Dependencies: services, hosts and suppliers that a site stands on, the states that others post of them, and what they
//! announce.

use crate::calendar::Stretch;
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};

/// How a dependency is, as whoever looks after it says.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum State {
    /// As it should be.
    Ok,
    /// Nobody has said, or what was said has expired.
    #[default]
    Unknown,
    /// It works badly.
    Degraded,
    /// It does not work.
    Down,
}

impl State {
    /// All of them, the best first.
    pub const ALL: [State; 4] = [State::Ok, State::Unknown, State::Degraded, State::Down];

    /// In one word.
    pub fn word(self) -> &'static str {
        match self {
            State::Ok => "ok",
            State::Unknown => "unknown",
            State::Degraded => "degraded",
            State::Down => "down",
        }
    }

    /// The one of this word.
    pub fn of_word(word: &str) -> Option<State> {
        State::ALL.into_iter().find(|state| state.word() == word)
    }

    /// Whether somebody says that it does not do as it should.
    pub fn is_trouble(self) -> bool {
        matches!(self, State::Degraded | State::Down)
    }
}

/// A state that was posted.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Post {
    /// When.
    pub at: Timestamp,
    /// What.
    pub state: State,
    /// In their words.
    pub says: String,
    /// Where more is found.
    pub link: String,
    /// Until when it is good: nobody stays ok by silence.
    pub expires_at: Timestamp,
    /// Who posted it.
    pub author: String,
}

/// What is said besides has at most so many characters.
pub const LONGEST_SAYS: usize = 500;
/// And a name.
pub const LONGEST_NAME: usize = 80;
/// A state is good for so many minutes, when whoever posts it does not say.
pub const USUAL_MINUTES: i64 = 60;
/// And for so many at most, a week.
pub const MOST_MINUTES: i64 = 7 * 24 * 60;
/// A site has so many dependencies at most.
pub const MOST_DEPENDENCIES: usize = 100;

/// The state in each part of a stretch, from posts in order of time: what expires becomes unknown.
pub fn course(posts: &[Post], within: Stretch) -> Vec<(Stretch, State)> {
    let mut parts: Vec<(Stretch, State)> = Vec::new();
    let mut add = |from: Timestamp, to: Timestamp, state: State| {
        let (from, to) = (from.max(within.from), to.min(within.to));
        if from >= to {
            return;
        }
        match parts.last_mut() {
            Some((stretch, held)) if *held == state && stretch.to == from => stretch.to = to,
            _ => parts.push((Stretch { from, to }, state)),
        }
    };
    let mut until = within.from;
    for (nth, post) in posts.iter().enumerate() {
        let next = posts.get(nth + 1).map_or(within.to, |next| next.at.max(post.at));
        add(until, post.at, State::Unknown);
        let ends = post.expires_at.min(next).max(post.at);
        add(post.at, ends, post.state);
        add(ends, next, State::Unknown);
        until = until.max(next);
    }
    add(until, within.to, State::Unknown);
    parts
}

/// The state at a moment, with the post that says so and since when it is so without a break.
pub fn at(posts: &[Post], now: Timestamp) -> (State, Option<&Post>, Option<Timestamp>) {
    let last = posts.iter().rev().find(|p| p.at <= now);
    let Some(last) = last.filter(|p| p.expires_at > now) else {
        return (State::Unknown, None, None);
    };
    let Some(first) = posts.first() else { return (State::Unknown, None, None) };
    let to = now + SignedDuration::from_secs(1);
    let parts = course(posts, Stretch { from: first.at, to });
    let since = parts.iter().rev().find(|(stretch, _)| stretch.contains(now)).map(|(s, _)| s.from);
    (last.state, Some(last), since)
}

/// What is announced.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Kind {
    /// Something does not work that nobody planned.
    Outage,
    /// Work that is planned.
    Planned,
    /// Something that will change, such as an end of a version.
    Advisory,
}

impl Kind {
    /// All of them.
    pub const ALL: [Kind; 3] = [Kind::Outage, Kind::Planned, Kind::Advisory];

    /// In one word.
    pub fn word(self) -> &'static str {
        match self {
            Kind::Outage => "outage",
            Kind::Planned => "planned",
            Kind::Advisory => "advisory",
        }
    }

    /// The one of this word.
    pub fn of_word(word: &str) -> Option<Kind> {
        Kind::ALL.into_iter().find(|kind| kind.word() == word)
    }
}

/// How far it has come.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Phase {
    /// It is to come.
    Announced,
    /// It goes on.
    Started,
    /// It comes at another time.
    Moved,
    /// It does not come.
    Cancelled,
    /// It is over.
    Ended,
}

impl Phase {
    /// All of them.
    pub const ALL: [Phase; 5] =
        [Phase::Announced, Phase::Started, Phase::Moved, Phase::Cancelled, Phase::Ended];

    /// In one word.
    pub fn word(self) -> &'static str {
        match self {
            Phase::Announced => "announced",
            Phase::Started => "started",
            Phase::Moved => "moved",
            Phase::Cancelled => "cancelled",
            Phase::Ended => "ended",
        }
    }

    /// The one of this word.
    pub fn of_word(word: &str) -> Option<Phase> {
        Phase::ALL.into_iter().find(|phase| phase.word() == word)
    }

    /// Whether nothing of it is to come.
    pub fn is_over(self) -> bool {
        matches!(self, Phase::Cancelled | Phase::Ended)
    }
}

/// What was announced, as it was last told.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Announcement {
    /// What whoever announces it calls it.
    pub subject: String,
    /// What kind of thing it is.
    pub kind: Kind,
    /// How far it has come.
    pub phase: Phase,
    /// What, in a few words.
    pub title: String,
    /// More of it.
    pub says: String,
    /// Where more is found.
    pub link: String,
    /// From when.
    pub from: Timestamp,
    /// Until when, where that is known.
    pub to: Option<Timestamp>,
}

/// What is to come is reminded of so long before.
pub const REMINDED: SignedDuration = SignedDuration::from_hours(24);

impl Announcement {
    /// Whether it goes on at a moment, by what was told.
    pub fn goes_on(&self, at: Timestamp) -> bool {
        let begun = self.phase == Phase::Started || self.from <= at;
        !self.phase.is_over() && begun && self.to.is_none_or(|to| at < to)
    }

    /// Whether it is soon to come.
    pub fn is_near(&self, at: Timestamp) -> bool {
        !self.phase.is_over() && at < self.from && self.from.duration_since(at) <= REMINDED
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::calendar::stretch::at_second;
    use proptest::prelude::*;

    fn post(at: i64, state: State, minutes: i64) -> Post {
        let at = at_second(at);
        let expires_at = at + SignedDuration::from_mins(minutes);
        Post { at, state, says: String::new(), link: String::new(), expires_at, author: "x".into() }
    }

    #[test]
    fn a_state_holds_until_the_next_or_until_it_expires_and_then_nothing_is_known() {
        let posts = [
            post(0, State::Ok, 60),
            post(1_800, State::Degraded, 60),
            post(3_000, State::Degraded, 60),
        ];
        let within = Stretch { from: at_second(-600), to: at_second(10_000) };
        let parts: Vec<(i64, State)> =
            course(&posts, within).iter().map(|(s, state)| (s.from.as_second(), *state)).collect();
        assert_eq!(
            parts,
            [
                (-600, State::Unknown),
                (0, State::Ok),
                (1_800, State::Degraded),
                (6_600, State::Unknown)
            ]
        );
        let (state, last, since) = at(&posts, at_second(3_600));
        assert_eq!(
            (state, last.map(|p| p.at), since),
            (State::Degraded, Some(at_second(3_000)), Some(at_second(1_800)))
        );
        assert_eq!(
            at(&posts, at_second(6_600)).0,
            State::Unknown,
            "nobody stays degraded by silence"
        );
        assert_eq!(at(&[], at_second(0)).0, State::Unknown);
        assert_eq!(at(&posts, at_second(-1)).0, State::Unknown);
    }

    proptest! {
        #[test]
        fn the_course_of_a_state_fills_its_stretch_without_gap_or_overlap(
            posts in prop::collection::vec((0i64..10_000, 0usize..4, 1i64..200), 0..12), from in -500i64..10_000, length in 1i64..5_000,
        ) {
            let mut posts: Vec<Post> = posts.into_iter().map(|(at, state, minutes)| post(at, State::ALL[state], minutes)).collect();
            posts.sort_by_key(|p| p.at);
            posts.dedup_by_key(|p| p.at);
            let within = Stretch { from: at_second(from), to: at_second(from + length) };
            let parts = course(&posts, within);
            prop_assert_eq!(parts.first().map(|(s, _)| s.from), Some(within.from));
            prop_assert_eq!(parts.last().map(|(s, _)| s.to), Some(within.to));
            prop_assert!(parts.windows(2).all(|w| w[0].0.to == w[1].0.from && w[0].1 != w[1].1));
            for (stretch, state) in parts {
                prop_assert_eq!(at(&posts, stretch.from).0, state);
            }
        }
    }

    #[test]
    fn what_is_announced_goes_on_from_its_beginning_to_its_end_unless_it_was_called_off() {
        let planned = |phase| Announcement {
            subject: "w1".into(),
            kind: Kind::Planned,
            phase,
            title: "Work".into(),
            says: String::new(),
            link: String::new(),
            from: at_second(100_000),
            to: Some(at_second(103_600)),
        };
        let announced = planned(Phase::Announced);
        assert!(announced.is_near(at_second(20_000)) && !announced.is_near(at_second(13_000)));
        assert!(!announced.goes_on(at_second(99_999)) && announced.goes_on(at_second(100_000)));
        assert!(!announced.goes_on(at_second(103_600)) && !announced.is_near(at_second(100_000)));
        assert!(planned(Phase::Started).goes_on(at_second(99_000)), "it began early");
        for over in [Phase::Cancelled, Phase::Ended] {
            assert!(
                !planned(over).goes_on(at_second(101_000))
                    && !planned(over).is_near(at_second(90_000))
            );
        }
        assert!(Kind::ALL.into_iter().all(|k| Kind::of_word(k.word()) == Some(k)));
        assert!(Phase::ALL.into_iter().all(|p| Phase::of_word(p.word()) == Some(p)));
        assert!(State::ALL.into_iter().all(|s| State::of_word(s.word()) == Some(s)));
    }
}
