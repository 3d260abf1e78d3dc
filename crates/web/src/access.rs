//! Who comes, and whether they may: what stands before each route that is not for everybody.
//!
//! What a route asks stands beside its address in the [list](crate::routes) that makes it. Somebody who is not signed in is
//! led to signing in, and back to where they wanted to go.

use crate::State;
use crate::error::PageError;
use crate::frame;
use crate::pace::{A_MINUTE, Left};
use crate::problem::{Problem, program_asks};
use actix_web::body::{BoxBody, EitherBody, MessageBody};
use actix_web::cookie::time::Duration;
use actix_web::cookie::{Cookie, SameSite};
use actix_web::dev::{Payload, ServiceRequest, ServiceResponse};
use actix_web::http::header::{
    AUTHORIZATION, CACHE_CONTROL, HeaderMap, HeaderName, HeaderValue, LOCATION, REFERRER_POLICY,
    RETRY_AFTER, USER_AGENT,
};
use actix_web::http::{Method, StatusCode};
use actix_web::middleware::Next;
use actix_web::{FromRequest, HttpMessage, HttpRequest, HttpResponse, ResponseError, web};
use cadentis_answers::changes::Author;
use cadentis_answers::kept::Site;
use cadentis_answers::people::{self, From, Signed};
use cadentis_answers::shares::{self, ShareLink};
use cadentis_answers::sites;
use cadentis_core::access::{LONGEST_S, May, Permission, Rights, Role, Scope};
use cadentis_core::share;
use cadentis_core::site::check_slug;
use serde::de::DeserializeOwned;
use std::future::{Ready, ready};
use std::net::IpAddr;
use std::time::Instant;
use url::form_urlencoded::{self, byte_serialize};

/// Whoever is signed in.
#[derive(Debug, Clone)]
pub struct Who {
    pub signed: Signed,
    /// From where they come.
    pub address: IpAddr,
    pub rights: Rights,
    /// The link that shows them this one page, where they are nobody here.
    pub shared: Option<ShareLink>,
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
        Author::signed(&self.signed, Some(self.address))
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
    /// The one site that a token is good for.
    of_site: Option<i32>,
    who: Option<Box<Signed>>,
}

impl Caller {
    /// Whether they may read what is measured of this site: a token is good for one, and people have a role on each.
    pub fn reads(&self, site_id: i32) -> bool {
        match &self.who {
            None => self.of_site == Some(site_id),
            Some(signed) => people::rights(signed, Some(site_id)).may(Permission::Read) == May::Yes,
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

/// The site that an address is about, behind a route that names one: whoever asks may read it.
pub struct InSite(pub Site);

impl FromRequest for InSite {
    type Error = PageError;
    type Future = Ready<Result<InSite, PageError>>;

    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        ready(site(request).map(InSite))
    }
}

/// The site that an address is about.
pub fn site(request: &HttpRequest) -> Result<Site, PageError> {
    request.extensions().get::<Site>().cloned().ok_or_else(|| no_site(request.path()))
}

/// Who may not see a site is told what everybody is told who asks for one that is not there.
fn no_site(path: &str) -> PageError {
    PageError::NotFound(format!(
        "{} is no site that you may see",
        path.chars().take(100).collect::<String>()
    ))
}

/// The parts of an address behind the name of its site.
pub struct After<T>(pub T);

impl<T: DeserializeOwned + 'static> FromRequest for After<T> {
    type Error = actix_web::Error;
    type Future = Ready<Result<After<T>, actix_web::Error>>;

    fn from_request(request: &HttpRequest, payload: &mut Payload) -> Self::Future {
        let read = web::Path::<(String, T)>::from_request(request, payload).into_inner();
        ready(read.map(|path| After(path.into_inner().1)))
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
fn cookie_name(is_https: bool, what: (&'static str, &'static str)) -> &'static str {
    if is_https { what.0 } else { what.1 }
}

/// The cookie of a session, over https and over http.
const SESSION: (&str, &str) = ("__Host-cadentis", "cadentis_session");
/// The cookie of a browser that is away at a provider.
pub const AWAY: (&str, &str) = ("__Host-cadentis-away", "cadentis_away");

fn is_https(state: &State, request: &HttpRequest) -> bool {
    state.door.address(request).starts_with("https://")
}

/// The cookie that holds a session; without one it takes it away.
pub fn cookie(state: &State, request: &HttpRequest, token: Option<&str>) -> Cookie<'static> {
    named_cookie(state, request, SESSION, token.map(|t| (t, Duration::seconds(LONGEST_S))))
}

/// A cookie of ours with what it holds and for how long; without, it takes it away.
pub fn named_cookie(
    state: &State,
    request: &HttpRequest,
    name: (&'static str, &'static str),
    holds: Option<(&str, Duration)>,
) -> Cookie<'static> {
    let is_https = is_https(state, request);
    let (token, age) = holds.unwrap_or(("", Duration::ZERO));
    let made = Cookie::build(cookie_name(is_https, name), token.to_string())
        .path("/")
        .http_only(true)
        .secure(is_https)
        .same_site(SameSite::Lax)
        .max_age(age);
    made.finish()
}

