//! Budgets: every page family and every step of journeys against its limits, and every other measure that has one.

mod measured;

pub use measured::MeasuredRow;

use crate::played::{Played, of_journeys};
use crate::pooled::{apdex, p75};
use crate::steps::step_samples;
use crate::views::Views;
use crate::{Answers, Range, Result};
use cadentis_core::calendar::Stretch;
use cadentis_core::calendar::stretch::at_second;
use cadentis_core::finding::over_since;
use cadentis_core::goal::Standing;
use cadentis_core::goal::budget::{self, Budget, Judged, Metric, Scope};
use cadentis_core::measure::{self, Figure, Key, Measure, Measured, Statistic};
use cadentis_core::stats::{Reading, Samples};
use cadentis_core::timing::{Apdex, Vital};
use cadentis_core::visitor::{Attribute, Filter, Pool};
use cadentis_store::alert::Alert;
use cadentis_store::script_version::Status;
use cadentis_store::site::Site;
use jiff::Timestamp;

/// Points of the course that tells since when a limit is broken.
const POINTS: i64 = 72;

/// A vital of a page family, or of all pages, against its limit.
pub struct Cell {
    /// Its 75th percentile.
    pub reading: Reading,
    /// The limit of its own.
    pub own: Option<f64>,
    /// The limit that holds: its own, or the site's.
    pub holds: Option<f64>,
    /// How it stands against that.
    pub judged: Option<Judged>,
    /// Since when it is over; `None` when it is not, or from the beginning of the stretch on.
    pub since: Option<Timestamp>,
    /// Alerts that are on and watch the same: who is told when it breaks.
    pub watched: Vec<(i32, String)>,
}

/// A page family with its vitals, in the order of [`Vital::ALL`]; all pages without a name.
pub struct FamilyRow {
    /// The page family.
    pub family: Option<String>,
    /// Page views in the stretch.
    pub page_views: u64,
    /// Its vitals.
    pub cells: [Cell; 5],
    /// Its Apdex by LCP, by the T that holds.
    pub apdex: Apdex,
    /// The T of its own, in seconds.
    pub own_t_s: Option<f64>,
}

/// A step of a journey, or the whole run, against the limit in its script.
pub struct StepRow {
    /// The journey's name and where it is found.
    pub journey: (String, String),
    /// The step; `None` for the whole run.
    pub step: Option<String>,
    /// Its 75th percentile, in milliseconds.
    pub reading: Reading,
    /// What the script allows.
    pub limit_ms: Option<f64>,
    /// How it stands against that.
    pub state: Standing,
}

/// All limits of a site.
pub struct Budgets {
    /// All pages first, then families, the most viewed first.
    pub families: Vec<FamilyRow>,
    /// Steps of the journeys that play.
    pub steps: Vec<StepRow>,
    /// Limits on any measure.
    pub measured: Vec<MeasuredRow>,
}

/// Every page family and every step against its limits.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn ask(answers: &Answers, site: &Site, range: &Range) -> Result<Budgets> {
    let db = &answers.db;
    let (limits, mut journeys, alerts) =
        futures::try_join!(db.budgets(site.id), db.journeys(site.id), db.alerts(site.id))?;
    journeys.retain(|j| j.status == Status::Active.word());
    let (past, everything) = (range.stretch, Filter::default());
    let (views, played, measured) = futures::try_join!(
        Views::load(answers, site.id, past, &everything, Attribute::Family, &Vital::ALL, POINTS),
        of_journeys(answers, site.id, journeys, past),
        measured::rows(answers, site, past, &alerts),
    )?;
    let site = site.clone();
    let computing = answers.computed(move || {
        let mut known = views.values();
        known.sort_by_key(|(name, pool)| (std::cmp::Reverse(pool.page_views), name.clone()));
        // What has a limit is told even when nobody came.
        for limit in &limits {
            if let Scope::Family(name) = &limit.scope
                && !known.iter().any(|(family, _)| family == name)
            {
                known.push((name.clone(), Pool::default()));
            }
        }
        for family in site.family_t.keys() {
            if !known.iter().any(|(known, _)| known == family) {
                known.push((family.clone(), Pool::default()));
            }
        }
        let kept = (&site, &*limits, &*alerts);
        let row = |name: Option<&str>, pool: &Pool| row(&views, kept, name, pool);
        let mut families = vec![row(None, &views.all())];
        families.extend(known.iter().map(|(name, pool)| row(Some(name), pool)));
        Budgets { families, steps: played.iter().flat_map(steps).collect(), measured }
    });
    computing.await
}

