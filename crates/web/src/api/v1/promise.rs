//! A goal as programs write it: to be tried, or promised.

use super::asked::{Closed, Unread, ids_of, said, stopped};
use super::hours::HoursShape;
use super::shapes::{Made, ProblemShape};
use crate::State;
use crate::access::{After, Caller, InSite};
use crate::problem::Problem;
use actix_web::http::StatusCode;
use actix_web::{HttpResponse, web};
use cadentis_answers::changes::goals::{self as changes, NotPromised, Promise};
use cadentis_answers::kept::{Goal, Site};
use cadentis_answers::{goals, sites};
use cadentis_core::goal::definition::{BEGINNING, Impossible};
use cadentis_core::goal::{Combine, Definition, FailedRuns, Measure, Period};
use cadentis_core::measure::TextError;
use cadentis_core::text;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A name has at most so many characters.
const LONGEST_NAME: usize = 80;

/// What counts as good.
#[derive(Debug, Clone, Copy, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
enum MeasureWord {
    Availability,
    Uptime,
    Performance,
    Experience,
}

/// Over what it is promised.
#[derive(Debug, Clone, Copy, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
enum PeriodWord {
    Week,
    Month,
    Quarter,
    Rolling,
}

/// How several journeys are one goal.
#[derive(Debug, Clone, Copy, Default, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
enum CombineWord {
    #[default]
    Pooled,
    All,
    Any,
}

/// What a run that failed is to a performance goal.
#[derive(Debug, Clone, Copy, Default, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
enum FailedWord {
    #[default]
    Bad,
    LeftOut,
}

/// What is promised.
#[derive(Debug, Deserialize, ToSchema)]
pub(super) struct DefinitionShape {
    /// The share that is to be good: above 0 and below 1.
    promised: f64,
    measure: MeasureWord,
    /// Of performance: a run within so many milliseconds is good.
    limit_ms: Option<f64>,
    #[serde(default)]
    failed_runs: FailedWord,
    /// Of experience: a share of page views, requests or actions as measures are written, such as
    /// `share of LCP within 2.5 s for family "Timetable"`.
    share_of: Option<String>,
    /// Journeys, by their slugs; none of experience.
    #[serde(default)]
    journeys: Vec<String>,
    #[serde(default)]
    together: CombineWord,
    /// Locations, by their slugs; all of them when there are none.
    #[serde(default)]
    locations: Vec<String>,
    service_hours: Option<HoursShape>,
    period: PeriodWord,
    /// Of a rolling period the days, 1 to 366.
    days: Option<u16>,
}

/// A goal that is to be.
#[derive(Debug, Deserialize, ToSchema)]
pub(super) struct NewGoal {
    /// 80 characters at most; no other goal of the site has it.
    #[schema(min_length = 1, max_length = 80)]
    name: String,
    #[serde(flatten)]
    says: DefinitionShape,
    /// Periods that begin then or later are judged by it; all of them when it does not say.
    #[schema(value_type = Option<String>, format = DateTime)]
    from: Option<Timestamp>,
}

/// A goal that is to say something else.
#[derive(Debug, Deserialize, ToSchema)]
pub(super) struct ChangedGoal {
    /// The version that was read: when somebody has changed it since, nothing is changed.
    version: i32,
    #[serde(flatten)]
    says: NewGoal,
}

/// The version that a goal has now.
#[derive(Serialize, ToSchema)]
pub(super) struct VersionShape {
    version: i32,
}

/// How a goal had been in one period.
#[derive(Serialize, ToSchema)]
pub(super) struct TriedShape {
    #[schema(value_type = String, format = DateTime)]
    from: Timestamp,
    #[schema(value_type = String, format = DateTime)]
    to: Timestamp,
    good: u64,
    bad: u64,
    unmeasured: u64,
    left_out: u64,
    /// Good of good and bad; `null` when nothing was counted.
    share: Option<f64>,
    /// Whether the promise was held, so far where the period goes on; `null` when nothing was counted.
    is_held: Option<bool>,
    /// What of the error budget is left; negative when it was missed.
    left_ms: f64,
}

/// A goal tried on the past.
#[derive(Serialize, ToSchema)]
pub(super) struct TrialShape {
    /// The period at hand and the five before it, newest first.
    periods: Vec<TriedShape>,
    /// The highest share, in steps of a ten-thousandth, that all of them would have held.
    would_have_held: Option<f64>,
}

