//! A stretch of time: half open, from its first moment up to and without its last.

use jiff::{Timestamp, ToSpan, Unit, Zoned, tz::TimeZone};

/// A stretch of time: what begins at its end belongs to the next.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize)]
pub struct Stretch {
    /// When it begins.
    pub from: Timestamp,
    /// When it ends; that moment is not in it.
    pub to: Timestamp,
}

/// What a stretch is compared with.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Against {
    /// The same wall-clock hours a week before.
    #[default]
    Week,
    /// The stretch of the same length just before.
    Before,
    /// With nothing.
    None,
}

impl Against {
    /// As an address has it.
    pub fn word(self) -> &'static str {
        match self {
            Against::Week => "week",
            Against::Before => "before",
            Against::None => "none",
        }
    }

    /// The one that an address names.
    pub fn parse(word: &str) -> Option<Against> {
        [Against::Week, Against::Before, Against::None].into_iter().find(|a| a.word() == word)
    }
}

/// Why two moments are no stretch.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
#[expect(missing_docs, reason = "each says what it is when it is told")]
pub enum StretchError {
    #[error("{0} is no moment: write UTC as 2026-11-22T05:00Z")]
    NoMoment(String),
    #[error("the stretch ends before it begins")]
    Backwards,
    #[error("the stretch is longer than 62 days")]
    TooLong,
}

/// The longest stretch a page shows.
pub const MAX_DAYS: i64 = 62;

impl Stretch {
    /// # Errors
    /// When it is empty, backwards, or longer than [`MAX_DAYS`].
    pub fn new(from: Timestamp, to: Timestamp) -> Result<Stretch, StretchError> {
        if from >= to {
            Err(StretchError::Backwards)
        } else if to.as_second() - from.as_second() > MAX_DAYS * 86_400 {
            Err(StretchError::TooLong)
        } else {
            Ok(Stretch { from, to })
        }
    }

    /// Reads the two ends as they stand in an address.
    ///
    /// # Errors
    /// When one is no moment, or [`Stretch::new`] refuses the two.
    pub fn parse(from: &str, to: &str) -> Result<Stretch, StretchError> {
        let moment = |s: &str| {
            // `Timestamp` wants seconds; addresses leave them out.
            let with_seconds = match s.strip_suffix('Z') {
                Some(bare) if bare.len() == 16 => format!("{bare}:00Z"),
                _ => s.to_string(),
            };
            with_seconds
                .parse::<Timestamp>()
                .map_err(|_| StretchError::NoMoment(s.chars().take(40).collect()))
        };
        Stretch::new(moment(from)?, moment(to)?)
    }

    /// A moment as it stands in an address: UTC, to the minute.
    pub fn moment(at: Timestamp) -> String {
        at.strftime("%Y-%m-%dT%H:%MZ").to_string()
    }

    /// The last `seconds` up to `now`, ends on whole minutes.
    pub fn last(seconds: i64, now: Timestamp) -> Stretch {
        let to = now.as_second() - now.as_second().rem_euclid(60) + 60;
        Stretch { from: at_second(to - seconds), to: at_second(to) }
    }

    /// Whole seconds.
    pub fn seconds(&self) -> i64 {
        self.to.as_second() - self.from.as_second()
    }

    /// Milliseconds.
    pub fn ms(&self) -> f64 {
        self.to.duration_since(self.from).as_secs_f64() * 1000.0
    }

    /// Whether a moment lies in it.
    pub fn contains(&self, at: Timestamp) -> bool {
        self.from <= at && at < self.to
    }

    /// The part both have in common.
    pub fn common(&self, other: &Stretch) -> Option<Stretch> {
        let (from, to) = (self.from.max(other.from), self.to.min(other.to));
        (from < to).then_some(Stretch { from, to })
    }

    /// How far `at` lies into the stretch: 0 at its beginning, 1 at its end.
    pub fn position(&self, at: Timestamp) -> f64 {
        (at.as_millisecond() - self.from.as_millisecond()) as f64 / self.ms()
    }

