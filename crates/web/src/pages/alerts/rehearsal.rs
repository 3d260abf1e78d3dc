//! An alert that is acted out: how it is begun and ended, and what came of it.

use super::one::{Typed, show};
use super::{after, alert_of, incident_link, tone};
use crate::State;
use crate::access::{After, By, InSite};
use crate::error::PageError;
use crate::fields::{self, Fields, number, sentence};
use crate::format;
use crate::frame::{Frame, base};
use crate::respond::redirect;
use crate::view::Choice;
use crate::words::capital;
use actix_web::{HttpRequest, HttpResponse, web};
use cadentis_answers::alerts::{self, Rehearsed};
use cadentis_answers::changes::alerts as changes;
use cadentis_answers::kept::{Alert, Notice, Sent};
use cadentis_core::alert::Severity;
use cadentis_core::calendar::Stretch;
use jiff::Timestamp;

/// What there is to say of acting an alert out.
pub(super) struct Rehearsal {
    /// Whether one goes on.
    pub going: bool,
    /// The severities that the alert has levels for.
    pub severities: Vec<Choice>,
    /// Who would be told now, in words.
    pub tells: Vec<String>,
    pub rows: Vec<Row>,
}

/// One that was, or goes on.
pub(super) struct Row {
    pub when: String,
    pub by: String,
    pub severity: &'static str,
    pub tone: &'static str,
    /// How it went.
    pub went: String,
    /// Whom it told, and what became of that.
    pub told: Vec<String>,
    /// Its incident, if it opened one: number and link.
    pub incident: Option<(i32, String)>,
}

/// Loads it.
pub(super) async fn load(
    state: &State,
    frame: &Frame,
    alert: &Alert,
    chosen: &str,
) -> Result<Rehearsal, PageError> {
    let answers = &state.answers;
    let now = frame.now;
    let has: Vec<Severity> = Severity::ALL
        .into_iter()
        .rev()
        .filter(|s| alert.says.definition.acted(now, Some(*s), None).is_some())
        .collect();
    let mut tells = Vec::new();
    for severity in &has {
        let told = alerts::would_tell(answers, &frame.site, alert, *severity, now).await?;
        tells.push(would_tell(*severity, &told));
    }
    let all = alerts::rehearsed(answers, alert).await?;
    let choice = |s: &Severity| Choice::new(s.word(), s.word(), s.word() == chosen);
    Ok(Rehearsal {
        going: all.iter().any(|r| r.rehearsal.ended_at.is_none()),
        severities: has.iter().map(choice).collect(),
        tells,
        rows: all.iter().map(|r| row(frame, r)).collect(),
    })
}

/// Who would be told, in a sentence.
fn would_tell(severity: Severity, told: &[(i64, String)]) -> String {
    let severity = severity.word();
    if told.is_empty() {
        return format!("A {severity} incident would be told to nobody.");
    }
    let mut by: Vec<(i64, Vec<&str>)> = Vec::new();
    for (minutes, name) in told {
        match by.last_mut() {
            Some((held, names)) if held == minutes => names.push(name),
            _ => by.push((*minutes, vec![name])),
        }
    }
    let step = |(minutes, names): &(i64, Vec<&str>)| match minutes {
        0 => format!("{} at once", names.join(", ")),
        n => format!("{} after {n} min if nobody has acknowledged", names.join(", ")),
    };
    let steps: Vec<String> = by.iter().map(step).collect();
    format!("A {severity} incident would be told to {}.", steps.join("; to "))
}

fn row(frame: &Frame, r: &Rehearsed) -> Row {
    let Rehearsed { rehearsal, incident, notices } = r;
    let took = |from: Timestamp, to: Timestamp| after(to.duration_since(from).as_secs_f64() * 1e3);
    let opened = match incident {
        None if rehearsal.ended_at.is_none() => "not open yet".to_string(),
        None => "it ended before it opened".into(),
        Some(i) => format!("opened after {}", took(rehearsal.begun_at, i.noticed_at)),
    };
    let went = match incident.as_ref().and_then(|i| i.cleared_at) {
        None => opened,
        Some(at) => format!("{opened}, cleared after {}", took(rehearsal.begun_at, at)),
    };
    let told = |n: &Notice| {
        let became = match n.sent {
            Sent::Delivered => match n.told_at {
                Some(at) => format!("delivered after {}", took(rehearsal.begun_at, at)),
                None => "delivered".into(),
            },
            Sent::Waiting if n.failed > 0 => format!("not taken {} times so far", n.failed),
            Sent::Waiting => "waits for its moment".into(),
            Sent::Dropped => "was not needed any more".into(),
            Sent::GivenUp => "given up".into(),
        };
        format!("{}, {}: {became}", n.destination, n.tells.word())
    };
    let link = incident.as_ref().map(|i| {
        let stretch = Stretch { from: i.since, to: i.cleared_at.unwrap_or(frame.now) };
        (i.id, incident_link(frame, i.id, stretch))
    });
    Row {
        when: format::day_clock(rehearsal.begun_at, &frame.site.zone),
        by: rehearsal.author.clone(),
        severity: rehearsal.severity.word(),
        tone: tone(Some(rehearsal.severity)),
        went,
        told: notices.iter().map(told).collect(),
        incident: link,
    }
}

/// `POST /alerts/{id}/rehearse`: acts it out for so many minutes; with `end` it ends the one that goes on.
pub async fn rehearse(
    state: web::Data<State>,
    InSite(site): InSite,
    After(id): After<i32>,
    By(by): By,
    request: HttpRequest,
    fields: web::Form<Fields>,
) -> Result<HttpResponse, PageError> {
    let alert = alert_of(&state, &site, id).await?;
    let now = Timestamp::now();
    if !fields::one(&fields, "end").is_empty() {
        changes::stop_rehearsal(&state.answers, &by, &alert, now).await?;
        return Ok(redirect(&format!("{}/alerts/{id}", base(&site))));
    }
    let typed = Typed {
        minutes: fields::line(&fields, "minutes", 10),
        severity: fields::line(&fields, "severity", 10),
        ..Typed::default()
    };
    let whole = number(&typed.minutes).filter(|n| n.fract() == 0.0 && n.abs() < 1e6);
    let severity = Severity::of_word(&typed.severity).unwrap_or(Severity::Critical);
    let wanted = (severity, whole.map_or(0, |n| n as i64));
    match changes::rehearse(&state.answers, &by, &alert, wanted, now).await? {
        Ok(_) => Ok(redirect(&format!("{}/alerts/{id}", base(&site)))),
        Err(why) => {
            let wrong = Some(("minutes", sentence(&capital(&why.to_string()))));
            show(&state, &site, id, &request, typed, wrong).await
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn who_would_be_told_is_said_in_the_order_of_time() {
        let told = [(0, "board".to_string()), (0, "mail".into()), (10, "manager".into())];
        assert_eq!(
            would_tell(Severity::Critical, &told),
            "A critical incident would be told to board, mail at once; to manager after 10 min if nobody has acknowledged."
        );
        assert_eq!(
            would_tell(Severity::Warning, &[]),
            "A warning incident would be told to nobody."
        );
    }
}
