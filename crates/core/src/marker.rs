//! Markers: what is pinned to a moment of the time axis, and what a pin may say.

use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};

/// What a marker tells of.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Kind {
    /// A version of the site went out.
    Release,
    /// Something else was changed on purpose: a setting, a machine, a price.
    Change,
    /// Anything that whoever looks at a chart should know.
    #[default]
    Note,
}

impl Kind {
    /// All of them.
    pub const ALL: [Kind; 3] = [Kind::Release, Kind::Change, Kind::Note];

    /// In one word.
    pub fn word(self) -> &'static str {
        match self {
            Kind::Release => "release",
            Kind::Change => "change",
            Kind::Note => "note",
        }
    }

    /// The one of this word.
    pub fn of_word(word: &str) -> Option<Kind> {
        Kind::ALL.into_iter().find(|kind| kind.word() == word)
    }
}

/// What a marker says.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Said {
    /// What it tells of.
    pub kind: Kind,
    /// What, in a word or two.
    pub title: String,
    /// More of it.
    pub detail: String,
    /// Which version, of a release.
    pub version: String,
    /// Where more is found.
    pub link: String,
}

/// A title has at most so many characters.
pub const LONGEST_TITLE: usize = 80;
/// And what is said besides.
pub const LONGEST_DETAIL: usize = 500;
/// And the name of a version.
pub const LONGEST_VERSION: usize = 80;
/// And a link.
pub const LONGEST_LINK: usize = 500;
/// Markers lie so many days ahead at most: what is planned is maintenance.
const MOST_DAYS_AHEAD: i64 = 366;
/// And not before this moment, the beginning of 2000.
const EARLIEST_S: i64 = 946_684_800;

/// Why something cannot be a marker.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[expect(missing_docs, reason = "each says what it is when it is told")]
pub enum NoMarker {
    #[error("a title has 1 to {LONGEST_TITLE} characters")]
    Title,
    #[error("what is said besides has {LONGEST_DETAIL} characters at most")]
    Detail,
    #[error("a version has {LONGEST_VERSION} characters at most")]
    Version,
    #[error(
        "a link is an address that begins with http:// or https://, of {LONGEST_LINK} characters at most"
    )]
    Link,
    #[error("a marker lies between the year 2000 and a year from now")]
    Moment,
}

impl NoMarker {
    /// The name of the field that is wrong.
    pub fn field(self) -> &'static str {
        match self {
            NoMarker::Title => "title",
            NoMarker::Detail => "detail",
            NoMarker::Version => "version",
            NoMarker::Link => "link",
            NoMarker::Moment => "at",
        }
    }
}

/// Whether somebody can be led to this address: a host at least, over http or https.
pub fn leads(link: &str) -> bool {
    let rest = link.strip_prefix("https://").or_else(|| link.strip_prefix("http://"));
    let host = rest.is_some_and(|rest| rest.starts_with(|c: char| c.is_alphanumeric() || c == '['));
    link.is_empty() || (host && !link.contains(|c: char| c.is_whitespace() || c.is_control()))
}

impl Said {
    /// Whether it can be pinned to a moment.
    ///
    /// # Errors
    /// Says the first thing that is wrong with it.
    pub fn check(&self, at: Timestamp, now: Timestamp) -> Result<(), NoMarker> {
        let within = |text: &str, most: usize| text.chars().count() <= most;
        let ahead = at.duration_since(now) <= SignedDuration::from_hours(24 * MOST_DAYS_AHEAD);
        let checks = [
            (!self.title.trim().is_empty() && within(&self.title, LONGEST_TITLE), NoMarker::Title),
            (within(&self.detail, LONGEST_DETAIL), NoMarker::Detail),
            (within(&self.version, LONGEST_VERSION), NoMarker::Version),
            (within(&self.link, LONGEST_LINK) && leads(&self.link), NoMarker::Link),
            (ahead && at.as_second() >= EARLIEST_S, NoMarker::Moment),
        ];
        checks.into_iter().find(|(fine, _)| !fine).map_or(Ok(()), |(_, why)| Err(why))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_cannot_be_pinned_is_told_by_its_field() {
        let now: Timestamp = "2026-11-27T12:00:00Z".parse().unwrap();
        let said = Said { title: "Release 1".into(), ..Said::default() };
        let of =
            |said: &Said, at: &str| said.check(at.parse().unwrap(), now).map_err(NoMarker::field);
        assert_eq!(of(&said, "2026-11-27T11:00:00Z"), Ok(()));
        assert_eq!(of(&said, "9999-01-01T00:00:00Z"), Err("at"));
        assert_eq!(of(&said, "1999-12-31T23:59:59Z"), Err("at"));
        assert_eq!(
            of(&Said { title: " ".into(), ..said.clone() }, "2026-11-27T11:00:00Z"),
            Err("title")
        );
        assert_eq!(
            of(&Said { title: "é".repeat(81), ..said.clone() }, "2026-11-27T11:00:00Z"),
            Err("title")
        );
        for (link, fine) in [
            ("https://ci.marram.example/17", true),
            ("", true),
            ("javascript:alert(1)", false),
            ("//ci.marram.example", false),
            ("ci 17", false),
            ("https://", false),
        ] {
            let of = of(&Said { link: link.into(), ..said.clone() }, "2026-11-27T11:00:00Z");
            assert_eq!(of, if fine { Ok(()) } else { Err("link") }, "{link}");
        }
        assert!(Kind::ALL.into_iter().all(|kind| Kind::of_word(kind.word()) == Some(kind)));
    }
}
