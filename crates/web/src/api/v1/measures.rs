//! Any measure, for programs.

use super::asked::{Closed, Unread, moment, query, said, stopped, wrong};
use crate::State;
use crate::access::InSite;
use actix_web::{HttpRequest, HttpResponse, web};
use cadentis_answers::measures;
use cadentis_core::calendar::stretch::at_second;
use cadentis_core::measure::{Measured, Unit, Worse};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Buckets of a course when nobody says how many.
const USUAL_POINTS: i64 = 96;
/// And at most.
const MOST_POINTS: i64 = 2_000;

/// Which number, of what, from when to when.
#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(super) struct Asked {
    /// As the page *Measures* says it: `p75 of LCP for device "phone"`.
    #[param(example = "p75 of LCP for device \"phone\"")]
    measure: String,
    /// RFC 3339; a day before `to` when it does not say.
    #[param(value_type = Option<String>, format = DateTime)]
    from: Option<String>,
    /// RFC 3339; now when it does not say.
    #[param(value_type = Option<String>, format = DateTime)]
    to: Option<String>,
    /// In at most about so many buckets of time the course is told: 1 to 2000, 96 when it does not say.
    #[param(minimum = 1, maximum = 2000)]
    points: Option<i64>,
}

/// A bucket of the course.
#[derive(Serialize, ToSchema)]
pub(super) struct PointShape {
    #[schema(value_type = String, format = DateTime)]
    from: Timestamp,
    value: Option<f64>,
    samples: u64,
}

/// What a measure comes to.
#[derive(Serialize, ToSchema)]
pub(super) struct MeasureShape {
    /// As it was read.
    measure: String,
    /// `share` (0 to 1), `ms`, `count`, `plain`, `times` or `state` (0 ok, 1 unknown, 2 degraded, 3 down).
    #[schema(value_type = String)]
    unit: Unit,
    /// Which way is worse: `above` or `below`.
    #[schema(value_type = String)]
    worse: Worse,
    /// Over the whole stretch; of what is judged or posted as it stands at the end; `null` when there is nothing to tell.
    value: Option<f64>,
    samples: u64,
    /// The 95 % interval, where there is one.
    low: Option<f64>,
    high: Option<f64>,
    /// How it was come by.
    proof: Vec<String>,
    /// Seconds of a bucket.
    bucket_s: i64,
    /// In order of time; where nothing can be told there is none.
    points: Vec<PointShape>,
}

/// Any measure over a stretch: as one number with its samples and how it was come by, and over time.
#[utoipa::path(get, path = "/sites/{site}/measures", params(("site" = String, Path, example = "marram-ferries"), Asked), responses(
    (status = 200, body = MeasureShape),
    Unread,
    Closed,
))]
pub(super) async fn read(
    state: web::Data<State>,
    InSite(site): InSite,
    request: HttpRequest,
) -> HttpResponse {
    let answer = async {
        let asked = query::<Asked>(&request)?;
        let measured: Measured =
            asked.measure.parse().map_err(|e| wrong("?measure", format!("{e}.")))?;
        let points = asked.points.unwrap_or(USUAL_POINTS);
        if !(1..=MOST_POINTS).contains(&points) {
            return Err(wrong("?points", "`points` is a number from 1 to 2000.").into());
        }
        let stretch =
            super::asked::stretch(moment("from", &asked.from)?, moment("to", &asked.to)?)?;
        let about = measures::about(&state.answers, &site, &measured).await.map_err(stopped)?;
        let about = about.map_err(|e| wrong("?measure", format!("{e}.")))?;
        let (read, course) = futures::try_join!(
            measures::reading(&state.answers, &site, &about, stretch),
            measures::course(&state.answers, &site, &about, stretch, points),
        )
        .map_err(stopped)?;
        let point = |p: &measures::Point| PointShape {
            from: at_second(p.begin_s),
            value: p.reading.value,
            samples: p.reading.samples,
        };
        Ok(HttpResponse::Ok().json(MeasureShape {
            measure: measured.to_string(),
            unit: measured.measure.unit(),
            worse: measured.measure.worse(),
            value: read.reading.value,
            samples: read.reading.samples,
            low: read.reading.interval.map(|i| i.low),
            high: read.reading.interval.map(|i| i.high),
            proof: read.proof.lines(),
            bucket_s: course.bucket_s,
            points: course.points.iter().map(point).collect(),
        }))
    };
    said(answer.await)
}
