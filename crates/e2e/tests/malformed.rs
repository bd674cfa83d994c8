//! What is no request, or hardly one: it is answered with the reason, and written down.

use exedra_e2e::{PATIENCE, Place, Program, client, until};
use rstest::rstest;
use std::io::{Read, Write};
use std::net::{Shutdown, TcpStream};

/// The status of the answer to a request line and some fields, and what its page says.
fn refused(program: &Program, line: &str, fields: &str) -> (u16, String) {
    said(&program.raw(format!("{line}\r\n{fields}Connection: close\r\n\r\n").as_bytes()))
}

fn said(answer: &str) -> (u16, String) {
    let status = answer.get(9..12).and_then(|digits| digits.parse().ok()).unwrap_or_default();
    let words = answer.split("<p>").nth(1).unwrap_or_default();
    (status, words.split("\n</html>").next().unwrap_or_default().to_owned())
}

const HOST: &str = "Host: lamp.example\r\n";

#[rstest]
#[case::angle("/a<b", HOST, "“&lt;”, which must be written as %3C")]
#[case::grave("/a`b", HOST, "“`”, which must be written as %60")]
#[case::quotation_mark("/a?b=\"c", HOST, "“&quot;”, which must be written as %22")]
#[case::beyond_ascii("/sæl", HOST, "“æ”, which must be written as %C3%A6")]
#[case::space("/a b", HOST, "%20")]
#[case::no_host("/", "", "no Host header")]
#[case::two_hosts("/", "Host: lamp.example\r\nHost: lamp.example\r\n", "more than one Host header")]
#[case::no_name("/", "Host: lamp example\r\n", "Host header is not valid: “lamp example”")]
#[case::a_user("/", "Host: keeper@lamp.example\r\n", "Host header is not valid: “keeper@lamp.example”")]
#[case::whatever_the_target_says("http://lamp.example/", "Host: <lamp>\r\n", "“&lt;lamp&gt;”")]
#[case::length(
    "/",
    "Host: lamp.example\r\nContent-Length: many\r\n",
    "Content-Length header is not valid: “many”"
)]
#[case::two_lengths(
    "/",
    "Host: lamp.example\r\nContent-Length: 1\r\nContent-Length: 2\r\n",
    "not valid: “2”"
)]
fn malformed_requests_are_told_what_is_wrong(
    #[case] target: &str,
    #[case] fields: &str,
    #[case] expected: &str,
) {
    let place = Place::new();
    let program = place.serve();
    let (status, words) = refused(&program, &format!("GET {target} HTTP/1.1"), fields);
    assert_eq!(status, 400);
    assert!(words.contains(expected), "{words}");
    assert_eq!(program.get("lamp.example", "/").status(), 200);
}

#[test]
fn the_site_has_its_own_page_for_what_is_malformed_and_its_log_has_the_line() {
    let place = Place::new();
    let own = std::fs::read_to_string(place.config()).unwrap();
    let own = own.replace("404 = \"/errors/lost.html\"", "400 = \"/errors/lost.html\"");
    place.write("exedra.toml", &own);
    let program = place.serve();
    let answer = program.raw(b"GET /a<b HTTP/1.1\r\nHost: harbour.example\r\nConnection: close\r\n\r\n");
    assert!(answer.starts_with("HTTP/1.1 400") && !answer.contains("No such page"), "refused by its octets");
    let answer = program.raw(b"GET /a{b} HTTP/1.1\r\nHost: harbour.example\r\nConnection: close\r\n\r\n");
    assert!(answer.starts_with("HTTP/1.1 400") && answer.contains("No such page"), "{answer}");
    let problem = program.ask("lamp.example", "/%zz", &[("Accept", "application/json")]);
    assert_eq!(problem.status(), 400);
    until("a line in the site's log", || {
        place.log("harbour").iter().any(|line| line.contains("/a{b} HTTP/1.1\" 400")).then_some(())
    });
    assert!(
        std::fs::read_to_string(place.generations("service_errors")[0].clone())
            .unwrap()
            .contains("which must be written as %7B")
    );
}

#[rstest]
#[case::a_little(9_000)]
#[case::more_than_a_head(70_000)]
#[case::much_more(700_000)]
fn a_target_that_is_too_long_is_told_so(#[case] length: usize) {
    let place = Place::new();
    let program = place.serve();
    let (status, words) = refused(&program, &format!("GET /{} HTTP/1.1", "a".repeat(length)), HOST);
    assert_eq!((status, words.contains("longer than this server accepts")), (414, true), "{words}");
    let (status, _) =
        refused(&program, "GET / HTTP/1.1", &format!("{HOST}X-Long: {}\r\n", "a".repeat(length)));
    assert_eq!(status, if length < 60_000 { 200 } else { 431 }, "fields are another matter");
}

/// RFC 9112 §9.6: whoever closes its sending side may still want the answer.
#[rstest]
#[case::at_once("/notes.txt", 200)]
#[case::from_the_disk("/tides/today.html", 200)]
#[case::with_a_page_of_its_own("/nowhere", 404)]
fn a_client_that_sends_no_more_gets_its_answer_and_its_line(#[case] path: &str, #[case] status: u16) {
    let place = Place::new();
    let program = place.serve();
    let mut socket = TcpStream::connect(&program.sites).unwrap();
    socket.set_read_timeout(Some(PATIENCE)).unwrap();
    socket.write_all(format!("GET {path} HTTP/1.1\r\nHost: harbour.example\r\n\r\n").as_bytes()).unwrap();
    socket.shutdown(Shutdown::Write).unwrap();
    let mut answer = String::new();
    socket.read_to_string(&mut answer).unwrap();
    assert!(answer.starts_with(&format!("HTTP/1.1 {status}")), "{answer}");
    until("the line in the log", || {
        place
            .log("harbour")
            .iter()
            .any(|line| line.contains(&format!("GET {path} HTTP/1.1\" {status}")))
            .then_some(())
    });
}

