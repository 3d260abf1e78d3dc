//! Sentences, and readings of fields, that more than one page has.

use crate::format;
use crate::format::thousands;
use crate::frame::Frame;
use cadentis_answers::changes::journeys::NotSaved;
use cadentis_answers::dependencies::Seen;
use cadentis_core::calendar::Stretch;
use cadentis_core::calendar::stretch::length_text;
use cadentis_core::finding::Finding;
use cadentis_core::stats::share::share_text;
use cadentis_core::visitor::timeline::Bucket;
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

fn length_of(stretch: Stretch) -> String {
    length_text(stretch.to.duration_since(stretch.from).as_millis_f64())
}

/// What pages saw of the hosts of a dependency, against the day before.
pub fn seen_says(seen: &Seen) -> String {
    let Some(now) = &seen.now else {
        return format!("no page asked it for anything in {}", length_of(seen.stretch));
    };
    let percent = |b: &Bucket| {
        b.failed_share().map_or("no data".into(), |s| format!("{} %", share_text(s, 1, None)))
    };
    let took = |b: &Bucket| format::reading_s(&b.p75);
    let before = seen.before.as_ref();
    let (failed, took_before) = (before.map(percent), before.map(took));
    let against = |was: Option<String>| was.map_or(String::new(), |was| format!(" against {was}"));
    format!(
        "in {} pages asked it {} times: {} failed{}, p75 {}{} the day before",
        length_of(seen.stretch),
        thousands(now.count),
        percent(now),
        against(failed),
        took(now),
        against(took_before),
    )
}

/// Lines of a field, without those that are empty.
pub fn lines(text: &str) -> Vec<String> {
    text.lines().map(str::trim).filter(|l| !l.is_empty()).map(String::from).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn domains_are_host_names_alone_one_on_each_line() {
        let two = domains_of(" book.marram.example \n\n marram.example");
        assert_eq!(two, Ok(vec!["book.marram.example".into(), "marram.example".into()]));
        assert!(domains_of(" \n ").unwrap_err().contains("at least one domain"));
        for wrong in ["https://marram.example", "marram.example:8080", "two words", "a/b"] {
            let says = domains_of(&format!("fine.example\n{wrong}")).unwrap_err();
            assert!(says.starts_with(&format!("“{wrong}” is no domain")), "{says}");
        }
    }

    #[test]
    fn a_moment_that_may_be_long_ago_has_its_year_and_its_clock() {
        let oslo = TimeZone::get("Europe/Oslo").unwrap();
        let summer: Timestamp = "2024-07-01T10:00Z".parse().unwrap();
        assert_eq!(when(summer, &oslo), "1 Jul 2024 12:00 CEST");
        assert_eq!(when(summer, &TimeZone::UTC), "1 Jul 2024 10:00 UTC");
    }

    #[test]
    fn what_keeps_a_script_from_being_saved_is_told_with_who_was_first() {
        let by = cadentis_answers::kept::Version {
            version: 7,
            saved_at: "2026-11-22T10:00Z".parse().unwrap(),
            author: "Tor".into(),
            note: String::new(),
        };
        let says = not_saved_says(&NotSaved::Overtaken(by), &TimeZone::UTC);
        assert!(
            says.starts_with("Not saved: Tor saved version 7 meanwhile (22 Nov 2026 10:00 UTC)."),
            "{says}"
        );
        assert_eq!(not_saved_says(&NotSaved::Unplayable(vec![]), &TimeZone::UTC), "");
    }

    proptest! {
        #[test]
        fn lines_are_neither_empty_nor_padded_and_nothing_of_them_is_lost(text in "[ a-z\t\r\n.]{0,60}") {
            let all = lines(&text);
            prop_assert!(all.iter().all(|l| !l.is_empty() && l.trim() == l));
            let letters = |t: &str| t.chars().filter(|c| !c.is_whitespace()).collect::<String>();
            prop_assert_eq!(letters(&all.concat()), letters(&text));
        }
    }
}
