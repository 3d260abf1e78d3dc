//! Markers, for programs: pinned, read, and what was before and after them.

use super::asked::{Closed, Unread, When, moment, query, said, stopped};
use super::listed::{WhichPage, numbered, paged};
use super::shapes::{Made, ProblemShape, StretchShape};
use crate::State;
use crate::access::{After, Caller, InSite};
use crate::fields::sentence;
use crate::problem::Problem;
use actix_web::http::StatusCode;
use actix_web::{HttpRequest, HttpResponse, web};
use cadentis_answers::changes::markers::{self as changes, NotPinned};
use cadentis_answers::kept::{Marker, Site};
use cadentis_answers::markers::{self, Measured, Pair, Side};
use cadentis_core::marker::{
    Kind, LONGEST_DETAIL, LONGEST_LINK, LONGEST_TITLE, LONGEST_VERSION, Said,
};
use cadentis_core::text;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Something that happened, pinned to the time axis.
#[derive(Serialize, ToSchema)]
pub(super) struct MarkerShape {
    id: i32,
    #[schema(value_type = String, format = DateTime)]
    at: jiff::Timestamp,
    kind: KindShape,
    title: String,
    detail: String,
    /// Which version, of a release.
    version: String,
    link: String,
    /// Who pinned it.
    author: String,
    /// Whether every site has it.
    on_every_site: bool,
}

impl MarkerShape {
    fn of(m: Marker) -> MarkerShape {
        MarkerShape {
            id: m.id,
            at: m.at,
            kind: KindShape::of(m.said.kind),
            title: m.said.title,
            detail: m.said.detail,
            version: m.said.version,
            link: m.said.link,
            author: m.author,
            on_every_site: m.is_everywhere,
        }
    }
}

/// What a marker tells of.
#[derive(Clone, Copy, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub(super) enum KindShape {
    Release,
    Change,
    #[default]
    Note,
}

impl KindShape {
    fn of(kind: Kind) -> KindShape {
        match kind {
            Kind::Release => KindShape::Release,
            Kind::Change => KindShape::Change,
            Kind::Note => KindShape::Note,
        }
    }

    fn kind(self) -> Kind {
        match self {
            KindShape::Release => Kind::Release,
            KindShape::Change => Kind::Change,
            KindShape::Note => Kind::Note,
        }
    }
}

/// A marker that is to be.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct NewMarker {
    /// Now, when it does not say.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub at: Option<String>,
    /// 80 characters at most.
    #[schema(min_length = 1, max_length = 80)]
    pub title: String,
    /// 500 characters at most.
    #[serde(default)]
    #[schema(max_length = 500)]
    pub detail: String,
    #[serde(default)]
    pub kind: KindShape,
    /// Which version, of a release.
    #[serde(default)]
    #[schema(max_length = 80)]
    pub version: String,
    /// An address over http or https.
    #[serde(default)]
    #[schema(max_length = 500)]
    pub link: String,
}

/// What is pinned to the time axis, the oldest first.
#[utoipa::path(get, path = "/sites/{site}/markers", params(("site" = String, Path, example = "marram-ferries"), When, WhichPage), responses(
    (status = 200, body = Vec<MarkerShape>),
    Unread,
    Closed,
))]
pub(super) async fn list(
    state: web::Data<State>,
    InSite(site): InSite,
    request: HttpRequest,
) -> HttpResponse {
    let all = async {
        let (page, when) = paged::<When>(&request)?;
        let wanted = (when.stretch()?, page.after_moment(1)?, page.most + 1);
        let all = markers::after(&state.answers, &site, wanted).await.map_err(stopped)?;
        Ok(page.told(all, |m| numbered(m.at.as_microsecond(), m.id), MarkerShape::of))
    };
    said(all.await)
}

/// Pins a marker to a moment: a release, something that happened.
#[utoipa::path(post, path = "/sites/{site}/markers", params(("site" = String, Path, example = "marram-ferries")), request_body = NewMarker, responses(
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
    new: web::Json<NewMarker>,
) -> HttpResponse {
    let add = async {
        let invalid =
            |pointer: &str, says: &str| HttpResponse::from(Problem::invalid(pointer, says));
        let at = match moment("at", &new.at) {
            Ok(at) => at.unwrap_or_else(Timestamp::now),
            Err(_) => {
                let says = "A moment such as 2026-11-22T05:00:00Z, from 1970 to 2100.";
                return Err(invalid("/at", says));
            }
        };
        let line = |text: &str, most: usize| text::clean(text.trim(), most + 1, None);
        let wanted = Said {
            kind: new.kind.kind(),
            title: line(&new.title, LONGEST_TITLE),
            detail: line(&new.detail, LONGEST_DETAIL),
            version: line(&new.version, LONGEST_VERSION),
            link: line(&new.link, LONGEST_LINK),
        };
        let made = changes::add(&state.answers, &caller.author, &site, (at, &wanted), false).await;
        match made.map_err(stopped)? {
            Ok(id) => Ok(HttpResponse::Created().json(Made { id })),
            Err(NotPinned::Wrong(e)) => Err(invalid(&format!("/{}", e.field()), &sentence(&e))),
            Err(why) => Err(Problem::new(StatusCode::FORBIDDEN, sentence(&why)).into()),
        }
    };
    said(add.await)
}

