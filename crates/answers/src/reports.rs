//! Reports: what is issued, what an issue said, and what has changed since.

mod arranged;
mod goals;
mod incidents;
mod measured;

use crate::{Answers, Result};
use cadentis_core::alert::LAG;
use cadentis_core::calendar::Stretch;
use cadentis_core::calendar::stretch::length_text;
use cadentis_core::report::document::checksum;
use cadentis_core::report::{
    Change, Definition, Document, Head, Kind, changes, covered, period_name,
};
use cadentis_store::report::{Issue, Report};
use cadentis_store::saved_query::SavedQuery;
use cadentis_store::site::Site;
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};

/// So many issues of a report are listed.
const LISTED: i64 = 200;

/// What an issue is kept as.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Content {
    /// The report's name when it was issued.
    pub name: String,
    /// What the report was about then, and which of its versions that was.
    pub definition: Definition,
    /// Which version of the definition.
    pub version: i32,
    /// Which version of Cadentis wrote it.
    pub software: String,
    /// Everything that it says.
    pub document: Document,
}

impl Content {
    /// As it is kept, and the checksum of that.
    pub(crate) fn kept(&self) -> (String, String) {
        // Plain values have a text; a map with keys that are none would not.
        let text = serde_json::to_string(self).unwrap_or_default();
        let sum = checksum(&text);
        (text, sum)
    }
}

/// An issue with what it says.
pub struct Shown {
    /// The report, as it is now.
    pub report: Report,
    /// The issue.
    pub issue: Issue,
    /// What it says.
    pub content: Content,
    /// What it is kept as, byte for byte.
    pub kept: String,
    /// Whether that still has the checksum that it was issued with.
    pub is_intact: bool,
    /// The issue of the same time before it.
    pub replaces: Option<Issue>,
    /// What this one says that the one before did not.
    pub since_before: Vec<Change>,
    /// A newer one of the same time.
    pub replaced_by: Option<Issue>,
}

fn when(at: Timestamp, site: &Site) -> String {
    at.to_zoned(site.zone.clone()).strftime("%-d %b %Y %H:%M").to_string()
}

impl Shown {
    /// What stands above and below it.
    pub fn head(&self, site: &Site) -> Head {
        let issue = &self.issue;
        let replaces = |before: &Issue| {
            format!(", replaces {} of {}", before.number, when(before.made_at, site))
        };
        let warning = match self.is_intact {
            true => "",
            false => {
                "This is not what was issued: it was changed where it is kept, and its checksum is another one."
            }
        };
        Head {
            issue: issue.number.to_string()
                + &self.replaces.as_ref().map_or(String::new(), replaces),
            made: format!(
                "{} {}, by {}, {}",
                when(issue.made_at, site),
                site.zone_name(),
                issue.author,
                self.content.software
            ),
            checksum: issue.checksum.clone(),
            warning: warning.into(),
            since_before: self.since_before.clone(),
        }
    }

    /// The name of a file that holds it.
    pub fn file(&self, site: &Site, ending: &str) -> String {
        let from = self.issue.covers.from.to_zoned(site.zone.clone()).date();
        format!("{}-report-{from}-issue-{}.{ending}", site.slug, self.issue.number)
    }
}

/// The reports of a site, each with its newest issue; those that were ended last.
///
/// # Errors
/// When the database does not answer.
pub async fn list(answers: &Answers, site: &Site) -> Result<Vec<(Report, Option<Issue>)>> {
    let (reports, mut issues) =
        futures::try_join!(answers.db.reports(site.id), answers.db.newest_issues(site.id))?;
    let newest = |report: Report| {
        let at = issues.iter().position(|i| i.report_id == report.id);
        (report, at.map(|at| issues.swap_remove(at)))
    };
    Ok(reports.into_iter().map(newest).collect())
}

/// A report with its issues, the newest first; nothing where the site has none of this id.
///
/// # Errors
/// When the database does not answer.
pub async fn one(answers: &Answers, site: &Site, id: i32) -> Result<Option<(Report, Vec<Issue>)>> {
    let Some(report) = answers.db.report(site.id, id).await? else { return Ok(None) };
    let issues = answers.db.issues_of(report.id, LISTED).await?;
    Ok(Some((report, issues)))
}

/// An issue as it was written; nothing where the site has none of this id.
///
/// # Errors
/// When the database does not answer, or what is kept cannot be read.
pub async fn issue(answers: &Answers, site: &Site, id: i32) -> Result<Option<Shown>> {
    let db = &answers.db;
    let Some((issue, kept)) = db.issue(site.id, id).await? else { return Ok(None) };
    let Some(report) = db.report(site.id, issue.report_id).await? else { return Ok(None) };
    let content = read(&kept)?;
    let all = db.issues_of(report.id, LISTED).await?;
    let of_number =
        |number: i32| all.iter().find(|i| i.covers == issue.covers && i.number == number).cloned();
    let (replaces, replaced_by) = (of_number(issue.number - 1), of_number(issue.number + 1));
    let since_before = match &replaces {
        Some(before) => match db.issue(site.id, before.id).await? {
            Some((_, before)) => changes(&read(&before)?.document, &content.document),
            None => Vec::new(),
        },
        None => Vec::new(),
    };
    let is_intact = checksum(&kept) == issue.checksum;
    Ok(Some(Shown { report, issue, content, kept, is_intact, replaces, since_before, replaced_by }))
}

