//! Certificates in files, in PEM (RFC 7468).

use rustls::crypto::CryptoProvider;
use rustls::sign::CertifiedKey;
use rustls_pki_types::pem::PemObject;
use rustls_pki_types::{CertificateDer, PrivateKeyDer};
use std::path::Path;
use std::time::SystemTime;

/// What tells whether files have changed: when they did, and their lengths.
pub type FileStamp = [(SystemTime, u64); 2];

/// What tells whether a certificate's files have changed, where both are there.
pub fn stamp(chain: &Path, key: &Path) -> Option<FileStamp> {
    let of = |path: &Path| {
        let found = std::fs::metadata(path).ok()?;
        Some((found.modified().ok()?, found.len()))
    };
    Some([of(chain)?, of(key)?])
}

/// Reads a certificate with its chain and its key. The error is for people.
pub fn read(chain: &Path, key: &Path, provider: &CryptoProvider) -> Result<CertifiedKey, String> {
    let certificates = chain_of(chain)?;
    let secret = PrivateKeyDer::from_pem_file(key)
        .map_err(|error| format!("the key {} cannot be read: {error}", key.display()))?;
    CertifiedKey::from_der(certificates, secret, provider)
        .map_err(|error| format!("chain and key do not belong together: {error}"))
}

/// The certificates of a chain.
pub fn chain_of(chain: &Path) -> Result<Vec<CertificateDer<'static>>, String> {
    let certificates = CertificateDer::pem_file_iter(chain).and_then(Iterator::collect::<Result<Vec<_>, _>>);
    match certificates {
        Ok(certificates) if certificates.is_empty() => Err("there is no certificate in it".to_owned()),
        Ok(certificates) => Ok(certificates),
        Err(error) => Err(format!("it cannot be read: {error}")),
    }
}
