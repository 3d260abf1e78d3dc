//! Reports: what they are about, issues of them, and whom each issue is sent to.

use super::{Author, cut, noted};
use crate::reports::{Content, MOST_BACK, document, periods, read};
use crate::{Answers, Result};
use cadentis_core::alert::Severity;
use cadentis_core::alert::notice::Kind as Way;
use cadentis_core::calendar::Stretch;
use cadentis_core::report::schedule::On;
use cadentis_core::report::{self, Definition, Kind, covered, period_name};
use cadentis_store::notice::{Destination, NewNotice, Tells};
use cadentis_store::person::Person;
use cadentis_store::report::{KeptReport, NewIssue, Report};
use cadentis_store::site::Site;

/// A name has at most so many characters.
pub const LONGEST_NAME: usize = 80;
/// A site has so many reports at most that are issued.
pub const MOST: usize = 200;

/// Who issues what is issued by itself.
const SCHEDULE: &str = "the schedule";

/// Why a report was not kept.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[expect(missing_docs, reason = "each says what it is when it is told")]
pub enum NotKept {
    #[error("a name has 1 to {LONGEST_NAME} characters")]
    Name,
    #[error("another report of this site has the name")]
    Taken,
    #[error("somebody else changed it meanwhile: load it anew")]
    Overtaken,
    #[error("a site has {MOST} reports at most")]
    TooMany,
    #[error("what it is about is not there: {0}")]
    NotThere(&'static str),
    #[error("a query report is about a query that can be asked: {0}")]
    Query(String),
    #[error("a filter says what page views are narrowed to, such as device \"phone\": {0}")]
    Filter(String),
    #[error("hours have at least one day of the week, and two times of day that differ")]
    Hours,
    #[error("a rolling period has 1 to 366 days")]
    Days,
    #[error("days of a week are 1 to 7, days of a month 1 to 31")]
    Day,
    #[error("this call list is not there")]
    List,
    #[error("only what is issued by itself is sent to a call list")]
    NoSchedule,
}

impl NotKept {
    /// The field that is wrong.
    pub fn field(&self) -> &'static str {
        match self {
            NotKept::Name | NotKept::Taken => "name",
            NotKept::Overtaken | NotKept::TooMany => "form",
            NotKept::NotThere(field) => field,
            NotKept::Query(_) => "query",
            NotKept::Filter(_) => "filter",
            NotKept::Hours => "hours",
            NotKept::Days => "days",
            NotKept::Day => "day",
            NotKept::List | NotKept::NoSchedule => "list",
        }
    }
}

/// A report that is to be kept.
#[derive(Debug, Clone)]
pub struct Wanted {
    /// Which, and the version that was looked at; none for a new one.
    pub known: Option<(i32, i32)>,
    /// Its name.
    pub name: String,
    /// What it is about.
    pub definition: Definition,
    /// Which call list is told of each issue.
    pub list: Option<i32>,
}

/// What is wrong with what it is about; what it does not take is let go of.
async fn checked(
    answers: &Answers,
    site: &Site,
    mut definition: Definition,
) -> Result<std::result::Result<Definition, NotKept>> {
    if let cadentis_core::goal::Period::Days(days) = definition.period
        && !(1..=366).contains(&days)
    {
        return Ok(Err(NotKept::Days));
    }
    let day_fits = |on: On| match on {
        On::EachDay => true,
        On::Weekday(day) => (1..=7).contains(&day),
        On::DayOfMonth(day) | On::DayOfQuarter(day) => (1..=31).contains(&day),
    };
    if definition.schedule.is_some_and(|s| !day_fits(s.on)) {
        return Ok(Err(NotKept::Day));
    }
    let is_of_goals = matches!(definition.kind, Kind::GoalsShort | Kind::GoalsFull);
    if !is_of_goals {
        definition.goals.clear();
    }
    if !definition.kind.takes_places() {
        definition.journeys.clear();
        definition.locations.clear();
    }
    definition.hours = definition.hours.filter(|_| definition.kind.takes_hours());
    if definition.hours.as_ref().is_some_and(|h| !h.days.contains(&true) || h.from == h.until) {
        return Ok(Err(NotKept::Hours));
    }
    match definition.kind {
        // As it is said everywhere.
        Kind::Timings | Kind::Usage => match report::narrowed(&definition.filter) {
            Ok(scope) => definition.filter = scope.to_string(),
            Err(e) => return Ok(Err(NotKept::Filter(e.to_string()))),
        },
        _ => definition.filter.clear(),
    }
    match definition.kind {
        Kind::Query => match definition.query.parse::<cadentis_core::query::Query>() {
            Ok(query) => definition.query = query.to_string(),
            Err(e) => return Ok(Err(NotKept::Query(e.to_string()))),
        },
        _ => definition.query.clear(),
    }
    definition.view = definition.view.filter(|_| definition.kind == Kind::View);
    if definition.kind == Kind::View {
        let view = match definition.view {
            Some(id) => answers.db.saved_view(site.id, id).await?,
            None => None,
        };
        if view.is_none() {
            return Ok(Err(NotKept::NotThere("view")));
        }
    }
    let has = |wanted: &[i32], all: Vec<i32>| wanted.iter().all(|id| all.contains(id));
    let db = &answers.db;
    if !has(&definition.goals, db.goals(site.id).await?.iter().map(|g| g.id).collect()) {
        return Ok(Err(NotKept::NotThere("goals")));
    }
    if !has(&definition.journeys, db.journeys(site.id).await?.iter().map(|j| j.id).collect()) {
        return Ok(Err(NotKept::NotThere("journeys")));
    }
    if !has(&definition.locations, db.locations().await?.iter().map(|l| l.id).collect()) {
        return Ok(Err(NotKept::NotThere("locations")));
    }
    Ok(Ok(definition))
}