    /// What this stretch is compared with, or `None`.
    ///
    /// "A week before" moves wall clocks: over a clock change it is 167 or 169 hours, so that 08:00
    /// is compared with 08:00.
    pub fn against(&self, against: Against, zone: &TimeZone) -> Option<Stretch> {
        let week_before = |at: Timestamp| {
            at.to_zoned(zone.clone()).checked_sub(1.week()).ok().map(|z| z.timestamp())
        };
        match against {
            Against::None => None,
            Against::Before => Some(Stretch {
                from: at_second(self.from.as_second() - self.seconds()),
                to: self.from,
            }),
            Against::Week => Stretch::new(week_before(self.from)?, week_before(self.to)?).ok(),
        }
    }

    /// The calendar month that `at` lies in, in that zone.
    pub fn month_of(at: Timestamp, zone: &TimeZone) -> Stretch {
        let first = |z: Zoned| z.first_of_month().and_then(|z| z.start_of_day());
        let here = at.to_zoned(zone.clone());
        let bounds = first(here.clone()).and_then(|from| {
            Ok((from.timestamp(), first(from.checked_add(1.month())?)?.timestamp()))
        });
        // Only moments at the very edge of the supported years (−9999, 9999) have no month.
        let (from, to) = bounds.unwrap_or((at, at));
        Stretch { from, to }
    }

    /// The quarter of the year that `at` lies in, in that zone.
    pub fn quarter_of(at: Timestamp, zone: &TimeZone) -> Stretch {
        let here = at.to_zoned(zone.clone());
        let into = i64::from((here.month() - 1) % 3);
        let month = |n: i64| {
            let first = here.first_of_month()?.checked_add((n - into).months())?;
            Ok::<_, jiff::Error>(first.start_of_day()?.timestamp())
        };
        match (month(0), month(3)) {
            (Ok(from), Ok(to)) => Stretch { from, to },
            _ => Stretch { from: at, to: at },
        }
    }

    /// The calendar week, from Monday (ISO 8601), that `at` lies in, in that zone.
    pub fn week_of(at: Timestamp, zone: &TimeZone) -> Stretch {
        let here = at.to_zoned(zone.clone());
        let into = i64::from(here.weekday().to_monday_zero_offset());
        let bounds = here.date().checked_sub(into.days()).and_then(|monday| {
            Ok((
                monday.to_zoned(zone.clone())?,
                monday.checked_add(1.week())?.to_zoned(zone.clone())?,
            ))
        });
        bounds.map_or(Stretch { from: at, to: at }, |(from, to)| Stretch {
            from: from.timestamp(),
            to: to.timestamp(),
        })
    }

    /// The last so many days of that zone's calendar up to `at`: by the wall clock, so that a day
    /// on which clocks change is a day.
    pub fn days_before(at: Timestamp, days: u16, zone: &TimeZone) -> Stretch {
        let from = at
            .to_zoned(zone.clone())
            .checked_sub(i64::from(days).days())
            .map_or(at, |z| z.timestamp());
        Stretch { from, to: at }
    }

    /// A bucket width in seconds that cuts the stretch into at most `most` even buckets.
    pub fn bucket_seconds(&self, most: i64) -> i64 {
        const WIDTHS: [i64; 13] =
            [60, 120, 300, 600, 900, 1_800, 3_600, 7_200, 10_800, 21_600, 43_200, 86_400, 172_800];
        WIDTHS.into_iter().find(|w| self.seconds() / w <= most).unwrap_or(604_800)
    }

    /// The stretch in pieces of so many hours at most, which meet where whole hours begin.
    pub fn in_hours(&self, hours: i64) -> Vec<Stretch> {
        let mut all = Vec::new();
        let mut from = self.from;
        while from < self.to {
            let end = at_second((from.as_second().div_euclid(3_600) + hours.max(1)) * 3_600);
            let to = end.min(self.to);
            all.push(Stretch { from, to });
            from = to;
        }
        all
    }

    /// Beginnings of each local day inside the stretch.
    pub fn days(&self, zone: &TimeZone) -> Vec<Timestamp> {
        let mut days = Vec::new();
        let Ok(mut day) = self.from.to_zoned(zone.clone()).start_of_day() else {
            return days;
        };
        while day.timestamp() < self.to {
            if day.timestamp() >= self.from {
                days.push(day.timestamp());
            }
            match day.tomorrow().and_then(|d| d.start_of_day()) {
                Ok(next) => day = next,
                Err(_) => break,
            }
        }
        days
    }

