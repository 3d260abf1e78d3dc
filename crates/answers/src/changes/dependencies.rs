//! What others say of what a site stands on: states and announcements.

use super::{Author, cut, noted, noted_change};
use crate::{Answers, Result, watch};
use cadentis_core::dependency::{
    Announcement, LONGEST_NAME, LONGEST_SAYS, MOST_DEPENDENCIES, MOST_MINUTES, Post, State,
};
use cadentis_core::marker::leads;
use cadentis_core::site::check_slug;
use cadentis_store::site::Site;
use jiff::{SignedDuration, Timestamp};

/// A dependency has so many hosts at most, of so many characters each.
const MOST_HOSTS: usize = 10;
const LONGEST_HOST: usize = 253;

/// Why something was not taken.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[expect(missing_docs, reason = "each says what it is when it is told")]
pub enum NotTaken {
    #[error(
        "a dependency is called in addresses by small letters, digits and single hyphens, 40 at most, such as payment-gateway"
    )]
    Slug,
    #[error("a site has {MOST_DEPENDENCIES} dependencies at most")]
    TooMany,
    #[error("a state is good for 1 to {MOST_MINUTES} minutes")]
    Minutes,
    #[error(
        "hosts are names alone, such as maps.example, {MOST_HOSTS} at most of {LONGEST_HOST} characters each"
    )]
    Hosts,
    #[error("a title has 1 to {LONGEST_NAME} characters")]
    Title,
    #[error("a link is an address that begins with http:// or https://")]
    Link,
    #[error("it ends after it begins, and lies within a year of now")]
    Moment,
}

/// A state as it is posted.
#[derive(Debug, Clone)]
pub struct Posted<'a> {
    /// The dependency's name in addresses.
    pub slug: &'a str,
    /// What it is called, when that is told.
    pub name: Option<&'a str>,
    /// How it is.
    pub state: State,
    /// In their words.
    pub says: &'a str,
    /// Where more is found.
    pub link: &'a str,
    /// For so many minutes it is good.
    pub minutes: i64,
}

async fn room(
    answers: &Answers,
    site: &Site,
    slug: &str,
) -> Result<std::result::Result<(), NotTaken>> {
    if check_slug(slug).is_err() {
        return Ok(Err(NotTaken::Slug));
    }
    let all = answers.db.dependencies(site.id).await?;
    let is_known = all.iter().any(|d| d.slug == slug);
    Ok(if is_known || all.len() < MOST_DEPENDENCIES { Ok(()) } else { Err(NotTaken::TooMany) })
}

/// An event as its source tells it apart from others; without, each post is one.
pub type Event<'a> = Option<(&'a str, &'a str)>;

