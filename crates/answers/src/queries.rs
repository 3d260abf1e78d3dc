//! Queries: what several measures of the same samples come to, told apart by what is known of them.

use crate::measures::{self, NotThere};
use crate::samples;
use crate::{Answers, Result};
use cadentis_core::calendar::{Cover, Stretch};
use cadentis_core::measure::runs::Played;
use cadentis_core::measure::{Key, Measure, Scope, Subject};
use cadentis_core::query::apart::{self, Apart, Counts};
use cadentis_core::query::groups::{self, Groups, Reach};
use cadentis_core::query::{By, Query, Table, Value, table};
use cadentis_core::visitor::slices::is_read_exactly;
use cadentis_core::visitor::{Attribute, Sheet};
use cadentis_store::saved_query::SavedQuery;
use cadentis_store::sheet::Filed;
use cadentis_store::site::Site;
use futures::stream::{self, StreamExt, TryStreamExt};
use std::collections::HashMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

/// What a query came to.
pub struct Answered {
    /// Over the stretch.
    pub table: Table,
    /// Over what it is compared with, where it is and no time tells samples apart.
    pub before: Option<Table>,
    /// The first measure over time, of the first rows; nothing where the table is told apart by time itself.
    pub course: Option<Table>,
    /// Seconds of a piece of time.
    pub bucket_s: i64,
}

/// So many rows have a line over time.
pub const MOST_LINES: usize = 5;

/// The first measure of the first rows of a table, told apart by time.
fn course_of(query: &Query, table: &Table) -> Option<Query> {
    if query.by.contains(&By::Time) {
        return None;
    }
    let first = query.by.first();
    let mut course = Query {
        measures: query.measures.iter().take(1).cloned().collect(),
        by: first.into_iter().cloned().chain([By::Time]).collect(),
        scope: query.scope.clone(),
        conditions: Vec::new(),
        top: None,
    };
    if let Some(By::Key(key)) = first {
        let kept = query.scope.parts().filter(|(other, _)| *other != key);
        let and = |scope: Scope, (key, values): (&Key, &[String])| {
            values.iter().fold(scope, |scope, value| scope.and(key.clone(), value))
        };
        course.scope = kept.fold(Scope::default(), and);
        for row in table.rows.iter().take(MOST_LINES) {
            if let Value::Text(value) = &row.value {
                course.scope = course.scope.and(key.clone(), value);
            }
        }
    }
    Some(course)
}

/// Over which time a query is answered.
#[derive(Debug, Clone)]
pub struct Over {
    /// From when to when.
    pub stretch: Stretch,
    /// What it is compared with, where no time tells samples apart.
    pub against: Option<Stretch>,
    /// In these times alone, such as service hours; in all without.
    pub only: Option<Arc<Cover>>,
    /// How far it is.
    pub progress: Progress,
}

/// How many hours have been read, of how many: as an answer says it while it is computed.
#[derive(Debug, Clone, Default)]
pub struct Progress(Arc<(AtomicU64, AtomicU64)>);

impl Progress {
    /// Hours that were read, and all of them.
    pub fn hours(&self) -> (u64, u64) {
        (self.0.0.load(Ordering::Relaxed), self.0.1.load(Ordering::Relaxed))
    }

    fn expects(&self, hours: i64) {
        self.0.1.fetch_add(hours.unsigned_abs(), Ordering::Relaxed);
    }

    fn has_read(&self, hours: i64) {
        self.0.0.fetch_add(hours.unsigned_abs(), Ordering::Relaxed);
    }
}

impl Over {
    /// All of a stretch, compared with nothing.
    pub fn all_of(stretch: Stretch) -> Over {
        Over { stretch, against: None, only: None, progress: Progress::default() }
    }
}

