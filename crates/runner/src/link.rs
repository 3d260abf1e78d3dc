//! The link to the server: a runner calls out, over TLS wherever its server is not on the same machine.
//!
//! It follows no redirect: nobody leads a runner's token elsewhere.

use cadentis_https::header::{AUTHORIZATION, CONTENT_TYPE};
use cadentis_https::{Https, Method, Request, StatusCode};
use serde::Serialize;
use serde::de::DeserializeOwned;
use std::time::Duration;

/// So long a request may take.
const PATIENCE: Duration = Duration::from_secs(20);
/// No answer of the server is longer: work with its script and parts.
const LONGEST: usize = 16 << 20;

/// The link to a server.
#[derive(Clone)]
pub struct Link {
    server: String,
    client: Https,
}

/// What the server answered.
pub struct Answer {
    pub status: StatusCode,
    body: Vec<u8>,
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
        let client = Https::new(roots, PATIENCE, LONGEST)?;
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
            .body(body)
            .map_err(|e| e.to_string())?;
        let (head, body) = self.client.send(request).await?.into_parts();
        Ok(Answer { status: head.status, body })
    }
}
