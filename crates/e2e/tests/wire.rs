//! Octets on the wire, as clients of all kinds send them: well-formed, malformed, hostile.

use exedra_e2e::{Place, Program, field, until};
use rand::rngs::StdRng;
use rand::{RngExt, SeedableRng};
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
    moment();
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

const PLAIN: &[u8] = b"GET /notes.txt HTTP/1.1\r\nHost: harbour.example\r\nConnection: keep-alive\r\nUser-Agent: Boat \"1\"\r\n\r\n";

fn connected(program: &Program) -> TcpStream {
    let socket = TcpStream::connect(&program.sites).unwrap();
    socket.set_read_timeout(Some(Duration::from_secs(20))).unwrap();
    socket
}

/// Sends something and reads one answer whose body ends with some octets.
fn exchange(socket: &mut TcpStream, octets: &[u8], ending: &[u8]) -> String {
    socket.write_all(octets).unwrap();
    let mut answer = Vec::new();
    while !answer.ends_with(ending) {
        let mut buffer = [0; 4096];
        let read = socket.read(&mut buffer).unwrap();
        assert!(read > 0, "{}", String::from_utf8_lossy(&answer));
        answer.extend_from_slice(&buffer[..read]);
    }
    String::from_utf8(answer).unwrap()
}

/// Without the line that tells the time.
fn timeless(answer: &str) -> String {
    answer
        .lines()
        .filter(|line| !line.to_ascii_lowercase().starts_with("date: "))
        .collect::<Vec<_>>()
        .join("\n")
}

#[test]
fn what_is_remembered_is_octet_for_octet_what_was_decided() {
    let place = Place::new();
    let program = place.serve();
    let page = String::from_utf8(PLAIN.to_vec()).unwrap().replace("/notes.txt", "/tides/today.html");
    let tag = {
        let answer = program.get("harbour.example", "/notes.txt");
        field(&answer, "etag").to_owned()
    };
    let conditional = String::from_utf8(PLAIN.to_vec())
        .unwrap()
        .replace("User-Agent", &format!("If-None-Match: {tag}\r\nUser-Agent"));
    let whole = std::fs::read_to_string(place.path("harbour/tides/today.html")).unwrap();
    until("settled", || {
        let answer = program.ask("harbour.example", "/tides/today.html", &[("Accept-Encoding", "gzip")]);
        (!field(&answer, "etag").starts_with("W/")).then_some(())
    });
    let packed =
        program.ask("harbour.example", "/tides/today.html", &[("Accept-Encoding", "gzip")]).bytes().unwrap();
    let mut asked = 0;
    for (head, ending) in [
        (String::from_utf8(PLAIN.to_vec()).unwrap(), b"short".to_vec()),
        (page, whole.into_bytes()),
        (conditional, b"\r\n\r\n".to_vec()),
    ] {
        let mut socket = connected(&program);
        let first = exchange(&mut socket, head.as_bytes(), &ending);
        // Workers remember for themselves, so it takes a while until all of them do.
        for _ in 0..10 {
            assert_eq!(timeless(&exchange(&mut socket, head.as_bytes(), &ending)), timeless(&first));
        }
        // In pieces it is the same request.
        let (start, end) = head.as_bytes().split_at(30);
        socket.write_all(start).unwrap();
        assert_eq!(timeless(&exchange(&mut socket, end, &ending)), timeless(&first));
        asked += 12;
        let date = first.lines().find_map(|line| line.strip_prefix("date: ")).unwrap();
        assert!(date.ends_with(" GMT") && date.len() == 29, "{date}");
    }
    for _ in 0..6 {
        let answer = program.ask("harbour.example", "/tides/today.html", &[("Accept-Encoding", "gzip")]);
        assert_eq!(answer.bytes().unwrap(), packed);
    }
    let lines = until("all lines", || {
        let lines: Vec<String> =
            place.log("harbour").into_iter().filter(|line| line.contains("\"Boat \\\"1\\\"\"")).collect();
        (lines.len() >= asked).then_some(lines)
    });
    assert_eq!(lines.len(), asked);
    let notes: Vec<&String> =
        lines.iter().filter(|line| line.contains("GET /notes.txt HTTP/1.1\" 200 5 ")).collect();
    assert_eq!(notes.len(), 12);
    assert!(
        notes.iter().all(|line| line.contains(" http harbour.example ") && line.contains(" - 5 \"-\" ")),
        "{notes:?}"
    );
    assert_eq!(lines.iter().filter(|line| line.contains("GET /notes.txt HTTP/1.1\" 304 0 ")).count(), 12);

    place.write("harbour/notes.txt", "shirt");
    let mut socket = connected(&program);
    until("the change shows", || exchange(&mut socket, PLAIN, b"t").ends_with("shirt").then_some(()));
}

