//! Reports for programs: what is issued and when, and each issue as it is kept.

use super::asked::{Closed, Unread, query, said, stopped};
use super::hours::HoursShape;
use super::listed::{Nothing, WhichPage, numbered, paged};
use super::shapes::ProblemShape;
use crate::State;
use crate::access::{After, Caller, InSite};
use crate::problem::Problem;
use actix_web::http::StatusCode;
use actix_web::{HttpRequest, HttpResponse, web};
use cadentis_answers::changes::reports::{self as changes, Made, NotKept, Wanted};
use cadentis_answers::kept::{Issue, Report, Site};
use cadentis_answers::reports::{self, MOST_BACK};
use cadentis_core::goal::Period;
use cadentis_core::report::schedule::On;
use cadentis_core::report::{Definition, Kind, Schedule};
use jiff::Timestamp;
use jiff::civil::Time;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// When a report is issued by itself, by the clock of its site.
#[derive(Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct ScheduleShape {
    /// `each_day`, `weekday`, `day_of_month`, or `day_of_quarter` (in January, April, July and October).
    #[schema(example = "day_of_month")]
    on: String,
    /// Of a week 1 for Monday to 7 for Sunday; of a month or a quarter's first month 1 to 31, the last day of shorter ones.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 1, maximum = 31, example = 1)]
    day: Option<i8>,
    /// The time of day; one that clocks skip comes as much later.
    #[schema(example = "06:00")]
    at: String,
}

/// What a report is about, and when it is issued.
#[derive(Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct ReportBody {
    /// 1 to 80 characters.
    #[schema(min_length = 1, max_length = 80)]
    name: String,
    /// `goals_short`, `goals_full`, `timings`, `incidents`, `usage`, `query` or `view`.
    #[schema(example = "goals_full")]
    kind: String,
    /// `month`, `week`, `quarter`, or `rolling` with `days`; each issue covers the last one that is over.
    #[schema(example = "month")]
    period: String,
    /// Of a rolling period, 1 to 366.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 1, maximum = 366)]
    days: Option<u16>,
    /// Ids of goals; none stands for all.
    #[serde(default)]
    goals: Vec<i32>,
    /// Ids of journeys, of timings and usage; none stands for all.
    #[serde(default)]
    journeys: Vec<i32>,
    /// Ids of locations, of timings and usage; none stands for all.
    #[serde(default)]
    locations: Vec<i32>,
    /// In these hours of the site's zone alone, of timings, usage and queries.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    hours: Option<HoursShape>,
    /// What page views of timings and usage are narrowed to, as measures are.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    #[schema(example = "device \"phone\"", max_length = 2000)]
    filter: String,
    /// What a query report asks, as queries are written.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    query: String,
    /// The id of the saved view that a view report tells of.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    view: Option<i32>,
    /// When it is issued by itself; only when asked without one.
    #[serde(default)]
    schedule: Option<ScheduleShape>,
    /// The id of the call list that gets each issue of the schedule.
    #[serde(default)]
    call_list: Option<i32>,
}

impl ReportBody {
    fn of(report: &Report) -> ReportBody {
        let d = &report.definition;
        let schedule = d.schedule.map(|s| {
            let (on, day) = match s.on {
                On::EachDay => ("each_day", None),
                On::Weekday(day) => ("weekday", Some(day)),
                On::DayOfMonth(day) => ("day_of_month", Some(day)),
                On::DayOfQuarter(day) => ("day_of_quarter", Some(day)),
            };
            ScheduleShape { on: on.into(), day, at: s.at.strftime("%H:%M").to_string() }
        });
        ReportBody {
            name: report.name.clone(),
            kind: d.kind.word().into(),
            period: d.period.word().into(),
            days: match d.period {
                Period::Days(days) => Some(days),
                _ => None,
            },
            goals: d.goals.clone(),
            journeys: d.journeys.clone(),
            locations: d.locations.clone(),
            hours: d.hours.as_ref().map(HoursShape::of),
            filter: d.filter.clone(),
            query: d.query.clone(),
            view: d.view,
            schedule,
            call_list: report.list_id,
        }
    }

