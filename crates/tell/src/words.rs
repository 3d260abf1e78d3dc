//! What messages say: in plain text, as HTML, as a CloudEvent.

use cadentis_answers::kept::{Incident, Notice, Tells};
use cadentis_answers::notices::ToSend;
use cadentis_core::alert::Severity;
use jiff::Timestamp;
use serde_json::{Value, json};

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

/// The subject of a mail.
pub fn subject(message: &ToSend) -> String {
    let site = &message.site.name;
    match message.notices.as_slice() {
        [(notice, incident)] => format!("{} · {site}", title(notice, incident.as_ref())),
        many => format!("{} incidents told together · {site}", many.len()),
    }
}

/// The page that stands at the moment itself.
fn link(message: &ToSend, notice: &Notice, incident: Option<&Incident>, pages: &str) -> String {
    let base = format!("{pages}/{}", message.site.slug);
    match incident {
        None if notice.tells == Tells::Reminded => format!("{base}/dependencies"),
        None => format!("{base}/call-lists"),
        Some(i) => {
            let hour = jiff::SignedDuration::from_hours(1);
            let moment = |at: Timestamp| at.strftime("%Y-%m-%dT%H:%MZ").to_string();
            format!(
                "{base}/incidents/{}?from={}&to={}",
                i.id,
                moment(i.since - hour),
                moment(notice.at + hour)
            )
        }
    }
}

fn when(message: &ToSend, at: Timestamp) -> String {
    let zone = message.site.zone.clone();
    let clock = at.to_zoned(zone).strftime("%a %-d %b %Y %H:%M").to_string();
    format!("{clock} {}", message.site.zone_name())
}

/// Where whoever gets it says that they look after it, without signing in.
fn acknowledge(holds: Option<&String>, pages: &str) -> Option<String> {
    holds.map(|holds| format!("{pages}/acknowledge/{holds}"))
}

/// In plain text.
pub fn text(message: &ToSend, pages: &str) -> String {
    let one = |((notice, incident), holds): (&(Notice, Option<Incident>), &Option<String>)| {
        let ways = acknowledge(holds.as_ref(), pages);
        let ways = ways.map_or(String::new(), |to| format!("Acknowledge: {to}\n"));
        format!(
            "{}\n{}\n{}\n{}\n{ways}",
            title(notice, incident.as_ref()),
            notice.says,
            when(message, notice.at),
            link(message, notice, incident.as_ref(), pages)
        )
    };
    let all: Vec<String> = message.notices.iter().zip(&message.acknowledge).map(one).collect();
    match all.len() {
        1 => format!("{}\n{}", message.site.name, all.concat()),
        n => format!(
            "{}: {n} incidents, told together since they came at once\n\n{}",
            message.site.name,
            all.join("\n")
        ),
    }
}

/// A text inside HTML.
fn escaped(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        match c {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '"' => out.push_str("&quot;"),
            '\'' => out.push_str("&#39;"),
            c => out.push(c),
        }
    }
    out
}

/// As HTML.
pub fn html(message: &ToSend, pages: &str) -> String {
    let one = |((notice, incident), holds): (&(Notice, Option<Incident>), &Option<String>)| {
        let to = escaped(&link(message, notice, incident.as_ref(), pages));
        let ways = acknowledge(holds.as_ref(), pages);
        let ways = ways
            .map_or(String::new(), |to| format!(" · <a href=\"{}\">Acknowledge</a>", escaped(&to)));
        format!(
            "<h2 style=\"font-size:16px;margin:16px 0 4px\">{}</h2><p style=\"margin:0 0 4px\">{}</p><p style=\"margin:0 0 4px;color:#586170\">{}</p><p style=\"margin:0\"><a href=\"{to}\">Stand at that moment</a>{ways}</p>",
            escaped(&title(notice, incident.as_ref())),
            escaped(&notice.says),
            escaped(&when(message, notice.at)),
        )
    };
    let all: String = message.notices.iter().zip(&message.acknowledge).map(one).collect();
    format!(
        "<!doctype html><html lang=\"en\"><body style=\"font-family:sans-serif;color:#1c2530\"><p style=\"margin:0;color:#586170\">{}</p>{all}</body></html>",
        escaped(&message.site.name)
    )
}

/// As a CloudEvent in its structured form (CloudEvents 1.0, JSON event format).
pub fn event(message: &ToSend, pages: &str) -> Value {
    let Some((first, _)) = message.notices.first() else { return Value::Null };
    let one = |(notice, incident): &(Notice, Option<Incident>)| {
        json!({
            "tells": notice.tells.word(),
            "says": notice.says,
            "severity": notice.severity.word(),
            "at": notice.at.to_string(),
            "link": link(message, notice, incident.as_ref(), pages),
            "incident": incident.as_ref().map(|i| json!({
                "id": i.id, "title": i.title, "about": i.about.to_string(), "severity": i.severity.word(),
                "since": i.since.to_string(), "opened_at": i.opened_at.to_string(),
                "cleared_at": i.cleared_at.map(|at| at.to_string()), "is_rehearsal": i.is_rehearsal,
            })),
        })
    };
    let data = match message.notices.as_slice() {
        [single] => one(single),
        many => json!({ "together": many.iter().map(one).collect::<Vec<_>>() }),
    };
    let incident = message.notices.first().and_then(|(n, _)| n.incident_id);
    json!({
        "specversion": "1.0",
        "id": first.key.to_string(),
        "source": format!("{pages}/{}", message.site.slug),
        "type": format!("cadentis.incident.{}", first.tells.word()),
        "time": first.at.to_string(),
        "subject": incident.map_or(first.tells.word().to_string(), |id| format!("incident {id}")),
        "datacontenttype": "application/json",
        "data": data,
    })
}