fn invalid(pointer: &str, says: &str) -> Box<Problem> {
    Box::new(Problem::invalid(pointer, says))
}

fn impossible(why: &Impossible) -> Box<Problem> {
    let at = match why {
        Impossible::NoJourney | Impossible::ManyJourneys => "/journeys",
        Impossible::Promise => "/promised",
        Impossible::Limit => "/limit_ms",
        Impossible::NoDay | Impossible::NoHours => "/service_hours",
        Impossible::Days => "/days",
        Impossible::NoShare(_) | Impossible::NotOfRuns => "/share_of",
    };
    invalid(at, &why.to_string())
}

impl DefinitionShape {
    async fn read(&self, state: &State, site: &Site) -> Result<Definition, HttpResponse> {
        let journeys = sites::journeys(&state.answers, site.id).await.map_err(stopped)?;
        let places = sites::locations(&state.answers).await.map_err(stopped)?;
        let known: Vec<(&str, i32)> = journeys.iter().map(|j| (j.slug.as_str(), j.id)).collect();
        let there: Vec<(&str, i32)> = places.iter().map(|l| (l.slug.as_str(), l.id)).collect();
        let measure = match (self.measure, self.limit_ms) {
            (MeasureWord::Availability, _) => Measure::Availability,
            (MeasureWord::Uptime, _) => Measure::Uptime,
            (MeasureWord::Performance, Some(limit_ms)) => Measure::Performance {
                limit_ms,
                failed: match self.failed_runs {
                    FailedWord::Bad => FailedRuns::CountAsBad,
                    FailedWord::LeftOut => FailedRuns::LeftOut,
                },
            },
            (MeasureWord::Experience, _) => {
                let text = self.share_of.as_deref().unwrap_or_default();
                let of =
                    text.parse().map_err(|e: TextError| invalid("/share_of", &e.to_string()))?;
                Measure::Experience(of)
            }
            (MeasureWord::Performance, None) => {
                return Err(invalid("/limit_ms", "Performance has a limit in milliseconds.").into());
            }
        };
        let period = match (self.period, self.days) {
            (PeriodWord::Week, _) => Period::Week,
            (PeriodWord::Month, _) => Period::Month,
            (PeriodWord::Quarter, _) => Period::Quarter,
            (PeriodWord::Rolling, Some(days)) => Period::Days(days),
            (PeriodWord::Rolling, None) => {
                return Err(invalid("/days", "A rolling period has a number of days.").into());
            }
        };
        let definition = Definition {
            measure,
            combine: match self.together {
                CombineWord::Pooled => Combine::Pooled,
                CombineWord::All => Combine::All,
                CombineWord::Any => Combine::Any,
            },
            journeys: ids_of("journeys", &self.journeys, &known)?,
            locations: ids_of("locations", &self.locations, &there)?,
            service_hours: HoursShape::read(self.service_hours.as_ref(), "/service_hours")?,
            period,
            promised: self.promised,
        };
        definition.check().map_err(|why| HttpResponse::from(impossible(&why)))?;
        Ok(definition)
    }
}

/// What a goal would have been in the period at hand and the five before it; nothing is kept.
#[utoipa::path(post, path = "/sites/{site}/goals/try", params(("site" = String, Path, example = "marram-ferries")), request_body = DefinitionShape, responses(
    (status = 200, body = TrialShape),
    Unread,
    (status = 413, body = ProblemShape, content_type = "application/problem+json"),
    (status = 422, body = ProblemShape, content_type = "application/problem+json"),
    Closed,
))]
pub(super) async fn attempt(
    state: web::Data<State>,
    InSite(site): InSite,
    asked: web::Json<DefinitionShape>,
) -> HttpResponse {
    let tried = async {
        let definition = asked.read(&state, &site).await?;
        let now = Timestamp::now();
        let tried = goals::tried(&state.answers, &site, None, &definition, now).await;
        let tried = tried.map_err(stopped)?;
        let shape = |w: goals::TriedWindow| TriedShape {
            from: w.judged.window.from,
            to: w.judged.window.to,
            good: w.judged.score.good,
            bad: w.judged.score.bad,
            unmeasured: w.judged.score.unmeasured,
            left_out: w.judged.score.left_out,
            share: w.judged.score.share(),
            is_held: w.judged.is_held,
            left_ms: w.judged.budget.left_ms(),
        };
        Ok(HttpResponse::Ok().json(TrialShape {
            periods: tried.windows.into_iter().map(shape).collect(),
            would_have_held: tried.would_have_held,
        }))
    };
    said(tried.await)
}

