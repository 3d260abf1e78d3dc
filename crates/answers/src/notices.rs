//! Notices: who is told of incidents, what is to be sent now, and what became of it.

use crate::reports::{self, Shown};
use crate::{Answers, Result};
use cadentis_core::alert::notice::{FOLDS_FROM, Kind};
use cadentis_core::marker::leads;
use cadentis_core::text;
use cadentis_store::incident::{Event, Incident, What};
use cadentis_store::notice::{Attempt, CallList, Destination, NewNotice, Notice, Tells, Ticket};
use cadentis_store::site::Site;
use jiff::{SignedDuration, Timestamp};
use serde::Deserialize;
use std::collections::hash_map::Entry;
use std::collections::{BTreeMap, HashMap};

/// Who is told of a site's incidents, and what was told lately.
pub struct Told {
    /// Whom.
    pub destinations: Vec<Destination>,
    /// In what order.
    pub lists: Vec<CallList>,
    /// The newest notices, the newest first, with their tries.
    pub newest: Vec<(Notice, Vec<Attempt>)>,
    /// Destinations of which something is to be thought of.
    pub warnings: Vec<Warning>,
}

/// What is weak about who is told.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Warning {
    /// It is reached by way of what is watched: when that is down, nobody hears of it.
    DependsOnSite(String),
    /// There is one destination alone: when it fails, nobody hears that it does.
    OnlyOne(String),
    /// No call list is the usual one, so alerts that name none tell nobody.
    NoUsual,
}

/// So many of the newest notices are told.
const NEWEST: i64 = 50;

/// Who is told of a site's incidents, and what was told lately.
///
/// # Errors
/// When the database does not answer.
pub async fn ask(answers: &Answers, site: &Site) -> Result<Told> {
    let db = &answers.db;
    let (destinations, lists, newest) = futures::try_join!(
        db.destinations(site.id),
        db.call_lists(site.id),
        db.newest_notices(site.id, NEWEST)
    )?;
    let newest = with_attempts(answers, newest).await?;
    let mut warnings: Vec<Warning> = destinations
        .iter()
        .filter(|d| host_of(d).is_some_and(|host| site.owns(&host)))
        .map(|d| Warning::DependsOnSite(d.name.clone()))
        .collect();
    if let [only] = destinations.as_slice() {
        warnings.push(Warning::OnlyOne(only.name.clone()));
    }
    if !destinations.is_empty() && !lists.iter().any(|l| l.is_usual) {
        warnings.push(Warning::NoUsual);
    }
    Ok(Told { destinations, lists, newest, warnings })
}

/// The host that a destination is reached at.
fn host_of(d: &Destination) -> Option<String> {
    match d.kind {
        Kind::Mail => d.address.split_once('@').map(|(_, host)| host.to_string()),
        Kind::Webhook | Kind::Chat | Kind::Gateway | Kind::Ticket | Kind::Repair => {
            let rest = d.address.split_once("://")?.1;
            let host = rest.split(['/', '?', '#']).next()?;
            let host = host.rsplit('@').next()?;
            Some(host.split(':').next()?.to_lowercase())
        }
    }
}

async fn with_attempts(
    answers: &Answers,
    notices: Vec<Notice>,
) -> Result<Vec<(Notice, Vec<Attempt>)>> {
    let ids: Vec<i64> = notices.iter().map(|n| n.id).collect();
    let mut by: HashMap<i64, Vec<Attempt>> = HashMap::new();
    for attempt in answers.db.attempts_of(&ids).await? {
        by.entry(attempt.notice_id).or_default().push(attempt);
    }
    Ok(notices
        .into_iter()
        .map(|n| (by.remove(&n.id).unwrap_or_default(), n))
        .map(|(a, n)| (n, a))
        .collect())
}

/// The notices of an incident with their tries, in order.
///
/// # Errors
/// When the database does not answer.
pub async fn of_incident(
    answers: &Answers,
    incident_id: i32,
) -> Result<Vec<(Notice, Vec<Attempt>)>> {
    let notices = answers.db.notices_of(incident_id).await?;
    with_attempts(answers, notices).await
}

/// What is to be sent to one destination now: one notice, or several that make one message.
pub struct ToSend {
    /// The site.
    pub site: Site,
    /// To whom.
    pub to: Destination,
    /// What it is signed with.
    pub secret: Option<String>,
    /// What it tells, the oldest first, each with its incident.
    pub notices: Vec<(Notice, Option<Incident>)>,
    /// What links hold by which whoever gets it acknowledges without signing in, in the same order; none where there is
    /// nothing to acknowledge, or no key to sign it with.
    pub acknowledge: Vec<Option<String>>,
    /// The tickets that stand for their incidents at this destination, in the same order.
    pub tickets: Vec<Option<String>>,
    /// The issue of a report that it tells of: such a notice is a message by itself.
    pub issue: Option<Shown>,
}

