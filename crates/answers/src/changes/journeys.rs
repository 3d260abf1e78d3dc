//! Journeys: made, written anew, moved through their life, copied, deleted; what is promised of them.

use super::{Author, One, cut, may, noted, noted_change, told};
use crate::run::repaired;
use crate::{Answers, Result};
use cadentis_core::calendar::Pace;
use cadentis_core::journey::{self, Part, ScriptError};
use cadentis_core::run::Looked;
use cadentis_core::text::slug;
use cadentis_store::journey::{Journey, NewJourney, PlaceAndPace};
use cadentis_store::script_version::{Deleted, Edit, Saved, Status, Version};
use cadentis_store::site::Site;
use jiff::Timestamp;
use uuid::Uuid;

/// Names in addresses that stand for pages beside the journeys.
const PAGES: [&str; 4] = ["new", "record", "import", "export"];
/// The longest name of a journey, note of a version, and tag, in characters.
const LONGEST_NAME: usize = 80;
const LONGEST_NOTE: usize = 200;
const LONGEST_TAG: usize = 40;
/// The most tags.
const MOST_NAMES: usize = 20;

/// The common parts of a site; parts that cannot be read are as good as none.
pub fn parts_of(site: &Site) -> Vec<Part> {
    journey::parts(&site.parts).unwrap_or_default()
}

/// What a journey of this name is called in addresses, if nobody has that already.
fn slug_of_journey(name: &str) -> String {
    match slug(name) {
        slug if slug.is_empty() || PAGES.contains(&slug.as_str()) => "journey".into(),
        slug => slug,
    }
}

/// That a journey is theirs to change: of a team that they are in, or of none.
pub(super) fn theirs(by: &Author, j: &Journey) -> Result<()> {
    may(by, j.team_id, &j.name, &j.owner)
}

/// Adds a journey, paused, whose script can be played. What it is called in addresses.
///
/// # Errors
/// When the database does not answer.
pub async fn add(
    answers: &Answers,
    by: &Author,
    site: &Site,
    name: &str,
    script: &str,
    plays: PlaceAndPace<'_>,
) -> Result<String> {
    let one = answers.one().await?;
    let slug = one.db.free_slug(site.id, &slug_of_journey(name)).await?;
    put(one, by, site, &slug, (name, script), plays).await?;
    Ok(slug)
}

async fn put(
    one: One,
    by: &Author,
    site: &Site,
    slug: &str,
    (name, script): (&str, &str),
    plays: PlaceAndPace<'_>,
) -> Result<()> {
    let new = NewJourney {
        site_id: site.id,
        slug,
        name,
        script,
        apdex_t_s: site.apdex_t_s,
        author: by.name(),
        plays,
        status: Status::Paused,
    };
    one.db.add_journey(&new).await?;
    noted(one, by, "added the journey", slug).await
}

/// Why no journey was added under a name in addresses.
pub enum NotAdded {
    /// The script cannot be played.
    Unplayable(Vec<ScriptError>),
    /// It is no such name, or one that stands for a page.
    NoName,
    /// A journey has it.
    Taken,
}

/// Adds a journey under a name in addresses, paused, at all locations every five minutes.
///
/// # Errors
/// When the database does not answer.
pub async fn add_as(
    answers: &Answers,
    by: &Author,
    site: &Site,
    wanted: &str,
    script: &str,
) -> Result<std::result::Result<(), NotAdded>> {
    if wanted.is_empty() || slug_of_journey(wanted) != wanted {
        return Ok(Err(NotAdded::NoName));
    }
    let problems = journey::problems(script, &parts_of(site));
    let Ok(read) = journey::parse(script) else { return Ok(Err(NotAdded::Unplayable(problems))) };
    if !problems.is_empty() {
        return Ok(Err(NotAdded::Unplayable(problems)));
    }
    let one = answers.one().await?;
    if one.db.free_slug(site.id, wanted).await? != wanted {
        return Ok(Err(NotAdded::Taken));
    }
    let locations: Vec<i32> = one.db.locations().await?.iter().map(|l| l.id).collect();
    let pace = Pace::Every(300);
    let plays = PlaceAndPace::usual(&pace, &locations);
    put(one, by, site, wanted, (&read.name, script), plays).await?;
    Ok(Ok(()))
}

/// A script that is to become the next version of its journey.
pub struct NewScript<'a> {
    /// The script.
    pub script: &'a str,
    /// The version that was changed.
    pub based_on: i32,
    /// Why.
    pub note: &'a str,
}

/// Why a script did not become the next version.
pub enum NotSaved {
    /// It cannot be played.
    Unplayable(Vec<ScriptError>),
    /// Somebody saved another version meanwhile.
    Overtaken(Version),
}

/// What became of a script that was to be saved.
pub enum SavedAs {
    /// It is a new version, of this number.
    New(i32),
    /// The newest version was the same already.
    Same(i32),
}