fn not_promised(why: &NotPromised) -> Box<Problem> {
    match why {
        NotPromised::Impossible(why) => impossible(why),
        NotPromised::NoJourney => invalid("/journeys", "One of these journeys is not there."),
        NotPromised::Taken => invalid("/name", "Another goal of this site has the name."),
        NotPromised::Overtaken => invalid("", "Somebody changed it meanwhile."),
    }
}

/// Promises something.
#[utoipa::path(post, path = "/sites/{site}/goals", params(("site" = String, Path, example = "marram-ferries")), request_body = NewGoal, responses(
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
    new: web::Json<NewGoal>,
) -> HttpResponse {
    let add = async {
        let (name, definition, from) = new.read(&state, &site).await?;
        let promise = Promise { name: &name, definition: &definition, from };
        let made = changes::add(&state.answers, &caller.author, &site, &promise).await;
        match made.map_err(stopped)? {
            Ok(id) => Ok(HttpResponse::Created().json(Made { id })),
            Err(why) => Err(not_promised(&why).into()),
        }
    };
    said(add.await)
}

impl NewGoal {
    /// What is promised, with what it names found.
    async fn read(
        &self,
        state: &State,
        site: &Site,
    ) -> Result<(String, Definition, Timestamp), HttpResponse> {
        let name = text::clean(self.name.trim(), LONGEST_NAME + 1, None);
        if name.is_empty() || name.chars().count() > LONGEST_NAME {
            return Err(invalid("/name", "A name has 1 to 80 characters.").into());
        }
        let definition = self.says.read(state, site).await?;
        let from = self.from.unwrap_or(BEGINNING);
        if !(1970..=2100).contains(&from.to_zoned(jiff::tz::TimeZone::UTC).year()) {
            return Err(invalid("/from", "A moment from 1970 to 2100.").into());
        }
        Ok((name, definition, from))
    }
}

pub(super) async fn goal_of(state: &State, site: &Site, id: i32) -> Result<Goal, HttpResponse> {
    let none = || HttpResponse::from(Problem::not_found(format!("There is no goal {id}.")));
    changes::goal(&state.answers, site, id).await.map_err(stopped)?.ok_or_else(none)
}

/// Lets a goal say something else, from a moment on: what began before it is judged as it was promised then.
#[utoipa::path(put, path = "/sites/{site}/goals/{id}", params(("site" = String, Path, example = "marram-ferries"), ("id" = i32, Path)), request_body = ChangedGoal, responses(
    (status = 200, body = VersionShape),
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
    changed: web::Json<ChangedGoal>,
) -> HttpResponse {
    let change = async {
        let goal = goal_of(&state, &site, id).await?;
        let (name, definition, from) = changed.says.read(&state, &site).await?;
        let promise = Promise { name: &name, definition: &definition, from };
        let based = (&goal, changed.version);
        let set = changes::set(&state.answers, &caller.author, &site, based, &promise).await;
        match set.map_err(stopped)? {
            Ok(version) => Ok(HttpResponse::Ok().json(VersionShape { version })),
            Err(NotPromised::Overtaken) => {
                let says = "Somebody changed this goal meanwhile.";
                Err(Problem::new(StatusCode::CONFLICT, says).into())
            }
            Err(why) => Err(not_promised(&why).into()),
        }
    };
    said(change.await)
}

/// Takes a goal away, with what was taken out of it.
#[utoipa::path(delete, path = "/sites/{site}/goals/{id}", params(("site" = String, Path, example = "marram-ferries"), ("id" = i32, Path)), responses(
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
        let goal = goal_of(&state, &site, id).await?;
        let gone = changes::remove(&state.answers, &caller.author, &site, &goal).await;
        match gone.map_err(stopped)? {
            true => Ok(HttpResponse::NoContent().finish()),
            false => Err(Problem::not_found(format!("There is no goal {id}.")).into()),
        }
    };
    said(remove.await)
}
