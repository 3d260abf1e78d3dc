//! When a window comes, on every clock that matters: what was typed stands first, and nothing is converted into it.

use crate::format;
use actix_web::HttpRequest;
use cadentis_answers::kept::Location;
use cadentis_core::calendar::{Clock, Length, Maintenance, Repeat, Stretch, zone};
use jiff::tz::{AmbiguousOffset, TimeZone};
use jiff::{SignedDuration, Timestamp};

/// The next so many occurrences are shown.
const NEXT: usize = 3;
/// So many changes of clocks are looked at, within a year.
const CHANGES: usize = 4;
/// So many clocks have a column at most.
const MOST_CLOCKS: usize = 4;
/// What the browser says its zone is.
const VIEWER: &str = "zone";

/// A table of occurrences.
pub struct When {
    /// Whose clock each column is.
    pub heads: Vec<String>,
    pub rows: Vec<Row>,
    /// Clocks of locations that have none.
    pub more: usize,
}

pub struct Row {
    /// The location whose clock it is read on, where each has its own.
    pub place: String,
    pub cells: Vec<Cell>,
    /// What is unlike the usual.
    pub note: String,
}

pub struct Cell {
    pub says: String,
    /// Whether it is at another time of day than in the first row.
    pub moved: bool,
}

/// The zone that the browser said it is in; `None` when it has not, or said nonsense.
pub fn viewer(request: &HttpRequest) -> Option<TimeZone> {
    let cookie = request.cookie(VIEWER)?;
    let name = cookie.value().replace("%2F", "/");
    zone(&name).ok()
}

/// The clocks that a window is told on besides its own.
pub struct Clocks<'a> {
    pub site: &'a TimeZone,
    pub viewer: Option<&'a TimeZone>,
    pub locations: &'a [Location],
}

struct Column {
    head: String,
    zone: TimeZone,
}

impl Clocks<'_> {
    /// The locations that it is for, each with its zone.
    fn places(&self, says: &Maintenance) -> Vec<(&str, TimeZone)> {
        let here = self.locations.iter().filter(|l| says.reach.has_location(l.id));
        here.filter_map(|l| Some((l.name.as_str(), zone(&l.zone).ok()?))).collect()
    }

    /// The clocks that have a column, and how many have none.
    fn columns(&self, says: &Maintenance) -> (Vec<Column>, usize) {
        let mut columns: Vec<Column> = Vec::new();
        let mut add = |who: &str, zone: &TimeZone| {
            let name = zone.iana_name().unwrap_or("UTC");
            match columns.iter_mut().find(|c| c.zone == *zone) {
                // One column for all whose clock is the same.
                Some(same) if !who.is_empty() && !same.head.contains(who) => {
                    same.head = format!("{who} and {}", same.head);
                }
                Some(_) => {}
                None if who.is_empty() => {
                    columns.push(Column { head: name.into(), zone: zone.clone() })
                }
                None if who == name => {
                    columns.push(Column { head: name.into(), zone: zone.clone() })
                }
                None => columns.push(Column { head: format!("{who}, {name}"), zone: zone.clone() }),
            }
        };
        match &says.window.clock {
            Clock::Utc => add("UTC", &TimeZone::UTC),
            Clock::Zone(zone) if zone == self.site => add("the site", zone),
            Clock::Zone(zone) => add("", zone),
            Clock::Location => {}
        }
        add("the site", self.site);
        add("UTC", &TimeZone::UTC);
        if let Some(zone) = self.viewer {
            add("you", zone);
        }
        let mut more: Vec<TimeZone> = Vec::new();
        if says.window.clock != Clock::Location {
            for (name, zone) in self.places(says) {
                if columns.iter().any(|c| c.zone == zone) || more.contains(&zone) {
                    continue;
                }
                if columns.len() < MOST_CLOCKS {
                    let head = format!("{name}, {}", zone.iana_name().unwrap_or("UTC"));
                    columns.push(Column { head, zone });
                } else {
                    more.push(zone);
                }
            }
        }
        (columns, more.len())
    }

    /// When the window comes next, and around the next changes of any of the clocks.
    pub fn when(&self, says: &Maintenance, now: Timestamp) -> When {
        let (columns, more) = self.columns(says);
        match &says.window.clock {
            Clock::Location => self.by_place(says, &columns, now),
            clock => {
                let own = match clock {
                    Clock::Zone(zone) => zone.clone(),
                    _ => TimeZone::UTC,
                };
                let mut shown = says.window.next(now, NEXT, &own);
                let from = shown.first().map_or(now, |s| s.from);
                let changes = changes(columns.iter().map(|c| &c.zone), from);
                shown.extend(
                    changes.iter().filter_map(|at| says.window.next(*at, 1, &own).first().copied()),
                );
                shown.sort_by_key(|s| (s.from, s.to));
                shown.dedup();
                let row = |s: &Stretch| (String::new(), *s, note(says, s, &own));
                When {
                    rows: rows(&columns, shown.iter().map(row).collect()),
                    heads: heads(&columns),
                    more,
                }
            }
        }
    }

    /// The next occurrence at each location, by its own clock.
    fn by_place(&self, says: &Maintenance, columns: &[Column], now: Timestamp) -> When {
        let next = self.places(says).into_iter().filter_map(|(name, own)| {
            let next = says.window.next(now, 1, &own).first().copied()?;
            let local = format::occurrence_text(&next, &own);
            Some((format!("{name}: {local}"), next, note(says, &next, &own)))
        });
        let mut rows = rows(columns, next.collect());
        // Each is another moment: none of them has moved.
        rows.iter_mut().flat_map(|r| &mut r.cells).for_each(|c| c.moved = false);
        let heads = ["at the location".to_string()].into_iter().chain(heads(columns));
        When { rows, heads: heads.collect(), more: 0 }
    }
}

