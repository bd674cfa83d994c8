//! A gentle stream of requests against the running service, so that everything moves.
//!
//! The requests come from this machine and say for whom they ask in the `Forwarded` field (RFC 7239), which
//! the demo's configuration believes.

use crate::people;
use rand::rngs::StdRng;
use rand::{RngExt, SeedableRng};
use std::io;
use std::net::SocketAddr;
use std::time::Duration;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;

/// What visitors open, by site; a few of them are not there any more.
const PLACES: [(&str, &str); 16] = [
    ("harbour", "/"),
    ("harbour", "/tides/today.html"),
    ("harbour", "/tides/today.html"),
    ("harbour", "/tides/"),
    ("harbour", "/notices/"),
    ("harbour", "/moorings/"),
    ("harbour", "/style.css"),
    ("harbour", "/mariners/berthing.html"),
    ("harbour", "/mariners/{year}/dredging.html"),
    ("harbour", "/mariners/{year}/fuel-berth.html"),
    ("lamp", "/"),
    ("lamp", "/rooms/lantern.html"),
    ("lamp", "/pictures/panorama.png"),
    ("lamp", "/audio/tour.wav"),
    ("records", "/registers/"),
    ("records", "/registers/names.csv"),
];

/// Sends requests until it is dropped, some a second with pauses of uneven length.
pub async fn stream(address: SocketAddr, seed: u64) {
    let mut random = StdRng::seed_from_u64(seed);
    let year = jiff::Timestamp::now().strftime("%Y").to_string();
    loop {
        let (site, path) = PLACES[random.random_range(0..PLACES.len())];
        let path = path.replace("{year}", &year);
        let client = people::address(&mut random);
        let client = if client.contains(':') { format!("\"[{client}]\"") } else { client };
        let agent = people::browser(&mut random);
        let request = format!(
            "GET {path} HTTP/1.1\r\nHost: {site}.lindry.example\r\nUser-Agent: {agent}\r\nForwarded: for={client}\r\n\
             Accept-Encoding: gzip, br\r\nConnection: close\r\n\r\n"
        );
        // The service may be stopping; then the stream is about to be dropped too.
        let _ = ask(address, &request).await;
        tokio::time::sleep(Duration::from_millis(random.random_range(60..900))).await;
    }
}

async fn ask(address: SocketAddr, request: &str) -> io::Result<()> {
    let mut socket = TcpStream::connect(address).await?;
    socket.write_all(request.as_bytes()).await?;
    let mut piece = vec![0; 32 << 10];
    while socket.read(&mut piece).await? > 0 {}
    Ok(())
}
