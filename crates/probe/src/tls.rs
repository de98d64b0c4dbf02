//! Encryption without a judgement on who the server is: the question is what it answers, and its certificate
//! is judged elsewhere.
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::{CryptoProvider, ring, verify_tls12_signature, verify_tls13_signature};
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::{ClientConfig, DigitallySignedStruct, Error, SignatureScheme};
use std::sync::{Arc, LazyLock};

#[derive(Debug)]
struct AnyServer(CryptoProvider);

impl ServerCertVerifier for AnyServer {
    fn verify_server_cert(
        &self,
        _: &CertificateDer<'_>,
        _: &[CertificateDer<'_>],
        _: &ServerName<'_>,
        _: &[u8],
        _: UnixTime,
    ) -> Result<ServerCertVerified, Error> {
        Ok(ServerCertVerified::assertion())
    }
    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        verify_tls12_signature(message, certificate, signed, &self.0.signature_verification_algorithms)
    }
    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        verify_tls13_signature(message, certificate, signed, &self.0.signature_verification_algorithms)
    }
    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.0.signature_verification_algorithms.supported_schemes()
    }
}

static CONFIG: LazyLock<Arc<ClientConfig>> = LazyLock::new(|| {
    let provider = ring::default_provider();
    let builder = ClientConfig::builder_with_provider(Arc::new(provider.clone()));
    // The provider speaks both versions that are asked for: this cannot fail.
    let builder = builder.with_safe_default_protocol_versions().unwrap_or_else(|_| ClientConfig::builder());
    let verifier = Arc::new(AnyServer(provider));
    Arc::new(builder.dangerous().with_custom_certificate_verifier(verifier).with_no_client_auth())
});

/// How every connection is encrypted here.
pub(crate) fn config() -> Arc<ClientConfig> {
    CONFIG.clone()
}
