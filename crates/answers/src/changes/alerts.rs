//! Alerts: made, changed, switched, silenced, taken away; and what people do about incidents.

use super::told::Parts;
use super::{Author, cut, may, noted, noted_change};
use crate::measures::{self, NotThere};
use crate::watch;
use crate::{Answers, Result};
use cadentis_core::alert::{LAG, Severity, Unfit};
use cadentis_core::marker::leads;
use cadentis_store::alert::{Alert, Says, Silence};
use cadentis_store::goal::Kept;
use cadentis_store::incident::{Event, Incident, OpenAlert, What};
use cadentis_store::site::Site;
use jiff::{SignedDuration, Timestamp};

/// A site has so many alerts at most.
pub const MOST_ALERTS: usize = 1_000;
/// A name has at most so many characters.
pub const LONGEST_NAME: usize = 80;
/// And what is to be done.
pub const LONGEST_INSTRUCTIONS: usize = 2_000;
/// A note, and a reason.
pub const LONGEST_NOTE: usize = 1_000;
/// An alert is silenced for so long at most.
pub const LONGEST_SILENCE: SignedDuration = SignedDuration::from_hours(24 * 90);

/// Why an alert was not kept.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[expect(missing_docs, reason = "each says what it is when it is told")]
pub enum NotKept {
    #[error(transparent)]
    Unfit(#[from] Unfit),
    #[error(transparent)]
    NotThere(#[from] NotThere),
    #[error("a name has 1 to {LONGEST_NAME} characters")]
    Name,
    #[error("another alert of this site has the name")]
    Taken,
    #[error("a link is an address that begins with http:// or https://")]
    Link,
    #[error("a site has {MOST_ALERTS} alerts at most")]
    TooMany,
    #[error("somebody changed this alert meanwhile")]
    Overtaken,
    #[error("this call list is not there")]
    NoList,
}

impl NotKept {
    /// The field that is wrong.
    pub fn field(&self) -> &'static str {
        match self {
            NotKept::Unfit(unfit) => unfit.field(),
            NotKept::NotThere(_) => "measure",
            NotKept::Name | NotKept::Taken => "name",
            NotKept::Link => "link",
            NotKept::TooMany | NotKept::Overtaken | NotKept::NoList => "form",
        }
    }
}

/// What it is, part by part.
fn parts(says: &Says, is_on: bool) -> Parts {
    vec![
        ("name", says.name.clone()),
        ("says", says.definition.sentence()),
        ("no data", says.definition.no_data.words().to_string()),
        ("team", says.team_id.map_or_else(String::new, |id| id.to_string())),
        ("to do", says.instructions.clone()),
        ("link", says.link.clone()),
        ("on", is_on.to_string()),
    ]
}

async fn check(
    answers: &Answers,
    by: &Author,
    site: &Site,
    says: &Says,
) -> Result<std::result::Result<Says, NotKept>> {
    let name = cut(&says.name, LONGEST_NAME + 1);
    if name.is_empty() || name.chars().count() > LONGEST_NAME {
        return Ok(Err(NotKept::Name));
    }
    if !leads(&says.link) {
        return Ok(Err(NotKept::Link));
    }
    if let Err(unfit) = says.definition.check() {
        return Ok(Err(unfit.into()));
    }
    if let Err(not_there) = measures::about(answers, site, &says.definition.measured).await? {
        return Ok(Err(not_there.into()));
    }
    let lists = answers.db.call_lists(site.id).await?;
    if says.lists.iter().flatten().any(|id| lists.iter().all(|l| l.id != *id)) {
        return Ok(Err(NotKept::NoList));
    }
    may(by, says.team_id, &name, "its new team")?;
    let instructions = cut(&says.instructions, LONGEST_INSTRUCTIONS);
    Ok(Ok(Says { name, instructions, ..says.clone() }))
}

/// Adds an alert that is watched from now on; its id.
///
/// # Errors
/// When it is for a team that whoever it is is not in, or the database does not answer.
pub async fn add(
    answers: &Answers,
    by: &Author,
    site: &Site,
    (says, is_on): (&Says, bool),
    now: Timestamp,
) -> Result<std::result::Result<i32, NotKept>> {
    let says = match check(answers, by, site, says).await? {
        Ok(says) => says,
        Err(why) => return Ok(Err(why)),
    };
    if answers.db.alerts(site.id).await?.len() >= MOST_ALERTS {
        return Ok(Err(NotKept::TooMany));
    }
    let one = answers.one().await?;
    let from = (is_on, now - LAG);
    let Some(id) = one.db.add_alert(site.id, &says, from, by.name()).await? else {
        return Ok(Err(NotKept::Taken));
    };
    let after = parts(&says, is_on);
    noted_change(one, by, "made the alert", &says.name, (&Vec::new(), &after)).await?;
    Ok(Ok(id))
}

/// Lets an alert say something else, if nobody has changed it since `based_on`.
///
/// # Errors
/// When it belongs to a team that whoever it is is not in, or the database does not answer.
pub async fn set(
    answers: &Answers,
    by: &Author,
    site: &Site,
    (alert, based_on): (&Alert, i32),
    says: &Says,
) -> Result<std::result::Result<(), NotKept>> {
    may(by, alert.says.team_id, &alert.says.name, &alert.owner)?;
    let says = match check(answers, by, site, says).await? {
        Ok(says) => says,
        Err(why) => return Ok(Err(why)),
    };
    let one = answers.one().await?;
    match one.db.set_alert(alert, based_on, &says, by.name()).await? {
        Kept::Version(_) => {
            let parts = (&parts(&alert.says, alert.is_on), &parts(&says, alert.is_on));
            noted_change(one, by, "changed the alert", &says.name, parts).await?;
            Ok(Ok(()))
        }
        Kept::Overtaken => Ok(Err(NotKept::Overtaken)),
        Kept::Taken => Ok(Err(NotKept::Taken)),
    }
}

/// Lets an alert that is taken away or switched off leave its incident.
async fn leave(one: &Answers, alert: &Alert, why: &str, now: Timestamp) -> Result<()> {
    match one.db.open_of(alert.id).await? {
        Some(open) => ended(one, alert, &open, why, now).await,
        None => Ok(()),
    }
}

/// Ends a time that an alert was open for, by what somebody did.
async fn ended(
    one: &Answers,
    alert: &Alert,
    open: &OpenAlert,
    why: &str,
    now: Timestamp,
) -> Result<()> {
    one.db.set_open(open.id, open.severity, Some(now)).await?;
    if watch::left(&one.db, open.incident_id, &alert.says.name, now, why).await? {
        let says = format!("{} {why}", alert.says.name);
        watch::tell_of_end(&one.db, alert.site_id, open.incident_id, &says, now).await?;
    }
    Ok(())
}

/// Switches an alert on or off; off, it leaves the incident that it is open in. Whether it was the other way.
///
/// # Errors
/// When it belongs to a team that whoever it is is not in, or the database does not answer.
pub async fn switch(
    answers: &Answers,
    by: &Author,
    alert: &Alert,
    on: bool,
    now: Timestamp,
) -> Result<bool> {
    may(by, alert.says.team_id, &alert.says.name, &alert.owner)?;
    let one = answers.one().await?;
    if !one.db.switch_alert(alert.id, on, now - LAG).await? {
        return Ok(false);
    }
    if !on {
        leave(&one, alert, &format!("was switched off by {by}"), now).await?;
    }
    let what = if on { "switched on the alert" } else { "switched off the alert" };
    noted(one, by, what, &alert.says.name).await?;
    Ok(true)
}

/// Why an alert was not silenced.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[expect(missing_docs, reason = "each says what it is when it is told")]
pub enum NotSilenced {
    #[error("a silence has a reason, of {LONGEST_NOTE} characters at most")]
    Why,
    #[error("a silence ends within 90 days from now")]
    Until,
}

/// Lets an alert tell nobody until a moment; without one it tells again.
///
/// # Errors
/// When it belongs to a team that whoever it is is not in, or the database does not answer.
pub async fn silence(
    answers: &Answers,
    by: &Author,
    alert: &Alert,
    until: Option<(Timestamp, &str)>,
    now: Timestamp,
) -> Result<std::result::Result<(), NotSilenced>> {
    may(by, alert.says.team_id, &alert.says.name, &alert.owner)?;
    let silence = match until {
        None => None,
        Some((until, _)) if until <= now || until > now + LONGEST_SILENCE => {
            return Ok(Err(NotSilenced::Until));
        }
        Some((_, why)) if why.trim().is_empty() => return Ok(Err(NotSilenced::Why)),
        Some((until, why)) => {
            Some(Silence { until, why: cut(why, LONGEST_NOTE), by: by.name().to_string() })
        }
    };
    let one = answers.one().await?;
    one.db.silence_alert(alert.id, silence.as_ref()).await?;
    let (what, which) = match &silence {
        Some(s) => {
            ("silenced the alert", format!("{} until {}: {}", alert.says.name, s.until, s.why))
        }
        None => ("let the alert tell again", alert.says.name.clone()),
    };
    noted(one, by, what, which).await?;
    Ok(Ok(()))
}

/// Why an alert was not acted out.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[expect(missing_docs, reason = "each says what it is when it is told")]
pub enum NotRehearsed {
    #[error(
        "it opens after {0} min at the earliest and is acted out for {LONGEST_REHEARSAL} at most"
    )]
    Minutes(i64),
    #[error("it has no level for a {}", .0.word())]
    NoLevel(Severity),
    #[error("it is being acted out already")]
    Already,
    #[error("it is silenced: nobody would be told")]
    Silenced,
}

