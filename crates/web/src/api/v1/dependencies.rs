//! Dependencies by the API: states that others post, and CloudEvents 1.0 with states and announcements.

use super::asked::{Closed, Unread, moment, said, stopped};
use super::listed::{Nothing, WhichPage, named, paged};
use super::shapes::ProblemShape;
use crate::access::{Caller, InSite};
use crate::fields::sentence;
use crate::problem::Problem;
use actix_web::http::StatusCode;
use actix_web::http::header::CONTENT_TYPE;
use actix_web::{HttpRequest, HttpResponse, web};
use cadentis_answers::changes::dependencies::{self as changes, NotTaken, Posted};
use cadentis_answers::dependencies::{self, Told};
use cadentis_core::calendar::Stretch;
use cadentis_core::dependency::{Announcement, Kind, Phase, State as How, USUAL_MINUTES};
use cadentis_core::text;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use utoipa::ToSchema;

/// How a dependency is.
#[derive(Clone, Copy, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum StateShape {
    Ok,
    Degraded,
    Down,
    /// Nobody has said, or what was said has expired.
    Unknown,
}

impl StateShape {
    fn of(state: How) -> StateShape {
        match state {
            How::Ok => StateShape::Ok,
            How::Degraded => StateShape::Degraded,
            How::Down => StateShape::Down,
            How::Unknown => StateShape::Unknown,
        }
    }

    fn state(self) -> How {
        match self {
            StateShape::Ok => How::Ok,
            StateShape::Degraded => How::Degraded,
            StateShape::Down => How::Down,
            StateShape::Unknown => How::Unknown,
        }
    }
}

/// What a site stands on, as it is said to be now.
#[derive(Serialize, ToSchema)]
pub struct DependencyShape {
    /// Its name in addresses.
    slug: String,
    name: String,
    state: StateShape,
    /// Since when it is so, as far as posts of the last day tell.
    #[schema(value_type = Option<String>, format = DateTime)]
    since: Option<Timestamp>,
    says: String,
    link: String,
    /// Hosts whose requests are its own.
    hosts: Vec<String>,
    /// When it becomes unknown, if nobody says more.
    #[schema(value_type = Option<String>, format = DateTime)]
    expires_at: Option<Timestamp>,
}

impl DependencyShape {
    fn of(t: Told) -> DependencyShape {
        let last = t.last;
        DependencyShape {
            slug: t.dependency.slug,
            name: t.dependency.name,
            hosts: t.dependency.hosts,
            state: StateShape::of(t.state),
            since: t.since,
            says: last.as_ref().map_or(String::new(), |p| p.says.clone()),
            link: last.as_ref().map_or(String::new(), |p| p.link.clone()),
            expires_at: last.map(|p| p.expires_at),
        }
    }
}

/// A state that is posted.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewState {
    state: StateShape,
    /// What it is called on pages; 80 characters at most.
    #[schema(max_length = 80)]
    name: Option<String>,
    /// In words; 500 characters at most.
    #[serde(default)]
    #[schema(max_length = 500)]
    says: String,
    /// An address over http or https.
    #[serde(default)]
    link: String,
    /// For how long it is good, from 1 to 10080 minutes; 60 when it does not say. Then it is unknown.
    #[schema(minimum = 1, maximum = 10080)]
    minutes: Option<i64>,
}

/// An event of CloudEvents 1.0 as JSON. Of type `cadentis.dependency.state` its subject is a dependency and its data a state;
/// of type `cadentis.announcement` its data is what is announced.
#[derive(Deserialize, ToSchema)]
pub struct CloudEvent {
    /// `1.0`.
    specversion: String,
    /// With the source, what tells it from all others: the same again changes nothing.
    id: String,
    source: String,
    #[serde(rename = "type")]
    kind: String,
    /// The dependency's name in addresses.
    subject: Option<String>,
    /// When it was so; now, when it does not say.
    #[schema(value_type = Option<String>, format = DateTime)]
    time: Option<String>,
    #[schema(value_type = Object)]
    data: Option<Value>,
}

/// What is announced of a dependency.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewAnnouncement {
    /// What whoever announces it calls it: later words about it have the same.
    id: String,
    /// `outage`, `planned` or `advisory`.
    kind: String,
    /// `announced`, `started`, `moved`, `cancelled` or `ended`.
    phase: String,
    /// 80 characters at most.
    title: String,
    #[serde(default)]
    says: String,
    #[serde(default)]
    link: String,
    /// From when.
    #[schema(value_type = String, format = DateTime)]
    from: String,
    /// Until when, where that is known.
    #[schema(value_type = Option<String>, format = DateTime)]
    to: Option<String>,
}