    fn read(self) -> Result<Wanted, Box<Problem>> {
        let invalid = |at: &str, says: &str| Box::new(Problem::invalid(at, says));
        let Some(kind) = Kind::of_word(&self.kind) else {
            let kinds = Kind::ALL.map(Kind::word).join(", ");
            return Err(invalid("/kind", &format!("It is one of {kinds}.")));
        };
        let period = match (self.period.as_str(), self.days) {
            ("month", _) => Period::Month,
            ("week", _) => Period::Week,
            ("quarter", _) => Period::Quarter,
            ("rolling", Some(days)) => Period::Days(days),
            ("rolling", None) => {
                return Err(invalid("/days", "A rolling period has 1 to 366 days."));
            }
            _ => return Err(invalid("/period", "It is month, week, quarter or rolling.")),
        };
        let schedule = match self.schedule {
            None => None,
            Some(s) => {
                let day = s.day.ok_or_else(|| invalid("/schedule/day", "Say on which day."));
                let on = match s.on.as_str() {
                    "each_day" => On::EachDay,
                    "weekday" => On::Weekday(day?),
                    "day_of_month" => On::DayOfMonth(day?),
                    "day_of_quarter" => On::DayOfQuarter(day?),
                    _ => {
                        let says = "It is each_day, weekday, day_of_month or day_of_quarter.";
                        return Err(invalid("/schedule/on", says));
                    }
                };
                let at = s.at.parse::<Time>();
                let at = at.map_err(|_| invalid("/schedule/at", "A time of day such as 06:00."))?;
                Some(Schedule { on, at })
            }
        };
        let definition = Definition {
            kind,
            period,
            goals: self.goals,
            journeys: self.journeys,
            locations: self.locations,
            hours: HoursShape::read(self.hours.as_ref(), "/hours")?,
            filter: self.filter,
            query: self.query,
            view: self.view,
            schedule,
        };
        Ok(Wanted { known: None, name: self.name, definition, list: self.call_list })
    }
}

/// An issue of a report, without what it says.
#[derive(Serialize, ToSchema)]
pub(super) struct IssueShape {
    id: i32,
    report: i32,
    /// The how manieth of this time.
    number: i32,
    #[schema(value_type = String, format = DateTime)]
    from: Timestamp,
    #[schema(value_type = String, format = DateTime)]
    to: Timestamp,
    #[schema(value_type = String, format = DateTime)]
    made_at: Timestamp,
    author: String,
    /// SHA-256 of what it is kept as, in hexadecimal digits.
    checksum: String,
}

impl IssueShape {
    fn of(issue: Issue) -> IssueShape {
        IssueShape {
            id: issue.id,
            report: issue.report_id,
            number: issue.number,
            from: issue.covers.from,
            to: issue.covers.to,
            made_at: issue.made_at,
            author: issue.author,
            checksum: issue.checksum,
        }
    }
}

/// A report with its newest issue.
#[derive(Serialize, ToSchema)]
pub(super) struct ReportShape {
    id: i32,
    /// Counts up with each change.
    version: i32,
    #[serde(flatten)]
    says: ReportBody,
    /// When it is issued next; `null` when only asked for, or ended.
    #[schema(value_type = Option<String>, format = DateTime)]
    next_at: Option<Timestamp>,
    is_ended: bool,
    newest: Option<IssueShape>,
}

/// What became of it.
#[derive(Serialize, ToSchema)]
pub(super) struct MadeShape {
    id: i32,
}

/// What is changed.
#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(super) struct Read {
    /// The version that was read: when somebody has changed it since, nothing is changed.
    version: i32,
}

/// Which period is issued.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct IssueBody {
    /// So many periods before the last one that is over.
    #[serde(default)]
    #[schema(minimum = 0, maximum = 23)]
    back: usize,
}

async fn report_of(
    state: &State,
    site: &Site,
    id: i32,
) -> Result<(Report, Vec<Issue>), HttpResponse> {
    let found = reports::one(&state.answers, site, id).await.map_err(stopped)?;
    found.ok_or_else(|| Problem::not_found(format!("There is no report {id}.")).into())
}

/// The reports of a site by id, also those that were ended.
#[utoipa::path(get, path = "/sites/{site}/reports", params(("site" = String, Path, example = "marram-ferries"), WhichPage), responses(
    (status = 200, body = Vec<ReportShape>),
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
        let all = reports::list(&state.answers, &site).await.map_err(stopped)?;
        let shape = |(report, newest): (Report, Option<Issue>)| ReportShape {
            id: report.id,
            version: report.version,
            says: ReportBody::of(&report),
            next_at: report.next_at,
            is_ended: report.ended_at.is_some(),
            newest: newest.map(IssueShape::of),
        };
        Ok(page.told(all, |(report, _)| numbered(0, report.id), shape))
    };
    said(all.await)
}