/// An alert is acted out for so many minutes at most.
pub const LONGEST_REHEARSAL: i64 = 240;

/// Acts an alert out: as bad as this for so many minutes. The whole chain runs, marked, and counts nowhere.
///
/// # Errors
/// When it belongs to a team that whoever it is is not in, or the database does not answer.
pub async fn rehearse(
    answers: &Answers,
    by: &Author,
    alert: &Alert,
    (severity, minutes): (Severity, i64),
    now: Timestamp,
) -> Result<std::result::Result<i32, NotRehearsed>> {
    may(by, alert.says.team_id, &alert.says.name, &alert.owner)?;
    let definition = &alert.says.definition;
    let least = definition.opens_after_min();
    if !(least..=LONGEST_REHEARSAL).contains(&minutes) {
        return Ok(Err(NotRehearsed::Minutes(least)));
    }
    if definition.acted(now, Some(severity), None).is_none() {
        return Ok(Err(NotRehearsed::NoLevel(severity)));
    }
    if alert.silence.as_ref().is_some_and(|s| s.until > now) {
        return Ok(Err(NotRehearsed::Silenced));
    }
    let one = answers.one().await?;
    let from = now - LAG;
    let times = (now, from, from + SignedDuration::from_mins(minutes));
    let Some(id) = one.db.add_rehearsal(alert.id, severity, times, by.name()).await? else {
        return Ok(Err(NotRehearsed::Already));
    };
    let which = format!("{}: {} for {minutes} min", alert.says.name, severity.word());
    noted(one, by, "acted out the alert", which).await?;
    Ok(Ok(id))
}

