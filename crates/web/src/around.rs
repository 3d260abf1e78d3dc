//! What pages of the installation have around them: who looks, and where else there is to go.

use crate::access::Who;
use crate::error::FIRST_SITE;
use crate::view::Choice;
use jiff::Timestamp;
use jiff::tz::TimeZone;

/// Stands around each page of the installation.
pub struct Around {
    pub who: Who,
    /// Where there is to go, for whoever it is.
    pub places: Vec<Choice>,
}

/// Where administrators go besides.
const PLACES: [(&str, &str); 5] = [
    ("Locations", "/setup"),
    ("People", "/setup/people"),
    ("Teams", "/setup/teams"),
    ("Groups", "/setup/groups"),
    ("Audit", "/setup/audit"),
];

impl Around {
    pub fn new(who: Who, here: &str) -> Around {
        let administers = who.administers();
        // The only site stands for all: then an administrator finds it where sites are registered.
        let all = if administers && who.signed.sites.len() < 2 { FIRST_SITE } else { "/?all=1" };
        let mut places = vec![Choice::new(all, "Sites", ["/", FIRST_SITE].contains(&here))];
        let besides = PLACES.into_iter().filter(|_| administers);
        places.extend(besides.map(|(name, path)| Choice::new(path, name, path == here)));
        Around { places, who }
    }
}

/// A moment on a page of the installation, whose readers live anywhere.
pub fn moment(at: Timestamp) -> String {
    at.to_zoned(TimeZone::UTC).strftime("%a %-d %b %H:%M:%S UTC").to_string()
}
