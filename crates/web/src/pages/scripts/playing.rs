//! Where, how often and on what a journey plays: the same fields for a new journey and for one that is there.

use super::start::{Given, Wrong, of};
use crate::State;
use crate::access::InSite;
use crate::error::PageError;
use crate::frame::Frame;
use crate::problem::Problem;
use crate::view::Choice;
use actix_web::http::StatusCode;
use actix_web::{HttpResponse, web};
use cadentis_answers::kept::{Journey, Location, PlaceAndPace, Site};
use cadentis_answers::{AnswerError, scripts, sites};
use cadentis_core::calendar::Pace;
use cadentis_core::run::{DeviceProfile, PROFILES};
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use serde::Deserialize;
use serde_json::json;

/// The fields, filled in.
pub struct Fields {
    pub kinds: Vec<Choice>,
    pub every: String,
    pub cron: String,
    pub cron_zone: String,
    pub once: String,
    pub zone: String,
    pub devices: Vec<Choice>,
    pub environments: Vec<Choice>,
    pub retry: bool,
    pub locations: Vec<LocationRow>,
    /// Mean seconds and bytes of the site's runs in the last day, from which a cost is reckoned.
    pub mean_s: String,
    pub mean_bytes: String,
    pub keep_days: i32,
    pub wrong: Option<String>,
}

pub struct LocationRow {
    pub slug: String,
    pub name: String,
    pub kind: String,
    pub chosen: bool,
}

/// How a journey plays, as the fields would say it.
pub fn as_given(j: &Journey, locations: &[String], zone: &TimeZone) -> Result<Given, PageError> {
    let mut given: Given = locations.iter().map(|l| ("location".to_string(), l.clone())).collect();
    let mut add = |name: &str, value: String| given.push((name.into(), value));
    match j.pace().map_err(AnswerError::from)? {
        Pace::Every(seconds) => {
            add("pace", "every".into());
            add("every", (seconds / 60).to_string());
        }
        Pace::Cron(cron, zone) => {
            add("pace", "cron".into());
            add("cron", cron.to_string());
            add("cron_zone", zone.iana_name().unwrap_or("UTC").into());
        }
        Pace::Once(at) => {
            add("pace", "once".into());
            add("once", at.to_zoned(zone.clone()).strftime("%Y-%m-%dT%H:%M").to_string());
        }
    }
    add("device", j.device.clone());
    add("environment", j.environment.clone());
    if j.retry {
        add("retry", "on".into());
    }
    Ok(given)
}

/// The fields with what was given; at first every location is chosen and the pace is five minutes.
pub async fn fields(
    state: &State,
    frame: &Frame,
    given: &Given,
    wrong: Option<String>,
) -> Result<Fields, PageError> {
    let answers = &state.answers;
    let (locations, cost) = futures::try_join!(
        sites::locations(answers),
        scripts::mean_run(answers, frame.site.id, frame.now)
    )?;
    let first = !given.iter().any(|(n, _)| n == "pace");
    let value = |name: &str, usual: &str| of(given, name).unwrap_or(usual).to_string();
    let kind = value("pace", "every");
    let kinds = [("every", "every so many minutes"), ("cron", "by a cron line"), ("once", "once")];
    let (device, environment) =
        (value("device", DeviceProfile::USUAL.slug), value("environment", ""));
    let soon = (frame.now + SignedDuration::from_mins(10)).to_zoned(frame.site.zone.clone());
    let picked = |slug: &str| first || given.iter().any(|(n, v)| n == "location" && v == slug);
    let row = |l: Location| LocationRow {
        chosen: picked(&l.slug),
        slug: l.slug,
        name: l.name,
        kind: l.kind,
    };
    Ok(Fields {
        kinds: kinds
            .into_iter()
            .map(|(slug, name)| Choice::new(slug, name, slug == kind))
            .collect(),
        every: value("every", "5"),
        cron: value("cron", "0 6 * * 1-5"),
        cron_zone: value("cron_zone", frame.site.zone_name()),
        once: value("once", &soon.strftime("%Y-%m-%dT%H:%M").to_string()),
        zone: frame.site.zone_name().into(),
        devices: PROFILES
            .into_iter()
            .map(|d| Choice::new(d.slug, format!("{}: {}", d.name, d.says()), d.slug == device))
            .collect(),
        environments: frame
            .site
            .environment_names()
            .into_iter()
            .map(|e| Choice::of(&e, e == environment))
            .collect(),
        retry: of(given, "retry").is_some(),
        locations: locations.into_iter().map(row).collect(),
        mean_s: cost.as_ref().map_or(String::new(), |m| format!("{:.2}", m.ms / 1000.0)),
        mean_bytes: cost.map_or(String::new(), |m| format!("{:.0}", m.bytes)),
        keep_days: frame.site.keep_days,
        wrong,
    })
}