/// Makes a script the next version of its journey, if it may be: wherever it was changed.
///
/// # Errors
/// When the database does not answer.
pub async fn save_script(
    answers: &Answers,
    by: &Author,
    site: &Site,
    j: &Journey,
    new: &NewScript<'_>,
) -> Result<std::result::Result<SavedAs, NotSaved>> {
    let problems = journey::problems(new.script, &parts_of(site));
    if !problems.is_empty() {
        return Ok(Err(NotSaved::Unplayable(problems)));
    }
    theirs(by, j)?;
    let name = journey::parse(new.script).map(|j| j.name).unwrap_or_default();
    let note = cut(new.note, LONGEST_NOTE);
    let edit = Edit {
        script: new.script,
        name: &name,
        based_on: new.based_on,
        author: by.name(),
        note: &note,
    };
    let one = answers.one().await?;
    Ok(match one.db.save_script(j.id, &edit, Timestamp::now()).await? {
        Saved::Version(version) => {
            let of = |n: i32| vec![("version", n.to_string())];
            let parts = (&of(new.based_on), &of(version));
            noted_change(one, by, "saved a script of", &j.slug, parts).await?;
            Ok(SavedAs::New(version))
        }
        Saved::Same(version) => Ok(SavedAs::Same(version)),
        Saved::Overtaken(other) => Err(NotSaved::Overtaken(other)),
    })
}

/// Why a script was not repaired.
pub enum NotRepaired {
    /// There is no such run, or nothing of it was kept.
    NoRun,
    /// The version that was played is not kept any more.
    NoVersion,
    /// Nothing fell back.
    NothingToDo,
    /// It was not saved.
    NotSaved(NotSaved),
}

/// Makes the script of a run, with what held in it on top, the next version, unless it was changed since. The journey's
/// name in addresses, and the version that was played.
///
/// # Errors
/// When the database does not answer.
pub async fn repair(
    answers: &Answers,
    by: &Author,
    site: &Site,
    id: Uuid,
) -> Result<std::result::Result<(String, i32), NotRepaired>> {
    let run = answers.db.run(id).await?.filter(|r| r.site_id == site.id);
    let Some(run) = run else { return Ok(Err(NotRepaired::NoRun)) };
    let record = answers.db.record(&run).await?;
    let journeys = answers.db.journeys(site.id).await?;
    let journey = journeys.into_iter().find(|j| j.id == run.journey_id);
    let (Some(record), Some(journey)) = (record, journey) else {
        return Ok(Err(NotRepaired::NoRun));
    };
    let (Some(version), script) = answers.db.script_played(&run, &journey).await? else {
        return Ok(Err(NotRepaired::NoVersion));
    };
    let Some(script) = repaired(&script, &record) else {
        return Ok(Err(NotRepaired::NothingToDo));
    };
    let note = format!("repaired from the run of {}", run.due_at.strftime("%Y-%m-%d %H:%M UTC"));
    let new = NewScript { script: &script, based_on: version, note: &note };
    Ok(match save_script(answers, by, site, &journey, &new).await? {
        Ok(_) => Ok((journey.slug, version)),
        Err(why) => Err(NotRepaired::NotSaved(why)),
    })
}

/// Takes what a run saw of the pages as what later runs are compared with; `false` when nothing of it was kept.
///
/// # Errors
/// When the database does not answer.
pub async fn accept(answers: &Answers, by: &Author, site: &Site, id: Uuid) -> Result<bool> {
    let one = answers.one().await?;
    let run = one.db.run(id).await?.filter(|r| r.site_id == site.id);
    let Some(run) = run else { return Ok(false) };
    let Some(record) = one.db.record(&run).await? else { return Ok(false) };
    let journeys = one.db.journeys(site.id).await?;
    let Some(journey) = journeys.iter().find(|j| j.id == run.journey_id) else { return Ok(false) };
    theirs(by, journey)?;
    let looked: Vec<&Looked> = record.steps.iter().flat_map(|s| &s.looked).collect();
    one.db.accept(run.journey_id, &looked, by.name(), Timestamp::now()).await?;
    noted(one, by, "accepted what was seen in the run", id).await?;
    Ok(true)
}

/// Starts, pauses or archives a journey.
///
/// # Errors
/// When the database does not answer.
pub async fn set_status(answers: &Answers, by: &Author, j: &Journey, status: Status) -> Result<()> {
    theirs(by, j)?;
    let one = answers.one().await?;
    let before = told::journey_now(&one, j).await?;
    one.db.set_status(j.id, status).await?;
    let after = told::journey_now(&one, j).await?;
    noted_change(
        one,
        by,
        &format!("made {} the journey", status.word()),
        &j.slug,
        (&before, &after),
    )
    .await?;
    Ok(())
}

/// Deletes an archived journey for good.
///
/// # Errors
/// When the database does not answer.
pub async fn delete(answers: &Answers, by: &Author, j: &Journey) -> Result<Deleted> {
    theirs(by, j)?;
    let one = answers.one().await?;
    let deleted = one.db.delete_journey(j.id).await?;
    if matches!(deleted, Deleted::Gone) {
        noted(one, by, "deleted the journey", &j.slug).await?;
    }
    Ok(deleted)
}

