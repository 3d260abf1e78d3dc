//! Alerts: what each evaluation says, what an alert would have done, and how those of a site stand.

use crate::budgets::p75_of;
use crate::measures::{self, About, NotThere};
use crate::{Answers, Result, usual, watch};
use cadentis_core::alert::judge::{Opening, openings};
use cadentis_core::alert::usual::piece;
use cadentis_core::alert::{Definition, Evaluation, LAG, NoData, Rule, Severity, Verdict};
use cadentis_core::calendar::{LeftOut, Stretch};
use cadentis_core::dependency::State;
use cadentis_core::goal::budget::{self, Metric};
use cadentis_core::goal::burn::PAIRS;
use cadentis_core::goal::limit::Limit;
use cadentis_core::measure::windowed::Moment;
use cadentis_core::measure::{
    Counted, Figure, Happening, Key, Measure, Measured, Scope, Span, Statistic, Subject, Worse,
    state_level,
};
use cadentis_core::run::Spell;
use cadentis_core::run::spell::Gathered;
use cadentis_core::timing::Vital;
use cadentis_core::visitor::happening::Fault;
use cadentis_store::alert::{Alert, KeptEvaluation};
use cadentis_store::incident::{Incident, OpenAlert};
use cadentis_store::marker::Marker;
use cadentis_store::notice::Notice;
use cadentis_store::rehearsal::Rehearsal;
use cadentis_store::run::Run;
use cadentis_store::script_version::Status;
use cadentis_store::site::Site;
use jiff::{SignedDuration, Timestamp};
use std::collections::{BTreeMap, BTreeSet};

/// What evaluations say at these moments, which are in order of time: of the trial and of the watch alike.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn evaluated(
    answers: &Answers,
    site: &Site,
    (definition, about): (&Definition, &About),
    moments: Vec<Timestamp>,
    from: usual::From,
) -> Result<Vec<Evaluation>> {
    let (Some(first), Some(last)) = (moments.first().copied(), moments.last().copied()) else {
        return Ok(Vec::new());
    };
    // What is left out before a window still touches it.
    let reach = SignedDuration::from_secs(definition.window_s.max(86_400));
    let stretch = Stretch { from: first - reach, to: last };
    let (left_out, places) = futures::try_join!(
        async { Ok(answers.db.maintenance(site.id, stretch).await?) },
        places(answers, about)
    )?;
    let out = LeftOut::everywhere(&left_out, &places);
    let judged = definition.judged(stretch, &out, &site.zone);
    // A window does not hold the moment at which it ends.
    let counts = |at: Timestamp| judged.contains(at - SignedDuration::from_secs(1));
    if definition.rule == Rule::Burns {
        let mut pairs = Vec::with_capacity(PAIRS.len());
        for pair in PAIRS {
            let measure = Measure::Burn { long_s: pair.long_s, short_s: pair.short_s };
            let measured = Measured { measure, scope: definition.measured.scope.clone() };
            let mut about = about.clone();
            about.measured = measured;
            let told = measures::windowed(answers, site, &about, pair.long_s, moments.clone());
            let over = |m: Moment| Moment { value: m.value.map(|v| v / pair.trigger), ..m };
            pairs.push(told.await?.into_iter().map(over).collect::<Vec<_>>());
        }
        let at = |nth: usize| -> Option<[Moment; 3]> {
            let each: Vec<Moment> = pairs.iter().filter_map(|p| p.get(nth).copied()).collect();
            each.try_into().ok()
        };
        let judge = |nth: usize| Some(definition.judge_burns(&at(nth)?, counts(moments[nth])));
        return Ok((0..moments.len()).filter_map(judge).collect());
    }
    let bands = match definition.rule {
        Rule::Unusual { .. } => {
            usual::bands(answers, site, (definition, about), (&moments, from)).await?
        }
        Rule::Level { .. } | Rule::Burns => BTreeMap::new(),
    };
    let told = measures::windowed(answers, site, about, definition.window_s, moments).await?;
    let judge = |m: &Moment| {
        let usual = bands.get(&piece(m.at)).copied().flatten();
        definition.judge_beside(m, usual, counts(m.at))
    };
    Ok(told.iter().map(judge).collect())
}

