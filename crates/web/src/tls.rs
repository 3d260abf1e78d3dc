//! TLS of listeners that end it themselves: a certificate and its key from files, read anew when they have changed.

use rustls::ServerConfig;
use rustls::crypto::{CryptoProvider, ring};
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use rustls::server::{ClientHello, ResolvesServerCert};
use rustls::sign::CertifiedKey;
use std::path::PathBuf;
use std::sync::{Arc, PoisonError, RwLock};
use std::time::Duration;

/// So often the files are looked at: whoever renews certificates puts new ones there weeks before the old ones end.
const LOOKED_AT_EVERY: Duration = Duration::from_secs(30);

/// Why a certificate and its key cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum TlsError {
    #[error(
        "the certificate in {file}: {why}; it is PEM, the server’s own first, then those that signed it"
    )]
    Certificate { file: String, why: String },
    #[error("the key in {file}: {why}; it is PEM, and not sealed by a password")]
    Key { file: String, why: String },
    #[error("the key in {key} is not that of the certificate in {certificate}: {why}")]
    NotOne { certificate: String, key: String, why: String },
}

/// A certificate and its key, as the files say just now.
#[derive(Debug)]
pub struct Tls {
    certificate: PathBuf,
    key: PathBuf,
    provider: Arc<CryptoProvider>,
    held: RwLock<Arc<CertifiedKey>>,
}

impl Tls {
    /// Reads both files.
    ///
    /// # Errors
    /// When one of them cannot be read, or they do not belong together.
    pub fn read(certificate: PathBuf, key: PathBuf) -> Result<Arc<Tls>, TlsError> {
        let provider = Arc::new(ring::default_provider());
        let held = RwLock::new(Arc::new(pair(&certificate, &key, &provider)?));
        Ok(Arc::new(Tls { certificate, key, provider, held }))
    }

    fn now(&self) -> Arc<CertifiedKey> {
        self.held.read().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Takes what the files say now; what cannot be used is not taken, and what is held stays. Whether it is another one.
    ///
    /// # Errors
    /// When it cannot be used.
    pub fn look(&self) -> Result<bool, TlsError> {
        let read = pair(&self.certificate, &self.key, &self.provider)?;
        if read.cert == self.now().cert {
            return Ok(false);
        }
        *self.held.write().unwrap_or_else(PoisonError::into_inner) = Arc::new(read);
        Ok(true)
    }

    /// Looks at the files for as long as the server runs.
    pub async fn keep_looking(self: Arc<Tls>) {
        loop {
            tokio::time::sleep(LOOKED_AT_EVERY).await;
            let tls = self.clone();
            match tokio::task::spawn_blocking(move || tls.look()).await {
                Ok(Ok(true)) => tracing::info!("there is a new certificate, and it is used"),
                Ok(Ok(false)) => {}
                // Of two files one may be new already and the other not yet.
                Ok(Err(e)) => tracing::warn!("the certificate of before is still used: {e}"),
                Err(e) => tracing::error!("certificates are not looked at: {e}"),
            }
        }
    }

    /// How connections are sealed: by TLS 1.2 and 1.3.
    pub(crate) fn config(self: &Arc<Tls>) -> std::io::Result<ServerConfig> {
        let config = ServerConfig::builder_with_provider(self.provider.clone())
            .with_safe_default_protocol_versions()
            .map_err(std::io::Error::other)?;
        Ok(config.with_no_client_auth().with_cert_resolver(self.clone()))
    }
}

impl ResolvesServerCert for Tls {
    fn resolve(&self, _: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        Some(self.now())
    }
}

fn pair(
    certificate: &PathBuf,
    key: &PathBuf,
    provider: &CryptoProvider,
) -> Result<CertifiedKey, TlsError> {
    let (file, key_file) = (certificate.display().to_string(), key.display().to_string());
    let wrong = |why: String| TlsError::Certificate { file: file.clone(), why };
    let chain = CertificateDer::pem_file_iter(certificate).map_err(|e| wrong(e.to_string()))?;
    let chain: Result<Vec<_>, _> = chain.collect();
    let chain = chain.map_err(|e| wrong(e.to_string()))?;
    if chain.is_empty() {
        return Err(wrong("there is none".into()));
    }
    let key = PrivateKeyDer::from_pem_file(key)
        .map_err(|e| TlsError::Key { file: key_file.clone(), why: e.to_string() })?;
    CertifiedKey::from_der(chain, key, provider).map_err(|e| TlsError::NotOne {
        certificate: file,
        key: key_file,
        why: e.to_string(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_renewed_certificate_is_taken_and_one_that_does_not_fit_is_not() {
        let folder = std::env::temp_dir().join(format!("cadentis-tls-{}", std::process::id()));
        std::fs::create_dir_all(&folder).unwrap();
        let (certificate, key) = (folder.join("chain.pem"), folder.join("key.pem"));
        let made = || {
            let key = rcgen::KeyPair::generate().unwrap();
            let params = rcgen::CertificateParams::new(vec!["localhost".to_string()]).unwrap();
            (params.self_signed(&key).unwrap().pem(), key.serialize_pem())
        };
        let read = || Tls::read(certificate.clone(), key.clone());
        let says = |e: TlsError| e.to_string();
        assert!(says(read().unwrap_err()).starts_with("the certificate in "));
        let (first, second) = (made(), made());
        std::fs::write(&certificate, "no certificate").unwrap();
        assert!(says(read().unwrap_err()).contains("there is none"));
        std::fs::write(&certificate, &first.0).unwrap();
        assert!(says(read().unwrap_err()).starts_with("the key in "));
        std::fs::write(&key, &first.1).unwrap();
        let tls = read().unwrap();
        let was = tls.now();
        assert!(!tls.look().unwrap(), "nothing has changed");
        std::fs::write(&certificate, &second.0).unwrap();
        assert!(says(tls.look().unwrap_err()).contains("is not that of the certificate"));
        assert_eq!(tls.now().cert, was.cert);
        std::fs::write(&key, &second.1).unwrap();
        assert!(tls.look().unwrap());
        assert_ne!(tls.now().cert, was.cert);
        std::fs::remove_dir_all(&folder).unwrap();
    }
}
