//! What needs a person now: everything that is the matter with a site, worst first, and what should have come and did not.

use crate::dependencies::Told;
use crate::goals::InDanger;
use crate::played::{Played, likely_causes, of_journeys};
use crate::views::Views;
use crate::{AnswerError, Answers, Range, Result, budgets as limited, dependencies, goals};
use cadentis_core::alert::LAG;
use cadentis_core::alert::incident::About;
use cadentis_core::calendar::stretch::at_second;
use cadentis_core::calendar::{LeftOut, Stretch};
use cadentis_core::finding::{self, Finding};
use cadentis_core::goal::budget::{self, Budget, Metric};
use cadentis_core::goal::{ErrorBudget, Standing};
use cadentis_core::run::{Outcome, cause::Cause};
use cadentis_core::stats::share;
use cadentis_core::timing::Vital;
use cadentis_core::visitor::{Attribute, Filter};
use cadentis_store::goal::Goal;
use cadentis_store::incident::Incident;
use cadentis_store::journey::Journey;
use cadentis_store::marker::Marker;
use cadentis_store::run::Run;
use cadentis_store::script_version::Status;
use cadentis_store::site::Site;
use jiff::{SignedDuration, Timestamp};
use std::collections::HashMap;

/// One thing that is, or was, the matter.
pub struct Matter {
    /// What it is, since when, and how bad.
    pub finding: Finding,
    /// Where to look.
    pub at: At,
    /// The incident that is about the same, by its number.
    pub incident: Option<i32>,
}

/// Where a matter is looked into.
pub enum At {
    /// A journey, its newest such run, and the likely cause of that run's trouble.
    Journey {
        /// The journey's name in addresses.
        slug: String,
        /// The newest run in this trouble.
        run: Option<Box<Run>>,
        /// Why, as far as we can tell.
        cause: Option<Cause>,
    },
    /// A vital of visitors.
    Visitors(Vital),
    /// A goal, by its id.
    Goal(i32),
    /// An incident, by its number.
    Incident(i32),
    /// A limit on a measure.
    Limit,
}

/// A location from which a run of a journey was due and did not come.
pub struct Silence {
    /// The journey's name.
    pub journey: String,
    /// The location's name.
    pub location: String,
    /// When the first run that did not come was due.
    pub since: Timestamp,
}

/// The journey that stands for the site in the line-up: its first.
pub struct First {
    /// What was played of it.
    pub played: Played,
    /// The share promised for it, if one is.
    pub promised: Option<f64>,
    /// Its error budget over time: second, and what stood then.
    pub spent: Vec<(i64, ErrorBudget)>,
}

/// What there is to say of a site now.
pub struct Now {
    /// What needs somebody, worst first.
    pub needs: Vec<Matter>,
    /// What was the matter in the stretch and is over.
    pub cleared: Vec<Matter>,
    /// What should have come and did not.
    pub silent: Vec<Silence>,
    /// The first journey.
    pub first: Option<First>,
    /// Page views by family, over time.
    pub views: Views,
    /// Page views by country, by whole hours.
    pub by_country: Views,
    /// What people wrote on the time axis.
    pub markers: Vec<Marker>,
    /// Maintenance that touches the stretch.
    pub maintenance: Vec<LeftOut>,
    /// What others say of what it stands on: what was in trouble, goes on, or is soon to come.
    pub dependencies: Vec<Told>,
    /// By how much the watch is behind what is due, when it is: silence says nothing of that time yet.
    pub watch_lag: Option<SignedDuration>,
}

/// Points of the courses beside each other.
const POINTS: i64 = 72;
/// The same of page views by country, and of the error budget.
const COUNTRY_POINTS: i64 = 24;
const BUDGET_POINTS: i64 = 48;

