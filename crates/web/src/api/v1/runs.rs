//! Runs, for programs: page by page, as a file, one of them whole.

use super::asked::{Closed, Unread, When, query, said, stopped, unless_known, unreadable, wrong};
use super::listed::{Key, WhichPage, cursor_of, no_cursor, paged};
use super::shapes::{OutcomeShape, ProblemShape, RunShape, RunsShape};
use crate::State;
use crate::access::{After, InSite};
use crate::csv_file::CsvFile;
use crate::problem::Problem;
use actix_web::http::StatusCode;
use actix_web::http::header::{CONTENT_DISPOSITION, CONTENT_TYPE};
use actix_web::{HttpRequest, HttpResponse, web};
use cadentis_answers::kept::{Journey, Location, Site};
use cadentis_answers::runs::{self, ListedRun, Wanted};
use cadentis_answers::{AnswerError, run, sites};
use cadentis_core::calendar::Stretch;
use cadentis_core::run::RunRecord;
use cadentis_core::run::har::Har;
use futures::stream;
use jiff::Timestamp;
use serde::Deserialize;
use uuid::Uuid;

/// Which runs are wanted.
#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(super) struct WhichRuns {
    /// RFC 3339; a day before `to` when it does not say.
    #[param(value_type = Option<String>, format = DateTime)]
    from: Option<String>,
    /// RFC 3339; now when it does not say.
    #[param(value_type = Option<String>, format = DateTime)]
    to: Option<String>,
    /// Only with this outcome.
    #[param(inline)]
    outcome: Option<OutcomeShape>,
    /// Only from the location with this slug.
    location: Option<String>,
}

/// Where a list goes on that was given page by page: after this run.
fn after((newest, _, id): &Key) -> Option<(Timestamp, Uuid)> {
    Some((Timestamp::from_microsecond(newest.checked_neg()?).ok()?, id.parse().ok()?))
}

/// Newest first.
fn key(run: &ListedRun) -> Key {
    (-run.due_at.as_microsecond(), 0, run.id.to_string())
}

/// Runs of a journey, newest first, a page at a time.
#[utoipa::path(get, path = "/sites/{site}/journeys/{journey}/runs",
    params(("site" = String, Path, example = "marram-ferries"), ("journey" = String, Path, example = "book-a-crossing"), WhichRuns, WhichPage), responses(
    (status = 200, body = RunsShape),
    Unread,
    Closed,
))]
pub(super) async fn list_runs(
    state: web::Data<State>,
    InSite(site): InSite,
    After(id): After<String>,
    request: HttpRequest,
) -> HttpResponse {
    let page = async {
        let (page, which) = paged::<WhichRuns>(&request)?;
        let WhichRuns { from, to, outcome, location } = which;
        let stretch = When { from, to }.stretch()?;
        let led_on = |key| after(key).ok_or_else(no_cursor);
        let after = page.after.as_ref().map(led_on).transpose()?;
        let journey = journey_of(&state, &site, &id).await?;
        let locations = sites::locations(&state.answers).await.map_err(stopped)?;
        let known = |slug: &String| locations.iter().any(|l| l.slug == *slug);
        if location.as_ref().is_some_and(|slug| !known(slug)) {
            return Err(wrong("?location", "There is no location with this slug.").into());
        }
        let wanted = Wanted {
            outcome: outcome.map(OutcomeShape::outcome),
            location: location.as_deref(),
            most: page.most as i64 + 1,
            ..Wanted::default()
        };
        let found = runs::after(&state.answers, &journey, stretch, &wanted, after).await;
        let mut found = found.map_err(stopped)?;
        let more = found.len() > page.most;
        found.truncate(page.most);
        let last = found.last().filter(|_| more).map(|r| cursor_of(&key(r)));
        let runs = found.into_iter().map(|r| RunShape::of(r, &locations)).collect();
        Ok(HttpResponse::Ok().json(RunsShape { runs, next: last }))
    };
    said(page.await)
}

/// So many runs are read at a time for a file.
const AT_A_TIME: i64 = 2_000;

