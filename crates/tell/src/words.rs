//! What messages say: in plain text, as HTML, as a CloudEvent.

use cadentis_answers::kept::{Incident, Notice, Tells};
use cadentis_answers::notices::ToSend;
use cadentis_answers::telling;
use cadentis_core::alert::own::Told;
use serde_json::{Value, json};

/// What each notice of a message says.
pub fn told(message: &ToSend, pages: &str) -> Vec<Told> {
    let one = |((notice, incident), holds): (&(Notice, Option<Incident>), &Option<String>)| {
        let told = telling::told(&message.site, (notice, incident.as_ref()), holds.as_ref(), pages);
        match &message.issue {
            Some(shown) => {
                Told { title: format!("Report: {}", shown.content.document.title), ..told }
            }
            None => told,
        }
    };
    message.notices.iter().zip(&message.acknowledge).map(one).collect()
}

/// So many of those that are told together are named in a short message.
const NAMED: usize = 10;

/// Several that are told together as one, for what takes one text alone: all of their titles, and the way to the first.
pub fn together(told: &[Told]) -> Option<Told> {
    let first = told.first()?;
    if told.len() == 1 {
        return Some(first.clone());
    }
    let titles: Vec<&str> = told.iter().take(NAMED).map(|t| t.title.as_str()).collect();
    let more = match told.len().saturating_sub(NAMED) {
        0 => String::new(),
        n => format!("; and {n} more"),
    };
    let title = format!("{} incidents told together", told.len());
    // What acknowledges one would leave the others.
    let acknowledge = String::new();
    Some(Told { title, says: titles.join("; ") + &more, acknowledge, ..first.clone() })
}

/// The subject of a mail.
pub fn subject(site: &str, told: &[Told]) -> String {
    match told {
        [one] => format!("{} · {site}", one.title),
        many => format!("{} incidents told together · {site}", many.len()),
    }
}