#[test]
fn a_remembered_head_inside_something_else_is_not_a_request() {
    let place = Place::new();
    let program = place.serve();
    let mut warm: Vec<TcpStream> = (0..4).map(|_| connected(&program)).collect();
    for socket in &mut warm {
        for _ in 0..4 {
            exchange(socket, PLAIN, b"short");
        }
    }
    // As the body of another request, sent after its head.
    let mut socket = connected(&program);
    exchange(&mut socket, PLAIN, b"short");
    let head =
        format!("POST /x HTTP/1.1\r\nHost: harbour.example\r\nContent-Length: {}\r\n\r\n", PLAIN.len());
    socket.write_all(head.as_bytes()).unwrap();
    let mut answer = [0; 8192];
    let read = socket.read(&mut answer).unwrap();
    assert!(answer[..read].starts_with(b"HTTP/1.1 405"));
    // The connection may be closed meanwhile; then nothing is answered either.
    let _ = socket.write_all(PLAIN);
    let _ = socket.write_all(b"GET /nowhere HTTP/1.1\r\nHost: lamp.example\r\nConnection: close\r\n\r\n");
    let mut rest = Vec::new();
    let _ = socket.read_to_end(&mut rest);
    assert!(!String::from_utf8_lossy(&rest).contains("HTTP/1.1 200"), "{}", String::from_utf8_lossy(&rest));

    // After the beginning of a head that came together with the request before it.
    let mut socket = connected(&program);
    exchange(&mut socket, &[PLAIN, b"GET /nowhere HTTP/1.1\r\nX-Rest: "].concat(), b"short");
    let answer = {
        let _ =
            socket.write_all(&[PLAIN.strip_suffix(b"\r\n").unwrap(), b"Connection: close\r\n\r\n"].concat());
        let mut rest = String::new();
        let _ = socket.read_to_string(&mut rest);
        rest
    };
    assert!(!answer.contains("HTTP/1.1 200"), "{answer}");
    let mut socket = connected(&program);
    exchange(&mut socket, &[PLAIN, b"GET /nowhere HTTP/1.1\r\nX-Rest: "].concat(), b"short");
    let found = exchange(&mut socket, PLAIN, b"\n");
    assert!(found.starts_with("HTTP/1.1 404"), "the host is that of the whole head: {found}");
}

#[test]
fn a_remembered_answer_that_nobody_takes_is_sent_to_its_end_when_somebody_does() {
    let place = Place::new();
    let body = "0123456789abcdef".repeat(3_000);
    place.write("lamp/page.bin", &body);
    let program = place.serve();
    let head = b"GET /page.bin HTTP/1.1\r\nHost: lamp.example\r\n\r\n";
    let mut socket = connected(&program);
    for _ in 0..4 {
        exchange(&mut socket, head, body.as_bytes());
    }
    // Asked for far more often than fits on the way, one by one, before anything is read.
    let times = 400;
    let mut asking = socket.try_clone().unwrap();
    let asker = std::thread::spawn(move || {
        for _ in 0..times {
            asking.write_all(head).unwrap();
        }
    });
    let mut received = 0;
    let mut buffer = vec![0; 1 << 20];
    let mut bodies = 0;
    let mut tail: Vec<u8> = Vec::new();
    while bodies < times {
        let read = socket.read(&mut buffer).unwrap();
        assert!(read > 0, "after {received} octets and {bodies} answers");
        received += read;
        tail.extend_from_slice(&buffer[..read]);
        while let Some(at) = find(&tail, b"\r\n\r\n").filter(|at| tail.len() >= at + 4 + body.len()) {
            assert!(tail.starts_with(b"HTTP/1.1 200 OK\r\n"));
            assert!(&tail[at + 4..at + 4 + body.len()] == body.as_bytes(), "answer {bodies}");
            tail.drain(..at + 4 + body.len());
            bodies += 1;
        }
    }
    asker.join().unwrap();
    until("all lines", || (place.log("lamp").len() == times + 4).then_some(()));
}

fn find(octets: &[u8], what: &[u8]) -> Option<usize> {
    octets.windows(what.len()).position(|window| window == what)
}

/// What clients ask for, and the answer that each of them gets alone, on a connection of its own whose end is the answer's.
fn asked(program: &Program) -> Vec<(Vec<u8>, String)> {
    let asked = [
        ("GET /notes.txt", ""),
        ("GET /tides/today.html", ""),
        ("GET /tides/today.html", "Range: bytes=5-30\r\n"),
        ("HEAD /notes.txt", ""),
        ("GET /nowhere", "Accept: application/json\r\n"),
        ("GET /tides", ""),
        ("GET /notes.txt", "If-None-Match: *\r\n"),
    ];
    let with_answer = |(line, more): (&str, &str)| {
        let head = |end: &str| format!("{line} HTTP/1.1\r\nHost: harbour.example\r\n{more}{end}\r\n");
        let answer = program.raw(head("Connection: close\r\n").as_bytes());
        (head("").into_bytes(), timeless(&answer.replace("connection: close\r\n", "")))
    };
    asked.into_iter().map(with_answer).collect()
}

