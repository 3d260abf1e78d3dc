//! Destinations and call lists: who is told of incidents.

use super::told::Parts;
use super::{Author, cut, may, noted, noted_change};
use crate::{Answers, Result, telling};
use cadentis_core::alert::Severity;
use cadentis_core::alert::notice::{Kind, LATEST_MIN, MOST_STEPS, Step};
use cadentis_core::alert::own::{Told, rendered};
use cadentis_store::notice::{Destination, NewNotice, Tells};
use cadentis_store::site::Site;

/// A name has at most so many characters.
pub const LONGEST_NAME: usize = 80;
/// A site has so many destinations at most, and so many call lists.
pub const MOST: usize = 200;

/// Why something was not kept.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[expect(missing_docs, reason = "each says what it is when it is told")]
pub enum NotKept {
    #[error("a name has 1 to {LONGEST_NAME} characters")]
    Name,
    #[error("another destination of this site has the name")]
    Taken,
    #[error("an address of this kind is {0}")]
    Address(&'static str),
    #[error("what messages are signed with has 16 to 200 characters")]
    Secret,
    #[error("without a key of the installation nothing can be sealed, so nothing can be signed")]
    NoVault,
    #[error("a site has {MOST} of them at most")]
    TooMany,
    #[error("a call list has one step at least and {MOST_STEPS} at most, each with a destination")]
    Steps,
    #[error("a step comes 0 to {LATEST_MIN} minutes after an incident opened")]
    Minutes,
    #[error("one of these destinations is not there")]
    NoDestination,
    #[error("there is no such team")]
    Team,
    #[error("what it gets has no text of one's own: it is a CloudEvent")]
    NoText,
    #[error("this text cannot be used: {0}")]
    Text(String),
}

impl NotKept {
    /// The field that is wrong.
    pub fn field(&self) -> &'static str {
        match self {
            NotKept::Name | NotKept::Taken => "name",
            NotKept::Address(_) => "address",
            NotKept::Secret | NotKept::NoVault => "secret",
            NotKept::TooMany => "form",
            NotKept::Team => "team",
            NotKept::NoText | NotKept::Text(_) => "text",
            NotKept::Steps | NotKept::Minutes | NotKept::NoDestination => "steps",
        }
    }
}

fn name(given: &str) -> std::result::Result<String, NotKept> {
    let name = cut(given, LONGEST_NAME + 1);
    let fits = !name.is_empty() && name.chars().count() <= LONGEST_NAME;
    if fits { Ok(name) } else { Err(NotKept::Name) }
}

/// Whether nobody reads on the way what is sent to an address: over TLS, or on this very machine.
fn is_private_way(address: &str) -> bool {
    let host = address.strip_prefix("http://").map(|rest| rest.split(['/', '?', '#']).next());
    let host = host.flatten().map(|host| host.rsplit_once(':').map_or(host, |(host, _)| host));
    host.is_none_or(|host| matches!(host, "127.0.0.1" | "localhost" | "[::1]"))
}

/// Adds somebody who can be told; their id.
///
/// # Errors
/// When the database does not answer.
pub async fn add_destination(
    answers: &Answers,
    by: &Author,
    site: &Site,
    (called, kind, address): (&str, Kind, &str),
    secret: &str,
) -> Result<std::result::Result<i32, NotKept>> {
    let called = match name(called) {
        Ok(name) => name,
        Err(why) => return Ok(Err(why)),
    };
    if let Err(right) = kind.check(address) {
        return Ok(Err(NotKept::Address(right)));
    }
    let signs = kind.has_secret() && !secret.is_empty();
    if signs && kind == Kind::Gateway && !is_private_way(address) {
        return Ok(Err(NotKept::Address(
            "one that begins with https://: its secret could be read on the way",
        )));
    }
    if signs && !(16..=200).contains(&secret.len()) {
        return Ok(Err(NotKept::Secret));
    }
    let sealed = match (&answers.vault, signs) {
        (_, false) => None,
        (Some(vault), true) => Some((vault, secret)),
        (None, true) => return Ok(Err(NotKept::NoVault)),
    };
    if answers.db.destinations(site.id).await?.len() >= MOST {
        return Ok(Err(NotKept::TooMany));
    }
    let one = answers.one().await?;
    let new = (called.as_str(), kind, address);
    let Some(id) = one.db.add_destination(site.id, new, sealed, by.name()).await? else {
        return Ok(Err(NotKept::Taken));
    };
    noted(one, by, "added the destination", format!("{called}: {} {address}", kind.word())).await?;
    Ok(Ok(id))
}