/// What a query comes to; pieces of time are about so many. Lines over time are read where it is drawn.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn ask(
    answers: &Answers,
    site: &Site,
    query: &Query,
    over: &Over,
    (points, draws): (i64, bool),
) -> Result<std::result::Result<Answered, NotThere>> {
    let stretch = over.stretch;
    let bucket_s = stretch.bucket_seconds(points).max(60);
    let of = |stretch: Stretch| {
        let (exact, only) = (is_read_exactly(stretch), over.only.clone());
        Reach { stretch, bucket_s, exact, only }
    };
    let against = over.against.filter(|_| !query.by.contains(&By::Time));
    let about = match query.subject() {
        Subject::Runs => match measures::about(answers, site, &query.first()).await? {
            Ok(about) => {
                let certificates = query.measures.contains(&Measure::CertificateDays);
                Some(measures::About { certificates, ..about })
            }
            Err(not_there) => return Ok(Err(not_there)),
        },
        _ => None,
    };
    let draws = draws && !query.by.contains(&By::Time);
    if about.is_none() {
        // All that will be read is known before any of it is: what is still to be read only becomes less.
        let lines = if draws { hours(stretch) } else { 0 };
        over.progress.expects(hours(stretch) + lines + against.map_or(0, hours));
    }
    let one = async |query: &Query, stretch: Stretch| match &about {
        Some(about) => of_runs(answers, site, query, about, of(stretch)).await,
        None => of_sheets(answers, site, query, of(stretch), &over.progress).await,
    };
    let table = one(query, stretch).await?;
    let course = match course_of(query, &table).filter(|_| draws) {
        Some(course) => Some(one(&course, stretch).await?),
        None => None,
    };
    let before = match against {
        // Whatever it came to then, it is what the rows of now are compared with.
        Some(against) => {
            let unbound = Query { conditions: Vec::new(), top: None, ..query.clone() };
            Some(one(&unbound, against).await?)
        }
        None => None,
    };
    Ok(Ok(Answered { table, before, course, bucket_s }))
}

/// Sheets are read ten days at a time: often enough to say how far it is, seldom enough to cost nothing.
const AT_ONCE_H: i64 = 240;

/// Hours of the clock that a stretch touches.
fn hours(stretch: Stretch) -> i64 {
    let hour = |s: i64| s.div_euclid(3_600);
    hour(stretch.to.as_second() + 3_599) - hour(stretch.from.as_second())
}

/// Which sheets hold its samples.
fn filed(query: &Query) -> Filed {
    match query.subject() {
        Subject::Errors => Filed::Failures,
        Subject::Requests | Subject::Actions => Filed::Happenings,
        _ => Filed::PageViews,
    }
}

async fn of_sheets(
    answers: &Answers,
    site: &Site,
    query: &Query,
    reach: Reach,
    progress: &Progress,
) -> Result<Table> {
    let filed = filed(query);
    let columns = groups::columns(query, &reach);
    let pieces = reach.stretch.in_hours(AT_ONCE_H).into_iter().map(|piece| {
        let reading = answers.db.sheets_of(filed, site.id, piece, &columns);
        async move {
            let sheets = reading.await?;
            progress.has_read(hours(piece));
            Ok::<_, crate::AnswerError>(sheets)
        }
    });
    // What one waits for in the database another unpacks meanwhile.
    let spare = answers.db.spare();
    let together = 1 + usize::from(spare.is_some());
    let sheets: Vec<Vec<Sheet>> = stream::iter(pieces).buffered(together).try_collect().await?;
    drop(spare);
    let sheets: Vec<Sheet> = sheets.into_iter().flatten().collect();
    let query = query.clone();
    let computing = answers.computed(move || {
        let found = groups::of_sheets(&sheets, &query, &reach);
        table(&query, found, reach.stretch.to.as_second())
    });
    computing.await
}

/// What runs are told apart by, as people call it.
struct Names {
    journeys: HashMap<i32, String>,
    locations: HashMap<i32, String>,
    /// Steps of the journey, where it is one.
    steps: Vec<String>,
}

impl Names {
    async fn of(answers: &Answers, query: &Query, about: &measures::About) -> Result<Names> {
        let script = about.journeys.first().filter(|_| query.is_by_step());
        let steps: Vec<String> = match script.map(crate::journey::script_of).transpose()? {
            Some(script) => script.counted_steps().map(|s| s.name.clone()).collect(),
            None => Vec::new(),
        };
        let locations = answers.db.locations().await?;
        Ok(Names {
            journeys: about.journeys.iter().map(|j| (j.id, j.name.clone())).collect(),
            locations: locations.into_iter().map(|l| (l.id, l.name)).collect(),
            steps,
        })
    }

    fn of_run(&self, run: &Played, key: &Key) -> String {
        let name = match key {
            Key::Location => self.locations.get(&run.location),
            Key::Step => self.steps.get(run.step),
            _ => self.journeys.get(&run.journey),
        };
        name.cloned().unwrap_or_default()
    }
}

async fn of_runs(
    answers: &Answers,
    site: &Site,
    query: &Query,
    about: &measures::About,
    reach: Reach,
) -> Result<Table> {
    let runs = match query.is_by_step() {
        true => samples::played_by_step(answers, site, about, reach.stretch).await?,
        false => samples::played(answers, site, about, reach.stretch).await?,
    };
    let names = Names::of(answers, query, about).await?;
    let query = query.clone();
    let computing = answers.computed(move || {
        // Of lines over time, those of the steps that are drawn.
        let asked = |run: &&Played| {
            let wanted = query.scope.of(&Key::Step);
            !query.is_by_step()
                || wanted.is_empty()
                || names.steps.get(run.step).is_some_and(|step| wanted.contains(step))
        };
        let runs: Vec<Played> = runs.iter().filter(asked).copied().collect();
        let found: Groups =
            groups::of_runs(&runs, &query, &reach, |run, key| names.of_run(run, key));
        table(&query, found, reach.stretch.to.as_second())
    });
    computing.await
}

