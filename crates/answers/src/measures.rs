//! Any measure, of any time: as one reading, over time, and over a window that moves on.

use crate::goals;
use crate::samples;
use crate::views::Views;
use crate::{Answers, Result};
use cadentis_core::calendar::Stretch;
use cadentis_core::goal::judged;
use cadentis_core::measure::scope::quoted;
use cadentis_core::measure::sheets::{FIRST_SIGHT_S, Parts, first_sights};
use cadentis_core::measure::windowed::{MINUTE_S, Moment, windowed as moving};
use cadentis_core::measure::{self, Key, Measure, Measured, Part, Subject, posted};
use cadentis_core::stats::{Proof, Reading};
use cadentis_core::visitor::Filter;
use cadentis_core::visitor::happening::Fault;
use cadentis_core::visitor::slices::is_read_exactly;
use cadentis_store::dependency::Dependency;
use cadentis_store::goal::Goal;
use cadentis_store::journey::Journey;
use cadentis_store::site::Site;
use jiff::{SignedDuration, Timestamp};
use std::collections::BTreeSet;

/// A measure with what it names found on the site.
#[derive(Debug, Clone)]
pub struct About {
    /// Which number, of what.
    pub measured: Measured,
    /// The journeys whose runs it is read of.
    pub journeys: Vec<Journey>,
    /// Of those, the place of the step that is asked about.
    pub(crate) step: Option<usize>,
    /// The mark that is asked about.
    pub(crate) mark: Option<String>,
    /// Whether it is asked for how long certificates are good.
    pub(crate) certificates: bool,
    /// From these locations alone; from all without.
    pub locations: Option<BTreeSet<i32>>,
    /// The goal.
    pub goal: Option<Goal>,
    /// The dependency.
    pub dependency: Option<Dependency>,
}

/// Why a measure cannot be read of a site: it names what is not there.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{what} “{name}” is not there{near}")]
pub struct NotThere {
    /// What kind of thing it would be.
    pub what: String,
    /// What was named.
    pub name: String,
    /// What is there, said as the end of the sentence.
    pub near: String,
}

impl NotThere {
    fn new(key: &Key, name: &str, there: Vec<String>) -> NotThere {
        // What begins or ends alike first, then whatever there is.
        let lower = name.to_lowercase();
        let mut near: Vec<&String> = there.iter().collect();
        let far = |t: &&String| {
            let other = t.to_lowercase();
            let common = other.chars().zip(lower.chars()).take_while(|(a, b)| a == b).count();
            std::cmp::Reverse(common + 3 * usize::from(other.contains(&lower)))
        };
        near.sort_by_key(far);
        let near: Vec<String> = near.into_iter().take(5).map(|t| format!("“{t}”")).collect();
        let near = match near.is_empty() {
            true => "; there is none".to_string(),
            false => format!("; there is {}", near.join(", ")),
        };
        NotThere { what: key.word(), name: name.into(), near }
    }
}

/// How far back silence looks for the newest of what has fallen silent: no further than it must.
const SILENCE: [SignedDuration; 3] = [
    SignedDuration::from_hours(1),
    SignedDuration::from_hours(24),
    SignedDuration::from_hours(168),
];

/// Finds what a measure names.
///
/// # Errors
/// When the database does not answer.
pub async fn about(
    answers: &Answers,
    site: &Site,
    measured: &Measured,
) -> Result<std::result::Result<About, NotThere>> {
    let mut about = About {
        measured: measured.clone(),
        journeys: Vec::new(),
        step: None,
        mark: None,
        certificates: measured.measure == Measure::CertificateDays,
        locations: None,
        goal: None,
        dependency: None,
    };
    let found = match measured.measure.subject() {
        Subject::Runs => runs_about(answers, site, &mut about).await?,
        Subject::Goals => {
            let goals = answers.db.goals(site.id).await?;
            let name = first(measured, &Key::Goal);
            about.goal = goals.iter().find(|g| g.name == name).cloned();
            match about.goal {
                Some(_) => Ok(()),
                None => {
                    let there = goals.into_iter().map(|g| g.name).collect();
                    Err(NotThere::new(&Key::Goal, &name, there))
                }
            }
        }
        Subject::Dependencies => {
            let all = answers.db.dependencies(site.id).await?;
            let name = first(measured, &Key::Dependency);
            about.dependency = all.iter().find(|d| d.slug == name || d.name == name).cloned();
            match about.dependency {
                Some(_) => Ok(()),
                None => {
                    let there = all.into_iter().map(|d| d.slug).collect();
                    Err(NotThere::new(&Key::Dependency, &name, there))
                }
            }
        }
        // What page views say is as it comes: a family that nobody has seen yet may come tomorrow.
        Subject::PageViews | Subject::Requests | Subject::Actions | Subject::Errors => Ok(()),
    };
    Ok(found.map(|()| about))
}