/// What a destination answered.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Answer {
    /// In words, as it is shown.
    pub says: String,
    /// What it answers of the incident, where it is asked to.
    pub reply: Reply,
}

/// What tickets and repairs answer, as JSON; whatever else stands there says nothing.
#[derive(Debug, Clone, Default, PartialEq, Eq, Deserialize)]
#[serde(default)]
pub struct Reply {
    /// The ticket that stands for the incident.
    pub ticket: String,
    /// Where it is.
    pub link: String,
    /// Who looks after it there.
    pub acknowledged_by: String,
    /// Whether nothing more is to do there.
    pub closed: bool,
    /// What was done.
    pub says: String,
}

impl Reply {
    /// What an answer says, cleaned and bounded; one that is no JSON says nothing, but for a repair, whose text is what it did.
    pub fn of(kind: Kind, body: &[u8]) -> Reply {
        let text = String::from_utf8_lossy(body);
        let line = |text: &str, most: usize| text::clean(text.trim(), most, None);
        let read: Option<Reply> = serde_json::from_str(&text).ok();
        let read = read.unwrap_or_else(|| match kind {
            Kind::Repair => Reply { says: text.to_string(), ..Reply::default() },
            _ => Reply::default(),
        });
        Reply {
            ticket: line(&read.ticket, 100),
            link: Some(line(&read.link, 500)).filter(|l| leads(l)).unwrap_or_default(),
            acknowledged_by: line(&read.acknowledged_by, 80),
            closed: read.closed,
            says: line(&read.says, 500),
        }
    }
}

/// A link to acknowledge by is good for so long.
const LINKS_FOR: SignedDuration = SignedDuration::from_hours(24 * 7);

/// What the link of a notice holds: its id, and that it is ours.
fn link_of(answers: &Answers, notice: &Notice) -> Option<String> {
    let asks = matches!(notice.tells, Tells::Opened | Tells::Worsened | Tells::Reopened);
    let vault = answers.vault.as_ref().filter(|_| asks)?;
    Some(format!("{}-{}", notice.id, vault.sign_link(&format!("acknowledge {}", notice.id))))
}

/// What somebody who follows a link to acknowledge by finds.
pub struct ByLink {
    /// The site.
    pub site: Site,
    /// The incident.
    pub incident: Incident,
    /// Who was told by that link.
    pub whom: String,
}

/// What a link to acknowledge by leads to; nothing when it is not ours, too old, or its incident is gone.
///
/// # Errors
/// When the database does not answer.
pub async fn by_link(answers: &Answers, holds: &str) -> Result<Option<ByLink>> {
    let (Some(vault), Some((id, signature))) = (&answers.vault, holds.split_once('-')) else {
        return Ok(None);
    };
    let Ok(id) = id.parse::<i64>() else { return Ok(None) };
    if !vault.has_signed_link(&format!("acknowledge {id}"), signature) {
        return Ok(None);
    }
    let (notice, now) = futures::try_join!(answers.db.notice(id), answers.db.now())?;
    let Some(notice) = notice.filter(|n| now.duration_since(n.due_at) < LINKS_FOR) else {
        return Ok(None);
    };
    let Some(incident_id) = notice.incident_id else { return Ok(None) };
    let sites = answers.db.sites().await?;
    let site = sites.into_iter().find(|s| s.id == notice.site_id);
    let incident = answers.db.incident(notice.site_id, incident_id).await?;
    let found = |(site, incident)| ByLink { site, incident, whom: notice.destination.clone() };
    Ok(site.zip(incident).map(found))
}

/// So many are taken at a time.
const AT_A_TIME: i64 = 200;

