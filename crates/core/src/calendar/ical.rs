//! Windows in and out as iCalendar (RFC 5545).
//!
//! Each event becomes a window and each window an event: `DTSTART` with `TZID`, in UTC, or floating
//! for "each location's own time". What the format cannot say is written beside it under names of
//! our own, which others pass over: an end by the wall clock (`X-CADENTIS-ENDS`) and when a window
//! is in force (`X-CADENTIS-IN-FORCE`).

use super::rule::{Rule, RuleError, date_time, day};
use super::window::{Clock, Length, Repeat, Window, WindowError};
use icalendar::parser::{Component as Parsed, Property as ParsedProperty, read_components, unfold};
use icalendar::{Calendar, Component, Event, Property};
use jiff::civil::{DateTime, Time, date};
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Span, Timestamp};

/// What is wrong with a calendar, and where.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
#[expect(missing_docs, reason = "each says what it is when it is told")]
pub enum IcalError {
    #[error("no iCalendar text: it begins with BEGIN:VCALENDAR and ends with END:VCALENDAR")]
    NotOne,
    #[error("event {nth} ({name}): {what}")]
    Event { nth: usize, name: String, what: What },
}

/// What is wrong with an event.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
#[expect(missing_docs, reason = "each says what it is when it is told")]
pub enum What {
    #[error("no {0}")]
    Missing(&'static str),
    #[error("{property} {value:?} is none: {right}")]
    Value { property: &'static str, value: String, right: &'static str },
    #[error("TZID {0:?} is no zone of the IANA tz database, such as Europe/Oslo")]
    Zone(String),
    #[error("DTSTART is a date and DTEND is none, or the other way round")]
    Mixed,
    #[error(transparent)]
    Rule(#[from] RuleError),
    #[error(transparent)]
    Window(#[from] WindowError),
}

const ENDS: &str = "X-CADENTIS-ENDS";
const IN_FORCE: &str = "X-CADENTIS-IN-FORCE";

/// Reads every event as a window. An event that cannot be one is told beside those that can:
/// nothing is dropped in silence.
pub fn read(text: &str) -> (Vec<Window>, Vec<IcalError>) {
    let unfolded = unfold(text);
    let Ok(components) = read_components(&unfolded) else {
        return (vec![], vec![IcalError::NotOne]);
    };
    if !components.iter().any(|c| c.name == "VCALENDAR") {
        return (vec![], vec![IcalError::NotOne]);
    }
    let (mut windows, mut wrong) = (Vec::new(), Vec::new());
    let events = components.iter().flat_map(|c| &c.components).filter(|c| c.name == "VEVENT");
    for (nth, event) in events.enumerate() {
        match window(event) {
            Ok(Some(window)) => windows.push(window),
            Ok(None) => {}
            Err(what) => {
                let name = text_of(event, "SUMMARY").unwrap_or_else(|| "without a name".into());
                wrong.push(IcalError::Event {
                    nth: nth + 1,
                    name: name.chars().take(80).collect(),
                    what,
                });
            }
        }
    }
    (windows, wrong)
}

fn property<'a>(event: &'a Parsed<'_>, name: &str) -> Option<&'a ParsedProperty<'a>> {
    event.properties.iter().find(|p| p.name == name)
}

fn text_of(event: &Parsed<'_>, name: &str) -> Option<String> {
    // The reader has taken the escapes out.
    property(event, name).map(|p| p.val.as_str().to_string())
}

fn parameter<'a>(property: &'a ParsedProperty<'_>, name: &str) -> Option<&'a str> {
    property.params.iter().find(|p| p.key == name).and_then(|p| p.val.as_ref()).map(|v| v.as_str())
}

/// One written time: what it says, and on which clock.
struct Written {
    at: DateTime,
    clock: Clock,
    whole_day: bool,
}

fn written(
    property: &ParsedProperty<'_>,
    name: &'static str,
    value: &str,
) -> Result<Written, What> {
    let clock = match parameter(property, "TZID") {
        Some(zone) => {
            Clock::Zone(TimeZone::get(zone.trim_matches('"')).map_err(|_| What::Zone(zone.into()))?)
        }
        None => Clock::Location,
    };
    if let Some(date) = day(value) {
        return Ok(Written { at: date.at(0, 0, 0, 0), clock, whole_day: true });
    }
    let (wall, clock) = match value.strip_suffix('Z') {
        Some(wall) => (wall, Clock::Utc),
        None => (value, clock),
    };
    let right = "write 20261231, 20261231T220000 or 20261231T220000Z";
    let at = date_time(wall).ok_or_else(|| What::Value {
        property: name,
        value: value.chars().take(40).collect(),
        right,
    })?;
    Ok(Written { at, clock, whole_day: false })
}

/// The same moment on another clock, where both name moments; floating times stay as they stand.
fn on_clock(at: &Written, clock: &Clock) -> DateTime {
    let zone = |c: &Clock| match c {
        Clock::Utc => Some(TimeZone::UTC),
        Clock::Zone(z) => Some(z.clone()),
        Clock::Location => None,
    };
    match (zone(&at.clock), zone(clock)) {
        (Some(a), Some(b)) if !at.whole_day => a
            .to_ambiguous_timestamp(at.at)
            .compatible()
            .map_or(at.at, |moment| b.to_datetime(moment)),
        _ => at.at,
    }
}

/// `None`: an event that was called off.
fn window(event: &Parsed<'_>) -> Result<Option<Window>, What> {
    if text_of(event, "STATUS").is_some_and(|s| s.eq_ignore_ascii_case("CANCELLED")) {
        return Ok(None);
    }
    let begin = property(event, "DTSTART").ok_or(What::Missing("DTSTART"))?;
    let start = written(begin, "DTSTART", begin.val.as_str())?;
    let clock = start.clock.clone();
    let zone = match &clock {
        Clock::Zone(zone) => zone.clone(),
        Clock::Utc | Clock::Location => TimeZone::UTC,
    };
    let repeat = match property(event, "RRULE") {
        None => Repeat::Once,
        Some(rule) => Repeat::Rule(Rule::parse(rule.val.as_str(), start.at, &zone)?),
    };
    let listed = |name| listed(event, name, &start);
    let (except, besides) = (listed("EXDATE")?, listed("RDATE")?);
    let window = Window {
        first: start.at,
        length: length_written(event, &start)?,
        repeat,
        clock,
        in_force: in_force(event)?,
        except,
        besides,
        why: text_of(event, "SUMMARY").unwrap_or_default().chars().take(2_000).collect(),
    };
    window.check()?;
    Ok(Some(window))
}

/// How long an event lasts.
fn length_written(event: &Parsed<'_>, start: &Written) -> Result<Length, What> {
    Ok(match (property(event, "DTEND"), property(event, "DURATION"), property(event, ENDS)) {
        (_, _, Some(ends)) if !start.whole_day => {
            let value = ends.val.as_str();
            let wrong = || What::Value {
                property: ENDS,
                value: value.into(),
                right: "write a time such as 063000",
            };
            Length::UntilTime(Time::strptime("%H%M%S", value).map_err(|_| wrong())?)
        }
        (Some(end), ..) => {
            let until = written(end, "DTEND", end.val.as_str())?;
            if until.whole_day != start.whole_day {
                return Err(What::Mixed);
            }
            let at = on_clock(&until, &start.clock);
            if start.whole_day {
                let days = start.at.date().until(at.date()).map_or(0, |s| s.get_days());
                Length::Days(u16::try_from(days).unwrap_or(0))
            } else {
                Length::Exact(exactly(start.at, at, &start.clock))
            }
        }
        (None, Some(duration), _) => {
            let value = duration.val.as_str();
            length_of(value).ok_or_else(|| What::Value {
                property: "DURATION",
                value: value.chars().take(40).collect(),
                right: "write PT90M, P1D or PT1H30M",
            })?
        }
        // RFC 5545, 3.6.1: a date without an end is that day.
        (None, None, _) if start.whole_day => Length::Days(1),
        (None, None, _) => return Err(What::Missing("DTEND or DURATION")),
    })
}

/// The moments of a list, on the clock of the event.
fn listed(event: &Parsed<'_>, name: &'static str, start: &Written) -> Result<Vec<DateTime>, What> {
    let mut all = Vec::new();
    for p in event.properties.iter().filter(|p| p.name == name) {
        for value in p.val.as_str().split(',') {
            let mut at = written(p, name, value.trim())?;
            if at.whole_day && !start.whole_day {
                at.at = at.at.date().to_datetime(start.at.time());
            }
            all.push(on_clock(&at, &start.clock));
        }
    }
    Ok(all)
}

/// From when to when the window was in force.
fn in_force(event: &Parsed<'_>) -> Result<(Option<Timestamp>, Option<Timestamp>), What> {
    match property(event, IN_FORCE) {
        None => Ok((None, None)),
        Some(p) => {
            let value = p.val.as_str();
            let wrong = || What::Value {
                property: IN_FORCE,
                value: value.into(),
                right: "write two moments with a / between",
            };
            let (from, until) = value.split_once('/').ok_or_else(wrong)?;
            let moment = |s: &str| {
                if s == ".." {
                    Ok(None)
                } else {
                    s.parse::<Timestamp>().map(Some).map_err(|_| wrong())
                }
            };
            Ok((moment(from)?, moment(until)?))
        }
    }
}

/// The exact time between two wall-clock times.
fn exactly(from: DateTime, to: DateTime, clock: &Clock) -> SignedDuration {
    let zone = match clock {
        Clock::Zone(zone) => zone.clone(),
        Clock::Utc | Clock::Location => TimeZone::UTC,
    };
    let moment = |at: DateTime| zone.to_ambiguous_timestamp(at).compatible();
    match (moment(from), moment(to)) {
        (Ok(a), Ok(b)) => b.duration_since(a),
        _ => SignedDuration::ZERO,
    }
}

/// A DURATION of RFC 5545, 3.3.6: `P1D`, `PT1H30M`, `P2W`; whole days follow the calendar.
pub fn length_of(text: &str) -> Option<Length> {
    // The grammar has no fractions, and weeks stand alone.
    if text.len() > 40 || text.contains(['.', ',']) {
        return None;
    }
    let span: Span = text.strip_prefix('+').unwrap_or(text).parse().ok()?;
    if span.is_negative()
        || span.get_years() != 0
        || span.get_months() != 0
        || !text.contains(['P', 'p'])
    {
        return None;
    }
    let days = i64::from(span.get_weeks()) * 7 + i64::from(span.get_days());
    let rest = i64::from(span.get_hours())
        .checked_mul(3_600)?
        .checked_add(span.get_minutes().checked_mul(60)?)?
        .checked_add(span.get_seconds())?;
    if rest == 0 && days > 0 {
        return u16::try_from(days).ok().map(Length::Days);
    }
    let seconds = days.checked_mul(86_400)?.checked_add(rest)?;
    (0 < seconds && seconds < 400 * 86_400)
        .then(|| Length::Exact(SignedDuration::from_secs(seconds)))
}

/// A window that is written into a calendar.
#[derive(Debug, Clone, Copy)]
pub struct Entry<'a> {
    /// What tells it from others, for good.
    pub id: i64,
    /// The window.
    pub window: &'a Window,
    /// More of it than its name.
    pub detail: &'a str,
}

/// Writes the windows as one calendar. `stamp` is when it was written.
pub fn write(entries: &[Entry<'_>], stamp: Timestamp) -> String {
    let windows = || entries.iter().map(|e| e.window);
    let mut calendar = Calendar::empty();
    for (name, value) in
        [("VERSION", "2.0"), ("PRODID", "-//Cadentis//Cadentis//EN"), ("CALSCALE", "GREGORIAN")]
    {
        calendar.append_property(Property::new(name, value));
    }
    for entry in entries {
        calendar.push(event(entry, stamp));
    }
    let mut text = calendar.done().to_string();
    // RFC 5545, 3.6.5: each zone that is named must be described. The library has no such part.
    let years = windows().map(|w| w.first.year()).min().unwrap_or(1970);
    let mut zones: Vec<&TimeZone> = Vec::new();
    for window in windows() {
        if let Clock::Zone(zone) = &window.clock
            && !zones.contains(&zone)
        {
            zones.push(zone);
        }
    }
    let described: String = zones.into_iter().filter_map(|zone| described(zone, years)).collect();
    if let Some(first) = text.find("BEGIN:VEVENT") {
        text.insert_str(first, &described);
    }
    text
}

/// So many years of clock changes are described, from the year of the first window.
const DESCRIBED_YEARS: i16 = 20;

/// A zone as a VTIMEZONE: one part for each offset in force, by the moment it came into force.
fn described(zone: &TimeZone, year: i16) -> Option<String> {
    let name = zone.iana_name().filter(|n| *n != "UTC")?;
    let begin = zone.to_timestamp(date(year, 1, 1).at(0, 0, 0, 0)).ok()?;
    let end =
        zone.to_timestamp(date(year.checked_add(DESCRIBED_YEARS)?, 1, 1).at(0, 0, 0, 0)).ok()?;
    let offset = |seconds: i32| {
        let (sign, s) = (if seconds < 0 { '-' } else { '+' }, seconds.abs());
        format!("{sign}{:02}{:02}", s / 3_600, s / 60 % 60)
    };
    let mut text = format!("BEGIN:VTIMEZONE\r\nTZID:{name}\r\n");
    let mut from = zone.to_offset_info(begin).offset();
    let changes = [begin]
        .into_iter()
        .chain(zone.following(begin).map(|t| t.timestamp()).take_while(|t| *t < end));
    for at in changes {
        let now = zone.to_offset_info(at);
        let kind = if now.dst().is_dst() { "DAYLIGHT" } else { "STANDARD" };
        // The moment is written on the clock as it was before.
        let wall = from.to_datetime(at).strftime("%Y%m%dT%H%M%S").to_string();
        text += &format!(
            "BEGIN:{kind}\r\nDTSTART:{wall}\r\nTZOFFSETFROM:{}\r\nTZOFFSETTO:{}\r\nTZNAME:{}\r\nEND:{kind}\r\n",
            offset(from.seconds()),
            offset(now.offset().seconds()),
            now.abbreviation()
        );
        from = now.offset();
    }
    Some(text + "END:VTIMEZONE\r\n")
}

/// A moment on the clock of a window.
fn time_property(window: &Window, name: &str, at: DateTime) -> Property {
    let whole_days = matches!(window.length, Length::Days(_));
    let mut property = match (&window.clock, whole_days) {
        (Clock::Utc, false) => Property::new(name, at.strftime("%Y%m%dT%H%M%SZ").to_string()),
        (_, false) => Property::new(name, at.strftime("%Y%m%dT%H%M%S").to_string()),
        (_, true) => {
            let mut date = Property::new(name, at.strftime("%Y%m%d").to_string());
            date.add_parameter("VALUE", "DATE");
            date
        }
    };
    match &window.clock {
        Clock::Zone(zone) => {
            property.add_parameter("TZID", zone.iana_name().unwrap_or("UTC"));
        }
        Clock::Utc if whole_days => {
            property.add_parameter("TZID", "UTC");
        }
        Clock::Utc | Clock::Location => {}
    }
    property.done()
}

fn event(entry: &Entry<'_>, stamp: Timestamp) -> Event {
    let window = entry.window;
    let utc = |at: Timestamp| at.strftime("%Y%m%dT%H%M%SZ").to_string();
    let time = |name: &str, at| time_property(window, name, at);
    let mut event = Event::new();
    event.uid(&format!("maintenance-{}@cadentis", entry.id));
    event.append_property(Property::new("DTSTAMP", utc(stamp)));
    event.summary(&window.why);
    if !entry.detail.is_empty() {
        event.description(entry.detail);
    }
    event.append_property(time("DTSTART", window.first));
    match window.length {
        Length::Days(n) => {
            let end = window
                .first
                .date()
                .checked_add(Span::new().days(i64::from(n)))
                .unwrap_or(window.first.date());
            event.append_property(time("DTEND", end.at(0, 0, 0, 0)));
        }
        Length::Exact(length) => {
            event.append_property(Property::new("DURATION", format!("PT{}S", length.as_secs())));
        }
        Length::UntilTime(end) => {
            let date = if end > window.first.time() {
                window.first.date()
            } else {
                window.first.date().tomorrow().unwrap_or(window.first.date())
            };
            event.append_property(time("DTEND", date.to_datetime(end)));
            event.append_property(Property::new(ENDS, end.strftime("%H%M%S").to_string()));
        }
    }
    if let Some(rule) = window.repeat.rule() {
        event.append_property(Property::new("RRULE", rule));
    }
    for at in &window.except {
        event.append_multi_property(time("EXDATE", *at));
    }
    for at in &window.besides {
        event.append_multi_property(time("RDATE", *at));
    }
    if window.in_force != (None, None) {
        let side = |at: Option<Timestamp>| at.map_or("..".to_string(), |t| t.to_string());
        event.append_property(Property::new(
            IN_FORCE,
            format!("{}/{}", side(window.in_force.0), side(window.in_force.1)),
        ));
    }
    event.done()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn whole_days_follow_the_calendar_and_anything_with_hours_is_exact() {
        let exact = |hours: i64| Some(Length::Exact(SignedDuration::from_hours(hours)));
        for (text, want) in [
            ("P1D", Some(Length::Days(1))),
            ("P2W", Some(Length::Days(14))),
            ("P1DT2H", exact(26)),
            ("PT48H", exact(48)),
            ("+PT3H", exact(3)),
            ("P399DT23H", exact(399 * 24 + 23)),
            ("P400DT1H", None),
            ("PT0S", None),
            ("-P1D", None),
            ("P1M", None),
            ("PT1.5H", None),
            ("1D", None),
        ] {
            assert_eq!(length_of(text), want, "{text}");
        }
    }
}
