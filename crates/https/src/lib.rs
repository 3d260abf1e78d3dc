//! Asking others over https: with the roots of the system or given ones, within a time and a length, following nobody
//! elsewhere. Whoever asks decides what may be asked: nothing here knows a name.

#![warn(missing_docs)]

use http_body_util::{BodyExt, Full, Limited};
use hyper::body::Bytes;
pub use hyper::{Method, Request, Response, StatusCode, header};
use hyper_rustls::{HttpsConnector, HttpsConnectorBuilder};
use hyper_util::client::legacy::Client;
use hyper_util::client::legacy::connect::HttpConnector;
use hyper_util::client::legacy::connect::dns::{GaiResolver, Name};
use hyper_util::rt::TokioExecutor;
use std::net::{IpAddr, SocketAddr};
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};
use std::time::Duration;
use tokio_rustls::rustls::pki_types::CertificateDer;
use tokio_rustls::rustls::pki_types::pem::PemObject;
use tokio_rustls::rustls::{ClientConfig, RootCertStore};
use tower_service::Service;

/// A connection that nobody uses is kept for so long.
const IDLE: Duration = Duration::from_secs(30);

/// Asks over https and http. A handle: clones share their connections.
#[derive(Debug, Clone)]
pub struct Https {
    client: Client<HttpsConnector<HttpConnector<Looked>>, Full<Bytes>>,
    patience: Duration,
    longest: usize,
    may_reach: MayReach,
}

/// Which addresses may be connected to.
#[derive(Clone)]
struct MayReach(Arc<dyn Fn(IpAddr) -> bool + Send + Sync>);

impl std::fmt::Debug for MayReach {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("MayReach")
    }
}

/// Looks names up, and leaves out what may not be connected to: what was looked up is what is connected to.
#[derive(Debug, Clone)]
struct Looked {
    system: GaiResolver,
    may_reach: MayReach,
}

impl Service<Name> for Looked {
    type Response = std::vec::IntoIter<SocketAddr>;
    type Error = std::io::Error;
    type Future = Pin<Box<dyn Future<Output = std::io::Result<Self::Response>> + Send>>;

    fn poll_ready(&mut self, context: &mut Context<'_>) -> Poll<std::io::Result<()>> {
        self.system.poll_ready(context)
    }

    fn call(&mut self, name: Name) -> Self::Future {
        let (asked, may_reach) = (self.system.call(name), self.may_reach.clone());
        Box::pin(async move {
            let all: Vec<SocketAddr> = asked.await?.filter(|a| may_reach.0(a.ip())).collect();
            match all.is_empty() {
                false => Ok(all.into_iter()),
                true => Err(std::io::Error::other(NOT_REACHED)),
            }
        })
    }
}

/// Why an address is not connected to.
const NOT_REACHED: &str = "it leads into a network that must not be reached from here";

impl Https {
    /// Believes servers with a certificate that the roots of the system have signed, or one of `roots` (PEM). An answer
    /// comes within `patience`, and has `longest` bytes at most.
    ///
    /// # Errors
    /// When `roots` are no certificates.
    pub fn new(roots: Option<&[u8]>, patience: Duration, longest: usize) -> Result<Https, String> {
        Https::reaching(roots, patience, longest, |_| true)
    }

    /// The same, which connects only to addresses that may be reached.
    ///
    /// # Errors
    /// As [`Https::new`].
    pub fn reaching(
        roots: Option<&[u8]>,
        patience: Duration,
        longest: usize,
        may_reach: impl Fn(IpAddr) -> bool + Send + Sync + 'static,
    ) -> Result<Https, String> {
        let may_reach = MayReach(Arc::new(may_reach));
        let mut store = RootCertStore::empty();
        // A system without roots has those that it is given.
        store.add_parsable_certificates(rustls_native_certs::load_native_certs().certs);
        if let Some(pem) = roots {
            let given: Result<Vec<_>, _> = CertificateDer::pem_slice_iter(pem).collect();
            let given = given.map_err(|e| e.to_string())?;
            if given.is_empty() {
                return Err("there is no certificate in it".into());
            }
            for root in given {
                store.add(root).map_err(|e| e.to_string())?;
            }
        }
        let provider = Arc::new(tokio_rustls::rustls::crypto::ring::default_provider());
        let tls = ClientConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()
            .map_err(|e| e.to_string())?
            .with_root_certificates(store)
            .with_no_client_auth();
        let looked = Looked { system: GaiResolver::new(), may_reach: may_reach.clone() };
        let mut http = HttpConnector::new_with_resolver(looked);
        http.enforce_http(false);
        let connector = HttpsConnectorBuilder::new()
            .with_tls_config(tls)
            .https_or_http()
            .enable_http1()
            .wrap_connector(http);
        let client = Client::builder(TokioExecutor::new()).pool_idle_timeout(IDLE).build(connector);
        Ok(Https { client, patience, longest, may_reach })
    }

    /// Sends something and waits for the whole answer.
    ///
    /// # Errors
    /// When there is none in time or it is too long, with all that is known of why.
    pub async fn send(&self, request: Request<Vec<u8>>) -> Result<Response<Vec<u8>>, String> {
        // An address that is no name is not looked up.
        let host = request.uri().host().unwrap_or_default();
        let literal = host.trim_start_matches('[').trim_end_matches(']').parse::<IpAddr>();
        if literal.is_ok_and(|ip| !self.may_reach.0(ip)) {
            return Err(NOT_REACHED.into());
        }
        let (head, body) = request.into_parts();
        let request = Request::from_parts(head, Full::new(Bytes::from(body)));
        let asked = async {
            let answer = self.client.request(request).await.map_err(|e| whole(&e))?;
            let (head, body) = answer.into_parts();
            let body = Limited::new(body, self.longest).collect().await;
            let body = body.map_err(|e| e.to_string())?.to_bytes();
            Ok(Response::from_parts(head, body.into()))
        };
        match tokio::time::timeout(self.patience, asked).await {
            Ok(answer) => answer,
            Err(_) => Err(format!("no answer within {} s", self.patience.as_secs())),
        }
    }
}

/// An error with what it came from: “client error” alone helps nobody.
pub fn whole(e: &dyn std::error::Error) -> String {
    let mut text = e.to_string();
    let mut from = e.source();
    while let Some(cause) = from {
        text = format!("{text}: {cause}");
        from = cause.source();
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn what_must_not_be_reached_is_not_connected_to_by_name_or_number() {
        let patience = Duration::from_secs(5);
        let https = Https::reaching(None, patience, 100, |ip| !ip.is_loopback()).expect("ready");
        for at in ["http://127.0.0.1:9/", "http://[::1]:9/", "http://localhost:9/"] {
            let request = Request::builder().uri(at).body(Vec::new()).expect("a request");
            let says = https.send(request).await.expect_err("not reached");
            assert!(says.contains("must not be reached"), "{at}: {says}");
        }
    }
}
