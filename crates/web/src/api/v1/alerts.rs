//! Alerts, for programs: tried, kept, changed, taken away.

use super::asked::{Closed, Unread, said, stopped};
use super::hours::HoursShape;
use super::listed::{Nothing, WhichPage, numbered, paged};
use super::shapes::{Made, ProblemShape};
use crate::State;
use crate::access::{After, Caller, InSite};
use crate::fields::sentence;
use crate::problem::Problem;
use crate::words::capital;
use actix_web::http::StatusCode;
use actix_web::{HttpRequest, HttpResponse, web};
use cadentis_answers::changes::alerts as changes;
use cadentis_answers::kept::{Alert, AlertSays, CallList, Site};
use cadentis_answers::{alerts, notices, teams};
use cadentis_core::alert::{Definition, NoData, Rule, Severity};
use cadentis_core::calendar::Stretch;
use cadentis_core::measure::Measured;
use cadentis_core::text;
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What no data means.
#[derive(Debug, Clone, Copy, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
enum NoDataWord {
    #[default]
    Keep,
    Clear,
    Open,
}

/// When an alert opens.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
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
    /// Only in these hours; always without.
    service_hours: Option<HoursShape>,
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

fn invalid(pointer: &str, says: impl std::fmt::Display) -> Box<Problem> {
    Box::new(Problem::invalid(pointer, sentence(&capital(&says.to_string()))))
}

impl AlertShape {
    /// The definition, or where in it what is wrong.
    fn read(&self) -> Result<Definition, Box<Problem>> {
        let wrong =
            |at: &str, why: &dyn std::fmt::Display| invalid(&format!("/definition/{at}"), why);
        let hours = self.service_hours.as_ref();
        let service_hours = HoursShape::read(hours, "/definition/service_hours")?;
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
            service_hours,
        };
        definition.check().map_err(|why| wrong(place(why.field()), &why))?;
        Ok(definition)
    }

    /// As programs are told it.
    fn of(definition: &Definition) -> AlertShape {
        let [warning, critical, clear] = definition.rule.levels();
        AlertShape {
            measure: definition.measured.to_string(),
            warning,
            critical,
            clear,
            burns: definition.rule == Rule::Burns,
            unusual: matches!(definition.rule, Rule::Unusual { .. }),
            window_minutes: definition.window_s / 60,
            every_minutes: definition.every_s / 60,
            running: definition.running,
            least_samples: definition.least_samples,
            least_locations: definition.least_places,
            no_data: match definition.no_data {
                NoData::Keep => NoDataWord::Keep,
                NoData::Clear => NoDataWord::Clear,
                NoData::Open => NoDataWord::Open,
            },
            service_hours: definition.service_hours.as_ref().map(HoursShape::of),
        }
    }
}