/// The journey of a site by its slug.
async fn journey_of(state: &State, site: &Site, slug: &str) -> Result<Journey, HttpResponse> {
    let found = sites::journey(&state.answers, site.id, slug).await.map_err(stopped)?;
    let none = || HttpResponse::from(Problem::not_found(format!("There is no journey {slug}.")));
    found.ok_or_else(none)
}

/// Where a file that is being sent goes on.
enum Next {
    Head(Vec<u8>),
    After(Option<(Timestamp, Uuid)>),
    End,
}

/// A file of all runs of a journey in a stretch, newest first, sent while it is read: `lines` are those of so many runs.
fn streamed(
    state: &State,
    journey: Journey,
    stretch: Stretch,
    (head, kind, ending): (Vec<u8>, &str, &str),
    lines: impl Fn(Vec<ListedRun>) -> Vec<u8> + Clone + 'static,
) -> HttpResponse {
    let (answers, name) = (state.answers.clone(), format!("{}-runs.{ending}", journey.slug));
    let pieces = stream::try_unfold(Next::Head(head), move |next| {
        let (answers, journey, lines) = (answers.clone(), journey.clone(), lines.clone());
        async move {
            let after = match next {
                Next::Head(head) => {
                    return Ok(Some((web::Bytes::from(head), Next::After(None))));
                }
                Next::After(after) => after,
                Next::End => return Ok::<_, AnswerError>(None),
            };
            let wanted = Wanted { most: AT_A_TIME, ..Wanted::default() };
            let found = runs::after(&answers, &journey, stretch, &wanted, after).await?;
            let next = match found.last().filter(|_| found.len() as i64 == AT_A_TIME) {
                Some(last) => Next::After(Some((last.due_at, last.id))),
                None => Next::End,
            };
            Ok(Some((web::Bytes::from(lines(found)), next)))
        }
    });
    HttpResponse::Ok()
        .insert_header((CONTENT_TYPE, kind))
        .insert_header((CONTENT_DISPOSITION, format!("attachment; filename=\"{name}\"")))
        .streaming(Box::pin(pieces))
}

/// All runs of a journey in the stretch as CSV (RFC 4180), newest first, sent while they are read.
#[utoipa::path(get, path = "/sites/{site}/journeys/{journey}/runs.csv",
    params(("site" = String, Path, example = "marram-ferries"), ("journey" = String, Path, example = "book-a-crossing"), When), responses(
    (status = 200, body = String, content_type = "text/csv"),
    Unread,
    Closed,
))]
pub(super) async fn as_csv(
    state: web::Data<State>,
    InSite(site): InSite,
    After(slug): After<String>,
    request: HttpRequest,
) -> HttpResponse {
    let begun = async {
        let stretch = query::<When>(&request)?.stretch()?;
        let journey = journey_of(&state, &site, &slug).await?;
        let locations = sites::locations(&state.answers).await.map_err(stopped)?;
        let head = (runs_csv::head(), "text/csv; charset=utf-8", "csv");
        let lines = move |runs: Vec<ListedRun>| runs_csv::lines(&runs, &locations);
        Ok(streamed(&state, journey, stretch, head, lines))
    };
    said(begun.await)
}

/// All runs of a journey in the stretch, a line of JSON each, newest first, sent while they are read.
#[utoipa::path(get, path = "/sites/{site}/journeys/{journey}/runs.ndjson",
    params(("site" = String, Path, example = "marram-ferries"), ("journey" = String, Path, example = "book-a-crossing"), When), responses(
    (status = 200, body = String, content_type = "application/x-ndjson"),
    Unread,
    Closed,
))]
pub(super) async fn as_lines(
    state: web::Data<State>,
    InSite(site): InSite,
    After(slug): After<String>,
    request: HttpRequest,
) -> HttpResponse {
    let begun = async {
        let stretch = query::<When>(&request)?.stretch()?;
        let journey = journey_of(&state, &site, &slug).await?;
        let locations = sites::locations(&state.answers).await.map_err(stopped)?;
        let lines = move |runs: Vec<ListedRun>| {
            let line = |run| serde_json::to_string(&RunShape::of(run, &locations));
            let lines = runs.into_iter().filter_map(|run| line(run).ok());
            lines.flat_map(|line| [line, "\n".into()]).collect::<String>().into_bytes()
        };
        let head = (Vec::new(), "application/x-ndjson", "ndjson");
        Ok(streamed(&state, journey, stretch, head, lines))
    };
    said(begun.await)
}

