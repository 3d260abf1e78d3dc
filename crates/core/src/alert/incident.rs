//! Incidents: what alerts that belong together make, so that one outage is one.

use super::Definition;
use crate::measure::{Key, Subject};
use crate::run::cause::Who;
use crate::stats::share;
use crate::visitor::Attribute;
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};
use std::fmt;

/// What alerts that belong together have in common.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum About {
    /// A journey, by its name in addresses.
    Journey(String),
    /// A page family.
    Family(String),
    /// A location, by its name in addresses.
    Location(String),
    /// A dependency, by its name in addresses.
    Dependency(String),
    /// A goal, by its name.
    Goal(String),
    /// The site as a whole.
    Site,
}

impl About {
    /// What an alert is about: the narrowest thing that it names alone.
    pub fn of(definition: &Definition) -> About {
        let scope = &definition.measured.scope;
        let alone = |key: &Key| match scope.of(key) {
            [one] => Some(one.clone()),
            _ => None,
        };
        let family = Key::Attribute(Attribute::Family);
        match definition.measured.measure.subject() {
            Subject::Runs => alone(&Key::Journey)
                .map(About::Journey)
                .or_else(|| alone(&Key::Location).map(About::Location)),
            Subject::Goals => alone(&Key::Goal).map(About::Goal),
            Subject::Dependencies => alone(&Key::Dependency).map(About::Dependency),
            _ => alone(&family).map(About::Family),
        }
        .unwrap_or(About::Site)
    }
}

impl fmt::Display for About {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            About::Journey(name) => write!(f, "journey {name}"),
            About::Family(name) => write!(f, "{name}"),
            About::Location(name) => write!(f, "location {name}"),
            About::Dependency(name) => write!(f, "dependency {name}"),
            About::Goal(name) => write!(f, "goal {name}"),
            About::Site => f.write_str("the site"),
        }
    }
}

/// A location's runs while an incident lasted, beside those before it.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Place {
    /// The location's name.
    pub name: String,
    /// Runs before that were measured, and of them those that failed or were slow.
    pub before: (u64, u64),
    /// The same while it lasted.
    pub during: (u64, u64),
}

/// A location is in trouble when so much more of its runs fails or is slow than before.
const MORE: f64 = 0.2;

impl Place {
    /// Whether it is in trouble; `None` when nothing was played there meanwhile.
    pub fn is_troubled(&self) -> Option<bool> {
        let during = share(self.during.1, self.during.0)?;
        let before = share(self.before.1, self.before.0).unwrap_or(0.0);
        Some(during - before >= MORE)
    }
}

/// What tells whose doing an incident is.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Evidence {
    /// Every location that played meanwhile.
    pub places: Vec<Place>,
    /// Likely causes of runs in trouble: whose doing, and of how many runs.
    pub causes: Vec<(Who, u64)>,
    /// Whether visitors surely had it worse than before; `None` when too few came to tell.
    pub visitors: Option<bool>,
}

/// Whose doing it is, as far as can be told.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Doing {
    /// Trouble of these locations alone, while others got through.
    Places(Vec<String>),
    /// Whose doing the likely causes of its runs say, or what visitors everywhere had.
    Of(Who),
    /// Nothing tells it well enough.
    NotSure,
}

/// What an incident looked like when it was noticed: it stays as it was, whatever becomes known of it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct AtOpening {
    /// When that was.
    pub at: Timestamp,
    /// Whose doing it was then.
    pub doing: Doing,
    /// Of how many locations that could tell how many were in trouble.
    pub places: (u64, u64),
    /// Page views that it had touched.
    pub page_views: Option<u64>,
    /// Goals with the share of their error budget that was left.
    pub left: Vec<(String, f64)>,
}

/// At most this part of the locations in trouble is trouble of those locations.
const FEW: f64 = 1.0 / 3.0;
/// So many locations in trouble, and none without, are everywhere.
const EVERYWHERE: usize = 3;
/// More than this part of the causes says whose doing it is.
const MOST: f64 = 0.5;

impl Evidence {
    /// Locations in trouble, and how many could tell.
    pub fn troubled(&self) -> (Vec<&Place>, usize) {
        let told = self.places.iter().filter(|p| p.is_troubled().is_some()).count();
        (self.places.iter().filter(|p| p.is_troubled() == Some(true)).collect(), told)
    }

    /// Whose doing it is. Runs that were not measured, or our own runner's trouble, come first: who watches can be the one
    /// that is ill. (Common practice, no published source.)
    pub fn doing(&self) -> Doing {
        let all: u64 = self.causes.iter().map(|(_, n)| n).sum();
        let most = self.causes.iter().max_by_key(|(_, n)| *n);
        let named = most.filter(|(_, n)| *n as f64 > all as f64 * MOST).map(|(who, _)| *who);
        let (troubled, told) = self.troubled();
        let is_few =
            told >= 2 && !troubled.is_empty() && troubled.len() as f64 <= told as f64 * FEW;
        match (named, self.visitors) {
            (Some(Who::Runner), _) => Doing::Of(Who::Runner),
            // Where visitors everywhere have it worse it is no trouble of a few places. But a way to the site that is bad from
            // a few places alone is the way from there, whatever visitors meet meanwhile.
            (named, visitors)
                if is_few && (visitors != Some(true) || named == Some(Who::Network)) =>
            {
                Doing::Places(troubled.iter().map(|p| p.name.clone()).collect())
            }
            // The way to the site that is bad from everywhere at once is the site's end of it.
            (Some(Who::Network), _) if told >= EVERYWHERE && troubled.len() == told => {
                Doing::Of(Who::Site)
            }
            (Some(who), _) => Doing::Of(who),
            (None, Some(true)) if troubled.len() == told => Doing::Of(Who::Site),
            _ => Doing::NotSure,
        }
    }
}