#[test]
fn http_2_is_spoken_to_whoever_begins_with_it() {
    let place = Place::new();
    let program = place.serve();
    let known = reqwest::blocking::Client::builder().http2_prior_knowledge().no_proxy().timeout(PATIENCE);
    drop(client());
    let known = known.build().unwrap();
    for path in ["/notes.txt", "/tides/today.html", "/notes.txt"] {
        // The host is the address, so that a site is asked for by the field that names it.
        let answer =
            known.get(format!("http://{}{path}", program.sites)).header("Host", "harbour.example").send();
        let answer = answer.unwrap();
        assert_eq!((answer.version(), answer.status().as_u16()), (reqwest::Version::HTTP_2, 421));
    }
    // A preface that comes in pieces is one; a beginning of one that goes on otherwise is a request.
    let mut socket = TcpStream::connect(&program.sites).unwrap();
    socket.set_read_timeout(Some(PATIENCE)).unwrap();
    for piece in [&b"PRI * HT"[..], b"TP/2.0\r\n\r\nSM", b"\r\n\r\n", &[0, 0, 0, 4, 0, 0, 0, 0, 0]] {
        socket.write_all(piece).unwrap();
    }
    let mut frame = [0; 9];
    socket.read_exact(&mut frame).unwrap();
    assert_eq!(frame[3], 4, "settings come first (RFC 9113 §3.4)");
    assert!(
        program
            .raw(b"PRI / HTTP/1.1\r\nHost: lamp.example\r\nConnection: close\r\n\r\n")
            .starts_with("HTTP/1.1 405")
    );
}

#[test]
fn a_listener_that_wants_to_be_told_who_comes_says_why_it_refuses() {
    let place = Place::new();
    let own = std::fs::read_to_string(place.config()).unwrap();
    place.write(
        "exedra.toml",
        &own.replacen("address = \"127.0.0.1:0\"\n", "address = \"127.0.0.1:0\"\nannounced = true\n", 1),
    );
    let program = place.serve();
    let (status, words) = refused(&program, "GET / HTTP/1.1", HOST);
    assert!(
        status == 400
            && words.contains("PROXY protocol")
            && words.contains("does not begin with a PROXY header"),
        "{words}"
    );
    let is_logged = |sign: &str| {
        until("the reason in the log of errors", || {
            place.log("service_errors").iter().any(|line| line.contains(sign)).then_some(())
        });
    };
    is_logged("does not begin with a PROXY header");
    drop(program);
    let own = std::fs::read_to_string(place.config()).unwrap();
    place.write("exedra.toml", &own.replace("[\"127.0.0.1\"]", "[\"192.0.2.1\"]"));
    let program = place.serve();
    let (status, words) = said(&program.raw(b"PROXY TCP4 203.0.113.9 127.0.0.1 4096 80\r\n"));
    assert!(status == 400 && words.contains("`forwarders`"), "{words}");
    is_logged("`forwarders`");
}

/// What comes behind other requests is refused as well, and stands in the log.
#[test]
fn what_comes_behind_other_requests_is_written_down_too() {
    let place = Place::new();
    let program = place.serve();
    let both = "GET /notes.txt HTTP/1.1\r\nHost: harbour.example\r\n\r\nGET /a<b HTTP/1.1\r\nHost: harbour.example\r\n\r\n";
    let answer = program.raw(both.as_bytes());
    assert!(answer.starts_with("HTTP/1.1 200") && answer.contains("HTTP/1.1 400"), "{answer}");
    until("both lines", || {
        let strange = place.log("no_site");
        let one = strange.iter().filter(|line| line.contains("\" 400 ")).count() == 1;
        (one && place.log("harbour").len() == 1).then_some(())
    });
}

#[test]
fn whoever_comes_without_tls_where_it_is_wanted_is_told_so() {
    let place = Place::new();
    place.configure("[[listener]]\naddress = \"127.0.0.1:0\"\nhttps = true\n");
    let program = place.serve();
    let mut socket = TcpStream::connect(&program.secured).unwrap();
    socket.set_read_timeout(Some(PATIENCE)).unwrap();
    socket.write_all(b"GET / HTTP/1.1\r\nHost: lamp.example\r\n\r\n").unwrap();
    let mut answer = String::new();
    socket.read_to_string(&mut answer).unwrap();
    let (status, words) = said(&answer);
    assert!(status == 400 && words.contains("plain HTTP was sent to an HTTPS port"), "{answer}");
    assert_eq!(program.ask_secured("lamp.example", "/", &[]).status(), 200);
}

#[test]
fn folders_are_redirected_to_by_whole_addresses() {
    let place = Place::new();
    let program = place.serve();
    let answer = program.get("harbour.example:7380", "/tides?x=1");
    assert_eq!(exedra_e2e::field(&answer, "location"), "http://harbour.example:7380/tides/?x=1");
}