/// What programs call a field.
fn place(field: &str) -> &str {
    match field {
        "window" => "window_minutes",
        "every" => "every_minutes",
        other => other,
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
        let definition = asked.definition.read()?;
        let earliest = SignedDuration::from_secs(946_684_800);
        if asked.from.duration_since(Timestamp::UNIX_EPOCH) < earliest {
            return Err(invalid("/from", "a moment from 2000 on").into());
        }
        let stretch = Stretch::new(asked.from, asked.to).map_err(|e| invalid("/to", e))?;
        let tried = alerts::tried(&state.answers, &site, &definition, stretch).await;
        let tried = tried.map_err(stopped)?;
        let tried = tried.map_err(|e| invalid("/definition/measure", e))?;
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

/// An alert that is to be.
#[derive(Debug, Deserialize, ToSchema)]
pub(super) struct NewAlert {
    /// 80 characters at most; no other alert of the site has it.
    #[schema(min_length = 1, max_length = 80)]
    name: String,
    definition: AlertShape,
    /// What to do when it opens: 2000 characters at most.
    #[serde(default)]
    #[schema(max_length = 2000)]
    instructions: String,
    /// Where more is written about it; empty, or an address that begins with `https://` or `http://`.
    #[serde(default)]
    #[schema(max_length = 500)]
    link: String,
    /// The team that owns it, by its name; nobody in particular when it does not say.
    team: Option<String>,
    /// The call list that a warning is told to, by its name; the usual one when it does not say.
    warning_list: Option<String>,
    /// The call list that a critical incident is told to, by its name.
    critical_list: Option<String>,
    /// Whether it is watched from now on. Of a change: how it was stays.
    #[serde(default = "yes")]
    is_on: bool,
}

fn yes() -> bool {
    true
}

/// An alert that is to say something else.
#[derive(Debug, Deserialize, ToSchema)]
pub(super) struct ChangedAlert {
    /// The revision that was read: when somebody has changed it since, nothing is changed.
    revision: i32,
    #[serde(flatten)]
    says: NewAlert,
}

/// An alert.
#[derive(Serialize, ToSchema)]
pub(super) struct KeptAlertShape {
    id: i32,
    /// Counts up with every change.
    revision: i32,
    name: String,
    definition: AlertShape,
    /// What it says, in a sentence.
    says: String,
    instructions: String,
    link: String,
    team: Option<String>,
    warning_list: Option<String>,
    critical_list: Option<String>,
    is_on: bool,
    /// `warning` or `critical` while it is open; `null` while it is quiet.
    open: Option<&'static str>,
    /// It tells nobody until then.
    #[schema(value_type = Option<String>, format = DateTime)]
    silenced_until: Option<Timestamp>,
    /// Up to when it has been evaluated.
    #[schema(value_type = String, format = DateTime)]
    evaluated_to: Timestamp,
}

impl KeptAlertShape {
    fn of(alert: Alert, lists: &[CallList]) -> KeptAlertShape {
        let list = |id: Option<i32>| Some(lists.iter().find(|l| Some(l.id) == id)?.name.clone());
        KeptAlertShape {
            id: alert.id,
            revision: alert.revision,
            definition: AlertShape::of(&alert.says.definition),
            says: alert.says.definition.sentence(),
            warning_list: list(alert.says.lists[0]),
            critical_list: list(alert.says.lists[1]),
            name: alert.says.name,
            instructions: alert.says.instructions,
            link: alert.says.link,
            team: Some(alert.owner).filter(|owner| !owner.is_empty()),
            is_on: alert.is_on,
            open: alert.state.open.map(Severity::word),
            silenced_until: alert.silence.map(|s| s.until),
            evaluated_to: alert.evaluated_to,
        }
    }
}

impl NewAlert {
    /// What it says, with what it names found.
    async fn read(&self, state: &State, site: &Site) -> Result<AlertSays, HttpResponse> {
        let definition = self.definition.read()?;
        let lists = notices::ask(&state.answers, site).await.map_err(stopped)?.lists;
        let list = |pointer: &str, name: &Option<String>| match name {
            None => Ok(None),
            Some(name) => match lists.iter().find(|l| l.name == *name) {
                Some(list) => Ok(Some(list.id)),
                None => Err(invalid(pointer, "there is no call list of this name")),
            },
        };
        let lists = [
            list("/warning_list", &self.warning_list)?,
            list("/critical_list", &self.critical_list)?,
        ];
        let theirs = teams::all(&state.answers).await.map_err(stopped)?;
        let team_id = match &self.team {
            None => None,
            Some(name) => match theirs.iter().find(|t| t.name == *name) {
                Some(team) => Some(team.id),
                None => return Err(invalid("/team", "there is no team of this name").into()),
            },
        };
        Ok(AlertSays {
            name: text::clean(&self.name, changes::LONGEST_NAME + 1, None),
            definition,
            team_id,
            instructions: text::clean(
                &self.instructions,
                changes::LONGEST_INSTRUCTIONS,
                Some('\n'),
            ),
            link: text::clean(&self.link, 500, None),
            lists,
        })
    }
}

fn not_kept(why: &changes::NotKept) -> HttpResponse {
    use changes::NotKept::{Link, Name, NoList, NotThere, Overtaken, Taken, TooMany, Unfit};
    let pointer = match why {
        Name | Taken => "/name".to_string(),
        Link => "/link".into(),
        NotThere(_) => "/definition/measure".into(),
        Unfit(unfit) => format!("/definition/{}", place(unfit.field())),
        NoList => "/warning_list".into(),
        TooMany => String::new(),
        Overtaken => {
            return Problem::new(StatusCode::CONFLICT, sentence(&capital(&why.to_string()))).into();
        }
    };
    invalid(&pointer, why).into()
}

async fn kept(state: &State, site: &Site, id: i32) -> Result<Alert, HttpResponse> {
    let none = || HttpResponse::from(Problem::not_found(format!("There is no alert {id}.")));
    alerts::one(&state.answers, site, id).await.map_err(stopped)?.ok_or_else(none)
}

async fn told(state: &State, site: &Site, id: i32) -> Result<KeptAlertShape, HttpResponse> {
    let lists = notices::ask(&state.answers, site).await.map_err(stopped)?.lists;
    Ok(KeptAlertShape::of(kept(state, site, id).await?, &lists))
}

/// What is watched of a site, by id.
#[utoipa::path(get, path = "/sites/{site}/alerts", params(("site" = String, Path, example = "marram-ferries"), WhichPage), responses(
    (status = 200, body = Vec<KeptAlertShape>),
    Unread,
    Closed,
))]
pub(super) async fn list(
    state: web::Data<State>,
    InSite(site): InSite,
    request: HttpRequest,
) -> HttpResponse {
    let all = async {
        let (page, Nothing {}) = paged(&request)?;
        let lists = notices::ask(&state.answers, &site).await.map_err(stopped)?.lists;
        let all = alerts::all(&state.answers, &site).await.map_err(stopped)?;
        Ok(page.told(all, |a| numbered(0, a.id), |a| KeptAlertShape::of(a, &lists)))
    };
    said(all.await)
}