/// What a cookie of ours holds.
pub fn shown_cookie(
    state: &State,
    request: &HttpRequest,
    name: (&'static str, &'static str),
) -> Option<String> {
    let cookie = request.cookie(cookie_name(is_https(state, request), name))?;
    Some(cookie.value().to_string())
}

/// Whoever shows a session that has not ended.
pub async fn shown(state: &State, request: &HttpRequest) -> Result<Option<Who>, PageError> {
    let Some(token) = shown_cookie(state, request, SESSION) else { return Ok(None) };
    let signed = people::signed(&state.answers, &token).await?;
    let address = state.door.visitor_of(request);
    Ok(signed.map(|signed| Who {
        rights: people::rights(&signed, None),
        signed,
        address,
        shared: None,
    }))
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
    let turned_away = |request: ServiceRequest, e: PageError| {
        // A program reads what is said, not a page around it.
        let answer = match (&e, program_asks(&request)) {
            (PageError::SignedOut, _) => signed_out(&request),
            (PageError::Moved(to), _) => moved(&request, to, &e),
            (_, true) => Problem::new(e.status_code(), e.to_string()).into(),
            (_, false) => HttpResponse::from_error(e),
        };
        Ok(request.into_response(answer).map_into_right_body())
    };
    let is_api = request.path().starts_with(API);
    let named = request.match_info().get("site").map(str::to_string);
    if let Some(token) = bearer(&request).filter(|_| is_api) {
        return match program(&state, needs, &token).await {
            Ok((caller, left)) => {
                if !left.is_within {
                    let mut answer = too_often(left);
                    say_pace(answer.headers_mut(), left);
                    return Ok(request.into_response(answer).map_into_right_body());
                }
                match asked_about(&state, named, |site| caller.reads(site.id)).await {
                    Ok(Some(site)) => {
                        request.extensions_mut().insert(site);
                    }
                    Ok(None) => {}
                    Err(e) => return turned_away(request, e),
                }
                request.extensions_mut().insert(caller);
                let mut answer = next.call(request).await?;
                say_pace(answer.headers_mut(), left);
                Ok(answer.map_into_left_body())
            }
            Err(e) => turned_away(request, e),
        };
    }
    // Somebody's browser may be made to send what a page of others wishes: with a cookie alone the API is only read.
    let reads = matches!(*request.method(), Method::GET | Method::HEAD);
    if is_api && !reads {
        return turned_away(request, PageError::NoToken);
    }
    let mut who = match shown(&state, request.request()).await {
        Ok(Some(who)) => who,
        Ok(None) => match by_link(&state, needs, &request).await {
            Ok(Some(opened)) => return opened.through(request, next).await,
            Ok(None) => return turned_away(request, PageError::SignedOut),
            Err(e) => return turned_away(request, e),
        },
        Err(e) => return turned_away(request, e),
    };
    let reads = |site: &Site| people::rights(&who.signed, Some(site.id)).may(Permission::Read);
    match asked_about(&state, named, |site| reads(site) == May::Yes).await {
        Ok(Some(site)) => {
            who.rights = people::rights(&who.signed, Some(site.id));
            request.extensions_mut().insert(site);
        }
        Ok(None) => {}
        // Whoever is no member may have a link.
        Err(e @ PageError::NotFound(_)) => match by_link(&state, needs, &request).await {
            Ok(Some(opened)) => return opened.through(request, next).await,
            _ => return turned_away(request, e),
        },
        Err(e) => return turned_away(request, e),
    }
    match who.rights.may(needs) {
        May::Yes => {}
        May::Prove => return turned_away(request, PageError::Prove),
        May::No => {
            return turned_away(request, PageError::NotAllowed(needs.lack()));
        }
    }
    let (author, signed) = (who.author(), Box::new(who.signed.clone()));
    request.extensions_mut().insert(Caller { author, of_site: None, who: Some(signed) });
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
async fn program(
    state: &State,
    needs: Permission,
    token: &str,
) -> Result<(Caller, Left), PageError> {
    let token = people::shown_token(&state.answers, token).await?.ok_or(PageError::NoToken)?;
    if !Scope::may(&token.scopes, needs) {
        return Err(PageError::NotAllowed("This token was not made for that."));
    }
    let (author, of_site) = (Author::program(&token.name), Some(token.site_id));
    let left = state.pace.take(token.id, Instant::now());
    Ok((Caller { author, of_site, who: None }, left))
}

/// The parameter of an address that holds a link, and the cookie that holds it for the parts of its page.
pub const SHARE: &str = "share";
const SHARE_COOKIE: &str = "cadentis_share";

/// A page that a link opens.
struct Opened {
    link: ShareLink,
    site: Site,
    token: String,
    address: IpAddr,
    is_https: bool,
}

/// The page that is asked for, when whoever asks has a link to it.
///
/// # Errors
/// When there was a link to it once, or the database does not answer.
async fn by_link(
    state: &State,
    needs: Permission,
    request: &ServiceRequest,
) -> Result<Option<Opened>, PageError> {
    let mut asked: Vec<(String, String)> =
        form_urlencoded::parse(request.query_string().as_bytes()).into_owned().collect();
    let given = asked.iter().position(|(name, _)| name == SHARE).map(|at| asked.remove(at).1);
    let of_page = given.is_some();
    let token = given.or_else(|| request.cookie(SHARE_COOKIE).map(|c| c.value().to_string()));
    let Some(token) =
        token.filter(|_| needs == Permission::Read && *request.method() == Method::GET)
    else {
        return Ok(None);
    };
    let Some(slug) = request.match_info().get("site").filter(|_| !request.path().starts_with(API))
    else {
        return Ok(None);
    };
    let link = match shares::shown(&state.answers, &token).await? {
        Some(link) => link,
        None if of_page => return Err(PageError::Gone("This link is good no more.".into())),
        None => return Ok(None),
    };
    let of_link = |site: &Site| site.id == link.site_id;
    let Some(site) = sites::by_slug(&state.answers, slug).await?.filter(of_link) else {
        let was = sites::that_was(&state.answers, slug).await?.filter(of_link);
        return was.map_or(Ok(None), |site| Err(PageError::Moved(site.slug)));
    };
    let path = request.path().strip_prefix(&frame::base(&site)).unwrap_or_default();
    let shared: Vec<(String, String)> =
        form_urlencoded::parse(link.query.as_bytes()).into_owned().collect();
    if !share::opens((&link.path, &shared), (path, &asked)) {
        return Ok(None);
    }
    let address = state.door.visitor_of(request.request());
    let is_https = is_https(state, request.request());
    Ok(Some(Opened { link, site, token, address, is_https }))
}

impl Opened {
    /// Lets whoever has the link through to the page, as somebody who reads and sees nobody.
    async fn through<B: MessageBody + 'static>(
        self,
        request: ServiceRequest,
        next: Next<B>,
    ) -> Answered<B> {
        let of_site = self.site.clone();
        let path = frame::base(&of_site);
        request.extensions_mut().insert(Who {
            signed: Signed::nobody(),
            address: self.address,
            rights: Rights { role: Some(Role::Reader), ..Rights::default() },
            shared: Some(self.link),
        });
        request.extensions_mut().insert(of_site);
        let mut answer = next.call(request).await?;
        let cookie = Cookie::build(SHARE_COOKIE, self.token)
            .path(path)
            .http_only(true)
            .secure(self.is_https)
            .same_site(SameSite::Lax)
            .finish();
        let _ = answer.response_mut().add_cookie(&cookie);
        let headers = answer.headers_mut();
        headers.insert(CACHE_CONTROL, HeaderValue::from_static("no-store"));
        // What only who has the link shall find is in no list, and the link goes nowhere with a press.
        headers
            .insert(HeaderName::from_static("x-robots-tag"), HeaderValue::from_static("noindex"));
        headers.insert(REFERRER_POLICY, HeaderValue::from_static("no-referrer"));
        Ok(answer.map_into_left_body())
    }
}