/// Keeps a report: it is issued by itself from then on, where it has a schedule.
#[utoipa::path(post, path = "/sites/{site}/reports", params(("site" = String, Path, example = "marram-ferries")), request_body = ReportBody, responses(
    (status = 201, body = MadeShape),
    Unread,
    (status = 413, body = ProblemShape, content_type = "application/problem+json"),
    (status = 422, body = ProblemShape, content_type = "application/problem+json"),
    Closed,
))]
pub(super) async fn add(
    state: web::Data<State>,
    caller: Caller,
    InSite(site): InSite,
    body: web::Json<ReportBody>,
) -> HttpResponse {
    let add = async {
        let wanted = body.into_inner().read().map_err(|wrong| HttpResponse::from(*wrong))?;
        let kept = changes::save(&state.answers, &caller.author, &site, wanted).await;
        match kept.map_err(stopped)? {
            Ok(id) => Ok(HttpResponse::Created().json(MadeShape { id })),
            Err(wrong) => Err(not_kept(&wrong)),
        }
    };
    said(add.await)
}

/// What is wrong with a report, where in its body.
fn not_kept(wrong: &NotKept) -> HttpResponse {
    let says = crate::fields::sentence(wrong);
    let at = match wrong {
        NotKept::Overtaken => return Problem::new(StatusCode::CONFLICT, says).into(),
        NotKept::Day => "/schedule/day".to_string(),
        NotKept::List | NotKept::NoSchedule => "/call_list".to_string(),
        other => format!("/{}", other.field()),
    };
    Problem::invalid(&at, says).into()
}

/// Lets a report say something else from its next issue on; what was issued stays.
#[utoipa::path(put, path = "/sites/{site}/reports/{id}", params(("site" = String, Path, example = "marram-ferries"), ("id" = i32, Path), Read), request_body = ReportBody, responses(
    (status = 200, body = MadeShape),
    Unread,
    (status = 409, description = "Somebody has changed it since, or it was ended.", body = ProblemShape, content_type = "application/problem+json"),
    (status = 413, body = ProblemShape, content_type = "application/problem+json"),
    (status = 422, body = ProblemShape, content_type = "application/problem+json"),
    Closed,
))]
pub(super) async fn change(
    state: web::Data<State>,
    caller: Caller,
    InSite(site): InSite,
    After(id): After<i32>,
    request: HttpRequest,
    body: web::Json<ReportBody>,
) -> HttpResponse {
    let change = async {
        let bad = |problem: Box<Problem>| HttpResponse::from(*problem);
        let Read { version } = query(&request).map_err(bad)?;
        report_of(&state, &site, id).await?;
        let wanted = body.into_inner().read().map_err(bad)?;
        let wanted = Wanted { known: Some((id, version)), ..wanted };
        let kept = changes::save(&state.answers, &caller.author, &site, wanted).await;
        match kept.map_err(stopped)? {
            Ok(id) => Ok(HttpResponse::Ok().json(MadeShape { id })),
            Err(wrong) => Err(not_kept(&wrong)),
        }
    };
    said(change.await)
}

/// Ends a report: it is issued no more, and what was issued stays.
#[utoipa::path(delete, path = "/sites/{site}/reports/{id}", params(("site" = String, Path, example = "marram-ferries"), ("id" = i32, Path)), responses(
    (status = 204),
    Closed,
))]
pub(super) async fn end(
    state: web::Data<State>,
    caller: Caller,
    InSite(site): InSite,
    After(id): After<i32>,
) -> HttpResponse {
    let end = async {
        match changes::end(&state.answers, &caller.author, &site, id).await.map_err(stopped)? {
            true => Ok(HttpResponse::NoContent().finish()),
            false => {
                let says = format!("There is no report {id}, or it was ended.");
                Err(Problem::not_found(says).into())
            }
        }
    };
    said(end.await)
}

/// The issues of a report, the newest first; the newest 200 are told.
#[utoipa::path(get, path = "/sites/{site}/reports/{id}/issues", params(("site" = String, Path, example = "marram-ferries"), ("id" = i32, Path), WhichPage), responses(
    (status = 200, body = Vec<IssueShape>),
    Unread,
    Closed,
))]
pub(super) async fn issues(
    state: web::Data<State>,
    InSite(site): InSite,
    After(id): After<i32>,
    request: HttpRequest,
) -> HttpResponse {
    let all = async {
        let (page, Nothing {}) = paged(&request)?;
        let (_, issues) = report_of(&state, &site, id).await?;
        let newest = |i: &Issue| numbered(-i.made_at.as_microsecond(), -i.id);
        Ok(page.told(issues, newest, IssueShape::of))
    };
    said(all.await)
}

