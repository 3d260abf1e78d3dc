//! Sentences, and readings of fields, that more than one page has.

use crate::format;
use crate::frame::Frame;
use cadentis_answers::changes::journeys::NotSaved;
use cadentis_core::finding::Finding;
use jiff::Timestamp;
use jiff::tz::TimeZone;

pub use cadentis_core::text::capital;

/// Since when what is the matter, or from when to when it was.
pub fn extent_words(frame: &Frame, finding: &Finding) -> String {
    let clock = if frame.stretch.seconds() > 86_400 { format::day_clock } else { format::clock };
    let at = |moment| clock(moment, &frame.site.zone);
    match (finding.since, finding.until) {
        (Some(since), None) => format!("Since {}.", at(since)),
        (Some(since), Some(until)) => format!("From {} to {}.", at(since), at(until)),
        (None, Some(until)) => format!("Until {}.", at(until)),
        (None, None) => "Throughout this stretch.".into(),
    }
}

/// Why a script did not become the next version of its journey.
pub fn not_saved_says(why: &NotSaved, zone: &TimeZone) -> String {
    match why {
        NotSaved::Unplayable(problems) => {
            problems.first().map_or(String::new(), |first| format!("Not saved: {first}."))
        }
        NotSaved::Overtaken(by) => format!(
            "Not saved: {} saved version {} meanwhile ({}). Your text is still here; open the newest version in another window and bring both together.",
            by.author,
            by.version,
            when(by.saved_at, zone)
        ),
    }
}

/// A moment that may be long ago.
pub fn when(at: Timestamp, zone: &TimeZone) -> String {
    at.to_zoned(zone.clone()).strftime("%-d %b %Y %H:%M %Z").to_string()
}

/// The domains of a site as somebody typed them, one on each line.
pub fn domains_of(text: &str) -> Result<Vec<String>, String> {
    let domains = lines(text);
    match domains.iter().find(|d| d.contains(['/', ':', ' '])) {
        _ if domains.is_empty() => {
            Err("A site has at least one domain: anything else would be refused.".into())
        }
        Some(wrong) => {
            Err(format!("“{wrong}” is no domain: a host name alone, such as book.marram.example."))
        }
        None => Ok(domains),
    }
}

/// Lines of a field, without those that are empty.
pub fn lines(text: &str) -> Vec<String> {
    text.lines().map(str::trim).filter(|l| !l.is_empty()).map(String::from).collect()
}