/// The journeys and locations whose runs a measure is read of; none where it is not of runs.
pub(crate) async fn places(answers: &Answers, about: &About) -> Result<BTreeSet<(i32, i32)>> {
    if about.measured.measure.subject() != Subject::Runs {
        return Ok(BTreeSet::new());
    }
    let located = answers.db.locations_of_all(&about.journeys).await?;
    let wanted = |id: i32| about.locations.as_ref().is_none_or(|ids| ids.contains(&id));
    let of = |(journey, at): (i32, Vec<(cadentis_store::location::Location, _)>)| {
        at.into_iter().map(|(l, _)| (journey, l.id)).filter(|(_, l)| wanted(*l)).collect::<Vec<_>>()
    };
    Ok(located.into_iter().flat_map(of).collect())
}

/// What an opening was, as far as something beside it tells.
#[derive(Debug, Clone, PartialEq)]
pub enum WasIt {
    /// Something that was pinned to the time just before or while it was open.
    Marker(String),
    /// Runs failed meanwhile, from so many locations.
    Failing {
        /// How many runs.
        runs: u64,
        /// From where.
        places: Vec<String>,
    },
    /// Part of it lies in maintenance.
    Maintenance(String),
}

/// An opening that would have been, and what it was.
#[derive(Debug, Clone)]
pub struct Tried {
    /// From when to when, and how bad.
    pub opening: Opening,
    /// What it was; empty when nothing beside it tells.
    pub was: Vec<WasIt>,
}

/// Levels from the past of a measure.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Suggested {
    /// What half of the evaluations came to at most.
    pub median: f64,
    /// What all but one in a hundred came to.
    pub warning: f64,
    /// What all but one in a thousand came to.
    pub critical: f64,
    /// How often it would have opened with these.
    pub openings: usize,
}

/// An alert tried on the past.
#[derive(Debug, Clone)]
pub struct Trial {
    /// On what.
    pub stretch: Stretch,
    /// What each evaluation would have said.
    pub evaluations: Vec<Evaluation>,
    /// When it would have been open, in order of time.
    pub openings: Vec<Tried>,
    /// Times in which runs failed and it would not have been open.
    pub missed: Vec<(Stretch, Vec<String>, u64)>,
    /// Levels from its own past; nothing where too little was judged or there are no levels.
    pub suggested: Option<Suggested>,
    /// Maintenance.
    pub left_out: Vec<LeftOut>,
    /// How many people would have had to read in a week: openings, worsenings and clearings.
    pub notices_a_week: f64,
}

/// An alert is tried on so many days.
pub const TRIED_DAYS: i64 = 30;
/// What is pinned up to so long before an opening may be what it was.
const BEFORE: SignedDuration = SignedDuration::from_mins(60);
/// So many failed runs in a row from one location are trouble.
const IN_A_ROW: u64 = 2;
/// Of fewer evaluations no level is suggested.
const ENOUGH: usize = 500;