/// Issues a period that is over: 201 with the new issue, or 200 with the newest of that time where nothing has changed since.
#[utoipa::path(post, path = "/sites/{site}/reports/{id}/issues", params(("site" = String, Path, example = "marram-ferries"), ("id" = i32, Path)), request_body = IssueBody, responses(
    (status = 200, body = MadeShape),
    (status = 201, body = MadeShape),
    Unread,
    (status = 413, body = ProblemShape, content_type = "application/problem+json"),
    (status = 422, body = ProblemShape, content_type = "application/problem+json"),
    Closed,
))]
pub(super) async fn issue(
    state: web::Data<State>,
    caller: Caller,
    InSite(site): InSite,
    After(id): After<i32>,
    body: web::Json<IssueBody>,
) -> HttpResponse {
    let make = async {
        let (report, _) = report_of(&state, &site, id).await?;
        if report.ended_at.is_some() {
            return Err(Problem::not_found(format!("Report {id} was ended.")).into());
        }
        if body.back >= MOST_BACK {
            return Err(Problem::invalid("/back", "So many periods back are 0 to 23.").into());
        }
        let made = changes::issue(&state.answers, &caller.author, &site, &report, body.back).await;
        Ok(match made.map_err(stopped)? {
            Made::New(id) => HttpResponse::Created().json(MadeShape { id }),
            Made::Same(id) => HttpResponse::Ok().json(MadeShape { id }),
        })
    };
    said(make.await)
}

/// What an issue is kept as, byte for byte: SHA-256 over the body is its checksum. Shares are from 0 to 1, times in milliseconds.
#[utoipa::path(get, path = "/sites/{site}/report-issues/{id}", params(("site" = String, Path, example = "marram-ferries"), ("id" = i32, Path)), responses(
    (status = 200, content_type = "application/json"),
    Closed,
))]
pub(super) async fn content(
    state: web::Data<State>,
    InSite(site): InSite,
    After(id): After<i32>,
) -> HttpResponse {
    let one = async {
        let found = reports::issue(&state.answers, &site, id).await.map_err(stopped)?;
        let Some(shown) = found else {
            return Err(Problem::not_found(format!("There is no issue {id}.")).into());
        };
        Ok(HttpResponse::Ok().content_type("application/json").body(shown.kept))
    };
    said(one.await)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::made_up;
    use proptest::prelude::*;
    use serde_json::{Value, json};

    fn read(body: Value) -> Result<Wanted, String> {
        let body: ReportBody = serde_json::from_value(body).map_err(|e| e.to_string())?;
        body.read().map_err(|problem| format!("{problem:?}"))
    }

    proptest! {
        #[test]
        fn what_programs_are_told_of_a_report_is_what_they_may_send_back(report in made_up::reports()) {
            let told = serde_json::to_value(ReportBody::of(&report)).unwrap();
            let again = read(told).unwrap();
            prop_assert_eq!(again.definition, report.definition);
            prop_assert_eq!((again.name, again.list), (report.name, report.list_id));
        }
    }

    #[test]
    fn what_is_wrong_is_told_with_where_it_stands() {
        let with = |at: &str, value: Value| {
            let mut body = json!({ "name": "Usage", "kind": "usage", "period": "month" });
            *body.pointer_mut("").unwrap() = {
                let mut all = body.as_object().unwrap().clone();
                all.insert(at.into(), value);
                Value::Object(all)
            };
            read(body).map(|_| ())
        };
        assert_eq!(with("days", json!(30)), Ok(()), "of a month they say nothing");
        for (at, value, pointer) in [
            ("kind", json!("gladness"), "/kind"),
            ("period", json!("year"), "/period"),
            ("period", json!("rolling"), "/days"),
            ("schedule", json!({ "on": "weekday", "at": "06:00" }), "/schedule/day"),
            ("schedule", json!({ "on": "sometimes", "day": 1, "at": "06:00" }), "/schedule/on"),
            ("schedule", json!({ "on": "each_day", "at": "noon" }), "/schedule/at"),
            (
                "hours",
                json!({ "days": ["mon", "someday"], "from": "06:00", "until": "22:00" }),
                "/hours/days/1",
            ),
            ("hours", json!({ "days": ["mon"], "from": "6", "until": "22:00" }), "/hours/from"),
            ("gladness", json!(1), "unknown field `gladness`"),
        ] {
            let says = with(at, value.clone()).unwrap_err();
            assert!(says.contains(pointer), "{at} {value}: {says}");
        }
    }
}
