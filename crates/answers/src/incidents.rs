//! Incidents: what went wrong, whose doing it is, whom it touched, and what was done about it.

use crate::alerts::evaluated;
use crate::measures;
use crate::played::likely_causes;
use crate::usual::From;
use crate::{Answers, Result, dependencies};
use cadentis_core::alert::incident::{About, AtOpening, Doing, Evidence, Place};
use cadentis_core::alert::{Definition, Evaluation, Severity};
use cadentis_core::calendar::{LeftOut, Stretch};
use cadentis_core::dependency::State;
use cadentis_core::measure::{Measure, Measured, Scope};
use cadentis_core::run::Outcome;
use cadentis_core::run::cause::{Cause, Who};
use cadentis_core::stats::Reading;
use cadentis_core::stats::compare::{Shift, reading_shift};
use cadentis_core::text::found;
use cadentis_store::incident::{Event, Incident, OpenAlert};
use cadentis_store::marker::Marker;
use cadentis_store::run::Run;
use cadentis_store::site::Site;
use jiff::{SignedDuration, Timestamp};
use std::collections::{BTreeMap, BTreeSet, HashMap};
use uuid::Uuid;

/// What one alert of an incident measured around it.
pub struct AroundAlert {
    /// The alert, with what it said then.
    pub open: OpenAlert,
    /// Its measure over the time around, by the window that it is judged by; empty when what it names is gone.
    pub course: Vec<Evaluation>,
    /// Seconds between two of those.
    pub every_s: i64,
    /// What the evaluation that opened it comes to by what has come since.
    pub now: Option<Evaluation>,
}

/// Whom an incident touched.
pub struct Touched {
    /// Page views while it lasted.
    pub page_views: Reading,
    /// Visits.
    pub visits: Reading,
    /// The share that was left before it had loaded.
    pub abandoned: Reading,
    /// The largest paint at the 75th percentile while it lasted, and as long before.
    pub lcp: [Reading; 2],
    /// How far that moved.
    pub shift: Option<Shift>,
}

/// What an incident took of a goal's error budget.
pub struct Spent {
    /// The goal's name.
    pub goal: String,
    /// The share of its error budget that was left when it began, and when it ended.
    pub left: [Option<f64>; 2],
}

/// A run in trouble and why, as far as can be told.
pub struct Explained {
    /// The run.
    pub run: Run,
    /// From where.
    pub location: String,
    /// Why.
    pub cause: Option<Cause>,
}

/// What there is to say of an incident.
pub struct Found {
    /// The incident.
    pub incident: Incident,
    /// The time it lasted, until now while it does.
    pub lasted: Stretch,
    /// The time around it that is shown.
    pub around: Stretch,
    /// Each time that one of its alerts was open.
    pub alerts: Vec<AroundAlert>,
    /// What happened to it.
    pub events: Vec<Event>,
    /// What tells whose doing it is, and whose that makes it.
    pub evidence: Evidence,
    /// Whose doing it is.
    pub doing: Doing,
    /// Runs in trouble, the oldest first.
    pub runs: Vec<Explained>,
    /// Whom it touched.
    pub touched: Touched,
    /// What it took of error budgets.
    pub spent: Vec<Spent>,
    /// What was pinned near it.
    pub markers: Vec<Marker>,
    /// Dependencies that were said to be in trouble: name, the worst they were, since when.
    pub dependencies: Vec<(String, State, Timestamp)>,
    /// Maintenance near it.
    pub left_out: Vec<LeftOut>,
}

/// So much before and after it is shown.
const AROUND: SignedDuration = SignedDuration::from_mins(60);
/// Longer than this nothing is compared.
const LONGEST: SignedDuration = SignedDuration::from_hours(24);
/// So many runs are asked for their cause.
const MOST_RUNS: usize = 12;
/// Points of a course.
const POINTS: i64 = 160;