/// What some samples of a query have more of than the others.
pub struct Beside {
    /// How many are looked at: the bad ones where a share is asked, else all that the query is narrowed to.
    pub here: u64,
    /// How many are beside them: those that were not bad, or all others of the stretch.
    pub others: u64,
    /// Whether those that are looked at are the bad ones.
    pub is_of_bad: bool,
    /// Values that they have surely more of, the largest difference first, at most twelve.
    pub apart: Vec<Apart>,
    /// The commonest values of everything that the query does not say, at most five of each.
    pub by: Vec<(Key, Vec<Apart>)>,
}

/// So many values are told that stand out.
const MOST_APART: usize = 12;
/// So many values are told of everything else.
const MOST_BESIDE: usize = 5;

/// What those that a query is narrowed to have more of than all others of the stretch, by everything that it says nothing of;
/// of a share, what its bad ones have more of than the rest.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn beside(
    answers: &Answers,
    site: &Site,
    query: &Query,
    stretch: Stretch,
) -> Result<std::result::Result<Beside, NotThere>> {
    let (here, all) = match query.subject() {
        Subject::Runs => match bad_runs(answers, site, query, stretch).await? {
            Ok(counted) => counted,
            Err(not_there) => return Ok(Err(not_there)),
        },
        subject => {
            let own = [Key::Request, Key::Action, Key::Error, Key::Fault];
            let own = own.into_iter().filter(|key| key.fits(subject));
            let keys = query.unsaid(own.chain(Attribute::ROLLED.map(Key::Attribute)));
            let columns = apart::columns(query, stretch, &keys);
            let sheets = answers.db.sheets_of(filed(query), site.id, stretch, &columns).await?;
            let query = query.clone();
            let computing =
                answers.computed(move || apart::of_sheets(&sheets, &query, stretch, &keys));
            computing.await?
        }
    };
    let sum = |counts: &[Counts]| {
        counts.first().map_or(0, |(_, values)| values.iter().map(|(_, n)| n).sum::<u64>())
    };
    let mut by = apart::beside(&here, &all);
    let mut stands_out = apart::apart(&by);
    stands_out.truncate(MOST_APART);
    by.iter_mut().for_each(|(_, values)| values.truncate(MOST_BESIDE));
    Ok(Ok(Beside {
        here: sum(&here),
        others: sum(&all).saturating_sub(sum(&here)),
        is_of_bad: query.tells_bad().is_some(),
        apart: stands_out,
        by,
    }))
}

/// Whether [`beside`] has anything to look at: some samples beside others.
pub fn has_others(query: &Query) -> bool {
    match query.subject() {
        Subject::Goals | Subject::Dependencies => false,
        // All journeys play everywhere alike: nothing but what becomes of their runs tells them apart.
        Subject::Runs => query.tells_bad().is_some() && !query.is_by_step(),
        _ => query.tells_bad().is_some() || !query.scope.is_empty(),
    }
}

/// Runs that a share of a query tells are bad, and all that it is of, by journey and location.
async fn bad_runs(
    answers: &Answers,
    site: &Site,
    query: &Query,
    stretch: Stretch,
) -> Result<std::result::Result<(Vec<Counts>, Vec<Counts>), NotThere>> {
    let Some(share) = query.tells_bad().cloned() else { return Ok(Ok(Default::default())) };
    let about = match measures::about(answers, site, &query.first()).await? {
        Ok(about) => about,
        Err(not_there) => return Ok(Err(not_there)),
    };
    let runs = samples::played(answers, site, &about, stretch).await?;
    let names = Names::of(answers, query, &about).await?;
    let keys = query.unsaid([Key::Journey, Key::Location]);
    let computing = answers.computed(move || {
        apart::of_runs(&runs, &share, &keys, |run: &Played, key| names.of_run(run, key))
    });
    Ok(Ok(computing.await?))
}

/// The queries of a site that people keep, what was used last first.
///
/// # Errors
/// When the database does not answer.
pub async fn saved(answers: &Answers, site: &Site) -> Result<Vec<SavedQuery>> {
    Ok(answers.db.saved_queries(site.id).await?)
}

/// Takes note that somebody asked this, if it is a query that is kept.
///
/// # Errors
/// When the database does not answer.
pub async fn used(answers: &Answers, site: &Site, query: &Query, by: &str) -> Result<()> {
    Ok(answers.db.query_used(site.id, &query.to_string(), by).await?)
}
