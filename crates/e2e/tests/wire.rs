//! Octets on the wire, as clients of all kinds send them: well-formed, malformed, hostile.

use exedra_e2e::{Place, Program, field, until};
use rstest::rstest;
use std::collections::BTreeMap;
use std::io::{Read, Write};
use std::net::TcpStream;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

/// The statuses of all answers that come back for some octets, until the connection is closed.
fn statuses(program: &Program, octets: &[u8]) -> Vec<u16> {
    let answer = program.raw(octets);
    let heads = answer.match_indices("HTTP/1.1 ");
    heads.map(|(at, _)| answer[at + 9..at + 12].parse().unwrap()).collect()
}

const CLOSE: &str = "GET /notes.txt HTTP/1.1\r\nHost: harbour.example\r\nConnection: close\r\n\r\n";

#[test]
fn requests_that_come_together_are_answered_in_order() {
    let place = Place::new();
    let program = place.serve();
    let one = |path: &str| format!("GET {path} HTTP/1.1\r\nHost: harbour.example\r\n\r\n");
    let all = [
        one("/notes.txt"),
        one("/nowhere"),
        one("/tides"),
        "HEAD /notes.txt HTTP/1.1\r\nHost: harbour.example\r\n\r\n".to_owned(),
        CLOSE.to_owned(),
    ]
    .concat();
    assert_eq!(statuses(&program, all.as_bytes()), [200, 404, 308, 200, 200]);
    let answer = program.raw(all.as_bytes());
    assert!(answer.ends_with("short"), "{answer}");
}

/// Each of these must not let a second request be seen that others on the way take for a body, nor the other
/// way round: the connection ends after the first answer, or the body is passed over as what it says it is.
#[rstest]
#[case::both_lengths(
    "POST / HTTP/1.1\r\nHost: harbour.example\r\nContent-Length: 6\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n\r\nGET /notes.txt HTTP/1.1\r\nHost: harbour.example\r\n\r\n"
)]
#[case::two_lengths(
    "POST / HTTP/1.1\r\nHost: harbour.example\r\nContent-Length: 0\r\nContent-Length: 60\r\n\r\n"
)]
#[case::list_of_lengths("POST / HTTP/1.1\r\nHost: harbour.example\r\nContent-Length: 0, 60\r\n\r\n")]
#[case::signed_length("POST / HTTP/1.1\r\nHost: harbour.example\r\nContent-Length: +5\r\n\r\nhello")]
#[case::unknown_coding("POST / HTTP/1.1\r\nHost: harbour.example\r\nTransfer-Encoding: xchunked\r\n\r\n")]
#[case::chunked_not_last(
    "POST / HTTP/1.1\r\nHost: harbour.example\r\nTransfer-Encoding: chunked, gzip\r\n\r\n"
)]
#[case::space_before_colon("GET / HTTP/1.1\r\nHost: harbour.example\r\nContent-Length : 5\r\n\r\nhello")]
#[case::folded("GET / HTTP/1.1\r\nHost: harbour.example\r\nX-One: a\r\n b\r\n\r\n")]
#[case::nul("GET / HTTP/1.1\r\nHost: harbour.example\r\nX-One: a\0b\r\n\r\n")]
#[case::bare_cr("GET / HTTP/1.1\r\nHost: harbour.example\r\nX-One: a\rb\r\n\r\n")]
#[case::no_name("GET / HTTP/1.1\r\nHost: harbour.example\r\n: value\r\n\r\n")]
#[case::space_in_target("GET /notes .txt HTTP/1.1\r\nHost: harbour.example\r\n\r\n")]
fn what_others_might_read_otherwise_is_refused(#[case] hostile: &str) {
    let place = Place::new();
    let program = place.serve();
    let found = statuses(&program, &[hostile.as_bytes(), CLOSE.as_bytes()].concat());
    assert!(found.len() == 1 && (400..500).contains(&found[0]), "{found:?}");
    assert_eq!(program.get("lamp.example", "/").status(), 200, "others are unharmed");
}

/// RFC 9112 §2.2 lets a lone line feed end a line, and says to skip an empty line before a request.
#[test]
fn lone_line_feeds_and_empty_lines_are_borne() {
    let place = Place::new();
    let program = place.serve();
    assert_eq!(
        statuses(&program, b"GET /notes.txt HTTP/1.1\nHost: harbour.example\nConnection: close\n\n"),
        [200]
    );
    assert_eq!(statuses(&program, &[b"\r\n\r\n", CLOSE.as_bytes()].concat()), [200]);
}

#[test]
fn a_body_that_nobody_wants_is_passed_over() {
    let place = Place::new();
    let program = place.serve();
    let post = "POST / HTTP/1.1\r\nHost: harbour.example\r\nTransfer-Encoding: chunked\r\n\r\n5\r\nhello\r\n0\r\n\r\n";
    let found = statuses(&program, &[post, CLOSE].concat().into_bytes());
    assert_eq!(found[0], 405);
    assert!(found[1..].iter().all(|status| *status == 200), "{found:?}");
}

