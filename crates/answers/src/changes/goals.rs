//! Goals: promised, changed, taken away; time taken out of them and taken back.

use super::journeys::theirs;
use super::{Author, LONGEST_NAME, cut, noted, noted_change, told};
use crate::{AnswerError, Answers, Result};
use cadentis_core::calendar::Stretch;
use cadentis_core::goal::Definition;
use cadentis_core::goal::definition::{BEGINNING, Impossible};
use cadentis_core::goal::openslo::{self, Said};
use cadentis_core::text::clean;
use cadentis_store::goal::{Goal, Kept};
use cadentis_store::site::Site;
use jiff::Timestamp;

/// Why is told in at most so many characters.
pub const LONGEST_WHY: usize = 200;

/// What is promised, by what name and from when.
pub struct Promise<'a> {
    /// The goal's name.
    pub name: &'a str,
    /// What it says.
    pub definition: &'a Definition,
    /// Windows that begin then or later are judged by it.
    pub from: Timestamp,
}

/// Why something was not promised.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum NotPromised {
    /// It cannot be.
    Impossible(Impossible),
    /// A journey of it is not there.
    NoJourney,
    /// Another goal of the site has the name.
    Taken,
    /// Somebody changed it meanwhile.
    Overtaken,
}

/// That all that a goal is over is theirs to change, and there.
async fn check(
    answers: &Answers,
    by: &Author,
    site: &Site,
    definition: &Definition,
) -> Result<std::result::Result<(), NotPromised>> {
    if let Err(why) = definition.check() {
        return Ok(Err(NotPromised::Impossible(why)));
    }
    let journeys = answers.db.journeys(site.id).await?;
    for id in &definition.journeys {
        match journeys.iter().find(|j| j.id == *id) {
            Some(j) => theirs(by, j)?,
            None => return Ok(Err(NotPromised::NoJourney)),
        }
    }
    Ok(Ok(()))
}

/// Promises something; the goal's id.
///
/// # Errors
/// When a journey belongs to a team that whoever it is is not in, or the database does not answer.
pub async fn add(
    answers: &Answers,
    by: &Author,
    site: &Site,
    p: &Promise<'_>,
) -> Result<std::result::Result<i32, NotPromised>> {
    if let Err(why) = check(answers, by, site, p.definition).await? {
        return Ok(Err(why));
    }
    let one = answers.one().await?;
    let says = (p.definition, p.from);
    let Some(id) = one.db.add_goal(site.id, p.name, says, by.name()).await? else {
        return Ok(Err(NotPromised::Taken));
    };
    let after = told::goal_now(&one, site.id, id).await?;
    noted_change(one, by, "promised", p.name, (&Vec::new(), &after)).await?;
    Ok(Ok(id))
}

/// What became of a document of a file of goals.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Taken {
    /// What it is called.
    pub what: String,
    /// The goal that it became, or why it became none.
    pub became: std::result::Result<i32, String>,
}

/// Promises what a file says in OpenSLO, document by document; what cannot be said here is told, and all else is promised.
///
/// # Errors
/// When the database does not answer. The file is what is wrong when it is no such file at all.
pub async fn take(
    answers: &Answers,
    by: &Author,
    site: &Site,
    text: &str,
) -> Result<std::result::Result<Vec<Taken>, String>> {
    let read = match openslo::read(text, site.zone_name()) {
        Ok(read) => read,
        Err(why) => return Ok(Err(why)),
    };
    let mut all = Vec::new();
    for document in read {
        let taken = match document {
            Ok(said) => {
                Taken { what: said.name.clone(), became: taken(answers, by, site, said).await? }
            }
            Err(not) => Taken { what: not.what, became: Err(not.why) },
        };
        all.push(taken);
    }
    Ok(Ok(all))
}

async fn taken(
    answers: &Answers,
    by: &Author,
    site: &Site,
    said: Said,
) -> Result<std::result::Result<i32, String>> {
    let (journeys, locations) =
        futures::try_join!(answers.db.journeys(site.id), answers.db.locations())?;
    let journey = |slug: &String| {
        let found = journeys.iter().find(|j| j.slug == *slug).map(|j| j.id);
        found.ok_or_else(|| format!("there is no journey {slug}"))
    };
    let place = |slug: &String| {
        let found = locations.iter().find(|l| l.slug == *slug).map(|l| l.id);
        found.ok_or_else(|| format!("there is no location {slug}"))
    };
    let ids = |all: std::result::Result<Vec<i32>, String>| all;
    let (journeys, locations) = match (
        ids(said.journeys.iter().map(journey).collect()),
        ids(said.locations.iter().map(place).collect()),
    ) {
        (Ok(journeys), Ok(locations)) => (journeys, locations),
        (Err(why), _) | (_, Err(why)) => return Ok(Err(why)),
    };
    let name = clean(said.name.trim(), LONGEST_NAME + 1, None);
    if name.is_empty() || name.chars().count() > LONGEST_NAME {
        return Ok(Err(format!("a name has 1 to {LONGEST_NAME} characters")));
    }
    let definition = Definition {
        measure: said.measure,
        combine: said.combine,
        journeys,
        locations,
        service_hours: said.service_hours,
        period: said.period,
        promised: said.promised,
    };
    let promise = Promise { name: &name, definition: &definition, from: BEGINNING };
    let added = match add(answers, by, site, &promise).await {
        // What others own stays theirs; all else of the file goes on.
        Err(e @ AnswerError::NotTheirs { .. }) => return Ok(Err(e.to_string())),
        other => other?,
    };
    Ok(added.map_err(|why| match why {
        NotPromised::Impossible(why) => why.to_string(),
        NotPromised::NoJourney => "a journey of it is not there".into(),
        NotPromised::Taken | NotPromised::Overtaken => "another goal has this name".into(),
    }))
}