/// An incident of a site.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn one(answers: &Answers, site: &Site, id: i32, now: Timestamp) -> Result<Option<Found>> {
    let Some(incident) = answers.db.incident(site.id, id).await? else { return Ok(None) };
    let parts = answers.db.alerts_of(&[id]).await?;
    // What opened it lies in the window that ended when it began to be so.
    let longest = parts.iter().map(|p| p.definition.window_s).max().unwrap_or(300);
    let from = incident.since - SignedDuration::from_secs(longest.min(3_600));
    let lasted = Stretch { from, to: incident.cleared_at.unwrap_or(now).max(incident.opened_at) };
    let around = Stretch { from: lasted.from - AROUND, to: (lasted.to + AROUND).min(now) };
    let compared = Stretch { from: lasted.from, to: lasted.to.min(lasted.from + LONGEST) };
    let before = {
        let length = compared.to.duration_since(compared.from).max(SignedDuration::from_hours(1));
        Stretch { from: compared.from - length, to: compared.from }
    };
    let (events, markers, left_out, said, touched, spent) = futures::try_join!(
        async { Ok(answers.db.events_of(id).await?) },
        async { Ok(answers.db.markers(site.id, around).await?) },
        async { Ok(answers.db.maintenance(site.id, around).await?) },
        dependencies::ask(answers, site, lasted, now),
        touched(answers, site, &incident.about, compared, before),
        spent(answers, site, lasted),
    )?;
    let mut alerts = Vec::new();
    for open in parts {
        alerts.push(measured(answers, site, open, around).await?);
    }
    let (runs, places) = runs(answers, site, &incident.about, compared, before).await?;
    let surely_worse = |s: &Shift| s.is_rise() && s.is_notable();
    let mut by_who: Vec<(Who, u64)> = Vec::new();
    for who in runs.iter().filter_map(|r| r.cause.as_ref()).map(|c| c.who) {
        match by_who.iter_mut().find(|(held, _)| *held == who) {
            Some((_, n)) => *n += 1,
            None => by_who.push((who, 1)),
        }
    }
    let visitors = touched.shift.filter(Shift::is_sure).map(|s| surely_worse(&s));
    let evidence = Evidence { places, causes: by_who, visitors };
    let dependencies =
        said.into_iter().filter(dependencies::Told::was_in_trouble).filter_map(|t| {
            let troubled: Vec<_> = t.course.iter().filter(|(_, s)| s.is_trouble()).collect();
            let worst = troubled.iter().map(|(_, s)| *s).max()?;
            Some((t.dependency.name.clone(), worst, troubled.first()?.0.from))
        });
    Ok(Some(Found {
        doing: evidence.doing(),
        dependencies: dependencies.collect(),
        lasted,
        around,
        alerts,
        events,
        evidence,
        runs,
        touched,
        spent,
        markers,
        left_out,
        incident,
    }))
}

impl Found {
    /// What it looks like at a moment, to be kept.
    fn looks(&self, at: Timestamp) -> AtOpening {
        let (troubled, told) = self.evidence.troubled();
        let left = self.spent.iter().filter_map(|s| Some((s.goal.clone(), s.left[1]?)));
        AtOpening {
            at,
            doing: self.doing.clone(),
            places: (troubled.len() as u64, told as u64),
            page_views: self.touched.page_views.value.map(|n| n as u64),
            left: left.collect(),
        }
    }
}

/// What was noticed so long ago is not what it was then.
const FRESH: SignedDuration = SignedDuration::from_mins(10);
/// So many are looked at in one turn of the watch.
const MOST_KEPT: i64 = 8;