    /// The stretch in words: `Sun 22 Nov, 06:00–18:00`, or with both days.
    pub fn words(&self, zone: &TimeZone) -> String {
        let (a, b) = (self.from.to_zoned(zone.clone()), self.to.to_zoned(zone.clone()));
        let end_of_day = b.time() == jiff::civil::Time::midnight()
            && b.date().yesterday().is_ok_and(|d| d == a.date());
        if a.date() == b.date() || end_of_day {
            let end =
                if end_of_day { "24:00".to_string() } else { b.strftime("%H:%M").to_string() };
            format!("{}–{end}", a.strftime("%a %-d %b, %H:%M"))
        } else {
            format!("{} – {}", a.strftime("%a %-d %b, %H:%M"), b.strftime("%a %-d %b, %H:%M"))
        }
    }
}

/// The moment so many seconds after 1970, held inside the supported years.
pub fn at_second(second: i64) -> Timestamp {
    Timestamp::from_second(second).unwrap_or(if second < 0 {
        Timestamp::MIN
    } else {
        Timestamp::MAX
    })
}

/// A moment by the clock of a zone, with its day.
pub fn day_clock(at: Timestamp, zone: &TimeZone) -> String {
    at.to_zoned(zone.clone()).strftime("%a %-d %b %H:%M").to_string()
}

/// A length of time in words with two units at most: `3 h 36 min`, `43 min 12 s`, `4.3 s`.
pub fn length_text(ms: f64) -> String {
    let seconds = ms.abs() / 1000.0;
    // Below the last digit that is printed there is nothing left to have a sign.
    let sign = if ms <= -50.0 { "−" } else { "" };
    let two = |big: u64, name: &str, small: u64, small_name: &str| {
        if small == 0 {
            format!("{sign}{big} {name}")
        } else {
            format!("{sign}{big} {name} {small} {small_name}")
        }
    };
    if seconds < 60.0 {
        return if seconds < 10.0 {
            format!("{sign}{seconds:.1} s")
        } else {
            format!("{sign}{seconds:.0} s")
        };
    }
    let s = seconds.floor() as u64;
    match s {
        0..3_600 => two(s / 60, "min", s % 60, "s"),
        3_600..172_800 => two(s / 3_600, "h", s % 3_600 / 60, "min"),
        _ => two(s / 86_400, "d", s % 86_400 / 3_600, "h"),
    }
}