fn heads(columns: &[Column]) -> Vec<String> {
    columns.iter().map(|c| c.head.clone()).collect()
}

fn rows(columns: &[Column], shown: Vec<(String, Stretch, String)>) -> Vec<Row> {
    let clock = |at: Timestamp, zone: &TimeZone| zone.to_datetime(at).time();
    let first = shown.first().map(|(_, s, _)| *s);
    let cell = |s: &Stretch, c: &Column| Cell {
        says: format::occurrence_text(s, &c.zone),
        moved: first.is_some_and(|f| clock(f.from, &c.zone) != clock(s.from, &c.zone)),
    };
    let row = |(place, s, note): (String, Stretch, String)| Row {
        cells: columns.iter().map(|c| cell(&s, c)).collect(),
        place,
        note,
    };
    shown.into_iter().map(row).collect()
}

/// The next moments at which any of the clocks changes, within a year of `now`.
fn changes<'a>(zones: impl Iterator<Item = &'a TimeZone>, now: Timestamp) -> Vec<Timestamp> {
    let year = now + SignedDuration::from_hours(366 * 24);
    let mut all: Vec<Timestamp> = zones
        .flat_map(|zone| {
            zone.following(now)
                .map(|t| t.timestamp())
                .take_while(|t| *t < year)
                .take(2)
                .collect::<Vec<_>>()
        })
        .collect();
    all.sort_unstable();
    all.dedup();
    all.truncate(CHANGES);
    all
}

/// What is unlike the usual about an occurrence on its own clock.
fn note(says: &Maintenance, s: &Stretch, own: &TimeZone) -> String {
    let window = &says.window;
    let typed = window.first.time();
    let begins = own.to_datetime(s.from);
    let cut = [window.in_force.0, window.in_force.1].contains(&Some(s.from));
    let by_rule = matches!(window.repeat, Repeat::Rule(_));
    if cut {
        return "it begins when it is kept".into();
    }
    if !by_rule && begins.time() != typed && !matches!(window.length, Length::Days(_)) {
        let (typed, real) = (typed.strftime("%H:%M"), begins.strftime("%H:%M"));
        return format!("clocks skip {typed} that day: it begins at {real}");
    }
    if matches!(own.to_ambiguous_timestamp(begins).offset(), AmbiguousOffset::Fold { .. }) {
        return format!("{} comes twice that day: the first is meant", begins.strftime("%H:%M"));
    }
    let usual = match window.length {
        Length::UntilTime(end) => {
            let minutes = |t: jiff::civil::Time| i64::from(t.hour()) * 60 + i64::from(t.minute());
            let more = (minutes(end) - minutes(typed)).rem_euclid(24 * 60);
            (if more == 0 { 24 * 60 } else { more }) * 60
        }
        Length::Days(n) => i64::from(n) * 86_400,
        Length::Exact(length) => length.as_secs(),
    };
    match s.seconds() - usual {
        0 => String::new(),
        more if window.in_force.1 == Some(s.to) => {
            let _: i64 = more;
            "it ends here for good".into()
        }
        more if more > 0 => format!("{} longer: clocks go back meanwhile", length(more)),
        less => format!("{} shorter: clocks go forward meanwhile", length(-less)),
    }
}

