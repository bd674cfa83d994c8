//! Sites as visitors meet them.

use exedra_e2e::{Place, Stops, client, exedra, field, until};
use rstest::rstest;
use std::io::{Read, Write};
use std::net::TcpStream;

#[test]
fn files_with_type_length_validators_and_conditions() {
    let place = Place::new();
    let program = place.serve();
    let page = program.get("harbour.example", "/");
    assert_eq!(page.status(), 200);
    assert_eq!(field(&page, "content-type"), "text/html; charset=utf-8");
    let (tag, changed) = (field(&page, "etag").to_owned(), field(&page, "last-modified").to_owned());
    let length: usize = field(&page, "content-length").parse().unwrap();
    assert_eq!(page.bytes().unwrap(), std::fs::read(place.path("harbour/index.html")).unwrap());

    let head =
        client().head(format!("http://{}/", program.sites)).header("Host", "harbour.example").send().unwrap();
    assert_eq!(
        (head.status().as_u16(), field(&head, "etag"), field(&head, "content-length")),
        (200, &*tag, &*length.to_string())
    );
    for (name, value) in [("If-None-Match", &tag), ("If-Modified-Since", &changed)] {
        let same = program.ask("harbour.example", "/", &[(name, value)]);
        assert_eq!((same.status().as_u16(), field(&same, "etag")), (304, &*tag), "{name}");
        assert!(same.bytes().unwrap().is_empty());
    }

    // A date that is yet to come is told to nobody (RFC 9110 §8.8.2.1).
    let coming = std::time::SystemTime::now() + std::time::Duration::from_secs(5000);
    place.write("harbour/dated.txt", "tomorrow");
    let file = std::fs::File::options().write(true).open(place.path("harbour/dated.txt")).unwrap();
    file.set_modified(coming).unwrap();
    for _ in 0..3 {
        let dated = program.get("harbour.example", "/dated.txt");
        assert_eq!((dated.status().as_u16(), field(&dated, "last-modified")), (200, ""));
    }

    // A change shows within a second.
    place.write("harbour/index.html", "<h1>Another page</h1>");
    until("the change shows", || {
        (program.get("harbour.example", "/").text().unwrap() == "<h1>Another page</h1>").then_some(())
    });
}

#[test]
fn the_sites_own_page_keeps_the_status() {
    let place = Place::new();
    let program = place.serve();
    let lost = program.get("harbour.example", "/nowhere.html");
    assert_eq!(lost.status(), 404);
    assert!(lost.text().unwrap().contains("No such page in this harbour"));
    let lost = program.get("lamp.example", "/nowhere.html");
    assert_eq!(lost.status(), 404);
    assert!(lost.text().unwrap().contains("There is nothing at this address"));
    assert_eq!(program.get("stranger.example", "/").status(), 421);
    assert_eq!(program.get("lamp.example", "/../lamp").status(), 404);
}

#[rstest]
#[case::dots("/../exedra.toml")]
#[case::encoded_dots("/%2e%2e/exedra.toml")]
#[case::mixed_dots("/tides/.%2E/%2e./exedra.toml")]
#[case::encoded_slash("/..%2fexedra.toml")]
#[case::backslash("/..\\exedra.toml")]
#[case::encoded_backslash("/..%5cexedra.toml")]
#[case::nul("/index.html%00.txt")]
#[case::link_out("/out.toml")]
#[case::folder_link_out("/up/exedra.toml")]
#[case::hidden("/.hidden")]
#[case::absolute("//etc/passwd")]
fn nothing_outside_the_folder(#[case] target: &str) {
    let place = Place::new();
    place.write("harbour/.hidden", "hidden");
    std::os::unix::fs::symlink("../exedra.toml", place.path("harbour/out.toml")).unwrap();
    std::os::unix::fs::symlink("..", place.path("harbour/up")).unwrap();
    let program = place.serve();
    let request = format!("GET {target} HTTP/1.1\r\nHost: harbour.example\r\nConnection: close\r\n\r\n");
    let answer = program.raw(request.as_bytes());
    let status: u16 = answer.split(' ').nth(1).and_then(|status| status.parse().ok()).unwrap_or(0);
    assert!([308, 400, 404].contains(&status), "{answer}");
    assert!(
        !answer.contains("[service]") && !answer.contains("root:") && !answer.contains("hidden"),
        "{answer}"
    );
}