/// In plain text.
pub fn text(site: &str, told: &[Told]) -> String {
    let one = |t: &Told| {
        let ways = match t.acknowledge.as_str() {
            "" => String::new(),
            to => format!("Acknowledge: {to}\n"),
        };
        format!("{}\n{}\n{}\n{}\n{ways}", t.title, t.says, t.at, t.link)
    };
    let all: Vec<String> = told.iter().map(one).collect();
    match all.len() {
        1 => format!("{site}\n{}", all.concat()),
        n => format!(
            "{site}: {n} incidents, told together since they came at once\n\n{}",
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

/// As HTML; a text of one's own as it is.
pub fn html(site: &str, told: &[Told], own: Option<&str>) -> String {
    let one = |t: &Told| {
        let ways = match t.acknowledge.as_str() {
            "" => String::new(),
            to => format!(" · <a href=\"{}\">Acknowledge</a>", escaped(to)),
        };
        let read = if t.tells == Tells::Report.word() { "Read it" } else { "Stand at that moment" };
        format!(
            "<h2 style=\"font-size:16px;margin:16px 0 4px\">{}</h2><p style=\"margin:0 0 4px\">{}</p><p style=\"margin:0 0 4px;color:#586170\">{}</p><p style=\"margin:0\"><a href=\"{}\">{read}</a>{ways}</p>",
            escaped(&t.title),
            escaped(&t.says),
            escaped(&t.at),
            escaped(&t.link),
        )
    };
    let all: String = match own {
        Some(own) => format!("<p style=\"white-space:pre-wrap\">{}</p>", escaped(own)),
        None => told.iter().map(one).collect(),
    };
    format!(
        "<!doctype html><html lang=\"en\"><body style=\"font-family:sans-serif;color:#1c2530\"><p style=\"margin:0;color:#586170\">{}</p>{all}</body></html>",
        escaped(site)
    )
}

/// As a CloudEvent in its structured form (CloudEvents 1.0, JSON event format).
pub fn event(message: &ToSend, told: &[Told], pages: &str) -> Value {
    let Some((first, _)) = message.notices.first() else { return Value::Null };
    let one = |nth: usize| {
        let (notice, incident) = message.notices.get(nth)?;
        let (told, ticket) = (told.get(nth)?, message.tickets.get(nth)?);
        Some(json!({
            "tells": told.tells,
            "says": told.says,
            "severity": told.severity,
            "at": notice.at.to_string(),
            "link": told.link,
            "ticket": ticket,
            "report": message.issue.as_ref().map(|shown| json!({
                "id": shown.report.id, "name": shown.content.name, "issue": shown.issue.id, "number": shown.issue.number,
                "from": shown.issue.covers.from.to_string(), "to": shown.issue.covers.to.to_string(),
                "checksum": shown.issue.checksum,
            })),
            "incident": incident.as_ref().map(|i| json!({
                "id": i.id, "title": i.title, "about": told.about, "severity": i.severity.word(),
                "since": i.since.to_string(), "opened_at": i.opened_at.to_string(),
                "cleared_at": i.cleared_at.map(|at| at.to_string()), "is_rehearsal": i.is_rehearsal,
            })),
        }))
    };
    let mut each: Vec<Value> = (0..message.notices.len()).filter_map(one).collect();
    let data = match each.len() {
        1 => each.remove(0),
        _ => json!({ "together": each }),
    };
    json!({
        "specversion": "1.0",
        "id": first.key.to_string(),
        "source": format!("{pages}/{}", message.site.slug),
        "type": match message.issue {
            Some(_) => "cadentis.report.issued".to_string(),
            None => format!("cadentis.incident.{}", first.tells.word()),
        },
        "time": first.at.to_string(),
        "subject": first.incident_id.map_or(first.tells.word().to_string(), |id| format!("incident {id}")),
        "datacontenttype": "application/json",
        "data": data,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn told(title: &str, says: &str) -> Told {
        Told { title: title.into(), says: says.into(), ..Told::example() }
    }

    #[test]
    fn one_incident_and_many_are_told_in_words_that_lead_there() {
        let one = [told("Critical: Booking fails (incident 12)", "share failed is 60 %")];
        assert_eq!(
            subject("Marram Ferries", &one),
            "Critical: Booking fails (incident 12) · Marram Ferries"
        );
        let body = text("Marram Ferries", &one);
        let lines: Vec<&str> = body.lines().collect();
        assert_eq!(
            lines,
            [
                "Marram Ferries",
                "Critical: Booking fails (incident 12)",
                "share failed is 60 %",
                "Sat 28 Nov 2026 08:30",
                one[0].link.as_str(),
                &format!("Acknowledge: {}", one[0].acknowledge),
            ]
        );
        let many = [one[0].clone(), told("Warning: Slow (incident 13)", "p75 of LCP is 4 s")];
        assert_eq!(subject("Marram Ferries", &many), "2 incidents told together · Marram Ferries");
        let body = text("Marram Ferries", &many);
        assert!(
            body.starts_with("Marram Ferries: 2 incidents, told together since they came at once")
        );
        assert!(body.contains("incident 12") && body.contains("incident 13"));
        // What nobody has to acknowledge says nothing of it.
        let over = [Told { acknowledge: String::new(), ..one[0].clone() }];
        assert!(
            !text("x", &over).contains("Acknowledge")
                && !html("x", &over, None).contains("Acknowledge")
        );
    }

    #[test]
    fn nothing_that_is_told_is_read_as_html() {
        let bad = [told("<script>alert(1)</script>", "\"a\" & 'b' </p>")];
        for body in
            [html("<i>", &bad, None), html("<i>", &bad, Some("<script>alert(1)</script> & more"))]
        {
            assert!(
                !body.contains("<script>")
                    && body.contains("&lt;script&gt;")
                    && body.contains("&lt;i&gt;"),
                "{body}"
            );
        }
        let own = html("x", &bad, Some("two\nlines"));
        assert!(
            own.contains("pre-wrap")
                && own.contains("two\nlines")
                && !own.contains("Stand at that moment")
        );
    }

    #[test]
    fn a_storm_is_short_whatever_it_holds_and_says_how_many_are_not_named() {
        let all: Vec<Told> =
            (0..200).map(|n| told(&format!("Critical: {}{n}", "x".repeat(100)), "")).collect();
        let one = together(&all).unwrap();
        assert_eq!(
            (one.title.as_str(), one.acknowledge.as_str()),
            ("200 incidents told together", "")
        );
        assert!(one.says.ends_with("; and 190 more") && one.says.len() < 2_000, "{}", one.says);
        let text =
            cadentis_core::alert::own::rendered(cadentis_core::alert::notice::GATEWAY_TEXT, &one);
        assert!(serde_json::from_str::<Value>(&text.unwrap()).is_ok());
        assert_eq!(together(&all[..1]).as_ref(), Some(&all[0]));
        assert_eq!(together(&[]), None);
    }
}