fn length(seconds: i64) -> String {
    cadentis_core::calendar::stretch::length_text(seconds as f64 * 1000.0)
}

#[cfg(test)]
mod tests {
    use super::*;
    use cadentis_core::calendar::{Reach, Window};
    use jiff::civil::{Weekday, date, time};

    fn at(name: &str, id: i32, zone: &str) -> Location {
        Location {
            id,
            slug: name.to_lowercase(),
            name: name.into(),
            country: "NO".into(),
            kind: "public".into(),
            zone: zone.into(),
            latitude: None,
            longitude: None,
            proxy: None,
            denied: vec![],
        }
    }

    fn weekly(clock: Clock, from: jiff::civil::Time, to: jiff::civil::Time) -> Maintenance {
        let window = Window::once(
            date(2026, 11, 1).to_datetime(from),
            Length::UntilTime(to),
            clock,
            "backup",
        )
        .repeating(Repeat::Weekly(vec![Weekday::Sunday]));
        Maintenance { window, reach: Reach::default(), holds: false }
    }

    #[test]
    fn what_was_typed_stands_first_and_each_clock_shows_its_own_time_around_changes() {
        let oslo = TimeZone::get("Europe/Oslo").unwrap();
        let locations = [at("Halifax", 1, "America/Halifax"), at("Oslo", 2, "Europe/Oslo")];
        let clocks = Clocks { site: &oslo, viewer: Some(&oslo), locations: &locations };
        let says = weekly(Clock::Zone(oslo.clone()), time(22, 30, 0, 0), time(0, 30, 0, 0));
        let when = clocks.when(&says, "2026-11-27T12:00:00Z".parse().unwrap());
        assert_eq!(
            when.heads,
            ["you and the site, Europe/Oslo", "UTC", "Halifax, America/Halifax"]
        );
        let says =
            |row: usize| when.rows[row].cells.iter().map(|c| c.says.as_str()).collect::<Vec<_>>();
        assert_eq!(
            says(0),
            [
                "Sun 29 Nov 22:30 – Mon 00:30",
                "Sun 29 Nov 21:30 – 23:30",
                "Sun 29 Nov 17:30 – 19:30"
            ]
        );
        // IANA tz database: Halifax changes on 14 March 2027, Oslo on 28 March.
        let march = when.rows.iter().find(|r| r.cells[0].says.contains("14 Mar")).unwrap();
        assert_eq!(march.cells[2].says, "Sun 14 Mar 18:30 – 20:30");
        let moved: Vec<bool> = march.cells.iter().map(|c| c.moved).collect();
        assert_eq!(moved, [false, false, true]);
    }

    #[test]
    fn a_time_that_clocks_skip_repeat_or_stretch_is_told() {
        let oslo = TimeZone::get("Europe/Oslo").unwrap();
        let clocks = Clocks { site: &oslo, viewer: None, locations: &[] };
        let note = |from, to| {
            let says = weekly(Clock::Zone(oslo.clone()), from, to);
            let when = clocks.when(&says, "2027-03-25T12:00:00Z".parse().unwrap());
            when.rows[0].note.clone()
        };
        assert_eq!(
            note(time(2, 30, 0, 0), time(4, 0, 0, 0)),
            "clocks skip 02:30 that day: it begins at 03:30"
        );
        assert_eq!(
            note(time(1, 0, 0, 0), time(4, 0, 0, 0)),
            "1 h shorter: clocks go forward meanwhile"
        );
        assert_eq!(note(time(12, 0, 0, 0), time(13, 0, 0, 0)), "");
    }

    #[test]
    fn each_location_has_a_row_where_each_has_its_own_clock() {
        let utc = TimeZone::UTC;
        let locations = [at("Halifax", 1, "America/Halifax"), at("Oslo", 2, "Europe/Oslo")];
        let clocks = Clocks { site: &utc, viewer: None, locations: &locations };
        let says = weekly(Clock::Location, time(22, 30, 0, 0), time(0, 30, 0, 0));
        let when = clocks.when(&says, "2026-11-27T12:00:00Z".parse().unwrap());
        assert_eq!(when.heads[0], "at the location");
        assert_eq!(when.rows[0].place, "Halifax: Sun 29 Nov 22:30 – Mon 00:30");
        assert_eq!(when.rows[0].cells[0].says, "Mon 30 Nov 02:30 – 04:30");
        assert_eq!(when.rows[1].cells[0].says, "Sun 29 Nov 21:30 – 23:30");
    }
}
