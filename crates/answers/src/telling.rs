//! What a notice says: the parts of every message, whichever way it goes, and of texts of one's own.

use crate::{Answers, Result};
use cadentis_core::alert::Severity;
use cadentis_core::alert::own::Told;
use cadentis_store::incident::Incident;
use cadentis_store::notice::{Notice, Tells};
use cadentis_store::site::Site;
use jiff::{SignedDuration, Timestamp};

/// What happened, as a headline begins.
fn headline(notice: &Notice) -> &'static str {
    match (notice.tells, notice.severity) {
        (Tells::Opened, Severity::Critical) => "Critical",
        (Tells::Opened, Severity::Warning) => "Warning",
        (Tells::Worsened, _) => "Worse",
        (Tells::Cleared, _) => "Cleared",
        (Tells::Reopened, _) => "Again",
        (Tells::Undelivered, _) => "Not delivered",
        (Tells::Reminded, _) => "Reminder",
        (Tells::Report, _) => "Report",
        (Tells::Test, _) => "Test",
    }
}

fn title(notice: &Notice, incident: Option<&Incident>) -> String {
    match incident {
        Some(i) => {
            let acted = if i.is_rehearsal { "Rehearsal, nothing is wrong · " } else { "" };
            format!("{acted}{}: {} (incident {})", headline(notice), i.title, i.id)
        }
        None => headline(notice).to_string(),
    }
}

/// The page that stands at the moment itself.
fn link(site: &Site, notice: &Notice, incident: Option<&Incident>, pages: &str) -> String {
    let base = format!("{pages}/{}", site.slug);
    if let Some(id) = notice.issue_id {
        return format!("{base}/reports/issues/{id}");
    }
    match incident {
        None if notice.tells == Tells::Reminded => format!("{base}/dependencies"),

        None => format!("{base}/call-lists"),
        Some(i) => {
            let hour = SignedDuration::from_hours(1);
            let moment = |at: Timestamp| at.strftime("%Y-%m-%dT%H:%MZ").to_string();
            let (from, to) = (moment(i.since - hour), moment(notice.at + hour));
            format!("{base}/incidents/{}?from={from}&to={to}", i.id)
        }
    }
}

fn when(site: &Site, at: Timestamp) -> String {
    let clock = at.to_zoned(site.zone.clone()).strftime("%a %-d %b %Y %H:%M").to_string();
    format!("{clock} {}", site.zone_name())
}

/// What a notice says. `holds` is what the link holds by which it is acknowledged without signing in; `pages` is what addresses
/// of pages begin with.
pub fn told(
    site: &Site,
    (notice, incident): (&Notice, Option<&Incident>),
    holds: Option<&String>,
    pages: &str,
) -> Told {
    Told {
        site: site.name.clone(),
        tells: notice.tells.word().into(),
        severity: notice.severity.word().into(),
        title: title(notice, incident),
        says: notice.says.clone(),
        at: when(site, notice.at),
        link: link(site, notice, incident, pages),
        acknowledge: holds.map_or(String::new(), |holds| format!("{pages}/acknowledge/{holds}")),
        incident: incident.map(|i| i.id),
        about: incident.map_or(String::new(), |i| i.about.to_string()),
        is_rehearsal: incident.is_some_and(|i| i.is_rehearsal),
    }
}

/// The newest notice of a site about an incident, to try a text with; none where nothing has been told yet.
///
/// # Errors
/// When the database does not answer.
pub async fn newest(answers: &Answers, site: &Site, pages: &str) -> Result<Option<Told>> {
    let newest = answers.db.newest_notices(site.id, 50).await?;
    let Some(notice) = newest.iter().find(|n| n.incident_id.is_some()) else {
        return Ok(None);
    };
    let incident = match notice.incident_id {
        Some(id) => answers.db.incident(site.id, id).await?,
        None => None,
    };
    let holds = "1-as-in-a-real-one".to_string();
    Ok(Some(told(site, (notice, incident.as_ref()), Some(&holds), pages)))
}