/// Keeps a report, a new one or one that is changed.
///
/// # Errors
/// When the database does not answer.
pub async fn save(
    answers: &Answers,
    by: &Author,
    site: &Site,
    wanted: Wanted,
) -> Result<std::result::Result<i32, NotKept>> {
    let name = cut(&wanted.name, LONGEST_NAME + 1);
    if name.is_empty() || name.chars().count() > LONGEST_NAME {
        return Ok(Err(NotKept::Name));
    }
    let definition = match checked(answers, site, wanted.definition).await? {
        Ok(definition) => definition,
        Err(wrong) => return Ok(Err(wrong)),
    };
    if let Some(list) = wanted.list {
        if definition.schedule.is_none() {
            return Ok(Err(NotKept::NoSchedule));
        }
        if !answers.db.call_lists(site.id).await?.iter().any(|l| l.id == list) {
            return Ok(Err(NotKept::List));
        }
    }
    let one = answers.one().await?;
    if wanted.known.is_none() {
        let all = one.db.reports(site.id).await?;
        if all.iter().filter(|r| r.ended_at.is_none()).count() >= MOST {
            return Ok(Err(NotKept::TooMany));
        }
    }
    let now = one.db.now().await?;
    let next = definition.schedule.and_then(|s| s.next(now, &site.zone));
    let (says, when) = ((name.as_str(), &definition), (wanted.list, next));
    let kept = one.db.put_report(site.id, wanted.known, says, when, by.name()).await?;
    Ok(match kept {
        KeptReport::Taken => Err(NotKept::Taken),
        KeptReport::Overtaken => Err(NotKept::Overtaken),
        KeptReport::Kept(id) => {
            let done =
                if wanted.known.is_some() { "changed the report" } else { "added the report" };
            let when = definition.schedule.map_or("when asked".into(), |s| s.words());
            noted(one, by, done, format!("{name}: {}, {when}", definition.kind.says())).await?;
            Ok(id)
        }
    })
}

/// Ends a report: it is issued no more, and what was issued stays. Whether there was one.
///
/// # Errors
/// When the database does not answer.
pub async fn end(answers: &Answers, by: &Author, site: &Site, id: i32) -> Result<bool> {
    let one = answers.one().await?;
    let Some(name) = one.db.end_report(site.id, id).await? else { return Ok(false) };
    noted(one, by, "ended the report", name).await?;
    Ok(true)
}

/// What became of an issue that was asked for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Made {
    /// It is kept, with this id.
    New(i32),
    /// The newest of its time, with this id, says all of it already.
    Same(i32),
}

async fn written(
    answers: &Answers,
    site: &Site,
    report: &Report,
    covers: Stretch,
) -> Result<Content> {
    let of = (report.name.as_str(), &report.definition);
    Ok(Content {
        name: report.name.clone(),
        definition: report.definition.clone(),
        version: report.version,
        software: format!("Cadentis {}", env!("CARGO_PKG_VERSION")),
        document: document(answers, site, of, covers).await?,
    })
}