fn first(measured: &Measured, key: &Key) -> String {
    measured.scope.of(key).first().cloned().unwrap_or_default()
}

async fn runs_about(
    answers: &Answers,
    site: &Site,
    about: &mut About,
) -> Result<std::result::Result<(), NotThere>> {
    let (journeys, locations) =
        futures::try_join!(answers.db.journeys(site.id), answers.db.locations())?;
    let scope = &about.measured.scope;
    let wanted = scope.of(&Key::Journey);
    for name in wanted {
        match journeys.iter().find(|j| j.slug == *name || j.name == *name) {
            Some(journey) => about.journeys.push(journey.clone()),
            None => {
                let there = journeys.into_iter().map(|j| j.slug).collect();
                return Ok(Err(NotThere::new(&Key::Journey, name, there)));
            }
        }
    }
    if wanted.is_empty() {
        about.journeys = journeys;
    }
    let wanted = scope.of(&Key::Location);
    let mut ids = BTreeSet::new();
    for name in wanted {
        match locations.iter().find(|l| l.slug == *name || l.name == *name) {
            Some(location) => ids.insert(location.id),
            None => {
                let there = locations.into_iter().map(|l| l.slug).collect();
                return Ok(Err(NotThere::new(&Key::Location, name, there)));
            }
        };
    }
    about.locations = (!wanted.is_empty()).then_some(ids);
    if let (Some(name), Some(journey)) = (scope.of(&Key::Step).first(), about.journeys.first()) {
        let script = crate::journey::script_of(journey)?;
        let steps: Vec<String> = script.counted_steps().map(|s| s.name.clone()).collect();
        about.step = steps.iter().position(|step| step == name);
        if about.step.is_none() {
            return Ok(Err(NotThere::new(&Key::Step, name, steps)));
        }
    }
    if let Some(name) = scope.of(&Key::Mark).first() {
        let there = marks_of(answers, site, &about.journeys).await?;
        if !there.contains(name) {
            return Ok(Err(NotThere::new(&Key::Mark, name, there)));
        }
        about.mark = Some(name.clone());
    }
    Ok(Ok(()))
}

/// Marks that scripts of these journeys set, and those that pages set in their runs of the last days.
async fn marks_of(answers: &Answers, site: &Site, journeys: &[Journey]) -> Result<Vec<String>> {
    let ids: Vec<i32> = journeys.iter().map(|j| j.id).collect();
    let now = answers.db.now().await?;
    let mut all =
        answers.db.marks_named(&ids, site.id, Stretch { from: now - LATELY, to: now }).await?;
    for journey in journeys {
        // A script that cannot be read sets none that anybody could name.
        let Ok(script) = cadentis_core::journey::parse(&journey.script) else { continue };
        all.extend(script.marks().map(str::to_string));
    }
    all.sort();
    all.dedup();
    Ok(all)
}

/// Marks and certificates are known as runs of so long told them.
pub(crate) const LATELY: SignedDuration = SignedDuration::from_hours(3 * 24);

/// A measure over a stretch.
#[derive(Debug, Clone)]
pub struct Read {
    /// The number with its samples and interval.
    pub reading: Reading,
    /// How it was come by.
    pub proof: Proof,
}

