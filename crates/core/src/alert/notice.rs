//! Notices: who is told of an incident, when, and how many messages that makes.

use super::Severity;
use crate::goal::definition::ServiceHours;
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// One step of a call list.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Step {
    /// So many minutes after an incident opened; later than at once only if nobody has acknowledged it by then.
    pub after_min: u32,
    /// For incidents that are at least so bad.
    pub least: Severity,
    /// Only then; always without.
    #[serde(default)]
    pub hours: Option<ServiceHours>,
    /// Whom, by the ids of destinations.
    pub destinations: Vec<i32>,
}

/// A call list has so many steps at most.
pub const MOST_STEPS: usize = 10;
/// A step is so many minutes late at most: a day.
pub const LATEST_MIN: u32 = 1_440;
/// A message that cannot be delivered is given up after so long.
pub const GIVES_UP_AFTER: SignedDuration = SignedDuration::from_hours(24);
/// From so many incidents on that one destination would be told of at once they become one message.
pub const FOLDS_FROM: usize = 4;

/// Somebody who is to be told, and when.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Due {
    /// The destination.
    pub destination: i32,
    /// From when on.
    pub at: Timestamp,
    /// Only while nobody has acknowledged the incident.
    pub unless_acknowledged: bool,
}

/// Who is told of an incident of this severity that opened at a moment. Whoever stands in several steps is told by the
/// earliest that holds for them.
pub fn due(steps: &[Step], severity: Severity, opened: Timestamp, zone: &TimeZone) -> Vec<Due> {
    let mut all: BTreeMap<i32, Due> = BTreeMap::new();
    for step in steps.iter().filter(|s| severity >= s.least) {
        let at = opened + SignedDuration::from_mins(i64::from(step.after_min));
        let is_open = step.hours.as_ref().is_none_or(|hours| {
            let around =
                crate::calendar::Stretch { from: at, to: at + SignedDuration::from_secs(1) };
            let windows = [hours.window(zone)];
            crate::goal::period::counted(around, &windows, &Default::default(), zone).contains(at)
        });
        if !is_open {
            continue;
        }
        for destination in &step.destinations {
            let due =
                Due { destination: *destination, at, unless_acknowledged: step.after_min > 0 };
            let held = all.entry(*destination).or_insert(due);
            if due.at < held.at {
                *held = due;
            }
        }
    }
    all.into_values().collect()
}

/// How long to wait before the next try, after so many have failed: ten seconds, twice as long each time, a quarter of an hour
/// at most.
pub fn wait_after(failed: u32) -> SignedDuration {
    let seconds = 10i64.saturating_mul(1 << failed.saturating_sub(1).min(10));
    SignedDuration::from_secs(seconds.min(900))
}

/// What kind of way somebody is told by.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Kind {
    /// E-mail.
    Mail,
    /// A signed CloudEvent, sent to an address.
    Webhook,
    /// A line of text, sent to an address as JSON: what chat rooms take.
    Chat,
    /// A text of one's own, sent to an address: what gateways of short messages and calls take.
    Gateway,
    /// A signed CloudEvent to what keeps tickets: it answers with the one it opened, and what became of it.
    Ticket,
    /// A signed CloudEvent to what can mend: it answers with what it did.
    Repair,
}

/// What a gateway is sent when nobody wrote a text for it.
pub const GATEWAY_TEXT: &str =
    "{\"text\": {{ (title ~ \": \" ~ says)|tojson }}, \"link\": {{ link|tojson }}}";

impl Kind {
    /// All of them.
    pub const ALL: [Kind; 6] =
        [Kind::Mail, Kind::Webhook, Kind::Chat, Kind::Gateway, Kind::Ticket, Kind::Repair];