/// Takes the turn of what is to be sent now. Whose destination is gone is given up.
///
/// # Errors
/// When the database does not answer.
pub async fn due(answers: &Answers) -> Result<Vec<ToSend>> {
    let db = &answers.db;
    let now = db.now().await?;
    let due = db.due_notices(now, AT_A_TIME).await?;
    if due.is_empty() {
        return Ok(Vec::new());
    }
    let sites: HashMap<i32, Site> = db.sites().await?.into_iter().map(|s| (s.id, s)).collect();
    let mut by: BTreeMap<i32, Vec<Notice>> = BTreeMap::new();
    for notice in due {
        match notice.destination_id {
            Some(id) => by.entry(id).or_default().push(notice),
            // Somebody else hears that whoever left was not told.
            None => {
                let why = "the destination was taken away";
                let gives_up = db.note_attempt(&notice, (false, why), now).await?;
                if let Some(site) = sites.get(&notice.site_id).filter(|_| gives_up) {
                    undelivered(answers, site, &notice, why, now).await?;
                }
            }
        }
    }
    let mut all = Vec::new();
    let mut known: HashMap<i32, Vec<Destination>> = HashMap::new();
    for (id, notices) in by {
        let Some(site) = notices.first().and_then(|n| sites.get(&n.site_id)) else { continue };
        if let Entry::Vacant(unknown) = known.entry(site.id) {
            unknown.insert(db.destinations(site.id).await?);
        }
        let to = known.get(&site.id).and_then(|all| all.iter().find(|d| d.id == id));
        let Some(to) = to else { continue };
        let secret = match (&answers.vault, to.is_signed) {
            (Some(vault), true) => db.destination_secret(id, vault).await?,
            _ => None,
        };
        let mut told = Vec::new();
        let mut tickets: HashMap<i32, String> = HashMap::new();
        for notice in notices {
            if let (Kind::Ticket, Some(incident)) = (to.kind, notice.incident_id) {
                let kept = db.tickets_of(incident).await?;
                let own = kept.into_iter().find(|(destination, _)| *destination == to.id);
                tickets.extend(own.map(|(_, ticket)| (incident, ticket.name)));
            }
            let incident = match notice.incident_id {
                Some(id) => db.incident(site.id, id).await?,
                None => None,
            };
            told.push((notice, incident));
        }
        let of = |notices: Vec<(Notice, Option<Incident>)>| ToSend {
            site: site.clone(),
            to: to.clone(),
            secret: secret.clone(),
            acknowledge: notices.iter().map(|(n, _)| link_of(answers, n)).collect(),
            tickets: notices.iter().map(|(n, _)| tickets.get(&n.incident_id?).cloned()).collect(),
            issue: None,
            notices,
        };
        let (issues, told): (Vec<_>, Vec<_>) =
            told.into_iter().partition(|(n, _)| n.issue_id.is_some());
        for (notice, incident) in issues {
            let issue = match notice.issue_id {
                Some(id) => reports::issue(answers, site, id).await?,
                None => None,
            };
            all.push(ToSend { issue, ..of(vec![(notice, incident)]) });
        }
        // A storm is one message, but for what answers of each incident by itself.
        let folds = !matches!(to.kind, Kind::Ticket | Kind::Repair);
        match folds && told.len() >= FOLDS_FROM {
            true => all.push(of(told)),
            false => all.extend(told.into_iter().map(|one| of(vec![one]))),
        }
    }
    Ok(all)
}

/// Notes what became of what was sent. What is given up is told through another destination.
///
/// # Errors
/// When the database does not answer.
pub async fn sent(
    answers: &Answers,
    sent: &ToSend,
    outcome: std::result::Result<&Answer, &str>,
) -> Result<()> {
    let now = answers.db.now().await?;
    let (is_delivered, says) = match outcome {
        Ok(answer) => (true, answer.says.as_str()),
        Err(says) => (false, says),
    };
    let says: String = says.chars().filter(|c| !c.is_control()).take(500).collect();
    for (notice, incident) in &sent.notices {
        let (db, change) = answers.db.in_one().await?;
        let one = Answers { db, ..answers.clone() };
        let gives_up = one.db.note_attempt(notice, (is_delivered, &says), now).await?;
        if gives_up {
            undelivered(&one, &sent.site, notice, &says, now).await?;
        }
        if let (Ok(answer), Some(incident)) = (outcome, incident) {
            replied(&one, &sent.to, incident, &answer.reply, now).await?;
        }
        change.commit().await?;
    }
    Ok(())
}

