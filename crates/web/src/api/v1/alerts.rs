//! Alerts and incidents, for programs.

use super::asked::{Closed, Unread, When, query, said, stopped};
use super::shapes::ProblemShape;
use crate::State;
use crate::access::{After, InSite};
use crate::problem::Problem;
use actix_web::{HttpRequest, HttpResponse, web};
use cadentis_answers::alerts;
use cadentis_answers::incidents;
use cadentis_answers::kept::Incident;
use cadentis_core::alert::{Definition, NoData, Rule, Severity};
use cadentis_core::calendar::Stretch;
use cadentis_core::measure::Measured;
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What no data means.
#[derive(Debug, Clone, Copy, Default, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
enum NoDataWord {
    #[default]
    Keep,
    Clear,
    Open,
}

/// What an alert says.
#[derive(Debug, Deserialize, ToSchema)]
pub(super) struct AlertShape {
    /// As the page *Measures* says it.
    #[schema(example = "share failed for journey \"book-a-crossing\"")]
    measure: String,
    /// From here on a warning, in the unit of the measure (shares 0 to 1, times in milliseconds). The level itself is within.
    warning: Option<f64>,
    /// From here on critical.
    critical: Option<f64>,
    /// It clears at this level or on its good side; at the least of the others when it does not say.
    clear: Option<f64>,
    /// A goal's error budget burns over paired windows; there are no levels then.
    #[serde(default)]
    burns: bool,
    /// Unlike its usual: levels are in spreads beyond the median of the same time of the week.
    #[serde(default)]
    unusual: bool,
    /// Over so many minutes the measure is read: 1 to 1440.
    #[schema(minimum = 1, maximum = 1440)]
    window_minutes: i64,
    /// And every so many: 1 to 60.
    #[serde(default = "each_minute")]
    #[schema(minimum = 1, maximum = 60)]
    every_minutes: i64,
    /// In so many evaluations running it has to be so: 1 to 60.
    #[serde(default = "once")]
    #[schema(minimum = 1, maximum = 60)]
    running: u32,
    #[serde(default)]
    #[schema(maximum = 1_000_000)]
    least_samples: u64,
    #[serde(default)]
    #[schema(maximum = 1000)]
    least_locations: u32,
    #[serde(default)]
    no_data: NoDataWord,
}

fn each_minute() -> i64 {
    1
}

fn once() -> u32 {
    1
}

/// An alert that is to be tried.
#[derive(Debug, Deserialize, ToSchema)]
pub(super) struct TryAlert {
    definition: AlertShape,
    /// 62 days at most, from 2000 on.
    #[schema(value_type = String, format = DateTime)]
    from: Timestamp,
    #[schema(value_type = String, format = DateTime)]
    to: Timestamp,
}

/// A time for which it would have been open.
#[derive(Serialize, ToSchema)]
pub(super) struct OpeningShape {
    /// The first evaluation of those that made it open.
    #[schema(value_type = String, format = DateTime)]
    since: Timestamp,
    #[schema(value_type = String, format = DateTime)]
    opened: Timestamp,
    /// `null` when it would still have been open at the end.
    #[schema(value_type = Option<String>, format = DateTime)]
    cleared: Option<Timestamp>,
    /// `warning` or `critical`: the worst it came to.
    severity: &'static str,
    /// The worst value, in the unit of the measure.
    worst: Option<f64>,
}

/// An alert tried on the past.
#[derive(Serialize, ToSchema)]
pub(super) struct AlertTrialShape {
    /// What was tried, in a sentence.
    says: String,
    evaluations: u64,
    openings: Vec<OpeningShape>,
    notices_a_week: f64,
}

fn invalid(pointer: &str, says: impl std::fmt::Display) -> HttpResponse {
    Problem::invalid(pointer, format!("{says}.")).into()
}

impl AlertShape {
    /// The definition, or where in it what is wrong.
    fn read(&self) -> Result<Definition, (String, String)> {
        let wrong =
            |at: &str, why: &dyn std::fmt::Display| (format!("/definition/{at}"), why.to_string());
        let measured: Measured = self.measure.parse().map_err(|e| wrong("measure", &e))?;
        let AlertShape { warning, critical, clear, .. } = *self;
        let rule = match (self.burns, self.unusual) {
            (true, true) => {
                let why = "an error budget burns, or a measure is unlike its usual: not both";
                return Err(wrong("unusual", &why));
            }
            (true, false) => Rule::Burns,
            (false, true) => Rule::Unusual { warning, critical, clear },
            (false, false) => Rule::Level { warning, critical, clear },
        };
        let minutes = |m: i64| m.checked_mul(60).unwrap_or(i64::MAX);
        let definition = Definition {
            measured,
            rule,
            window_s: minutes(self.window_minutes),
            every_s: minutes(self.every_minutes),
            running: self.running,
            least_samples: self.least_samples,
            least_places: self.least_locations,
            no_data: match self.no_data {
                NoDataWord::Keep => NoData::Keep,
                NoDataWord::Clear => NoData::Clear,
                NoDataWord::Open => NoData::Open,
            },
            service_hours: None,
        };
        definition.check().map_err(|why| {
            let at = match why.field() {
                "window" => "window_minutes",
                "every" => "every_minutes",
                other => other,
            };
            wrong(at, &why)
        })?;
        Ok(definition)
    }
}