/// Keeps what incidents look like that were just noticed: whose doing, whom they touched, what they took. One that cannot be
/// looked at is tried again in the next turn, and holds nothing up.
pub(crate) async fn keep_openings(
    answers: &Answers,
    sites: &HashMap<i32, Site>,
    now: Timestamp,
) -> Result<()> {
    for (site_id, id) in answers.db.incidents_to_keep(now - FRESH, MOST_KEPT).await? {
        let Some(site) = sites.get(&site_id) else { continue };
        match one(answers, site, id, now).await {
            Ok(Some(found)) => answers.db.keep_opening(id, &found.looks(now)).await?,
            Ok(None) => {}
            Err(e) => tracing::warn!("what incident {id} looks like is not kept: {e}"),
        }
    }
    Ok(())
}

/// An incident as it is kept.
///
/// # Errors
/// When the database does not answer.
pub async fn kept(answers: &Answers, site: &Site, id: i32) -> Result<Option<Incident>> {
    Ok(answers.db.incident(site.id, id).await?)
}

async fn measured(
    answers: &Answers,
    site: &Site,
    open: OpenAlert,
    around: Stretch,
) -> Result<AroundAlert> {
    let definition = &open.definition;
    let minutes = (around.seconds() / POINTS / 60).max(1);
    let every_s = definition.every_s.max(minutes * 60);
    let Ok(about) = measures::about(answers, site, &definition.measured).await? else {
        return Ok(AroundAlert { open, course: Vec::new(), every_s, now: None });
    };
    let drawn = Definition { every_s, ..definition.clone() }.moments(around.from, around.to);
    let course = evaluated(answers, site, (definition, &about), drawn, From::Anew).await?;
    let opened = vec![open.opened_at];
    let then = evaluated(answers, site, (definition, &about), opened, From::Anew).await?;
    let now = then.first().copied();
    Ok(AroundAlert { open, course, every_s, now })
}

/// Page views of what the incident is about.
fn scope(about: &About) -> Scope {
    let family = cadentis_core::measure::Key::Attribute(cadentis_core::visitor::Attribute::Family);
    match about {
        About::Family(name) => Scope::default().and(family, name),
        _ => Scope::default(),
    }
}

async fn touched(
    answers: &Answers,
    site: &Site,
    about: &About,
    during: Stretch,
    before: Stretch,
) -> Result<Touched> {
    let read = async |text: &str, stretch: Stretch| -> Result<Reading> {
        let Ok(Measured { measure, .. }) = text.parse() else { return Ok(Reading::NONE) };
        let measured = Measured { measure, scope: scope(about) };
        let Ok(about) = measures::about(answers, site, &measured).await? else {
            return Ok(Reading::NONE);
        };
        Ok(measures::reading(answers, site, &about, stretch).await?.reading)
    };
    let lcp = [read("p75 of LCP", before).await?, read("p75 of LCP", during).await?];
    Ok(Touched {
        page_views: read("count of page views", during).await?,
        visits: read("count of visits", during).await?,
        abandoned: read("share abandoned", during).await?,
        shift: reading_shift(&lcp[0], &lcp[1], 0.75),
        lcp,
    })
}

async fn spent(answers: &Answers, site: &Site, lasted: Stretch) -> Result<Vec<Spent>> {
    let mut all = Vec::new();
    for goal in answers.db.goals(site.id).await? {
        let scope = Scope::default().and(cadentis_core::measure::Key::Goal, &goal.name);
        let measured = Measured { measure: Measure::BudgetLeft, scope };
        let Ok(about) = measures::about(answers, site, &measured).await? else { continue };
        let moments = vec![lasted.from, lasted.to];
        let told = measures::windowed(answers, site, &about, 60, moments).await?;
        let left = [told.first().and_then(|m| m.value), told.last().and_then(|m| m.value)];
        // In a new window nothing is spent yet.
        let took = left[0].zip(left[1]).is_some_and(|(a, b)| a - b > 1e-6);
        if took {
            all.push(Spent { goal: goal.name, left });
        }
    }
    Ok(all)
}