/// Where, how often and on what a journey plays from now on.
///
/// # Errors
/// When the database does not answer.
pub async fn set_plays(
    answers: &Answers,
    by: &Author,
    j: &Journey,
    plays: &PlaceAndPace<'_>,
) -> Result<()> {
    theirs(by, j)?;
    let one = answers.one().await?;
    let before = told::journey_now(&one, j).await?;
    one.db.set_place_and_pace(j.id, plays).await?;
    let after = told::journey_now(&one, j).await?;
    noted_change(one, by, "changed where and when plays", &j.slug, (&before, &after)).await?;
    Ok(())
}

/// What is said of a journey, as it was typed.
pub struct About<'a> {
    /// The team that owns it.
    pub team: Option<i32>,
    /// Tags, parted by commas.
    pub tags: &'a str,
    /// Whether its failure stops the visitor's business.
    pub essential: bool,
}

/// Changes what is said of a journey.
///
/// # Errors
/// When the database does not answer.
pub async fn set_about(
    answers: &Answers,
    by: &Author,
    j: &Journey,
    about: &About<'_>,
) -> Result<()> {
    theirs(by, j)?;
    let tags = listed(about.tags, LONGEST_TAG);
    let one = answers.one().await?;
    let before = told::journey_now(&one, j).await?;
    one.db.set_about(j.id, about.team, &tags, about.essential).await?;
    let after = told::journey_now(&one, j).await?;
    noted_change(one, by, "changed what is said of", &j.slug, (&before, &after)).await?;
    Ok(())
}

/// Names parted by commas, none of them twice in a row, none too long and not too many.
fn listed(text: &str, longest: usize) -> Vec<String> {
    let names = text.split(',').map(|t| cut(t, longest)).filter(|t| !t.is_empty());
    let mut all: Vec<String> = names.take(MOST_NAMES).collect();
    all.dedup();
    all
}

/// Copies a journey, paused; for another environment of its site with its addresses. What the copy is called in
/// addresses.
///
/// # Errors
/// When the database does not answer.
pub async fn duplicate(
    answers: &Answers,
    by: &Author,
    site: &Site,
    j: &Journey,
    environment: Option<&str>,
) -> Result<String> {
    let address = |name: &str| {
        site.environments.iter().find(|(n, _)| n == name).map(|(_, address)| address.as_str())
    };
    let elsewhere = environment.filter(|e| *e != j.environment && address(e).is_some());
    let name = match elsewhere {
        Some(environment) => format!("{} ({environment})", j.name),
        None => format!("Copy of {}", j.name),
    };
    let name = cut(&name, LONGEST_NAME);
    // The name stands in the script; a script that cannot be read any more is copied as it is.
    let script = match journey::parse(&j.script) {
        Ok(mut script) => {
            script.name.clone_from(&name);
            script.to_string()
        }
        Err(_) => j.script.clone(),
    };
    let script = moved(&script, address(&j.environment), elsewhere.and_then(address));
    let wanted = match elsewhere {
        Some(e) => format!("{}-{}", j.slug, slug(e)),
        None => format!("copy-of-{}", j.slug),
    };
    let one = answers.one().await?;
    let free = one.db.free_slug(j.site_id, &wanted).await?;
    let (environment, now) = (elsewhere.unwrap_or(&j.environment), Timestamp::now());
    one.db.duplicate(j, &free, &script, &name, environment, by.name(), now).await?;
    noted(one, by, "copied a journey as", &free).await?;
    Ok(free)
}

/// The script with every address of one environment turned into that of another.
fn moved(script: &str, from: Option<&str>, to: Option<&str>) -> String {
    match (from, to) {
        (Some(from), Some(to)) if !from.is_empty() => {
            script.replace(from.trim_end_matches('/'), to.trim_end_matches('/'))
        }
        _ => script.to_string(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_journey_is_never_called_as_a_page_beside_it_is() {
        assert_eq!(slug_of_journey("Book a crossing"), "book-a-crossing");
        for name in ["!?", "New", "record", "  Import "] {
            assert_eq!(slug_of_journey(name), "journey", "{name}");
        }
    }

    #[test]
    fn names_in_a_list_are_cut_and_counted() {
        assert_eq!(listed(" a, ,b ,b,", 40), ["a", "b"]);
        assert_eq!(listed(&"x".repeat(100), 40)[0].len(), 40);
        assert_eq!(listed(&vec!["a,b"; 50].join(","), 40).len(), MOST_NAMES);
    }

    #[test]
    fn a_copy_for_another_environment_looks_there_and_nowhere_else() {
        let script = "  open https://a.example/x\n  open https://other.example/\n";
        let copy = moved(script, Some("https://a.example/"), Some("https://b.example"));
        assert_eq!(copy, "  open https://b.example/x\n  open https://other.example/\n");
        assert_eq!(moved(script, Some("https://a.example"), None), script);
        assert_eq!(moved(script, Some(""), Some("https://b.example")), script);
    }
}