/// Lets a goal say something else, if nobody has changed it since `based_on`; the version that it is.
///
/// # Errors
/// When a journey, of before or of now, belongs to a team that whoever it is is not in, or the database does not answer.
pub async fn set(
    answers: &Answers,
    by: &Author,
    site: &Site,
    (goal, based_on): (&Goal, i32),
    p: &Promise<'_>,
) -> Result<std::result::Result<i32, NotPromised>> {
    if let Err(why) = check(answers, by, site, p.definition).await? {
        return Ok(Err(why));
    }
    is_theirs(answers, by, site, goal).await?;
    let one = answers.one().await?;
    let before = told::goal_now(&one, site.id, goal.id).await?;
    let says = (p.definition, p.from);
    match one.db.set_goal(goal, based_on, p.name, says, by.name()).await? {
        Kept::Version(version) => {
            let after = told::goal_now(&one, site.id, goal.id).await?;
            noted_change(one, by, "changed the goal", p.name, (&before, &after)).await?;
            Ok(Ok(version))
        }
        Kept::Overtaken => Ok(Err(NotPromised::Overtaken)),
        Kept::Taken => Ok(Err(NotPromised::Taken)),
    }
}

/// That what a goal is over is theirs to change.
async fn is_theirs(answers: &Answers, by: &Author, site: &Site, goal: &Goal) -> Result<()> {
    let journeys = answers.db.journeys(site.id).await?;
    let of = &goal.newest().definition.journeys;
    journeys.iter().filter(|j| of.contains(&j.id)).try_for_each(|j| theirs(by, j))
}

/// Takes a goal away, with what was taken out of it.
///
/// # Errors
/// When a journey belongs to a team that whoever it is is not in, or the database does not answer.
pub async fn remove(answers: &Answers, by: &Author, site: &Site, goal: &Goal) -> Result<bool> {
    is_theirs(answers, by, site, goal).await?;
    let one = answers.one().await?;
    let before = told::goal_now(&one, site.id, goal.id).await?;
    if !one.db.remove_goal(goal.id).await? {
        return Ok(false);
    }
    noted_change(one, by, "took away the goal", &goal.name, (&before, &Vec::new())).await?;
    Ok(true)
}

/// Takes time out of a goal; the id of the carve-out.
///
/// # Errors
/// When a journey belongs to a team that whoever it is is not in, or the database does not answer.
pub async fn carve_out(
    answers: &Answers,
    by: &Author,
    site: &Site,
    goal: &Goal,
    (stretch, why): (Stretch, &str),
) -> Result<i32> {
    is_theirs(answers, by, site, goal).await?;
    let why = cut(why, LONGEST_WHY);
    let one = answers.one().await?;
    let id = one.db.add_carve_out(goal.id, stretch, &why, by.name()).await?;
    let which = format!("{}: {} ({why})", goal.name, stretch.words(&site.zone));
    noted(one, by, "took out of the goal", which).await?;
    Ok(id)
}

/// Takes a carve-out back; whether there was one in force.
///
/// # Errors
/// When a journey belongs to a team that whoever it is is not in, or the database does not answer.
pub async fn revoke(
    answers: &Answers,
    by: &Author,
    site: &Site,
    goal: &Goal,
    id: i32,
) -> Result<bool> {
    is_theirs(answers, by, site, goal).await?;
    let one = answers.one().await?;
    let Some(was) = one.db.revoke_carve_out(goal.id, id, by.name()).await? else {
        return Ok(false);
    };
    let which = format!("{}: {} ({})", goal.name, was.stretch.words(&site.zone), was.why);
    noted(one, by, "put back into the goal", which).await?;
    Ok(true)
}

/// The goal of a site with this id.
///
/// # Errors
/// When the database does not answer.
pub async fn goal(answers: &Answers, site: &Site, id: i32) -> Result<Option<Goal>> {
    let goals = answers.db.goals(site.id).await?;
    Ok::<_, AnswerError>(goals.into_iter().find(|g| g.id == id))
}