/// Runs in trouble with their causes, and how each location did.
async fn runs(
    answers: &Answers,
    site: &Site,
    about: &About,
    during: Stretch,
    before: Stretch,
) -> Result<(Vec<Explained>, Vec<Place>)> {
    let (mut journeys, locations) =
        futures::try_join!(answers.db.journeys(site.id), answers.db.locations())?;
    if let About::Journey(name) = about {
        journeys.retain(|j| j.slug == *name || j.name == *name);
    }
    let ids: Vec<i32> = journeys.iter().map(|j| j.id).collect();
    let whole = Stretch { from: before.from, to: during.to };
    let counted = answers.db.counted_runs_of(&ids, site.id, whole).await?;
    let mut all: Vec<&Run> = counted.values().flat_map(|c| c.iter()).collect();
    all.sort_by_key(|r| r.due_at);
    let named: HashMap<i32, &str> = locations.iter().map(|l| (l.id, l.name.as_str())).collect();
    let mut places: BTreeMap<i32, Place> = BTreeMap::new();
    let is_bad = |r: &Run| matches!(r.outcome, Outcome::Failed | Outcome::Slow);
    for run in all.iter().filter(|r| r.outcome != Outcome::Unmeasured) {
        let name = named.get(&run.location_id).copied().unwrap_or_default();
        let new = || Place { name: name.into(), before: (0, 0), during: (0, 0) };
        let place = places.entry(run.location_id).or_insert_with(new);
        let counts =
            if during.contains(run.due_at) { &mut place.during } else { &mut place.before };
        counts.0 += 1;
        counts.1 += u64::from(is_bad(run));
    }
    let bad: Vec<&Run> =
        all.iter().filter(|r| is_bad(r) && during.contains(r.due_at)).copied().collect();
    // Evenly over the time it lasted, so that one place that plays often does not speak for all.
    let step = bad.len().div_ceil(MOST_RUNS).max(1);
    let asked: Vec<&Run> = bad.iter().step_by(step).copied().collect();
    let mut causes: HashMap<Uuid, Cause> = likely_causes(answers, site, &asked).await?;
    let explained = asked.into_iter().map(|run| Explained {
        location: named.get(&run.location_id).copied().unwrap_or_default().into(),
        cause: causes.remove(&run.id),
        run: run.clone(),
    });
    Ok((explained.collect(), places.into_values().collect()))
}

/// Incidents of a site that were open at some time of a stretch, newest first, with their alerts.
///
/// # Errors
/// When the database does not answer.
pub async fn of_stretch(answers: &Answers, site: &Site, stretch: Stretch) -> Result<Vec<Incident>> {
    Ok(answers.db.incidents(site.id, stretch).await?)
}

/// As [`of_stretch`] has them, page by page: so many at most, after the one that opened at that moment with that id.
///
/// # Errors
/// When the database does not answer.
pub async fn after(
    answers: &Answers,
    site: &Site,
    (stretch, after, most): (Stretch, Option<(Timestamp, i32)>, usize),
) -> Result<Vec<Incident>> {
    Ok(answers.db.incidents_after(site.id, stretch, after, most as i64).await?)
}

/// How far an incident has come.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Stage {
    /// An alert of it is open.
    GoesOn,
    /// All have cleared, and nobody has closed it.
    Cleared,
    /// Somebody said that nothing more is to do.
    Closed,
}

impl Stage {
    /// All of them, in the order in which an incident comes through them.
    pub const ALL: [Stage; 3] = [Stage::GoesOn, Stage::Cleared, Stage::Closed];

    /// The word that stands for it in addresses.
    pub fn word(self) -> &'static str {
        match self {
            Stage::GoesOn => "going-on",
            Stage::Cleared => "cleared",
            Stage::Closed => "closed",
        }
    }

    /// What that word stands for.
    pub fn of_word(word: &str) -> Option<Stage> {
        Stage::ALL.into_iter().find(|stage| stage.word() == word)
    }

    fn of(incident: &Incident) -> Stage {
        match (&incident.closed, incident.now) {
            (Some(_), _) => Stage::Closed,
            (None, Some(_)) => Stage::GoesOn,
            (None, None) => Stage::Cleared,
        }
    }
}

