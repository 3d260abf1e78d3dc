//! The link to the server: a runner calls out, over TLS wherever its server is not on the same machine.
//!
//! It follows no redirect: nobody leads a runner's token elsewhere.

use http_body_util::{BodyExt, Full, Limited};
use hyper::body::Bytes;
use hyper::header::{AUTHORIZATION, CONTENT_TYPE};
use hyper::{Method, Request, StatusCode};
use hyper_rustls::{HttpsConnector, HttpsConnectorBuilder};
use hyper_util::client::legacy::Client;
use hyper_util::client::legacy::connect::HttpConnector;
use hyper_util::rt::TokioExecutor;
use serde::Serialize;
use serde::de::DeserializeOwned;
use std::time::Duration;
use tokio_rustls::rustls::pki_types::CertificateDer;
use tokio_rustls::rustls::pki_types::pem::PemObject;
use tokio_rustls::rustls::{ClientConfig, RootCertStore};

/// So long a request may take.
const PATIENCE: Duration = Duration::from_secs(20);
/// No answer of the server is longer: work with its script and parts.
const LONGEST: usize = 16 << 20;

/// The link to a server.
#[derive(Clone)]
pub struct Link {
    server: String,
    client: Client<HttpsConnector<HttpConnector>, Full<Bytes>>,
}

/// What the server answered.
pub struct Answer {
    pub status: StatusCode,
    body: Bytes,
}

impl Answer {
    /// What it says.
    ///
    /// # Errors
    /// When it is no JSON of this form.
    pub fn json<T: DeserializeOwned>(&self) -> Result<T, String> {
        serde_json::from_slice(&self.body).map_err(|e| format!("its answer cannot be read: {e}"))
    }
}

impl Link {
    /// A link to this server. It is believed with a certificate that the roots of the system have signed, or one of `roots`
    /// (PEM).
    ///
    /// # Errors
    /// When `roots` are no certificates.
    pub fn to(server: &str, roots: Option<&[u8]>) -> Result<Link, String> {
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
        let provider = std::sync::Arc::new(tokio_rustls::rustls::crypto::ring::default_provider());
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
        let client = Client::builder(TokioExecutor::new())
            .pool_idle_timeout(Duration::from_secs(30))
            .build(connector);
        Ok(Link { server: server.trim_end_matches('/').to_string(), client })
    }

    /// The address of the server.
    pub fn server(&self) -> &str {
        &self.server
    }

    /// Sends something and waits for the answer.
    ///
    /// # Errors
    /// When there is none in time, with all that is known of why.
    pub async fn post(
        &self,
        path: &str,
        token: &str,
        what: &impl Serialize,
    ) -> Result<Answer, String> {
        let body = serde_json::to_vec(what).map_err(|e| e.to_string())?;
        let request = Request::builder()
            .method(Method::POST)
            .uri(format!("{}{path}", self.server))
            .header(AUTHORIZATION, format!("Bearer {token}"))
            .header(CONTENT_TYPE, "application/json")
            .body(Full::new(Bytes::from(body)))
            .map_err(|e| e.to_string())?;
        let asked = async {
            let answer = self.client.request(request).await.map_err(|e| whole(&e))?;
            let status = answer.status();
            let body = Limited::new(answer.into_body(), LONGEST).collect().await;
            Ok(Answer { status, body: body.map_err(|e| e.to_string())?.to_bytes() })
        };
        match tokio::time::timeout(PATIENCE, asked).await {
            Ok(answer) => answer,
            Err(_) => Err(format!("no answer within {} s", PATIENCE.as_secs())),
        }
    }
}

/// An error with what it came from: “client error” alone helps nobody.
fn whole(e: &dyn std::error::Error) -> String {
    let mut text = e.to_string();
    let mut from = e.source();
    while let Some(cause) = from {
        text = format!("{text}: {cause}");
        from = cause.source();
    }
    text
}
