//! The door: which names this server answers to, who may change something, and what every answer tells the browser.
//!
//! Nothing here knows a single page. Beacons and runners are let past [`same_origin`]: they carry no cookie, and runners
//! show a token of their own.

use crate::{State, problem};
use actix_web::body::{EitherBody, MessageBody};
use actix_web::dev::{ServiceRequest, ServiceResponse};
use actix_web::http::header::{self, HeaderMap};
use actix_web::http::{Method, StatusCode};
use actix_web::middleware::{DefaultHeaders, Next};
use actix_web::{HttpRequest, web};
use ipnet::IpNet;
use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use url::Url;

/// An address under which people and programs reach this server.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PublicUrl {
    /// `http` or `https`.
    scheme: String,
    /// Host and port as a `Host` header has them: without the scheme's own port, in lower case.
    authority: String,
}

/// What is wrong with an address given as a public one.
#[derive(Debug, thiserror::Error)]
#[error("{given} is no public address: {says}, such as https://cadentis.example")]
pub struct PublicUrlError {
    given: String,
    says: &'static str,
}

impl PublicUrl {
    /// Reads an address of scheme, host and port.
    ///
    /// # Errors
    /// When it is none, or has a path, a query or a name in it.
    pub fn parse(given: &str) -> Result<PublicUrl, PublicUrlError> {
        let wrong = |says| PublicUrlError { given: given.to_string(), says };
        let url = Url::parse(given).map_err(|_| wrong("an address has a scheme and a host"))?;
        if !matches!(url.scheme(), "http" | "https") {
            return Err(wrong("it begins with http:// or https://"));
        }
        if url.path() != "/" || url.query().is_some() || url.fragment().is_some() {
            return Err(wrong("it has neither path nor query"));
        }
        if !url.username().is_empty() || url.password().is_some() {
            return Err(wrong("it has no name and no password in it"));
        }
        let host = url.host_str().ok_or_else(|| wrong("it has a host"))?;
        let authority = url.port().map_or(host.to_string(), |port| format!("{host}:{port}"));
        Ok(PublicUrl { scheme: url.scheme().into(), authority })
    }

    /// Every name of this machine itself, at this port.
    fn loopback(port: u16) -> Vec<PublicUrl> {
        let of =
            |host: &str| PublicUrl { scheme: "http".into(), authority: format!("{host}:{port}") };
        ["127.0.0.1", "localhost", "[::1]"].map(of).to_vec()
    }

    /// Whether it is reached over TLS.
    pub fn is_https(&self) -> bool {
        self.scheme == "https"
    }

    /// As it stands before a path.
    pub fn text(&self) -> String {
        format!("{}://{}", self.scheme, self.authority)
    }
}

/// Names and proxies that are believed.
#[derive(Debug, Clone, Default)]
pub struct Door {
    public: Vec<PublicUrl>,
    /// Proxies that say truly whom they forward for.
    trusted: Vec<IpNet>,
}

impl Door {
    /// `public` are the addresses that are answered. A server that listens on loopback also answers to the names of
    /// the machine itself when it was given none.
    ///
    /// # Errors
    /// When it listens for others and no public address was given.
    pub fn new(
        mut public: Vec<PublicUrl>,
        trusted: Vec<IpNet>,
        listen: SocketAddr,
    ) -> Result<Door, String> {
        if public.is_empty() {
            if !listen.ip().is_loopback() {
                return Err(format!(
                    "a server that listens on {listen} needs --public-url, the address others know it by"
                ));
            }
            public = PublicUrl::loopback(listen.port());
        }
        Ok(Door { public, trusted })
    }

    /// The public address that a request asks for by its `Host`; `None` when it asks for somebody else.
    fn asked(&self, host: Option<&str>) -> Option<&PublicUrl> {
        let host = host?;
        self.public
            .iter()
            .find(|p| p.authority.eq_ignore_ascii_case(without_own_port(host, &p.scheme)))
    }

    /// Whether a request asks for this server by a name that it has.
    pub fn knows(&self, request: &HttpRequest) -> bool {
        self.asked(host(request.headers())).is_some()
    }

    /// The public address that is told first, for links in the log; of a server that was given none its own.
    pub fn begins(&self, listen: SocketAddr) -> String {
        self.public.first().map_or_else(|| format!("http://{listen}"), PublicUrl::text)
    }