/// Whether something was changed by it.
#[derive(Serialize, ToSchema)]
pub struct Taken {
    /// `false` when the same came before, or something later was told already.
    taken: bool,
}

const TYPE_STATE: &str = "cadentis.dependency.state";
const TYPE_ANNOUNCEMENT: &str = "cadentis.announcement";
/// A moment of an event lies at most so far from now.
const MOST_OFF_S: i64 = 24 * 3_600;

fn invalid(pointer: &str, says: &str) -> HttpResponse {
    HttpResponse::from(Problem::invalid(pointer, says))
}

fn not_taken(why: &NotTaken, below: &str) -> HttpResponse {
    let field = match why {
        NotTaken::Slug if below.is_empty() => return Problem::not_found(sentence(why)).into(),
        NotTaken::Slug => "/subject".to_string(),
        NotTaken::TooMany => return Problem::new(StatusCode::CONFLICT, sentence(why)).into(),
        NotTaken::Minutes => format!("{below}/minutes"),
        NotTaken::Title => format!("{below}/title"),
        NotTaken::Link => format!("{below}/link"),
        NotTaken::Hosts => format!("{below}/hosts"),
        NotTaken::Moment => format!("{below}/from"),
    };
    invalid(&field, &sentence(why))
}

/// What the site stands on by slug, and how it is said to be now.
#[utoipa::path(get, path = "/sites/{site}/dependencies", params(("site" = String, Path, example = "marram-ferries"), WhichPage), responses(
    (status = 200, body = Vec<DependencyShape>),
    Unread,
    Closed,
))]
pub async fn list(
    state: web::Data<crate::State>,
    InSite(site): InSite,
    request: HttpRequest,
) -> HttpResponse {
    let all = async {
        let (page, Nothing {}) = paged(&request)?;
        let now = Timestamp::now();
        let day = Stretch::last(86_400, now);
        let told = dependencies::ask(&state.answers, &site, Stretch { to: now, ..day }, now).await;
        let told = told.map_err(stopped)?;
        Ok(page.told(told, |t| named(&t.dependency.slug), DependencyShape::of))
    };
    said(all.await)
}

/// Says how a dependency is; one that is not there yet is made.
#[utoipa::path(post, path = "/sites/{site}/dependencies/{slug}/state", request_body = NewState,
    params(("site" = String, Path, example = "marram-ferries"), ("slug" = String, Path, example = "payment-gateway")), responses(
    (status = 200, body = Taken),
    Unread,
    (status = 409, body = ProblemShape, content_type = "application/problem+json"),
    (status = 413, body = ProblemShape, content_type = "application/problem+json"),
    (status = 422, body = ProblemShape, content_type = "application/problem+json"),
    Closed,
))]
pub async fn post(
    state: web::Data<crate::State>,
    caller: Caller,
    InSite(site): InSite,
    path: web::Path<(String, String)>,
    new: web::Json<NewState>,
) -> HttpResponse {
    let slug = path.into_inner().1;
    let posted = async {
        let (by, now) = (&caller.author, (Timestamp::now(), None));
        let posted = posted(&slug, &new);
        let taken = changes::post(&state.answers, by, &site, &posted, now);
        match taken.await.map_err(stopped)? {
            Ok(taken) => Ok(HttpResponse::Ok().json(Taken { taken })),
            Err(why) => Err(not_taken(&why, "")),
        }
    };
    said(posted.await)
}

fn posted<'a>(slug: &'a str, new: &'a NewState) -> Posted<'a> {
    Posted {
        slug,
        name: new.name.as_deref(),
        state: new.state.state(),
        says: &new.says,
        link: &new.link,
        minutes: new.minutes.unwrap_or(USUAL_MINUTES),
    }
}

/// An event whose attributes are headers (binary mode of CloudEvents over HTTP), or the whole of which is the body.
fn event(request: &HttpRequest, body: &[u8]) -> Result<CloudEvent, String> {
    let header = |name: &str| request.headers().get(name).and_then(|v| v.to_str().ok());
    let unread = |e: serde_json::Error| format!("The body cannot be read: {e}.");
    match header("ce-id") {
        None => serde_json::from_slice(body).map_err(unread),
        Some(id) => {
            let of = |name: &str| header(name).map(str::to_string);
            let needed =
                |name: &str| of(name).ok_or_else(|| format!("The header {name} is missing."));
            Ok(CloudEvent {
                specversion: needed("ce-specversion")?,
                id: id.to_string(),
                source: needed("ce-source")?,
                kind: needed("ce-type")?,
                subject: of("ce-subject"),
                time: of("ce-time"),
                data: Some(serde_json::from_slice(body).map_err(unread)?),
            })
        }
    }
}

