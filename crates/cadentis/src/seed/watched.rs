//! What is watched of the demo's site, who is told, and what the watch would have done in the history of the demo.

use super::{BOOKING_TEAM, SITE_KEY};
use crate::Failure;
use cadentis_answers::compute::Compute;
use cadentis_answers::{Answers, watch};
use cadentis_core::alert::notice::{self, Kind as DestinationKind, Step};
use cadentis_core::alert::{Definition, NoData, Rule, Severity};
use cadentis_core::calendar::Stretch;
use cadentis_standins::story::Story;
use cadentis_store::Db;
use cadentis_store::alert::Says;
use cadentis_store::incident::{Event, Incident, What};
use cadentis_store::notice::{NewNotice, Tells};
use cadentis_store::site::Site;
use jiff::{SignedDuration, Timestamp};
use std::time::{Duration, Instant};

/// What is watched of booking: name, measure, levels in the measure's own unit (warning, critical, clear), minutes of the
/// window, evaluations running, least samples, and what to do.
type Watched = (&'static str, &'static str, [Option<f64>; 3], i64, u32, u64, &'static str);

const WATCHED: [Watched; 10] = [
    (
        "The timetable does not answer somewhere",
        "failing locations for journey \"timetable-answers\"",
        [None, Some(0.0), None],
        2,
        1,
        0,
        "Look whether the place or the site is away.",
    ),
    (
        "Booking fails from several places",
        "failing locations for journey \"book-a-crossing\"",
        [None, Some(2.0), Some(1.0)],
        10,
        1,
        0,
        "Call whoever is on duty at the quay. If it began with a release, roll it back first.",
    ),
    (
        "One place cannot book",
        "failing locations for journey \"book-a-crossing\"",
        [Some(0.0), None, None],
        10,
        10,
        0,
        "Look at the location: its own network, or the way from there.",
    ),
    (
        "Sailings list slow for visitors",
        "p75 of LCP for family \"Sailings list\"",
        [Some(2_900.0), Some(3_600.0), Some(2_600.0)],
        60,
        10,
        8,
        "Look at the slow sailings query; roll back if it began with a release.",
    ),
    (
        "Searching sailings over its budget",
        "p75 of step duration for journey \"book-a-crossing\" and step \"Search sailings\"",
        [Some(2_500.0), None, Some(2_300.0)],
        30,
        3,
        6,
        "",
    ),
    (
        "Requests fail at the gateway",
        "share of requests failed for fault \"gateway\"",
        [Some(0.03), Some(0.1), Some(0.01)],
        60,
        5,
        10,
        "Ask whoever looks after the timetable's machines.",
    ),
    ("Blank pages", "share blank", [Some(0.02), Some(0.05), Some(0.01)], 180, 3, 60, ""),
    (
        "Visitors stop arriving",
        "silence of page views",
        [None, Some(5_400_000.0), None],
        90,
        1,
        0,
        "",
    ),
    (
        "Booking is not played",
        "silence of runs for journey \"book-a-crossing\"",
        [Some(1_200_000.0), None, None],
        20,
        1,
        0,
        "Start the runners again: until then nobody knows how the site is.",
    ),
    (
        "Map supplier says that it is in trouble",
        "state for dependency \"map-tiles\"",
        [Some(1.0), None, None],
        1,
        1,
        0,
        "",
    ),
];

/// Receivers of the web in the outbox of the demo, and where each is.
pub const RECEIVERS: [(&str, &str); 4] = [
    ("Booking room", "chat/booking-room"),
    ("Status board", "hooks/status-board"),
    ("SMS to whoever is on duty", "sms/duty"),
    ("Ticket desk", "tickets/booking"),
];

/// What some of them answer.
pub const ANSWERS: [(&str, &str); 1] = [("/tickets/", "{\"ticket\": \"BOOK-207\"}")];

/// Who is told: the team at once, Ines when nobody has acknowledged a critical incident.
async fn told_to(db: &Db, site_id: i32) -> Result<(), Failure> {
    let mut ids = Vec::new();
    let [room, board, sms, tickets] =
        RECEIVERS.map(|(name, path)| (name, format!("http://127.0.0.1:9/{path}")));
    for (name, kind, address) in [
        ("Booking team, on call", DestinationKind::Mail, "on-call@marram.example"),
        (room.0, DestinationKind::Chat, room.1.as_str()),
        (board.0, DestinationKind::Webhook, board.1.as_str()),
        (sms.0, DestinationKind::Gateway, sms.1.as_str()),
        (tickets.0, DestinationKind::Ticket, tickets.1.as_str()),
        ("Ines", DestinationKind::Mail, "ines@marram.example"),
    ] {
        let id = db.add_destination(site_id, (name, kind, address), None, "Ines").await?;
        ids.push(id.ok_or("a destination of its own")?);
    }
    let step = |after_min, least, destinations: &[i32]| Step {
        after_min,
        least,
        hours: None,
        destinations: destinations.to_vec(),
    };
    let steps = [
        step(0, Severity::Warning, &ids[..3]),
        step(0, Severity::Critical, &ids[3..5]),
        step(10, Severity::Critical, &ids[5..]),
    ];
    db.put_call_list(site_id, ("Booking team", &steps, true), "Ines").await?;
    Ok(())
}

/// Lets alerts watch the past: the incidents of the story are those that they would have opened.
pub(super) async fn watch_history(db: &Db, story: &Story, begin: Timestamp) -> Result<(), Failure> {
    let site = db.site_by_key(SITE_KEY).await?.ok_or("the site of the demo is gone")?;
    told_to(db, site.id).await?;
    let team = db.teams().await?.into_iter().find(|t| t.name == BOOKING_TEAM).map(|t| t.id);
    let says = |name: &str, definition, instructions: &str| Says {
        name: name.into(),
        definition,
        team_id: team,
        instructions: instructions.into(),
        link: String::new(),
        lists: [None; 2],
    };
    let plain = |measure: &str, rule| -> Result<Definition, Failure> {
        Ok(Definition {
            measured: measure.parse()?,
            rule,
            window_s: 300,
            every_s: 60,
            running: 1,
            least_samples: 0,
            least_places: 0,
            no_data: NoData::Keep,
            service_hours: None,
        })
    };
    for (name, measure, [warning, critical, clear], minutes, running, least, todo) in WATCHED {
        let level = Rule::Level { warning, critical, clear };
        let definition = Definition {
            window_s: minutes * 60,
            running,
            least_samples: least,
            ..plain(measure, level)?
        };
        db.add_alert(site.id, &says(name, definition, todo), (true, begin), "Tor").await?;
    }
    let burn = "burn rate over 1 h and 5 min for goal \"Crossings can be booked\"";
    let burns = plain(burn, Rule::Burns)?;
    let name = "The error budget of booking burns";
    db.add_alert(site.id, &says(name, burns, ""), (true, begin), "Ines").await?;
    let unlike = Rule::Unusual { warning: Some(5.0), critical: Some(8.0), clear: None };
    let unlike = Definition {
        window_s: 3_600,
        every_s: 300,
        running: 3,
        least_samples: 30,
        ..plain("p75 of LCP", unlike)?
    };
    let todo = "Nobody promised anything here: look what is different from other weeks.";
    let name = "Pages slower than at this time of other weeks";
    db.add_alert(site.id, &says(name, unlike, todo), (true, begin), "Tor").await?;
    let begun = Instant::now();
    let compute = Compute::start(2, 64, Duration::from_secs(120))?;
    let answers = Answers::new(db.clone(), compute);
    let done = watch::replay(&answers, begin, story.now).await?;
    tracing::info!(
        "{} evaluations of {} alerts watched in {:.1} s",
        done.evaluations,
        WATCHED.len() + 2,
        begun.elapsed().as_secs_f64()
    );
    // Who was told of them, and what people did about them at the time.
    let past = Stretch { from: begin, to: story.now };
    let incidents = db.incidents(site.id, past).await?;
    // The newest first is how they come; notices are written as time went.
    for incident in incidents.iter().rev() {
        told_then(db, &site, incident).await?;
    }
    for (nth, incident) in incidents.into_iter().enumerate() {
        if nth % 3 == 2 {
            continue;
        }
        let by = if nth % 2 == 0 { "Tor" } else { "Ines" };
        let at = incident.opened_at + SignedDuration::from_mins(2 + 3 * nth as i64 % 11);
        if incident.cleared_at.is_none_or(|cleared| at < cleared) && at < story.now {
            db.acknowledge(incident.id, by, at).await?;
            let event =
                Event { at, what: What::Acknowledged, says: String::new(), author: by.into() };
            db.note_event(incident.id, &event).await?;
        }
    }
    Ok(())
}

/// The notices that an incident of the past would have sent, as they would have been taken.
async fn told_then(db: &Db, site: &Site, incident: &Incident) -> Result<(), Failure> {
    let lists = db.call_lists(site.id).await?;
    let Some(list) = lists.iter().find(|l| l.is_usual) else { return Ok(()) };
    let destinations = db.destinations(site.id).await?;
    let opened = (Tells::Opened, incident.noticed_at, "has opened");
    let cleared = incident.cleared_at.map(|at| (Tells::Cleared, at, "has cleared"));
    for (tells, at, what) in std::iter::once(opened).chain(cleared) {
        for due in notice::due(&list.steps, incident.severity, at, &site.zone) {
            // Somebody acknowledged it, or it was over.
            let Some(to) = destinations.iter().find(|d| d.id == due.destination) else { continue };
            if due.unless_acknowledged {
                continue;
            }
            let says = format!("{} {what}", incident.title);
            let new = NewNotice {
                site_id: site.id,
                incident_id: Some(incident.id),
                issue_id: None,
                destination: (to.id, &to.name),
                tells,
                severity: incident.severity,
                says: &says,
                at,
                due_at: due.at,
                unless_acknowledged: false,
            };
            let id = db.add_notice(&new).await?;
            let taken = db.notice(id).await?.ok_or("the notice just written is gone")?;
            let answer = if to.kind == DestinationKind::Mail { "250 kept" } else { "200 OK" };
            let after = SignedDuration::from_secs(2 + i64::from(to.id % 3));
            db.note_attempt(&taken, (true, answer), at + after).await?;
        }
    }
    Ok(())
}