pub(crate) fn read(kept: &str) -> Result<Content> {
    serde_json::from_str(kept).map_err(|e| crate::AnswerError::unreadable("report_issue", &e))
}

/// What the report would say now of the time of an issue and does not in it.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn since(answers: &Answers, site: &Site, shown: &Shown) -> Result<Vec<Change>> {
    let of = (shown.content.name.as_str(), &shown.content.definition);
    let now = document(answers, site, of, shown.issue.covers).await?;
    Ok(changes(&shown.content.document, &now))
}

/// The document of a report over a time, as it would be issued now.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn document(
    answers: &Answers,
    site: &Site,
    (name, definition): (&str, &Definition),
    covers: Stretch,
) -> Result<Document> {
    let zone = &site.zone;
    let mut document = Document {
        title: format!("{name}, {}", period_name(definition.period, covers, zone)),
        kind: definition.kind.title().into(),
        site: site.name.clone(),
        facts: vec![("Period".into(), period_words(covers, zone, site.zone_name()))],
        ..Document::default()
    };
    let of = (definition, covers);
    match definition.kind {
        Kind::GoalsShort | Kind::GoalsFull => {
            goals::write(answers, site, of, &mut document).await?
        }
        Kind::Incidents => incidents::write(answers, site, covers, &mut document).await?,
        Kind::Timings => measured::timings(answers, site, of, &mut document).await?,
        Kind::Usage => measured::usage(answers, site, of, &mut document).await?,
        Kind::Query => measured::query(answers, site, of, &mut document).await?,
        Kind::View => arranged::write(answers, site, of, &mut document).await?,
    }
    Ok(document)
}

/// From when to when, in whose zone, how many hours that are, and whether clocks changed in it.
fn period_words(covers: Stretch, zone: &TimeZone, zone_name: &str) -> String {
    let at = |t: Timestamp| t.to_zoned(zone.clone());
    let clock = |t: Timestamp| at(t).strftime("%-d %b %Y %H:%M").to_string();
    let hours = covers.seconds() / 3_600;
    let wall = at(covers.to).datetime().duration_since(at(covers.from).datetime());
    let change = match covers.seconds() - wall.as_secs() {
        0 => String::new(),
        more @ 1.. => format!(", clocks went back in it by {}", length_text(more as f64 * 1000.0)),
        less => format!(", clocks went forward in it by {}", length_text(-less as f64 * 1000.0)),
    };
    format!("{} to {}, {zone_name} ({hours} h{change})", clock(covers.from), clock(covers.to))
}

/// So many periods back can be looked at and issued.
pub const MOST_BACK: usize = 24;

/// The last periods of a report that were over at `now`, the newest first.
pub fn periods(report: &Report, now: Timestamp, site: &Site) -> Vec<Stretch> {
    let period = report.definition.period;
    let mut all = vec![covered(period, now, &site.zone)];
    while all.len() < MOST_BACK {
        let first = all[all.len() - 1].from;
        all.push(covered(period, first, &site.zone));
    }
    all
}

/// What a report can be about, by id and name, and whom it can be sent to.
pub struct Offered {
    /// Goals.
    pub goals: Vec<(i32, String)>,
    /// Journeys.
    pub journeys: Vec<(i32, String)>,
    /// Locations.
    pub locations: Vec<(i32, String)>,
    /// Call lists.
    pub lists: Vec<(i32, String)>,
    /// Queries that people keep.
    pub queries: Vec<SavedQuery>,
    /// Saved views.
    pub views: Vec<(i32, String)>,
}

/// What a report can be about, and whom it can be sent to.
///
/// # Errors
/// When the database does not answer.
pub async fn offered(answers: &Answers, site: &Site) -> Result<Offered> {
    let db = &answers.db;
    let (goals, journeys, locations, lists, queries, views) = futures::try_join!(
        db.goals(site.id),
        db.journeys(site.id),
        db.locations(),
        db.call_lists(site.id),
        db.saved_queries(site.id),
        db.saved_views(site.id),
    )?;
    Ok(Offered {
        views: views.into_iter().map(|v| (v.id, v.name)).collect(),
        goals: goals.into_iter().map(|g| (g.id, g.name)).collect(),
        journeys: journeys.into_iter().map(|j| (j.id, j.name)).collect(),
        locations: locations.into_iter().map(|l| (l.id, l.name)).collect(),
        lists: lists.into_iter().map(|l| (l.id, l.name)).collect(),
        queries,
    })
}

/// What goes on by itself: makes the issue of the report that is due longest. Whether there was one.
///
/// # Errors
/// When the database does not answer or too much waits; whoever comes after the lease has run out tries again.
pub async fn round(answers: &Answers) -> Result<bool> {
    let now = answers.db.now().await?;
    // What was on its way at the period's end has arrived.
    let Some(report) = answers.db.due_report(now - LAG_OF_ISSUES).await? else {
        return Ok(false);
    };
    let sites = answers.db.sites().await?;
    if let Some(site) = sites.into_iter().find(|s| s.id == report.site_id) {
        crate::changes::reports::issue_due(answers, &site, &report).await?;
    }
    Ok(true)
}

/// An issue is made so long after its moment: as long as an alert waits for what is late.
pub const LAG_OF_ISSUES: SignedDuration = LAG;
