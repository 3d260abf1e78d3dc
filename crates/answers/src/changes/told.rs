//! What something is, part by part, so that a change tells what it was before and after.

use crate::{Answers, Result};
use cadentis_core::calendar::stretch::length_text;
use cadentis_core::calendar::{Length, Maintenance};
use cadentis_core::marker::Said;
use cadentis_core::stats::share::share_text;
use cadentis_store::journey::Journey;
use cadentis_store::location::Location;
use cadentis_store::person::Person;
use cadentis_store::site::Site;
use jiff::Timestamp;
use uuid::Uuid;

/// Parts of something: what each is called, and what it is.
pub(crate) type Parts = Vec<(&'static str, String)>;

/// Only the parts that differ, before and after, in one text each.
pub(crate) fn differing(before: &Parts, after: &Parts) -> (String, String) {
    let differs = |(name, value): &&(&'static str, String), other: &Parts| {
        !other.iter().any(|(n, v)| n == name && v == value)
    };
    let told = |all: &Parts, other: &Parts| {
        let some = all.iter().filter(|part| differs(part, other));
        let some = some.map(|(name, value)| match value.as_str() {
            "" => format!("{name}: none"),
            value => format!("{name}: {value}"),
        });
        some.collect::<Vec<_>>().join("; ")
    };
    (told(before, after), told(after, before))
}

pub(crate) fn site(site: &Site) -> Parts {
    let environments = site.environments.iter().map(|(name, at)| format!("{name} {at}"));
    let families = site.patterns.iter().map(|(pattern, name)| format!("{pattern} {name}"));
    let families_t = site.family_t.iter().map(|(family, t)| format!("{family} {t}"));
    vec![
        ("name", site.name.clone()),
        ("in addresses", site.slug.clone()),
        ("zone", site.zone_name().to_string()),
        ("domains", site.domains.join(", ")),
        ("environments", environments.collect::<Vec<_>>().join(", ")),
        ("evidence, days", site.keep_days.to_string()),
        ("evidence of failures, days", site.keep_failed_days.to_string()),
        ("traces", site.trace_link.clone()),
        ("people known, days", site.keep_people_days.to_string()),
        ("Apdex T, s", site.apdex_t_s.to_string()),
        ("Apdex T of families, s", families_t.collect::<Vec<_>>().join(", ")),
        ("collecting", serde_json::to_string(&site.collecting).unwrap_or_default()),
        ("families", families.collect::<Vec<_>>().join(", ")),
        ("common parts, lines", site.parts.lines().count().to_string()),
        ("archived", site.archived_at.is_some().to_string()),
        ("team", site.team_id.map_or_else(String::new, |id| id.to_string())),
    ]
}

/// A site as it is now.
pub(crate) async fn site_now(answers: &Answers, site_id: i32) -> Result<Parts> {
    let all = answers.db.sites().await?;
    Ok(all.iter().find(|s| s.id == site_id).map(site).unwrap_or_default())
}

/// A secret as it is now: where it may be typed, who set it and when, never what it is.
pub(crate) async fn secret_now(answers: &Answers, site_id: i32, name: &str) -> Result<Parts> {
    let all = answers.db.secrets(site_id).await?;
    let Some(secret) = all.into_iter().find(|s| s.name == name) else { return Ok(Vec::new()) };
    let hosts = match secret.hosts.is_empty() {
        true => "the domains of the site".to_string(),
        false => secret.hosts.join(", "),
    };
    Ok(vec![("for", hosts), ("set by", secret.author), ("at", secret.set_at.to_string())])
}

/// A program's token as it is now.
pub(crate) async fn token_now(answers: &Answers, site_id: i32, id: Uuid) -> Result<Parts> {
    let all = answers.db.api_tokens(site_id).await?;
    let Some(token) = all.into_iter().find(|t| t.id == id) else { return Ok(Vec::new()) };
    let scopes: Vec<&str> = token.scopes.iter().map(|s| s.word()).collect();
    Ok(vec![
        ("may", scopes.join(", ")),
        ("good until", token.ends_at.to_string()),
        ("made by", token.made_by),
    ])
}

/// A journey as it is now.
pub(crate) async fn journey_now(answers: &Answers, of: &Journey) -> Result<Parts> {
    let all = answers.db.journeys(of.site_id).await?;
    let Some(j) = all.iter().find(|j| j.id == of.id) else { return Ok(Vec::new()) };
    let located = answers.db.locations_of(j).await?;
    let locations: Vec<&str> = located.iter().map(|(l, _)| l.slug.as_str()).collect();
    Ok(vec![
        ("version", j.version.to_string()),
        ("status", j.status.clone()),
        ("plays", j.pace_kept.clone()),
        ("at", locations.join(", ")),
        ("device", j.device.clone()),
        ("environment", j.environment.clone()),
        ("tried again", j.retry.to_string()),
        ("owner", j.owner.clone()),
        ("tags", j.tags.join(", ")),
        ("essential", j.essential.to_string()),
    ])
}

/// A marker, as it is.
pub(crate) fn marker(at: Timestamp, said: &Said) -> Parts {
    vec![
        ("at", at.to_string()),
        ("kind", said.kind.word().to_string()),
        ("title", said.title.clone()),
        ("more", said.detail.clone()),
        ("version", said.version.clone()),
        ("link", said.link.clone()),
    ]
}

/// Maintenance, as it is.
pub(crate) async fn maintenance(
    answers: &Answers,
    site: &Site,
    says: &Maintenance,
    detail: &str,
) -> Result<Parts> {
    let (journeys, locations) =
        futures::try_join!(answers.db.journeys(site.id), answers.db.locations())?;
    let window = &says.window;
    let some = |slugs: Vec<&str>, of: &[i32]| match of {
        [] => "all".to_string(),
        _ => slugs.join(", "),
    };
    let reach = &says.reach;
    let lasts = match window.length {
        Length::UntilTime(end) => format!("until {}", end.strftime("%H:%M")),
        Length::Days(days) => format!("{days} days"),
        Length::Exact(length) => length_text(length.as_millis_f64()),
    };
    let theirs = journeys.iter().filter(|j| reach.journeys.contains(&j.id));
    let there = locations.iter().filter(|l| reach.locations.contains(&l.id));
    Ok(vec![
        ("begins", window.first.strftime("%Y-%m-%d %H:%M").to_string()),
        ("lasts", lasts),
        ("comes again", window.repeat.rule().unwrap_or_default()),
        ("by the clock of", window.clock.name().into()),
        ("journeys", some(theirs.map(|j| j.slug.as_str()).collect(), &reach.journeys)),
        ("locations", some(there.map(|l| l.slug.as_str()).collect(), &reach.locations)),
        ("runs", if says.holds { "held" } else { "not counted" }.into()),
        ("more", detail.to_string()),
    ])
}

/// Somebody's rights as they are now.
pub(crate) async fn rights_now(answers: &Answers, id: i32) -> Result<Parts> {
    let (people, sites) = futures::try_join!(answers.db.people(), answers.db.sites())?;
    let Some(person) = people.iter().find(|p| p.id == id) else { return Ok(Vec::new()) };
    Ok(rights(person, &sites))
}

fn rights(person: &Person, sites: &[Site]) -> Parts {
    let role = |(site, role): &(i32, cadentis_core::access::Role)| {
        let name = sites.iter().find(|s| s.id == *site).map_or("a site", |s| s.name.as_str());
        format!("{} of {name}", role.word())
    };
    vec![
        ("administrator", person.is_administrator.to_string()),
        ("sees people", person.sees_people.to_string()),
        ("groups", person.groups.join(", ")),
        ("roles", person.roles.iter().map(role).collect::<Vec<_>>().join(", ")),
    ]
}

/// A team as it is now.
pub(crate) async fn team_now(answers: &Answers, id: i32) -> Result<Parts> {
    let (teams, people) = futures::try_join!(answers.db.teams(), answers.db.people())?;
    let Some(team) = teams.into_iter().find(|t| t.id == id) else { return Ok(Vec::new()) };
    let members = people.iter().filter(|p| team.members.contains(&p.id));
    let members: Vec<&str> = members.map(|p| p.name.as_str()).collect();
    Ok(vec![("members", members.join(", ")), ("name", team.name)])
}

/// A funnel as it is now.
pub(crate) async fn funnel_now(answers: &Answers, site_id: i32, name: &str) -> Result<Parts> {
    let all = answers.db.funnels(site_id).await?;
    let Some(funnel) = all.into_iter().find(|f| f.name == name) else { return Ok(Vec::new()) };
    Ok(vec![("steps", funnel.steps.join(", ")), ("within, s", funnel.within_s.to_string())])
}

/// A goal as it is now.
pub(crate) async fn goal_now(answers: &Answers, site_id: i32, id: i32) -> Result<Parts> {
    let (goals, journeys, places) = futures::try_join!(
        answers.db.goals(site_id),
        answers.db.journeys(site_id),
        answers.db.locations()
    )?;
    let Some(goal) = goals.into_iter().find(|g| g.id == id) else { return Ok(Vec::new()) };
    let newest = goal.newest();
    let says = &newest.definition;
    let name = |id: &i32| journeys.iter().find(|j| j.id == *id).map(|j| j.name.clone());
    let place = |id: &i32| places.iter().find(|l| l.id == *id).map(|l| l.name.clone());
    let listed = |names: Vec<String>| names.join(", ");
    Ok(vec![
        ("promised", format!("{} %", share_text(says.promised, 4, None))),
        ("of", says.measure.words()),
        ("journeys", listed(says.journeys.iter().filter_map(name).collect())),
        ("together", says.combine.words().to_string()),
        ("locations", listed(says.locations.iter().filter_map(place).collect())),
        ("service hours", says.service_hours.as_ref().map_or_else(String::new, |h| h.words())),
        ("over", says.period.words()),
        ("from", newest.from.to_string()),
        ("name", goal.name.clone()),
    ])
}

/// A location as it is now.
pub(crate) async fn location_now(answers: &Answers, slug: &str) -> Result<Parts> {
    let all = answers.db.locations().await?;
    Ok(all.iter().find(|l| l.slug == slug).map(location).unwrap_or_default())
}

fn location(l: &Location) -> Parts {
    let at = l.latitude.zip(l.longitude);
    vec![
        ("at", at.map_or_else(String::new, |(lat, lon)| format!("{lat}, {lon}"))),
        ("proxy", l.proxy.clone().unwrap_or_default()),
        ("does not reach", l.denied.join(" ")),
    ]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_what_differs_is_told_before_and_after() {
        let of = |zone: &str, team: &str| {
            vec![("name", "Marram".to_string()), ("zone", zone.into()), ("team", team.into())]
        };
        let told = differing(&of("UTC", ""), &of("Europe/Oslo", "Desk"));
        assert_eq!(told, ("zone: UTC; team: none".into(), "zone: Europe/Oslo; team: Desk".into()));
        assert_eq!(differing(&of("UTC", ""), &of("UTC", "")), (String::new(), String::new()));
        assert_eq!(differing(&Vec::new(), &of("UTC", "")).0, "");
    }
}