/// What an alert would have done: openings and clearings to the minute, by the rules and on the data of the watch. Nothing is
/// kept.
#[utoipa::path(post, path = "/sites/{site}/alerts/try", params(("site" = String, Path, example = "marram-ferries")), request_body = TryAlert, responses(
    (status = 200, body = AlertTrialShape),
    Unread,
    (status = 413, body = ProblemShape, content_type = "application/problem+json"),
    (status = 422, body = ProblemShape, content_type = "application/problem+json"),
    Closed,
))]
pub(super) async fn attempt(
    state: web::Data<State>,
    InSite(site): InSite,
    asked: web::Json<TryAlert>,
) -> HttpResponse {
    let tried = async {
        let definition = asked.definition.read().map_err(|(at, why)| invalid(&at, why))?;
        let earliest = SignedDuration::from_secs(946_684_800);
        if asked.from.duration_since(Timestamp::UNIX_EPOCH) < earliest {
            return Err(invalid("/from", "a moment from 2000 on"));
        }
        let stretch = Stretch::new(asked.from, asked.to).map_err(|e| invalid("/to", e))?;
        let tried = alerts::tried(&state.answers, &site, &definition, stretch).await;
        let tried = tried.map_err(stopped)?.map_err(|e| invalid("/definition/measure", e))?;
        let opening = |t: &alerts::Tried| OpeningShape {
            since: t.opening.since,
            opened: t.opening.opened,
            cleared: t.opening.cleared,
            severity: t.opening.severity.word(),
            worst: t.opening.worst,
        };
        Ok(HttpResponse::Ok().json(AlertTrialShape {
            says: definition.sentence(),
            evaluations: tried.evaluations.len() as u64,
            openings: tried.openings.iter().map(opening).collect(),
            notices_a_week: tried.notices_a_week,
        }))
    };
    said(tried.await)
}

/// An incident.
#[derive(Serialize, ToSchema)]
pub(super) struct IncidentShape {
    id: i32,
    title: String,
    /// What its alerts have in common: a journey, a page family, a location, a goal, a dependency, or the site.
    about: String,
    /// `warning` or `critical`: the worst it came to.
    severity: &'static str,
    /// How bad it is now; `null` when it has cleared.
    now: Option<&'static str>,
    /// The first evaluation beyond a level.
    #[schema(value_type = String, format = DateTime)]
    since: Timestamp,
    #[schema(value_type = String, format = DateTime)]
    opened_at: Timestamp,
    #[schema(value_type = Option<String>, format = DateTime)]
    cleared_at: Option<Timestamp>,
    #[schema(value_type = Option<String>, format = DateTime)]
    acknowledged_at: Option<Timestamp>,
    acknowledged_by: Option<String>,
    #[schema(value_type = Option<String>, format = DateTime)]
    closed_at: Option<Timestamp>,
    /// How often it opened again.
    reopened: i32,
    /// Acted out: it counts nowhere.
    is_rehearsal: bool,
}

impl IncidentShape {
    fn of(i: Incident) -> IncidentShape {
        let (acknowledged_at, acknowledged_by) = i.acknowledged.unzip();
        IncidentShape {
            id: i.id,
            title: i.title,
            about: i.about.to_string(),
            severity: i.severity.word(),
            now: i.now.map(Severity::word),
            since: i.since,
            opened_at: i.opened_at,
            cleared_at: i.cleared_at,
            acknowledged_at,
            acknowledged_by,
            closed_at: i.closed.map(|(at, _)| at),
            reopened: i.reopened,
            is_rehearsal: i.is_rehearsal,
        }
    }
}

/// Incidents that were open at some time of a stretch, newest first; 500 at most.
#[utoipa::path(get, path = "/sites/{site}/incidents", params(("site" = String, Path, example = "marram-ferries"), When), responses(
    (status = 200, body = Vec<IncidentShape>),
    Unread,
    Closed,
))]
pub(super) async fn list(
    state: web::Data<State>,
    InSite(site): InSite,
    request: HttpRequest,
) -> HttpResponse {
    let all = async {
        let stretch = query::<When>(&request)?.stretch()?;
        let all = incidents::of_stretch(&state.answers, &site, stretch).await.map_err(stopped)?;
        let all: Vec<IncidentShape> = all.into_iter().map(IncidentShape::of).collect();
        Ok(HttpResponse::Ok().json(all))
    };
    said(all.await)
}

/// One incident.
#[utoipa::path(get, path = "/sites/{site}/incidents/{id}", params(("site" = String, Path, example = "marram-ferries"), ("id" = i32, Path)), responses(
    (status = 200, body = IncidentShape),
    Closed,
))]
pub(super) async fn one(
    state: web::Data<State>,
    InSite(site): InSite,
    After(id): After<i32>,
) -> HttpResponse {
    let one = async {
        let none = || HttpResponse::from(Problem::not_found(format!("There is no incident {id}.")));
        let found = incidents::kept(&state.answers, &site, id).await.map_err(stopped)?;
        Ok(HttpResponse::Ok().json(IncidentShape::of(found.ok_or_else(none)?)))
    };
    said(one.await)
}
