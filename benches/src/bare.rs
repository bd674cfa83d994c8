//! A server that only answers: hyper, one body from memory, nothing logged, nothing decided; bare, or by TLS with a
//! certificate made on the spot.

use bytes::Bytes;
use http::Response;
use http_body_util::Full;
use hyper::server::conn::{http1, http2};
use hyper::service::service_fn;
use hyper_util::rt::{TokioExecutor, TokioIo};
use std::convert::Infallible;
use std::io;
use std::process::ExitCode;
use std::sync::Arc;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::TcpListener;
use tokio_rustls::TlsAcceptor;
use tokio_rustls::rustls::ServerConfig;
use tokio_rustls::rustls::pki_types::PrivateKeyDer;

/// Serves a body of some size until it is killed, and prints its address first. By TLS with HTTP/2 and HTTP/1.1, if secured.
pub fn run(size: usize, secured: bool) -> ExitCode {
    let body = Bytes::from(vec![b'x'; size]);
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build();
    let acceptor = secured.then(acceptor).transpose();
    let result = runtime.and_then(|runtime| runtime.block_on(serve(body, acceptor?)));
    match result {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => {
            eprintln!("{error}");
            ExitCode::FAILURE
        }
    }
}

fn acceptor() -> io::Result<TlsAcceptor> {
    let made = rcgen::generate_simple_self_signed(vec!["a.example".to_owned()]).map_err(io::Error::other)?;
    let key = PrivateKeyDer::try_from(made.signing_key.serialize_der()).map_err(io::Error::other)?;
    let provider = Arc::new(tokio_rustls::rustls::crypto::ring::default_provider());
    let config = ServerConfig::builder_with_provider(provider).with_safe_default_protocol_versions();
    let config = config.map_err(io::Error::other)?.with_no_client_auth();
    let mut config = config.with_single_cert(vec![made.cert.der().clone()], key).map_err(io::Error::other)?;
    config.alpn_protocols = vec![b"h2".to_vec(), b"http/1.1".to_vec()];
    Ok(TlsAcceptor::from(Arc::new(config)))
}

async fn serve(body: Bytes, acceptor: Option<TlsAcceptor>) -> io::Result<()> {
    let listener = TcpListener::bind("127.0.0.1:0").await?;
    println!("{}", listener.local_addr()?);
    loop {
        let (stream, _) = listener.accept().await?;
        stream.set_nodelay(true)?;
        let (body, acceptor) = (body.clone(), acceptor.clone());
        // A client that goes away is the ordinary end of a measurement.
        tokio::spawn(async move {
            let Some(acceptor) = acceptor else { return answer(stream, body, false).await };
            if let Ok(stream) = acceptor.accept(stream).await {
                let beside_each_other = stream.get_ref().1.alpn_protocol() == Some(b"h2");
                answer(stream, body, beside_each_other).await;
            }
        });
    }
}

async fn answer<S>(stream: S, body: Bytes, beside_each_other: bool)
where
    S: AsyncRead + AsyncWrite + Unpin + Send + 'static,
{
    let service = service_fn(move |_| {
        let body = body.clone();
        async move { Ok::<_, Infallible>(Response::new(Full::new(body))) }
    });
    let stream = TokioIo::new(stream);
    let _ = match beside_each_other {
        true => http2::Builder::new(TokioExecutor::new()).serve_connection(stream, service).await,
        false => http1::Builder::new().serve_connection(stream, service).await,
    };
}
