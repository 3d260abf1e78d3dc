//! Queries, for programs: the same sentence as on the page, and what it comes to.

use super::asked::{Closed, Unread, said, stopped, stretch, wrong};
use super::shapes::ProblemShape;
use crate::State;
use crate::access::InSite;
use crate::problem::Problem;
use actix_web::{HttpResponse, web};
use cadentis_answers::queries::{self, Answered, Over};
use cadentis_core::calendar::stretch::at_second;
use cadentis_core::measure::Unit;
use cadentis_core::query::{Query, Value};
use cadentis_core::stats::Reading;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What is asked.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct QuestionShape {
    /// As the page *Queries* says it: measures, then `by`, `for`, `where` and `top`.
    #[schema(example = "p75 of LCP, count of page views by family and device top 10")]
    query: String,
    /// A day before `to` when it does not say.
    #[schema(value_type = Option<String>, format = DateTime)]
    from: Option<Timestamp>,
    /// Now when it does not say.
    #[schema(value_type = Option<String>, format = DateTime)]
    to: Option<Timestamp>,
    /// Time is told in about so many pieces: 1 to 1000, 96 when it does not say.
    #[schema(minimum = 1, maximum = 1000)]
    points: Option<i64>,
}

/// A measure that was asked for.
#[derive(Serialize, ToSchema)]
struct AskedShape {
    /// As measures are written.
    measure: String,
    /// `share` (0 to 1), `ms`, `count` or `plain`.
    #[schema(value_type = String)]
    unit: Unit,
}

/// What a measure came to.
#[derive(Serialize, ToSchema)]
struct CellShape {
    /// `null` when there is nothing to tell.
    value: Option<f64>,
    samples: u64,
    /// The 95 % interval, where there is one.
    low: Option<f64>,
    high: Option<f64>,
}

impl CellShape {
    fn of(r: &Reading) -> CellShape {
        CellShape {
            value: r.value,
            samples: r.samples,
            low: r.interval.map(|i| i.low),
            high: r.interval.map(|i| i.high),
        }
    }
}

/// A row.
#[derive(Serialize, ToSchema)]
struct AnswerRow {
    /// What it is told apart by: a value, empty where none was told, or the moment at which a piece of time begins.
    value: String,
    /// Each measure.
    cells: Vec<CellShape>,
    /// Each measure in each column; `null` where there was no sample.
    across: Vec<Option<Vec<CellShape>>>,
}

/// What a query came to.
#[derive(Serialize, ToSchema)]
pub(crate) struct AnswerShape {
    /// As it was read.
    query: String,
    measures: Vec<AskedShape>,
    /// What rows and columns are: nothing, one or two of what samples are told apart by.
    by: Vec<String>,
    /// Values of the second of these.
    columns: Vec<String>,
    rows: Vec<AnswerRow>,
    /// Every sample together.
    all: Vec<CellShape>,
    /// How many rows there were, and how many of them met the conditions.
    found: usize,
    kept: usize,
    /// How many columns more there would be.
    columns_beyond: usize,
    /// Samples in groups that were too many to be told apart.
    beyond: u64,
    /// Whether percentiles are read off merged sketches, within 1 %, and not exact.
    is_merged: bool,
    /// Runs in maintenance, which do not count.
    left_out: u64,
    /// Seconds of a piece of time.
    bucket_s: i64,
}

impl AnswerShape {
    /// What a query came to, as programs read it.
    pub(crate) fn of(query: &Query, told: Answered) -> AnswerShape {
        let table = told.table;
        let many = query.measures.len();
        let cells =
            |cells: &[Reading]| cells.iter().take(many).map(CellShape::of).collect::<Vec<_>>();
        AnswerShape {
            measures: query
                .measures
                .iter()
                .map(|m| AskedShape { measure: m.to_string(), unit: m.unit() })
                .collect(),
            by: query.by.iter().map(cadentis_core::query::By::word).collect(),
            columns: table.columns.iter().map(value).collect(),
            rows: table
                .rows
                .iter()
                .map(|row| AnswerRow {
                    value: value(&row.value),
                    cells: cells(&row.cells),
                    across: row.across.iter().map(|c| c.as_ref().map(|c| cells(c))).collect(),
                })
                .collect(),
            all: cells(&table.all),
            found: table.found,
            kept: table.kept,
            columns_beyond: table.columns_beyond,
            beyond: table.beyond,
            is_merged: table.is_merged,
            left_out: table.left_out,
            bucket_s: told.bucket_s,
            query: query.to_string(),
        }
    }
}

/// The most pieces of time.
const MOST_POINTS: i64 = 1_000;
/// The usual ones.
const USUAL_POINTS: i64 = 96;

fn value(value: &Value) -> String {
    match value {
        Value::Text(text) => text.clone(),
        Value::Time(second) => at_second(*second).to_string(),
    }
}

/// What several measures of the same samples come to, told apart by what is known of them.
#[utoipa::path(post, path = "/sites/{site}/queries/answer", params(("site" = String, Path, example = "marram-ferries")), request_body = QuestionShape, responses(
    (status = 200, body = AnswerShape),
    Unread,
    (status = 413, body = ProblemShape, content_type = "application/problem+json"),
    (status = 422, body = ProblemShape, content_type = "application/problem+json"),
    Closed,
))]
pub(super) async fn answer(
    state: web::Data<State>,
    InSite(site): InSite,
    asked: web::Json<QuestionShape>,
) -> HttpResponse {
    let answer = async {
        let invalid = |at: &str, says: String| HttpResponse::from(Problem::invalid(at, &says));
        let query: Query = asked.query.parse().map_err(|e| invalid("/query", format!("{e}.")))?;
        let points = asked.points.unwrap_or(USUAL_POINTS);
        if !(1..=MOST_POINTS).contains(&points) {
            return Err(invalid("/points", "A number from 1 to 1000.".into()));
        }
        let years = |t: &Timestamp| (0..=4_102_444_800).contains(&t.as_second());
        if [asked.from, asked.to].iter().flatten().any(|t| !years(t)) {
            return Err(wrong("/from", "Moments are from 1970 to 2100.").into());
        }
        let stretch = stretch(asked.from, asked.to)?;
        let of = (points, false);
        let told = queries::ask(&state.answers, &site, &query, &Over::all_of(stretch), of).await;
        let told = told.map_err(stopped)?.map_err(|e| invalid("/query", format!("{e}.")))?;
        Ok(HttpResponse::Ok().json(AnswerShape::of(&query, told)))
    };
    said(answer.await)
}