/// What needs a person. `whole` is the stretch with what of it lies ahead; silence is looked for when it holds `now`.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn ask(
    answers: &Answers,
    site: &Site,
    range: &Range,
    whole: Stretch,
    now: Timestamp,
) -> Result<Now> {
    let (db, past, everything) = (&answers.db, range.stretch, Filter::default());
    let (mut journeys, goals) = futures::try_join!(db.journeys(site.id), db.goals(site.id))?;
    journeys.retain(|j| j.status != Status::Archived.word());
    let goal = journeys
        .first()
        .and_then(|j| goals.iter().find(|g| g.newest().definition.journeys.contains(&j.id)));
    let of_store = async {
        Ok(futures::try_join!(
            db.markers(site.id, whole),
            db.maintenance(site.id, whole),
            db.budgets(site.id),
            db.incidents(site.id, past),
            db.watch_lag(now - LAG),
        )?)
    };
    let in_danger = async {
        match whole.contains(now) {
            true => goals::in_danger(answers, site, &goals, &journeys, now).await,
            false => Ok(Vec::new()),
        }
    };
    let said = async {
        let mut told = dependencies::ask(answers, site, past, now).await?;
        let now_is_shown = whole.contains(now);
        told.retain(|t| t.was_in_trouble() || (now_is_shown && t.is_announced(now)));
        dependencies::see(answers, site, &mut told, past, now).await?;
        Ok::<_, AnswerError>(told)
    };
    let (
        (markers, maintenance, budgets, incidents, watch_lag),
        views,
        by_country,
        spent,
        played,
        in_danger,
        dependencies,
        limits,
    ) = futures::try_join!(
        of_store,
        Views::load(answers, site.id, past, &everything, Attribute::Family, &Vital::ALL, POINTS),
        Views::rolled(
            answers,
            site.id,
            past,
            &everything,
            Attribute::Country,
            &[Vital::Lcp],
            COUNTRY_POINTS
        ),
        spent(answers, site, goal, &journeys, past),
        of_journeys(answers, site.id, journeys.clone(), past),
        in_danger,
        said,
        limited::of_measures(answers, site, past),
    )?;
    let mut matters = of_runs(answers, site, &played).await?;
    matters.extend(of_visitors(&views, &budgets));
    matters.extend(limits.iter().filter_map(|row| {
        let finding = finding::of_limit(&row.kept.limit, &row.reading, row.since)?;
        Some(Matter { finding, at: At::Limit, incident: None })
    }));
    matters.extend(in_danger.iter().filter_map(|d| of_goal(d, site)));
    let named: HashMap<i32, &str> = goals.iter().map(|g| (g.id, g.name.as_str())).collect();
    for i in &incidents {
        let own = folded(i, &mut matters, &named);
        matters.extend(own);
    }
    matters.sort_by(|a, b| b.finding.weight.total_cmp(&a.finding.weight));
    let (cleared, needs) = matters.into_iter().partition(|m| m.finding.until.is_some());
    let silent = if whole.contains(now) {
        played.iter().flat_map(|p| silent(p, &maintenance, past, now)).collect()
    } else {
        vec![]
    };
    let promised = goal.map(|g| g.at(past.to).definition.promised);
    let first = played.into_iter().next().map(|played| First { played, promised, spent });
    Ok(Now {
        needs,
        cleared,
        silent,
        first,
        views,
        by_country,
        markers,
        maintenance,
        dependencies,
        watch_lag,
    })
}

async fn spent(
    answers: &Answers,
    site: &Site,
    goal: Option<&Goal>,
    journeys: &[Journey],
    stretch: Stretch,
) -> Result<Vec<(i64, ErrorBudget)>> {
    match goal {
        Some(goal) => {
            goals::budget_over(answers, site, goal, journeys, stretch, BUDGET_POINTS).await
        }
        None => Ok(Vec::new()),
    }
}

/// What is the matter with journeys, each with its newest such run and its likely cause.
async fn of_runs(answers: &Answers, site: &Site, played: &[Played]) -> Result<Vec<Matter>> {
    let mut found = Vec::new();
    for p in played {
        for finding in finding::of_journey(&p.journey.name, &p.checks()) {
            let run = p.runs.newest(match finding.state {
                Standing::Broken => Outcome::Failed,
                Standing::Strained => Outcome::Slow,
                _ => Outcome::Unmeasured,
            });
            found.push((p, finding, run));
        }
    }
    let runs: Vec<&Run> = found.iter().filter_map(|(.., run)| *run).collect();
    let mut causes =
        if runs.is_empty() { HashMap::new() } else { likely_causes(answers, site, &runs).await? };
    let matter = |(p, finding, run): (&Played, Finding, Option<&Run>)| Matter {
        finding,
        incident: None,
        at: At::Journey {
            slug: p.journey.slug.clone(),
            cause: run.and_then(|r| causes.remove(&r.id)),
            run: run.cloned().map(Box::new),
        },
    };
    Ok(found.into_iter().map(matter).collect())
}

/// What is the matter with an incident; one that goes on about what is the matter anyway is told in that row, with whatever
/// explains it there.
fn folded(i: &Incident, matters: &mut [Matter], goals: &HashMap<i32, &str>) -> Option<Matter> {
    let own = of_incident(i);
    let is_same = |m: &&mut Matter| {
        let same = match (&m.at, &i.about) {
            (At::Journey { slug, .. }, About::Journey(about)) => slug == about,
            (At::Goal(id), About::Goal(about)) => goals.get(id).is_some_and(|name| name == about),
            _ => false,
        };
        same && m.incident.is_none() && m.finding.until.is_none() && own.finding.until.is_none()
    };
    let Some(matter) = matters.iter_mut().find(is_same) else { return Some(own) };
    matter.incident = own.incident;
    let held = &mut matter.finding;
    held.weight = held.weight.max(own.finding.weight);
    if own.finding.state == Standing::Broken {
        held.state = Standing::Broken;
    }
    let both = [&held.evidence, &own.finding.evidence];
    held.evidence =
        both.into_iter().filter(|e| !e.is_empty()).cloned().collect::<Vec<_>>().join("; ");
    None
}