    /// The public address of this request, for commands and snippets that are shown.
    pub fn address(&self, request: &HttpRequest) -> String {
        let found = self.asked(host(request.headers())).or(self.public.first());
        found.map_or_else(String::new, PublicUrl::text)
    }

    /// Whether a request that changes something comes from a page of ours.
    fn is_from_us(&self, headers: &HeaderMap) -> bool {
        let text = |name: &str| headers.get(name).map(|v| v.to_str().unwrap_or(""));
        match (text("sec-fetch-site"), text("origin")) {
            // Browsers set it and pages cannot.
            (Some(site), _) => site == "same-origin",
            (None, Some(origin)) => {
                let ours = PublicUrl::parse(origin).ok();
                ours.is_some() && ours.as_ref() == self.asked(host(headers))
            }
            (None, None) => false,
        }
    }

    /// Whether what this peer says about others is believed.
    pub fn trusts(&self, peer: IpAddr) -> bool {
        let peer = peer.to_canonical();
        self.trusted.iter().any(|net| net.contains(&peer))
    }

    /// The address of the visitor: the rightmost one in `X-Forwarded-For` that no trusted proxy wrote of another
    /// trusted proxy. Whatever stands left of it the visitor may have written.
    pub fn visitor(&self, peer: IpAddr, forwarded: &[&str]) -> IpAddr {
        let mut visitor = peer;
        for written in forwarded.iter().rev().flat_map(|line| line.rsplit(',')) {
            if !self.trusts(visitor) {
                break;
            }
            match address(written.trim()) {
                Some(ip) => visitor = ip,
                None => break,
            }
        }
        visitor
    }

    /// The address of whoever is at the other end of this request.
    pub fn visitor_of(&self, request: &HttpRequest) -> IpAddr {
        let peer = request.peer_addr().map_or(IpAddr::V4(Ipv4Addr::UNSPECIFIED), |a| a.ip());
        let lines: Vec<&str> = request
            .headers()
            .get_all("x-forwarded-for")
            .map(|v| v.to_str().unwrap_or(""))
            .collect();
        self.visitor(peer, &lines)
    }
}

fn host(headers: &HeaderMap) -> Option<&str> {
    headers.get(header::HOST).and_then(|v| v.to_str().ok())
}

fn without_own_port<'a>(host: &'a str, scheme: &str) -> &'a str {
    host.strip_suffix(if scheme == "https" { ":443" } else { ":80" }).unwrap_or(host)
}

/// An address as proxies write it, with or without a port.
fn address(text: &str) -> Option<IpAddr> {
    text.parse().ok().or_else(|| text.parse::<SocketAddr>().ok().map(|a| a.ip()))
}

/// Answers only to names that are ours, so that no page can make this server its own by a name that leads here.
pub async fn known_host<B: MessageBody>(
    state: web::Data<State>,
    request: ServiceRequest,
    next: Next<B>,
) -> Result<ServiceResponse<EitherBody<B>>, actix_web::Error> {
    let Some(asked) = state.door.asked(host(request.headers())) else {
        let says =
            "This server has another name. Whoever runs it can add this one with --public-url.";
        let answer = problem::refusal(&request, StatusCode::MISDIRECTED_REQUEST, says);
        return Ok(request.into_response(answer).map_into_right_body());
    };
    let is_https = asked.scheme == "https";
    let mut answer = next.call(request).await?;
    if is_https {
        // Nobody between us and the browser can make it come without encryption from now on.
        let always = header::HeaderValue::from_static("max-age=31536000");
        answer.headers_mut().insert(header::STRICT_TRANSPORT_SECURITY, always);
    }
    Ok(answer.map_into_left_body())
}

/// Lets a request that changes something through only from a page of ours. One check for every route behind it.
pub async fn same_origin<B: MessageBody>(
    state: web::Data<State>,
    request: ServiceRequest,
    next: Next<B>,
) -> Result<ServiceResponse<EitherBody<B>>, actix_web::Error> {
    let reads = matches!(*request.method(), Method::GET | Method::HEAD);
    if !reads && !state.door.is_from_us(request.headers()) {
        let says = "Only pages of this server may do that.";
        let answer = problem::refusal(&request, StatusCode::FORBIDDEN, says);
        return Ok(request.into_response(answer).map_into_right_body());
    }
    Ok(next.call(request).await?.map_into_left_body())
}