/// A measure over a stretch, as one number; of what is judged or posted as it stands at the end.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn reading(
    answers: &Answers,
    site: &Site,
    about: &About,
    stretch: Stretch,
) -> Result<Read> {
    let measure = about.measured.measure.clone();
    if let Some(moments) = told(answers, site, about, &[stretch.to]).await? {
        let moment = moments.first().copied();
        let value = moment.and_then(|m| m.value);
        let samples = moment.map_or(0, |m| m.samples);
        let worked = value.map_or("no data".to_string(), |v| measure.unit().text(v));
        let formula = format!("{measure}, at the end of the stretch");
        let proof = Proof::new(formula, worked, samples);
        return Ok(Read { reading: Reading { value, samples, interval: None }, proof });
    }
    let bucket_s = stretch.bucket_seconds(1).max(3_600);
    let parts = parts(answers, site, about, stretch, bucket_s, is_read_exactly(stretch)).await?;
    let computing = answers.computed(move || {
        let mut all = Part::default();
        parts.values().for_each(|part| all.absorb(part));
        let end_s = stretch.to.as_second();
        Read { reading: all.reading(&measure, end_s), proof: all.proof(&measure, end_s) }
    });
    computing.await
}

/// A point of a course: when its bucket begins, and what it comes to.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Point {
    /// In seconds since 1970.
    pub begin_s: i64,
    /// What the bucket holds.
    pub reading: Reading,
}

/// A course.
#[derive(Debug, Clone, PartialEq)]
pub struct Course {
    /// Seconds of a bucket.
    pub bucket_s: i64,
    /// Buckets in order of time; where nothing can be told there is none.
    pub points: Vec<Point>,
}

/// A measure over time, in at most about so many buckets.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn course(
    answers: &Answers,
    site: &Site,
    about: &About,
    stretch: Stretch,
    most: i64,
) -> Result<Course> {
    let measure = about.measured.measure.clone();
    let bucket_s = stretch.bucket_seconds(most).max(MINUTE_S);
    let begins = || {
        let first = stretch.from.as_second().div_euclid(bucket_s) * bucket_s;
        (0..).map(move |n| first + n * bucket_s).take_while(move |s| *s < stretch.to.as_second())
    };
    let ends: Vec<Timestamp> = begins()
        .map(|s| cadentis_core::calendar::stretch::at_second(s + bucket_s).min(stretch.to))
        .collect();
    if let Some(moments) = told(answers, site, about, &ends).await? {
        let point = |(begin_s, m): (i64, Moment)| {
            let value = Some(m.value?);
            let reading = Reading { value, samples: m.samples, interval: None };
            Some(Point { begin_s, reading })
        };
        let points = begins().zip(moments).filter_map(point).collect();
        return Ok(Course { bucket_s, points });
    }
    let exact = is_read_exactly(stretch);
    let parts = parts(answers, site, about, stretch, bucket_s, exact).await?;
    let begins: Vec<i64> = begins().collect();
    let computing = answers.computed(move || {
        let mut parts = parts;
        if measure.is_silence() {
            let moments = moving(&measure, &parts, bucket_s, ends);
            let point = |(begin_s, m): (&i64, Moment)| {
                let value = Some(m.value?);
                Some(Point {
                    begin_s: *begin_s,
                    reading: Reading { value, samples: m.samples, interval: None },
                })
            };
            return begins.iter().zip(moments).filter_map(point).collect();
        }
        let point = |begin_s: &i64| {
            let mut part = parts.remove(begin_s).unwrap_or_default();
            let reading = part.reading(&measure, begin_s + bucket_s);
            reading.value.is_some().then_some(Point { begin_s: *begin_s, reading })
        };
        begins.iter().filter_map(point).collect()
    });
    Ok(Course { bucket_s, points: computing.await? })
}

/// A measure over the last `window_s` seconds at each of these moments, which are whole minutes in order of time. What is
/// judged or posted has windows of its own.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn windowed(
    answers: &Answers,
    site: &Site,
    about: &About,
    window_s: i64,
    moments: Vec<Timestamp>,
) -> Result<Vec<Moment>> {
    let (Some(from), Some(to)) = (moments.first().copied(), moments.last().copied()) else {
        return Ok(Vec::new());
    };
    if let Some(told) = told(answers, site, about, &moments).await? {
        return Ok(told);
    }
    let measure = about.measured.measure.clone();
    let reach = Stretch { from: from - SignedDuration::from_secs(window_s), to };
    let parts = parts(answers, site, about, reach, MINUTE_S, true).await?;
    answers.computed(move || moving(&measure, &parts, window_s, moments)).await
}

