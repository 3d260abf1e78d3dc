//! Markers: what is pinned to the time axis, listed, pinned, changed, taken away; and what was before and after each.

mod around;
mod list;
mod one;

use crate::State;
use crate::error::PageError;
use crate::fields::{self, Fields, Wrong, moment, sentence};
use crate::view::Choice;
use cadentis_answers::changes::markers::NotPinned;
use cadentis_answers::kept::{Marker, Site};
use cadentis_answers::markers;
use cadentis_core::marker::{
    Kind, LONGEST_DETAIL, LONGEST_LINK, LONGEST_TITLE, LONGEST_VERSION, NoMarker, Said,
};
use jiff::Timestamp;
use jiff::tz::TimeZone;

pub use list::{new, page, pinned};
pub use one::{changed, one, remove, restore};

/// A marker of a site.
async fn marker_of(state: &State, site: &Site, id: i32) -> Result<Marker, PageError> {
    let found = markers::one(&state.answers, site, id).await?;
    found.ok_or_else(|| PageError::NotFound(format!("the marker {id}")))
}

/// What was typed and chosen.
#[derive(Debug, Clone, Default)]
struct Typed {
    at: String,
    kind: String,
    title: String,
    version: String,
    detail: String,
    link: String,
    is_everywhere: bool,
    based_on: i32,
}

impl Typed {
    fn of(fields: &Fields) -> Typed {
        Typed {
            at: fields::line(fields, "at", 40),
            kind: fields::usual(fields, "kind", "note"),
            // One more than may be: what is too long is told, not cut.
            title: fields::line(fields, "title", LONGEST_TITLE + 1),
            version: fields::line(fields, "version", LONGEST_VERSION + 1),
            detail: fields::line(fields, "detail", LONGEST_DETAIL + 1),
            link: fields::line(fields, "link", LONGEST_LINK + 1),
            is_everywhere: !fields::one(fields, "everywhere").is_empty(),
            based_on: fields::one(fields, "based_on").parse().unwrap_or_default(),
        }
    }

    fn from(marker: &Marker, zone: &TimeZone) -> Typed {
        let said = marker.said.clone();
        Typed {
            at: clock(marker.at, zone),
            kind: said.kind.word().into(),
            title: said.title,
            version: said.version,
            detail: said.detail,
            link: said.link,
            is_everywhere: marker.is_everywhere,
            based_on: marker.edits,
        }
    }

    /// What is pinned, and to which moment; `was` is the moment of before, which a field without seconds does not change.
    fn read(&self, zone: &TimeZone, was: Option<Timestamp>) -> Result<(Timestamp, Said), Wrong> {
        let unchanged = was.filter(|at| clock(*at, zone) == self.at);
        let at = match unchanged {
            Some(at) => at,
            None => moment(&self.at, zone).map_err(|says| ("at", sentence(&says)))?,
        };
        let Some(kind) = Kind::of_word(&self.kind) else {
            return Err(("kind", "A marker tells of a release, a change or a note.".into()));
        };
        let said = Said {
            kind,
            title: self.title.clone(),
            detail: self.detail.clone(),
            version: self.version.clone(),
            link: self.link.clone(),
        };
        said.check(at, Timestamp::now()).map_err(|e| wrong(&NotPinned::Wrong(e)))?;
        Ok((at, said))
    }

    fn kinds(&self) -> Vec<Choice> {
        Kind::ALL.map(|kind| Choice::of(kind.word(), kind.word() == self.kind)).to_vec()
    }
}

/// The field that is wrong, and how.
fn wrong(why: &NotPinned) -> Wrong {
    let field = match why {
        NotPinned::Wrong(e) => NoMarker::field(*e),
        NotPinned::Overtaken | NotPinned::NotTheirs => "form",
    };
    (field, sentence(why))
}

/// A moment as a field has it, on the clock of the site.
fn clock(at: Timestamp, zone: &TimeZone) -> String {
    at.to_zoned(zone.clone()).strftime("%Y-%m-%dT%H:%M").to_string()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(more: &[(&str, &str)], was: Option<Timestamp>) -> Result<(Timestamp, Said), Wrong> {
        let usual = [("at", "2026-11-20T22:30"), ("kind", "release"), ("title", "Release 1")];
        let kept = usual.iter().filter(|(n, _)| !more.iter().any(|(m, _)| m == n));
        let fields: Fields =
            kept.chain(more).map(|(n, v)| (n.to_string(), v.to_string())).collect();
        Typed::of(&fields).read(&TimeZone::get("Europe/Oslo").unwrap(), was)
    }

    #[test]
    fn a_marker_is_read_by_the_clock_of_the_site_and_what_is_wrong_is_told_at_its_field() {
        let (at, said) = read(&[], None).unwrap();
        assert_eq!((at.to_string().as_str(), said.kind), ("2026-11-20T21:30:00Z", Kind::Release));
        for (field, value) in [
            ("at", "soon"),
            ("at", "9999-01-01T00:00"),
            ("kind", "magic"),
            ("title", ""),
            ("link", "javascript:alert(1)"),
        ] {
            assert_eq!(read(&[(field, value)], None).unwrap_err().0, field, "{value}");
        }
        let long = "x".repeat(LONGEST_TITLE + 1);
        assert_eq!(read(&[("title", &long)], None).unwrap_err().0, "title", "told, not cut");
    }

    #[test]
    fn a_moment_that_was_not_touched_keeps_its_seconds() {
        let was: Timestamp = "2026-11-20T21:30:42Z".parse().unwrap();
        assert_eq!(read(&[], Some(was)).unwrap().0, was);
        assert_ne!(read(&[("at", "2026-11-20T22:31")], Some(was)).unwrap().0, was);
    }
}
