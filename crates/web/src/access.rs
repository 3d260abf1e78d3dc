//! Who comes, and whether they may: what stands before each route that is not for everybody.
//!
//! What a route asks stands beside its address in the [list](crate::routes) that makes it. Somebody who is not signed in is
//! led to signing in, and back to where they wanted to go.

use crate::State;
use crate::error::PageError;
use crate::problem::program_asks;
use actix_web::body::{BoxBody, EitherBody, MessageBody};
use actix_web::cookie::time::Duration;
use actix_web::cookie::{Cookie, SameSite};
use actix_web::dev::{Payload, ServiceRequest, ServiceResponse};
use actix_web::http::Method;
use actix_web::http::header::{
    AUTHORIZATION, CACHE_CONTROL, HeaderName, HeaderValue, LOCATION, USER_AGENT,
};
use actix_web::middleware::Next;
use actix_web::{FromRequest, HttpMessage, HttpRequest, HttpResponse, web};
use cadentis_answers::changes::Author;
use cadentis_answers::people::{self, From, Signed};
use cadentis_core::access::{LONGEST_S, May, Permission, Rights, Scope};
use std::future::{Ready, ready};
use std::net::IpAddr;
use url::form_urlencoded::byte_serialize;

/// Whoever is signed in.
#[derive(Debug, Clone)]
pub struct Who {
    pub signed: Signed,
    /// From where they come.
    pub address: IpAddr,
    pub rights: Rights,
}

impl Who {
    pub fn name(&self) -> &str {
        &self.signed.person.name
    }

    /// Whether they may change what teams work with.
    pub fn edits(&self) -> bool {
        self.rights.may(Permission::Edit) == May::Yes
    }

    /// Whether they see single visits and persons.
    pub fn sees_people(&self) -> bool {
        self.rights.may(Permission::People) == May::Yes
    }

    pub fn administers(&self) -> bool {
        self.rights.may(Permission::Administer) == May::Yes
    }

    /// Whether they have to type their password before what is grave.
    pub fn has_to_prove(&self) -> bool {
        self.rights.may(Permission::Grave) == May::Prove
    }

    /// They as the author of a change.
    pub fn author(&self) -> Author {
        Author::signed(&self.signed.person, Some(self.address))
    }
}

impl FromRequest for Who {
    type Error = PageError;
    type Future = Ready<Result<Who, PageError>>;

    /// Only behind a route that asks for somebody there is anybody.
    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        ready(who(request).ok_or(PageError::SignedOut))
    }
}

/// Whoever is signed in, behind a route that asks for somebody.
pub fn who(request: &HttpRequest) -> Option<Who> {
    request.extensions().get::<Who>().cloned()
}

/// Whoever asks, as a person or as a program.
#[derive(Debug, Clone)]
pub struct Caller {
    pub author: Author,
    needs: Permission,
    as_whom: AsWhom,
}

#[derive(Debug, Clone)]
enum AsWhom {
    Person(Box<Signed>),
    /// A program, for this site alone.
    Program(i32),
}

impl Caller {
    /// Whether they may do what they ask for on this site: a token is good for one, and people have a role on each.
    pub fn may_on(&self, site_id: i32) -> bool {
        match &self.as_whom {
            AsWhom::Program(site) => *site == site_id,
            AsWhom::Person(signed) => {
                people::rights_on(signed, site_id).may(self.needs) == May::Yes
            }
        }
    }
}

impl FromRequest for Caller {
    type Error = PageError;
    type Future = Ready<Result<Caller, PageError>>;

    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        ready(request.extensions().get::<Caller>().cloned().ok_or(PageError::SignedOut))
    }
}

/// Where programs ask with a token of theirs.
pub const API: &str = "/api/v1";

/// The token that a program shows.
fn bearer(request: &ServiceRequest) -> Option<String> {
    let shown = request.headers().get(AUTHORIZATION)?.to_str().ok()?;
    Some(shown.strip_prefix("Bearer ")?.trim().to_string())
}

/// Whoever changes something.
pub struct By(pub Author);

impl FromRequest for By {
    type Error = PageError;
    type Future = Ready<Result<By, PageError>>;

    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        ready(who(request).map(|who| By(who.author())).ok_or(PageError::SignedOut))
    }
}

/// Where a request comes from, for what is kept of signing in.
pub fn from<'a>(state: &State, request: &'a HttpRequest) -> From<'a> {
    let browser = request.headers().get(USER_AGENT).and_then(|v| v.to_str().ok()).unwrap_or("");
    From { address: state.door.visitor_of(request), browser }
}

/// The name of the cookie: where the address is https no other site, not even one below it, can set it.
fn cookie_name(is_https: bool) -> &'static str {
    if is_https { "__Host-cadentis" } else { "cadentis_session" }
}

fn is_https(state: &State, request: &HttpRequest) -> bool {
    state.door.address(request).starts_with("https://")
}

/// The cookie that holds a session; without one it takes it away.
pub fn cookie(state: &State, request: &HttpRequest, token: Option<&str>) -> Cookie<'static> {
    let is_https = is_https(state, request);
    let made = Cookie::build(cookie_name(is_https), token.unwrap_or_default().to_string())
        .path("/")
        .http_only(true)
        .secure(is_https)
        .same_site(SameSite::Lax)
        .max_age(Duration::seconds(if token.is_some() { LONGEST_S } else { 0 }));
    made.finish()
}

