//! A connection secured: with the certificate of whoever is asked for, made first where it has to be.

use super::Certificates;
use rustls::ServerConfig;
use std::io;
use std::sync::Arc;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio_rustls::LazyConfigAcceptor;
use tokio_rustls::server::TlsStream;

/// Secures a connection as a server; gives with it the name that the client asked for, in lower case. A certificate that has yet to be
/// made is made elsewhere meanwhile.
pub async fn secured<S: AsyncRead + AsyncWrite + Unpin>(
    certificates: &Arc<Certificates>,
    server: &Arc<ServerConfig>,
    stream: S,
) -> io::Result<(TlsStream<S>, Option<String>)> {
    let start = LazyConfigAcceptor::new(rustls::server::Acceptor::default(), stream).await?;
    let asked = start.client_hello().server_name().map(str::to_ascii_lowercase);
    let name = asked.as_deref().unwrap_or_default();
    if certificates.known(name).is_none() {
        let (certificates, name) = (Arc::clone(certificates), name.to_owned());
        tokio::task::spawn_blocking(move || certificates.prepare(&name)).await.map_err(io::Error::other)?;
    }
    Ok((start.into_stream(Arc::clone(server)).await?, asked))
}