/// What an alert would have done in a stretch; what it names may not be there.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn tried(
    answers: &Answers,
    site: &Site,
    definition: &Definition,
    stretch: Stretch,
) -> Result<std::result::Result<Trial, NotThere>> {
    let about = match measures::about(answers, site, &definition.measured).await? {
        Ok(about) => about,
        Err(not_there) => return Ok(Err(not_there)),
    };
    let moments = definition.moments(stretch.from, stretch.to);
    let (evaluations, markers, left_out, troubles) = futures::try_join!(
        evaluated(answers, site, (definition, &about), moments, usual::From::Anew),
        async { Ok(answers.db.markers(site.id, stretch).await?) },
        async { Ok(answers.db.maintenance(site.id, stretch).await?) },
        troubles(answers, site, stretch),
    )?;
    let found = openings(definition, &evaluations);
    let while_open = |o: &Opening| Stretch {
        from: o.since - SignedDuration::from_secs(definition.window_s),
        to: o.cleared.unwrap_or(stretch.to) + SignedDuration::from_secs(1),
    };
    let tell = |o: &Opening| Tried {
        opening: *o,
        was: was_it(o, &while_open(o), &markers, &left_out, &troubles),
    };
    let seen = |t: &Stretch| found.iter().any(|o| while_open(o).common(t).is_some());
    let missed = troubles.iter().filter(|(t, ..)| !seen(t)).cloned().collect();
    let weeks = (stretch.seconds() as f64 / 604_800.0).max(1e-9);
    let changes: u32 = found.iter().map(|o| o.changes).sum();
    Ok(Ok(Trial {
        stretch,
        openings: found.iter().map(tell).collect(),
        missed,
        suggested: suggested(definition, &evaluations),
        evaluations,
        left_out,
        notices_a_week: f64::from(changes) / weeks,
    }))
}

fn was_it(
    opening: &Opening,
    open: &Stretch,
    markers: &[Marker],
    left_out: &[LeftOut],
    troubles: &[(Stretch, Vec<String>, u64)],
) -> Vec<WasIt> {
    let near = Stretch { from: opening.since - BEFORE, to: open.to };
    let pinned = markers.iter().filter(|m| near.contains(m.at));
    let mut was: Vec<WasIt> = pinned.map(|m| WasIt::Marker(m.said.title.clone())).collect();
    let failing: Vec<_> = troubles.iter().filter(|(t, ..)| t.common(open).is_some()).collect();
    if !failing.is_empty() {
        let places: BTreeSet<&String> = failing.iter().flat_map(|(_, places, _)| places).collect();
        was.push(WasIt::Failing {
            runs: failing.iter().map(|(.., runs)| runs).sum(),
            places: places.into_iter().cloned().collect(),
        });
    }
    let planned = left_out.iter().find(|l| l.stretch.common(open).is_some());
    was.extend(planned.map(|l| WasIt::Maintenance(l.why.clone())));
    was
}

/// Times in which runs of a site failed in a row, with from where and how many.
async fn troubles(
    answers: &Answers,
    site: &Site,
    stretch: Stretch,
) -> Result<Vec<(Stretch, Vec<String>, u64)>> {
    let journeys = answers.db.journeys(site.id).await?;
    let ids: Vec<i32> = journeys.iter().map(|j| j.id).collect();
    let (counted, locations) = futures::try_join!(
        answers.db.counted_runs_of(&ids, site.id, stretch),
        answers.db.locations()
    )?;
    let computing = answers.computed(move || {
        let named: BTreeMap<i32, &str> =
            locations.iter().map(|l| (l.id, l.name.as_str())).collect();
        let mut spells = Vec::new();
        for runs in counted.values() {
            for (location, here) in runs.by(|r: &Run| r.location_id) {
                let checks: Vec<_> = here.checks().collect();
                let name = named.get(&location).copied().unwrap_or_default();
                spells.extend(Spell::of(&checks, IN_A_ROW).into_iter().map(|s| (s, name)));
            }
        }
        let told = |g: Gathered<'_>| {
            (g.stretch, g.places.iter().map(|p| (*p).to_string()).collect(), g.runs)
        };
        let mut all: Vec<_> = Gathered::of(spells, stretch.to).into_iter().map(told).collect();
        all.sort_by_key(|(t, ..): &(Stretch, Vec<String>, u64)| t.from);
        all
    });
    computing.await
}

