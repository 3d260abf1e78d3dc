//! Maintenance, for programs: planned, listed with when it comes, ended, called off.

use super::asked::{Closed, Unread, ids_of, said, stopped};
use super::listed::{Nothing, WhichPage, numbered, paged};
use super::shapes::{Made, ProblemShape, StretchShape};
use crate::State;
use crate::access::{After, Caller, InSite};
use crate::fields::sentence;
use crate::problem::Problem;
use actix_web::http::StatusCode;
use actix_web::{HttpRequest, HttpResponse, web};
use cadentis_answers::changes::maintenance::{self as changes, LONGEST_NAME, NotPlanned};
use cadentis_answers::kept::{Planned, Site};
use cadentis_answers::maintenance::{self, Plan, Plans};
use cadentis_answers::sites;
use cadentis_core::calendar::{Clock, Length, Maintenance, Reach, Repeat, Rule, Window, zone};
use cadentis_core::text;
use jiff::civil::DateTime;
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// So many of what comes are told.
const NEXT: usize = 5;

/// What becomes of runs meanwhile.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
enum MeanwhileShape {
    /// They go on and do not count.
    #[default]
    NotCounted,
    /// They are not made.
    Held,
}

/// A window that is not over.
#[derive(Serialize, ToSchema)]
pub(super) struct WindowShape {
    id: i32,
    name: String,
    detail: String,
    /// Journeys and locations that it is for, by their slugs; all of them when there are none.
    journeys: Vec<String>,
    locations: Vec<String>,
    runs: MeanwhileShape,
    /// Whose clock says when: `UTC`, a zone, or `each location`.
    clock: String,
    /// The occurrence that goes on now.
    goes_on: Option<StretchShape>,
    /// The next five within eight weeks, with the one that goes on.
    comes: Vec<StretchShape>,
    author: String,
}

impl WindowShape {
    fn of(plan: &Plan, all: &Plans) -> WindowShape {
        let says = &plan.planned.says;
        let journey = |id: &i32| all.journeys.iter().find(|j| j.id == *id).map(|j| j.slug.clone());
        let place = |id: &i32| all.locations.iter().find(|l| l.id == *id).map(|l| l.slug.clone());
        WindowShape {
            id: plan.planned.id,
            name: says.window.why.clone(),
            detail: plan.planned.detail.clone(),
            journeys: says.reach.journeys.iter().filter_map(journey).collect(),
            locations: says.reach.locations.iter().filter_map(place).collect(),
            runs: if says.holds { MeanwhileShape::Held } else { MeanwhileShape::NotCounted },
            clock: says.window.clock.name().into(),
            goes_on: plan.goes_on.map(StretchShape::of),
            comes: plan.comes.iter().take(NEXT).map(|s| StretchShape::of(*s)).collect(),
            author: plan.planned.author.clone(),
        }
    }
}

/// Maintenance that is to be.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct NewWindow {
    /// 80 characters at most.
    #[schema(min_length = 1, max_length = 80)]
    name: String,
    /// 500 characters at most.
    #[serde(default)]
    #[schema(max_length = 500)]
    detail: String,
    /// When the first one begins, by its own clock, such as `2026-11-29T02:00`; now when it does not say.
    begins: Option<String>,
    /// How long each lasts, exactly.
    #[schema(minimum = 1, maximum = 527040)]
    minutes: i64,
    /// Whose clock says when: `UTC`, a zone such as `Europe/Oslo`, or `each location`; the site's when it does not say.
    clock: Option<String>,
    /// How it comes again: the value of an RRULE (RFC 5545), such as `FREQ=WEEKLY;BYDAY=SU`; not again when it does not say.
    repeats: Option<String>,
    /// Journeys and locations that it is for, by their slugs; all of them when there are none.
    #[serde(default)]
    journeys: Vec<String>,
    #[serde(default)]
    locations: Vec<String>,
    #[serde(default)]
    runs: MeanwhileShape,
}

