//! A server that only answers: hyper, one body from memory, nothing logged, nothing decided.

use bytes::Bytes;
use http::Response;
use http_body_util::Full;
use hyper::server::conn::http1;
use hyper::service::service_fn;
use hyper_util::rt::TokioIo;
use std::convert::Infallible;
use std::process::ExitCode;
use tokio::net::TcpListener;

/// Serves a body of some size until it is killed, and prints its address first.
pub fn run(size: usize) -> ExitCode {
    let body = Bytes::from(vec![b'x'; size]);
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build();
    let result = runtime.and_then(|runtime| runtime.block_on(serve(body)));
    match result {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => {
            eprintln!("{error}");
            ExitCode::FAILURE
        }
    }
}

async fn serve(body: Bytes) -> std::io::Result<()> {
    let listener = TcpListener::bind("127.0.0.1:0").await?;
    println!("{}", listener.local_addr()?);
    loop {
        let (stream, _) = listener.accept().await?;
        stream.set_nodelay(true)?;
        let body = body.clone();
        let service = service_fn(move |_| {
            let body = body.clone();
            async move { Ok::<_, Infallible>(Response::new(Full::new(body))) }
        });
        tokio::spawn(async move {
            // A client that goes away is the ordinary end of a measurement.
            let _ = http1::Builder::new().serve_connection(TokioIo::new(stream), service).await;
        });
    }
}