/// Whoever shows a session that has not ended.
pub async fn shown(state: &State, request: &HttpRequest) -> Result<Option<Who>, PageError> {
    let Some(cookie) = request.cookie(cookie_name(is_https(state, request))) else {
        return Ok(None);
    };
    let signed = people::signed(&state.answers, cookie.value()).await?;
    let address = state.door.visitor_of(request);
    Ok(signed.map(|signed| Who { rights: people::rights(&signed), signed, address }))
}

/// An address of ours to go to, as the address of a page gives it; anything else leads to the beginning.
pub fn way_on(to: Option<&str>) -> &str {
    let ours = |to: &&str| to.starts_with('/') && !to.starts_with("//") && !to.contains('\\');
    to.filter(ours).filter(|to| !to.contains(char::is_control)).unwrap_or("/")
}

fn with_way_on(page: &str, request: &ServiceRequest) -> String {
    let to = request.uri().path_and_query().map_or("/", |p| p.as_str());
    format!("{page}?to={}", byte_serialize(to.as_bytes()).collect::<String>())
}

type Answered<B> = Result<ServiceResponse<EitherBody<B, BoxBody>>, actix_web::Error>;

async fn let_in<B: MessageBody + 'static>(
    needs: Permission,
    state: web::Data<State>,
    request: ServiceRequest,
    next: Next<B>,
) -> Answered<B> {
    let turned_away = |request: ServiceRequest, answer: HttpResponse| {
        Ok(request.into_response(answer).map_into_right_body())
    };
    let is_api = request.path().starts_with(API);
    if let Some(token) = bearer(&request).filter(|_| is_api) {
        return match program(&state, needs, &token).await {
            Ok(caller) => {
                request.extensions_mut().insert(caller);
                Ok(next.call(request).await?.map_into_left_body())
            }
            Err(e) => turned_away(request, HttpResponse::from_error(e)),
        };
    }
    // Somebody's browser may be made to send what a page of others wishes: with a cookie alone the API is only read.
    let reads = matches!(*request.method(), Method::GET | Method::HEAD);
    if is_api && !reads {
        return turned_away(request, HttpResponse::from_error(PageError::NoToken));
    }
    let who = match shown(&state, request.request()).await {
        Ok(Some(who)) => who,
        Ok(None) => {
            let answer = signed_out(&request);
            return turned_away(request, answer);
        }
        Err(e) => return turned_away(request, HttpResponse::from_error(e)),
    };
    match who.rights.may(needs) {
        May::Yes => {}
        May::Prove => return turned_away(request, HttpResponse::from_error(PageError::Prove)),
        May::No => {
            let answer = HttpResponse::from_error(PageError::NotAllowed(needs.lack()));
            return turned_away(request, answer);
        }
    }
    let (author, signed) = (who.author(), Box::new(who.signed.clone()));
    request.extensions_mut().insert(Caller { author, needs, as_whom: AsWhom::Person(signed) });
    request.extensions_mut().insert(who);
    let mut answer = next.call(request).await?;
    // What somebody may see is kept by nobody on the way.
    let headers = answer.headers_mut();
    if !headers.contains_key(CACHE_CONTROL) {
        headers.insert(CACHE_CONTROL, HeaderValue::from_static("no-store"));
    }
    Ok(answer.map_into_left_body())
}

/// The program that shows this token, if it may.
async fn program(state: &State, needs: Permission, token: &str) -> Result<Caller, PageError> {
    let token = people::shown_token(&state.answers, token).await?.ok_or(PageError::NoToken)?;
    if !Scope::may(&token.scopes, needs) {
        return Err(PageError::NotAllowed("This token was not made for that."));
    }
    let (author, as_whom) = (Author::program(&token.name), AsWhom::Program(token.site_id));
    Ok(Caller { author, needs, as_whom })
}

/// Pages lead to signing in and back; what was sent is told that nothing was done with it.
fn signed_out(request: &ServiceRequest) -> HttpResponse {
    let to_sign_in = HeaderValue::from_str(&with_way_on("/sign-in", request));
    let is_part = request.headers().contains_key("hx-request");
    let reads = matches!(*request.method(), Method::GET | Method::HEAD);
    match to_sign_in {
        Ok(to) if reads && !is_part && !program_asks(request) => {
            let mut answer = HttpResponse::SeeOther();
            answer.insert_header((LOCATION, to)).finish()
        }
        _ => {
            let mut answer = HttpResponse::from_error(PageError::SignedOut);
            if is_part {
                let (name, to) = ("hx-redirect", HeaderValue::from_static("/sign-in"));
                answer.headers_mut().insert(HeaderName::from_static(name), to);
            }
            answer
        }
    }
}

/// One function for each permission that is looked at here: routes are wrapped in them.
macro_rules! guards {
    ($($name:ident $needs:ident),* $(,)?) => {$(
        pub async fn $name<B: MessageBody + 'static>(
            state: web::Data<State>,
            request: ServiceRequest,
            next: Next<B>,
        ) -> Answered<B> {
            let_in(Permission::$needs, state, request, next).await
        }
    )*};
}

guards! {
    signed Signed,
    read Read,
    people People,
    edit Edit,
    mark Mark,
    play Play,
    administer Administer,
    grave Grave,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn signing_in_leads_to_addresses_of_ours_alone() {
        for fine in ["/", "/journeys?from=1", "/runs/1#x"] {
            assert_eq!(way_on(Some(fine)), fine);
        }
        for foreign in [
            "https://evil.example/",
            "//evil.example/",
            "/\\evil.example",
            "",
            "journeys",
            "/a\r\nb: c",
        ] {
            assert_eq!(way_on(Some(foreign)), "/", "{foreign}");
        }
        assert_eq!(way_on(None), "/");
    }
}