#[test]
fn other_hosts_are_sent_to_the_main_one_with_path_and_query_intact() {
    let place = Place::new();
    let program = place.serve();
    let port = program.sites.rsplit(':').next().unwrap();
    let sent = program.get(&format!("www.harbour.example:{port}"), "/a%20b/%C3%A6?x=1&y=a%2Fb");
    assert_eq!(sent.status(), 308);
    assert_eq!(field(&sent, "location"), format!("http://harbour.example:{port}/a%20b/%C3%A6?x=1&y=a%2Fb"));
    let folder = program.get("harbour.example", "/tides?from=here");
    assert_eq!(
        (folder.status().as_u16(), field(&folder, "location")),
        (308, "http://harbour.example/tides/?from=here")
    );
}

#[rstest]
#[case::brotli("br", "br")]
#[case::gzip("gzip;q=0.9", "gzip")]
#[case::zstandard("zstd, gzip;q=0.5", "zstd")]
#[case::nothing_liked("deflate", "")]
#[case::none("", "")]
#[case::refused("br;q=0", "")]
fn text_is_compressed_for_those_who_accept_it(#[case] accepted: &str, #[case] encoding: &str) {
    let place = Place::new();
    let large = "0123456789 abcdefghij, line after line of a large page\n".repeat(40_000);
    place.write("harbour/large.txt", &large);
    place.write("harbour/photo.jpg", &large);
    let program = place.serve();
    for target in ["/tides/today.html", "/large.txt"] {
        let answer = program.ask("harbour.example", target, &[("Accept-Encoding", accepted)]);
        assert_eq!(
            (field(&answer, "content-encoding"), field(&answer, "vary")),
            (encoding, "Accept-Encoding")
        );
        let (status, tag) = (answer.status(), field(&answer, "etag").to_owned());
        let body = answer.bytes().unwrap();
        let plain = std::fs::read(place.path(&format!("harbour{target}"))).unwrap();
        assert_eq!(status, 200);
        let mut decoded = Vec::new();
        match encoding {
            "br" => _ = brotli::Decompressor::new(&body[..], 4096).read_to_end(&mut decoded).unwrap(),
            "zstd" => _ = zstd::Decoder::new(&body[..]).unwrap().read_to_end(&mut decoded).unwrap(),
            "gzip" => _ = flate2::read::GzDecoder::new(&body[..]).read_to_end(&mut decoded).unwrap(),
            _ => decoded = body.to_vec(),
        }
        assert!(decoded == plain, "{target} came through");
        assert_eq!(body.len() < plain.len() / 2, !encoding.is_empty());
        let again =
            program.ask("harbour.example", target, &[("Accept-Encoding", accepted), ("If-None-Match", &tag)]);
        assert_eq!(again.status(), 304);
    }
    let photo = program.ask("harbour.example", "/photo.jpg", &[("Accept-Encoding", accepted)]);
    assert_eq!((field(&photo, "content-encoding"), field(&photo, "vary")), ("", ""));
    assert!(photo.bytes().unwrap() == large.as_bytes());
}

/// A page that quick and thorough encodings find different things in.
fn page() -> String {
    let words = ["high", "water", "low", "mole", "light", "quay", "berth", "cable", "holm", "buoy", "watch"];
    let mut number = 7u64;
    let mut page = String::from("<!doctype html>\n");
    while page.len() < 60_000 {
        number = number.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        page.push_str(words[(number >> 33) as usize % words.len()]);
        page.push(if number >> 60 == 0 { '\n' } else { ' ' });
    }
    page
}

#[test]
fn encodings_settle_and_stay() {
    let place = Place::new();
    place.write("lamp/page.html", &page());
    let ask = |program: &exedra_e2e::Program, fields: &[(&str, &str)]| {
        let answer =
            program.ask("lamp.example", "/page.html", &[&[("Accept-Encoding", "br")], fields].concat());
        assert_eq!(field(&answer, "content-encoding"), if answer.status() == 304 { "" } else { "br" });
        (answer.status().as_u16(), field(&answer, "etag").to_owned(), answer.bytes().unwrap())
    };
    let program = place.serve();
    let (_, quick_tag, quick) = ask(&program, &[]);
    assert!(quick_tag.starts_with("W/"), "{quick_tag}");
    let (_, tag, settled) =
        until("it settles", || Some(ask(&program, &[])).filter(|(_, tag, _)| !tag.starts_with("W/")));
    assert_eq!(format!("W/{tag}"), quick_tag);
    assert!(settled.len() < quick.len(), "{} after {}", settled.len(), quick.len());
    let mut decoded = String::new();
    brotli::Decompressor::new(&settled[..], 4096).read_to_string(&mut decoded).unwrap();
    assert!(decoded == page());
    assert_eq!(ask(&program, &[("If-None-Match", &quick_tag)]).0, 304);
    let (status, _, part) = ask(&program, &[("Range", "bytes=100-199"), ("If-Range", &tag)]);
    assert!(status == 206 && part == settled[100..200], "settled encodings have parts");

    program.tell("TERM");
    assert!(program.ended());
    let program = place.serve();
    assert_eq!(ask(&program, &[]), (200, tag, settled), "a restart starts warm");
}