/// The start of the whole hour that `at` lies in, in UTC.
pub fn hour_of(at: Timestamp) -> Timestamp {
    at.round(jiff::TimestampRound::new().smallest(Unit::Hour).mode(jiff::RoundMode::Floor))
        .unwrap_or(at)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn at(s: &str) -> Timestamp {
        s.parse().unwrap()
    }

    fn oslo() -> TimeZone {
        TimeZone::get("Europe/Oslo").unwrap()
    }

    proptest! {
        #[test]
        fn pieces_of_a_stretch_are_all_of_it_and_meet_at_whole_hours(from in -90_000i64..9_000_000, long in 0i64..9_000_000, hours in 1i64..200) {
            let stretch = Stretch { from: at_second(from), to: at_second(from + long) };
            let all = stretch.in_hours(hours);
            prop_assert_eq!(all.iter().map(Stretch::seconds).sum::<i64>(), long);
            prop_assert!(all.iter().all(|p| p.from < p.to && p.seconds() <= hours * 3_600));
            for two in all.windows(2) {
                prop_assert_eq!(two[0].to, two[1].from);
                prop_assert_eq!(two[0].to.as_second().rem_euclid(3_600), 0, "no hour lies in two of them");
            }
        }
    }

    #[test]
    fn the_same_hours_a_week_ago_are_wall_clock_hours_over_a_clock_change() {
        // IANA tz database through jiff: EU summer time 2026 ends on 25 October, 01:00 UTC.
        let s = Stretch::new(at("2026-10-27T07:00:00Z"), at("2026-10-27T11:00:00Z")).unwrap();
        let a = s.against(Against::Week, &oslo()).unwrap();
        assert_eq!(a.from, at("2026-10-20T06:00:00Z"));
        assert_eq!(s.words(&oslo()), "Tue 27 Oct, 08:00–12:00");
        assert_eq!(a.words(&oslo()), "Tue 20 Oct, 08:00–12:00");
    }

    #[test]
    fn months_in_a_zone_are_an_hour_longer_or_shorter_when_clocks_change() {
        let october = Stretch::month_of(at("2026-10-31T22:59:00Z"), &oslo());
        assert_eq!(october.seconds(), 31 * 86_400 + 3_600);
        let march = Stretch::month_of(at("2026-02-28T23:30:00Z"), &oslo());
        assert_eq!(march.seconds(), 31 * 86_400 - 3_600);
        assert_eq!(march.from, at("2026-02-28T23:00:00Z"));
    }

    #[test]
    fn weeks_begin_on_monday_and_rolling_days_keep_the_wall_clock() {
        // EU summer time 2026 begins on Sunday 29 March: that week has 167 hours.
        let week = Stretch::week_of(at("2026-03-29T12:00:00Z"), &oslo());
        assert_eq!((week.from, week.seconds() / 3_600), (at("2026-03-22T23:00:00Z"), 167));
        assert_eq!(Stretch::week_of(week.to, &oslo()).from, week.to);
        let days = Stretch::days_before(at("2026-04-01T10:00:00Z"), 28, &oslo());
        assert_eq!(days.from, at("2026-03-04T11:00:00Z"));
    }

    #[test]
    fn an_address_carries_the_stretch_and_refuses_nonsense() {
        let s = Stretch::parse("2026-11-22T05:00Z", "2026-11-22T17:00Z").unwrap();
        assert_eq!(Stretch::moment(s.to), "2026-11-22T17:00Z");
        assert_eq!(
            Stretch::parse("2026-11-22T05:00Z", "2026-11-22T05:00Z"),
            Err(StretchError::Backwards)
        );
        assert_eq!(
            Stretch::parse("2026-01-22T05:00Z", "2026-11-22T05:00Z"),
            Err(StretchError::TooLong)
        );
        assert!(matches!(Stretch::parse("yesterday", "now"), Err(StretchError::NoMoment(_))));
    }

    #[test]
    fn lengths_are_said_in_two_units() {
        for (ms, want) in [
            (4_320.0 * 60.0 * 1000.0, "3 d"),
            (3.6 * 3_600_000.0, "3 h 36 min"),
            (43.2 * 60_000.0, "43 min 12 s"),
            (-90_000.0, "−1 min 30 s"),
            (-40.0, "0.0 s"),
            (-0.0, "0.0 s"),
            (4_310.0, "4.3 s"),
        ] {
            assert_eq!(length_text(ms), want);
        }
    }

    #[test]
    fn what_it_is_compared_with_is_read_as_it_is_written_and_anything_else_is_nothing() {
        for kind in [Against::Week, Against::Before, Against::None] {
            assert_eq!(Against::parse(kind.word()), Some(kind));
        }
        assert!(["", "Week", "weeks", "week "].iter().all(|word| Against::parse(word).is_none()));
    }

    #[test]
    fn days_begin_at_local_midnight_within_the_stretch_and_its_end_belongs_to_the_next() {
        // The clocks went back on 25 October 2026: that day has 25 hours.
        let days = |from: &str, to: &str| Stretch { from: at(from), to: at(to) }.days(&oslo());
        let october = days("2026-10-23T22:00:00Z", "2026-10-26T23:00:00Z");
        let want = ["2026-10-23T22:00:00Z", "2026-10-24T22:00:00Z", "2026-10-25T23:00:00Z"].map(at);
        assert_eq!(october, want);
        assert_eq!(days("2026-11-22T08:00:00Z", "2026-11-22T20:00:00Z"), []);
        assert_eq!(
            days("2026-11-22T23:00:00Z", "2026-11-22T23:00:01Z"),
            [at("2026-11-22T23:00:00Z")]
        );
    }

    #[test]
    fn the_last_seconds_end_with_the_minute_that_goes_on() {
        let now = at("2026-11-22T09:30:17Z");
        let hour = Stretch::last(3_600, now);
        assert_eq!((hour.from, hour.to), (at("2026-11-22T08:31:00Z"), at("2026-11-22T09:31:00Z")));
        let on_the_minute = Stretch::last(60, at("2026-11-22T09:30:00Z"));
        assert_eq!(
            on_the_minute.to,
            at("2026-11-22T09:31:00Z"),
            "what comes in this minute is in it"
        );
        assert!(hour.contains(now) && !hour.contains(hour.to));
    }
}