#[test]
fn a_connection_brings_only_so_many_requests() {
    let place = Place::new();
    place.configure("[limits]\nrequests = 3\n");
    let program = place.serve();
    let one = "GET /notes.txt HTTP/1.1\r\nHost: harbour.example\r\n\r\n";
    let answer = program.raw(one.repeat(5).as_bytes());
    assert_eq!(answer.matches("HTTP/1.1 200").count(), 3, "{answer}");
    assert_eq!(answer.to_ascii_lowercase().matches("connection: close").count(), 1, "{answer}");
}

#[test]
fn where_all_places_are_taken_the_longest_idle_makes_room() {
    let place = Place::new();
    place.configure("[limits]\nconnections = 3\n");
    let program = place.serve();
    let open = || {
        let mut socket = TcpStream::connect(&program.sites).unwrap();
        socket.set_read_timeout(Some(Duration::from_secs(20))).unwrap();
        socket.write_all(b"GET /notes.txt HTTP/1.1\r\nHost: harbour.example\r\n\r\n").unwrap();
        let mut answer = [0; 2048];
        let read = socket.read(&mut answer).unwrap();
        assert!(answer[..read].starts_with(b"HTTP/1.1 200"));
        socket
    };
    let mut first = open();
    // The clock that idle time is told by ticks a few times a second.
    let began = Instant::now();
    until("the clock ticks", || (began.elapsed() > Duration::from_millis(300)).then_some(()));
    let _others = (open(), open());
    let _newcomer = open();
    assert_eq!(first.read(&mut [0; 10]).unwrap_or(0), 0, "the first one was closed");
    assert_eq!(program.api("status")["connections"], 3);
}

fn files(folder: &Path, below: &str, found: &mut BTreeMap<String, PathBuf>) {
    for entry in std::fs::read_dir(folder).unwrap() {
        let entry = entry.unwrap();
        let path = format!("{below}/{}", entry.file_name().to_str().unwrap());
        match entry.file_type().unwrap().is_dir() {
            true => files(&entry.path(), &path, found),
            false => _ = found.insert(path, entry.path()),
        }
    }
}

fn decoded(body: &[u8], coding: &str) -> Vec<u8> {
    let mut out = Vec::new();
    match coding {
        "br" => _ = brotli::Decompressor::new(body, 4096).read_to_end(&mut out).unwrap(),
        "zstd" => _ = zstd::Decoder::new(body).unwrap().read_to_end(&mut out).unwrap(),
        "gzip" => _ = flate2::read::GzDecoder::new(body).read_to_end(&mut out).unwrap(),
        "deflate" => _ = flate2::read::ZlibDecoder::new(body).read_to_end(&mut out).unwrap(),
        _ => out.extend_from_slice(body),
    }
    out
}

#[rstest]
#[case("identity")]
#[case("br")]
#[case("zstd")]
#[case("gzip")]
#[case("deflate")]
fn every_file_comes_back_as_it_is(#[case] coding: &str) {
    let place = Place::new();
    place.configure("[site.compress]\ncodecs = [\"br\", \"zstd\", \"gzip\", \"deflate\"]\n");
    let line = "The lamp was lit at dusk and the harbour light at nightfall.\n";
    for (name, length) in [
        ("none.html", 0),
        ("one.html", 1),
        ("sæl öy.txt", 700),
        ("rooms/%20.css", 9_000),
        ("rooms/a&b<c>.js", 300_000),
        ("large.csv", 6_000_000),
    ] {
        place.write(&format!("lamp/{name}"), &line.repeat(length / line.len() + 1)[..length]);
    }
    place.write("lamp/picture.png", &"\u{1}\u{2}x".repeat(2_000));
    let program = place.serve();
    let mut found = BTreeMap::new();
    files(&place.path("lamp"), "", &mut found);
    assert_eq!(found.len(), 8);
    // Quick and then settled.
    for round in 0..3 {
        for (path, file) in &found {
            let encoded: String = path
                .bytes()
                .map(|octet| match octet {
                    b'a'..=b'z' | b'A'..=b'Z' | b'/' | b'.' => char::from(octet).to_string(),
                    octet => format!("%{octet:02X}"),
                })
                .collect();
            let answer = program.ask("lamp.example", &encoded, &[("Accept-Encoding", coding)]);
            assert_eq!(answer.status(), 200, "{path}");
            let sent = field(&answer, "content-encoding").to_owned();
            assert!(sent.is_empty() || sent == coding, "{path}: {sent}");
            let body = answer.bytes().unwrap();
            let plain = std::fs::read(file).unwrap();
            assert!(decoded(&body, &sent) == plain, "{path} as {coding}, round {round}");
            if plain.len() > 500 && !path.ends_with(".png") {
                assert_eq!(sent, if coding == "identity" { "" } else { coding }, "{path}");
            }
        }
    }
}