#[test]
fn encodings_made_beforehand_are_used_while_they_are_fresh() {
    let place = Place::new();
    place.write("lamp/page.html", &page());
    place.write("lamp/page.html.gz", "pretend this is gzip");
    place.write("lamp/page.html.br", "pretend br");
    let old = std::time::SystemTime::now() - std::time::Duration::from_secs(3600);
    std::fs::File::options()
        .write(true)
        .open(place.path("lamp/page.html.br"))
        .unwrap()
        .set_modified(old)
        .unwrap();
    let program = place.serve();
    let ask = |accepted: &str| {
        let answer = program.ask("lamp.example", "/page.html", &[("Accept-Encoding", accepted)]);
        (
            field(&answer, "content-encoding").to_owned(),
            field(&answer, "content-type").to_owned(),
            answer.bytes().unwrap(),
        )
    };
    let (encoding, media_type, body) = ask("gzip");
    assert_eq!(
        (&*encoding, &*media_type, &body[..]),
        ("gzip", "text/html; charset=utf-8", &b"pretend this is gzip"[..])
    );
    let (encoding, _, body) = ask("br");
    assert!(encoding == "br" && body != "pretend br"[..], "the old one is not used");
    assert!(ask("").2 == page());
}

#[test]
fn what_does_not_get_smaller_is_sent_as_it_is_and_some_agents_get_nothing_compressed() {
    let place = Place::new();
    place.configure("[site.compress]\ntypes = [\"image/jpeg\", \"text/*\"]\nnot_for = [\"LindryKiosk/1.*\"]\ncodecs = [\"deflate\", \"br\"]\n");
    let mut number = 1u64;
    let noise: Vec<u8> = std::iter::repeat_with(|| {
        number = number.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (number >> 56) as u8
    })
    .take(9_000)
    .collect();
    std::fs::write(place.path("lamp/noise.jpg"), &noise).unwrap();
    place.write("lamp/page.html", &page());
    let program = place.serve();
    for _ in 0..2 {
        let answer = program.ask("lamp.example", "/noise.jpg", &[("Accept-Encoding", "br")]);
        assert_eq!(
            (field(&answer, "content-encoding"), field(&answer, "vary")),
            ("", "Accept-Encoding, User-Agent")
        );
        assert!(answer.bytes().unwrap() == noise);
    }
    for (agent, encoding) in [("LindryKiosk/1.4", ""), ("LindryKiosk/2.0", "deflate")] {
        let answer = program.ask(
            "lamp.example",
            "/page.html",
            &[("Accept-Encoding", "deflate"), ("User-Agent", agent)],
        );
        assert_eq!(field(&answer, "content-encoding"), encoding);
    }
}

