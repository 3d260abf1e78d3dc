//! Signing in by a provider of OpenID Connect, and proving by it again who one is.

use super::door::{Way, let_in, sign_in_again};
use crate::State;
use crate::access::{self, way_on};
use crate::error::PageError;
use crate::limits::query;
use crate::respond::redirect;
use actix_web::cookie::time::Duration;
use actix_web::http::StatusCode;
use actix_web::http::header::{CACHE_CONTROL, LOCATION};
use actix_web::{HttpRequest, HttpResponse, web};
use cadentis_answers::people;
use cadentis_answers::provider::{self, Answered, Came, NotIn};
use serde::Deserialize;

/// Where answers come back to.
const BACK: &str = "/sign-in/answer";
/// Somebody may take so long at the provider, in seconds.
const AWAY_S: i64 = 600;

fn back(state: &State, request: &HttpRequest) -> String {
    format!("{}{BACK}", state.door.address(request))
}

/// What an answer is to a browser, and how it is said.
fn said(state: &State, why: &NotIn) -> (StatusCode, String) {
    let name = state.answers.sign_on().name().unwrap_or("the provider").to_string();
    match why {
        NotIn::None => (StatusCode::NOT_FOUND, "Nobody signs in by others here.".into()),
        NotIn::Unreachable(says) => {
            (StatusCode::BAD_GATEWAY, format!("{name} does not answer as it should: {says}"))
        }
        NotIn::Refused(says) => {
            (StatusCode::UNAUTHORIZED, format!("{name} did not say who you are: {says}"))
        }
        NotIn::Stale => {
            let says = "This answer was used already, came too late, or belongs to another browser. Begin again.";
            (StatusCode::UNAUTHORIZED, says.into())
        }
        NotIn::NotAllowed(says) => (StatusCode::FORBIDDEN, format!("{name} let you in. {says}")),
    }
}

async fn out(state: &State, why: &NotIn, to: &str) -> Result<HttpResponse, PageError> {
    let (status, says) = said(state, why);
    sign_in_again(state, status, says, to).await
}

async fn away(
    state: &State,
    request: &HttpRequest,
    to: &str,
    prove: bool,
) -> Result<HttpResponse, PageError> {
    let who = match prove {
        true => Some(access::shown(state, request).await?.ok_or(PageError::SignedOut)?.signed),
        false => None,
    };
    let back = back(state, request);
    match provider::begin(&state.answers, &back, to, who.as_ref()).await? {
        Ok(begun) => {
            let token = Some((begun.browser.text(), Duration::seconds(AWAY_S)));
            let mut answer = HttpResponse::SeeOther();
            answer.insert_header((LOCATION, begun.address));
            answer.insert_header((CACHE_CONTROL, "no-store"));
            Ok(answer.cookie(access::named_cookie(state, request, access::AWAY, token)).finish())
        }
        Err(why) => out(state, &why, to).await,
    }
}

/// `GET /sign-in/provider?to=`: on to the provider.
pub async fn begin(
    state: web::Data<State>,
    request: HttpRequest,
    way: web::Query<Way>,
) -> Result<HttpResponse, PageError> {
    away(&state, &request, way_on(way.to.as_deref()), false).await
}

/// `GET /confirm/provider?to=`: who one is, once more.
pub async fn prove(
    state: web::Data<State>,
    request: HttpRequest,
    way: web::Query<Way>,
) -> Result<HttpResponse, PageError> {
    away(&state, &request, way_on(way.to.as_deref()), true).await
}

/// Whoever was away is back: their browser has nothing to show for it any more.
fn is_back(state: &State, request: &HttpRequest, answer: HttpResponse) -> HttpResponse {
    let mut answer = answer;
    let none = access::named_cookie(state, request, access::AWAY, None);
    // It has nothing in it that a header could not hold.
    let _ = answer.add_cookie(&none);
    answer
}

#[derive(Deserialize)]
struct Asked {
    #[serde(default)]
    state: String,
    code: Option<String>,
    error: Option<String>,
    iss: Option<String>,
}

/// `GET /sign-in/answer?state=&code=`: back from the provider.
pub async fn answer(
    state: web::Data<State>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let asked: Asked = query(&request)?;
    let answered = Answered {
        state: &asked.state,
        code: asked.code.as_deref(),
        error: asked.error.as_deref(),
        issuer: asked.iss.as_deref(),
    };
    let browser = access::shown_cookie(&state, &request, access::AWAY).unwrap_or_default();
    let before = access::shown(&state, &request).await?;
    let (who, from) = (before.as_ref().map(|b| &b.signed), access::from(&state, &request));
    let back = back(&state, &request);
    match provider::finish(&state.answers, &back, answered, &browser, who, from).await? {
        Came::In(token, to) => {
            // Whatever session the browser had is another one's.
            if let Some(before) = before {
                people::end(&state.answers, &before.signed, before.signed.session).await?;
            }
            Ok(is_back(&state, &request, let_in(&state, &request, &token, Some(&to))))
        }
        Came::Proved(to) => Ok(is_back(&state, &request, redirect(way_on(Some(&to))))),
        Came::Out(why, to) => out(&state, &why, &to).await,
    }
}
