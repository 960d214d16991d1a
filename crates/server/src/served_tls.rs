//! HTTPS without anything in front: a certificate and its key from files, which are read anew when they change.

use std::path::{Path, PathBuf};
use std::sync::{Arc, PoisonError, RwLock};
use std::time::{Duration, SystemTime};

use anyhow::{Context, Result, ensure};
use rustls::ServerConfig;
use rustls::crypto::ring;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use rustls::server::{ClientHello, ResolvesServerCert};
use rustls::sign::CertifiedKey;
use tokio_rustls::TlsAcceptor;
use tokio_util::sync::CancellationToken;

/// How often the files are looked at.
const LOOK_EVERY: Duration = Duration::from_secs(5);

/// The certificate that is served, and the files that it is from.
#[derive(Debug)]
pub struct ServedTls {
    certificate: PathBuf,
    key: PathBuf,
    current: RwLock<Arc<CertifiedKey>>,
}

impl ServedTls {
    /// Reads a certificate (PEM; its own first, then those that signed it) and its key.
    ///
    /// # Errors
    /// A file that cannot be read, or a key that is another's.
    pub fn open(certificate: &Path, key: &Path) -> Result<Arc<ServedTls>> {
        let current = RwLock::new(Arc::new(read(certificate, key)?));
        Ok(Arc::new(ServedTls { certificate: certificate.into(), key: key.into(), current }))
    }

    /// What shakes hands with it: always with the newest.
    ///
    /// # Errors
    /// The library knows no version of TLS; that does not happen.
    pub fn acceptor(self: &Arc<Self>) -> Result<TlsAcceptor> {
        let mut config = ServerConfig::builder_with_provider(Arc::new(ring::default_provider()))
            .with_safe_default_protocol_versions()?
            .with_no_client_auth()
            .with_cert_resolver(self.clone());
        config.alpn_protocols = vec![b"http/1.1".to_vec()];
        Ok(TlsAcceptor::from(Arc::new(config)))
    }

    /// Reads the files anew whenever they have changed, until told to stop. One that does not fit is told, and the
    /// certificate from before stays.
    pub async fn follow(self: Arc<Self>, stopping: CancellationToken) {
        let mut seen = self.changed_at();
        while stopping.run_until_cancelled(tokio::time::sleep(LOOK_EVERY)).await.is_some() {
            let now = self.changed_at();
            if now == seen {
                continue;
            }
            seen = now;
            match read(&self.certificate, &self.key) {
                Ok(newest) => {
                    *self.current.write().unwrap_or_else(PoisonError::into_inner) = Arc::new(newest);
                    tracing::info!("the new TLS certificate is served");
                }
                Err(error) => {
                    let problem = format!("{error:#}");
                    tracing::warn!(problem, "the new TLS certificate is not served; the one from before still is");
                }
            }
        }
    }

    fn changed_at(&self) -> [Option<(SystemTime, u64)>; 2] {
        [&self.certificate, &self.key].map(|file| {
            let known = file.metadata().ok()?;
            Some((known.modified().ok()?, known.len()))
        })
    }
}

impl ResolvesServerCert for ServedTls {
    fn resolve(&self, _: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        Some(self.current.read().unwrap_or_else(PoisonError::into_inner).clone())
    }
}

fn read(certificate: &Path, key: &Path) -> Result<CertifiedKey> {
    let chain: Vec<CertificateDer> = CertificateDer::pem_file_iter(certificate)
        .and_then(Iterator::collect)
        .with_context(|| format!("reading the TLS certificate {}", certificate.display()))?;
    ensure!(!chain.is_empty(), "{} holds no certificate: give a file in PEM format", certificate.display());
    let read_key =
        PrivateKeyDer::from_pem_file(key).with_context(|| format!("reading the TLS key {}", key.display()))?;
    CertifiedKey::from_der(chain, read_key, &ring::default_provider()).with_context(|| {
        format!(
            "{} is not the key of the certificate {}: give the two that belong together",
            key.display(),
            certificate.display()
        )
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_key_of_another_certificate_is_refused_by_name() {
        let folder = tempfile::tempdir().unwrap();
        let made = |name: &str| {
            let made = rcgen::generate_simple_self_signed(vec![name.to_owned()]).unwrap();
            let (certificate, key) =
                (folder.path().join(format!("{name}.pem")), folder.path().join(format!("{name}.key")));
            std::fs::write(&certificate, made.cert.pem()).unwrap();
            std::fs::write(&key, made.signing_key.serialize_pem()).unwrap();
            (certificate, key)
        };
        let (quay, berth) = (made("quay.example"), made("berth.example"));
        assert!(ServedTls::open(&quay.0, &quay.1).is_ok());
        let told = ServedTls::open(&quay.0, &berth.1).unwrap_err().to_string();
        assert!(told.contains("berth.example.key is not the key"), "{told}");
        let told = ServedTls::open(&quay.1, &quay.1).unwrap_err().to_string();
        assert!(told.contains("holds no certificate"), "{told}");
        let told = ServedTls::open(&quay.0, &folder.path().join("none.key")).unwrap_err().to_string();
        assert!(told.contains("reading the TLS key"), "{told}");
    }
}