/// Levels that all but one in a hundred, and one in a thousand, of the evaluations stay within. (Common practice, no published
/// source.)
fn suggested(definition: &Definition, evaluations: &[Evaluation]) -> Option<Suggested> {
    if definition.rule == Rule::Burns {
        return None;
    }
    let side = definition.side();
    let told = evaluations.iter().filter(|e| e.judged().is_some());
    let mut values: Vec<f64> = told.filter_map(|e| definition.counted(e)).collect();
    if values.len() < ENOUGH {
        return None;
    }
    values.sort_by(f64::total_cmp);
    if side == Worse::Below {
        values.reverse();
    }
    let at = |share: f64| {
        values[((values.len() as f64 * share).ceil() as usize).clamp(1, values.len()) - 1]
    };
    let (median, mut warning, mut critical) = (at(0.5), at(0.99), at(0.999));
    let is_unusual = matches!(definition.rule, Rule::Unusual { .. });
    if is_unusual {
        // Nearer than a spread is nothing unusual.
        (warning, critical) = (warning.max(1.0), critical.max(1.0));
    }
    let critical_if = side.is_beyond(critical, warning).then_some(critical);
    let rule = match is_unusual {
        true => Rule::Unusual { warning: Some(warning), critical: critical_if, clear: None },
        false => Rule::Level { warning: Some(warning), critical: critical_if, clear: None },
    };
    let with = Definition { rule, ..definition.clone() };
    let again: Vec<Evaluation> = evaluations
        .iter()
        .map(|e| {
            let moment = Moment { at: e.at, value: e.value, samples: e.samples, places: u32::MAX };
            let counts = e.verdict != Verdict::NotJudged;
            match e.verdict {
                Verdict::TooFew => *e,
                _ => with.judge_beside(&moment, e.usual, counts),
            }
        })
        .collect();
    Some(Suggested { median, warning, critical, openings: openings(&with, &again).len() })
}

/// An alert as lists have it.
pub struct Listed {
    /// The alert.
    pub alert: Alert,
    /// The incident that it is open in.
    pub incident: Option<i32>,
    /// How often it opened in thirty days, and when last.
    pub opened: (i64, Option<Timestamp>),
    /// What evaluations of the last day said.
    pub day: Vec<KeptEvaluation>,
}

/// What is watched of a site.
pub struct Alerts {
    /// Each alert: those that are open first, then by name.
    pub alerts: Vec<Listed>,
    /// Incidents that go on, newest first.
    pub open: Vec<Incident>,
    /// Incidents of the last thirty days that have cleared, newest first.
    pub over: Vec<Incident>,
    /// By how much the watch is behind what is due, when it is behind.
    pub lag: Option<SignedDuration>,
}

/// What is watched of a site, and how that stands.
///
/// # Errors
/// When the database does not answer.
pub async fn ask(answers: &Answers, site: &Site, now: Timestamp) -> Result<Alerts> {
    let db = &answers.db;
    let month = Stretch { from: now - SignedDuration::from_hours(24 * TRIED_DAYS), to: now };
    let day = Stretch { from: now - SignedDuration::from_hours(24), to: now };
    let (alerts, incidents, opened, lag, days) = futures::try_join!(
        db.alerts(site.id),
        db.incidents(site.id, month),
        db.opened_since(site.id, month.from),
        db.watch_lag(now - LAG),
        db.evaluations_of_site(site.id, day),
    )?;
    let opened: BTreeMap<i32, (i64, Timestamp)> =
        opened.into_iter().map(|(id, n, at)| (id, (n, at))).collect();
    let (open, over): (Vec<Incident>, Vec<Incident>) =
        incidents.into_iter().partition(|i| i.cleared_at.is_none());
    let ids: Vec<i32> = open.iter().map(|i| i.id).collect();
    let parts = db.alerts_of(&ids).await?;
    let mut days = days;
    let listed = |alert: Alert| Listed {
        incident: parts
            .iter()
            .find(|p| p.alert_id == Some(alert.id) && p.cleared_at.is_none())
            .map(|p| p.incident_id),
        opened: opened.get(&alert.id).map_or((0, None), |(n, at)| (*n, Some(*at))),
        day: days.remove(&alert.id).unwrap_or_default(),
        alert,
    };
    let mut alerts: Vec<Listed> = alerts.into_iter().map(listed).collect();
    alerts.sort_by_key(|l| (std::cmp::Reverse(l.alert.state.open), !l.alert.is_on));
    Ok(Alerts { alerts, open, over, lag })
}