/// The columns of a table of runs, as the API writes it.
mod runs_csv {
    use super::{CsvFile, ListedRun, Location};

    const COLUMNS: [&str; 11] = [
        "id",
        "due_utc",
        "location",
        "outcome",
        "duration_ms",
        "version",
        "trouble",
        "requests",
        "bytes",
        "third_party_bytes",
        "script_errors",
    ];

    pub fn head() -> Vec<u8> {
        CsvFile::with_header(COLUMNS).bytes()
    }

    pub fn lines(runs: &[ListedRun], locations: &[Location]) -> Vec<u8> {
        let mut file = CsvFile::without_header();
        for r in runs {
            let location = locations.iter().find(|l| l.id == r.location_id);
            let version = r.version.map_or(String::new(), |v| v.to_string());
            // What is not known is nothing, not nought.
            let counts = r.counts.map(|c| c.numbers().map(|n| n.to_string()));
            let [requests, bytes, third_party, script_errors] = counts.unwrap_or_default();
            file.row([
                r.id.to_string().as_str(),
                &r.due_at.to_string(),
                location.map_or("", |l| &l.slug),
                r.outcome.word(),
                &r.duration_ms.to_string(),
                &version,
                r.trouble.as_deref().unwrap_or(""),
                &requests,
                &bytes,
                &third_party,
                &script_errors,
            ]);
        }
        file.bytes()
    }
}

/// What was recorded of a run, or how it is told that nothing is kept of it.
async fn record_of(state: &State, site: &Site, id: Uuid) -> Result<RunRecord, HttpResponse> {
    match run::of_site(&state.answers, site.id, id).await.map_err(stopped)? {
        Some(Some(record)) => Ok(record),
        Some(None) => {
            let says = "What was recorded of this run is not kept any more.";
            Err(Problem::new(StatusCode::GONE, says).into())
        }
        None => Err(Problem::not_found(format!("There is no run {id}.")).into()),
    }
}

/// The requests of a run as an archive (HAR 1.2). 410 once its time is over.
#[utoipa::path(get, path = "/sites/{site}/runs/{id}/har", params(("site" = String, Path, example = "marram-ferries"), ("id" = Uuid, Path)), responses(
    (status = 200, description = "The archive", body = Object),
    (status = 304, description = "It is what `If-None-Match` names"),
    (status = 410, body = ProblemShape, content_type = "application/problem+json"),
    Closed,
))]
pub(super) async fn har(
    state: web::Data<State>,
    InSite(site): InSite,
    After(id): After<Uuid>,
    request: HttpRequest,
) -> HttpResponse {
    let one = async {
        let record = record_of(&state, &site, id).await?;
        Ok(unless_known(&request, Har::of_run(&record).write()))
    };
    said(one.await)
}

/// What was recorded of a run: steps, requests, timings; without pictures. 410 once its time is over.
#[utoipa::path(get, path = "/sites/{site}/runs/{id}", params(("site" = String, Path, example = "marram-ferries"), ("id" = Uuid, Path)), responses(
    (status = 200, description = "The record, as the runner sent it", body = Object),
    (status = 304, description = "It is what `If-None-Match` names"),
    (status = 410, body = ProblemShape, content_type = "application/problem+json"),
    Closed,
))]
pub(super) async fn one_run(
    state: web::Data<State>,
    InSite(site): InSite,
    After(id): After<Uuid>,
    request: HttpRequest,
) -> HttpResponse {
    let one = async {
        let record = record_of(&state, &site, id).await?;
        let text = serde_json::to_string(&record);
        Ok(unless_known(&request, text.map_err(|e| unreadable(&e))?))
    };
    said(one.await)
}
