//! What a person sees when a page cannot be shown.

use crate::problem::Problem;
use actix_web::http::StatusCode;
use actix_web::http::header::{HeaderValue, RETRY_AFTER};
use actix_web::{HttpResponse, ResponseError};
use askama::Template;
use cadentis_answers::AnswerError;
use cadentis_answers::compute::ComputeError;
use cadentis_core::calendar::stretch::StretchError;

/// Where an administrator of an empty installation is led.
pub const FIRST_SITE: &str = "/setup/sites";

#[derive(Debug, thiserror::Error)]
pub enum PageError {
    #[error("There is no such page here: {0}")]
    NotFound(String),
    #[error("The address asks for a stretch that cannot be shown: {0}.")]
    Stretch(#[from] StretchError),
    #[error("The address has a parameter `{name}` that cannot be read: {says}.")]
    Parameter { name: String, says: String },
    #[error(
        "The script of {journey} cannot be read: {says}. It is mended on the page of its script, journeys/{slug}/script"
    )]
    Script { journey: String, slug: String, says: String },
    #[error("What was sent cannot be read: {0}.")]
    Unreadable(String),
    #[error("Too much at once: {0}.")]
    TooLarge(String),
    #[error("{}", database_says(.0))]
    Database(AnswerError),
    /// Too much waits to be computed, or it took too long.
    #[error("This is more than can be computed just now: {0}.")]
    Compute(#[from] ComputeError),
    #[error("The page could not be written: {0}")]
    Template(#[from] askama::Error),
    #[error("{0}")]
    Refused(String),
    #[error("You are signed out.")]
    SignedOut,
    #[error("A token that is good is needed, as Authorization: Bearer …")]
    NoToken,
    #[error("Your password is asked for again before this.")]
    Prove,
    #[error("{0}")]
    NotAllowed(&'static str),
    #[error("{0}.")]
    NotTheirs(String),
    /// The site has another name in addresses now.
    #[error("This site is at /{0} now.")]
    Moved(String),
    #[error("{0}")]
    Gone(String),
    #[error("It could not be made: {0}.")]
    Broken(String),
}

#[derive(Template)]
#[template(path = "error.html")]
struct ErrorPage<'a> {
    status: u16,
    says: &'a str,
    advice: &'a str,
}

impl From<AnswerError> for PageError {
    fn from(e: AnswerError) -> PageError {
        match e {
            AnswerError::Compute(e) => e.into(),
            AnswerError::Script { journey, slug, says } => {
                PageError::Script { journey, slug, says }
            }
            e @ AnswerError::NotTheirs { .. } => PageError::NotTheirs(e.to_string()),
            e if e.is_no_text() => PageError::Unreadable(NO_TEXT.into()),
            e => PageError::Database(e),
        }
    }
}

/// A database that answers something we cannot read is another trouble than one that does not answer.
fn database_says(e: &AnswerError) -> &'static str {
    match e.is_unreadable() {
        true => "Something in the database cannot be read.",
        false => "The database does not answer just now.",
    }
}

/// What is said of a text with a NUL in it.
const NO_TEXT: &str = "it has a character that no text has";

/// The answer to a program when what it asked for cannot be done.
pub fn unavailable(e: &AnswerError) -> HttpResponse {
    if let AnswerError::NotTheirs { .. } = e {
        return Problem::new(StatusCode::FORBIDDEN, format!("Not saved: {e}.")).into();
    }
    if e.is_no_text() {
        let says = format!("What was sent cannot be read: {NO_TEXT}.");
        return Problem::new(StatusCode::BAD_REQUEST, says).into();
    }
    tracing::warn!("not done: {e}");
    match e.is_unreadable() {
        true => {
            let says = "Something in the database cannot be read; nothing was changed. The log says where.";
            Problem::new(StatusCode::INTERNAL_SERVER_ERROR, says).into()
        }
        false => {
            let says = "The database does not answer just now; nothing was changed. Try again in a moment.";
            let mut answer =
                HttpResponse::from(Problem::new(StatusCode::SERVICE_UNAVAILABLE, says));
            answer.headers_mut().insert(RETRY_AFTER, HeaderValue::from_static("5"));
            answer
        }
    }
}