/// How a program is told that it asks too often.
fn too_often(left: Left) -> HttpResponse {
    let says = format!(
        "A token may ask {A_MINUTE} times a minute; the next time is in {} s.",
        left.reset_s
    );
    let mut answer = HttpResponse::from(Problem::new(StatusCode::TOO_MANY_REQUESTS, says));
    answer.headers_mut().insert(RETRY_AFTER, HeaderValue::from(left.reset_s));
    answer
}

/// What is left to a token, in headers (draft-ietf-httpapi-ratelimit-headers, version 03: three fields that many programs
/// read).
fn say_pace(headers: &mut HeaderMap, left: Left) {
    for (name, value) in [
        ("ratelimit-limit", u64::from(A_MINUTE)),
        ("ratelimit-remaining", u64::from(left.remaining)),
        ("ratelimit-reset", left.reset_s),
    ] {
        headers.insert(HeaderName::from_static(name), HeaderValue::from(value));
    }
}

/// The site of this name, if whoever asks may read it.
async fn asked_about(
    state: &State,
    named: Option<String>,
    reads: impl Fn(&Site) -> bool,
) -> Result<Option<Site>, PageError> {
    let Some(slug) = named else { return Ok(None) };
    // What cannot be a name is none: nobody has to look for it.
    let found = match check_slug(&slug) {
        Ok(()) => sites::by_slug(&state.answers, &slug).await?,
        Err(_) => None,
    };
    if let Some(found) = found {
        return Some(found).filter(reads).map(Some).ok_or_else(|| no_site(&slug));
    }
    // Whoever may not read it is not told that it ever was.
    let was = match check_slug(&slug) {
        Ok(()) => sites::that_was(&state.answers, &slug).await?.filter(reads),
        Err(_) => None,
    };
    Err(was.map_or_else(|| no_site(&slug), |site| PageError::Moved(site.slug)))
}

/// Leads to the same page, or question of a program, of the site by the name that it has now.
fn moved(request: &ServiceRequest, to: &str, e: &PageError) -> HttpResponse {
    let asked = request.uri().path_and_query().map_or("/", |p| p.as_str());
    let was = request.match_info().get("site").unwrap_or_default();
    let before = if asked.starts_with(API) { format!("{API}/sites/") } else { "/".to_string() };
    let rest = asked.strip_prefix(&before).and_then(|rest| rest.strip_prefix(was));
    let at = rest.and_then(|rest| HeaderValue::from_str(&format!("{before}{to}{rest}")).ok());
    match at {
        Some(at) => HttpResponse::build(e.status_code()).insert_header((LOCATION, at)).finish(),
        None => no_site(was).error_response(),
    }
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
    import Import,
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