/// Limits on measures, and how each stands over a stretch, without those that an open alert tells of already.
///
/// # Errors
/// When the database does not answer or too much waits.
pub(crate) async fn of_measures(
    answers: &Answers,
    site: &Site,
    stretch: Stretch,
) -> Result<Vec<MeasuredRow>> {
    let mut open = answers.db.alerts(site.id).await?;
    open.retain(|alert| alert.state.open.is_some());
    let mut rows = measured::rows(answers, site, stretch, &open).await?;
    rows.retain(|row| row.watched.is_empty());
    Ok(rows)
}

/// The 75th percentile of a vital, of a page family or of all pages, as any measure is said.
pub(crate) fn p75_of(vital: Vital, family: Option<&str>) -> Measured {
    let measure = Measure::ViewFigure(Figure::Vital(vital), Statistic::Percentile(0.75));
    let scope = match family {
        Some(family) => measure::Scope::default().and(Key::Attribute(Attribute::Family), family),
        None => measure::Scope::default(),
    };
    Measured { measure, scope }
}

/// Alerts that are on and watch this.
fn watching(alerts: &[Alert], measured: &Measured) -> Vec<(i32, String)> {
    let same = |a: &&Alert| a.is_on && a.says.definition.measured == *measured;
    alerts.iter().filter(same).map(|a| (a.id, a.says.name.clone())).collect()
}

fn row(
    views: &Views,
    (site, limits, alerts): (&Site, &[Budget], &[Alert]),
    family: Option<&str>,
    pool: &Pool,
) -> FamilyRow {
    let cell = |vital: Vital| {
        let reading = p75(pool, vital);
        let metric = Metric::Vital(vital);
        let scope = family.map_or(Scope::Site, |f| Scope::Family(f.to_string()));
        let own = limits.iter().find(|b| b.metric == metric && b.scope == scope);
        let holds = budget::holding(limits, metric, family);
        let judged = holds.map(|b| b.judge(&reading));
        let is_over = judged.is_some_and(|j| j.state == Standing::Strained);
        let since = holds.filter(|_| is_over).and_then(|b| {
            let buckets = views.buckets(family).into_iter();
            let course: Vec<_> =
                buckets.map(|(at, pool)| (at_second(at), p75(&pool, vital))).collect();
            over_since(&course, b.limit)
        });
        let watched = watching(alerts, &p75_of(vital, family));
        let (own, holds) = (own.map(|b| b.limit), holds.map(|b| b.limit));
        Cell { reading, own, holds, judged, since, watched }
    };
    FamilyRow {
        family: family.map(str::to_string),
        page_views: pool.page_views,
        cells: Vital::ALL.map(cell),
        apdex: apdex(pool, family.map_or(site.apdex_t_s, |f| site.t_of(f))),
        own_t_s: family.and_then(|f| site.family_t.get(f).copied()),
    }
}

fn steps(played: &Played) -> Vec<StepRow> {
    let Some(script) = played.script() else { return Vec::new() };
    let journey = (played.journey.name.clone(), played.journey.slug.clone());
    let row = |step: Option<String>, samples: Samples, limit_ms: Option<u64>| {
        let reading = samples.reading(0.75);
        let limit_ms = limit_ms.map(|ms| ms as f64);
        let state = limit_ms.map_or(Standing::NoData, |limit| Standing::of(&reading, limit));
        StepRow { journey: journey.clone(), step, reading, limit_ms, state }
    };
    let whole = Samples::new(played.runs.through().map(|r| r.duration_ms));
    let mut rows = vec![row(None, whole, script.within_ms)];
    for (nth, step) in script.counted_steps().enumerate() {
        rows.push(row(
            Some(step.name.clone()),
            step_samples(played.runs.iter(), nth),
            step.within_ms,
        ));
    }
    rows
}