/// Lets an incident follow what a ticket or a repair answered.
async fn replied(
    answers: &Answers,
    to: &Destination,
    incident: &Incident,
    reply: &Reply,
    now: Timestamp,
) -> Result<()> {
    let db = &answers.db;
    let event = |what, says: String| Event { at: now, what, says, author: to.name.clone() };
    if to.kind == Kind::Repair && !reply.says.is_empty() {
        db.note_event(incident.id, &event(What::Note, reply.says.clone())).await?;
    }
    if to.kind != Kind::Ticket {
        return Ok(());
    }
    let kept = db.tickets_of(incident.id).await?;
    let is_new = !kept.iter().any(|(id, t)| *id == to.id && t.name == reply.ticket);
    if !reply.ticket.is_empty() && is_new {
        let ticket = Ticket { name: reply.ticket.clone(), link: reply.link.clone() };
        db.put_ticket(incident.id, to.id, &ticket).await?;
        db.note_event(incident.id, &event(What::Note, format!("Ticket {}", ticket.name))).await?;
    }
    let by = &reply.acknowledged_by;
    if !by.is_empty() && db.acknowledge(incident.id, by, now).await? {
        let who = Event { author: by.clone(), ..event(What::Acknowledged, to.name.clone()) };
        db.note_event(incident.id, &who).await?;
    }
    if reply.closed && db.close_incident(incident.id, &to.name, now).await? {
        db.note_event(incident.id, &event(What::Closed, String::new())).await?;
    }
    Ok(())
}

/// The tickets that stand for an incident.
///
/// # Errors
/// When the database does not answer.
pub async fn tickets(answers: &Answers, incident_id: i32) -> Result<Vec<Ticket>> {
    Ok(answers.db.tickets_of(incident_id).await?.into_iter().map(|(_, ticket)| ticket).collect())
}

/// Tells another destination that one could not be told; of that, and of a test, nobody is.
async fn undelivered(
    answers: &Answers,
    site: &Site,
    notice: &Notice,
    why: &str,
    now: Timestamp,
) -> Result<()> {
    if matches!(notice.tells, Tells::Undelivered | Tells::Test) {
        return Ok(());
    }
    let all = answers.db.destinations(site.id).await?;
    let Some(other) = all.iter().find(|d| Some(d.id) != notice.destination_id) else {
        return Ok(());
    };
    let says = format!(
        "{} was not told: {}. Nothing more is tried. The last answer was: {why}",
        notice.destination, notice.says
    );
    let new = NewNotice {
        site_id: site.id,
        incident_id: notice.incident_id,
        issue_id: None,
        destination: (other.id, &other.name),
        tells: Tells::Undelivered,
        severity: notice.severity,
        says: &says,
        at: now,
        due_at: now,
        unless_acknowledged: false,
    };
    answers.db.add_notice(&new).await?;
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_host_of_a_destination_is_what_its_name_is_looked_up_by() {
        let of = |kind, address: &str| {
            host_of(&Destination {
                id: 1,
                site_id: 1,
                name: "x".into(),
                kind,
                address: address.into(),
                is_signed: false,
                own_text: String::new(),
                author: "x".into(),
            })
        };
        assert_eq!(of(Kind::Mail, "on-call@marram.example").as_deref(), Some("marram.example"));
        for address in
            ["https://Chat.example/a?b", "http://chat.example:8080", "https://u:p@chat.example/x"]
        {
            assert_eq!(of(Kind::Chat, address).as_deref(), Some("chat.example"), "{address}");
        }
    }

    #[test]
    fn what_is_answered_is_cleaned_bounded_and_of_other_shapes_nothing() {
        let of = |kind, body: &str| Reply::of(kind, body.as_bytes());
        let ticket = of(
            Kind::Ticket,
            "{\"ticket\": \" OPS-1\\n\", \"link\": \"https://desk.example/1\", \"acknowledged_by\": \"Kim\", \"closed\": true, \"more\": [1]}",
        );
        assert_eq!(
            (ticket.ticket.as_str(), ticket.link.as_str()),
            ("OPS-1", "https://desk.example/1")
        );
        assert_eq!((ticket.acknowledged_by.as_str(), ticket.closed), ("Kim", true));
        for nothing in ["", "null", "[]", "OPS-1", "{\"ticket\": 1}", "{\"closed\": \"yes\"}"] {
            assert_eq!(of(Kind::Ticket, nothing), Reply::default(), "{nothing}");
        }
        assert_eq!(of(Kind::Ticket, "{\"link\": \"javascript:alert(1)\"}").link, "");
        // What mends may answer with plain words.
        assert_eq!(of(Kind::Repair, "restarted 2 of 2").says, "restarted 2 of 2");
        assert_eq!(of(Kind::Repair, "{\"says\": \"rolled back\"}").says, "rolled back");
        let long = of(Kind::Repair, &"x".repeat(9_000)).says;
        assert!(long.chars().count() <= 500, "{}", long.len());
        assert_eq!(Reply::of(Kind::Ticket, &[0xff, 0xfe]), Reply::default());
    }
}