/// What is the matter with an incident.
fn of_incident(i: &Incident) -> Matter {
    let happened = finding::Happened {
        number: i.id,
        title: &i.title,
        severity: i.now.unwrap_or(i.severity),
        since: i.opened_at,
        until: i.cleared_at,
        acknowledged: i.acknowledged.as_ref().map(|(_, by)| by.as_str()),
    };
    let (finding, at) = (finding::of_incident(&happened), At::Incident(i.id));
    Matter { finding, at, incident: Some(i.id) }
}

/// What is the matter with a goal that is in danger.
pub fn of_goal(d: &InDanger, site: &Site) -> Option<Matter> {
    let (period, window) = d.window;
    let goal = finding::Endangered {
        name: &d.goal.name,
        window: &period.name(window, &site.zone),
        danger: d.danger,
        measure: &d.measure,
        budget: &d.budget,
        since: d.since,
        mostly: d.mostly.as_ref().map(|(whence, share)| (whence.as_str(), *share)),
    };
    let finding = finding::of_goal(&goal, &site.zone)?;
    Some(Matter { finding, at: At::Goal(d.goal.id), incident: None })
}

/// Vitals of page families that are over their limits.
fn of_visitors(views: &Views, budgets: &[Budget]) -> Vec<Matter> {
    let all = views.all();
    let mut matters = Vec::new();
    for (family, pool) in views.values() {
        for vital in Vital::ALL {
            let Some(b) = budget::holding(budgets, Metric::Vital(vital), Some(&family)) else {
                continue;
            };
            let of_all = share(pool.page_views, all.page_views).unwrap_or(0.0);
            let buckets = views.buckets(Some(&family)).into_iter();
            let buckets: Vec<_> = buckets
                .map(|(begin, pool)| (at_second(begin), pool.measured(vital).reading(0.75)))
                .collect();
            let since = finding::over_since(&buckets, b.limit);
            let reading = pool.measured(vital).reading(0.75);
            let found = finding::of_vital(vital, &family, &reading, b.limit, of_all, since);
            matters.extend(found.map(|finding| Matter {
                finding,
                at: At::Visitors(vital),
                incident: None,
            }));
        }
    }
    matters
}

/// Locations from which a run of this journey was due and did not come.
fn silent(p: &Played, maintenance: &[LeftOut], past: Stretch, now: Timestamp) -> Vec<Silence> {
    if p.journey.status != Status::Active.word() {
        return Vec::new();
    }
    let of =
        |(l, cadence): &(cadentis_store::location::Location, cadentis_core::calendar::Cadence)| {
            let newest = p.runs.all().rev().find(|r| r.location_id == l.id).map(|r| r.due_at);
            let due = cadence.due(Stretch { from: newest.unwrap_or(past.from), to: now });
            // What maintenance held was never going to come.
            let held = LeftOut::held(maintenance, p.journey.id, l.id);
            let due = due.filter(|at| !held.contains(*at));
            let since = finding::silent_since(due, newest, now)?;
            Some(Silence { journey: p.journey.name.clone(), location: l.name.clone(), since })
        };
    p.located.iter().filter_map(of).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use cadentis_core::alert::Severity;

    fn incident(id: i32, about: About, cleared: bool) -> Incident {
        let at = at_second(600);
        Incident {
            id,
            site_id: 1,
            about,
            title: "Booking fails".into(),
            severity: Severity::Critical,
            now: (!cleared).then_some(Severity::Critical),
            since: at,
            opened_at: at,
            noticed_at: at,
            cleared_at: cleared.then_some(at_second(900)),
            reopened: 0,
            acknowledged: None,
            closed: None,
            is_rehearsal: false,
            at_opening: None,
        }
    }

    #[test]
    fn an_incident_about_what_is_the_matter_anyway_makes_no_second_row() {
        let finding = Finding {
            state: Standing::Strained,
            weight: 1.0,
            says: "“Book” is slow.".into(),
            evidence: "12 of 40 runs".into(),
            since: None,
            until: None,
        };
        let at = At::Journey { slug: "book".into(), run: None, cause: None };
        let mut matters = vec![Matter { finding, at, incident: None }];
        let goals = HashMap::new();
        let book = || About::Journey("book".into());
        assert!(
            folded(&incident(1, About::Journey("other".into()), false), &mut matters, &goals)
                .is_some()
        );
        assert!(
            folded(&incident(2, book(), true), &mut matters, &goals).is_some(),
            "what is over is told by itself"
        );
        assert!(folded(&incident(3, book(), false), &mut matters, &goals).is_none());
        let held = &matters[0];
        assert_eq!((held.incident, held.finding.state), (Some(3), Standing::Broken));
        assert!(held.finding.weight > 1.0 && held.finding.says == "“Book” is slow.");
        assert_eq!(held.finding.evidence, "12 of 40 runs; acknowledged by nobody yet");
        assert!(
            folded(&incident(4, book(), false), &mut matters, &goals).is_some(),
            "a second one is told by itself"
        );
    }
}
