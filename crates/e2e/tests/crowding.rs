//! No client has everything: connections, streams, descriptors and the console's own share.

use exedra_e2e::{Place, Program, client, drawn, exedra, field, program, text, until};
use rstest::rstest;
use std::io::{Read, Write};
use std::net::{IpAddr, TcpStream};
use std::process::Command;

const HTTPS: &str = "[[listener]]\naddress = \"127.0.0.1:0\"\nhttps = true\n";

/// Starts the service with so many descriptors at most.
fn serve_with(place: &Place, descriptors: usize) -> Program {
    let command = format!(
        "ulimit -n {descriptors}; exec {} serve --config {}",
        text(&program()),
        text(&place.config())
    );
    Program::start_as(Command::new("sh").args(["-c", &command]), place.path("state"))
}

/// How often the process has a file open.
fn times_open(service: &Program, name: &str) -> usize {
    let folder = format!("/proc/{}/fd", service.process());
    let open =
        std::fs::read_dir(folder).unwrap().filter_map(|entry| std::fs::read_link(entry.ok()?.path()).ok());
    open.filter(|path| path.to_string_lossy().ends_with(name)).count()
}

fn large(place: &Place, name: &str, megabytes: u64) {
    let file = std::fs::File::create(place.path(name)).unwrap();
    file.set_len(megabytes << 20).unwrap();
}

#[rstest]
#[case::nothing_taken(0, 0)]
#[case::a_little_taken(20_000, 40)]
fn streams_that_are_held_back_end_and_hold_no_files(#[case] window: u32, #[case] most_open: usize) {
    let place = Place::new();
    place.configure(&format!("{HTTPS}[limits]\nbody_time = \"2 seconds\"\n"));
    large(&place, "lamp/large.bin", 1);
    let service = place.serve();
    let address: std::net::SocketAddr = service.secured.parse().unwrap();
    let _ = client();
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    runtime.block_on(async {
        let client = reqwest::Client::builder()
            .no_proxy()
            .tls_danger_accept_invalid_certs(true)
            .http2_initial_stream_window_size(window)
            .resolve("lamp.example", address)
            .build()
            .unwrap();
        let url = format!("https://lamp.example:{}/large.bin", address.port());
        let mut answers = Vec::new();
        for _ in 0..40 {
            let answer = client.get(&url).send().await.unwrap();
            assert_eq!((answer.status().as_u16(), answer.version()), (200, reqwest::Version::HTTP_2));
            answers.push(answer);
        }
        assert!(times_open(&service, "large.bin") <= most_open);
        // Each stream is reset, and each has its line.
        until("the streams end", || {
            let ended = place.log("lamp").iter().filter(|line| line.contains("/large.bin")).count();
            (ended == 40).then_some(())
        });
        assert_eq!(times_open(&service, "large.bin"), 0);
        for answer in answers {
            assert!(answer.bytes().await.is_err(), "what was held back was cut off");
        }
        // The connection itself has done nothing wrong.
        assert_eq!(client.get(url.replace("large.bin", "")).send().await.unwrap().status(), 200);
    });
}

#[test]
fn one_client_cannot_have_all_files_and_the_sites_go_on() {
    let place = Place::new();
    large(&place, "lamp/large.bin", 64);
    let service = serve_with(&place, 300);
    let take = |sockets: &mut Vec<TcpStream>| {
        let mut socket = TcpStream::connect(&service.sites).unwrap();
        socket.write_all(b"GET /large.bin HTTP/1.1\r\nHost: lamp.example\r\n\r\n").unwrap();
        let mut status = [0; 12];
        socket.read_exact(&mut status).unwrap();
        sockets.push(socket);
        String::from_utf8_lossy(&status[9..]).into_owned()
    };
    let mut sockets = Vec::new();
    let refused = (0..40).map(|_| take(&mut sockets)).filter(|status| status == "503").count();
    assert!((1..40).contains(&refused), "{refused}");
    // On a slow machine the first may have been given up meanwhile: others take their places.
    let answer = until("its share is used up", || {
        let answer = service.get("lamp.example", "/large.bin");
        let is_refused = answer.status() == 503;
        if !is_refused {
            take(&mut sockets);
        }
        is_refused.then_some(answer)
    });
    assert_eq!(field(&answer, "retry-after"), "1");
    assert_eq!(service.get("lamp.example", "/").status(), 200, "what needs no file goes on");
    let other: IpAddr = "127.0.0.2".parse().unwrap();
    let other = reqwest::blocking::Client::builder().no_proxy().local_address(other).build().unwrap();
    let answer = other.head(format!("http://{}/large.bin", service.sites)).header("Host", "lamp.example");
    assert_eq!(answer.send().unwrap().status(), 200, "another client has its share");
    let errors = exedra(&["errors", "--config", &text(&place.config())]);
    assert!(drawn(&errors).contains("too many files are open"), "{}", drawn(&errors));
    drop(sockets);
    until("files are given back", || {
        (service.get("lamp.example", "/large.bin").status() == 200).then_some(())
    });
}

#[test]
fn too_few_descriptors_are_an_error_that_says_how_many() {
    let place = Place::new();
    let command =
        format!("ulimit -n 150; exec {} serve --config {}", text(&program()), text(&place.config()));
    let output = Command::new("sh").args(["-c", &command]).output().unwrap();
    let words = drawn(&output);
    assert!(!output.status.success() && words.contains("may have 150 descriptors"), "{words}");
    let needed = words.split("needs ").nth(1).unwrap().split(' ').next().unwrap();
    let service = serve_with(&place, needed.parse().unwrap());
    assert_eq!(service.get("lamp.example", "/").status(), 200);
}

#[test]
fn half_requests_and_silent_handshakes_make_room() {
    let place = Place::new();
    place.configure(&format!("{HTTPS}[limits]\nconnections = 20\nhead_time = \"10 minutes\"\n"));
    let service = place.serve();
    let half = |address: &str, octets: &[u8]| {
        let mut socket = TcpStream::connect(address).unwrap();
        let _ = socket.write_all(octets);
        socket
    };
    let heads: Vec<TcpStream> =
        (0..30).map(|_| half(&service.sites, b"GET / HTTP/1.1\r\nHost: la")).collect();
    assert_eq!(service.get("lamp.example", "/").status(), 200);
    let handshakes: Vec<TcpStream> = (0..30).map(|_| half(&service.secured, b"\x16\x03\x01")).collect();
    assert_eq!(service.get("lamp.example", "/").status(), 200);
    assert_eq!(service.ask_secured("lamp.example", "/", &[]).status(), 200);
    drop((heads, handshakes));
}

#[test]
fn the_console_takes_nothing_from_the_sites_and_does_not_keep_the_service_from_stopping() {
    let place = Place::new();
    let service = serve_with(&place, 300);
    let half: Vec<_> = (0..450)
        .map(|_| {
            let socket = TcpStream::connect(&service.console);
            if let Ok(mut socket) = socket.as_ref() {
                let _ = socket.write_all(b"GET /api/v1/status HTTP/1.1\r\nHost: x");
            }
            socket
        })
        .collect();
    for _ in 0..5 {
        assert_eq!(service.get("lamp.example", "/").status(), 200);
        assert_eq!(service.get("lamp.example", "/index.html").status(), 200);
    }
    service.tell("TERM");
    assert!(service.ended(), "half a request is not waited for");
    drop(half);
}
