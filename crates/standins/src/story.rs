//! What went wrong at Marram Ferries in the last thirty days, relative to the moment of seeding.

use cadentis_core::calendar::Stretch;
use cadentis_core::calendar::stretch::at_second;
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};

#[derive(Debug, Clone)]
pub struct Story {
    pub now: Timestamp,
    /// The map supplier is slow to accept connections from far away.
    pub map_slow: Stretch,
    /// The machine of one runner is short of CPU.
    pub runner_short: Stretch,
    /// A quarter of the API's answers are 503.
    pub api_503: Stretch,
    /// Planned work, over midnight.
    pub maintenance: Stretch,
    /// A release slows the sailings list until it is rolled back.
    pub slow_release: Stretch,
    /// Valparaíso cannot reach the site; everyone else can.
    pub unreachable: Stretch,
    /// A release leaves old browsers with a blank page until it is mended.
    pub blank_release: Stretch,
    /// Nobody reaches the site for forty minutes.
    pub outage: Stretch,
}

/// The location that cannot reach the site, and the one whose runner is short of CPU.
pub const UNREACHABLE_FROM: &str = "valparaiso";
pub const SHORT_RUNNER: &str = "kochi";
pub const SITE_ZONE: &str = "Europe/Oslo";
pub const DAYS: i64 = 30;

impl Story {
    pub fn new(now: Timestamp) -> Story {
        let now = at_second(now.as_second().div_euclid(300) * 300);
        let back = |hours: f64, length_h: f64| {
            let from = now - SignedDuration::from_secs((hours * 3600.0) as i64);
            Stretch { from, to: from + SignedDuration::from_secs((length_h * 3600.0) as i64) }
        };
        let midnight = TimeZone::get(SITE_ZONE)
            .and_then(|zone| now.to_zoned(zone).start_of_day())
            .map_or(now - SignedDuration::from_hours(12), |z| z.timestamp());
        // The last midnight that lies at least three hours back.
        let midnight = if now.duration_since(midnight).as_hours() < 3 {
            midnight - SignedDuration::from_hours(24)
        } else {
            midnight
        };
        Story {
            now,
            map_slow: back(5.25, 2.0),
            runner_short: back(21.0, 1.5),
            api_503: back(30.0, 50.0 / 60.0),
            maintenance: Stretch {
                from: midnight - SignedDuration::from_mins(30),
                to: midnight + SignedDuration::from_mins(40),
            },
            slow_release: back(50.0, 4.5),
            unreachable: back(102.0, 6.0),
            blank_release: back(150.0, 40.0),
            outage: back(196.0, 40.0 / 60.0),
        }
    }

    pub fn begin(&self) -> Timestamp {
        self.now - SignedDuration::from_hours(24 * DAYS)
    }

    /// What went wrong on the site before a release: the slow release stood there a day earlier, and what befell
    /// production's machines did not befall its own.
    pub fn before_release(&self) -> Story {
        let day = SignedDuration::from_hours(22);
        let never = Stretch { from: self.now, to: self.now };
        let slow_release =
            Stretch { from: self.slow_release.from - day, to: self.slow_release.to - day };
        Story { slow_release, outage: never, maintenance: never, api_503: never, ..self.clone() }
    }

    /// Whether request details of a run at that moment are kept: the last two days, and around
    /// the story's moments.
    pub fn is_kept(&self, at: Timestamp) -> bool {
        let around = |s: &Stretch| {
            let hour = SignedDuration::from_hours(1);
            Stretch { from: s.from - hour * 3, to: s.to + hour }.contains(at)
        };
        at >= self.now - SignedDuration::from_hours(48)
            || [&self.slow_release, &self.unreachable, &self.outage].into_iter().any(around)
    }
}