/// A window lasts so many minutes at most.
const LONGEST_MINUTES: i64 = 366 * 24 * 60;

impl NewWindow {
    async fn read(
        &self,
        state: &State,
        site: &Site,
        now: Timestamp,
    ) -> Result<Maintenance, HttpResponse> {
        let invalid = |at: &str, says: &str| HttpResponse::from(Problem::invalid(at, says));
        let name = text::clean(self.name.trim(), LONGEST_NAME + 1, None);
        if name.is_empty() || name.chars().count() > LONGEST_NAME {
            return Err(invalid("/name", "A name has 1 to 80 characters."));
        }
        let clock = match self.clock.as_deref() {
            None => Clock::Zone(site.zone.clone()),
            Some("UTC") => Clock::Utc,
            Some(Clock::EACH_LOCATION) => Clock::Location,
            Some(name) => {
                let zone = zone(name).map_err(|e| invalid("/clock", &sentence(&e)))?;
                Clock::Zone(zone)
            }
        };
        let here = match &clock {
            Clock::Zone(zone) => zone.clone(),
            Clock::Utc | Clock::Location => TimeZone::UTC,
        };
        let first = match &self.begins {
            None if clock == Clock::Location => {
                return Err(invalid(
                    "/begins",
                    "On each location’s own clock it says when it begins.",
                ));
            }
            None => here.to_datetime(now),
            Some(given) => {
                let read: Option<DateTime> = given.parse().ok();
                let years = |at: &DateTime| (1970..=2100).contains(&at.year());
                let says = "A date and time of day such as 2026-11-29T02:00, from 1970 to 2100.";
                read.filter(years).ok_or_else(|| invalid("/begins", says))?
            }
        };
        if !(1..=LONGEST_MINUTES).contains(&self.minutes) {
            return Err(invalid("/minutes", "It lasts 1 to 527040 minutes."));
        }
        let repeat = match self.repeats.as_deref() {
            None => Repeat::Once,
            Some(text) => {
                let rule = Rule::parse(text, first, &here);
                Repeat::Rule(rule.map_err(|e| invalid("/repeats", &sentence(&e)))?)
            }
        };
        let journeys = sites::journeys(&state.answers, site.id).await.map_err(stopped)?;
        let places = sites::locations(&state.answers).await.map_err(stopped)?;
        let known: Vec<(&str, i32)> = journeys.iter().map(|j| (j.slug.as_str(), j.id)).collect();
        let there: Vec<(&str, i32)> = places.iter().map(|l| (l.slug.as_str(), l.id)).collect();
        let reach = Reach {
            journeys: ids_of("journeys", &self.journeys, &known)?,
            locations: ids_of("locations", &self.locations, &there)?,
        };
        let length = Length::Exact(SignedDuration::from_mins(self.minutes));
        let window = Window::once(first, length, clock, name).repeating(repeat);
        Ok(Maintenance { window, reach, holds: self.runs == MeanwhileShape::Held })
    }
}

/// How something that was not planned is told.
fn not_planned(why: &NotPlanned) -> HttpResponse {
    let at = match why {
        NotPlanned::Overtaken => {
            return Problem::new(StatusCode::CONFLICT, sentence(why)).into();
        }
        NotPlanned::Window(_) | NotPlanned::Maintenance(_) => "/repeats",
        NotPlanned::Over => "/begins",
        NotPlanned::TooMany | NotPlanned::NotNow => "",
    };
    Problem::invalid(at, sentence(why)).into()
}