/// One alert.
#[utoipa::path(get, path = "/sites/{site}/alerts/{id}", params(("site" = String, Path, example = "marram-ferries"), ("id" = i32, Path)), responses(
    (status = 200, body = KeptAlertShape),
    Closed,
))]
pub(super) async fn one(
    state: web::Data<State>,
    InSite(site): InSite,
    After(id): After<i32>,
) -> HttpResponse {
    said(told(&state, &site, id).await.map(|one| HttpResponse::Ok().json(one)))
}

/// Watches something from now on.
#[utoipa::path(post, path = "/sites/{site}/alerts", params(("site" = String, Path, example = "marram-ferries")), request_body = NewAlert, responses(
    (status = 201, body = Made),
    Unread,
    (status = 413, body = ProblemShape, content_type = "application/problem+json"),
    (status = 422, body = ProblemShape, content_type = "application/problem+json"),
    Closed,
))]
pub(super) async fn add(
    state: web::Data<State>,
    caller: Caller,
    InSite(site): InSite,
    new: web::Json<NewAlert>,
) -> HttpResponse {
    let add = async {
        let says = new.read(&state, &site).await?;
        let now = Timestamp::now();
        let made = changes::add(&state.answers, &caller.author, &site, (&says, new.is_on), now);
        match made.await.map_err(stopped)? {
            Ok(id) => Ok(HttpResponse::Created().json(Made { id })),
            Err(why) => Err(not_kept(&why)),
        }
    };
    said(add.await)
}

/// Lets an alert say something else.
#[utoipa::path(put, path = "/sites/{site}/alerts/{id}", params(("site" = String, Path, example = "marram-ferries"), ("id" = i32, Path)), request_body = ChangedAlert, responses(
    (status = 200, body = KeptAlertShape),
    Unread,
    (status = 409, description = "Somebody has changed it since.", body = ProblemShape, content_type = "application/problem+json"),
    (status = 413, body = ProblemShape, content_type = "application/problem+json"),
    (status = 422, body = ProblemShape, content_type = "application/problem+json"),
    Closed,
))]
pub(super) async fn change(
    state: web::Data<State>,
    caller: Caller,
    InSite(site): InSite,
    After(id): After<i32>,
    changed: web::Json<ChangedAlert>,
) -> HttpResponse {
    let change = async {
        let alert = kept(&state, &site, id).await?;
        let says = changed.says.read(&state, &site).await?;
        let based = (&alert, changed.revision);
        let set = changes::set(&state.answers, &caller.author, &site, based, &says).await;
        set.map_err(stopped)?.map_err(|why| not_kept(&why))?;
        Ok(HttpResponse::Ok().json(told(&state, &site, id).await?))
    };
    said(change.await)
}

/// For how long an alert tells nobody.
#[derive(Debug, Deserialize, ToSchema)]
pub(super) struct SilenceShape {
    /// Within 90 days from now; without, it tells again.
    #[schema(value_type = Option<String>, format = DateTime)]
    until: Option<Timestamp>,
    /// 1000 characters at most.
    #[serde(default)]
    #[schema(max_length = 1000)]
    why: String,
}

/// Lets an alert tell nobody until a moment, with a reason; or tell again.
#[utoipa::path(put, path = "/sites/{site}/alerts/{id}/silence", params(("site" = String, Path, example = "marram-ferries"), ("id" = i32, Path)), request_body = SilenceShape, responses(
    (status = 200, body = KeptAlertShape),
    Unread,
    (status = 413, body = ProblemShape, content_type = "application/problem+json"),
    (status = 422, body = ProblemShape, content_type = "application/problem+json"),
    Closed,
))]
pub(super) async fn silence(
    state: web::Data<State>,
    caller: Caller,
    InSite(site): InSite,
    After(id): After<i32>,
    asked: web::Json<SilenceShape>,
) -> HttpResponse {
    let silence = async {
        let alert = kept(&state, &site, id).await?;
        let wanted = asked.until.map(|until| (until, asked.why.as_str()));
        let now = Timestamp::now();
        let set = changes::silence(&state.answers, &caller.author, &alert, wanted, now).await;
        set.map_err(stopped)?.map_err(|why| match why {
            changes::NotSilenced::Why => invalid("/why", why),
            changes::NotSilenced::Until => invalid("/until", why),
        })?;
        Ok(HttpResponse::Ok().json(told(&state, &site, id).await?))
    };
    said(silence.await)
}