/// All alerts of a site, by name.
///
/// # Errors
/// When the database does not answer.
pub async fn all(answers: &Answers, site: &Site) -> Result<Vec<Alert>> {
    Ok(answers.db.alerts(site.id).await?)
}

/// One alert of a site.
///
/// # Errors
/// When the database does not answer.
pub async fn one(answers: &Answers, site: &Site, id: i32) -> Result<Option<Alert>> {
    Ok(answers.db.alert(site.id, id).await?)
}

/// What the watch has done with an alert over a stretch.
pub struct Watched {
    /// What it evaluated.
    pub evaluations: Vec<KeptEvaluation>,
    /// When it was open, newest first.
    pub openings: Vec<OpenAlert>,
}

/// What the watch has done with an alert over a stretch.
///
/// # Errors
/// When the database does not answer.
pub async fn watched(answers: &Answers, alert: &Alert, stretch: Stretch) -> Result<Watched> {
    let (evaluations, openings) = futures::try_join!(
        answers.db.evaluations(alert.id, stretch),
        answers.db.openings_of(alert.id, stretch)
    )?;
    Ok(Watched { evaluations, openings })
}

/// Levels beyond the usual that hardly ever open in a quiet month: bench/README.md has how often.
const UNLIKE: Rule = Rule::Unusual { warning: Some(5.0), critical: Some(8.0), clear: None };

/// An alert that was acted out, and what came of it.
pub struct Rehearsed {
    /// How it went.
    pub rehearsal: Rehearsal,
    /// The incident that it opened.
    pub incident: Option<Incident>,
    /// Whom it told.
    pub notices: Vec<Notice>,
}

/// So many rehearsals of an alert are told.
const REHEARSALS: i64 = 5;

/// The newest rehearsals of an alert, the newest first.
///
/// # Errors
/// When the database does not answer.
pub async fn rehearsed(answers: &Answers, alert: &Alert) -> Result<Vec<Rehearsed>> {
    let db = &answers.db;
    let mut all = Vec::new();
    for rehearsal in db.rehearsals_of(alert.id, REHEARSALS).await? {
        let (mut incident, mut notices) = (None, Vec::new());
        if let Some(id) = rehearsal.incident_id {
            incident = db.incident(alert.site_id, id).await?;
            notices = db.notices_of(id).await?;
        }
        all.push(Rehearsed { rehearsal, incident, notices });
    }
    Ok(all)
}

/// Who would be told of an alert that opens now: after how many minutes, and by what name.
///
/// # Errors
/// When the database does not answer.
pub async fn would_tell(
    answers: &Answers,
    site: &Site,
    alert: &Alert,
    severity: Severity,
    now: Timestamp,
) -> Result<Vec<(i64, String)>> {
    let list = watch::list_of(alert, severity);
    let told = watch::whom(&answers.db, list, severity, now, &site.zone).await?;
    let mut told: Vec<(i64, String)> = told
        .into_iter()
        .map(|(due, to)| (due.at.duration_since(now).as_secs() / 60, to.name))
        .collect();
    told.sort();
    Ok(told)
}

