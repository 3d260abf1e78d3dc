//! What a site stands on: how it is said to be, since when, and what is announced.

use crate::{Answers, Result};
use cadentis_core::calendar::Stretch;
use cadentis_core::dependency::{self, Announcement, Post, State};
use cadentis_store::dependency::Dependency;
use cadentis_store::site::Site;
use jiff::Timestamp;

/// A dependency over a stretch.
pub struct Told {
    /// Which it is.
    pub dependency: Dependency,
    /// How it is said to be at the end of what is over.
    pub state: State,
    /// The post that says so.
    pub last: Option<Post>,
    /// Since when it is so without a break, as far as posts of the stretch tell.
    pub since: Option<Timestamp>,
    /// Its states over what is over of the stretch.
    pub course: Vec<(Stretch, State)>,
    /// Posts of the stretch, the newest first.
    pub posts: Vec<Post>,
    /// What is announced of it: what goes on, and what is to come.
    pub announced: Vec<Announcement>,
}

impl Told {
    /// Whether somebody said in the stretch that it did not do as it should.
    pub fn was_in_trouble(&self) -> bool {
        self.course.iter().any(|(_, state)| state.is_trouble())
    }

    /// Whether something announced goes on at a moment or is soon to come.
    pub fn is_announced(&self, at: Timestamp) -> bool {
        self.announced.iter().any(|a| a.goes_on(at) || a.is_near(at))
    }
}

/// The dependencies of a site over a stretch, those in trouble first.
///
/// # Errors
/// When the database does not answer.
pub async fn ask(
    answers: &Answers,
    site: &Site,
    stretch: Stretch,
    now: Timestamp,
) -> Result<Vec<Told>> {
    let db = &answers.db;
    let past = Stretch { to: stretch.to.min(now).max(stretch.from), ..stretch };
    // A state that is good for a week may have been posted before the stretch.
    let (all, posts, announced) = futures::try_join!(
        db.dependencies(site.id),
        db.states(site.id, Stretch { to: past.to + jiff::SignedDuration::from_secs(1), ..past }),
        db.announcements(site.id, past)
    )?;
    let told = all.into_iter().map(|dependency| {
        let own = posts.iter().filter(|(id, _)| *id == dependency.id);
        let mut own: Vec<Post> = own.map(|(_, post)| post.clone()).collect();
        let (state, last, since) = dependency::at(&own, past.to);
        let (last, course) = (last.cloned(), dependency::course(&own, past));
        own.retain(|p| p.at >= past.from);
        own.reverse();
        let mine = announced.iter().filter(|(id, _)| *id == dependency.id);
        let announced = mine.map(|(_, a)| a.clone()).collect();
        Told { dependency, state, last, since, course, posts: own, announced }
    });
    let mut told: Vec<Told> = told.collect();
    told.sort_by(|a, b| b.state.cmp(&a.state).then(a.dependency.name.cmp(&b.dependency.name)));
    Ok(told)
}