/// Takes an alert away with its evaluations.
#[utoipa::path(delete, path = "/sites/{site}/alerts/{id}", params(("site" = String, Path, example = "marram-ferries"), ("id" = i32, Path)), responses(
    (status = 204),
    Closed,
))]
pub(super) async fn remove(
    state: web::Data<State>,
    caller: Caller,
    InSite(site): InSite,
    After(id): After<i32>,
) -> HttpResponse {
    let remove = async {
        let alert = kept(&state, &site, id).await?;
        let now = Timestamp::now();
        let gone = changes::remove(&state.answers, &caller.author, &alert, now).await;
        match gone.map_err(stopped)? {
            true => Ok(HttpResponse::NoContent().finish()),
            false => Err(Problem::not_found(format!("There is no alert {id}.")).into()),
        }
    };
    said(remove.await)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::made_up;
    use proptest::prelude::*;
    use serde_json::{Value, json};

    proptest! {
        #[test]
        fn an_alert_is_told_to_programs_as_they_wrote_it(definition in made_up::alerts()) {
            prop_assume!(definition.check().is_ok());
            let sent = serde_json::to_string(&AlertShape::of(&definition)).unwrap();
            let back: AlertShape = serde_json::from_str(&sent).unwrap();
            prop_assert_eq!(back.read().map_err(|_| "refused"), Ok(definition));
        }

        #[test]
        fn no_numbers_that_programs_send_do_harm(
            levels in prop::array::uniform3(prop::option::of(any::<f64>())), window in any::<i64>(), every in any::<i64>(), running in any::<u32>(),
            least in any::<u64>(), burns in any::<bool>(), unusual in any::<bool>(),
        ) {
            let [warning, critical, clear] = levels;
            let shape = AlertShape {
                measure: "share failed".into(),
                warning,
                critical,
                clear,
                burns,
                unusual,
                window_minutes: window,
                every_minutes: every,
                running,
                least_samples: least,
                least_locations: running,
                no_data: NoDataWord::Keep,
                service_hours: None,
            };
            if let Ok(read) = shape.read() {
                prop_assert_eq!(read.check(), Ok(()));
            }
        }
    }

    #[test]
    fn what_is_wrong_is_told_with_where_it_stands_and_what_is_not_said_is_usual() {
        let read = |more: Value| {
            let mut body =
                json!({ "measure": "p75 of LCP", "warning": 2500.0, "window_minutes": 15 });
            for (at, value) in more.as_object().unwrap() {
                body[at] = value.clone();
            }
            let shape: AlertShape = serde_json::from_value(body).unwrap();
            shape.read().map_err(|problem| format!("{problem:?}"))
        };
        let usual = read(json!({})).unwrap();
        assert_eq!((usual.every_s, usual.running, usual.least_samples), (60, 1, 0));
        assert_eq!(usual.no_data, NoData::Keep);
        for (more, pointer) in [
            (json!({ "measure": "p75 of gladness" }), "/definition/measure"),
            (json!({ "warning": null }), "/definition/critical"),
            (json!({ "critical": 2000.0 }), "/definition/critical"),
            (json!({ "clear": 2600.0 }), "/definition/clear"),
            (json!({ "window_minutes": 0 }), "/definition/window_minutes"),
            (json!({ "window_minutes": i64::MAX }), "/definition/window_minutes"),
            (json!({ "every_minutes": 61 }), "/definition/every_minutes"),
            (json!({ "running": 0 }), "/definition/running"),
            (json!({ "least_locations": 2 }), "/definition/least_locations"),
            (json!({ "burns": true }), "/definition/measure"),
            (json!({ "burns": true, "unusual": true }), "/definition/unusual"),
            (
                json!({ "service_hours": { "days": [], "from": "06:00", "until": "22:00" } }),
                "/definition/service_hours",
            ),
        ] {
            let says = read(more.clone()).unwrap_err();
            assert!(says.contains(pointer), "{more}: {says}");
        }
    }
}