/// What a list of incidents is narrowed to.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Wanted {
    /// The worst that it came to.
    pub severity: Option<Severity>,
    /// How far it has come.
    pub stage: Option<Stage>,
    /// Whether somebody acknowledged it.
    pub is_acknowledged: Option<bool>,
    /// What its alerts have in common, as it is told.
    pub about: Option<String>,
    /// Words that all stand in its title, in any order.
    pub text: String,
}

impl Wanted {
    /// Whether an incident is wanted.
    pub fn takes(&self, incident: &Incident) -> bool {
        self.severity.is_none_or(|s| incident.severity == s)
            && self.stage.is_none_or(|stage| Stage::of(incident) == stage)
            && self.is_acknowledged.is_none_or(|is| incident.acknowledged.is_some() == is)
            && self.about.as_ref().is_none_or(|about| incident.about.to_string() == *about)
            && (self.text.trim().is_empty() || found(&incident.title, &self.text).is_some())
    }
}

/// What incidents have in common, each once, in order.
pub fn subjects(incidents: &[Incident]) -> Vec<String> {
    let all: BTreeSet<String> = incidents.iter().map(|i| i.about.to_string()).collect();
    all.into_iter().collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn incident(id: i32, title: &str) -> Incident {
        let at = Timestamp::UNIX_EPOCH;
        Incident {
            id,
            site_id: 1,
            about: About::Journey("book".into()),
            title: title.into(),
            severity: Severity::Critical,
            now: Some(Severity::Warning),
            since: at,
            opened_at: at,
            noticed_at: at,
            cleared_at: None,
            reopened: 0,
            acknowledged: None,
            closed: None,
            is_rehearsal: false,
            at_opening: None,
        }
    }

    #[test]
    fn a_list_is_narrowed_by_each_of_its_parts_and_by_all_of_them_together() {
        let ada = Some((Timestamp::UNIX_EPOCH, "Ada".to_string()));
        let all = [
            incident(1, "Booking fails from several places"),
            Incident { now: None, acknowledged: ada.clone(), ..incident(2, "Blank pages") },
            Incident {
                now: None,
                closed: ada,
                severity: Severity::Warning,
                about: About::Site,
                ..incident(3, "Fewer visitors than usual")
            },
        ];
        let ids = |wanted: Wanted| {
            all.iter().filter(|i| wanted.takes(i)).map(|i| i.id).collect::<Vec<_>>()
        };
        assert_eq!(ids(Wanted::default()), [1, 2, 3]);
        let of = |stage| Wanted { stage: Some(stage), ..Wanted::default() };
        assert_eq!(Stage::ALL.map(|stage| ids(of(stage))), [vec![1], vec![2], vec![3]]);
        assert!(Stage::ALL.iter().all(|stage| Stage::of_word(stage.word()) == Some(*stage)));
        let severity = Some(Severity::Critical);
        assert_eq!(ids(Wanted { severity, ..Wanted::default() }), [1, 2]);
        let nobody = Wanted { is_acknowledged: Some(false), ..Wanted::default() };
        assert_eq!(ids(nobody.clone()), [1, 3]);
        assert_eq!(ids(Wanted { severity, ..nobody.clone() }), [1]);
        assert_eq!(ids(Wanted { about: Some("the site".into()), ..nobody.clone() }), [3]);
        let text = |text: &str| Wanted { text: text.into(), ..Wanted::default() };
        assert_eq!(ids(text("places BOOK")), [1]);
        assert_eq!(ids(text("  ")), [1, 2, 3]);
        assert!(ids(Wanted { text: "pages".into(), ..nobody }).is_empty());
        assert_eq!(subjects(&all), ["journey book", "the site"]);
    }
}