/// Lets a destination be told in words of one's own, which are tried on what was told last; empty in the usual ones.
///
/// # Errors
/// When the database does not answer.
pub async fn set_text(
    answers: &Answers,
    by: &Author,
    site: &Site,
    (to, text): (&Destination, &str),
) -> Result<std::result::Result<(), NotKept>> {
    if !to.kind.has_text() {
        return Ok(Err(NotKept::NoText));
    }
    let newest = telling::newest(answers, site, "").await?;
    for told in newest.into_iter().chain([Told::example()]) {
        if let Err(why) = rendered(text, &told) {
            return Ok(Err(NotKept::Text(why)));
        }
    }
    let one = answers.one().await?;
    one.db.set_own_text(site.id, to.id, text).await?;
    let parts = |text: &str| vec![("text", text.to_string())];
    let (before, after) = (parts(&to.own_text), parts(text));
    noted_change(one, by, "set the text of the destination", &to.name, (&before, &after)).await?;
    Ok(Ok(()))
}

/// Takes a destination away; whether there was one.
///
/// # Errors
/// When the database does not answer.
pub async fn remove_destination(
    answers: &Answers,
    by: &Author,
    site: &Site,
    id: i32,
) -> Result<bool> {
    let one = answers.one().await?;
    match one.db.remove_destination(site.id, id).await? {
        Some(name) => {
            noted(one, by, "took away the destination", name).await?;
            Ok(true)
        }
        None => Ok(false),
    }
}

/// Sends a destination a message that says that it is a test; whether there is one.
///
/// # Errors
/// When the database does not answer.
pub async fn test(answers: &Answers, by: &Author, site: &Site, id: i32) -> Result<bool> {
    let all = answers.db.destinations(site.id).await?;
    let Some(to) = all.into_iter().find(|d| d.id == id) else { return Ok(false) };
    let one = answers.one().await?;
    let now = one.db.now().await?;
    let says = format!("{by} tries whether this destination can be told. Nothing is wrong.");
    let new = NewNotice {
        site_id: site.id,
        incident_id: None,
        issue_id: None,
        destination: (to.id, &to.name),
        tells: Tells::Test,
        severity: Severity::Warning,
        says: &says,
        at: now,
        due_at: now,
        unless_acknowledged: false,
    };
    one.db.add_notice(&new).await?;
    noted(one, by, "tested the destination", &to.name).await?;
    Ok(true)
}

/// A call list as it is to be.
#[derive(Debug, Clone, Copy)]
pub struct NewList<'a> {
    /// Its name: an existing one is changed.
    pub name: &'a str,
    /// Who is told, and when.
    pub steps: &'a [Step],
    /// Whether alerts that name no list are told to it.
    pub is_usual: bool,
    /// The team that owns it.
    pub team: Option<i32>,
}

/// What a call list is, part by part.
fn parts(
    (steps, is_usual): (&[Step], bool),
    team: Option<&str>,
    destinations: &[Destination],
) -> Parts {
    let name =
        |id: &i32| destinations.iter().find(|d| d.id == *id).map_or("?", |d| d.name.as_str());
    let step = |s: &Step| {
        let whom: Vec<&str> = s.destinations.iter().map(name).collect();
        format!("after {} min {}", s.after_min, whom.join(" and "))
    };
    vec![
        ("tells", steps.iter().map(step).collect::<Vec<_>>().join(", ")),
        ("usual", is_usual.to_string()),
        ("team", team.unwrap_or_default().to_string()),
    ]
}