/// What is judged and what is posted, at moments; `None` for what has samples of its own.
async fn told(
    answers: &Answers,
    site: &Site,
    about: &About,
    moments: &[Timestamp],
) -> Result<Option<Vec<Moment>>> {
    let (Some(first), Some(last)) = (moments.first().copied(), moments.last().copied()) else {
        return Ok(Some(Vec::new()));
    };
    if let Some(dependency) = &about.dependency {
        let stretch = Stretch { from: first, to: last + SignedDuration::from_secs(1) };
        let posts = answers.db.states(site.id, stretch).await?;
        let own = posts.into_iter().filter(|(id, _)| *id == dependency.id).map(|(_, post)| post);
        return Ok(Some(posted::of_dependency(&own.collect::<Vec<_>>(), moments)));
    }
    let Some(goal) = &about.goal else { return Ok(None) };
    let measure = about.measured.measure.clone();
    let mut all = Vec::with_capacity(moments.len());
    let mut rest = moments;
    // Each version of the goal judges the windows that begin while it is in force.
    while let Some(at) = rest.first() {
        let (version, _) = goal.judged_at(*at, &site.zone);
        let same = |at: &&Timestamp| goal.judged_at(**at, &site.zone).0.version == version.version;
        let (here, later) = rest.split_at(rest.iter().take_while(same).count().max(1));
        rest = later;
        let definition = version.definition.clone();
        let (from, to) = (here[0], here[here.len() - 1]);
        let from = judged::reach(&measure, &definition, from, &site.zone);
        let whole = definition.period.around(to, &site.zone).to.max(to);
        let journeys = answers.db.journeys(site.id).await?;
        let (out, mut loaded) = futures::try_join!(
            goals::left_out(answers, site, Some(goal.id), Stretch { from, to: whole }),
            goals::load(answers, site, &definition, &journeys, Stretch { from, to }),
        )?;
        let (measure, zone, here) = (measure.clone(), site.zone.clone(), here.to_vec());
        let computing = answers.computed(move || {
            let out = loaded.leaving_out(&out);
            let tracks = loaded.tracks();
            judged::of_goal(&measure, &definition, &loaded.held(&tracks), &here, &out, &zone)
        });
        all.extend(computing.await?);
    }
    Ok(Some(all))
}

/// What samples of a stretch come to, in buckets of so many seconds. What silence looks at reaches back beyond the stretch,
/// until something came before it.
async fn parts(
    answers: &Answers,
    site: &Site,
    about: &About,
    stretch: Stretch,
    bucket_s: i64,
    exact: bool,
) -> Result<Parts> {
    if about.measured.measure == Measure::NewErrorKinds {
        let back = SignedDuration::from_secs(FIRST_SIGHT_S);
        let reach = Stretch { from: stretch.from - back, to: stretch.to };
        // By the minute: what is new in a longer piece was new in one of its minutes.
        let fine = gathered(answers, site, about, reach, MINUTE_S, exact).await?;
        let new = first_sights(fine, stretch.from.as_second());
        let mut parts = Parts::new();
        for (at, part) in new {
            parts.entry(at.div_euclid(bucket_s) * bucket_s).or_default().absorb(&part);
        }
        return Ok(parts);
    }
    if !about.measured.measure.is_silence() {
        return gathered(answers, site, about, stretch, bucket_s, exact).await;
    }
    let begin_s = stretch.from.as_second();
    let mut parts = Parts::new();
    for back in SILENCE {
        let reach = Stretch { from: stretch.from - back, to: stretch.to };
        parts = gathered(answers, site, about, reach, MINUTE_S, exact).await?;
        if parts.range(..begin_s).any(|(_, part)| part.newest_s.is_some()) {
            break;
        }
    }
    Ok(parts)
}