/// Takes a marker away.
#[utoipa::path(delete, path = "/sites/{site}/markers/{id}", params(("site" = String, Path, example = "marram-ferries"), ("id" = i32, Path)), responses(
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
        let marker = marker_of(&state, &site, id).await?;
        let gone = changes::remove(&state.answers, &caller.author, &marker, true).await;
        match gone.map_err(stopped)? {
            Ok(true) => Ok(HttpResponse::NoContent().finish()),
            Ok(false) => Err(none(id)),
            Err(why) => Err(Problem::new(StatusCode::FORBIDDEN, sentence(&why)).into()),
        }
    };
    said(remove.await)
}

fn none(id: i32) -> HttpResponse {
    Problem::not_found(format!("There is no marker {id}.")).into()
}

async fn marker_of(state: &State, site: &Site, id: i32) -> Result<Marker, HttpResponse> {
    let marker = markers::one(&state.answers, site, id).await.map_err(stopped)?;
    marker.ok_or_else(|| none(id))
}

/// What can be said of a difference.
#[derive(Clone, Copy, Serialize, ToSchema)]
#[serde(rename_all = "snake_case")]
enum VerdictShape {
    /// Surely, and by enough to be noticed.
    Worse,
    Better,
    /// The interval of the difference holds none, or it is too small to be noticed.
    NotSure,
    /// One side has nothing.
    NoData,
}

/// A measure before and after.
#[derive(Serialize, ToSchema)]
struct ComparedShape {
    /// As measures are written.
    measure: String,
    /// Shares from 0 to 1, times in milliseconds; `null` where there is nothing.
    before: Option<f64>,
    after: Option<f64>,
    /// 95 % interval of what was after less what was before.
    difference_low: Option<f64>,
    difference_high: Option<f64>,
    samples_before: u64,
    samples_after: u64,
    verdict: VerdictShape,
}

impl ComparedShape {
    fn of(pair: &Pair) -> ComparedShape {
        let interval = pair.shift.and_then(|s| s.interval);
        ComparedShape {
            measure: match pair.what {
                Measured::Vital(vital) => format!("p75 of {}", vital.name()),
                Measured::WithErrors => "share with errors".into(),
                Measured::Abandoned => "share abandoned".into(),
                Measured::Duration => "p75 of run duration".into(),
                Measured::Availability => "availability".into(),
            },
            before: pair.shift.map(|s| s.before),
            after: pair.shift.map(|s| s.after),
            difference_low: interval.map(|i| i.low),
            difference_high: interval.map(|i| i.high),
            samples_before: pair.samples[0],
            samples_after: pair.samples[1],
            verdict: match (pair.shift, pair.is_worse()) {
                (None, _) => VerdictShape::NoData,
                (_, Some(true)) => VerdictShape::Worse,
                (_, Some(false)) => VerdictShape::Better,
                (Some(_), None) => VerdictShape::NotSure,
            },
        }
    }
}

/// Some page views, or the runs of a journey, before and after.
#[derive(Serialize, ToSchema)]
struct SideShape {
    /// A device, a page family, the slug of a journey; empty of all page views.
    name: String,
    count_before: u64,
    count_after: u64,
    compared: Vec<ComparedShape>,
}

impl SideShape {
    fn of(side: &Side) -> SideShape {
        SideShape {
            name: if side.slug.is_empty() { side.name.clone() } else { side.slug.clone() },
            count_before: side.count[0],
            count_after: side.count[1],
            compared: side.pairs.iter().map(ComparedShape::of).collect(),
        }
    }
}

/// What was before and after a marker.
#[derive(Serialize, ToSchema)]
pub(super) struct AroundShape {
    before: StretchShape,
    /// It ends now at the latest.
    after: StretchShape,
    /// All page views, then those of each device.
    page_views: Vec<SideShape>,
    /// Page families in which something surely moved, the most viewed first.
    families: Vec<SideShape>,
    journeys: Vec<SideShape>,
    /// Other markers in the same time, which may be what it was.
    others: Vec<MarkerShape>,
    /// Whether maintenance lies in the same time.
    is_maintained: bool,
}

/// How far is looked.
#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
struct Reach {
    /// So many minutes before and after it, 5 to 10080; an hour when it does not say.
    #[param(minimum = 5, maximum = 10080)]
    minutes: Option<i64>,
}

/// What was before and after a marker, and how sure it is that something moved.
#[utoipa::path(get, path = "/sites/{site}/markers/{id}/around", params(("site" = String, Path, example = "marram-ferries"), ("id" = i32, Path), Reach), responses(
    (status = 200, body = AroundShape),
    Unread,
    Closed,
))]
pub(super) async fn around(
    state: web::Data<State>,
    InSite(site): InSite,
    After(id): After<i32>,
    request: HttpRequest,
) -> HttpResponse {
    let told = async {
        let minutes = query::<Reach>(&request)?.minutes.unwrap_or(60);
        if !(5..=10_080).contains(&minutes) {
            let says = "`minutes` is a number from 5 to 10080.";
            return Err(super::asked::wrong("?minutes", says).into());
        }
        let marker = marker_of(&state, &site, id).await?;
        let of = (marker.id, marker.at);
        let told = markers::around(&state.answers, &site, of, minutes, Timestamp::now()).await;
        let told = told.map_err(stopped)?;
        let sides = |sides: &[Side]| sides.iter().map(SideShape::of).collect();
        Ok(HttpResponse::Ok().json(AroundShape {
            before: StretchShape::of(told.before),
            after: StretchShape::of(told.after),
            page_views: sides(&told.visitors),
            families: sides(&told.families),
            journeys: sides(&told.journeys),
            others: told.others.into_iter().map(MarkerShape::of).collect(),
            is_maintained: told.is_maintained,
        }))
    };
    said(told.await)
}
