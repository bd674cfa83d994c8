//! Asking the own service over HTTPS, whatever certificate it shows: it may be one that was made for development, and
//! nothing is sent that others may not know.

use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::{CryptoProvider, verify_tls12_signature, verify_tls13_signature};
use rustls::{ClientConfig, ClientConnection, DigitallySignedStruct, Error, SignatureScheme, StreamOwned};
use rustls_pki_types::{CertificateDer, ServerName, UnixTime};
use std::io::{self, Read, Write};
use std::net::TcpStream;
use std::sync::Arc;

/// Sends some octets to a host and gives back all that comes, until the other end has finished.
pub fn exchange(socket: TcpStream, host: &str, octets: &[u8]) -> io::Result<Vec<u8>> {
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let config = ClientConfig::builder_with_provider(Arc::clone(&provider))
        .with_safe_default_protocol_versions()
        .map_err(io::Error::other)?
        .dangerous()
        .with_custom_certificate_verifier(Arc::new(Whoever(provider)))
        .with_no_client_auth();
    let bare = host.trim_start_matches('[').trim_end_matches(']').to_owned();
    let name = ServerName::try_from(bare).map_err(io::Error::other)?;
    let connection = ClientConnection::new(Arc::new(config), name).map_err(io::Error::other)?;
    let mut stream = StreamOwned::new(connection, socket);
    stream.write_all(octets)?;
    let mut answer = Vec::new();
    match stream.read_to_end(&mut answer) {
        // Not everybody says goodbye.
        Err(error) if error.kind() == io::ErrorKind::UnexpectedEof => Ok(answer),
        Err(error) => Err(error),
        Ok(_) => Ok(answer),
    }
}

/// Takes any certificate, so long as the other end holds its key.
#[derive(Debug)]
struct Whoever(Arc<CryptoProvider>);

impl ServerCertVerifier for Whoever {
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
        signature: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        verify_tls12_signature(message, certificate, signature, &self.0.signature_verification_algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signature: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        verify_tls13_signature(message, certificate, signature, &self.0.signature_verification_algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.0.signature_verification_algorithms.supported_schemes()
    }
}
