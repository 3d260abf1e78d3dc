//! Find: whatever of a site has a name, by a part of it.

use crate::queries::{self, Over};
use crate::{Answers, Result};
use cadentis_core::calendar::Stretch;
use cadentis_core::query::{Query, Value};
use cadentis_core::text::found;
use cadentis_core::visitor::calls;
use cadentis_store::sheet::Filed;
use cadentis_store::site::Site;
use jiff::{SignedDuration, Timestamp};

/// What was found.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum What {
    /// A journey, by its name in addresses.
    Journey,
    /// A step; its key is the journey's name in addresses.
    Step,
    /// A page family, by its name.
    Family,
    /// A location, by its name in addresses.
    Location,
    /// A goal, by its id.
    Goal,
    /// An alert, by its id.
    Alert,
    /// An incident, by its number.
    Incident,
    /// A report, by its id.
    Report,
    /// A query, by what it says.
    Query,
    /// A saved view, by its id.
    View,
    /// A marker, by its id.
    Marker,
    /// What others say of something the site stands on.
    Dependency,
    /// A host that pages call, by its name.
    Host,
    /// A request of pages, by its name.
    Request,
    /// A kind of error, by its text.
    Error,
}

impl What {
    /// As it stands beside what was found.
    pub fn word(self) -> &'static str {
        match self {
            What::Journey => "journey",
            What::Step => "step",
            What::Family => "page family",
            What::Location => "location",
            What::Goal => "goal",
            What::Alert => "alert",
            What::Incident => "incident",
            What::Report => "report",
            What::Query => "query",
            What::View => "view",
            What::Marker => "marker",
            What::Dependency => "dependency",
            What::Host => "host",
            What::Request => "request",
            What::Error => "error",
        }
    }
}

/// Something that was found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Hit {
    /// What it is.
    pub what: What,
    /// What it is called.
    pub name: String,
    /// By what it is known; see [`What`].
    pub key: String,
    /// What tells it from others of its name; may be empty.
    pub beside: String,
}

/// So many are told at most, and so many of one kind.
pub const MOST: usize = 30;
const MOST_OF_ONE: usize = 8;
/// Incidents and markers are found for so long.
const HISTORY: SignedDuration = SignedDuration::from_hours(24 * 400);
/// So many hosts are looked through.
const MOST_HOSTS: usize = 200;
/// What pages, hosts, requests and errors are called is what the last day had.
const LATELY: SignedDuration = SignedDuration::from_hours(24);

/// What the samples of a query of one attribute are called, those with most samples first.
async fn names(
    answers: &Answers,
    site: &Site,
    query: &str,
    lately: Stretch,
) -> Result<Vec<String>> {
    let Ok(query) = query.parse::<Query>() else { return Ok(Vec::new()) };
    let told = queries::ask(answers, site, &query, &Over::all_of(lately), (1, false)).await?;
    let Ok(told) = told else { return Ok(Vec::new()) };
    let text = |value: Value| match value {
        Value::Text(text) if !text.is_empty() => Some(text),
        _ => None,
    };
    Ok(told.table.rows.into_iter().filter_map(|r| text(r.value)).collect())
}

/// Hosts that pages called lately, those called most first.
async fn hosts(answers: &Answers, site: &Site, lately: Stretch) -> Result<Vec<String>> {
    let columns = ["what", "name"].map(String::from);
    let sheets = answers.db.sheets_of(Filed::Happenings, site.id, lately, &columns).await?;
    let computing = answers.computed(move || {
        calls::hosts(&sheets).into_iter().take(MOST_HOSTS).map(|(host, _)| host).collect()
    });
    computing.await
}