    /// In one word.
    pub fn word(self) -> &'static str {
        match self {
            Kind::Mail => "mail",
            Kind::Webhook => "webhook",
            Kind::Chat => "chat",
            Kind::Gateway => "gateway",
            Kind::Ticket => "ticket",
            Kind::Repair => "repair",
        }
    }

    /// As people say it.
    pub fn words(self) -> &'static str {
        match self {
            Kind::Mail => "mail",
            Kind::Webhook => "webhook",
            Kind::Chat => "chat",
            Kind::Gateway => "SMS or voice, by a gateway",
            Kind::Ticket => "ticket",
            Kind::Repair => "repair",
        }
    }

    /// Whether it takes a text of one's own; the others get a CloudEvent.
    pub fn has_text(self) -> bool {
        matches!(self, Kind::Mail | Kind::Chat | Kind::Gateway)
    }

    /// Whether it has a secret: what events are signed with, and what a gateway is shown.
    pub fn has_secret(self) -> bool {
        !matches!(self, Kind::Mail | Kind::Chat)
    }

    /// Whether it is told that something is over: nobody mends what is.
    pub fn hears_of_ends(self) -> bool {
        self != Kind::Repair
    }

    /// The one of this word.
    pub fn of_word(word: &str) -> Option<Kind> {
        Kind::ALL.into_iter().find(|k| k.word() == word)
    }

    /// Whether something can be an address of this kind.
    ///
    /// # Errors
    /// Says what would be right.
    pub fn check(self, address: &str) -> Result<(), &'static str> {
        let is_plain = address.len() <= 500 && !address.chars().any(|c| c.is_control() || c == ' ');
        let fine = match self {
            Kind::Mail => {
                let parts = address.split_once('@');
                is_plain
                    && parts.is_some_and(|(who, host)| {
                        let bad = |c: char| matches!(c, '@' | ',' | ';' | '<' | '>' | '"');
                        !who.is_empty()
                            && host.contains('.')
                            && !address.replacen('@', "", 1).contains(bad)
                    })
            }
            Kind::Webhook | Kind::Chat | Kind::Gateway | Kind::Ticket | Kind::Repair => {
                is_plain && (address.starts_with("https://") || address.starts_with("http://"))
            }
        };
        match (fine, self) {
            (true, _) => Ok(()),
            (false, Kind::Mail) => Err("one address such as on-call@marram.example"),
            (false, _) => Err("an address that begins with https:// or http://"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn step(after_min: u32, least: Severity, destinations: &[i32]) -> Step {
        Step { after_min, least, hours: None, destinations: destinations.to_vec() }
    }

    fn at(text: &str) -> Timestamp {
        text.parse().unwrap()
    }

    #[test]
    fn a_call_list_says_who_is_told_when_and_on_which_condition() {
        let steps = [
            step(0, Severity::Warning, &[1]),
            step(10, Severity::Critical, &[1, 2]),
            step(30, Severity::Critical, &[3]),
        ];
        let opened = at("2026-11-20T10:00:00Z");
        let of = |severity| due(&steps, severity, opened, &TimeZone::UTC);
        assert_eq!(
            of(Severity::Warning),
            [Due { destination: 1, at: opened, unless_acknowledged: false }]
        );
        let told: Vec<(i32, i64, bool)> = of(Severity::Critical)
            .iter()
            .map(|d| (d.destination, d.at.duration_since(opened).as_mins(), d.unless_acknowledged))
            .collect();
        assert_eq!(
            told,
            [(1, 0, false), (2, 10, true), (3, 30, true)],
            "who is told at once is not told twice"
        );
    }

    #[test]
    fn a_step_holds_in_its_hours_by_the_clock_of_the_site() {
        let hours = ServiceHours {
            days: [true, true, true, true, true, false, false],
            from: jiff::civil::time(8, 0, 0, 0),
            until: jiff::civil::time(17, 0, 0, 0),
        };
        let day = Step { hours: Some(hours), ..step(0, Severity::Warning, &[1]) };
        let zone = TimeZone::get("Europe/Oslo").unwrap();
        let told =
            |text: &str| due(std::slice::from_ref(&day), Severity::Critical, at(text), &zone).len();
        // Friday 20 November 2026, an hour behind Oslo in UTC.
        assert_eq!([told("2026-11-20T06:59:00Z"), told("2026-11-20T07:00:00Z")], [0, 1]);
        assert_eq!(
            [
                told("2026-11-20T15:59:00Z"),
                told("2026-11-20T16:00:00Z"),
                told("2026-11-21T10:00:00Z")
            ],
            [1, 0, 0]
        );
    }

    #[test]
    fn tries_come_seldomer_and_never_more_than_a_quarter_of_an_hour_apart() {
        let waits: Vec<i64> = (1..=9).map(|n| wait_after(n).as_secs()).collect();
        assert_eq!(waits, [10, 20, 40, 80, 160, 320, 640, 900, 900]);
        assert_eq!(wait_after(u32::MAX).as_secs(), 900);
    }

    #[test]
    fn what_can_be_an_address_is_one_and_nothing_beside_it() {
        for good in ["on-call@marram.example", "a.b+c@x.y"] {
            assert_eq!(Kind::Mail.check(good), Ok(()), "{good}");
        }
        for bad in [
            "",
            "x",
            "a@b",
            "a@b.c, d@e.f",
            "a b@c.d",
            "A <a@b.c>",
            "a@b.c\r\nBcc: x@y.z",
            "a@@b.c",
        ] {
            assert!(Kind::Mail.check(bad).is_err(), "{bad}");
        }
        assert!(Kind::Webhook.check("https://hooks.marram.example/x").is_ok());
        assert!(Kind::Chat.check("ftp://x").is_err() && Kind::Chat.check("https://a b").is_err());
    }

    proptest! {
        #[test]
        fn nobody_is_told_twice_and_nobody_of_less_than_concerns_them(
            steps in prop::collection::vec((0u32..120, any::<bool>(), prop::collection::vec(1i32..6, 0..4)), 0..6), critical: bool,
        ) {
            let steps: Vec<Step> = steps.into_iter()
                .map(|(after, critical, to)| step(after, if critical { Severity::Critical } else { Severity::Warning }, &to)).collect();
            let severity = if critical { Severity::Critical } else { Severity::Warning };
            let opened = at("2026-11-20T10:00:00Z");
            let all = due(&steps, severity, opened, &TimeZone::UTC);
            let ids: std::collections::BTreeSet<i32> = all.iter().map(|d| d.destination).collect();
            prop_assert_eq!(ids.len(), all.len());
            for d in &all {
                let of = steps.iter().filter(|s| severity >= s.least && s.destinations.contains(&d.destination));
                let earliest = of.map(|s| s.after_min).min().unwrap();
                prop_assert_eq!(d.at.duration_since(opened).as_mins(), i64::from(earliest));
                prop_assert_eq!(d.unless_acknowledged, earliest > 0);
            }
        }
    }
}