#[rstest]
#[case::small(3_000)]
#[case::large(900_000)]
fn parts_of_files(#[case] size: usize) {
    let place = Place::new();
    let content: Vec<u8> = (0..size).map(|place| (place % 251) as u8).collect();
    std::fs::write(place.path("lamp/tour.wav"), &content).unwrap();
    let program = place.serve();
    let ask = |fields: &[(&str, &str)]| program.ask("lamp.example", "/tour.wav", fields);
    let whole = ask(&[]);
    assert_eq!(field(&whole, "accept-ranges"), "bytes");
    let tag = field(&whole, "etag").to_owned();
    assert!(whole.bytes().unwrap() == content);

    let part = ask(&[("Range", "bytes=1000-1999")]);
    assert_eq!(
        (part.status().as_u16(), field(&part, "content-range")),
        (206, &*format!("bytes 1000-1999/{size}"))
    );
    assert_eq!(field(&part, "content-length"), "1000");
    assert!(part.bytes().unwrap() == content[1000..2000]);
    let end = ask(&[("Range", "bytes=-10"), ("If-Range", &tag)]);
    assert_eq!(end.status(), 206);
    assert!(end.bytes().unwrap() == content[size - 10..]);
    let other = ask(&[("Range", "bytes=-10"), ("If-Range", "\"another\"")]);
    assert_eq!((other.status().as_u16(), other.bytes().unwrap().len()), (200, size));
    let beyond = ask(&[("Range", &format!("bytes={size}-"))]);
    assert_eq!(
        (beyond.status().as_u16(), field(&beyond, "content-range")),
        (416, &*format!("bytes */{size}"))
    );

    let several = ask(&[("Range", &format!("bytes=0-9,500-509,{}-", size - 5))]);
    assert_eq!(several.status(), 206);
    let boundary =
        field(&several, "content-type").strip_prefix("multipart/byteranges; boundary=").unwrap().to_owned();
    let body = several.bytes().unwrap().to_vec();
    let mut expected = Vec::new();
    for part in [0..10, 500..510, size - 5..size] {
        let head = format!(
            "\r\n--{boundary}\r\nContent-Type: audio/wav\r\nContent-Range: bytes {}-{}/{size}\r\n\r\n",
            part.start,
            part.end - 1
        );
        expected.extend_from_slice(head.as_bytes());
        expected.extend_from_slice(&content[part]);
    }
    expected.extend_from_slice(format!("\r\n--{boundary}--\r\n").as_bytes());
    assert!(body == expected, "{}", String::from_utf8_lossy(&body[..400.min(body.len())]));
    let log = until("all are logged", || Some(place.log("lamp")).filter(|lines| lines.len() == 6));
    assert!(log.iter().any(|line| line.contains("\" 206 1000 ")), "{log:?}");
}

#[test]
fn a_file_that_changes_is_never_sent_half_old_and_half_new() {
    let place = Place::new();
    let program = place.serve();
    let stop = std::sync::atomic::AtomicBool::new(false);
    let content = |letter: u8, size: usize| vec![letter; size];
    std::fs::write(place.path("lamp/moving.bin"), content(b'a', 400_000)).unwrap();
    std::thread::scope(|scope| {
        // Also when an assertion fails: otherwise the writer would go on for ever, and nobody would hear of it.
        let _stops = Stops(&stop);
        scope.spawn(|| {
            for round in 0.. {
                if stop.load(std::sync::atomic::Ordering::Relaxed) {
                    break;
                }
                let fresh = place.path("lamp/moving.new");
                let letter = if round % 2 == 0 { b'b' } else { b'a' };
                std::fs::write(&fresh, content(letter, if round % 3 == 0 { 1_000 } else { 400_000 }))
                    .unwrap();
                std::fs::rename(&fresh, place.path("lamp/moving.bin")).unwrap();
            }
        });
        for _ in 0..150 {
            let answer = program.get("lamp.example", "/moving.bin");
            if answer.status() == 200 {
                let body = answer.bytes().unwrap();
                assert!(matches!(body.len(), 1_000 | 400_000) && body.iter().all(|octet| *octet == body[0]));
            } else {
                assert_eq!((answer.status().as_u16(), field(&answer, "retry-after")), (503, "1"));
            }
        }
    });
}

#[test]
fn programs_are_told_of_errors_in_json() {
    let place = Place::new();
    let program = place.serve();
    let lost = program.ask("harbour.example", "/nowhere", &[("Accept", "application/json")]);
    assert_eq!((lost.status().as_u16(), field(&lost, "content-type")), (404, "application/problem+json"));
    let problem: serde_json::Value = lost.json().unwrap();
    assert_eq!((problem["status"].as_u64(), problem["title"].as_str()), (Some(404), Some("Not Found")));
    let page = program.ask("harbour.example", "/nowhere", &[("Accept-Encoding", "br")]);
    assert_eq!(
        (page.status().as_u16(), field(&page, "content-encoding")),
        (404, "br"),
        "own pages are compressed like any"
    );
    assert!(!field(&page, "etag").is_empty());
    let vary: Vec<_> =
        page.headers().get_all("vary").iter().map(|value| value.to_str().unwrap().to_owned()).collect();
    assert_eq!(vary.join(", "), "Accept-Encoding, Accept");
}