/// Some requests on their way, cut up and run together.
struct Conversation {
    socket: TcpStream,
    pieces: Vec<Vec<u8>>,
    expected: String,
}

impl Conversation {
    fn new(program: &Program, asked: &[(Vec<u8>, String)], most: usize, random: &mut StdRng) -> Self {
        let chosen: Vec<&(Vec<u8>, String)> =
            (0..random.random_range(1..most)).map(|_| &asked[random.random_range(0..asked.len())]).collect();
        let mut octets: Vec<u8> = chosen.iter().flat_map(|(head, _)| head.clone()).collect();
        octets.extend_from_slice(CLOSE.as_bytes());
        let (mut pieces, mut rest) = (Vec::new(), &octets[..]);
        while !rest.is_empty() {
            // Often whole heads, so that remembered ones come as such; often not.
            let whole = find(rest, b"\r\n\r\n").map_or(rest.len(), |at| at + 4);
            let length = if random.random_bool(0.6) { whole } else { random.random_range(1..=rest.len()) };
            pieces.push(rest[..length].to_vec());
            rest = &rest[length..];
        }
        let socket = connected(program);
        socket.set_nodelay(true).unwrap();
        Conversation { socket, pieces, expected: chosen.iter().map(|(_, answer)| answer.clone()).collect() }
    }

    fn send(&mut self, piece: usize) {
        if let Some(piece) = self.pieces.get(piece) {
            self.socket.write_all(piece).unwrap();
        }
    }

    fn ends_as_expected(mut self) {
        let mut answer = String::new();
        self.socket.read_to_string(&mut answer).unwrap();
        let found = timeless(&answer);
        let last = found.rfind("HTTP/1.1 200 OK").unwrap();
        assert_eq!(squeezed(&found[..last]), squeezed(&self.expected), "{:?}", self.pieces);
    }
}

/// However requests are cut up and run together on their way, each gets the answer it gets alone.
#[test]
fn however_requests_arrive_each_gets_its_own_answer() {
    let place = Place::new();
    let program = place.serve();
    let asked = asked(&program);
    let mut random = StdRng::seed_from_u64(7);
    for _ in 0..150 {
        let mut conversation = Conversation::new(&program, &asked, 12, &mut random);
        for piece in 0..conversation.pieces.len() {
            conversation.send(piece);
            // Let it be answered before the next piece, now and then.
            if random.random_bool(0.5) {
                program.get("lamp.example", "/").bytes().unwrap();
            }
        }
        conversation.ends_as_expected();
    }
}

/// Passes so much time that the clock which tells idle times has ticked.
fn moment() {
    let began = Instant::now();
    until("a moment has passed", || (began.elapsed() > Duration::from_millis(250)).then_some(()));
}

/// A connection that has been idle gives back what it had for HTTP; nothing of what it brings is lost by that.
#[test]
fn a_connection_that_rests_now_and_then_answers_all_the_same() {
    let place = Place::new();
    let program = place.serve();
    let asked = asked(&program);
    let mut random = StdRng::seed_from_u64(11);
    let mut all: Vec<Conversation> =
        (0..100).map(|_| Conversation::new(&program, &asked, 5, &mut random)).collect();
    for piece in 0..all.iter().map(|conversation| conversation.pieces.len()).max().unwrap() {
        all.iter_mut().for_each(|conversation| conversation.send(piece));
        moment();
    }
    all.into_iter().for_each(Conversation::ends_as_expected);
}

/// What is idle costs its socket, and little besides.
#[test]
fn idle_connections_cost_next_to_nothing() {
    const BATCHES: u64 = 7;
    const EACH: u64 = 100;
    let place = Place::new();
    let program = place.serve();
    let opened = |number| {
        let mut socket = connected(&program);
        // Each asks for something else, so that nobody is answered from memory without HTTP.
        let head = format!("GET /notes.txt?{number} HTTP/1.1\r\nHost: harbour.example\r\n\r\n");
        exchange(&mut socket, head.as_bytes(), b"short");
        socket
    };
    let mut sockets: Vec<TcpStream> = (0..EACH).map(opened).collect();
    let before = program.resident();
    for batch in 1..=BATCHES {
        // Those that are there rest, and newcomers take what they gave back.
        moment();
        sockets.extend((batch * EACH..(batch + 1) * EACH).map(opened));
    }
    let each = program.resident().saturating_sub(before) / (BATCHES * EACH);
    assert!(each < 6_000, "{each} bytes for each connection");
    for mut socket in sockets {
        exchange(&mut socket, PLAIN, b"short");
    }
}

/// Without line ends, which do not tell where one answer ends and the next begins.
fn squeezed(text: &str) -> String {
    text.split(['\r', '\n']).collect()
}