async fn gathered(
    answers: &Answers,
    site: &Site,
    about: &About,
    stretch: Stretch,
    bucket_s: i64,
    exact: bool,
) -> Result<Parts> {
    if about.measured.measure.subject() == Subject::Runs {
        return runs(answers, site, about, stretch, bucket_s).await;
    }
    samples::parts(answers, site.id, &about.measured, stretch, (bucket_s, exact)).await
}

async fn runs(
    answers: &Answers,
    site: &Site,
    about: &About,
    stretch: Stretch,
    bucket_s: i64,
) -> Result<Parts> {
    let all = samples::played(answers, site, about, stretch).await?;
    let measure = about.measured.measure.clone();
    answers.computed(move || measure::runs::gather(&all, &measure, bucket_s)).await
}

/// Names of what is there that could stand where a measure is being typed, in quotation marks.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn values(answers: &Answers, site: &Site, text: &str) -> Result<Vec<String>> {
    let Some((key, begun)) = measure::value_begun(text) else { return Ok(Vec::new()) };
    let db = &answers.db;
    let names: Vec<String> = match &key {
        Key::Journey => db.journeys(site.id).await?.into_iter().map(|j| j.slug).collect(),
        Key::Step => {
            let journeys = db.journeys(site.id).await?;
            // The journey that is named before it, or all.
            let named = |j: &&Journey| text.contains(&format!("\"{}\"", j.slug));
            let chosen: Vec<&Journey> = match journeys.iter().any(|j| named(&j)) {
                true => journeys.iter().filter(named).collect(),
                false => journeys.iter().collect(),
            };
            let steps = |j: &&Journey| {
                let script = cadentis_core::journey::parse(&j.script).ok()?;
                Some(script.counted_steps().map(|s| s.name.clone()).collect::<Vec<_>>())
            };
            chosen.iter().filter_map(steps).flatten().collect()
        }
        Key::Mark => {
            let journeys = db.journeys(site.id).await?;
            marks_of(answers, site, &journeys).await?
        }
        Key::Location => db.locations().await?.into_iter().map(|l| l.slug).collect(),
        Key::Goal => db.goals(site.id).await?.into_iter().map(|g| g.name).collect(),
        Key::Dependency => db.dependencies(site.id).await?.into_iter().map(|d| d.slug).collect(),
        Key::Fault => Fault::ALL.map(|f| f.words().to_string()).to_vec(),
        Key::Attribute(attribute) => {
            let now = db.now().await?;
            let stretch = Stretch { from: now - OFFERED_FROM, to: now };
            let none = Filter::default();
            let by = attribute.clone();
            let views = Views::load(answers, site.id, stretch, &none, by, &[], 1).await?;
            views.values().into_iter().map(|(value, _)| value).collect()
        }
        Key::Request | Key::Action | Key::Error => Vec::new(),
    };
    let begun = begun.to_lowercase();
    let fits = |name: &String| !name.is_empty() && name.to_lowercase().starts_with(&begun);
    Ok(names.into_iter().filter(fits).map(|name| quoted(&name)).collect())
}

/// Values of attributes are offered as the last day had them.
const OFFERED_FROM: SignedDuration = SignedDuration::from_hours(24);

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_not_there_is_told_with_what_is_near_and_no_more_than_five() {
        let told = |name: &str, there: &[&str]| {
            let there = there.iter().map(|t| t.to_string()).collect();
            NotThere::new(&Key::Journey, name, there).to_string()
        };
        assert_eq!(told("book", &[]), "journey “book” is not there; there is none");
        // What holds the name stands before what begins alike, and that before the rest.
        assert_eq!(
            told("Book", &["timetable", "boarding", "pre-book"]),
            "journey “Book” is not there; there is “pre-book”, “boarding”, “timetable”"
        );
        let many = told("x", &["a", "b", "c", "d", "e", "f", "g"]);
        assert_eq!(many.matches('“').count(), 6, "{many}");
    }

    #[test]
    fn the_first_of_several_values_is_the_one_that_is_asked_about() {
        let measured: Measured =
            "error budget left for goal \"Bookable\"".parse().expect("a measure");
        assert_eq!(first(&measured, &Key::Goal), "Bookable");
        assert_eq!(first(&measured, &Key::Journey), "");
    }
}
