//! What a site stands on: how it is said to be, since when, and what is announced.

use crate::requests::Which;
use crate::{Answers, Result};
use cadentis_core::calendar::Stretch;
use cadentis_core::dependency::{self, Announcement, Post, State};
use cadentis_core::visitor::Filter;
use cadentis_core::visitor::calls::{FAILURES, calls, columns};
use cadentis_core::visitor::timeline::Bucket;
use cadentis_store::dependency::Dependency;
use cadentis_store::sheet::Filed;
use cadentis_store::site::Site;
use cadentis_store::visits::with_filter;
use jiff::{SignedDuration, Timestamp};

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
    /// What pages see of its hosts, where it has any.
    pub seen: Option<Seen>,
}

/// What pages saw of the hosts of a dependency, beside what it says of itself.
pub struct Seen {
    /// While it says that it is as it is, a week at most; the end of the stretch's last day where it is in no trouble.
    pub stretch: Stretch,
    /// What pages asked of its hosts in that time; `None` when nothing.
    pub now: Option<Bucket>,
    /// The same of the day before.
    pub before: Option<Bucket>,
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
        Told { dependency, state, last, since, course, posts: own, announced, seen: None }
    });
    let mut told: Vec<Told> = told.collect();
    told.sort_by(|a, b| b.state.cmp(&a.state).then(a.dependency.name.cmp(&b.dependency.name)));
    Ok(told)
}

const DAY: SignedDuration = SignedDuration::from_hours(24);
/// What pages saw of longer trouble is told of its last week.
const LONGEST: SignedDuration = SignedDuration::from_hours(7 * 24);
/// One piece of time for all of it.
const WHOLE_S: i64 = 3_600 << 24;

/// Puts beside what they say what pages saw of their hosts: since they are in trouble, or in the last day, against the day
/// before. Those without hosts have nothing.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn see(
    answers: &Answers,
    site: &Site,
    told: &mut [Told],
    stretch: Stretch,
    now: Timestamp,
) -> Result<()> {
    let end = stretch.to.min(now).max(stretch.from);
    for t in told.iter_mut().filter(|t| !t.dependency.hosts.is_empty()) {
        let from = match t.since.filter(|_| t.state.is_trouble()) {
            Some(since) => since.max(end - LONGEST),
            None => end - DAY,
        };
        let seen = Stretch { from: from.min(end), to: end };
        let before = Stretch { from: from - DAY, to: from };
        let hosts = &t.dependency.hosts;
        let (now, before) = futures::try_join!(
            seen_of(answers, site, hosts, seen),
            seen_of(answers, site, hosts, before)
        )?;
        t.seen = Some(Seen { stretch: seen, now, before });
    }
    Ok(())
}

async fn seen_of(
    answers: &Answers,
    site: &Site,
    hosts: &[String],
    stretch: Stretch,
) -> Result<Option<Bucket>> {
    let none = Filter::default();
    let (columns, failures) =
        (with_filter(&columns(WHOLE_S), &none), with_filter(&FAILURES, &none));
    let (told, failed) = futures::try_join!(
        answers.db.sheets_of(Filed::Happenings, site.id, stretch, &columns),
        answers.db.sheets_of(Filed::Failures, site.id, stretch, &failures),
    )?;
    let which = Which::To(hosts.to_vec());
    let computing = answers.computed(move || {
        let whats = ["request", "resource"];
        calls(&told, &failed, stretch, &none, &whats, &which, WHOLE_S).over.into_iter().next()
    });
    computing.await
}
