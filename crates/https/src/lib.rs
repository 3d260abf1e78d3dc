//! Asking others over https: with the roots of the system or given ones, within a time and a length, following nobody
//! elsewhere. Whoever asks decides what may be asked: nothing here knows a name.

#![warn(missing_docs)]

use http_body_util::{BodyExt, Full, Limited};
use hyper::body::Bytes;
pub use hyper::{Method, Request, Response, StatusCode, header};
use hyper_rustls::{HttpsConnector, HttpsConnectorBuilder};
use hyper_util::client::legacy::Client;
use hyper_util::client::legacy::connect::HttpConnector;
use hyper_util::rt::TokioExecutor;
use std::sync::Arc;
use std::time::Duration;
use tokio_rustls::rustls::pki_types::CertificateDer;
use tokio_rustls::rustls::pki_types::pem::PemObject;
use tokio_rustls::rustls::{ClientConfig, RootCertStore};

/// A connection that nobody uses is kept for so long.
const IDLE: Duration = Duration::from_secs(30);

/// Asks over https and http. A handle: clones share their connections.
#[derive(Debug, Clone)]
pub struct Https {
    client: Client<HttpsConnector<HttpConnector>, Full<Bytes>>,
    patience: Duration,
    longest: usize,
}

impl Https {
    /// Believes servers with a certificate that the roots of the system have signed, or one of `roots` (PEM). An answer
    /// comes within `patience`, and has `longest` bytes at most.
    ///
    /// # Errors
    /// When `roots` are no certificates.
    pub fn new(roots: Option<&[u8]>, patience: Duration, longest: usize) -> Result<Https, String> {
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
        let connector = HttpsConnectorBuilder::new()
            .with_tls_config(tls)
            .https_or_http()
            .enable_http1()
            .build();
        let client = Client::builder(TokioExecutor::new()).pool_idle_timeout(IDLE).build(connector);
        Ok(Https { client, patience, longest })
    }

    /// Sends something and waits for the whole answer.
    ///
    /// # Errors
    /// When there is none in time or it is too long, with all that is known of why.
    pub async fn send(&self, request: Request<Vec<u8>>) -> Result<Response<Vec<u8>>, String> {
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