/// What was given, as it can be kept.
pub struct Plays {
    pace: Pace,
    locations: Vec<i32>,
    device: &'static str,
    environment: String,
    retry: bool,
}

impl Plays {
    pub fn as_kept(&self) -> PlaceAndPace<'_> {
        PlaceAndPace {
            pace: &self.pace,
            locations: &self.locations,
            device: self.device,
            environment: &self.environment,
            retry: self.retry,
        }
    }
}

fn pace(given: &Given, zone: &TimeZone) -> Result<Pace, String> {
    let value = |name: &str| of(given, name).unwrap_or("");
    let read = match value("pace") {
        "" | "every" => Pace::minutes(value("every")),
        "cron" => Pace::cron(value("cron"), value("cron_zone")),
        "once" => Pace::once(value("once"), zone),
        other => other.parse(),
    };
    read.map_err(|e| {
        let words = e.to_string();
        let mut letters = words.chars();
        let first =
            letters.next().map(|c| c.to_uppercase().collect::<String>()).unwrap_or_default();
        format!("{first}{}.", letters.as_str())
    })
}

/// Reads the fields; the first that is wrong.
pub fn read(given: &Given, site: &Site, all: &[Location]) -> Result<Plays, Wrong> {
    let wrong = |field: &str, says: String| Wrong { field: field.into(), says };
    let pace = pace(given, &site.zone).map_err(|says| wrong("pace", says))?;
    let picked = |l: &&Location| given.iter().any(|(n, v)| n == "location" && *v == l.slug);
    let locations: Vec<i32> = all.iter().filter(picked).map(|l| l.id).collect();
    if locations.is_empty() {
        return Err(wrong("location", "Choose at least one location.".into()));
    }
    let device = DeviceProfile::of(of(given, "device").unwrap_or(DeviceProfile::USUAL.slug));
    let device = device.ok_or_else(|| wrong("device", "Choose one of the devices.".into()))?.slug;
    let names = site.environment_names();
    let environment =
        of(given, "environment").map(String::from).or(names.first().cloned()).unwrap_or_default();
    if !names.contains(&environment) {
        return Err(wrong(
            "environment",
            format!("The site has no environment {environment}; it has {}.", names.join(", ")),
        ));
    }
    Ok(Plays { pace, locations, device, environment, retry: of(given, "retry").is_some() })
}

#[derive(Deserialize)]
pub struct Asked {
    #[serde(flatten)]
    given: std::collections::HashMap<String, String>,
}

/// `GET /api/pace?pace=&every=&cron=&cron_zone=&once=`: what a pace means: its next runs in the site's zone and in
/// UTC, and how many a location plays in thirty days.
pub async fn schedule(
    InSite(site): InSite,
    asked: web::Query<Asked>,
) -> Result<HttpResponse, PageError> {
    let given: Given = asked.into_inner().given.into_iter().collect();
    let pace = match pace(&given, &site.zone) {
        Ok(pace) => pace,
        Err(says) => return Ok(Problem::new(StatusCode::UNPROCESSABLE_ENTITY, says).into()),
    };
    let now = Timestamp::now();
    let words = |at: &Timestamp| {
        let utc = at.to_zoned(TimeZone::UTC).strftime("%H:%M");
        format!("{} ({utc} UTC)", at.to_zoned(site.zone.clone()).strftime("%a %-d %b %H:%M %Z"))
    };
    let next: Vec<String> = pace.next(now, 3).iter().map(words).collect();
    let late = matches!(pace, Pace::Once(at) if at <= now);
    Ok(HttpResponse::Ok()
        .json(json!({ "runs": pace.runs_in_thirty_days(now), "next": next, "late": late })))
}