/// Takes a state; `false` when the event came before.
///
/// # Errors
/// When the database does not answer.
pub async fn post(
    answers: &Answers,
    by: &Author,
    site: &Site,
    p: &Posted<'_>,
    (at, event): (Timestamp, Event<'_>),
) -> Result<std::result::Result<bool, NotTaken>> {
    if !(1..=MOST_MINUTES).contains(&p.minutes) {
        return Ok(Err(NotTaken::Minutes));
    }
    if !leads(p.link) {
        return Ok(Err(NotTaken::Link));
    }
    if let Err(why) = room(answers, site, p.slug).await? {
        return Ok(Err(why));
    }
    let post = Post {
        at,
        state: p.state,
        says: cut(p.says, LONGEST_SAYS),
        link: p.link.to_string(),
        expires_at: at + SignedDuration::from_mins(p.minutes),
        author: by.name().to_string(),
    };
    let name = p.name.map(|name| cut(name, LONGEST_NAME)).filter(|name| !name.is_empty());
    // The same again is no change that anybody has to be told of.
    if event.is_none() && name.is_none() && answers.db.prolong_state(site.id, p.slug, &post).await?
    {
        return Ok(Ok(true));
    }
    let one = answers.one().await?;
    if let Some((source, id)) = event
        && !one.db.take_event(site.id, &cut(source, 200), &cut(id, 200)).await?
    {
        return Ok(Ok(false));
    }
    let id = one.db.put_dependency(site.id, p.slug, name.as_deref()).await?;
    if one.db.prolong_state(site.id, p.slug, &post).await? {
        noted(one, by, "posted a state again", format!("{}: {}", p.slug, p.state.word())).await?;
        return Ok(Ok(true));
    }
    one.db.post_state(id, &post).await?;
    noted(one, by, "posted a state", format!("{}: {}", p.slug, p.state.word())).await?;
    Ok(Ok(true))
}

/// Says which hosts are asked for what a dependency does; whether there is such a one.
///
/// # Errors
/// When the database does not answer.
pub async fn set_hosts(
    answers: &Answers,
    by: &Author,
    site: &Site,
    slug: &str,
    hosts: &[String],
) -> Result<std::result::Result<bool, NotTaken>> {
    let is_host =
        |h: &String| !h.is_empty() && h.len() <= LONGEST_HOST && !h.contains(['/', ':', ' ', '@']);
    if hosts.len() > MOST_HOSTS || !hosts.iter().all(is_host) {
        return Ok(Err(NotTaken::Hosts));
    }
    let hosts: Vec<String> = hosts.iter().map(|h| h.to_lowercase()).collect();
    let one = answers.one().await?;
    let Some(was) = one.db.set_dependency_hosts(site.id, slug, &hosts).await? else {
        return Ok(Ok(false));
    };
    let told = |hosts: &[String]| vec![("hosts", hosts.join(", "))];
    let change = (&told(&was), &told(&hosts));
    noted_change(one, by, "said whose requests are those of", slug, change).await?;
    Ok(Ok(true))
}

/// Takes an announcement; `false` when the event came before, or something later was told of the same already.
///
/// # Errors
/// When the database does not answer.
pub async fn announce(
    answers: &Answers,
    by: &Author,
    site: &Site,
    (slug, a): (&str, &Announcement),
    (at, event): (Timestamp, Event<'_>),
) -> Result<std::result::Result<bool, NotTaken>> {
    let year = SignedDuration::from_hours(24 * 366);
    let near = |moment: Timestamp| moment.duration_since(at).abs() <= year;
    let checks = [
        (!a.title.trim().is_empty() && a.title.chars().count() <= LONGEST_NAME, NotTaken::Title),
        (leads(&a.link), NotTaken::Link),
        (near(a.from) && a.to.is_none_or(|to| to > a.from && near(to)), NotTaken::Moment),
    ];
    if let Some((_, why)) = checks.into_iter().find(|(fine, _)| !fine) {
        return Ok(Err(why));
    }
    if let Err(why) = room(answers, site, slug).await? {
        return Ok(Err(why));
    }
    let one = answers.one().await?;
    if let Some((source, id)) = event
        && !one.db.take_event(site.id, &cut(source, 200), &cut(id, 200)).await?
    {
        return Ok(Ok(false));
    }
    let id = one.db.put_dependency(site.id, slug, None).await?;
    let kept = Announcement {
        says: cut(&a.says, LONGEST_SAYS),
        subject: cut(&a.subject, 200),
        ..a.clone()
    };
    let is_newest = one.db.announce(id, &kept, at, by.name()).await?;
    let which = format!("{slug}: {} {}, {}", a.kind.word(), a.phase.word(), a.title);
    noted(one, by, "announced", which).await?;
    Ok(Ok(is_newest))
}

/// Takes a dependency away with its history; whether there was one.
///
/// # Errors
/// When the database does not answer.
pub async fn remove(answers: &Answers, by: &Author, site: &Site, slug: &str) -> Result<bool> {
    let one = answers.one().await?;
    let held = one.db.incidents_announced_by(site.id, slug).await?;
    match one.db.remove_dependency(site.id, slug).await? {
        Some(name) => {
            let now = one.db.now().await?;
            for incident in held {
                let why = format!("{name} was taken away by {by}");
                if watch::left_by(&one.db, incident, now, &why).await? {
                    watch::tell_of_end(&one.db, site.id, incident, &why, now).await?;
                }
            }
            noted(one, by, "took away the dependency", name).await?;
            Ok(true)
        }
        None => Ok(false),
    }
}