/// Issues a report over a period that is over, so many before the last one, if that says anything new.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn issue(
    answers: &Answers,
    by: &Author,
    site: &Site,
    report: &Report,
    back: usize,
) -> Result<Made> {
    let now = answers.db.now().await?;
    let covers = periods(report, now, site)[back.min(MOST_BACK - 1)];
    let content = written(answers, site, report, covers).await?;
    let newest = answers.db.issues_of(report.id, 200).await?;
    if let Some(last) = newest.iter().find(|i| i.covers == covers)
        && let Some((_, kept)) = answers.db.issue(site.id, last.id).await?
        && read(&kept)?.document == content.document
    {
        return Ok(Made::Same(last.id));
    }
    let one = answers.one().await?;
    let (id, number) = put(&one, by.name(), report, covers, &content).await?;
    let of = period_name(report.definition.period, covers, &site.zone);
    noted(one, by, "issued the report", format!("{}, {of}, issue {number}", report.name)).await?;
    Ok(Made::New(id))
}

async fn put(
    answers: &Answers,
    by: &str,
    report: &Report,
    covers: Stretch,
    content: &Content,
) -> Result<(i32, i32)> {
    let (text, checksum) = content.kept();
    let made_at = answers.db.now().await?;
    let new = NewIssue { report, covers, made_at, author: by, content: &text, checksum: &checksum };
    Ok(answers.db.add_issue(&new).await?)
}

/// Makes the issue of a report whose moment has come, and goes on to the next moment, in one transaction with what is to be sent
/// of it. Whatever could not be made is tried again when the turn has run out.
pub(crate) async fn issue_due(answers: &Answers, site: &Site, report: &Report) -> Result<()> {
    let (Some(at), Some(schedule)) = (report.next_at, report.definition.schedule) else {
        return Ok(());
    };
    let covers = covered(report.definition.period, at, &site.zone);
    let content = written(answers, site, report, covers).await?;
    let Some(by) = Author::named(SCHEDULE) else { return Ok(()) };
    let one = answers.one().await?;
    let next = schedule.next(at, &site.zone);
    if !one.db.set_next_issue(report, next).await? {
        // Somebody changed or ended it while this was written.
        return Ok(());
    }
    let (id, number) = put(&one, SCHEDULE, report, covers, &content).await?;
    let now = one.db.now().await?;
    let mut not_told = Vec::new();
    for to in readers(&one, site, report).await? {
        if to.kind == Way::Mail && !may_have(&one, site, &to.address).await? {
            not_told.push(to.name.clone());
            continue;
        }
        let notice = NewNotice {
            site_id: site.id,
            incident_id: None,
            issue_id: Some(id),
            destination: (to.id, &to.name),
            tells: Tells::Report,
            severity: Severity::Warning,
            says: &content.document.says,
            at: now,
            due_at: now,
            unless_acknowledged: false,
        };
        one.db.add_notice(&notice).await?;
    }
    let of = period_name(report.definition.period, covers, &site.zone);
    let mut which = format!("{}, {of}, issue {number}", report.name);
    if !not_told.is_empty() {
        which += &format!("; not sent to {}, who may not see this site", not_told.join(", "));
    }
    noted(one, &by, "issued the report", which).await
}

/// Whom a report is sent to: mail, chat and webhooks of the steps of its call list that come at once. Their hours and severities
/// are about being woken, and a report wakes nobody.
async fn readers(answers: &Answers, site: &Site, report: &Report) -> Result<Vec<Destination>> {
    let lists = answers.db.call_lists(site.id).await?;
    let list = lists.into_iter().find(|l| Some(l.id) == report.list_id);
    let steps = list.into_iter().flat_map(|l| l.steps).filter(|s| s.after_min == 0);
    let wanted: Vec<i32> = steps.flat_map(|s| s.destinations).collect();
    let mut all = answers.db.destinations(site.id).await?;
    let reads = |d: &Destination| matches!(d.kind, Way::Mail | Way::Chat | Way::Webhook);
    all.retain(|d| wanted.contains(&d.id) && reads(d));
    Ok(all)
}

/// Whether an address may have what is said of a site: those of people who may not look at it may not.
async fn may_have(answers: &Answers, site: &Site, address: &str) -> Result<bool> {
    let people = answers.db.people().await?;
    let known = people.iter().find(|p| p.email.eq_ignore_ascii_case(address));
    let is_member = |p: &Person| p.is_administrator || p.roles.iter().any(|(id, _)| *id == site.id);
    Ok(known.is_none_or(|p| p.gone_at.is_none() && is_member(p)))
}
