//! Requests, names and connections without a browser, each with its phases.
//!
//! HTTP/1.1 over TCP or TLS, one connection a request, redirects not followed. Names are looked up
//! here unless the location has a proxy, which does it then.

use cadentis_core::run::reach::{Denied, is_web};
use cadentis_core::run::{Request, ServerTiming};
use cadentis_core::timing::phases::Phases;
use http_body_util::{BodyExt, Full, Limited};
use hyper::body::Bytes;
use hyper_util::rt::TokioIo;
use jiff::Timestamp;
use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::time::Duration;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::TcpStream;
use tokio::time::{Instant, timeout};
use tokio_rustls::TlsConnector;
use tokio_rustls::rustls::pki_types::{CertificateDer, ServerName};
use tokio_rustls::rustls::{ClientConfig, RootCertStore};

/// More of an answer is not read.
const MAX_BODY: usize = 10 << 20;

/// Why it did not come true, in words; all of it is the site's or the network's doing.
#[derive(Debug, thiserror::Error)]
pub enum WireError {
    #[error("{0} is no address that a request can be sent to")]
    Address(String),
    #[error("{0} was not found")]
    Lookup(String),
    #[error("no connection to {0} ({1})")]
    Connect(String, String),
    #[error("no secure connection to {0} ({1})")]
    Secure(String, String),
    #[error("no answer from {0} ({1})")]
    Answer(String, String),
    #[error("no answer from {0} within {1} s")]
    Late(String, u64),
    #[error("{0} may not be reached from this location")]
    Denied(String),
    #[error("a lookup here says nothing: this location's proxy looks names up")]
    Proxied,
}

/// How to get out of the location.
#[derive(Debug, Clone)]
pub struct Wire {
    pub proxy: Option<SocketAddr>,
    /// Certificates trusted beside the public ones.
    pub roots: Vec<CertificateDer<'static>>,
    /// Networks that must not be reached; where a proxy looks names up, only addresses written as numbers are known here.
    pub denied: Denied,
}

/// What came back.
#[derive(Debug, Clone, Default)]
pub struct Answer {
    pub status: u16,
    pub headers: Vec<(String, String)>,
    pub body: String,
    /// For how many more days the certificate is valid of the connection that it came by.
    pub certificate_days: Option<i64>,
}

trait Stream: AsyncRead + AsyncWrite + Unpin + std::marker::Send {}
impl<T: AsyncRead + AsyncWrite + Unpin + std::marker::Send> Stream for T {}

fn ms_since(begun: Instant) -> f64 {
    begun.elapsed().as_secs_f64() * 1000.0
}

impl Wire {
    /// The addresses of a host name, and how long asking took.
    ///
    /// # Errors
    /// The name is not found, or a proxy does the asking.
    pub async fn look_up(&self, host: &str) -> Result<(Vec<IpAddr>, f64), WireError> {
        if self.proxy.is_some() {
            return Err(WireError::Proxied);
        }
        let begun = Instant::now();
        let found =
            tokio::net::lookup_host((host, 0)).await.map_err(|_| WireError::Lookup(host.into()))?;
        let mut found: Vec<IpAddr> = found.map(|a| a.ip()).collect();
        found.dedup();
        found.retain(|ip| !self.denied.holds(*ip));
        if found.is_empty() {
            return Err(WireError::Denied(host.into()));
        }
        Ok((found, ms_since(begun)))
    }

    async fn connect(
        &self,
        host: &str,
        port: u16,
        phases: &mut Phases,
    ) -> Result<TcpStream, WireError> {
        let refused = |e: String| WireError::Connect(format!("{host}:{port}"), e);
        let literal = host.trim_matches(['[', ']']).parse::<IpAddr>();
        if literal.is_ok_and(|ip| self.denied.holds(ip)) {
            return Err(WireError::Denied(host.into()));
        }
        if let Some(proxy) = self.proxy {
            let begun = Instant::now();
            let stream = tokio_socks::tcp::Socks5Stream::connect(proxy, (host, port)).await;
            phases.connect_ms = ms_since(begun);
            return Ok(stream.map_err(|e| refused(e.to_string()))?.into_inner());
        }
        let (found, dns_ms) = self.look_up(host.trim_matches(['[', ']'])).await?;
        phases.dns_ms = dns_ms;
        let begun = Instant::now();
        let mut last = "no address".to_string();
        for ip in found {
            match TcpStream::connect((ip, port)).await {
                Ok(stream) => {
                    phases.connect_ms = ms_since(begun);
                    return Ok(stream);
                }
                Err(e) => last = e.to_string(),
            }
        }
        Err(refused(last))
    }

    /// Opens a connection and, if wished, secures it.
    ///
    /// # Errors
    /// In words; a certificate that does not hold is one.
    pub async fn open(
        &self,
        to: &str,
        secure: bool,
        patience: Duration,
    ) -> Result<(Phases, Option<i64>), WireError> {
        let (host, port) = to.rsplit_once(':').ok_or_else(|| WireError::Address(to.into()))?;
        let port = port.parse().map_err(|_| WireError::Address(to.into()))?;
        let mut phases = Phases::default();
        let whole = async {
            let tcp = self.connect(host, port, &mut phases).await?;
            if !secure {
                return Ok(None);
            }
            let (_, days) = self.secure(tcp, host, &mut phases).await?;
            Ok(days)
        };
        let days = timeout(patience, whole)
            .await
            .unwrap_or_else(|_| Err(WireError::Late(to.into(), patience.as_secs())))?;
        Ok((phases, days))
    }