/// An incident that cleared less than this ago opens again when its alerts do: what flickers is one.
pub const REOPENS_WITHIN: SignedDuration = SignedDuration::from_mins(30);

#[cfg(test)]
mod tests {
    use super::super::{NoData, Rule};
    use super::*;

    fn place(name: &str, before: u64, during: u64) -> Place {
        Place { name: name.into(), before: (12, before), during: (12, during) }
    }

    #[test]
    fn what_an_incident_looked_like_is_read_as_it_was_kept() {
        let of = |doing| AtOpening {
            at: Timestamp::UNIX_EPOCH,
            doing,
            places: (3, 8),
            page_views: Some(12),
            left: vec![("Crossings can be booked".into(), -0.25)],
        };
        let who = [Who::Site, Who::Network, Who::ThirdParty, Who::Page, Who::Runner];
        let all = who.map(Doing::Of).into_iter();
        let places = Doing::Places(vec!["Bergen".into(), "Orrin Point".into()]);
        for doing in all.chain([places, Doing::NotSure]) {
            let kept = serde_json::to_string(&of(doing.clone())).unwrap();
            assert_eq!(serde_json::from_str::<AtOpening>(&kept).unwrap(), of(doing), "{kept}");
        }
    }

    #[test]
    fn whose_doing_it_is_follows_from_where_it_is_and_what_its_runs_say() {
        let one = vec![place("Lima", 0, 12), place("Bergen", 0, 1), place("Kyoto", 3, 4)];
        let all = vec![place("Lima", 0, 12), place("Bergen", 0, 11), place("Kyoto", 3, 9)];
        let doing = |places: &[Place], causes: &[(Who, u64)], visitors| {
            Evidence { places: places.to_vec(), causes: causes.to_vec(), visitors }.doing()
        };
        let lima = || Doing::Places(vec!["Lima".into()]);
        assert_eq!(doing(&one, &[(Who::Network, 8)], None), lima());
        assert_eq!(doing(&one, &[(Who::Network, 8)], Some(false)), lima());
        assert_eq!(
            doing(&one, &[(Who::Network, 8)], Some(true)),
            lima(),
            "others get through: the way is bad from there, whatever visitors meet meanwhile"
        );
        assert_eq!(
            doing(&one, &[(Who::Runner, 5), (Who::Network, 4)], None),
            Doing::Of(Who::Runner)
        );
        assert_eq!(
            doing(&one, &[(Who::Site, 8)], Some(true)),
            Doing::Of(Who::Site),
            "visitors have it, too"
        );
        assert_eq!(doing(&all, &[(Who::Site, 5), (Who::Network, 4)], None), Doing::Of(Who::Site));
        assert_eq!(
            doing(&all, &[(Who::Network, 9)], None),
            Doing::Of(Who::Site),
            "from everywhere"
        );
        assert_eq!(doing(&all[..2], &[(Who::Network, 9)], None), Doing::Of(Who::Network));
        assert_eq!(doing(&all, &[(Who::Site, 5), (Who::Network, 5)], None), Doing::NotSure);
        assert_eq!(doing(&all, &[], Some(true)), Doing::Of(Who::Site));
        assert_eq!(doing(&all, &[], None), Doing::NotSure);
        assert_eq!(doing(&[], &[], None), Doing::NotSure);
        // A place that was as bad before is in no new trouble, and one that played nothing says nothing.
        assert_eq!(place("x", 12, 12).is_troubled(), Some(false));
        assert_eq!(Place { during: (0, 0), ..place("x", 0, 0) }.is_troubled(), None);
    }

    #[test]
    fn an_alert_is_about_the_narrowest_thing_that_it_names_alone() {
        let about = |measured: &str| {
            About::of(&Definition {
                measured: measured.parse().unwrap(),
                rule: Rule::Burns,
                window_s: 60,
                every_s: 60,
                running: 1,
                least_samples: 0,
                least_places: 0,
                no_data: NoData::Keep,
                service_hours: None,
            })
        };
        let named = |text: &str| text.to_string();
        for (measured, want) in [
            ("availability", About::Site),
            ("availability for journey book", About::Journey(named("book"))),
            ("availability for journey book and location bergen", About::Journey(named("book"))),
            ("availability for location bergen", About::Location(named("bergen"))),
            ("availability for journey book or pay", About::Site),
            ("p75 of LCP for family Timetable and device phone", About::Family(named("Timetable"))),
            ("count of errors for device phone", About::Site),
            ("error budget left for goal x", About::Goal(named("x"))),
            ("state for dependency payments", About::Dependency(named("payments"))),
        ] {
            assert_eq!(about(measured), want, "{measured}");
        }
    }
}