/// Alerts that a site could have by what is set up of it: each with its name.
///
/// # Errors
/// When the database does not answer.
pub async fn ready_made(answers: &Answers, site: &Site) -> Result<Vec<(String, Definition)>> {
    let db = &answers.db;
    let now = db.now().await?;
    let lately = Stretch { from: now - measures::LATELY, to: now };
    let (secured, journeys, goals, budgets, measured, dependencies) = futures::try_join!(
        db.journeys_with_certificates(site.id, lately),
        db.journeys(site.id),
        db.goals(site.id),
        db.budgets(site.id),
        db.measured_budgets(site.id),
        db.dependencies(site.id)
    )?;
    let mut all = Vec::new();
    let mut add = |name: String, measure: Measure, scope: Scope, rule: Rule, window_min: i64| {
        let is_unusual = matches!(rule, Rule::Unusual { .. });
        let (every_s, running) = if is_unusual { (300, 3) } else { (60, 1) };
        let definition = Definition {
            measured: Measured { measure, scope },
            rule,
            window_s: window_min * 60,
            every_s,
            running,
            least_samples: 0,
            least_places: 0,
            no_data: NoData::Keep,
            service_hours: None,
        };
        all.push((name.chars().take(80).collect(), definition));
    };
    let critical = |v: f64| Rule::Level { warning: None, critical: Some(v), clear: None };
    let warning = |v: f64| Rule::Level { warning: Some(v), critical: None, clear: None };
    let active = journeys.iter().filter(|j| j.status == Status::Active.word());
    for j in active {
        let of = || Scope::default().and(Key::Journey, &j.slug);
        let every_min = (i64::from(j.every_s) / 60).max(1);
        // A window that holds two rounds sees each location's newest run.
        let name = format!("{} fails from two places", j.name);
        add(name, Measure::FailingLocations, of(), critical(1.0), every_min * 2);
        let silent = (every_min * 3 * 60_000) as f64;
        let name = format!("{} is not played", j.name);
        add(name, Measure::RunSilence, of(), warning(silent), every_min * 3);
        if secured.contains(&j.id) {
            let name = format!("A certificate of {} ends", j.name);
            let ends = Rule::Level { warning: Some(21.0), critical: Some(7.0), clear: None };
            add(name, Measure::CertificateDays, of(), ends, every_min * 2);
        }
        let Ok(script) = cadentis_core::journey::parse(&j.script) else { continue };
        for step in script.counted_steps() {
            let Some(limit) = step.within_ms else { continue };
            let p75 = Measure::RunTime(Span::Step, Statistic::Percentile(0.75));
            let name = format!("“{}” over its budget", step.name);
            add(name, p75, of().and(Key::Step, &step.name), warning(limit as f64), 30);
        }
    }
    for goal in &goals {
        let burn = Measure::Burn { long_s: PAIRS[0].long_s, short_s: PAIRS[0].short_s };
        let scope = Scope::default().and(Key::Goal, &goal.name);
        add(format!("Error budget burns: {}", goal.name), burn, scope, Rule::Burns, 1);
    }
    for b in budgets.iter() {
        let Metric::Vital(vital) = b.metric else { continue };
        let family = match &b.scope {
            budget::Scope::Family(family) => Some(family.as_str()),
            _ => None,
        };
        let Measured { measure, scope } = p75_of(vital, family);
        let name = format!("{} of {} over its budget", vital.name(), family.unwrap_or("all pages"));
        add(name, measure, scope, warning(b.limit), 60);
    }
    for Limit { measured, level } in measured.into_iter().map(|kept| kept.limit) {
        let name = format!("Over its budget: {measured}");
        add(name, measured.measure, measured.scope, warning(level), 60);
    }
    let hour = 3_600_000.0;
    add("Visitors stop arriving".into(), Measure::ViewSilence, Scope::default(), warning(hour), 60);
    let new = "First sight of an error".to_string();
    add(new, Measure::NewErrorKinds, Scope::default(), warning(0.0), 15);
    let failed = Measure::HappenedFailed(Happening::Request);
    let gateway = Scope::default().and(Key::Fault, Fault::Gateway.words());
    add("Requests fail at the gateway".into(), failed, gateway, critical(0.05), 15);
    let lcp = Measure::ViewFigure(Figure::Vital(Vital::Lcp), Statistic::Percentile(0.75));
    let views = Measure::Views(Counted::PageViews);
    for (name, measure) in [("LCP unlike its usual", lcp), ("Page views unlike their usual", views)]
    {
        add(name.into(), measure, Scope::default(), UNLIKE, 60);
    }
    for d in &dependencies {
        let scope = Scope::default().and(Key::Dependency, &d.slug);
        let unknown = state_level(State::Unknown);
        add(
            format!("{} says that it is in trouble", d.name),
            Measure::DependencyState,
            scope,
            warning(unknown),
            1,
        );
    }
    Ok(all)
}
