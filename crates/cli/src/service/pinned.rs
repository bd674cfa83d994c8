//! A console whose certificate is self-signed: it is known by that very certificate, and no authority is asked.

use crate::failure::Failure;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::{CryptoProvider, verify_tls12_signature, verify_tls13_signature};
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::{ClientConfig, DigitallySignedStruct, Error, RootCertStore, SignatureScheme};
use std::path::Path;
use std::sync::Arc;

/// Takes one certificate, and no other.
#[derive(Debug)]
struct Pinned {
    certificate: CertificateDer<'static>,
    provider: Arc<CryptoProvider>,
}

/// How connections would be secured that are not: nobody is believed.
pub fn nobody() -> Result<ClientConfig, Failure> {
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let config = ClientConfig::builder_with_provider(provider).with_safe_default_protocol_versions()?;
    Ok(config.with_root_certificates(RootCertStore::empty()).with_no_client_auth())
}

/// How a connection is secured to whoever has the certificate in a file.
pub fn only(file: &Path) -> Result<ClientConfig, Failure> {
    let certificate = CertificateDer::from_pem_file(file)
        .map_err(|error| Failure(format!("the certificate {} cannot be read: {error}", file.display())))?;
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let verifier = Arc::new(Pinned { certificate, provider: Arc::clone(&provider) });
    let config = ClientConfig::builder_with_provider(provider).with_safe_default_protocol_versions()?;
    Ok(config.dangerous().with_custom_certificate_verifier(verifier).with_no_client_auth())
}

impl ServerCertVerifier for Pinned {
    fn verify_server_cert(
        &self,
        shown: &CertificateDer<'_>,
        _: &[CertificateDer<'_>],
        _: &ServerName<'_>,
        _: &[u8],
        _: UnixTime,
    ) -> Result<ServerCertVerified, Error> {
        match *shown == self.certificate {
            true => Ok(ServerCertVerified::assertion()),
            false => Err(Error::General("the console's certificate is not the expected one".to_owned())),
        }
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        verify_tls12_signature(message, certificate, signed, &self.provider.signature_verification_algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        verify_tls13_signature(message, certificate, signed, &self.provider.signature_verification_algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.provider.signature_verification_algorithms.supported_schemes()
    }
}