#[test]
fn what_is_no_http_gets_400() {
    let place = Place::new();
    let program = place.serve();
    for nonsense in [
        &b"hello there\r\n\r\n"[..],
        b"\x16\x03\x01\x02\x00\x01\x00\x01\xfc\x03\x03\r\n\r\n",
        b"GET / HTTP/1.1\r\n\r\n",
        b"GET / HTTP/1.1\r\nHost: a\r\nHost: b\r\nConnection: close\r\n\r\n",
    ] {
        let answer =
            program.raw(&[nonsense, b"GET / HTTP/1.1\r\nHost: a\r\nConnection: close\r\n\r\n"].concat());
        assert!(answer.starts_with("HTTP/1.1 400"), "{answer}");
    }
    assert_eq!(program.get("lamp.example", "/").status(), 200, "and others are unharmed");
}

#[test]
fn every_request_is_a_line_of_the_full_layout() {
    let place = Place::new();
    let program = place.serve();
    let agent = "Boat \"quoted\" \\ 1";
    let fields = [
        ("User-Agent", agent),
        ("Referer", "http://a.example/x"),
        ("Accept-Encoding", "br"),
        ("Forwarded", "for=203.0.113.9"),
    ];
    let sent = program.ask("harbour.example", "/tides/today.html?day=1", &fields).bytes().unwrap().len();
    let plain = std::fs::metadata(place.path("harbour/tides/today.html")).unwrap().len();
    let lines = until("the line is there", || Some(place.log("harbour")).filter(|lines| lines.len() == 1));
    let line = &lines[0];
    assert!(line.starts_with("203.0.113.9 - - ["), "{line}");
    let expected = format!(
        "] \"GET /tides/today.html?day=1 HTTP/1.1\" 200 {sent} \"http://a.example/x\" \"Boat \\\"quoted\\\" \\\\ 1\" http harbour.example "
    );
    assert!(line.contains(&expected), "{line}");
    let rest: Vec<&str> = line.split(&expected).nth(1).unwrap().split(' ').collect();
    assert_eq!(rest[1..4], ["br", &plain.to_string(), "\"-\""], "{line}");
    assert!(
        rest[0].parse::<u64>().is_ok() && rest[4].parse::<u64>().is_ok_and(|time| time > 1_700_000_000_000)
    );
    assert!(place.log("lamp").is_empty());
}

#[test]
fn addresses_are_masked_before_they_are_written_where_asked_for() {
    let place = Place::new();
    place.configure("[site.log]\nclients = \"masked\"\n");
    let program = place.serve();
    program.ask("lamp.example", "/", &[("Forwarded", "for=\"[2001:db8:1:2::7]\"")]);
    program.ask("harbour.example", "/", &[("Forwarded", "for=203.0.113.9")]);
    let masked = until("the line is there", || place.log("lamp").pop());
    assert!(masked.starts_with("2001:db8:1:: - - ["), "{masked}");
    let whole = until("the line is there", || place.log("harbour").pop());
    assert!(whole.starts_with("203.0.113.9 - - ["), "{whole}");
}

#[rstest]
#[case("TERM")]
#[case("INT")]
fn what_is_under_way_is_finished_before_it_stops(#[case] signal: &str) {
    let place = Place::new();
    let large = vec![b'x'; 24 << 20];
    std::fs::write(place.path("lamp/large.bin"), &large).unwrap();
    let program = place.serve();
    let mut socket = TcpStream::connect(&program.sites).unwrap();
    socket.write_all(b"GET /large.bin HTTP/1.1\r\nHost: lamp.example\r\n\r\n").unwrap();
    let mut first = [0; 1024];
    socket.read_exact(&mut first).unwrap();
    program.tell(signal);
    until("it takes no more", || TcpStream::connect(&program.sites).is_err().then_some(()));
    let mut rest = Vec::new();
    socket.read_to_end(&mut rest).unwrap();
    assert!(program.ended());
    let head = first.windows(4).position(|window| window == b"\r\n\r\n").unwrap() + 4;
    assert_eq!(first.len() - head + rest.len(), large.len());
    assert!(place.log("lamp")[0].contains(&format!(" 200 {} ", large.len())));
}

#[test]
fn mistakes_in_the_configuration_are_named_and_nothing_starts() {
    let place = Place::new();
    place.configure(
        "foldr = \"x\"\n[[site]]\nname = \"records\"\nhosts = [\"lamp.example\"]\nfolder = \"records\"\n",
    );
    let failed = exedra(&["serve", "--config", &place.config().to_string_lossy()]);
    let words = String::from_utf8(failed.stderr).unwrap();
    assert!(!failed.status.success());
    for part in [
        "exedra.toml:19:1",
        "there is no setting `foldr`",
        "did you mean `folder`?",
        "the host `lamp.example` is claimed twice",
    ] {
        assert!(words.contains(part), "{part} in {words}");
    }
    place.configure("[[site]]\nname = \"records\"\nhosts = [\"records.example\"]\nfolder = \"recrods\"\n");
    let failed = exedra(&["serve", "--config", &place.config().to_string_lossy()]);
    let words = String::from_utf8(failed.stderr).unwrap();
    assert!(!failed.status.success());
    assert!(
        words.contains("recrods") && words.contains("there is no such folder") && words.contains(":22:10"),
        "{words}"
    );
    assert!(!place.path("state").exists());
}