/// Keeps a call list by its name.
///
/// # Errors
/// When it belongs, or is given, to a team that whoever it is is not in, or the database does not answer.
pub async fn put_list(
    answers: &Answers,
    by: &Author,
    site: &Site,
    new: NewList<'_>,
) -> Result<std::result::Result<(), NotKept>> {
    let NewList { name: called, steps, is_usual, team } = new;
    let called = match name(called) {
        Ok(name) => name,
        Err(why) => return Ok(Err(why)),
    };
    let db = &answers.db;
    let (lists, destinations, teams) =
        futures::try_join!(db.call_lists(site.id), db.destinations(site.id), db.teams())?;
    let was = lists.iter().find(|l| l.name == called);
    if let Some(was) = was {
        may(by, was.team_id, &was.name, &was.owner)?;
    }
    let owner = teams.iter().find(|t| Some(t.id) == team);
    if team.is_some() && owner.is_none() {
        return Ok(Err(NotKept::Team));
    }
    may(by, team, &called, owner.map_or("", |t| t.name.as_str()))?;
    let is_there = |id: &i32| destinations.iter().any(|d| d.id == *id);
    let checks = [
        (
            (1..=MOST_STEPS).contains(&steps.len())
                && steps.iter().all(|s| !s.destinations.is_empty()),
            NotKept::Steps,
        ),
        (steps.iter().all(|s| s.after_min <= LATEST_MIN), NotKept::Minutes),
        (steps.iter().flat_map(|s| &s.destinations).all(is_there), NotKept::NoDestination),
        (lists.len() < MOST || was.is_some(), NotKept::TooMany),
    ];
    if let Some((_, why)) = checks.into_iter().find(|(fine, _)| !fine) {
        return Ok(Err(why));
    }
    let one = answers.one().await?;
    let id = one.db.put_call_list(site.id, (&called, steps, is_usual), by.name()).await?;
    one.db.own_call_list(id, team).await?;
    let before =
        was.map_or_else(Vec::new, |w| parts((&w.steps, w.is_usual), Some(&w.owner), &destinations));
    let after = parts((steps, is_usual), owner.map(|t| t.name.as_str()), &destinations);
    noted_change(one, by, "kept the call list", called, (&before, &after)).await?;
    Ok(Ok(()))
}

/// Takes a call list away; whether there was one.
///
/// # Errors
/// When it belongs to a team that whoever it is is not in, or the database does not answer.
pub async fn remove_list(answers: &Answers, by: &Author, site: &Site, id: i32) -> Result<bool> {
    let lists = answers.db.call_lists(site.id).await?;
    if let Some(list) = lists.iter().find(|l| l.id == id) {
        may(by, list.team_id, &list.name, &list.owner)?;
    }
    let one = answers.one().await?;
    match one.db.remove_call_list(site.id, id).await? {
        Some(name) => {
            noted(one, by, "took away the call list", name).await?;
            Ok(true)
        }
        None => Ok(false),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_secret_is_shown_over_tls_or_to_this_machine_alone() {
        for (address, fine) in [
            ("https://sms.example/send", true),
            ("http://127.0.0.1:8080/send", true),
            ("http://localhost/send", true),
            ("http://[::1]:9/send", true),
            ("http://sms.example/send", false),
            ("http://127.0.0.1.sms.example/", false),
            ("http://127.0.0.1@sms.example/", false),
            ("http://sms.example/127.0.0.1", false),
            ("http://sms.example?127.0.0.1", false),
        ] {
            assert_eq!(is_private_way(address), fine, "{address}");
        }
    }
}