/// What is planned and not over, what goes on first, then by when it comes; what does not come within eight weeks last.
#[utoipa::path(get, path = "/sites/{site}/maintenance", params(("site" = String, Path, example = "marram-ferries"), WhichPage), responses(
    (status = 200, body = Vec<WindowShape>),
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
        let told = maintenance::ask(&state.answers, &site, Timestamp::now()).await;
        let told = told.map_err(stopped)?;
        let begins = |plan: &&Plan| {
            let next = plan.goes_on.or(plan.comes.first().copied());
            let begins = next.map_or(i64::MAX, |s| s.from.as_microsecond());
            numbered(if plan.goes_on.is_some() { i64::MIN } else { begins }, plan.planned.id)
        };
        let plans = told.plans.iter().collect();
        Ok(page.told(plans, begins, |plan: &Plan| WindowShape::of(plan, &told)))
    };
    said(all.await)
}

/// Plans something. What of it lies in the past is left as it was.
#[utoipa::path(post, path = "/sites/{site}/maintenance", params(("site" = String, Path, example = "marram-ferries")), request_body = NewWindow, responses(
    (status = 201, body = Made),
    Unread,
    (status = 413, body = ProblemShape, content_type = "application/problem+json"),
    (status = 422, body = ProblemShape, content_type = "application/problem+json"),
    Closed,
))]
pub(super) async fn plan(
    state: web::Data<State>,
    caller: Caller,
    InSite(site): InSite,
    new: web::Json<NewWindow>,
) -> HttpResponse {
    let plan = async {
        let now = Timestamp::now();
        let says = new.read(&state, &site, now).await?;
        let said = (&says, new.detail.as_str());
        let made = changes::plan(&state.answers, &caller.author, &site, said, now).await;
        match made.map_err(stopped)? {
            Ok(id) => Ok(HttpResponse::Created().json(Made { id })),
            Err(why) => Err(not_planned(&why)),
        }
    };
    said(plan.await)
}

async fn planned(state: &State, site: &Site, id: i32) -> Result<Planned, HttpResponse> {
    let found = changes::planned(&state.answers, site, id).await.map_err(stopped)?;
    found.ok_or_else(|| Problem::not_found(format!("There is no maintenance {id}.")).into())
}

/// Ends what goes on now; it comes again as planned.
#[utoipa::path(post, path = "/sites/{site}/maintenance/{id}/end", params(("site" = String, Path, example = "marram-ferries"), ("id" = i32, Path)), responses(
    (status = 204),
    (status = 409, description = "Somebody has changed it since.", body = ProblemShape, content_type = "application/problem+json"),
    (status = 422, description = "It does not go on now.", body = ProblemShape, content_type = "application/problem+json"),
    Closed,
))]
pub(super) async fn end(
    state: web::Data<State>,
    caller: Caller,
    InSite(site): InSite,
    After(id): After<i32>,
) -> HttpResponse {
    let end = async {
        let was = planned(&state, &site, id).await?;
        let now = Timestamp::now();
        let done = changes::end(&state.answers, &caller.author, &site, &was, now).await;
        match done.map_err(stopped)? {
            Ok(()) => Ok(HttpResponse::NoContent().finish()),
            Err(why) => Err(not_planned(&why)),
        }
    };
    said(end.await)
}

/// Calls off what is to come of a window; what has been stays as it was.
#[utoipa::path(delete, path = "/sites/{site}/maintenance/{id}", params(("site" = String, Path, example = "marram-ferries"), ("id" = i32, Path)), responses(
    (status = 204),
    (status = 409, description = "Somebody has changed it since.", body = ProblemShape, content_type = "application/problem+json"),
    (status = 422, description = "It is over.", body = ProblemShape, content_type = "application/problem+json"),
    Closed,
))]
pub(super) async fn call_off(
    state: web::Data<State>,
    caller: Caller,
    InSite(site): InSite,
    After(id): After<i32>,
) -> HttpResponse {
    let off = async {
        let was = planned(&state, &site, id).await?;
        let now = Timestamp::now();
        let done = changes::call_off(&state.answers, &caller.author, &site, &was, now).await;
        match done.map_err(stopped)? {
            Ok(()) => Ok(HttpResponse::NoContent().finish()),
            Err(why) => Err(not_planned(&why)),
        }
    };
    said(off.await)
}