impl ResponseError for PageError {
    fn status_code(&self) -> StatusCode {
        match self {
            PageError::NotFound(_) => StatusCode::NOT_FOUND,
            PageError::Stretch(_) | PageError::Parameter { .. } | PageError::Unreadable(_) => {
                StatusCode::BAD_REQUEST
            }
            PageError::Script { .. } => StatusCode::UNPROCESSABLE_ENTITY,
            PageError::TooLarge(_) => StatusCode::PAYLOAD_TOO_LARGE,
            PageError::Database(e) if e.is_unreadable() => StatusCode::INTERNAL_SERVER_ERROR,
            PageError::Refused(_) => StatusCode::CONFLICT,
            PageError::SignedOut | PageError::NoToken => StatusCode::UNAUTHORIZED,
            PageError::Prove | PageError::NotAllowed(_) | PageError::NotTheirs(_) => {
                StatusCode::FORBIDDEN
            }
            PageError::Moved(_) => StatusCode::PERMANENT_REDIRECT,
            PageError::Gone(_) => StatusCode::GONE,
            PageError::Compute(ComputeError::Failed) => StatusCode::INTERNAL_SERVER_ERROR,
            PageError::Database(_) | PageError::Compute(_) => StatusCode::SERVICE_UNAVAILABLE,
            PageError::Template(_) | PageError::Broken(_) => StatusCode::INTERNAL_SERVER_ERROR,
        }
    }

    fn error_response(&self) -> HttpResponse {
        let advice = match self {
            PageError::NotFound(_) => "Choose one of the places above.",
            PageError::Script { .. } => {
                "Runs of it are unmeasured until it can be read; what was measured before is still there."
            }
            PageError::SignedOut => {
                "Sign in at /sign-in in another window, then go back and send it again: what you typed is still there."
            }
            PageError::NoToken => "An administrator makes one, on the site’s Settings, Programs.",
            PageError::Prove => {
                "Type it at /confirm in another window, then go back and send it again: what you typed is still there."
            }
            PageError::NotAllowed(_) => "An administrator gives rights, on Setup, People.",
            PageError::NotTheirs(_) => {
                "Nothing was changed. Duplicate it, or ask one of them; administrators say who is in a team."
            }
            PageError::Moved(_) => "What is there now is asked for there.",
            PageError::Gone(_) => "Whoever gave it to you can make another one.",
            PageError::Refused(_) => "Go back; what you came from is as it was.",
            PageError::Stretch(_) => {
                "Moments are written in UTC as 2026-11-22T05:00Z; go back and drag on the time strip."
            }
            PageError::Parameter { .. } => {
                "Take it out of the address, or go back; all else in it is as it was."
            }
            PageError::Unreadable(_) | PageError::TooLarge(_) => {
                "Nothing was changed. Go back; what you typed is still there."
            }
            PageError::Database(e) if e.is_unreadable() => {
                tracing::error!("page not shown: {e}");
                "It is there and something in it has a form we do not know; the log of the server says what and where."
            }
            PageError::Database(e) => {
                tracing::error!("page not shown: {e}");
                "Page views are turned away until it does and runs wait; nothing that was acknowledged is lost. Try again in a moment."
            }
            PageError::Compute(e) if *e != ComputeError::Failed => {
                "Others ask for much at the same time. Try again in a moment, or choose a shorter stretch."
            }
            PageError::Compute(_) | PageError::Template(_) | PageError::Broken(_) => {
                tracing::error!("page not shown: {self}");
                "This is a mistake of ours."
            }
        };
        let status = self.status_code();
        let page = ErrorPage { status: status.as_u16(), says: &self.to_string(), advice };
        HttpResponse::build(status)
            .content_type("text/html; charset=utf-8")
            .body(page.render().unwrap_or_default())
    }
}

pub async fn not_found(request: actix_web::HttpRequest) -> Result<HttpResponse, PageError> {
    Err(PageError::NotFound(request.path().chars().take(100).collect()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use actix_web::body::to_bytes;

    #[actix_web::test]
    async fn too_much_at_once_is_told_as_that_and_a_mistake_of_ours_as_ours() {
        for (error, status, says) in [
            (ComputeError::Busy, 503, "Try again in a moment, or choose a shorter stretch."),
            (
                ComputeError::TooLong(std::time::Duration::from_secs(30)),
                503,
                "it was not computed within 30 s",
            ),
            (ComputeError::Failed, 500, "This is a mistake of ours."),
        ] {
            let answer = PageError::from(AnswerError::from(error)).error_response();
            assert_eq!(answer.status().as_u16(), status, "{error}");
            let page = to_bytes(answer.into_body()).await.unwrap_or_default();
            assert!(String::from_utf8_lossy(&page).contains(says), "{error}: {page:?}");
        }
    }
}
