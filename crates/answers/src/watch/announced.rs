//! What suppliers announce: an outage is an incident of its own for as long as it is said to go on, and what is to come is
//! reminded of before it begins.

use super::{left_by, opens_for, tell_of_end, whom};
use crate::{Answers, Result};
use cadentis_core::alert::incident::{About, REOPENS_WITHIN};
use cadentis_core::alert::{LAG, Severity};
use cadentis_core::dependency::{Announcement, Kind};
use cadentis_store::Db;
use cadentis_store::dependency::Announced;
use cadentis_store::incident::{Event, What};
use cadentis_store::notice::{NewNotice, Tells};
use cadentis_store::site::Site;
use jiff::Timestamp;
use std::collections::HashMap;

/// Lets incidents follow what is announced, and reminds of what is near, in one transaction.
pub(super) async fn follow(
    answers: &Answers,
    sites: &HashMap<i32, Site>,
    now: Timestamp,
) -> Result<()> {
    let (db, change) = answers.db.in_one().await?;
    for told in db.claim_announcements(now).await? {
        let Some(site) = sites.get(&told.site_id) else { continue };
        match (told.says.kind, told.incident_id) {
            (Kind::Outage, Some(id)) => moved_or_over(&db, site, told, id, now).await?,
            (Kind::Outage, None) if told.says.goes_on(now) => open(&db, site, told, now).await?,
            (Kind::Planned | Kind::Advisory, _) if told.says.is_near(now) => {
                remind(&db, site, told, now).await?;
            }
            _ => {}
        }
    }
    Ok(change.commit().await?)
}

/// From when to when, in words of the site's zone.
fn when(site: &Site, a: &Announcement) -> String {
    let clock =
        |at: Timestamp| at.to_zoned(site.zone.clone()).strftime("%a %-d %b %Y %H:%M").to_string();
    match a.to {
        Some(to) => format!("from {} until {}", clock(a.from), clock(to)),
        None => format!("from {}", clock(a.from)),
    }
}

/// What was announced, as one line.
fn line(site: &Site, told: &Announced) -> String {
    let Announcement { title, says, .. } = &told.says;
    let more = if says.is_empty() { String::new() } else { format!(". {says}") };
    format!("{} announces an outage: {title}, {}{more}", told.name, when(site, &told.says))
}

async fn open(db: &Db, site: &Site, mut told: Announced, now: Timestamp) -> Result<()> {
    let about = About::Dependency(told.slug.clone());
    let says = line(site, &told);
    let event = |what| Event { at: now, what, says: says.clone(), author: String::new() };
    // What an alert on its state has opened already is the same outage.
    let known = db.incident_to_join(site.id, &about, now, REOPENS_WITHIN).await?;
    let id = match known {
        Some(known) => {
            let reopens = known.cleared_at.is_some();
            let stands = known.now.unwrap_or(Severity::Warning);
            db.set_incident(known.id, Some(stands), None, reopens).await?;
            let what = if reopens { What::Reopened } else { What::Joined };
            db.note_event(known.id, &event(what)).await?;
            if reopens {
                tell(db, site, known.id, Tells::Reopened, &says, now).await?;
            }
            known.id
        }
        None => {
            let since = told.says.from.min(now);
            let title = (&about, told.says.title.as_str());
            let moments = (since, now, now);
            let id = db.open_incident(site.id, title, Severity::Warning, moments, false).await?;
            db.note_event(id, &event(What::Opened)).await?;
            tell(db, site, id, Tells::Opened, &says, now).await?;
            id
        }
    };
    told.incident_id = Some(id);
    told.told_as = says;
    Ok(db.keep_announced(&told).await?)
}

/// An announcement that has an incident: what is told anew is noted there; what is over lets it clear.
async fn moved_or_over(
    db: &Db,
    site: &Site,
    mut told: Announced,
    incident_id: i32,
    now: Timestamp,
) -> Result<()> {
    let says = line(site, &told);
    if told.says.goes_on(now) {
        if told.told_as == says {
            return Ok(());
        }
        let event =
            Event { at: now, what: What::Note, says: says.clone(), author: told.name.clone() };
        db.note_event(incident_id, &event).await?;
        told.told_as = says;
        return Ok(db.keep_announced(&told).await?);
    }
    told.incident_id = None;
    db.keep_announced(&told).await?;
    let why = format!("{} announces no outage any more: {}", told.name, told.says.title);
    if left_by(db, incident_id, now, &why).await? {
        tell_of_end(db, site.id, incident_id, &why, now).await?;
    }
    Ok(())
}

async fn remind(db: &Db, site: &Site, mut told: Announced, now: Timestamp) -> Result<()> {
    if told.reminded_from == Some(told.says.from) {
        return Ok(());
    }
    told.reminded_from = Some(told.says.from);
    db.keep_announced(&told).await?;
    let Announcement { kind, title, says, .. } = &told.says;
    let more = if says.is_empty() { String::new() } else { format!(". {says}") };
    let what = match kind {
        Kind::Planned => "planned work",
        Kind::Advisory | Kind::Outage => "an advisory",
    };
    let says = format!("{}, {what}: {title}, {}{more}", told.name, when(site, &told.says));
    for (due, to) in whom(db, (site.id, None), Severity::Warning, now, &site.zone).await? {
        // Nobody acknowledges what is to come, so nobody further is called.
        if due.unless_acknowledged {
            continue;
        }
        let new = NewNotice {
            site_id: site.id,
            incident_id: None,
            issue_id: None,
            destination: (to.id, &to.name),
            tells: Tells::Reminded,
            severity: Severity::Warning,
            says: &says,
            at: now - LAG,
            due_at: due.at,
            unless_acknowledged: false,
        };
        db.add_notice(&new).await?;
    }
    Ok(())
}

async fn tell(
    db: &Db,
    site: &Site,
    incident_id: i32,
    tells: Tells,
    says: &str,
    now: Timestamp,
) -> Result<()> {
    let to = ((site.id, None), Severity::Warning, now, &site.zone);
    opens_for(db, to, (incident_id, tells, says, now), false).await
}