/// Waits, and looks again and again meanwhile, so that what is looked at is believed for as long as may be.
fn visited_for(program: &exedra_e2e::Program, seconds: u64) {
    let began = std::time::Instant::now();
    until("some time goes by", || {
        program.get("lamp.example", "/").bytes().unwrap();
        (began.elapsed().as_secs() >= seconds).then_some(())
    });
}

/// How long it takes until a page says something else, in milliseconds.
fn shown_after(program: &exedra_e2e::Program, text: &str) -> u128 {
    let began = std::time::Instant::now();
    until("the change shows", || (program.get("lamp.example", "/").text().unwrap() == text).then_some(()));
    began.elapsed().as_millis()
}

#[test]
fn changes_show_within_a_second_however_they_are_made() {
    let place = Place::new();
    // Published by pointing a link elsewhere.
    place.write("releases/1/index.html", "one");
    place.write("releases/2/index.html", "two");
    std::fs::remove_dir_all(place.path("lamp")).unwrap();
    std::os::unix::fs::symlink("releases/1", place.path("lamp")).unwrap();
    let program = place.serve();
    visited_for(&program, 3);
    std::os::unix::fs::symlink("releases/2", place.path("fresh")).unwrap();
    std::fs::rename(place.path("fresh"), place.path("lamp")).unwrap();
    let linked = shown_after(&program, "two");
    visited_for(&program, 3);
    // Written in place, and replaced by another file.
    place.write("releases/2/index.html", "2.0");
    let written = shown_after(&program, "2.0");
    visited_for(&program, 3);
    place.write("releases/2/index.new", "2.1");
    std::fs::rename(place.path("releases/2/index.new"), place.path("releases/2/index.html")).unwrap();
    let renamed = shown_after(&program, "2.1");
    // The folder itself renamed.
    visited_for(&program, 3);
    place.write("third/index.html", "three");
    std::fs::rename(place.path("lamp"), place.path("old")).unwrap();
    std::fs::rename(place.path("third"), place.path("lamp")).unwrap();
    let replaced = shown_after(&program, "three");
    for time in [linked, written, renamed, replaced] {
        // A second is promised; a busy machine may take longer to notice than the service does.
        assert!(time < 3000, "{linked}, {written}, {renamed}, {replaced} ms");
    }
}

#[test]
fn of_codings_liked_equally_the_smallest_goes_out_once_all_have_settled() {
    let place = Place::new();
    place.configure("[site.compress]\ncodecs = [\"gzip\", \"zstd\", \"br\"]\n");
    place.write("lamp/page.html", &page());
    let program = place.serve();
    let coding = |accepted: &str| {
        let answer = program.ask("lamp.example", "/page.html", &[("Accept-Encoding", accepted)]);
        (field(&answer, "content-encoding").to_owned(), answer.bytes().unwrap().len())
    };
    assert_eq!(coding("gzip, zstd, br").0, "gzip", "the site's first, while nothing has settled");
    let settled = |codec: &str| {
        let answer = program.ask("lamp.example", "/page.html", &[("Accept-Encoding", codec)]);
        (!field(&answer, "etag").starts_with("W/")).then(|| answer.bytes().unwrap().len())
    };
    let sizes = ["gzip", "zstd", "br"].map(|codec| (until("settled", || settled(codec)), codec));
    let (size, smallest) = *sizes.iter().min().unwrap();
    assert_ne!(smallest, "gzip", "{sizes:?}");
    assert_eq!(coding("gzip, zstd, br"), (smallest.to_owned(), size), "{sizes:?}");
    assert_eq!(coding("gzip, zstd;q=0.9, br;q=0.9").0, "gzip", "quality values come first");
    // What is kept on disk is found again, whichever codec comes first.
    drop(program);
    let program = place.serve();
    until("the smallest again", || {
        let answer = program.ask("lamp.example", "/page.html", &[("Accept-Encoding", "gzip, zstd, br")]);
        (field(&answer, "content-encoding") == smallest).then_some(())
    });
}