/// Nothing runs, is drawn or is asked for but what comes from here; nobody may put our pages into theirs.
/// Pictures of runs and recordings come as `data:`.
pub const CONTENT_SECURITY_POLICY: &str = "default-src 'none'; script-src 'self'; style-src 'self'; \
    img-src 'self' data:; font-src 'self'; connect-src 'self'; form-action 'self'; frame-ancestors 'none'; base-uri 'none'";

/// The same, with styles that a script of ours marks by this word.
pub fn policy_with_style_nonce(nonce: &str) -> String {
    CONTENT_SECURITY_POLICY
        .replace("style-src 'self'", &format!("style-src 'self' 'nonce-{nonce}'"))
}

/// What every page says to the browser.
pub fn headers() -> DefaultHeaders {
    DefaultHeaders::new()
        .add(("content-security-policy", CONTENT_SECURITY_POLICY))
        .add(("cross-origin-opener-policy", "same-origin"))
        .add(("cross-origin-resource-policy", "same-origin"))
        .add(("x-content-type-options", "nosniff"))
        .add(("referrer-policy", "same-origin"))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn door(public: &[&str], trusted: &[&str]) -> Door {
        let public = public.iter().map(|p| PublicUrl::parse(p).unwrap()).collect();
        let trusted = trusted.iter().map(|t| t.parse().unwrap()).collect();
        Door::new(public, trusted, "127.0.0.1:7070".parse().unwrap()).unwrap()
    }

    #[test]
    fn a_public_address_is_scheme_host_and_port_and_nothing_else() {
        for (given, want) in [
            ("https://Cadentis.example", "https://cadentis.example"),
            ("https://cadentis.example:443/", "https://cadentis.example"),
            ("http://10.0.0.5:7070", "http://10.0.0.5:7070"),
            ("http://[::1]:7070", "http://[::1]:7070"),
        ] {
            assert_eq!(PublicUrl::parse(given).unwrap().text(), want);
        }
        for wrong in [
            "cadentis.example",
            "ftp://a.example",
            "https://a.example/b",
            "https://a@b.example",
            "https://a.example?x",
        ] {
            assert!(PublicUrl::parse(wrong).is_err(), "{wrong}");
        }
    }

    #[test]
    fn only_names_that_were_given_are_answered_and_loopback_only_where_none_was() {
        let named = door(&["https://cadentis.example"], &[]);
        for (host, known) in [
            ("cadentis.example", true),
            ("CADENTIS.example:443", true),
            ("cadentis.example:80", false),
            ("cadentis.example.evil", false),
            ("127.0.0.1:7070", false),
        ] {
            assert_eq!(named.asked(Some(host)).is_some(), known, "{host}");
        }
        let local = door(&[], &[]);
        assert!(
            local.asked(Some("localhost:7070")).is_some()
                && local.asked(Some("localhost:7071")).is_none()
        );
        assert!(local.asked(None).is_none());
        assert!(Door::new(Vec::new(), Vec::new(), "0.0.0.0:7070".parse().unwrap()).is_err());
    }

    #[test]
    fn the_visitor_is_the_rightmost_address_that_no_trusted_proxy_wrote() {
        let door = door(&[], &["10.0.0.0/8", "127.0.0.0/8"]);
        let of =
            |peer: &str, lines: &[&str]| door.visitor(peer.parse().unwrap(), lines).to_string();
        // A stranger is not believed whatever it writes.
        assert_eq!(of("198.51.100.7", &["203.0.113.9"]), "198.51.100.7");
        assert_eq!(of("10.0.0.1", &["203.0.113.9"]), "203.0.113.9");
        // The visitor wrote the first; our two proxies the rest.
        assert_eq!(of("10.0.0.1", &["1.2.3.4, 203.0.113.9, 10.0.0.2"]), "203.0.113.9");
        assert_eq!(of("10.0.0.1", &["1.2.3.4", "203.0.113.9:55123"]), "203.0.113.9");
        assert_eq!(of("127.0.0.1", &["[2001:db8::1]:443"]), "2001:db8::1");
        assert_eq!(of("10.0.0.1", &["1.2.3.4, nonsense"]), "10.0.0.1");
        assert_eq!(of("::ffff:10.0.0.1", &["203.0.113.9"]), "203.0.113.9");
    }
}