    /// TLS on a connection: the stream, and for how many more days its certificate is valid.
    async fn secure(
        &self,
        tcp: TcpStream,
        host: &str,
        phases: &mut Phases,
    ) -> Result<(tokio_rustls::client::TlsStream<TcpStream>, Option<i64>), WireError> {
        let failed = |e: String| WireError::Secure(host.into(), e);
        let mut roots = RootCertStore { roots: webpki_roots::TLS_SERVER_ROOTS.to_vec() };
        roots.add_parsable_certificates(self.roots.iter().cloned());
        let config = ClientConfig::builder().with_root_certificates(roots).with_no_client_auth();
        let name = ServerName::try_from(host.to_string()).map_err(|e| failed(e.to_string()))?;
        let begun = Instant::now();
        let stream = TlsConnector::from(Arc::new(config))
            .connect(name, tcp)
            .await
            .map_err(|e| failed(e.to_string()))?;
        phases.tls_ms = ms_since(begun);
        let days = stream
            .get_ref()
            .1
            .peer_certificates()
            .and_then(<[_]>::first)
            .and_then(|c| days_left(c));
        Ok((stream, days))
    }

    /// Sends one request. The record of it comes back even when no answer did.
    pub async fn send(
        &self,
        send: &cadentis_core::journey::Send,
        patience: Duration,
    ) -> (Request, Result<Answer, WireError>) {
        let mut request = Request {
            url: send.address.clone(),
            method: send.method.clone(),
            kind: "fetch".into(),
            status: 0,
            start_ms: 0.0,
            phases: Phases::default(),
            bytes: 0,
            protocol: "http/1.1".into(),
            from_cache: false,
            failed: None,
            trace: None,
            asked: Default::default(),
        };
        let late = || WireError::Late(request_host(&send.address).into(), patience.as_secs());
        let answer = match timeout(patience, self.exchange(send, &mut request)).await {
            Ok(answer) => answer,
            Err(_) => Err(late()),
        };
        if let Err(e) = &answer {
            request.failed = Some(e.to_string());
        }
        (request, answer)
    }

    async fn exchange(
        &self,
        send: &cadentis_core::journey::Send,
        record: &mut Request,
    ) -> Result<Answer, WireError> {
        let wrong = || WireError::Address(send.address.clone());
        let uri: hyper::Uri = send.address.parse().map_err(|_| wrong())?;
        let host = uri.host().ok_or_else(wrong)?.to_string();
        if !is_web(&send.address) {
            return Err(wrong());
        }
        let secure = uri.scheme_str() == Some("https");
        let port = uri.port_u16().unwrap_or(if secure { 443 } else { 80 });
        let path = uri.path_and_query().map_or("/", |p| p.as_str());
        let lost = |e: String| WireError::Answer(host.clone(), e);
        let tcp = self.connect(&host, port, &mut record.phases).await?;
        let _ = tcp.set_nodelay(true);
        let (stream, certificate_days): (Box<dyn Stream>, _) = if secure {
            let (stream, days) = self.secure(tcp, &host, &mut record.phases).await?;
            (Box::new(stream), days)
        } else {
            (Box::new(tcp), None)
        };
        let begun = Instant::now();
        let (mut sender, connection) = hyper::client::conn::http1::handshake(TokioIo::new(stream))
            .await
            .map_err(|e| lost(e.to_string()))?;
        tokio::spawn(async move {
            // What breaks here shows where the answer is awaited.
            let _ = connection.await;
        });
        let authority = uri.authority().map_or(host.as_str(), |a| a.as_str());
        let mut request = hyper::Request::builder()
            .method(send.method.as_str())
            .uri(path)
            .header("host", authority);
        let own = |name: &str| send.headers.iter().any(|(n, _)| n.eq_ignore_ascii_case(name));
        if !own("user-agent") {
            request = request.header("user-agent", concat!("Cadentis/", env!("CARGO_PKG_VERSION")));
        }
        if !own("accept") {
            request = request.header("accept", "*/*");
        }
        for (name, value) in &send.headers {
            request = request.header(name, value);
        }
        let body = Full::new(Bytes::from(send.body.clone().unwrap_or_default()));
        let request = request.body(body).map_err(|e| lost(e.to_string()))?;
        record.phases.request_ms = ms_since(begun);
        let begun = Instant::now();
        let answer = sender.send_request(request).await.map_err(|e| lost(e.to_string()))?;
        record.phases.wait_ms = ms_since(begun);
        let begun = Instant::now();
        let (head, body) = answer.into_parts();
        let status = head.status.as_u16();
        let headers: Vec<(String, String)> = head
            .headers
            .iter()
            .map(|(n, v)| (n.to_string(), String::from_utf8_lossy(v.as_bytes()).into_owned()))
            .collect();
        record.status = status;
        let said = headers.iter().find(|(n, _)| n == "server-timing");
        record.asked.server = said.map(|(_, v)| ServerTiming::read(v)).unwrap_or_default();
        record.trace = ServerTiming::trace(&record.asked.server);
        let whole = Limited::new(body, MAX_BODY)
            .collect()
            .await
            .map_err(|e| lost(e.to_string()))?
            .to_bytes();
        record.phases.receive_ms = ms_since(begun);
        record.bytes = whole.len() as u64;
        let body = String::from_utf8_lossy(&whole).into_owned();
        Ok(Answer { status, headers, body, certificate_days })
    }
}

fn request_host(address: &str) -> &str {
    address
        .split_once("://")
        .map_or(address, |(_, rest)| rest.split(['/', '?', '#']).next().unwrap_or(""))
}

/// Whole days until the certificate ends; negative when it has.
fn days_left(certificate: &[u8]) -> Option<i64> {
    let (_, parsed) = x509_parser::parse_x509_certificate(certificate).ok()?;
    let left = parsed.validity().not_after.timestamp() - Timestamp::now().as_second();
    Some(left.div_euclid(86_400))
}