/// Takes an event (CloudEvents 1.0, structured or binary): a state of a dependency, or what is announced of one.
#[utoipa::path(post, path = "/sites/{site}/events", request_body(content = CloudEvent, content_type = "application/cloudevents+json"),
    params(("site" = String, Path, example = "marram-ferries")), responses(
    (status = 200, body = Taken),
    Unread,
    (status = 409, body = ProblemShape, content_type = "application/problem+json"),
    (status = 413, body = ProblemShape, content_type = "application/problem+json"),
    (status = 415, body = ProblemShape, content_type = "application/problem+json"),
    (status = 422, body = ProblemShape, content_type = "application/problem+json"),
    Closed,
))]
pub async fn events(
    state: web::Data<crate::State>,
    caller: Caller,
    InSite(site): InSite,
    request: HttpRequest,
    body: web::Bytes,
) -> HttpResponse {
    let taken = async {
        let kind = request.headers().get(CONTENT_TYPE).and_then(|v| v.to_str().ok()).unwrap_or("");
        let kind = kind.split(';').next().unwrap_or("").trim().to_ascii_lowercase();
        if !matches!(kind.as_str(), "application/cloudevents+json" | "application/json") {
            let says = "An event is application/cloudevents+json, or application/json with its attributes as ce- headers.";
            return Err(Problem::new(StatusCode::UNSUPPORTED_MEDIA_TYPE, says).into());
        }
        let event = event(&request, &body)
            .map_err(|says| HttpResponse::from(Problem::new(StatusCode::BAD_REQUEST, says)))?;
        if event.specversion != "1.0" {
            return Err(invalid("/specversion", "Events of CloudEvents 1.0 are taken."));
        }
        if event.id.is_empty() || event.source.is_empty() {
            return Err(invalid("/id", "An event has an id and a source."));
        }
        let now = Timestamp::now();
        let at = moment("time", &event.time)
            .ok()
            .map(|at| at.unwrap_or(now))
            .filter(|at| at.duration_since(now).as_secs().abs() <= MOST_OFF_S);
        let Some(at) = at else {
            return Err(invalid(
                "/time",
                "A moment within a day of now, such as 2026-11-22T05:00:00Z.",
            ));
        };
        let slug = event.subject.clone().unwrap_or_default();
        let data = event.data.clone().unwrap_or_default();
        let told = Some((event.source.as_str(), event.id.as_str()));
        let unread = |e: serde_json::Error| {
            invalid(
                "/data",
                &format!("It cannot be read: {}.", text::clean(&e.to_string(), 200, None)),
            )
        };
        let taken = match event.kind.as_str() {
            TYPE_STATE => {
                let new: NewState = serde_json::from_value(data).map_err(unread)?;
                let posted = posted(&slug, &new);
                changes::post(&state.answers, &caller.author, &site, &posted, (at.min(now), told))
                    .await
            }
            TYPE_ANNOUNCEMENT => {
                let new: NewAnnouncement = serde_json::from_value(data).map_err(unread)?;
                let wrong = |(field, says): (&str, &str)| invalid(&format!("/data/{field}"), says);
                let what = announcement(&new).map_err(wrong)?;
                let what = (slug.as_str(), &what);
                changes::announce(&state.answers, &caller.author, &site, what, (at, told)).await
            }
            _ => {
                let says =
                    format!("There are events of the types {TYPE_STATE} and {TYPE_ANNOUNCEMENT}.");
                return Err(invalid("/type", &says));
            }
        };
        match taken.map_err(stopped)? {
            Ok(taken) => Ok(HttpResponse::Ok().json(Taken { taken })),
            Err(why) => Err(not_taken(&why, "/data")),
        }
    };
    said(taken.await)
}

/// What is announced, or the field that is wrong and what would be right.
fn announcement(new: &NewAnnouncement) -> Result<Announcement, (&'static str, &'static str)> {
    const MOMENT: &str = "A moment such as 2026-11-22T05:00:00Z.";
    let kind =
        Kind::of_word(&new.kind).ok_or(("kind", "There are outage, planned and advisory."))?;
    let phase = Phase::of_word(&new.phase)
        .ok_or(("phase", "There are announced, started, moved, cancelled and ended."))?;
    if new.id.trim().is_empty() {
        return Err(("id", "An announcement has an id, by which later words about it are known."));
    }
    let from = moment("from", &Some(new.from.clone())).ok().flatten().ok_or(("from", MOMENT))?;
    Ok(Announcement {
        subject: new.id.clone(),
        kind,
        phase,
        title: text::clean(new.title.trim(), 200, None),
        says: text::clean(new.says.trim(), 600, None),
        link: new.link.clone(),
        from,
        to: moment("to", &new.to).map_err(|_| ("to", MOMENT))?,
    })
}
