//! How a connection to a watched server is encrypted.

use std::sync::Arc;

use hurnix_core::access::tls_mode::TlsMode;
use rustls::client::WebPkiServerVerifier;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::{CryptoProvider, ring, verify_tls12_signature, verify_tls13_signature};
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::{ClientConfig, DigitallySignedStruct, RootCertStore, SignatureScheme};
use sqlx::Error;

fn tls_error(error: impl std::error::Error + Send + Sync + 'static) -> Error {
    Error::Tls(Box::new(error))
}

/// The name that a certificate must be made out to.
pub(super) fn server_name(host: &str) -> Result<ServerName<'static>, Error> {
    ServerName::try_from(host.to_owned()).map_err(tls_error)
}

/// How to encrypt in a mode that does, checking against these signers too where it checks at all.
pub(super) fn tls_config(mode: TlsMode, signers: Option<&str>) -> Result<Arc<ClientConfig>, Error> {
    let provider = Arc::new(ring::default_provider());
    let verifier: Arc<dyn ServerCertVerifier> = if mode == TlsMode::Verify {
        let mut roots = RootCertStore::empty();
        // Signers of this machine that cannot be read are of no use, and no reason to trust nobody.
        roots.add_parsable_certificates(rustls_native_certs::load_native_certs().certs);
        for certificate in CertificateDer::pem_slice_iter(signers.unwrap_or_default().as_bytes()) {
            roots.add(certificate.map_err(tls_error)?).map_err(tls_error)?;
        }
        WebPkiServerVerifier::builder_with_provider(roots.into(), provider.clone()).build().map_err(tls_error)?
    } else {
        Arc::new(AnyCertificate(provider.clone()))
    };
    let config = ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .map_err(tls_error)?
        .dangerous()
        .with_custom_certificate_verifier(verifier)
        .with_no_client_auth();
    Ok(Arc::new(config))
}

/// Takes any certificate: encryption against who listens in, and no proof of who is there.
#[derive(Debug)]
struct AnyCertificate(Arc<CryptoProvider>);

impl ServerCertVerifier for AnyCertificate {
    fn verify_server_cert(
        &self,
        _: &CertificateDer<'_>,
        _: &[CertificateDer<'_>],
        _: &ServerName<'_>,
        _: &[u8],
        _: UnixTime,
    ) -> Result<ServerCertVerified, rustls::Error> {
        Ok(ServerCertVerified::assertion())
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        verify_tls12_signature(message, certificate, signed, &self.0.signature_verification_algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        verify_tls13_signature(message, certificate, signed, &self.0.signature_verification_algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.0.signature_verification_algorithms.supported_schemes()
    }
}