/// Whatever of a site has a name that every word of `text` is part of, the best first.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn ask(answers: &Answers, site: &Site, text: &str, now: Timestamp) -> Result<Vec<Hit>> {
    if text.trim().is_empty() {
        return Ok(Vec::new());
    }
    let db = &answers.db;
    let history = Stretch { from: now - HISTORY, to: now };
    let lately = Stretch { from: now - LATELY, to: now };
    let read = async {
        Ok(futures::try_join!(
            db.journeys(site.id),
            db.locations(),
            db.goals(site.id),
            db.alerts(site.id),
            db.incidents(site.id, history),
            db.reports(site.id),
            db.saved_queries(site.id),
            db.saved_views(site.id),
            db.markers(site.id, history),
            db.dependencies(site.id),
        )?)
    };
    let named = async {
        futures::try_join!(
            names(
                answers,
                site,
                "count of page views by family top 300 by count of page views",
                lately
            ),
            names(
                answers,
                site,
                "count of requests by request top 500 by count of requests",
                lately
            ),
            names(answers, site, "count of errors by error top 300 by count of errors", lately),
            hosts(answers, site, lately),
        )
    };
    let (kept, (families, requests, errors, hosts)) = futures::try_join!(read, named)?;
    let (
        journeys,
        locations,
        goals,
        alerts,
        incidents,
        reports,
        saved,
        views,
        markers,
        dependencies,
    ) = kept;
    let mut all: Vec<Hit> = Vec::new();
    let mut put = |what: What, name: &str, key: String, beside: String| {
        all.push(Hit { what, name: name.into(), key, beside });
    };
    let day = |at: Timestamp| at.to_zoned(site.zone.clone()).strftime("%-d %b %Y").to_string();
    for j in &journeys {
        put(What::Journey, &j.name, j.slug.clone(), j.tags.join(", "));
        if let Ok(script) = cadentis_core::journey::parse(&j.script) {
            for step in script.counted_steps() {
                put(What::Step, &step.name, j.slug.clone(), j.name.clone());
            }
        }
    }
    for l in &locations {
        put(What::Location, &l.name, l.slug.clone(), l.country.clone());
    }
    for g in &goals {
        put(What::Goal, &g.name, g.id.to_string(), String::new());
    }
    for a in &alerts {
        put(What::Alert, &a.says.name, a.id.to_string(), String::new());
    }
    for i in incidents.iter().filter(|i| !i.is_rehearsal) {
        let name = format!("{} {}", i.id, i.title);
        put(What::Incident, &name, i.id.to_string(), day(i.opened_at));
    }
    for r in &reports {
        put(What::Report, &r.name, r.id.to_string(), r.definition.kind.title().into());
    }
    for q in &saved {
        put(What::Query, &q.name, q.says.clone(), q.says.clone());
    }
    for v in &views {
        put(What::View, &v.name, v.id.to_string(), String::new());
    }
    for m in &markers {
        put(What::Marker, &m.said.title, m.id.to_string(), day(m.at));
    }
    for d in &dependencies {
        put(What::Dependency, &d.name, d.slug.clone(), String::new());
    }
    for (what, names) in [
        (What::Family, families),
        (What::Host, hosts),
        (What::Request, requests),
        (What::Error, errors),
    ] {
        for name in &names {
            put(what, name, name.clone(), String::new());
        }
    }
    Ok(ranked(all, text))
}

/// Those that fit, the best first; of one kind as many as leave room for others.
fn ranked(all: Vec<Hit>, text: &str) -> Vec<Hit> {
    let fits = |hit: Hit| Some((found(&hit.name, text)?, hit));
    let mut fitting: Vec<_> = all.into_iter().filter_map(fits).collect();
    fitting.sort_by(|(a, x), (b, y)| a.cmp(b).then(x.what.cmp(&y.what)).then(x.name.cmp(&y.name)));
    fitting.dedup_by(|(_, a), (_, b)| a == b);
    let mut many = std::collections::HashMap::new();
    fitting.retain(|(_, hit)| {
        let of = many.entry(hit.what as u8).or_insert(0);
        *of += 1;
        *of <= MOST_OF_ONE
    });
    fitting.truncate(MOST);
    fitting.into_iter().map(|(_, hit)| hit).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn hit(what: What, name: &str) -> Hit {
        Hit { what, name: name.into(), key: name.into(), beside: String::new() }
    }

    #[test]
    fn what_begins_with_it_comes_before_what_holds_it_and_no_kind_takes_all_the_room() {
        let mut all = vec![
            hit(What::Request, "GET /api/book"),
            hit(What::Goal, "Crossings can be booked"),
            hit(What::Journey, "Book a crossing"),
            hit(What::Step, "Choose a cabin"),
        ];
        let names = |all: Vec<Hit>| all.into_iter().map(|h| h.name).collect::<Vec<_>>();
        assert_eq!(
            names(ranked(all.clone(), "book")),
            ["Book a crossing", "Crossings can be booked", "GET /api/book"]
        );
        assert_eq!(names(ranked(all.clone(), "crossing book")).len(), 2, "each word, in any order");
        all.extend((0..100).map(|n| hit(What::Error, &format!("book {n}"))));
        let found = ranked(all, "BOOK");
        assert_eq!(found.iter().filter(|h| h.what == What::Error).count(), MOST_OF_ONE);
        assert!(found.iter().any(|h| h.what == What::Goal));
    }
}