/// Ends the rehearsal of an alert that goes on; whether there was one.
///
/// # Errors
/// When it belongs to a team that whoever it is is not in, or the database does not answer.
pub async fn stop_rehearsal(
    answers: &Answers,
    by: &Author,
    alert: &Alert,
    now: Timestamp,
) -> Result<bool> {
    may(by, alert.says.team_id, &alert.says.name, &alert.owner)?;
    let one = answers.one().await?;
    if !stop(&one, alert, &format!("is acted out no longer: {by} ended it"), now).await? {
        return Ok(false);
    }
    noted(one, by, "ended acting out the alert", alert.says.name.clone()).await?;
    Ok(true)
}

async fn stop(one: &Answers, alert: &Alert, why: &str, now: Timestamp) -> Result<bool> {
    let going = one.db.claim_rehearsal_of(alert.id).await?;
    let Some(mut rehearsal) = going else { return Ok(false) };
    if let Some(open) = one.db.open_in_rehearsal(rehearsal.id).await? {
        ended(one, alert, &open, why, now).await?;
    }
    rehearsal.ended_at = Some(now);
    one.db.keep_rehearsal(&rehearsal).await?;
    Ok(true)
}

/// Takes an alert away; it leaves the incident that it is open in. Whether there was one.
///
/// # Errors
/// When it belongs to a team that whoever it is is not in, or the database does not answer.
pub async fn remove(answers: &Answers, by: &Author, alert: &Alert, now: Timestamp) -> Result<bool> {
    may(by, alert.says.team_id, &alert.says.name, &alert.owner)?;
    let one = answers.one().await?;
    leave(&one, alert, &format!("was taken away by {by}"), now).await?;
    stop(&one, alert, &format!("was taken away by {by}"), now).await?;
    if !one.db.remove_alert(alert.id).await? {
        return Ok(false);
    }
    let before = parts(&alert.says, alert.is_on);
    noted_change(one, by, "took away the alert", &alert.says.name, (&before, &Vec::new())).await?;
    Ok(true)
}

fn which(incident: &Incident) -> String {
    format!("{}: {}", incident.id, incident.title)
}

/// Notes that somebody looks after an incident; whether nobody did before.
///
/// # Errors
/// When the database does not answer.
pub async fn acknowledge(
    answers: &Answers,
    by: &Author,
    incident: &Incident,
    now: Timestamp,
) -> Result<bool> {
    let one = answers.one().await?;
    if !one.db.acknowledge(incident.id, by.name(), now).await? {
        return Ok(false);
    }
    event(&one, by, incident, What::Acknowledged, "", now).await?;
    noted(one, by, "acknowledged the incident", which(incident)).await?;
    Ok(true)
}

/// Writes something down about an incident; whether there was anything to write.
///
/// # Errors
/// When the database does not answer.
pub async fn note(
    answers: &Answers,
    by: &Author,
    incident: &Incident,
    says: &str,
    now: Timestamp,
) -> Result<bool> {
    let says = cut(says, LONGEST_NOTE);
    if says.is_empty() {
        return Ok(false);
    }
    let one = answers.one().await?;
    event(&one, by, incident, What::Note, &says, now).await?;
    noted(one, by, "wrote about the incident", which(incident)).await?;
    Ok(true)
}

/// Notes that nothing more is to do about an incident that has cleared; whether that was not said before.
///
/// # Errors
/// When the database does not answer.
pub async fn close(
    answers: &Answers,
    by: &Author,
    incident: &Incident,
    now: Timestamp,
) -> Result<bool> {
    let one = answers.one().await?;
    if !one.db.close_incident(incident.id, by.name(), now).await? {
        return Ok(false);
    }
    event(&one, by, incident, What::Closed, "", now).await?;
    noted(one, by, "closed the incident", which(incident)).await?;
    Ok(true)
}

async fn event(
    one: &Answers,
    by: &Author,
    incident: &Incident,
    what: What,
    says: &str,
    at: Timestamp,
) -> Result<()> {
    let event = Event { at, what, says: says.into(), author: by.name().into() };
    Ok(one.db.note_event(incident.id, &event).await?)
}
